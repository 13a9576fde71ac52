//! `yemdo read`: measures with a part, or with all parts of a bench, once or again and again.

use std::collections::BTreeMap;
use std::io::Write;
use std::path::Path;

use anstyle::{AnsiColor, Style};
use yemdo::Part;
use yemdo_bus::bench::{self, BenchPart};
use yemdo_bus::place::Place;
use yemdo_bus::{Cause, Device, DeviceError, Port, Rig, Shared};

use crate::args::Read;
use crate::failure::Failure;
use crate::input;
use crate::link::{AnyPort, Connected, Stop, failed, tell_verdict};
use crate::show::live::{Live, Row};
use crate::show::number::count;

/// A part that is read.
struct Reader {
    name: String,
    part: Part,
    place: Place,
    set: Vec<String>,
    run: Vec<String>,
    every: Option<u64>,
    /// `None` while it cannot be opened.
    device: Option<Device<AnyPort>>,
    /// When it is read next.
    due: u64,
    good: u64,
    failures: BTreeMap<&'static str, u64>,
    /// It failed the last time.
    failing: bool,
    /// It is to be set up before it is read.
    fresh: bool,
}

/// After a failure with the device itself, so long until it is opened again, in microseconds.
const REOPEN: u64 = 500_000;

pub(crate) fn run(args: &Read) -> Result<u8, Failure> {
    let stop = Stop::on_interrupt();
    let rig = Rig::new();
    let mut readers = readers(args)?;
    // All of it must be possible before anything is sent.
    for reader in &readers {
        if !reader.set.is_empty() {
            input::worked_out(&reader.part, None, &reader.set, yemdo::configure::WriteScope::Changed)?;
        }
        reader.run.iter().try_for_each(|routine| reader.part.routine(routine).map(drop))?;
    }
    let alone = readers.len() == 1;
    let mut lines = BTreeMap::new();
    let mut stand_ins = true;
    let mut any = false;
    for reader in &mut readers {
        let connected = match alone {
            true => args.link.connect_to(&reader.place, &reader.part, &stop, Some(&rig)),
            false => args.link.connect_shared(&reader.place, &reader.part, &stop, Some(&rig), &mut lines),
        };
        match connected {
            Ok(Connected { device, .. }) => {
                any = true;
                reader.device = Some(device);
            }
            // One that is not there does not stop the others.
            Err(failure) if alone => return Err(failure),
            Err(failure) => {
                *reader.failures.entry("not opened").or_default() += 1;
                reader.failing = true;
                let _ = writeln!(anstream::stderr(), "{}: {}", reader.name, failure.message());
            }
        }
        stand_ins &= matches!(reader.place, Place::StandIn { .. });
    }
    if !any {
        return Err(Failure::refused("no part of the bench can be reached"));
    }
    // A virtual clock without an end would run as fast as it can for ever.
    let ends = args.count.is_some() || args.duration.is_some();
    let clock = Clock { rig: stand_ins.then(|| rig.clone()), real: !ends, start: std::time::Instant::now() };
    let once = !ends && readers.iter().all(|reader| reader.every.is_none());
    let live = Live::new(args.format, !alone);
    let mut common = Common { args, stop: &stop, rig: &rig, clock, live, lines };
    let count_to = args.count.unwrap_or(if once { 1 } else { u64::MAX });
    let mut out = anstream::stdout().lock();
    loop {
        let now = common.clock.now();
        if stop.is_asked() || args.duration.is_some_and(|whole| now >= whole) {
            break;
        }
        let done = |reader: &Reader| reader.good + reader.failures.values().sum::<u64>() >= count_to;
        let Some(next) = readers.iter_mut().filter(|reader| !done(reader)).min_by_key(|reader| reader.due) else { break };
        if next.due > now {
            let until = args.duration.map_or(next.due, |whole| next.due.min(whole));
            common.clock.wait(until - now, &stop);
            continue;
        }
        if let Some(name) = read_one(next, &mut common, &mut out)? {
            // The line is gone for all that are on it.
            common.lines.remove(&name);
            readers.iter_mut().filter(|reader| reader.place.shared() == name).for_each(|reader| reader.device = None);
        }
    }
    drop(out);
    let worst = summary(&readers, once);
    tell_verdict(common.clock.rig.as_ref());
    Ok(worst)
}

/// The parts that are asked for, none of them opened.
fn readers(args: &Read) -> Result<Vec<Reader>, Failure> {
    let mut list: Vec<(BenchPart, Part)> = Vec::new();
    match (&args.bench, &args.sheet) {
        (Some(path), _) => {
            let text = input::text("the bench", path, input::MAX_TEXT)?;
            let told = |error: bench::BenchError| Failure::helped(format!("{}: {error}", path.display()), error.help);
            for one in bench::parse(&text, path.parent().unwrap_or(Path::new("."))).map_err(told)? {
                let part = input::load(&one.sheet, one.variant.as_deref())?;
                let part = one
                    .place
                    .addressed(part)
                    .map_err(|error| told(bench::BenchError { line: one.line, message: error.to_string(), help: None }))?;
                list.push((one, part));
            }
            bench::clashes(&list).map_err(told)?;
        }
        (None, Some(sheet)) => {
            let Some(place) = args.link.place()? else {
                return Err(Failure::told("where is the part?").help("give --at i2c:1, or another place; --at stand-in needs no hardware"));
            };
            let part = input::load(sheet, args.variant.as_deref())?;
            let one = BenchPart {
                name: part.name().to_owned(),
                sheet: sheet.clone(),
                variant: None,
                place,
                set: args.set.clone(),
                every: None,
                line: 0,
            };
            list.push((one, part));
        }
        (None, None) => return Err(Failure::told("what is to be read?").help("give a sheet, or --bench FILE")),
    }
    let reader = |(one, part): (BenchPart, Part)| Reader {
        name: one.name,
        part,
        place: one.place,
        set: one.set,
        run: args.run.clone(),
        every: one.every.or(args.every),
        device: None,
        due: 0,
        good: 0,
        failures: BTreeMap::new(),
        failing: false,
        fresh: true,
    };
    Ok(list.into_iter().map(reader).collect())
}

/// Time: that of stand-ins, or of the world.
struct Clock {
    rig: Option<Rig>,
    /// Waits for stand-ins take real time, too.
    real: bool,
    start: std::time::Instant,
}

impl Clock {
    fn now(&self) -> u64 {
        match &self.rig {
            Some(rig) => rig.now(),
            None => self.start.elapsed().as_micros() as u64,
        }
    }

    fn wait(&self, micros: u64, stop: &Stop) {
        let end = self.now() + micros;
        while self.now() < end && !stop.is_asked() {
            let piece = (end - self.now()).min(50_000);
            if self.real || self.rig.is_none() {
                std::thread::sleep(std::time::Duration::from_micros(piece));
            }
            if let Some(rig) = &self.rig {
                rig.pass(piece);
            }
        }
    }
}

/// What all parts have in common.
struct Common<'a> {
    args: &'a Read,
    stop: &'a Stop,
    rig: &'a Rig,
    clock: Clock,
    live: Live,
    /// Lines that several parts are on, by their names.
    lines: BTreeMap<String, Shared>,
}

/// Reads one part; gives the name of its line, where that is gone.
fn read_one(reader: &mut Reader, common: &mut Common<'_>, out: &mut dyn Write) -> Result<Option<String>, Failure> {
    let Common { args, stop, rig, clock, live, lines } = common;
    let begin = clock.now();
    let mut gone = None;
    if reader.device.is_none() {
        match args.link.connect_shared(&reader.place, &reader.part, stop, Some(*rig), lines) {
            Ok(connected) => (reader.device, reader.fresh) = (Some(connected.device), true),
            Err(_) => {
                *reader.failures.entry("not opened").or_default() += 1;
                reader.due = clock.now() + reader.every.unwrap_or(REOPEN).max(REOPEN);
                return Ok(None);
            }
        }
    }
    let Some(device) = &mut reader.device else { return Ok(None) };
    // A recording has its own time.
    let begin = if matches!(reader.place, Place::Recording { .. }) { device.port_mut().now() } else { begin };
    let set: Vec<&str> = reader.set.iter().map(String::as_str).collect();
    let fresh = reader.fresh;
    let done = prepare(device, fresh, &set, &reader.run).and_then(|()| device.measure());
    match done {
        Ok(measured) => {
            reader.fresh = false;
            reader.good += 1;
            if std::mem::take(&mut reader.failing) {
                let green = AnsiColor::Green.on_default();
                let _ = writeln!(anstream::stderr(), "{green}{}: back again{green:#}", reader.name);
            }
            live.row(out, &Row { at: begin, name: &reader.name, part: &reader.part, measured: &measured })?;
        }
        Err(error) => {
            if stop.is_asked() {
                return Ok(None);
            }
            if !error.is_transient() && is_hopeless(&error) {
                return Err(failed(error));
            }
            *reader.failures.entry(error.cause()).or_default() += 1;
            reader.failing = true;
            live.failed(out, begin, &reader.name, &error)?;
            // A part that was away comes up as after a reset.
            reader.fresh = !set.is_empty() || !reader.run.is_empty();
            if matches!(&error, DeviceError::Bus { error, .. } if error.cause == Cause::Gone) {
                reader.device = None;
                gone = Some(reader.place.shared());
            }
            if reader.every.is_none() {
                reader.due = clock.now() + REOPEN;
                return Ok(gone);
            }
        }
    }
    // From the beginning, so that it does not drift; what was missed is missed.
    reader.due = match reader.every {
        Some(every) => (reader.due + every).max(clock.now().saturating_sub(every)),
        None => clock.now().max(begin + 1),
    };
    Ok(gone)
}

/// Sets a part up, where it has just come.
fn prepare(device: &mut Device<AnyPort>, fresh: bool, set: &[&str], run: &[String]) -> Result<(), DeviceError> {
    if fresh && !set.is_empty() {
        device.configure(set)?;
    }
    if fresh {
        run.iter().try_for_each(|routine| device.run(routine).map(drop))?;
    }
    Ok(())
}

/// What will not be better by trying again.
fn is_hopeless(error: &DeviceError) -> bool {
    match error {
        DeviceError::Bus { error, .. } => matches!(error.cause, Cause::Unsupported | Cause::NotPermitted | Cause::OtherTraffic),
        DeviceError::Routine(_) | DeviceError::Identity(_) | DeviceError::NoValue { .. } | DeviceError::Refused(_) => false,
        _ => true,
    }
}

/// What was read and what failed, on standard error; the exit code follows from it.
fn summary(readers: &[Reader], once: bool) -> u8 {
    let mut err = anstream::stderr();
    let mut worst = 0;
    let dim = Style::new().dimmed();
    for reader in readers {
        let failures: u64 = reader.failures.values().sum();
        worst = worst.max(u8::from(failures > 0));
        if once && failures == 0 {
            continue;
        }
        let causes: Vec<String> = reader.failures.iter().map(|(cause, count)| format!("{count} {cause}")).collect();
        let failed = if failures == 0 { String::new() } else { format!(", {failures} failed: {}", causes.join(", ")) };
        let again = match reader.device.as_ref().map_or(0, Device::retried) {
            0 => String::new(),
            times => format!(", tried again {}", count(times, "time")),
        };
        let _ = writeln!(err, "{dim}{}: {} read{failed}{again}{dim:#}", reader.name, count(reader.good, "measurement"));
    }
    worst
}

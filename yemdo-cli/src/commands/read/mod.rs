//! `yemdo read`: measures with a part, or with all parts of a bench, once or again and again.

mod session;
#[cfg(feature = "live")]
mod watch;

use std::collections::BTreeMap;
use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use anstyle::{AnsiColor, Style};
use yemdo::view::{ShownUnits, UnitError};
use yemdo::{Part, State};
use yemdo_bus::bench::{self, BenchPart};
use yemdo_bus::place::Place;
use yemdo_bus::{Device, Rig};

use crate::args::Read;
use crate::failure::Failure;
use crate::input;
use crate::link::{AnyPort, Connected, Stop, tell_verdict};
use crate::log::{Clocks, Entry, LogFile, Moment};
use crate::show::live::{Printed, Row};
use crate::show::number::count;
use session::{Audience, Clock, Control, Reader, Session};

pub(crate) fn run(args: &Read) -> Result<u8, Failure> {
    let stop = Stop::on_interrupt();
    let rig = Rig::new();
    let mut readers = readers(args)?;
    shown_units(&mut readers, &args.unit)?;
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
    let ends = (args.count.is_some() || args.duration.is_some()) && !args.live;
    let begin = args.begin.unwrap_or_else(Moment::now);
    let clock = Clock { rig: stand_ins.then(|| rig.clone()), real: !ends, start: std::time::Instant::now(), begin };
    let once = !ends && !args.live && readers.iter().all(|reader| reader.every.is_none());
    let clocks = Clocks::new(args.utc);
    // What a virtual clock brings can be had again; it need not be on the disk at once.
    let mut log = args.log.as_deref().map(|path| LogFile::open(path, &clocks, args.rotate, !stand_ins || !ends)).transpose()?;
    log.iter_mut().flat_map(LogFile::notes).for_each(|note| drop(writeln!(anstream::stderr(), "{note}")));
    let count_to = args.count.unwrap_or(if once { 1 } else { u64::MAX });
    let speed = args.speed.or(args.live.then_some(1.0));
    let mut session =
        Session { args, stop: &stop, rig: &rig, clock, log, lines, readers, count_to, speed, control: Arc::new(Control::default()) };
    match args.live {
        true => watch(&mut session, &clocks)?,
        false => session.run(&mut Printed::new(args.format, !alone, &clocks))?,
    }
    let Session { log, clock, readers, .. } = session;
    let mut worst = summary(&readers, once);
    if let Some(mut log) = log {
        log.finish();
        log.notes().iter().for_each(|note| drop(writeln!(anstream::stderr(), "{note}")));
        worst = worst.max(u8::from(log.lost > 0));
    }
    tell_verdict(clock.rig.as_ref());
    Ok(worst)
}

impl Audience for Printed {
    fn measured(&mut self, row: &Row<'_>, _: &mut Device<AnyPort>) -> Result<(), Failure> {
        self.row(&mut anstream::stdout().lock(), row)
    }

    fn failed(&mut self, at: u64, entry: &Entry) -> Result<(), Failure> {
        self.failure(&mut anstream::stdout().lock(), at, entry)
    }

    // It was told once, at the beginning, and is counted.
    fn absent(&mut self, _: &str, _: &str) {}

    fn back(&mut self, name: &str) {
        let green = AnsiColor::Green.on_default();
        let _ = writeln!(anstream::stderr(), "{green}{name}: back again{green:#}");
    }

    fn note(&mut self, text: &str) {
        let _ = writeln!(anstream::stderr(), "{text}");
    }
}

#[cfg(feature = "live")]
fn watch(session: &mut Session<'_>, clocks: &Clocks) -> Result<(), Failure> {
    watch::run(session, clocks)
}

#[cfg(not(feature = "live"))]
fn watch(_: &mut Session<'_>, _: &Clocks) -> Result<(), Failure> {
    let failure = Failure::told("this yemdo was built without the live view");
    Err(failure.help("build it with it: cargo build --release --features live"))
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
        units: ShownUnits::plain(&part, &State::reset(&part)),
        part,
        place: one.place,
        set: one.set,
        run: args.run.clone(),
        every: one.every.or(args.every),
        device: None,
        before: None,
        due: 0,
        good: 0,
        failures: BTreeMap::new(),
        failing: false,
        fresh: true,
    };
    Ok(list.into_iter().map(reader).collect())
}

/// The units that are asked for: each part takes those that it has readings for, and some part must.
fn shown_units(readers: &mut [Reader], asked: &[String]) -> Result<(), Failure> {
    let told = |error: UnitError| Failure::helped(error.message, error.help);
    let mut fitting: Vec<Vec<String>> = vec![Vec::new(); readers.len()];
    for one in asked {
        let mut refused = Vec::new();
        for (reader, own) in readers.iter().zip(&mut fitting) {
            match ShownUnits::new(&reader.part, &State::reset(&reader.part), std::slice::from_ref(one)) {
                Ok(_) => own.push(one.clone()),
                Err(error) => refused.push(error),
            }
        }
        if refused.len() == readers.len() {
            return refused.into_iter().next().map_or(Ok(()), |error| Err(told(error)));
        }
    }
    for (reader, own) in readers.iter_mut().zip(&fitting).filter(|(_, own)| !own.is_empty()) {
        reader.units = ShownUnits::new(&reader.part, &State::reset(&reader.part), own).map_err(told)?;
    }
    Ok(())
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

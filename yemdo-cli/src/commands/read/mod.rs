//! `yemdo read`: measures with a part, or with all parts of a bench, once or again and again.

#[cfg(feature = "live")]
mod watch;

use std::collections::BTreeMap;
use std::io::Write;
use std::sync::Arc;

use anstyle::{AnsiColor, Style};
use yemdo::view::{ShownUnits, UnitError};
use yemdo::{Part, State, visible};
use yemdo_bus::bench::BenchPart;
use yemdo_bus::place::Place;
use yemdo_bus::{Device, Rig, Shared};
use yemdo_log::{Audience, Clock, Clocks, Connect, Entry, LogFile, Logger, Measured, Moment, Station};

use super::mend;
use crate::args::Read;
use crate::failure::Failure;
use crate::input;
use crate::link::{AnyPort, Stop, tell_verdict};
use crate::show::live::Printed;
use crate::show::suspects;
use yemdo::counted;

pub(crate) fn run(args: &Read) -> Result<u8, Failure> {
    let stop = Stop::on_interrupt();
    let rig = Rig::new();
    let mut list = planned(args)?;
    shown_units(&mut list, &args.unit)?;
    // All of it must be possible before anything is sent.
    for one in &list {
        if !one.set.is_empty() {
            input::worked_out(one.station.part(), None, &one.set, yemdo::configure::WriteScope::Changed)?;
        }
        args.run.iter().try_for_each(|routine| one.station.part().routine(routine).map(drop))?;
    }
    let (alone, stand_ins) = (list.len() == 1, list.iter().all(|one| matches!(one.place, Place::StandIn { .. })));
    // A virtual clock without an end would run as fast as it can for ever.
    let ends = (args.count.is_some() || args.duration.is_some()) && !args.live;
    let once = !ends && !args.live && list.iter().all(|one| one.station.interval().is_none());
    let begin = args.begin.unwrap_or_else(Moment::now);
    let clock = match stand_ins {
        true if ends => Clock::of_rig(&rig, begin),
        true => Clock::of_rig(&rig, begin).in_real_time(),
        false => Clock::world(begin),
    };
    let mut logger = Logger::new(clock);
    let mut connector = Connector { args, stop: &stop, rig: &rig, alone, places: BTreeMap::new(), lines: BTreeMap::new() };
    for one in list {
        connector.places.insert(one.station.name().to_owned(), one.place);
        logger.add(one.station);
    }
    open(&mut logger, &mut connector)?;
    let clocks = Clocks::new(args.utc);
    if let Some(path) = &args.log {
        // Readings with a virtual clock are reproducible: no flush of each record.
        let mut log = LogFile::open(path, &clocks, args.rotate, !stand_ins || !ends)?;
        log.notes().iter().for_each(|note| drop(writeln!(anstream::stderr(), "{note}")));
        logger.log_to(log);
    }
    args.count.or(once.then_some(1)).map(|count| logger.count(count));
    args.duration.map(|duration| logger.duration(duration));
    args.speed.or(args.live.then_some(1.0)).map(|speed| logger.speed(speed));
    logger.stopped_by(Arc::clone(&stop.0));
    let mut last = None;
    match args.live {
        true => watch(&mut logger, &mut connector, &clocks)?,
        false => {
            let mut printed = Printed::new(args.format, !alone, &clocks);
            printed.logged = args.log.is_some();
            let mut output = Output { printed, mends: !args.expectations.is_empty(), last: None };
            logger.run(&mut connector, &mut output)?;
            last = output.last;
        }
    }
    let mut worst = summary(&logger, once);
    if let Some((part, gathered)) = last {
        mend::console(&part, gathered, &args.expectations)?;
    }
    if let Some(mut log) = logger.into_log() {
        log.finish();
        log.notes().iter().for_each(|note| drop(writeln!(anstream::stderr(), "{note}")));
        worst = worst.max(u8::from(log.lost() > 0));
    }
    tell_verdict(Some(&rig).filter(|_| stand_ins));
    Ok(worst)
}

/// Opens the devices. One that is not there does not stop the others.
fn open(logger: &mut Logger<AnyPort>, connector: &mut Connector<'_>) -> Result<(), Failure> {
    let mut absent = logger.open(connector);
    if connector.alone
        && let Some((_, failure)) = absent.pop()
    {
        return Err(failure);
    }
    for (name, failure) in &absent {
        let _ = writeln!(anstream::stderr(), "{name}: {}", failure.message());
    }
    if absent.len() == connector.places.len() {
        return Err(Failure::refused("no part of the bench responds"));
    }
    Ok(())
}

/// Opens the devices at their places.
struct Connector<'a> {
    args: &'a Read,
    stop: &'a Stop,
    rig: &'a Rig,
    alone: bool,
    /// By the names of the stations.
    places: BTreeMap<String, Place>,
    /// Lines that several parts are on, by their names.
    lines: BTreeMap<String, Shared>,
}

impl Connect<AnyPort> for Connector<'_> {
    type Error = Failure;

    fn open(&mut self, station: &Station) -> Result<Device<AnyPort>, Failure> {
        let Some(place) = self.places.get(station.name()) else { return Err(Failure::error("missing place of the part")) };
        let (link, part) = (&self.args.link, station.part());
        let connected = match self.alone {
            true => link.connect_to(place, part, self.stop, Some(self.rig)),
            false => link.connect_shared(place, part, self.stop, Some(self.rig), &mut self.lines),
        };
        Ok(connected?.device)
    }

    fn gone(&mut self, line: &str) {
        self.lines.remove(line);
    }
}

/// Printed readings; the last frames for `--expect`.
struct Output {
    printed: Printed,
    mends: bool,
    last: Option<(Part, mend::Gathered)>,
}

impl Audience<AnyPort> for Output {
    type Error = Failure;

    fn measured(&mut self, row: &Measured<'_, AnyPort>) -> Result<(), Failure> {
        if self.mends {
            self.last = mend::last(row.device).map(|last| (row.device.part().clone(), last));
        }
        self.printed.row(&mut anstream::stdout().lock(), row)
    }

    fn failed(&mut self, at: u64, entry: &Entry) -> Result<(), Failure> {
        self.printed.failure(&mut anstream::stdout().lock(), at, entry)
    }

    // Printed once, at the first failure, and counted.
    fn absent(&mut self, _: &str, _: &str) {}

    fn back(&mut self, name: &str) {
        let green = AnsiColor::Green.on_default();
        let _ = writeln!(anstream::stderr(), "{green}{name}: recovered{green:#}");
    }

    fn note(&mut self, text: &str) {
        let _ = writeln!(anstream::stderr(), "{text}");
    }
}

#[cfg(feature = "live")]
fn watch(logger: &mut Logger<AnyPort>, connector: &mut Connector<'_>, clocks: &Clocks) -> Result<(), Failure> {
    watch::run(logger, connector, clocks)
}

#[cfg(not(feature = "live"))]
fn watch(_: &mut Logger<AnyPort>, _: &mut Connector<'_>, _: &Clocks) -> Result<(), Failure> {
    let failure = Failure::error("built without the live view");
    Err(failure.help("build with: cargo build --release --features live"))
}

/// A part that is asked for.
struct Planned {
    station: Station,
    place: Place,
    set: Vec<String>,
}

/// The parts that are asked for, none of them opened.
fn planned(args: &Read) -> Result<Vec<Planned>, Failure> {
    let mut list: Vec<(BenchPart, Part)> = Vec::new();
    match (&args.bench, &args.sheet) {
        (Some(path), _) => list = input::bench(path)?,
        (None, Some(sheet)) => {
            let Some(place) = args.link.place()? else {
                return Err(Failure::error("missing `--at PLACE`").help("such as --at i2c:1; --at stand-in needs no hardware"));
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
        (None, None) => return Err(Failure::error("missing sheet").help("give a sheet, or --bench FILE")),
    }
    let planned = |(one, part): (BenchPart, Part)| {
        let mut station = Station::new(&one.name, &part).on_line(&one.place.shared()).set_up(&one.set, &args.run);
        if let Some(every) = one.every.or(args.every) {
            station = station.every(every);
        }
        if matches!(one.place, Place::Recording { .. }) {
            station = station.with_own_clock();
        }
        Planned { station, place: one.place, set: one.set }
    };
    Ok(list.into_iter().map(planned).collect())
}

/// The units that are asked for: each part takes those that it has readings for, and some part must.
fn shown_units(list: &mut [Planned], asked: &[String]) -> Result<(), Failure> {
    let failure = |error: UnitError| Failure::helped(error.message, error.help);
    let of = |part: &Part, asked: &[String]| ShownUnits::new(part, &State::reset(part), asked);
    let mut fitting: Vec<Vec<String>> = vec![Vec::new(); list.len()];
    for one in asked {
        let mut refused = Vec::new();
        for (planned, own) in list.iter().zip(&mut fitting) {
            match of(planned.station.part(), std::slice::from_ref(one)) {
                Ok(_) => own.push(one.clone()),
                Err(error) => refused.push(error),
            }
        }
        if refused.len() == list.len() {
            return refused.into_iter().next().map_or(Ok(()), |error| Err(failure(error)));
        }
    }
    for (planned, own) in list.iter_mut().zip(&fitting).filter(|(_, own)| !own.is_empty()) {
        let units = of(planned.station.part(), own).map_err(failure)?;
        planned.station = planned.station.clone().in_units(units);
    }
    Ok(())
}

/// Prints the counts of readings and failures on standard error; returns the exit code.
fn summary(logger: &Logger<AnyPort>, once: bool) -> u8 {
    let mut err = anstream::stderr();
    let mut worst = 0;
    let dim = Style::new().dimmed();
    for (station, tally) in logger.stations() {
        let failures: u64 = tally.failures.values().sum();
        suspects::warn(&tally.suspects);
        worst = worst.max(u8::from(failures > 0));
        if once && failures == 0 {
            continue;
        }
        let causes: Vec<String> = tally.failures.iter().map(|(cause, count)| format!("{count} {cause}")).collect();
        let failed = if failures == 0 { String::new() } else { format!(", {failures} failed: {}", causes.join(", ")) };
        let again = match tally.retried {
            0 => String::new(),
            times => format!(", tried again {}", counted(times, "time")),
        };
        let _ = writeln!(err, "{dim}{}: {} read{failed}{again}{dim:#}", visible(station.name()), counted(tally.good, "measurement"));
    }
    worst
}

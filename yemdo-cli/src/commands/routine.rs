//! `yemdo routine`: bus operations of a routine, listed or executed.

use std::io::Write;
use std::path::Path;
use std::sync::{Arc, Mutex};

use yemdo::configure::WriteScope;
use yemdo::record::Traffic;
use yemdo::routine::Runner;
use yemdo::view::{NameView, ReadingView, RequestView};

use yemdo_trace::CaptureOptions;
use yemdo_trace::wave::{WaveOptions, WaveWriter};

use super::configure::bus;
use crate::args::{CheckFormat, Routine};
use crate::failure::Failure;
use crate::input;
use crate::link::{Stop, tell_verdict};
use crate::output::{NewFile, json_line};
use crate::show::{requests, seen};

pub(crate) fn run(args: &Routine) -> Result<u8, Failure> {
    let part = input::load_at(&args.sheet, args.variant.as_deref(), args.address.as_deref())?;
    let mut out = anstream::stdout().lock();
    let Some(name) = &args.name else {
        for routine in part.routines() {
            match args.format {
                CheckFormat::Table => writeln!(out, "{}", routine.name())?,
                CheckFormat::Json => json_line(&mut out, &NameView { routine: routine.name() })?,
            }
        }
        if part.routines().is_empty() {
            return Err(Failure::error(format!("no routine in the sheet of {}", part.name())).help("add one as [[routine.measure]]"));
        }
        return Ok(0);
    };
    let routine = part.routine(name)?;
    if args.link.is_given() {
        return run_there(args, &part, name);
    }
    let (_, done) = input::worked_out(&part, args.dump.as_deref(), &args.set, WriteScope::Changed)?;
    let failure = |error: yemdo::routine::NotRunnable| Failure::error(error.to_string());
    let runner = Runner::new(&part, routine, done.state).map_err(failure)?;
    let rate = args.khz.map(|khz| khz.saturating_mul(1000));
    let runner = runner.on_bus(bus(&part, args.bus)?, rate).map_err(failure)?;
    let (list, total) = runner.dry_run().map_err(|error| Failure::refused(error.to_string()))?;
    match args.format {
        CheckFormat::Table => requests::table(&mut out, &part, &list, total)?,
        CheckFormat::Json => list.iter().try_for_each(|request| json_line(&mut out, &RequestView::from(request)))?,
    }
    Ok(0)
}

/// Runs the routine with the part.
fn run_there(args: &Routine, part: &yemdo::Part, name: &str) -> Result<u8, Failure> {
    let stop = Stop::on_interrupt();
    let Some(connected) = args.link.connect(part, &stop)? else { return Ok(0) };
    let mut device = connected.device;
    let (_, done) = input::worked_out(part, args.dump.as_deref(), &args.set, WriteScope::Changed)?;
    *device.state_mut() = done.state;
    let json = args.format == CheckFormat::Json;
    let start = device.port_mut().now();
    let traffic = Arc::new(Mutex::new(Vec::new()));
    let (mut show, kept, wanted) = (seen::shown(json, start), Arc::clone(&traffic), args.vcd.is_some());
    device.watched_by(move |seen| {
        show(seen);
        if let (true, Some(traffic), Ok(mut kept)) = (wanted, seen.traffic(start), kept.lock()) {
            kept.push(traffic);
        }
    });
    let ended = device.run(name);
    tell_verdict(connected.rig.as_ref());
    if let (Some(path), Ok(traffic)) = (&args.vcd, traffic.lock()) {
        write_waveform(args, path, device.part(), &traffic)?;
    }
    let ended = ended?;
    let mut out = anstream::stdout().lock();
    for reading in ended.readings() {
        match json {
            true => json_line(&mut out, &ReadingView::from(reading))?,
            false => writeln!(out, "{} {reading}", reading.name)?,
        }
    }
    Ok(0)
}

/// Writes transfers as a waveform, at the clock of the arguments or the usual one of the bus.
fn write_waveform(args: &Routine, path: &Path, part: &yemdo::Part, traffic: &[Traffic]) -> Result<(), Failure> {
    let Some(first) = traffic.first() else { return Err(Failure::error("there is no transfer for a waveform")) };
    let bus = first.transfer.bus;
    let usual = part.buses().wire(bus).map_or(100_000, |wire| wire.usual_rate());
    let options = WaveOptions::as_read(args.khz.map_or(usual, |khz| khz.saturating_mul(1000)), &CaptureOptions::of([part]));
    let mut writer = WaveWriter::new(NewFile::create(path, args.overwrite)?, bus, options)?;
    traffic.iter().try_for_each(|traffic| writer.transfer(traffic))?;
    writer.finish()?;
    writer.output().finish()
}

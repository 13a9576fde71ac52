//! `yemdo routine`: bus operations of a routine, listed or executed.

use std::io::Write;

use yemdo::configure::WriteScope;
use yemdo::routine::Runner;
use yemdo::view::{NameView, ReadingView, RequestView};

use super::configure::bus;
use crate::args::{CheckFormat, Routine};
use crate::failure::Failure;
use crate::input;
use crate::link::{Stop, tell_verdict};
use crate::output::json_line;
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
    device.watched_by(seen::shown(json, start));
    let ended = device.run(name);
    tell_verdict(connected.rig.as_ref());
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

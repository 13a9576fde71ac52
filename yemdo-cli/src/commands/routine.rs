//! `yemdo routine`: what a routine does on the bus, without a bus.

use std::io::Write;

use yemdo::configure::WriteScope;
use yemdo::routine::Runner;
use yemdo::view::{NameView, RequestView};

use super::configure::bus;
use crate::args::{CheckFormat, Routine};
use crate::failure::Failure;
use crate::input;
use crate::output::json_line;
use crate::show::requests;

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
            return Err(Failure::told(format!("the sheet of {} has no routine", part.name())).help("type one as [[routine.measure]]"));
        }
        return Ok(0);
    };
    let routine = part.routine(name)?;
    let (_, done) = input::worked_out(&part, args.dump.as_deref(), &args.set, WriteScope::Changed)?;
    let told = |error: yemdo::routine::NotRunnable| Failure::told(error.to_string());
    let runner = Runner::new(&part, routine, done.settings).map_err(told)?.with_parameters(&done.parameters);
    let rate = args.khz.map(|khz| khz.saturating_mul(1000));
    let runner = runner.on_bus(bus(&part, args.bus)?, rate).map_err(told)?;
    let (list, total) = runner.dry_run().map_err(|error| Failure::refused(error.to_string()))?;
    match args.format {
        CheckFormat::Table => requests::table(&mut out, &part, &list, total)?,
        CheckFormat::Json => list.iter().try_for_each(|request| json_line(&mut out, &RequestView::from(request)))?,
    }
    Ok(0)
}

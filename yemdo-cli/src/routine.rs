//! `yemdo routine`: what a routine does on the bus, without a bus.

use std::io::Write;

use anstyle::{AnsiColor, Style};
use serde_json::json;
use yemdo::Part;
use yemdo::configure::Which;
use yemdo::routine::{Answer, Asked, Operation, RoutineError, Runner};

use crate::args::{CheckFormat, Routine};
use crate::failure::Failure;
use crate::grid::{Align, Cell, Grid};
use crate::{configure, sheets};

pub(crate) fn run(args: &Routine) -> Result<u8, Failure> {
    let part = sheets::load_at(&args.sheet, args.variant.as_deref(), args.address.as_deref())?;
    let names: Vec<&str> = part.routines().iter().map(|routine| routine.name()).collect();
    let mut out = anstream::stdout().lock();
    let Some(name) = &args.name else {
        for routine in part.routines() {
            writeln!(out, "{}", routine.name())?;
        }
        if names.is_empty() {
            return Err(Failure::told(format!("the sheet of {} has no routine", part.name())).help("type one as [[routine.measure]]"));
        }
        return Ok(0);
    };
    let index = names.iter().position(|known| known.eq_ignore_ascii_case(name)).ok_or_else(|| {
        let near = yemdo::sheet::suggest::nearest(name, names.iter().copied());
        let help = near.map_or_else(|| format!("its routines: {}", names.join(", ")), |near| format!("did you mean `{near}`?"));
        Failure::told(format!("{} has no routine `{name}`", part.name())).help(help)
    })?;
    let (_, done) = configure::worked_out(&part, args.dump.as_deref(), &args.set, Which::Changed)?;
    let bus = configure::bus(&part, args.bus)?;
    let runner = Runner::new(&part, index, done.settings).ok_or_else(|| Failure::told("there is no such routine"))?;
    let runner = runner.over(bus, args.khz.map(|khz| khz.saturating_mul(1000))).with_parameters(&done.parameters).dry();
    let (list, total) = dry_run(runner).map_err(|error| Failure::refused(error.to_string()))?;
    match args.format {
        CheckFormat::Table => table(&mut out, &part, &list, total)?,
        CheckFormat::Json => {
            for asked in &list {
                writeln!(out, "{}", as_json(asked))?;
            }
        }
    }
    Ok(0)
}

/// All that a routine asks for when all goes well, and how long it takes, in microseconds.
pub(crate) fn dry_run(mut runner: Runner<'_>) -> Result<(Vec<Asked>, (u64, u64)), RoutineError> {
    let mut list = Vec::new();
    let mut next = runner.start()?;
    while let Some(asked) = next {
        list.push(asked);
        next = runner.answer(Answer::AsHoped)?;
    }
    Ok((list, runner.elapsed()))
}

pub(crate) fn table(out: &mut dyn Write, part: &Part, list: &[Asked], total: (u64, u64)) -> Result<(), Failure> {
    let mut grid = Grid::new(0, &[Align::Right, Align::Right, Align::Left, Align::Left]);
    grid.titles(&["at", "at the latest", "operation", "meaning"]);
    let (green, dim) = (AnsiColor::Green.on_default(), Style::new().dimmed());
    for asked in list {
        let (soonest, latest) = asked.at;
        let operation = match &asked.operation {
            Operation::Transfer(transfer) => Cell { text: format!("{} {}", transfer.bus.name(), transfer.text()), style: green },
            Operation::Wait(micros) => Cell { text: format!("wait {}", millis(*micros)), style: dim },
            Operation::Line { high, within } => {
                Cell { text: format!("line {}, within {}", if *high { "high" } else { "low" }, millis(*within)), style: dim }
            }
        };
        let meaning = match &asked.only_if {
            Some(condition) => format!("if {condition}: {}", asked.meaning),
            None => asked.meaning.clone(),
        };
        let latest = if latest == soonest { String::new() } else { millis(latest) };
        grid.row(vec![millis(soonest).into(), latest.into(), operation, meaning.into()]);
    }
    grid.write(out)?;
    let (soonest, latest) = total;
    let time = if soonest == latest { millis(soonest) } else { format!("{} to {}", millis(soonest), millis(latest)) };
    writeln!(out, "{time} in all, as if {} answered as hoped; nothing was sent", part.name())?;
    Ok(())
}

fn millis(micros: u64) -> String {
    format!("{:.3} ms", micros as f64 / 1000.0)
}

fn as_json(asked: &Asked) -> serde_json::Value {
    let operation = match &asked.operation {
        Operation::Transfer(transfer) => json!({
            "transfer": transfer.bus.name(),
            "address": transfer.address,
            "send": yemdo::bits::hex::to_hex(&transfer.send),
            "receive": transfer.receive,
        }),
        Operation::Wait(micros) => json!({ "wait_us": micros }),
        Operation::Line { high, within } => json!({ "line": if *high { "high" } else { "low" }, "within_us": within }),
    };
    json!({
        "routine": asked.routine,
        "line": asked.line,
        "at_us": asked.at.0,
        "at_latest_us": asked.at.1,
        "operation": operation,
        "meaning": asked.meaning,
        "only_if": asked.only_if,
    })
}

//! Requests of a routine, with times.

use std::io::Write;

use anstyle::{AnsiColor, Style};
use yemdo::Part;
use yemdo::routine::{Operation, Request};

use super::grid::{Align, Cell, Grid};
use super::number::millis;
use crate::failure::Failure;

pub(crate) fn table(out: &mut dyn Write, part: &Part, list: &[Request], total: (u64, u64)) -> Result<(), Failure> {
    let mut grid = Grid::new(0, &[Align::Right, Align::Right, Align::Left, Align::Left]);
    grid.titles(&["at", "at the latest", "operation", "meaning"]);
    for request in list {
        let (soonest, latest) = request.at;
        let meaning = match &request.only_if {
            Some(condition) => format!("if {condition}: {}", request.meaning),
            None => request.meaning.clone(),
        };
        let latest = if latest == soonest { String::new() } else { millis(latest) };
        grid.row(vec![millis(soonest).into(), latest.into(), operation(&request.operation), meaning.into()]);
    }
    grid.write(out)?;
    let (soonest, latest) = total;
    let time = if soonest == latest { millis(soonest) } else { format!("{} to {}", millis(soonest), millis(latest)) };
    writeln!(out, "{time} in total, assuming normal responses of {}; nothing was sent", part.name())?;
    Ok(())
}

/// One operation: transfers in colour, waits without.
pub(super) fn operation(operation: &Operation) -> Cell {
    let style = if matches!(operation, Operation::Transfer(_)) { AnsiColor::Green.on_default() } else { Style::new().dimmed() };
    Cell { text: operation.text(millis), style }
}

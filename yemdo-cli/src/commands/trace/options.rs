//! Options for the capture: from the command line, otherwise from the sheets.

use yemdo_trace::edges::Parity;
use yemdo_trace::{CaptureOptions, Role, TableColumns};

use super::parts::Parts;
use crate::args::{BitOrder, Numbers, Trace};
use crate::failure::Failure;

pub(super) fn of(args: &Trace, parts: &Parts) -> Result<CaptureOptions, Failure> {
    let reading = &args.reading;
    let mut options = CaptureOptions::of(parts.all().map(|part| part.follower.part()));
    for typed in &reading.line {
        let (role, name) = pair(typed, "--line scl=NAME")?;
        let role = Role::ALL.into_iter().find(|known| known.as_str() == role).ok_or_else(|| {
            let known: Vec<&str> = Role::ALL.iter().map(|role| role.as_str()).collect();
            Failure::error(format!("`{role}` is no line of a bus")).help(format!("expected {}", known.join(", ")))
        })?;
        options.lines.push((role, name.to_owned()));
    }
    let mut columns = TableColumns::default();
    for typed in &reading.column {
        let (role, heading) = pair(typed, "--column data=HEADING")?;
        const ROLES: [&str; 6] = ["time", "direction", "address", "data", "ack", "group"];
        if !ROLES.contains(&role) {
            return Err(Failure::error(format!("`{role}` is no column of transfers")).help(format!("expected {}", ROLES.join(", "))));
        }
        columns.named.push((role.to_owned(), heading.to_owned()));
    }
    columns.hex = reading.numbers.map(|form| form == Numbers::Hex);
    options.columns = columns;
    options.mode = reading.mode.unwrap_or(options.mode);
    options.lsb_first = reading.bit_order.map_or(options.lsb_first, |order| order == BitOrder::Lsb);
    options.serial.baud = reading.baud.unwrap_or(options.serial.baud);
    options.serial.parity = reading.parity.map_or(options.serial.parity, Parity::from);
    options.glitch = reading.glitch.unwrap_or(0);
    options.unit = reading.time_unit;
    options.port = reading.port;
    Ok(options)
}

/// Both sides of `ROLE=NAME`.
fn pair<'t>(typed: &'t str, example: &str) -> Result<(&'t str, &'t str), Failure> {
    let (left, right) =
        typed.split_once('=').ok_or_else(|| Failure::error(format!("`{typed}` has no `=`")).help(format!("write {example}")))?;
    Ok((left.trim(), right.trim()))
}

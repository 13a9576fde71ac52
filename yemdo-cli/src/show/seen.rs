//! Bus operations as they are done: their time, their bytes, their answers, what they are for.

use std::io::Write;

use anstyle::{AnsiColor, Style};
use yemdo::routine::Operation;
use yemdo::view::{SeenOperation, SeenView};
use yemdo::{to_hex, visible};
use yemdo_bus::Seen;

use super::number::millis;
use crate::failure::Failure;
use crate::output::json_line;

/// Prints every operation on standard output, as a line of text or of JSON; times count from `start`.
pub(crate) fn shown(as_json: bool, start: u64) -> impl FnMut(&Seen<'_>) + Send + 'static {
    move |seen| {
        let mut out = anstream::stdout().lock();
        // Who has closed our output has had enough of it; the part is left as it should be all the same.
        let _ = if as_json { json_line(&mut out, &view(seen, start)) } else { line(&mut out, seen, start).map_err(Failure::from) };
    }
}

/// One operation as a line.
pub(crate) fn line(out: &mut dyn Write, seen: &Seen<'_>, start: u64) -> std::io::Result<()> {
    let (green, dim, red) = (AnsiColor::Green.on_default(), Style::new().dimmed(), AnsiColor::BrightRed.on_default());
    let at = millis(seen.at.saturating_sub(start));
    let operation = match &seen.request.operation {
        Operation::Transfer(transfer) => format!("{green}{} {}{green:#}", transfer.bus.name(), transfer.text()),
        Operation::Baud(baud) => format!("{dim}line at {baud} baud{dim:#}"),
        Operation::Wait(micros) => format!("{dim}wait {}{dim:#}", millis(*micros)),
        Operation::Line { high, within } => format!("{dim}line {}, within {}{dim:#}", if *high { "high" } else { "low" }, millis(*within)),
        _ => String::new(),
    };
    let answer = match &seen.outcome {
        Ok(Some([])) => String::new(),
        Ok(Some(bytes)) => format!(" = {}", to_hex(bytes)),
        Ok(None) => format!("  {red}it did not come{red:#}"),
        Err(error) => format!("  {red}{}{red:#}", visible(&error.to_string())),
    };
    writeln!(out, "{dim}{at:>12}{dim:#}  {operation}{answer}  {dim}{}{dim:#}", visible(&seen.request.meaning))
}

/// The same for programs.
fn view<'a>(seen: &'a Seen<'_>, start: u64) -> SeenView<'a> {
    let operation = match &seen.request.operation {
        Operation::Wait(micros) => SeenOperation::Wait { wait_us: *micros },
        Operation::Baud(baud) => SeenOperation::Baud { baud: *baud },
        Operation::Line { high, within } => SeenOperation::Line { line: if *high { "high" } else { "low" }, within_us: *within },
        Operation::Transfer(transfer) => SeenOperation::Transfer {
            transfer: transfer.bus.name(),
            address: transfer.address,
            send: to_hex(&transfer.send),
            receive: transfer.receive,
        },
        _ => SeenOperation::Wait { wait_us: 0 },
    };
    let (answer, error) = match &seen.outcome {
        Ok(bytes) => (bytes.map(to_hex), None),
        Err(error) => (None, Some(error.to_string())),
    };
    SeenView { at_us: seen.at.saturating_sub(start), operation, answer, error, meaning: &seen.request.meaning }
}

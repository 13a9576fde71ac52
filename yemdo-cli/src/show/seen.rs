//! Executed bus operations: time, bytes, answer, purpose.

use std::io::Write;

use anstyle::{AnsiColor, Style};
use yemdo::view::{OperationView, SeenView};
use yemdo::{to_hex, visible};
use yemdo_bus::Seen;

use super::grid::Cell;
use super::number::millis;
use super::requests::operation;
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
    let (dim, red) = (Style::new().dimmed(), AnsiColor::BrightRed.on_default());
    let at = millis(seen.at.saturating_sub(start));
    let Cell { text: operation, style } = operation(&seen.request.operation);
    let answer = match &seen.outcome {
        Ok(Some([])) => String::new(),
        Ok(Some(bytes)) => format!(" = {}", to_hex(bytes)),
        Ok(None) => format!("  {red}timeout{red:#}"),
        Err(error) => format!("  {red}{}{red:#}", visible(&error.to_string())),
    };
    writeln!(out, "{dim}{at:>12}{dim:#}  {style}{operation}{style:#}{answer}  {dim}{}{dim:#}", visible(&seen.request.meaning))
}

/// The same for programs.
fn view<'a>(seen: &'a Seen<'_>, start: u64) -> SeenView<'a> {
    let operation = OperationView::from(&seen.request.operation);
    let (answer, error) = match &seen.outcome {
        Ok(bytes) => (bytes.map(to_hex), None),
        Err(error) => (None, Some(error.to_string())),
    };
    SeenView { at_us: seen.at.saturating_sub(start), operation, answer, error, meaning: &seen.request.meaning }
}

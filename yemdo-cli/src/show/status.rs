//! Statuses as people see them.

use anstyle::{AnsiColor, Style};
use yemdo::Status;

use super::grid::Cell;

/// The status as people see it: nothing where all is well.
pub(crate) fn status_cell(status: Status) -> Cell {
    let (style, text) = status_style(status);
    Cell { text: text.to_owned(), style }
}

/// The same, with its colour.
pub(crate) fn status_style(status: Status) -> (Style, &'static str) {
    let style = match status {
        Status::Ok => return (Style::new(), ""),
        Status::Alert | Status::OutOfRange | Status::Saturated => AnsiColor::Yellow.on_default(),
        Status::NotReady => Style::new().dimmed(),
        _ => AnsiColor::BrightRed.on_default(),
    };
    (style, status.as_str())
}

//! Statuses as people see them.

use anstyle::{AnsiColor, Style};
use yemdo::Status;

use super::grid::Cell;

/// The status as people see it: nothing where all is well.
pub(crate) fn status_cell(status: Status) -> Cell {
    let style: Style = match status {
        Status::Ok => return Cell::default(),
        Status::Alert | Status::OutOfRange | Status::Saturated => AnsiColor::Yellow.on_default(),
        Status::NotReady => Style::new().dimmed(),
        _ => AnsiColor::Red.on_default(),
    };
    Cell { text: status.as_str().to_owned(), style }
}

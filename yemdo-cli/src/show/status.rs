//! Statuses as people see them.

use std::fmt::Write as _;

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

/// A status that is not well, why, and the readings that have it.
pub(crate) type Told = (Status, Option<String>, Vec<String>);

/// Records a status other than ok: each status with its reason once.
pub(crate) fn note(told: &mut Vec<Told>, status: Status, why: Option<String>, reading: &str) {
    match told.iter_mut().find(|(known, reason, _)| *known == status && *reason == why) {
        Some((.., names)) => names.push(reading.to_owned()),
        None => told.push((status, why, vec![reading.to_owned()])),
    }
}

/// What is not well, in words: `humidity saturated: water on the element`; without names where it is about all of them, and without
/// reasons where the row before has them.
pub(crate) fn push_told(text: &mut String, told: &[Told], all: usize, reasons: bool) {
    for (at, (status, why, names)) in told.iter().enumerate() {
        text.push_str(if at > 0 { "; " } else { "" });
        if names.len() < all {
            let _ = write!(text, "{} ", names.join(", "));
        }
        text.push_str(status.as_str());
        if let Some(why) = why.as_ref().filter(|_| reasons) {
            let _ = write!(text, ": {why}");
        }
    }
}

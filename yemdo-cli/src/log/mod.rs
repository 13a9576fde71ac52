//! Logs of measurements: what a record holds, the forms it is written in, the files it goes to, and reading all of them back.

mod any;
mod entry;
mod file;
mod read;
mod records;
mod senml;
mod time;
mod write;

use std::path::Path;

pub(crate) use any::AnyLog;
pub(crate) use entry::Entry;
pub(crate) use file::{LogFile, Rotation};
pub(crate) use read::{LogEntries, is_log};
pub(crate) use records::Step;
pub(crate) use time::{Clocks, Moment};
pub(crate) use write::Encoder;

/// The form of a log.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LogForm {
    /// A row for each reading.
    Csv,
    /// An object for each measurement.
    JsonLines,
    /// A SenML pack for each measurement, a line each.
    Senml,
    /// The same in CBOR, one behind the other: a CBOR sequence.
    SenmlCbor,
}

/// Endings of file names, and the forms they are for.
const ENDINGS: [(&str, LogForm); 5] = [
    ("csv", LogForm::Csv),
    ("jsonl", LogForm::JsonLines),
    ("ndjson", LogForm::JsonLines),
    ("senml", LogForm::Senml),
    ("senmlc", LogForm::SenmlCbor),
];

impl LogForm {
    /// The form that a file's name asks for.
    pub(crate) fn of(path: &Path) -> Result<Self, String> {
        let ending = path.extension().map(|ending| ending.to_string_lossy().to_ascii_lowercase()).unwrap_or_default();
        let found = ENDINGS.iter().find(|(known, _)| *known == ending).map(|(_, form)| *form);
        found.ok_or_else(|| {
            let known: Vec<String> = ENDINGS.iter().map(|(ending, _)| format!(".{ending}")).collect();
            format!("the file extension decides the format of a log: {}", known.join(", "))
        })
    }

    /// Whether records are lines of text.
    pub(crate) fn is_text(self) -> bool {
        self != LogForm::SenmlCbor
    }
}

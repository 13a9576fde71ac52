//! The forms of a log.

use std::path::Path;

use crate::error::{LogError, LogErrorKind};

/// The form of a log.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum LogForm {
    /// A row for each reading (RFC 4180).
    Csv,
    /// An object for each measurement.
    JsonLines,
    /// A SenML pack for each measurement (RFC 8428, section 5), a line each.
    Senml,
    /// The same in CBOR (section 6), one behind the other: a CBOR sequence (RFC 8742).
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
    ///
    /// # Errors
    /// The extension is unknown.
    pub fn of(path: &Path) -> Result<Self, LogError> {
        let ending = path.extension().map(|ending| ending.to_string_lossy().to_ascii_lowercase()).unwrap_or_default();
        let found = ENDINGS.iter().find(|(known, _)| *known == ending).map(|(_, form)| *form);
        found.ok_or_else(|| {
            let known: Vec<String> = ENDINGS.iter().map(|(ending, _)| format!(".{ending}")).collect();
            let why = format!("the file extension decides the format of a log: {}", known.join(", "));
            LogError::new(LogErrorKind::Format, format!("{}: {why}", path.display()))
        })
    }

    /// Whether records are lines of text.
    pub fn is_text(self) -> bool {
        self != LogForm::SenmlCbor
    }
}

//! Captures that cannot be read.

use std::fmt;
use std::io;

/// A capture that cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct CaptureError {
    /// Line of the text, or number of the packet, from 1; `None` if it is about the whole.
    pub line: Option<u64>,
    /// What is wrong.
    pub message: String,
    /// What to try.
    pub help: Option<String>,
}

impl CaptureError {
    pub(crate) fn new(message: impl Into<String>) -> Self {
        Self { line: None, message: message.into(), help: None }
    }

    pub(crate) fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }

    pub(crate) fn at(mut self, line: u64) -> Self {
        self.line = Some(line);
        self
    }

    pub(crate) fn reading(error: &io::Error) -> Self {
        Self::new(format!("cannot read the capture: {error}"))
    }
}

impl fmt::Display for CaptureError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.line.iter().try_for_each(|line| write!(f, "line {line}: "))?;
        f.write_str(&self.message)
    }
}

impl std::error::Error for CaptureError {}

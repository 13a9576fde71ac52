//! Captures that cannot be read.

use std::fmt;
use std::io;

use crate::options::Role;

/// Fact that a capture does not contain.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Tell {
    /// The lines of a bus, by their names in the capture; empty if any line must be named.
    Lines(Vec<(Role, String)>),
    /// A column of a table, by its role: one of these headings.
    Column(&'static str, Vec<String>),
    /// The unit of time.
    Unit,
    /// Whether numbers are hex or decimal.
    Numbers,
    /// The baud rate of a serial line.
    Baud(u32),
    /// The parity of a serial line.
    Parity,
}

impl fmt::Display for Tell {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Tell::Lines(lines) if lines.is_empty() => f.write_str("name the lines: scl and sda, or clk, mosi, miso and cs, or tx and rx"),
            Tell::Lines(lines) => {
                let text: Vec<String> = lines.iter().map(|(role, name)| format!("{} is {name}", role.as_str())).collect();
                write!(f, "say that {}", text.join(" and "))
            }
            Tell::Column(role, headings) => write!(f, "name the column for {role}; the table has {}", headings.join(", ")),
            Tell::Unit => f.write_str("give the unit of time, or put it into the heading: `time [s]`"),
            Tell::Numbers => f.write_str("say whether numbers are hex or decimal"),
            Tell::Baud(baud) => write!(f, "the shortest pulse is a bit at {baud} baud"),
            Tell::Parity => f.write_str("the parity may differ"),
        }
    }
}

/// A capture that cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct CaptureError {
    /// Line of the text, or number of the packet, from 1; `None` if it is about the whole.
    pub line: Option<u64>,
    /// Description.
    pub message: String,
    /// Suggestion.
    pub help: Option<String>,
    /// Missing fact.
    pub tell: Option<Tell>,
}

impl CaptureError {
    pub(crate) fn new(message: impl Into<String>) -> Self {
        Self { line: None, message: message.into(), help: None, tell: None }
    }

    pub(crate) fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }

    /// A missing fact would help.
    pub(crate) fn tell(mut self, tell: Tell) -> Self {
        self.help = Some(tell.to_string());
        self.tell = Some(tell);
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

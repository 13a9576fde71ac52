//! What a routine asks for, and what is answered.

use crate::bus::Operation;
use crate::model::ids::RegisterId;

/// What a routine asks for next.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Request {
    /// What is to be done. A transfer is answered by [`Answer::Bytes`], or [`Answer::Done`] where nothing comes back; a wait by
    /// [`Answer::Done`]; a line by [`Answer::Done`] or [`Answer::TimedOut`].
    pub operation: Operation,
    /// What it is for, in words.
    pub meaning: String,
    /// Name of the routine.
    pub routine: String,
    /// Line of the step in the sheet, from 1.
    pub line: usize,
    /// Microseconds since the beginning: the soonest, and the latest.
    pub at: (u64, u64),
    /// The register that the transfer writes, if it is a write of one.
    pub writes: Option<RegisterId>,
    /// In a dry run, the condition under which it is done at all.
    pub only_if: Option<String>,
}

impl Request {
    /// An operation that no routine asks for.
    pub fn raw(operation: Operation, meaning: &str) -> Self {
        Self { operation, meaning: meaning.to_owned(), routine: String::new(), line: 0, at: (0, 0), writes: None, only_if: None }
    }
}

/// What came of what was asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answer<'b> {
    /// It is done.
    Done,
    /// These bytes came.
    Bytes(&'b [u8]),
    /// The part did not acknowledge, or nothing came.
    Nak,
    /// The line did not come to its level.
    TimedOut,
    /// Nobody did anything: a dry run goes on assuming a normal response.
    Assumed,
}

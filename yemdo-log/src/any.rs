//! A log of either kind: raw frames, or measurements.

use std::collections::BTreeMap;
use std::io::BufRead;

use yemdo::record::LogReader;
use yemdo::{FrameId, Part, State};

use crate::error::{LogError, LogErrorKind};
use crate::raw::RawFrames;
use crate::read::{LogEntries, form_of};
use crate::records::{LogFrames, LogStep};
use crate::time::Clocks;

/// A log of either kind, told apart by its content: lines of raw frames or bus traffic, or measurements that were logged.
#[derive(Debug)]
pub struct AnyLog<R>(Kind<R>);

#[derive(Debug)]
enum Kind<R> {
    Frames(Box<RawFrames<R>>),
    Measured(Box<LogFrames<R>>),
}

impl<R: BufRead> AnyLog<R> {
    /// Detects the format of a log. `name` is its name for the part, `frame` the frame of unnamed bytes, `state` the initial state;
    /// settings in `set` (`NAME=VALUE`) override those of the log.
    ///
    /// # Errors
    /// The input cannot be read; or `name` is given and the log names no parts.
    pub fn open(
        mut input: R,
        part: &Part,
        frame: Option<FrameId>,
        name: Option<&str>,
        state: &State,
        set: &[String],
        clocks: &Clocks,
    ) -> Result<Self, LogError> {
        let first = input.fill_buf().map_err(|error| LogError::reading(&error))?;
        match form_of(first) {
            Some(form) => {
                let frames = LogFrames::new(LogEntries::new(input, form), part, name, frame, clocks.clone()).with_state(state, set);
                Ok(Self(Kind::Measured(Box::new(frames))))
            }
            None if name.is_some() => {
                let message = "--part is for logs of `yemdo read`; this log does not name parts";
                Err(LogError::new(LogErrorKind::Name, message))
            }
            None => Ok(Self(Kind::Frames(Box::new(RawFrames::new(input, LogReader::new(part, frame).with_state(state)))))),
        }
    }

    /// The next frame, refusal or change of settings; `None` at the end.
    ///
    /// # Errors
    /// The input cannot be read, is no log, or is of another part.
    pub fn next_step(&mut self) -> Result<Option<LogStep>, LogError> {
        match &mut self.0 {
            Kind::Frames(log) => Ok(log.next_frame()?.map(LogStep::Frame)),
            Kind::Measured(log) => log.next_step(),
        }
    }

    /// Bytes taken so far, for progress.
    pub fn taken(&self) -> u64 {
        match &self.0 {
            Kind::Frames(log) => log.taken(),
            Kind::Measured(log) => log.taken(),
        }
    }

    /// Measurements that had failed already when the log was written, by cause.
    pub fn failed(&self) -> Option<&BTreeMap<String, u64>> {
        match &self.0 {
            Kind::Frames(_) => None,
            Kind::Measured(log) => Some(log.failed()).filter(|failed| !failed.is_empty()),
        }
    }
}

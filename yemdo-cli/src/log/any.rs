//! A log of either kind: raw frames, or measurements.

use std::io::{BufRead, Write};

use yemdo::record::LogReader;
use yemdo::{FrameId, Part, State};

use super::read::{LogEntries, is_log};
use super::records::{LogFrames, Step};
use super::time::Clocks;
use crate::failure::Failure;
use crate::input::Log;
use crate::show::number::count;

/// A log of raw frames, or one of measurements.
pub(crate) enum AnyLog<R> {
    Frames(Box<Log<R>>),
    Measured(Box<LogFrames<R>>),
}

impl<R: BufRead> AnyLog<R> {
    /// Detects the format of a log. `name` is its name for the part, `frame` the frame of unnamed bytes, `state` the initial state.
    pub(crate) fn open(
        mut input: R,
        part: &Part,
        frame: Option<FrameId>,
        name: Option<&str>,
        state: &State,
        clocks: &Clocks,
    ) -> Result<Self, Failure> {
        let first = input.fill_buf().map_err(|error| Failure::told(format!("cannot read the log: {error}")))?;
        match is_log(first) {
            Some(form) => {
                let frames = LogFrames::new(LogEntries::new(input, form), part, name, frame, clocks.clone());
                Ok(AnyLog::Measured(Box::new(frames)))
            }
            None if name.is_some() => Err(Failure::told("--part is for logs of `yemdo read`; this log does not name parts")),
            None => Ok(AnyLog::Frames(Box::new(Log::new(input, LogReader::new(part, frame).with_state(state))))),
        }
    }

    pub(crate) fn next(&mut self) -> Result<Option<Step>, Failure> {
        match self {
            AnyLog::Frames(log) => Ok(log.next()?.map(Step::Frame)),
            AnyLog::Measured(log) => log.next(),
        }
    }

    /// Bytes taken so far.
    pub(crate) fn taken(&self) -> u64 {
        match self {
            AnyLog::Frames(log) => log.taken,
            AnyLog::Measured(log) => log.entries.taken,
        }
    }

    /// Says on standard error what had failed already when the log was written.
    pub(crate) fn tell_failed(&self) {
        if let AnyLog::Measured(log) = self
            && !log.failed.is_empty()
        {
            let all: u64 = log.failed.values().sum();
            let causes: Vec<String> = log.failed.iter().map(|(cause, count)| format!("{count} {}", yemdo::visible(cause))).collect();
            let _ = writeln!(anstream::stderr(), "{} failed when the log was recorded: {}", count(all, "measurement"), causes.join(", "));
        }
    }
}

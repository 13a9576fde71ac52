//! The frames of a log of measurements, to be decoded anew.

use std::collections::{BTreeMap, VecDeque};
use std::io::BufRead;

use yemdo::record::Record;
use yemdo::{FrameId, Part, visible};

use super::read::LogEntries;
use super::time::Clocks;
use crate::failure::Failure;

/// What comes next out of a log.
pub(crate) enum Step {
    /// A frame.
    Frame(Record),
    /// What is none, and why.
    Refused(u64, String),
    /// From here on this is set, and everything else as after a reset.
    State(Vec<(String, String)>),
}

/// The frames of one part in a log.
pub(crate) struct LogFrames<R> {
    pub(crate) entries: LogEntries<R>,
    part: Part,
    /// The part, as the log calls it.
    name: Option<String>,
    only: Option<FrameId>,
    clocks: Clocks,
    settings: Vec<(String, String)>,
    ready: VecDeque<Step>,
    /// Measurements that failed when the log was written, by cause.
    pub(crate) failed: BTreeMap<String, u64>,
}

impl<R: BufRead> LogFrames<R> {
    pub(crate) fn new(entries: LogEntries<R>, part: &Part, name: Option<&str>, only: Option<FrameId>, clocks: Clocks) -> Self {
        let (part, name) = (part.clone(), name.map(str::to_owned));
        Self { entries, part, name, only, clocks, settings: Vec::new(), ready: VecDeque::new(), failed: BTreeMap::new() }
    }

    /// The next frame or change of settings; `None` at the end.
    pub(crate) fn next(&mut self) -> Result<Option<Step>, Failure> {
        loop {
            if let Some(step) = self.ready.pop_front() {
                return Ok(Some(step));
            }
            let Some((line, entry)) = self.entries.next()? else { return Ok(None) };
            let entry = match entry {
                Ok(entry) => entry,
                Err(why) => return Ok(Some(Step::Refused(line, why))),
            };
            match &self.name {
                Some(name) if *name != entry.part => continue,
                None if entry.part != self.part.name() => {
                    let failure = Failure::told(format!("line {line} of the log is from part `{}`", visible(&entry.part)));
                    return Err(failure.help(format!("--part {} selects it", visible(&entry.part))));
                }
                _ => {}
            }
            if let Some(error) = entry.error {
                *self.failed.entry(error.cause).or_default() += 1;
                continue;
            }
            if entry.settings != self.settings {
                self.settings.clone_from(&entry.settings);
                self.ready.push_back(Step::State(entry.settings));
            }
            let time = Some(self.clocks.text(entry.time));
            for (name, bytes) in entry.frames {
                let frame = self.part.frame(&name);
                if let (Ok(frame), Some(only)) = (&frame, self.only)
                    && *frame != only
                    && self.part.frames().get(*frame).is_some_and(|frame| !frame.is_kept())
                {
                    continue;
                }
                self.ready.push_back(match frame {
                    Ok(frame) => {
                        let mut record = Record::new(frame, bytes);
                        (record.line, record.time) = (line, time.clone());
                        Step::Frame(record)
                    }
                    Err(error) => Step::Refused(line, error.message()),
                });
            }
        }
    }
}

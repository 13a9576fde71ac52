//! The frames of a log of measurements, for decoding them again.

use std::collections::{BTreeMap, VecDeque};
use std::io::BufRead;

use yemdo::configure::assume;
use yemdo::record::Record;
use yemdo::{FrameId, Part, State, visible};

use crate::entry::{EntryFrame, Settings};
use crate::error::{LogError, LogErrorKind};
use crate::read::LogEntries;
use crate::time::Clocks;

/// The next item of a log.
#[derive(Clone, Debug)]
pub enum LogStep {
    /// A frame.
    Frame(Record),
    /// Not a frame: its line and the reason.
    Refused(u64, String),
    /// From here on the part is in this state: adopt it.
    State(Box<State>),
}

/// The frames of one part in a log.
#[derive(Debug)]
pub struct LogFrames<R> {
    entries: LogEntries<R>,
    part: Part,
    /// The part, as the log calls it.
    name: Option<String>,
    only: Option<FrameId>,
    clocks: Clocks,
    /// The state before the log.
    before: State,
    /// What goes before all that the log says.
    set: Vec<String>,
    settings: Settings,
    /// The same as a state.
    state: State,
    /// Frames carry settings that other frames depend on; the state is given before each frame.
    brings: bool,
    ready: VecDeque<LogStep>,
    failed: BTreeMap<String, u64>,
}

impl<R: BufRead> LogFrames<R> {
    /// The frames of `part` in a log: of all its records, or of those that the log calls `name`; of one frame `only`, and of those
    /// that are read once.
    pub fn new(entries: LogEntries<R>, part: &Part, name: Option<&str>, only: Option<FrameId>, clocks: Clocks) -> Self {
        let (part, name, before) = (part.clone(), name.map(|name| visible(name).into_owned()), State::while_read(part));
        Self {
            entries,
            state: before.clone(),
            brings: part.brings_settings(),
            part,
            name,
            only,
            clocks,
            before,
            set: Vec::new(),
            settings: Settings::new(),
            ready: VecDeque::new(),
            failed: BTreeMap::new(),
        }
    }

    /// Begins with this state; of settings that the log names, those in `set` (`NAME=VALUE`) stay as they are given here.
    pub fn with_state(mut self, before: &State, set: &[String]) -> Self {
        (self.before, self.state, self.set) = (before.clone(), before.clone(), set.to_vec());
        self
    }

    /// The state in which the next frame came, where the decoder is not in it.
    fn tell_state(&mut self, settings: &Settings) -> Result<(), LogError> {
        let changed = *settings != self.settings;
        if changed {
            self.settings.clone_from(settings);
            let logged = settings.iter().map(|(name, value)| format!("{name}={value}"));
            self.state = assume(&self.part, &assume(&self.part, &self.before, logged)?, &self.set)?;
        }
        if changed || self.brings {
            self.ready.push_back(LogStep::State(Box::new(self.state.clone())));
        }
        Ok(())
    }

    /// Measurements that had failed when the log was written, by cause.
    pub fn failed(&self) -> &BTreeMap<String, u64> {
        &self.failed
    }

    /// Bytes taken so far, for progress.
    pub fn taken(&self) -> u64 {
        self.entries.taken()
    }

    /// The next frame or change of settings; `None` at the end.
    ///
    /// # Errors
    /// The input cannot be read, or the log is of another part.
    pub fn next_step(&mut self) -> Result<Option<LogStep>, LogError> {
        loop {
            if let Some(step) = self.ready.pop_front() {
                return Ok(Some(step));
            }
            let Some((line, entry)) = self.entries.next_entry()? else { return Ok(None) };
            let entry = match entry {
                Ok(entry) => entry,
                Err(why) => return Ok(Some(LogStep::Refused(line, why))),
            };
            match &self.name {
                Some(name) if *name != entry.part => continue,
                None if entry.part != self.part.name() => {
                    let message = format!("line {line} of the log is from part `{}`", visible(&entry.part));
                    let failure = LogError::new(LogErrorKind::Name, message);
                    return Err(failure.with_help(format!("--part {} selects it", visible(&entry.part))));
                }
                _ => {}
            }
            if let Some(error) = entry.error {
                *self.failed.entry(error.cause).or_default() += 1;
                continue;
            }
            let time = Some(self.clocks.text(entry.time));
            for EntryFrame { name, bytes, settings } in entry.frames {
                let frame = self.part.frame(&name);
                if let (Ok(frame), Some(only)) = (&frame, self.only)
                    && *frame != only
                    && !self.part.frames()[*frame].is_kept()
                {
                    continue;
                }
                self.tell_state(settings.as_ref().unwrap_or(&entry.settings))?;
                self.ready.push_back(match frame {
                    Ok(frame) => {
                        let mut record = Record::new(frame, bytes);
                        (record.line, record.time) = (line, time.clone());
                        LogStep::Frame(record)
                    }
                    Err(error) => LogStep::Refused(line, error.message()),
                });
            }
        }
    }
}

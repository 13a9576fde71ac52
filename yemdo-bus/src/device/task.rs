//! A request to a device, split into jobs for a loop to drive one after another. Blocking and async devices differ only in that loop.

use std::collections::VecDeque;

use yemdo::configure::{Configuration, WriteScope};
use yemdo::{FrameId, RegisterId, RoutineId};

use super::session::{Job, Session};
use crate::error::{Cause, DeviceError};

/// A request to a device.
#[derive(Clone, Debug)]
pub(crate) enum Task {
    /// The routine `measure`, or all frames that have readings; kept frames are read first.
    Measure,
    /// A routine.
    Run(RoutineId),
    /// A frame.
    Frame(FrameId),
    /// Registers.
    Registers(Vec<RegisterId>),
    /// Wishes as typed, and which registers are written for them.
    Configure(Vec<String>, WriteScope),
    /// Writes that were resolved before.
    Write(Box<Configuration>),
    /// A register, as given.
    Raw(RegisterId, u64),
}

/// A task under way.
#[derive(Debug)]
pub(crate) struct Progress {
    task: Task,
    jobs: VecDeque<Job>,
    /// The planned writes of a configuration, once the registers are read.
    planned: Option<Configuration>,
    tries_left: u32,
    /// The present job may fail.
    optional: bool,
}

impl Progress {
    /// Begins a task, with up to `retries` new attempts after transient failures.
    pub(crate) fn begin(session: &mut Session, task: Task, retries: u32) -> Result<Self, DeviceError> {
        let mut progress = Self { task, jobs: VecDeque::new(), planned: None, tries_left: retries, optional: false };
        progress.restart(session)?;
        Ok(progress)
    }

    fn restart(&mut self, session: &mut Session) -> Result<(), DeviceError> {
        self.planned = None;
        self.jobs = match &self.task {
            Task::Measure => {
                session.clear();
                session.jobs()?.into()
            }
            Task::Run(routine) => {
                session.clear();
                [Job::Routine(*routine)].into()
            }
            Task::Frame(frame) => {
                session.clear();
                [Job::Frame(*frame)].into()
            }
            Task::Registers(registers) => [Job::Registers(registers.clone())].into(),
            // Registers are read from the part first, since it may have been reset. Impossible wishes fail before that.
            Task::Configure(typed, _) => session.asked_first(typed)?.into_iter().collect(),
            Task::Write(done) => {
                self.planned = Some((**done).clone());
                [Job::Write(done.writes.clone())].into()
            }
            Task::Raw(register, value) => [Job::Raw(*register, *value)].into(),
        };
        if let Some(first) = session.doubtful().filter(|_| !self.jobs.is_empty()) {
            self.jobs.push_front(first);
        }
        Ok(())
    }

    /// The next job; `None` if all is done.
    pub(crate) fn next(&mut self, session: &mut Session) -> Result<Option<Job>, DeviceError> {
        if let (Task::Configure(typed, scope), false, true) = (&self.task, self.planned.is_some(), self.jobs.is_empty()) {
            let done = session.configuration(typed, *scope)?;
            self.jobs.push_back(Job::Write(done.writes.clone()));
            self.planned = Some(done);
        }
        let next = self.jobs.pop_front();
        self.optional = matches!(next, Some(Job::Inputs(_)));
        Ok(next)
    }

    /// Handles a failed job: restarts the task while attempts are left. Knowledge gained so far is kept. A part, or a recording of it, may
    /// refuse to give the inputs of readings.
    pub(crate) fn failed(&mut self, session: &mut Session, error: DeviceError) -> Result<(), DeviceError> {
        if self.optional && is_refusal(&error) {
            return Ok(());
        }
        session.lost(&error);
        if self.tries_left == 0 || !error.is_transient() {
            return Err(error);
        }
        self.tries_left -= 1;
        self.restart(session)
    }

    /// The result of a configuration.
    pub(crate) fn configured(self, session: &mut Session) -> Option<Configuration> {
        let done = self.planned?;
        session.configured(&done);
        Some(done)
    }
}

/// True if the part refuses a read, or a recording does not contain it.
fn is_refusal(error: &DeviceError) -> bool {
    let refuses = |cause: Cause| cause.is_silence() || matches!(cause, Cause::NakData | Cause::Exception(_) | Cause::OtherTraffic);
    matches!(error, DeviceError::Bus { error, .. } if refuses(error.cause))
}

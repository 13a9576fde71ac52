//! The state machine that runs a routine.

use std::collections::VecDeque;
use std::fmt;
use std::sync::Arc;

use super::failure::{Failure, RoutineError};
use super::queue::{Then, Work};
use super::request::{Answer, Request};
use crate::bus::{Bus, Operation};
use crate::formula::typed::Formula;
use crate::model::ids::{FrameId, RegisterId, RoutineId};
use crate::model::operation::Step;
use crate::model::part::Part;
use crate::model::state::State;
use crate::model::value::Present;
use crate::plan::reads::{ReadPlan, reads};
use crate::plan::routine::RoutinePlan;
use crate::plan::writes::Write;

/// Runs one routine.
///
/// ```
/// use yemdo::routine::{Answer, Operation, Runner};
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// i2c.address = 0x21
/// register.STATE = { at = 0, access = "read-only", field.READY = { bits = "[0]" } }
/// frame.LIGHT = { command = [0x10], read = 2, code = { light = "b0 b1" } }
/// reading.light = { unit = "lx", formula = "light" }
/// routine.measure = [{ write = [0x02] }, { poll = "READY", within = "20 ms" }, { read = "LIGHT" }]
/// "#)?;
/// let mut runner = Runner::new(&part, part.routine("measure")?, yemdo::State::reset(&part))?;
/// let mut answers = [Answer::Done, Answer::Bytes(&[0]), Answer::Done, Answer::Bytes(&[1]), Answer::Bytes(&[0x12, 0x34])].into_iter();
/// let mut request = runner.start()?;
/// while let Some(what) = request {
///     request = runner.answer(answers.next().unwrap())?;
/// }
/// assert_eq!(runner.frame(part.frame("LIGHT")?), Some(&[0x12u8, 0x34][..]));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct Runner {
    pub(super) part: Part,
    pub(super) bus: Bus,
    bits_per_second: u32,
    pub(super) plan: Arc<RoutinePlan>,
    /// What it began with: the routine, and the registers that its plan is made for.
    origin: Option<Arc<(RoutineId, State)>>,
    /// The state of the part so far.
    pub(super) state: State,
    /// Frames read so far, each once, ordered by their last read, each with the state at that time.
    read: Vec<(FrameId, State)>,
    /// The state before the current write. Until the write is acknowledged, its register is unknown.
    pub(super) unsure: Option<State>,
    /// Registers written so far, if they are readable.
    written: Vec<RegisterId>,
    pub(super) calls: Vec<Call>,
    /// What is read without a routine.
    pending: Pending,
    pub(super) work: VecDeque<Work>,
    outstanding: Option<(Work, Operation)>,
    /// Times that the outstanding transfer was tried.
    tries: u32,
    /// The bytes of a frame of several transfers so far.
    pub(super) gathered: Vec<u8>,
    /// What registers held before they were written to unlock others.
    pub(super) saved: Vec<(RegisterId, Option<u64>)>,
    pub(super) at: (u64, u64),
    /// Microseconds that the reads of the step under way take at the most, its tries counted.
    pub(super) looking: u64,
    pub(super) dry: bool,
    only_if: Vec<(usize, String)>,
}

/// A routine cannot be run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum NotRunnable {
    /// The id is of another part.
    UnknownRoutine,
    /// The id of the register is of another part.
    UnknownRegister,
    /// The sheet describes no bus.
    NoBus,
    /// The part is not reached over this bus.
    OtherBus(Bus),
}

impl fmt::Display for NotRunnable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            NotRunnable::UnknownRoutine => f.write_str("the part has no such routine"),
            NotRunnable::UnknownRegister => f.write_str("the part has no such register"),
            NotRunnable::NoBus => f.write_str("the sheet describes no bus: give it [i2c], [spi] or [modbus]"),
            NotRunnable::OtherBus(bus) => write!(f, "the part is not reached over {}", bus.name()),
        }
    }
}

impl std::error::Error for NotRunnable {}

/// A routine under way, and its next step.
#[derive(Clone, Copy, Debug)]
pub(super) struct Call {
    pub(super) routine: RoutineId,
    pub(super) step: usize,
    pub(super) done: u32,
}

/// What a runner without a routine reads.
#[derive(Clone, Debug, Default)]
enum Pending {
    #[default]
    Nothing,
    Registers(Vec<RegisterId>),
    Frame(FrameId),
    Raw(RegisterId, u64),
}

impl Runner {
    /// Prepares a routine for a part in this state. The bus is the first that the sheet describes.
    ///
    /// # Errors
    /// [`NotRunnable`].
    pub fn new(part: &Part, routine: RoutineId, state: State) -> Result<Self, NotRunnable> {
        part.routines.get(routine).ok_or(NotRunnable::UnknownRoutine)?;
        let plan = Arc::new(RoutinePlan::new(part, routine, &state));
        let origin = Some(Arc::new((routine, state.clone())));
        let calls = vec![Call { routine, step: 0, done: 0 }];
        Ok(Self { plan, origin, calls, ..Self::idle(part, state)? })
    }

    /// The same routine again, over the same bus, from another state. If its settings are those that this one began with, the plan is
    /// kept.
    ///
    /// # Errors
    /// [`NotRunnable::UnknownRoutine`]: this one runs no routine.
    pub fn again(&self, state: &State) -> Result<Self, NotRunnable> {
        let origin = self.origin.as_ref().ok_or(NotRunnable::UnknownRoutine)?;
        if !origin.1.has_same_settings(state) {
            return Self::new(&self.part, origin.0, state.clone())?.on_bus(self.bus, Some(self.bits_per_second));
        }
        Ok(Self {
            plan: Arc::clone(&self.plan),
            origin: Some(Arc::clone(origin)),
            calls: vec![Call { routine: origin.0, step: 0, done: 0 }],
            bits_per_second: self.bits_per_second,
            bus: self.bus,
            ..Self::idle(&self.part, state.clone())?
        })
    }

    /// Writes registers, as [`configure`](crate::configure::configure) worked them out, in that order. With `verify`, each is
    /// read back and compared, and the first that differs is a [`Failure::NotTaken`]. The bus is the first of the sheet.
    ///
    /// # Errors
    /// [`NotRunnable::NoBus`].
    pub fn writing(part: &Part, state: State, writes: &[Write], verify: bool) -> Result<Self, NotRunnable> {
        let mut runner = Self::idle(part, state)?;
        runner.push_writes(writes.to_vec(), verify, |register| format!("write {register}"));
        Ok(runner)
    }

    /// Writes a register as given, whatever its fields and reserved bits, and reads it back if it can be read. Its bank is selected
    /// for that. The bus is the first of the sheet.
    ///
    /// # Errors
    /// [`NotRunnable::NoBus`]; [`NotRunnable::UnknownRegister`].
    pub fn writing_raw(part: &Part, state: State, register: RegisterId, value: u64) -> Result<Self, NotRunnable> {
        part.registers.get(register).ok_or(NotRunnable::UnknownRegister)?;
        let mut runner = Self::idle(part, state)?;
        runner.pending = Pending::Raw(register, value);
        Ok(runner)
    }

    /// Reads registers. Those that are asked for one behind the other, and follow one another in the part, come in one transfer.
    /// The bus is the first of the sheet.
    ///
    /// # Errors
    /// [`NotRunnable::NoBus`].
    pub fn reading_registers(part: &Part, state: State, registers: &[RegisterId]) -> Result<Self, NotRunnable> {
        let mut runner = Self::idle(part, state)?;
        runner.pending = Pending::Registers(registers.to_vec());
        Ok(runner)
    }

    /// Reads a frame. The bus is the first of the sheet.
    ///
    /// # Errors
    /// [`NotRunnable::NoBus`].
    pub fn reading_frame(part: &Part, state: State, frame: FrameId) -> Result<Self, NotRunnable> {
        let mut runner = Self::idle(part, state)?;
        runner.pending = Pending::Frame(frame);
        Ok(runner)
    }

    /// Nothing to do yet.
    fn idle(part: &Part, state: State) -> Result<Self, NotRunnable> {
        let bus = part.buses.all().next().ok_or(NotRunnable::NoBus)?;
        Self {
            bus,
            bits_per_second: 0,
            plan: Arc::new(RoutinePlan::none(part)),
            origin: None,
            state,
            read: Vec::new(),
            unsure: None,
            written: Vec::new(),
            calls: Vec::new(),
            pending: Pending::Nothing,
            work: VecDeque::new(),
            outstanding: None,
            tries: 0,
            gathered: Vec::new(),
            saved: Vec::new(),
            at: (0, 0),
            looking: 0,
            dry: false,
            only_if: Vec::new(),
            part: part.clone(),
        }
        .on_bus(bus, None)
    }

    /// The same over another bus that the part has, at so many bits a second (which only matters for the times).
    ///
    /// # Errors
    /// [`NotRunnable::OtherBus`].
    pub fn on_bus(mut self, bus: Bus, bits_per_second: Option<u32>) -> Result<Self, NotRunnable> {
        let usual = self.part.buses.wire(bus).ok_or(NotRunnable::OtherBus(bus))?.usual_rate();
        self.bits_per_second = bits_per_second.unwrap_or(usual);
        self.bus = bus;
        Ok(self)
    }

    /// The same as a dry run: every answer is [`Answer::Assumed`], all that is done on a condition is shown.
    pub fn dry(mut self) -> Self {
        self.dry = true;
        self
    }

    /// All that a dry run asks for, and how long it takes in microseconds: the soonest, and the latest.
    ///
    /// # Errors
    /// [`RoutineError`].
    pub fn dry_run(mut self) -> Result<(Vec<Request>, (u64, u64)), RoutineError> {
        self.dry = true;
        let mut list = Vec::new();
        let mut next = self.start()?;
        while let Some(request) = next {
            list.push(request);
            next = self.answer(Answer::Assumed)?;
        }
        Ok((list, self.at))
    }

    /// The part, where it is by now: a routine may have given it another Modbus unit id.
    pub fn part(&self) -> &Part {
        &self.part
    }

    /// The state of the part so far.
    pub fn state(&self) -> &State {
        &self.state
    }

    /// The bytes of a frame as they came last.
    pub fn frame(&self, frame: FrameId) -> Option<&[u8]> {
        self.state.frame(frame)
    }

    /// Frames read so far, each once, ordered by their last read.
    pub fn frames_read(&self) -> impl Iterator<Item = FrameId> + '_ {
        self.read.iter().map(|(id, _)| *id)
    }

    /// Registers with an unacknowledged write: their values are unknown until they are read.
    pub fn unacknowledged(&self) -> impl Iterator<Item = RegisterId> + '_ {
        let unknown = |id: &RegisterId| self.part.registers.get(*id).is_some_and(|register| self.state.known_register(register).is_none());
        self.written.iter().copied().filter(unknown)
    }

    /// The state at the time of a frame's last read, for decoding the frame. Later writes are not in it.
    pub fn state_with(&self, frame: FrameId) -> Option<&State> {
        self.read.iter().find(|(id, _)| *id == frame).map(|(_, state)| state)
    }

    /// A frame came, and is good.
    pub(super) fn came(&mut self, frame: FrameId) {
        let bytes = std::mem::take(&mut self.gathered);
        self.state.take_frame(&self.part, frame, &bytes);
        self.gathered = bytes;
        self.read.retain(|(known, _)| *known != frame);
        self.read.push((frame, self.state.clone()));
    }

    /// Marks a written register as unknown. One that cannot be read keeps its value: it would stay unknown forever.
    fn doubt(&mut self, id: RegisterId) {
        if let Some(register) = self.part.registers.get(id).filter(|register| register.access.is_readable()) {
            self.state.forget_register(register);
            self.written.push(id);
        }
    }

    /// Microseconds since the beginning, the soonest and the latest: of all that was asked so far.
    pub fn elapsed(&self) -> (u64, u64) {
        self.at
    }

    /// What is to be done first; `None` where nothing is.
    ///
    /// # Errors
    /// [`RoutineError`].
    pub fn start(&mut self) -> Result<Option<Request>, RoutineError> {
        // Only now is it known over which bus, and with which parameters.
        match std::mem::take(&mut self.pending) {
            Pending::Nothing => {}
            Pending::Registers(registers) => self.push_registers(&registers)?,
            Pending::Raw(register, value) => self.push_raw(register, value)?,
            Pending::Frame(frame) => {
                let planned = reads(&self.part, &mut self.state.clone(), &[ReadPlan::Frame(frame)]);
                let planned = planned.map_err(|unreachable| self.error(unreachable.into()))?;
                self.push_reads(&planned, "")?;
            }
        }
        self.go_on()
    }

    /// Takes what came of what was asked last, and says what is next; `None` when the routine is done.
    ///
    /// # Errors
    /// [`RoutineError`]; the routine is over then.
    pub fn answer(&mut self, answer: Answer<'_>) -> Result<Option<Request>, RoutineError> {
        let Some((work, operation)) = self.outstanding.take() else { return Ok(None) };
        match (work, answer) {
            // Whoever is given another unit id or speed may not answer any more; whether it took it, the comparison tells.
            (Work::Transfer { then: Then::Wrote { register, left, moves: Some(moves) }, .. }, Answer::Nak) => {
                self.wrote(register, left, Some(moves));
                self.doubt(register);
            }
            (Work::Transfer { then: Then::Compare { register, before, written, back: Some(back) }, .. }, Answer::Nak) => {
                self.look_back(register, Then::Compare { register, before, written, back: None }, back);
            }
            (Work::Transfer { transfer, then, meaning }, Answer::Nak) => {
                let retry = self.step().map_or(0, |step| step.retry);
                let every = self.every()?;
                self.tries += 1;
                if self.tries > retry {
                    let tries = std::mem::take(&mut self.tries);
                    if self.step().is_some_and(|step| step.may_nak) {
                        return self.go_on();
                    }
                    return Err(self.error(Failure::NoAnswer { tries }));
                }
                self.work.push_front(Work::Transfer { transfer, then, meaning });
                self.work.push_front(Work::Wait { micros: every, meaning: "before the next try".into() });
            }
            (Work::Transfer { transfer, then, .. }, Answer::Done | Answer::Bytes(_) | Answer::Assumed) => {
                self.tries = 0;
                let bytes = if let Answer::Bytes(bytes) = answer { bytes } else { &[] };
                self.take(&transfer, then, bytes, answer == Answer::Assumed)?;
            }
            (Work::Wait { .. } | Work::Line { .. } | Work::Baud(_), Answer::Done | Answer::Assumed) => {}
            (Work::Line { within, .. }, Answer::TimedOut | Answer::Nak) => {
                return Err(self.error(Failure::TimedOut { waited_for: "the data-ready line".into(), micros: within }));
            }
            (work, _) => {
                self.outstanding = Some((work, operation));
                return Err(self.error(Failure::WrongAnswer));
            }
        }
        self.go_on()
    }

    pub(super) fn error(&self, failure: Failure) -> RoutineError {
        let (routine, line) = self.place();
        RoutineError { routine, line, failure }
    }

    fn place(&self) -> (String, usize) {
        let call = self.calls.last();
        let routine = call.and_then(|call| self.part.routines.get(call.routine));
        let step = routine.and_then(|routine| routine.steps.get(call?.step));
        let line = step.map_or(0, |step| self.part.source.line(step.span.start));
        (routine.map_or(String::new(), |routine| routine.name.clone()), line)
    }

    pub(super) fn step(&self) -> Option<&Step> {
        let call = self.calls.last()?;
        self.part.routines.get(call.routine)?.steps.get(call.step)
    }

    pub(super) fn present(&self) -> Present<'_> {
        Present { part: &self.part, state: &self.state }
    }

    pub(super) fn text(&self, formula: &Formula) -> String {
        self.part.typed(formula)
    }

    /// Goes on until something has to be done.
    fn go_on(&mut self) -> Result<Option<Request>, RoutineError> {
        loop {
            let Some(work) = self.work.pop_front() else {
                if !self.next_step()? {
                    return Ok(None);
                }
                continue;
            };
            let (operation, meaning) = match &work {
                Work::Judge { poll } => {
                    self.judge(*poll)?;
                    continue;
                }
                Work::Write { write, meaning, verify } => {
                    self.write(write, meaning, *verify)?;
                    continue;
                }
                Work::Transfer { transfer, meaning, .. } => (Operation::Transfer(transfer.clone()), meaning.clone()),
                Work::Wait { micros, meaning } => (Operation::Wait(*micros), meaning.clone()),
                Work::Baud(baud) => (Operation::Baud(*baud), "the line goes on at another speed".into()),
                Work::Line { high, within, meaning } => (Operation::Line { high: *high, within: *within }, meaning.clone()),
            };
            let (routine, line) = self.place();
            let only_if = self.only_if.last().map(|(_, text)| text.clone());
            let writes = match &work {
                Work::Transfer { then: Then::Wrote { register, .. }, .. } => Some(*register),
                _ => None,
            };
            let request = Request { operation, meaning, routine, line, at: self.at, writes, only_if };
            if let Some(register) = writes.filter(|_| self.unsure.is_none()) {
                self.unsure = Some(self.state.clone());
                self.doubt(register);
            }
            let (soonest, latest) = match &request.operation {
                Operation::Transfer(transfer) => {
                    let micros = transfer.micros(self.bits_per_second);
                    // Each try that a dry run is spared takes as long, and there is a wait before it.
                    let retries = self.step().filter(|_| self.dry).map_or(0, |step| u64::from(step.retry));
                    let spared = if retries > 0 { retries * (self.every()? + micros) } else { 0 };
                    self.looking += micros + spared;
                    (micros, micros + spared)
                }
                Operation::Wait(micros) => (*micros, *micros),
                Operation::Baud(_) => (0, 0),
                Operation::Line { within, .. } => (0, *within),
            };
            self.at.0 += if request.only_if.is_some() { 0 } else { soonest };
            self.at.1 += latest;
            self.outstanding = Some((work, request.operation.clone()));
            return Ok(Some(request));
        }
    }

    /// Puts the work of the next step into the queue; `false` where there is none.
    fn next_step(&mut self) -> Result<bool, RoutineError> {
        // The step that is done now: again, or the next one.
        let Some(call) = self.calls.last_mut() else { return Ok(false) };
        let routine = self.part.routines.get(call.routine);
        if call.done > 0 {
            let repeat = routine.and_then(|routine| routine.steps.get(call.step)).map_or(1, |step| step.repeat);
            if call.done >= repeat {
                (call.step, call.done) = (call.step + 1, 0);
            }
        }
        let depth = self.calls.len();
        self.only_if.retain(|(at, _)| *at < depth);
        let part = self.part.clone();
        let at = self.calls.last().copied();
        let step = at.and_then(|call| part.routines.get(call.routine)?.steps.get(call.step));
        let Some((call, step)) = self.calls.last_mut().zip(step) else {
            self.calls.pop();
            return Ok(!self.calls.is_empty());
        };
        call.done += 1;
        if let Some(condition) = &step.when {
            if self.dry && !self.is_known(condition) {
                self.only_if.push((depth, self.text(condition)));
            } else if self.compute(condition)? == 0.0 {
                self.calls.last_mut().into_iter().for_each(|call| call.done = step.repeat);
                return Ok(true);
            }
        }
        self.begin(step, at)?;
        Ok(true)
    }
}

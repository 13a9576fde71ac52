//! The state machine that runs a routine.

use std::collections::VecDeque;
use std::fmt;

use super::failure::{Failure, RoutineError};
use super::request::{Answer, Request};
use crate::bus::{Bus, Operation, Transfer};
use crate::formula::typed::Formula;
use crate::ground::list::Id;
use crate::model::command::NotSent;
use crate::model::ids::{FieldId, FrameId, RegisterId, RoutineId};
use crate::model::input::{Input, inputs};
use crate::model::operation::{Action, Step, Time};
use crate::model::part::Part;
use crate::model::registers::Settings;
use crate::model::value::Present;
use crate::plan::routine::{ReadPlan, RoutinePlan, StepPlan};
use crate::plan::transfers::{NotReadable, operations, read_registers, write_register};
use crate::plan::writes::{Write, WriteReason, value_to_write};

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
/// let mut runner = Runner::new(&part, part.routine("measure")?, yemdo::Settings::reset(&part))?;
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
    plan: RoutinePlan,
    pub(super) settings: Settings,
    parameters: Vec<f64>,
    pub(super) last: Vec<Option<Vec<u8>>>,
    calls: Vec<Call>,
    work: VecDeque<Work>,
    outstanding: Option<(Work, Operation)>,
    /// Times that the outstanding transfer was tried.
    tries: u32,
    /// The bytes of a frame of several transfers so far.
    pub(super) gathered: Vec<u8>,
    /// What registers held before they were written to unlock others.
    saved: Vec<(RegisterId, u64)>,
    at: (u64, u64),
    /// Microseconds that the reads of the step under way take at the most, its tries counted.
    looking: u64,
    dry: bool,
    /// In a dry run, the registers that were read, and of which nobody knows what they hold.
    pub(super) unread: Vec<RegisterId>,
    only_if: Vec<(usize, String)>,
}

/// A routine cannot be run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum NotRunnable {
    /// The id is of another part.
    UnknownRoutine,
    /// The sheet describes no bus.
    NoBus,
    /// The part is not reached over this bus.
    OtherBus(Bus),
}

impl fmt::Display for NotRunnable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            NotRunnable::UnknownRoutine => f.write_str("the part has no such routine"),
            NotRunnable::NoBus => f.write_str("the sheet describes no bus: give it [i2c], [spi] or [modbus]"),
            NotRunnable::OtherBus(bus) => write!(f, "the part is not reached over {}", bus.name()),
        }
    }
}

impl std::error::Error for NotRunnable {}

/// A routine under way, and its next step.
#[derive(Clone, Copy, Debug)]
struct Call {
    routine: RoutineId,
    step: usize,
    done: u32,
}

#[derive(Clone, Debug)]
enum Work {
    Transfer {
        transfer: Transfer,
        then: Then,
        meaning: String,
    },
    /// A register is written, with what it holds by then.
    Write {
        write: Write,
        meaning: String,
        verify: bool,
    },
    Wait {
        micros: u64,
        meaning: String,
    },
    Line {
        high: bool,
        within: u64,
        meaning: String,
    },
    Judge {
        poll: Option<u64>,
    },
}

/// What is done with the answer of a transfer.
#[derive(Clone, Debug)]
pub(super) enum Then {
    Nothing,
    /// It is not the answer yet.
    Discard,
    Register(RegisterId),
    Frame {
        frame: FrameId,
        first: bool,
        last: bool,
    },
    Wrote {
        register: RegisterId,
        after: u64,
    },
    Compare {
        register: RegisterId,
        before: Option<u64>,
        written: u64,
    },
}

impl Runner {
    /// Makes a routine ready; the part's registers are as `settings` says. The bus is the first that the sheet describes.
    ///
    /// # Errors
    /// [`NotRunnable`].
    pub fn new(part: &Part, routine: RoutineId, settings: Settings) -> Result<Self, NotRunnable> {
        part.routines.get(routine).ok_or(NotRunnable::UnknownRoutine)?;
        let bus = part.buses.all().next().ok_or(NotRunnable::NoBus)?;
        Self {
            bus,
            bits_per_second: 0,
            plan: RoutinePlan::new(part, routine, &settings),
            settings,
            parameters: part.parameters.iter().map(|parameter| parameter.default).collect(),
            last: vec![None; part.frames.len()],
            calls: vec![Call { routine, step: 0, done: 0 }],
            work: VecDeque::new(),
            outstanding: None,
            tries: 0,
            gathered: Vec::new(),
            saved: Vec::new(),
            at: (0, 0),
            looking: 0,
            dry: false,
            unread: Vec::new(),
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

    /// The same with other parameters than the defaults.
    pub fn with_parameters(mut self, parameters: &[f64]) -> Self {
        self.parameters = parameters.to_vec();
        self
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

    /// The registers as far as they are known.
    pub fn settings(&self) -> &Settings {
        &self.settings
    }

    /// The bytes of a frame as they came last.
    pub fn frame(&self, frame: FrameId) -> Option<&[u8]> {
        self.last.get(frame.index())?.as_deref()
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
        self.go_on()
    }

    /// Takes what came of what was asked last, and says what is next; `None` when the routine is done.
    ///
    /// # Errors
    /// [`RoutineError`]; the routine is over then.
    pub fn answer(&mut self, answer: Answer<'_>) -> Result<Option<Request>, RoutineError> {
        let Some((work, operation)) = self.outstanding.take() else { return Ok(None) };
        match (work, answer) {
            (Work::Transfer { transfer, then, meaning }, Answer::Nak) => {
                let retry = self.step().map_or(0, |step| step.retry);
                let every = self.every()?;
                self.tries += 1;
                if self.tries > retry {
                    let tries = self.tries;
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
            (Work::Wait { .. } | Work::Line { .. }, Answer::Done | Answer::Assumed) => {}
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
        let line = step.map_or(0, |step| self.part.source.line_column(step.span.start).0);
        (routine.map_or(String::new(), |routine| routine.name.clone()), line)
    }

    fn step(&self) -> Option<&Step> {
        let call = self.calls.last()?;
        self.part.routines.get(call.routine)?.steps.get(call.step)
    }

    fn present(&self) -> Present<'_> {
        Present { part: &self.part, settings: &self.settings, parameters: &self.parameters, last: &self.last }
    }

    fn text(&self, formula: &Formula) -> String {
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
                Work::Line { high, within, meaning } => (Operation::Line { high: *high, within: *within }, meaning.clone()),
            };
            let (routine, line) = self.place();
            let only_if = self.only_if.last().map(|(_, text)| text.clone());
            let request = Request { operation, meaning, routine, line, at: self.at, only_if };
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

    fn compute(&self, formula: &Formula) -> Result<f64, RoutineError> {
        self.present().compute(formula).map_err(|_| self.error(Failure::NoValue { formula: self.text(formula) }))
    }

    /// In a dry run: whether a condition is about nothing but fields that nobody has assumed to be read.
    fn is_known(&self, condition: &Formula) -> bool {
        let assumed = |field: FieldId| self.part.homes(field).any(|home| self.unread.contains(&home));
        inputs(condition).all(|input| !input.comes_with_frames() && !input.field().is_some_and(assumed))
    }

    fn begin(&mut self, step: &Step, call: Option<Call>) -> Result<(), RoutineError> {
        self.looking = 0;
        let means = |default: String| step.means.clone().unwrap_or(default);
        let planned = call.and_then(|call| self.plan.step(call.routine, call.step)).cloned().unwrap_or(StepPlan::Nothing);
        match planned {
            StepPlan::Send => {
                let meaning = means("a command".into());
                let bytes = match &step.action {
                    Action::Write(command) => command.now(&self.present()).map_err(|error| self.not_sent(error))?,
                    _ => Vec::new(),
                };
                let transfers = self.part.buses.wire(self.bus).map_or(Vec::new(), |wire| wire.send(&bytes, 0));
                self.work.extend(transfers.into_iter().map(|transfer| Work::Transfer {
                    transfer,
                    then: Then::Nothing,
                    meaning: meaning.clone(),
                }));
            }
            StepPlan::Set(writes) => self.begin_set(step, writes),
            StepPlan::Read(reads) => match &step.action {
                Action::Poll { condition, .. } => {
                    let text = self.text(condition);
                    self.push_reads(&reads, &means(format!("until {text}")))?;
                    self.work.push_back(Work::Judge { poll: Some(0) });
                }
                Action::Expect(condition) => {
                    let text = self.text(condition);
                    self.push_reads(&reads, &means(format!("expect {text}")))?;
                    self.work.push_back(Work::Judge { poll: None });
                }
                _ => self.push_reads(&reads, &means(String::new()))?,
            },
            StepPlan::Refused(unreachable) => return Err(self.error(unreachable.into())),
            StepPlan::Nothing => match &step.action {
                Action::Wait { time, tolerance } => {
                    let micros = self.micros(time)?;
                    let longer = (micros as f64 * tolerance).ceil() as u64;
                    let reason = match time {
                        Time::Formula(formula) => format!("wait {}", self.text(formula)),
                        Time::Fixed(_) => "wait".into(),
                    };
                    let reason = if longer > 0 { format!("{reason}, and {} % more", tolerance * 100.0) } else { reason };
                    self.work.push_back(Work::Wait { micros: micros.saturating_add(longer), meaning: means(reason) });
                }
                Action::Line { high, within } => {
                    let within = self.micros(within)?;
                    let meaning = means(format!("until the data-ready line is {}", if *high { "high" } else { "low" }));
                    self.work.push_back(Work::Line { high: *high, within, meaning });
                }
                Action::Run(routine) => self.calls.push(Call { routine: *routine, step: 0, done: 0 }),
                _ => {}
            },
        }
        Ok(())
    }

    fn begin_set(&mut self, step: &Step, writes: Vec<Write>) {
        let (fields, verify) = match &step.action {
            Action::Set { fields, verify } => (fields.as_slice(), *verify),
            _ => (&[] as &[(FieldId, i128)], false),
        };
        let what: Vec<String> = fields.iter().filter_map(|(field, code)| self.part.setting_text(*field, *code)).collect();
        self.saved.clear();
        // What no register holds is so from now on; nothing is sent for it.
        for (field, code) in fields.iter().filter(|(field, _)| self.part.is_unstored(*field)) {
            self.part.fields.get(*field).into_iter().for_each(|field| self.settings.set_field(field, *code));
        }
        for write in writes {
            let name = self.part.registers.get(write.register).map_or("", |register| register.name.as_str());
            let meaning = match write.reason {
                Some(WriteReason::Unlocks) => format!("{name}: temporary, to unlock another register"),
                Some(WriteReason::Restores) => format!("{name}: restored"),
                None if what.is_empty() => step.means.clone().unwrap_or_else(|| format!("write {name}")),
                None => step.means.clone().unwrap_or_else(|| format!("{name}: {}", what.join(", "))),
            };
            let verify = verify && write.reason.is_none();
            self.work.push_back(Work::Write { write, meaning, verify });
        }
    }

    /// Writes a register: what it holds by now, with the fields that the step sets.
    fn write(&mut self, write: &Write, meaning: &str, verify: bool) -> Result<(), RoutineError> {
        let part = self.part.clone();
        let Some(register) = part.registers.get(write.register) else { return Ok(()) };
        let held = self.settings.register(register);
        let mut image = self.settings.clone();
        match write.reason {
            Some(WriteReason::Unlocks) if !self.saved.iter().any(|(saved, _)| *saved == write.register) => {
                self.saved.push((write.register, held));
            }
            Some(WriteReason::Restores) => {
                let saved = self.saved.iter().find(|(saved, _)| *saved == write.register);
                image.set_register(register, saved.map_or(held, |(_, value)| *value));
            }
            Some(WriteReason::Unlocks) | None => {}
        }
        if write.sets.is_empty() && write.reason.is_none() {
            self.compute_fields(&register.fields, &mut image)?;
        }
        for (field, code) in &write.sets {
            part.fields.get(*field).into_iter().for_each(|field| image.set_field(field, *code));
        }
        let asked: Vec<FieldId> = write.sets.iter().map(|(field, _)| *field).collect();
        let (value, after) = value_to_write(&part, write.register, image.register(register), &asked);
        let mut next = Vec::new();
        if let Some(transfer) = write_register(&part, self.bus, register, value) {
            next.push(Work::Transfer { transfer, then: Then::Wrote { register: write.register, after }, meaning: meaning.to_owned() });
        }
        if verify && let Some(transfers) = read_registers(&part, self.bus, &[register]) {
            let then = Then::Compare { register: write.register, before: write.before.map(|_| held), written: value };
            next.extend(answered(transfers, then, &format!("{}: compare with what was written", register.name)));
        }
        next.into_iter().rev().for_each(|work| self.work.push_front(work));
        Ok(())
    }

    /// Works out anew what follows from parameters and other fields.
    fn compute_fields(&self, fields: &[FieldId], image: &mut Settings) -> Result<(), RoutineError> {
        for (field, formula) in self.part.fields.of(fields).filter_map(|field| Some((field, field.computed.as_ref()?))) {
            let code = field.computed_code(self.compute(formula)?);
            let code = code.ok_or_else(|| self.error(Failure::NoValue { formula: self.text(formula) }))?;
            image.set_field(field, code);
        }
        Ok(())
    }

    fn push_reads(&mut self, reads: &[ReadPlan], meaning: &str) -> Result<(), RoutineError> {
        let part = self.part.clone();
        for read in reads {
            let named = |name: &str| if meaning.is_empty() { format!("read {name}") } else { meaning.to_owned() };
            match *read {
                ReadPlan::Register(id) => {
                    let Some(register) = part.registers.get(id) else { continue };
                    let transfers = read_registers(&part, self.bus, &[register]).unwrap_or_default();
                    self.work.extend(answered(transfers, Then::Register(id), &named(&register.name)));
                }
                ReadPlan::Frame(id) => {
                    let Some(frame) = part.frames.get(id) else { continue };
                    let operations = operations(&self.present(), self.bus, frame);
                    self.push_frame(id, operations, &frame.name, &named(&frame.name))?;
                }
            }
        }
        Ok(())
    }

    /// A frame is read: transfers, and the waits between them.
    fn push_frame(
        &mut self,
        frame: FrameId,
        operations: Result<Vec<Operation>, NotReadable>,
        name: &str,
        meaning: &str,
    ) -> Result<(), RoutineError> {
        let operations = match operations {
            Ok(operations) => operations,
            Err(NotReadable::NotSent(error)) => return Err(self.not_sent(error)),
            // What comes over another bus of the part is not read over this one.
            Err(NotReadable::OtherBus(_)) => return Ok(()),
        };
        let answers =
            |operation: &Operation| matches!(operation, Operation::Transfer(transfer) if transfer.receive > 0 && !transfer.discard);
        let (first, last) = (operations.iter().position(answers), operations.iter().rposition(answers));
        for (at, operation) in operations.into_iter().enumerate() {
            match operation {
                Operation::Transfer(transfer) if transfer.receive == 0 && !transfer.discard => {
                    let meaning = format!("{name}: asks for it");
                    self.work.push_back(Work::Transfer { transfer, then: Then::Nothing, meaning });
                }
                Operation::Transfer(transfer) => {
                    let then = Then::Frame { frame, first: Some(at) == first, last: Some(at) == last };
                    self.work.extend(answered(vec![transfer], then, meaning));
                }
                Operation::Wait(micros) => self.work.push_back(Work::Wait { micros, meaning: format!("{name}: until it is there") }),
                Operation::Line { high, within } => self.work.push_back(Work::Line { high, within, meaning: meaning.to_owned() }),
            }
        }
        Ok(())
    }

    fn not_sent(&self, error: NotSent) -> RoutineError {
        self.error(Failure::NoValue { formula: error.formula })
    }

    /// Decides a condition from what was read.
    fn judge(&mut self, poll: Option<u64>) -> Result<(), RoutineError> {
        let part = self.part.clone();
        let call = self.calls.last().copied();
        let Some(step) = call.and_then(|call| part.routines.get(call.routine)?.steps.get(call.step)) else { return Ok(()) };
        let (condition, within) = match &step.action {
            Action::Poll { condition, within } => (condition, self.micros(within)?),
            Action::Expect(condition) => (condition, 0),
            _ => return Ok(()),
        };
        let every = self.every()?;
        if self.dry {
            // As often as the part may be looked at again, each time with its reads.
            self.at.1 += within / every * (every + self.looking);
            return Ok(());
        }
        match poll {
            _ if self.compute(condition)? != 0.0 => Ok(()),
            None => Err(self.error(Failure::Unexpected { condition: self.text(condition), found: self.found(condition) })),
            Some(elapsed) if elapsed + every > within => {
                Err(self.error(Failure::TimedOut { waited_for: self.text(condition), micros: within }))
            }
            Some(elapsed) => {
                self.work.push_back(Work::Wait { micros: every, meaning: "before the next look".into() });
                let meaning = step.means.clone().unwrap_or_else(|| format!("until {}", self.text(condition)));
                let planned = call.and_then(|call| self.plan.step(call.routine, call.step)).cloned();
                if let Some(StepPlan::Read(reads)) = planned {
                    self.push_reads(&reads, &meaning)?;
                }
                self.work.push_back(Work::Judge { poll: Some(elapsed + every) });
                Ok(())
            }
        }
    }

    /// What a condition was decided by.
    fn found(&self, condition: &Formula) -> Vec<(String, String)> {
        let one = |input: Input| {
            let (name, width) = match input {
                Input::Field(field) => self.part.fields.get(field).map(|field| (field.name.clone(), field.width()))?,
                Input::Column(field, column) => {
                    let field = self.part.fields.get(field)?;
                    (format!("{}.{}", field.name, field.columns.get(column)?.name), 0)
                }
                Input::Code(code) => self.part.codes.get(code).map(|code| (code.name.clone(), 0))?,
                _ => return None,
            };
            let value = self.present().input(input)?.to_f64();
            Some((name, if width > 3 { format!("0x{:X}", value as i64) } else { value.to_string() }))
        };
        inputs(condition).filter_map(one).collect()
    }

    /// From one look, or try, of the step under way to the next; never nothing.
    fn every(&self) -> Result<u64, RoutineError> {
        self.step().map_or(Ok(1), |step| self.micros(&step.every)).map(|every| every.max(1))
    }

    fn micros(&self, time: &Time) -> Result<u64, RoutineError> {
        time.micros(&self.present()).map_err(|error| self.not_sent(error))
    }
}

/// Transfers as work: what is done with the answer, and nothing with those that are not the answer yet.
fn answered(transfers: Vec<Transfer>, then: Then, meaning: &str) -> impl Iterator<Item = Work> + use<> {
    let meaning = meaning.to_owned();
    transfers.into_iter().map(move |transfer| match transfer.discard {
        true => {
            let meaning = format!("{meaning}: asks; the answer comes with the next transfer");
            Work::Transfer { transfer, then: Then::Discard, meaning }
        }
        false => Work::Transfer { transfer, then: then.clone(), meaning: meaning.clone() },
    })
}

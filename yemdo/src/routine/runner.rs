//! The state machine that runs a routine.

use std::collections::VecDeque;

use super::asked::{Answer, Asked, Operation};
use super::failure::{Failure, RoutineError};
use crate::configure::wire::{Bus, Transfer, plain, read_frame, read_registers, write_register};
use crate::configure::{Which, Why, Wish, configure};
use crate::formula::typed::Formula;
use crate::model::eval::Present;
use crate::model::operation::{Action, Step, Time};
use crate::model::part::{Input, Part};
use crate::model::registers::Settings;

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
/// "#).unwrap();
/// let mut runner = Runner::new(&part, 0, yemdo::Settings::reset(&part)).unwrap();
/// let mut answers = [Answer::Done, Answer::Bytes(&[0]), Answer::Done, Answer::Bytes(&[1]), Answer::Bytes(&[0x12, 0x34])].into_iter();
/// let mut asked = runner.start().unwrap();
/// while let Some(what) = asked {
///     asked = runner.answer(answers.next().unwrap()).unwrap();
/// }
/// assert_eq!(runner.frame(0), Some(&[0x12u8, 0x34][..]));
/// ```
#[derive(Clone, Debug)]
pub struct Runner<'p> {
    pub(super) part: &'p Part,
    pub(super) bus: Bus,
    bits_per_second: u32,
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
    at: (u64, u64),
    /// Microseconds that the reads of the step under way take at the most, its tries counted.
    looking: u64,
    dry: bool,
    /// In a dry run, the registers that were read, and of which nobody knows what they hold.
    pub(super) unread: Vec<usize>,
    only_if: Vec<(usize, String)>,
}

/// Bits a second, where nobody says otherwise.
fn usual_rate(part: &Part, bus: Bus) -> u32 {
    match bus {
        Bus::I2c => 400_000,
        Bus::Spi => 1_000_000,
        Bus::Modbus => part.modbus.as_ref().and_then(|modbus| modbus.baud).unwrap_or(19_200),
    }
}

/// A routine under way, and its next step.
#[derive(Clone, Copy, Debug)]
struct Call {
    routine: usize,
    step: usize,
    done: u32,
}

#[derive(Clone, Debug)]
enum Work {
    Transfer { transfer: Transfer, then: Then, meaning: String },
    Wait { micros: u64, meaning: String },
    Line { high: bool, within: u64, meaning: String },
    Judge { poll: Option<u64> },
}

/// What is done with the answer of a transfer.
#[derive(Clone, Debug)]
pub(super) enum Then {
    Nothing,
    Register(usize),
    Frame { frame: usize, first: bool, last: bool, skip: bool },
    Wrote { register: usize, after: u64 },
    Compare { register: usize, before: Option<u64>, written: u64 },
}

impl<'p> Runner<'p> {
    /// Makes a routine, named by its index in [`Part::routines`], ready; the part's registers are as `settings` says.
    /// The bus is the first that the sheet describes. `None` where there is no such routine, or no bus.
    pub fn new(part: &'p Part, routine: usize, settings: Settings) -> Option<Self> {
        part.routines.get(routine)?;
        let bus = Bus::of(part).first().copied()?;
        Some(Self {
            part,
            bus,
            bits_per_second: usual_rate(part, bus),
            settings,
            parameters: part.parameters.iter().map(|parameter| parameter.default).collect(),
            last: vec![None; part.frames.len()],
            calls: vec![Call { routine, step: 0, done: 0 }],
            work: VecDeque::new(),
            outstanding: None,
            tries: 0,
            gathered: Vec::new(),
            at: (0, 0),
            looking: 0,
            dry: false,
            unread: Vec::new(),
            only_if: Vec::new(),
        })
    }

    /// The same over another bus that the part has, at so many bits a second (which only matters for the times).
    pub fn over(mut self, bus: Bus, bits_per_second: Option<u32>) -> Self {
        self.bus = bus;
        self.bits_per_second = bits_per_second.unwrap_or(usual_rate(self.part, bus));
        self
    }

    /// The same with other parameters than the defaults.
    pub fn with_parameters(mut self, parameters: &[f64]) -> Self {
        self.parameters = parameters.to_vec();
        self
    }

    /// The same as a dry run: every answer is [`Answer::AsHoped`], all that is done on a condition is shown.
    pub fn dry(mut self) -> Self {
        self.dry = true;
        self
    }

    /// The registers as far as they are known.
    pub fn settings(&self) -> &Settings {
        &self.settings
    }

    /// The bytes of a frame as they came last.
    pub fn frame(&self, index: usize) -> Option<&[u8]> {
        self.last.get(index)?.as_deref()
    }

    /// Microseconds since the beginning, the soonest and the latest: of all that was asked so far.
    pub fn elapsed(&self) -> (u64, u64) {
        self.at
    }

    /// What is to be done first; `None` where nothing is.
    ///
    /// # Errors
    /// [`RoutineError`].
    pub fn start(&mut self) -> Result<Option<Asked>, RoutineError> {
        self.go_on()
    }

    /// Takes what came of what was asked last, and says what is next; `None` when the routine is done.
    ///
    /// # Errors
    /// [`RoutineError`]; the routine is over then.
    pub fn answer(&mut self, answer: Answer<'_>) -> Result<Option<Asked>, RoutineError> {
        let Some((work, operation)) = self.outstanding.take() else { return Ok(None) };
        match (work, answer) {
            (Work::Transfer { transfer, then, meaning }, Answer::Nak) => {
                let (retry, every) = self.step().map_or((0, 0), |step| (step.retry, step.every));
                self.tries += 1;
                if self.tries > retry {
                    let tries = self.tries;
                    return Err(self.error(Failure::NoAnswer { tries }));
                }
                self.work.push_front(Work::Transfer { transfer, then, meaning });
                self.work.push_front(Work::Wait { micros: every, meaning: "before the next try".into() });
            }
            (Work::Transfer { transfer, then, .. }, Answer::Done | Answer::Bytes(_) | Answer::AsHoped) => {
                self.tries = 0;
                let bytes = if let Answer::Bytes(bytes) = answer { bytes } else { &[] };
                self.take(&transfer, then, bytes, answer == Answer::AsHoped)?;
            }
            (Work::Wait { .. }, Answer::Done | Answer::AsHoped) | (Work::Line { .. }, Answer::Done | Answer::AsHoped) => {}
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
        (routine.map_or(String::new(), |routine| routine.name.clone()), step.map_or(0, |step| self.line(step)))
    }

    fn line(&self, step: &Step) -> usize {
        self.part.source.line_column(step.span.start).0
    }

    fn step(&self) -> Option<&'p Step> {
        let call = self.calls.last()?;
        self.part.routines.get(call.routine)?.steps.get(call.step)
    }

    fn present(&self) -> Present<'_> {
        Present { part: self.part, settings: &self.settings, parameters: &self.parameters, last: &self.last }
    }

    fn text(&self, formula: &Formula) -> String {
        self.part.source.slice(formula.span).trim().trim_matches('"').to_owned()
    }

    /// Goes on until something has to be done.
    fn go_on(&mut self) -> Result<Option<Asked>, RoutineError> {
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
                Work::Transfer { transfer, meaning, .. } => (Operation::Transfer(transfer.clone()), meaning.clone()),
                Work::Wait { micros, meaning } => (Operation::Wait(*micros), meaning.clone()),
                Work::Line { high, within, meaning } => (Operation::Line { high: *high, within: *within }, meaning.clone()),
            };
            let (routine, line) = self.place();
            let only_if = self.only_if.last().map(|(_, text)| text.clone());
            let asked = Asked { operation, meaning, routine, line, at: self.at, only_if };
            let (soonest, latest) = match &asked.operation {
                Operation::Transfer(transfer) => {
                    let micros = transfer.micros(self.bits_per_second);
                    // Each try that a dry run hopes to be spared takes as long, and there is a wait before it.
                    let spared = self.step().filter(|_| self.dry).map_or(0, |step| u64::from(step.retry) * (step.every + micros));
                    self.looking += micros + spared;
                    (micros, micros + spared)
                }
                Operation::Wait(micros) => (*micros, *micros),
                Operation::Line { within, .. } => (0, *within),
            };
            self.at.0 += if asked.only_if.is_some() { 0 } else { soonest };
            self.at.1 += latest;
            self.outstanding = Some((work, asked.operation.clone()));
            return Ok(Some(asked));
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
        let Some(step) = self.step() else {
            self.calls.pop();
            return Ok(!self.calls.is_empty());
        };
        if let Some(call) = self.calls.last_mut() {
            call.done += 1;
        }
        if let Some(condition) = &step.when {
            if self.dry && !self.is_known(condition) {
                self.only_if.push((depth, self.text(condition)));
            } else {
                let holds = self.present().value(condition).map_err(|_| self.error(Failure::NoValue { formula: self.text(condition) }))?;
                if holds == 0.0 {
                    if let Some(call) = self.calls.last_mut() {
                        call.done = step.repeat;
                    }
                    return Ok(true);
                }
            }
        }
        self.begin(step)?;
        Ok(true)
    }

    /// In a dry run: whether a condition is about nothing but fields that nobody has hoped to read.
    fn is_known(&self, condition: &Formula) -> bool {
        condition.inputs.iter().all(|input| match input {
            Input::Field(field) | Input::Column(field, _) => {
                !self.unread.iter().any(|read| self.part.registers.get(*read).is_some_and(|read| read.fields.contains(field)))
            }
            Input::Parameter(_) | Input::Quantity(_) => true,
            Input::Code(_) | Input::Reading(_) => false,
        })
    }

    fn begin(&mut self, step: &'p Step) -> Result<(), RoutineError> {
        self.looking = 0;
        let means = |default: String| step.means.clone().unwrap_or(default);
        match &step.action {
            Action::Write(bytes) => {
                let transfer = plain(self.part, self.bus, bytes, 0);
                self.work.push_back(Work::Transfer { transfer, then: Then::Nothing, meaning: means("a command".into()) });
            }
            Action::Set { fields, verify } => self.begin_set(step, fields, *verify)?,
            Action::ReadFrame(frame) => self.push_frame(*frame, &means(String::new())),
            Action::ReadRegisters(registers) => registers.iter().for_each(|register| self.push_register(*register, &means(String::new()))),
            Action::Wait { time, tolerance } => {
                let micros = self.micros(time)?;
                let longer = (micros as f64 * tolerance).ceil() as u64;
                let why = match time {
                    Time::Formula(formula) => format!("wait {}", self.text(formula)),
                    Time::Fixed(_) => "wait".into(),
                };
                let why = if longer > 0 { format!("{why}, and {} % more", tolerance * 100.0) } else { why };
                self.work.push_back(Work::Wait { micros: micros + longer, meaning: means(why) });
            }
            Action::Poll { condition, .. } => {
                let text = self.text(condition);
                self.push_reads(condition, &means(format!("until {text}")));
                self.work.push_back(Work::Judge { poll: Some(0) });
            }
            Action::Line { high, within } => {
                let within = self.micros(within)?;
                let meaning = means(format!("until the data-ready line is {}", if *high { "high" } else { "low" }));
                self.work.push_back(Work::Line { high: *high, within, meaning });
            }
            Action::Expect(condition) => {
                let text = self.text(condition);
                self.push_reads(condition, &means(format!("expect {text}")));
                self.work.push_back(Work::Judge { poll: None });
            }
            Action::Do(routine) => self.calls.push(Call { routine: *routine, step: 0, done: 0 }),
        }
        Ok(())
    }

    fn begin_set(&mut self, step: &Step, fields: &[(usize, i128)], verify: bool) -> Result<(), RoutineError> {
        let wishes: Vec<Wish> =
            fields.iter().map(|(field, code)| Wish::Field { field: *field, code: *code, typed: String::new() }).collect();
        let done = configure(self.part, &self.settings, &wishes, Which::All).map_err(|error| self.error(Failure::Settings(error)))?;
        let what: Vec<String> = fields.iter().filter_map(|(field, code)| self.part.setting_text(*field, *code)).collect();
        for write in &done.writes {
            let Some(register) = self.part.registers.get(write.register) else { continue };
            let transfer = write_register(self.part, self.bus, register, write.value);
            let meaning = match write.why {
                Some(Why::Opens) => format!("{}: opens the way", register.name),
                Some(Why::Restores) => format!("{}: as before", register.name),
                None => step.means.clone().unwrap_or_else(|| format!("{}: {}", register.name, what.join(", "))),
            };
            self.work.push_back(Work::Transfer { transfer, then: Then::Wrote { register: write.register, after: write.after }, meaning });
            if verify && write.why.is_none() {
                let transfer = read_registers(self.part, self.bus, &[register]);
                let then = Then::Compare { register: write.register, before: write.before, written: write.value };
                self.work.push_back(Work::Transfer { transfer, then, meaning: format!("{} reads as written?", register.name) });
            }
        }
        Ok(())
    }

    fn push_frame(&mut self, frame: usize, meaning: &str) {
        let Some(model) = self.part.frames.get(frame) else { return };
        let transfers = read_frame(self.part, self.bus, model);
        let count = transfers.len();
        let late = self.bus == Bus::Spi && self.part.spi.as_ref().is_some_and(|spi| spi.late);
        let meaning = if meaning.is_empty() { format!("read {}", model.name) } else { meaning.to_owned() };
        for (at, transfer) in transfers.into_iter().enumerate() {
            let skip = late && at == 0;
            let then = Then::Frame { frame, first: at == usize::from(late), last: at + 1 == count, skip };
            let meaning = if skip { format!("{meaning}: asks; the answer comes with the next transfer") } else { meaning.clone() };
            self.work.push_back(Work::Transfer { transfer, then, meaning });
        }
    }

    fn push_register(&mut self, register: usize, meaning: &str) {
        let Some(model) = self.part.registers.get(register) else { return };
        let transfer = read_registers(self.part, self.bus, &[model]);
        let meaning = if meaning.is_empty() { format!("read {}", model.name) } else { meaning.to_owned() };
        self.work.push_back(Work::Transfer { transfer, then: Then::Register(register), meaning });
    }

    /// Reads what a condition needs: the registers of its fields, the frames of its codes.
    fn push_reads(&mut self, condition: &Formula, meaning: &str) {
        let (mut registers, mut frames): (Vec<usize>, Vec<usize>) = (Vec::new(), Vec::new());
        for input in &condition.inputs {
            match input {
                Input::Field(field) => {
                    let holds = |index: &usize| self.part.registers.get(*index).is_some_and(|register| register.fields.contains(field));
                    registers.extend((0..self.part.registers.len()).filter(holds));
                }
                Input::Code(code) => frames.extend(self.part.codes.get(*code).map(|code| code.frame)),
                _ => {}
            }
        }
        registers.sort_unstable();
        registers.dedup();
        frames.dedup();
        registers.into_iter().for_each(|register| self.push_register(register, meaning));
        frames.into_iter().for_each(|frame| self.push_frame(frame, meaning));
    }

    /// Decides a condition from what was read.
    fn judge(&mut self, poll: Option<u64>) -> Result<(), RoutineError> {
        let Some(step) = self.step() else { return Ok(()) };
        let (condition, within) = match &step.action {
            Action::Poll { condition, within } => (condition, self.micros(within)?),
            Action::Expect(condition) => (condition, 0),
            _ => return Ok(()),
        };
        if self.dry {
            // As often as the part may be looked at again, each time with its reads.
            self.at.1 += within / step.every.max(1) * (step.every + self.looking);
            return Ok(());
        }
        let holds = self.present().value(condition).map_err(|_| self.error(Failure::NoValue { formula: self.text(condition) }))?;
        match poll {
            _ if holds != 0.0 => Ok(()),
            None => Err(self.error(Failure::Unexpected { condition: self.text(condition), found: self.found(condition) })),
            Some(elapsed) if elapsed + step.every > within => {
                Err(self.error(Failure::TimedOut { waited_for: self.text(condition), micros: within }))
            }
            Some(elapsed) => {
                self.work.push_back(Work::Wait { micros: step.every, meaning: "before the next look".into() });
                let text = self.text(condition);
                self.push_reads(condition, &step.means.clone().unwrap_or(format!("until {text}")));
                self.work.push_back(Work::Judge { poll: Some(elapsed + step.every) });
                Ok(())
            }
        }
    }

    /// What a condition was decided by.
    fn found(&self, condition: &Formula) -> Vec<(String, String)> {
        let one = |input: &Input| {
            let (name, width) = match input {
                Input::Field(field) => self.part.fields.get(*field).map(|field| (field.name.clone(), field.width()))?,
                Input::Code(code) => self.part.codes.get(*code).map(|code| (code.name.clone(), 0))?,
                _ => return None,
            };
            let value = self.present().input(*input)?.to_f64();
            Some((name, if width > 3 { format!("0x{:X}", value as i64) } else { value.to_string() }))
        };
        condition.inputs.iter().filter_map(one).collect()
    }

    fn micros(&self, time: &Time) -> Result<u64, RoutineError> {
        match time {
            Time::Fixed(micros) => Ok(*micros),
            Time::Formula(formula) => match self.present().value(formula) {
                Ok(ms) if (0.0..=3.6e6).contains(&ms) => Ok((ms * 1000.0).ceil() as u64),
                _ => Err(self.error(Failure::NoValue { formula: self.text(formula) })),
            },
        }
    }
}

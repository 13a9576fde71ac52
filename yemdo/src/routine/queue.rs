//! What a step puts into the queue: transfers, writes, waits, and what is done with their answers.

use super::failure::{Failure, RoutineError};
use super::runner::{Call, Runner};
use crate::bus::{Operation, Transfer};
use crate::model::command::NotSent;
use crate::model::ids::{FieldId, FrameId, RegisterId};
use crate::model::operation::{Action, Step, Time, longer};
use crate::model::registers::{Numbering, Register};
use crate::model::state::State;
use crate::plan::heard::{Left, left_by, unit_after};
use crate::plan::reads::{ReadPlan, groups};
use crate::plan::routine::StepPlan;
use crate::plan::transfers::{NotReadable, operations, read_registers, write_register};
use crate::plan::writes::{Write, WriteReason, value_to_write};

/// So many registers are read in one transfer at the most: a Modbus response holds 125.
const MOST_TOGETHER: usize = 31;

#[derive(Clone, Debug)]
pub(super) enum Work {
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
    Baud(u32),
}

/// What is done with the answer of a transfer.
#[derive(Clone, Debug)]
pub(super) enum Then {
    Nothing,
    /// It is not the answer yet.
    Discard,
    Register(RegisterId),
    /// Registers that follow one another.
    Registers(Vec<RegisterId>),
    Frame {
        frame: FrameId,
        first: bool,
        last: bool,
    },
    Wrote {
        register: RegisterId,
        left: Left,
        moves: Option<Moves>,
    },
    Compare {
        register: RegisterId,
        before: Option<u64>,
        written: u64,
        /// Where the part was before it was moved: it may be there still.
        back: Option<Moves>,
    },
}

/// Where a part answers: as which unit, at which speed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Moves {
    pub(super) unit: Option<u8>,
    pub(super) baud: Option<u32>,
}

impl Runner {
    pub(super) fn begin(&mut self, step: &Step, call: Option<Call>) -> Result<(), RoutineError> {
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
                    let longer = longer(micros, *tolerance);
                    let reason = match time {
                        Time::Formula(formula) => format!("wait {}", self.text(formula)),
                        Time::Fixed(_) => "wait".into(),
                    };
                    let reason = if longer > micros { format!("{reason}, and {} % more", tolerance * 100.0) } else { reason };
                    self.work.push_back(Work::Wait { micros: longer, meaning: means(reason) });
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

    pub(super) fn begin_set(&mut self, step: &Step, writes: Vec<Write>) {
        let (fields, verify) = match &step.action {
            Action::Set { fields, verify } => (fields.as_slice(), *verify),
            _ => (&[] as &[(FieldId, i128)], false),
        };
        let what: Vec<String> = fields.iter().filter_map(|(field, code)| self.part.setting_text(*field, *code)).collect();
        self.saved.clear();
        // What no register holds is so from now on; nothing is sent for it.
        for (field, code) in fields.iter().filter(|(field, _)| self.part.is_unstored(*field)) {
            self.part.fields.get(*field).into_iter().for_each(|field| self.state.set_field(field, *code));
        }
        let means = step.means.clone();
        self.push_writes(writes, verify, |name| match (&means, what.is_empty()) {
            (Some(means), _) => means.clone(),
            (None, true) => format!("write {name}"),
            (None, false) => format!("{name}: {}", what.join(", ")),
        });
    }

    /// Writes, each with what it is for: told by `meaning` from the register's name and what is written.
    pub(super) fn push_writes(&mut self, writes: Vec<Write>, verify: bool, meaning: impl Fn(&str) -> String) {
        for write in writes {
            let name = self.part.registers[write.register].name.as_str();
            let meaning = match write.reason {
                Some(WriteReason::Unlocks) => format!("{name}: temporary, to unlock another register"),
                Some(WriteReason::Restores) => format!("{name}: restored"),
                None => meaning(name),
            };
            let verify = verify && write.reason.is_none();
            self.work.push_back(Work::Write { write, meaning, verify });
        }
    }

    /// Reads registers, those that follow one another in one transfer.
    pub(super) fn push_registers(&mut self, ids: &[RegisterId]) -> Result<(), RoutineError> {
        let part = self.part.clone();
        self.saved.clear();
        for group in groups(&part, &self.state, ids).map_err(|unreachable| self.error(unreachable.into()))? {
            self.push_writes(group.before, false, |name| format!("write {name}"));
            self.push_bank(&group.registers);
            self.push_writes(group.after, false, |name| format!("write {name}"));
        }
        Ok(())
    }

    /// Writes a register as given, in its bank, and reads it back.
    pub(super) fn push_raw(&mut self, id: RegisterId, value: u64) -> Result<(), RoutineError> {
        let part = self.part.clone();
        let Some(register) = part.registers.get(id) else { return Ok(()) };
        self.saved.clear();
        let left = left_by(&part, &self.state, register, value);
        for group in groups(&part, &self.state, &[id]).map_err(|unreachable| self.error(unreachable.into()))? {
            self.push_writes(group.before, false, |name| format!("write {name}"));
            let transfer = write_register(&part, self.bus, register, value);
            self.work.extend(transfer.map(|transfer| Work::Transfer {
                transfer,
                then: Then::Wrote { register: id, left, moves: None },
                meaning: format!("write {}", register.name),
            }));
            if register.access.is_readable() {
                self.push_bank(&group.registers);
            }
            self.push_writes(group.after, false, |name| format!("write {name}"));
        }
        Ok(())
    }

    /// Reads registers of the selected bank.
    fn push_bank(&mut self, ids: &[RegisterId]) {
        let part = self.part.clone();
        let together = part.buses.auto_increment();
        let numbering = Numbering::of(&part);
        let mut runs: Vec<(Vec<RegisterId>, Vec<&Register>)> = Vec::new();
        for (id, register) in ids.iter().filter_map(|id| Some((*id, part.registers.get(*id)?))) {
            let follows = |last: &&Register| together && last.bank == register.bank && register.at == numbering.behind(last);
            let open = runs.last_mut().filter(|(_, run)| run.len() < MOST_TOGETHER && run.last().is_some_and(follows));
            match open {
                Some((ids, run)) => {
                    ids.push(id);
                    run.push(register);
                }
                None => runs.push((vec![id], vec![register])),
            }
        }
        for (ids, run) in runs {
            let name = |register: Option<&&Register>| register.map_or(String::new(), |register| register.name.clone());
            let meaning = match run.len() {
                1 => format!("read {}", name(run.first())),
                _ => format!("read {} to {}", name(run.first()), name(run.last())),
            };
            let transfers = read_registers(&part, self.bus, &run).unwrap_or_default();
            self.work.extend(answered(transfers, Then::Registers(ids), &meaning));
        }
    }

    /// Writes a register: what it holds by now, with the fields that the step sets.
    pub(super) fn write(&mut self, write: &Write, meaning: &str, verify: bool) -> Result<(), RoutineError> {
        let part = self.part.clone();
        let Some(register) = part.registers.get(write.register) else { return Ok(()) };
        let held = self.state.known_register(register);
        let mut image = self.state.clone();
        match write.reason {
            Some(WriteReason::Unlocks) if !self.saved.iter().any(|(saved, _)| *saved == write.register) => {
                // Known bits can be restored.
                let known = self.state.knows_any_of(register).then(|| self.state.register(register));
                self.saved.push((write.register, known));
            }
            Some(WriteReason::Restores) => {
                // Unknown values cannot be restored.
                let saved = self.saved.iter().find(|(saved, _)| *saved == write.register).map_or(held, |(_, value)| *value);
                let Some(saved) = saved else { return Ok(()) };
                image.set_register(register, saved);
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
        let value = value_to_write(&part, write.register, image.register(register), &asked);
        let left = left_by(&part, &self.state, register, value);
        let mut next = Vec::new();
        let moves = self.moves(register, left.value);
        if let Some(transfer) = write_register(&part, self.bus, register, value) {
            next.push(Work::Transfer {
                transfer,
                then: Then::Wrote { register: write.register, left, moves },
                meaning: meaning.to_owned(),
            });
        }
        next.extend(moves.and_then(|moves| moves.baud).map(Work::Baud));
        // From here on it answers as another.
        let moved = moves.and_then(|moves| moves.unit).map_or_else(|| part.clone(), |unit| part.clone().with_unit(unit));
        if verify
            && register.access.is_readable()
            && let Some(transfers) = read_registers(&moved, self.bus, &[register])
        {
            let back = moves.map(|moves| self.before(moves));
            let then = Then::Compare { register: write.register, before: held, written: value, back };
            next.extend(answered(transfers, then, &format!("{}: verify", register.name)));
        }
        next.into_iter().rev().for_each(|work| self.work.push_front(work));
        Ok(())
    }

    /// Whether a register that is written moves the part to another unit id, or to another speed.
    fn moves(&self, register: &Register, after: u64) -> Option<Moves> {
        let unit = unit_after(&self.part, &self.state, register, after);
        let mut then = self.state.clone();
        then.set_register(register, after);
        let field = self.part.baud_field.filter(|field| register.fields.contains(field));
        let baud = field.and_then(|field| self.part.baud_of(then.field(self.part.fields.get(field)?)));
        (unit.is_some() || baud.is_some()).then_some(Moves { unit, baud })
    }

    /// Where the part is before it is moved.
    fn before(&self, moves: Moves) -> Moves {
        let own = self.part.buses.modbus.as_ref().map(|modbus| modbus.unit_or_first());
        let speed = self.part.baud_field.and_then(|field| self.part.fields.get(field)).map(|field| self.state.field(field));
        let baud = speed.and_then(|code| self.part.baud_of(code)).or(self.part.buses.modbus.as_ref().and_then(|modbus| modbus.baud));
        Moves { unit: own.filter(|_| moves.unit.is_some()), baud: baud.filter(|_| moves.baud.is_some()) }
    }

    /// A part that does not answer where it was moved to may be where it was: it is looked for there.
    pub(super) fn look_back(&mut self, register: RegisterId, then: Then, back: Moves) {
        let mut part = self.part.clone();
        if let Some(unit) = back.unit {
            part = part.with_unit(unit);
        }
        self.part = part.clone();
        let Some(model) = part.registers.get(register) else { return };
        let transfers = read_registers(&part, self.bus, &[model]).unwrap_or_default();
        let meaning = format!("{}: is it where it was?", model.name);
        let work: Vec<Work> = back.baud.map(Work::Baud).into_iter().chain(answered(transfers, then, &meaning)).collect();
        work.into_iter().rev().for_each(|work| self.work.push_front(work));
    }

    /// Works out anew what follows from parameters and other fields.
    pub(super) fn compute_fields(&self, fields: &[FieldId], image: &mut State) -> Result<(), RoutineError> {
        for (field, formula) in self.part.fields.of(fields).filter_map(|field| Some((field, field.computed.as_ref()?))) {
            let code = field.computed_code(self.compute(formula)?);
            let code = code.ok_or_else(|| self.error(Failure::NoValue { formula: self.text(formula) }))?;
            image.set_field(field, code);
        }
        Ok(())
    }

    pub(super) fn push_reads(&mut self, reads: &[ReadPlan], meaning: &str) -> Result<(), RoutineError> {
        let part = self.part.clone();
        self.saved.clear();
        for read in reads {
            let named = |name: &str| if meaning.is_empty() { format!("read {name}") } else { meaning.to_owned() };
            match read.clone() {
                ReadPlan::Write(write) => self.push_writes(vec![write], false, |name| format!("write {name}")),
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
    pub(super) fn push_frame(
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
                Operation::Baud(baud) => self.work.push_back(Work::Baud(baud)),
                Operation::Line { high, within } => self.work.push_back(Work::Line { high, within, meaning: meaning.to_owned() }),
            }
        }
        Ok(())
    }

    pub(super) fn not_sent(&self, error: NotSent) -> RoutineError {
        self.error(Failure::NoValue { formula: error.formula })
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

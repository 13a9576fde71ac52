//! A routine's steps: writes in order, and reads.
//!
//! Planned before the routine runs. Fields that a step may set, or that are read from the part, are unknown at that time: registers that
//! depend on them are unlocked in any case.

use super::reads::{ReadPlan, reads, registers_of};
use super::writes::{Unreachable, Write, WriteScope, writes};
use crate::formula::typed::Formula;
use crate::ground::list::List;
use crate::model::ids::{FieldId, FrameId, RegisterId, RoutineId};
use crate::model::input::{Input, inputs};
use crate::model::operation::{Action, Step};
use crate::model::part::Sheet;
use crate::model::state::State;

/// Plans of the steps of a part's routines.
#[derive(Clone, Debug)]
pub(crate) struct RoutinePlan {
    /// For each routine that is reached, a plan for each of its steps.
    routines: List<RoutineId, Option<Vec<StepPlan>>>,
}

/// What one step does.
#[derive(Clone, Debug)]
pub(crate) enum StepPlan {
    /// The bytes of the step; they may depend on settings at run time.
    Send,
    /// These registers are written, in this order; with their values at run time.
    Set(Vec<Write>),
    /// These are read, and their banks selected.
    Read(Vec<ReadPlan>),
    /// Nothing: time passes, a line is watched, another routine runs.
    Nothing,
    /// The settings of the step cannot be written.
    Refused(Unreachable),
}

impl RoutinePlan {
    /// Plans a routine and those that it runs; the registers are as `start` says.
    pub(crate) fn new(part: &Sheet, routine: RoutineId, start: &State) -> Self {
        let mut reached = List::filled(part.routines.len(), |_| false);
        let touched = touched(part, routine, &mut reached);
        let changing = conditions(part).filter(|field| part.homes(*field).any(|home| touched.contains(&home))).collect();
        Self::planned(part, routine, start.clone(), changing)
    }

    /// Plans a routine for an unknown state: all banks and locks are set explicitly.
    pub(crate) fn for_any_state(part: &Sheet, routine: RoutineId) -> Self {
        let mut state = State::reset(part);
        let changing: Vec<FieldId> = conditions(part).collect();
        forget(part, &mut state, &changing);
        Self::planned(part, routine, state, changing)
    }

    fn planned(part: &Sheet, routine: RoutineId, state: State, changing: Vec<FieldId>) -> Self {
        let routines = List::filled(part.routines.len(), |_| None);
        let visits = List::filled(part.routines.len(), |_| 0);
        let mut planner = Planner { part, routines, visits, state, changing };
        planner.routine(routine);
        Self { routines: planner.routines }
    }

    /// No routine at all.
    pub(crate) fn none(part: &Sheet) -> Self {
        Self { routines: List::filled(part.routines.len(), |_| None) }
    }

    /// Plan of a step.
    pub(crate) fn step(&self, routine: RoutineId, step: usize) -> Option<&StepPlan> {
        self.routines.get(routine)?.as_ref()?.get(step)
    }
}

struct Planner<'a> {
    part: &'a Sheet,
    routines: List<RoutineId, Option<Vec<StepPlan>>>,
    /// How often each was come by.
    visits: List<RoutineId, u32>,
    /// The state of the part at this step, as far as it is predictable.
    state: State,
    /// Fields that registers depend on and that may hold something else after a routine has run.
    changing: Vec<FieldId>,
}

/// Fields that registers depend on.
fn conditions(part: &Sheet) -> impl Iterator<Item = FieldId> + '_ {
    part.registers.iter().flat_map(|register| register.bank.iter().chain(&register.writable)).map(|(field, _)| *field)
}

fn forget(part: &Sheet, state: &mut State, fields: &[FieldId]) {
    part.fields.of(fields).for_each(|field| state.forget_field(field));
}

/// The registers that a routine, and those that it runs, may write or read.
fn touched(part: &Sheet, routine: RoutineId, reached: &mut List<RoutineId, bool>) -> Vec<RegisterId> {
    let new = reached.get_mut(routine).filter(|reached| !**reached).map(|reached| *reached = true).is_some();
    let steps = part.routines.get(routine).filter(|_| new).map_or(&[] as &[Step], |routine| &routine.steps);
    let mut all = Vec::new();
    for step in steps {
        match &step.action {
            Action::Set { fields, .. } => all.extend(fields.iter().flat_map(|(field, _)| part.homes(*field))),
            Action::WriteRegisters(registers) => all.extend(registers),
            Action::Run(other) => all.extend(touched(part, *other, reached)),
            action => all.extend(registers_read(part, action)),
        }
    }
    all
}

/// The registers that a step itself reads.
pub(crate) fn registers_read(part: &Sheet, action: &Action) -> Vec<RegisterId> {
    match action {
        Action::ReadFrame(frame) => registers_of(part, &ReadPlan::Frame(*frame)),
        Action::ReadRegisters(registers) => registers.clone(),
        Action::Poll { condition, .. } | Action::Expect(condition) => {
            read_for(part, condition).iter().flat_map(|read| registers_of(part, read)).collect()
        }
        _ => Vec::new(),
    }
}

/// Inputs of a condition: the registers of its fields and columns, the frames of its codes.
fn read_for(part: &Sheet, condition: &Formula) -> Vec<ReadPlan> {
    let mut registers: Vec<RegisterId> = Vec::new();
    let mut frames: Vec<FrameId> = Vec::new();
    for input in part.inputs_behind(inputs(condition)) {
        registers.extend(input.field().into_iter().flat_map(|field| part.homes(field)));
        if let Input::Code(code) = input {
            frames.extend(part.codes.get(code).map(|code| code.frame));
        }
    }
    registers.sort_unstable();
    registers.dedup();
    frames.sort_unstable();
    frames.dedup();
    registers.into_iter().map(ReadPlan::Register).chain(frames.into_iter().map(ReadPlan::Frame)).collect()
}

impl Planner<'_> {
    fn routine(&mut self, id: RoutineId) {
        let Some(routine) = self.part.routines.get(id) else { return };
        let Some(visits) = self.visits.get_mut(id) else { return };
        *visits += 1;
        if *visits > 1 {
            // It is run from several places: what it finds there may differ, so its first plan knows too much. The second
            // one knows nothing, and will do for all others.
            let planned = *visits > 2;
            self.forget_conditions();
            if planned {
                return;
            }
        }
        let steps: Vec<StepPlan> = routine.steps.iter().map(|step| self.step(step)).collect();
        if let Some(plan) = self.routines.get_mut(id) {
            *plan = Some(steps);
        }
    }

    /// Marks banks and locks as unknown if the routine may have changed them.
    fn forget_conditions(&mut self) {
        forget(self.part, &mut self.state, &self.changing);
    }

    fn step(&mut self, step: &Step) -> StepPlan {
        // A step that is repeated finds what it left itself.
        if step.repeat > 1 && matches!(step.action, Action::Run(_) | Action::Set { .. }) {
            self.forget_conditions();
        }
        match &step.action {
            Action::Write(_) => StepPlan::Send,
            Action::Set { fields, .. } => self.set(step, fields),
            Action::WriteRegisters(registers) => self.write(step, registers),
            Action::ReadFrame(frame) => self.reads(&[ReadPlan::Frame(*frame)]),
            Action::ReadRegisters(registers) => self.reads(&registers.iter().map(|id| ReadPlan::Register(*id)).collect::<Vec<_>>()),
            Action::Poll { condition, .. } | Action::Expect(condition) => self.reads(&read_for(self.part, condition)),
            Action::Wait { .. } | Action::Line { .. } => StepPlan::Nothing,
            Action::Run(other) => {
                self.routine(*other);
                if step.when.is_some() {
                    self.forget_conditions();
                }
                StepPlan::Nothing
            }
        }
    }

    fn set(&mut self, step: &Step, fields: &[(FieldId, i128)]) -> StepPlan {
        let mut end = self.state.clone();
        for (field, code) in fields {
            self.part.fields.get(*field).into_iter().for_each(|field| end.set_field(field, *code));
        }
        let planned = match writes(self.part, &self.state, &end, fields, WriteScope::All) {
            Ok(planned) => planned,
            Err(unreachable) => return StepPlan::Refused(unreachable),
        };
        let unstored = fields.iter().filter(|(field, _)| self.part.is_unstored(*field));
        for (field, code) in unstored {
            self.part.fields.get(*field).into_iter().for_each(|field| self.state.set_field(field, *code));
        }
        for write in &planned {
            self.apply(write);
        }
        if step.when.is_some() {
            // It may be left out.
            self.part.fields.of(fields.iter().map(|(field, _)| field)).for_each(|field| self.state.forget_field(field));
        }
        StepPlan::Set(planned)
    }

    /// Applies a write to the predicted state. Its value is final only at run time: fields that are unknown now stay unknown.
    fn apply(&mut self, write: &Write) {
        let part = self.part;
        let is_set = |id: &FieldId| write.sets.iter().any(|(field, _)| field == id);
        let held = part.registers.get(write.register).map_or(&[] as &[FieldId], |register| &register.fields);
        let unknown: Vec<FieldId> = held.iter().copied().filter(|id| !is_set(id) && !self.state.knows(&part.fields[*id])).collect();
        write.apply(part, &mut self.state);
        forget(part, &mut self.state, &unknown);
    }

    fn reads(&mut self, wanted: &[ReadPlan]) -> StepPlan {
        reads(self.part, &mut self.state, wanted).map_or_else(StepPlan::Refused, StepPlan::Read)
    }

    /// Registers are written with the values of their fields at run time.
    fn write(&mut self, step: &Step, registers: &[RegisterId]) -> StepPlan {
        let model = |field: &FieldId| self.part.fields.get(*field);
        let plain = |field: &FieldId| model(field).is_some_and(|field| field.access.holds_value());
        let held = self.part.registers.of(registers).flat_map(|register| &register.fields).copied();
        let fields: Vec<(FieldId, i128)> = held.filter(plain).filter_map(|id| Some((id, self.state.field(model(&id)?)))).collect();
        match self.set(step, &fields) {
            StepPlan::Set(mut writes) => {
                writes.iter_mut().filter(|write| write.reason.is_none()).for_each(|write| write.sets.clear());
                StepPlan::Set(writes)
            }
            other => other,
        }
    }
}

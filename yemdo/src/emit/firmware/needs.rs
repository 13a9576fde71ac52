//! What routines need of a part.

use crate::formula::typed::Formula;
use crate::model::ids::{FieldId, FrameId, RegisterId, RoutineId};
use crate::model::input::{Input, inputs};
use crate::model::operation::Action;
use crate::model::part::Part;
use crate::plan::reads::ReadPlan;
use crate::plan::routine::{RoutinePlan, StepPlan};
use std::collections::BTreeSet;

/// Dependencies of routines.
#[derive(Debug, Default)]
pub(super) struct Needs {
    pub(super) frames: BTreeSet<FrameId>,
    pub(super) registers: BTreeSet<RegisterId>,
    pub(super) inputs: Vec<Input>,
    /// Fields whose values come from before the step that takes them.
    pub(super) fields: BTreeSet<FieldId>,
}

impl Needs {
    /// Adds what formulas take. `fresh`: registers that were read for them just before.
    fn take<'f>(&mut self, part: &Part, formulas: impl IntoIterator<Item = &'f Formula>, fresh: &[RegisterId]) {
        let taken = part.inputs_behind(formulas.into_iter().flat_map(inputs));
        self.fields.extend(taken.iter().filter_map(|input| input.field()).filter(|field| !is_fresh(part, *field, fresh)));
        self.inputs.extend(taken);
    }
}

/// Dependencies of a routine and of the routines that it runs.
pub(super) fn needs(part: &Part, id: RoutineId, needs: &mut Needs) {
    let plan = RoutinePlan::for_any_state(part, id);
    let mut seen = BTreeSet::new();
    let mut wanted = vec![id];
    while let Some(id) = wanted.pop() {
        if !seen.insert(id) {
            continue;
        }
        let Some(routine) = part.routines.get(id) else { continue };
        for (index, step) in routine.steps.iter().enumerate() {
            let fresh = fresh(&step.action, plan.step(id, index));
            // What its reads bring is asked by its condition, not by whether the step is done at all.
            needs.take(part, step.other_formulas(), &[]);
            needs.take(part, step.condition(), &fresh);
            match &step.action {
                Action::Run(other) => wanted.push(*other),
                Action::WriteRegisters(list) | Action::ReadRegisters(list) => needs.registers.extend(list),
                Action::Set { fields, .. } => needs.registers.extend(fields.iter().flat_map(|(field, _)| part.homes(*field))),
                _ => {}
            }
            match plan.step(id, index) {
                Some(StepPlan::Read(reads)) => {
                    for read in reads {
                        match read {
                            ReadPlan::Frame(frame) => drop(needs.frames.insert(*frame)),
                            ReadPlan::Register(register) => drop(needs.registers.insert(*register)),
                            ReadPlan::Write(write) => drop(needs.registers.insert(write.register)),
                        }
                    }
                }
                Some(StepPlan::Set(writes)) => {
                    needs.registers.extend(writes.iter().map(|write| write.register));
                    let computed = part
                        .registers
                        .of(&writes.iter().map(|write| write.register).collect::<Vec<_>>())
                        .flat_map(|register| &register.fields)
                        .copied()
                        .collect::<Vec<_>>();
                    needs.take(part, part.fields.of(&computed).filter_map(|field| field.computed.as_ref()), &[]);
                }
                _ => {}
            }
        }
    }
    for frame in part.frames.of(&needs.frames.iter().copied().collect::<Vec<_>>()) {
        needs.take(part, frame.origin.formulas(), &[]);
    }
}

/// Registers that a step reads just before it looks at its condition.
pub(super) fn fresh(action: &Action, plan: Option<&StepPlan>) -> Vec<RegisterId> {
    match (action, plan) {
        (Action::Poll { .. } | Action::Expect(_), Some(StepPlan::Read(reads))) => {
            reads.iter().filter_map(|read| if let ReadPlan::Register(register) = read { Some(*register) } else { None }).collect()
        }
        _ => Vec::new(),
    }
}

/// Whether all registers that hold a field are among those read just before.
pub(super) fn is_fresh(part: &Part, field: FieldId, fresh: &[RegisterId]) -> bool {
    !part.is_unstored(field) && part.homes(field).all(|home| fresh.contains(&home))
}

/// Whether a routine writes the field that holds the part's Modbus unit id or speed.
pub(super) fn moves(part: &Part, id: RoutineId) -> bool {
    let homes: Vec<RegisterId> = [part.unit_field, part.baud_field].into_iter().flatten().flat_map(|field| part.homes(field)).collect();
    part.steps_within(id).iter().any(|(step, _)| match &step.action {
        Action::WriteRegisters(list) => list.iter().any(|register| homes.contains(register)),
        Action::Set { fields, .. } => fields.iter().any(|(field, _)| part.homes(*field).any(|home| homes.contains(&home))),
        _ => false,
    })
}

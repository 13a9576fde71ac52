//! What routines need of a part.

use crate::model::ids::{FrameId, RegisterId, RoutineId};
use crate::model::input::{Input, inputs};
use crate::model::operation::Action;
use crate::model::part::Part;
use crate::plan::reads::ReadPlan;
use crate::plan::routine::{RoutinePlan, StepPlan};
use std::collections::BTreeSet;

/// What a routine, and those that it runs, need.
pub(super) fn needs(
    part: &Part,
    id: RoutineId,
    frames: &mut BTreeSet<FrameId>,
    registers: &mut BTreeSet<RegisterId>,
    found: &mut Vec<Input>,
) {
    let plan = RoutinePlan::for_any_state(part, id);
    let mut seen = BTreeSet::new();
    let mut wanted = vec![id];
    while let Some(id) = wanted.pop() {
        if !seen.insert(id) {
            continue;
        }
        let Some(routine) = part.routines.get(id) else { continue };
        for (index, step) in routine.steps.iter().enumerate() {
            found.extend(step.formulas().into_iter().flat_map(|formula| part.inputs_behind(inputs(formula))));
            match &step.action {
                Action::Run(other) => wanted.push(*other),
                Action::WriteRegisters(list) | Action::ReadRegisters(list) => registers.extend(list),
                Action::Set { fields, .. } => registers.extend(fields.iter().flat_map(|(field, _)| part.homes(*field))),
                _ => {}
            }
            match plan.step(id, index) {
                Some(StepPlan::Read(reads)) => {
                    for read in reads {
                        match read {
                            ReadPlan::Frame(frame) => drop(frames.insert(*frame)),
                            ReadPlan::Register(register) => drop(registers.insert(*register)),
                            ReadPlan::Write(write) => drop(registers.insert(write.register)),
                        }
                    }
                }
                Some(StepPlan::Set(writes)) => {
                    registers.extend(writes.iter().map(|write| write.register));
                    let computed = part
                        .registers
                        .of(&writes.iter().map(|write| write.register).collect::<Vec<_>>())
                        .flat_map(|register| &register.fields)
                        .copied()
                        .collect::<Vec<_>>();
                    let formulas = part.fields.of(&computed).filter_map(|field| field.computed.as_ref());
                    found.extend(formulas.flat_map(|formula| part.inputs_behind(inputs(formula))));
                }
                _ => {}
            }
        }
    }
    for frame in part.frames.of(&frames.iter().copied().collect::<Vec<_>>()) {
        found.extend(frame.origin.formulas().flat_map(|formula| part.inputs_behind(inputs(formula))));
    }
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

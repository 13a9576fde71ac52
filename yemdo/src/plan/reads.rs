//! Reads of registers, with the writes around them that select their bank.

use super::writes::{Unreachable, Write, around};
use crate::model::frame::Origin;
use crate::model::ids::{FieldId, FrameId, RegisterId};
use crate::model::part::Sheet;
use crate::model::state::State;

/// Something that is done to read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum ReadPlan {
    /// A register is read.
    Register(RegisterId),
    /// A frame is read.
    Frame(FrameId),
    /// A register is written, so that others can be read, or so that it is again as it was.
    Write(Write),
}

/// The reads of registers and frames, one after another, with the writes that select their banks. Afterwards
/// `state` no longer knows the registers, since the part may change them.
pub(crate) fn reads(part: &Sheet, state: &mut State, wanted: &[ReadPlan]) -> Result<Vec<ReadPlan>, Unreachable> {
    let mut all = Vec::new();
    for read in wanted {
        let registers = registers_of(part, read);
        let banks = banks(part, &registers)?;
        let (before, after) = around(part, state, &banks)?;
        all.extend(before.into_iter().map(ReadPlan::Write));
        all.push(read.clone());
        all.extend(after.into_iter().map(ReadPlan::Write));
        part.registers.of(&registers).for_each(|register| state.forget_register(register));
    }
    Ok(all)
}

/// Registers in groups of one bank, in the order in which they are wanted, each group with the writes before it and after it.
pub(crate) fn groups(part: &Sheet, state: &State, wanted: &[RegisterId]) -> Result<Vec<Group>, Unreachable> {
    let mut groups: Vec<Group> = Vec::new();
    let mut last: Option<&[(FieldId, i128)]> = None;
    for (id, register) in wanted.iter().filter_map(|id| Some((*id, part.registers.get(*id)?))) {
        match groups.last_mut().filter(|_| last == Some(register.bank.as_slice())) {
            Some(group) => group.registers.push(id),
            None => {
                let (before, after) = around(part, state, &banks(part, &[id])?)?;
                groups.push(Group { before, registers: vec![id], after });
            }
        }
        last = Some(&register.bank);
    }
    Ok(groups)
}

/// Registers of one bank.
#[derive(Clone, Debug)]
pub(crate) struct Group {
    /// Writes before the reads.
    pub(crate) before: Vec<Write>,
    /// The registers.
    pub(crate) registers: Vec<RegisterId>,
    /// Writes after the reads.
    pub(crate) after: Vec<Write>,
}

/// The registers that come with a read.
pub(crate) fn registers_of(part: &Sheet, read: &ReadPlan) -> Vec<RegisterId> {
    match read {
        ReadPlan::Register(id) => vec![*id],
        ReadPlan::Frame(id) => match part.frames.get(*id).map(|frame| &frame.origin) {
            Some(Origin::Registers(runs)) => runs.iter().flatten().copied().collect(),
            _ => Vec::new(),
        },
        ReadPlan::Write(_) => Vec::new(),
    }
}

/// The conditions for reading some registers at once.
fn banks(part: &Sheet, registers: &[RegisterId]) -> Result<Vec<(FieldId, i128)>, Unreachable> {
    let mut all: Vec<(FieldId, i128)> = Vec::new();
    for register in part.registers.of(registers) {
        for (field, code) in &register.bank {
            if all.iter().any(|(known, other)| known == field && other != code) {
                let needs = part.setting_text(*field, *code).unwrap_or_default();
                return Err(Unreachable { register: register.name.clone(), needs });
            }
            if !all.contains(&(*field, *code)) {
                all.push((*field, *code));
            }
        }
    }
    Ok(all)
}

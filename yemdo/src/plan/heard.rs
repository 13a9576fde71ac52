//! How a part interprets received bytes: commands, and register writes.
//!
//! Used by stand-ins, which play the part, and by recordings, which show its traffic.

use crate::bus::modbus::is_unit;
use crate::model::command::{Command, CommandByte};
use crate::model::ids::{FieldId, ParameterId, RegisterId};
use crate::model::input::{Input, inputs};
use crate::model::operation::Action;
use crate::model::part::Sheet;
use crate::model::reading::Parameter;
use crate::model::registers::{Access, Field, Register};
use crate::model::state::State;
use crate::model::value::{Eval, Present};

/// The most values tried to find the arguments of a command.
const MOST_TRIED: usize = 1 << 16;

/// Whether all these fields are known to have these codes.
pub(crate) fn holds(part: &Sheet, state: &State, conditions: &[(FieldId, i128)]) -> bool {
    conditions.iter().all(|(field, code)| part.fields.get(*field).is_some_and(|field| state.known_field(field) == Some(*code)))
}

/// The register at an address in the selected bank, and the first one at that address in any bank.
pub(crate) fn register_at(part: &Sheet, state: &State, address: u32) -> (Option<RegisterId>, Option<RegisterId>) {
    let at = || part.registers.entries().filter(move |(_, register)| register.at == address);
    // One of the bank that is selected hides one of no bank.
    let open = at().filter(|(_, register)| holds(part, state, &register.bank)).max_by_key(|(_, register)| register.bank.len());
    (open.map(|(id, _)| id), at().map(|(id, _)| id).next())
}

/// The value that a register reads after a write.
pub(crate) fn after_write(part: &Sheet, register: &Register, before: u64, written: u64) -> u64 {
    let (taken, clears) = taken_by(part, register, before, written);
    taken & !clears
}

/// Register value after a write, with the known bits: read-only bits are known only if they were known before.
pub(crate) fn left_by(part: &Sheet, state: &State, register: &Register, written: u64) -> Left {
    let before = state.known_bits(register);
    let keeps = |field: &Field| match field.access {
        Access::ReadOnly | Access::ClearOnRead | Access::Reserved => field.mask_in(register),
        Access::WriteOneToClear | Access::SetUntilReset => field.mask_in(register) & !written,
        Access::ReadWrite | Access::WriteOnly | Access::SelfClearing => 0,
    };
    let fields = part.fields.of(&register.fields).filter(|field| !field.joined).map(keeps);
    let reserved = register.reserved.iter().filter(|reserved| reserved.write.is_none()).map(|reserved| reserved.mask);
    let kept = fields.chain(reserved).fold(0, |kept, mask| kept | mask);
    let value = after_write(part, register, state.register(register), written);
    Left { value, known: register.mask() & (before | !kept) }
}

/// Register after a write.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Left {
    /// Value; unknown bits are as assumed before.
    pub(crate) value: u64,
    /// Mask of the known bits.
    pub(crate) known: u64,
}

/// The value that a register takes from a write, and those of its bits that clear themselves soon after.
pub(crate) fn taken_by(part: &Sheet, register: &Register, before: u64, written: u64) -> (u64, u64) {
    let (mut after, mut clears) = (written, 0);
    for reserved in &register.reserved {
        let kept = reserved.write.unwrap_or(before & reserved.mask);
        after = (after & !reserved.mask) | kept;
    }
    for field in part.fields.of(&register.fields).filter(|field| !field.joined) {
        let mask = field.mask_in(register);
        let (was, sent) = (before & mask, written & mask);
        match field.access {
            Access::ReadOnly | Access::ClearOnRead | Access::Reserved => after = (after & !mask) | was,
            Access::WriteOneToClear => after = (after & !mask) | (was & !sent),
            Access::SetUntilReset => after |= was,
            Access::SelfClearing => clears |= mask,
            Access::ReadWrite | Access::WriteOnly => {}
        }
    }
    (after, clears)
}

/// The new Modbus unit id after a register write; `None` if it does not change.
pub(crate) fn unit_after(part: &Sheet, state: &State, register: &Register, after: u64) -> Option<u8> {
    let field = part.unit_field.filter(|field| register.fields.contains(field))?;
    let mut then = state.clone();
    then.set_register(register, after);
    let unit = u8::try_from(then.field(part.fields.get(field)?)).ok().filter(|unit| is_unit(i128::from(*unit)))?;
    let own = part.buses.modbus.as_ref().map(|modbus| modbus.unit_or_first());
    Some(unit).filter(|unit| Some(*unit) != own)
}

/// True if one of the part's commands has exactly these bytes in the present state.
pub(crate) fn is_command(part: &Sheet, state: &State, sent: &[u8]) -> bool {
    let present = Present { part, state };
    part.commands().any(|command| command.now(&present).is_ok_and(|now| now == sent))
}

/// True if a routine sends these bytes in a step that allows a missing acknowledgement.
pub(crate) fn may_nak(part: &Sheet, state: &State, sent: &[u8]) -> bool {
    let present = Present { part, state };
    let mut steps = part.routines.iter().flat_map(|routine| &routine.steps).filter(|step| step.may_nak);
    steps.any(|step| matches!(&step.action, Action::Write(command) if command.now(&present).is_ok_and(|now| now == sent)))
}

/// Settings without a register that follow from a command of these bytes, such as one that wakes the part: those that a routine sets after
/// the command, before its next one and before it reads a frame: frames in between are read in the earlier state.
pub(crate) fn set_with(part: &Sheet, state: &State, sent: &[u8]) -> Vec<(FieldId, i128)> {
    let present = Present { part, state };
    let mut found = Vec::new();
    for routine in &part.routines {
        let mut is_it = false;
        for step in &routine.steps {
            match &step.action {
                Action::Write(command) => is_it = step.when.is_none() && command.now(&present).is_ok_and(|now| now == sent),
                Action::Set { fields, .. } if is_it && step.when.is_none() => {
                    found.extend(fields.iter().copied().filter(|(field, _)| part.is_unstored(*field)));
                }
                Action::ReadFrame(_) | Action::Run(_) => is_it = false,
                Action::Poll { condition, .. } | Action::Expect(condition) => {
                    is_it &= !inputs(condition).any(|input| matches!(input, Input::Code(_)));
                }
                _ => {}
            }
        }
    }
    found
}

/// The state that makes one of the part's commands these bytes: with other values of parameters and of settings that no register
/// holds. It prefers to change a single value, the first of the sheet, to its lowest possible value.
pub(crate) fn understood(part: &Sheet, state: &State, sent: &[u8]) -> Option<State> {
    part.commands().find_map(|command| with_arguments(part, command, state, sent))
}

fn with_arguments(part: &Sheet, command: &Command, state: &State, sent: &[u8]) -> Option<State> {
    let bytes = command.bytes();
    let fits = |(byte, sent): (&CommandByte, &u8)| !matches!(byte, CommandByte::Fixed(fixed) if fixed != sent);
    if bytes.len() != sent.len() || !bytes.iter().zip(sent).all(fits) {
        return None;
    }
    let formulas = bytes.iter().zip(sent).filter_map(|(byte, sent)| match byte {
        CommandByte::Formula(formula) => Some((Eval::of_formula(part, formula), f64::from(*sent))),
        CommandByte::Fixed(_) => None,
    });
    let arguments = arguments(part, command);
    let mut search = Search { part, formulas: formulas.collect(), tried: 0 };
    let alone = arguments.iter().find_map(|argument| search.find(std::slice::from_ref(argument), state));
    alone.or_else(|| if arguments.len() > 1 { search.find(&arguments, state) } else { None })
}

/// An argument of a command, and its possible values.
enum Argument {
    Field(FieldId, Vec<i128>),
    Parameter(ParameterId, Vec<f64>),
}

/// The inputs of a command that no register holds.
fn arguments(part: &Sheet, command: &Command) -> Vec<Argument> {
    let mut fields = Vec::new();
    let mut parameters = Vec::new();
    for input in part.inputs_behind(command.formulas().flat_map(inputs)) {
        match (input, input.field()) {
            (Input::Parameter(id), _) => parameters.push(id),
            (_, Some(field)) if part.is_unstored(field) && !fields.contains(&field) => fields.push(field),
            _ => {}
        }
    }
    let codes = |id: FieldId| Some(Argument::Field(id, codes(part.fields.get(id)?)));
    let values = |id: ParameterId| Some(Argument::Parameter(id, values(part.parameters.get(id)?)));
    fields.into_iter().filter_map(codes).chain(parameters.into_iter().filter_map(values)).collect()
}

/// The codes of a field: those of its table, otherwise all.
fn codes(field: &Field) -> Vec<i128> {
    let (width, form) = (field.layout.width(), field.layout.form);
    if !field.values.is_empty() {
        return field.values.iter().map(|row| row.code).collect();
    }
    (0..1u64 << width.min(16)).filter_map(|raw| form.read(raw, width).map(i128::from)).collect()
}

/// Likely values of a parameter: its default, whole numbers, and steps of a 1024th of its range.
fn values(parameter: &Parameter) -> Vec<f64> {
    let (low, high) = parameter.range.unwrap_or((0.0, 65_535.0));
    let whole = (low.ceil() as i64..=high.floor() as i64).take(MOST_TRIED).map(|value| value as f64);
    let between = (0..=1024).map(|at| low + (high - low) * f64::from(at) / 1024.0);
    std::iter::once(parameter.default).chain(whole).chain(between).collect()
}

impl Argument {
    fn len(&self) -> usize {
        match self {
            Argument::Field(_, codes) => codes.len(),
            Argument::Parameter(_, values) => values.len(),
        }
    }

    /// Puts a value into the state; `None` if the sheet does not allow it.
    fn put(&self, part: &Sheet, at: usize, state: &mut State) -> Option<()> {
        match self {
            Argument::Field(id, codes) => state.set_field(part.fields.get(*id)?, *codes.get(at)?),
            Argument::Parameter(id, values) => state.set_parameter(part, *id, *values.get(at)?).ok()?,
        }
        Some(())
    }
}

struct Search<'a> {
    part: &'a Sheet,
    /// Formulas of bytes, and the bytes sent.
    formulas: Vec<(Eval, f64)>,
    tried: usize,
}

impl Search<'_> {
    /// Tries all values of the first argument, each with all of the others.
    fn find(&mut self, arguments: &[Argument], state: &State) -> Option<State> {
        let Some((first, rest)) = arguments.split_first() else {
            self.tried += 1;
            let present = Present { part: self.part, state };
            let fits = self.formulas.iter_mut().all(|(eval, byte)| eval.value(&present) == Ok(*byte));
            return fits.then(|| state.clone());
        };
        let mut state = state.clone();
        for at in 0..first.len() {
            if self.tried > MOST_TRIED {
                break;
            }
            if first.put(self.part, at, &mut state).is_some()
                && let Some(found) = self.find(rest, &state)
            {
                return Some(found);
            }
        }
        None
    }
}

//! How a part interprets received bytes: commands, and register writes.
//!
//! Used by stand-ins, which play the part, and by recordings, which show its traffic.

use crate::model::command::{Command, CommandByte};
use crate::model::ids::{FieldId, ParameterId, RegisterId};
use crate::model::input::{Input, inputs};
use crate::model::part::Sheet;
use crate::model::registers::{Access, Register};
use crate::model::state::State;
use crate::model::value::{Eval, Present};

/// The most values tried to find the arguments of a command.
const MOST_GUESSED: usize = 1 << 16;

/// Whether all these fields are known to have these codes.
pub(crate) fn holds(part: &Sheet, state: &State, conditions: &[(FieldId, i128)]) -> bool {
    conditions.iter().all(|(field, code)| part.fields.get(*field).is_some_and(|field| state.known_field(field) == Some(*code)))
}

/// The register at an address, in the bank that is selected; and any in another bank, where there is none.
pub(crate) fn register_at(part: &Sheet, state: &State, address: u32) -> (Option<RegisterId>, Option<RegisterId>) {
    let at = || part.registers.entries().filter(move |(_, register)| register.at == address);
    // One of the bank that is selected hides one of no bank.
    let open = at().filter(|(_, register)| holds(part, state, &register.bank)).max_by_key(|(_, register)| register.bank.len());
    (open.map(|(id, _)| id), at().map(|(id, _)| id).next())
}

/// The value of a register after a write, and its bits that clear themselves.
pub(crate) fn left_by(part: &Sheet, register: &Register, before: u64, written: u64) -> (u64, u64) {
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
            Access::SelfClearing => clears |= mask,
            Access::ReadWrite | Access::WriteOnly => {}
        }
    }
    (after, clears)
}

/// The state in which a command is these bytes: the present one, or one with other values of the settings that no register holds
/// and of parameters. Of several that fit, the one with the fewest changes in the sheet's order, and the lowest value.
pub(crate) fn understood(part: &Sheet, command: &Command, state: &State, sent: &[u8]) -> Option<State> {
    let bytes = command.bytes();
    let fits = |(byte, sent): (&CommandByte, &u8)| !matches!(byte, CommandByte::Fixed(fixed) if fixed != sent);
    if bytes.len() != sent.len() || bytes.is_empty() || !bytes.iter().zip(sent).all(fits) {
        return None;
    }
    if command.now(&Present { part, state }).is_ok_and(|now| now == sent) {
        return Some(state.clone());
    }
    let formulas = bytes.iter().zip(sent).filter_map(|(byte, sent)| match byte {
        CommandByte::Formula(formula) => Some((Eval::of_formula(part, formula), f64::from(*sent))),
        CommandByte::Fixed(_) => None,
    });
    let guesses = guesses(part, command);
    let mut search = Guessing { part, formulas: formulas.collect(), tried: 0 };
    // First those that change one value alone.
    let alone = guesses.iter().find_map(|guess| search.find(std::slice::from_ref(guess), state));
    alone.or_else(|| if guesses.len() > 1 { search.find(&guesses, state) } else { None })
}

/// An argument of a command, and its possible values.
enum Guess {
    Field(FieldId, Vec<i128>),
    Parameter(ParameterId, Vec<f64>),
}

/// The inputs of a command that no register holds.
fn guesses(part: &Sheet, command: &Command) -> Vec<Guess> {
    let behind = part.inputs_behind(command.formulas().flat_map(inputs));
    let mut fields: Vec<FieldId> = Vec::new();
    let mut parameters: Vec<ParameterId> = Vec::new();
    for input in behind {
        fields.extend(input.field().filter(|field| part.is_unstored(*field) && !fields.contains(field)));
        parameters.extend(if let Input::Parameter(id) = input { Some(id) } else { None });
    }
    let codes = |id: FieldId| {
        let field = part.fields.get(id)?;
        let listed = field.values.iter().map(|row| row.code).collect::<Vec<_>>();
        let width = field.layout.width();
        let every = || (0..1i128 << width.min(16)).filter_map(|raw| field.layout.form.read(raw as u64, width).map(i128::from)).collect();
        Some(Guess::Field(id, if listed.is_empty() { every() } else { listed }))
    };
    let values = |id: ParameterId| {
        let parameter = part.parameters.get(id)?;
        let (low, high) = parameter.range.unwrap_or((0.0, 65_535.0));
        let whole = (low.ceil() as i64..=high.floor() as i64).take(MOST_GUESSED).map(|value| value as f64);
        let between = (0..=1024).map(|at| low + (high - low) * f64::from(at) / 1024.0);
        Some(Guess::Parameter(id, std::iter::once(parameter.default).chain(whole).chain(between).collect()))
    };
    fields.into_iter().filter_map(codes).chain(parameters.into_iter().filter_map(values)).collect()
}

struct Guessing<'a> {
    part: &'a Sheet,
    /// What gives a byte, and the byte that was sent.
    formulas: Vec<(Eval, f64)>,
    tried: usize,
}

impl Guessing<'_> {
    /// Tries all values of the first, each with all of the others.
    fn find(&mut self, guesses: &[Guess], state: &State) -> Option<State> {
        let Some((first, rest)) = guesses.split_first() else {
            self.tried += 1;
            let present = Present { part: self.part, state };
            let fits = self.formulas.iter_mut().all(|(eval, byte)| eval.value(&present) == Ok(*byte));
            return fits.then(|| state.clone());
        };
        let mut state = state.clone();
        let count = if let Guess::Field(_, codes) = first {
            codes.len()
        } else if let Guess::Parameter(_, values) = first {
            values.len()
        } else {
            0
        };
        for at in 0..count {
            match first {
                Guess::Field(id, codes) => state.set_field(self.part.fields.get(*id)?, *codes.get(at)?),
                Guess::Parameter(id, values) => {
                    if state.set_parameter(self.part, *id, *values.get(at)?).is_err() {
                        continue;
                    }
                }
            }
            if let Some(found) = self.find(rest, &state) {
                return Some(found);
            }
            if self.tried > MOST_GUESSED {
                return None;
            }
        }
        None
    }
}

//! Which registers are written, and in which order.

use super::{ConfigureError, Which, Why, Write, value_to_write};
use crate::model::part::Part;
use crate::model::registers::{Access, Register, Settings};

/// The writes that lead from one image to another; `asked` are the fields that were, with their codes.
pub(super) fn writes(
    part: &Part,
    start: &Settings,
    end: &Settings,
    asked: &[(usize, i128)],
    which: Which,
) -> Result<Vec<Write>, ConfigureError> {
    let fields: Vec<usize> = asked.iter().map(|(field, _)| *field).collect();
    let holds = |register: &Register| register.fields.iter().any(|field| fields.contains(field));
    // Ones that do something are done even where the image does not change.
    let acts = |register: &Register| {
        let mut here = asked.iter().filter(|(field, _)| register.fields.contains(field));
        here.any(|(field, code)| {
            let access = part.fields.get(*field).map(|field| field.access);
            *code != 0 && matches!(access, Some(Access::WriteOneToClear | Access::SelfClearing))
        })
    };
    let mut pending: Vec<(usize, Option<Why>)> = Vec::new();
    for (index, register) in part.registers.iter().enumerate() {
        let changed = start.register(register) != end.register(register);
        let unknown = register.reset.is_none() && start == &Settings::reset(part);
        if holds(register) && (which == Which::All || changed || acts(register) || unknown) {
            pending.push((index, None));
        }
    }
    let mut state = start.clone();
    let mut done: Vec<Write> = Vec::new();
    let most = 4 * part.registers.len() + 8;
    while let Some(at) = next(part, &state, end, &pending) {
        let (index, why) = pending.remove(at);
        put(part, &mut state, end, index, why, &fields, start, &mut done);
    }
    while let Some(&(waiting, _)) = pending.first() {
        // What stands in the way is changed for the time being, and put back afterwards.
        let Some(register) = part.registers.get(waiting) else { break };
        let wanted: Vec<(usize, i128)> = conditions(register).filter(|(field, code)| !holds_code(part, &state, *field, *code)).collect();
        let mut opened = false;
        for (field, code) in wanted {
            let homes: Vec<usize> =
                (0..part.registers.len()).filter(|home| part.registers.get(*home).is_some_and(|r| r.fields.contains(&field))).collect();
            for home in homes {
                let open = part.registers.get(home).is_some_and(|home| reachable(part, &state, home));
                let Some(model) = part.fields.get(field).filter(|_| open) else { continue };
                let mut opening = state.clone();
                opening.set_field(model, code);
                put(part, &mut state, &opening, home, Some(Why::Opens), &fields, start, &mut done);
                opened = true;
            }
        }
        if !opened || done.len() > most {
            return Err(ConfigureError::Unreachable { register: register.name.clone(), needs: needs(part, register) });
        }
        while let Some(at) = next(part, &state, end, &pending) {
            let (index, why) = pending.remove(at);
            put(part, &mut state, end, index, why, &fields, start, &mut done);
        }
        if pending.is_empty() {
            let changed = |register: &Register| state.register(register) != end.register(register) && !register.fields.is_empty();
            let open: Vec<usize> = (0..part.registers.len())
                .filter(|index| done.iter().any(|write| write.register == *index && write.why == Some(Why::Opens)))
                .filter(|index| part.registers.get(*index).is_some_and(changed))
                .collect();
            pending.extend(open.into_iter().map(|index| (index, Some(Why::Restores))));
            while let Some(at) = next(part, &state, end, &pending) {
                let (index, why) = pending.remove(at);
                put(part, &mut state, end, index, why, &fields, start, &mut done);
            }
        }
    }
    Ok(done)
}

#[expect(clippy::too_many_arguments, reason = "one step of the search above, with all of its state")]
fn put(
    part: &Part,
    state: &mut Settings,
    end: &Settings,
    index: usize,
    why: Option<Why>,
    asked: &[usize],
    start: &Settings,
    done: &mut Vec<Write>,
) {
    let Some(register) = part.registers.get(index) else { return };
    let (value, after) = value_to_write(part, index, end.register(register), asked);
    let known = register.reset.is_some() || start != &Settings::reset(part) || done.iter().any(|write| write.register == index);
    done.push(Write { register: index, before: known.then(|| state.register(register)), value, after, why });
    state.set_register(register, after);
}

fn conditions(register: &Register) -> impl Iterator<Item = (usize, i128)> {
    register.bank.iter().chain(&register.writable).copied()
}

fn holds_code(part: &Part, state: &Settings, field: usize, code: i128) -> bool {
    part.fields.get(field).is_none_or(|field| state.field(field) == code)
}

fn reachable(part: &Part, state: &Settings, register: &Register) -> bool {
    conditions(register).all(|(field, code)| holds_code(part, state, field, code))
}

/// The next register to be written: one that can be reached now, and before those that close the way to others.
fn next(part: &Part, state: &Settings, end: &Settings, pending: &[(usize, Option<Why>)]) -> Option<usize> {
    let open = |at: &usize| pending.get(*at).and_then(|(index, _)| part.registers.get(*index)).is_some_and(|r| reachable(part, state, r));
    let closes = |at: &usize| {
        let Some(register) = pending.get(*at).and_then(|(index, _)| part.registers.get(*index)) else { return false };
        let mut then = state.clone();
        then.set_register(register, end.register(register));
        let others = pending.iter().enumerate().filter(|(other, _)| other != at).filter_map(|(_, (index, _))| part.registers.get(*index));
        others.into_iter().any(|other| reachable(part, state, other) && !reachable(part, &then, other))
    };
    (0..pending.len()).filter(open).find(|at| !closes(at)).or_else(|| (0..pending.len()).find(open))
}

fn needs(part: &Part, register: &Register) -> String {
    let one = |(field, code): (usize, i128)| {
        let field = part.fields.get(field)?;
        let value = field.row(code).and_then(|row| row.name.clone()).unwrap_or_else(|| code.to_string());
        Some(format!("{} = {value}", field.name))
    };
    conditions(register).filter_map(one).collect::<Vec<_>>().join(" and ")
}

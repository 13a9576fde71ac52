//! Which registers are written, and in which order.

use super::heard::{Left, left_by};
use crate::model::ids::{FieldId, RegisterId};
use crate::model::part::Sheet;
use crate::model::registers::{Access, Field, Register};
use crate::model::state::State;

/// A register that is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Write {
    /// The register.
    pub register: RegisterId,
    /// Its value before; `None` where nobody knows.
    pub before: Option<u64>,
    /// The value that is written.
    pub value: u64,
    /// The value that reads back: what clears itself is zeros again.
    pub after: u64,
    /// The bits of `after` that are known.
    pub(crate) known: u64,
    /// Why it is written where nobody asked for it.
    pub reason: Option<WriteReason>,
    /// The fields that it is written for, with their codes.
    pub(crate) sets: Vec<(FieldId, i128)>,
}

impl Write {
    /// The state of the part after this write. A write of another part changes nothing.
    pub fn apply(&self, part: &Sheet, state: &mut State) {
        if let Some(register) = part.registers.get(self.register) {
            state.write_register(register, self.after, self.known);
        }
    }
}

/// Why a register is written that holds nothing that was asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum WriteReason {
    /// Temporary: another register can only be reached, or written, then.
    Unlocks,
    /// It is restored.
    Restores,
}

/// Which of the registers that hold what was asked for are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WriteScope {
    /// Those that change, or of which nobody knows.
    Changed,
    /// All of them: who knows what the part has been through.
    All,
}

/// A register cannot be reached in any order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Unreachable {
    /// Name of the register.
    pub(crate) register: String,
    /// What it waits for, in words.
    pub(crate) needs: String,
}

/// The writes that lead from one state to another. `asked` are the fields that were asked for, with their codes. What depends on
/// a field that is unknown is unlocked in any case.
pub(crate) fn writes(
    part: &Sheet,
    start: &State,
    end: &State,
    asked: &[(FieldId, i128)],
    scope: WriteScope,
) -> Result<Vec<Write>, Unreachable> {
    let mut search = Search { part, start, end, asked, state: start.clone(), pending: Vec::new(), done: Vec::new() };
    search.pending = search.wanted(scope);
    search.write_what_is_open();
    let most = 4 * part.registers.len() + 8;
    while let Some(register) = search.pending.first().and_then(|(waiting, _)| part.registers.get(*waiting)) {
        let closed: Vec<(FieldId, i128)> = search.closed(register);
        if !search.open(&closed) || search.done.len() > most {
            return Err(Unreachable { register: register.name.clone(), needs: search.needs(register) });
        }
        search.write_what_is_open();
        if search.pending.is_empty() {
            search.restore();
        }
    }
    Ok(search.done)
}

/// Writes that set some fields temporarily, and writes that restore them.
pub(crate) fn around(part: &Sheet, state: &State, conditions: &[(FieldId, i128)]) -> Result<(Vec<Write>, Vec<Write>), Unreachable> {
    let mut search = Search { part, start: state, end: state, asked: &[], state: state.clone(), pending: Vec::new(), done: Vec::new() };
    while let Some((field, code)) = conditions.iter().find(|(field, code)| !search.holds(&search.state, *field, *code)).copied() {
        if search.done.len() > part.registers.len() || !search.open(&[(field, code)]) {
            let needs = part.setting_text(field, code).unwrap_or_default();
            return Err(Unreachable { register: needs.clone(), needs });
        }
    }
    let before = search.done.clone();
    search.restore();
    Ok((before.clone(), search.done.split_off(before.len())))
}

/// A search for an order in which every register can be reached when its turn comes.
struct Search<'a> {
    part: &'a Sheet,
    start: &'a State,
    end: &'a State,
    asked: &'a [(FieldId, i128)],
    /// The registers as they are after what is done.
    state: State,
    /// Registers that are still to be written.
    pending: Vec<(RegisterId, Option<WriteReason>)>,
    done: Vec<Write>,
}

impl Search<'_> {
    /// The registers that hold what was asked for and have to be written.
    fn wanted(&self, scope: WriteScope) -> Vec<(RegisterId, Option<WriteReason>)> {
        let wanted = |register: &Register| {
            let asked = || self.asked.iter().filter(|(field, _)| register.fields.contains(field));
            let is_action = |field: FieldId| self.part.fields.get(field).is_some_and(|field| field.access.is_action());
            // Ones that do something are done even where the image does not change; zeros do nothing ever.
            let acts = |(field, code): &(FieldId, i128)| *code != 0 && is_action(*field);
            let matters = |(field, code): &(FieldId, i128)| *code != 0 || !is_action(*field);
            let changed = asked().filter(|asked| matters(asked)).any(|(field, _)| {
                // Of a field of several registers, those whose bits of it change.
                let mask = self.part.fields[*field].mask_in(register);
                let differing = self.start.register(register) ^ self.end.register(register);
                (differing | !self.start.known_bits(register)) & mask != 0
            });
            let needed = changed || asked().any(acts);
            asked().next().is_some() && (scope == WriteScope::All || (needed && asked().any(matters)))
        };
        let all = self.part.registers.entries();
        all.filter(|(_, register)| wanted(register)).map(|(id, _)| (id, None)).collect()
    }

    /// Writes what can be reached, until nothing is left that can.
    fn write_what_is_open(&mut self) {
        while let Some(at) = self.next() {
            let (id, reason) = self.pending.remove(at);
            let register = self.part.registers.get(id);
            let here = |(field, _): &&(FieldId, i128)| register.is_some_and(|register| register.fields.contains(field));
            let sets = self.asked.iter().filter(here).copied().collect();
            self.write(id, &self.end.clone(), reason, sets);
        }
    }

    /// Writes a register as an image has it.
    fn write(&mut self, id: RegisterId, image: &State, reason: Option<WriteReason>, sets: Vec<(FieldId, i128)>) {
        let Some(register) = self.part.registers.get(id) else { return };
        let asked: Vec<FieldId> = sets.iter().map(|(field, _)| *field).collect();
        let value = value_to_write(self.part, id, image.register(register), &asked);
        let Left { value: after, known } = left_by(self.part, &self.state, register, value);
        self.done.push(Write { register: id, before: self.state.known_register(register), value, after, known, reason, sets });
        self.state.write_register(register, after, known);
    }

    /// The next register to be written: one that can be reached now, and before those that close the way to others.
    fn next(&self) -> Option<usize> {
        let register = |at: usize| self.pending.get(at).and_then(|(index, _)| self.part.registers.get(*index));
        let open = |at: &usize| register(*at).is_some_and(|register| self.reachable(&self.state, register));
        let closes = |at: &usize| {
            let Some(closing) = register(*at) else { return false };
            let mut then = self.state.clone();
            then.set_register(closing, self.end.register(closing));
            let mut others = (0..self.pending.len()).filter(|other| other != at).filter_map(register);
            others.any(|other| self.reachable(&self.state, other) && !self.reachable(&then, other))
        };
        let all = 0..self.pending.len();
        all.clone().filter(open).find(|at| !closes(at)).or_else(|| all.into_iter().find(open))
    }

    /// Unfulfilled conditions for writing a register.
    fn closed(&self, register: &Register) -> Vec<(FieldId, i128)> {
        conditions(register).filter(|(field, code)| !self.holds(&self.state, *field, *code)).collect()
    }

    /// Sets fields temporarily to fulfil conditions; `false` if it cannot.
    fn open(&mut self, closed: &[(FieldId, i128)]) -> bool {
        let mut opened = false;
        for (field, code) in closed.iter().copied() {
            for home in self.part.homes(field).collect::<Vec<_>>() {
                let reachable = |home: &&Register| self.reachable(&self.state, home);
                let there = self.part.registers.get(home).filter(reachable).and(self.part.fields.get(field));
                if let Some(model) = there.filter(|model| !needs_reset(&self.state, model, code)) {
                    let mut image = self.state.clone();
                    image.set_field(model, code);
                    self.write(home, &image, Some(WriteReason::Unlocks), vec![(field, code)]);
                    opened = true;
                }
            }
        }
        opened
    }

    /// Restores what was only changed to unlock another register.
    fn restore(&mut self) {
        let changed = |index: &RegisterId| {
            let register = self.part.registers.get(*index);
            // Its value may be known only at run time.
            register.is_some_and(|register| self.end.known_register(register).is_none_or(|end| self.state.register(register) != end))
        };
        let mut opened: Vec<RegisterId> =
            self.done.iter().filter(|write| write.reason == Some(WriteReason::Unlocks)).map(|write| write.register).collect();
        opened.sort_unstable();
        opened.dedup();
        self.pending = opened.into_iter().filter(changed).map(|index| (index, Some(WriteReason::Restores))).collect();
        self.write_what_is_open();
    }

    fn reachable(&self, state: &State, register: &Register) -> bool {
        conditions(register).all(|(field, code)| self.holds(state, field, code))
    }

    fn holds(&self, state: &State, field: FieldId, code: i128) -> bool {
        self.part.fields.get(field).is_none_or(|field| state.known_field(field) == Some(code))
    }

    /// What a register waits for, in words.
    fn needs(&self, register: &Register) -> String {
        let text = |(field, code): (FieldId, i128)| {
            let after_reset = if needs_reset(&self.state, self.part.fields.get(field)?, code) { ", which requires a reset" } else { "" };
            Some(format!("{}{after_reset}", self.part.setting_text(field, code)?))
        };
        conditions(register).filter_map(text).collect::<Vec<_>>().join(" and ")
    }
}

/// True if only a reset gives a field this code: bits of a lock are known to be set, and are not set in the code.
pub(crate) fn needs_reset(state: &State, field: &Field, code: i128) -> bool {
    let raw = |code: i128| field.layout.form.write(code, field.width());
    field.access == Access::SetUntilReset && state.known_field(field).is_some_and(|now| raw(now) & !raw(code) != 0)
}

/// What must hold while a register is written.
fn conditions(register: &Register) -> impl Iterator<Item = (FieldId, i128)> {
    register.bank.iter().chain(&register.writable).copied()
}

/// The value to be written so that a register is as wished: reserved bits as the datasheet demands, and no one where
/// a one would trigger an unrequested action.
pub(crate) fn value_to_write(part: &Sheet, index: RegisterId, wanted: u64, asked: &[FieldId]) -> u64 {
    let Some(register) = part.registers.get(index) else { return 0 };
    let mut value = wanted;
    let reset = register.reset.unwrap_or(0);
    // A field that is put together from others stands for those.
    let asked = part.fields.of(asked).fold(0, |mask, field| mask | field.mask_in(register));
    for field in part.fields.of(&register.fields).filter(|field| !field.joined) {
        let mask = field.mask_in(register);
        if field.access.is_action() {
            value &= !mask | asked;
        }
        // What the part alone sets is written as after a reset, whatever was read there last.
        if matches!(field.access, Access::ReadOnly | Access::ClearOnRead) {
            value = (value & !mask) | (reset & mask);
        }
    }
    for reserved in &register.reserved {
        value = (value & !reserved.mask) | reserved.write.unwrap_or(reset & reserved.mask);
    }
    value & register.mask()
}

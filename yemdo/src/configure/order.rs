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
    let mut search = Search { part, start, end, asked, state: start.clone(), pending: Vec::new(), done: Vec::new() };
    search.pending = search.wanted(which);
    search.write_what_is_open();
    let most = 4 * part.registers.len() + 8;
    while let Some(register) = search.pending.first().and_then(|(waiting, _)| part.registers.get(*waiting)) {
        if !search.open(register) || search.done.len() > most {
            return Err(ConfigureError::Unreachable { register: register.name.clone(), needs: search.needs(register) });
        }
        search.write_what_is_open();
        if search.pending.is_empty() {
            search.restore();
        }
    }
    Ok(search.done)
}

/// A search for an order in which every register can be reached when its turn comes.
struct Search<'a> {
    part: &'a Part,
    start: &'a Settings,
    end: &'a Settings,
    asked: &'a [(usize, i128)],
    /// The registers as they are after what is done.
    state: Settings,
    /// Registers that are still to be written.
    pending: Vec<(usize, Option<Why>)>,
    done: Vec<Write>,
}

impl Search<'_> {
    /// The registers that hold what was asked for and have to be written.
    fn wanted(&self, which: Which) -> Vec<(usize, Option<Why>)> {
        let as_after_reset = *self.start == Settings::reset(self.part);
        let wanted = |register: &Register| {
            let asked = || self.asked.iter().filter(|(field, _)| register.fields.contains(field));
            let is_action = |field: usize| {
                let access = self.part.fields.get(field).map(|field| field.access);
                matches!(access, Some(Access::WriteOneToClear | Access::SelfClearing))
            };
            // Ones that do something are done even where the image does not change; noughts do nothing ever.
            let acts = |(field, code): &(usize, i128)| *code != 0 && is_action(*field);
            let matters = |(field, code): &(usize, i128)| *code != 0 || !is_action(*field);
            let changed = self.start.register(register) != self.end.register(register);
            let unknown = register.reset.is_none() && as_after_reset;
            let needed = changed || unknown || asked().any(acts);
            asked().next().is_some() && (which == Which::All || (needed && asked().any(matters)))
        };
        let all = self.part.registers.iter().enumerate();
        all.filter(|(_, register)| wanted(register)).map(|(index, _)| (index, None)).collect()
    }

    /// Writes what can be reached, until nothing is left that can.
    fn write_what_is_open(&mut self) {
        while let Some(at) = self.next() {
            let (index, why) = self.pending.remove(at);
            self.write(index, self.end.clone(), why);
        }
    }

    /// Writes a register as an image has it.
    fn write(&mut self, index: usize, image: Settings, why: Option<Why>) {
        let Some(register) = self.part.registers.get(index) else { return };
        let asked: Vec<usize> = self.asked.iter().map(|(field, _)| *field).collect();
        let (value, after) = value_to_write(self.part, index, image.register(register), &asked);
        let written = self.done.iter().any(|write| write.register == index);
        let known = register.reset.is_some() || *self.start != Settings::reset(self.part) || written;
        self.done.push(Write { register: index, before: known.then(|| self.state.register(register)), value, after, why });
        self.state.set_register(register, after);
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

    /// Changes, for the time being, what stands in the way of a register; `false` where that cannot be reached itself.
    fn open(&mut self, register: &Register) -> bool {
        let closed: Vec<(usize, i128)> = conditions(register).filter(|(field, code)| !self.holds(&self.state, *field, *code)).collect();
        let mut opened = false;
        for (field, code) in closed {
            for home in 0..self.part.registers.len() {
                let reachable = |home: &&Register| home.fields.contains(&field) && self.reachable(&self.state, home);
                let there = self.part.registers.get(home).filter(reachable).and(self.part.fields.get(field));
                if let Some(model) = there {
                    let mut image = self.state.clone();
                    image.set_field(model, code);
                    self.write(home, image, Some(Why::Opens));
                    opened = true;
                }
            }
        }
        opened
    }

    /// Puts back what was only changed to open the way.
    fn restore(&mut self) {
        let changed = |index: &usize| {
            let register = self.part.registers.get(*index);
            register.is_some_and(|register| self.state.register(register) != self.end.register(register))
        };
        let mut opened: Vec<usize> = self.done.iter().filter(|write| write.why == Some(Why::Opens)).map(|write| write.register).collect();
        opened.sort_unstable();
        opened.dedup();
        self.pending = opened.into_iter().filter(changed).map(|index| (index, Some(Why::Restores))).collect();
        self.write_what_is_open();
    }

    fn reachable(&self, state: &Settings, register: &Register) -> bool {
        conditions(register).all(|(field, code)| self.holds(state, field, code))
    }

    fn holds(&self, state: &Settings, field: usize, code: i128) -> bool {
        self.part.fields.get(field).is_none_or(|field| state.field(field) == code)
    }

    /// What a register waits for, in words.
    fn needs(&self, register: &Register) -> String {
        let needs: Vec<String> = conditions(register).filter_map(|(field, code)| self.part.setting_text(field, code)).collect();
        needs.join(" and ")
    }
}

/// What must hold while a register is written.
fn conditions(register: &Register) -> impl Iterator<Item = (usize, i128)> {
    register.bank.iter().chain(&register.writable).copied()
}

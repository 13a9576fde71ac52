//! What readings take from settings and parameters, as one would type it.

use super::ids::{FieldId, FrameId, RegisterId};
use super::input::Input;
use super::part::Sheet;
use super::registers::Access;
use super::state::State;
use crate::ground::words::with_unit;

/// A setting or parameter that readings take something from, and that is not in their frames.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct InUse {
    /// Its name, as one types it: `REGISTER.FIELD` where the field's name alone may mean something else.
    pub name: String,
    /// Its present value, as one types it: [`assume`](crate::configure::assume) reads it back.
    pub value: String,
    /// It is as after a reset, or as its default, or as frames need it ([`State::while_read`]).
    pub as_reset: bool,
    /// False for a setting without a known value.
    pub is_known: bool,
}

/// Text for the value of an unknown setting.
pub(crate) const UNKNOWN: &str = "unknown";

/// Stands before a code that no row of its field's table has.
pub(crate) const BARE_CODE: &str = "code ";

impl State {
    /// The settings and parameters that readings of some frames take something from, with their values in this state. A field
    /// that only decides if frames are valid is listed if it has another value than they need.
    pub fn in_use(&self, part: &Sheet, frames: &[FrameId]) -> Vec<InUse> {
        let reset = State::while_read(part);
        let mut found: Vec<InUse> = Vec::new();
        let computed = part.held_inputs_of(frames, &|condition| condition.needs.is_none());
        for input in part.held_inputs(frames) {
            let used = match input {
                Input::Field(id) | Input::Column(id, _) => {
                    let field = &part.fields[id];
                    let code = self.value_of(field);
                    let as_reset = code == reset.value_of(field);
                    if as_reset && !computed.contains(&input) {
                        continue;
                    }
                    InUse { name: part.setting_name(id), value: part.present_text(id, code), as_reset, is_known: code.is_some() }
                }
                Input::Parameter(id) => {
                    let Some(value) = self.parameter(id) else { continue };
                    let parameter = &part.parameters[id];
                    let as_reset = value.to_bits() == parameter.default.to_bits();
                    let typed = with_unit(value, parameter.unit.as_deref().unwrap_or(""));
                    InUse { name: parameter.name.clone(), value: typed, as_reset, is_known: true }
                }
                // Other inputs follow from these.
                _ => continue,
            };
            if !found.iter().any(|known| known.name == used.name) {
                found.push(used);
            }
        }
        found
    }
}

impl State {
    /// Registers to read before frames of these kinds are decoded: readings of the frames use fields of these registers that formulas have no
    /// value for ([`value_of`](State::value_of)). Registers that the frames bring, and registers that reading clears, are left out.
    pub fn unread(&self, part: &Sheet, frames: &[FrameId]) -> Vec<RegisterId> {
        let mut found = Vec::new();
        let brought = |field: FieldId| part.frames.of(frames).flat_map(|frame| &frame.fields).any(|(known, _)| *known == field);
        for field in part.held_inputs(frames).into_iter().filter_map(Input::field).filter(|field| !brought(*field)) {
            for id in part.homes(field) {
                let register = &part.registers[id];
                let clears = register.fields.iter().any(|field| part.fields[*field].access == Access::ClearOnRead);
                let wanted = register.access.is_readable() && !clears && !self.has_value_of(&part.fields[field]);
                if wanted && !found.contains(&id) {
                    found.push(id);
                }
            }
        }
        found
    }
}

impl Sheet {
    /// Whether some frame brings a setting that readings of another frame depend on.
    pub fn brings_settings(&self) -> bool {
        let held = self.frames.ids().flat_map(|frame| self.held_inputs(&[frame]));
        let held: Vec<FieldId> = held.filter_map(Input::field).collect();
        self.frames.iter().flat_map(|frame| &frame.fields).any(|(field, _)| held.contains(field))
    }

    /// The name of a field as one types it to set it: `REGISTER.FIELD` where its own name alone may mean something else.
    pub fn setting_name(&self, id: FieldId) -> String {
        let field = &self.fields[id];
        let other = self.quantities.iter().any(|quantity| quantity.name == field.name)
            || self.parameters.iter().any(|parameter| parameter.name == field.name);
        match field.register.map(|register| &self.registers[register]) {
            Some(home) if other || self.field(&field.name).ok() != Some(id) => format!("{}.{}", home.name, field.name),
            _ => field.name.clone(),
        }
    }

    /// A code of a field as one types it: the name of its row, or a number.
    pub(crate) fn present_text(&self, id: FieldId, code: Option<i128>) -> String {
        let field = &self.fields[id];
        match code {
            None => UNKNOWN.to_owned(),
            Some(code) => {
                let text = field.value_text(code);
                let row = field.value(code);
                // A number may be the name of another row, or of none.
                let bare = row.is_none_or(|row| row.name.is_none() && field.values.iter().any(|other| other.name.as_ref() == Some(&text)));
                if bare && !field.values.is_empty() { format!("{BARE_CODE}{code}") } else { text }
            }
        }
    }
}

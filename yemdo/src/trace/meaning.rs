//! Meaning of a transfer: registers with their fields, commands, frames.

use std::fmt;

use crate::model::ids::{FieldId, FrameId, RegisterId};
use crate::model::operation::Action;
use crate::model::part::Sheet;
use crate::model::registers::Register;
use crate::model::state::State;
use crate::model::value::Present;

/// Meaning of a transfer, or of a part of it, by the sheet.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Meaning {
    /// A register was written.
    Written {
        /// The register.
        register: RegisterId,
        /// Its name and value, and the fields that changed.
        text: String,
    },
    /// A register was read.
    Read {
        /// The register.
        register: RegisterId,
        /// Its name and value, and its fields.
        text: String,
    },
    /// A frame is complete.
    Frame {
        /// The frame.
        frame: FrameId,
        /// Its name.
        text: String,
    },
    /// A command for a frame, or of a routine.
    Command {
        /// The requested frame.
        frame: Option<FrameId>,
        /// In words.
        text: String,
    },
    /// A part of a register; or one of several registers, if it is unknown which bank is selected.
    Doubtful {
        /// In words.
        text: String,
    },
    /// The address alone: a client that looks whether the part is there.
    Ping,
    /// Unknown to the sheet.
    Unknown,
}

impl fmt::Display for Meaning {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Meaning::Written { text, .. }
            | Meaning::Read { text, .. }
            | Meaning::Frame { text, .. }
            | Meaning::Command { text, .. }
            | Meaning::Doubtful { text } => f.write_str(text),
            Meaning::Ping => f.write_str("address alone"),
            Meaning::Unknown => f.write_str("unknown"),
        }
    }
}

/// A register write, with the fields that it changes, as written.
pub(super) fn written(part: &Sheet, id: RegisterId, value: u64, before: &State) -> Meaning {
    let register = &part.registers[id];
    let mut after = before.clone();
    after.set_register(register, value);
    let changed = |field: &FieldId| before.known_field(&part.fields[*field]) != after.known_field(&part.fields[*field]);
    let mut fields = fields(part, register, &after, changed);
    if fields.is_empty() && !register.fields.is_empty() {
        fields = "no change".into();
    }
    Meaning::Written { register: id, text: with_fields(register, value, &fields) }
}

/// A register read, with its fields.
pub(super) fn read(part: &Sheet, id: RegisterId, value: u64, after: &State, in_frame: bool) -> Meaning {
    let register = &part.registers[id];
    let fields = if in_frame { String::new() } else { fields(part, register, after, |_| true) };
    Meaning::Read { register: id, text: with_fields(register, value, &fields) }
}

fn with_fields(register: &Register, value: u64, fields: &str) -> String {
    let digits = register.bytes * 2;
    let colon = if fields.is_empty() { "" } else { ": " };
    format!("{} = 0x{value:0digits$X}{colon}{fields}", register.name)
}

fn fields(part: &Sheet, register: &Register, state: &State, shown: impl Fn(&FieldId) -> bool) -> String {
    let known = |id: &FieldId| part.setting_text(*id, state.known_field(&part.fields[*id])?);
    let shown = register.fields.iter().filter(|field| !part.fields[**field].joined && shown(field));
    shown.filter_map(known).collect::<Vec<_>>().join(", ")
}

/// A command of the part, in words: the frame that it asks for, otherwise the routines that send it.
pub(super) fn command(part: &Sheet, state: &State, sent: &[u8]) -> Option<Meaning> {
    let present = Present { part, state };
    let is_sent = |command: &crate::model::command::Command| command.now(&present).is_ok_and(|now| now == sent);
    let asks = part.frames.entries().find(|(_, frame)| {
        let mut exchanges = frame.origin.exchanges().iter();
        exchanges.any(|exchange| !exchange.command.is_empty() && is_sent(&exchange.command))
    });
    if let Some((frame, model)) = asks {
        return Some(Meaning::Command { frame: Some(frame), text: format!("command for {}", model.name) });
    }
    let sends = |action: &Action| matches!(action, Action::Write(command) if is_sent(command));
    let routines = part.routines.iter().filter(|routine| routine.steps.iter().any(|step| sends(&step.action)));
    let names: Vec<&str> = routines.map(|routine| routine.name.as_str()).collect();
    (!names.is_empty()).then(|| Meaning::Command { frame: None, text: format!("command of {}", names.join(", ")) })
}

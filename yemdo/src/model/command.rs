//! Bytes that are sent to a part; some may depend on settings.

use super::operation::Time;
use super::part::Sheet;
use super::value::Present;
use crate::formula::typed::Formula;
use crate::ground::hex::to_hex;

/// Bytes that are sent: a command, with its arguments.
#[derive(Clone, Debug, Default)]
pub struct Command {
    bytes: Vec<CommandByte>,
}

/// One byte of a command.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum CommandByte {
    /// It is always the same.
    Fixed(u8),
    /// A formula over settings and parameters, computed when it is sent.
    Formula(Formula),
}

/// Bytes to send, a wait, and the number of bytes to read.
#[derive(Clone, Debug)]
pub struct Exchange {
    /// Bytes to send first; empty for a part without commands.
    pub command: Command,
    /// The time between the two.
    pub wait: Option<Time>,
    /// How many bytes are read.
    pub read: usize,
}

/// A formula of a command, or of a time, gives nothing that can be sent or waited for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NotSent {
    /// The formula as typed.
    pub formula: String,
}

impl Command {
    pub(crate) fn new(bytes: Vec<CommandByte>) -> Self {
        Self { bytes }
    }

    /// Its bytes.
    pub fn bytes(&self) -> &[CommandByte] {
        &self.bytes
    }

    /// Whether nothing is sent.
    pub fn is_empty(&self) -> bool {
        self.bytes.is_empty()
    }

    /// Its bytes, where they are always the same.
    pub fn fixed(&self) -> Option<Vec<u8>> {
        let fixed = |byte: &CommandByte| if let CommandByte::Fixed(byte) = byte { Some(*byte) } else { None };
        self.bytes.iter().map(fixed).collect()
    }

    /// Text as in a sheet: hex, and formulas in brackets.
    pub fn text(&self, part: &Sheet) -> String {
        let one = |byte: &CommandByte| match byte {
            CommandByte::Fixed(byte) => to_hex(&[*byte]),
            CommandByte::Formula(formula) => format!("({})", part.typed(formula)),
        };
        if self.bytes.is_empty() { "the address alone".into() } else { self.bytes.iter().map(one).collect::<Vec<_>>().join(" ") }
    }

    /// The bytes to be sent now.
    pub(crate) fn now(&self, present: &Present<'_>) -> Result<Vec<u8>, NotSent> {
        let one = |byte: &CommandByte| match byte {
            CommandByte::Fixed(byte) => Ok(*byte),
            CommandByte::Formula(formula) => {
                let value = present.compute(formula).ok().filter(|value| (0.0..256.0).contains(value) && value.fract() == 0.0);
                value.map(|value| value as u8).ok_or_else(|| NotSent { formula: present.part.typed(formula) })
            }
        };
        self.bytes.iter().map(one).collect()
    }

    pub(crate) fn formulas_mut(&mut self) -> impl Iterator<Item = &mut Formula> {
        self.bytes.iter_mut().filter_map(|byte| if let CommandByte::Formula(formula) = byte { Some(formula) } else { None })
    }

    pub(crate) fn formulas(&self) -> impl Iterator<Item = &Formula> {
        self.bytes.iter().filter_map(|byte| if let CommandByte::Formula(formula) = byte { Some(formula) } else { None })
    }
}

impl Exchange {
    pub(crate) fn formulas(&self) -> impl Iterator<Item = &Formula> {
        let wait = if let Some(Time::Formula(formula)) = &self.wait { Some(formula) } else { None };
        self.command.formulas().chain(wait)
    }
}

impl Time {
    /// In microseconds, as settings and parameters are now: up to an hour.
    pub(crate) fn micros(&self, present: &Present<'_>) -> Result<u64, NotSent> {
        match self {
            Time::Fixed(micros) => Ok(*micros),
            Time::Formula(formula) => match present.compute(formula) {
                Ok(ms) if (0.0..=3.6e6).contains(&ms) => Ok((ms * 1000.0).ceil() as u64),
                _ => Err(NotSent { formula: present.part.typed(formula) }),
            },
        }
    }
}

impl std::fmt::Display for NotSent {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "`{}` gives nothing that can be sent or waited for, with these settings", self.formula)
    }
}

impl std::error::Error for NotSent {}

//! Violations of the sheet by the client.

use std::fmt;

/// A violation of the sheet by the client, by an action or an omission.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Violation {
    /// Microseconds since power-up.
    pub at: u64,
    /// Which rule.
    pub rule: Rule,
    /// Description, with names and values.
    pub what: String,
    /// Line of the sheet, from 1; `None` if no line applies.
    pub line: Option<usize>,
}

/// Rules for clients of a stand-in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[non_exhaustive]
pub enum Rule {
    /// Read before the wait that the sheet states was over.
    ReadTooEarly,
    /// Read although no measurement was ever started.
    NotStarted,
    /// Read while the part was asleep, or in another mode than the frame needs.
    NotValid,
    /// Reserved bits were written with other values than the sheet states.
    ReservedBits,
    /// Bits were written that the part forces or only reports.
    ForcedBits,
    /// A register was written in a mode that forbids it.
    Locked,
    /// A register was written that can only be read.
    ReadOnly,
    /// A register was read that can only be written.
    WriteOnly,
    /// There is no register at this address, or not in this bank.
    UnknownRegister,
    /// Bytes that are no command of the part.
    UnknownCommand,
    /// A code that is not in the field's table.
    UndefinedValue,
    /// A register was written or read in part.
    PartOfRegister,
    /// Bytes of a frame were left unread, among them a check value.
    CheckNotRead,
    /// Fewer or more bytes were read than the frame has.
    WrongLength,
    /// A status bit for the validity of readings was never read.
    StatusNotRead,
    /// Calibration words were never read, and readings need them.
    CalibrationNotRead,
    /// An alert was raised and never read.
    AlertNotCleared,
    /// Several registers were read without setting the bit for auto-increment.
    NoAutoIncrement,
    /// The clock was faster than the sheet allows.
    ClockTooFast,
    /// A Modbus function that the part does not have.
    UnknownFunction,
}

impl Rule {
    /// All rules.
    pub const ALL: [Rule; 20] = [
        Rule::ReadTooEarly,
        Rule::NotStarted,
        Rule::NotValid,
        Rule::ReservedBits,
        Rule::ForcedBits,
        Rule::Locked,
        Rule::ReadOnly,
        Rule::WriteOnly,
        Rule::UnknownRegister,
        Rule::UnknownCommand,
        Rule::UndefinedValue,
        Rule::PartOfRegister,
        Rule::CheckNotRead,
        Rule::WrongLength,
        Rule::StatusNotRead,
        Rule::CalibrationNotRead,
        Rule::AlertNotCleared,
        Rule::NoAutoIncrement,
        Rule::ClockTooFast,
        Rule::UnknownFunction,
    ];

    /// Short name.
    pub fn as_str(self) -> &'static str {
        self.texts().0
    }

    /// Whether it is about the number of bytes of a transfer.
    pub(crate) fn is_about_length(self) -> bool {
        matches!(self, Rule::PartOfRegister | Rule::WrongLength | Rule::CheckNotRead | Rule::NoAutoIncrement)
    }

    /// Possible effect of a violation.
    pub fn effect(self) -> &'static str {
        self.texts().1
    }

    fn texts(self) -> (&'static str, &'static str) {
        match self {
            Rule::ReadTooEarly => ("read too early", "the previous reading, half of a new one, or no acknowledgement"),
            Rule::NotStarted => ("not started", "the reset value or an old value, taken for a reading"),
            Rule::NotValid => ("not valid", "an old value, a reset value, or a value of another mode, taken for a reading"),
            Rule::ReservedBits => ("reserved bits", "a test mode, or a part that works today and not in its next revision"),
            Rule::ForcedBits => ("forced bits", "a setting with another value than the driver assumes"),
            Rule::Locked => ("locked register", "the write is ignored: the part keeps its old setting"),
            Rule::ReadOnly => ("read-only register", "the write is ignored"),
            Rule::WriteOnly => ("write-only register", "undefined bytes"),
            Rule::UnknownRegister => ("unknown register", "another register is changed, or undefined bytes are read"),
            Rule::UnknownCommand => ("unknown command", "the part ignores it, or behaves in an undocumented way"),
            Rule::UndefinedValue => ("undefined value", "undocumented behaviour"),
            Rule::PartOfRegister => ("part of a register", "half of an old value and half of a new one"),
            Rule::CheckNotRead => ("check not read", "a flipped bit on the bus becomes a reading"),
            Rule::WrongLength => ("wrong length", "truncated codes, or bytes of other data"),
            Rule::StatusNotRead => ("status not read", "an old, saturated or invalid value is taken for a good one"),
            Rule::CalibrationNotRead => ("calibration not read", "readings with the error of an uncalibrated part"),
            Rule::AlertNotCleared => ("alert not cleared", "the alert output stays active, and the next alert is not noticed"),
            Rule::NoAutoIncrement => ("no auto-increment", "the first register's byte is read again and again"),
            Rule::ClockTooFast => ("clock too fast", "occasional bit errors, on some boards only"),
            Rule::UnknownFunction => ("unknown function", "the part answers with an exception"),
        }
    }
}

impl fmt::Display for Violation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:.3} ms  {}: {}", self.at as f64 / 1000.0, self.rule.as_str(), self.what)?;
        self.line.iter().try_for_each(|line| write!(f, " (line {line} of the sheet)"))
    }
}

/// Violations so far; repeated ones are counted.
#[derive(Clone, Debug, Default)]
pub(super) struct Judge {
    pub(super) violations: Vec<Violation>,
    /// How often each was repeated.
    pub(super) repeated: Vec<u64>,
}

/// Maximum number of different violations.
const MOST: usize = 1000;

impl Judge {
    pub(super) fn report(&mut self, at: u64, rule: Rule, what: String, line: Option<usize>) {
        let same = |violation: &Violation| violation.rule == rule && violation.line == line && violation.what == what;
        match self.violations.iter().position(same) {
            Some(known) => self.repeated.get_mut(known).into_iter().for_each(|count| *count += 1),
            None if self.violations.len() < MOST => {
                self.violations.push(Violation { at, rule, what, line });
                self.repeated.push(0);
            }
            None => {}
        }
    }
}

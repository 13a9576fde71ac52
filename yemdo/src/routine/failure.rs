//! Why a routine failed.

use std::fmt;

use crate::bus::modbus::ResponseError;
use crate::plan::accept::Refusal;
use crate::plan::read_back::Difference;
use crate::plan::writes::Unreachable;

/// Why a routine failed.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct RoutineError {
    /// Name of the routine.
    pub routine: String,
    /// Line of the step in the sheet.
    pub line: usize,
    /// What happened.
    pub failure: Failure,
}

/// What happened in a routine.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Failure {
    /// The part did not acknowledge, as often as was tried.
    NoAnswer {
        /// How often.
        tries: u32,
    },
    /// Another number of bytes came than was asked for.
    Short {
        /// Asked for.
        expected: usize,
        /// Came.
        found: usize,
    },
    /// A condition did not hold in time.
    TimedOut {
        /// What was waited for.
        waited_for: String,
        /// How long, in microseconds.
        micros: u64,
    },
    /// What was expected is not so: another part, or none.
    Unexpected {
        /// The condition.
        condition: String,
        /// What was read for it: names and values.
        found: Vec<(String, String)>,
    },
    /// What came is not a good frame.
    Refused(Refusal),
    /// A register reads otherwise than it was written.
    NotTaken {
        /// The register.
        register: String,
        /// Written, and read.
        values: (u64, u64),
        /// How they differ.
        difference: Difference,
    },
    /// A formula of the step gave no value.
    NoValue {
        /// The formula.
        formula: String,
    },
    /// A register of the step cannot be written in any order.
    Unreachable {
        /// The register.
        register: String,
        /// What it waits for, in words.
        needs: String,
    },
    /// What came over Modbus is no good response.
    Response(ResponseError),
    /// The answer does not fit what was asked.
    WrongAnswer,
}

impl fmt::Display for RoutineError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // What is read or written without a routine has no step.
        if !self.routine.is_empty() {
            write!(f, "{}, step in line {}: ", self.routine, self.line)?;
        }
        match &self.failure {
            Failure::NoAnswer { tries: 1 } => f.write_str("the part does not acknowledge"),
            Failure::NoAnswer { tries } => write!(f, "the part did not acknowledge {tries} times"),
            Failure::Short { expected, found } => write!(f, "expected {expected} bytes, got {found}"),
            Failure::TimedOut { waited_for, micros } => write!(f, "{waited_for} did not come within {} ms", *micros as f64 / 1000.0),
            Failure::Unexpected { condition, found } => {
                let found: Vec<String> = found.iter().map(|(name, value)| format!("{name} = {value}")).collect();
                write!(f, "expected {condition}, found {}", found.join(", "))
            }
            Failure::Refused(refusal) => refusal.fmt(f),
            Failure::NotTaken { register, values: (written, read), difference } => {
                write!(f, "{register} was written 0x{written:02X} and reads 0x{read:02X}: {}", difference.cause())
            }
            Failure::NoValue { formula } => write!(f, "`{formula}` gives no value"),
            Failure::Unreachable { register, needs } => write!(f, "{register} cannot be written: it needs {needs}"),
            Failure::Response(error) => error.fmt(f),
            Failure::WrongAnswer => f.write_str("the answer does not fit what was asked"),
        }
    }
}

impl std::error::Error for RoutineError {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        match &self.failure {
            Failure::Refused(refusal) => Some(refusal),
            Failure::Response(error) => Some(error),
            _ => None,
        }
    }
}

impl From<Unreachable> for Failure {
    fn from(Unreachable { register, needs }: Unreachable) -> Self {
        Failure::Unreachable { register, needs }
    }
}

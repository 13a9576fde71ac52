//! One frame, decoded.

use std::fmt;

use crate::formula::program::FaultKind;
use crate::model::part::{Code, CodeNumber, Frame};
use crate::model::status::Status;

/// A fault of a formula.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// What went wrong.
    pub kind: FaultKind,
    /// Line of the sheet, from 1; `None` where it is about the formula as a whole.
    pub line: Option<usize>,
    /// The operation that failed, with the values at hand: `9 * 1000000000`; or the values that were needed and are at
    /// fault, by name: `ratio`.
    pub operation: Option<String>,
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.kind.describe())?;
        self.line.iter().try_for_each(|line| write!(f, " in line {line} of the sheet"))?;
        self.operation.iter().try_for_each(|operation| write!(f, ": {operation}"))
    }
}

/// A code of a frame, with its name.
#[derive(Clone, Debug)]
pub struct CodeValue<'p> {
    /// The code in the model.
    pub code: &'p Code,
    /// The joined bits; of a text, those of its last eight characters.
    pub raw: u64,
    /// What they make.
    pub value: CodeNumber,
}

/// A reading.
#[derive(Clone, Debug)]
pub struct Reading<'p> {
    /// Its name.
    pub name: &'p str,
    /// Its unit.
    pub unit: &'p str,
    /// Its value in that unit; `None` where the status has no value.
    pub value: Option<f64>,
    /// How far it is to be believed.
    pub status: Status,
    /// The datasheet's words for the status, where it has some.
    pub means: Option<&'p str>,
    /// Names of the frames that have not come yet.
    pub waits_for: Vec<&'p str>,
    /// What went wrong in its formula.
    pub fault: Option<Fault>,
    /// The codes that it comes from.
    pub codes: Vec<CodeValue<'p>>,
    /// Decimals worth showing.
    pub decimals: usize,
}

/// One frame, decoded.
#[derive(Clone, Debug)]
pub struct Decoded<'p> {
    /// The frame in the model.
    pub frame: &'p Frame,
    /// All its codes.
    pub codes: Vec<CodeValue<'p>>,
    /// Its readings, in the sheet's order.
    pub readings: Vec<Reading<'p>>,
}

impl<'p> Decoded<'p> {
    /// The reading of that name.
    pub fn reading(&self, name: &str) -> Option<&Reading<'p>> {
        self.readings.iter().find(|reading| reading.name == name)
    }
}

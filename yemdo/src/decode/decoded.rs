//! One frame, decoded.

use std::fmt;

use crate::formula::fault::FaultKind;
use crate::ground::digits::Digits;
use crate::ground::number::{Number, Ty};
use crate::ground::words::with_unit;
use crate::model::frame::CodeContent;
use crate::model::ids::{CodeId, FrameId, ReadingId};
use crate::model::name::{Kind, UnknownName};
use crate::model::part::{Part, Sheet};
use crate::model::status::Status;

/// A fault of a formula.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct FormulaFault {
    /// What went wrong.
    pub kind: FaultKind,
    /// Line of the sheet, from 1; `None` where it is about the formula as a whole.
    pub line: Option<usize>,
    /// The operation that failed, with the values at hand: `9 * 1000000000`; or the values that were needed and are at
    /// fault, by name: `ratio`.
    pub operation: Option<String>,
}

impl fmt::Display for FormulaFault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // The text for an input without a value needs no introduction.
        if let (FaultKind::NoValue, None, Some(input)) = (self.kind, self.line, &self.operation) {
            return f.write_str(input);
        }
        f.write_str(self.kind.describe())?;
        self.line.iter().try_for_each(|line| write!(f, " in line {line} of the sheet"))?;
        self.operation.iter().try_for_each(|operation| write!(f, ": {operation}"))
    }
}

/// A code of a frame, as it came.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct CodeValue {
    /// The code in the part.
    pub id: CodeId,
    /// Its name.
    pub name: String,
    /// The joined bits; of a text, those of its last eight characters.
    pub raw: u64,
    /// Value of the bits.
    pub value: CodeContent,
}

impl CodeValue {
    /// A code in the bytes of its frame.
    pub(crate) fn of(part: &Sheet, id: CodeId, bytes: &[u8]) -> Option<Self> {
        let code = part.codes.get(id)?;
        Some(Self { id, name: code.name.clone(), raw: code.gather.raw(bytes), value: code.value(bytes) })
    }
}

/// A reading of a frame. It prints as its value with unit, or as the reason for a missing value.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct ReadingValue {
    /// The reading in the part.
    pub id: ReadingId,
    /// Its name.
    pub name: String,
    /// Its unit.
    pub unit: String,
    /// Its value in that unit; `None` where the status has no value.
    pub value: Option<f64>,
    /// The same as the formula's type holds it: an integer of 64 bits keeps all its digits.
    pub number: Option<Number>,
    /// Status.
    pub status: Status,
    /// The datasheet's words for the status, where it has some.
    pub means: Option<String>,
    /// Names of the frames that have not come yet.
    pub waits_for: Vec<String>,
    /// What went wrong in its formula.
    pub fault: Option<FormulaFault>,
    /// Reason for the status: the datasheet's words, the fault, the stated range, or the missing frames. `None` for an ok reading.
    pub why: Option<String>,
    /// The codes that it comes from.
    pub codes: Vec<CodeValue>,
    /// The digits of it that are worth showing, with the settings of now.
    pub digits: Digits,
}

impl ReadingValue {
    /// Its value with its unit; `None` where it has none. An integer of 64 bits keeps all its digits.
    pub fn value_text(&self) -> Option<String> {
        let value = self.value?;
        let text = match self.number {
            Some(number @ Number::Int(_, Ty::I64 | Ty::U64)) => number.to_string(),
            _ => self.digits.text(value),
        };
        // A ratio is a number alone.
        Some(with_unit(text, &self.unit))
    }
}

impl fmt::Display for ReadingValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.value {
            Some(_) => {
                f.write_str(&self.value_text().unwrap_or_default())?;
                if self.status == Status::Ok { Ok(()) } else { write!(f, " ({})", self.status.as_str()) }
            }
            None => {
                write!(f, "no value: {}", self.status.as_str())?;
                self.why.iter().try_for_each(|why| write!(f, ": {why}"))
            }
        }
    }
}

/// One frame, decoded.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Decoded {
    /// The frame.
    pub frame: FrameId,
    /// All its codes.
    pub codes: Vec<CodeValue>,
    /// Its readings, in the sheet's order.
    pub readings: Vec<ReadingValue>,
    pub(super) part: Part,
}

impl Decoded {
    /// The reading of that name.
    ///
    /// # Errors
    /// [`UnknownName`], with the names of the frame's readings.
    pub fn reading(&self, name: &str) -> Result<&ReadingValue, UnknownName> {
        self.readings.iter().find(|reading| reading.name == name).ok_or_else(|| UnknownName {
            part: self.part.name.clone(),
            kind: Kind::Reading,
            name: name.to_owned(),
            known: self.readings.iter().map(|reading| reading.name.clone()).collect(),
            ways: Vec::new(),
            is_derived: false,
        })
    }
}

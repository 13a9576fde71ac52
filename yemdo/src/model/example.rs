//! Worked examples.

use super::ids::{CodeId, FieldId, FrameId, QuantityId, ReadingId, RegisterId};
use super::status::Status;
use crate::formula::fault::FaultKind;
use crate::ground::text::Span;

/// A worked example.
#[derive(Clone, Debug)]
pub struct Example {
    pub(crate) span: Span,
    pub(crate) datasheet: Option<String>,
    /// Fields and their codes.
    pub(crate) set: Vec<(FieldId, i128)>,
    /// Parameters and quantities, as `NAME=VALUE`.
    pub(crate) supplied: Vec<(String, Span)>,
    /// Registers, and the values that are written to them.
    pub(crate) writes: Vec<(RegisterId, u64, Span)>,
    /// The bytes of every write, in order.
    pub(crate) sends: Option<(Vec<Vec<u8>>, Span)>,
    /// Frames and their bytes.
    pub(crate) frames: Vec<(FrameId, Vec<u8>)>,
    /// When each of them came, in seconds; none where that is not said.
    pub(crate) times: Vec<f64>,
    pub(crate) gives: Vec<(Subject, Expected, Span)>,
    /// The cause for which a frame is refused.
    pub(crate) refused: Option<&'static str>,
}

impl Example {
    /// Its place in the sheet.
    pub fn span(&self) -> Span {
        self.span
    }

    /// Source in the datasheet.
    pub fn datasheet(&self) -> Option<&str> {
        self.datasheet.as_deref()
    }

    /// The fields that are not as after a reset, and their codes.
    pub fn settings(&self) -> &[(FieldId, i128)] {
        &self.set
    }

    /// The parameters and quantities that it sets, as `NAME=VALUE`.
    pub fn supplied(&self) -> impl Iterator<Item = &str> {
        self.supplied.iter().map(|(typed, _)| typed.as_str())
    }

    /// When each of its frames came, in seconds since the first; none where the example does not say.
    pub fn times(&self) -> &[f64] {
        &self.times
    }

    /// Its frames and their bytes.
    pub fn frames(&self) -> &[(FrameId, Vec<u8>)] {
        &self.frames
    }
}

/// What an example has an expectation of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Subject {
    Reading(ReadingId),
    Code(CodeId),
    /// Expected value of a quantity after the settings.
    Quantity(QuantityId),
    /// A local variable of a reading's or shared value's formula, or the shared value itself.
    Step(ReadingId, Option<String>),
}

/// What an example expects.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Expected {
    /// A value, to within half a unit of its last printed digit.
    Value {
        value: f64,
        tolerance: f64,
        text: String,
    },
    Status(Status),
    /// A fault of the formula.
    Fault(FaultKind),
    /// The text of a code.
    Text(String),
}

//! Readings, what codes say about them, and the numbers that the user supplies.

use super::ids::{CodeId, FrameId};
use super::status::Status;
use crate::formula::typed::Formula;
use crate::ground::text::Span;

/// What a condition over the codes says about a reading.
#[derive(Clone, Debug)]
pub struct Condition {
    pub(crate) formula: Formula,
    /// What holds where the condition does.
    pub status: Status,
    /// The datasheet's words for it.
    pub means: Option<String>,
}

impl Condition {
    /// The condition as typed, for messages.
    pub fn span(&self) -> Span {
        self.formula.span
    }
}

/// A physical quantity.
#[derive(Clone, Debug)]
pub struct Reading {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) unit: String,
    pub(crate) range: Option<(f64, f64)>,
    /// Decimals to show, where the sheet says.
    pub(crate) decimals: Option<usize>,
    pub(crate) formula: Formula,
    /// The frames whose codes it needs.
    pub(crate) frames: Vec<FrameId>,
    /// Codes that it uses, directly or through other readings, in the order of first use.
    pub(crate) codes: Vec<CodeId>,
    pub(crate) status: Vec<Condition>,
    pub(crate) means: Option<String>,
    /// A shared value is computed like a reading, but is none.
    pub(crate) shown: bool,
}

impl Reading {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its place in the sheet.
    pub fn span(&self) -> Span {
        self.span
    }

    /// Its unit, as typed in the sheet.
    pub fn unit(&self) -> &str {
        &self.unit
    }

    /// The range that the datasheet states, in [`unit`](Self::unit).
    pub fn range(&self) -> Option<(f64, f64)> {
        self.range
    }

    /// Whether it is a reading; a value that readings share is not.
    pub fn is_shown(&self) -> bool {
        self.shown
    }

    /// Its formula, typed.
    pub fn formula(&self) -> &Formula {
        &self.formula
    }

    /// The frames whose codes it needs.
    pub fn frames(&self) -> &[FrameId] {
        &self.frames
    }

    /// The codes that it uses.
    pub fn codes(&self) -> &[CodeId] {
        &self.codes
    }

    /// The datasheet's words for it.
    pub fn means(&self) -> Option<&str> {
        self.means.as_deref()
    }

    /// What codes say about it.
    pub fn conditions(&self) -> &[Condition] {
        &self.status
    }
}

/// A number that the user supplies.
#[derive(Clone, Debug)]
pub struct Parameter {
    /// Its name.
    pub name: String,
    /// Its place in the sheet.
    pub span: Span,
    /// Its value where the user gives none.
    pub default: f64,
    /// Its unit.
    pub unit: Option<String>,
    /// The values that are accepted.
    pub range: Option<(f64, f64)>,
    /// The datasheet's words for it.
    pub means: Option<String>,
}

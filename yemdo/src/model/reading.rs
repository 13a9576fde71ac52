//! Readings, what codes say about them, and the numbers that the user supplies.

use super::ids::{CodeId, FrameId};
use super::part::Sheet;
use super::registers::Settings;
use super::status::Status;
use super::value::Present;
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

/// A range that a datasheet states.
#[derive(Clone, Debug)]
pub(crate) struct StatedRange {
    pub(crate) low: End,
    pub(crate) high: End,
}

/// An end of a range: a number, or what follows from settings and parameters.
#[derive(Clone, Debug)]
pub(crate) enum End {
    Number(f64),
    Formula(Formula),
}

impl StatedRange {
    /// Its ends, where they are always the same.
    pub(crate) fn fixed(&self) -> Option<(f64, f64)> {
        match (&self.low, &self.high) {
            (End::Number(low), End::Number(high)) => Some((*low, *high)),
            _ => None,
        }
    }

    /// Its ends as settings and parameters are now.
    pub(crate) fn now(&self, present: &Present<'_>) -> Option<(f64, f64)> {
        let end = |end: &End| match end {
            End::Number(number) => Some(*number),
            End::Formula(formula) => present.compute(formula).ok(),
        };
        Some((end(&self.low)?, end(&self.high)?))
    }

    pub(crate) fn formulas(&self) -> impl Iterator<Item = &Formula> {
        [&self.low, &self.high].into_iter().filter_map(|end| if let End::Formula(formula) = end { Some(formula) } else { None })
    }
}

/// A physical quantity.
#[derive(Clone, Debug)]
pub struct Reading {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) unit: String,
    pub(crate) range: Option<StatedRange>,
    /// Decimals to show, where the sheet says.
    pub(crate) decimals: Option<usize>,
    pub(crate) formula: Formula,
    /// The frames whose codes it needs.
    pub(crate) frames: Vec<FrameId>,
    /// Codes that it uses, directly or through other readings, in the order of first use.
    pub(crate) codes: Vec<CodeId>,
    pub(crate) status: Vec<Condition>,
    pub(crate) means: Option<String>,
    pub(crate) source: Option<String>,
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

    /// Whether the datasheet states a range for it.
    pub fn has_range(&self) -> bool {
        self.range.is_some()
    }

    /// The range that the datasheet states, in [`unit`](Self::unit), with these settings and parameters; `None` where it states
    /// none, or one that has no value with them.
    pub fn range(&self, part: &Sheet, settings: &Settings, parameters: &[f64]) -> Option<(f64, f64)> {
        self.range.as_ref()?.now(&Present { part, settings, parameters, last: &[] })
    }

    /// The range that the datasheet states, where it is the same with all settings.
    pub(crate) fn fixed_range(&self) -> Option<(f64, f64)> {
        self.range.as_ref()?.fixed()
    }

    /// Its formulas: its own, those of its conditions, and those of its range.
    pub(crate) fn formulas(&self) -> impl Iterator<Item = &Formula> {
        let conditions = self.status.iter().map(|condition| &condition.formula);
        std::iter::once(&self.formula).chain(conditions).chain(self.range.iter().flat_map(StatedRange::formulas))
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

    /// Where the datasheet says so.
    pub fn source(&self) -> Option<&str> {
        self.source.as_deref()
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
    /// Where the datasheet says so.
    pub source: Option<String>,
}

//! Readings, what codes say about them, and the numbers that the user supplies.

use super::ids::{CodeId, FieldId, FrameId, ReadingId};
use super::part::Sheet;
use super::state::State;
use super::status::Status;
use super::value::Present;
use crate::formula::typed::Formula;
use crate::ground::number::Ty;
use crate::ground::text::Span;

/// Status condition of a reading.
#[derive(Clone, Debug)]
pub struct Condition {
    pub(crate) formula: Formula,
    /// Status if the condition is true.
    pub status: Status,
    /// The datasheet's words for it.
    pub means: Option<String>,
    /// It says that a field does not have the code that is needed.
    pub(crate) needs: Option<(FieldId, i128)>,
}

impl Condition {
    /// The field and the code that the frame or reading needs, where the condition comes from `while`: it holds where the field has another.
    pub fn needs(&self) -> Option<(FieldId, i128)> {
        self.needs
    }

    /// The condition as typed, for messages; of one that comes from `while`, the field's name.
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
    pub(crate) valid: Vec<(FieldId, i128)>,
    pub(crate) means: Option<String>,
    pub(crate) source: Option<String>,
    pub(crate) kind: ReadingKind,
}

/// Where a reading comes from.
#[derive(Clone, Debug)]
pub(crate) enum ReadingKind {
    /// From codes of frames.
    Measured,
    /// An intermediate value of several readings.
    Shared,
    /// From readings, as they come.
    Derived(Box<Derived>),
}

/// Inputs of a derived quantity, and its continuation from frame to frame.
#[derive(Clone, Debug, Default)]
pub(crate) struct Derived {
    /// The readings, and derived quantities above it, that it takes as they come.
    pub(crate) uses: Vec<ReadingId>,
    /// All that it takes, but for itself.
    pub(crate) from: Vec<ReadingId>,
    /// Those that it takes as they were at the frame before.
    pub(crate) before: Vec<ReadingId>,
    /// It needs times: it takes something from the frame before, or how long ago that was.
    pub(crate) timed: bool,
    /// First value, for a quantity with `before` of itself.
    pub(crate) start: Option<End>,
    /// The longest time between two frames that belong together, in microseconds.
    pub(crate) gap: Option<u64>,
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

    /// The range that the datasheet states, in [`unit`](Self::unit), in this state of the part; `None` if it states none, or one
    /// that has no value then.
    pub fn range(&self, part: &Sheet, state: &State) -> Option<(f64, f64)> {
        self.range.as_ref()?.now(&Present { part, state })
    }

    /// The fields that must have certain codes for its codes to have this meaning: the part is in a mode.
    pub fn valid_while(&self) -> &[(FieldId, i128)] {
        &self.valid
    }

    /// The range that the datasheet states, where it is the same with all settings.
    pub(crate) fn fixed_range(&self) -> Option<(f64, f64)> {
        self.range.as_ref()?.fixed()
    }

    /// All formulas: its own, those of conditions and range, and that of its first value.
    pub(crate) fn formulas(&self) -> impl Iterator<Item = &Formula> {
        self.formulas_of(&|_| true)
    }

    /// The same, of those conditions alone that `counts`.
    pub(crate) fn formulas_of(&self, counts: &dyn Fn(&Condition) -> bool) -> impl Iterator<Item = &Formula> {
        let conditions = self.status.iter().filter(|condition| counts(condition)).map(|condition| &condition.formula);
        let start = self.derived().and_then(|derived| if let Some(End::Formula(formula)) = &derived.start { Some(formula) } else { None });
        std::iter::once(&self.formula).chain(conditions).chain(self.range.iter().flat_map(StatedRange::formulas)).chain(start)
    }

    /// Whether it is computed from the codes of frames, and shown; a value that readings share is not.
    pub fn is_measured(&self) -> bool {
        matches!(self.kind, ReadingKind::Measured)
    }

    /// Whether it is computed from readings: a derived quantity.
    pub fn is_derived(&self) -> bool {
        matches!(self.kind, ReadingKind::Derived(_))
    }

    /// Whether it is a value that readings share, and none itself.
    pub fn is_shared(&self) -> bool {
        matches!(self.kind, ReadingKind::Shared)
    }

    /// How it is derived.
    pub(crate) fn derived(&self) -> Option<&Derived> {
        if let ReadingKind::Derived(derived) = &self.kind { Some(derived) } else { None }
    }

    /// Its type where a derived quantity takes it: that of its formula, but a double for integers of 64 bits, and for what is derived itself.
    pub(crate) fn ty_in_derived(&self) -> Ty {
        if self.is_derived() || matches!(self.formula.ty, Ty::I64 | Ty::U64) { Ty::F64 } else { self.formula.ty }
    }

    /// Of a derived quantity: the readings, and other such quantities, that it takes.
    pub fn derived_from(&self) -> &[ReadingId] {
        self.derived().map_or(&[], |how| &how.from)
    }

    /// Maximum time between two frames, in microseconds; `None` if it does not depend on times.
    pub fn longest_gap(&self) -> Option<u64> {
        self.derived()?.gap
    }

    /// True for quantities with `before` of themselves: sums.
    pub fn goes_on(&self) -> bool {
        self.derived().is_some_and(|derived| derived.start.is_some())
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

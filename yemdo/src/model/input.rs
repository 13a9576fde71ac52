//! What formulas take from outside.

use super::ids::{CodeId, ColumnId, FieldId, ParameterId, QuantityId, ReadingId};
use crate::formula::input::InputKey;
use crate::formula::typed::{Expr, ExprKind, Formula};
use crate::ground::list::Id;

/// A value that comes into a formula from outside.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[non_exhaustive]
pub(crate) enum Input {
    /// A code of a frame.
    Code(CodeId),
    /// Another reading, or a shared value.
    Reading(ReadingId),
    /// The present code of a field.
    Field(FieldId),
    /// The number in a column of a field's table, beside the field's present value.
    Column(FieldId, ColumnId),
    /// A number that the user supplies.
    Parameter(ParameterId),
    /// The present value of a quantity.
    Quantity(QuantityId),
    /// A reading or derived quantity as it came: what derived quantities take.
    Came(ReadingId),
    /// The same at the frame before.
    Before(ReadingId),
    /// Seconds since the frame before.
    Elapsed,
}

impl Input {
    /// What formulas know it by.
    pub(crate) fn key(self) -> InputKey {
        let (kind, place, column) = match self {
            Input::Code(id) => (0, id.index(), 0),
            Input::Reading(id) => (1, id.index(), 0),
            Input::Field(id) => (2, id.index(), 0),
            Input::Column(id, column) => (3, id.index(), column.index()),
            Input::Parameter(id) => (4, id.index(), 0),
            Input::Quantity(id) => (5, id.index(), 0),
            Input::Came(id) => (6, id.index(), 0),
            Input::Before(id) => (7, id.index(), 0),
            Input::Elapsed => (8, 0, 0),
        };
        InputKey(kind << 56 | (column as u64) << 28 | place as u64)
    }

    /// Input of a formula's key.
    pub(crate) fn of(InputKey(key): InputKey) -> Input {
        let low = |bits: u64| (bits & ((1 << 28) - 1)) as usize;
        let (place, column) = (low(key), low(key >> 28));
        match key >> 56 {
            0 => Input::Code(CodeId::new(place)),
            1 => Input::Reading(ReadingId::new(place)),
            2 => Input::Field(FieldId::new(place)),
            3 => Input::Column(FieldId::new(place), ColumnId::new(column)),
            4 => Input::Parameter(ParameterId::new(place)),
            6 => Input::Came(ReadingId::new(place)),
            7 => Input::Before(ReadingId::new(place)),
            8 => Input::Elapsed,
            _ => Input::Quantity(QuantityId::new(place)),
        }
    }

    /// The input, if an expression is a plain input.
    pub(crate) fn of_expr(expr: &Expr) -> Option<Input> {
        if let ExprKind::Input(key) = expr.kind { Some(Input::of(key)) } else { None }
    }

    /// Whether it comes with frames, directly or through a reading; else it is there at any time: settings, parameters.
    pub(crate) fn comes_with_frames(self) -> bool {
        match self {
            Input::Code(_) | Input::Reading(_) | Input::Came(_) | Input::Before(_) | Input::Elapsed => true,
            Input::Field(_) | Input::Column(..) | Input::Parameter(_) | Input::Quantity(_) => false,
        }
    }

    /// The field that it depends on directly.
    pub(crate) fn field(self) -> Option<FieldId> {
        if let Input::Field(field) | Input::Column(field, _) = self { Some(field) } else { None }
    }
}

/// Inputs of a formula, each once, in the order of first use.
pub(crate) fn inputs(formula: &Formula) -> impl Iterator<Item = Input> + '_ {
    formula.inputs.iter().map(|key| Input::of(*key))
}

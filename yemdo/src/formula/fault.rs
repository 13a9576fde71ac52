//! What formulas can run into where C leaves the outcome undefined.

/// What went wrong where C leaves the outcome undefined.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum FaultKind {
    /// A signed result does not fit its type.
    Overflow,
    /// Division or remainder by zero.
    DivisionByZero,
    /// A shift count below zero, or not below the width.
    ShiftRange,
    /// A real number does not fit the integer type it is converted to.
    DoesNotFit,
    /// The final value is infinite or no number.
    NotFinite,
    /// A value that the formula needs is itself at fault.
    Needed,
    /// A code in decimal digits holds a digit above 9, or a field's present code has no row in its table, or a curve is left.
    NoValue,
}

impl FaultKind {
    /// All of them.
    pub const ALL: [FaultKind; 7] = [
        FaultKind::Overflow,
        FaultKind::DivisionByZero,
        FaultKind::ShiftRange,
        FaultKind::DoesNotFit,
        FaultKind::NotFinite,
        FaultKind::Needed,
        FaultKind::NoValue,
    ];

    /// The fault in a few words.
    pub const fn describe(self) -> &'static str {
        match self {
            FaultKind::Overflow => "overflow",
            FaultKind::DivisionByZero => "division by zero",
            FaultKind::ShiftRange => "shift out of range",
            FaultKind::DoesNotFit => "does not fit the type",
            FaultKind::NotFinite => "not a finite number",
            FaultKind::Needed => "a value it needs is at fault",
            FaultKind::NoValue => "a code that stands for no value",
        }
    }
}

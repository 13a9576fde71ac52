//! The binary operators of C that formulas have.

/// The binary operators, by what their operands and their result are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum BinaryOp {
    /// Operands and result have one type.
    Arith(Arith),
    /// The right operand has a type of its own.
    Shift(Shift),
    /// Operands have one type, the result is 0 or 1.
    Compare(Compare),
    /// The right side is evaluated only where it decides.
    Logic(Logic),
}

/// Operators whose operands and result have one type.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Arith {
    Mul,
    Div,
    Rem,
    Add,
    Sub,
    BitAnd,
    BitXor,
    BitOr,
}

/// Shifts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Shift {
    Left,
    Right,
}

/// Comparisons.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Compare {
    Less,
    Greater,
    LessEqual,
    GreaterEqual,
    Equal,
    NotEqual,
}

/// `&&` and `||`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Logic {
    And,
    Or,
}

impl Arith {
    /// Whether C has it for integers only (C11 6.5.5, 6.5.10 to 6.5.12).
    pub(crate) fn integers_only(self) -> bool {
        match self {
            Arith::Rem | Arith::BitAnd | Arith::BitXor | Arith::BitOr => true,
            Arith::Mul | Arith::Div | Arith::Add | Arith::Sub => false,
        }
    }
}

impl BinaryOp {
    /// Mark in C and binding power, tightest last (C11 6.5.5 to 6.5.14).
    const ALL: &'static [(&'static str, BinaryOp, u8)] = &[
        ("||", BinaryOp::Logic(Logic::Or), 1),
        ("&&", BinaryOp::Logic(Logic::And), 2),
        ("|", BinaryOp::Arith(Arith::BitOr), 3),
        ("^", BinaryOp::Arith(Arith::BitXor), 4),
        ("&", BinaryOp::Arith(Arith::BitAnd), 5),
        ("==", BinaryOp::Compare(Compare::Equal), 6),
        ("!=", BinaryOp::Compare(Compare::NotEqual), 6),
        ("<", BinaryOp::Compare(Compare::Less), 7),
        (">", BinaryOp::Compare(Compare::Greater), 7),
        ("<=", BinaryOp::Compare(Compare::LessEqual), 7),
        (">=", BinaryOp::Compare(Compare::GreaterEqual), 7),
        ("<<", BinaryOp::Shift(Shift::Left), 8),
        (">>", BinaryOp::Shift(Shift::Right), 8),
        ("+", BinaryOp::Arith(Arith::Add), 9),
        ("-", BinaryOp::Arith(Arith::Sub), 9),
        ("*", BinaryOp::Arith(Arith::Mul), 10),
        ("/", BinaryOp::Arith(Arith::Div), 10),
        ("%", BinaryOp::Arith(Arith::Rem), 10),
    ];

    pub(crate) fn of_mark(mark: &str) -> Option<(BinaryOp, u8)> {
        Self::ALL.iter().find(|(m, ..)| *m == mark).map(|(_, op, power)| (*op, *power))
    }

    /// The mark in C.
    pub(crate) fn mark(self) -> &'static str {
        Self::ALL.iter().find(|(_, op, _)| *op == self).map_or("?", |(mark, ..)| mark)
    }

    /// Whether an assignment takes it along: `+=`, but not `&&=` or `==` (C11 6.5.16).
    pub(crate) fn assigns(self) -> bool {
        matches!(self, BinaryOp::Arith(_) | BinaryOp::Shift(_))
    }
}

//! The binary operators of C that formulas have.

/// The binary operators, with their mark in C.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum BinaryOp {
    Mul,
    Div,
    Rem,
    Add,
    Sub,
    Shl,
    Shr,
    Lt,
    Gt,
    Le,
    Ge,
    Eq,
    Ne,
    BitAnd,
    BitXor,
    BitOr,
    And,
    Or,
}

impl BinaryOp {
    /// Mark and binding power, tightest last (C11 6.5.5 to 6.5.14).
    const ALL: &'static [(&'static str, BinaryOp, u8)] = &[
        ("||", BinaryOp::Or, 1),
        ("&&", BinaryOp::And, 2),
        ("|", BinaryOp::BitOr, 3),
        ("^", BinaryOp::BitXor, 4),
        ("&", BinaryOp::BitAnd, 5),
        ("==", BinaryOp::Eq, 6),
        ("!=", BinaryOp::Ne, 6),
        ("<", BinaryOp::Lt, 7),
        (">", BinaryOp::Gt, 7),
        ("<=", BinaryOp::Le, 7),
        (">=", BinaryOp::Ge, 7),
        ("<<", BinaryOp::Shl, 8),
        (">>", BinaryOp::Shr, 8),
        ("+", BinaryOp::Add, 9),
        ("-", BinaryOp::Sub, 9),
        ("*", BinaryOp::Mul, 10),
        ("/", BinaryOp::Div, 10),
        ("%", BinaryOp::Rem, 10),
    ];

    pub(crate) fn of_mark(mark: &str) -> Option<(BinaryOp, u8)> {
        Self::ALL.iter().find(|(m, ..)| *m == mark).map(|(_, op, power)| (*op, *power))
    }

    /// The mark in C.
    pub fn mark(self) -> &'static str {
        Self::ALL.iter().find(|(_, op, _)| *op == self).map_or("?", |(mark, ..)| mark)
    }

    /// Whether it compares, and so gives 0 or 1.
    pub fn compares(self) -> bool {
        matches!(self, BinaryOp::Lt | BinaryOp::Gt | BinaryOp::Le | BinaryOp::Ge | BinaryOp::Eq | BinaryOp::Ne)
    }
}

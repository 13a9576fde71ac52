//! The typed program: every name bound, every conversion that C makes implicitly written out.
//!
//! This is what is lowered for evaluation and what code for firmware is made from; it keeps types and places
//! and holds nothing that only an interpreter could use.

use std::sync::Arc;

pub use super::ast::BinaryOp;
use super::curve::Curve;
use super::types::{Number, Ty};
use crate::model::part::Input;
use crate::sheet::text::Span;

/// A typed expression.
#[derive(Clone, Debug)]
pub struct Expr {
    /// What it computes.
    pub kind: ExprKind,
    /// The type of its value.
    pub ty: Ty,
    /// Its place in the sheet.
    pub span: Span,
}

/// The kinds of typed expression.
#[derive(Clone, Debug)]
pub enum ExprKind {
    /// A constant.
    Const(Number),
    /// A local variable, by its index in [`Formula::vars`].
    Var(usize),
    /// A value from outside the formula.
    Input(Input),
    /// `-x`.
    Neg(Box<Expr>),
    /// `~x`.
    BitNot(Box<Expr>),
    /// `!x`, 0 or 1.
    Not(Box<Expr>),
    /// An operator whose operands and result have one type.
    Arith(BinaryOp, Box<Expr>, Box<Expr>),
    /// A shift; the right operand has a type of its own.
    Shift(BinaryOp, Box<Expr>, Box<Expr>),
    /// A comparison of two operands of one type, 0 or 1.
    Compare(BinaryOp, Box<Expr>, Box<Expr>),
    /// `&&` or `||`, the right side evaluated only where it decides.
    Logic(BinaryOp, Box<Expr>, Box<Expr>),
    /// `c ? x : y`, only one of them evaluated.
    Cond(Box<Expr>, Box<Expr>, Box<Expr>),
    /// A conversion to [`Expr::ty`], typed as a cast or implied.
    Convert(Box<Expr>),
    /// The value of a curve at its argument; both are `double`.
    Curve(Arc<Curve>, Box<Expr>),
    /// A function of `<math.h>` or `<stdlib.h>`; the arguments have its type.
    Call(Func, Vec<Expr>),
}

/// A statement.
#[derive(Clone, Debug)]
pub enum Stmt {
    /// A variable takes a value of its type.
    Set {
        /// Index in [`Formula::vars`].
        var: usize,
        /// The value.
        value: Expr,
        /// The variable's name where it is set.
        span: Span,
    },
    /// A choice.
    If {
        /// The condition, true where not zero.
        cond: Expr,
        /// Done where it is true.
        then: Vec<Stmt>,
        /// Done where it is false.
        otherwise: Vec<Stmt>,
    },
    /// The formula's value.
    Return(Expr),
}

/// A local variable.
#[derive(Clone, Debug)]
pub struct Var {
    /// Its name.
    pub name: String,
    /// Its type.
    pub ty: Ty,
    /// Where it is declared.
    pub span: Span,
}

/// A whole formula.
#[derive(Clone, Debug)]
pub struct Formula {
    /// Its local variables.
    pub vars: Vec<Var>,
    /// Its statements; every path ends in [`Stmt::Return`].
    pub body: Vec<Stmt>,
    /// The type of its value.
    pub ty: Ty,
    /// The values it takes from outside, each once, in the order of first use.
    pub inputs: Vec<Input>,
    /// Its place in the sheet, without the quotes.
    pub span: Span,
    /// Whether it is one expression, without statements.
    pub is_expression: bool,
}

/// The functions of `<math.h>` and `<stdlib.h>` that formulas may call.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Func {
    Abs,
    Fabs,
    Sqrt,
    Cbrt,
    Exp,
    Exp2,
    Expm1,
    Log,
    Log2,
    Log10,
    Log1p,
    Sin,
    Cos,
    Tan,
    Asin,
    Acos,
    Atan,
    Sinh,
    Cosh,
    Tanh,
    Floor,
    Ceil,
    Round,
    Trunc,
    Pow,
    Atan2,
    Fmod,
    Hypot,
    Fmin,
    Fmax,
}

impl Func {
    /// Name, function, number of arguments. The `float` forms have an `f` behind the name.
    pub const ALL: &'static [(&'static str, Func, usize)] = &[
        ("fabs", Func::Fabs, 1),
        ("sqrt", Func::Sqrt, 1),
        ("cbrt", Func::Cbrt, 1),
        ("exp", Func::Exp, 1),
        ("exp2", Func::Exp2, 1),
        ("expm1", Func::Expm1, 1),
        ("log", Func::Log, 1),
        ("log2", Func::Log2, 1),
        ("log10", Func::Log10, 1),
        ("log1p", Func::Log1p, 1),
        ("sin", Func::Sin, 1),
        ("cos", Func::Cos, 1),
        ("tan", Func::Tan, 1),
        ("asin", Func::Asin, 1),
        ("acos", Func::Acos, 1),
        ("atan", Func::Atan, 1),
        ("sinh", Func::Sinh, 1),
        ("cosh", Func::Cosh, 1),
        ("tanh", Func::Tanh, 1),
        ("floor", Func::Floor, 1),
        ("ceil", Func::Ceil, 1),
        ("round", Func::Round, 1),
        ("trunc", Func::Trunc, 1),
        ("pow", Func::Pow, 2),
        ("atan2", Func::Atan2, 2),
        ("fmod", Func::Fmod, 2),
        ("hypot", Func::Hypot, 2),
        ("fmin", Func::Fmin, 2),
        ("fmax", Func::Fmax, 2),
    ];

    /// Names and types of the integer functions.
    pub const INTEGER: &'static [(&'static str, Func, Ty)] =
        &[("abs", Func::Abs, Ty::I32), ("labs", Func::Abs, Ty::I32), ("llabs", Func::Abs, Ty::I64)];

    /// The function that a call by this name means: function, type of arguments and result, number of arguments.
    pub(crate) fn named(name: &str) -> Option<(Func, Ty, usize)> {
        let real = |base: &str, ty| Self::ALL.iter().find(|(n, ..)| *n == base).map(|(_, func, arity)| (*func, ty, *arity));
        let integer = || Self::INTEGER.iter().find(|(n, ..)| *n == name).map(|(_, func, ty)| (*func, *ty, 1));
        integer().or_else(|| real(name, Ty::F64)).or_else(|| real(name.strip_suffix('f')?, Ty::F32))
    }

    /// The name in C for a type.
    pub fn name(self, ty: Ty) -> String {
        if self == Func::Abs {
            return if ty == Ty::I64 { "llabs".into() } else { "abs".into() };
        }
        let base = Self::ALL.iter().find(|(_, func, _)| *func == self).map_or("?", |(name, ..)| name);
        if ty == Ty::F32 { format!("{base}f") } else { base.into() }
    }
}

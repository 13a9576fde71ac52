//! The typed program: every name bound, every conversion that C makes implicitly written out.
//!
//! This is what is lowered for evaluation and what code for firmware is made from; it keeps types and places
//! and holds nothing that only an interpreter could use.

use super::functions::Func;
use super::input::{CurveId, InputKey};
use super::operators::{Arith, Compare, Logic, Shift};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::number::{Number, Ty};
use crate::ground::text::Span;

/// The number of an expression within its formula.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ExprId(pub(crate) u32);

/// A typed expression.
#[derive(Clone, Debug)]
pub struct Expr {
    /// Its number within the formula, from 0 to [`Formula::expressions`].
    pub id: ExprId,
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
    Input(InputKey),
    /// `-x`.
    Neg(Box<Expr>),
    /// `~x`.
    BitNot(Box<Expr>),
    /// `!x`, 0 or 1.
    Not(Box<Expr>),
    /// An operator whose operands and result have one type.
    Arith(Arith, Box<Expr>, Box<Expr>),
    /// A shift; the right operand has a type of its own.
    Shift(Shift, Box<Expr>, Box<Expr>),
    /// A comparison of two operands of one type, 0 or 1.
    Compare(Compare, Box<Expr>, Box<Expr>),
    /// `&&` or `||`, the right side evaluated only where it decides.
    Logic(Logic, Box<Expr>, Box<Expr>),
    /// `c ? x : y`, only one of them evaluated.
    Cond(Box<Expr>, Box<Expr>, Box<Expr>),
    /// A conversion to [`Expr::ty`], typed as a cast or implied.
    Convert(Box<Expr>),
    /// The value of a curve at its argument; both are `double`.
    Curve(CurveId, Box<Expr>),
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

/// A division of integers whose fraction is gone.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Lost {
    /// Its place.
    pub(crate) division: Span,
    /// The type that it gives.
    pub(crate) ty: Ty,
    /// How to keep the fraction.
    pub(crate) help: String,
}

impl Lost {
    /// What is said where the value goes on as a real, or as what a reading shows.
    pub(crate) fn warning(&self) -> Diagnostic {
        Diagnostic::warning("integer-division", self.division, "this division is one of integers: it drops the fraction")
            .label(format!("gives {}", self.ty))
            .help(self.help.clone())
    }
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
    pub inputs: Vec<InputKey>,
    /// Its place in the sheet, without the quotes.
    pub span: Span,
    /// Number of its expressions.
    pub expressions: usize,
    /// Whether it is one expression, without statements.
    pub is_expression: bool,
    /// The division of integers that its value is made of, where it is one of integers itself.
    pub(crate) lost: Option<Lost>,
}

impl Formula {
    /// The functions that it calls.
    pub(crate) fn calls(&self) -> Vec<Func> {
        let mut found = Vec::new();
        each(&self.body, &mut |expr| found.extend(if let ExprKind::Call(func, _) = expr.kind { Some(func) } else { None }));
        found
    }

    /// The curves that it calls.
    pub(crate) fn curves(&self) -> Vec<CurveId> {
        let mut found = Vec::new();
        each(&self.body, &mut |expr| found.extend(if let ExprKind::Curve(id, _) = expr.kind { Some(id) } else { None }));
        found
    }
}

impl Expr {
    /// An expression of which the number is not known yet.
    pub(crate) fn new(kind: ExprKind, ty: Ty, span: Span) -> Self {
        Expr { id: ExprId::default(), kind, ty, span }
    }

    /// The expression without conversions around it.
    pub(crate) fn unconverted(&self) -> &Expr {
        if let ExprKind::Convert(inner) = &self.kind { inner.unconverted() } else { self }
    }

    /// Its operands.
    fn operands(&self) -> Vec<&Expr> {
        match &self.kind {
            ExprKind::Const(_) | ExprKind::Var(_) | ExprKind::Input(_) => Vec::new(),
            ExprKind::Neg(x) | ExprKind::BitNot(x) | ExprKind::Not(x) | ExprKind::Convert(x) | ExprKind::Curve(_, x) => vec![x],
            ExprKind::Arith(_, x, y) | ExprKind::Shift(_, x, y) | ExprKind::Compare(_, x, y) | ExprKind::Logic(_, x, y) => vec![x, y],
            ExprKind::Cond(x, y, z) => vec![x, y, z],
            ExprKind::Call(_, args) => args.iter().collect(),
        }
    }

    pub(crate) fn operands_mut(&mut self) -> Vec<&mut Expr> {
        match &mut self.kind {
            ExprKind::Const(_) | ExprKind::Var(_) | ExprKind::Input(_) => Vec::new(),
            ExprKind::Neg(x) | ExprKind::BitNot(x) | ExprKind::Not(x) | ExprKind::Convert(x) | ExprKind::Curve(_, x) => vec![x],
            ExprKind::Arith(_, x, y) | ExprKind::Shift(_, x, y) | ExprKind::Compare(_, x, y) | ExprKind::Logic(_, x, y) => vec![x, y],
            ExprKind::Cond(x, y, z) => vec![x, y, z],
            ExprKind::Call(_, args) => args.iter_mut().collect(),
        }
    }

    /// Visits the expressions in it, and then itself.
    pub(crate) fn each<'f>(&'f self, visit: &mut impl FnMut(&'f Expr)) {
        for operand in self.operands() {
            operand.each(visit);
        }
        visit(self);
    }

    fn number(&mut self, next: &mut u32) {
        for operand in self.operands_mut() {
            operand.number(next);
        }
        self.id = ExprId(*next);
        *next += 1;
    }
}

/// Numbers the expressions of statements; gives how many there are.
pub(crate) fn number(list: &mut [Stmt], next: &mut u32) {
    for statement in list {
        match statement {
            Stmt::Set { value, .. } | Stmt::Return(value) => value.number(next),
            Stmt::If { cond, then, otherwise } => {
                cond.number(next);
                number(then, next);
                number(otherwise, next);
            }
        }
    }
}

/// Visits every expression, the inner ones first.
pub(crate) fn each<'f>(list: &'f [Stmt], visit: &mut impl FnMut(&'f Expr)) {
    for statement in list {
        match statement {
            Stmt::Set { value, .. } | Stmt::Return(value) => value.each(visit),
            Stmt::If { cond, then, otherwise } => {
                cond.each(visit);
                each(then, visit);
                each(otherwise, visit);
            }
        }
    }
}

//! The syntax tree: what is written, with places, before names and types are known.

use crate::formula::operators::BinaryOp;
use crate::ground::number::Ty;
use crate::ground::text::Span;

#[derive(Clone, Debug)]
pub(crate) struct Expr {
    pub(crate) kind: ExprKind,
    pub(crate) span: Span,
    /// Levels of the tree from here down; bounded, so that walking it needs no more stack than that.
    pub(crate) depth: usize,
}

#[derive(Clone, Debug)]
pub(crate) enum ExprKind {
    Int(u64, Ty),
    Real(f64, Ty),
    /// A name, or two with a dot between.
    Name(String, Option<(String, Span)>),
    Unary(UnaryOp, Box<Expr>),
    Binary(BinaryOp, Span, Box<Expr>, Box<Expr>),
    Cond(Box<Expr>, Box<Expr>, Box<Expr>),
    Cast(Ty, Box<Expr>),
    Call(String, Span, Vec<Expr>),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum UnaryOp {
    Plus,
    Minus,
    BitNot,
    Not,
}

#[derive(Clone, Debug)]
pub(crate) enum Stmt {
    Declare { ty: Ty, name: String, span: Span, value: Option<Expr> },
    Assign { name: String, span: Span, op: Option<(BinaryOp, Span)>, value: Expr },
    If { cond: Expr, then: Vec<Stmt>, otherwise: Vec<Stmt> },
    Block(Vec<Stmt>),
    Return(Expr),
}

/// A whole formula: one expression, or statements of which each path ends in `return`.
#[derive(Clone, Debug)]
pub(crate) enum Body {
    Value(Expr),
    Statements(Vec<Stmt>),
}

impl Body {
    /// The names that come from outside, with their places: all but those that the formula declares itself, where they
    /// are in sight.
    pub(crate) fn free_names(&self) -> Vec<(String, Span)> {
        let mut found = Vec::new();
        match self {
            Body::Value(value) => value.names(&mut found),
            Body::Statements(list) => block(list, &mut Vec::new(), &mut found),
        }
        found
    }
}

/// The free names of a block; what it declares is out of sight behind it.
fn block(list: &[Stmt], declared: &mut Vec<String>, free: &mut Vec<(String, Span)>) {
    let outer = declared.len();
    for statement in list {
        let mut used = Vec::new();
        match statement {
            Stmt::Declare { value, .. } => value.iter().for_each(|value| value.names(&mut used)),
            Stmt::Assign { value, .. } | Stmt::Return(value) => value.names(&mut used),
            Stmt::If { cond, .. } => cond.names(&mut used),
            Stmt::Block(_) => {}
        }
        free.extend(used.into_iter().filter(|(name, _)| !declared.contains(name)));
        match statement {
            // What initialises a variable may be an outer value of the same name.
            Stmt::Declare { name, .. } => declared.push(name.clone()),
            Stmt::If { then, otherwise, .. } => {
                block(then, declared, free);
                block(otherwise, declared, free);
            }
            Stmt::Block(inner) => block(inner, declared, free),
            Stmt::Assign { .. } | Stmt::Return(_) => {}
        }
    }
    declared.truncate(outer);
}

impl Expr {
    fn names(&self, used: &mut Vec<(String, Span)>) {
        match &self.kind {
            ExprKind::Int(..) | ExprKind::Real(..) => {}
            ExprKind::Name(name, member) => {
                let full = member.as_ref().map_or(name.clone(), |(member, _)| format!("{name}.{member}"));
                used.push((full, self.span));
            }
            ExprKind::Unary(_, inner) | ExprKind::Cast(_, inner) => inner.names(used),
            ExprKind::Binary(_, _, left, right) => {
                left.names(used);
                right.names(used);
            }
            ExprKind::Cond(cond, then, otherwise) => {
                cond.names(used);
                then.names(used);
                otherwise.names(used);
            }
            ExprKind::Call(_, _, args) => args.iter().for_each(|arg| arg.names(used)),
        }
    }
}

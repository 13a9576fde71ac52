//! Truth in formulas, and comparisons.

use super::code::{Expr, Stmt, Type};
use super::formula::Writer;
use super::formula::zero;
use crate::formula::operators::{Arith, Compare, Logic};
use crate::formula::typed;
use crate::formula::typed::ExprKind;
use crate::ground::number::Ty;

/// The opposite of a truth.
pub(super) fn negated(truth: Expr) -> Expr {
    match truth {
        Expr::Not(inner) => *inner,
        Expr::Bool(value) => Expr::Bool(!value),
        Expr::Compare(op, ty, left, right) if !ty.is_real() => {
            let op = match op {
                Compare::Less => Compare::GreaterEqual,
                Compare::Greater => Compare::LessEqual,
                Compare::LessEqual => Compare::Greater,
                Compare::GreaterEqual => Compare::Less,
                Compare::Equal => Compare::NotEqual,
                Compare::NotEqual => Compare::Equal,
            };
            Expr::Compare(op, ty, left, right)
        }
        other => Expr::Not(other.boxed()),
    }
}

/// Bits that a mask sets to zero, and to one. `None` without a mask.
fn known_bits(expr: &Expr) -> Option<(i128, i128)> {
    let number = |expr: &Expr| match expr {
        Expr::Int(number, _) => Some(*number),
        Expr::Hex(number, _) => Some(i128::from(*number)),
        _ => None,
    };
    match expr {
        Expr::Cast { value, .. } => known_bits(value),
        Expr::Arith(Arith::BitAnd, _, one, other) => number(other).or(number(one)).map(|mask| (!mask, 0)),
        Expr::Arith(Arith::BitOr, _, one, other) => number(other).or(number(one)).map(|mask| (0, mask)),
        _ => None,
    }
}

/// A comparison; a code that is kept in few bits is compared in those.
pub(super) fn comparison(op: Compare, ty: Ty, left: Expr, right: Expr) -> Expr {
    let kept = |one: &Expr, other: &Expr| match (one, other) {
        // Rust does not order truths and numbers.
        (Expr::Cast { from: Ty::Bool, .. }, _) if !matches!(op, Compare::Equal | Compare::NotEqual) => None,
        (Expr::Cast { from, fits: true, value, .. }, Expr::Int(number, _)) if !ty.is_real() => {
            let fits = from.bounds().is_some_and(|(low, high)| (low..=high).contains(number));
            fits.then(|| ((**value).clone(), Expr::Int(*number, *from), *from))
        }
        _ => None,
    };
    if let (Expr::FromBool(_, truth), Expr::Int(number @ (0 | 1), _)) = (&left, &right)
        && matches!(op, Compare::Equal | Compare::NotEqual)
    {
        let same = (*number == 1) == (op == Compare::Equal);
        return if same { (**truth).clone() } else { negated((**truth).clone()) };
    }
    // Compilers warn about masked bits that can never be equal to the number.
    if let Expr::Int(number, _) = right
        && matches!(op, Compare::Equal | Compare::NotEqual)
        && known_bits(&left).is_some_and(|(zeros, ones)| number & zeros != 0 || !number & ones != 0)
    {
        let differs = Expr::Arith(Arith::BitXor, ty, left.boxed(), right.boxed());
        return differs.compare(op, ty, zero(ty));
    }
    if let Some((value, number, from)) = kept(&left, &right) {
        if let (Ty::Bool, Expr::Int(number, _), Compare::Equal | Compare::NotEqual) = (from, &number, op) {
            let same = (*number == 1) == (op == Compare::Equal);
            return if same { value } else { negated(value) };
        }
        return value.compare(op, from, number);
    }
    if let Some((value, number, from)) = kept(&right, &left) {
        return number.compare(op, from, value);
    }
    left.compare(op, ty, right)
}

impl<'a> Writer<'a> {
    /// An expression as truth.
    pub(super) fn truth(&mut self, expr: &typed::Expr) -> Expr {
        match &expr.kind {
            ExprKind::Compare(op, left, right) => {
                let (l, r) = (self.num(left), self.num(right));
                comparison(*op, left.ty, l, r)
            }
            ExprKind::Not(inner) => {
                let inner = self.truth(inner);
                negated(inner)
            }
            ExprKind::Logic(op, left, right) => {
                let left = self.truth(left);
                let mut value = Expr::Bool(false);
                let more = self.block(|this| value = this.truth(right));
                let (and, or) =
                    (Expr::And(left.clone().boxed(), value.clone().boxed()), Expr::Or(left.clone().boxed(), value.clone().boxed()));
                if more.is_empty() {
                    return if *op == Logic::And { and } else { or };
                }
                let name = self.scope.fresh("holds");
                let set = Stmt::Set(Expr::Var(name.clone()), value);
                let short = Stmt::Set(Expr::Var(name.clone()), Expr::Bool(*op == Logic::Or));
                let long: Vec<Stmt> = more.into_iter().chain([set]).collect();
                self.push(Stmt::Let { name: name.clone(), ty: Type::Num(Ty::Bool), value: None, mutable: false });
                self.push(if *op == Logic::And { Stmt::If(left, long, vec![short]) } else { Stmt::If(left, vec![short], long) });
                Expr::Var(name)
            }
            ExprKind::Convert(inner) if expr.ty == Ty::Bool || !inner.ty.is_real() && !expr.ty.is_real() && self.keeps(inner, expr.ty) => {
                self.truth(inner)
            }
            ExprKind::Const(number) => Expr::Bool(number.to_f64() != 0.0),
            _ => match self.num(expr) {
                Expr::FromBool(_, truth) => *truth,
                value if expr.ty == Ty::Bool => value,
                value => comparison(Compare::NotEqual, expr.ty, value, zero(expr.ty)),
            },
        }
    }
}

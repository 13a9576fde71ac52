//! Operations of formulas on integers, and from one type to another.

use super::code::{Checked, Expr, Stmt};
use super::formula::Writer;
use super::formula::{constant, zero};
use super::truths::comparison;
use crate::formula::operators::{Arith, Compare, Shift};
use crate::formula::typed;
use crate::ground::number::{Number, Ty};

/// A value in another type that holds it, whatever it is.
pub(super) fn kept_as(value: Expr, stored: Ty, ty: Ty) -> Expr {
    match value.cast(stored, ty) {
        Expr::Cast { from, to, value, .. } => Expr::Cast { from, to, fits: true, value },
        other => other,
    }
}

impl<'a> Writer<'a> {
    pub(super) fn convert(&mut self, inner: &typed::Expr, expr: &typed::Expr) -> Expr {
        let (from, to) = (inner.ty, expr.ty);
        if to == Ty::Bool {
            let truth = self.truth(inner);
            return truth;
        }
        let value = self.num(inner);
        match &value {
            Expr::Int(number, _) => {
                if to.is_real() {
                    return constant(Number::Real(if to == Ty::F32 { f64::from(*number as f32) } else { *number as f64 }, to), to);
                }
                if to.bounds().is_some_and(|(low, high)| (low..=high).contains(number)) {
                    return Expr::Int(*number, to);
                }
            }
            Expr::Real(number, Ty::F64) if to == Ty::F32 => return Expr::Real(f64::from(*number as f32), to),
            Expr::FromBool(_, truth) if !to.is_real() => return Expr::FromBool(to, truth.clone()),
            _ => {}
        }
        if from.is_real() && !to.is_real() {
            if self.fact(expr).cannot_fault {
                return Expr::Cast { from, to, fits: true, value: value.boxed() };
            }
            let value = self.plain(value, from);
            let (low, high) = to.bounds().unwrap_or((0, 0));
            // Of a float of 32 bits, and of 64-bit integers, the number below the lowest is not in the type.
            let below = if (from == Ty::F32 && to.bits() >= 32 && to.is_signed()) || to == Ty::I64 { None } else { Some(low - 1) };
            let real = |number: i128| Expr::Real(number as f64, from);
            let above = match below {
                Some(below) => value.clone().compare(Compare::Greater, from, real(below)),
                None => value.clone().compare(Compare::GreaterEqual, from, real(low)),
            };
            let inside = Expr::And(above.boxed(), value.clone().compare(Compare::Less, from, real(high + 1)).boxed());
            let fail = self.fail("it does not fit its type");
            self.push(Stmt::If(Expr::Not(inside.boxed()), vec![fail], Vec::new()));
            return Expr::Cast { from, to, fits: true, value: value.boxed() };
        }
        let fits = to.is_real() || self.keeps(inner, to);
        match value {
            // A float converted to double and back is unchanged.
            Expr::Cast { from, fits: true, value, to: between }
                if from == to && from.is_real() && between.is_real() && from.bits() <= between.bits() =>
            {
                *value
            }
            // A code that is kept in few bits becomes a real at once.
            // Narrowed values stay narrow: the conversion moves inside.
            Expr::Cast { from, fits: true, value, to: between }
                if !from.is_real()
                    && !between.is_real()
                    && (fits || (!to.is_real() && !to.is_signed()))
                    && from.bits() <= between.bits() =>
            {
                if from == to {
                    *value
                } else {
                    Expr::Cast { from, to, fits, value }
                }
            }
            value if from == to => value,
            value => Expr::Cast { from, to, fits, value: value.boxed() },
        }
    }

    pub(super) fn arith(&mut self, op: Arith, expr: &typed::Expr, left: &typed::Expr, right: &typed::Expr) -> Expr {
        let ty = expr.ty;
        let (l, r) = (self.num(left), self.num(right));
        let divides = matches!(op, Arith::Div | Arith::Rem);
        if self.fact(expr).cannot_fault {
            return Expr::Arith(op, ty, l.boxed(), r.boxed());
        }
        if divides && (ty.is_real() || !ty.is_signed()) {
            let (l, r) = (self.plain(l, ty), self.plain(r, ty));
            let fail = self.fail("division by zero");
            self.push(Stmt::If(comparison(Compare::Equal, ty, r.clone(), zero(ty)), vec![fail], Vec::new()));
            return Expr::Arith(op, ty, l.boxed(), r.boxed());
        }
        let (op, why) = match op {
            Arith::Add => (Checked::Add, "overflow"),
            Arith::Sub => (Checked::Sub, "overflow"),
            Arith::Mul => (Checked::Mul, "overflow"),
            Arith::Div => (Checked::Div, "division by zero, or overflow"),
            Arith::Rem => (Checked::Rem, "division by zero, or overflow"),
            Arith::BitAnd | Arith::BitXor | Arith::BitOr => return Expr::Arith(op, ty, l.boxed(), r.boxed()),
        };
        self.checked(op, ty, vec![l, r], why)
    }

    pub(super) fn shift(&mut self, op: Shift, expr: &typed::Expr, left: &typed::Expr, right: &typed::Expr) -> Expr {
        let ty = expr.ty;
        let (value, count) = (self.num(left), self.num(right));
        let proved = self.fact(expr).cannot_fault;
        let negative = self.integers(left).0 < 0;
        let (low, high) = self.integers(right);
        if high < 0 || low >= i128::from(ty.bits()) {
            // It has no value, whatever comes.
            let fail = self.fail("a shift out of range");
            self.push(fail);
            return zero(ty);
        }
        let inside = low >= 0 && high < i128::from(ty.bits());
        let checked_left = op == Shift::Left && ty.is_signed();
        // What may be out of range is looked at in its own type; behind that 32 bits are enough.
        let count = match count {
            // Far out of range is out of range.
            Expr::Int(number, _) => Expr::Int(if i32::try_from(number).is_ok() { number } else { -1 }, Ty::I32),
            count if !inside && if right.ty.bits() > 32 { true } else { !proved && !checked_left } => {
                let count = self.plain(count, right.ty);
                let most = Expr::Int(i128::from(ty.bits()) - 1, right.ty);
                let outside = if right.ty.is_signed() {
                    Expr::Not(Expr::Within(right.ty, count.clone().boxed(), zero(right.ty).boxed(), most.boxed()).boxed())
                } else {
                    count.clone().compare(Compare::Greater, right.ty, most)
                };
                let fail = self.fail("a shift out of range");
                self.push(Stmt::If(outside, vec![fail], Vec::new()));
                Expr::Cast { from: right.ty, to: Ty::I32, fits: true, value: count.boxed() }
            }
            count if right.ty == Ty::I32 => count,
            count => Expr::Cast { from: right.ty, to: Ty::I32, fits: inside, value: count.boxed() },
        };
        if op == Shift::Left && ty.is_signed() {
            return match &count {
                // C cannot shift negative numbers to the left; the product is equal.
                Expr::Int(places, _) if proved && negative && *places < i128::from(ty.bits()) - 1 => {
                    Expr::Arith(Arith::Mul, ty, value.boxed(), Expr::Int(1 << *places, ty).boxed())
                }
                _ if proved && !negative => Expr::Shl(ty, value.boxed(), count.boxed()),
                _ => self.checked(Checked::Shl, ty, vec![value, count], "overflow, or a shift out of range"),
            };
        }
        match op {
            Shift::Left => Expr::Shl(ty, value.boxed(), count.boxed()),
            Shift::Right => Expr::Shr { ty, negative: negative && ty.is_signed(), value: value.boxed(), count: count.boxed() },
        }
    }
}

//! Sums of integers that are worth something, with a bound on what they are off.

use crate::formula::operators::Arith;
use crate::formula::typed::{Expr, ExprKind};
use crate::ground::number::{Number, Ty};
use crate::ground::text::Span;

/// A real value: a sum of integers, each with what one of it is worth, and a constant.
#[derive(Clone, Debug)]
pub(super) struct Sum {
    pub(super) terms: Vec<Term>,
    pub(super) constant: f64,
    pub(super) error: f64,
    pub(super) span: Span,
}

#[derive(Clone, Debug)]
pub(super) struct Term {
    pub(super) worth: f64,
    pub(super) expr: Expr,
    pub(super) low: i128,
    pub(super) high: i128,
}

/// One integer and its unit.
pub(super) struct Whole {
    pub(super) expr: Expr,
    pub(super) low: i128,
    pub(super) high: i128,
    pub(super) unit: f64,
    pub(super) error: f64,
}

/// Relative error of a product of constants, worked out in doubles.
pub(super) const TINY: f64 = 1e-15;

impl Sum {
    pub(super) fn constant(value: f64, span: Span) -> Self {
        Self { terms: Vec::new(), constant: value, error: 0.0, span }
    }

    pub(super) fn bounds(&self) -> (f64, f64) {
        let mut bounds = (self.constant, self.constant);
        for term in &self.terms {
            let (one, other) = (term.worth * term.low as f64, term.worth * term.high as f64);
            bounds.0 += one.min(other);
            bounds.1 += one.max(other);
        }
        (bounds.0 - self.error, bounds.1 + self.error)
    }

    pub(super) fn largest(&self) -> f64 {
        let (low, high) = self.bounds();
        low.abs().max(high.abs())
    }

    pub(super) fn times(mut self, factor: f64) -> Self {
        let largest = self.largest() * factor.abs();
        self.terms.iter_mut().for_each(|term| term.worth *= factor);
        self.constant *= factor;
        self.error = self.error * factor.abs() + largest * TINY;
        self
    }

    pub(super) fn plus(mut self, other: Sum) -> Self {
        for term in other.terms {
            match self.terms.iter_mut().find(|known| same(&known.expr, &term.expr)) {
                Some(known) => known.worth += term.worth,
                None => self.terms.push(term),
            }
        }
        self.terms.retain(|term| term.worth != 0.0);
        self.constant += other.constant;
        self.error += other.error;
        self
    }

    /// The factors in a unit, where all are whole.
    pub(super) fn exactly(&self, unit: f64) -> Option<(Vec<i128>, i128)> {
        let whole = |value: f64| {
            let (scaled, near) = (value / unit, (value / unit).round());
            let exact = (scaled - near).abs() <= near.abs() * 1e-12 && near.abs() < 1e15 && (near != 0.0 || value == 0.0);
            exact.then_some(near as i128)
        };
        let factors: Option<Vec<i128>> = self.terms.iter().map(|term| whole(term.worth)).collect();
        Some((factors?, whole(self.constant)?))
    }

    /// The factors in a unit, rounded, and by how much the sum is off for it.
    pub(super) fn roughly(&self, unit: f64) -> (Vec<i128>, i128, f64) {
        let mut off = 0.5 * unit;
        let mut factors = Vec::new();
        for term in &self.terms {
            let factor = (term.worth / unit).round();
            let largest = term.low.abs().max(term.high.abs()) as f64;
            off += (term.worth - factor * unit).abs() * largest;
            factors.push(factor as i128);
        }
        let constant = (self.constant / unit).round();
        (factors, constant as i128, off)
    }

    /// One integer with these factors.
    pub(super) fn whole(&self, factors: &[i128], constant: i128, unit: f64, error: f64) -> Option<Whole> {
        let (mut low, mut high) = (constant, constant);
        let mut most = constant.abs();
        for (term, factor) in self.terms.iter().zip(factors) {
            let (one, other) = (term.low.checked_mul(*factor)?, term.high.checked_mul(*factor)?);
            low += one.min(other);
            high += one.max(other);
            most += one.abs().max(other.abs());
        }
        // In the order of the sum nothing on the way is larger than all together.
        let ty = if most <= i128::from(i32::MAX) && self.terms.iter().all(|term| fits_32(term.low, term.high)) { Ty::I32 } else { Ty::I64 };
        if most > i128::from(i64::MAX) {
            return None;
        }
        let mut sum: Option<Expr> = None;
        for (term, factor) in self.terms.iter().zip(factors).filter(|(_, factor)| **factor != 0) {
            let wide = as_type(term.expr.clone(), ty);
            let product = match factor {
                1 => wide,
                factor => arith(Arith::Mul, ty, wide, int(*factor, ty, self.span), self.span),
            };
            sum = Some(match sum {
                Some(sum) => arith(Arith::Add, ty, sum, product, self.span),
                None => product,
            });
        }
        let expr = match (sum, constant) {
            (Some(sum), 0) => sum,
            (Some(sum), constant) if constant < 0 => arith(Arith::Sub, ty, sum, int(-constant, ty, self.span), self.span),
            (Some(sum), constant) => arith(Arith::Add, ty, sum, int(constant, ty, self.span), self.span),
            (None, constant) => int(constant, ty, self.span),
        };
        Some(Whole { expr, low, high, unit, error })
    }
}

pub(super) fn fits_32(low: i128, high: i128) -> bool {
    i32::try_from(low).is_ok() && i32::try_from(high).is_ok()
}

/// Whether two expressions are the same.
pub(super) fn same(one: &Expr, other: &Expr) -> bool {
    match (&one.kind, &other.kind) {
        (ExprKind::Var(a), ExprKind::Var(b)) => a == b,
        (ExprKind::Input(a), ExprKind::Input(b)) => a == b,
        _ => false,
    }
}

pub(super) fn int(value: i128, ty: Ty, span: Span) -> Expr {
    Expr::new(ExprKind::Const(Number::Int(value, ty)), ty, span)
}

pub(super) fn arith(op: Arith, ty: Ty, left: Expr, right: Expr, span: Span) -> Expr {
    Expr::new(ExprKind::Arith(op, Box::new(left), Box::new(right)), ty, span)
}

pub(super) fn as_type(expr: Expr, ty: Ty) -> Expr {
    if expr.ty == ty {
        return expr;
    }
    if let ExprKind::Const(Number::Int(value, _)) = expr.kind {
        return int(value, ty, expr.span);
    }
    let span = expr.span;
    Expr::new(ExprKind::Convert(Box::new(expr)), ty, span)
}

/// The unit, a power of two, in which numbers up to the largest have 30 bits.
pub(super) fn binary_unit(largest: f64) -> f64 {
    if !largest.is_finite() || largest == 0.0 {
        return 1.0;
    }
    2f64.powi(largest.log2().ceil() as i32 - 30)
}

/// Units in which constants of datasheets are whole.
pub(super) fn plain_units() -> impl Iterator<Item = f64> {
    let tens = (0..10).map(|digits| 10f64.powi(-digits));
    let twos = (1..24).map(|bits| 2f64.powi(-bits));
    tens.chain(twos)
}

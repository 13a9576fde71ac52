//! What the operations of a formula make of sums.

use super::sum::{Sum, TINY, Term, Whole, arith, as_type, binary_unit, fits_32, int, plain_units};
use super::{NotFixed, Writer};
use crate::formula::functions::Func;
use crate::formula::operators::{Arith, Compare};
use crate::formula::typed::{Expr, ExprKind};
use crate::ground::number::Ty;
use crate::ground::text::Span;

impl Writer<'_> {
    pub(super) fn term(&self, expr: Expr, low: i128, high: i128, worth: f64, error: f64, span: Span) -> Sum {
        Sum { terms: vec![Term { worth, expr, low, high }], constant: 0.0, error, span }
    }

    /// A real expression as a sum.
    pub(super) fn sum(&mut self, expr: &Expr) -> Result<Sum, NotFixed> {
        let span = expr.span;
        if !expr.ty.is_real() {
            return self.of_integer(expr);
        }
        match &expr.kind {
            ExprKind::Const(number) => Ok(Sum::constant(number.to_f64(), span)),
            ExprKind::Var(var) => match self.vars.get(*var).copied().flatten() {
                Some((unit, low, high, error)) => {
                    Ok(self.term(Expr::new(ExprKind::Var(*var), Ty::I64, span), low, high, unit, error, span))
                }
                None => Self::refuse(span, "it has no value yet"),
            },
            ExprKind::Input(key) => match self.leaves.leaf(*key) {
                Ok(Some(leaf)) => {
                    Ok(self.term(Expr::new(ExprKind::Input(*key), leaf.ty, span), leaf.low, leaf.high, leaf.unit, leaf.error, span))
                }
                Ok(None) => Self::refuse(span, "it is a real number"),
                Err(why) => Self::refuse(span, why),
            },
            ExprKind::Neg(inner) => Ok(self.sum(inner)?.times(-1.0)),
            ExprKind::Convert(inner) => self.sum(inner),
            ExprKind::Arith(Arith::Add, left, right) => Ok(self.sum(left)?.plus(self.sum(right)?)),
            ExprKind::Arith(Arith::Sub, left, right) => Ok(self.sum(left)?.plus(self.sum(right)?.times(-1.0))),
            ExprKind::Arith(Arith::Mul, left, right) => {
                let (one, other) = (self.sum(left)?, self.sum(right)?);
                match (one.terms.is_empty(), other.terms.is_empty()) {
                    (true, _) => Ok(other.times(one.constant)),
                    (_, true) => Ok(one.times(other.constant)),
                    _ => self.product(&one, &other, span),
                }
            }
            ExprKind::Arith(Arith::Div, left, right) => {
                let (one, other) = (self.sum(left)?, self.sum(right)?);
                if other.terms.is_empty() {
                    if other.constant == 0.0 {
                        return Self::refuse(right.span, "it divides by zero");
                    }
                    // In one step, so that a tenth is one.
                    let mut sum = one;
                    let largest = sum.largest() / other.constant.abs();
                    sum.terms.iter_mut().for_each(|term| term.worth /= other.constant);
                    sum.constant /= other.constant;
                    sum.error = sum.error / other.constant.abs() + largest * TINY;
                    return Ok(sum);
                }
                self.quotient(&one, &other, right.span, span)
            }
            ExprKind::Cond(cond, then, otherwise) => {
                let cond = self.integer_or_truth(cond)?;
                let (one, other) = (self.sum(then)?, self.sum(otherwise)?);
                self.choice(&|one, other| ExprKind::Cond(Box::new(cond.clone()), Box::new(one), Box::new(other)), &one, &other, span)
            }
            ExprKind::Call(func @ (Func::Fmin | Func::Fmax), args) => {
                let [left, right] = args.as_slice() else { return Self::refuse(span, "it needs two arguments") };
                let (one, other) = (self.sum(left)?, self.sum(right)?);
                let op = if *func == Func::Fmin { Compare::Less } else { Compare::Greater };
                let pick = |one: Expr, other: Expr| {
                    let cond = Expr::new(ExprKind::Compare(op, Box::new(one.clone()), Box::new(other.clone())), Ty::I32, span);
                    ExprKind::Cond(Box::new(cond), Box::new(one), Box::new(other))
                };
                self.choice(&pick, &one, &other, span)
            }
            ExprKind::Call(Func::Fabs, args) => {
                let [inner] = args.as_slice() else { return Self::refuse(span, "it needs one argument") };
                let one = self.sum(inner)?;
                let other = one.clone().times(-1.0);
                let pick = |one: Expr, other: Expr| {
                    let cond =
                        Expr::new(ExprKind::Compare(Compare::Greater, Box::new(one.clone()), Box::new(other.clone())), Ty::I32, span);
                    ExprKind::Cond(Box::new(cond), Box::new(one), Box::new(other))
                };
                self.choice(&pick, &one, &other, span)
            }
            ExprKind::Call(func, _) => Self::refuse(span, format!("{} needs real numbers", func.name(Ty::F64))),
            ExprKind::Curve(curve, x) => {
                let sum = self.sum(x)?;
                let x = self.whole(&sum, x.span)?;
                let x = self.cut_to(x, 31, span);
                let (curve, unit, off, (steepest, largest)) =
                    self.leaves.curve(*curve, x.unit, (x.low, x.high)).map_err(|why| NotFixed { span, why })?;
                let most = (largest / unit).ceil() as i128 + 1;
                let expr = Expr::new(ExprKind::Curve(curve, Box::new(as_type(x.expr, Ty::I64))), Ty::I64, span);
                Ok(self.term(expr, -most, most, unit, off + steepest * x.error, span))
            }
            _ => Self::refuse(span, "it needs real numbers"),
        }
    }

    /// An integer expression as a real one.
    pub(super) fn of_integer(&mut self, expr: &Expr) -> Result<Sum, NotFixed> {
        if let ExprKind::Const(number) = expr.kind {
            return Ok(Sum::constant(number.to_f64(), expr.span));
        }
        // Sums of integers that cannot overflow may be taken apart.
        let safe = self.facts.get(expr.id).is_some_and(|fact| fact.cannot_fault) && expr.ty.is_signed();
        match &expr.kind {
            ExprKind::Arith(op @ (Arith::Add | Arith::Sub), left, right) if safe => {
                let (one, other) = (self.of_integer(left)?, self.of_integer(right)?);
                return Ok(one.plus(if *op == Arith::Sub { other.times(-1.0) } else { other }));
            }
            ExprKind::Arith(Arith::Mul, left, right) if safe => {
                let constant = |expr: &Expr| if let ExprKind::Const(number) = expr.kind { Some(number.to_f64()) } else { None };
                if let Some(factor) = constant(left) {
                    return Ok(self.of_integer(right)?.times(factor));
                }
                if let Some(factor) = constant(right) {
                    return Ok(self.of_integer(left)?.times(factor));
                }
            }
            ExprKind::Convert(inner) if !inner.ty.is_real() => {
                let (low, high) = self.integers(inner);
                if expr.ty.bounds().is_some_and(|(least, most)| least <= low && high <= most) {
                    return self.of_integer(inner);
                }
            }
            _ => {}
        }
        if let ExprKind::Input(key) = expr.kind
            && let Some(leaf) = self.leaves.leaf(key).map_err(|why| NotFixed { span: expr.span, why })?
        {
            let input = Expr::new(ExprKind::Input(key), leaf.ty, expr.span);
            return Ok(self.term(input, leaf.low, leaf.high, leaf.unit, leaf.error, expr.span));
        }
        let (low, high) = self.integers(expr);
        let span = expr.span;
        let integer = self.integer(expr)?;
        Ok(self.term(integer, low, high, 1.0, 0.0, span))
    }

    pub(super) fn product(&mut self, one: &Sum, other: &Sum, span: Span) -> Result<Sum, NotFixed> {
        let (a, b) = (self.whole(one, span)?, self.whole(other, span)?);
        let wide = |whole: &Whole| 128 - whole.low.abs().max(whole.high.abs()).leading_zeros();
        let (a_bits, b_bits) = (wide(&a), wide(&b));
        // Both together have room in 62 bits.
        let (a, b) = if a_bits + b_bits <= 62 {
            (a, b)
        } else if a_bits <= 31 {
            (a, self.cut_to(b, 62 - a_bits, span))
        } else if b_bits <= 31 {
            (self.cut_to(a, 62 - b_bits, span), b)
        } else {
            (self.cut_to(a, 31, span), self.cut_to(b, 31, span))
        };
        let corners = [a.low * b.low, a.low * b.high, a.high * b.low, a.high * b.high];
        let (low, high) = (corners.iter().copied().min().unwrap_or(0), corners.iter().copied().max().unwrap_or(0));
        let ty = if fits_32(low, high) && fits_32(a.low, a.high) && fits_32(b.low, b.high) { Ty::I32 } else { Ty::I64 };
        let expr = arith(Arith::Mul, ty, as_type(a.expr, ty), as_type(b.expr, ty), span);
        let error = one.largest() * b.error + other.largest() * a.error + a.error * b.error;
        let largest = one.largest() * other.largest();
        Ok(self.term(expr, low, high, a.unit * b.unit, error + largest * TINY, span))
    }

    pub(super) fn quotient(&mut self, one: &Sum, other: &Sum, by: Span, span: Span) -> Result<Sum, NotFixed> {
        let b = self.whole(other, by)?;
        let b = self.cut_to(b, 31, by);
        if b.low <= 0 && b.high >= 0 {
            return Self::refuse(by, "it may be zero, or what is left of it may");
        }
        let least = b.low.abs().min(b.high.abs());
        let a = self.whole(one, span)?;
        let a = self.cut_to(a, 62, span);
        // What is divided is moved up as far as there is room, so that the quotient keeps its digits.
        let bits = (128 - a.low.abs().max(a.high.abs()).max(1).leading_zeros()).min(62);
        let room = 62 - bits;
        let wanted = (128 - b.low.abs().max(b.high.abs()).leading_zeros()) + 24;
        let up = room.min(wanted);
        let factor = 1i128 << up;
        let dividend = if up == 0 {
            as_type(a.expr, Ty::I64)
        } else {
            arith(Arith::Mul, Ty::I64, as_type(a.expr, Ty::I64), int(factor, Ty::I64, span), span)
        };
        let expr = arith(Arith::Div, Ty::I64, dividend, as_type(b.expr, Ty::I64), span);
        let ends = [(a.low * factor) / least, (a.high * factor) / least, -(a.low * factor) / least, -(a.high * factor) / least];
        let most = ends.iter().map(|end| end.abs()).max().unwrap_or(0);
        let (low, high) = if a.low >= 0 && b.low > 0 { (0, most) } else { (-most, most) };
        let unit = a.unit / (factor as f64) / b.unit;
        let smallest = (least as f64 * b.unit.abs() - b.error).max(f64::MIN_POSITIVE);
        let largest = one.largest() / smallest;
        let error = (a.error + largest * b.error) / smallest + unit.abs() + largest * TINY;
        Ok(self.term(expr, low, high, unit, error, span))
    }

    /// One of two values, both in one unit.
    pub(super) fn choice(&mut self, pick: &dyn Fn(Expr, Expr) -> ExprKind, one: &Sum, other: &Sum, span: Span) -> Result<Sum, NotFixed> {
        let exact = plain_units().find(|unit| one.exactly(*unit).is_some() && other.exactly(*unit).is_some());
        let unit = exact.unwrap_or_else(|| binary_unit(one.largest().max(other.largest())));
        let (a, b) = (self.in_unit(one, unit, span)?, self.in_unit(other, unit, span)?);
        let ty = if a.expr.ty == Ty::I32 && b.expr.ty == Ty::I32 { Ty::I32 } else { Ty::I64 };
        let expr = Expr::new(pick(as_type(a.expr, ty), as_type(b.expr, ty)), ty, span);
        Ok(self.term(expr, a.low.min(b.low), a.high.max(b.high), unit, a.error.max(b.error), span))
    }

    pub(super) fn integer_or_truth(&mut self, expr: &Expr) -> Result<Expr, NotFixed> {
        if expr.ty.is_real() {
            let sum = self.sum(expr)?;
            return self.compared(Compare::NotEqual, &sum, expr.span);
        }
        self.integer(expr)
    }

    /// A sum against zero, where that is exact.
    pub(super) fn compared(&mut self, op: Compare, sum: &Sum, span: Span) -> Result<Expr, NotFixed> {
        if sum.error > sum.largest() * 1e-12 {
            return Self::refuse(span, "it compares real numbers that are not exact in integers");
        }
        for unit in plain_units() {
            if let Some((factors, constant)) = sum.exactly(unit)
                && let Some(whole) = sum.whole(&factors, 0, unit, 0.0)
                && let Some(against) = constant.checked_neg().filter(|value| i64::try_from(*value).is_ok())
            {
                let ty = if whole.expr.ty == Ty::I32 && i32::try_from(against).is_ok() { Ty::I32 } else { Ty::I64 };
                let (left, right) = (as_type(whole.expr, ty), int(against, ty, span));
                return Ok(Expr::new(ExprKind::Compare(op, Box::new(left), Box::new(right)), Ty::I32, span));
            }
        }
        Self::refuse(span, "it compares real numbers that are not exact in integers")
    }

    /// An integer expression, with the real ones in it derived.
    pub(super) fn integer(&mut self, expr: &Expr) -> Result<Expr, NotFixed> {
        let span = expr.span;
        if let ExprKind::Input(key) = expr.kind
            && let Some(leaf) = self.leaves.leaf(key).map_err(|why| NotFixed { span, why })?
        {
            // An integer that is counted in steps now.
            let per = (1.0 / leaf.unit).round();
            if (per * leaf.unit - 1.0).abs() > 1e-9 || leaf.error > 0.0 {
                return Self::refuse(span, "it is no whole number any more");
            }
            let input = Expr::new(ExprKind::Input(key), leaf.ty, span);
            let whole = arith(Arith::Div, leaf.ty, input, int(per as i128, leaf.ty, span), span);
            return Ok(as_type(whole, expr.ty));
        }
        match &expr.kind {
            ExprKind::Compare(op, left, right) if left.ty.is_real() => {
                let difference = self.sum(left)?.plus(self.sum(right)?.times(-1.0));
                self.compared(*op, &difference, span)
            }
            ExprKind::Not(inner) if inner.ty.is_real() => {
                let sum = self.sum(inner)?;
                self.compared(Compare::Equal, &sum, span)
            }
            ExprKind::Convert(inner) if inner.ty.is_real() => {
                let sum = self.sum(inner)?;
                if expr.ty == Ty::Bool {
                    return Ok(as_type(self.compared(Compare::NotEqual, &sum, span)?, expr.ty));
                }
                match sum.exactly(1.0).filter(|_| sum.error <= 1e-9).and_then(|(factors, constant)| sum.whole(&factors, constant, 1.0, 0.0))
                {
                    Some(whole) => Ok(as_type(whole.expr, expr.ty)),
                    None => Self::refuse(span, "it cuts a real number to an integer"),
                }
            }
            _ => {
                let mut own = expr.clone();
                for operand in own.operands_mut() {
                    *operand = self.integer_or_truth(&operand.clone())?;
                }
                Ok(own)
            }
        }
    }
}

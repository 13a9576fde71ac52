//! A typed formula without real numbers: integers in fixed units, with a bound on the error against the exact formula.
//!
//! A real expression is kept as a sum of integers with exact factors as long as that goes; so sums and products with constants
//! cost nothing and lose nothing. Where it does not go on (a product of two values, a quotient, a choice, a variable) the sum becomes
//! one integer in a unit, and what is rounded there is added to the error. What cannot be derived is refused, with its place.

use super::facts::Facts;
use super::flat::interval::Interval;
use super::functions::Func;
use super::input::{CurveId, InputKey};
use super::operators::{Arith, Compare, Shift};
use super::typed::{Expr, ExprKind, Formula, Stmt, number};
use crate::ground::number::{Number, Ty};
use crate::ground::text::Span;

/// Why a formula cannot do without real numbers.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct NotFixed {
    /// The operation in the way.
    pub(crate) span: Span,
    /// Why it is.
    pub(crate) why: String,
}

/// What is known of an input that is a real number in the sheet.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Leaf {
    /// The type that it has now.
    pub(crate) ty: Ty,
    /// Its values now.
    pub(crate) low: i128,
    /// The highest.
    pub(crate) high: i128,
    /// What one of it is worth.
    pub(crate) unit: f64,
    /// By how much it may be off.
    pub(crate) error: f64,
}

/// What is known about inputs, and what is done about curves.
pub(crate) trait Leaves {
    /// An input, where it is no integer any more, or never was one; `Err` where it has no fixed unit.
    fn leaf(&mut self, key: InputKey) -> Result<Option<Leaf>, String>;
    /// A curve between integers: its y in the unit that comes back, by its x in a unit; also by how much y may be off.
    fn curve(&mut self, curve: CurveId, x_unit: f64) -> Result<(CurveId, f64, f64, (f64, f64)), String>;
}

/// What becomes of the formula's value.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Goal {
    /// A number of steps, in 32 bits.
    Steps(f64),
    /// An integer in any unit.
    Any,
    /// An integer stays what it is.
    Same,
}

/// A formula in integers.
#[derive(Clone, Debug)]
pub(crate) struct Fixed {
    pub(crate) formula: Formula,
    /// What one of its value is worth.
    pub(crate) unit: f64,
    /// By how much it may be off, the last rounding counted.
    pub(crate) error: f64,
}

/// Derives a formula. `facts` are those of the formula as it is.
pub(crate) fn fixed(formula: &Formula, facts: &Facts, leaves: &mut dyn Leaves, goal: Goal) -> Result<Fixed, NotFixed> {
    let mut writer =
        Writer { facts, leaves, goal, vars: vec![None; formula.vars.len()], units: Vec::new(), unit: 1.0, error: 0.0, settled: None };
    // A variable keeps one unit for all that it is ever set to.
    writer.units = (0..formula.vars.len()).map(|var| writer.largest(&formula.body, var)).collect();
    if goal == Goal::Any && formula.ty.is_real() {
        let (low, high) = facts.result.to_f64();
        writer.settled = Some(binary_unit(low.abs().max(high.abs())));
    }
    let mut body = writer.statements(&formula.body, formula)?;
    let mut count = 0;
    number(&mut body, &mut count);
    let mut vars = formula.vars.clone();
    for var in vars.iter_mut().filter(|var| var.ty.is_real()) {
        var.ty = Ty::I64;
    }
    let ty = match goal {
        Goal::Steps(_) => Ty::I32,
        Goal::Any if formula.ty.is_real() => Ty::I64,
        _ => formula.ty,
    };
    let mut inputs = Vec::new();
    super::typed::each(&body, &mut |expr| {
        if let ExprKind::Input(key) = expr.kind
            && !inputs.contains(&key)
        {
            inputs.push(key);
        }
    });
    let Writer { unit, error, .. } = writer;
    let formula = Formula { vars, body, ty, inputs, expressions: count as usize, lost: None, ..formula.clone() };
    Ok(Fixed { formula, unit, error })
}

/// A real value: a sum of integers, each with what one of it is worth, and a constant.
#[derive(Clone, Debug)]
struct Sum {
    terms: Vec<Term>,
    constant: f64,
    error: f64,
    span: Span,
}

#[derive(Clone, Debug)]
struct Term {
    worth: f64,
    expr: Expr,
    low: i128,
    high: i128,
}

/// One integer and its unit.
struct Whole {
    expr: Expr,
    low: i128,
    high: i128,
    unit: f64,
    error: f64,
}

struct Writer<'a> {
    facts: &'a Facts,
    leaves: &'a mut dyn Leaves,
    goal: Goal,
    /// Real variables: unit, bounds, error.
    vars: Vec<Option<(f64, i128, i128, f64)>>,
    units: Vec<f64>,
    unit: f64,
    error: f64,
    settled: Option<f64>,
}

/// Relative error of a product of constants, worked out in doubles.
const TINY: f64 = 1e-15;

impl Sum {
    fn constant(value: f64, span: Span) -> Self {
        Self { terms: Vec::new(), constant: value, error: 0.0, span }
    }

    fn bounds(&self) -> (f64, f64) {
        let mut bounds = (self.constant, self.constant);
        for term in &self.terms {
            let (one, other) = (term.worth * term.low as f64, term.worth * term.high as f64);
            bounds.0 += one.min(other);
            bounds.1 += one.max(other);
        }
        (bounds.0 - self.error, bounds.1 + self.error)
    }

    fn largest(&self) -> f64 {
        let (low, high) = self.bounds();
        low.abs().max(high.abs())
    }

    fn times(mut self, factor: f64) -> Self {
        let largest = self.largest() * factor.abs();
        self.terms.iter_mut().for_each(|term| term.worth *= factor);
        self.constant *= factor;
        self.error = self.error * factor.abs() + largest * TINY;
        self
    }

    fn plus(mut self, other: Sum) -> Self {
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
    fn exactly(&self, unit: f64) -> Option<(Vec<i128>, i128)> {
        let whole = |value: f64| {
            let (scaled, near) = (value / unit, (value / unit).round());
            let exact = (scaled - near).abs() <= near.abs() * 1e-12 && near.abs() < 1e15 && (near != 0.0 || value == 0.0);
            exact.then_some(near as i128)
        };
        let factors: Option<Vec<i128>> = self.terms.iter().map(|term| whole(term.worth)).collect();
        Some((factors?, whole(self.constant)?))
    }

    /// The factors in a unit, rounded, and by how much the sum is off for it.
    fn roughly(&self, unit: f64) -> (Vec<i128>, i128, f64) {
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
    fn whole(&self, factors: &[i128], constant: i128, unit: f64, error: f64) -> Option<Whole> {
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

fn fits_32(low: i128, high: i128) -> bool {
    i32::try_from(low).is_ok() && i32::try_from(high).is_ok()
}

/// Whether two expressions are the same.
fn same(one: &Expr, other: &Expr) -> bool {
    match (&one.kind, &other.kind) {
        (ExprKind::Var(a), ExprKind::Var(b)) => a == b,
        (ExprKind::Input(a), ExprKind::Input(b)) => a == b,
        _ => false,
    }
}

fn int(value: i128, ty: Ty, span: Span) -> Expr {
    Expr::new(ExprKind::Const(Number::Int(value, ty)), ty, span)
}

fn arith(op: Arith, ty: Ty, left: Expr, right: Expr, span: Span) -> Expr {
    Expr::new(ExprKind::Arith(op, Box::new(left), Box::new(right)), ty, span)
}

fn as_type(expr: Expr, ty: Ty) -> Expr {
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
fn binary_unit(largest: f64) -> f64 {
    if !largest.is_finite() || largest == 0.0 {
        return 1.0;
    }
    2f64.powi(largest.log2().ceil() as i32 - 30)
}

/// Units in which constants of datasheets are whole.
fn plain_units() -> impl Iterator<Item = f64> {
    let tens = (0..10).map(|digits| 10f64.powi(-digits));
    let twos = (1..24).map(|bits| 2f64.powi(-bits));
    tens.chain(twos)
}

impl Writer<'_> {
    fn refuse<T>(span: Span, why: impl Into<String>) -> Result<T, NotFixed> {
        Err(NotFixed { span, why: why.into() })
    }

    /// The unit of a variable: by the largest value that it is ever set to.
    fn largest(&self, list: &[Stmt], var: usize) -> f64 {
        let mut largest: f64 = 0.0;
        for statement in list {
            match statement {
                Stmt::Set { var: set, value, .. } if *set == var => {
                    let (low, high) = self.facts.get(value.id).map_or((f64::NEG_INFINITY, f64::INFINITY), |fact| fact.bounds.to_f64());
                    largest = largest.max(low.abs()).max(high.abs());
                }
                Stmt::If { then, otherwise, .. } => largest = largest.max(self.largest(then, var)).max(self.largest(otherwise, var)),
                _ => {}
            }
        }
        largest
    }

    fn integers(&self, expr: &Expr) -> (i128, i128) {
        match self.facts.get(expr.id).map(|fact| fact.bounds) {
            Some(Interval::Int(low, high)) => (low, high),
            _ => expr.ty.bounds().unwrap_or((0, 0)),
        }
    }

    fn statements(&mut self, list: &[Stmt], formula: &Formula) -> Result<Vec<Stmt>, NotFixed> {
        let mut out = Vec::new();
        for statement in list {
            out.push(match statement {
                Stmt::Set { var, value, span } if value.ty.is_real() => {
                    let sum = self.sum(value)?;
                    let known = self.vars.get(*var).copied().flatten().map(|known| known.0);
                    let once = sets(&formula.body, *var) == 1;
                    let whole = match known {
                        Some(unit) => self.in_unit(&sum, unit, value.span)?,
                        // What is set but once may have the unit that costs nothing.
                        None if once => self.whole(&sum, value.span)?,
                        None => {
                            let unit = binary_unit(self.units.get(*var).copied().unwrap_or(1.0));
                            self.in_unit(&sum, unit, value.span)?
                        }
                    };
                    if let Some(place) = self.vars.get_mut(*var) {
                        let (_, low, high, error) = place.unwrap_or((whole.unit, whole.low, whole.high, whole.error));
                        *place = Some((whole.unit, low.min(whole.low), high.max(whole.high), error.max(whole.error)));
                    }
                    Stmt::Set { var: *var, value: as_type(whole.expr, Ty::I64), span: *span }
                }
                Stmt::Set { var, value, span } => Stmt::Set { var: *var, value: self.integer(value)?, span: *span },
                Stmt::If { cond, then, otherwise } => {
                    let cond = self.integer_or_truth(cond)?;
                    Stmt::If { cond, then: self.statements(then, formula)?, otherwise: self.statements(otherwise, formula)? }
                }
                Stmt::Return(value) => Stmt::Return(self.returned(value)?),
            });
        }
        Ok(out)
    }

    fn returned(&mut self, value: &Expr) -> Result<Expr, NotFixed> {
        match self.goal {
            Goal::Steps(step) => {
                if let Some(quotient) = self.quotient_in_steps(value, step)? {
                    return Ok(quotient);
                }
                let sum = self.sum(value)?;
                self.unit = step;
                self.steps(sum, step, value.span)
            }
            Goal::Any if value.ty.is_real() => {
                let sum = self.sum(value)?;
                let unit = self.settled.unwrap_or(1.0);
                let whole = self.in_unit(&sum, unit, value.span)?;
                self.unit = whole.unit;
                self.error = self.error.max(whole.error);
                Ok(as_type(whole.expr, Ty::I64))
            }
            Goal::Any | Goal::Same if !value.ty.is_real() => self.integer(value),
            Goal::Any | Goal::Same => Self::refuse(value.span, "its value is a real number"),
        }
    }

    /// A quotient of two values that are exact in integers: one division, cut towards zero, is less than a step off.
    fn quotient_in_steps(&mut self, value: &Expr, step: f64) -> Result<Option<Expr>, NotFixed> {
        let ExprKind::Arith(Arith::Div, left, right) = &value.kind else { return Ok(None) };
        let span = value.span;
        let (one, other) = (self.sum(left)?, self.sum(right)?);
        if !value.ty.is_real() || other.terms.is_empty() || one.error > one.largest() * 1e-12 || other.error > other.largest() * 1e-12 {
            return Ok(None);
        }
        let b = self.whole(&other, right.span)?;
        if b.error > b.unit.abs() * 1e-9 || b.low <= 0 {
            return Ok(None);
        }
        let scaled = one.times(1.0 / (step * b.unit));
        let Some(a) = scaled.exactly(1.0).and_then(|(factors, constant)| scaled.whole(&factors, constant, 1.0, 0.0)) else {
            return Ok(None);
        };
        let most = a.low.abs().max(a.high.abs()) / b.low;
        if most >= i128::from(i32::MAX) {
            return Ok(None);
        }
        self.unit = step;
        self.error = self.error.max(step);
        let ty = if a.expr.ty == Ty::I32 && fits_32(b.low, b.high) { Ty::I32 } else { Ty::I64 };
        let quotient = arith(Arith::Div, ty, as_type(a.expr, ty), as_type(b.expr, ty), span);
        Ok(Some(as_type(quotient, Ty::I32)))
    }

    /// A number of steps, rounded to the nearest, in 32 bits.
    fn steps(&mut self, sum: Sum, step: f64, span: Span) -> Result<Expr, NotFixed> {
        let (low, high) = sum.bounds();
        let (low, high) = (low / step, high / step);
        if !(low >= f64::from(i32::MIN) + 1.0 && high <= f64::from(i32::MAX) - 1.0) {
            let largest = low.abs().max(high.abs()) * step;
            let wanted = 10f64.powf((largest / 2e9).log10().ceil());
            return Self::refuse(
                span,
                format!("up to {largest:.4} in steps of {step} is more than 32 bits hold; a step of {wanted} would do"),
            );
        }
        let own = sum.error / step;
        if let Some((factors, constant)) = sum.exactly(step)
            && let Some(whole) = sum.whole(&factors, constant, step, sum.error)
        {
            self.settle(own * step, step, span)?;
            return Ok(as_type(whole.expr, Ty::I32));
        }
        // As few bits behind the point as keep the rounding of the factors below a quarter of a step, so that 32 bits do where they can.
        let room = 0.49 - own;
        if room <= 0.0 {
            return Self::refuse(span, format!("the error would be {:.3} steps of {step}; choose a larger step", own + 0.5));
        }
        for bits in 1..48 {
            let unit = step / 2f64.powi(bits);
            let (factors, constant, off) = sum.roughly(unit);
            if off / step > room.min(0.25) {
                continue;
            }
            let half = 1i128 << (bits - 1);
            let Some(whole) = sum.whole(&factors, constant + half, unit, sum.error + off) else { break };
            self.settle(sum.error + off + 0.5 * step, step, span)?;
            let ty = whole.expr.ty;
            let count = int(i128::from(bits), Ty::I32, span);
            let shifted = Expr::new(ExprKind::Shift(Shift::Right, Box::new(whole.expr), Box::new(count)), ty, span);
            return Ok(as_type(shifted, Ty::I32));
        }
        Self::refuse(span, format!("64 bits are too few for it in steps of {step}; choose a larger step"))
    }

    fn settle(&mut self, error: f64, step: f64, span: Span) -> Result<(), NotFixed> {
        self.error = self.error.max(error);
        if error > step {
            Self::refuse(span, format!("the error would be {:.3} steps of {step}; choose a larger step", error / step))
        } else {
            Ok(())
        }
    }

    /// A sum as one integer, in a unit that loses nothing, or as little as 30 bits allow.
    fn whole(&mut self, sum: &Sum, span: Span) -> Result<Whole, NotFixed> {
        if let ([term], true) = (sum.terms.as_slice(), sum.constant == 0.0) {
            return Ok(Whole { expr: term.expr.clone(), low: term.low, high: term.high, unit: term.worth, error: sum.error });
        }
        for unit in plain_units() {
            if let Some((factors, constant)) = sum.exactly(unit)
                && let Some(whole) = sum.whole(&factors, constant, unit, sum.error)
            {
                return Ok(whole);
            }
        }
        self.in_unit(sum, binary_unit(sum.largest()), span)
    }

    fn in_unit(&mut self, sum: &Sum, unit: f64, span: Span) -> Result<Whole, NotFixed> {
        if let Some((factors, constant)) = sum.exactly(unit)
            && let Some(whole) = sum.whole(&factors, constant, unit, sum.error)
        {
            return Ok(whole);
        }
        // Factors in finer units, and the sum moved back.
        for bits in (0..24).rev() {
            let fine = unit / 2f64.powi(bits);
            let (factors, constant, off) = sum.roughly(fine);
            let half = if bits > 0 { 1i128 << (bits - 1) } else { 0 };
            let Some(whole) = sum.whole(&factors, constant + half, fine, sum.error + off) else { continue };
            if bits == 0 {
                return Ok(whole);
            }
            let ty = whole.expr.ty;
            let count = int(i128::from(bits), Ty::I32, span);
            let expr = Expr::new(ExprKind::Shift(Shift::Right, Box::new(whole.expr), Box::new(count)), ty, span);
            return Ok(Whole { expr, low: whole.low >> bits, high: whole.high >> bits, unit, error: whole.error + 0.5 * unit });
        }
        Self::refuse(span, "64 bits are too few for it")
    }

    /// A whole number with no more than so many bits.
    fn cut_to(&mut self, whole: Whole, bits: u32, span: Span) -> Whole {
        let most = whole.low.abs().max(whole.high.abs());
        let over = (128 - most.leading_zeros()).saturating_sub(bits);
        if over == 0 {
            return whole;
        }
        let ty = whole.expr.ty;
        let count = int(i128::from(over), Ty::I32, span);
        let expr = Expr::new(ExprKind::Shift(Shift::Right, Box::new(whole.expr), Box::new(count)), ty, span);
        let unit = whole.unit * 2f64.powi(over as i32);
        Whole { expr, low: whole.low >> over, high: whole.high >> over, unit, error: whole.error + unit.abs() }
    }

    fn term(&self, expr: Expr, low: i128, high: i128, worth: f64, error: f64, span: Span) -> Sum {
        Sum { terms: vec![Term { worth, expr, low, high }], constant: 0.0, error, span }
    }

    /// A real expression as a sum.
    fn sum(&mut self, expr: &Expr) -> Result<Sum, NotFixed> {
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
                let (curve, unit, off, (steepest, largest)) = self.leaves.curve(*curve, x.unit).map_err(|why| NotFixed { span, why })?;
                let most = (largest / unit).ceil() as i128 + 1;
                let expr = Expr::new(ExprKind::Curve(curve, Box::new(as_type(x.expr, Ty::I64))), Ty::I64, span);
                Ok(self.term(expr, -most, most, unit, off + steepest * x.error, span))
            }
            _ => Self::refuse(span, "it needs real numbers"),
        }
    }

    /// An integer expression as a real one.
    fn of_integer(&mut self, expr: &Expr) -> Result<Sum, NotFixed> {
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

    fn product(&mut self, one: &Sum, other: &Sum, span: Span) -> Result<Sum, NotFixed> {
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

    fn quotient(&mut self, one: &Sum, other: &Sum, by: Span, span: Span) -> Result<Sum, NotFixed> {
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
    fn choice(&mut self, pick: &dyn Fn(Expr, Expr) -> ExprKind, one: &Sum, other: &Sum, span: Span) -> Result<Sum, NotFixed> {
        let exact = plain_units().find(|unit| one.exactly(*unit).is_some() && other.exactly(*unit).is_some());
        let unit = exact.unwrap_or_else(|| binary_unit(one.largest().max(other.largest())));
        let (a, b) = (self.in_unit(one, unit, span)?, self.in_unit(other, unit, span)?);
        let ty = if a.expr.ty == Ty::I32 && b.expr.ty == Ty::I32 { Ty::I32 } else { Ty::I64 };
        let expr = Expr::new(pick(as_type(a.expr, ty), as_type(b.expr, ty)), ty, span);
        Ok(self.term(expr, a.low.min(b.low), a.high.max(b.high), unit, a.error.max(b.error), span))
    }

    fn integer_or_truth(&mut self, expr: &Expr) -> Result<Expr, NotFixed> {
        if expr.ty.is_real() {
            let sum = self.sum(expr)?;
            return self.compared(Compare::NotEqual, &sum, expr.span);
        }
        self.integer(expr)
    }

    /// A sum against zero, where that is exact.
    fn compared(&mut self, op: Compare, sum: &Sum, span: Span) -> Result<Expr, NotFixed> {
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
    fn integer(&mut self, expr: &Expr) -> Result<Expr, NotFixed> {
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

/// How often a variable is set in the text.
fn sets(list: &[Stmt], var: usize) -> usize {
    list.iter()
        .map(|statement| match statement {
            Stmt::Set { var: set, .. } => usize::from(*set == var),
            Stmt::If { then, otherwise, .. } => sets(then, var) + sets(otherwise, var),
            Stmt::Return(_) => 0,
        })
        .sum()
}

//! A typed formula without real numbers: integers in fixed units, with a bound on the error against the exact formula.
//!
//! A real expression is kept as a sum of integers with exact factors as long as that goes; so sums and products with constants
//! cost nothing and lose nothing. Where it does not go on (a product of two values, a quotient, a choice, a variable) the sum becomes
//! one integer in a unit, and what is rounded there is added to the error. What cannot be derived is refused, with its place.

mod sum;
mod terms;

use crate::formula::facts::Facts;
use crate::formula::flat::interval::Interval;
use crate::formula::input::{CurveId, InputKey};
use crate::formula::operators::{Arith, Shift};
use crate::formula::typed::{Expr, ExprKind, Formula, Stmt, number};
use crate::ground::number::Ty;
use crate::ground::text::Span;
use sum::{Sum, Whole, arith, as_type, binary_unit, fits_32, int, plain_units};

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
    /// A curve between integers: its y in the unit that comes back, by its x in a unit and within bounds of that; also by how much y may
    /// be off, how steep it is at most, and how large.
    fn curve(&mut self, curve: CurveId, x_unit: f64, x: (i128, i128)) -> Result<(CurveId, f64, f64, (f64, f64)), String>;
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
    crate::formula::typed::each(&body, &mut |expr| {
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

//! What is known of every expression of a formula before it runs: bounds, whether it can fault, whether it can be
//! infinite. Emitters leave checks out by it, and `check` points at the text.

use std::sync::Arc;

use super::curve::Curve;
use super::flat::interval::{Interval, analyse};
use super::flat::lower::Lowerer;
use super::input::InputKey;
use super::typed::{Expr, ExprId, ExprKind, Formula, each};

/// What is known of one expression, for all inputs within their bounds.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Fact {
    /// The values that it can have.
    pub(crate) bounds: Interval,
    /// Its own operation cannot fault; those inside it have facts of their own.
    pub(crate) cannot_fault: bool,
    /// It may be infinite, or no number.
    pub(crate) can_be_infinite: bool,
}

/// The facts of a formula.
#[derive(Clone, Debug)]
pub(crate) struct Facts {
    all: Vec<Fact>,
    /// The bounds of the formula's value.
    pub(crate) result: Interval,
    /// Its value may be infinite, or no number.
    pub(crate) may_be_none: bool,
}

impl Facts {
    /// Works out those of formulas that use one another: each gives the input whose key stands beside it, to those behind
    /// it. `bounds` has those of all other inputs.
    pub(crate) fn of_all(formulas: &[(InputKey, &Formula)], curves: &[Arc<Curve>], bounds: &dyn Fn(InputKey) -> Interval) -> Vec<Self> {
        let mut lowerer = Lowerer::new(curves, false);
        let mut traces = Vec::new();
        for (key, formula) in formulas {
            lowerer.traced = Some(vec![(0, None); formula.expressions]);
            let output = lowerer.formula(formula);
            lowerer.publish(*key, output);
            traces.push(lowerer.traced.take().unwrap_or_default());
        }
        let program = lowerer.finish();
        let analysis = analyse(&program, bounds);
        let fact = |(slot, made): (u32, Option<usize>)| {
            let bounds = analysis.slot(slot);
            let safe = |op: usize| {
                let marked = program.ops.get(op).is_some_and(|op| op.safe);
                marked || analysis.safe.get(op).copied().unwrap_or(false)
            };
            Fact { bounds, cannot_fault: made.is_none_or(safe), can_be_infinite: may_be_infinite(bounds) }
        };
        let each = traces.into_iter().zip(&program.outputs);
        each.map(|(trace, (slot, _))| {
            let result = analysis.slot(*slot);
            Self { all: trace.into_iter().map(fact).collect(), result, may_be_none: may_be_infinite(result) }
        })
        .collect()
    }

    /// Nothing is known.
    pub(crate) fn unknown() -> Self {
        Self { all: Vec::new(), result: Interval::Real(f64::NEG_INFINITY, f64::INFINITY), may_be_none: true }
    }

    /// What is known of an expression.
    pub(crate) fn get(&self, id: ExprId) -> Option<Fact> {
        self.all.get(id.0 as usize).copied()
    }

    /// The expressions that may fault, in the order of the text.
    pub(crate) fn doubts<'f>(&self, formula: &'f Formula) -> Vec<&'f Expr> {
        let mut found = Vec::new();
        each(&formula.body, &mut |expr| {
            // A name is no operation: whether its value is at fault is told where it is computed.
            let plain = matches!(expr.kind, ExprKind::Const(_) | ExprKind::Var(_) | ExprKind::Input(_));
            if !plain && self.get(expr.id).is_some_and(|fact| !fact.cannot_fault) {
                found.push(expr);
            }
        });
        found.sort_by_key(|expr| (expr.span.start, expr.span.end));
        found.dedup_by_key(|expr| expr.span);
        found
    }
}

fn may_be_infinite(bounds: Interval) -> bool {
    let (low, high) = bounds.to_f64();
    matches!(bounds, Interval::Real(..)) && !(low.is_finite() && high.is_finite())
}

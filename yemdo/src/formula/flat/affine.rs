//! Outputs that are one input times a number plus a number: the most of them, and worth a way of their own, without the
//! program.

use std::collections::HashMap;

use super::program::{Constant, Num, Op, Opcode, Program, Slot};
use crate::ground::number::Ty;

/// Most operations behind the input.
const MAX_STEPS: usize = 4;

/// A step on the way from an input to an output, in the formula's order, so that every rounding is the formula's own.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Step {
    Add(f64),
    Mul(f64),
    Div(f64),
}

impl Step {
    /// Applies it to a value.
    #[inline]
    pub(crate) fn apply(self, value: f64) -> f64 {
        match self {
            Step::Add(k) => value + k,
            Step::Mul(k) => value * k,
            Step::Div(k) => value / k,
        }
    }
}

/// The input of an output that is affine in it (a real, or an integer or float made one), and what is done to it: all in
/// the output's own precision, of float or double.
pub(crate) fn find(program: &Program, output: Slot) -> Option<(Slot, Vec<Step>)> {
    let num = *program.slots.get(output as usize)?;
    let ty = match num {
        Num::F32 => Ty::F32,
        Num::F64 => Ty::F64,
        Num::I32 | Num::U32 | Num::I64 | Num::U64 => return None,
    };
    let made: HashMap<Slot, &Op> = program.ops.iter().map(|op| (op.dst, op)).collect();
    let constant = |slot: Slot| match program.constants.iter().find(|(known, _)| *known == slot)?.1 {
        Constant::Real(value) => Some(value),
        Constant::Int(_) => None,
    };
    let mut steps = Vec::new();
    let mut slot = output;
    let is_input = |slot: Slot| program.inputs.iter().any(|(input, _)| *input == slot);
    loop {
        if is_input(slot) {
            steps.reverse();
            return Some((slot, steps));
        }
        let op = made.get(&slot).filter(|op| op.safe)?;
        if let Opcode::Convert(Num::I32 | Num::F32, to) = op.what
            && to == ty
        {
            steps.reverse();
            return is_input(op.a).then_some((op.a, steps));
        }
        // What commutes may have its constant on either side.
        let (step, next) = match (op.what, constant(op.a), constant(op.b)) {
            (Opcode::Add(of), _, Some(k)) if of == num => (Step::Add(k), op.a),
            (Opcode::Add(of), Some(k), None) if of == num => (Step::Add(k), op.b),
            (Opcode::Mul(of), _, Some(k)) if of == num => (Step::Mul(k), op.a),
            (Opcode::Mul(of), Some(k), None) if of == num => (Step::Mul(k), op.b),
            (Opcode::Sub(of), _, Some(k)) if of == num => (Step::Add(-k), op.a),
            // Dividing by a power of two is multiplying by one.
            (Opcode::Div(of), _, Some(k)) if of == num && is_power_of_two(k) => (Step::Mul(1.0 / k), op.a),
            (Opcode::Div(of), _, Some(k)) if of == num => (Step::Div(k), op.a),
            _ => return None,
        };
        steps.push(step);
        slot = next;
        if steps.len() > MAX_STEPS {
            return None;
        }
    }
}

/// Folds products by powers of two into other steps. Such scaling is exact, so all values stay bit-identical unless an intermediate value
/// overflows or becomes subnormal. Integer codes and constants of usual size exclude both.
pub(crate) fn folded(steps: &[Step], single: bool) -> Vec<Step> {
    let (least, most) = if single { (1e-6, 1e6) } else { (1e-60, 1e60) };
    let usual = |k: f64| (least..=most).contains(&k.abs());
    let is_usual = |step: &Step| match *step {
        Step::Add(k) => k == 0.0 || usual(k),
        Step::Mul(k) | Step::Div(k) => usual(k),
    };
    let mut all: Vec<Step> = Vec::new();
    if !steps.iter().all(is_usual) {
        return steps.to_vec();
    }
    for step in steps {
        match (*step, all.last().and_then(scale_of)) {
            (Step::Mul(p), _) if scale_of(step).is_some() => scale(&mut all, p),
            (Step::Mul(m), Some(p)) => replace_last(&mut all, Step::Mul(p * m)),
            (Step::Div(d), Some(p)) => replace_last(&mut all, Step::Div(d / p)),
            (step, _) => all.push(step),
        }
    }
    all
}

/// The factor of an exact scaling. A negative one would change the sign of a zero.
fn scale_of(step: &Step) -> Option<f64> {
    match *step {
        Step::Mul(p) if p > 0.0 && is_power_of_two(p) => Some(p),
        _ => None,
    }
}

fn replace_last(steps: &mut [Step], by: Step) {
    steps.last_mut().into_iter().for_each(|last| *last = by);
}

/// Scales the result of some steps by a power of two.
fn scale(steps: &mut Vec<Step>, by: f64) {
    for step in steps.iter_mut().rev() {
        match step {
            Step::Add(k) => *k *= by,
            Step::Mul(k) => {
                *k *= by;
                return;
            }
            Step::Div(k) => {
                *k /= by;
                return;
            }
        }
    }
    steps.insert(0, Step::Mul(by));
}

/// Whether a number and its reciprocal are powers of two, as a float too.
fn is_power_of_two(k: f64) -> bool {
    k.to_bits() << 12 == 0 && (k as f32).is_normal() && (1.0 / k as f32).is_normal()
}

/// Drops the operations that lead to an output's slot and to nothing else. What other outputs use stays.
pub(crate) fn drop_unused(program: &mut Program, slot: Slot, output: usize) {
    let mut wanted = vec![slot];
    while let Some(slot) = wanted.pop() {
        let by_ops = program.ops.iter().any(|op| [op.a, op.b, op.c].contains(&slot) || op.guard == Some(slot));
        let by_outputs = program.outputs.iter().enumerate().any(|(index, (other, _))| index != output && *other == slot);
        if by_ops || by_outputs || program.need_guards().any(|guard| guard == slot) {
            continue;
        }
        if let Some(at) = program.ops.iter().position(|op| op.dst == slot) {
            let op = program.ops.remove(at);
            wanted.extend([op.a, op.b, op.c]);
        }
    }
}

/// Whether something still asks for a slot: an operation, a guard or an output.
pub(crate) fn is_used(program: &Program, slot: Slot) -> bool {
    program.ops.iter().any(|op| [op.a, op.b, op.c].contains(&slot) || op.guard == Some(slot))
        || program.need_guards().any(|guard| guard == slot)
        || program.outputs.iter().any(|(output, _)| *output == slot)
}

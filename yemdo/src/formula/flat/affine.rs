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

/// The input of an output that is affine in it (an `int` made real), and what is done to it.
pub(crate) fn find(program: &Program, output: Slot) -> Option<(Slot, Vec<Step>)> {
    let made: HashMap<Slot, &Op> = program.ops.iter().map(|op| (op.dst, op)).collect();
    let constant = |slot: Slot| match program.constants.iter().find(|(known, _)| *known == slot)?.1 {
        Constant::Real(value) => Some(value),
        Constant::Int(_) => None,
    };
    let mut steps = Vec::new();
    let mut slot = output;
    loop {
        let op = made.get(&slot).filter(|op| op.safe)?;
        if let Opcode::Convert(Num::I32, Ty::F64) = op.what {
            steps.reverse();
            return program.inputs.iter().any(|(input, _)| *input == op.a).then_some((op.a, steps));
        }
        // What commutes may have its constant on either side.
        let (step, next) = match (op.what, constant(op.a), constant(op.b)) {
            (Opcode::Add(Num::F64), _, Some(k)) => (Step::Add(k), op.a),
            (Opcode::Add(Num::F64), Some(k), None) => (Step::Add(k), op.b),
            (Opcode::Mul(Num::F64), _, Some(k)) => (Step::Mul(k), op.a),
            (Opcode::Mul(Num::F64), Some(k), None) => (Step::Mul(k), op.b),
            (Opcode::Sub(Num::F64), _, Some(k)) => (Step::Add(-k), op.a),
            // Dividing by a power of two is multiplying by one.
            (Opcode::Div(Num::F64), _, Some(k)) if k.to_bits() << 12 == 0 && k.is_normal() && (1.0 / k).is_normal() => {
                (Step::Mul(1.0 / k), op.a)
            }
            (Opcode::Div(Num::F64), _, Some(k)) => (Step::Div(k), op.a),
            _ => return None,
        };
        steps.push(step);
        slot = next;
        if steps.len() > MAX_STEPS {
            return None;
        }
    }
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

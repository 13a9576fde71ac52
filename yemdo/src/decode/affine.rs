//! Readings that are a code times a number plus a number: the most of them, and worth a way of their own.
//!
//! Their codes go straight into the column of values, which is then scaled in place; the program runs without them.

use std::collections::HashMap;

use super::plan::{From, Load, ReadingPlan};
use crate::bits::gather::Gather;
use crate::formula::program::{Constant, Do, Num, Op, Program, Slot};

/// Most operations behind the code.
const MAX_STEPS: usize = 4;

/// A reading that needs no program.
#[derive(Clone, Debug)]
pub(crate) struct Affine {
    gather: Gather,
    /// In the order in which the formula does them, so that every rounding is the formula's own.
    steps: Vec<Step>,
}

#[derive(Clone, Copy, Debug)]
enum Step {
    Add(f64),
    Sub(f64),
    Mul(f64),
    Div(f64),
}

impl Affine {
    /// The values of frames that follow one another.
    pub(crate) fn fill(&self, frames: &[u8], length: usize, values: &mut [f64]) {
        self.gather.codes(frames, length, values, &mut |_| ());
        for step in &self.steps {
            match *step {
                Step::Add(k) => values.iter_mut().for_each(|value| *value += k),
                Step::Sub(k) => values.iter_mut().for_each(|value| *value -= k),
                Step::Mul(k) => values.iter_mut().for_each(|value| *value *= k),
                Step::Div(k) => values.iter_mut().for_each(|value| *value /= k),
            }
        }
    }
}

/// Finds the readings that are affine in one code, and takes out of the program what only they need.
pub(crate) fn take_out(program: &mut Program, loads: &mut Vec<Load>, readings: &mut [ReadingPlan]) {
    for reading in readings {
        let Some((slot, _)) = program.outputs.get(reading.output).copied() else { continue };
        if !program.finite.get(reading.output).copied().unwrap_or(false) {
            continue;
        }
        reading.affine = find(program, loads, slot);
        if reading.affine.is_some() {
            drop_unused(program, slot, reading.output);
        }
    }
    let used: Vec<Slot> = program.ops.iter().flat_map(|op| [op.a, op.b, op.c].into_iter().chain(op.guard)).collect();
    let kept: Vec<Slot> = readings_outputs(program);
    loads.retain(|load| used.contains(&load.slot) || kept.contains(&load.slot));
}

/// Slots of outputs that are still computed or loaded.
fn readings_outputs(program: &Program) -> Vec<Slot> {
    program.outputs.iter().map(|(slot, _)| *slot).collect()
}

fn find(program: &Program, loads: &[Load], output: Slot) -> Option<Affine> {
    let made: HashMap<Slot, &Op> = program.ops.iter().map(|op| (op.dst, op)).collect();
    let constant = |slot: Slot| match program.constants.iter().find(|(known, _)| *known == slot)?.1 {
        Constant::Real(value) => Some(value),
        Constant::Int(_) => None,
    };
    let mut steps = Vec::new();
    let mut slot = output;
    loop {
        let op = made.get(&slot).filter(|op| op.safe)?;
        if let Do::Convert(Num::I32, crate::formula::types::Ty::F64) = op.what {
            let load = loads.iter().find(|load| load.slot == op.a)?;
            let From::Frame(gather, None) = &load.from else { return None };
            let plain = gather.is_plain();
            steps.reverse();
            return plain.then(|| Affine { gather: gather.clone(), steps });
        }
        // What commutes may have its constant on either side.
        let (step, next) = match (op.what, constant(op.a), constant(op.b)) {
            (Do::Add(Num::F64), _, Some(k)) => (Step::Add(k), op.a),
            (Do::Add(Num::F64), Some(k), None) => (Step::Add(k), op.b),
            (Do::Mul(Num::F64), _, Some(k)) => (Step::Mul(k), op.a),
            (Do::Mul(Num::F64), Some(k), None) => (Step::Mul(k), op.b),
            (Do::Sub(Num::F64), _, Some(k)) => (Step::Sub(k), op.a),
            (Do::Div(Num::F64), _, Some(k)) => (Step::Div(k), op.a),
            _ => return None,
        };
        steps.push(step);
        slot = next;
        if steps.len() > MAX_STEPS {
            return None;
        }
    }
}

/// Drops the operations that lead to a slot and to nothing else. A reading that others use stays.
fn drop_unused(program: &mut Program, slot: Slot, output: usize) {
    let mut wanted = vec![slot];
    while let Some(slot) = wanted.pop() {
        let by_ops = program.ops.iter().any(|op| [op.a, op.b, op.c].contains(&slot) || op.guard == Some(slot));
        let by_outputs = program.outputs.iter().enumerate().any(|(index, (other, _))| index != output && *other == slot);
        if by_ops || by_outputs {
            continue;
        }
        if let Some(at) = program.ops.iter().position(|op| op.dst == slot) {
            let op = program.ops.remove(at);
            wanted.extend([op.a, op.b, op.c]);
        }
    }
}

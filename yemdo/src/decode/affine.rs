//! Readings that are a code times a number plus a number: the most of them, and worth a way of their own.
//!
//! Their codes go straight into the column of values, scaled on the way; the program runs without them.

use std::collections::HashMap;

use super::columns::Room;
use super::plan::{From, Load, ReadingPlan};
use crate::bits::gather::Gather;
use crate::bits::word::{Cut, MOST_WORDS, RealCut};
use crate::formula::program::{Constant, Do, Num, Op, Program, Slot};
use crate::formula::run::Column;

/// Most operations behind the code.
const MAX_STEPS: usize = 4;

/// A reading that needs no program.
#[derive(Clone, Debug)]
pub(crate) struct Affine {
    gather: Gather,
    cut: Option<RealCut>,
    /// Where the program has the code too, and so has it loaded already.
    loaded: Option<Slot>,
    /// What is done to a code on its way.
    scale: Scale,
    /// What is done afterwards.
    rest: Vec<Step>,
}

/// The first steps, in the formula's order, so that every rounding is the formula's own. Adding -0.0 and multiplying
/// by 1 change no number.
#[derive(Clone, Copy, Debug)]
enum Scale {
    MulAdd(f64, f64),
    AddMul(f64, f64),
    DivAdd(f64, f64),
}

#[derive(Clone, Copy, Debug)]
enum Step {
    Add(f64),
    Mul(f64),
    Div(f64),
}

impl Affine {
    fn new(gather: Gather, cut: Option<RealCut>, slot: Slot, steps: &[Step]) -> Self {
        let (scale, rest) = match *steps {
            [Step::Mul(m), Step::Add(a), ref rest @ ..] => (Scale::MulAdd(m, a), rest),
            [Step::Mul(m), ref rest @ ..] => (Scale::MulAdd(m, -0.0), rest),
            [Step::Add(a), Step::Mul(m), ref rest @ ..] => (Scale::AddMul(a, m), rest),
            [Step::Add(a), ref rest @ ..] => (Scale::MulAdd(1.0, a), rest),
            [Step::Div(d), Step::Add(a), ref rest @ ..] => (Scale::DivAdd(d, a), rest),
            [Step::Div(d), ref rest @ ..] => (Scale::DivAdd(d, -0.0), rest),
            [] => (Scale::MulAdd(1.0, -0.0), steps),
        };
        Self { gather, cut, loaded: Some(slot), scale, rest: rest.to_vec() }
    }

    /// The values of frames that follow one another, whose words are loaded and over which the program has run.
    pub(crate) fn fill(&self, room: &Room, frames: &[u8], length: usize, values: &mut [f64]) {
        match self.scale {
            Scale::MulAdd(m, a) => self.fill_scaled(room, frames, length, values, |code| code * m + a),
            Scale::AddMul(a, m) => self.fill_scaled(room, frames, length, values, |code| (code + a) * m),
            Scale::DivAdd(d, a) => self.fill_scaled(room, frames, length, values, |code| code / d + a),
        }
        for step in &self.rest {
            values.iter_mut().for_each(|value| *value = step.apply(*value));
        }
    }

    #[inline]
    fn fill_scaled(&self, room: &Room, frames: &[u8], length: usize, values: &mut [f64], scale: impl Fn(f64) -> f64 + Copy) {
        if let Some((cut, words)) = self.cut.and_then(|cut| Some((cut, cut.place.column(&room.words)?))) {
            values.iter_mut().zip(words).for_each(|(value, word)| *value = scale(cut.code(*word)));
        } else if let Some(Column::I32(codes)) = self.loaded.and_then(|slot| room.machine.column(slot)) {
            values.iter_mut().zip(codes).for_each(|(value, code)| *value = scale(f64::from(*code)));
        } else {
            self.fill_gathered(frames, length, values, scale);
        }
    }

    #[inline(never)]
    fn fill_gathered(&self, frames: &[u8], length: usize, values: &mut [f64], scale: impl Fn(f64) -> f64 + Copy) {
        self.gather.codes_then(frames, length, values, &mut |_| (), scale);
    }

    /// The code's place and the two numbers, where that is all.
    pub(crate) fn mul_add(&self) -> Option<(RealCut, f64, f64)> {
        match self.scale {
            Scale::MulAdd(m, a) if self.rest.is_empty() => Some((self.cut?, m, a)),
            _ => None,
        }
    }

    /// The value of one frame, of which these are the words.
    #[inline(always)]
    pub(crate) fn value(&self, words: &[u64; MOST_WORDS], frame: &[u8]) -> f64 {
        let code = match self.cut {
            Some(cut) => cut.code(cut.place.word(words)),
            None => self.gather.code(frame).unwrap_or(0) as f64,
        };
        let scaled = match self.scale {
            Scale::MulAdd(m, a) => code * m + a,
            Scale::AddMul(a, m) => (code + a) * m,
            Scale::DivAdd(d, a) => code / d + a,
        };
        if self.rest.is_empty() { scaled } else { self.rest.iter().fold(scaled, |value, step| step.apply(value)) }
    }
}

impl Step {
    #[inline]
    fn apply(self, value: f64) -> f64 {
        match self {
            Step::Add(k) => value + k,
            Step::Mul(k) => value * k,
            Step::Div(k) => value / k,
        }
    }
}

/// Finds the readings that are affine in one code, and takes out of the program what only they need.
pub(crate) fn take_out(program: &mut Program, loads: &mut Vec<Load>, readings: &mut [ReadingPlan]) {
    for reading in readings.iter_mut() {
        let Some((slot, _)) = program.outputs.get(reading.output).copied() else { continue };
        if !program.finite.get(reading.output).copied().unwrap_or(false) {
            continue;
        }
        reading.affine = find(program, loads, slot);
        if reading.affine.is_some() {
            drop_unused(program, slot, reading.output);
        }
    }
    let used: Vec<Slot> =
        program.ops.iter().flat_map(|op| [op.a, op.b, op.c].into_iter().chain(op.guard)).chain(program.need_guards()).collect();
    let kept: Vec<Slot> = readings_outputs(program);
    loads.retain(|load| used.contains(&load.slot) || kept.contains(&load.slot));
    for affine in readings.iter_mut().filter_map(|reading| reading.affine.as_mut()) {
        affine.loaded = affine.loaded.filter(|slot| loads.iter().any(|load| load.slot == *slot));
    }
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
            return plain.then(|| Affine::new(gather.clone(), load.cut.and_then(Cut::to_real), load.slot, &steps));
        }
        // What commutes may have its constant on either side.
        let (step, next) = match (op.what, constant(op.a), constant(op.b)) {
            (Do::Add(Num::F64), _, Some(k)) => (Step::Add(k), op.a),
            (Do::Add(Num::F64), Some(k), None) => (Step::Add(k), op.b),
            (Do::Mul(Num::F64), _, Some(k)) => (Step::Mul(k), op.a),
            (Do::Mul(Num::F64), Some(k), None) => (Step::Mul(k), op.b),
            (Do::Sub(Num::F64), _, Some(k)) => (Step::Add(-k), op.a),
            // Dividing by a power of two is multiplying by one.
            (Do::Div(Num::F64), _, Some(k)) if k.to_bits() << 12 == 0 && k.is_normal() && (1.0 / k).is_normal() => {
                (Step::Mul(1.0 / k), op.a)
            }
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
        if by_ops || by_outputs || program.need_guards().any(|guard| guard == slot) {
            continue;
        }
        if let Some(at) = program.ops.iter().position(|op| op.dst == slot) {
            let op = program.ops.remove(at);
            wanted.extend([op.a, op.b, op.c]);
        }
    }
}

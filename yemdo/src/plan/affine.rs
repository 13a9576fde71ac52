//! Readings that are a code times a number plus a number, without a program.

use crate::bits::gather::Gather;
use crate::bits::word::{NumberCut, RealCut};
use crate::formula::flat::affine::Step;
use crate::formula::flat::program::Slot;

/// A reading that needs no program.
#[derive(Clone, Debug)]
pub(crate) struct Affine {
    pub(crate) gather: Gather,
    pub(crate) source: Source,
    /// What is done to a code on its way.
    pub(crate) scale: Scale,
    /// What is done afterwards.
    pub(crate) rest: Vec<Step>,
    /// It is computed as a float, not as a double.
    pub(crate) single: bool,
    /// Its value is proved to be a finite number; otherwise each has to be looked at.
    pub(crate) finite: bool,
}

/// How its code is taken out of the frame.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Source {
    /// An integer: out of a word, or from where the program has it too and so has it loaded already.
    Code { cut: Option<RealCut>, loaded: Option<Slot> },
    /// A real number, out of a word.
    Number(Option<NumberCut>),
}

/// The first steps, in the formula's order, so that every rounding is the formula's own. Adding -0.0 and multiplying
/// by 1 change no number.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Scale {
    MulAdd(f64, f64),
    AddMul(f64, f64),
    DivAdd(f64, f64),
}

impl Affine {
    pub(crate) fn new(gather: Gather, source: Source, steps: &[Step], (single, finite): (bool, bool)) -> Self {
        let (scale, rest) = match *steps {
            [Step::Mul(m), Step::Add(a), ref rest @ ..] => (Scale::MulAdd(m, a), rest),
            [Step::Mul(m), ref rest @ ..] => (Scale::MulAdd(m, -0.0), rest),
            [Step::Add(a), Step::Mul(m), ref rest @ ..] => (Scale::AddMul(a, m), rest),
            [Step::Add(a), ref rest @ ..] => (Scale::MulAdd(1.0, a), rest),
            [Step::Div(d), Step::Add(a), ref rest @ ..] => (Scale::DivAdd(d, a), rest),
            [Step::Div(d), ref rest @ ..] => (Scale::DivAdd(d, -0.0), rest),
            [] => (Scale::MulAdd(1.0, -0.0), steps),
        };
        Self { gather, source, scale, rest: rest.to_vec(), single, finite }
    }

    /// The code's place, the two numbers, and whether they are floats, where that is all.
    pub(crate) fn mul_add(&self) -> Option<(Source, f64, f64, bool)> {
        match self.scale {
            Scale::MulAdd(m, a) if self.rest.is_empty() => Some((self.source, m, a, self.single)),
            Scale::MulAdd(..) | Scale::AddMul(..) | Scale::DivAdd(..) => None,
        }
    }
}

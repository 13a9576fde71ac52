//! Readings that are a code times a number plus a number: their codes go straight into the column of values, scaled on
//! the way.

use super::columns::Room;
use crate::bits::word::MOST_WORDS;
use crate::formula::flat::affine::Step;
use crate::formula::run::columns::Column;
use crate::plan::affine::{Affine, Scale};

impl Affine {
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
    pub(super) fn apply(self, value: f64) -> f64 {
        match self {
            Step::Add(k) => value + k,
            Step::Mul(k) => value * k,
            Step::Div(k) => value / k,
        }
    }
}

//! Readings that are a code times a number plus a number: their codes go straight into the column of values, scaled on
//! the way.

use super::columns::Room;
use crate::bits::word::MOST_WORDS;
use crate::formula::flat::affine::Step;
use crate::formula::run::columns::Column;
use crate::plan::affine::{Affine, Scale, Source};

impl Affine {
    /// The values of frames that follow one another, whose words are loaded and over which the program has run; whether all
    /// are finite.
    pub(crate) fn fill(&self, room: &Room, frames: &[u8], length: usize, values: &mut [f64]) -> bool {
        let all = match (self.single, self.scale) {
            (false, Scale::MulAdd(m, a)) => self.fill_scaled(room, frames, length, values, |code| code * m + a),
            (false, Scale::AddMul(a, m)) => self.fill_scaled(room, frames, length, values, |code| (code + a) * m),
            (false, Scale::DivAdd(d, a)) => self.fill_scaled(room, frames, length, values, |code| code / d + a),
            // The usual one by itself: a loop that knows its scale takes three quarters of the time.
            (true, scale @ Scale::MulAdd(..)) => self.fill_scaled(room, frames, length, values, |code| scale.single(code)),
            (true, scale) => self.fill_scaled(room, frames, length, values, |code| scale.single(code)),
        };
        if self.rest.is_empty() {
            return all;
        }
        for step in &self.rest {
            // A separate loop for each operation can be vectorized.
            match *step {
                Step::Add(k) => self.each(values, |value| value + k),
                Step::Mul(k) => self.each(values, |value| value * k),
                Step::Div(k) => self.each(values, |value| value / k),
            }
        }
        self.finite || values.iter().all(|value| value.is_finite())
    }

    /// Applies an operation to all values, in the precision of the reading.
    #[inline]
    fn each(&self, values: &mut [f64], apply: impl Fn(f64) -> f64) {
        if self.single {
            values.iter_mut().for_each(|value| *value = f64::from(apply(*value) as f32));
        } else {
            values.iter_mut().for_each(|value| *value = apply(*value));
        }
    }

    #[inline]
    fn fill_scaled(&self, room: &Room, frames: &[u8], length: usize, values: &mut [f64], scale: impl Fn(f64) -> f64 + Copy) -> bool {
        match self.source {
            Source::Code { cut, loaded } => {
                if let Some((cut, words)) = cut.and_then(|cut| Some((cut, cut.place.column(&room.words)?))) {
                    values.iter_mut().zip(words).for_each(|(value, word)| *value = scale(cut.code(*word)));
                } else if let Some(Column::I32(codes)) = loaded.and_then(|slot| room.machine.column(slot)) {
                    values.iter_mut().zip(codes).for_each(|(value, code)| *value = scale(f64::from(*code)));
                } else {
                    self.fill_gathered(frames, length, values, scale);
                }
                true
            }
            Source::Number(cut) => {
                let from_words = cut.and_then(|cut| cut.reals(&room.words, values, scale));
                from_words.unwrap_or_else(|| {
                    self.gather.reals(frames, length, values, |real| scale(f64::from(real)), scale);
                    values.iter().all(|value| value.is_finite())
                })
            }
        }
    }

    #[inline(never)]
    fn fill_gathered(&self, frames: &[u8], length: usize, values: &mut [f64], scale: impl Fn(f64) -> f64 + Copy) {
        self.gather.codes_then(frames, length, values, &mut |_| (), scale);
    }

    /// Value for one frame with these words.
    #[inline(always)]
    pub(crate) fn value(&self, words: &[u64; MOST_WORDS], frame: &[u8]) -> f64 {
        let code = match self.source {
            Source::Code { cut: Some(cut), .. } => cut.code(cut.place.word(words)),
            Source::Code { cut: None, .. } => self.gather.code(frame).unwrap_or(0) as f64,
            Source::Number(Some(cut)) => cut.real(words),
            Source::Number(None) => self.gather.real(frame).unwrap_or(f64::NAN),
        };
        let scaled = match self.scale {
            _ if self.single => self.scale.single(code),
            Scale::MulAdd(m, a) => code * m + a,
            Scale::AddMul(a, m) => (code + a) * m,
            Scale::DivAdd(d, a) => code / d + a,
        };
        if self.rest.is_empty() { scaled } else { self.rest(scaled) }
    }

    fn rest(&self, scaled: f64) -> f64 {
        let rounded = |value: f64| if self.single { f64::from(value as f32) } else { value };
        self.rest.iter().fold(scaled, |value, step| rounded(step.apply(value)))
    }
}

impl Scale {
    /// A code scaled in single precision. A code of up to 32 bits is a double without rounding.
    #[inline(always)]
    pub(super) fn single(self, code: f64) -> f64 {
        let code = code as f32;
        f64::from(match self {
            Scale::MulAdd(m, a) => code * m as f32 + a as f32,
            Scale::AddMul(a, m) => (code + a as f32) * m as f32,
            Scale::DivAdd(d, a) => code / d as f32 + a as f32,
        })
    }
}

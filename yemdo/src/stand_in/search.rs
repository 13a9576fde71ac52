//! From a physical value back to a code of a frame, and from conditions to status bits.

use crate::bits::gather::scatter;
use crate::ground::number::Number;
use crate::model::frame::Code;
use crate::model::ids::{CodeId, FieldId, FrameId, ParameterId};
use crate::model::part::Sheet;
use crate::model::state::State;
use crate::model::value::{Eval, Leaves, Present};

/// A code's range is looked at in so many places before the halving begins.
const PROBES: i128 = 48;
/// So many bits are tried in all combinations.
const MOST_BITS: u32 = 12;

/// What the part has at present, with another number for one code.
pub(super) struct Trying<'a> {
    present: Present<'a>,
    code: CodeId,
    number: Number,
}

impl Leaves for Trying<'_> {
    fn part(&self) -> &Sheet {
        self.present.part
    }

    fn field(&self, field: FieldId) -> Option<i128> {
        self.present.field(field)
    }

    fn code(&self, code: CodeId) -> Option<Number> {
        if code == self.code { Some(self.number) } else { self.present.code(code) }
    }

    fn parameter(&self, parameter: ParameterId) -> Option<f64> {
        self.present.parameter(parameter)
    }
}

/// The code whose reading is the nearest to a value, with everything else as it is; `None` where no code gives a value.
pub(super) fn code_for(eval: &mut Eval, present: Present<'_>, id: CodeId, wanted: f64) -> Option<i128> {
    let part = present.part;
    let code = part.codes.get(id)?;
    let mut trying = Trying { present, code: id, number: Number::Int(0, code.ty) };
    if code.ty.is_real() {
        return real_for(eval, &mut trying, code, wanted);
    }
    let (low, high) = code.bounds();
    let mut at = |value: i128| {
        trying.number = Number::Int(value, code.ty);
        eval.value(&trying).ok().filter(|value| value.is_finite())
    };
    let mut best: Option<(f64, i128)> = None;
    let mut before: Option<(i128, f64)> = None;
    let mut pair = None;
    let step = ((high - low) / PROBES).max(1);
    let mut next = low;
    while pair.is_none() && next <= high {
        if let Some(value) = at(next) {
            let distance = (value - wanted).abs();
            if best.is_none_or(|(known, _)| distance < known) {
                best = Some((distance, next));
            }
            if let Some((from, known)) = before
                && (known - wanted) * (value - wanted) <= 0.0
            {
                pair = Some((from, known < value, next));
            }
            before = Some((next, value));
        } else {
            before = None;
        }
        next = if next < high && next + step > high { high } else { next + step };
    }
    // Halving between two codes whose readings stand on either side.
    let Some((mut below, rising, mut above)) = pair else { return best.map(|(_, code)| code) };
    while above - below > 1 {
        let middle = below + (above - below) / 2;
        let value = at(middle)?;
        if (value < wanted) == rising { below = middle } else { above = middle }
    }
    let near = |value: Option<f64>| value.map_or(f64::INFINITY, |value| (value - wanted).abs());
    Some(if near(at(below)) <= near(at(above)) { below } else { above })
}

/// The same of a code that is a real number: a few steps along the line through two points.
fn real_for(eval: &mut Eval, trying: &mut Trying<'_>, code: &Code, wanted: f64) -> Option<i128> {
    let mut at = |value: f64| {
        trying.number = Number::Real(value, code.ty);
        eval.value(trying).ok().filter(|value| value.is_finite())
    };
    let (mut one, mut two) = (wanted, wanted + 1.0);
    for _ in 0..8 {
        let (first, second) = (at(one)?, at(two)?);
        if first == wanted || first == second {
            break;
        }
        let next = one + (wanted - first) * (two - one) / (second - first);
        (two, one) = (one, next);
    }
    let width = code.layout.width();
    code.layout.form.write_real(one, width).and_then(|bits| code.layout.form.read(bits, width)).map(i128::from)
}

/// A bit, or a few, that tell of a frame's state: a code of it, or a field of a register.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Flag {
    Code(CodeId),
    Field(FieldId),
}

/// A flag and its code.
pub(super) type Flags = Vec<(Flag, i128)>;

/// A frame that is being put together.
#[derive(Clone, Debug)]
pub(super) struct Scene<'a> {
    pub(super) part: &'a Sheet,
    pub(super) frame: FrameId,
    pub(super) bytes: Vec<u8>,
    /// What else the part holds.
    pub(super) state: State,
}

impl Scene<'_> {
    pub(super) fn put(&mut self, flags: &[(Flag, i128)]) {
        for (flag, code) in flags {
            match flag {
                Flag::Code(id) => self.put_code(*id, *code),
                Flag::Field(field) => self.part.fields.get(*field).into_iter().for_each(|field| self.state.set_field(field, *code)),
            }
        }
    }

    /// Puts a code into the bytes, and into the register that it is a field of.
    pub(super) fn put_code(&mut self, id: CodeId, value: i128) {
        let Some(code) = self.part.codes.get(id) else { return };
        scatter(&mut self.bytes, &code.layout.slices, code.layout.form.write(value, code.layout.width()));
        if let Some(field) = code.field.and_then(|field| self.part.fields.get(field)) {
            self.state.set_field(field, value);
        }
    }

    /// What is there now, for formulas.
    pub(super) fn present(&mut self) -> Present<'_> {
        self.state.keep_frame(self.frame, &self.bytes);
        Present { part: self.part, state: &self.state }
    }

    fn width(&self, flag: Flag) -> u32 {
        match flag {
            Flag::Code(id) => self.part.codes.get(id).map_or(0, |code| code.layout.width()),
            Flag::Field(id) => self.part.fields.get(id).map_or(0, |field| field.width()),
        }
    }

    fn raw(&self, flag: Flag) -> u64 {
        match flag {
            Flag::Code(id) => self.part.codes.get(id).map_or(0, |code| code.gather.raw(&self.bytes)),
            Flag::Field(id) => self.part.fields.get(id).map_or(0, |field| field.layout.form.write(self.state.field(field), field.width())),
        }
    }

    fn code_of(&self, flag: Flag, raw: u64) -> i128 {
        let (form, width) = match flag {
            Flag::Code(id) => match self.part.codes.get(id) {
                Some(code) => (code.layout.form, code.layout.width()),
                None => return 0,
            },
            Flag::Field(id) => match self.part.fields.get(id) {
                Some(field) => (field.layout.form, field.width()),
                None => return 0,
            },
        };
        form.read(raw, width).map_or(0, i128::from)
    }

    /// The codes of some flags with which something holds, as near as can be to what they are now; `None` where there are none, or
    /// too many bits to try.
    pub(super) fn flags_with(&self, flags: &[Flag], holds: &dyn Fn(&Present<'_>) -> bool) -> Option<Flags> {
        let widths: Vec<u32> = flags.iter().map(|flag| self.width(*flag)).collect();
        let bits: u32 = widths.iter().sum();
        if bits > MOST_BITS {
            return None;
        }
        let now: Vec<u64> = flags.iter().map(|flag| self.raw(*flag)).collect();
        let mut flips: Vec<u64> = (0..1u64 << bits).collect();
        flips.sort_by_key(|flip| flip.count_ones());
        let mut scene = self.clone();
        for flip in flips {
            let mut left = flip;
            let mut tried = Flags::new();
            for ((flag, width), now) in flags.iter().zip(&widths).zip(&now) {
                let raw = now ^ (left & ((1u64 << width) - 1));
                left >>= width;
                tried.push((*flag, self.code_of(*flag, raw)));
            }
            scene.put(&tried);
            if holds(&scene.present()) {
                return Some(tried);
            }
        }
        None
    }
}

//! A frame that is being put together: codes, flags, and the status bits with which something holds.

use super::sample::is_set_by_client;
use crate::bits::gather::scatter;
use crate::model::ids::{CodeId, FieldId, FrameId, ReadingId};
use crate::model::part::Sheet;
use crate::model::state::State;
use crate::model::status::Status;
use crate::model::value::Present;
use crate::plan::judge::judged;

/// Maximum number of bits to try in all combinations.
const MOST_BITS: u32 = 12;

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

    /// The present code, in its form.
    pub(super) fn number_of(&self, id: CodeId) -> i128 {
        self.code_of(Flag::Code(id), self.raw(Flag::Code(id)))
    }

    /// Present state, for formulas.
    pub(super) fn present(&mut self) -> Present<'_> {
        self.state.keep_frame(self.frame, &self.bytes);
        Present { part: self.part, state: &self.state }
    }

    /// Whether the fields that a reading itself needs have their codes, as far as the client sets them.
    pub(super) fn is_valid(&self, reading: ReadingId) -> bool {
        let met = |(id, code): &(FieldId, i128)| self.state.field(&self.part.fields[*id]) == *code || !is_set_by_client(self.part, *id);
        self.part.readings[reading].valid.iter().all(met)
    }

    /// Whether the status of a reading withholds its value.
    pub(super) fn withholds(&mut self, reading: ReadingId) -> bool {
        let frame = self.frame;
        let present = self.present();
        let mut holding: Vec<(usize, Status)> = Vec::new();
        for (at, (_, condition)) in present.part.conditions(Some(frame), reading).enumerate() {
            match present.compute(&condition.formula) {
                Ok(0.0) => {}
                Ok(_) => holding.push((at, condition.status)),
                Err(_) => return true,
            }
        }
        !judged(holding.into_iter(), false).0.has_value()
    }

    /// Whether a code of a reading is beyond the end of a frame of changing length.
    pub(super) fn cuts(&mut self, reading: ReadingId) -> bool {
        let (part, frame) = (self.part, self.frame);
        let Some(counted) = &part.frames[frame].counted else { return false };
        let length = self.present().compute(counted).unwrap_or(0.0);
        let codes = part.codes.of(&part.readings[reading].codes).filter(|code| code.frame == frame);
        codes.flat_map(|code| &code.layout.slices).any(|slice| slice.byte as f64 >= length)
    }

    fn width(&self, flag: Flag) -> u32 {
        match flag {
            Flag::Code(id) => self.part.codes[id].layout.width(),
            Flag::Field(id) => self.part.fields[id].width(),
        }
    }

    fn raw(&self, flag: Flag) -> u64 {
        match flag {
            Flag::Code(id) => self.part.codes[id].gather.raw(&self.bytes),
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

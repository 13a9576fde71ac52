//! What was written against what came back.

use crate::model::ids::{FieldId, RegisterId};
use crate::model::part::Sheet;
use crate::model::registers::{Access, Field, Register};

/// A register that was read back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReadBack {
    /// What was expected to come back.
    pub expected: u64,
    /// What came.
    pub found: u64,
    /// The differences, the likeliest cause of all of them first; empty where there is none.
    pub differences: Vec<Difference>,
}

/// A difference, with its likely cause.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Difference {
    /// All ones: nobody drives the line, or the part is asleep.
    AllOnes,
    /// All zeros: the line is held down, the part has no supply, or it never took the address.
    AllZeros,
    /// The bytes came in the other order.
    BytesSwapped,
    /// Nothing was taken: it reads as before the write.
    NotTaken,
    /// These bits were written 1 and read 0.
    ForcedToZero {
        /// The bits.
        mask: u64,
        /// The field, where they are all of one.
        field: Option<FieldId>,
    },
    /// These bits were written 0 and read 1.
    ForcedToOne {
        /// The bits.
        mask: u64,
        /// The field, where they are all of one.
        field: Option<FieldId>,
    },
}

impl Difference {
    /// The likely cause, in words.
    pub fn cause(&self) -> &'static str {
        match self {
            Difference::AllOnes => "all ones: nobody answers, the part sleeps, or the data line is open",
            Difference::AllZeros => "all zeros: the part has no supply, is held in reset, or the data line is held down",
            Difference::BytesSwapped => "the bytes came in the other order: is it low byte first?",
            Difference::NotTaken => "the write had no effect: the register may be locked in this mode, or another register was written",
            Difference::ForcedToZero { .. } => "the part forces these bits to 0: a value it does not have, or bits it does not use",
            Difference::ForcedToOne { .. } => "the part forces these bits to 1: it set them itself, or they mean something else",
        }
    }
}

/// The bits of a register that read back as they were written: neither those that the part sets or clears itself, nor those that
/// nothing is known of.
pub(crate) fn counted_bits(part: &Sheet, register: &Register) -> u64 {
    if register.access == Access::WriteOnly {
        return 0;
    }
    let all = if register.fields.is_empty() { register.mask() } else { 0 };
    let held = part.fields.of(&register.fields).filter(|field| field.access == Access::ReadWrite);
    let fixed = register.reserved.iter().filter(|reserved| reserved.write.is_some());
    held.map(|field| field.mask_in(register)).chain(fixed.map(|reserved| reserved.mask)).fold(all, |counts, mask| counts | mask)
}

/// Compares what a register was written with what it reads. `before` is what it read before the write, where that is
/// known. Bits that nobody can expect anything of (write-only, cleared by reading, read-only, reserved) are left out.
///
/// ```
/// use yemdo::configure::{Difference, read_back};
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// register.LIMIT = { at = 2, width = 16, field.LIMIT_HIGH = { bits = "[15:0]" } }
/// "#).unwrap();
/// let limit = part.register("LIMIT").unwrap();
/// assert_eq!(read_back(&part, limit, None, 0x1234, 0x3412).unwrap().differences, [Difference::BytesSwapped]);
/// ```
pub fn read_back(part: &Sheet, register: RegisterId, before: Option<u64>, written: u64, found: u64) -> Option<ReadBack> {
    let model = part.registers.get(register)?;
    let counts = counted_bits(part, model);
    let acts = |field: &&Field| field.access.is_action();
    let expected = part.fields.of(&model.fields).filter(acts).fold(written, |expected, field| expected & !field.mask_in(model));
    let locks = part.fields.of(&model.fields).filter(|field| field.access == Access::SetUntilReset);
    let counts = locks.fold(counts, |counts, field| counts | (field.mask_in(model) & written));
    let differs = (expected ^ found) & counts;
    let mut differences = Vec::new();
    let (whole, mask) = (found & model.mask(), model.mask());
    let swapped = model.value_of(&{
        let mut bytes = model.wire_bytes(found);
        bytes.reverse();
        bytes
    });
    if differs != 0 {
        if whole == mask {
            differences.push(Difference::AllOnes);
        } else if whole == 0 {
            differences.push(Difference::AllZeros);
        } else if model.bytes > 1 && (swapped ^ expected) & counts == 0 {
            differences.push(Difference::BytesSwapped);
        } else if before.is_some_and(|before| (before ^ found) & counts == 0) {
            differences.push(Difference::NotTaken);
        } else {
            let field_of = |mask: u64| {
                let holds = |field: &&FieldId| part.fields.get(**field).is_some_and(|field| mask & !field.mask_in(model) == 0);
                model.fields.iter().find(holds).copied()
            };
            let parts = model.fields.iter().filter_map(|field| part.fields.get(*field)).map(|field| field.mask_in(model));
            let mut left = differs;
            for mask in parts.chain([u64::MAX]) {
                let (gone, come) = (left & mask & expected, left & mask & !expected);
                left &= !mask;
                if gone != 0 {
                    differences.push(Difference::ForcedToZero { mask: gone, field: field_of(gone) });
                }
                if come != 0 {
                    differences.push(Difference::ForcedToOne { mask: come, field: field_of(come) });
                }
            }
        }
    }
    Some(ReadBack { expected, found, differences })
}

//! Integrity checks over the bytes of a frame: CRCs of any model, and sums.

use super::layout::Slice;

/// The parameters of a CRC model, in the usual terms (Williams, "A Painless Guide to CRC Error Detection
/// Algorithms", section 15).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CrcModel {
    /// Bits of the check value, 3 to 64.
    pub width: u32,
    /// Generator polynomial without its highest term, most significant bit first.
    pub poly: u64,
    /// Start value of the register.
    pub init: u64,
    /// Each byte is fed least significant bit first.
    pub refin: bool,
    /// The register is bit-reversed before `xorout`.
    pub refout: bool,
    /// Value that the result is XORed with.
    pub xorout: u64,
}

/// A CRC model with its table made.
///
/// ```
/// use yemdo::bits::check::{Crc, CrcModel};
/// let model = CrcModel { width: 16, poly: 0x1021, init: 0xFFFF, refin: false, refout: false, xorout: 0 };
/// assert_eq!(Crc::new(model).of(b"123456789"), 0x29B1);
/// ```
#[derive(Clone, Debug)]
pub struct Crc {
    model: CrcModel,
    /// The register lives at the top of 64 bits (plain) or at the bottom (reflected).
    table: Box<[u64; 256]>,
    start: u64,
}

impl Crc {
    /// Makes the table of a model. Parameters wider than `width` are cut to it.
    pub fn new(model: CrcModel) -> Self {
        let width = model.width.clamp(1, 64);
        let mask = u64::MAX >> (64 - width);
        let reversed = |value: u64| (value & mask).reverse_bits() >> (64 - width);
        let mut table = Box::new([0u64; 256]);
        for (index, entry) in table.iter_mut().enumerate() {
            let index = index as u64;
            *entry = if model.refin {
                let poly = reversed(model.poly);
                (0..8).fold(index, |register, _| if register & 1 == 1 { (register >> 1) ^ poly } else { register >> 1 })
            } else {
                let poly = (model.poly & mask) << (64 - width);
                (0..8).fold(index << 56, |register, _| if register >> 63 == 1 { (register << 1) ^ poly } else { register << 1 })
            };
        }
        let start = if model.refin { reversed(model.init) } else { (model.init & mask) << (64 - width) };
        Self { model: CrcModel { width, ..model }, table, start }
    }

    /// The check value of some bytes.
    #[inline]
    pub fn of(&self, bytes: &[u8]) -> u64 {
        self.finish(bytes.iter().fold(self.start, |register, &byte| self.feed(register, byte)))
    }

    #[inline]
    fn feed(&self, register: u64, byte: u8) -> u64 {
        if self.model.refin {
            (register >> 8) ^ self.table[usize::from(register as u8 ^ byte)]
        } else {
            (register << 8) ^ self.table[usize::from((register >> 56) as u8 ^ byte)]
        }
    }

    #[inline]
    fn finish(&self, register: u64) -> u64 {
        let CrcModel { width, refin, refout, xorout, .. } = self.model;
        let plain = if refin { register } else { register >> (64 - width) };
        let turned = if refin == refout { plain } else { plain.reverse_bits() >> (64 - width) };
        (turned ^ xorout) & (u64::MAX >> (64 - width))
    }
}

/// What is done to a sum before it is stored.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum SumFinish {
    /// Nothing.
    #[default]
    Plain,
    /// All bits inverted (one's complement).
    Invert,
    /// Two's complement, so that everything together sums to zero.
    Negate,
}

/// How a check value comes from the covered bytes.
#[derive(Clone, Debug)]
pub enum CheckKind {
    /// A cyclic redundancy check.
    Crc(Crc),
    /// A sum of bytes, modulo 2^width.
    Sum {
        /// Bits kept, 8 or 16.
        width: u32,
        /// Start value.
        init: u64,
        /// What is done at the end.
        finish: SumFinish,
    },
}

/// A check made ready: how it is computed, over what, and where it stands.
#[derive(Clone, Debug)]
pub struct Check {
    /// How the value is computed.
    pub kind: CheckKind,
    /// The covered bytes, in the order they are fed.
    pub over: Vec<Slice>,
    /// Where the value stands, most significant slice first.
    pub place: Vec<Slice>,
    /// The covered bytes as one run, where they are one.
    run: Option<(usize, usize)>,
}

impl Check {
    /// Puts a check together. Slices of `over` narrower than a byte feed those bits, right-aligned.
    pub fn new(kind: CheckKind, over: Vec<Slice>, place: Vec<Slice>) -> Self {
        let whole = over.iter().all(|slice| slice.width() == 8);
        let first = over.first().map_or(0, |slice| slice.byte);
        let consecutive = over.iter().enumerate().all(|(index, slice)| slice.byte == first + index);
        let run = (whole && consecutive).then_some((first, over.len()));
        Self { kind, over, place, run }
    }

    /// Bits of the check value.
    pub fn width(&self) -> u32 {
        match &self.kind {
            CheckKind::Crc(crc) => crc.model.width,
            CheckKind::Sum { width, .. } => *width,
        }
    }

    /// The name of the method, such as `CRC-8`.
    pub fn method(&self) -> String {
        match &self.kind {
            CheckKind::Crc(crc) => format!("CRC-{}", crc.model.width),
            CheckKind::Sum { width, finish, .. } => match finish {
                SumFinish::Plain => format!("{width}-bit sum"),
                SumFinish::Invert => format!("inverted {width}-bit sum"),
                SumFinish::Negate => format!("negated {width}-bit sum"),
            },
        }
    }

    /// The value that the covered bytes of a frame call for.
    #[inline]
    pub fn expected(&self, frame: &[u8]) -> u64 {
        match self.run.and_then(|(at, len)| frame.get(at..at + len)) {
            Some(bytes) => self.compute(bytes),
            None => {
                let bytes: Vec<u8> = self.over.iter().map(|slice| bits_of(frame, *slice) as u8).collect();
                self.compute(&bytes)
            }
        }
    }

    #[inline]
    fn compute(&self, bytes: &[u8]) -> u64 {
        match &self.kind {
            CheckKind::Crc(crc) => crc.of(bytes),
            CheckKind::Sum { width, init, finish } => {
                let mask = u64::MAX >> (64 - width.clamp(&1, &64));
                let sum = bytes.iter().fold(*init, |sum, &byte| sum.wrapping_add(u64::from(byte)));
                mask & match finish {
                    SumFinish::Plain => sum,
                    SumFinish::Invert => !sum,
                    SumFinish::Negate => sum.wrapping_neg(),
                }
            }
        }
    }

    /// The value that stands in the frame.
    #[inline]
    pub fn found(&self, frame: &[u8]) -> u64 {
        self.place.iter().fold(0, |joined, slice| (joined << slice.width()) | bits_of(frame, *slice))
    }

    /// Whether the frame passes.
    #[inline]
    pub fn passes(&self, frame: &[u8]) -> bool {
        self.expected(frame) == self.found(frame)
    }
}

#[inline]
fn bits_of(frame: &[u8], slice: Slice) -> u64 {
    let byte = frame.get(slice.byte).copied().unwrap_or(0);
    u64::from((byte >> slice.low) & (0xFF >> (7 - (slice.high - slice.low))))
}

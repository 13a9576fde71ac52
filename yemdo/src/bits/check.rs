//! Integrity checks over the bytes of a frame: CRCs of any model, and sums.

use super::gather::scatter;
use super::layout::{CheckInput, Slice};

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
/// use yemdo::layout::{Crc, CrcModel};
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

    /// Its parameters.
    pub fn model(&self) -> CrcModel {
        self.model
    }

    /// The check value of some bytes.
    #[inline]
    pub fn of(&self, bytes: &[u8]) -> u64 {
        self.finish(bytes.iter().fold(self.start, |register, &byte| self.feed(register, byte)))
    }

    /// The check value of some bytes and, behind them, fewer than eight bits, most significant first. Models
    /// that reflect their input are defined for whole bytes; left-over bits go in as they are.
    pub fn of_bits(&self, bytes: &[u8], left: &[u8]) -> u64 {
        let mut register = bytes.iter().fold(self.start, |register, &byte| self.feed(register, byte));
        let CrcModel { width, poly, refin, .. } = self.model;
        let mask = u64::MAX >> (64 - width);
        for bit in left {
            if refin {
                let feedback = (register ^ u64::from(*bit)) & 1;
                register = (register >> 1) ^ (feedback * ((poly & mask).reverse_bits() >> (64 - width)));
            } else {
                let feedback = (register >> 63) ^ u64::from(*bit & 1);
                register = (register << 1) ^ (feedback * ((poly & mask) << (64 - width)));
            }
        }
        self.finish(register)
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
#[non_exhaustive]
pub enum SumFinish {
    /// Nothing.
    #[default]
    Plain,
    /// All bits inverted (one's complement).
    Invert,
    /// Two's complement, so that everything together sums to zero.
    Negate,
}

/// CRC models by their usual names: width, poly, init, reflected, xorout.
pub const MODELS: &[(&str, CrcModel)] = &[
    ("CRC-3/GSM", model(3, 0x3, 0, false, 0x7)),
    ("CRC-4/G-704", model(4, 0x3, 0, true, 0)),
    ("CRC-5/USB", model(5, 0x05, 0x1F, true, 0x1F)),
    ("CRC-7/MMC", model(7, 0x09, 0, false, 0)),
    ("CRC-8/SMBUS", model(8, 0x07, 0, false, 0)),
    ("CRC-8/ROHC", model(8, 0x07, 0xFF, true, 0)),
    ("CRC-8/SAE-J1850", model(8, 0x1D, 0xFF, false, 0xFF)),
    ("CRC-8/AUTOSAR", model(8, 0x2F, 0xFF, false, 0xFF)),
    ("CRC-8/NRSC-5", model(8, 0x31, 0xFF, false, 0)),
    ("CRC-12/UMTS", CrcModel { width: 12, poly: 0x80F, init: 0, refin: false, refout: true, xorout: 0 }),
    ("CRC-15/CAN", model(15, 0x4599, 0, false, 0)),
    ("CRC-16/ARC", model(16, 0x8005, 0, true, 0)),
    ("CRC-16/KERMIT", model(16, 0x1021, 0, true, 0)),
    ("CRC-16/MODBUS", model(16, 0x8005, 0xFFFF, true, 0)),
    ("CRC-16/USB", model(16, 0x8005, 0xFFFF, true, 0xFFFF)),
    ("CRC-16/XMODEM", model(16, 0x1021, 0, false, 0)),
    ("CRC-16/CCITT-FALSE", model(16, 0x1021, 0xFFFF, false, 0)),
    ("CRC-24/OPENPGP", model(24, 0x86_4CFB, 0xB7_04CE, false, 0)),
    ("CRC-32/ISO-HDLC", model(32, 0x04C1_1DB7, 0xFFFF_FFFF, true, 0xFFFF_FFFF)),
    ("CRC-32/BZIP2", model(32, 0x04C1_1DB7, 0xFFFF_FFFF, false, 0xFFFF_FFFF)),
    ("CRC-32/ISCSI", model(32, 0x1EDC_6F41, 0xFFFF_FFFF, true, 0xFFFF_FFFF)),
    ("CRC-64/ECMA-182", model(64, 0x42F0_E1EB_A9EA_3693, 0, false, 0)),
    ("CRC-64/XZ", model(64, 0x42F0_E1EB_A9EA_3693, u64::MAX, true, u64::MAX)),
];

const fn model(width: u32, poly: u64, init: u64, reflected: bool, xorout: u64) -> CrcModel {
    CrcModel { width, poly, init, refin: reflected, refout: reflected, xorout }
}

/// How a check value comes from the covered bits.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum CheckKind {
    /// A cyclic redundancy check, and its name where it is a usual model.
    Crc(Crc, Option<&'static str>),
    /// A sum of bytes, kept to so many bits or taken modulo a number.
    Sum {
        /// Bits kept, 1 to 64.
        width: u32,
        /// Start value.
        init: u64,
        /// The sum is the remainder by this; 0 for none.
        modulo: u64,
        /// What is done at the end.
        finish: SumFinish,
    },
    /// All bytes XORed, with a start value.
    Xor(u8),
    /// One bit that makes the number of ones even, or with `true` odd.
    Parity(bool),
}

/// A check made ready: how it is computed, over what, and where it stands.
#[derive(Clone, Debug)]
pub struct Check {
    /// How the value is computed.
    pub kind: CheckKind,
    /// What is covered, in the order it is fed.
    pub over: Vec<CheckInput>,
    /// Where the value stands, most significant slice first.
    pub place: Vec<Slice>,
    /// The covered bytes as one run, where they are one.
    run: Option<(usize, usize)>,
    /// Address byte for `addr:w`.
    address: u8,
}

impl Check {
    /// Puts a check together; `address` is the part's 7-bit I2C address, for checks that cover it.
    pub fn new(kind: CheckKind, over: Vec<CheckInput>, place: Vec<Slice>, address: u8) -> Self {
        let byte =
            |fed: &CheckInput| if let CheckInput::Bits(slice) = fed { Some(slice.byte).filter(|_| slice.width() == 8) } else { None };
        let first = over.first().and_then(byte).unwrap_or(0);
        let consecutive = over.iter().enumerate().all(|(index, fed)| byte(fed) == Some(first + index));
        let run = consecutive.then_some((first, over.len()));
        Self { kind, over, place, run, address: address << 1 }
    }

    /// Covers another address in place of the one it was made with.
    pub(crate) fn set_address(&mut self, address: u8) {
        self.address = address << 1;
    }

    /// The address byte for writing, where it is covered.
    pub(crate) fn address_byte(&self) -> u8 {
        self.address
    }

    /// The slices that are covered.
    pub fn covered(&self) -> Vec<Slice> {
        self.over.iter().filter_map(|fed| if let CheckInput::Bits(slice) = fed { Some(*slice) } else { None }).collect()
    }

    /// What is covered and not in the frame, as it goes in: the address bytes and constants.
    pub fn outside(&self) -> Vec<String> {
        let text = |fed: &CheckInput| match *fed {
            CheckInput::Bits(_) => None,
            CheckInput::Constant(value, 8) => Some(format!("0x{value:02X}")),
            CheckInput::Constant(value, bits) => Some(format!("0b{value:0width$b}", width = bits as usize)),
            CheckInput::Address(read) => Some(format!("address byte 0x{:02X}", self.address | u8::from(read))),
        };
        self.over.iter().filter_map(text).collect()
    }

    /// Puts the right check value into a frame.
    pub(crate) fn seal(&self, frame: &mut [u8]) {
        let value = self.expected(frame);
        scatter(frame, &self.place, value);
    }

    /// Bits of the check value.
    pub fn width(&self) -> u32 {
        match &self.kind {
            CheckKind::Crc(crc, _) => crc.model.width,
            CheckKind::Sum { width, .. } => *width,
            CheckKind::Xor(_) => 8,
            CheckKind::Parity(_) => 1,
        }
    }

    /// The name of the method, such as `CRC-8`.
    pub fn method(&self) -> String {
        match &self.kind {
            CheckKind::Crc(_, Some(name)) => (*name).to_owned(),
            CheckKind::Crc(crc, None) => format!("CRC-{}", crc.model.width),
            CheckKind::Sum { width, finish, modulo, .. } => {
                let how = match finish {
                    SumFinish::Plain => "",
                    SumFinish::Invert => "inverted ",
                    SumFinish::Negate => "negated ",
                };
                let by = if *modulo == 0 { String::new() } else { format!(" modulo {modulo}") };
                format!("{how}{width}-bit sum{by}")
            }
            CheckKind::Xor(_) => "XOR".into(),
            CheckKind::Parity(odd) => if *odd { "odd parity" } else { "even parity" }.into(),
        }
    }

    /// The value that the covered bits of a frame call for.
    #[inline]
    pub fn expected(&self, frame: &[u8]) -> u64 {
        if let Some(bytes) = self.run.and_then(|(at, len)| frame.get(at..at + len)) {
            return self.compute(bytes);
        }
        let (mut bytes, mut bits) = (Vec::with_capacity(self.over.len()), Vec::new());
        for fed in &self.over {
            let (value, width) = match *fed {
                CheckInput::Bits(slice) => (bits_of(frame, slice) as u8, slice.width()),
                CheckInput::Constant(value, width) => (value, width),
                CheckInput::Address(read) => (self.address | u8::from(read), 8),
            };
            if width == 8 && bits.is_empty() {
                bytes.push(value);
            } else {
                bits.extend((0..width).rev().map(|bit| (value >> bit) & 1));
            }
        }
        // Whole bytes at the end of it are bytes again, wherever they were cut; only a CRC takes what is left.
        let left = bits.split_off(bits.len() - bits.len() % 8);
        bytes.extend(bits.chunks_exact(8).map(|bits| bits.iter().fold(0, |byte, bit| (byte << 1) | bit)));
        match &self.kind {
            CheckKind::Crc(crc, _) => crc.of_bits(&bytes, &left),
            CheckKind::Parity(odd) => {
                let ones = bytes.iter().map(|byte| byte.count_ones()).sum::<u32>() + left.iter().map(|bit| u32::from(*bit)).sum::<u32>();
                u64::from(ones % 2) ^ u64::from(*odd)
            }
            _ => {
                bytes.extend(left.into_iter().reduce(|byte, bit| (byte << 1) | bit));
                self.compute(&bytes)
            }
        }
    }

    #[inline]
    fn compute(&self, bytes: &[u8]) -> u64 {
        match &self.kind {
            CheckKind::Crc(crc, _) => crc.of(bytes),
            CheckKind::Sum { width, init, modulo, finish } => {
                let mask = u64::MAX >> (64 - (*width).clamp(1, 64));
                let sum = bytes.iter().fold(*init, |sum, &byte| sum.wrapping_add(u64::from(byte)));
                let sum = if *modulo == 0 { sum } else { sum % modulo };
                mask & match finish {
                    SumFinish::Plain => sum,
                    SumFinish::Invert => !sum,
                    SumFinish::Negate => sum.wrapping_neg(),
                }
            }
            CheckKind::Xor(init) => u64::from(bytes.iter().fold(*init, |value, byte| value ^ byte)),
            CheckKind::Parity(odd) => u64::from(bytes.iter().map(|byte| byte.count_ones()).sum::<u32>() % 2) ^ u64::from(*odd),
        }
    }

    /// The value that stands in the frame.
    #[inline]
    pub fn found(&self, frame: &[u8]) -> u64 {
        self.place.iter().fold(0, |joined, slice| (joined << slice.width()) | bits_of(frame, *slice))
    }

    /// Tells `failed` the index of every frame that does not pass, of frames that follow one another.
    pub fn failures(&self, frames: &[u8], stride: usize, failed: &mut dyn FnMut(usize)) {
        let place = if let [place] = self.place.as_slice() { Some(place.byte).filter(|_| place.width() == 8) } else { None };
        let (Some(run), Some(place)) = (self.run, place) else {
            for (index, frame) in frames.chunks_exact(stride.max(1)).enumerate() {
                if !self.passes(frame) {
                    failed(index);
                }
            }
            return;
        };
        // The usual ones, a byte behind the bytes that it covers: chosen outside the loop.
        let at = (run, place);
        match &self.kind {
            CheckKind::Sum { width: 8, init, modulo: 0, finish } => {
                let sum = |bytes: &[u8]| bytes.iter().fold(*init as u8, |sum, byte| sum.wrapping_add(*byte));
                match finish {
                    SumFinish::Plain => scan(frames, stride, at, failed, sum),
                    SumFinish::Invert => scan(frames, stride, at, failed, |bytes| !sum(bytes)),
                    SumFinish::Negate => scan(frames, stride, at, failed, |bytes| sum(bytes).wrapping_neg()),
                }
            }
            _ => scan(frames, stride, at, failed, |bytes| self.compute(bytes) as u8),
        }
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

/// Compares a byte of each frame with what a run of its bytes calls for.
#[inline]
fn scan(
    frames: &[u8],
    stride: usize,
    ((at, len), place): ((usize, usize), usize),
    failed: &mut dyn FnMut(usize),
    expected: impl Fn(&[u8]) -> u8,
) {
    for (index, frame) in frames.chunks_exact(stride.max(1)).enumerate() {
        let (Some(bytes), Some(found)) = (frame.get(at..at + len), frame.get(place)) else { continue };
        if expected(bytes) != *found {
            failed(index);
        }
    }
}

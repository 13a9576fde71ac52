//! Checks over many frames, by tables.
//!
//! CRCs, XORs and parities are linear over single bits: what a frame's value misses the called-for value by (its
//! syndrome) is the XOR of one number for each byte, whatever the model, whatever is covered and in which order. So
//! a table for each byte of the frame gives it in one lookup a byte, none of which waits for another.

use super::check::{Check, CheckKind};
use super::word::Word;

/// Tables may be so large together: half of the nearest cache.
const MOST_BYTES: usize = 16 * 1024;

/// A check, made ready for many frames of one length.
#[derive(Clone, Debug)]
pub(crate) struct Syndrome {
    check: Check,
    tables: Tables,
}

/// For every byte that counts: its place, and the syndrome of each of its values. The syndrome of a frame of zeros
/// is part of the first of them.
#[derive(Clone, Debug)]
enum Tables {
    Short(Vec<(usize, [u8; 256])>),
    Long(Vec<(usize, [u32; 256])>),
    None,
}

impl Syndrome {
    /// Makes the tables of a check over frames of `length` bytes, where it can have some.
    pub(crate) fn new(check: &Check, length: usize) -> Self {
        let linear = matches!(check.kind, CheckKind::Crc(..) | CheckKind::Xor(_) | CheckKind::Parity(_));
        let wide = check.width() > 8;
        if !linear || check.width() > 32 || length * 256 * if wide { 4 } else { 1 } > MOST_BYTES {
            return Self { check: check.clone(), tables: Tables::None };
        }
        let mut frame = vec![0u8; length];
        let zeros = check.expected(&frame) ^ check.found(&frame);
        let mut all: Vec<(usize, [u32; 256])> = Vec::new();
        for place in 0..length {
            let mut bits = [0u32; 8];
            for (bit, syndrome) in bits.iter_mut().enumerate() {
                frame.get_mut(place).into_iter().for_each(|byte| *byte = 1 << bit);
                *syndrome = (check.expected(&frame) ^ check.found(&frame) ^ zeros) as u32;
            }
            frame.get_mut(place).into_iter().for_each(|byte| *byte = 0);
            if bits != [0; 8] {
                let of = |value: usize| bits.iter().enumerate().filter(|(bit, _)| value >> bit & 1 == 1).fold(0, |sum, (_, bit)| sum ^ bit);
                all.push((place, std::array::from_fn(of)));
            }
        }
        let Some((_, first)) = all.first_mut() else { return Self { check: check.clone(), tables: Tables::None } };
        first.iter_mut().for_each(|syndrome| *syndrome ^= zeros as u32);
        let short = |(place, table): (usize, [u32; 256])| (place, table.map(|value| value as u8));
        let tables = match wide {
            true => Tables::Long(all),
            false => Tables::Short(all.into_iter().map(short).collect()),
        };
        Self { check: check.clone(), tables }
    }

    /// Whether a frame passes.
    #[inline]
    pub(crate) fn passes(&self, frame: &[u8]) -> bool {
        match &self.tables {
            Tables::Short(tables) => syndrome(tables, frame) == 0,
            Tables::Long(tables) => syndrome(tables, frame) == 0,
            Tables::None => self.check.passes(frame),
        }
    }

    /// Tells `failed` the index of every frame that does not pass, of frames that follow one another.
    pub(crate) fn failures(&self, frames: &[u8], stride: usize, failed: &mut dyn FnMut(usize)) {
        match &self.tables {
            Tables::Short(tables) => scan(frames, stride, tables, failed),
            Tables::Long(tables) => scan(frames, stride, tables, failed),
            Tables::None => self.check.failures(frames, stride, failed),
        }
    }

    /// Whether all that the check needs is in a word, so that it can go along with loading it.
    pub(crate) fn fits(&self, word: Word) -> bool {
        match &self.tables {
            Tables::Short(tables) => before(word, tables).is_some(),
            Tables::Long(tables) => before(word, tables).is_some(),
            Tables::None => false,
        }
    }

    /// As [`failures`](Self::failures), of frames whose words are loaded on the way, where the check [`fits`](Self::fits).
    pub(crate) fn load(&self, word: Word, frames: &[u8], stride: usize, words: &mut [u64], failed: &mut dyn FnMut(usize)) {
        match &self.tables {
            Tables::Short(tables) => load(word, (frames, stride), words, tables, failed),
            Tables::Long(tables) => load(word, (frames, stride), words, tables, failed),
            Tables::None => {}
        }
    }
}

/// How many bytes of a word stand before those of some tables, where these follow one another and are all in it.
fn before<T>(word: Word, tables: &[(usize, [T; 256])]) -> Option<usize> {
    let ((first, _), (last, _)) = (tables.first()?, tables.last()?);
    word.before(*first, tables.len()).filter(|_| (3..=8).contains(&tables.len()) && last - first + 1 == tables.len())
}

/// What can be XORed.
trait Bits: Copy + PartialEq + Default + std::ops::BitXor<Output = Self> {}
impl Bits for u8 {}
impl Bits for u32 {}

/// The syndrome of one frame. The usual lengths are fixed beforehand, so that all lookups go at once.
#[inline]
fn syndrome<T: Bits>(tables: &[(usize, [T; 256])], frame: &[u8]) -> T {
    match tables.len() {
        3 => of_run::<T, 3>(tables, frame),
        4 => of_run::<T, 4>(tables, frame),
        5 => of_run::<T, 5>(tables, frame),
        6 => of_run::<T, 6>(tables, frame),
        7 => of_run::<T, 7>(tables, frame),
        8 => of_run::<T, 8>(tables, frame),
        _ => of_any(tables, frame),
    }
}

#[inline]
fn of_any<T: Bits>(tables: &[(usize, [T; 256])], frame: &[u8]) -> T {
    let byte = |place: usize| usize::from(frame.get(place).copied().unwrap_or(0));
    tables.iter().fold(T::default(), |sum, (place, table)| sum ^ table[byte(*place)])
}

/// Of bytes that follow one another, which needs one look at the bounds.
#[inline]
fn of_run<T: Bits, const N: usize>(tables: &[(usize, [T; 256])], frame: &[u8]) -> T {
    let first = tables.first().map_or(0, |(place, _)| *place);
    let run = tables.last().is_some_and(|(place, _)| *place == first + N - 1);
    match (tables.first_chunk::<N>(), frame.get(first..).and_then(|frame| frame.first_chunk::<N>())) {
        (Some(tables), Some(bytes)) if run => {
            tables.iter().zip(bytes).fold(T::default(), |sum, ((_, table), byte)| sum ^ table[usize::from(*byte)])
        }
        _ => of_any(tables, frame),
    }
}

fn scan<T: Bits>(frames: &[u8], stride: usize, tables: &[(usize, [T; 256])], failed: &mut dyn FnMut(usize)) {
    for (index, frame) in frames.chunks_exact(stride.max(1)).enumerate() {
        if syndrome(tables, frame) != T::default() {
            failed(index);
        }
    }
}

/// The usual lengths are fixed outside the loop, so that all lookups go at once.
fn load<T: Bits>(word: Word, frames: (&[u8], usize), words: &mut [u64], tables: &[(usize, [T; 256])], failed: &mut dyn FnMut(usize)) {
    match tables.len() {
        3 => load_run::<T, 3>(word, frames, words, tables, failed),
        4 => load_run::<T, 4>(word, frames, words, tables, failed),
        5 => load_run::<T, 5>(word, frames, words, tables, failed),
        6 => load_run::<T, 6>(word, frames, words, tables, failed),
        7 => load_run::<T, 7>(word, frames, words, tables, failed),
        _ => load_run::<T, 8>(word, frames, words, tables, failed),
    }
}

#[inline(never)]
fn load_run<T: Bits, const N: usize>(
    word: Word,
    (frames, stride): (&[u8], usize),
    words: &mut [u64],
    tables: &[(usize, [T; 256])],
    failed: &mut dyn FnMut(usize),
) {
    let (Some(before), Some(tables)) = (before(word, tables), tables.first_chunk::<N>()) else { return };
    word.load(frames, stride, words, |lane, word| {
        let bytes = (word << (8 * before)).to_be_bytes();
        let syndrome = tables.iter().zip(bytes).fold(T::default(), |sum, ((_, table), byte)| sum ^ table[usize::from(byte)]);
        if syndrome != T::default() {
            failed(lane);
        }
    });
}

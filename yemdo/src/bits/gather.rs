//! Joining the bits of a code, for one frame and for many frames at once; and putting them back ([`scatter`]).
//!
//! Slices that follow one another in memory, in either byte order, are merged into windows of up to eight
//! bytes, so that the usual codes are one load, one shift and one mask.

use super::form::Form;
use super::layout::{Layout, Slice};
use super::word::{Cut, FloatCut, NumberCut, Run, Words};

/// Number of codes of many frames extracted at a time.
pub(crate) const BLOCK: usize = 64;

/// Up to eight neighbouring bytes, read in one go.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Window {
    /// First byte in the frame.
    at: usize,
    /// Number of bytes, 1 to 8.
    len: usize,
    /// The byte of the lowest index is the least significant.
    low_first: bool,
    /// Bits to drop on the right.
    shift: u32,
    /// Bits to keep.
    width: u32,
}

/// A layout made ready for work.
#[derive(Clone, Debug)]
pub(crate) struct Gather {
    windows: Vec<Window>,
    width: u32,
    form: Form,
}

impl Gather {
    /// The form of its bits.
    pub(crate) fn form(&self) -> Form {
        self.form
    }

    /// Its bits, the most significant first, each as its place among the bits of the bytes: 0 is the highest of the first byte.
    pub(crate) fn places(&self) -> Vec<usize> {
        let place = |window: &Window, bit: u32| {
            let byte = (bit / 8) as usize;
            let byte = if window.low_first { window.at + byte } else { window.at + window.len - 1 - byte };
            byte * 8 + 7 - (bit % 8) as usize
        };
        self.windows.iter().flat_map(|window| (0..window.width).rev().map(move |bit| place(window, window.shift + bit))).collect()
    }

    /// Prepares a layout.
    pub(crate) fn new(layout: &Layout) -> Self {
        let mut windows: Vec<Window> = Vec::new();
        for slice in &layout.slices {
            let next = Window { at: slice.byte, len: 1, low_first: false, shift: u32::from(slice.low), width: slice.width() };
            match windows.last_mut().and_then(|last| Some((merge(*last, *slice)?, last))) {
                Some((merged, last)) => *last = merged,
                None => windows.push(next),
            }
        }
        Self { windows, width: layout.width(), form: layout.form }
    }

    /// The slices that it is made of, most significant first.
    pub(crate) fn slices(&self) -> Vec<Slice> {
        self.windows.iter().flat_map(Window::slices).collect()
    }

    /// The last byte that it reads.
    pub(crate) fn last_byte(&self) -> Option<usize> {
        self.windows.iter().map(|window| window.at + window.len - 1).max()
    }

    /// Whether every bit pattern is a code of up to 32 bits, signed or not.
    pub(crate) fn is_plain(&self) -> bool {
        matches!(self.form, Form::Unsigned | Form::Signed) && self.width <= 32
    }

    /// Whether every code fits a signed number of 32 bits.
    pub(crate) fn is_narrow(&self) -> bool {
        matches!(self.form, Form::Unsigned if self.width < 32) || matches!(self.form, Form::Signed if self.width <= 32)
    }

    /// The joined bits, right-aligned. Bytes that are not there count as zero.
    #[inline]
    pub(crate) fn raw(&self, frame: &[u8]) -> u64 {
        self.windows.iter().fold(0, |joined, window| push(joined, window.width, window.read(frame)))
    }

    /// The code: the joined bits read in the layout's form, as [`Form::read`] gives it.
    #[inline]
    pub(crate) fn code(&self, frame: &[u8]) -> Option<i64> {
        self.form.read(self.raw(frame), self.width)
    }

    /// The code as a real number, for forms that make one.
    pub(crate) fn real(&self, frame: &[u8]) -> Option<f64> {
        self.form.read_real(self.raw(frame), self.width)
    }

    /// The real numbers of many frames that follow one another, `stride` bytes each; what stands for none is no number.
    /// Floats of whole bytes, in one run or in two words, are joined without a look at the bits in between.
    #[inline]
    pub(crate) fn reals<T>(&self, frames: &[u8], stride: usize, out: &mut [T], float: impl Fn(f32) -> T, double: impl Fn(f64) -> T) {
        if matches!(self.form, Form::Fixed(..) | Form::UnsignedFixed(..)) {
            return self.fixed(frames, stride, out, double);
        }
        let lanes = frames.chunks_exact(stride.max(1)).zip(out);
        match (self.form, self.width, self.windows.as_slice()) {
            (Form::Float, 32, [w]) if w.len == 4 => {
                lanes.for_each(|(frame, out)| *out = float(f32::from_bits(w.whole(frame, u32::from_be_bytes, u32::from_le_bytes))));
            }
            (Form::Float, 64, [w]) if w.len == 8 => {
                lanes.for_each(|(frame, out)| *out = double(f64::from_bits(w.whole(frame, u64::from_be_bytes, u64::from_le_bytes))));
            }
            (Form::Float, 32, [high, low]) if (high.len, low.len) == (2, 2) => {
                let word = |w: &Window, frame: &[u8]| u32::from(w.whole(frame, u16::from_be_bytes, u16::from_le_bytes));
                lanes.for_each(|(frame, out)| *out = float(f32::from_bits(word(high, frame) << 16 | word(low, frame))));
            }
            _ => lanes.for_each(|(frame, out)| *out = double(self.real(frame).unwrap_or(f64::NAN))),
        }
    }

    /// The fixed-point numbers of many frames: integers, and the value of their last bit.
    #[inline]
    fn fixed<T>(&self, frames: &[u8], stride: usize, out: &mut [T], double: impl Fn(f64) -> T) {
        let (form, fraction) = match self.form {
            Form::Fixed(_, fraction) => (Form::Signed, fraction),
            Form::UnsignedFixed(_, fraction) => (Form::Unsigned, fraction),
            _ => return,
        };
        let integers = Self { form, ..self.clone() };
        let step = 1.0 / (1u64 << fraction) as f64;
        let mut room = [0.0; BLOCK];
        for (frames, out) in frames.chunks(stride.max(1) * BLOCK).zip(out.chunks_mut(BLOCK)) {
            let count = (frames.len() / stride.max(1)).min(out.len());
            let room = room.get_mut(..count).unwrap_or_default();
            integers.codes_then(frames, stride, room, &mut |_| (), |code| code);
            room.iter().zip(out).for_each(|(code, out)| *out = double(code * step));
        }
    }

    /// The codes of many frames that follow one another, `stride` bytes each: one for each place in `out`.
    /// Codes are cut to the width of `out`'s numbers. Places without a whole frame keep what they hold. Codes
    /// that are none (a decimal digit above 9) are zero, and `bad` is told their index.
    pub(crate) fn codes<T: FromCode>(&self, frames: &[u8], stride: usize, out: &mut [T], bad: &mut dyn FnMut(usize)) {
        self.codes_then(frames, stride, out, bad, |code| code);
    }

    /// As [`codes`](Self::codes), with something done to each code on its way into its place.
    #[inline]
    pub(crate) fn codes_then<T: FromCode>(
        &self,
        frames: &[u8],
        stride: usize,
        out: &mut [T],
        bad: &mut dyn FnMut(usize),
        then: impl Fn(T) -> T + Copy,
    ) {
        let (Some(run), [w]) = (self.run(), self.windows.as_slice()) else { return self.run_any(frames, stride, out, bad, then) };
        match stride {
            2 if (run.at, run.len) == (0, 2) => return self.alone::<T, 2>(w, frames, out, then),
            3 if (run.at, run.len) == (0, 3) => return self.alone::<T, 3>(w, frames, out, then),
            4 if (run.at, run.len) == (0, 4) => return self.alone::<T, 4>(w, frames, out, then),
            _ => {}
        }
        let mut words = Words::new(stride);
        let (Some(cut), Some(word)) = (words.cut(run), words.iter().next()) else { return self.run_any(frames, stride, out, bad, then) };
        let mut room = [0; BLOCK];
        for (frames, out) in frames.chunks(stride * BLOCK).zip(out.chunks_mut(BLOCK)) {
            let count = (frames.len() / stride).min(out.len());
            let room = room.get_mut(..count).unwrap_or_default();
            word.load(frames, stride, room, |_, _| ());
            out.iter_mut().zip(room).for_each(|(out, word)| *out = then(T::wide(cut.code(*word))));
        }
    }

    /// How to cut a real number out of a frame's words; `None` for other codes, for short floats and for many pieces.
    pub(crate) fn number(&self, words: &mut Words) -> Option<NumberCut> {
        match (self.form, self.width, self.windows.as_slice()) {
            (Form::Float, 32 | 64, [_] | [_, _]) => {
                let pieces: Option<Vec<Cut>> = self.windows.iter().map(|window| words.cut(window.run(false))).collect();
                FloatCut::new(&pieces?, self.width).map(NumberCut::Float)
            }
            (Form::Fixed(_, fraction) | Form::UnsignedFixed(_, fraction), _, [window]) => {
                let cut = words.cut(window.run(matches!(self.form, Form::Fixed(..))))?.to_real()?;
                Some(NumberCut::Fixed(cut, 1.0 / (1u64 << fraction) as f64))
            }
            _ => None,
        }
    }

    /// The neighbouring bytes of a code in two's complement or none, where they are neighbours.
    pub(crate) fn run(&self) -> Option<Run> {
        let ([w], Form::Unsigned | Form::Signed) = (self.windows.as_slice(), self.form) else { return None };
        Some(w.run(self.form == Form::Signed))
    }

    /// Codes that are the whole frame stand side by side, which a compiler makes the most of.
    #[inline]
    fn alone<T: FromCode, const N: usize>(&self, w: &Window, frames: &[u8], out: &mut [T], then: impl Fn(T) -> T) {
        let codes = frames.as_chunks::<N>().0.iter().zip(out);
        let (low, drop) = (w.low_first, 32 - w.width);
        let full = w.width as usize == 8 * N;
        let cut = |raw: u32| (raw >> w.shift) << drop;
        match (self.form, low) {
            (Form::Signed, false) if full => codes.for_each(|(bytes, out)| *out = then(T::narrow(whole::<N, false>(bytes)))),
            (Form::Signed, true) if full => codes.for_each(|(bytes, out)| *out = then(T::narrow(whole::<N, true>(bytes)))),
            (Form::Signed, _) => codes.for_each(|(bytes, out)| {
                let raw = if low { whole_unsigned::<N, true>(bytes) } else { whole_unsigned::<N, false>(bytes) };
                *out = then(T::narrow((cut(raw) as i32) >> drop));
            }),
            (_, false) if full && N < 4 => {
                codes.for_each(|(bytes, out)| *out = then(T::narrow(whole_unsigned::<N, false>(bytes) as i32)));
            }
            (_, false) => codes.for_each(|(bytes, out)| *out = then(T::narrow_unsigned(cut(whole_unsigned::<N, false>(bytes)) >> drop))),
            (_, true) => codes.for_each(|(bytes, out)| *out = then(T::narrow_unsigned(cut(whole_unsigned::<N, true>(bytes)) >> drop))),
        }
    }

    fn run_any<T: FromCode>(&self, frames: &[u8], stride: usize, out: &mut [T], bad: &mut dyn FnMut(usize), then: impl Fn(T) -> T) {
        for (index, (frame, out)) in frames.chunks_exact(stride.max(1)).zip(out).enumerate() {
            *out = then(T::wide(self.code(frame).unwrap_or_else(|| {
                bad(index);
                0
            })));
        }
    }
}

/// A number that codes can be put into.
pub(crate) trait FromCode: Copy {
    /// From a code of up to 32 bits.
    fn narrow(code: i32) -> Self;
    /// From an unsigned code of up to 32 bits.
    fn narrow_unsigned(code: u32) -> Self;
    /// From a code of up to 64 bits.
    fn wide(code: i64) -> Self;
}

impl FromCode for i32 {
    fn narrow(code: i32) -> Self {
        code
    }
    fn narrow_unsigned(code: u32) -> Self {
        code as i32
    }
    fn wide(code: i64) -> Self {
        code as i32
    }
}

impl FromCode for f64 {
    fn narrow(code: i32) -> Self {
        f64::from(code)
    }
    fn narrow_unsigned(code: u32) -> Self {
        f64::from(code)
    }
    fn wide(code: i64) -> Self {
        code as f64
    }
}

impl FromCode for i64 {
    fn narrow(code: i32) -> Self {
        i64::from(code)
    }
    fn narrow_unsigned(code: u32) -> Self {
        i64::from(code)
    }
    fn wide(code: i64) -> Self {
        code
    }
}

/// Bytes that are a whole code, in the words that a compiler turns into wide loads.
#[inline]
fn whole_unsigned<const N: usize, const LOW: bool>(bytes: &[u8; N]) -> u32 {
    match bytes.as_slice() {
        &[byte] => u32::from(byte),
        &[a, b] => u32::from(if LOW { u16::from_le_bytes([a, b]) } else { u16::from_be_bytes([a, b]) }),
        &[a, b, c, d] if LOW => u32::from_le_bytes([a, b, c, d]),
        &[a, b, c, d] => u32::from_be_bytes([a, b, c, d]),
        bytes if LOW => bytes.iter().rev().fold(0, |joined, byte| (joined << 8) | u32::from(*byte)),
        bytes => bytes.iter().fold(0, |joined, byte| (joined << 8) | u32::from(*byte)),
    }
}

/// The same in two's complement.
#[inline]
fn whole<const N: usize, const LOW: bool>(bytes: &[u8; N]) -> i32 {
    match bytes.as_slice() {
        &[a, b] => i32::from(if LOW { i16::from_le_bytes([a, b]) } else { i16::from_be_bytes([a, b]) }),
        _ => ((whole_unsigned::<N, LOW>(bytes) << (32 - 8 * N)) as i32) >> (32 - 8 * N),
    }
}

#[inline]
fn push(joined: u64, width: u32, bits: u64) -> u64 {
    if width >= 64 { bits } else { (joined << width) | bits }
}

impl Window {
    fn run(&self, signed: bool) -> Run {
        Run { at: self.at, len: self.len, low_first: self.low_first, shift: self.shift, width: self.width, signed }
    }

    fn slices(&self) -> Vec<Slice> {
        let mut slices: Vec<Slice> = Vec::new();
        for place in (self.shift..self.shift + self.width).rev() {
            let (from_low, bit) = ((place / 8) as usize, (place % 8) as u8);
            let byte = if self.low_first { self.at + from_low } else { self.at + self.len - 1 - from_low };
            match slices.last_mut() {
                Some(last) if last.byte == byte => last.low = bit,
                _ => slices.push(Slice { byte, high: bit, low: bit }),
            }
        }
        slices
    }

    #[inline]
    fn read(&self, frame: &[u8]) -> u64 {
        self.cut(self.load(frame))
    }

    #[inline]
    fn cut(&self, loaded: u64) -> u64 {
        (loaded >> self.shift) & (u64::MAX >> (64 - self.width))
    }

    /// Its bytes as a word of as many.
    #[inline]
    fn whole<const N: usize, W>(&self, frame: &[u8], high_first: impl Fn([u8; N]) -> W, low_first: impl Fn([u8; N]) -> W) -> W {
        let bytes = frame.get(self.at..self.at + N).and_then(|bytes| bytes.try_into().ok()).unwrap_or([0; N]);
        if self.low_first { low_first(bytes) } else { high_first(bytes) }
    }

    #[inline]
    fn load(&self, frame: &[u8]) -> u64 {
        match self.len {
            2 => return u64::from(self.whole(frame, u16::from_be_bytes, u16::from_le_bytes)),
            4 => return u64::from(self.whole(frame, u32::from_be_bytes, u32::from_le_bytes)),
            8 => return self.whole(frame, u64::from_be_bytes, u64::from_le_bytes),
            _ => {}
        }
        let bytes = frame.get(self.at..self.at + self.len).unwrap_or(&[]);
        let join = |joined, byte: &u8| (joined << 8) | u64::from(*byte);
        if self.low_first { bytes.iter().rev().fold(0, join) } else { bytes.iter().fold(0, join) }
    }
}

/// The window with one more slice behind its least significant end, if that is still one run of bits.
fn merge(window: Window, slice: Slice) -> Option<Window> {
    let full = slice.high == 7 && window.shift == 0 && window.len < 8;
    let width = window.width + slice.width();
    let shift = u32::from(slice.low);
    let high_first = full && !window.low_first && slice.byte == window.at + window.len;
    if high_first {
        return Some(Window { len: window.len + 1, shift, width, ..window });
    }
    // Low byte first: the new slice is the byte below; only whole bytes keep one run.
    let low_first = full && (window.low_first || window.len == 1) && slice.byte + 1 == window.at && slice.low == 0;
    low_first.then_some(Window { at: slice.byte, len: window.len + 1, low_first: true, shift, width })
}

/// Puts bits where slices say, most significant first.
pub(crate) fn scatter(bytes: &mut [u8], slices: &[Slice], raw: u64) {
    let mut left: u32 = slices.iter().map(|slice| slice.width()).sum();
    for slice in slices {
        left -= slice.width();
        let mask = (0xFFu8 >> (7 - (slice.high - slice.low))) << slice.low;
        let bits = raw.checked_shr(left).unwrap_or(0) as u8;
        if let Some(byte) = bytes.get_mut(slice.byte) {
            *byte = (*byte & !mask) | ((bits << slice.low) & mask);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::layout::{Sources, parse_layout};
    use super::*;
    use crate::ground::text::Text;

    #[test]
    fn neighbours_become_one_window_in_either_order() {
        for (layout, windows) in
            [("b0 b1", 1), ("b1 b0", 1), ("b2[1:0] b3 b4[7:5]", 1), ("b3 b2 b1[3:0]", 2), ("b0[3:0] b1[3:0]", 2), ("b0..b7", 1)]
        {
            let gather = Gather::new(&parse_layout(&Text::bare(layout), &Sources::bytes(8)).unwrap().layout);
            assert_eq!(gather.windows.len(), windows, "{layout}: {:?}", gather.windows);
        }
    }
}

//! Joining the bits of a code, for one frame and for many frames at once.
//!
//! Slices that follow one another in memory, in either byte order, are merged into windows of up to eight
//! bytes, so that the usual codes are one load, one shift and one mask.

use super::form::Form;
use super::layout::{Layout, Slice};

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
pub struct Gather {
    windows: Vec<Window>,
    width: u32,
    form: Form,
}

impl Gather {
    /// Prepares a layout.
    pub fn new(layout: &Layout) -> Self {
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

    /// Whether every bit pattern is a code of up to 32 bits, signed or not.
    pub(crate) fn is_plain(&self) -> bool {
        matches!(self.form, Form::Unsigned | Form::Signed) && self.width <= 32
    }

    /// The joined bits, right-aligned. Bytes that are not there count as zero.
    #[inline]
    pub fn raw(&self, frame: &[u8]) -> u64 {
        self.windows.iter().fold(0, |joined, window| push(joined, window.width, window.read(frame)))
    }

    /// The code: the joined bits read in the layout's form, as [`Form::read`] gives it.
    #[inline]
    pub fn code(&self, frame: &[u8]) -> Option<i64> {
        self.form.read(self.raw(frame), self.width)
    }

    /// The code as a real number, for forms that make one.
    pub fn real(&self, frame: &[u8]) -> Option<f64> {
        self.form.read_real(self.raw(frame), self.width)
    }

    /// The codes of many frames that follow one another, `stride` bytes each: one for each place in `out`.
    /// Codes are cut to the width of `out`'s numbers. Places without a whole frame keep what they hold. Codes
    /// that are none (a decimal digit above 9) are zero, and `bad` is told their index.
    pub fn codes<T: FromCode>(&self, frames: &[u8], stride: usize, out: &mut [T], bad: &mut dyn FnMut(usize)) {
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
        let [w] = self.windows.as_slice() else { return self.run_any(frames, stride, out, bad, then) };
        if !matches!(self.form, Form::Unsigned | Form::Signed) {
            return self.run_any(frames, stride, out, bad, then);
        }
        // One window is the usual case: the size of the load is fixed outside the loop.
        let alone = w.at == 0 && w.len == stride;
        match (w.len, stride) {
            (1, ..4) => self.strided::<T, 1, false>(w, frames, stride, out, then),
            (2, 2) if alone => self.alone::<T, 2>(w, frames, out, then),
            (3, 3) if alone => self.alone::<T, 3>(w, frames, out, then),
            (4, 4) if alone => self.alone::<T, 4>(w, frames, out, then),
            (1..=4, 4..) if w.low_first => self.strided::<T, 4, true>(w, frames, stride, out, then),
            (1..=4, 4..) => self.strided::<T, 4, false>(w, frames, stride, out, then),
            (2, 2..) if w.low_first => self.strided::<T, 2, true>(w, frames, stride, out, then),
            (2, 2..) => self.strided::<T, 2, false>(w, frames, stride, out, then),
            _ => self.run_any(frames, stride, out, bad, then),
        }
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

    /// Codes within frames: first the bytes around them are loaded, `W` at once and never beyond the frame, then
    /// the codes are cut out side by side.
    #[inline]
    fn strided<T: FromCode, const W: usize, const LOW: bool>(
        &self,
        w: &Window,
        frames: &[u8],
        stride: usize,
        out: &mut [T],
        then: impl Fn(T) -> T,
    ) {
        let from = w.at.min(stride.saturating_sub(W));
        let behind = 8 * if LOW { w.at - from } else { from + W - w.at - w.len };
        let (right, left) = (32 - w.width, 32 - w.width - w.shift - behind as u32);
        let mut raw = [0u32; 256];
        for (frames, out) in frames.chunks(stride * raw.len()).zip(out.chunks_mut(raw.len())) {
            for (frame, raw) in frames.chunks_exact(stride).zip(&mut raw) {
                let bytes = frame.get(from..).and_then(|frame| frame.first_chunk::<W>());
                *raw = bytes.map_or(0, whole_unsigned::<W, LOW>);
            }
            let codes = raw.iter().zip(out).take(frames.len() / stride);
            if self.form == Form::Signed {
                codes.for_each(|(raw, out)| *out = then(T::narrow(((raw << left) as i32) >> right)));
            } else if w.width < 32 {
                codes.for_each(|(raw, out)| *out = then(T::narrow(((raw << left) >> right) as i32)));
            } else {
                codes.for_each(|(raw, out)| *out = then(T::narrow_unsigned(*raw)));
            }
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

/// A plain code of one window, made ready for frames of one length: one load, two shifts.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Cut {
    /// First byte that is loaded.
    from: usize,
    /// Bytes that are loaded: 1, 2, 4 or 8 (3 where there are no more), never beyond the frame.
    bytes: usize,
    low_first: bool,
    /// Shifts within 64 bits, which leave the code's bits alone.
    left: u32,
    right: u32,
    signed: bool,
}

impl Gather {
    /// The quick way to this code in frames of `length` bytes, where there is one.
    pub(crate) fn cut(&self, length: usize) -> Option<Cut> {
        let [w] = self.windows.as_slice() else { return None };
        let bytes = [1, 2, 4, 8, 3].into_iter().find(|bytes| *bytes >= w.len && *bytes <= length)?;
        if !matches!(self.form, Form::Unsigned | Form::Signed) || w.at + w.len > length {
            return None;
        }
        let from = w.at.min(length - bytes);
        let behind = 8 * if w.low_first { w.at - from } else { from + bytes - w.at - w.len } as u32;
        let right = 64 - w.width;
        Some(Cut { from, bytes, low_first: w.low_first, left: right - w.shift - behind, right, signed: self.form == Form::Signed })
    }
}

impl Cut {
    /// The code, of a frame that has the length.
    #[inline(always)]
    pub(crate) fn code(&self, frame: &[u8]) -> i64 {
        let frame = frame.get(self.from..).unwrap_or(&[]);
        let raw = match (self.bytes, self.low_first) {
            (1, _) => frame.first().map_or(0, |byte| u64::from(*byte)),
            (2, false) => frame.first_chunk().map_or(0, |bytes| u64::from(u16::from_be_bytes(*bytes))),
            (2, true) => frame.first_chunk().map_or(0, |bytes| u64::from(u16::from_le_bytes(*bytes))),
            (3, false) => frame.first_chunk().map_or(0, |[a, b, c]| u64::from(u32::from_be_bytes([0, *a, *b, *c]))),
            (3, true) => frame.first_chunk().map_or(0, |[a, b, c]| u64::from(u32::from_le_bytes([*a, *b, *c, 0]))),
            (4, false) => frame.first_chunk().map_or(0, |bytes| u64::from(u32::from_be_bytes(*bytes))),
            (4, true) => frame.first_chunk().map_or(0, |bytes| u64::from(u32::from_le_bytes(*bytes))),
            (_, false) => frame.first_chunk().map_or(0, |bytes| u64::from_be_bytes(*bytes)),
            (_, true) => frame.first_chunk().map_or(0, |bytes| u64::from_le_bytes(*bytes)),
        };
        let top = raw << self.left;
        if self.signed { (top as i64) >> self.right } else { (top >> self.right) as i64 }
    }
}

/// A number that codes can be put into.
pub trait FromCode: Copy {
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
    #[inline]
    fn read(&self, frame: &[u8]) -> u64 {
        self.cut(self.load(frame))
    }

    #[inline]
    fn cut(&self, loaded: u64) -> u64 {
        (loaded >> self.shift) & (u64::MAX >> (64 - self.width))
    }

    #[inline]
    fn load(&self, frame: &[u8]) -> u64 {
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

#[cfg(test)]
mod tests {
    use super::super::layout::{Sources, parse_layout};
    use super::*;
    use crate::sheet::text::Text;

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

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
        // One window is the usual case: its size is fixed outside the loop, so that it is a plain load.
        match self.windows.as_slice() {
            _ if !matches!(self.form, Form::Unsigned | Form::Signed) => self.run_any(frames, stride, out, bad),
            [w] if w.low_first => match w.len {
                2 => self.run::<T, 2, true>(w, frames, stride, out),
                3 => self.run::<T, 3, true>(w, frames, stride, out),
                4 => self.run::<T, 4, true>(w, frames, stride, out),
                _ => self.run_any(frames, stride, out, bad),
            },
            [w] => match w.len {
                1 => self.run::<T, 1, false>(w, frames, stride, out),
                2 => self.run::<T, 2, false>(w, frames, stride, out),
                3 => self.run::<T, 3, false>(w, frames, stride, out),
                4 => self.run::<T, 4, false>(w, frames, stride, out),
                _ => self.run_any(frames, stride, out, bad),
            },
            _ => self.run_any(frames, stride, out, bad),
        }
    }

    #[inline]
    fn run<T: FromCode, const N: usize, const LOW: bool>(&self, w: &Window, frames: &[u8], stride: usize, out: &mut [T]) {
        let (drop, at, shift) = (32 - w.width, w.at, w.shift);
        let raw = |bytes: [u8; N]| {
            let join = |joined: u32, byte: u8| (joined << 8) | u32::from(byte);
            let loaded = if LOW { bytes.into_iter().rev().fold(0, join) } else { bytes.into_iter().fold(0, join) };
            (loaded >> shift) << drop
        };
        if stride == N && at == 0 {
            // The code is the whole frame: codes stand side by side, which a compiler makes the most of.
            let codes = frames.as_chunks::<N>().0.iter().zip(out);
            return if self.form == Form::Signed {
                codes.for_each(|(bytes, out)| *out = T::narrow((raw(*bytes) as i32) >> drop))
            } else {
                codes.for_each(|(bytes, out)| *out = T::narrow_unsigned(raw(*bytes) >> drop))
            };
        }
        // One look at the bounds a frame: whatever lies behind the last place is none of its business.
        let mut start = at;
        let mut next = || {
            let bytes = frames.get(start..).and_then(|behind| behind.first_chunk::<N>()).copied().unwrap_or([0; N]);
            start += stride;
            bytes
        };
        let whole = frames.len() / stride.max(1);
        if self.form == Form::Signed {
            out.iter_mut().take(whole).for_each(|out| *out = T::narrow((raw(next()) as i32) >> drop));
        } else {
            out.iter_mut().take(whole).for_each(|out| *out = T::narrow_unsigned(raw(next()) >> drop));
        }
    }

    fn run_any<T: FromCode>(&self, frames: &[u8], stride: usize, out: &mut [T], bad: &mut dyn FnMut(usize)) {
        for (index, (frame, out)) in frames.chunks_exact(stride.max(1)).zip(out).enumerate() {
            *out = T::wide(self.code(frame).unwrap_or_else(|| {
                bad(index);
                0
            }));
        }
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

//! The layout notation: a number form and a list of byte slices, most significant first.
//!
//! `"signed b1 b2[7:2]"` is the whole of byte 1 followed by the upper six bits of byte 2, as two's complement.
//! Low byte first is simply `"b2 b1"`. `b1..b4` stands for `b1 b2 b3 b4`, and `b4..b1` for the reverse.

use super::form::Form;
use crate::sheet::Diagnostic;
use crate::sheet::text::{Span, Text};

/// Most slices that one layout may have; beyond it the layout is refused.
pub const MAX_SLICES: usize = 256;

/// A run of bits of one byte, `high` and `low` included (7 is the most significant bit of the byte).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Slice {
    /// Index of the byte in the frame, from 0.
    pub byte: usize,
    /// Most significant bit taken, 0 to 7.
    pub high: u8,
    /// Least significant bit taken, 0 to `high`.
    pub low: u8,
}

impl Slice {
    /// Number of bits taken.
    pub fn width(self) -> u32 {
        u32::from(self.high - self.low) + 1
    }

    /// Whether this bit of the frame is taken.
    pub fn takes(self, byte: usize, bit: u8) -> bool {
        self.byte == byte && (self.low..=self.high).contains(&bit)
    }
}

/// Where a code's bits stand, most significant slice first, and how they are to be read.
#[derive(Clone, Debug, PartialEq)]
pub struct Layout {
    /// How the joined bits become a number.
    pub form: Form,
    /// The slices, most significant first.
    pub slices: Vec<Slice>,
}

impl Layout {
    /// Bits in all.
    pub fn width(&self) -> u32 {
        self.slices.iter().map(|slice| slice.width()).sum()
    }

    /// The slices in the notation, whole bytes without brackets.
    pub fn notation(&self) -> String {
        let slices: Vec<String> = self.slices.iter().map(|slice| slice_notation(*slice)).collect();
        slices.join(" ")
    }
}

fn slice_notation(slice: Slice) -> String {
    match (slice.high, slice.low) {
        (7, 0) => format!("b{}", slice.byte),
        (high, low) if high == low => format!("b{}[{high}]", slice.byte),
        (high, low) => format!("b{}[{high}:{low}]", slice.byte),
    }
}

/// Parses a layout with an optional number form in front; `length` is the frame's bytes.
///
/// # Errors
/// A diagnostic that points inside the string: an unknown form, a malformed slice, a byte outside the frame,
/// bits outside the byte, too many bits for the form.
pub fn parse_layout(text: &Text, length: usize) -> Result<Layout, Diagnostic> {
    let mut words = words(&text.value);
    let mut form = Form::Unsigned;
    if let Some(&(start, word)) = words.first()
        && !looks_like_slice(word)
    {
        let span = text.locate(start..start + word.len());
        form = Form::named(word).ok_or_else(|| {
            Diagnostic::error("unknown-form", span, format!("`{word}` is no number form"))
                .label("expected a number form or a byte slice")
                .known(word, "number forms", Form::NAMES.iter().copied())
        })?;
        words.remove(0);
    }
    let slices = slices(text, &words, length)?;
    let layout = Layout { form, slices };
    let width = layout.width();
    form.accepts(width).map_err(|expected| {
        Diagnostic::error("bad-width", text.span, format!("a code of form `{}` has {expected}, not {width} bits", form.name()))
            .label(format!("these slices are {width} bits together"))
    })?;
    Ok(layout)
}

/// Parses slices alone, such as the coverage of a check.
///
/// # Errors
/// As [`parse_layout`], but for the form.
pub fn parse_slices(text: &Text, length: usize) -> Result<Vec<Slice>, Diagnostic> {
    slices(text, &words(&text.value), length)
}

fn words(text: &str) -> Vec<(usize, &str)> {
    let mut found = Vec::new();
    let mut start = None;
    for (at, c) in text.char_indices().chain([(text.len(), ' ')]) {
        match (c.is_whitespace(), start) {
            (false, None) => start = Some(at),
            (true, Some(from)) => {
                found.push((from, text.get(from..at).unwrap_or("")));
                start = None;
            }
            _ => {}
        }
    }
    found
}

fn looks_like_slice(word: &str) -> bool {
    let mut chars = word.chars();
    matches!(chars.next(), Some('b' | 'B')) && chars.next().is_some_and(|c| c.is_ascii_digit())
}

fn slices(text: &Text, words: &[(usize, &str)], length: usize) -> Result<Vec<Slice>, Diagnostic> {
    let mut slices = Vec::new();
    for &(start, word) in words {
        let reader = SliceReader { text, word, start, length };
        match word.split_once("..") {
            Some((first, last)) => {
                let first_byte = reader.byte(first, start)?;
                let last_byte = reader.byte(last, start + first.len() + 2)?;
                let whole = |byte| Slice { byte, high: 7, low: 0 };
                if first_byte <= last_byte {
                    slices.extend((first_byte..=last_byte).map(whole));
                } else {
                    slices.extend((last_byte..=first_byte).rev().map(whole));
                }
            }
            None => slices.push(reader.slice()?),
        }
        if slices.len() > MAX_SLICES {
            return Err(Diagnostic::error("too-many-slices", text.span, format!("a layout has at most {MAX_SLICES} slices"))
                .label("too many slices"));
        }
    }
    if slices.is_empty() {
        return Err(Diagnostic::error("empty-layout", text.span, "a layout names at least one byte")
            .label("no byte slice here")
            .help("write the slices most significant first, such as \"b1 b2[7:2]\""));
    }
    Ok(slices)
}

/// One word of a layout and what is needed to complain about it.
struct SliceReader<'a> {
    text: &'a Text,
    word: &'a str,
    start: usize,
    length: usize,
}

impl SliceReader<'_> {
    fn malformed(&self) -> Diagnostic {
        let span = self.text.locate(self.start..self.start + self.word.len());
        Diagnostic::error("bad-slice", span, format!("`{}` is no byte slice", self.word)).label("expected b0, b0[7:4], b0[3] or b0..b3")
    }

    fn byte(&self, name: &str, start: usize) -> Result<usize, Diagnostic> {
        let digits = name.strip_prefix(['b', 'B']).ok_or_else(|| self.malformed())?;
        if digits.is_empty() || !digits.bytes().all(|c| c.is_ascii_digit()) {
            return Err(self.malformed());
        }
        let span = self.text.locate(start..start + name.len());
        match digits.parse::<usize>() {
            Ok(byte) if byte < self.length => Ok(byte),
            _ => Err(Diagnostic::error("byte-outside-frame", span, format!("`{name}` is outside the frame")).label(format!(
                "the frame has {} bytes: b0 to b{}",
                self.length,
                self.length.saturating_sub(1)
            ))),
        }
    }

    fn slice(&self) -> Result<Slice, Diagnostic> {
        let Some((name, bits)) = self.word.split_once('[') else {
            return Ok(Slice { byte: self.byte(self.word, self.start)?, high: 7, low: 0 });
        };
        let byte = self.byte(name, self.start)?;
        let inside = bits.strip_suffix(']').ok_or_else(|| self.malformed())?;
        let (high, low) = inside.split_once(':').unwrap_or((inside, inside));
        let bit = |digits: &str| digits.parse::<u8>().ok().filter(|_| digits.bytes().all(|c| c.is_ascii_digit()));
        let (high, low) = bit(high).zip(bit(low)).ok_or_else(|| self.malformed())?;
        let from = self.start + name.len();
        let span: Span = self.text.locate(from..from + bits.len() + 1);
        if high > 7 {
            return Err(
                Diagnostic::error("bit-outside-byte", span, format!("a byte has the bits 7 to 0, not {high}")).label("outside the byte")
            );
        }
        if low > high {
            return Err(
                Diagnostic::error("bits-reversed", span, "the more significant bit comes first").label(format!("write [{low}:{high}]"))
            );
        }
        Ok(Slice { byte, high, low })
    }
}

//! The layout notation: a number form and a list of slices, most significant first.
//!
//! `"signed b1 b2[7:2]"` is the whole of byte 1 followed by the upper six bits of byte 2, as two's complement.
//! Low byte first is simply `"b2 b1"`. `w3` is the 16-bit word in bytes 6 and 7, high byte first; `c5` is the
//! Modbus coil 5; the name of a register that the frame holds is that register. `b1..b4` stands for
//! `b1 b2 b3 b4`. `"3 x signed b0 b1 every 4"` is an array: the same layout again, four bytes on each time.

use super::form::Form;
use crate::ground::diagnostic::Diagnostic;
use crate::ground::text::{Span, Text};
use crate::ground::words::counted;

/// Most slices that one layout may have; beyond it the layout is refused.
pub(crate) const MAX_SLICES: usize = 256;
/// Most elements of an array.
pub(crate) const MAX_ELEMENTS: usize = 1024;

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
    /// A whole byte.
    pub fn whole(byte: usize) -> Self {
        Slice { byte, high: 7, low: 0 }
    }

    /// Number of bits taken.
    pub fn width(self) -> u32 {
        u32::from(self.high - self.low) + 1
    }

    /// The bits taken, as a mask of their byte.
    pub(crate) fn mask(self) -> u8 {
        (0xFF >> (7 - (self.high - self.low))) << self.low
    }

    /// Whether this bit of the frame is taken.
    pub fn takes(self, byte: usize, bit: u8) -> bool {
        self.byte == byte && (self.low..=self.high).contains(&bit)
    }

    /// Whether the two have a bit in common.
    pub fn overlaps(self, other: Slice) -> bool {
        self.byte == other.byte && self.low <= other.high && other.low <= self.high
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
    /// A code as a datasheet prints it: of a signed layout hex and binary are the bits themselves, `0xFF0` for -16 in twelve bits.
    pub(crate) fn as_printed(&self, code: i128, typed: &str) -> i128 {
        let (low, high) = self.form.bounds(self.width());
        let as_bits = typed.trim().starts_with("0x") || typed.trim().starts_with("0b");
        match u64::try_from(code) {
            Ok(bits) if as_bits && low < 0 && code > high && code >> self.width() == 0 => {
                self.form.read(bits, self.width()).map_or(code, i128::from)
            }
            _ => code,
        }
    }

    /// Bits in all.
    pub fn width(&self) -> u32 {
        self.slices.iter().map(|slice| slice.width()).sum()
    }

    /// The slices in the notation, whole bytes without brackets, runs of them with two dots.
    pub fn notation(&self) -> String {
        let mut runs: Vec<(Slice, Slice)> = Vec::new();
        for slice in &self.slices {
            match runs.last_mut() {
                Some((first, last)) if slice.width() == 8 && first.width() == 8 && follows(*first, *last, *slice) => *last = *slice,
                _ => runs.push((*slice, *slice)),
            }
        }
        let mut words = Vec::new();
        for (first, last) in runs {
            if first.byte.abs_diff(last.byte) > 1 {
                words.push(format!("b{}..b{}", first.byte, last.byte));
            } else {
                words.push(slice_notation(first));
                if first != last {
                    words.push(slice_notation(last));
                }
            }
        }
        words.join(" ")
    }
}

/// Whether `next` goes on a run of whole bytes, in its direction.
fn follows(first: Slice, last: Slice, next: Slice) -> bool {
    let up = next.byte == last.byte + 1 && last.byte >= first.byte;
    let down = next.byte + 1 == last.byte && last.byte <= first.byte;
    up || down
}

fn slice_notation(slice: Slice) -> String {
    match (slice.high, slice.low) {
        (7, 0) => format!("b{}", slice.byte),
        (high, low) if high == low => format!("b{}[{high}]", slice.byte),
        (high, low) => format!("b{}[{high}:{low}]", slice.byte),
    }
}

/// What slices can be taken from.
pub(crate) struct Sources<'a> {
    /// Bytes of the frame.
    pub length: usize,
    /// Registers that the frame holds: name, index of the first byte, number of bytes, low byte first.
    pub registers: &'a [(String, usize, usize, bool)],
    /// The register that bits without a name belong to, as in `[7:4]`.
    pub home: &'a str,
}

#[cfg(test)]
impl Sources<'_> {
    /// A frame of so many bytes and no registers.
    pub(crate) fn bytes(length: usize) -> Self {
        Sources { length, registers: &[], home: "" }
    }
}

/// A layout as typed: one, or an array of them.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct ParsedLayout {
    /// The layout of the first element.
    pub layout: Layout,
    /// For arrays, the number of elements and the bytes from one to the next.
    pub array: Option<(usize, usize)>,
}

impl ParsedLayout {
    /// The layout of an element.
    pub(crate) fn element(&self, index: usize) -> Layout {
        let shift = self.array.map_or(0, |(_, every)| every * index);
        let slices = self.layout.slices.iter().map(|slice| Slice { byte: slice.byte + shift, ..*slice });
        Layout { form: self.layout.form, slices: slices.collect() }
    }
}

/// A piece that a check covers: bits of the frame, or something that is not in it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum CheckInput {
    /// Bits of the frame.
    Bits(Slice),
    /// Constant bits: value and width, at most 8.
    Constant(u8, u32),
    /// The byte with the part's I2C address: for writing, or with `true` for reading.
    Address(bool),
}

/// Parses a layout with an optional count and number form in front.
///
/// # Errors
/// A diagnostic that points inside the string: an unknown form, a malformed slice, a byte outside the frame,
/// bits outside the byte, too many bits for the form.
pub(crate) fn parse_layout(text: &Text, sources: &Sources<'_>) -> Result<ParsedLayout, Diagnostic> {
    let mut words = words(&text.value);
    let array = array(text, &mut words)?;
    let mut form = Form::Unsigned;
    if let Some(&(start, word)) = words.first() {
        if let Some(named) = Form::named(word) {
            form = named;
            words.remove(0);
        } else if !looks_like_slice(word, sources) {
            let span = text.locate(start..start + word.len());
            let known = Form::NAMES.iter().copied().chain(sources.registers.iter().map(|(name, ..)| name.as_str()));
            return Err(Diagnostic::error("unknown-form", span, format!("`{word}` is neither a number form nor a register of the frame"))
                .label("expected a number form or a slice")
                .known(word, "forms and registers", known));
        }
    }
    let slices = slices(text, &words, sources)?;
    let layout = Layout { form, slices };
    let width = layout.width();
    form.accepts(width).map_err(|expected| {
        Diagnostic::error("bad-width", text.span, format!("a code of form `{}` has {expected}, not {width} bits", form.name()))
            .label(format!("these slices are {width} bits together"))
    })?;
    repeated(text, layout, array, sources.length)
}

/// Parses slices alone, such as the place of a check value; the form is `unsigned` then.
///
/// # Errors
/// As [`parse_layout`], but for the form.
pub(crate) fn parse_slices(text: &Text, sources: &Sources<'_>) -> Result<ParsedLayout, Diagnostic> {
    let mut words = words(&text.value);
    let array = array(text, &mut words)?;
    let slices = slices(text, &words, sources)?;
    repeated(text, Layout { form: Form::Unsigned, slices }, array, sources.length)
}

/// Parses what a check covers: slices, constant bits (`0x58`, `0b0000`), and `addr:w` and `addr:r` for the
/// part's I2C address as it goes over the wire. Gives one list for each element of an array.
///
/// # Errors
/// As [`parse_slices`].
pub(crate) fn parse_cover(text: &Text, sources: &Sources<'_>) -> Result<Vec<Vec<CheckInput>>, Diagnostic> {
    let mut words = words(&text.value);
    let array = array(text, &mut words)?;
    let mut fed = Vec::new();
    for &(start, word) in &words {
        let literal = |radix, digits: &str| u8::from_str_radix(digits, radix).ok();
        if let Some(bits) = word.strip_prefix("0b") {
            let value = literal(2, bits).filter(|_| bits.len() <= 8);
            let value = value.ok_or_else(|| SliceReader { text, word, start, sources }.malformed())?;
            fed.push(CheckInput::Constant(value, bits.len() as u32));
        } else if let Some(value) = word.strip_prefix("0x").and_then(|digits| literal(16, digits)) {
            fed.push(CheckInput::Constant(value, 8));
        } else if let "addr:w" | "addr:r" = word {
            fed.push(CheckInput::Address(word == "addr:r"));
        } else {
            fed.extend(slices(text, &[(start, word)], sources)?.into_iter().map(CheckInput::Bits));
        }
        too_many(text, fed.len())?;
    }
    if fed.is_empty() {
        return Err(empty(text));
    }
    let bits: Vec<Slice> = fed.iter().filter_map(|f| if let CheckInput::Bits(slice) = f { Some(*slice) } else { None }).collect();
    let typed = repeated(text, Layout { form: Form::Unsigned, slices: bits }, array, sources.length)?;
    let shifted = |index: usize| {
        let every = typed.array.map_or(0, |(_, every)| every);
        fed.iter().map(move |fed| match *fed {
            CheckInput::Bits(slice) => CheckInput::Bits(Slice { byte: slice.byte + every * index, ..slice }),
            other => other,
        })
    };
    Ok((0..typed.array.map_or(1, |(count, _)| count)).map(|index| shifted(index).collect()).collect())
}

/// Takes `N x` from the front and `every M` from the end.
fn array(text: &Text, words: &mut Vec<(usize, &str)>) -> Result<Option<(usize, Option<usize>)>, Diagnostic> {
    let number = |word: &(usize, &str)| {
        let value = word.1.parse::<usize>().ok().filter(|n| (1..=MAX_ELEMENTS).contains(n));
        value.ok_or_else(|| {
            Diagnostic::error(
                "bad-array",
                text.locate(word.0..word.0 + word.1.len()),
                format!("expected a number from 1 to {MAX_ELEMENTS}"),
            )
            .label("an array is typed `64 x signed b0 b1`, or `... every 6`")
        })
    };
    if words.get(1).is_none_or(|(_, word)| *word != "x") {
        return Ok(None);
    }
    let count = words.first().map_or(Ok(1), number)?;
    words.drain(..2);
    let mut every = None;
    if let [.., (_, "every"), last] = words.as_slice() {
        every = Some(number(last)?);
        words.truncate(words.len() - 2);
    }
    Ok(Some((count, every)))
}

/// Puts an array together and sees that its last element is inside the frame.
fn repeated(text: &Text, layout: Layout, array: Option<(usize, Option<usize>)>, length: usize) -> Result<ParsedLayout, Diagnostic> {
    let Some((count, every)) = array else { return Ok(ParsedLayout { layout, array: None }) };
    let first = layout.slices.iter().map(|slice| slice.byte).min().unwrap_or(0);
    let last = layout.slices.iter().map(|slice| slice.byte).max().unwrap_or(0);
    let every = every.unwrap_or(last - first + 1);
    let end = last + every * (count - 1);
    if end >= length {
        return Err(Diagnostic::error("byte-outside-frame", text.span, format!("the last of the {count} elements reaches to b{end}"))
            .label(format!("the frame has {}: b0 to b{}", counted(length, "byte"), length.saturating_sub(1))));
    }
    Ok(ParsedLayout { layout, array: Some((count, every)) })
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

fn looks_like_slice(word: &str, sources: &Sources<'_>) -> bool {
    let name = word.split(['[', '.']).next().unwrap_or("");
    let mut chars = name.chars();
    let indexed = matches!(chars.next(), Some('b' | 'w' | 'c')) && name.len() > 1 && chars.all(|c| c.is_ascii_digit());
    indexed
        || word.contains('[')
        || word.contains("..")
        || sources.registers.iter().any(|(known, ..)| known == name)
        || name.starts_with(|c: char| c.is_ascii_digit())
}

fn too_many(text: &Text, count: usize) -> Result<(), Diagnostic> {
    if count <= MAX_SLICES {
        return Ok(());
    }
    Err(Diagnostic::error("too-many-slices", text.span, format!("a layout has at most {MAX_SLICES} slices")).label("too many slices"))
}

fn empty(text: &Text) -> Diagnostic {
    Diagnostic::error("empty-layout", text.span, "a layout names at least one byte")
        .label("no slice here")
        .help("write the slices most significant first, such as \"b1 b2[7:2]\"")
}

fn slices(text: &Text, words: &[(usize, &str)], sources: &Sources<'_>) -> Result<Vec<Slice>, Diagnostic> {
    let mut slices = Vec::new();
    for &(start, word) in words {
        SliceReader { text, word, start, sources }.word(&mut slices)?;
        too_many(text, slices.len())?;
    }
    if slices.is_empty() {
        return Err(empty(text));
    }
    Ok(slices)
}

/// One word of a layout and what is needed to complain about it.
struct SliceReader<'a> {
    text: &'a Text,
    word: &'a str,
    start: usize,
    sources: &'a Sources<'a>,
}

/// Something with numbered bits: its bytes, most significant first, and its number of bits.
struct Source {
    bytes: Vec<Slice>,
}

impl SliceReader<'_> {
    fn malformed(&self) -> Diagnostic {
        let span = self.text.locate(self.start..self.start + self.word.len());
        let problem = Diagnostic::error("bad-slice", span, format!("`{}` is not a valid slice", self.word))
            .label("expected b0, b0[7:4], b0[3] or b0..b3");
        // Bits belong to one byte: `b0..b3[7:1]` is meant as `b0..b2 b3[7:1]`.
        let bits_of_run = || {
            let (first, rest) = self.word.split_once("..b")?;
            let (last, bits) = rest.split_once('[')?;
            let before = last.parse::<usize>().ok()?.checked_sub(1)?;
            first.starts_with('b').then(|| format!("bits belong to one byte: write `{first}..b{before} b{last}[{bits}`"))
        };
        if let Some(help) = bits_of_run() {
            return problem.help(help);
        }
        let names: Vec<&str> = self.sources.registers.iter().map(|(name, ..)| name.as_str()).collect();
        if names.is_empty() { problem } else { problem.known(self.word.split('[').next().unwrap_or(""), "registers of the frame", names) }
    }

    /// The bytes behind a name such as `b3`, `w1`, `c0` or `STATUS`.
    fn source(&self, name: &str, start: usize) -> Result<Source, Diagnostic> {
        if let Some((_, at, bytes, low_first)) = self.sources.registers.iter().find(|(known, ..)| known == name) {
            let order: Vec<Slice> = (*at..at + bytes).map(Slice::whole).collect();
            return Ok(Source { bytes: if *low_first { order.into_iter().rev().collect() } else { order } });
        }
        let (kind, digits) = name.split_at_checked(1).ok_or_else(|| self.malformed())?;
        if digits.is_empty() || !digits.bytes().all(|c| c.is_ascii_digit()) || !matches!(kind, "b" | "w" | "c") {
            return Err(self.malformed());
        }
        let index = digits.parse::<usize>().unwrap_or(usize::MAX / 16);
        let bytes = match kind {
            "w" => vec![Slice::whole(index * 2), Slice::whole(index * 2 + 1)],
            // Coils are packed from the least significant bit up (Modbus application protocol, 6.1).
            "c" => vec![Slice { byte: index / 8, high: (index % 8) as u8, low: (index % 8) as u8 }],
            _ => vec![Slice::whole(index)],
        };
        if bytes.iter().any(|slice| slice.byte >= self.sources.length) {
            let span = self.text.locate(start..start + name.len());
            let length = self.sources.length;
            let last = length.saturating_sub(1);
            return Err(Diagnostic::error("byte-outside-frame", span, format!("`{name}` is outside the frame")).label(match kind {
                "w" => format!("the frame has {} words: w0 to w{}", length / 2, (length / 2).saturating_sub(1)),
                "c" => format!("the frame has {length} bytes of coils: c0 to c{}", (length * 8).saturating_sub(1)),
                _ => format!("the frame has {}: b0 to b{last}", counted(length, "byte")),
            }));
        }
        Ok(Source { bytes })
    }

    fn word(&self, out: &mut Vec<Slice>) -> Result<(), Diagnostic> {
        if let Some((first, last)) = self.word.split_once("..") {
            return self.run(first, last, out);
        }
        let Some((name, bits)) = self.word.split_once('[') else {
            out.extend(self.source(self.word, self.start)?.bytes);
            return Ok(());
        };
        let source = self.source(if name.is_empty() { self.sources.home } else { name }, self.start)?;
        let inside = bits.strip_suffix(']').ok_or_else(|| self.malformed())?;
        let (high, low) = inside.split_once(':').unwrap_or((inside, inside));
        let bit = |digits: &str| digits.parse::<u32>().ok().filter(|_| digits.bytes().all(|c| c.is_ascii_digit()));
        let (high, low) = bit(high).zip(bit(low)).ok_or_else(|| self.malformed())?;
        let from = self.start + name.len();
        let span: Span = self.text.locate(from..from + bits.len() + 1);
        let top: u32 = source.bytes.iter().map(|slice| slice.width()).sum::<u32>() - 1;
        if high > top {
            let what = if source.bytes.len() == 1 { "a byte" } else { "it" };
            return Err(Diagnostic::error("bit-outside-byte", span, format!("{what} has the bits {top} to 0, not {high}"))
                .label(format!("its bits are {top} to 0")));
        }
        if low > high {
            return Err(
                Diagnostic::error("bits-reversed", span, "the more significant bit comes first").label(format!("write [{low}:{high}]"))
            );
        }
        out.extend(cut(&source.bytes, high, low));
        Ok(())
    }

    /// `b1..b4`, `b4..b1`, `w0..w3`, `c0..c7`.
    fn run(&self, first: &str, last: &str, out: &mut Vec<Slice>) -> Result<(), Diagnostic> {
        self.source(first, self.start)?;
        self.source(last, self.start + first.len() + 2)?;
        let number = |name: &str| name.get(1..).and_then(|digits| digits.parse::<usize>().ok());
        let kind = first.get(..1).filter(|kind| last.starts_with(*kind));
        let (kind, (from, to)) = kind.zip(number(first).zip(number(last))).ok_or_else(|| self.malformed())?;
        if from.abs_diff(to) >= MAX_SLICES {
            return too_many(self.text, MAX_SLICES + 1);
        }
        let mut names: Vec<usize> = (from.min(to)..=from.max(to)).collect();
        if from > to {
            names.reverse();
        }
        for index in names {
            out.extend(self.source(&format!("{kind}{index}"), self.start)?.bytes);
        }
        Ok(())
    }
}

/// Bits `high` to `low` of whole bytes that are listed most significant first.
pub(crate) fn cut(bytes: &[Slice], high: u32, low: u32) -> Vec<Slice> {
    let mut found = Vec::new();
    let mut base: u32 = bytes.iter().map(|slice| slice.width()).sum();
    for slice in bytes {
        base -= slice.width();
        let top = base + slice.width() - 1;
        if high >= base && low <= top {
            let within = |bit: u32| (bit.clamp(base, top) - base) as u8 + slice.low;
            found.push(Slice { byte: slice.byte, high: within(high), low: within(low) });
        }
    }
    found
}

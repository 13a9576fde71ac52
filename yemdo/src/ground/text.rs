//! Places in a sheet: spans, lines and columns, and strings that know where each of their characters stands.

use std::ops::Range;
use std::sync::Arc;

/// A range of bytes in the sheet's text, end excluded.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Span {
    /// Offset of the first byte.
    pub start: usize,
    /// Offset behind the last byte.
    pub end: usize,
}

impl Span {
    /// The span from `start` up to, not including, `end`.
    pub fn new(start: usize, end: usize) -> Self {
        Self { start, end: end.max(start) }
    }

    /// The smallest span that holds both.
    pub fn to(self, other: Span) -> Span {
        Span::new(self.start.min(other.start), self.end.max(other.end))
    }
}

impl From<Range<usize>> for Span {
    fn from(range: Range<usize>) -> Self {
        Span::new(range.start, range.end)
    }
}

/// A sheet's text and the name it goes by in messages (usually its path).
#[derive(Clone, Debug)]
pub struct Source {
    name: Arc<str>,
    text: Arc<str>,
    /// Where lines end: a routine under way asks for lines again and again.
    ends: Arc<[usize]>,
}

impl Source {
    /// Text under a name.
    pub fn new(name: &str, text: &str) -> Self {
        let ends = text.bytes().enumerate().filter(|(_, byte)| *byte == b'\n').map(|(at, _)| at).collect();
        Self { name: name.into(), text: text.into(), ends }
    }

    /// The name used in messages.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The whole text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The text of a span; empty where the span does not fit the text.
    pub fn slice(&self, span: Span) -> &str {
        self.text.get(span.start..span.end).unwrap_or("")
    }

    /// Line of a byte offset, from 1.
    pub fn line(&self, offset: usize) -> usize {
        self.ends.partition_point(|end| *end < offset) + 1
    }

    /// Line and column of a byte offset, both counted from 1; columns count characters.
    pub fn line_column(&self, offset: usize) -> (usize, usize) {
        let before = self.text.get(..offset).unwrap_or(&self.text);
        let ended = self.ends.partition_point(|end| *end < before.len());
        let line_start = ended.checked_sub(1).and_then(|last| self.ends.get(last)).map_or(0, |end| end + 1);
        (ended + 1, before.get(line_start..).unwrap_or("").chars().count() + 1)
    }
}

/// A string value of the sheet, decoded, that can point back at each of its characters.
///
/// TOML strings have escapes and, in their multi-line form, a dropped first newline, so an offset in the
/// value is not an offset in the file; a list of break points says how they relate.
#[derive(Clone, Debug, Default)]
pub(crate) struct Text {
    /// The decoded value.
    pub value: String,
    /// The whole token in the file, quotes included.
    pub span: Span,
    /// `(decoded offset, file offset)`, at every place where their difference changes.
    breaks: Vec<(usize, usize)>,
}

impl Text {
    /// A text that stands in no file: offsets in it are offsets in itself.
    pub(crate) fn bare(value: &str) -> Self {
        Self { value: value.into(), span: Span::new(0, value.len()), breaks: vec![(0, 0)] }
    }

    /// A text that is typed nowhere, for the place that it is made for.
    pub(crate) fn standing_at(value: &str, span: Span) -> Self {
        Self { value: value.into(), span, breaks: Vec::new() }
    }

    /// A decoded TOML string and the span of its token in `source`.
    pub(crate) fn from_token(value: &str, span: Span, source: &str) -> Self {
        let raw = source.get(span.start..span.end).unwrap_or("");
        let breaks = string_breaks(raw, span.start, value).unwrap_or_default();
        Self { value: value.into(), span, breaks }
    }

    /// The place in the file of a range of the decoded value.
    pub(crate) fn locate(&self, range: Range<usize>) -> Span {
        if self.breaks.is_empty() {
            return self.span;
        }
        let end = if range.end > range.start { self.offset(range.end - 1) + 1 } else { self.offset(range.end) };
        // The last character may be longer than a byte, or an escape; never cut into the closing quote.
        let width = self.value.get(range.clone()).and_then(|text| text.chars().last()).map_or(0, char::len_utf8);
        let last = self.offset(range.end.saturating_sub(width.max(1)));
        Span::new(self.offset(range.start), end.max(last + width).min(self.span.end))
    }

    fn offset(&self, at: usize) -> usize {
        let index = self.breaks.partition_point(|&(decoded, _)| decoded <= at);
        let (decoded, file) = index.checked_sub(1).and_then(|i| self.breaks.get(i)).copied().unwrap_or((0, self.span.start));
        file + (at - decoded)
    }
}

/// Walks a TOML string token and notes where file offset minus decoded offset changes. `None` where the
/// token is no string token or does not decode to `value` (then whole-token spans are used).
fn string_breaks(raw: &str, start: usize, value: &str) -> Option<Vec<(usize, usize)>> {
    let quote = raw.chars().next().filter(|c| matches!(c, '"' | '\''))?;
    let triple = raw.get(..3)?.chars().all(|c| c == quote) && raw.len() >= 6;
    let open = if triple { 3 } else { 1 };
    let mut at = open;
    if triple {
        let body = raw.get(open..)?;
        at += if body.starts_with("\r\n") { 2 } else { usize::from(body.starts_with('\n')) };
    }
    let end = raw.len().checked_sub(open)?;
    let mut breaks = vec![(0, start + at)];
    let mut decoded = 0;
    while at < end {
        let rest = raw.get(at..end)?;
        let c = rest.chars().next()?;
        let (taken, made) = if c == '\\' && quote == '"' { escape(rest)? } else { (c.len_utf8(), c.len_utf8()) };
        at += taken;
        decoded += made;
        if taken != made {
            breaks.push((decoded, start + at));
        }
    }
    (decoded == value.len()).then_some(breaks)
}

/// File bytes taken and decoded bytes made by the escape at the head of `rest`.
fn escape(rest: &str) -> Option<(usize, usize)> {
    let kind = rest.chars().nth(1)?;
    let hex = |digits: usize| {
        let code = u32::from_str_radix(rest.get(2..2 + digits)?, 16).ok()?;
        Some((2 + digits, char::from_u32(code)?.len_utf8()))
    };
    match kind {
        'x' => hex(2),
        'u' => hex(4),
        'U' => hex(8),
        c if c.is_whitespace() => {
            let blank = rest.get(1..)?;
            Some((1 + blank.len() - blank.trim_start().len(), 0))
        }
        _ => Some((2, 1)),
    }
}

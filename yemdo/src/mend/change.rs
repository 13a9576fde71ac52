//! Changes of a sheet or of the assumed settings.

use crate::ground::text::{Source, Span};

/// Text replacement in a sheet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edit {
    /// Text to replace.
    pub span: Span,
    /// Replacement.
    pub text: String,
}

/// Kinds of mistakes that people make when they type a datasheet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Mistake {
    /// Bytes of a code in reverse order.
    ByteOrder,
    /// 16-bit words of a code in reverse order.
    WordOrder,
    /// Signed code read as unsigned, or the reverse.
    Sign,
    /// Wrong number form.
    Form,
    /// Binary-coded decimal read as binary, or the reverse.
    Bcd,
    /// Bits shifted: left-justified instead of right-justified, or off by some bits.
    Justified,
    /// Too many or too few bits: status bits in the code, or code bits missing.
    Width,
    /// Adjacent byte, word or register.
    Neighbour,
    /// Byte numbers of the whole frame off by one.
    Numbering,
    /// Two codes exchanged, or the wrong code in a formula.
    Exchanged,
    /// Integer division that drops the fraction.
    IntegerDivision,
    /// Integer byte and decimal byte read as one integer.
    DecimalByte,
    /// Formula result in another unit.
    Unit,
    /// Wrong sign of a constant.
    ConstantSign,
    /// Constant off by a power of ten.
    PowerOfTen,
    /// Constant off by a power of two.
    PowerOfTwo,
    /// Constant of another line or table row.
    OtherConstant,
    /// Digits exchanged, missing or repeated in a constant.
    Digits,
    /// Wrong operator.
    Operator,
    /// Wrong constant, factor or offset, without a usual pattern.
    Constant,
    /// Other setting active on the part.
    Setting,
    /// Other parameter value.
    Parameter,
}

impl Mistake {
    /// Short name for messages.
    pub fn name(self) -> &'static str {
        match self {
            Mistake::ByteOrder => "byte order",
            Mistake::WordOrder => "word order",
            Mistake::Sign => "sign",
            Mistake::Form => "number form",
            Mistake::Bcd => "BCD",
            Mistake::Justified => "justification",
            Mistake::Width => "width",
            Mistake::Neighbour => "neighbouring byte",
            Mistake::Numbering => "numbering of bytes",
            Mistake::Exchanged => "exchanged codes",
            Mistake::IntegerDivision => "integer division",
            Mistake::DecimalByte => "decimal byte",
            Mistake::Unit => "unit",
            Mistake::ConstantSign => "sign of a constant",
            Mistake::PowerOfTen => "power of ten",
            Mistake::PowerOfTwo => "power of two",
            Mistake::OtherConstant => "another line's constant",
            Mistake::Digits => "digits",
            Mistake::Operator => "operator",
            Mistake::Constant => "constant",
            Mistake::Setting => "setting",
            Mistake::Parameter => "parameter",
        }
    }

    /// Relative frequency of the mistake, shared by all its variants at one position in the sheet.
    pub fn weight(self) -> f64 {
        match self {
            Mistake::ByteOrder | Mistake::Sign => 100.0,
            Mistake::IntegerDivision | Mistake::Unit | Mistake::Setting => 60.0,
            Mistake::WordOrder | Mistake::Justified | Mistake::Width | Mistake::Neighbour => 50.0,
            Mistake::PowerOfTen | Mistake::PowerOfTwo | Mistake::Numbering | Mistake::OtherConstant => 30.0,
            Mistake::ConstantSign | Mistake::Exchanged | Mistake::Digits | Mistake::Form => 20.0,
            Mistake::Bcd | Mistake::DecimalByte | Mistake::Operator => 10.0,
            Mistake::Parameter => 5.0,
            Mistake::Constant => 1.0,
        }
    }
}

/// Candidate change.
#[derive(Clone, Debug)]
pub(super) struct Change {
    pub(super) mistake: Mistake,
    /// Share of the mistake's weight, at most 1.
    pub(super) share: f64,
    /// One-line description.
    pub(super) what: String,
    pub(super) edits: Vec<Edit>,
    /// Settings and parameters that were active, `NAME=VALUE`.
    pub(super) settings: Vec<String>,
    /// Range of the constant that fits, if solved for.
    pub(super) fits: Option<(f64, f64)>,
    /// True for a combination of two changes.
    pub(super) pair: bool,
}

impl Change {
    pub(super) fn edits(mistake: Mistake, share: f64, what: String, edits: Vec<Edit>) -> Self {
        Change { mistake, share, what, edits, settings: Vec::new(), fits: None, pair: false }
    }

    pub(super) fn edit(mistake: Mistake, share: f64, what: String, span: Span, text: String) -> Self {
        Change::edits(mistake, share, what, vec![Edit { span, text }])
    }

    pub(super) fn setting(mistake: Mistake, share: f64, what: String, typed: String) -> Self {
        Change { settings: vec![typed], ..Change::edits(mistake, share, what, Vec::new()) }
    }

    pub(super) fn weight(&self) -> f64 {
        self.mistake.weight() * self.share
    }

    /// Combines two changes; `None` if their edits overlap.
    pub(super) fn and(&self, other: &Change) -> Option<Change> {
        let apart = |one: &Edit, two: &Edit| one.span.end <= two.span.start || two.span.end <= one.span.start;
        let apart = self.edits.iter().all(|one| other.edits.iter().all(|two| apart(one, two)));
        let both = || Change {
            mistake: self.mistake,
            share: self.share * other.weight() / 1000.0,
            what: format!("{}; and {}", self.what, other.what),
            edits: self.edits.iter().chain(&other.edits).cloned().collect(),
            settings: self.settings.iter().chain(&other.settings).cloned().collect(),
            fits: None,
            pair: true,
        };
        apart.then(both)
    }
}

/// Applies edits to the text of a sheet.
pub(super) fn changed(source: &Source, edits: &[Edit]) -> String {
    let mut sorted: Vec<&Edit> = edits.iter().collect();
    sorted.sort_by_key(|edit| edit.span.start);
    let (mut text, mut at) = (String::with_capacity(source.text().len() + 64), 0);
    for edit in sorted {
        text.push_str(source.slice(Span::new(at, edit.span.start)));
        text.push_str(&edit.text);
        at = edit.span.end;
    }
    text.push_str(source.slice(Span::new(at, source.text().len())));
    text
}

/// Changed lines of the sheet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChangedLine {
    /// Line number, from 1.
    pub line: usize,
    /// Present text.
    pub before: String,
    /// Text with the change.
    pub after: String,
}

/// Lines changed by edits.
pub(super) fn lines(source: &Source, edits: &[Edit]) -> Vec<ChangedLine> {
    let mut sorted: Vec<&Edit> = edits.iter().collect();
    sorted.sort_by_key(|edit| edit.span.start);
    let mut found: Vec<ChangedLine> = Vec::new();
    let mut numbers: Vec<usize> = sorted.iter().map(|edit| source.line(edit.span.start)).collect();
    numbers.dedup();
    for number in numbers {
        let here: Vec<Edit> = sorted.iter().filter(|edit| source.line(edit.span.start) == number).map(|edit| (*edit).clone()).collect();
        let Some((first, last)) = here.first().zip(here.last()) else { continue };
        let text = source.text();
        let start = text.get(..first.span.start).and_then(|before| before.rfind('\n')).map_or(0, |at| at + 1);
        let end = text.get(last.span.end..).and_then(|behind| behind.find('\n')).map_or(text.len(), |at| last.span.end + at);
        let within: Vec<Edit> = here
            .into_iter()
            .map(|edit| Edit { span: Span::new(edit.span.start - start, edit.span.end - start), text: edit.text })
            .collect();
        let line = Source::new("", source.slice(Span::new(start, end)));
        found.push(ChangedLine { line: number, before: line.text().to_owned(), after: changed(&line, &within) });
    }
    found
}

//! Changes of a sheet, and of what was taken to be in force.

use crate::ground::text::{Source, Span};

/// A piece of the sheet that is put in the place of another.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edit {
    /// What is replaced.
    pub span: Span,
    /// What stands there then.
    pub text: String,
}

/// What people get wrong, in the order of the documentation.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Mistake {
    /// The bytes of a code come in the other order.
    ByteOrder,
    /// The 16-bit words of a code come in the other order.
    WordOrder,
    /// A sign is missing, or there is none.
    Sign,
    /// Another number form.
    Form,
    /// Binary-coded decimal read as binary, or the reverse.
    Bcd,
    /// The bits stand some places further on: left-justified, right-justified.
    Justified,
    /// Bits that are none of the code are in it, or bits of it are left out.
    Width,
    /// The byte, word or register beside it.
    Neighbour,
    /// All bytes of the frame are counted from another one.
    Numbering,
    /// Two codes are exchanged, or a formula takes another one.
    Exchanged,
    /// A division of integers drops the fraction.
    IntegerDivision,
    /// Integer and decimal bytes.
    DecimalByte,
    /// The formula gives another unit.
    Unit,
    /// A constant has the wrong sign.
    ConstantSign,
    /// A constant is off by a power of ten.
    PowerOfTen,
    /// A constant is off by a power of two.
    PowerOfTwo,
    /// A constant is that of another line, or of another row of a table.
    OtherConstant,
    /// Digits of a constant are exchanged, missing or doubled.
    Digits,
    /// An operator is another one.
    Operator,
    /// A constant, a factor or an offset is another one.
    Constant,
    /// A setting was another one.
    Setting,
    /// A parameter was another one.
    Parameter,
}

impl Mistake {
    /// All of them.
    pub const ALL: [Mistake; 22] = [
        Mistake::ByteOrder,
        Mistake::WordOrder,
        Mistake::Sign,
        Mistake::Form,
        Mistake::Bcd,
        Mistake::Justified,
        Mistake::Width,
        Mistake::Neighbour,
        Mistake::Numbering,
        Mistake::Exchanged,
        Mistake::IntegerDivision,
        Mistake::DecimalByte,
        Mistake::Unit,
        Mistake::ConstantSign,
        Mistake::PowerOfTen,
        Mistake::PowerOfTwo,
        Mistake::OtherConstant,
        Mistake::Digits,
        Mistake::Operator,
        Mistake::Constant,
        Mistake::Setting,
        Mistake::Parameter,
    ];

    /// Its name, in the trade's words.
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

    /// How common the mistake is, all of its forms at one place together: a weight, of which only ratios count.
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

/// A change that might be the one.
#[derive(Clone, Debug)]
pub(super) struct Change {
    pub(super) mistake: Mistake,
    /// Its part of the mistake's weight: of several forms, each has less.
    pub(super) share: f64,
    /// What was wrong, in one line.
    pub(super) what: String,
    pub(super) edits: Vec<Edit>,
    /// Settings and parameters that were in force, `NAME=VALUE`.
    pub(super) settings: Vec<String>,
    /// The values of a constant with which all agrees, where it was solved for.
    pub(super) fits: Option<(f64, f64)>,
    /// It is two changes at once.
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

    /// Two changes at once; `None` where they touch the same place.
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

/// The sheet's text with pieces replaced.
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

/// A line of the sheet before and after.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChangedLine {
    /// Its number, from 1.
    pub line: usize,
    /// As it is.
    pub before: String,
    /// As it should be.
    pub after: String,
}

/// The lines that edits change.
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

/// A TOML string of one line.
pub(super) fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

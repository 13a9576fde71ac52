//! The resolved model of a part.

use crate::bits::check::Check;
use crate::bits::gather::Gather;
use crate::bits::layout::Layout;
use crate::formula::typed::Formula;
use crate::formula::types::Ty;
use crate::sheet::text::{Source, Span};
use crate::sheet::{Diagnostic, SheetError};

/// A value that comes into a formula from outside.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Input {
    /// A code, by its index in [`Part::codes`].
    Code(usize),
    /// Another reading, by its index in [`Part::readings`].
    Reading(usize),
}

/// A part as its sheet describes it, resolved and checked.
///
/// ```
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
/// reading.light = { unit = "lx", formula = "light * 0.5" }
/// "#).unwrap();
/// assert_eq!(part.name(), "lamp-1");
/// assert_eq!(part.readings()[0].unit(), "lx");
/// ```
#[derive(Clone, Debug)]
pub struct Part {
    pub(crate) source: Source,
    pub(crate) name: String,
    pub(crate) title: Option<String>,
    pub(crate) datasheet: Option<String>,
    pub(crate) i2c: Option<I2c>,
    pub(crate) frames: Vec<Frame>,
    pub(crate) codes: Vec<Code>,
    pub(crate) readings: Vec<Reading>,
    /// Readings in an order in which each comes after those it uses.
    pub(crate) order: Vec<usize>,
    pub(crate) examples: Vec<Example>,
    pub(crate) warnings: Vec<Diagnostic>,
}

impl Part {
    /// Reads a sheet. `name` is what messages call it, usually its path.
    ///
    /// # Errors
    /// [`SheetError`] holds every error found, each with its place in the text.
    pub fn parse(name: &str, text: &str) -> Result<Part, SheetError> {
        super::resolve::resolve(Source::new(name, text))
    }

    /// The part's name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// What the part is, in a few words.
    pub fn title(&self) -> Option<&str> {
        self.title.as_deref()
    }

    /// The datasheet and its revision.
    pub fn datasheet(&self) -> Option<&str> {
        self.datasheet.as_deref()
    }

    /// How the part is reached over I2C.
    pub fn i2c(&self) -> Option<&I2c> {
        self.i2c.as_ref()
    }

    /// The frames, in the sheet's order.
    pub fn frames(&self) -> &[Frame] {
        &self.frames
    }

    /// The index of the frame of that name, whatever its case.
    pub fn frame_index(&self, name: &str) -> Option<usize> {
        self.frames.iter().position(|frame| frame.name.eq_ignore_ascii_case(name))
    }

    /// All codes of all frames.
    pub fn codes(&self) -> &[Code] {
        &self.codes
    }

    /// The readings, in the sheet's order.
    pub fn readings(&self) -> &[Reading] {
        &self.readings
    }

    /// The worked examples.
    pub fn examples(&self) -> &[Example] {
        &self.examples
    }

    /// What is not wrong, but is often meant otherwise.
    pub fn warnings(&self) -> &[Diagnostic] {
        &self.warnings
    }

    /// The sheet's text.
    pub fn source(&self) -> &Source {
        &self.source
    }
}

/// The I2C side of a part.
#[derive(Clone, Debug)]
pub struct I2c {
    /// 7-bit address.
    pub address: u8,
    /// Pins that choose the address: pin, level, address.
    pub straps: Vec<(String, String, u8)>,
}

/// Bytes that are read in one go.
#[derive(Clone, Debug)]
pub struct Frame {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) length: usize,
    pub(crate) checks: Vec<Check>,
    pub(crate) codes: Vec<usize>,
    pub(crate) status: Vec<Condition>,
    pub(crate) readings: Vec<usize>,
}

impl Frame {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its place in the sheet.
    pub fn span(&self) -> Span {
        self.span
    }

    /// Number of bytes.
    pub fn length(&self) -> usize {
        self.length
    }

    /// The checks that its bytes must pass.
    pub fn checks(&self) -> &[Check] {
        &self.checks
    }

    /// Its codes, as indices into [`Part::codes`].
    pub fn codes(&self) -> &[usize] {
        &self.codes
    }

    /// The readings that come out of it, as indices into [`Part::readings`].
    pub fn readings(&self) -> &[usize] {
        &self.readings
    }
}

/// The integer that some bits of a frame make.
#[derive(Clone, Debug)]
pub struct Code {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) frame: usize,
    pub(crate) layout: Layout,
    pub(crate) gather: Gather,
    pub(crate) ty: Ty,
}

impl Code {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The frame it stands in, as an index into [`Part::frames`].
    pub fn frame(&self) -> usize {
        self.frame
    }

    /// Where its bits stand and how they are read.
    pub fn layout(&self) -> &Layout {
        &self.layout
    }

    /// The type it has in formulas: `int` where every value fits, else the next that holds them.
    pub fn ty(&self) -> Ty {
        self.ty
    }

    /// The number that its bits make in a frame.
    pub fn value(&self, frame: &[u8]) -> i128 {
        let value = self.gather.code(frame);
        if self.ty == Ty::U64 { i128::from(value as u64) } else { i128::from(value) }
    }

    /// Lowest and highest value.
    pub fn bounds(&self) -> (i128, i128) {
        self.layout.form.bounds(self.layout.width())
    }
}

/// What a condition over the codes says about a reading.
#[derive(Clone, Debug)]
pub struct Condition {
    pub(crate) formula: Formula,
    /// What holds where the condition does.
    pub status: Status,
    /// The datasheet's words for it.
    pub means: Option<String>,
}

impl Condition {
    /// The condition as typed, for messages.
    pub fn span(&self) -> Span {
        self.formula.span
    }
}

/// A physical quantity.
#[derive(Clone, Debug)]
pub struct Reading {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) unit: String,
    pub(crate) range: Option<(f64, f64)>,
    pub(crate) formula: Formula,
    /// The frame whose arrival gives it.
    pub(crate) frame: usize,
    /// Codes that it uses, directly or through other readings, in the order of first use.
    pub(crate) codes: Vec<usize>,
    pub(crate) status: Vec<Condition>,
    pub(crate) decimals: usize,
}

impl Reading {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its place in the sheet.
    pub fn span(&self) -> Span {
        self.span
    }

    /// Its unit, as typed in the sheet.
    pub fn unit(&self) -> &str {
        &self.unit
    }

    /// The range that the datasheet states, in [`unit`](Self::unit).
    pub fn range(&self) -> Option<(f64, f64)> {
        self.range
    }

    /// Its formula, typed.
    pub fn formula(&self) -> &Formula {
        &self.formula
    }

    /// The frame that gives it, as an index into [`Part::frames`].
    pub fn frame(&self) -> usize {
        self.frame
    }

    /// The codes that it uses, as indices into [`Part::codes`].
    pub fn codes(&self) -> &[usize] {
        &self.codes
    }

    /// Decimals that are worth showing: enough to tell the smallest step.
    pub fn decimals(&self) -> usize {
        self.decimals
    }
}

/// How far a reading is to be believed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u8)]
#[non_exhaustive]
pub enum Status {
    /// A good value.
    #[default]
    Ok = 0,
    /// A good value; the part signals an alert.
    Alert,
    /// Outside the range that the datasheet states.
    OutOfRange,
    /// The part has reached the end of its range; the value is a bound.
    Saturated,
    /// The part had nothing new to say. No value.
    NotReady,
    /// The part says that this is no measurement. No value.
    Invalid,
    /// The part reports that it is faulty. No value.
    PartFault,
    /// The formula ran into something that C leaves undefined. No value.
    FormulaFault,
}

impl Status {
    /// All of them, in order.
    pub const ALL: [Status; 8] = [
        Status::Ok,
        Status::Alert,
        Status::OutOfRange,
        Status::Saturated,
        Status::NotReady,
        Status::Invalid,
        Status::PartFault,
        Status::FormulaFault,
    ];

    /// The word for it, in sheets and output.
    pub fn word(self) -> &'static str {
        match self {
            Status::Ok => "ok",
            Status::Alert => "alert",
            Status::OutOfRange => "out of range",
            Status::Saturated => "saturated",
            Status::NotReady => "not ready",
            Status::Invalid => "invalid",
            Status::PartFault => "fault",
            Status::FormulaFault => "formula fault",
        }
    }

    /// The status of that word.
    pub fn of_word(word: &str) -> Option<Status> {
        Self::ALL.into_iter().find(|status| status.word() == word)
    }

    /// Whether a value comes with it.
    pub fn has_value(self) -> bool {
        matches!(self, Status::Ok | Status::Alert | Status::OutOfRange | Status::Saturated)
    }
}

/// A worked example.
#[derive(Clone, Debug)]
pub struct Example {
    pub(crate) span: Span,
    pub(crate) source: Option<String>,
    /// Frame index and bytes.
    pub(crate) frames: Vec<(usize, Vec<u8>)>,
    pub(crate) gives: Vec<(usize, Expected, Span)>,
}

impl Example {
    /// Its place in the sheet.
    pub fn span(&self) -> Span {
        self.span
    }

    /// Where the datasheet has it.
    pub fn source(&self) -> Option<&str> {
        self.source.as_deref()
    }
}

/// What an example expects of a reading.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Expected {
    /// A value, to within half a unit of its last printed digit.
    Value {
        value: f64,
        tolerance: f64,
        text: String,
    },
    Status(Status),
}

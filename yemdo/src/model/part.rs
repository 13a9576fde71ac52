//! The resolved model of a part.

use super::buses::{I2c, Modbus, Spi};
use super::operation::{Quantity, Routine};
use super::outcome::Outcome;
use super::registers::{Field, Register};
use super::status::Status;
use crate::formula::curve::Curve;
use crate::formula::program::FaultKind;
use std::sync::{Arc, OnceLock};

use crate::bits::check::Check;
use crate::bits::form::Form;
use crate::bits::gather::Gather;
use crate::bits::layout::Layout;
use crate::formula::typed::Formula;
use crate::formula::types::{Number, Ty};
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
    /// The present code of a field, by its index in [`Part::fields`].
    Field(usize),
    /// The number beside a field's present value: the field, and the column by its index in
    /// [`Field::columns`](super::registers::Field::columns).
    Column(usize, usize),
    /// A number that the user supplies, by its index in [`Part::parameters`].
    Parameter(usize),
    /// The present value of a quantity, by its index in [`Part::quantities`].
    Quantity(usize),
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
    pub(crate) spi: Option<Spi>,
    pub(crate) modbus: Option<Modbus>,
    pub(crate) registers: Vec<Register>,
    pub(crate) fields: Vec<Field>,
    /// The registers' values after a reset, as [`Settings`](super::registers::Settings) keep them.
    pub(crate) reset_image: Vec<u8>,
    pub(crate) variants: Vec<String>,
    pub(crate) parameters: Vec<Parameter>,
    pub(crate) tables: Vec<(String, Arc<Curve>)>,
    pub(crate) quantities: Vec<Quantity>,
    pub(crate) routines: Vec<Routine>,
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
        super::resolve::resolve(Source::new(name, text), None)
    }

    /// Reads a variant of a sheet: what stands under `[variant.NAME]` put over the rest.
    ///
    /// # Errors
    /// As [`Part::parse`]; also where there is no such variant.
    pub fn parse_variant(name: &str, text: &str, variant: &str) -> Result<Part, SheetError> {
        super::resolve::resolve(Source::new(name, text), Some(variant))
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

    /// The part at another of its I2C addresses, as its pins choose it: where it is written and read, and where its checks
    /// cover the address bytes.
    ///
    /// # Errors
    /// The addresses that it can have.
    pub fn at_address(mut self, address: u8) -> Result<Part, Vec<u8>> {
        let Some(i2c) = &mut self.i2c else { return Err(Vec::new()) };
        let known = i2c.addresses();
        if !known.contains(&address) {
            return Err(known);
        }
        i2c.address = address;
        for check in self.frames.iter_mut().flat_map(|frame| &mut frame.checks) {
            check.set_address(address);
        }
        Ok(self)
    }

    /// How the part is reached over SPI.
    pub fn spi(&self) -> Option<&Spi> {
        self.spi.as_ref()
    }

    /// How the part is reached over Modbus.
    pub fn modbus(&self) -> Option<&Modbus> {
        self.modbus.as_ref()
    }

    /// The registers, in the sheet's order.
    pub fn registers(&self) -> &[Register] {
        &self.registers
    }

    /// The fields of all registers.
    pub fn fields(&self) -> &[Field] {
        &self.fields
    }

    /// The index of the register of that name, whatever its case.
    pub fn register_index(&self, name: &str) -> Option<usize> {
        self.registers.iter().position(|register| register.name.eq_ignore_ascii_case(name))
    }

    /// The index of a field: by its name, or as `REGISTER.FIELD` where several registers have one of that name.
    pub fn field_index(&self, name: &str) -> Option<usize> {
        match name.split_once('.') {
            Some((register, field)) => {
                let register = self.register_index(register)?;
                self.fields.iter().position(|f| f.register == Some(register) && f.name.eq_ignore_ascii_case(field))
            }
            None => {
                let mut all =
                    (0..self.fields.len()).filter(|index| self.fields.get(*index).is_some_and(|f| f.name.eq_ignore_ascii_case(name)));
                all.next().filter(|_| all.next().is_none())
            }
        }
    }

    /// A field and a code of it in words: `SPAN = 4 g`.
    pub(crate) fn setting_text(&self, field: usize, code: i128) -> Option<String> {
        let field = self.fields.get(field)?;
        Some(format!("{} = {}", field.name, field.value_text(code)))
    }

    /// The names of the sheet's variants.
    pub fn variants(&self) -> &[String] {
        &self.variants
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

    /// What the readings of some frames take from settings and parameters, and not from the frames themselves.
    pub fn held_inputs(&self, frames: &[usize]) -> Vec<Input> {
        let mut found = Vec::new();
        for frame in frames.iter().filter_map(|frame| self.frames.get(*frame)) {
            let wanted = frame.readings.iter().flat_map(|reading| super::needed(self, *reading));
            let readings = wanted.filter_map(|reading| self.readings.get(reading));
            let formulas = readings.flat_map(|r| std::iter::once(&r.formula).chain(r.status.iter().map(|c| &c.formula)));
            for input in formulas.flat_map(|formula| &formula.inputs) {
                let held = match input {
                    Input::Field(field) | Input::Column(field, _) => !frame.fields.iter().any(|(inside, _)| inside == field),
                    Input::Parameter(_) | Input::Quantity(_) => true,
                    Input::Code(_) | Input::Reading(_) => false,
                };
                if held && !found.contains(input) {
                    found.push(*input);
                }
            }
        }
        found
    }

    /// The numbers that the user supplies.
    pub fn parameters(&self) -> &[Parameter] {
        &self.parameters
    }

    /// The quantities that fields hold.
    pub fn quantities(&self) -> &[Quantity] {
        &self.quantities
    }

    /// The routines.
    pub fn routines(&self) -> &[Routine] {
        &self.routines
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

/// Bytes that are read in one go.
#[derive(Clone, Debug)]
pub struct Frame {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) origin: Origin,
    pub(crate) length: usize,
    /// Read once and kept.
    pub(crate) keep: bool,
    /// Fields of its registers: index in [`Part::fields`], and where their bits stand in the frame.
    pub(crate) fields: Vec<(usize, Gather)>,
    /// How many bytes count, where a code says so.
    pub(crate) counted: Option<Formula>,
    pub(crate) checks: Vec<Check>,
    pub(crate) codes: Vec<usize>,
    pub(crate) status: Vec<Condition>,
    pub(crate) readings: Vec<usize>,
}

/// Where a frame's bytes come from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Origin {
    /// They are read, after a command if there is one.
    Read {
        /// What is sent before.
        command: Vec<u8>,
    },
    /// Registers, by index in [`Part::registers`]; each list follows on in one transfer.
    Registers(Vec<Vec<usize>>),
    /// Several transfers: what is sent, and how many bytes come back.
    Transfers(Vec<(Vec<u8>, usize)>),
    /// A Modbus table.
    Modbus(crate::modbus::Range),
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

    /// Where its bytes come from.
    pub fn origin(&self) -> &Origin {
        &self.origin
    }

    /// Number of bytes; the most, where a code says how many count.
    pub fn length(&self) -> usize {
        self.length
    }

    /// Whether it is read once and kept, as calibration words are.
    pub fn is_kept(&self) -> bool {
        self.keep
    }

    /// The checks that its bytes must pass.
    pub fn checks(&self) -> &[Check] {
        &self.checks
    }

    /// Its codes, as indices into [`Part::codes`].
    pub fn codes(&self) -> &[usize] {
        &self.codes
    }

    /// What codes say about every reading of it.
    pub fn conditions(&self) -> &[Condition] {
        &self.status
    }

    /// The readings that its arrival gives, as indices into [`Part::readings`].
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
    /// The field that it is, where it is one of a register of the frame.
    pub(crate) field: Option<usize>,
    pub(crate) layout: Layout,
    pub(crate) gather: Gather,
    pub(crate) ty: Ty,
    /// The codes that the datasheet allows, where it narrows them.
    pub(crate) range: Option<(i128, i128)>,
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

    /// What its bits make in a frame.
    pub fn value(&self, frame: &[u8]) -> CodeNumber {
        if self.layout.form == Form::Text {
            return CodeNumber::Text(text(&self.layout, frame));
        }
        if let Some(real) = self.gather.real(frame) {
            return CodeNumber::Number(Number::Real(real, self.ty));
        }
        match self.gather.code(frame) {
            Some(code) if self.ty == Ty::U64 => CodeNumber::Number(Number::Int(i128::from(code as u64), self.ty)),
            Some(code) => CodeNumber::Number(Number::Int(i128::from(code), self.ty)),
            None => CodeNumber::Invalid,
        }
    }

    /// Lowest and highest value, for codes that are integers: what the datasheet allows, else what the bits hold.
    pub fn bounds(&self) -> (i128, i128) {
        self.range.unwrap_or_else(|| self.layout.form.bounds(self.layout.width()))
    }

    /// The last byte of the frame that it needs.
    pub(crate) fn last_byte(&self) -> usize {
        self.layout.slices.iter().map(|slice| slice.byte).max().unwrap_or(0)
    }
}

/// What the bits of a code make.
#[derive(Clone, Debug, PartialEq)]
pub enum CodeNumber {
    /// A number.
    Number(Number),
    /// Characters, trimmed.
    Text(String),
    /// Nothing: a decimal digit above 9.
    Invalid,
}

impl CodeNumber {
    /// The number as a double.
    pub fn to_f64(&self) -> Option<f64> {
        if let CodeNumber::Number(number) = self { Some(number.to_f64()) } else { None }
    }
}

impl std::fmt::Display for CodeNumber {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            CodeNumber::Number(number) => number.fmt(f),
            CodeNumber::Text(text) => write!(f, "\"{text}\""),
            CodeNumber::Invalid => f.write_str("invalid"),
        }
    }
}

/// Characters of a frame, without blanks and noughts at the end. What is not printable ASCII becomes `\xNN`, so
/// that nothing of it can steer a terminal.
fn text(layout: &Layout, frame: &[u8]) -> String {
    let bytes: Vec<u8> = layout.slices.iter().map(|slice| frame.get(slice.byte).copied().unwrap_or(0)).collect();
    let end = bytes.iter().rposition(|byte| !matches!(byte, 0 | b' ' | 0xFF)).map_or(0, |at| at + 1);
    let shown =
        |byte: &u8| if (0x20..0x7F).contains(byte) && *byte != b'\\' { char::from(*byte).to_string() } else { format!("\\x{byte:02X}") };
    bytes.get(..end).unwrap_or(&[]).iter().map(shown).collect()
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
    /// The frames whose codes it needs.
    pub(crate) frames: Vec<usize>,
    /// Codes that it uses, directly or through other readings, in the order of first use.
    pub(crate) codes: Vec<usize>,
    pub(crate) status: Vec<Condition>,
    pub(crate) means: Option<String>,
    /// A shared value is computed like a reading, but is none.
    pub(crate) shown: bool,
    pub(crate) decimals: usize,
    /// What can come out, once somebody has asked.
    pub(crate) outcome: OnceLock<Option<Outcome>>,
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

    /// Whether it is a reading; a value that readings share is not.
    pub fn is_shown(&self) -> bool {
        self.shown
    }

    /// Its formula, typed.
    pub fn formula(&self) -> &Formula {
        &self.formula
    }

    /// The frames whose codes it needs, as indices into [`Part::frames`].
    pub fn frames(&self) -> &[usize] {
        &self.frames
    }

    /// The codes that it uses, as indices into [`Part::codes`].
    pub fn codes(&self) -> &[usize] {
        &self.codes
    }

    /// The datasheet's words for it.
    pub fn means(&self) -> Option<&str> {
        self.means.as_deref()
    }

    /// What codes say about it.
    pub fn conditions(&self) -> &[Condition] {
        &self.status
    }

    /// Decimals that are worth showing: enough to tell the smallest step.
    pub fn decimals(&self) -> usize {
        self.decimals
    }
}

/// A number that the user supplies.
#[derive(Clone, Debug)]
pub struct Parameter {
    /// Its name.
    pub name: String,
    /// Its value where the user gives none.
    pub default: f64,
    /// Its unit.
    pub unit: Option<String>,
    /// The values that are accepted.
    pub range: Option<(f64, f64)>,
    /// The datasheet's words for it.
    pub means: Option<String>,
}

/// A worked example.
#[derive(Clone, Debug)]
pub struct Example {
    pub(crate) span: Span,
    pub(crate) source: Option<String>,
    /// Field index and code.
    pub(crate) set: Vec<(usize, i128)>,
    /// Frame index and bytes.
    pub(crate) frames: Vec<(usize, Vec<u8>)>,
    pub(crate) gives: Vec<(Subject, Expected, Span)>,
    /// The cause for which a frame is refused.
    pub(crate) refused: Option<&'static str>,
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

    /// Its frames: index and bytes.
    pub fn frames(&self) -> &[(usize, Vec<u8>)] {
        &self.frames
    }
}

/// What an example has an expectation of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Subject {
    Reading(usize),
    Code(usize),
    /// A local variable of a reading's or shared value's formula, or the shared value itself.
    Step(usize, Option<String>),
}

/// What an example expects.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Expected {
    /// A value, to within half a unit of its last printed digit.
    Value {
        value: f64,
        tolerance: f64,
        text: String,
    },
    Status(Status),
    /// A fault of the formula.
    Fault(FaultKind),
    /// The text of a code.
    Text(String),
}

//! Frames and the codes in them.

use super::command::Exchange;
use super::ids::{CodeId, FieldId, FrameId, ReadingId, RegisterId};
use super::reading::Condition;
use crate::bits::check::Check;
use crate::bits::form::Form;
use crate::bits::gather::Gather;
use crate::bits::layout::{Layout, Slice};
use crate::bus::modbus::AddressRange;
use crate::formula::typed::Formula;
use crate::ground::number::{Number, Ty};
use crate::ground::text::Span;

/// Bytes that are read in one go.
#[derive(Clone, Debug)]
pub struct Frame {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) origin: Origin,
    pub(crate) length: usize,
    /// Read once and kept.
    pub(crate) keep: bool,
    pub(crate) blank: Blank,
    /// Fields of its registers, with the positions of their bits in the frame.
    pub(crate) fields: Vec<(FieldId, Gather)>,
    /// How many bytes count, where a code says so.
    pub(crate) counted: Option<Formula>,
    pub(crate) checks: Vec<Check>,
    pub(crate) codes: Vec<CodeId>,
    /// Bits that mean nothing.
    pub(crate) reserved: Vec<Slice>,
    pub(crate) status: Vec<Condition>,
    pub(crate) valid: Vec<(FieldId, i128)>,
    pub(crate) otherwise: Otherwise,
    pub(crate) readings: Vec<ReadingId>,
    /// Derived quantities that are computed when it comes.
    pub(crate) derived: Vec<ReadingId>,
    pub(crate) means: Option<String>,
    pub(crate) source: Option<String>,
}

/// Result of a read of a frame while the fields that it needs have other values.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum Otherwise {
    /// The last measured value.
    #[default]
    LastValue,
    /// The reset values of its registers.
    ResetValue,
    /// The part does not acknowledge.
    NoAnswer,
}

/// Treatment of a frame of only zeros or only ones.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Blank {
    /// An error: the part did not answer.
    Refused,
    /// It is decoded, with a warning.
    Suspect,
    /// A measurement.
    Good,
}

/// Where a frame's bytes come from.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum Origin {
    /// They are read, after a command if there is one.
    Read(Exchange),
    /// Registers; each list follows on in one transfer.
    Registers(Vec<Vec<RegisterId>>),
    /// Several times something is sent and read; all that was read is the frame.
    Transfers(Vec<Exchange>),
    /// A Modbus table.
    Modbus(AddressRange),
}

impl Origin {
    /// Formulas of sent bytes and waits.
    pub(crate) fn formulas(&self) -> impl Iterator<Item = &Formula> {
        self.exchanges().iter().flat_map(Exchange::formulas)
    }

    /// Its exchanges in order; none for registers and Modbus tables.
    pub(crate) fn exchanges(&self) -> &[Exchange] {
        match self {
            Origin::Read(exchange) => std::slice::from_ref(exchange),
            Origin::Transfers(list) => list,
            Origin::Registers(_) | Origin::Modbus(_) => &[],
        }
    }
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

    /// Treatment of only zeros or only ones.
    pub fn blank(&self) -> Blank {
        self.blank
    }

    /// True if the bytes look as if no part answered, and neither a check nor the sheet says otherwise: only zeros or only ones.
    ///
    /// ```
    /// let part = yemdo::Part::parse("lamp.toml", r#"
    /// part = "lamp-1"
    /// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
    /// "#)?;
    /// let light = part.frames().iter().next().unwrap();
    /// assert!(light.is_suspect(&[0xFF, 0xFF]) && !light.is_suspect(&[0xFF, 0xFE]));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn is_suspect(&self, bytes: &[u8]) -> bool {
        self.blank == Blank::Suspect && is_blank(bytes)
    }

    /// The checks that its bytes must pass.
    pub fn checks(&self) -> &[Check] {
        &self.checks
    }

    /// Its codes.
    pub fn codes(&self) -> &[CodeId] {
        &self.codes
    }

    /// What codes say about every reading of it.
    pub fn conditions(&self) -> &[Condition] {
        &self.status
    }

    /// Fields that must have certain codes for its bytes to be a measurement: the part is awake, or in a mode.
    pub fn valid_while(&self) -> &[(FieldId, i128)] {
        &self.valid
    }

    /// The conditions that follow from [`valid_while`](Self::valid_while).
    pub(crate) fn needs(&self) -> impl Iterator<Item = &Condition> {
        self.status.iter().filter(|condition| condition.needs.is_some())
    }

    /// Result of a read while they have other codes.
    pub fn otherwise(&self) -> Otherwise {
        self.otherwise
    }

    /// The readings that its arrival gives.
    pub fn readings(&self) -> &[ReadingId] {
        &self.readings
    }

    /// The derived quantities that its arrival gives.
    pub fn derived(&self) -> &[ReadingId] {
        &self.derived
    }

    /// Readings of the frame, then derived quantities.
    pub fn shown(&self) -> impl Iterator<Item = ReadingId> + Clone + '_ {
        self.readings.iter().chain(&self.derived).copied()
    }

    /// The datasheet's words for it.
    pub fn means(&self) -> Option<&str> {
        self.means.as_deref()
    }

    /// Where the datasheet says so.
    pub fn source(&self) -> Option<&str> {
        self.source.as_deref()
    }
}

/// True for only zeros or only ones.
pub(crate) fn is_blank(bytes: &[u8]) -> bool {
    bytes.first().is_some_and(|first| matches!(first, 0x00 | 0xFF) && bytes.iter().all(|byte| byte == first))
}

/// The integer that some bits of a frame make.
#[derive(Clone, Debug)]
pub struct Code {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) frame: FrameId,
    /// The field that it is, where it is one of a register of the frame.
    pub(crate) field: Option<FieldId>,
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

    /// Frame of the code.
    pub fn frame(&self) -> FrameId {
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
    pub fn value(&self, frame: &[u8]) -> CodeContent {
        if self.layout.form == Form::Text {
            return CodeContent::Text(text(&self.layout, frame));
        }
        if let Some(real) = self.gather.real(frame) {
            return CodeContent::Number(Number::Real(real, self.ty));
        }
        match self.gather.code(frame) {
            Some(code) if self.ty == Ty::U64 => CodeContent::Number(Number::Int(i128::from(code as u64), self.ty)),
            Some(code) => CodeContent::Number(Number::Int(i128::from(code), self.ty)),
            None => CodeContent::Invalid,
        }
    }

    /// Lowest and highest value of integer codes: the stated range, otherwise that of the bits.
    pub fn bounds(&self) -> (i128, i128) {
        self.range.unwrap_or_else(|| self.layout.form.bounds(self.layout.width()))
    }

    /// Whether the datasheet allows a number as this code.
    pub(crate) fn allows(&self, number: Number) -> bool {
        match (number, self.range) {
            (Number::Int(code, _), Some((low, high))) => (low..=high).contains(&code),
            _ => true,
        }
    }

    /// The last byte of the frame that it needs.
    pub(crate) fn last_byte(&self) -> usize {
        self.layout.slices.iter().map(|slice| slice.byte).max().unwrap_or(0)
    }
}

/// Content of a code's bits.
#[derive(Clone, Debug, PartialEq)]
pub enum CodeContent {
    /// A number.
    Number(Number),
    /// Characters, trimmed.
    Text(String),
    /// Nothing: a decimal digit above 9.
    Invalid,
}

impl CodeContent {
    /// The number as a double.
    pub fn to_f64(&self) -> Option<f64> {
        if let CodeContent::Number(number) = self { Some(number.to_f64()) } else { None }
    }
}

impl std::fmt::Display for CodeContent {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            CodeContent::Number(number) => number.fmt(f),
            CodeContent::Text(text) => write!(f, "\"{text}\""),
            CodeContent::Invalid => f.write_str("invalid"),
        }
    }
}

/// Characters of a frame, without blanks and zeros at the end. What is not printable ASCII becomes `\xNN`, so
/// that nothing of it can steer a terminal.
fn text(layout: &Layout, frame: &[u8]) -> String {
    let bytes: Vec<u8> = layout.slices.iter().map(|slice| frame.get(slice.byte).copied().unwrap_or(0)).collect();
    let end = bytes.iter().rposition(|byte| !matches!(byte, 0 | b' ' | 0xFF)).map_or(0, |at| at + 1);
    let shown =
        |byte: &u8| if (0x20..0x7F).contains(byte) && *byte != b'\\' { char::from(*byte).to_string() } else { format!("\\x{byte:02X}") };
    bytes.get(..end).unwrap_or(&[]).iter().map(shown).collect()
}

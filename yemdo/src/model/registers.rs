//! Registers, their fields, and the values that they have at present.

use super::ids::{ColumnId, FieldId, RegisterId};
use super::part::Sheet;
use crate::bits::gather::Gather;
use crate::bits::layout::Layout;
use crate::bus::Bus;
use crate::formula::typed::Formula;
use crate::ground::list::List;
use crate::ground::number::{Number, Ty};
use crate::ground::text::Span;

/// What can be done to a register or field.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum Access {
    /// Read and written.
    #[default]
    ReadWrite,
    /// Only read.
    ReadOnly,
    /// Only written; reads as something else.
    WriteOnly,
    /// Writing a one clears it.
    WriteOneToClear,
    /// Reading clears it.
    ClearOnRead,
    /// Written, and cleared by the part.
    SelfClearing,
    /// Set by writing ones, cleared only by a reset.
    SetUntilReset,
    /// Reserved bits.
    Reserved,
}

impl Access {
    /// All of them with their words in the sheet.
    pub const ALL: [(&'static str, Access); 8] = [
        ("read-write", Access::ReadWrite),
        ("read-only", Access::ReadOnly),
        ("write-only", Access::WriteOnly),
        ("write-1-to-clear", Access::WriteOneToClear),
        ("clear-on-read", Access::ClearOnRead),
        ("self-clearing", Access::SelfClearing),
        ("set-until-reset", Access::SetUntilReset),
        ("reserved", Access::Reserved),
    ];

    /// Whether writing does something.
    pub fn is_writable(self) -> bool {
        !matches!(self, Access::ReadOnly | Access::ClearOnRead | Access::Reserved)
    }

    /// Whether ones do something, and zeros leave things as they are.
    pub(crate) fn is_action(self) -> bool {
        matches!(self, Access::WriteOneToClear | Access::SelfClearing)
    }

    /// True for fields that store written values.
    pub(crate) fn holds_value(self) -> bool {
        matches!(self, Access::ReadWrite | Access::WriteOnly | Access::SetUntilReset)
    }

    /// Whether a value can be read.
    pub fn is_readable(self) -> bool {
        !matches!(self, Access::WriteOnly | Access::Reserved)
    }

    /// The word in the sheet.
    pub fn as_str(self) -> &'static str {
        Self::ALL.iter().find(|(_, access)| *access == self).map_or("read-write", |(word, _)| word)
    }

    pub(crate) fn from_name(word: Option<&str>) -> Option<Access> {
        Self::ALL.iter().find(|(known, _)| Some(*known) == word).map(|(_, access)| *access)
    }
}

/// A register.
#[derive(Clone, Debug)]
pub struct Register {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) at: u32,
    pub(crate) bytes: usize,
    pub(crate) low_first: bool,
    pub(crate) access: Access,
    pub(crate) reset: Option<u64>,
    pub(crate) bank: Vec<(FieldId, i128)>,
    pub(crate) writable: Vec<(FieldId, i128)>,
    pub(crate) fields: Vec<FieldId>,
    pub(crate) reserved: Vec<Reserved>,
    pub(crate) means: Option<String>,
    pub(crate) source: Option<String>,
    /// Where its bytes stand, high first, in an image of all registers.
    pub(crate) offset: usize,
}

/// Reserved bits of a register.
#[derive(Clone, Debug)]
pub struct Reserved {
    /// The bits, as a mask over the register.
    pub mask: u64,
    /// What must be written there, in place; `None` where the sheet does not say.
    pub write: Option<u64>,
    /// Their place in the sheet.
    pub span: Span,
}

impl Register {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its place in the sheet.
    pub fn span(&self) -> Span {
        self.span
    }

    /// Its address.
    pub fn address(&self) -> u32 {
        self.at
    }

    /// Number of its bytes.
    pub fn bytes(&self) -> usize {
        self.bytes
    }

    /// Number of its bits.
    pub fn width(&self) -> u32 {
        self.bytes as u32 * 8
    }

    /// Whether its low byte comes first.
    pub fn low_first(&self) -> bool {
        self.low_first
    }

    /// What can be done to it.
    pub fn access(&self) -> Access {
        self.access
    }

    /// Its value after a reset.
    pub fn reset(&self) -> Option<u64> {
        self.reset
    }

    /// Its fields.
    pub fn fields(&self) -> &[FieldId] {
        &self.fields
    }

    /// The fields that select its bank, with the codes they must have.
    pub fn bank(&self) -> &[(FieldId, i128)] {
        &self.bank
    }

    /// The fields that must have certain codes while it is written.
    pub fn writable_while(&self) -> &[(FieldId, i128)] {
        &self.writable
    }

    /// Its reserved bits.
    pub fn reserved(&self) -> &[Reserved] {
        &self.reserved
    }

    /// The datasheet's words for it.
    pub fn means(&self) -> Option<&str> {
        self.means.as_deref()
    }

    /// Where the datasheet says so.
    pub fn source(&self) -> Option<&str> {
        self.source.as_deref()
    }

    /// All its bits as a mask.
    pub fn mask(&self) -> u64 {
        u64::MAX >> (64 - self.width().clamp(1, 64))
    }

    /// Its value in the bytes of a transfer, which are in its own order.
    pub fn value_of(&self, wire: &[u8]) -> u64 {
        let join = |value, byte: &u8| (value << 8) | u64::from(*byte);
        if self.low_first { wire.iter().rev().fold(0, join) } else { wire.iter().fold(0, join) }
    }

    /// The bytes of a value as they go over the wire.
    pub fn wire_bytes(&self, value: u64) -> Vec<u8> {
        let all = value.to_be_bytes();
        let mut bytes = all.get(8 - self.bytes..).unwrap_or(&[]).to_vec();
        if self.low_first {
            bytes.reverse();
        }
        bytes
    }
}

/// A field: bits of one register or of several, with what their values mean.
#[derive(Clone, Debug)]
pub struct Field {
    pub(crate) name: String,
    pub(crate) span: Span,
    /// The register it is declared in; `None` for one of several registers.
    pub(crate) register: Option<RegisterId>,
    /// Its bits in the image of all registers.
    pub(crate) layout: Layout,
    pub(crate) gather: Gather,
    pub(crate) access: Access,
    pub(crate) values: Vec<FieldValue>,
    pub(crate) columns: List<ColumnId, ColumnName>,
    pub(crate) computed: Option<Formula>,
    /// It is put together from other fields, and shares their bits.
    pub(crate) joined: bool,
    pub(crate) means: Option<String>,
    pub(crate) source: Option<String>,
}

/// A column of a field's table.
#[derive(Clone, Debug)]
pub struct ColumnName {
    /// Its name.
    pub name: String,
    /// All its numbers are typed as whole ones: it is an integer in formulas.
    pub whole: bool,
}

/// A value of a field: a row of its table.
#[derive(Clone, Debug)]
pub struct FieldValue {
    /// The field's code.
    pub code: i128,
    /// The value's name.
    pub name: Option<String>,
    /// The datasheet's words for it.
    pub means: Option<String>,
    /// The numbers of the field's columns; `None` where the row has none.
    pub columns: List<ColumnId, Option<f64>>,
}

impl Field {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its place in the sheet.
    pub fn span(&self) -> Span {
        self.span
    }

    /// What can be done to it.
    pub fn access(&self) -> Access {
        self.access
    }

    /// Number of its bits.
    pub fn width(&self) -> u32 {
        self.layout.width()
    }

    /// The formula that its code follows from, where it does.
    pub fn computed(&self) -> Option<&Formula> {
        self.computed.as_ref()
    }

    /// Its table of values.
    pub fn values(&self) -> &[FieldValue] {
        &self.values
    }

    /// The further columns of that table.
    pub fn columns(&self) -> &List<ColumnId, ColumnName> {
        &self.columns
    }

    /// The datasheet's words for it.
    pub fn means(&self) -> Option<&str> {
        self.means.as_deref()
    }

    /// Where the datasheet says so.
    pub fn source(&self) -> Option<&str> {
        self.source.as_deref()
    }

    /// Lowest and highest code.
    pub fn bounds(&self) -> (i128, i128) {
        self.layout.form.bounds(self.layout.width())
    }

    /// A code as people say it: the value's name where it has one, else the number.
    pub fn value_text(&self, code: i128) -> String {
        let name = self.value(code).and_then(|value| value.name.clone());
        name.or_else(|| self.real(code).map(|real| real.to_string())).unwrap_or_else(|| code.to_string())
    }

    /// How many codes it can have: those of its table, or all that its bits hold.
    pub(crate) fn code_count(&self) -> usize {
        let (low, high) = self.bounds();
        if self.values.is_empty() { usize::try_from(high - low + 1).unwrap_or(usize::MAX) } else { self.values.len() }
    }

    /// Whether it is a setting that one chooses from a table.
    pub(crate) fn is_choice(&self) -> bool {
        self.values.len() > 1 && self.access == Access::ReadWrite
    }

    /// The type that it has in formulas.
    pub(crate) fn ty(&self) -> Ty {
        let (low, high) = self.bounds();
        if self.is_real() { Ty::F64 } else { Ty::holding(low, high) }
    }

    /// Whether its bits make a real number; its codes are then those bits, or units of the last one.
    pub fn is_real(&self) -> bool {
        self.layout.form.ty(self.layout.width()).is_real()
    }

    /// The real number of a code, for fields that hold one.
    pub fn real(&self, code: i128) -> Option<f64> {
        let width = self.layout.width();
        self.layout.form.read_real(self.layout.form.write(code, width), width)
    }

    /// The code of the real number nearest to a value, for fields that hold one.
    pub fn code_of(&self, value: f64) -> Option<i128> {
        let width = self.layout.width();
        self.layout.form.read(self.layout.form.write_real(value, width)?, width).map(i128::from)
    }

    /// A code as a datasheet prints it.
    pub(crate) fn as_printed(&self, code: i128, typed: &str) -> i128 {
        self.layout.as_printed(code, typed)
    }

    /// Code nearest to the result of its formula; `None` for an invalid one.
    pub(crate) fn computed_code(&self, value: f64) -> Option<i128> {
        let ((low, high), code) = (self.bounds(), value.round());
        (code >= low as f64 && code <= high as f64).then_some(code as i128)
    }

    /// The number that a code is in formulas.
    pub(crate) fn number(&self, code: i128) -> Number {
        self.real(code).map_or(Number::Int(code, Ty::I64), |real| Number::Real(real, Ty::F64))
    }

    /// The row of its table for a code.
    pub fn value(&self, code: i128) -> Option<&FieldValue> {
        self.values.iter().find(|value| value.code == code)
    }

    /// Its bits within a register: runs of (high, low), most significant first.
    pub fn bits_in(&self, register: &Register) -> Vec<(u32, u32)> {
        let mut runs: Vec<(u32, u32)> = Vec::new();
        let inside = register.offset..register.offset + register.bytes;
        for slice in self.layout.slices.iter().filter(|slice| inside.contains(&slice.byte)) {
            let base = ((register.offset + register.bytes - 1 - slice.byte) * 8) as u32;
            let (high, low) = (base + u32::from(slice.high), base + u32::from(slice.low));
            match runs.last_mut().filter(|(_, last)| *last == high + 1) {
                Some((_, last)) => *last = low,
                None => runs.push((high, low)),
            }
        }
        runs
    }

    /// Its bits within a register as the notation has them: `[7:4]`.
    pub fn bits_text(&self, register: &Register) -> String {
        runs_text(&self.bits_in(register))
    }

    /// Its bits within a register, as a mask.
    pub fn mask_in(&self, register: &Register) -> u64 {
        self.bits_in(register).into_iter().fold(0, |mask, (high, low)| mask | ((u64::MAX >> (63 - (high - low))) << low))
    }
}

/// Runs of ones in a mask: (high, low), the most significant first.
pub(crate) fn runs(mask: u64) -> Vec<(u32, u32)> {
    let mut runs: Vec<(u32, u32)> = Vec::new();
    for bit in (0..64).rev().filter(|bit| mask >> bit & 1 == 1) {
        match runs.last_mut().filter(|(_, low)| *low == bit + 1) {
            Some((_, low)) => *low = bit,
            None => runs.push((bit, bit)),
        }
    }
    runs
}

/// Runs of bits as the notation has them.
pub(crate) fn runs_text(runs: &[(u32, u32)]) -> String {
    let run = |(high, low): &(u32, u32)| if high == low { format!("[{high}]") } else { format!("[{high}:{low}]") };
    runs.iter().map(run).collect::<Vec<_>>().join(" ")
}

/// How the addresses of registers count.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Numbering {
    /// Bytes.
    Bytes,
    /// Registers, however wide they are: two of them are nearer to one another than their bytes.
    Registers,
    /// Words of 16 bits, as Modbus has them (Modbus Application Protocol V1.1b3, section 4.3).
    Words,
}

impl Numbering {
    /// The numbering of a part.
    pub(crate) fn of(part: &Sheet) -> Self {
        let near = |one: &Register, other: &Register| other.bank == one.bank && other.at > one.at && other.at < one.at + one.bytes as u32;
        if part.buses.all().eq([Bus::Modbus]) {
            Numbering::Words
        } else if part.registers.iter().any(|one| part.registers.iter().any(|other| near(one, other))) {
            Numbering::Registers
        } else {
            Numbering::Bytes
        }
    }

    /// The address after a register.
    pub(crate) fn behind(self, register: &Register) -> u32 {
        register.at
            + match self {
                Numbering::Bytes => register.bytes as u32,
                Numbering::Registers => 1,
                Numbering::Words => register.bytes.div_ceil(2) as u32,
            }
    }

    /// The byte of a register at an address; `None` if the address is outside of the register.
    pub(crate) fn byte_at(self, register: &Register, address: u32) -> Option<usize> {
        let inside = address.checked_sub(register.at).filter(|_| address < self.behind(register))? as usize;
        Some(inside * if self == Numbering::Words { 2 } else { 1 })
    }
}

//! The state of a part at a given time, in one type.
//!
//! In: reset values, user settings, dumps, recordings, writes and reads. Out: the values that formulas,
//! commands, configuring and stand-ins begin with. A value that nothing has told is *unknown*, not 0.

use std::fmt;

use super::frame::{Code, CodeContent, Origin};
use super::ids::{CodeId, FieldId, FrameId, ParameterId, ReadingId};
use super::part::Sheet;
use super::registers::{Field, Register};
use crate::bits::gather::scatter;
use crate::bits::layout::Slice;
use crate::ground::list::Id;
use crate::ground::number::Number;

/// Where a value comes from.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[non_exhaustive]
pub enum Provenance {
    /// The sheet states no reset value, and nothing was set or read.
    #[default]
    Unknown,
    /// The sheet's value after a reset.
    Reset,
    /// Set: by a write, or by a user who says so.
    Set,
    /// Read from the part.
    Read,
}

/// The known state of a part: registers, settings that no register holds, parameters, and the last frames.
///
/// ```
/// use yemdo::{Provenance, State};
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// [register]
/// MODE = { at = 1, reset = 0x20 }
/// TRIM = { at = 2 }
/// "#)?;
/// let mut state = State::reset(&part);
/// let (mode, trim) = (&part.registers().iter().next().unwrap(), &part.registers().iter().nth(1).unwrap());
/// assert_eq!((state.known_register(mode), state.known_register(trim)), (Some(0x20), None));
/// state.read_register(trim, 7);
/// assert_eq!((state.known_register(trim), state.provenance(trim)), (Some(7), Provenance::Read));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct State {
    /// All registers one after another, high byte first; then the settings that no register holds.
    image: Vec<u8>,
    /// The bits of it that are known.
    known: Vec<u8>,
    /// The known bits of it that only the part sets and that have been neither read nor set: they may have another value by now.
    stale: Vec<u8>,
    /// Where each byte of it comes from.
    provenance: Vec<Provenance>,
    parameters: Vec<f64>,
    /// The last good bytes of every frame.
    frames: Vec<Option<Vec<u8>>>,
}

/// A parameter cannot have this value.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct ParameterError {
    /// The parameter.
    pub parameter: String,
    /// The value.
    pub value: f64,
    /// Lowest and highest that the sheet allows.
    pub range: (f64, f64),
}

impl fmt::Display for ParameterError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "`{}` out of range: {}, expected {} to {}", self.parameter, self.value, self.range.0, self.range.1)
    }
}

impl std::error::Error for ParameterError {}

impl State {
    /// The state after a reset: registers with a stated reset value, parameters with their defaults, no frames.
    pub fn reset(part: &Sheet) -> Self {
        let reset = &part.reset;
        Self {
            parameters: part.parameters.iter().map(|parameter| parameter.default).collect(),
            frames: vec![None; part.frames.len()],
            ..reset.clone()
        }
    }

    /// The state to assume for frames that have been read already: as after a reset, but with the fields that frames and readings need to be
    /// valid (`while` in the sheet). A field that they need with different codes keeps its reset value.
    pub fn while_read(part: &Sheet) -> Self {
        let mut state = Self::reset(part);
        let all = || part.frames.iter().flat_map(|frame| &frame.valid).chain(part.readings.iter().flat_map(|reading| &reading.valid));
        for (id, code) in all().filter(|(id, code)| all().all(|(other, wanted)| other != id || wanted == code)) {
            state.set_field(&part.fields[*id], *code);
        }
        state
    }

    /// The same state with the fields that a reading needs to be valid.
    pub(crate) fn valid_for(&self, part: &Sheet, reading: ReadingId) -> Self {
        let mut state = self.clone();
        part.needs(reading).for_each(|(id, code)| state.set_field(&part.fields[id], code));
        state
    }

    /// Fields that a frame needs to be valid and that are known to have other codes; each with the code that is needed.
    pub fn unmet(&self, part: &Sheet, frame: FrameId) -> Vec<(FieldId, i128)> {
        let differs = |(id, code): &&(FieldId, i128)| self.known_field(&part.fields[*id]).is_some_and(|now| now != *code);
        part.frames.get(frame).map_or(&[] as &[_], |frame| &frame.valid).iter().filter(differs).copied().collect()
    }

    /// The same, with something assumed for all settings that are unknown, for what can be said of a part beforehand: the code 0, or
    /// the first of a table that does not have it.
    pub(crate) fn assumed(&self, part: &Sheet) -> Self {
        let mut state = self.clone();
        state.stale.fill(0);
        for field in part.fields.iter().filter(|field| !self.knows(field)) {
            let listed = field.values.is_empty() || field.value(0).is_some();
            let code = if listed { 0 } else { field.values.first().map_or(0, |row| row.code) };
            state.set_field(field, code);
        }
        // Known bits stay, even if other fields share them.
        for ((byte, known), before) in state.image.iter_mut().zip(&self.known).zip(&self.image) {
            *byte = (*byte & !known) | (before & known);
        }
        state.known.fill(0xFF);
        state
    }

    /// A copy with unknown bits taken from another state of the same part.
    pub(crate) fn filled_from(&self, other: &State) -> Self {
        let mut state = self.clone();
        for ((byte, known), (filled, also)) in state.image.iter_mut().zip(&mut state.known).zip(other.image.iter().zip(&other.known)) {
            *byte = (*byte & *known) | (filled & !*known);
            *known |= also;
        }
        state
    }

    /// The state of a part with unknown history: registers are unknown, and so are settings that commands or routines set.
    pub fn unseen(part: &Sheet) -> Self {
        let mut state = Self::reset(part);
        part.registers.iter().for_each(|register| state.forget_register(register));
        for (_, field) in part.fields.entries().filter(|(id, _)| part.is_unstored(*id) && part.is_sent(*id)) {
            state.forget_field(field);
        }
        state
    }

    /// A state of no registers.
    pub(crate) const fn empty() -> Self {
        Self { image: Vec::new(), known: Vec::new(), stale: Vec::new(), provenance: Vec::new(), parameters: Vec::new(), frames: Vec::new() }
    }

    /// Adds unknown bytes to the image; returns the index of the first.
    pub(crate) fn extend_image(&mut self, bytes: usize) -> usize {
        let from = self.image.len();
        self.image.resize(from + bytes, 0);
        self.known.resize(from + bytes, 0);
        self.stale.resize(from + bytes, 0);
        self.provenance.resize(from + bytes, Provenance::Unknown);
        from
    }

    /// Marks all values set so far as reset values, and those of these fields, which only the part sets, as stale.
    pub(crate) fn into_reset<'f>(mut self, by_part: impl Iterator<Item = &'f Field>) -> Self {
        for provenance in self.provenance.iter_mut().filter(|provenance| **provenance != Provenance::Unknown) {
            *provenance = Provenance::Reset;
        }
        for slice in by_part.flat_map(|field| &field.layout.slices) {
            self.stale.get_mut(slice.byte).into_iter().for_each(|stale| *stale |= slice.mask());
        }
        self
    }

    /// A register's value; bits that are unknown are 0.
    pub fn register(&self, register: &Register) -> u64 {
        joined(&self.image, register)
    }

    /// The bits of a register that are known.
    pub(crate) fn known_bits(&self, register: &Register) -> u64 {
        joined(&self.known, register)
    }

    /// The bits of a register that formulas have a value for: known ones that are not stale.
    pub(crate) fn bits_with_value(&self, register: &Register) -> u64 {
        joined(&self.known, register) & !joined(&self.stale, register)
    }

    /// A register's value; `None` unless all its bits are known.
    pub fn known_register(&self, register: &Register) -> Option<u64> {
        (self.known_bits(register) == register.mask()).then(|| self.register(register))
    }

    /// True if at least one bit of a register is known.
    pub(crate) fn knows_any_of(&self, register: &Register) -> bool {
        self.known_bits(register) != 0
    }

    /// Where a register's value comes from; the oldest source if its bytes have several.
    pub fn provenance(&self, register: &Register) -> Provenance {
        let own = self.provenance.get(register.offset..register.offset + register.bytes).unwrap_or(&[]);
        own.iter().copied().min().unwrap_or_default()
    }

    /// A register holds this value: it was written, or a user says so.
    pub fn set_register(&mut self, register: &Register, value: u64) {
        self.put(register, value, register.mask(), Provenance::Set);
        self.not_stale(register);
    }

    /// A register was written; only some of its bits may be known after that.
    pub(crate) fn write_register(&mut self, register: &Register, value: u64, known: u64) {
        self.put(register, value, known, Provenance::Set);
    }

    /// A register holds this value: it was read.
    pub fn read_register(&mut self, register: &Register, value: u64) {
        self.put(register, value, register.mask(), Provenance::Read);
        self.not_stale(register);
    }

    fn not_stale(&mut self, register: &Register) {
        self.stale.get_mut(register.offset..register.offset + register.bytes).unwrap_or_default().fill(0);
    }

    /// Nothing is known of a register any more.
    pub fn forget_register(&mut self, register: &Register) {
        self.put(register, 0, 0, Provenance::Unknown);
    }

    fn put(&mut self, register: &Register, value: u64, known: u64, from: Provenance) {
        let own = register.offset..register.offset + register.bytes;
        let bytes = |value: u64| value.to_be_bytes().into_iter().skip(8 - register.bytes);
        self.image.get_mut(own.clone()).unwrap_or_default().iter_mut().zip(bytes(value)).for_each(|(place, byte)| *place = byte);
        self.known.get_mut(own.clone()).unwrap_or_default().iter_mut().zip(bytes(known)).for_each(|(place, byte)| *place = byte);
        self.provenance.get_mut(own).unwrap_or_default().fill(from);
    }

    /// A field's code; bits that are unknown are 0.
    pub fn field(&self, field: &Field) -> i128 {
        i128::from(field.gather.code(&self.image).unwrap_or(0))
    }

    /// A field's code; `None` if one of its bits is unknown, or if they encode no value, such as a decimal digit above 9.
    pub fn known_field(&self, field: &Field) -> Option<i128> {
        if self.knows(field) { field.gather.code(&self.image).map(i128::from) } else { None }
    }

    /// Whether all bits of a field are known.
    pub fn knows(&self, field: &Field) -> bool {
        field.layout.slices.iter().all(|slice| {
            let mask = slice.mask();
            self.known.get(slice.byte).is_some_and(|known| known & mask == mask)
        })
    }

    /// The code of a field that formulas compute with. `None` if it is unknown, or if only the part sets it and it was neither read nor set: its
    /// reset value may be out of date.
    pub fn value_of(&self, field: &Field) -> Option<i128> {
        if self.has_value_of(field) { self.known_field(field) } else { None }
    }

    /// Whether formulas have a value for all bits of a field; see [`value_of`](Self::value_of).
    pub(crate) fn has_value_of(&self, field: &Field) -> bool {
        let is_stale = |slice: &Slice| self.stale.get(slice.byte).is_some_and(|stale| stale & slice.mask() != 0);
        self.knows(field) && !field.layout.slices.iter().any(is_stale)
    }

    /// A field has this code: it was written, or a user says so. Bits of `code` beyond the field's width are dropped.
    pub fn set_field(&mut self, field: &Field, code: i128) {
        scatter(&mut self.image, &field.layout.slices, field.layout.form.write(code, field.layout.width()));
        for slice in &field.layout.slices {
            self.known.get_mut(slice.byte).into_iter().for_each(|known| *known |= slice.mask());
            self.stale.get_mut(slice.byte).into_iter().for_each(|stale| *stale &= !slice.mask());
            self.provenance.get_mut(slice.byte).into_iter().for_each(|place| *place = Provenance::Set);
        }
    }

    /// Bits of a field become those of another state of the same part, known or not. Two codes can have the same value.
    pub(crate) fn restore_field(&mut self, field: &Field, from: &State) {
        let restore = |bytes: &mut [u8], from: &[u8], byte: usize, mask: u8| {
            if let Some((to, from)) = bytes.get_mut(byte).zip(from.get(byte)) {
                *to = (*to & !mask) | (from & mask);
            }
        };
        for slice in &field.layout.slices {
            restore(&mut self.image, &from.image, slice.byte, slice.mask());
            restore(&mut self.known, &from.known, slice.byte, slice.mask());
            restore(&mut self.stale, &from.stale, slice.byte, slice.mask());
        }
    }

    /// Nothing is known of a field any more.
    pub(crate) fn forget_field(&mut self, field: &Field) {
        for slice in &field.layout.slices {
            self.known.get_mut(slice.byte).into_iter().for_each(|known| *known &= !slice.mask());
        }
    }

    /// Takes over all but the frames from another state of the same part.
    pub(crate) fn adopt(&mut self, other: &State) {
        self.image.clone_from(&other.image);
        self.known.clone_from(&other.known);
        self.stale.clone_from(&other.stale);
        self.provenance.clone_from(&other.provenance);
        self.parameters.clone_from(&other.parameters);
    }

    /// True if two states agree on registers and settings; parameters and frames may differ.
    pub fn has_same_settings(&self, other: &State) -> bool {
        self.image == other.image && self.known == other.known && self.stale == other.stale
    }

    /// True if two states agree on registers, settings and parameters; frames may differ.
    pub fn has_same_values(&self, other: &State) -> bool {
        self.has_same_settings(other) && self.parameters == other.parameters
    }

    /// The parameters' values, in the sheet's order.
    pub fn parameters(&self) -> &[f64] {
        &self.parameters
    }

    /// A parameter's value; `None` if the id is of another part.
    pub fn parameter(&self, id: ParameterId) -> Option<f64> {
        self.parameters.get(id.index()).copied()
    }

    /// Supplies a parameter.
    ///
    /// # Errors
    /// [`ParameterError`]: the value is outside the parameter's range, and is not taken.
    pub fn set_parameter(&mut self, part: &Sheet, id: ParameterId, value: f64) -> Result<(), ParameterError> {
        if let Some(parameter) = part.parameters.get(id)
            && let Some((low, high)) = parameter.range
            && !(value >= low && value <= high)
        {
            return Err(ParameterError { parameter: parameter.name.clone(), value, range: (low, high) });
        }
        self.parameters.get_mut(id.index()).into_iter().for_each(|place| *place = value);
        Ok(())
    }

    /// The last good bytes of a frame; `None` if none has come.
    pub fn frame(&self, frame: FrameId) -> Option<&[u8]> {
        self.frames.get(frame.index())?.as_deref()
    }

    /// Whether a frame has come.
    pub(crate) fn has(&self, frame: FrameId) -> bool {
        self.frames.get(frame.index()).is_some_and(Option::is_some)
    }

    /// Good bytes of a frame came: codes take them from now on, and so do the fields of its registers.
    pub(crate) fn take_frame(&mut self, part: &Sheet, id: FrameId, bytes: &[u8]) {
        self.read_registers_of(part, id, bytes);
        self.keep_frame(id, bytes);
    }

    /// The registers of a frame are as they came with it.
    pub(crate) fn read_registers_of(&mut self, part: &Sheet, id: FrameId, bytes: &[u8]) {
        let Some(Origin::Registers(runs)) = part.frames.get(id).map(|frame| &frame.origin) else { return };
        let mut rest = bytes;
        for register in part.registers.of(runs.iter().flatten()) {
            let Some((own, after)) = rest.split_at_checked(register.bytes) else { return };
            self.read_register(register, register.value_of(own));
            rest = after;
        }
    }

    /// Keeps the bytes of a frame, and nothing else.
    #[inline]
    pub(crate) fn keep_frame(&mut self, id: FrameId, bytes: &[u8]) {
        match self.frames.get_mut(id.index()) {
            Some(Some(last)) if last.len() == bytes.len() => last.copy_from_slice(bytes),
            Some(last) => *last = Some(bytes.to_vec()),
            None => {}
        }
    }

    /// Puts other bytes in the place of a frame's, and gives those.
    pub(crate) fn replace_frame(&mut self, id: FrameId, bytes: Option<Vec<u8>>) -> Option<Vec<u8>> {
        self.frames.get_mut(id.index()).and_then(|place| std::mem::replace(place, bytes))
    }

    /// No frame has come.
    pub fn forget_frames(&mut self) {
        self.frames.fill(None);
    }

    /// The number of a code in the last bytes of its frame; `None` if that has not come, or if the code has no value.
    pub(crate) fn code(&self, part: &Sheet, id: CodeId) -> Option<Number> {
        let code: &Code = part.codes.get(id)?;
        let bytes = self.frame(code.frame).filter(|bytes| code.last_byte() < bytes.len())?;
        match code.value(bytes) {
            CodeContent::Number(number) if code.allows(number) => Some(number),
            _ => None,
        }
    }
}

/// The bytes of a register in an image, joined.
fn joined(image: &[u8], register: &Register) -> u64 {
    let bytes = image.get(register.offset..register.offset + register.bytes).unwrap_or(&[]);
    bytes.iter().fold(0, |value, byte| (value << 8) | u64::from(*byte))
}

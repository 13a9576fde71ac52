//! `[i2c]`, `[spi]` and `[modbus]`.

use toml::de::{DeTable, DeValue};

use super::super::keys;
use super::super::reader::{At, Fields, Raw, Reader, entries};
use super::Named;
use super::integer_or;
use crate::ground::diagnostic::Diagnostic;
use crate::ground::text::{Span, Text};

#[derive(Debug)]
pub(crate) struct I2c {
    pub(crate) address: Address,
    /// Pin, and for each of its levels the address.
    pub(crate) straps: Vec<Named<Vec<Named<Address>>>>,
    pub(crate) pointer: Option<At<u32>>,
    pub(crate) restart: bool,
    pub(crate) increment: u32,
    pub(crate) auto_increment: bool,
    pub(crate) pec: bool,
    pub(crate) max_khz: Option<u32>,
}

/// An I2C address as typed.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Address {
    pub(crate) value: At<i128>,
    /// The number includes the read/write bit.
    pub(crate) eight_bit: bool,
}

#[derive(Debug)]
pub(crate) struct Spi {
    pub(crate) mode: u8,
    pub(crate) lsb_first: bool,
    pub(crate) pointer: Option<At<u32>>,
    pub(crate) shift: u32,
    pub(crate) read: u32,
    pub(crate) write: u32,
    pub(crate) increment: u32,
    pub(crate) auto_increment: bool,
    pub(crate) dummy: usize,
    pub(crate) late: bool,
    pub(crate) max_khz: Option<u32>,
}

#[derive(Debug)]
pub(crate) struct Modbus {
    pub(crate) unit: Option<u8>,
    pub(crate) numbering: &'static str,
    pub(crate) baud: Option<u32>,
    pub(crate) parity: Option<&'static str>,
    pub(crate) stop: Option<u8>,
    pub(crate) unit_field: Option<Text>,
    pub(crate) baud_field: Option<Text>,
}

pub(super) fn i2c<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<I2c> {
    let fields = reader.fields(table, span, &keys::I2C, |_| false);
    let address = fields.get("address").and_then(|value| address(reader, value));
    let mut straps = Vec::new();
    if let Some(pins) = fields.get("strap").and_then(|value| reader.table(value)) {
        for (pin, levels) in entries(pins) {
            let levels = reader.table(levels).map(entries).unwrap_or_default();
            let levels = levels.into_iter().filter_map(|(level, value)| Some((level, self::address(reader, value)?))).collect();
            straps.push((pin, levels));
        }
    }
    let pointer = fields.get("pointer").and_then(|value| reader.integer_within(value, "pointer", 0, 16));
    let restart = fields.get("restart").and_then(|value| reader.boolean(value)).unwrap_or(true);
    let increment = integer_or(reader, &fields, "increment", 0, most_of(pointer), 0);
    let auto_increment = auto_increment(reader, &fields, increment);
    let pec = fields.get("pec").and_then(|value| reader.boolean(value)).unwrap_or(false);
    let max_khz = max_khz(reader, &fields);
    Some(I2c { address: address?, straps, pointer, restart, increment, auto_increment, pec, max_khz })
}

/// The fastest clock.
fn max_khz<'i>(reader: &mut Reader<'i>, fields: &Fields<'_, 'i>) -> Option<u32> {
    fields.get("max_khz").and_then(|value| reader.integer_within(value, "max_khz", 1, 200_000)).map(|khz| khz.value)
}

/// Whether the address moves on, which bits that are set for it contradict.
fn auto_increment<'i>(reader: &mut Reader<'i>, fields: &Fields<'_, 'i>, bits: u32) -> bool {
    let Some(value) = fields.get("auto_increment") else { return true };
    let moves_on = reader.boolean(value).unwrap_or(true);
    if !moves_on && bits != 0 {
        let problem = Diagnostic::error("bad-increment", value.span().into(), "`increment` without `auto_increment`");
        reader.report(problem.label("one of the two says otherwise"));
    }
    moves_on
}

/// The largest number in the bits of a register address as it is sent: 8 where the sheet does not say.
fn most_of(pointer: Option<At<u32>>) -> u32 {
    (1 << pointer.map_or(8, |bits| bits.value)) - 1
}

/// `0x2C`, or `"0x58 8-bit"`.
fn address<'i>(reader: &mut Reader<'i>, value: &Raw<'i>) -> Option<Address> {
    if !matches!(value.get_ref(), DeValue::String(_)) {
        return reader.integer(value).map(|value| Address { value, eight_bit: false });
    }
    let text = reader.text(value)?;
    let mut words = text.value.split_whitespace();
    let number = words.next().and_then(|word| match word.strip_prefix("0x") {
        Some(digits) => i128::from_str_radix(digits, 16).ok(),
        None => word.parse().ok(),
    });
    match (number, words.next(), words.next()) {
        (Some(number), Some(form @ ("8-bit" | "7-bit")), None) => {
            Some(Address { value: At { value: number, span: text.span }, eight_bit: form == "8-bit" })
        }
        _ => {
            reader.report(Diagnostic::error("bad-address", text.span, "not an address").label("expected 0x2C, or \"0x58 8-bit\""));
            None
        }
    }
}

pub(super) fn spi<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Spi> {
    let fields = reader.fields(table, span, &keys::SPI, |_| false);
    let lsb_first = fields.word(reader, "bit_order").is_some_and(|word| word.value == "lsb first");
    let late = fields.get("late").and_then(|value| reader.boolean(value)).unwrap_or(false);
    let pointer = fields.get("pointer").and_then(|value| reader.integer_within(value, "pointer", 0, 16));
    let most = most_of(pointer);
    let increment = integer_or(reader, &fields, "increment", 0, most, 0);
    Some(Spi {
        auto_increment: auto_increment(reader, &fields, increment),
        mode: integer_or(reader, &fields, "mode", 0, 3, 0),
        lsb_first,
        pointer,
        shift: integer_or(reader, &fields, "shift", 0, 7, 0),
        read: integer_or(reader, &fields, "read", 0, most, 0),
        write: integer_or(reader, &fields, "write", 0, most, 0),
        increment,
        dummy: integer_or(reader, &fields, "dummy", 0, 16, 0),
        max_khz: max_khz(reader, &fields),
        late,
    })
}

pub(super) fn modbus<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Modbus> {
    let fields = reader.fields(table, span, &keys::MODBUS, |_| false);
    let mut byte = |key, low, high| fields.get(key).and_then(|value| reader.integer_within(value, key, low, high)).map(|at| at.value);
    let (unit, stop) = (byte("unit", 1, 247), byte("stop", 1, 2));
    let baud = fields.get("baud").and_then(|value| reader.integer_within(value, "baud", 50, 10_000_000)).map(|at| at.value);
    let parity = fields.word(reader, "parity").map(|word| word.value);
    let numbering = fields.word(reader, "numbering")?.value;
    let (unit_field, baud_field) = (fields.text(reader, "unit_field"), fields.text(reader, "baud_field"));
    Some(Modbus { unit, numbering, baud, parity, stop, unit_field, baud_field })
}

//! The syntax tree of a sheet: what is typed, with places, nothing bound yet.

use super::reader::At;
use crate::ground::text::{Span, Text};

pub(crate) type Named<T> = (At<String>, T);

#[derive(Debug, Default)]
pub(crate) struct Sheet {
    pub(crate) part: Text,
    pub(crate) title: Option<Text>,
    pub(crate) source: Option<Text>,
    pub(crate) allow: Vec<Text>,
    pub(crate) i2c: Option<I2c>,
    pub(crate) spi: Option<Spi>,
    pub(crate) modbus: Option<Modbus>,
    pub(crate) registers: Vec<Named<Register>>,
    pub(crate) fields: Vec<Named<Field>>,
    pub(crate) frames: Vec<Named<Frame>>,
    pub(crate) readings: Vec<Named<Reading>>,
    pub(crate) shared: Vec<Named<Reading>>,
    pub(crate) parameters: Vec<Named<Parameter>>,
    pub(crate) tables: Vec<Named<Table>>,
    pub(crate) quantities: Vec<Named<Quantity>>,
    pub(crate) routines: Vec<Named<Vec<Step>>>,
    pub(crate) examples: Vec<Example>,
    pub(crate) variants: Vec<At<String>>,
}

#[derive(Debug)]
pub(crate) struct I2c {
    pub(crate) address: Address,
    /// Pin, and for each of its levels the address.
    pub(crate) straps: Vec<Named<Vec<Named<Address>>>>,
    pub(crate) pointer: Option<At<i128>>,
    pub(crate) restart: bool,
    pub(crate) increment: i128,
}

/// An I2C address as typed.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Address {
    pub(crate) value: At<i128>,
    /// The number has the read/write bit behind it.
    pub(crate) eight_bit: bool,
}

#[derive(Debug)]
pub(crate) struct Spi {
    pub(crate) mode: i128,
    pub(crate) lsb_first: bool,
    pub(crate) pointer: Option<At<i128>>,
    pub(crate) shift: i128,
    pub(crate) read: i128,
    pub(crate) write: i128,
    pub(crate) increment: i128,
    pub(crate) dummy: i128,
    pub(crate) late: bool,
}

#[derive(Debug)]
pub(crate) struct Modbus {
    pub(crate) unit: Option<i128>,
    pub(crate) numbering: &'static str,
    pub(crate) baud: Option<i128>,
    pub(crate) parity: Option<&'static str>,
    pub(crate) stop: Option<i128>,
}

#[derive(Debug)]
pub(crate) struct Register {
    pub(crate) at: At<i128>,
    pub(crate) width: At<i128>,
    pub(crate) low_first: bool,
    pub(crate) access: Option<&'static str>,
    pub(crate) reset: Option<At<i128>>,
    pub(crate) bank: Vec<Named<Choice>>,
    pub(crate) writable: Vec<Named<Choice>>,
    pub(crate) count: Option<At<i128>>,
    pub(crate) every: Option<At<i128>>,
    pub(crate) fields: Vec<Named<Field>>,
    pub(crate) reserved: Vec<(Text, Option<At<i128>>)>,
    pub(crate) means: Option<Text>,
}

/// A field's value, as its code or by name.
#[derive(Debug)]
pub(crate) enum Choice {
    Code(At<i128>),
    Name(Text),
}

#[derive(Debug)]
pub(crate) struct Field {
    pub(crate) bits: Text,
    pub(crate) values: Vec<Row>,
    pub(crate) access: Option<&'static str>,
    pub(crate) computed: Option<Text>,
    pub(crate) means: Option<Text>,
}

#[derive(Debug)]
pub(crate) struct Row {
    pub(crate) code: At<i128>,
    pub(crate) name: Option<Text>,
    pub(crate) means: Option<Text>,
    /// Column, number, and whether it was typed as a whole number.
    pub(crate) columns: Vec<(At<String>, f64, bool)>,
}

#[derive(Debug)]
pub(crate) struct Frame {
    pub(crate) read: Option<At<i128>>,
    pub(crate) length: Option<Text>,
    pub(crate) keep: bool,
    pub(crate) command: Vec<u8>,
    pub(crate) registers: Option<Text>,
    pub(crate) transfers: Vec<(Vec<u8>, At<i128>)>,
    /// The kind of Modbus table, and the addresses.
    pub(crate) modbus: Option<(&'static str, Text)>,
    pub(crate) checks: Vec<Check>,
    pub(crate) codes: Vec<Named<Code>>,
    pub(crate) status: Vec<Status>,
}

#[derive(Debug)]
pub(crate) struct Code {
    pub(crate) layout: Text,
    /// The range that the datasheet states.
    pub(crate) range: Option<At<(i128, i128)>>,
}

#[derive(Debug)]
pub(crate) struct Check {
    pub(crate) span: Span,
    pub(crate) method: Option<Method>,
    pub(crate) over: Text,
    pub(crate) place: Text,
}

#[derive(Debug)]
pub(crate) enum Method {
    Crc { width: At<i128>, poly: At<i128>, init: Option<At<i128>>, refin: bool, refout: bool, xorout: Option<At<i128>> },
    Model(Text),
    Sum { width: At<i128>, init: Option<At<i128>>, modulo: i128, then: &'static str },
    Xor(At<i128>),
    Parity(&'static str),
}

#[derive(Debug)]
pub(crate) struct Status {
    pub(crate) when: Text,
    pub(crate) is: At<&'static str>,
    pub(crate) means: Option<Text>,
}

#[derive(Debug)]
pub(crate) struct Reading {
    pub(crate) unit: Text,
    pub(crate) formula: Text,
    pub(crate) range: Option<At<(f64, f64)>>,
    pub(crate) status: Vec<Status>,
    pub(crate) means: Option<Text>,
}

#[derive(Debug)]
pub(crate) struct Parameter {
    pub(crate) default: At<f64>,
    pub(crate) unit: Option<Text>,
    pub(crate) range: Option<At<(f64, f64)>>,
    pub(crate) means: Option<Text>,
}

#[derive(Debug)]
pub(crate) struct Table {
    pub(crate) points: Vec<(f64, f64)>,
    pub(crate) outside: &'static str,
}

#[derive(Debug)]
pub(crate) struct Quantity {
    pub(crate) unit: Text,
    pub(crate) way: Way,
    pub(crate) difference: bool,
    pub(crate) moves: Option<Vec<Text>>,
    pub(crate) not_below: Option<Text>,
    pub(crate) means: Option<Text>,
}

/// How a quantity follows from fields.
#[derive(Debug)]
pub(crate) enum Way {
    Formula(Text),
    Through { reading: Text, code: Text },
}

#[derive(Debug)]
pub(crate) struct Step {
    pub(crate) span: Span,
    pub(crate) action: Action,
    pub(crate) when: Option<Text>,
    pub(crate) repeat: Option<At<i128>>,
    pub(crate) retry: Option<At<i128>>,
    pub(crate) every: Option<u64>,
    pub(crate) means: Option<Text>,
}

#[derive(Debug)]
pub(crate) enum Action {
    Write(Vec<u8>),
    Set { fields: Vec<Named<Choice>>, verify: bool },
    Read(Text),
    Wait { time: Time, tolerance: f64 },
    Poll { condition: Text, within: Time },
    Line { high: bool, within: Time },
    Expect(Text),
    Run(Text),
}

/// A time in microseconds, or a formula that gives milliseconds.
#[derive(Debug)]
pub(crate) enum Time {
    Fixed(u64),
    Formula(Text),
}

#[derive(Debug)]
pub(crate) struct Example {
    pub(crate) span: Span,
    pub(crate) source: Option<Text>,
    pub(crate) set: Vec<Named<Choice>>,
    /// Frame and its bytes.
    pub(crate) frames: Vec<Named<Text>>,
    /// Reading or code, and what it must give.
    pub(crate) gives: Vec<Named<Text>>,
    pub(crate) refused: Option<At<&'static str>>,
}

//! Responses as they come over the line.

use std::fmt;

use super::{AddressRange, without_crc};

/// How a response is wrapped.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Envelope {
    /// Over a serial line: unit, function, data, CRC.
    Rtu,
    /// Over TCP: a header of seven bytes in front, no CRC.
    Tcp {
        /// The transaction's number.
        transaction: u16,
    },
}

/// A good response.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Response<'a> {
    /// How it was wrapped.
    pub envelope: Envelope,
    /// Who answered.
    pub unit: u8,
    /// The data bytes.
    pub data: &'a [u8],
    /// Where they stand in the response.
    pub at: usize,
}

/// Why a response is refused.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum ResponseError {
    /// Fewer bytes than any response has, or than it says itself.
    TooShort {
        /// Bytes that it should have.
        expected: usize,
        /// Bytes that came.
        found: usize,
    },
    /// More bytes than it says itself.
    TooLong {
        /// Bytes that it should have.
        expected: usize,
        /// Bytes that came.
        found: usize,
    },
    /// The CRC of an RTU frame does not fit.
    Crc {
        /// What the bytes call for.
        expected: u16,
        /// What came.
        found: u16,
    },
    /// Another unit answered.
    Unit {
        /// The part's unit.
        expected: u8,
        /// Who answered.
        found: u8,
    },
    /// The answer is to another function.
    Function {
        /// The function that was asked for.
        expected: u8,
        /// The function that was answered.
        found: u8,
    },
    /// The answer has another amount of data.
    Count {
        /// Data bytes that were asked for.
        expected: usize,
        /// Data bytes that came.
        found: usize,
    },
    /// The answer to a write repeats another address, value or quantity.
    Echo,
    /// The part answered with an exception.
    Exception {
        /// The exception code.
        code: u8,
    },
}

/// The standard name of an exception code (section 7).
pub fn exception_name(code: u8) -> &'static str {
    match code {
        1 => "ILLEGAL FUNCTION",
        2 => "ILLEGAL DATA ADDRESS",
        3 => "ILLEGAL DATA VALUE",
        4 => "SERVER DEVICE FAILURE",
        5 => "ACKNOWLEDGE",
        6 => "SERVER DEVICE BUSY",
        8 => "MEMORY PARITY ERROR",
        10 => "GATEWAY PATH UNAVAILABLE",
        11 => "GATEWAY TARGET DEVICE FAILED TO RESPOND",
        _ => "not a standard exception",
    }
}

impl ResponseError {
    /// The cause in one or two words, for counting.
    pub fn cause(&self) -> &'static str {
        match self {
            ResponseError::TooShort { .. } => "too short",
            ResponseError::TooLong { .. } => "too long",
            ResponseError::Crc { .. } => "check failed",
            ResponseError::Exception { .. } => "exception",
            _ => "foreign",
        }
    }
}

impl fmt::Display for ResponseError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ResponseError::TooShort { expected, found } => write!(f, "too short: expected {expected} bytes, received {found}"),
            ResponseError::TooLong { expected, found } => write!(f, "too long: expected {expected} bytes, received {found}"),
            ResponseError::Crc { expected, found } => {
                write!(f, "CRC-16/MODBUS failed: computed 0x{expected:04X}, received 0x{found:04X}")?;
                if expected.swap_bytes() == *found { f.write_str("; its bytes are swapped: the low byte comes first") } else { Ok(()) }
            }
            ResponseError::Unit { expected, found } => write!(f, "foreign: unit {found} answered, not unit {expected}"),
            ResponseError::Function { expected, found } => write!(f, "foreign: an answer to function {found}, not to function {expected}"),
            ResponseError::Count { expected, found } => write!(f, "foreign: {found} data bytes, where {expected} were asked for"),
            ResponseError::Echo => f.write_str("foreign: the answer repeats another address, value or quantity than was written"),
            ResponseError::Exception { code } => write!(f, "the part answered with exception {code}: {}", exception_name(*code)),
        }
    }
}

impl std::error::Error for ResponseError {}

/// Reads a response to a request for `range`. A TCP header is known by its protocol number and its length; all
/// else is taken for RTU. Where `unit` is given, another's answer is refused.
///
/// ```
/// use yemdo::bus::modbus::{AddressRange, ModbusTable, read_response};
/// let range = AddressRange { table: ModbusTable::Holding, start: 10, count: 2 };
/// let response = read_response(&[0x11, 0x03, 0x04, 0x12, 0x34, 0x00, 0x07, 0xEE, 0x86], &range, Some(17)).unwrap();
/// assert_eq!(response.data, [0x12, 0x34, 0x00, 0x07]);
/// ```
///
/// # Errors
/// [`ResponseError`].
pub fn read_response<'a>(bytes: &'a [u8], range: &AddressRange, unit: Option<u8>) -> Result<Response<'a>, ResponseError> {
    let header: Option<&[u8; 7]> = bytes.first_chunk();
    let tcp = header.filter(|h| h[2] == 0 && h[3] == 0 && usize::from(u16::from_be_bytes([h[4], h[5]])) + 6 == bytes.len());
    let (envelope, answerer, body, before) = match tcp {
        Some(h) => (Envelope::Tcp { transaction: u16::from_be_bytes([h[0], h[1]]) }, h[6], bytes.get(7..).unwrap_or(&[]), 7),
        None => {
            let (unit, rest) = bytes.split_first().ok_or(ResponseError::TooShort { expected: 5, found: 0 })?;
            let exception = rest.first().is_some_and(|function| function & 0x80 != 0);
            let says = if exception { 5 } else { rest.get(1).map_or(5, |count| usize::from(*count) + 5) };
            let body = without_crc(bytes, says)?;
            if bytes.len() > says {
                return Err(ResponseError::TooLong { expected: says, found: bytes.len() });
            }
            (Envelope::Rtu, *unit, body.get(1..).unwrap_or(&[]), 1)
        }
    };
    if let Some(expected) = unit.filter(|unit| *unit != answerer) {
        return Err(ResponseError::Unit { expected, found: answerer });
    }
    let asked = range.table.read_function();
    let (function, rest) = body.split_first().ok_or(ResponseError::TooShort { expected: before + 2, found: bytes.len() })?;
    if function & 0x7F != asked {
        return Err(ResponseError::Function { expected: asked, found: function & 0x7F });
    }
    if function & 0x80 != 0 {
        return Err(ResponseError::Exception { code: rest.first().copied().unwrap_or(0) });
    }
    let (count, data) = rest.split_first().ok_or(ResponseError::TooShort { expected: before + 2, found: bytes.len() })?;
    if data.len() != usize::from(*count) {
        let expected = before + 2 + usize::from(*count);
        let found = bytes.len();
        return Err(if data.len() < usize::from(*count) {
            ResponseError::TooShort { expected, found }
        } else {
            ResponseError::TooLong { expected, found }
        });
    }
    if data.len() != range.bytes() {
        return Err(ResponseError::Count { expected: range.bytes(), found: data.len() });
    }
    Ok(Response { envelope, unit: answerer, data, at: before + 2 })
}

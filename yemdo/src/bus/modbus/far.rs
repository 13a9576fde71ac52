//! The far end of Modbus: what a request asks for, and the responses to it.

use super::response::ResponseError;
use super::{AddressRange, ModbusTable, with_crc, without_crc};

/// What a request asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum ModbusRequest {
    /// Functions 1 to 4.
    Read(AddressRange),
    /// Functions 6 and 16.
    WriteRegisters {
        /// Address of the first.
        start: u16,
        /// Their values.
        words: Vec<u16>,
    },
    /// Functions 5 and 15.
    WriteCoils {
        /// Address of the first.
        start: u16,
        /// Their values.
        coils: Vec<bool>,
    },
    /// Function 22: the bits of `and` stay, those of `or` that are not in it are set.
    MaskWrite {
        /// Its address.
        address: u16,
        /// The bits that stay.
        and: u16,
        /// The bits that are set.
        or: u16,
    },
    /// Function 23: registers are written, then others read.
    ReadWrite {
        /// What is read.
        read: AddressRange,
        /// Address of the first that is written.
        start: u16,
        /// Their values.
        words: Vec<u16>,
    },
}

/// Reads a request as it came over a serial line, with its CRC: the unit that it is for, and what it asks for.
///
/// ```
/// use yemdo::bus::modbus::{AddressRange, ModbusRequest, ModbusTable, parse_request, read_request};
/// let range = AddressRange { table: ModbusTable::Input, start: 30, count: 4 };
/// let sent = read_request(19, &range).bytes;
/// assert_eq!(parse_request(&sent), Ok((19, ModbusRequest::Read(range))));
/// ```
///
/// # Errors
/// [`ResponseError`]: a CRC that does not fit, too few bytes, a function or a quantity that there is not.
pub fn parse_request(bytes: &[u8]) -> Result<(u8, ModbusRequest), ResponseError> {
    let (unit, pdu) = unwrap_rtu(bytes)?;
    Ok((unit, parse_pdu(pdu)?))
}

/// The unit of an RTU frame, and its function and data; of a request or a response.
///
/// # Errors
/// [`ResponseError`]: too few bytes, or a CRC that does not fit.
pub fn unwrap_rtu(bytes: &[u8]) -> Result<(u8, &[u8]), ResponseError> {
    let short = ResponseError::TooShort { expected: 4, found: bytes.len() };
    without_crc(bytes, 4)?.split_first().map(|(unit, pdu)| (*unit, pdu)).ok_or(short)
}

/// Reads a request's function and data, as they are the same over a serial line and over TCP.
///
/// # Errors
/// [`ResponseError`]: too few bytes, a function or a quantity that there is not.
pub fn parse_pdu(pdu: &[u8]) -> Result<ModbusRequest, ResponseError> {
    let short = |expected: usize| ResponseError::TooShort { expected, found: pdu.len() };
    let &[function, a, b, c, d, ref rest @ ..] = pdu else { return Err(short(5)) };
    let (start, value) = (u16::from_be_bytes([a, b]), u16::from_be_bytes([c, d]));
    let foreign = ResponseError::Function { expected: 3, found: function };
    let table = match function {
        1 => Some(ModbusTable::Coils),
        2 => Some(ModbusTable::Discrete),
        3 => Some(ModbusTable::Holding),
        4 => Some(ModbusTable::Input),
        _ => None,
    };
    Ok(match (table, function) {
        (Some(table), _) if rest.is_empty() && (1..=table.most()).contains(&u32::from(value)) => {
            ModbusRequest::Read(AddressRange { table, start, count: value })
        }
        (None, 5) if rest.is_empty() && matches!(value, 0 | 0xFF00) => ModbusRequest::WriteCoils { start, coils: vec![value == 0xFF00] },
        (None, 6) if rest.is_empty() => ModbusRequest::WriteRegisters { start, words: vec![value] },
        (None, 15 | 16) => {
            let (count, data) = rest.split_first().ok_or(short(6))?;
            let wanted = if function == 16 { usize::from(value) * 2 } else { usize::from(value).div_ceil(8) };
            if data.len() != usize::from(*count) || data.len() != wanted || data.is_empty() {
                return Err(ResponseError::Count { expected: wanted, found: data.len() });
            }
            if function == 16 {
                ModbusRequest::WriteRegisters { start, words: words(data) }
            } else {
                let bit = |at: u16| data.get(usize::from(at / 8)).is_some_and(|byte| byte >> (at % 8) & 1 == 1);
                ModbusRequest::WriteCoils { start, coils: (0..value).map(bit).collect() }
            }
        }
        (None, 22) => match *rest {
            [e, f] => ModbusRequest::MaskWrite { address: start, and: value, or: u16::from_be_bytes([e, f]) },
            _ => return Err(short(7)),
        },
        (None, 23) => match *rest {
            [e, f, g, h, count, ref data @ ..] => {
                let (write_start, write_count) = (u16::from_be_bytes([e, f]), u16::from_be_bytes([g, h]));
                let wanted = usize::from(write_count) * 2;
                if data.len() != usize::from(count) || data.len() != wanted || data.is_empty() || !(1..=125).contains(&value) {
                    return Err(ResponseError::Count { expected: wanted, found: data.len() });
                }
                let read = AddressRange { table: ModbusTable::Holding, start, count: value };
                ModbusRequest::ReadWrite { read, start: write_start, words: words(data) }
            }
            _ => return Err(short(12)),
        },
        _ => return Err(foreign),
    })
}

fn words(data: &[u8]) -> Vec<u16> {
    data.chunks_exact(2).map(|pair| pair.iter().fold(0, |word, byte| (word << 8) | u16::from(*byte))).collect()
}

/// A good response to a read: RTU, with its CRC.
///
/// ```
/// use yemdo::bus::modbus::{AddressRange, ModbusTable, read_response, response};
/// let range = AddressRange { table: ModbusTable::Holding, start: 10, count: 2 };
/// let bytes = response(17, &range, &[0x12, 0x34, 0x00, 0x07]);
/// assert_eq!(read_response(&bytes, &range, Some(17)).unwrap().data, [0x12, 0x34, 0x00, 0x07]);
/// ```
pub fn response(unit: u8, range: &AddressRange, data: &[u8]) -> Vec<u8> {
    let mut bytes = vec![unit, range.table.read_function(), u8::try_from(data.len()).unwrap_or(u8::MAX)];
    bytes.extend(data);
    with_crc(bytes)
}

/// An exception in answer to a function: RTU, with its CRC.
pub fn exception_response(unit: u8, function: u8, code: u8) -> Vec<u8> {
    with_crc(vec![unit, function | 0x80, code])
}

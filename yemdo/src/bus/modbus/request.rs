//! Requests as they go over the line: RTU, and the same over TCP.

use super::{AddressRange, ModbusTable, crc, with_crc};

/// A request, with what each of its bytes means.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RequestBytes {
    /// The bytes as they go over the line.
    pub bytes: Vec<u8>,
    /// For runs of bytes: how many, and what they mean.
    pub meaning: Vec<(usize, String)>,
}

/// The bits of a request that reads a range: RTU, with its CRC.
///
/// ```
/// use yemdo::bus::modbus::{AddressRange, ModbusTable, read_request};
/// let range = AddressRange { table: ModbusTable::Holding, start: 10, count: 2 };
/// assert_eq!(read_request(17, &range).bytes, [0x11, 0x03, 0x00, 0x0A, 0x00, 0x02, 0xE6, 0x99]);
/// ```
pub fn read_request(unit: u8, range: &AddressRange) -> RequestBytes {
    let [start_high, start_low] = range.start.to_be_bytes();
    let [count_high, count_low] = range.count.to_be_bytes();
    let function = range.table.read_function();
    let bytes = vec![unit, function, start_high, start_low, count_high, count_low];
    let meaning = vec![
        (1, format!("unit {unit}")),
        (1, format!("function {function}: read {}", range.table.name())),
        (2, format!("from address {}", range.both_forms(0))),
        (2, format!("quantity {}", range.count)),
        (2, format!("CRC 0x{:04X}, low byte first", crc(&bytes))),
    ];
    RequestBytes { bytes: with_crc(bytes), meaning }
}

/// The bytes of a request of any function: RTU, with its CRC.
pub(super) fn request(unit: u8, function_and_data: &[u8]) -> Vec<u8> {
    with_crc([&[unit], function_and_data].concat())
}

/// The bits of a request that writes holding registers: RTU, with its CRC. One word goes with function 6, several with
/// function 16 (sections 6.6 and 6.12). `None` for no words, and for more than the 123 that one request can have.
///
/// ```
/// use yemdo::bus::modbus::write_request;
/// assert_eq!(write_request(17, 100, &[215]).unwrap().bytes, [0x11, 0x06, 0x00, 0x64, 0x00, 0xD7, 0x8A, 0xDB]);
/// ```
pub fn write_request(unit: u8, start: u16, words: &[u16]) -> Option<RequestBytes> {
    let count = u16::try_from(words.len()).ok().filter(|count| (1..=123).contains(count))?;
    let range = AddressRange { table: ModbusTable::Holding, start, count };
    let function = if words.len() == 1 { 6 } else { 16 };
    let mut bytes = vec![unit, function];
    bytes.extend(start.to_be_bytes());
    let mut meaning = vec![
        (1, format!("unit {unit}")),
        (1, format!("function {function}: write {}", if words.len() == 1 { "one holding register" } else { "holding registers" })),
        (2, format!("{} address {}", if words.len() == 1 { "at" } else { "from" }, range.both_forms(0))),
    ];
    if words.len() != 1 {
        bytes.extend(range.count.to_be_bytes());
        bytes.push(u8::try_from(words.len() * 2).ok()?);
        meaning.extend([(2, format!("quantity {}", words.len())), (1, format!("{} bytes follow", words.len() * 2))]);
    }
    bytes.extend(words.iter().flat_map(|word| word.to_be_bytes()));
    meaning.push((words.len() * 2, "the value".into()));
    meaning.push((2, format!("CRC 0x{:04X}, low byte first", crc(&bytes))));
    Some(RequestBytes { bytes: with_crc(bytes), meaning })
}

/// Writes coils: RTU, with its CRC. One goes with function 5, several with function 15 (sections 6.5 and 6.11). `None` for none, and for
/// more than the 1968 that one request can have.
///
/// ```
/// use yemdo::bus::modbus::{ModbusRequest, parse_request, write_coils_request};
/// let sent = write_coils_request(9, 20, &[true, false, true]).unwrap();
/// assert_eq!(parse_request(&sent), Ok((9, ModbusRequest::WriteCoils { start: 20, coils: vec![true, false, true] })));
/// ```
pub fn write_coils_request(unit: u8, start: u16, coils: &[bool]) -> Option<Vec<u8>> {
    let count = u16::try_from(coils.len()).ok().filter(|count| (1..=1968).contains(count))?;
    let mut bytes = vec![unit, if count == 1 { 5 } else { 15 }];
    bytes.extend(start.to_be_bytes());
    if let [on] = coils {
        bytes.extend([if *on { 0xFF } else { 0x00 }, 0x00]);
    } else {
        let packed = coils.chunks(8).map(|eight| eight.iter().rev().fold(0, |byte, on| (byte << 1) | u8::from(*on)));
        bytes.extend(count.to_be_bytes());
        bytes.push(u8::try_from(coils.len().div_ceil(8)).ok()?);
        bytes.extend(packed);
    }
    Some(with_crc(bytes))
}

/// Changes bits of a holding register, function 22 (section 6.16): those of `and` stay, those of `or` that are not in it are set.
pub fn mask_write_request(unit: u8, address: u16, and: u16, or: u16) -> Vec<u8> {
    let words = [address, and, or].into_iter().flat_map(u16::to_be_bytes);
    with_crc([unit, 22].into_iter().chain(words).collect())
}

/// Writes holding registers and then reads others, in one request, function 23 (section 6.17). `None` where it writes none or more than 121, or
/// reads none or more than 125.
pub fn read_write_request(unit: u8, read: &AddressRange, start: u16, words: &[u16]) -> Option<Vec<u8>> {
    let count = u16::try_from(words.len()).ok().filter(|count| (1..=121).contains(count))?;
    if read.table != ModbusTable::Holding || !(1..=125).contains(&read.count) {
        return None;
    }
    let mut bytes = vec![unit, 23];
    bytes.extend([read.start, read.count, start, count].into_iter().flat_map(u16::to_be_bytes));
    bytes.push(u8::try_from(words.len() * 2).ok()?);
    bytes.extend(words.iter().flat_map(|word| word.to_be_bytes()));
    Some(with_crc(bytes))
}

impl RequestBytes {
    /// The same request over TCP: a header in front, and no CRC.
    pub fn over_tcp(&self, transaction: u16) -> RequestBytes {
        let unit_and_body = self.bytes.get(..self.bytes.len().saturating_sub(2)).unwrap_or(&[]);
        let length = unit_and_body.len() as u16;
        let mut bytes = transaction.to_be_bytes().to_vec();
        bytes.extend([0, 0]);
        bytes.extend(length.to_be_bytes());
        bytes.extend(unit_and_body);
        let mut meaning =
            vec![(2, format!("transaction {transaction}")), (2, "protocol 0: Modbus".into()), (2, format!("{length} bytes follow"))];
        meaning.extend(self.meaning.iter().take(self.meaning.len().saturating_sub(1)).cloned());
        RequestBytes { bytes, meaning }
    }
}

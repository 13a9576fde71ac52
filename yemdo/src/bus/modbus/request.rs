//! Requests as they go over the line: RTU, and the same over TCP.

use super::{AddressRange, ModbusTable, crc, with_crc};

/// A request, with what each of its bytes means.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Request {
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
pub fn read_request(unit: u8, range: &AddressRange) -> Request {
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
    Request { bytes: with_crc(bytes), meaning }
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
pub fn write_request(unit: u8, start: u16, words: &[u16]) -> Option<Request> {
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
    Some(Request { bytes: with_crc(bytes), meaning })
}

impl Request {
    /// The same request over TCP: a header in front, and no CRC.
    pub fn over_tcp(&self, transaction: u16) -> Request {
        let unit_and_body = self.bytes.get(..self.bytes.len().saturating_sub(2)).unwrap_or(&[]);
        let length = unit_and_body.len() as u16;
        let mut bytes = transaction.to_be_bytes().to_vec();
        bytes.extend([0, 0]);
        bytes.extend(length.to_be_bytes());
        bytes.extend(unit_and_body);
        let mut meaning =
            vec![(2, format!("transaction {transaction}")), (2, "protocol 0: Modbus".into()), (2, format!("{length} bytes follow"))];
        meaning.extend(self.meaning.iter().take(self.meaning.len().saturating_sub(1)).cloned());
        Request { bytes, meaning }
    }
}

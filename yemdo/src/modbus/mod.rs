//! Modbus frames: addresses as they are printed, requests, and responses as they come over the line.
//!
//! After the Modbus Application Protocol Specification V1.1b3 (function codes, section 6; exceptions, section 7)
//! and the Modbus over Serial Line Specification V1.02 (RTU framing and CRC, section 2.5.1).

mod response;

use std::fmt;

use crate::bits::check::{Crc, MODELS};

pub use response::{Envelope, Response, ResponseError, exception_name, read_response};

/// How a datasheet prints the addresses of its registers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Numbering {
    /// As on the wire.
    FromZero,
    /// Counted from 1.
    FromOne,
    /// The table's digit and four more: 40001.
    FiveDigits,
    /// The table's digit and five more: 400001.
    SixDigits,
}

/// The four tables of a Modbus device.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Table {
    /// Coils: bits, read and written.
    Coils,
    /// Discrete inputs: bits, only read.
    Discrete,
    /// Input registers: words, only read.
    Input,
    /// Holding registers: words, read and written.
    Holding,
}

impl Table {
    /// The function code that reads it.
    pub fn read_function(self) -> u8 {
        match self {
            Table::Coils => 1,
            Table::Discrete => 2,
            Table::Holding => 3,
            Table::Input => 4,
        }
    }

    /// The digit in front of printed addresses.
    pub fn digit(self) -> u32 {
        match self {
            Table::Coils => 0,
            Table::Discrete => 1,
            Table::Input => 3,
            Table::Holding => 4,
        }
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Table::Coils => "coils",
            Table::Discrete => "discrete inputs",
            Table::Input => "input registers",
            Table::Holding => "holding registers",
        }
    }

    /// Whether it holds bits, not words.
    pub fn has_bits(self) -> bool {
        matches!(self, Table::Coils | Table::Discrete)
    }

    /// How many can be read in one request (section 6).
    pub fn most(self) -> u32 {
        if self.has_bits() { 2000 } else { 125 }
    }
}

/// A run of registers or coils.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Range {
    /// The table.
    pub table: Table,
    /// Address of the first, as on the wire.
    pub start: u16,
    /// How many.
    pub count: u16,
}

impl Range {
    /// Number of data bytes of a response.
    pub fn bytes(&self) -> usize {
        if self.table.has_bits() { usize::from(self.count).div_ceil(8) } else { usize::from(self.count) * 2 }
    }

    /// The address of one of them in both forms: as on the wire, and with the table's digit.
    pub fn both_forms(&self, index: u16) -> String {
        let wire = u32::from(self.start) + u32::from(index);
        let digits = if wire < 9_999 { 4 } else { 5 };
        format!("{wire} ({}{:0digits$} printed)", self.table.digit(), wire + 1)
    }
}

impl Numbering {
    /// The address on the wire of a printed one.
    ///
    /// # Errors
    /// What was expected, in words.
    pub fn wire(self, printed: u32, table: Table) -> Result<u16, String> {
        let base = match self {
            Numbering::FromZero => 0,
            Numbering::FromOne => 1,
            Numbering::FiveDigits => table.digit() * 10_000 + 1,
            Numbering::SixDigits => table.digit() * 100_000 + 1,
        };
        let end = match self {
            Numbering::FiveDigits => base + 9_998,
            _ => base + 65_535,
        };
        let in_table = (base..=end).contains(&printed);
        let wire = printed.checked_sub(base).filter(|_| in_table).and_then(|wire| u16::try_from(wire).ok());
        wire.ok_or_else(|| format!("{} are printed {base} to {end} here", table.name()))
    }
}

/// The CRC of RTU frames.
pub(crate) fn crc(bytes: &[u8]) -> u16 {
    let model = MODELS.iter().find(|(name, _)| *name == "CRC-16/MODBUS").map(|(_, model)| *model);
    model.map_or(0, |model| Crc::new(model).of(bytes) as u16)
}

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
/// use yemdo::modbus::{Range, Table, read_request};
/// let range = Range { table: Table::Holding, start: 10, count: 2 };
/// assert_eq!(read_request(17, &range).bytes, [0x11, 0x03, 0x00, 0x0A, 0x00, 0x02, 0xE6, 0x99]);
/// ```
pub fn read_request(unit: u8, range: &Range) -> Request {
    let [start_high, start_low] = range.start.to_be_bytes();
    let [count_high, count_low] = range.count.to_be_bytes();
    let function = range.table.read_function();
    let mut bytes = vec![unit, function, start_high, start_low, count_high, count_low];
    let crc = crc(&bytes);
    bytes.extend(crc.to_le_bytes());
    let meaning = vec![
        (1, format!("unit {unit}")),
        (1, format!("function {function}: read {}", range.table.name())),
        (2, format!("from address {}", range.both_forms(0))),
        (2, format!("{} of them", range.count)),
        (2, format!("CRC 0x{crc:04X}, low byte first")),
    ];
    Request { bytes, meaning }
}

/// The bytes of a request of any function: RTU, with its CRC.
pub(crate) fn request(unit: u8, function_and_data: &[u8]) -> Vec<u8> {
    let mut bytes = vec![unit];
    bytes.extend(function_and_data);
    let crc = crc(&bytes);
    bytes.extend(crc.to_le_bytes());
    bytes
}

/// The bits of a request that writes holding registers: RTU, with its CRC. One word goes with function 6, several with
/// function 16 (sections 6.6 and 6.12).
///
/// ```
/// use yemdo::modbus::write_request;
/// assert_eq!(write_request(17, 100, &[215]).bytes, [0x11, 0x06, 0x00, 0x64, 0x00, 0xD7, 0x8A, 0xDB]);
/// ```
pub fn write_request(unit: u8, start: u16, words: &[u16]) -> Request {
    let range = Range { table: Table::Holding, start, count: words.len() as u16 };
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
        bytes.push((words.len() * 2) as u8);
        meaning.extend([(2, format!("{} of them", words.len())), (1, format!("{} bytes follow", words.len() * 2))]);
    }
    bytes.extend(words.iter().flat_map(|word| word.to_be_bytes()));
    meaning.push((words.len() * 2, "the value".into()));
    let crc = crc(&bytes);
    bytes.extend(crc.to_le_bytes());
    meaning.push((2, format!("CRC 0x{crc:04X}, low byte first")));
    Request { bytes, meaning }
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

impl fmt::Display for Range {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = if self.count == 1 { self.table.name().trim_end_matches('s') } else { self.table.name() };
        write!(f, "{} {name} from {}", self.count, self.both_forms(0))
    }
}

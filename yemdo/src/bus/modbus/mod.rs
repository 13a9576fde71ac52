//! Modbus frames: addresses as they are printed, requests, and responses as they come over the line.
//!
//! After the Modbus Application Protocol Specification V1.1b3 (function codes, section 6; exceptions, section 7)
//! and the Modbus over Serial Line Specification V1.02 (RTU framing and CRC, section 2.5.1).

mod far;
mod request;
mod response;

use std::fmt;

use super::{AnswerError, Bus, Received, Transfer, Wire};
use crate::bits::check::{Crc, MODELS};
use crate::ground::words::counted;

pub use far::{ModbusRequest, exception_response, parse_pdu, parse_request, response, unwrap_rtu};
pub use request::{RequestBytes, mask_write_request, read_request, read_write_request, write_coils_request, write_request};
pub use response::{Envelope, Response, ResponseError, exception_name, read_response};

/// Whether a part can have this unit id: 0 is a broadcast, and those above 247 are reserved (Modbus over serial line, section 2.2).
pub(crate) fn is_unit(id: i128) -> bool {
    (1..=247).contains(&id)
}

/// The unit that is addressed where the sheet does not say.
const FIRST_UNIT: u8 = 1;

/// The Modbus side of a part.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Modbus {
    /// Unit id as delivered.
    pub unit: Option<u8>,
    /// How the datasheet prints addresses.
    pub numbering: Numbering,
    /// Bits a second, as delivered.
    pub baud: Option<u32>,
    /// Parity, as delivered.
    pub parity: Option<&'static str>,
    /// Stop bits, as delivered.
    pub stop: Option<u8>,
}

impl Modbus {
    /// The unit that requests go to: the sheet's, else the first.
    pub fn unit_or_first(&self) -> u8 {
        self.unit.unwrap_or(FIRST_UNIT)
    }

    /// The transfer that reads a range.
    pub fn read_range(&self, range: &AddressRange) -> Transfer {
        self.transfer(read_request(self.unit_or_first(), range).bytes, range.bytes() + 5)
    }

    fn transfer(&self, send: Vec<u8>, receive: usize) -> Transfer {
        Transfer { bus: Bus::Modbus, address: Some(self.unit_or_first()), send, receive, restart: false, discard: false }
    }
}

impl Wire for Modbus {
    fn fits(&self, address: u32) -> Result<(), String> {
        if address <= 0xFFFF { Ok(()) } else { Err("a Modbus address is 0 to 65535 on the wire".into()) }
    }

    fn write(&self, address: u32, data: &[u8]) -> Transfer {
        let words: Vec<u16> = data.chunks(2).map(|pair| pair.iter().fold(0, |word, byte| (word << 8) | u16::from(*byte))).collect();
        let start = u16::try_from(address).unwrap_or(u16::MAX);
        let request = write_request(self.unit_or_first(), start, &words);
        self.transfer(request.map_or(Vec::new(), |request| request.bytes), 8)
    }

    fn read(&self, address: u32, bytes: usize, _several: bool) -> Vec<Transfer> {
        let start = u16::try_from(address).unwrap_or(u16::MAX);
        let count = u16::try_from(bytes / 2).unwrap_or(u16::MAX);
        vec![self.read_range(&AddressRange { table: ModbusTable::Holding, start, count })]
    }

    fn send(&self, bytes: &[u8], receive: usize) -> Vec<Transfer> {
        vec![self.transfer(request::request(self.unit_or_first(), bytes), receive.max(8))]
    }

    /// Of a read, the data of its response; of a write, nothing, and its exception is an error.
    fn data<'a>(&self, transfer: &Transfer, answer: &'a [u8]) -> Result<&'a [u8], AnswerError> {
        match parse_request(&transfer.send) {
            Ok((_, ModbusRequest::Read(range))) => {
                read_response(answer, &range, self.unit).map(|response| response.data).map_err(AnswerError::Response)
            }
            _ => match *answer {
                [_, function, code, _, _] if function & 0x80 != 0 => Err(AnswerError::Response(ResponseError::Exception { code })),
                // It repeats unit, function, address, and value or quantity (sections 6.5, 6.6, 6.11, 6.12).
                _ => written(&transfer.send, answer).map(|()| &[] as &[u8]).map_err(AnswerError::Response),
            },
        }
    }

    fn received(&self, sent: &[u8], _receive: usize) -> Result<Received, String> {
        let (unit, request) = parse_request(sent).map_err(|error| error.to_string())?;
        if unit != self.unit_or_first() {
            return Err(format!("unit {unit} is addressed, not unit {}", self.unit_or_first()));
        }
        Ok(match request {
            ModbusRequest::Read(range) if range.table == ModbusTable::Holding => {
                Received::Read { address: u32::from(range.start), bytes: range.bytes() }
            }
            ModbusRequest::WriteRegisters { start, words } => {
                Received::Write { address: u32::from(start), data: words.iter().flat_map(|word| word.to_be_bytes()).collect() }
            }
            ModbusRequest::Read(range) => {
                Received::Command { bytes: sent.get(1..sent.len() - 2).unwrap_or(&[]).to_vec(), receive: range.bytes() }
            }
            ModbusRequest::WriteCoils { .. } | ModbusRequest::MaskWrite { .. } | ModbusRequest::ReadWrite { .. } => {
                Received::Command { bytes: sent.get(1..sent.len() - 2).unwrap_or(&[]).to_vec(), receive: 0 }
            }
        })
    }

    fn describe(&self) -> Vec<String> {
        let mut how = vec![self.unit.map_or("unit id not told".to_owned(), |unit| format!("unit {unit}"))];
        how.extend(self.baud.map(|baud| format!("{baud} baud")));
        how.extend(self.parity.map(|parity| format!("8 bits, {} parity", if parity == "none" { "no" } else { parity })));
        how.extend(self.stop.map(|stop| counted(usize::from(stop), "stop bit")));
        vec![format!("Modbus {}", how.join(", "))]
    }

    fn usual_rate(&self) -> u32 {
        self.baud.unwrap_or(19_200)
    }
}

/// Whether an answer is that to a write.
fn written(sent: &[u8], answer: &[u8]) -> Result<(), ResponseError> {
    let body = without_crc(answer, 8)?;
    match (sent, body) {
        (_, [_, _, _, _, _, _, _, ..]) => Err(ResponseError::TooLong { expected: 8, found: answer.len() }),
        ([unit, ..], [from, ..]) if unit != from => Err(ResponseError::Unit { expected: *unit, found: *from }),
        ([_, asked, ..], [_, function, ..]) if asked != function => Err(ResponseError::Function { expected: *asked, found: *function }),
        _ if sent.starts_with(body) => Ok(()),
        _ => Err(ResponseError::Echo),
    }
}

/// How a datasheet prints the addresses of its registers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
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
pub enum ModbusTable {
    /// Coils: bits, read and written.
    Coils,
    /// Discrete inputs: bits, only read.
    Discrete,
    /// Input registers: words, only read.
    Input,
    /// Holding registers: words, read and written.
    Holding,
}

impl ModbusTable {
    /// The function code that reads it.
    pub fn read_function(self) -> u8 {
        match self {
            ModbusTable::Coils => 1,
            ModbusTable::Discrete => 2,
            ModbusTable::Holding => 3,
            ModbusTable::Input => 4,
        }
    }

    /// The digit in front of printed addresses.
    pub fn digit(self) -> u32 {
        match self {
            ModbusTable::Coils => 0,
            ModbusTable::Discrete => 1,
            ModbusTable::Input => 3,
            ModbusTable::Holding => 4,
        }
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            ModbusTable::Coils => "coils",
            ModbusTable::Discrete => "discrete inputs",
            ModbusTable::Input => "input registers",
            ModbusTable::Holding => "holding registers",
        }
    }

    /// Whether it holds bits, not words.
    pub fn has_bits(self) -> bool {
        matches!(self, ModbusTable::Coils | ModbusTable::Discrete)
    }

    /// How many can be read in one request (section 6).
    pub fn most(self) -> u32 {
        if self.has_bits() { 2000 } else { 125 }
    }
}

/// A run of registers or coils.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AddressRange {
    /// The table.
    pub table: ModbusTable,
    /// Address of the first, as on the wire.
    pub start: u16,
    /// How many.
    pub count: u16,
}

impl AddressRange {
    /// Number of data bytes of a response.
    pub fn bytes(&self) -> usize {
        if self.table.has_bits() { usize::from(self.count).div_ceil(8) } else { usize::from(self.count) * 2 }
    }

    /// The address of one of them in both forms: as on the wire, and with the table's digit.
    pub fn both_forms(&self, index: u16) -> String {
        let wire = u32::from(self.start) + u32::from(index);
        let digits = if wire < 9_999 { 4 } else { 5 };
        format!("{wire} (number {}{:0digits$})", self.table.digit(), wire + 1)
    }
}

impl Numbering {
    /// The address on the wire of a printed one.
    ///
    /// # Errors
    /// What was expected, in words.
    pub fn wire(self, printed: u32, table: ModbusTable) -> Result<u16, String> {
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

impl fmt::Display for AddressRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = if self.count == 1 { self.table.name().trim_end_matches('s') } else { self.table.name() };
        write!(f, "{} {name} from {}", self.count, self.both_forms(0))
    }
}

/// The CRC of RTU frames (Modbus over Serial Line V1.02, section 2.5.1.2).
fn crc(bytes: &[u8]) -> u16 {
    let model = MODELS.iter().find(|(name, _)| *name == "CRC-16/MODBUS").map(|(_, model)| *model);
    model.map_or(0, |model| Crc::new(model).of(bytes) as u16)
}

/// Puts the CRC behind a frame, low byte first.
pub fn with_crc(mut frame: Vec<u8>) -> Vec<u8> {
    let crc = crc(&frame);
    frame.extend(crc.to_le_bytes());
    frame
}

/// A frame of at least so many bytes without its CRC, which has to fit.
pub(crate) fn without_crc(bytes: &[u8], least: usize) -> Result<&[u8], ResponseError> {
    let short = ResponseError::TooShort { expected: least, found: bytes.len() };
    let (body, sum) = bytes.split_last_chunk::<2>().filter(|_| bytes.len() >= least).ok_or(short)?;
    let (expected, found) = (crc(body), u16::from_le_bytes(*sum));
    if expected == found { Ok(body) } else { Err(ResponseError::Crc { expected, found }) }
}

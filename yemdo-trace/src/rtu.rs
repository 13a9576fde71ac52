//! Modbus RTU: characters to frames by silence, and frames to requests with their responses.

use yemdo::bus::modbus::{parse_pdu, unwrap_rtu, with_crc};
use yemdo::bus::{Bus, Transfer};
use yemdo::record::Traffic;
use yemdo::trace::Transaction;

use crate::capture::{Captured, Item};
use crate::edges::{SerialByte, micros};
use crate::options::Serial;

/// Frames of a serial line, of both directions.
#[derive(Clone, Debug)]
pub(crate) struct Frames {
    /// Silence that ends a frame.
    silence: u64,
    line: usize,
    at: u64,
    end: u64,
    bytes: Vec<u8>,
    pairs: Pairs,
}

/// Times of requests and responses in microseconds.
#[derive(Clone, Debug, Default)]
pub(crate) struct Pairs {
    pending: Option<(u64, u64, Vec<u8>)>,
}

/// The longest frame (Modbus over Serial Line V1.02, section 2.5.1.1).
const LONGEST: usize = 256;

impl Frames {
    pub(crate) fn new(form: Serial) -> Self {
        // 3.5 characters of 11 bits; above 19 200 baud, 1.75 ms (section 2.5.1.1). A tenth less, for clocks that differ.
        let bit = 1_000_000_000_000 / u64::from(form.baud.max(1));
        let silence = if form.baud > 19_200 { 1_750_000_000 } else { bit * 77 / 2 };
        Self { silence: silence * 9 / 10, line: 0, at: 0, end: 0, bytes: Vec::new(), pairs: Pairs::default() }
    }

    /// Takes a character of a line. Returns the items that end before it.
    pub(crate) fn byte(&mut self, line: usize, byte: SerialByte) -> Vec<Item> {
        let ends = line != self.line || byte.at.saturating_sub(self.end) >= self.silence || self.bytes.len() > LONGEST;
        let found = if ends { self.finish() } else { Vec::new() };
        if self.bytes.is_empty() {
            (self.line, self.at) = (line, byte.at);
        }
        self.end = byte.end;
        self.bytes.push(byte.byte);
        found
    }

    fn finish(&mut self) -> Vec<Item> {
        let bytes = std::mem::take(&mut self.bytes);
        if bytes.is_empty() { Vec::new() } else { self.pairs.frame(micros(self.at), micros(self.end), bytes, 0) }
    }

    pub(crate) fn end(&mut self) -> Vec<Item> {
        let mut found = self.finish();
        found.extend(self.pairs.end());
        found
    }
}

impl Pairs {
    /// Takes a frame with its CRC: a request, or the response to the one before.
    pub(crate) fn frame(&mut self, at: u64, end: u64, bytes: Vec<u8>, line: u64) -> Vec<Item> {
        let parsed = unwrap_rtu(&bytes).map(|(unit, pdu)| (unit, pdu.to_vec()));
        let Some((asked, ended, request)) = self.pending.take() else {
            return match parsed {
                Ok((unit, pdu)) => self.begin(at, end, bytes, unit, &pdu, line),
                Err(error) => vec![Item::damaged(at, format!("{} bytes that are no Modbus frame: {error}", bytes.len()), bytes, line)],
            };
        };
        let (unit, function) = (request.first().copied().unwrap_or(0), request.get(1).copied().unwrap_or(0));
        // A read that is sent again is no response to itself.
        let again = bytes == request && matches!(function, 1..=4 | 23);
        let answers = match &parsed {
            Ok(_) if again => false,
            Ok((from, pdu)) => *from == unit && pdu.first().is_some_and(|first| first & 0x7F == function & 0x7F),
            // A damaged frame in the place of a response.
            Err(_) => true,
        };
        if answers {
            return vec![Item::Transfer(pair(asked, at, end, request, Ok(bytes), line))];
        }
        let mut found = vec![Item::Transfer(pair(asked, ended, ended, request, Err("no response".into()), line))];
        if let Ok((unit, pdu)) = parsed {
            found.extend(self.begin(at, end, bytes, unit, &pdu, line));
        }
        found
    }

    /// A frame that is no response: a request, or one whose request was not captured.
    fn begin(&mut self, at: u64, end: u64, bytes: Vec<u8>, unit: u8, pdu: &[u8], line: u64) -> Vec<Item> {
        if parse_pdu(pdu).is_err() && pdu.first().is_some_and(|function| function & 0x80 != 0 || matches!(function, 1..=4 | 23)) {
            return vec![Item::damaged(at, "a response without its request".into(), bytes, line)];
        }
        // A broadcast has no response.
        if unit == 0 {
            return vec![Item::Transfer(pair(at, end, end, bytes, Ok(Vec::new()), line))];
        }
        self.pending = Some((at, end, bytes));
        Vec::new()
    }

    pub(crate) fn end(&mut self) -> Option<Item> {
        let (at, end, request) = self.pending.take()?;
        Some(Item::Transfer(pair(at, end, end, request, Err("no response".into()), 0)))
    }
}

/// Printed bytes as an RTU frame: with a CRC that fits, or with the header of Modbus TCP. `None` for other bytes.
pub(crate) fn whole_frame(bytes: &[u8]) -> Option<Vec<u8>> {
    if unwrap_rtu(bytes).is_ok() {
        return Some(bytes.to_vec());
    }
    // Transaction, protocol 0, length (Modbus Messaging on TCP/IP V1.0b, section 3.1.3).
    let (header, rest) = bytes.split_at_checked(6)?;
    let length = usize::from(u16::from_be_bytes([*header.get(4)?, *header.get(5)?]));
    (header.get(2..4) == Some(&[0, 0]) && length == rest.len() && length >= 2).then(|| with_crc(rest.to_vec()))
}

/// A request with its response; both are RTU frames.
pub(crate) fn pair(at: u64, answered: u64, end: u64, request: Vec<u8>, response: Result<Vec<u8>, String>, line: u64) -> Captured {
    let receive = response.as_ref().map_or(1, Vec::len);
    let transfer = Transfer { bus: Bus::Modbus, address: request.first().copied(), send: request, receive, restart: false, discard: false };
    Captured::new(Transaction::new(Traffic { at, transfer, outcome: response }, answered, end, None), line)
}

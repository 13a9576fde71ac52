//! One transfer over a bus: its bytes, its time, its answer, and what the far end makes of it.

use std::fmt;
use std::fmt::Write as _;

use super::Bus;
use super::modbus::ResponseError;
use crate::ground::words::counted;

/// One transfer: what is sent, and how many bytes come back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Transfer {
    /// The bus.
    pub bus: Bus,
    /// For I2C the 7-bit address, for Modbus the unit; for SPI nothing.
    pub address: Option<u8>,
    /// The bytes that are sent: for I2C behind the address byte, for Modbus the whole request with its CRC.
    pub send: Vec<u8>,
    /// How many bytes come back: for SPI behind those that are sent, for Modbus the whole response.
    pub receive: usize,
    /// For I2C, between sending and receiving: a repeated start, else stop and start.
    pub restart: bool,
    /// What comes back is not the answer yet; that comes with the next transfer.
    pub discard: bool,
}

impl Transfer {
    /// The bytes on the wire in words people use: `0x51 W 01 70`, and `R 2 bytes` for what comes back.
    pub fn text(&self) -> String {
        let hex = crate::ground::hex::to_hex(&self.send);
        match (self.bus, self.address) {
            (Bus::I2c, Some(address)) => {
                let mut text = format!("0x{address:02X}");
                if !self.send.is_empty() {
                    let _ = write!(text, " W {hex}");
                }
                if self.send.is_empty() && self.receive == 0 {
                    text.push_str(" alone");
                }
                if self.receive > 0 {
                    let between = if self.send.is_empty() || self.restart { "" } else { " stop," };
                    let _ = write!(text, "{between} R {}", counted(self.receive, "byte"));
                }
                text
            }
            (_, _) if self.receive > 0 && self.send.is_empty() => format!("{} in", counted(self.receive, "byte")),
            (_, _) if self.receive > 0 => format!("{hex}, {} in", counted(self.receive, "byte")),
            _ => hex,
        }
    }

    /// How long it takes at so many bits a second, in microseconds.
    pub fn micros(&self, bits_per_second: u32) -> u64 {
        (self.bus.bits(self.send.len(), self.receive) * 1_000_000).div_ceil(u64::from(bits_per_second.max(1)))
    }

    /// As many bytes as are expected, or why not.
    pub(crate) fn whole<'a>(&self, answer: &'a [u8]) -> Result<&'a [u8], AnswerError> {
        if answer.len() == self.receive { Ok(answer) } else { Err(AnswerError::Length { expected: self.receive, found: answer.len() }) }
    }
}

/// Something to be done with a bus, or to be waited for.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Operation {
    /// A transfer.
    Transfer(Transfer),
    /// So many microseconds are waited.
    Wait(u64),
    /// From here on the line has another speed, in bits a second.
    Baud(u32),
    /// The data-ready line is waited for.
    Line {
        /// The level.
        high: bool,
        /// The longest time, in microseconds.
        within: u64,
    },
}

impl Operation {
    /// It in words: `I2C 0x51 W 01 70`, `wait 7 ms`. `time` writes microseconds.
    pub fn text(&self, time: impl Fn(u64) -> String) -> String {
        match self {
            Operation::Transfer(transfer) => format!("{} {}", transfer.bus.name(), transfer.text()),
            Operation::Wait(micros) => format!("wait {}", time(*micros)),
            Operation::Baud(baud) => format!("line at {baud} baud"),
            Operation::Line { high, within } => format!("line {}, within {}", if *high { "high" } else { "low" }, time(*within)),
        }
    }
}

/// Why what came back is not an answer.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum AnswerError {
    /// Too few or too many bytes.
    Length {
        /// Bytes that were asked for.
        expected: usize,
        /// Bytes that came.
        found: usize,
    },
    /// Not a good Modbus response.
    Response(ResponseError),
}

impl fmt::Display for AnswerError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            AnswerError::Length { expected, found } => write!(f, "expected {}, got {found}", counted(*expected, "byte")),
            AnswerError::Response(error) => error.fmt(f),
        }
    }
}

impl std::error::Error for AnswerError {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        if let AnswerError::Response(error) = self { Some(error) } else { None }
    }
}

/// What the far end of a bus received.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Received {
    /// Bytes for a register address, and for those behind it.
    Write {
        /// The address.
        address: u32,
        /// The bytes.
        data: Vec<u8>,
    },
    /// Bytes are wanted, from a register address on.
    Read {
        /// The address.
        address: u32,
        /// How many.
        bytes: usize,
    },
    /// Something that names no register: a command, or nothing before a read.
    Command {
        /// What was sent.
        bytes: Vec<u8>,
        /// How many bytes are wanted.
        receive: usize,
    },
}

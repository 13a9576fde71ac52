//! Traffic of a bus as text: one operation a line, with its time, bytes and answer. Written and read.
//!
//! ```text
//! # yemdo traffic 1
//! 0.000000 i2c 0x2C W 5A 10
//! 0.015412 i2c 0x2C R 7 = 89 87 1C 3E 0C 12 24
//! 0.031000 i2c 0x2C W 31 R 3 ! address not acknowledged
//! ```
//!
//! Seconds; the bus; for I2C the 7-bit address, for Modbus the unit; `W` and the bytes that were sent; `R` and how many were wanted; behind
//! `=` those that came, behind `!` what went wrong. Lines that begin with `#` are comments.

use std::fmt;

use crate::bus::{Bus, Transfer};
use crate::ground::hex::{parse_hex, parse_integer, to_hex};

/// The first line of a recording.
pub const TRAFFIC_HEADER: &str = "# yemdo traffic 1";

/// One operation of a recording.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Traffic {
    /// Microseconds since the beginning.
    pub at: u64,
    /// Bytes sent, and number of bytes wanted. In a capture of SPI, `send` has all bytes that were clocked out, and `outcome` all that
    /// came back: only the sheet knows where the answer begins.
    pub transfer: Transfer,
    /// The bytes that came, or what went wrong.
    pub outcome: Result<Vec<u8>, String>,
}

impl fmt::Display for Traffic {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let transfer = &self.transfer;
        write!(f, "{}.{:06} {}", self.at / 1_000_000, self.at % 1_000_000, transfer.bus.key())?;
        match (transfer.bus, transfer.address) {
            (Bus::I2c, Some(address)) => write!(f, " 0x{address:02X}")?,
            (_, Some(unit)) => write!(f, " {unit}")?,
            (_, None) => {}
        }
        if !transfer.send.is_empty() {
            write!(f, " W {}", to_hex(&transfer.send))?;
        }
        if transfer.receive > 0 {
            write!(f, " R {}", transfer.receive)?;
        }
        match &self.outcome {
            Ok(bytes) if bytes.is_empty() => Ok(()),
            Ok(bytes) => write!(f, " = {}", to_hex(bytes)),
            Err(error) => write!(f, " ! {}", error.replace('\n', " ")),
        }
    }
}

impl Traffic {
    /// A transfer at a time, in microseconds since the beginning, with its answer or error.
    pub fn new(at: u64, transfer: &Transfer, outcome: Result<&[u8], &dyn fmt::Display>) -> Self {
        let outcome = outcome.map(<[u8]>::to_vec).map_err(ToString::to_string);
        Self { at, transfer: transfer.clone(), outcome }
    }

    /// Reads a line; `None` for an empty one and a comment.
    ///
    /// ```
    /// use yemdo::record::Traffic;
    /// let line = "0.015412 i2c 0x2C R 7 = 89 87 1C 3E 0C 12 24";
    /// let traffic = Traffic::parse(line)?.unwrap();
    /// assert_eq!((traffic.at, traffic.transfer.receive), (15412, 7));
    /// assert_eq!(traffic.to_string(), line);
    /// # Ok::<(), String>(())
    /// ```
    ///
    /// # Errors
    /// What was expected, in words.
    pub fn parse(line: &str) -> Result<Option<Traffic>, String> {
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            return Ok(None);
        }
        let (asked, outcome) = match (line.split_once(" = "), line.split_once(" ! ")) {
            (_, Some((asked, error))) => (asked, Err(error.to_owned())),
            (Some((asked, bytes)), None) => (asked, Ok(parse_hex(bytes).map_err(|error| error.to_string())?)),
            (None, None) => (line, Ok(Vec::new())),
        };
        let mut words = asked.split_whitespace().peekable();
        let at = words.next().and_then(micros).ok_or("expected seconds first, such as 0.015412")?;
        let bus = words.next().and_then(Bus::of_key).ok_or("expected a bus: i2c, spi or modbus")?;
        let address = match bus {
            Bus::Spi => None,
            _ => {
                let typed = words.next().ok_or("expected an address")?;
                Some(parse_integer(typed).and_then(|address| u8::try_from(address).ok()).ok_or(format!("`{typed}` is not an address"))?)
            }
        };
        let (mut send, mut receive) = (Vec::new(), 0);
        while let Some(word) = words.next() {
            match word {
                "W" => {
                    while let Some(byte) = words.next_if(|word| word.len() == 2 && u8::from_str_radix(word, 16).is_ok()) {
                        send.push(u8::from_str_radix(byte, 16).unwrap_or(0));
                    }
                }
                "R" => {
                    let count = words.next().and_then(|count| count.parse().ok()).filter(|count| *count <= 1 << 16);
                    receive = count.ok_or("expected the number of bytes behind R")?;
                }
                other => return Err(format!("expected W, R, = or !, not `{other}`")),
            }
        }
        let transfer = Transfer { bus, address, send, receive, restart: true, discard: false };
        Ok(Some(Traffic { at, transfer, outcome }))
    }

    /// Whether a transfer is the one that was recorded.
    pub fn is(&self, transfer: &Transfer) -> bool {
        let known = &self.transfer;
        (known.bus, known.address, &known.send) == (transfer.bus, transfer.address, &transfer.send)
            && (known.receive == transfer.receive || known.bus == Bus::Modbus)
    }
}

/// Seconds with up to six decimals, as microseconds.
fn micros(text: &str) -> Option<u64> {
    let (whole, decimals) = text.split_once('.').unwrap_or((text, ""));
    if decimals.len() > 6 || !decimals.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let fraction: u64 = format!("{decimals:0<6}").parse().ok()?;
    whole.parse::<u64>().ok()?.checked_mul(1_000_000)?.checked_add(fraction)
}

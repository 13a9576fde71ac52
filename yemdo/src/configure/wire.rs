//! What goes over the bus: the bytes of writes and reads, for I2C, SPI and Modbus.

use std::fmt::Write as _;

use crate::modbus::{self, Range, Table};
use crate::model::part::{Frame, Origin, Part};
use crate::model::registers::Register;

/// A bus that a part can be reached over.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Bus {
    /// I2C or SMBus.
    I2c,
    /// SPI.
    Spi,
    /// Modbus over a serial line (RTU).
    Modbus,
}

impl Bus {
    /// The buses that the sheet describes.
    pub fn of(part: &Part) -> Vec<Bus> {
        let all = [(part.i2c.is_some(), Bus::I2c), (part.spi.is_some(), Bus::Spi), (part.modbus.is_some(), Bus::Modbus)];
        all.into_iter().filter(|(there, _)| *there).map(|(_, bus)| bus).collect()
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Bus::I2c => "I2C",
            Bus::Spi => "SPI",
            Bus::Modbus => "Modbus",
        }
    }
}

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
}

impl Transfer {
    /// The bytes on the wire in words people use: `0x51 W 01 70`, and `R 2 bytes` for what comes back.
    pub fn text(&self) -> String {
        let hex = crate::bits::hex::to_hex(&self.send);
        match (self.bus, self.address) {
            (Bus::I2c, Some(address)) => {
                let mut text = format!("0x{address:02X}");
                if !self.send.is_empty() {
                    let _ = write!(text, " W {hex}");
                }
                if self.receive > 0 {
                    let between = if self.send.is_empty() || self.restart { "" } else { " stop," };
                    let _ = write!(text, "{between} R {}", counted(self.receive));
                }
                text
            }
            (_, _) if self.receive > 0 && self.send.is_empty() => format!("{} in", counted(self.receive)),
            (_, _) if self.receive > 0 => format!("{hex}, {} in", counted(self.receive)),
            _ => hex,
        }
    }

    /// How long it takes at so many bits a second, in microseconds: nine bits a byte on I2C, eight on SPI, eleven on
    /// a serial line.
    pub fn micros(&self, bits_per_second: u32) -> u64 {
        let bytes = (self.send.len() + self.receive) as u64;
        let bits = match self.bus {
            // Address bytes, and start and stop.
            Bus::I2c => (bytes + u64::from(!self.send.is_empty()) + u64::from(self.receive > 0)) * 9 + 2,
            Bus::Spi => bytes * 8,
            // Between frames the line is silent for 3.5 characters (Modbus over Serial Line V1.02, section 2.5.1.1).
            Bus::Modbus => (bytes + 7) * 11,
        };
        (bits * 1_000_000).div_ceil(u64::from(bits_per_second.max(1)))
    }
}

fn counted(bytes: usize) -> String {
    if bytes == 1 { "1 byte".into() } else { format!("{bytes} bytes") }
}

/// Text for a program's source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Paste {
    /// C99.
    C,
    /// Rust.
    Rust,
    /// Hex bytes.
    Hex,
}

impl Paste {
    /// Bytes under a name.
    pub fn text(self, name: &str, bytes: &[u8]) -> String {
        let list: Vec<String> = bytes.iter().map(|byte| format!("0x{byte:02X}")).collect();
        let plain: String = name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
        match self {
            Paste::C => format!("static const uint8_t {}[{}] = {{ {} }};", plain.to_lowercase(), bytes.len(), list.join(", ")),
            Paste::Rust => format!("const {}: [u8; {}] = [{}];", plain.to_uppercase(), bytes.len(), list.join(", ")),
            Paste::Hex => crate::bits::hex::to_hex(bytes),
        }
    }
}

/// The bytes that go before register data: the address in as many bytes as the bus has for it.
fn pointer(width: u32, value: u32) -> Vec<u8> {
    let all = value.to_be_bytes();
    all.get(4 - (width as usize / 8).min(4)..).unwrap_or(&[]).to_vec()
}

/// Writes a value into a register.
pub fn write_register(part: &Part, bus: Bus, register: &Register, value: u64) -> Transfer {
    let data = register.wire_bytes(value);
    let before = match bus {
        Bus::I2c => part.i2c.as_ref().map(|i2c| pointer(i2c.pointer, register.at)),
        Bus::Spi => part.spi.as_ref().map(|spi| pointer(spi.pointer, (register.at << spi.shift) | spi.write)),
        Bus::Modbus => {
            let words: Vec<u16> = data.chunks(2).map(|pair| pair.iter().fold(0, |word, byte| (word << 8) | u16::from(*byte))).collect();
            let send = modbus::write_request(unit(part), register.at as u16, &words).bytes;
            return Transfer { bus, address: Some(unit(part)), send, receive: 8, restart: false };
        }
    };
    plain(part, bus, &[before.unwrap_or_default(), data].concat(), 0)
}

/// The unit that a Modbus part is; the first where the sheet does not say.
fn unit(part: &Part) -> u8 {
    part.modbus.as_ref().and_then(|modbus| modbus.unit).unwrap_or(1)
}

/// Reads registers that follow one another.
pub fn read_registers(part: &Part, bus: Bus, registers: &[&Register]) -> Transfer {
    let bytes: usize = registers.iter().map(|register| register.bytes).sum();
    let at = registers.first().map_or(0, |register| register.at);
    let many = registers.len() > 1;
    match bus {
        Bus::I2c => {
            let Some(i2c) = &part.i2c else { return plain(part, bus, &[], bytes) };
            plain(part, bus, &pointer(i2c.pointer, at | if many { i2c.increment } else { 0 }), bytes)
        }
        Bus::Spi => {
            let Some(spi) = &part.spi else { return plain(part, bus, &[], bytes) };
            let address = (at << spi.shift) | spi.read | if many { spi.increment } else { 0 };
            plain(part, bus, &pointer(spi.pointer, address), bytes)
        }
        Bus::Modbus => read_range(part, &Range { table: Table::Holding, start: at as u16, count: (bytes / 2) as u16 }),
    }
}

fn read_range(part: &Part, range: &Range) -> Transfer {
    let send = modbus::read_request(unit(part), range).bytes;
    Transfer { bus: Bus::Modbus, address: Some(unit(part)), send, receive: range.bytes() + 5, restart: false }
}

/// Sends bytes as they are (over Modbus, with unit and CRC around them), and receives.
pub fn plain(part: &Part, bus: Bus, send: &[u8], receive: usize) -> Transfer {
    let (address, restart) = match bus {
        Bus::I2c => (part.i2c.as_ref().map(|i2c| i2c.address), part.i2c.as_ref().is_none_or(|i2c| i2c.restart)),
        Bus::Spi => (None, false),
        Bus::Modbus => {
            // What is sent is the request's function and data; unit and CRC are put around it.
            let send = modbus::request(unit(part), send);
            return Transfer { bus, address: Some(unit(part)), send, receive: receive.max(8), restart: false };
        }
    };
    let dummy = part.spi.as_ref().filter(|_| bus == Bus::Spi && receive > 0).map_or(0, |spi| spi.dummy);
    let mut send = send.to_vec();
    send.extend(std::iter::repeat_n(0, dummy));
    Transfer { bus, address, send, receive, restart }
}

/// The transfers that read a frame; their answers, one behind the other, are its bytes. Where the part answers in the
/// next transfer, the first is only there to ask.
pub fn read_frame(part: &Part, bus: Bus, frame: &Frame) -> Vec<Transfer> {
    let mut transfers = match &frame.origin {
        Origin::Read { command } => vec![plain(part, bus, command, frame.length)],
        Origin::Transfers(list) => list.iter().map(|(command, read)| plain(part, bus, command, *read)).collect(),
        Origin::Registers(runs) => runs
            .iter()
            .map(|run| {
                let registers: Vec<&Register> = run.iter().filter_map(|index| part.registers.get(*index)).collect();
                read_registers(part, bus, &registers)
            })
            .collect(),
        Origin::Modbus(range) => vec![read_range(part, range)],
    };
    if bus == Bus::Spi && part.spi.as_ref().is_some_and(|spi| spi.late) {
        let asking = transfers.first().cloned();
        transfers.splice(0..0, asking);
    }
    transfers
}

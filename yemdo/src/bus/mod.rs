//! Buses: what a sheet says of each, what fits on it, and the bytes of requests in both directions.
//!
//! One shape each (`i2c`, `spi`, `modbus/`), the trait [`Wire`]: what a sheet says of the bus is a struct; which register
//! addresses fit is checked when the sheet is resolved; a read or a write becomes bytes; the far end (a stand-in, a
//! test) makes of bytes what was asked; and how long a transfer takes. Nothing here knows of parts or formulas.

pub(crate) mod i2c;
pub mod modbus;
pub(crate) mod spi;
pub(crate) mod transfer;

pub use i2c::{Clash, I2c, Sharing, share_bus};
pub use modbus::Modbus;
pub use spi::Spi;
pub(crate) use transfer::Operation;
pub use transfer::{AnswerError, Received, Transfer};

/// A bus that a part can be reached over.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[non_exhaustive]
pub enum Bus {
    /// I2C or SMBus.
    I2c,
    /// SPI.
    Spi,
    /// Modbus over a serial line (RTU).
    Modbus,
}

impl Bus {
    /// All that there are, the usual one first.
    pub const ALL: &'static [Bus] = &[Bus::I2c, Bus::Spi, Bus::Modbus];

    /// Its name in a sheet.
    pub fn key(self) -> &'static str {
        match self {
            Bus::I2c => "i2c",
            Bus::Spi => "spi",
            Bus::Modbus => "modbus",
        }
    }

    /// The bus of that name in a sheet.
    pub fn of_key(key: &str) -> Option<Bus> {
        Self::ALL.iter().copied().find(|bus| bus.key() == key)
    }

    /// Bits on the wire of a transfer that sends and receives so many bytes: nine a byte on I2C, eight on SPI, eleven on a
    /// serial line.
    fn bits(self, send: usize, receive: usize) -> u64 {
        let bytes = (send + receive) as u64;
        match self {
            // Address bytes, and start and stop.
            Bus::I2c => (bytes + (u64::from(send > 0) + u64::from(receive > 0)).max(1)) * 9 + 2,
            Bus::Spi => bytes * 8,
            // Between frames the line is silent for 3.5 characters (Modbus over Serial Line V1.02, section 2.5.1.1).
            Bus::Modbus => (bytes + 7) * 11,
        }
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

/// What a sheet says of the buses of a part.
#[derive(Clone, Debug, Default)]
pub struct Buses {
    /// The I2C or SMBus side.
    pub i2c: Option<I2c>,
    /// The SPI side.
    pub spi: Option<Spi>,
    /// The Modbus side.
    pub modbus: Option<Modbus>,
}

impl Buses {
    /// The buses that there are, the usual one first.
    pub fn all(&self) -> impl Iterator<Item = Bus> + '_ {
        Bus::ALL.iter().copied().filter(|bus| self.wire(*bus).is_some())
    }

    /// Whether several registers can be read in one transfer over each of them.
    pub(crate) fn auto_increment(&self) -> bool {
        self.i2c.as_ref().is_none_or(|i2c| i2c.auto_increment) && self.spi.as_ref().is_none_or(|spi| spi.auto_increment)
    }

    /// How requests look on one of them; `None` where the part is not reached over it.
    pub fn wire(&self, bus: Bus) -> Option<&dyn Wire> {
        match bus {
            Bus::I2c => self.i2c.as_ref().map(|bus| bus as &dyn Wire),
            Bus::Spi => self.spi.as_ref().map(|bus| bus as &dyn Wire),
            Bus::Modbus => self.modbus.as_ref().map(|bus| bus as &dyn Wire),
        }
    }
}

/// How requests to one part look on one bus. What is addressed is a register, by its address on the wire.
pub trait Wire {
    /// Whether a register can be at this address.
    ///
    /// # Errors
    /// What was expected, in words.
    fn fits(&self, address: u32) -> Result<(), String>;

    /// Writes bytes to a register address.
    fn write(&self, address: u32, data: &[u8]) -> Transfer;

    /// Reads bytes from a register address; with `several`, those of registers that follow one another. The answer is
    /// that of the last transfer; what those before it bring is thrown away.
    fn read(&self, address: u32, bytes: usize, several: bool) -> Vec<Transfer>;

    /// Sends bytes as they are, and receives; over Modbus, a request's function and data.
    fn send(&self, bytes: &[u8], receive: usize) -> Vec<Transfer>;

    /// The data in an answer to a transfer.
    ///
    /// # Errors
    /// [`AnswerError`].
    fn data<'a>(&self, transfer: &Transfer, answer: &'a [u8]) -> Result<&'a [u8], AnswerError>;

    /// What the far end makes of the bytes that it received.
    ///
    /// # Errors
    /// Why they are no request, in words.
    fn received(&self, sent: &[u8], receive: usize) -> Result<Received, String>;

    /// How the part is reached, in words: a line, and lines of details that are indented.
    fn describe(&self) -> Vec<String>;

    /// Bits a second that are usual on the bus.
    fn usual_rate(&self) -> u32;
}

/// The bytes of an address of so many bits, most significant first.
pub(crate) fn pointer_bytes(bits: u32, value: u32) -> Vec<u8> {
    let all = value.to_be_bytes();
    all.get(4 - (bits as usize / 8).min(4)..).unwrap_or(&[]).to_vec()
}

/// The address in the first bytes, and the bytes behind it; `None` where there are too few.
pub(crate) fn split_pointer(bits: u32, sent: &[u8]) -> Option<(u32, &[u8])> {
    let (head, rest) = sent.split_at_checked(bits as usize / 8)?;
    Some((head.iter().fold(0, |value, byte| (value << 8) | u32::from(*byte)), rest))
}

/// The largest address of so many bits.
pub(crate) fn top(bits: u32) -> u32 {
    u32::MAX.checked_shr(32 - bits.min(32)).unwrap_or(0)
}

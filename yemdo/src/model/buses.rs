//! How a part is reached.

/// The I2C or SMBus side of a part.
#[derive(Clone, Debug)]
pub struct I2c {
    /// 7-bit address.
    pub address: u8,
    /// The sheet types the address in its 8-bit form.
    pub typed_8_bit: bool,
    /// Pins that choose the address: pin, level, address.
    pub straps: Vec<(String, String, u8)>,
    /// Bits of the register address or command that is sent first; 0 for none.
    pub pointer: u32,
    /// Repeated start between pointer and data; else stop and start.
    pub restart: bool,
    /// Bits set in the pointer so that it moves on by itself.
    pub increment: u32,
    /// SMBus block read: the part sends the number of bytes first.
    pub block: bool,
}

impl I2c {
    /// Every address that the part can have.
    pub fn addresses(&self) -> Vec<u8> {
        let mut all: Vec<u8> = self.straps.iter().map(|(_, _, address)| *address).chain([self.address]).collect();
        all.sort_unstable();
        all.dedup();
        all
    }
}

/// The SPI side of a part.
#[derive(Clone, Debug)]
pub struct Spi {
    /// Clock mode, 0 to 3.
    pub mode: u8,
    /// The least significant bit goes first.
    pub lsb_first: bool,
    /// Bits of the address that is sent first; 0 for none.
    pub pointer: u32,
    /// Places that the address is shifted to the left.
    pub shift: u32,
    /// Bits set in the address to read.
    pub read: u32,
    /// Bits set in the address to write.
    pub write: u32,
    /// Bits set so that the address moves on by itself.
    pub increment: u32,
    /// Bytes between address and data.
    pub dummy: usize,
    /// The answer comes in the next transfer.
    pub late: bool,
}

/// The Modbus side of a part.
#[derive(Clone, Debug)]
pub struct Modbus {
    /// Unit id as delivered.
    pub unit: Option<u8>,
    /// How the datasheet prints addresses.
    pub numbering: crate::modbus::Numbering,
    /// Bits a second, as delivered.
    pub baud: Option<u32>,
    /// Parity, as delivered.
    pub parity: Option<&'static str>,
    /// Stop bits, as delivered.
    pub stop: Option<u8>,
}

//! SPI: a register address with bits for reading, writing and auto-increment, then data.

use super::{AnswerError, Bus, Received, Transfer, Wire, pointer_bytes, split_pointer, top};
use crate::ground::words::counted;

/// The SPI side of a part.
#[derive(Clone, Debug)]
#[non_exhaustive]
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
    /// Bits set for auto-increment.
    pub increment: u32,
    /// The register address moves on from register to register.
    pub auto_increment: bool,
    /// Bytes between address and data.
    pub dummy: usize,
    /// The answer comes in the next transfer.
    pub late: bool,
    /// The fastest clock that the sheet states, in kHz.
    pub max_khz: Option<u32>,
}

impl Spi {
    fn transfers(&self, mut send: Vec<u8>, receive: usize) -> Vec<Transfer> {
        if receive > 0 {
            send.extend(std::iter::repeat_n(0, self.dummy));
        }
        let transfer = Transfer { bus: Bus::Spi, address: None, send, receive, restart: false, discard: false };
        // Where the answer comes with the next transfer, the first one only asks.
        let asks = (self.late && receive > 0).then(|| Transfer { discard: true, ..transfer.clone() });
        asks.into_iter().chain([transfer]).collect()
    }

    fn flags(&self) -> u32 {
        self.read | self.write | self.increment
    }
}

impl Wire for Spi {
    fn fits(&self, address: u32) -> Result<(), String> {
        if self.pointer == 0 {
            let only = "no register address is sent over SPI (pointer = 0), so there is only the register at 0";
            return if address == 0 { Ok(()) } else { Err(only.into()) };
        }
        let most = top(self.pointer) >> self.shift;
        if address > most {
            let shifted = if self.shift > 0 { format!(", shifted by {}", self.shift) } else { String::new() };
            return Err(format!("a register address over SPI has {} bits{shifted}: 0x00 to 0x{most:02X}", self.pointer));
        }
        match (address << self.shift) & self.flags() {
            0 => Ok(()),
            bits => Err(format!("it has the bit 0x{bits:02X}, which over SPI means read, write or auto-increment")),
        }
    }

    fn write(&self, address: u32, data: &[u8]) -> Transfer {
        let pointer = pointer_bytes(self.pointer, (address << self.shift) | self.write);
        Transfer { bus: Bus::Spi, address: None, send: [&pointer, data].concat(), receive: 0, restart: false, discard: false }
    }

    fn read(&self, address: u32, bytes: usize, several: bool) -> Vec<Transfer> {
        let pointer = (address << self.shift) | self.read | if several { self.increment } else { 0 };
        self.transfers(pointer_bytes(self.pointer, pointer), bytes)
    }

    fn send(&self, bytes: &[u8], receive: usize) -> Vec<Transfer> {
        self.transfers(bytes.to_vec(), receive)
    }

    fn data<'a>(&self, transfer: &Transfer, answer: &'a [u8]) -> Result<&'a [u8], AnswerError> {
        transfer.whole(answer)
    }

    fn received(&self, sent: &[u8], receive: usize) -> Result<Received, String> {
        let command = || Ok(Received::Command { bytes: sent.to_vec(), receive });
        let Some((pointer, data)) = split_pointer(self.pointer, sent).filter(|_| self.pointer > 0) else { return command() };
        let address = (pointer & !self.flags()) >> self.shift;
        let direction = pointer & (self.read | self.write);
        match (direction == self.read, direction == self.write) {
            (true, _) if receive > 0 && data.len() == self.dummy => Ok(Received::Read { address, bytes: receive }),
            (_, true) if receive == 0 && !data.is_empty() => Ok(Received::Write { address, data: data.to_vec() }),
            _ => command(),
        }
    }

    fn describe(&self) -> Vec<String> {
        let mut how = vec![format!("mode {}", self.mode), if self.lsb_first { "LSB first" } else { "MSB first" }.to_owned()];
        if self.pointer == 0 {
            how.push("no address: it is only clocked out".into());
        } else {
            how.push(format!("{}-bit address", self.pointer));
            how.extend((self.shift > 0).then(|| format!("shifted left by {}", self.shift)));
            let flags = [("read", self.read), ("write", self.write), ("auto-increment", self.increment)];
            how.extend(flags.iter().filter(|(_, bits)| *bits != 0).map(|(what, bits)| format!("set to {what}: 0x{bits:02X}")));
            how.extend((!self.auto_increment).then(|| "no auto-increment".to_owned()));
        }
        how.extend((self.dummy > 0).then(|| format!("{} before data", counted(self.dummy, "dummy byte"))));
        how.extend(self.late.then(|| "the answer comes in the next transfer".to_owned()));
        how.extend(self.max_khz.map(|khz| format!("up to {khz} kHz")));
        vec![format!("SPI {}", how.join(", "))]
    }

    fn usual_rate(&self) -> u32 {
        self.max_khz.map_or(1_000_000, |khz| khz.saturating_mul(1000).min(1_000_000))
    }
}

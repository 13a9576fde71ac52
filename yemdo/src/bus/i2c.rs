//! I2C and SMBus: the address byte, then a register address (pointer), then data (I2C-bus specification UM10204, 3.1.10).

use super::{AnswerError, Bus, Received, Transfer, Wire, pointer_bytes, split_pointer, top};
use crate::bits::check::{Crc, MODELS};

/// The I2C or SMBus side of a part.
#[derive(Clone, Debug)]
#[non_exhaustive]
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
    /// Bits set in the pointer for auto-increment.
    pub increment: u32,
    /// The register address moves on from register to register.
    pub auto_increment: bool,
    /// Register writes end with a packet error code (SMBus 3.2, section 6.4).
    pub pec: bool,
    /// The fastest clock that the sheet states, in kHz.
    pub max_khz: Option<u32>,
}

/// The packet error code of a write: over the address byte, too.
fn pec(address: u8, sent: &[u8]) -> u8 {
    let model = MODELS.iter().find(|(name, _)| *name == "CRC-8/SMBUS").map(|(_, model)| *model);
    model.map_or(0, |model| Crc::new(model).of(&[&[address << 1], sent].concat()) as u8)
}

impl I2c {
    /// Every address that the part can have.
    pub fn addresses(&self) -> Vec<u8> {
        let mut all: Vec<u8> = self.straps.iter().map(|(_, _, address)| *address).chain([self.address]).collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    fn transfer(&self, send: Vec<u8>, receive: usize) -> Transfer {
        Transfer { bus: Bus::I2c, address: Some(self.address), send, receive, restart: self.restart, discard: false }
    }
}

impl Wire for I2c {
    fn fits(&self, address: u32) -> Result<(), String> {
        match self.pointer {
            0 if address == 0 => Ok(()),
            0 => Err("no register address is sent over I2C (pointer = 0), so there is only the register at 0".into()),
            bits if address > top(bits) => {
                Err(format!("a register address over I2C has {bits} bits (pointer = {bits}): 0x00 to 0x{:02X}", top(bits)))
            }
            _ if address & self.increment != 0 => {
                Err(format!("0x{:02X} is the auto-increment bit of the register address over I2C", self.increment))
            }
            _ => Ok(()),
        }
    }

    fn write(&self, address: u32, data: &[u8]) -> Transfer {
        let mut send = [&pointer_bytes(self.pointer, address), data].concat();
        if self.pec {
            send.push(pec(self.address, &send));
        }
        self.transfer(send, 0)
    }

    fn read(&self, address: u32, bytes: usize, several: bool) -> Vec<Transfer> {
        let pointer = address | if several { self.increment } else { 0 };
        vec![self.transfer(pointer_bytes(self.pointer, pointer), bytes)]
    }

    fn send(&self, bytes: &[u8], receive: usize) -> Vec<Transfer> {
        vec![self.transfer(bytes.to_vec(), receive)]
    }

    fn data<'a>(&self, transfer: &Transfer, answer: &'a [u8]) -> Result<&'a [u8], AnswerError> {
        transfer.whole(answer)
    }

    fn received(&self, sent: &[u8], receive: usize) -> Result<Received, String> {
        let register = |pointer: u32| pointer & !self.increment;
        Ok(match (split_pointer(self.pointer, sent).filter(|_| self.pointer > 0), receive) {
            (Some((pointer, [])), 1..) => Received::Read { address: register(pointer), bytes: receive },
            (Some((pointer, [data @ .., last])), 0) if self.pec && !data.is_empty() => {
                let expected = pec(self.address, sent.get(..sent.len() - 1).unwrap_or(&[]));
                if *last != expected {
                    return Err(format!("packet error code mismatch: computed 0x{expected:02X}, received 0x{last:02X}"));
                }
                Received::Write { address: register(pointer), data: data.to_vec() }
            }
            (Some((pointer, data @ [_, ..])), 0) => Received::Write { address: register(pointer), data: data.to_vec() },
            _ => Received::Command { bytes: sent.to_vec(), receive },
        })
    }

    fn describe(&self) -> Vec<String> {
        let both = |address: u8| {
            format!("0x{address:02X} (7-bit; on the wire 0x{:02X} to write, 0x{:02X} to read)", address << 1, address << 1 | 1)
        };
        let mut lines = vec![format!("I2C address {}", both(self.address))];
        lines.extend(self.straps.iter().map(|(pin, level, address)| format!("  {pin} {level}: {}", both(*address))));
        let mut how = match self.pointer {
            0 => "the part just answers".to_owned(),
            bits => {
                let between = if self.restart { "repeated start" } else { "stop before reading" };
                format!("{bits}-bit register address or command first, {between}")
            }
        };
        if self.increment != 0 {
            how.push_str(&format!(", auto-increment by setting 0x{:02X}", self.increment));
        }
        if !self.auto_increment {
            how.push_str(", no auto-increment: a transfer for each register");
        }
        if self.pec {
            how.push_str(", writes end with a packet error code");
        }
        how.extend(self.max_khz.map(|khz| format!(", up to {khz} kHz")));
        lines.push(format!("  {how}"));
        lines
    }

    fn usual_rate(&self) -> u32 {
        self.max_khz.map_or(400_000, |khz| khz.saturating_mul(1000).min(400_000))
    }
}

/// Parts on one bus: their names, and the addresses that each can have.
pub type Sharing<'a> = (&'a str, Vec<u8>);

/// Two parts that can have the same address.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Clash {
    /// One part, and whether its address is fixed.
    pub one: (String, bool),
    /// The other.
    pub other: (String, bool),
    /// The addresses that both can have.
    pub addresses: Vec<u8>,
}

/// Finds an address for each of the parts on one bus, in their order.
///
/// ```
/// use yemdo::bus::share_bus;
/// assert_eq!(share_bus(&[("one", vec![0x21, 0x23]), ("two", vec![0x21])]), Ok(vec![0x23, 0x21]));
/// assert_eq!(share_bus(&[("one", vec![0x21]), ("two", vec![0x21])]).unwrap_err()[0].addresses, [0x21]);
/// ```
///
/// # Errors
/// Where no choice of straps will do: the parts that clash.
pub fn share_bus(parts: &[Sharing<'_>]) -> Result<Vec<u8>, Vec<Clash>> {
    // Who has which address so far. Each part in turn takes one that is free, or one whose owner can move on.
    let mut owner: [Option<usize>; 128] = [None; 128];
    for part in 0..parts.len() {
        if !settle(parts, part, &mut owner, &mut [false; 128]) {
            return Err(clashes(parts));
        }
    }
    let of = |part: usize| (0u8..128).find(|address| owner.get(usize::from(*address)).copied().flatten() == Some(part));
    Ok((0..parts.len()).filter_map(of).collect())
}

fn settle(parts: &[Sharing<'_>], part: usize, owner: &mut [Option<usize>; 128], seen: &mut [bool; 128]) -> bool {
    for address in parts.get(part).map_or(&[] as &[u8], |(_, addresses)| addresses) {
        let at = usize::from(*address & 0x7F);
        if std::mem::replace(&mut seen[at], true) {
            continue;
        }
        let free = match owner[at] {
            None => true,
            Some(other) => settle(parts, other, owner, seen),
        };
        if free {
            owner[at] = Some(part);
            return true;
        }
    }
    false
}

fn clashes(parts: &[Sharing<'_>]) -> Vec<Clash> {
    let mut found = Vec::new();
    for (index, (one, addresses)) in parts.iter().enumerate() {
        for (other, others) in parts.iter().take(index) {
            let shared: Vec<u8> = addresses.iter().filter(|address| others.contains(address)).copied().collect();
            if !shared.is_empty() {
                let one = ((*one).to_owned(), addresses.len() == 1);
                found.push(Clash { one, other: ((*other).to_owned(), others.len() == 1), addresses: shared });
            }
        }
    }
    found
}

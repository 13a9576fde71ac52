//! Lines of a bus, edge by edge, to transfers. Times are in picoseconds.
//!
//! Each decoder is a state machine: it takes the levels of its lines at every change, and returns complete transfers.

mod glitch;
mod i2c;
mod probes;
mod spi;
mod uart;

pub use glitch::Glitches;
pub use i2c::I2cLines;
pub(crate) use probes::Probes;
pub use spi::{SpiLines, SpiOptions};
pub use uart::{Parity, SerialByte, UartLine};

use crate::capture::Captured;
use yemdo::bus::{Bus, Transfer};
use yemdo::record::Traffic;
use yemdo::trace::Transaction;

/// Microseconds of a time in picoseconds.
pub(crate) fn micros(picos: u64) -> u64 {
    picos / 1_000_000
}

/// A transfer of a bus, with the times of its beginning, its answer and its end in picoseconds.
pub(crate) struct Timed {
    pub(crate) bus: Bus,
    pub(crate) address: Option<u8>,
    pub(crate) at: u64,
    pub(crate) answered: u64,
    pub(crate) end: u64,
    /// Shortest period of the clock.
    pub(crate) period: Option<u64>,
}

impl Timed {
    pub(crate) fn captured(self, send: Vec<u8>, receive: usize, outcome: Result<Vec<u8>, String>) -> Captured {
        let transfer = Transfer { bus: self.bus, address: self.address, send, receive, restart: true, discard: false };
        let traffic = Traffic { at: micros(self.at), transfer, outcome };
        let hertz = self.period.filter(|period| *period > 0).map(|period| u32::try_from(1_000_000_000_000 / period).unwrap_or(u32::MAX));
        Captured::new(Transaction::new(traffic, micros(self.answered), micros(self.end), hertz), 0)
    }
}

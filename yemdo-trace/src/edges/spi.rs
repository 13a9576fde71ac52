//! SPI from clock, data and chip select.

use super::Timed;
use crate::capture::Captured;
use yemdo::bus::Bus;

/// Mode and bit order of an SPI bus.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SpiOptions {
    /// 0 to 3; in modes 0 and 3, data are sampled when the clock rises.
    pub mode: u8,
    /// Least significant bit first.
    pub lsb_first: bool,
}

impl SpiOptions {
    fn samples_on_rise(self) -> bool {
        matches!(self.mode, 0 | 3)
    }
}

/// Decodes the lines of an SPI bus, with one chip select.
#[derive(Clone, Debug)]
pub struct SpiLines {
    options: SpiOptions,
    /// Without a chip select, a pause of the clock ends a transfer.
    selectable: bool,
    clock: bool,
    data: (bool, bool),
    /// `None` until the select was seen to be inactive: the first transfer may have begun earlier.
    selected: Option<bool>,
    begun: u64,
    last: u64,
    bits: u32,
    out: u8,
    back: u8,
    sent: Vec<u8>,
    came: Vec<u8>,
    first_of_byte: u64,
    period: Option<u64>,
    cut: u64,
    bytes: u64,
}

/// Clock periods of a pause that ends a transfer without chip select.
const PAUSE: u64 = 6;

impl SpiLines {
    /// An idle bus.
    pub fn new(options: SpiOptions, selectable: bool) -> Self {
        Self {
            options,
            selectable,
            clock: options.mode >= 2,
            data: (false, false),
            selected: if selectable { None } else { Some(true) },
            begun: 0,
            last: 0,
            bits: 0,
            out: 0,
            back: 0,
            sent: Vec::new(),
            came: Vec::new(),
            first_of_byte: 0,
            period: None,
            cut: 0,
            bytes: 0,
        }
    }

    /// Transfers whose last byte was incomplete.
    pub fn cut(&self) -> u64 {
        self.cut
    }

    /// Bytes decoded so far, each way.
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// The levels of the lines from this time on. Data are taken as they were before: they may change with the edge that samples them.
    pub fn levels(&mut self, at: u64, clock: bool, select: bool, data: (bool, bool)) -> Option<Captured> {
        let edge = clock != self.clock;
        self.clock = clock;
        let data = std::mem::replace(&mut self.data, data);
        let active = !self.selectable || !select;
        let mut found = None;
        match (self.selected, active) {
            (None, true) => return None,
            (Some(true), false) => {
                found = self.finish(at);
                self.selected = Some(false);
            }
            (None | Some(false), false) => self.selected = Some(false),
            (Some(false), true) => {
                self.selected = Some(true);
                self.begun = at;
            }
            (Some(true), true) => {}
        }
        if active && edge && clock == self.options.samples_on_rise() {
            if !self.selectable && self.pauses(at) {
                found = self.finish(self.last);
            }
            self.sample(at, data);
        }
        found
    }

    fn pauses(&self, at: u64) -> bool {
        self.period.is_some_and(|period| at - self.last > period * PAUSE)
    }

    fn sample(&mut self, at: u64, (out, back): (bool, bool)) {
        if self.bits == 0 {
            self.first_of_byte = at;
            if !self.selectable && self.sent.is_empty() {
                self.begun = at;
            }
        }
        self.last = at;
        let place = |byte: u8, bit: bool, lsb_first: bool| match lsb_first {
            true => (byte >> 1) | (u8::from(bit) << 7),
            false => (byte << 1) | u8::from(bit),
        };
        self.out = place(self.out, out, self.options.lsb_first);
        self.back = place(self.back, back, self.options.lsb_first);
        self.bits += 1;
        if self.bits == 8 {
            let period = (at - self.first_of_byte) / 7;
            self.period = Some(self.period.map_or(period, |known| known.min(period)));
            self.sent.push(self.out);
            self.came.push(self.back);
            self.bytes += 1;
            self.bits = 0;
        }
    }

    fn finish(&mut self, at: u64) -> Option<Captured> {
        self.cut += u64::from(self.bits > 0);
        self.bits = 0;
        let (sent, came) = (std::mem::take(&mut self.sent), std::mem::take(&mut self.came));
        let timed = Timed { bus: Bus::Spi, address: None, at: self.begun, answered: self.begun, end: at, period: self.period };
        (!sent.is_empty()).then(|| timed.captured(sent, 0, Ok(came)))
    }

    /// The end of the capture.
    pub fn end(&mut self) -> Option<Captured> {
        if self.selected == Some(true) { self.finish(self.last) } else { None }
    }
}

//! Lines of buses as real captures have them: several chip selects, held clocks, cut transfers, wrong parity, scopes, lines without levels.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use yemdo_trace::edges::{Glitches, I2cLines, Parity, SpiLines, SpiOptions, UartLine};
use yemdo_trace::{Captured, Serial};

/// A nanosecond in picoseconds.
const NS: u64 = 1000;

/// Drives the two lines of I2C in steps of 1 µs, and keeps the decoded transfers.
struct Wires {
    lines: I2cLines,
    now: u64,
    found: Vec<Captured>,
}

impl Wires {
    fn new() -> Self {
        Self { lines: I2cLines::new(), now: 0, found: Vec::new() }
    }

    fn set(&mut self, scl: bool, sda: bool) {
        self.now += 1000 * NS;
        self.found.extend(self.lines.levels(self.now, scl, sda));
    }

    fn start(&mut self) {
        self.set(true, true);
        self.set(true, false);
        self.set(false, false);
    }

    fn stop(&mut self) {
        self.set(false, false);
        self.set(true, false);
        self.set(true, true);
    }

    fn bit(&mut self, bit: bool) {
        self.set(false, bit);
        self.set(true, bit);
        self.set(false, bit);
    }

    fn byte(&mut self, byte: u8, acknowledged: bool) {
        (0..8).rev().for_each(|place| self.bit(byte >> place & 1 == 1));
        self.bit(!acknowledged);
    }

    fn text(&self) -> Vec<String> {
        self.found.iter().map(|found| found.transaction.traffic.to_string().split_once(' ').unwrap().1.to_owned()).collect()
    }
}

#[test]
fn transfers_over_i2c_end_as_the_lines_say() {
    let mut wires = Wires::new();
    // A write, a repeated start to another address, and a read there.
    wires.start();
    wires.byte(0x42, true);
    wires.byte(0x10, true);
    wires.start();
    wires.byte(0x55, true);
    wires.byte(0xAB, false);
    wires.stop();
    assert_eq!(wires.text(), ["i2c 0x21 W 10", "i2c 0x2A R 1 = AB"]);
    // Data that are refused, and an address alone.
    let mut wires = Wires::new();
    wires.start();
    wires.byte(0x42, true);
    wires.byte(0x10, false);
    wires.stop();
    wires.start();
    wires.byte(0x44, false);
    wires.stop();
    assert_eq!(wires.text(), ["i2c 0x21 W 10 ! data not acknowledged", "i2c 0x22 ! address not acknowledged"]);
    // A byte that a stop cuts off.
    let mut wires = Wires::new();
    wires.start();
    wires.byte(0x42, true);
    wires.bit(true);
    wires.stop();
    assert_eq!((wires.text(), wires.lines.cut()), (vec!["i2c 0x21 ! the transfer is cut off".to_owned()], 1));
    // The capture ends before the stop.
    let mut wires = Wires::new();
    wires.start();
    wires.byte(0x42, true);
    wires.byte(0x10, true);
    let left = wires.lines.end(wires.now);
    assert_eq!(left[0].transaction.traffic.outcome, Err("the transfer is cut off".into()));
    // Lines that change before the first start are none.
    let mut wires = Wires::new();
    wires.byte(0x42, true);
    wires.stop();
    assert_eq!((wires.text(), wires.lines.bytes()), (Vec::new(), 0));
}

#[test]
fn a_held_clock_delays_the_answer_and_not_the_clock() {
    let mut wires = Wires::new();
    wires.start();
    wires.byte(0x43, true);
    let before = wires.now;
    wires.now += 5_000_000 * NS;
    wires.byte(0xAB, false);
    wires.stop();
    let transaction = &wires.found[0].transaction;
    assert_eq!((transaction.traffic.at, transaction.answered), (2, (before + 5_002_000 * NS) / 1_000_000));
    // Three steps a bit.
    assert_eq!(transaction.hertz, Some(333_333));
}

#[test]
fn chip_selects_divide_a_bus() {
    let options = SpiOptions { mode: 0, lsb_first: false };
    let (mut first, mut second) = (SpiLines::new(options, true), SpiLines::new(options, true));
    let mut now = 0;
    let mut found = Vec::new();
    let mut levels = |clock: bool, selects: (bool, bool), data: (bool, bool)| {
        now += 500 * NS;
        found.extend(first.levels(now, clock, selects.0, data).map(|one| (1, one)));
        found.extend(second.levels(now, clock, selects.1, data).map(|one| (2, one)));
    };
    levels(false, (true, true), (false, false));
    for (selects, out) in [((false, true), 0xA5u8), ((true, false), 0x0F)] {
        levels(false, selects, (false, false));
        for place in (0..8).rev() {
            let bit = out >> place & 1 == 1;
            levels(false, selects, (bit, !bit));
            levels(true, selects, (bit, !bit));
        }
        levels(false, selects, (false, false));
        levels(false, (true, true), (false, false));
    }
    let text: Vec<_> = found.iter().map(|(line, one)| (*line, one.transaction.traffic.to_string())).collect();
    let bytes: Vec<_> = text.iter().map(|(line, text)| (*line, text.split_once(' ').unwrap().1)).collect();
    assert_eq!(bytes, [(1, "spi W A5 = 5A"), (2, "spi W 0F = F0")]);
    assert_eq!(found[0].1.transaction.hertz, Some(1_000_000));
}

#[test]
fn characters_with_a_wrong_parity_are_counted() {
    let bit = 1_000_000_000_000 / 9600;
    let character = |parity: bool| {
        let mut line = UartLine::new(Serial::new(9600, Parity::Even, 1));
        // 0x41: two bits are set.
        let levels = [false, true, false, false, false, false, false, true, false, parity, true];
        let mut bytes: Vec<_> = levels.iter().enumerate().filter_map(|(at, level)| line.level(bit * (at as u64 + 10), *level)).collect();
        bytes.extend(line.advance(u64::MAX));
        (bytes[0].byte, bytes[0].good, line.counts())
    };
    assert_eq!(character(false), (0x41, true, (0, 1)));
    assert_eq!(character(true), (0x41, false, (1, 0)));
}

#[test]
fn short_pulses_are_dropped_and_others_keep_their_order() {
    let mut glitches = Glitches::new(100);
    let mut edges = Vec::new();
    for (at, line, level) in [(0, 0, true), (500, 0, false), (540, 0, true), (550, 1, true), (900, 0, false)] {
        edges.extend(glitches.edge(at, line, level));
    }
    edges.extend(glitches.end());
    assert_eq!((edges, glitches.dropped()), (vec![(0, 0, true), (550, 1, true), (900, 0, false)], 1));
}

//! Transfers as waveforms: the lines of a bus over time, as a value change dump.

use std::io::{self, Write};

use vcd::{IdCode, TimescaleUnit, Value, VarType, Writer};
use yemdo::bus::Bus;
use yemdo::record::Traffic;

use crate::edges::Parity;
use crate::options::{CaptureOptions, Role, Serial};

/// Speed and form of the lines.
#[derive(Clone, Copy, Debug, PartialEq)]
#[non_exhaustive]
pub struct WaveOptions {
    /// Clock of I2C or SPI, in Hz.
    pub hertz: u32,
    /// SPI mode.
    pub mode: u8,
    /// SPI: least significant bit first.
    pub lsb_first: bool,
    /// Serial lines.
    pub serial: Serial,
}

impl WaveOptions {
    /// A bus at this clock.
    pub fn new(hertz: u32) -> Self {
        Self { hertz: hertz.max(1), mode: 0, lsb_first: false, serial: Serial::default() }
    }

    /// The same, with mode, bit order and form of serial lines as a capture is read with.
    pub fn as_read(hertz: u32, options: &CaptureOptions) -> Self {
        Self { mode: options.mode, lsb_first: options.lsb_first, serial: options.serial, ..Self::new(hertz) }
    }
}

impl WaveOptions {
    /// Level of a line between transfers.
    pub fn idle(&self, line: Role) -> bool {
        match line {
            Role::Clk => self.mode >= 2,
            Role::Mosi | Role::Miso => false,
            _ => true,
        }
    }
}

/// The lines of a bus.
pub fn lines_of(bus: Bus) -> &'static [Role] {
    match bus {
        Bus::I2c => &[Role::Scl, Role::Sda],
        Bus::Spi => &[Role::Cs, Role::Clk, Role::Mosi, Role::Miso],
        _ => &[Role::Tx, Role::Rx],
    }
}

/// A byte or condition on the lines, for drawings.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mark {
    /// Begin, in nanoseconds.
    pub from: u64,
    /// End.
    pub to: u64,
    /// The byte, or a condition such as `start`.
    pub text: String,
    /// Whether the part sends it.
    pub from_part: bool,
    /// Its place among the bytes that were sent, or came; `None` for conditions and addresses.
    pub byte: Option<usize>,
}

/// The levels of the lines of a transfer, edge by edge, in nanoseconds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Drawn {
    /// Time, line, and its level from then on.
    pub edges: Vec<(u64, Role, bool)>,
    /// Bytes and conditions.
    pub marks: Vec<Mark>,
    /// Bits, when and on which line they are sampled.
    pub bits: Vec<(u64, Role, bool)>,
    /// When the transfer ends.
    pub end: u64,
}

/// Draws a transfer from this time on, in nanoseconds.
pub fn draw(traffic: &Traffic, from: u64, options: &WaveOptions) -> Drawn {
    match traffic.transfer.bus {
        Bus::I2c => i2c(traffic, from, options),
        Bus::Spi => spi(traffic, from, options),
        _ => serial(traffic, from, options),
    }
}

/// Draws the lines of I2C, quarter by quarter of a clock period.
struct I2cPen {
    at: u64,
    quarter: u64,
    drawn: Drawn,
}

impl I2cPen {
    fn set(&mut self, line: Role, level: bool) {
        self.drawn.edges.push((self.at, line, level));
        self.at += self.quarter;
    }

    fn bit(&mut self, level: bool) {
        self.set(Role::Sda, level);
        self.drawn.bits.push((self.at, Role::Sda, level));
        self.set(Role::Scl, true);
        self.at += self.quarter;
        self.set(Role::Scl, false);
    }

    fn start(&mut self, repeated: bool) {
        let from = self.at;
        if repeated {
            self.set(Role::Sda, true);
            self.set(Role::Scl, true);
        }
        self.set(Role::Sda, false);
        self.set(Role::Scl, false);
        let text = if repeated { "repeated start" } else { "start" };
        self.drawn.marks.push(Mark { from, to: self.at, text: text.into(), from_part: false, byte: None });
    }

    fn stop(&mut self) {
        let from = self.at;
        self.set(Role::Sda, false);
        self.set(Role::Scl, true);
        self.set(Role::Sda, true);
        self.drawn.marks.push(Mark { from, to: self.at, text: "stop".into(), from_part: false, byte: None });
    }

    fn bits(&mut self, byte: u8, acknowledged: bool) {
        (0..8).rev().for_each(|bit| self.bit(byte >> bit & 1 == 1));
        self.bit(!acknowledged);
    }

    fn address(&mut self, address: u8, read: bool, acknowledged: bool) {
        let from = self.at;
        self.bits(address << 1 | u8::from(read), acknowledged);
        let text = format!("0x{address:02X} {}", if read { "R" } else { "W" });
        self.drawn.marks.push(Mark { from, to: self.at, text, from_part: false, byte: None });
    }

    fn byte(&mut self, byte: u8, acknowledged: bool, from_part: bool, place: usize) {
        let from = self.at;
        self.bits(byte, acknowledged);
        self.drawn.marks.push(Mark { from, to: self.at, text: format!("{byte:02X}"), from_part, byte: Some(place) });
    }
}

fn i2c(traffic: &Traffic, from: u64, options: &WaveOptions) -> Drawn {
    let quarter = (250_000_000 / u64::from(options.hertz)).max(1);
    let mut pen = I2cPen { at: from, quarter, drawn: Drawn::default() };
    let transfer = &traffic.transfer;
    let address = transfer.address.unwrap_or(0) & 0x7F;
    // Drawn as a missing acknowledgement of the address.
    let refused = traffic.outcome.is_err();
    let reads = transfer.receive > 0;
    if !transfer.send.is_empty() || !reads {
        pen.start(false);
        pen.address(address, false, !refused);
        if !refused {
            transfer.send.iter().enumerate().for_each(|(at, byte)| pen.byte(*byte, true, false, at));
        }
    }
    if reads && (!refused || transfer.send.is_empty()) {
        if transfer.send.is_empty() {
            pen.start(false);
        } else if transfer.restart {
            pen.start(true);
        } else {
            pen.stop();
            pen.at += pen.quarter * 4;
            pen.start(false);
        }
        pen.address(address, true, !refused);
        let came = traffic.outcome.as_deref().unwrap_or(&[]);
        for (at, byte) in came.iter().enumerate() {
            pen.byte(*byte, at + 1 < came.len(), true, at);
        }
    }
    pen.stop();
    pen.drawn.end = pen.at;
    pen.drawn
}

fn spi(traffic: &Traffic, from: u64, options: &WaveOptions) -> Drawn {
    let half = (500_000_000 / u64::from(options.hertz)).max(2);
    let transfer = &traffic.transfer;
    let came = traffic.outcome.as_deref().unwrap_or(&[]);
    // A capture has all bytes of both directions; a request has those before the answer.
    let whole = transfer.receive == 0 && came.len() == transfer.send.len();
    let length = transfer.send.len() + transfer.receive;
    let mut drawn = Drawn::default();
    let idle = options.idle(Role::Clk);
    let late = options.mode % 2 == 1;
    let mut at = from;
    drawn.edges.push((at, Role::Cs, false));
    at += half;
    for index in 0..length {
        let out = transfer.send.get(index).copied().unwrap_or(0);
        let back = if whole { came.get(index) } else { index.checked_sub(transfer.send.len()).and_then(|index| came.get(index)) };
        let back = back.copied().unwrap_or(0);
        let begin = at;
        for bit in 0..8 {
            let place = if options.lsb_first { bit } else { 7 - bit };
            // Data change half a period before the edge that samples them.
            if late {
                drawn.edges.push((at, Role::Clk, !idle));
            }
            drawn.edges.push((at, Role::Mosi, out >> place & 1 == 1));
            drawn.edges.push((at, Role::Miso, back >> place & 1 == 1));
            at += half;
            drawn.bits.push((at, Role::Mosi, out >> place & 1 == 1));
            drawn.bits.push((at, Role::Miso, back >> place & 1 == 1));
            drawn.edges.push((at, Role::Clk, if late { idle } else { !idle }));
            at += half;
            if !late {
                drawn.edges.push((at, Role::Clk, idle));
            }
        }
        let from_part = index >= transfer.send.len();
        let byte = if from_part { back } else { out };
        let place = index.checked_sub(transfer.send.len()).unwrap_or(index);
        drawn.marks.push(Mark { from: begin, to: at, text: format!("{byte:02X}"), from_part, byte: Some(place) });
    }
    at += half;
    drawn.edges.push((at, Role::Cs, true));
    drawn.end = at;
    drawn
}

fn serial(traffic: &Traffic, from: u64, options: &WaveOptions) -> Drawn {
    let bit = (1_000_000_000 / u64::from(options.serial.baud.max(1))).max(1);
    let mut drawn = Drawn::default();
    let mut at = from;
    let mut put = |line: Role, bytes: &[u8], from_part: bool| {
        for (place, byte) in bytes.iter().enumerate() {
            let begin = at;
            let odd = byte.count_ones() % 2 == 1;
            let parity = match options.serial.parity {
                Parity::None => None,
                Parity::Even => Some(odd),
                Parity::Odd => Some(!odd),
            };
            let data = (0..8).map(|place| byte >> place & 1 == 1);
            for level in std::iter::once(false).chain(data).chain(parity) {
                drawn.edges.push((at, line, level));
                drawn.bits.push((at + bit / 2, line, level));
                at += bit;
            }
            drawn.edges.push((at, line, true));
            at += bit * u64::from(options.serial.stop_bits.max(1));
            drawn.marks.push(Mark { from: begin, to: at, text: format!("{byte:02X}"), from_part, byte: Some(place) });
        }
        // 3.5 characters of silence (Modbus over Serial Role V1.02, section 2.5.1.1).
        at += bit * 44;
    };
    put(Role::Tx, &traffic.transfer.send, false);
    if let Ok(came) = &traffic.outcome {
        put(Role::Rx, came, true);
    }
    drawn.end = at;
    drawn
}

/// Writes transfers as a value change dump, one after another.
pub struct WaveWriter<W: Write> {
    out: Writer<W>,
    lines: Vec<(Role, IdCode, Option<bool>)>,
    options: WaveOptions,
    now: u64,
    stamped: Option<u64>,
}

impl<W: Write> std::fmt::Debug for WaveWriter<W> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("WaveWriter").field("options", &self.options).field("now", &self.now).finish_non_exhaustive()
    }
}

impl<W: Write> WaveWriter<W> {
    /// Begins a waveform of a bus.
    ///
    /// # Errors
    /// The output cannot be written.
    pub fn new(out: W, bus: Bus, options: WaveOptions) -> io::Result<Self> {
        let mut out = Writer::new(out);
        out.comment("lines of a bus, by yemdo")?;
        out.timescale(1, TimescaleUnit::NS)?;
        out.add_module("bus")?;
        let mut lines = Vec::new();
        for line in lines_of(bus) {
            let code = out.add_var(VarType::Wire, 1, line.as_str(), None)?;
            lines.push((*line, code, None));
        }
        out.upscope()?;
        out.enddefinitions()?;
        let mut writer = Self { out, lines, options, now: 0, stamped: None };
        for line in lines_of(bus) {
            writer.edge(0, *line, options.idle(*line))?;
        }
        writer.now = 1000;
        Ok(writer)
    }

    /// Adds a transfer at its time, or after the last one if that is later.
    ///
    /// # Errors
    /// The output cannot be written.
    pub fn transfer(&mut self, traffic: &Traffic) -> io::Result<()> {
        let from = self.now.max(traffic.at.saturating_mul(1000).saturating_add(1000));
        let mut drawn = draw(traffic, from, &self.options);
        drawn.edges.sort_by_key(|(at, ..)| *at);
        for (at, line, level) in drawn.edges {
            self.edge(at, line, level)?;
        }
        // The bus is free for a moment between transfers.
        self.now = drawn.end + 250_000_000 / u64::from(self.options.hertz.max(1));
        Ok(())
    }

    fn edge(&mut self, at: u64, line: Role, level: bool) -> io::Result<()> {
        let Some((_, code, known)) = self.lines.iter_mut().find(|(own, ..)| *own == line) else { return Ok(()) };
        if known.replace(level) == Some(level) {
            return Ok(());
        }
        if self.stamped != Some(at) {
            self.out.timestamp(at)?;
            self.stamped = Some(at);
        }
        self.out.change_scalar(*code, if level { Value::V1 } else { Value::V0 })
    }

    /// Ends the waveform.
    ///
    /// # Errors
    /// The output cannot be written.
    pub fn finish(&mut self) -> io::Result<()> {
        self.out.timestamp(self.now)?;
        self.out.flush()
    }

    /// Output of the waveform.
    pub fn output(&mut self) -> &mut W {
        self.out.writer()
    }
}

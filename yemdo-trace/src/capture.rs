//! A capture of any kind, detected by its content.

use std::io::BufRead;

use yemdo::record::TRAFFIC_HEADER;
use yemdo::trace::Transaction;

use crate::error::CaptureError;
use crate::kernel::Events;
use crate::lines::Lines;
use crate::network::Packets;
use crate::options::CaptureOptions;
use crate::printed::Printed;
use crate::recording;
use crate::table::Table;
use crate::vcd::Waves;

/// A transfer of a capture, and its line.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Captured {
    /// The transfer.
    pub transaction: Transaction,
    /// Line of the text, or number of the packet, from 1; 0 if it has none.
    pub line: u64,
    /// SPI: the name of the chip select.
    pub select: Option<String>,
}

impl Captured {
    pub(crate) fn new(transaction: Transaction, line: u64) -> Self {
        Self { transaction, line, select: None }
    }
}

/// An item of a capture.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Item {
    /// A transfer.
    Transfer(Captured),
    /// Bytes of a frame, printed by a board.
    Frame {
        /// Microseconds since the beginning.
        at: u64,
        /// The words before the bytes: one of them may name the frame.
        names: Vec<String>,
        /// The bytes.
        bytes: Vec<u8>,
        /// Line of the text.
        line: u64,
    },
    /// Bytes that are none.
    Damaged {
        /// Microseconds since the beginning.
        at: u64,
        /// Reason.
        why: String,
        /// The bytes.
        bytes: Vec<u8>,
        /// Line of the text, or number of the packet; 0 if it has none.
        line: u64,
    },
}

impl Item {
    pub(crate) fn damaged(at: u64, why: String, bytes: Vec<u8>, line: u64) -> Self {
        Item::Damaged { at, why, bytes, line }
    }
}

/// The kind of a capture.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum CaptureKind {
    /// A recording of this library.
    Recording,
    /// A value change dump: levels of lines.
    Waveform,
    /// A table of levels or transfers.
    Table,
    /// Trace events of the Linux kernel.
    Kernel,
    /// Packets of a network.
    Network,
    /// Lines with bytes that a board printed.
    Printed,
}

impl CaptureKind {
    /// In words.
    pub fn as_str(self) -> &'static str {
        match self {
            CaptureKind::Recording => "recording",
            CaptureKind::Waveform => "waveform (VCD)",
            CaptureKind::Table => "table",
            CaptureKind::Kernel => "kernel trace",
            CaptureKind::Network => "network capture",
            CaptureKind::Printed => "printed lines",
        }
    }

    /// The kind of a capture that begins with these bytes.
    ///
    /// # Errors
    /// [`CaptureError`]: no capture, with a guess of its format.
    pub fn of(head: &[u8]) -> Result<CaptureKind, CaptureError> {
        let magic = head.first_chunk::<4>().map_or(0, |bytes| u32::from_le_bytes(*bytes));
        if matches!(magic, 0xA1B2_C3D4 | 0xD4C3_B2A1 | 0xA1B2_3C4D | 0x4D3C_B2A1 | 0x0A0D_0D0A) {
            return Ok(CaptureKind::Network);
        }
        let looks = |what: &str, help: &str| Err(CaptureError::new(format!("this is no capture but {what}")).help(help));
        if head.starts_with(&[0x1F, 0x8B]) || head.starts_with(b"PK") || head.starts_with(&[0xFD, b'7', b'z']) {
            return looks("a compressed file", "decompress it first");
        }
        if head.starts_with(&[0xFF, 0xFE]) || head.starts_with(&[0xFE, 0xFF]) {
            return looks("text in UTF-16", "save it as UTF-8");
        }
        if head.iter().take(512).any(|byte| *byte == 0) {
            return looks("a binary file", EXPECTED);
        }
        let text = String::from_utf8_lossy(head);
        let text = text.trim_start_matches('\u{FEFF}').trim_start();
        if text.is_empty() {
            return Err(CaptureError::new("the capture is empty"));
        }
        let first = text.lines().next().unwrap_or("");
        if first.trim() == TRAFFIC_HEADER {
            return Ok(CaptureKind::Recording);
        }
        if text.starts_with('$') && ["$timescale", "$var", "$date", "$version", "$comment", "$scope"].iter().any(|word| text.contains(word))
        {
            return Ok(CaptureKind::Waveform);
        }
        if text.starts_with("# tracer:") || Events::EVENTS.iter().any(|event| text.contains(&format!(" {event}: "))) {
            return Ok(CaptureKind::Kernel);
        }
        if Table::is_heading(first) {
            return Ok(CaptureKind::Table);
        }
        if Printed::is_it(text) {
            return Ok(CaptureKind::Printed);
        }
        looks("text without bytes", EXPECTED)
    }
}

const EXPECTED: &str = "expected VCD, a CSV table with a heading, pcap or pcapng, a kernel trace of i2c or spi events, lines with bytes, or a recording of yemdo";

/// A capture that is read item by item, in constant memory.
pub struct Capture<R: BufRead>(Source<R>);

enum Source<R: BufRead> {
    Recording(Lines<R>),
    Waveform(Box<Waves<R>>),
    Table(Box<Table<R>>),
    Kernel(Box<Events<R>>),
    Network(Box<Packets<R>>),
    Printed(Box<Printed<R>>),
}

impl<R: BufRead + Send + 'static> Capture<R> {
    /// Detects the format of a capture.
    ///
    /// # Errors
    /// [`CaptureError`]: it is no capture; its lines are no bus; columns are missing.
    pub fn open(mut input: R, options: CaptureOptions) -> Result<Self, CaptureError> {
        let head = input.fill_buf().map_err(|error| CaptureError::reading(&error))?;
        let source = match CaptureKind::of(head)? {
            CaptureKind::Recording => Source::Recording(Lines::new(input)),
            CaptureKind::Waveform => Source::Waveform(Box::new(Waves::open(input, &options)?)),
            CaptureKind::Table => {
                let head = String::from_utf8_lossy(head).into_owned();
                Source::Table(Box::new(Table::open(input, &head, &options)?))
            }
            CaptureKind::Kernel => Source::Kernel(Box::new(Events::new(input))),
            CaptureKind::Printed => {
                let head = String::from_utf8_lossy(head).into_owned();
                Source::Printed(Box::new(Printed::open(input, &head, &options)?))
            }
            CaptureKind::Network => Source::Network(Box::new(Packets::open(input, options.port)?)),
        };
        Ok(Self(source))
    }

    /// Its kind.
    pub fn kind(&self) -> CaptureKind {
        match &self.0 {
            Source::Recording(_) => CaptureKind::Recording,
            Source::Waveform(_) => CaptureKind::Waveform,
            Source::Table(_) => CaptureKind::Table,
            Source::Kernel(_) => CaptureKind::Kernel,
            Source::Network(_) => CaptureKind::Network,
            Source::Printed(_) => CaptureKind::Printed,
        }
    }

    /// How lines and columns were understood.
    pub fn understood(&self) -> String {
        match &self.0 {
            Source::Waveform(waves) => waves.understood(),
            Source::Table(table) => table.understood(),
            Source::Network(packets) => packets.understood(),
            Source::Printed(printed) => printed.understood(),
            Source::Recording(_) | Source::Kernel(_) => String::new(),
        }
    }

    /// The next item; `None` at the end.
    ///
    /// # Errors
    /// [`CaptureError`]: the capture is damaged or cut off.
    pub fn next_item(&mut self) -> Result<Option<Item>, CaptureError> {
        match &mut self.0 {
            Source::Recording(lines) => loop {
                let Some((line, text)) = lines.next_line()? else { return Ok(None) };
                if let Some(item) = recording::item(&text, line)? {
                    return Ok(Some(item));
                }
            },
            Source::Waveform(waves) => waves.next_item(),
            Source::Table(table) => table.next_item(),
            Source::Kernel(events) => events.next_item(),
            Source::Network(packets) => packets.next_item(),
            Source::Printed(printed) => printed.next_item(),
        }
    }

    /// Dropped or incomplete items so far.
    pub fn notes(&self) -> Vec<String> {
        match &self.0 {
            Source::Waveform(waves) => waves.notes(),
            Source::Table(table) => table.notes(),
            Source::Network(packets) => packets.notes(),
            Source::Printed(printed) => printed.notes(),
            Source::Recording(_) | Source::Kernel(_) => Vec::new(),
        }
    }

    /// The time of the beginning in seconds since 1970; `None` if the capture does not say.
    pub fn epoch(&self) -> Option<f64> {
        if let Source::Network(packets) = &self.0 { packets.epoch() } else { None }
    }
}

impl<R: BufRead> std::fmt::Debug for Capture<R> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Capture")
    }
}

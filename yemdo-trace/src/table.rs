//! Tables with a heading: levels of lines over time, or transfers.

use std::collections::VecDeque;
use std::io::BufRead;

use csv::{ByteRecord, Reader, ReaderBuilder};
use yemdo::bus::{Bus, Transfer};
use yemdo::record::Traffic;
use yemdo::trace::Transaction;

use crate::capture::{Captured, Item};
use crate::cells::{bytes, damaged, delimiter, is_hex, level, missing, number, unit_name, words};
use crate::edges::{Probes, micros};
use crate::error::{CaptureError, Tell};
use crate::exchanged::SpiRows;
use crate::lines::MAX_LINE;
use crate::options::CaptureOptions;

/// A table, read row by row.
pub(crate) struct Table<R> {
    rows: Reader<R>,
    row: ByteRecord,
    time: usize,
    unit: u64,
    origin: Option<f64>,
    last: u64,
    content: Content,
    ready: VecDeque<Item>,
    over: bool,
    understood: String,
}

enum Content {
    /// Levels: the columns of the lines.
    Levels { probes: Box<Probes>, columns: Vec<usize> },
    /// Transfers.
    Transfers(Roles),
    /// Transfers over SPI.
    Exchanges(SpiRows),
}

/// The columns of a table of transfers.
struct Roles {
    direction: Option<usize>,
    address: Option<usize>,
    data: usize,
    ack: Option<usize>,
    /// Rows with the same value here are one transfer.
    group: Option<usize>,
    hex: bool,
    /// The transfer that may go on in the next row.
    open: Option<Open>,
}

struct Open {
    group: String,
    at: u64,
    end: u64,
    address: u8,
    read: bool,
    bytes: Vec<u8>,
    acknowledged: bool,
    line: u64,
}

/// Usual headings of the columns of transfers.
const DIRECTION: [&str; 8] = ["direction", "dir", "rw", "r/w", "read/write", "operation", "op", "type"];
const ADDRESS: [&str; 3] = ["address", "addr", "slave"];
const DATA: [&str; 6] = ["data", "bytes", "value", "payload", "byte", "hex"];
const ACK: [&str; 5] = ["ack", "acknowledge", "acknowledged", "nak", "ack/nak"];
const GROUP: [&str; 4] = ["packet", "packet id", "transaction", "transfer"];

impl Table<std::io::Empty> {
    /// Whether a line is a heading with a column for the time.
    pub(crate) fn is_heading(line: &str) -> bool {
        let delimiter = delimiter(line);
        let mut cells = line.split(char::from(delimiter));
        line.len() as u64 <= MAX_LINE
            && cells.any(|cell| words(cell).0 == "time" || words(cell).0 == "t")
            && line.contains(char::from(delimiter))
    }
}

impl<R: BufRead> Table<R> {
    pub(crate) fn open(input: R, head: &str, options: &CaptureOptions) -> Result<Self, CaptureError> {
        let first = head.trim_start_matches('\u{FEFF}').lines().next().unwrap_or("");
        let mut rows = ReaderBuilder::new().delimiter(delimiter(first)).flexible(true).from_reader(input);
        let headings: Vec<String> = rows
            .headers()
            .map_err(|error| damaged(&error))?
            .iter()
            .map(|cell| cell.trim_start_matches('\u{FEFF}').trim().to_owned())
            .collect();
        let named = |role: &str| options.columns.named.iter().find(|(own, _)| own == role).map(|(_, heading)| heading.as_str());
        if let Some((role, heading)) = options.columns.named.iter().find(|(_, heading)| !headings.contains(heading)) {
            let error = CaptureError::new(format!("there is no column `{heading}` for {role}"));
            return Err(error.help(format!("the table has {}", headings.join(", "))));
        }
        let find = |role: &str, usual: &[&str]| {
            let by_name = named(role).and_then(|name| headings.iter().position(|heading| heading == name));
            by_name.or_else(|| headings.iter().position(|heading| usual.contains(&words(heading).0.as_str())))
        };
        let time = find("time", &["time", "t"]).ok_or_else(|| missing("time", &headings))?;
        let unit = options.unit.or_else(|| words(headings.get(time)?).1).ok_or_else(|| {
            let error = CaptureError::new(format!("the column `{}` has no unit of time", headings.get(time).map_or("", String::as_str)));
            error.tell(Tell::Unit)
        })?;
        let lines: Vec<usize> =
            (0..headings.len()).filter(|at| *at != time && headings.get(*at).is_some_and(|name| options.role_of(name).is_some())).collect();
        let mut understood = format!("time in {}", unit_name(unit));
        let spi = SpiRows::of(head, &headings, &lines, options)?;
        let content = if let Some(rows) = spi {
            understood.push_str(&rows.understood(&headings));
            Content::Exchanges(rows)
        } else if lines.is_empty() {
            let data = find("data", &DATA).ok_or_else(|| missing("data", &headings))?;
            let (direction, address) = (find("direction", &DIRECTION), find("address", &ADDRESS));
            for (what, column) in [("direction", direction), ("address", address), ("data", Some(data))] {
                column.and_then(|at| headings.get(at)).into_iter().for_each(|name| understood.push_str(&format!(", {what} in `{name}`")));
            }
            let hex = is_hex(head, &headings, &[Some(data), address], options)?;
            understood.push_str(if hex { ", bytes in hex" } else { ", bytes in decimal" });
            Content::Transfers(Roles { direction, address, data, ack: find("ack", &ACK), group: find("group", &GROUP), hex, open: None })
        } else {
            let names: Vec<String> = lines.iter().filter_map(|at| headings.get(*at).cloned()).collect();
            let probes = Probes::new(&names, options)?;
            probes.used(options).into_iter().for_each(|used| understood.push_str(&format!(", {used}")));
            Content::Levels { probes: Box::new(probes), columns: lines }
        };
        Ok(Self {
            rows,
            row: ByteRecord::new(),
            time,
            unit,
            origin: None,
            last: 0,
            content,
            ready: VecDeque::new(),
            over: false,
            understood,
        })
    }

    pub(crate) fn next_item(&mut self) -> Result<Option<Item>, CaptureError> {
        loop {
            if let Content::Levels { probes, .. } = &mut self.content
                && let Some(item) = probes.ready()
            {
                return Ok(Some(item));
            }
            if let Some(item) = self.ready.pop_front() {
                return Ok(Some(item));
            }
            if self.over {
                return Ok(None);
            }
            if !self.rows.read_byte_record(&mut self.row).map_err(|error| damaged(&error))? {
                self.over = true;
                match &mut self.content {
                    Content::Levels { probes, .. } => probes.end(self.last)?,
                    Content::Transfers(roles) => self.ready.extend(roles.open.take().map(Open::item)),
                    Content::Exchanges(_) => {}
                }
                continue;
            }
            let line = self.row.position().map_or(0, csv::Position::line);
            let at = self.time(line)?;
            match &mut self.content {
                Content::Levels { probes, columns } => {
                    for (line_of, column) in columns.iter().enumerate() {
                        let cell = self.row.get(*column).unwrap_or(b"");
                        probes.edge(at, line_of, level(cell).map_err(|error| error.at(line))?);
                    }
                }
                Content::Transfers(roles) => self.ready.extend(roles.row(&self.row, micros(at), line)?),
                Content::Exchanges(rows) => self.ready.push_back(rows.row(&self.row, micros(at), line)?),
            }
        }
    }

    /// The time of the row, in picoseconds since the first.
    fn time(&mut self, line: u64) -> Result<u64, CaptureError> {
        let cell = String::from_utf8_lossy(self.row.get(self.time).unwrap_or(b"")).trim().to_owned();
        let number = cell.parse::<f64>().ok().filter(|number| number.is_finite());
        let number = number.ok_or_else(|| {
            let help = if cell.contains(',') { "write a decimal point" } else { "expected a number" };
            CaptureError::new(format!("`{cell}` is no time")).at(line).help(help)
        })?;
        let origin = *self.origin.get_or_insert(number);
        let at = ((number - origin) * self.unit as f64).round();
        if !(0.0..=1e18).contains(&at) || (at as u64) < self.last {
            return Err(CaptureError::new(format!("the time goes back to {cell}")).at(line));
        }
        self.last = at as u64;
        Ok(self.last)
    }

    pub(crate) fn understood(&self) -> String {
        self.understood.clone()
    }

    pub(crate) fn notes(&self) -> Vec<String> {
        if let Content::Levels { probes, .. } = &self.content { probes.notes() } else { Vec::new() }
    }
}

impl Roles {
    /// Takes a row; returns the transfer before it, if that is complete.
    fn row(&mut self, row: &ByteRecord, at: u64, line: u64) -> Result<Option<Item>, CaptureError> {
        let cell = |column: Option<usize>| String::from_utf8_lossy(column.and_then(|at| row.get(at)).unwrap_or(b"")).trim().to_owned();
        let bad = |what: &str, cell: &str, help: &str| CaptureError::new(format!("`{cell}` is no {what}")).at(line).help(help);
        let address = cell(self.address);
        let address = match (number(&address, self.hex), address.is_empty(), &self.open) {
            (Some(address), ..) if address < 0x80 => address,
            (Some(address), ..) => {
                return Err(bad("7-bit address", &format!("0x{address:02X}"), &format!("its 7-bit form is 0x{:02X}", address >> 1)));
            }
            // The rows after the first of a transfer may leave it out.
            (None, true, Some(open)) => open.address,
            _ => return Err(bad("address", &address, "expected a 7-bit address")),
        };
        let direction = cell(self.direction).to_ascii_lowercase();
        let read = match direction.as_bytes().first() {
            Some(b'r' | b'1') => true,
            Some(b'w' | b't' | b'0') => false,
            None => self.open.as_ref().is_some_and(|open| open.read),
            _ => return Err(bad("direction", &direction, "expected read or write")),
        };
        let text = cell(Some(self.data));
        let own = bytes(&text, self.hex).ok_or_else(|| bad("sequence of bytes", &text, "expected bytes such as 0x19 0xC0"))?;
        let ack = cell(self.ack).to_ascii_lowercase();
        let acknowledged = !matches!(ack.as_str(), "nak" | "nack" | "0" | "false" | "no" | "n");
        let group = cell(self.group);
        let goes_on = self.open.as_ref().is_some_and(|open| self.group.is_some() && open.group == group && open.read == read);
        if let Some(open) = self.open.as_mut().filter(|_| goes_on) {
            open.bytes.extend(own);
            open.end = at;
            // The last byte of a read is never acknowledged.
            open.acknowledged &= acknowledged || read;
            return Ok(None);
        }
        let next = Open { group, at, end: at, address, read, bytes: own, acknowledged: acknowledged || read, line };
        Ok(self.open.replace(next).map(Open::item))
    }
}

impl Open {
    fn item(self) -> Item {
        let (send, receive) = if self.read { (Vec::new(), self.bytes.len()) } else { (self.bytes.clone(), 0) };
        let transfer = Transfer { bus: Bus::I2c, address: Some(self.address), send, receive, restart: true, discard: false };
        let outcome = match (self.acknowledged, self.read) {
            (true, true) => Ok(self.bytes),
            (true, false) => Ok(Vec::new()),
            (false, _) => Err("not acknowledged".to_owned()),
        };
        let traffic = Traffic { at: self.at, transfer, outcome };
        Item::Transfer(Captured::new(Transaction::new(traffic, self.at, self.end, None), self.line))
    }
}

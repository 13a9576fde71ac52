//! Events of the Linux kernel as text from tracefs: I2C, SMBus and SPI.
//!
//! The forms of the lines are those of `include/trace/events/i2c.h`, `smbus.h` and `spi.h` of the kernel.

use std::collections::{BTreeMap, VecDeque};
use std::io::BufRead;

use yemdo::bus::{Bus, Transfer};
use yemdo::record::Traffic;
use yemdo::trace::Transaction;

use crate::capture::{Captured, Item};
use crate::error::CaptureError;
use crate::lines::Lines;

/// A kernel trace, read event by event.
pub(crate) struct Events<R> {
    lines: Lines<R>,
    origin: Option<u64>,
    /// Messages of transfers under way, by adapter.
    i2c: BTreeMap<String, Vec<Message>>,
    smbus: BTreeMap<String, Smbus>,
    /// Bytes of SPI messages under way, by device.
    spi: BTreeMap<String, Spi>,
    ready: VecDeque<Item>,
}

/// A message of an I2C transfer.
#[derive(Debug)]
struct Message {
    at: u64,
    address: u8,
    read: bool,
    length: usize,
    data: Vec<u8>,
}

/// An SMBus operation under way.
#[derive(Debug)]
struct Smbus {
    at: u64,
    address: u8,
    send: Vec<u8>,
    receive: usize,
    data: Vec<u8>,
    /// The count before the data of a block is not on the wire.
    counted: bool,
    /// It is done with I2C messages, which are traced too.
    emulated: bool,
}

/// An SPI message under way.
#[derive(Debug, Default)]
struct Spi {
    at: u64,
    out: Vec<u8>,
    back: Vec<u8>,
    in_message: bool,
}

/// An event: its time in microseconds, its name, its fields.
struct Event<'t> {
    at: u64,
    name: &'t str,
    fields: &'t str,
}

impl Event<'_> {
    /// Value of a field: `a=044`.
    fn value(&self, key: &str) -> Option<&str> {
        self.fields.split_whitespace().find_map(|word| word.strip_prefix(key)?.strip_prefix('='))
    }

    fn hex(&self, key: &str) -> Option<u8> {
        u8::from_str_radix(self.value(key)?, 16).ok()
    }

    fn number(&self, key: &str) -> Option<i64> {
        self.value(key)?.parse().ok()
    }

    /// Bytes in brackets, after a word or anywhere: `[02-14]`, `tx=[02-14]`.
    fn bytes(&self, before: &str) -> Vec<u8> {
        let Some((_, rest)) = self.fields.split_once(&format!("{before}[")) else { return Vec::new() };
        let inner = rest.split(']').next().unwrap_or("");
        inner.split('-').filter_map(|byte| u8::from_str_radix(byte.trim(), 16).ok()).collect()
    }

    fn device(&self) -> String {
        self.fields.split_whitespace().next().unwrap_or("").to_owned()
    }
}

impl Events<std::io::Empty> {
    /// Names of the events that are read.
    pub(crate) const EVENTS: [&'static str; 12] = [
        "i2c_write",
        "i2c_read",
        "i2c_reply",
        "i2c_result",
        "smbus_write",
        "smbus_read",
        "smbus_reply",
        "smbus_result",
        "spi_message_start",
        "spi_message_done",
        "spi_transfer_start",
        "spi_transfer_stop",
    ];
}

impl<R: BufRead> Events<R> {
    pub(crate) fn new(input: R) -> Self {
        Self {
            lines: Lines::new(input),
            origin: None,
            i2c: BTreeMap::new(),
            smbus: BTreeMap::new(),
            spi: BTreeMap::new(),
            ready: VecDeque::new(),
        }
    }

    pub(crate) fn next_item(&mut self) -> Result<Option<Item>, CaptureError> {
        loop {
            if let Some(item) = self.ready.pop_front() {
                return Ok(Some(item));
            }
            let Some((line, text)) = self.lines.next_line()? else { return Ok(None) };
            let Some((before, name, fields)) = split(&text) else { continue };
            let time = before.trim_end_matches(':').rsplit(' ').next().and_then(micros);
            let time = time.ok_or_else(|| CaptureError::new("expected the time of the event in seconds, such as 12.345678:").at(line))?;
            let origin = *self.origin.get_or_insert(time);
            let at = time.checked_sub(origin).ok_or_else(|| CaptureError::new("the time goes back").at(line))?;
            let event = Event { at, name, fields };
            match name.split('_').next() {
                Some("i2c") => self.i2c_event(&event, line),
                Some("smbus") => self.smbus_event(&event, line),
                _ => self.spi_event(&event, line),
            }
        }
    }

    fn i2c_event(&mut self, event: &Event<'_>, line: u64) {
        let device = event.device();
        self.smbus.get_mut(&device).into_iter().for_each(|smbus| smbus.emulated = true);
        let messages = self.i2c.entry(device.clone()).or_default();
        let place = |fields: &str| fields.split_whitespace().nth(1)?.strip_prefix('#')?.parse::<usize>().ok();
        match event.name {
            "i2c_result" => {
                let messages = self.i2c.remove(&device).unwrap_or_default();
                let result = event.number("ret").unwrap_or(0);
                self.ready.extend(transfers(messages, result, event.at, line));
            }
            "i2c_reply" => {
                if let Some(message) = place(event.fields).and_then(|at| messages.get_mut(at)) {
                    message.data = event.bytes("");
                }
            }
            _ => {
                // The first message starts again if the previous result was lost.
                if place(event.fields) == Some(0) {
                    messages.clear();
                }
                let (Some(address), Some(length)) = (event.hex("a"), event.number("l")) else { return };
                let length = usize::try_from(length).unwrap_or(0);
                messages.push(Message { at: event.at, address, read: event.name == "i2c_read", length, data: event.bytes("") });
            }
        }
    }

    fn smbus_event(&mut self, event: &Event<'_>, line: u64) {
        let device = event.device();
        match event.name {
            "smbus_reply" => {
                if let Some(smbus) = self.smbus.get_mut(&device) {
                    let skip = usize::from(smbus.counted);
                    smbus.data = event.bytes("").into_iter().skip(skip).collect();
                }
            }
            "smbus_result" => {
                let Some(smbus) = self.smbus.remove(&device).filter(|smbus| !smbus.emulated) else { return };
                let result = event.number("res").unwrap_or(0);
                let receive = if smbus.receive > 0 { smbus.data.len().max(smbus.receive) } else { 0 };
                let outcome = if result < 0 { Err(reason(result)) } else { Ok(smbus.data) };
                self.ready.push_back(transfer(smbus.at, event.at, smbus.address, smbus.send, receive, outcome, line));
            }
            _ => {
                let (Some(address), Some(command)) = (event.hex("a"), event.hex("c")) else { return };
                let writes = event.name == "smbus_write";
                let protocol = event.fields.split_whitespace().nth(4).unwrap_or("");
                let counted = protocol.starts_with("I2C_BLOCK");
                let mut send = if protocol == "QUICK" || (protocol == "BYTE" && !writes) { Vec::new() } else { vec![command] };
                if writes && protocol != "BYTE" {
                    send.extend(event.bytes("").into_iter().skip(usize::from(counted)));
                }
                let receive = usize::from(!writes && protocol != "QUICK") * if protocol == "WORD_DATA" { 2 } else { 1 };
                let smbus = Smbus { at: event.at, address, send, receive, data: Vec::new(), counted, emulated: false };
                self.smbus.insert(device, smbus);
            }
        }
    }

    fn spi_event(&mut self, event: &Event<'_>, line: u64) {
        let device = event.device();
        match event.name {
            "spi_message_start" => {
                self.spi.insert(device, Spi { at: event.at, in_message: true, ..Spi::default() });
            }
            "spi_transfer_start" => {
                self.spi.entry(device).or_insert_with(|| Spi { at: event.at, ..Spi::default() });
            }
            "spi_transfer_stop" => {
                let Some(spi) = self.spi.get_mut(&device) else { return };
                let length = usize::try_from(event.number("len").unwrap_or(0)).unwrap_or(0).min(1 << 16);
                let whole = |mut bytes: Vec<u8>| {
                    bytes.resize(length, 0);
                    bytes
                };
                spi.out.extend(whole(event.bytes("tx=")));
                spi.back.extend(whole(event.bytes("rx=")));
                if !spi.in_message {
                    self.spi_done(&device, event.at, line);
                }
            }
            _ => self.spi_done(&device, event.at, line),
        }
    }

    fn spi_done(&mut self, device: &str, end: u64, line: u64) {
        let Some(spi) = self.spi.remove(device).filter(|spi| !spi.out.is_empty()) else { return };
        let transfer = Transfer { bus: Bus::Spi, address: None, send: spi.out, receive: 0, restart: false, discard: false };
        let traffic = Traffic { at: spi.at, transfer, outcome: Ok(spi.back) };
        let captured = Captured::new(Transaction::new(traffic, spi.at, end, None), line);
        self.ready.push_back(Item::Transfer(Captured { select: Some(device.to_owned()), ..captured }));
    }
}

/// Text before an event, its name, and its fields.
fn split(text: &str) -> Option<(&str, &'static str, &str)> {
    Events::EVENTS.into_iter().find_map(|name| {
        let (before, rest) = text.split_once(&format!(" {name}: "))?;
        Some((before, name, rest))
    })
}

/// Seconds with decimals, as microseconds.
fn micros(text: &str) -> Option<u64> {
    let (seconds, decimals) = text.split_once('.')?;
    let decimals: String = format!("{decimals:0<6}").chars().take(6).collect();
    seconds.parse::<u64>().ok()?.checked_mul(1_000_000)?.checked_add(decimals.parse().ok()?)
}

/// The transfers of the messages between a start and a stop.
fn transfers(messages: Vec<Message>, result: i64, end: u64, line: u64) -> Vec<Item> {
    let mut found = Vec::new();
    let mut rest = messages.as_slice();
    while let Some((first, behind)) = rest.split_first() {
        let second = behind.first().filter(|second| !first.read && second.read && second.address == first.address);
        rest = if second.is_some() { behind.get(1..).unwrap_or(&[]) } else { behind };
        let reads = second.or(Some(first)).filter(|message| message.read);
        let send = if first.read { Vec::new() } else { first.data.clone() };
        let outcome = if result < 0 { Err(reason(result)) } else { Ok(reads.map_or(Vec::new(), |read| read.data.clone())) };
        let receive = reads.map_or(0, |read| read.length);
        found.push(transfer(first.at, end, first.address, send, receive, outcome, line));
    }
    found
}

fn transfer(at: u64, end: u64, address: u8, send: Vec<u8>, receive: usize, outcome: Result<Vec<u8>, String>, line: u64) -> Item {
    let transfer = Transfer { bus: Bus::I2c, address: Some(address), send, receive, restart: true, discard: false };
    let traffic = Traffic { at, transfer, outcome };
    // The trace has no time for the beginning of the answer.
    Item::Transfer(Captured::new(Transaction::new(traffic, at, end, None), line))
}

/// The kernel's error number in words (`errno.h`).
fn reason(result: i64) -> String {
    match result {
        -6 | -121 => "not acknowledged".into(),
        -11 => "arbitration lost".into(),
        -110 => "time-out".into(),
        -16 => "bus busy".into(),
        other => format!("error {other}"),
    }
}

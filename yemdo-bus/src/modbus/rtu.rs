//! RTU over a serial line.

use std::thread;
use std::time::{Duration, Instant};

use yemdo::bus::Transfer;
use yemdo::bus::modbus::unwrap_rtu;

use super::{Counts, MAX_PDU, Patience, Stream, again, is_echo, nothing_came, response_length, stream_error};
use crate::error::{BusError, Cause};
use crate::port::Port;

/// A Modbus RTU client over anything that reads and writes.
#[derive(Debug)]
pub struct RtuPort<S> {
    stream: S,
    silence: Duration,
    character: Duration,
    patience: Patience,
    counts: Counts,
    start: Instant,
    /// When the line was used last.
    used: Option<Instant>,
}

/// From one look for bytes to the next.
const LOOK: Duration = Duration::from_millis(5);

/// How long a character takes, and the silence between frames: eleven bits a character; above 19 200 baud the silence stays 1.75 ms (Serial
/// Line V1.02, section 2.5.1.1).
fn times(baud: u32) -> (Duration, Duration) {
    let character = Duration::from_nanos(11_000_000_000 / u64::from(baud.max(1)));
    (character, if baud > 19_200 { Duration::from_micros(1750) } else { character * 7 / 2 })
}

impl<S: Stream> RtuPort<S> {
    /// A client at so many bits a second.
    pub fn new(stream: S, baud: u32, patience: Patience) -> Self {
        let (character, silence) = times(baud);
        Self { stream, silence, character, patience, counts: Counts::default(), start: Instant::now(), used: None }
    }

    /// What it has seen so far.
    pub fn counts(&self) -> Counts {
        self.counts
    }

    /// The stream.
    pub fn stream_mut(&mut self) -> &mut S {
        &mut self.stream
    }

    /// Throws away what is on the line: garbage, and answers that came too late.
    fn discard(&mut self) -> Result<(), BusError> {
        let mut room = [0; 256];
        self.stream.set_time(Duration::from_millis(1)).map_err(|error| stream_error("serial line", error))?;
        loop {
            match self.stream.read(&mut room) {
                Ok(0) => return Ok(()),
                Ok(count) => self.counts.discarded += count as u64,
                Err(error) if nothing_came(&error) => return Ok(()),
                Err(error) => return Err(stream_error("serial line", error)),
            }
            // A line that never falls silent is no line to ask anything over.
            if self.counts.discarded > 1 << 20 {
                return Err(BusError::new(Cause::Garbage, "the line never falls silent"));
            }
        }
    }

    fn once(&mut self, send: &[u8]) -> Result<Vec<u8>, BusError> {
        self.counts.requests += 1;
        if let Some(used) = self.used {
            thread::sleep(self.silence.saturating_sub(used.elapsed()));
        }
        self.discard()?;
        self.stream.write_all(send).and_then(|()| self.stream.flush()).map_err(|error| stream_error("serial line", error))?;
        let unit = send.first().copied().unwrap_or(0);
        let asked = send.get(1).copied().unwrap_or(0);
        if unit == 0 {
            // Nobody answers a broadcast; the units get time to do what it says.
            thread::sleep(Duration::from_millis(100));
            self.used = Some(Instant::now());
            return Ok(Vec::new());
        }
        let mut heard: Vec<u8> = Vec::new();
        let mut own = if self.patience.echo { send.len() } else { 0 };
        // The request itself takes its time on the line.
        let end = Instant::now() + self.patience.response + self.character * send.len() as u32;
        let mut room = [0; 256];
        self.stream.set_time(LOOK).map_err(|error| stream_error("serial line", error))?;
        let answer = loop {
            match self.stream.read(&mut room) {
                Ok(count) => {
                    heard.extend_from_slice(room.get(..count).unwrap_or(&[]));
                    if count == 0 {
                        thread::sleep(LOOK);
                    }
                }
                Err(error) if nothing_came(&error) => {}
                Err(error) => return Err(stream_error("serial line", error)),
            }
            if own > 0 && heard.len() >= own {
                if heard.get(..own) == Some(send) {
                    heard.drain(..own);
                }
                own = 0;
            }
            if own == 0
                && let Some(found) = frame_in(&heard, unit, asked).or_else(|| echo_in(&heard, send))
            {
                self.counts.discarded += found.0 as u64;
                break heard.get(found.0..found.1).unwrap_or(&[]).to_vec();
            }
            if Instant::now() >= end || heard.len() > 4 * MAX_PDU {
                self.used = Some(Instant::now());
                self.counts.discarded += heard.len() as u64;
                return Err(self.nothing(unit, &heard));
            }
        };
        self.used = Some(Instant::now());
        Ok(answer)
    }

    fn nothing(&mut self, unit: u8, heard: &[u8]) -> BusError {
        if heard.is_empty() {
            self.counts.time_outs += 1;
            return BusError::new(Cause::TimeOut, format!("unit {unit}: no response in {} ms", self.patience.response.as_millis()))
                .help("is it powered, is the unit id right, are A and B swapped? `scan` looks for units, bauds and parities");
        }
        let shown = yemdo::to_hex(heard.get(..heard.len().min(16)).unwrap_or(&[]));
        BusError::new(Cause::Garbage, format!("unit {unit}: {} bytes came that are no response: {shown}", heard.len()))
            .help("another baud rate or parity looks like this; `scan` tries them")
    }
}

/// A whole frame of the unit that answers the function, among bytes that may begin with others: where it begins and ends.
fn frame_in(heard: &[u8], unit: u8, asked: u8) -> Option<(usize, usize)> {
    (0..heard.len()).find_map(|from| {
        let rest = heard.get(from..)?;
        let (first, pdu) = rest.split_first()?;
        let function = *pdu.first()?;
        if *first != unit || function & 0x7F != asked {
            return None;
        }
        // Of a function that nobody knows, all that came is the response, where its CRC fits.
        let length = response_length(pdu).map_or(rest.len(), |length| length + 3);
        unwrap_rtu(rest.get(..length)?).ok()?;
        Some((from, from + length))
    })
}

/// The response of a unit that has another id since the request: it repeats the write.
fn echo_in(heard: &[u8], send: &[u8]) -> Option<(usize, usize)> {
    let asked = unwrap_rtu(send).ok()?.1;
    let length = response_length(asked)? + 3;
    (0..heard.len()).find_map(|from| {
        let (unit, pdu) = unwrap_rtu(heard.get(from..from + length)?).ok()?;
        ((1..=247).contains(&unit) && is_echo(asked, pdu)).then_some((from, from + length))
    })
}

impl<S: Stream> Port for RtuPort<S> {
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        let mut left = self.patience.retries;
        loop {
            let done = self.once(&transfer.send);
            if !again(&done, &mut left, &mut self.counts) {
                return done;
            }
        }
    }

    fn wait(&mut self, micros: u64) {
        thread::sleep(Duration::from_micros(micros));
    }

    fn line(&mut self, _high: bool, _within: u64) -> Result<bool, BusError> {
        Err(BusError::new(Cause::Unsupported, "there is no data-ready line on Modbus"))
    }

    fn set_baud(&mut self, baud: u32) -> Result<(), BusError> {
        // What was sent before is out at the old speed.
        thread::sleep(self.silence);
        self.stream.set_speed(baud).map_err(|error| stream_error("serial line", error))?;
        (self.character, self.silence) = times(baud);
        Ok(())
    }

    fn now(&mut self) -> u64 {
        self.start.elapsed().as_micros() as u64
    }
}

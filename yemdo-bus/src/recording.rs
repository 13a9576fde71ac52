//! Traffic is recorded, and a recording can be played back as a bus.

use std::fmt;
use std::io::{self, BufRead, Read, Write};

use yemdo::bus::Transfer;
use yemdo::record::{TRAFFIC_HEADER, Traffic};

use crate::error::{BusError, Cause};
use crate::port::{Port, forward};

/// A port whose traffic is written down, line by line as it happens.
#[derive(Debug)]
pub struct Recorder<P, W> {
    port: P,
    out: W,
    start: Option<u64>,
}

impl<P: Port, W: Write> Recorder<P, W> {
    /// Records what goes over a port.
    ///
    /// # Errors
    /// The first line cannot be written.
    pub fn new(port: P, mut out: W, about: &str) -> io::Result<Self> {
        writeln!(out, "{TRAFFIC_HEADER}")?;
        for line in about.lines() {
            writeln!(out, "# {line}")?;
        }
        out.flush()?;
        Ok(Self { port, out, start: None })
    }
}

impl<P: Port, W: Write> Port for Recorder<P, W> {
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        let now = self.port.now();
        let at = now - *self.start.get_or_insert(now);
        let outcome = self.port.transfer(transfer);
        let line = Traffic::new(at, transfer, outcome.as_deref().map_err(|error| error as &dyn fmt::Display));
        // A recording must be complete.
        writeln!(self.out, "{line}")
            .and_then(|()| self.out.flush())
            .map_err(|error| BusError::new(Cause::Other, format!("the recording cannot be written: {error}")).because(error))?;
        outcome
    }

    forward!(self => self.port);
}

/// A recording as a port: what was asked then is asked again, in the same order, and answered as then.
#[derive(Clone, Debug)]
pub struct Playback {
    traffic: Vec<(usize, Traffic)>,
    next: usize,
    now: u64,
}

/// Largest recording that is played, in bytes.
pub const MAX_RECORDING: u64 = 64 << 20;

/// Maximum length of the header line, in bytes.
const FIRST_LINE: u64 = 256;

/// So many operations ahead are looked for the one that is asked: a client may leave some out.
const AHEAD: usize = 64;

impl Playback {
    /// Reads a recording from a file or device, up to [`MAX_RECORDING`] bytes of it.
    ///
    /// # Errors
    /// As [`parse`](Self::parse); line 0 where it cannot be read.
    pub fn read(from: impl io::Read) -> Result<Self, (usize, String)> {
        let mut from = io::BufReader::new(from).take(MAX_RECORDING + 1);
        let failed = |error: io::Error| (0, error.to_string());
        // Without the header, the rest is not read: a device file may be endless.
        let mut bytes = Vec::new();
        from.by_ref().take(FIRST_LINE).read_until(b'\n', &mut bytes).map_err(failed)?;
        if bytes.trim_ascii() != TRAFFIC_HEADER.as_bytes() {
            return Err((1, format!("a recording begins with `{TRAFFIC_HEADER}`")));
        }
        from.read_to_end(&mut bytes).map_err(failed)?;
        if bytes.len() as u64 > MAX_RECORDING {
            return Err((0, format!("it has more than {MAX_RECORDING} bytes")));
        }
        Self::parse(&String::from_utf8(bytes).map_err(|error| (0, error.to_string()))?)
    }

    /// Reads a recording. Times must not decrease.
    ///
    /// # Errors
    /// The line, and what was expected there.
    pub fn parse(text: &str) -> Result<Self, (usize, String)> {
        if text.lines().next().map(str::trim) != Some(TRAFFIC_HEADER) {
            return Err((1, format!("a recording begins with `{TRAFFIC_HEADER}`")));
        }
        let mut traffic: Vec<(usize, Traffic)> = Vec::new();
        for (at, line) in text.lines().enumerate() {
            if let Some(one) = Traffic::parse(line).map_err(|error| (at + 1, error))? {
                if let Some((before, _)) = traffic.last().filter(|(_, before)| before.at > one.at) {
                    return Err((at + 1, format!("the time is earlier than in line {before}; expected increasing times")));
                }
                traffic.push((at + 1, one));
            }
        }
        Ok(Self { traffic, next: 0, now: 0 })
    }

    /// Whether all of it was played.
    pub fn is_over(&self) -> bool {
        self.next >= self.traffic.len()
    }
}

impl Port for Playback {
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        let ahead = self.traffic.iter().enumerate().skip(self.next).take(AHEAD);
        let found = ahead.clone().find(|(_, (_, traffic))| traffic.is(transfer));
        let Some((at, (_, traffic))) = found else {
            let what = match self.traffic.get(self.next) {
                Some((line, next)) => {
                    format!("asked for {}; the recording goes on with {} in line {line}", transfer.text(), next.transfer.text())
                }
                None => format!("asked for {}, and the recording is over", transfer.text()),
            };
            return Err(BusError::new(Cause::OtherTraffic, what).help("play a recording with the command, sheet and settings that made it"));
        };
        self.next = at + 1;
        self.now = self.now.max(traffic.at);
        match &traffic.outcome {
            Ok(bytes) => Ok(bytes.clone()),
            Err(error) => Err(BusError::new(Cause::NakAddress, error.clone())),
        }
    }

    fn wait(&mut self, micros: u64) {
        self.now += micros;
    }

    fn line(&mut self, _high: bool, _within: u64) -> Result<bool, BusError> {
        Ok(true)
    }

    /// The time of the next recorded operation, as no time passes before it.
    fn now(&mut self) -> u64 {
        self.traffic.get(self.next).map_or(self.now, |(_, next)| self.now.max(next.at))
    }
}

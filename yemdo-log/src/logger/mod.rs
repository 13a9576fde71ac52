//! The measuring loop: scheduling, errors, reconnecting, reports.

mod clock;
mod station;

use std::fmt::Display;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use yemdo_bus::{Cause, Device, DeviceError, Measurement, Port};

use crate::entry::{Entry, EntryFrame};
use crate::error::LogError;
use crate::file::LogFile;
use station::Reader;

pub use clock::Clock;
pub use station::{Station, Tally};

/// After a failure with the device itself, so long until it is opened again, in microseconds.
const REOPEN: u64 = 500_000;

/// What somebody who watches may change while it runs.
#[derive(Debug, Default)]
pub struct Control {
    /// Nothing is measured while it is set.
    pub paused: AtomicBool,
    /// From one measurement to the next, for all parts, in microseconds; 0: as the stations say.
    pub every: AtomicU64,
}

/// Opens devices, first and again. A closure is one.
pub trait Connect<P: Port> {
    /// Why a device cannot be opened.
    type Error: Display;

    /// The device of a station.
    ///
    /// # Errors
    /// It cannot be opened now; it is tried again.
    fn open(&mut self, station: &Station) -> Result<Device<P>, Self::Error>;

    /// A line is gone, for all that are on it.
    fn gone(&mut self, _line: &str) {}
}

impl<P: Port, E: Display, F: FnMut(&Station) -> Result<Device<P>, E>> Connect<P> for F {
    type Error = E;

    fn open(&mut self, station: &Station) -> Result<Device<P>, E> {
        self(station)
    }
}

/// A measurement, as an [`Audience`] hears of it.
#[derive(Debug)]
#[non_exhaustive]
pub struct Measured<'a, P: Port> {
    /// When, in microseconds since the beginning.
    pub at: u64,
    /// The station.
    pub station: &'a Station,
    /// The frames and readings.
    pub measurement: &'a Measurement,
    /// The log entry.
    pub entry: &'a Entry,
    /// The device.
    pub device: &'a Device<P>,
}

/// Receives the measurements.
pub trait Audience<P: Port> {
    /// Why it wants no more.
    type Error: From<LogError> + From<DeviceError>;

    /// A measurement.
    ///
    /// # Errors
    /// Ends the loop.
    fn measured(&mut self, measured: &Measured<'_, P>) -> Result<(), Self::Error>;

    /// One that failed; its time in microseconds since the beginning.
    ///
    /// # Errors
    /// Ends the loop.
    fn failed(&mut self, _at: u64, _entry: &Entry) -> Result<(), Self::Error> {
        Ok(())
    }

    /// A part cannot be opened; it is tried again.
    fn absent(&mut self, _name: &str, _why: &str) {}

    /// A part that had failed measures again.
    fn back(&mut self, _name: &str) {}

    /// Something happened that has nothing to do with a part.
    fn note(&mut self, _text: &str) {}
}

/// Measures with several parts by their schedules, and keeps a log.
#[derive(Debug)]
pub struct Logger<P: Port> {
    clock: Clock,
    readers: Vec<Reader<P>>,
    log: Option<LogFile>,
    count: Option<u64>,
    duration: Option<u64>,
    speed: Option<f64>,
    control: Arc<Control>,
    stop: Arc<AtomicBool>,
}

/// The result of an attempt to measure.
enum Done {
    Measured(Box<Measurement>),
    Failed(DeviceError),
}

impl<P: Port> Logger<P> {
    /// One without stations, which measures until it is stopped.
    pub fn new(clock: Clock) -> Self {
        let (control, stop) = (Arc::default(), Arc::default());
        Self { clock, readers: Vec::new(), log: None, count: None, duration: None, speed: None, control, stop }
    }

    /// Adds a part.
    pub fn add(&mut self, station: Station) -> &mut Self {
        self.readers.push(Reader::new(station));
        self
    }

    /// Ends after this many measurements of each part, including failed ones.
    pub fn count(&mut self, count: u64) -> &mut Self {
        self.count = Some(count);
        self
    }

    /// Ends after this time in microseconds.
    pub fn duration(&mut self, micros: u64) -> &mut Self {
        self.duration = Some(micros);
        self
    }

    /// Plays recordings at a multiple of their speed; default: as fast as possible.
    pub fn speed(&mut self, factor: f64) -> &mut Self {
        self.speed = Some(factor);
        self
    }

    /// Appends every measurement to a log.
    pub fn log_to(&mut self, log: LogFile) -> &mut Self {
        self.log = Some(log);
        self
    }

    /// Ends where this is set, after the operation that is under way.
    pub fn stopped_by(&mut self, stop: Arc<AtomicBool>) -> &mut Self {
        self.stop = stop;
        self
    }

    /// What may be changed while it runs.
    pub fn control(&self) -> Arc<Control> {
        Arc::clone(&self.control)
    }

    /// The stations, and how they have been going.
    pub fn stations(&self) -> impl Iterator<Item = (&Station, Tally)> {
        self.readers.iter().map(|reader| {
            let retried = reader.device.as_ref().map_or(0, Device::retried);
            (&reader.station, Tally { retried, ..reader.tally.clone() })
        })
    }

    /// The log, for its last words.
    pub fn into_log(self) -> Option<LogFile> {
        self.log
    }

    /// Opens all devices that are not open; gives the names of those that cannot be opened, and why.
    pub fn open<C: Connect<P>>(&mut self, connect: &mut C) -> Vec<(String, C::Error)> {
        let mut absent = Vec::new();
        for reader in self.readers.iter_mut().filter(|reader| reader.device.is_none()) {
            match connect.open(&reader.station) {
                Ok(device) => reader.open(device),
                Err(error) => {
                    reader.fail("not opened");
                    absent.push((reader.station.name.clone(), error));
                }
            }
        }
        absent
    }

    /// Measures until the end.
    ///
    /// # Errors
    /// The audience wants no more, a record cannot be written, or a device fails in a way that will not be better by trying again.
    pub fn run<A: Audience<P>>(&mut self, connect: &mut impl Connect<P>, audience: &mut A) -> Result<(), A::Error> {
        self.clock.start();
        loop {
            let now = self.clock.now();
            if self.is_stopped() || self.duration.is_some_and(|whole| now >= whole) {
                return Ok(());
            }
            if self.control.paused.load(Ordering::Relaxed) {
                self.clock.wait(20_000, &self.stop);
                continue;
            }
            let count = self.count;
            let open = |reader: &&mut Reader<P>| count.is_none_or(|count| reader.tally.tried() < count);
            let Some(next) = self.readers.iter_mut().filter(open).min_by_key(|reader| reader.due) else { return Ok(()) };
            if next.due > now {
                let until = self.duration.map_or(next.due, |whole| next.due.min(whole));
                // Not all at once: somebody may want it otherwise meanwhile.
                self.clock.wait((until - now).min(50_000), &self.stop);
                continue;
            }
            let mut turn = Turn { clock: &self.clock, log: &mut self.log, speed: self.speed, control: &self.control, stop: &self.stop };
            let gone = turn.take(next, connect, audience)?.map(str::to_owned);
            self.clock.keep_pace(&self.stop);
            if let Some(line) = gone {
                connect.gone(&line);
                self.readers.iter_mut().filter(|reader| reader.station.line == line).for_each(Reader::close);
            }
        }
    }

    fn is_stopped(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }
}

/// One attempt to measure with one part.
struct Turn<'a> {
    clock: &'a Clock,
    log: &'a mut Option<LogFile>,
    speed: Option<f64>,
    control: &'a Control,
    stop: &'a AtomicBool,
}

impl Turn<'_> {
    /// Reads one part; gives its line, where that is gone.
    fn take<'r, P: Port, A: Audience<P>>(
        &mut self,
        reader: &'r mut Reader<P>,
        connect: &mut impl Connect<P>,
        audience: &mut A,
    ) -> Result<Option<&'r str>, A::Error> {
        let begin = self.clock.now();
        let every = Some(self.control.every.load(Ordering::Relaxed)).filter(|every| *every > 0).or(reader.station.every);
        if reader.device.is_none() {
            match connect.open(&reader.station) {
                Ok(device) => reader.open(device),
                Err(error) => {
                    reader.fail("not opened");
                    audience.absent(&reader.station.name, &error.to_string());
                    reader.due = self.clock.now() + every.unwrap_or(REOPEN).max(REOPEN);
                    return Ok(None);
                }
            }
        }
        let Some(device) = &mut reader.device else { return Ok(None) };
        let station = &reader.station;
        let begin = if station.own_clock { device.port_mut().now() } else { begin };
        let moment = self.clock.moment(begin, station.own_clock);
        device.measured_at(moment.seconds());
        let ready = if reader.fresh { Reader::prepare(station, device) } else { Ok(()) };
        let mut gone = None;
        match ready.and_then(|()| device.measure()).map_or_else(Done::Failed, |measured| Done::Measured(Box::new(measured))) {
            Done::Measured(measured) => {
                reader.fresh = false;
                reader.tally.good += 1;
                reader.tally.suspect(&measured);
                if std::mem::take(&mut reader.failing) {
                    audience.back(&station.name);
                }
                let mut entry = Entry::new(moment, &station.name, &station.part, &measured, &station.units);
                audience.measured(&Measured { at: begin, station, measurement: &measured, entry: &entry, device })?;
                self.keep(&mut entry, Some(device), audience)?;
            }
            Done::Failed(_) if self.stop.load(Ordering::Relaxed) => return Ok(None),
            Done::Failed(error) if !error.is_transient() && is_hopeless(&error) => return Err(error.into()),
            Done::Failed(error) => {
                let mut entry = Entry::failed(moment, &station.name, &error);
                audience.failed(begin, &entry)?;
                self.keep::<P, A>(&mut entry, None, audience)?;
                // A part that was away comes up as after a reset.
                reader.fresh = !station.set.is_empty() || !station.run.is_empty();
                reader.fail(error.cause());
                if matches!(&error, DeviceError::Bus { error, .. } if error.cause == Cause::Gone) {
                    reader.close();
                    gone = Some(());
                }
                if every.is_none() {
                    reader.due = self.clock.now() + REOPEN;
                    return Ok(gone.map(|()| reader.station.line()));
                }
            }
        }
        self.schedule(reader, begin, every);
        Ok(gone.map(|()| reader.station.line()))
    }

    /// When it is read next: from the beginning, so that it does not drift; missed measurements are skipped.
    fn schedule<P: Port>(&self, reader: &mut Reader<P>, begin: u64, every: Option<u64>) {
        let own_clock = reader.station.own_clock;
        reader.due = match (every, self.speed, &mut reader.device) {
            (_, Some(speed), Some(device)) if own_clock => (device.port_mut().now() as f64 / speed) as u64,
            _ if own_clock => self.clock.now(),
            (Some(every), ..) => (reader.due + every).max(self.clock.now().saturating_sub(every)),
            (None, ..) => self.clock.now().max(begin + 1),
        };
    }

    /// Writes a record, with the frames that are read once where the file does not have them yet.
    fn keep<P: Port, A: Audience<P>>(&mut self, entry: &mut Entry, device: Option<&Device<P>>, audience: &mut A) -> Result<(), A::Error> {
        let Some(log) = &mut self.log else { return Ok(()) };
        log.rotate(entry.time);
        if let Some(device) = device.filter(|_| log.is_new_to(&entry.part)) {
            introduce(entry, device);
        }
        log.append(entry)?;
        log.notes().iter().for_each(|note| audience.note(note));
        Ok(())
    }
}

/// Puts the frames that are read once, such as calibration, before the others of a record.
fn introduce<P: Port>(entry: &mut Entry, device: &Device<P>) {
    let part = device.part();
    let kept = part.frames().entries().filter(|(_, frame)| frame.is_kept());
    let kept = kept.filter_map(|(id, frame)| Some(EntryFrame::new(frame.name(), device.last_bytes(id)?)));
    let missing: Vec<EntryFrame> = kept.filter(|frame| !entry.frames.iter().any(|known| known.name == frame.name)).collect();
    entry.frames.splice(0..0, missing);
}

/// What will not be better by trying again.
fn is_hopeless(error: &DeviceError) -> bool {
    match error {
        DeviceError::Bus { error, .. } => matches!(error.cause, Cause::Unsupported | Cause::NotPermitted | Cause::OtherTraffic),
        DeviceError::Routine(_) | DeviceError::Identity(_) | DeviceError::NoValue { .. } | DeviceError::Refused(_) => false,
        _ => true,
    }
}

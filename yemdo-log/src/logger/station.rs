//! A part that is read, and how it has been going.

use std::collections::BTreeMap;

use yemdo::view::ShownUnits;
use yemdo::{Decoder, Part, State};
use yemdo_bus::{Device, DeviceError, Measurement, Port};

/// A part to be read: its name, set-up and interval.
#[derive(Clone, Debug)]
pub struct Station {
    pub(super) name: String,
    pub(super) part: Part,
    pub(super) units: ShownUnits,
    pub(super) line: String,
    pub(super) set: Vec<String>,
    pub(super) run: Vec<String>,
    pub(super) every: Option<u64>,
    pub(super) own_clock: bool,
}

impl Station {
    /// A part under a name, which is its line too; it is read as fast as it measures.
    pub fn new(name: &str, part: &Part) -> Self {
        Self {
            name: name.to_owned(),
            part: part.clone(),
            units: ShownUnits::plain(part, &State::reset(part)),
            line: name.to_owned(),
            set: Vec::new(),
            run: Vec::new(),
            every: None,
            own_clock: false,
        }
    }

    /// The units that its readings are shown and logged in.
    pub fn in_units(self, units: ShownUnits) -> Self {
        Self { units, ..self }
    }

    /// The bus or port that it is on: where one device of it is gone, all on it are opened again.
    pub fn on_line(self, line: &str) -> Self {
        Self { line: line.to_owned(), ..self }
    }

    /// The settings (`NAME=VALUE`) and routines to apply, in that order, before the first reading and after an absence.
    pub fn set_up(self, set: &[String], run: &[String]) -> Self {
        Self { set: set.to_vec(), run: run.to_vec(), ..self }
    }

    /// From one measurement to the next, in microseconds.
    pub fn every(self, micros: u64) -> Self {
        Self { every: Some(micros), ..self }
    }

    /// Its port has a time of its own, as that of a recording has.
    pub fn with_own_clock(self) -> Self {
        Self { own_clock: true, ..self }
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The part.
    pub fn part(&self) -> &Part {
        &self.part
    }

    /// The units that its readings are shown and logged in.
    pub fn units(&self) -> &ShownUnits {
        &self.units
    }

    /// The bus or port that it is on.
    pub fn line(&self) -> &str {
        &self.line
    }

    /// From one measurement to the next, in microseconds; `None`: as fast as it measures.
    pub fn interval(&self) -> Option<u64> {
        self.every
    }
}

/// How the reading of a station has been going.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Tally {
    /// Measurements that gave readings.
    pub good: u64,
    /// Those that failed, by cause.
    pub failures: BTreeMap<&'static str, u64>,
    /// Operations that were tried again.
    pub retried: u64,
    /// Frames with values that may be no answer ([`Frame::is_suspect`](yemdo::part::Frame::is_suspect)), by name.
    pub suspects: BTreeMap<String, u64>,
}

impl Tally {
    /// Counts the frames of a measurement that may be no answer.
    pub(super) fn suspect(&mut self, measurement: &Measurement) {
        for frame in measurement.frames.iter().filter(|frame| frame.is_suspect()) {
            *self.suspects.entry(frame.name().to_owned()).or_default() += 1;
        }
    }

    /// All that was tried.
    pub fn tried(&self) -> u64 {
        self.good + self.failures.values().sum::<u64>()
    }
}

/// A station with its device.
#[derive(Debug)]
pub(super) struct Reader<P: Port> {
    pub(super) station: Station,
    /// `None` while it cannot be opened.
    pub(super) device: Option<Device<P>>,
    /// The decoder of the device before it was closed; derived quantities continue from it.
    before: Option<Decoder>,
    /// When it is read next.
    pub(super) due: u64,
    pub(super) tally: Tally,
    /// It failed the last time.
    pub(super) failing: bool,
    /// It is to be set up before it is read.
    pub(super) fresh: bool,
}

impl<P: Port> Reader<P> {
    pub(super) fn new(station: Station) -> Self {
        Self { station, device: None, before: None, due: 0, tally: Tally::default(), failing: false, fresh: true }
    }

    pub(super) fn open(&mut self, mut device: Device<P>) {
        self.before.take().iter().for_each(|before| device.decoder_mut().go_on_from(before));
        (self.device, self.fresh) = (Some(device), true);
    }

    /// The device is gone.
    pub(super) fn close(&mut self) {
        if let Some(device) = self.device.take() {
            self.before = Some(device.decoder().clone());
        }
    }

    pub(super) fn fail(&mut self, cause: &'static str) {
        *self.tally.failures.entry(cause).or_default() += 1;
        self.failing = true;
    }

    /// Sets the part up, where it has just come.
    pub(super) fn prepare(station: &Station, device: &mut Device<P>) -> Result<(), DeviceError> {
        if !station.set.is_empty() {
            device.configure(&station.set.iter().map(String::as_str).collect::<Vec<_>>())?;
        }
        station.run.iter().try_for_each(|routine| device.run(routine).map(drop))
    }
}

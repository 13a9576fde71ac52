//! One measurement in a log.

use std::borrow::Cow;

use yemdo::view::ShownUnits;
use yemdo::{Decoded, InUse, Part, ReadingValue, visible};
use yemdo_bus::{DeviceError, MeasuredFrame, Measurement};

use crate::time::Moment;

/// One measurement of one part, or why there was none.
#[derive(Clone, Debug, PartialEq)]
pub struct Entry {
    /// When it was measured.
    pub time: Moment,
    /// The part, as the bench calls it.
    pub part: String,
    /// The frames that came.
    pub frames: Vec<EntryFrame>,
    /// What readings depend on, with all frames that have no settings of their own.
    pub settings: Settings,
    /// The readings, in the order of the sheet.
    pub readings: Vec<EntryReading>,
    /// Why there are no readings.
    pub error: Option<EntryError>,
}

/// Settings and parameters that are not as after a reset: names and values as they are typed.
pub type Settings = Vec<(String, String)>;

/// A frame of an [`Entry`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EntryFrame {
    /// Its name.
    pub name: String,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// The settings with which it came, where something was set between the frames of one measurement.
    pub settings: Option<Settings>,
}

impl EntryFrame {
    pub(crate) fn new(name: &str, bytes: &[u8]) -> Self {
        Self { name: name.to_owned(), bytes: bytes.to_vec(), settings: None }
    }
}

/// A reading of an [`Entry`].
#[derive(Clone, Debug, PartialEq)]
pub struct EntryReading {
    /// The frame that it came with; empty in forms that do not keep it.
    pub frame: String,
    /// Its name.
    pub reading: String,
    /// Its value; `None` where its status withholds it.
    pub value: Option<f64>,
    /// The unit of the value; empty for a bare number.
    pub unit: String,
    /// The name of its status.
    pub status: String,
    /// Why it has that status, in the datasheet's words; `None` where it is `ok`.
    pub reason: Option<String>,
}

impl EntryReading {
    fn new(frame: &str, part: &Part, reading: &ReadingValue, units: &ShownUnits) -> Self {
        Self {
            frame: frame.to_owned(),
            reading: reading.name.clone(),
            value: reading.value.map(|value| units.value(reading.id, value)),
            unit: units.symbol(reading.id, &part.readings()[reading.id]).to_owned(),
            status: reading.status.as_str().to_owned(),
            reason: reading.why.clone(),
        }
    }
}

/// Why a measurement gave no readings.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EntryError {
    /// What kind of error, in a word or two: [`DeviceError::cause`].
    pub cause: String,
    /// The whole of it.
    pub message: String,
}

impl Entry {
    /// The frames and readings of a measurement, in the units shown.
    pub fn new(time: Moment, name: &str, part: &Part, measured: &Measurement, units: &ShownUnits) -> Self {
        let frame_name = |id| part.frames()[id].name().to_owned();
        let mut readings = Vec::new();
        for reading in measured.readings() {
            let came = measured.frames.iter().rev().find(|frame| frame.decoded().readings.iter().any(|other| other.id == reading.id));
            let frame = came.map_or(String::new(), |frame| frame_name(frame.decoded().frame));
            readings.push(EntryReading::new(&frame, part, reading, units));
        }
        let (settings, own) = settings(measured);
        let each = measured.frames.iter().zip(own);
        let frames =
            each.map(|(frame, settings)| EntryFrame { settings, ..EntryFrame::new(&frame_name(frame.decoded().frame), frame.bytes()) });
        let frames = frames.collect();
        Self { time, part: name.to_owned(), frames, settings, readings, error: None }
    }

    /// The readings of one decoded frame, in the units shown. `used` has their settings and parameters ([`yemdo::Decoder::in_use`]).
    pub fn of_frame(time: Moment, name: &str, part: &Part, decoded: &Decoded, bytes: &[u8], used: Vec<InUse>, units: &ShownUnits) -> Self {
        let frame = part.frames()[decoded.frame].name();
        let readings = decoded.readings.iter().map(|reading| EntryReading::new(frame, part, reading, units)).collect();
        let frames = vec![EntryFrame::new(frame, bytes)];
        Self { time, part: name.to_owned(), frames, settings: typed(used), readings, error: None }
    }

    /// The same with control characters escaped, so that its texts can be printed and drawn.
    pub(crate) fn shown(mut self) -> Self {
        let show = |text: &mut String| {
            if let Cow::Owned(shown) = visible(text) {
                *text = shown;
            }
        };
        show(&mut self.part);
        for frame in &mut self.frames {
            show(&mut frame.name);
            frame.settings.iter_mut().flatten().for_each(|(name, value)| [name, value].into_iter().for_each(show));
        }
        self.settings.iter_mut().for_each(|(name, value)| [name, value].into_iter().for_each(show));
        for reading in &mut self.readings {
            [&mut reading.frame, &mut reading.reading, &mut reading.unit, &mut reading.status].into_iter().for_each(show);
            reading.reason.iter_mut().for_each(show);
        }
        if let Some(error) = &mut self.error {
            [&mut error.cause, &mut error.message].into_iter().for_each(show);
        }
        self
    }

    /// A measurement that failed.
    pub fn failed(time: Moment, name: &str, error: &DeviceError) -> Self {
        let error = Some(EntryError { cause: error.cause().to_owned(), message: error.to_string() });
        Self { time, part: name.to_owned(), frames: Vec::new(), settings: Vec::new(), readings: Vec::new(), error }
    }
}

/// What readings of frames depend on, where it is not as after a reset: for all of them together, or for each where they differ.
fn settings(measured: &Measurement) -> (Settings, Vec<Option<Settings>>) {
    let mut common: Vec<InUse> = Vec::new();
    let mut differ = false;
    let each: Vec<Vec<InUse>> = measured.frames.iter().map(MeasuredFrame::in_use).collect();
    for used in each.iter().flatten() {
        match common.iter().find(|known| known.name == used.name) {
            Some(known) => differ |= known != used,
            None => common.push(used.clone()),
        }
    }
    match differ {
        true => (Settings::new(), each.into_iter().map(|list| Some(typed(list))).collect()),
        false => (typed(common), vec![None; measured.frames.len()]),
    }
}

/// Settings that are not as after a reset, as they are typed.
fn typed(list: Vec<InUse>) -> Settings {
    list.into_iter().filter(|used| !used.as_reset).map(|used| (used.name, used.value)).collect()
}

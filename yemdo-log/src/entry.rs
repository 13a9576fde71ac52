//! What a log keeps of one measurement.

use yemdo::view::ShownUnits;
use yemdo::{Part, Status};
use yemdo_bus::{DeviceError, Measurement};

use crate::time::Moment;

/// One measurement of one part, or why there was none.
#[derive(Clone, Debug, PartialEq)]
pub struct Entry {
    /// When it was measured.
    pub time: Moment,
    /// The part, as the bench calls it.
    pub part: String,
    /// The frames that came: names and bytes.
    pub frames: Vec<(String, Vec<u8>)>,
    /// The settings that readings depend on, where they are not as after a reset: names and values as they are typed.
    pub settings: Vec<(String, String)>,
    /// The readings, in the order of the sheet.
    pub readings: Vec<EntryReading>,
    /// Why there are no readings.
    pub error: Option<EntryError>,
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

/// Why a measurement gave no readings.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EntryError {
    /// What kind of error, in a word or two: [`DeviceError::cause`].
    pub cause: String,
    /// The whole of it.
    pub message: String,
}

impl Entry {
    /// What was measured, in the units that are shown.
    pub fn new(time: Moment, name: &str, part: &Part, measured: &Measurement, settings: Vec<(String, String)>, units: &ShownUnits) -> Self {
        let frame_name = |id| part.frames()[id].name().to_owned();
        let mut readings = Vec::new();
        for reading in measured.readings() {
            let came = measured.frames.iter().rev().find(|(decoded, _)| decoded.readings.iter().any(|other| other.id == reading.id));
            readings.push(EntryReading {
                frame: came.map_or(String::new(), |(decoded, _)| frame_name(decoded.frame)),
                reading: reading.name.clone(),
                value: reading.value.map(|value| units.value(reading.id, value)),
                unit: units.symbol(reading.id, &part.readings()[reading.id]).to_owned(),
                status: reading.status.as_str().to_owned(),
                reason: reading.means.clone().filter(|_| reading.status != Status::Ok),
            });
        }
        let frames = measured.frames.iter().map(|(decoded, bytes)| (frame_name(decoded.frame), bytes.clone())).collect();
        Self { time, part: name.to_owned(), frames, settings, readings, error: None }
    }

    /// A measurement that failed.
    pub fn failed(time: Moment, name: &str, error: &DeviceError) -> Self {
        let error = Some(EntryError { cause: error.cause().to_owned(), message: error.to_string() });
        Self { time, part: name.to_owned(), frames: Vec::new(), settings: Vec::new(), readings: Vec::new(), error }
    }
}

//! What a log keeps of one measurement.

use yemdo::view::ShownUnits;
use yemdo::{Part, Status};
use yemdo_bus::{DeviceError, Measurement};

use super::time::Moment;

/// One measurement of one part, or why there was none.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Entry {
    pub(crate) time: Moment,
    /// The part, as the bench calls it.
    pub(crate) part: String,
    /// The frames that came: names and bytes.
    pub(crate) frames: Vec<(String, Vec<u8>)>,
    /// What was set that readings depend on, where it is not as after a reset: names and values as they are typed.
    pub(crate) settings: Vec<(String, String)>,
    pub(crate) readings: Vec<Noted>,
    pub(crate) error: Option<Problem>,
}

/// A reading.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Noted {
    /// The frame that it came with.
    pub(crate) frame: String,
    pub(crate) reading: String,
    pub(crate) value: Option<f64>,
    pub(crate) unit: String,
    pub(crate) status: String,
    /// The datasheet's words for the status.
    pub(crate) means: Option<String>,
}

/// Why there are no readings.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Problem {
    pub(crate) cause: String,
    pub(crate) message: String,
}

impl Entry {
    /// What was measured, in the units that are shown.
    pub(crate) fn new(
        time: Moment,
        name: &str,
        part: &Part,
        measured: &Measurement,
        settings: Vec<(String, String)>,
        units: &ShownUnits,
    ) -> Self {
        let frame_name = |id| part.frames().get(id).map_or("", |frame| frame.name()).to_owned();
        let mut readings = Vec::new();
        for reading in measured.readings() {
            let came = measured.frames.iter().rev().find(|(decoded, _)| decoded.readings.iter().any(|other| other.id == reading.id));
            readings.push(Noted {
                frame: came.map_or(String::new(), |(decoded, _)| frame_name(decoded.frame)),
                reading: reading.name.clone(),
                value: reading.value.map(|value| units.value(reading.id, value)),
                unit: part.readings().get(reading.id).map_or_else(String::new, |found| units.symbol(reading.id, found).to_owned()),
                status: reading.status.as_str().to_owned(),
                means: reading.means.clone().filter(|_| reading.status != Status::Ok),
            });
        }
        let frames = measured.frames.iter().map(|(decoded, bytes)| (frame_name(decoded.frame), bytes.clone())).collect();
        Self { time, part: name.to_owned(), frames, settings, readings, error: None }
    }

    /// A measurement that failed.
    pub(crate) fn failed(time: Moment, name: &str, error: &DeviceError) -> Self {
        let error = Some(Problem { cause: error.cause().to_owned(), message: error.to_string() });
        Self { time, part: name.to_owned(), frames: Vec::new(), settings: Vec::new(), readings: Vec::new(), error }
    }
}

//! Expected values from the log of a reference sensor.

use std::path::{Path, PathBuf};

use yemdo::configure::measured_difference;
use yemdo::mend::{Expectation, Expected};
use yemdo::units::Unit;
use yemdo::{Part, ReadingId, with_unit};
use yemdo_log::{Track, Tracks};

use super::observation::Gathered;
use crate::failure::Failure;

/// Word for the reference log in `NAME=reference ± 1 °C`.
const WORD: &str = "reference";
/// Maximum time between a frame and a value of the reference, in seconds.
const MOST_APART: f64 = 60.0;

/// True if an expected value comes from the reference log.
pub(super) fn is_meant(typed: &str) -> bool {
    typed.split_once('=').is_some_and(|(_, value)| value.trim().starts_with(WORD))
}

/// Values of a reference sensor for a reading.
pub(super) struct Reference {
    reading: ReadingId,
    track: Track,
    tolerance: f64,
    /// Log, for messages.
    path: PathBuf,
}

impl Reference {
    /// Parses `NAME=reference ± 1 °C` and reads the log.
    pub(super) fn parse(part: &Part, typed: &str, path: Option<&Path>) -> Result<Self, Failure> {
        let (name, value) = typed.split_once('=').unwrap_or((typed, ""));
        let (name, value) = (name.trim(), value.trim());
        let path = path.ok_or_else(|| Failure::error("missing log of the reference").help("add --reference FILE"))?;
        let reading = part.reading(name)?;
        let unit = part.readings()[reading].unit();
        let tolerance = value.strip_prefix(WORD).unwrap_or("").trim();
        let tolerance = ["±", "+-", "+/-"].iter().find_map(|mark| tolerance.strip_prefix(mark)).ok_or_else(|| {
            let example = with_unit(format!("{name}={WORD} ± 1"), unit);
            Failure::error(format!("`{value}` has no tolerance")).help(format!("write `{example}`"))
        })?;
        let tolerance = measured_difference(name, tolerance.trim(), unit).map_err(Failure::wish)?.abs();
        Ok(Reference { reading, track: track(path, name, unit)?, tolerance, path: path.to_owned() })
    }

    /// Drops frames without a value nearby.
    pub(super) fn drop_frames(&self, part: &Part, gathered: &mut Gathered) {
        gathered.retain(part, self.reading, |time| self.near(time).is_some());
    }

    /// Expected values for the frames.
    pub(super) fn expectation(&self, part: &Part, gathered: &Gathered) -> Result<Expectation, Failure> {
        let values = gathered.times(part, self.reading).filter_map(|time| self.near(time));
        let values: Vec<(f64, f64)> = values.map(|value| (value - self.tolerance, value + self.tolerance)).collect();
        if values.is_empty() {
            let name = part.readings()[self.reading].name();
            let failure = Failure::error(format!("{} has no value of {name} within {MOST_APART} s of a frame", self.path.display()));
            return Err(failure.help("the log of the frames and the one of the reference need times of the same clock"));
        }
        Ok(Expectation { reading: self.reading, expected: Expected::Within(values) })
    }

    /// Value at the nearest time.
    fn near(&self, time: f64) -> Option<f64> {
        let samples = &self.track.samples;
        let at = samples.partition_point(|sample| sample.time < time);
        let around = samples.get(at.saturating_sub(1)..(at + 1).min(samples.len()))?;
        let nearest = around.iter().min_by(|one, other| (one.time - time).abs().total_cmp(&(other.time - time).abs()))?;
        ((nearest.time - time).abs() <= MOST_APART).then_some(nearest.value)
    }
}

/// The reading in the reference log: the only one, or the one of the same name.
fn track(path: &Path, name: &str, unit: &str) -> Result<Track, Failure> {
    let mut tracks = Tracks::default();
    tracks.read(path, None)?;
    let mut track = match tracks.tracks.as_slice() {
        [one] => one.clone(),
        _ => tracks.only(name)?.clone(),
    };
    if track.unit != unit && !Unit::find(unit).is_some_and(|to| track.convert(to)) {
        return Err(Failure::error(format!("{} of the reference is in {}, not in {unit}", track.name(), track.unit)));
    }
    track.samples.sort_by(|one, other| one.time.total_cmp(&other.time));
    Ok(track)
}

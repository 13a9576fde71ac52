//! Decodes frames with a changed sheet and compares the readings with the expected values.

use super::Observation;
use super::change::{Change, Edit, changed};
use super::expectation::Expected;
use crate::configure::assume;
use crate::decode::{Decoder, FrameValues};
use crate::ground::list::Id;
use crate::ground::text::{Source, Span, Text};
use crate::model::ids::{FrameId, ReadingId};
use crate::model::part::Part;
use crate::model::resolve::resolve_changed;
use crate::model::status::Status;
use crate::sheet::reader::At;
use crate::sheet::tree;
use crate::units::Unit;

/// Name of the parameter for an unknown constant.
pub(super) const UNKNOWN: &str = "yemdo_unknown_constant";

/// Expected value of a reading at a frame.
#[derive(Clone, Copy, Debug)]
pub(super) struct Point {
    /// Index in the observation.
    pub(super) frame: usize,
    pub(super) reading: ReadingId,
    pub(super) low: f64,
    pub(super) high: f64,
    /// Value for this frame alone; its middle counts.
    own: bool,
}

/// Maximum number of values whose distances count: they share the error of the reference.
const MOST_DISTANCES: f64 = 3.0;

/// Two frames between which a reading rises, or with `falls` falls.
#[derive(Clone, Copy, Debug)]
struct Slope {
    from: usize,
    to: usize,
    reading: ReadingId,
    falls: bool,
}

/// Values of all readings by id, for each frame.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Outcome {
    pub(super) values: Vec<Vec<Option<f64>>>,
    /// Number of readings without a value or outside their stated range.
    trouble: usize,
}

impl Outcome {
    pub(super) fn value(&self, frame: usize, reading: ReadingId) -> Option<f64> {
        self.values.get(frame).and_then(|values| values.get(reading.index())).copied().flatten()
    }
}

/// Agreement with the expected values.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Fit {
    pub(super) agree: usize,
    pub(super) of: usize,
    /// Half the squared distance from the middle of the range, in standard deviations; mean over the values, times at most 3.
    pub(super) distance: f64,
    /// At least three frames, and all with the same value.
    pub(super) flat: bool,
    /// Additional readings without a value or outside their stated range.
    pub(super) trouble: usize,
}

impl Fit {
    pub(super) fn is_whole(&self) -> bool {
        self.agree == self.of
    }
}

/// Sheet and observation for trials.
pub(super) struct Bench<'e> {
    pub(super) part: &'e Part,
    pub(super) observation: &'e Observation,
    pub(super) points: Vec<Point>,
    slopes: Vec<Slope>,
    /// True if no reading uses a quantity.
    bare: bool,
    /// Outcome of the unchanged sheet.
    pub(super) now: Outcome,
}

impl<'e> Bench<'e> {
    pub(super) fn new(part: &'e Part, observation: &'e Observation) -> Self {
        let now = Outcome { values: Vec::new(), trouble: 0 };
        let mut bench = Bench { part, observation, points: Vec::new(), slopes: Vec::new(), bare: true, now };
        bench.bare = bench.resolve(&[], None).is_some();
        for expectation in &observation.expectations {
            let brings = |frame: &FrameId| part.frames.get(*frame).is_some_and(|frame| frame.readings.contains(&expectation.reading));
            let frames: Vec<usize> =
                observation.frames.iter().enumerate().filter(|(_, (frame, _))| brings(frame)).map(|(at, _)| at).collect();
            match expectation.expected {
                Expected::Within(_) => {
                    let known = frames.iter().enumerate().filter_map(|(at, frame)| Some((*frame, expectation.at(at)?)));
                    let own = frames.len() == 1 || expectation.expected.len() > 1;
                    bench.points.extend(known.map(|(frame, (low, high))| Point { frame, reading: expectation.reading, low, high, own }));
                }
                Expected::Rises | Expected::Falls => {
                    let falls = expectation.expected == Expected::Falls;
                    let pairs = frames.iter().zip(frames.iter().skip(1));
                    bench.slopes.extend(pairs.map(|(from, to)| Slope { from: *from, to: *to, reading: expectation.reading, falls }));
                }
            }
        }
        let unchanged = bench.outcome(&[], &[]);
        bench.now = unchanged.unwrap_or(bench.now);
        // A range for all frames does not apply to those without a value, such as frames that are not ready.
        let has_value = |point: &Point| bench.now.value(point.frame, point.reading).is_some();
        let any: Vec<ReadingId> = bench.points.iter().filter(|point| has_value(point)).map(|point| point.reading).collect();
        let kept: Vec<Point> =
            bench.points.iter().filter(|point| point.own || has_value(point) || !any.contains(&point.reading)).copied().collect();
        bench.points = kept;
        bench
    }

    /// Resolves the changed sheet without routines, examples and checks; `None` if it has errors.
    pub(super) fn resolve(&self, edits: &[Edit], unknown: Option<f64>) -> Option<Part> {
        let source = Source::new(self.part.source.name(), &changed(&self.part.source, edits));
        let strip = |tree: &mut tree::Sheet| {
            tree.routines.clear();
            tree.examples.clear();
            tree.derived.clear();
            tree.frames.iter_mut().for_each(|(_, frame)| frame.checks.clear());
            if self.bare {
                tree.quantities.clear();
            }
            if let Some(default) = unknown {
                let name = At { value: UNKNOWN.to_owned(), span: Span::new(0, 0) };
                let supplied = tree::Supplied::Number { default, unit: None::<Text>, range: None };
                tree.parameters.push((name, tree::Parameter { supplied, means: None, source: None }));
            }
        };
        resolve_changed(source, self.part.variant.as_deref(), strip).ok()
    }

    /// Outcome with edits and settings; `None` if the sheet or the settings are invalid.
    pub(super) fn outcome(&self, edits: &[Edit], settings: &[String]) -> Option<Outcome> {
        let mut decoder = self.decoder(&self.resolve(edits, None)?, settings)?;
        Some(self.run(&mut decoder))
    }

    pub(super) fn of(&self, change: &Change) -> Option<Outcome> {
        self.outcome(&change.edits, &change.settings)
    }

    /// Decoder with the settings of the observation, overridden by `settings`.
    pub(super) fn decoder(&self, part: &Part, settings: &[String]) -> Option<Decoder> {
        let mut decoder = Decoder::new(part);
        let name = |typed: &String| typed.split('=').next().map(str::to_owned);
        let own = self.observation.settings.iter().filter(|typed| !settings.iter().any(|other| name(other) == name(typed)));
        let all: Vec<&String> = own.chain(settings).collect();
        if !all.is_empty() {
            let state = assume(part, decoder.state(), all).ok()?;
            decoder.adopt(&state);
        }
        Some(decoder)
    }

    /// Decodes the observation.
    pub(super) fn run(&self, decoder: &mut Decoder) -> Outcome {
        decode(self.part, decoder, &self.observation.frames)
    }

    /// Compares an outcome with the expected values.
    pub(super) fn fit(&self, outcome: &Outcome) -> Fit {
        let mut fit = Fit { agree: 0, of: self.points.len() + self.slopes.len(), distance: 0.0, flat: false, trouble: 0 };
        let mut distances: Vec<f64> = Vec::new();
        for point in &self.points {
            let Some(value) = outcome.value(point.frame, point.reading) else { continue };
            if (point.low..=point.high).contains(&value) {
                let half = (point.high - point.low) / 2.0;
                let off = (value - (point.low + half)) / half * 1.5;
                fit.agree += 1;
                if point.own {
                    distances.push(off * off / 2.0);
                }
            }
        }
        for slope in &self.slopes {
            let values = outcome.value(slope.from, slope.reading).zip(outcome.value(slope.to, slope.reading));
            fit.agree += usize::from(values.is_some_and(|(from, to)| if slope.falls { to < from } else { to > from }));
        }
        let count = distances.len() as f64;
        fit.distance = distances.iter().sum::<f64>() / count.max(1.0) * count.min(MOST_DISTANCES);
        let mut values = self.points.iter().filter(|point| !point.own).filter_map(|point| outcome.value(point.frame, point.reading));
        let first = values.next();
        fit.flat = self.points.len() >= 3 && first.is_some() && values.all(|value| Some(value) == first);
        fit.trouble = outcome.trouble.saturating_sub(self.now.trouble);
        fit
    }
}

/// Decodes frames in order; values are in the units of `own`.
pub(super) fn decode(own: &Part, decoder: &mut Decoder, frames: &[(FrameId, Vec<u8>)]) -> Outcome {
    let part = decoder.part().clone();
    let unit = |part: &Part, id: ReadingId| part.readings.get(id).and_then(|reading| Unit::find(&reading.unit));
    let in_own_unit = |id: ReadingId, value: f64| match (unit(&part, id), unit(own, id)) {
        (Some(from), Some(to)) if from != to => from.to(to, value),
        _ => Some(value),
    };
    let mut values = FrameValues::new();
    let (mut all, mut trouble) = (Vec::new(), 0);
    for (id, bytes) in frames.iter().map(|(id, bytes)| (*id, bytes.as_slice())) {
        let mut row = vec![None; part.readings.len()];
        if decoder.decode_into(id, bytes, &mut values).is_ok()
            && let Some(frame) = part.frames.get(id)
        {
            for (place, reading) in frame.readings.iter().enumerate() {
                let value = values.value(place).and_then(|value| in_own_unit(*reading, value)).filter(|value| value.is_finite());
                trouble += usize::from(value.is_none() || values.status(place) == Status::OutOfRange);
                if let Some(cell) = row.get_mut(reading.index()) {
                    *cell = value;
                }
            }
        }
        all.push(row);
    }
    Outcome { values: all, trouble }
}

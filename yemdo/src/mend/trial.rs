//! What comes out of the frames with a changed sheet, and how well it agrees with what is known.

use super::Evidence;
use super::change::{Change, Edit, changed};
use super::truth::Known;
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

/// The parameter that stands in for a constant that is looked for.
pub(super) const UNKNOWN: &str = "yemdo_unknown_constant";

/// A frame at which something is known of a reading.
#[derive(Clone, Copy, Debug)]
pub(super) struct Point {
    /// Its place in the evidence.
    pub(super) frame: usize,
    pub(super) reading: ReadingId,
    pub(super) low: f64,
    pub(super) high: f64,
}

/// Two frames between which a reading goes up, or with `falls` down.
#[derive(Clone, Copy, Debug)]
struct Slope {
    from: usize,
    to: usize,
    reading: ReadingId,
    falls: bool,
}

/// What comes out of the evidence: for each frame the values of all readings, by their ids.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Outcome {
    pub(super) values: Vec<Vec<Option<f64>>>,
    /// Readings without a value, or out of their stated range.
    trouble: usize,
}

impl Outcome {
    pub(super) fn value(&self, frame: usize, reading: ReadingId) -> Option<f64> {
        self.values.get(frame).and_then(|values| values.get(reading.index())).copied().flatten()
    }
}

/// How well an outcome agrees with what is known.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Fit {
    pub(super) agree: usize,
    pub(super) of: usize,
    /// Half the squared distances from the middle of what is known, in units of two thirds of half its width.
    pub(super) distance: f64,
    /// Readings that have trouble now, and had none before.
    pub(super) trouble: usize,
}

impl Fit {
    pub(super) fn is_whole(&self) -> bool {
        self.agree == self.of
    }
}

/// The sheet, the evidence, and what is needed to try changes.
pub(super) struct Bench<'e> {
    pub(super) part: &'e Part,
    pub(super) evidence: &'e Evidence,
    pub(super) points: Vec<Point>,
    slopes: Vec<Slope>,
    /// Quantities are left out: no reading needs one.
    bare: bool,
    /// The outcome of the sheet as it is.
    pub(super) now: Outcome,
}

impl<'e> Bench<'e> {
    pub(super) fn new(part: &'e Part, evidence: &'e Evidence) -> Self {
        let now = Outcome { values: Vec::new(), trouble: 0 };
        let mut bench = Bench { part, evidence, points: Vec::new(), slopes: Vec::new(), bare: true, now };
        bench.bare = bench.resolve(&[], None).is_some();
        for truth in &evidence.truths {
            let brings = |frame: &FrameId| part.frames.get(*frame).is_some_and(|frame| frame.readings.contains(&truth.reading));
            let frames: Vec<usize> = evidence.frames.iter().enumerate().filter(|(_, (frame, _))| brings(frame)).map(|(at, _)| at).collect();
            match truth.known {
                Known::Within(_) => {
                    let known = frames.iter().enumerate().filter_map(|(at, frame)| Some((*frame, truth.at(at)?)));
                    bench.points.extend(known.map(|(frame, (low, high))| Point { frame, reading: truth.reading, low, high }));
                }
                Known::Rises | Known::Falls => {
                    let falls = truth.known == Known::Falls;
                    let pairs = frames.iter().zip(frames.iter().skip(1));
                    bench.slopes.extend(pairs.map(|(from, to)| Slope { from: *from, to: *to, reading: truth.reading, falls }));
                }
            }
        }
        let unchanged = bench.outcome(&[], &[]);
        bench.now = unchanged.unwrap_or(bench.now);
        bench
    }

    /// The part with a changed sheet, without what does not matter for values; `None` where the sheet would have errors.
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

    /// What comes out with edits and settings; `None` where the sheet or the state is impossible.
    pub(super) fn outcome(&self, edits: &[Edit], settings: &[String]) -> Option<Outcome> {
        let mut decoder = self.decoder(&self.resolve(edits, None)?, settings)?;
        Some(self.run(&mut decoder))
    }

    pub(super) fn of(&self, change: &Change) -> Option<Outcome> {
        self.outcome(&change.edits, &change.settings)
    }

    /// A decoder with the settings of the evidence, and others over them.
    pub(super) fn decoder(&self, part: &Part, settings: &[String]) -> Option<Decoder> {
        let mut decoder = Decoder::new(part);
        let name = |typed: &String| typed.split('=').next().map(str::to_owned);
        let own = self.evidence.settings.iter().filter(|typed| !settings.iter().any(|other| name(other) == name(typed)));
        let all: Vec<&String> = own.chain(settings).collect();
        if !all.is_empty() {
            let state = assume(part, decoder.state(), all).ok()?;
            decoder.adopt(&state);
        }
        Some(decoder)
    }

    /// Decodes the frames one after another.
    pub(super) fn run(&self, decoder: &mut Decoder) -> Outcome {
        decode(self.part, decoder, &self.evidence.frames)
    }

    /// How well an outcome agrees.
    pub(super) fn fit(&self, outcome: &Outcome) -> Fit {
        let mut fit = Fit { agree: 0, of: self.points.len() + self.slopes.len(), distance: 0.0, trouble: 0 };
        for point in &self.points {
            let Some(value) = outcome.value(point.frame, point.reading) else { continue };
            if (point.low..=point.high).contains(&value) {
                let half = (point.high - point.low) / 2.0;
                let off = (value - (point.low + half)) / half * 1.5;
                fit.agree += 1;
                fit.distance += off * off / 2.0;
            }
        }
        for slope in &self.slopes {
            let values = outcome.value(slope.from, slope.reading).zip(outcome.value(slope.to, slope.reading));
            fit.agree += usize::from(values.is_some_and(|(from, to)| if slope.falls { to < from } else { to > from }));
        }
        fit.trouble = outcome.trouble.saturating_sub(self.now.trouble);
        fit
    }
}

/// The values of frames, decoded one after another, in the units that the readings have in `own`.
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

//! Solves for a constant or a parameter.

use super::change::Edit;
use super::constants::short;
use super::trial::{Bench, Fit, Outcome, Point, UNKNOWN};
use crate::decode::Decoder;
use crate::ground::text::Span;
use crate::model::ids::ParameterId;

/// Maximum number of steps of the secant method.
const MOST_STEPS: usize = 24;

/// Unknown number.
pub(super) struct Unknown<'b, 'e> {
    bench: &'b Bench<'e>,
    place: Place,
    now: Fit,
}

/// Place of an unknown number.
enum Place {
    /// Parameter: one of the sheet, or one in place of a constant in a formula.
    Parameter(Box<Decoder>, ParameterId),
    /// Number in a table. The sheet is resolved for each value, which is slower.
    Number(Span),
}

/// Values that fit.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Solved {
    /// Roundest value.
    pub(super) text: String,
    pub(super) range: (f64, f64),
}

impl<'b, 'e> Unknown<'b, 'e> {
    /// Unknown in place of a constant; `None` if the edited sheet has errors.
    pub(super) fn new(bench: &'b Bench<'e>, edits: Vec<Edit>, value: f64) -> Option<Self> {
        let part = bench.resolve(&edits, Some(value))?;
        let id = part.parameter(UNKNOWN).ok()?;
        let decoder = bench.decoder(&part, &[])?;
        Some(Unknown { bench, place: Place::Parameter(Box::new(decoder), id), now: bench.fit(&bench.now) })
    }

    /// Unknown in place of a number in a table.
    pub(super) fn number(bench: &'b Bench<'e>, span: Span) -> Self {
        Unknown { bench, place: Place::Number(span), now: bench.fit(&bench.now) }
    }

    /// Unknown parameter of the sheet.
    pub(super) fn parameter(bench: &'b Bench<'e>, id: ParameterId) -> Option<Self> {
        let decoder = bench.decoder(&bench.resolve(&[], None)?, &[])?;
        Some(Unknown { bench, place: Place::Parameter(Box::new(decoder), id), now: bench.fit(&bench.now) })
    }

    fn outcome(&mut self, value: f64) -> Option<Outcome> {
        match &mut self.place {
            Place::Parameter(decoder, id) => {
                decoder.clear_frames();
                decoder.set_parameter(*id, value).ok()?;
                Some(self.bench.run(decoder))
            }
            Place::Number(span) => self.bench.outcome(&[Edit { span: *span, text: format!("{value:?}") }], &[]),
        }
    }

    fn fit(&mut self, value: f64) -> Option<Fit> {
        self.outcome(value).map(|outcome| self.bench.fit(&outcome))
    }

    /// True if a value improves the fit.
    pub(super) fn improves(&mut self, value: f64) -> bool {
        self.fit(value).is_some_and(|fit| fit.agree > self.now.agree)
    }

    /// Values that fit all expected values, near the present one.
    pub(super) fn solve(&mut self, now: f64) -> Option<Solved> {
        let (mut low, mut high) = (f64::NEG_INFINITY, f64::INFINITY);
        for point in self.bench.points.clone() {
            let half = (point.high - point.low) / 2.0;
            if self.is_independent(now, &point) {
                continue;
            }
            let (at, slope) = self.root(now, point.frame, point.reading, point.low + half)?;
            let around = (half / slope).abs();
            (low, high) = (low.max(at - around), high.min(at + around));
        }
        if !(low.is_finite() && high.is_finite() && low < high) {
            return None;
        }
        // The limits are linear estimates, so the result is checked.
        let text = roundest(low, high);
        let value = text.parse().ok()?;
        (value != now && self.fit(value)?.is_whole()).then_some(Solved { text, range: (low, high) })
    }

    /// True if an expected value fits, whatever the unknown is.
    fn is_independent(&mut self, now: f64, point: &Point) -> bool {
        let value = self.bench.now.value(point.frame, point.reading);
        let fits = value.is_some_and(|value| (point.low..=point.high).contains(&value));
        fits && self.outcome(now + step(now)).is_some_and(|outcome| outcome.value(point.frame, point.reading) == value)
    }

    /// Unknown for a wanted reading, with the slope there.
    fn root(&mut self, now: f64, frame: usize, reading: crate::model::ids::ReadingId, wanted: f64) -> Option<(f64, f64)> {
        let mut value = |at: f64| self.outcome(at)?.value(frame, reading);
        let (mut before, mut at) = (now, now + step(now));
        let mut off_before = value(before)? - wanted;
        let scale = off_before.abs().max(wanted.abs()).max(1e-300);
        for _ in 0..MOST_STEPS {
            let off = value(at)? - wanted;
            let slope = (off - off_before) / (at - before);
            if slope == 0.0 || !slope.is_finite() {
                return None;
            }
            if off.abs() <= scale * 1e-6 {
                return Some((at, slope));
            }
            (before, off_before) = (at, off);
            at -= off / slope;
            if at == before {
                return Some((at, slope));
            }
        }
        None
    }
}

/// First step of the secant method.
fn step(now: f64) -> f64 {
    if now == 0.0 { 1.0 } else { now.abs() * 1e-3 }
}

/// Number with the fewest digits in a range.
pub(super) fn roundest(low: f64, high: f64) -> String {
    let size = (high - low).max(f64::MIN_POSITIVE);
    let first = size.log10().ceil() as i32 + 1;
    for power in (first - 4..=first).rev() {
        let step = 10f64.powi(power);
        let middle = ((low + high) / 2.0 / step).round() * step;
        if (low..=high).contains(&middle) && middle != 0.0 {
            return short(middle);
        }
    }
    short((low + high) / 2.0)
}

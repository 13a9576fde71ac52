//! Finds a measurement that distinguishes two changes.

use super::rank::{Ranked, outcome, probes};
use super::trial::Bench;
use crate::model::ids::ReadingId;

/// Number of random frames to search.
const PROBES: usize = 400;

/// Farthest value for the next measurement if the sheet states no range, in multiples of the expected value.
const FARTHEST: f64 = 10.0;

/// A measurement at which the first two findings differ.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Apart {
    /// Reading.
    pub reading: ReadingId,
    /// Its value with the first change.
    pub first: f64,
    /// Its value with the second change.
    pub second: f64,
}

/// Nearest value of the first change at which the second one clearly differs.
pub(super) fn tell_apart(bench: &Bench<'_>, ranked: &[Ranked]) -> Option<Apart> {
    let [first, second, ..] = ranked else { return None };
    if first.fit.agree != second.fit.agree {
        return None;
    }
    let frames = probes(bench, PROBES);
    let (one, two) = (outcome(bench, Some(&first.change), &frames)?, outcome(bench, Some(&second.change), &frames)?);
    let mut best: Option<(f64, Apart)> = None;
    for point in &bench.points {
        let (half, middle) = ((point.high - point.low) / 2.0, (point.high + point.low) / 2.0);
        let range = bench.part.readings[point.reading].range.as_ref().and_then(|range| range.fixed());
        for frame in 0..frames.len() {
            let Some((a, b)) = one.value(frame, point.reading).zip(two.value(frame, point.reading)) else { continue };
            let reach = FARTHEST * middle.abs().max(half);
            let inside = range.map_or((a - middle).abs() <= reach, |(low, high)| (low..=high).contains(&a));
            let far = (a - middle).abs();
            // Another measurement has the same uncertainty as this one.
            if inside && (a - b).abs() > 3.0 * half && far > half && best.as_ref().is_none_or(|(known, _)| far < *known) {
                best = Some((far, Apart { reading: point.reading, first: a, second: b }));
            }
        }
    }
    best.map(|(_, apart)| apart)
}

//! Which measurement would tell two changes apart.

use super::rank::{Ranked, outcome, probes};
use super::trial::Bench;
use crate::model::ids::ReadingId;

/// Frames of chance bytes among which one is looked for.
const PROBES: usize = 400;

/// How far from what is known one measures again, where the sheet states no range: so many times as much.
const FARTHEST: f64 = 10.0;

/// What the first two findings give where they differ.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Apart {
    /// The reading.
    pub reading: ReadingId,
    /// Its value with the first.
    pub first: f64,
    /// With the second.
    pub second: f64,
}

/// The nearest value of the first of two changes at which the second gives clearly another.
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
            // Known no better than now, the two must not be taken for one another.
            if inside && (a - b).abs() > 3.0 * half && far > half && best.as_ref().is_none_or(|(known, _)| far < *known) {
                best = Some((far, Apart { reading: point.reading, first: a, second: b }));
            }
        }
    }
    best.map(|(_, apart)| apart)
}

//! A sensor against a better one of the same quantity.

use super::spread::Running;
use super::{Sample, gap};

/// What becomes of a value: `value * gain + offset`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Correction {
    /// The factor; exactly 1 where an offset is all that the samples speak for.
    pub gain: f64,
    /// What is added, in the unit of the series.
    pub offset: f64,
}

impl Correction {
    /// A value, corrected.
    pub fn apply(&self, value: f64) -> f64 {
        value * self.gain + self.offset
    }
}

/// How a series differs from a reference.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Comparison {
    /// Time, the value, and what the reference had then.
    pub pairs: Vec<(f64, f64, f64)>,
    /// Value less reference, over all pairs.
    pub difference: Running,
    /// By how much the difference grows in a second (slope of the least-squares line); `None` where all pairs have one time.
    pub drift: Option<f64>,
    /// The pairs with the greatest differences, the greatest first, no two of them nearer than a tenth of the whole time.
    pub worst: Vec<(f64, f64, f64)>,
    /// What brings the values nearest to the reference, in the least-squares sense.
    pub correction: Correction,
    /// Corrected value less reference.
    pub remaining: Running,
}

/// A gain is only suggested where what remains without it is larger by this factor.
const WORTH_A_GAIN: f64 = 1.1;

/// And only where the reference moved by that much more than what remains: of a quantity that stood still nobody knows the gain.
const ENOUGH_SPREAD: f64 = 3.0;

/// Pairs a series with a reference and compares them. To each value belongs what the reference had at that time, by a straight line between
/// the samples around it; where the reference has a gap, there is no pair. `None` without any pair.
///
/// ```
/// use yemdo::series::{Sample, compare};
/// let series = |gain: f64, offset: f64| (0..100).map(move |at| Sample { time: f64::from(at), value: f64::from(at % 20) * gain + offset });
/// let (cheap, good): (Vec<_>, Vec<_>) = (series(1.25, 3.0).collect(), series(1.0, 0.0).collect());
/// let found = compare(&cheap, &good).unwrap();
/// assert!((found.correction.gain - 0.8).abs() < 1e-9 && (found.correction.offset + 2.4).abs() < 1e-9);
/// ```
pub fn compare(series: &[Sample], reference: &[Sample]) -> Option<Comparison> {
    let pairs = paired(series, reference);
    let (first, last) = (pairs.first()?.0, pairs.last()?.0);
    let difference: Running = pairs.iter().map(|(_, value, known)| value - known).collect();
    let drift = slope(pairs.iter().map(|(time, value, known)| (time - first, value - known)));
    let gain = slope(pairs.iter().map(|(_, value, known)| (*value, *known)));
    let deviation =
        |correction: Correction| -> Running { pairs.iter().map(|(_, value, known)| correction.apply(*value) - known).collect() };
    let mean = |of: fn(&(f64, f64, f64)) -> f64| pairs.iter().map(of).collect::<Running>().mean;
    let (value, known) = (mean(|pair| pair.1), mean(|pair| pair.2));
    let shifted = Correction { gain: 1.0, offset: known - value };
    let scaled = gain.map(|gain| Correction { gain, offset: known - gain * value });
    let rest = |correction| deviation(correction).deviation().unwrap_or(0.0);
    let spread = pairs.iter().map(|pair| pair.2).collect::<Running>().deviation().unwrap_or(0.0);
    let told = |scaled: &Correction| rest(shifted) > rest(*scaled) * WORTH_A_GAIN && spread > rest(*scaled) * ENOUGH_SPREAD;
    let correction = scaled.filter(told).unwrap_or(shifted);
    let remaining = deviation(correction);
    let mut order = pairs.clone();
    order.sort_by(|one, other| (other.1 - other.2).abs().total_cmp(&(one.1 - one.2).abs()));
    let apart = (last - first).abs() / 10.0;
    let mut worst: Vec<(f64, f64, f64)> = Vec::new();
    for pair in order {
        if worst.len() == 3 {
            break;
        }
        if worst.iter().all(|known| (known.0 - pair.0).abs() > apart) {
            worst.push(pair);
        }
    }
    Some(Comparison { pairs, difference, drift, worst, correction, remaining })
}

fn paired(series: &[Sample], reference: &[Sample]) -> Vec<(f64, f64, f64)> {
    let mut known: Vec<Sample> = reference.iter().copied().filter(|sample| sample.value.is_finite()).collect();
    known.sort_by(|one, other| one.time.total_cmp(&other.time));
    let gap = gap(&known).unwrap_or(0.0);
    let mut pairs = Vec::new();
    for sample in series.iter().filter(|sample| sample.value.is_finite()) {
        let behind = known.partition_point(|other| other.time < sample.time);
        let (before, after) = (behind.checked_sub(1).and_then(|at| known.get(at)), known.get(behind));
        let value = match (before, after) {
            (_, Some(after)) if after.time == sample.time => after.value,
            (Some(before), Some(after)) if after.time - before.time <= gap => {
                before.value + (after.value - before.value) * (sample.time - before.time) / (after.time - before.time)
            }
            _ => continue,
        };
        pairs.push((sample.time, sample.value, value));
    }
    pairs
}

/// The slope of the least-squares line; `None` where all stand at one place.
fn slope(points: impl Iterator<Item = (f64, f64)> + Clone) -> Option<f64> {
    let x: Running = points.clone().map(|(x, _)| x).collect();
    let y: Running = points.clone().map(|(_, y)| y).collect();
    let (mut both, mut squares) = (0.0, 0.0);
    for (px, py) in points {
        both += (px - x.mean) * (py - y.mean);
        squares += (px - x.mean) * (px - x.mean);
    }
    (squares > 0.0).then(|| both / squares)
}

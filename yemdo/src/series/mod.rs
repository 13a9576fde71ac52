//! Values over time: where they are interrupted, what of them can be seen, how they spread, and how two of the same quantity compare.
//!
//! A series is a slice of [`Sample`]s in the order in which they came. Nothing here knows of parts or of clocks.

mod compare;
mod spread;

pub use compare::{Comparison, Correction, compare};
pub use spread::{Bin, Running, bins};

/// A value and when it was, in seconds of any clock.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Sample {
    /// Seconds.
    pub time: f64,
    /// The value, in the unit of the series.
    pub value: f64,
}

/// So many usual distances without a sample are a gap.
const GAP: f64 = 5.0;

/// The distance of samples beyond which a series is interrupted: five times the usual (median) one. `None` with fewer than two samples.
pub fn gap(samples: &[Sample]) -> Option<f64> {
    let pairs = samples.windows(2).filter_map(|pair| Some(pair.last()?.time - pair.first()?.time));
    let mut steps: Vec<f64> = pairs.filter(|step| *step > 0.0).collect();
    let middle = steps.len() / 2;
    if steps.is_empty() {
        return None;
    }
    let (_, median, _) = steps.select_nth_unstable_by(middle, f64::total_cmp);
    Some(*median * GAP)
}

/// The pieces of a series that hang together: where there is a [`gap`], or a clock that went back, a new one begins.
///
/// ```
/// use yemdo::series::{Sample, pieces};
/// let samples: Vec<Sample> = [0.0, 1.0, 2.0, 3.0, 60.0, 61.0].map(|time| Sample { time, value: 20.0 }).to_vec();
/// assert_eq!(pieces(&samples).map(<[Sample]>::len).collect::<Vec<_>>(), [4, 2]);
/// ```
pub fn pieces(samples: &[Sample]) -> impl Iterator<Item = &[Sample]> {
    let gap = gap(samples).unwrap_or(f64::INFINITY);
    samples.chunk_by(move |one, next| next.time >= one.time && next.time - one.time <= gap)
}

/// What a series has added up to, over time: its time integral from the first sample on, in its unit times hours, by the trapezoidal rule. What
/// came in a [`gap`], nobody knows: nothing is added for it.
///
/// ```
/// use yemdo::series::{Sample, integral};
/// // 200 lx for two hours, a value a minute.
/// let light: Vec<Sample> = (0..=120).map(|minute| Sample { time: f64::from(minute) * 60.0, value: 200.0 }).collect();
/// assert!((integral(&light).last().unwrap().value - 400.0).abs() < 1e-9);
/// ```
pub fn integral(samples: &[Sample]) -> Vec<Sample> {
    let mut sum = 0.0;
    let mut out = Vec::with_capacity(samples.len());
    for piece in pieces(samples) {
        out.extend(piece.first().map(|first| Sample { time: first.time, value: sum }));
        for pair in piece.windows(2) {
            let &[one, next] = pair else { continue };
            sum += (one.value + next.value) / 2.0 * (next.time - one.time) / 3600.0;
            out.push(Sample { time: next.time, value: sum });
        }
    }
    out
}

/// Round numbers between two others, at most so many and one more, and the step from one to the next: 1, 2 or 5 times a power of ten.
///
/// ```
/// assert_eq!(yemdo::series::ticks(0.3, 1.1, 5), (vec![0.4, 0.6000000000000001, 0.8, 1.0], 0.2));
/// ```
pub fn ticks(low: f64, high: f64, most: usize) -> (Vec<f64>, f64) {
    let span = high - low;
    if !span.is_finite() || span <= 0.0 {
        return (vec![low], 1.0);
    }
    let rough = span / most.max(1) as f64;
    let power = 10f64.powf(rough.log10().floor());
    let step = [1.0, 2.0, 5.0, 10.0].map(|factor| factor * power).into_iter().find(|step| *step >= rough).unwrap_or(rough);
    let first = (low / step).ceil();
    let all = (0..=most + 1).map(|at| (first + at as f64) * step);
    (all.take_while(|value| *value <= high + step * 1e-9).collect(), step)
}

/// As few samples of a piece as show all of it in so many columns between two times: of each column the first, the least, the greatest and
/// the last. A piece of no more than that stays as it is.
///
/// ```
/// use yemdo::series::{Sample, thin};
/// let many: Vec<Sample> = (0..100_000).map(|at| Sample { time: f64::from(at), value: f64::from(at % 7) }).collect();
/// let few = thin(&many, (0.0, 100_000.0), 500);
/// assert!(few.len() <= 2000 && few.iter().any(|sample| sample.value == 6.0));
/// ```
pub fn thin(piece: &[Sample], (from, to): (f64, f64), columns: usize) -> Vec<Sample> {
    if piece.len() <= 4 * columns {
        return piece.to_vec();
    }
    let column = |sample: &Sample| ((sample.time - from) / (to - from) * columns as f64).floor();
    let mut few = Vec::new();
    for within in piece.chunk_by(|one, next| column(one) == column(next)) {
        let (mut least, mut greatest) = (0, 0);
        for (at, sample) in within.iter().enumerate() {
            let value_at = |at: usize| within.get(at).map_or(f64::NAN, |known| known.value);
            least = if sample.value < value_at(least) { at } else { least };
            greatest = if sample.value > value_at(greatest) { at } else { greatest };
        }
        let mut places = [0, least.min(greatest), least.max(greatest), within.len() - 1].to_vec();
        places.dedup();
        few.extend(places.into_iter().filter_map(|at| within.get(at)));
    }
    few
}

//! Finder of mistakes: from raw bytes and a rough expected value to the line of the sheet to change.
//!
//! [`mend`] takes frames and expected values ([`Expectation`]), tries the usual mistakes ([`Mistake`]), and returns the changes that fit
//! all values, sorted by weight.
//!
//! The weight of a finding is the frequency of its mistake ([`Mistake::weight`]) times the share of its variant. Two factors reduce it: the
//! distance from the middle of the expected range (normal distribution, standard deviation two thirds of half the range), and 1/8 for every
//! reading that loses its value or leaves its stated range.

mod apart;
mod bare;
mod behind;
mod change;
mod checks;
mod constants;
mod expectation;
mod forms;
mod formulas;
mod layouts;
mod rank;
mod settings;
mod solve;
mod trial;

use crate::ground::text::Span;
use crate::model::example::{self, Example, Subject};
use crate::model::ids::{FrameId, ReadingId};
use crate::model::part::{Part, Sheet};
use crate::predict::predict;
use behind::Behind;
use change::{Change, lines};
use rank::{Ranked, rank};
use trial::Bench;

pub use apart::Apart;
pub use bare::{BareFinding, from_bytes};
pub use change::{ChangedLine, Edit, Mistake};
pub use checks::{CheckFinding, find_checks};
pub use expectation::{Expectation, ExpectationError, Expected};

/// Frames with the expected values of their readings.
#[derive(Clone, Debug, Default)]
pub struct Observation {
    /// Frames in the order of reception, frames with `keep` first.
    pub frames: Vec<(FrameId, Vec<u8>)>,
    /// Expected values.
    pub expectations: Vec<Expectation>,
    /// Active settings and parameters, `NAME=VALUE`; default: reset values.
    pub settings: Vec<String>,
}

impl Observation {
    /// Frames and expected values of a worked example; `None` if it has no values of readings.
    pub fn of_example(part: &Sheet, example: &Example) -> Option<Observation> {
        let set =
            example.set.iter().map(|(field, code)| format!("{}={}", part.setting_name(*field), part.present_text(*field, Some(*code))));
        let known = |(subject, expected, _): &(Subject, example::Expected, Span)| match (subject, expected) {
            (Subject::Reading(reading), example::Expected::Value { value, tolerance, .. }) => {
                let within = vec![(value - tolerance, value + tolerance)];
                Some(Expectation { reading: *reading, expected: Expected::Within(within) })
            }
            _ => None,
        };
        let expectations: Vec<Expectation> = example.gives.iter().filter_map(known).collect();
        let settings = set.chain(example.supplied().map(str::to_owned)).collect();
        // Values of an example belong to the last of several frames.
        let again = |at: usize, frame: FrameId| example.frames.iter().skip(at + 1).any(|(other, _)| *other == frame);
        let several = example.frames.iter().enumerate().any(|(at, (frame, _))| again(at, *frame));
        (!expectations.is_empty() && !several && example.writes.is_empty()).then(|| Observation {
            frames: example.frames.clone(),
            expectations,
            settings,
        })
    }
}

/// Change that improves the fit.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Finding {
    /// Kind of mistake; for a pair the likelier one.
    pub mistake: Mistake,
    /// Description.
    pub what: String,
    /// Edits of the sheet; empty if only settings differ.
    pub edits: Vec<Edit>,
    /// Lines changed by the edits.
    pub lines: Vec<ChangedLine>,
    /// Active settings, `NAME=VALUE`.
    pub settings: Vec<String>,
    /// Range of the constant that fits, if solved for.
    pub fits: Option<(f64, f64)>,
    /// True for a combination of two changes.
    pub is_pair: bool,
    /// Number of expected values that fit.
    pub agree: usize,
    /// Readings of each frame with the change, in the units of the unchanged sheet.
    pub values: Vec<Vec<(ReadingId, Option<f64>)>>,
    /// Descriptions of other changes with the same values for all bytes.
    pub same: Vec<String>,
    /// Relative weight; compare findings by ratio.
    pub weight: f64,
}

/// Result of a search.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Findings {
    /// Changes, sorted by weight.
    pub list: Vec<Finding>,
    /// Number of expected values.
    pub points: usize,
    /// Number of expected values that fit the unchanged sheet.
    pub agree: usize,
    /// Readings of each frame with the unchanged sheet.
    pub now: Vec<Vec<(ReadingId, Option<f64>)>>,
    /// Number of changes tried.
    pub tried: usize,
    /// Measurement that distinguishes the first two changes.
    pub apart: Option<Apart>,
    /// Readings whose expected values are outside the possible values of the unchanged sheet: minimum and maximum.
    pub beyond: Vec<(ReadingId, f64, f64)>,
    /// Suspect frames.
    pub suspects: Vec<Suspect>,
    /// Settings that the readings use and that have no known value.
    pub unknown: Vec<String>,
}

/// Suspect frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Suspect {
    /// All bytes 0x00 or all 0xFF: no response, or no measurement.
    Blank {
        /// Index in the observation.
        frame: usize,
        /// Byte value.
        byte: u8,
    },
    /// Same bytes as the previous frame of its kind: no new measurement.
    Stale {
        /// Index in the observation.
        frame: usize,
    },
}

impl Findings {
    /// True if the unchanged sheet or one of the changes fits all expected values.
    pub fn is_explained(&self) -> bool {
        self.agree == self.points || self.list.iter().any(|finding| finding.agree == self.points)
    }

    /// The first finding, if it fits all values and has at least twice the weight of the second.
    pub fn strong(&self) -> Option<&Finding> {
        let first = self.list.first().filter(|first| first.agree == self.points && !first.is_pair)?;
        let second = self.list.get(1).map_or(0.0, |second| second.weight);
        (second <= first.weight / 2.0).then_some(first)
    }
}

/// Maximum number of findings.
const MOST_FOUND: usize = 12;
/// Maximum number of changes to combine to pairs.
const MOST_PAIRED: usize = 90;

/// Finds changes of a sheet that give the expected values.
///
/// ```
/// use yemdo::mend::{Observation, Mistake, Expectation, mend};
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
/// reading.light = { unit = "lx", formula = "light * 0.5" }
/// "#).unwrap();
/// let frames = vec![(part.frame("LIGHT").unwrap(), vec![0x90, 0x01])];
/// let expectations = vec![Expectation::parse(&part, "light=190 to 210 lx").unwrap()];
/// let found = mend(&part, &Observation { frames, expectations, settings: Vec::new() });
/// assert_eq!(found.list[0].mistake, Mistake::ByteOrder);
/// assert_eq!(found.list[0].lines[0].after, r#"frame.LIGHT = { read = 2, code = { light = "b1 b0" } }"#);
/// ```
pub fn mend(part: &Part, observation: &Observation) -> Findings {
    search(part, observation, true)
}

/// The likely single change for a worked example, if one is by far the likeliest.
pub(crate) fn likely(part: &Part, example: &Example) -> Option<Finding> {
    let observation = Observation::of_example(part, example)?;
    search(part, &observation, false).strong().cloned()
}

fn search(part: &Part, observation: &Observation, with_pairs: bool) -> Findings {
    let bench = Bench::new(part, observation);
    let now = bench.fit(&bench.now);
    let mut findings = Findings {
        list: Vec::new(),
        points: now.of,
        agree: now.agree,
        now: values(part, observation, &bench.now),
        tried: 0,
        apart: None,
        beyond: Vec::new(),
        suspects: suspects(observation),
        unknown: unknown(&bench),
    };
    if now.is_whole() {
        return findings;
    }
    findings.beyond = beyond(part, observation);
    let changes = changes(&bench);
    findings.tried = changes.len();
    let mut ranked = rank(&bench, &changes);
    if with_pairs && !ranked.iter().any(|ranked| ranked.fit.is_whole()) {
        let pairs = pairs(&bench, &changes);
        findings.tried += pairs.len();
        // Pairs that do not fit are useless.
        ranked.extend(rank(&bench, &pairs).into_iter().filter(|ranked| ranked.fit.is_whole()));
    }
    rank::settle(&bench, &mut ranked);
    findings.apart = apart::tell_apart(&bench, &ranked);
    findings.list = ranked.into_iter().take(MOST_FOUND).map(|ranked| finding(&bench, ranked)).collect();
    findings
}

/// All candidate changes.
fn changes(bench: &Bench<'_>) -> Vec<Change> {
    let targets: Vec<ReadingId> = bench.observation.expectations.iter().map(|expectation| expectation.reading).collect();
    let behind = Behind::of(bench.part, &targets);
    let mut changes = layouts::changes(bench.part, &behind);
    changes.extend(formulas::changes(bench.part, &behind));
    changes.extend(settings::changes(bench, &behind));
    changes.extend(constants::changes(bench, &behind));
    changes
}

/// Expectations outside the possible values.
fn beyond(part: &Part, observation: &Observation) -> Vec<(ReadingId, f64, f64)> {
    let beyond = |expectation: &Expectation| {
        let Expected::Within(list) = &expectation.expected else { return None };
        let extent = predict(part, expectation.reading)?.extent?;
        list.iter().all(|(low, high)| *low > extent.high || *high < extent.low).then_some((expectation.reading, extent.low, extent.high))
    };
    observation.expectations.iter().filter_map(beyond).collect()
}

/// Settings without a value after the frames of the observation.
fn unknown(bench: &Bench<'_>) -> Vec<String> {
    let Some(mut decoder) = bench.decoder(bench.part, &[]) else { return Vec::new() };
    bench.run(&mut decoder);
    let frames: Vec<FrameId> = bench.observation.frames.iter().map(|(frame, _)| *frame).collect();
    let used = decoder.state().in_use(bench.part, &frames);
    used.into_iter().filter(|used| !used.is_known).map(|used| used.name).collect()
}

/// Pairs of the likelier changes.
fn pairs(bench: &Bench<'_>, changes: &[Change]) -> Vec<Change> {
    let mut likely: Vec<&Change> = changes.iter().collect();
    likely.sort_by(|one, two| two.weight().total_cmp(&one.weight()));
    let likely: Vec<&Change> = likely.into_iter().filter(|change| bench.of(change).is_some()).take(MOST_PAIRED).collect();
    let mut found = Vec::new();
    for (at, one) in likely.iter().enumerate() {
        found.extend(likely.iter().skip(at + 1).filter_map(|two| one.and(two)));
    }
    found
}

fn finding(bench: &Bench<'_>, ranked: Ranked) -> Finding {
    let Ranked { change, fit, outcome, weight, same, .. } = ranked;
    Finding {
        mistake: change.mistake,
        lines: lines(&bench.part.source, &change.edits),
        what: change.what,
        edits: change.edits,
        settings: change.settings,
        fits: change.fits,
        is_pair: change.pair,
        agree: fit.agree,
        values: values(bench.part, bench.observation, &outcome),
        same,
        weight,
    }
}

/// Readings of each frame.
fn values(part: &Part, observation: &Observation, outcome: &trial::Outcome) -> Vec<Vec<(ReadingId, Option<f64>)>> {
    let of = |(at, (frame, _)): (usize, &(FrameId, Vec<u8>))| {
        let readings = part.frames.get(*frame).map_or(&[] as &[_], |frame| frame.readings.as_slice());
        readings.iter().map(|reading| (*reading, outcome.value(at, *reading))).collect()
    };
    observation.frames.iter().enumerate().map(of).collect()
}

fn suspects(observation: &Observation) -> Vec<Suspect> {
    let mut found = Vec::new();
    for (at, (frame, bytes)) in observation.frames.iter().enumerate() {
        if let Some(byte) = bytes.first().copied().filter(|byte| matches!(byte, 0 | 0xFF) && bytes.iter().all(|other| other == byte)) {
            found.push(Suspect::Blank { frame: at, byte });
            continue;
        }
        let before = observation.frames.iter().take(at).rev().find(|(other, _)| other == frame);
        if before.is_some_and(|(_, other)| other == bytes) {
            found.push(Suspect::Stale { frame: at });
        }
    }
    found
}

/// Text of the sheet with a finding's edits.
pub fn mended(part: &Part, finding: &Finding) -> String {
    change::changed(&part.source, &finding.edits)
}

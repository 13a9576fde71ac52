//! Why is the number wrong? From raw bytes and a rough truth to the line of the sheet to change.
//!
//! [`mend`] takes frames as they came and what is known of the readings from elsewhere ([`Truth`]), tries what people get
//! wrong ([`Mistake`]), and gives the changes with which everything agrees, the likeliest first.
//!
//! A finding's weight is how common its mistake is ([`Mistake::weight`]), shared among the forms that it may take at one place; it
//! shrinks with the distance from the middle of what is known (as in a normal distribution, of which two thirds of half the
//! width are the deviation), and by a factor of 8 for every other reading that loses its value or leaves its stated range.

mod apart;
mod bare;
mod behind;
mod change;
mod checks;
mod constants;
mod formulas;
mod layouts;
mod rank;
mod settings;
mod solve;
mod trial;
mod truth;

use crate::ground::text::Span;
use crate::model::example::{Example, Expected, Subject};
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
pub use truth::{Known, Truth, TruthError};

/// What is known: frames, and what the readings were about while they came.
#[derive(Clone, Debug, Default)]
pub struct Evidence {
    /// The frames in the order in which they came, those that are read once in front.
    pub frames: Vec<(FrameId, Vec<u8>)>,
    /// What is known of readings.
    pub truths: Vec<Truth>,
    /// Settings and parameters that were in force, `NAME=VALUE`; the others are as after a reset.
    pub settings: Vec<String>,
}

impl Evidence {
    /// The frames of a worked example, with the values that it gives; `None` where it gives none of a reading.
    pub fn of_example(part: &Sheet, example: &Example) -> Option<Evidence> {
        let set =
            example.set.iter().map(|(field, code)| format!("{}={}", part.setting_name(*field), part.present_text(*field, Some(*code))));
        let known = |(subject, expected, _): &(Subject, Expected, Span)| match (subject, expected) {
            (Subject::Reading(reading), Expected::Value { value, tolerance, .. }) => {
                let within = vec![(value - tolerance, value + tolerance)];
                Some(Truth { reading: *reading, known: Known::Within(within) })
            }
            _ => None,
        };
        let truths: Vec<Truth> = example.gives.iter().filter_map(known).collect();
        let settings = set.chain(example.supplied().map(str::to_owned)).collect();
        // What it gives is what the last of several frames gives.
        let again = |at: usize, frame: FrameId| example.frames.iter().skip(at + 1).any(|(other, _)| *other == frame);
        let several = example.frames.iter().enumerate().any(|(at, (frame, _))| again(at, *frame));
        (!truths.is_empty() && !several && example.writes.is_empty()).then(|| Evidence { frames: example.frames.clone(), truths, settings })
    }
}

/// A change with which everything agrees, or more than without it.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Finding {
    /// What was wrong; of two changes, the likelier one's.
    pub mistake: Mistake,
    /// The same in words.
    pub what: String,
    /// The edits of the sheet; none where only something else was in force.
    pub edits: Vec<Edit>,
    /// The lines that they change.
    pub lines: Vec<ChangedLine>,
    /// What was in force: `NAME=VALUE`, as `configure` and `decode` take it.
    pub settings: Vec<String>,
    /// The values of the constant with which all agrees, where it was solved for.
    pub fits: Option<(f64, f64)>,
    /// It is two changes at once.
    pub is_pair: bool,
    /// The points that agree.
    pub agree: usize,
    /// The readings of each frame with the change, in the units that the sheet has without it.
    pub values: Vec<Vec<(ReadingId, Option<f64>)>>,
    /// Other changes that give the same values for any bytes, in words.
    pub same: Vec<String>,
    /// Its weight; only ratios count.
    pub weight: f64,
}

/// What was found.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Findings {
    /// The changes, the likeliest first.
    pub list: Vec<Finding>,
    /// The number of points at which something is known.
    pub points: usize,
    /// How many of those agree with the sheet as it is.
    pub agree: usize,
    /// The readings of each frame with the sheet as it is.
    pub now: Vec<Vec<(ReadingId, Option<f64>)>>,
    /// The number of changes that were tried.
    pub tried: usize,
    /// A measurement that would tell the first two apart.
    pub apart: Option<Apart>,
    /// Readings that cannot be what is known of them, whatever the bytes are, with what they can be.
    pub beyond: Vec<(ReadingId, f64, f64)>,
    /// What is suspect about the frames themselves.
    pub suspects: Vec<Suspect>,
}

/// A frame that is suspect by itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Suspect {
    /// All bytes are zeros, or all ones: nobody answered, or nothing was measured.
    Blank {
        /// Its place in the evidence.
        frame: usize,
        /// The byte.
        byte: u8,
    },
    /// The same bytes as the one before of its kind: nothing new was measured.
    Stale {
        /// Its place in the evidence.
        frame: usize,
    },
}

impl Findings {
    /// The first finding, if it is beyond doubt by far: everything agrees, and nothing else is half as likely.
    pub fn strong(&self) -> Option<&Finding> {
        let first = self.list.first().filter(|first| first.agree == self.points && !first.is_pair)?;
        let second = self.list.get(1).map_or(0.0, |second| second.weight);
        (second <= first.weight / 2.0).then_some(first)
    }
}

/// The most findings that are given.
const MOST_FOUND: usize = 12;
/// The most changes of which pairs are made.
const MOST_PAIRED: usize = 90;

/// Looks for the change of a sheet with which frames agree with what is known.
///
/// ```
/// use yemdo::mend::{Evidence, Mistake, Truth, mend};
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
/// reading.light = { unit = "lx", formula = "light * 0.5" }
/// "#).unwrap();
/// let frames = vec![(part.frame("LIGHT").unwrap(), vec![0x90, 0x01])];
/// let truths = vec![Truth::parse(&part, "light=190 to 210 lx").unwrap()];
/// let found = mend(&part, &Evidence { frames, truths, settings: Vec::new() });
/// assert_eq!(found.list[0].mistake, Mistake::ByteOrder);
/// assert_eq!(found.list[0].lines[0].after, r#"frame.LIGHT = { read = 2, code = { light = "b1 b0" } }"#);
/// ```
pub fn mend(part: &Part, evidence: &Evidence) -> Findings {
    let bench = Bench::new(part, evidence);
    let targets: Vec<ReadingId> = evidence.truths.iter().map(|truth| truth.reading).collect();
    let now = bench.fit(&bench.now);
    let mut findings = Findings {
        list: Vec::new(),
        points: now.of,
        agree: now.agree,
        now: values(part, evidence, &bench.now),
        tried: 0,
        apart: None,
        beyond: Vec::new(),
        suspects: suspects(evidence),
    };
    if now.is_whole() {
        return findings;
    }
    findings.beyond = beyond(part, evidence);
    let behind = Behind::of(part, &targets);
    let mut changes = layouts::changes(part, &behind);
    changes.extend(formulas::changes(part, &behind));
    changes.extend(settings::changes(&bench, &behind));
    changes.extend(constants::changes(&bench, &behind));
    findings.tried = changes.len();
    let mut ranked = rank(&bench, &changes);
    if !ranked.iter().any(|ranked| ranked.fit.is_whole()) {
        let pairs = pairs(&bench, &changes);
        findings.tried += pairs.len();
        // Of two changes that still do not fit nothing can be learned.
        ranked.extend(rank(&bench, &pairs).into_iter().filter(|ranked| ranked.fit.is_whole()));
    }
    rank::settle(&bench, &mut ranked);
    findings.apart = apart::tell_apart(&bench, &ranked);
    findings.list = ranked.into_iter().take(MOST_FOUND).map(|ranked| finding(&bench, ranked)).collect();
    findings
}

/// Readings that cannot be what is known of them.
fn beyond(part: &Part, evidence: &Evidence) -> Vec<(ReadingId, f64, f64)> {
    let beyond = |truth: &Truth| {
        let Known::Within(list) = &truth.known else { return None };
        let extent = predict(part, truth.reading)?.extent?;
        list.iter().all(|(low, high)| *low > extent.high || *high < extent.low).then_some((truth.reading, extent.low, extent.high))
    };
    evidence.truths.iter().filter_map(beyond).collect()
}

/// Two changes at once, of the likelier ones.
fn pairs(bench: &Bench<'_>, changes: &[Change]) -> Vec<Change> {
    let mut likely: Vec<&Change> = changes.iter().collect();
    likely.sort_by(|one, two| two.weight().total_cmp(&one.weight()));
    likely.retain(|change| bench.of(change).is_some());
    likely.truncate(MOST_PAIRED);
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
        values: values(bench.part, bench.evidence, &outcome),
        same,
        weight,
    }
}

/// The readings that each frame brings.
fn values(part: &Part, evidence: &Evidence, outcome: &trial::Outcome) -> Vec<Vec<(ReadingId, Option<f64>)>> {
    let of = |(at, (frame, _)): (usize, &(FrameId, Vec<u8>))| {
        let readings = part.frames.get(*frame).map_or(&[] as &[_], |frame| frame.readings.as_slice());
        readings.iter().map(|reading| (*reading, outcome.value(at, *reading))).collect()
    };
    evidence.frames.iter().enumerate().map(of).collect()
}

fn suspects(evidence: &Evidence) -> Vec<Suspect> {
    let mut found = Vec::new();
    for (at, (frame, bytes)) in evidence.frames.iter().enumerate() {
        if let Some(byte) = bytes.first().copied().filter(|byte| matches!(byte, 0 | 0xFF) && bytes.iter().all(|other| other == byte)) {
            found.push(Suspect::Blank { frame: at, byte });
            continue;
        }
        let before = evidence.frames.iter().take(at).rev().find(|(other, _)| other == frame);
        if before.is_some_and(|(_, other)| other == bytes) {
            found.push(Suspect::Stale { frame: at });
        }
    }
    found
}

/// The sheet's text with a finding's edits.
pub fn mended(part: &Part, finding: &Finding) -> String {
    change::changed(&part.source, &finding.edits)
}

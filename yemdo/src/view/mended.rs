//! Findings of `mend`.

use serde::Serialize;

use super::named::Named;
use crate::mend::{BareFinding, ChangedLine, CheckFinding, Finding, Findings, Suspect};
use crate::model::ids::ReadingId;
use crate::model::part::Sheet;

/// Findings for a part.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct MendedView<'a> {
    part: &'a str,
    points: usize,
    agree: usize,
    tried: usize,
    now: Vec<Named<Option<f64>>>,
    findings: Vec<FindingView<'a>>,
    apart: Option<ApartView<'a>>,
    beyond: Vec<BeyondView<'a>>,
    suspects: Vec<SuspectView>,
    unknown: &'a [String],
}

#[derive(Clone, Debug, Serialize)]
pub(super) struct FindingView<'a> {
    mistake: &'a str,
    what: &'a str,
    lines: Vec<LineView<'a>>,
    settings: &'a [String],
    fits: Option<[f64; 2]>,
    agree: usize,
    weight: f64,
    same: &'a [String],
    values: Vec<Named<Option<f64>>>,
}

#[derive(Clone, Debug, Serialize)]
struct LineView<'a> {
    line: usize,
    before: &'a str,
    after: &'a str,
}

#[derive(Clone, Debug, Serialize)]
struct ApartView<'a> {
    reading: &'a str,
    first: f64,
    second: f64,
}

/// Expectation outside the possible values, which are given.
#[derive(Clone, Debug, Serialize)]
struct BeyondView<'a> {
    reading: &'a str,
    low: f64,
    high: f64,
}

#[derive(Clone, Debug, Serialize)]
struct SuspectView {
    frame: usize,
    what: &'static str,
}

impl<'a> MendedView<'a> {
    /// Findings for a part, each with the values of all frames in order.
    pub fn new(part: &'a Sheet, findings: &'a Findings) -> Self {
        let values = |rows: &'a [Vec<(ReadingId, Option<f64>)>]| -> Vec<Named<Option<f64>>> {
            let named = |(id, value): &(ReadingId, Option<f64>)| Some((part.readings.get(*id)?.name.clone(), *value));
            rows.iter().map(|row| row.iter().filter_map(named).collect()).collect()
        };
        let apart = findings.apart.and_then(|apart| {
            let reading = part.readings.get(apart.reading)?.name.as_str();
            Some(ApartView { reading, first: apart.first, second: apart.second })
        });
        let beyond = |(id, low, high): &(ReadingId, f64, f64)| {
            Some(BeyondView { reading: part.readings.get(*id)?.name.as_str(), low: *low, high: *high })
        };
        let suspect = |suspect: &Suspect| match suspect {
            Suspect::Blank { frame, byte: 0 } => SuspectView { frame: frame + 1, what: "all zeros" },
            Suspect::Blank { frame, .. } => SuspectView { frame: frame + 1, what: "all ones" },
            Suspect::Stale { frame } => SuspectView { frame: frame + 1, what: "as the one before" },
        };
        MendedView {
            part: &part.name,
            points: findings.points,
            agree: findings.agree,
            tried: findings.tried,
            now: values(&findings.now),
            findings: findings.list.iter().map(|finding| FindingView::new(finding, values(&finding.values))).collect(),
            apart,
            beyond: findings.beyond.iter().filter_map(beyond).collect(),
            suspects: findings.suspects.iter().map(suspect).collect(),
            unknown: &findings.unknown,
        }
    }
}

impl<'a> FindingView<'a> {
    pub(super) fn new(finding: &'a Finding, values: Vec<Named<Option<f64>>>) -> Self {
        let line = |line: &'a ChangedLine| LineView { line: line.line, before: &line.before, after: &line.after };
        FindingView {
            mistake: finding.mistake.name(),
            what: &finding.what,
            lines: finding.lines.iter().map(line).collect(),
            settings: &finding.settings,
            fits: finding.fits.map(|(low, high)| [low, high]),
            agree: finding.agree,
            weight: finding.weight,
            same: &finding.same,
            values,
        }
    }
}

/// Check that all frames pass.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct CheckFindingView<'a> {
    what: &'a str,
    check: &'a str,
    bits: i32,
}

impl<'a> From<&'a CheckFinding> for CheckFindingView<'a> {
    fn from(finding: &'a CheckFinding) -> Self {
        CheckFindingView { what: &finding.what, check: &finding.text, bits: finding.bits }
    }
}

/// Code and formula for a new sheet.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct BareView<'a> {
    layout: &'a str,
    formula: &'a str,
    values: &'a [f64],
    weight: f64,
}

impl<'a> From<&'a BareFinding> for BareView<'a> {
    fn from(finding: &'a BareFinding) -> Self {
        BareView { layout: &finding.layout, formula: &finding.formula, values: &finding.values, weight: finding.weight }
    }
}

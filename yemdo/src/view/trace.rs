//! Captures: transfers with their meaning, and the verdict.

use serde::Serialize;

use super::live::ReadingView;
use crate::ground::hex::to_hex;
use crate::model::part::Sheet;
use crate::record::Traffic;
use crate::stand_in::Violation;
use crate::trace::{Followed, FrameSeen, TraceFinding};

/// A transfer of a capture.
#[derive(Clone, Debug, Serialize)]
pub struct TransferView<'a> {
    /// Microseconds since the beginning.
    pub at_us: u64,
    /// Line of the capture, or packet; `null` for waveforms.
    pub line: Option<u64>,
    /// Name of the part; `null` if no sheet has this address.
    pub part: Option<&'a str>,
    /// The bus.
    pub bus: &'static str,
    /// The 7-bit address or unit.
    pub address: Option<u8>,
    /// The bytes that were sent, in hex.
    pub sent: String,
    /// Bytes that were wanted.
    pub wanted: usize,
    /// The bytes that came, in hex.
    pub came: Option<String>,
    /// Error.
    pub error: Option<&'a str>,
    /// Meanings by the sheet.
    pub meanings: Vec<String>,
    /// Frames that are complete with it.
    pub frames: Vec<TraceFrameView<'a>>,
    /// Microseconds since the start of the measurement that it reads.
    pub since_start_us: Option<u64>,
    /// Microseconds that the sheet waits.
    pub required_us: Option<u64>,
    /// Violations of the client.
    pub violations: Vec<ViolationView<'a>>,
}

/// A frame of a capture.
#[derive(Clone, Debug, Serialize)]
pub struct TraceFrameView<'a> {
    /// Its name.
    pub frame: &'a str,
    /// Its bytes, in hex.
    pub bytes: String,
    /// Its readings.
    pub readings: Vec<ReadingView<'a>>,
    /// Why it was refused.
    pub refused: Option<String>,
}

/// A violation of the sheet.
#[derive(Clone, Debug, Serialize)]
pub struct ViolationView<'a> {
    /// Microseconds since the beginning.
    pub at_us: u64,
    /// The rule.
    pub rule: &'static str,
    /// Description.
    pub what: &'a str,
    /// Line of the sheet.
    pub sheet_line: Option<usize>,
    /// True if earlier transfers may excuse it.
    pub depends_on_start: bool,
}

/// Findings of one kind.
#[derive(Clone, Debug, Serialize)]
pub struct FindingView<'a> {
    /// Name of the part.
    pub part: &'a str,
    /// The first of them.
    #[serde(flatten)]
    pub violation: ViolationView<'a>,
    /// How often it was found.
    pub count: u64,
    /// Time of the last one, in microseconds.
    pub last_us: u64,
    /// Possible effect.
    pub effect: &'static str,
}

impl<'a> TransferView<'a> {
    /// A transfer of a part; without `followed`, of none that is known.
    pub fn new(traffic: &'a Traffic, line: u64, part: Option<(&'a str, &'a Sheet)>, followed: Option<&'a Followed>) -> Self {
        let transfer = &traffic.transfer;
        let seen = followed.iter().flat_map(|followed| &followed.frames);
        let frames = seen.filter_map(|seen| Some(TraceFrameView::new(part?.1, seen)));
        let violations = followed.iter().flat_map(|followed| &followed.violations);
        let gap = followed.and_then(|followed| followed.gap);
        Self {
            at_us: traffic.at,
            line: Some(line).filter(|line| *line > 0),
            part: part.map(|(name, _)| name),
            bus: transfer.bus.key(),
            address: transfer.address,
            sent: to_hex(&transfer.send),
            wanted: transfer.receive,
            came: traffic.outcome.as_ref().ok().map(|bytes| to_hex(bytes)),
            error: traffic.outcome.as_ref().err().map(String::as_str),
            meanings: followed.iter().flat_map(|followed| &followed.meanings).map(ToString::to_string).collect(),
            frames: frames.collect(),
            since_start_us: gap.map(|gap| gap.elapsed),
            required_us: gap.map(|gap| gap.required),
            violations: violations.map(|(violation, depends)| ViolationView::new(violation, *depends)).collect(),
        }
    }
}

impl<'a> TraceFrameView<'a> {
    fn new(sheet: &'a Sheet, seen: &'a FrameSeen) -> Self {
        Self {
            frame: sheet.frames[seen.frame].name(),
            bytes: to_hex(&seen.bytes),
            readings: seen.decoded.iter().flat_map(|decoded| &decoded.readings).map(ReadingView::from).collect(),
            refused: seen.decoded.as_ref().err().map(ToString::to_string),
        }
    }
}

/// A frame that was printed, not captured.
#[derive(Clone, Debug, Serialize)]
pub struct PrintedView<'a> {
    /// Microseconds since the beginning.
    pub at_us: u64,
    /// Line of the text.
    pub line: u64,
    /// Name of the part.
    pub part: &'a str,
    /// The frame, with its readings.
    #[serde(flatten)]
    pub frame: TraceFrameView<'a>,
}

impl<'a> PrintedView<'a> {
    /// A frame of a part.
    pub fn new((at, line): (u64, u64), part: (&'a str, &'a Sheet), seen: &'a FrameSeen) -> Self {
        Self { at_us: at, line, part: part.0, frame: TraceFrameView::new(part.1, seen) }
    }
}

impl<'a> ViolationView<'a> {
    fn new(violation: &'a Violation, depends_on_start: bool) -> Self {
        Self { at_us: violation.at, rule: violation.rule.as_str(), what: &violation.what, sheet_line: violation.line, depends_on_start }
    }
}

impl<'a> FindingView<'a> {
    /// A finding in the client of a part.
    pub fn new(part: &'a str, finding: &'a TraceFinding) -> Self {
        Self {
            part,
            violation: ViolationView::new(&finding.violation, finding.depends_on_start),
            count: finding.count,
            last_us: finding.last,
            effect: finding.violation.rule.effect(),
        }
    }
}

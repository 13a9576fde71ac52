//! Violations of the client in a capture, counted.

use crate::stand_in::Violation;

/// A violation of the sheet in a capture: the first of its kind, and how often it was repeated.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct TraceFinding {
    /// The first of its kind, with its time since the beginning of the capture.
    pub violation: Violation,
    /// How often it was found.
    pub count: u64,
    /// Time of the last one, in microseconds.
    pub last: u64,
    /// True if earlier transfers may excuse it.
    pub depends_on_start: bool,
}

/// The most kinds of findings that are kept.
const MOST: usize = 1000;

/// Adds a violation to the findings.
pub(super) fn add(findings: &mut Vec<TraceFinding>, violation: &Violation, depends_on_start: bool) {
    if let Some(known) = findings.iter_mut().find(|known| known.violation.is_like(violation)) {
        known.count += 1;
        known.last = known.last.max(violation.at);
        known.depends_on_start &= depends_on_start;
    } else if findings.len() < MOST {
        findings.push(TraceFinding { violation: violation.clone(), count: 1, last: violation.at, depends_on_start });
    }
}

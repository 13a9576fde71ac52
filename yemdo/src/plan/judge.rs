//! Priority of statuses, for all decoders and for emitted code.
//!
//! A status that withholds the value beats one that keeps it, wherever either is typed. Of several that withhold it, the first
//! counts; of several that keep it, the most severe. A fault of the formula counts unless the value is withheld anyway.

use crate::model::status::Status;

/// Combines a status with another one that is typed *before* it; both conditions are true.
///
/// Conditions are put together from the last to the first; the stated range is the last.
#[inline]
pub(crate) fn with_earlier(later: Status, earlier: Status) -> Status {
    if !earlier.has_value() || (later.has_value() && earlier > later) { earlier } else { later }
}

/// The status of conditions that hold, in the order in which they are typed, and the place of the one that counts; `outside` is
/// whether the value is outside the stated range.
pub(crate) fn judged(holding: impl DoubleEndedIterator<Item = (usize, Status)>, outside: bool) -> (Status, Option<usize>) {
    let start = (if outside { Status::OutOfRange } else { Status::Ok }, None);
    holding.rev().fold(start, |(later, place), (at, earlier)| {
        let status = with_earlier(later, earlier);
        // The first of two that say the same gives the reason.
        (status, if status == earlier { Some(at) } else { place })
    })
}

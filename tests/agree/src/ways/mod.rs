//! The ways to ask, each row of them held against one another.

pub mod bus;
pub mod configure;
pub mod decode;
pub mod explain;
pub mod firmware;
pub mod logs;
pub mod narrow;
pub mod page;
pub mod reach;
pub mod recording;
pub mod replay;
pub mod signal;
pub mod speed;
pub mod trace;

use std::collections::BTreeMap;

use yemdo::Part;

use crate::choices::Choices;

/// A question that several ways answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Row {
    /// The meaning of bytes.
    Meaning,
    /// Its status and the reason.
    Status,
    /// The bytes that set a value.
    Setting,
    /// The operations on the bus.
    Bus,
    /// The possible values.
    Possible,
    /// The state of the part.
    State,
    /// The results of emitted firmware.
    Firmware,
}

impl Row {
    /// Its name in reports.
    pub fn name(self) -> &'static str {
        match self {
            Row::Meaning => "meaning of bytes",
            Row::Status => "status and reason",
            Row::Setting => "bytes that set",
            Row::Bus => "operations on the bus",
            Row::Possible => "possible values",
            Row::State => "state of the part",
            Row::Firmware => "emitted firmware",
        }
    }
}

/// A place where two ways differ.
#[derive(Clone, Debug)]
pub struct Difference {
    /// The question.
    pub row: Row,
    /// A short name of the two ways, the same for all differences of one kind.
    pub kind: &'static str,
    /// Their answers.
    pub what: String,
}

/// How often ways were compared, and where they differ.
#[derive(Clone, Debug, Default)]
pub struct Tally {
    /// Comparisons of each row.
    pub counts: BTreeMap<Row, u64>,
    /// The differences.
    pub differences: Vec<Difference>,
}

impl Tally {
    /// Counts a comparison; what differs is described by `what`.
    pub fn hold(&mut self, row: Row, kind: &'static str, same: bool, what: impl FnOnce() -> String) {
        *self.counts.entry(row).or_default() += 1;
        // One difference of a kind is enough of a sheet.
        if !same && !self.differences.iter().any(|known| known.kind == kind) {
            self.differences.push(Difference { row, kind, what: what() });
        }
    }

    /// Takes what another one counted.
    pub fn add(&mut self, other: Tally) {
        for (row, count) in other.counts {
            *self.counts.entry(row).or_default() += count;
        }
        self.differences.extend(other.differences);
    }
}

/// All ways that need nothing but the libraries.
pub fn all(part: &Part, c: &mut Choices<'_>) -> Tally {
    let mut tally = Tally::default();
    decode::meaning(part, c, &mut tally);
    configure::settings(part, c, &mut tally);
    explain::registers(part, c, &mut tally);
    bus::operations(part, c, &mut tally);
    reach::possible(part, c, &mut tally);
    recording::measured(part, c, &mut tally);
    trace::judged(part, c, &mut tally);
    logs::logged(part, c, &mut tally);
    signal::signals(part, c, &mut tally);
    narrow::integers(part, c, &mut tally);
    tally
}

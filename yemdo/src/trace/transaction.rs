//! One transfer of a capture.

use crate::record::Traffic;

/// One transfer as it was seen on a bus. Times are in microseconds since the beginning of the capture.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Transaction {
    /// Its bytes, its outcome, and when it began. Over SPI, `send` may have all bytes that were clocked out, and `outcome` all that came back.
    pub traffic: Traffic,
    /// When the answer began: later than the transfer by the bytes that were sent, and by the time that the part held the clock.
    pub answered: u64,
    /// When it ended.
    pub end: u64,
    /// Clock of the bus, if it was measured.
    pub hertz: Option<u32>,
}

impl Transaction {
    /// A transfer whose end is known.
    pub fn new(traffic: Traffic, answered: u64, end: u64, hertz: Option<u32>) -> Self {
        Self { traffic, answered, end, hertz }
    }

    /// The time that counts for the part: a command acts at its end, an answer is that of the moment when it begins.
    /// `asked` is the transfer, divided.
    pub(crate) fn acts_at(&self, asked: &Traffic) -> u64 {
        if asked.transfer.receive > 0 { self.answered } else { self.end }
    }
}

impl From<Traffic> for Transaction {
    /// A transfer without a known end.
    fn from(traffic: Traffic) -> Self {
        let at = traffic.at;
        Self { traffic, answered: at, end: at, hertz: None }
    }
}

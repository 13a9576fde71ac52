//! Moments: microseconds of Unix time, shown as RFC 3339 with the offset.

use jiff::tz::{Offset, TimeZone};
use jiff::{Timestamp, fmt::temporal::DateTimeParser};

/// A moment, in microseconds of Unix time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Moment(pub(crate) i64);

impl Moment {
    /// The time of this machine.
    pub fn now() -> Self {
        Moment(Timestamp::now().as_microsecond())
    }

    /// A moment as RFC 3339 has it, section 5.6. The offset is needed: without it the moment is unknown.
    pub fn parse(text: &str) -> Option<Self> {
        DateTimeParser::new().parse_timestamp(text.trim()).ok().map(|time| Moment(time.as_microsecond()))
    }

    /// The moment of a Unix time in microseconds.
    pub fn of_micros(micros: i64) -> Self {
        Moment(micros)
    }

    /// Microseconds of Unix time.
    pub fn micros(self) -> i64 {
        self.0
    }

    /// Seconds of Unix time.
    pub fn seconds(self) -> f64 {
        self.0 as f64 / 1e6
    }

    /// The moment of a Unix time.
    pub fn of_seconds(seconds: f64) -> Self {
        Moment((seconds * 1e6).round() as i64)
    }

    /// The moment this many microseconds later.
    pub fn after(self, micros: u64) -> Self {
        Moment(self.0.saturating_add(i64::try_from(micros).unwrap_or(i64::MAX)))
    }
}

/// How moments are shown: in local time, or in UTC.
#[derive(Clone, Debug)]
pub struct Clocks {
    zone: TimeZone,
}

impl Clocks {
    /// UTC, or the time zone of this machine.
    pub fn new(utc: bool) -> Self {
        Self { zone: if utc { TimeZone::UTC } else { TimeZone::system() } }
    }

    /// What local time is ahead of UTC at that moment, in microseconds.
    pub fn offset(&self, moment: Moment) -> i64 {
        i64::from(self.offset_of(moment).seconds()) * 1_000_000
    }

    fn offset_of(&self, moment: Moment) -> Offset {
        Timestamp::from_microsecond(moment.0).map_or(Offset::UTC, |time| self.zone.to_offset(time))
    }

    /// RFC 3339 with milliseconds: `2031-02-07T08:00:01.500+01:00`, in UTC with `Z`.
    pub fn text(&self, moment: Moment) -> String {
        let Ok(time) = Timestamp::from_microsecond(moment.0) else { return String::new() };
        // Milliseconds are rounded before they are cut off.
        let time = Timestamp::from_millisecond((time.as_microsecond() + 500).div_euclid(1000)).unwrap_or(time);
        let offset = self.offset_of(moment);
        if offset == Offset::UTC { format!("{time:.3}") } else { format!("{:.3}", time.display_with_offset(offset)) }
    }
}

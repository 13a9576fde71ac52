//! I2C from SCL and SDA (UM10204, sections 3.1.4 to 3.1.10).

use super::Timed;
use crate::capture::Captured;
use yemdo::bus::Bus;

/// Decodes the two lines of an I2C bus.
///
/// Data are sampled when SCL rises, and count when it falls again: a start or stop in between takes them back.
#[derive(Clone, Debug, Default)]
pub struct I2cLines {
    scl: bool,
    sda: bool,
    /// The level of SDA at the last rise of SCL, and its time.
    sampled: Option<(u64, bool)>,
    bits: Vec<(u64, bool)>,
    /// Parts of the transfer between start and stop, each with an address.
    sections: Vec<Section>,
    active: bool,
    bytes: u64,
    cut: u64,
    starts: u64,
}

/// The bytes between a start, or a repeated one, and the next.
#[derive(Clone, Debug)]
struct Section {
    start: u64,
    end: u64,
    /// First byte: address and direction; whether it was acknowledged.
    head: Option<(u8, bool)>,
    data: Vec<u8>,
    /// Whether the last data byte was acknowledged.
    acknowledged: bool,
    /// When the first data byte began.
    data_at: Option<u64>,
    /// Shortest clock period.
    period: Option<u64>,
    /// A byte was cut off by a start or stop.
    cut: bool,
}

impl I2cLines {
    /// An idle bus.
    pub fn new() -> Self {
        Self { scl: true, sda: true, ..Self::default() }
    }

    /// Bytes decoded so far, those of addresses included.
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// Start conditions so far.
    pub fn starts(&self) -> u64 {
        self.starts
    }

    /// Bytes that a start or stop cut off.
    pub fn cut(&self) -> u64 {
        self.cut
    }

    /// The levels of both lines from this time on. Returns the transfers that end here.
    pub fn levels(&mut self, at: u64, scl: bool, sda: bool) -> Vec<Captured> {
        let (was_high, data_was) = (self.scl, self.sda);
        (self.scl, self.sda) = (scl, sda);
        match (was_high, scl) {
            (false, true) => self.sampled = Some((at, sda)),
            (true, false) => self.take_bit(),
            (true, true) if data_was && !sda => self.start(at),
            (true, true) if !data_was && sda => return self.stop(at),
            _ => {}
        }
        Vec::new()
    }

    /// The end of the capture. A transfer that was under way is incomplete.
    pub fn end(&mut self, at: u64) -> Vec<Captured> {
        if !self.active || self.sections.is_empty() {
            return Vec::new();
        }
        self.sections.last_mut().into_iter().for_each(|section| section.cut = true);
        self.stop(at)
    }

    fn take_bit(&mut self) {
        let Some(bit) = self.sampled.take().filter(|_| self.active) else { return };
        self.bits.push(bit);
        if self.bits.len() < 9 {
            return;
        }
        let bits = std::mem::take(&mut self.bits);
        let byte = bits.iter().take(8).fold(0u8, |byte, (_, bit)| (byte << 1) | u8::from(*bit));
        let acknowledged = bits.last().is_some_and(|(_, bit)| !bit);
        let times: Vec<u64> = bits.iter().map(|(at, _)| *at).collect();
        self.bytes += 1;
        let Some(section) = self.sections.last_mut() else { return };
        // The ninth may come late: the part may hold the clock before it acknowledges.
        if let (Some(first), Some(eighth)) = (times.first(), times.get(7)) {
            let period = (eighth - first) / 7;
            section.period = Some(section.period.map_or(period, |known| known.min(period)));
        }
        match section.head {
            None => section.head = Some((byte, acknowledged)),
            Some(_) => {
                section.data_at = section.data_at.or(times.first().copied());
                section.data.push(byte);
                section.acknowledged = acknowledged;
            }
        }
    }

    fn start(&mut self, at: u64) {
        self.starts += 1;
        self.close(at);
        self.active = true;
        self.sections.push(Section {
            start: at,
            end: at,
            head: None,
            data: Vec::new(),
            acknowledged: true,
            data_at: None,
            period: None,
            cut: false,
        });
    }

    /// A section ends with the next condition.
    fn close(&mut self, at: u64) {
        self.sampled = None;
        let cut = !std::mem::take(&mut self.bits).is_empty();
        self.cut += u64::from(cut);
        if let Some(section) = self.sections.last_mut() {
            section.end = at;
            section.cut |= cut;
        }
    }

    fn stop(&mut self, at: u64) -> Vec<Captured> {
        self.close(at);
        self.active = false;
        let sections = std::mem::take(&mut self.sections);
        let mut found = Vec::new();
        let mut rest = sections.as_slice();
        while let Some((first, behind)) = rest.split_first() {
            rest = behind;
            let second = behind.first().filter(|second| first.is_write() && second.is_read_of(first));
            if let Some(second) = second {
                rest = behind.get(1..).unwrap_or(&[]);
                found.extend(Section::captured(first, Some(second)));
            } else {
                found.extend(Section::captured(first, None));
            }
        }
        found
    }
}

impl Section {
    fn is_write(&self) -> bool {
        self.head.is_some_and(|(head, acknowledged)| head & 1 == 0 && acknowledged) && self.fully_acknowledged() && !self.cut
    }

    fn is_read_of(&self, other: &Section) -> bool {
        self.head.zip(other.head).is_some_and(|((own, _), (other, _))| own == other | 1)
    }

    /// A write whose bytes were all acknowledged.
    fn fully_acknowledged(&self) -> bool {
        self.data.is_empty() || self.acknowledged
    }

    /// A write, a read, or a write with the read that follows; `None` without an address.
    fn captured(first: &Section, second: Option<&Section>) -> Option<Captured> {
        let (head, acknowledged) = first.head?;
        let last = second.unwrap_or(first);
        let reads = last.head.is_some_and(|(head, _)| head & 1 == 1);
        let timed = Timed {
            bus: Bus::I2c,
            address: Some(head >> 1),
            at: first.start,
            answered: if reads { last.data_at.unwrap_or(last.end) } else { last.end },
            end: last.end,
            period: first.period.into_iter().chain(second.and_then(|second| second.period)).min(),
        };
        let sent = if head & 1 == 0 { first.data.clone() } else { Vec::new() };
        let came = if reads { last.data.clone() } else { Vec::new() };
        // How many bytes a client wanted shows only in those that came.
        let receive = if reads { came.len().max(1) } else { 0 };
        let refused = !acknowledged || last.head.is_none_or(|(_, acknowledged)| !acknowledged);
        let outcome = if refused {
            Err("address not acknowledged".to_owned())
        } else if first.cut || last.cut {
            Err("the transfer is cut off".to_owned())
        } else if !reads && !first.fully_acknowledged() {
            Err("data not acknowledged".to_owned())
        } else if reads && came.is_empty() {
            Err("nothing was read".to_owned())
        } else {
            Ok(came)
        };
        Some(timed.captured(sent, receive, outcome))
    }
}

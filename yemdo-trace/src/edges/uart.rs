//! Characters of a serial line: start bit, eight data bits, parity, stop.

use crate::options::Serial;

/// Parity of the characters.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Parity {
    /// None.
    None,
    /// Even.
    #[default]
    Even,
    /// Odd.
    Odd,
}

/// A character, with the times of its beginning and end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct SerialByte {
    /// When its start bit began.
    pub at: u64,
    /// When its stop bit ended.
    pub end: u64,
    /// The byte.
    pub byte: u8,
    /// Whether parity and stop bit were right.
    pub good: bool,
}

/// Decodes one line, idle high.
#[derive(Clone, Debug)]
pub struct UartLine {
    form: Serial,
    /// Duration of a bit.
    bit: u64,
    level: bool,
    changed: u64,
    /// When the start bit began, and the levels so far.
    frame: Option<(u64, Vec<bool>)>,
    shortest: Option<u64>,
    bad: u64,
    good: u64,
}

impl UartLine {
    /// An idle line.
    pub fn new(form: Serial) -> Self {
        let bit = 1_000_000_000_000 / u64::from(form.baud.max(1));
        Self { form, bit, level: true, changed: 0, frame: None, shortest: None, bad: 0, good: 0 }
    }

    /// Characters with a wrong parity or stop bit so far, and good ones.
    pub fn counts(&self) -> (u64, u64) {
        (self.bad, self.good)
    }

    /// The shortest pulse so far: one bit, as a rule.
    pub fn shortest(&self) -> Option<u64> {
        self.shortest
    }

    /// The level of the line from this time on. Returns a character that is complete by now.
    pub fn level(&mut self, at: u64, level: bool) -> Option<SerialByte> {
        let done = self.advance(at);
        if level == self.level {
            return done;
        }
        if self.changed > 0 {
            let pulse = at - self.changed;
            self.shortest = Some(self.shortest.map_or(pulse, |known| known.min(pulse)));
        }
        (self.level, self.changed) = (level, at);
        if !level && self.frame.is_none() {
            self.frame = Some((at, Vec::with_capacity(12)));
        }
        done
    }

    /// Samples the middle of each bit up to this time.
    pub fn advance(&mut self, until: u64) -> Option<SerialByte> {
        let (at, mut bits) = self.frame.take()?;
        // Start, data, parity, and the first stop bit: the second may be the beginning of a pause.
        let parity = usize::from(self.form.parity != Parity::None);
        while bits.len() < 10 + parity {
            let middle = at + self.bit * bits.len() as u64 + self.bit / 2;
            if middle >= until {
                self.frame = Some((at, bits));
                return None;
            }
            bits.push(self.level);
        }
        let data = bits.get(1..9).unwrap_or(&[]);
        let byte = data.iter().rev().fold(0u8, |byte, bit| (byte << 1) | u8::from(*bit));
        let odd = data.iter().filter(|bit| **bit).count() % 2 == 1;
        let fits = match self.form.parity {
            Parity::None => true,
            Parity::Even => bits.get(9) == Some(&odd),
            Parity::Odd => bits.get(9) == Some(&!odd),
        };
        let good = fits && bits.first() == Some(&false) && bits.last() == Some(&true);
        if good {
            self.good += 1
        } else {
            self.bad += 1
        }
        Some(SerialByte { at, end: at + self.bit * (9 + parity as u64 + u64::from(self.form.stop_bits)), byte, good })
    }
}

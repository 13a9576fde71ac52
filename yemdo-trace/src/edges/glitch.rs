//! Pulses that are too short to be real.

use std::collections::VecDeque;

/// Drops pulses shorter than a minimum. Edges come out delayed, in the order of their times.
#[derive(Clone, Debug)]
pub struct Glitches {
    /// Minimum width, in picoseconds.
    minimum: u64,
    pending: VecDeque<(u64, usize, bool)>,
    dropped: u64,
}

impl Glitches {
    /// Drops pulses shorter than `minimum` picoseconds.
    pub fn new(minimum: u64) -> Self {
        Self { minimum, pending: VecDeque::new(), dropped: 0 }
    }

    /// Pulses dropped so far.
    pub fn dropped(&self) -> u64 {
        self.dropped
    }

    /// Takes an edge of a line; returns the edges that are certain by now.
    pub fn edge(&mut self, at: u64, line: usize, level: bool) -> Vec<(u64, usize, bool)> {
        let due = self.until(at);
        // The last edge of the same line, if the line goes back too soon.
        match self.pending.iter().rposition(|(_, other, _)| *other == line) {
            Some(before) => {
                self.pending.remove(before);
                self.dropped += 1;
            }
            None => self.pending.push_back((at, line, level)),
        }
        due
    }

    /// The edges that no pulse can take back any more at this time.
    fn until(&mut self, now: u64) -> Vec<(u64, usize, bool)> {
        let mut due = Vec::new();
        while let Some(edge) = self.pending.front().filter(|(at, ..)| at.saturating_add(self.minimum) <= now).copied() {
            due.push(edge);
            self.pending.pop_front();
        }
        due
    }

    /// The end: the edges that are left.
    pub fn end(&mut self) -> Vec<(u64, usize, bool)> {
        self.until(u64::MAX)
    }
}

//! A run of the library, held against what an emitted routine asks for. It is a file of each compiled program.

/// Operations and answers: see `replay/mod.rs`.
pub struct Script<'s> {
    which: &'static str,
    at: &'s [u8],
    count: usize,
}

impl<'s> Script<'s> {
    pub fn new(which: &'static str, at: &'s [u8]) -> Self {
        Self { which, at, count: 0 }
    }

    pub fn told(&self, what: &str) -> Option<String> {
        let next = &self.at[..self.at.len().min(16)];
        Some(format!("{}, operation {}: {what}; the library {next:02X?}", self.which, self.count))
    }

    pub fn ended(&self, well: bool) -> Option<String> {
        if self.at[0] != 255 {
            return self.told("ended");
        }
        if (self.at[1] != 0) == well { None } else { self.told("one succeeds, the other fails") }
    }

    fn number(&self, at: usize) -> usize {
        usize::from(u16::from_be_bytes([self.at[at], self.at[at + 1]]))
    }

    /// Skips an operation of this length; returns true if it was answered.
    fn next(&mut self, length: usize) -> Option<bool> {
        let answered = self.at[1] != 0;
        self.at = &self.at[length..];
        self.count += 1;
        Some(answered)
    }

    pub fn wait(&mut self, kind: u8, micros: u32) -> Option<bool> {
        if self.at[0] == kind && self.at[2..6] == micros.to_be_bytes() { self.next(6) } else { None }
    }

    pub fn transfer(&mut self, write: &[u8], read: &mut [u8]) -> Option<bool> {
        if self.at[0] != 0 {
            return None;
        }
        let sent = self.number(2);
        let came = self.number(4 + sent);
        if self.at[4..4 + sent] != *write || came != read.len() {
            return None;
        }
        if self.at[1] != 0 {
            read.copy_from_slice(&self.at[6 + sent..6 + sent + came]);
        }
        self.next(6 + sent + came)
    }

    pub fn modbus_read(&mut self, function: u8, address: u16, count: u16, data: &mut [u8]) -> Option<bool> {
        let asked = (self.at[0], self.at[2], self.number(4), self.number(6));
        if asked != (4, function, usize::from(count), usize::from(address)) {
            return None;
        }
        let length = self.number(8);
        if self.at[1] != 0 {
            if length != data.len() {
                return None;
            }
            data.copy_from_slice(&self.at[10..10 + length]);
        }
        self.next(10 + length)
    }

    pub fn modbus_write(&mut self, address: u16, data: &[u8]) -> Option<bool> {
        if (self.at[0], self.number(6), self.number(8)) != (5, usize::from(address), data.len()) {
            return None;
        }
        if self.at[10..10 + data.len()] == *data { self.next(10 + data.len()) } else { None }
    }
}

//! Text, line by line.

use std::io::{BufRead, Read};

use crate::error::CaptureError;

/// The longest line that is read, in bytes.
pub(crate) const MAX_LINE: u64 = 1 << 16;

/// Lines with their numbers.
#[derive(Debug)]
pub(crate) struct Lines<R> {
    input: R,
    line: u64,
}

impl<R: BufRead> Lines<R> {
    pub(crate) fn new(input: R) -> Self {
        Self { input, line: 0 }
    }

    /// The next line and its number, from 1.
    pub(crate) fn next_line(&mut self) -> Result<Option<(u64, String)>, CaptureError> {
        let mut bytes = Vec::new();
        let read = self.input.by_ref().take(MAX_LINE + 1).read_until(b'\n', &mut bytes).map_err(|error| CaptureError::reading(&error))?;
        if read == 0 {
            return Ok(None);
        }
        self.line += 1;
        if bytes.len() as u64 > MAX_LINE {
            return Err(CaptureError::new(format!("the line has more than {MAX_LINE} bytes")).at(self.line));
        }
        Ok(Some((self.line, String::from_utf8_lossy(&bytes).trim_end_matches(['\n', '\r']).to_owned())))
    }
}

//! Logs of raw frames, record by record.

use std::fs::File;
use std::io::{BufRead, BufReader, Read};
use std::path::Path;

use yemdo::record::{LogReader, MAX_LINE, Record};

use crate::error::{LogError, LogErrorKind};

/// Opens a log; its length in bytes, too.
///
/// # Errors
/// [`LogErrorKind::File`]: it cannot be opened, or is a folder.
pub fn open_log(path: &Path) -> Result<(BufReader<File>, u64), LogError> {
    let failed = |error: std::io::Error| LogError::file("read the log", path, &error);
    let file = File::open(path).map_err(failed)?;
    let meta = file.metadata().map_err(failed)?;
    if meta.is_dir() {
        return Err(LogError::new(LogErrorKind::File, format!("cannot read the log {}: it is a folder", path.display())));
    }
    Ok((BufReader::with_capacity(1 << 16, file), meta.len()))
}

/// Limits the bytes that are skipped in a line that is too long.
const MAX_SKIPPED: u64 = 1 << 24;

/// A log of raw frames, record by record, in constant memory.
#[derive(Debug)]
pub struct RawFrames<R> {
    input: R,
    reader: LogReader,
    buffer: Vec<u8>,
    ready: std::vec::IntoIter<Record>,
    taken: u64,
}

impl<R: BufRead> RawFrames<R> {
    /// The frames of `input`, as `reader` understands its lines.
    pub fn new(input: R, reader: LogReader) -> Self {
        Self { input, reader, buffer: Vec::new(), ready: Vec::new().into_iter(), taken: 0 }
    }

    /// Bytes of input taken so far, for progress.
    pub fn taken(&self) -> u64 {
        self.taken
    }

    /// The next frame; `None` at the end of the log.
    ///
    /// # Errors
    /// The input cannot be read, or is no log.
    pub fn next_frame(&mut self) -> Result<Option<Record>, LogError> {
        loop {
            if let Some(record) = self.ready.next() {
                return Ok(Some(record));
            }
            self.buffer.clear();
            let mut limited = Read::take(&mut self.input, MAX_LINE as u64 + 2);
            let read = limited.read_until(b'\n', &mut self.buffer).map_err(|error| LogError::reading(&error))?;
            // Of a line that is too long the rest is passed over.
            let mut skipped = 0;
            if read > MAX_LINE && !self.buffer.ends_with(b"\n") {
                skipped = self.skip_line()?;
            }
            let records = match read {
                0 => self.reader.end(),
                _ => self.reader.line_bytes(&self.buffer)?,
            };
            if read == 0 && records.is_empty() {
                return Ok(None);
            }
            self.taken += read as u64 + skipped;
            self.ready = records.into_iter();
        }
    }

    /// Skips the rest of a line; endless input is refused.
    fn skip_line(&mut self) -> Result<u64, LogError> {
        let mut limited = Read::take(&mut self.input, MAX_SKIPPED);
        let skipped = limited.skip_until(b'\n').map_err(|error| LogError::reading(&error))? as u64;
        if skipped == MAX_SKIPPED {
            let message = format!("a line of the log has more than {MAX_SKIPPED} bytes");
            return Err(LogError::new(LogErrorKind::Content, message).with_help("a log has one frame a line"));
        }
        Ok(skipped)
    }
}

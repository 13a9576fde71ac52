//! Frames from lines of text: hex, C array text, or CSV with a header.

use std::io::{self, BufRead};

use yemdo::Part;
use yemdo::bits::hex::parse_hex;

use crate::failure::Failure;

/// Longest line that is read; what is longer is no log.
const MAX_LINE: usize = 64 * 1024;

/// One frame of a log.
#[derive(Debug)]
pub(crate) struct Record {
    /// Line in the log, from 1.
    pub(crate) line: u64,
    /// The time as the log has it.
    pub(crate) time: Option<String>,
    /// Index of the frame in the part.
    pub(crate) frame: usize,
    /// The bytes, or why they are none.
    pub(crate) bytes: Result<Vec<u8>, String>,
}

/// How the lines are to be read, known after the first.
#[derive(Debug)]
enum Shape {
    /// A frame a line.
    Lines,
    /// CSV: the delimiter, the column of the time, and columns of frames.
    Csv { delimiter: u8, time: Option<usize>, frames: Vec<(usize, usize)> },
}

/// Reads a log record by record, in constant memory.
pub(crate) struct Log<'a, R> {
    input: R,
    part: &'a Part,
    frame: Option<usize>,
    shape: Option<Shape>,
    line: u64,
    buffer: Vec<u8>,
    /// Records of the line that is being read, last first.
    ready: Vec<Record>,
    /// Bytes of input taken so far, for progress.
    pub(crate) taken: u64,
}

impl<'a, R: BufRead> Log<'a, R> {
    /// A log; `frame` is what its bytes are where the log does not say so itself.
    pub(crate) fn new(input: R, part: &'a Part, frame: Option<usize>) -> Self {
        Self { input, part, frame, shape: None, line: 0, buffer: Vec::new(), ready: Vec::new(), taken: 0 }
    }

    /// The next frame; `None` at the end of the log.
    pub(crate) fn next(&mut self) -> Result<Option<Record>, Failure> {
        loop {
            if let Some(record) = self.ready.pop() {
                return Ok(Some(record));
            }
            let Some(mut text) = self.read_line()? else { return Ok(None) };
            let trimmed = text.trim();
            if trimmed.is_empty() || trimmed.starts_with('#') {
                continue;
            }
            if self.shape.is_none() {
                let shape = self.recognise(trimmed)?;
                let header = matches!(shape, Shape::Csv { .. });
                self.shape = Some(shape);
                if header {
                    continue;
                }
            }
            let line = self.line;
            if let Some(Shape::Lines) = self.shape {
                // C array text may go over several lines.
                while text.contains('{') && !text.contains('}') && text.len() < MAX_LINE {
                    let Some(more) = self.read_line()? else { break };
                    text.push(' ');
                    text.push_str(&more);
                }
            }
            self.split(&text, line);
        }
    }

    fn read_line(&mut self) -> Result<Option<String>, Failure> {
        self.buffer.clear();
        let mut limited = io::Read::take(&mut self.input, MAX_LINE as u64 + 1);
        let read = limited.read_until(b'\n', &mut self.buffer).map_err(|error| Failure::told(format!("cannot read the log: {error}")))?;
        if read == 0 {
            return Ok(None);
        }
        self.line += 1;
        self.taken += read as u64;
        if read > MAX_LINE {
            return Err(
                Failure::told(format!("line {} of the log has more than {MAX_LINE} bytes", self.line)).help("a log has one frame a line")
            );
        }
        Ok(Some(String::from_utf8_lossy(&self.buffer).into_owned()))
    }

    /// Tells from the first line what the log is.
    fn recognise(&self, first: &str) -> Result<Shape, Failure> {
        if self.frame.is_some() && parse_hex(first).is_ok() {
            return Ok(Shape::Lines);
        }
        let delimiter = [b',', b';', b'\t'].into_iter().find(|d| first.as_bytes().contains(d)).unwrap_or(b',');
        let cells = split_csv(first, delimiter);
        let column = |name: &str| cells.iter().position(|cell| cell.trim().eq_ignore_ascii_case(name));
        let mut frames: Vec<(usize, usize)> =
            self.part.frames().iter().enumerate().filter_map(|(index, frame)| Some((column(frame.name())?, index))).collect();
        if frames.is_empty()
            && let Some(at) = column("frame")
        {
            frames.push((at, self.needed_frame()?));
        }
        if !frames.is_empty() {
            return Ok(Shape::Csv { delimiter, time: column("time"), frames });
        }
        if parse_hex(first).is_err() && column("time").is_some() {
            let names: Vec<&str> = self.part.frames().iter().map(|frame| frame.name()).collect();
            return Err(Failure::told("the log's header has no column with frames")
                .help(format!("name the column `frame`, or {}", names.join(", "))));
        }
        self.needed_frame()?;
        Ok(Shape::Lines)
    }

    fn needed_frame(&self) -> Result<usize, Failure> {
        self.frame.ok_or_else(|| {
            let names: Vec<&str> = self.part.frames().iter().map(|frame| frame.name()).collect();
            Failure::told(format!("{} has several frames", self.part.name())).help(format!("choose one with --frame: {}", names.join(", ")))
        })
    }

    fn split(&mut self, text: &str, line: u64) {
        let record = |time: Option<String>, frame: usize, hex: &str| Record {
            line,
            time,
            frame,
            bytes: parse_hex(hex).map_err(|error| error.to_string()),
        };
        match &self.shape {
            Some(Shape::Csv { delimiter, time, frames }) => {
                let cells = split_csv(text.trim_end_matches(['\r', '\n']), *delimiter);
                let cell = |at: usize| cells.get(at).map_or("", |cell| cell.trim());
                // Nothing of a log may steer a terminal.
                let time = time.map(|at| cell(at).replace(|c: char| c.is_control(), "\u{FFFD}"));
                for (column, frame) in frames.iter().rev() {
                    // With several frames a record need not have them all.
                    if frames.len() == 1 || !cell(*column).is_empty() {
                        self.ready.push(record(time.clone(), *frame, cell(*column)));
                    }
                }
            }
            _ => self.ready.push(record(None, self.frame.unwrap_or(0), text.trim())),
        }
    }
}

/// The cells of one line.
fn split_csv(line: &str, delimiter: u8) -> Vec<String> {
    if !line.contains('"') {
        return line.split(char::from(delimiter)).map(str::to_owned).collect();
    }
    let mut reader = csv::ReaderBuilder::new().has_headers(false).delimiter(delimiter).flexible(true).from_reader(line.as_bytes());
    let first = reader.records().next().and_then(Result::ok);
    first.map(|record| record.iter().map(str::to_owned).collect()).unwrap_or_default()
}

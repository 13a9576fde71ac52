//! Logs of frames: hex a line, C array text, or CSV with a header.

use std::fmt;

use crate::ground::hex::parse_hex;
use crate::ground::list::Id;
use crate::model::ids::FrameId;
use crate::model::part::Part;

/// Longest line that is read, in bytes; what is longer is no log.
pub const MAX_LINE: usize = 64 * 1024;

/// One frame of a log.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Record {
    /// Line in the log, from 1.
    pub line: u64,
    /// The time as the log has it.
    pub time: Option<String>,
    /// The frame.
    pub frame: FrameId,
    /// The bytes, or why they are none.
    pub bytes: Result<Vec<u8>, String>,
}

impl Record {
    /// A frame that stands in no log.
    pub fn new(frame: FrameId, bytes: Vec<u8>) -> Self {
        Self { line: 1, time: None, frame, bytes: Ok(bytes) }
    }
}

/// Why a log cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct LogError {
    /// What is wrong.
    pub message: String,
    /// What to try.
    pub help: Option<String>,
}

impl fmt::Display for LogError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for LogError {}

/// How the lines are to be read, known after the first.
#[derive(Clone, Debug)]
enum Shape {
    /// A frame a line.
    Lines(FrameId),
    /// CSV: the delimiter, the column of the time, and columns of frames.
    Csv { delimiter: u8, time: Option<usize>, frames: Vec<(usize, FrameId)> },
}

/// Makes records of a log's lines, one after the other, in constant memory.
///
/// ```
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
/// "#)?;
/// let mut log = yemdo::record::LogReader::new(&part, None);
/// assert!(log.line("time,frame")?.is_empty());
/// let records = log.line("12:00,01 2C")?;
/// assert_eq!((records[0].time.as_deref(), records[0].bytes.as_deref()), (Some("12:00"), Ok(&[0x01, 0x2C][..])));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct LogReader {
    part: Part,
    frame: Option<FrameId>,
    shape: Option<Shape>,
    line: u64,
    /// C array text that goes on in the next line, and the line it began in.
    open: Option<(u64, String)>,
}

impl LogReader {
    /// A log; `frame` is what its bytes are where the log does not say so itself.
    pub fn new(part: &Part, frame: Option<FrameId>) -> Self {
        let only = || part.frames.ids().next().filter(|_| part.frames.len() == 1);
        Self { frame: frame.or_else(only), part: part.clone(), shape: None, line: 0, open: None }
    }

    /// Takes the next line; gives the frames that are complete by now.
    ///
    /// # Errors
    /// [`LogError`]: the first lines do not say what the bytes are, or a line is too long to be one.
    pub fn line(&mut self, text: &str) -> Result<Vec<Record>, LogError> {
        self.line += 1;
        if text.len() > MAX_LINE {
            return Err(LogError {
                message: format!("line {} of the log has more than {MAX_LINE} bytes", self.line),
                help: Some("a log has one frame a line".into()),
            });
        }
        if let Some((line, mut begun)) = self.open.take() {
            begun.push(' ');
            begun.push_str(text);
            if !begun.contains('}') && begun.len() < MAX_LINE {
                self.open = Some((line, begun));
                return Ok(Vec::new());
            }
            return Ok(self.records(&begun, line));
        }
        let trimmed = text.trim();
        if trimmed.is_empty() || trimmed.starts_with('#') {
            return Ok(Vec::new());
        }
        if self.shape.is_none() {
            let shape = self.recognise(trimmed)?;
            let header = matches!(shape, Shape::Csv { .. });
            self.shape = Some(shape);
            if header {
                return Ok(Vec::new());
            }
        }
        // C array text may go over several lines.
        if matches!(self.shape, Some(Shape::Lines(_))) && text.contains('{') && !text.contains('}') {
            self.open = Some((self.line, text.to_owned()));
            return Ok(Vec::new());
        }
        Ok(self.records(text, self.line))
    }

    /// The end of the log: what was still open.
    pub fn end(&mut self) -> Vec<Record> {
        self.open.take().map_or(Vec::new(), |(line, text)| self.records(&text, line))
    }

    /// Tells from the first line what the log is.
    fn recognise(&self, first: &str) -> Result<Shape, LogError> {
        if let Some(frame) = self.frame.filter(|_| parse_hex(first).is_ok()) {
            return Ok(Shape::Lines(frame));
        }
        let delimiter = [b',', b';', b'\t'].into_iter().find(|d| first.as_bytes().contains(d)).unwrap_or(b',');
        let cells = split(first, delimiter);
        let column = |name: &str| cells.iter().position(|cell| cell.trim().eq_ignore_ascii_case(name));
        let mut frames: Vec<(usize, FrameId)> =
            self.part.frames.entries().filter_map(|(id, frame)| Some((column(&frame.name)?, id))).collect();
        if frames.is_empty()
            && let Some(at) = column("frame")
        {
            frames.push((at, self.needed_frame()?));
        }
        if !frames.is_empty() {
            return Ok(Shape::Csv { delimiter, time: column("time"), frames });
        }
        if parse_hex(first).is_err() && column("time").is_some() {
            let names: Vec<&str> = self.part.frames.iter().map(|frame| frame.name.as_str()).collect();
            return Err(LogError {
                message: "the log's header has no column with frames".into(),
                help: Some(format!("name the column `frame`, or {}", names.join(", "))),
            });
        }
        Ok(Shape::Lines(self.needed_frame()?))
    }

    fn needed_frame(&self) -> Result<FrameId, LogError> {
        self.frame.ok_or_else(|| {
            let names: Vec<&str> = self.part.frames.iter().map(|frame| frame.name.as_str()).collect();
            LogError {
                message: format!("{} has several frames", self.part.name),
                help: Some(format!("choose one with --frame: {}", names.join(", "))),
            }
        })
    }

    fn records(&self, text: &str, line: u64) -> Vec<Record> {
        let record = |time: Option<String>, frame: FrameId, hex: &str| Record {
            line,
            time,
            frame,
            bytes: parse_hex(hex).map_err(|error| error.to_string()),
        };
        match &self.shape {
            Some(Shape::Csv { delimiter, time, frames }) => {
                let cells = split(text.trim_end_matches(['\r', '\n']), *delimiter);
                let cell = |at: usize| cells.get(at).map_or("", |cell| cell.trim());
                // Nothing of a log may steer a terminal.
                let time = time.map(|at| cell(at).replace(|c: char| c.is_control(), "\u{FFFD}"));
                // With several frames a record need not have them all.
                let has = |(column, _): &&(usize, FrameId)| frames.len() == 1 || !cell(*column).is_empty();
                frames.iter().filter(has).map(|(column, frame)| record(time.clone(), *frame, cell(*column))).collect()
            }
            Some(Shape::Lines(frame)) => vec![record(None, *frame, text.trim())],
            None => vec![record(None, self.frame.unwrap_or_else(|| FrameId::new(0)), text.trim())],
        }
    }
}

/// The cells of one line of CSV (RFC 4180, section 2).
fn split(line: &str, delimiter: u8) -> Vec<String> {
    if !line.contains('"') {
        return line.split(char::from(delimiter)).map(str::to_owned).collect();
    }
    let mut reader = csv_core::ReaderBuilder::new().delimiter(delimiter).build();
    let (mut cells, mut rest) = (Vec::new(), line.as_bytes());
    let mut room = vec![0; line.len() + 1];
    loop {
        let (result, taken, written) = reader.read_field(rest, &mut room);
        rest = rest.get(taken..).unwrap_or(&[]);
        let text = || String::from_utf8_lossy(room.get(..written).unwrap_or(&[])).into_owned();
        match result {
            csv_core::ReadFieldResult::Field { record_end } => {
                cells.push(text());
                if record_end {
                    return cells;
                }
            }
            // What is left of the input ends the last cell.
            csv_core::ReadFieldResult::InputEmpty => {
                cells.push(text());
                return cells;
            }
            csv_core::ReadFieldResult::OutputFull | csv_core::ReadFieldResult::End => return cells,
        }
    }
}

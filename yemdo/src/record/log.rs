//! Logs of frames: hex a line, C array text, or CSV with a header.

use std::fmt;
use std::sync::Arc;

use crate::ground::hex::parse_hex;
use crate::ground::list::Id;
use crate::ground::words::{counted, is_identifier, visible};
use crate::model::ids::FrameId;
use crate::model::part::Part;
use crate::model::state::State;
use crate::record::followed::TrafficFrames;
use crate::record::traffic::{TRAFFIC_HEADER, Traffic};

/// Maximum length of a line, in bytes.
pub const MAX_LINE: usize = 64 * 1024;

/// One frame of a log.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Record {
    /// Line in the log, from 1.
    pub line: u64,
    /// The time as in the log.
    pub time: Option<String>,
    /// The frame.
    pub frame: FrameId,
    /// The bytes, or why they are none.
    pub bytes: Result<Vec<u8>, String>,
    /// The state of the part in a recording, if it changed since the previous frame.
    pub state: Option<Arc<State>>,
}

impl Record {
    /// A frame from elsewhere than a log.
    pub fn new(frame: FrameId, bytes: Vec<u8>) -> Self {
        Self { line: 1, time: None, frame, bytes: Ok(bytes), state: None }
    }
}

/// Why a log cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct RecordError {
    /// Description.
    pub message: String,
    /// What to try.
    pub help: Option<String>,
}

impl fmt::Display for RecordError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for RecordError {}

/// How the lines are to be read, known after the first.
#[derive(Clone, Debug)]
enum Shape {
    /// A frame a line, with its name before it or not.
    Lines,
    /// CSV, with a column for each of some frames, or one for all.
    Csv { delimiter: u8, cells: usize, time: Option<usize>, frames: Vec<(usize, FrameId)> },
    /// CSV with a column for the frame's name and one for its bytes.
    Named { delimiter: u8, cells: usize, time: Option<usize>, name: usize, bytes: usize },
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
    /// C array text or a quoted cell that continues in the next line, and its first line.
    open: Option<(u64, String)>,
    /// It is a recording of a bus.
    traffic: Option<TrafficFrames>,
    /// The last reported state of the part.
    state: Arc<State>,
}

impl LogReader {
    /// A log; `frame` is what its bytes are where the log does not say so itself.
    pub fn new(part: &Part, frame: Option<FrameId>) -> Self {
        let only = || part.frames.ids().next().filter(|_| part.frames.len() == 1);
        let state = Arc::new(State::while_read(part));
        Self { frame: frame.or_else(only), part: part.clone(), shape: None, line: 0, open: None, traffic: None, state }
    }

    /// The same for a part that is in this state when a recording begins.
    pub fn with_state(mut self, state: &State) -> Self {
        self.state = Arc::new(state.clone());
        self
    }

    /// Takes the next line of a file; returns the complete frames. A byte order mark is left out.
    ///
    /// # Errors
    /// As [`line`](Self::line); and text in UTF-16.
    pub fn line_bytes(&mut self, bytes: &[u8]) -> Result<Vec<Record>, RecordError> {
        let first = self.line == 0;
        if first && (bytes.starts_with(&[0xFF, 0xFE]) || bytes.starts_with(&[0xFE, 0xFF])) {
            return Err(RecordError { message: "the log is text in UTF-16".into(), help: Some("save it as UTF-8".into()) });
        }
        let bytes = bytes.strip_prefix("\u{FEFF}".as_bytes()).filter(|_| first).unwrap_or(bytes);
        self.line(String::from_utf8_lossy(bytes).trim_end_matches(['\n', '\r']))
    }

    /// Takes the next line; gives the frames that are complete by now. A line that is too long, or that is no frame, is a
    /// record without bytes.
    ///
    /// # Errors
    /// [`RecordError`]: the first lines do not name the frame of the bytes.
    pub fn line(&mut self, text: &str) -> Result<Vec<Record>, RecordError> {
        self.line += 1;
        if text.len() > MAX_LINE {
            self.open = None;
            return Ok(vec![self.refused(self.line, None, format!("the line has more than {MAX_LINE} bytes"))]);
        }
        if let Some((line, mut begun)) = self.open.take() {
            begun.push(' ');
            begun.push_str(text);
            if self.goes_on(&begun) {
                self.open = Some((line, begun));
                return Ok(Vec::new());
            }
            return Ok(self.records(&begun, line));
        }
        let trimmed = text.trim();
        if self.line == 1 && trimmed == TRAFFIC_HEADER {
            self.traffic = Some(TrafficFrames::new(&self.part, &self.state));
        }
        if trimmed.is_empty() || trimmed.starts_with('#') {
            return Ok(Vec::new());
        }
        if self.traffic.is_some() {
            return Ok(self.traffic_line(trimmed));
        }
        if self.shape.is_none() {
            let shape = self.recognise(trimmed)?;
            let header = !matches!(shape, Shape::Lines);
            self.shape = Some(shape);
            if header {
                return Ok(Vec::new());
            }
        }
        if self.goes_on(text) {
            self.open = Some((self.line, text.to_owned()));
            return Ok(Vec::new());
        }
        Ok(self.records(text, self.line))
    }

    /// A line of a recording: the frames that are whole with it.
    fn traffic_line(&mut self, text: &str) -> Vec<Record> {
        let only = self.frame.filter(|_| self.part.frames.len() > 1);
        let (line, traffic) = match Traffic::parse(text) {
            Ok(Some(traffic)) => (self.line, traffic),
            Ok(None) => return Vec::new(),
            Err(why) => return vec![self.refused(self.line, None, why)],
        };
        let time = text.split_whitespace().next().map(str::to_owned);
        let Some(frames) = &mut self.traffic else { return Vec::new() };
        let mut records = Vec::new();
        for (frame, bytes) in frames.take(&traffic).into_iter().filter(|(frame, _)| only.is_none_or(|only| only == *frame)) {
            let now = frames.state();
            let news = !now.has_same_values(&self.state);
            if news {
                self.state = Arc::new(now.clone());
            }
            records.push(Record { line, time: time.clone(), frame, bytes: Ok(bytes), state: news.then(|| Arc::clone(&self.state)) });
        }
        records
    }

    /// The end of the log: the last open item.
    pub fn end(&mut self) -> Vec<Record> {
        self.open.take().map_or(Vec::new(), |(line, text)| self.records(&text, line))
    }

    /// Whether the next line belongs to this one: C array text between its braces, a cell between its quotes.
    fn goes_on(&self, text: &str) -> bool {
        text.len() < MAX_LINE
            && match self.shape {
                Some(Shape::Lines) | None => text.contains('{') && !text.contains('}'),
                Some(Shape::Csv { .. } | Shape::Named { .. }) => text.bytes().filter(|byte| *byte == b'"').count() % 2 == 1,
            }
    }

    /// Detects the form of the log by its first line.
    fn recognise(&self, first: &str) -> Result<Shape, RecordError> {
        let behind = self.timed(first).1;
        if self.named(behind).is_some() || parse_hex(behind).is_ok_and(|bytes| self.frame_of(&bytes).is_some()) {
            return Ok(Shape::Lines);
        }
        let delimiter = [b',', b';', b'\t'].into_iter().find(|d| first.as_bytes().contains(d)).unwrap_or(b',');
        let titles = split(first, delimiter);
        let column = |name: &str| titles.iter().position(|cell| cell.trim().eq_ignore_ascii_case(name));
        let (cells, time) = (titles.len(), column("time"));
        let frames: Vec<(usize, FrameId)> = self.part.frames.entries().filter_map(|(id, frame)| Some((column(&frame.name)?, id))).collect();
        if !frames.is_empty() {
            return Ok(Shape::Csv { delimiter, cells, time, frames });
        }
        match (column("frame"), column("bytes")) {
            (Some(name), Some(bytes)) => return Ok(Shape::Named { delimiter, cells, time, name, bytes }),
            (Some(at), None) | (None, Some(at)) => {
                return Ok(Shape::Csv { delimiter, cells, time, frames: vec![(at, self.needed_frame()?)] });
            }
            (None, None) => {}
        }
        if parse_hex(first).is_err() && time.is_some() {
            let names: Vec<&str> = self.part.frames.iter().map(|frame| frame.name.as_str()).collect();
            return Err(RecordError {
                message: "the log's header has no column with frames".into(),
                help: Some(format!("name the column `frame`, or {}", names.join(", "))),
            });
        }
        self.needed_frame().map(|_| Shape::Lines)
    }

    fn needed_frame(&self) -> Result<FrameId, RecordError> {
        self.frame.ok_or_else(|| {
            let names: Vec<&str> = self.part.frames.iter().map(|frame| frame.name.as_str()).collect();
            RecordError {
                message: format!("{} has several frames", self.part.name),
                help: Some(format!("choose one with --frame, or write its name before the bytes: {}", names.join(", "))),
            }
        })
    }

    /// The frame whose name stands before the bytes, and those.
    fn named<'t>(&self, line: &'t str) -> Option<(FrameId, &'t str)> {
        let (name, rest) = line.trim().split_once(|c: char| c.is_whitespace() || matches!(c, ':' | '='))?;
        let id = self.part.frames.position(|frame| frame.name.eq_ignore_ascii_case(name))?;
        // A name in hex digits without further bytes is bytes.
        (parse_hex(name).is_err() || self.frame.is_none()).then_some((id, rest))
    }

    /// The time before a frame's name, `08:00:01 POWER 66 66`, or any text that can only be a time.
    fn timed<'t>(&self, line: &'t str) -> (Option<&'t str>, &'t str) {
        let behind =
            line.trim().split_once(char::is_whitespace).filter(|(_, rest)| self.named(line).is_none() && self.named(rest).is_some());
        behind.or_else(|| stamp(line.trim())).map_or((None, line), |(time, rest)| (Some(time.trim_matches(['[', ']'])), rest))
    }

    /// The frame of bytes without a name: the one that was chosen, else the only one of that length.
    fn frame_of(&self, bytes: &[u8]) -> Option<FrameId> {
        let mut of_length = self.part.frames.entries().filter(|(_, frame)| frame.length == bytes.len() && frame.counted.is_none());
        self.frame.or_else(|| of_length.next().filter(|_| of_length.next().is_none()).map(|(id, _)| id))
    }

    fn refused(&self, line: u64, time: Option<String>, why: String) -> Record {
        Record { line, time, frame: self.frame.unwrap_or_else(|| FrameId::new(0)), bytes: Err(why), state: None }
    }

    fn records(&self, text: &str, line: u64) -> Vec<Record> {
        let record = |time: Option<String>, frame: FrameId, hex: &str| Record {
            line,
            time,
            frame,
            bytes: parse_hex(hex).map_err(|error| error.to_string()),
            state: None,
        };
        let (delimiter, titles, time) = match &self.shape {
            Some(Shape::Csv { delimiter, cells, time, .. } | Shape::Named { delimiter, cells, time, .. }) => (*delimiter, *cells, *time),
            Some(Shape::Lines) | None => {
                let (time, text) = self.timed(text);
                let time = time.map(|time| visible(time).into_owned());
                return vec![match self.named(text) {
                    Some((frame, hex)) => record(time, frame, hex),
                    None => match (self.frame, parse_hex(text)) {
                        (Some(frame), _) => record(time, frame, text.trim()),
                        (None, Ok(bytes)) => match self.frame_of(&bytes) {
                            Some(frame) => Record { line, time, frame, bytes: Ok(bytes), state: None },
                            None => {
                                let why = format!("no single frame has {}: write its name before them", counted(bytes.len(), "byte"));
                                self.refused(line, time, why)
                            }
                        },
                        (None, Err(error)) => self.refused(line, time, error.to_string()),
                    },
                }];
            }
        };
        let cells = split(text.trim_end_matches(['\r', '\n']), delimiter);
        let cell = |at: usize| cells.get(at).map_or("", |cell| cell.trim());
        // Nothing of a log may steer a terminal.
        let time = time.map(|at| visible(cell(at)).into_owned());
        if cells.len() > titles && cells.iter().skip(titles).any(|cell| !cell.trim().is_empty()) {
            let why =
                format!("{} where the header has {titles}: a decimal comma? Separate columns by ; or a tab", counted(cells.len(), "cell"));
            return vec![self.refused(line, time, why)];
        }
        match &self.shape {
            Some(Shape::Named { name, bytes, .. }) => {
                let named = self.part.frames.position(|frame| frame.name.eq_ignore_ascii_case(cell(*name)));
                vec![match named {
                    Some(frame) => record(time, frame, cell(*bytes)),
                    None => self.refused(line, time, format!("{} has no frame `{}`", self.part.name, visible(cell(*name)))),
                }]
            }
            Some(Shape::Csv { frames, .. }) => {
                // With several frames a record need not have them all.
                let has = |(column, _): &&(usize, FrameId)| frames.len() == 1 || !cell(*column).is_empty();
                frames.iter().filter(has).map(|(column, frame)| record(time.clone(), *frame, cell(*column))).collect()
            }
            Some(Shape::Lines) | None => Vec::new(),
        }
    }
}

/// A time that cannot be bytes, and the rest of the line: `2031-02-07T08:00:01.5,1A 2B`, `[08:00:01] 1A 2B`. A time of day alone
/// could be bytes.
fn stamp(line: &str) -> Option<(&str, &str)> {
    let separates = |c: char| c.is_whitespace() || matches!(c, ',' | ';');
    let word = line.find(separates)?;
    // A date and a time of day may stand apart; a year is no byte.
    let is_date = |text: &str| text.len() == 10 && text.split('-').map(str::len).eq([4, 2, 2]) && text.bytes().all(|c| c != b':');
    let date = line.get(..word).is_some_and(is_date);
    let behind = if date { line.get(word + 1..)?.find(separates)? + word + 1 } else { word };
    let (time, rest) = line.split_at_checked(behind)?;
    let bracketed = time.starts_with('[') && time.ends_with(']');
    let other = bracketed || date || time.starts_with(|c: char| c.is_ascii_digit()) && parse_hex(time).is_err();
    (other && time.contains(':')).then(|| (time, rest.trim_start_matches(separates)))
}

/// Frames that are typed: the bytes of one, or of several with their names, `CALIBRATION=7A B4 PRESSURE=84 6B 40`.
///
/// # Errors
/// [`RecordError`]: no frame has that name, bytes are none, or nothing says which frame they are.
pub fn parse_frames(part: &Part, frame: Option<FrameId>, text: &str) -> Result<Vec<(FrameId, Vec<u8>)>, RecordError> {
    let hex = |text: &str| parse_hex(text).map_err(|error| RecordError { message: error.to_string(), help: None });
    let mut found: Vec<(FrameId, String)> = Vec::new();
    let mut rest = String::new();
    for word in text.split_whitespace() {
        match (word.split_once('=').filter(|(name, _)| is_identifier(name)), found.last_mut()) {
            (Some((name, bytes)), _) => {
                let id = part.frame(name).map_err(|error| {
                    let setting = part.field(name).is_ok() || part.parameter(name).is_ok() || part.quantity(name).is_ok();
                    let help = if setting { format!("{name} is a setting: --set {word}") } else { error.help() };
                    RecordError { message: error.message(), help: Some(help) }
                })?;
                found.push((id, bytes.to_owned()));
            }
            (None, Some((_, bytes))) => bytes.extend([" ", word]),
            (None, None) => rest.extend([" ", word]),
        }
    }
    if found.is_empty() {
        let reader = LogReader::new(part, frame);
        let bytes = hex(text)?;
        return Ok(vec![(reader.frame_of(&bytes).map_or_else(|| reader.needed_frame(), Ok)?, bytes)]);
    }
    if !rest.is_empty() {
        let help = Some("write a frame's name before its bytes: NAME=BYTES".to_owned());
        return Err(RecordError { message: format!("`{}` belongs to no frame", rest.trim()), help });
    }
    found.into_iter().map(|(id, bytes)| Ok((id, hex(&bytes)?))).collect()
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
            // The end of the input ends the last cell.
            csv_core::ReadFieldResult::InputEmpty => {
                cells.push(text());
                return cells;
            }
            csv_core::ReadFieldResult::OutputFull | csv_core::ReadFieldResult::End => return cells,
        }
    }
}

//! Logs read back, in whatever form they were written.

use std::borrow::Cow;
use std::collections::VecDeque;
use std::io::{BufRead, Read};

use yemdo::parse_hex;

use crate::entry::{Entry, EntryError, EntryFrame, EntryReading, Settings};
use crate::error::{LogError, LogErrorKind};
use crate::form::LogForm;
use crate::senml;
use crate::time::Moment;
use crate::words::of_csv;
use crate::write::{COLUMNS, Column, Line, Map, settings_of};

/// Length of the longest record, in bytes.
const MOST: usize = 1 << 20;

/// The form of a log of measurements that begins with these bytes; `None` for raw frames.
pub fn form_of(first: &[u8]) -> Option<LogForm> {
    let text = first.strip_prefix("\u{FEFF}".as_bytes()).unwrap_or(first);
    let blank = |text: &[u8]| text.iter().copied().filter(|byte| !byte.is_ascii_whitespace()).take(2).collect::<Vec<u8>>();
    match *blank(text) {
        [b'{', b'"'] => return Some(LogForm::JsonLines),
        [b'[', b'{'] => return Some(LogForm::Senml),
        _ => {}
    }
    if let [0x80..=0x9B, behind, ..] = *first
        && (first.first() >= Some(&0x98) || (0xA0..=0xBF).contains(&behind))
    {
        return Some(LogForm::SenmlCbor);
    }
    let header = text.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let titles: Vec<&str> = std::str::from_utf8(header).unwrap_or("").trim_end().split(',').collect();
    (titles.contains(&"time") && titles.contains(&"reading") && titles.contains(&"value")).then_some(LogForm::Csv)
}

/// A measurement, with its first line, or the reason why it cannot be read.
pub type Found = (u64, Result<Entry, String>);

/// A log, measurement by measurement, in constant memory.
#[derive(Debug)]
pub struct LogEntries<R> {
    input: R,
    form: LogForm,
    buffer: Vec<u8>,
    line: u64,
    taken: u64,
    /// Of CSV: where the columns stand, and the measurement whose rows may go on.
    columns: Option<[Option<usize>; COLUMNS.len()]>,
    open: Option<(u64, String, Entry)>,
    /// Complete measurements.
    ready: VecDeque<Found>,
    done: bool,
    with_bytes: bool,
}

impl<R: BufRead> LogEntries<R> {
    /// The measurements of `input`, which is a log in this form: [`form_of`] its first bytes.
    pub fn new(input: R, form: LogForm) -> Self {
        Self {
            input,
            form,
            buffer: Vec::new(),
            line: 0,
            taken: 0,
            columns: None,
            open: None,
            ready: Default::default(),
            done: false,
            with_bytes: true,
        }
    }

    /// Bytes taken so far, for progress.
    pub fn taken(&self) -> u64 {
        self.taken
    }

    /// Leaves the bytes of frames where they are: who wants the readings alone need not wait for them.
    pub fn without_bytes(self) -> Self {
        Self { with_bytes: false, ..self }
    }

    /// The next measurement, with its first line, or the reason why it cannot be read; `None` at the end.
    ///
    /// # Errors
    /// The input cannot be read, or is no log.
    pub fn next_entry(&mut self) -> Result<Option<Found>, LogError> {
        while self.ready.is_empty() && !self.done {
            match self.form {
                LogForm::SenmlCbor => self.pack()?,
                _ => self.text_line()?,
            }
        }
        Ok(self.ready.pop_front().map(|(line, found)| (line, found.map(Entry::shown))))
    }

    fn text_line(&mut self) -> Result<(), LogError> {
        self.buffer.clear();
        let read =
            Read::take(&mut self.input, MOST as u64).read_until(b'\n', &mut self.buffer).map_err(|error| LogError::reading(&error))?;
        if read == 0 {
            self.done = true;
            self.ready.extend(self.open.take().map(|(line, _, entry)| (line, Ok(entry))));
            return Ok(());
        }
        self.taken += read as u64;
        self.line += 1;
        let whole = self.buffer.ends_with(b"\n");
        if !whole && read == MOST {
            self.taken += self.input.skip_until(b'\n').map_err(|error| LogError::reading(&error))? as u64;
            self.ready.push_back((self.line, Err(format!("the line has more than {MOST} bytes"))));
            return Ok(());
        }
        let bytes = std::mem::take(&mut self.buffer);
        let told = |why: String| if whole { why } else { format!("the last line is incomplete: {why}") };
        match std::str::from_utf8(&bytes) {
            Ok(text) => {
                let text = text.strip_prefix('\u{FEFF}').unwrap_or(text).trim_end_matches(['\n', '\r']);
                match self.form {
                    _ if text.trim().is_empty() => {}
                    LogForm::Csv => self.row(text, whole),
                    LogForm::JsonLines => self.ready.push_back((self.line, of_json(text).map_err(told))),
                    _ => self.take_pack(serde_json::from_str(text).map_err(|error| told(error.to_string()))),
                }
            }
            Err(_) => self.ready.push_back((self.line, Err(told("it is not UTF-8".into())))),
        }
        self.buffer = bytes;
        Ok(())
    }

    fn take_pack(&mut self, pack: Result<Vec<senml::Record>, String>) {
        match pack.and_then(|pack| senml::entries(&pack)) {
            Ok(entries) => self.ready.extend(entries.into_iter().map(|entry| (self.line, Ok(entry)))),
            Err(why) => self.ready.push_back((self.line, Err(why))),
        }
    }

    fn pack(&mut self) -> Result<(), LogError> {
        loop {
            let found = if self.buffer.is_empty() { Ok(None) } else { senml::from_cbor(&self.buffer) };
            match found {
                Ok(Some((pack, taken))) => {
                    self.line += 1;
                    self.buffer.drain(..taken);
                    self.take_pack(Ok(pack));
                    return Ok(());
                }
                Ok(None) if self.buffer.len() < MOST => {
                    let room = self.input.fill_buf().map_err(|error| LogError::reading(&error))?;
                    let count = room.len();
                    self.buffer.extend_from_slice(room);
                    self.input.consume(count);
                    self.taken += count as u64;
                    if count == 0 {
                        self.done = true;
                        if !self.buffer.is_empty() {
                            self.ready.push_back((self.line + 1, Err(format!("the last pack is incomplete: it has {}", self.left()))));
                        }
                        return Ok(());
                    }
                }
                Ok(None) => return Err(LogError::new(LogErrorKind::Content, format!("a pack of the log has more than {MOST} bytes"))),
                // The start of the next pack is unknown.
                Err(why) => {
                    self.done = true;
                    let rest = format!("pack {} is not valid: {why}; the rest cannot be read", self.line + 1);
                    self.ready.push_back((self.line + 1, Err(rest)));
                    return Ok(());
                }
            }
        }
    }

    fn left(&self) -> String {
        yemdo::counted(self.buffer.len() as u64, "byte")
    }

    fn row(&mut self, text: &str, whole: bool) {
        let cells = cells(text);
        let Some(columns) = &self.columns else {
            self.columns = Some(COLUMNS.map(|title| cells.iter().position(|cell| cell == title)));
            return;
        };
        let row = Row { cells, columns };
        let (time, bytes, value) = match row.parsed(whole, self.with_bytes) {
            Ok(parsed) => parsed,
            Err(why) => {
                self.ready.extend(self.open.take().map(|(line, _, entry)| (line, Ok(entry))));
                self.ready.push_back((self.line, Err(why)));
                return;
            }
        };
        let cell = |column: Column| row.cell(column);
        let (frame, reading) = (cell(Column::Frame), cell(Column::Reading));
        let goes_on = self.open.as_ref().is_some_and(|(_, known, entry)| {
            let again = entry.readings.iter().any(|other| other.reading == reading);
            let there = entry.frames.iter().find(|known| known.name == frame);
            // Frames without readings have one row each; what failed has neither frame nor reading.
            let fits = match there {
                Some(there) => there.bytes == bytes && !reading.is_empty() && !again,
                None => !frame.is_empty() && !again,
            };
            known == cell(Column::Time) && entry.part == cell(Column::Part) && fits && entry.error.is_none()
        });
        if !goes_on {
            self.ready.extend(self.open.take().map(|(line, _, entry)| (line, Ok(entry))));
        }
        let (.., entry) = self.open.get_or_insert_with(|| {
            let (part, settings) = (cell(Column::Part).to_owned(), settings_of(cell(Column::State)));
            let entry = Entry { time, part, frames: Vec::new(), settings, readings: Vec::new(), error: None };
            (self.line, cell(Column::Time).to_owned(), entry)
        });
        if !frame.is_empty() && !entry.frames.iter().any(|known| known.name == frame) {
            let own = settings_of(cell(Column::State));
            let settings = (own != entry.settings).then_some(own);
            entry.frames.push(EntryFrame { settings, ..EntryFrame::new(frame, &bytes) });
        }
        let owned = |column: Column| cell(column).to_owned();
        let reason = Some(owned(Column::Reason)).filter(|text| !text.is_empty());
        if !reading.is_empty() {
            let (frame, reading) = (frame.to_owned(), reading.to_owned());
            entry.readings.push(EntryReading { frame, reading, value, unit: owned(Column::Unit), status: owned(Column::Status), reason });
        } else if frame.is_empty() {
            entry.error = Some(EntryError { cause: owned(Column::Status), message: reason.unwrap_or_default() });
        }
    }
}

/// A row of CSV.
struct Row<'a> {
    cells: Vec<Cow<'a, str>>,
    columns: &'a [Option<usize>; COLUMNS.len()],
}

impl Row<'_> {
    /// The text of a cell; empty where the log has no such column.
    fn cell(&self, column: Column) -> &str {
        let at = self.columns.get(column as usize).copied().flatten();
        at.and_then(|at| self.cells.get(at)).map_or("", |cell| of_csv(cell))
    }

    /// The time, the bytes and the value. `whole`: the line has its end.
    fn parsed(&self, whole: bool, with_bytes: bool) -> Result<(Moment, Vec<u8>, Option<f64>), String> {
        let wide = self.columns.iter().flatten().max().map_or(0, |last| last + 1);
        if !whole {
            return Err("the last line is incomplete".into());
        }
        if self.cells.len() < wide {
            return Err(format!("it has {} of {wide} cells", self.cells.len()));
        }
        let time = time_of(self.cell(Column::Time))?;
        let bytes = match self.cell(Column::Bytes) {
            text if text.is_empty() || !with_bytes => Vec::new(),
            text => parse_hex(text).map_err(|error| error.to_string())?,
        };
        let value = match self.cell(Column::Value) {
            "" => None,
            text => Some(text.parse().map_err(|_| format!("`{}` is not a number", yemdo::visible(text)))?),
        };
        Ok((time, bytes, value))
    }
}

/// The time of a record.
fn time_of(text: &str) -> Result<Moment, String> {
    Moment::parse(text).ok_or_else(|| format!("`{}` is not an RFC 3339 time with an offset", yemdo::visible(text)))
}

fn of_map(map: Map) -> Settings {
    map.into_iter().map(|(name, value)| (name, value.as_str().unwrap_or("").to_owned())).collect()
}

fn of_json(text: &str) -> Result<Entry, String> {
    let line: Line = serde_json::from_str(text).map_err(|error| error.to_string())?;
    let time = time_of(&line.time)?;
    let frames = line.frames.into_iter().map(|frame| match parse_hex(&frame.bytes) {
        Ok(bytes) => Ok(EntryFrame { settings: frame.settings.map(of_map), ..EntryFrame::new(&frame.frame, &bytes) }),
        Err(error) => Err(error.to_string()),
    });
    let settings = of_map(line.settings);
    let readings = line.readings.into_iter().map(|reading| EntryReading {
        frame: String::new(),
        reading: reading.reading,
        value: reading.value,
        unit: reading.unit,
        status: reading.status,
        reason: reading.reason,
    });
    Ok(Entry {
        time,
        part: line.part,
        frames: frames.collect::<Result<_, _>>()?,
        settings,
        readings: readings.collect(),
        error: line.error.map(|error| EntryError { cause: error.cause, message: error.message }),
    })
}

/// The cells of a row (RFC 4180, section 2); no cell contains a line break.
fn cells(line: &str) -> Vec<Cow<'_, str>> {
    if !line.contains('"') {
        return line.split(',').map(Cow::Borrowed).collect();
    }
    let mut reader =
        csv::ReaderBuilder::new().has_headers(false).flexible(true).buffer_capacity(line.len() + 1).from_reader(line.as_bytes());
    let record = reader.records().next().and_then(Result::ok).unwrap_or_default();
    record.iter().map(|cell| Cow::Owned(cell.to_owned())).collect()
}

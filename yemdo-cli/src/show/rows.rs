//! Decoded frames as rows: a table for people, CSV, or JSON lines.

use std::fmt::Write as _;
use std::io::Write;

use anstyle::Style;
use yemdo::part::{Code, Frame, Reading};
use yemdo::view::{FrameView, ShownUnits, UseView};
use yemdo::{CodeId, Columns, Decoder, FrameId, Part, ReadingId, Status, push_hex, to_hex};
use yemdo_log::csv_text;

use super::grid::{Align, Grid};
use super::status::{Told, note, push_told, status_cell, status_style};
use crate::args::Format;
use crate::failure::Failure;
use crate::output::json_line;

/// Decoded frames that follow one another, all of one kind.
pub(crate) struct Rows<'a> {
    pub(crate) frame: FrameId,
    pub(crate) length: usize,
    /// Bytes of each frame that count.
    pub(crate) given: usize,
    pub(crate) bytes: &'a [u8],
    /// Line in the log and time.
    pub(crate) rows: &'a [(u64, Option<String>)],
    pub(crate) columns: &'a Columns,
    /// Other frames that their readings use.
    pub(crate) uses: &'a [UseView],
    pub(crate) decoder: &'a Decoder,
}

/// Where lines go, and whether without colours.
pub(crate) struct Output<'a> {
    pub(crate) out: &'a mut dyn Write,
    pub(crate) plain: bool,
}

/// Readings that are printed side by side; more of them go below one another.
const MAX_ABREAST: usize = 6;

/// Codes that are printed beside a reading.
const MAX_CODES: usize = 4;

/// Where rows go.
pub(crate) struct Sink<'a> {
    out: &'a mut dyn Write,
    /// Whether it takes no colours.
    plain: bool,
    format: Format,
    part: &'a Part,
    units: &'a ShownUnits,
    /// Readings that may come.
    readings: Vec<ReadingId>,
    /// Codes that they come from.
    codes: Vec<CodeId>,
    /// Whether the rows are those of a log.
    log: bool,
    grid: Option<(FrameId, Grid)>,
    titled: bool,
    line: Vec<u8>,
    /// Statuses of the previous row.
    told: Vec<Told>,
}

impl<'a> Sink<'a> {
    pub(crate) fn new(
        Output { out, plain }: Output<'a>,
        format: Format,
        part: &'a Part,
        frames: &[FrameId],
        log: bool,
        units: &'a ShownUnits,
    ) -> Self {
        let readings = part.frames().of(frames).flat_map(|frame| frame.shown()).collect();
        let codes = part.frames().of(frames).flat_map(|frame| frame.codes()).copied().collect();
        Self { out, plain, format, part, units, readings, codes, log, grid: None, titled: false, line: Vec::new(), told: Vec::new() }
    }

    pub(crate) fn rows(&mut self, rows: &Rows<'_>) -> Result<(), Failure> {
        match self.format {
            Format::Table => self.table(rows),
            Format::Csv => self.csv(rows),
            Format::Json => self.json(rows),
        }
    }

    pub(crate) fn flush(&mut self) -> Result<(), Failure> {
        Ok(self.out.flush()?)
    }

    /// The good frames of a batch.
    fn good<'r>(&self, rows: &'r Rows<'_>) -> impl Iterator<Item = FrameView<'r>> + use<'r, 'a>
    where
        'a: 'r,
    {
        let (part, units, log) = (self.part, self.units, self.log);
        let frames = rows.bytes.chunks_exact(rows.length.max(1)).zip(rows.rows).enumerate();
        let passed = frames.filter(|(index, _)| rows.columns.failed_check(*index).is_none());
        passed.enumerate().map(move |(before, (index, (bytes, (line, time))))| FrameView {
            part,
            frame: rows.frame,
            bytes,
            given: rows.given,
            columns: rows.columns,
            decoder: rows.decoder,
            index,
            units,
            time: time.as_deref(),
            line: log.then_some(*line),
            uses: if log { rows.uses } else { &[] },
            before: before as u64,
        })
    }

    fn table(&mut self, rows: &Rows<'_>) -> Result<(), Failure> {
        let Some(frame) = self.part.frames().get(rows.frame) else { return Ok(()) };
        let abreast = frame.shown().count();
        if abreast == 0 || abreast > MAX_ABREAST {
            return self.list(rows, frame);
        }
        let timed = rows.rows.iter().any(|(_, time)| time.is_some());
        let known = self.grid.take().filter(|(id, _)| *id == rows.frame);
        let mut grid = known.map_or_else(|| self.titles(rows.frame, frame, timed), |(_, grid)| grid);
        let plain = Style::new();
        let codes = row_codes(self.part, rows.frame, frame);
        for view in self.good(rows) {
            if timed {
                grid.cell(plain, |text| text.push_str(view.time.unwrap_or("")));
            }
            grid.cell(plain, |text| push_hex(text, view.bytes.get(..view.given).unwrap_or(view.bytes)));
            for (place, id, reading) in view.readings() {
                let value = view.value(place, id);
                grid.cell(plain, |text| push_codes(text, &view, codes.get(place).into_iter().flatten().copied()));
                grid.cell(plain, |text| match &value {
                    Some(value) => push_value(text, value, self.units.digits(id)),
                    None => text.push('–'),
                });
                grid.cell(plain, |text| text.push_str(if value.is_some() { self.units.suffix(id, reading) } else { "" }));
            }
            // Statuses are last; in consecutive rows, the reason is printed once.
            let told = notes(&view);
            let style = told.first().map_or(plain, |(status, ..)| status_style(*status).0);
            let new = told != self.told;
            grid.cell(style, |text| push_told(text, &told, abreast, new));
            self.told = told;
            grid.end_row();
        }
        grid.write(self.out)?;
        self.grid = Some((rows.frame, grid));
        Ok(())
    }

    /// The columns of a frame's readings. Those of a log are as wide as its widest row can be, so that all stand in line
    /// with the titles.
    fn titles(&self, id: FrameId, frame: &Frame, timed: bool) -> Grid {
        let mut aligns = if timed { vec![Align::Left, Align::Left] } else { vec![Align::Left] };
        aligns.extend(frame.shown().flat_map(|_| [Align::Right, Align::Right, Align::Left]));
        // Statuses and reasons, behind everything else.
        aligns.push(Align::Left);
        let mut grid = Grid::new(0, &aligns).plain(self.plain);
        let mut titles = if timed { vec!["time", frame.name()] } else { vec![frame.name()] };
        let fixed = titles.len();
        // Of several codes it has to be said which is which, once.
        let codes: Vec<String> = row_codes(self.part, id, frame).into_iter().map(title_of).collect();
        let readings = frame.shown().filter_map(|id| self.part.readings().get(id)).zip(&codes);
        titles.extend(readings.flat_map(|(reading, codes)| [codes.as_str(), reading.name(), ""]));
        titles.push("");
        if self.log {
            for (at, id) in frame.shown().enumerate() {
                self.make_room(&mut grid, fixed + at * 3, id);
            }
        }
        grid.titles(&titles);
        grid
    }

    fn make_room(&self, grid: &mut Grid, column: usize, id: ReadingId) {
        let Some(reading) = self.part.readings().get(id) else { return };
        let code = self.part.codes().of(reading.codes()).find(|code| code.ty().bounds().is_some());
        if let ([_], Some(code)) = (reading.codes(), code) {
            grid.at_least(column, &code.bounds().0.to_string());
            grid.at_least(column, &code.bounds().1.to_string());
        }
        let extent = yemdo::review::predict(self.part, id).and_then(|prediction| prediction.extent);
        if let Some(extent) = extent.filter(|extent| extent.low.abs() < 1e7 && extent.high.abs() < 1e7) {
            for value in [extent.low, extent.high] {
                grid.at_least(column + 1, &self.units.digits(id).text(self.units.value(id, value)));
            }
        }
    }

    /// Frames with many readings, or with none but codes: a line each, below the frame.
    fn list(&mut self, rows: &Rows<'_>, frame: &Frame) -> Result<(), Failure> {
        let bold = if self.plain { Style::new() } else { Style::new().bold() };
        for view in self.good(rows) {
            let time = view.time.map_or(String::new(), |time| format!("{time}  "));
            writeln!(self.out, "{time}{bold}{}{bold:#}  {}", frame.name(), to_hex(view.bytes.get(..view.given).unwrap_or(view.bytes)))?;
            let mut grid =
                Grid::new(2, &[Align::Left, Align::Right, Align::Right, Align::Left, Align::Left, Align::Left]).plain(self.plain);
            if frame.readings().is_empty() {
                for (_, code) in view.codes() {
                    grid.row(vec![code.name().into(), code.value(view.bytes).to_string().into()]);
                }
            }
            for (place, id, reading) in view.readings() {
                let status = view.columns.status(place, view.index);
                if status == Status::Absent {
                    continue;
                }
                let (mut codes, mut text) = (String::new(), String::new());
                push_codes(&mut codes, &view, shown_codes(self.part, view.frame, reading));
                let unit = match view.value(place, id) {
                    Some(value) => {
                        push_value(&mut text, &value, self.units.digits(id));
                        self.units.suffix(id, reading)
                    }
                    None => {
                        text.push('–');
                        ""
                    }
                };
                let why = view.reason(place, id).unwrap_or_default();
                grid.row(vec![reading.name().into(), codes.into(), text.into(), unit.into(), status_cell(status), why.into()]);
            }
            grid.write(self.out)?;
        }
        Ok(())
    }

    fn csv(&mut self, rows: &Rows<'_>) -> Result<(), Failure> {
        let part = self.part;
        let codes: Vec<&Code> = part.codes().of(&self.codes).collect();
        let mut line = std::mem::take(&mut self.line);
        line.clear();
        let mut writer = csv::Writer::from_writer(&mut line);
        if !self.titled {
            let mut titles = vec!["time".to_owned(), "frame".to_owned(), "bytes".to_owned()];
            titles.extend(codes.iter().map(|code| format!("code {}", code.name())));
            for (id, reading) in self.readings.iter().filter_map(|id| Some((*id, part.readings().get(*id)?))) {
                titles.extend([format!("{} [{}]", reading.name(), self.units.symbol(id, reading)), format!("{} status", reading.name())]);
            }
            titles.push("why".to_owned());
            writer.write_record(&titles)?;
            self.titled = true;
        }
        let Some(frame) = part.frames().get(rows.frame) else { return Ok(()) };
        let places: Vec<(ReadingId, Option<usize>)> =
            self.readings.iter().map(|id| (*id, frame.shown().position(|own| own == *id))).collect();
        let came: Vec<bool> = self.codes.iter().map(|id| self.comes(*id, rows)).collect();
        let mut cell = String::new();
        for view in self.good(rows) {
            cell.clear();
            push_hex(&mut cell, view.bytes.get(..view.given).unwrap_or(view.bytes));
            writer.write_field(csv_text(view.time.unwrap_or("")).as_ref())?;
            writer.write_field(frame.name())?;
            writer.write_field(&cell)?;
            for (code, came) in codes.iter().zip(&came) {
                cell.clear();
                if *came {
                    let _ = write!(cell, "{}", code.value(view.bytes));
                }
                writer.write_field(&cell)?;
            }
            for (id, place) in &places {
                cell.clear();
                if let Some(value) = place.and_then(|place| view.value(place, *id)) {
                    // In as few digits as read back as the same number.
                    let _ = match value {
                        yemdo::Number::Int(value, _) => write!(cell, "{value}"),
                        yemdo::Number::Real(value, yemdo::Ty::F32) => write!(cell, "{}", value as f32),
                        yemdo::Number::Real(value, _) => write!(cell, "{value}"),
                    };
                }
                writer.write_field(&cell)?;
                writer.write_field(place.map_or("", |place| view.columns.status(place, view.index).as_str()))?;
            }
            writer.write_field(csv_text(&view.reasons()).as_ref())?;
            writer.write_record(None::<&[u8]>)?;
        }
        writer.flush()?;
        drop(writer);
        self.out.write_all(&line)?;
        self.line = line;
        Ok(())
    }

    /// Whether a code's bytes are among those that count.
    fn comes(&self, id: CodeId, rows: &Rows<'_>) -> bool {
        let here = |code: &Code| code.frame() == rows.frame && code.layout().slices.iter().all(|slice| slice.byte < rows.given);
        self.part.codes().get(id).is_some_and(here)
    }

    fn json(&mut self, rows: &Rows<'_>) -> Result<(), Failure> {
        let mut line = std::mem::take(&mut self.line);
        for view in self.good(rows) {
            line.clear();
            json_line(&mut line, &view)?;
            self.out.write_all(&line)?;
        }
        self.line = line;
        Ok(())
    }
}

/// Statuses of a frame, each with its reason once.
fn notes(view: &FrameView<'_>) -> Vec<Told> {
    let mut found: Vec<Told> = Vec::new();
    for (place, id, reading) in view.readings() {
        let status = view.columns.status(place, view.index);
        if status == Status::Ok {
            continue;
        }
        note(&mut found, status, view.reason(place, id), reading.name());
    }
    found
}

/// For every reading of a frame the codes beside it; none where another reading before it has the same several ones.
fn row_codes<'p>(part: &'p Part, id: FrameId, frame: &'p Frame) -> Vec<Vec<&'p Code>> {
    let mut rows: Vec<Vec<&Code>> = Vec::new();
    for reading in frame.shown().filter_map(|id| part.readings().get(id)) {
        let codes: Vec<&Code> = shown_codes(part, id, reading).collect();
        let same = |known: &Vec<&Code>| {
            known.len() == codes.len() && codes.iter().all(|code| known.iter().any(|other| std::ptr::eq(*other, *code)))
        };
        let told = codes.len() > 1 && rows.iter().any(same);
        rows.push(if told { Vec::new() } else { codes });
    }
    rows
}

fn title_of(codes: Vec<&Code>) -> String {
    match codes.as_slice() {
        [] => String::new(),
        [_] => "code".to_owned(),
        several => several.iter().map(|code| code.name()).collect::<Vec<_>>().join(" "),
    }
}

/// The codes that are shown beside a reading: those that it comes from, but for calibration words.
fn shown_codes<'p>(part: &'p Part, frame: FrameId, reading: &'p Reading) -> impl Iterator<Item = &'p Code> {
    let kept = move |code: &&Code| part.frames().get(code.frame()).is_some_and(|other| code.frame() == frame || !other.is_kept());
    part.codes().of(reading.codes()).filter(kept).take(MAX_CODES)
}

fn push_codes<'c>(text: &mut String, view: &FrameView<'_>, codes: impl Iterator<Item = &'c Code>) {
    let came = codes.filter_map(|code| view.code_content(code));
    for (at, content) in came.enumerate() {
        let blank = if at > 0 { " " } else { "" };
        let _ = write!(text, "{blank}{content}");
    }
}

/// A value with the digits worth showing; an integer of 64 bits with all its digits.
fn push_value(text: &mut String, value: &yemdo::Number, digits: yemdo::Digits) {
    let _ = match value {
        yemdo::Number::Int(value, _) => write!(text, "{value}"),
        yemdo::Number::Real(value, _) => digits.write(text, *value),
    };
}

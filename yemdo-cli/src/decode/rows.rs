//! Decoded frames as rows: a table for people, CSV, or JSON lines.

use std::io::Write;

use anstyle::{AnsiColor, Style};
use serde_json::{Map, Value, json};
use yemdo::bits::hex::{push_hex, to_hex};
use yemdo::decode::Columns;
use yemdo::formula::types::Number;
use yemdo::model::part::{Code, CodeNumber, Frame, Reading};
use yemdo::{Part, Status};

use super::units::Units;
use crate::args::Format;
use crate::failure::Failure;
use crate::grid::{Align, Cell, Grid};

/// Decoded frames that follow one another, all of one kind.
pub(super) struct Rows<'a> {
    pub(super) frame: usize,
    pub(super) length: usize,
    /// Bytes of each frame that count.
    pub(super) given: usize,
    pub(super) bytes: &'a [u8],
    /// Line in the log and time.
    pub(super) rows: &'a [(u64, Option<String>)],
    pub(super) columns: &'a Columns,
    /// Other frames that their readings use.
    pub(super) uses: &'a [Use],
}

/// A frame that readings of other frames use, and where in the log it stands.
pub(super) struct Use {
    pub(super) frame: usize,
    pub(super) line: u64,
    pub(super) time: Option<String>,
    /// Good frames behind it.
    pub(super) age: u64,
}

/// Readings that are printed side by side; more of them go below one another.
const MAX_ABREAST: usize = 6;

/// Where rows go.
pub(super) struct Sink<'a> {
    out: &'a mut dyn Write,
    format: Format,
    part: &'a Part,
    units: &'a Units,
    /// Readings that may come, as indices.
    readings: Vec<usize>,
    /// Codes that they come from.
    codes: Vec<usize>,
    /// Whether the rows are those of a log.
    log: bool,
    grid: Option<(usize, Grid)>,
    titled: bool,
    line: Vec<u8>,
}

impl<'a> Sink<'a> {
    pub(super) fn new(out: &'a mut dyn Write, format: Format, part: &'a Part, frames: &[usize], log: bool, units: &'a Units) -> Self {
        let readings: Vec<usize> = frames.iter().filter_map(|f| part.frames().get(*f)).flat_map(|f| f.readings()).copied().collect();
        let codes: Vec<usize> = frames.iter().filter_map(|f| part.frames().get(*f)).flat_map(|f| f.codes()).copied().collect();
        Self { out, format, part, units, readings, codes, log, grid: None, titled: false, line: Vec::new() }
    }

    pub(super) fn rows(&mut self, rows: &Rows<'_>) -> Result<(), Failure> {
        match self.format {
            Format::Table => self.table(rows),
            Format::Csv => self.csv(rows),
            Format::Json => self.json(rows),
        }
    }

    pub(super) fn flush(&mut self) -> Result<(), Failure> {
        Ok(self.out.flush()?)
    }

    pub(super) fn finish(&mut self) -> Result<(), Failure> {
        self.flush()
    }

    /// The good frames of a batch: index in the batch, bytes, line and time.
    fn good<'r>(rows: &'r Rows<'_>) -> impl Iterator<Item = (usize, &'r [u8], Option<&'r str>)> {
        let frames = rows.bytes.chunks_exact(rows.length.max(1)).zip(rows.rows).enumerate();
        let passed = |index: usize| rows.columns.failed_check(index).is_none();
        frames.filter(move |(index, _)| passed(*index)).map(|(index, (bytes, (_, time)))| (index, bytes, time.as_deref()))
    }

    fn table(&mut self, rows: &Rows<'_>) -> Result<(), Failure> {
        let Some(frame) = self.part.frames().get(rows.frame) else { return Ok(()) };
        let readings: Vec<(usize, &Reading)> =
            frame.readings().iter().filter_map(|index| Some((*index, self.part.readings().get(*index)?))).collect();
        if readings.is_empty() || readings.len() > MAX_ABREAST {
            return self.list(rows, &readings);
        }
        let timed = rows.rows.iter().any(|(_, time)| time.is_some());
        let known = self.grid.take().filter(|(frame, _)| *frame == rows.frame);
        let mut grid = match known {
            Some((_, grid)) => grid,
            None => {
                let mut aligns = if timed { vec![Align::Left, Align::Left] } else { vec![Align::Left] };
                aligns.extend(readings.iter().flat_map(|_| [Align::Right, Align::Right, Align::Left, Align::Left]));
                let mut grid = Grid::new(0, &aligns);
                let mut titles = if timed { vec!["time", frame.name()] } else { vec![frame.name()] };
                titles.extend(readings.iter().flat_map(|(_, reading)| ["code", reading.name(), "", ""]));
                if self.log {
                    let fixed = if timed { 2 } else { 1 };
                    for (at, (which, reading)) in readings.iter().enumerate() {
                        self.make_room(&mut grid, fixed + at * 4, frame, *which, reading);
                    }
                }
                grid.titles(&titles);
                grid
            }
        };
        for (index, bytes, time) in Self::good(rows) {
            let mut cells: Vec<Cell> = Vec::new();
            if timed {
                cells.push(time.unwrap_or("").into());
            }
            let mut hex = String::new();
            push_hex(&mut hex, bytes);
            cells.push(hex.into());
            for (at, (which, reading)) in readings.iter().enumerate() {
                let status = rows.columns.status(at, index);
                let here = reading.codes().iter().filter_map(|c| self.part.codes().get(*c)).filter(|c| c.frame() == rows.frame);
                let codes: Vec<String> = here.take(4).map(|c| c.value(bytes).to_string()).collect();
                cells.push(codes.join(" ").into());
                if status.has_value() {
                    let value = self.units.value(*which, value_of(rows.columns, at, index));
                    cells.push(format!("{value:.*}", self.units.decimals(*which, reading)).into());
                    cells.push(self.units.symbol(*which, reading).into());
                } else {
                    cells.extend(["–".into(), "".into()]);
                }
                cells.push(status_cell(status));
            }
            grid.row(cells);
        }
        grid.write(self.out)?;
        self.grid = Some((rows.frame, grid));
        Ok(())
    }

    /// Keeps the columns of a log as wide as its widest row can be, so that all stand in line with the titles.
    fn make_room(&self, grid: &mut Grid, column: usize, frame: &Frame, which: usize, reading: &Reading) {
        let codes = reading.codes().iter().filter_map(|code| self.part.codes().get(*code)).filter(|code| code.ty().bounds().is_some());
        if let ([_], Some(code)) = (reading.codes(), codes.into_iter().next()) {
            grid.at_least(column, &code.bounds().0.to_string());
            grid.at_least(column, &code.bounds().1.to_string());
        }
        let extent = self.part.outcome(which).and_then(|outcome| outcome.extent);
        if let Some(extent) = extent.filter(|extent| extent.low.abs() < 1e7 && extent.high.abs() < 1e7) {
            for value in [extent.low, extent.high] {
                grid.at_least(column + 1, &format!("{:.*}", self.units.decimals(which, reading), self.units.value(which, value)));
            }
        }
        let ranged = reading.range().map(|_| Status::OutOfRange);
        for status in frame.conditions().iter().chain(reading.conditions()).map(|condition| condition.status).chain(ranged) {
            grid.at_least(column + 3, status.word());
        }
    }

    /// Frames with many readings, or with none but codes: a line each, below the frame.
    fn list(&mut self, rows: &Rows<'_>, readings: &[(usize, &Reading)]) -> Result<(), Failure> {
        let Some(frame) = self.part.frames().get(rows.frame) else { return Ok(()) };
        let bold = Style::new().bold();
        for (index, bytes, time) in Self::good(rows) {
            let time = time.map_or(String::new(), |time| format!("{time}  "));
            writeln!(self.out, "{time}{bold}{}{bold:#}  {}", frame.name(), to_hex(bytes.get(..rows.given).unwrap_or(bytes)))?;
            let mut grid = Grid::new(2, &[Align::Left, Align::Right, Align::Right, Align::Left, Align::Left]);
            if readings.is_empty() {
                for code in frame.codes().iter().filter_map(|code| self.part.codes().get(*code)) {
                    grid.row(vec![code.name().into(), code.value(bytes).to_string().into()]);
                }
            }
            for (at, (which, reading)) in readings.iter().enumerate() {
                let status = rows.columns.status(at, index);
                if status == Status::Absent {
                    continue;
                }
                let here = reading.codes().iter().filter_map(|c| self.part.codes().get(*c)).filter(|c| c.frame() == rows.frame);
                let codes: Vec<String> = here.take(4).map(|c| c.value(bytes).to_string()).collect();
                let value = self.units.value(*which, value_of(rows.columns, at, index));
                let value = if status.has_value() { format!("{value:.*}", self.units.decimals(*which, reading)) } else { "–".to_owned() };
                let unit = if status.has_value() { self.units.symbol(*which, reading) } else { "" };
                grid.row(vec![reading.name().into(), codes.join(" ").into(), value.into(), unit.into(), status_cell(status)]);
            }
            grid.write(self.out)?;
        }
        Ok(())
    }

    fn csv(&mut self, rows: &Rows<'_>) -> Result<(), Failure> {
        let part = self.part;
        let codes: Vec<&Code> = self.codes.iter().filter_map(|code| part.codes().get(*code)).collect();
        self.line.clear();
        let mut writer = csv::Writer::from_writer(&mut self.line);
        if !self.titled {
            let mut titles = vec!["time".to_owned(), "frame".to_owned(), "bytes".to_owned()];
            titles.extend(codes.iter().map(|code| format!("code {}", code.name())));
            for (which, reading) in self.readings.iter().filter_map(|index| Some((*index, part.readings().get(*index)?))) {
                titles
                    .extend([format!("{} [{}]", reading.name(), self.units.symbol(which, reading)), format!("{} status", reading.name())]);
            }
            writer.write_record(&titles)?;
            self.titled = true;
        }
        let Some(frame) = part.frames().get(rows.frame) else { return Ok(()) };
        let (mut hex, mut cell) = (String::new(), String::new());
        for (index, bytes, time) in Self::good(rows) {
            hex.clear();
            push_hex(&mut hex, bytes);
            writer.write_field(time.unwrap_or(""))?;
            writer.write_field(frame.name())?;
            writer.write_field(&hex)?;
            for code in &codes {
                cell.clear();
                if code.frame() == rows.frame {
                    std::fmt::Write::write_fmt(&mut cell, format_args!("{}", code.value(bytes))).map_err(|_| Failure::Closed)?;
                }
                writer.write_field(&cell)?;
            }
            for reading in &self.readings {
                let at = frame.readings().iter().position(|r| r == reading);
                cell.clear();
                let status = at.map(|at| rows.columns.status(at, index));
                if let (Some(at), Some(true)) = (at, status.map(Status::has_value)) {
                    std::fmt::Write::write_fmt(
                        &mut cell,
                        format_args!("{}", self.units.value(*reading, value_of(rows.columns, at, index))),
                    )
                    .map_err(|_| Failure::Closed)?;
                }
                writer.write_field(&cell)?;
                writer.write_field(status.map_or("", Status::word))?;
            }
            writer.write_record(None::<&[u8]>)?;
        }
        writer.flush()?;
        drop(writer);
        Ok(self.out.write_all(&self.line)?)
    }

    fn json(&mut self, rows: &Rows<'_>) -> Result<(), Failure> {
        let Some(frame) = self.part.frames().get(rows.frame) else { return Ok(()) };
        for (good, (index, bytes, time)) in Self::good(rows).enumerate() {
            let mut object = Map::new();
            if let Some(time) = time {
                object.insert("time".into(), time.into());
            }
            if self.log {
                object.insert("line".into(), rows.rows.get(index).map_or(0, |(line, _)| *line).into());
            }
            object.insert("part".into(), self.part.name().into());
            object.insert("frame".into(), frame.name().into());
            let mut hex = String::new();
            push_hex(&mut hex, bytes);
            object.insert("bytes".into(), hex.into());
            let codes = frame.codes().iter().filter_map(|code| self.part.codes().get(*code));
            let codes: Map<String, Value> = codes.map(|code| (code.name().to_owned(), code_json(&code.value(bytes)))).collect();
            object.insert("codes".into(), codes.into());
            let mut readings = Map::new();
            for (at, which) in frame.readings().iter().enumerate() {
                let Some(reading) = self.part.readings().get(*which) else { continue };
                let status = rows.columns.status(at, index);
                if status == Status::Absent {
                    continue;
                }
                let value =
                    if status.has_value() { json!(self.units.value(*which, value_of(rows.columns, at, index))) } else { Value::Null };
                let unit = self.units.unit(*which, reading);
                readings.insert(
                    reading.name().into(),
                    json!({
                        "value": value,
                        "unit": self.units.symbol(*which, reading),
                        "ucum": unit.map(|unit| unit.ucum),
                        "senml": unit.and_then(|unit| unit.senml),
                        "status": status.word(),
                    }),
                );
            }
            object.insert("readings".into(), readings.into());
            if self.log && !rows.uses.is_empty() {
                let used = rows.uses.iter().filter_map(|used| {
                    let mut place = json!({ "line": used.line, "frames_back": used.age + good as u64 + 1 });
                    used.time.iter().for_each(|time| place["time"] = json!(time));
                    Some((self.part.frames().get(used.frame)?.name().to_owned(), place))
                });
                object.insert("uses".into(), used.collect::<Map<String, Value>>().into());
            }
            serde_json::to_writer(&mut *self.out, &object).map_err(std::io::Error::from)?;
            self.out.write_all(b"\n")?;
        }
        Ok(())
    }
}

/// A code for JSON: an integer where it is one; none where it cannot be said.
fn code_json(value: &CodeNumber) -> Value {
    match value {
        CodeNumber::Number(Number::Int(value, _)) => {
            i64::try_from(*value).map(Value::from).or_else(|_| u64::try_from(*value).map(Value::from)).unwrap_or(Value::Null)
        }
        CodeNumber::Number(number) => json!(number.to_f64()),
        CodeNumber::Text(text) => json!(text),
        CodeNumber::Invalid => Value::Null,
    }
}

fn value_of(columns: &Columns, reading: usize, index: usize) -> f64 {
    columns.values(reading).get(index).copied().unwrap_or(f64::NAN)
}

/// The status as people see it: nothing where all is well.
pub(crate) fn status_cell(status: Status) -> Cell {
    let style: Style = match status {
        Status::Ok => return Cell::default(),
        Status::Alert | Status::OutOfRange | Status::Saturated => AnsiColor::Yellow.on_default(),
        Status::NotReady => Style::new().dimmed(),
        _ => AnsiColor::Red.on_default(),
    };
    Cell { text: status.word().to_owned(), style }
}

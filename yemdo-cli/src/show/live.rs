//! Measurements as they come: a line each, flushed.

use std::collections::BTreeMap;
use std::io::Write;

use anstyle::{AnsiColor, Style};
use yemdo::view::{BytesView, ErrorView, MeasuredView, ReadingView};
use yemdo::{Part, Status, to_hex, visible};
use yemdo_bus::{DeviceError, Measurement};

use super::grid::{Align, Cell, Grid};
use super::status::{note, push_told, status_style};
use crate::args::Format;
use crate::failure::Failure;
use crate::output::json_line;

/// One measurement.
pub(crate) struct Row<'a> {
    /// Microseconds since the beginning.
    pub(crate) at: u64,
    pub(crate) name: &'a str,
    pub(crate) part: &'a Part,
    pub(crate) measured: &'a Measurement,
}

/// Where measurements go.
pub(crate) struct Live {
    format: Format,
    /// There are several parts: each line names its own.
    several: bool,
    /// Column widths, by part.
    grids: BTreeMap<String, Grid>,
    titled: bool,
}

/// Microseconds as seconds.
fn seconds(micros: u64) -> String {
    format!("{:.3}", micros as f64 / 1e6)
}

/// The widest name of a part that is kept in line.
const NAME: &str = "            ";

impl Live {
    pub(crate) fn new(format: Format, several: bool) -> Self {
        Self { format, several, grids: BTreeMap::new(), titled: false }
    }

    pub(crate) fn row(&mut self, out: &mut dyn Write, row: &Row<'_>) -> Result<(), Failure> {
        match self.format {
            Format::Table => self.table(out, row)?,
            Format::Csv => self.csv(out, row)?,
            Format::Json => {
                let name = |frame| row.part.frames().get(frame).map_or("", |frame| frame.name());
                let frames = row.measured.frames.iter();
                let frames = frames.map(|(decoded, bytes)| BytesView { frame: name(decoded.frame), bytes: to_hex(bytes) }).collect();
                let readings = row.measured.readings().map(ReadingView::from).collect();
                json_line(out, &MeasuredView { time_s: row.at as f64 / 1e6, part: row.name, frames, readings, error: None })?;
            }
        }
        Ok(out.flush()?)
    }

    fn table(&mut self, out: &mut dyn Write, row: &Row<'_>) -> Result<(), Failure> {
        let shown = row.measured.readings().count();
        let several = self.several;
        let grid = self.grids.entry(row.name.to_owned()).or_insert_with(|| {
            let mut columns = vec![Align::Right, Align::Left];
            columns.extend(several.then_some(Align::Left));
            for _ in 0..shown {
                columns.extend([Align::Left, Align::Right, Align::Left]);
            }
            columns.push(Align::Left);
            let mut grid = Grid::new(0, &columns);
            grid.at_least(0, "99999.999");
            // Values that grow do not move those behind them.
            let first = if several { 3 } else { 2 };
            (0..shown).for_each(|at| grid.at_least(first + 3 * at + 1, "-999.99"));
            if several {
                grid.at_least(1, NAME);
            }
            grid
        });
        let (dim, bold) = (Style::new().dimmed(), Style::new().bold());
        let bytes: Vec<String> = row.measured.frames.iter().map(|(_, bytes)| to_hex(bytes)).collect();
        let mut cells = vec![Cell { text: seconds(row.at), style: dim }];
        cells.extend(several.then(|| Cell { text: row.name.to_owned(), style: bold }));
        cells.push(Cell::from(bytes.join(" | ")));
        let mut told = Vec::new();
        for reading in row.measured.readings() {
            let style = status_style(reading.status).0;
            cells.push(Cell { text: reading.name.clone(), style: dim });
            cells.push(Cell { text: reading.value.map_or("–".into(), |value| reading.digits.text(value)), style });
            let unit = if reading.value.is_some() && reading.unit != "1" { reading.unit.clone() } else { String::new() };
            cells.push(Cell::from(unit));
            if reading.status != Status::Ok {
                note(&mut told, reading.status, reading.means.clone(), &reading.name);
            }
        }
        let mut text = String::new();
        push_told(&mut text, &told, usize::MAX, true);
        cells.push(Cell { text, style: AnsiColor::Yellow.on_default() });
        grid.row(cells);
        Ok(grid.write(out)?)
    }

    fn csv(&mut self, out: &mut dyn Write, row: &Row<'_>) -> Result<(), Failure> {
        let mut writer = csv::Writer::from_writer(out);
        if !std::mem::replace(&mut self.titled, true) {
            writer.write_record(["time_s", "part", "bytes", "reading", "value", "unit", "status"])?;
        }
        for (decoded, bytes) in &row.measured.frames {
            for reading in &decoded.readings {
                let value = reading.value.map_or(String::new(), |value| value.to_string());
                let cells = [&seconds(row.at), row.name, &to_hex(bytes), &reading.name, &value, &reading.unit, reading.status.as_str()];
                writer.write_record(cells)?;
            }
        }
        Ok(writer.flush()?)
    }

    /// A measurement that failed: among the lines for people and in JSON; CSV has readings alone.
    pub(crate) fn failed(&mut self, out: &mut dyn Write, at: u64, name: &str, error: &DeviceError) -> Result<(), Failure> {
        let red = AnsiColor::BrightRed.on_default();
        match self.format {
            Format::Table => {
                let (dim, bold) = (Style::new().dimmed(), Style::new().bold());
                let name = if self.several { format!("  {bold}{name:<width$}{bold:#}", width = NAME.len()) } else { String::new() };
                writeln!(out, "{dim}{:>9}{dim:#}{name}  {red}{}{red:#}", seconds(at), visible(&error.to_string()))?;
            }
            Format::Json => {
                let error = Some(ErrorView { cause: error.cause(), message: error.to_string() });
                let line = MeasuredView { time_s: at as f64 / 1e6, part: name, frames: Vec::new(), readings: Vec::new(), error };
                json_line(out, &line)?;
            }
            Format::Csv => {
                let _ = writeln!(anstream::stderr(), "{} {name}: {red}{}{red:#}", seconds(at), visible(&error.to_string()));
            }
        }
        Ok(out.flush()?)
    }
}

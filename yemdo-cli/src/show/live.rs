//! Measurements as they come: a line each, flushed.

use std::collections::BTreeMap;
use std::io::Write;

use anstyle::{AnsiColor, Style};
use yemdo::{Status, to_hex, visible};

use super::grid::{Align, Cell, Grid};
use super::status::{note, push_told, status_style};
use crate::args::ReadFormat;
use crate::failure::Failure;
use crate::link::AnyPort;
use yemdo_log::{Clocks, Encoder, Entry, LogForm, Measured};

/// Measurements on standard output.
pub(crate) struct Printed {
    /// What makes records of them, where they are not for people.
    encoder: Option<Encoder>,
    /// There are several parts: each line names its own.
    several: bool,
    /// Column widths, by part.
    grids: BTreeMap<String, Grid>,
    titled: bool,
    /// True if there is another output, so a closed standard output is no failure.
    pub(crate) logged: bool,
}

/// Microseconds as seconds.
fn seconds(micros: u64) -> String {
    format!("{:.3}", micros as f64 / 1e6)
}

/// The widest name of a part that is kept in line.
const NAME: &str = "            ";

impl Printed {
    pub(crate) fn new(format: ReadFormat, several: bool, clocks: &Clocks) -> Self {
        let form = match format {
            ReadFormat::Table => None,
            ReadFormat::Csv => Some(LogForm::Csv),
            ReadFormat::Json => Some(LogForm::JsonLines),
            ReadFormat::Senml => Some(LogForm::Senml),
        };
        let encoder = form.map(|form| Encoder::new(form, clocks.clone()));
        Self { encoder, several, grids: BTreeMap::new(), titled: false, logged: false }
    }

    pub(crate) fn row(&mut self, out: &mut dyn Write, row: &Measured<'_, AnyPort>) -> Result<(), Failure> {
        let told = match &self.encoder {
            None => self.table(out, row),
            Some(_) => self.record(out, row.entry),
        };
        self.go_on(told.and_then(|()| Ok(out.flush()?)))
    }

    /// A closed standard output does not stop a log.
    fn go_on(&self, told: Result<(), Failure>) -> Result<(), Failure> {
        match told {
            Err(Failure::Closed) if self.logged => Ok(()),
            told => told,
        }
    }

    fn record(&mut self, out: &mut dyn Write, entry: &Entry) -> Result<(), Failure> {
        let Some(encoder) = &self.encoder else { return Ok(()) };
        if !std::mem::replace(&mut self.titled, true) {
            out.write_all(encoder.header().as_bytes())?;
        }
        Ok(out.write_all(&encoder.record(entry)?)?)
    }

    fn table(&mut self, out: &mut dyn Write, row: &Measured<'_, AnyPort>) -> Result<(), Failure> {
        let (name, units) = (row.station.name(), row.station.units());
        let shown = row.measurement.readings().count();
        let several = self.several;
        let grid = self.grids.entry(name.to_owned()).or_insert_with(|| {
            let mut columns = vec![Align::Right, Align::Left];
            columns.extend(several.then_some(Align::Left));
            for _ in 0..shown {
                columns.extend([Align::Left, Align::Right, Align::Left]);
            }
            columns.push(Align::Left);
            let mut grid = Grid::new(0, &columns);
            grid.at_least(0, "99999.999");
            // Growing values do not move later columns.
            let first = if several { 3 } else { 2 };
            (0..shown).for_each(|at| grid.at_least(first + 3 * at + 1, "-999.99"));
            if several {
                grid.at_least(1, NAME);
            }
            grid
        });
        let (dim, bold) = (Style::new().dimmed(), Style::new().bold());
        let bytes: Vec<String> = row.measurement.frames.iter().map(|frame| to_hex(frame.bytes())).collect();
        let mut cells = vec![Cell { text: seconds(row.at), style: dim }];
        cells.extend(several.then(|| Cell { text: name.to_owned(), style: bold }));
        cells.push(Cell::from(bytes.join(" | ")));
        let mut told = Vec::new();
        for reading in row.measurement.readings() {
            let style = status_style(reading.status).0;
            cells.push(Cell { text: reading.name.clone(), style: dim });
            // The digits follow the settings of now; in another unit they are those of the unit.
            let digits = if units.is_plain(reading.id) { reading.digits } else { units.digits(reading.id) };
            let value = reading.value.map(|value| digits.text(units.value(reading.id, value)));
            cells.push(Cell { text: value.as_deref().unwrap_or("–").into(), style });
            let unit = units.suffix(reading.id, &row.station.part().readings()[reading.id]);
            cells.push(Cell::from(if value.is_some() { unit } else { "" }.to_owned()));
            if reading.status != Status::Ok {
                note(&mut told, reading.status, reading.why.clone(), &reading.name);
            }
        }
        let mut text = String::new();
        push_told(&mut text, &told, usize::MAX, true);
        cells.push(Cell { text, style: AnsiColor::Yellow.on_default() });
        grid.row(cells);
        Ok(grid.write(out)?)
    }

    /// A measurement that failed.
    pub(crate) fn failure(&mut self, out: &mut dyn Write, at: u64, entry: &Entry) -> Result<(), Failure> {
        let told = self.print_failure(out, at, entry);
        self.go_on(told)
    }

    fn print_failure(&mut self, out: &mut dyn Write, at: u64, entry: &Entry) -> Result<(), Failure> {
        if self.encoder.is_some() {
            self.record(out, entry)?;
        } else if let Some(error) = &entry.error {
            let (dim, bold) = (Style::new().dimmed(), Style::new().bold());
            let red = AnsiColor::BrightRed.on_default();
            let name = if self.several { format!("  {bold}{:<width$}{bold:#}", entry.part, width = NAME.len()) } else { String::new() };
            writeln!(out, "{dim}{:>9}{dim:#}{name}  {red}{}{red:#}", seconds(at), visible(&error.message))?;
        }
        Ok(out.flush()?)
    }
}

//! `yemdo check`: is the sheet sound, do its examples agree, and what can come out of it.

use std::io::Write;

use anstyle::{AnsiColor, Style};
use serde_json::json;
use yemdo::check::{ExampleRun, run_examples};
use yemdo::model::Outcome;
use yemdo::sheet::diagnostic::render_all;
use yemdo::{Diagnostic, Part};

use crate::args::{Check, CheckFormat};
use crate::failure::Failure;
use crate::grid::{Align, Cell, Grid};
use crate::sheets;

pub(crate) fn run(args: &Check) -> Result<u8, Failure> {
    let mut out = anstream::stdout().lock();
    let mut worst = 0;
    for (index, path) in args.sheets.iter().enumerate() {
        let part = match sheets::load(path) {
            Ok(part) => part,
            // The other sheets are checked all the same.
            Err(failure) => {
                match (&failure, args.format) {
                    (Failure::Sheet(error), CheckFormat::Json) => {
                        let problems: Vec<_> = error.diagnostics().iter().map(|d| problem(d, error.source_text())).collect();
                        writeln!(out, "{}", json!({ "sheet": path.display().to_string(), "sound": false, "problems": problems }))?;
                    }
                    _ => writeln!(anstream::stderr(), "{failure}")?,
                }
                worst = worst.max(failure.code());
                continue;
            }
        };
        let runs = run_examples(&part);
        let agree = runs.iter().filter(|run| run.mismatches.is_empty()).count();
        worst = worst.max(u8::from(agree < runs.len()));
        match args.format {
            CheckFormat::Table => {
                if index > 0 {
                    writeln!(out)?;
                }
                table(&mut out, &part, &path.display().to_string(), &runs)?;
            }
            CheckFormat::Json => json_line(&mut out, &part, &path.display().to_string(), &runs)?,
        }
    }
    Ok(worst)
}

fn table(out: &mut dyn Write, part: &Part, path: &str, runs: &[ExampleRun]) -> Result<(), Failure> {
    let (bold, dim) = (Style::new().bold(), Style::new().dimmed());
    writeln!(out, "{bold}{}{bold:#}  {}  {dim}{path}{dim:#}", part.name(), part.title().unwrap_or(""))?;
    if let Some(i2c) = part.i2c() {
        let both = |address: u8| {
            format!("0x{address:02X} (7-bit; on the wire 0x{:02X} to write, 0x{:02X} to read)", address << 1, address << 1 | 1)
        };
        writeln!(out, "  I2C address {}", both(i2c.address))?;
        for (pin, level, address) in &i2c.straps {
            writeln!(out, "    {pin} {level}: {}", both(*address))?;
        }
    }
    for frame in part.frames() {
        let checks: Vec<String> = frame.checks().iter().map(|check| check.method()).collect();
        let checks = if checks.is_empty() { "no check".to_owned() } else { checks.join(", ") };
        writeln!(out, "  frame {}: {}, {}, {checks}", frame.name(), count(frame.length(), "byte"), count(frame.codes().len(), "code"))?;
    }
    let mut grid = Grid::new(2, &[Align::Left, Align::Left, Align::Left, Align::Left, Align::Left, Align::Left]);
    grid.titles(&["reading", "unit", "can come out", "step", "stated range", "from"]);
    for (index, reading) in part.readings().iter().enumerate() {
        let Some(outcome) = part.outcome(index) else { continue };
        let codes: Vec<&str> = reading.codes().iter().filter_map(|code| part.codes().get(*code)).map(|code| code.name()).collect();
        let stated = reading.range().map_or("–".to_owned(), |(low, high)| format!("{low} to {high}"));
        grid.row(vec![
            reading.name().into(),
            reading.unit().into(),
            extent(&outcome, reading.decimals()).into(),
            step(&outcome).into(),
            stated.into(),
            codes.join(", ").into(),
        ]);
    }
    grid.write(out)?;
    for (index, reading) in part.readings().iter().enumerate() {
        if let Some((kind, code)) = part.outcome(index).and_then(|outcome| outcome.fault) {
            let red = AnsiColor::Yellow.on_default();
            writeln!(out, "  {red}{}: {} at code {code}{red:#}", reading.name(), kind.describe())?;
        }
    }
    examples(out, runs, part)?;
    if !part.warnings().is_empty() {
        writeln!(out, "\n{}", render_all(part.warnings(), part.source(), true))?;
    }
    Ok(())
}

/// "1 byte", "2 bytes".
fn count(number: usize, what: &str) -> String {
    format!("{number} {what}{}", if number == 1 { "" } else { "s" })
}

fn extent(outcome: &Outcome, decimals: usize) -> String {
    match outcome.extent {
        Some(extent) => {
            let about = if extent.exact { "" } else { "within " };
            format!("{about}{:.decimals$} to {:.decimals$}", extent.low, extent.high)
        }
        None => "nothing".into(),
    }
}

/// A step, or the two ends of it where it is not the same everywhere.
fn step(outcome: &Outcome) -> String {
    match outcome.step {
        None => "–".into(),
        Some((low, high)) if high - low <= high * 1e-6 => short(high),
        Some((low, high)) => format!("{} to {}", short(low), short(high)),
    }
}

/// Four digits that count, without noughts behind them.
fn short(value: f64) -> String {
    let places = (3.0 - value.abs().log10().floor()).clamp(0.0, 12.0) as usize;
    let text = format!("{value:.places$}");
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text }
}

fn examples(out: &mut dyn Write, runs: &[ExampleRun], part: &Part) -> Result<(), Failure> {
    let good = runs.iter().filter(|run| run.mismatches.is_empty()).count();
    let style = if good == runs.len() { AnsiColor::Green.on_default() } else { AnsiColor::Red.on_default().bold() };
    match runs.len() {
        0 => writeln!(out, "  no worked examples")?,
        all => writeln!(out, "  {style}{good} of {all} worked examples agree{style:#}")?,
    }
    for run in runs.iter().filter(|run| !run.mismatches.is_empty()) {
        let (line, _) = part.source().line_column(run.span.start);
        writeln!(out, "  line {line}{}", run.source.as_ref().map_or(String::new(), |source| format!(", {source}")))?;
        let mut grid = Grid::new(4, &[Align::Left, Align::Left, Align::Left]);
        for mismatch in &run.mismatches {
            grid.row(vec![
                mismatch.name.clone().into(),
                format!("expected {}", mismatch.expected).into(),
                Cell { text: format!("came out {}", mismatch.found), style: AnsiColor::Red.on_default() },
            ]);
        }
        grid.write(out)?;
    }
    Ok(())
}

fn problem(diagnostic: &Diagnostic, source: &yemdo::sheet::Source) -> serde_json::Value {
    let (line, column) = source.line_column(diagnostic.span.start);
    json!({
        "name": diagnostic.name,
        "severity": format!("{:?}", diagnostic.severity).to_lowercase(),
        "line": line,
        "column": column,
        "message": diagnostic.message,
        "help": diagnostic.help,
    })
}

fn json_line(out: &mut dyn Write, part: &Part, path: &str, runs: &[ExampleRun]) -> Result<(), Failure> {
    let readings: Vec<_> = part
        .readings()
        .iter()
        .enumerate()
        .map(|(index, reading)| {
            let outcome = part.outcome(index);
            let extent = outcome.as_ref().and_then(|o| o.extent);
            let step = outcome.as_ref().and_then(|o| o.step);
            json!({
                "name": reading.name(),
                "unit": reading.unit(),
                "low": extent.map(|e| e.low),
                "high": extent.map(|e| e.high),
                "exact": extent.is_some_and(|e| e.exact),
                "smallest_step": step.map(|s| s.0),
                "largest_step": step.map(|s| s.1),
                "fault": outcome.and_then(|o| o.fault).map(|(kind, code)| format!("{} at code {code}", kind.describe())),
            })
        })
        .collect();
    let mismatches: Vec<_> = runs
        .iter()
        .flat_map(|run| &run.mismatches)
        .map(|m| {
            let (line, _) = part.source().line_column(m.span.start);
            json!({ "line": line, "name": m.name, "expected": m.expected, "found": m.found })
        })
        .collect();
    let warnings: Vec<_> = part.warnings().iter().map(|d| problem(d, part.source())).collect();
    let line = json!({
        "sheet": path,
        "part": part.name(),
        "sound": true,
        "readings": readings,
        "examples": runs.len(),
        "mismatches": mismatches,
        "problems": warnings,
    });
    Ok(writeln!(out, "{line}")?)
}

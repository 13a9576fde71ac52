//! `yemdo check`: is the sheet sound, do its examples agree, and what can come out of it.

use std::io::Write;

use anstyle::{AnsiColor, Style};
use serde_json::json;
use yemdo::bits::hex::to_hex;
use yemdo::check::{ExampleRun, run_examples};
use yemdo::model::part::Origin;
use yemdo::model::{Outcome, Proof};
use yemdo::routine::{RoutineError, Runner};
use yemdo::sheet::diagnostic::render_all;
use yemdo::{Diagnostic, Part, Settings};

use crate::args::{Check, CheckFormat};
use crate::failure::Failure;
use crate::grid::{Align, Cell, Grid};
use crate::routine::dry_run;
use crate::sheets;

pub(crate) fn run(args: &Check) -> Result<u8, Failure> {
    let mut out = anstream::stdout().lock();
    let mut worst = 0;
    let mut parts: Vec<(String, Part)> = Vec::new();
    for path in &args.sheets {
        let name = path.display().to_string();
        // A sheet, then each of its variants; what is wrong with one does not keep the others from being checked.
        let mut wanted = vec![None];
        while let Some(variant) = wanted.pop() {
            match sheets::load(path, variant.as_deref()) {
                Ok(part) => {
                    if variant.is_none() {
                        wanted.extend(part.variants().iter().rev().cloned().map(Some));
                    }
                    let runs = run_examples(&part);
                    worst = worst.max(u8::from(runs.iter().any(|run| !run.mismatches.is_empty())));
                    match args.format {
                        CheckFormat::Table => {
                            if !parts.is_empty() {
                                writeln!(out)?;
                            }
                            table(&mut out, &part, &name, &runs)?;
                        }
                        CheckFormat::Json => json_line(&mut out, &part, &name, &runs)?,
                    }
                    parts.push((name.clone(), part));
                }
                Err(failure) => {
                    match (&failure, args.format) {
                        (Failure::Sheet(error), CheckFormat::Json) => {
                            let problems: Vec<_> = error.diagnostics().iter().map(|d| problem(d, error.source_text())).collect();
                            writeln!(out, "{}", json!({ "sheet": name, "sound": false, "problems": problems }))?;
                        }
                        _ => writeln!(anstream::stderr(), "{failure}")?,
                    }
                    worst = worst.max(failure.code());
                }
            }
        }
    }
    if args.one_bus {
        worst = worst.max(clashes(&mut out, &parts)?);
    }
    Ok(worst)
}

/// Parts that cannot share a bus: no choice of straps gives each an address of its own.
fn clashes(out: &mut dyn Write, parts: &[(String, Part)]) -> Result<u8, Failure> {
    let on_bus: Vec<(&Part, Vec<u8>)> = parts.iter().filter_map(|(_, part)| Some((part, part.i2c()?.addresses()))).collect();
    let mut given: Vec<Option<u8>> = Vec::new();
    if assign(&on_bus, &mut given) {
        let list: Vec<String> =
            on_bus.iter().zip(&given).map(|((part, _), address)| format!("{} 0x{:02X}", part.name(), address.unwrap_or(0))).collect();
        writeln!(out, "\none bus: {}", list.join(", "))?;
        return Ok(0);
    }
    let red = AnsiColor::Red.on_default().bold();
    for (index, (part, addresses)) in on_bus.iter().enumerate() {
        for (other, others) in on_bus.iter().take(index) {
            let shared: Vec<String> =
                addresses.iter().filter(|address| others.contains(address)).map(|address| format!("0x{address:02X}")).collect();
            if !shared.is_empty() {
                let fixed = |addresses: &[u8]| if addresses.len() == 1 { "fixed" } else { "strapped" };
                let (name, kind, other_name, other_kind) = (part.name(), fixed(addresses), other.name(), fixed(others));
                writeln!(out, "\n{red}one bus{red:#}: {name} ({kind}) and {other_name} ({other_kind}) clash at {}", shared.join(", "))?;
            }
        }
    }
    writeln!(out, "no choice of straps gives each part an address of its own: use a second bus or a multiplexer")?;
    Ok(1)
}

/// Finds an address for each part, one after the other.
fn assign(parts: &[(&Part, Vec<u8>)], given: &mut Vec<Option<u8>>) -> bool {
    let Some((_, addresses)) = parts.get(given.len()) else { return true };
    for address in addresses {
        if !given.contains(&Some(*address)) {
            given.push(Some(*address));
            if assign(parts, given) {
                return true;
            }
            given.pop();
        }
    }
    false
}

fn buses(out: &mut dyn Write, part: &Part) -> Result<(), Failure> {
    if let Some(i2c) = part.i2c() {
        let both = |address: u8| {
            format!("0x{address:02X} (7-bit; on the wire 0x{:02X} to write, 0x{:02X} to read)", address << 1, address << 1 | 1)
        };
        writeln!(out, "  I2C address {}", both(i2c.address))?;
        for (pin, level, address) in &i2c.straps {
            writeln!(out, "    {pin} {level}: {}", both(*address))?;
        }
        let mut how = match i2c.pointer {
            0 => vec!["the part just answers".to_owned()],
            bits => vec![
                format!("{bits}-bit register address or command first"),
                if i2c.restart { "repeated start" } else { "stop before reading" }.to_owned(),
            ],
        };
        if i2c.increment != 0 {
            how.push(format!("0x{:02X} set to move on", i2c.increment));
        }
        if i2c.block {
            how.push("block read".into());
        }
        writeln!(out, "    {}", how.join(", "))?;
    }
    if let Some(spi) = part.spi() {
        let mut how = vec![format!("mode {}", spi.mode), if spi.lsb_first { "LSB first" } else { "MSB first" }.to_owned()];
        match spi.pointer {
            0 => how.push("no address: it is only clocked out".into()),
            bits => {
                how.push(format!("{bits}-bit address"));
                for (what, value) in [
                    ("shifted left by", spi.shift),
                    ("to read set", spi.read),
                    ("to write set", spi.write),
                    ("to move on set", spi.increment),
                ] {
                    if value != 0 {
                        how.push(if what.ends_with("by") { format!("{what} {value}") } else { format!("{what} 0x{value:02X}") });
                    }
                }
            }
        }
        if spi.dummy > 0 {
            how.push(format!("{} before data", count(spi.dummy, "dummy byte")));
        }
        if spi.late {
            how.push("the answer comes in the next transfer".into());
        }
        writeln!(out, "  SPI {}", how.join(", "))?;
    }
    if let Some(modbus) = part.modbus() {
        let unit = modbus.unit.map_or("unit id not told".to_owned(), |unit| format!("unit {unit}"));
        let baud = modbus.baud.map_or(String::new(), |baud| format!(", {baud} baud"));
        let parity =
            modbus.parity.map_or(String::new(), |parity| format!(", 8 bits, {} parity", if parity == "none" { "no" } else { parity }));
        let stop = modbus.stop.map_or(String::new(), |stop| format!(", {}", count(usize::from(stop), "stop bit")));
        writeln!(out, "  Modbus {unit}{baud}{parity}{stop}")?;
    }
    Ok(())
}

fn table(out: &mut dyn Write, part: &Part, path: &str, runs: &[ExampleRun]) -> Result<(), Failure> {
    let (bold, dim) = (Style::new().bold(), Style::new().dimmed());
    writeln!(out, "{bold}{}{bold:#}  {}  {dim}{path}{dim:#}", part.name(), part.title().unwrap_or(""))?;
    buses(out, part)?;
    if !part.registers().is_empty() {
        writeln!(out, "  {}, {}", count(part.registers().len(), "register"), count(part.fields().len(), "field"))?;
    }
    for frame in part.frames() {
        let mut checks: Vec<String> = frame.checks().iter().map(|check| check.method()).collect();
        let all = checks.len();
        checks.dedup();
        let checks = match (all, checks.len()) {
            (0, _) => "no check".to_owned(),
            (many, 1) if many > 1 => format!("{many} × {}", checks.join("")),
            _ => checks.join(", "),
        };
        let from = match frame.origin() {
            Origin::Read { command } if command.is_empty() => String::new(),
            Origin::Read { command } => format!(" after {}", to_hex(command)),
            Origin::Registers(runs) => format!(" of registers, {}", count(runs.len(), "transfer")),
            Origin::Transfers(transfers) => format!(", {}", count(transfers.len(), "transfer")),
            Origin::Modbus(range) => format!(": {range}"),
        };
        writeln!(
            out,
            "  frame {}: {}{from}, {}, {checks}",
            frame.name(),
            count(frame.length(), "byte"),
            count(frame.codes().len(), "code")
        )?;
    }
    let mut grid = Grid::new(2, &[Align::Left; 7]);
    grid.titles(&["reading", "unit", "can come out", "step", "stated range", "from", "arithmetic"]);
    // The elements of an array differ in nothing but their place.
    let mut shown: Vec<yemdo::sheet::Span> = Vec::new();
    let mut faults = Vec::new();
    for (index, reading) in part.readings().iter().enumerate() {
        let Some(outcome) = part.outcome(index).filter(|_| !shown.contains(&reading.span())) else { continue };
        shown.push(reading.span());
        let elements = part.readings().iter().filter(|other| other.span() == reading.span()).count();
        let name = if elements > 1 { format!("{} … _{}", reading.name(), elements - 1) } else { reading.name().to_owned() };
        let mut codes: Vec<&str> = reading.codes().iter().filter_map(|code| part.codes().get(*code)).map(|code| code.name()).collect();
        let more = codes.len().saturating_sub(4);
        codes.truncate(4);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let inside = |low: f64, high: f64| outcome.extent.is_some_and(|extent| extent.low >= low && extent.high <= high);
        let stated = reading
            .range()
            .map_or("–".to_owned(), |(low, high)| format!("{low} to {high}{}", if inside(low, high) { ", never left" } else { "" }));
        grid.row(vec![
            if reading.is_shown() { name } else { format!("({name})") }.into(),
            reading.unit().into(),
            extent(&outcome, reading.decimals()).into(),
            step(&outcome).into(),
            stated.into(),
            format!("{}{more}", codes.join(", ")).into(),
            arithmetic(&outcome),
        ]);
        for fault in &outcome.faults {
            faults.push((reading.name().to_owned(), fault.clone()));
        }
    }
    if !part.readings().is_empty() {
        grid.write(out)?;
    }
    let yellow = AnsiColor::Yellow.on_default();
    for (name, fault) in faults {
        let place = fault.span.map_or(String::new(), |span| {
            let text: Vec<&str> = part.source().slice(span).split_whitespace().collect();
            format!(" in line {}, `{}`,", part.source().line_column(span.start).0, text.join(" "))
        });
        let codes: Vec<String> = fault.codes.iter().map(|(name, code)| format!("{name} = {code}")).collect();
        writeln!(out, "  {yellow}{name}: {}{yellow:#}{place} with {}", fault.kind.describe(), codes.join(", "))?;
    }
    operations(out, part)?;
    examples(out, runs, part)?;
    if !part.warnings().is_empty() {
        writeln!(out, "\n{}", render_all(part.warnings(), part.source(), true))?;
    }
    Ok(())
}

/// Quantities and routines. Every wait and every loop of a routine has an end, or the sheet is refused.
fn operations(out: &mut dyn Write, part: &Part) -> Result<(), Failure> {
    let field = |index: &usize| part.fields().get(*index).map(|field| field.name());
    for quantity in part.quantities() {
        let held: Vec<&str> = quantity.moves().iter().filter_map(field).collect();
        writeln!(out, "  quantity {} in {}, held by {}", quantity.name(), quantity.unit(), held.join(" and "))?;
    }
    for (name, done) in routines(part) {
        let (operations, (soonest, latest)) = match done {
            Ok(done) => done,
            Err(error) => {
                let yellow = AnsiColor::Yellow.on_default();
                writeln!(out, "  {yellow}routine {name} fails as after a reset: {error}{yellow:#}")?;
                continue;
            }
        };
        let millis = |micros: u64| format!("{} ms", short(micros as f64 / 1000.0));
        let time = if soonest == latest { millis(latest) } else { format!("{}, at the most {}", millis(soonest), millis(latest)) };
        writeln!(out, "  routine {name}: {}, {time}", count(operations, "operation"))?;
    }
    Ok(())
}

/// How many operations a routine is, and the microseconds it takes: the least and the most.
type Laid = (usize, (u64, u64));

/// The routines, laid out as after a reset.
fn routines(part: &Part) -> Vec<(&str, Result<Laid, RoutineError>)> {
    let done = |index: usize| {
        let runner = Runner::new(part, index, Settings::reset(part))?;
        Some(dry_run(runner.dry()).map(|(list, total)| (list.len(), total)))
    };
    part.routines().iter().enumerate().filter_map(|(index, routine)| Some((routine.name(), done(index)?))).collect()
}

/// "1 byte", "2 bytes".
fn count(number: usize, what: &str) -> String {
    format!("{number} {what}{}", if number == 1 { "" } else { "s" })
}

fn extent(outcome: &Outcome, decimals: usize) -> String {
    match outcome.extent {
        Some(extent) if !(extent.low.is_finite() && extent.high.is_finite()) => "any number".into(),
        Some(extent) => {
            let about = if extent.exact { "" } else { "within " };
            format!("{about}{:.decimals$} to {:.decimals$}", extent.low, extent.high)
        }
        None => "nothing".into(),
    }
}

/// Whether the formula can run into a fault.
fn arithmetic(outcome: &Outcome) -> Cell {
    let (text, color) = match (outcome.proof, outcome.faults.is_empty()) {
        (Proof::Proved, _) => ("proved".to_owned(), AnsiColor::Green),
        (Proof::Tried, true) => ("every code tried".to_owned(), AnsiColor::Green),
        (Proof::Tried, false) => ("can fail".to_owned(), AnsiColor::Yellow),
        (Proof::Doubted(_, _), false) => ("can fail".to_owned(), AnsiColor::Yellow),
        (Proof::Doubted(doubts, tried), true) => {
            (format!("{} not proved, {tried} inputs tried", count(doubts, "operation")), AnsiColor::Yellow)
        }
    };
    Cell { text, style: color.on_default() }
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
        // How the first of them came about; the first step that is not as the example has it is where to look.
        let steps = run.mismatches.iter().map(|mismatch| &mismatch.steps).find(|steps| !steps.is_empty());
        let mut marked = false;
        for (text, differs) in steps.into_iter().flatten() {
            let mark = match differs {
                Some(expected) if !marked => format!("  {0}← first differs: expected {expected}{0:#}", AnsiColor::Red.on_default().bold()),
                Some(expected) => format!("  ← expected {expected}"),
                None => String::new(),
            };
            marked |= differs.is_some();
            writeln!(out, "      {text}{mark}")?;
        }
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
                "proved": outcome.as_ref().is_some_and(|o| o.proof == Proof::Proved),
                "faults": outcome.map_or(Vec::new(), |o| o.faults).iter().map(|fault| json!({
                    "kind": fault.kind.describe(),
                    "line": fault.span.map(|span| part.source().line_column(span.start).0),
                    "codes": fault.codes.iter().map(|(name, code)| (name.clone(), json!(*code as i64))).collect::<serde_json::Map<_, _>>(),
                })).collect::<Vec<_>>(),
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
        "routines": routines(part)
            .iter()
            .filter_map(|(name, done)| Some((name, done.as_ref().ok()?)))
            .map(|(name, (operations, (soonest, latest)))| json!({ "name": name, "operations": operations, "least_us": soonest, "most_us": latest }))
            .collect::<Vec<_>>(),
        "examples": runs.len(),
        "mismatches": mismatches,
        "problems": warnings,
    });
    Ok(writeln!(out, "{line}")?)
}

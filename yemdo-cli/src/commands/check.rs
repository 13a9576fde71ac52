//! `yemdo check`: validates sheets, runs their examples, and lists possible values.

use std::io::Write;

use anstyle::{AnsiColor, Style};
use yemdo::bus::{Sharing, share_bus};
use yemdo::part::{Origin, Reading};
use yemdo::review::{ExampleRun, Prediction, Proof, Review};
use yemdo::view::{BusView, CheckView, unreadable, unsound};
use yemdo::{Part, State, render_all, with_unit};

use crate::args::{Check, CheckFormat};
use crate::failure::Failure;
use crate::input;
use crate::output::json_line;
use crate::show::grid::{Align, Cell, Grid};
use crate::show::number::digits;
use yemdo::counted;

pub(crate) fn run(args: &Check) -> Result<u8, Failure> {
    let mut out = anstream::stdout().lock();
    let mut worst = 0;
    let mut parts: Vec<(String, Part)> = Vec::new();
    for path in &args.sheets {
        let name = path.display().to_string();
        // A sheet, then each of its variants; an error in one does not stop the others.
        let mut wanted = vec![None];
        while let Some(variant) = wanted.pop() {
            match input::load(path, variant.as_deref()) {
                Ok(part) => {
                    if variant.is_none() {
                        wanted.extend(part.variants().iter().rev().cloned().map(Some));
                    }
                    let review = Review::new(&part);
                    worst = worst.max(u8::from(review.examples.iter().any(|run| !run.mismatches.is_empty())));
                    match args.format {
                        CheckFormat::Table => {
                            if !parts.is_empty() {
                                writeln!(out)?;
                            }
                            table(&mut out, &part, &name, &review)?;
                            if args.forms {
                                crate::show::forms::write(&mut out, &part, args.step)?;
                            }
                        }
                        CheckFormat::Json => json_line(&mut out, &CheckView::new(&name, &part, &review))?,
                    }
                    parts.push((name.clone(), part));
                }
                Err(failure) => {
                    match (&failure, args.format) {
                        (Failure::Sheet(error), CheckFormat::Json) => {
                            json_line(&mut out, &unsound(&name, error))?;
                        }
                        (_, CheckFormat::Json) => {
                            json_line(&mut out, &unreadable(&name, failure.message()))?;
                            writeln!(anstream::stderr(), "{failure}")?;
                        }
                        _ => writeln!(anstream::stderr(), "{failure}")?,
                    }
                    worst = worst.max(failure.code());
                }
            }
        }
    }
    if args.one_bus {
        worst = worst.max(clashes(&mut out, &parts, args.format)?);
    }
    Ok(worst)
}

/// Parts that cannot share a bus: no choice of straps gives each an address of its own.
fn clashes(out: &mut dyn Write, parts: &[(String, Part)], format: CheckFormat) -> Result<u8, Failure> {
    let on_bus: Vec<Sharing<'_>> =
        parts.iter().filter_map(|(_, part)| Some((part.name(), part.buses().i2c.as_ref()?.addresses()))).collect();
    let found = share_bus(&on_bus);
    if format == CheckFormat::Json {
        json_line(&mut *out, &BusView::new(&on_bus, &found))?;
        return Ok(u8::from(found.is_err()));
    }
    let clashes = match found {
        Ok(given) => {
            let list: Vec<String> = on_bus.iter().zip(&given).map(|((part, _), address)| format!("{part} 0x{address:02X}")).collect();
            writeln!(out, "\none bus: {}", list.join(", "))?;
            return Ok(0);
        }
        Err(clashes) => clashes,
    };
    let red = AnsiColor::BrightRed.on_default().bold();
    let named = |(name, fixed): &(String, bool)| format!("{name} ({})", if *fixed { "fixed" } else { "strapped" });
    for clash in &clashes {
        let shared: Vec<String> = clash.addresses.iter().map(|address| format!("0x{address:02X}")).collect();
        writeln!(out, "\n{red}one bus{red:#}: {} and {} clash at {}", named(&clash.one), named(&clash.other), shared.join(", "))?;
    }
    writeln!(out, "no combination of straps gives different addresses: use a second bus or a multiplexer")?;
    Ok(1)
}

fn table(out: &mut dyn Write, part: &Part, path: &str, review: &Review) -> Result<(), Failure> {
    let (bold, dim) = (Style::new().bold(), Style::new().dimmed());
    writeln!(out, "{bold}{}{bold:#}  {}  {dim}{path}{dim:#}", part.name(), part.title().unwrap_or(""))?;
    for wire in part.buses().all().filter_map(|bus| part.buses().wire(bus)) {
        for line in wire.describe() {
            writeln!(out, "  {line}")?;
        }
    }
    if !part.registers().is_empty() {
        writeln!(out, "  {}, {}", counted(part.registers().len(), "register"), counted(part.fields().len(), "field"))?;
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
            Origin::Read(one) if one.command.is_empty() => String::new(),
            Origin::Read(one) => format!(" after {}{}", one.command.text(part), if one.wait.is_some() { " and a wait" } else { "" }),
            Origin::Registers(runs) => format!(" of registers, {}", counted(runs.len(), "transfer")),
            Origin::Transfers(transfers) => format!(", {}", counted(transfers.len(), "transfer")),
            Origin::Modbus(range) => format!(": {range}"),
            _ => String::new(),
        };
        writeln!(
            out,
            "  frame {}: {}{from}, {}, {checks}",
            frame.name(),
            counted(frame.length(), "byte"),
            counted(frame.codes().len(), "code")
        )?;
    }
    let mut grid = Grid::new(2, &[Align::Left; 7]);
    grid.titles(&["reading", "unit", "possible values", "step", "stated range", "from", "arithmetic"]);
    // The elements of an array differ in nothing but their place.
    let mut shown: Vec<yemdo::Span> = Vec::new();
    let (mut faults, mut held) = (Vec::new(), Vec::new());
    let reset = State::while_read(part);
    for (id, reading) in part.readings().entries() {
        let Some(found) = review.prediction(id).filter(|_| !shown.contains(&reading.span())) else { continue };
        shown.push(reading.span());
        let elements = part.readings().iter().filter(|other| other.span() == reading.span()).count();
        let last = part.readings().iter().rfind(|other| other.span() == reading.span());
        let behind = last.and_then(|last| last.name().rsplit_once('_')).map_or("", |(_, behind)| behind);
        let name = if elements > 1 { format!("{} … _{behind}", reading.name()) } else { reading.name().to_owned() };
        let mut codes: Vec<&str> = part.codes().of(reading.codes()).map(|code| code.name()).collect();
        let more = if codes.len() > 3 { codes.len() - 2 } else { 0 };
        codes.truncate(codes.len() - more);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let inside = |low: f64, high: f64| found.extent.is_some_and(|extent| extent.low >= low && extent.high <= high);
        let stated = reading
            .range(part, &reset)
            .map_or("–".to_owned(), |(low, high)| format!("{low} to {high}{}", if inside(low, high) { ", never exceeded" } else { "" }));
        grid.row(vec![
            if reading.is_measured() { name.clone() } else { format!("({name})") }.into(),
            reading.unit().into(),
            extent(found).into(),
            step(found).into(),
            stated.into(),
            format!("{}{more}", codes.join(", ")).into(),
            arithmetic(found),
        ]);
        let with: Vec<String> = found
            .settings
            .iter()
            .filter_map(|(field, code)| {
                let field = part.fields().get(*field)?;
                Some(format!("{} = {}", field.name(), field.value_text(*code)))
            })
            .collect();
        if let Some((low, high)) = found.over_settings.filter(|_| reading.is_measured()) {
            held.push(format!(
                "{name}: with {}; over all settings {} to {}",
                with.join(", "),
                short(low),
                with_unit(short(high), reading.unit())
            ));
        }
        for fault in &found.faults {
            faults.push((reading.name().to_owned(), fault.clone()));
        }
    }
    if !part.readings().is_empty() {
        grid.write(out)?;
    }
    for line in held {
        writeln!(out, "  {line}")?;
    }
    for (_, reading) in part.readings().entries().filter(|(_, reading)| reading.is_derived()) {
        writeln!(out, "  {}", derived(part, reading))?;
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
    doubts(out, part, review)?;
    operations(out, part, review)?;
    examples(out, &review.examples, part)?;
    if !review.warnings.is_empty() {
        writeln!(out, "\n{}", render_all(&review.warnings, part.source(), true))?;
    }
    Ok(())
}

/// A derived quantity with its inputs and maximum gap.
fn derived(part: &Part, reading: &Reading) -> String {
    let from: Vec<&str> = part.readings().of(reading.derived_from()).map(|from| from.name()).collect();
    let unit = if reading.unit() == "1" { String::new() } else { format!(" in {}", reading.unit()) };
    let gap = reading.longest_gap().map_or(String::new(), |gap| format!(", over time, with gaps of up to {}", yemdo::time_text(gap)));
    format!("derived {}{unit}, from {}{gap}", reading.name(), from.join(" and "))
}

/// Quantities and routines. Every wait and every loop of a routine has an end, or the sheet is refused.
fn operations(out: &mut dyn Write, part: &Part, review: &Review) -> Result<(), Failure> {
    for quantity in part.quantities() {
        let held: Vec<&str> = part.fields().of(quantity.moves()).map(|field| field.name()).collect();
        let unit = if quantity.unit() == "1" { String::new() } else { format!(" in {}", quantity.unit()) };
        writeln!(out, "  quantity {}{unit}, held by {}", quantity.name(), held.join(" and "))?;
    }
    for routine in &review.routines {
        let name = &routine.name;
        let (operations, (soonest, latest)) = match &routine.outcome {
            Ok(laid) => (laid.operations, laid.time),
            Err(error) => {
                let yellow = AnsiColor::Yellow.on_default();
                writeln!(out, "  {yellow}routine {name} fails after a reset: {error}{yellow:#}")?;
                continue;
            }
        };
        let millis = |micros: u64| format!("{} ms", short(micros as f64 / 1000.0));
        let time = if soonest == latest { millis(latest) } else { format!("{}, at most {}", millis(soonest), millis(latest)) };
        writeln!(out, "  routine {name}: {}, {time}", counted(operations, "operation"))?;
    }
    Ok(())
}

fn extent(found: &Prediction) -> String {
    let digits = found.digits;
    match found.extent {
        Some(extent) if !(extent.low.is_finite() && extent.high.is_finite()) => "any number".into(),
        Some(extent) => {
            let about = if extent.exact { "" } else { "within " };
            format!("{about}{} to {}", digits.text(extent.low), digits.text(extent.high))
        }
        None => "nothing".into(),
    }
}

/// Whether the formula can run into a fault.
fn arithmetic(found: &Prediction) -> Cell {
    let sure = found.faults.is_empty() && matches!(found.proof, Proof::Proved | Proof::Tried);
    let color = if sure { AnsiColor::Green } else { AnsiColor::Yellow };
    Cell { text: found.arithmetic(), style: color.on_default() }
}

/// Where in the sheet the operations stand that are not proved, for readings that are not known to fail.
fn doubts(out: &mut dyn Write, part: &Part, review: &Review) -> Result<(), Failure> {
    for (id, reading) in part.readings().entries() {
        let open = |found: &&Prediction| matches!(found.proof, Proof::Doubted(..)) && found.faults.is_empty();
        for span in review.prediction(id).filter(open).map_or(&[] as &[_], |found| &found.doubts) {
            let text: Vec<&str> = part.source().slice(*span).split_whitespace().collect();
            writeln!(out, "  {}: not proved in line {}: `{}`", reading.name(), part.source().line_column(span.start).0, text.join(" "))?;
        }
    }
    Ok(())
}

/// A step, or the two ends of it where it is not the same everywhere.
fn step(found: &Prediction) -> String {
    match found.step {
        None => "–".into(),
        Some((low, high)) if high - low <= high * 1e-6 => short(high),
        Some((low, high)) => format!("{} to {}", short(low), short(high)),
    }
}

/// Four digits that count.
fn short(value: f64) -> String {
    digits(value, 4, 12)
}

fn examples(out: &mut dyn Write, runs: &[ExampleRun], part: &Part) -> Result<(), Failure> {
    let good = runs.iter().filter(|run| run.mismatches.is_empty()).count();
    let style = if good == runs.len() { AnsiColor::Green.on_default() } else { AnsiColor::BrightRed.on_default().bold() };
    match runs.len() {
        0 => writeln!(out, "  no worked examples")?,
        all => writeln!(out, "  {style}{good} of {all} worked examples agree{style:#}")?,
    }
    for run in runs.iter().filter(|run| !run.mismatches.is_empty()) {
        let (line, _) = part.source().line_column(run.span.start);
        let source = run.datasheet.as_ref().map_or(String::new(), |source| format!(", {source}"));
        let inherited = if part.inherits_examples() { "; inherited by the variant, which has no examples of its own" } else { "" };
        writeln!(out, "  line {line}{source}{inherited}")?;
        let mut grid = Grid::new(4, &[Align::Left, Align::Left, Align::Left]);
        for mismatch in &run.mismatches {
            grid.row(vec![
                mismatch.name.clone().into(),
                format!("expected {}", mismatch.expected).into(),
                Cell { text: format!("came out {}", mismatch.found), style: AnsiColor::BrightRed.on_default() },
            ]);
        }
        grid.write(out)?;
        // Steps of the first failing example, with a mark at the first difference.
        let steps = run.mismatches.iter().map(|mismatch| &mismatch.steps).find(|steps| !steps.is_empty());
        let mut marked = false;
        for (text, differs) in steps.into_iter().flatten() {
            let mark = match differs {
                Some(expected) if !marked => {
                    format!("  {0}← first differs: expected {expected}{0:#}", AnsiColor::BrightRed.on_default().bold())
                }
                Some(expected) => format!("  ← expected {expected}"),
                None => String::new(),
            };
            marked |= differs.is_some();
            writeln!(out, "      {text}{mark}")?;
        }
        if let Some(likely) = &run.likely {
            writeln!(out, "    likely change: {}", likely.what)?;
            for line in &likely.lines {
                writeln!(out, "      line {}: {}", line.line, line.after.trim())?;
            }
        }
    }
    Ok(())
}

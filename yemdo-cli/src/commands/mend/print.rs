//! Prints findings.

use std::io::Write;

use anstyle::{AnsiColor, Style};
use yemdo::mend::{BareFinding, ChangedLine, CheckFinding, Expectation, Finding, Findings, Observation, Suspect};
use yemdo::{FrameId, Part, ReadingId, counted, to_hex, visible, with_unit};

use crate::failure::Failure;
use crate::show::number::digits;

/// Maximum number of values to print for a reading.
const MOST_VALUES: usize = 4;

fn short(value: f64) -> String {
    digits(value, 5, 9)
}

/// Default number of findings, and their minimum weight relative to the first.
const MOST_SHOWN: usize = 4;
const LEAST_WEIGHT: f64 = 0.03;
/// Number of frames up to which every repetition is reported.
const FEW_FRAMES: usize = 4;

fn shown(findings: &Findings, most: Option<usize>) -> usize {
    let likely = findings.list.first().map_or(0.0, |first| first.weight * LEAST_WEIGHT);
    most.unwrap_or_else(|| findings.list.iter().take(MOST_SHOWN).take_while(|finding| finding.weight >= likely).count())
}

type Values = [Vec<(ReadingId, Option<f64>)>];

/// Values of a reading, with its unit.
fn values(part: &Part, rows: &Values, reading: ReadingId) -> String {
    let own = rows.iter().flatten().filter(|(id, _)| *id == reading);
    let texts: Vec<String> = own.map(|(_, value)| value.map_or("–".to_owned(), short)).collect();
    let more = if texts.len() > MOST_VALUES { ", …" } else { "" };
    let shown = texts.get(..MOST_VALUES.min(texts.len())).unwrap_or(&[]).join(", ");
    with_unit(format!("{shown}{more}"), part.readings()[reading].unit())
}

pub(super) fn table(
    out: &mut dyn Write,
    part: &Part,
    observation: &Observation,
    findings: &Findings,
    most: Option<usize>,
) -> Result<(), Failure> {
    let (bold, dim) = (Style::new().bold(), Style::new().dimmed());
    for expectation in &observation.expectations {
        let name = part.readings()[expectation.reading].name();
        writeln!(out, "{bold}{name}{bold:#} is {}, expected {}", values(part, &findings.now, expectation.reading), expectation.text(part))?;
    }
    suspects(out, observation, findings)?;
    for (id, low, high) in &findings.beyond {
        let reading = &part.readings()[*id];
        writeln!(out, "possible values with this sheet: {} to {}", short(*low), with_unit(short(*high), reading.unit()))?;
    }
    for name in &findings.unknown {
        writeln!(out, "{name} is unknown, and readings depend on it: --set {name}=VALUE")?;
    }
    writeln!(out)?;
    if findings.agree == findings.points {
        let what = if findings.points == 1 { "The value agrees".to_owned() } else { format!("All {} values agree", findings.points) };
        writeln!(out, "{what} with the sheet.")?;
        return Ok(());
    }
    if !findings.is_explained() {
        writeln!(out, "No change fits ({} tried, alone and in pairs).", counted(findings.tried, "change"))?;
        writeln!(out, "Check the expected value, and that the bytes belong to it. More frames help.")?;
        if !findings.list.is_empty() {
            writeln!(out, "\nPartial matches:")?;
        }
    }
    let shown = shown(findings, most);
    for (at, finding) in findings.list.iter().take(shown).enumerate() {
        if at > 0 {
            writeln!(out)?;
        }
        let of = if findings.points > 1 { format!("  {dim}{} of {} agree{dim:#}", finding.agree, findings.points) } else { String::new() };
        writeln!(out, "{bold}{}. {}{bold:#}{of}", at + 1, finding.what)?;
        one(out, part, observation, findings, finding)?;
    }
    let left = findings.list.len().saturating_sub(shown);
    if left > 0 {
        writeln!(out, "\n{dim}{} less likely: list all with `yemdo mend --most {}`{dim:#}", left, findings.list.len())?;
    }
    if most.is_none_or(|most| most > 1) {
        close(out, part, findings)?;
    }
    Ok(())
}

/// Prints suspect frames. In slow logs some repetitions are normal.
fn suspects(out: &mut dyn Write, observation: &Observation, findings: &Findings) -> Result<(), Failure> {
    let yellow = AnsiColor::Yellow.on_default();
    let mut stale = Vec::new();
    for suspect in &findings.suspects {
        match suspect {
            Suspect::Blank { frame, byte } => {
                let what = if *byte == 0 { "zeros" } else { "ones" };
                writeln!(out, "{yellow}frame {} is all {what}{yellow:#}: no response, or no measurement", frame + 1)?;
            }
            Suspect::Stale { frame } => stale.push(frame + 1),
            _ => {}
        }
    }
    if 2 * stale.len() >= observation.frames.len() || observation.frames.len() <= FEW_FRAMES && !stale.is_empty() {
        let list: Vec<String> = stale.iter().take(FEW_FRAMES).map(usize::to_string).collect();
        let more = if stale.len() > FEW_FRAMES { ", …" } else { "" };
        writeln!(out, "{yellow}repeated bytes{yellow:#} in frame {}{more}: read too early?", list.join(", "))?;
    }
    Ok(())
}

/// Prints a finding: changed lines, settings, readings.
fn one(out: &mut dyn Write, part: &Part, observation: &Observation, findings: &Findings, finding: &Finding) -> Result<(), Failure> {
    let dim = Style::new().dimmed();
    changed(out, part, &finding.lines)?;
    if !finding.settings.is_empty() {
        writeln!(out, "   no change of the sheet: --set {}", finding.settings.join(" --set "))?;
    }
    if let Some((low, high)) = finding.fits {
        writeln!(out, "   fits from {} to {}", short(low), short(high))?;
    }
    let told = |expectation: &Expectation| {
        format!("{} {}", part.readings()[expectation.reading].name(), values(part, &finding.values, expectation.reading))
    };
    let mut then: Vec<String> = observation.expectations.iter().map(told).collect();
    // Other readings that change.
    let known = |id: ReadingId| observation.expectations.iter().any(|expectation| expectation.reading == id);
    let mut moved: Vec<ReadingId> = Vec::new();
    for (before, after) in findings.now.iter().flatten().zip(finding.values.iter().flatten()) {
        if before.1 != after.1 && !known(before.0) && !moved.contains(&before.0) {
            moved.push(before.0);
        }
    }
    then.extend(moved.iter().take(4).map(|id| format!("{} {}", part.readings()[*id].name(), values(part, &finding.values, *id))));
    writeln!(out, "   gives {}", then.join("; "))?;
    for same in finding.same.iter().take(3) {
        writeln!(out, "   {dim}equivalent: {same}{dim:#}")?;
    }
    Ok(())
}

/// A line of the sheet, safe for terminals and with its tabs.
fn pasted(line: &str) -> String {
    line.trim_end().split('\t').map(visible).collect::<Vec<_>>().join("\t")
}

/// Prints changed lines.
fn changed(out: &mut dyn Write, part: &Part, lines: &[ChangedLine]) -> Result<(), Failure> {
    let (red, green, dim) = (AnsiColor::BrightRed.on_default(), AnsiColor::Green.on_default(), Style::new().dimmed());
    for line in lines {
        writeln!(out, "   {dim}{}:{}{dim:#}", part.source().name(), line.line)?;
        for before in line.before.trim().lines() {
            writeln!(out, "   {red}- {}{red:#}", pasted(before))?;
        }
        for after in line.after.trim().lines() {
            writeln!(out, "   {green}+ {}{green:#}", pasted(after))?;
        }
    }
    Ok(())
}

/// Prints the next measurement to make.
fn close(out: &mut dyn Write, part: &Part, findings: &Findings) -> Result<(), Failure> {
    if let Some(apart) =
        findings.apart.filter(|_| findings.list.get(1).is_some_and(|second| second.weight >= LEAST_WEIGHT * findings.list[0].weight))
    {
        let reading = &part.readings()[apart.reading];
        let unit = reading.unit();
        writeln!(
            out,
            "\nTo decide between 1 and 2, measure with {} near {}: 2 gives {} there.",
            reading.name(),
            with_unit(short(apart.first), unit),
            with_unit(short(apart.second), unit)
        )?;
    }
    if findings.points == 1 && !findings.list.is_empty() {
        writeln!(out, "\nA single value is weak evidence. Add two more, far from this one.")?;
    }
    Ok(())
}

pub(super) fn checks(
    out: &mut dyn Write,
    part: &Part,
    frame: FrameId,
    frames: &[Vec<u8>],
    found: &[CheckFinding],
    most: Option<usize>,
) -> Result<(), Failure> {
    let (bold, dim) = (Style::new().bold(), Style::new().dimmed());
    let name = part.frames()[frame].name();
    let all = if frames.len() == 1 { String::new() } else { format!(" in all {}", counted(frames.len(), "frame")) };
    writeln!(out, "{bold}{name}{bold:#}: the check fails{all}")?;
    if found.is_empty() {
        let more = if frames.len() < 3 { "; with three frames, all polynomials of 8 and 16 bits are tried" } else { "" };
        writeln!(out, "\nNo sum, XOR or CRC fits all of them{more}.")?;
        writeln!(out, "Check that the frames are complete, from the first byte to the last.")?;
        return Ok(());
    }
    for (at, finding) in found.iter().take(most.unwrap_or(MOST_SHOWN)).enumerate() {
        writeln!(out, "\n{bold}{}. {}{bold:#}", at + 1, finding.what)?;
        if finding.lines.is_empty() {
            writeln!(out, "   check = {}", finding.text)?;
        }
        changed(out, part, &finding.lines)?;
        if finding.bits < 8 {
            writeln!(out, "   {dim}weak evidence: random frames pass it too, add more frames{dim:#}")?;
        }
    }
    Ok(())
}

pub(super) fn bare(out: &mut dyn Write, frames: &[Vec<u8>], found: &[BareFinding], most: Option<usize>) -> Result<(), Failure> {
    let (bold, dim) = (Style::new().bold(), Style::new().dimmed());
    let bytes: Vec<String> = frames.iter().map(|frame| to_hex(frame)).collect();
    writeln!(out, "{}", bytes.join("; "))?;
    if found.is_empty() {
        writeln!(out, "\nNo code of 8 to 32 bits with a scale and an offset fits.")?;
        return Ok(());
    }
    for (at, finding) in found.iter().take(most.unwrap_or(MOST_SHOWN)).enumerate() {
        let values: Vec<String> = finding.values.iter().map(|value| short(*value)).collect();
        writeln!(out, "\n{bold}{}. {}{bold:#}, {}  {dim}gives {}{dim:#}", at + 1, finding.layout, finding.formula, values.join(", "))?;
        writeln!(out, "   code    = {{ x = \"{}\" }}", finding.layout)?;
        writeln!(out, "   formula = \"{}\"", finding.formula)?;
    }
    if frames.len() == 1 {
        writeln!(out, "\nA single frame is weak evidence. Add a second one, far from it.")?;
    }
    Ok(())
}

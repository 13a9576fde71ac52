//! Findings as people read them.

use std::io::Write;

use anstyle::{AnsiColor, Style};
use yemdo::mend::{BareFinding, ChangedLine, CheckFinding, Evidence, Finding, Findings, Suspect, Truth};
use yemdo::{FrameId, Part, ReadingId, counted, to_hex, with_unit};

use crate::failure::Failure;
use crate::show::number::digits;

/// Values of a reading that are shown, at most.
const MOST_VALUES: usize = 4;

fn short(value: f64) -> String {
    digits(value, 5, 9)
}

/// Findings that are shown unless more are asked for: so many, none of them this much less likely than the first.
const MOST_SHOWN: usize = 4;
const LEAST_WEIGHT: f64 = 0.03;

fn shown(findings: &Findings, most: Option<usize>) -> usize {
    let likely = findings.list.first().map_or(0.0, |first| first.weight * LEAST_WEIGHT);
    most.unwrap_or_else(|| findings.list.iter().take(MOST_SHOWN).take_while(|finding| finding.weight >= likely).count())
}

type Values = [Vec<(ReadingId, Option<f64>)>];

/// What a reading is at the frames that bring it.
fn values(part: &Part, rows: &Values, reading: ReadingId) -> String {
    let own = rows.iter().flatten().filter(|(id, _)| *id == reading);
    let texts: Vec<String> = own.map(|(_, value)| value.map_or("–".to_owned(), short)).collect();
    let more = if texts.len() > MOST_VALUES { ", …" } else { "" };
    let shown = texts.get(..MOST_VALUES.min(texts.len())).unwrap_or(&[]).join(", ");
    with_unit(format!("{shown}{more}"), part.readings()[reading].unit())
}

pub(super) fn table(out: &mut dyn Write, part: &Part, evidence: &Evidence, findings: &Findings, most: Option<usize>) -> Result<(), Failure> {
    let (bold, dim, yellow) = (Style::new().bold(), Style::new().dimmed(), AnsiColor::Yellow.on_default());
    for truth in &evidence.truths {
        let name = part.readings()[truth.reading].name();
        writeln!(out, "{bold}{name}{bold:#} is {}; known: {}", values(part, &findings.now, truth.reading), truth.text(part))?;
    }
    for suspect in &findings.suspects {
        match suspect {
            Suspect::Blank { frame, byte } => {
                let what = if *byte == 0 { "zeros" } else { "ones" };
                writeln!(out, "{yellow}frame {} is all {what}{yellow:#}: nobody answered, or nothing was measured", frame + 1)?;
            }
            Suspect::Stale { frame } => {
                writeln!(out, "{yellow}frame {} is as the one before{yellow:#}: nothing new was measured?", frame + 1)?;
            }
            _ => {}
        }
    }
    for (id, low, high) in &findings.beyond {
        let reading = &part.readings()[*id];
        writeln!(out, "with this sheet it can only be {} to {}", short(*low), with_unit(short(*high), reading.unit()))?;
    }
    writeln!(out)?;
    if findings.agree == findings.points {
        let what = if findings.points == 1 { "This agrees".to_owned() } else { format!("All {} values agree", findings.points) };
        writeln!(out, "{what} with the sheet as it is.")?;
        return Ok(());
    }
    let whole = findings.list.iter().any(|finding| finding.agree == findings.points);
    if !whole {
        writeln!(out, "Nothing fits: {} tried, alone and in pairs.", counted(findings.tried, "change"))?;
        writeln!(out, "Is what is known right? Are these the bytes of that moment? Another frame says more.")?;
        if !findings.list.is_empty() {
            writeln!(out, "\nWhat fits in part:")?;
        }
    }
    let shown = shown(findings, most);
    for (at, finding) in findings.list.iter().take(shown).enumerate() {
        if at > 0 {
            writeln!(out)?;
        }
        let of = if findings.points > 1 { format!("  {dim}{} of {} agree{dim:#}", finding.agree, findings.points) } else { String::new() };
        writeln!(out, "{bold}{}. {}{bold:#}{of}", at + 1, finding.what)?;
        one(out, part, evidence, findings, finding)?;
    }
    let left = findings.list.len().saturating_sub(shown);
    if left > 0 {
        writeln!(out, "\n{dim}{} less likely: --most {} shows them{dim:#}", left, findings.list.len())?;
    }
    if most.is_none_or(|most| most > 1) {
        close(out, part, findings)?;
    }
    Ok(())
}

/// A finding: its lines, what was in force, and what the readings are then.
fn one(out: &mut dyn Write, part: &Part, evidence: &Evidence, findings: &Findings, finding: &Finding) -> Result<(), Failure> {
    let dim = Style::new().dimmed();
    changed(out, part, &finding.lines)?;
    if !finding.settings.is_empty() {
        writeln!(out, "   the sheet stays as it is: --set {}", finding.settings.join(" --set "))?;
    }
    if let Some((low, high)) = finding.fits {
        writeln!(out, "   any value from {} to {} fits", short(low), short(high))?;
    }
    let told = |truth: &Truth| format!("{} {}", part.readings()[truth.reading].name(), values(part, &finding.values, truth.reading));
    let mut then: Vec<String> = evidence.truths.iter().map(told).collect();
    // Others that the change moves too.
    let known = |id: ReadingId| evidence.truths.iter().any(|truth| truth.reading == id);
    let mut moved: Vec<ReadingId> = Vec::new();
    for (before, after) in findings.now.iter().flatten().zip(finding.values.iter().flatten()) {
        if before.1 != after.1 && !known(before.0) && !moved.contains(&before.0) {
            moved.push(before.0);
        }
    }
    then.extend(moved.iter().take(4).map(|id| format!("{} {}", part.readings()[*id].name(), values(part, &finding.values, *id))));
    writeln!(out, "   then {}", then.join("; "))?;
    for same in finding.same.iter().take(3) {
        writeln!(out, "   {dim}or, with the same values: {same}{dim:#}")?;
    }
    Ok(())
}

/// Lines of the sheet before and after.
fn changed(out: &mut dyn Write, part: &Part, lines: &[ChangedLine]) -> Result<(), Failure> {
    let (red, green, dim) = (AnsiColor::BrightRed.on_default(), AnsiColor::Green.on_default(), Style::new().dimmed());
    for line in lines {
        writeln!(out, "   {dim}{}:{}{dim:#}", part.source().name(), line.line)?;
        for before in line.before.trim().lines() {
            writeln!(out, "   {red}- {}{red:#}", before.trim_end())?;
        }
        for after in line.after.trim().lines() {
            writeln!(out, "   {green}+ {}{green:#}", after.trim_end())?;
        }
    }
    Ok(())
}

/// How sure it is, and what would make it surer.
fn close(out: &mut dyn Write, part: &Part, findings: &Findings) -> Result<(), Failure> {
    if let Some(apart) = findings.apart.filter(|_| findings.list.get(1).is_some_and(|second| second.weight >= LEAST_WEIGHT * findings.list[0].weight)) {
        let reading = &part.readings()[apart.reading];
        let unit = reading.unit();
        writeln!(
            out,
            "\n1 or 2? Measure once more where {} is about {}: by the second it would be {}.",
            reading.name(),
            with_unit(short(apart.first), unit),
            with_unit(short(apart.second), unit)
        )?;
    }
    if findings.points == 1 && !findings.list.is_empty() {
        writeln!(out, "\nOne value alone is weak evidence: two more, far from this one, tell most of these apart.")?;
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
    writeln!(out, "{bold}{name}{bold:#}: its check fails in all of {}", counted(frames.len(), "frame"))?;
    if found.is_empty() {
        let more = if frames.len() < 3 { "; with three frames any polynomial of 8 or 16 bits is tried" } else { "" };
        writeln!(out, "\nNo sum, XOR or CRC fits all of them{more}.")?;
        writeln!(out, "Are bytes missing at an end, or some of another frame?")?;
        return Ok(());
    }
    for (at, finding) in found.iter().take(most.unwrap_or(MOST_SHOWN)).enumerate() {
        writeln!(out, "\n{bold}{}. {}{bold:#}", at + 1, finding.what)?;
        if finding.lines.is_empty() {
            writeln!(out, "   check = {}", finding.text)?;
        }
        changed(out, part, &finding.lines)?;
        if finding.bits < 8 {
            writeln!(out, "   {dim}so few frames pass it by chance as well: give more{dim:#}")?;
        }
    }
    Ok(())
}

pub(super) fn bare(out: &mut dyn Write, frames: &[Vec<u8>], found: &[BareFinding], most: Option<usize>) -> Result<(), Failure> {
    let (bold, dim) = (Style::new().bold(), Style::new().dimmed());
    let bytes: Vec<String> = frames.iter().map(|frame| to_hex(frame)).collect();
    writeln!(out, "{}", bytes.join("; "))?;
    if found.is_empty() {
        writeln!(out, "\nNo code of 8 to 32 bits gives that with a scale and an offset.")?;
        return Ok(());
    }
    for (at, finding) in found.iter().take(most.unwrap_or(MOST_SHOWN)).enumerate() {
        let values: Vec<String> = finding.values.iter().map(|value| short(*value)).collect();
        writeln!(out, "\n{bold}{}. {}{bold:#}, {}  {dim}gives {}{dim:#}", at + 1, finding.layout, finding.formula, values.join(", "))?;
        writeln!(out, "   code    = {{ x = \"{}\" }}", finding.layout)?;
        writeln!(out, "   formula = \"{}\"", finding.formula)?;
    }
    if frames.len() == 1 {
        writeln!(out, "\nOne frame alone is weak evidence: a second, far from this one, tells most of these apart.")?;
    }
    Ok(())
}

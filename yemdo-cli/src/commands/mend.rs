//! `yemdo mend`: the line of the sheet to change if a number is wrong.

mod observation;
mod print;
mod reference;

pub(crate) use observation::{Gathered, last};

use std::path::Path;

use yemdo::mend::{Expectation, Findings, find_checks, from_bytes, mend, mended};
use yemdo::view::{BareView, CheckFindingView, MendedView};
use yemdo::{FrameId, Part, parse_hex};

use crate::args::{CheckFormat, Mend};
use crate::failure::Failure;
use crate::input;
use crate::output::{json_line, write_file};
use reference::Reference;

pub(crate) fn run(args: &Mend) -> Result<u8, Failure> {
    if args.no_sheet {
        return without_sheet(args);
    }
    let Some((sheet, bytes)) = args.words.split_first() else { return Ok(2) };
    let part = input::load(Path::new(sheet), args.variant.as_deref())?;
    let mut gathered = observation::gather(args, &part, bytes)?;
    if let Some((frame, frames)) = gathered.all_fail() {
        return checks(args, &part, frame, &frames);
    }
    if args.example.is_none() {
        gathered.observation.expectations = expectations(&part, &args.expectations, args.reference.as_deref(), &mut gathered)?;
    }
    let findings = found(&part, &gathered)?;
    let mut out = anstream::stdout().lock();
    match args.format {
        CheckFormat::Json => json_line(&mut out, &MendedView::new(&part, &findings))?,
        CheckFormat::Table => print::table(&mut out, &part, &gathered.observation, &findings, args.most)?,
    }
    if let Some((number, path)) = args.apply.zip(args.out.as_deref()) {
        let finding = findings.list.get(number.wrapping_sub(1)).ok_or_else(|| no_such(&findings, number))?;
        if finding.edits.is_empty() {
            return Err(Failure::error(format!("finding {number} does not change the sheet")).help("it is a setting: use --set"));
        }
        write_file(path, mended(&part, finding).as_bytes(), args.overwrite)?;
    }
    Ok(u8::from(!findings.is_explained()))
}

/// Validates the expectations, reports skipped frames, and searches.
fn found(part: &Part, gathered: &Gathered) -> Result<Findings, Failure> {
    gathered.fit_expectations(part)?;
    gathered.tell(part);
    Ok(mend(part, &gathered.observation))
}

/// Findings as a table, for the console.
pub(crate) fn console(part: &Part, mut gathered: Gathered, typed: &[String]) -> Result<(), Failure> {
    gathered.observation.expectations = expectations(part, typed, None, &mut gathered)?;
    let findings = found(part, &gathered)?;
    print::table(&mut anstream::stdout(), part, &gathered.observation, &findings, None)
}

fn no_such(findings: &Findings, number: usize) -> Failure {
    let failure = Failure::error(format!("no finding {number}"));
    match findings.list.len() {
        0 => failure.help("no change fits"),
        count => failure.help(format!("findings are 1 to {count}")),
    }
}

/// Parses expectations and reports all errors together.
fn expectations(part: &Part, typed: &[String], log: Option<&Path>, gathered: &mut Gathered) -> Result<Vec<Expectation>, Failure> {
    if typed.is_empty() {
        let one = part.readings().iter().find(|reading| reading.is_measured()).map_or("temperature", |reading| reading.name());
        let failure = Failure::error("missing expected value");
        return Err(failure.help(format!("add --expect '{one}=24 ± 3 °C'")));
    }
    let (mut expectations, mut wrong) = (Vec::new(), Vec::new());
    let mut references = Vec::new();
    for typed in typed {
        if reference::is_meant(typed) {
            match Reference::parse(part, typed, log) {
                Ok(reference) => references.push(reference),
                Err(error) => wrong.push(error),
            }
            continue;
        }
        match Expectation::parse(part, typed) {
            Ok(expectation) => expectations.push(expectation),
            Err(error) => wrong.push(Failure::helped(error.message, error.help)),
        }
    }
    if !wrong.is_empty() {
        return Err(Failure::several(wrong.into_iter()));
    }
    // Each reference drops frames, so all do before the values are counted.
    references.iter().for_each(|reference| reference.drop_frames(part, gathered));
    for reference in &references {
        expectations.push(reference.expectation(part, gathered)?);
    }
    Ok(expectations)
}

/// Finds the check of frames that all fail the check in the sheet.
fn checks(args: &Mend, part: &Part, frame: FrameId, frames: &[Vec<u8>]) -> Result<u8, Failure> {
    let found = find_checks(part, frame, frames);
    let mut out = anstream::stdout().lock();
    match args.format {
        CheckFormat::Json => found.iter().try_for_each(|finding| json_line(&mut out, &CheckFindingView::from(finding)))?,
        CheckFormat::Table => print::checks(&mut out, part, frame, frames, &found, args.most)?,
    }
    if let Some((number, path)) = args.apply.zip(args.out.as_deref()) {
        let finding = found.get(number.wrapping_sub(1)).filter(|finding| !finding.edits.is_empty());
        let finding =
            finding.ok_or_else(|| Failure::error(format!("finding {number} cannot be applied")).help("paste the line into the sheet"))?;
        write_file(path, finding.applied(part).as_bytes(), args.overwrite)?;
    }
    Ok(u8::from(found.is_empty()))
}

/// Finds codes without a sheet.
fn without_sheet(args: &Mend) -> Result<u8, Failure> {
    let typed = args.words.join(" ");
    let mut frames = Vec::new();
    for typed in typed.split(';') {
        frames.push(parse_hex(typed).map_err(|error| Failure::error(error.to_string()).help("write bytes in hex, as in `2E 81 00`"))?);
    }
    let [expectation] = args.expectations.as_slice() else {
        return Err(Failure::error("missing expected value").help("add --expect '21.5 ± 0.5'"));
    };
    let known = Expectation::parse_bare(expectation).map_err(|error| Failure::helped(error.message, error.help))?;
    if known.len() > 1 && known.len() != frames.len() {
        return Err(Failure::error(format!("{} frames, but {} expected values", frames.len(), known.len()))
            .help("write one value for all frames, or one per frame"));
    }
    let found = from_bytes(&frames, &known);
    let mut out = anstream::stdout().lock();
    match args.format {
        CheckFormat::Json => found.iter().try_for_each(|finding| json_line(&mut out, &BareView::from(finding)))?,
        CheckFormat::Table => print::bare(&mut out, &frames, &found, args.most)?,
    }
    Ok(u8::from(found.is_empty()))
}

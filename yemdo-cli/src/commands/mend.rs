//! `yemdo mend`: why a number is wrong, and the line of the sheet to change.

mod evidence;
mod told;

pub(crate) use evidence::{Gathered, last};

use std::path::Path;

use yemdo::mend::{Findings, Truth, find_checks, from_bytes, mend, mended};
use yemdo::view::{BareView, CheckFindingView, MendedView};
use yemdo::{FrameId, Part, parse_hex};

use crate::args::{CheckFormat, Mend};
use crate::failure::Failure;
use crate::input;
use crate::output::{json_line, write_file};

pub(crate) fn run(args: &Mend) -> Result<u8, Failure> {
    if args.no_sheet {
        return without_sheet(args);
    }
    let Some((sheet, bytes)) = args.words.split_first() else { return Ok(2) };
    let part = input::load(Path::new(sheet), args.variant.as_deref())?;
    let mut gathered = evidence::gather(args, &part, bytes)?;
    if let Some((frame, frames)) = gathered.all_fail() {
        return checks(args, &part, frame, &frames);
    }
    if args.example.is_none() {
        gathered.evidence.truths = truths(&part, &args.truths)?;
    }
    let findings = found(&part, &gathered)?;
    let mut out = anstream::stdout().lock();
    match args.format {
        CheckFormat::Json => json_line(&mut out, &MendedView::new(&part, &findings))?,
        CheckFormat::Table => told::table(&mut out, &part, &gathered.evidence, &findings, args.most)?,
    }
    if let Some((number, path)) = args.apply.zip(args.out.as_deref()) {
        let finding = findings.list.get(number.wrapping_sub(1)).ok_or_else(|| no_such(&findings, number))?;
        if finding.edits.is_empty() {
            return Err(Failure::told(format!("finding {number} changes nothing in the sheet"))
                .help("it says what was in force: give it with --set"));
        }
        write_file(path, mended(&part, finding).as_bytes(), args.overwrite)?;
    }
    let fits = findings.agree == findings.points || findings.list.iter().any(|finding| finding.agree == findings.points);
    Ok(u8::from(!fits))
}

/// What is found, after what was left out is said.
fn found(part: &Part, gathered: &Gathered) -> Result<Findings, Failure> {
    gathered.fit_truths(part)?;
    gathered.tell(part);
    Ok(mend(part, &gathered.evidence))
}

/// The same for a console, as a table.
pub(crate) fn console(part: &Part, mut gathered: Gathered, typed: &[String]) -> Result<(), Failure> {
    gathered.evidence.truths = truths(part, typed)?;
    let findings = found(part, &gathered)?;
    told::table(&mut anstream::stdout(), part, &gathered.evidence, &findings, None)
}

fn no_such(findings: &Findings, number: usize) -> Failure {
    let failure = Failure::told(format!("there is no finding {number}"));
    match findings.list.len() {
        0 => failure.help("nothing fits: there is nothing to apply"),
        count => failure.help(format!("there are 1 to {count}")),
    }
}

/// Truths as they are typed. All of them are read before the first complaint.
fn truths(part: &Part, typed: &[String]) -> Result<Vec<Truth>, Failure> {
    if typed.is_empty() {
        let one = part.readings().iter().find(|reading| reading.is_measured()).map_or("temperature", |reading| reading.name());
        let failure = Failure::told("nothing is known of the readings, so nothing can be wrong");
        return Err(failure.help(format!("say what one was about: --true '{one}=24 ± 3 °C'")));
    }
    let (mut truths, mut wrong) = (Vec::new(), Vec::new());
    for typed in typed {
        match Truth::parse(part, typed) {
            Ok(truth) => truths.push(truth),
            Err(error) => wrong.push(Failure::helped(error.message, error.help)),
        }
    }
    if wrong.is_empty() { Ok(truths) } else { Err(Failure::several(wrong.into_iter())) }
}

/// Frames that all fail their check: which check do they pass?
fn checks(args: &Mend, part: &Part, frame: FrameId, frames: &[Vec<u8>]) -> Result<u8, Failure> {
    let found = find_checks(part, frame, frames);
    let mut out = anstream::stdout().lock();
    match args.format {
        CheckFormat::Json => found.iter().try_for_each(|finding| json_line(&mut out, &CheckFindingView::from(finding)))?,
        CheckFormat::Table => told::checks(&mut out, part, frame, frames, &found, args.most)?,
    }
    if let Some((number, path)) = args.apply.zip(args.out.as_deref()) {
        let finding = found.get(number.wrapping_sub(1)).filter(|finding| !finding.edits.is_empty());
        let finding =
            finding.ok_or_else(|| Failure::told(format!("there is no finding {number} that can be applied")).help("paste it by hand"))?;
        write_file(path, finding.applied(part).as_bytes(), args.overwrite)?;
    }
    Ok(u8::from(found.is_empty()))
}

/// Bytes and a truth alone.
fn without_sheet(args: &Mend) -> Result<u8, Failure> {
    let typed = args.words.join(" ");
    let mut frames = Vec::new();
    for typed in typed.split(';') {
        frames.push(parse_hex(typed).map_err(|error| Failure::told(error.to_string()).help("write bytes in hex, as in `2E 81 00`"))?);
    }
    let [truth] = args.truths.as_slice() else {
        return Err(Failure::told("one --true is needed").help("say what the value was about: --true '21.5 ± 0.5'"));
    };
    let known = Truth::parse_bare(truth).map_err(|error| Failure::helped(error.message, error.help))?;
    if known.len() > 1 && known.len() != frames.len() {
        return Err(Failure::told(format!("there are {} frames and {} values", frames.len(), known.len()))
            .help("give one value for all, or one for each"));
    }
    let found = from_bytes(&frames, &known);
    let mut out = anstream::stdout().lock();
    match args.format {
        CheckFormat::Json => found.iter().try_for_each(|finding| json_line(&mut out, &BareView::from(finding)))?,
        CheckFormat::Table => told::bare(&mut out, &frames, &found, args.most)?,
    }
    Ok(u8::from(found.is_empty()))
}

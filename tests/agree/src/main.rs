//! Random sheets by the thousand: every way to ask held against every other.

#![allow(clippy::print_stdout, clippy::print_stderr, clippy::unwrap_used, missing_docs)] // a tool

use std::collections::BTreeMap;

use yemdo::Part;
use yemdo_agree::choices::{Choices, bytes_of};
use yemdo_agree::shrink::shrink;
use yemdo_agree::ways::firmware::{self, Numbered, Outcome};
use yemdo_agree::ways::{self, Tally};
use yemdo_agree::{CASE_BYTES, SHEET_BYTES, sheet};

const USAGE: &str =
    "agree FROM COUNT [--show] [--kind TEXT] [--c]\n\nHolds all ways against each other for the sheets of the seeds FROM, FROM + 1, …";

fn case(sheet: &[u8], cases: &[u8]) -> (String, Result<Tally, String>) {
    let text = sheet::random(&mut Choices::new(sheet));
    let outcome = match Part::parse("sheet.toml", &text) {
        Ok(part) => Ok(ways::all(&part, &mut Choices::new(cases))),
        Err(error) => Err(error.to_string()),
    };
    (text, outcome)
}

/// Compiles the sheets of the seeds.
fn compiled(from: u64, count: u64) {
    let texts: Vec<(u64, String)> =
        (from..from + count).map(|seed| (seed, sheet::random(&mut Choices::new(&bytes_of(seed, SHEET_BYTES))))).collect();
    let sheets: Vec<Numbered<'_>> = texts.iter().map(|(seed, text)| Numbered { seed: *seed, text }).collect();
    let folder = std::env::temp_dir().join(format!("yemdo-agree-{from}"));
    let halves = sheets.split_at(sheets.len() / 2);
    let outcomes: Vec<(u64, Outcome)> = std::thread::scope(|scope| {
        let other = scope.spawn(|| firmware::c(&folder, halves.0, &mut Tally::default()));
        let own = firmware::c(&folder, halves.1, &mut Tally::default());
        other.join().unwrap().into_iter().chain(own).collect()
    });
    let frames: u64 = outcomes.iter().map(|(_, outcome)| if let Outcome::Agrees(frames) = outcome { *frames } else { 0 }).sum();
    let agree = outcomes.iter().filter(|(_, outcome)| matches!(outcome, Outcome::Agrees(_))).count();
    println!("{count} sheets in C, {agree} agree with the decoder over {frames} frames");
    let wrong = |outcome: &Outcome| matches!(outcome, Outcome::Differs(_) | Outcome::NotCompiled(_));
    println!(
        "  {} are not emitted, and why is said",
        outcomes.iter().filter(|(_, outcome)| matches!(outcome, Outcome::NotEmitted(_))).count()
    );
    for (seed, outcome) in outcomes.iter().filter(|(_, outcome)| wrong(outcome)) {
        println!("  seed {seed}: {outcome:?}");
    }
    if outcomes.iter().any(|(_, outcome)| wrong(outcome)) {
        println!("files of those that differ: {}", folder.display());
        std::process::exit(1);
    }
    let _ = std::fs::remove_dir_all(&folder);
}

fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let number = |at: usize| args.get(at).and_then(|arg| arg.parse::<u64>().ok());
    let (Some(from), Some(count)) = (number(0), number(1)) else {
        eprintln!("{USAGE}");
        std::process::exit(2);
    };
    if args.iter().any(|arg| arg == "--c") {
        compiled(from, count);
        return;
    }
    let wanted = args.iter().position(|arg| arg == "--kind").and_then(|at| args.get(at + 1)).cloned();
    let mut total = Tally::default();
    let mut kinds: BTreeMap<&'static str, Vec<(u64, String)>> = BTreeMap::new();
    let mut refused = 0;
    for seed in from..from + count {
        let (sheet, cases) = (bytes_of(seed, SHEET_BYTES), bytes_of(!seed, CASE_BYTES));
        if args.iter().any(|arg| arg == "--show") {
            println!("{}", sheet::random(&mut Choices::new(&sheet)));
        }
        match case(&sheet, &cases).1 {
            Ok(tally) => {
                for difference in &tally.differences {
                    kinds.entry(difference.kind).or_default().push((seed, difference.what.clone()));
                }
                total.add(Tally { differences: Vec::new(), ..tally });
            }
            Err(error) => {
                refused += 1;
                println!("seed {seed} is refused: {error}");
            }
        }
    }
    println!("{count} sheets, {refused} refused");
    for (row, count) in &total.counts {
        println!("  {:<24}{count:>12}", row.name());
    }
    for (kind, list) in &kinds {
        let (seed, what) = &list[0];
        println!("{kind}: {} sheets, first seed {seed}: {what}", list.len());
    }
    if let Some(wanted) = wanted
        && let Some((kind, list)) = kinds.iter().find(|(kind, _)| kind.contains(&wanted))
    {
        let seed = list[0].0;
        let cases = bytes_of(!seed, CASE_BYTES);
        let shows =
            |sheet: &[u8], cases: &[u8]| case(sheet, cases).1.is_ok_and(|tally| tally.differences.iter().any(|found| found.kind == *kind));
        let small = shrink(&bytes_of(seed, SHEET_BYTES), 3000, |bytes| shows(bytes, &cases));
        let cases = shrink(&cases, 2000, |bytes| shows(&small, bytes));
        let (text, outcome) = case(&small, &cases);
        println!("\n{text}");
        for difference in outcome.unwrap().differences {
            println!("# {}: {}", difference.kind, difference.what);
        }
    }
    if !kinds.is_empty() || refused > 0 {
        std::process::exit(1);
    }
}

//! Random sheets by the thousand: every way to ask held against every other.

#![allow(clippy::print_stdout, clippy::print_stderr, clippy::unwrap_used, missing_docs)] // a tool

use std::collections::BTreeMap;

use yemdo::Part;
use yemdo_agree::choices::{Choices, bytes_of};
use yemdo_agree::shrink::shrink;
use yemdo_agree::ways::{self, Tally};
use yemdo_agree::{SHEET_BYTES, CASE_BYTES, sheet};

const USAGE: &str = "agree FROM COUNT [--show] [--kind TEXT]\n\nHolds all ways against each other for the sheets of the seeds FROM, FROM + 1, …";

fn case(sheet: &[u8], cases: &[u8]) -> (String, Result<Tally, String>) {
    let text = sheet::random(&mut Choices::new(sheet));
    let outcome = match Part::parse("sheet.toml", &text) {
        Ok(part) => Ok(ways::all(&part, &mut Choices::new(cases))),
        Err(error) => Err(error.to_string()),
    };
    (text, outcome)
}

fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let number = |at: usize| args.get(at).and_then(|arg| arg.parse::<u64>().ok());
    let (Some(from), Some(count)) = (number(0), number(1)) else {
        eprintln!("{USAGE}");
        std::process::exit(2);
    };
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
        let shows = |sheet: &[u8], cases: &[u8]| case(sheet, cases).1.is_ok_and(|tally| tally.differences.iter().any(|found| found.kind == *kind));
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

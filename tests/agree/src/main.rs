//! Random sheets by the thousand: every way to ask held against every other.

#![allow(clippy::print_stdout, clippy::print_stderr, clippy::unwrap_used, missing_docs)] // a tool

use std::collections::BTreeMap;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

use yemdo::Part;
use yemdo_agree::choices::{Choices, bytes_of};
use yemdo_agree::planted::{self, Measured};
use yemdo_agree::shrink::shrink;
use yemdo_agree::ways::firmware::{self, Numbered, Outcome};
use yemdo_agree::ways::{self, Tally, page, speed};
use yemdo_agree::{CASE_BYTES, SHEET_BYTES, sheet};

const USAGE: &str = "agree FROM COUNT [--show] [--kind TEXT] [--c] [--rust] [--python] [--page] [--speed] [--planted]\n\nHolds all ways against each other for the sheets of the seeds FROM, FROM + 1, …; with --speed, counts the instructions of decoding many frames;\nwith --python, PYTHON is the interpreter;\nwith --planted, plants mistakes into them (COUNT 0: into sheets/) and looks for them";

fn case(sheet: &[u8], cases: &[u8]) -> (String, Result<Tally, String>) {
    let text = sheet::random(&mut Choices::new(sheet));
    let outcome = match Part::parse("sheet.toml", &text) {
        Ok(part) => Ok(ways::all(&part, &mut Choices::new(cases))),
        Err(error) => Err(error.to_string()),
    };
    (text, outcome)
}

/// Compiles the sheets of the seeds.
fn compiled(language: &str, from: u64, count: u64) {
    let texts: Vec<(u64, String)> =
        (from..from + count).map(|seed| (seed, sheet::random(&mut Choices::new(&bytes_of(seed, SHEET_BYTES))))).collect();
    let sheets: Vec<Numbered<'_>> = texts.iter().map(|(seed, text)| Numbered { seed: *seed, text }).collect();
    let folder = std::env::temp_dir().join(format!("yemdo-agree-{language}-{from}"));
    let halves = sheets.split_at(sheets.len() / 2);
    let outcomes: Vec<(u64, Outcome)> = std::thread::scope(|scope| {
        let all = |place: &str, half| match language {
            "C" => firmware::c(&folder, half, &mut Tally::default()),
            "Python" => firmware::python(&folder.join(place), half),
            _ => firmware::rust(&folder.join(place), half),
        };
        let other = scope.spawn(move || all("one", halves.0));
        let own = all("two", halves.1);
        other.join().unwrap().into_iter().chain(own).collect()
    });
    let frames: u64 = outcomes.iter().map(|(_, outcome)| if let Outcome::Agrees(frames) = outcome { *frames } else { 0 }).sum();
    let agree = outcomes.iter().filter(|(_, outcome)| matches!(outcome, Outcome::Agrees(_))).count();
    println!("{count} sheets in {language}, {agree} agree with the decoder over {frames} frames");
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

/// Runs the calculators of the sheets' pages in a browser.
fn calculated(from: u64, count: u64) {
    let folder = std::env::temp_dir().join(format!("yemdo-agree-page-{from}"));
    match page::calculators(&folder, from, count) {
        Ok((compared, wrong)) => {
            println!("the calculators of {count} sheets, {compared} comparisons with the decoder");
            wrong.iter().for_each(|wrong| println!("  {wrong}"));
            if !wrong.is_empty() || compared == 0 {
                println!("see {}", folder.display());
                std::process::exit(1);
            }
            let _ = std::fs::remove_dir_all(&folder);
        }
        Err(why) => {
            eprintln!("{why}");
            std::process::exit(1);
        }
    }
}

/// Plants mistakes into random sheets, or into those that are shipped, and looks for them.
fn planted(from: u64, count: u64, show: bool) {
    let mut measured = Measured::default();
    if count == 0 {
        let mut shipped: Vec<_> = std::fs::read_dir("sheets").unwrap().map(|entry| entry.unwrap().path()).collect();
        shipped.sort();
        for path in shipped {
            let text = planted::text_of(&std::fs::read_to_string(&path).unwrap());
            planted::measure(&path.file_name().unwrap().to_string_lossy(), &text, from, &mut measured);
        }
    }
    (from..from + count).for_each(|seed| planted::measure(&format!("seed {seed}"), &planted::random(seed), seed, &mut measured));
    println!("{measured}");
    if show {
        measured.missed.iter().for_each(|missed| println!("{missed}"));
    }
}

/// What sheets gave.
#[derive(Default)]
struct Found {
    total: Tally,
    kinds: BTreeMap<&'static str, Vec<(u64, String)>>,
    refused: u64,
}

impl Found {
    fn take(&mut self, seed: u64, outcome: Result<Tally, String>) {
        match outcome {
            Ok(tally) => {
                for difference in &tally.differences {
                    self.kinds.entry(difference.kind).or_default().push((seed, difference.what.clone()));
                }
                self.total.add(Tally { differences: Vec::new(), ..tally });
            }
            Err(error) => {
                self.refused += 1;
                println!("seed {seed} is refused: {error}");
            }
        }
    }
}

/// All sheets, on all processors.
fn all(from: u64, count: u64) -> Found {
    let (next, found) = (AtomicU64::new(0), Mutex::new(Found::default()));
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(1, usize::from) {
            scope.spawn(|| {
                loop {
                    let at = next.fetch_add(1, Ordering::Relaxed);
                    if at >= count {
                        break;
                    }
                    let seed = from + at;
                    let (sheet, cases) = (bytes_of(seed, SHEET_BYTES), bytes_of(!seed, CASE_BYTES));
                    let outcome = case(&sheet, &cases).1;
                    found.lock().unwrap().take(seed, outcome);
                    if (at + 1).is_multiple_of(5000) {
                        eprintln!("{} sheets", at + 1);
                    }
                }
            });
        }
    });
    let mut found = found.into_inner().unwrap();
    found.kinds.values_mut().for_each(|list| list.sort());
    found
}

fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    // The process that is measured.
    if let [what, frame, seed, file, times] = args.as_slice()
        && what == "--decode"
    {
        speed::decode(frame.parse().unwrap(), seed.parse().unwrap(), file, times.parse().unwrap());
        return;
    }
    let number = |at: usize| args.get(at).and_then(|arg| arg.parse::<u64>().ok());
    let (Some(from), Some(count)) = (number(0), number(1)) else {
        eprintln!("{USAGE}");
        std::process::exit(2);
    };
    for (option, language) in [("--c", "C"), ("--rust", "Rust"), ("--python", "Python")] {
        if args.iter().any(|arg| arg == option) {
            compiled(language, from, count);
            return;
        }
    }
    if args.iter().any(|arg| arg == "--speed") {
        println!("{}", speed::distribution(&mut speed::measured(from, count)));
        return;
    }
    if args.iter().any(|arg| arg == "--planted") {
        planted(from, count, args.iter().any(|arg| arg == "--show"));
        return;
    }
    if args.iter().any(|arg| arg == "--page") {
        calculated(from, count);
        return;
    }
    let wanted = args.iter().position(|arg| arg == "--kind").and_then(|at| args.get(at + 1)).cloned();
    if args.iter().any(|arg| arg == "--show") {
        (from..from + count).for_each(|seed| println!("{}", sheet::random(&mut Choices::new(&bytes_of(seed, SHEET_BYTES)))));
    }
    let Found { total, kinds, refused } = all(from, count);
    println!("{count} sheets, {refused} refused");
    for (row, count) in &total.counts {
        println!("  {:<24}{count:>12}", row.name());
    }
    println!("  {:<24}{:>12}", "all", total.counts.values().sum::<u64>());
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

//! Emitted firmware: compiled with warnings as errors, and compared with the decoder by its test vectors.

use std::fs;
use std::path::Path;
use std::process::Command;

use yemdo::Part;
use yemdo::emit::{Emitted, Language, Options, firmware, vectors};

use super::{Row, Tally};

#[path = "../../../../yemdo/tests/common/cc.rs"]
mod cc;

use cc::CAREFUL;

/// Frames that a module is held against.
const FRAMES: usize = 150;

/// A part and the number that is its name's end.
pub struct Numbered<'p> {
    /// The seed of its sheet.
    pub seed: u64,
    /// The text of its sheet.
    pub text: &'p str,
}

/// What becomes of a sheet in a language.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// The module agrees with the decoder; the number of frames.
    Agrees(u64),
    /// It differs at this record.
    Differs(String),
    /// It does not compile.
    NotCompiled(String),
    /// It is not emitted, and why.
    NotEmitted(String),
}

/// Comparisons that are always true come from the random sheet.
const ALLOWED: &[&str] = &["-O0", "-Wno-type-limits", "-Wno-bool-compare", "-Wno-sign-compare"];

/// Emits C of some sheets, compiles each with its test, and runs all tests in one program a sheet.
pub fn c(folder: &Path, sheets: &[Numbered<'_>], tally: &mut Tally) -> Vec<(u64, Outcome)> {
    fs::create_dir_all(folder).unwrap();
    let outcomes: Vec<(u64, Outcome)> = sheets.iter().map(|sheet| (sheet.seed, one(&folder.join(sheet.seed.to_string()), sheet))).collect();
    for (seed, outcome) in &outcomes {
        let count = if let Outcome::Agrees(frames) = outcome { *frames } else { 1 };
        *tally.counts.entry(Row::Firmware).or_default() += count;
        let kind = match outcome {
            Outcome::Agrees(_) | Outcome::NotEmitted(_) => continue,
            Outcome::Differs(_) => "C, decode",
            Outcome::NotCompiled(_) => "C compiles without a warning",
        };
        tally.hold(Row::Firmware, kind, false, || format!("seed {seed}: {outcome:?}"));
    }
    outcomes
}

fn one(folder: &Path, sheet: &Numbered<'_>) -> Outcome {
    fs::create_dir_all(folder).unwrap();
    let text = sheet.text.replacen("hulk-1", &format!("hulk-{}", sheet.seed), 1);
    let part = Part::parse("sheet.toml", &text).unwrap();
    let options = Options::default();
    let (emitted, tests) = match (firmware(&part, Language::C, &options), vectors(&part, Language::C, &options, sheet.seed, FRAMES)) {
        (Ok(emitted), Ok(tests)) => (emitted, tests),
        (Err(error), _) | (_, Err(error)) => return Outcome::NotEmitted(error.to_string()),
    };
    let prefix = emitted[0].name.trim_end_matches(".h").to_owned();
    let mut sources = Vec::new();
    for Emitted { name, text } in emitted.into_iter().chain(tests) {
        fs::write(folder.join(&name), text).unwrap();
        sources.extend(name.ends_with(".c").then_some(name));
    }
    let main = format!(
        "#include <stdio.h>\n#include \"{prefix}_vectors.h\"\nint main(void)\n{{\n    uint32_t wrong = 0;\n    const uint32_t count = {prefix}_vectors(&wrong);\n\n    printf(\"%lu %lu\\n\", (unsigned long)count, (unsigned long)wrong);\n    return 0;\n}}\n"
    );
    fs::write(folder.join(format!("{prefix}_main.c")), main).unwrap();
    sources.push(format!("{prefix}_main.c"));
    let exe = format!("{prefix}_test");
    let done =
        Command::new("cc").current_dir(folder).args(CAREFUL).args(ALLOWED).args(["-o", &exe]).args(&sources).arg("-lm").output().unwrap();
    if !done.status.success() {
        return Outcome::NotCompiled(
            String::from_utf8_lossy(&done.stderr).lines().find(|line| line.contains("error")).unwrap_or("?").to_owned(),
        );
    }
    let done = Command::new(folder.join(&exe)).output().unwrap();
    let printed = String::from_utf8_lossy(&done.stdout).into_owned();
    let outcome = match printed.trim().split_once(' ') {
        Some((count, "4294967295")) => Outcome::Agrees(count.parse().unwrap()),
        Some((count, wrong)) => Outcome::Differs(format!("after {count} frames, at record byte {wrong}")),
        None => Outcome::Differs(String::from_utf8_lossy(&done.stderr).lines().next().unwrap_or("no output").to_owned()),
    };
    if matches!(outcome, Outcome::Agrees(_)) {
        let _ = fs::remove_dir_all(folder);
    }
    outcome
}

//! Emitted firmware: compiled with warnings as errors, and compared with the decoder by its test vectors.

use std::fs;
use std::path::Path;
use std::process::Command;

use yemdo::Part;
use yemdo::emit::{Emitted, FirmwareOptions, Hal, Language, firmware, vectors};

use super::{Row, Tally, replay};

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
    let options = FirmwareOptions::default();
    let (emitted, tests) = match (firmware(&part, Language::C, &options), vectors(&part, Language::C, &options, sheet.seed, FRAMES)) {
        (Ok(emitted), Ok(tests)) => (emitted, tests),
        (Err(error), _) | (_, Err(error)) => return Outcome::NotEmitted(error.to_string()),
    };
    let header = emitted.iter().find(|file| file.name.ends_with(".h")).unwrap();
    let prefix = header.name.trim_end_matches(".h").to_owned();
    let (replays, runs) = replay::c::functions(&part, &header.text, &prefix);
    let mut sources = Vec::new();
    for Emitted { name, text } in emitted.into_iter().chain(tests) {
        fs::write(folder.join(&name), text).unwrap();
        sources.extend(name.ends_with(".c").then_some(name));
    }
    let main = format!(
        "#include <stdio.h>\n#include \"{prefix}.h\"\n#include \"{prefix}_vectors.h\"\n{replays}int main(void)\n{{\n    uint32_t wrong = 0;\n    const uint32_t count = {prefix}_vectors(&wrong);\n\n    if (replays() == 0) {{\n        printf(\"%lu %lu\\n\", (unsigned long)count, (unsigned long)wrong);\n    }}\n    return 0;\n}}\n"
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
        Some((count, "4294967295")) => Outcome::Agrees(count.parse::<u64>().unwrap() + runs as u64),
        Some((count, wrong)) if count.parse::<u64>().is_ok() => Outcome::Differs(format!("after {count} frames, at record byte {wrong}")),
        Some(_) => Outcome::Differs(printed.trim().to_owned()),
        None => Outcome::Differs(String::from_utf8_lossy(&done.stderr).lines().next().unwrap_or("no output").to_owned()),
    };
    if matches!(outcome, Outcome::Agrees(_)) {
        let _ = fs::remove_dir_all(folder);
    }
    outcome
}

/// Functions of libm with their equivalents in the standard library.
const LIBRARY: &[(&str, &str)] = &[
    ("fabs", "x.abs()"),
    ("sqrt", "x.sqrt()"),
    ("cbrt", "x.cbrt()"),
    ("exp", "x.exp()"),
    ("exp2", "x.exp2()"),
    ("expm1", "x.exp_m1()"),
    ("log", "x.ln()"),
    ("log2", "x.log2()"),
    ("log10", "x.log10()"),
    ("log1p", "x.ln_1p()"),
    ("sin", "x.sin()"),
    ("cos", "x.cos()"),
    ("tan", "x.tan()"),
    ("asin", "x.asin()"),
    ("acos", "x.acos()"),
    ("atan", "x.atan()"),
    ("sinh", "x.sinh()"),
    ("cosh", "x.cosh()"),
    ("tanh", "x.tanh()"),
    ("floor", "x.floor()"),
    ("ceil", "x.ceil()"),
    ("round", "x.round()"),
    ("trunc", "x.trunc()"),
    ("pow", "x.powf(y)"),
    ("atan2", "x.atan2(y)"),
    ("fmod", "x % y"),
    ("hypot", "x.hypot(y)"),
    ("fmin", "x.min(y)"),
    ("fmax", "x.max(y)"),
];

/// Emits Rust of some sheets as modules of one program, compiles it, and runs all of their tests.
pub fn rust(folder: &Path, sheets: &[Numbered<'_>]) -> Vec<(u64, Outcome)> {
    fs::create_dir_all(folder).unwrap();
    let options = FirmwareOptions::default().hal(Hal::None);
    let (mut outcomes, mut modules, mut calls) = (Vec::new(), String::new(), String::new());
    for sheet in sheets {
        let text = sheet.text.replacen("hulk-1", &format!("hulk-{}", sheet.seed), 1);
        let part = Part::parse("sheet.toml", &text).unwrap();
        let both = firmware(&part, Language::Rust, &options)
            .and_then(|one| Ok((one, vectors(&part, Language::Rust, &options, sheet.seed, FRAMES)?)));
        match both {
            Ok((emitted, tests)) => {
                for Emitted { name, text } in emitted.into_iter().chain(tests) {
                    let module = name.trim_end_matches(".rs").to_owned();
                    if !module.ends_with("_vectors") {
                        let (functions, names) = replay::rust::functions(&part, &text, &module);
                        modules.push_str(&functions);
                        for name in names {
                            calls.push_str(&format!("    {name}().inspect(|told| println!(\"{} {{told}}\"));\n", sheet.seed));
                        }
                    }
                    modules.push_str(&format!("mod {module};\n"));
                    fs::write(folder.join(name), text).unwrap();
                    if module.ends_with("_vectors") {
                        let records = format!("{module}::RECORDS");
                        calls.push_str(&format!("    println!(\"{} {{:?}}\", {module}::check({records}));\n", sheet.seed));
                    }
                }
            }
            Err(error) => outcomes.push((sheet.seed, Outcome::NotEmitted(error.to_string()))),
        }
    }
    fs::write(folder.join("script.rs"), replay::rust::TOOLS).unwrap();
    fs::write(folder.join("main.rs"), format!("#![allow(dead_code, unused)]\nmod script;\n{modules}\nfn main() {{\n{calls}}}\n")).unwrap();
    library(folder);
    let mut compiler = Command::new("rustc");
    compiler.current_dir(folder).args(["--extern", "libm=liblibm.rlib"]).args([
        "--edition",
        "2024",
        "-C",
        "debuginfo=0",
        "-C",
        "overflow-checks=on",
        "-o",
        "all",
        "main.rs",
    ]);
    let done = compiler.output().unwrap();
    if !done.status.success() {
        let said = String::from_utf8_lossy(&done.stderr).into_owned();
        let what = said.split("\n\n").find(|said| said.contains("error")).unwrap_or("?").to_owned();
        outcomes.push((0, Outcome::NotCompiled(what)));
        return outcomes;
    }
    let done = Command::new(folder.join("all")).output().unwrap();
    for line in String::from_utf8_lossy(&done.stdout).lines() {
        let (seed, told) = line.split_once(' ').unwrap();
        let agrees = told.strip_prefix("Ok(").and_then(|count| count.trim_end_matches(')').parse().ok());
        outcomes.push((seed.parse().unwrap(), agrees.map_or_else(|| Outcome::Differs(told.to_owned()), Outcome::Agrees)));
    }
    outcomes
}

/// Emits Python of some sheets, and runs all of their tests in one process of the interpreter that the variable `PYTHON` names.
pub fn python(folder: &Path, sheets: &[Numbered<'_>]) -> Vec<(u64, Outcome)> {
    fs::create_dir_all(folder).unwrap();
    let options = FirmwareOptions::default();
    let (mut outcomes, mut lines) = (Vec::new(), String::from(replay::python::TOOLS));
    for sheet in sheets {
        let text = sheet.text.replacen("hulk-1", &format!("hulk-{}", sheet.seed), 1);
        let part = Part::parse("sheet.toml", &text).unwrap();
        let both = firmware(&part, Language::Python, &options)
            .and_then(|one| Ok((one, vectors(&part, Language::Python, &options, sheet.seed, FRAMES)?)));
        match both {
            Ok((emitted, tests)) => {
                let module = emitted[0].name.trim_end_matches(".py").to_owned();
                lines.push_str(&replay::python::line(&part, &emitted[0].text, &module, sheet.seed));
                emitted.into_iter().chain(tests).for_each(|Emitted { name, text }| fs::write(folder.join(name), text).unwrap());
            }
            Err(error) => outcomes.push((sheet.seed, Outcome::NotEmitted(error.to_string()))),
        }
    }
    fs::write(folder.join("all.py"), lines).unwrap();
    let interpreter = std::env::var("PYTHON").unwrap_or_else(|_| "python3 -B -W error".to_owned());
    let words: Vec<&str> = interpreter.split_whitespace().collect();
    let done = Command::new(words[0]).args(&words[1..]).arg(folder.join("all.py")).output().unwrap();
    for line in String::from_utf8_lossy(&done.stdout).lines() {
        let (seed, told) = line.split_once(' ').unwrap();
        let agrees = told.strip_prefix("Ok(").and_then(|count| count.trim_end_matches(')').parse().ok());
        outcomes.push((seed.parse().unwrap(), agrees.map_or_else(|| Outcome::Differs(told.to_owned()), Outcome::Agrees)));
    }
    if !done.status.success() {
        outcomes.push((0, Outcome::NotCompiled(String::from_utf8_lossy(&done.stderr).into_owned())));
    }
    outcomes
}

/// Compiles what emitted modules import as `libm`.
pub fn library(folder: &Path) {
    let library: String = LIBRARY
        .iter()
        .map(|(name, body)| {
            let takes = if body.contains("(y)") || body.ends_with(" y") { "x: T, y: T" } else { "x: T" };
            let one = |name: String, real: &str| format!("pub fn {name}({}) -> {real} {{ {body} }}\n", takes.replace('T', real));
            one((*name).to_owned(), "f64") + &one(format!("{name}f"), "f32")
        })
        .collect();
    fs::write(folder.join("libm.rs"), library).unwrap();
    let library =
        Command::new("rustc").current_dir(folder).args(["--crate-type", "rlib", "--edition", "2024", "libm.rs"]).output().unwrap();
    assert!(library.status.success(), "{}", String::from_utf8_lossy(&library.stderr));
}

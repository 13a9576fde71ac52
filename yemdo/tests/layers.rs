//! The folders of the crate stand one above the other, and imports point down only. This reads them.

#![allow(clippy::print_stdout, clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::path::{Path, PathBuf};

/// Every folder, the highest first; those in one row do not know one another.
const ORDER: &[&[&str]] = &[
    &["emit"],
    &["view"],
    &["review"],
    &["mend", "trace"],
    &["decode", "configure", "routine", "explain", "record", "import", "stand_in"],
    &["predict"],
    &["plan"],
    &["model"],
    &["bus"],
    &["formula"],
    &["sheet"],
    &["bits"],
    &["units", "series"],
    &["ground"],
];

/// The same within `formula/`; what stands in no folder of it is at the bottom.
const FORMULA: &[&[&str]] = &[&["fixed"], &["facts"], &["run"], &["flat"], &["front"], &["narrow"], &["typed"]];

fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
        if entry.is_dir() {
            sources(&entry, found);
        } else if entry.extension().is_some_and(|ext| ext == "rs") {
            found.push(entry);
        }
    }
}

/// The paths within the crate that a file names, each as its parts from the crate's root.
fn named(text: &str, module: &[String]) -> Vec<Vec<String>> {
    let mut found = Vec::new();
    let code = text.lines().filter(|line| !line.trim_start().starts_with("//")).collect::<Vec<_>>().join("\n");
    for (at, word) in code.match_indices("crate::").chain(code.match_indices("super::")) {
        // Only the head of a path: `super::super::x` is read from its first word on.
        let before = &code[..at];
        if before.ends_with("::") || before.ends_with(|c: char| c.is_alphanumeric() || c == '_') {
            continue;
        }
        let mut base: Vec<String> = if word == "crate::" { Vec::new() } else { module[..module.len() - 1].to_vec() };
        let mut rest = &code[at + word.len()..];
        while let Some(behind) = rest.strip_prefix("super::") {
            base.pop();
            rest = behind;
        }
        // Groups such as `{a, b::c}` name each of their heads.
        let heads: Vec<String> = match rest.strip_prefix('{') {
            Some(group) => {
                let (mut depth, mut head, mut heads) = (1, String::new(), Vec::new());
                for c in group.chars() {
                    match c {
                        '{' => depth += 1,
                        '}' => depth -= 1,
                        _ => {}
                    }
                    if depth == 0 || (depth == 1 && c == ',') {
                        heads.push(std::mem::take(&mut head));
                    } else {
                        head.push(c);
                    }
                    if depth == 0 {
                        break;
                    }
                }
                heads
            }
            None => vec![rest.split(|c: char| !(c.is_alphanumeric() || c == '_' || c == ':')).next().unwrap().to_owned()],
        };
        for head in heads {
            let parts = head.trim().split("::").map(|part| part.trim_start_matches('{').trim().to_owned());
            found.push(base.iter().cloned().chain(parts).filter(|part| !part.is_empty()).collect());
        }
    }
    found
}

fn level(order: &[&[&str]], name: &str) -> Option<usize> {
    order.iter().position(|row| row.contains(&name))
}

/// What a file may not name: the file, and the path.
fn violations(root: &Path) -> Vec<String> {
    let mut files = Vec::new();
    sources(root, &mut files);
    let mut wrong = Vec::new();
    for file in files {
        let relative = file.strip_prefix(root).unwrap().with_extension("");
        let mut module: Vec<String> = relative.iter().map(|part| part.to_string_lossy().into_owned()).collect();
        // The root knows all; tests look where they must.
        if module == ["lib"] || module.last().is_some_and(|name| name.ends_with("tests")) {
            continue;
        }
        if module.last().is_some_and(|name| name == "mod") {
            *module.last_mut().unwrap() = "self".into();
        }
        let text = fs::read_to_string(&file).unwrap();
        let text = text.split("#[cfg(test)]").next().unwrap();
        let own = level(ORDER, &module[0]).unwrap_or_else(|| panic!("{} is in no row of the order", module[0]));
        for path in named(text, &module) {
            let Some(folder) = path.first() else { continue };
            let down = folder == &module[0] || level(ORDER, folder).is_none_or(|other| other > own);
            let inside = |path: &[String]| {
                let name = path.get(1).map_or("", String::as_str);
                level(FORMULA, name).unwrap_or(FORMULA.len())
            };
            // The folder's own root page lists what is in it.
            let within = folder != "formula" || module[0] != "formula" || module.len() == 2 && module[1] == "self";
            let bottom = inside(&path) == FORMULA.len() && inside(&module) == FORMULA.len();
            let within = within || inside(&path) > inside(&module) || path.get(1) == module.get(1) || bottom;
            if !(down && within) {
                wrong.push(format!("{} names {}", relative.display(), path.join("::")));
            }
        }
    }
    wrong
}

#[test]
fn imports_point_down() {
    let wrong = violations(&Path::new(env!("CARGO_MANIFEST_DIR")).join("src"));
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// What the test holds is what ARCHITECTURE.md shows.
#[test]
fn the_order_is_the_one_that_is_documented() {
    let rows: Vec<String> = ORDER.iter().map(|row| row.join("  ")).collect();
    let inside: Vec<&str> = FORMULA.iter().map(|row| row[0]).collect();
    let shown = format!("```text\n{}\n```", rows.join("\n").replace("\nformula\n", &format!("\nformula    ({})\n", inside.join(" > "))));
    println!("{shown}");
    let text = fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../ARCHITECTURE.md")).unwrap();
    assert!(text.contains(&shown), "ARCHITECTURE.md does not show this order:\n{shown}");
}

/// A test that cannot fail is none: one import upwards is found, in each form that imports have.
#[test]
fn an_import_upwards_is_found() {
    let root = std::env::temp_dir().join(format!("yemdo-layers-{}", std::process::id()));
    for (line, found) in [
        ("use crate::model::part::Part;", 1),
        ("use crate::{ground::text::Span, decode::Decoder};", 1),
        ("fn f() { crate::plan::frame::bounds(); }", 1),
        ("use super::super::plan::frame;", 1),
        ("use crate::ground::{list::List, text::Span};", 0),
        ("use super::form::Form;", 0),
        ("// use crate::model::part::Part;", 0),
    ] {
        fs::create_dir_all(root.join("bits")).unwrap();
        fs::write(root.join("bits/check.rs"), line).unwrap();
        assert_eq!(violations(&root).len(), found, "{line}");
    }
    fs::remove_dir_all(&root).unwrap();
}

#[test]
fn printers_of_firmware_know_nothing_of_one_another() {
    let firmware = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/emit/firmware");
    let languages = ["c", "rust", "python"];
    for own in languages {
        let mut files = Vec::new();
        sources(&firmware.join(own), &mut files);
        assert!(files.len() > 5);
        for file in files {
            let name = file.file_stem().unwrap().to_string_lossy().into_owned();
            let module: Vec<String> = ["emit", "firmware", own, &name].map(str::to_owned).to_vec();
            let module = if name == "mod" { module[..3].iter().cloned().chain(["mod".to_owned()]).collect() } else { module };
            for path in named(&fs::read_to_string(&file).unwrap(), &module) {
                let other = path.get(2).is_some_and(|third| third != own && languages.contains(&third.as_str()));
                assert!(!(path[..2.min(path.len())] == ["emit", "firmware"] && other), "{} names {}", file.display(), path.join("::"));
            }
        }
    }
}

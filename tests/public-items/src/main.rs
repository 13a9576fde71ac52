//! Holds the public items of each library against `docs/public/CRATE.txt`, so that none comes, goes or changes unseen. With `UPDATE=1`
//! the lists are rewritten. Asks rustdoc for its JSON, whose format changes from compiler to compiler: with another one it says so
//! and compares nothing.

#![allow(clippy::print_stdout, clippy::print_stderr, missing_docs)] // a tool

use std::collections::BTreeMap;
use std::error::Error;
use std::fs;
use std::path::Path;
use std::process::{Command, ExitCode};

/// The libraries, with the features that programs use them with.
const CRATES: [(&str, &[&str]); 4] = [("yemdo", &["--features", "serde"]), ("yemdo-bus", &[]), ("yemdo-log", &[]), ("yemdo-trace", &[])];

/// Types of one name that are one thing, or have a good reason.
const ALIKE: [&str; 1] = ["Modbus"];

fn main() -> Result<ExitCode, Box<dyn Error>> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize()?;
    let mut names: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let mut differ = false;
    for (name, features) in CRATES {
        let Some(items) = items(&root, name, features)? else { return Ok(ExitCode::SUCCESS) };
        for item in &items {
            let Some(path) = type_of(item) else { continue };
            names.entry(path.rsplit("::").next().unwrap_or(path).to_owned()).or_default().push(path.to_owned());
        }
        let list = root.join("docs/public").join(format!("{name}.txt"));
        let text = items.join("\n") + "\n";
        let known = fs::read_to_string(&list).unwrap_or_default();
        if known == text {
            println!("{name}: {} public items, as listed", items.len());
        } else if std::env::var_os("UPDATE").is_some() {
            fs::create_dir_all(list.parent().unwrap_or(&root))?;
            fs::write(&list, text)?;
            println!("{name}: {} public items, list written", items.len());
        } else {
            differ = true;
            let (before, now): (Vec<&str>, Vec<&str>) = (known.lines().collect(), text.lines().collect());
            println!("{name}: not as {} lists:", list.display());
            before.iter().filter(|line| !now.contains(line)).for_each(|line| println!("  - {line}"));
            now.iter().filter(|line| !before.contains(line)).for_each(|line| println!("  + {line}"));
        }
    }
    for (name, paths) in names.iter().filter(|(name, paths)| paths.len() > 1 && !ALIKE.contains(&name.as_str())) {
        differ = true;
        println!("{name} is several types: {}", paths.join(", "));
    }
    if differ {
        println!("if it is meant, say so in CHANGELOG.md and run UPDATE=1 tools/public-items");
    }
    Ok(if differ { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}

/// The path of a type, where an item is one.
fn type_of(item: &str) -> Option<&str> {
    let item = item.strip_prefix("#[non_exhaustive] ").unwrap_or(item);
    let path = ["pub struct ", "pub enum ", "pub trait "].iter().find_map(|kind| item.strip_prefix(kind))?;
    path.split(['<', '(', ':', ' ']).next().map(|first| {
        let end = path.find(['<', '(', ' ']).unwrap_or(path.len());
        let end = path[..end].strip_suffix(':').map_or(end, str::len);
        if end > first.len() { &path[..end] } else { first }
    })
}

/// The public items of a library; `None` where this compiler cannot say.
fn items(root: &Path, name: &str, features: &[&str]) -> Result<Option<Vec<String>>, Box<dyn Error>> {
    let target = root.join("target/public-items");
    let mut rustdoc = Command::new(env!("CARGO"));
    rustdoc.args(["rustdoc", "--quiet", "--lib", "--package", name]).args(features).current_dir(root);
    rustdoc.args(["--", "-Z", "unstable-options", "--output-format", "json"]);
    let status = rustdoc.env("RUSTC_BOOTSTRAP", "1").env("CARGO_TARGET_DIR", &target).status()?;
    if !status.success() {
        return Err(format!("rustdoc failed for {name}").into());
    }
    let json = target.join("doc").join(name.replace('-', "_") + ".json");
    let version = serde_json::from_str::<serde_json::Value>(&fs::read_to_string(&json)?)?["format_version"].as_u64();
    let builder =
        public_api::Builder::from_rustdoc_json(&json).omit_blanket_impls(true).omit_auto_trait_impls(true).omit_auto_derived_impls(true);
    match builder.build() {
        Ok(api) => Ok(Some(api.items().map(|item| item.to_string()).collect())),
        Err(error) => {
            println!("SKIPPED: this compiler's rustdoc writes format {version:?}, which is not understood here: {error}");
            Ok(None)
        }
    }
}

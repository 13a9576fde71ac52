//! Random valid sheets: every key of the language comes in them, and every way to ask a part gives the same answer.

#![allow(clippy::unwrap_used, clippy::panic, missing_docs)] // a test stops at the first mistake

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::process::Command;

use toml::de::{DeTable, DeValue};
use yemdo::Part;
use yemdo::keys::{KeyTable, SHEET, Takes};
use yemdo_agree::choices::{Choices, bytes_of};
use yemdo_agree::planted::{self, Measured, Score};
use yemdo_agree::shrink::shrink;
use yemdo_agree::ways::firmware::{self, Numbered, Outcome};
use yemdo_agree::ways::{self, Row, Tally};
use yemdo_agree::{CASE_BYTES, SHEET_BYTES, sheet};

fn text(seed: u64) -> String {
    sheet::random(&mut Choices::new(&bytes_of(seed, SHEET_BYTES)))
}

/// The keys of a table of a sheet, and of those within.
fn keys_of(known: &'static KeyTable, table: &DeTable<'_>, found: &mut BTreeSet<(&'static str, &'static str)>) {
    for (name, value) in table {
        let Some(key) = known.key(name.get_ref()) else { continue };
        found.insert((known.name, key.name));
        let Some(inner) = key.takes.table() else { continue };
        let named = matches!(key.takes, Takes::Named(_) | Takes::NamedLists(_) | Takes::NamedLayouts(_));
        let each: Vec<&DeValue<'_>> = match value.get_ref() {
            DeValue::Table(names) if named => names.values().map(|value| value.get_ref()).collect(),
            other => vec![other],
        };
        for value in each {
            match value {
                DeValue::Table(table) => keys_of(inner, table, found),
                DeValue::Array(list) => list.iter().for_each(|value| {
                    if let DeValue::Table(table) = value.get_ref() {
                        keys_of(inner, table, found);
                    }
                }),
                _ => {}
            }
        }
    }
}

/// A new key of the language that no random sheet has fails here.
#[test]
fn every_key_is_made() {
    let mut found = BTreeSet::new();
    for seed in 1..=1500 {
        let text = text(seed);
        keys_of(&SHEET, DeTable::parse(&text).unwrap().get_ref(), &mut found);
    }
    let all = SHEET.all_within().into_iter().flat_map(|table| table.keys.iter().map(|key| (table.name, key.name)));
    let missing: Vec<_> = all.filter(|key| !found.contains(key)).collect();
    assert!(missing.is_empty(), "no sheet has {missing:?}");
}

fn differences(sheet: &[u8], cases: &[u8]) -> (String, Tally) {
    let text = sheet::random(&mut Choices::new(sheet));
    let part = Part::parse("sheet.toml", &text).unwrap_or_else(|error| panic!("a valid sheet is refused: {error}\n{text}"));
    let tally = ways::all(&part, &mut Choices::new(cases));
    (text, tally)
}

/// Frames, settings, bus operations, possible values: all ways agree. A difference is shown on a small sheet.
#[test]
fn all_ways_agree() {
    let mut total = Tally::default();
    for seed in 1..=250 {
        let (sheet, cases) = (bytes_of(seed, SHEET_BYTES), bytes_of(!seed, CASE_BYTES));
        let (_, tally) = differences(&sheet, &cases);
        if let Some(first) = tally.differences.first() {
            let kind = first.kind;
            let small = shrink(&sheet, 300, |bytes| differences(bytes, &cases).1.differences.iter().any(|found| found.kind == kind));
            let (text, found) = differences(&small, &cases);
            panic!("seed {seed}: {kind}: {}\n{text}\n{:?}", first.what, found.differences);
        }
        total.add(tally);
    }
    // Each row was really asked.
    for row in [Row::Meaning, Row::Status, Row::Setting, Row::Bus, Row::Possible, Row::State] {
        assert!(total.counts.get(&row).is_some_and(|count| *count > 1000), "{}: {:?}", row.name(), total.counts);
    }
}

/// The shipped sheets and their variants, as the random ones.
#[test]
fn the_shipped_sheets_agree() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../sheets");
    let mut parts = Vec::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let (name, text) = (path.display().to_string(), fs::read_to_string(&path).unwrap());
        let part = Part::parse(&name, &text).unwrap();
        parts.extend(part.variants().iter().map(|variant| Part::parse_variant(&name, &text, variant).unwrap()));
        parts.push(part);
    }
    assert!(parts.len() > 9);
    for part in &parts {
        for seed in 0..12 {
            let tally = ways::all(part, &mut Choices::new(&bytes_of(!seed, CASE_BYTES)));
            assert!(tally.differences.is_empty(), "{}, seed {seed}: {:?}", part.name(), tally.differences);
        }
    }
}

/// Emitted Rust agrees with the decoder, or emission fails with a reason.
#[test]
fn the_rust_agrees() {
    let texts: Vec<(u64, String)> = (500..540).map(|seed| (seed, text(seed))).collect();
    let sheets: Vec<Numbered<'_>> = texts.iter().map(|(seed, text)| Numbered { seed: *seed, text }).collect();
    let folder = std::env::temp_dir().join(format!("yemdo-agree-rust-{}", std::process::id()));
    let outcomes = firmware::rust(&folder, &sheets);
    let wrong: Vec<_> = outcomes.iter().filter(|(_, found)| matches!(found, Outcome::Differs(_) | Outcome::NotCompiled(_))).collect();
    assert!(wrong.is_empty(), "{wrong:?} in {}", folder.display());
    assert!(outcomes.iter().filter(|(_, found)| matches!(found, Outcome::Agrees(_))).count() > 20);
    let _ = fs::remove_dir_all(&folder);
}

/// Emitted C agrees with the decoder, or emission fails with a reason.
#[test]
fn the_firmware_agrees() {
    if Command::new("cc").arg("--version").output().is_err() {
        return;
    }
    let texts: Vec<(u64, String)> = (400..440).map(|seed| (seed, text(seed))).collect();
    let sheets: Vec<Numbered<'_>> = texts.iter().map(|(seed, text)| Numbered { seed: *seed, text }).collect();
    let folder = std::env::temp_dir().join(format!("yemdo-agree-test-{}", std::process::id()));
    let outcomes = firmware::c(&folder, &sheets, &mut Tally::default());
    let wrong: Vec<_> = outcomes.iter().filter(|(_, found)| matches!(found, Outcome::Differs(_) | Outcome::NotCompiled(_))).collect();
    assert!(wrong.is_empty(), "{wrong:?} in {}", folder.display());
    assert!(outcomes.iter().filter(|(_, found)| matches!(found, Outcome::Agrees(_))).count() > 20);
    let _ = fs::remove_dir_all(&folder);
}

#[test]
fn planted_mistakes_are_found() {
    let mut measured = Measured::default();
    for name in ["strake-20.toml", "ember-14.toml"] {
        let text = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../sheets").join(name)).unwrap();
        planted::measure(name, &planted::text_of(&text), 1, &mut measured);
    }
    (3000..3003).for_each(|seed| planted::measure(&format!("seed {seed}"), &planted::random(seed), seed, &mut measured));
    let mut all = [Score::default(); 2];
    for scores in measured.kinds.values() {
        for (all, score) in all.iter_mut().zip(scores) {
            (all.of, all.first, all.three) = (all.of + score.of, all.first + score.first, all.three + score.three);
        }
    }
    let [one, three] = all;
    let told = format!("{measured}\n{}", measured.missed.join("\n"));
    assert!(one.of >= 30 && one.three * 100 >= one.of * 80, "{told}");
    assert!(three.of >= 30 && three.first * 100 >= three.of * 80 && three.three * 100 >= three.of * 95, "{told}");
}

//! The sheet reference holds every key, as the reader knows it. `UPDATE=1` rewrites it.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::collections::BTreeSet;

use toml::de::{DeTable, DeValue};
use yemdo::keys::{KeyTable, SHEET, Takes};

fn takes(takes: Takes) -> String {
    match takes {
        Takes::Text => "text".into(),
        Takes::Integer => "whole number".into(),
        Takes::Number => "number".into(),
        Takes::NumberOrName => "number, or name of a value".into(),
        Takes::Range => "`[low, high]`".into(),
        Takes::RangeOrFormulas => "`[low, high]`, numbers or [formulas](#formulas)".into(),
        Takes::Points => "`[[x, y], ...]`".into(),
        Takes::Boolean => "`true` or `false`".into(),
        Takes::Layout => "[layout](#layouts)".into(),
        Takes::LayoutOrList => "[layout](#layouts), or a list of them".into(),
        Takes::Slices => "[byte slices](#layouts)".into(),
        Takes::Formula => "[formula](#formulas)".into(),
        Takes::Condition => "[condition](#formulas)".into(),
        Takes::Time => "time, such as `\"2 ms\"`".into(),
        Takes::NumberOrFormula => "number, or a [formula](#formulas)".into(),
        Takes::TimeOrFormula => "time, or a [formula](#formulas) in milliseconds".into(),
        Takes::NamedLists(table) => format!("for each name a list of [{0}](#{0}) tables", table.name),
        Takes::Bytes => "bytes in hex, or a list of bytes and [formulas](#formulas)".into(),
        Takes::BytesOrRegisters => "bytes as for `command`, or names of registers".into(),
        Takes::Word(words) => words.iter().map(|word| format!("`{word}`")).collect::<Vec<_>>().join(", "),
        Takes::Table(table) => format!("[{0}](#{0}) table", table.name),
        Takes::TableOrList(table) => format!("[{0}](#{0}) table, or a list of them", table.name),
        Takes::TableOrListOrName(table) => format!("[{0}](#{0}) table, or a list of them, or a name", table.name),
        Takes::Named(table) => format!("a [{0}](#{0}) table for each name", table.name),
        Takes::NamedLayouts(table) => format!("for each name a [layout](#layouts), a list of them, or a [{0}](#{0}) table", table.name),
        Takes::NamedValues => "a value for each name".into(),
        Takes::Cover => "[covered bytes](#checks)".into(),
        Takes::Bits => "bits, such as `\"[7:4]\"`".into(),
        Takes::BitsOrList => "bits, such as `\"[7:4]\"`, or a list of them".into(),
        Takes::Address => "`0x2C`, or `\"0x58 8-bit\"`".into(),
        Takes::ModbusAddress => "an address as printed, or a range `A..B`".into(),
        Takes::Names => "a list of names".into(),
        Takes::Registers => "names of registers, separated by blanks or `..`".into(),
        Takes::TableOrModel(table) => format!("[{0}](#{0}) table, or the name of a [common model](#checks)", table.name),
    }
}

fn render(table: &KeyTable, out: &mut String) {
    out.push_str(&format!("### {}\n\n| key | value | purpose |\n|---|---|---|\n", table.name));
    for key in table.keys {
        let needed = if key.required { " (required)" } else { "" };
        out.push_str(&format!("| `{}`{needed} | {} | {} |\n", key.name, takes(key.takes), key.doc));
    }
    if !table.also.is_empty() {
        out.push_str(&format!("\nAlso: {}.\n", table.also));
    }
    out.push('\n');
}

#[test]
fn the_reference_has_every_key() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../docs/sheet.md");
    let before = std::fs::read_to_string(path).unwrap();
    let text = before.clone();
    let warnings: String = yemdo::review::WARNINGS.iter().map(|(name, doc)| format!("| `{name}` | {doc} |\n")).collect();
    let models: Vec<String> = yemdo::layout::MODELS.iter().map(|(name, _)| format!("`{name}`")).collect();
    let text = text
        .replace("WARNINGS\n", &format!("| name | when |\n|---|---|\n{warnings}"))
        .replace("MODELS.", &format!("{}.", models.join(", ")));
    assert!(text.contains(&warnings) && text.contains(&models.join(", ")), "the warnings or the models are not those of the code");
    let (head, rest) = text.split_once("<!-- keys -->\n").expect("a mark where the keys begin");
    let (_, tail) = rest.split_once("<!-- end of keys -->").expect("a mark where the keys end");
    let mut keys = String::new();
    SHEET.all_within().into_iter().for_each(|table| render(table, &mut keys));
    let wanted = format!("{head}<!-- keys -->\n{keys}<!-- end of keys -->{tail}");
    if std::env::var_os("UPDATE").is_some() {
        std::fs::write(path, &wanted).unwrap();
    } else {
        assert!(before == wanted, "docs/sheet.md is not what the keys are: run UPDATE=1 cargo test -p yemdo --test reference");
    }
}

/// Every key of every table stands in a sheet that is run: a shipped one, or one of the reference.
#[test]
fn every_key_has_an_example_that_is_tested() {
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/..");
    let reference = std::fs::read_to_string(format!("{root}/docs/sheet.md")).unwrap();
    let blocks = reference.split("```toml file=").skip(1).filter_map(|rest| rest.split_once('\n')?.1.split_once("```"));
    let mut sheets: Vec<String> = blocks.map(|(block, _)| block.to_owned()).collect();
    sheets.iter().for_each(|text| {
        yemdo::Part::parse("reference", text).unwrap_or_else(|error| panic!("{error}"));
    });
    sheets
        .extend(std::fs::read_dir(format!("{root}/sheets")).unwrap().map(|entry| std::fs::read_to_string(entry.unwrap().path()).unwrap()));
    // Keys as TOML has them, so that no comment and no text counts.
    let mut keys = BTreeSet::new();
    for text in &sheets {
        collect(&DeValue::Table(DeTable::parse(text).unwrap().into_inner()), &mut keys);
    }
    for table in SHEET.all_within() {
        for key in table.keys {
            assert!(keys.contains(key.name), "no tested sheet has `{}` of {}", key.name, table.name);
        }
    }
}

fn collect(value: &DeValue<'_>, keys: &mut BTreeSet<String>) {
    match value {
        DeValue::Table(table) => table.iter().for_each(|(key, value)| {
            keys.insert(key.get_ref().to_string());
            collect(value.get_ref(), keys);
        }),
        DeValue::Array(list) => list.iter().for_each(|value| collect(value.get_ref(), keys)),
        _ => {}
    }
}

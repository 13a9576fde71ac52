//! The JSON Schema of sheets (draft 2020-12), made from the same table of keys that the reader obeys.

use std::fmt::Write;

use crate::sheet::keys::{KeyTable, SHEET, Takes};

/// The schema as JSON text. Editors that know TOML and JSON Schema complete and check sheets with it.
///
/// ```
/// assert!(yemdo::emit::json_schema().contains("\"address\""));
/// ```
pub fn json_schema() -> String {
    let tables = SHEET.all_within();
    let mut text = String::from("{\n  \"$schema\": \"https://json-schema.org/draft/2020-12/schema\",\n  \"title\": \"Yemdo sheet\",\n");
    text.push_str("  \"$ref\": \"#/$defs/sheet\",\n  \"$defs\": {\n");
    for (index, table) in tables.iter().enumerate() {
        let comma = if index + 1 == tables.len() { "" } else { "," };
        let _ = writeln!(text, "    {}: {}{comma}", quoted(table.name), definition(table));
    }
    text.push_str("  }\n}\n");
    text
}

fn definition(table: &KeyTable) -> String {
    if table.name == "variant" {
        return "{ \"type\": \"object\", \"description\": \"Any keys of the sheet, put over it.\" }".into();
    }
    let keys: Vec<String> = table.keys.iter().map(|key| format!("{}: {}", quoted(key.name), schema(key.takes, key.doc))).collect();
    let required: Vec<String> = table.keys.iter().filter(|key| key.required).map(|key| quoted(key.name)).collect();
    let required = if required.is_empty() { String::new() } else { format!(", \"required\": [{}]", required.join(", ")) };
    // Where names of the user's own may stand, anything goes beside the keys.
    let closed = if table.also.is_empty() { ", \"additionalProperties\": false" } else { "" };
    format!("{{ \"type\": \"object\", \"properties\": {{ {} }}{required}{closed} }}", keys.join(", "))
}

fn schema(takes: Takes, doc: &str) -> String {
    let refer = |table: &KeyTable| format!("{{ \"$ref\": \"#/$defs/{}\" }}", table.name);
    let body = match takes {
        Takes::Text
        | Takes::Time
        | Takes::Layout
        | Takes::Slices
        | Takes::Cover
        | Takes::Bits
        | Takes::Formula
        | Takes::Condition
        | Takes::Registers => "\"type\": \"string\"".into(),
        Takes::Integer => "\"type\": \"integer\"".into(),
        Takes::Number => "\"type\": \"number\"".into(),
        Takes::NumberOrName => "\"type\": [\"number\", \"string\"]".into(),
        Takes::Boolean => "\"type\": \"boolean\"".into(),
        Takes::Range => "\"type\": \"array\", \"items\": { \"type\": \"number\" }, \"minItems\": 2, \"maxItems\": 2".into(),
        Takes::RangeOrFormulas => {
            "\"type\": \"array\", \"items\": { \"type\": [\"number\", \"string\"] }, \"minItems\": 2, \"maxItems\": 2".into()
        }
        Takes::Points => {
            "\"type\": \"array\", \"items\": { \"type\": \"array\", \"items\": { \"type\": \"number\" }, \"minItems\": 2, \"maxItems\": 2 }"
                .into()
        }
        Takes::LayoutOrList | Takes::BitsOrList => "\"type\": [\"string\", \"array\"]".into(),
        Takes::Names => "\"type\": \"array\", \"items\": { \"type\": \"string\" }".into(),
        Takes::Address | Takes::ModbusAddress => "\"type\": [\"integer\", \"string\"]".into(),
        Takes::Bytes | Takes::BytesOrRegisters => "\"type\": [\"array\", \"string\"]".into(),
        Takes::Word(words) => format!("\"enum\": [{}]", words.iter().map(|word| quoted(word)).collect::<Vec<_>>().join(", ")),
        Takes::Table(table) => format!("\"$ref\": \"#/$defs/{}\"", table.name),
        Takes::TableOrList(table) => format!("\"anyOf\": [{0}, {{ \"type\": \"array\", \"items\": {0} }}]", refer(table)),
        Takes::TableOrListOrName(table) => {
            format!("\"anyOf\": [{0}, {{ \"type\": \"array\", \"items\": {0} }}, {{ \"type\": \"string\" }}]", refer(table))
        }
        Takes::TableOrModel(table) => format!("\"anyOf\": [{}, {{ \"type\": \"string\" }}]", refer(table)),
        Takes::TimeOrFormula | Takes::NumberOrFormula => "\"type\": [\"string\", \"number\"]".into(),
        Takes::NamedLists(table) => {
            format!("\"type\": \"object\", \"additionalProperties\": {{ \"type\": \"array\", \"items\": {} }}", refer(table))
        }
        Takes::Named(table) => format!("\"type\": \"object\", \"additionalProperties\": {}", refer(table)),
        Takes::NamedLayouts(table) => {
            format!(
                "\"type\": \"object\", \"additionalProperties\": {{ \"anyOf\": [{{ \"type\": [\"string\", \"array\"] }}, {}] }}",
                refer(table)
            )
        }
        Takes::NamedValues => "\"type\": \"object\"".into(),
    };
    format!("{{ {body}, \"description\": {} }}", quoted(doc))
}

/// A JSON string.
fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            c if (c as u32) < 0x20 => {
                let _ = write!(out, "\\u{:04x}", c as u32);
            }
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

//! Common words for keys, and the right tables of misplaced keys.

use toml::de::DeValue;

use super::keys::{KeyTable, SHEET};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::suggest;

/// A word, and the keys that may be meant; the first that the table has is taken.
const WORDS: &[(&str, &[&str])] = &[
    ("addr", &["address", "at"]),
    ("address", &["at"]),
    ("bytes", &["read"]),
    ("calc", &["formula"]),
    ("checksum", &["check"]),
    ("cmd", &["command"]),
    ("comment", &["means", "title"]),
    ("convert", &["formula"]),
    ("crc", &["check"]),
    ("default", &["reset"]),
    ("delay", &["wait"]),
    ("desc", &["title", "means"]),
    ("description", &["title", "means"]),
    ("device", &["part"]),
    ("endian", &["order", "bit_order"]),
    ("enum", &["values"]),
    ("equation", &["formula"]),
    ("expression", &["formula"]),
    ("factor", &["formula"]),
    ("limits", &["range"]),
    ("max", &["range"]),
    ("maximum", &["range"]),
    ("min", &["range"]),
    ("minimum", &["range"]),
    ("name", &["part"]),
    ("note", &["means"]),
    ("of", &["formula"]),
    ("offset", &["at", "formula"]),
    ("opcode", &["command"]),
    ("options", &["values"]),
    ("position", &["bits", "layout"]),
    ("precision", &["decimals"]),
    ("register", &["registers"]),
    ("repeat", &["count"]),
    ("rw", &["access"]),
    ("scale", &["formula"]),
    ("size", &["read", "width"]),
    ("slave", &["unit", "address"]),
    ("sleep", &["wait"]),
    ("symbol", &["unit"]),
    ("timeout", &["within"]),
    ("type", &["layout"]),
];

/// The key that a word in this table was meant to be: another word for it, or a slip of the hand.
pub(crate) fn meant(name: &str, kind: &KeyTable) -> Option<&'static str> {
    let usual = WORDS.iter().find(|(word, _)| word.eq_ignore_ascii_case(name)).into_iter().flat_map(|(_, keys)| keys.iter().copied());
    usual.into_iter().find(|key| kind.key(key).is_some()).or_else(|| suggest::nearest(name, kind.keys.iter().map(|key| key.name)))
}

/// What helps with an unknown key.
pub(crate) fn help(problem: Diagnostic, name: &str, value: &DeValue<'_>, kind: &KeyTable) -> Diagnostic {
    let table = matches!(value, DeValue::Table(_));
    let whole = SHEET.key(name).is_some() && kind.name != SHEET.name;
    let meant = meant(name, kind).and_then(|meant| kind.key(meant)).filter(|_| !(table && whole));
    if let Some(key) = meant {
        // Another word than the key needs an explanation of the key.
        let near = suggest::nearest(name, [key.name]).is_some();
        let doc = if near { String::new() } else { format!(" {}", key.doc) };
        return problem.help(format!("did you mean `{}`?{doc}", key.name));
    }
    if whole {
        // A dotted key belongs to the table that was opened last.
        return problem.help(format!(
            "in TOML what stands below a header like [{}.…] belongs to it: write `{name}` above the first header, or with a header of its \
             own: [{name}.…]",
            kind.name
        ));
    }
    let problem = problem.known(name, "keys", kind.keys.iter().map(|key| key.name));
    let elsewhere: Vec<&str> = SHEET.all_within().into_iter().filter(|other| other.key(name).is_some()).map(|other| other.name).collect();
    if elsewhere.is_empty() { problem } else { problem.help(format!("`{name}` is a key of {}", suggest::one_of(elsewhere))) }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every word leads to a key, in a table where it is no key itself.
    #[test]
    fn words_lead_to_keys() {
        for (word, keys) in WORDS {
            let leads = |key: &&str| SHEET.all_within().iter().any(|kind| kind.key(word).is_none() && meant(word, kind) == Some(*key));
            assert!(keys.iter().all(leads), "{word}");
        }
        assert!(WORDS.is_sorted_by_key(|(word, _)| *word));
    }
}

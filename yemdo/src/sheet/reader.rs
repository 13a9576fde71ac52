//! Typed access to parsed TOML, with a diagnostic for each invalid value.

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::keys::KeyTable;
use super::usual;
use crate::ground::diagnostic::Diagnostic;
use crate::ground::text::{Span, Text};
use crate::ground::words::steers;

/// A value and where it stands.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct At<T> {
    pub(crate) value: T,
    pub(crate) span: Span,
}

pub(crate) type Raw<'i> = Spanned<DeValue<'i>>;

/// Diagnostics that are given help with "did you mean"; more of them than are ever shown.
const MAX_HELPED: usize = 100;

/// Collects diagnostics while tables are read.
pub(crate) struct Reader<'i> {
    pub(crate) source: &'i str,
    pub(crate) diagnostics: Vec<Diagnostic>,
}

/// A table under the eye of its key list.
pub(crate) struct Fields<'t, 'i> {
    table: &'t DeTable<'i>,
    kind: &'static KeyTable,
}

impl<'i> Reader<'i> {
    pub(crate) fn report(&mut self, diagnostic: Diagnostic) {
        self.diagnostics.push(diagnostic);
    }

    /// A table of `kind`. Unknown keys are reported, but for those `allowed` lets through.
    pub(crate) fn fields<'t>(
        &mut self,
        table: &'t DeTable<'i>,
        span: Span,
        kind: &'static KeyTable,
        allowed: impl Fn(&str) -> bool,
    ) -> Fields<'t, 'i> {
        let mut meant = Vec::new();
        for (key, value) in in_order(table) {
            let name = key.get_ref().as_ref();
            if kind.key(name).is_none() && !allowed(name) {
                let problem = Diagnostic::error("unknown-key", key.span().into(), format!("unknown key `{name}` in {}", kind.name))
                    .label("not a key that is known here");
                // Of very many only the first are shown; the others need no help.
                let many = self.diagnostics.len() >= MAX_HELPED;
                if !many {
                    meant.extend(usual::meant(name, kind));
                }
                self.report(if many { problem } else { usual::help(problem, name, value.get_ref(), kind) });
            }
        }
        // A misspelt key is not missing as well.
        let missing = |key: &&super::keys::Key| key.required && table.get(key.name).is_none() && !meant.contains(&key.name);
        for key in kind.keys.iter().filter(missing) {
            self.report(
                Diagnostic::error("missing-key", span, format!("{} has no `{}`", kind.name, key.name))
                    .label(format!("`{}` is needed here", key.name))
                    .help(key.doc),
            );
        }
        Fields { table, kind }
    }

    fn wrong_type(&mut self, value: &Raw<'i>, expected: &str) {
        let found = describe(value.get_ref());
        self.report(
            Diagnostic::error("wrong-type", value.span().into(), format!("expected {expected}, found {found}"))
                .label(format!("this is {found}")),
        );
    }

    pub(crate) fn text(&mut self, value: &Raw<'i>) -> Option<Text> {
        match value.get_ref() {
            DeValue::String(text) => {
                let text = Text::from_token(text, value.span().into(), self.source);
                // A formula goes over several lines; beyond that, what steers a terminal is in no datasheet.
                if let Some((at, c)) = text.value.char_indices().find(|(_, c)| steers(*c) && !matches!(c, '\n' | '\r' | '\t')) {
                    let place = text.locate(at..at + c.len_utf8());
                    let what = format!("{} is a control character", c.escape_unicode());
                    self.report(Diagnostic::error("control-character", place, what).label("not accepted in the texts of a sheet"));
                    return None;
                }
                Some(text)
            }
            _ => {
                self.wrong_type(value, "text in quotes");
                None
            }
        }
    }

    /// Text, or a number as it is typed.
    pub(crate) fn text_of(&mut self, value: &Raw<'i>) -> Option<Text> {
        let span = Span::from(value.span());
        match value.get_ref() {
            DeValue::Integer(_) | DeValue::Float(_) => {
                Some(Text::from_token(self.source.get(span.start..span.end).unwrap_or(""), span, self.source))
            }
            _ => self.text(value),
        }
    }

    /// A list of texts.
    pub(crate) fn texts(&mut self, value: &Raw<'i>) -> Vec<Text> {
        match value.get_ref() {
            DeValue::Array(list) => list.iter().filter_map(|entry| self.text(entry)).collect(),
            _ => {
                self.wrong_type(value, "a list of texts");
                Vec::new()
            }
        }
    }

    pub(crate) fn integer(&mut self, value: &Raw<'i>) -> Option<At<i128>> {
        let parsed = match value.get_ref() {
            DeValue::Integer(number) => i128::from_str_radix(&number.as_str().replace('_', ""), number.radix()).ok(),
            _ => None,
        };
        if parsed.is_none() {
            self.wrong_type(value, "a whole number, such as 12, 0x2C or 0b0110");
        }
        parsed.map(|number| At { value: number, span: value.span().into() })
    }

    /// A whole number within `low..=high`, in the type of its bounds; reported where it is outside.
    pub(crate) fn integer_within<T>(&mut self, value: &Raw<'i>, what: &str, low: T, high: T) -> Option<At<T>>
    where
        T: TryFrom<i128> + PartialOrd + std::fmt::Display,
    {
        let number = self.integer(value)?;
        if let Ok(value) = T::try_from(number.value)
            && (&low..=&high).contains(&&value)
        {
            return Some(At { value, span: number.span });
        }
        self.report(
            Diagnostic::error("out-of-range", number.span, format!("{what} is {low} to {high}, not {}", number.value))
                .label(format!("expected {low} to {high}")),
        );
        None
    }

    pub(crate) fn number(&mut self, value: &Raw<'i>) -> Option<At<f64>> {
        let parsed = match value.get_ref() {
            DeValue::Integer(_) => return self.integer(value).map(|n| At { value: n.value as f64, span: n.span }),
            DeValue::Float(number) => number.as_str().replace('_', "").parse::<f64>().ok().filter(|n| n.is_finite()),
            _ => None,
        };
        if parsed.is_none() {
            self.wrong_type(value, "a number");
        }
        parsed.map(|number| At { value: number, span: value.span().into() })
    }

    pub(crate) fn boolean(&mut self, value: &Raw<'i>) -> Option<bool> {
        match value.get_ref() {
            DeValue::Boolean(flag) => Some(*flag),
            _ => {
                self.wrong_type(value, "true or false");
                None
            }
        }
    }

    pub(crate) fn table<'t>(&mut self, value: &'t Raw<'i>) -> Option<&'t DeTable<'i>> {
        match value.get_ref() {
            DeValue::Table(table) => Some(table),
            _ => {
                self.wrong_type(value, "a table");
                None
            }
        }
    }

    /// One table, or a list of tables.
    pub(crate) fn tables<'t>(&mut self, value: &'t Raw<'i>) -> Vec<(&'t DeTable<'i>, Span)> {
        match value.get_ref() {
            DeValue::Table(table) => vec![(table, value.span().into())],
            DeValue::Array(list) => list.iter().filter_map(|entry| Some((self.table(entry)?, entry.span().into()))).collect(),
            _ => {
                self.wrong_type(value, "a table or a list of tables");
                Vec::new()
            }
        }
    }

    /// `[low, high]`.
    pub(crate) fn range(&mut self, value: &Raw<'i>) -> Option<At<(f64, f64)>> {
        self.two(value, |reader, entry| reader.number(entry).map(|n| n.value))
    }

    /// A range of codes: the whole numbers in it, exactly; a double does not hold all of 64 bits.
    pub(crate) fn code_range(&mut self, value: &Raw<'i>) -> Option<At<(i128, i128)>> {
        let bounds = self.two(value, |reader, entry| match entry.get_ref() {
            DeValue::Integer(_) => reader.integer(entry).map(|n| (n.value, n.value)),
            _ => reader.number(entry).map(|n| (n.value.ceil() as i128, n.value.floor() as i128)),
        })?;
        Some(At { value: (bounds.value.0.0, bounds.value.1.1), span: bounds.span })
    }

    fn two<T: Copy + PartialOrd>(&mut self, value: &Raw<'i>, mut read: impl FnMut(&mut Self, &Raw<'i>) -> Option<T>) -> Option<At<(T, T)>> {
        let DeValue::Array(list) = value.get_ref() else {
            self.wrong_type(value, "[low, high]");
            return None;
        };
        let bounds: Vec<T> = list.iter().filter_map(|entry| read(self, entry)).collect();
        match (bounds.as_slice(), list.len()) {
            (&[low, high], 2) if low <= high => Some(At { value: (low, high), span: value.span().into() }),
            _ => {
                self.report(
                    Diagnostic::error("bad-range", value.span().into(), "a range is [low, high], with low not above high")
                        .label("expected two numbers, the lower one first"),
                );
                None
            }
        }
    }
}

impl<'t, 'i> Fields<'t, 'i> {
    pub(crate) fn get(&self, key: &'static str) -> Option<&'t Raw<'i>> {
        debug_assert!(self.kind.key(key).is_some(), "{key} is missing in the key table of {}", self.kind.name);
        self.table.get(key)
    }

    pub(crate) fn text(&self, reader: &mut Reader<'i>, key: &'static str) -> Option<Text> {
        self.get(key).and_then(|value| reader.text(value))
    }

    /// Text, or a number as it is typed.
    pub(crate) fn text_or_number(&self, reader: &mut Reader<'i>, key: &'static str) -> Option<Text> {
        self.get(key).and_then(|value| reader.text_of(value))
    }

    /// One of the words that the key table lists for `key`.
    pub(crate) fn word(&self, reader: &mut Reader<'i>, key: &'static str) -> Option<At<&'static str>> {
        let text = self.text(reader, key)?;
        let super::keys::Takes::Word(words) = self.kind.key(key)?.takes else { return None };
        let found = words.iter().find(|word| **word == text.value);
        if found.is_none() {
            reader.report(
                Diagnostic::error("unknown-word", text.span, format!("`{}` is not a word that `{key}` takes", text.value))
                    .label("not known here")
                    .known(&text.value, "words", words.iter().copied()),
            );
        }
        found.map(|word| At { value: *word, span: text.span })
    }

    /// The entries in the order they are typed.
    pub(crate) fn entries(&self) -> Vec<(At<String>, &'t Raw<'i>)> {
        entries(self.table)
    }
}

/// A table's names and values in the order they are typed.
pub(crate) fn entries<'t, 'i>(table: &'t DeTable<'i>) -> Vec<(At<String>, &'t Raw<'i>)> {
    in_order(table).into_iter().map(|(key, value)| (At { value: key.get_ref().to_string(), span: key.span().into() }, value)).collect()
}

fn in_order<'t, 'i>(table: &'t DeTable<'i>) -> Vec<(&'t Spanned<std::borrow::Cow<'i, str>>, &'t Raw<'i>)> {
    let mut entries: Vec<_> = table.iter().collect();
    entries.sort_by_key(|(key, _)| key.span().start);
    entries
}

fn describe(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "text",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(number) if number.as_str().trim_start_matches(['+', '-']).starts_with(['n', 'i']) => "no finite number",
        DeValue::Float(_) => "a number with a fraction",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

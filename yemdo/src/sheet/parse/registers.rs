//! `[register.NAME]` and `[field.NAME]`.

use toml::de::{DeTable, DeValue};

use super::super::keys;
use super::super::reader::{At, Raw, Reader};
use super::{Choice, Named};
use super::{Value, choices, named};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::text::{Span, Text};
use crate::ground::words::counted;

#[derive(Debug)]
pub(crate) struct Register {
    pub(crate) at: At<u32>,
    pub(crate) width: At<u32>,
    /// `high first` or `low first`.
    pub(crate) order: Option<At<&'static str>>,
    pub(crate) access: Option<&'static str>,
    pub(crate) reset: Option<At<u64>>,
    pub(crate) bank: Vec<Named<Choice>>,
    pub(crate) writable: Vec<Named<Choice>>,
    /// Suffixes of an array of registers.
    pub(crate) elements: Option<Vec<String>>,
    pub(crate) every: Option<At<u32>>,
    pub(crate) fields: Vec<Named<Field>>,
    pub(crate) reserved: Vec<(Text, Option<At<u64>>)>,
    pub(crate) means: Option<Text>,
    pub(crate) source: Option<Text>,
}

impl Register {
    pub(crate) fn low_first(&self) -> bool {
        self.order.is_some_and(|order| order.value == "low first")
    }
}

#[derive(Debug)]
pub(crate) struct Field {
    pub(crate) bits: Text,
    /// Name and suffix of an element of an array.
    pub(crate) element: Option<(String, String)>,
    pub(crate) values: Values,
    pub(crate) access: Option<&'static str>,
    pub(crate) computed: Option<Text>,
    pub(crate) means: Option<Text>,
    pub(crate) source: Option<Text>,
}

/// A table of values, or the field that has the same one.
#[derive(Debug)]
pub(crate) enum Values {
    Rows(Vec<Row>),
    As(Text),
}

#[derive(Debug)]
pub(crate) struct Row {
    pub(crate) code: At<i128>,
    pub(crate) name: Option<Text>,
    pub(crate) means: Option<Text>,
    pub(crate) columns: Vec<Cell>,
}

/// A number of a table's column.
#[derive(Debug)]
pub(crate) struct Cell {
    /// The column.
    pub(crate) name: At<String>,
    pub(crate) number: At<f64>,
    /// It was typed as a whole number.
    pub(crate) whole: bool,
}

pub(super) fn register<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Register> {
    let fields = reader.fields(table, span, &keys::REGISTER, |_| false);
    let at = fields.get("at").and_then(|value| reader.integer_within(value, "a register's address", 0, 465_536));
    let width = match fields.get("width") {
        Some(value) => reader.integer_within(value, "the width of a register", 8, 64)?,
        None => At { value: 8, span },
    };
    if width.value % 8 != 0 {
        reader.report(
            Diagnostic::error("bad-width", width.span, format!("a register has whole bytes, not {} bits", width.value))
                .label("8, 16, 24 … 64"),
        );
        return None;
    }
    let top = u64::MAX;
    let reset = fields.get("reset").and_then(|value| reader.integer_within(value, "a reset value", 0, top));
    let count = fields.get("count").and_then(|value| reader.integer_within(value, "the number of registers", 1, 256));
    let elements = match fields.get("names") {
        Some(value) if count.is_some() => {
            let problem = Diagnostic::error("bad-array", value.span().into(), "`count` and `names` both say how many registers there are");
            reader.report(problem.label("one of them is enough"));
            None
        }
        Some(value) => element_names(reader, value),
        None => count.map(|count: At<usize>| numbered(count.value)),
    };
    let every = fields.get("every").and_then(|value| reader.integer_within(value, "every", 1, 0xFFFF));
    let order = fields.word(reader, "order");
    let access = fields.word(reader, "access").map(|word| word.value);
    let mut reserved = Vec::new();
    if let Some(value) = fields.get("reserved") {
        for (table, span) in reader.tables(value) {
            let inner = reader.fields(table, span, &keys::RESERVED, |_| false);
            let write = inner.get("write").and_then(|value| reader.integer_within(value, "write", 0, top));
            reserved.extend(inner.text(reader, "bits").map(|bits| (bits, write)));
        }
    }
    let bank = choices(reader, fields.get("bank"));
    let writable = choices(reader, fields.get("while"));
    let inner = fields_of(reader, fields.get("field"));
    let (means, source) = (fields.text(reader, "means"), fields.text(reader, "source"));
    Some(Register { at: at?, width, order, access, reset, bank, elements, every, fields: inner, reserved, writable, means, source })
}

/// Fields by their names; an array of them is one for each element.
pub(super) fn fields_of<'i>(reader: &mut Reader<'i>, value: Value<'_, 'i>) -> Vec<Named<Field>> {
    let mut found = Vec::new();
    for (name, (list, names, one)) in named(reader, value, field) {
        let Some(list) = list else {
            found.push((name, one));
            continue;
        };
        let Some(names) = names_for(reader, name.span, names, list.len(), "as many names as there are bits") else { continue };
        let first = names.first().map_or(String::new(), |first| format!("{}_{first}", name.value));
        let Field { mut values, access, computed, means, source, .. } = one;
        for (bits, element) in list.into_iter().zip(names) {
            // The others have the table of the first.
            let table = match &values {
                Values::Rows(rows) if rows.is_empty() => Values::Rows(Vec::new()),
                Values::Rows(_) => Values::As(Text::standing_at(&first, name.span)),
                Values::As(other) => Values::As(other.clone()),
            };
            let values = std::mem::replace(&mut values, table);
            let named = At { value: format!("{}_{element}", name.value), span: name.span };
            let (computed, means, source) = (computed.clone(), means.clone(), source.clone());
            found.push((named, Field { bits, element: Some((name.value.clone(), element)), values, access, computed, means, source }));
        }
    }
    found
}

/// A field; for an array, the bits and suffixes of its elements.
type Fielded = (Option<Vec<Text>>, Option<Vec<String>>, Field);

fn field<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Fielded> {
    let fields = reader.fields(table, span, &keys::FIELD, |_| false);
    let list = fields.get("bits").filter(|value| matches!(value.get_ref(), DeValue::Array(_))).map(|value| reader.texts(value));
    let names = fields.get("names").and_then(|value| {
        if list.is_none() {
            let problem = Diagnostic::error("bad-array", value.span().into(), "`names` are those of an array of fields");
            reader.report(problem.label("`bits` is no list").help("bits = [\"[5:4]\", \"[3:2]\"]"));
        }
        element_names(reader, value)
    });
    let bits = if list.is_some() { Some(Text::default()) } else { fields.text(reader, "bits") };
    let access = fields.word(reader, "access").map(|word| word.value);
    let (means, source) = (fields.text(reader, "means"), fields.text(reader, "source"));
    let computed = fields.text_or_number(reader, "computed");
    let values = values(reader, fields.get("values"));
    Some((list, names, Field { bits: bits?, element: None, values, access, computed, means, source }))
}

/// A table of values as rows, or as the name of a field with this table.
pub(super) fn values<'i>(reader: &mut Reader<'i>, value: Value<'_, 'i>) -> Values {
    match value {
        Some(value) if matches!(value.get_ref(), DeValue::String(_)) => reader.text(value).map_or(Values::Rows(Vec::new()), Values::As),
        Some(value) => {
            let tables = reader.tables(value);
            Values::Rows(tables.into_iter().filter_map(|(table, span)| row(reader, table, span)).collect())
        }
        None => Values::Rows(Vec::new()),
    }
}

/// Default suffixes of the elements of an array.
fn numbered(count: usize) -> Vec<String> {
    (0..count).map(|element| element.to_string()).collect()
}

/// Suffixes of `count` elements; `None`, and an error, for another number of names.
pub(super) fn names_for(reader: &mut Reader<'_>, span: Span, names: Option<Vec<String>>, count: usize, label: &str) -> Option<Vec<String>> {
    let names = names.unwrap_or_else(|| numbered(count));
    if names.len() != count {
        let text = format!("{} for {}", counted(names.len(), "name"), counted(count, "element"));
        reader.report(Diagnostic::error("bad-array", span, text).label(label));
        return None;
    }
    Some(names)
}

/// Suffixes of the elements of an array.
pub(super) fn element_names<'i>(reader: &mut Reader<'i>, value: &Raw<'i>) -> Option<Vec<String>> {
    let typed = reader.texts(value);
    let mut names: Vec<String> = Vec::new();
    for text in typed {
        let fits = !text.value.is_empty() && text.value.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_');
        let problem = match fits {
            false => "is a suffix of a name: expected letters, digits and _",
            true if names.contains(&text.value) => "is there twice",
            true => {
                names.push(text.value);
                continue;
            }
        };
        reader.report(
            Diagnostic::error("bad-name", text.span, format!("`{}` {problem}", text.value.escape_debug())).label("another was expected"),
        );
        return None;
    }
    (!names.is_empty()).then_some(names)
}

/// A row of a field's values: besides its own keys, columns with numbers.
fn row<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Row> {
    let fields = reader.fields(table, span, &keys::VALUE, |_| true);
    let code = fields.get("code").and_then(|value| reader.integer(value));
    let (name, means) = (fields.text(reader, "name"), fields.text(reader, "means"));
    let mut columns = Vec::new();
    for (name, value) in fields.entries() {
        if keys::VALUE.key(&name.value).is_none() {
            let whole = matches!(value.get_ref(), DeValue::Integer(_));
            columns.extend(reader.number(value).map(|number| Cell { name, number, whole }));
        }
    }
    Some(Row { code: code?, name, means, columns })
}

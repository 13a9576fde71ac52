//! TOML to the syntax tree of a sheet.

pub(super) mod buses;
pub(super) mod derived;
pub(super) mod frames;
pub(super) mod operation;
pub(super) mod registers;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::keys;
use super::reader::{At, Fields, Raw, Reader, entries};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::text::{Span, Text};
use crate::ground::words::is_identifier;
use buses::{I2c, Modbus, Spi};
use derived::Derived;
use frames::{Example, Frame, Parameter, Reading, Table};
use operation::{Quantity, Step};
use registers::{Field, Register};

pub(crate) type Named<T> = (At<String>, T);

#[derive(Debug, Default)]
pub(crate) struct Sheet {
    pub(crate) part: Text,
    pub(crate) title: Option<Text>,
    pub(crate) source: Option<Text>,
    pub(crate) allow: Vec<Text>,
    pub(crate) i2c: Option<I2c>,
    pub(crate) spi: Option<Spi>,
    pub(crate) modbus: Option<Modbus>,
    pub(crate) registers: Vec<Named<Register>>,
    pub(crate) fields: Vec<Named<Field>>,
    pub(crate) frames: Vec<Named<Frame>>,
    pub(crate) readings: Vec<Named<Reading>>,
    pub(crate) shared: Vec<Named<Reading>>,
    pub(crate) derived: Vec<Named<Derived>>,
    pub(crate) parameters: Vec<Named<Parameter>>,
    pub(crate) tables: Vec<Named<Table>>,
    pub(crate) quantities: Vec<Named<Quantity>>,
    pub(crate) routines: Vec<Named<Vec<Step>>>,
    pub(crate) examples: Vec<Example>,
    pub(crate) variants: Vec<At<String>>,
    /// It is a variant, and has no examples of its own.
    pub(crate) inherits_examples: bool,
}

/// A field's value, as its code or by name.
#[derive(Debug)]
pub(crate) enum Choice {
    Code(At<i128>),
    Name(Text),
}

/// Largest sheet that is read, in bytes.
pub const MAX_SHEET: usize = 1024 * 1024;

/// Most variants of a sheet.
const MAX_VARIANTS: usize = 64;

/// Parses a sheet, or one of its variants. The tree contains the valid items; diagnostics report the others.
pub(crate) fn parse(source: &str, variant: Option<&str>) -> (Sheet, Vec<Diagnostic>) {
    if source.len() > MAX_SHEET {
        let problem = Diagnostic::error(
            "sheet-too-large",
            Span::new(0, 0),
            format!("a sheet has at most {MAX_SHEET} bytes, this one has {}", source.len()),
        )
        .label("nothing of it is read");
        return (Sheet::default(), vec![problem]);
    }
    let (document, errors) = DeTable::parse_recoverable(source);
    let mut reader = Reader { source, diagnostics: Vec::new() };
    for error in errors.iter().take(20) {
        let span = error.span().map_or(Span::new(0, 0), Span::from);
        reader.report(Diagnostic::error("toml", span, format!("this is not TOML: {}", error.message())).label("here"));
    }
    if !errors.is_empty() {
        return (Sheet::default(), reader.diagnostics);
    }
    let mut table = document.into_inner();
    if let Some(name) = variant {
        put_over(&mut reader, &mut table, name);
    }
    let mut sheet = sheet(&mut reader, &table);
    if let Some(name) = variant {
        let own = |key: &str| {
            let Some(DeValue::Table(all)) = table.get("variant").map(Spanned::get_ref) else { return false };
            matches!(all.get(name).map(Spanned::get_ref), Some(DeValue::Table(inner)) if inner.contains_key(key))
        };
        sheet.inherits_examples = !own("example");
        if !own("part") {
            sheet.part.value = name.to_owned();
        }
    }
    (sheet, reader.diagnostics)
}

/// Puts a variant's keys over those of the sheet.
fn put_over<'i>(reader: &mut Reader<'i>, table: &mut DeTable<'i>, name: &str) {
    let Some(DeValue::Table(variants)) = table.get("variant").map(|value| value.get_ref().clone()) else {
        reader.report(Diagnostic::error("unknown-variant", Span::new(0, 0), format!("the sheet has no variant `{name}`")));
        return;
    };
    let known: Vec<String> = variants.keys().map(|key| key.get_ref().to_string()).collect();
    match variants.get(name).map(|value| value.get_ref().clone()) {
        Some(DeValue::Table(over)) => merge(table, over),
        _ => reader.report(Diagnostic::error("unknown-variant", Span::new(0, 0), format!("the sheet has no variant `{name}`")).known(
            name,
            "variants",
            known.iter().map(String::as_str),
        )),
    }
}

fn merge<'i>(under: &mut DeTable<'i>, over: DeTable<'i>) {
    for (key, value) in over {
        let both_tables =
            matches!(under.get(&key).map(|value| value.get_ref()), Some(DeValue::Table(_))) && matches!(value.get_ref(), DeValue::Table(_));
        if both_tables && let (Some(place), DeValue::Table(inner)) = (under.get_mut(&key), value.get_ref().clone()) {
            if let DeValue::Table(below) = place.get_mut() {
                merge(below, inner);
            }
            continue;
        }
        // A key is found by its name, wherever it stands; the new one brings its own place.
        under.remove(&key);
        under.insert(key, value);
    }
}

fn sheet<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>) -> Sheet {
    let fields = reader.fields(table, Span::new(0, 0), &keys::SHEET, |_| false);
    let mut sheet = Sheet {
        part: fields.text(reader, "part").unwrap_or_default(),
        title: fields.text(reader, "title"),
        source: fields.text(reader, "source"),
        allow: fields.get("allow").map(|value| reader.texts(value)).unwrap_or_default(),
        ..Sheet::default()
    };
    sheet.i2c = one(reader, &fields, "i2c", buses::i2c);
    sheet.spi = one(reader, &fields, "spi", buses::spi);
    sheet.modbus = one(reader, &fields, "modbus", buses::modbus);
    sheet.registers = named(reader, fields.get("register"), registers::register);
    sheet.fields = registers::fields_of(reader, fields.get("field"));
    sheet.frames = named(reader, fields.get("frame"), frames::frame);
    sheet.readings = named(reader, fields.get("reading"), frames::reading);
    sheet.shared = named(reader, fields.get("shared"), frames::shared);
    sheet.derived = named(reader, fields.get("derived"), derived::derived);
    sheet.parameters = named(reader, fields.get("parameter"), frames::parameter);
    sheet.tables = named(reader, fields.get("table"), frames::table);
    sheet.quantities = named(reader, fields.get("quantity"), operation::quantity);
    sheet.routines = operation::routines(reader, fields.get("routine"));
    if let Some(value) = fields.get("example") {
        // By their names as typed: a frame with an error of its own is a frame all the same.
        let frames: Vec<String> = match fields.get("frame").map(|value| value.get_ref()) {
            Some(DeValue::Table(table)) => entries(table).into_iter().map(|(name, _)| name.value).collect(),
            _ => Vec::new(),
        };
        for (table, span) in reader.tables(value) {
            sheet.examples.extend(frames::example(reader, table, span, &frames));
        }
    }
    if let Some(variants) = fields.get("variant").and_then(|value| reader.table(value)) {
        sheet.variants = entries(variants).into_iter().map(|(name, _)| name).collect();
        if let Some(name) = sheet.variants.get(MAX_VARIANTS) {
            let text = format!("a sheet has at most {MAX_VARIANTS} variants, this one has {}", sheet.variants.len());
            reader.report(Diagnostic::error("too-many", name.span, text).label("one too many"));
        }
    }
    sheet
}

type Value<'t, 'i> = Option<&'t Raw<'i>>;

/// A table under a key of its own.
fn one<'i, T>(
    reader: &mut Reader<'i>,
    fields: &Fields<'_, 'i>,
    key: &'static str,
    read: impl Fn(&mut Reader<'i>, &DeTable<'i>, Span) -> Option<T>,
) -> Option<T> {
    let value = fields.get(key)?;
    let table = reader.table(value)?;
    read(reader, table, value.span().into())
}

/// A table of tables under names of the user's own.
fn named<'i, T>(
    reader: &mut Reader<'i>,
    value: Value<'_, 'i>,
    read: impl Fn(&mut Reader<'i>, &DeTable<'i>, Span) -> Option<T>,
) -> Vec<Named<T>> {
    let Some(table) = value.and_then(|value| reader.table(value)) else { return Vec::new() };
    let mut found = Vec::new();
    for (name, value) in entries(table) {
        identifier(reader, &name);
        if let Some(inner) = reader.table(value) {
            let span = name.span;
            found.extend(read(reader, inner, span).map(|item| (name, item)));
        }
    }
    found
}

/// Formulas use names, so they must be identifiers of C.
fn identifier(reader: &mut Reader<'_>, name: &At<String>) {
    let text = name.value.as_str();
    if !is_identifier(text) || text.len() > 64 {
        let fixed: String = text.chars().take(64).map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
        reader.report(
            Diagnostic::error("bad-name", name.span, format!("`{}` cannot be a name", text.escape_debug()))
                .label("names are made of letters, digits and _, as in C")
                .help(format!("write `{}`", if fixed.starts_with(|c: char| c.is_ascii_digit()) { format!("_{fixed}") } else { fixed })),
        );
    } else if KEYWORDS.contains(&text) {
        let problem = Diagnostic::error("bad-name", name.span, format!("`{text}` cannot be a name")).label("a word of C");
        reader.report(problem.help(format!("write `{text}_`, or a longer name")));
    }
}

/// The keywords of C (C11 6.4.1) and the types of formulas: in a formula they can be nothing else.
const KEYWORDS: &[&str] = &[
    "auto", "bool", "break", "case", "char", "const", "continue", "default", "do", "double", "else", "enum", "extern", "float", "for",
    "goto", "if", "inline", "int", "int16_t", "int32_t", "int64_t", "int8_t", "long", "register", "restrict", "return", "short", "signed",
    "sizeof", "static", "struct", "switch", "typedef", "uint16_t", "uint32_t", "uint64_t", "uint8_t", "union", "unsigned", "void",
    "volatile", "while",
];

/// An integer of a table, or its default.
fn integer_or<'i, T>(reader: &mut Reader<'i>, fields: &Fields<'_, 'i>, key: &'static str, low: T, high: T, default: T) -> T
where
    T: TryFrom<i128> + PartialOrd + std::fmt::Display,
{
    fields.get(key).and_then(|value| reader.integer_within(value, key, low, high)).map_or(default, |at| at.value)
}

/// Fields with values: a code or the value's name for each.
fn choices<'i>(reader: &mut Reader<'i>, value: Value<'_, 'i>) -> Vec<Named<Choice>> {
    let Some(table) = value.and_then(|value| reader.table(value)) else { return Vec::new() };
    let mut found = Vec::new();
    for (name, value) in entries(table) {
        found.extend(choice(reader, value).map(|choice| (name, choice)));
    }
    found
}

/// A code, or a value's name.
fn choice<'i>(reader: &mut Reader<'i>, value: &Raw<'i>) -> Option<Choice> {
    match value.get_ref() {
        DeValue::String(_) => reader.text(value).map(Choice::Name),
        _ => reader.integer(value).map(Choice::Code),
    }
}

/// A byte that is sent: as it is, or as the formula that gives it.
#[derive(Debug)]
pub(crate) enum Byte {
    Fixed(u8),
    Formula(Text),
}

/// A list of bytes, or hex in a text.
fn bytes<'i>(reader: &mut Reader<'i>, value: Value<'_, 'i>) -> Vec<Byte> {
    match value.map(|value| (value, value.get_ref())) {
        Some((_, DeValue::Array(list))) => {
            let byte = |value: &Raw<'i>| match value.get_ref() {
                DeValue::String(_) => reader.text(value).map(Byte::Formula),
                _ => reader.integer_within(value, "a byte", 0, u8::MAX).map(|at| Byte::Fixed(at.value)),
            };
            list.iter().filter_map(byte).collect()
        }
        Some((value, _)) => {
            let Some(text) = reader.text(value) else { return Vec::new() };
            hex(reader, &text).into_iter().map(Byte::Fixed).collect()
        }
        None => Vec::new(),
    }
}

/// Bytes in hex in a text; complaints point inside it.
fn hex(reader: &mut Reader<'_>, text: &Text) -> Vec<u8> {
    crate::ground::hex::parse_hex(&text.value).unwrap_or_else(|error| {
        let span = text.locate(error.at..error.at + error.piece.len().max(1));
        reader.report(Diagnostic::error("bad-hex", span, error.to_string()).label("not hex"));
        Vec::new()
    })
}

//! TOML to the syntax tree of a sheet.

use toml::de::{DeTable, DeValue};

use super::diagnostic::Diagnostic;
use super::keys;
use super::reader::{At, Reader, entries};
use super::text::{Span, Text};
use super::tree::{Check, Example, Frame, I2c, Method, Named, Reading, Sheet, Status};

/// Largest sheet that is read, in bytes.
pub(crate) const MAX_SHEET: usize = 1024 * 1024;

/// Parses a sheet. The tree holds whatever was sound; diagnostics say what was not.
pub(crate) fn parse(source: &str) -> (Sheet, Vec<Diagnostic>) {
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
    let sheet = sheet(&mut reader, document.get_ref());
    (sheet, reader.diagnostics)
}

fn sheet<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>) -> Sheet {
    let fields = reader.fields(table, Span::new(0, 0), &keys::SHEET, |_| false);
    let mut sheet = Sheet {
        part: fields.text(reader, "part").unwrap_or_default(),
        title: fields.text(reader, "title"),
        source: fields.text(reader, "source"),
        ..Sheet::default()
    };
    if let Some(value) = fields.get("i2c")
        && let Some(table) = reader.table(value)
    {
        sheet.i2c = i2c(reader, table, value.span().into());
    }
    sheet.frames = named(reader, fields.get("frame"), frame);
    sheet.readings = named(reader, fields.get("reading"), reading);
    if let Some(value) = fields.get("example") {
        // By their names as typed: a frame with an error of its own is a frame all the same.
        let frames: Vec<String> = match fields.get("frame").map(|value| value.get_ref()) {
            Some(DeValue::Table(table)) => entries(table).into_iter().map(|(name, _)| name.value).collect(),
            _ => Vec::new(),
        };
        for (table, span) in reader.tables(value) {
            sheet.examples.extend(example(reader, table, span, &frames));
        }
    }
    sheet
}

type Value<'t, 'i> = Option<&'t super::reader::Raw<'i>>;

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

/// Names stand in formulas, so they must be identifiers of C.
fn identifier(reader: &mut Reader<'_>, name: &At<String>) {
    let text = name.value.as_str();
    let sound =
        text.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') && text.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
    if !sound || text.len() > 64 {
        let fixed: String = text.chars().take(64).map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
        reader.report(
            Diagnostic::error("bad-name", name.span, format!("`{}` cannot be a name", text.escape_debug()))
                .label("names are made of letters, digits and _, as in C")
                .help(format!("write `{}`", if fixed.starts_with(|c: char| c.is_ascii_digit()) { format!("_{fixed}") } else { fixed })),
        );
    }
}

fn i2c<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<I2c> {
    let fields = reader.fields(table, span, &keys::I2C, |_| false);
    let address = fields.get("address").and_then(|value| reader.integer(value));
    let mut straps = Vec::new();
    if let Some(pins) = fields.get("strap").and_then(|value| reader.table(value)) {
        for (pin, levels) in entries(pins) {
            let levels = reader.table(levels).map(entries).unwrap_or_default();
            let levels = levels.into_iter().filter_map(|(level, value)| Some((level, reader.integer(value)?))).collect();
            straps.push((pin, levels));
        }
    }
    Some(I2c { address: address?, straps })
}

fn frame<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Frame> {
    let fields = reader.fields(table, span, &keys::FRAME, |_| false);
    let read = fields.get("read").and_then(|value| reader.integer_within(value, "the number of bytes in a frame", 1, 4096));
    let mut codes = Vec::new();
    if let Some(table) = fields.get("code").and_then(|value| reader.table(value)) {
        for (name, value) in entries(table) {
            identifier(reader, &name);
            codes.extend(reader.text(value).map(|text| (name, text)));
        }
    }
    let mut checks = Vec::new();
    if let Some(value) = fields.get("check") {
        for (table, span) in reader.tables(value) {
            checks.extend(check(reader, table, span));
        }
    }
    let status = statuses(reader, fields.get("status"));
    Some(Frame { read: read?, checks, codes, status })
}

fn check<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Check> {
    let fields = reader.fields(table, span, &keys::CHECK, |_| false);
    let (over, place) = (fields.text(reader, "over"), fields.text(reader, "in"));
    let mut method = None;
    if let Some(value) = fields.get("crc")
        && let Some(table) = reader.table(value)
    {
        let fields = reader.fields(table, value.span().into(), &keys::CRC, |_| false);
        let width = fields.get("width").and_then(|value| reader.integer_within(value, "the width of a CRC", 3, 64));
        let mut parameter = |key| fields.get(key).and_then(|value| reader.integer_within(value, key, 0, i128::from(u64::MAX)));
        let (poly, init, xorout) = (parameter("poly"), parameter("init"), parameter("xorout"));
        let refin = fields.get("refin").and_then(|value| reader.boolean(value)).unwrap_or(false);
        let refout = fields.get("refout").and_then(|value| reader.boolean(value)).unwrap_or(refin);
        method = width.zip(poly).map(|(width, poly)| Method::Crc { width, poly, init, refin, refout, xorout });
    } else if let Some(value) = fields.get("sum")
        && let Some(table) = reader.table(value)
    {
        let fields = reader.fields(table, value.span().into(), &keys::SUM, |_| false);
        let width = fields.get("width").and_then(|value| reader.integer_within(value, "the width of a sum", 1, 64));
        let init = fields.get("init").and_then(|value| reader.integer_within(value, "init", 0, i128::from(u64::MAX)));
        let then = fields.word(reader, "then").map_or("plain", |word| word.value);
        method = width.map(|width| Method::Sum { width, init, then });
    } else {
        reader.report(Diagnostic::error("missing-key", span, "a check says how it is computed").label("needs `crc` or `sum`"));
    }
    Some(Check { span, method, over: over?, place: place? })
}

fn statuses<'i>(reader: &mut Reader<'i>, value: Value<'_, 'i>) -> Vec<Status> {
    let mut found = Vec::new();
    let Some(value) = value else { return found };
    for (table, span) in reader.tables(value) {
        let fields = reader.fields(table, span, &keys::STATUS, |_| false);
        let means = fields.text(reader, "means");
        if let (Some(when), Some(is)) = (fields.text(reader, "when"), fields.word(reader, "is")) {
            found.push(Status { when, is, means });
        }
    }
    found
}

fn reading<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Reading> {
    let fields = reader.fields(table, span, &keys::READING, |_| false);
    let (unit, formula) = (fields.text(reader, "unit"), fields.text(reader, "formula"));
    let range = fields.get("range").and_then(|value| reader.range(value));
    let status = statuses(reader, fields.get("status"));
    Some(Reading { unit: unit?, formula: formula?, range, status })
}

fn example<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span, frames: &[String]) -> Option<Example> {
    let fields = reader.fields(table, span, &keys::EXAMPLE, |name| frames.iter().any(|frame| frame == name));
    let source = fields.text(reader, "source");
    let mut bytes = Vec::new();
    for (name, value) in fields.entries() {
        if frames.contains(&name.value) {
            bytes.extend(reader.text(value).map(|text| (name, text)));
        }
    }
    let mut gives = Vec::new();
    if let Some(table) = fields.get("gives").and_then(|value| reader.table(value)) {
        for (name, value) in entries(table) {
            gives.extend(reader.text(value).map(|text: Text| (name, text)));
        }
    }
    if bytes.is_empty() {
        reader.report(
            Diagnostic::error("missing-key", span, "an example has the bytes of at least one frame")
                .label("no frame here")
                .help(if frames.is_empty() { "the sheet describes no frame".to_owned() } else { format!("frames: {}", frames.join(", ")) }),
        );
        return None;
    }
    Some(Example { span, source, frames: bytes, gives })
}

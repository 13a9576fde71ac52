//! `[frame.NAME]`, `[reading.NAME]` and `[[example]]`.

use toml::de::{DeTable, DeValue};

use super::super::keys;
use super::super::reader::{At, Fields, Raw, Reader, entries};
use super::operation::{Time, time_if_given};
use super::registers::{Values, element_names, names_for, values};
use super::{Byte, Value, bytes, choice, choices, identifier, integer_or};
use super::{Choice, Named};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::text::{Span, Text};

#[derive(Debug)]
pub(crate) struct Frame {
    pub(crate) read: Option<At<usize>>,
    pub(crate) length: Option<Text>,
    pub(crate) keep: bool,
    pub(crate) blank: Option<At<&'static str>>,
    pub(crate) command: Vec<Byte>,
    pub(crate) wait: Option<Time>,
    pub(crate) registers: Option<Text>,
    pub(crate) transfers: Vec<Exchange>,
    /// The kind of Modbus table, and the addresses.
    pub(crate) modbus: Option<(&'static str, Text)>,
    pub(crate) checks: Vec<Check>,
    pub(crate) codes: Vec<Named<Code>>,
    /// Bits that mean nothing.
    pub(crate) reserved: Option<Text>,
    pub(crate) status: Vec<Status>,
    /// `while`, and `otherwise`.
    pub(crate) valid: Vec<Named<Choice>>,
    pub(crate) otherwise: Option<At<&'static str>>,
    pub(crate) means: Option<Text>,
    pub(crate) source: Option<Text>,
}

/// Bytes to send, a wait, and the number of bytes to read.
#[derive(Debug)]
pub(crate) struct Exchange {
    pub(crate) command: Vec<Byte>,
    pub(crate) wait: Option<Time>,
    pub(crate) read: At<usize>,
}

#[derive(Debug)]
pub(crate) struct Code {
    pub(crate) layout: Text,
    /// Suffixes of the elements of an array.
    pub(crate) names: Option<At<Vec<String>>>,
    /// Name and suffix of an element of an array with listed layouts.
    pub(crate) element: Option<(String, String)>,
    /// The range that the datasheet states.
    pub(crate) range: Option<At<(i128, i128)>>,
}

#[derive(Debug)]
pub(crate) struct Check {
    pub(crate) span: Span,
    pub(crate) method: Option<Method>,
    pub(crate) over: Text,
    pub(crate) place: Text,
}

#[derive(Debug)]
pub(crate) enum Method {
    Crc { width: At<u32>, poly: At<u64>, init: Option<At<u64>>, refin: bool, refout: bool, xorout: Option<At<u64>> },
    Model(Text),
    Sum { width: At<u32>, init: Option<At<u64>>, modulo: u64, then: &'static str },
    Xor(At<u8>),
    Parity(&'static str),
}

#[derive(Debug)]
pub(crate) struct Status {
    pub(crate) when: Text,
    pub(crate) is: At<&'static str>,
    pub(crate) means: Option<Text>,
}

#[derive(Debug)]
pub(crate) struct Reading {
    pub(crate) unit: Text,
    pub(crate) formula: Text,
    pub(crate) range: Option<Stated>,
    pub(crate) decimals: Option<usize>,
    pub(crate) status: Vec<Status>,
    /// The fields with which it is valid.
    pub(crate) valid: Vec<Named<Choice>>,
    pub(crate) means: Option<Text>,
    pub(crate) source: Option<Text>,
}

/// A range that the datasheet states.
#[derive(Debug)]
pub(crate) enum Stated {
    Numbers(f64, f64),
    /// One end at least follows from settings.
    Ends([End; 2]),
}

#[derive(Debug)]
pub(crate) enum End {
    Number(f64),
    Formula(Text),
}

#[derive(Debug)]
pub(crate) struct Parameter {
    pub(crate) supplied: Supplied,
    pub(crate) means: Option<Text>,
    pub(crate) source: Option<Text>,
}

/// Values supplied by the user.
#[derive(Debug)]
pub(crate) enum Supplied {
    /// A number.
    Number { default: f64, unit: Option<Text>, range: Option<At<(f64, f64)>> },
    /// One of a table of values.
    Choice { default: Choice, values: Values },
}

#[derive(Debug)]
pub(crate) struct Table {
    pub(crate) points: Vec<[At<f64>; 2]>,
    pub(crate) outside: &'static str,
}

#[derive(Debug)]
pub(crate) struct Example {
    pub(crate) span: Span,
    pub(crate) source: Option<Text>,
    pub(crate) set: Vec<Named<Choice>>,
    /// Register and the value that is written to it.
    pub(crate) writes: Vec<Named<At<u64>>>,
    /// The bytes of each write.
    pub(crate) sends: Option<At<Vec<Text>>>,
    /// Frame and its bytes, those of several of a kind in order.
    pub(crate) frames: Vec<Named<Text>>,
    /// The time from one frame of a kind to the next, in microseconds.
    pub(crate) every: Option<At<u64>>,
    /// Reading or code, and its expected value.
    pub(crate) gives: Vec<Named<Text>>,
    pub(crate) refused: Option<At<&'static str>>,
}

const MODBUS_TABLES: [&str; 4] = ["holding", "input", "coils", "discrete"];

pub(super) fn frame<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Frame> {
    let fields = reader.fields(table, span, &keys::FRAME, |_| false);
    let read = fields.get("read").and_then(|value| reader.integer_within(value, "the number of bytes in a frame", 1, 4096));
    let length = fields.text(reader, "length");
    let keep = fields.get("keep").and_then(|value| reader.boolean(value)).unwrap_or(false);
    let blank = fields.word(reader, "blank");
    let command = bytes(reader, fields.get("command"));
    let wait = wait_after(reader, &fields, &command);
    let (registers, reserved) = (fields.text(reader, "registers"), fields.text(reader, "reserved"));
    let mut transfers = Vec::new();
    if let Some(value) = fields.get("transfers") {
        for (table, span) in reader.tables(value) {
            let inner = reader.fields(table, span, &keys::TRANSFER, |_| false);
            let command = bytes(reader, inner.get("command"));
            let wait = wait_after(reader, &inner, &command);
            let read = inner.get("read").and_then(|value| reader.integer_within(value, "the number of bytes read", 1, 4096));
            transfers.extend(read.map(|read| Exchange { command, wait, read }));
        }
    }
    let tables: Vec<&'static str> = MODBUS_TABLES.into_iter().filter(|key| fields.get(key).is_some()).collect();
    let modbus = tables.first().and_then(|key| Some((*key, fields.text_or_number(reader, key)?)));
    let ways =
        usize::from(fields.get("read").is_some()) + usize::from(registers.is_some()) + usize::from(!transfers.is_empty()) + tables.len();
    if ways != 1 && !reader.diagnostics.iter().any(|d| d.span.start >= span.start && d.name == "unknown-key") {
        reader.report(
            Diagnostic::error("frame-source", span, "a frame needs exactly one source")
                .label(if ways == 0 { "says nothing" } else { "says it more than once" })
                .help("give one of `read`, `registers`, `transfers`, `holding`, `input`, `coils` or `discrete`"),
        );
        return None;
    }
    let mut codes = Vec::new();
    if let Some(table) = fields.get("code").and_then(|value| reader.table(value)) {
        for (name, value) in entries(table) {
            identifier(reader, &name);
            if let DeValue::Table(table) = value.get_ref() {
                let fields = reader.fields(table, name.span, &keys::CODE, |_| false);
                let range = fields.get("range").and_then(|value| reader.code_range(value));
                let names =
                    fields.get("names").and_then(|value| Some(At { value: element_names(reader, value)?, span: value.span().into() }));
                match fields.get("layout") {
                    Some(value) if matches!(value.get_ref(), DeValue::Array(_)) => codes.extend(listed(reader, &name, value, names, range)),
                    _ => codes.extend(fields.text(reader, "layout").map(|layout| (name, Code { layout, names, element: None, range }))),
                }
            } else if matches!(value.get_ref(), DeValue::Array(_)) {
                codes.extend(listed(reader, &name, value, None, None));
            } else {
                codes.extend(reader.text(value).map(|layout| (name, Code { layout, names: None, element: None, range: None })));
            }
        }
    }
    let mut checks = Vec::new();
    if let Some(value) = fields.get("check") {
        for (table, span) in reader.tables(value) {
            checks.extend(check(reader, table, span));
        }
    }
    let status = statuses(reader, fields.get("status"));
    let (valid, otherwise) = (choices(reader, fields.get("while")), otherwise(reader, &fields));
    let (means, source) = (fields.text(reader, "means"), fields.text(reader, "source"));
    Some(Frame {
        read,
        length,
        keep,
        blank,
        command,
        wait,
        registers,
        transfers,
        modbus,
        checks,
        codes,
        reserved,
        status,
        valid,
        otherwise,
        means,
        source,
    })
}

/// `otherwise`, which requires `while`.
fn otherwise<'i>(reader: &mut Reader<'i>, fields: &Fields<'_, 'i>) -> Option<At<&'static str>> {
    let word = fields.word(reader, "otherwise")?;
    if fields.get("while").is_none() {
        let problem = Diagnostic::error("missing-key", word.span, "`otherwise` goes with `while`").label("there is no `while`");
        reader.report(problem.help("such as while = { POWER = \"on\" }"));
    }
    Some(word)
}

/// The codes of an array whose layouts are listed.
fn listed<'i>(
    reader: &mut Reader<'i>,
    name: &At<String>,
    layouts: &Raw<'i>,
    names: Option<At<Vec<String>>>,
    range: Option<At<(i128, i128)>>,
) -> Vec<Named<Code>> {
    let layouts = reader.texts(layouts);
    let names = names.map(|names| names.value);
    let Some(names) = names_for(reader, name.span, names, layouts.len(), "as many names as there are layouts") else { return Vec::new() };
    let one = |(layout, element): (Text, String)| {
        let full = At { value: format!("{}_{element}", name.value), span: name.span };
        (full, Code { layout, names: None, element: Some((name.value.clone(), element)), range })
    };
    layouts.into_iter().zip(names).map(one).collect()
}

/// Time between command and read.
fn wait_after<'i>(reader: &mut Reader<'i>, fields: &Fields<'_, 'i>, command: &[Byte]) -> Option<Time> {
    let value = fields.get("wait")?;
    if command.is_empty() {
        let problem = Diagnostic::error("no-command", value.span().into(), "`wait` stands between a command and the read");
        reader.report(problem.label("there is no `command`"));
    }
    time_if_given(reader, fields, "wait")
}

fn check<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Check> {
    let fields = reader.fields(table, span, &keys::CHECK, |_| false);
    let (over, place) = (fields.text(reader, "over"), fields.text(reader, "in"));
    let ways = ["crc", "sum", "xor", "parity"].into_iter().filter(|key| fields.get(key).is_some()).count();
    if ways != 1 {
        let label = if ways == 0 { "needs `crc`, `sum`, `xor` or `parity`" } else { "in one way only" };
        reader.report(Diagnostic::error("missing-key", span, "a check says how it is computed").label(label));
    }
    Some(Check { span, method: method(reader, &fields), over: over?, place: place? })
}

fn method<'i>(reader: &mut Reader<'i>, fields: &Fields<'_, 'i>) -> Option<Method> {
    let top = u64::MAX;
    if let Some(value) = fields.get("crc") {
        if matches!(value.get_ref(), DeValue::String(_)) {
            return reader.text(value).map(Method::Model);
        }
        let table = reader.table(value)?;
        let fields = reader.fields(table, value.span().into(), &keys::CRC, |_| false);
        let width = fields.get("width").and_then(|value| reader.integer_within(value, "the width of a CRC", 3, 64));
        let mut parameter = |key| fields.get(key).and_then(|value| reader.integer_within(value, key, 0, top));
        let (poly, init, xorout) = (parameter("poly"), parameter("init"), parameter("xorout"));
        if let Some(zero) = poly.filter(|poly| poly.value == 0) {
            let problem = Diagnostic::error("out-of-range", zero.span, "a CRC with the polynomial 0 checks nothing");
            reader.report(problem.label("expected the polynomial without its highest term, such as 0x07"));
        }
        let refin = fields.get("refin").and_then(|value| reader.boolean(value)).unwrap_or(false);
        let refout = fields.get("refout").and_then(|value| reader.boolean(value)).unwrap_or(refin);
        return width.zip(poly).map(|(width, poly)| Method::Crc { width, poly, init, refin, refout, xorout });
    }
    if let Some(value) = fields.get("sum") {
        let table = reader.table(value)?;
        let fields = reader.fields(table, value.span().into(), &keys::SUM, |_| false);
        let width = fields.get("width").and_then(|value| reader.integer_within(value, "the width of a sum", 1, 64));
        let init = fields.get("init").and_then(|value| reader.integer_within(value, "init", 0, top));
        let modulo = integer_or(reader, &fields, "modulo", 1, top, 0);
        let then = fields.word(reader, "then").map_or("plain", |word| word.value);
        return width.map(|width| Method::Sum { width, init, modulo, then });
    }
    if let Some(value) = fields.get("xor") {
        return reader.integer_within(value, "the start value", 0, 255).map(Method::Xor);
    }
    fields.word(reader, "parity").map(|word| Method::Parity(word.value))
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

pub(super) fn reading<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Reading> {
    let fields = reader.fields(table, span, &keys::READING, |_| false);
    let (unit, formula) = (fields.text(reader, "unit"), fields.text(reader, "formula"));
    let range = fields.get("range").and_then(|value| stated(reader, value));
    let status = statuses(reader, fields.get("status"));
    let valid = choices(reader, fields.get("while"));
    let means = fields.text(reader, "means");
    let decimals = fields.get("decimals").and_then(|value| reader.integer_within(value, "decimals", 0, 9)).map(|at| at.value);
    let source = fields.text(reader, "source");
    Some(Reading { unit: unit?, formula: formula?, range, decimals, status, valid, means, source })
}

/// A shared value is a reading without unit, range and status, and is not shown.
pub(super) fn shared<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Reading> {
    let fields = reader.fields(table, span, &keys::SHARED, |_| false);
    let formula = fields.text(reader, "formula")?;
    let means = fields.text(reader, "means");
    let source = fields.text(reader, "source");
    Some(Reading { unit: Text::default(), formula, range: None, decimals: None, status: Vec::new(), valid: Vec::new(), means, source })
}

/// `[low, high]`, numbers or formulas.
fn stated<'i>(reader: &mut Reader<'i>, value: &Raw<'i>) -> Option<Stated> {
    if let DeValue::Array(list) = value.get_ref()
        && let [low, high] = &list[..]
        && [low, high].iter().any(|end| matches!(end.get_ref(), DeValue::String(_)))
    {
        let mut end = |value: &Raw<'i>| match value.get_ref() {
            DeValue::String(_) => reader.text(value).map(End::Formula),
            _ => reader.number(value).map(|number| End::Number(number.value)),
        };
        return Some(Stated::Ends([end(low)?, end(high)?]));
    }
    reader.range(value).map(|range| Stated::Numbers(range.value.0, range.value.1))
}

pub(super) fn parameter<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Parameter> {
    let fields = reader.fields(table, span, &keys::PARAMETER, |_| false);
    let (means, source) = (fields.text(reader, "means"), fields.text(reader, "source"));
    if let Some(value) = fields.get("values") {
        let default = fields.get("default").and_then(|value| choice(reader, value))?;
        for key in ["unit", "range"] {
            if let Some(other) = fields.get(key) {
                let problem =
                    Diagnostic::error("unknown-key", other.span().into(), format!("`{key}` says nothing about a table of values"));
                reader.report(problem.label("goes with a number alone").help("a column of the table holds numbers: { code = 1, ms = 40 }"));
            }
        }
        return Some(Parameter { supplied: Supplied::Choice { default, values: values(reader, Some(value)) }, means, source });
    }
    let default = fields.get("default").and_then(|value| reader.number(value))?;
    let range = fields.get("range").and_then(|value| reader.range(value));
    if let Some(range) = range.filter(|range| !(range.value.0..=range.value.1).contains(&default.value)) {
        let problem = Diagnostic::error("out-of-range", default.span, "the default is outside the range").label("not accepted itself");
        reader.report(problem.also(range.span, "the range"));
    }
    let supplied = Supplied::Number { default: default.value, unit: fields.text(reader, "unit"), range };
    Some(Parameter { supplied, means, source })
}

pub(super) fn table<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Table> {
    let fields = reader.fields(table, span, &keys::TABLE, |_| false);
    let value = fields.get("points")?;
    let DeValue::Array(list) = value.get_ref() else {
        reader.report(Diagnostic::error("wrong-type", value.span().into(), "expected [[x, y], ...]").label("not a list of points"));
        return None;
    };
    let mut points: Vec<[At<f64>; 2]> = Vec::new();
    for entry in list {
        let numbers: Vec<At<f64>> = match entry.get_ref() {
            DeValue::Array(pair) => pair.iter().filter_map(|number| reader.number(number)).collect(),
            _ => Vec::new(),
        };
        let problem = match (numbers.as_slice(), points.last()) {
            (&[x, _], Some([before, _])) if x.value <= before.value => "x does not rise",
            (&[x, y], _) => {
                points.push([x, y]);
                continue;
            }
            _ => "expected [x, y]",
        };
        reader.report(Diagnostic::error("bad-point", entry.span().into(), "a table's points are [x, y], with x rising").label(problem));
        return None;
    }
    if points.len() < 2 || points.len() > 1024 {
        reader.report(
            Diagnostic::error("bad-point", value.span().into(), "a table has 2 to 1024 points").label(format!("{} here", points.len())),
        );
        return None;
    }
    let outside = fields.word(reader, "outside")?.value;
    Some(Table { points, outside })
}

pub(super) fn example<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span, frames: &[String]) -> Option<Example> {
    let fields = reader.fields(table, span, &keys::EXAMPLE, |name| frames.iter().any(|frame| frame == name));
    let source = fields.text(reader, "source");
    let mut set = Vec::new();
    if let Some(table) = fields.get("set").and_then(|value| reader.table(value)) {
        for (name, value) in entries(table) {
            // A parameter may be any number.
            let typed =
                if matches!(value.get_ref(), DeValue::Float(_)) { reader.text_of(value).map(Choice::Name) } else { choice(reader, value) };
            set.extend(typed.map(|typed| (name, typed)));
        }
    }
    let refused = fields.word(reader, "refused");
    let mut writes = Vec::new();
    if let Some(table) = fields.get("writes").and_then(|value| reader.table(value)) {
        for (name, value) in entries(table) {
            writes.extend(reader.integer_within(value, "a register's value", 0, u64::MAX).map(|value| (name, value)));
        }
    }
    let sends = fields.get("sends").map(|value| At { value: reader.texts(value), span: value.span().into() });
    let mut bytes = Vec::new();
    for (name, value) in fields.entries() {
        if frames.contains(&name.value) {
            let one = matches!(value.get_ref(), DeValue::String(_));
            let all = if one { reader.text(value).into_iter().collect() } else { reader.texts(value) };
            bytes.extend(all.into_iter().map(|text| (At { value: name.value.clone(), span: name.span }, text)));
        }
    }
    let mut gives = Vec::new();
    if let Some(table) = fields.get("gives").and_then(|value| reader.table(value)) {
        for (name, value) in entries(table) {
            gives.extend(reader.text_of(value).map(|text| (name, text)));
        }
    }
    if bytes.is_empty() && set.is_empty() {
        reader.report(
            Diagnostic::error("missing-key", span, "an example has the bytes of at least one frame, or sets something")
                .label("no frame and no `set` here")
                .help(if frames.is_empty() { "the sheet describes no frame".to_owned() } else { format!("frames: {}", frames.join(", ")) }),
        );
        return None;
    }
    let every = super::derived::span_of_time(reader, &fields, "every");
    Some(Example { span, source, set, writes, sends, frames: bytes, every, gives, refused })
}

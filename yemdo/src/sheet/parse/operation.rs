//! `[quantity.NAME]` and `[[routine.NAME]]`.

use toml::de::{DeTable, DeValue};

use super::super::keys;
use super::super::reader::{At, Fields, Raw, Reader, entries};
use super::{Byte, Value, bytes, choices, identifier};
use super::{Choice, Named};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::text::{Span, Text};

#[derive(Debug)]
pub(crate) struct Quantity {
    pub(crate) unit: Text,
    pub(crate) way: Way,
    pub(crate) difference: bool,
    pub(crate) moves: Option<Vec<Text>>,
    pub(crate) not_below: Option<Text>,
    /// `above` or `below`.
    pub(crate) alert: Option<&'static str>,
    pub(crate) flag: Option<Text>,
    pub(crate) means: Option<Text>,
    pub(crate) source: Option<Text>,
}

/// How a quantity follows from fields.
#[derive(Debug)]
pub(crate) enum Way {
    Formula(Text),
    Through { reading: Text, code: Text },
}

#[derive(Debug)]
pub(crate) struct Step {
    pub(crate) span: Span,
    pub(crate) action: Action,
    pub(crate) when: Option<Text>,
    pub(crate) repeat: Option<At<u32>>,
    pub(crate) retry: Option<At<u32>>,
    pub(crate) may_nak: bool,
    pub(crate) every: Option<Time>,
    pub(crate) means: Option<Text>,
    pub(crate) source: Option<Text>,
}

#[derive(Debug)]
pub(crate) enum Action {
    Write(Vec<Byte>),
    /// Bytes in hex, or names of registers.
    WriteText(Text),
    Set {
        fields: Vec<Named<Choice>>,
        verify: bool,
    },
    Read(Text),
    Wait {
        time: Time,
        tolerance: f64,
    },
    Poll {
        condition: Text,
        within: Time,
    },
    Line {
        high: bool,
        within: Time,
    },
    Expect(Text),
    Run(Text),
}

/// A time in microseconds, or a formula that gives milliseconds.
#[derive(Debug)]
pub(crate) enum Time {
    Fixed(u64),
    Formula(Text),
}

/// The largest tolerance of a wait, in percent.
const MAX_TOLERANCE: f64 = 1000.0;

/// The longest time that is waited or polled for: an hour.
const MAX_MICROS: f64 = 3.6e9;

pub(super) fn quantity<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Quantity> {
    let fields = reader.fields(table, span, &keys::QUANTITY, |_| false);
    let unit = fields.text(reader, "unit");
    let formula = fields.text(reader, "formula");
    let through = fields.text(reader, "reading").zip(fields.text(reader, "code"));
    let way = match (formula, through) {
        (Some(formula), None) => Way::Formula(formula),
        (None, Some((reading, code))) => Way::Through { reading, code },
        _ => {
            reader.report(
                Diagnostic::error("quantity-way", span, "a quantity says in one way how it follows from fields")
                    .label("needs `formula`, or `reading` and `code`"),
            );
            return None;
        }
    };
    let difference = fields.get("difference").and_then(|value| reader.boolean(value)).unwrap_or(false);
    let moves = fields.get("moves").map(|value| reader.texts(value));
    let not_below = fields.text(reader, "not_below");
    let alert = fields.word(reader, "alert").map(|word| word.value);
    let flag = fields.text(reader, "flag");
    if let Some(flag) = flag.as_ref().filter(|_| alert.is_none()) {
        let problem = Diagnostic::error("missing-key", flag.span, "`flag` goes with `alert`").label("there is no `alert`");
        reader.report(problem.help("add alert = \"above\" or \"below\""));
    }
    let (means, source) = (fields.text(reader, "means"), fields.text(reader, "source"));
    Some(Quantity { unit: unit?, way, difference, moves, not_below, alert, flag, means, source })
}

/// Routines: names with lists of steps.
pub(super) fn routines<'i>(reader: &mut Reader<'i>, value: Value<'_, 'i>) -> Vec<Named<Vec<Step>>> {
    let Some(table) = value.and_then(|value| reader.table(value)) else { return Vec::new() };
    let mut found = Vec::new();
    for (name, value) in entries(table) {
        identifier(reader, &name);
        // All steps are read before any of them is given up, so that all complaints come at once.
        let steps: Vec<Option<Step>> = reader.tables(value).into_iter().map(|(table, span)| step(reader, table, span)).collect();
        found.extend(steps.into_iter().collect::<Option<Vec<Step>>>().map(|steps| (name, steps)));
    }
    found
}

const ACTIONS: [&str; 8] = ["write", "set", "read", "wait", "poll", "line", "expect", "do"];

fn step<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Step> {
    let fields = reader.fields(table, span, &keys::STEP, |_| false);
    let given: Vec<&'static str> = ACTIONS.into_iter().filter(|key| fields.get(key).is_some()).collect();
    let &[what] = given.as_slice() else {
        if !reader.diagnostics.iter().any(|d| d.span.start >= span.start && d.name == "unknown-key") {
            reader.report(
                Diagnostic::error("step-action", span, "a step does one thing")
                    .label(if given.is_empty() { "does nothing".to_owned() } else { format!("has {}", given.join(" and ")) })
                    .help(format!("give one of {}", ACTIONS.join(", "))),
            );
        }
        return None;
    };
    // What only some steps take is not passed over in silence with the others.
    for (key, with) in [
        ("verify", &["set"] as &[&str]),
        ("tolerance", &["wait"]),
        ("within", &["poll", "line"]),
        ("every", &["poll", "write", "set", "read", "expect"]),
        ("retry", &["write", "set", "read", "poll", "expect"]),
        ("may_nak", &["write"]),
    ] {
        if let Some(value) = fields.get(key).filter(|_| !with.contains(&what)) {
            let problem = Diagnostic::error("step-action", value.span().into(), format!("`{key}` says nothing about `{what}`"));
            reader.report(problem.label(format!("goes with {}", with.join(", "))));
        }
    }
    let action = match what {
        "write" => match fields.get("write").map(Raw::get_ref) {
            Some(DeValue::String(_)) => Action::WriteText(fields.text(reader, "write")?),
            _ => Action::Write(some_bytes(reader, &fields)?),
        },
        "set" => {
            let verify = fields.get("verify").and_then(|value| reader.boolean(value)).unwrap_or(false);
            let set = choices(reader, fields.get("set"));
            if set.is_empty() {
                reader.report(
                    Diagnostic::error("step-action", span, "`set` sets nothing")
                        .label("names no field")
                        .help("set = { FIELD = \"value\" }"),
                );
                return None;
            }
            Action::Set { fields: set, verify }
        }
        "read" => Action::Read(fields.text(reader, "read")?),
        "wait" => {
            let tolerance = fields.get("tolerance").and_then(|value| percent(reader, value)).unwrap_or(0.0);
            Action::Wait { time: time(reader, &fields, "wait")?, tolerance }
        }
        "poll" => Action::Poll { condition: fields.text(reader, "poll")?, within: bounded(reader, &fields, span, what)? },
        "line" => {
            let high = fields.word(reader, "line")?.value == "high";
            Action::Line { high, within: bounded(reader, &fields, span, what)? }
        }
        "expect" => Action::Expect(fields.text(reader, "expect")?),
        _ => Action::Run(fields.text(reader, "do")?),
    };
    let when = fields.text(reader, "when");
    let repeat = fields.get("repeat").and_then(|value| reader.integer_within(value, "repeat", 2, 1000));
    let retry = fields.get("retry").and_then(|value| reader.integer_within(value, "retry", 1, 1000));
    let may_nak = fields.get("may_nak").and_then(|value| reader.boolean(value)).unwrap_or(false);
    let every = match time_if_given(reader, &fields, "every") {
        Some(Time::Fixed(0)) => {
            let place = fields.get("every").map_or(span, |value| value.span().into());
            reader.report(Diagnostic::error("bad-time", place, "`every` is a time").label("expected such as \"2 ms\", not zero"));
            return None;
        }
        other => other,
    };
    let (means, source) = (fields.text(reader, "means"), fields.text(reader, "source"));
    Some(Step { span, action, when, repeat, retry, may_nak, every, means, source })
}

fn some_bytes<'i>(reader: &mut Reader<'i>, fields: &Fields<'_, 'i>) -> Option<Vec<Byte>> {
    let found = bytes(reader, fields.get("write"));
    // `[]` sends the address alone.
    if found.is_empty()
        && let Some(value) = fields.get("write").filter(|value| !matches!(value.get_ref(), DeValue::Array(list) if list.is_empty()))
    {
        reader.report(Diagnostic::error("bad-hex", value.span().into(), "there is no byte to write").label("needs a byte at least"));
        return None;
    }
    Some(found)
}

/// A tolerance: so much longer, and never shorter.
fn percent<'i>(reader: &mut Reader<'i>, value: &Raw<'i>) -> Option<f64> {
    let number = reader.number(value)?;
    if !(0.0..=MAX_TOLERANCE).contains(&number.value) {
        let text = format!("a tolerance is 0 to {MAX_TOLERANCE} percent, not {}", number.value);
        reader.report(Diagnostic::error("out-of-range", number.span, text).label(format!("expected 0 to {MAX_TOLERANCE}")));
        return None;
    }
    Some(number.value)
}

/// The time that bounds a step: without it the step could wait for ever.
fn bounded<'i>(reader: &mut Reader<'i>, fields: &Fields<'_, 'i>, span: Span, what: &str) -> Option<Time> {
    if fields.get("within").is_none() {
        reader.report(
            Diagnostic::error("unbounded", span, format!("this `{what}` could go on for ever"))
                .label("needs `within`")
                .help("give the longest time that the datasheet allows, such as within = \"40 ms\""),
        );
        return None;
    }
    time(reader, fields, "within")
}

pub(super) fn time_if_given<'i>(reader: &mut Reader<'i>, fields: &Fields<'_, 'i>, key: &'static str) -> Option<Time> {
    fields.get(key)?;
    time(reader, fields, key)
}

/// Microseconds in a unit of time.
pub(super) fn unit_of_time(unit: &str) -> Option<f64> {
    Some(match unit {
        "us" | "µs" | "μs" => 1.0,
        "ms" => 1e3,
        "s" => 1e6,
        "min" => 60e6,
        _ => return None,
    })
}

/// `"2 ms"`, or a formula that gives milliseconds.
fn time<'i>(reader: &mut Reader<'i>, fields: &Fields<'_, 'i>, key: &'static str) -> Option<Time> {
    let text: Text = fields.text_or_number(reader, key)?;
    let typed = text.value.trim();
    let digits = typed.find(|c: char| !(c.is_ascii_digit() || c == '.')).unwrap_or(typed.len());
    let (number, unit) = typed.split_at(digits);
    let scale = match unit.trim() {
        known if unit_of_time(known).is_some() => unit_of_time(known).unwrap_or(1.0),
        other if !number.is_empty() && !other.is_empty() && other.chars().all(char::is_alphabetic) => {
            let problem = Diagnostic::error("bad-time", text.span, format!("`{other}` is not a unit of time here"));
            reader.report(problem.label("expected µs, ms, s or min").help("a wait lasts up to an hour: 60 min"));
            return None;
        }
        _ if number.is_empty() || !unit.trim().is_empty() => return Some(Time::Formula(text)),
        _ => {
            reader.report(Diagnostic::error("bad-time", text.span, "a time has a unit").label("expected such as \"2 ms\", in µs, ms or s"));
            return None;
        }
    };
    let micros = number.parse::<f64>().unwrap_or(f64::NAN) * scale;
    if !(0.0..=MAX_MICROS).contains(&micros) {
        reader.report(Diagnostic::error("bad-time", text.span, format!("`{typed}` is not a valid time")).label("expected up to an hour"));
        return None;
    }
    Some(Time::Fixed(micros.round() as u64))
}

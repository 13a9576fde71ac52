//! Derived quantities.

use toml::de::{DeTable, DeValue};

use super::frames::End;
use super::operation::unit_of_time;
use crate::ground::diagnostic::Diagnostic;
use crate::ground::text::{Span, Text};
use crate::sheet::keys;
use crate::sheet::reader::{At, Fields, Reader};

/// A quantity that follows from readings.
#[derive(Debug)]
pub(crate) struct Derived {
    pub(crate) unit: Text,
    pub(crate) formula: Text,
    pub(crate) start: Option<At<End>>,
    /// In microseconds.
    pub(crate) gap: Option<At<u64>>,
    pub(crate) decimals: Option<usize>,
    pub(crate) means: Option<Text>,
    pub(crate) source: Option<Text>,
}

/// The longest gap: a year.
const LONGEST: f64 = 366.0 * 86_400e6;

pub(super) fn derived<'i>(reader: &mut Reader<'i>, table: &DeTable<'i>, span: Span) -> Option<Derived> {
    let fields = reader.fields(table, span, &keys::DERIVED, |_| false);
    let (unit, formula) = (fields.text(reader, "unit"), fields.text(reader, "formula"));
    let start = fields.get("start").and_then(|value| {
        let end = match value.get_ref() {
            DeValue::String(_) => reader.text(value).map(End::Formula),
            _ => reader.number(value).map(|number| End::Number(number.value)),
        };
        Some(At { value: end?, span: value.span().into() })
    });
    let gap = span_of_time(reader, &fields, "gap");
    let decimals = fields.get("decimals").and_then(|value| reader.integer_within(value, "decimals", 0, 9)).map(|at| at.value);
    let (means, source) = (fields.text(reader, "means"), fields.text(reader, "source"));
    Some(Derived { unit: unit?, formula: formula?, start, gap, decimals, means, source })
}

/// A time between frames, `"15 min"`, in microseconds.
pub(super) fn span_of_time<'i>(reader: &mut Reader<'i>, fields: &Fields<'_, 'i>, key: &'static str) -> Option<At<u64>> {
    fields.get(key)?;
    let text = fields.text_or_number(reader, key)?;
    let typed = text.value.trim();
    let (number, unit) = typed.split_at(typed.find(|c: char| !(c.is_ascii_digit() || c == '.')).unwrap_or(typed.len()));
    let scale = match unit.trim() {
        "h" => Some(3600e6),
        "d" => Some(86_400e6),
        other => unit_of_time(other),
    };
    let micros = number.parse::<f64>().unwrap_or(f64::NAN) * scale.unwrap_or(f64::NAN);
    if !(1.0..=LONGEST).contains(&micros) {
        let problem = Diagnostic::error("bad-time", text.span, format!("`{typed}` is not a valid time"));
        reader.report(problem.label("expected such as \"15 min\", in µs, ms, s, min, h or d, up to a year"));
        return None;
    }
    Some(At { value: micros.round() as u64, span: text.span })
}

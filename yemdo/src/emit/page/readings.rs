//! Readings: formula, range, step, statuses, and the transfer curve.

use std::collections::BTreeSet;

use maud::{Markup, html};

use super::formula::{linked, linked_to_readings, unindented};
use super::{anchor, cited, code_anchor, conditions, curve};
use crate::ground::digits::Digits;
use crate::ground::words::{time_text, with_unit};
use crate::model::ids::ReadingId;
use crate::model::part::Part;
use crate::model::reading::Reading;
use crate::model::state::State;
use crate::predict::Prediction;
use crate::review::Review;

pub(super) fn section(part: &Part, review: &Review) -> Markup {
    html! { @for (id, reading) in told(part) { (one(part, review, id, reading)) } }
}

/// Readings, for an array the first element; then derived quantities and shared values.
pub(super) fn told(part: &Part) -> Vec<(ReadingId, &Reading)> {
    let mut spans = BTreeSet::new();
    let mut all: Vec<_> = part.readings.entries().collect();
    all.sort_by_key(|(_, reading)| (reading.is_shared(), reading.is_derived()));
    all.into_iter().filter(|(_, reading)| spans.insert(reading.span().start)).collect()
}

fn one(part: &Part, review: &Review, id: ReadingId, reading: &Reading) -> Markup {
    let reset = State::while_read(part);
    let elements = part.readings.iter().filter(|other| other.span() == reading.span()).count();
    let stated = reading.range(part, &reset);
    html! {
        article id=(anchor("reading", reading.name())) {
            h3 {
                (reading.name()) " "
                span .at { (heading(reading)) }
                (cited(reading.source()))
            }
            @if elements > 1 { p { "One of an array of " (elements) "." } }
            @if let Some(means) = reading.means() { p { (means) } }
            @let formula = unindented(&part.typed(reading.formula()));
            pre .formula { @if reading.is_derived() { (linked_to_readings(part, &formula)) } @else { (linked(part, &formula)) } }
            dl {
                @if let Some(found) = review.prediction(id) { (facts(part, reading, found)) }
                @if let Some((low, high)) = stated { dt { "stated range" } dd { (low) " to " (with_unit(high, reading.unit())) } }
                @if let Some(start) = part.start_text(reading) { dt { "begins with" } dd { code { (start) } } }
                @if let Some(gap) = reading.longest_gap() { dt { "longest gap" } dd { (time_text(gap)) } }
                dt { "from" }
                dd {
                    @for (index, other) in part.readings.of(reading.derived_from()).enumerate() {
                        @if index > 0 { ", " } a href=(format!("#{}", anchor("reading", other.name()))) { (other.name()) }
                    }
                    @for (index, code) in part.codes.of(reading.codes()).take(8).enumerate() {
                        @if index > 0 { ", " } a href=(format!("#{}", code_anchor(part, code))) { (code.name()) }
                    }
                    @if reading.codes().len() > 8 { " and " (reading.codes().len() - 8) " more" }
                }
            }
            (conditions(part, reading.conditions()))
            (curve::figure(part, id, stated))
        }
    }
}

/// Description next to the name.
fn heading(reading: &Reading) -> String {
    match (reading.is_shared(), reading.unit()) {
        (true, "" | "1") => "a shared value".into(),
        (true, unit) => format!("a shared value in {unit}"),
        (false, unit) => {
            let derived = if reading.is_derived() { ", derived" } else { "" };
            if unit == "1" { format!("dimensionless{derived}") } else { format!("in {unit}{derived}") }
        }
    }
}

fn facts(part: &Part, reading: &Reading, found: &Prediction) -> Markup {
    let digits = found.digits;
    let with: Vec<String> = found.settings.iter().filter_map(|(field, code)| part.setting_text(*field, *code)).collect();
    html! {
        @if let Some(extent) = found.extent.filter(|extent| extent.low.is_finite() && extent.high.is_finite()) {
            dt { "possible values" }
            dd {
                @if !extent.exact { "within " }
                (digits.text(extent.low)) " to " (with_unit(digits.text(extent.high), reading.unit()))
                @if !with.is_empty() { ", with " (with.join(", ")) }
            }
        }
        @if let Some((finest, coarsest)) = found.step {
            dt { "step" }
            dd { (short(finest)) @if coarsest > finest * 1.01 { " to " (short(coarsest)) } }
        }
        dt { "arithmetic" }
        dd { (found.arithmetic()) }
        @for fault in &found.faults {
            dt { "fault" }
            dd { (fault.kind.describe()) " with " (fault.codes.iter().map(|(name, code)| format!("{name} = {code}")).collect::<Vec<_>>().join(", ")) }
        }
    }
}

/// A number with six significant digits, without trailing zeros.
pub(super) fn short(value: f64) -> String {
    let text = Digits::UNKNOWN.text(value);
    if text.contains('.') && !text.contains('e') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text }
}

//! The datasheet's worked examples with their results.

use maud::{Markup, html};

use super::{anchor, cited};
use crate::decode::ReadingValue;
use crate::ground::hex::to_hex;
use crate::ground::words::{time_text, with_unit};
use crate::model::example::Example;
use crate::model::part::Part;
use crate::model::status::Status;
use crate::review::{ExampleRun, Review};

/// Maximum number of readings shown per example.
const MOST: usize = 12;

pub(super) fn section(part: &Part, review: &Review) -> Markup {
    if part.examples().is_empty() {
        return html! {};
    }
    html! {
        @for (index, (example, run)) in part.examples().iter().zip(&review.examples).enumerate() {
            @let verdict = if run.mismatches.is_empty() { "agrees" } else { "differs" };
            article id=(anchor("example", &(index + 1).to_string())) {
                h3 { "Example " (index + 1) " " (cited(example.datasheet())) " " span class=(verdict) { (verdict) } }
                @let set: Vec<String> = example.set.iter().filter_map(|(field, code)| part.setting_text(*field, *code)).chain(example.supplied.iter().map(|(text, _)| text.clone())).collect();
                @if !set.is_empty() { p { "With " (set.join(", ")) "." } }
                @for (at, (frame, bytes)) in example.frames.iter().enumerate() {
                    @let name = part.frames[*frame].name();
                    p { a href=(format!("#{}", anchor("frame", name))) { (name) } " " code { (to_hex(bytes)) } (moment(example, at)) }
                }
                @let readings = given(run);
                @if !readings.is_empty() {
                    ul .readings {
                        @for reading in readings {
                            li {
                                (reading.name) " " b { (with_unit(reading.value.map_or(String::new(), |value| reading.digits.text(value)), &reading.unit)) }
                                @if reading.status != Status::Ok { " " span .status { (reading.status.as_str()) } }
                            }
                        }
                    }
                }
                @for mismatch in &run.mismatches { p .help { (mismatch.name) ": expected " (mismatch.expected) ", found " (mismatch.found) } }
            }
        }
    }
}

/// When a frame of it came, where it says so.
pub(super) fn moment(example: &Example, at: usize) -> String {
    example.times.get(at).map_or(String::new(), |seconds| format!(" at {}", time_text((seconds * 1e6) as u64)))
}

/// What its frames gave: the last of each reading.
pub(super) fn given(run: &ExampleRun) -> Vec<&ReadingValue> {
    let mut last: Vec<&ReadingValue> = Vec::new();
    for reading in run.readings.iter().filter(|reading| reading.value.is_some()) {
        last.retain(|known| known.name != reading.name);
        last.push(reading);
    }
    last.truncate(MOST);
    last
}

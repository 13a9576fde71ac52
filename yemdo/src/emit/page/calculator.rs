//! Data for the page's calculator: registers and frames bit by bit, and the decoder's program for readings.

use std::fmt::Write;

use maud::{Markup, PreEscaped, html};

use super::program;
use crate::bits::layout::{Layout, Slice};
use crate::model::frame::Frame;
use crate::model::ids::FrameId;
use crate::model::part::Part;
use crate::model::registers::Register;
use crate::model::state::State;
use crate::plan::frame::ReadingPlan;
use crate::predict;

/// Runs the program of a frame.
const COMPUTE: &str = include_str!("compute.js");
const SCRIPT: &str = include_str!("script.js");
/// Longer frames have too many bits to click at.
const MOST_BYTES: usize = 32;

/// The search field, which the script shows.
pub(super) fn search() -> Markup {
    html! {
        form #searching hidden role="search" onsubmit="return false" {
            label { "Search " input #search type="search" placeholder="a name or a word" autocomplete="off"; } " " span #found aria-live="polite" {}
        }
    }
}

/// The calculator, which the script shows and fills; nothing where there is nothing to calculate with.
pub(super) fn section(part: &Part) -> Markup {
    if items(part).is_empty() {
        return html! {};
    }
    html! {
        p { "Click bits, or type a value in hex: fields, codes and readings follow. Other frames keep their last value here; parameters have their defaults." }
        p .controls {
            label { "of " select #calculator-choice {} } " "
            label { "in hex " input #calculator-value size="28" spellcheck="false" autocomplete="off"; } " "
            span { "with " span #calculator-setting {} } " "
            span #calculator-note .status aria-live="polite" {}
        }
        div #calculator-grid {}
        table .values { tbody #calculator-out {} }
    }
}

/// The script and its tables, behind everything else.
pub(super) fn script(part: &Part) -> Markup {
    html! {
        script #tables type="application/json" { (PreEscaped(format!("[{}]", items(part).join(",")))) }
        script #compute { (PreEscaped(COMPUTE)) }
        script { (PreEscaped(SCRIPT)) }
    }
}

fn items(part: &Part) -> Vec<String> {
    let frames = part.frames.entries().filter(|(_, frame)| (1..=MOST_BYTES).contains(&frame.length()));
    let frames = frames.map(|(id, frame)| of_frame(part, id, frame));
    frames.chain(part.registers.iter().map(|register| of_register(part, register))).collect()
}

/// A text in JSON that no script can be left with.
pub(super) fn text(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            '<' | '>' | '&' | '\u{0}'..='\u{1f}' | '\u{2028}' | '\u{2029}' => {
                let _ = write!(out, "\\u{:04x}", u32::from(c));
            }
            _ => out.push(c),
        }
    }
    out.push('"');
    out
}

pub(super) fn list(items: impl IntoIterator<Item = impl ToString>) -> String {
    format!("[{}]", items.into_iter().map(|item| item.to_string()).collect::<Vec<_>>().join(","))
}

/// The places of slices among the bits of a frame, the first bit being the highest of its first byte.
fn places(slices: &[Slice]) -> Vec<usize> {
    slices.iter().flat_map(|slice| (slice.low..=slice.high).rev().map(|bit| slice.byte * 8 + 7 - usize::from(bit))).collect()
}

fn of_frame(part: &Part, id: FrameId, frame: &Frame) -> String {
    let codes = part.codes.of(frame.codes()).map(|code| {
        let Layout { slices, form, .. } = code.layout();
        format!("{{\"name\":{},\"bits\":{},\"form\":{}}}", text(code.name()), list(places(slices)), text(&form.name()))
    });
    let digits = |planned: &ReadingPlan| predict::digits(part, planned.id, &State::while_read(part), &|value| value);
    let members = program::members(part, id, digits);
    let example = part
        .examples()
        .iter()
        .flat_map(|example| &example.frames)
        .find(|(id, _)| part.frames.get(*id).is_some_and(|one| one.name() == frame.name()));
    let start = example.map_or_else(|| vec![0; frame.length()], |(_, bytes)| bytes.clone());
    // An answer over Modbus has more around it.
    let start = if start.len() == frame.length() { start } else { vec![0; frame.length()] };
    let start: String = start.iter().map(|byte| format!("{byte:08b}")).collect();
    format!("{{\"kind\":\"frame\",\"name\":{},\"start\":\"{start}\",\"codes\":{},{members}}}", text(frame.name()), list(codes))
}

fn of_register(part: &Part, register: &Register) -> String {
    let width = register.width() as usize;
    let codes = part.fields.of(register.fields()).filter(|field| !field.joined).map(|field| {
        let bits = field.bits_in(register).into_iter().flat_map(|(high, low)| (low..=high).rev()).map(|bit| width - 1 - bit as usize);
        let names = field.values().iter().map(|row| format!("{}:{}", text(&row.code.to_string()), text(row.name.as_deref().unwrap_or(""))));
        let form = field.layout.form.name();
        let names: Vec<String> = names.collect();
        format!("{{\"name\":{},\"bits\":{},\"form\":{},\"values\":{{{}}}}}", text(field.name()), list(bits), text(&form), names.join(","))
    });
    let start = register.reset().unwrap_or(0);
    format!(
        "{{\"kind\":\"register\",\"name\":{},\"start\":\"{start:0width$b}\",\"codes\":{},\"readings\":[]}}",
        text(register.name()),
        list(codes)
    )
}

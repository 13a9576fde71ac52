//! Frames, byte by byte.

use maud::{Markup, html};

use super::readings::told;
use super::{anchor, broken, cited, code_anchor, conditions, runs};
use crate::bits::form::Form;
use crate::bits::layout::Slice;
use crate::ground::words::counted;
use crate::model::frame::{Frame, Origin};
use crate::model::part::Part;

/// Frames with more bytes are described in words.
pub(super) const MOST_BYTES: usize = 64;

pub(super) fn section(part: &Part) -> Markup {
    html! { @for frame in part.frames.iter() { (one(part, frame)) } }
}

fn one(part: &Part, frame: &Frame) -> Markup {
    let from = match frame.origin() {
        Origin::Read(one) if !one.command.is_empty() => format!(" after {}", one.command.text(part)),
        Origin::Registers(runs) => format!(" of registers, in {}", counted(runs.len(), "transfer")),
        Origin::Modbus(range) => format!(": {range}"),
        Origin::Transfers(transfers) => format!(" in {}", counted(transfers.len(), "transfer")),
        _ => String::new(),
    };
    html! {
        article id=(anchor("frame", frame.name())) {
            h3 { (frame.name()) " " span .at { (counted(frame.length(), "byte")) (from) } (cited(frame.source())) }
            @if let Some(means) = frame.means() { p { (means) } }
            @if frame.length() <= MOST_BYTES {
                div .scroll { table .bits {
                    caption { "The bytes of " (frame.name()) ", as they come" }
                    tr .numbers { th {} @for bit in (0..8).rev() { th scope="col" { (bit) } } }
                    @for (first, last, runs) in rows(part, frame) {
                        tr { th scope="row" { "b" (first) @if last > first { " – b" (last) } } (row(&runs)) }
                    }
                } }
            }
            div .scroll { table .codes {
                thead { tr { th { "code" } th { "layout" } th { "form" } th { "lowest" } th { "highest" } } }
                tbody {
                    @for code in part.codes.of(frame.codes()) {
                        @let (low, high) = code.bounds();
                        tr id=(code_anchor(part, code)) {
                            td { (code.name()) }
                            td .code { (code.layout().notation()) }
                            td { (code.layout().form.name()) }
                            @if code.ty().is_real() || code.layout().form == Form::Text { td {} td {} } @else { td .number { (low) } td .number { (high) } }
                        }
                    }
                }
            } }
            @for check in frame.checks() { p .note { "Check: " (check.method()) "." } }
            (conditions(part, frame.conditions()))
            @let given = brought(part, frame);
            @if !given.is_empty() {
                p .note { "Readings: " @for (index, name) in given.iter().enumerate() { @if index > 0 { ", " } a href=(format!("#{}", anchor("reading", name))) { (name) } } "." }
            }
        }
    }
}

/// Readings of a frame; for an array, the first element.
fn brought<'p>(part: &'p Part, frame: &Frame) -> Vec<&'p str> {
    let shown = told(part).into_iter().filter(|(id, reading)| reading.is_measured() && frame.readings().contains(id));
    shown.map(|(_, reading)| reading.name()).collect()
}

/// What bits are: a code with its anchor, or a check without one.
pub(super) type Owner = Option<(String, Option<String>)>;

/// Adjacent bits: highest, lowest, meaning.
pub(super) type Run = (u32, u32, Owner);

/// Meanings of the bits of a byte, the highest first.
pub(super) fn bits(part: &Part, frame: &Frame, byte: usize) -> Vec<Run> {
    let inside = |slices: &[Slice], bit: u32| {
        slices.iter().any(|slice| slice.byte == byte && (u32::from(slice.low)..=u32::from(slice.high)).contains(&bit))
    };
    runs(7, 0, |bit| {
        let code = part.codes.of(frame.codes()).find(|code| inside(&code.layout().slices, bit));
        let check = || frame.checks().iter().find(|check| inside(&check.place, bit)).map(|check| (check.method(), None));
        code.map(|code| (code.name().to_owned(), Some(code_anchor(part, code)))).or_else(check)
    })
}

/// Bytes of a frame; adjacent bytes of a single code or check are one row.
fn rows(part: &Part, frame: &Frame) -> Vec<(usize, usize, Vec<Run>)> {
    let mut rows: Vec<(usize, usize, Vec<Run>)> = Vec::new();
    for byte in 0..frame.length() {
        let runs = bits(part, frame, byte);
        match rows.last_mut() {
            Some((_, last, before)) if *before == runs && runs.len() == 1 => *last = byte,
            _ => rows.push((byte, byte, runs)),
        }
    }
    rows
}

fn row(runs: &[Run]) -> Markup {
    html! {
        @for (high, low, own) in runs {
            @match own {
                Some((name, Some(anchor))) => td .field colspan=(high - low + 1) { a href=(format!("#{anchor}")) { (broken(name)) } },
                Some((name, None)) => td .check colspan=(high - low + 1) { (name) },
                None => td .reserved colspan=(high - low + 1) { "–" },
            }
        }
    }
}

//! What the page's script calculates with: registers and frames bit by bit, and readings as tables of code and value.

use std::fmt::Write;

use maud::{Markup, PreEscaped, html};

use crate::bits::layout::{Layout, Slice};
use crate::ground::digits::Digits;
use crate::model::frame::Frame;
use crate::model::part::Part;
use crate::model::registers::Register;
use crate::model::state::State;
use crate::predict::{self, Curve, curves};

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
        p { "Click bits, or type a value in hex: fields, codes and readings follow." }
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
        script { (PreEscaped(SCRIPT)) }
    }
}

fn items(part: &Part) -> Vec<String> {
    let frames = part.frames.iter().filter(|frame| (1..=MOST_BYTES).contains(&frame.length())).map(|frame| of_frame(part, frame));
    frames.chain(part.registers.iter().map(|register| of_register(part, register))).collect()
}

/// A text in JSON that no script can be left with.
fn text(text: &str) -> String {
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

fn list(items: impl IntoIterator<Item = impl ToString>) -> String {
    format!("[{}]", items.into_iter().map(|item| item.to_string()).collect::<Vec<_>>().join(","))
}

/// The places of slices among the bits of a frame, the first bit being the highest of its first byte.
fn places(slices: &[Slice]) -> Vec<usize> {
    slices.iter().flat_map(|slice| (slice.low..=slice.high).rev().map(|bit| slice.byte * 8 + 7 - usize::from(bit))).collect()
}

fn of_frame(part: &Part, frame: &Frame) -> String {
    let codes = part.codes.of(frame.codes()).map(|code| {
        let Layout { slices, form, .. } = code.layout();
        format!("{{\"name\":{},\"bits\":{},\"form\":{}}}", text(code.name()), list(places(slices)), text(&form.name()))
    });
    let readings = part.readings.entries().filter(|(id, reading)| reading.is_measured() && frame.readings().contains(id)).filter_map(
        |(id, reading)| {
            let curves = curves(part, id)?;
            let code = curves.first()?.code.clone();
            part.codes.of(frame.codes()).any(|known| known.name() == code).then_some(())?;
            let decimals = match predict::digits(part, id, &State::reset(part), &|value| value) {
                Digits::Decimals(decimals) => decimals,
                _ => 6,
            };
            let unit = if reading.unit() == "1" { "" } else { reading.unit() };
            // What decides has its reset value at first.
            let reset = State::reset(part);
            let with = part.fields.of(&predict::deciding(part, id)).map(|field| field.value_text(reset.field(field))).collect::<Vec<_>>();
            let curves: Vec<String> = curves.iter().map(curve).collect();
            Some(format!(
                "{{\"name\":{},\"unit\":{},\"code\":{},\"decimals\":{decimals},\"with\":{},\"curves\":{}}}",
                text(reading.name()),
                text(unit),
                text(&code),
                text(&with.join(", ")),
                list(curves)
            ))
        },
    );
    let example = part
        .examples()
        .iter()
        .flat_map(|example| &example.frames)
        .find(|(id, _)| part.frames.get(*id).is_some_and(|one| one.name() == frame.name()));
    let start = example.map_or_else(|| vec![0; frame.length()], |(_, bytes)| bytes.clone());
    // An answer over Modbus has more around it.
    let start = if start.len() == frame.length() { start } else { vec![0; frame.length()] };
    let start: String = start.iter().map(|byte| format!("{byte:08b}")).collect();
    format!(
        "{{\"kind\":\"frame\",\"name\":{},\"start\":\"{start}\",\"codes\":{},\"readings\":{}}}",
        text(frame.name()),
        list(codes),
        list(readings)
    )
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

/// The points of a curve: of a straight one its ends, so that every code has its exact value.
fn curve(curve: &Curve) -> String {
    let points: Vec<(i128, f64, bool)> =
        curve.points.iter().filter_map(|point| Some((point.code, point.value?, point.saturated))).collect();
    let line = points.first().zip(points.last()).filter(|(first, last)| first.0 < last.0);
    let largest = points.iter().fold(0.0, |most: f64, point| most.max(point.1.abs()));
    let straight = points.len() == curve.points.len()
        && line.is_some_and(|(first, last)| {
            let slope = (last.1 - first.1) / (last.0 - first.0) as f64;
            points.iter().all(|point| (first.1 + slope * (point.0 - first.0) as f64 - point.1).abs() <= largest * 1e-9)
        });
    // Where saturation begins and ends stays in.
    let turns = |at: usize| {
        let end = |at: usize| curve.points.get(at).map(|point| point.saturated);
        at == 0 || at + 1 == curve.points.len() || end(at) != end(at + 1) || end(at) != end(at.wrapping_sub(1))
    };
    let kept = curve.points.iter().enumerate().filter(|(at, _)| !straight || turns(*at)).map(|(_, point)| {
        let value = point.value.filter(|value| value.is_finite()).map_or("null".to_owned(), |value| value.to_string());
        format!("[{},{value},{}]", point.code, point.saturated)
    });
    format!("{{\"with\":{},\"straight\":{straight},\"points\":{}}}", text(&curve.label), list(kept))
}

//! A part as one page of HTML that needs nothing else: what its sheet says, what follows from it, and how it looks on the bus.
//!
//! In: the part, its review. Out: text. The page is whole without scripts and asks no other host for anything; with its own small script it can be
//! searched, and has a calculator.

mod calculator;
mod curve;
mod examples;
mod formula;
mod frames;
mod markdown;
mod mistakes;
mod program;
mod readings;
mod registers;
mod routines;

pub use markdown::page_as_markdown;
use maud::{DOCTYPE, Markup, PreEscaped, html};

use crate::ground::words::counted;
use crate::model::frame::Code;
use crate::model::part::Part;
use crate::model::reading::Condition;
use crate::review::Review;

const STYLE: &str = include_str!("style.css");

/// A part as a page: one file of HTML (WHATWG HTML), for people who want to see a register map, a formula, a routine.
///
/// ```
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
/// reading.light = { unit = "lx", formula = "light * 0.5" }
/// "#).unwrap();
/// let page = yemdo::emit::page(&part);
/// assert!(page.starts_with("<!DOCTYPE html>") && page.contains("</a> * 0.5"));
/// ```
pub fn page(part: &Part) -> String {
    let review = Review::new(part);
    let sections: Vec<(&str, &str, Markup)> = [
        ("registers", "Registers", registers::section(part)),
        ("frames", "Frames", frames::section(part)),
        ("readings", "Readings", readings::section(part, &review)),
        ("routines", "Routines", routines::section(part)),
        ("examples", "Worked examples", examples::section(part, &review)),
        ("mistakes", "Common mistakes", invited(part)),
        ("warnings", "Warnings", warnings(part, &review)),
    ]
    .into_iter()
    .filter(|(.., body)| !body.0.is_empty())
    .collect();
    let calculator = calculator::section(part);
    let page = html! {
        (DOCTYPE) (PreEscaped(concat!("\n<!-- Made by yemdo ", env!("CARGO_PKG_VERSION"), ". Do not edit it: change the sheet, and emit it again. -->\n")))
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (part.name()) @if let Some(title) = part.title() { ": " (title) } }
                style { (PreEscaped(STYLE)) }
            }
            body {
                header {
                    h1 { (part.name()) }
                    @if let Some(title) = part.title() { p .title { (title) } }
                    @if let Some(datasheet) = part.datasheet() { p .after { "After: " (datasheet) } }
                    (identity(part))
                    nav aria-label="Sections" {
                        @for (id, title, _) in &sections { a href=(format!("#{id}")) { (title) } }
                        @if !calculator.0.is_empty() { a href="#calculator" hidden { "Calculator" } }
                        (calculator::search())
                    }
                }
                main {
                    @for (id, title, body) in &sections {
                        section id=(id) { h2 { (title) } (body) }
                    }
                    @if !calculator.0.is_empty() { section #calculator hidden { h2 { "Calculator" } (calculator) } }
                }
                footer { "Made by yemdo " (env!("CARGO_PKG_VERSION")) " from the sheet " (part.source().name()) "." }
                (calculator::script(part))
            }
        }
    };
    let mut text = page.into_string();
    text.push('\n');
    text
}

/// How it is reached, in all the forms that people write addresses in.
fn identity(part: &Part) -> Markup {
    let wires: Vec<Vec<String>> = part.buses().all().filter_map(|bus| part.buses().wire(bus)).map(|wire| wire.describe()).collect();
    html! {
        @if !wires.is_empty() {
            ul .wires { @for lines in &wires { li { @for line in lines { span { (line.trim()) } } } } }
        }
        p .counts { (counts(part)) }
    }
}

/// How much there is of what.
fn counts(part: &Part) -> String {
    let shown = part.readings().iter().filter(|reading| reading.is_measured()).count();
    let all = [
        (part.registers().len(), "register"),
        (part.fields().len(), "field"),
        (part.frames().len(), "frame"),
        (shown, "reading"),
        (part.routines().len(), "routine"),
    ];
    all.into_iter().filter(|(count, _)| *count > 0).map(|(count, what)| counted(count, what)).collect::<Vec<_>>().join(", ")
}

/// What of it is often done otherwise.
fn invited(part: &Part) -> Markup {
    let all = mistakes::mistakes(part);
    html! { @if !all.is_empty() { ul { @for one in &all { li { (one) } } } } }
}

/// What of the sheet is often meant otherwise.
fn warnings(part: &Part, review: &Review) -> Markup {
    if review.warnings.is_empty() {
        return html! {};
    }
    html! {
        ul .warnings {
            @for warning in &review.warnings {
                li {
                    b { (warning.message) } " " (warning.label) ", line " (part.source().line(warning.span.start)) " of the sheet"
                    @for help in &warning.help { p .help { (help) } }
                }
            }
        }
    }
}

/// An anchor of a name.
fn anchor(kind: &str, name: &str) -> String {
    format!("{kind}-{}", name.replace(|c: char| !c.is_ascii_alphanumeric(), "-").to_lowercase())
}

/// That of a code, whose name only its frame knows.
fn code_anchor(part: &Part, code: &Code) -> String {
    anchor("code", &format!("{} {}", part.frames.get(code.frame()).map_or("", |frame| frame.name()), code.name()))
}

/// What holds under which condition.
fn conditions(part: &Part, list: &[Condition]) -> Markup {
    html! {
        @if !list.is_empty() {
            ul .conditions {
                @for condition in list {
                    @if condition.needs().is_some() { li { (condition.means.as_deref().unwrap_or_default()) ", otherwise " b { (condition.status.as_str()) } } }
                    @else { li { code { (formula::linked(part, &part.typed(&condition.formula))) } " → " b { (condition.status.as_str()) } @if let Some(means) = &condition.means { ": " (means) } } }
                }
            }
        }
    }
}

/// Bits from the highest to the lowest as runs that have the same owner: their ends, and the owner.
fn runs<T: PartialEq>(high: u32, low: u32, owner: impl Fn(u32) -> T) -> Vec<(u32, u32, T)> {
    let mut runs: Vec<(u32, u32, T)> = Vec::new();
    for bit in (low..=high).rev() {
        let own = owner(bit);
        match runs.last_mut() {
            Some((_, end, last)) if *last == own => *end = bit,
            _ => runs.push((bit, bit, own)),
        }
    }
    runs
}

/// A name that may be broken behind its underscores.
fn broken(name: &str) -> Markup {
    html! { @for (index, word) in name.split('_').enumerate() { @if index > 0 { "_" wbr; } (word) } }
}

/// Where the datasheet says so.
fn cited(source: Option<&str>) -> Markup {
    html! { @if let Some(source) = source { span .cited { (source) } } }
}

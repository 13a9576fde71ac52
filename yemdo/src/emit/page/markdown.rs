//! The same page in Markdown, for repositories and reviews: what HTML draws is a table or a list here.

use std::fmt::Write;

use super::examples::{given, moment};
use super::formula::unindented;
use super::frames::{MOST_BYTES, bits};
use super::mistakes::mistakes;
use super::readings::{short, told};
use super::registers::{by_address, reset_text};
use crate::bits::form::Form;
use crate::ground::hex::to_hex;
use crate::ground::words::{counted, time_text, with_unit};
use crate::model::frame::Frame;
use crate::model::part::Part;
use crate::model::reading::Condition;
use crate::model::registers::Register;
use crate::model::state::State;
use crate::model::status::Status;
use crate::review::Review;
use crate::routine::Runner;

/// A part as one file of Markdown (CommonMark with the tables of its GitHub-flavoured form).
///
/// ```
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
/// reading.light = { unit = "lx", formula = "light * 0.5" }
/// "#).unwrap();
/// let text = yemdo::emit::page_as_markdown(&part);
/// assert!(text.starts_with("# lamp-1\n") && text.contains("| light | `b0 b1` | unsigned | 0 | 65535 |"));
/// ```
pub fn page_as_markdown(part: &Part) -> String {
    let review = Review::new(part);
    let mut page = Page(String::new());
    page.line(&format!("# {}", plain(part.name())));
    page.line("");
    page.paragraph(part.title().map(plain).unwrap_or_default());
    page.paragraph(part.datasheet().map(|datasheet| format!("After: {}", plain(datasheet))).unwrap_or_default());
    for wire in part.buses().all().filter_map(|bus| part.buses().wire(bus)) {
        let lines: Vec<String> = wire.describe().iter().map(|line| plain(line.trim())).collect();
        page.line(&format!("- {}", lines.join("; ")));
    }
    registers(&mut page, part);
    frames(&mut page, part);
    readings(&mut page, part, &review);
    routines(&mut page, part);
    examples(&mut page, part, &review);
    let invited: Vec<String> = mistakes(part).iter().map(|one| plain(one)).collect();
    page.list("Common mistakes", &invited);
    let told = |line: usize, message: &str| format!("{}, line {line} of the sheet", plain(message));
    let warnings = review.warnings.iter().map(|warning| told(part.source().line(warning.span.start), &warning.message));
    page.list("Warnings", &warnings.collect::<Vec<_>>());
    page.line("");
    page.line(&format!("<!-- Made by yemdo {}. Do not edit it: change the sheet, and emit it again. -->", env!("CARGO_PKG_VERSION")));
    page.0
}

struct Page(String);

impl Page {
    fn line(&mut self, text: &str) {
        self.0.push_str(text);
        self.0.push('\n');
    }

    fn paragraph(&mut self, text: String) {
        if !text.is_empty() {
            self.line(&text);
            self.line("");
        }
    }

    fn title(&mut self, level: usize, text: &str) {
        if !self.0.ends_with("\n\n") {
            self.line("");
        }
        self.line(&format!("{} {text}", "#".repeat(level)));
        self.line("");
    }

    fn table(&mut self, titles: &[&str], rows: impl IntoIterator<Item = Vec<String>>) {
        let mut rows = rows.into_iter().peekable();
        if rows.peek().is_none() {
            return;
        }
        self.line(&format!("| {} |", titles.join(" | ")));
        self.line(&format!("|{}", "---|".repeat(titles.len())));
        for row in rows {
            self.line(&format!("| {} |", row.join(" | ")));
        }
        self.line("");
    }

    fn list(&mut self, title: &str, items: &[String]) {
        if items.is_empty() {
            return;
        }
        self.title(2, title);
        items.iter().for_each(|item| self.line(&format!("- {item}")));
        self.line("");
    }
}

/// A text as it is, without meaning anything to Markdown or to the HTML in it.
fn plain(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            '<' => out.push_str("&lt;"),
            '&' => out.push_str("&amp;"),
            '\\' | '`' | '*' | '[' | ']' | '|' | '#' | '~' => out.extend(['\\', c]),
            // A line of its own would end a table.
            '\n' | '\r' => out.push(' '),
            _ => out.push(c),
        }
    }
    out
}

/// A text as code, in a table too.
fn code(text: &str) -> String {
    let fence = if text.contains('`') { "``" } else { "`" };
    let blank = if text.contains('`') { " " } else { "" };
    format!("{fence}{blank}{}{blank}{fence}", text.replace('|', "\\|").replace(['\n', '\r'], " "))
}

fn registers(page: &mut Page, part: &Part) {
    if part.registers().is_empty() {
        return;
    }
    page.title(2, "Registers");
    let list = by_address(part);
    let decimal = part.buses().modbus.is_some();
    let row = |register: &&Register| {
        let address = format!("0x{:02X}", register.address());
        vec![
            if decimal { format!("{address} ({})", register.address()) } else { address },
            plain(register.name()),
            register.width().to_string(),
            register.access().as_str().to_owned(),
            reset_text(register),
            plain(register.means().unwrap_or("")),
        ]
    };
    page.table(&["address", "register", "width", "access", "reset value", "means"], list.iter().map(row));
    for register in list.iter().filter(|register| !register.fields().is_empty()) {
        page.title(3, &plain(register.name()));
        let row = |field: &crate::model::registers::Field| {
            let (low, high) = field.bounds();
            let values: Vec<String> =
                field.values().iter().map(|row| format!("{} {}", row.code, plain(row.name.as_deref().unwrap_or("")))).collect();
            let values = if values.is_empty() { format!("{low} to {high}") } else { values.join(", ") };
            vec![code(&field.bits_text(register)), plain(field.name()), values, plain(field.means().unwrap_or(""))]
        };
        page.table(&["bits", "field", "codes", "means"], part.fields().of(register.fields()).map(row));
    }
}

fn frames(page: &mut Page, part: &Part) {
    for (at, frame) in part.frames().iter().enumerate() {
        if at == 0 {
            page.title(2, "Frames");
        }
        page.title(3, &format!("{}, {}", plain(frame.name()), counted(frame.length(), "byte")));
        page.paragraph(frame.means().map(plain).unwrap_or_default());
        if frame.length() <= MOST_BYTES {
            let titles: Vec<String> = std::iter::once("byte".to_owned()).chain((0..8).rev().map(|bit| bit.to_string())).collect();
            let titles: Vec<&str> = titles.iter().map(String::as_str).collect();
            page.table(&titles, (0..frame.length()).map(|byte| byte_row(part, frame, byte)));
        }
        let row = |one: &crate::model::frame::Code| {
            let (low, high) = one.bounds();
            let bounds = if one.ty().is_real() || one.layout().form == Form::Text {
                [String::new(), String::new()]
            } else {
                [low.to_string(), high.to_string()]
            };
            let [low, high] = bounds;
            vec![plain(one.name()), code(&one.layout().notation()), one.layout().form.name(), low, high]
        };
        page.table(&["code", "layout", "form", "lowest", "highest"], part.codes().of(frame.codes()).map(row));
        for check in frame.checks() {
            page.paragraph(format!("Check: {}.", plain(&check.method())));
        }
        conditions(page, part, frame.conditions());
    }
}

/// A byte of a frame: whose its bits are, each run told at its highest bit.
fn byte_row(part: &Part, frame: &Frame, byte: usize) -> Vec<String> {
    let mut row = vec![format!("b{byte}")];
    for (high, low, own) in bits(part, frame, byte) {
        let more = if own.is_some() { "…" } else { "–" };
        row.push(own.map_or("–".to_owned(), |(name, _)| plain(&name)));
        row.extend((low..high).map(|_| more.to_owned()));
    }
    row
}

fn conditions(page: &mut Page, part: &Part, list: &[Condition]) {
    for condition in list {
        if condition.needs().is_some() {
            page.line(&format!("- {}, otherwise **{}**", plain(condition.means.as_deref().unwrap_or_default()), condition.status.as_str()));
            continue;
        }
        let means = condition.means.as_deref().map_or(String::new(), |means| format!(": {}", plain(means)));
        page.line(&format!("- {} → **{}**{means}", code(&part.typed(&condition.formula)), condition.status.as_str()));
    }
    if !list.is_empty() {
        page.line("");
    }
}

fn readings(page: &mut Page, part: &Part, review: &Review) {
    let reset = State::while_read(part);
    for (at, (id, reading)) in told(part).into_iter().enumerate() {
        if at == 0 {
            page.title(2, "Readings");
        }
        page.title(
            3,
            &if reading.unit() == "1" || reading.unit().is_empty() {
                plain(reading.name())
            } else {
                format!("{} in {}", plain(reading.name()), plain(reading.unit()))
            },
        );
        page.paragraph(reading.means().map(plain).unwrap_or_default());
        let formula = unindented(&part.typed(reading.formula()));
        // Longer than any row of backticks in it.
        let fence = "`".repeat(3.max(formula.split(|c| c != '`').map(str::len).max().unwrap_or(0) + 1));
        page.line(&format!("{fence}c\n{formula}\n{fence}\n"));
        if let Some(found) = review.prediction(id) {
            if let Some(extent) = found.extent.filter(|extent| extent.low.is_finite() && extent.high.is_finite()) {
                let within = if extent.exact { "" } else { "within " };
                let (low, high) = (found.digits.text(extent.low), with_unit(found.digits.text(extent.high), reading.unit()));
                page.line(&format!("- possible values: {within}{low} to {}", plain(&high)));
            }
            if let Some((finest, coarsest)) = found.step {
                let to = if coarsest > finest * 1.01 { format!(" to {}", short(coarsest)) } else { String::new() };
                page.line(&format!("- step: {}{to}", short(finest)));
            }
            page.line(&format!("- arithmetic: {}", plain(&found.arithmetic())));
        }
        if let Some((low, high)) = reading.range(part, &reset) {
            page.line(&format!("- stated range: {low} to {}", plain(&with_unit(high, reading.unit()))));
        }
        if reading.is_derived() {
            let from: Vec<String> = part.readings.of(reading.derived_from()).map(|from| plain(from.name())).collect();
            page.line(&format!("- derived from {}", from.join(", ")));
        }
        if let Some(start) = part.start_text(reading) {
            page.line(&format!("- begins with {}", code(&start)));
        }
        if let Some(gap) = reading.longest_gap() {
            page.line(&format!("- longest gap: {}", time_text(gap)));
        }
        page.line("");
        conditions(page, part, reading.conditions());
    }
}

fn routines(page: &mut Page, part: &Part) {
    let millis = |micros: u64| format!("{} ms", short(micros as f64 / 1000.0));
    for (at, (id, routine)) in part.routines().entries().enumerate() {
        if at == 0 {
            page.title(2, "Routines");
        }
        page.title(3, &plain(routine.name()));
        let laid = Runner::new(part, id, State::reset(part)).map_err(|error| error.to_string());
        match laid.and_then(|runner| runner.dry_run().map_err(|error| error.to_string())) {
            Err(why) => page.paragraph(format!("With the reset values it fails: {}.", plain(&why))),
            Ok((requests, _)) => {
                let row = |request: &crate::routine::Request| {
                    let only = request.only_if.as_ref().map_or(String::new(), |condition| format!("if {}: ", code(condition)));
                    vec![millis(request.at.0), code(&request.operation.text(millis)), format!("{only}{}", plain(&request.meaning))]
                };
                page.table(&["at", "operation", "purpose"], requests.iter().map(row));
            }
        }
    }
}

fn examples(page: &mut Page, part: &Part, review: &Review) {
    for (at, (example, run)) in part.examples().iter().zip(&review.examples).enumerate() {
        if at == 0 {
            page.title(2, "Worked examples");
        }
        let verdict = if run.mismatches.is_empty() { "agrees" } else { "differs" };
        page.title(3, &format!("Example {}, {verdict}", at + 1));
        page.paragraph(example.datasheet().map(plain).unwrap_or_default());
        for (at, (frame, bytes)) in example.frames.iter().enumerate() {
            let name = part.frames()[*frame].name();
            page.line(&format!("- {} {}{}", plain(name), code(&to_hex(bytes)), moment(example, at)));
        }
        for reading in given(run) {
            let status = if reading.status == Status::Ok { String::new() } else { format!(", {}", reading.status.as_str()) };
            let mut line = String::new();
            let value = reading.value.map_or(String::new(), |value| reading.digits.text(value));
            let _ = write!(line, "- {}: **{}**{status}", plain(&reading.name), plain(&with_unit(value, &reading.unit)));
            page.line(&line);
        }
        page.line("");
    }
}

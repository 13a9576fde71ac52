//! Running a sheet's worked examples.

use crate::configure::{Configuration, Wish, Write, WriteScope, configure, quantity_value, write_register};
use crate::decode::{Decoder, FormulaLine, ReadingValue};
use crate::ground::hex::to_hex;
use crate::ground::list::Id;
use crate::ground::number::{Number, Ty};
use crate::ground::text::Span;
use crate::ground::words::with_unit;
use crate::mend::Finding;
use crate::model::example::{Example, Expected, Subject};
use crate::model::frame::CodeContent;
use crate::model::ids::{FieldId, FrameId};
use crate::model::part::{Part, Sheet};
use crate::model::state::State;
use crate::model::status::Status;
use crate::plan::accept::Refusal;

/// One worked example, run.
#[derive(Clone, Debug)]
pub struct ExampleRun {
    /// Its place in the sheet.
    pub span: Span,
    /// Where the datasheet has it.
    pub datasheet: Option<String>,
    /// What did not agree; empty where all did.
    pub mismatches: Vec<Mismatch>,
    /// What its frames gave, in order.
    pub readings: Vec<ReadingValue>,
    /// The change of the sheet with which it would agree, where one is by far the likeliest; only a [`Review`](super::Review) looks for it.
    pub likely: Option<Finding>,
}

/// A value that is not as the example says.
#[derive(Clone, Debug)]
pub struct Mismatch {
    /// Its place in the sheet.
    pub span: Span,
    /// Name of the reading, or of the refused frame.
    pub name: String,
    /// What the example expects.
    pub expected: String,
    /// What came out.
    pub found: String,
    /// How it came about, line by line; each with what the example says of it where it says something else.
    pub steps: Vec<(String, Option<String>)>,
}

/// Runs the worked examples of a part, in order. A value agrees within half a unit of its last printed digit.
///
/// ```
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
/// reading.light = { unit = "lx", formula = "light * 0.5" }
/// example = [{ LIGHT = "00 07", gives = { light = "3.5 lx" } }]
/// "#).unwrap();
/// assert!(yemdo::review::run_examples(&part)[0].mismatches.is_empty());
/// ```
pub fn run_examples(part: &Part) -> Vec<ExampleRun> {
    let mut decoder = Decoder::new(part);
    part.examples().iter().map(|example| run(part, &mut decoder, example)).collect()
}

fn run(part: &Part, decoder: &mut Decoder, example: &Example) -> ExampleRun {
    let mut mismatches = Vec::new();
    let (mut readings, mut codes) = (Vec::new(), Vec::new());
    *decoder.state_mut() = State::while_read(part);
    decoder.clear_frames();
    for (field, code) in &example.set {
        if let Some(field) = part.fields.get(*field) {
            decoder.state_mut().set_field(field, *code);
        }
    }
    let mut quantities = Vec::new();
    if !example.supplied.is_empty() || !example.writes.is_empty() || example.sends.is_some() || asks_quantity(example) {
        let both = set_up(part, example, &State::reset(part)).and_then(|done| Ok((done, set_up(part, example, &State::while_read(part))?)));
        match both {
            Ok((from_reset, done)) => {
                mismatches.extend(written(part, example, &from_reset));
                quantities = part.quantities.ids().map(|id| quantity_value(part, id, &done.state)).collect();
                *decoder.state_mut() = done.state;
            }
            Err((span, why)) => {
                let (expected, steps) = ("settings that can be written".into(), Vec::new());
                mismatches.push(Mismatch { span, name: "set".into(), expected, found: why, steps });
            }
        }
    }
    let mut causes = Vec::new();
    let mut lines: Vec<(String, Vec<FormulaLine>)> = Vec::new();
    for (at, (frame, bytes)) in example.frames.iter().enumerate() {
        decoder.measured_at(example.times.get(at).map_or(&[], std::slice::from_ref));
        match decoder.decode(*frame, bytes) {
            Ok(decoded) => {
                let steps = decoder.steps(*frame, bytes).map(|steps| steps.readings).unwrap_or_default();
                lines.retain(|(name, _): &(String, Vec<FormulaLine>)| steps.iter().all(|reading| reading.name != *name));
                lines.extend(steps.into_iter().map(|reading| (reading.name, reading.lines)));
                readings.extend(decoded.readings);
                codes.extend(decoded.codes);
            }
            Err(refusal) => {
                causes.push(refusal.cause());
                if example.refused != Some(refusal.cause()) {
                    mismatches.push(refused(part, example, *frame, &refusal));
                }
            }
        }
    }
    if let Some(cause) = example.refused.filter(|_| causes.is_empty()) {
        let name = example.frames.first().and_then(|(frame, _)| part.frames.get(*frame)).map_or(String::new(), |frame| frame.name.clone());
        mismatches.push(Mismatch {
            span: example.span,
            name,
            expected: format!("refused: {cause}"),
            found: "a frame that passes".into(),
            steps: Vec::new(),
        });
    }
    for (subject, expected, span) in &example.gives {
        let (name, found) = match subject {
            Subject::Reading(index) => {
                let Some(reading) = part.readings.get(*index) else { continue };
                let found = readings.iter().rfind(|seen| seen.name == reading.name);
                (reading.name.clone(), found.map(|found| (reading_agrees(found, expected), describe(found, expected))))
            }
            Subject::Code(index) => {
                let Some(code) = part.codes.get(*index) else { continue };
                let found = codes.iter().rfind(|seen| seen.id == *index);
                (code.name.clone(), found.map(|found| (code_agrees(&found.value, expected), found.value.to_string())))
            }
            Subject::Quantity(index) => {
                let Some(quantity) = part.quantities.get(*index) else { continue };
                let value = quantities.get(index.index()).copied().flatten();
                let agrees = |value| number_agrees(Some(Number::Real(value, Ty::F64)), expected);
                let found = value.map(|value| (agrees(value), with_unit(value, &quantity.unit)));
                (quantity.name.clone(), found)
            }
            Subject::Step(index, variable) => {
                let Some(reading) = part.readings.get(*index) else { continue };
                let name = variable.as_ref().map_or(reading.name.clone(), |variable| format!("{}.{variable}", reading.name));
                let of_reading = lines.iter().find(|(name, _)| *name == reading.name).map(|(_, lines)| lines);
                let line = of_reading.and_then(|lines| lines.iter().rfind(|line| line.variable == *variable));
                (name, line.map(|line| (number_agrees(line.value, expected), line.outcome())))
            }
        };
        let (agrees, text) = match found {
            None if !causes.is_empty() => continue,
            None => (false, "nothing: none of the frames gives it".to_owned()),
            Some(found) => found,
        };
        if !agrees {
            let expected = match expected {
                Expected::Value { text, .. } | Expected::Text(text) => text.clone(),
                Expected::Status(status) => status.as_str().to_owned(),
                Expected::Fault(kind) => kind.describe().to_owned(),
            };
            let steps = way_to(part, example, subject, &lines);
            mismatches.push(Mismatch { span: *span, name, expected, found: text, steps });
        }
    }
    ExampleRun { span: example.span, datasheet: example.datasheet.clone(), mismatches, readings, likely: None }
}

fn asks_quantity(example: &Example) -> bool {
    example.gives.iter().any(|(subject, ..)| matches!(subject, Subject::Quantity(_)))
}

/// Resolves the settings of an example. Its writes begin with the reset state, its frames with the state to assume for them.
fn set_up(part: &Part, example: &Example, start: &State) -> Result<Configuration, (Span, String)> {
    let field = |(field, code): &(FieldId, i128)| {
        let typed = part.setting_text(*field, *code).unwrap_or_default();
        Wish::Field { field: *field, code: *code, typed }
    };
    let mut wishes: Vec<Wish> = example.set.iter().map(field).collect();
    for (typed, span) in &example.supplied {
        wishes.push(Wish::parse(part, typed).map_err(|error| (*span, error.message))?);
    }
    configure(part, start, &wishes, WriteScope::Changed).map_err(|error| (example.span, error.to_string()))
}

/// What is not written as an example says.
fn written(part: &Part, example: &Example, done: &Configuration) -> Vec<Mismatch> {
    let mut wrong = Vec::new();
    for (id, expected, span) in &example.writes {
        let Some(register) = part.registers.get(*id) else { continue };
        let digits = register.bytes * 2;
        let hex = |value: u64| format!("0x{value:0digits$X}");
        let last = done.writes.iter().rfind(|write| write.register == *id).map(|write| write.value);
        let found = last.map_or_else(|| "nothing: it is not written".to_owned(), hex);
        if last != Some(*expected) {
            let name = register.name.clone();
            wrong.push(Mismatch { span: *span, name, expected: hex(*expected), found, steps: Vec::new() });
        }
    }
    if let (Some((expected, span)), Some(bus)) = (&example.sends, part.buses.all().next()) {
        let send = |write: &Write| Some(write_register(part, bus, part.registers.get(write.register)?, write.value)?.send);
        let sent: Vec<Vec<u8>> = done.writes.iter().filter_map(send).collect();
        if sent != *expected {
            let text = |list: &[Vec<u8>]| {
                if list.is_empty() { "nothing".to_owned() } else { list.iter().map(|one| to_hex(one)).collect::<Vec<_>>().join(", ") }
            };
            wrong.push(Mismatch { span: *span, name: "sends".into(), expected: text(expected), found: text(&sent), steps: Vec::new() });
        }
    }
    wrong
}

fn reading_agrees(found: &ReadingValue, expected: &Expected) -> bool {
    match expected {
        Expected::Status(status) => found.status == *status,
        Expected::Value { value, tolerance, .. } => {
            found.value.is_some_and(|v| (v - value).abs() <= *tolerance) && matches!(found.status, Status::Ok | Status::Alert)
        }
        Expected::Fault(kind) => found.fault.as_ref().is_some_and(|fault| fault.kind == *kind),
        Expected::Text(_) => false,
    }
}

fn number_agrees(found: Option<Number>, expected: &Expected) -> bool {
    let distance = |value: &f64| found.map(|found| (found.to_f64() - value).abs());
    matches!(expected, Expected::Value { value, tolerance, .. } if distance(value).is_some_and(|distance| distance <= *tolerance))
}

/// How a value that does not agree came about, the shared values that it needs before it.
fn way_to(part: &Sheet, example: &Example, subject: &Subject, lines: &[(String, Vec<FormulaLine>)]) -> Vec<(String, Option<String>)> {
    let (Subject::Reading(index) | Subject::Step(index, _)) = subject else { return Vec::new() };
    let mut way = Vec::new();
    for needed in part.needed(*index) {
        let Some(reading) = part.readings.get(needed) else { continue };
        for line in lines.iter().filter(|(name, _)| *name == reading.name).flat_map(|(_, lines)| lines) {
            let said = example.gives.iter().find_map(|(subject, expected, _)| match (subject, expected) {
                (Subject::Step(at, variable), Expected::Value { text, .. }) if *at == needed && *variable == line.variable => {
                    Some((text, expected))
                }
                _ => None,
            });
            let name = line.variable.as_deref().unwrap_or(&reading.name);
            let differs = said.filter(|(_, expected)| !number_agrees(line.value, expected)).map(|(text, _)| text.clone());
            way.push((format!("{name} = {} = {} = {}", line.typed, line.numbers, line.outcome()), differs));
        }
    }
    way
}

fn code_agrees(found: &CodeContent, expected: &Expected) -> bool {
    match (found, expected) {
        (CodeContent::Number(number), Expected::Value { value, tolerance, .. }) => (number.to_f64() - value).abs() <= *tolerance,
        (CodeContent::Number(number), Expected::Text(text)) => number.to_string() == *text,
        (CodeContent::Text(text), Expected::Text(expected) | Expected::Value { text: expected, .. }) => text == expected,
        (CodeContent::Invalid, Expected::Text(text)) => text == "invalid",
        _ => false,
    }
}

fn refused(part: &Sheet, example: &Example, frame: FrameId, refusal: &Refusal) -> Mismatch {
    let name = part.frames[frame].name.clone();
    let expected = example.refused.map_or("a frame that passes".to_owned(), |cause| format!("refused: {cause}"));
    Mismatch { span: example.span, name, expected, found: refusal.to_string(), steps: Vec::new() }
}

/// A value with the digits that are worth showing, or with all of them where those say what the example says.
fn describe(found: &ReadingValue, expected: &Expected) -> String {
    let same = |text: &str| matches!(expected, Expected::Value { text: typed, .. } if typed.starts_with(text));
    let text = found.value.map(|value| {
        let shown = found.digits.text(value);
        if same(&shown) { value.to_string() } else { shown }
    });
    match (text, found.status) {
        (Some(value), Status::Ok) => with_unit(value, &found.unit),
        (Some(value), status) => format!("{} ({})", with_unit(value, &found.unit), status.as_str()),
        (None, status) => match &found.fault {
            Some(fault) => format!("{}: {fault}", status.as_str()),
            None => status.as_str().to_owned(),
        },
    }
}

//! Running a sheet's worked examples.

use crate::decode::{Decoder, Refusal};
use crate::model::part::{Expected, Part, Status};
use crate::sheet::Span;

/// One worked example, run.
#[derive(Clone, Debug)]
pub struct ExampleRun {
    /// Its place in the sheet.
    pub span: Span,
    /// Where the datasheet has it.
    pub source: Option<String>,
    /// What did not agree; empty where all did.
    pub mismatches: Vec<Mismatch>,
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
/// assert!(yemdo::check::run_examples(&part)[0].mismatches.is_empty());
/// ```
pub fn run_examples(part: &Part) -> Vec<ExampleRun> {
    let mut decoder = Decoder::new(part);
    let mut runs = Vec::new();
    for example in part.examples() {
        let mut mismatches = Vec::new();
        let mut seen = Vec::new();
        for (frame, bytes) in &example.frames {
            match decoder.decode(*frame, bytes) {
                Ok(decoded) => seen.extend(decoded.readings),
                Err(refusal) => mismatches.push(refused(part, example.span, *frame, &refusal)),
            }
        }
        let refused = !mismatches.is_empty();
        for (index, expected, span) in &example.gives {
            let Some(reading) = part.readings.get(*index) else { continue };
            let found = seen.iter().rfind(|seen| seen.name == reading.name);
            let (agrees, text) = match (found, expected) {
                (None, _) if refused => continue,
                (None, _) => (false, "nothing: none of the frames gives it".to_owned()),
                (Some(found), Expected::Status(status)) => (found.status == *status, describe(found)),
                (Some(found), Expected::Value { value, tolerance, .. }) => {
                    let near = found.value.is_some_and(|v| (v - value).abs() <= *tolerance);
                    (near && matches!(found.status, Status::Ok | Status::Alert), describe(found))
                }
            };
            if !agrees {
                let expected = match expected {
                    Expected::Value { text, .. } => text.clone(),
                    Expected::Status(status) => status.word().to_owned(),
                };
                mismatches.push(Mismatch { span: *span, name: reading.name.clone(), expected, found: text });
            }
        }
        runs.push(ExampleRun { span: example.span, source: example.source.clone(), mismatches });
    }
    runs
}

fn refused(part: &Part, span: Span, frame: usize, refusal: &Refusal) -> Mismatch {
    let name = part.frames.get(frame).map_or(String::new(), |frame| frame.name.clone());
    Mismatch { span, name, expected: "a frame that passes".into(), found: refusal.to_string() }
}

fn describe(found: &crate::decode::Reading<'_>) -> String {
    match (found.value, found.status) {
        (Some(value), Status::Ok) => format!("{value} {}", found.unit),
        (Some(value), status) => format!("{value} {} ({})", found.unit, status.word()),
        (None, status) => match found.fault {
            Some(fault) => format!("{}: {fault}", status.word()),
            None => status.word().to_owned(),
        },
    }
}

//! The steps of a frame, from its bytes to its readings.

use serde::Serialize;

use super::named::Content;
use crate::decode::{Decoded, Steps};
use crate::ground::hex::to_hex;
use crate::model::part::Part;

/// The steps of one frame, as one object.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct StepsView<'a> {
    part: &'a str,
    frame: &'a str,
    bytes: String,
    checks: Vec<CheckView<'a>>,
    codes: Vec<CodeView<'a>>,
    readings: Vec<ReadingView<'a>>,
}

#[derive(Clone, Debug, Serialize)]
struct CheckView<'a> {
    method: &'a str,
    computed: u64,
    received: u64,
    passed: bool,
}

#[derive(Clone, Debug, Serialize)]
struct CodeView<'a> {
    name: &'a str,
    from: String,
    joined: u64,
    value: Content,
}

#[derive(Clone, Debug, Serialize)]
struct ReadingView<'a> {
    name: &'a str,
    lines: Vec<LineView<'a>>,
    value: Option<f64>,
    unit: Option<&'a str>,
    status: Option<&'static str>,
    why: Option<String>,
}

#[derive(Clone, Debug, Serialize)]
struct LineView<'a> {
    variable: Option<&'a str>,
    typed: &'a str,
    numbers: &'a str,
    value: Option<String>,
    #[serde(rename = "type")]
    ty: Option<String>,
}

impl<'a> StepsView<'a> {
    /// The steps of a frame of a part, and what it decodes to, unless it is refused; `why` says why a reading of a name has its
    /// status.
    pub fn new(part: &'a Part, steps: &'a Steps, decoded: Option<&'a Decoded>, why: &dyn Fn(&str) -> Option<String>) -> Self {
        let code = |step: &'a crate::decode::CodeStep| {
            let layout = part.codes[step.value.id].layout.notation();
            CodeView { name: &step.value.name, from: layout, joined: step.value.raw, value: Content(step.value.value.clone()) }
        };
        let reading = |name: &'a str, lines: &'a [crate::decode::FormulaLine]| {
            let done = decoded.and_then(|decoded| decoded.readings.iter().find(|done| done.name == name));
            let line = |line: &'a crate::decode::FormulaLine| LineView {
                variable: line.variable.as_deref(),
                typed: &line.typed,
                numbers: &line.numbers,
                value: line.value.map(|value| value.to_string()),
                ty: line.value.map(|value| value.ty().to_string()),
            };
            ReadingView {
                name,
                lines: lines.iter().map(line).collect(),
                value: done.and_then(|done| done.value),
                unit: done.map(|done| done.unit.as_str()),
                status: done.map(|done| done.status.as_str()),
                why: why(name),
            }
        };
        let shown = |name: &str| steps.readings.iter().any(|reading| reading.name == name);
        let without = decoded.into_iter().flat_map(|decoded| &decoded.readings).filter(|done| !shown(&done.name));
        let readings = steps.readings.iter().map(|one| reading(&one.name, &one.lines)).chain(without.map(|done| reading(&done.name, &[])));
        Self {
            part: &part.name,
            frame: &part.frames[steps.frame].name,
            bytes: to_hex(&steps.bytes),
            checks: steps
                .checks
                .iter()
                .map(|check| CheckView {
                    method: &check.method,
                    computed: check.expected,
                    received: check.found,
                    passed: check.expected == check.found,
                })
                .collect(),
            codes: steps.codes.iter().map(code).collect(),
            readings: readings.collect(),
        }
    }
}

//! What `check` finds.

use serde::Serialize;

use super::Named;
use super::named::Integer;
use crate::ground::diagnostic::{Diagnostic, Severity, SheetError};
use crate::ground::text::Source;
use crate::model::part::Part;
use crate::review::{FaultExample, Proof, Review};
use crate::routine::RoutineError;

/// A diagnostic with its place.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct ProblemView {
    name: &'static str,
    severity: &'static str,
    line: usize,
    column: usize,
    message: String,
    help: Vec<String>,
}

impl ProblemView {
    /// A diagnostic of a text.
    pub fn new(diagnostic: &Diagnostic, source: &Source) -> Self {
        let (line, column) = source.line_column(diagnostic.span.start);
        Self {
            name: diagnostic.name,
            severity: match diagnostic.severity {
                Severity::Error => "error",
                Severity::Warning => "warning",
            },
            line,
            column,
            message: diagnostic.message.clone(),
            help: diagnostic.help.clone(),
        }
    }
}

/// A sheet that is refused.
#[derive(Clone, Debug, Serialize)]
pub struct UnsoundView<'a> {
    sheet: &'a str,
    sound: bool,
    problems: Vec<ProblemView>,
}

/// A sheet that is refused, with all that is wrong with it.
pub fn unsound<'a>(sheet: &'a str, error: &SheetError) -> UnsoundView<'a> {
    let problems = error.diagnostics().iter().map(|diagnostic| ProblemView::new(diagnostic, error.source_text())).collect();
    UnsoundView { sheet, sound: false, problems }
}

/// A sound sheet, reviewed.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct CheckView<'a> {
    sheet: &'a str,
    part: &'a str,
    sound: bool,
    readings: Vec<ReadingView<'a>>,
    routines: Vec<RoutineView<'a>>,
    examples: usize,
    mismatches: Vec<MismatchView<'a>>,
    problems: Vec<ProblemView>,
}

#[derive(Clone, Debug, Serialize)]
struct ReadingView<'a> {
    name: &'a str,
    unit: &'a str,
    low: Option<f64>,
    high: Option<f64>,
    exact: bool,
    smallest_step: Option<f64>,
    largest_step: Option<f64>,
    proved: bool,
    /// Lines of the operations that are not proved.
    doubtful_lines: Vec<usize>,
    may_lack: &'a [String],
    faults: Vec<FaultView>,
}

#[derive(Clone, Debug, Serialize)]
struct FaultView {
    kind: &'static str,
    line: Option<usize>,
    codes: Named<Integer>,
}

#[derive(Clone, Debug, Serialize)]
struct RoutineView<'a> {
    name: &'a str,
    operations: usize,
    least_us: u64,
    most_us: u64,
}

#[derive(Clone, Debug, Serialize)]
struct MismatchView<'a> {
    line: usize,
    name: &'a str,
    expected: &'a str,
    found: &'a str,
}

impl<'a> CheckView<'a> {
    /// What is found of a part that stands in the file `sheet`.
    pub fn new(sheet: &'a str, part: &'a Part, review: &'a Review) -> Self {
        let line = |offset: usize| part.source.line_column(offset).0;
        let fault = |fault: &FaultExample| FaultView {
            kind: fault.kind.describe(),
            line: fault.span.map(|span| line(span.start)),
            codes: fault.codes.iter().map(|(name, code)| (name.clone(), Integer(*code))).collect(),
        };
        let readings = part.readings.entries().map(|(id, reading)| {
            let prediction = review.prediction(id);
            let extent = prediction.and_then(|prediction| prediction.extent);
            let step = prediction.and_then(|prediction| prediction.step);
            ReadingView {
                name: &reading.name,
                unit: &reading.unit,
                low: extent.map(|extent| extent.low),
                high: extent.map(|extent| extent.high),
                exact: extent.is_some_and(|extent| extent.exact),
                smallest_step: step.map(|step| step.0),
                largest_step: step.map(|step| step.1),
                proved: prediction.is_some_and(|prediction| prediction.proof == Proof::Proved),
                doubtful_lines: prediction.map_or(Vec::new(), |prediction| prediction.doubts.iter().map(|span| line(span.start)).collect()),
                may_lack: prediction.map_or(&[], |prediction| &prediction.may_lack),
                faults: prediction.map_or(Vec::new(), |prediction| prediction.faults.iter().map(fault).collect()),
            }
        });
        let routines = review.routines.iter().filter_map(|routine| {
            let laid: Result<_, &RoutineError> = routine.outcome.as_ref();
            let laid = laid.ok()?;
            Some(RoutineView { name: &routine.name, operations: laid.operations, least_us: laid.time.0, most_us: laid.time.1 })
        });
        let mismatches = review.examples.iter().flat_map(|run| &run.mismatches).map(|mismatch| MismatchView {
            line: line(mismatch.span.start),
            name: &mismatch.name,
            expected: &mismatch.expected,
            found: &mismatch.found,
        });
        Self {
            sheet,
            part: &part.name,
            sound: true,
            readings: readings.collect(),
            routines: routines.collect(),
            examples: review.examples.len(),
            mismatches: mismatches.collect(),
            problems: review.warnings.iter().map(|warning| ProblemView::new(warning, &part.source)).collect(),
        }
    }
}

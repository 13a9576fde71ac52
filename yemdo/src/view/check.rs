//! What `check` finds.

use serde::Serialize;

use super::Named;
use super::mended::FindingView;
use super::named::Integer;
use crate::bus::{Clash, Sharing};
use crate::ground::diagnostic::{Diagnostic, Severity, SheetError};
use crate::ground::text::Source;
use crate::model::ids::FieldId;
use crate::model::part::Part;
use crate::review::{ExampleRun, FaultExample, Proof, Review};
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
    #[serde(skip_serializing_if = "Option::is_none")]
    error: Option<String>,
    problems: Vec<ProblemView>,
}

/// A sheet that cannot even be read.
pub fn unreadable(sheet: &str, error: String) -> UnsoundView<'_> {
    UnsoundView { sheet, sound: false, error: Some(error), problems: Vec::new() }
}

/// Parts on one bus: the addresses that each gets, or the parts that clash.
#[derive(Clone, Debug, Serialize)]
pub struct BusView<'a> {
    one_bus: Named<u8>,
    clashes: Vec<ClashView<'a>>,
}

#[derive(Clone, Debug, Serialize)]
struct ClashView<'a> {
    parts: [&'a str; 2],
    addresses: &'a [u8],
}

impl<'a> BusView<'a> {
    /// What [`share_bus`](crate::bus::share_bus) found for these parts.
    pub fn new(parts: &[Sharing<'_>], found: &'a Result<Vec<u8>, Vec<Clash>>) -> Self {
        let given = found.iter().flat_map(|given| parts.iter().zip(given)).map(|((part, _), address)| ((*part).to_owned(), *address));
        let clash = |clash: &'a Clash| ClashView { parts: [&clash.one.0, &clash.other.0], addresses: &clash.addresses };
        BusView { one_bus: given.collect(), clashes: found.as_ref().err().into_iter().flatten().map(clash).collect() }
    }
}

/// A sheet that is refused, with all that is wrong with it.
pub fn unsound<'a>(sheet: &'a str, error: &SheetError) -> UnsoundView<'a> {
    let problems = error.diagnostics().iter().map(|diagnostic| ProblemView::new(diagnostic, error.source_text())).collect();
    UnsoundView { sheet, sound: false, error: None, problems }
}

/// A sound sheet, reviewed.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct CheckView<'a> {
    sheet: &'a str,
    part: &'a str,
    sound: bool,
    readings: Vec<ReadingView<'a>>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    derived: Vec<DerivedView<'a>>,
    routines: Vec<RoutineView<'a>>,
    examples: usize,
    mismatches: Vec<MismatchView<'a>>,
    likely: Vec<LikelyView<'a>>,
    problems: Vec<ProblemView>,
}

#[derive(Clone, Debug, Serialize)]
struct ReadingView<'a> {
    name: &'a str,
    unit: &'a str,
    low: Option<f64>,
    high: Option<f64>,
    exact: bool,
    /// The settings that this holds for.
    settings: Named<String>,
    /// Lowest and highest over all of their values.
    over_settings: Option<(f64, f64)>,
    smallest_step: Option<f64>,
    largest_step: Option<f64>,
    proved: bool,
    /// Lines of the operations that are not proved.
    doubtful_lines: Vec<usize>,
    may_lack: &'a [String],
    faults: Vec<FaultView>,
}

#[derive(Clone, Debug, Serialize)]
struct DerivedView<'a> {
    name: &'a str,
    unit: &'a str,
    from: Vec<&'a str>,
    /// The longest time between two frames that belong together.
    gap_us: Option<u64>,
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

/// What would make a worked example agree.
#[derive(Clone, Debug, Serialize)]
struct LikelyView<'a> {
    line: usize,
    change: FindingView<'a>,
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
        let readings = part.readings.entries().filter(|(_, reading)| !reading.is_derived()).map(|(id, reading)| {
            let prediction = review.prediction(id);
            let extent = prediction.and_then(|prediction| prediction.extent);
            let step = prediction.and_then(|prediction| prediction.step);
            ReadingView {
                name: &reading.name,
                unit: &reading.unit,
                low: extent.map(|extent| extent.low),
                high: extent.map(|extent| extent.high),
                exact: extent.is_some_and(|extent| extent.exact),
                settings: named_settings(part, prediction.map_or(&[], |found| &found.settings)),
                over_settings: prediction.and_then(|found| found.over_settings),
                smallest_step: step.map(|step| step.0),
                largest_step: step.map(|step| step.1),
                proved: prediction.is_some_and(|prediction| prediction.proof == Proof::Proved),
                doubtful_lines: prediction.map_or(Vec::new(), |prediction| prediction.doubts.iter().map(|span| line(span.start)).collect()),
                may_lack: prediction.map_or(&[], |prediction| &prediction.may_lack),
                faults: prediction.map_or(Vec::new(), |prediction| prediction.faults.iter().map(fault).collect()),
            }
        });
        let derived = part.readings.iter().filter(|reading| reading.is_derived()).map(|reading| DerivedView {
            name: &reading.name,
            unit: &reading.unit,
            from: part.readings.of(reading.derived_from()).map(|from| from.name.as_str()).collect(),
            gap_us: reading.longest_gap(),
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
        let likely = |run: &'a ExampleRun| {
            let change = FindingView::new(run.likely.as_ref()?, Vec::new());
            Some(LikelyView { line: line(run.span.start), change })
        };
        Self {
            sheet,
            part: &part.name,
            sound: true,
            readings: readings.collect(),
            derived: derived.collect(),
            routines: routines.collect(),
            examples: review.examples.len(),
            mismatches: mismatches.collect(),
            likely: review.examples.iter().filter_map(likely).collect(),
            problems: review.warnings.iter().map(|warning| ProblemView::new(warning, &part.source)).collect(),
        }
    }
}

fn named_settings(part: &Part, settings: &[(FieldId, i128)]) -> Named<String> {
    let one = |(id, code): &(FieldId, i128)| part.fields.get(*id).map(|field| (field.name.clone(), field.value_text(*code)));
    settings.iter().filter_map(one).collect()
}

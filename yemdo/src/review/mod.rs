//! What follows from a sheet: its worked examples run, what can come out of every reading, and what is often meant
//! otherwise. Asked for, never stored in the part.

mod examples;
mod missed;
mod status_bits;
mod unsaid;
mod warnings;

pub use crate::predict::{Curve, CurvePoint, Extent, FaultExample, Prediction, Proof, curves};
pub use crate::sheet::warnings::WARNINGS;
pub use examples::{ExampleRun, Mismatch, run_examples};
pub use warnings::warnings;

use crate::ground::diagnostic::Diagnostic;
use crate::ground::list::List;
use crate::mend::likely;
use crate::model::ids::ReadingId;
use crate::model::part::Part;
use crate::model::state::State;
use crate::routine::{RoutineError, Runner};

/// Everything that can be said of a sheet before a part is connected, worked out once.
///
/// ```
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
/// reading.light = { unit = "lx", formula = "light * 0.5" }
/// example = [{ LIGHT = "00 07", gives = { light = "3.5 lx" } }]
/// "#)?;
/// let review = yemdo::review::Review::new(&part);
/// let light = review.prediction(part.reading("light")?).unwrap();
/// assert_eq!(light.extent.map(|extent| (extent.low, extent.high)), Some((0.0, 32767.5)));
/// assert!(review.warnings.is_empty() && review.examples.iter().all(|run| run.mismatches.is_empty()));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Review {
    predictions: List<ReadingId, Option<Prediction>>,
    /// The worked examples, run in order.
    pub examples: Vec<ExampleRun>,
    /// What is not wrong, but is often meant otherwise.
    pub warnings: Vec<Diagnostic>,
    /// The routines as they go after a reset, where the sheet describes a bus.
    pub routines: Vec<RoutineReview>,
}

impl Review {
    /// Reviews a part.
    pub fn new(part: &Part) -> Self {
        let predictions = crate::predict::predict_all(part);
        let warnings = warnings::warnings_with(part, &predictions);
        let mut examples = run_examples(part);
        for (run, example) in examples.iter_mut().zip(&part.examples).filter(|(run, _)| !run.mismatches.is_empty()) {
            run.likely = likely(part, example);
        }
        Self { predictions, examples, warnings, routines: routines(part) }
    }

    /// What can come out of a reading.
    pub fn prediction(&self, reading: ReadingId) -> Option<&Prediction> {
        self.predictions.get(reading)?.as_ref()
    }
}

/// What can come out of one reading.
pub fn predict(part: &Part, reading: ReadingId) -> Option<Prediction> {
    crate::predict::predict(part, reading)
}

/// A routine as it goes after a reset, every answer assumed.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct RoutineReview {
    /// Its name.
    pub name: String,
    /// How much it does, or why it fails.
    pub outcome: Result<Laid, RoutineError>,
}

/// How much a routine does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Laid {
    /// How many operations it is.
    pub operations: usize,
    /// The microseconds that it takes: the least and the most.
    pub time: (u64, u64),
}

fn routines(part: &Part) -> Vec<RoutineReview> {
    let one = |id| {
        let runner = Runner::new(part, id, State::reset(part)).ok()?;
        let outcome = runner.dry_run().map(|(requests, time)| Laid { operations: requests.len(), time });
        Some(RoutineReview { name: part.routines.get(id)?.name.clone(), outcome })
    };
    part.routines.ids().filter_map(one).collect()
}

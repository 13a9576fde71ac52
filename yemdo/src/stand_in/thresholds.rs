//! Thresholds of the readings of a frame: which of them raise the alert, and the flags of the part that show it.

use super::sample::Held;
use super::scene::{Flag, Flags, Scene};
use crate::formula::typed::Formula;
use crate::model::ids::{QuantityId, ReadingId};
use crate::model::operation::Alert;
use crate::model::part::Sheet;
use crate::model::value::Present;

/// The thresholds of a frame.
#[derive(Clone, Debug)]
pub(super) struct Thresholds {
    all: Vec<Threshold>,
    /// Codes and fields of their flags.
    pub(super) flagged: Vec<Flag>,
}

/// A threshold that raises the alert.
#[derive(Clone, Debug)]
struct Threshold {
    reading: ReadingId,
    limit: QuantityId,
    side: Alert,
    /// The alert ends beyond this quantity, on the other side.
    ends: Option<QuantityId>,
    /// The flag of the part for it.
    flag: Option<Formula>,
    /// True if the last value was beyond it.
    raised: bool,
}

impl Thresholds {
    /// The thresholds of some readings.
    pub(super) fn new(part: &Sheet, readings: &[ReadingId]) -> Self {
        let of_reading = |id: QuantityId| part.quantities[id].through.map(|(reading, _)| reading).filter(|id| readings.contains(id));
        let mut all = Vec::new();
        for (id, quantity) in part.quantities.entries() {
            let (Some(side), Some(reading)) = (quantity.alert, of_reading(id)) else { continue };
            // The alert ends at the threshold that is kept apart from this one.
            let partner = part.quantities.entries().find(|(_, other)| other.not_below == Some(id)).map(|(other, _)| other);
            let ends = quantity.not_below.or(partner).filter(|other| part.quantities[*other].alert.is_none());
            all.push(Threshold { reading, limit: id, side, ends, flag: quantity.flag.clone(), raised: false });
        }
        Self { all, flagged: Vec::new() }
    }

    /// The flags as typed.
    pub(super) fn formulas(&self) -> impl Iterator<Item = &Formula> {
        self.all.iter().filter_map(|threshold| threshold.flag.as_ref())
    }

    /// Compares values with the thresholds. Returns true if one of them raises the alert.
    pub(super) fn compare(&mut self, held: &Held<'_>, value: &mut dyn FnMut(ReadingId) -> Option<f64>) -> bool {
        let present = Present { part: held.part, state: held.state };
        for threshold in &mut self.all {
            let (Some(value), Ok(limit)) = (value(threshold.reading), present.quantity(threshold.limit)) else {
                threshold.raised = false;
                continue;
            };
            let beyond = |limit: f64| if threshold.side == Alert::Above { value > limit } else { value < limit };
            let ends = threshold.ends.and_then(|ends| present.quantity(ends).ok()).unwrap_or(limit);
            threshold.raised = beyond(limit) || (threshold.raised && beyond(ends));
        }
        self.all.iter().any(|threshold| threshold.raised)
    }

    /// True if a raised threshold has a flag.
    pub(super) fn shows(&self) -> bool {
        self.all.iter().any(|threshold| threshold.raised && threshold.flag.is_some())
    }

    /// Codes of the flags that show exactly the raised thresholds.
    pub(super) fn flags(&self, scene: &Scene<'_>) -> Flags {
        let flags: Vec<(&Formula, bool)> = self.all.iter().filter_map(|one| Some((one.flag.as_ref()?, one.raised))).collect();
        if flags.is_empty() {
            return Flags::new();
        }
        let agree =
            |present: &Present<'_>| flags.iter().all(|(flag, raised)| present.compute(flag).is_ok_and(|truth| (truth != 0.0) == *raised));
        scene.flags_with(&self.flagged, &agree).unwrap_or_default()
    }

    /// Lowers all of them, as after a reset.
    pub(super) fn reset(&mut self) {
        self.all.iter_mut().for_each(|threshold| threshold.raised = false);
    }

    /// The raised ones, by their order.
    pub(super) fn raised(&self) -> Vec<bool> {
        self.all.iter().map(|threshold| threshold.raised).collect()
    }
}

//! A stand-in beside a real part: it judges the client, and does not answer.
//!
//! In: the transfers of a client as they were seen on the bus, and the state that the real part is in. Out: violations. It composes no
//! frames; a measurement is done when the sheet's waits are over, or when the status of the real part shows it.

use super::acquire::Trigger;
use super::judge::Violation;
use super::listen::ms;
use super::state::{NoStandIn, StandIn};
use crate::bus::Transfer;
use crate::model::ids::{FieldId, FrameId};
use crate::model::part::Part;
use crate::model::registers::Access;
use crate::model::state::State;

/// Knowledge of a watching stand-in about the beginning.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Watch {
    /// The client may have done things before: measurements may be under way, calibration words may have been read.
    began_unseen: bool,
}

/// The time between the start of a measurement and its read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Gap {
    /// Microseconds between them.
    pub elapsed: u64,
    /// Microseconds that the sheet waits at most.
    pub required: u64,
}

impl StandIn {
    /// Watches the client of a real part from its power-up on.
    ///
    /// # Errors
    /// [`NoStandIn`].
    pub(crate) fn watching_from_power_up(part: &Part) -> Result<Self, NoStandIn> {
        let mut stand_in = Self::unpowered(part, 0)?;
        stand_in.watch = Some(Watch { began_unseen: false });
        stand_in.power_up(0);
        Ok(stand_in)
    }

    /// Watches the client of a real part that is in this state. `began_unseen` excuses omissions that may be due to earlier transfers.
    ///
    /// # Errors
    /// [`NoStandIn`].
    pub(crate) fn watching(part: &Part, state: &State, began_unseen: bool) -> Result<Self, NoStandIn> {
        let mut stand_in = Self::unpowered(part, 0)?;
        stand_in.watch = Some(Watch { began_unseen });
        stand_in.hold_frames();
        stand_in.set_state(state);
        stand_in.start_running();
        Ok(stand_in)
    }

    /// Starts the measurements that the settings show as running.
    fn start_running(&mut self) {
        let part = self.part.clone();
        for id in part.frames.ids() {
            let Some(measure) = self.measures.get(id).and_then(Option::as_ref) else { continue };
            // A part with a data-ready line and no trigger measures from power-up on.
            let fields = match &measure.how.trigger {
                Some(Trigger::Fields(fields)) => fields.as_slice(),
                None if measure.how.line.is_some() => &[],
                _ => continue,
            };
            let lasts = |field: FieldId| part.fields[field].access != Access::SelfClearing;
            let runs = fields.iter().all(|(field, code)| lasts(*field) && self.state.field(&part.fields[*field]) == *code);
            if let Some(measure) = self.measures.get_mut(id).and_then(Option::as_mut).filter(|_| runs) {
                measure.started = Some(0);
            }
        }
    }

    pub(super) fn began_unseen(&self) -> bool {
        self.watch.is_some_and(|watch| watch.began_unseen)
    }

    /// Takes the state that the real part is in.
    pub(crate) fn set_state(&mut self, state: &State) {
        self.state.adopt(state);
    }

    /// Judges a transfer, and the clock of its bus if it was measured.
    pub(crate) fn judge(&mut self, now: u64, transfer: &Transfer, hertz: Option<u32>) -> Vec<Violation> {
        hertz.into_iter().for_each(|hertz| self.clocked(now, transfer.bus, hertz));
        // The real part has answered already.
        let _ = self.transfer(now, transfer);
        std::mem::take(&mut self.judge).violations
    }

    /// The time of a frame's measurement so far, and the time that the sheet waits; `None` if none was started.
    pub(crate) fn elapsed(&self, now: u64, frame: FrameId) -> Option<Gap> {
        let measure = self.measures.get(frame)?.as_ref()?;
        let started = measure.started?;
        Some(Gap { elapsed: now.saturating_sub(started), required: measure.by_sheet.saturating_sub(started) })
    }

    /// The requested frame, with the time since the request; `None` without a request.
    pub(crate) fn asked_since(&self, now: u64) -> Option<(FrameId, Gap)> {
        let (frame, exchange, due) = self.asked?;
        let wait = self.part.frames.get(frame)?.origin.exchanges().get(exchange)?.wait.as_ref()?;
        let required = wait.micros(&self.present()).ok()?;
        Some((frame, Gap { elapsed: (now + required).saturating_sub(due), required }))
    }

    /// Takes from the part whether a frame has a new measurement. If the sheet polls it, a client that does not look again has read too early.
    pub(crate) fn report_ready(&mut self, now: u64, frame: FrameId, ready: bool) {
        let polled = self.shows_waiting(frame);
        let gap = self.elapsed(now, frame).filter(|_| !ready && polled);
        let name = self.part.frames[frame].name().to_owned();
        let Some(measure) = self.measures.get_mut(frame).and_then(Option::as_mut) else { return };
        measure.early = gap.filter(|_| measure.how.poll.is_some()).map(|gap| {
            let (after, waits) = (ms(gap.elapsed), ms(gap.required));
            (now, format!("{name} was read {after:.3} ms after the start, not ready, and not again; the sheet waits {waits:.3} ms"))
        });
    }
}

impl Violation {
    /// Whether two are of one kind: the same rule about the same line of the sheet, otherwise in the same words.
    pub(crate) fn is_like(&self, other: &Violation) -> bool {
        self.rule == other.rule && self.line == other.line && (self.line.is_some() || self.what == other.what)
    }
}

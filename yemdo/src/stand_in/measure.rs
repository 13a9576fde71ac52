//! Measurements: start, completion, and results in frames and registers.

use super::acquire::{Acquisition, Trigger};
use super::judge::Rule;
use super::listen::Reaction;
use super::sample::{Held, Recipe, column, is_set_by_client};
use super::state::{Current, StandIn};
use crate::formula::typed::Formula;
use crate::ground::list::Id;
use crate::ground::random::Random;
use crate::model::frame::{Origin, Otherwise};
use crate::model::ids::{FieldId, FrameId, ReadingId, RegisterId};
use crate::model::input::{Input, inputs};
use crate::model::operation::Time;
use crate::model::part::Part;
use crate::model::registers::Access;
use crate::model::state::State;
use crate::plan::heard::{may_nak, set_with};

/// The measurement of a frame.
#[derive(Clone, Debug)]
pub(super) struct Measure {
    pub(super) how: Acquisition,
    /// When it was started; `None` where it never was.
    pub(super) started: Option<u64>,
    /// When the data are there.
    pub(super) done: u64,
    /// When they are there by the sheet, tolerance and all.
    pub(super) by_sheet: u64,
    /// For parts that go on measuring: the time from one to the next.
    pub(super) period: Option<u64>,
    /// Which of them was read last.
    pub(super) taken: Option<u64>,
    /// Its data were put into the registers.
    pub(super) published: Option<u64>,
    /// It was read before it was done, by a client that may be polling: when, and what to say if it never looks again.
    pub(super) early: Option<(u64, String)>,
}

/// How much of a tolerance a specimen takes: it is neither the quickest nor the slowest.
const SHARE: f64 = 0.5;

/// So often frames are composed until those that say a reading together agree.
const MOST_SETTLING: usize = 3;

/// Maximum duration of a measurement, in microseconds, if only the timeout of the poll is known.
const LONGEST_LOOK: u64 = 10_000_000;

impl StandIn {
    /// A command came that starts measurements, or sets something. Returns if the part acknowledges it.
    pub(super) fn start_command(&mut self, now: u64, sent: &[u8]) -> Reaction {
        let may_nak = may_nak(&self.part, &self.state, sent);
        let before = self.state.clone();
        for (field, code) in set_with(&self.part, &self.state, sent) {
            self.state.set_field(&self.part.fields[field], code);
        }
        // It is still waking up.
        let wakes = may_nak && !before.has_same_settings(&self.state);
        for id in self.part.frames.ids() {
            let Some(measure) = self.measures.get(id).and_then(|measure| measure.as_ref()) else { continue };
            let Some(Trigger::Command(command)) = &measure.how.trigger else { continue };
            if command.now(&self.present()).is_ok_and(|bytes| bytes == sent) {
                self.start(now, id, None);
            }
        }
        if wakes { Reaction::NakAddress } else { Reaction::Answer(Vec::new()) }
    }

    /// Fields were written: measurements that these start begin. `fresh` where they were not so before.
    pub(super) fn start_fields(&mut self, now: u64, written: &[FieldId], fresh: bool) {
        for id in self.part.frames.ids() {
            let Some(measure) = self.measures.get(id).and_then(|measure| measure.as_ref()) else { continue };
            let fields = match &measure.how.trigger {
                Some(Trigger::Fields(fields)) => fields.clone(),
                None if measure.how.line.is_some() => Vec::new(),
                _ => continue,
            };
            let clears =
                fields.iter().any(|(field, _)| self.part.fields.get(*field).is_some_and(|field| field.access == Access::SelfClearing));
            let holds =
                |(field, code): &(FieldId, i128)| self.part.fields.get(*field).is_some_and(|model| self.state.field(model) == *code);
            let named = fields.is_empty() || fields.iter().any(|(field, _)| written.contains(field));
            if named && (fresh || clears) && fields.iter().all(holds) {
                let period = (!clears).then(|| self.period()).flatten();
                self.start(now, id, period);
            } else if !clears && !fields.is_empty() && !fields.iter().all(holds) {
                self.measures.get_mut(id).into_iter().flatten().for_each(|measure| measure.started = None);
            }
        }
    }

    /// True if a polled condition can show a running measurement.
    fn is_told(&self, id: FrameId, poll: &Formula) -> bool {
        let of = |input: Input| if let Input::Code(code) = input { Some(self.part.codes[code].frame) } else { None };
        std::iter::once(id).chain(inputs(poll).filter_map(of)).any(|frame| self.shows_waiting(frame))
    }

    /// Interval of a part that measures continuously, from a column `hz` or `ms` of its settings.
    fn period(&self) -> Option<u64> {
        let hertz = column(&self.part, &self.state, "hz").filter(|hz| *hz > 0.0).map(|hz| 1e6 / hz);
        let micros = hertz.or_else(|| column(&self.part, &self.state, "ms").map(|ms| ms * 1000.0));
        micros.filter(|micros| *micros >= 1.0).map(|micros| micros as u64)
    }

    /// Starts a measurement. `period` is the interval of a part that measures continuously.
    fn start(&mut self, now: u64, id: FrameId, period: Option<u64>) {
        let Some(how) = self.measures.get(id).and_then(|measure| measure.as_ref()).map(|measure| measure.how.clone()) else { return };
        let early = self.measures.get_mut(id).and_then(|measure| measure.as_mut()?.early.take());
        if let Some((at, what)) = early {
            self.report(at, Rule::ReadTooEarly, what, self.line_of(how.span.start));
        }
        let micros = |time| Time::micros(time, &self.present()).unwrap_or(0);
        let waits: Vec<(u64, f64)> = how.waits.iter().map(|(time, tolerance)| (micros(time), *tolerance)).collect();
        let took = |share: f64| waits.iter().map(|(micros, tolerance)| micros + (*micros as f64 * tolerance * share) as u64).sum::<u64>();
        // A poll may have a timeout of an hour; the stand-in is faster.
        let within = |time| (micros(time) / 4).min(LONGEST_LOOK);
        // A real part shows itself when it is done.
        let simulated = self.watch.is_none();
        let polled = how.poll.as_ref().filter(|(poll, _)| simulated && self.is_told(id, poll)).map_or(0, |(_, time)| within(time));
        let lined = how.line.as_ref().filter(|_| simulated).map_or(0, |(_, time)| within(time));
        let own = took(SHARE) + if waits.iter().all(|(_, tolerance)| *tolerance == 0.0) { polled } else { 0 };
        let first = if how.line.is_some() { period.unwrap_or(lined) } else { own };
        if let Some(measure) = self.measures.get_mut(id).and_then(|measure| measure.as_mut()) {
            measure.started = Some(now);
            measure.done = now + first;
            measure.by_sheet = now + took(1.0).max(if how.poll.is_some() || how.line.is_some() { 0 } else { first });
            measure.period = if how.line.is_some() { Some(first.max(1)) } else { period };
            (measure.taken, measure.published) = (None, None);
        }
        self.excused = false;
        // Status bits show at once that it is under way.
        self.publish(now, id, true);
    }

    /// Which of the measurements of a frame is the last one that is done by now: its number, and when it was done.
    pub(super) fn done(&self, id: FrameId, now: u64) -> Option<(u64, u64)> {
        let measure = self.measures.get(id)?.as_ref()?;
        measure.started?;
        let since = now.checked_sub(measure.done)?;
        match measure.period {
            Some(period) => Some((since / period, measure.done + since / period * period)),
            None => Some((0, measure.done)),
        }
    }

    /// Brings the registers and frames up to date.
    pub(super) fn advance(&mut self, now: u64) {
        if self.watch.is_some() {
            return;
        }
        for _ in 0..MOST_SETTLING {
            self.composed = false;
            self.advance_once(now);
            // A reading over several frames is said by them together.
            if !(self.composed && self.spans_frames) {
                break;
            }
        }
    }

    fn advance_once(&mut self, now: u64) {
        for id in self.part.frames.ids() {
            if !self.unmet(id).is_empty() {
                self.rest(id);
                continue;
            }
            match self.measures.get(id).and_then(|measure| measure.as_ref()) {
                Some(measure) => {
                    let Some((number, at)) = self.done(id, now) else { continue };
                    if measure.published == Some(number) {
                        continue;
                    }
                    if let Some(measure) = self.measures.get_mut(id).and_then(|measure| measure.as_mut()) {
                        measure.published = Some(number);
                    }
                    self.publish(at, id, false);
                }
                None => self.publish(now, id, false),
            }
        }
    }

    /// Fields that a frame needs and that the client has set to other codes. Read-only fields are flags of the part.
    pub(super) fn unmet(&self, id: FrameId) -> Vec<(FieldId, i128)> {
        self.state.unmet(&self.part, id).into_iter().filter(|(field, _)| is_set_by_client(&self.part, *field)).collect()
    }

    /// Sets the registers of an invalid frame as `otherwise` requires.
    fn rest(&mut self, id: FrameId) {
        let part = self.part.clone();
        if let Origin::Registers(runs) = &part.frames[id].origin
            && part.frames[id].otherwise == Otherwise::ResetValue
        {
            let registers = part.registers.of(runs.iter().flatten());
            let bytes: Vec<u8> = registers.flat_map(|register| register.wire_bytes(register.reset.unwrap_or_default())).collect();
            self.put_registers(id, runs, &bytes);
            self.state.keep_frame(id, &self.register_bytes(runs));
        }
    }

    /// The signals of readings at a time become their values.
    fn sample(&mut self, at: u64, readings: &[ReadingId]) {
        for reading in readings {
            let value = self.world.get_mut(*reading).and_then(|signal| signal.as_mut()?.at(at));
            let value = value.map(|value| if self.noisy { noisy(&self.part, &self.state, &mut self.random, value) } else { value });
            self.values.get_mut(*reading).into_iter().for_each(|place| *place = value);
        }
    }

    /// Composes a frame for a time, and copies its values to the registers.
    pub(super) fn publish(&mut self, at: u64, id: FrameId, waiting: bool) {
        let part = self.part.clone();
        let Some(frame) = part.frames.get(id).filter(|_| self.watch.is_none()) else { return };
        let Some(recipe) = self.recipes.get(id) else { return };
        let readings: Vec<ReadingId> = recipe.readings().collect();
        // Nothing of it changes.
        let constant = frame.keep || (frame.readings.is_empty() && !recipe.shows_waiting());
        if constant && self.current.get(id.index()).is_some_and(Option::is_some) {
            return;
        }
        if !waiting {
            self.sample(at, &readings);
        }
        // Until it is done, the part holds the previous values.
        let wanted: Vec<Option<f64>> = readings.iter().map(|reading| self.values[*reading]).collect();
        let Some(recipe) = self.recipes.get_mut(id) else { return };
        let held = Held { part: &part, state: &self.state };
        if !waiting {
            let values = &self.values;
            let alert = recipe.thresholds.compare(&held, &mut |reading| values.get(reading).copied().flatten());
            if alert && !self.alert {
                self.alert_seen = false;
            }
            self.alert = alert;
        }
        let raised = recipe.thresholds.raised();
        let known = self.current.get(id.index()).and_then(|current| current.as_ref());
        let same = |current: &&Current| {
            let state = current.before == self.state || current.after == self.state;
            state && current.wanted == wanted && (current.waiting, current.alert) == (waiting, self.alert) && current.raised == raised
        };
        if let Some(current) = known.filter(same) {
            self.state.clone_from(&current.after);
            return;
        }
        let mut values = readings.iter().zip(&wanted);
        let mut next = |reading: ReadingId| values.find(|(known, _)| **known == reading).and_then(|(_, value)| *value);
        self.composed = true;
        let composed = recipe.compose(&held, id, (waiting, self.alert), &mut next);
        let before = std::mem::replace(&mut self.state, composed.state);
        match &frame.origin {
            Origin::Registers(runs) => {
                self.put_registers(id, runs, &composed.bytes);
                let bytes = self.register_bytes(runs);
                self.state.keep_frame(id, &bytes);
            }
            _ => self.state.keep_frame(id, &composed.bytes),
        }
        self.said.get_mut(id).into_iter().for_each(|said| said.clone_from(&composed.said));
        if !waiting {
            self.misses.retain(|miss| !readings.contains(&miss.reading));
            self.misses.extend(composed.misses);
        }
        let after = self.state.clone();
        if let Some(place) = self.current.get_mut(id.index()) {
            *place = Some(Current { before, wanted, waiting, alert: self.alert, raised, after });
        }
    }

    /// Bits of a register set by the signals of other frames.
    fn said_by_others(&self, id: FrameId, register: RegisterId) -> u64 {
        let mut mask = 0;
        for (other, frame) in self.part.frames.entries().filter(|(other, _)| *other != id) {
            let Origin::Registers(runs) = &frame.origin else { continue };
            let mut rest = self.said[other].as_slice();
            for known in runs.iter().flatten() {
                let model = &self.part.registers[*known];
                let Some((own, behind)) = rest.split_at_checked(model.bytes) else { break };
                rest = behind;
                mask |= if *known == register { model.value_of(own) } else { 0 };
            }
        }
        mask
    }

    /// Copies a frame to registers that only the part changes.
    fn put_registers(&mut self, id: FrameId, runs: &[Vec<RegisterId>], bytes: &[u8]) {
        let part = self.part.clone();
        let mut rest = bytes;
        for number in runs.iter().flatten() {
            let register = &part.registers[*number];
            let Some((own, behind)) = rest.split_at_checked(register.bytes) else { return };
            rest = behind;
            if register.access.is_writable() {
                continue;
            }
            let others = self.said_by_others(id, *number);
            let mut value = register.value_of(own) & !others | self.state.register(register) & others;
            if register.access == Access::ClearOnRead {
                // Set bits stay set until they are read.
                value |= self.state.register(register);
            }
            self.state.set_register(register, value);
        }
    }

    /// Whether the data-ready line is at its active level.
    pub fn line(&mut self, now: u64) -> bool {
        self.advance(now);
        self.line_due(now).is_some_and(|due| due <= now)
    }

    /// The time at which the data-ready line goes to its active level, or went there; `None` where no measurement is under way.
    pub fn line_due(&self, now: u64) -> Option<u64> {
        self.measures.entries().find_map(|(id, measure)| {
            let measure = measure.as_ref().filter(|measure| measure.how.line.is_some() && measure.started.is_some())?;
            match self.done(id, now) {
                Some((number, at)) if measure.taken == Some(number) => Some(at + measure.period?),
                Some((_, at)) => Some(at),
                None => Some(measure.done),
            }
        })
    }

    /// The level of the line when it is active: high unless the sheet's routines wait for low.
    pub fn line_is_active_high(&self) -> bool {
        let line = |measure: &Option<Measure>| measure.as_ref().and_then(|measure| measure.how.line.as_ref()).map(|(high, _)| *high);
        self.measures.iter().find_map(line).unwrap_or(true)
    }

    /// Whether the alert output is active.
    pub fn alert(&mut self, now: u64) -> bool {
        self.advance(now);
        self.alert
    }

    /// The client has read a frame: the alert is known, and the data are no longer new.
    pub(super) fn seen(&mut self, now: u64, id: FrameId) {
        self.read_frames.get_mut(id).into_iter().for_each(|read| *read = true);
        self.alert_seen |= !self.recipes.get(id).map_or(&[] as &[_], |recipe| recipe.alert_flags()).is_empty();
        let done = self.done(id, now).map(|(number, _)| number);
        let Some(measure) = self.measures.get_mut(id).and_then(|measure| measure.as_mut()) else { return };
        let lined = measure.how.line.is_some();
        measure.taken = done;
        // With a data-ready line the flag goes with it, until the next one.
        if lined {
            self.publish(now, id, true);
        }
    }

    /// Whether the frame itself shows that there is nothing new.
    pub(super) fn shows_waiting(&self, id: FrameId) -> bool {
        self.recipes.get(id).is_some_and(Recipe::shows_waiting)
    }
}

/// A value with the noise and the step that the sheet states for the settings of now.
fn noisy(part: &Part, settings: &State, random: &mut Random, value: f64) -> f64 {
    let noise = column(part, settings, "noise").map_or(0.0, |noise| noise * random.normal());
    match column(part, settings, "step").filter(|step| *step > 0.0) {
        Some(step) => ((value + noise) / step).round() * step,
        None => value + noise,
    }
}

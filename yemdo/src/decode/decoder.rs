//! The decoder of a part.

use std::borrow::Cow;

use super::columns::{self, Columns};
use super::decoded::{CodeValue, Decoded, ReadingValue};
use super::derived::{Derivation, Given};
use super::row::{self, FrameValues};
use super::steps::{self, ReadingSteps, Steps};
use crate::ground::digits::Digits;
use crate::ground::list::List;
use crate::ground::number::{Number, Ty};
use crate::ground::words::with_unit;
use crate::model::frame::{Blank, Frame};
use crate::model::ids::{CodeId, FrameId, ParameterId, ReadingId};
use crate::model::in_use::InUse;
use crate::model::part::{Part, Sheet};
use crate::model::reading::Reading;
use crate::model::state::{ParameterError, State};
use crate::model::status::Status;
use crate::model::value::Present;
use crate::plan::accept::{self, Refusal};
use crate::plan::frame::{Plan, PlanFor};
use crate::predict;

/// Turns the frames of one part into readings. It holds the compiled formulas and all the room they need, so
/// make one and keep it: readings that need several frames take the others as they came last.
///
/// Four ways to decode:
/// - [`decode`](Self::decode): one frame, with codes, statuses and reasons. The way to begin with.
/// - [`decode_into`](Self::decode_into): one frame into room that is kept, values and statuses alone, nothing
///   allocated. For streams of frames that come one at a time.
/// - [`decode_many`](Self::decode_many): adjacent frames, into columns. For logs and bulk.
/// - [`steps`](Self::steps): every step from bytes to readings. For people who want to see.
#[derive(Clone, Debug)]
pub struct Decoder {
    part: Part,
    state: State,
    /// Number of good frames so far.
    count: u64,
    frames: List<FrameId, Ready>,
    /// Derived quantities, where the part has any.
    derivation: Option<Box<Derivation>>,
    /// When the frames that are decoded next were measured.
    times: Vec<f64>,
    /// Digits of readings that are worth showing, once somebody has asked, and the settings for which that holds.
    digits: (State, List<ReadingId, Option<Digits>>),
}

/// A frame's plan and the room to run it in.
#[derive(Clone, Debug)]
struct Ready {
    plan: Plan,
    many: columns::Room,
    alone: row::Room,
    /// The formula that says how many bytes count.
    counted: Option<(Plan, row::Room)>,
    /// The number of bytes that need no second look; 0 where all do.
    plain: Option<usize>,
    /// The number of good frames when it came last.
    came: u64,
    /// The other frames whose readings need it.
    feeds: Vec<FrameId>,
    /// It holds registers, or needs settings to be valid.
    holds: bool,
}

impl Decoder {
    /// Compiles the formulas of a part. Its registers are taken to be as after a reset.
    pub fn new(part: &Part) -> Self {
        let part = part.clone();
        let ready = |id: FrameId| {
            let plan = Plan::new(&part, id, PlanFor::Decoding);
            let model = part.frames.get(id);
            let counted = model.and_then(|model| model.counted.as_ref()).map(|formula| {
                let plan = Plan::of_formula(&part, id, formula);
                let room = row::Room::new(&plan);
                (plan, room)
            });
            let (many, alone) = (columns::Room::new(&plan), row::Room::new(&plan));
            let plain = model.filter(|model| counted.is_none() && model.blank != Blank::Refused).map(|model| model.length);
            let holds = model.is_some_and(|model| !model.fields.is_empty() || !model.valid.is_empty());
            Ready { many, alone, plan, counted, plain, came: 0, feeds: Vec::new(), holds }
        };
        let mut frames: List<FrameId, Ready> = List::filled(part.frames.len(), ready);
        let needs: Vec<(FrameId, Vec<FrameId>)> = frames.entries().map(|(id, ready)| (id, ready.plan.needs(&part))).collect();
        for (other, needed) in needs.iter().flat_map(|(other, needs)| needs.iter().map(move |needed| (*other, *needed))) {
            if let Some(ready) = frames.get_mut(needed).filter(|ready| !ready.feeds.contains(&other)) {
                ready.feeds.push(other);
            }
        }
        let state = State::while_read(&part);
        let digits = (state.clone(), List::filled(part.readings.len(), |_| None));
        let derivation = Derivation::new(&part).map(Box::new);
        Self { state, part, count: 0, frames, derivation, times: Vec::new(), digits }
    }

    /// The part.
    pub fn part(&self) -> &Part {
        &self.part
    }

    /// The known state of the part: registers, settings, parameters, the last frames.
    pub fn state(&self) -> &State {
        &self.state
    }

    /// The same, to be set as the part is.
    pub fn state_mut(&mut self) -> &mut State {
        self.unsettle();
        &mut self.state
    }

    /// Takes over registers, settings and parameters from another state of the same part. Frames stay as they were decoded.
    pub fn adopt(&mut self, state: &State) {
        if !self.state.has_same_values(state) {
            self.unsettle();
        }
        self.state.adopt(state);
    }

    /// Supplies a parameter.
    ///
    /// # Errors
    /// [`ParameterError`]: the value is outside the parameter's range, and is not taken.
    pub fn set_parameter(&mut self, id: ParameterId, value: f64) -> Result<(), ParameterError> {
        self.state.set_parameter(&self.part, id, value)?;
        self.unsettle();
        Ok(())
    }

    /// The settings and parameters that readings of some frames take something from, with their present values.
    pub fn in_use(&self, frames: &[FrameId]) -> Vec<InUse> {
        self.state.in_use(&self.part, frames)
    }

    /// Says when the frames that are decoded next were measured: a time for each, in seconds of any clock. One at a time takes the first. Quantities
    /// that are derived over time need it; without times they have no value.
    ///
    /// ```
    /// let part = yemdo::Part::parse("lamp.toml", r#"
    /// part = "lamp-1"
    /// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
    /// reading.light = { unit = "lx", formula = "light * 0.5" }
    /// derived.dose = { unit = "lx·h", start = 0, gap = "1 h", formula = "before.dose + light * elapsed / 3600" }
    /// "#)?;
    /// let mut decoder = yemdo::Decoder::new(&part);
    /// let light = part.frame("LIGHT")?;
    /// for minute in 0..=30 {
    ///     decoder.measured_at(&[f64::from(minute) * 60.0]);
    ///     decoder.decode(light, &[0x01, 0x90])?;
    /// }
    /// decoder.measured_at(&[31.0 * 60.0]);
    /// assert_eq!(decoder.decode(light, &[0x01, 0x90])?.reading("dose")?.to_string(), "103.333 lx·h");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn measured_at(&mut self, times: &[f64]) {
        if self.derivation.is_some() {
            self.times.clear();
            self.times.extend_from_slice(times);
        }
    }

    /// Continues from another decoder of the same part: derived quantities keep their previous frame.
    pub fn go_on_from(&mut self, other: &Decoder) {
        if self.part.name == other.part.name && self.part.readings.len() == other.part.readings.len() {
            self.derivation.clone_from(&other.derivation);
        }
    }

    /// Forgets the frames that came before.
    pub fn clear_frames(&mut self) {
        self.derivation.iter_mut().for_each(|derivation| derivation.clear());
        self.unsettle();
        self.state.forget_frames();
    }

    /// The last good bytes of a frame, as readings of other frames take them; `None` where none has come. Of a frame from which
    /// no other takes anything they are not kept up to date.
    pub fn last_bytes(&self, frame: FrameId) -> Option<&[u8]> {
        self.state.frame(frame)
    }

    /// Good frames that came after the last one of this kind: 0 where none did. `None` where it has not come. This is
    /// how old the frame is that other readings use.
    pub fn age(&self, frame: FrameId) -> Option<u64> {
        self.state.frame(frame)?;
        Some(self.count - self.frames.get(frame)?.came)
    }

    /// Decodes one frame.
    ///
    /// # Errors
    /// [`Refusal`]: it is no frame of this kind, or a check failed.
    pub fn decode(&mut self, frame: FrameId, bytes: &[u8]) -> Result<Decoded, Refusal> {
        let (bytes, given) = self.frame_bytes(frame, bytes)?;
        let mut values = FrameValues::new();
        self.judge(frame, given, &bytes, &mut values)?;
        self.keep(frame, bytes.get(..given).unwrap_or(&bytes), 1);
        let model = self.part.frames.get(frame).ok_or(Refusal::UnknownFrame)?;
        if !self.digits.0.has_same_values(&self.state) {
            self.digits = (self.state.clone(), List::filled(self.part.readings.len(), |_| None));
        }
        for reading in &model.readings {
            let digits = self.digits.1.get_mut(*reading).filter(|digits| digits.is_none());
            digits.into_iter().for_each(|place| *place = Some(predict::digits(&self.part, *reading, &self.state, &|value| value)));
        }
        let ready = self.frames.get(frame).ok_or(Refusal::UnknownFrame)?;
        let part = &self.part;
        let codes = present_codes(part, model, given).filter_map(|code| CodeValue::of(part, code, &bytes)).collect();
        let state = Present { part, state: &self.state };
        let mut readings = Vec::with_capacity(ready.plan.readings.len());
        for (at, planned) in ready.plan.readings.iter().enumerate() {
            let Some(reading) = part.readings.get(planned.id) else { continue };
            let status = values.status(at);
            let fault = (status == Status::FormulaFault).then(|| steps::fault(&state, frame, &bytes, planned.id)).flatten();
            // Formula faults and missing frames have their own reasons.
            let told = !matches!(status, Status::Waiting | Status::Absent | Status::FormulaFault | Status::OutOfRange);
            let cause = row::cause(&ready.plan, &ready.alone, planned).filter(|_| told);
            let means = cause.and_then(|at| part.conditions(Some(frame), planned.id).nth(at));
            let means = means.and_then(|(_, condition)| condition.means.clone());
            let said = || fault.as_ref().map(ToString::to_string).or_else(|| means.clone());
            let why = self.plain_reason(frame, reading, status).or_else(|| if status == Status::Ok { None } else { said() });
            let last = |code: CodeId| {
                let home = part.codes.get(code)?.frame;
                CodeValue::of(part, code, if home == frame { &bytes } else { self.state.frame(home)? })
            };
            let codes = reading.codes.iter().filter(|_| status != Status::Absent);
            readings.push(ReadingValue {
                id: planned.id,
                name: reading.name.clone(),
                unit: reading.unit.clone(),
                value: values.value(at),
                number: values.value(at).and_then(|value| ready.alone.number(&ready.plan, at, value)),
                status,
                means,
                waits_for: self.missing(planned.needs.iter().map(|(frame, _)| frame)),
                why,
                fault,
                codes: codes.filter_map(|code| last(*code)).collect(),
                digits: self.digits.1.get(planned.id).copied().flatten().unwrap_or(Digits::UNKNOWN),
            });
        }
        let derived = model.derived.clone();
        for (id, given) in derived.into_iter().zip(self.derive(frame, values.measured())) {
            let Some(reading) = self.part.readings.get(id) else { continue };
            let value = Some(given.value).filter(|_| given.status.has_value());
            readings.push(ReadingValue {
                id,
                name: reading.name.clone(),
                unit: reading.unit.clone(),
                value,
                number: value.map(|value| Number::Real(value, Ty::F64)),
                status: given.status,
                means: given.why.clone().filter(|_| given.fault.is_none()),
                waits_for: Vec::new(),
                why: given.why,
                fault: given.fault,
                codes: Vec::new(),
                digits: predict::digits(&self.part, id, &self.state, &|value| value),
            });
        }
        Ok(Decoded { part: self.part.clone(), frame, codes, readings })
    }

    /// The derived quantities of a frame that has just been decoded, with these readings.
    fn derive(&mut self, frame: FrameId, measured: &[(f64, Status)]) -> Vec<Given> {
        let mut all = Vec::new();
        if let (Some(derivation), Some(model)) = (&mut self.derivation, self.part.frames.get(frame)) {
            let at = |place: usize| measured.get(place).copied().unwrap_or((f64::NAN, Status::Absent));
            derivation.step(&self.part, &self.state, model, &at, self.times.first().copied(), &mut |given| all.push(given));
        }
        all
    }

    /// The names of those of some frames that have not come yet.
    fn missing<'f>(&'f self, frames: impl Iterator<Item = &'f FrameId>) -> Vec<String> {
        let missing = frames.filter(|frame| !self.state.has(**frame));
        self.part.frames.of(missing).map(|frame| frame.name.clone()).collect()
    }

    /// Why a reading has a status that follows neither from a condition nor from its formula.
    fn plain_reason(&self, frame: FrameId, reading: &Reading, status: Status) -> Option<String> {
        match status {
            Status::Absent => Some("the frame ends before it".into()),
            Status::OutOfRange => Some(match reading.range(&self.part, &self.state) {
                Some((low, high)) => format!("stated {low} to {}", with_unit(high, &reading.unit)),
                None => "its stated range has no value with these settings".into(),
            }),
            Status::Waiting => {
                Some(format!("needs {} first", self.missing(reading.frames.iter().filter(|other| **other != frame)).join(", ")))
            }
            _ => None,
        }
    }

    /// Why a reading of a frame has this status: what the sheet says that the status means, the stated range that its value
    /// is outside of, the fault of its formula, the frames it waits for. The frame is one that was decoded as part of many,
    /// with the other frames and the settings as they are now. Those of derived quantities come with them
    /// ([`ReadingValue::means`], [`Columns::reason`]).
    pub fn reason(&self, frame: FrameId, bytes: &[u8], reading: ReadingId, status: Status) -> Option<String> {
        let (part, model) = (&self.part, self.part.readings.get(reading)?);
        if model.is_derived() {
            return None;
        }
        match status {
            Status::Ok | Status::Absent | Status::OutOfRange | Status::Waiting => self.plain_reason(frame, model, status),
            _ => {
                let such =
                    || part.conditions(Some(frame), reading).map(|(_, condition)| condition).filter(|condition| condition.status == status);
                let mut those = such();
                if let (Some(only), None) = (those.next(), those.next()) {
                    return only.means.clone();
                }
                // The frame itself may be followed by others of its kind by now.
                let mut then = self.state.clone();
                if status == Status::FormulaFault {
                    return steps::fault(&Present { part, state: &then }, frame, bytes, reading).map(|fault| fault.to_string());
                }
                then.take_frame(part, frame, bytes);
                if let Some(counted) = part.frames.get(frame).and_then(|model| model.counted.as_ref())
                    && let Ok(count) = (Present { part, state: &then }).compute(counted)
                {
                    then.take_frame(part, frame, bytes.get(..count as usize).unwrap_or(bytes));
                }
                let state = Present { part, state: &then };
                such().find(|condition| state.compute(&condition.formula).is_ok_and(|truth| truth != 0.0))?.means.clone()
            }
        }
    }

    /// Decodes one frame into room that the caller keeps, with nothing but values and statuses, and allocates nothing
    /// (but for Modbus responses and frames of changing length): for streams of frames that come one at a time.
    ///
    /// # Errors
    /// As [`decode`](Self::decode).
    pub fn decode_into(&mut self, frame: FrameId, bytes: &[u8], values: &mut FrameValues) -> Result<(), Refusal> {
        if let Some(ready) = self.frames.get_mut(frame)
            && ready.plain == Some(bytes.len())
            && row::quick(&ready.plan, &mut ready.alone, bytes, values)
        {
            self.keep(frame, bytes, 1);
            if self.derivation.is_some() {
                self.derive_into(frame, values);
            }
            return Ok(());
        }
        self.decode_any(frame, bytes, values)
    }

    /// Appends derived quantities to the readings of a frame.
    #[inline(never)]
    fn derive_into(&mut self, frame: FrameId, values: &mut FrameValues) {
        let given = self.derive(frame, values.measured());
        values.set_derived(given.into_iter().map(|given| (given.value, given.status)).collect());
    }

    /// As [`decode_into`](Self::decode_into), whatever comes.
    #[inline(never)]
    fn decode_any(&mut self, frame: FrameId, bytes: &[u8], values: &mut FrameValues) -> Result<(), Refusal> {
        let (bytes, given) = self.frame_bytes(frame, bytes)?;
        self.judge(frame, given, &bytes, values)?;
        self.keep(frame, bytes.get(..given).unwrap_or(&bytes), 1);
        self.derive_into(frame, values);
        Ok(())
    }

    /// Decodes frames that follow one another in `bytes` into columns; what `out` held before is forgotten.
    /// A frame that fails a check does not stop the others. The last good frame is the one that readings of
    /// other frames take. Where a frame's own `length` says how many bytes count, all of them must count here; for others
    /// there are [`frame_bytes`](Self::frame_bytes) and [`decode_many_partial`](Self::decode_many_partial).
    ///
    /// # Errors
    /// [`Refusal::Length`] where the last frame is cut short, or one says that it has fewer bytes; [`Refusal::Count`],
    /// [`Refusal::Blank`], [`Refusal::UnknownFrame`]; nothing is decoded then.
    pub fn decode_many(&mut self, frame: FrameId, bytes: &[u8], out: &mut Columns) -> Result<(), Refusal> {
        let length = self.part.frames.get(frame).map_or(0, |model| model.length);
        if self.part.frames.get(frame).is_some_and(|model| model.blank == Blank::Refused || model.counted.is_some()) {
            for bytes in bytes.chunks_exact(length.max(1)) {
                let given = self.counted(frame, Cow::Borrowed(bytes))?.1;
                self.part.frames.get(frame).map_or(Ok(()), |model| accept::length(model, given, length))?;
            }
        }
        self.decode_many_partial(frame, bytes, length, out)
    }

    /// As [`decode_many`](Self::decode_many), for frames with `given` valid bytes.
    ///
    /// # Errors
    /// As [`decode_many`](Self::decode_many).
    pub fn decode_many_partial(&mut self, frame: FrameId, bytes: &[u8], given: usize, out: &mut Columns) -> Result<(), Refusal> {
        let (model, ready) = self.part.frames.get(frame).zip(self.frames.get_mut(frame)).ok_or(Refusal::UnknownFrame)?;
        let length = model.length;
        if !bytes.len().is_multiple_of(length) {
            accept::length(model, bytes.len() % length, length)?;
        }
        let state = Present { part: &self.part, state: &self.state };
        columns::decode(&ready.plan, &mut ready.many, &state, (length, given), bytes, out);
        if let Some((good, last)) = out.good() {
            let last = bytes.get(last * length..last * length + given.min(length)).unwrap_or(&[]);
            self.keep(frame, last, good as u64);
        }
        self.derive_many(frame, out);
        Ok(())
    }

    /// Appends derived quantities to the columns of readings.
    fn derive_many(&mut self, frame: FrameId, out: &mut Columns) {
        let (Some(derivation), Some(model)) = (&mut self.derivation, self.part.frames.get(frame)) else { return };
        let none = || Given { value: f64::NAN, status: Status::Ok, why: None, fault: None };
        let mut columns = vec![vec![none(); out.len()]; model.derived.len()];
        for at in (0..out.len()).filter(|at| out.failed_check(*at).is_none()) {
            let measured = |place: usize| (out.values(place).get(at).copied().unwrap_or(f64::NAN), out.status(place, at));
            let mut place = columns.iter_mut();
            derivation.step(&self.part, &self.state, model, &measured, self.times.get(at).copied(), &mut |given| {
                if let Some(place) = place.next().and_then(|column| column.get_mut(at)) {
                    *place = given;
                }
            });
        }
        columns.into_iter().for_each(|column| out.push_derived(column));
    }

    /// Every step from the bytes of a frame to its readings. A failed check is among the steps, and does not
    /// stop them.
    ///
    /// # Errors
    /// [`Refusal`], but for failed checks.
    pub fn steps(&mut self, frame: FrameId, bytes: &[u8]) -> Result<Steps, Refusal> {
        let (bytes, given) = self.frame_bytes(frame, bytes)?;
        let model = self.part.frames.get(frame).ok_or(Refusal::UnknownFrame)?;
        let state = Present { part: &self.part, state: &self.state };
        Ok(steps::steps(&state, frame, model, bytes.get(..given).unwrap_or(&bytes), &bytes))
    }

    /// The steps of a frame's derived quantities, as they were computed with the frame that was decoded last.
    pub fn derived_steps(&self, frame: FrameId) -> Vec<ReadingSteps> {
        let model = self.part.frames.get(frame).zip(self.derivation.as_ref());
        model.map_or(Vec::new(), |(model, derivation)| derivation.steps(&self.part, model))
    }

    /// The bytes of the frame itself: of a Modbus response those behind its header; filled up with zeros where
    /// the frame may be shorter. Also how many bytes count.
    ///
    /// # Errors
    /// [`Refusal`]: they are too few or too many, or no good response, or say themselves that they are more than can be.
    pub fn frame_bytes<'b>(&mut self, frame: FrameId, bytes: &'b [u8]) -> Result<(Cow<'b, [u8]>, usize), Refusal> {
        let model = self.part.frames.get(frame).ok_or(Refusal::UnknownFrame)?;
        let bytes = accept::unwrapped(&self.part, model, bytes)?;
        self.counted(frame, bytes)
    }

    /// Bytes without a header, with the number of valid ones.
    fn counted<'b>(&mut self, frame: FrameId, bytes: Cow<'b, [u8]>) -> Result<(Cow<'b, [u8]>, usize), Refusal> {
        let (model, ready) = self.part.frames.get(frame).zip(self.frames.get_mut(frame)).ok_or(Refusal::UnknownFrame)?;
        let Some((plan, room)) = &mut ready.counted else {
            accept::length(model, bytes.len(), model.length)?;
            accept::not_blank(model, &bytes)?;
            let given = bytes.len();
            return Ok((bytes, given));
        };
        let came = bytes.len();
        if came > model.length {
            accept::length(model, came, model.length)?;
        }
        // The code that says how many there are must have come itself.
        let needed = plan.loads.iter().filter_map(|load| load.from.last_byte()).max().map_or(0, |last| last + 1);
        if came < needed {
            accept::length(model, came, needed)?;
        }
        let mut whole = bytes.into_owned();
        whole.resize(model.length, 0);
        accept::not_blank(model, &whole)?;
        let state = Present { part: &self.part, state: &self.state };
        row::run(plan, room, &state, &whole);
        let bad = |count, fault| Refusal::Count { frame: model.name.clone(), count, fault, most: model.length };
        let count = room.single.output(&plan.program, 0).map_err(|(kind, _)| bad(None, Some(kind)))?.to_f64();
        if !(count >= 0.0 && count <= model.length as f64) {
            return Err(bad(Some(count as i64), None));
        }
        let count = count as usize;
        if came < count {
            accept::length(model, came, count)?;
        }
        Ok((Cow::Owned(whole), count))
    }

    /// Why a frame fails one of its checks, by the check's place.
    pub fn check_refusal(&self, frame: FrameId, check: usize, bytes: &[u8]) -> Refusal {
        let model = self.part.frames.get(frame);
        let failed = model.and_then(|model| Some(accept::failed(&self.part, model, model.checks.get(check)?, bytes)));
        failed.unwrap_or(Refusal::UnknownFrame)
    }

    /// Invalidates values computed from settings, parameters and other frames.
    fn unsettle(&mut self) {
        for ready in self.frames.iter_mut() {
            ready.alone.unsettle();
            ready.counted.iter_mut().for_each(|(_, room)| room.unsettle());
        }
    }

    /// Decodes a frame with this number of valid bytes.
    fn judge(&mut self, frame: FrameId, given: usize, bytes: &[u8], values: &mut FrameValues) -> Result<(), Refusal> {
        let (model, ready) = self.part.frames.get(frame).zip(self.frames.get_mut(frame)).ok_or(Refusal::UnknownFrame)?;
        let state = Present { part: &self.part, state: &self.state };
        let failed =
            |check: usize| model.checks.get(check).map_or(Refusal::UnknownFrame, |check| accept::failed(&self.part, model, check, bytes));
        row::decode(&ready.plan, &mut ready.alone, &state, given, bytes, values).map_err(failed)
    }

    /// Keeps a good frame, the last of `count`: its codes and fields are used from then on.
    #[inline(always)]
    fn keep(&mut self, frame: FrameId, bytes: &[u8], good: u64) {
        self.count += good;
        let Some(ready) = self.frames.get_mut(frame) else { return };
        ready.came = self.count;
        let (alone, holds) = (ready.feeds.is_empty(), ready.holds);
        if alone && !holds && self.state.has(frame) {
            return;
        }
        // The same bytes again may still be news: another frame, or a setting, may have changed a register since.
        if holds {
            self.state.read_registers_of(&self.part, frame, bytes);
        }
        if self.state.unmet(&self.part, frame).is_empty() {
            self.state.keep_frame(frame, bytes);
        } else {
            // Codes that mean nothing are not used by other frames either.
            self.state.replace_frame(frame, None);
        }
        // What other frames computed from this one is to be computed again.
        let mut at = 0;
        while let Some(other) = self.frames.get(frame).and_then(|ready| ready.feeds.get(at)).copied() {
            self.frames.get_mut(other).into_iter().for_each(|ready| ready.alone.unsettle());
            at += 1;
        }
    }
}

/// Codes of a frame within the received bytes.
fn present_codes<'a>(part: &'a Sheet, frame: &'a Frame, given: usize) -> impl Iterator<Item = CodeId> + 'a {
    frame.codes.iter().copied().filter(move |code| part.codes.get(*code).is_some_and(|code| code.last_byte() < given))
}

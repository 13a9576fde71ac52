//! The decoder of a part.

use std::borrow::Cow;

use super::columns::{self, Columns, State};
use super::decoded::{CodeValue, Decoded, Reading};
use super::plan::Plan;
use super::refusal::Refusal;
use super::row::{self, Row};
use super::steps::{self, Steps};
use crate::modbus::read_response;
use crate::model::part::{Frame, Origin, Part};
use crate::model::registers::Settings;
use crate::model::status::Status;

/// Turns the frames of one part into readings. It holds the compiled formulas and all the room they need, so
/// make one and keep it: readings that need several frames take the others as they came last.
#[derive(Clone, Debug)]
pub struct Decoder<'p> {
    part: &'p Part,
    settings: Settings,
    parameters: Vec<f64>,
    last: Vec<Option<Vec<u8>>>,
    /// Number of good frames so far.
    count: u64,
    /// What it was when each frame came last.
    came: Vec<u64>,
    frames: Vec<Ready>,
    /// For every frame, the others whose readings need it.
    feeds: Vec<Vec<usize>>,
}

/// A frame's plan and the room to run it in.
#[derive(Clone, Debug)]
struct Ready {
    plan: Plan,
    many: columns::Room,
    alone: row::Room,
    row: Row,
    /// The formula that says how many bytes count.
    counted: Option<(Plan, row::Room)>,
    /// The number of bytes that need no second look; 0 where all do.
    plain: usize,
}

impl<'p> Decoder<'p> {
    /// Compiles the formulas of a part. Its registers are taken to be as after a reset.
    pub fn new(part: &'p Part) -> Self {
        let ready = |frame| {
            let plan = Plan::new(part, frame, false);
            let counted = part.frames.get(frame).and_then(|model| model.counted.as_ref()).map(|formula| {
                let plan = Plan::of_formula(part, frame, formula);
                let room = row::Room::new(&plan);
                (plan, room)
            });
            let (many, alone) = (columns::Room::new(&plan), row::Room::new(&plan));
            let model = part.frames.get(frame).filter(|model| counted.is_none() && !model.keep);
            let plain = model.map_or(0, |model| model.length);
            Ready { many, alone, plan, row: Row::new(), counted, plain }
        };
        let count = part.frames.len();
        let frames: Vec<Ready> = (0..count).map(ready).collect();
        let needs: Vec<Vec<usize>> = frames.iter().map(|ready| ready.plan.needs(part)).collect();
        let fed_by = |frame| (0..count).filter(|other| needs.get(*other).is_some_and(|needs| needs.contains(&frame))).collect();
        let feeds = (0..count).map(fed_by).collect();
        let parameters = part.parameters.iter().map(|parameter| parameter.default).collect();
        Self { part, parameters, settings: Settings::reset(part), last: vec![None; count], count: 0, came: vec![0; count], frames, feeds }
    }

    /// What was worked out from settings, parameters and other frames is to be worked out anew.
    fn unsettle(&mut self) {
        for ready in &mut self.frames {
            ready.alone.unsettle();
            ready.counted.iter_mut().for_each(|(_, room)| room.unsettle());
        }
    }

    /// Good frames that came after the one of this index that came last: 0 where none did. `None` where it has not
    /// come. This is how old the frame is that other readings use.
    pub fn age(&self, frame: usize) -> Option<u64> {
        self.last.get(frame)?.as_ref()?;
        Some(self.count - self.came.get(frame)?)
    }

    /// A good frame came, the last of so many. Its bytes are kept where readings of other frames ask for them.
    #[inline(always)]
    fn keep(&mut self, frame: usize, bytes: &[u8], good: u64) {
        self.count += good;
        self.came.get_mut(frame).into_iter().for_each(|came| *came = self.count);
        let feeds = self.feeds.get(frame).map_or(&[] as &[usize], Vec::as_slice);
        match self.last.get_mut(frame) {
            Some(Some(_)) if feeds.is_empty() => return,
            Some(Some(last)) if last.len() == bytes.len() => last.copy_from_slice(bytes),
            Some(last) => *last = Some(bytes.to_vec()),
            None => {}
        }
        // What other frames worked out from this one is to be worked out anew.
        for other in feeds {
            self.frames.get_mut(*other).into_iter().for_each(|ready| ready.alone.unsettle());
        }
    }

    /// The part.
    pub fn part(&self) -> &'p Part {
        self.part
    }

    /// The present values of the registers, as far as they are known.
    pub fn settings(&self) -> &Settings {
        &self.settings
    }

    /// The present values of the registers, to be set as the part was.
    pub fn settings_mut(&mut self) -> &mut Settings {
        self.unsettle();
        &mut self.settings
    }

    /// The parameters' present values, in the order of [`Part::parameters`].
    pub fn parameters(&self) -> &[f64] {
        &self.parameters
    }

    /// Supplies a parameter, by its index in [`Part::parameters`]. A value outside its range is not taken, and
    /// the range is given back.
    ///
    /// # Errors
    /// The range.
    pub fn set_parameter(&mut self, index: usize, value: f64) -> Result<(), (f64, f64)> {
        if let Some((low, high)) = self.part.parameters.get(index).and_then(|parameter| parameter.range)
            && !(value >= low && value <= high)
        {
            return Err((low, high));
        }
        self.unsettle();
        self.parameters.get_mut(index).into_iter().for_each(|place| *place = value);
        Ok(())
    }

    /// Forgets the frames that came before.
    pub fn forget(&mut self) {
        self.unsettle();
        self.last.iter_mut().for_each(|last| *last = None);
    }

    /// The bytes of the frame itself: of a Modbus response those behind its header; filled up with noughts where
    /// the frame may be shorter. Also how many bytes count.
    ///
    /// # Errors
    /// [`Refusal`]: they are too few or too many, or no good response.
    pub fn frame_bytes<'b>(&mut self, frame: usize, bytes: &'b [u8]) -> Result<(Cow<'b, [u8]>, usize), Refusal> {
        let (model, ready) = self.part.frames.get(frame).zip(self.frames.get_mut(frame)).ok_or(Refusal::UnknownFrame)?;
        let mut bytes = Cow::Borrowed(bytes);
        if let Origin::Modbus(range) = &model.origin
            && bytes.len() != model.length
        {
            let unit = self.part.modbus.as_ref().and_then(|modbus| modbus.unit);
            let response = read_response(&bytes, range, unit).map_err(Refusal::Response)?;
            let place = response.at..response.at + response.data.len();
            bytes = match bytes {
                Cow::Borrowed(all) => Cow::Borrowed(all.get(place).unwrap_or(&[])),
                Cow::Owned(all) => Cow::Owned(all.get(place).unwrap_or(&[]).to_vec()),
            };
        }
        let Some((plan, room)) = &mut ready.counted else {
            accept_length(model, bytes.len(), model.length)?;
            refuse_blank(model, &bytes)?;
            let given = bytes.len();
            return Ok((bytes, given));
        };
        let came = bytes.len();
        if came > model.length {
            accept_length(model, came, model.length)?;
        }
        let mut whole = bytes.into_owned();
        whole.resize(model.length, 0);
        let state = State { part: self.part, settings: &self.settings, parameters: &self.parameters, last: &self.last };
        row::run(plan, room, &state, &whole);
        let count = room.single.real(&plan.program, 0).unwrap_or(0.0);
        let count = count.clamp(0.0, model.length as f64) as usize;
        if came < count {
            accept_length(model, came, count)?;
        }
        Ok((Cow::Owned(whole), count))
    }

    /// Decodes one frame into room that the caller keeps, with nothing but values and statuses, and allocates nothing
    /// (but for Modbus responses and frames of changing length): for streams of frames that come one at a time.
    ///
    /// # Errors
    /// As [`decode`](Self::decode).
    pub fn decode_into(&mut self, frame: usize, bytes: &[u8], row: &mut Row) -> Result<(), Refusal> {
        if let Some(ready) = self.frames.get_mut(frame)
            && ready.plain == bytes.len()
            && row::quick(&ready.plan, &mut ready.alone, bytes, row)
        {
            self.keep(frame, bytes, 1);
            return Ok(());
        }
        self.decode_any(frame, bytes, row)
    }

    /// As [`decode_into`](Self::decode_into), whatever comes.
    #[inline(never)]
    fn decode_any(&mut self, frame: usize, bytes: &[u8], row: &mut Row) -> Result<(), Refusal> {
        let (bytes, given) = self.frame_bytes(frame, bytes)?;
        let (model, ready) = self.part.frames.get(frame).zip(self.frames.get_mut(frame)).ok_or(Refusal::UnknownFrame)?;
        let state = State { part: self.part, settings: &self.settings, parameters: &self.parameters, last: &self.last };
        row::decode(&ready.plan, &mut ready.alone, &state, given, &bytes, row).map_err(|failed| check_refusal(model, failed, &bytes))?;
        self.keep(frame, &bytes, 1);
        Ok(())
    }

    /// Decodes one frame, named by its index in [`Part::frames`].
    ///
    /// # Errors
    /// [`Refusal`]: the frame has another length, or a check failed.
    pub fn decode(&mut self, frame: usize, bytes: &[u8]) -> Result<Decoded<'p>, Refusal> {
        let (bytes, given) = self.frame_bytes(frame, bytes)?;
        let (model, ready) = self.part.frames.get(frame).zip(self.frames.get_mut(frame)).ok_or(Refusal::UnknownFrame)?;
        let state = State { part: self.part, settings: &self.settings, parameters: &self.parameters, last: &self.last };
        row::decode(&ready.plan, &mut ready.alone, &state, given, &bytes, &mut ready.row)
            .map_err(|failed| check_refusal(model, failed, &bytes))?;
        self.keep(frame, &bytes, 1);
        let ready = self.frames.get(frame).ok_or(Refusal::UnknownFrame)?;
        let present = |code: &&CodeValue<'p>| code.code.last_byte() < given;
        let codes: Vec<CodeValue<'p>> =
            model.codes.iter().filter_map(|code| code_value(self.part, *code, &bytes)).filter(|code| present(&code)).collect();
        let mut readings = Vec::with_capacity(ready.plan.readings.len());
        for (at, planned) in ready.plan.readings.iter().enumerate() {
            let Some(reading) = self.part.readings.get(planned.index) else { continue };
            let status = ready.row.status(at);
            let fault = (status == Status::FormulaFault).then(|| {
                let state = State { part: self.part, settings: &self.settings, parameters: &self.parameters, last: &self.last };
                steps::fault(&state, self.part, frame, &bytes, planned.index)
            });
            let conditions = model.status.iter().chain(&reading.status);
            let holding = planned
                .conditions
                .iter()
                .zip(conditions)
                .find(|((output, _), _)| ready.alone.single.real(&ready.plan.program, *output).is_some_and(|truth| truth != 0.0));
            let waits_for = planned.needs.iter().filter(|frame| self.last.get(**frame).is_none_or(Option::is_none));
            readings.push(Reading {
                name: &reading.name,
                unit: &reading.unit,
                value: ready.row.value(at),
                status,
                means: holding.filter(|_| status != Status::Waiting).and_then(|(_, condition)| condition.means.as_deref()),
                waits_for: waits_for.filter_map(|frame| self.part.frames.get(*frame)).map(|frame| frame.name.as_str()).collect(),
                fault: fault.flatten(),
                codes: reading.codes.iter().filter_map(|code| last_code(self.part, &self.last, (frame, &bytes), *code)).collect(),
                decimals: reading.decimals,
            });
        }
        Ok(Decoded { frame: model, codes, readings })
    }

    /// Decodes frames that follow one another in `bytes` into columns; what `out` held before is forgotten.
    /// A frame that fails a check does not stop the others. The last good frame is the one that readings of
    /// other frames take.
    ///
    /// # Errors
    /// [`Refusal::Length`] where the last frame is cut short, [`Refusal::UnknownFrame`]; nothing is decoded then.
    pub fn decode_many(&mut self, frame: usize, bytes: &[u8], out: &mut Columns) -> Result<(), Refusal> {
        let length = self.part.frames.get(frame).map_or(0, |model| model.length);
        self.decode_counted(frame, bytes, length, out)
    }

    /// Decodes whole frames of which only the first `given` bytes count.
    ///
    /// # Errors
    /// As [`decode_many`](Self::decode_many).
    pub fn decode_counted(&mut self, frame: usize, bytes: &[u8], given: usize, out: &mut Columns) -> Result<(), Refusal> {
        let (model, ready) = self.part.frames.get(frame).zip(self.frames.get_mut(frame)).ok_or(Refusal::UnknownFrame)?;
        if !bytes.len().is_multiple_of(model.length) {
            accept_length(model, bytes.len() % model.length, model.length)?;
        }
        let state = State { part: self.part, settings: &self.settings, parameters: &self.parameters, last: &self.last };
        columns::decode(&ready.plan, &mut ready.many, &state, (model.length, given), bytes, out);
        if let Some((good, last)) = out.good() {
            let last = bytes.get(last * model.length..(last + 1) * model.length).unwrap_or(&[]);
            self.keep(frame, last, good as u64);
        }
        Ok(())
    }

    /// Why a frame fails one of its checks, by the check's index.
    pub fn check_refusal(&self, frame: usize, check: usize, bytes: &[u8]) -> Refusal {
        self.part.frames.get(frame).map_or(Refusal::UnknownFrame, |model| check_refusal(model, check, bytes))
    }

    /// Every step from the bytes of a frame to its readings. A failed check is among the steps, and does not
    /// stop them.
    ///
    /// # Errors
    /// [`Refusal::Length`], [`Refusal::UnknownFrame`], [`Refusal::Response`].
    pub fn steps(&mut self, frame: usize, bytes: &[u8]) -> Result<Steps<'p>, Refusal> {
        let (bytes, given) = self.frame_bytes(frame, bytes)?;
        let model = self.part.frames.get(frame).ok_or(Refusal::UnknownFrame)?;
        let state = State { part: self.part, settings: &self.settings, parameters: &self.parameters, last: &self.last };
        Ok(steps::steps(&state, self.part, frame, model, bytes.get(..given).unwrap_or(&bytes), &bytes))
    }
}

/// A code as it came last: in this frame, or in another.
fn last_code<'p>(part: &'p Part, last: &[Option<Vec<u8>>], (this, bytes): (usize, &[u8]), code: usize) -> Option<CodeValue<'p>> {
    let frame = part.codes.get(code)?.frame;
    code_value(part, code, if frame == this { bytes } else { last.get(frame)?.as_deref()? })
}

/// Refuses a frame to be kept that says nothing.
fn refuse_blank(frame: &Frame, bytes: &[u8]) -> Result<(), Refusal> {
    let first = bytes.first().copied().filter(|byte| frame.keep && matches!(byte, 0x00 | 0xFF));
    match first.filter(|first| bytes.iter().all(|byte| byte == first)) {
        Some(byte) => Err(Refusal::Blank { frame: frame.name.clone(), byte }),
        None => Ok(()),
    }
}

/// Refuses bytes that are too few or too many.
fn accept_length(frame: &Frame, found: usize, expected: usize) -> Result<(), Refusal> {
    if found == expected { Ok(()) } else { Err(Refusal::Length { frame: frame.name.clone(), expected, found }) }
}

fn check_refusal(frame: &Frame, check: usize, bytes: &[u8]) -> Refusal {
    frame.checks.get(check).map_or(Refusal::UnknownFrame, |check| Refusal::Check {
        frame: frame.name.clone(),
        method: check.method(),
        width: check.width(),
        expected: check.expected(bytes),
        found: check.found(bytes),
    })
}

pub(crate) fn code_value<'p>(part: &'p Part, code: usize, bytes: &[u8]) -> Option<CodeValue<'p>> {
    let code = part.codes.get(code)?;
    Some(CodeValue { code, raw: code.gather.raw(bytes), value: code.value(bytes) })
}

//! Many frames at once: readings as columns of numbers.

use std::collections::BTreeMap;

use super::derived::Given;
use crate::bits::gather::{BLOCK, FromCode, Gather};
use crate::bits::word::Cut;
use crate::formula::run::columns::{Column, LANES, Machine};
use crate::ground::number::{Number, Ty};
use crate::model::ids::FrameId;
use crate::model::status::Status;
use crate::model::value::Present;
use crate::plan::frame::{InputSource, Pass, Plan, PlanCondition, PlanRange, ReadingPlan};
use crate::plan::judge::with_earlier;

/// The readings of many frames, a column each. Reuse one value for batch after batch.
///
/// Columns of statuses and of failed checks are only filled where there is something to tell.
#[derive(Clone, Debug, Default)]
pub struct Columns {
    frames: usize,
    /// For every frame: 0 where it passed, else 1 + the index of the check that failed. Empty where all passed.
    failed: Vec<u8>,
    /// For every reading: the values.
    values: Vec<Vec<f64>>,
    /// For every reading: the statuses. Empty where all are well.
    status: Vec<Vec<Status>>,
    /// Exact numbers of readings that a double cannot represent.
    whole: Vec<Whole>,
    /// Why derived quantities are not ok: their place, the frame, the reason.
    reasons: BTreeMap<(usize, usize), String>,
}

impl Columns {
    /// Empty columns.
    pub fn new() -> Self {
        Self::default()
    }

    /// Number of frames.
    pub fn len(&self) -> usize {
        self.frames
    }

    /// True if empty.
    pub fn is_empty(&self) -> bool {
        self.frames == 0
    }

    /// Number of readings and derived quantities of a frame.
    pub fn readings(&self) -> usize {
        self.values.len()
    }

    /// The values of a reading, by its place among [`Frame::readings`](crate::part::Frame::readings), one
    /// for every frame. Not a number where the status has no value or the frame failed a check. Behind the readings come the
    /// [derived quantities](crate::part::Frame::derived).
    pub fn values(&self, reading: usize) -> &[f64] {
        self.values.get(reading).map_or(&[], Vec::as_slice)
    }

    /// A reading's value in one frame, as its formula's type holds it: an integer of 64 bits keeps all its digits. `None`
    /// where the status has no value or the frame failed a check.
    pub fn number(&self, reading: usize, frame: usize) -> Option<Number> {
        let value = self.values(reading).get(frame).copied().filter(|value| !value.is_nan())?;
        match self.whole.get(reading) {
            Some(Whole { ty: Some(Ty::F32), .. }) => Some(Number::Real(value, Ty::F32)),
            Some(Whole { ty: Some(ty), .. }) if !matches!(ty, Ty::I64 | Ty::U64) => Some(Number::Int(value as i128, *ty)),
            Some(Whole { ty: Some(ty), values }) => {
                let bits = *values.get(frame)?;
                Some(Number::Int(if *ty == Ty::U64 { i128::from(bits as u64) } else { i128::from(bits) }, *ty))
            }
            _ => Some(Number::Real(value, Ty::F64)),
        }
    }

    /// True if a reading of a frame of the batch has a value.
    pub fn has_value(&self, frame: usize) -> bool {
        (0..self.readings()).any(|reading| self.status(reading, frame).has_value())
    }

    /// A reading's status in one frame.
    pub fn status(&self, reading: usize, frame: usize) -> Status {
        self.status.get(reading).and_then(|status| status.get(frame)).copied().unwrap_or_default()
    }

    /// Reason for the status of a derived quantity, by its place after the readings, in one frame.
    pub fn reason(&self, reading: usize, frame: usize) -> Option<&str> {
        self.reasons.get(&(reading, frame)).map(String::as_str)
    }

    /// A column more: values and statuses of a derived quantity, and why it is not ok.
    pub(super) fn push_derived(&mut self, given: Vec<Given>) {
        let place = self.values.len();
        let all_well = given.iter().all(|given| given.status == Status::Ok);
        self.status.push(if all_well { Vec::new() } else { given.iter().map(|given| given.status).collect() });
        self.values.push(given.iter().map(|given| given.value).collect());
        self.whole.push(Whole::default());
        let reasons = given.into_iter().enumerate().filter_map(|(frame, given)| Some(((place, frame), given.why?)));
        self.reasons.extend(reasons);
    }

    /// The index of the check that a frame failed first; `None` where it passed.
    pub fn failed_check(&self, frame: usize) -> Option<usize> {
        self.failed.get(frame).and_then(|failed| usize::from(*failed).checked_sub(1))
    }

    /// Number of frames that passed all checks, and the index of the last of them.
    pub(crate) fn good(&self) -> Option<(usize, usize)> {
        if self.failed.is_empty() {
            return Some((self.frames, self.frames.checked_sub(1)?));
        }
        let last = self.failed.iter().rposition(|failed| *failed == 0)?;
        Some((self.failed.iter().filter(|failed| **failed == 0).count(), last))
    }

    /// Clears the columns and makes room for `frames` frames and `readings` readings.
    fn reset(&mut self, readings: usize, frames: usize) {
        self.frames = frames;
        self.failed.clear();
        self.reasons.clear();
        self.values.resize_with(readings, Vec::new);
        self.status.resize_with(readings, Vec::new);
        self.whole.resize_with(readings, Whole::default);
        self.values.iter_mut().for_each(|values| values.resize(frames, 0.0));
        self.status.iter_mut().for_each(Vec::clear);
        self.whole.iter_mut().for_each(|whole| whole.ty = None);
    }
}

/// The type of a reading that is no double: an integer, of 64 bits with its values as bit patterns, or a float, whose shortest
/// text is another.
#[derive(Clone, Debug, Default)]
struct Whole {
    ty: Option<Ty>,
    values: Vec<i64>,
}

/// The statuses of some of the frames, in a column that is made when the first has something to tell.
struct Telling<'c> {
    column: &'c mut Vec<Status>,
    frames: usize,
    from: usize,
    lanes: usize,
}

impl Telling<'_> {
    fn open(&mut self) -> &mut [Status] {
        if self.column.is_empty() {
            self.column.resize(self.frames, Status::Ok);
        }
        self.column.get_mut(self.from..self.from + self.lanes).unwrap_or_default()
    }
}

/// The status of a reading that has no value, whatever the frame holds.
pub(super) fn no_value(reading: &ReadingPlan, state: &Present<'_>, given: usize) -> Option<Status> {
    if reading.needs.iter().any(|(frame, _)| !state.state.has(*frame)) {
        return Some(Status::Waiting);
    }
    let ends_before = |(frame, last): &(FrameId, usize)| state.state.frame(*frame).is_some_and(|bytes| bytes.len() <= *last);
    (reading.last_byte >= given || reading.needs.iter().any(ends_before)).then_some(Status::Absent)
}

/// Room to decode some frames at once in.
#[derive(Clone, Debug)]
pub(crate) struct Room {
    pub(crate) machine: Machine,
    /// The frames' words, a column each.
    pub(crate) words: Vec<Vec<u64>>,
}

impl Room {
    pub(crate) fn new(plan: &Plan) -> Self {
        let by_words = plan.passes.iter().any(|pass| !matches!(pass, Pass::Check(_)));
        let words = if by_words { plan.words.iter().len() } else { 0 };
        Self { machine: Machine::new(&plan.program, LANES), words: vec![Vec::new(); words] }
    }
}

/// Frames that are worked on together where there is no program. Few, so that what is written to memory is on its way
/// while the next frames are checked.
const FEW: usize = 128;

/// Decodes adjacent frames of `length` bytes with `given` valid bytes each.
pub(crate) fn decode(plan: &Plan, room: &mut Room, state: &Present<'_>, (length, given): (usize, usize), bytes: &[u8], out: &mut Columns) {
    let length = length.max(1);
    let frames = bytes.len() / length;
    out.reset(plan.readings.len(), frames);
    let most = match plan.is_straight() {
        true if !room.words.is_empty() => FEW,
        // Codes that stand side by side are read and written as the memory likes it best.
        true => LANES.max(8 * 1024 / length),
        false => LANES,
    };
    for (batch, chunk) in bytes.chunks(length * most).enumerate() {
        let lanes = chunk.len() / length;
        let from = batch * most;
        let again = batch > 0;
        let mut any = false;
        let failed = &mut out.failed;
        let onwards = bytes.get(from * length..).unwrap_or(chunk);
        look(plan, &mut room.words, (chunk, onwards, length), &mut |lane, check| {
            any = true;
            if failed.is_empty() {
                failed.resize(frames, 0);
            }
            let place = failed.get_mut(from + lane).filter(|failed| **failed == 0);
            place.into_iter().for_each(|failed| *failed = u8::try_from(check + 1).unwrap_or(u8::MAX));
        });
        if !plan.is_straight() {
            load(plan, room, state, (chunk, length, given), lanes, again);
            room.machine.run_again(&plan.program, lanes, again);
        }
        for ((reading, whole), (values, column)) in plan.readings.iter().zip(&mut out.whole).zip(out.values.iter_mut().zip(&mut out.status))
        {
            let Some(values) = values.get_mut(from..from + lanes) else { continue };
            let mut status = Telling { column, frames, from, lanes };
            if let Some(none) = no_value(reading, state, given) {
                values.fill(f64::NAN);
                status.open().fill(none);
                continue;
            }
            let mut finite = true;
            match &reading.affine {
                Some(affine) => {
                    finite = affine.fill(room, chunk, length, values) || affine.finite;
                    whole.ty = affine.single.then_some(Ty::F32);
                }
                None => {
                    copy(plan, &room.machine, reading.output, values);
                    keep_whole(plan, &room.machine, reading.output, (from, lanes, frames), whole);
                }
            }
            let applies = |condition: &PlanCondition| condition.applies(state.state, plan.frame, given);
            judge(plan, &room.machine, reading, (values, finite), &applies, &mut status);
        }
        if any {
            let failed = out.failed.get(from..from + lanes).unwrap_or_default();
            for values in &mut out.values {
                let values = values.get_mut(from..from + lanes).unwrap_or_default();
                values.iter_mut().zip(failed).filter(|(_, failed)| **failed != 0).for_each(|(value, _)| *value = f64::NAN);
            }
        }
    }
}

/// Loads the words of many frames, and passes frames with a failed check to `failed`, with the check's index.
/// Words may reach into what follows the frames, which is in `onwards` too.
#[inline(never)]
fn look(plan: &Plan, words: &mut [Vec<u64>], (bytes, onwards, length): (&[u8], &[u8], usize), failed: &mut dyn FnMut(usize, usize)) {
    for pass in &plan.passes {
        match *pass {
            Pass::Load(at) | Pass::LoadAndCheck(at, _) => {
                let (Some(word), Some(words)) = (plan.words.get(at), words.get_mut(at)) else { continue };
                words.resize(bytes.len() / length, 0);
                match *pass {
                    Pass::LoadAndCheck(_, index) => {
                        let check = plan.checks.get(index).into_iter();
                        check.for_each(|check| check.load(word, onwards, length, words, &mut |lane| failed(lane, index)));
                    }
                    _ => word.load(onwards, length, words, |_, _| ()),
                }
            }
            Pass::Check(index) => {
                let check = plan.checks.get(index).into_iter();
                check.for_each(|check| check.failures(bytes, length, &mut |lane| failed(lane, index)));
            }
        }
    }
}

/// Puts the codes of many frames into the program's inputs, and what stays the same for all of them. With `again`, the
/// latter have their values from the batch before.
#[inline(never)]
fn load(plan: &Plan, room: &mut Room, state: &Present<'_>, (bytes, length, given): (&[u8], usize, usize), lanes: usize, again: bool) {
    let Room { machine, words } = room;
    machine.begin();
    if !again {
        machine.lost.clear();
    }
    let mut none = Vec::new();
    for (index, load) in plan.loads.iter().enumerate() {
        if again && load.from.is_held() {
            if machine.lost.contains(&index) {
                (0..lanes).for_each(|lane| machine.no_value(&load.users, lane));
            }
            continue;
        }
        if given < length && load.from.ends_behind(given) {
            (0..lanes).for_each(|lane| machine.no_value(&load.users, lane));
            continue;
        }
        let Some(column) = machine.column_mut(load.slot) else { continue };
        match (&load.from, column) {
            (InputSource::Frame(gather, range), Column::I32(column)) => {
                let column = column.get_mut(..lanes).unwrap_or_default();
                cut_out(load.cut, words, gather, (bytes, length), column, &mut none);
                if let Some(range) = range.filter(|range| range.unsigned) {
                    outside(column, range.low as u32, range.high as u32, |code| code as u32, &mut none);
                } else if let Some(range) = range {
                    let (low, high) = (i32::try_from(range.low).unwrap_or(i32::MIN), i32::try_from(range.high).unwrap_or(i32::MAX));
                    outside(column, low, high, |code| code, &mut none);
                }
            }
            (InputSource::Frame(gather, range), Column::I64(column)) => {
                let column = column.get_mut(..lanes).unwrap_or_default();
                cut_out(load.cut, words, gather, (bytes, length), column, &mut none);
                match range.map(|range| (range, i32::try_from(range.low), i32::try_from(range.high))) {
                    // Codes of 32 bits are compared side by side.
                    Some((_, Ok(low), Ok(high))) if gather.is_narrow() => outside(column, low, high, |code| code as i32, &mut none),
                    Some((range, ..)) if range.unsigned => {
                        outside(column, range.low as u64, range.high as u64, |code| code as u64, &mut none);
                    }
                    Some((range, ..)) => outside(column, range.low, range.high, |code| code, &mut none),
                    None => {}
                }
            }
            // Integer codes are never in columns of reals, and vice versa.
            (InputSource::Frame(..), Column::F32(_) | Column::F64(_)) | (InputSource::FrameReal(_), Column::I32(_) | Column::I64(_)) => {}
            (InputSource::FrameReal(gather), Column::F32(column)) => {
                gather.reals(bytes, length, column.get_mut(..lanes).unwrap_or_default(), |real| real, |real| real as f32);
            }
            (InputSource::FrameReal(gather), Column::F64(column)) => {
                gather.reals(bytes, length, column.get_mut(..lanes).unwrap_or_default(), f64::from, |real| real);
            }
            (InputSource::FrameRow(gather, rows), column) => {
                for (block, frames) in bytes.chunks(length * BLOCK).enumerate() {
                    let mut room = [0i64; BLOCK];
                    let codes = room.get_mut(..frames.len() / length).unwrap_or_default();
                    gather.codes(frames, length, codes, &mut |lane| none.push(block * BLOCK + lane));
                    for (lane, code) in codes.iter().enumerate() {
                        match rows.number(*code) {
                            Some(number) => column.put(block * BLOCK + lane, number),
                            None => none.push(block * BLOCK + lane),
                        }
                    }
                }
            }
            (InputSource::Held(input), column) => match state.input(*input) {
                Some(Number::Int(value, _)) => column.fill_int(value as i64),
                Some(Number::Real(value, _)) => column.fill_real(value),
                None => {
                    machine.lost.push(index);
                    none.extend(0..lanes);
                }
            },
        }
        for lane in none.drain(..) {
            machine.no_value(&load.users, lane);
        }
    }
}

/// The codes of many frames, out of their words where they are loaded; `none` is added the lanes that have none.
fn cut_out<T: FromCode>(
    cut: Option<Cut>,
    words: &[Vec<u64>],
    gather: &Gather,
    (bytes, length): (&[u8], usize),
    codes: &mut [T],
    none: &mut Vec<usize>,
) {
    match cut.and_then(|cut| Some((cut, cut.place.column(words)?))) {
        Some((cut, words)) => codes.iter_mut().zip(words).for_each(|(code, word)| *code = T::wide(cut.code(*word))),
        None => gather.codes(bytes, length, codes, &mut |lane| none.push(lane)),
    }
}

/// Adds the lanes whose codes are below `low` or above `high`: in most batches none.
fn outside<T: Copy, B: PartialOrd + Copy>(codes: &[T], low: B, high: B, narrow: impl Fn(T) -> B, lanes: &mut Vec<usize>) {
    let outside = |code: &T| (narrow(*code) < low) | (narrow(*code) > high);
    if codes.iter().map(|code| u32::from(outside(code))).sum::<u32>() > 0 {
        lanes.extend(codes.iter().enumerate().filter(|(_, code)| outside(code)).map(|(lane, _)| lane));
    }
}

/// Copies an output as doubles.
fn copy(plan: &Plan, machine: &Machine, output: usize, values: &mut [f64]) {
    let Some((slot, ty)) = plan.program.outputs.get(output) else { return };
    let unsigned = !ty.is_signed();
    match machine.column(*slot) {
        Some(Column::F64(c)) => values.iter_mut().zip(c).for_each(|(value, c)| *value = *c),
        Some(Column::F32(c)) => values.iter_mut().zip(c).for_each(|(value, c)| *value = f64::from(*c)),
        Some(Column::I32(c)) if unsigned => values.iter_mut().zip(c).for_each(|(value, c)| *value = f64::from(*c as u32)),
        Some(Column::I32(c)) => values.iter_mut().zip(c).for_each(|(value, c)| *value = f64::from(*c)),
        Some(Column::I64(c)) if unsigned => values.iter_mut().zip(c).for_each(|(value, c)| *value = *c as u64 as f64),
        Some(Column::I64(c)) => values.iter_mut().zip(c).for_each(|(value, c)| *value = *c as f64),
        None => {}
    }
}

/// Stores 64-bit integers of an output exactly, and whether it is a float.
fn keep_whole(plan: &Plan, machine: &Machine, output: usize, (from, lanes, frames): (usize, usize, usize), whole: &mut Whole) {
    let Some((slot, ty)) = plan.program.outputs.get(output).copied() else { return };
    if ty == Ty::F64 {
        return;
    }
    whole.ty = Some(ty);
    if let Some(Column::I64(column)) = machine.column(slot) {
        whole.values.resize(frames, 0);
        let place = whole.values.get_mut(from..from + lanes).unwrap_or_default();
        place.iter_mut().zip(column).for_each(|(place, value)| *place = *value);
    }
}

/// Finds the statuses, and withholds the values that are none. In most batches most of it finds nothing, and
/// finding that is a plain pass over a column.
#[inline]
fn judge(
    plan: &Plan,
    machine: &Machine,
    reading: &ReadingPlan,
    (values, finite): (&mut [f64], bool),
    applies: &dyn Fn(&PlanCondition) -> bool,
    status: &mut Telling<'_>,
) {
    let mut told = false;
    if let Some(range) = reading.range {
        let within = |value: f64, low: f64, high: f64| (value >= low) & (value <= high);
        match range {
            PlanRange::Numbers(low, high) => {
                let outside: u64 = values.iter().map(|value| u64::from(!within(*value, low, high))).sum();
                if outside > 0 {
                    told = true;
                    for (status, value) in status.open().iter_mut().zip(&*values) {
                        *status = if within(*value, low, high) { *status } else { Status::OutOfRange };
                    }
                }
            }
            // The ends may differ from frame to frame: those that a field of the frame decides.
            PlanRange::Outputs(low, high) => {
                let end = |output, lane| machine.output(&plan.program, output, lane).map_or(f64::NAN, Number::to_f64);
                for (lane, value) in values.iter().enumerate() {
                    if !within(*value, end(low, lane), end(high, lane)) {
                        told = true;
                        status.open().get_mut(lane).into_iter().for_each(|status| *status = Status::OutOfRange);
                    }
                }
            }
        }
    }
    // From the last to the first, as statuses are put together.
    for PlanCondition { output, status: meant, .. } in reading.conditions.iter().rev() {
        let Some((slot, _)) = plan.program.outputs.get(*output) else { continue };
        let faults = machine.faults(*output);
        told |= match machine.column(*slot) {
            Some(Column::I32(c)) => mark(status, c, 0, faults, *meant),
            Some(Column::I64(c)) => mark(status, c, 0, faults, *meant),
            Some(Column::F32(c)) => mark(status, c, 0.0, faults, *meant),
            Some(Column::F64(c)) => mark(status, c, 0.0, faults, *meant),
            None => false,
        };
    }
    // A condition with a fault is a fault of the reading.
    let conditions = reading.conditions.iter().filter(|condition| machine.faults(condition.output).is_some());
    let at_fault = conditions.filter(|condition| applies(condition)).map(|condition| condition.output);
    if !finite {
        told = true;
        for (status, value) in status.open().iter_mut().zip(&*values) {
            *status = if value.is_finite() || !status.has_value() { *status } else { Status::FormulaFault };
        }
    }
    for faults in at_fault.chain([reading.output]).filter_map(|output| machine.faults(output)) {
        told = true;
        for (status, _) in status.open().iter_mut().zip(faults).filter(|(status, fault)| **fault != 0 && status.has_value()) {
            *status = Status::FormulaFault;
        }
    }
    if told {
        for (value, status) in values.iter_mut().zip(status.open()) {
            *value = if status.has_value() { *value } else { f64::NAN };
        }
    }
}

/// Sets the status of lanes whose condition is true; true if there are any.
fn mark<T: PartialEq + Copy>(status: &mut Telling<'_>, holds: &[T], zero: T, faults: Option<&[u32]>, meant: Status) -> bool {
    let holds = holds.get(..status.lanes).unwrap_or(&[]);
    let any = holds.iter().map(|truth| u32::from(*truth != zero)).fold(0, |any, truth| any | truth) != 0;
    if any {
        for (lane, (status, truth)) in status.open().iter_mut().zip(holds).enumerate() {
            let at_fault = faults.and_then(|faults| faults.get(lane)).is_some_and(|fault| *fault != 0);
            *status = if *truth == zero || at_fault { *status } else { with_earlier(*status, meant) };
        }
    }
    any
}

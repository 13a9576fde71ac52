//! One frame at a time, into room that the caller keeps.

use super::columns::no_value;
use crate::bits::word::{Cut, MOST_WORDS, NumberCut, RealCut};
use crate::formula::flat::program::{Num, Slot};
use crate::formula::run::single::Single;
use crate::ground::number::{Number, Ty};
use crate::model::status::Status;
use crate::model::value::Present;
use crate::plan::affine::{Affine, Scale, Source};
use crate::plan::frame::{InputSource, Load, Plan, PlanCondition, PlanRange, ReadingPlan};
use crate::plan::judge::judged;

/// The readings of one frame. Reuse one value for frame after frame: nothing is allocated then.
#[derive(Clone, Debug, Default)]
pub struct FrameValues {
    readings: Vec<(f64, Status)>,
    /// Of derived quantities.
    derived: Vec<(f64, Status)>,
}

impl FrameValues {
    /// Empty ones.
    pub fn new() -> Self {
        Self::default()
    }

    /// Number of readings and derived quantities.
    pub fn len(&self) -> usize {
        self.readings.len() + self.derived.len()
    }

    /// True if empty.
    pub fn is_empty(&self) -> bool {
        self.readings.is_empty()
    }

    /// The value of a reading, by its place among [`Frame::readings`](crate::part::Frame::readings); `None`
    /// where its status has no value. Behind the readings come the [derived quantities](crate::part::Frame::derived).
    #[inline]
    pub fn value(&self, reading: usize) -> Option<f64> {
        self.place(reading).filter(|(_, status)| status.has_value()).map(|(value, _)| *value)
    }

    /// The status of a reading.
    #[inline]
    pub fn status(&self, reading: usize) -> Status {
        self.place(reading).map_or(Status::Absent, |(_, status)| *status)
    }

    #[inline]
    fn place(&self, reading: usize) -> Option<&(f64, Status)> {
        self.readings.get(reading).or_else(|| self.derived.get(reading - self.readings.len()))
    }

    /// The readings alone.
    pub(super) fn measured(&self) -> &[(f64, Status)] {
        &self.readings
    }

    /// Appends derived quantities to the readings.
    pub(super) fn set_derived(&mut self, derived: Vec<(f64, Status)>) {
        self.derived = derived;
    }
}

/// Room to decode one frame after the other in.
#[derive(Clone, Debug)]
pub(crate) struct Room {
    pub(crate) single: Single,
    /// The frame's own codes that the program needs; `None` where one of them has no quick way.
    own: Option<(Vec<Own>, Vec<OwnNumber>)>,
    /// How each reading gets its value where all goes well.
    quick: Vec<Quick>,
    /// Inputs that stay the same and have no value, by their place among the plan's.
    lost: Vec<usize>,
    /// All constant inputs are computed and valid, and no reading is waiting.
    complete: bool,
}

/// A code, the cell that it goes to and which of its bits, and the lowest and highest that has a value.
#[derive(Clone, Copy, Debug)]
struct Own {
    cut: Cut,
    slot: Slot,
    mask: u64,
    low: i64,
    high: i64,
}

impl Own {
    fn new(load: &Load, kind: Option<&Num>) -> Option<Self> {
        let mask = match kind? {
            Num::I32 | Num::U32 => u64::from(u32::MAX),
            Num::I64 | Num::U64 => u64::MAX,
            Num::F32 | Num::F64 => return None,
        };
        let InputSource::Frame(_, range) = &load.from else { return None };
        let (low, high) = match range {
            // Patterns with the highest bit are not in order.
            Some(range) if range.unsigned && (range.low < 0 || range.high < 0) => return None,
            Some(range) => (range.low, range.high),
            None => (i64::MIN, i64::MAX),
        };
        Some(Self { cut: load.cut?, slot: load.slot, mask, low, high })
    }
}

/// A code that is a real number, and the cell that it goes to, of a float or of a double.
#[derive(Clone, Copy, Debug)]
struct OwnNumber {
    cut: NumberCut,
    slot: Slot,
    double: bool,
}

impl OwnNumber {
    fn new(load: &Load, kind: Option<&Num>) -> Option<Self> {
        let double = match kind? {
            Num::F32 => false,
            Num::F64 => true,
            Num::I32 | Num::U32 | Num::I64 | Num::U64 => return None,
        };
        Some(Self { cut: load.number?, slot: load.slot, double })
    }
}

/// Where the value of a reading is.
#[derive(Clone, Copy, Debug)]
enum Quick {
    /// A code times a number plus a number, and nothing to judge.
    MulAdd(RealCut, f64, f64),
    /// A real code times a number plus a number, in single or double precision, checked for NaN.
    NumberMulAdd(NumberCut, f64, f64, bool),
    /// Otherwise: where the program leaves it, and whether there is nothing to judge.
    Other { output: (Slot, Ty), bare: bool },
}

impl Room {
    pub(crate) fn new(plan: &Plan) -> Self {
        let output = |reading: &ReadingPlan| plan.program.outputs.get(reading.output).copied().unwrap_or((0, Ty::F64));
        let quick = |reading: &ReadingPlan| match reading.affine.as_ref().and_then(Affine::mul_add).filter(|_| reading.is_bare()) {
            Some((Source::Code { cut: Some(cut), .. }, m, a, false)) => Quick::MulAdd(cut, m, a),
            Some((Source::Number(Some(cut)), m, a, single)) => Quick::NumberMulAdd(cut, m, a, single),
            _ => Quick::Other { output: output(reading), bare: reading.is_bare() },
        };
        let quick = plan.readings.iter().map(quick).collect();
        let kind = |load: &Load| plan.program.slots.get(load.slot as usize);
        let (mut codes, mut numbers, mut all) = (Vec::new(), Vec::new(), true);
        for load in plan.loads.iter().take(plan.own_loads) {
            match (Own::new(load, kind(load)), OwnNumber::new(load, kind(load))) {
                (Some(code), _) => codes.push(code),
                (None, Some(number)) => numbers.push(number),
                (None, None) => all = false,
            }
        }
        Self { single: Single::new(&plan.program), own: all.then_some((codes, numbers)), quick, lost: Vec::new(), complete: false }
    }

    /// A reading's value in the frame that was decoded last, given as a double, as its formula's type holds it.
    pub(crate) fn number(&self, plan: &Plan, reading: usize, value: f64) -> Option<Number> {
        let planned = plan.readings.get(reading)?;
        match &planned.affine {
            Some(affine) => Some(Number::Real(value, if affine.single { Ty::F32 } else { Ty::F64 })),
            None => self.single.output(&plan.program, planned.output).ok(),
        }
    }

    /// Settings or other frames have changed.
    pub(crate) fn unsettle(&mut self) {
        self.single.settled = false;
        self.complete = false;
    }
}

/// Decodes a whole frame in the usual case: everything but its own codes is known, and nothing is at fault. `false`
/// where it is not so; [`decode`] has to find out then.
#[inline(always)]
pub(crate) fn quick(plan: &Plan, room: &mut Room, bytes: &[u8], row: &mut FrameValues) -> bool {
    let Room { single, own: Some((own, numbers)), quick, complete: true, .. } = room else { return false };
    if !plan.checks.iter().all(|check| check.passes(bytes)) {
        return false;
    }
    let words = plan.words.of(bytes);
    if !own.is_empty() || !numbers.is_empty() {
        single.begin();
        for OwnNumber { cut, slot, double } in numbers.iter() {
            let value = cut.real(&words);
            single.put_bits(*slot, if *double { value.to_bits() } else { u64::from((value as f32).to_bits()) });
        }
        for Own { cut, slot, mask, low, high } in own.iter() {
            let code = cut.code(cut.place.word(&words));
            single.put_bits(*slot, code as u64 & *mask);
            if code < *low || code > *high {
                return false;
            }
        }
        single.run(&plan.program);
    }
    if single.at_fault() || row.readings.len() != quick.len() {
        return false;
    }
    for (index, (place, quick)) in row.readings.iter_mut().zip(quick).enumerate() {
        *place = match quick {
            Quick::MulAdd(cut, m, a) => (cut.code(cut.place.word(&words)) * *m + *a, Status::Ok),
            Quick::NumberMulAdd(cut, m, a, single) => {
                let code = cut.real(&words);
                let value = if *single { Scale::MulAdd(*m, *a).single(code) } else { code * *m + *a };
                if !value.is_finite() {
                    return false;
                }
                (value, Status::Ok)
            }
            Quick::Other { output, bare } => {
                let Some(reading) = plan.readings.get(index) else { return false };
                let value = match &reading.affine {
                    Some(affine) => {
                        let value = affine.value(&words, bytes);
                        if !affine.finite && !value.is_finite() {
                            return false;
                        }
                        value
                    }
                    None => single.sound(*output),
                };
                // Without a fault, all conditions have a value.
                if *bare { (value, Status::Ok) } else { judge(plan, single, reading, Some(value), |_| false) }
            }
        };
    }
    true
}

/// Decodes a frame, of whose bytes `given` count; `Err` is the index of the check that failed.
pub(crate) fn decode(
    plan: &Plan,
    room: &mut Room,
    state: &Present<'_>,
    given: usize,
    bytes: &[u8],
    row: &mut FrameValues,
) -> Result<(), usize> {
    if let Some(failed) = plan.checks.iter().position(|check| !check.passes(bytes)) {
        return Err(failed);
    }
    let words = &plan.words.of(bytes);
    load(plan, room, state, words, (bytes, given));
    room.single.run(&plan.program);
    room.complete = room.lost.is_empty() && plan.readings.iter().all(|reading| no_value(reading, state, usize::MAX).is_none());
    row.readings.resize(plan.readings.len(), (f64::NAN, Status::Absent));
    for (place, reading) in row.readings.iter_mut().zip(&plan.readings) {
        let value = match &reading.affine {
            Some(affine) => Some(affine.value(words, bytes)).filter(|value| value.is_finite()),
            None => room.single.real(&plan.program, reading.output),
        };
        *place = match no_value(reading, state, given) {
            Some(none) => (f64::NAN, none),
            None => judge(plan, &room.single, reading, value, |condition| condition.applies(state.state, plan.frame, given)),
        };
    }
    Ok(())
}

/// Puts the codes of a frame, of which these are the words, into the program's inputs, and where it is not settled yet,
/// what stays the same. Codes after the first `given` bytes are absent.
fn load(plan: &Plan, room: &mut Room, state: &Present<'_>, words: &[u64; MOST_WORDS], (bytes, given): (&[u8], usize)) {
    let Room { single, lost, .. } = room;
    single.begin();
    if !single.settled {
        lost.clear();
    }
    // Settled inputs keep their cells; the frame's own come first.
    let count = if single.settled && lost.is_empty() { plan.own_loads } else { plan.loads.len() };
    for (index, load) in plan.loads.iter().enumerate().take(count) {
        match &load.from {
            own if given < bytes.len() && own.ends_behind(given) => single.no_value(&load.users),
            InputSource::Frame(gather, range) => {
                let code = load.cut.map_or_else(|| gather.code(bytes), |cut| Some(cut.code(cut.place.word(words))));
                single.put_int(&plan.program, load.slot, code.unwrap_or(0));
                if code.is_none_or(|code| range.is_some_and(|range| !range.contains(code))) {
                    single.no_value(&load.users);
                }
            }
            InputSource::FrameReal(gather) => single.put_real(&plan.program, load.slot, gather.real(bytes).unwrap_or(f64::NAN)),
            InputSource::FrameRow(gather, rows) => match gather.code(bytes).and_then(|code| rows.number(code)) {
                Some(number) => single.put_real(&plan.program, load.slot, number),
                None => single.no_value(&load.users),
            },
            InputSource::Held(_) if single.settled && !lost.contains(&index) => {}
            InputSource::Held(input) => match state.input(*input) {
                Some(Number::Int(value, _)) => single.put_int(&plan.program, load.slot, value as i64),
                Some(Number::Real(value, _)) => single.put_real(&plan.program, load.slot, value),
                None => {
                    single.no_value(&load.users);
                    if !single.settled {
                        lost.push(index);
                    }
                }
            },
        }
    }
}

/// Puts a frame's codes, and all that stays the same, into the program's inputs, and runs it.
pub(crate) fn run(plan: &Plan, room: &mut Room, state: &Present<'_>, bytes: &[u8]) {
    load(plan, room, state, &plan.words.of(bytes), (bytes, bytes.len()));
    room.single.run(&plan.program);
}

/// Status of a complete reading with this value or a fault. A condition that applies but has a fault is a fault of the reading.
fn judge(
    plan: &Plan,
    single: &Single,
    reading: &ReadingPlan,
    value: Option<f64>,
    applies: impl Fn(&PlanCondition) -> bool,
) -> (f64, Status) {
    let (status, _) = judged(holding(plan, single, reading), value.is_some_and(|value| outside(plan, single, reading, value)));
    let at_fault = |condition: &PlanCondition| single.real(&plan.program, condition.output).is_none() && applies(condition);
    match value.filter(|_| !single.at_fault() || !reading.conditions.iter().any(at_fault)) {
        Some(value) => (value, status),
        None => (f64::NAN, if status.has_value() { Status::FormulaFault } else { status }),
    }
}

/// The conditions of a reading that hold, by their places.
fn holding<'p>(plan: &'p Plan, single: &'p Single, reading: &'p ReadingPlan) -> impl DoubleEndedIterator<Item = (usize, Status)> + 'p {
    let holds = |output: usize| single.real(&plan.program, output).is_some_and(|truth| truth != 0.0);
    let all = reading.conditions.iter().enumerate();
    all.filter(move |(_, condition)| holds(condition.output)).map(|(at, condition)| (at, condition.status))
}

/// The place of the condition that a reading has its status from; `None` if no condition gives it.
pub(crate) fn cause(plan: &Plan, room: &Room, reading: &ReadingPlan) -> Option<usize> {
    judged(holding(plan, &room.single, reading), false).1
}

/// Whether a value is outside the stated range.
fn outside(plan: &Plan, single: &Single, reading: &ReadingPlan, value: f64) -> bool {
    let (low, high) = match reading.range {
        None => return false,
        Some(PlanRange::Numbers(low, high)) => (low, high),
        Some(PlanRange::Outputs(low, high)) => {
            let end = |output| single.real(&plan.program, output).unwrap_or(f64::NAN);
            (end(low), end(high))
        }
    };
    !(value >= low && value <= high)
}

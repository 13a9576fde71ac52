//! One frame at a time, into room that the caller keeps.

use super::columns::{State, held};
use super::plan::{From, Plan, ReadingPlan};
use crate::formula::single::Single;
use crate::formula::types::Number;
use crate::model::status::Status;

/// The readings of one frame. Reuse one value for frame after frame: nothing is allocated then.
#[derive(Clone, Debug, Default)]
pub struct Row {
    readings: Vec<(f64, Status)>,
}

impl Row {
    /// An empty row.
    pub fn new() -> Self {
        Self::default()
    }

    /// Number of readings.
    pub fn len(&self) -> usize {
        self.readings.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.readings.is_empty()
    }

    /// The value of a reading, by its place among [`Frame::readings`](crate::model::part::Frame::readings); `None`
    /// where its status has no value.
    #[inline]
    pub fn value(&self, reading: usize) -> Option<f64> {
        self.readings.get(reading).filter(|(_, status)| status.has_value()).map(|(value, _)| *value)
    }

    /// The status of a reading.
    #[inline]
    pub fn status(&self, reading: usize) -> Status {
        self.readings.get(reading).map_or(Status::Absent, |(_, status)| *status)
    }
}

/// Decodes a frame, of whose bytes `given` count; `Err` is the index of the check that failed.
#[inline]
pub(crate) fn decode(plan: &Plan, single: &mut Single, state: &State<'_>, given: usize, bytes: &[u8], row: &mut Row) -> Result<(), usize> {
    for (index, check) in plan.checks.iter().enumerate() {
        if !check.passes(bytes) {
            return Err(index);
        }
    }
    if !plan.loads.is_empty() || !plan.program.ops.is_empty() {
        load(plan, single, state, bytes);
        single.run(&plan.program);
    }
    if row.readings.len() != plan.readings.len() {
        row.readings.resize(plan.readings.len(), (f64::NAN, Status::Absent));
    }
    for (place, reading) in row.readings.iter_mut().zip(&plan.readings) {
        *place = match &reading.affine {
            Some(affine) if reading.bare && given == bytes.len() => (affine.value(bytes), Status::Ok),
            _ => judge(plan, single, state, reading, given, bytes),
        };
    }
    Ok(())
}

/// Puts the codes of a frame into the program's inputs, and where it is not settled yet, what stays the same.
pub(crate) fn load(plan: &Plan, single: &mut Single, state: &State<'_>, bytes: &[u8]) {
    single.begin();
    if !single.settled {
        single.lost.clear();
    }
    // Settled inputs stand where they are; the frame's own come first.
    let settled = single.settled && single.lost.is_empty();
    let count = if settled { plan.own_loads } else { plan.loads.len() };
    for (index, load) in plan.loads.iter().enumerate().take(count) {
        match &load.from {
            From::Frame(gather, range) => match load.cut.map_or_else(|| gather.code(bytes), |cut| Some(cut.code(bytes))) {
                Some(code) => {
                    single.put_int(&plan.program, load.slot, code);
                    if range.is_some_and(|(low, high)| !(low..=high).contains(&code)) {
                        single.no_value(&load.users);
                    }
                }
                None => {
                    single.put_int(&plan.program, load.slot, 0);
                    single.no_value(&load.users);
                }
            },
            From::FrameReal(gather) => single.put_real(&plan.program, load.slot, gather.real(bytes).unwrap_or(f64::NAN)),
            From::FrameRow(gather, rows) => {
                let code = gather.code(bytes);
                match rows.iter().find(|(known, _)| Some(*known) == code) {
                    Some((_, number)) => single.put_real(&plan.program, load.slot, *number),
                    None => single.no_value(&load.users),
                }
            }
            _ if single.settled && !single.lost.contains(&index) => {}
            from => match held(from, state) {
                Some(Number::Int(value, _)) => single.put_int(&plan.program, load.slot, value as i64),
                Some(Number::Real(value, _)) => single.put_real(&plan.program, load.slot, value),
                None => {
                    single.no_value(&load.users);
                    if !single.settled {
                        single.lost.push(index);
                    }
                }
            },
        }
    }
}

fn judge(plan: &Plan, single: &Single, state: &State<'_>, reading: &ReadingPlan, given: usize, bytes: &[u8]) -> (f64, Status) {
    if let Some(none) = reading.none(state, given) {
        return (f64::NAN, none);
    }
    let value = match &reading.affine {
        Some(affine) => Some(affine.value(bytes)),
        None => single.real(&plan.program, reading.output),
    };
    let holds = |condition: &&(usize, Status)| single.real(&plan.program, condition.0).is_some_and(|truth| truth != 0.0);
    let status = match (reading.conditions.iter().find(holds), reading.range, value) {
        (Some((_, status)), _, _) => *status,
        (None, Some((low, high)), Some(value)) if !(value >= low && value <= high) => Status::OutOfRange,
        _ => Status::Ok,
    };
    match value {
        Some(value) => (value, status),
        None => (f64::NAN, if status.has_value() { Status::FormulaFault } else { status }),
    }
}

//! Derived quantities, from one frame to the next.
//!
//! A step is taken with every frame that brings a reading behind a quantity. What goes on over time keeps a memory of the frame before: the values
//! it takes from there, and its own. It begins anew after a gap, and after a clock that went back; its own value is kept over both. A frame whose
//! readings are none, or bounds, is as if it had not come, and one of the same instant takes the place of the one before.

use super::decoded::FormulaFault;
use super::steps::{ReadingSteps, formula_lines};
use crate::formula::run::columns::FaultAt;
use crate::ground::list::List;
use crate::ground::number::{Number, Ty};
use crate::ground::words::time_text;
use crate::model::frame::Frame;
use crate::model::ids::{CodeId, FieldId, ParameterId, ReadingId};
use crate::model::input::Input;
use crate::model::part::{Part, Sheet};
use crate::model::reading::{Derived, End, Reading};
use crate::model::state::State;
use crate::model::status::Status;
use crate::model::value::{Eval, Leaves};

/// Result of a step for one quantity.
#[derive(Clone, Debug)]
pub(crate) struct Given {
    /// NaN if missing.
    pub(crate) value: f64,
    pub(crate) status: Status,
    /// Why it is not ok.
    pub(crate) why: Option<String>,
    pub(crate) fault: Option<FormulaFault>,
}

impl Given {
    fn none(status: Status, why: String) -> Self {
        Self { value: f64::NAN, status, why: Some(why), fault: None }
    }
}

/// All derived quantities of a part, with their previous values.
#[derive(Clone, Debug)]
pub(crate) struct Derivation {
    quantities: Vec<Quantity>,
    /// How readings and derived quantities came last.
    came: List<ReadingId, Option<(f64, Status)>>,
}

#[derive(Clone, Debug)]
struct Quantity {
    id: ReadingId,
    how: Derived,
    eval: Eval,
    /// The formula was computed with the last frame.
    computed: bool,
    start: Option<Start>,
    memory: Option<Memory>,
    /// The frame before it, for frames of the same instant.
    earlier: Option<Memory>,
    /// The time of the last frame, of whatever use it was.
    instant: Option<f64>,
}

#[derive(Clone, Debug)]
enum Start {
    Number(f64),
    Formula(Box<Eval>),
}

/// Stored values of a frame.
#[derive(Clone, Debug)]
struct Memory {
    time: f64,
    /// What formulas take from the frame before, in the order of [`Derived::before`]; `None` where that was no value.
    before: Vec<Option<f64>>,
    own: Option<f64>,
}

impl Derivation {
    /// `None` where the part derives nothing.
    pub(crate) fn new(part: &Part) -> Option<Self> {
        let quantity = |id: ReadingId| {
            let reading = part.readings.get(id)?;
            let how = reading.derived()?.clone();
            let start = how.start.as_ref().map(|start| match start {
                End::Number(number) => Start::Number(*number),
                End::Formula(formula) => Start::Formula(Box::new(Eval::over_readings(part, formula))),
            });
            Some(Quantity {
                id,
                how,
                eval: Eval::over_readings(part, &reading.formula),
                computed: false,
                start,
                memory: None,
                earlier: None,
                instant: None,
            })
        };
        let quantities: Vec<Quantity> = part.readings.ids().filter_map(quantity).collect();
        (!quantities.is_empty()).then(|| Self { quantities, came: List::filled(part.readings.len(), |_| None) })
    }

    /// The steps of those quantities of a frame whose formulas were computed with the last one.
    pub(crate) fn steps(&self, part: &Sheet, frame: &Frame) -> Vec<ReadingSteps> {
        let own = self.quantities.iter().filter(|quantity| quantity.computed && frame.derived.contains(&quantity.id));
        own.filter_map(|quantity| {
            let (program, machine, output) = quantity.eval.as_run();
            Some(formula_lines(part, &part.readings.get(quantity.id)?.name, program, machine, output))
        })
        .collect()
    }

    /// Forgets all frames.
    pub(crate) fn clear(&mut self) {
        self.came.iter_mut().for_each(|came| *came = None);
        self.quantities.iter_mut().for_each(|quantity| (quantity.memory, quantity.earlier, quantity.instant) = (None, None, None));
    }

    /// Processes a frame with the values (NaN if missing) and statuses of its readings. Returns its derived quantities, in order.
    pub(crate) fn step(
        &mut self,
        part: &Sheet,
        state: &State,
        frame: &Frame,
        measured: &dyn Fn(usize) -> (f64, Status),
        time: Option<f64>,
        take: &mut dyn FnMut(Given),
    ) {
        for (at, id) in frame.readings.iter().enumerate() {
            self.came.get_mut(*id).into_iter().for_each(|came| *came = Some(measured(at)));
        }
        let own = |quantity: &&mut Quantity| frame.derived.contains(&quantity.id);
        for quantity in self.quantities.iter_mut().filter(own) {
            let given = quantity.give(part, state, &self.came, time);
            self.came.get_mut(quantity.id).into_iter().for_each(|came| *came = Some((given.value, given.status)));
            take(given);
        }
        let Some(time) = time else { return };
        for quantity in self.quantities.iter_mut().filter(own).filter(|quantity| quantity.how.timed) {
            quantity.remember(part, &self.came, time);
            quantity.instant = Some(time);
        }
    }
}

type Came = List<ReadingId, Option<(f64, Status)>>;

/// True for measured values that are no bounds.
fn is_sound((value, status): (f64, Status)) -> bool {
    !value.is_nan() && status < Status::Saturated
}

impl Quantity {
    /// Previous frame for a time.
    fn base(&self, time: f64) -> Option<&Memory> {
        if self.is_same_instant(time) { self.earlier.as_ref() } else { self.memory.as_ref() }
    }

    /// True if the stored frame has this time.
    fn is_same_instant(&self, time: f64) -> bool {
        self.instant == Some(time) && self.memory.as_ref().is_some_and(|memory| memory.time == time)
    }

    fn give(&mut self, part: &Sheet, state: &State, came: &Came, time: Option<f64>) -> Given {
        let name = |id: ReadingId| part.readings[id].name.as_str();
        self.computed = false;
        let mut worst = Status::Ok;
        for id in &self.how.uses {
            match came.get(*id).copied().flatten() {
                None => return Given::none(Status::Waiting, format!("needs {} first", name(*id))),
                Some((value, status)) if value.is_nan() || !status.has_value() => {
                    return Given::none(status, format!("{} is {}", name(*id), status.as_str()));
                }
                Some((_, status)) => worst = worst.max(status),
            }
        }
        let why = |worst: Status| {
            let of = self.how.uses.iter().find(|id| came.get(**id).copied().flatten().is_some_and(|(_, status)| status == worst));
            of.filter(|_| worst != Status::Ok).map(|id| format!("{} is {}", name(*id), worst.as_str()))
        };
        let mut taken = Taken { part, state, came, before: (&self.how.before, &[]), elapsed: f64::NAN };
        if !self.how.timed {
            self.computed = true;
            let value = self.eval.outcome(&taken);
            return given(part, value, worst, why(worst));
        }
        let Some(time) = time else {
            return Given::none(Status::Waiting, "the frames have no times".into());
        };
        let base = self.base(time).cloned();
        let own = base.as_ref().and_then(|base| base.own);
        if worst == Status::Saturated {
            let why = why(worst).unwrap_or_default();
            return match own {
                Some(value) => Given { value, status: worst, why: Some(format!("{why}: nothing is added")), fault: None },
                None => Given::none(Status::Invalid, why),
            };
        }
        let missing = |base: &Memory| {
            let list = self.how.before.iter().zip(&base.before);
            list.filter(|(id, value)| value.is_none() && **id != self.id).map(|(id, _)| name(*id)).next()
        };
        let gap = self.how.gap.map_or(f64::INFINITY, |micros| micros as f64 / 1e6);
        let interrupted = match &base {
            None => Some("there is no frame before".to_owned()),
            Some(base) if time <= base.time => Some("the clock went back".to_owned()),
            Some(base) if time - base.time > gap => {
                Some(format!("the frame before is more than {} old", time_text(self.how.gap.unwrap_or(0))))
            }
            Some(base) => missing(base).map(|name| format!("{name} had no value at the frame before")),
        };
        match (interrupted, &mut self.start, own, &base) {
            (None, _, _, Some(base)) => {
                let before: Vec<Option<f64>> =
                    self.how.before.iter().zip(&base.before).map(|(id, value)| if *id == self.id { own } else { *value }).collect();
                taken.before.1 = &before;
                taken.elapsed = time - base.time;
                self.computed = true;
                let value = self.eval.outcome(&taken);
                given(part, value, worst, why(worst))
            }
            // It keeps its value.
            (_, Some(_), Some(value), _) => Given { value, status: worst, why: why(worst), fault: None },
            (_, Some(Start::Number(value)), None, _) => Given { value: *value, status: worst, why: why(worst), fault: None },
            (_, Some(Start::Formula(eval)), None, _) => given(part, eval.outcome(&taken), worst, why(worst)),
            (interrupted, None, ..) => Given::none(Status::Waiting, interrupted.unwrap_or_default()),
        }
    }

    /// Stores the values for the next frame, unless this frame is skipped.
    fn remember(&mut self, part: &Sheet, came: &Came, time: f64) {
        let sound = |id: &ReadingId| came.get(*id).copied().flatten().filter(|now| is_sound(*now)).map(|(value, _)| value);
        let is_measured = |id: &&ReadingId| part.readings.get(**id).is_some_and(Reading::is_measured);
        let own = sound(&self.id).filter(|_| self.start.is_some());
        let needed = self.how.uses.iter().chain(self.how.before.iter().filter(is_measured));
        if needed.copied().any(|id| sound(&id).is_none()) || self.start.is_some() && own.is_none() {
            return;
        }
        let before = self.how.before.iter().map(sound).collect();
        let again = self.is_same_instant(time);
        let last = self.memory.replace(Memory { time, before, own });
        if !again {
            self.earlier = last;
        }
    }
}

fn given(part: &Sheet, value: Result<f64, FaultAt>, status: Status, why: Option<String>) -> Given {
    match value {
        Ok(value) => Given { value, status, why, fault: None },
        Err((kind, span)) => {
            let fault = FormulaFault { kind, line: span.map(|span| part.source.line_column(span.start).0), operation: None };
            Given { value: f64::NAN, status: Status::FormulaFault, why: Some(fault.to_string()), fault: Some(fault) }
        }
    }
}

/// What formulas of derived quantities take.
struct Taken<'a> {
    part: &'a Sheet,
    state: &'a State,
    came: &'a Came,
    before: (&'a [ReadingId], &'a [Option<f64>]),
    elapsed: f64,
}

impl Leaves for Taken<'_> {
    fn part(&self) -> &Sheet {
        self.part
    }

    fn field(&self, _: FieldId) -> Option<i128> {
        None
    }

    fn code(&self, _: CodeId) -> Option<Number> {
        None
    }

    fn parameter(&self, parameter: ParameterId) -> Option<f64> {
        self.state.parameter(parameter)
    }

    fn over_time(&self, input: Input) -> Option<Number> {
        let typed = |id: ReadingId, value: f64| match self.part.readings.get(id)?.ty_in_derived() {
            ty if ty.is_real() => Some(Number::Real(value, ty)),
            ty => Some(Number::Int(value as i128, ty)),
        };
        match input {
            Input::Came(id) => typed(id, self.came.get(id).copied().flatten()?.0),
            Input::Before(id) => {
                let at = self.before.0.iter().position(|known| *known == id)?;
                typed(id, self.before.1.get(at).copied().flatten()?)
            }
            Input::Elapsed => Some(Number::Real(self.elapsed, Ty::F64)),
            _ => None,
        }
    }
}

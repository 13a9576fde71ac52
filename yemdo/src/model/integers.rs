//! The same part without real numbers: readings are integers that count steps of a fixed size.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::ids::{CodeId, ColumnId, FieldId, ReadingId, RoutineId};
use super::input::{Input, inputs};
use super::operation::{Action, Time};
use super::part::{Part, Sheet};
use super::reading::End;
use crate::bits::form::Form;
use crate::formula::curve::{Curve, Outside};
use crate::formula::facts::Facts;
use crate::formula::fixed::{Fixed, Goal, Leaf, Leaves, NotFixed, fixed};
use crate::formula::flat::interval::Interval;
use crate::formula::input::{CurveId, InputKey};
use crate::formula::typed::Formula;
use crate::ground::diagnostic::Diagnostic;
use crate::ground::number::Ty;

/// Selected readings with their steps.
pub(crate) struct Wanted<'a> {
    /// The readings; others stay as they are, and are not to be used.
    pub(crate) readings: BTreeSet<ReadingId>,
    pub(crate) routines: BTreeSet<RoutineId>,
    /// The step of a reading, in its unit.
    pub(crate) step: &'a dyn Fn(ReadingId) -> f64,
    /// The step of quantities.
    pub(crate) usual_step: f64,
    /// Bounds of inputs of formulas, as they are in the part.
    pub(crate) bounds: &'a dyn Fn(&Sheet, InputKey) -> Interval,
}

/// A part without real numbers, and by how much each reading may be off, in its unit.
pub(crate) struct Integers {
    pub(crate) part: Part,
    pub(crate) errors: BTreeMap<ReadingId, f64>,
}

/// Derives a part.
///
/// # Errors
/// All unsupported operations.
pub(crate) fn integers(part: &Part, wanted: &Wanted<'_>) -> Result<Integers, Vec<Diagnostic>> {
    let mut work = Work {
        from: part,
        to: (**part).clone(),
        wanted,
        codes: BTreeMap::new(),
        columns: BTreeMap::new(),
        readings: BTreeMap::new(),
        quantities: false,
        problems: Vec::new(),
        errors: BTreeMap::new(),
    };
    work.to.integers = true;
    work.to.leave_out_derived();
    work.codes();
    work.columns();
    work.all_readings();
    work.others();
    if work.problems.is_empty() {
        Ok(Integers { part: Part::from_sheet(Arc::new(work.to)), errors: work.errors })
    } else {
        Err(work.problems)
    }
}

struct Work<'a> {
    from: &'a Part,
    to: Sheet,
    wanted: &'a Wanted<'a>,
    codes: BTreeMap<CodeId, f64>,
    columns: BTreeMap<(FieldId, ColumnId), f64>,
    readings: BTreeMap<ReadingId, Leaf>,
    quantities: bool,
    problems: Vec<Diagnostic>,
    errors: BTreeMap<ReadingId, f64>,
}

impl Leaves for Work<'_> {
    fn leaf(&mut self, key: InputKey) -> Result<Option<Leaf>, String> {
        Ok(match Input::of(key) {
            Input::Code(id) => {
                let Some(code) = self.from.codes.get(id) else { return Ok(None) };
                match self.codes.get(&id) {
                    Some(unit) => {
                        let (low, high) = code.bounds();
                        Some(Leaf { ty: Ty::holding(low, high), low, high, unit: *unit, error: 0.0 })
                    }
                    None if code.ty.is_real() => return Err("the code is a floating-point number".into()),
                    None => None,
                }
            }
            Input::Column(field, column) => match self.columns.get(&(field, column)) {
                Some(unit) => {
                    let numbers = || {
                        self.to
                            .fields
                            .get(field)
                            .into_iter()
                            .flat_map(|field| &field.values)
                            .filter_map(|row| row.columns.get(column).copied().flatten())
                    };
                    let (low, high) = (numbers().fold(f64::INFINITY, f64::min), numbers().fold(f64::NEG_INFINITY, f64::max));
                    let ty = Ty::holding(low.min(0.0) as i128, high.max(0.0) as i128);
                    Some(Leaf { ty, low: low as i128, high: high as i128, unit: *unit, error: 0.0 })
                }
                None if self.from.fields.get(field).and_then(|field| field.columns.get(column)).is_some_and(|column| column.whole) => None,
                None => return Err("its numbers have no common unit".into()),
            },
            Input::Reading(id) => self.readings.get(&id).copied(),
            Input::Parameter(id) => {
                let name = self.from.parameters[id].name.as_str();
                return Err(format!("the parameter {name} is a real number"));
            }
            Input::Field(id) if self.from.fields.get(id).is_some_and(super::registers::Field::is_real) => {
                return Err("the field is a real number".into());
            }
            Input::Field(_) => None,
            Input::Quantity(_) if self.quantities => Some(Leaf {
                ty: Ty::I32,
                low: i128::from(i32::MIN),
                high: i128::from(i32::MAX),
                unit: self.wanted.usual_step,
                error: self.wanted.usual_step,
            }),
            Input::Quantity(_) => return Err("a quantity is a real number".into()),
            Input::Came(_) | Input::Before(_) | Input::Elapsed => return Err("derived quantities are real numbers".into()),
        })
    }

    fn curve(&mut self, curve: CurveId, x_unit: f64, x: (i128, i128)) -> Result<(CurveId, f64, f64, (f64, f64)), String> {
        let Some(known) = self.from.curves.get(curve.0 as usize) else { return Err("unknown".into()) };
        let (points, outside) = known.parts();
        let ends = [x.0 as f64 * x_unit, x.1 as f64 * x_unit];
        let (low, high) = (ends[0].min(ends[1]), ends[0].max(ends[1]));
        let (least, most, _) = known.over(low, high);
        let largest = points.iter().fold(0.0f64, |most, (_, y)| most.max(y.abs()));
        let largest = if outside == Outside::Extend { largest.max(least.abs()).max(most.abs()) } else { largest };
        let y_unit = 2f64.powi(largest.max(1e-9).log2().ceil() as i32 - 28);
        let mut whole = Vec::new();
        let mut steepest: f64 = 0.0;
        for pair in points.windows(2) {
            if let [(x0, y0), (x1, y1)] = pair {
                steepest = steepest.max(((y1 - y0) / (x1 - x0)).abs());
            }
        }
        for (x, y) in points {
            let at = x / x_unit;
            if (at - at.round()).abs() > 1e-6 || at.abs() > 2e9 {
                return Err("a point of the curve is no whole number of its argument's steps".into());
            }
            whole.push((at.round(), (y / y_unit).round()));
        }
        // An argument that falls as its integer rises goes through the points the other way.
        if x_unit < 0.0 {
            whole.reverse();
        }
        let index = u32::try_from(self.to.curves.len()).unwrap_or(u32::MAX);
        let name = self.from.curve_names.get(curve.0 as usize).cloned().ok_or("unknown")?;
        let known = self.to.curves.iter().position(|other| other.parts() == (whole.as_slice(), outside));
        let id = match known {
            Some(known) => CurveId(known as u32),
            None => {
                self.to.curves.push(Arc::new(Curve::new(whole, outside)));
                self.to.curve_names.push(name);
                CurveId(index)
            }
        };
        // Both ends are rounded, and the quotient is cut; beyond the points that grows with the distance.
        let beyond = |end: f64, pair: Option<&[(f64, f64)]>| match pair {
            Some([(x0, _), (x1, _)]) if outside == Outside::Extend => 2.0 * end.max(0.0) / (x1 - x0),
            _ => 0.0,
        };
        let (first, last) = (points.windows(2).next(), points.windows(2).next_back());
        let before = points.first().map_or(0.0, |(x, _)| x - low);
        let behind = points.last().map_or(0.0, |(x, _)| high - x);
        let grown = 1.0 + beyond(before, first).max(beyond(behind, last));
        Ok((id, y_unit, 1.5 * y_unit * grown, (steepest, largest)))
    }
}

impl Work<'_> {
    fn codes(&mut self) {
        for id in self.from.codes.ids().collect::<Vec<_>>() {
            let Some(code) = self.to.codes.get_mut(id) else { continue };
            let (form, unit) = match code.layout.form {
                Form::Fixed(_, fraction) => (Form::Signed, fraction),
                Form::UnsignedFixed(_, fraction) => (Form::Unsigned, fraction),
                _ => continue,
            };
            code.layout.form = form;
            code.gather = crate::bits::gather::Gather::new(&code.layout);
            code.ty = form.ty(code.layout.width());
            self.codes.insert(id, 2f64.powi(-i32::from(unit)));
        }
    }

    fn columns(&mut self) {
        for (id, field) in self.from.fields.entries() {
            for (column, _) in field.columns.entries().filter(|(_, column)| !column.whole) {
                let numbers: Vec<f64> = field.values.iter().filter_map(|row| row.columns.get(column).copied().flatten()).collect();
                let whole = |scale: &f64| {
                    numbers.iter().all(|number| {
                        let scaled = number * scale;
                        (scaled - scaled.round()).abs() <= scaled.abs() * 1e-12 && scaled.abs() < 1e9
                    })
                };
                let Some(scale) = (0..10).map(|digits| 10f64.powi(digits)).find(whole) else { continue };
                let Some(field) = self.to.fields.get_mut(id) else { continue };
                for row in &mut field.values {
                    row.columns.get_mut(column).into_iter().flatten().for_each(|number| *number = (*number * scale).round());
                }
                field.columns.get_mut(column).into_iter().for_each(|column| column.whole = true);
                self.columns.insert((id, column), 1.0 / scale);
                self.to.column_units.insert((id, column), 1.0 / scale);
            }
        }
    }

    fn facts(&self, formula: &Formula) -> Facts {
        let part = self.from;
        let needed: BTreeSet<ReadingId> = inputs(formula)
            .filter_map(|input| if let Input::Reading(id) = input { Some(id) } else { None })
            .flat_map(|id| part.needed(id))
            .collect();
        let mut formulas: Vec<(InputKey, &Formula)> = Vec::new();
        for id in part.order.iter().filter(|id| needed.contains(id)) {
            formulas.extend(part.readings.get(*id).map(|reading| (Input::Reading(*id).key(), &reading.formula)));
        }
        formulas.push((InputKey(u64::MAX), formula));
        let bounds = self.wanted.bounds;
        Facts::of_all(&formulas, &part.curves, &|key| bounds(part, key)).pop().unwrap_or_else(Facts::unknown)
    }

    fn derive(&mut self, formula: &Formula, goal: Goal, what: &str) -> Option<Fixed> {
        let facts = self.facts(formula);
        match fixed(formula, &facts, self, goal) {
            Ok(fixed) => Some(fixed),
            Err(NotFixed { span, why }) => {
                let message = format!("{what} cannot be computed in integers");
                let help = "take only other readings, or compute in real numbers";
                self.problems.push(Diagnostic::error("real-number", span, message).label(why).help(help));
                None
            }
        }
    }

    fn all_readings(&mut self) {
        let part = self.from;
        let needed: BTreeSet<ReadingId> = self.wanted.readings.iter().flat_map(|id| part.needed(*id)).collect();
        for id in part.order.iter().copied().filter(|id| needed.contains(id)) {
            let Some(reading) = part.readings.get(id) else { continue };
            let step = (self.wanted.step)(id);
            let goal = if reading.is_measured() {
                Goal::Steps(step)
            } else if reading.formula.ty.is_real() {
                Goal::Any
            } else {
                Goal::Same
            };
            let what = format!("{} {}", if reading.is_measured() { "reading" } else { "shared value" }, reading.name);
            let (low, high) = self.facts(&reading.formula).result.to_f64();
            let Some(fixed) = self.derive(&reading.formula, goal, &what) else { continue };
            if goal != Goal::Same {
                let (low, high) = ((low - fixed.error) / fixed.unit, (high + fixed.error) / fixed.unit);
                let leaf = Leaf {
                    ty: fixed.formula.ty,
                    low: low.floor() as i128,
                    high: high.ceil() as i128,
                    unit: fixed.unit,
                    error: fixed.error,
                };
                self.readings.insert(id, leaf);
            }
            if reading.is_measured() {
                self.errors.insert(id, fixed.error);
            }
            if let Some(own) = self.to.readings.get_mut(id) {
                own.formula = fixed.formula;
            }
            let conditions: Vec<Formula> = reading.status.iter().map(|condition| condition.formula.clone()).collect();
            for (index, condition) in conditions.iter().enumerate() {
                if let Some(fixed) = self.derive(condition, Goal::Same, &format!("a condition of {}", reading.name))
                    && let Some(own) = self.to.readings.get_mut(id).and_then(|own| own.status.get_mut(index))
                {
                    own.formula = fixed.formula;
                }
            }
            let ends: Vec<End> = reading.range.iter().flat_map(|range| [range.low.clone(), range.high.clone()]).collect();
            let mut now = Vec::new();
            for end in ends {
                now.push(match end {
                    End::Number(number) => {
                        let scaled = number / step;
                        End::Number(if (scaled - scaled.round()).abs() < 1e-6 { scaled.round() } else { scaled })
                    }
                    End::Formula(formula) => match self.derive(&formula, Goal::Steps(step), &format!("the range of {}", reading.name)) {
                        Some(fixed) => End::Formula(fixed.formula),
                        None => continue,
                    },
                });
            }
            if let (Some(own), [low, high]) = (self.to.readings.get_mut(id).and_then(|own| own.range.as_mut()), now.as_slice()) {
                (own.low, own.high) = (low.clone(), high.clone());
            }
        }
    }

    /// Conditions of frames, quantities, and what routines compute.
    fn others(&mut self) {
        let part = self.from;
        for (id, frame) in part.frames.entries() {
            for (index, condition) in frame.status.iter().enumerate() {
                if let Some(fixed) = self.derive(&condition.formula, Goal::Same, &format!("a condition of {}", frame.name))
                    && let Some(own) = self.to.frames.get_mut(id).and_then(|own| own.status.get_mut(index))
                {
                    own.formula = fixed.formula;
                }
            }
        }
        self.quantities = true;
        for (id, quantity) in part.quantities.entries() {
            let goal = if quantity.through.is_some() { Goal::Same } else { Goal::Steps(self.wanted.usual_step) };
            // One that cannot be derived is left out of the output.
            let before = self.problems.len();
            let derived = self.derive(&quantity.formula, goal, &quantity.name);
            self.problems.truncate(before);
            match derived {
                Some(fixed) => self.to.quantities.get_mut(id).into_iter().for_each(|own| own.formula = fixed.formula.clone()),
                None => {
                    self.to.no_integers.insert(id);
                }
            }
        }
        self.quantities = false;
        for id in self.wanted.routines.clone() {
            let Some(routine) = part.routines.get(id) else { continue };
            let what = format!("routine {}", routine.name);
            for index in 0..routine.steps.len() {
                let Some(mut step) = routine.steps.get(index).cloned() else { continue };
                let mut same = |formula: &mut Formula| {
                    if let Some(fixed) = self.derive(&formula.clone(), Goal::Same, &what) {
                        *formula = fixed.formula;
                    }
                };
                step.when.iter_mut().for_each(&mut same);
                match &mut step.action {
                    Action::Poll { condition, .. } | Action::Expect(condition) => same(condition),
                    Action::Write(command) => command.formulas_mut().for_each(&mut same),
                    _ => {}
                }
                // Times become whole microseconds.
                let mut time = |time: &mut Time| {
                    if let Time::Formula(formula) = time
                        && let Some(fixed) = self.derive(&formula.clone(), Goal::Steps(0.001), &what)
                    {
                        *formula = fixed.formula;
                    }
                };
                time(&mut step.every);
                match &mut step.action {
                    Action::Wait { time: wait, .. } => time(wait),
                    Action::Poll { within, .. } | Action::Line { within, .. } => time(within),
                    _ => {}
                }
                if let Some(own) = self.to.routines.get_mut(id).and_then(|own| own.steps.get_mut(index)) {
                    *own = step;
                }
            }
        }
    }
}

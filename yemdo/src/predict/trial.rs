//! A reading's program, tried out for codes that nobody sent.

use crate::bits::form::Form;
use crate::formula::flat::lower::Lowerer;
use crate::formula::flat::program::{Constant, Opcode, Program, Slot, Use};
use crate::formula::run::columns::{FaultAt, LANES, Machine};
use crate::ground::number::{Number, Ty};
use crate::model::frame::Code;
use crate::model::ids::{CodeId, FieldId, ParameterId, ReadingId};
use crate::model::input::{Input, inputs};
use crate::model::part::Sheet;
use crate::model::reading::{Condition, Reading};
use crate::model::state::State;
use crate::model::value::{Leaves, Present};

/// Readings that are tried out, each with those that it uses, all of them together: trying long chains one by one would
/// take as long as they are long, squared.
const MOST_TRIED: usize = 1 << 16;

/// A reading's program, and what it needs to be tried out.
pub(super) struct Trial<'a> {
    pub(super) part: &'a Sheet,
    pub(super) reading: &'a Reading,
    pub(super) program: Program,
    machine: Machine,
    pub(super) output: usize,
    /// Outputs of the conditions that withhold a value.
    withheld: Vec<usize>,
    /// Inputs from outside, with the outputs that use them.
    inputs: Vec<(Slot, Input, Vec<Use>)>,
    pub(super) settings: State,
}

/// What decides all results of trying one code: readings that agree in it (three axes, the elements of an array) have the
/// same results.
#[derive(PartialEq)]
pub(super) struct Work {
    bounds: (i128, i128),
    ops: Vec<(Opcode, [Slot; 4], Option<Slot>)>,
    constants: Vec<(Slot, Constant)>,
    /// `None` is the code that is tried.
    inputs: Vec<(Slot, Option<Input>)>,
    output: usize,
    withheld: Vec<usize>,
    outputs: Vec<(Slot, Ty)>,
}

/// What one lane begins with.
pub(super) struct Lane<'t> {
    pub(super) part: &'t Sheet,
    pub(super) settings: &'t State,
    pub(super) own: &'t [CodeId],
    pub(super) value: &'t dyn Fn(CodeId) -> i128,
}

impl Leaves for Lane<'_> {
    fn part(&self) -> &Sheet {
        self.part
    }

    fn field(&self, field: FieldId) -> Option<i128> {
        // A field that stands in a frame comes with it.
        let is_it = |code: &&CodeId| self.part.codes.get(**code).is_some_and(|code| code.field == Some(field));
        match self.own.iter().find(is_it) {
            Some(code) => Some((self.value)(*code)),
            None => self.settings.value_of(self.part.fields.get(field)?),
        }
    }

    fn code(&self, code: CodeId) -> Option<Number> {
        let (model, value) = (self.part.codes.get(code)?, (self.value)(code));
        if !model.ty.is_real() {
            return Some(Number::Int(value, Ty::I64));
        }
        let width = model.layout.width();
        model.layout.form.read_real(model.layout.form.write(value, width), width).map(|real| Number::Real(real, model.ty))
    }

    fn parameter(&self, parameter: ParameterId) -> Option<f64> {
        self.settings.parameter(parameter)
    }
}

impl<'a> Trial<'a> {
    /// `None` where it would take too long.
    pub(super) fn new(part: &'a Sheet, id: ReadingId, settings: &State) -> Option<Self> {
        let reading = part.readings.get(id)?;
        let order = part.needed(id);
        if order.len() * part.readings.len() > MOST_TRIED {
            return None;
        }
        let mut lowerer = Lowerer::new(&part.curves, false);
        let mut output = 0;
        for needed in order {
            output = lowerer.formula(&part.readings.get(needed)?.formula);
            lowerer.publish(Input::Reading(needed).key(), output);
        }
        // A condition over other codes cannot be decided by trying this reading's codes, and one without a result does not hold.
        let has_result = |code: &Code| code.layout.form != Form::Bcd && code.range.is_none();
        let decidable = |condition: &&Condition| {
            !condition.status.has_value()
                && inputs(&condition.formula)
                    .all(|input| matches!(input, Input::Code(code) if reading.codes.contains(&code) && has_result(&part.codes[code])))
        };
        let conditions = part.conditions(None, id).map(|(_, condition)| condition).filter(decidable);
        let withheld = conditions.map(|condition| lowerer.formula(&condition.formula)).collect();
        let program = lowerer.finish();
        let machine = Machine::new(&program, LANES);
        let inputs = program.inputs.iter().map(|(slot, key)| (*slot, Input::of(*key), program.users(*slot))).collect();
        Some(Self { part, reading, machine, output, withheld, inputs, program, settings: settings.assumed(part).valid_for(part, id) })
    }

    pub(super) fn code(&self, id: CodeId) -> Option<&'a Code> {
        self.part.codes.get(id)
    }

    /// What decides the results, where only this code is tried. `None` where an input depends on it in another way.
    pub(super) fn work(&self, only: CodeId) -> Option<Work> {
        let code = self.code(only).filter(|code| code.field.is_none() && !code.ty.is_real())?;
        Some(Work {
            bounds: code.bounds(),
            ops: self.program.ops.iter().map(|op| (op.what, [op.dst, op.a, op.b, op.c], op.guard)).collect(),
            constants: self.program.constants.clone(),
            inputs: self.inputs.iter().map(|(slot, input, _)| (*slot, Some(*input).filter(|input| *input != Input::Code(only)))).collect(),
            output: self.output,
            withheld: self.withheld.clone(),
            outputs: self.program.outputs.clone(),
        })
    }

    /// Runs over lanes, and hands each result to `take`. Fields that do not stand in a frame have their reset values.
    pub(super) fn run(&mut self, lanes: usize, value: impl Fn(CodeId, usize) -> i128, take: impl FnMut(usize, Result<f64, FaultAt>)) {
        self.compute(lanes, value);
        self.results(lanes, take);
    }

    /// Runs over lanes for which `value(code, lane)` gives the codes.
    pub(super) fn compute(&mut self, lanes: usize, value: impl Fn(CodeId, usize) -> i128) {
        let Self { part, reading, program, machine, settings, .. } = self;
        machine.begin();
        for (slot, input, users) in &self.inputs {
            let Some(column) = machine.column_mut(*slot) else { continue };
            // What most inputs are: an integer of its own for every lane.
            if let Input::Code(code) = *input
                && part.codes.get(code).is_some_and(|code| !code.ty.is_real())
            {
                column.put_ints(lanes, |lane| value(code, lane) as i64);
                continue;
            }
            let number = |lane: usize| {
                let of_lane = |code: CodeId| value(code, lane);
                Lane { part, settings, own: &reading.codes, value: &of_lane }.value(*input)
            };
            let in_frame = |field: FieldId| part.codes.of(&reading.codes).any(|code| code.field == Some(field));
            if input.comes_with_frames() || input.field().is_some_and(in_frame) {
                for lane in 0..lanes {
                    let Some(column) = machine.column_mut(*slot) else { continue };
                    match number(lane) {
                        Some(Number::Int(value, _)) => column.put_int(lane, value as i64),
                        Some(Number::Real(value, _)) => column.put(lane, value),
                        None => machine.no_value(users, lane),
                    }
                }
            } else {
                let held = if let Input::Quantity(quantity) = *input {
                    Present { part, state: settings }.quantity(quantity).ok().map(|value| Number::Real(value, Ty::F64))
                } else {
                    number(0)
                };
                match held {
                    Some(Number::Int(value, _)) => column.fill_int(value as i64),
                    Some(Number::Real(value, _)) => column.fill_real(value),
                    None => (0..lanes).for_each(|lane| machine.no_value(users, lane)),
                }
            }
        }
        machine.run(program, lanes);
    }

    /// The values of all lanes, where none is at fault or withheld.
    pub(super) fn reals(&self, lanes: usize) -> Option<&[f64]> {
        self.machine.reals(&self.program, self.output, lanes).filter(|_| self.withheld.is_empty())
    }

    /// Hands each lane's result to `take`.
    pub(super) fn results(&self, lanes: usize, mut take: impl FnMut(usize, Result<f64, FaultAt>)) {
        let Self { program, machine, .. } = self;
        for lane in 0..lanes {
            let withheld = |output: &usize| machine.output(program, *output, lane).is_ok_and(|n| n.to_f64() != 0.0);
            if !self.withheld.iter().any(withheld) {
                take(lane, machine.output(program, self.output, lane).map(|n| n.to_f64()));
            }
        }
    }
}

//! What the value of an input is: the one place that answers it, for frames in columns, one frame, conditions, dry runs,
//! and for trying out codes.

use super::ids::{CodeId, FieldId, ParameterId, QuantityId};
use super::input::{Input, inputs};
use super::part::Sheet;
use super::state::State;
use crate::formula::fault::FaultKind;
use crate::formula::flat::lower::Lowerer;
use crate::formula::flat::program::Program;
use crate::formula::run::columns::FaultAt;
use crate::formula::run::single::Single;
use crate::formula::typed::Formula;
use crate::ground::number::{Number, Ty};

/// Where the values that formulas begin with come from.
pub(crate) trait Leaves {
    /// The part.
    fn part(&self) -> &Sheet;
    /// The present code of a field.
    fn field(&self, field: FieldId) -> Option<i128>;
    /// Number of a code; `None` if it was not received or is invalid.
    fn code(&self, code: CodeId) -> Option<Number>;
    /// A parameter's value.
    fn parameter(&self, parameter: ParameterId) -> Option<f64>;

    /// Inputs of derived quantities: readings and the previous frame.
    fn over_time(&self, _: Input) -> Option<Number> {
        None
    }

    /// The value of an input that no formula of the part gives.
    fn value(&self, input: Input) -> Option<Number> {
        match input {
            Input::Code(code) => self.code(code),
            Input::Field(field) => Some(self.part().fields.get(field)?.number(self.field(field)?)),
            Input::Column(field, column) => {
                let number = self.part().fields.get(field)?.value(self.field(field)?)?.columns.get(column).copied().flatten()?;
                Some(Number::Real(number, Ty::F64))
            }
            Input::Parameter(parameter) => Some(Number::Real(self.parameter(parameter)?, Ty::F64)),
            // They are computed, in the same program as what uses them.
            Input::Reading(_) | Input::Quantity(_) => None,
            Input::Came(_) | Input::Before(_) | Input::Elapsed => self.over_time(input),
        }
    }
}

/// A part and its state.
#[derive(Clone, Copy)]
pub(crate) struct Present<'a> {
    pub(crate) part: &'a Sheet,
    pub(crate) state: &'a State,
}

impl Leaves for Present<'_> {
    fn part(&self) -> &Sheet {
        self.part
    }

    fn field(&self, field: FieldId) -> Option<i128> {
        self.state.value_of(self.part.fields.get(field)?)
    }

    fn code(&self, code: CodeId) -> Option<Number> {
        self.state.code(self.part, code)
    }

    fn parameter(&self, parameter: ParameterId) -> Option<f64> {
        self.state.parameter(parameter)
    }
}

impl Present<'_> {
    /// The present value of a formula.
    pub(crate) fn compute(&self, formula: &Formula) -> Result<f64, FaultKind> {
        Eval::of_formula(self.part, formula).value(self)
    }

    /// The present value of a quantity.
    pub(crate) fn quantity(&self, quantity: QuantityId) -> Result<f64, FaultKind> {
        Eval::of_quantity(self.part, quantity).ok_or(FaultKind::NoValue)?.value(self)
    }

    /// The present value of anything.
    pub(crate) fn input(&self, input: Input) -> Option<Number> {
        match input {
            Input::Quantity(quantity) => self.quantity(quantity).ok().map(|value| Number::Real(value, Ty::F64)),
            Input::Reading(reading) => {
                let formula = &self.part.readings.get(reading)?.formula;
                self.compute(formula).ok().map(|value| Number::Real(value, Ty::F64))
            }
            leaf => self.value(leaf),
        }
    }
}

/// A formula together with the quantities and readings that it uses, as one program, to be computed again and again.
#[derive(Clone, Debug)]
pub(crate) struct Eval {
    program: Program,
    single: Single,
    output: usize,
}

impl Eval {
    /// A formula of the part.
    pub(crate) fn of_formula(part: &Sheet, formula: &Formula) -> Self {
        let mut build = Build::new(part);
        build.needs_of(formula);
        let output = build.lowerer.formula(formula);
        build.finish(output)
    }

    /// A formula over readings, with notes of its values.
    pub(crate) fn over_readings(part: &Sheet, formula: &Formula) -> Self {
        let mut build = Build { lowerer: Lowerer::new(&part.curves, true), ..Build::new(part) };
        let output = build.lowerer.formula(formula);
        build.finish(output)
    }

    /// The program as it was run last, and the output that is the value.
    pub(crate) fn as_run(&self) -> (&Program, &Single, usize) {
        (&self.program, &self.single, self.output)
    }

    /// A quantity of the part; `None` for an unknown id.
    pub(crate) fn of_quantity(part: &Sheet, quantity: QuantityId) -> Option<Self> {
        let mut build = Build::new(part);
        let output = build.quantity(quantity)?;
        Some(build.finish(output))
    }

    /// The value; an input without a value is a fault where it is taken.
    pub(crate) fn value(&mut self, leaves: &impl Leaves) -> Result<f64, FaultKind> {
        self.outcome(leaves).map_err(|(kind, _)| kind)
    }

    /// The value, or the fault and its place.
    pub(crate) fn outcome(&mut self, leaves: &impl Leaves) -> Result<f64, FaultAt> {
        self.single.begin();
        self.single.settled = false;
        for (slot, key) in &self.program.inputs {
            match leaves.value(Input::of(*key)) {
                Some(Number::Int(value, _)) => self.single.put_int(&self.program, *slot, value as i64),
                Some(Number::Real(value, _)) => self.single.put_real(&self.program, *slot, value),
                None => self.single.no_value(&self.program.users(*slot)),
            }
        }
        self.single.run(&self.program);
        self.single.output(&self.program, self.output).map(|number| number.to_f64())
    }
}

/// Puts a formula and its dependencies into one program, each once.
struct Build<'a> {
    part: &'a Sheet,
    lowerer: Lowerer,
    done: Vec<(Input, usize)>,
}

impl<'a> Build<'a> {
    fn new(part: &'a Sheet) -> Self {
        Self { part, lowerer: Lowerer::new(&part.curves, false), done: Vec::new() }
    }

    fn finish(self, output: usize) -> Eval {
        let program = self.lowerer.finish();
        Eval { single: Single::new(&program), program, output }
    }

    /// Computes the quantities and readings that a formula uses. None can lead back to itself, or the sheet was refused.
    fn needs_of(&mut self, formula: &Formula) {
        for input in inputs(formula) {
            if self.done.iter().any(|(known, _)| *known == input) {
                continue;
            }
            let output = match input {
                Input::Quantity(quantity) => self.quantity(quantity),
                Input::Reading(reading) => self.part.readings.get(reading).map(|reading| {
                    self.needs_of(&reading.formula);
                    self.lowerer.formula(&reading.formula)
                }),
                _ => None,
            };
            if let Some(output) = output {
                self.lowerer.publish(input.key(), output);
                self.done.push((input, output));
            }
        }
    }

    fn quantity(&mut self, id: QuantityId) -> Option<usize> {
        let quantity = self.part.quantities.get(id)?;
        self.needs_of(&quantity.formula);
        let Some((reading, code)) = quantity.through else {
            return Some(self.lowerer.formula_as(&quantity.formula, self.part.quantity_ty()));
        };
        let reading = self.part.readings.get(reading)?;
        let code_ty = match code {
            Input::Code(code) => self.part.codes.get(code)?.ty,
            Input::Field(field) => self.part.fields.get(field)?.ty(),
            _ => return None,
        };
        self.needs_of(&reading.formula);
        // The result of the quantity's formula replaces the reading's code, in this formula alone.
        let own = self.lowerer.formula_as(&quantity.formula, code_ty);
        let key = code.key();
        self.lowerer.publish(key, own);
        let output = self.lowerer.formula_as(&reading.formula, self.part.quantity_ty());
        self.lowerer.withdraw(key);
        Some(output)
    }
}

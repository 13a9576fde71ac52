//! One formula with present values put in.

use super::part::{CodeNumber, Input, Part};
use super::registers::Settings;
use crate::formula::lower::Lowerer;
use crate::formula::program::{FaultKind, Program};
use crate::formula::single::Single;
use crate::formula::typed::Formula;
use crate::formula::types::{Number, Ty};

/// A formula made ready to be computed again and again.
#[derive(Clone, Debug)]
pub(crate) struct Eval {
    program: Program,
    single: Single,
}

impl Eval {
    pub(crate) fn new(formula: &Formula) -> Self {
        let mut lowerer = Lowerer::new(false);
        lowerer.formula(formula);
        let program = lowerer.finish();
        Self { single: Single::new(&program), program }
    }

    /// The value; an input without a value is a fault.
    pub(crate) fn value(&mut self, input: impl Fn(Input) -> Option<Number>) -> Result<f64, FaultKind> {
        self.single.begin();
        self.single.settled = false;
        for (slot, wanted) in &self.program.inputs {
            match input(*wanted) {
                Some(Number::Int(value, _)) => self.single.put_int(&self.program, *slot, value as i64),
                Some(Number::Real(value, _)) => self.single.put_real(&self.program, *slot, value),
                None => return Err(FaultKind::NoValue),
            }
        }
        self.single.run(&self.program);
        self.single.output(&self.program, 0).map(|number| number.to_f64()).map_err(|(kind, _)| kind)
    }
}

/// What formulas take from: settings, parameters, frames as they came last, quantities.
pub(crate) struct Present<'a> {
    pub(crate) part: &'a Part,
    pub(crate) settings: &'a Settings,
    pub(crate) parameters: &'a [f64],
    /// The last good bytes of every frame.
    pub(crate) last: &'a [Option<Vec<u8>>],
}

impl Present<'_> {
    /// The value of an input.
    pub(crate) fn input(&self, input: Input) -> Option<Number> {
        match input {
            Input::Field(field) => Some(self.settings.number(self.part.fields.get(field)?)),
            Input::Column(field, column) => {
                let field = self.part.fields.get(field)?;
                let number = field.row(self.settings.field(field))?.columns.get(column).copied().flatten()?;
                Some(Number::Real(number, Ty::F64))
            }
            Input::Parameter(index) => Some(Number::Real(self.parameters.get(index).copied()?, Ty::F64)),
            Input::Quantity(index) => self.quantity(index).ok().map(|value| Number::Real(value, Ty::F64)),
            Input::Code(code) => {
                let code = self.part.codes.get(code)?;
                match code.value(self.last.get(code.frame)?.as_deref()?) {
                    CodeNumber::Number(number) => Some(number),
                    _ => None,
                }
            }
            Input::Reading(index) => {
                let reading = self.part.readings.get(index)?;
                let value = Eval::new(&reading.formula).value(|input| self.input(input)).ok()?;
                Some(Number::Real(value, reading.formula.ty))
            }
        }
    }

    /// The present value of a formula.
    pub(crate) fn value(&self, formula: &Formula) -> Result<f64, FaultKind> {
        Eval::new(formula).value(|input| self.input(input))
    }

    /// The present value of a quantity.
    pub(crate) fn quantity(&self, index: usize) -> Result<f64, FaultKind> {
        QuantityEval::new(self.part, index).ok_or(FaultKind::NoValue)?.value(self)
    }
}

/// A quantity made ready.
#[derive(Clone, Debug)]
pub(crate) struct QuantityEval {
    own: Eval,
    /// The reading's formula, and the code whose place the own formula takes.
    through: Option<(Eval, usize)>,
}

impl QuantityEval {
    pub(crate) fn new(part: &Part, index: usize) -> Option<Self> {
        let quantity = part.quantities.get(index)?;
        let through = match quantity.through {
            Some((reading, code)) => Some((Eval::new(&part.readings.get(reading)?.formula), code)),
            None => None,
        };
        Some(Self { own: Eval::new(&quantity.formula), through })
    }

    pub(crate) fn value(&mut self, present: &Present<'_>) -> Result<f64, FaultKind> {
        let own = self.own.value(|input| present.input(input))?;
        let Some((reading, code)) = &mut self.through else { return Ok(own) };
        let placed = Number::Int(own as i128, Ty::I64);
        reading.value(|input| if input == Input::Code(*code) { Some(placed) } else { present.input(input) })
    }
}

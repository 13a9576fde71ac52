//! Sources of a formula's inputs: codes, fields, columns, parameters, quantities, other readings.

use std::collections::BTreeSet;

use super::build::{Build, Found, Takes};
use super::code::{Expr, Function, Gives, Param, Pass, Stmt, Type};
use super::formula::{NEEDED, Source, body, condition, zero};
use super::names::snake;
use crate::bits::form::Form;
use crate::formula::operators::Compare;
use crate::formula::typed::Formula;
use crate::ground::number::Ty;
use crate::model::ids::{FrameId, ReadingId};
use crate::model::input::{Input, inputs};

/// How the value of a reading is got at.
#[derive(Clone, Debug)]
pub(super) struct Value {
    pub(super) reading: ReadingId,
    pub(super) ty: Ty,
    /// A number that may be none.
    pub(super) fails: bool,
    /// The expression that gives it: a call, or the formula itself.
    pub(super) expr: Expr,
    pub(super) takes: Takes,
    /// The readings whose values it uses directly.
    pub(super) uses: Vec<ReadingId>,
}

/// A condition as an expression.
pub(super) struct Holds {
    pub(super) holds: Expr,
    /// True if the condition cannot be computed.
    pub(super) fault: Option<Expr>,
}

impl Holds {
    pub(super) fn always(holds: Expr) -> Self {
        Self { holds, fault: None }
    }

    /// The condition in an optional variable.
    pub(super) fn unless_at_fault(variable: String) -> Self {
        let there = Expr::IsThere(variable.clone());
        let fault = Some(Expr::Not(there.clone().boxed()));
        Self { holds: Expr::And(there.boxed(), Expr::There(variable).boxed()), fault }
    }
}

impl Build<'_> {
    /// Inputs of a formula, with those of its quantities.
    pub(super) fn takes_with(&self, formula: &Formula, frame: Option<FrameId>) -> Takes {
        let mut takes = self.takes(formula, frame);
        for input in inputs(formula) {
            if let Input::Quantity(quantity) = input {
                let own = self.part.quantities.get(quantity).filter(|_| self.comes_with(quantity, frame));
                takes.add(&own.map_or_else(|| self.quantity_takes(quantity), |own| self.takes_with(&own.formula, frame)));
            }
        }
        takes
    }

    /// The readings whose values are passed to a formula: its own, and those of the values it calls.
    pub(super) fn handed(&self, formula: &Formula, known: &[Value]) -> Vec<ReadingId> {
        let mut all = Vec::new();
        for used in direct(formula) {
            if !self.called.contains(&used) {
                all.push(used);
            } else if let Some(value) = known.iter().find(|value| value.reading == used) {
                all.extend(&value.uses);
            }
        }
        let mut seen = BTreeSet::new();
        all.retain(|used| seen.insert(*used));
        all
    }

    /// Inputs of a formula, with those of the values that it calls.
    pub(super) fn takes_known(&self, formula: &Formula, frame: Option<FrameId>, known: &[Value]) -> Takes {
        let mut takes = self.takes_with(formula, frame);
        for used in direct(formula).into_iter().filter(|used| self.called.contains(used)) {
            known.iter().find(|value| value.reading == used).into_iter().for_each(|value| takes.add(&value.takes));
        }
        takes
    }

    /// The parameter by which a function is handed the value of a reading.
    pub(super) fn value_param(&self, id: ReadingId, known: &[Value]) -> Option<Param> {
        let value = known.iter().find(|value| value.reading == id)?;
        let name = snake(&self.part.readings.get(id)?.name);
        Some(Param {
            name: self.value_name(&name),
            ty: if value.fails { Type::Maybe(value.ty) } else { Type::Num(value.ty) },
            pass: Pass::Value,
        })
    }

    /// The name of the variable for a reading's value.
    pub(super) fn value_name(&self, name: &str) -> String {
        let taken = self.part.frames.iter().any(|frame| snake(&frame.name) == name)
            || matches!(name, "settings" | "parameters" | "value" | "status" | "result");
        if taken { format!("{name}_reading") } else { name.to_owned() }
    }

    /// Makes a formula's inputs ready, with the values of these readings at hand.
    pub(super) fn ready(&self, formula: &Formula, frame: Option<FrameId>, known: &[Value]) -> Found<'_, '_> {
        let mut sources = Vec::new();
        for input in inputs(formula) {
            let source = match input {
                Input::Reading(id) if self.called.contains(&id) => {
                    let Some(value) = known.iter().find(|value| value.reading == id) else { continue };
                    let name = self.part.readings.get(id).map_or(String::new(), |reading| self.value_name(&snake(&reading.name)));
                    if value.fails {
                        Source::Call(name, value.expr.clone(), value.ty, NEEDED.into())
                    } else {
                        Source::Value(value.expr.clone(), value.ty)
                    }
                }
                Input::Reading(id) => match self.value_param(id, known) {
                    Some(Param { name, ty: Type::Maybe(ty), .. }) => Source::Maybe(name, ty),
                    Some(Param { name, ty: Type::Num(ty), .. }) => Source::Value(Expr::Var(name), ty),
                    _ => continue,
                },
                other => match self.source(other, frame) {
                    Some(source) => source,
                    None => continue,
                },
            };
            sources.push((input.key(), source));
        }
        Found { build: self, sources }
    }

    /// The source of an input other than a reading.
    pub(super) fn source(&self, input: Input, frame: Option<FrameId>) -> Option<Source> {
        let source = self.known_source(input, frame)?;
        let Some(field) = input.field().filter(|field| !self.holds(frame, *field)) else { return Some(source) };
        let flags = self.flags_of(field);
        Some(if flags.is_empty() { source } else { Source::Unknown(flags, self.part.fields[field].name.clone(), Box::new(source)) })
    }

    /// The source of an input that is known.
    fn known_source(&self, input: Input, frame: Option<FrameId>) -> Option<Source> {
        let part = self.part;
        let at = |field| if self.holds(frame, field) { self.frame_field(frame, field) } else { Some(self.setting(field)) };
        Some(match input {
            Input::Code(id) => {
                let code = part.codes.get(id)?;
                let Type::Num(ty) = self.stored(&code.layout) else { return None };
                let value = Expr::Member(self.frame_var(code.frame), self.code_member(id));
                let number = |number: i128| Expr::Int(number, ty);
                if let Some((low, high)) = code.range.filter(|_| !ty.is_real()) {
                    let (least, most) = ty.bounds().unwrap_or((low, high));
                    let below = (low > least).then(|| value.clone().compare(Compare::Less, ty, number(low)));
                    let above = (high < most).then(|| value.clone().compare(Compare::Greater, ty, number(high)));
                    let outside = match (below, above) {
                        (Some(_), Some(_)) => {
                            Some(Expr::Not(Expr::Within(ty, value.clone().boxed(), number(low).boxed(), number(high).boxed()).boxed()))
                        }
                        (below, above) => below.or(above),
                    };
                    let why = format!("{} outside {low} to {high}", code.name);
                    match outside {
                        Some(outside) => Source::Checked(outside, why, value, ty),
                        None => Source::Value(value, ty),
                    }
                } else {
                    digits(code.layout.form, &code.name, value, ty)
                }
            }
            Input::Field(id) => {
                let ((value, ty), field) = (at(id)?, part.fields.get(id)?);
                digits(field.layout.form, &field.name, value, ty)
            }
            Input::Column(id, column) => {
                let (value, ty) = at(id)?;
                let (name, result, whole) = self.column_function(id, column)?;
                let call = Expr::Call(name, vec![value.cast(ty, self.field_code_type(id))]);
                if whole {
                    Source::Value(call, result)
                } else {
                    let field = part.fields.get(id)?;
                    let name = format!("{}_{}", snake(&field.name), snake(&field.columns.get(column)?.name));
                    let why = format!("no row for {} in its table", field.name);
                    Source::Call(name, call, result, why)
                }
            }
            Input::Parameter(id) => Source::Value(Expr::Member("parameters".into(), self.parameter_member(id)), self.parameter_type()),
            Input::Quantity(id) => {
                let here = frame.filter(|_| self.comes_with(id, frame));
                let (call, ty, fails) = match here {
                    Some(frame) => self.quantity_in_frame(id, frame)?,
                    None => self.quantity_value(id)?,
                };
                if fails {
                    let name = format!("{}_value", snake(&part.quantities.get(id)?.name));
                    Source::Call(name, call, ty, NEEDED.into())
                } else {
                    Source::Value(call, ty)
                }
            }
            Input::Reading(_) | Input::Came(_) | Input::Before(_) | Input::Elapsed => return None,
        })
    }

    pub(super) fn frame_field(&self, frame: Option<FrameId>, id: crate::model::ids::FieldId) -> Option<(Expr, Ty)> {
        let frame = frame?;
        let field = self.part.fields.get(id)?;
        let Type::Num(ty) = self.stored(&field.layout) else { return None };
        Some((Expr::Member(self.frame_var(frame), self.field_member(frame, id)), ty))
    }

    /// A condition as an expression; where it takes statements, they become a function.
    pub(super) fn holds_with(
        &mut self,
        formula: &Formula,
        frame: Option<FrameId>,
        name: &str,
        known: &[Value],
        outer: &mut Vec<Stmt>,
    ) -> (Holds, Takes) {
        let facts = self.facts_of(formula);
        let takes = self.takes_known(formula, frame, known);
        let found = self.ready(formula, frame, known);
        if let Some(expr) = condition(formula, &facts, &found) {
            return (Holds::always(expr), takes);
        }
        let mut params = self.params(&takes, frame);
        params.extend(self.handed(formula, known).iter().filter_map(|used| self.value_param(*used, known)));
        let given: Vec<String> = params.iter().map(|param| param.name.clone()).collect();
        let (statements, fails) = body(formula, &facts, &found, &given);
        let statements: Vec<Stmt> = statements.into_iter().map(|statement| as_truth(statement, formula.ty)).collect();
        let name = self.prefix.function(name);
        let mut doc = vec!["Condition:".to_owned()];
        doc.extend(self.formula_text(formula));
        let gives = if fails { Gives::Maybe(Ty::Bool) } else { Gives::Type(Type::Num(Ty::Bool)) };
        let call = Self::call(&name, &params);
        let of = Self::home(&params);
        let variable = name.rust.clone();
        self.module.functions.push(Function { doc, public: false, name, of, params, gives, body: statements });
        if !fails {
            return (Holds::always(call), takes);
        }
        outer.push(Stmt::Try(variable.clone(), Ty::Bool, call));
        (Holds::unless_at_fault(variable), takes)
    }

    /// The readings behind these, in order, and these.
    pub(super) fn all_uses(&self, uses: &[ReadingId], values: &[Value]) -> Vec<ReadingId> {
        let mut all: Vec<ReadingId> = uses.to_vec();
        let mut at = 0;
        while let Some(id) = all.get(at).copied() {
            let more = values.iter().find(|value| value.reading == id).map_or(Vec::new(), |value| value.uses.clone());
            all.extend(more);
            at += 1;
        }
        self.part.order.iter().copied().filter(|id| all.contains(id)).collect()
    }

    /// Variables with the values of readings, each after those it uses.
    pub(super) fn computed(&self, uses: &[ReadingId], values: &[Value]) -> Vec<Stmt> {
        let one = |id: ReadingId| {
            let value = values.iter().find(|value| value.reading == id)?;
            let name = self.value_name(&snake(&self.part.readings.get(id)?.name));
            Some(if value.fails {
                Stmt::Try(name, value.ty, value.expr.clone())
            } else {
                Stmt::Let { name, ty: Type::Num(value.ty), value: Some(value.expr.clone()), mutable: false }
            })
        };
        self.all_uses(uses, values).into_iter().filter_map(one).collect()
    }
}

/// Checks a BCD code: no digit is above 9.
fn digits(form: Form, name: &str, value: Expr, ty: Ty) -> Source {
    if form != Form::Bcd {
        return Source::Value(value, ty);
    }
    let none = value.clone().compare(Compare::Less, ty, Expr::Int(0, ty));
    Source::Checked(none, format!("{name} has a digit above 9"), value, ty)
}

/// The readings that a formula uses itself.
pub(super) fn direct(formula: &Formula) -> Vec<ReadingId> {
    inputs(formula).filter_map(|input| if let Input::Reading(id) = input { Some(id) } else { None }).collect()
}

/// Whether a statement, or one within it, may end the function without a value.
pub(super) fn can_fail(statement: &Stmt) -> bool {
    match statement {
        Stmt::Fail(_) | Stmt::Checked { .. } | Stmt::Take { .. } => true,
        Stmt::If(_, then, otherwise) => then.iter().chain(otherwise).any(can_fail),
        Stmt::EachByte(.., body) | Stmt::Times(_, body) | Stmt::EachCode { body, .. } => body.iter().any(can_fail),
        _ => false,
    }
}

/// Result of a condition's formula, as truth.
fn as_truth(statement: Stmt, ty: Ty) -> Stmt {
    match statement {
        Stmt::Return(Expr::FromBool(_, truth)) => Stmt::Return(*truth),
        Stmt::Return(value) if ty == Ty::Bool => Stmt::Return(value),
        Stmt::Return(value) => Stmt::Return(value.compare(Compare::NotEqual, ty, zero(ty))),
        Stmt::If(cond, then, otherwise) => {
            let all = |list: Vec<Stmt>| list.into_iter().map(|statement| as_truth(statement, ty)).collect();
            Stmt::If(cond, all(then), all(otherwise))
        }
        other => other,
    }
}

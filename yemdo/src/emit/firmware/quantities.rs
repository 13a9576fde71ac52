//! Quantities: their values from the settings.

use super::build::{Build, Found, Takes};
use super::code::{Expr, Function, Gives, Name, Stmt, Type};
use super::formula::{Source, body};
use super::inputs::can_fail;
use super::names::snake;
use super::readings::{capital, cited, said, unit_text};
use crate::formula::facts::Facts;
use crate::formula::flat::interval::Interval;
use crate::ground::number::Ty;
use crate::model::ids::{FrameId, QuantityId};
use crate::model::input::{Input, inputs};
use crate::model::registers::Field;
use crate::plan::frame::bounds;

impl Build<'_> {
    /// Inputs of a quantity's value.
    pub(super) fn quantity_takes(&self, id: QuantityId) -> Takes {
        let Some(quantity) = self.part.quantities.get(id) else { return Takes::default() };
        let mut takes = self.takes_with(&quantity.formula, None);
        if let Some((reading, code)) = quantity.through
            && let Some(reading) = self.part.readings.get(reading)
        {
            for input in inputs(&reading.formula).filter(|input| *input != code) {
                match input {
                    Input::Parameter(_) => takes.parameters = true,
                    Input::Field(_) | Input::Column(..) => takes.settings = true,
                    Input::Quantity(other) => takes.add(&self.quantity_takes(other)),
                    _ => {}
                }
            }
        }
        takes
    }

    /// True if a frame has fields of a quantity's formula. The quantity then has its own value with that frame.
    pub(super) fn comes_with(&self, id: QuantityId, frame: Option<FrameId>) -> bool {
        let quantity = self.part.quantities.get(id).filter(|quantity| quantity.through.is_none());
        let behind = quantity.map_or(Vec::new(), |quantity| self.part.inputs_behind(inputs(&quantity.formula)));
        behind.into_iter().filter_map(Input::field).any(|field| self.holds(frame, field))
    }

    fn name_in(&self, id: QuantityId, frame: FrameId) -> Name {
        let quantity = self.part.quantities[id].name.as_str();
        self.prefix.function(&format!("{quantity}_in_{}", self.frame_name(frame)))
    }

    /// The call of a quantity's value with a frame, its type, and true if it can fail.
    pub(super) fn quantity_in_frame(&self, id: QuantityId, frame: FrameId) -> Option<(Expr, Ty, bool)> {
        let quantity = self.part.quantities.get(id)?;
        let params = self.params(&self.takes_with(&quantity.formula, Some(frame)), Some(frame));
        let name = self.name_in(id, frame);
        let known = self.module.functions.iter().find(|function| function.name.c == name.c)?;
        Some((Self::call(&name, &params), self.real(), matches!(known.gives, Gives::Maybe(_))))
    }

    /// Emits the functions of quantities with a value of their own in a frame.
    pub(super) fn quantities_in(&mut self, frame: FrameId) {
        let part = self.part;
        for (id, quantity) in part.quantities.entries().filter(|(id, _)| !part.no_integers.contains(id)) {
            if !self.comes_with(id, Some(frame)) {
                continue;
            }
            let (formula, real) = (&quantity.formula, self.real());
            let params = self.params(&self.takes_with(formula, Some(frame)), Some(frame));
            let given: Vec<String> = params.iter().map(|param| param.name.clone()).collect();
            let sources: Option<Vec<_>> = inputs(formula).map(|input| Some((input.key(), self.source(input, Some(frame))?))).collect();
            let Some(sources) = sources else { continue };
            let (statements, fails) = body(formula, &self.facts_of(formula), &Found { build: self, sources }, &given);
            let body = statements.into_iter().map(|statement| returned_as(statement, formula.ty, real)).collect();
            let doc = vec![format!("{} with the registers of {}.", capital(&said(&quantity.name)), self.frame_name(frame))];
            let gives = if fails { Gives::Maybe(real) } else { Gives::Type(Type::Num(real)) };
            let (name, of) = (self.name_in(id, frame), Self::home(&params));
            self.module.functions.push(Function { doc, public: false, name, of, params, gives, body });
        }
    }

    /// The call that gives a quantity's value, its type, and whether it may be none.
    pub(super) fn quantity_value(&self, id: QuantityId) -> Option<(Expr, Ty, bool)> {
        let quantity = self.part.quantities.get(id)?;
        let params = self.params(&self.quantity_takes(id), None);
        let name = self.prefix.function(&format!("get_{}", quantity.name));
        let name = Name { rust: snake(&quantity.name), ..name };
        let known = self.module.functions.iter().find(|function| function.name.c == name.c)?;
        Some((Self::call(&name, &params), self.real(), matches!(known.gives, Gives::Maybe(_))))
    }

    /// A quantity there and back.
    pub(super) fn quantity(&mut self, id: QuantityId) {
        let part = self.part;
        let Some(quantity) = part.quantities.get(id) else { return };
        if part.no_integers.contains(&id) {
            self.module.notes.push(format!("quantity {}, which cannot be computed in integers", quantity.name));
            return;
        }
        // Those that it uses come first.
        for input in inputs(&quantity.formula) {
            if let Input::Quantity(other) = input {
                self.quantity_once(other);
            }
        }
        let real = self.real();
        let takes = self.quantity_takes(id);
        let params = self.params(&takes, None);
        let given: Vec<String> = params.iter().map(|param| param.name.clone()).collect();
        let mut statements = Vec::new();
        let ready = |formula: &crate::formula::typed::Formula, place: Option<(Input, Source)>| {
            let mut sources = Vec::new();
            for input in inputs(formula) {
                let source = match &place {
                    Some((code, source)) if *code == input => source.clone(),
                    _ => self.source(input, None)?,
                };
                sources.push((input.key(), source));
            }
            Some(sources)
        };
        let result: Option<(Ty, bool)> = match quantity.through.and_then(|(reading, code)| Some((part.readings.get(reading)?, code))) {
            None => {
                let Some(sources) = ready(&quantity.formula, None) else { return };
                let facts = self.facts_of(&quantity.formula);
                let range = as_quantity(facts.result, real);
                let (more, fails) = body(&quantity.formula, &facts, &Found { build: self, sources }, &given);
                self.quantity_bounds.insert(id, range);
                statements.extend(more);
                Some((quantity.formula.ty, fails))
            }
            Some((reading, code)) => {
                let Some(sources) = ready(&quantity.formula, None) else { return };
                let facts = self.facts_of(&quantity.formula);
                let found = Found { build: self, sources };
                let code_ty = match code {
                    Input::Code(code) => part.codes.get(code).map_or(Ty::I32, |code| code.ty),
                    Input::Field(field) => part.fields.get(field).map_or(Ty::I32, Field::ty),
                    _ => Ty::I32,
                };
                let (mut before, _) = body(&quantity.formula, &facts, &found, &given);
                let Some(Stmt::Return(expr)) = before.pop().filter(|_| !before.iter().any(returns)) else {
                    self.refused.push(format!("quantity {}: its code has several ways to a value", quantity.name));
                    return;
                };
                let value = expr.cast(quantity.formula.ty, code_ty);
                before.push(Stmt::Let { name: "code".into(), ty: Type::Num(code_ty), value: Some(value), mutable: false });
                statements.extend(before);
                let place = (code, Source::Value(Expr::Var("code".into()), code_ty));
                let Some(sources) = ready(&reading.formula, Some(place)) else {
                    self.refused.push(format!("quantity {}: the reading {} needs other readings", quantity.name, reading.name));
                    return;
                };
                let key = code.key();
                let inner = facts.result;
                let facts = Facts::of_all(&[(crate::formula::input::InputKey(u64::MAX), &reading.formula)], &part.curves, &|asked| {
                    if asked == key { inner } else { bounds(part, asked) }
                });
                let facts = facts.into_iter().next().unwrap_or_else(Facts::unknown);
                self.quantity_bounds.insert(id, as_quantity(facts.result, real));
                let given: Vec<String> = given.iter().cloned().chain(statements.iter().filter_map(declared)).collect();
                let (more, fails) = body(&reading.formula, &facts, &Found { build: self, sources }, &given);
                statements.extend(more);
                Some((reading.formula.ty, fails))
            }
        };
        let Some((ty, may_fail)) = result else { return };
        let fails = may_fail || statements.iter().any(can_fail);
        let statements: Vec<Stmt> = statements.into_iter().map(|statement| returned_as(statement, ty, real)).collect();
        let name = self.prefix.function(&format!("get_{}", quantity.name));
        let name = Name { rust: snake(&quantity.name), ..name };
        self.give(&name, format!("quantity {}", quantity.name));
        let means = quantity.means.as_ref().map_or(String::new(), |means| format!(": {means}"));
        let mut doc = vec![format!("{} in {}{means}.", capital(&said(&quantity.name)), unit_text(&quantity.unit))];
        doc.extend([String::new(), format!("It is {}.", part.typed(&quantity.formula))]);
        doc.extend(cited(quantity.source()));
        let gives = if fails { Gives::Maybe(real) } else { Gives::Type(Type::Num(real)) };
        let of = Self::home(&params);
        self.module.functions.push(Function { doc, public: true, name, of, params, gives, body: statements });
        if self.wanted.all {
            self.set_quantity(id, fails);
        }
    }

    /// The same, unless it is there already.
    pub(super) fn quantity_once(&mut self, id: QuantityId) {
        let Some(quantity) = self.part.quantities.get(id) else { return };
        let name = self.prefix.function(&format!("get_{}", quantity.name));
        if !self.module.functions.iter().any(|function| function.name.c == name.c) {
            self.quantity(id);
        }
    }
}

/// Whether a statement, or one within it, ends the function with a value.
fn returns(statement: &Stmt) -> bool {
    match statement {
        Stmt::Return(_) => true,
        Stmt::If(_, then, otherwise) => then.iter().chain(otherwise).any(returns),
        _ => false,
    }
}

/// The variable that a statement declares.
fn declared(statement: &Stmt) -> Option<String> {
    match statement {
        Stmt::Let { name, .. } | Stmt::Checked { name, .. } | Stmt::Take { name, .. } | Stmt::Try(name, ..) => Some(name.clone()),
        _ => None,
    }
}

/// Possible values of a formula, in the type of a quantity.
fn as_quantity(interval: Interval, real: Ty) -> Interval {
    let (low, high) = interval.to_f64();
    if real.is_real() { Interval::Real(low, high) } else { interval }
}

/// Result of a formula, as another type.
fn returned_as(statement: Stmt, from: Ty, to: Ty) -> Stmt {
    match statement {
        Stmt::Return(value) => Stmt::Return(value.cast(from, to)),
        Stmt::If(cond, then, otherwise) => {
            let all = |list: Vec<Stmt>| list.into_iter().map(|statement| returned_as(statement, from, to)).collect();
            Stmt::If(cond, all(then), all(otherwise))
        }
        other => other,
    }
}

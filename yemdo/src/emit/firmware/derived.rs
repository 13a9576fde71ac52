//! Derived quantities: each formula as a function of readings, of their values at the previous frame, and of the time since then. The
//! caller keeps the previous values.

use super::build::{Build, Found, Takes};
use super::code::{Constant, Expr, Function, Gives, Param, Pass, Type};
use super::formula::{Source, body};
use super::names::{Scope, snake};
use super::readings::{capital, cited, said, unit_text};
use crate::formula::input::InputKey;
use crate::formula::typed::{ExprKind, Formula, each};
use crate::ground::number::Ty;
use crate::ground::words::time_text;
use crate::model::input::{Input, inputs};
use crate::model::reading::{End, Reading};

impl Build<'_> {
    /// All that are wanted, in the sheet's order.
    pub(super) fn derived(&mut self) {
        for id in self.wanted.derived.clone() {
            let Some(reading) = self.part.readings.get(id) else { continue };
            if self.real().is_real() {
                self.derived_function(reading);
            } else {
                self.module.notes.push(format!("derived {}, which is a real number", reading.name));
            }
        }
    }

    fn derived_function(&mut self, reading: &Reading) {
        let part = self.part;
        let formula = &reading.formula;
        let mut takes = Takes::default();
        let (mut scope, mut params, mut sources) = (Scope::default(), Vec::new(), Vec::new());
        scope.fresh("parameters");
        let mut taken: Vec<Input> = inputs(formula).collect();
        // Readings as they came, then those before, then the time.
        taken.sort_unstable();
        for input in taken {
            let of = |id| snake(part.readings[id].name.as_str());
            let name = match input {
                Input::Came(id) => of(id),
                Input::Before(id) => format!("before_{}", of(id)),
                Input::Elapsed => "elapsed".to_owned(),
                other => {
                    takes.parameters |= matches!(other, Input::Parameter(_));
                    sources.extend(self.source(other, None).map(|source| (other.key(), source)));
                    continue;
                }
            };
            let name = if name == "result" { "result_".to_owned() } else { name };
            let (name, ty) = (scope.fresh(&name), type_of(formula, input.key()));
            sources.push((input.key(), Source::Value(Expr::Var(name.clone()), ty)));
            params.push(Param { name, ty: Type::Num(ty), pass: Pass::Value });
        }
        let params: Vec<Param> = self.params(&takes, None).into_iter().chain(params).collect();
        let given: Vec<String> = params.iter().map(|param| param.name.clone()).collect();
        let facts = self.facts_of(formula);
        let (statements, fails) = body(formula, &facts, &Found { build: self, sources }, &given);
        let name = self.prefix.function(&reading.name);
        let name = self.give(&name, format!("derived {}", reading.name));
        let gives = if fails { Gives::Maybe(formula.ty) } else { Gives::Type(Type::Num(formula.ty)) };
        let doc = self.derived_doc(reading, fails);
        self.derived_constants(reading);
        let of = Self::home(&params);
        self.module.functions.push(Function { doc, public: true, name, of, params, gives, body: statements });
    }

    fn derived_doc(&self, reading: &Reading, fails: bool) -> Vec<String> {
        let none = if fails { ", or none" } else { "" };
        let mut doc = vec![format!("{} in {}, derived from readings{none}:", capital(&said(&reading.name)), unit_text(&reading.unit))];
        doc.extend(self.formula_text(&reading.formula));
        if let Some(gap) = reading.longest_gap() {
            doc.extend([String::new(), "before_… are values of the previous frame, elapsed the seconds since then.".to_owned()]);
            let start = self.part.start_text(reading);
            let otherwise = if start.is_some() { "it keeps its value" } else { "it has no value" };
            doc.push(format!("After a gap of more than {}, {otherwise}.", time_text(gap)));
            doc.extend(start.map(|start| format!("First value: {start}.")));
        }
        if let Some(means) = &reading.means {
            doc.extend([String::new(), capital(means)]);
        }
        doc.extend(cited(reading.source()));
        doc
    }

    /// First value and maximum gap, as constants.
    fn derived_constants(&mut self, reading: &Reading) {
        let real = self.real();
        let mut all = Vec::new();
        if let Some(End::Number(start)) = reading.derived().and_then(|derived| derived.start.as_ref()) {
            all.push((format!("First value of {}, in {}.", reading.name, unit_text(&reading.unit)), "start", *start));
        }
        if let Some(gap) = reading.longest_gap() {
            all.push((format!("Maximum time between two frames for {}, in seconds.", reading.name), "gap", gap as f64 / 1e6));
        }
        for (doc, what, value) in all {
            let name = self.prefix.constant(&format!("{} {what}", reading.name));
            let name = self.give(&name, format!("the {what} of {}", reading.name));
            self.module.constants.push(Constant { doc, name, ty: real, value: Expr::Real(value, real), hex: 0 });
        }
    }
}

/// The type in which a formula takes an input.
fn type_of(formula: &Formula, key: InputKey) -> Ty {
    let mut found = Ty::F64;
    each(&formula.body, &mut |expr| {
        if matches!(expr.kind, ExprKind::Input(known) if known == key) {
            found = expr.ty;
        }
    });
    found
}

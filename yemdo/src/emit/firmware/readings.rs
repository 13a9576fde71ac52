//! Readings: formulas as functions, conditions, ranges, statuses.

use std::collections::{BTreeMap, BTreeSet};

use super::Reals;
use super::build::{Build, Found, Takes};
use super::code::{Expr, Function, Gives, Member, Name, Param, Pass, Stmt, Struct, Type};
use super::formula::{Source, body, condition, expression, negated, zero};
use super::names::snake;
use crate::formula::facts::Facts;
use crate::formula::flat::interval::Interval;
use crate::formula::operators::Compare;
use crate::formula::typed::Formula;
use crate::ground::number::{Number, Ty};
use crate::model::ids::{CodeId, FieldId, FrameId, ParameterId, ReadingId};
use crate::model::input::{Input, inputs};
use crate::model::part::Sheet;
use crate::model::reading::{End, Reading};
use crate::model::status::Status;
use crate::model::value::{Eval, Leaves};

/// How the value of a reading is got at.
#[derive(Clone, Debug)]
struct Value {
    reading: ReadingId,
    ty: Ty,
    /// A number that may be none.
    fails: bool,
    /// The expression that gives it: a call, or the formula itself.
    expr: Expr,
    takes: Takes,
    /// The readings whose values it uses directly.
    uses: Vec<ReadingId>,
}

/// A formula ready to be used: what has to be done before, and where its inputs are.
struct Ready<'b, 'a> {
    before: Vec<Stmt>,
    found: Found<'b, 'a>,
}

impl Build<'_> {
    /// The readings of a frame: a function for each, and one for all.
    pub(super) fn readings(&mut self, id: FrameId) {
        let part = self.part;
        let Some(frame) = part.frames.get(id) else { return };
        // A reading of several frames comes with the last of them.
        let home = |reading: &ReadingId| part.frames.entries().rev().find(|(_, frame)| frame.readings.contains(reading)).map(|(id, _)| id);
        let wanted: Vec<ReadingId> =
            frame.readings.iter().copied().filter(|reading| self.wanted.readings.contains(reading) && home(reading) == Some(id)).collect();
        let needed: Vec<ReadingId> = wanted.iter().flat_map(|reading| part.needed(*reading)).collect();
        let also: Vec<ReadingId> = wanted
            .iter()
            .filter_map(|reading| part.readings.get(*reading))
            .flat_map(|reading| reading.formulas().flat_map(inputs))
            .filter_map(|input| if let Input::Reading(other) = input { Some(other) } else { None })
            .flat_map(|other| part.needed(other))
            .collect();
        // What only one of them uses is called there; what several use is computed once and handed on.
        let mut users: BTreeMap<ReadingId, usize> = BTreeMap::new();
        for reading in
            part.readings.of(&wanted).flat_map(|reading| reading.formulas()).chain(frame.status.iter().map(|condition| &condition.formula))
        {
            direct(reading).into_iter().for_each(|used| *users.entry(used).or_default() += 1);
        }
        for behind in needed.iter().chain(&also).filter(|behind| !wanted.contains(behind)).collect::<BTreeSet<_>>() {
            let used = part.readings.get(*behind).map_or(Vec::new(), |reading| direct(&reading.formula));
            used.into_iter().for_each(|used| *users.entry(used).or_default() += 1);
        }
        wanted.iter().for_each(|own| *users.entry(*own).or_default() += 1);
        self.called = users.into_iter().filter(|(id, count)| *count < 2 && !wanted.contains(id)).map(|(id, _)| id).collect();
        let mut values: Vec<Value> = Vec::new();
        for reading in part.order.iter().copied().filter(|reading| needed.contains(reading) || also.contains(reading)) {
            if let Some(value) = self.value(id, reading, &values) {
                values.push(value);
            }
        }
        let mut all: Vec<(ReadingId, Name, Vec<Param>, Vec<ReadingId>)> = Vec::new();
        for reading in wanted {
            if let Some((name, params, uses)) = self.reading(id, reading, &values) {
                all.push((reading, name, params, uses));
            }
        }
        if !all.is_empty() {
            self.together(id, &all, &values);
        }
    }

    /// The function that gives a reading's bare value, where it takes more than an expression.
    fn value(&mut self, frame: FrameId, id: ReadingId, known: &[Value]) -> Option<Value> {
        let part = self.part;
        let reading = part.readings.get(id)?;
        let facts = self.facts.get(id)?.clone()?;
        let formula = &reading.formula;
        let uses = self.handed(formula);
        // Of a field that the frame holds, it is the frame's.
        let held = part.inputs_behind(inputs(formula)).iter().filter_map(|input| input.field()).any(|field| self.holds(Some(frame), field));
        let of = Some(frame).filter(|_| held);
        let takes = self.takes_known(formula, of, known);
        let Ready { before, found } = self.ready(formula, of, known);
        if before.is_empty()
            && let Some(expr) = expression(formula, &facts, &found)
        {
            return Some(Value { reading: id, ty: formula.ty, fails: false, expr, takes, uses });
        }
        let mut params = self.params(&takes, of);
        params.extend(uses.iter().filter_map(|used| self.value_param(*used, known)));
        let given: Vec<String> = params.iter().map(|param| param.name.clone()).collect();
        let (mut statements, may_fail) = body(formula, &facts, &found, &given);
        let fails = may_fail || before.iter().any(can_fail);
        statements.splice(0..0, before);
        self.note_curves(formula);
        let words = if held { format!("{}_{}", reading.name, frame_name(part, frame)) } else { reading.name.clone() };
        let name = self.prefix.function(&format!("{words}_value"));
        let expr = Self::call(&name, &params);
        if self.module.functions.iter().any(|function| function.name == name) {
            return Some(Value { reading: id, ty: formula.ty, fails, expr, takes, uses });
        }
        let what = if reading.shown {
            format!("The value of {} in {}", reading.name, unit_text(&reading.unit))
        } else {
            format!("The value of {}, which readings share", reading.name)
        };
        let mut doc = vec![format!("{what}{}", if fails { ", or none:" } else { ":" })];
        doc.extend(self.formula_text(formula));
        let gives = if fails { Gives::Maybe(formula.ty) } else { Gives::Type(Type::Num(formula.ty)) };
        let of = Self::home(&params);
        self.module.functions.push(Function { doc, public: false, name, of, params, gives, body: statements });
        Some(Value { reading: id, ty: formula.ty, fails, expr, takes, uses })
    }

    /// A formula as the sheet has it, as lines of a comment.
    pub(super) fn formula_text(&self, formula: &Formula) -> Vec<String> {
        let typed = self.part.typed(formula);
        let lines: Vec<&str> = typed.lines().map(str::trim_end).filter(|line| !line.trim().is_empty()).collect();
        // The first line stands behind the quotes.
        let indent = lines.iter().skip(1).map(|line| line.len() - line.trim_start().len()).min().unwrap_or(0);
        let text = |(index, line): (usize, &&str)| {
            format!("    {}", if index == 0 { line.trim() } else { line.get(indent..).unwrap_or(line.trim()) })
        };
        lines.iter().enumerate().map(text).collect()
    }

    fn note_curves(&mut self, formula: &Formula) {
        self.curves.extend(formula.curves().into_iter().map(|curve| curve.0));
    }

    /// What a formula takes, with the quantities behind it.
    pub(super) fn takes_with(&self, formula: &Formula, frame: Option<FrameId>) -> Takes {
        let mut takes = self.takes(formula, frame);
        for input in inputs(formula) {
            if let Input::Quantity(quantity) = input {
                takes.add(&self.quantity_takes(quantity));
            }
        }
        takes
    }

    /// The readings whose values a formula is handed.
    fn handed(&self, formula: &Formula) -> Vec<ReadingId> {
        direct(formula).into_iter().filter(|used| !self.called.contains(used)).collect()
    }

    /// What a formula takes, with what the values take that it calls for itself.
    fn takes_known(&self, formula: &Formula, frame: Option<FrameId>, known: &[Value]) -> Takes {
        let mut takes = self.takes_with(formula, frame);
        for used in direct(formula).into_iter().filter(|used| self.called.contains(used)) {
            known.iter().find(|value| value.reading == used).into_iter().for_each(|value| takes.add(&value.takes));
        }
        takes
    }

    /// The parameter by which a function is handed the value of a reading.
    fn value_param(&self, id: ReadingId, known: &[Value]) -> Option<Param> {
        let value = known.iter().find(|value| value.reading == id)?;
        let name = snake(&self.part.readings.get(id)?.name);
        Some(Param {
            name: self.value_name(&name),
            ty: if value.fails { Type::Maybe(value.ty) } else { Type::Num(value.ty) },
            pass: Pass::Value,
        })
    }

    /// The name of the variable for a reading's value.
    fn value_name(&self, name: &str) -> String {
        let taken = self.part.frames.iter().any(|frame| snake(&frame.name) == name)
            || matches!(name, "settings" | "parameters" | "value" | "status" | "result");
        if taken { format!("{name}_reading") } else { name.to_owned() }
    }

    /// Makes a formula's inputs ready, with the values of these readings at hand.
    fn ready(&self, formula: &Formula, frame: Option<FrameId>, known: &[Value]) -> Ready<'_, '_> {
        let mut before = Vec::new();
        let mut sources = Vec::new();
        for input in inputs(formula) {
            let source = match input {
                Input::Reading(id) if self.called.contains(&id) => {
                    let Some(value) = known.iter().find(|value| value.reading == id) else { continue };
                    let name = self.part.readings.get(id).map_or(String::new(), |reading| self.value_name(&snake(&reading.name)));
                    if value.fails { Source::Call(name, value.expr.clone(), value.ty) } else { Source::Value(value.expr.clone(), value.ty) }
                }
                Input::Reading(id) => match self.value_param(id, known) {
                    Some(Param { name, ty: Type::Maybe(ty), .. }) => Source::Maybe(name, ty),
                    Some(Param { name, ty: Type::Num(ty), .. }) => Source::Value(Expr::Var(name), ty),
                    _ => continue,
                },
                other => match self.source(other, frame, &mut before) {
                    Some(source) => source,
                    None => continue,
                },
            };
            sources.push((input.key(), source));
        }
        Ready { before, found: Found { build: self, sources } }
    }

    /// Where an input is that is no reading, and what has to be done before it can be used.
    pub(super) fn source(&self, input: Input, frame: Option<FrameId>, before: &mut Vec<Stmt>) -> Option<Source> {
        let part = self.part;
        let fail = |why: String| vec![Stmt::Fail(why)];
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
                    let why = format!("{} is {low} to {high}", code.name);
                    before.extend(outside.map(|outside| Stmt::If(outside, fail(why), Vec::new())));
                } else if code.layout.form == crate::bits::form::Form::Bcd {
                    let none = value.clone().compare(Compare::Less, ty, number(0));
                    before.push(Stmt::If(none, fail(format!("{} has a digit above 9", code.name)), Vec::new()));
                }
                Source::Value(value, ty)
            }
            Input::Field(id) => {
                let (value, ty) = at(id)?;
                if part.fields.get(id)?.layout.form == crate::bits::form::Form::Bcd {
                    let none = value.clone().compare(Compare::Less, ty, Expr::Int(0, ty));
                    before.push(Stmt::If(none, fail(format!("{} has a digit above 9", part.fields.get(id)?.name)), Vec::new()));
                }
                Source::Value(value, ty)
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
                    let why = format!("{} has no row for it", field.name);
                    before.push(Stmt::Take { name: name.clone(), ty: result, from: call, why });
                    Source::Value(Expr::Var(name), result)
                }
            }
            Input::Parameter(id) => Source::Value(Expr::Member("parameters".into(), self.parameter_member(id)), self.parameter_type()),
            Input::Quantity(id) => {
                let (call, ty, fails) = self.quantity_value(id)?;
                if fails {
                    let name = format!("{}_value", snake(&part.quantities.get(id)?.name));
                    before.push(Stmt::Take { name: name.clone(), ty, from: call, why: "a value it needs is at fault".into() });
                    Source::Value(Expr::Var(name), ty)
                } else {
                    Source::Value(call, ty)
                }
            }
            Input::Reading(_) => return None,
        })
    }

    fn frame_field(&self, frame: Option<FrameId>, id: crate::model::ids::FieldId) -> Option<(Expr, Ty)> {
        let frame = frame?;
        let field = self.part.fields.get(id)?;
        let Type::Num(ty) = self.stored(&field.layout) else { return None };
        Some((Expr::Member(self.frame_var(frame), self.field_member(frame, id)), ty))
    }

    /// A condition as an expression; where it takes statements, they become a function.
    fn holds_with(
        &mut self,
        formula: &Formula,
        frame: Option<FrameId>,
        name: &str,
        known: &[Value],
        outer: &mut Vec<Stmt>,
    ) -> (Expr, Takes) {
        let facts = self.facts_of(formula);
        let takes = self.takes_known(formula, frame, known);
        let Ready { before, found } = self.ready(formula, frame, known);
        if before.is_empty()
            && let Some(expr) = condition(formula, &facts, &found)
        {
            return (expr, takes);
        }
        let mut params = self.params(&takes, frame);
        params.extend(self.handed(formula).iter().filter_map(|used| self.value_param(*used, known)));
        let given: Vec<String> = params.iter().map(|param| param.name.clone()).collect();
        let (statements, may_fail) = body(formula, &facts, &found, &given);
        let fails = may_fail || before.iter().any(can_fail);
        let statements: Vec<Stmt> = before.into_iter().chain(statements).map(|statement| as_truth(statement, formula.ty)).collect();
        self.note_curves(formula);
        let name = self.prefix.function(name);
        let mut doc = vec!["Whether this holds:".to_owned()];
        doc.extend(self.formula_text(formula));
        let gives = if fails { Gives::Maybe(Ty::Bool) } else { Gives::Type(Type::Num(Ty::Bool)) };
        let call = Self::call(&name, &params);
        let of = Self::home(&params);
        let variable = name.rust.clone();
        self.module.functions.push(Function { doc, public: false, name, of, params, gives, body: statements });
        if !fails {
            return (call, takes);
        }
        // A condition without a value does not hold.
        outer.push(Stmt::Try(variable.clone(), Ty::Bool, call));
        (Expr::And(Expr::IsThere(variable.clone()).boxed(), Expr::There(variable).boxed()), takes)
    }

    /// The function of a reading: with the values it uses as parameters where there are some, and then one for all others to call.
    fn reading(&mut self, frame_id: FrameId, id: ReadingId, values: &[Value]) -> Option<(Name, Vec<Param>, Vec<ReadingId>)> {
        let part = self.part;
        let (frame, reading) = (part.frames.get(frame_id)?, part.readings.get(id)?);
        let value = values.iter().find(|value| value.reading == id)?.clone();
        let (mut statements, mut takes, mut uses) = (Vec::new(), value.takes.clone(), value.uses.clone());
        if let Some(counted) = frame
            .counted
            .as_ref()
            .map(|_| part.codes.of(&reading.codes).filter(|code| code.frame == frame_id).map(|code| code.last_byte()).max().unwrap_or(0))
        {
            takes.frames.insert(frame_id);
            let given = Expr::Member(self.frame_var(frame_id), "given_bytes".into());
            let absent = given.compare(Compare::LessEqual, Ty::U16, Expr::Int(counted as i128, Ty::U16));
            let none = self.none(Status::Absent);
            statements.push(Stmt::If(absent, vec![none], Vec::new()));
        }
        // Conditions in order: the first that holds decides.
        let mut conditions: Vec<(Expr, Status, Option<String>)> = Vec::new();
        for (index, one) in frame.status.iter().chain(&reading.status).enumerate() {
            let name = if index < frame.status.len() {
                format!("{}_condition_{}", frame.name, index + 1)
            } else {
                format!("{}_condition_{}", reading.name, index + 1 - frame.status.len())
            };
            if self.module.functions.iter().any(|function| function.name == self.prefix.function(&name)) {
                // Another reading of the frame has brought it already.
                let function = self.module.functions.iter().find(|function| function.name == self.prefix.function(&name)).cloned()?;
                let call = Self::call(&function.name, &function.params);
                takes.add(&self.takes_known(&one.formula, Some(frame_id), values));
                let expr = if matches!(function.gives, Gives::Maybe(_)) {
                    statements.push(Stmt::Try(function.name.rust.clone(), Ty::Bool, call));
                    Expr::And(Expr::IsThere(function.name.rust.clone()).boxed(), Expr::There(function.name.rust.clone()).boxed())
                } else {
                    call
                };
                conditions.push((expr, one.status, one.means.clone()));
                continue;
            }
            let (expr, taken) = self.holds_with(&one.formula, Some(frame_id), &name, values, &mut statements);
            takes.add(&taken);
            uses.extend(self.handed(&one.formula));
            conditions.push((expr, one.status, one.means.clone()));
        }
        let range = reading.range.as_ref().map(|range| (range.low.clone(), range.high.clone()));
        let mut ends = Vec::new();
        if let Some((low, high)) = &range {
            for (end, name) in [(low, "low"), (high, "high")] {
                ends.push(self.end(end, frame_id, &format!("{}_{name}", reading.name), values, &mut takes, &mut uses)?);
            }
        }
        uses.sort_unstable();
        uses.dedup();
        let mut params = self.params(&takes, Some(frame_id));
        params.extend(uses.iter().filter_map(|used| self.value_param(*used, values)));
        self.judge(reading, &value, conditions, range.as_ref().zip(Some(ends)), &mut statements);
        let public = uses.is_empty();
        let name = if public { self.prefix.function(&reading.name) } else { self.prefix.method(&reading.name, "judged") };
        let name = if public {
            self.give(&name, format!("reading {}", reading.name))
        } else {
            Name { rust: format!("{}_judged", snake(&reading.name)), ..name }
        };
        let doc = self.reading_doc(reading, public);
        let gives = Gives::Type(Type::Named(self.reading_type()));
        let of = Self::home(&params);
        self.module.functions.push(Function {
            doc,
            public,
            name: name.clone(),
            of,
            params: params.clone(),
            gives: gives.clone(),
            body: statements,
        });
        if !public {
            // For whoever asks for this one alone.
            let before = self.computed(&uses, values);
            let mut all = takes.clone();
            self.all_uses(&uses, values)
                .iter()
                .filter_map(|used| values.iter().find(|value| value.reading == *used))
                .for_each(|value| all.add(&value.takes));
            let outer = self.params(&all, Some(frame_id));
            let statements = before.into_iter().chain([Stmt::Return(Self::call(&name, &params))]).collect();
            let public_name = self.prefix.function(&reading.name);
            let public_name = self.give(&public_name, format!("reading {}", reading.name));
            let doc = self.reading_doc(reading, true);
            self.module.functions.push(Function {
                doc,
                public: true,
                name: public_name,
                of: Self::home(&outer),
                params: outer,
                gives,
                body: statements,
            });
        }
        Some((name, params, uses))
    }

    fn reading_doc(&self, reading: &Reading, public: bool) -> Vec<String> {
        if !public {
            return vec![format!("{} with its status, from the values that it uses.", capital(&said(&reading.name)))];
        }
        let mut doc = vec![format!("{} in {}{}.", capital(&said(&reading.name)), unit_text(&reading.unit), self.step_text(reading))];
        if let Some(means) = &reading.means {
            doc.extend([String::new(), capital(means)]);
        }
        if let Some((low, high)) = reading.fixed_range() {
            let what = if self.options.reals == Reals::Integer { "steps" } else { reading.unit.as_str() };
            doc.extend([String::new(), format!("Stated range: {low} to {high} {what}.")]);
        }
        if let Some(source) = self.source_text(&reading.name) {
            doc.extend([String::new(), format!("Source: {source}.")]);
        }
        doc
    }

    fn step_text(&self, reading: &Reading) -> String {
        match self.options.reals {
            Reals::Integer => {
                let id = self.part.readings.position(|other| other.name == reading.name && other.shown);
                let step = id.map_or(self.options.step, |id| self.options.step_of(id));
                let off = id.and_then(|id| self.errors.get(&id)).map_or(String::new(), |error| match error / step {
                    none if none < 1e-6 => "; exact".to_owned(),
                    steps => format!("; at most {:.2} steps from the exact value", (steps * 100.0).ceil() / 100.0),
                });
                format!(", in steps of {step}{off}")
            }
            _ => String::new(),
        }
    }

    /// The place in the datasheet that the sheet tells for a reading.
    fn source_text(&self, _name: &str) -> Option<String> {
        None
    }

    /// A reading without a value.
    fn none(&mut self, status: Status) -> Stmt {
        let (value, status) = (zero(self.real()), self.status(status));
        Stmt::Return(Expr::Reading(value.boxed(), status.boxed()))
    }

    /// An end of a stated range, as an expression of the type of readings.
    fn end(
        &mut self,
        end: &End,
        frame: FrameId,
        name: &str,
        values: &[Value],
        takes: &mut Takes,
        uses: &mut Vec<ReadingId>,
    ) -> Option<Option<(Expr, Ty, bool, Expr)>> {
        let End::Formula(formula) = end else { return Some(None) };
        let facts = self.facts_of(formula);
        takes.add(&self.takes_known(formula, Some(frame), values));
        uses.extend(self.handed(formula));
        let Ready { before, found } = self.ready(formula, Some(frame), values);
        if before.is_empty()
            && let Some(expr) = expression(formula, &facts, &found)
        {
            return Some(Some((expr.cast(formula.ty, self.real()), formula.ty, false, Expr::Bool(true))));
        }
        let own = self.takes_known(formula, Some(frame), values);
        let mut params = self.params(&own, Some(frame));
        params.extend(self.handed(formula).iter().filter_map(|used| self.value_param(*used, values)));
        let given: Vec<String> = params.iter().map(|param| param.name.clone()).collect();
        let (statements, may_fail) = body(formula, &facts, &found, &given);
        let fails = may_fail || before.iter().any(can_fail);
        let statements = before.into_iter().chain(statements).collect();
        self.note_curves(formula);
        let name = self.prefix.function(name);
        let mut doc = vec!["An end of the stated range:".to_owned()];
        doc.extend(self.formula_text(formula));
        let gives = if fails { Gives::Maybe(formula.ty) } else { Gives::Type(Type::Num(formula.ty)) };
        let call = Self::call(&name, &params);
        self.module.functions.push(Function {
            doc,
            public: false,
            of: Self::home(&params),
            name: name.clone(),
            params,
            gives,
            body: statements,
        });
        Some(Some((call, formula.ty, fails, Expr::Var(name.rust))))
    }

    /// The statements that judge a value: conditions, then the range, then whether there is a value at all.
    #[allow(clippy::type_complexity)]
    fn judge(
        &mut self,
        reading: &Reading,
        value: &Value,
        conditions: Vec<(Expr, Status, Option<String>)>,
        range: Option<(&(End, End), Vec<Option<(Expr, Ty, bool, Expr)>>)>,
        statements: &mut Vec<Stmt>,
    ) {
        let part = self.part;
        let facts = self.facts.get(value.reading).cloned().flatten().unwrap_or_else(Facts::unknown);
        let valued = conditions.iter().position(|(_, status, _)| status.has_value()).unwrap_or(conditions.len());
        let mut rest = conditions;
        let with_value = rest.split_off(valued);
        for (holds, status, means) in rest {
            statements.extend(means.map(Stmt::Comment));
            let none = self.none(status);
            statements.push(Stmt::If(holds, vec![none], Vec::new()));
        }
        let real = self.real();
        let out_of_range = range.as_ref().and_then(|((low, high), ends)| self.outside(value, &facts, (low, high), ends, statements));
        let varies = !with_value.is_empty() || out_of_range.is_some();
        let status = Expr::Var("status".into());
        if !with_value.is_empty() {
            statements.push(Stmt::Let {
                name: "status".into(),
                ty: Type::Named(self.status_type()),
                value: None,
                mutable: out_of_range.is_some(),
            });
            let ok = self.status(Status::Ok);
            let mut chain = vec![Stmt::Set(status.clone(), ok)];
            for (holds, one, means) in with_value.into_iter().rev() {
                let then = if one.has_value() { Stmt::Set(status.clone(), self.status(one)) } else { self.none(one) };
                let comment = means.map(Stmt::Comment);
                chain = vec![Stmt::If(holds, comment.into_iter().chain([then]).collect(), chain)];
            }
            statements.extend(chain);
        } else if varies {
            let ok = self.status(Status::Ok);
            statements.push(Stmt::Let { name: "status".into(), ty: Type::Named(self.status_type()), value: Some(ok), mutable: true });
        }
        let ok = self.status(Status::Ok);
        let is_ok = |status: &Expr| status.clone().compare(Compare::Equal, Ty::U8, ok.clone());
        let only_ok = statements.iter().all(|statement| !matches!(statement, Stmt::Let { name, value: None, .. } if name == "status"));
        // A code is compared before it is scaled, where that says the same.
        let number = if value.fails {
            let fault = self.none(Status::FormulaFault);
            statements.push(Stmt::Try("value".into(), value.ty, value.expr.clone()));
            statements.push(Stmt::If(Expr::Not(Expr::IsThere("value".into()).boxed()), vec![fault], Vec::new()));
            Expr::There("value".into())
        } else if out_of_range.is_some() {
            statements.push(Stmt::Let { name: "value".into(), ty: Type::Num(value.ty), value: Some(value.expr.clone()), mutable: false });
            Expr::Var("value".into())
        } else {
            value.expr.clone()
        };
        if let Some(outside) = out_of_range {
            let outside = outside(&number);
            let set = Stmt::Set(status.clone(), self.status(Status::OutOfRange));
            let holds = if only_ok { outside } else { Expr::And(is_ok(&status).boxed(), outside.boxed()) };
            statements.push(Stmt::If(holds, vec![set], Vec::new()));
        } else if let (Some(_), Some((low, high))) = (&reading.range, reading.fixed_range()) {
            let (least, most) = facts.result.to_f64();
            statements.push(Stmt::Comment(format!("proved: it stays within {least} to {most}, so {low} to {high} is never left")));
        }
        let _ = part;
        let number = number.cast(value.ty, real);
        let status = if varies { status } else { ok };
        statements.push(Stmt::Return(Expr::Reading(number.boxed(), status.boxed())));
    }

    /// Whether a value is outside of its stated range; `None` where it never is.
    #[allow(clippy::type_complexity)]
    fn outside(
        &self,
        value: &Value,
        facts: &Facts,
        (low, high): (&End, &End),
        ends: &[Option<(Expr, Ty, bool, Expr)>],
        statements: &mut Vec<Stmt>,
    ) -> Option<Box<dyn Fn(&Expr) -> Expr>> {
        let ty = value.ty;
        let bounds = facts.result;
        let fixed = |end: &End| if let End::Number(number) = end { Some(*number) } else { None };
        if let (Some(low), Some(high)) = (fixed(low), fixed(high)) {
            if let Some(test) = self.outside_by_code(value.reading, (low, high)) {
                let (low_text, high_text) = (low, high);
                statements
                    .push(Stmt::Comment(format!("the stated range is {low_text} to {high_text}; the code says as much as the value")));
                return Some(Box::new(move |_| test.clone()));
            }
            if ty.is_real() {
                // A float is compared with the nearest floats that mean the same.
                let (low, high) = if ty == Ty::F32 { (least_single(low), most_single(high)) } else { (low, high) };
                let (least, most) =
                    if let Interval::Real(least, most) = bounds { (least, most) } else { (f64::NEG_INFINITY, f64::INFINITY) };
                if least >= low && most <= high {
                    return None;
                }
                return Some(Box::new(move |value| {
                    Expr::Not(Expr::Within(ty, value.clone().boxed(), Expr::Real(low, ty).boxed(), Expr::Real(high, ty).boxed()).boxed())
                }));
            }
            let (low, high) = (low.ceil() as i128, high.floor() as i128);
            let (least, most) = if let Interval::Int(least, most) = bounds { (least, most) } else { ty.bounds()? };
            let below = (least < low).then_some(low);
            let above = (most > high).then_some(high);
            if below.is_none() && above.is_none() {
                return None;
            }
            return Some(Box::new(move |value| {
                if let (Some(low), Some(high)) = (below, above) {
                    return Expr::Not(
                        Expr::Within(ty, value.clone().boxed(), Expr::Int(low, ty).boxed(), Expr::Int(high, ty).boxed()).boxed(),
                    );
                }
                let under = below.map(|low| value.clone().compare(Compare::Less, ty, Expr::Int(low, ty)));
                let over = above.map(|high| value.clone().compare(Compare::Greater, ty, Expr::Int(high, ty)));
                match (under, over) {
                    (Some(under), Some(over)) => Expr::Or(under.boxed(), over.boxed()),
                    (under, over) => under.or(over).unwrap_or(Expr::Bool(false)),
                }
            }));
        }
        // Ends that follow from settings: one without a value lets nothing pass.
        let real = if ty.is_real() { ty } else { self.real() };
        let mut tests: Vec<(Option<Expr>, Expr, Compare)> = Vec::new();
        for ((end, known), op) in [low, high].into_iter().zip(ends).zip([Compare::GreaterEqual, Compare::LessEqual]) {
            match (end, known) {
                (End::Number(number), _) => tests.push((None, Expr::Real(*number, real), op)),
                (End::Formula(_), Some((call, end_ty, true, Expr::Var(name)))) => {
                    statements.push(Stmt::Try(name.clone(), *end_ty, call.clone()));
                    tests.push((Some(Expr::IsThere(name.clone())), Expr::There(name.clone()).cast(*end_ty, real), op));
                }
                (End::Formula(_), Some((call, end_ty, ..))) => {
                    tests.push((
                        None,
                        if *end_ty == real || end_ty.is_real() { call.clone() } else { call.clone().cast(*end_ty, real) },
                        op,
                    ));
                }
                (End::Formula(_), None) => {}
            }
        }
        Some(Box::new(move |value| {
            let one = |(there, end, op): &(Option<Expr>, Expr, Compare)| {
                let test = value.clone().cast(ty, real).compare(*op, real, end.clone());
                match there {
                    Some(there) => Expr::And(there.clone().boxed(), test.boxed()),
                    None => test,
                }
            };
            let inside = tests.iter().map(one).reduce(|one, other| Expr::And(one.boxed(), other.boxed())).unwrap_or(Expr::Bool(true));
            negated(inside)
        }))
    }

    /// Whether a reading of one narrow code is outside its range, told by the code: of all codes it is tried which are.
    fn outside_by_code(&self, id: ReadingId, (low, high): (f64, f64)) -> Option<Expr> {
        let part = self.part;
        let reading = part.readings.get(id)?;
        let mut all = inputs(&reading.formula);
        let (Some(Input::Code(code)), None) = (all.next(), all.next()) else { return None };
        let model = part.codes.get(code)?;
        let (least, most) = model.layout.form.bounds(model.layout.width());
        let narrow =
            model.layout.width() <= 16 && !model.ty.is_real() && model.range.is_none() && model.layout.form != crate::bits::form::Form::Bcd;
        if !narrow || !reading.formula.ty.is_real() {
            return None;
        }
        let mut eval = Eval::of_formula(part, &reading.formula);
        let mut inside = |number: i128| eval.value(&OneCode { part, code, number }).is_ok_and(|value| value >= low && value <= high);
        let first = (least..=most).find(|number| inside(*number))?;
        let last = (first..=most).take_while(|number| inside(*number)).last()?;
        if (last + 1..=most).any(&mut inside) {
            return None;
        }
        let Type::Num(ty) = self.stored(&model.layout) else { return None };
        let own = || Expr::Member(self.frame_var(model.frame), self.code_member(code));
        let number = |number: i128| Expr::Int(number, ty);
        Some(match (first > least, last < most) {
            (true, true) => Expr::Not(Expr::Within(ty, own().boxed(), number(first).boxed(), number(last).boxed()).boxed()),
            (true, false) => own().compare(Compare::Less, ty, number(first)),
            (false, true) => own().compare(Compare::Greater, ty, number(last)),
            (false, false) => return None,
        })
    }

    /// The readings behind these, in order, and these.
    fn all_uses(&self, uses: &[ReadingId], values: &[Value]) -> Vec<ReadingId> {
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
    fn computed(&self, uses: &[ReadingId], values: &[Value]) -> Vec<Stmt> {
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

    /// All readings of a frame in one go: what several use is computed once.
    fn together(&mut self, frame: FrameId, all: &[(ReadingId, Name, Vec<Param>, Vec<ReadingId>)], values: &[Value]) {
        let part = self.part;
        let frame_name = self.frame_name(frame).to_owned();
        let name = self.prefix.ty(&format!("{frame_name}_readings"));
        let name = self.give(&name, format!("the readings of frame {frame_name}"));
        let reading_ty = Type::Named(self.reading_type());
        let none = Expr::Reading(zero(self.real()).boxed(), self.status(Status::Ok).boxed());
        let member = |id: &ReadingId| {
            let reading = part.readings.get(*id)?;
            let doc = format!("in {}{}", unit_text(&reading.unit), self.step_text(reading));
            Some(Member { doc, name: snake(&reading.name), ty: reading_ty.clone(), default: none.clone() })
        };
        let members = all.iter().filter_map(|(id, ..)| member(id)).collect();
        let doc = vec![format!("The readings that {frame_name} brings.")];
        self.module.structs.push(Struct { doc, name: name.clone(), members });
        let mut takes = Takes::default();
        let uses: Vec<ReadingId> = all.iter().flat_map(|(.., uses)| uses.iter().copied()).collect();
        let behind = self.all_uses(&uses, values);
        behind.iter().filter_map(|id| values.iter().find(|value| value.reading == *id)).for_each(|value| takes.add(&value.takes));
        for (.., params, _) in all {
            for param in params {
                takes.settings |= param.name == "settings" && param.ty == Type::Named(self.settings_type());
                takes.parameters |= param.name == "parameters" && param.ty == Type::Named(self.parameters_type());
                let of = part.frames.ids().find(|id| Type::Named(self.frame_type(*id)) == param.ty);
                takes.frames.extend(of);
            }
        }
        let params = self.params(&takes, Some(frame));
        let mut body = self.computed(&uses, values);
        for (id, call, params, _) in all {
            let Some(reading) = part.readings.get(*id) else { continue };
            body.push(Stmt::Set(Expr::Own("readings".into(), snake(&reading.name)), Self::call(call, params)));
        }
        body.push(Stmt::Return(Expr::Var("readings".into())));
        let method = self.prefix.method(&frame_name, "readings");
        let method = self.give(&method, format!("the readings of frame {frame_name}"));
        let doc = vec![format!("All readings of {frame_name}.")];
        let of = Self::home(&params);
        let tolerance = |id: ReadingId| {
            let last = if self.real() == Ty::F32 { f64::from(f32::EPSILON) } else { f64::EPSILON };
            let (low, high) = self.facts.get(id).cloned().flatten().map_or((0.0, 0.0), |facts| facts.result.to_f64());
            let largest = low.abs().max(high.abs());
            // Some units of the last digit of the largest number on the way.
            8.0 * last * if largest.is_finite() { largest } else { 1e6 }
        };
        let inexact = |id: ReadingId| {
            part.readings.of(&part.needed(id)).any(|reading| reading.formula.calls().into_iter().any(|func| !func.is_exact()))
        };
        let members = all
            .iter()
            .filter_map(|(id, ..)| Some((*id, snake(&part.readings.get(*id)?.name), inexact(*id).then(|| tolerance(*id)))))
            .collect();
        if let Some(calls) = self.module.frames.iter_mut().find(|calls| calls.frame == frame) {
            calls.readings = Some((method.clone(), name.clone(), params.clone()));
            calls.members = members;
        }
        self.module.functions.push(Function { doc, public: true, name: method, of, params, gives: Gives::Type(Type::Named(name)), body });
    }
}

/// One code, and nothing else.
pub(super) struct OneCode<'a> {
    pub(super) part: &'a Sheet,
    pub(super) code: CodeId,
    pub(super) number: i128,
}

impl Leaves for OneCode<'_> {
    fn part(&self) -> &Sheet {
        self.part
    }

    fn field(&self, _: FieldId) -> Option<i128> {
        None
    }

    fn code(&self, code: CodeId) -> Option<Number> {
        let ty = self.part.codes.get(code)?.ty;
        (code == self.code).then_some(Number::Int(self.number, ty))
    }

    fn parameter(&self, _: ParameterId) -> Option<f64> {
        None
    }
}

fn frame_name(part: &crate::model::part::Sheet, id: FrameId) -> &str {
    part.frames.get(id).map_or("", |frame| frame.name.as_str())
}

/// The readings that a formula uses itself.
fn direct(formula: &Formula) -> Vec<ReadingId> {
    inputs(formula).filter_map(|input| if let Input::Reading(id) = input { Some(id) } else { None }).collect()
}

/// Whether a statement, or one within it, may end the function without a value.
pub(super) fn can_fail(statement: &Stmt) -> bool {
    match statement {
        Stmt::Fail(_) | Stmt::Checked { .. } | Stmt::Take { .. } => true,
        Stmt::If(_, then, otherwise) => then.iter().chain(otherwise).any(can_fail),
        Stmt::EachByte(.., body) | Stmt::Times(_, body) => body.iter().any(can_fail),
        _ => false,
    }
}

/// What a condition's formula returns, as truth.
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

/// A unit in words.
pub(super) fn unit_text(unit: &str) -> String {
    match unit {
        "1" | "" => "parts of one".into(),
        unit => unit.to_owned(),
    }
}

/// A name as words.
pub(super) fn said(name: &str) -> String {
    name.replace('_', " ")
}

/// With a capital at the beginning.
pub(super) fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or(String::new(), |first| first.to_uppercase().chain(chars).collect())
}

/// The least float that is not below a double.
fn least_single(value: f64) -> f64 {
    let near = value as f32;
    f64::from(if f64::from(near) < value { near.next_up() } else { near })
}

/// The greatest float that is not above a double.
fn most_single(value: f64) -> f64 {
    let near = value as f32;
    f64::from(if f64::from(near) > value { near.next_down() } else { near })
}

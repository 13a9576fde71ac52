//! Readings as functions: their values, and all of a frame in one go.

use std::collections::{BTreeMap, BTreeSet};

use super::Reals;
use super::build::{Build, Takes};
use super::code::{Expr, Function, Gives, Member, Name, Param, Role, Stmt, Struct, Type};
use super::formula::{body, expression, zero};
use super::inputs::{Holds, Value, direct};
use super::names::snake;
use super::truths::negated;
use crate::formula::operators::Compare;
use crate::formula::typed::{ExprKind, Formula, each};
use crate::ground::number::Ty;
use crate::model::frame::Code;
use crate::model::ids::{CodeId, FrameId, ReadingId};
use crate::model::input::{Input, inputs};
use crate::model::part::Sheet;
use crate::model::reading::Reading;
use crate::model::status::Status;
use crate::plan::frame::ends;

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
        // A value with a single use is called there; a value with several uses is computed once and passed.
        let mut users: BTreeMap<ReadingId, usize> = BTreeMap::new();
        for reading in part.readings.of(&wanted).flat_map(|reading| reading.formulas()).chain(self.of_frames(id, &wanted)) {
            self.users_in(reading, &mut users);
        }
        for behind in needed.iter().chain(&also).filter(|behind| !wanted.contains(behind)).collect::<BTreeSet<_>>() {
            part.readings.get(*behind).into_iter().for_each(|reading| self.users_in(&reading.formula, &mut users));
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

    /// Counts the uses of readings in a formula. Short formulas count once: repeating them is cheap.
    fn users_in(&self, formula: &Formula, users: &mut BTreeMap<ReadingId, usize>) {
        for used in direct(formula) {
            let mut times = 0;
            let key = Input::Reading(used).key();
            each(&formula.body, &mut |expr| times += usize::from(matches!(expr.kind, ExprKind::Input(input) if input == key)));
            let short = self.part.readings.get(used).is_some_and(|reading| reading.formula.expressions < 3);
            *users.entry(used).or_default() += if short { 1 } else { times };
        }
    }

    /// The conditions of frames for these readings, each once.
    fn of_frames(&self, frame: FrameId, readings: &[ReadingId]) -> Vec<&Formula> {
        let all = readings.iter().flat_map(|id| self.part.conditions(Some(frame), *id));
        let mut seen = BTreeSet::new();
        let once = all.filter_map(|(of, condition)| seen.insert((of?, condition.span().start)).then_some(&condition.formula));
        once.collect()
    }

    /// The function that gives a reading's bare value, where it takes more than an expression.
    pub(super) fn value(&mut self, frame: FrameId, id: ReadingId, known: &[Value]) -> Option<Value> {
        let part = self.part;
        let reading = part.readings.get(id)?;
        let facts = self.facts.get(id)?.clone()?;
        let formula = &reading.formula;
        let uses = self.handed(formula, known);
        // Of a field that the frame holds, it is the frame's.
        let held = part.inputs_behind(inputs(formula)).iter().filter_map(|input| input.field()).any(|field| self.holds(Some(frame), field));
        let of = Some(frame).filter(|_| held);
        let takes = self.takes_known(formula, of, known);
        let found = self.ready(formula, of, known);
        if let Some(expr) = expression(formula, &facts, &found) {
            return Some(Value { reading: id, ty: formula.ty, fails: false, expr, takes, uses });
        }
        let mut params = self.params(&takes, of);
        params.extend(uses.iter().filter_map(|used| self.value_param(*used, known)));
        let given: Vec<String> = params.iter().map(|param| param.name.clone()).collect();
        let (statements, fails) = body(formula, &facts, &found, &given);
        let words = if held { format!("{}_{}", reading.name, frame_name(part, frame)) } else { reading.name.clone() };
        // A register of that name has a value of its own.
        let of_register = part.registers.iter().any(|register| snake(&register.name) == snake(&words));
        let name = self.prefix.function(&format!("{words}_{}", if of_register { "computed" } else { "value" }));
        let expr = Self::call(&name, &params);
        if self.module.functions.iter().any(|function| function.name == name) {
            return Some(Value { reading: id, ty: formula.ty, fails, expr, takes, uses });
        }
        let what = if reading.is_measured() {
            format!("The value of {} in {}", reading.name, unit_text(&reading.unit))
        } else {
            format!("The intermediate value {}", reading.name)
        };
        let mut doc = vec![format!("{what}{}", if fails { ", or none:" } else { ":" })];
        doc.extend(self.formula_text(formula));
        let gives = if fails { Gives::Maybe(formula.ty) } else { Gives::Type(Type::Num(formula.ty)) };
        let of = Self::home(&params);
        self.module.functions.push(Function { doc, public: false, name, of, params, gives, body: statements });
        Some(Value { reading: id, ty: formula.ty, fails, expr, takes, uses })
    }

    /// A formula as in the sheet, as lines of a comment.
    pub(super) fn formula_text(&self, formula: &Formula) -> Vec<String> {
        let typed = self.part.typed(formula);
        let lines: Vec<&str> = typed.lines().map(str::trim_end).filter(|line| !line.trim().is_empty()).collect();
        // The first line follows the quotes.
        let indent = lines.iter().skip(1).map(|line| line.len() - line.trim_start().len()).min().unwrap_or(0);
        let text = |(index, line): (usize, &&str)| {
            format!("    {}", if index == 0 { line.trim() } else { line.get(indent..).unwrap_or(line.trim()) })
        };
        lines.iter().enumerate().map(text).collect()
    }

    /// The function of a reading: with the values it uses as parameters where there are some, and then one for all others to call.
    pub(super) fn reading(&mut self, frame_id: FrameId, id: ReadingId, values: &[Value]) -> Option<(Name, Vec<Param>, Vec<ReadingId>)> {
        let part = self.part;
        let reading = part.readings.get(id)?;
        let value = values.iter().find(|value| value.reading == id)?.clone();
        let (mut statements, mut takes, mut uses) = (Vec::new(), value.takes.clone(), value.uses.clone());
        // A frame may be too short for a code; the caller checks for missing frames.
        let others = reading.frames.iter().copied().filter(|other| *other != frame_id);
        for id in std::iter::once(frame_id).chain(others) {
            if part.frames.get(id).is_none_or(|frame| frame.counted.is_none()) {
                continue;
            }
            let last = last_byte(part, &reading.codes, id);
            takes.frames.insert(id);
            let none = self.none(Status::Absent);
            statements.push(Stmt::If(self.ends_before(id, last), vec![none], Vec::new()));
        }
        // Conditions in order: the first that holds decides.
        let mut conditions: Vec<(Expr, Status, Option<String>)> = Vec::new();
        let mut faults: Vec<Expr> = Vec::new();
        for (of, one) in part.conditions(Some(frame_id), id) {
            let list = of.map_or(&reading.status, |of| &part.frames[of].status);
            let number = list.iter().position(|known| known.span() == one.span()).map_or(0, |at| at + 1);
            let of = of.map_or(reading.name.as_str(), |of| self.frame_name(of));
            let name = format!("{of}_condition_{number}");
            if self.module.functions.iter().any(|function| function.name == self.prefix.function(&name)) {
                // Another reading of the frame has brought it already.
                let function = self.module.functions.iter().find(|function| function.name == self.prefix.function(&name)).cloned()?;
                let call = Self::call(&function.name, &function.params);
                takes.add(&self.takes_known(&one.formula, Some(frame_id), values));
                uses.extend(self.handed(&one.formula, values));
                let holds = if matches!(function.gives, Gives::Maybe(_)) {
                    statements.push(Stmt::Try(function.name.rust.clone(), Ty::Bool, call));
                    Holds::unless_at_fault(function.name.rust.clone())
                } else {
                    Holds::always(call)
                };
                faults.extend(holds.fault.map(|fault| self.where_there(&one.formula, reading, &mut takes, fault)));
                conditions.push((self.where_there(&one.formula, reading, &mut takes, holds.holds), one.status, one.means.clone()));
                continue;
            }
            let (holds, taken) = self.holds_with(&one.formula, Some(frame_id), &name, values, &mut statements);
            takes.add(&taken);
            uses.extend(self.handed(&one.formula, values));
            faults.extend(holds.fault.map(|fault| self.where_there(&one.formula, reading, &mut takes, fault)));
            conditions.push((self.where_there(&one.formula, reading, &mut takes, holds.holds), one.status, one.means.clone()));
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
        self.judge(reading, &value, (conditions, faults), range.as_ref().zip(Some(ends)), &mut statements);
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
            // For callers of this reading alone.
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

    /// Whether a frame has no more than these bytes.
    fn ends_before(&self, frame: FrameId, last: usize) -> Expr {
        let given = Expr::Member(self.frame_var(frame), "given_bytes".into());
        given.compare(Compare::LessEqual, Ty::U16, Expr::Int(last as i128, Ty::U16))
    }

    /// A condition of a reading, which does not hold where a frame ends before a code that it takes.
    fn where_there(&self, formula: &Formula, reading: &Reading, takes: &mut Takes, mut holds: Expr) -> Expr {
        let part = self.part;
        for (frame, last) in ends(part, formula) {
            // Without the reading's own codes this is not asked.
            if last > last_byte(part, &reading.codes, frame) {
                takes.frames.insert(frame);
                let there = negated(self.ends_before(frame, last));
                holds = match holds {
                    Expr::Bool(true) => there,
                    Expr::Bool(false) => return Expr::Bool(false),
                    holds => Expr::And(there.boxed(), holds.boxed()),
                };
            }
        }
        holds
    }

    fn reading_doc(&self, reading: &Reading, public: bool) -> Vec<String> {
        if !public {
            return vec![format!("{} with its status, from other values.", capital(&said(&reading.name)))];
        }
        let mut doc = vec![format!("{} in {}{}.", capital(&said(&reading.name)), unit_text(&reading.unit), self.step_text(reading))];
        if let Some(means) = &reading.means {
            doc.extend([String::new(), capital(means)]);
        }
        if let Some((low, high)) = reading.fixed_range() {
            let what = if self.options.reals == Reals::Integer { "steps" } else { reading.unit.as_str() };
            doc.extend([String::new(), format!("Stated range: {low} to {high} {what}.")]);
        }
        doc.extend(cited(reading.source()));
        doc
    }

    fn step_text(&self, reading: &Reading) -> String {
        match self.options.reals {
            Reals::Integer => {
                let id = self.part.readings.position(|other| other.name == reading.name && other.is_measured());
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
        let doc = vec![format!("Readings of {frame_name}.")];
        self.module.structs.push(Struct { role: Role::Readings, doc, name: name.clone(), members });
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
        let gives = Gives::Type(Type::Named(name.clone()));
        self.module.functions.push(Function { doc, public: true, name: method.clone(), of, params: params.clone(), gives, body });
        self.decode(frame, &name, method, &params);
    }

    /// Bytes to readings in one call.
    fn decode(&mut self, frame: FrameId, readings: &Name, together: Name, params: &[Param]) {
        let Some(calls) = self.module.frames.iter().find(|calls| calls.frame == frame) else { return };
        let (var, ty, unpack) = (calls.var.clone(), calls.ty.clone(), calls.unpack.clone());
        let own = params.first().is_some_and(|param| param.ty == Type::Named(ty.clone()));
        if !own || params.iter().any(|param| matches!(param.ty, Type::Maybe(_))) {
            return;
        }
        let Some(unpacking) = self.module.functions.iter().find(|function| function.name == unpack) else { return };
        let given = unpacking.params.clone();
        let names = |list: &[Param]| list.iter().map(|param| param.name.clone()).collect();
        let (unpack, readings_of) = ((unpack, names(&given)), (together, names(params)));
        let frame_name = self.frame_name(frame).to_owned();
        let method = self.prefix.method(&frame_name, "decode");
        let method = self.give(&method, format!("decoding frame {frame_name}"));
        let others = params.iter().filter(|param| param.ty != Type::Named(ty.clone())).cloned();
        let function = Function {
            doc: vec![format!("Decodes the bytes of {frame_name}: unpacks them and computes all readings.")],
            public: true,
            name: method,
            of: Some(readings.clone()),
            params: given.into_iter().chain(others).collect(),
            gives: Gives::MaybeStruct(readings.clone(), Role::Readings),
            body: vec![Stmt::Decode { var, frame: ty, unpack, readings: readings_of }],
        };
        self.module.functions.push(function);
    }
}

fn frame_name(part: &crate::model::part::Sheet, id: FrameId) -> &str {
    part.frames[id].name.as_str()
}

/// Lines of documentation that tell where the datasheet says so.
pub(super) fn cited(source: Option<&str>) -> impl Iterator<Item = String> {
    source.into_iter().flat_map(|source| [String::new(), format!("Datasheet: {}.", source.trim().trim_end_matches('.'))])
}

/// Source in the datasheet, after a line.
pub(super) fn beside(source: Option<&str>) -> String {
    source.map_or(String::new(), |source| format!(" ({})", source.trim()))
}

/// A unit in words.
pub(super) fn unit_text(unit: &str) -> String {
    match unit {
        "1" | "" => "units of 1".into(),
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

/// The last byte of a frame that some codes take.
fn last_byte(part: &Sheet, codes: &[CodeId], frame: FrameId) -> usize {
    part.codes.of(codes).filter(|code| code.frame == frame).map(Code::last_byte).max().unwrap_or(0)
}

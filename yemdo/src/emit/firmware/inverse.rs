//! Quantities the way back: in closed form, by halving, or by a bounded search.

use super::bits::pieces;
use super::build::Build;
use super::code::{Enum, Expr, Function, Gives, Name, Param, Pass, Stmt, Type};
use super::names::snake;
use super::readings::{said, unit_text};
use crate::formula::operators::{Arith, Compare};
use crate::ground::number::Ty;
use crate::model::ids::{FieldId, QuantityId};
use crate::model::input::{Input, inputs};
use crate::model::registers::Field;
use crate::model::state::State;
use crate::model::value::{Eval, Present};

impl Build<'_> {
    /// The way back, from a value to codes: in closed form where the value is linear in a field, by halving where it goes one way, and
    /// else by a search.
    pub(super) fn set_quantity(&mut self, id: QuantityId, get_fails: bool) {
        let part = self.part;
        let Some(quantity) = part.quantities.get(id) else { return };
        let fields: Vec<(FieldId, &Field)> = quantity.moves.iter().filter_map(|field| Some((*field, part.fields.get(*field)?))).collect();
        let Some(way) = self.way(id, get_fails) else { return };
        if let [(moved, field)] = fields.as_slice()
            && let Some((line, rising)) = shape(self, id, *moved)
        {
            match line.filter(|_| way.real.is_real()) {
                Some(line) => self.closed(&way, (*moved, field), line),
                None => self.halving(&way, (*moved, field), rising),
            }
        } else if !self.search(&way, &fields) {
            self.module.notes.push(format!(
                "quantity {} has no setter: set its fields, {}",
                quantity.name,
                fields.iter().map(|(_, field)| field.name.as_str()).collect::<Vec<_>>().join(" and ")
            ));
        }
    }

    /// What all ways back have in common.
    pub(super) fn way(&self, id: QuantityId, get_fails: bool) -> Option<Way> {
        let quantity = self.part.quantities.get(id)?;
        let real = self.real();
        let mut params = self.params(&self.quantity_takes(id), None);
        let get = Name { rust: snake(&quantity.name), ..self.prefix.function(&format!("get_{}", quantity.name)) };
        let get = Expr::Method(get, params.iter().map(|param| Expr::Var(param.name.clone())).collect());
        params.iter_mut().filter(|param| param.name == "settings").for_each(|param| param.pass = Pass::Change);
        params.insert(1.min(params.len()), Param { name: "value".into(), ty: Type::Num(real), pass: Pass::Value });
        Some(Way { id, params, real, get, get_fails })
    }

    /// A setter of a quantity, or a helper of it.
    pub(super) fn setter(&mut self, way: &Way, public: bool, doc: Vec<String>, body: Vec<Stmt>) -> Name {
        let name = self.part.quantities[way.id].name.as_str();
        let given = self.prefix.function(&format!("{}_{name}", if public { "set" } else { "near" }));
        if public {
            self.give(&given, format!("setting quantity {name}"));
        }
        let function = Function {
            doc,
            public,
            name: given.clone(),
            of: Some(self.settings_type()),
            params: way.params.clone(),
            gives: Gives::Type(Type::Num(Ty::Bool)),
            body,
        };
        self.module.functions.push(function);
        given
    }

    /// A statement that sets a field to a code that it can have.
    pub(super) fn set_code(&self, (moved, field): (FieldId, &Field), code: Expr) -> Stmt {
        let stored = self.field_code_type(moved);
        let set = self.prefix.function(&format!("set_{}", self.field_words(field)));
        let code = match self.enum_of(field) {
            // By its name, where that is known.
            Some(name) => match (&code, self.module.enums.iter().find(|known| known.name == name)) {
                (Expr::Int(number, _), Some(Enum { values, .. })) => match values.iter().find(|(_, code, _)| code == number) {
                    Some((named, ..)) => Expr::Value(name, named.clone()),
                    None => Expr::FromCode(name, code.boxed()),
                },
                _ => Expr::FromCode(name, code.boxed()),
            },
            None if self.stored(&field.layout) == Type::Num(Ty::Bool) => code.compare(Compare::NotEqual, stored, Expr::Int(0, stored)),
            None => code,
        };
        let call = Expr::Method(set, vec![Expr::Var("settings".into()), code]);
        let narrow = stored.bounds().unwrap_or((0, 0)) != field.bounds() && self.stored(&field.layout) != Type::Num(Ty::Bool);
        if narrow { Stmt::Ignore(call) } else { Stmt::Do(call) }
    }

    /// Away from where another field has a part in it, the inverse is written down.
    fn closed(&mut self, way: &Way, (moved, field): (FieldId, &Field), (zero, step): (f64, f64)) {
        let real = way.real;
        let (low, high) = field.bounds();
        let (unit, mut doc) = self.setter_doc(way, &[field]);
        doc.push(format!("One code is {step} {unit}. Returns `false` and sets nothing if the value is out of range."));
        let number = |value: f64| Expr::Real(if real == Ty::F32 { f64::from(value as f32) } else { value }, real);
        let wanted = Expr::Var("value".into());
        let above = if zero == 0.0 { wanted } else { Expr::Arith(Arith::Sub, real, wanted.boxed(), number(zero).boxed()) };
        let code = Expr::Arith(Arith::Div, real, above.boxed(), number(step).boxed());
        let own = || Expr::Var("code".into());
        let inside = Expr::Within(real, own().boxed(), number(low as f64 - 0.5).boxed(), number(high as f64 + 0.5).boxed());
        let wide = if high > i128::from(i32::MAX) { Ty::I64 } else { Ty::I32 };
        let half = Expr::Cond(own().compare(Compare::Less, real, number(0.0)).boxed(), number(-0.5).boxed(), number(0.5).boxed());
        let rounded =
            Expr::Cast { from: real, to: wide, fits: true, value: Expr::Arith(Arith::Add, real, own().boxed(), half.boxed()).boxed() };
        // Half a code beyond an end is that end.
        let clamped = Expr::Clamp(Expr::Var("rounded".into()).boxed(), Expr::Int(low, wide).boxed(), Expr::Int(high, wide).boxed());
        let code_of = Expr::Cast { from: wide, to: self.field_code_type(moved), fits: true, value: Expr::Var("nearest".into()).boxed() };
        let variable =
            |name: &str, ty: Ty, value: Expr| Stmt::Let { name: name.into(), ty: Type::Num(ty), value: Some(value), mutable: false };
        let body = vec![
            variable("code", real, code),
            Stmt::If(Expr::Not(inside.boxed()), vec![Stmt::Return(Expr::Bool(false))], Vec::new()),
            variable("rounded", wide, rounded),
            variable("nearest", wide, clamped),
            self.set_code((moved, field), code_of),
            Stmt::Return(Expr::Bool(true)),
        ];
        self.setter(way, true, doc, body);
    }

    pub(super) fn setter_doc(&self, way: &Way, fields: &[&Field]) -> (String, Vec<String>) {
        let (name, unit) = self.part.quantities.get(way.id).map_or(("", ""), |quantity| (quantity.name.as_str(), quantity.unit.as_str()));
        let names: Vec<&str> = fields.iter().map(|field| field.name.as_str()).collect();
        let line = format!("Sets {} to the nearest possible value, in {}, by {}.", said(name), unit_text(unit), names.join(" and "));
        (unit.to_owned(), vec![line, String::new()])
    }

    pub(super) fn halving(&mut self, way: &Way, field: (FieldId, &Field), rising: bool) {
        let (_, mut doc) = self.setter_doc(way, &[field.1]);
        doc.push("Found by bisection. Out of range, nothing is set and `false` is returned.".into());
        let (mut body, restore) = self.saved(&[field.1]);
        let back = || restore.iter().cloned().chain([Stmt::Return(Expr::Bool(false))]).collect::<Vec<_>>();
        body.extend(self.halved(way, field, rising, true, &back));
        body.push(Stmt::Return(Expr::Bool(true)));
        self.setter(way, true, doc, body);
    }

    /// Statements that set a field by halving; `refuse` for values beyond the ends.
    pub(super) fn halved(
        &self,
        way: &Way,
        field: (FieldId, &Field),
        rising: bool,
        refuse: bool,
        back: &dyn Fn() -> Vec<Stmt>,
    ) -> Vec<Stmt> {
        let real = way.real;
        let (low, high) = field.1.bounds();
        let (wide, stored) = (codes_in(field.1), self.field_code_type(field.0));
        let at = |name: &str| Expr::Var(name.into());
        let variable = |name: &str, value: Expr, mutable| Stmt::Let { name: name.into(), ty: Type::Num(wide), value: Some(value), mutable };
        let set = |name: &str| self.set_code(field, Expr::Cast { from: wide, to: stored, fits: true, value: at(name).boxed() });
        let value_of = |name: &str, into: &str| std::iter::once(set(name)).chain(way.gets(into, back())).collect::<Vec<_>>();
        let got = |name: &str| way.got(name);
        let mut body = vec![variable("low", Expr::Int(low, wide), true), variable("high", Expr::Int(high, wide), true)];
        if refuse {
            body.extend(value_of("low", "first"));
            body.extend(value_of("high", "last"));
            let (under, over) = if rising { ("first", "last") } else { ("last", "first") };
            let outside = Expr::Not(Expr::Within(real, at("value").boxed(), got(under).boxed(), got(over).boxed()).boxed());
            body.push(Stmt::If(outside, back(), Vec::new()));
        }
        let minus = |one: Expr, other: Expr| Expr::Arith(Arith::Sub, wide, one.boxed(), other.boxed());
        let half = Expr::Arith(Arith::Div, wide, minus(at("high"), at("low")).boxed(), Expr::Int(2, wide).boxed());
        let middle = Expr::Arith(Arith::Add, wide, at("low").boxed(), half.boxed());
        let mut round = vec![variable("middle", middle, false)];
        round.extend(value_of("middle", "there"));
        let before = got("there").compare(if rising { Compare::Less } else { Compare::Greater }, real, at("value"));
        round.push(Stmt::If(before, vec![Stmt::Set(at("low"), at("middle"))], vec![Stmt::Set(at("high"), at("middle"))]));
        body.push(Stmt::Times(field.1.layout.width(), round));
        // One of two neighbours.
        body.extend(value_of("low", "one"));
        body.extend(value_of("high", "other"));
        let off = |from: Expr, to: Expr| way.minus(to, from);
        let nearer = if rising {
            off(got("one"), at("value")).compare(Compare::LessEqual, way.wide(), off(at("value"), got("other")))
        } else {
            off(at("value"), got("one")).compare(Compare::LessEqual, way.wide(), off(got("other"), at("value")))
        };
        body.push(Stmt::If(nearer, vec![set("low")], Vec::new()));
        body
    }

    /// Statements that remember the members that hold fields, and those that restore them.
    pub(super) fn saved(&self, fields: &[&Field]) -> (Vec<Stmt>, Vec<Stmt>) {
        let mut members: Vec<(String, Ty)> =
            fields.iter().flat_map(|field| pieces(self, field)).map(|piece| (piece.member, piece.ty)).collect();
        let ids = self.part.fields.entries().filter(|(_, field)| fields.iter().any(|known| std::ptr::eq(*known, *field))).map(|(id, _)| id);
        members.extend(ids.flat_map(|id| self.flags_of(id)).map(|(member, ty, _)| (member, ty)));
        members.dedup();
        let one = |(member, ty): (String, Ty)| {
            let name = format!("{member}_before");
            let member = Expr::Member("settings".into(), member);
            let keep = Stmt::Let { name: name.clone(), ty: Type::Num(ty), value: Some(member.clone()), mutable: false };
            (keep, Stmt::Set(member, Expr::Var(name)))
        };
        members.into_iter().map(one).unzip()
    }
}

/// A quantity whose setter is made.
pub(super) struct Way {
    pub(super) id: QuantityId,
    pub(super) params: Vec<Param>,
    pub(super) real: Ty,
    /// The call that gives its value.
    pub(super) get: Expr,
    pub(super) get_fails: bool,
}

impl Way {
    /// Present value as a variable, with statements for a missing one.
    fn gets(&self, into: &str, without: Vec<Stmt>) -> Vec<Stmt> {
        if self.get_fails {
            let none = Stmt::If(Expr::Not(Expr::IsThere(into.into()).boxed()), without, Vec::new());
            return vec![Stmt::Try(into.into(), self.real, self.get.clone()), none];
        }
        vec![Stmt::Let { name: into.into(), ty: Type::Num(self.real), value: Some(self.get.clone()), mutable: false }]
    }

    /// Present value as a variable, with statements for both cases.
    pub(super) fn with(&self, into: &str, then: Vec<Stmt>) -> Vec<Stmt> {
        if self.get_fails {
            return vec![Stmt::Try(into.into(), self.real, self.get.clone()), Stmt::If(Expr::IsThere(into.into()), then, Vec::new())];
        }
        let own = Stmt::Let { name: into.into(), ty: Type::Num(self.real), value: Some(self.get.clone()), mutable: false };
        std::iter::once(own).chain(then).collect()
    }

    pub(super) fn got(&self, name: &str) -> Expr {
        if self.get_fails { Expr::There(name.into()) } else { Expr::Var(name.into()) }
    }

    /// The type of differences.
    pub(super) fn wide(&self) -> Ty {
        if self.real.is_real() { self.real } else { Ty::I64 }
    }

    pub(super) fn minus(&self, one: Expr, other: Expr) -> Expr {
        let wide = self.wide();
        Expr::Arith(Arith::Sub, wide, one.cast(self.real, wide).boxed(), other.cast(self.real, wide).boxed())
    }
}

/// The type in which the codes of a field are counted.
pub(super) fn codes_in(field: &Field) -> Ty {
    let (low, high) = field.bounds();
    if high > i128::from(i32::MAX) || low < i128::from(i32::MIN) { Ty::I64 } else { Ty::I32 }
}

/// How a quantity follows from a field: the value at code 0 and the step, where it is a line and nothing else has a part in it; and
/// whether it rises. `None` where it does not go one way.
#[allow(clippy::type_complexity)]
fn shape(build: &Build<'_>, id: QuantityId, moved: FieldId) -> Option<(Option<(f64, f64)>, bool)> {
    let part = build.part;
    let (field, mut eval) = (part.fields.get(moved)?, Eval::of_quantity(part, id)?);
    let (low, high) = field.bounds();
    if high - low >= 1 << 17 || !field.values.is_empty() {
        return None;
    }
    let mut settings = State::reset(part).assumed(part);
    let mut values = Vec::new();
    for code in low..=high {
        settings.set_field(field, code);
        values.push(eval.value(&Present { part, state: &settings }).ok()?);
    }
    let rising = one_way(&values)?;
    let takes_more = part.quantities.get(id)?;
    let behind = part.inputs_behind(inputs(&takes_more.formula));
    let alone = behind.iter().all(|input| *input == Input::Field(moved));
    let through = takes_more.through.is_none_or(|(reading, code)| {
        part.readings.get(reading).is_some_and(|reading| inputs(&reading.formula).all(|input| input == code))
    });
    let at = |code: i128| values.get(usize::try_from(code - low).ok()?).copied();
    let zero = at(0)?;
    let step = (values.last()? - values.first()?) / (high - low) as f64;
    let step = nearest_short(step);
    let largest = values.iter().fold(0.0f64, |most, value| most.max(value.abs()));
    let line = (low..=high).zip(&values).all(|(code, value)| (zero + step * code as f64 - value).abs() <= largest * 1e-12);
    Some(((alone && through && line).then_some((zero, step)), rising))
}

/// Whether values rise from each to the next; `None` where they neither rise nor fall throughout.
pub(super) fn one_way(values: &[f64]) -> Option<bool> {
    let rising = values.first()? < values.last()?;
    values.windows(2).all(|pair| matches!(pair, [one, next] if (one < next) == rising && one != next)).then_some(rising)
}

/// A step as a person would write it, where that is as good.
fn nearest_short(step: f64) -> f64 {
    let digits = 12 - step.abs().log10().ceil() as i32;
    let scale = 10f64.powi(digits.clamp(0, 20));
    let short = (step * scale).round() / scale;
    if ((short - step) / step).abs() < 1e-13 { short } else { step }
}

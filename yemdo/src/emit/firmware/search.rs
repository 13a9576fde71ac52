//! A way back for quantities that no line and no halving leads to: a bounded search.

use super::bits::read_field;
use super::build::Build;
use super::code::{Expr, Stmt, Type};
use super::formula::zero;
use super::inverse::{Way, codes_in, one_way};
use super::names::snake;
use crate::bits::form::Form;
use crate::formula::operators::Compare;
use crate::ground::number::Ty;
use crate::model::ids::{FieldId, QuantityId};
use crate::model::part::Sheet;
use crate::model::registers::Field;
use crate::model::state::State;
use crate::model::value::{Eval, Present};

/// Maximum number of combinations that emitted code tries.
const MOST_ROUNDS: i128 = 4096;

/// Variables and parameters of a search.
const OWN: &[&str] = &["above", "below", "distance", "first", "found", "last", "nearest", "parameters", "settings", "there", "value"];

/// The loop variable for the codes of a field.
fn code_name(field: &Field) -> String {
    let name = snake(&field.name);
    if OWN.contains(&name.as_str()) || name.starts_with("best_") || name.ends_with("_before") { format!("code_of_{name}") } else { name }
}

/// Statements for each code of the field: those of its table, if it has one.
fn each_code(field: &Field, down: bool, body: Vec<Stmt>) -> Stmt {
    let ty = codes_in(field);
    let (low, high) = field.bounds();
    let name = code_name(field);
    let mut codes: Vec<i128> = field.values.iter().map(|row| row.code).collect();
    codes.sort_unstable();
    codes.dedup();
    let [first, .., last] = codes.as_slice() else { return Stmt::EachCode { name, ty, low, high, down, body } };
    let known = codes.iter().map(|code| Expr::Var(name.clone()).compare(Compare::Equal, ty, Expr::Int(*code, ty)));
    let (low, high, gaps) = (*first, *last, last - first >= codes.len() as i128);
    let body = match known.reduce(|one, other| Expr::Or(one.boxed(), other.boxed())).filter(|_| gaps) {
        Some(known) => vec![Stmt::If(known, body, Vec::new())],
        None => body,
    };
    Stmt::EachCode { name, ty, low, high, down, body }
}

/// A quantity of several fields that is monotonic in the last field.
struct Rows {
    rising: bool,
    /// For each of the others: its steps are finer where its code is greater.
    finer_above: Vec<bool>,
}

fn rows(part: &Sheet, id: QuantityId, outer: &[(FieldId, &Field)], inner: (FieldId, &Field)) -> Option<Rows> {
    let mut eval = Eval::of_quantity(part, id)?;
    let mut settings = State::reset(part).assumed(part);
    let (low, high) = inner.1.bounds();
    if high - low >= 1 << 17 || !inner.1.values.is_empty() {
        return None;
    }
    // All combinations of the others, with sample codes of the last field.
    let mut way: Option<bool> = None;
    let mut steps: Vec<(Vec<i128>, f64)> = Vec::new();
    let mut codes: Vec<i128> = outer.iter().map(|(_, field)| field.bounds().0).collect();
    loop {
        for ((_, field), code) in outer.iter().zip(&codes) {
            settings.set_field(field, *code);
        }
        let mut value_at = |code: i128| {
            settings.set_field(inner.1, code);
            eval.value(&Present { part, state: &settings }).ok()
        };
        let every = ((high - low) / 256).max(1) as usize;
        let values: Vec<f64> = (low..=high).step_by(every).map(&mut value_at).collect::<Option<_>>()?;
        let rising = one_way(&values)?;
        if way.is_some_and(|known| known != rising) {
            return None;
        }
        way = Some(rising);
        steps.push((codes.clone(), (values.last()? - values.first()?).abs()));
        // The next combination.
        let mut done = true;
        for (code, (_, field)) in codes.iter_mut().zip(outer).rev() {
            if *code < field.bounds().1 {
                *code += 1;
                done = false;
                break;
            }
            *code = field.bounds().0;
        }
        if done {
            break;
        }
    }
    let finer_above = (0..outer.len())
        .map(|index| {
            let span = |most: bool| {
                let pick = |(codes, step): &(Vec<i128>, f64)| codes.get(index).map(|code| (*code, *step));
                let all = steps.iter().filter_map(pick);
                if most { all.max_by_key(|(code, _)| *code) } else { all.min_by_key(|(code, _)| *code) }.map_or(0.0, |(_, step)| step)
            };
            span(true) < span(false)
        })
        .collect();
    Some(Rows { rising: way?, finer_above })
}

impl Build<'_> {
    /// A setter that goes through all codes of its fields; of one in whose codes the value goes one way, by halving. Gives whether there is
    /// one: not where there are too many codes.
    pub(super) fn search(&mut self, way: &Way, fields: &[(FieldId, &Field)]) -> bool {
        let part = self.part;
        if fields.is_empty() || fields.iter().any(|(_, field)| matches!(field.layout.form, Form::Float | Form::Text | Form::Bcd)) {
            return false;
        }
        let count = |field: &Field| field.bounds().1 - field.bounds().0 + 1;
        let mut order: Vec<(FieldId, &Field)> = fields.to_vec();
        order.sort_by_key(|(_, field)| count(field));
        let Some((inner, outer)) = order.split_last() else { return false };
        let rounds: i128 = outer.iter().map(|(_, field)| count(field)).product();
        if rounds > MOST_ROUNDS {
            return false;
        }
        let rows = if outer.is_empty() { None } else { rows(part, way.id, outer, *inner) };
        if rows.is_none() && rounds * count(inner.1) > MOST_ROUNDS {
            return false;
        }
        if let Some(rows) = &rows {
            let back = || vec![Stmt::Return(Expr::Bool(false))];
            let mut row = self.halved(way, *inner, rows.rising, false, &back);
            row.push(Stmt::Return(Expr::Bool(true)));
            let doc = vec![format!("Sets {} to the nearest value with the present other fields.", inner.1.name)];
            self.setter(way, false, doc, row);
        }
        let real = way.real;
        let all: Vec<&Field> = fields.iter().map(|(_, field)| *field).collect();
        let (_, mut doc) = self.setter_doc(way, &all);
        doc.push("Found by search. Out of range, nothing is set and `false` is returned.".into());
        let (mut body, restore) = self.saved(&all);
        let flag = |name: &str| Stmt::Let { name: name.into(), ty: Type::Num(Ty::Bool), value: Some(Expr::Bool(false)), mutable: true };
        body.extend([flag("below"), flag("above"), flag("found")]);
        let wide = way.wide();
        body.push(Stmt::Let { name: "nearest".into(), ty: Type::Num(wide), value: Some(zero(wide)), mutable: true });
        let best = |field: &Field| format!("best_{}", snake(&field.name));
        for (id, field) in &order {
            let ty = self.field_code_type(*id);
            body.push(Stmt::Let {
                name: best(field),
                ty: Type::Num(ty),
                value: Some(Expr::Int(0.max(field.bounds().0), ty)),
                mutable: true,
            });
        }
        let at = |name: &str| Expr::Var(name.into());
        let truth = |name: &str| Stmt::Set(at(name), Expr::Bool(true));
        let sides = |there: Expr| {
            vec![
                Stmt::If(there.clone().compare(Compare::LessEqual, real, at("value")), vec![truth("below")], Vec::new()),
                Stmt::If(there.compare(Compare::GreaterEqual, real, at("value")), vec![truth("above")], Vec::new()),
            ]
        };
        let code_of = |field: &(FieldId, &Field)| Expr::Cast {
            from: codes_in(field.1),
            to: self.field_code_type(field.0),
            fits: true,
            value: at(&code_name(field.1)).boxed(),
        };
        // For each: is it nearer than the previous one?
        let seen = |inner_code: Expr| {
            let off = |from: Expr, to: Expr| way.minus(to, from);
            let there = || way.got("there");
            let distance = Expr::Cond(
                there().compare(Compare::Less, real, at("value")).boxed(),
                off(there(), at("value")).boxed(),
                off(at("value"), there()).boxed(),
            );
            let nearer =
                Expr::Or(Expr::Not(at("found").boxed()).boxed(), at("distance").compare(Compare::Less, wide, at("nearest")).boxed());
            let mut take = vec![truth("found"), Stmt::Set(at("nearest"), at("distance"))];
            take.extend(outer.iter().map(|field| Stmt::Set(at(&best(field.1)), code_of(field))));
            take.push(Stmt::Set(at(&best(inner.1)), inner_code));
            vec![
                Stmt::Let { name: "distance".into(), ty: Type::Num(wide), value: Some(distance), mutable: false },
                Stmt::If(nearer, take, Vec::new()),
            ]
        };
        let mut round = Vec::new();
        match &rows {
            Some(_) => {
                let (low, high) = inner.1.bounds();
                let stored = self.field_code_type(inner.0);
                for (end, name) in [(low, "first"), (high, "last")] {
                    round.push(self.set_code(*inner, Expr::Int(end, stored)));
                    round.extend(way.with(name, sides(way.got(name))));
                }
                let near = self.prefix.function(&format!("near_{}", &part.quantities[way.id].name));
                let arguments = way.params.iter().map(|param| Expr::Var(param.name.clone())).collect();
                let (code, _) = read_field(self, inner.0, "settings");
                let inner_code =
                    if self.stored(&inner.1.layout) == Type::Num(Ty::Bool) { Expr::FromBool(Ty::U8, code.boxed()) } else { code };
                round.push(Stmt::Ignore(Expr::Method(near, arguments)));
                round.extend(way.with("there", seen(inner_code)));
            }
            None => {
                let mut each = vec![self.set_code(*inner, code_of(inner))];
                each.extend(way.with("there", sides(way.got("there")).into_iter().chain(seen(code_of(inner))).collect()));
                round = vec![each_code(inner.1, false, each)];
            }
        }
        for (index, field) in outer.iter().enumerate().rev() {
            // Of ways as near, the finest: it comes first.
            let down = rows.as_ref().is_some_and(|rows| rows.finer_above.get(index) == Some(&true));
            round = vec![each_code(field.1, down, std::iter::once(self.set_code(*field, code_of(field))).chain(round).collect())];
        }
        body.extend(round);
        let inside = Expr::And(at("below").boxed(), at("above").boxed());
        body.push(Stmt::If(Expr::Not(inside.boxed()), restore.into_iter().chain([Stmt::Return(Expr::Bool(false))]).collect(), Vec::new()));
        body.extend(order.iter().map(|field| self.set_code(*field, at(&best(field.1)))));
        body.push(Stmt::Return(Expr::Bool(true)));
        self.setter(way, true, doc, body);
        true
    }
}

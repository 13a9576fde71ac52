//! Status of a reading: conditions in order, stated ranges.

use super::build::{Build, Takes};
use super::code::{Expr, Function, Gives, Stmt, Type};
use super::formula::{body, expression, zero};
use super::inputs::Value;
use super::truths::negated;
use crate::formula::facts::Facts;
use crate::formula::flat::interval::Interval;
use crate::formula::operators::Compare;
use crate::ground::number::{Number, Ty};
use crate::model::ids::{CodeId, FieldId, FrameId, ParameterId, ReadingId};
use crate::model::input::{Input, inputs};
use crate::model::part::Sheet;
use crate::model::reading::{End, Reading};
use crate::model::status::Status;
use crate::model::value::{Eval, Leaves};

impl Build<'_> {
    /// A reading without a value.
    pub(super) fn none(&mut self, status: Status) -> Stmt {
        let (value, status) = (zero(self.real()), self.status(status));
        Stmt::Return(Expr::Reading(value.boxed(), status.boxed()))
    }

    /// An end of a stated range, as an expression of the type of readings.
    pub(super) fn end(
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
        uses.extend(self.handed(formula, values));
        let found = self.ready(formula, Some(frame), values);
        if let Some(expr) = expression(formula, &facts, &found) {
            return Some(Some((expr.cast(formula.ty, self.real()), formula.ty, false, Expr::Bool(true))));
        }
        let own = self.takes_known(formula, Some(frame), values);
        let mut params = self.params(&own, Some(frame));
        params.extend(self.handed(formula, values).iter().filter_map(|used| self.value_param(*used, values)));
        let given: Vec<String> = params.iter().map(|param| param.name.clone()).collect();
        let (statements, fails) = body(formula, &facts, &found, &given);
        let name = self.prefix.function(name);
        let mut doc = vec!["Limit of the stated range:".to_owned()];
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
    pub(super) fn judge(
        &mut self,
        reading: &Reading,
        value: &Value,
        (conditions, faults): (Vec<(Expr, Status, Option<String>)>, Vec<Expr>),
        range: Option<(&(End, End), Vec<Option<(Expr, Ty, bool, Expr)>>)>,
        statements: &mut Vec<Stmt>,
    ) {
        let facts = self.facts.get(value.reading).cloned().flatten().unwrap_or_else(Facts::unknown);
        // What withholds the value comes first, wherever it is typed (`plan/judge.rs`).
        let (withheld, mut kept): (Vec<_>, Vec<_>) = conditions.into_iter().partition(|(_, status, _)| !status.has_value());
        let withholds_nothing = withheld.is_empty();
        for (holds, status, means) in withheld {
            statements.extend(means.map(Stmt::Comment));
            let none = self.none(status);
            statements.push(Stmt::If(holds, vec![none], Vec::new()));
        }
        // A condition with a fault is a fault of the reading.
        for fault in faults {
            let fails = Stmt::If(fault.clone(), vec![self.none(Status::FormulaFault)], Vec::new());
            let of = |statement: &Stmt| matches!(statement, Stmt::Try(name, ..) if fault == Expr::Not(Expr::IsThere(name.clone()).boxed()));
            match statements.iter().position(of) {
                // Without other reasons to withhold the value, the fault is checked at once, and the condition is certain from there on.
                Some(at) if withholds_nothing => {
                    let name = if let Some(Stmt::Try(name, ..)) = statements.get(at) { name.clone() } else { String::new() };
                    statements.insert(at + 1, fails);
                    kept.iter_mut().for_each(|(holds, ..)| *holds = certain(holds.clone(), &name));
                }
                _ => statements.push(fails),
            }
        }
        kept.sort_by_key(|(_, status, _)| std::cmp::Reverse(*status));
        let real = self.real();
        let ok = self.status(Status::Ok);
        let status = Expr::Var("status".into());
        let mut range_comment = None;
        let out_of_range =
            range.as_ref().and_then(|((low, high), ends)| self.outside(value, &facts, (low, high), ends, statements, &mut range_comment));
        if let (None, Some(_), Some((low, high))) = (&out_of_range, &reading.range, reading.fixed_range()) {
            let (least, most) = facts.result.to_f64();
            statements.push(Stmt::Comment(format!("proved: {least} to {most}, always within {low} to {high}")));
        }
        let varies = !kept.is_empty() || out_of_range.is_some();
        let number = if value.fails {
            let fault = self.none(Status::FormulaFault);
            statements.push(Stmt::Try("value".into(), value.ty, value.expr.clone()));
            statements.push(Stmt::If(Expr::Not(Expr::IsThere("value".into()).boxed()), vec![fault], Vec::new()));
            Expr::There("value".into())
        } else if varies {
            statements.push(Stmt::Let { name: "value".into(), ty: Type::Num(value.ty), value: Some(value.expr.clone()), mutable: false });
            Expr::Var("value".into())
        } else {
            value.expr.clone()
        };
        if varies {
            statements.push(Stmt::Let {
                name: "status".into(),
                ty: Type::Named(self.status_type()),
                value: Some(ok.clone()),
                mutable: true,
            });
        }
        // The most severe first, and the stated range in its place among them; the same is said once.
        let mut chain: Vec<(Expr, Status, Vec<Stmt>)> = Vec::new();
        let all = kept.into_iter().map(|(holds, one, means)| (holds, one, means.map(Stmt::Comment)));
        let beyond = out_of_range.map(|outside| (outside(&number), Status::OutOfRange, range_comment.map(Stmt::Comment)));
        let (before, after): (Vec<_>, Vec<_>) = all.partition(|(_, one, _)| *one > Status::OutOfRange);
        for (holds, one, comment) in before.into_iter().chain(beyond).chain(after) {
            match chain.last_mut().filter(|(_, known, _)| *known == one) {
                Some((known, _, comments)) => {
                    *known = Expr::Or(known.clone().boxed(), holds.boxed());
                    comments.extend(comment);
                }
                None => chain.push((holds, one, comment.into_iter().collect())),
            }
        }
        let mut otherwise = Vec::new();
        for (holds, one, comments) in chain.into_iter().rev() {
            let set = Stmt::Set(status.clone(), self.status(one));
            otherwise = vec![Stmt::If(holds, comments.into_iter().chain([set]).collect(), otherwise)];
        }
        statements.extend(otherwise);
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
        range_comment: &mut Option<String>,
    ) -> Option<Box<dyn Fn(&Expr) -> Expr>> {
        let ty = value.ty;
        let bounds = facts.result;
        let fixed = |end: &End| if let End::Number(number) = end { Some(*number) } else { None };
        if let (Some(low), Some(high)) = (fixed(low), fixed(high)) {
            if let Some(test) = self.outside_by_code(value.reading, (low, high)) {
                *range_comment = Some(format!("stated range {low} to {high}, checked on the raw code"));
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
            (true, false) if ty == Ty::Bool => Expr::Not(own().boxed()),
            (false, true) if ty == Ty::Bool => own(),
            (true, false) => own().compare(Compare::Less, ty, number(first)),
            (false, true) => own().compare(Compare::Greater, ty, number(last)),
            (false, false) => return None,
        })
    }
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

/// A condition with a variable that has a value.
fn certain(holds: Expr, name: &str) -> Expr {
    match holds {
        Expr::And(is, there) if *is == Expr::IsThere(name.to_owned()) && *there == Expr::There(name.to_owned()) => *there,
        Expr::And(one, other) => Expr::And(certain(*one, name).boxed(), certain(*other, name).boxed()),
        other => other,
    }
}

/// One code, and nothing else.
pub(super) struct OneCode<'a> {
    pub(super) part: &'a Sheet,
    pub(super) code: CodeId,
    pub(super) number: i128,
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

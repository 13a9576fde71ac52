//! A typed formula as statements. Operations without a proof are checked, and the function fails if they do.

use super::code::{Checked, Expr, Stmt, Type};
use super::integers::kept_as;
use super::known::{Flags, missing};
use super::names::{Scope, snake};
use super::truths::comparison;
use crate::formula::facts::{Fact, Facts};
use crate::formula::fault::FaultKind;
use crate::formula::flat::interval::Interval;
use crate::formula::functions::Func;
use crate::formula::input::{CurveId, InputKey};
use crate::formula::operators::Compare;
use crate::formula::typed;
use crate::formula::typed::{ExprKind, Formula};
use crate::ground::number::{Number, Ty};
use std::collections::BTreeSet;

/// Where a formula's input is.
#[derive(Clone, Debug)]
pub(super) enum Source {
    /// An expression, and the type that it is kept in.
    Value(Expr, Ty),
    /// A number that may be none: the name of the variable, its type.
    Maybe(String, Ty),
    /// A call of an optional number: variable, call, type, reason of a failure.
    Call(String, Expr, Ty, String),
    /// An expression with a check: condition of a failure, reason, expression, type.
    Checked(Expr, String, Expr, Ty),
    /// A value that is known once these flags are set: its name, and where it then is.
    Unknown(Vec<Flags>, String, Box<Source>),
}

/// Environment of a formula.
pub(super) trait Around {
    /// Where an input is.
    fn source(&self, key: InputKey) -> Source;
    /// The call of a curve, and whether it may give none.
    fn curve(&self, curve: CurveId, x: Expr) -> (Expr, bool);
}

/// A formula that is being written.
pub(super) struct Writer<'a> {
    pub(super) formula: &'a Formula,
    pub(super) facts: &'a Facts,
    pub(super) around: &'a dyn Around,
    pub(super) scope: Scope,
    pub(super) vars: Vec<Variable>,
    /// The block that is written to stands last.
    pub(super) blocks: Vec<Vec<Stmt>>,
    /// Values that may be none and were found to be there, by block depth.
    pub(super) taken: Vec<(InputKey, Expr, usize)>,
    /// Flags of known values that were looked at on this path.
    looked_at: Vec<KnownCheck>,
    /// It may fail.
    pub(super) fails: bool,
    /// The present expression is the complete value of a statement.
    pub(super) top: bool,
    /// The variables that are looked at.
    pub(super) used: BTreeSet<usize>,
}

/// A check that values are known: where it stands, and for which.
struct KnownCheck {
    depth: usize,
    at: usize,
    flags: Flags,
    names: Vec<String>,
}

pub(super) struct Variable {
    pub(super) name: String,
    pub(super) ty: Ty,
    pub(super) declared: bool,
    pub(super) mutable: bool,
}

/// Statements for a formula's value, and true if they may fail; `given` are names in use.
pub(super) fn body(formula: &Formula, facts: &Facts, around: &dyn Around, given: &[String]) -> (Vec<Stmt>, bool) {
    let mut writer = Writer::new(formula, facts, around, given);
    writer.statements(&formula.body);
    let fails = writer.fails;
    (writer.blocks.pop().unwrap_or_default(), fails)
}

/// A formula as one expression, where that is all it takes.
pub(super) fn expression(formula: &Formula, facts: &Facts, around: &dyn Around) -> Option<Expr> {
    let [typed::Stmt::Return(value)] = formula.body.as_slice() else { return None };
    let mut writer = Writer::new(formula, facts, around, &[]);
    let value = writer.num(value);
    let plain = writer.blocks.pop().is_some_and(|block| block.is_empty()) && !writer.fails;
    (plain && !(formula.ty.is_real() && facts.may_be_none)).then_some(value)
}

/// A condition as one expression, where that is all it takes.
pub(super) fn condition(formula: &Formula, facts: &Facts, around: &dyn Around) -> Option<Expr> {
    let [typed::Stmt::Return(value)] = formula.body.as_slice() else { return None };
    let mut writer = Writer::new(formula, facts, around, &[]);
    let value = writer.truth(value);
    (writer.blocks.pop().is_some_and(|block| block.is_empty()) && !writer.fails).then_some(value)
}

impl<'a> Writer<'a> {
    pub(super) fn new(formula: &'a Formula, facts: &'a Facts, around: &'a dyn Around, given: &[String]) -> Self {
        let mut scope = Scope::default();
        for name in given {
            scope.fresh(name);
        }
        let variable = |(index, var): (usize, &typed::Var)| Variable {
            name: scope.fresh(&snake(&var.name)),
            ty: var.ty,
            declared: false,
            mutable: most_sets(&formula.body, index) > 1,
        };
        let vars = formula.vars.iter().enumerate().map(variable).collect();
        let mut used = BTreeSet::new();
        typed::each(&formula.body, &mut |expr| used.extend(if let ExprKind::Var(var) = expr.kind { Some(var) } else { None }));
        let (blocks, taken, looked_at) = (vec![Vec::new()], Vec::new(), Vec::new());
        Self { formula, facts, around, scope, vars, blocks, taken, looked_at, fails: false, top: false, used }
    }

    pub(super) fn push(&mut self, statement: Stmt) {
        self.blocks.last_mut().into_iter().for_each(|block| block.push(statement.clone()));
    }

    pub(super) fn fail(&mut self, why: &str) -> Stmt {
        self.fails = true;
        Stmt::Fail(why.to_owned())
    }

    pub(super) fn fact(&self, expr: &typed::Expr) -> Fact {
        let unknown = Fact { bounds: Interval::all(expr.ty), cannot_fault: false, can_be_infinite: true };
        self.facts.get(expr.id).unwrap_or(unknown)
    }

    pub(super) fn integers(&self, expr: &typed::Expr) -> (i128, i128) {
        match self.fact(expr).bounds {
            Interval::Int(low, high) => (low, high),
            Interval::Real(..) => expr.ty.bounds().unwrap_or((i128::MIN, i128::MAX)),
        }
    }

    pub(super) fn block(&mut self, write: impl FnOnce(&mut Self)) -> Vec<Stmt> {
        self.blocks.push(Vec::new());
        write(self);
        let depth = self.blocks.len();
        self.taken.retain(|(.., at)| *at < depth);
        self.looked_at.retain(|check| check.depth < depth);
        self.blocks.pop().unwrap_or_default()
    }

    fn statements(&mut self, list: &[typed::Stmt]) {
        for statement in list {
            match statement {
                typed::Stmt::Set { var, value, .. } => {
                    self.top = true;
                    let value = self.num(value);
                    // Unused values are not stored.
                    if !self.used.contains(var) {
                        self.push(Stmt::Ignore(value));
                        continue;
                    }
                    let Some(variable) = self.vars.get_mut(*var) else { continue };
                    let statement = if variable.declared {
                        Stmt::Set(Expr::Var(variable.name.clone()), value)
                    } else {
                        variable.declared = true;
                        Stmt::Let { name: variable.name.clone(), ty: Type::Num(variable.ty), value: Some(value), mutable: variable.mutable }
                    };
                    self.push(statement);
                }
                typed::Stmt::Return(value) => {
                    self.top = true;
                    let mut result = self.num(value);
                    if self.formula.ty.is_real() && self.fact(value).can_be_infinite {
                        result = self.plain(result, self.formula.ty);
                        let fail = self.fail("not a finite number");
                        self.push(Stmt::If(
                            Expr::Not(Expr::IsFinite(self.formula.ty, result.clone().boxed()).boxed()),
                            vec![fail],
                            Vec::new(),
                        ));
                    }
                    self.push(Stmt::Return(result));
                }
                typed::Stmt::If { cond, then, otherwise } => {
                    // Variables set in a branch and used after it are declared before it.
                    for index in set_in(then).into_iter().chain(set_in(otherwise)) {
                        if let Some(variable) = self.vars.get_mut(index).filter(|variable| !variable.declared && self.used.contains(&index))
                        {
                            variable.declared = true;
                            let (name, ty, mutable) = (variable.name.clone(), Type::Num(variable.ty), variable.mutable);
                            self.push(Stmt::Let { name, ty, value: None, mutable });
                        }
                    }
                    let cond = self.truth(cond);
                    let then = self.block(|this| this.statements(then));
                    let otherwise = self.block(|this| this.statements(otherwise));
                    self.push(Stmt::If(cond, then, otherwise));
                }
            }
        }
    }

    /// The same, as something that can be written twice.
    pub(super) fn plain(&mut self, value: Expr, ty: Ty) -> Expr {
        if value.is_plain() {
            return value;
        }
        let name = self.scope.fresh("value");
        self.push(Stmt::Let { name: name.clone(), ty: Type::Num(ty), value: Some(value), mutable: false });
        Expr::Var(name)
    }

    pub(super) fn checked(&mut self, op: Checked, ty: Ty, args: Vec<Expr>, why: &'static str) -> Expr {
        self.fails = true;
        let name = self.scope.fresh("value");
        self.push(Stmt::Checked { name: name.clone(), op, ty, args, why });
        Expr::Var(name)
    }

    /// Whether a conversion of integers changes no value that can come.
    pub(super) fn keeps(&self, inner: &typed::Expr, ty: Ty) -> bool {
        let (low, high) = self.integers(inner);
        ty.bounds().is_some_and(|(least, most)| least <= low && high <= most)
    }

    /// An expression as a number of its type.
    pub(super) fn num(&mut self, expr: &typed::Expr) -> Expr {
        let ty = expr.ty;
        let top = std::mem::take(&mut self.top);
        match &expr.kind {
            ExprKind::Const(number) => constant(*number, ty),
            ExprKind::Var(var) => Expr::Var(self.vars.get(*var).map_or(String::new(), |var| var.name.clone())),
            ExprKind::Input(key) => self.input(*key, ty),
            ExprKind::Not(_) | ExprKind::Compare(..) | ExprKind::Logic(..) => {
                let truth = self.truth(expr);
                Expr::FromBool(ty, truth.boxed())
            }
            ExprKind::Neg(inner) => {
                let value = self.num(inner);
                if ty.is_signed() && !ty.is_real() && !self.fact(expr).cannot_fault {
                    return self.checked(Checked::Neg, ty, vec![value], "overflow");
                }
                match value {
                    Expr::Int(value, ty) if ty.is_signed() => Expr::Int(-value, ty),
                    Expr::Real(value, ty) => Expr::Real(-value, ty),
                    value => Expr::Neg(ty, value.boxed()),
                }
            }
            ExprKind::BitNot(inner) => Expr::BitNot(ty, self.num(inner).boxed()),
            ExprKind::Convert(inner) => self.convert(inner, expr),
            ExprKind::Arith(op, left, right) => self.arith(*op, expr, left, right),
            ExprKind::Shift(op, left, right) => self.shift(*op, expr, left, right),
            ExprKind::Cond(cond, then, otherwise) => {
                let cond = self.truth(cond);
                let (mut one, mut other) = (zero(ty), zero(ty));
                let in_one = self.block(|this| one = this.num(then));
                let in_other = self.block(|this| other = this.num(otherwise));
                if in_one.is_empty() && in_other.is_empty() {
                    let choice = Expr::Cond(cond.boxed(), one.boxed(), other.boxed());
                    return if top { choice } else { self.plain(choice, ty) };
                }
                let name = self.scope.fresh("value");
                let set = |value: Expr| Stmt::Set(Expr::Var(name.clone()), value);
                self.push(Stmt::Let { name: name.clone(), ty: Type::Num(ty), value: None, mutable: false });
                let (one, other) = (in_one.into_iter().chain([set(one)]).collect(), in_other.into_iter().chain([set(other)]).collect());
                self.push(Stmt::If(cond, one, other));
                Expr::Var(name)
            }
            ExprKind::Curve(curve, x) => {
                let mut value = self.num(x);
                if self.fact(x).can_be_infinite {
                    value = self.plain(value, x.ty);
                    let fail = self.fail("no number");
                    self.push(Stmt::If(comparison(Compare::NotEqual, x.ty, value.clone(), value.clone()), vec![fail], Vec::new()));
                }
                let (call, may_be_none) = self.around.curve(*curve, value);
                if may_be_none { self.take(call, ty, "beyond the curve") } else { call }
            }
            ExprKind::Call(func, args) => {
                let args: Vec<Expr> = args.iter().map(|arg| self.num(arg)).collect();
                if *func == Func::Abs && !ty.is_real() {
                    if !self.fact(expr).cannot_fault {
                        return self.checked(Checked::Abs, ty, args, "overflow");
                    }
                    let args = args.into_iter().map(|arg| self.plain(arg, ty)).collect();
                    return Expr::Math(*func, ty, args);
                }
                Expr::Math(*func, ty, args)
            }
        }
    }

    fn take(&mut self, from: Expr, ty: Ty, why: &str) -> Expr {
        self.fails = true;
        let name = self.scope.fresh("value");
        self.push(Stmt::Take { name: name.clone(), ty, from, why: why.to_owned() });
        Expr::Var(name)
    }

    fn input(&mut self, key: InputKey, ty: Ty) -> Expr {
        let source = self.around.source(key);
        self.value_from(key, source, ty)
    }

    fn value_from(&mut self, key: InputKey, source: Source, ty: Ty) -> Expr {
        match source {
            Source::Unknown(flags, name, known) => {
                flags.iter().for_each(|flags| self.is_known(flags, &name));
                self.value_from(key, *known, ty)
            }
            // Its type holds all that can come.
            Source::Value(value, stored) => kept_as(value, stored, ty),
            // The check is emitted at the use, once on each path.
            Source::Checked(fails, why, value, stored) => {
                if self.checked_before(key).is_none() {
                    let fail = self.fail(&why);
                    self.push(Stmt::If(fails, vec![fail], Vec::new()));
                    self.taken.push((key, value.clone(), self.blocks.len()));
                }
                kept_as(value, stored, ty)
            }
            Source::Maybe(name, stored) => {
                self.take_input(key, &format!("{name}_value"), Expr::Pass(name.clone()), stored, NEEDED).cast(stored, ty)
            }
            Source::Call(name, call, stored, why) => self.take_input(key, &name, call, stored, &why).cast(stored, ty),
        }
    }

    /// Fails where one of these flags is not set. Checks of the same block become one, at the first.
    fn is_known(&mut self, (member, ty, mask): &Flags, name: &str) {
        let depth = self.blocks.len();
        if self.looked_at.iter().any(|check| check.flags.0 == *member && check.flags.2 & mask == *mask) {
            return;
        }
        self.fails = true;
        let here = self.looked_at.iter_mut().find(|check| check.depth == depth && check.flags.0 == *member);
        let (at, flags, names) = match here {
            Some(check) => {
                check.flags.2 |= mask;
                check.names.push(name.to_owned());
                (Some(check.at), check.flags.clone(), check.names.clone())
            }
            None => (None, (member.clone(), *ty, *mask), vec![name.to_owned()]),
        };
        let why = format!("{} was never read or set", names.join(" or "));
        let check = Stmt::If(missing(&flags), vec![Stmt::Fail(why)], Vec::new());
        match at.and_then(|at| self.blocks.last_mut()?.get_mut(at)) {
            Some(place) => *place = check,
            None => {
                let at = self.blocks.last().map_or(0, Vec::len);
                self.looked_at.push(KnownCheck { depth, at, flags, names });
                self.push(check);
            }
        }
    }

    /// The value of an input that was taken before on this path.
    fn checked_before(&self, key: InputKey) -> Option<Expr> {
        self.taken.iter().find(|(known, ..)| *known == key).map(|(_, value, _)| value.clone())
    }

    /// Takes an optional number into a variable, or fails.
    fn take_input(&mut self, key: InputKey, variable: &str, from: Expr, ty: Ty, why: &str) -> Expr {
        self.checked_before(key).unwrap_or_else(|| {
            self.fails = true;
            let name = self.scope.fresh(variable);
            self.push(Stmt::Take { name: name.clone(), ty, from, why: why.to_owned() });
            self.taken.push((key, Expr::Var(name.clone()), self.blocks.len()));
            Expr::Var(name)
        })
    }
}

/// The reason of a failure that another value caused.
pub(super) const NEEDED: &str = FaultKind::Needed.describe();

/// A constant of a type.
pub(super) fn constant(number: Number, ty: Ty) -> Expr {
    match number {
        Number::Int(value, _) if ty.is_real() => Expr::Real(value as f64, ty),
        Number::Int(value, _) => Expr::Int(value, ty),
        Number::Real(value, _) => Expr::Real(value, ty),
    }
}

/// Zero of a type.
pub(super) fn zero(ty: Ty) -> Expr {
    match ty {
        Ty::Bool => Expr::Bool(false),
        Ty::F32 | Ty::F64 => Expr::Real(0.0, ty),
        _ => Expr::Int(0, ty),
    }
}

/// How often a variable is set at the most, on any way through.
fn most_sets(list: &[typed::Stmt], index: usize) -> u32 {
    list.iter()
        .map(|statement| match statement {
            typed::Stmt::Set { var, .. } => u32::from(*var == index),
            typed::Stmt::If { then, otherwise, .. } => most_sets(then, index).max(most_sets(otherwise, index)),
            typed::Stmt::Return(_) => 0,
        })
        .sum()
}

/// The variables that statements set.
fn set_in(list: &[typed::Stmt]) -> Vec<usize> {
    let one = |statement: &typed::Stmt| match statement {
        typed::Stmt::Set { var, .. } => vec![*var],
        typed::Stmt::If { then, otherwise, .. } => set_in(then).into_iter().chain(set_in(otherwise)).collect(),
        typed::Stmt::Return(_) => Vec::new(),
    };
    list.iter().flat_map(one).collect()
}

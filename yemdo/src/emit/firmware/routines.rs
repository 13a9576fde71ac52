//! Routines as state machines: each state does what can be done at once, and asks for one thing of the bus.

use super::Only;
use super::build::Build;
use super::code::{Ask, Expr, Failure, Machine, Stmt, Type};
use super::formula::{Source, body, expression, zero};
use super::names::snake;
use super::needs::{is_fresh, moves};
use super::truths::negated;
use super::unpack::register;
use super::used::Used;
use crate::bus::Bus;
use crate::formula::operators::{Arith, Compare};
use crate::formula::typed::Formula;
use crate::ground::number::Ty;
use crate::model::ids::{FrameId, RegisterId, RoutineId};
use crate::model::input::{Input, inputs};
use crate::model::operation::{Action, Step, Time, longer, thousandths};
use crate::model::part::Part;
use crate::plan::routine::{RoutinePlan, StepPlan};

/// The longest wait: an hour, in microseconds.
const LONGEST: i128 = 3_600_000_000;

/// A machine that is being built.
pub(super) struct Builder<'b, 'a> {
    pub(super) build: &'b mut Build<'a>,
    pub(super) plan: RoutinePlan,
    pub(super) bus: Bus,
    pub(super) states: Vec<(String, Vec<Stmt>)>,
    pub(super) buffer: usize,
    pub(super) out: usize,
    pub(super) keeps: Vec<(String, Ty)>,
    pub(super) what: String,
    pub(super) conditions: usize,
    /// The bounds of the value that was asked for last.
    pub(super) bounds: (f64, f64),
}

pub(super) fn run(member: &str) -> Expr {
    Expr::Member("run".into(), member.into())
}

impl Build<'_> {
    /// The bus that routines go over.
    pub(super) fn bus(&self) -> Option<Bus> {
        self.options.bus.filter(|bus| self.part.buses.wire(*bus).is_some()).or_else(|| self.part.buses.all().next())
    }

    pub(super) fn routine(&mut self, id: RoutineId) {
        let Some(bus) = self.bus() else { return };
        let Some(routine) = self.part.routines.get(id) else { return };
        if bus == Bus::Modbus && moves(self.part, id) {
            let why =
                format!("routine {}, which changes the Modbus unit id or baud rate of the part: the driver would lose it", routine.name);
            match self.options.only {
                Only::These { .. } => self.refused.push(why),
                _ => self.module.notes.push(why),
            }
            return;
        }
        let plan = RoutinePlan::for_any_state(self.part, id);
        let what = format!("routine {}", routine.name);
        let mut builder = Builder {
            build: self,
            plan,
            bus,
            states: Vec::new(),
            buffer: 0,
            out: 0,
            keeps: Vec::new(),
            what,
            conditions: 0,
            bounds: (f64::NEG_INFINITY, f64::INFINITY),
        };
        builder.open("");
        builder.routine(id, 0);
        let end = builder.states.len();
        builder.push(Stmt::Finish(end));
        let Builder { states, buffer, out, keeps, .. } = builder;
        let name = self.prefix.function(&routine.name);
        let ty = self.prefix.ty(&format!("{}_run", routine.name));
        let ty = self.give(&ty, format!("routine {}", routine.name));
        let name = self.give(&name, format!("routine {}", routine.name));
        let step = self.prefix.method(&routine.name, "step");
        self.give(&step, format!("the steps of routine {}", routine.name));
        let doc = vec![format!("Routine {}, step by step.", routine.name)];
        self.module.machines.push(Machine { doc, name, ty, states, buffer, out, keeps });
    }
}

impl Builder<'_, '_> {
    pub(super) fn part(&self) -> &Part {
        self.build.part
    }

    /// A new state; what follows is done in it. Gives its number.
    pub(super) fn open(&mut self, comment: &str) -> usize {
        self.states.push((comment.to_owned(), Vec::new()));
        self.states.len() - 1
    }

    fn here(&self) -> usize {
        self.states.len() - 1
    }

    pub(super) fn push(&mut self, statement: Stmt) {
        self.states.last_mut().into_iter().for_each(|(_, list)| list.push(statement.clone()));
    }

    pub(super) fn raise(failure: Failure) -> Vec<Stmt> {
        vec![Stmt::Raise(failure)]
    }

    pub(super) fn keep(&mut self, name: &str, ty: Ty) -> Expr {
        if !self.keeps.iter().any(|(known, _)| known == name) {
            self.keeps.push((name.to_owned(), ty));
        }
        run(name)
    }

    pub(super) fn routine(&mut self, id: RoutineId, depth: usize) {
        let part = self.build.part;
        let Some(routine) = part.routines.get(id) else { return };
        for (index, step) in routine.steps.iter().enumerate() {
            self.step(id, index, step, depth);
        }
    }

    pub(super) fn step(&mut self, id: RoutineId, index: usize, step: &Step, depth: usize) {
        let mut skip = None;
        if let Some(when) = &step.when {
            let holds = self.condition(when, None);
            // The next state is known at the end of the step.
            skip = Some((self.here(), self.states.last().map_or(0, |(_, list)| list.len())));
            self.push(Stmt::If(negated(holds), vec![Stmt::Goto(usize::MAX)], Vec::new()));
        }
        let again = if step.repeat > 1 {
            let name = format!("round_{depth}");
            let counter = self.keep(&name, Ty::U32);
            self.push(Stmt::Set(counter, Expr::Int(0, Ty::U32)));
            let next = self.states.len();
            self.push(Stmt::Goto(next));
            Some((self.open(&self.meaning(step, &format!("{} times", step.repeat))), name))
        } else {
            None
        };
        self.action(id, index, step, depth);
        if let Some((first, name)) = again {
            let counter = run(&name);
            self.push(Stmt::Set(counter.clone(), Expr::Arith(Arith::Add, Ty::U32, counter.clone().boxed(), Expr::Int(1, Ty::U32).boxed())));
            let less = counter.compare(Compare::Less, Ty::U32, Expr::Int(i128::from(step.repeat), Ty::U32));
            self.push(Stmt::If(less, vec![Stmt::Goto(first)], Vec::new()));
        }
        if let Some((state, at)) = skip {
            let next = self.states.len();
            self.push(Stmt::Goto(next));
            self.open("");
            if let Some(Stmt::If(_, then, _)) = self.states.get_mut(state).and_then(|(_, list)| list.get_mut(at)) {
                *then = vec![Stmt::Goto(next)];
            }
        }
    }

    pub(super) fn meaning(&self, step: &Step, otherwise: &str) -> String {
        format!("{}{}", step.means.as_deref().unwrap_or(otherwise), super::readings::beside(step.source.as_deref()))
    }

    pub(super) fn action(&mut self, id: RoutineId, index: usize, step: &Step, depth: usize) {
        let planned = self.plan.step(id, index).cloned().unwrap_or(StepPlan::Nothing);
        let fresh = super::needs::fresh(&step.action, Some(&planned));
        match (&step.action, planned) {
            (_, StepPlan::Refused(unreachable)) => {
                let reason = format!("{}: {} cannot be written: it needs {}", self.what, unreachable.register, unreachable.needs);
                self.build.refused.push(reason);
            }
            (Action::Write(command), _) => {
                let text = format!("write {}", command.text(self.part()));
                self.send(command, 0, step, &self.meaning(step, &text));
            }
            (Action::Set { fields, verify }, StepPlan::Set(writes)) => {
                for (field, code) in fields.iter().filter(|(field, _)| self.build.part.is_unstored(*field)) {
                    if let Some(model) = self.build.part.fields.get(*field) {
                        let ty = register(model.layout.width());
                        let bits = model.layout.form.write(*code, model.layout.width());
                        self.push(Stmt::Set(Expr::Member("settings".into(), snake(&model.name)), Expr::Hex(bits, ty)));
                        self.build.now_known(*field).into_iter().for_each(|known| self.push(known));
                    }
                }
                self.writes(&writes, *verify, step);
            }
            (Action::WriteRegisters(_), StepPlan::Set(writes)) => self.writes(&writes, false, step),
            (Action::Poll { condition, within }, StepPlan::Read(reads)) => {
                let looked = self.keep("looked", Ty::U32);
                self.push(Stmt::Set(looked.clone(), Expr::Int(0, Ty::U32)));
                let next = self.states.len();
                self.push(Stmt::Goto(next));
                let text = format!("until {}", self.part().typed(condition));
                let first = self.open(&self.meaning(step, &text));
                self.reads(&reads, step);
                let holds = self.condition(condition, Some(&fresh));
                let (every, within) = (self.micros(&step.every), self.micros(within));
                let behind = self.states.len();
                // Not yet: the next look, or too late.
                let sum = Expr::Arith(Arith::Add, Ty::U32, looked.clone().boxed(), every.clone().boxed());
                let late = Stmt::If(sum.clone().compare(Compare::Greater, Ty::U32, within), Self::raise(Failure::TimedOut), Vec::new());
                let again = vec![late, Stmt::Set(looked, sum), Stmt::Ask(first, Ask::Wait(every))];
                self.push(Stmt::If(holds, vec![Stmt::Goto(behind)], again));
                self.open("");
            }
            (Action::Expect(condition), StepPlan::Read(reads)) => {
                self.reads(&reads, step);
                let holds = self.condition(condition, Some(&fresh));
                self.push(Stmt::Comment(self.meaning(step, &format!("expect {}", self.part().typed(condition)))));
                self.push(Stmt::If(negated(holds), Self::raise(Failure::Unexpected), Vec::new()));
            }
            (_, StepPlan::Read(reads)) => self.reads(&reads, step),
            (Action::Wait { time, tolerance }, _) => {
                let micros = self.longer(time, *tolerance);
                let text = match time {
                    Time::Fixed(_) => "wait".to_owned(),
                    Time::Formula(formula) => format!("wait {} ms", self.part().typed(formula)),
                };
                self.comment(&self.meaning(step, &text));
                let next = self.states.len();
                self.push(Stmt::Ask(next, Ask::Wait(micros)));
                self.open("");
            }
            (Action::Line { high, within }, _) => {
                let within = self.micros(within);
                self.comment(&self.meaning(step, &format!("until the data-ready line is {}", if *high { "high" } else { "low" })));
                let next = self.states.len();
                self.push(Stmt::Ask(next, Ask::Line(*high, within)));
                self.open("");
                self.push(Stmt::If(Expr::NoAnswer, Self::raise(Failure::TimedOut), Vec::new()));
            }
            (Action::Run(other), _) => self.routine(*other, depth + 1),
            _ => {}
        }
    }

    pub(super) fn comment(&mut self, text: &str) {
        if !text.is_empty() {
            self.push(Stmt::Comment(text.to_owned()));
        }
    }

    pub(super) fn ask(&mut self, ask: Ask, step: &Step) {
        // A request with retries has its own state.
        let mut first = self.here();
        if step.retry > 0 {
            let tries = self.keep("tries", Ty::U8);
            self.push(Stmt::Set(tries, Expr::Int(0, Ty::U8)));
            let next = self.states.len();
            self.push(Stmt::Goto(next));
            first = self.open("");
        }
        let next = self.states.len();
        self.push(Stmt::Ask(next, ask));
        self.open("");
        let mut gives_up = Vec::new();
        if step.retry > 0 {
            let tries = run("tries");
            let every = self.micros(&step.every);
            let more = vec![
                Stmt::Set(tries.clone(), Expr::Arith(Arith::Add, Ty::U8, tries.clone().boxed(), Expr::Int(1, Ty::U8).boxed())),
                Stmt::Ask(first, Ask::Wait(every)),
            ];
            gives_up.push(Stmt::If(
                tries.compare(Compare::Less, Ty::U8, Expr::Int(i128::from(step.retry.min(255)), Ty::U8)),
                more,
                Vec::new(),
            ));
        }
        if !step.may_nak {
            gives_up.push(Stmt::Raise(Failure::NoAnswer));
        }
        if !gives_up.is_empty() {
            self.push(Stmt::If(Expr::NoAnswer, gives_up, Vec::new()));
        }
    }

    /// The value of a formula, or the routine fails.
    pub(super) fn value(&mut self, formula: &Formula, name: &str) -> (Expr, Ty) {
        let facts = self.build.facts_of(formula);
        self.bounds = facts.result.to_f64();
        let mut sources = Vec::new();
        for input in inputs(formula) {
            match self.build.source(input, None) {
                Some(source) => sources.push((input.key(), source)),
                None => self.build.refused.push(format!(
                    "{}: `{}` uses a reading, which a routine cannot",
                    self.what,
                    self.build.part.typed(formula)
                )),
            }
        }
        let found = super::build::Found { build: self.build, sources };
        if let Some(value) = expression(formula, &facts, &found) {
            if value.is_plain() {
                return (value, formula.ty);
            }
            self.conditions += 1;
            let name = format!("{name}_{}", self.conditions);
            self.push(Stmt::Let { name: name.clone(), ty: Type::Num(formula.ty), value: Some(value), mutable: false });
            return (Expr::Var(name), formula.ty);
        }
        // What may fail is a function of its own.
        let (statements, fails) = body(formula, &facts, &found, &[]);
        self.conditions += 1;
        let takes = self.build.takes_with(formula, None);
        let params = self.build.params(&takes, None);
        let of = Build::home(&params);
        let name = format!("{name}_{}", self.conditions);
        let routine = self.what.replace("routine ", "");
        let function = self.build.prefix.function(&format!("{routine}_{name}"));
        let mut doc = vec![format!("A value for routine {routine}:")];
        doc.extend(self.build.formula_text(formula));
        let call = Build::call(&function, &params);
        let gives = if fails { super::code::Gives::Maybe(formula.ty) } else { super::code::Gives::Type(Type::Num(formula.ty)) };
        self.build.module.functions.push(super::code::Function { doc, public: false, name: function, of, params, gives, body: statements });
        if !fails {
            return (call, formula.ty);
        }
        self.push(Stmt::Try(name.clone(), formula.ty, call));
        self.push(Stmt::If(Expr::Not(Expr::IsThere(name.clone()).boxed()), Self::raise(Failure::NoValue), Vec::new()));
        (Expr::There(name), formula.ty)
    }

    /// Whether a condition holds; one without a value fails the routine. `fresh`: registers that were read for it just before.
    fn condition(&mut self, formula: &Formula, fresh: Option<&[RegisterId]>) -> Expr {
        let unread = fresh.is_none();
        let facts = self.build.facts_of(formula);
        let mut sources = Vec::new();
        for input in inputs(formula) {
            let source = self.build.source(input, None).map(|source| match (source, input.field()) {
                (Source::Unknown(_, _, known), Some(field)) if fresh.is_some_and(|fresh| is_fresh(self.build.part, field, fresh)) => *known,
                (source, _) => source,
            });
            sources.extend(source.map(|source| (input.key(), source)));
        }
        let found = super::build::Found { build: self.build, sources };
        if let Some(holds) = super::formula::condition(formula, &facts, &found) {
            if unread {
                self.frames_came(formula, Some(&holds));
            }
            return holds;
        }
        if unread {
            self.frames_came(formula, None);
        }
        let (value, ty) = self.value(formula, "condition");
        value.compare(Compare::NotEqual, ty, zero(ty))
    }

    /// A time in integer microseconds.
    pub(super) fn micros(&mut self, time: &Time) -> Expr {
        self.longer(time, 0.0)
    }

    /// A time with its tolerance.
    fn longer(&mut self, time: &Time, tolerance: f64) -> Expr {
        let formula = match time {
            Time::Fixed(micros) => {
                return Expr::Int(i128::from(longer(*micros, tolerance).max(1)).min(LONGEST), Ty::U32);
            }
            Time::Formula(formula) => formula,
        };
        self.frames_came(formula, None);
        let (value, ty) = self.value(formula, "time");
        // An integer part has derived its times as microseconds already.
        let in_micros = self.build.part.integers;
        let most = (LONGEST as f64 / (1.0 + tolerance)).floor() as i128;
        let limit = if in_micros { most.min(i128::from(i32::MAX)) } else { most / 1000 };
        if !(self.bounds.0 >= 0.0 && self.bounds.1 <= limit as f64) {
            let inside = Expr::Within(ty, value.clone().boxed(), number(0, ty).boxed(), number(limit, ty).boxed());
            self.push(Stmt::If(Expr::Not(inside.boxed()), Self::raise(Failure::NoValue), Vec::new()));
        }
        let micros = if ty.is_real() {
            let scaled = Expr::Arith(Arith::Mul, ty, value.boxed(), number(1000, ty).boxed());
            self.rounded_up(scaled, ty)
        } else {
            let cut = Expr::Cast { from: ty, to: Ty::U32, fits: true, value: value.boxed() };
            let micros = if in_micros { cut } else { Expr::Arith(Arith::Mul, Ty::U32, cut.boxed(), Expr::Int(1000, Ty::U32).boxed()) };
            self.local("micros", Ty::U32, micros, false)
        };
        if tolerance == 0.0 {
            return micros;
        }
        // Adds thousandths, rounded up, without exceeding 32 bits.
        let int = |value: i128| Expr::Int(value, Ty::U32).boxed();
        let arith = |what: Arith, left: Expr, right: Box<Expr>| Expr::Arith(what, Ty::U32, left.boxed(), right);
        let share = i128::from(thousandths(tolerance));
        let whole = arith(Arith::Mul, arith(Arith::Div, micros.clone(), int(1000)), int(share));
        let rest = arith(Arith::Mul, arith(Arith::Rem, micros.clone(), int(1000)), int(share));
        let rest = arith(Arith::Div, arith(Arith::Add, rest, int(999)), int(1000));
        let all = arith(Arith::Add, arith(Arith::Add, micros, whole.boxed()), rest.boxed());
        self.local("longer", Ty::U32, all, false)
    }

    /// A local variable with a name of its own.
    fn local(&mut self, name: &str, ty: Ty, value: Expr, mutable: bool) -> Expr {
        self.conditions += 1;
        let name = format!("{name}_{}", self.conditions);
        self.push(Stmt::Let { name: name.clone(), ty: Type::Num(ty), value: Some(value), mutable });
        Expr::Var(name)
    }

    /// A real number that fits, rounded up to an integer.
    fn rounded_up(&mut self, value: Expr, ty: Ty) -> Expr {
        let exact = self.local("exact", ty, value, false);
        let cut = Expr::Cast { from: ty, to: Ty::U32, fits: true, value: exact.clone().boxed() };
        let micros = self.local("micros", Ty::U32, cut, true);
        let back = Expr::Cast { from: Ty::U32, to: ty, fits: ty == Ty::F64, value: micros.clone().boxed() };
        let more = Expr::Arith(Arith::Add, Ty::U32, micros.clone().boxed(), Expr::Int(1, Ty::U32).boxed());
        self.push(Stmt::If(back.compare(Compare::Less, ty, exact), vec![Stmt::Set(micros.clone(), more)], Vec::new()));
        micros
    }

    /// The routine fails where a frame has not come from which a formula takes a code; with its value, only where that does.
    fn frames_came(&mut self, formula: &Formula, value: Option<&Expr>) {
        let code = |input| if let Input::Code(code) = input { self.build.part.codes.get(code) } else { None };
        let mut frames: Vec<FrameId> = inputs(formula).filter_map(code).map(|code| code.frame).collect();
        frames.sort_unstable();
        frames.dedup();
        for frame in frames {
            let Some(calls) = self.build.module.frames.iter().find(|calls| calls.frame == frame) else { continue };
            let missing = Expr::Not(Expr::Member("device".into(), format!("has_{}", calls.var)).boxed());
            if let Some(lacks) = value.map_or(Some(missing.clone()), |value| lacks(value, &calls.var, &missing)) {
                self.push(Stmt::If(lacks, Self::raise(Failure::NoValue), Vec::new()));
            }
        }
    }
}

/// When the value of an expression takes something from a variable that is `missing`; `None` if it never does.
fn lacks(value: &Expr, variable: &str, missing: &Expr) -> Option<Expr> {
    let of = |part: &Expr| lacks(part, variable, missing);
    let either = |one: Option<Expr>, other: Option<Expr>| match (one, other) {
        (Some(one), Some(other)) => Some(if one == other { one } else { Expr::Or(one.boxed(), other.boxed()) }),
        (one, other) => one.or(other),
    };
    // The second part counts only where the first leaves it open.
    let then = |open: Expr, part: &Expr| of(part).map(|lacks| Expr::And(open.boxed(), lacks.boxed()));
    match value {
        Expr::And(one, other) if of(one).is_none() => then((**one).clone(), other),
        Expr::Or(one, other) if of(one).is_none() => then(negated((**one).clone()), other),
        Expr::Not(inner) => of(inner),
        Expr::Cond(test, one, other) if of(test).is_none() => either(then((**test).clone(), one), then(negated((**test).clone()), other)),
        other => Used::in_expr(other).names.contains(variable).then(|| missing.clone()),
    }
}

pub(super) fn number(value: i128, ty: Ty) -> Expr {
    if ty.is_real() { Expr::Real(value as f64, ty) } else { Expr::Int(value, ty) }
}

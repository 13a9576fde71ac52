//! Routines as state machines: each state does what can be done at once, and asks for one thing of the bus.

use std::collections::BTreeSet;

use super::build::Build;
use super::code::{Ask, Expr, Failure, Machine, Sent, Stmt, Type};
use super::formula::{body, expression, negated, zero};
use super::names::snake;
use super::readings::can_fail;
use super::settings::{masked, register_member};
use super::unpack::register;
use crate::bus::{Bus, Transfer};
use crate::formula::operators::{Arith, Compare};
use crate::formula::typed::Formula;
use crate::ground::number::Ty;
use crate::model::command::{Command, CommandByte, Exchange};
use crate::model::frame::Origin;
use crate::model::ids::{FieldId, FrameId, RegisterId, RoutineId};
use crate::model::input::{Input, inputs};
use crate::model::operation::{Action, Step, Time};
use crate::model::part::{Part, Sheet};
use crate::model::registers::{Access, Register, Settings};
use crate::plan::routine::{ReadPlan, RoutinePlan, StepPlan};
use crate::plan::transfers::read_registers;
use crate::plan::writes::{Write, WriteReason};

/// The longest wait: an hour, in microseconds.
const LONGEST: i128 = 3_600_000_000;

/// What a routine, and those that it runs, need.
pub(super) fn needs(
    part: &Part,
    id: RoutineId,
    frames: &mut BTreeSet<FrameId>,
    registers: &mut BTreeSet<RegisterId>,
    found: &mut Vec<Input>,
) {
    let plan = RoutinePlan::new(part, id, &Settings::reset(part));
    let mut seen = BTreeSet::new();
    let mut wanted = vec![id];
    while let Some(id) = wanted.pop() {
        if !seen.insert(id) {
            continue;
        }
        let Some(routine) = part.routines.get(id) else { continue };
        for (index, step) in routine.steps.iter().enumerate() {
            found.extend(step.formulas().into_iter().flat_map(|formula| part.inputs_behind(inputs(formula))));
            match &step.action {
                Action::Run(other) => wanted.push(*other),
                Action::WriteRegisters(list) | Action::ReadRegisters(list) => registers.extend(list),
                Action::Set { fields, .. } => registers.extend(fields.iter().flat_map(|(field, _)| part.homes(*field))),
                _ => {}
            }
            match plan.step(id, index) {
                Some(StepPlan::Read(reads)) => {
                    for read in reads {
                        match read {
                            ReadPlan::Frame(frame) => drop(frames.insert(*frame)),
                            ReadPlan::Register(register) => drop(registers.insert(*register)),
                        }
                    }
                }
                Some(StepPlan::Set(writes)) => {
                    registers.extend(writes.iter().map(|write| write.register));
                    let computed = part
                        .registers
                        .of(&writes.iter().map(|write| write.register).collect::<Vec<_>>())
                        .flat_map(|register| &register.fields)
                        .copied()
                        .collect::<Vec<_>>();
                    let formulas = part.fields.of(&computed).filter_map(|field| field.computed.as_ref());
                    found.extend(formulas.flat_map(|formula| part.inputs_behind(inputs(formula))));
                }
                _ => {}
            }
        }
    }
    for frame in part.frames.of(&frames.iter().copied().collect::<Vec<_>>()) {
        found.extend(frame.origin.formulas().into_iter().flat_map(|formula| part.inputs_behind(inputs(formula))));
    }
}

/// A machine that is being built.
struct Builder<'b, 'a> {
    build: &'b mut Build<'a>,
    plan: RoutinePlan,
    bus: Bus,
    states: Vec<(String, Vec<Stmt>)>,
    buffer: usize,
    out: usize,
    keeps: Vec<(String, Ty)>,
    what: String,
    conditions: usize,
    /// The bounds of the value that was asked for last.
    bounds: (f64, f64),
}

fn run(member: &str) -> Expr {
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
        let plan = RoutinePlan::new(self.part, id, &Settings::reset(self.part));
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
        let doc = vec![format!("Routine {}, step by step.", routine.name)];
        self.module.machines.push(Machine { doc, name, ty, states, buffer, out, keeps });
    }
}

impl Builder<'_, '_> {
    fn part(&self) -> &Part {
        self.build.part
    }

    /// A new state; what follows is done in it. Gives its number.
    fn open(&mut self, comment: &str) -> usize {
        self.states.push((comment.to_owned(), Vec::new()));
        self.states.len() - 1
    }

    fn here(&self) -> usize {
        self.states.len() - 1
    }

    fn push(&mut self, statement: Stmt) {
        self.states.last_mut().into_iter().for_each(|(_, list)| list.push(statement.clone()));
    }

    fn raise(failure: Failure) -> Vec<Stmt> {
        vec![Stmt::Raise(failure)]
    }

    fn keep(&mut self, name: &str, ty: Ty) -> Expr {
        if !self.keeps.iter().any(|(known, _)| known == name) {
            self.keeps.push((name.to_owned(), ty));
        }
        run(name)
    }

    fn routine(&mut self, id: RoutineId, depth: usize) {
        let part = self.build.part;
        let Some(routine) = part.routines.get(id) else { return };
        for (index, step) in routine.steps.iter().enumerate() {
            self.step(id, index, step, depth);
        }
    }

    fn step(&mut self, id: RoutineId, index: usize, step: &Step, depth: usize) {
        let mut skip = None;
        if let Some(when) = &step.when {
            let holds = self.condition(when);
            // Where it goes on is known at the end of the step.
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

    fn meaning(&self, step: &Step, otherwise: &str) -> String {
        step.means.clone().unwrap_or_else(|| otherwise.to_owned())
    }

    fn action(&mut self, id: RoutineId, index: usize, step: &Step, depth: usize) {
        let planned = self.plan.step(id, index).cloned().unwrap_or(StepPlan::Nothing);
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
                let holds = self.condition(condition);
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
                let holds = self.condition(condition);
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

    fn comment(&mut self, text: &str) {
        if !text.is_empty() {
            self.push(Stmt::Comment(text.to_owned()));
        }
    }

    /// One transfer, tried again as the step says; what was read stands in the buffer from `to` on.
    fn transfer(&mut self, transfer: &Transfer, sent: Sent, to: usize, step: &Step, meaning: &str) {
        let read = (transfer.receive > 0).then_some((to, transfer.receive));
        self.buffer = self.buffer.max(to + transfer.receive);
        let both = transfer.bus == Bus::I2c && !transfer.restart && !matches!(sent, Sent::Nothing) && read.is_some();
        self.comment(meaning);
        let asks: Vec<Ask> =
            if both { vec![Ask::Transfer(sent, None), Ask::Transfer(Sent::Nothing, read)] } else { vec![Ask::Transfer(sent, read)] };
        for ask in asks {
            self.ask(ask, step);
        }
    }

    fn ask(&mut self, ask: Ask, step: &Step) {
        // What is tried again has a state of its own.
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
        gives_up.push(Stmt::Raise(Failure::NoAnswer));
        self.push(Stmt::If(Expr::NoAnswer, gives_up, Vec::new()));
    }

    fn send(&mut self, command: &Command, read: usize, step: &Step, meaning: &str) {
        let Some(wire) = self.build.part.buses.wire(self.bus) else { return };
        let fixed = command.fixed();
        let placeholder = fixed.clone().unwrap_or_else(|| vec![0; command.bytes().len()]);
        let transfers = wire.send(&placeholder, read);
        for transfer in transfers {
            let sent = match &fixed {
                Some(_) if transfer.send.is_empty() => Sent::Nothing,
                Some(_) => Sent::Fixed(transfer.send.clone()),
                None => {
                    for (at, byte) in command.bytes().iter().enumerate() {
                        let value = match byte {
                            CommandByte::Fixed(byte) => Expr::Hex(u64::from(*byte), Ty::U8),
                            CommandByte::Formula(formula) => self.byte(formula),
                        };
                        self.push(Stmt::Out(at, value));
                    }
                    self.out = self.out.max(command.bytes().len());
                    Sent::Out(command.bytes().len())
                }
            };
            self.transfer(&transfer, sent, 0, step, meaning);
        }
    }

    /// A byte of a command that is worked out.
    fn byte(&mut self, formula: &Formula) -> Expr {
        let (value, ty) = self.value(formula, "byte");
        let inside = Expr::Within(ty, value.clone().boxed(), number(0, ty).boxed(), number(255, ty).boxed());
        self.push(Stmt::If(Expr::Not(inside.boxed()), Self::raise(Failure::NoValue), Vec::new()));
        Expr::Cast { from: ty, to: Ty::U8, fits: true, value: value.boxed() }
    }

    /// The value of a formula, or the routine fails.
    fn value(&mut self, formula: &Formula, name: &str) -> (Expr, Ty) {
        let facts = self.build.facts_of(formula);
        self.bounds = facts.result.to_f64();
        let mut before = Vec::new();
        let mut sources = Vec::new();
        for input in inputs(formula) {
            match self.build.source(input, None, &mut before) {
                Some(source) => sources.push((input.key(), source)),
                None => self.build.refused.push(format!(
                    "{}: `{}` uses a reading, which a routine cannot",
                    self.what,
                    self.build.part.typed(formula)
                )),
            }
        }
        let found = super::build::Found { build: self.build, sources };
        if before.is_empty()
            && let Some(value) = expression(formula, &facts, &found)
        {
            if value.is_plain() {
                return (value, formula.ty);
            }
            self.conditions += 1;
            let name = format!("{name}_{}", self.conditions);
            self.push(Stmt::Let { name: name.clone(), ty: Type::Num(formula.ty), value: Some(value), mutable: false });
            return (Expr::Var(name), formula.ty);
        }
        // What may fail is a function of its own.
        let (statements, may_fail) = body(formula, &facts, &found, &[]);
        let fails = may_fail || before.iter().any(can_fail);
        let statements: Vec<Stmt> = before.into_iter().chain(statements).collect();
        self.conditions += 1;
        let takes = self.build.takes_with(formula, None);
        let params = self.build.params(&takes, None);
        let of = Build::home(&params);
        let name = format!("{name}_{}", self.conditions);
        let routine = self.what.replace("routine ", "");
        let function = self.build.prefix.function(&format!("{routine}_{name}"));
        let mut doc = vec![format!("A value that routine {routine} needs:")];
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

    /// Whether a condition holds; one without a value fails the routine.
    fn condition(&mut self, formula: &Formula) -> Expr {
        let facts = self.build.facts_of(formula);
        let mut before = Vec::new();
        let mut sources = Vec::new();
        for input in inputs(formula) {
            sources.extend(self.build.source(input, None, &mut before).map(|source| (input.key(), source)));
        }
        let found = super::build::Found { build: self.build, sources };
        if before.is_empty()
            && let Some(holds) = super::formula::condition(formula, &facts, &found)
        {
            return holds;
        }
        let (value, ty) = self.value(formula, "condition");
        value.compare(Compare::NotEqual, ty, zero(ty))
    }

    /// A time in whole microseconds.
    fn micros(&mut self, time: &Time) -> Expr {
        self.longer(time, 0.0)
    }

    /// A time with its tolerance.
    fn longer(&mut self, time: &Time, tolerance: f64) -> Expr {
        let formula = match time {
            Time::Fixed(micros) => {
                let more = (*micros as f64 * tolerance).ceil() as u64;
                return Expr::Int(i128::from(micros.saturating_add(more).max(1)).min(LONGEST), Ty::U32);
            }
            Time::Formula(formula) => formula,
        };
        let (value, ty) = self.value(formula, "time");
        // An integer part has derived its times as microseconds already.
        let in_micros = self.build.part.integers;
        let most = (LONGEST as f64 / (1.0 + tolerance)).floor() as i128;
        let limit = if in_micros { most.min(i128::from(i32::MAX)) } else { most / 1000 };
        if !(self.bounds.0 >= 0.0 && self.bounds.1 <= limit as f64) {
            let inside = Expr::Within(ty, value.clone().boxed(), number(0, ty).boxed(), number(limit, ty).boxed());
            self.push(Stmt::If(Expr::Not(inside.boxed()), Self::raise(Failure::NoValue), Vec::new()));
        }
        self.conditions += 1;
        let name = format!("micros_{}", self.conditions);
        let micros = if ty.is_real() {
            // Rounded up.
            let scaled = Expr::Arith(Arith::Mul, ty, value.boxed(), number(1000, ty).boxed());
            let cut = Expr::Cast { from: ty, to: Ty::U32, fits: true, value: scaled.boxed() };
            Expr::Arith(Arith::Add, Ty::U32, cut.boxed(), Expr::Int(1, Ty::U32).boxed())
        } else {
            let cut = Expr::Cast { from: ty, to: Ty::U32, fits: true, value: value.boxed() };
            if in_micros { cut } else { Expr::Arith(Arith::Mul, Ty::U32, cut.boxed(), Expr::Int(1000, Ty::U32).boxed()) }
        };
        self.push(Stmt::Let { name: name.clone(), ty: Type::Num(Ty::U32), value: Some(micros), mutable: false });
        let micros = Expr::Var(name);
        if tolerance == 0.0 {
            return micros;
        }
        // So many thousandths more, rounded up.
        let share = Expr::Int((tolerance * 1000.0).ceil() as i128, Ty::U32);
        let thousandths = Expr::Arith(
            Arith::Add,
            Ty::U32,
            Expr::Arith(Arith::Div, Ty::U32, micros.clone().boxed(), Expr::Int(1000, Ty::U32).boxed()).boxed(),
            Expr::Int(1, Ty::U32).boxed(),
        );
        let more = Expr::Arith(Arith::Mul, Ty::U32, thousandths.boxed(), share.boxed());
        let all = Expr::Arith(Arith::Add, Ty::U32, micros.boxed(), more.boxed());
        self.conditions += 1;
        let name = format!("longer_{}", self.conditions);
        self.push(Stmt::Let { name: name.clone(), ty: Type::Num(Ty::U32), value: Some(all), mutable: false });
        Expr::Var(name)
    }

    fn reads(&mut self, reads: &[ReadPlan], step: &Step) {
        for read in reads {
            match *read {
                ReadPlan::Register(id) => self.read_register(id, step, None),
                ReadPlan::Frame(id) => self.read_frame(id, step),
            }
        }
    }

    /// Reads a register into the settings; with a mask and a value, it is compared with what was written instead.
    fn read_register(&mut self, id: RegisterId, step: &Step, compare: Option<(u64, Expr)>) {
        let part = self.build.part;
        let Some(model) = part.registers.get(id) else { return };
        let meaning =
            if compare.is_some() { format!("compare {} with what was written", model.name) } else { format!("read {}", model.name) };
        if self.bus == Bus::Modbus {
            self.comment(&meaning);
            self.buffer = self.buffer.max(model.bytes);
            let words = model.bytes.div_ceil(2) as u16;
            self.ask(Ask::ModbusRead(3, model.at as u16, words, (0, model.bytes)), step);
        } else {
            for transfer in read_registers(part, self.bus, &[model]).unwrap_or_default() {
                self.transfer(&transfer, sent(&transfer), 0, step, &meaning);
            }
        }
        let value = wire_value(model, 0);
        match compare {
            None => self.push(Stmt::Set(Expr::Member("settings".into(), register_member(model)), value)),
            Some((mask, written)) => {
                let ty = register(model.width());
                let differs = Expr::Arith(Arith::BitXor, ty, value.boxed(), written.boxed()).and_mask(ty, mask);
                self.push(Stmt::If(differs.compare(Compare::NotEqual, ty, Expr::Int(0, ty)), Self::raise(Failure::NotTaken), Vec::new()));
            }
        }
    }

    fn read_frame(&mut self, id: FrameId, step: &Step) {
        let part = self.build.part;
        let Some(frame) = part.frames.get(id) else { return };
        let meaning = self.meaning(step, &format!("read {}", frame.name));
        let mut at = 0;
        match &frame.origin {
            Origin::Read(one) => self.exchange(one, &mut at, step, &meaning),
            Origin::Transfers(all) => {
                for one in all {
                    self.exchange(one, &mut at, step, &meaning);
                }
            }
            Origin::Registers(runs) => {
                for run in runs {
                    let registers: Vec<&Register> = part.registers.of(run).collect();
                    let mut bytes = 0;
                    for transfer in read_registers(part, self.bus, &registers).unwrap_or_default() {
                        bytes = transfer.receive;
                        self.transfer(&transfer, sent(&transfer), at, step, &meaning);
                    }
                    at += bytes;
                }
            }
            Origin::Modbus(range) => {
                self.comment(&meaning);
                let bytes = range.bytes();
                self.buffer = self.buffer.max(bytes);
                self.ask(Ask::ModbusRead(range.table.read_function(), range.start, range.count, (0, bytes)), step);
            }
        }
        self.buffer = self.buffer.max(frame.length);
        let Some(calls) = self.build.module.frames.iter().find(|calls| calls.frame == id).cloned() else { return };
        self.push(Stmt::Unpack(calls.var.clone(), calls.ty, calls.unpack));
        // The registers that were read are known now, too.
        if let Origin::Registers(runs) = &frame.origin {
            let mut offset = 0;
            for model in runs.iter().flatten().filter_map(|id| part.registers.get(*id)) {
                if model.fields.iter().any(|field| part.fields.get(*field).is_some()) && !model.fields.is_empty() {
                    self.push(Stmt::Set(Expr::Member("settings".into(), register_member(model)), wire_value(model, offset)));
                }
                offset += model.bytes;
            }
        }
    }

    fn exchange(&mut self, one: &Exchange, at: &mut usize, step: &Step, meaning: &str) {
        let Some(wire) = self.build.part.buses.wire(self.bus) else { return };
        let fixed = one.command.fixed();
        let bytes = fixed.clone().unwrap_or_else(|| vec![0; one.command.bytes().len()]);
        match &one.wait {
            None => {
                for transfer in wire.send(&bytes, one.read) {
                    let sent = self.command_bytes(&one.command, &transfer);
                    self.transfer(&transfer, sent, *at, step, meaning);
                }
            }
            Some(time) => {
                for transfer in wire.send(&bytes, 0) {
                    let sent = self.command_bytes(&one.command, &transfer);
                    self.transfer(&transfer, sent, *at, step, meaning);
                }
                let micros = self.micros(time);
                let next = self.states.len();
                self.push(Stmt::Ask(next, Ask::Wait(micros)));
                self.open("");
                for transfer in wire.send(&[], one.read).into_iter().filter(|transfer| !transfer.discard) {
                    self.transfer(&transfer, sent(&transfer), *at, step, meaning);
                }
            }
        }
        *at += one.read;
    }

    fn command_bytes(&mut self, command: &Command, transfer: &Transfer) -> Sent {
        if command.fixed().is_some() {
            return sent(transfer);
        }
        for (at, byte) in command.bytes().iter().enumerate() {
            let value = match byte {
                CommandByte::Fixed(byte) => Expr::Hex(u64::from(*byte), Ty::U8),
                CommandByte::Formula(formula) => self.byte(formula),
            };
            self.push(Stmt::Out(at, value));
        }
        self.out = self.out.max(command.bytes().len());
        Sent::Out(command.bytes().len())
    }

    fn writes(&mut self, writes: &[Write], verify: bool, step: &Step) {
        let mut saved: Vec<RegisterId> = Vec::new();
        for write in writes {
            self.write(write, verify && write.reason.is_none(), step, &mut saved);
        }
    }

    fn write(&mut self, write: &Write, verify: bool, step: &Step, saved: &mut Vec<RegisterId>) {
        let part = self.build.part;
        let Some(model) = part.registers.get(write.register) else { return };
        let (ty, member) = (register(model.width()), register_member(model));
        let own = Expr::Member("settings".into(), member.clone());
        let text = match write.reason {
            Some(WriteReason::Unlocks) => format!("{}: temporary, to unlock another register", model.name),
            Some(WriteReason::Restores) => format!("{}: restored", model.name),
            None => {
                let what: Vec<String> = write.sets.iter().filter_map(|(field, code)| part.setting_text(*field, *code)).collect();
                self.meaning(
                    step,
                    &format!("{}: {}", model.name, if what.is_empty() { "as it is set".to_owned() } else { what.join(", ") }),
                )
            }
        };
        self.comment(&text);
        let mut image = own.clone();
        let before = format!("{member}_before");
        match write.reason {
            Some(WriteReason::Unlocks) if !saved.contains(&write.register) => {
                saved.push(write.register);
                let keep = self.keep(&before, ty);
                self.push(Stmt::Set(keep, own.clone()));
            }
            Some(WriteReason::Restores) if saved.contains(&write.register) => image = run(&before),
            _ => {}
        }
        if write.sets.is_empty() && write.reason.is_none() {
            self.computed(&model.fields);
        }
        // The bits that are set, where they stand in this register.
        let (mut mask, mut bits) = (0u64, 0u64);
        for (field, code) in &write.sets {
            if let Some(field) = part.fields.get(*field) {
                let mut settings = Settings::reset(part);
                settings.set_field(field, *code);
                let own_mask = field.mask_in(model);
                mask |= own_mask;
                bits = (bits & !own_mask) | (settings.register(model) & own_mask);
            }
        }
        let kept = model.mask() & !mask;
        let with = |image: Expr| masked(image, ty, kept, bits, model.mask());
        let image = if mask == 0 { image } else { with(image) };
        let asked: Vec<FieldId> = write.sets.iter().map(|(field, _)| *field).collect();
        let (and, or, and_after, or_after) = self.build.write_masks(write.register, &asked);
        self.conditions += 1;
        let name = format!("{member}_{}", self.conditions);
        let value = masked(image.clone(), ty, and, or, model.mask());
        let after = masked(image, ty, and_after, or_after, model.mask());
        let value = if value.is_plain() {
            value
        } else {
            self.push(Stmt::Let { name: name.clone(), ty: Type::Num(ty), value: Some(value), mutable: false });
            Expr::Var(name)
        };
        let written = verify.then(|| self.keep(&format!("{member}_written"), ty));
        if let Some(written) = &written {
            self.push(Stmt::Set(written.clone(), value.clone()));
        }
        let Some(wire) = part.buses.wire(self.bus) else { return };
        let head = if self.bus == Bus::Modbus { Vec::new() } else { wire.write(model.at, &[]).send };
        let pec = self.bus == Bus::I2c && part.buses.i2c.as_ref().is_some_and(|i2c| i2c.pec);
        // With a packet error code the head has one already, of itself alone.
        let head: Vec<u8> = if pec { head.get(..head.len().saturating_sub(1)).unwrap_or(&[]).to_vec() } else { head };
        for (at, byte) in head.iter().enumerate() {
            self.push(Stmt::Out(at, Expr::Hex(u64::from(*byte), Ty::U8)));
        }
        for index in 0..model.bytes {
            let place = if model.low_first { index } else { model.bytes - 1 - index };
            let byte = value.clone().shr(ty, place as u32 * 8);
            let byte = if ty == Ty::U8 { byte } else { Expr::Cast { from: ty, to: Ty::U8, fits: false, value: byte.boxed() } };
            self.push(Stmt::Out(head.len() + index, byte));
        }
        let mut count = head.len() + model.bytes;
        self.out = self.out.max(count + usize::from(pec));
        if pec {
            self.pec(count);
            count += 1;
        }
        if self.bus == Bus::Modbus {
            self.ask(Ask::ModbusWrite(model.at as u16, count), step);
        } else {
            self.ask(Ask::Transfer(Sent::Out(count), None), step);
        }
        // The settings are what reads back, once it is written.
        if after != own {
            self.push(Stmt::Set(own, after));
        }
        if let Some(written) = written {
            let counts = counted_bits(part, model);
            self.read_register(write.register, step, Some((counts, written)));
        }
    }

    /// The packet error code behind so many bytes that are sent (SMBus 3.2, section 6.4).
    fn pec(&mut self, count: usize) {
        let address = self.build.part.buses.i2c.as_ref().map_or(0, |i2c| i2c.address << 1);
        let own = Expr::Var("pec".into());
        let mut body = vec![Stmt::Let { name: "pec".into(), ty: Type::Num(Ty::U8), value: Some(Expr::Hex(0, Ty::U8)), mutable: true }];
        let step = |value: Expr| {
            let set = |value: Expr| Stmt::Set(own.clone(), value);
            let top = own.clone().and_mask(Ty::U8, 0x80).compare(Compare::NotEqual, Ty::U8, Expr::Int(0, Ty::U8));
            let moved = own.clone().shl(Ty::U8, 1);
            let turned = Expr::Arith(Arith::BitXor, Ty::U8, moved.clone().boxed(), Expr::Hex(0x07, Ty::U8).boxed());
            vec![
                set(Expr::Arith(Arith::BitXor, Ty::U8, own.clone().boxed(), value.boxed())),
                Stmt::Times(8, vec![Stmt::If(top, vec![set(turned)], vec![set(moved)])]),
            ]
        };
        body.extend(step(Expr::Hex(u64::from(address), Ty::U8)));
        for at in 0..count {
            body.extend(step(Expr::Byte("run.out".into(), at)));
        }
        body.push(Stmt::Out(count, own.clone()));
        body.into_iter().for_each(|statement| self.push(statement));
    }

    /// Fields that follow from parameters are worked out anew.
    fn computed(&mut self, fields: &[FieldId]) {
        let part = self.build.part;
        for id in fields {
            let Some((field, formula)) = part.fields.get(*id).and_then(|field| Some((field, field.computed.as_ref()?))) else { continue };
            if part.integers && formula.ty.is_real() {
                self.build.refused.push(format!("{}: {} follows from real numbers", self.what, field.name));
                continue;
            }
            let (value, ty) = self.value(formula, "computed");
            let (low, high) = field.bounds();
            let inside = Expr::Within(ty, value.clone().boxed(), number(low, ty).boxed(), number(high, ty).boxed());
            self.push(Stmt::If(Expr::Not(inside.boxed()), Self::raise(Failure::NoValue), Vec::new()));
            let code_ty = self.build.field_code_type(*id);
            let rounded = if ty.is_real() {
                let half = Expr::Cond(
                    value.clone().compare(Compare::Less, ty, zero(ty)).boxed(),
                    Expr::Real(-0.5, ty).boxed(),
                    Expr::Real(0.5, ty).boxed(),
                );
                Expr::Arith(Arith::Add, ty, value.boxed(), half.boxed())
            } else {
                value
            };
            let code = Expr::Cast { from: ty, to: code_ty, fits: true, value: rounded.boxed() };
            let assignments = super::settings::assign(self.build, *id, code, code_ty);
            assignments.into_iter().for_each(|statement| self.push(statement));
        }
    }
}

fn number(value: i128, ty: Ty) -> Expr {
    if ty.is_real() { Expr::Real(value as f64, ty) } else { Expr::Int(value, ty) }
}

fn sent(transfer: &Transfer) -> Sent {
    if transfer.send.is_empty() { Sent::Nothing } else { Sent::Fixed(transfer.send.clone()) }
}

/// The value of a register in the bytes that were read.
fn wire_value(model: &Register, at: usize) -> Expr {
    let ty = register(model.width());
    let mut joined: Option<Expr> = None;
    for index in 0..model.bytes {
        let place = if model.low_first { model.bytes - 1 - index } else { index };
        let piece = Expr::Byte("run.buffer".into(), at + place).cast(Ty::U8, ty).shl(ty, ((model.bytes - 1 - index) * 8) as u32);
        joined = Some(match joined {
            Some(joined) => joined.or(ty, piece),
            None => piece,
        });
    }
    joined.unwrap_or(Expr::Int(0, ty))
}

/// The bits of a register that read back as they were written.
fn counted_bits(part: &Sheet, model: &Register) -> u64 {
    let mut counts = if model.fields.is_empty() { model.mask() } else { 0 };
    for field in part.fields.of(&model.fields) {
        if field.access == Access::ReadWrite {
            counts |= field.mask_in(model);
        }
    }
    for reserved in model.reserved.iter().filter(|reserved| reserved.write.is_some()) {
        counts |= reserved.mask;
    }
    if model.access == Access::WriteOnly { 0 } else { counts }
}

//! Typed program to flat program.

use crate::formula::curve::Curve;
use crate::formula::flat::program::{Branch, Constant, Need, Note, NoteKind, Num, Op, Opcode, Program, Slot, Use};
use crate::formula::input::InputKey;
use crate::formula::operators::{Arith, Compare, Logic, Shift};
use crate::formula::typed::{Expr, ExprKind, Formula, Stmt};
use crate::ground::number::{Number, Ty};
use crate::ground::text::Span;
use std::sync::Arc;

/// Lowers one formula after the other into one program; values from outside are loaded once.
#[derive(Default)]
pub(crate) struct Lowerer {
    program: Program,
    /// For every branch of the program, the slot that is true in it, once something has asked for it.
    guards: Vec<Option<Slot>>,
    owner: u32,
    span: Span,
    noting: bool,
    /// Outputs that later formulas take as inputs.
    published: Vec<(InputKey, usize)>,
    /// For every expression of the formula, the slot of its value and the operation that gives it; empty unless asked for.
    pub(crate) traced: Option<Trace>,
}

/// For every expression by its id: where its value is, and the operation that makes it, if one does.
pub(crate) type Trace = Vec<(Slot, Option<usize>)>;

/// The branch that code stands in, by its index in the program; `None` is "always".
type Live = Option<u32>;

/// The state while statements are walked.
struct Flow {
    vars: Vec<Option<Slot>>,
    /// Each `return`: the guard under which it is reached, and its value.
    returns: Vec<(Live, Slot)>,
    ty: Ty,
}

impl Lowerer {
    /// A program that may call these curves. With `noting`, it notes what names and variables stand for.
    pub(crate) fn new(curves: &[Arc<Curve>], noting: bool) -> Self {
        let program = Program { curves: curves.to_vec(), ..Program::default() };
        Self { program, noting, ..Self::default() }
    }

    pub(crate) fn finish(self) -> Program {
        self.program
    }

    /// Adds a formula; its value is the next output, whose index is returned.
    pub(crate) fn formula(&mut self, formula: &Formula) -> usize {
        self.formula_as(formula, formula.ty)
    }

    /// The same, with its value converted to a type.
    pub(crate) fn formula_as(&mut self, formula: &Formula, ty: Ty) -> usize {
        let index = self.program.outputs.len();
        self.owner = index as u32;
        self.program.needs.push(Vec::new());
        let mut flow = Flow { vars: vec![None; formula.vars.len()], returns: Vec::new(), ty: formula.ty };
        self.statements(&formula.body, formula, &mut flow, None);
        let mut returns = flow.returns.into_iter().rev();
        let mut value = match returns.next() {
            Some((_, value)) => value,
            None => self.constant(Number::Int(0, formula.ty)),
        };
        for (guard, returned) in returns {
            if let Some(guard) = self.guard_slot(guard) {
                value = self.op(Opcode::Select(Num::of(formula.ty)), Num::of(formula.ty), [guard, returned, value], None);
            }
        }
        if !fits_as_is(formula.ty, ty) {
            value = self.op(Opcode::Convert(Num::of(formula.ty), ty), Num::of(ty), [value; 3], None);
        }
        self.program.outputs.push((value, ty));
        index
    }

    /// A number that is always the same, as an output.
    pub(crate) fn number(&mut self, value: f64) -> usize {
        let slot = self.constant(Number::Real(value, Ty::F64));
        self.program.needs.push(Vec::new());
        self.program.outputs.push((slot, Ty::F64));
        self.program.outputs.len() - 1
    }

    /// Makes an output's value available to later formulas as an input, in place of what that input was before.
    pub(crate) fn publish(&mut self, input: InputKey, output: usize) {
        self.withdraw(input);
        self.published.push((input, output));
    }

    /// Lets later formulas take an input from outside again.
    pub(crate) fn withdraw(&mut self, input: InputKey) {
        self.published.retain(|(known, _)| *known != input);
    }

    fn slot(&mut self, num: Num) -> Slot {
        self.program.slots.push(num);
        self.program.slots.len() as Slot - 1
    }

    fn constant(&mut self, number: Number) -> Slot {
        let num = Num::of(number.ty());
        let constant = match number {
            Number::Int(value, ty) if ty.is_real() => Constant::Real(value as f64),
            Number::Int(value, _) => Constant::Int(value as i64),
            Number::Real(value, _) => Constant::Real(value),
        };
        let known = self.program.constants.iter().find(|(slot, known)| {
            let same_kind = self.program.slots.get(*slot as usize) == Some(&num);
            let same_bits = match (known, constant) {
                (Constant::Real(a), Constant::Real(b)) => a.to_bits() == b.to_bits(),
                (a, b) => *a == b,
            };
            same_kind && same_bits
        });
        if let Some((slot, _)) = known {
            return *slot;
        }
        let slot = self.slot(num);
        self.program.constants.push((slot, constant));
        slot
    }

    fn input(&mut self, input: InputKey, ty: Ty, live: Live) -> Slot {
        let published = self.published.iter().find(|(known, _)| *known == input).map(|(_, output)| *output);
        if let Some((output, (slot, _))) = published.and_then(|output| Some((output, *self.program.outputs.get(output)?))) {
            let guard = self.guard_slot(live);
            self.program.needs.last_mut().into_iter().for_each(|needs| needs.push(Need { output, guard }));
            return slot;
        }
        let known = self.program.inputs.iter().find(|(_, known)| *known == input).map(|(slot, _)| *slot);
        let slot = known.unwrap_or_else(|| {
            let slot = self.slot(Num::of(ty));
            self.program.inputs.push((slot, input));
            slot
        });
        let own = Use { slot, output: self.owner as usize, live };
        let covered = |known: &Use| known.slot == slot && known.output == own.output && (known.live == live || known.live.is_none());
        if !self.program.uses.iter().any(covered) {
            self.program.uses.push(own);
        }
        slot
    }

    fn op(&mut self, what: Opcode, result: Num, operands: [Slot; 3], live: Live) -> Slot {
        let guard = if can_fault(what) { self.guard_slot(live) } else { None };
        let dst = self.slot(result);
        let site = self.program.sites.len() as u32;
        self.program.sites.push(self.span);
        let [a, b, c] = operands;
        self.program.ops.push(Op {
            what,
            dst,
            a,
            b,
            c,
            site,
            guard,
            live,
            owner: self.owner,
            safe: !can_fault(what),
            uniform: false,
            same_b: false,
            small: false,
        });
        dst
    }

    fn guard(&mut self, branch: Branch) -> Live {
        self.program.branches.push(branch);
        self.guards.push(None);
        Some(self.guards.len() as u32 - 1)
    }

    fn guard_slot(&mut self, live: Live) -> Option<Slot> {
        let index = live? as usize;
        if let Some(slot) = self.guards.get(index).copied().flatten() {
            return Some(slot);
        }
        let slot = match *self.program.branches.get(index)? {
            Branch::If { within, cond, holds } => match (self.guard_slot(within), holds) {
                (None, true) => cond,
                (None, false) => self.op(Opcode::Zero(Num::I32), Num::I32, [cond; 3], None),
                (Some(outer), true) => self.op(Opcode::Both, Num::I32, [outer, cond, cond], None),
                (Some(outer), false) => self.op(Opcode::Without, Num::I32, [outer, cond, cond], None),
            },
            Branch::Either(one, other) => {
                let (one, other) = (self.guard_slot(one)?, self.guard_slot(other)?);
                self.op(Opcode::Either, Num::I32, [one, other, other], None)
            }
        };
        self.guards.get_mut(index).into_iter().for_each(|place| *place = Some(slot));
        Some(slot)
    }

    fn note(&mut self, what: NoteKind, span: Span, slot: Slot, ty: Ty, live: Live) {
        if self.noting {
            let guard = self.guard_slot(live);
            self.program.notes.push(Note { owner: self.owner, span, slot, ty, guard, what });
        }
    }

    /// Lowers statements under a guard. Gives the guard under which control goes on behind them; `None` where
    /// it never does.
    fn statements(&mut self, list: &[Stmt], formula: &Formula, flow: &mut Flow, live: Live) -> Option<Live> {
        let mut live = live;
        for statement in list {
            match statement {
                Stmt::Set { var, value, .. } => {
                    let slot = self.expr(value, flow, live);
                    if let (Some(place), Some(declared)) = (flow.vars.get_mut(*var), formula.vars.get(*var)) {
                        *place = Some(slot);
                        self.note(NoteKind::Set(declared.name.clone()), value.span, slot, declared.ty, live);
                    }
                }
                Stmt::Return(value) => {
                    let slot = self.expr(value, flow, live);
                    self.note(NoteKind::Return, value.span, slot, flow.ty, live);
                    flow.returns.push((live, slot));
                    return None;
                }
                Stmt::If { cond, then, otherwise } => {
                    let cond = self.truth(cond, flow, live);
                    let before = flow.vars.clone();
                    let returned = flow.returns.len();
                    let in_then = self.guard(Branch::If { within: live, cond, holds: true });
                    let after_then = self.statements(then, formula, flow, in_then);
                    let then_vars = std::mem::replace(&mut flow.vars, before);
                    let in_else = self.guard(Branch::If { within: live, cond, holds: false });
                    let after_else = self.statements(otherwise, formula, flow, in_else);
                    match (after_then, after_else) {
                        (None, None) => return None,
                        (Some(then_live), None) => {
                            flow.vars = then_vars;
                            live = then_live;
                        }
                        (None, Some(else_live)) => live = else_live,
                        (Some(then_live), Some(else_live)) => {
                            self.merge(cond, &then_vars, &mut flow.vars, formula);
                            if flow.returns.len() > returned {
                                live = self.guard(Branch::Either(then_live, else_live));
                            }
                        }
                    }
                }
            }
        }
        Some(live)
    }

    fn merge(&mut self, cond: Slot, then_vars: &[Option<Slot>], vars: &mut [Option<Slot>], formula: &Formula) {
        for ((then_slot, slot), var) in then_vars.iter().zip(vars).zip(&formula.vars) {
            *slot = match (*then_slot, *slot) {
                (Some(a), Some(b)) if a != b => Some(self.op(Opcode::Select(Num::of(var.ty)), Num::of(var.ty), [cond, a, b], None)),
                (a, b) => b.or(a),
            };
        }
    }

    /// A value as truth: 0 or 1.
    fn truth(&mut self, expr: &Expr, flow: &mut Flow, live: Live) -> Slot {
        let slot = self.expr(expr, flow, live);
        let is_truth = matches!(expr.kind, ExprKind::Compare(..) | ExprKind::Logic(..) | ExprKind::Not(_)) || expr.ty == Ty::Bool;
        if is_truth { slot } else { self.op(Opcode::Truth(Num::of(expr.ty)), Num::I32, [slot; 3], None) }
    }

    fn expr(&mut self, expr: &Expr, flow: &mut Flow, live: Live) -> Slot {
        let slot = self.expr_of(expr, flow, live);
        if let Some(place) = self.traced.as_mut().and_then(|traced| traced.get_mut(expr.id.0 as usize)) {
            // What only passes a value on has no operation of its own.
            let passes_on = match &expr.kind {
                ExprKind::Const(_) | ExprKind::Var(_) | ExprKind::Input(_) => true,
                ExprKind::Convert(inner) => fits_as_is(inner.ty, expr.ty),
                _ => false,
            };
            let made = if passes_on { None } else { self.program.ops.iter().rposition(|op| op.dst == slot) };
            *place = (slot, made);
        }
        slot
    }

    fn expr_of(&mut self, expr: &Expr, flow: &mut Flow, live: Live) -> Slot {
        let num = Num::of(expr.ty);
        match &expr.kind {
            ExprKind::Const(number) => self.constant(match *number {
                Number::Int(value, _) => Number::Int(value, expr.ty),
                real => real,
            }),
            ExprKind::Var(var) => {
                let slot = flow.vars.get(*var).copied().flatten();
                let slot = slot.unwrap_or_else(|| self.constant(Number::Int(0, expr.ty)));
                self.note(NoteKind::Use, expr.span, slot, expr.ty, live);
                slot
            }
            ExprKind::Input(input) => {
                let slot = self.input(*input, expr.ty, live);
                self.note(NoteKind::Use, expr.span, slot, expr.ty, live);
                slot
            }
            ExprKind::Neg(inner) => self.unary(Opcode::Neg(num), num, inner, expr.span, flow, live),
            ExprKind::BitNot(inner) => self.unary(Opcode::Not(num), num, inner, expr.span, flow, live),
            ExprKind::Not(inner) => self.unary(Opcode::Zero(Num::of(inner.ty)), Num::I32, inner, expr.span, flow, live),
            ExprKind::Convert(inner) => {
                let from = Num::of(inner.ty);
                if fits_as_is(inner.ty, expr.ty) {
                    return self.expr(inner, flow, live);
                }
                self.unary(Opcode::Convert(from, expr.ty), num, inner, expr.span, flow, live)
            }
            ExprKind::Arith(op, left, right) => {
                let what = match op {
                    Arith::Add => Opcode::Add(num),
                    Arith::Sub => Opcode::Sub(num),
                    Arith::Mul => Opcode::Mul(num),
                    Arith::Div => Opcode::Div(num),
                    Arith::Rem => Opcode::Rem(num),
                    Arith::BitAnd => Opcode::And(num),
                    Arith::BitOr => Opcode::Or(num),
                    Arith::BitXor => Opcode::Xor(num),
                };
                self.binary(what, num, left, right, expr.span, flow, live)
            }
            ExprKind::Shift(op, left, right) => {
                let count = Num::of(right.ty);
                let what = match op {
                    Shift::Left => Opcode::Shl(num, count),
                    Shift::Right => Opcode::Shr(num, count),
                };
                self.binary(what, num, left, right, expr.span, flow, live)
            }
            ExprKind::Compare(op, left, right) => {
                let of = Num::of(left.ty);
                match op {
                    Compare::Less => self.binary(Opcode::Less(of), Num::I32, left, right, expr.span, flow, live),
                    Compare::LessEqual => self.binary(Opcode::LessEqual(of), Num::I32, left, right, expr.span, flow, live),
                    Compare::Greater => self.binary(Opcode::Less(of), Num::I32, right, left, expr.span, flow, live),
                    Compare::GreaterEqual => self.binary(Opcode::LessEqual(of), Num::I32, right, left, expr.span, flow, live),
                    Compare::Equal => self.binary(Opcode::Equal(of), Num::I32, left, right, expr.span, flow, live),
                    Compare::NotEqual => {
                        let equal = self.binary(Opcode::Equal(of), Num::I32, left, right, expr.span, flow, live);
                        self.op(Opcode::Zero(Num::I32), Num::I32, [equal; 3], None)
                    }
                }
            }
            ExprKind::Logic(op, left, right) => {
                let left = self.truth(left, flow, live);
                let decides = self.guard(Branch::If { within: live, cond: left, holds: *op == Logic::And });
                let right = self.truth(right, flow, decides);
                self.op(if *op == Logic::And { Opcode::Both } else { Opcode::Either }, Num::I32, [left, right, right], None)
            }
            ExprKind::Cond(cond, then, otherwise) => {
                let cond = self.truth(cond, flow, live);
                let in_then = self.guard(Branch::If { within: live, cond, holds: true });
                let then = self.expr(then, flow, in_then);
                let in_else = self.guard(Branch::If { within: live, cond, holds: false });
                let otherwise = self.expr(otherwise, flow, in_else);
                self.op(Opcode::Select(num), num, [cond, then, otherwise], None)
            }
            ExprKind::Curve(curve, arg) => self.unary(Opcode::Curve(*curve, num), num, arg, expr.span, flow, live),
            ExprKind::Call(func, args) => {
                let slots: Vec<Slot> = args.iter().map(|arg| self.expr(arg, flow, live)).collect();
                let a = slots.first().copied().unwrap_or(0);
                let b = slots.get(1).copied().unwrap_or(a);
                self.span = expr.span;
                self.op(Opcode::Call(*func, num), num, [a, b, b], live)
            }
        }
    }

    fn unary(&mut self, what: Opcode, result: Num, inner: &Expr, span: Span, flow: &mut Flow, live: Live) -> Slot {
        let slot = self.expr(inner, flow, live);
        self.span = span;
        self.op(what, result, [slot; 3], live)
    }

    #[allow(clippy::too_many_arguments)] // the operands of one operation, all needed
    fn binary(&mut self, what: Opcode, result: Num, left: &Expr, right: &Expr, span: Span, flow: &mut Flow, live: Live) -> Slot {
        let a = self.expr(left, flow, live);
        let b = self.expr(right, flow, live);
        self.span = span;
        self.op(what, result, [a, b, b], live)
    }
}

/// Whether a conversion leaves the stored number as it is.
fn fits_as_is(from: Ty, to: Ty) -> bool {
    let same_store = matches!((Num::of(from), Num::of(to)), (a, b) if a == b);
    let widens = match (from.bounds(), to.bounds()) {
        (Some((low, high)), Some((to_low, to_high))) => to_low <= low && high <= to_high,
        _ => from == to,
    };
    same_store && widens
}

fn can_fault(what: Opcode) -> bool {
    let signed = |num| matches!(num, Num::I32 | Num::I64);
    match what {
        Opcode::Add(num) | Opcode::Sub(num) | Opcode::Mul(num) | Opcode::Neg(num) => signed(num),
        Opcode::Div(_) | Opcode::Rem(_) | Opcode::Shl(..) | Opcode::Shr(..) | Opcode::Curve(..) => true,
        Opcode::Convert(Num::F32 | Num::F64, ty) => !ty.is_real() && ty != Ty::Bool,
        Opcode::Convert(Num::I32 | Num::U32 | Num::I64 | Num::U64, _) => false,
        Opcode::Call(func, num) => func == crate::formula::functions::Func::Abs && signed(num),
        Opcode::And(_) | Opcode::Or(_) | Opcode::Xor(_) | Opcode::Not(_) => false,
        Opcode::Less(_) | Opcode::LessEqual(_) | Opcode::Equal(_) | Opcode::Truth(_) | Opcode::Zero(_) | Opcode::Max(_) => false,
        Opcode::Select(_) | Opcode::Both | Opcode::Without | Opcode::Either => false,
        // Made of operations that are proved unable to.
        Opcode::MulShr(_) | Opcode::ShlDiv | Opcode::NarrowReal | Opcode::NarrowDiv => false,
    }
}

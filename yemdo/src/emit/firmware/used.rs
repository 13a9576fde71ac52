//! Collects what statements use: variables, changed structures, and the answer to the last request.

use std::collections::BTreeSet;

use super::code::{Ask, Expr, Function, Machine, Module, Stmt};

/// Everything the statements of a machine use.
#[derive(Clone, Debug, Default)]
pub(super) struct Used {
    /// Variables, and structures whose members are used.
    pub(super) names: BTreeSet<String>,
    /// Structures with a member that is set.
    pub(super) changed: BTreeSet<String>,
    /// Functions that are called, by their names in C.
    pub(super) calls: BTreeSet<String>,
    /// Whether the last request was answered.
    pub(super) answered: bool,
    /// Frames that are unpacked: the device is changed.
    pub(super) unpacked: BTreeSet<String>,
}

impl Used {
    /// Everything a module uses.
    pub(super) fn in_module(module: &Module) -> Self {
        let mut used = Self::default();
        module.functions.iter().for_each(|function| used.list(&function.body));
        module.machines.iter().flat_map(|machine| &machine.states).for_each(|(_, list)| used.list(list));
        used
    }

    /// What all states of a machine use.
    pub(super) fn by(machine: &Machine) -> Self {
        let mut used = Self::default();
        machine.states.iter().for_each(|(_, list)| used.list(list));
        used
    }

    /// Everything a function uses.
    pub(super) fn in_function(function: &Function) -> Self {
        let mut used = Self::default();
        used.list(&function.body);
        used
    }

    /// Everything an expression uses.
    pub(super) fn in_expr(expr: &Expr) -> Self {
        let mut used = Self::default();
        used.expr(expr);
        used
    }

    fn list(&mut self, list: &[Stmt]) {
        list.iter().for_each(|statement| self.statement(statement));
    }

    fn statement(&mut self, statement: &Stmt) {
        match statement {
            Stmt::Comment(_) | Stmt::Fail(_) | Stmt::Filled | Stmt::Goto(_) | Stmt::Raise(_) | Stmt::Finish(_) => {}
            Stmt::Let { value, .. } => value.iter().for_each(|value| self.expr(value)),
            Stmt::Set(place, value) => {
                if let Expr::Member(of, _) = place {
                    self.changed.insert(of.clone());
                }
                self.expr(place);
                self.expr(value);
            }
            Stmt::If(holds, then, otherwise) => {
                self.expr(holds);
                self.list(then);
                self.list(otherwise);
            }
            Stmt::Checked { args, .. } => args.iter().for_each(|arg| self.expr(arg)),
            Stmt::Take { from, .. } => self.expr(from),
            Stmt::Return(value) | Stmt::Do(value) | Stmt::Ignore(value) | Stmt::Out(_, value) | Stmt::Try(_, _, value) => self.expr(value),
            Stmt::EachByte(_, bytes, _, _, list) => {
                self.names.insert(bytes.clone());
                self.list(list);
            }
            Stmt::Times(_, list) | Stmt::EachCode { body: list, .. } => self.list(list),
            Stmt::Ask(_, ask) => match ask {
                Ask::Wait(micros) | Ask::Line(_, micros) => self.expr(micros),
                Ask::Transfer(..) | Ask::ModbusRead(..) | Ask::ModbusWrite(..) => {}
            },
            Stmt::Unpack { var, .. } => {
                self.unpacked.insert(var.clone());
            }
            Stmt::Decode { unpack, readings, .. } => self.names.extend(unpack.1.iter().chain(&readings.1).cloned()),
            Stmt::Switch(value, ways, otherwise) => {
                self.expr(value);
                ways.iter().for_each(|(_, list)| self.list(list));
                self.list(otherwise);
            }
        }
    }

    fn expr(&mut self, expr: &Expr) {
        match expr {
            Expr::Int(..) | Expr::Hex(..) | Expr::Real(..) | Expr::Bool(_) | Expr::Value(..) => {}
            Expr::NoAnswer => self.answered = true,
            Expr::Var(name) | Expr::There(name) | Expr::IsThere(name) | Expr::Pass(name) | Expr::Member(name, _) | Expr::Own(name, _) => {
                self.names.insert(name.clone());
            }
            Expr::Byte(name, _) | Expr::Bytes(name, _) => {
                self.names.insert(name.clone());
            }
            Expr::Neg(_, one) | Expr::BitNot(_, one) | Expr::Not(one) | Expr::FromBool(_, one) | Expr::SignExtend(_, _, _, one) => {
                self.expr(one)
            }
            Expr::FromCode(_, one) | Expr::CodeOf(one) | Expr::Bcd(one, _) | Expr::Outside(_, one, ..) => self.expr(one),
            Expr::FromBits(_, _, one) | Expr::IsFinite(_, one) | Expr::Cast { value: one, .. } => self.expr(one),
            Expr::Arith(_, _, one, other)
            | Expr::Shl(_, one, other)
            | Expr::Shr { value: one, count: other, .. }
            | Expr::Compare(_, _, one, other)
            | Expr::And(one, other)
            | Expr::Or(one, other)
            | Expr::Reading(one, other) => [one, other].into_iter().for_each(|one| self.expr(one)),
            Expr::Within(_, one, two, three) | Expr::Clamp(one, two, three) | Expr::Cond(one, two, three) => {
                [one, two, three].into_iter().for_each(|one| self.expr(one));
            }
            Expr::Call(name, args) | Expr::Method(name, args) => {
                self.calls.insert(name.c.clone());
                args.iter().for_each(|arg| self.expr(arg));
            }
            Expr::Math(_, _, args) => args.iter().for_each(|arg| self.expr(arg)),
        }
    }
}

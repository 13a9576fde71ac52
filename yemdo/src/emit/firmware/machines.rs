//! What all printers ask of a state machine.

use super::code::{Ask, Machine, Module, Stmt};

impl Module {
    /// True if a routine asks for such a thing.
    pub(super) fn asks(&self, such: &dyn Fn(&Ask) -> bool) -> bool {
        self.machines.iter().any(|machine| machine.states.iter().any(|(_, list)| within(list, such)))
    }
}

impl Machine {
    /// True if it continues without a request in some state: it needs a loop.
    pub(super) fn loops(&self) -> bool {
        self.states.iter().any(|(_, list)| goes_on(list) || !ends(list))
    }
}

fn within(list: &[Stmt], such: &dyn Fn(&Ask) -> bool) -> bool {
    list.iter().any(|statement| match statement {
        Stmt::Ask(_, ask) => such(ask),
        Stmt::If(_, then, otherwise) => within(then, such) || within(otherwise, such),
        _ => false,
    })
}

fn goes_on(list: &[Stmt]) -> bool {
    list.iter().any(|statement| match statement {
        Stmt::Goto(_) => true,
        Stmt::If(_, then, otherwise) => goes_on(then) || goes_on(otherwise),
        _ => false,
    })
}

/// True if control never passes the end of statements.
pub(super) fn ends(list: &[Stmt]) -> bool {
    match list.last() {
        Some(Stmt::Goto(_) | Stmt::Ask(..) | Stmt::Raise(_) | Stmt::Finish(_)) => true,
        Some(Stmt::If(_, then, otherwise)) => ends(then) && ends(otherwise),
        _ => false,
    }
}

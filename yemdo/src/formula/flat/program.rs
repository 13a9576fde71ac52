//! The flat program that formulas are lowered to: straight-line, each slot written once, no jumps.
//!
//! `if`, `?:`, `&&` and `||` become selections under *guards*: every operation runs for every frame, but its
//! faults count only where its guard holds. That keeps columns of frames in step without a branch.

use std::sync::Arc;

use crate::formula::curve::Curve;
use crate::formula::functions::Func;
use crate::formula::input::{CurveId, InputKey};
use crate::ground::number::Ty;
use crate::ground::text::Span;

/// Index of a value in the program.
pub(crate) type Slot = u32;

/// How numbers are stored in a column. Everything narrower than `int` is kept as `int`, unsigned numbers as
/// their bit patterns.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Num {
    I32,
    U32,
    I64,
    U64,
    F32,
    F64,
}

impl Num {
    pub(crate) fn of(ty: Ty) -> Num {
        match ty {
            Ty::Bool | Ty::I8 | Ty::U8 | Ty::I16 | Ty::U16 | Ty::I32 => Num::I32,
            Ty::U32 => Num::U32,
            Ty::I64 => Num::I64,
            Ty::U64 => Num::U64,
            Ty::F32 => Num::F32,
            Ty::F64 => Num::F64,
        }
    }

    pub(crate) fn ty(self) -> Ty {
        match self {
            Num::I32 => Ty::I32,
            Num::U32 => Ty::U32,
            Num::I64 => Ty::I64,
            Num::U64 => Ty::U64,
            Num::F32 => Ty::F32,
            Num::F64 => Ty::F64,
        }
    }
}

/// What an operation does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Opcode {
    Add(Num),
    Sub(Num),
    Mul(Num),
    Div(Num),
    Rem(Num),
    And(Num),
    Or(Num),
    Xor(Num),
    /// The count in `b` is an `int`-kept number, or 64-bit as the second says.
    Shl(Num, Num),
    Shr(Num, Num),
    Neg(Num),
    Not(Num),
    Less(Num),
    LessEqual(Num),
    Equal(Num),
    /// `a != 0`.
    Truth(Num),
    /// `a == 0`.
    Zero(Num),
    /// `a != 0 ? b : c`; `a` is `int`, the others as given.
    Select(Num),
    /// `a && b` of two truths.
    Both,
    /// `a && !b` of two truths.
    Without,
    /// `a || b` of two truths.
    Either,
    /// From a stored number to a type.
    Convert(Num, Ty),
    Call(Func, Num),
    /// `(a * b) >> c`, of two operations that cannot fault; `c` is the same in all lanes.
    MulShr(Num),
    /// `(a << c) / b`, of two operations that cannot fault, all in numbers that a double holds exactly; `c` is the
    /// same in all lanes.
    ShlDiv,
    /// `a < b ? b : a` of signed integers.
    Max(Num),
    /// `(double)(int32_t)a`.
    NarrowReal,
    /// `(double)(int32_t)a / b`, of a `b` that is proved not to be zero.
    NarrowDiv,
    /// The curve of that id in [`Program::curves`], at `a`, in that kind of number.
    Curve(CurveId, Num),
}

impl Opcode {
    /// Whether the operands may change places.
    pub(crate) fn commutes(self) -> bool {
        matches!(self, Opcode::Add(_) | Opcode::Mul(_) | Opcode::And(_) | Opcode::Or(_) | Opcode::Xor(_) | Opcode::Equal(_))
    }
}

/// One operation.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Op {
    pub(crate) what: Opcode,
    pub(crate) dst: Slot,
    pub(crate) a: Slot,
    pub(crate) b: Slot,
    pub(crate) c: Slot,
    /// Where in the sheet; index into [`Program::sites`].
    pub(crate) site: u32,
    /// Truth under which its faults count.
    pub(crate) guard: Option<Slot>,
    /// The branch it stands in; index into [`Program::branches`].
    pub(crate) live: Option<u32>,
    /// Index of the output whose formula it belongs to.
    pub(crate) owner: u32,
    /// Proved unable to fault.
    pub(crate) safe: bool,
    /// The same for all frames that are decoded together, and unable to fault: computed once.
    pub(crate) uniform: bool,
    /// Its second operand is the same for all frames that are decoded together.
    pub(crate) same_b: bool,
    /// Its operands are proved to be integers below 2^51: a double holds them exactly, with room to spare.
    pub(crate) small: bool,
}

/// A formula uses another's value.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Need {
    /// Index of the output that is used.
    pub(crate) output: usize,
    /// Truth under which it is.
    pub(crate) guard: Option<Slot>,
}

/// A use of an input by a formula. A missing input is a fault if the branch runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Use {
    pub(crate) slot: Slot,
    /// Index of the output whose formula it is.
    pub(crate) output: usize,
    /// The branch of the use; index into [`Program::branches`].
    pub(crate) live: Option<u32>,
}

/// A condition under which code runs.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Branch {
    /// `within` holds and the slot is true (or false).
    If { within: Option<u32>, cond: Slot, holds: bool },
    /// One of two holds.
    Either(Option<u32>, Option<u32>),
}

/// A value that a formula set or used, for showing the steps.
#[derive(Clone, Debug)]
pub(crate) struct Note {
    pub(crate) owner: u32,
    pub(crate) span: Span,
    pub(crate) slot: Slot,
    pub(crate) ty: Ty,
    pub(crate) guard: Option<Slot>,
    pub(crate) what: NoteKind,
}

#[derive(Clone, Debug, PartialEq)]
pub(crate) enum NoteKind {
    /// A name stands here and has this value.
    Use,
    /// A variable takes this value; the span is that of the expression.
    Set(String),
    /// The formula returns this value; the span is that of the expression.
    Return,
}

/// The formulas of one or several outputs, flat.
#[derive(Clone, Debug, Default)]
pub(crate) struct Program {
    pub(crate) ops: Vec<Op>,
    /// The stored kind of every slot.
    pub(crate) slots: Vec<Num>,
    pub(crate) constants: Vec<(Slot, Constant)>,
    pub(crate) inputs: Vec<(Slot, InputKey)>,
    pub(crate) curves: Vec<Arc<Curve>>,
    /// The places that operations point at.
    pub(crate) sites: Vec<Span>,
    pub(crate) branches: Vec<Branch>,
    /// For every output: its value's slot and type.
    pub(crate) outputs: Vec<(Slot, Ty)>,
    /// For every output, whether it is proved to be a finite number; empty where nobody has looked.
    pub(crate) finite: Vec<bool>,
    /// For every output, the others whose values it uses.
    pub(crate) needs: Vec<Vec<Need>>,
    /// Uses of inputs.
    pub(crate) uses: Vec<Use>,
    /// Empty unless asked for.
    pub(crate) notes: Vec<Note>,
}

impl Program {
    /// A curve that it calls.
    pub(crate) fn curve(&self, id: CurveId) -> Option<&Curve> {
        self.curves.get(id.0 as usize).map(Arc::as_ref)
    }

    /// Conditions for the use of other outputs, and of branches that use inputs.
    pub(crate) fn need_guards(&self) -> impl Iterator<Item = Slot> {
        let mut branches: Vec<u32> = self.uses.iter().filter_map(|one| one.live).collect();
        let mut at = 0;
        while let Some(branch) = branches.get(at).and_then(|branch| self.branches.get(*branch as usize)) {
            match *branch {
                Branch::If { within, .. } => branches.extend(within),
                Branch::Either(one, other) => branches.extend(one.into_iter().chain(other)),
            }
            at += 1;
        }
        let conditions = branches.into_iter().filter_map(|branch| match self.branches.get(branch as usize)? {
            Branch::If { cond, .. } => Some(*cond),
            Branch::Either(..) => None,
        });
        self.needs.iter().flatten().filter_map(|need| need.guard).chain(conditions)
    }

    /// Uses of an input.
    pub(crate) fn users(&self, slot: Slot) -> Vec<Use> {
        self.uses.iter().filter(|one| one.slot == slot).copied().collect()
    }

    /// True if a branch runs; `holds` evaluates its conditions.
    pub(crate) fn runs(&self, live: Option<u32>, holds: &dyn Fn(Slot) -> bool) -> bool {
        match live.and_then(|branch| self.branches.get(branch as usize)) {
            None => true,
            Some(Branch::If { within, cond, holds: wanted }) => holds(*cond) == *wanted && self.runs(*within, holds),
            Some(Branch::Either(one, other)) => self.runs(*one, holds) || self.runs(*other, holds),
        }
    }
}

/// A constant as stored.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Constant {
    Int(i64),
    Real(f64),
}

//! Operations made ready for one frame after the other: those that cannot fault, with their functions chosen.
//!
//! A function takes the bits of its operands out of their cells and puts those of the result into one. Most operations
//! use the result of the one before them: they are handed it, and need not wait for its cell.

use crate::formula::flat::program::{Num, Op, Opcode, Program, Slot};
use crate::formula::functions::Func;
use crate::formula::kernels::{self as k, int32, int64, ok};
use crate::formula::run::operations::operations;
use crate::formula::run::single::{Cell, one, two};
use crate::ground::number::Ty;

/// Cells that operations with chosen functions reach. Their addresses are bytes, which need no look at the bounds.
pub(super) const NEAR: usize = 256;

/// An operation that cannot fault, made ready: what it does to its operands' bits, and where they are.
#[derive(Clone, Copy, Debug)]
pub(super) struct Chosen {
    pub(super) run: Option<Function>,
    dst: u8,
    a: u8,
    b: u8,
    c: u8,
    /// Without a function it takes the long way: its place among the operations.
    pub(super) op: u32,
}

pub(super) type Near = [u64; NEAR];

/// Takes its first operand from the operation before it, in place of its cell, where it says so; gives the result on.
pub(super) type Function = fn(&mut Near, u64, &Chosen) -> u64;

/// The selections, by their place, whose condition is computed once for all frames.
pub(super) fn decided(program: &Program, varying: &[Op]) -> Vec<usize> {
    let once = |slot: Slot| program.ops.iter().any(|op| op.uniform && op.dst == slot);
    let decided = |op: &Op| matches!(op.what, Opcode::Select(_)) && once(op.a);
    varying.iter().enumerate().filter(|(_, op)| decided(op)).map(|(at, _)| at).collect()
}

impl Chosen {
    /// Makes operations ready, which follow one another.
    pub(super) fn all(ops: &[Op]) -> Vec<Self> {
        let mut all: Vec<Self> = Vec::with_capacity(ops.len());
        for (at, op) in ops.iter().enumerate() {
            let before = at.checked_sub(1).and_then(|at| ops.get(at)).filter(|_| all.last().is_some_and(|before| before.run.is_some()));
            let follows = |slot: Slot| before.is_some_and(|before| before.dst == slot);
            let (a, b) = if op.what.commutes() && follows(op.b) { (op.b, op.a) } else { (op.a, op.b) };
            let function = if follows(a) { function::<true>(op) } else { function::<false>(op) };
            let run = function.filter(|_| op.safe);
            all.push(Self { run, dst: op.dst as u8, a: a as u8, b: b as u8, c: op.c as u8, op: at as u32 });
        }
        all
    }

    /// Gives on one of the operands in place of what it did.
    pub(super) fn take(&mut self, slot: Slot, follows: bool) {
        self.a = slot as u8;
        self.run = Some(if follows {
            |cells, before, at| at.go::<true>(cells, before, |a, _, _| a)
        } else {
            |cells, before, at| at.go::<false>(cells, before, |a, _, _| a)
        });
    }

    #[inline(always)]
    fn go<const FOLLOWS: bool>(&self, cells: &mut Near, before: u64, f: impl Fn(u64, u64, u64) -> u64) -> u64 {
        let a = if FOLLOWS { before } else { cells[usize::from(self.a)] };
        let result = f(a, cells[usize::from(self.b)], cells[usize::from(self.c)]);
        cells[usize::from(self.dst)] = result;
        result
    }
}

/// What an operation that is proved unable to fault does to the bits of its operands, where it is plain enough.
fn function<const FOLLOWS: bool>(op: &Op) -> Option<Function> {
    use Num as N;
    type I32 = i32;
    type I64 = i64;
    type F32 = f32;
    type F64 = f64;
    macro_rules! chosen {
        ($f:expr) => {
            |cells, before, at| at.go::<FOLLOWS>(cells, before, $f)
        };
    }
    macro_rules! apply {
        ($f:expr, $d:ident, $a:ident) => {
            chosen!(|a, _, _| one::<$d, $a>(a, $f).0)
        };
        ($f:expr, $d:ident, $a:ident, $b:ident) => {
            chosen!(|a, b, _| two::<$d, $a, $b>(a, b, $f).0)
        };
    }
    // A count that is proved to be one is so in its low bits, whatever its type.
    let function: Function = match op.what {
        Opcode::Select(_) => chosen!(|a, b, c| if a as i32 != 0 { b } else { c }),
        Opcode::MulShr(N::I32) => chosen!(|a, b, c| ((a as i32).wrapping_mul(b as i32) >> (c & 31)).put()),
        Opcode::MulShr(N::I64) => chosen!(|a, b, c| ((a as i64).wrapping_mul(b as i64) >> (c & 63)).put()),
        Opcode::ShlDiv => chosen!(|a, b, c| k::small_div((a as i64) << (c & 63), b as i64).put()),
        Opcode::Div(N::I64) if op.small => chosen!(|a, b, _| k::small_div(a as i64, b as i64).put()),
        Opcode::Shl(N::I32 | N::U32, _) => chosen!(|a, b, _| ((a as i32) << (b & 31)).put()),
        Opcode::Shl(N::I64 | N::U64, _) => chosen!(|a, b, _| a << (b & 63)),
        Opcode::Shr(N::I32, _) => chosen!(|a, b, _| (a as i32 >> (b & 31)).put()),
        Opcode::Shr(N::U32, _) => chosen!(|a, b, _| u64::from(a as u32 >> (b & 31))),
        Opcode::Shr(N::I64, _) => chosen!(|a, b, _| (a as i64 >> (b & 63)).put()),
        Opcode::Shr(N::U64, _) => chosen!(|a, b, _| a >> (b & 63)),
        Opcode::Convert(N::I32, Ty::I64 | Ty::U64) => chosen!(|a, _, _| i64::from(a as i32).put()),
        Opcode::Convert(N::I64 | N::U64, Ty::I32 | Ty::U32) => chosen!(|a, _, _| u64::from(a as u32)),
        Opcode::Convert(N::I32, Ty::F64) => chosen!(|a, _, _| f64::from(a as i32).put()),
        Opcode::Convert(N::U32, Ty::F64) => chosen!(|a, _, _| f64::from(a as u32).put()),
        Opcode::Convert(N::F32, Ty::F64) => chosen!(|a, _, _| f64::from(f32::get(a)).put()),
        Opcode::Convert(N::F64, Ty::F32) => chosen!(|a, _, _| (f64::get(a) as f32).put()),
        Opcode::Convert(N::I64, Ty::F64) => chosen!(|a, _, _| (a as i64 as f64).put()),
        Opcode::Convert(N::I32 | N::U32, Ty::I32 | Ty::U32) | Opcode::Convert(N::U32 | N::I64 | N::U64, Ty::I64 | Ty::U64) => {
            chosen!(|a, _, _| a)
        }
        _ => operations!(op, apply, return None),
    };
    Some(function)
}

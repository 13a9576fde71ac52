//! Pairs of operations that are worth one of their own: what vendors' integer arithmetic is made of.
//!
//! Only operations proved unable to fault are joined, so no fault needs a place in between.

use crate::formula::flat::program::{Num, Op, Opcode, Program, Slot};
use crate::ground::number::Ty;

/// Joins a product with the shift behind it, a shift with the quotient behind it, a comparison with the choice of the
/// larger, and a narrowing with the conversion behind it, where nothing else uses what stands between.
pub(crate) fn pairs(program: &mut Program) {
    let mut at = 0;
    while let Some(op) = program.ops.get(at).copied() {
        let before = program.ops.iter().take(at).position(|first| first.dst == op.a);
        if let Some((first_at, first)) = before.and_then(|before| Some((before, *program.ops.get(before)?)))
            && let Some(joined) = joined(&first, &op)
            && uses(program, first.dst) == 1
        {
            program.ops.get_mut(at).into_iter().for_each(|place| *place = joined);
            program.ops.remove(first_at);
        } else {
            at += 1;
        }
    }
}

/// Inputs that are only used as 64 bits come as such at once. `may` says which inputs can; gives the slots that changed,
/// before and after.
pub(crate) fn widen(program: &mut Program, may: &[Slot]) -> Vec<(Slot, Slot)> {
    let mut changed = Vec::new();
    for slot in may.iter().copied() {
        let widens = |op: &Op| op.a == slot && matches!(op.what, Opcode::Convert(Num::I32, Ty::I64));
        if let Some(at) = program.ops.iter().position(widens).filter(|_| uses(program, slot) == 1) {
            let wide = program.ops.remove(at).dst;
            let input = program.inputs.iter_mut().find(|(known, _)| *known == slot);
            input.into_iter().for_each(|(known, _)| *known = wide);
            changed.push((slot, wide));
        }
    }
    changed
}

fn joined(first: &Op, op: &Op) -> Option<Op> {
    let can = first.safe && op.safe && !first.uniform && !op.uniform;
    let what = match (first.what, op.what) {
        (Opcode::Mul(Num::I32), Opcode::Shr(Num::I32, _)) if can && op.same_b => Opcode::MulShr(Num::I32),
        (Opcode::Mul(Num::I64), Opcode::Shr(Num::I64, _)) if can && op.same_b => Opcode::MulShr(Num::I64),
        (Opcode::Convert(Num::I64, Ty::I32), Opcode::Convert(Num::I32, Ty::F64)) if can => {
            return Some(Op { what: Opcode::NarrowReal, a: first.a, b: first.a, c: first.a, ..*op });
        }
        (Opcode::NarrowReal, Opcode::Div(Num::F64)) if can && op.b != first.dst => {
            return Some(Op { what: Opcode::NarrowDiv, a: first.a, c: first.a, ..*op });
        }
        (Opcode::Less(num @ (Num::I32 | Num::I64)), Opcode::Select(_)) if can && op.b == first.b && op.c == first.a => {
            return Some(Op {
                what: Opcode::Max(num),
                a: first.a,
                b: first.b,
                c: first.a,
                same_b: first.same_b,
                small: first.small,
                ..*op
            });
        }
        (Opcode::Shl(Num::I64, _), Opcode::Div(Num::I64)) if can && first.same_b && op.small => {
            return Some(Op { what: Opcode::ShlDiv, a: first.a, b: op.b, c: first.b, ..*op });
        }
        _ => return None,
    };
    Some(Op { what, a: first.a, b: first.b, c: op.b, same_b: first.same_b, ..*op })
}

/// How often a slot is used.
fn uses(program: &Program, slot: Slot) -> usize {
    let operands = |op: &Op| {
        let used = [Some(op.a), takes_b(op.what).then_some(op.b), takes_c(op.what).then_some(op.c), op.guard];
        used.into_iter().filter(|used| *used == Some(slot)).count()
    };
    let outputs = program.outputs.iter().filter(|(output, _)| *output == slot).count();
    outputs + program.need_guards().filter(|guard| *guard == slot).count() + program.ops.iter().map(operands).sum::<usize>()
}

/// Operations of one operand name it as the others too.
fn takes_b(what: Opcode) -> bool {
    !matches!(
        what,
        Opcode::Neg(_) | Opcode::Not(_) | Opcode::Truth(_) | Opcode::Zero(_) | Opcode::Convert(..) | Opcode::Curve(..) | Opcode::NarrowReal
    )
}

fn takes_c(what: Opcode) -> bool {
    matches!(what, Opcode::Select(_) | Opcode::MulShr(_) | Opcode::ShlDiv)
}

//! Marks the operations that give the same for all frames that are decoded together: those over constants, settings and
//! what came in other frames. They run once for many frames.

use super::program::{Opcode, Program, Slot};

/// Marks them; `held` are the slots of inputs that stay the same. What commutes gets what stays the same on the right.
pub(crate) fn mark(program: &mut Program, held: impl Iterator<Item = Slot>) {
    let mut same = vec![false; program.slots.len()];
    for slot in held.chain(program.constants.iter().map(|(slot, _)| *slot)) {
        same.get_mut(slot as usize).into_iter().for_each(|same| *same = true);
    }
    for op in &mut program.ops {
        let is = |slot: Slot| same.get(slot as usize).copied().unwrap_or(false);
        op.uniform = op.safe && is(op.a) && is(op.b) && is(op.c);
        if op.what.commutes() && is(op.a) && !is(op.b) {
            std::mem::swap(&mut op.a, &mut op.b);
        }
        op.same_b = is(op.b) && !matches!(op.what, Opcode::Select(_));
        if op.uniform {
            same.get_mut(op.dst as usize).into_iter().for_each(|same| *same = true);
        }
    }
}

//! Marks the operations of a program that cannot fault for any input within its bounds, so that they run unchecked, and
//! the outputs that are finite numbers always.

use super::interval::{Interval, analyse};
use super::program::{Program, Slot};
use crate::formula::input::InputKey;
use crate::ground::number::Ty;

/// Marks what is proved when every input keeps to its bounds.
pub(crate) fn prove(program: &mut Program, bounds: &dyn Fn(InputKey) -> Interval) {
    let analysis = analyse(program, bounds);
    let finite = |(slot, _): &(Slot, Ty)| {
        let (low, high) = analysis.slot(*slot).to_f64();
        low.is_finite() && high.is_finite()
    };
    program.finite = program.outputs.iter().map(finite).collect();
    let exact = |slot: Slot| matches!(analysis.slot(slot), Interval::Int(low, high) if low > -(1 << 51) && high < 1 << 51);
    for (op, safe) in program.ops.iter_mut().zip(&analysis.safe) {
        op.safe |= safe;
        op.small = op.safe && exact(op.a) && exact(op.b);
    }
}

//! Fields behind quantities, and the order of quantities that follows.

use super::Wish;
use crate::formula::typed::Formula;
use crate::model::ids::{FieldId, QuantityId, RegisterId};
use crate::model::input::{Input, inputs};
use crate::model::operation::Quantity;
use crate::model::part::Sheet;

/// The registers that decide what some wishes come to: those of the fields behind quantities and computed codes.
pub fn registers_behind(part: &Sheet, wishes: &[Wish]) -> Vec<RegisterId> {
    let asked = wishes.iter().filter_map(|wish| if let Wish::Quantity { quantity, .. } = wish { Some(*quantity) } else { None });
    let fields: Vec<FieldId> = asked.flat_map(|quantity| all_behind(part, quantity)).collect();
    let mut registers: Vec<RegisterId> = fields.into_iter().flat_map(|field| part.homes(field).collect::<Vec<_>>()).collect();
    registers.sort_unstable();
    registers.dedup();
    registers
}

/// The fields that decide a quantity, with all formulas of its reading.
fn all_behind(part: &Sheet, quantity: QuantityId) -> Vec<FieldId> {
    let quantity = &part.quantities[quantity];
    let through = quantity.through.and_then(|(reading, _)| part.readings.get(reading)).into_iter();
    fields_behind(part, quantity, through.flat_map(|reading| reading.formulas()))
}

/// The fields that decide a quantity with these formulas of its reading; without the field whose place it takes.
pub(super) fn fields_behind<'f>(part: &Sheet, quantity: &'f Quantity, of_reading: impl Iterator<Item = &'f Formula>) -> Vec<FieldId> {
    let place = quantity.through.and_then(|(_, code)| code.field());
    let formulas = std::iter::once(&quantity.formula).chain(of_reading);
    let fields = part.inputs_behind(formulas.flat_map(inputs)).into_iter().filter_map(Input::field);
    fields.filter(|field| Some(*field) != place).collect()
}

/// A quantity with its wanted value, and the text of the wish.
type Asked<'w> = (QuantityId, f64, &'w String);

/// Orders quantities: one that depends on fields comes after those that move these fields; otherwise as in the sheet.
pub(super) fn in_order<'w>(part: &Sheet, mut asked: Vec<Asked<'w>>) -> Vec<Asked<'w>> {
    asked.sort_by_key(|(index, ..)| *index);
    // Fields that a quantity depends on and does not move itself.
    let needed = |id: QuantityId| {
        let own = &part.quantities[id].moves;
        all_behind(part, id).into_iter().filter(|field| !own.contains(field)).collect::<Vec<_>>()
    };
    let mut left: Vec<(Asked<'w>, Vec<FieldId>)> = asked.into_iter().map(|asked| (asked, needed(asked.0))).collect();
    let mut ordered = Vec::new();
    while !left.is_empty() {
        let is_moved = |field: &FieldId| left.iter().any(|((other, ..), _)| part.quantities[*other].moves.contains(field));
        // In a circle the first one begins.
        let next = left.iter().position(|(_, needed)| !needed.iter().any(is_moved)).unwrap_or(0);
        ordered.push(left.remove(next).0);
    }
    ordered
}

//! Explained register values, and the reverse: setting the explained fields gives the same register.

use yemdo::configure::{Wish, WriteScope, configure};
use yemdo::explain::explain;
use yemdo::part::{Access, Field, Register};
use yemdo::{FieldId, Part, RegisterId, State};

use super::decode::decoder;
use super::{Row, Tally};
use crate::cases;
use crate::choices::Choices;

/// Random values of all registers.
pub fn registers(part: &Part, c: &mut Choices<'_>, tally: &mut Tally) {
    let start = decoder(part, c).state().clone();
    for (id, register) in part.registers().entries() {
        let value = c.bits(64) & register.mask();
        let mut state = start.clone();
        let Some(explained) = explain(part, id, value, &mut state) else { continue };
        let about = || format!("{} = 0x{value:X}", register.name());
        tally.hold(Row::Setting, "explain keeps the value", state.known_register(register) == Some(value), about);
        for field in &explained.fields {
            let same = field.code == state.known_field(field.field);
            tally.hold(Row::Setting, "explained codes", same, || format!("{}: {} {:?}", about(), field.field.name(), field.code));
        }
        let fields: Vec<FieldId> = explained.fields.iter().map(|field| field.id).collect();
        back(part, (id, register), &fields, &state, tally);
    }
}

/// Sets all fields of a register, starting with inverted bits.
fn back(part: &Part, (id, register): (RegisterId, &Register), fields: &[FieldId], explained: &State, tally: &mut Tally) {
    let here = |field: &Field| field.mask_in(register).count_ones() == field.width();
    let plain = |field: &Field| field.access() == Access::ReadWrite && field.computed().is_none() && here(field);
    if register.access() != Access::ReadWrite || part.fields().of(fields).any(|field| !plain(field)) {
        return;
    }
    let (mut wishes, mut mask) = (Vec::new(), 0);
    for field in fields {
        let Some(model) = part.fields().get(*field) else { continue };
        let listed = |code: &i128| model.values().is_empty() || model.value(*code).is_some();
        let Some(code) = explained.known_field(model).filter(listed) else { continue };
        let (Some(name), Some(value)) = (cases::typed_name(part, *field), cases::typed_value(part, *field, code)) else { continue };
        let Ok(wish) = Wish::parse(part, &format!("{name}={value}")) else { continue };
        if matches!(wish, Wish::Field { field: same, .. } if same == *field) {
            wishes.push(wish);
            mask |= model.mask_in(register);
        }
    }
    let value = explained.register(register);
    let mut start = explained.clone();
    start.set_register(register, !value & register.mask());
    let others = start.clone();
    let Ok(done) = configure(part, &start, &wishes, WriteScope::All) else { return };
    for field in part.fields().of(fields) {
        let from = if field.mask_in(register) & mask == 0 { &others } else { explained };
        let (found, wanted) = (done.state.known_field(field), from.known_field(field));
        tally.hold(Row::Setting, "setting explained fields", found == wanted, || {
            format!("{} = 0x{value:X}: {} is {found:?} for {wanted:?}", register.name(), field.name())
        });
    }
    let last = done.writes.iter().rev().find(|write| write.register == id);
    let reserved = register.reserved().iter().fold(0, |all, reserved| all | reserved.mask);
    let (written, meant) = (last.map(|write| write.value & !reserved), done.state.known_register(register).map(|value| value & !reserved));
    tally.hold(Row::Setting, "the last write is the register", last.is_none() || written == meant, || {
        format!("{}: {written:?} and {meant:?}", register.name())
    });
}

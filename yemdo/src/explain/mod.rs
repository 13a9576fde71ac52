//! A register value explained: what each bit of a magic constant means.

use crate::model::ids::{FieldId, RegisterId};
use crate::model::input::{Input, inputs};
use crate::model::operation::Quantity;
use crate::model::part::Sheet;
use crate::model::registers::{Access, Field, FieldValue, Register, runs_text};
use crate::model::state::State;
use crate::model::value::Present;

/// A register's value, field by field.
#[derive(Clone, Debug)]
pub struct Explained<'p> {
    /// The register.
    pub register: &'p Register,
    /// The value.
    pub value: u64,
    /// Its fields, the most significant first.
    pub fields: Vec<ExplainedField<'p>>,
    /// The quantities that fields of it hold, with the values that they have with it: the other registers and the parameters
    /// as `settings` and the sheet have them.
    pub quantities: Vec<ExplainedQuantity<'p>>,
    /// Reserved bits that are not what must be written: mask, what stands there, what should.
    pub wrong: Vec<(u64, u64, u64)>,
    /// Bits that belong to no field and are not reserved, and are set.
    pub unknown: u64,
}

/// A field of an explained register.
#[derive(Clone, Debug)]
pub struct ExplainedField<'p> {
    /// The field.
    pub field: &'p Field,
    /// Its place in the part.
    pub id: FieldId,
    /// Its bits in this register: (high, low), most significant first.
    pub bits: Vec<(u32, u32)>,
    /// Its code; of a field that has bits in other registers too, with those at their present values.
    /// `None` where its bits stand for nothing, such as a decimal digit above 9.
    pub code: Option<i128>,
    /// The row of its table, where there is one for the code.
    pub value: Option<&'p FieldValue>,
    /// Its code after a reset.
    pub reset: Option<i128>,
}

/// A quantity that fields of an explained register hold.
#[derive(Clone, Debug)]
pub struct ExplainedQuantity<'p> {
    /// The quantity.
    pub quantity: &'p Quantity,
    /// Its value, in its unit.
    pub value: f64,
    /// The settings in other registers that it follows from too, as they are: `GAIN = single`.
    pub with: Vec<String>,
}

impl Explained<'_> {
    /// Bits that are not as after a reset; `None` where the sheet does not tell the reset value.
    pub fn changed(&self) -> Option<u64> {
        self.register.reset().map(|reset| reset ^ self.value)
    }
}

/// Explains a register's value. `settings` has the present values of the others, and takes this one.
///
/// ```
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// register.MODE = { at = 1, reset = 2, field.RATE = { bits = "[7:4]", values = [{ code = 3, name = "fast" }] }, reserved = { bits = "[3:0]" } }
/// "#).unwrap();
/// let mut settings = yemdo::State::reset(&part);
/// let explained = yemdo::explain::explain(&part, part.register("MODE").unwrap(), 0x32, &mut settings).unwrap();
/// assert_eq!(explained.fields[0].value.unwrap().name.as_deref(), Some("fast"));
/// ```
pub fn explain<'p>(part: &'p Sheet, register: RegisterId, value: u64, settings: &mut State) -> Option<Explained<'p>> {
    let register = part.registers().get(register)?;
    let reset = State::reset(part);
    settings.read_register(register, value);
    let mut fields: Vec<ExplainedField<'p>> = register
        .fields()
        .iter()
        .filter_map(|id| Some((*id, part.fields().get(*id)?)))
        .map(|(id, field)| {
            let code = settings.known_field(field);
            let value = code.and_then(|code| field.value(code));
            ExplainedField { field, id, bits: field.bits_in(register), code, value, reset: reset.known_field(field) }
        })
        .collect();
    fields.sort_by_key(|field| std::cmp::Reverse(field.bits.first().copied()));
    let of_fields = fields.iter().fold(0, |mask, field| mask | field.field.mask_in(register));
    let mut known = of_fields;
    let mut wrong = Vec::new();
    for reserved in register.reserved() {
        known |= reserved.mask;
        let wanted = reserved.write.or(register.reset().map(|reset| reset & reserved.mask));
        if let Some(wanted) = wanted.filter(|wanted| value & reserved.mask != *wanted) {
            wrong.push((reserved.mask, value & reserved.mask, wanted));
        }
    }
    let unknown = if register.fields().is_empty() || register.access() == Access::Reserved { 0 } else { value & !known & register.mask() };
    let state = Present { part, state: settings };
    let holds = |quantity: &Quantity| quantity.moves().iter().any(|field| fields.iter().any(|own| own.id == *field));
    let held = part.quantities.entries().filter(|(_, quantity)| holds(quantity));
    let quantities = held.filter_map(|(id, quantity)| {
        let through = quantity.through.and_then(|(reading, _)| part.readings.get(reading)).map(|reading| &reading.formula);
        let all = part.inputs_behind(std::iter::once(&quantity.formula).chain(through).flat_map(inputs));
        let mut with: Vec<FieldId> = all.into_iter().filter_map(Input::field).collect();
        with.dedup();
        let other = |field: &FieldId| !quantity.moves.contains(field) && !fields.iter().any(|own| own.id == *field);
        let texts =
            with.iter().filter(|field| other(field)).filter_map(|id| part.setting_text(*id, settings.known_field(part.fields.get(*id)?)?));
        Some(ExplainedQuantity { quantity, value: state.quantity(id).ok()?, with: texts.collect() })
    });
    let quantities = quantities.collect();
    Some(Explained { register, value, fields, quantities, wrong, unknown })
}

impl ExplainedField<'_> {
    /// Its bits as the notation has them: `[7:4]`.
    pub fn bits_text(&self) -> String {
        runs_text(&self.bits)
    }
}

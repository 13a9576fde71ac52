//! Configurations, choices, what was read back, and what routines ask for.

use serde::Serialize;

use super::Named;
use super::live::OperationView;
use super::named::Integer;
use crate::bus::Bus;
use crate::configure::{Choice, Configuration, ReadBack, WriteReason, write_register};
use crate::ground::hex::to_hex;
use crate::model::ids::{FieldId, QuantityId};
use crate::model::part::Part;
use crate::model::registers::Register;
use crate::routine::Request;

/// What is written so that a part is as wished.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct ConfigurationView<'a> {
    part: &'a str,
    bus: Option<&'static str>,
    i2c_address: Option<u8>,
    writes: Vec<WriteView<'a>>,
    quantities: Vec<QuantityView<'a>>,
    computed: Named<Integer>,
    unstored: Named<Integer>,
    moved: Vec<MovedView<'a>>,
}

#[derive(Clone, Debug, Serialize)]
struct WriteView<'a> {
    register: &'a str,
    address: u32,
    before: Option<u64>,
    value: u64,
    reads_back: u64,
    reason: Option<&'static str>,
    send: Option<String>,
}

#[derive(Clone, Debug, Serialize)]
struct QuantityView<'a> {
    quantity: &'a str,
    unit: &'a str,
    asked: f64,
    used: f64,
    step: Option<f64>,
    codes: Named<Integer>,
}

#[derive(Clone, Debug, Serialize)]
struct MovedView<'a> {
    quantity: &'a str,
    unit: &'a str,
    before: f64,
    after: f64,
}

fn field_codes(part: &Part, codes: &[(FieldId, i128)]) -> Named<Integer> {
    codes.iter().filter_map(|(field, code)| Some((part.fields.get(*field)?.name.clone(), Integer(*code)))).collect()
}

impl<'a> ConfigurationView<'a> {
    /// A configuration of a part, with bytes where a bus is chosen.
    pub fn new(part: &'a Part, bus: Option<Bus>, done: &Configuration) -> Self {
        let quantity =
            |id: QuantityId| part.quantities.get(id).map_or(("", ""), |quantity| (quantity.name.as_str(), quantity.unit.as_str()));
        let writes = done.writes.iter().filter_map(|write| {
            let register = part.registers.get(write.register)?;
            Some(WriteView {
                register: &register.name,
                address: register.at,
                before: write.before,
                value: write.value,
                reads_back: write.after,
                reason: write.reason.map(|reason| match reason {
                    WriteReason::Unlocks => "unlocks",
                    WriteReason::Restores => "restores",
                }),
                send: bus.and_then(|bus| write_register(part, bus, register, write.value)).map(|transfer| to_hex(&transfer.send)),
            })
        });
        let quantities = done.quantities.iter().map(|result| {
            let (quantity, unit) = quantity(result.quantity);
            let codes = field_codes(part, &result.codes);
            QuantityView { quantity, unit, asked: result.asked, used: result.value, step: result.step, codes }
        });
        let moved = done.moved.iter().map(|(id, before, after)| {
            let (quantity, unit) = quantity(*id);
            MovedView { quantity, unit, before: *before, after: *after }
        });
        let computed: Vec<(FieldId, i128)> = done.computed.iter().map(|(field, code, _)| (*field, *code)).collect();
        Self {
            part: &part.name,
            bus: bus.map(Bus::name),
            i2c_address: part.buses.i2c.as_ref().filter(|_| bus == Some(Bus::I2c)).map(|i2c| i2c.address),
            writes: writes.collect(),
            quantities: quantities.collect(),
            computed: field_codes(part, &computed),
            unstored: field_codes(part, &done.unstored),
            moved: moved.collect(),
        }
    }
}

/// A register that was read back.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct ReadBackView<'a> {
    register: &'a str,
    expected: u64,
    found: u64,
    causes: Vec<&'static str>,
}

impl<'a> ReadBackView<'a> {
    /// What a register should read, and what it does.
    pub fn new(register: &'a Register, compared: &ReadBack) -> Self {
        let causes = compared.differences.iter().map(|difference| difference.cause()).collect();
        Self { register: &register.name, expected: compared.expected, found: compared.found, causes }
    }
}

/// One combination of settings.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct ChoiceView<'a> {
    fields: Named<String>,
    from: Option<f64>,
    to: Option<f64>,
    step: Option<f64>,
    noise: Option<f64>,
    current: Option<f64>,
    ms: Option<f64>,
    in_use: bool,
    fails: &'a [&'static str],
}

impl<'a> ChoiceView<'a> {
    /// A choice for a part.
    pub fn new(part: &Part, choice: &'a Choice) -> Self {
        let value = |(field, code): &(FieldId, i128)| {
            let field = part.fields.get(*field)?;
            Some((field.name.clone(), field.value_text(*code)))
        };
        Self {
            fields: choice.codes.iter().filter_map(value).collect(),
            from: choice.range.map(|(low, _)| low),
            to: choice.range.map(|(_, high)| high),
            step: choice.step,
            noise: choice.noise,
            current: choice.current,
            ms: choice.ms,
            in_use: choice.in_use,
            fails: &choice.fails,
        }
    }
}

/// What to change after a reading.
#[derive(Clone, Debug, Serialize)]
pub struct ChangeView<'a> {
    after: &'a str,
    /// Nothing has to be changed.
    stay: bool,
    change_to: ChoiceView<'a>,
}

impl<'a> ChangeView<'a> {
    /// The choice to go to after a reading; the one in use to stay.
    pub fn new(part: &Part, after: &'a str, choice: &'a Choice) -> Self {
        Self { after, stay: choice.in_use, change_to: ChoiceView::new(part, choice) }
    }
}

/// The name of a routine.
#[derive(Clone, Debug, Serialize)]
pub struct NameView<'a> {
    /// The name.
    pub routine: &'a str,
}

/// What a routine asks for.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct RequestView<'a> {
    routine: &'a str,
    line: usize,
    at_us: u64,
    at_latest_us: u64,
    operation: OperationView,
    meaning: &'a str,
    only_if: Option<&'a str>,
}

impl<'a> From<&'a Request> for RequestView<'a> {
    fn from(request: &'a Request) -> Self {
        Self {
            routine: &request.routine,
            line: request.line,
            at_us: request.at.0,
            at_latest_us: request.at.1,
            operation: OperationView::from(&request.operation),
            meaning: &request.meaning,
            only_if: request.only_if.as_deref(),
        }
    }
}

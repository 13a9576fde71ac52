//! A register value explained.

use serde::Serialize;

use super::named::Integer;
use crate::explain::Explained;

/// A register's value, field by field.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct ExplainedView<'a> {
    register: &'a str,
    address: u32,
    value: u64,
    reset: Option<u64>,
    fields: Vec<FieldView<'a>>,
    quantities: Vec<QuantityView<'a>>,
    reserved_wrong: Vec<WrongView>,
    unknown_bits: u64,
}

#[derive(Clone, Debug, Serialize)]
struct FieldView<'a> {
    name: &'a str,
    bits: String,
    code: Option<Integer>,
    value: Option<&'a str>,
    means: Option<&'a str>,
    known: bool,
    reset: Option<Integer>,
}

/// A physical value that fields of the register hold.
#[derive(Clone, Debug, Serialize)]
struct QuantityView<'a> {
    name: &'a str,
    value: f64,
    unit: &'a str,
    with: &'a [String],
}

#[derive(Clone, Debug, Serialize)]
struct WrongView {
    mask: u64,
    stands: u64,
    must_be: u64,
}

impl<'a> From<&'a Explained<'a>> for ExplainedView<'a> {
    fn from(explained: &'a Explained<'a>) -> Self {
        let fields = explained.fields.iter().map(|field| FieldView {
            name: field.field.name(),
            bits: field.bits_text(),
            code: field.code.map(Integer),
            value: field.value.and_then(|value| value.name.as_deref()),
            means: field.value.and_then(|value| value.means.as_deref()),
            known: field.code.is_some() && (field.value.is_some() || field.field.values().is_empty()),
            reset: field.reset.map(Integer),
        });
        let wrong = explained.wrong.iter().map(|(mask, stands, must_be)| WrongView { mask: *mask, stands: *stands, must_be: *must_be });
        let held = explained.quantities.iter();
        let quantities =
            held.map(|held| QuantityView { name: held.quantity.name(), value: held.value, unit: held.quantity.unit(), with: &held.with });
        Self {
            quantities: quantities.collect(),
            register: explained.register.name(),
            address: explained.register.address(),
            value: explained.value,
            reset: explained.register.reset(),
            fields: fields.collect(),
            reserved_wrong: wrong.collect(),
            unknown_bits: explained.unknown,
        }
    }
}

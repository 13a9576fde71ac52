//! Wishes as people type them.

use std::fmt;

use crate::ground::hex::parse_integer;
use crate::ground::suggest::{nearest, one_of};
use crate::model::ids::{FieldId, ParameterId, QuantityId};
use crate::model::in_use::BARE_CODE;
use crate::model::name::{Kind, UnknownName};
use crate::model::part::Sheet;
use crate::model::registers::FieldValue;
use crate::units::Unit;

/// One thing that is wished of a part.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Wish {
    /// A field has a code.
    Field {
        /// The field.
        field: FieldId,
        /// The code.
        code: i128,
        /// The wish as typed.
        typed: String,
    },
    /// A parameter has a value.
    Parameter {
        /// The parameter.
        parameter: ParameterId,
        /// The value, in the parameter's unit.
        value: f64,
        /// The wish as typed.
        typed: String,
    },
    /// A quantity has a value.
    Quantity {
        /// The quantity.
        quantity: QuantityId,
        /// The value, in the quantity's unit.
        value: f64,
        /// The wish as typed.
        typed: String,
    },
}

/// Why a wish is none: what is wrong, and what to try.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WishError {
    /// What is wrong.
    pub message: String,
    /// What to try.
    pub help: Option<String>,
}

impl fmt::Display for WishError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for WishError {}

fn error(message: String, help: impl Into<Option<String>>) -> WishError {
    WishError { message, help: help.into() }
}

impl Wish {
    /// Reads `NAME=VALUE`: a field with the name of a value in the sheet, or a code; a quantity or parameter with a
    /// number and, if you like, a unit.
    ///
    /// # Errors
    /// [`WishError`]: nothing of that name, no such value, a field that cannot be written, another dimension.
    pub fn parse(part: &Sheet, typed: &str) -> Result<Wish, WishError> {
        let wish = Self::read(part, typed, false)?;
        let field = if let Wish::Field { field, .. } = wish { part.fields.get(field) } else { None };
        match field.filter(|field| !field.access.is_writable()) {
            Some(field) => Err(error(format!("{} is {} and cannot be set", field.name, field.access.as_str()), None)),
            None => Ok(wish),
        }
    }

    /// As [`parse`](Self::parse), of what the part sets itself too, and of codes that the sheet does not list (`GAIN=code 7`): for
    /// saying how it is, not how it should be.
    ///
    /// # Errors
    /// [`WishError`].
    pub fn present(part: &Sheet, typed: &str) -> Result<Wish, WishError> {
        Self::read(part, typed, true)
    }

    fn read(part: &Sheet, typed: &str, is_present: bool) -> Result<Wish, WishError> {
        let (name, value) = typed.split_once('=').ok_or_else(|| error(format!("`{typed}` sets nothing"), "write NAME=VALUE".to_owned()))?;
        let (name, value) = (name.trim(), value.trim());
        // A name as typed goes before one that differs in upper and lower case: LIMIT may be the field of the quantity limit.
        let quantity = part.quantities.position(|quantity| quantity.name == name);
        let taken = part.fields.iter().any(|field| field.name == name) || part.parameters.iter().any(|parameter| parameter.name == name);
        if let Some(id) = quantity.or_else(|| part.quantity(name).ok().filter(|_| !taken)) {
            let (unit, difference) = part.quantities.get(id).map_or(("", false), |quantity| (quantity.unit.as_str(), quantity.difference));
            let value = if difference { measured_difference(name, value, unit)? } else { measured(name, value, unit)? };
            return Ok(Wish::Quantity { quantity: id, value, typed: typed.to_owned() });
        }
        let exact = part.parameters.iter().any(|parameter| parameter.name == name);
        if let Some(id) = part.parameter(name).ok().filter(|_| exact || !part.has_field(name)) {
            let parameter = &part.parameters[id];
            let number = measured(name, value, parameter.unit.as_deref().unwrap_or(""))?;
            if let Some((low, high)) = parameter.range.filter(|(low, high)| !(*low..=*high).contains(&number)) {
                return Err(error(format!("{name} is {low} to {high}, not {number}"), None));
            }
            return Ok(Wish::Parameter { parameter: id, value: number, typed: typed.to_owned() });
        }
        let (field, code) = field_code(part, name, value, is_present)?;
        Ok(Wish::Field { field, code, typed: typed.to_owned() })
    }

    /// The wish as typed.
    pub fn typed(&self) -> &str {
        match self {
            Wish::Field { typed, .. } | Wish::Parameter { typed, .. } | Wish::Quantity { typed, .. } => typed,
        }
    }
}

/// A field by name, and one of its codes: by the value's name, or as a number.
fn field_code(part: &Sheet, name: &str, value: &str, is_present: bool) -> Result<(FieldId, i128), WishError> {
    let index = part.field(name).map_err(|unknown| {
        // What is not a field may have been meant as anything that can be set.
        let others = part.quantities.iter().map(|quantity| &quantity.name).chain(part.parameters.iter().map(|parameter| &parameter.name));
        let known = part.fields.iter().map(|field| &field.name).chain(others).cloned().collect();
        let unknown = UnknownName { kind: if unknown.ways.is_empty() { Kind::Setting } else { Kind::Field }, known, ..unknown };
        error(unknown.message(), unknown.help())
    })?;
    let field = part.fields.get(index).ok_or_else(|| error(format!("there is no field `{name}`"), None))?;
    // A name as typed comes before one that is equal but for upper and lower case: 1 mV is not 1 MV.
    let exact = field.values.iter().find(|row| row.name.as_deref() == Some(value));
    let alike = |row: &&FieldValue| row.name.as_deref().is_some_and(|row| row.eq_ignore_ascii_case(value));
    let named = exact.or_else(|| field.values.iter().find(alike));
    if exact.is_none() && field.values.iter().filter(alike).count() > 1 {
        let names: Vec<&str> = field.values.iter().filter(alike).filter_map(|row| row.name.as_deref()).collect();
        return Err(error(format!("`{value}` may be several values of {}", field.name), format!("write {}", names.join(" or "))));
    }
    if named.is_none() && field.is_real() {
        let real = value.replace('_', "").parse::<f64>().ok().filter(|real| real.is_finite());
        let code = real.and_then(|real| field.code_of(real));
        let help = format!("it holds a real number of {} bits", field.width());
        return code.map(|code| (index, code)).ok_or_else(|| error(format!("`{value}` is not a value of {}", field.name), help));
    }
    let bare = value.strip_prefix(BARE_CODE).filter(|_| is_present && named.is_none());
    let code = bare.and_then(parse_integer);
    let code = code.or_else(|| named.map(|row| row.code)).or_else(|| parse_integer(value).map(|code| field.as_printed(code, value)));
    let (low, high) = field.bounds();
    let names: Vec<&str> = field.values.iter().filter_map(|row| row.name.as_deref()).collect();
    let listed = |code: &i128| bare.is_some() || field.values.is_empty() || field.value(*code).is_some();
    match code {
        Some(code) if (low..=high).contains(&code) && listed(&code) => Ok((index, code)),
        _ => {
            let near = nearest(value, names.iter().copied());
            let help = match near {
                Some(near) => format!("did you mean `{near}`? its values are {}", one_of(names.iter().copied())),
                None if field.values.is_empty() => format!("its codes are {low} to {high}"),
                None if names.is_empty() => {
                    let codes: Vec<String> = field.values.iter().map(|row| row.code.to_string()).collect();
                    format!("its codes are {}", one_of(codes.iter().map(String::as_str)))
                }
                None => format!("its values are {}", one_of(names)),
            };
            Err(error(format!("`{value}` is not a value of {}", field.name), help))
        }
    }
}

/// A number as typed, with or without a unit of the same dimension, in `unit`; `name` is what it is for.
///
/// # Errors
/// [`WishError`]: no number, or a unit of another dimension.
pub fn measured(name: &str, typed: &str, unit: &str) -> Result<f64, WishError> {
    read(name, typed, unit, Unit::to)
}

/// The same for a difference: 1 K is 1 °C.
///
/// # Errors
/// As [`measured`].
pub fn measured_difference(name: &str, typed: &str, unit: &str) -> Result<f64, WishError> {
    read(name, typed, unit, Unit::difference_to)
}

/// Splits a typed value into its number and its unit; either may be empty.
pub(crate) fn number_and_unit(typed: &str) -> (&str, &str) {
    let end = typed.find(|c: char| !(c.is_ascii_digit() || matches!(c, '.' | '-' | '+' | 'e' | 'E' | '_'))).unwrap_or(typed.len());
    let (number, unit) = typed.split_at(end);
    (number, unit.trim())
}

fn read(name: &str, typed: &str, unit: &str, convert: fn(&Unit, &Unit, f64) -> Option<f64>) -> Result<f64, WishError> {
    let (number, given) = number_and_unit(typed);
    let (value, given) = match number.replace('_', "").parse::<f64>() {
        Ok(value) if value.is_finite() => (value, given),
        _ => {
            return Err(error(
                format!("`{typed}` is not a value of {name}"),
                format!("expected a number with its unit, such as \"12.5 {unit}\""),
            ));
        }
    };
    if given.is_empty() || given == unit {
        return Ok(value);
    }
    let converted = Unit::find(given).zip(Unit::find(unit)).and_then(|(from, to)| convert(from, to, value));
    converted.ok_or_else(|| {
        error(format!("{name} is in {unit}, not in {given}"), format!("write it in {unit}, or in another unit for the same"))
    })
}

//! Names with values, in the order in which they come.

use serde::{Serialize, Serializer};

use crate::ground::number::{Number, Ty};
use crate::model::frame::CodeContent;

/// An object with keys of the user's own, in their order.
#[derive(Clone, Debug)]
pub(super) struct Named<T>(pub(super) Vec<(String, T)>);

impl<T: Serialize> Serialize for Named<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.0.iter().map(|(name, value)| (name, value)))
    }
}

impl<T> FromIterator<(String, T)> for Named<T> {
    fn from_iter<I: IntoIterator<Item = (String, T)>>(list: I) -> Self {
        Named(list.into_iter().collect())
    }
}

/// An integer of any width as a number, not as text.
pub(super) fn integer<S: Serializer>(value: i128, serializer: S) -> Result<S::Ok, S::Error> {
    match (i64::try_from(value), u64::try_from(value)) {
        (Ok(value), _) => serializer.serialize_i64(value),
        (_, Ok(value)) => serializer.serialize_u64(value),
        _ => serializer.serialize_none(),
    }
}

/// A code.
#[derive(Clone, Copy, Debug)]
pub(super) struct Integer(pub(super) i128);

impl Serialize for Integer {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        integer(self.0, serializer)
    }
}

/// What a code's bits make: a number, a text, or null where they stand for nothing.
#[derive(Clone, Debug)]
pub(super) struct Content(pub(super) CodeContent);

impl Serialize for Content {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match &self.0 {
            CodeContent::Number(Number::Int(value, _)) => integer(*value, serializer),
            CodeContent::Number(Number::Real(value, ty)) => real(*value, *ty, serializer),
            CodeContent::Text(text) => serializer.serialize_str(text),
            CodeContent::Invalid => serializer.serialize_none(),
        }
    }
}

/// A real in as few digits as read back as the same number of its type.
pub(super) fn real<S: Serializer>(value: f64, ty: Ty, serializer: S) -> Result<S::Ok, S::Error> {
    if ty == Ty::F32 { serializer.serialize_f32(value as f32) } else { serializer.serialize_f64(value) }
}

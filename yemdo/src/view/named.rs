//! Names with values, in the order in which they come.

use serde::{Serialize, Serializer};

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

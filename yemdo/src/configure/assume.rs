//! A state from settings, parameters and quantities by name; nothing is written.

use std::fmt;

use crate::model::ids::FieldId;
use crate::model::in_use::UNKNOWN;
use crate::model::part::Sheet;
use crate::model::state::State;
use crate::plan::writes::WriteScope;

use super::{ConfigureError, Wish, WishError, configure};

/// Why a part cannot be in the named state.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum AssumeError {
    /// The texts that cannot be read, all of them.
    Wishes(Vec<WishError>),
    /// The part has no such state.
    Impossible(ConfigureError),
}

impl AssumeError {
    /// What to try; `None` where nothing is known.
    pub fn help(&self) -> Option<String> {
        match self {
            AssumeError::Wishes(errors) => errors.iter().find_map(|error| error.help.clone()),
            AssumeError::Impossible(error) => error.help(),
        }
    }
}

impl fmt::Display for AssumeError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            AssumeError::Wishes(errors) => {
                let told: Vec<&str> = errors.iter().map(|error| error.message.as_str()).collect();
                f.write_str(&told.join("; "))
            }
            AssumeError::Impossible(error) => error.fmt(f),
        }
    }
}

impl std::error::Error for AssumeError {}

/// The state `start` with fields, parameters and quantities as `NAME=VALUE` texts say they are. Unlike a wish, a text may name
/// fields that only the part sets, codes that the sheet does not list (`GAIN=code 7`), and unknown values (`GAIN=unknown`). Computed
/// fields and quantities follow as after [`configure`].
///
/// ```
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// i2c.address = 0x21
/// register.MODE = { at = 1, reset = 0x20, field.RATE = { bits = "[7:4]", values = [{ code = 3, name = "fast" }] } }
/// "#).unwrap();
/// let state = yemdo::configure::assume(&part, &yemdo::State::reset(&part), ["RATE=fast"]).unwrap();
/// assert_eq!(state.known_field(&part.fields()[part.field("RATE").unwrap()]), Some(3));
/// ```
///
/// # Errors
/// [`AssumeError`]: a text cannot be read, two of them contradict each other, or the part cannot be so.
pub fn assume(part: &Sheet, start: &State, typed: impl IntoIterator<Item = impl AsRef<str>>) -> Result<State, AssumeError> {
    let (mut wishes, mut wrong, mut unknown) = (Vec::new(), Vec::new(), Vec::new());
    for typed in typed {
        match (Wish::present(part, typed.as_ref()), unknown_field(part, typed.as_ref())) {
            (Ok(wish), _) => wishes.push(wish),
            // No row of the field's table has that name.
            (Err(_), Some(field)) => unknown.push(field),
            (Err(error), None) => wrong.push(error),
        }
    }
    if !wrong.is_empty() {
        return Err(AssumeError::Wishes(wrong));
    }
    let mut state = start.clone();
    let (mut set, mut others) = (Vec::new(), Vec::new());
    for wish in wishes {
        let Wish::Field { field, code, typed } = wish else {
            others.push(wish);
            continue;
        };
        let model = &part.fields[field];
        // Of parameters and quantities, `configure` finds contradictions.
        if let Some((.., first)) = set.iter().find(|(known, other, _)| *known == field && *other != code) {
            let (first, field) = (String::clone(first), model.name.clone());
            return Err(AssumeError::Impossible(ConfigureError::Contradiction { field, first, second: typed }));
        }
        state.set_field(model, code);
        set.push((field, code, typed));
    }
    part.fields.of(&unknown).for_each(|field| state.forget_field(field));
    if others.is_empty() {
        return Ok(state);
    }
    Ok(configure(part, &state, &others, WriteScope::Changed).map_err(AssumeError::Impossible)?.state)
}

/// The field that a text declares unknown.
fn unknown_field(part: &Sheet, typed: &str) -> Option<FieldId> {
    let (name, value) = typed.split_once('=')?;
    part.field(name.trim()).ok().filter(|_| value.trim() == UNKNOWN)
}

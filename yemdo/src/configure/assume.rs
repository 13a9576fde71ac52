//! A state as somebody says it is: settings, parameters and quantities by name, without writing anything.

use std::fmt;

use crate::model::ids::FieldId;
use crate::model::in_use::UNKNOWN;
use crate::model::part::Sheet;
use crate::model::state::State;
use crate::plan::writes::WriteScope;

use super::{ConfigureError, Wish, WishError, configure};

/// Why a part cannot be in the state that was named.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum AssumeError {
    /// Texts that name no state of this part, all of them.
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
/// what the part alone sets, a code that the sheet does not list (`GAIN=code 7`), or that a value is `unknown`. What follows from parameters and quantities is as it would be after [`configure`].
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
        match Wish::present(part, typed.as_ref()) {
            Ok(wish) => wishes.push(wish),
            // No row of the field's table has that name.
            Err(_) if let Some(field) = unknown_field(part, typed.as_ref()) => unknown.push(field),
            Err(error) => wrong.push(error),
        }
    }
    if !wrong.is_empty() {
        return Err(AssumeError::Wishes(wrong));
    }
    let mut state = start.clone();
    contradiction(part, &wishes)?;
    let (fields, others): (Vec<Wish>, Vec<Wish>) = wishes.into_iter().partition(|wish| matches!(wish, Wish::Field { .. }));
    for wish in &fields {
        if let Wish::Field { field, code, .. } = wish {
            part.fields.get(*field).into_iter().for_each(|field| state.set_field(field, *code));
        }
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

/// Two texts that want different codes of one field; of parameters and quantities `configure` sees it.
fn contradiction(part: &Sheet, wishes: &[Wish]) -> Result<(), AssumeError> {
    for (at, wish) in wishes.iter().enumerate() {
        let Wish::Field { field, code, typed } = wish else { continue };
        let before = wishes.iter().take(at).find_map(|other| match other {
            Wish::Field { field: same, code: different, typed } if same == field && different != code => Some(typed),
            _ => None,
        });
        if let Some(first) = before {
            let name = part.fields[*field].name.clone();
            return Err(AssumeError::Impossible(ConfigureError::Contradiction {
                field: name,
                first: first.clone(),
                second: typed.clone(),
            }));
        }
    }
    Ok(())
}

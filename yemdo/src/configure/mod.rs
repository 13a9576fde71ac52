//! From wishes to register bytes and back.
//!
//! [`Wish`]es come in as people type them (`SPAN=4 g`, `high_limit=31 °C`); [`configure`] turns them into the registers
//! that must be written, in an order that the part allows, with the values that the part will use. [`write_register`] has the
//! bytes for the bus, [`read_back`] compares written with read values, [`choose()`] lists the settings that
//! meet some limits.

mod assume;
mod behind;
mod choose;
mod inverse;
mod wish;

use std::fmt;

use crate::bus::modbus::is_unit;
use crate::ground::words::with_unit;
use crate::model::ids::{FieldId, QuantityId};
use crate::model::input::{Input, inputs};
use crate::model::operation::MOST_TRIED;
use crate::model::part::Sheet;
use crate::model::state::State;
use crate::model::value::Present;
use crate::plan::writes::{self, Unreachable, needs_reset};

pub use crate::plan::read_back::{Difference, ReadBack, read_back};
pub use crate::plan::transfers::{NotReadable, read_frame, read_registers, write_register};
pub use crate::plan::writes::{Write, WriteReason, WriteScope};
pub use assume::{AssumeError, assume};
pub use behind::registers_behind;
use behind::{fields_behind, in_order};
pub use choose::{Choice, ChooseError, LastReading, Limits, choose, next_range};
pub use inverse::Method;
pub(crate) use wish::number_and_unit;
pub use wish::{Wish, WishError, measured, measured_difference};

/// Writes that configure a part, and their effects.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Configuration {
    /// The state of the part after the writes: registers, settings without a register, parameters.
    pub state: State,
    /// The writes, in order.
    pub writes: Vec<Write>,
    /// Requested and resulting values of quantities.
    pub quantities: Vec<QuantityResult>,
    /// Fields whose codes follow from others: the field, its code, and the number that was rounded to it.
    pub computed: Vec<(FieldId, i128, f64)>,
    /// Fields that were asked for and that no register holds, with their codes: commands that are sent later follow from them.
    pub unstored: Vec<(FieldId, i128)>,
    /// Quantities that changed without a request: before, after.
    pub moved: Vec<(QuantityId, f64, f64)>,
}

/// A quantity that was asked for.
#[derive(Clone, Debug, PartialEq)]
pub struct QuantityResult {
    /// The quantity.
    pub quantity: QuantityId,
    /// Requested value, in the quantity's unit.
    pub asked: f64,
    /// Value that the part will use.
    pub value: f64,
    /// How far the next value is that its fields can hold, on that side where it is nearer.
    pub step: Option<f64>,
    /// How its codes were found.
    pub method: Method,
    /// The fields that hold it, with their codes.
    pub codes: Vec<(FieldId, i128)>,
}

/// Why a part cannot be configured so.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum ConfigureError {
    /// Two wishes want different things of one field.
    Contradiction {
        /// The field.
        field: String,
        /// The first wish, as typed.
        first: String,
        /// The second.
        second: String,
    },
    /// A quantity cannot be as asked.
    OutOfRange {
        /// The quantity.
        quantity: String,
        /// Requested value.
        asked: f64,
        /// Range of its fields with the present other fields, within the valid range of the reading.
        range: (f64, f64),
        /// Its unit.
        unit: String,
        /// Other settings with which it could be so, as one would type them: `GAIN=single`.
        fits_with: Vec<String>,
    },
    /// A quantity's fields have no codes that give values.
    NoWayBack {
        /// The quantity.
        quantity: String,
        /// Why.
        why: String,
    },
    /// A quantity is below one that it must not be below.
    Below {
        /// The quantity and its value.
        quantity: (String, f64),
        /// The other and its value.
        other: (String, f64),
        /// Their unit.
        unit: String,
    },
    /// A code that follows from parameters does not fit its field.
    DoesNotFit {
        /// The field.
        field: String,
        /// The value of its formula; not a number where the formula is at fault.
        value: f64,
        /// Its codes.
        bounds: (i128, i128),
    },
    /// A field that holds the unit id would be none that a part can have.
    NotAUnit {
        /// The field.
        field: String,
        /// Its code.
        code: i128,
    },
    /// Bits of a field are set, and only a reset clears them.
    SetUntilReset {
        /// The field.
        field: String,
        /// The wish as typed.
        typed: String,
    },
    /// A register cannot be reached in any order.
    Unreachable {
        /// The register.
        register: String,
        /// Inputs it waits for, in words.
        needs: String,
    },
}

impl fmt::Display for ConfigureError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ConfigureError::Contradiction { field, first, second } => write!(f, "`{first}` and `{second}` want different codes of {field}"),
            ConfigureError::OutOfRange { quantity, asked, range: (low, high), unit, .. } => {
                write!(f, "{quantity} cannot be {}: it can be {} to {}", with_unit(asked, unit), round(*low), with_unit(round(*high), unit))
            }
            ConfigureError::NoWayBack { quantity, why } => write!(f, "{quantity} cannot be set: {why}"),
            ConfigureError::Below { quantity: (name, value), other: (other, floor), unit } => {
                write!(f, "{name} would be {}, below {other} with {}", with_unit(round(*value), unit), with_unit(round(*floor), unit))
            }
            ConfigureError::DoesNotFit { field, value, .. } if value.is_nan() => {
                write!(f, "the formula of {field} gives nothing with these parameters")
            }
            ConfigureError::DoesNotFit { field, value, bounds: (low, high) } => {
                write!(f, "{field} would be {}, but its bits hold {low} to {high}", round(*value))
            }
            ConfigureError::NotAUnit { field, code } => write!(f, "{field} cannot be {code}: unit ids are 1 to 247"),
            ConfigureError::SetUntilReset { field, typed } => {
                write!(f, "`{typed}` is impossible: {field} is set, and only a reset clears it")
            }
            ConfigureError::Unreachable { register, needs } => write!(f, "{register} cannot be written: it needs {needs}"),
        }
    }
}

impl std::error::Error for ConfigureError {}

/// Limits the list of settings that would make a value fit.
const MOST_FITTING: usize = 4;

/// Limits the codes tried for each of those settings, as there may be many.
const FEW: usize = 1024;

impl ConfigureError {
    /// Of a value that a quantity cannot have: adds the settings with which it could.
    fn fitting(mut self, part: &Sheet, index: QuantityId, asked: f64, state: &State, held: &dyn Fn(FieldId) -> bool) -> Self {
        let ConfigureError::OutOfRange { fits_with, .. } = &mut self else { return self };
        let Some(quantity) = part.quantities.get(index) else { return self };
        let through = quantity.through.and_then(|(reading, _)| part.readings.get(reading)).into_iter();
        let formulas = std::iter::once(&quantity.formula).chain(through.flat_map(|reading| reading.formulas()));
        let fields = part.inputs_behind(formulas.flat_map(inputs)).into_iter().filter_map(Input::field);
        let mut seen: Vec<FieldId> = Vec::new();
        for field in fields.filter(|field| !quantity.moves.contains(field) && !held(*field)) {
            let Some(model) = part.fields.get(field).filter(|model| model.is_choice() && !seen.contains(&field)) else { continue };
            seen.push(field);
            for row in &model.values {
                let mut other = state.clone();
                other.set_field(model, row.code);
                if fits_with.len() < MOST_FITTING && inverse::find(part, index, asked, &other, held, FEW).is_ok() {
                    fits_with.push(format!("{}={:?}", model.name, model.value_text(row.code)));
                }
            }
        }
        self
    }

    /// What to try; `None` where nothing is known.
    pub fn help(&self) -> Option<String> {
        match self {
            ConfigureError::OutOfRange { fits_with, .. } if !fits_with.is_empty() => {
                Some(format!("it would fit with {}", fits_with.join(" or ")))
            }
            _ => None,
        }
    }
}

/// A number with as many digits as are worth reading.
fn round(value: f64) -> f64 {
    let digits = 6 - value.abs().log10().floor().clamp(-6.0, 6.0) as i32;
    let scale = 10f64.powi(digits);
    (value * scale).round() / scale
}

/// The fields that are taken, with their codes and the wishes that want them.
type Taken = Vec<(FieldId, i128, String)>;

/// Resolves wishes: the writes that make a part, which is as `start` says, as wished. Parameters are those of `start` unless a
/// wish supplies them. Nothing is resolved unless all of it can be.
///
/// ```
/// use yemdo::configure::{Wish, WriteScope, configure};
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// i2c.address = 0x21
/// register.MODE = { at = 1, reset = 0x20, field.RATE = { bits = "[7:4]", values = [{ code = 3, name = "fast" }] } }
/// "#).unwrap();
/// let wishes = [Wish::parse(&part, "RATE=fast").unwrap()];
/// let done = configure(&part, &yemdo::State::reset(&part), &wishes, WriteScope::Changed).unwrap();
/// assert_eq!(done.writes[0].value, 0x30);
/// ```
///
/// # Errors
/// [`ConfigureError`].
pub fn configure(part: &Sheet, start: &State, wishes: &[Wish], scope: WriteScope) -> Result<Configuration, ConfigureError> {
    let mut state = start.clone();
    let mut taken: Taken = Vec::new();
    for wish in wishes {
        match wish {
            Wish::Field { field, code, typed } => {
                if let Some(lock) = part.fields.get(*field).filter(|field| needs_reset(start, field, *code)) {
                    return Err(ConfigureError::SetUntilReset { field: lock.name.clone(), typed: typed.clone() });
                }
                take(part, &mut taken, *field, *code, typed)?;
                set(part, &mut state, *field, *code);
            }
            Wish::Parameter { parameter, value, typed } => {
                let other = wishes.iter().find_map(|wish| match wish {
                    Wish::Parameter { parameter: same, value: other, typed } if same == parameter && other != value => Some(typed),
                    _ => None,
                });
                if let Some(first) = other {
                    let field = part.parameters.get(*parameter).map_or(String::new(), |parameter| parameter.name.clone());
                    return Err(ConfigureError::Contradiction { field, first: first.clone(), second: typed.clone() });
                }
                // The wish was held against the range when it was read.
                let _ = state.set_parameter(part, *parameter, *value);
            }
            Wish::Quantity { .. } => {}
        }
    }
    let computed = compute_fields(part, &mut state, wishes, &mut taken)?;
    let mut results: Vec<QuantityResult> = Vec::new();
    let asked = wishes
        .iter()
        .filter_map(|wish| if let Wish::Quantity { quantity, value, typed } = wish { Some((*quantity, *value, typed)) } else { None })
        .collect();
    for (index, value, typed) in in_order(part, asked) {
        // Requested values are kept.
        let held = |field: FieldId| taken.iter().any(|(known, ..)| *known == field);
        let (_, then) = planned(part, start, &state, &codes(&taken), scope)?;
        let found = inverse::find(part, index, value, &then, &held, MOST_TRIED);
        let found = found.map_err(|error| error.fitting(part, index, value, &then, &held))?;
        for (field, code) in &found.codes {
            take(part, &mut taken, *field, *code, typed)?;
            set(part, &mut state, *field, *code);
        }
        results.push(found);
    }
    let asked = codes(&taken);
    let unstored = asked.iter().copied().filter(|(field, _)| part.is_unstored(*field)).collect();
    let (writes, state) = planned(part, start, &state, &asked, scope)?;
    if let Some(field) = asked.iter().find(|(field, code)| Some(*field) == part.unit_field && !is_unit(*code)) {
        return Err(ConfigureError::NotAUnit { field: part.fields[field.0].name.clone(), code: field.1 });
    }
    not_below(part, start, &state)?;
    let moved = moved(part, start, &state, &results);
    Ok(Configuration { state, writes, quantities: results, computed, unstored, moved })
}

fn codes(taken: &Taken) -> Vec<(FieldId, i128)> {
    taken.iter().map(|(field, code, _)| (*field, *code)).collect()
}

/// The writes that lead to a state, and the state after them: bits that clear themselves, or that ones clear, have done so.
fn planned(
    part: &Sheet,
    start: &State,
    wished: &State,
    asked: &[(FieldId, i128)],
    scope: WriteScope,
) -> Result<(Vec<Write>, State), ConfigureError> {
    let mut writes = writes::writes(part, start, wished, asked, scope)?;
    // Unknown values cannot be restored.
    let unlocked = writes.clone();
    let is_known = |write: &Write| {
        let same = unlocked.iter().filter(|other| other.reason == Some(WriteReason::Unlocks) && other.register == write.register);
        let mut fields = same.flat_map(|other| &other.sets).filter_map(|(field, _)| part.fields.get(*field));
        fields.any(|field| wished.knows(field))
    };
    writes.retain(|write| write.reason != Some(WriteReason::Restores) || is_known(write));
    let mut state = wished.clone();
    // Zeros leave bits that do something as they are.
    for field in asked.iter().filter(|(_, code)| *code == 0).filter_map(|(field, _)| part.fields.get(*field)) {
        if field.access.is_action() {
            state.restore_field(field, start);
        }
    }
    writes.iter().for_each(|write| write.apply(part, &mut state));
    Ok((writes, state))
}

/// Sets a field, unless it has the code already: some codes have two bit patterns.
fn set(part: &Sheet, state: &mut State, field: FieldId, code: i128) {
    if let Some(model) = part.fields.get(field).filter(|model| state.known_field(model) != Some(code)) {
        state.set_field(model, code);
    }
}

fn take(part: &Sheet, taken: &mut Taken, field: FieldId, code: i128, typed: &str) -> Result<(), ConfigureError> {
    // One of two fields that share bits may undo the other.
    let undoes = |(known, other, _): &&(FieldId, i128, String)| {
        let (Some(before), Some(model)) = (part.fields.get(*known), part.fields.get(field)) else { return false };
        let mut probe = State::reset(part);
        probe.set_field(before, *other);
        probe.set_field(model, code);
        probe.field(before) != *other
    };
    if let Some((_, _, first)) = taken.iter().find(undoes) {
        return Err(ConfigureError::Contradiction {
            field: part.fields.get(field).map_or(String::new(), |field| field.name.clone()),
            first: first.clone(),
            second: typed.to_owned(),
        });
    }
    if !taken.iter().any(|(known, ..)| *known == field) {
        taken.push((field, code, typed.to_owned()));
    }
    Ok(())
}

/// Adds codes that are computed from requested ones.
fn compute_fields(
    part: &Sheet,
    state: &mut State,
    wishes: &[Wish],
    taken: &mut Taken,
) -> Result<Vec<(FieldId, i128, f64)>, ConfigureError> {
    let mut computed = Vec::new();
    for (index, field) in part.fields.entries() {
        let Some(formula) = &field.computed else { continue };
        let asked = |input: &Input| {
            wishes.iter().find(|wish| match (wish, input) {
                (Wish::Parameter { parameter, .. }, Input::Parameter(used)) => parameter == used,
                (Wish::Field { field, .. }, input) => input.field() == Some(*field),
                _ => false,
            })
        };
        let Some(wish) = inputs(formula).find_map(|input| asked(&input)) else { continue };
        let value = Present { part, state }.compute(formula).unwrap_or(f64::NAN);
        let Some(code) = field.computed_code(value) else {
            return Err(ConfigureError::DoesNotFit { field: field.name.clone(), value, bounds: field.bounds() });
        };
        take(part, taken, index, code, wish.typed())?;
        set(part, state, index, code);
        computed.push((index, code, value));
    }
    Ok(computed)
}

/// Refuses quantities that are below others, if both are known and were not so before.
fn not_below(part: &Sheet, start: &State, state: &State) -> Result<(), ConfigureError> {
    let present = Present { part, state };
    let before = Present { part, state: start };
    for (index, quantity) in part.quantities.entries() {
        let Some(floor) = quantity.not_below else { continue };
        let (Ok(value), Ok(least)) = (present.quantity(index), present.quantity(floor)) else { continue };
        if value < least && (before.quantity(index), before.quantity(floor)) != (Ok(value), Ok(least)) {
            let name = |index: QuantityId| part.quantities.get(index).map_or(String::new(), |quantity| quantity.name.clone());
            return Err(ConfigureError::Below { quantity: (name(index), value), other: (name(floor), least), unit: quantity.unit.clone() });
        }
    }
    Ok(())
}

/// Quantities without a request that change with the requested fields.
fn moved(part: &Sheet, start: &State, end: &State, results: &[QuantityResult]) -> Vec<(QuantityId, f64, f64)> {
    let others = part.quantities.ids().filter(|id| !results.iter().any(|result| result.quantity == *id));
    let both = others.filter_map(|id| Some((id, quantity_value(part, id, start)?, quantity_value(part, id, end)?)));
    both.filter(|(_, before, after)| before != after).collect()
}

/// The present value of a quantity; `None` if its formula fails or needs an unknown value.
pub fn quantity_value(part: &Sheet, quantity: QuantityId, state: &State) -> Option<f64> {
    Present { part, state }.quantity(quantity).ok()
}

impl From<Unreachable> for ConfigureError {
    fn from(Unreachable { register, needs }: Unreachable) -> Self {
        ConfigureError::Unreachable { register, needs }
    }
}

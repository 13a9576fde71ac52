//! From wishes to register bytes and back.
//!
//! [`Wish`]es come in as people type them (`SPAN=4 g`, `high_limit=31 °C`); [`configure`] turns them into the registers
//! that must be written, in an order that the part allows, and says what the part will really use. [`wire`] has the
//! bytes for the bus, [`read_back`] compares what was written with what came back, [`choose`] lists the settings that
//! fulfil a wish.

pub mod choose;
mod inverse;
mod order;
mod read_back;
pub mod wire;
mod wish;

use std::fmt;

use crate::model::eval::{Present, QuantityEval};
use crate::model::part::Part;
use crate::model::registers::{Access, Settings};

pub use inverse::Method;
pub use read_back::{Difference, ReadBack, read_back};
pub use wish::{Wish, WishError, measured, measured_difference};

/// What configuring a part needs: the writes, and what they do.
#[derive(Clone, Debug)]
pub struct Configuration {
    /// The registers as they are after the writes, as far as one can know.
    pub settings: Settings,
    /// The parameters that were supplied, and the others' defaults.
    pub parameters: Vec<f64>,
    /// The writes, in order.
    pub writes: Vec<Write>,
    /// What was asked of quantities, and what they became.
    pub met: Vec<Met>,
    /// Fields whose codes follow from others: the field, its code, and the number that was rounded to it.
    pub computed: Vec<(usize, i128, f64)>,
    /// Quantities that nobody asked for and that changed all the same: index, before, after.
    pub moved: Vec<(usize, f64, f64)>,
}

/// A register that is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Write {
    /// The register, by index in [`Part::registers`].
    pub register: usize,
    /// Its value before; `None` where nobody knows.
    pub before: Option<u64>,
    /// The value that is written.
    pub value: u64,
    /// The value that reads back: what clears itself is noughts again.
    pub after: u64,
    /// Why it is written where nobody asked for it.
    pub why: Option<Why>,
}

/// Why a register is written that holds nothing that was asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// Another register can only be reached, or written, then.
    Opens,
    /// It is put back as it was.
    Restores,
}

/// A quantity that was asked for.
#[derive(Clone, Debug, PartialEq)]
pub struct Met {
    /// The quantity, by index in [`Part::quantities`].
    pub quantity: usize,
    /// What was asked, in the quantity's unit.
    pub asked: f64,
    /// What the part will use.
    pub value: f64,
    /// How far the next value is that its fields can hold, on that side where it is nearer.
    pub step: Option<f64>,
    /// How its codes were found.
    pub method: Method,
    /// The fields that hold it, with their codes.
    pub codes: Vec<(usize, i128)>,
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
        /// What was asked.
        asked: f64,
        /// What its fields can hold with the other fields as they are, as far as the reading is believed.
        range: (f64, f64),
        /// Its unit.
        unit: String,
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
    /// A register cannot be reached in any order.
    Unreachable {
        /// The register.
        register: String,
        /// What it waits for, in words.
        needs: String,
    },
}

impl fmt::Display for ConfigureError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ConfigureError::Contradiction { field, first, second } => write!(f, "`{first}` and `{second}` want different codes of {field}"),
            ConfigureError::OutOfRange { quantity, asked, range: (low, high), unit } => {
                write!(f, "{quantity} cannot be {asked} {unit}: it can be {} to {} {unit}", round(*low), round(*high))
            }
            ConfigureError::NoWayBack { quantity, why } => write!(f, "{quantity} cannot be set: {why}"),
            ConfigureError::Below { quantity: (name, value), other: (other, floor), unit } => {
                write!(f, "{name} would be {} {unit}, below {other} with {} {unit}", round(*value), round(*floor))
            }
            ConfigureError::DoesNotFit { field, value, .. } if value.is_nan() => {
                write!(f, "the formula of {field} gives nothing with these parameters")
            }
            ConfigureError::DoesNotFit { field, value, bounds: (low, high) } => {
                write!(f, "{field} would be {}, but its bits hold {low} to {high}", round(*value))
            }
            ConfigureError::Unreachable { register, needs } => write!(f, "{register} cannot be written: it needs {needs}"),
        }
    }
}

impl std::error::Error for ConfigureError {}

/// A number with as many digits as are worth reading.
fn round(value: f64) -> f64 {
    let digits = 6 - value.abs().log10().floor().clamp(-6.0, 6.0) as i32;
    let scale = 10f64.powi(digits);
    (value * scale).round() / scale
}

/// Which of the registers that hold what was asked for are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Which {
    /// Those that change, or of which nobody knows.
    Changed,
    /// All of them: who knows what the part has been through.
    All,
}

/// Works out what is to be written so that a part, whose registers are as `start` says, is as wished. Nothing is
/// worked out unless all of it can be.
///
/// ```
/// use yemdo::configure::{Which, Wish, configure};
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// i2c.address = 0x21
/// register.MODE = { at = 1, reset = 0x20, field.RATE = { bits = "[7:4]", values = [{ code = 3, name = "fast" }] } }
/// "#).unwrap();
/// let wishes = [Wish::parse(&part, "RATE=fast").unwrap()];
/// let done = configure(&part, &yemdo::Settings::reset(&part), &wishes, Which::Changed).unwrap();
/// assert_eq!(done.writes[0].value, 0x30);
/// ```
///
/// # Errors
/// [`ConfigureError`].
pub fn configure(part: &Part, start: &Settings, wishes: &[Wish], which: Which) -> Result<Configuration, ConfigureError> {
    let mut parameters: Vec<f64> = part.parameters.iter().map(|parameter| parameter.default).collect();
    let mut settings = start.clone();
    // Field, its code, and the wish that wants it.
    let mut taken: Vec<(usize, i128, String)> = Vec::new();
    for wish in wishes {
        match wish {
            Wish::Field { field, code, typed } => {
                take(part, &mut taken, *field, *code, typed)?;
                if let Some(model) = part.fields.get(*field) {
                    settings.set_field(model, *code);
                }
            }
            Wish::Parameter { index, value, .. } => parameters.get_mut(*index).into_iter().for_each(|place| *place = *value),
            Wish::Quantity { .. } => {}
        }
    }
    let computed = compute_fields(part, &mut settings, &parameters, wishes, &mut taken)?;
    let mut met: Vec<Met> = Vec::new();
    let mut asked: Vec<(usize, f64, &String)> = wishes
        .iter()
        .filter_map(|wish| if let Wish::Quantity { index, value, typed } = wish { Some((*index, *value, typed)) } else { None })
        .collect();
    // A quantity stands behind those that its formula uses.
    asked.sort_by_key(|(index, ..)| *index);
    for (index, value, typed) in asked {
        let found = inverse::find(part, index, value, &settings, &parameters)?;
        for (field, code) in &found.codes {
            take(part, &mut taken, *field, *code, typed)?;
            if let Some(model) = part.fields.get(*field) {
                settings.set_field(model, *code);
            }
        }
        met.push(found);
    }
    // What nobody asked for is as after a reset, if the sheet tells, or as it was read.
    let as_after_reset = *start == Settings::reset(part);
    let told = |field: usize| {
        let mut homes = part.registers.iter().filter(|register| register.fields.contains(&field));
        !as_after_reset || homes.all(|register| register.reset.is_some())
    };
    not_below(part, &settings, &parameters, |field| told(field) || taken.iter().any(|(asked, ..)| *asked == field))?;
    let writes = order::writes(part, start, &settings, &taken.iter().map(|(field, code, _)| (*field, *code)).collect::<Vec<_>>(), which)?;
    for write in &writes {
        if let Some(register) = part.registers.get(write.register) {
            settings.set_register(register, write.after);
        }
    }
    let mut moved = moved(part, start, &settings, &parameters, &met);
    moved.retain(|(index, ..)| part.quantities.get(*index).is_some_and(|quantity| quantity.moves.iter().all(|field| told(*field))));
    Ok(Configuration { settings, parameters, writes, met, computed, moved })
}

fn take(part: &Part, taken: &mut Vec<(usize, i128, String)>, field: usize, code: i128, typed: &str) -> Result<(), ConfigureError> {
    match taken.iter().find(|(known, ..)| *known == field) {
        Some((_, other, first)) if *other != code => Err(ConfigureError::Contradiction {
            field: part.fields.get(field).map_or(String::new(), |field| field.name.clone()),
            first: first.clone(),
            second: typed.to_owned(),
        }),
        Some(_) => Ok(()),
        None => {
            taken.push((field, code, typed.to_owned()));
            Ok(())
        }
    }
}

/// Puts in the codes that follow from others, where what they follow from was asked for.
fn compute_fields(
    part: &Part,
    settings: &mut Settings,
    parameters: &[f64],
    wishes: &[Wish],
    taken: &mut Vec<(usize, i128, String)>,
) -> Result<Vec<(usize, i128, f64)>, ConfigureError> {
    use crate::model::part::Input;
    let mut computed = Vec::new();
    for (index, field) in part.fields.iter().enumerate() {
        let Some(formula) = &field.computed else { continue };
        let asked = |input: &Input| {
            wishes.iter().find(|wish| match (wish, input) {
                (Wish::Parameter { index, .. }, Input::Parameter(used)) => index == used,
                (Wish::Field { field, .. }, Input::Field(used) | Input::Column(used, _)) => field == used,
                _ => false,
            })
        };
        let Some(wish) = formula.inputs.iter().find_map(asked) else { continue };
        let present = Present { part, settings, parameters, last: &[] };
        let value = present.value(formula).unwrap_or(f64::NAN);
        let bounds = field.bounds();
        let code = value.round();
        if !(code >= bounds.0 as f64 && code <= bounds.1 as f64) {
            return Err(ConfigureError::DoesNotFit { field: field.name.clone(), value, bounds });
        }
        take(part, taken, index, code as i128, wish.typed())?;
        settings.set_field(field, code as i128);
        computed.push((index, code as i128, value));
    }
    Ok(computed)
}

/// Refuses quantities that are below others, where both are `known` by all their fields.
fn not_below(part: &Part, settings: &Settings, parameters: &[f64], known: impl Fn(usize) -> bool) -> Result<(), ConfigureError> {
    let present = Present { part, settings, parameters, last: &[] };
    for (index, quantity) in part.quantities.iter().enumerate() {
        let Some(floor) = quantity.not_below else { continue };
        let held = quantity.moves.iter().chain(part.quantities.get(floor).map_or(&[] as &[usize], |other| &other.moves));
        if !held.copied().all(&known) {
            continue;
        }
        let (Ok(value), Ok(least)) = (present.quantity(index), present.quantity(floor)) else { continue };
        if value < least {
            let name = |index: usize| part.quantities.get(index).map_or(String::new(), |quantity| quantity.name.clone());
            return Err(ConfigureError::Below { quantity: (name(index), value), other: (name(floor), least), unit: quantity.unit.clone() });
        }
    }
    Ok(())
}

/// Quantities that nobody asked for and that change with the fields that were.
fn moved(part: &Part, start: &Settings, end: &Settings, parameters: &[f64], met: &[Met]) -> Vec<(usize, f64, f64)> {
    let at = |settings: &Settings, index: usize| {
        let present = Present { part, settings, parameters, last: &[] };
        QuantityEval::new(part, index)?.value(&present).ok()
    };
    let others = (0..part.quantities.len()).filter(|index| !met.iter().any(|met| met.quantity == *index));
    let both = others.filter_map(|index| Some((index, at(start, index)?, at(end, index)?)));
    both.filter(|(_, before, after)| before != after).collect()
}

impl Part {
    /// The present value of a quantity, by its index in [`Part::quantities`]; `None` where its formula is at fault.
    pub fn quantity(&self, index: usize, settings: &Settings, parameters: &[f64]) -> Option<f64> {
        Present { part: self, settings, parameters, last: &[] }.quantity(index).ok()
    }
}

/// The value to be written so that a register is as wished: reserved bits as the datasheet demands, and no one where
/// a one would do something that nobody asked for. Also what reads back afterwards.
pub(crate) fn value_to_write(part: &Part, index: usize, wanted: u64, asked: &[usize]) -> (u64, u64) {
    let Some(register) = part.registers.get(index) else { return (0, 0) };
    let (mut value, mut after) = (wanted, wanted);
    let reset = register.reset.unwrap_or(0);
    for (at, field) in register.fields.iter().filter_map(|field| Some((*field, part.fields.get(*field)?))) {
        let mask = field.mask_in(register);
        if matches!(field.access, Access::WriteOneToClear | Access::SelfClearing) {
            if !asked.contains(&at) {
                value &= !mask;
            }
            after &= !mask;
        }
        // What the part alone sets is written as after a reset, whatever was read there last.
        if matches!(field.access, Access::ReadOnly | Access::ClearOnRead) {
            value = (value & !mask) | (reset & mask);
        }
    }
    for reserved in &register.reserved {
        let kept = reserved.write.unwrap_or(reset & reserved.mask);
        value = (value & !reserved.mask) | kept;
        after = (after & !reserved.mask) | kept;
    }
    (value & register.mask(), after & register.mask())
}

//! Readings in the units that were asked for.

use std::fmt;

use crate::ground::digits::Digits;
use crate::ground::list::List;
use crate::ground::suggest::nearest;
use crate::model::ids::ReadingId;
use crate::model::part::Part;
use crate::model::reading::Reading;
use crate::model::state::State;
use crate::predict;
use crate::units::{UNITS, Unit};

/// For every reading of a part, the unit that it is shown in, and the digits that are worth showing there.
#[derive(Clone, Debug)]
pub struct ShownUnits {
    readings: List<ReadingId, Shown>,
}

#[derive(Clone, Copy, Debug)]
struct Shown {
    /// From and to, where another unit was asked for.
    converted: Option<(&'static Unit, &'static Unit)>,
    /// The unit that it is shown in, where it is one that is known.
    unit: Option<&'static Unit>,
    digits: Digits,
}

/// A unit that readings cannot be shown in.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct UnitError {
    /// What is wrong.
    pub message: String,
    /// What to try.
    pub help: Option<String>,
}

impl fmt::Display for UnitError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for UnitError {}

impl ShownUnits {
    /// All readings in the units of the sheet, with the digits that they need with these settings.
    pub fn plain(part: &Part, settings: &State) -> Self {
        let plain = |id: ReadingId| Shown {
            converted: None,
            unit: part.readings.get(id).and_then(|reading| Unit::find(&reading.unit)),
            digits: predict::digits(part, id, settings, &|value| value),
        };
        Self { readings: List::filled(part.readings.len(), plain) }
    }

    /// Works out `°F`, `pressure=psi` and their like: all readings of a dimension, or one. The digits are those that the
    /// readings need with these settings.
    ///
    /// # Errors
    /// [`UnitError`]: no such unit, no such reading, or another dimension.
    pub fn new(part: &Part, settings: &State, asked: &[String]) -> Result<Self, UnitError> {
        let Self { mut readings } = Self::plain(part, settings);
        for asked in asked {
            let (name, symbol) = asked.split_once('=').map_or((None, asked.as_str()), |(name, symbol)| (Some(name.trim()), symbol.trim()));
            let to = Unit::find(symbol).ok_or_else(|| UnitError {
                message: format!("the unit `{symbol}` is not known"),
                help: nearest(symbol, UNITS.iter().map(|unit| unit.symbol)).map(|near| format!("did you mean `{near}`?")),
            })?;
            let only = match name {
                Some(name) => {
                    Some(part.reading_or_derived(name).map_err(|error| UnitError { message: error.message(), help: Some(error.help()) })?)
                }
                None => None,
            };
            let (mut taken, mut refused) = (false, Vec::new());
            let wanted = part.readings.entries().filter(|(id, reading)| only.map_or(!reading.is_shared(), |only| only == *id));
            for (id, reading) in wanted {
                let from = Unit::find(&reading.unit).filter(|from| from.dimension == to.dimension);
                match (from, readings.get_mut(id)) {
                    (Some(from), Some(shown)) => {
                        let digits = match reading.decimals {
                            Some(decimals) => Digits::Decimals(from.decimals_in(to, decimals)),
                            None => predict::digits(part, id, settings, &|value| from.to(to, value).unwrap_or(value)),
                        };
                        *shown = Shown { converted: Some((from, to)), unit: Some(to), digits };
                        taken = true;
                    }
                    _ => refused.push(format!("{} in {}", reading.name, reading.unit)),
                }
            }
            if !taken {
                let help = Some(format!("the readings are {}", refused.join(", ")));
                return Err(UnitError { message: format!("{symbol} is a unit of {}", to.dimension), help });
            }
        }
        Ok(Self { readings })
    }

    /// The symbol that a reading is shown with.
    pub fn symbol<'r>(&self, id: ReadingId, reading: &'r Reading) -> &'r str {
        self.converted(id).map_or(&reading.unit, |(_, to)| to.symbol)
    }

    /// What stands behind a value: the symbol, and nothing where it is a number alone.
    pub fn suffix<'r>(&self, id: ReadingId, reading: &'r Reading) -> &'r str {
        Some(self.symbol(id, reading)).filter(|symbol| *symbol != "1").unwrap_or("")
    }

    /// A value as it is shown.
    pub fn value(&self, id: ReadingId, value: f64) -> f64 {
        self.converted(id).and_then(|(from, to)| from.to(to, value)).unwrap_or(value)
    }

    /// Whether values are shown as they are computed.
    pub fn is_plain(&self, id: ReadingId) -> bool {
        self.converted(id).is_none()
    }

    /// The digits that are worth showing.
    pub fn digits(&self, id: ReadingId) -> Digits {
        self.readings.get(id).map_or(Digits::UNKNOWN, |shown| shown.digits)
    }

    /// The unit that a reading is shown in, where it is one that is known.
    pub fn unit(&self, id: ReadingId) -> Option<&'static Unit> {
        self.readings.get(id)?.unit
    }

    fn converted(&self, id: ReadingId) -> Option<(&'static Unit, &'static Unit)> {
        self.readings.get(id)?.converted
    }
}

//! Readings in the units that were asked for.

use yemdo::Part;
use yemdo::model::part::Reading;
use yemdo::sheet::suggest::nearest;
use yemdo::units::{UNITS, Unit};

use crate::failure::Failure;

/// For every reading of the part, the unit that was asked for, where one was.
pub(crate) struct Units {
    wanted: Vec<Option<(&'static Unit, &'static Unit)>>,
}

impl Units {
    /// Works out `°F`, `pressure=psi` and their like.
    pub(crate) fn new(part: &Part, wishes: &[String]) -> Result<Self, Failure> {
        let mut wanted = vec![None; part.readings().len()];
        for wish in wishes {
            let (name, symbol) = wish.split_once('=').map_or((None, wish.as_str()), |(name, symbol)| (Some(name.trim()), symbol.trim()));
            let to = Unit::find(symbol).ok_or_else(|| {
                let failure = Failure::told(format!("the unit `{symbol}` is not known"));
                match nearest(symbol, UNITS.iter().map(|unit| unit.symbol)) {
                    Some(near) => failure.help(format!("did you mean `{near}`?")),
                    None => failure,
                }
            })?;
            if let Some(name) = name.filter(|name| !part.readings().iter().any(|reading| reading.name() == *name)) {
                let failure = Failure::told(format!("{} has no reading `{name}`", part.name()));
                return Err(match nearest(name, part.readings().iter().map(|reading| reading.name())) {
                    Some(near) => failure.help(format!("did you mean `{near}`?")),
                    None => failure,
                });
            }
            let mut taken = false;
            let mut refused = Vec::new();
            for (reading, place) in
                part.readings().iter().zip(&mut wanted).filter(|(reading, _)| name.is_none_or(|name| name == reading.name()))
            {
                match Unit::find(reading.unit()).filter(|from| from.dimension == to.dimension) {
                    Some(from) => {
                        *place = Some((from, to));
                        taken = true;
                    }
                    None => refused.push(format!("{} in {}", reading.name(), reading.unit())),
                }
            }
            if !taken {
                return Err(Failure::told(format!("{symbol} is a unit of {}", to.dimension))
                    .help(format!("the readings are {}", refused.join(", "))));
            }
        }
        Ok(Self { wanted })
    }

    /// The symbol that a reading is printed with.
    pub(crate) fn symbol<'r>(&self, index: usize, reading: &'r Reading) -> &'r str {
        self.wanted.get(index).copied().flatten().map_or(reading.unit(), |(_, to)| to.symbol)
    }

    /// A value as it is printed.
    pub(crate) fn value(&self, index: usize, value: f64) -> f64 {
        self.wanted.get(index).copied().flatten().and_then(|(from, to)| from.to(to, value)).unwrap_or(value)
    }

    /// Decimals worth showing.
    pub(crate) fn decimals(&self, index: usize, reading: &Reading) -> usize {
        self.wanted.get(index).copied().flatten().map_or(reading.decimals(), |(from, to)| from.decimals_in(to, reading.decimals()))
    }

    /// The unit that a reading is printed in, where it is one that is known.
    pub(crate) fn unit(&self, index: usize, reading: &Reading) -> Option<&'static Unit> {
        self.wanted.get(index).copied().flatten().map_or_else(|| Unit::find(reading.unit()), |(_, to)| Some(to))
    }
}

//! From a physical value back to codes, for whatever formula.

use super::{ConfigureError, QuantityResult, fields_behind};
use crate::bits::form::Form;
use crate::ground::words::with_unit;
use crate::model::ids::{FieldId, QuantityId};
use crate::model::operation::Quantity;
use crate::model::part::Sheet;
use crate::model::reading::StatedRange;
use crate::model::registers::Field;
use crate::model::state::State;
use crate::model::value::{Eval, Present};

/// Larger fields are looked at in so many places before the halving begins.
const PROBES: usize = 1024;

/// How the codes of a quantity were found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Method {
    /// Every code is a step further by the same amount.
    Linear,
    /// The value rises, or falls, with every code.
    Monotonic,
    /// All codes were tried.
    Searched,
}

impl Method {
    /// How, in words; `None` where nothing had to be looked for.
    pub fn found(self) -> Option<&'static str> {
        match self {
            Method::Linear => None,
            Method::Monotonic => Some("found by halving"),
            Method::Searched => Some("found by trying all codes"),
        }
    }
}

/// The values of a quantity, code by code.
struct Values<'a> {
    part: &'a Sheet,
    eval: Eval,
    state: State,
}

impl Values<'_> {
    fn at(&mut self, codes: &[(&Field, i128)]) -> Option<f64> {
        for (field, code) in codes {
            self.state.set_field(field, *code);
        }
        let present = Present { part: self.part, state: &self.state };
        self.eval.value(&present).ok().filter(|value| value.is_finite())
    }
}

/// The codes a field can have: those of its table, or all that its bits hold.
enum Codes {
    Run(i128, i128),
    List(Vec<i128>),
}

impl Codes {
    fn of(field: &Field) -> Self {
        match field.values.as_slice() {
            [] => Codes::Run(field.bounds().0, field.bounds().1),
            values => {
                let mut codes: Vec<i128> = values.iter().map(|row| row.code).collect();
                codes.sort_unstable();
                Codes::List(codes)
            }
        }
    }

    fn len(&self) -> usize {
        match self {
            Codes::Run(low, high) => usize::try_from(high - low + 1).unwrap_or(usize::MAX),
            Codes::List(codes) => codes.len(),
        }
    }

    fn has(&self, code: i128) -> bool {
        match self {
            Codes::Run(low, high) => (*low..=*high).contains(&code),
            Codes::List(codes) => codes.contains(&code),
        }
    }

    fn at(&self, index: usize) -> i128 {
        match self {
            Codes::Run(low, _) => low + index as i128,
            Codes::List(codes) => codes.get(index).copied().unwrap_or(0),
        }
    }
}

/// The best codes found so far.
struct Best {
    asked: f64,
    found: Option<(f64, Vec<i128>)>,
    /// The codes as they are now, where they are to be kept if they will do.
    present: Option<Vec<i128>>,
    low: f64,
    high: f64,
}

impl Best {
    /// As [`see`](Self::see); of values as near as the best, one with a smaller step is better, but for the present codes.
    fn see_finer(&mut self, value: f64, codes: &[i128], step: f64, finest: &mut f64) {
        let distance = (value - self.asked).abs();
        let (nearest, present) = match &self.found {
            Some((known, known_codes)) => ((known - self.asked).abs(), self.present.as_ref() == Some(known_codes)),
            None => (f64::INFINITY, false),
        };
        let slack = 1e-12 * self.asked.abs();
        self.low = self.low.min(value);
        self.high = self.high.max(value);
        if distance < nearest - slack || (distance <= nearest + slack && step < *finest && !present) {
            self.found = Some((value, codes.to_vec()));
            *finest = step;
        }
    }

    fn see(&mut self, value: f64, codes: &[i128]) {
        self.low = self.low.min(value);
        self.high = self.high.max(value);
        if self.found.as_ref().is_none_or(|(known, _)| (value - self.asked).abs() < (known - self.asked).abs()) {
            self.found = Some((value, codes.to_vec()));
        }
    }
}

/// The codes that bring a quantity as near as can be to a value, with all other fields as they are, and those of its own
/// that are `held`; up to `most` are tried one by one. Of several ways to be as near, the one where the next code is the nearest: the finest.
pub(super) fn find(
    part: &Sheet,
    index: QuantityId,
    asked: f64,
    state: &State,
    held: &dyn Fn(FieldId) -> bool,
    most: usize,
) -> Result<QuantityResult, ConfigureError> {
    let none = |why: &str| ConfigureError::NoWayBack { quantity: part.quantities[index].name.clone(), why: why.to_owned() };
    let (Some(quantity), Some(eval)) = (part.quantities.get(index), Eval::of_quantity(part, index)) else { return Err(none("unknown")) };
    let moves: Vec<FieldId> = quantity.moves.iter().copied().filter(|field| !held(*field)).collect();
    let fields: Vec<&Field> = part.fields.of(&moves).collect();
    if fields.iter().any(|field| field.layout.form == Form::Float) {
        return Err(none("it is held by a floating-point field, which can be set itself"));
    }
    let codes: Vec<Codes> = fields.iter().map(|field| Codes::of(field)).collect();
    if let Some(unknown) = unknown(part, quantity, state, &moves) {
        return Err(none(&format!("it depends on {unknown}, which is unknown: set it too, or give the register's value")));
    }
    let mut values = Values { part, eval, state: state.clone() };
    let mut best = Best { asked, found: None, present: None, low: f64::INFINITY, high: f64::NEG_INFINITY };
    let count = codes.iter().map(Codes::len).fold(1usize, usize::saturating_mul);
    let method = match (fields.as_slice(), codes.as_slice()) {
        (&[field], [all]) if count <= most => {
            let mut seen = Vec::with_capacity(count);
            for at in 0..count {
                if let Some(value) = values.at(&[(field, all.at(at))]) {
                    best.see(value, &[all.at(at)]);
                    seen.push(value);
                }
            }
            shape(&seen)
        }
        (&[field], [all]) => halve(&mut values, field, all, &mut best).ok_or_else(|| {
            none("its value neither rises nor falls with the code throughout, and there are too many codes to try them all")
        })?,
        (&[first, second], [some, others]) if count <= most => {
            // As they are now comes first, so that what needs no change is not changed.
            let now = [state.field(first), state.field(second)];
            let possible = some.has(now[0]) && others.has(now[1]);
            if let Some(value) = values.at(&[(first, now[0]), (second, now[1])]).filter(|_| possible) {
                best.see(value, &now);
                best.present = Some(now.to_vec());
            }
            // One code further on its own: of as good ways, that with the smallest is the finest.
            let mut finest = f64::INFINITY;
            let mut row_of = |one: usize| -> Vec<Option<f64>> {
                let codes = (0..others.len()).filter(|_| one < some.len());
                codes.map(|two| values.at(&[(first, some.at(one)), (second, others.at(two))])).collect()
            };
            let (mut before, mut row) = (Vec::new(), row_of(0));
            for one in 0..some.len() {
                let behind = row_of(one + 1);
                for (two, value) in row.iter().enumerate().filter_map(|(two, value)| Some((two, (*value)?))) {
                    let at = |row: &[Option<f64>], two: Option<usize>| row.get(two?).copied().flatten();
                    let besides = [at(&row, two.checked_sub(1)), at(&row, Some(two + 1)), at(&before, Some(two)), at(&behind, Some(two))];
                    let steps = besides.into_iter().flatten().map(|next| (next - value).abs()).filter(|step| *step > 0.0);
                    best.see_finer(value, &[some.at(one), others.at(two)], steps.fold(f64::INFINITY, f64::min), &mut finest);
                }
                before = std::mem::replace(&mut row, behind);
            }
            Method::Searched
        }
        (&[], _) => {
            let value = values.at(&[]).ok_or_else(|| none("its formula gives no value with these codes"))?;
            if (value - asked).abs() > 1e-9 * asked.abs().max(1e-9) {
                let made = with_unit(super::round(value), &quantity.unit);
                return Err(none(&format!("all fields that hold it are given themselves, and make it {made}")));
            }
            best.see(value, &[]);
            Method::Linear
        }
        _ => return Err(none("its fields have too many codes together to try them all")),
    };
    let Some((value, chosen)) = best.found else { return Err(none("its formula gives no value for any code")) };
    // The next value on either side, of codes one further.
    let mut step: Option<f64> = None;
    for (at, field) in fields.iter().enumerate() {
        let (low, high) = field.bounds();
        for next in [-1, 1] {
            let codes: Vec<(&Field, i128)> = fields
                .iter()
                .zip(&chosen)
                .enumerate()
                .map(|(other, (field, code))| (*field, if other == at { (code + next).clamp(low, high) } else { *code }))
                .collect();
            let other = values.at(&codes).map(|other| (other - value).abs()).filter(|step| *step > 0.0);
            step = match (step, other) {
                (Some(known), Some(other)) => Some(known.min(other)),
                (known, other) => known.or(other),
            };
        }
    }
    // A threshold that the reading never reaches is none, whatever the register holds.
    let mut then = state.clone();
    fields.iter().zip(&chosen).for_each(|(field, code)| then.set_field(field, *code));
    if let Some(reading) = quantity.through.and_then(|(reading, _)| part.readings.get(reading)).filter(|reading| reading.range.is_some()) {
        let Some((low, high)) = reading.range(part, &then) else { return Err(none("its stated range has no value with these settings")) };
        (best.low, best.high) = (best.low.max(low), best.high.min(high));
    }
    let slack = step.unwrap_or(0.0) / 2.0 * (1.0 + 1e-9);
    if asked < best.low - slack || asked > best.high + slack {
        return Err(ConfigureError::OutOfRange {
            quantity: quantity.name.clone(),
            asked,
            range: (best.low, best.high),
            unit: quantity.unit.clone(),
            fits_with: Vec::new(),
        });
    }
    let codes = moves.iter().copied().zip(chosen).collect();
    Ok(QuantityResult { quantity: index, asked, value, step, method, codes })
}

/// A field that decides over a quantity, is not moved for it, and is unknown.
fn unknown<'s>(part: &'s Sheet, quantity: &Quantity, state: &State, moves: &[FieldId]) -> Option<&'s str> {
    let through = quantity.through.and_then(|(reading, _)| part.readings.get(reading)).into_iter();
    // Also fields of the range, as values outside it are refused.
    let formulas =
        through.flat_map(|reading| std::iter::once(&reading.formula).chain(reading.range.iter().flat_map(StatedRange::formulas)));
    let fields = fields_behind(part, quantity, formulas).into_iter();
    let mut others = fields.filter(|field| !moves.contains(field)).filter_map(|field| part.fields.get(field));
    others.find(|field| !state.knows(field)).map(|field| field.name.as_str())
}

/// How values follow one another.
fn shape(seen: &[f64]) -> Method {
    let steps = || seen.windows(2).filter_map(|pair| Some(pair.last()? - pair.first()?));
    let Some(first) = steps().next() else { return Method::Searched };
    let largest = seen.iter().fold(0.0, |most: f64, value| most.max(value.abs()));
    if steps().all(|step| (step - first).abs() <= largest * 1e-12) {
        Method::Linear
    } else if steps().all(|step| step > 0.0) || steps().all(|step| step < 0.0) {
        Method::Monotonic
    } else {
        Method::Searched
    }
}

/// Halves the codes of a large field until the nearest is found; `None` where the value does not go one way.
fn halve(values: &mut Values<'_>, field: &Field, codes: &Codes, best: &mut Best) -> Option<Method> {
    let last = codes.len() - 1;
    let mut seen = Vec::with_capacity(PROBES + 1);
    // Evenly, so that what is linear shows; the last code is seen by the halving.
    let every = last / PROBES;
    for at in (0..=PROBES).map(|probe| probe * every) {
        let value = values.at(&[(field, codes.at(at))])?;
        best.see(value, &[codes.at(at)]);
        seen.push(value);
    }
    let method = shape(&seen);
    if method == Method::Searched {
        return None;
    }
    let rising = seen.first() < seen.last();
    let (mut low, mut high) = (0, last);
    while high - low > 1 {
        let middle = low + (high - low) / 2;
        let value = values.at(&[(field, codes.at(middle))])?;
        best.see(value, &[codes.at(middle)]);
        if (value < best.asked) == rising { low = middle } else { high = middle }
    }
    for at in [low, high] {
        let value = values.at(&[(field, codes.at(at))])?;
        best.see(value, &[codes.at(at)]);
    }
    Some(method)
}

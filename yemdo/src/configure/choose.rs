//! Which setting should I use? Every combination of the fields that decide over a reading, with what it gives.

use std::cmp::Ordering;
use std::fmt;

use crate::formula::typed::Formula;
use crate::ground::number::{Number, Ty};
use crate::model::ids::{CodeId, FieldId, ParameterId, ReadingId};
use crate::model::input::{Input, inputs};
use crate::model::part::Sheet;
use crate::model::reading::Reading;
use crate::model::registers::Field;
use crate::model::state::State;
use crate::model::status::Status;
use crate::model::value::{Eval, Leaves, Present};
use crate::predict;

/// Combinations that are tried, at most.
const MOST: usize = 4096;
/// Codes that are tried for all of them together; of a wider code as many as are left for each, evenly spaced.
const CODES: usize = 1 << 22;
/// But no more for one than all codes of 16 bits.
const MOST_CODES: usize = 1 << 16;

/// What a reading should meet, in its unit; times in milliseconds.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Limits {
    /// Values up to this one.
    pub up_to: Option<f64>,
    /// Values down to this one.
    pub down_to: Option<f64>,
    /// Steps as fine as this.
    pub step: Option<f64>,
    /// Noise as low as this: the column `noise`.
    pub noise: Option<f64>,
    /// A current as low as this: the column `current`.
    pub current: Option<f64>,
    /// A conversion as quick as this: the column `ms`.
    pub within_ms: Option<f64>,
}

/// One combination.
#[derive(Clone, Debug, PartialEq)]
pub struct Choice {
    /// The fields and their codes.
    pub codes: Vec<(FieldId, i128)>,
    /// Lowest and highest value that is neither saturated nor outside the stated range; of a reading that comes from several
    /// codes, as far as trying finds. `None` where no reading was asked for, or it is a real number of the bus.
    pub range: Option<(f64, f64)>,
    /// The largest step from one value to the next: the column `step` where there is one.
    pub step: Option<f64>,
    /// Time in milliseconds: the columns `ms` together.
    pub ms: Option<f64>,
    /// The column `noise`.
    pub noise: Option<f64>,
    /// The column `current`.
    pub current: Option<f64>,
    /// Whether the part is set so now.
    pub in_use: bool,
    /// The limits that it does not meet, in words.
    pub fails: Vec<&'static str>,
}

/// Why there is nothing to choose.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum ChooseError {
    /// There is no reading of that index.
    UnknownReading,
    /// No field with a table of values decides over the reading; of none in particular where none was asked for.
    NothingToChoose {
        /// The reading.
        reading: Option<String>,
    },
    /// There are too many combinations.
    TooMany {
        /// How many.
        count: usize,
    },
}

impl fmt::Display for ChooseError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ChooseError::UnknownReading => f.write_str("there is no such reading"),
            ChooseError::NothingToChoose { reading: Some(reading) } => write!(f, "no field with a table of values decides over {reading}"),
            ChooseError::NothingToChoose { reading: None } => {
                write!(f, "no field has a table of values with one of the columns {}", COLUMNS.join(", "))
            }
            ChooseError::TooMany { count } => write!(f, "{count} combinations are too many; at most {MOST} are tried"),
        }
    }
}

impl std::error::Error for ChooseError {}

/// The names of columns that say something about a choice.
const COLUMNS: [&str; 4] = ["ms", "step", "noise", "current"];

/// All combinations of the fields that decide over a reading, those that meet the limits first, and of them the finest,
/// then the quickest. Without a reading, of all fields whose table says how long something takes, or what it draws.
/// Other fields stay as they are in `state`.
///
/// # Errors
/// [`ChooseError`].
pub fn choose(part: &Sheet, reading: Option<ReadingId>, state: &State, limits: &Limits) -> Result<Vec<Choice>, ChooseError> {
    let model = match reading {
        Some(id) => Some((id, part.readings.get(id).ok_or(ChooseError::UnknownReading)?)),
        None => None,
    };
    // Its own codes, and those of what it uses; a shared scale has none.
    let codes = model.map_or(&[] as &[CodeId], |(_, model)| &model.codes);
    let mut fields = reading.map_or(Vec::new(), |reading| predict::deciding(part, reading));
    fields.extend(telling(part));
    fields.sort_unstable();
    fields.dedup();
    if fields.is_empty() {
        return Err(ChooseError::NothingToChoose { reading: model.map(|(_, model)| model.name.clone()) });
    }
    let rows = |field: FieldId| part.fields.get(field).map_or(&[] as &[_], |field| field.values());
    let count = fields.iter().map(|field| rows(*field).len()).fold(1usize, usize::saturating_mul);
    if count > MOST {
        return Err(ChooseError::TooMany { count });
    }
    let mut trial = match (model, codes) {
        (Some((id, model)), &[code]) if part.codes.get(code).is_some_and(|code| !code.ty.is_real()) => {
            Some(Trial::new(part, (id, model), code))
        }
        _ => None,
    };
    let valid = reading.map_or_else(|| state.clone(), |reading| state.valid_for(part, reading));
    let mut found = Vec::with_capacity(count);
    for index in 0..count {
        let (mut left, mut present, mut chosen) = (index, valid.clone(), Vec::new());
        for field in fields.iter().copied() {
            let Some(row) = rows(field).get(left % rows(field).len()) else { continue };
            left /= rows(field).len();
            part.fields.get(field).into_iter().for_each(|model| present.set_field(model, row.code));
            chosen.push((field, row.code));
        }
        let reached = match (&mut trial, model) {
            (Some(trial), _) => trial.reach(&present, (CODES / count).min(MOST_CODES)),
            (None, Some((id, model))) => predict::reach(part, id, &present, model.range(part, &present)),
            (None, None) => None,
        };
        if reached.is_none() && trial.is_some() {
            continue;
        }
        let (range, step) = (reached.map(|(range, _)| range), reached.and_then(|(_, step)| step));
        let column = |name: &str| {
            let numbers: Vec<f64> = chosen
                .iter()
                .filter_map(|(field, code)| {
                    let field = part.fields.get(*field)?;
                    let at = field.columns.position(|column| column.name == name)?;
                    field.value(*code)?.columns.get(at).copied().flatten()
                })
                .collect();
            (!numbers.is_empty()).then_some(numbers)
        };
        let most = |name: &str| column(name).map(|numbers| numbers.into_iter().fold(f64::NEG_INFINITY, f64::max));
        let mut choice = Choice {
            in_use: present.has_same_settings(&valid),
            codes: chosen.clone(),
            range,
            step: most("step").or(step),
            ms: column("ms").map(|numbers| numbers.into_iter().sum()),
            noise: most("noise"),
            current: column("current").map(|numbers| numbers.into_iter().sum()),
            fails: Vec::new(),
        };
        choice.fails = fails(&choice, limits);
        found.push(choice);
    }
    let number = |a: Option<f64>, b: Option<f64>| a.partial_cmp(&b).unwrap_or(Ordering::Equal);
    found.sort_by(|a, b| {
        let by_wish = a.fails.len().cmp(&b.fails.len());
        by_wish.then(number(a.step, b.step)).then(number(a.noise, b.noise)).then(number(a.ms, b.ms)).then(number(a.current, b.current))
    });
    Ok(found)
}

/// The limits that a choice does not meet. What the sheet does not tell is not met either.
fn fails(choice: &Choice, limits: &Limits) -> Vec<&'static str> {
    let over = |value: Option<f64>, most: Option<f64>| most.is_some_and(|most| value.is_none_or(|value| value > most * (1.0 + 1e-9)));
    let all = [
        (limits.up_to.is_some_and(|top| choice.range.is_none_or(|(_, high)| high < top)), "range too small: maximum"),
        (limits.down_to.is_some_and(|bottom| choice.range.is_none_or(|(low, _)| low > bottom)), "range too small: minimum"),
        (over(choice.step, limits.step), "step too coarse"),
        (over(choice.noise, limits.noise), "too noisy"),
        (over(choice.current, limits.current), "draws too much"),
        (over(choice.ms, limits.within_ms), "too slow"),
    ];
    all.into_iter().filter(|(fails, _)| *fails).map(|(_, wish)| wish).collect()
}

/// Fields with tables that have a column which says something.
fn telling(part: &Sheet) -> impl Iterator<Item = FieldId> + '_ {
    let tells = |field: &Field| field.is_choice() && field.columns.iter().any(|column| COLUMNS.contains(&column.name.as_str()));
    part.fields.entries().filter(move |(_, field)| tells(field)).map(|(id, _)| id)
}

/// A reading that is computed for one code after the other.
struct Trial<'a> {
    part: &'a Sheet,
    reading: &'a Reading,
    code: CodeId,
    formula: Eval,
    /// The range that is stated with the settings that are tried.
    stated: Option<(f64, f64)>,
    /// Conditions that withhold the value, or say that it is saturated.
    ends: Vec<Eval>,
}

impl<'a> Trial<'a> {
    fn new(part: &'a Sheet, (id, reading): (ReadingId, &'a Reading), code: CodeId) -> Self {
        // Status fields are unknown before a measurement.
        let set = |field: FieldId| part.fields.get(field).is_some_and(|field| field.access.is_writable());
        let before = |input: Input| !input.comes_with_frames() && input.field().is_none_or(set);
        let over = |formula: &Formula| inputs(formula).all(|input| input == Input::Code(code) || before(input));
        let conditions = part.conditions(None, id).map(|(_, condition)| condition);
        let ends = conditions.filter(|condition| !condition.status.has_value() || condition.status == Status::Saturated);
        let ends = ends.filter(|condition| over(&condition.formula)).map(|condition| Eval::of_formula(part, &condition.formula)).collect();
        Self { part, reading, code, formula: Eval::of_formula(part, &reading.formula), stated: None, ends }
    }

    /// The range of sound values and the largest step between neighbours.
    fn reach(&mut self, state: &State, most: usize) -> Option<((f64, f64), Option<f64>)> {
        self.stated = self.reading.range(self.part, state);
        let (low, high) = self.part.codes.get(self.code)?.bounds();
        let all = usize::try_from(high - low).unwrap_or(usize::MAX);
        let count = all.min(most);
        let (mut range, mut step): (Option<(f64, f64)>, Option<f64>) = (None, None);
        let mut before = None;
        for index in 0..=count {
            let code = low + (high - low) * index as i128 / count.max(1) as i128;
            let value = self.value(state, code);
            // The code next to it, however far apart the probes are.
            let neighbour = if all == count { before } else { self.value(state, (code - 1).max(low)) };
            before = value;
            let Some(value) = value else { continue };
            range = Some(range.map_or((value, value), |(low, high)| (low.min(value), high.max(value))));
            if let Some(next) = neighbour.map(|next| (next - value).abs()).filter(|step| *step > 0.0) {
                step = Some(step.map_or(next, |step: f64| step.max(next)));
            }
        }
        // The last sound code may lie between two probes.
        let (mut low_value, mut high_value) = range?;
        let (mut sound, mut beyond) = (low, high);
        if all > count && self.value(state, high).is_none() && self.value(state, low).is_some() {
            while beyond - sound > 1 {
                let middle = sound + (beyond - sound) / 2;
                match self.value(state, middle) {
                    Some(value) => {
                        (low_value, high_value) = (low_value.min(value), high_value.max(value));
                        sound = middle;
                    }
                    None => beyond = middle,
                }
            }
        }
        Some(((low_value, high_value), step))
    }

    fn value(&mut self, state: &State, code: i128) -> Option<f64> {
        let present = Present { part: self.part, state };
        let leaves = WithCode { present, code: self.code, value: Number::Int(code, Ty::I64) };
        if self.ends.iter_mut().any(|end| end.value(&leaves).is_ok_and(|truth| truth != 0.0)) {
            return None;
        }
        let value = self.formula.value(&leaves).ok()?;
        self.stated.is_none_or(|(low, high)| value >= low && value <= high).then_some(value)
    }
}

/// The present state, with another value for one code.
struct WithCode<'a> {
    present: Present<'a>,
    code: CodeId,
    value: Number,
}

impl Leaves for WithCode<'_> {
    fn part(&self) -> &Sheet {
        self.present.part
    }

    fn field(&self, field: FieldId) -> Option<i128> {
        // A field that stands in the reading's frame is its code.
        let own = self.part().codes.get(self.code).is_some_and(|code| code.field == Some(field));
        match self.value {
            Number::Int(code, _) if own => Some(code),
            _ => self.present.field(field),
        }
    }

    fn code(&self, code: CodeId) -> Option<Number> {
        (code == self.code).then_some(self.value)
    }

    fn parameter(&self, parameter: ParameterId) -> Option<f64> {
        self.present.parameter(parameter)
    }
}

/// What the last reading was, for [`next_range`].
#[derive(Clone, Copy, Debug, PartialEq)]
#[non_exhaustive]
pub enum LastReading {
    /// It was saturated.
    Saturated,
    /// It had this value.
    Value(f64),
}

/// After a reading: the range to use next, as an index into the full scales. A saturated reading asks for the next
/// larger one; a value asks for the smallest of which it takes no more than four fifths, but a smaller one than now only
/// where it takes less than half of that, so that a value at the edge does not make it go to and fro. A pure function of
/// three arguments, so that firmware has the same.
///
/// ```
/// use yemdo::configure::{LastReading, next_range};
/// let scales = [100.0, 1000.0, 10_000.0];
/// assert_eq!(next_range(&scales, 1, LastReading::Saturated), 2);
/// assert_eq!(next_range(&scales, 1, LastReading::Value(900.0)), 2);
/// assert_eq!(next_range(&scales, 1, LastReading::Value(60.0)), 1);
/// assert_eq!(next_range(&scales, 1, LastReading::Value(20.0)), 0);
/// ```
pub fn next_range(full_scales: &[f64], now: usize, last: LastReading) -> usize {
    let scale = |index: usize| full_scales.get(index).copied().unwrap_or(0.0);
    let by_scale = |a: &usize, b: &usize| scale(*a).total_cmp(&scale(*b));
    let smallest = |fits: &dyn Fn(f64) -> bool| (0..full_scales.len()).filter(|index| fits(scale(*index))).min_by(by_scale);
    let (here, widest) = (scale(now), (0..full_scales.len()).rev().max_by(by_scale));
    match last {
        LastReading::Saturated => smallest(&|scale| scale > here).unwrap_or(now),
        // Four fifths of a range, and two of a smaller one.
        LastReading::Value(value) if 5.0 * value.abs() > 4.0 * here => {
            let room = smallest(&|scale| scale > here && 4.0 * scale > 5.0 * value.abs());
            room.or(widest.filter(|index| scale(*index) > here)).unwrap_or(now)
        }
        LastReading::Value(value) => smallest(&|scale| scale < here && 5.0 * value.abs() < 2.0 * scale).unwrap_or(now),
    }
}

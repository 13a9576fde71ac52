//! Which setting should I use? Every combination of the fields that decide over a reading, with what it gives.

use std::cmp::Ordering;
use std::fmt;

use crate::formula::typed::Formula;
use crate::formula::types::{Number, Ty};
use crate::model::eval::{Eval, Present};
use crate::model::part::{Input, Part, Reading};
use crate::model::registers::{Access, Settings};
use crate::model::status::Status;

/// Combinations that are tried, at most.
const MOST: usize = 4096;
/// Codes that are tried for all of them together; of a wider code as many as are left for each, evenly spaced.
const CODES: usize = 1 << 22;
/// But no more for one than all codes of 16 bits.
const MOST_CODES: usize = 1 << 16;

/// What is wished of a reading, in its unit; times in milliseconds.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Want {
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
    pub codes: Vec<(usize, i128)>,
    /// Lowest and highest value that is neither saturated nor outside the stated range.
    pub range: (f64, f64),
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
    /// The wishes that it does not fulfil, in words.
    pub fails: Vec<&'static str>,
}

/// Why there is nothing to choose.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum ChooseError {
    /// There is no reading of that index.
    UnknownReading,
    /// No field with a table of values decides over the reading.
    NothingToChoose {
        /// The reading.
        reading: String,
    },
    /// The reading comes from several codes: its range is not that of one.
    SeveralCodes {
        /// The reading.
        reading: String,
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
            ChooseError::NothingToChoose { reading } => write!(f, "no field with a table of values decides over {reading}"),
            ChooseError::SeveralCodes { reading } => {
                write!(f, "{reading} comes from several codes, so no field alone decides over its range")
            }
            ChooseError::TooMany { count } => write!(f, "{count} combinations are too many; at most {MOST} are tried"),
        }
    }
}

impl std::error::Error for ChooseError {}

/// The names of columns that say something about a choice.
const COLUMNS: [&str; 4] = ["ms", "step", "noise", "current"];

/// All combinations of the fields that decide over a reading, those that fulfil the wishes first, and of them the finest,
/// then the quickest. `settings` are the present ones; other fields stay as they are there.
///
/// # Errors
/// [`ChooseError`].
pub fn choose(part: &Part, reading: usize, settings: &Settings, parameters: &[f64], want: &Want) -> Result<Vec<Choice>, ChooseError> {
    let model = part.readings.get(reading).ok_or(ChooseError::UnknownReading)?;
    let name = || model.name.clone();
    let only = |input: &Input| matches!(input, Input::Reading(_));
    let codes: Vec<usize> =
        model.formula.inputs.iter().filter_map(|input| if let Input::Code(code) = input { Some(*code) } else { None }).collect();
    let (&[code], false) = (codes.as_slice(), model.formula.inputs.iter().any(only)) else {
        return Err(ChooseError::SeveralCodes { reading: name() });
    };
    let fields = deciding(part, model);
    if fields.is_empty() {
        return Err(ChooseError::NothingToChoose { reading: name() });
    }
    let rows = |field: usize| part.fields.get(field).map_or(&[] as &[_], |field| field.rows());
    let count = fields.iter().map(|field| rows(*field).len()).fold(1usize, usize::saturating_mul);
    if count > MOST {
        return Err(ChooseError::TooMany { count });
    }
    let mut trial = Trial::new(part, model, code, parameters);
    let mut found = Vec::with_capacity(count);
    for index in 0..count {
        let (mut left, mut present, mut chosen) = (index, settings.clone(), Vec::new());
        for field in fields.iter().copied() {
            let Some(row) = rows(field).get(left % rows(field).len()) else { continue };
            left /= rows(field).len();
            part.fields.get(field).into_iter().for_each(|model| present.set_field(model, row.code));
            chosen.push((field, row.code));
        }
        let Some((range, step)) = trial.reach(&present, (CODES / count).min(MOST_CODES)) else { continue };
        let column = |name: &str| {
            let numbers: Vec<f64> = chosen
                .iter()
                .filter_map(|(field, code)| {
                    let field = part.fields.get(*field)?;
                    let at = field.columns.iter().position(|column| column.name == name)?;
                    field.row(*code)?.columns.get(at).copied().flatten()
                })
                .collect();
            (!numbers.is_empty()).then_some(numbers)
        };
        let most = |name: &str| column(name).map(|numbers| numbers.into_iter().fold(f64::NEG_INFINITY, f64::max));
        let mut choice = Choice {
            in_use: present == *settings,
            codes: chosen.clone(),
            range,
            step: most("step").or(step),
            ms: column("ms").map(|numbers| numbers.into_iter().sum()),
            noise: most("noise"),
            current: column("current").map(|numbers| numbers.into_iter().sum()),
            fails: Vec::new(),
        };
        choice.fails = fails(&choice, want);
        found.push(choice);
    }
    let number = |a: Option<f64>, b: Option<f64>| a.partial_cmp(&b).unwrap_or(Ordering::Equal);
    found.sort_by(|a, b| {
        let by_wish = a.fails.len().cmp(&b.fails.len());
        by_wish.then(number(a.step, b.step)).then(number(a.noise, b.noise)).then(number(a.ms, b.ms)).then(number(a.current, b.current))
    });
    Ok(found)
}

/// The wishes that a choice does not fulfil. What the sheet does not tell is not fulfilled either.
fn fails(choice: &Choice, want: &Want) -> Vec<&'static str> {
    let over = |value: Option<f64>, most: Option<f64>| most.is_some_and(|most| value.is_none_or(|value| value > most * (1.0 + 1e-9)));
    let all = [
        (want.up_to.is_some_and(|top| choice.range.1 < top), "does not go up so far"),
        (want.down_to.is_some_and(|bottom| choice.range.0 > bottom), "does not go down so far"),
        (over(choice.step, want.step), "step too coarse"),
        (over(choice.noise, want.noise), "too noisy"),
        (over(choice.current, want.current), "draws too much"),
        (over(choice.ms, want.within_ms), "too slow"),
    ];
    all.into_iter().filter(|(fails, _)| *fails).map(|(_, wish)| wish).collect()
}

/// Writable fields with tables that the reading takes something from, or that have a column which says something.
fn deciding(part: &Part, reading: &Reading) -> Vec<usize> {
    let formulas = std::iter::once(&reading.formula).chain(reading.status.iter().map(|condition| &condition.formula));
    let mut used: Vec<usize> = formulas
        .flat_map(|formula| &formula.inputs)
        .filter_map(|input| if let Input::Field(field) | Input::Column(field, _) = input { Some(*field) } else { None })
        .collect();
    let tells = |index: &usize| {
        part.fields.get(*index).is_some_and(|field| field.columns.iter().any(|column| COLUMNS.contains(&column.name.as_str())))
    };
    used.extend((0..part.fields.len()).filter(tells));
    used.sort_unstable();
    used.dedup();
    used.retain(|index| part.fields.get(*index).is_some_and(|field| field.rows.len() > 1 && field.access == Access::ReadWrite));
    used
}

/// A reading that is computed for one code after the other.
struct Trial<'a> {
    part: &'a Part,
    reading: &'a Reading,
    code: usize,
    parameters: &'a [f64],
    formula: Eval,
    /// Conditions that withhold the value, or say that it is saturated.
    ends: Vec<Eval>,
}

impl<'a> Trial<'a> {
    fn new(part: &'a Part, reading: &'a Reading, code: usize, parameters: &'a [f64]) -> Self {
        let over = |formula: &Formula| {
            formula.inputs.iter().all(|input| match input {
                Input::Code(used) => *used == code,
                Input::Field(_) | Input::Column(..) | Input::Parameter(_) => true,
                Input::Reading(_) | Input::Quantity(_) => false,
            })
        };
        let ends = reading.status.iter().filter(|condition| !condition.status.has_value() || condition.status == Status::Saturated);
        let ends = ends.filter(|condition| over(&condition.formula)).map(|condition| Eval::new(&condition.formula)).collect();
        Self { part, reading, code, parameters, formula: Eval::new(&reading.formula), ends }
    }

    /// The range of sound values and the largest step between neighbours.
    fn reach(&mut self, settings: &Settings, most: usize) -> Option<((f64, f64), Option<f64>)> {
        let (low, high) = self.part.codes.get(self.code)?.bounds();
        let all = usize::try_from(high - low).unwrap_or(usize::MAX);
        let count = all.min(most);
        let (mut range, mut step): (Option<(f64, f64)>, Option<f64>) = (None, None);
        let mut before = None;
        for index in 0..=count {
            let code = low + (high - low) * index as i128 / count.max(1) as i128;
            let value = self.value(settings, code);
            // The code next to it, however far apart the probes are.
            let neighbour = if all == count { before } else { self.value(settings, (code - 1).max(low)) };
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
        if all > count && self.value(settings, high).is_none() && self.value(settings, low).is_some() {
            while beyond - sound > 1 {
                let middle = sound + (beyond - sound) / 2;
                match self.value(settings, middle) {
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

    fn value(&mut self, settings: &Settings, code: i128) -> Option<f64> {
        let present = Present { part: self.part, settings, parameters: self.parameters, last: &[] };
        let wanted = self.code;
        let input = |input: Input| if input == Input::Code(wanted) { Some(Number::Int(code, Ty::I64)) } else { present.input(input) };
        if self.ends.iter_mut().any(|end| end.value(input).is_ok_and(|truth| truth != 0.0)) {
            return None;
        }
        let value = self.formula.value(input).ok()?;
        self.reading.range.is_none_or(|(low, high)| value >= low && value <= high).then_some(value)
    }
}

/// What a reading said, for [`next_range`].
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Said {
    /// It was saturated.
    Saturated,
    /// It had this value.
    Value(f64),
}

/// Of this share of a range the next reading may be used without fear that it saturates.
const ROOM: f64 = 0.8;

/// After a reading: the range to use next, as an index into the full scales. A saturated reading asks for the next
/// larger one; a value asks for the smallest of which it takes no more than four fifths, but a smaller one than now only
/// where it takes less than half of that, so that a value at the edge does not make it go to and fro. A pure function of
/// three arguments, so that firmware has the same.
///
/// ```
/// use yemdo::configure::choose::{Said, next_range};
/// let scales = [100.0, 1000.0, 10_000.0];
/// assert_eq!(next_range(&scales, 1, Said::Saturated), 2);
/// assert_eq!(next_range(&scales, 1, Said::Value(900.0)), 2);
/// assert_eq!(next_range(&scales, 1, Said::Value(60.0)), 1);
/// assert_eq!(next_range(&scales, 1, Said::Value(20.0)), 0);
/// ```
pub fn next_range(full_scales: &[f64], now: usize, said: Said) -> usize {
    let scale = |index: usize| full_scales.get(index).copied().unwrap_or(0.0);
    let by_scale = |a: &usize, b: &usize| scale(*a).total_cmp(&scale(*b));
    let larger = |least: f64| (0..full_scales.len()).filter(|index| scale(*index) > least).min_by(by_scale);
    match said {
        Said::Saturated => larger(scale(now)).unwrap_or(now),
        Said::Value(value) if value.abs() > ROOM * scale(now) => {
            let widest = larger(value.abs() / ROOM).or((0..full_scales.len()).max_by(by_scale)).unwrap_or(now);
            if scale(widest) > scale(now) { widest } else { now }
        }
        Said::Value(value) => {
            let fits = (0..full_scales.len()).filter(|index| scale(*index) < scale(now) && value.abs() < ROOM / 2.0 * scale(*index));
            fits.min_by(by_scale).unwrap_or(now)
        }
    }
}

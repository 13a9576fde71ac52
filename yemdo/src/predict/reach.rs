//! What a reading can reach with one setting, and over all settings.

use super::trial::Trial;
use super::{has_float, sampled_step, try_many};
use crate::formula::run::columns::{FaultAt, LANES};
use crate::model::frame::Code;
use crate::model::ids::{CodeId, FieldId, ReadingId};
use crate::model::input::{Input, inputs};
use crate::model::part::Sheet;
use crate::model::registers::{Field, Settings};

/// Writable fields with tables of values, and settings that no register holds, from which a reading takes something beside its
/// frames: in its formulas, those of what it uses, its conditions and its range.
pub(crate) fn deciding(part: &Sheet, id: ReadingId) -> Vec<FieldId> {
    let Some(reading) = part.readings.get(id) else { return Vec::new() };
    let needed = part.needed(id);
    let formulas = part.readings.of(&needed).map(|reading| &reading.formula).chain(reading.formulas());
    let in_frame = |field: FieldId| part.codes.of(&reading.codes).any(|code| code.field == Some(field));
    let mut used: Vec<FieldId> = part.inputs_behind(formulas.flat_map(inputs)).into_iter().filter_map(Input::field).collect();
    used.sort_unstable();
    used.dedup();
    used.retain(|field| !in_frame(*field) && part.fields.get(*field).is_some_and(Field::is_choice));
    used
}

/// Combinations of settings that are looked at.
const MOST_SETTINGS: usize = 256;

/// Lowest and highest value over all settings of these fields, as far as trying finds; the others are as after a reset.
pub(super) fn over_settings(trial: &mut Trial<'_>, fields: &[FieldId]) -> Option<(f64, f64)> {
    let part = trial.part;
    let fields: Vec<&Field> = part.fields.of(fields).collect();
    let count = fields.iter().map(|field| field.values.len()).fold(1usize, usize::saturating_mul);
    if !(2..=MOST_SETTINGS).contains(&count) {
        return None;
    }
    let before = trial.settings.clone();
    let mut range: Option<(f64, f64)> = None;
    for index in 0..count {
        let mut left = index;
        for field in &fields {
            let row = field.values.get(left % field.values.len().max(1));
            left /= field.values.len().max(1);
            row.into_iter().for_each(|row| trial.settings.set_field(field, row.code));
        }
        range = wider(range, reach_of(trial, None));
    }
    trial.settings = before;
    range
}

fn wider(one: Option<(f64, f64)>, other: Option<(f64, f64)>) -> Option<(f64, f64)> {
    match (one, other) {
        (Some((low, high)), Some((lower, higher))) => Some((low.min(lower), high.max(higher))),
        (one, other) => one.or(other),
    }
}

/// Lowest and highest value of a reading that comes from several codes, as far as trying finds, and its largest step, with
/// these settings, within what is stated.
pub(crate) fn reach(part: &Sheet, id: ReadingId, settings: &Settings, stated: Option<(f64, f64)>) -> Option<((f64, f64), Option<f64>)> {
    let mut trial = Trial::new(part, id, settings)?;
    if has_float(part, trial.reading) {
        return None;
    }
    let range = reach_of(&mut trial, stated)?;
    Some((range, sampled_step(&mut trial, 64).map(|(_, coarsest)| coarsest)))
}

/// Combinations of codes that are tried one by one.
const MOST_COMBINED: i128 = 1 << 13;

/// Tries all combinations of a reading's codes; `false` where they are too many.
fn try_all(trial: &mut Trial<'_>, see: &mut dyn FnMut(Result<f64, FaultAt>)) -> bool {
    let bounds = |code: &CodeId| Some((*code, trial.part.codes.get(*code)?.bounds()));
    let codes: Vec<(CodeId, (i128, i128))> = trial.reading.codes.iter().filter_map(bounds).collect();
    let count = codes.iter().map(|(_, (low, high))| high - low + 1).fold(1i128, i128::saturating_mul);
    if !(1..=MOST_COMBINED).contains(&count) {
        return false;
    }
    let mut from = 0;
    while from < count {
        let lanes = usize::try_from((count - from).min(LANES as i128)).unwrap_or(LANES);
        // The number of a combination has the codes as its digits.
        let digit = |wanted: CodeId, lane: usize| {
            let mut left = from + lane as i128;
            for (code, (low, high)) in &codes {
                let base = high - low + 1;
                if *code == wanted {
                    return low + left % base;
                }
                left /= base;
            }
            0
        };
        trial.run(lanes, digit, |_, result| see(result));
        from += lanes as i128;
    }
    true
}

fn reach_of(trial: &mut Trial<'_>, stated: Option<(f64, f64)>) -> Option<(f64, f64)> {
    let mut range: Option<(f64, f64)> = None;
    let within = |value: &f64| value.is_finite() && stated.is_none_or(|(low, high)| (low..=high).contains(value));
    let mut see = |result: Result<f64, FaultAt>| {
        if let Some(value) = result.ok().filter(within) {
            range = wider(range, Some((value, value)));
        }
    };
    if let [only] = trial.reading.codes.as_slice()
        && let Some((low, high)) = trial.code(*only).map(Code::bounds)
    {
        let last = LANES as i128 - 1;
        trial.run(LANES, |_, lane| low + (high - low) * lane as i128 / last, |_, result| see(result));
    } else if !try_all(trial, &mut see) {
        try_many(trial, 2, &mut |_, _, result| see(result));
    }
    range
}

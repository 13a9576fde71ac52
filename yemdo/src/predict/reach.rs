//! What a reading can reach with one setting, and over all settings.

use super::trial::{Lane, Trial};
use super::{has_float, sampled_step, try_many};
use crate::formula::run::columns::{FaultAt, LANES};
use crate::model::frame::Code;
use crate::model::ids::{CodeId, FieldId, ReadingId};
use crate::model::input::{Input, inputs};
use crate::model::part::Sheet;
use crate::model::registers::Field;
use crate::model::state::State;
use crate::model::status::Status;
use crate::model::value::Eval;

/// Writable fields with tables of values, and settings that no register holds, from which a reading takes something beside its
/// frames: in its formulas, those of what it uses, its conditions and its range. Fields that it needs to be valid are not among them.
pub(crate) fn deciding(part: &Sheet, id: ReadingId) -> Vec<FieldId> {
    let Some(reading) = part.readings.get(id) else { return Vec::new() };
    let needed = part.needed(id);
    let formulas = part.readings.of(&needed).map(|reading| &reading.formula).chain(reading.formulas());
    let in_frame = |field: FieldId| part.codes.of(&reading.codes).any(|code| code.field == Some(field));
    let mut used: Vec<FieldId> = part.inputs_behind(formulas.flat_map(inputs)).into_iter().filter_map(Input::field).collect();
    used.sort_unstable();
    used.dedup();
    let needed = |field: FieldId| part.needs(id).any(|(needed, _)| needed == field);
    used.retain(|field| !in_frame(*field) && !needed(*field) && part.fields.get(*field).is_some_and(Field::is_choice));
    used
}

/// Combinations of settings that are looked at.
const MOST_SETTINGS: usize = 256;

/// Lowest and highest value over all settings of these fields, as far as trying finds; the others are as after a reset.
pub(super) fn over_settings(trial: &mut Trial<'_>, fields: &[FieldId]) -> Option<(f64, f64)> {
    let mut range: Option<(f64, f64)> = None;
    let several = |count| count > 1;
    each_setting(trial, fields, &several, &mut |trial, _| range = wider(range, reach_of(trial, None))).then_some(range)?
}

/// What is done with a combination of settings: fields and their codes.
pub(super) type EachSetting<'e> = dyn FnMut(&mut Trial<'_>, &[(FieldId, i128)]) + 'e;

/// Tries something with every combination of settings that is in the tables of these fields, if there are not too many and `wanted` says so
/// of their number. Gives whether it did.
pub(super) fn each_setting(trial: &mut Trial<'_>, fields: &[FieldId], wanted: &dyn Fn(usize) -> bool, each: &mut EachSetting<'_>) -> bool {
    let part = trial.part;
    let rows = |id: &FieldId| part.fields[*id].values.as_slice();
    let count = fields.iter().map(|id| rows(id).len()).fold(1usize, usize::saturating_mul);
    if !(1..=MOST_SETTINGS).contains(&count) || !wanted(count) {
        return false;
    }
    let before = trial.settings.clone();
    for index in 0..count {
        let (mut left, mut codes) = (index, Vec::new());
        for id in fields {
            let row = rows(id).get(left % rows(id).len().max(1));
            left /= rows(id).len().max(1);
            for (field, row) in part.fields.get(*id).into_iter().zip(row) {
                trial.settings.set_field(field, row.code);
                codes.push((*id, row.code));
            }
        }
        each(trial, &codes);
    }
    trial.settings = before;
    true
}

/// What a reading makes of the codes of one field, with one setting.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Curve {
    /// The settings, in words; empty where none decides.
    pub label: String,
    /// The name of the code.
    pub code: String,
    /// Codes spread over their range, rising.
    pub points: Vec<CurvePoint>,
}

impl Curve {
    /// The lines of it, as codes and values: runs of points that have a value and are not at the part's end.
    pub fn lines(&self) -> Vec<Vec<(f64, f64)>> {
        let mut lines: Vec<Vec<(f64, f64)>> = vec![Vec::new()];
        for point in &self.points {
            match (point.value.filter(|_| !point.saturated), lines.last_mut()) {
                (Some(value), Some(line)) => line.push((point.code as f64, value)),
                _ => lines.push(Vec::new()),
            }
        }
        lines.retain(|line| !line.is_empty());
        lines
    }

    /// Where saturation begins, as codes and values: the last points before it.
    pub fn ends(&self) -> Vec<(f64, f64)> {
        let pairs = self.points.windows(2).filter_map(|pair| match pair {
            [one, next] if one.saturated != next.saturated => Some(if one.saturated { next } else { one }),
            _ => None,
        });
        pairs.filter_map(|point| Some((point.code as f64, point.value?))).collect()
    }
}

/// A code on a curve.
#[derive(Clone, Copy, Debug, PartialEq)]
#[non_exhaustive]
pub struct CurvePoint {
    /// The code.
    pub code: i128,
    /// The value in the reading's unit, where it has one.
    pub value: Option<f64>,
    /// The sheet says that the part is at its end there.
    pub saturated: bool,
}

/// The transfer curves of a reading that comes from one code, one for each setting that decides over it; `None` where it comes from several
/// codes, or from a real number.
///
/// ```
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
/// reading.light = { unit = "lx", formula = "light * 0.5" }
/// "#)?;
/// let curves = yemdo::review::curves(&part, part.reading("light")?).unwrap();
/// let last = curves[0].points.last().unwrap();
/// assert_eq!((last.code, last.value), (65535, Some(32767.5)));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn curves(part: &Sheet, id: ReadingId) -> Option<Vec<Curve>> {
    let mut trial = Trial::new(part, id, &State::while_read(part))?;
    let [only] = trial.reading.codes.as_slice() else { return None };
    let code = trial.code(*only).filter(|_| !has_float(part, trial.reading))?;
    let ((low, high), name) = (code.bounds(), code.name.clone());
    let places = (high - low).clamp(1, 255);
    let ends = part.conditions(None, id).filter(|(_, condition)| condition.status == Status::Saturated);
    let mut ends: Vec<Eval> = ends.map(|(_, condition)| Eval::of_formula(part, &condition.formula)).collect();
    let mut curves = Vec::new();
    each_setting(&mut trial, &deciding(part, id), &|_| true, &mut |trial, set| {
        let at = |place: i128| low + (high - low) * place / places;
        let at_end = |code: i128, settings: &State, ends: &mut [Eval]| {
            let value = |_| code;
            let lane = Lane { part, settings, own: &[*only], value: &value };
            ends.iter_mut().any(|end| end.value(&lane).is_ok_and(|truth| truth != 0.0))
        };
        let mut points: Vec<CurvePoint> = (0..=places)
            .map(|place| CurvePoint { code: at(place), value: None, saturated: at_end(at(place), &trial.settings, &mut ends) })
            .collect();
        trial.run(
            points.len(),
            |_, lane| at(lane as i128),
            |lane, result| {
                let value = result.ok().filter(|value| value.is_finite());
                points.get_mut(lane).into_iter().for_each(|point| point.value = value);
            },
        );
        let label: Vec<String> = set.iter().filter_map(|(field, code)| Some(part.fields.get(*field)?.value_text(*code))).collect();
        curves.push(Curve { label: label.join(", "), code: name.clone(), points });
    });
    Some(curves)
}

fn wider(one: Option<(f64, f64)>, other: Option<(f64, f64)>) -> Option<(f64, f64)> {
    match (one, other) {
        (Some((low, high)), Some((lower, higher))) => Some((low.min(lower), high.max(higher))),
        (one, other) => one.or(other),
    }
}

/// Lowest and highest value of a reading that comes from several codes, as far as trying finds, and its largest step, with
/// these settings, within what is stated.
pub(crate) fn reach(part: &Sheet, id: ReadingId, settings: &State, stated: Option<(f64, f64)>) -> Option<((f64, f64), Option<f64>)> {
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

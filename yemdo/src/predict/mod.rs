//! Possible values of a reading: its extent and its step, without a part.

mod reach;
mod trial;

use std::collections::BTreeMap;

use reach::over_settings;
pub use reach::{Curve, CurvePoint, curves};
pub(crate) use reach::{deciding, reach};

use crate::bits::form::Form;
use crate::formula::facts::Facts;
use crate::formula::fault::FaultKind;
use crate::formula::flat::interval::Interval;
use crate::formula::input::InputKey;
use crate::formula::run::columns::{FaultAt, LANES};
use crate::formula::typed::Formula;
use crate::ground::digits::Digits;
use crate::ground::list::List;
use crate::ground::text::Span;
use crate::ground::words::counted;
use crate::model::frame::Code;
use crate::model::ids::{CodeId, FieldId, ReadingId};
use crate::model::input::{Input, inputs};
use crate::model::part::Sheet;
use crate::model::reading::Reading;
use crate::model::state::State;
use crate::plan::frame::bounds;
use trial::{Trial, Work};

/// Maximum width of codes that are tried one by one, in bits.
const EXHAUSTIVE_BITS: u32 = 18;

/// And only where trying all readings so would take no more operations than this.
const EXHAUSTIVE_WORK: usize = 1 << 28;

/// Possible values of one reading.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Prediction {
    /// Lowest and highest value, in the reading's unit. `None` if it never has a value.
    pub extent: Option<Extent>,
    /// The settings that this holds for: the fields that decide over the reading, with their codes after a reset.
    pub settings: Vec<(FieldId, i128)>,
    /// Lowest and highest value over all values of those fields, as far as trying finds; `None` where there is no such field,
    /// or too many.
    pub over_settings: Option<(f64, f64)>,
    /// Smallest and largest difference that one step of the code makes (of one of the codes, where there are
    /// several, the others at the middle of their range). `None` where the value never changes.
    pub step: Option<(f64, f64)>,
    /// The digits of it that are worth showing, with the settings after a reset.
    pub digits: Digits,
    /// Whether its arithmetic can run into a fault.
    pub proof: Proof,
    /// Faults that some codes lead to, each with the codes; found by trying, so they do occur.
    pub faults: Vec<FaultExample>,
    /// The operations that are not proved, by their places in the sheet.
    pub doubts: Vec<Span>,
    /// Codes and fields whose bits may be invalid (a decimal digit above 9, a code outside its stated range, one
    /// that is not in its table): the reading is at fault then, whatever its arithmetic.
    pub may_lack: Vec<String>,
}

impl Prediction {
    /// Whether its operations can fault, in words: `proved`, `every code tried, if GAIN is valid`, `can fail`.
    pub fn arithmetic(&self) -> String {
        if !self.faults.is_empty() {
            return "can fail".into();
        }
        let text = match self.proof {
            Proof::Proved => "proved".to_owned(),
            Proof::Tried => "every code tried".to_owned(),
            Proof::Doubted(doubts, tried) => format!("{} not proved, {tried} inputs tried", counted(doubts, "operation")),
        };
        // Invalid bits are reported for the code, not for the arithmetic.
        match self.may_lack.as_slice() {
            [] => text,
            [one] => format!("{text}, if {one} is valid"),
            [one, two] => format!("{text}, if {one} and {two} are valid"),
            more => format!("{text}, if its {} codes are valid", more.len()),
        }
    }
}

/// How sure it is that no operation of a formula can fault.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Proof {
    /// No operation can, for whatever codes, parameters and settings, and the result is a number always.
    Proved,
    /// Every code was tried, with all that the settings which decide over the reading can be.
    Tried,
    /// Number of operations in doubt, and number of inputs tried.
    Doubted(usize, usize),
}

/// Codes that lead to a fault.
#[derive(Clone, Debug, PartialEq)]
pub struct FaultExample {
    /// What goes wrong.
    pub kind: FaultKind,
    /// The operation that fails; `None` where it is the result that is no number.
    pub span: Option<Span>,
    /// The codes, by name.
    pub codes: Vec<(String, i128)>,
}

/// Lowest and highest value.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Extent {
    /// Lowest value.
    pub low: f64,
    /// Highest value.
    pub high: f64,
    /// Both values do come out; otherwise they are bounds that cannot be left.
    pub exact: bool,
}

/// The digits of a reading that are worth showing, with these settings, in the unit that `shown` converts it to.
pub(crate) fn digits(part: &Sheet, id: ReadingId, settings: &State, shown: &dyn Fn(f64) -> f64) -> Digits {
    let stated = part.readings.get(id).and_then(stated_digits);
    stated.or_else(|| Some(digits_of(&mut Trial::new(part, id, settings)?, shown))).unwrap_or(Digits::UNKNOWN)
}

/// Those that the sheet states.
fn stated_digits(reading: &Reading) -> Option<Digits> {
    // Derived quantities have no steps of their own.
    reading.decimals.map(Digits::Decimals).or(reading.is_derived().then_some(Digits::UNKNOWN))
}

fn digits_of(trial: &mut Trial<'_>, shown: &dyn Fn(f64) -> f64) -> Digits {
    if has_float(trial.part, trial.reading) {
        return Digits::UNKNOWN;
    }
    let (mut values, mut steps) = (Vec::new(), None);
    for code in moving_codes(trial) {
        let pairs = pairs_of(trial, code, 64);
        let pairs = pairs.iter().map(|pair| pair.map(shown));
        pairs.clone().for_each(|[one, next]| widen(&mut steps, (next - one).abs()));
        values.extend(pairs.flatten());
    }
    if values.is_empty() {
        // It follows from settings and parameters alone.
        trial.run(1, |_, _| 0, |_, result| values.extend(result.map(shown)));
    }
    Digits::of(values.into_iter().filter(|value| value.is_finite()), steps)
}

/// Possible values of a reading. Narrow codes are tried one by one; otherwise bounds come from interval analysis.
pub(crate) fn predict(part: &Sheet, id: ReadingId) -> Option<Prediction> {
    let judging = part.needed(id).into_iter().chain(judging(part, id).flat_map(|formula| part.needed_by(formula))).collect::<Vec<_>>();
    let proofs = Proofs::of(part, part.order.iter().copied().filter(|id| judging.contains(id)).collect());
    with_conditions(part, id, &proofs, one(part, id, &proofs, &mut Vec::new())?)
}

/// Possible values of every reading and shared value.
pub(crate) fn predict_all(part: &Sheet) -> List<ReadingId, Option<Prediction>> {
    let proofs = Proofs::of(part, part.order.clone());
    let mut known = Vec::new();
    List::filled(part.readings.len(), |id| with_conditions(part, id, &proofs, one(part, id, &proofs, &mut known)?))
}

/// Results of interval analysis for all readings together.
struct Proofs {
    of: List<ReadingId, Option<Proven>>,
    /// Status conditions, by their places in the sheet.
    conditions: BTreeMap<usize, Proven>,
}

/// Of one formula, those that it uses not counted.
struct Proven {
    /// Operations that may fault, by their places.
    doubts: Vec<Span>,
    /// The value may be infinite, or no number.
    may_be_none: bool,
    bounds: Interval,
}

impl Proofs {
    /// Those of some readings, in an order in which each comes after those it uses.
    fn of(part: &Sheet, order: Vec<ReadingId>) -> Self {
        let mut formulas: Vec<(InputKey, &Formula)> =
            order.iter().filter_map(|id| Some((Input::Reading(*id).key(), &part.readings.get(*id)?.formula))).collect();
        let readings = formulas.len();
        for formula in order.iter().flat_map(|id| judging(part, *id)) {
            if formulas.iter().skip(readings).all(|(_, known)| known.span != formula.span) {
                formulas.push((InputKey(u64::MAX), formula));
            }
        }
        let facts = Facts::of_all(&formulas, &part.curves, &|key| bounds(part, key));
        let mut proven = formulas.iter().zip(facts).map(|((_, formula), facts)| Proven {
            doubts: facts.doubts(formula).into_iter().map(|expr| expr.span).collect(),
            may_be_none: facts.may_be_none,
            bounds: facts.result,
        });
        let mut of = List::filled(part.readings.len(), |_| None);
        for (id, proven) in order.iter().zip(proven.by_ref()) {
            if let Some(place) = of.get_mut(*id) {
                *place = Some(proven);
            }
        }
        let conditions = formulas.iter().skip(readings).map(|(_, formula)| formula.span.start).zip(proven).collect();
        Self { of, conditions }
    }

    fn get(&self, id: ReadingId) -> Option<&Proven> {
        self.of.get(id)?.as_ref()
    }
}

/// Formulas of a reading's status conditions.
fn judging(part: &Sheet, id: ReadingId) -> impl Iterator<Item = &Formula> {
    part.conditions(None, id).map(|(_, condition)| &condition.formula)
}

/// A prediction that includes faults of status conditions, which are faults of the reading.
fn with_conditions(part: &Sheet, id: ReadingId, proofs: &Proofs, mut found: Prediction) -> Option<Prediction> {
    let own = part.needed(id);
    let mut doubts: Vec<Span> = Vec::new();
    for formula in judging(part, id) {
        let used = part.needed_by(formula);
        let proven = || used.iter().filter(|used| !own.contains(used)).filter_map(|used| proofs.get(*used));
        let condition = proofs.conditions.get(&formula.span.start)?;
        doubts.extend(proven().chain([condition]).flat_map(|proven| &proven.doubts));
        doubts.extend(proven().chain([condition]).filter(|proven| proven.may_be_none).map(|_| formula.span));
        let names = lacking(part, part.readings.of(&used).map(|reading| &reading.formula).chain([formula]));
        found.may_lack.extend(names.into_iter().filter(|name| !found.may_lack.contains(name)).collect::<Vec<_>>());
    }
    doubts.retain(|doubt| !found.doubts.contains(doubt));
    if !doubts.is_empty() {
        found.proof = match found.proof {
            Proof::Proved | Proof::Tried => Proof::Doubted(doubts.len(), 0),
            Proof::Doubted(count, tried) => Proof::Doubted(count + doubts.len(), tried),
        };
        found.doubts.extend(doubts);
    }
    Some(found)
}

fn one(part: &Sheet, id: ReadingId, proofs: &Proofs, known: &mut Vec<(Work, Exhausted)>) -> Option<Prediction> {
    let (reading, needed) = (part.readings.get(id)?, part.needed(id));
    let own = proofs.get(id)?;
    let proven = || needed.iter().filter_map(|needed| proofs.get(*needed));
    let doubts: Vec<Span> = proven().flat_map(|proven| proven.doubts.iter().copied()).collect();
    let float = has_float(part, reading);
    // A real number on the bus may be NaN: reported for the code, not for the arithmetic.
    let may_be_none = if float { 0 } else { proven().filter(|proven| proven.may_be_none).count() };
    let count = doubts.len() + may_be_none;
    let (low, high) = own.bounds.to_f64();
    let bounded = Prediction {
        extent: Some(Extent { low, high, exact: false }),
        settings: Vec::new(),
        over_settings: None,
        step: None,
        digits: stated_digits(reading).unwrap_or(Digits::UNKNOWN),
        proof: if count == 0 { Proof::Proved } else { Proof::Doubted(count, 0) },
        faults: Vec::new(),
        doubts,
        may_lack: lacking(part, part.readings.of(&needed).map(|reading| &reading.formula)),
    };
    let mut trial = Trial::new(part, id, &State::while_read(part));
    let Some(trial) = trial.as_mut() else { return Some(bounded) };
    let deciding = if float { Vec::new() } else { deciding(part, id) };
    let bounded = Prediction {
        settings: deciding.iter().filter_map(|id| Some((*id, trial.settings.field(part.fields.get(*id)?)))).collect(),
        over_settings: over_settings(trial, &deciding),
        ..bounded
    };
    let digits = stated_digits(reading).unwrap_or_else(|| digits_of(trial, &|value| value));
    if let [only] = reading.codes.as_slice()
        && let Some(code) = trial.code(*only)
        && code.layout.width() <= EXHAUSTIVE_BITS
        && (trial.program.ops.len() << code.layout.width()) * part.readings.len() <= EXHAUSTIVE_WORK
        && !float
    {
        let work = trial.work(*only);
        let found = match known.iter().find(|(known, _)| Some(known) == work.as_ref()) {
            Some((_, found)) => found.clone(),
            None => {
                let found = exhaustive(trial, *only, code.bounds());
                // A fault names its code and its place.
                known.extend(work.filter(|_| found.faults.is_empty()).map(|work| (work, found.clone())));
                found
            }
        };
        let (extent, step, mut faults) = (found.extent, found.step, found.faults);
        let mut proof = if count == 0 && faults.is_empty() { Proof::Proved } else { Proof::Tried };
        if count > 0 && !deciding.is_empty() && faults.is_empty() {
            // Other values of settings that operations in doubt use are tried, too.
            let work = (trial.program.ops.len() << code.layout.width()) * part.readings.len();
            (faults, proof) = with_other_settings(trial, &deciding, *only, code.bounds(), (work, count));
        }
        return Some(Prediction { extent, step, faults, proof, digits, ..bounded });
    }
    let step = if float { None } else { sampled_step(trial, 256) };
    let found = Prediction { step, digits, ..bounded };
    if count == 0 {
        return Some(found);
    }
    let (faults, tried) = search(trial);
    Some(Prediction { proof: Proof::Doubted(count, tried), faults, ..found })
}

/// Tries the codes of a reading with all that its settings can be: every code where that is not too much `work`, else some.
fn with_other_settings(
    trial: &mut Trial<'_>,
    deciding: &[FieldId],
    code: CodeId,
    bounds: (i128, i128),
    (work, doubts): (usize, usize),
) -> (Vec<FaultExample>, Proof) {
    let (mut faults, mut tried) = (Vec::<FaultExample>::new(), 0);
    let all = reach::each_setting(trial, deciding, &|count| work.saturating_mul(count) <= EXHAUSTIVE_WORK, &mut |trial, set| {
        let found = exhaustive(trial, code, bounds).faults;
        add_faults(&mut faults, found, trial.part, set);
    });
    if all {
        return (faults, Proof::Tried);
    }
    reach::each_setting(trial, deciding, &|_| true, &mut |trial, set| {
        let (found, more) = search_in(trial, 1);
        tried += more;
        add_faults(&mut faults, found, trial.part, set);
    });
    (faults, Proof::Doubted(doubts, tried))
}

/// Adds faults that are not known yet, with the settings that lead to them.
fn add_faults(known: &mut Vec<FaultExample>, found: Vec<FaultExample>, part: &Sheet, set: &[(FieldId, i128)]) {
    for mut fault in found {
        if known.iter().any(|known| known.span == fault.span && known.kind == fault.kind) {
            continue;
        }
        let named = |(id, code): &(FieldId, i128)| Some((part.fields.get(*id)?.name.clone(), *code));
        fault.codes.extend(set.iter().filter_map(named));
        known.push(fault);
    }
}

/// Whether a reading is a real number of the bus, or made of one: there is nothing to be tried then.
fn has_float(part: &Sheet, reading: &Reading) -> bool {
    part.codes.of(&reading.codes).any(|code| matches!(code.layout.form, Form::Float | Form::Text))
}

/// Codes and fields of formulas with bits that may be invalid.
fn lacking<'f>(part: &Sheet, formulas: impl Iterator<Item = &'f Formula>) -> Vec<String> {
    let mut names = Vec::new();
    for input in formulas.flat_map(inputs) {
        let name = match input {
            Input::Code(code) => part
                .codes
                .get(code)
                .filter(|code| code.range.is_some() || matches!(code.layout.form, Form::Bcd | Form::Float))
                .map(|code| &code.name),
            Input::Field(field) => part.fields.get(field).filter(|field| field.layout.form == Form::Bcd).map(|field| &field.name),
            Input::Column(field, column) => part
                .fields
                .get(field)
                .filter(|field| {
                    let rows = field.values.iter().filter(|row| row.columns.get(column).is_some_and(Option::is_some)).count();
                    let (low, high) = field.bounds();
                    (rows as i128) < high - low + 1
                })
                .map(|field| &field.name),
            // Computed and supplied values are valid, or their own inputs are reported.
            _ => None,
        };
        names.extend(name.filter(|name| !names.contains(*name)).cloned());
    }
    names
}

/// Batches of inputs that are tried where something is in doubt.
const SEARCHES: usize = 40;

/// Looks for codes that lead to a fault: the ends of their ranges, zeros, and many others.
fn search(trial: &mut Trial<'_>) -> (Vec<FaultExample>, usize) {
    search_in(trial, SEARCHES)
}

fn search_in(trial: &mut Trial<'_>, batches: usize) -> (Vec<FaultExample>, usize) {
    let mut found: Vec<FaultExample> = Vec::new();
    try_many(trial, batches, &mut |part, codes, result| {
        if let Err((kind, span)) = result
            && found.len() < 8
            && !found.iter().any(|known| known.span == span && known.kind == kind)
        {
            let name = |code: CodeId| part.codes[code].name.clone();
            found.push(FaultExample { kind, span, codes: codes.iter().map(|(code, value)| (name(*code), *value)).collect() });
        }
    });
    (found, batches * LANES)
}

/// Use of tried codes and their results.
type Each<'e> = dyn FnMut(&Sheet, &[(CodeId, i128)], Result<f64, FaultAt>) + 'e;

/// Tries batches of codes: the ends of their ranges, zeros, and many others. The first lane has all at their lowest, the
/// second all at their highest.
fn try_many(trial: &mut Trial<'_>, batches: usize, each: &mut Each<'_>) {
    let codes: Vec<(CodeId, (i128, i128))> =
        trial.reading.codes.iter().filter_map(|code| Some((*code, trial.part.codes.get(*code)?.bounds()))).collect();
    let part = trial.part;
    let mut state = 0x9E37_79B9_7F4A_7C15u64;
    for batch in 0..batches {
        let mut inputs: Vec<Vec<(CodeId, i128)>> = Vec::new();
        for lane in 0..LANES {
            let mut dice = || {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                state >> 33
            };
            let mut pick = |(code, (low, high)): &(CodeId, (i128, i128))| {
                let value = match (batch, lane, dice() % 6) {
                    (0, 0, _) | (_, _, 0) => *low,
                    (0, 1, _) | (_, _, 1) => *high,
                    (_, _, 2) if *low <= 0 && *high >= 0 => 0,
                    _ => low + i128::from((dice() << 31) ^ dice()) % (high - low + 1).max(1),
                };
                (*code, value)
            };
            inputs.push(codes.iter().map(&mut pick).collect());
        }
        let at = |code: CodeId, lane: usize| {
            let of_lane = inputs.get(lane).and_then(|lane| lane.iter().find(|(known, _)| *known == code));
            of_lane.map_or(0, |(_, value)| *value)
        };
        trial.run(LANES, at, |lane, result| each(part, inputs.get(lane).map_or(&[], Vec::as_slice), result));
    }
}

/// What trying all codes found.
#[derive(Clone)]
struct Exhausted {
    extent: Option<Extent>,
    step: Option<(f64, f64)>,
    faults: Vec<FaultExample>,
}

fn exhaustive(trial: &mut Trial<'_>, code_index: CodeId, (low, high): (i128, i128)) -> Exhausted {
    let (mut least, mut most) = (f64::INFINITY, f64::NEG_INFINITY);
    let (mut finest, mut coarsest) = (f64::INFINITY, 0.0f64);
    let mut faults: Vec<FaultExample> = Vec::new();
    let name = trial.part.codes[code_index].name.clone();
    // A lane without a value is no number: it counts for no extent, and there is no step to it or from it.
    let (mut last, mut room) = (f64::NAN, Vec::new());
    let mut from = low;
    while from <= high {
        let lanes = usize::try_from((high - from + 1).min(LANES as i128)).unwrap_or(LANES);
        trial.compute(lanes, |_, lane| from + lane as i128);
        let values = trial.reals(lanes).unwrap_or_else(|| {
            room.clear();
            room.resize(lanes, f64::NAN);
            trial.results(lanes, |lane, result| match result {
                Ok(value) => room.get_mut(lane).into_iter().for_each(|place| *place = value),
                Err((kind, span)) if faults.len() < 8 && !faults.iter().any(|known| known.kind == kind && known.span == span) => {
                    faults.push(FaultExample { kind, span, codes: vec![(name.clone(), from + lane as i128)] });
                }
                Err(_) => {}
            });
            &room
        });
        // Comparisons are false of no number: it changes none of these.
        for &value in values {
            least = if value < least { value } else { least };
            most = if value > most { value } else { most };
            let difference = (value - last).abs();
            finest = if difference > 0.0 && difference < finest { difference } else { finest };
            coarsest = if difference > coarsest { difference } else { coarsest };
            last = value;
        }
        from += LANES as i128;
    }
    let extent = (least <= most).then_some(Extent { low: least, high: most, exact: true });
    Exhausted { extent, step: (coarsest > 0.0).then_some((finest, coarsest)), faults }
}

/// Takes a difference into (smallest, largest), unless it is NaN.
fn widen(step: &mut Option<(f64, f64)>, difference: f64) {
    if difference > 0.0 && difference.is_finite() {
        *step = Some(step.map_or((difference, difference), |(l, h)| (l.min(difference), h.max(difference))));
    }
}

/// The step of the last code that has one, at places spread over its range, the other codes at the middle of theirs.
fn sampled_step(trial: &mut Trial<'_>, places: usize) -> Option<(f64, f64)> {
    moving_codes(trial).into_iter().rev().find_map(|code| {
        let mut step = None;
        pairs_of(trial, code, places).iter().for_each(|[one, next]| widen(&mut step, (next - one).abs()));
        step
    })
}

/// The codes that change from frame to frame. Calibration words do not.
fn moving_codes(trial: &Trial<'_>) -> Vec<CodeId> {
    let kept = |code: &CodeId| {
        let frame = trial.part.codes.get(*code).map(|code| code.frame);
        frame.and_then(|frame| trial.part.frames.get(frame)).is_some_and(|frame| frame.keep)
    };
    // At the middle of their ranges some codes may be without effect: there may be more than one to look at.
    trial.reading.codes.iter().copied().filter(|code| !kept(code)).take(8).collect()
}

/// The values of neighbouring codes, at places spread over a code's range.
fn pairs_of(trial: &mut Trial<'_>, first: CodeId, places: usize) -> Vec<[f64; 2]> {
    let Some((low, high)) = trial.code(first).map(Code::bounds) else { return Vec::new() };
    let part = trial.part;
    let places = places.min(LANES / 2);
    let at = move |lane: usize| low + (high - 1 - low).max(0) * (lane / 2) as i128 / (places as i128 - 1).max(1) + (lane % 2) as i128;
    let middle = |code: CodeId| part.codes.get(code).map_or(0, |code| (code.bounds().0 + code.bounds().1) / 2);
    let mut values: Vec<Option<f64>> = vec![None; places * 2];
    trial.run(
        places * 2,
        |code, lane| if code == first { at(lane) } else { middle(code) },
        |lane, result| {
            if let Some(place) = values.get_mut(lane) {
                *place = result.ok();
            }
        },
    );
    values.as_chunks().0.iter().filter_map(|[one, next]: &[Option<f64>; 2]| Some([(*one)?, (*next)?])).collect()
}

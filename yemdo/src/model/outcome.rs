//! What can come out of a reading: its extent and its step, found before any part is connected.

use super::part::{Code, Condition, Input, Part, Reading};
use super::registers::Settings;
use crate::bits::form::Form;
use crate::decode::plan::bounds;
use crate::formula::interval::analyse;
use crate::formula::lower::Lowerer;
use crate::formula::program::{FaultKind, Program};
use crate::formula::run::{FaultAt, LANES, Machine};
use crate::sheet::text::Span;

/// Codes of at most so many bits are tried one by one.
const EXHAUSTIVE_BITS: u32 = 18;

/// And only where trying all readings so would take no more operations than this.
const EXHAUSTIVE_WORK: usize = 1 << 28;

/// What can come out of one reading.
#[derive(Clone, Debug, PartialEq)]
pub struct Outcome {
    /// Lowest and highest value, in the reading's unit. `None` where nothing ever comes out.
    pub extent: Option<Extent>,
    /// Smallest and largest difference that one step of the code makes (of one of the codes, where there are
    /// several, the others at the middle of their range). `None` where the value never changes.
    pub step: Option<(f64, f64)>,
    /// Whether its arithmetic can run into a fault.
    pub proof: Proof,
    /// Faults that some codes lead to, each with the codes; found by trying, so they do occur.
    pub faults: Vec<FaultExample>,
}

/// How sure it is that no operation of a formula can fault.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Proof {
    /// No operation can, for whatever codes, parameters and settings.
    Proved,
    /// Every code was tried, with the settings after a reset.
    Tried,
    /// So many operations are in doubt; so many inputs were tried.
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

/// A reading's program, and what it needs to be tried out.
struct Trial<'a> {
    part: &'a Part,
    reading: &'a Reading,
    program: Program,
    machine: Machine,
    output: usize,
    /// Outputs of the conditions that withhold a value.
    withheld: Vec<usize>,
}

impl<'a> Trial<'a> {
    fn new(part: &'a Part, index: usize) -> Option<Self> {
        let reading = part.readings.get(index)?;
        let mut lowerer = Lowerer::new(false);
        let mut output = 0;
        for at in needed(part, index) {
            output = lowerer.formula(&part.readings.get(at)?.formula);
            lowerer.publish(Input::Reading(at), output);
        }
        let only = if let [frame] = reading.frames.as_slice() { part.frames.get(*frame) } else { None };
        let in_frame = only.map_or(&[] as &[Condition], |frame| &frame.status);
        // A condition over other codes cannot be decided by trying this reading's codes.
        let decidable = |condition: &&Condition| {
            !condition.status.has_value()
                && condition.formula.inputs.iter().all(|input| matches!(input, Input::Code(code) if reading.codes.contains(code)))
        };
        let conditions = reading.status.iter().chain(in_frame).filter(decidable);
        let withheld = conditions.map(|condition| lowerer.formula(&condition.formula)).collect();
        let program = lowerer.finish();
        let machine = Machine::new(&program, LANES);
        Some(Self { part, reading, program, machine, output, withheld })
    }

    fn code(&self, index: usize) -> Option<&'a Code> {
        self.part.codes.get(index)
    }

    /// Runs over lanes for which `value(code, lane)` gives the codes, and hands each result to `take`. Fields
    /// that do not stand in a frame have their reset values.
    fn run(&mut self, lanes: usize, value: impl Fn(usize, usize) -> i128, mut take: impl FnMut(usize, Result<f64, FaultAt>)) {
        let settings = Settings::reset(self.part);
        let code_of_field = |field: usize| {
            self.reading.codes.iter().copied().find(|code| self.part.codes.get(*code).is_some_and(|code| code.field == Some(field)))
        };
        let present = |field: usize, lane: usize| match code_of_field(field) {
            Some(code) => value(code, lane),
            None => self.part.fields.get(field).map_or(0, |field| settings.field(field)),
        };
        let machine = &mut self.machine;
        for (slot, input) in &self.program.inputs {
            let Some(column) = machine.column_mut(*slot) else { continue };
            for lane in 0..lanes {
                match *input {
                    Input::Reading(_) | Input::Quantity(_) => {}
                    Input::Parameter(index) => column.put(lane, self.part.parameters.get(index).map_or(0.0, |parameter| parameter.default)),
                    Input::Code(code) => match self.part.codes.get(code).map(|model| (model, model.layout.width())) {
                        Some((model, width)) if model.ty.is_real() => {
                            let bits = model.layout.form.write(value(code, lane), width);
                            column.put(lane, model.layout.form.read_real(bits, width).unwrap_or(0.0));
                        }
                        _ => column.put_int(lane, value(code, lane) as i64),
                    },
                    Input::Field(field) => match self.part.fields.get(field).and_then(|model| model.real(present(field, lane))) {
                        Some(real) => column.put(lane, real),
                        None => column.put_int(lane, present(field, lane) as i64),
                    },
                    Input::Column(field, at) => {
                        let row = self.part.fields.get(field).and_then(|model| model.row(present(field, lane)));
                        column.put(lane, row.and_then(|row| row.columns.get(at).copied().flatten()).unwrap_or(f64::NAN));
                    }
                }
            }
        }
        self.machine.begin();
        self.machine.run(&self.program, lanes);
        for lane in 0..lanes {
            let withheld = |output: &usize| self.machine.output(&self.program, *output, lane).is_ok_and(|n| n.to_f64() != 0.0);
            if !self.withheld.iter().any(withheld) {
                take(lane, self.machine.output(&self.program, self.output, lane).map(|n| n.to_f64()));
            }
        }
    }

    /// Whether the reading is a real number of the bus, of which there is nothing to be tried.
    fn has_float(&self) -> bool {
        let codes = self.reading.codes.iter().filter_map(|code| self.part.codes.get(*code));
        codes.into_iter().any(|code| matches!(code.layout.form, Form::Float | Form::Text))
    }
}

/// The readings that a reading needs, in order, itself last.
pub(crate) fn needed(part: &Part, index: usize) -> Vec<usize> {
    let mut wanted = vec![index];
    let mut seen = vec![false; part.readings.len()];
    seen.get_mut(index).into_iter().for_each(|seen| *seen = true);
    let mut at = 0;
    while let Some(current) = wanted.get(at).copied() {
        let inputs = part.readings.get(current).map_or(&[] as &[Input], |reading| &reading.formula.inputs);
        for input in inputs {
            if let Input::Reading(other) = input
                && let Some(seen) = seen.get_mut(*other).filter(|seen| !**seen)
            {
                *seen = true;
                wanted.push(*other);
            }
        }
        at += 1;
    }
    part.order.iter().copied().filter(|at| seen.get(*at).copied().unwrap_or(false)).collect()
}

/// Decimals that tell the typical step.
pub(crate) fn decimals(part: &Part, index: usize) -> usize {
    let Some(mut trial) = Trial::new(part, index) else { return 3 };
    if trial.has_float() {
        return 3;
    }
    let typical = sampled_step(&mut trial, 64).map_or(1.0, |(low, high)| (low * high).sqrt());
    let places = (-typical.log10() - 1e-9).ceil();
    if places.is_finite() { places.clamp(0.0, 9.0) as usize } else { 3 }
}

impl Part {
    /// What can come out of a reading, by its index in [`Part::readings`]. Narrow codes are tried one by one;
    /// otherwise bounds come from interval analysis.
    pub fn outcome(&self, reading: usize) -> Option<Outcome> {
        self.readings.get(reading)?.outcome.get_or_init(|| self.find_outcome(reading)).clone()
    }

    fn find_outcome(&self, reading: usize) -> Option<Outcome> {
        let mut trial = Trial::new(self, reading)?;
        let analysis = analyse(&trial.program, &|input| bounds(trial.part, input));
        // The conditions' own formulas are not the reading's.
        let of_reading = |owner: u32| (owner as usize) <= trial.output;
        let doubts = trial.program.ops.iter().zip(&analysis.safe).filter(|(op, safe)| of_reading(op.owner) && !op.safe && !**safe).count();
        if let [only] = trial.reading.codes.as_slice()
            && let Some(code) = trial.code(*only)
            && code.layout.width() <= EXHAUSTIVE_BITS
            && (trial.program.ops.len() << code.layout.width()) * self.readings.len() <= EXHAUSTIVE_WORK
            && !trial.has_float()
        {
            let mut outcome = exhaustive(&mut trial, *only, code.bounds());
            if doubts == 0 {
                outcome.proof = Proof::Proved;
            }
            return Some(outcome);
        }
        let extent = trial.program.outputs.get(trial.output).map(|(slot, _)| {
            let (low, high) = analysis.slot(*slot).to_f64();
            Extent { low, high, exact: false }
        });
        let step = if trial.has_float() { None } else { sampled_step(&mut trial, 256) };
        if doubts == 0 {
            return Some(Outcome { extent, step, proof: Proof::Proved, faults: Vec::new() });
        }
        let (faults, tried) = search(&mut trial);
        Some(Outcome { extent, step, proof: Proof::Doubted(doubts, tried), faults })
    }
}

/// Batches of inputs that are tried where something is in doubt.
const SEARCHES: usize = 40;

/// Looks for codes that lead to a fault: the ends of their ranges, noughts, and many others.
fn search(trial: &mut Trial<'_>) -> (Vec<FaultExample>, usize) {
    let codes: Vec<(usize, (i128, i128))> =
        trial.reading.codes.iter().filter_map(|code| Some((*code, trial.part.codes.get(*code)?.bounds()))).collect();
    let mut found: Vec<FaultExample> = Vec::new();
    let mut state = 0x9E37_79B9_7F4A_7C15u64;
    for _ in 0..SEARCHES {
        let mut inputs: Vec<Vec<i128>> = Vec::new();
        for _ in 0..LANES {
            let mut dice = || {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                state >> 33
            };
            inputs.push(
                codes
                    .iter()
                    .map(|(_, (low, high))| match dice() % 6 {
                        0 => *low,
                        1 => *high,
                        2 if *low <= 0 && *high >= 0 => 0,
                        _ => low + i128::from((dice() << 31) ^ dice()) % (high - low + 1).max(1),
                    })
                    .collect(),
            );
        }
        let at = |code: usize, lane: usize| {
            let index = codes.iter().position(|(known, _)| *known == code);
            index.and_then(|index| inputs.get(lane)?.get(index)).copied().unwrap_or(0)
        };
        let mut bad = Vec::new();
        trial.run(LANES, at, |lane, result| bad.extend(result.err().map(|fault| (lane, fault))));
        for (lane, (kind, span)) in bad {
            if found.len() < 8 && !found.iter().any(|known| known.span == span && known.kind == kind) {
                let name = |code: usize| trial.part.codes.get(code).map_or(String::new(), |code| code.name.clone());
                let codes = codes.iter().map(|(code, _)| (name(*code), at(*code, lane))).collect();
                found.push(FaultExample { kind, span, codes });
            }
        }
    }
    (found, SEARCHES * LANES)
}

fn exhaustive(trial: &mut Trial<'_>, code_index: usize, (low, high): (i128, i128)) -> Outcome {
    let mut extent: Option<(f64, f64)> = None;
    let mut step: Option<(f64, f64)> = None;
    let mut faults: Vec<FaultExample> = Vec::new();
    let name = trial.part.codes.get(code_index).map_or(String::new(), |code| code.name.clone());
    let mut last: Option<(i128, f64)> = None;
    let mut from = low;
    while from <= high {
        let lanes = usize::try_from((high - from + 1).min(LANES as i128)).unwrap_or(LANES);
        trial.run(
            lanes,
            |_, lane| from + lane as i128,
            |lane, result| {
                let code = from + lane as i128;
                match result {
                    Ok(value) => {
                        extent = Some(extent.map_or((value, value), |(l, h)| (l.min(value), h.max(value))));
                        if let Some((_, before)) = last.filter(|(at, _)| at + 1 == code) {
                            widen(&mut step, (value - before).abs());
                        }
                        last = Some((code, value));
                    }
                    Err((kind, span)) if faults.len() < 8 && !faults.iter().any(|known| known.kind == kind && known.span == span) => {
                        faults.push(FaultExample { kind, span, codes: vec![(name.clone(), code)] });
                    }
                    Err(_) => {}
                }
            },
        );
        from += LANES as i128;
    }
    Outcome { extent: extent.map(|(low, high)| Extent { low, high, exact: true }), step, proof: Proof::Tried, faults }
}

/// Takes a difference into (smallest, largest), unless it is none.
fn widen(step: &mut Option<(f64, f64)>, difference: f64) {
    if difference > 0.0 && difference.is_finite() {
        *step = Some(step.map_or((difference, difference), |(l, h)| (l.min(difference), h.max(difference))));
    }
}

/// The step of the last code that has one, at places spread over its range, the other codes at the middle of theirs.
fn sampled_step(trial: &mut Trial<'_>, places: usize) -> Option<(f64, f64)> {
    // A calibration word does not change from frame to frame; its steps are nobody's. And at the middle of their
    // ranges some codes may be without effect.
    let kept = |code: &usize| {
        let frame = trial.part.codes.get(*code).map(|code| code.frame);
        frame.and_then(|frame| trial.part.frames.get(frame)).is_some_and(|frame| frame.keep)
    };
    let codes: Vec<usize> = trial.reading.codes.iter().copied().filter(|code| !kept(code)).take(8).collect();
    codes.into_iter().rev().find_map(|code| steps_of(trial, code, places))
}

fn steps_of(trial: &mut Trial<'_>, first: usize, places: usize) -> Option<(f64, f64)> {
    let (low, high) = trial.code(first)?.bounds();
    let part = trial.part;
    let places = places.min(LANES / 2);
    let at = move |lane: usize| low + (high - 1 - low).max(0) * (lane / 2) as i128 / (places as i128 - 1).max(1) + (lane % 2) as i128;
    let middle = |code: usize| part.codes.get(code).map_or(0, |code| (code.bounds().0 + code.bounds().1) / 2);
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
    let mut step = None;
    for pair in values.chunks_exact(2) {
        if let [Some(a), Some(b)] = pair {
            widen(&mut step, (b - a).abs());
        }
    }
    step
}

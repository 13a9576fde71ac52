//! What is to be done for one frame, worked out once: no names and no trees are left.

use super::affine::Affine;
use super::columns::State;
use crate::bits::gather::Gather;
use crate::bits::syndrome::Syndrome;
use crate::bits::word::{Cut, Word, Words};
use crate::formula::interval::{Interval, analyse};
use crate::formula::lower::Lowerer;
use crate::formula::program::{Do, Program, Slot};
use crate::formula::types::Ty;
use crate::model::part::{Input, Part};
use crate::model::registers::Field;
use crate::model::status::Status;

/// The plan of one frame.
#[derive(Clone, Debug)]
pub(crate) struct Plan {
    pub(crate) program: Program,
    /// The frame's checks.
    pub(crate) checks: Vec<Syndrome>,
    /// The words that codes are cut out of.
    pub(crate) words: Words,
    /// What is done first with many frames.
    pub(crate) passes: Vec<Pass>,
    /// Inputs from the frame itself first.
    pub(crate) loads: Vec<Load>,
    /// How many come from the frame itself.
    pub(crate) own_loads: usize,
    pub(crate) readings: Vec<ReadingPlan>,
    /// Values that readings share, and readings of other frames that are used: index and output.
    pub(crate) beside: Vec<(usize, usize)>,
}

/// A pass over the bytes of many frames.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Pass {
    /// The word of this index is loaded.
    Load(usize),
    /// The same, and the check of this index goes along.
    LoadAndCheck(usize, usize),
    /// The check of this index.
    Check(usize),
}

/// An input of the program: where it comes from, and which outputs use it.
#[derive(Clone, Debug)]
pub(crate) struct Load {
    pub(crate) slot: Slot,
    pub(crate) from: From,
    /// The quick way to a code of the frame.
    pub(crate) cut: Option<Cut>,
    pub(crate) users: Vec<usize>,
}

/// Where an input comes from.
#[derive(Clone, Debug)]
pub(crate) enum From {
    /// Bits of the frame, and the codes that are allowed where not all are.
    Frame(Gather, Option<(i64, i64)>),
    /// Bits of the frame that make a real number.
    FrameReal(Gather),
    /// The column of a table, in the row that bits of the frame choose.
    FrameRow(Gather, Vec<(i64, f64)>),
    /// The present code of a field.
    Field(usize),
    /// The column of a table, in the row of a field's present code.
    Row(usize, usize),
    /// A number that the user supplies.
    Parameter(usize),
    /// A code of another frame, as it came last.
    Kept(usize),
}

impl From {
    /// Whether it stays the same for all frames that are decoded together.
    pub(crate) fn is_held(&self) -> bool {
        matches!(self, From::Field(_) | From::Row(..) | From::Kept(_) | From::Parameter(_))
    }
}

#[derive(Clone, Debug)]
pub(crate) struct ReadingPlan {
    /// Index in [`Part::readings`].
    pub(crate) index: usize,
    /// Index of its value among the program's outputs.
    pub(crate) output: usize,
    pub(crate) range: Option<(f64, f64)>,
    /// Outputs of its conditions, and what they mean; the first that holds counts.
    pub(crate) conditions: Vec<(usize, Status)>,
    /// Other frames that must have come.
    pub(crate) needs: Vec<usize>,
    /// The way around the program, where there is one.
    pub(crate) affine: Option<Affine>,
    /// The last byte of the frame that it uses.
    pub(crate) last_byte: usize,
}

impl ReadingPlan {
    /// Whether its value says all: it has neither range nor condition.
    pub(crate) fn is_bare(&self) -> bool {
        self.range.is_none() && self.conditions.is_empty()
    }

    /// The status of a reading that has no value, whatever the frame holds.
    pub(crate) fn none(&self, state: &State<'_>, given: usize) -> Option<Status> {
        let missing = self.needs.iter().any(|frame| state.last.get(*frame).is_none_or(Option::is_none));
        let absent = (self.last_byte >= given).then_some(Status::Absent);
        if missing { Some(Status::Waiting) } else { absent }
    }
}

impl Plan {
    /// The plan of a frame. With `noting`, the program notes what names and variables stand for.
    pub(crate) fn new(part: &Part, frame: usize, noting: bool) -> Plan {
        let mut lowerer = Lowerer::new(noting);
        let (wanted, frame_status) = match part.frames.get(frame) {
            Some(frame) => (frame.readings.as_slice(), frame.status.as_slice()),
            None => (&[] as &[usize], &[] as &[_]),
        };
        let mut needed: Vec<usize> = wanted.iter().flat_map(|index| crate::model::needed(part, *index)).collect();
        needed.sort_unstable();
        needed.dedup();
        let mut outputs = Vec::new();
        for index in part.order.iter().copied().filter(|index| needed.binary_search(index).is_ok()) {
            if let Some(reading) = part.readings.get(index) {
                let output = lowerer.formula(&reading.formula);
                lowerer.publish(Input::Reading(index), output);
                outputs.push((index, output));
            }
        }
        let of_frame: Vec<(usize, Status)> = frame_status.iter().map(|c| (lowerer.formula(&c.formula), c.status)).collect();
        let mut readings = Vec::new();
        for index in wanted.iter().copied() {
            let Some(reading) = part.readings.get(index) else { continue };
            let Some((_, output)) = outputs.iter().find(|(at, _)| *at == index) else { continue };
            let mut conditions = of_frame.clone();
            conditions.extend(reading.status.iter().map(|c| (lowerer.formula(&c.formula), c.status)));
            let here = reading.codes.iter().filter_map(|code| part.codes.get(*code)).filter(|code| code.frame == frame);
            readings.push(ReadingPlan {
                index,
                output: *output,
                affine: None,
                range: reading.range,
                conditions,
                needs: reading.frames.iter().copied().filter(|other| *other != frame).collect(),
                last_byte: here.map(|code| code.last_byte()).max().unwrap_or(0),
            });
        }
        outputs.retain(|(index, _)| !wanted.contains(index));
        let mut program = lowerer.finish();
        prove(part, &mut program);
        let (mut loads, words) = loads(part, frame, &program);
        let codes = loads.iter().filter(|load| matches!(load.from, From::Frame(..))).count();
        if !noting {
            super::affine::take_out(&mut program, &mut loads, &mut readings);
        }
        mark_uniform(&mut program, &loads);
        if !noting {
            super::fuse::pairs(&mut program);
            super::fuse::widened(&mut program, &mut loads);
        }
        let model = part.frames.get(frame);
        let checks = model.map_or(Vec::new(), |model| model.checks.iter().map(|check| Syndrome::new(check, model.length)).collect());
        // A frame that is but one short code needs no words.
        let by_words = codes > 1 || words.length() > 4;
        let passes = passes(&checks, if by_words { words.iter().collect() } else { Vec::new() });
        loads.sort_by_key(|load| load.from.is_held());
        let own_loads = loads.iter().filter(|load| !load.from.is_held()).count();
        Plan { beside: outputs, words, passes, loads, own_loads, readings, program, checks }
    }

    /// Whether no reading needs the program.
    pub(crate) fn is_straight(&self) -> bool {
        self.program.ops.is_empty() && self.loads.is_empty()
    }

    /// Other frames that readings of this one take something from.
    pub(crate) fn needs(&self, part: &Part) -> Vec<usize> {
        let kept = |load: &Load| if let From::Kept(code) = load.from { Some(part.codes.get(code)?.frame) } else { None };
        self.loads.iter().filter_map(kept).chain(self.readings.iter().flat_map(|reading| reading.needs.iter().copied())).collect()
    }

    /// The plan of a formula of the frame itself, as its only output.
    pub(crate) fn of_formula(part: &Part, frame: usize, formula: &crate::formula::typed::Formula) -> Plan {
        let mut lowerer = Lowerer::new(false);
        lowerer.formula(formula);
        let program = lowerer.finish();
        let (loads, words) = loads(part, frame, &program);
        Plan {
            words,
            passes: Vec::new(),
            own_loads: loads.len(),
            loads,
            readings: Vec::new(),
            beside: Vec::new(),
            checks: Vec::new(),
            program,
        }
    }
}

/// Words are loaded once, or once with every check that goes along.
fn passes(checks: &[Syndrome], words: Vec<Word>) -> Vec<Pass> {
    let along = |check: &Syndrome| words.iter().position(|word| check.fits(*word));
    let pass = |(index, check)| along(check).map_or(Pass::Check(index), |word| Pass::LoadAndCheck(word, index));
    let mut passes: Vec<Pass> = checks.iter().enumerate().map(pass).collect();
    let left = |word: &usize| !checks.iter().any(|check| along(check) == Some(*word));
    passes.extend((0..words.len()).filter(left).map(Pass::Load));
    passes
}

fn loads(part: &Part, frame: usize, program: &Program) -> (Vec<Load>, Words) {
    let (mut loads, mut words) = (Vec::new(), Words::new(part.frames.get(frame).map_or(0, |frame| frame.length)));
    for (slot, input) in &program.inputs {
        let in_frame = |field: usize| {
            let held = part.frames.get(frame)?.fields.iter().find(|(held, _)| *held == field)?;
            Some(held.1.clone())
        };
        let from = match *input {
            Input::Reading(_) | Input::Quantity(_) => continue,
            Input::Parameter(index) => From::Parameter(index),
            Input::Code(code) => match part.codes.get(code) {
                Some(model) if model.frame != frame => From::Kept(code),
                Some(model) if model.ty.is_real() => From::FrameReal(model.gather.clone()),
                Some(model) => From::Frame(model.gather.clone(), model.range.map(|(low, high)| (low as i64, high as i64))),
                None => continue,
            },
            Input::Field(field) => match in_frame(field) {
                Some(gather) if part.fields.get(field).is_some_and(Field::is_real) => From::FrameReal(gather),
                Some(gather) => From::Frame(gather, None),
                None => From::Field(field),
            },
            Input::Column(field, column) => match (in_frame(field), part.fields.get(field)) {
                (Some(gather), Some(model)) => {
                    let row = |row: &crate::model::registers::Row| {
                        Some((i64::try_from(row.code).ok()?, row.columns.get(column).copied().flatten()?))
                    };
                    From::FrameRow(gather, model.rows.iter().filter_map(row).collect())
                }
                _ => From::Row(field, column),
            },
        };
        let cut = if let From::Frame(gather, _) = &from { gather.run().and_then(|run| words.cut(run)) } else { None };
        loads.push(Load { slot: *slot, from, cut, users: users(program, *slot) });
    }
    (loads, words)
}

/// Marks the operations that give the same for all frames: whose operands are constants, settings and what came in
/// other frames.
fn mark_uniform(program: &mut Program, loads: &[Load]) {
    let held = loads.iter().filter(|load| load.from.is_held());
    let mut same = vec![false; program.slots.len()];
    for slot in held.map(|load| load.slot).chain(program.constants.iter().map(|(slot, _)| *slot)) {
        same.get_mut(slot as usize).into_iter().for_each(|same| *same = true);
    }
    for op in &mut program.ops {
        let is = |slot: Slot| same.get(slot as usize).copied().unwrap_or(false);
        op.uniform = op.safe && is(op.a) && is(op.b) && is(op.c);
        if op.what.commutes() && is(op.a) && !is(op.b) {
            std::mem::swap(&mut op.a, &mut op.b);
        }
        op.same_b = is(op.b) && !matches!(op.what, Do::Select(_));
        if op.uniform {
            same.get_mut(op.dst as usize).into_iter().for_each(|same| *same = true);
        }
    }
}

/// The outputs whose formulas use a slot.
fn users(program: &Program, slot: Slot) -> Vec<usize> {
    let of_ops = program.ops.iter().filter(|op| [op.a, op.b, op.c].contains(&slot)).map(|op| op.owner as usize);
    let direct = program.outputs.iter().enumerate().filter(|(_, (output, _))| *output == slot).map(|(index, _)| index);
    let mut users: Vec<usize> = of_ops.chain(direct).collect();
    users.sort_unstable();
    users.dedup();
    users
}

/// The bounds of an input.
pub(crate) fn bounds(part: &Part, input: Input) -> Interval {
    let everything = Interval::Real(f64::NEG_INFINITY, f64::INFINITY);
    match input {
        Input::Code(code) => match part.codes.get(code) {
            Some(code) if code.layout.form == crate::bits::form::Form::Float => everything,
            Some(code) if code.ty == Ty::F64 => {
                let ((low, high), width) = (code.bounds(), code.layout.width());
                let real = |bits: i128| code.layout.form.read_real(code.layout.form.write(bits, width), width).unwrap_or(0.0);
                Interval::Real(real(low), real(high))
            }
            Some(code) => Interval::Int(code.bounds().0, code.bounds().1),
            None => Interval::Int(0, 0),
        },
        Input::Reading(_) | Input::Quantity(_) => everything,
        Input::Parameter(index) => match part.parameters.get(index) {
            Some(parameter) => {
                parameter.range.map_or(Interval::Real(parameter.default, parameter.default), |(low, high)| Interval::Real(low, high))
            }
            None => everything,
        },
        Input::Field(field) if part.fields.get(field).is_some_and(Field::is_real) => everything,
        Input::Field(field) => {
            part.fields.get(field).map_or(Interval::Int(0, 0), |field| Interval::Int(field.bounds().0, field.bounds().1))
        }
        Input::Column(field, column) => {
            let Some(field) = part.fields.get(field) else { return everything };
            let numbers = || field.rows.iter().filter_map(|row| row.columns.get(column).copied().flatten());
            let (low, high) = (numbers().fold(f64::INFINITY, f64::min), numbers().fold(f64::NEG_INFINITY, f64::max));
            if field.columns.get(column).is_some_and(|column| column.whole) {
                Interval::Int(low as i128, high as i128)
            } else {
                Interval::Real(low, high)
            }
        }
    }
}

/// Marks the operations that cannot fault for any code, so that they run unchecked.
fn prove(part: &Part, program: &mut Program) {
    let analysis = analyse(program, &|input| bounds(part, input));
    let finite = |(slot, _): &(Slot, Ty)| {
        let (low, high) = analysis.slot(*slot).to_f64();
        low.is_finite() && high.is_finite()
    };
    program.finite = program.outputs.iter().map(finite).collect();
    let exact = |slot: Slot| matches!(analysis.slot(slot), Interval::Int(low, high) if low > -(1 << 51) && high < 1 << 51);
    for (op, safe) in program.ops.iter_mut().zip(&analysis.safe) {
        op.safe |= safe;
        op.small = op.safe && exact(op.a) && exact(op.b);
    }
}

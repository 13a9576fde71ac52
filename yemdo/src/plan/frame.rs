//! What is to be done for one frame.

use std::collections::BTreeMap;

use super::affine::{Affine, Source};
use crate::bits::form::Form;
use crate::bits::gather::Gather;
use crate::bits::syndrome::Syndrome;
use crate::bits::word::{Cut, NumberCut, Word, Words};
use crate::formula::flat::interval::Interval;
use crate::formula::flat::lower::Lowerer;
use crate::formula::flat::program::{Program, Slot, Use};
use crate::formula::flat::prove::prove;
use crate::formula::flat::{affine, fuse, uniform};
use crate::formula::input::InputKey;
use crate::formula::typed::Formula;
use crate::ground::list::List;
use crate::ground::number::Ty;
use crate::model::frame::{Code, Frame, Origin};
use crate::model::ids::{CodeId, FieldId, FrameId, ReadingId, RegisterId};
use crate::model::input::{Input, inputs};
use crate::model::part::Sheet;
use crate::model::reading::End;
use crate::model::registers::Field;
use crate::model::state::State;
use crate::model::status::Status;

/// The plan of one frame.
#[derive(Clone, Debug)]
pub(crate) struct Plan {
    pub(crate) frame: FrameId,
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
    /// Values that readings share, and readings of other frames that are used, each with its output.
    pub(crate) beside: Vec<(ReadingId, usize)>,
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
    pub(crate) from: InputSource,
    /// The quick way to a code of the frame that is an integer.
    pub(crate) cut: Option<Cut>,
    /// The quick way to one that is a real number.
    pub(crate) number: Option<NumberCut>,
    pub(crate) users: Vec<Use>,
}

/// Where an input comes from.
#[derive(Clone, Debug)]
pub(crate) enum InputSource {
    /// Bits of the frame, and the codes that are allowed where not all are.
    Frame(Gather, Option<CodeRange>),
    /// Bits of the frame that make a real number.
    FrameReal(Gather),
    /// The column of a table, in the row that bits of the frame choose.
    FrameRow(Gather, Rows),
    /// Something that stays the same for all frames that are decoded together: a setting, a parameter, a code of
    /// another frame as it came last.
    Held(Input),
}

impl InputSource {
    /// Whether it stays the same for all frames that are decoded together.
    pub(crate) fn is_held(&self) -> bool {
        matches!(self, InputSource::Held(_))
    }

    /// True if it needs a byte after the first `given` bytes of the frame.
    pub(crate) fn ends_behind(&self, given: usize) -> bool {
        self.last_byte().is_some_and(|last| last >= given)
    }

    /// The last byte of the frame that it needs.
    pub(crate) fn last_byte(&self) -> Option<usize> {
        match self {
            InputSource::Frame(gather, _) | InputSource::FrameReal(gather) | InputSource::FrameRow(gather, _) => gather.last_byte(),
            InputSource::Held(_) => None,
        }
    }
}

/// The rows of a table that have a number in some column: codes and numbers.
#[derive(Clone, Debug)]
pub(crate) struct Rows {
    rows: Vec<(i64, f64)>,
    /// Those of small codes, by the code.
    small: Vec<Option<f64>>,
}

impl Rows {
    fn new(rows: Vec<(i64, f64)>) -> Self {
        let small = (0..SMALL).map(|code| rows.iter().find(|(known, _)| *known == code).map(|(_, number)| *number)).collect();
        Self { rows, small }
    }

    /// Codes and numbers.
    pub(crate) fn iter(&self) -> impl Iterator<Item = (i64, f64)> + '_ {
        self.rows.iter().copied()
    }

    /// The number of a code.
    #[inline]
    pub(crate) fn number(&self, code: i64) -> Option<f64> {
        match self.small.get(usize::try_from(code).unwrap_or(usize::MAX)) {
            Some(number) => *number,
            None => self.rows.iter().find(|(known, _)| *known == code).map(|(_, number)| *number),
        }
    }
}

/// Codes that are looked up by themselves.
const SMALL: i64 = 16;

/// The codes that the datasheet allows, as bit patterns of 64 bits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct CodeRange {
    pub(crate) low: i64,
    pub(crate) high: i64,
    /// The patterns are those of unsigned numbers.
    pub(crate) unsigned: bool,
}

impl CodeRange {
    pub(crate) fn of(code: &Code) -> Option<Self> {
        let (low, high) = code.range?;
        let unsigned = matches!(code.ty, Ty::U32 | Ty::U64);
        // A range is within what the bits of the code hold, so both ends have a pattern.
        Some(Self { low: low as i64, high: high as i64, unsigned })
    }

    /// Whether a code is allowed.
    #[inline]
    pub(crate) fn contains(self, code: i64) -> bool {
        if self.unsigned { (self.low as u64..=self.high as u64).contains(&(code as u64)) } else { (self.low..=self.high).contains(&code) }
    }
}

/// The range that a reading is stated for.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum PlanRange {
    Numbers(f64, f64),
    /// Outputs of the program, which are the same for all frames that are decoded together.
    Outputs(usize, usize),
}

#[derive(Clone, Debug)]
pub(crate) struct ReadingPlan {
    /// The reading.
    pub(crate) id: ReadingId,
    /// Index of its value among the program's outputs.
    pub(crate) output: usize,
    pub(crate) range: Option<PlanRange>,
    /// Its conditions, in order.
    pub(crate) conditions: Vec<PlanCondition>,
    /// Other frames that must have come, and the last byte of each that the reading uses.
    pub(crate) needs: Vec<(FrameId, usize)>,
    /// The way around the program, where there is one.
    pub(crate) affine: Option<Affine>,
    /// The last byte of the frame that it uses.
    pub(crate) last_byte: usize,
}

/// A status condition of a reading.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct PlanCondition {
    /// Index of its truth among the program's outputs.
    pub(crate) output: usize,
    pub(crate) status: Status,
    /// Last bytes that it uses, in frames of changing length.
    ends: Vec<(FrameId, usize)>,
}

impl PlanCondition {
    /// True unless a frame ends before a code of the condition; `given` is the length of `frame`.
    pub(crate) fn applies(&self, state: &State, frame: FrameId, given: usize) -> bool {
        let length = |of: FrameId| if of == frame { Some(given) } else { state.frame(of).map(<[u8]>::len) };
        self.ends.iter().all(|(of, last)| length(*of).is_none_or(|length| *last < length))
    }
}

/// Frames of changing length that a formula uses, each with the last byte.
pub(crate) fn ends(part: &Sheet, formula: &Formula) -> Vec<(FrameId, usize)> {
    let mut codes: Vec<CodeId> = Vec::new();
    for input in inputs(formula) {
        match input {
            Input::Code(code) => codes.push(code),
            Input::Reading(used) => codes.extend(&part.readings[used].codes),
            _ => {}
        }
    }
    let mut ends: BTreeMap<FrameId, usize> = BTreeMap::new();
    for code in part.codes.of(&codes).filter(|code| part.frames[code.frame].counted.is_some()) {
        let last = ends.entry(code.frame).or_default();
        *last = code.last_byte().max(*last);
    }
    ends.into_iter().collect()
}

impl ReadingPlan {
    /// Whether its value says all: it has neither range nor condition.
    pub(crate) fn is_bare(&self) -> bool {
        self.range.is_none() && self.conditions.is_empty()
    }
}

/// Purpose of a plan.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum PlanFor {
    /// Decoding: fully optimized.
    Decoding,
    /// Steps shown to people: the program notes the values of names and variables, and keeps the operations of the formulas.
    Steps,
    /// Another interpreter: the program includes all quantities, and keeps the operations of the formulas.
    Export,
}

impl Plan {
    /// The plan of a frame.
    pub(crate) fn new(part: &Sheet, frame: FrameId, purpose: PlanFor) -> Plan {
        let optimized = purpose == PlanFor::Decoding;
        let mut lowerer = Lowerer::new(&part.curves, purpose == PlanFor::Steps);
        let wanted = part.frames[frame].readings.as_slice();
        let mut needed: List<ReadingId, bool> = List::filled(part.readings.len(), |_| false);
        // Conditions may be about readings of other frames: they are computed too, or they would stay as they first were.
        let conditions = wanted.iter().flat_map(|id| part.conditions(Some(frame), *id));
        let of_conditions = conditions.flat_map(|(_, condition)| inputs(&condition.formula));
        let readings = of_conditions.filter_map(|input| if let Input::Reading(id) = input { Some(id) } else { None });
        let wanted_first: Vec<ReadingId> = wanted.iter().copied().chain(readings).collect();
        for id in wanted_first.iter().flat_map(|id| part.needed(*id)) {
            needed.get_mut(id).into_iter().for_each(|needed| *needed = true);
        }
        quantities(part, frame, &needed, purpose == PlanFor::Export, &mut lowerer);
        let mut outputs = Vec::new();
        for id in part.order.iter().copied().filter(|id| needed.get(*id).copied().unwrap_or(false)) {
            if let Some(reading) = part.readings.get(id) {
                let output = lowerer.formula(&reading.formula);
                lowerer.publish(Input::Reading(id).key(), output);
                outputs.push((id, output));
            }
        }
        // Conditions of frames are computed once for all readings.
        let mut of_frames: BTreeMap<(FrameId, usize), usize> = BTreeMap::new();
        let mut readings = Vec::new();
        for id in wanted.iter().copied() {
            let Some(reading) = part.readings.get(id) else { continue };
            let Some((_, output)) = outputs.iter().find(|(at, _)| *at == id) else { continue };
            let mut conditions = Vec::new();
            for (of, condition) in part.conditions(Some(frame), id) {
                let mut output = || lowerer.formula(&condition.formula);
                let output = match of {
                    Some(of) => *of_frames.entry((of, condition.span().start)).or_insert_with(output),
                    None => output(),
                };
                conditions.push(PlanCondition { output, status: condition.status, ends: ends(part, &condition.formula) });
            }
            let range = reading.range.as_ref().map(|range| match range.fixed() {
                Some((low, high)) => PlanRange::Numbers(low, high),
                None => PlanRange::Outputs(end(&mut lowerer, &range.low), end(&mut lowerer, &range.high)),
            });
            let last_byte =
                |of: FrameId| part.codes.of(&reading.codes).filter(|code| code.frame == of).map(Code::last_byte).max().unwrap_or(0);
            readings.push(ReadingPlan {
                id,
                output: *output,
                affine: None,
                range,
                conditions,
                needs: reading.frames.iter().filter(|other| **other != frame).map(|other| (*other, last_byte(*other))).collect(),
                last_byte: last_byte(frame),
            });
        }
        outputs.retain(|(id, _)| !wanted.contains(id));
        let mut program = lowerer.finish();
        prove(&mut program, &|key| bounds(part, key));
        let (mut loads, words) = loads(part, frame, &program);
        let codes = loads.iter().filter(|load| load.cut.is_some() || load.number.is_some()).count();
        if optimized {
            take_out_affine(&mut program, &mut loads, &mut readings);
        }
        uniform::mark(&mut program, loads.iter().filter(|load| load.from.is_held()).map(|load| load.slot));
        if optimized {
            fuse::pairs(&mut program);
            let may: Vec<Slot> = loads.iter().filter(|load| matches!(load.from, InputSource::Frame(..))).map(|load| load.slot).collect();
            for (before, after) in fuse::widen(&mut program, &may) {
                loads.iter_mut().filter(|load| load.slot == before).for_each(|load| load.slot = after);
            }
        }
        let model = part.frames.get(frame);
        let checks = model.map_or(Vec::new(), |model| model.checks.iter().map(|check| Syndrome::new(check, model.length)).collect());
        // A frame that is but one short code needs no words.
        let by_words = codes > 1 || words.length() > 4;
        let passes = passes(&checks, if by_words { words.iter().collect() } else { Vec::new() });
        loads.sort_by_key(|load| load.from.is_held());
        let own_loads = loads.iter().filter(|load| !load.from.is_held()).count();
        Plan { frame, beside: outputs, words, passes, loads, own_loads, readings, program, checks }
    }

    /// Whether no reading needs the program.
    pub(crate) fn is_straight(&self) -> bool {
        self.program.ops.is_empty() && self.loads.is_empty()
    }

    /// Other frames that readings of this one take something from: codes, or fields of registers that they hold.
    pub(crate) fn needs(&self, part: &Sheet) -> Vec<FrameId> {
        let held = self.loads.iter().filter_map(|load| if let InputSource::Held(input) = load.from { Some(input) } else { None });
        let mut needs: Vec<FrameId> = self.readings.iter().flat_map(|reading| reading.needs.iter().map(|(frame, _)| *frame)).collect();
        for input in part.inputs_behind(held) {
            if let Input::Code(code) = input {
                needs.extend(part.codes.get(code).map(|code| code.frame));
            }
            if let Some(field) = input.field() {
                // A frame may have only some of its bits.
                let homes: Vec<RegisterId> = part.homes(field).collect();
                let holds = |frame: &Frame| match &frame.origin {
                    Origin::Registers(runs) => runs.iter().flatten().any(|register| homes.contains(register)),
                    _ => false,
                };
                needs.extend(part.frames.entries().filter(|(_, frame)| holds(frame)).map(|(id, _)| id));
            }
        }
        needs.sort_unstable();
        needs.dedup();
        needs
    }

    /// The plan of a formula of the frame itself, as its only output.
    pub(crate) fn of_formula(part: &Sheet, frame: FrameId, formula: &Formula) -> Plan {
        let mut lowerer = Lowerer::new(&part.curves, false);
        lowerer.formula(formula);
        let program = lowerer.finish();
        let (loads, words) = loads(part, frame, &program);
        Plan {
            frame,
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

/// Quantities that the readings of a frame use and that fields of the frame hold: they come with it, so they are part of its
/// program. Others are constant for the frame, and part of it only where `all` are wanted.
fn quantities(part: &Sheet, frame: FrameId, needed: &List<ReadingId, bool>, all: bool, lowerer: &mut Lowerer) {
    let Some(model) = part.frames.get(frame).filter(|model| all || !model.fields.is_empty()) else { return };
    let wanted = part.readings.entries().filter(|(id, _)| needed.get(*id).copied().unwrap_or(false));
    let judging = model.readings.iter().flat_map(|id| part.conditions(Some(frame), *id)).map(|(_, condition)| &condition.formula);
    let formulas = wanted.flat_map(|(_, reading)| reading.formulas()).chain(judging);
    let used = part.inputs_behind(formulas.flat_map(inputs));
    for (id, quantity) in part.quantities.entries().filter(|(id, _)| used.contains(&Input::Quantity(*id))) {
        let own = part.inputs_behind(inputs(&quantity.formula));
        let here = |field: FieldId| model.fields.iter().any(|(held, _)| *held == field);
        if quantity.through.is_none() && (all || own.iter().any(|input| input.field().is_some_and(here))) {
            let output = lowerer.formula_as(&quantity.formula, Ty::F64);
            lowerer.publish(Input::Quantity(id).key(), output);
        }
    }
}

/// An end of a stated range, as an output.
fn end(lowerer: &mut Lowerer, end: &End) -> usize {
    match end {
        End::Formula(formula) => lowerer.formula_as(formula, Ty::F64),
        End::Number(number) => lowerer.number(*number),
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

/// Where the program's inputs come from.
fn loads(part: &Sheet, frame: FrameId, program: &Program) -> (Vec<Load>, Words) {
    let (mut loads, mut words) = (Vec::new(), Words::new(part.frames[frame].length));
    let in_frame = |field: FieldId| {
        let held = part.frames.get(frame)?.fields.iter().find(|(held, _)| *held == field)?;
        Some(held.1.clone())
    };
    for (slot, key) in &program.inputs {
        let input = Input::of(*key);
        let from = match input {
            Input::Code(code) => match part.codes.get(code) {
                Some(model) if model.frame != frame => InputSource::Held(input),
                Some(model) if model.ty.is_real() => InputSource::FrameReal(model.gather.clone()),
                Some(model) => InputSource::Frame(model.gather.clone(), CodeRange::of(model)),
                None => continue,
            },
            Input::Field(field) => match in_frame(field) {
                Some(gather) if part.fields.get(field).is_some_and(Field::is_real) => InputSource::FrameReal(gather),
                Some(gather) => InputSource::Frame(gather, None),
                None => InputSource::Held(input),
            },
            Input::Column(field, column) => match (in_frame(field), part.fields.get(field)) {
                (Some(gather), Some(model)) => {
                    let number = |column: Option<f64>, code: i128| Some((i64::try_from(code).ok()?, column?));
                    let rows = model.values.iter().filter_map(|row| number(row.columns.get(column).copied().flatten(), row.code));
                    InputSource::FrameRow(gather, Rows::new(rows.collect()))
                }
                _ => InputSource::Held(input),
            },
            // Nothing else stands in a frame.
            _ => InputSource::Held(input),
        };
        let (cut, number) = match &from {
            InputSource::Frame(gather, _) => (gather.run().and_then(|run| words.cut(run)), None),
            InputSource::FrameReal(gather) => (None, gather.number(&mut words)),
            InputSource::FrameRow(..) | InputSource::Held(_) => (None, None),
        };
        loads.push(Load { slot: *slot, from, cut, number, users: program.users(*slot) });
    }
    (loads, words)
}

/// Finds the readings that are affine in one code, and takes out of the program what only they need.
fn take_out_affine(program: &mut Program, loads: &mut Vec<Load>, readings: &mut [ReadingPlan]) {
    for reading in readings.iter_mut() {
        let Some((slot, ty @ (Ty::F32 | Ty::F64))) = program.outputs.get(reading.output).copied() else { continue };
        let finite = program.finite.get(reading.output).copied().unwrap_or(false);
        // What else the formula computes, takes or needs may be at fault, though it does not go into the value.
        let fails = program.ops.iter().any(|op| op.owner as usize == reading.output && !op.safe);
        let needs = program.needs.get(reading.output).is_some_and(|needs| !needs.is_empty());
        if fails || needs || loads.iter().filter(|load| load.users.iter().any(|one| one.output == reading.output)).count() > 1 {
            continue;
        }
        // A value that is no number is a fault of all that use it, which the program knows.
        if !finite && program.needs.iter().flatten().any(|need| need.output == reading.output) {
            continue;
        }
        let found = affine::find(program, slot);
        reading.affine = found.and_then(|(input, steps)| {
            let load = loads.iter().find(|load| load.slot == input)?;
            let (gather, source) = match &load.from {
                InputSource::Frame(gather, None) if finite && gather.is_plain() => {
                    (gather, Source::Code { cut: load.cut.and_then(Cut::to_real), loaded: Some(load.slot) })
                }
                InputSource::FrameReal(gather) => (gather, Source::Number(load.number)),
                _ => return None,
            };
            let steps = if gather.form() == Form::Float { steps } else { affine::folded(&steps, ty == Ty::F32) };
            Some(Affine::new(gather.clone(), source, &steps, (ty == Ty::F32, finite)))
        });
        if reading.affine.is_some() {
            affine::drop_unused(program, slot, reading.output);
            program.finite.get_mut(reading.output).into_iter().for_each(|finite| *finite = true);
        }
    }
    // An input without effect on the value may be missing too.
    let around: Vec<usize> = readings.iter().filter(|reading| reading.affine.is_some()).map(|reading| reading.output).collect();
    loads.retain(|load| affine::is_used(program, load.slot) || load.users.iter().any(|one| !around.contains(&one.output)));
    for affine in readings.iter_mut().filter_map(|reading| reading.affine.as_mut()) {
        if let Source::Code { loaded, .. } = &mut affine.source {
            *loaded = loaded.filter(|slot| loads.iter().any(|load| load.slot == *slot));
        }
    }
}

/// The bounds of an input.
pub(crate) fn bounds(part: &Sheet, key: InputKey) -> Interval {
    let everything = Interval::Real(f64::NEG_INFINITY, f64::INFINITY);
    match Input::of(key) {
        Input::Code(code) => match part.codes.get(code) {
            Some(code) if code.layout.form == Form::Float => everything,
            Some(code) if code.ty == Ty::F64 => {
                let ((low, high), width) = (code.bounds(), code.layout.width());
                let real = |bits: i128| code.layout.form.read_real(code.layout.form.write(bits, width), width).unwrap_or(0.0);
                Interval::Real(real(low), real(high))
            }
            Some(code) => Interval::Int(code.bounds().0, code.bounds().1),
            None => Interval::Int(0, 0),
        },
        Input::Reading(_) | Input::Quantity(_) => everything,
        Input::Came(id) | Input::Before(id) => part.readings.get(id).map_or(everything, |reading| Interval::all(reading.ty_in_derived())),
        Input::Elapsed => Interval::Real(0.0, f64::INFINITY),
        Input::Parameter(parameter) => match part.parameters.get(parameter) {
            Some(parameter) => {
                parameter.range.map_or(Interval::Real(parameter.default, parameter.default), |(low, high)| Interval::Real(low, high))
            }
            None => everything,
        },
        Input::Field(field) => match part.fields.get(field) {
            Some(field) if field.is_real() => everything,
            Some(field) => Interval::Int(field.bounds().0, field.bounds().1),
            None => Interval::Int(0, 0),
        },
        Input::Column(field, column) => {
            let Some(field) = part.fields.get(field) else { return everything };
            let numbers = || field.values.iter().filter_map(|row| row.columns.get(column).copied().flatten());
            let (low, high) = (numbers().fold(f64::INFINITY, f64::min), numbers().fold(f64::NEG_INFINITY, f64::max));
            if field.columns.get(column).is_some_and(|column| column.whole) {
                Interval::Int(low as i128, high as i128)
            } else {
                Interval::Real(low, high)
            }
        }
    }
}

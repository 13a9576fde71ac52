//! Bytes of a frame for the state of the physical world.

use std::cell::Cell;
use std::fmt;

use super::acquire::Acquisition;
use super::scene::{Flag, Flags, Scene};
use super::search::solve;
use super::thresholds::Thresholds;
use crate::bits::form::Form;
use crate::formula::typed::Formula;
use crate::ground::list::List;
use crate::ground::words::with_unit;
use crate::model::example::Expected;
use crate::model::frame::{Code, Frame, Origin};
use crate::model::ids::{CodeId, FieldId, FrameId, ReadingId};
use crate::model::input::{Input, inputs};
use crate::model::part::Sheet;
use crate::model::reading::{Condition, Reading};
use crate::model::registers::Access;
use crate::model::state::State;
use crate::model::status::Status;
use crate::model::value::{Eval, Present};
use crate::plan::accept;
use crate::plan::judge::judged;

/// How the bytes of one frame are made.
#[derive(Clone, Debug)]
pub(super) struct Recipe {
    /// A good frame, from the sheet's worked examples where they have one.
    base: Vec<u8>,
    /// The readings that can be put into codes of the frame, in order, with those codes.
    solve: Vec<Solve>,
    /// What status bits are when the data are good.
    ready: Flags,
    /// Codes without new data; `None` if they do not differ.
    waiting: Option<Flags>,
    /// Codes in an alert, if the frame shows it.
    alert: Option<Flags>,
    /// Thresholds of its readings.
    pub(super) thresholds: Thresholds,
}

/// A reading, and the codes that it is put into.
#[derive(Clone, Debug)]
struct Solve {
    reading: ReadingId,
    codes: Vec<CodeId>,
    eval: Eval,
}

/// A signal that the frame cannot say.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Miss {
    /// The reading.
    pub reading: ReadingId,
    /// Its name.
    pub name: String,
    /// Its unit.
    pub unit: String,
    /// Wanted value, in the reading's unit.
    pub wanted: f64,
    /// The nearest that its codes can say; `None` where they can say nothing, or its status withholds it.
    pub nearest: Option<f64>,
}

impl Miss {
    fn new(part: &Sheet, reading: ReadingId, wanted: f64, nearest: Option<f64>) -> Self {
        let model = &part.readings[reading];
        Self { reading, name: model.name.clone(), unit: model.unit.clone(), wanted, nearest }
    }
}

impl fmt::Display for Miss {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Miss { name, unit, wanted, nearest, .. } = self;
        write!(f, "{name} cannot be {} with these settings: ", with_unit(wanted, unit))?;
        match nearest {
            Some(nearest) => write!(f, "the nearest is {}", with_unit((nearest * 1e6).round() / 1e6, unit)),
            None => f.write_str("it has no value there"),
        }
    }
}

/// Present content of a part's frames.
pub(super) struct Held<'a> {
    pub(super) part: &'a Sheet,
    pub(super) state: &'a State,
}

impl Held<'_> {
    fn scene(&self, frame: FrameId, bytes: Vec<u8>) -> Scene<'_> {
        Scene { part: self.part, frame, bytes, state: self.state.clone() }
    }
}

/// A frame that was put together.
pub(super) struct Composed {
    pub(super) bytes: Vec<u8>,
    /// The registers with it.
    pub(super) state: State,
    /// Signals that it cannot say.
    pub(super) misses: Vec<Miss>,
    /// The bits that signals were put into.
    pub(super) said: Vec<u8>,
}

impl Recipe {
    /// The good frame without any signal.
    pub(super) fn base(&self) -> &[u8] {
        &self.base
    }

    pub(super) fn new(held: &Held<'_>, id: FrameId, frame: &Frame, acquisition: Option<&Acquisition>) -> Self {
        let part = held.part;
        let base = whole(held, id, frame, base(held, id, frame));
        let thresholds = Thresholds::new(part, &frame.readings);
        let (solve, ready) = (Vec::new(), Vec::new());
        let mut recipe = Recipe { base, solve, ready, waiting: None, alert: None, thresholds };
        if !frame.keep {
            recipe.solve = solve_order(part, id, frame);
        }
        let solved: Vec<CodeId> = recipe.solve.iter().flat_map(|solve| solve.codes.iter().copied()).collect();
        recipe.thresholds.flagged = flags(part, id, frame, &solved, recipe.thresholds.formulas());
        let poll = acquisition.and_then(|acquisition| acquisition.poll.as_ref()).map(|(condition, _)| condition);
        let conditions: Vec<&Condition> =
            frame.status.iter().chain(part.readings.of(&frame.readings).flat_map(|reading| &reading.status)).collect();
        let flags = flags(part, id, frame, &solved, conditions.iter().map(|condition| &condition.formula).chain(poll));
        let decided =
            |condition: &&&Condition| inputs(&condition.formula).any(|input| flags.iter().any(|flag| is_flag(part, *flag, input)));
        let decided: Vec<&Condition> = conditions.iter().filter(decided).copied().collect();
        let truth = |present: &Present<'_>, formula: &Formula| present.compute(formula).is_ok_and(|value| value != 0.0);
        // Of those that hold, the one that a decoder would tell.
        let status = |present: &Present<'_>| {
            let holding: Vec<(usize, Status)> = decided
                .iter()
                .enumerate()
                .filter(|(_, condition)| truth(present, &condition.formula))
                .map(|(at, condition)| (at, condition.status))
                .collect();
            Some(judged(holding.into_iter(), false).0).filter(|status| *status != Status::Ok)
        };
        let polled = |present: &Present<'_>| poll.is_none_or(|poll| truth(present, poll));
        let scene = held.scene(id, recipe.base.clone());
        recipe.ready = scene.flags_with(&flags, &|present| status(present).is_none() && polled(present)).unwrap_or_default();
        let mut good = scene.clone();
        good.put(&recipe.ready);
        let tells = decided.iter().any(|condition| condition.status == Status::NotReady);
        if tells || poll.is_some() {
            let waits =
                |present: &Present<'_>| (!tells || status(present) == Some(Status::NotReady)) && (poll.is_none() || !polled(present));
            recipe.waiting = good.flags_with(&flags, &waits);
        }
        if decided.iter().any(|condition| condition.status == Status::Alert) {
            recipe.alert = good.flags_with(&flags, &|present| status(present) == Some(Status::Alert) && polled(present));
        }
        recipe
    }

    /// Whether the frame shows that there is nothing new.
    pub(super) fn shows_waiting(&self) -> bool {
        self.waiting.is_some()
    }

    /// The flags of a state.
    pub(super) fn flags(&self, waiting: bool) -> &[(Flag, i128)] {
        if waiting { self.waiting.as_deref().unwrap_or(&self.ready) } else { &self.ready }
    }

    /// The flags of an alert.
    pub(super) fn alert_flags(&self) -> &[(Flag, i128)] {
        self.alert.as_deref().unwrap_or(&[])
    }

    /// The readings whose value decides over codes of the frame.
    pub(super) fn readings(&self) -> impl Iterator<Item = ReadingId> + '_ {
        self.solve.iter().map(|solve| solve.reading)
    }

    /// The frame that says these values, and the registers with it. A value that is `None` stays as in the sheet's example.
    pub(super) fn compose(
        &mut self,
        held: &Held<'_>,
        frame: FrameId,
        (waiting, alert): (bool, bool),
        wanted: &mut dyn FnMut(ReadingId) -> Option<f64>,
    ) -> Composed {
        let mut scene = held.scene(frame, self.base.clone());
        let good = self.ready.clone();
        scene.put(&good);
        let (mut misses, mut taken) = (Vec::new(), Vec::new());
        let mut asked = Vec::new();
        for Solve { reading, codes, eval } in &mut self.solve {
            let Some(value) = wanted(*reading).filter(|_| scene.is_valid(*reading)) else { continue };
            asked.push((*reading, value));
            let free: Vec<CodeId> =
                codes.iter().copied().filter(|code| !taken.iter().any(|other| shares_bits(held.part, *code, *other))).collect();
            let found = solve(eval, &scene, &free, value);
            if found.as_ref().is_none_or(|found| !found.hits(value)) {
                // Without codes of its own it is what others make it.
                let nearest = found.as_ref().map(|found| found.value).or_else(|| eval.value(&scene.present()).ok());
                misses.push(Miss::new(held.part, *reading, value, nearest));
            }
            for (code, number) in found.into_iter().flat_map(|found| found.codes) {
                scene.put_code(code, number);
                taken.push(code);
            }
        }
        scene.put(self.flags(waiting));
        if !waiting {
            if alert && !self.thresholds.shows() {
                scene.put(self.alert_flags());
            }
            let flags = self.thresholds.flags(&scene);
            scene.put(&flags);
            for (reading, wanted) in asked {
                if !misses.iter().any(|miss| miss.reading == reading) && (scene.withholds(reading) || scene.cuts(reading)) {
                    misses.push(Miss::new(held.part, reading, wanted, None));
                }
            }
        }
        let Scene { mut bytes, mut state, .. } = scene;
        // The frame comes when it is whole.
        state.replace_frame(frame, held.state.frame(frame).map(<[u8]>::to_vec));
        if let Some(model) = held.part.frames.get(frame) {
            model.checks.iter().for_each(|check| check.seal(&mut bytes));
        }
        let mut said = vec![0; bytes.len()];
        for slice in taken.iter().flat_map(|code| &held.part.codes[*code].layout.slices) {
            said.get_mut(slice.byte).into_iter().for_each(|byte| *byte |= slice.mask());
        }
        Composed { bytes, state, misses, said }
    }
}

/// Bytes of a good frame: of a worked example with values for all readings, otherwise zeros, or those of the registers.
fn base(held: &Held<'_>, id: FrameId, frame: &Frame) -> Vec<u8> {
    let part = held.part;
    let mut candidates: Vec<(usize, Vec<u8>)> = Vec::new();
    for example in part.examples.iter().filter(|example| example.refused.is_none()) {
        for (_, bytes) in example.frames.iter().filter(|(of, _)| *of == id) {
            let Ok(bytes) = accept::unwrapped(part, frame, bytes) else { continue };
            let mut bytes = bytes.into_owned();
            if bytes.len() > frame.length || (bytes.len() < frame.length && frame.counted.is_none()) {
                continue;
            }
            bytes.resize(frame.length, 0);
            let statuses = example.gives.iter().filter(|(_, expected, _)| matches!(expected, Expected::Status(_))).count();
            candidates.push((statuses, bytes));
        }
    }
    candidates.sort_by_key(|(statuses, _)| *statuses);
    match (candidates.into_iter().next(), &frame.origin) {
        (Some((_, bytes)), _) => bytes,
        (None, Origin::Registers(runs)) => {
            let registers = part.registers.of(runs.iter().flatten());
            registers.flat_map(|register| register.wire_bytes(held.state.register(register))).collect()
        }
        (None, _) => {
            let mut bytes = vec![0; frame.length];
            // Codes with a stated range are in the middle of it.
            let mut scene = held.scene(id, bytes.clone());
            for (code, model) in frame.codes.iter().filter_map(|code| Some((*code, part.codes.get(*code)?))) {
                if let Some((low, high)) = model.range {
                    scene.put_code(code, low + (high - low) / 2);
                }
            }
            bytes.clone_from(&scene.bytes);
            frame.checks.iter().for_each(|check| check.seal(&mut bytes));
            bytes
        }
    }
}

/// A frame of changing length with as many bytes as its own codes can say.
fn whole(held: &Held<'_>, id: FrameId, frame: &Frame, base: Vec<u8>) -> Vec<u8> {
    let Some(counted) = &frame.counted else { return base };
    let own = inputs(counted).filter_map(|input| if let Input::Code(code) = input { Some(Flag::Code(code)) } else { None });
    let mut scene = held.scene(id, base);
    let own: Vec<Flag> = own.collect();
    let length = |present: &Present<'_>| present.compute(counted).ok().filter(|length| *length <= frame.length as f64);
    let most = Cell::new(None);
    let is_all = |present: &Present<'_>| {
        most.set(length(present).into_iter().chain(most.get()).reduce(f64::max));
        most.get() == Some(frame.length as f64)
    };
    let flags = scene.flags_with(&own, &is_all);
    if let Some(flags) = flags.or_else(|| scene.flags_with(&own, &|present| most.get().is_some() && length(present) == most.get())) {
        scene.put(&flags);
    }
    scene.bytes
}

/// True if a code is a field that the part does not change, or is in a register that the client writes.
fn set_by_client(part: &Sheet, code: CodeId) -> bool {
    let code = &part.codes[code];
    let Some(field) = code.field else { return is_in_written(part, code) };
    // What cannot be read, or means nothing, says nothing either.
    let access = part.fields[field].access;
    (access.holds_value() || access == Access::Reserved) && !is_reported(part, field)
}

/// True if a code of a frame of registers has bits of one that the client writes.
fn is_in_written(part: &Sheet, code: &Code) -> bool {
    let Origin::Registers(runs) = &part.frames[code.frame].origin else { return false };
    let registers = runs.iter().flatten().map(|id| &part.registers[*id]);
    let written: Vec<bool> = registers.flat_map(|register| vec![register.access.is_writable(); register.bytes]).collect();
    code.layout.slices.iter().any(|slice| written.get(slice.byte).copied().unwrap_or(false))
}

/// Whether two codes of a frame share bits.
fn shares_bits(part: &Sheet, one: CodeId, other: CodeId) -> bool {
    let slices = |code: CodeId| &part.codes[code].layout.slices;
    one == other || slices(one).iter().any(|slice| slices(other).iter().any(|other| slice.overlaps(*other)))
}

/// True if the client decides over a field, and not the part alone.
pub(super) fn is_set_by_client(part: &Sheet, field: FieldId) -> bool {
    part.fields[field].access.is_writable() && !is_reported(part, field)
}

/// True if all registers of a field are read-only. What no register holds is set by the client.
fn is_reported(part: &Sheet, field: FieldId) -> bool {
    !part.is_unstored(field) && part.homes(field).all(|home| part.registers.get(home).is_some_and(|home| !home.access.is_writable()))
}

/// The codes that each reading can be put into: readings with one code first.
fn solve_order(part: &Sheet, id: FrameId, frame: &Frame) -> Vec<Solve> {
    let own = |reading: &Reading| -> Vec<CodeId> {
        let here =
            |code: &CodeId| part.codes[*code].frame == id && part.codes[*code].layout.form != Form::Text && !set_by_client(part, *code);
        reading.codes.iter().copied().filter(here).collect()
    };
    let measured = frame.readings.iter().map(|id| (*id, &part.readings[*id])).filter(|(_, reading)| reading.is_measured());
    let mut order: Vec<Solve> = measured
        .map(|(id, reading)| Solve { reading: id, codes: own(reading), eval: Eval::of_formula(part, &reading.formula) })
        .filter(|solve| !solve.codes.is_empty())
        .collect();
    order.sort_by_key(|solve| solve.codes.len());
    order
}

/// The flags that conditions are about: codes of the frame, and fields of registers that the part alone changes.
fn flags<'f>(part: &Sheet, id: FrameId, frame: &Frame, solved: &[CodeId], formulas: impl Iterator<Item = &'f Formula>) -> Vec<Flag> {
    let mut found = Vec::new();
    for input in formulas.flat_map(inputs) {
        let flag = match input {
            Input::Code(code) if part.codes[code].frame == id => {
                // A setting of the client is not a flag of the part.
                if set_by_client(part, code) {
                    continue;
                }
                Flag::Code(code)
            }
            Input::Field(field) => {
                // A field that comes with the frame is a code of it.
                let is_it = |code: &&CodeId| part.codes.get(**code).is_some_and(|code| code.field == Some(field));
                let own = part.fields.get(field).is_some_and(|field| !field.access.is_writable());
                match frame.codes.iter().find(is_it) {
                    Some(code) if set_by_client(part, *code) => continue,
                    Some(code) => Flag::Code(*code),
                    None if own || is_reported(part, field) => Flag::Field(field),
                    None => continue,
                }
            }
            _ => continue,
        };
        let solved = matches!(flag, Flag::Code(code) if solved.iter().any(|solved| shares_bits(part, code, *solved)));
        if !solved && !found.contains(&flag) {
            found.push(flag);
        }
    }
    found
}

fn is_flag(part: &Sheet, flag: Flag, input: Input) -> bool {
    match (flag, input) {
        (Flag::Code(code), Input::Code(other)) => code == other,
        (Flag::Field(field), Input::Field(other)) => field == other,
        (Flag::Code(code), Input::Field(field)) => part.codes.get(code).is_some_and(|code| code.field == Some(field)),
        _ => false,
    }
}

/// The number in a column of that name, beside the present value of the first field that has one.
pub(super) fn column(part: &Sheet, settings: &State, name: &str) -> Option<f64> {
    part.fields.iter().find_map(|field| {
        let at = field.columns.position(|column| column.name == name)?;
        field.value(settings.field(field))?.columns.get(at).copied().flatten()
    })
}

/// One list for each frame.
pub(super) type Recipes = List<FrameId, Recipe>;

//! The bytes of a frame that say what the physical world is.

use std::cmp::Reverse;

use super::acquire::Acquisition;
use super::search::{Flag, Flags, Scene, code_for};
use crate::formula::typed::Formula;
use crate::ground::list::List;
use crate::model::example::Expected;
use crate::model::frame::{Frame, Origin};
use crate::model::ids::{CodeId, FieldId, FrameId, QuantityId, ReadingId};
use crate::model::input::{Input, inputs};
use crate::model::operation::Alert;
use crate::model::part::Sheet;
use crate::model::reading::Condition;
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
    /// The codes that readings are put into, in order.
    solve: Vec<(ReadingId, CodeId, Eval)>,
    /// What status bits are when the data are good.
    ready: Flags,
    /// What they are while the part has nothing new; `None` where it does not show.
    waiting: Option<Flags>,
    /// What they are in an alert, where the frame tells of one.
    alert: Option<Flags>,
    /// Thresholds of its readings: which way the alert goes, and where it ends.
    limits: Vec<Threshold>,
}

/// A threshold that raises the alert.
#[derive(Clone, Debug)]
struct Threshold {
    reading: ReadingId,
    limit: QuantityId,
    side: Alert,
    /// It ends beyond this one, on the other side.
    ends: Option<QuantityId>,
}

/// What the frames of a part hold now.
pub(super) struct Held<'a> {
    pub(super) part: &'a Sheet,
    pub(super) state: &'a State,
}

impl Held<'_> {
    fn scene(&self, frame: FrameId, bytes: Vec<u8>) -> Scene<'_> {
        Scene { part: self.part, frame, bytes, state: self.state.clone() }
    }
}

impl Recipe {
    pub(super) fn new(held: &Held<'_>, id: FrameId, frame: &Frame, acquisition: Option<&Acquisition>) -> Self {
        let part = held.part;
        let base = base(held, id, frame);
        let mut recipe =
            Recipe { base, solve: Vec::new(), ready: Vec::new(), waiting: None, alert: None, limits: limits(part, &frame.readings) };
        if !frame.keep {
            recipe.solve = solve_order(part, id, frame);
        }
        let solved: Vec<CodeId> = recipe.solve.iter().map(|(_, code, _)| *code).collect();
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
        self.solve.iter().map(|(reading, ..)| *reading)
    }

    /// The bytes of a frame that says these values, and the registers with them. A value that is `None` stays as in the sheet's
    /// example.
    pub(super) fn compose(
        &mut self,
        held: &Held<'_>,
        frame: FrameId,
        waiting: bool,
        alert: bool,
        wanted: &mut dyn FnMut(ReadingId) -> Option<f64>,
    ) -> (Vec<u8>, State) {
        let mut scene = held.scene(frame, self.base.clone());
        let good = self.ready.clone();
        scene.put(&good);
        for (reading, code, eval) in &mut self.solve {
            let Some(value) = wanted(*reading) else { continue };
            if let Some(found) = code_for(eval, scene.present(), *code, value) {
                scene.put_code(*code, found);
            }
        }
        scene.put(self.flags(waiting));
        if alert && !waiting {
            scene.put(self.alert_flags());
        }
        let Scene { mut bytes, mut state, .. } = scene;
        // The frame comes when it is whole.
        state.replace_frame(frame, held.state.frame(frame).map(<[u8]>::to_vec));
        if let Some(model) = held.part.frames.get(frame) {
            model.checks.iter().for_each(|check| check.seal(&mut bytes));
        }
        (bytes, state)
    }

    /// Whether the alert is raised by these values; `before` is what it was.
    pub(super) fn alert(&self, held: &Held<'_>, before: bool, value: &mut dyn FnMut(ReadingId) -> Option<f64>) -> bool {
        let present = Present { part: held.part, state: held.state };
        let mut raised = false;
        for threshold in &self.limits {
            let (Some(value), Ok(limit)) = (value(threshold.reading), present.quantity(threshold.limit)) else { continue };
            let beyond = |limit: f64| if threshold.side == Alert::Above { value > limit } else { value < limit };
            let ends = threshold.ends.and_then(|ends| present.quantity(ends).ok()).unwrap_or(limit);
            raised |= beyond(limit) || (before && beyond(ends));
        }
        raised
    }
}

/// The thresholds of some readings that the sheet says raise an alert.
fn limits(part: &Sheet, readings: &[ReadingId]) -> Vec<Threshold> {
    let of_reading = |id: QuantityId| part.quantities.get(id).and_then(|quantity| quantity.through).map(|(reading, _)| reading);
    let mut found = Vec::new();
    for (id, quantity) in part.quantities.entries() {
        let (Some(side), Some(reading)) = (quantity.alert, of_reading(id).filter(|reading| readings.contains(reading))) else { continue };
        // The alert ends at the threshold that is kept apart from this one.
        let partner = part.quantities.entries().find(|(_, other)| other.not_below == Some(id)).map(|(other, _)| other);
        let ends = quantity.not_below.or(partner).filter(|other| part.quantities.get(*other).is_some_and(|other| other.alert.is_none()));
        found.push(Threshold { reading, limit: id, side, ends });
    }
    found
}

/// Bytes of a good frame: of a worked example whose readings all have values, else zeros, or what the registers hold.
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
            // Codes that the sheet narrows are in the middle of what it allows.
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

/// True if a code is a field that the client sets.
fn set_by_client(part: &Sheet, code: CodeId) -> bool {
    let Some(field) = part.codes.get(code).and_then(|code| code.field) else { return false };
    part.fields.get(field).is_some_and(|field| field.access == Access::ReadWrite) && !is_reported(part, field)
}

/// True if all registers of a field are read-only.
fn is_reported(part: &Sheet, field: FieldId) -> bool {
    part.homes(field).all(|home| part.registers.get(home).is_some_and(|home| !home.access.is_writable()))
}

/// Which code each reading is put into: those with one code first, each code once.
fn solve_order(part: &Sheet, id: FrameId, frame: &Frame) -> Vec<(ReadingId, CodeId, Eval)> {
    let own = |reading: ReadingId| -> Vec<CodeId> {
        let codes = part.readings.get(reading).map_or(&[] as &[CodeId], |reading| &reading.codes);
        codes
            .iter()
            .copied()
            .filter(|code| part.codes.get(*code).is_some_and(|code| code.frame == id) && !set_by_client(part, *code))
            .collect()
    };
    let mut readings: Vec<(ReadingId, Vec<CodeId>)> = frame.readings.iter().map(|reading| (*reading, own(*reading))).collect();
    // What is a reading comes before what readings share.
    readings
        .sort_by_key(|(reading, codes)| (codes.len(), Reverse(part.readings.get(*reading).is_some_and(|reading| reading.is_measured()))));
    let mut taken: Vec<CodeId> = Vec::new();
    let mut order = Vec::new();
    for (reading, codes) in readings {
        let width = |code: &CodeId| part.codes.get(*code).map_or(0, |code| code.layout.width());
        let free = codes.into_iter().filter(|code| !taken.contains(code));
        let Some((code, model)) = free.max_by_key(width).zip(part.readings.get(reading).filter(|reading| reading.is_measured())) else {
            continue;
        };
        taken.push(code);
        order.push((reading, code, Eval::of_formula(part, &model.formula)));
    }
    order
}

/// The flags that conditions are about: codes of the frame, and fields of registers that the part alone changes.
fn flags<'f>(part: &Sheet, id: FrameId, frame: &Frame, solved: &[CodeId], formulas: impl Iterator<Item = &'f Formula>) -> Vec<Flag> {
    let mut found = Vec::new();
    for input in formulas.flat_map(inputs) {
        let flag = match input {
            Input::Code(code) if !solved.contains(&code) && part.codes.get(code).is_some_and(|code| code.frame == id) => {
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
        if !found.contains(&flag) {
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

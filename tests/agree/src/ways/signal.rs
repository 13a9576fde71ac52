//! A signal at a stand-in becomes bytes, and those the reading: within one step, or the stand-in says why it cannot.

use yemdo::part::{Action, Code, Frame, Origin, Register, Step};
use yemdo::stand_in::{Rule, Signal, StandIn};
use yemdo::{Decoder, FieldId, FrameId, Part, ReadingId, Status};
use yemdo_bus::{Device, Rig, RigPort};

use super::{Row, Tally};
use crate::cases;
use crate::choices::Choices;

/// Signals that are tried with each part.
const SIGNALS: usize = 6;

/// Values that frames can have, given as signals.
pub fn signals(part: &Part, c: &mut Choices<'_>, tally: &mut Tally) {
    // A client that does not wait as the sheet says reads old data.
    let waits = |step: &Step| matches!(step.action, Action::Poll { .. } | Action::Line { .. });
    if part.routines().iter().any(|routine| routine.name() != "measure" && routine.steps().iter().any(waits)) {
        return;
    }
    let Some((mut device, _)) = bench(part, None) else { return };
    if device.measure().is_err() {
        return;
    }
    let frames: Vec<FrameId> = part.frames().entries().filter(|(_, frame)| !frame.is_kept()).map(|(id, _)| id).collect();
    for _ in 0..SIGNALS {
        let Some(frame) = c.any(&frames).copied() else { return };
        let bytes = cases::frame(c, part, frame);
        let mut decoder = device.decoder().clone();
        let Ok(decoded) = decoder.decode(frame, &bytes) else { continue };
        let good = |id: ReadingId| part.readings()[id].is_measured();
        let shown: Vec<_> = decoded.readings.iter().filter(|reading| reading.value.is_some() && good(reading.id)).collect();
        let Some(reading) = c.any(&shown) else { continue };
        let Some(value) = reading.value else { continue };
        one(part, (frame, &bytes), reading.id, value, &decoder, tally);
    }
}

fn bench(part: &Part, signal: Option<(ReadingId, f64)>) -> Option<(Device<RigPort>, Rig)> {
    let bus = part.buses().all().next()?;
    let mut stand_in = StandIn::new(part, 4).ok()?;
    if let Some((reading, value)) = signal {
        stand_in.set(reading, Signal::constant(value)).ok()?;
    }
    let rig = Rig::new();
    let place = rig.add(stand_in);
    Some((Device::new(rig.port(place, bus), part.clone(), bus).ok()?, rig))
}

fn one(part: &Part, (frame, bytes): (FrameId, &[u8]), reading: ReadingId, value: f64, decoder: &Decoder, tally: &mut Tally) {
    let Some((mut device, rig)) = bench(part, Some((reading, value))) else { return };
    let Ok(measured) = device.measure() else { return };
    let name = part.readings()[reading].name();
    let Ok(got) = measured.reading(name) else { return };
    // The client lacks a setting.
    if matches!(got.status, Status::FormulaFault | Status::Waiting) {
        return;
    }
    // The part is in another mode than the reading needs.
    let now = |field: FieldId| device.state().known_field(&part.fields()[field]);
    let frames = part.frames().of(part.readings()[reading].frames()).flat_map(|frame| frame.valid_while());
    if part.readings()[reading].valid_while().iter().chain(frames).any(|(field, code)| now(*field) != Some(*code)) {
        return;
    }
    // The client or another frame changes bits of the reading's codes: `measure` clears or sets them, or a frame is valid only with them.
    if is_changed(part, reading) {
        return;
    }
    // Nothing was measured, and the part says so.
    if rig.verdict().iter().any(|(_, violation)| matches!(violation.rule, Rule::NotStarted | Rule::ReadTooEarly)) {
        return;
    }
    let misses = rig.with_part(0, |part| part.misses().to_vec()).unwrap_or_default();
    let missed = misses.iter().find(|miss| miss.reading == reading);
    let mut step = step(part, frame, bytes, reading, value, decoder);
    // Several codes may have found another way to nearly the same value.
    if let (Some(own), Some(got)) = (measured.frames.iter().find(|own| own.decoded().frame == frame), got.value) {
        step = step.max(self::step(part, frame, own.bytes(), reading, got, device.decoder()));
    }
    let hit = got.value.is_some_and(|got| (got - value).abs() <= step.max(value.abs() * 1e-9));
    tally.hold(Row::Possible, "signals become readings", hit || missed.is_some(), || {
        format!("{name} = {value} of {} became {:?} {:?}, step {step}", yemdo::to_hex(bytes), got.value, got.status)
    });
    // Everything but one code is as it was, and no status withholds it: the value can be had.
    let own: Vec<&Code> = part.codes().of(part.readings()[reading].codes()).collect();
    let of_client = registers(part, &part.frames()[frame]).iter().any(|register| register.access().is_writable());
    // Near the end of the numbers that there are, products lose digits.
    let tiny = value.abs() < 1e-150 && value != 0.0;
    let alone = own.len() == 1 && own[0].frame() == frame && got.value.is_some() && !of_client && !tiny;
    tally.hold(Row::Possible, "signals of one code are never missed", hit || missed.is_none() || !alone, || {
        format!("{name} = {value} of {} became {:?} {:?}, step {step}; {missed:?}", yemdo::to_hex(bytes), got.value, got.status)
    });
}

/// True if a field of a reading's frames is set by `measure`, or is needed by another frame or reading.
fn is_changed(part: &Part, reading: ReadingId) -> bool {
    let own = part.frames().entries().filter(|(id, _)| part.readings()[reading].frames().contains(id));
    let fields: Vec<FieldId> = own.flat_map(|(_, frame)| registers(part, frame)).flat_map(|register| register.fields()).copied().collect();
    let set = part.routines().iter().filter(|routine| routine.name() == "measure").flat_map(|routine| routine.steps());
    let set = set.filter_map(|step| if let Action::Set { fields, .. } = &step.action { Some(fields) } else { None }).flatten();
    let others = part.frames().entries().filter(|(id, _)| !part.readings()[reading].frames().contains(id));
    let needed = others.flat_map(|(_, frame)| frame.valid_while());
    let beside = part.readings().entries().filter(|(id, _)| *id != reading).flat_map(|(_, other)| other.valid_while());
    set.chain(needed).chain(beside).any(|(field, _)| fields.contains(field))
}

fn registers<'p>(part: &'p Part, frame: &'p Frame) -> Vec<&'p Register> {
    match frame.origin() {
        Origin::Registers(runs) => part.registers().of(runs.iter().flatten()).collect(),
        _ => Vec::new(),
    }
}

/// By how much one more or less in one of its codes changes a reading.
fn step(part: &Part, frame: FrameId, bytes: &[u8], reading: ReadingId, value: f64, decoder: &Decoder) -> f64 {
    let mut most = 0.0f64;
    for code in part.codes().of(part.readings()[reading].codes()).filter(|code| code.frame() == frame) {
        let Some(now) = cases::code_in(code.layout(), bytes) else { continue };
        for next in [now - 1, now + 1] {
            let mut other = bytes.to_vec();
            cases::put_code(code.layout(), &mut other, next);
            cases::seal(part, frame, &mut other);
            let decoded = decoder.clone().decode(frame, &other);
            let found = decoded.ok().and_then(|decoded| decoded.readings.iter().find(|other| other.id == reading)?.value);
            most = found.map_or(most, |found| most.max((found - value).abs()));
        }
    }
    most
}

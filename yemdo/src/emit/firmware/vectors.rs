//! Frames with expected readings, to compare a module with the decoder on any machine.
//!
//! They are records of bytes, high byte first: `S` and the members of the settings; `P` and the parameters; `F`, the number of
//! the frame, how many bytes came (two bytes), the bytes, whether they are taken, and for every reading its status, and its value
//! in eight bytes: the bits of a real number, or an integer.

use super::build::feeds_others;
use super::code::{FrameCalls, Role, Type};
use super::vectors_c::c;
use super::vectors_python::python;
use super::vectors_rust::rust;
use super::{Firmware, FirmwareOptions, Language};
use crate::decode::{Decoder, FrameValues};
use crate::ground::number::Ty;
use crate::ground::random::Random;
use crate::model::part::Part;
use crate::model::registers::Access;
use crate::model::state::State;

/// A structure's members as they are recorded.
pub(super) struct Layouts {
    pub(super) settings: Vec<(String, Ty)>,
    pub(super) parameters: Vec<String>,
}

pub(super) fn layouts(firmware: &Firmware) -> Layouts {
    let of = |role: Role| firmware.module.of_role(role).map_or(&[][..], |one| one.members.as_slice());
    let number = |ty: &Type| if let Type::Num(ty) = ty { *ty } else { Ty::U8 };
    Layouts {
        settings: of(Role::Settings).iter().map(|member| (member.name.clone(), number(&member.ty))).collect(),
        parameters: of(Role::Parameters).iter().map(|member| member.name.clone()).collect(),
    }
}

/// Records of `count` random frames, after the corner cases of all frames.
pub(super) fn records(part: &Part, firmware: &Firmware, options: &FirmwareOptions, seed: u64, count: usize) -> Vec<u8> {
    let mut random = Random::new(seed);
    let mut decoder = Decoder::new(part);
    let mut values = FrameValues::new();
    let mut out = Vec::new();
    let frames = firmware.module.frames.as_slice();
    // Kept frames come first, since other readings need them.
    let has_settings = !layouts(firmware).settings.is_empty();
    let has_parameters = !layouts(firmware).parameters.is_empty();
    // The first record has the decoder's assumptions for frames that have been read already.
    if has_settings {
        out.push(b'S');
        put_settings(part, firmware, decoder.state(), &mut out);
    }
    let mut order: Vec<(usize, &FrameCalls)> = frames.iter().enumerate().collect();
    order.sort_by_key(|(_, calls)| !part.frames.get(calls.frame).is_some_and(|frame| frame.keep));
    for (index, calls) in &order {
        frame(part, firmware, *index, calls, &mut decoder, &mut values, &mut random, Kind::Likely, options, &mut out);
    }
    let mut made = 0;
    while made < count {
        match random.below(24) {
            0 if has_settings => settings(part, firmware, &mut decoder, &mut random, &mut out),
            1 if has_parameters => parameters(part, options, &mut decoder, &mut random, &mut out),
            other => {
                let Some((index, calls)) = frames
                    .get(random.below(frames.len()))
                    .map(|calls| (calls.frame, calls))
                    .and_then(|(id, calls)| Some((frames.iter().position(|other| other.frame == id)?, calls)))
                else {
                    break;
                };
                let kind = match other {
                    2..=4 => Kind::Corner,
                    5..=9 => Kind::Any,
                    10 => Kind::Broken,
                    _ => Kind::Likely,
                };
                frame(part, firmware, index, calls, &mut decoder, &mut values, &mut random, kind, options, &mut out);
                made += 1;
            }
        }
    }
    out
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    /// Every code is one that the datasheet allows.
    Likely,
    /// All codes are at an end of their range, or near zero.
    Corner,
    /// All bits are random; the checks are right.
    Any,
    /// The same, and the checks are as they come.
    Broken,
}

#[allow(clippy::too_many_arguments)] // what one record is made from
fn frame(
    part: &Part,
    firmware: &Firmware,
    index: usize,
    calls: &FrameCalls,
    decoder: &mut Decoder,
    values: &mut FrameValues,
    random: &mut Random,
    kind: Kind,
    options: &FirmwareOptions,
    out: &mut Vec<u8>,
) {
    let Some(model) = part.frames.get(calls.frame) else { return };
    let mut bytes: Vec<u8> = (0..model.length).map(|_| random.bits() as u8).collect();
    if matches!(kind, Kind::Likely | Kind::Corner) {
        for code in part.codes.of(&model.codes).filter(|code| code.layout.width() <= 64) {
            let (low, high) = code.bounds();
            let wanted = match (kind, random.below(5)) {
                (Kind::Corner, 0) => low,
                (Kind::Corner, 1) => high,
                (Kind::Corner, 2) => 0.clamp(low, high),
                (Kind::Corner, 3) => 1.clamp(low, high),
                _ => low + i128::from(random.bits()) % (high - low + 1).max(1),
            };
            let form = code.layout.form;
            let raw = match form {
                // Numbers, and seldom something else.
                crate::bits::form::Form::Float if code.layout.width() == 32 && random.below(8) > 0 => {
                    u64::from(((random.bits() as i32) as f32 / 65536.0).to_bits())
                }
                crate::bits::form::Form::Float if random.below(8) > 0 => ((random.bits() as i64) as f64 / 1e12).to_bits(),
                crate::bits::form::Form::Float => random.bits(),
                form => form.write(wanted, code.layout.width()),
            };
            crate::bits::gather::scatter(&mut bytes, &code.layout.slices, raw);
        }
    }
    if kind == Kind::Corner && random.below(16) == 0 {
        bytes.fill(if random.below(2) == 0 { 0x00 } else { 0xFF });
    }
    if kind != Kind::Broken {
        for check in &model.checks {
            check.seal(&mut bytes);
        }
    }
    // A frame that says how long it is, is so long, but now and then.
    let mut given = model.length;
    if calls.counted {
        let said = decoder.frame_bytes(calls.frame, &bytes);
        given = match said {
            Ok((_, count)) => count,
            Err(crate::plan::accept::Refusal::Length { expected, .. }) => expected,
            Err(_) => random.below(model.length + 1),
        };
        if random.below(20) == 0 {
            given = random.below(model.length + 1);
        }
        bytes.get_mut(given..).unwrap_or_default().fill(0);
    }
    let sent = bytes.get(..given.min(bytes.len())).unwrap_or(&bytes).to_vec();
    // Other frames never use a frame that is not valid (`while`); what a module has of it is the caller's to forget.
    if feeds_others(part, calls.frame) {
        let mut trial = decoder.clone();
        let is_taken = trial.decode_into(calls.frame, &sent, values).is_ok();
        if is_taken && !trial.state().unmet(part, calls.frame).is_empty() {
            return;
        }
    }
    let taken = decoder.decode_into(calls.frame, &sent, values).is_ok();
    out.push(b'F');
    out.push(index as u8);
    out.extend((given as u16).to_be_bytes());
    out.extend(&bytes);
    out.push(u8::from(taken));
    let own = |id| model.readings.iter().position(|reading| *reading == id);
    for (id, ..) in calls.members.iter().filter(|_| taken) {
        let at = own(*id).unwrap_or(0);
        let (status, value) = (values.status(at), values.value(at));
        out.push(status as u8);
        let value = value.unwrap_or(0.0);
        let bits = match options.reals {
            super::Reals::Double => value.to_bits(),
            super::Reals::Single => u64::from((value as f32).to_bits()),
            super::Reals::Integer => value as i64 as u64,
        };
        out.extend(bits.to_be_bytes());
    }
    // Registers that a frame holds are read with it.
    if taken && !model.fields.is_empty() && !layouts(firmware).settings.is_empty() {
        out.push(b'S');
        put_settings(part, firmware, decoder.state(), out);
    }
}

pub(super) fn settings(part: &Part, firmware: &Firmware, decoder: &mut Decoder, random: &mut Random, out: &mut Vec<u8>) {
    for field in part.fields.iter().filter(|field| !field.joined && !matches!(field.access, Access::Reserved)) {
        // Half of the unread fields stay unknown for now.
        if !decoder.state().has_value_of(field) && random.below(2) == 0 {
            continue;
        }
        let code = match field.values.as_slice() {
            [] => field.layout.form.read(random.bits(), field.layout.width()).map(i128::from),
            _ if random.below(16) == 0 => field
                .layout
                .form
                .read(random.bits() & (u64::MAX >> (64 - field.layout.width().clamp(1, 64))), field.layout.width())
                .map(i128::from),
            values => values.get(random.below(values.len())).map(|row| row.code),
        };
        let bits = code.map(|code| field.layout.form.write(code, field.layout.width()));
        if let Some(code) = bits.and_then(|bits| field.layout.form.read(bits, field.layout.width())) {
            decoder.state_mut().set_field(field, i128::from(code));
        }
    }
    out.push(b'S');
    put_settings(part, firmware, decoder.state(), out);
}

fn put_settings(part: &Part, firmware: &Firmware, settings: &State, out: &mut Vec<u8>) {
    for (member, ty) in layouts(firmware).settings {
        let register = part.registers.iter().find(|register| super::bits::register_member(register) == member);
        let field = || part.fields.entries().find(|(id, field)| part.is_unstored(*id) && super::names::snake(&field.name) == member);
        let value = match (firmware.known.value(part, settings, &member), register) {
            (Some(flags), _) => flags,
            (None, Some(register)) => settings.register(register),
            (None, None) => field().map_or(0, |(_, field)| field.layout.form.write(settings.field(field), field.layout.width())),
        };
        let bytes = value.to_be_bytes();
        out.extend(bytes.get(8 - (ty.bits() / 8) as usize..).unwrap_or(&[]));
    }
}

pub(super) fn parameters(part: &Part, options: &FirmwareOptions, decoder: &mut Decoder, random: &mut Random, out: &mut Vec<u8>) {
    out.push(b'P');
    for (id, parameter) in part.parameters.entries() {
        let (low, high) = parameter.range.unwrap_or((parameter.default, parameter.default));
        let share = random.below(1 << 20) as f64 / f64::from(1 << 20);
        let mut value = low + (high - low) * share;
        if options.reals == super::Reals::Single {
            value = f64::from(value as f32).clamp(low, high);
            // The module gets a float.
            let narrow = value as f32;
            value =
                if f64::from(narrow) < low || f64::from(narrow) > high { f64::from(parameter.default as f32) } else { f64::from(narrow) };
        }
        let set = decoder.set_parameter(id, value);
        let value = if set.is_ok() { value } else { decoder.state().parameter(id).unwrap_or(value) };
        out.extend(match options.reals {
            super::Reals::Single => u64::from((value as f32).to_bits()).to_be_bytes(),
            _ => value.to_bits().to_be_bytes(),
        });
    }
}

/// The test of a module against records: a file of its own.
pub(super) fn print(firmware: &Firmware, language: Language, records: &[u8]) -> super::Emitted {
    match language {
        Language::C => c(firmware, records),
        Language::Rust => rust(firmware, records),
        Language::Python => python(firmware, records),
    }
}

/// The numbers that statuses have in the records, and their names.
pub(super) fn statuses(firmware: &Firmware) -> Vec<(u8, super::Name)> {
    firmware.statuses.iter().copied().zip(firmware.status_list()).map(|(status, (name, _))| (status as u8, name)).collect()
}

pub(super) fn table(records: &[u8], open: &str, pad: &str) -> String {
    let mut text = String::from(open);
    for line in records.chunks(16) {
        let bytes: Vec<String> = line.iter().map(|byte| format!("0x{byte:02X}")).collect();
        text.push_str(&format!("{pad}{},\n", bytes.join(", ")));
    }
    text
}

//! Frames with what is to come out of them, so that a module can be held against the decoder on any machine.
//!
//! They are records of bytes, high byte first: `S` and the members of the settings; `P` and the parameters; `F`, the number of
//! the frame, how many bytes came (two bytes), the bytes, whether they are taken, and for every reading its status, and its value
//! in eight bytes: the bits of a real number, or an integer.

use super::code::{FrameCalls, Type};
use super::{Firmware, Language, Options};
use crate::decode::{Decoder, FrameValues};
use crate::ground::list::Id;
use crate::ground::number::Ty;
use crate::model::part::Part;
use crate::model::registers::{Access, Settings};
use crate::stand_in::Random;

/// A structure's members as they are recorded.
pub(super) struct Layouts {
    pub(super) settings: Vec<(String, Ty)>,
    pub(super) parameters: Vec<String>,
}

pub(super) fn layouts(firmware: &Firmware) -> Layouts {
    let of = |suffix: &str| {
        firmware.module.structs.iter().find(|one| one.name.c.ends_with(suffix)).map_or(&[][..], |one| one.members.as_slice())
    };
    let number = |ty: &Type| if let Type::Num(ty) = ty { *ty } else { Ty::U8 };
    Layouts {
        settings: of("_settings_t").iter().map(|member| (member.name.clone(), number(&member.ty))).collect(),
        parameters: of("_parameters_t").iter().map(|member| member.name.clone()).collect(),
    }
}

/// Records of so many random frames, and before them every frame's corners.
pub(super) fn records(part: &Part, firmware: &Firmware, options: &Options, seed: u64, count: usize) -> Vec<u8> {
    let mut random = Random::new(seed);
    let mut decoder = Decoder::new(part);
    let mut values = FrameValues::new();
    let mut out = Vec::new();
    let frames = firmware.module.frames.as_slice();
    // What is kept comes first, so that nothing waits for it.
    let mut order: Vec<(usize, &FrameCalls)> = frames.iter().enumerate().collect();
    order.sort_by_key(|(_, calls)| !part.frames.get(calls.frame).is_some_and(|frame| frame.keep));
    for (index, calls) in &order {
        frame(part, *index, calls, &mut decoder, &mut values, &mut random, Kind::Likely, options, &mut out);
    }
    let has_settings = !layouts(firmware).settings.is_empty();
    let has_parameters = !layouts(firmware).parameters.is_empty();
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
                frame(part, index, calls, &mut decoder, &mut values, &mut random, kind, options, &mut out);
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
    /// Every code is at an end of what it can be, or near zero.
    Corner,
    /// All bits are random; the checks are right.
    Any,
    /// The same, and the checks are as they come.
    Broken,
}

#[allow(clippy::too_many_arguments)] // what one record is made from
fn frame(
    part: &Part,
    index: usize,
    calls: &FrameCalls,
    decoder: &mut Decoder,
    values: &mut FrameValues,
    random: &mut Random,
    kind: Kind,
    options: &Options,
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
}

fn settings(part: &Part, firmware: &Firmware, decoder: &mut Decoder, random: &mut Random, out: &mut Vec<u8>) {
    for field in part.fields.iter().filter(|field| !field.joined && !matches!(field.access, Access::Reserved)) {
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
            decoder.settings_mut().set_field(field, i128::from(code));
        }
    }
    out.push(b'S');
    put_settings(part, firmware, decoder.settings(), out);
}

fn put_settings(part: &Part, firmware: &Firmware, settings: &Settings, out: &mut Vec<u8>) {
    for (member, ty) in layouts(firmware).settings {
        let register = part.registers.iter().find(|register| super::settings::register_member(register) == member);
        let field = || part.fields.entries().find(|(id, field)| part.is_unstored(*id) && super::names::snake(&field.name) == member);
        let value = match register {
            Some(register) => settings.register(register),
            None => field().map_or(0, |(_, field)| field.layout.form.write(settings.field(field), field.layout.width())),
        };
        let bytes = value.to_be_bytes();
        out.extend(bytes.get(8 - (ty.bits() / 8) as usize..).unwrap_or(&[]));
    }
}

fn parameters(part: &Part, options: &Options, decoder: &mut Decoder, random: &mut Random, out: &mut Vec<u8>) {
    out.push(b'P');
    for (id, parameter) in part.parameters.entries() {
        let (low, high) = parameter.range.unwrap_or((parameter.default, parameter.default));
        let share = random.below(1 << 20) as f64 / f64::from(1 << 20);
        let mut value = low + (high - low) * share;
        if options.reals == super::Reals::Single {
            value = f64::from(value as f32).clamp(low, high);
            // A float is what the module is handed.
            let narrow = value as f32;
            value =
                if f64::from(narrow) < low || f64::from(narrow) > high { f64::from(parameter.default as f32) } else { f64::from(narrow) };
        }
        let set = decoder.set_parameter(id, value);
        let value = if set.is_ok() { value } else { decoder.parameters().get(id.index()).copied().unwrap_or(value) };
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
    }
}

/// The numbers that statuses have in the records, and their names.
fn statuses(firmware: &Firmware) -> Vec<(u8, super::Name)> {
    firmware.statuses.iter().copied().zip(firmware.status_list()).map(|(status, (name, _))| (status as u8, name)).collect()
}

fn table(records: &[u8], open: &str, pad: &str) -> String {
    let mut text = String::from(open);
    for line in records.chunks(16) {
        let bytes: Vec<String> = line.iter().map(|byte| format!("0x{byte:02X}")).collect();
        text.push_str(&format!("{pad}{},\n", bytes.join(", ")));
    }
    text
}

fn c(firmware: &Firmware, records: &[u8]) -> super::Emitted {
    let version = env!("CARGO_PKG_VERSION");
    let prefix = &firmware.prefix.lower;
    let layouts = layouts(firmware);
    let real = firmware.real.name();
    let mut text = format!(
        "/* Made by yemdo {version}: frames, and what is to come out of them, to hold {prefix}.c against on any machine. */\n\
         #include \"{prefix}_vectors.h\"\n\n#include \"{prefix}.h\"\n\n#include <string.h>\n\n\
         static const uint8_t {prefix}_records[] = {{\n{}}};\n\n\
         static uint64_t take(const uint8_t **at, uint_fast8_t bytes)\n{{\n    uint64_t value = 0;\n\n    for (uint_fast8_t index = 0; index < bytes; ++index) {{\n        \
         value = (value << 8) | **at;\n        ++*at;\n    }}\n    return value;\n}}\n\n",
        table(records, "", "    ")
    );
    let inexact = firmware.module.frames.iter().flat_map(|calls| &calls.members).any(|(.., tolerance)| tolerance.is_some());
    if !layouts.parameters.is_empty() || inexact {
        text.push_str(&format!(
            "static {real} number(uint64_t bits)\n{{\n    {real} value;\n    const {int} narrow = ({int})bits;\n\n    (void)memcpy(&value, &narrow, sizeof value);\n    return value;\n}}\n\n",
            int = if firmware.real == Ty::F32 { "uint32_t" } else { "uint64_t" },
        ));
    }
    let cases: String = statuses(firmware).iter().map(|(code, name)| format!("    case {}:\n        return {code};\n", name.c)).collect();
    text.push_str(&format!("static uint8_t status_code({prefix}_status_t status)\n{{\n    switch (status) {{\n{cases}    default:\n        return 255;\n    }}\n}}\n\n"));
    let same = if firmware.real.is_real() {
        let int = if firmware.real == Ty::F32 { "uint32_t" } else { "uint64_t" };
        format!(
            "static bool same({prefix}_reading_t reading, uint8_t status, uint64_t bits)\n{{\n    {int} own;\n\n    \
             (void)memcpy(&own, &reading.value, sizeof own);\n    return (status_code(reading.status) == status) && (own == ({int})bits);\n}}\n\n"
        )
    } else {
        format!(
            "static bool same({prefix}_reading_t reading, uint8_t status, uint64_t bits)\n{{\n    \
             return (status_code(reading.status) == status) && ((uint64_t)(int64_t)reading.value == bits);\n}}\n\n"
        )
    };
    if firmware.module.frames.iter().flat_map(|calls| &calls.members).any(|(.., tolerance)| tolerance.is_none()) {
        text.push_str(&same);
    }
    if inexact {
        text.push_str(&format!(
            "/* Of a function of the library the last digit may differ. */\n\
             static bool near_enough({prefix}_reading_t reading, uint8_t status, uint64_t bits, {real} tolerance)\n{{\n    \
             const {real} difference = reading.value - number(bits);\n\n    \
             return (status_code(reading.status) == status) && (difference <= tolerance) && (difference >= -tolerance);\n}}\n\n"
        ));
    }
    text.push_str(&format!(
        "uint32_t {prefix}_vectors_check(const uint8_t *records, uint32_t size, uint32_t *wrong)\n{{\n    const uint8_t *at = records;\n    uint32_t count = 0;\n\n"
    ));
    for calls in &firmware.module.frames {
        text.push_str(&format!("    {} {};\n    (void)memset(&{1}, 0, sizeof {1});\n", calls.ty.c, calls.var));
    }
    if !layouts.settings.is_empty() {
        text.push_str(&format!("    {prefix}_settings_t settings = {prefix}_settings_reset();\n"));
    }
    if !layouts.parameters.is_empty() {
        text.push_str(&format!("    {prefix}_parameters_t parameters = {prefix}_parameters_default();\n"));
    }
    text.push_str("    *wrong = UINT32_MAX;\n    while (at < records + size) {\n        const uint32_t start = (uint32_t)(at - records);\n        const uint8_t kind = (uint8_t)take(&at, 1);\n        bool good = true;\n\n        if (kind == 'S') {\n");
    for (member, ty) in &layouts.settings {
        text.push_str(&format!("            settings.{member} = ({})take(&at, {});\n", ty.name(), ty.bits() / 8));
    }
    text.push_str("        } else if (kind == 'P') {\n");
    for member in &layouts.parameters {
        text.push_str(&format!("            parameters.{member} = number(take(&at, 8));\n"));
    }
    text.push_str("        } else {\n            const uint8_t frame = (uint8_t)take(&at, 1);\n            const uint16_t came = (uint16_t)take(&at, 2);\n\n            (void)came;\n            ++count;\n            switch (frame) {\n");
    for (index, calls) in firmware.module.frames.iter().enumerate() {
        let given = if calls.counted { ", came" } else { "" };
        text.push_str(&format!(
            "            case {index}: {{\n                {ty} next;\n                const bool taken = {}(&next, at{given});\n\n                at += {};\n                good = taken == (take(&at, 1) != 0);\n",
            calls.unpack.c,
            calls.length,
            ty = calls.ty.c
        ));
        if let Some((name, ty, params)) = &calls.readings {
            let args: Vec<String> = params.iter().map(|param| format!("&{}", param.name)).collect();
            text.push_str(&format!(
                "                if (good && taken) {{\n                    {} = next;\n                    const {} got = {}({});\n\n",
                calls.var,
                ty.c,
                name.c,
                args.join(", ")
            ));
            for (_, member, tolerance) in &calls.members {
                let single = firmware.real == Ty::F32;
                let test = match tolerance {
                    None => format!("same(got.{member}, status, bits)"),
                    Some(tolerance) if single => format!("near_enough(got.{member}, status, bits, {:?}F)", *tolerance as f32),
                    Some(tolerance) => format!("near_enough(got.{member}, status, bits, {tolerance:?})"),
                };
                text.push_str(&format!(
                    "                    {{\n                        const uint8_t status = (uint8_t)take(&at, 1);\n                        const uint64_t bits = take(&at, 8);\n                        good = {test} && good;\n                    }}\n",
                ));
            }
            text.push_str("                }\n");
        } else {
            text.push_str(&format!(
                "                if (good && taken) {{\n                    {} = next;\n                }}\n",
                calls.var
            ));
        }
        text.push_str("                break;\n            }\n");
    }
    text.push_str("            default:\n                good = false;\n                break;\n            }\n        }\n        if (!good) {\n            *wrong = start;\n            return count;\n        }\n    }\n");
    for calls in &firmware.module.frames {
        text.push_str(&format!("    (void){};\n", calls.var));
    }
    if !layouts.settings.is_empty() {
        text.push_str("    (void)settings;\n");
    }
    if !layouts.parameters.is_empty() {
        text.push_str("    (void)parameters;\n");
    }
    text.push_str(&format!("    return count;\n}}\n\nuint32_t {prefix}_vectors(uint32_t *wrong)\n{{\n    return {prefix}_vectors_check({prefix}_records, (uint32_t)sizeof {prefix}_records, wrong);\n}}\n"));
    super::Emitted { name: format!("{prefix}_vectors.c"), text }
}

/// The header of the test.
pub(super) fn header(firmware: &Firmware) -> super::Emitted {
    let version = env!("CARGO_PKG_VERSION");
    let (prefix, upper) = (&firmware.prefix.lower, &firmware.prefix.upper);
    let text = format!(
        "/* Made by yemdo {version}: holds {prefix}.c against frames of which it is known what comes out of them. */\n#ifndef {upper}_VECTORS_H\n#define {upper}_VECTORS_H\n\n#include <stdint.h>\n\n\
         /* Goes through the frames. Gives how many there were; `wrong` is UINT32_MAX where all agree, or the place of the first that does not. */\n\
         uint32_t {prefix}_vectors(uint32_t *wrong);\n\n/* The same with other records. */\nuint32_t {prefix}_vectors_check(const uint8_t *records, uint32_t size, uint32_t *wrong);\n\n#endif\n"
    );
    super::Emitted { name: format!("{prefix}_vectors.h"), text }
}

fn rust(firmware: &Firmware, records: &[u8]) -> super::Emitted {
    let version = env!("CARGO_PKG_VERSION");
    let prefix = &firmware.prefix.lower;
    let layouts = layouts(firmware);
    let real = super::rust::type_name(firmware.real);
    let mut text = format!(
        "// Made by yemdo {version}: frames, and what is to come out of them, to hold {prefix}.rs against on any machine.\n\n\
         #[allow(clippy::wildcard_imports)] // all of it is tested\nuse super::{prefix}::*;\n\n\
         /// Frames with what is to come out of them.\n#[rustfmt::skip]\npub const RECORDS: &[u8] = &[\n{}];\n\n",
        table(records, "", "    ")
    );
    text.push_str("#[rustfmt::skip]\nfn take(at: &mut &[u8], bytes: usize) -> u64 {\n    let (head, rest) = at.split_at_checked(bytes).unwrap_or((&[], &[]));\n    *at = rest;\n    head.iter().fold(0, |value, byte| (value << 8) | u64::from(*byte))\n}\n\n");
    let cases: String = statuses(firmware).iter().map(|(code, name)| format!("        Status::{} => {code},\n", name.rust)).collect();
    text.push_str(&format!("const fn status_code(status: Status) -> u64 {{\n    match status {{\n{cases}    }}\n}}\n\n"));
    let bits = match firmware.real {
        Ty::F32 => "u64::from(reading.value.to_bits())",
        Ty::F64 => "reading.value.to_bits()",
        _ => "i64::from(reading.value).cast_unsigned()",
    };
    let members = || firmware.module.frames.iter().flat_map(|calls| &calls.members);
    if members().any(|(.., tolerance)| tolerance.is_none()) {
        text.push_str(&format!("fn same(reading: Reading, at: &mut &[u8]) -> bool {{\n    let (status, bits) = (take(at, 1), take(at, 8));\n    status_code(reading.status) == status && {bits} == bits\n}}\n\n"));
    }
    if members().any(|(.., tolerance)| tolerance.is_some()) {
        let number = if firmware.real == Ty::F32 { "f32::from_bits(bits as u32)" } else { "f64::from_bits(bits)" };
        text.push_str(&format!("/// Of a function of the library the last digit may differ.\n#[allow(clippy::cast_possible_truncation)]\nfn near_enough(reading: Reading, at: &mut &[u8], tolerance: {real}) -> bool {{\n    let (status, bits) = (take(at, 1), take(at, 8));\n    let difference = reading.value - {number};\n    status_code(reading.status) == status && (-tolerance..=tolerance).contains(&difference)\n}}\n\n"));
    }
    text.push_str("/// Goes through records: how many frames there were, or the place of the first that does not agree.\n///\n/// # Errors\n/// The place of the first record that does not agree.\n#[allow(unused_assignments, clippy::too_many_lines, clippy::cast_possible_truncation)]\n#[allow(clippy::match_single_binding, clippy::single_match_else)]\n#[rustfmt::skip]\npub fn check(records: &[u8]) -> Result<usize, usize> {\n    let mut at = records;\n    let mut count = 0;\n");
    let needed = |var: &str| {
        firmware
            .module
            .frames
            .iter()
            .any(|calls| calls.readings.as_ref().is_some_and(|(_, _, params)| params.iter().any(|param| param.name == var)))
    };
    for calls in &firmware.module.frames {
        if needed(&calls.var) {
            text.push_str(&format!("    let mut {}: Option<{}> = None;\n", calls.var, calls.ty.rust));
        }
    }
    let uses = |name: &str| {
        firmware
            .module
            .frames
            .iter()
            .any(|calls| calls.readings.as_ref().is_some_and(|(_, _, params)| params.iter().any(|param| param.name == name)))
    };
    if !layouts.settings.is_empty() {
        text.push_str(&format!("    let mut {}settings = Settings::RESET;\n", if uses("settings") { "" } else { "_" }));
    }
    if !layouts.parameters.is_empty() {
        text.push_str(&format!("    let mut {}parameters = Parameters::DEFAULT;\n", if uses("parameters") { "" } else { "_" }));
    }
    text.push_str("    while !at.is_empty() {\n        let start = records.len() - at.len();\n        let kind = take(&mut at, 1) as u8;\n        let mut good = true;\n        match kind {\n");
    if !layouts.settings.is_empty() {
        text.push_str("            b'S' => {\n");
        for (member, ty) in &layouts.settings {
            text.push_str(&format!(
                "                {}settings.{member} = take(&mut at, {}) as {};\n",
                if uses("settings") { "" } else { "_" },
                ty.bits() / 8,
                super::rust::type_name(*ty)
            ));
        }
        text.push_str("            }\n");
    }
    if !layouts.parameters.is_empty() {
        text.push_str("            b'P' => {\n");
        for member in &layouts.parameters {
            let bits = if firmware.real == Ty::F32 { "take(&mut at, 8) as u32" } else { "take(&mut at, 8)" };
            text.push_str(&format!(
                "                {}parameters.{member} = {real}::from_bits({bits});\n",
                if uses("parameters") { "" } else { "_" }
            ));
        }
        text.push_str("            }\n");
    }
    text.push_str("            _ => {\n                let frame = take(&mut at, 1);\n                let came = take(&mut at, 2) as u16;\n                let _ = came;\n                count += 1;\n                match frame {\n");
    for (index, calls) in firmware.module.frames.iter().enumerate() {
        let given = if calls.counted { ", came" } else { "" };
        text.push_str(&format!(
            "                    {index} => {{\n                        let Some((bytes, rest)) = at.split_first_chunk() else {{\n                            return Err(start);\n                        }};\n                        at = rest;\n                        let next = {}::{}(bytes{given});\n                        good &= next.is_some() == (take(&mut at, 1) != 0);\n",
            calls.ty.rust, calls.unpack.rust
        ));
        match &calls.readings {
            Some((name, _, params)) => {
                let own = params.iter().map(|param| param.name.as_str()).any(|name| name == calls.var);
                let others: Vec<&str> = params.iter().map(|param| param.name.as_str()).filter(|name| *name != "settings" && *name != "parameters").collect();
                let bind: Vec<String> = others.iter().map(|name| format!("Some({name})")).collect();
                let from: Vec<String> = others.iter().map(|name| format!("&{name}")).collect();
                text.push_str(&format!("                        if good && next.is_some() {{\n                            {} = next;\n", if own { calls.var.as_str() } else { "let _" }));
                let first = params.first().map_or("", |param| param.name.as_str());
                let args: Vec<String> = params.iter().skip(1).map(|param| if others.contains(&param.name.as_str()) { param.name.clone() } else { format!("&{}", param.name) }).collect();
                let (pattern, value) = if bind.len() == 1 { (bind.join(""), from.join("")) } else { (format!("({})", bind.join(", ")), format!("({})", from.join(", "))) };
                text.push_str(&format!("                            let {pattern} = {value} else {{\n                                return Err(start);\n                            }};\n                            let got = {first}.{}({});\n", name.rust, args.join(", ")));
                for (_, member, tolerance) in &calls.members {
                    let test = match tolerance {
                        None => format!("same(got.{member}, &mut at)"),
                        Some(tolerance) => format!("near_enough(got.{member}, &mut at, {})", super::rust::real(*tolerance, firmware.real)),
                    };
                    text.push_str(&format!("                            good &= {test};\n"));
                }
                text.push_str("                        }\n");
            }
            None if needed(&calls.var) => text.push_str(&format!("                        if good && next.is_some() {{\n                            {} = next;\n                        }}\n", calls.var)),
            None => {}
        }
        text.push_str("                    }\n");
    }
    text.push_str("                    _ => good = false,\n                }\n            }\n        }\n        if !good {\n            return Err(start);\n        }\n    }\n    Ok(count)\n}\n");
    super::Emitted { name: format!("{prefix}_vectors.rs"), text }
}

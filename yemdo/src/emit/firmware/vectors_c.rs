//! Frames and what is to come out of them, as a test in C.

use super::Firmware;
use super::vectors::{layouts, statuses, table};
use crate::ground::number::Ty;

pub(super) fn c(firmware: &Firmware, records: &[u8]) -> super::Emitted {
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
    let any = firmware.module.frames.iter().any(|calls| !calls.members.is_empty());
    if any {
        text.push_str(&format!("static uint8_t status_code({prefix}_status_t status)\n{{\n    switch (status) {{\n{cases}    default:\n        return 255;\n    }}\n}}\n\n"));
    }
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

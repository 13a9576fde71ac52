//! The same in Rust.

use super::Firmware;
use super::vectors::{layouts, statuses, table};
use crate::ground::number::Ty;

pub(super) fn rust(firmware: &Firmware, records: &[u8]) -> super::Emitted {
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

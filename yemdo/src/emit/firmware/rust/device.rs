//! Known state and requests of a part, in Rust.

use super::super::Firmware;
use super::super::code::{Ask, Type};
use super::expr::Printer;
use super::lines::Lines;
use crate::bus::Bus;

/// Frames and what else is known: member, type.
pub(super) fn members(firmware: &Firmware) -> Vec<(String, String)> {
    let mut all = Vec::new();
    for (member, ty) in [("settings", "Settings"), ("parameters", "Parameters")] {
        if firmware.module.structs.iter().any(|one| one.name.rust == ty) {
            all.push((member.to_owned(), ty.to_owned()));
        }
    }
    for calls in &firmware.module.frames {
        all.push((calls.var.clone(), calls.ty.rust.clone()));
        all.push((format!("has_{}", calls.var), "bool".to_owned()));
    }
    all
}

pub(super) fn device(firmware: &Firmware, shared: &mut Printer, out: &mut Lines) {
    out.blank();
    out.doc(0, &["Known state of the part.".into()]);
    let flags = firmware.module.frames.len();
    if flags > 3 {
        out.line("#[allow(clippy::struct_excessive_bools)] // which frames have come");
    }
    out.line("#[derive(Clone, Debug, PartialEq)]");
    out.line("pub struct Device {");
    for (member, ty) in members(firmware) {
        match member.as_str() {
            "settings" => out.doc(1, &["What its registers hold, and what else is set.".into()]),
            "parameters" => out.doc(1, &["Parameters, supplied by you.".into()]),
            _ => {}
        }
        let public = if matches!(member.as_str(), "settings" | "parameters") { "pub " } else { "" };
        out.line(&format!("    {public}{member}: {ty},"));
    }
    out.line("}");
    out.blank();
    out.line("impl Device {");
    out.doc(1, &["The part as after a reset: no frame has come.".into()]);
    out.line("    pub const RESET: Self = Self {");
    for (member, ty) in members(firmware) {
        match member.as_str() {
            "settings" => out.line("        settings: Settings::RESET,"),
            "parameters" => out.line("        parameters: Parameters::DEFAULT,"),
            member if member.starts_with("has_") => out.line(&format!("        {member}: false,")),
            member => {
                let one = firmware.module.structs.iter().find(|one| one.name.rust == ty);
                let values: Vec<String> = one
                    .into_iter()
                    .flat_map(|one| &one.members)
                    .map(|inner| {
                        let value =
                            if let Type::Bytes(count) = inner.ty { format!("[0; {count}]") } else { shared.doc(&inner.default).flat() };
                        format!("{}: {value}", inner.name)
                    })
                    .collect();
                if values.join(", ").len() <= 18 {
                    out.line(&format!("        {member}: {ty} {{ {} }},", values.join(", ")));
                } else {
                    out.line(&format!("        {member}: {ty} {{"));
                    values.iter().for_each(|value| out.line(&format!("            {value},")));
                    out.line("        },");
                }
            }
        }
    }
    out.line("    };");
    for calls in &firmware.module.frames {
        out.line("");
        out.doc(1, &[format!("{} as it came last.", super::super::readings::capital(&calls.var))]);
        out.line("    #[must_use]");
        out.line(&format!("    pub fn {}(&self) -> Option<&{}> {{", calls.var, calls.ty.rust));
        out.line(&format!("        self.has_{0}.then_some(&self.{0})", calls.var));
        out.line("    }");
        let Some((name, ty, params)) = &calls.readings else { continue };
        out.line("");
        out.doc(1, &[format!("The readings of {} as it came last, once all that they need has come.", calls.var)]);
        out.line("    #[must_use]");
        out.line(&format!("    pub fn {}_readings(&self) -> Option<{}> {{", calls.var, ty.rust));
        let needed: Vec<&str> = firmware
            .module
            .frames
            .iter()
            .filter(|other| other.var == calls.var || params.iter().any(|param| param.name == other.var))
            .map(|other| other.var.as_str())
            .collect();
        if needed.len() > 1 {
            let tests: Vec<String> = needed.iter().map(|var| format!("!self.has_{var}")).collect();
            out.line(&format!("        if {} {{", tests.join(" || ")));
            out.line("            return None;");
            out.line("        }");
        }
        let args: Vec<String> = params.iter().skip(1).map(|param| format!("&self.{}", param.name)).collect();
        let first = params.first().map_or(String::new(), |param| format!("self.{}", param.name));
        let call = format!("{first}.{}({})", name.rust, args.join(", "));
        if needed.len() > 1 {
            let line = format!("        Some({call})");
            if call.len() <= 60 {
                out.line(&line);
            } else {
                out.line("        Some(");
                out.line(&format!("            {first}"));
                out.line(&format!("                .{}({}),", name.rust, args.join(", ")));
                out.line("        )");
            }
        } else {
            let chain = format!("self.has_{}.then(|| {call})", calls.var);
            if chain.len() <= 60 {
                out.line(&format!("        {chain}"));
            } else {
                out.line(&format!("        self.has_{}", calls.var));
                out.line(&format!("            .then(|| {call})"));
            }
        }
        out.line("    }");
    }
    out.line("}");
    out.blank();
    out.line("impl Default for Device {");
    out.line("    fn default() -> Self {");
    out.line("        Self::RESET");
    out.line("    }");
    out.line("}");
}

/// True if routines read, and if they write, over Modbus. Without either, the read request stays: the type needs its lifetime.
pub(super) fn modbus_asks(firmware: &Firmware) -> (bool, bool) {
    let any = |what: &dyn Fn(&Ask) -> bool| firmware.module.asks(what);
    let writes = any(&|ask| matches!(ask, Ask::ModbusWrite(..)));
    (any(&|ask| matches!(ask, Ask::ModbusRead(..))) || !writes, writes)
}

pub(super) fn requests(firmware: &Firmware, bus: Bus, out: &mut Lines) {
    let line = firmware.module.asks(&|ask| matches!(ask, Ask::Line(..)));
    let (reads, writes) = modbus_asks(firmware);
    let waits = firmware.module.asks(&|ask| matches!(ask, Ask::Wait(..)));
    out.blank();
    out.doc(0, &["Next request of a routine.".into()]);
    out.line("#[derive(Debug)]");
    out.line("pub enum Request<'a> {");
    if bus == Bus::Modbus {
        if reads {
            out.doc(1, &["Registers or bits are read.".into()]);
            out.line("    ModbusRead {");
            for (name, ty, doc) in [
                ("function", "u8", "1 to 4."),
                ("address", "u16", "First address."),
                ("count", "u16", "How many."),
                ("data", "&'a mut [u8]", "Where they go, high byte first."),
            ] {
                out.doc(2, &[doc.into()]);
                out.line(&format!("        {name}: {ty},"));
            }
            out.line("    },");
        }
        if writes {
            out.doc(1, &["Registers are written.".into()]);
            out.line("    ModbusWrite {");
            for (name, ty, doc) in [("address", "u16", "First address."), ("data", "&'a [u8]", "Values, high byte first.")] {
                out.doc(2, &[doc.into()]);
                out.line(&format!("        {name}: {ty},"));
            }
            out.line("    },");
        }
    } else {
        out.doc(1, &["Bytes are written, then others are read; either may be empty.".into()]);
        out.line("    Transfer {");
        for (name, ty, doc) in [("write", "&'a [u8]", "Bytes to write."), ("read", "&'a mut [u8]", "Buffer for the bytes read.")] {
            out.doc(2, &[doc.into()]);
            out.line(&format!("        {name}: {ty},"));
        }
        out.line("    },");
    }
    if waits {
        out.doc(1, &["Wait for this number of microseconds.".into()]);
        out.line("    Wait(u32),");
    }
    if line {
        out.doc(1, &["The data-ready line is waited for.".into()]);
        out.line("    Line {");
        for (name, ty, doc) in [("high", "bool", "The level."), ("micros", "u32", "The longest time.")] {
            out.doc(2, &[doc.into()]);
            out.line(&format!("        {name}: {ty},"));
        }
        out.line("    },");
    }
    out.doc(1, &["Nothing: it is done.".into()]);
    out.line("    Finished,");
    out.line("}");
}

//! Enums and structures in Rust.

use super::super::Firmware;
use super::super::code::{Role, Struct, Type};
use super::expr::Printer;
use super::lines::Lines;
use super::literals::digits;
use super::literals::type_name;
use crate::ground::number::Ty;

pub(super) fn statuses(firmware: &Firmware, out: &mut Lines) {
    let real_name = type_name(firmware.real);
    out.blank();
    out.doc(0, &["Status of a reading.".into()]);
    out.line("#[derive(Clone, Copy, Debug, PartialEq, Eq)]");
    out.line("pub enum Status {");
    for (name, doc) in firmware.status_list() {
        out.doc(1, &[format!("{}.", super::super::readings::capital(doc))]);
        out.line(&format!("    {},", name.rust));
    }
    out.line("}");
    out.blank();
    out.doc(0, &[format!("A reading.{}", firmware.step_note())]);
    out.line("#[derive(Clone, Copy, Debug, PartialEq)]");
    out.line("pub struct Reading {");
    out.doc(1, &["Value; 0 if the status has none.".into()]);
    out.line(&format!("    pub value: {real_name},"));
    out.doc(1, &["Status.".into()]);
    out.line("    pub status: Status,");
    out.line("}");
    out.blank();
    out.line("impl Reading {");
    out.line(&format!("    const fn new(value: {real_name}, status: Status) -> Self {{"));
    out.line("        Self { value, status }");
    out.line("    }");
    let uses_none = firmware.statuses.iter().any(|status| !status.has_value());
    if uses_none {
        out.line("");
        out.line("    const fn none(status: Status) -> Self {");
        out.line(&format!("        Self::new({}, status)", if firmware.real.is_real() { "0.0" } else { "0" }));
        out.line("    }");
    }
    out.line("");
    out.doc(1, &["Value, if the status has one.".into()]);
    out.line("    #[must_use]");
    out.line(&format!("    pub const fn get(&self) -> Option<{real_name}> {{"));
    if uses_none {
        let none: Vec<String> = firmware
            .statuses
            .iter()
            .zip(firmware.status_list())
            .filter(|(status, _)| !status.has_value())
            .map(|(_, (name, _))| format!("Status::{}", name.rust))
            .collect();
        out.line("        match self.status {");
        let line = format!("            {} => None,", none.join(" | "));
        if line.chars().count() <= 100 {
            out.line(&line);
        } else {
            for (index, one) in none.iter().enumerate() {
                let end = if index + 1 == none.len() { " => None," } else { "" };
                out.line(&format!("            {}{one}{end}", if index > 0 { "| " } else { "" }));
            }
        }
        out.line("            _ => Some(self.value),");
        out.line("        }");
    } else {
        out.line("        Some(self.value)");
    }
    out.line("    }");
    out.line("}");
}

pub(super) fn enumeration(one: &super::super::code::Enum, out: &mut Lines) {
    let code = type_name(one.ty);
    out.blank();
    out.doc(0, &one.doc);
    out.line("#[derive(Clone, Copy, Debug, PartialEq, Eq)]");
    out.line(&format!("pub enum {} {{", one.name.rust));
    for (name, _, doc) in &one.values {
        out.doc(1, &[format!("{doc}.")]);
        out.line(&format!("    {},", name.rust));
    }
    if one.open {
        out.doc(1, &["Another code.".into()]);
        out.line(&format!("    Other({code}),"));
    }
    out.line("}");
    out.blank();
    out.line(&format!("impl {} {{", one.name.rust));
    out.doc(1, &["Value for a code.".into()]);
    out.line("    #[must_use]");
    out.line(&format!("    pub const fn from_code(code: {code}) -> Self {{"));
    out.line("        match code {");
    for (index, (name, value, _)) in one.values.iter().enumerate() {
        let pattern = if !one.open && index + 1 == one.values.len() { "_".to_owned() } else { digits(*value) };
        out.line(&format!("            {pattern} => Self::{},", name.rust));
    }
    if one.open {
        out.line("            other => Self::Other(other),");
    }
    out.line("        }");
    out.line("    }");
    out.line("");
    out.doc(1, &["Its code.".into()]);
    out.line("    #[must_use]");
    out.line(&format!("    pub const fn code(self) -> {code} {{"));
    out.line("        match self {");
    for (name, value, _) in &one.values {
        out.line(&format!("            Self::{} => {},", name.rust, digits(*value)));
    }
    if one.open {
        out.line("            Self::Other(code) => code,");
    }
    out.line("        }");
    out.line("    }");
    out.line("}");
}

/// True for structures that begin as something: settings and parameters.
pub(super) fn is_default(one: &Struct) -> bool {
    matches!(one.role, Role::Settings | Role::Parameters)
}

pub(super) fn default_name(one: &Struct) -> &'static str {
    if one.role == Role::Settings { "RESET" } else { "DEFAULT" }
}

pub(super) fn default(one: &Struct, printer: &mut Printer, out: &mut Lines) {
    out.doc(1, &[if one.role == Role::Settings { "Registers after a reset.".into() } else { "Defaults of the sheet.".to_owned() }]);
    let flat: Vec<String> = one.members.iter().map(|member| format!("{}: {}", member.name, printer.doc(&member.default).flat())).collect();
    if flat.join(", ").len() <= 18 {
        out.line(&format!("    pub const {}: Self = Self {{ {} }};", default_name(one), flat.join(", ")));
        return;
    }
    out.line(&format!("    pub const {}: Self = Self {{", default_name(one)));
    for member in &one.members {
        out.line(&format!("        {}: {},", member.name, printer.doc(&member.default).flat()));
    }
    out.line("    };");
}

pub(super) fn structure(one: &Struct, out: &mut Lines) {
    out.blank();
    out.doc(0, &one.doc);
    let floats = |ty: &Type| matches!(ty, Type::Num(ty) if ty.is_real()) || matches!(ty, Type::Named(name) if name.rust == "Reading");
    let eq = if one.members.iter().any(|member| floats(&member.ty)) { "" } else { ", Eq" };
    let copy =
        if one.members.iter().all(|member| matches!(&member.ty, Type::Named(name) if name.rust == "Reading")) { ", Copy" } else { "" };
    if one.members.iter().filter(|member| member.ty == Type::Num(Ty::Bool)).count() > 3 {
        out.line("#[allow(clippy::struct_excessive_bools)] // flags, as the part has them");
    }
    out.line(&format!("#[derive(Clone{copy}, Debug, PartialEq{eq})]"));
    out.line(&format!("pub struct {} {{", one.name.rust));
    for member in &one.members {
        if !member.doc.is_empty() {
            // Places in a frame are written as they are.
            let place = member.doc.starts_with(['b', 'w']) && member.doc.chars().nth(1).is_some_and(|c| c.is_ascii_digit());
            out.doc(1, &[format!("{}.", if place { member.doc.clone() } else { super::super::readings::capital(&member.doc) })]);
        }
        out.line(&format!("    pub {}: {},", member.name, type_of(&member.ty)));
    }
    out.line("}");
}

pub(super) fn type_of(ty: &Type) -> String {
    match ty {
        Type::Num(ty) => type_name(*ty).to_owned(),
        Type::Bytes(count) => format!("[u8; {count}]"),
        Type::Named(name) => name.rust.clone(),
        Type::Maybe(ty) => format!("Option<{}>", type_name(*ty)),
    }
}

/// Text that cannot leave its comment, escaped for rustdoc except for our own markup.
pub(super) fn plain(text: &str) -> String {
    const OURS: [&str; 5] = ["[`Error`]", "`answered`", "`false`", "`came`", "`bytes`"];
    let mut plain = String::new();
    for c in text.chars() {
        match c {
            '[' | ']' | '<' | '>' | '*' | '_' | '`' | '\\' | '|' if !text.starts_with("    ") => {
                plain.push('\\');
                plain.push(c);
            }
            '\n' | '\r' => plain.push(' '),
            c => plain.push(c),
        }
    }
    for own in OURS {
        let escaped: String = own.chars().map(|c| if matches!(c, '[' | ']' | '`') { format!("\\{c}") } else { c.to_string() }).collect();
        plain = plain.replace(&escaped, own);
    }
    plain
}

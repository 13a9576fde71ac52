//! A module as Python, from 3.9 on, and for the smaller Python of microcontrollers: one file that needs only the standard library.

mod driver;
mod expr;
mod helpers;
mod layout;
mod lines;
mod machine;
mod maths;
mod statements;

use super::code::{Enum, Expr, Function, Member, Module, Role, Struct, Type};
use super::readings::capital;
use super::{Emitted, Firmware};
use crate::ground::number::Ty;
pub(super) use expr::Callee;
use expr::{Printer, hex, kind};
use helpers::Imports;
use lines::{Lines, comment};
use statements::print;

/// Prints a module.
pub(super) fn files(firmware: &Firmware) -> Vec<Emitted> {
    let module = &firmware.module;
    let mut printer = Printer::new(module);
    let mut body = Lines::default();
    constants(firmware, &mut printer, &mut body);
    statuses(firmware, &mut body);
    module.enums.iter().for_each(|one| enumeration(one, &mut body));
    for one in &module.structs {
        class(one, firmware, &mut printer, &mut body);
    }
    for function in module.functions.iter().filter(|function| !module.is_method(function)) {
        body.space();
        print(function, false, &mut printer, &mut body);
    }
    driver::print(firmware, &mut printer, &mut body);
    helpers::curves(firmware, &mut printer, &mut body);
    let imports = helpers::print(&printer.helpers, &mut body);
    let mut out = Lines::default();
    for text in firmware.head() {
        out.line(0, format!("# {text}").trim_end());
    }
    import(firmware, imports, imports.math || printer.infinity, &mut out);
    out.lines.append(&mut body.lines);
    let text = out.lines.join("\n") + "\n";
    vec![Emitted { name: format!("{}.py", super::names::python(&firmware.prefix.lower)), text }]
}

/// Members and methods of a class with the same name: both are its attributes.
pub(super) fn twins(module: &Module) -> Vec<String> {
    let mut found = Vec::new();
    for one in &module.structs {
        let own = module.functions.iter().filter(|function| function.of.as_ref() == Some(&one.name) && module.is_method(function));
        for function in own.filter(|function| function.public && one.members.iter().any(|member| attribute(member) == function.name.python))
        {
            let name = &function.name.python;
            found.push(format!(
                "a register and the function {} both become `{name}` in Python: rename a register or field",
                function.name.c
            ));
        }
    }
    // The device has a member for each frame, and a method for its readings.
    for calls in module.frames.iter().filter(|calls| calls.readings.is_some()) {
        let name = format!("{}_readings", calls.var);
        if module.frames.iter().any(|other| other.var == name) {
            found.push(format!("a frame and the readings of another both become `{name}` in Python: rename a frame"));
        }
    }
    found
}

fn import(firmware: &Firmware, imports: Imports, infinity: bool, out: &mut Lines) {
    let driver = driver::imports(firmware);
    let mut names: Vec<&str> = Vec::new();
    names.extend(driver.asyncio.then_some("asyncio"));
    names.extend((imports.math).then_some("math"));
    names.extend(imports.structure.then_some("struct"));
    names.extend(driver.sys.then_some("sys"));
    names.extend(driver.time.then_some("time"));
    if !names.is_empty() || imports.isfinite {
        out.line(0, "");
    }
    names.iter().for_each(|name| out.line(0, &format!("import {name}")));
    if imports.isfinite {
        out.line(0, "from math import isfinite");
    }
    if driver.typing {
        out.line(0, "");
        out.line(0, "try:");
        out.line(1, "from typing import Any");
        out.line(0, "except ImportError:  # not on a microcontroller");
        out.line(1, "pass");
    }
    if infinity {
        out.line(0, "");
        out.line(0, "_INF = float(\"inf\")");
        out.line(0, "_NAN = float(\"nan\")");
    }
    if firmware.real == Ty::F64 {
        out.line(0, "");
        out.line(0, "if 1.0 + 1e-12 == 1.0:");
        out.line(1, "raise ImportError(\"numbers have 32 bits here: emit with --reals float or none\")");
    }
}

fn constants(firmware: &Firmware, printer: &mut Printer, out: &mut Lines) {
    for constant in &firmware.module.constants {
        out.line(0, "");
        comment(&constant.doc, 0, out);
        let value = match &constant.value {
            Expr::Int(value, _) if constant.hex > 0 => format!("0x{value:0digits$X}", digits = constant.hex),
            Expr::Hex(value, ty) => hex(*value, *ty),
            Expr::Real(value, ty) => printer.real(*value, *ty),
            other => printer.alone(other),
        };
        out.lay(0, &format!("{} = {value}", constant.name.python));
    }
}

fn statuses(firmware: &Firmware, out: &mut Lines) {
    out.space();
    out.line(0, "class Status:");
    out.docstring(1, &["Status of a reading. Numbers are the same for all parts.".to_owned()]);
    for (status, (name, doc)) in firmware.statuses.iter().zip(firmware.status_list()) {
        out.line(0, "");
        comment(&format!("{}.", capital(doc)), 1, out);
        out.line(1, &format!("{} = {}", name.python, *status as u8));
    }
    let word = |status: &crate::model::status::Status| format!("{}: \"{}\"", *status as u8, status.as_str());
    let words: Vec<String> = firmware.statuses.iter().map(word).collect();
    out.line(0, "");
    comment("As text.", 1, out);
    out.exploded(1, "WORDS = {", &words, "}");
    let real = kind(firmware.real);
    out.space();
    out.line(0, "class Reading:");
    out.docstring(1, &[format!("A reading: its value, or None where its status has none, and its status.{}", firmware.step_note())]);
    out.line(0, "");
    out.line(1, &format!("def __init__(self, value: {real}, status: int) -> None:"));
    let last = crate::model::status::Status::Saturated as u8;
    out.line(2, &format!("self.value: \"{real} | None\" = value if status <= {last} else None"));
    out.line(2, "self.status = status");
    out.line(0, "");
    out.line(1, "def __repr__(self) -> str:");
    out.line(2, "return \"Reading({}, {})\".format(self.value, Status.WORDS[self.status])");
}

fn enumeration(one: &Enum, out: &mut Lines) {
    out.space();
    out.line(0, &format!("class {}:", one.name.python));
    out.docstring(1, &one.doc);
    for (name, code, doc) in &one.values {
        out.line(0, "");
        comment(&format!("{doc}."), 1, out);
        out.line(1, &format!("{} = {code}", name.python));
    }
}

fn class(one: &Struct, firmware: &Firmware, printer: &mut Printer, out: &mut Lines) {
    out.space();
    out.line(0, &format!("class {}:", one.name.python));
    out.docstring(1, &one.doc);
    out.line(0, "");
    let begins = matches!(one.role, Role::Settings | Role::Parameters);
    let mut params = vec!["self".to_owned()];
    if !begins {
        params.extend(one.members.iter().map(|member| format!("{}: {}", attribute(member), printer.type_of(&member.ty, false))));
    }
    out.head(1, "def __init__", &params, "None");
    for member in &one.members {
        if !member.doc.is_empty() {
            comment(&member.doc, 2, out);
        }
        let value = if begins { printer.alone(&member.default) } else { attribute(member) };
        out.lay(2, &format!("self.{} = {value}", attribute(member)));
    }
    let own = |function: &&Function| function.of.as_ref() == Some(&one.name) && firmware.module.is_method(function);
    for function in firmware.module.functions.iter().filter(own) {
        out.line(0, "");
        print(function, true, printer, out);
    }
}

/// The name of a member.
fn attribute(member: &Member) -> String {
    super::names::python(&member.name)
}

/// The value that a member begins with.
fn beginning(member: &Member, printer: &mut Printer) -> String {
    if let Type::Bytes(count) = member.ty { format!("bytes({count})") } else { printer.alone(&member.default) }
}

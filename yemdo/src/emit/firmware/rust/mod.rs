//! A module as Rust that needs no standard library.

mod doc;
mod driver;
mod expr;

use super::code::{Expr, Function, Gives, Param, Pass, Stmt, Struct, Type};
use super::{Emitted, Firmware};
use crate::formula::curve::Outside;
use crate::ground::number::Ty;
use doc::Doc;
use expr::{Printer, checked, digits, has_type, hex};
pub(super) use expr::{real, type_name};

/// Prints a module.
pub(super) fn files(firmware: &Firmware) -> Vec<Emitted> {
    let module = &firmware.module;
    let mut out = Lines::default();
    firmware.head("rust").iter().for_each(|line| out.line(format!("// {line}").trim_end()));
    for constant in &module.constants {
        out.blank();
        out.doc(0, std::slice::from_ref(&constant.doc));
        let value = match &constant.value {
            Expr::Int(value, _) if constant.hex > 0 => format!("0x{value:0digits$X}", digits = constant.hex),
            Expr::Int(value, _) => digits(*value),
            Expr::Hex(value, ty) => hex(*value, *ty),
            other => Printer::default().doc(other).flat(),
        };
        out.line(&format!("pub const {}: {} = {value};", constant.name.rust, type_name(constant.ty)));
    }
    statuses(firmware, &mut out);
    for one in &module.enums {
        enumeration(one, &mut out);
    }
    let mut shared = Printer::default();
    // Free functions, and those of types that others have made.
    let free: Vec<&Function> = module.functions.iter().filter(|function| function.of.is_none()).collect();
    for one in &module.structs {
        structure(one, &mut out);
        let own: Vec<&Function> = module.functions.iter().filter(|function| function.of.as_ref() == Some(&one.name)).collect();
        let begins = is_default(one);
        if own.is_empty() && !begins {
            continue;
        }
        out.blank();
        out.line(&format!("impl {} {{", one.name.rust));
        let mut first = true;
        if begins {
            default(one, &mut shared, &mut out);
            first = false;
        }
        for function in own {
            if !first {
                out.line("");
            }
            first = false;
            print(function, 1, &mut shared, &mut out);
        }
        out.line("}");
        if begins {
            out.blank();
            out.line(&format!("impl Default for {} {{", one.name.rust));
            out.line("    fn default() -> Self {");
            out.line(&format!("        Self::{}", default_name(one)));
            out.line("    }");
            out.line("}");
        }
    }
    for function in free {
        out.blank();
        print(function, 0, &mut shared, &mut out);
    }
    driver::print(firmware, &mut shared, &mut out);
    curves(firmware, &mut out);
    helpers(module.functions.as_slice(), &shared, &mut out);
    vec![Emitted { name: format!("{}.rs", firmware.prefix.lower), text: out.text }]
}

fn statuses(firmware: &Firmware, out: &mut Lines) {
    let real_name = type_name(firmware.real);
    out.blank();
    out.doc(0, &["How far a reading is to be believed.".into()]);
    out.line("#[derive(Clone, Copy, Debug, PartialEq, Eq)]");
    out.line("pub enum Status {");
    for (name, doc) in firmware.status_list() {
        out.doc(1, &[format!("{}.", super::readings::capital(doc))]);
        out.line(&format!("    {},", name.rust));
    }
    out.line("}");
    out.blank();
    out.doc(0, &[format!("A reading.{}", firmware.step_note())]);
    out.line("#[derive(Clone, Copy, Debug, PartialEq)]");
    out.line("pub struct Reading {");
    out.doc(1, &["Its value; 0 where its status has none.".into()]);
    out.line(&format!("    pub value: {real_name},"));
    out.doc(1, &["How far it is to be believed.".into()]);
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
    out.doc(1, &["Its value, where its status has one.".into()]);
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

fn enumeration(one: &super::code::Enum, out: &mut Lines) {
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
        out.doc(1, &["A code that the datasheet does not name.".into()]);
        out.line(&format!("    Other({code}),"));
    }
    out.line("}");
    out.blank();
    out.line(&format!("impl {} {{", one.name.rust));
    out.doc(1, &["The value that a code stands for.".into()]);
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

fn is_default(one: &Struct) -> bool {
    one.name.c.ends_with("_settings_t") || one.name.c.ends_with("_parameters_t")
}

fn default_name(one: &Struct) -> &'static str {
    if one.name.c.ends_with("_settings_t") { "RESET" } else { "DEFAULT" }
}

fn default(one: &Struct, printer: &mut Printer, out: &mut Lines) {
    out.doc(
        1,
        &[if default_name(one) == "RESET" { "The registers as after a reset.".into() } else { "What the sheet has for them.".to_owned() }],
    );
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

fn structure(one: &Struct, out: &mut Lines) {
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
            out.doc(1, &[format!("{}.", if place { member.doc.clone() } else { super::readings::capital(&member.doc) })]);
        }
        out.line(&format!("    pub {}: {},", member.name, type_of(&member.ty)));
    }
    out.line("}");
}

fn type_of(ty: &Type) -> String {
    match ty {
        Type::Num(ty) => type_name(*ty).to_owned(),
        Type::Bytes(count) => format!("[u8; {count}]"),
        Type::Named(name) => name.rust.clone(),
        Type::Maybe(ty) => format!("Option<{}>", type_name(*ty)),
    }
}

/// Text that cannot leave its comment, and that rustdoc takes as it is; but for what is ours.
fn plain(text: &str) -> String {
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

fn print(function: &Function, depth: usize, shared: &mut Printer, out: &mut Lines) {
    let pad = "    ".repeat(depth);
    let mut printer = Printer { own: None, ..Printer::default() };
    let is_method = function.of.is_some()
        && matches!(function.params.first(), Some(Param { pass: Pass::In | Pass::Change, ty: Type::Named(name), .. }) if Some(name) == function.of.as_ref());
    if is_method {
        printer.own = function.params.first().map(|param| param.name.clone());
    }
    let bindings = function.body.iter().filter(|statement| matches!(statement, Stmt::Let { .. })).count();
    if bindings > 1 {
        printer.allowed.insert("similar_names");
    }
    let mut body = Lines::default();
    block(&function.body, function, &mut printer, depth + 1, true, &mut body);
    let doc: Vec<String> = function.doc.iter().map(|line| line.replace("`false` comes back", "`false` is returned")).collect();
    out.doc(depth, &doc);
    if !printer.allowed.is_empty() {
        let allowed: Vec<String> = printer.allowed.iter().map(|lint| format!("clippy::{lint}")).collect();
        out.attribute(depth, &allowed);
    }
    // Decoders are small, and called from other crates.
    if function.of.as_ref().is_some_and(|of| of.c.ends_with("_frame_t")) {
        out.line(&format!("{pad}#[inline]"));
    }
    if function.public && function.gives != Gives::Nothing {
        out.line(&format!("{pad}#[must_use]"));
    }
    let mut params: Vec<String> = Vec::new();
    for (index, param) in function.params.iter().enumerate() {
        params.push(match (&param.ty, &param.pass, is_method && index == 0) {
            (_, Pass::Change, true) => "&mut self".into(),
            (_, _, true) => "&self".into(),
            (ty, Pass::In, _) => format!("{}: &{}", param.name, type_of(ty)),
            (ty, Pass::Change, _) => format!("{}: &mut {}", param.name, type_of(ty)),
            (ty, Pass::Value, _) => format!("{}: {}", param.name, type_of(ty)),
        });
    }
    let gives = match &function.gives {
        Gives::Nothing => String::new(),
        Gives::Type(ty) => format!(" -> {}", type_of(ty)),
        Gives::Maybe(ty) => format!(" -> Option<{}>", type_name(*ty)),
        Gives::MaybeStruct(_) => " -> Option<Self>".into(),
    };
    let public = if function.public { "pub " } else { "" };
    let head = format!("{pad}{public}fn {}({}){gives} {{", function.name.rust, params.join(", "));
    if head.chars().count() <= 100 {
        out.line(&head);
    } else {
        out.line(&format!("{pad}{public}fn {}(", function.name.rust));
        params.iter().for_each(|param| out.line(&format!("{pad}    {param},")));
        out.line(&format!("{pad}){gives} {{"));
    }
    out.text.push_str(&body.text);
    out.line(&format!("{pad}}}"));
    shared.bcd |= printer.bcd;
    shared.half |= printer.half;
    shared.math |= printer.math;
}

fn block(list: &[Stmt], function: &Function, printer: &mut Printer, depth: usize, tail: bool, out: &mut Lines) {
    let pad = "    ".repeat(depth);
    let mut index = 0;
    while let Some(statement) = list.get(index) {
        index += 1;
        let last = tail && index == list.len();
        match (statement, list.get(index)) {
            // A value that has to be there, and what is done where it is not.
            (Stmt::Try(name, _, call), Some(Stmt::If(Expr::Not(there), then, otherwise)))
                if **there == Expr::IsThere(name.clone()) && otherwise.is_empty() =>
            {
                index += 1;
                let call = printer.doc(call);
                let head = format!("let Some({name}) = ");
                let laid = call.lay(depth * 4, depth * 4 + head.len(), 7);
                let inner = match then.as_slice() {
                    [Stmt::Return(value)] => format!("return {};", returned(value, function, printer).flat()),
                    _ => String::new(),
                };
                let line = format!("{pad}{head}{laid} else {{ {inner} }};");
                let short =
                    line.chars().count() <= 100 && !laid.contains('\n') && inner.chars().count() + laid.chars().count() + head.len() <= 30;
                if short && !inner.is_empty() {
                    out.line(&line);
                } else {
                    out.line(&format!("{pad}{head}{laid} else {{"));
                    block(then, function, printer, depth + 1, false, out);
                    out.line(&format!("{pad}}};"));
                }
            }
            // What every way through a choice sets is what the choice gives.
            (Stmt::Let { name, ty, value: None, mutable }, Some(choice @ Stmt::If(..))) if gives(std::slice::from_ref(choice), name) => {
                index += 1;
                let mutable = if *mutable { "mut " } else { "" };
                if let Stmt::If(cond, then, otherwise) = choice
                    && let ([Stmt::Set(_, one)], [Stmt::Set(_, other)]) = (then.as_slice(), otherwise.as_slice())
                {
                    let all = [cond, one, other].map(|expr| Box::new(printer.doc(expr)));
                    let [cond, one, other] = all;
                    let typed = if matches!((then.as_slice(), otherwise.as_slice()), ([Stmt::Set(_, one)], [Stmt::Set(_, other)]) if !has_type(one) && !has_type(other))
                    {
                        format!(": {}", type_of(ty))
                    } else {
                        String::new()
                    };
                    out.statement(&format!("{pad}let {mutable}{name}{typed} = "), &Doc::Choice(cond, one, other), depth * 4, ";");
                } else {
                    let number = if matches!(ty, Type::Num(ty) if *ty != Ty::Bool) { format!(": {}", type_of(ty)) } else { String::new() };
                    choose(&format!("let {mutable}{name}{number} = "), choice, name, function, printer, depth, out);
                }
            }
            (Stmt::Set(Expr::Own(of, _), _), _) if of == "frame" || of == "readings" => {
                // All members of a structure follow one another.
                let mut members = Vec::new();
                index -= 1;
                while let Some(Stmt::Set(Expr::Own(_, member), value)) = list.get(index) {
                    members.push((member, printer.doc(value)));
                    index += 1;
                }
                index += 1;
                let filled = matches!(function.gives, Gives::MaybeStruct(_));
                let name = match &function.gives {
                    Gives::Type(Type::Named(name)) => name.rust.as_str(),
                    _ => "Self",
                };
                let (open, close) = if filled { ("Some(", ")") } else { ("", "") };
                let flat: Vec<String> = members.iter().map(|(member, value)| format!("{member}: {}", value.flat())).collect();
                if flat.join(", ").chars().count() <= 18 {
                    out.line(&format!("{pad}{open}{name} {{ {} }}{close}", flat.join(", ")));
                    continue;
                }
                out.line(&format!("{pad}{open}{name} {{"));
                for (member, value) in members {
                    let laid = value.lay(depth * 4 + 4, depth * 4 + 6 + member.len(), 1);
                    out.line(&format!("{pad}    {member}: {laid},"));
                }
                out.line(&format!("{pad}}}{close}"));
            }
            (statement, _) => one(statement, function, printer, depth, last, out),
        }
    }
}

/// Whether every way through statements sets a variable last, or ends the function.
fn gives(list: &[Stmt], name: &str) -> bool {
    match list.last() {
        Some(Stmt::Set(Expr::Var(set), _)) => set == name,
        Some(Stmt::If(_, then, otherwise)) => gives(then, name) && gives(otherwise, name),
        Some(Stmt::Return(_) | Stmt::Fail(_)) => true,
        _ => false,
    }
}

/// A choice that gives the value of a variable.
fn choose(head: &str, choice: &Stmt, name: &str, function: &Function, printer: &mut Printer, depth: usize, out: &mut Lines) {
    let pad = "    ".repeat(depth);
    let Stmt::If(cond, then, otherwise) = choice else { return };
    let cond = printer.doc(cond).lay(depth * 4, depth * 4 + head.len() + 3, 2);
    open(&format!("{pad}{head}if {cond}"), &cond, &pad, out);
    given(then, name, function, printer, depth + 1, out);
    let mut otherwise = otherwise.as_slice();
    while let [Stmt::If(cond, then, more)] = otherwise {
        let cond = printer.doc(cond).lay(depth * 4, depth * 4 + 10, 2);
        open(&format!("{pad}}} else if {cond}"), &cond, &pad, out);
        given(then, name, function, printer, depth + 1, out);
        otherwise = more;
    }
    out.line(&format!("{pad}}} else {{"));
    given(otherwise, name, function, printer, depth + 1, out);
    out.line(&format!("{pad}}}{}", if head.is_empty() { "" } else { ";" }));
}

/// Statements of which the last one gives a value.
fn given(list: &[Stmt], name: &str, function: &Function, printer: &mut Printer, depth: usize, out: &mut Lines) {
    let Some((last, before)) = list.split_last() else { return };
    block(before, function, printer, depth, false, out);
    match last {
        Stmt::Set(_, value) => {
            let value = printer.doc(value);
            out.statement(&"    ".repeat(depth), &value, depth * 4, "");
        }
        Stmt::If(..) => choose("", last, name, function, printer, depth, out),
        other => one(other, function, printer, depth, false, out),
    }
}

/// What is returned, as the function gives it.
fn returned(value: &Expr, function: &Function, printer: &mut Printer) -> Doc {
    let doc = printer.doc(value);
    match function.gives {
        Gives::Maybe(_) => Doc::Call("Some".into(), vec![doc]),
        _ => doc,
    }
}

fn failure(function: &Function) -> &'static str {
    match &function.gives {
        Gives::Type(Type::Num(Ty::Bool)) => "false",
        Gives::Nothing => "",
        _ => "None",
    }
}

fn one(statement: &Stmt, function: &Function, printer: &mut Printer, depth: usize, last: bool, out: &mut Lines) {
    let pad = "    ".repeat(depth);
    let indent = depth * 4;
    match statement {
        Stmt::Comment(text) => out.line(&format!("{pad}// {}", text.replace(['\n', '\r'], " "))),
        Stmt::Let { name, ty, value, mutable } => {
            let mutable = if *mutable { "mut " } else { "" };
            let typed = match value {
                None => format!(": {}", type_of(ty)),
                Some(value) if !has_type(value) => format!(": {}", type_of(ty)),
                Some(_) => String::new(),
            };
            match value {
                None => out.line(&format!("{pad}let {mutable}{name}{typed};")),
                Some(value) => {
                    let head = format!("{pad}let {mutable}{name}{typed} = ");
                    let doc = printer.doc(value);
                    out.statement(&head, &doc, indent, ";");
                }
            }
        }
        Stmt::Set(place, value) => {
            // `check = check ^ byte` is `check ^= byte`.
            let short = match value {
                Expr::Arith(op, ty, left, right) if **left == *place => {
                    let bits = matches!(
                        op,
                        crate::formula::operators::Arith::BitXor
                            | crate::formula::operators::Arith::BitAnd
                            | crate::formula::operators::Arith::BitOr
                    );
                    (bits || ty.is_signed()).then(|| (crate::formula::operators::BinaryOp::Arith(*op).mark(), &**right))
                }
                Expr::Shl(_, left, right) if **left == *place => Some(("<<", &**right)),
                Expr::Shr { value: left, count, .. } if **left == *place => Some((">>", &**count)),
                _ => None,
            };
            let (mark, value) = short.map_or((String::new(), value), |(mark, right)| (mark.to_owned(), right));
            let (place, value) = (printer.doc(place).flat(), printer.doc(value));
            out.statement(&format!("{pad}{place} {mark}= "), &value, indent, ";");
        }
        Stmt::If(cond, then, otherwise) => {
            let cond = printer.doc(cond).lay(indent, indent + 3, 2);
            open(&format!("{pad}if {cond}"), &cond, &pad, out);
            block(then, function, printer, depth + 1, last && !otherwise.is_empty(), out);
            let mut otherwise = otherwise.as_slice();
            while let [Stmt::If(cond, then, more)] = otherwise {
                let cond = printer.doc(cond).lay(indent, indent + 10, 2);
                open(&format!("{pad}}} else if {cond}"), &cond, &pad, out);
                block(then, function, printer, depth + 1, last && !more.is_empty(), out);
                otherwise = more;
            }
            if !otherwise.is_empty() {
                out.line(&format!("{pad}}} else {{"));
                block(otherwise, function, printer, depth + 1, last, out);
            }
            out.line(&format!("{pad}}}"));
        }
        Stmt::Checked { name, op, ty, args, why } => {
            let mut args: Vec<Doc> = args.iter().map(|arg| printer.doc(arg)).collect();
            let first = if args.is_empty() { Doc::Text(String::new()) } else { args.remove(0) };
            let call = if *op == super::code::Checked::Shl {
                Doc::Call(format!("shift_left_{}", ty.bits()), std::iter::once(first).chain(args).collect())
            } else {
                let plain = matches!(&first, Doc::Text(text) if !text.starts_with('-') && !text.starts_with(|c: char| c.is_ascii_digit()))
                    || matches!(first, Doc::Method(..) | Doc::Call(..));
                let first = if plain {
                    first
                } else if let Doc::Text(text) = first {
                    Doc::Paren(Box::new(Doc::Text(format!("{text}_{}", type_name(*ty)))))
                } else {
                    Doc::Paren(Box::new(first))
                };
                Doc::Method(Box::new(first), checked(*op).into(), args)
            };
            let doc = Doc::Behind(Box::new(call), "?".into());
            out.line(&format!("{pad}// {why}"));
            out.statement(&format!("{pad}let {name} = "), &doc, indent, ";");
        }
        Stmt::Take { name, from, why, .. } => {
            let call = Doc::Behind(Box::new(printer.doc(from)), "?".into());
            out.line(&format!("{pad}// {}", why.replace(['\n', '\r'], " ")));
            out.statement(&format!("{pad}let {name} = "), &call, indent, ";");
        }
        Stmt::Try(name, _, call) => {
            let call = printer.doc(call);
            out.statement(&format!("{pad}let {name} = "), &call, indent, ";");
        }
        Stmt::Fail(why) => {
            let why = why.replace(['\n', '\r'], " ");
            if last {
                out.line(&format!("{pad}{} // {why}", failure(function)))
            } else {
                out.line(&format!("{pad}return {}; // {why}", failure(function)))
            }
        }
        Stmt::Return(value) => {
            let value = returned(value, function, printer);
            if last { out.statement(&pad, &value, indent, "") } else { out.statement(&format!("{pad}return "), &value, indent, ";") }
        }
        Stmt::Filled => out.line(&format!("{pad}Some(Self)")),
        Stmt::EachByte(byte, bytes, from, count, body) => {
            let whole = *from == 0 && function.params.iter().any(|param| param.name == *bytes && param.ty == Type::Bytes(*count));
            let skip = if *from > 0 { format!(".skip({from})") } else { String::new() };
            if whole {
                out.line(&format!("{pad}for &{byte} in {bytes} {{"));
            } else {
                out.line(&format!("{pad}for &{byte} in {bytes}.iter(){skip}.take({count}) {{"));
            }
            block(body, function, printer, depth + 1, false, out);
            out.line(&format!("{pad}}}"));
        }
        Stmt::Times(count, body) => {
            out.line(&format!("{pad}for _ in 0..{count} {{"));
            block(body, function, printer, depth + 1, false, out);
            out.line(&format!("{pad}}}"));
        }
        Stmt::Do(call) => {
            let call = printer.doc(call);
            out.statement(&pad, &call, indent, ";");
        }
        Stmt::Ignore(call) => {
            let call = printer.doc(call);
            out.statement(&format!("{pad}let _ = "), &call, indent, ";");
        }
        Stmt::Goto(_) | Stmt::Ask(..) | Stmt::Raise(_) | Stmt::Finish(_) | Stmt::Unpack(..) | Stmt::Out(..) => {
            driver::statement(statement, printer, depth, last, out);
        }
        Stmt::Switch(code, ty, rows, otherwise) => {
            let code = printer.doc(code).flat();
            out.line(&format!("{pad}match {code} {{"));
            let arm = |pattern: &str, body: &[Stmt], printer: &mut Printer, out: &mut Lines| match body {
                [Stmt::Return(value)] => {
                    let value = returned(value, function, printer).flat();
                    out.line(&format!("{pad}    {pattern} => {value},"));
                }
                [Stmt::Fail(why)] => {
                    out.line(&format!("{pad}    {pattern} => {}, // {}", failure(function), why.replace(['\n', '\r'], " ")))
                }
                body => {
                    out.line(&format!("{pad}    {pattern} => {{"));
                    block(body, function, printer, depth + 2, false, out);
                    out.line(&format!("{pad}    }}"));
                }
            };
            for (codes, body) in rows {
                let pattern: Vec<String> = codes.iter().map(|code| digits(*code)).collect();
                arm(&pattern.join(" | "), body, printer, out);
            }
            let _ = ty;
            arm("_", otherwise, printer, out);
            out.line(&format!("{pad}}}"));
        }
    }
}

/// The line that opens a block; behind a condition of several lines the bracket stands alone.
fn open(head: &str, cond: &str, pad: &str, out: &mut Lines) {
    if cond.contains('\n') {
        out.line(head);
        out.line(&format!("{pad}{{"));
    } else {
        out.line(&format!("{head} {{"));
    }
}

fn curves(firmware: &Firmware, out: &mut Lines) {
    for curve in &firmware.curves {
        let name = type_name(curve.ty);
        let last = curve.points.len() - 1;
        out.blank();
        let beyond = match curve.outside {
            Outside::Fault => "there is nothing beyond its ends",
            Outside::Hold => "beyond an end it stays as it is there",
            Outside::Extend => "beyond an end the last line goes on",
        };
        out.doc(0, &[format!("Curve {}: straight lines between points; {beyond}.", curve.sheet_name)]);
        let leaves = curve.outside == Outside::Fault;
        let gives = if leaves { format!("Option<{name}>") } else { name.to_owned() };
        out.line(&format!("fn curve_{}(x: {name}) -> {gives} {{", curve.name));
        let constant = curve.name.to_uppercase();
        out.line(&format!("    const {constant}: [({name}, {name}); {}] = [", curve.points.len()));
        let real = |value: f64, ty: Ty| if ty.is_real() { real(value, ty) } else { digits(value as i128) };
        for (x, y) in &curve.points {
            out.line(&format!("        ({}, {}),", real(*x, curve.ty), real(*y, curve.ty)));
        }
        out.line("    ];");
        let (first, end) = (curve.points.first().copied().unwrap_or_default(), curve.points.get(last).copied().unwrap_or_default());
        match curve.outside {
            Outside::Fault => {
                out.line(&format!("    if !({}..={}).contains(&x) {{", real(first.0, curve.ty), real(end.0, curve.ty)));
                out.line("        return None; // the curve is left");
                out.line("    }");
            }
            Outside::Hold => {
                for (mark, (x, y)) in [("<", first), (">", end)] {
                    out.line(&format!("    if x {mark} {} {{", real(x, curve.ty)));
                    out.line(&format!("        return {};", real(y, curve.ty)));
                    out.line("    }");
                }
            }
            Outside::Extend => {}
        }
        out.line(&format!("    let ((mut x0, mut y0), (mut x1, mut y1)) = ({constant}[0], {constant}[1]);"));
        out.line(&format!("    for &(next_x, next_y) in {constant}.iter().skip(2) {{"));
        out.line("        if x1 > x {");
        out.line("            break;");
        out.line("        }");
        out.line("        (x0, y0) = (x1, y1);");
        out.line("        (x1, y1) = (next_x, next_y);");
        out.line("    }");
        let value = "y0 + (x - x0) * (y1 - y0) / (x1 - x0)";
        out.line(&if leaves { format!("    Some({value})") } else { format!("    {value}") });
        out.line("}");
    }
}

fn helpers(functions: &[Function], printer: &Printer, out: &mut Lines) {
    for bits in [32, 64] {
        let used = functions.iter().any(|function| uses_shift(&function.body, bits));
        if used {
            let count = "i32";
            out.blank();
            out.doc(0, &["A shift to the left, of numbers below zero, too: a product with a power of two.".into()]);
            out.line(&format!("fn shift_left_{bits}(value: i{bits}, count: {count}) -> Option<i{bits}> {{"));
            out.line(&format!("    let count = u32::try_from(count).ok().filter(|count| *count < {bits})?;"));
            out.line("    let moved = value << count;");
            out.line("    (moved >> count == value).then_some(moved)");
            out.line("}");
        }
    }
    if printer.bcd {
        out.blank();
        out.doc(0, &["Decimal digits of four bits each; -1 where one is none.".into()]);
        out.line("fn bcd(bits: u64, digits: u8) -> i64 {");
        out.line("    let mut value: i64 = 0;");
        out.line("    for place in (0..digits).rev() {");
        out.line("        let digit = (bits >> (4 * u32::from(place))) & 0x0F;");
        out.line("        if digit > 9 {");
        out.line("            return -1;");
        out.line("        }");
        out.line("        value = value * 10 + i64::from(digit as u8);");
        out.line("    }");
        out.line("    value");
        out.line("}");
    }
    if printer.half {
        out.blank();
        out.doc(0, &["A half-precision number (IEEE 754-2019, 3.6, binary16).".into()]);
        out.line("fn half(bits: u16) -> f32 {");
        out.line("    let fraction = f32::from(bits & 0x03FF);");
        out.line("    let value = match (bits >> 10) & 0x1F {");
        out.line("        0 => fraction / 16_777_216.0,");
        out.line("        31 if fraction == 0.0 => f32::INFINITY,");
        out.line("        31 => f32::NAN,");
        out.line("        exponent => {");
        out.line("            // The exponent of a float of 32 bits is 112 higher.");
        out.line("            f32::from_bits(u32::from(exponent + 112) << 23) * (1.0 + fraction / 1024.0)");
        out.line("        }");
        out.line("    };");
        out.line("    if bits & 0x8000 == 0 { value } else { -value }");
        out.line("}");
    }
}

fn uses_shift(list: &[Stmt], bits: u32) -> bool {
    list.iter().any(|statement| match statement {
        Stmt::Checked { op: super::code::Checked::Shl, ty, .. } => ty.bits() == bits,
        Stmt::If(_, then, otherwise) => uses_shift(then, bits) || uses_shift(otherwise, bits),
        _ => false,
    })
}

/// Lines of text.
#[derive(Default)]
pub(super) struct Lines {
    pub(super) text: String,
}

impl Lines {
    pub(super) fn line(&mut self, line: &str) {
        self.text.push_str(line);
        self.text.push('\n');
    }

    pub(super) fn blank(&mut self) {
        if !self.text.is_empty() && !self.text.ends_with("\n\n") && !self.text.ends_with("{\n") {
            self.text.push('\n');
        }
    }

    /// A documentation comment; lines of it that are indented are code.
    pub(super) fn doc(&mut self, depth: usize, lines: &[String]) {
        let pad = "    ".repeat(depth);
        let mut code = false;
        for line in lines {
            let is_code = line.starts_with("    ");
            if is_code && !code {
                self.line(&format!("{pad}///"));
                self.line(&format!("{pad}/// ```text"));
            }
            if !is_code && code {
                self.line(&format!("{pad}/// ```"));
            }
            code = is_code;
            if is_code {
                self.line(format!("{pad}/// {}", line.trim_start_matches("    ").replace("```", "'''")).trim_end());
                continue;
            }
            for folded in super::c::folded(&plain(line), 96 - pad.len()) {
                self.line(format!("{pad}/// {folded}").trim_end());
            }
        }
        if code {
            self.line(&format!("{pad}/// ```"));
        }
    }

    fn attribute(&mut self, depth: usize, lints: &[String]) {
        let pad = "    ".repeat(depth);
        let flat = format!("{pad}#[allow({})]", lints.join(", "));
        let inner: usize = lints.iter().map(|lint| lint.len() + 2).sum();
        if flat.len() <= 100 && inner <= 72 {
            self.line(&flat);
            return;
        }
        self.line(&format!("{pad}#[allow("));
        for (index, lint) in lints.iter().enumerate() {
            let comma = if index + 1 == lints.len() { "" } else { "," };
            self.line(&format!("{pad}    {lint}{comma}"));
        }
        self.line(&format!("{pad})]"));
    }

    /// A statement with an expression in it.
    fn statement(&mut self, head: &str, doc: &Doc, indent: usize, end: &str) {
        let column = head.chars().count();
        let laid = doc.lay(indent, column, end.len());
        // What is too long behind `=` and has no place to be broken goes to the next line.
        let first = laid.lines().next().unwrap_or("");
        let sum = matches!(doc, Doc::Chain(..) | Doc::Method(..))
            && laid.contains('\n')
            && indent + 4 + doc.flat().chars().count() + end.len() <= 100;
        if (sum || column + first.chars().count() > 100) && head.trim_end().ends_with('=') {
            let pad = " ".repeat(indent + 4);
            let laid = doc.lay(indent + 4, indent + 4, end.len());
            self.line(head.trim_end());
            self.line(&format!("{pad}{laid}{end}"));
            return;
        }
        self.line(&format!("{head}{laid}{end}"));
    }
}

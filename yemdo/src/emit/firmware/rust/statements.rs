//! Functions and their statements in Rust.

use super::super::code::{Expr, Function, Gives, Param, Pass, Stmt, Type};
use super::doc::Doc;
use super::expr::Printer;
use super::lines::Lines;
use super::literals::type_name;
use super::literals::{checked, digits, has_type};
use super::machine;
use super::types::type_of;
use crate::ground::number::Ty;

pub(super) fn print(function: &Function, depth: usize, shared: &mut Printer, out: &mut Lines) {
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
    out.doc(depth, &function.doc);
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
        Gives::MaybeStruct(..) => " -> Option<Self>".into(),
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

pub(super) fn block(list: &[Stmt], function: &Function, printer: &mut Printer, depth: usize, tail: bool, out: &mut Lines) {
    let pad = "    ".repeat(depth);
    let mut index = 0;
    while let Some(statement) = list.get(index) {
        index += 1;
        let last = tail && index == list.len();
        match (statement, list.get(index)) {
            // A required optional value, with statements for a missing one.
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
            (Stmt::Try(name, _, call), Some(Stmt::If(Expr::IsThere(there), then, otherwise))) if there == name && otherwise.is_empty() => {
                index += 1;
                let head = format!("{pad}if let Some({name}) = ");
                out.statement(&head, &printer.doc(call), depth * 4, " {");
                block(then, function, printer, depth + 1, false, out);
                out.line(&format!("{pad}}}"));
            }
            // A variable set in all branches is the value of the choice.
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
                let filled = matches!(function.gives, Gives::MaybeStruct(..));
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
pub(super) fn gives(list: &[Stmt], name: &str) -> bool {
    match list.last() {
        Some(Stmt::Set(Expr::Var(set), _)) => set == name,
        Some(Stmt::If(_, then, otherwise)) => gives(then, name) && gives(otherwise, name),
        Some(Stmt::Return(_) | Stmt::Fail(_)) => true,
        _ => false,
    }
}

/// A choice that gives the value of a variable.
pub(super) fn choose(head: &str, choice: &Stmt, name: &str, function: &Function, printer: &mut Printer, depth: usize, out: &mut Lines) {
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

/// Statements with a value in the last one.
pub(super) fn given(list: &[Stmt], name: &str, function: &Function, printer: &mut Printer, depth: usize, out: &mut Lines) {
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

/// Returned value in the form of the function's result.
pub(super) fn returned(value: &Expr, function: &Function, printer: &mut Printer) -> Doc {
    let doc = printer.doc(value);
    match function.gives {
        Gives::Maybe(_) => Doc::Call("Some".into(), vec![doc]),
        _ => doc,
    }
}

pub(super) fn failure(function: &Function) -> &'static str {
    match &function.gives {
        Gives::Type(Type::Num(Ty::Bool)) => "false",
        Gives::Nothing => "",
        _ => "None",
    }
}

pub(super) fn one(statement: &Stmt, function: &Function, printer: &mut Printer, depth: usize, last: bool, out: &mut Lines) {
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
            let call = if *op == super::super::code::Checked::Shl {
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
        Stmt::Decode { var, frame, unpack, readings } => {
            let arguments: Vec<&str> = readings.1.iter().filter(|name| *name != var).map(String::as_str).collect();
            out.line(&format!("{pad}let {var} = {}::{}({})?;", frame.rust, unpack.0.rust, unpack.1.join(", ")));
            out.line(&format!("{pad}Some({var}.{}({}))", readings.0.rust, arguments.join(", ")));
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
        Stmt::EachCode { name, ty, low, high, down, body } => {
            let codes = format!("{low}..={high}_{}", type_name(*ty));
            let codes = if *down { format!("({codes}).rev()") } else { codes };
            out.line(&format!("{pad}for {name} in {codes} {{"));
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
        Stmt::Goto(_) | Stmt::Ask(..) | Stmt::Raise(_) | Stmt::Finish(_) | Stmt::Unpack { .. } | Stmt::Out(..) => {
            machine::statement(statement, printer, depth, last, out);
        }
        Stmt::Switch(code, rows, otherwise) => {
            let code = printer.doc(code).flat();
            out.line(&format!("{pad}match {code} {{"));
            let arm = |pattern: &str, body: &[Stmt], printer: &mut Printer, out: &mut Lines| match body {
                [Stmt::Return(value)] => {
                    let value = returned(value, function, printer).flat();
                    let leave = if last { "" } else { "return " };
                    out.line(&format!("{pad}    {pattern} => {leave}{value},"));
                }
                [Stmt::Fail(why)] => {
                    out.line(&format!("{pad}    {pattern} => {}, // {}", failure(function), why.replace(['\n', '\r'], " ")))
                }
                [Stmt::Switch(..)] => {
                    // A choice follows the arrow.
                    let mut inner = Lines::default();
                    block(body, function, printer, depth + 1, true, &mut inner);
                    out.line(&format!("{pad}    {pattern} => {},", inner.text.trim()));
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
            arm("_", otherwise, printer, out);
            out.line(&format!("{pad}}}"));
        }
    }
}

/// Line that opens a block; after a condition of several lines, the bracket has its own line.
pub(super) fn open(head: &str, cond: &str, pad: &str, out: &mut Lines) {
    if cond.contains('\n') {
        out.line(head);
        out.line(&format!("{pad}{{"));
    } else {
        out.line(&format!("{head} {{"));
    }
}

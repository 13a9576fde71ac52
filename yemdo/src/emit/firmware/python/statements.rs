//! Functions and their statements in Python.

use super::super::code::{Expr, Function, Gives, Param, Pass, Stmt, Type};
use super::super::used::Used;
use super::expr::{Printer, kind};
use super::lines::{Lines, comment};
use super::machine;
use crate::ground::number::Ty;

/// Prints a function; `class` if it is a method of its first parameter.
pub(super) fn print(function: &Function, class: bool, printer: &mut Printer, out: &mut Lines) {
    let depth = usize::from(class);
    printer.own = function.params.first().filter(|_| class).map(|param| param.name.clone());
    printer.calls(&Used::in_function(function));
    let mut params: Vec<String> = Vec::new();
    for (index, param) in function.params.iter().enumerate() {
        params.push(if class && index == 0 {
            "self".to_owned()
        } else {
            format!("{}: {}", printer.local(&param.name), printer.type_of(&param.ty, class))
        });
    }
    let underscore = if function.public { "" } else { "_" };
    let head = format!("def {underscore}{}", function.name.python);
    out.head(depth, &head, &params, &gives(function, printer, class));
    out.docstring(depth + 1, &doc(function));
    lengths(function, printer, depth + 1, out);
    limits(function, printer, depth + 1, out);
    block(&function.body, function, printer, depth + 1, out);
    printer.own = None;
}

/// Bytes of another length are no frame.
fn lengths(function: &Function, printer: &Printer, depth: usize, out: &mut Lines) {
    let Gives::MaybeStruct(..) = function.gives else { return };
    // What decodes calls what unpacks.
    if function.body.iter().any(|statement| matches!(statement, Stmt::Decode { .. })) {
        return;
    }
    for Param { name, ty, .. } in &function.params {
        if let Type::Bytes(count) = ty {
            out.lay(depth, &format!("if len({}) != {count}:", printer.local(name)));
            out.lay(depth + 1, "return None");
        }
    }
}

/// A setter of all bits of a type takes no others: here a number has no type that says so.
fn limits(function: &Function, printer: &Printer, depth: usize, out: &mut Lines) {
    let sets = matches!(function.params.first(), Some(Param { pass: Pass::Change, .. })) && function.gives == Gives::Nothing;
    for param in function.params.iter().filter(|param| sets && param.pass == Pass::Value) {
        if let Some((low, high)) = printer.bounds_of(&param.ty) {
            out.lay(depth, &format!("if not {low} <= {} <= {high}:", printer.local(&param.name)));
            out.line(depth + 1, &format!("raise ValueError(\"{low} to {high}\")"));
        }
    }
}

/// Documentation of a function, with differences for Python.
fn doc(function: &Function) -> Vec<String> {
    let mut doc: Vec<String> = function.doc.iter().map(|line| line.replace("`true`", "True").replace("`false`", "False")).collect();
    match &function.gives {
        Gives::MaybeStruct(..) => {
            let bytes = function.params.iter().find_map(|param| if let Type::Bytes(count) = param.ty { Some(count) } else { None });
            doc.extend([
                String::new(),
                format!("Returns None for such bytes, and for another number of bytes than {}.", bytes.unwrap_or(0)),
            ]);
        }
        Gives::Maybe(_) if function.public => doc.extend([String::new(), "Returns None without a value.".to_owned()]),
        _ => {}
    }
    doc
}

fn gives(function: &Function, printer: &Printer, class: bool) -> String {
    match &function.gives {
        Gives::Nothing => "None".to_owned(),
        Gives::Type(ty) => printer.type_of(ty, class),
        Gives::Maybe(ty) => format!("\"{} | None\"", kind(*ty)),
        Gives::MaybeStruct(name, _) => format!("\"{} | None\"", name.python),
    }
}

fn failure(function: &Function) -> &'static str {
    match &function.gives {
        Gives::Type(Type::Num(Ty::Bool)) => "return False",
        Gives::Nothing => "return",
        _ => "return None",
    }
}

pub(super) fn block(list: &[Stmt], function: &Function, printer: &mut Printer, depth: usize, out: &mut Lines) {
    let before = out.count();
    let mut rest = list;
    while let Some((statement, behind)) = rest.split_first() {
        rest = behind;
        if let Stmt::Set(Expr::Own(of, _), _) = statement {
            let own = |statement: &&Stmt| matches!(statement, Stmt::Set(Expr::Own(known, _), _) if known == of);
            let all: Vec<&Stmt> = list.iter().filter(own).collect();
            rest = list.get(list.iter().rposition(|one| own(&one)).map_or(list.len(), |at| at + 1)..).unwrap_or_default();
            made(&all, function, printer, depth, out);
            // The structure is returned as it is made.
            if let Some((Stmt::Filled | Stmt::Return(Expr::Var(_)), behind)) = rest.split_first() {
                rest = behind;
            }
            continue;
        }
        one(statement, function, printer, depth, out);
    }
    if out.count() == before {
        out.line(depth, "pass");
    }
}

/// A structure with all of its members, returned.
fn made(members: &[&Stmt], function: &Function, printer: &mut Printer, depth: usize, out: &mut Lines) {
    let class = match &function.gives {
        Gives::Type(Type::Named(name)) | Gives::MaybeStruct(name, _) => name.python.clone(),
        _ => String::new(),
    };
    let member = |statement: &&Stmt| match statement {
        Stmt::Set(Expr::Own(_, member), value) => format!("{}={}", super::super::names::python(member), printer.alone(value)),
        _ => String::new(),
    };
    let args: Vec<String> = members.iter().map(member).collect();
    out.exploded(depth, &format!("return {class}("), &args, ")");
}

fn one(statement: &Stmt, function: &Function, printer: &mut Printer, depth: usize, out: &mut Lines) {
    match statement {
        Stmt::Comment(text) => comment(text, depth, out),
        // It gets its value in each branch.
        Stmt::Let { value: None, .. } => {}
        Stmt::Let { name, value: Some(value), .. } | Stmt::Try(name, _, value) => {
            let value = printer.alone(value);
            out.lay(depth, &format!("{} = {value}", printer.local(name)));
        }
        Stmt::Set(place, value) => {
            let (place, value) = (printer.alone(place), printer.alone(value));
            out.lay(depth, &format!("{place} = {value}"));
        }
        Stmt::If(cond, then, otherwise) => choice(cond, then, otherwise, function, printer, depth, out),
        Stmt::Checked { name, op, ty, args, why } => {
            let call = printer.checked(*op, ty.bits(), args);
            taken(name, &call, why, function, printer, depth, out);
        }
        Stmt::Take { name, from, why, .. } => {
            let from = printer.alone(from);
            taken(name, &from, why, function, printer, depth, out);
        }
        Stmt::Fail(why) => {
            comment(why, depth, out);
            out.line(depth, failure(function));
        }
        Stmt::Return(value) => {
            let value = printer.alone(value);
            out.lay(depth, &format!("return {value}"));
        }
        Stmt::Filled => {
            if let Gives::MaybeStruct(name, _) = &function.gives {
                out.line(depth, &format!("return {}()", name.python));
            }
        }
        Stmt::Decode { var, unpack, readings, .. } => {
            let (first, next) = (printer.callee(&unpack.0).name, printer.callee(&readings.0).name);
            let all = |names: &[String]| names.iter().map(|name| printer.local(name)).collect::<Vec<_>>().join(", ");
            let var = printer.local(var);
            out.lay(depth, &format!("{var} = {first}({})", all(&unpack.1)));
            out.lay(depth, &format!("if {var} is None:"));
            out.line(depth + 1, "return None");
            out.lay(depth, &format!("return {next}({})", all(&readings.1)));
        }
        Stmt::EachByte(byte, bytes, from, count, body) => {
            let (bytes, byte) = (printer.bytes(bytes), printer.local(byte));
            out.lay(depth, &format!("for {byte} in {bytes}[{from}:{}]:", from + count));
            block(body, function, printer, depth + 1, out);
        }
        Stmt::Times(count, body) => {
            out.line(depth, &format!("for _ in range({count}):"));
            block(body, function, printer, depth + 1, out);
        }
        Stmt::EachCode { name, low, high, down, body, .. } => {
            let codes = if *down { format!("range({high}, {}, -1)", low - 1) } else { format!("range({low}, {})", high + 1) };
            out.line(depth, &format!("for {} in {codes}:", printer.local(name)));
            block(body, function, printer, depth + 1, out);
        }
        Stmt::Do(call) | Stmt::Ignore(call @ (Expr::Call(..) | Expr::Method(..))) => {
            let call = printer.alone(call);
            out.lay(depth, &call);
        }
        // Nothing happens where a value is only computed.
        Stmt::Ignore(_) => {}
        Stmt::Goto(_) | Stmt::Ask(..) | Stmt::Raise(_) | Stmt::Finish(_) | Stmt::Unpack { .. } | Stmt::Out(..) => {
            machine::statement(statement, printer, depth, out);
        }
        Stmt::Switch(code, rows, otherwise) => switch(code, rows, otherwise, function, printer, depth, out),
    }
}

/// A value that may be none, or the function fails.
fn taken(name: &str, from: &str, why: &str, function: &Function, printer: &Printer, depth: usize, out: &mut Lines) {
    let name = printer.local(name);
    out.lay(depth, &format!("{name} = {from}"));
    out.lay(depth, &format!("if {name} is None:"));
    comment(why, depth + 1, out);
    out.line(depth + 1, failure(function));
}

fn choice(cond: &Expr, then: &[Stmt], otherwise: &[Stmt], function: &Function, printer: &mut Printer, depth: usize, out: &mut Lines) {
    let cond = printer.alone(cond);
    out.lay(depth, &format!("if {cond}:"));
    block(then, function, printer, depth + 1, out);
    let mut otherwise = otherwise;
    while let [Stmt::If(cond, then, more)] = otherwise {
        let cond = printer.alone(cond);
        out.lay(depth, &format!("elif {cond}:"));
        block(then, function, printer, depth + 1, out);
        otherwise = more;
    }
    if !otherwise.is_empty() {
        out.line(depth, "else:");
        block(otherwise, function, printer, depth + 1, out);
    }
}

fn switch(
    code: &Expr,
    rows: &[(Vec<i128>, Vec<Stmt>)],
    otherwise: &[Stmt],
    function: &Function,
    printer: &mut Printer,
    depth: usize,
    out: &mut Lines,
) {
    if rows.is_empty() {
        return block(otherwise, function, printer, depth, out);
    }
    let text = printer.alone(code);
    // It is computed once. No name of a sheet begins with `_`.
    let text = if code.is_plain() {
        text
    } else {
        let code = printer.temporary("code");
        out.lay(depth, &format!("{code} = {text}"));
        code
    };
    for (index, (codes, body)) in rows.iter().enumerate() {
        let word = if index == 0 { "if" } else { "elif" };
        let test = match codes.as_slice() {
            [code] => format!("{text} == {code}"),
            codes => format!("{text} in ({})", codes.iter().map(i128::to_string).collect::<Vec<_>>().join(", ")),
        };
        out.lay(depth, &format!("{word} {test}:"));
        block(body, function, printer, depth + 1, out);
    }
    if !otherwise.is_empty() {
        out.line(depth, "else:");
        block(otherwise, function, printer, depth + 1, out);
    }
}

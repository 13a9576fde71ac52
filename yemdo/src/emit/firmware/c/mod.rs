//! A module as C99: a header and a source file.

pub(super) mod driver;
mod expr;
mod helpers;

use std::collections::BTreeSet;

use super::code::{Expr, Function, Gives, Member, Name, Param, Pass, Stmt, Struct, Type};
use super::{Emitted, Firmware};
use crate::ground::number::Ty;
pub(super) use expr::Helper;
use expr::{Printer, hex, integer, type_name};

/// Lines are broken where they are longer.
const WIDTH: usize = 110;

/// Prints a module.
pub(super) fn files(firmware: &Firmware) -> Vec<Emitted> {
    let prefix = firmware.prefix.lower.as_str();
    let mut printer = Printer { prefix, helpers: BTreeSet::new(), math: false, null: false, tried: BTreeSet::new(), filled: false };
    let module = &firmware.module;
    let mut header = Lines::default();
    header.comment(&firmware.head("c"));
    let guard = format!("{}_H", firmware.prefix.upper);
    header.line(&format!("#ifndef {guard}"));
    header.line(&format!("#define {guard}"));
    header.blank();
    header.line("#include <stdbool.h>");
    header.line("#include <stdint.h>");
    header.blank();
    header.line("#ifdef __cplusplus");
    header.line("extern \"C\" {");
    header.line("#endif");
    for constant in &module.constants {
        header.blank();
        header.comment(std::slice::from_ref(&constant.doc));
        let value = match &constant.value {
            Expr::Int(value, _) if constant.hex > 0 => format!("0x{value:0digits$X}", digits = constant.hex),
            Expr::Hex(value, ty) => hex(*value, *ty),
            other => printer.alone(other),
        };
        header.line(&format!(
            "#define {} {value}{}",
            constant.name.c,
            if value.starts_with("0x") && !value.ends_with('U') { "U" } else { "" }
        ));
    }
    header.blank();
    header.comment(&["How far a reading is to be believed.".to_owned()]);
    header.line("typedef enum {");
    for (index, (name, doc)) in firmware.status_list().iter().enumerate() {
        header.line(&format!("    {} = {index}, /* {doc} */", name.c));
    }
    header.line(&format!("}} {};", firmware.status_type.c));
    header.blank();
    header.comment(&[format!("A reading. Where its status has no value, that is 0.{}", firmware.step_note())]);
    header.line("typedef struct {");
    header.line(&format!("    {} value;", type_name(firmware.real)));
    header.line(&format!("    {} status;", firmware.status_type.c));
    header.line(&format!("}} {}_reading_t;", prefix));
    for one in &module.enums {
        header.blank();
        header.comment(&one.doc);
        header.line(&format!("typedef {} {};", type_name(one.ty), one.name.c));
        for (name, code, doc) in &one.values {
            header.line(&format!("#define {} {} /* {} */", name.c, integer(*code, one.ty, false).0, plain(doc)));
        }
    }
    for one in &module.structs {
        header.blank();
        structure(one, &mut header);
    }
    for function in module.functions.iter().filter(|function| function.public) {
        header.blank();
        header.comment(&c_doc(function));
        header.wrapped(&format!("{};", signature(function)), 0);
    }
    for one in module.structs.iter().filter(|one| is_default(one)) {
        header.blank();
        header.comment(&[default_doc(one)]);
        header.line(&format!("{} {}(void);", one.name.c, default_name(one)));
    }
    driver::header(firmware, &mut header);
    header.blank();
    header.line("#ifdef __cplusplus");
    header.line("}");
    header.line("#endif");
    header.blank();
    header.line("#endif");

    let mut body = Lines::default();
    // What is not public comes before whoever calls it: functions stand in that order already.
    for function in module.functions.iter() {
        body.blank();
        if !function.public {
            body.comment(&c_doc(function));
        }
        body.wrapped(&format!("{}{}", if function.public { "" } else { "static " }, signature(function)), 0);
        body.line("{");
        printer.tried.clear();
        printer.filled = matches!(function.gives, Gives::MaybeStruct(_));
        if let Gives::Type(Type::Named(name)) = &function.gives
            && sets_own(&function.body, "readings")
        {
            body.line(&format!("    {} readings;", name.c));
            body.blank();
        }
        statements(&function.body, function, &mut printer, 1, &mut body);
        body.line("}");
    }
    for one in module.structs.iter().filter(|one| is_default(one)) {
        body.blank();
        body.line(&format!("{} {}(void)", one.name.c, default_name(one)));
        body.line("{");
        body.line(&format!("    return ({}){{", one.name.c));
        for member in &one.members {
            body.line(&format!("        .{} = {},", member.name, printer.alone(&member.default)));
        }
        body.line("    };");
        body.line("}");
    }
    driver::source(firmware, &mut printer, &mut body);
    let curves = helpers::curves(firmware);
    let mut source = Lines::default();
    source.comment(&[format!("Made by yemdo {}, with {prefix}.h: see there.", env!("CARGO_PKG_VERSION"))]);
    source.line(&format!("#include \"{prefix}.h\""));
    let helpers_text = helpers::print(&printer.helpers, prefix);
    let string = printer.helpers.iter().any(|helper| matches!(helper, Helper::FromBits(32 | 64)));
    let math = printer.math || curves.contains("isnan") || helpers_text.contains("ldexp");
    if math || printer.null || string {
        source.blank();
    }
    if math {
        source.line("#include <math.h>");
    }
    if printer.null {
        source.line("#include <stddef.h>");
    }
    if string {
        source.line("#include <string.h>");
    }
    if firmware.uses_reals() {
        source.blank();
        source.comment(&[
            "No product may be fused with a sum, or the last digit would depend on the machine. gcc keeps to that with -std=c99, or with -ffp-contract=off.".into(),
        ]);
        source.line("#if defined(__clang__)");
        source.line("#pragma STDC FP_CONTRACT OFF");
        source.line("#endif");
    }
    if firmware.real == Ty::F64 {
        source.blank();
        source.comment(&["Where `double` has fewer than 64 bits, emit with --reals float or --reals none.".into()]);
        source.line(&format!("typedef char {prefix}_double_has_64_bits[(sizeof(double) == 8U) ? 1 : -1];"));
    }
    if !helpers_text.is_empty() {
        source.blank();
        source.raw(&helpers_text);
    }
    if !curves.is_empty() {
        source.blank();
        source.raw(&curves);
    }
    source.blank();
    source.raw(body.text.trim_start());
    vec![Emitted { name: format!("{prefix}.h"), text: header.text }, Emitted { name: format!("{prefix}.c"), text: source.text }]
}

/// Whether statements fill a structure of that name.
fn sets_own(list: &[Stmt], name: &str) -> bool {
    list.iter().any(|statement| matches!(statement, Stmt::Set(Expr::Own(of, _), _) if of == name))
}

/// The structures that begin as something: settings and parameters.
fn is_default(one: &Struct) -> bool {
    one.name.c.ends_with("_settings_t") || one.name.c.ends_with("_parameters_t")
}

fn default_name(one: &Struct) -> String {
    let of = one.name.c.trim_end_matches("_t");
    if one.name.c.ends_with("_settings_t") { format!("{of}_reset") } else { format!("{of}_default") }
}

fn default_doc(one: &Struct) -> String {
    if one.name.c.ends_with("_settings_t") { "The registers as after a reset.".into() } else { "What the sheet has for them.".into() }
}

fn structure(one: &Struct, out: &mut Lines) {
    out.comment(&one.doc);
    out.line("typedef struct {");
    for Member { doc, name, ty, .. } in &one.members {
        let declared = match ty {
            Type::Bytes(count) => format!("uint8_t {name}[{count}]"),
            Type::Num(ty) | Type::Maybe(ty) => format!("{} {name}", type_name(*ty)),
            Type::Named(ty) => format!("{} {name}", ty.c),
        };
        out.line(&format!("    {declared};{}", if doc.is_empty() { String::new() } else { format!(" /* {} */", plain(doc)) }));
    }
    out.line(&format!("}} {};", one.name.c));
}

/// Text that cannot leave its comment.
pub(super) fn plain(text: &str) -> String {
    text.replace("*/", "* /")
        .replace("/*", "/ *")
        .replace("??", "? ?")
        .replace('\\', "\\ ")
        .replace(['\n', '\r'], " ")
        .trim_end()
        .to_owned()
}

/// A function's documentation with what is different in C.
fn c_doc(function: &Function) -> Vec<String> {
    let mut doc = function.doc.clone();
    match function.gives {
        Gives::MaybeStruct(_) => doc.extend([String::new(), "Gives `true` where `frame` is filled.".into()]),
        Gives::Maybe(_) if function.public => {
            doc.extend([String::new(), "Gives `false` where there is no value; `result` is left as it is then.".into()])
        }
        _ => {}
    }
    doc
}

fn signature(function: &Function) -> String {
    let mut params: Vec<String> = Vec::new();
    if let Gives::MaybeStruct(name) = &function.gives {
        params.push(format!("{} *frame", name.c));
    }
    params.extend(function.params.iter().map(parameter));
    if let Gives::Maybe(ty) = function.gives {
        params.push(format!("{} *result", type_name(ty)));
    }
    let gives = match &function.gives {
        Gives::Nothing => "void".to_owned(),
        Gives::Type(ty) => plain_type(ty),
        Gives::Maybe(_) | Gives::MaybeStruct(_) => "bool".to_owned(),
    };
    let params = if params.is_empty() { "void".to_owned() } else { params.join(", ") };
    format!("{gives} {}({params})", function.name.c)
}

fn plain_type(ty: &Type) -> String {
    match ty {
        Type::Num(ty) | Type::Maybe(ty) => type_name(*ty).to_owned(),
        Type::Named(Name { c, .. }) => c.clone(),
        Type::Bytes(_) => "uint8_t".to_owned(),
    }
}

fn parameter(param: &Param) -> String {
    match (&param.ty, &param.pass) {
        (Type::Bytes(count), Pass::In) => format!("const uint8_t {}[{count}]", param.name),
        (Type::Bytes(count), _) => format!("uint8_t {}[{count}]", param.name),
        (Type::Maybe(ty), _) => format!("const {} *{}", type_name(*ty), param.name),
        (ty, Pass::In) => format!("const {} *{}", plain_type(ty), param.name),
        (ty, Pass::Change) => format!("{} *{}", plain_type(ty), param.name),
        (ty, Pass::Value) => format!("{} {}", plain_type(ty), param.name),
    }
}

fn statements(list: &[Stmt], function: &Function, printer: &mut Printer<'_>, depth: usize, out: &mut Lines) {
    for (index, statement) in list.iter().enumerate() {
        one_statement(statement, function, printer, depth, out, list.get(index + 1).is_none());
    }
}

fn fails(function: &Function) -> &'static str {
    match &function.gives {
        Gives::Maybe(_) | Gives::MaybeStruct(_) | Gives::Type(Type::Num(Ty::Bool)) => "return false;",
        _ => "return;",
    }
}

fn one_statement(statement: &Stmt, function: &Function, printer: &mut Printer<'_>, depth: usize, out: &mut Lines, _last: bool) {
    let pad = "    ".repeat(depth);
    match statement {
        Stmt::Comment(text) => out.line(&format!("{pad}/* {} */", plain(text))),
        Stmt::Let { name, ty, value, mutable } => {
            let constant = if value.is_some() && !mutable { "const " } else { "" };
            let text = match (value, ty) {
                (Some(value), Type::Num(ty)) => format!(" = {}", printer.value(value, *ty)),
                (Some(value), _) => format!(" = {}", printer.alone(value)),
                (None, _) => String::new(),
            };
            out.wrapped(&format!("{pad}{constant}{} {name}{text};", plain_type(ty)), depth);
        }
        Stmt::Set(Expr::Own(of, member), Expr::Bytes(bytes, at)) => {
            let arrow = if printer.filled { "->" } else { "." };
            for (to, from) in at.iter().enumerate() {
                out.line(&format!("{pad}{of}{arrow}{member}[{to}] = {bytes}[{from}];"));
            }
        }
        Stmt::Set(place, value) => {
            let ty = match value {
                Expr::Arith(_, ty, ..) | Expr::Shr { ty, .. } => *ty,
                _ => Ty::I32,
            };
            let (place, value) = (printer.alone(place), printer.value(value, ty));
            out.wrapped(&format!("{pad}{place} = {value};"), depth);
        }
        Stmt::If(cond, then, otherwise) => {
            let cond = printer.alone(cond);
            out.wrapped(&format!("{pad}if ({cond}) {{"), depth);
            statements(then, function, printer, depth + 1, out);
            let mut otherwise = otherwise.as_slice();
            while let [Stmt::If(cond, then, more)] = otherwise {
                let cond = printer.alone(cond);
                out.wrapped(&format!("{pad}}} else if ({cond}) {{"), depth);
                statements(then, function, printer, depth + 1, out);
                otherwise = more;
            }
            if !otherwise.is_empty() {
                out.line(&format!("{pad}}} else {{"));
                statements(otherwise, function, printer, depth + 1, out);
            }
            out.line(&format!("{pad}}}"));
        }
        Stmt::Checked { name, op, ty, args, why } => {
            let helper = Helper::Checked(*op, ty.bits());
            printer.helpers.insert(helper);
            let args: Vec<String> = args.iter().map(|arg| printer.alone(arg)).collect();
            out.line(&format!("{pad}{} {name};", type_name(*ty)));
            out.wrapped(&format!("{pad}if (!{}_{}({}, &{name})) {{", printer.prefix, helper.name(), args.join(", ")), depth);
            out.line(&format!("{pad}    {} /* {why} */", fails(function)));
            out.line(&format!("{pad}}}"));
        }
        Stmt::Take { name, ty, from: Expr::Pass(of), why } if !printer.tried.contains(of) => {
            printer.null = true;
            out.line(&format!("{pad}if ({of} == NULL) {{"));
            out.line(&format!("{pad}    {} /* {} */", fails(function), plain(why)));
            out.line(&format!("{pad}}}"));
            out.line(&format!("{pad}const {} {name} = *{of};", type_name(*ty)));
        }
        Stmt::Take { name, ty, from, why } => {
            let call = with_result(&printer.alone(from), name);
            let zero = printer.alone(&super::formula::zero(*ty));
            out.line(&format!("{pad}{} {name} = {zero};", type_name(*ty)));
            out.wrapped(&format!("{pad}if (!{call}) {{"), depth);
            out.line(&format!("{pad}    {} /* {} */", fails(function), plain(why)));
            out.line(&format!("{pad}}}"));
        }
        Stmt::Try(name, ty, call) => {
            printer.tried.insert(name.clone());
            let call = with_result(&printer.alone(call), name);
            let zero = printer.alone(&super::formula::zero(*ty));
            out.line(&format!("{pad}{} {name} = {zero};", type_name(*ty)));
            out.wrapped(&format!("{pad}const bool has_{name} = {call};"), depth);
        }
        Stmt::Fail(why) => out.line(&format!("{pad}{} /* {} */", fails(function), plain(why))),
        Stmt::Return(value) => {
            if let Gives::Maybe(ty) = &function.gives {
                let value = printer.value(value, *ty);
                out.wrapped(&format!("{pad}*result = {value};"), depth);
                out.line(&format!("{pad}return true;"));
                return;
            }
            let value = match &function.gives {
                Gives::Type(Type::Num(ty)) => printer.value(value, *ty),
                _ => printer.alone(value),
            };
            out.wrapped(&format!("{pad}return {value};"), depth);
        }
        Stmt::Filled => out.line(&format!("{pad}return true;")),
        Stmt::EachByte(byte, bytes, from, count, body) => {
            let index = if from + count > 255 { "uint16_t" } else { "uint_fast8_t" };
            out.line(&format!("{pad}for ({index} index = {from}; index < {}U; ++index) {{", from + count));
            out.line(&format!("{pad}    const uint8_t {byte} = {bytes}[index];"));
            statements(body, function, printer, depth + 1, out);
            out.line(&format!("{pad}}}"));
        }
        Stmt::Times(count, body) => {
            out.line(&format!("{pad}for (uint_fast8_t round = 0; round < {count}U; ++round) {{"));
            statements(body, function, printer, depth + 1, out);
            out.line(&format!("{pad}}}"));
        }
        Stmt::Do(call) => {
            let call = printer.alone(call);
            out.wrapped(&format!("{pad}{call};"), depth);
        }
        Stmt::Ignore(call) => {
            let call = printer.alone(call);
            let call = if matches!(&statement, Stmt::Ignore(Expr::Call(..) | Expr::Method(..) | Expr::Var(_) | Expr::Member(..))) {
                call
            } else {
                format!("({call})")
            };
            out.wrapped(&format!("{pad}(void){call};"), depth);
        }
        Stmt::Goto(_) | Stmt::Ask(..) | Stmt::Raise(_) | Stmt::Finish(_) | Stmt::Unpack(..) | Stmt::Out(..) => {
            driver::statement(statement, printer, depth, out);
        }
        Stmt::Switch(code, _, rows, otherwise) => {
            let code = printer.alone(code);
            out.line(&format!("{pad}switch ({code}) {{"));
            for (codes, body) in rows {
                for code in codes {
                    out.line(&format!("{pad}case {code}:"));
                }
                statements(body, function, printer, depth + 1, out);
            }
            out.line(&format!("{pad}default:"));
            statements(otherwise, function, printer, depth + 1, out);
            out.line(&format!("{pad}}}"));
        }
    }
}

/// A call with the place for its result behind its arguments.
fn with_result(call: &str, name: &str) -> String {
    let inner = call.strip_suffix(')').unwrap_or(call);
    let comma = if inner.ends_with('(') { "" } else { ", " };
    format!("{inner}{comma}&{name})")
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

    pub(super) fn raw(&mut self, text: &str) {
        self.text.push_str(text);
    }

    /// A comment of one line or several.
    pub(super) fn comment(&mut self, lines: &[String]) {
        match lines {
            [] => {}
            [one] if one.len() < WIDTH - 6 => self.line(&format!("/* {} */", plain(one))),
            lines => {
                let mut first = true;
                for line in lines.iter().flat_map(|line| folded(&plain(line), WIDTH - 3)) {
                    self.line(format!("{} {line}", if first { "/*" } else { " *" }).trim_end());
                    first = false;
                }
                self.line(" */");
            }
        }
    }

    /// A statement, broken behind operators and commas where it is too long.
    pub(super) fn wrapped(&mut self, text: &str, depth: usize) {
        let mut rest = text.to_owned();
        let pad = "    ".repeat(depth + 2);
        while rest.chars().count() > WIDTH {
            let Some(at) = break_at(&rest) else { break };
            let (head, tail) = rest.split_at(at);
            self.line(head.trim_end());
            rest = format!("{pad}{}", tail.trim_start());
        }
        self.line(&rest);
    }
}

/// Where a line that is too long is broken: at the outermost place that fits, as far right as can be.
fn break_at(line: &str) -> Option<usize> {
    let mut nesting = 0usize;
    let mut best: Option<(usize, u8, usize)> = None;
    let start = line.len() - line.trim_start().len();
    let chars: Vec<(usize, char)> = line.char_indices().collect();
    for (index, (at, c)) in chars.iter().enumerate() {
        match c {
            '(' if index < WIDTH && best.is_none() && *at > start + 8 => {
                nesting += 1;
                best = Some((usize::MAX, u8::MAX, at + 1));
            }
            '(' | '[' | '{' => nesting += 1,
            ')' | ']' | '}' => nesting = nesting.saturating_sub(1),
            ' ' if index < WIDTH && *at > start + 8 => {
                let before = line.get(..*at).unwrap_or("");
                let after = line.get(at + 1..).unwrap_or("");
                let weight = if before.ends_with(',') {
                    1
                } else if after.starts_with("&& ") || after.starts_with("|| ") || after.starts_with("? ") || after.starts_with(": ") {
                    0
                } else if ["+ ", "- ", "| ", "* ", "/ ", "= ", "< ", ">", "!=", "==", "^ "].iter().any(|mark| after.starts_with(mark))
                    && !after.starts_with("= ")
                {
                    2
                } else {
                    continue;
                };
                let better = best.is_none_or(|(deep, heavy, _)| (nesting, weight) <= (deep, heavy));
                if better {
                    best = Some((nesting, weight, at + 1));
                }
            }
            _ => {}
        }
    }
    best.map(|(.., at)| at)
}

/// Text in lines of at most so many characters.
pub(super) fn folded(text: &str, width: usize) -> Vec<String> {
    let indent: String = text.chars().take_while(|c| *c == ' ').collect();
    if text.chars().count() <= width {
        return vec![text.to_owned()];
    }
    let mut lines = vec![indent.clone()];
    for word in text.split_whitespace() {
        let line_is_full =
            lines.last().is_some_and(|line| line.trim().chars().count() > 0 && line.chars().count() + 1 + word.chars().count() > width);
        if line_is_full {
            lines.push(indent.clone());
        }
        if let Some(line) = lines.last_mut() {
            if !line.trim().is_empty() {
                line.push(' ');
            }
            line.push_str(word);
        }
    }
    lines
}

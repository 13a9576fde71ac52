//! A module as C99: a header and a source file.

pub(super) mod driver;
mod expr;
mod helpers;
pub(super) mod lines;
pub(super) mod machine;
mod statements;
use super::code::{Expr, Function, Gives, Member, Name, Param, Pass, Role, Struct, Type};
use super::used::Used;
use super::{Emitted, Firmware};
use crate::ground::number::Ty;
pub(super) use expr::Helper;
use expr::{Printer, hex, integer, type_name};
use lines::{Lines, plain};
use statements::{sets_own, statements};
use std::collections::BTreeSet;

/// Lines are broken where they are longer.
const WIDTH: usize = 110;

/// Prints a module.
pub(super) fn files(firmware: &Firmware) -> Vec<Emitted> {
    let prefix = firmware.prefix.lower.as_str();
    let mut printer = Printer { prefix, helpers: BTreeSet::new(), math: false, null: false, tried: BTreeSet::new(), filled: false };
    let module = &firmware.module;
    let mut header = Lines::default();
    header.comment(&firmware.head());
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
    header.comment(&["Status of a reading.".to_owned()]);
    header.line("typedef enum {");
    for (index, (name, doc)) in firmware.status_list().iter().enumerate() {
        header.line(&format!("    {} = {index}, /* {doc} */", name.c));
    }
    header.line(&format!("}} {};", firmware.status_type.c));
    header.blank();
    header.comment(&[format!("A reading; its value is 0 if the status has none.{}", firmware.step_note())]);
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
    // Private functions precede their callers: the functions already have this order.
    for function in module.functions.iter() {
        body.blank();
        if !function.public {
            body.comment(&c_doc(function));
        }
        body.wrapped(&format!("{}{}", if function.public { "" } else { "static " }, signature(function)), 0);
        body.line("{");
        printer.tried.clear();
        printer.filled = matches!(function.gives, Gives::MaybeStruct(..));
        if let Gives::Type(Type::Named(name)) = &function.gives
            && sets_own(&function.body, "readings")
        {
            body.line(&format!("    {} readings;", name.c));
            body.blank();
        }
        let used = Used::in_function(function);
        for param in function.params.iter().filter(|param| !used.names.contains(&param.name)) {
            body.line(&format!("    (void){};", param.name));
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
    source.comment(&[format!("Generated by yemdo {}, see {prefix}.h.", env!("CARGO_PKG_VERSION"))]);
    source.line(&format!("#include \"{prefix}.h\""));
    let helpers_text = helpers::print(&printer.helpers, prefix);
    let string = printer.helpers.iter().any(|helper| matches!(helper, Helper::FromBits(32 | 64)));
    let math = printer.math || printer.helpers.contains(&Helper::FromBits(16));
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
        source.comment(&["If `double` has fewer than 64 bits, use --reals float or --reals none.".into()]);
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

/// The structures that begin as something: settings and parameters.
fn is_default(one: &Struct) -> bool {
    matches!(one.role, Role::Settings | Role::Parameters)
}

fn default_name(one: &Struct) -> String {
    let of = one.name.c.trim_end_matches("_t");
    if one.role == Role::Settings { format!("{of}_reset") } else { format!("{of}_default") }
}

fn default_doc(one: &Struct) -> String {
    if one.role == Role::Settings { "Registers after a reset.".into() } else { "Defaults of the sheet.".into() }
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

/// Documentation of a function, with differences for C.
fn c_doc(function: &Function) -> Vec<String> {
    let mut doc = function.doc.clone();
    match &function.gives {
        Gives::MaybeStruct(_, role) => doc.extend([String::new(), format!("Returns `true` if `{}` is set.", filled(*role))]),
        Gives::Maybe(_) if function.public => {
            doc.extend([String::new(), "Returns `false` without a value; `result` is unchanged then.".into()])
        }
        _ => {}
    }
    doc
}

/// The parameter through which a structure comes.
fn filled(role: Role) -> &'static str {
    if role == Role::Readings { "readings" } else { "frame" }
}

fn signature(function: &Function) -> String {
    let mut params: Vec<String> = Vec::new();
    if let Gives::MaybeStruct(name, role) = &function.gives {
        params.push(format!("{} *{}", name.c, filled(*role)));
    }
    params.extend(function.params.iter().map(parameter));
    if let Gives::Maybe(ty) = function.gives {
        params.push(format!("{} *result", type_name(ty)));
    }
    let gives = match &function.gives {
        Gives::Nothing => "void".to_owned(),
        Gives::Type(ty) => plain_type(ty),
        Gives::Maybe(_) | Gives::MaybeStruct(..) => "bool".to_owned(),
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

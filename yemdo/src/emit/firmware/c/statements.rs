//! Statements in C.

use super::super::code::{Expr, Function, Gives, Stmt, Type};
use super::expr::Helper;
use super::expr::{Printer, type_name};
use super::lines::{Lines, plain};
use super::machine;
use super::plain_type;
use crate::ground::number::Ty;

/// Whether statements fill a structure of that name.
pub(super) fn sets_own(list: &[Stmt], name: &str) -> bool {
    list.iter().any(|statement| matches!(statement, Stmt::Set(Expr::Own(of, _), _) if of == name))
}

pub(super) fn statements(list: &[Stmt], function: &Function, printer: &mut Printer<'_>, depth: usize, out: &mut Lines) {
    for (index, statement) in list.iter().enumerate() {
        one_statement(statement, function, printer, depth, out, list.get(index + 1).is_none());
    }
}

pub(super) fn fails(function: &Function) -> &'static str {
    match &function.gives {
        Gives::Maybe(_) | Gives::MaybeStruct(..) | Gives::Type(Type::Num(Ty::Bool)) => "return false;",
        _ => "return;",
    }
}

pub(super) fn one_statement(statement: &Stmt, function: &Function, printer: &mut Printer<'_>, depth: usize, out: &mut Lines, _last: bool) {
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
            let call = printer.with_result(from, name);
            let zero = printer.alone(&super::super::formula::zero(*ty));
            out.line(&format!("{pad}{} {name} = {zero};", type_name(*ty)));
            out.wrapped(&format!("{pad}if (!{call}) {{"), depth);
            out.line(&format!("{pad}    {} /* {} */", fails(function), plain(why)));
            out.line(&format!("{pad}}}"));
        }
        Stmt::Try(name, ty, call) => {
            printer.tried.insert(name.clone());
            let call = printer.with_result(call, name);
            let zero = printer.alone(&super::super::formula::zero(*ty));
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
        Stmt::Decode { var, frame, unpack, readings } => {
            let given: Vec<String> = unpack.1.iter().map(|name| format!(", {name}")).collect();
            let arguments: Vec<String> =
                readings.1.iter().map(|name| if name == var { format!("&{name}") } else { name.clone() }).collect();
            out.line(&format!("{pad}{} {var};", frame.c));
            out.line(&format!("{pad}if (!{}(&{var}{})) {{", unpack.0.c, given.concat()));
            out.line(&format!("{pad}    return false;"));
            out.line(&format!("{pad}}}"));
            out.wrapped(&format!("{pad}*readings = {}({});", readings.0.c, arguments.join(", ")), depth);
            out.line(&format!("{pad}return true;"));
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
        Stmt::EachCode { name, ty, low, high, down, body } => {
            let number = |number: &i128| super::super::code::Expr::Int(*number, *ty);
            let (first, last) = if *down { (high, low) } else { (low, high) };
            let (first, last) = (printer.alone(&number(first)), printer.alone(&number(last)));
            let (test, next) = if *down { (">=", "--") } else { ("<=", "++") };
            out.line(&format!("{pad}for ({} {name} = {first}; {name} {test} {last}; {next}{name}) {{", type_name(*ty)));
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
        Stmt::Goto(_) | Stmt::Ask(..) | Stmt::Raise(_) | Stmt::Finish(_) | Stmt::Unpack { .. } | Stmt::Out(..) => {
            machine::statement(statement, printer, depth, out);
        }
        Stmt::Switch(code, rows, otherwise) => {
            let code = printer.alone(code);
            out.line(&format!("{pad}switch ({code}) {{"));
            for (codes, body) in rows {
                for code in codes {
                    out.line(&format!("{pad}case {code}:"));
                }
                statements(body, function, printer, depth + 1, out);
                if !leaves(body) {
                    out.line(&format!("{pad}    break;"));
                }
            }
            out.line(&format!("{pad}default:"));
            statements(otherwise, function, printer, depth + 1, out);
            if !leaves(otherwise) {
                out.line(&format!("{pad}    break;"));
            }
            out.line(&format!("{pad}}}"));
        }
    }
}

/// True if code after these statements is unreachable.
pub(super) fn leaves(body: &[Stmt]) -> bool {
    match body.last() {
        Some(Stmt::Return(_) | Stmt::Fail(_) | Stmt::Filled) => true,
        Some(Stmt::If(_, then, otherwise)) => leaves(then) && leaves(otherwise),
        Some(Stmt::Switch(_, rows, otherwise)) => leaves(otherwise) && rows.iter().all(|(_, body)| leaves(body)),
        _ => false,
    }
}

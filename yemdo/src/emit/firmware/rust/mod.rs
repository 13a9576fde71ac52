//! A module as Rust that needs no standard library.

mod device;
mod doc;
mod driver;
mod expr;
mod helpers;
mod lines;
mod literals;
mod machine;
mod statements;
mod types;
use super::code::{Expr, Function};
use super::{Emitted, Firmware};
use doc::Doc;
use expr::Printer;
use helpers::{curves, helpers};
use lines::Lines;
use literals::{digits, hex};
pub(super) use literals::{real, type_name};
use statements::print;
use types::{default, default_name, enumeration, is_default, statuses, structure};

/// Prints a module.
pub(super) fn files(firmware: &Firmware) -> Vec<Emitted> {
    let module = &firmware.module;
    let mut out = Lines::default();
    firmware.head().iter().for_each(|line| out.line(format!("// {line}").trim_end()));
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

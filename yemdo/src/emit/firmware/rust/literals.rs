//! Numbers and types, as Rust writes them.

use super::super::code::{Checked, Expr};
use crate::ground::number::Ty;

/// The name of a type.
pub(in super::super) fn type_name(ty: Ty) -> &'static str {
    ty.short()
}

/// Whether an expression says itself which type it has: literals alone do not.
pub(super) fn has_type(expr: &Expr) -> bool {
    match expr {
        Expr::Int(..) | Expr::Hex(..) | Expr::Real(..) => false,
        Expr::Neg(ty, inner) if ty.is_signed() => has_type(inner),
        Expr::Arith(_, _, left, right) => has_type(left) || has_type(right),
        Expr::Cond(_, one, other) => has_type(one) || has_type(other),
        Expr::Shr { value, .. } => has_type(value),
        _ => true,
    }
}

/// Whether every value of one type is one of the other, and Rust has `From` for it.
pub(super) fn lossless(from: Ty, to: Ty) -> bool {
    if from == Ty::Bool {
        return true;
    }
    match (from.is_real(), to.is_real()) {
        (true, true) => from == Ty::F32 && to == Ty::F64,
        (false, true) => from.bits() <= if to == Ty::F64 { 32 } else { 16 },
        (false, false) => match (from.bounds(), to.bounds()) {
            (Some((low, high)), Some((least, most))) => least <= low && high <= most,
            _ => false,
        },
        (true, false) => false,
    }
}

/// The name of the method for a checked operation.
pub(super) fn checked(op: Checked) -> &'static str {
    match op {
        Checked::Add => "checked_add",
        Checked::Sub => "checked_sub",
        Checked::Mul => "checked_mul",
        Checked::Div => "checked_div",
        Checked::Rem => "checked_rem",
        Checked::Neg => "checked_neg",
        Checked::Abs => "checked_abs",
        Checked::Shl => "shift_left",
    }
}

/// Digits in groups of three, where there are many.
pub(super) fn digits(value: i128) -> String {
    let plain = value.unsigned_abs().to_string();
    format!("{}{}", if value < 0 { "-" } else { "" }, if plain.len() > 4 { grouped(&plain, 3) } else { plain })
}

pub(super) fn grouped(plain: &str, size: usize) -> String {
    let mut text = String::new();
    for (index, c) in plain.chars().enumerate() {
        if index > 0 && (plain.len() - index).is_multiple_of(size) {
            text.push('_');
        }
        text.push(c);
    }
    text
}

/// An unsigned number in hex, as wide as its type.
pub(super) fn hex(value: u64, ty: Ty) -> String {
    let digits = (ty.bits() / 4) as usize;
    let plain = format!("{value:0digits$X}");
    format!("0x{}", if digits > 4 { grouped(&plain, 4) } else { plain })
}

/// A real number with the fewest digits that name it.
pub(in super::super) fn real(value: f64, ty: Ty) -> String {
    let plain = if ty == Ty::F32 { format!("{:?}", value as f32) } else { format!("{value:?}") };
    if !value.is_finite() {
        return format!("{}::{}INFINITY", type_name(ty), if value < 0.0 { "NEG_" } else { "" });
    }
    let (mantissa, exponent) = plain.split_once('e').map_or((plain.as_str(), String::new()), |(m, e)| (m, format!("e{e}")));
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let (sign, whole) = whole.strip_prefix('-').map_or(("", whole), |whole| ("-", whole));
    // Either both sides of the point have groups, or none.
    let whole = if whole.len() > 4 || (whole.len() == 4 && fraction.len() > 4) { grouped(whole, 3) } else { whole.to_owned() };
    let mut behind = String::new();
    for (index, c) in fraction.chars().enumerate() {
        if index > 0 && index.is_multiple_of(3) && fraction.len() > 4 {
            behind.push('_');
        }
        behind.push(c);
    }
    let point = if behind.is_empty() { String::new() } else { format!(".{behind}") };
    format!("{sign}{whole}{point}{exponent}")
}

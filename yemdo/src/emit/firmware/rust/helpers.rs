//! Curves, and what else functions call.

use super::super::Firmware;
use super::super::code::{Function, Stmt};
use super::expr::Printer;
use super::lines::Lines;
use super::literals::digits;
use super::literals::{real, type_name};
use crate::formula::curve::Outside;
use crate::ground::number::Ty;

pub(super) fn curves(firmware: &Firmware, out: &mut Lines) {
    for curve in &firmware.curves {
        let name = type_name(curve.ty);
        let last = curve.points.len() - 1;
        out.blank();
        let beyond = match curve.outside {
            Outside::Fault => "no value beyond the ends",
            Outside::Hold => "constant beyond the ends",
            Outside::Extend => "extrapolated beyond the ends",
        };
        out.doc(0, &[format!("Curve {}: straight lines between points; {beyond}.", curve.sheet_name)]);
        let leaves = curve.outside == Outside::Fault;
        let gives = if leaves { format!("Option<{name}>") } else { name.to_owned() };
        out.line(&format!("fn curve_{}(x: {name}) -> {gives} {{", curve.name));
        let constant = curve.name.to_uppercase();
        let head = format!("    const {constant}: [({name}, {name}); {}] = [", curve.points.len());
        let real = |value: f64, ty: Ty| if ty.is_real() { real(value, ty) } else { digits(value as i128) };
        let points: Vec<String> = curve.points.iter().map(|(x, y)| format!("({}, {})", real(*x, curve.ty), real(*y, curve.ty))).collect();
        let flat = points.join(", ");
        // As rustfmt lays out a short list.
        if flat.len() <= 60 && head.len() + flat.len() <= 98 {
            out.line(&format!("{head}{flat}];"));
        } else {
            out.line(&head);
            points.iter().for_each(|point| out.line(&format!("        {point},")));
            out.line("    ];");
        }
        let (first, end) = (curve.points.first().copied().unwrap_or_default(), curve.points.get(last).copied().unwrap_or_default());
        match curve.outside {
            Outside::Fault => {
                out.line(&format!("    if !({}..={}).contains(&x) {{", real(first.0, curve.ty), real(end.0, curve.ty)));
                out.line("        return None; // beyond the curve");
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

pub(super) fn helpers(functions: &[Function], printer: &Printer, out: &mut Lines) {
    for bits in [32, 64] {
        let used = functions.iter().any(|function| uses_shift(&function.body, bits));
        if used {
            let count = "i32";
            out.blank();
            out.doc(0, &["A left shift, also of negative numbers: a product with a power of two.".into()]);
            out.line(&format!("fn shift_left_{bits}(value: i{bits}, count: {count}) -> Option<i{bits}> {{"));
            out.line(&format!("    let count = u32::try_from(count).ok().filter(|count| *count < {bits})?;"));
            out.line("    let moved = value << count;");
            out.line("    (moved >> count == value).then_some(moved)");
            out.line("}");
        }
    }
    if printer.bcd {
        out.blank();
        out.doc(0, &["Decimal digits of four bits each; -1 if a digit is above 9.".into()]);
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

pub(super) fn uses_shift(list: &[Stmt], bits: u32) -> bool {
    list.iter().any(|statement| match statement {
        Stmt::Checked { op: super::super::code::Checked::Shl, ty, .. } => ty.bits() == bits,
        Stmt::If(_, then, otherwise) => uses_shift(then, bits) || uses_shift(otherwise, bits),
        _ => false,
    })
}

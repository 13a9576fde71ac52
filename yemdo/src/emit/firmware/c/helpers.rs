//! Functions that the output brings along, where it needs them.

use std::collections::BTreeSet;

use super::Helper;
use crate::emit::firmware::Firmware;
use crate::emit::firmware::code::Checked;
use crate::formula::curve::Outside;
use crate::ground::number::Ty;

/// The helpers, in an order in which each comes after those it calls.
pub(super) fn print(helpers: &BTreeSet<Helper>, prefix: &str) -> String {
    let mut text: Vec<String> = Vec::new();
    // Checked arithmetic of 32 bits goes through 64.
    for helper in helpers {
        text.push(one(*helper, prefix));
    }
    text.join("\n")
}

fn one(helper: Helper, prefix: &str) -> String {
    let name = format!("{prefix}_{}", helper.name());
    match helper {
        Helper::ShiftRight(bits, Some(places)) => format!(
            "/* An arithmetic shift to the right: C leaves that of numbers below zero to the implementation. */\n\
             static inline int{bits}_t {name}(int{bits}_t value)\n{{\n    return (value < 0) ? ~(~value >> {places}) : (value >> {places});\n}}\n"
        ),
        Helper::ShiftRight(bits, None) => format!(
            "/* An arithmetic shift to the right: C leaves that of numbers below zero to the implementation. */\n\
             static inline int{bits}_t {name}(int{bits}_t value, int32_t count)\n{{\n    return (value < 0) ? ~(~value >> count) : (value >> count);\n}}\n"
        ),
        Helper::Signed(bits) => format!(
            "/* Bits as a number in two's complement: C leaves the conversion to the implementation. */\n\
             static inline int{bits}_t {name}(uint{bits}_t bits)\n{{\n    if (bits <= (uint{bits}_t)INT{bits}_MAX) {{\n        return (int{bits}_t)bits;\n    }}\n    \
             return (int{bits}_t)(-(int{wide}_t)(uint{bits}_t)(UINT{bits}_MAX - bits) - 1);\n}}\n",
            wide = if bits == 8 {
                16
            } else if bits == 16 {
                32
            } else {
                bits
            },
        ),
        Helper::FromBits(16) => format!(
            "/* A half-precision number (IEEE 754-2019, 3.6, binary16). */\n\
             static float {name}(uint16_t bits)\n{{\n    const uint16_t exponent = (uint16_t)((bits >> 10) & 0x1F);\n    const float fraction = (float)(bits & 0x03FF);\n    \
             float value;\n\n    if (exponent == 0) {{\n        value = ldexpf(fraction, -24);\n    }} else if (exponent == 31) {{\n        value = (fraction == 0.0F) ? INFINITY : NAN;\n    \
             }} else {{\n        value = ldexpf(1024.0F + fraction, (int)exponent - 25);\n    }}\n    return ((bits & 0x8000) != 0) ? -value : value;\n}}\n"
        ),
        Helper::FromBits(bits) => {
            let real = if bits == 32 { "float" } else { "double" };
            format!(
                "/* The bits of a number as that number (IEEE 754). */\n\
                 static {real} {name}(uint{bits}_t bits)\n{{\n    {real} value;\n\n    (void)memcpy(&value, &bits, sizeof value);\n    return value;\n}}\n"
            )
        }
        Helper::Bcd => format!(
            "/* Decimal digits of four bits each; -1 if a digit is above 9. */\n\
             static int64_t {name}(uint64_t bits, uint8_t digits)\n{{\n    int64_t value = 0;\n\n    while (digits > 0) {{\n        --digits;\n        \
             const uint8_t digit = (uint8_t)((bits >> (4 * digits)) & 0x0FU);\n        if (digit > 9) {{\n            return -1;\n        }}\n        \
             value = (value * 10) + digit;\n    }}\n    return value;\n}}\n"
        ),
        Helper::Checked(op, bits) => checked(op, bits, &name),
    }
}

fn checked(op: Checked, bits: u32, name: &str) -> String {
    let two = |condition: &str, result: &str| {
        format!(
            "static bool {name}(int{bits}_t left, int{bits}_t right, int{bits}_t *result)\n{{\n    if ({condition}) {{\n        return false;\n    }}\n    *result = {result};\n    return true;\n}}\n"
        )
    };
    let one = |result: &str| {
        format!(
            "static bool {name}(int{bits}_t value, int{bits}_t *result)\n{{\n    if (value == INT{bits}_MIN) {{\n        return false;\n    }}\n    *result = {result};\n    return true;\n}}\n"
        )
    };
    let (max, min) = (format!("INT{bits}_MAX"), format!("INT{bits}_MIN"));
    match op {
        Checked::Add => two(&format!("(right > 0) ? (left > {max} - right) : (left < {min} - right)"), "left + right"),
        Checked::Sub => two(&format!("(right < 0) ? (left > {max} + right) : (left < {min} + right)"), "left - right"),
        Checked::Mul if bits == 32 => format!(
            "static bool {name}(int32_t left, int32_t right, int32_t *result)\n{{\n    const int64_t product = (int64_t)left * right;\n\n    \
             if ((product < INT32_MIN) || (product > INT32_MAX)) {{\n        return false;\n    }}\n    *result = (int32_t)product;\n    return true;\n}}\n"
        ),
        Checked::Mul => two(
            &format!(
                "(left > 0) ? ((right > 0) ? (left > {max} / right) : (right < {min} / left))\n                   : ((right > 0) ? (left < {min} / right) : ((left != 0) && (right < {max} / left)))"
            ),
            "left * right",
        ),
        Checked::Div => two(&format!("(right == 0) || ((left == {min}) && (right == -1))"), "left / right"),
        Checked::Rem => two(&format!("(right == 0) || ((left == {min}) && (right == -1))"), "left % right"),
        Checked::Neg => one("-value"),
        Checked::Abs => one("(value < 0) ? -value : value"),
        Checked::Shl => {
            let count = "int32_t";
            format!(
                "/* A shift to the left, of numbers below zero, too: a product with a power of two. */\n\
                 static bool {name}(int{bits}_t value, {count} count, int{bits}_t *result)\n{{\n    if ((count < 0) || (count >= {bits})) {{\n        return false;\n    }}\n    \
                 while (count > 0) {{\n        if ((value > {max} / 2) || (value < {min} / 2)) {{\n            return false;\n        }}\n        value *= 2;\n        --count;\n    }}\n    \
                 *result = value;\n    return true;\n}}\n"
            )
        }
    }
}

/// The curves that are called.
pub(super) fn curves(firmware: &Firmware) -> String {
    let prefix = &firmware.prefix.lower;
    let mut text = Vec::new();
    for curve in &firmware.curves {
        let real = curve.ty.name();
        let number = |value: f64| match curve.ty {
            Ty::F32 => format!("{:?}F", value as f32),
            Ty::F64 => format!("{value:?}"),
            _ => format!("{}", value as i64),
        };
        let points: Vec<String> = curve.points.iter().map(|(x, y)| format!("{{ {}, {} }}", number(*x), number(*y))).collect();
        let name = format!("{prefix}_curve_{}", curve.name);
        let last = points.len() - 1;
        let count = points.len();
        let leaves = curve.outside == Outside::Fault;
        let (gives, result) = if leaves { ("bool", format!(", {real} *result")) } else { (real, String::new()) };
        let out = |value: &str| if leaves { format!("*result = {value};\n    return true;") } else { format!("return {value};") };
        let mut outside = match curve.outside {
            Outside::Fault => format!(
                "    if (!((x >= points[0][0]) && (x <= points[{last}][0]))) {{\n        return false; /* the curve is left */\n    }}\n"
            ),
            Outside::Hold => format!(
                "    if (x < points[0][0]) {{\n        return points[0][1];\n    }}\n    if (x > points[{last}][0]) {{\n        return points[{last}][1];\n    }}\n"
            ),
            Outside::Extend => String::new(),
        };
        if !outside.is_empty() {
            outside.insert(0, '\n');
        }
        text.push(format!(
            "/* Curve {}: straight lines between points{}. */\nstatic {gives} {name}({real} x{result})\n{{\n    static const {real} points[{count}][2] = {{\n        {}\n    }};\n    uint16_t above = 1;\n{outside}\n    \
             while ((above < {last}) && (points[above][0] <= x)) {{\n        ++above;\n    }}\n    \
             const {real} x0 = points[above - 1][0];\n    const {real} y0 = points[above - 1][1];\n    const {real} x1 = points[above][0];\n    const {real} y1 = points[above][1];\n    {}\n}}\n",
            super::plain(&curve.sheet_name),
            match curve.outside {
                Outside::Fault => "; there is nothing beyond its ends",
                Outside::Hold => "; beyond an end it stays as it is there",
                Outside::Extend => "; extrapolated beyond the ends",
            },
            points.join(",\n        "),
            out("y0 + (x - x0) * (y1 - y0) / (x1 - x0)"),
        ));
    }
    text.join("\n")
}

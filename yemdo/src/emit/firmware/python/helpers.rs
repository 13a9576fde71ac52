//! Functions that the output brings along, where it needs them.

use std::collections::BTreeSet;

use super::super::Firmware;
use super::super::code::Checked;
use super::expr::Printer;
use super::lines::Lines;
use super::maths;
use crate::formula::curve::Outside;
use crate::formula::functions::Func;
use crate::ground::number::Ty;

/// A helper that the output needs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Helper {
    IsFinite,
    /// The nearest number of 32 bits.
    Single,
    /// A quotient of real numbers, also by zero.
    Ratio,
    /// A quotient of integers, rounded towards zero.
    Quotient,
    Remainder,
    /// The lowest bits in two's complement.
    Signed,
    /// The bits of a float of 16, 32 or 64 bits.
    FromBits(u32),
    Bcd,
    Checked(Checked),
    Math(Func),
}

impl Helper {
    pub(super) fn name(self) -> String {
        let name = match self {
            Helper::IsFinite => "isfinite",
            Helper::Single => "_single",
            Helper::Ratio => "_ratio",
            Helper::Quotient => "_quotient",
            Helper::Remainder => "_remainder",
            Helper::Signed => "_signed",
            Helper::FromBits(16) => "_float_16",
            Helper::FromBits(32) => "_float_32",
            Helper::FromBits(_) => "_float_64",
            Helper::Bcd => "_bcd",
            Helper::Checked(op) => match op {
                Checked::Add => "_add",
                Checked::Sub => "_subtract",
                Checked::Mul => "_multiply",
                Checked::Div => "_divide",
                Checked::Rem => "_modulo",
                Checked::Neg => "_negate",
                Checked::Abs => "_absolute",
                Checked::Shl => "_shift_left",
            },
            Helper::Math(func) => return maths::name(func),
        };
        name.to_owned()
    }

    fn text(self) -> String {
        let text = match self {
            Helper::IsFinite => "",
            Helper::Single => SINGLE,
            Helper::Ratio => RATIO,
            Helper::Quotient => QUOTIENT,
            Helper::Remainder => REMAINDER,
            Helper::Signed => SIGNED,
            Helper::FromBits(16) => FLOAT_16,
            Helper::FromBits(32) => FLOAT_32,
            Helper::FromBits(_) => FLOAT_64,
            Helper::Bcd => BCD,
            Helper::Checked(op) => return checked(op),
            Helper::Math(func) => return maths::text(func),
        };
        text.to_owned()
    }

    /// Helpers that it calls.
    fn needs(self) -> &'static [Helper] {
        match self {
            Helper::Remainder | Helper::Checked(Checked::Div) => &[Helper::Quotient],
            Helper::Checked(Checked::Rem) => &[Helper::Quotient, Helper::Remainder],
            _ => &[],
        }
    }
}

/// Modules of the standard library that the output imports.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Imports {
    pub(super) math: bool,
    pub(super) structure: bool,
    pub(super) isfinite: bool,
}

/// Prints the helpers.
pub(super) fn print(helpers: &BTreeSet<Helper>, out: &mut Lines) -> Imports {
    let all: BTreeSet<Helper> = helpers.iter().flat_map(|helper| helper.needs().iter().copied().chain([*helper])).collect();
    for text in all.iter().map(|helper| helper.text()).filter(|text| !text.is_empty()) {
        out.space();
        text.trim().lines().for_each(|line| out.line(0, line));
    }
    let bits = all.iter().any(|helper| matches!(helper, Helper::Single | Helper::FromBits(32 | 64)));
    let infinite = |helper: &Helper| matches!(helper, Helper::Ratio | Helper::Single | Helper::FromBits(16) | Helper::Math(_));
    Imports { math: all.iter().any(infinite), structure: bits, isfinite: all.contains(&Helper::IsFinite) }
}

const SINGLE: &str = r#"
def _single(value: float) -> float:
    """The nearest number of 32 bits."""
    try:
        return float(struct.unpack("<f", struct.pack("<f", value))[0])
    except OverflowError:
        return math.copysign(_INF, value)
"#;

const RATIO: &str = r#"
def _ratio(left: float, right: float) -> float:
    """A quotient as in IEEE 754: infinite or no number if the divisor is 0."""
    if right != 0.0:
        return left / right
    if left == 0.0 or left != left:
        return _NAN
    return math.copysign(_INF, left) * math.copysign(1.0, right)
"#;

const QUOTIENT: &str = r#"
def _quotient(left: int, right: int) -> int:
    """A quotient as in C: rounded towards 0."""
    value = abs(left) // abs(right)
    return value if (left < 0) == (right < 0) else -value
"#;

const REMAINDER: &str = r#"
def _remainder(left: int, right: int) -> int:
    """A remainder as in C: it has the sign of the dividend."""
    return left - _quotient(left, right) * right
"#;

const SIGNED: &str = r#"
def _signed(value: int, bits: int) -> int:
    """The lowest bits of an integer, in two's complement."""
    half = 1 << (bits - 1)
    return ((value + half) & ((1 << bits) - 1)) - half
"#;

const FLOAT_16: &str = r#"
def _float_16(bits: int) -> float:
    """A half-precision number (IEEE 754-2019, 3.6, binary16)."""
    exponent = (bits >> 10) & 0x1F
    fraction = float(bits & 0x03FF)
    if exponent == 31:
        value = _INF if fraction == 0.0 else _NAN
    elif exponent == 0:
        value = math.ldexp(fraction, -24)
    else:
        value = math.ldexp(1024.0 + fraction, exponent - 25)
    return -value if bits & 0x8000 else value
"#;

const FLOAT_32: &str = r#"
def _float_32(bits: int) -> float:
    """The bits of a number as that number (IEEE 754)."""
    return float(struct.unpack("<f", bits.to_bytes(4, "little"))[0])
"#;

const FLOAT_64: &str = r#"
def _float_64(bits: int) -> float:
    """The bits of a number as that number (IEEE 754)."""
    return float(struct.unpack("<d", bits.to_bytes(8, "little"))[0])
"#;

const BCD: &str = r#"
def _bcd(bits: int, digits: int) -> int:
    """Decimal digits of four bits each; -1 if a digit is above 9."""
    value = 0
    for place in range(digits - 1, -1, -1):
        digit = (bits >> (4 * place)) & 0x0F
        if digit > 9:
            return -1
        value = value * 10 + digit
    return value
"#;

/// The text of a checked operation: its value, or none.
fn checked(op: Checked) -> String {
    let (what, value) = match op {
        Checked::Add => ("sum", "left + right"),
        Checked::Sub => ("difference", "left - right"),
        Checked::Mul => ("product", "left * right"),
        Checked::Div => return DIVIDE.to_owned(),
        Checked::Rem => return MODULO.to_owned(),
        Checked::Neg => return SIGN.replace('@', "negate").replace("WHAT", "negative number").replace("VALUE", "-value"),
        Checked::Abs => return SIGN.replace('@', "absolute").replace("WHAT", "absolute value").replace("VALUE", "abs(value)"),
        Checked::Shl => return SHIFT_LEFT.to_owned(),
    };
    WITHIN.replace('@', Helper::Checked(op).name().trim_start_matches('_')).replace("WHAT", what).replace("VALUE", value)
}

const WITHIN: &str = r#"
def _@(left: int, right: int, bits: int) -> "int | None":
    """A WHAT, if a signed number with these bits can hold it."""
    value = VALUE
    return value if -(1 << (bits - 1)) <= value < 1 << (bits - 1) else None
"#;

const SIGN: &str = r#"
def _@(value: int, bits: int) -> "int | None":
    """The WHAT, if a signed number with these bits can hold it."""
    return None if value == -(1 << (bits - 1)) else VALUE
"#;

const DIVIDE: &str = r#"
def _divide(left: int, right: int, bits: int) -> "int | None":
    """A quotient as in C, if there is one and these bits can hold it."""
    if right == 0 or (right == -1 and left == -(1 << (bits - 1))):
        return None
    return _quotient(left, right)
"#;

const MODULO: &str = r#"
def _modulo(left: int, right: int, bits: int) -> "int | None":
    """A remainder as in C, if there is one and these bits can hold the quotient."""
    if right == 0 or (right == -1 and left == -(1 << (bits - 1))):
        return None
    return _remainder(left, right)
"#;

const SHIFT_LEFT: &str = r#"
def _shift_left(value: int, count: int, bits: int) -> "int | None":
    """A product with a power of 2, if a signed number with these bits can hold it."""
    if not 0 <= count < bits:
        return None
    value <<= count
    return value if -(1 << (bits - 1)) <= value < 1 << (bits - 1) else None
"#;

/// The curves that are called.
pub(super) fn curves(firmware: &Firmware, printer: &mut Printer, out: &mut Lines) {
    for curve in &firmware.curves {
        let mut number = |value: f64| if curve.ty.is_real() { printer.real(value, curve.ty) } else { format!("{}", value as i64) };
        let kind = super::expr::kind(curve.ty);
        let ends = match curve.outside {
            Outside::Fault => "; there is nothing beyond its ends",
            Outside::Hold => "; beyond an end it stays as it is there",
            Outside::Extend => "; extrapolated beyond the ends",
        };
        let gives = if curve.outside == Outside::Fault { format!("\"{kind} | None\"") } else { kind.to_owned() };
        let points: Vec<String> = curve.points.iter().map(|(x, y)| format!("({}, {})", number(*x), number(*y))).collect();
        let (from, to) = (curve.points.first().copied().unwrap_or_default(), curve.points.last().copied().unwrap_or_default());
        let [first, first_y, last, last_y] = [from.0, from.1, to.0, to.1].map(number);
        out.space();
        out.head(0, &format!("def _curve_{}", curve.name), &[format!("x: {kind}")], &gives);
        out.docstring(1, &[format!("Curve {}: straight lines between points{ends}.", curve.sheet_name)]);
        match curve.outside {
            Outside::Fault => {
                out.lay(1, &format!("if not {first} <= x <= {last}:"));
                out.line(2, "return None");
            }
            Outside::Hold => {
                out.lay(1, &format!("if x < {first}:"));
                out.line(2, &format!("return {first_y}"));
                out.lay(1, &format!("if x > {last}:"));
                out.line(2, &format!("return {last_y}"));
            }
            Outside::Extend => {}
        }
        out.exploded(1, "points = (", &points, ")");
        out.line(1, "above = 1");
        out.line(1, &format!("while above < {} and points[above][0] <= x:", points.len().saturating_sub(1)));
        out.line(2, "above += 1");
        out.line(1, "x0, y0 = points[above - 1]");
        out.line(1, "x1, y1 = points[above]");
        let value = match curve.ty {
            Ty::F64 => "y0 + (x - x0) * (y1 - y0) / (x1 - x0)",
            Ty::F32 => {
                printer.helper(Helper::Single);
                out.line(1, "product = _single(_single(x - x0) * _single(y1 - y0))");
                "_single(y0 + _single(product / _single(x1 - x0)))"
            }
            _ => {
                printer.helper(Helper::Quotient);
                "y0 + _quotient((x - x0) * (y1 - y0), x1 - x0)"
            }
        };
        out.line(1, &format!("return {value}"));
    }
}

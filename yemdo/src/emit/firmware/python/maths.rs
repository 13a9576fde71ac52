//! The functions of `<math.h>`, with the results of C where Python raises.

use crate::formula::functions::Func;

/// The name of a function of `<math.h>`, and its text.
pub(super) fn math(func: Func) -> (&'static str, &'static str) {
    match func {
        // These are Python's own.
        Func::Abs | Func::Fabs => ("abs", ""),
        Func::Sqrt => (
            "_sqrt",
            r#"
def _sqrt(x: float) -> float:
    return _NAN if x < 0.0 else math.sqrt(x)
"#,
        ),
        Func::Cbrt => (
            "_cbrt",
            r#"
def _cbrt(x: float) -> float:
    if hasattr(math, "cbrt"):
        return float(math.cbrt(x))
    if x == 0.0 or x - x != 0.0:
        return x
    root = math.copysign(math.pow(abs(x), 1.0 / 3.0), x)
    return root - (root * root * root - x) / (3.0 * root * root)
"#,
        ),
        Func::Exp => (
            "_exp",
            r#"
def _exp(x: float) -> float:
    try:
        return math.exp(x)
    except (OverflowError, ValueError):
        return _INF
"#,
        ),
        Func::Exp2 => (
            "_exp2",
            r#"
def _exp2(x: float) -> float:
    try:
        return float(math.exp2(x)) if hasattr(math, "exp2") else math.pow(2.0, x)
    except (OverflowError, ValueError):
        return _INF
"#,
        ),
        Func::Expm1 => (
            "_expm1",
            r#"
def _expm1(x: float) -> float:
    try:
        return math.expm1(x)
    except (OverflowError, ValueError):
        return _INF
"#,
        ),
        Func::Log => (
            "_log",
            r#"
def _log(x: float) -> float:
    if x <= 0.0:
        return -_INF if x == 0.0 else _NAN
    return math.log(x)
"#,
        ),
        Func::Log2 => (
            "_log2",
            r#"
def _log2(x: float) -> float:
    if x <= 0.0:
        return -_INF if x == 0.0 else _NAN
    return math.log2(x)
"#,
        ),
        Func::Log10 => (
            "_log10",
            r#"
def _log10(x: float) -> float:
    if x <= 0.0:
        return -_INF if x == 0.0 else _NAN
    return math.log10(x)
"#,
        ),
        Func::Log1p => (
            "_log1p",
            r#"
def _log1p(x: float) -> float:
    if x <= -1.0:
        return -_INF if x == -1.0 else _NAN
    if hasattr(math, "log1p"):
        return float(math.log1p(x))
    more = 1.0 + x
    if more == 1.0 or x - x != 0.0:
        return x
    return math.log(more) * (x / (more - 1.0))
"#,
        ),
        Func::Sin => (
            "_sin",
            r#"
def _sin(x: float) -> float:
    return math.sin(x) if x - x == 0.0 else _NAN
"#,
        ),
        Func::Cos => (
            "_cos",
            r#"
def _cos(x: float) -> float:
    return math.cos(x) if x - x == 0.0 else _NAN
"#,
        ),
        Func::Tan => (
            "_tan",
            r#"
def _tan(x: float) -> float:
    return math.tan(x) if x - x == 0.0 else _NAN
"#,
        ),
        Func::Asin => (
            "_asin",
            r#"
def _asin(x: float) -> float:
    return math.asin(x) if -1.0 <= x <= 1.0 else _NAN
"#,
        ),
        Func::Acos => (
            "_acos",
            r#"
def _acos(x: float) -> float:
    return math.acos(x) if -1.0 <= x <= 1.0 else _NAN
"#,
        ),
        Func::Atan => (
            "_atan",
            r#"
def _atan(x: float) -> float:
    return math.atan(x)
"#,
        ),
        Func::Sinh => (
            "_sinh",
            r#"
def _sinh(x: float) -> float:
    try:
        return math.sinh(x)
    except (OverflowError, ValueError):
        return math.copysign(_INF, x)
"#,
        ),
        Func::Cosh => (
            "_cosh",
            r#"
def _cosh(x: float) -> float:
    try:
        return math.cosh(x)
    except (OverflowError, ValueError):
        return _INF
"#,
        ),
        Func::Tanh => (
            "_tanh",
            r#"
def _tanh(x: float) -> float:
    return math.tanh(x)
"#,
        ),
        // From 2^52 on every number is whole.
        Func::Floor => (
            "_floor",
            r#"
def _floor(x: float) -> float:
    return math.copysign(float(math.floor(x)), x) if abs(x) < 4503599627370496.0 else x
"#,
        ),
        Func::Ceil => (
            "_ceil",
            r#"
def _ceil(x: float) -> float:
    return math.copysign(float(math.ceil(x)), x) if abs(x) < 4503599627370496.0 else x
"#,
        ),
        Func::Round => (
            "_round",
            r#"
def _round(x: float) -> float:
    """Halves are rounded away from 0, as in C."""
    if not abs(x) < 4503599627370496.0:
        return x
    whole = int(abs(x))
    return math.copysign(float(whole + (abs(x) - whole >= 0.5)), x)
"#,
        ),
        Func::Trunc => (
            "_trunc",
            r#"
def _trunc(x: float) -> float:
    return math.copysign(float(int(x)), x) if abs(x) < 4503599627370496.0 else x
"#,
        ),
        Func::Pow => (
            "_pow",
            r#"
def _pow(x: float, y: float) -> float:
    try:
        return math.pow(x, y)
    except (OverflowError, ValueError):
        whole = abs(y) >= 9007199254740992.0 or int(y) == y
        odd = whole and abs(y) < 9007199254740992.0 and int(y) % 2 == 1
        if x < 0.0 and not whole:
            return _NAN
        return math.copysign(_INF, x) if odd else _INF
"#,
        ),
        Func::Atan2 => (
            "_atan2",
            r#"
def _atan2(y: float, x: float) -> float:
    return math.atan2(y, x)
"#,
        ),
        Func::Fmod => (
            "_fmod",
            r#"
def _fmod(x: float, y: float) -> float:
    if y == 0.0 or x - x != 0.0:
        return _NAN
    return x if abs(y) == _INF else math.fmod(x, y)
"#,
        ),
        Func::Hypot => (
            "_hypot",
            r#"
def _hypot(x: float, y: float) -> float:
    x, y = abs(x), abs(y)
    if x == _INF or y == _INF:
        return _INF
    large, small = max(x, y), min(x, y)
    if large == 0.0 or x != x or y != y:
        return x + y
    if hasattr(math, "hypot"):
        # This is the function of C; math.hypot computes otherwise.
        return abs(complex(x, y)) if large < 1e300 else math.hypot(x, y)
    return large * math.sqrt(1.0 + (small / large) * (small / large))
"#,
        ),
        Func::Fmin => (
            "_fmin",
            r#"
def _fmin(x: float, y: float) -> float:
    """The smaller number; the other one if one is no number."""
    return x if y != y or x < y else y
"#,
        ),
        Func::Fmax => (
            "_fmax",
            r#"
def _fmax(x: float, y: float) -> float:
    """The larger number; the other one if one is no number."""
    return x if y != y or x > y else y
"#,
        ),
    }
}

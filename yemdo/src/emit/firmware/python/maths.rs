//! The functions of `<math.h>`, with the results of C where Python raises.

use crate::formula::functions::Func;
use crate::ground::number::Ty;

/// The name of a function in the output; `abs` is Python's own.
pub(super) fn name(func: Func) -> String {
    if matches!(func, Func::Abs | Func::Fabs) { "abs".into() } else { format!("_{}", func.name(Ty::F64)) }
}

/// The text of a function; none if it is Python's own.
pub(super) fn text(func: Func) -> String {
    let template = match func {
        Func::Abs | Func::Fabs => return String::new(),
        Func::Atan | Func::Tanh => PLAIN,
        Func::Sin | Func::Cos | Func::Tan => FINITE,
        Func::Asin | Func::Acos => UNIT,
        Func::Log | Func::Log2 | Func::Log10 => LOGARITHM,
        Func::Exp | Func::Expm1 | Func::Cosh => GROWING,
        Func::Floor | Func::Ceil => WHOLE,
        Func::Exp2 => EXP2,
        Func::Sinh => SINH,
        Func::Sqrt => SQRT,
        Func::Cbrt => CBRT,
        Func::Log1p => LOG1P,
        Func::Round => ROUND,
        Func::Trunc => TRUNC,
        Func::Pow => POW,
        Func::Atan2 => ATAN2,
        Func::Fmod => FMOD,
        Func::Hypot => HYPOT,
        Func::Fmin => FMIN,
        Func::Fmax => FMAX,
    };
    template.replace('@', &func.name(Ty::F64))
}

const PLAIN: &str = "
def _@(x: float) -> float:
    return math.@(x)
";

const FINITE: &str = "
def _@(x: float) -> float:
    return math.@(x) if x - x == 0.0 else _NAN
";

const UNIT: &str = "
def _@(x: float) -> float:
    return math.@(x) if -1.0 <= x <= 1.0 else _NAN
";

const LOGARITHM: &str = "
def _@(x: float) -> float:
    if x <= 0.0:
        return -_INF if x == 0.0 else _NAN
    return math.@(x)
";

const GROWING: &str = "
def _@(x: float) -> float:
    try:
        return math.@(x)
    except (OverflowError, ValueError):
        return _INF
";

/// From 2^52 on every number is whole.
const WHOLE: &str = "
def _@(x: float) -> float:
    return math.copysign(float(math.@(x)), x) if abs(x) < 4503599627370496.0 else x
";

const TRUNC: &str = "
def _trunc(x: float) -> float:
    return math.copysign(float(int(x)), x) if abs(x) < 4503599627370496.0 else x
";

const ROUND: &str = r#"
def _round(x: float) -> float:
    """Halves are rounded away from 0, as in C."""
    if not abs(x) < 4503599627370496.0:
        return x
    whole = int(abs(x))
    return math.copysign(float(whole + (abs(x) - whole >= 0.5)), x)
"#;

const EXP2: &str = r#"
def _exp2(x: float) -> float:
    try:
        return float(math.exp2(x)) if hasattr(math, "exp2") else math.pow(2.0, x)
    except (OverflowError, ValueError):
        return _INF
"#;

const SINH: &str = "
def _sinh(x: float) -> float:
    try:
        return math.sinh(x)
    except (OverflowError, ValueError):
        return math.copysign(_INF, x)
";

const SQRT: &str = "
def _sqrt(x: float) -> float:
    return _NAN if x < 0.0 else math.sqrt(x)
";

const CBRT: &str = r#"
def _cbrt(x: float) -> float:
    if hasattr(math, "cbrt"):
        return float(math.cbrt(x))
    if x == 0.0 or x - x != 0.0:
        return x
    root = math.copysign(math.pow(abs(x), 1.0 / 3.0), x)
    return root - (root * root * root - x) / (3.0 * root * root)
"#;

const LOG1P: &str = r#"
def _log1p(x: float) -> float:
    if x <= -1.0:
        return -_INF if x == -1.0 else _NAN
    if hasattr(math, "log1p"):
        return float(math.log1p(x))
    more = 1.0 + x
    if more == 1.0 or x - x != 0.0:
        return x
    return math.log(more) * (x / (more - 1.0))
"#;

const POW: &str = "
def _pow(x: float, y: float) -> float:
    try:
        return math.pow(x, y)
    except (OverflowError, ValueError):
        whole = abs(y) >= 9007199254740992.0 or int(y) == y
        odd = whole and abs(y) < 9007199254740992.0 and int(y) % 2 == 1
        if x < 0.0 and not whole:
            return _NAN
        return math.copysign(_INF, x) if odd else _INF
";

const ATAN2: &str = "
def _atan2(y: float, x: float) -> float:
    return math.atan2(y, x)
";

const FMOD: &str = "
def _fmod(x: float, y: float) -> float:
    if y == 0.0 or x - x != 0.0:
        return _NAN
    return x if abs(y) == _INF else math.fmod(x, y)
";

const HYPOT: &str = r#"
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
"#;

const FMIN: &str = r#"
def _fmin(x: float, y: float) -> float:
    """The smaller number; the other one if one is no number."""
    return x if y != y or x < y else y
"#;

const FMAX: &str = r#"
def _fmax(x: float, y: float) -> float:
    """The larger number; the other one if one is no number."""
    return x if y != y or x > y else y
"#;

//! The functions of `<math.h>` and `<stdlib.h>` that formulas may call.

use crate::ground::number::Ty;

/// The functions of `<math.h>` and `<stdlib.h>` that formulas may call.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[allow(missing_docs)]
pub enum Func {
    Abs,
    Fabs,
    Sqrt,
    Cbrt,
    Exp,
    Exp2,
    Expm1,
    Log,
    Log2,
    Log10,
    Log1p,
    Sin,
    Cos,
    Tan,
    Asin,
    Acos,
    Atan,
    Sinh,
    Cosh,
    Tanh,
    Floor,
    Ceil,
    Round,
    Trunc,
    Pow,
    Atan2,
    Fmod,
    Hypot,
    Fmin,
    Fmax,
}

impl Func {
    /// Name, function, number of arguments. The `float` forms have an `f` behind the name.
    pub const ALL: &'static [(&'static str, Func, usize)] = &[
        ("fabs", Func::Fabs, 1),
        ("sqrt", Func::Sqrt, 1),
        ("cbrt", Func::Cbrt, 1),
        ("exp", Func::Exp, 1),
        ("exp2", Func::Exp2, 1),
        ("expm1", Func::Expm1, 1),
        ("log", Func::Log, 1),
        ("log2", Func::Log2, 1),
        ("log10", Func::Log10, 1),
        ("log1p", Func::Log1p, 1),
        ("sin", Func::Sin, 1),
        ("cos", Func::Cos, 1),
        ("tan", Func::Tan, 1),
        ("asin", Func::Asin, 1),
        ("acos", Func::Acos, 1),
        ("atan", Func::Atan, 1),
        ("sinh", Func::Sinh, 1),
        ("cosh", Func::Cosh, 1),
        ("tanh", Func::Tanh, 1),
        ("floor", Func::Floor, 1),
        ("ceil", Func::Ceil, 1),
        ("round", Func::Round, 1),
        ("trunc", Func::Trunc, 1),
        ("pow", Func::Pow, 2),
        ("atan2", Func::Atan2, 2),
        ("fmod", Func::Fmod, 2),
        ("hypot", Func::Hypot, 2),
        ("fmin", Func::Fmin, 2),
        ("fmax", Func::Fmax, 2),
    ];

    /// Names and types of the integer functions.
    pub const INTEGER: &'static [(&'static str, Func, Ty)] =
        &[("abs", Func::Abs, Ty::I32), ("labs", Func::Abs, Ty::I32), ("llabs", Func::Abs, Ty::I64)];

    /// The function that a call by this name means: function, type of arguments and result, number of arguments.
    pub(crate) fn named(name: &str) -> Option<(Func, Ty, usize)> {
        let real = |base: &str, ty| Self::ALL.iter().find(|(n, ..)| *n == base).map(|(_, func, arity)| (*func, ty, *arity));
        let integer = || Self::INTEGER.iter().find(|(n, ..)| *n == name).map(|(_, func, ty)| (*func, *ty, 1));
        integer().or_else(|| real(name, Ty::F64)).or_else(|| real(name.strip_suffix('f')?, Ty::F32))
    }

    /// Whether every library gives the same last digit: what IEEE 754 defines (IEEE 754-2019, 5.3 and 5.4), and what only chooses.
    pub fn is_exact(self) -> bool {
        matches!(
            self,
            Func::Abs
                | Func::Fabs
                | Func::Sqrt
                | Func::Floor
                | Func::Ceil
                | Func::Round
                | Func::Trunc
                | Func::Fmod
                | Func::Fmin
                | Func::Fmax
        )
    }

    /// The name in C for a type.
    pub fn name(self, ty: Ty) -> String {
        if self == Func::Abs {
            return if ty == Ty::I64 { "llabs".into() } else { "abs".into() };
        }
        let base = Self::ALL.iter().find(|(_, func, _)| *func == self).map_or("?", |(name, ..)| name);
        if ty == Ty::F32 { format!("{base}f") } else { base.into() }
    }
}

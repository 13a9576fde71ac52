//! The types of the formula language and C's conversion rules for them.

use std::fmt;

/// An arithmetic type. `int` and `long` are both [`Ty::I32`]: they have the same width and range here, so no
/// conversion between them can be told apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Ty {
    /// `bool`, `_Bool`.
    Bool,
    /// `int8_t`, `signed char`.
    I8,
    /// `uint8_t`, `unsigned char`.
    U8,
    /// `int16_t`, `short`.
    I16,
    /// `uint16_t`, `unsigned short`.
    U16,
    /// `int32_t`, `int`, `long`.
    I32,
    /// `uint32_t`, `unsigned`, `unsigned long`.
    U32,
    /// `int64_t`, `long long`.
    I64,
    /// `uint64_t`, `unsigned long long`.
    U64,
    /// `float`.
    F32,
    /// `double`.
    F64,
}

impl Ty {
    /// Short name: the kind of number and its bits, as in `u16` and `f32`.
    pub(crate) fn short(self) -> &'static str {
        match self {
            Ty::Bool => "bool",
            Ty::I8 => "i8",
            Ty::U8 => "u8",
            Ty::I16 => "i16",
            Ty::U16 => "u16",
            Ty::I32 => "i32",
            Ty::U32 => "u32",
            Ty::I64 => "i64",
            Ty::U64 => "u64",
            Ty::F32 => "f32",
            Ty::F64 => "f64",
        }
    }

    /// Whether it is `float` or `double`.
    pub fn is_real(self) -> bool {
        matches!(self, Ty::F32 | Ty::F64)
    }

    /// Whether it holds negative numbers.
    pub fn is_signed(self) -> bool {
        matches!(self, Ty::I8 | Ty::I16 | Ty::I32 | Ty::I64 | Ty::F32 | Ty::F64)
    }

    /// Bits of the value.
    pub fn bits(self) -> u32 {
        match self {
            Ty::Bool => 1,
            Ty::I8 | Ty::U8 => 8,
            Ty::I16 | Ty::U16 => 16,
            Ty::I32 | Ty::U32 | Ty::F32 => 32,
            Ty::I64 | Ty::U64 | Ty::F64 => 64,
        }
    }

    /// Lowest and highest value of an integer type; `None` for reals.
    pub fn bounds(self) -> Option<(i128, i128)> {
        let bits = self.bits();
        match self {
            Ty::F32 | Ty::F64 => None,
            Ty::I8 | Ty::I16 | Ty::I32 | Ty::I64 => Some((-(1i128 << (bits - 1)), (1i128 << (bits - 1)) - 1)),
            _ => Some((0, (1i128 << bits) - 1)),
        }
    }

    /// The type after the integer promotions (C11 6.3.1.1): everything narrower than `int` becomes `int`.
    pub fn promoted(self) -> Ty {
        match self {
            Ty::Bool | Ty::I8 | Ty::U8 | Ty::I16 | Ty::U16 => Ty::I32,
            other => other,
        }
    }

    /// The common type of two operands after the usual arithmetic conversions (C11 6.3.1.8).
    pub fn common(self, other: Ty) -> Ty {
        match (self.promoted(), other.promoted()) {
            (Ty::F64, _) | (_, Ty::F64) => Ty::F64,
            (Ty::F32, _) | (_, Ty::F32) => Ty::F32,
            (Ty::U64, _) | (_, Ty::U64) => Ty::U64,
            (Ty::I64, _) | (_, Ty::I64) => Ty::I64,
            (Ty::U32, _) | (_, Ty::U32) => Ty::U32,
            _ => Ty::I32,
        }
    }

    /// The type that holds every value from `low` to `high`: `int` where it can, else the next in C's order
    /// for hexadecimal constants.
    pub fn holding(low: i128, high: i128) -> Ty {
        let fits = |ty: Ty| ty.bounds().is_some_and(|(l, h)| l <= low && high <= h);
        [Ty::I32, Ty::U32, Ty::I64].into_iter().find(|ty| fits(*ty)).unwrap_or(Ty::U64)
    }

    /// The name in C.
    pub fn name(self) -> &'static str {
        match self {
            Ty::Bool => "bool",
            Ty::I8 => "int8_t",
            Ty::U8 => "uint8_t",
            Ty::I16 => "int16_t",
            Ty::U16 => "uint16_t",
            Ty::I32 => "int32_t",
            Ty::U32 => "uint32_t",
            Ty::I64 => "int64_t",
            Ty::U64 => "uint64_t",
            Ty::F32 => "float",
            Ty::F64 => "double",
        }
    }
}

impl fmt::Display for Ty {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// A number of one of the language's types, kept in the widest form of its kind.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Number {
    /// An integer of the given type.
    Int(i128, Ty),
    /// A real of the given type; a `float` holds exactly its `f32` value.
    Real(f64, Ty),
}

impl Number {
    /// The type.
    pub fn ty(self) -> Ty {
        match self {
            Number::Int(_, ty) | Number::Real(_, ty) => ty,
        }
    }

    /// The value as a double; integers beyond 2^53 are rounded.
    pub fn to_f64(self) -> f64 {
        match self {
            // Nearly all fit in 64 bits, and from those the processor converts by itself.
            Number::Int(value, _) => i64::try_from(value).map_or(value as f64, |value| value as f64),
            Number::Real(value, _) => value,
        }
    }
}

impl fmt::Display for Number {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match *self {
            // Most are narrow, and those are printed in a third of the time.
            Number::Int(value, _) => match i64::try_from(value) {
                Ok(narrow) => narrow.fmt(f),
                Err(_) => value.fmt(f),
            },
            Number::Real(value, Ty::F32) => write!(f, "{:?}", value as f32),
            Number::Real(value, _) => write!(f, "{value:?}"),
        }
    }
}

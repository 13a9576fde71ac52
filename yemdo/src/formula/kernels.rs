//! What every operation does to plain numbers: a result, and a fault code where C leaves it undefined.
//!
//! Unsigned numbers are kept as the bit pattern of the signed type of their width.

use crate::formula::fault::FaultKind;
use crate::formula::functions::Func;
use crate::ground::number::Ty;

/// 0 where all is well, else a [`FaultKind`] as [`code`] gives it.
pub(crate) type Fault = u8;

pub(crate) const OK: Fault = 0;

pub(crate) const fn code(kind: FaultKind) -> Fault {
    match kind {
        FaultKind::Overflow => 1,
        FaultKind::DivisionByZero => 2,
        FaultKind::ShiftRange => 3,
        FaultKind::DoesNotFit => 4,
        FaultKind::NotFinite => 5,
        FaultKind::Needed => 6,
        FaultKind::NoValue => 7,
    }
}

pub(crate) const fn kind(code: Fault) -> FaultKind {
    match code {
        1 => FaultKind::Overflow,
        2 => FaultKind::DivisionByZero,
        3 => FaultKind::ShiftRange,
        4 => FaultKind::DoesNotFit,
        5 => FaultKind::NotFinite,
        7 => FaultKind::NoValue,
        _ => FaultKind::Needed,
    }
}

/// A result without a fault.
#[inline]
pub(crate) fn ok<T>(value: T) -> (T, Fault) {
    (value, OK)
}

#[inline]
fn checked<T>((value, overflowed): (T, bool)) -> (T, Fault) {
    (value, if overflowed { code(FaultKind::Overflow) } else { OK })
}

macro_rules! integer_kernels {
    ($module:ident, $signed:ty, $unsigned:ty) => {
        pub(crate) mod $module {
            use super::*;

            #[inline]
            pub(crate) fn add(a: $signed, b: $signed) -> ($signed, Fault) {
                checked(a.overflowing_add(b))
            }
            #[inline]
            pub(crate) fn sub(a: $signed, b: $signed) -> ($signed, Fault) {
                checked(a.overflowing_sub(b))
            }
            #[inline]
            pub(crate) fn mul(a: $signed, b: $signed) -> ($signed, Fault) {
                checked(a.overflowing_mul(b))
            }
            #[inline]
            pub(crate) fn neg(a: $signed) -> ($signed, Fault) {
                checked(a.overflowing_neg())
            }
            #[inline]
            pub(crate) fn abs(a: $signed) -> ($signed, Fault) {
                checked(a.overflowing_abs())
            }
            #[inline]
            pub(crate) fn div(a: $signed, b: $signed) -> ($signed, Fault) {
                if b == 0 { (0, code(FaultKind::DivisionByZero)) } else { checked(a.overflowing_div(b)) }
            }
            #[inline]
            pub(crate) fn rem(a: $signed, b: $signed) -> ($signed, Fault) {
                if b == 0 { (0, code(FaultKind::DivisionByZero)) } else { checked(a.overflowing_rem(b)) }
            }
            #[inline]
            pub(crate) fn unsigned_div(a: $signed, b: $signed) -> ($signed, Fault) {
                match (a as $unsigned).checked_div(b as $unsigned) {
                    Some(value) => (value as $signed, OK),
                    None => (0, code(FaultKind::DivisionByZero)),
                }
            }
            #[inline]
            pub(crate) fn unsigned_rem(a: $signed, b: $signed) -> ($signed, Fault) {
                match (a as $unsigned).checked_rem(b as $unsigned) {
                    Some(value) => (value as $signed, OK),
                    None => (0, code(FaultKind::DivisionByZero)),
                }
            }
            /// A left shift multiplies by a power of two, whatever the sign.
            #[inline]
            pub(crate) fn shl(a: $signed, count: i64) -> ($signed, Fault) {
                if !(0..i64::from(<$signed>::BITS)).contains(&count) {
                    return (0, code(FaultKind::ShiftRange));
                }
                let value = a << count;
                (value, if value >> count == a { OK } else { code(FaultKind::Overflow) })
            }
            #[inline]
            pub(crate) fn unsigned_shl(a: $signed, count: i64) -> ($signed, Fault) {
                if (0..i64::from(<$signed>::BITS)).contains(&count) { (a << count, OK) } else { (0, code(FaultKind::ShiftRange)) }
            }
            #[inline]
            pub(crate) fn shr(a: $signed, count: i64) -> ($signed, Fault) {
                if (0..i64::from(<$signed>::BITS)).contains(&count) { (a >> count, OK) } else { (0, code(FaultKind::ShiftRange)) }
            }
            #[inline]
            pub(crate) fn unsigned_shr(a: $signed, count: i64) -> ($signed, Fault) {
                if (0..i64::from(<$signed>::BITS)).contains(&count) {
                    (((a as $unsigned) >> count) as $signed, OK)
                } else {
                    (0, code(FaultKind::ShiftRange))
                }
            }
        }
    };
}

integer_kernels!(int32, i32, u32);
integer_kernels!(int64, i64, u64);

#[inline]
pub(crate) fn real_div(a: f64, b: f64) -> (f64, Fault) {
    (a / b, if b == 0.0 { code(FaultKind::DivisionByZero) } else { OK })
}

/// The quotient, cut towards zero, of integers below 2^51. The doubles are exact, and so is the cut: the true quotient
/// is a whole number, or further from the next one than half the place of its last bit.
#[inline]
pub(crate) fn small_div(a: i64, b: i64) -> i64 {
    (a as f64 / b as f64) as i64
}

/// 2^52 + 2^51: next to it doubles are one apart, so that the bits of its sum with an integer below 2^51 are the sum
/// of its bits with that integer (IEEE 754, binary64).
const ONE_APART: f64 = (3u64 << 51) as f64;

/// The same as [`small_div`] for many numbers side by side: many machines have no lanes for conversions between
/// 64-bit integers and doubles.
#[inline]
pub(crate) fn small_div_in_lanes(a: i64, b: i64) -> i64 {
    let real = |whole: i64| f64::from_bits(ONE_APART.to_bits().wrapping_add(whole as u64)) - ONE_APART;
    let quotient = real(a) / real(b);
    let nearest = (quotient + ONE_APART) - ONE_APART;
    let cut = nearest - if nearest.abs() > quotient.abs() { 1f64.copysign(quotient) } else { 0.0 };
    (cut + ONE_APART).to_bits().wrapping_sub(ONE_APART.to_bits()) as i64
}

/// The larger of two integers below 2^51, for many numbers side by side: few machines have lanes that compare 64 bits,
/// but doubles with the same exponent are in the order of their bits.
#[inline]
pub(crate) fn small_max_in_lanes(a: i64, b: i64) -> i64 {
    let biased = |whole: i64| f64::from_bits(ONE_APART.to_bits().wrapping_add(whole as u64));
    let larger = if biased(a) > biased(b) { biased(a) } else { biased(b) };
    larger.to_bits().wrapping_sub(ONE_APART.to_bits()) as i64
}

#[inline]
pub(crate) fn single_div(a: f32, b: f32) -> (f32, Fault) {
    (a / b, if b == 0.0 { code(FaultKind::DivisionByZero) } else { OK })
}

/// A real, cut towards zero, as an integer type; its bits in 64.
#[inline]
pub(crate) fn real_to_int(value: f64, ty: Ty) -> (i64, Fault) {
    if ty == Ty::Bool {
        return (i64::from(value != 0.0), OK);
    }
    let cut = value.trunc();
    // The bounds are powers of two (or one less than one), so these doubles are exact where it matters.
    let (low, beyond) = match ty.bounds() {
        Some((low, high)) => (low as f64, (high + 1) as f64),
        None => (0.0, 0.0),
    };
    if !(cut >= low && cut < beyond) {
        return (0, code(FaultKind::DoesNotFit));
    }
    (if ty == Ty::U64 { cut as u64 as i64 } else { cut as i64 }, OK)
}

/// An integer's low bits as an integer type (C11 6.3.1.3; where that is left to the implementation, modulo).
#[inline]
pub(crate) fn wrap(value: i64, ty: Ty) -> i64 {
    match ty {
        Ty::Bool => i64::from(value != 0),
        Ty::I8 => i64::from(value as i8),
        Ty::U8 => i64::from(value as u8),
        Ty::I16 => i64::from(value as i16),
        Ty::U16 => i64::from(value as u16),
        Ty::I32 | Ty::U32 => i64::from(value as i32),
        _ => value,
    }
}

macro_rules! real_functions {
    ($name:ident, $real:ty) => {
        /// A function of `<math.h>`; the second argument is ignored by those that take one.
        #[inline]
        pub(crate) fn $name(func: Func, a: $real, b: $real) -> $real {
            match func {
                Func::Abs | Func::Fabs => a.abs(),
                Func::Sqrt => a.sqrt(),
                Func::Cbrt => a.cbrt(),
                Func::Exp => a.exp(),
                Func::Exp2 => a.exp2(),
                Func::Expm1 => a.exp_m1(),
                Func::Log => a.ln(),
                Func::Log2 => a.log2(),
                Func::Log10 => a.log10(),
                Func::Log1p => a.ln_1p(),
                Func::Sin => a.sin(),
                Func::Cos => a.cos(),
                Func::Tan => a.tan(),
                Func::Asin => a.asin(),
                Func::Acos => a.acos(),
                Func::Atan => a.atan(),
                Func::Sinh => a.sinh(),
                Func::Cosh => a.cosh(),
                Func::Tanh => a.tanh(),
                Func::Floor => a.floor(),
                Func::Ceil => a.ceil(),
                Func::Round => a.round(),
                Func::Trunc => a.trunc(),
                Func::Pow => a.powf(b),
                Func::Atan2 => a.atan2(b),
                Func::Fmod => a % b,
                Func::Hypot => a.hypot(b),
                Func::Fmin => a.min(b),
                Func::Fmax => a.max(b),
            }
        }
    };
}

real_functions!(double, f64);
real_functions!(single, f32);

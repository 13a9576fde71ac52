//! Number forms: how the joined bits of a code are to be read.

use crate::ground::number::Ty;

/// A way to read bits as a number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
#[non_exhaustive]
pub enum Form {
    /// Plain binary.
    #[default]
    Unsigned,
    /// Two's complement.
    Signed,
    /// One's complement; minus zero is zero.
    OnesComplement,
    /// A sign bit and a magnitude; minus zero is zero.
    SignMagnitude,
    /// Plain binary less half of its range.
    OffsetBinary,
    /// Binary-coded decimal, four bits a digit; the topmost digit may have fewer.
    Bcd,
    /// A real number of IEEE 754: half (16 bits), single (32) or double (64).
    Float,
    /// Fixed point, two's complement: `qM.N` has a sign, M bits before the point and N behind it.
    Fixed(u8, u8),
    /// Fixed point without a sign: `uqM.N` has M bits before the point and N behind it.
    UnsignedFixed(u8, u8),
    /// Characters, a byte each.
    Text,
}

impl Form {
    /// The forms' names in the sheet; fixed point is `q` or `uq` with the bits before and behind the point.
    pub const NAMES: &'static [&'static str] =
        &["unsigned", "signed", "ones-complement", "sign-magnitude", "offset-binary", "bcd", "float", "q7.8", "uq8.8", "text"];

    /// The form of that name.
    pub fn named(name: &str) -> Option<Form> {
        Some(match name {
            "unsigned" => Form::Unsigned,
            "signed" => Form::Signed,
            "ones-complement" => Form::OnesComplement,
            "sign-magnitude" => Form::SignMagnitude,
            "offset-binary" => Form::OffsetBinary,
            "bcd" => Form::Bcd,
            "float" => Form::Float,
            "text" => Form::Text,
            _ => {
                let (signed, digits) = match name.strip_prefix('q') {
                    Some(digits) => (true, digits),
                    None => (false, name.strip_prefix("uq")?),
                };
                let (whole, fraction) = digits.split_once('.')?;
                let whole: u8 = whole.parse().ok().filter(|n| *n <= 63)?;
                let fraction: u8 = fraction.parse().ok().filter(|n| *n <= 63)?;
                if whole + fraction == 0 {
                    return None;
                }
                if signed { Form::Fixed(whole, fraction) } else { Form::UnsignedFixed(whole, fraction) }
            }
        })
    }

    /// The name in the sheet.
    pub fn name(self) -> String {
        match self {
            Form::Unsigned => "unsigned".into(),
            Form::Signed => "signed".into(),
            Form::OnesComplement => "ones-complement".into(),
            Form::SignMagnitude => "sign-magnitude".into(),
            Form::OffsetBinary => "offset-binary".into(),
            Form::Bcd => "bcd".into(),
            Form::Float => "float".into(),
            Form::Fixed(whole, fraction) => format!("q{whole}.{fraction}"),
            Form::UnsignedFixed(whole, fraction) => format!("uq{whole}.{fraction}"),
            Form::Text => "text".into(),
        }
    }

    /// Whether a code of this form may have so many bits; if not, what was expected.
    ///
    /// # Errors
    /// The widths that are possible, in words.
    pub fn accepts(self, width: u32) -> Result<(), &'static str> {
        match self {
            Form::Float if !matches!(width, 16 | 32 | 64) => Err("16, 32 or 64 bits"),
            Form::Text if !width.is_multiple_of(8) || width > 2048 => Err("whole bytes, at most 256"),
            Form::Bcd if !(1..=60).contains(&width) => Err("1 to 60 bits"),
            Form::Fixed(..) | Form::UnsignedFixed(..) if width > 53 => Err("at most 53 bits"),
            Form::Fixed(whole, fraction) if width != u32::from(whole) + u32::from(fraction) + 1 => {
                Err("a sign bit and the bits before and behind the point")
            }
            Form::UnsignedFixed(whole, fraction) if width != u32::from(whole) + u32::from(fraction) => {
                Err("the bits before and behind the point")
            }
            Form::OnesComplement | Form::SignMagnitude if !(2..=64).contains(&width) => Err("2 to 64 bits"),
            Form::Text | Form::Float => Ok(()),
            _ if (1..=64).contains(&width) => Ok(()),
            _ => Err("1 to 64 bits"),
        }
    }

    /// Lowest and highest value of a code of so many bits, where it is an integer; of fixed point, in units of
    /// its last bit.
    pub fn bounds(self, width: u32) -> (i128, i128) {
        let width = width.clamp(1, 64);
        let half = 1i128 << (width - 1);
        match self {
            Form::Unsigned | Form::UnsignedFixed(..) => (0, (1i128 << width) - 1),
            Form::Signed | Form::OffsetBinary | Form::Fixed(..) => (-half, half - 1),
            Form::OnesComplement | Form::SignMagnitude => (1 - half, half - 1),
            Form::Bcd => {
                let digits = 10i128.pow(width / 4);
                (0, digits * ((1i128 << (width % 4)).min(10)) - 1)
            }
            Form::Float | Form::Text => (0, 0),
        }
    }

    /// The type that a code of this form and width has in formulas.
    pub fn ty(self, width: u32) -> Ty {
        match self {
            Form::Float if width == 64 => Ty::F64,
            Form::Float => Ty::F32,
            Form::Fixed(..) | Form::UnsignedFixed(..) => Ty::F64,
            _ => {
                let (low, high) = self.bounds(width);
                Ty::holding(low, high)
            }
        }
    }

    /// The integer that the joined bits `raw` make, of which the lowest `width` count; for fixed point in
    /// units of the last bit, for [`Form::Float`] the bits themselves. Unsigned 64-bit codes keep their bit
    /// pattern. `None` where a decimal digit is none.
    #[inline]
    pub fn read(self, raw: u64, width: u32) -> Option<i64> {
        let unused = 64 - width.clamp(1, 64);
        let sign = (raw >> (63 - unused)) & 1 == 1;
        Some(match self {
            Form::Unsigned | Form::UnsignedFixed(..) | Form::Float | Form::Text => raw as i64,
            Form::Signed | Form::Fixed(..) => ((raw << unused) as i64) >> unused,
            Form::OffsetBinary => raw.wrapping_sub(1 << (63 - unused)) as i64,
            Form::OnesComplement if sign => -((!raw & (u64::MAX >> unused)) as i64),
            Form::SignMagnitude if sign => -((raw & ((u64::MAX >> unused) >> 1)) as i64),
            Form::OnesComplement | Form::SignMagnitude => raw as i64,
            Form::Bcd => {
                let mut value = 0;
                for digit in (0..width.div_ceil(4)).rev() {
                    let digit = (raw >> (digit * 4)) & 15;
                    if digit > 9 {
                        return None;
                    }
                    value = value * 10 + digit as i64;
                }
                value
            }
        })
    }

    /// The bits that stand for an integer: the reverse of [`read`](Self::read). What does not fit is cut.
    pub fn write(self, code: i128, width: u32) -> u64 {
        let unused = 64 - width.clamp(1, 64);
        let mask = u64::MAX >> unused;
        let magnitude = code.unsigned_abs() as u64;
        let bits = match self {
            Form::OffsetBinary => (code as u64).wrapping_add(1 << (63 - unused)),
            Form::OnesComplement if code < 0 => !magnitude,
            Form::SignMagnitude if code < 0 => magnitude | (1 << (63 - unused)),
            Form::Bcd => {
                (0..width.div_ceil(4)).fold((0, magnitude), |(bits, rest), digit| (bits | ((rest % 10) << (digit * 4)), rest / 10)).0
            }
            _ => code as u64,
        };
        bits & mask
    }

    /// The real number that the joined bits make, for forms that make one.
    pub fn read_real(self, raw: u64, width: u32) -> Option<f64> {
        match self {
            Form::Float => Some(match width {
                16 => half(raw as u16),
                32 => f64::from(f32::from_bits(raw as u32)),
                _ => f64::from_bits(raw),
            }),
            Form::Fixed(_, fraction) | Form::UnsignedFixed(_, fraction) => {
                self.read(raw, width).map(|code| code as f64 / (1u64 << fraction) as f64)
            }
            _ => None,
        }
    }
}

impl Form {
    /// The bits of the real number that is nearest to a value, for forms that make one; `None` where none is near.
    pub fn write_real(self, value: f64, width: u32) -> Option<u64> {
        match self {
            Form::Float => match width {
                16 => {
                    // There are few enough of them to look at each.
                    let near = |bits: &u16| (half(*bits) - value).abs();
                    let finite = (0..=u16::MAX).filter(|bits| half(*bits).is_finite() && *bits != 0x8000);
                    finite.min_by(|a, b| near(a).total_cmp(&near(b))).filter(|_| value.abs() <= 65504.0).map(u64::from)
                }
                32 => Some(value as f32).filter(|narrow| narrow.is_finite()).map(|narrow| u64::from(narrow.to_bits())),
                _ => Some(value.to_bits()),
            },
            Form::Fixed(_, fraction) | Form::UnsignedFixed(_, fraction) => {
                let code = (value * (1u64 << fraction) as f64).round();
                let (low, high) = self.bounds(width);
                (code >= low as f64 && code <= high as f64).then(|| self.write(code as i128, width))
            }
            _ => None,
        }
    }
}

/// A half-precision number (IEEE 754-2019, 3.6, binary16).
fn half(bits: u16) -> f64 {
    let sign = if bits >> 15 == 1 { -1.0 } else { 1.0 };
    let fraction = f64::from(bits & 0x3FF);
    sign * match (bits >> 10) & 0x1F {
        0 => fraction * 2f64.powi(-24),
        31 if fraction == 0.0 => f64::INFINITY,
        31 => f64::NAN,
        exponent => (1024.0 + fraction) * 2f64.powi(i32::from(exponent) - 25),
    }
}

//! How many digits of a value are shown: one rule for tables, steps, checks and choices.

use std::fmt::{self, Write};

/// How many digits of a value are worth showing.
///
/// A value whose steps are decimal fractions of up to six places is shown whole (0.0625: four decimals; 12.5: one). Where
/// the steps are others but all alike, there are decimals enough to tell two neighbours apart. Where no step is known, or
/// it is not the same everywhere, six digits that count.
///
/// ```
/// use yemdo::Digits;
/// assert_eq!(Digits::Decimals(2).text(-0.001), "0.00");
/// assert_eq!(Digits::UNKNOWN.text(43.2), "43.2000");
/// assert_eq!(Digits::of([61.75, 62.0, 62.5].into_iter(), None), Digits::Decimals(2));
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Digits {
    /// So many decimals.
    Decimals(usize),
    /// Six digits that count, and at least so many decimals.
    Significant(usize),
}

/// Digits that count where nothing else is known.
const SIGNIFICANT: i32 = 6;
/// Decimals of a step that is shown whole.
const WHOLE: usize = 6;
/// Decimals, at most.
const MOST: usize = 9;

/// Rounds to a number of significant digits.
pub(crate) fn rounded(value: f64, digits: usize) -> f64 {
    format!("{value:.*e}", digits.saturating_sub(1)).parse().unwrap_or(value)
}

impl Digits {
    /// Where nothing is known of the value's steps.
    pub const UNKNOWN: Self = Self::Significant(0);

    /// What shows all of some values, whose neighbours differ by a step from the smallest to the largest.
    pub fn of(values: impl Iterator<Item = f64> + Clone, steps: Option<(f64, f64)>) -> Self {
        let whole = |decimals: usize| values.clone().all(|value| is_whole(value * 10f64.powi(decimals as i32)));
        match (steps, (0..=WHOLE).find(|decimals| whole(*decimals))) {
            (_, Some(decimals)) if values.clone().next().is_some() => Self::Decimals(decimals),
            (Some((low, high)), _) if high - low <= high * 1e-6 => Self::Decimals(apart(low)),
            (Some((low, _)), _) => Self::Significant(apart(low)),
            (None, _) => Self::UNKNOWN,
        }
    }

    /// The text of a value. Zero has no sign.
    pub fn text(self, value: f64) -> String {
        let mut text = String::new();
        // Writing to a string cannot fail.
        let _ = self.write(&mut text, value);
        text
    }

    /// Writes that text.
    ///
    /// # Errors
    /// Those of `out`.
    pub fn write(self, out: &mut impl Write, value: f64) -> fmt::Result {
        let decimals = match self {
            Self::Decimals(decimals) => decimals,
            Self::Significant(least) if value == 0.0 || !value.is_finite() => least,
            Self::Significant(least) => {
                let magnitude = value.abs().log10().floor();
                if !(-9.0..15.0).contains(&magnitude) {
                    return write!(out, "{value:.*e}", (SIGNIFICANT - 1) as usize);
                }
                least.max((f64::from(SIGNIFICANT - 1) - magnitude).max(0.0) as usize)
            }
        };
        let text = format!("{value:.decimals$}");
        // Minus zero is printed as zero.
        let zero = text.strip_prefix('-').filter(|size| !size.bytes().any(|byte| byte.is_ascii_digit() && byte != b'0'));
        out.write_str(zero.unwrap_or(&text))
    }
}

/// Decimals that tell two values so far apart from one another.
fn apart(step: f64) -> usize {
    (-step.log10() - 1e-9).ceil().clamp(0.0, MOST as f64) as usize
}

/// Whether a number is a whole one, as well as doubles can tell.
fn is_whole(value: f64) -> bool {
    let tolerance = value.abs() * 1e-13 + 1e-7;
    tolerance < 0.01 && (value - value.round()).abs() <= tolerance
}

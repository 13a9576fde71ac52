//! Layouts, number forms and scales that turn bytes into an expected value, without a sheet.

use super::layouts::slices;
use super::solve::roundest;
use crate::bits::form::Form;
use crate::bits::layout::Layout;
use crate::ground::digits::rounded;

/// Maximum frame length.
const LONGEST: usize = 64;
/// Maximum number of findings.
const MOST_FOUND: usize = 10;
/// Code widths with their weights.
const WIDTHS: [(usize, f64); 10] =
    [(16, 10.0), (12, 4.0), (14, 3.0), (24, 3.0), (20, 2.0), (8, 2.0), (32, 1.0), (13, 1.0), (10, 1.0), (18, 0.5)];
/// Offsets by definition of units, with their weights.
const OFFSETS: [(f64, f64); 3] = [(0.0, 10.0), (-273.15, 1.0), (32.0, 0.2)];
/// Weight of a scale that begins at a negative multiple of ten.
const FROM_TENS: f64 = 0.3;

/// A code and a formula that give the expected values.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct BareFinding {
    /// Layout in the notation of sheets.
    pub layout: String,
    /// Formula over a code named `x`.
    pub formula: String,
    /// Value of each frame.
    pub values: Vec<f64>,
    /// Relative weight; compare findings by ratio.
    pub weight: f64,
}

/// Finds codes and scales for frames of one kind whose values are within `known`: one pair (minimum, maximum) for all frames, or one
/// per frame. Sorted by weight: whole bytes, high byte first, a round scale and no offset rank highest.
///
/// ```
/// use yemdo::mend::from_bytes;
/// let found = from_bytes(&[vec![0x08, 0x34, 0x00]], &[(20.5, 21.5)]);
/// assert_eq!((found[0].layout.as_str(), found[0].formula.as_str()), ("b0 b1", "x * 0.01"));
/// ```
pub fn from_bytes(frames: &[Vec<u8>], known: &[(f64, f64)]) -> Vec<BareFinding> {
    let length = frames.iter().map(Vec::len).min().unwrap_or(0);
    let pairs: Vec<(f64, f64)> = match known {
        [one] => vec![*one; frames.len()],
        list if list.len() == frames.len() => list.to_vec(),
        _ => return Vec::new(),
    };
    if length > LONGEST {
        return Vec::new();
    }
    let mut found: Vec<BareFinding> = Vec::new();
    for (width, usual) in WIDTHS {
        for start in 0..(8 * length).saturating_sub(width) + 1 {
            let aligned = start.is_multiple_of(8) || (start + width).is_multiple_of(8);
            let spans = start / 8..(start + width).div_ceil(8);
            // Codes rarely begin and end in the middle of a byte.
            let usual = usual * if aligned { 1.0 } else { 0.1 } * if width % 8 == 0 && start % 8 != 0 { 0.1 } else { 1.0 };
            if start + width > 8 * length {
                continue;
            }
            let bits: Vec<(usize, u8)> = (start..start + width).map(|at| (at / 8, 7 - (at % 8) as u8)).collect();
            let mut orders = vec![(bits.clone(), 1.0)];
            if spans.len() > 1 && aligned {
                let mirrored = |byte: usize| spans.start + spans.end - 1 - byte;
                orders.push((bits.iter().map(|(byte, bit)| (mirrored(*byte), *bit)).collect(), 0.5));
            }
            for (bits, order) in orders {
                for (form, likely) in [(Form::Unsigned, 1.0), (Form::Signed, 0.9), (Form::SignMagnitude, 0.1), (Form::OffsetBinary, 0.1)] {
                    let layout = Layout { form, slices: slices(&bits) };
                    found.extend(scaled(&layout, &bits, usual * order * likely, frames, &pairs));
                }
            }
        }
    }
    found.sort_by(|one, two| two.weight.total_cmp(&one.weight));
    found.truncate(MOST_FOUND);
    found
}

/// Best scale for a layout.
fn scaled(layout: &Layout, bits: &[(usize, u8)], usual: f64, frames: &[Vec<u8>], pairs: &[(f64, f64)]) -> Option<BareFinding> {
    let width = layout.width();
    let raw = |frame: &Vec<u8>| {
        bits.iter().fold(0u64, |raw, (byte, bit)| raw << 1 | u64::from(frame.get(*byte).copied().unwrap_or(0) >> bit & 1))
    };
    let raws: Vec<u64> = frames.iter().map(raw).collect();
    // Without a set sign bit the signed forms equal plain binary.
    let high = raws.iter().any(|raw| raw >> (width - 1) & 1 == 1);
    if matches!(layout.form, Form::Signed | Form::SignMagnitude) && !high {
        return None;
    }
    let codes: Vec<f64> = raws.iter().map(|raw| layout.form.read(*raw, width).map(|code| code as f64)).collect::<Option<_>>()?;
    let mut best: Option<(f64, f64, f64)> = None;
    let tens = (1..=10).map(|tens| (f64::from(-10 * tens), FROM_TENS));
    for (offset, likely) in OFFSETS.into_iter().chain(tens).chain(solved(&codes, pairs)) {
        let Some((scale, round)) = scale(&codes, pairs, offset) else { continue };
        let weight = usual * likely * round;
        if best.is_none_or(|(known, ..)| weight > known) {
            best = Some((weight, scale, offset));
        }
    }
    let (weight, scale, offset) = best?;
    let values: Vec<f64> = codes.iter().map(|code| code * scale + offset).collect();
    let form = if layout.form == Form::Unsigned { String::new() } else { format!("{} ", layout.form.name()) };
    let factor = if scale == 1.0 { "x".to_owned() } else { format!("x * {scale}") };
    let formula = if offset == 0.0 { factor } else { format!("{factor} {} {}", if offset < 0.0 { '-' } else { '+' }, offset.abs()) };
    Some(BareFinding { layout: format!("{form}{}", layout.notation()), formula, values, weight })
}

/// Offset computed from the two frames with the lowest and highest code.
fn solved(codes: &[f64], pairs: &[(f64, f64)]) -> Option<(f64, f64)> {
    let all = || codes.iter().zip(pairs).map(|(code, (low, high))| (*code, (low + high) / 2.0));
    let low = all().min_by(|one, two| one.0.total_cmp(&two.0))?;
    let high = all().max_by(|one, two| one.0.total_cmp(&two.0))?;
    let slope = (high.1 - low.1) / (high.0 - low.0);
    let half = pairs.iter().map(|(low, high)| (high - low) / 2.0).fold(f64::INFINITY, f64::min);
    let middle = low.1 - slope * low.0;
    let offset = roundest(middle - half, middle + half).parse().ok()?;
    (slope.is_finite() && slope != 0.0).then_some((offset, 0.1))
}

/// Roundest scale that fits all values, with its weight.
fn scale(codes: &[f64], pairs: &[(f64, f64)], offset: f64) -> Option<(f64, f64)> {
    let (mut low, mut high) = (f64::NEG_INFINITY, f64::INFINITY);
    for (code, pair) in codes.iter().zip(pairs) {
        if *code == 0.0 {
            return None;
        }
        let (one, two) = ((pair.0 - offset) / code, (pair.1 - offset) / code);
        (low, high) = (low.max(one.min(two)), high.min(one.max(two)));
    }
    if low > high || high <= 0.0 {
        return None;
    }
    let inside = |scale: &f64| (low..=high).contains(scale);
    let tens = (-7..=3).map(|power| 10f64.powi(power)).map(|scale| rounded(scale, 7)).find(|scale| inside(scale)).map(|scale| (scale, 3.0));
    let twos = (0..=24).map(|power| 0.5f64.powi(power)).find(|scale| inside(scale)).map(|scale| (scale, 2.0));
    let fives = (-7..=3)
        .flat_map(|power| [2.0, 5.0, 2.5, 4.0].map(|digit| rounded(digit * 10f64.powi(power), 7)))
        .find(|scale| inside(scale))
        .map(|scale| (scale, 1.0));
    tens.or(twos).or(fives).or_else(|| {
        let scale: f64 = roundest(low.max(0.0), high).parse().ok()?;
        (scale > 0.0).then_some((scale, 0.1))
    })
}

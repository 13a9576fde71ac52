//! Numbers and counts as text.

/// A number with six significant digits, without trailing zeros.
pub(crate) fn short(value: f64) -> String {
    digits(value, 6, 9)
}

/// A number with `digits` significant digits, without trailing zeros, and at most `most` decimals.
pub(crate) fn digits(value: f64, digits: i32, most: u32) -> String {
    if value == 0.0 {
        return "0".into();
    }
    let decimals = (f64::from(digits - 1) - value.abs().log10().floor()).clamp(0.0, f64::from(most)) as usize;
    let text = format!("{value:.decimals$}");
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text }
}

/// Microseconds as milliseconds.
pub(crate) fn millis(micros: u64) -> String {
    format!("{:.3} ms", micros as f64 / 1000.0)
}

//! Words of messages.

use std::borrow::Cow;
use std::fmt::Write;

/// Text that came from outside, so that it cannot steer a terminal or hide what follows: control characters (C0 and C1) and
/// marks of writing direction are shown as escapes.
///
/// ```
/// assert_eq!(yemdo::visible("12:00 \u{1b}[31m\u{202e}"), "12:00 \\u{1b}[31m\\u{202e}");
/// ```
pub fn visible(text: &str) -> Cow<'_, str> {
    if !text.contains(steers) {
        return Cow::Borrowed(text);
    }
    let mut shown = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        // Writing to a string cannot fail.
        let _ = if steers(c) { write!(shown, "{}", c.escape_unicode()) } else { write!(shown, "{c}") };
    }
    Cow::Owned(shown)
}

/// A text as a TOML string; control characters become blanks.
pub(crate) fn toml_text(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            c if c.is_control() => out.push(' '),
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

/// Whether a character steers a terminal, or the direction of what stands around it (Unicode Standard Annex 9, section 2).
pub(crate) fn steers(c: char) -> bool {
    c.is_control() || matches!(c, '\u{61C}' | '\u{200E}' | '\u{200F}' | '\u{202A}'..='\u{202E}' | '\u{2066}'..='\u{2069}')
}

/// Whether a text is an identifier of C (C11 6.4.2.1), without universal character names.
pub(crate) fn is_identifier(text: &str) -> bool {
    text.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') && text.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
}

/// A number of things, with the plural: `1 byte`, `2 bytes`.
///
/// ```
/// assert_eq!(yemdo::counted(2u64, "frame"), "2 frames");
/// ```
pub fn counted<N: std::fmt::Display + PartialEq + From<u8>>(number: N, what: &str) -> String {
    format!("{number} {what}{}", if number == N::from(1) { "" } else { "s" })
}

/// A time, in microseconds, in the largest unit of which it is a whole number.
///
/// ```
/// assert_eq!(yemdo::time_text(900_000_000), "15 min");
/// ```
pub fn time_text(micros: u64) -> String {
    let units = [(86_400_000_000, "d"), (3_600_000_000, "h"), (60_000_000, "min"), (1_000_000, "s"), (1000, "ms"), (1, "µs")];
    let (scale, unit) = units.into_iter().find(|(scale, _)| micros >= *scale && micros.is_multiple_of(*scale)).unwrap_or((1, "s"));
    format!("{} {unit}", micros / scale)
}

/// A number with its unit behind it; a ratio, whose unit is 1, is the number alone.
pub fn with_unit(number: impl std::fmt::Display, unit: &str) -> String {
    if matches!(unit, "" | "1") { number.to_string() } else { format!("{number} {unit}") }
}

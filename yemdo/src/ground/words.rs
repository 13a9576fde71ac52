//! Words of messages.

/// So many of something: `1 byte`, `2 bytes`.
pub(crate) fn counted(number: usize, what: &str) -> String {
    format!("{number} {what}{}", if number == 1 { "" } else { "s" })
}

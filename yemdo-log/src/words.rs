//! Words of messages.

/// "1 byte", "2 bytes".
pub(crate) fn count(number: u64, what: &str) -> String {
    format!("{number} {what}{}", if number == 1 { "" } else { "s" })
}

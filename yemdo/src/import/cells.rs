//! What stands in one cell of a register table.

use super::identifier;

/// The meaning of a run of bits.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Cell {
    /// Nobody's; with what must be written there, where the cell says so.
    Reserved(Option<u64>),
    /// Bits of a field, and which of the field's own bits they are, where the cell says so.
    Field { name: String, own: Option<(u32, u32)>, access: Option<&'static str>, means: String },
}

/// Cells that are for one bit each and never merged with empty neighbours.
pub(super) fn is_single(text: &str) -> bool {
    matches!(text, "0" | "1") || numbered(text).is_some()
}

/// `T13` and its like: a name with a number behind it.
fn numbered(text: &str) -> Option<(&str, u32)> {
    let digits = text.len() - text.trim_end_matches(|c: char| c.is_ascii_digit()).len();
    let (name, number) = text.split_at(text.len() - digits);
    (digits > 0 && !name.is_empty() && name.chars().all(|c| c.is_ascii_alphabetic() || c == '_'))
        .then(|| Some((name, number.parse().ok()?)))?
}

/// The words for access that datasheets use.
pub(super) fn access(text: &str) -> Option<&'static str> {
    let plain: String = text.to_ascii_lowercase().chars().filter(|c| c.is_ascii_alphanumeric()).collect();
    Some(match plain.as_str() {
        "rw" | "readwrite" | "wr" => "read-write",
        "r" | "ro" | "read" | "readonly" => "read-only",
        "w" | "wo" | "write" | "writeonly" => "write-only",
        "w1c" | "rw1c" | "r1c" | "write1toclear" => "write-1-to-clear",
        "rc" | "cor" | "clearonread" | "rclr" => "clear-on-read",
        "sc" | "rwsc" | "wsc" | "selfclearing" => "self-clearing",
        "lock" | "sticky" | "setuntilreset" => "set-until-reset",
        "reserved" | "rsvd" | "res" => "reserved",
        _ => return None,
    })
}

/// Reads the cell over bits `high` to `low`; `Err` says what is wrong with it.
pub(super) fn cell(text: &str, high: u32, low: u32) -> Result<Vec<(u32, u32, Cell)>, &'static str> {
    let plain = text.trim();
    let lower = plain.to_ascii_lowercase();
    let nobody =
        matches!(lower.as_str(), "" | "-" | "–" | "—" | "x" | "n/a" | "reserved" | "rsvd" | "res" | "res." | "unused" | "not used");
    if nobody {
        return Ok(vec![(high, low, Cell::Reserved(None))]);
    }
    if matches!(lower.as_str(), "0" | "1") {
        let ones = (u64::MAX >> (63 - (high - low))) * u64::from(lower == "1");
        return Ok(vec![(high, low, Cell::Reserved(Some(ones)))]);
    }
    let field = |name: &str, own| Cell::Field { name: identifier(name), own, access: None, means: String::new() };
    if let Some((name, rest)) = plain.split_once(['[', '<', '(']) {
        let inside = rest.trim_end_matches([']', '>', ')', ' ']);
        let (top, bottom) = inside.split_once([':', '-', '–']).unwrap_or((inside, inside));
        let (Ok(top), Ok(bottom)) = (top.trim().parse::<u32>(), bottom.trim().parse::<u32>()) else {
            return Err("has bits that are not understood");
        };
        if bottom > top || top > 63 {
            return Err("has bits that are not understood");
        }
        let width = top - bottom + 1;
        return match (high - low + 1).cmp(&width) {
            std::cmp::Ordering::Equal => Ok(vec![(high, low, field(name, Some((top, bottom))))]),
            // Empty cells behind it that are not its own.
            std::cmp::Ordering::Greater => {
                Ok(vec![(high, high + 1 - width, field(name, Some((top, bottom)))), (high - width, low, Cell::Reserved(None))])
            }
            std::cmp::Ordering::Less => Err("has more bits than its cells"),
        };
    }
    if !plain.chars().any(|c| c.is_ascii_alphabetic()) {
        return Err("is not a valid name");
    }
    if let Some((name, number)) = numbered(plain).filter(|_| high == low) {
        return Ok(vec![(high, low, field(name, Some((number, number))))]);
    }
    Ok(vec![(high, low, field(plain, None))])
}

//! Values in a field's description: `000: x1; 001: x2`, `0 = sleep, 1 = forced`.

use super::number;

/// The text before the values, and the values with their names; `None` where the description lists none.
pub(super) fn values(text: &str, width: u32) -> Option<(String, Vec<(u64, String)>)> {
    let (head, list) = head_of(text);
    let separator = if list.contains(';') { ';' } else { ',' };
    let pieces: Vec<(&str, &str)> =
        list.split([separator, '\n']).map(str::trim).filter(|piece| !piece.is_empty()).map(value).collect::<Option<_>>()?;
    if pieces.len() < 2 {
        return None;
    }
    // One base for all of them: as many zeros and ones as the field has bits are binary.
    let bare = |code: &str| code.bytes().all(|b| matches!(b, b'0' | b'1'));
    let binary = pieces.iter().all(|(code, _)| bare(code) && code.len() == width as usize);
    let hex = pieces.iter().any(|(code, _)| code.bytes().any(|b| b.is_ascii_alphabetic()) && !code.starts_with("0b"));
    let of = |code: &str| if binary { u64::from_str_radix(code, 2).ok() } else { number(code, hex) };
    let mut found: Vec<(u64, String)> = Vec::new();
    for (code, name) in pieces {
        let code = of(code).filter(|code| width >= 64 || code >> width == 0)?;
        if found.iter().any(|(known, other)| *known == code || other == name) {
            return None;
        }
        found.push((code, name.to_owned()));
    }
    Some((head.trim().trim_end_matches([':', ';', ',', '.']).to_owned(), found))
}

/// What stands before the first value, and the rest.
fn head_of(text: &str) -> (&str, &str) {
    let starts =
        text.char_indices().filter(|(at, _)| text.get(..*at).is_some_and(|before| !before.ends_with(|c: char| c.is_alphanumeric())));
    let first = starts
        .map(|(at, _)| at)
        .find(|at| text.get(*at..).is_some_and(|rest| value(rest.split([';', ',', '\n']).next().unwrap_or("")).is_some()));
    text.split_at(first.unwrap_or(0))
}

/// `001: x2`, `1 = forced`: the code and its name.
fn value(piece: &str) -> Option<(&str, &str)> {
    let piece = piece.trim();
    let digits = piece.find(|c: char| !c.is_ascii_alphanumeric()).filter(|at| *at > 0)?;
    let (code, rest) = piece.split_at(digits);
    let is_code = code.starts_with(|c: char| c.is_ascii_digit())
        && (code.bytes().all(|b| b.is_ascii_digit())
            || code
                .get(2..)
                .filter(|_| code.starts_with("0x") || code.starts_with("0b"))
                .is_some_and(|rest| rest.bytes().all(|b| b.is_ascii_hexdigit()))
            || code.strip_suffix(['h', 'H']).is_some_and(|rest| rest.bytes().all(|b| b.is_ascii_hexdigit())));
    let name = rest.trim_start().strip_prefix([':', '=', '–', '-', '→'])?.trim();
    (is_code && !name.is_empty() && name.chars().count() <= 60).then_some((code, name))
}

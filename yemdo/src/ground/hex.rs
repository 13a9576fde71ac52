//! Bytes in hex, in the forms people have them: `0x1A,0x2B`, `1a 2b`, `1A2B`, C array text.

use std::fmt;

/// Why some text is not bytes in hex, and where in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HexError {
    /// Byte offset in the text.
    pub at: usize,
    /// The piece that was not understood.
    pub piece: String,
    kind: HexErrorKind,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum HexErrorKind {
    NotHex,
    OddDigits,
    TooLarge,
    Empty,
    NotC,
}

impl fmt::Display for HexError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // What came in from a line may hold anything; nothing of it may steer a terminal.
        let piece: String = self.piece.chars().take(40).flat_map(char::escape_debug).collect();
        let column = self.at + 1;
        match self.kind {
            HexErrorKind::NotHex => write!(f, "`{piece}` at column {column} is not hex; write bytes as 1A 2B, 0x1A,0x2B or 1A2B"),
            HexErrorKind::OddDigits => {
                write!(f, "`{piece}` at column {column} has an odd number of hex digits ({}); each byte has two", piece.len())
            }
            HexErrorKind::TooLarge => write!(f, "`{piece}` at column {column} is more than one byte; with 0x, write each byte on its own"),
            HexErrorKind::NotC => {
                write!(f, "`{piece}` at column {column} is not a byte in C; between braces, hex needs 0x and decimal ends at 255")
            }
            HexErrorKind::Empty => f.write_str("no bytes here; write them as 1A 2B, 0x1A,0x2B or 1A2B"),
        }
    }
}

impl std::error::Error for HexError {}

/// Reads bytes in hex. Separators are blanks, commas, colons, semicolons and dashes; `0x` and `\x` prefixes
/// are optional; of C array text the part between the braces counts, and there a number without `0x` is decimal,
/// as C has it. With a prefix, a single digit is a byte.
///
/// ```
/// use yemdo::parse_hex;
/// assert_eq!(parse_hex("0x1A,0x2B").unwrap(), [0x1A, 0x2B]);
/// assert_eq!(parse_hex("const uint8_t raw[2] = {0x1a, 0x5};").unwrap(), [0x1A, 0x05]);
/// assert_eq!(parse_hex("1A2").unwrap_err().to_string(), "`1A2` at column 1 has an odd number of hex digits (3); each byte has two");
/// ```
///
/// # Errors
/// [`HexError`], with the piece and its place.
pub fn parse_hex(text: &str) -> Result<Vec<u8>, HexError> {
    let (from, inside, in_c) = match (text.find('{'), text.rfind('}')) {
        (Some(open), Some(close)) if open < close => (open + 1, text.get(open + 1..close).unwrap_or(""), true),
        _ => (0, text, false),
    };
    let mut bytes = Vec::new();
    // A dash separates what stands on both sides of it; before a number it is a sign.
    let is_sign = |at: usize| !inside.get(..at).is_some_and(|before| before.ends_with(|c: char| c.is_ascii_hexdigit()));
    if let Some((sign, _)) = inside.match_indices('-').find(|(at, _)| is_sign(*at)) {
        let piece = inside.get(sign..).unwrap_or("").split_whitespace().next().unwrap_or("-").to_owned();
        return Err(HexError { at: from + sign, piece, kind: HexErrorKind::NotHex });
    }
    let separator = |c: char| c.is_whitespace() || matches!(c, ',' | ':' | ';' | '-' | '[' | ']' | '"');
    let mut at = from;
    for piece in inside.split(separator) {
        piece_bytes(piece, at, in_c, &mut bytes)?;
        at += piece.len() + inside.get(at - from + piece.len()..).and_then(|rest| rest.chars().next()).map_or(0, char::len_utf8);
    }
    if bytes.is_empty() {
        return Err(HexError { at: from, piece: String::new(), kind: HexErrorKind::Empty });
    }
    Ok(bytes)
}

fn piece_bytes(piece: &str, at: usize, in_c: bool, bytes: &mut Vec<u8>) -> Result<(), HexError> {
    // What nearly all are, in long logs.
    if let ([high, low], false) = (piece.as_bytes(), in_c)
        && let (Some(high), Some(low)) = (char::from(*high).to_digit(16), char::from(*low).to_digit(16))
    {
        bytes.push((high << 4 | low) as u8);
        return Ok(());
    }
    // `\x1a\x2b` is a run of prefixed bytes without separators.
    if piece.contains("\\x") {
        let mut from = at;
        for part in piece.split("\\x") {
            if !part.is_empty() {
                piece_bytes(part, from, false, bytes)?;
            }
            from += part.len() + 2;
        }
        return Ok(());
    }
    let (digits, prefixed) = match piece.strip_prefix("0x").or_else(|| piece.strip_prefix("0X")) {
        Some(rest) => (rest, true),
        None => (piece, false),
    };
    let error = |kind| HexError { at, piece: piece.to_owned(), kind };
    if piece.is_empty() {
        return Ok(());
    }
    if digits.is_empty() || !digits.bytes().all(|c| c.is_ascii_hexdigit()) {
        return Err(error(HexErrorKind::NotHex));
    }
    if prefixed && digits.len() > 2 {
        return Err(error(HexErrorKind::TooLarge));
    }
    if in_c && !prefixed {
        // C reads this as decimal, whatever it looks like.
        let byte = digits.parse::<u8>().map_err(|_| error(HexErrorKind::NotC))?;
        bytes.push(byte);
        return Ok(());
    }
    if !prefixed && digits.len() % 2 == 1 {
        return Err(error(HexErrorKind::OddDigits));
    }
    let step = if digits.len() == 1 { 1 } else { 2 };
    for start in (0..digits.len()).step_by(step) {
        let pair = digits.get(start..start + step).unwrap_or("");
        bytes.push(u8::from_str_radix(pair, 16).map_err(|_| error(HexErrorKind::NotHex))?);
    }
    Ok(())
}

/// Bytes as upper-case hex pairs with blanks between.
pub fn to_hex(bytes: &[u8]) -> String {
    let mut text = String::with_capacity(bytes.len() * 3);
    push_hex(&mut text, bytes);
    text
}

/// Appends bytes as upper-case hex pairs with blanks between.
pub fn push_hex(text: &mut String, bytes: &[u8]) {
    const DIGITS: &[u8; 16] = b"0123456789ABCDEF";
    for (index, byte) in bytes.iter().enumerate() {
        if index > 0 {
            text.push(' ');
        }
        text.push(char::from(DIGITS[usize::from(byte >> 4)]));
        text.push(char::from(DIGITS[usize::from(byte & 15)]));
    }
}

/// A whole number as people type it: decimal, `0x` or `0b`, with or without a minus and `_` between digits.
///
/// ```
/// use yemdo::parse_integer;
/// assert_eq!(["0x2C", "-0b1_0", "42", "0x-1", "4.5"].map(parse_integer), [Some(44), Some(-2), Some(42), None, None]);
/// ```
pub fn parse_integer(text: &str) -> Option<i128> {
    let text = text.replace('_', "");
    let (negative, digits) = text.strip_prefix('-').map_or((false, text.as_str()), |digits| (true, digits));
    let (base, digits) = match digits.get(..2).map(str::to_ascii_lowercase).as_deref() {
        Some("0x") => (16, digits.get(2..)?),
        Some("0b") => (2, digits.get(2..)?),
        _ => (10, digits),
    };
    let plain = digits.starts_with(|c: char| c.is_ascii_hexdigit());
    let magnitude = i128::from_str_radix(digits, base).ok().filter(|_| plain)?;
    Some(if negative { -magnitude } else { magnitude })
}

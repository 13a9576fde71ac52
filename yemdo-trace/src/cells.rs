//! Cells of tables: numbers, bytes, levels, headings with units.

use csv::ReaderBuilder;

use crate::error::{CaptureError, Tell};
use crate::options::{CaptureOptions, picoseconds};

/// A number of a byte, hex with a prefix or if `hex`.
pub(crate) fn number(text: &str, hex: bool) -> Option<u8> {
    match text.strip_prefix("0x").or_else(|| text.strip_prefix("0X")) {
        Some(digits) => u8::from_str_radix(digits, 16).ok(),
        None if hex => u8::from_str_radix(text, 16).ok(),
        None => text.parse().ok(),
    }
}

/// The bytes of a cell: `0x19 0xC0`, `19C0`, `[25, 192]`.
pub(crate) fn bytes(text: &str, hex: bool) -> Option<Vec<u8>> {
    let text = text.trim_matches(['[', ']', '"']);
    let mut bytes = Vec::new();
    for word in text.split(|c: char| c.is_whitespace() || matches!(c, ',' | ';' | ':' | '-')).filter(|word| !word.is_empty()) {
        let run = hex && word.len() > 2 && word.len().is_multiple_of(2) && !word.starts_with("0x") && !word.starts_with("0X");
        if run && word.is_ascii() {
            for pair in word.as_bytes().chunks(2) {
                bytes.push(u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok()?);
            }
        } else {
            bytes.push(number(word, hex)?);
        }
    }
    Some(bytes)
}

pub(crate) fn delimiter(line: &str) -> u8 {
    [b';', b'\t'].into_iter().find(|delimiter| line.as_bytes().contains(delimiter)).unwrap_or(b',')
}

/// The words of a heading in lower case, and the unit of time in it: `Time [s]`, `time_ms`, `t/us`.
pub(crate) fn words(heading: &str) -> (String, Option<u64>) {
    let lower = heading.trim().trim_matches(['"', '\u{FEFF}']).to_lowercase();
    let parts: Vec<&str> = lower.split(['[', ']', '(', ')', '_', ' ']).filter(|word| !word.is_empty()).collect();
    let slash = lower.split_once('/').filter(|(_, unit)| picoseconds(unit).is_some());
    if let Some((name, unit)) = slash {
        return (name.trim().to_owned(), picoseconds(unit));
    }
    match parts.split_last() {
        Some((last, name)) if !name.is_empty() && picoseconds(last).is_some() => (name.join(" "), picoseconds(last)),
        _ => (lower.trim().to_owned(), None),
    }
}

pub(crate) fn unit_name(picos: u64) -> &'static str {
    match picos {
        1_000_000_000_000 => "s",
        1_000_000_000 => "ms",
        1_000_000 => "µs",
        1000 => "ns",
        _ => "ps",
    }
}

/// Whether numbers without prefix are hex, decided over the beginning of the table.
pub(crate) fn is_hex(head: &str, headings: &[String], columns: &[Option<usize>], options: &CaptureOptions) -> Result<bool, CaptureError> {
    if let Some(hex) = options.columns.hex {
        return Ok(hex);
    }
    let mut rows = ReaderBuilder::new().delimiter(delimiter(head.lines().next().unwrap_or(""))).flexible(true).from_reader(head.as_bytes());
    let (mut letters, mut decimal, mut bare) = (false, false, false);
    for row in rows.records().flatten() {
        for cell in columns.iter().flatten().filter_map(|at| row.get(*at)) {
            for word in cell
                .split(|c: char| !c.is_alphanumeric())
                .filter(|word| !word.is_empty() && !word.starts_with("0x") && !word.starts_with("0X"))
            {
                bare = true;
                letters |= word.bytes().any(|byte| byte.is_ascii_alphabetic());
                // Three digits are no byte in hex.
                decimal |= word.len() == 3 && word.parse::<u8>().is_ok();
            }
        }
    }
    match (bare, letters, decimal) {
        (false, ..) | (true, true, _) => Ok(true),
        (true, false, true) => Ok(false),
        (true, false, false) => {
            let name = columns.first().copied().flatten().and_then(|at| headings.get(at)).map_or("", String::as_str);
            let error = CaptureError::new(format!("the numbers in `{name}` can be hex or decimal"));
            Err(error.tell(Tell::Numbers))
        }
    }
}

pub(crate) fn missing(what: &'static str, headings: &[String]) -> CaptureError {
    let error = CaptureError::new(format!("the table has no column for {what}"));
    error.tell(Tell::Column(what, headings.to_vec()))
}

pub(crate) fn level(cell: &[u8]) -> Result<bool, CaptureError> {
    match cell.trim_ascii() {
        b"1" | b"H" | b"h" | b"true" | b"high" | b"1.0" => Ok(true),
        b"0" | b"L" | b"l" | b"false" | b"low" | b"0.0" => Ok(false),
        other => Err(CaptureError::new(format!("`{}` is no level", String::from_utf8_lossy(other))).help("expected 0 or 1")),
    }
}

pub(crate) fn damaged(error: &csv::Error) -> CaptureError {
    let line = error.position().map(csv::Position::line);
    let failure = CaptureError::new(format!("the table cannot be read: {error}"));
    line.map_or(failure.clone(), |line| failure.at(line))
}

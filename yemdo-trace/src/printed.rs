//! Printed lines of a board, with a clock, names, an arrow, and bytes.
//!
//! `[12.345] AIR -> 0x19 0xC0`, `AIR: b'\x19\xc0'`, `AIR 25, 192`, `19C0`. Whether numbers are hex or decimal, bytes or words, is decided over the
//! beginning of the text, for all lines.

use std::collections::VecDeque;
use std::io::BufRead;

use crate::capture::Item;
use crate::error::{CaptureError, Tell};
use crate::lines::Lines;
use crate::options::CaptureOptions;
use crate::rtu::{Pairs, whole_frame};

/// Printed lines with bytes.
pub(crate) struct Printed<R> {
    lines: Lines<R>,
    form: Form,
    unit: Option<u64>,
    origin: Option<f64>,
    last: u64,
    ready: VecDeque<Item>,
    skipped: u64,
    /// `None` if bytes are no Modbus frames.
    modbus: Option<Pairs>,
}

/// Form of all numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Form {
    hex: bool,
    /// Numbers of 16 bits, high byte first.
    words: bool,
}

/// A line: its time, the names before the bytes, and the bytes as they are typed.
#[derive(Debug, Default, PartialEq)]
struct Line<'t> {
    time: Option<(f64, bool)>,
    names: Vec<&'t str>,
    numbers: Vec<&'t str>,
    /// The text of a byte string with escapes.
    literal: Option<&'t str>,
}

/// Number of lines that decide whether a text has printed bytes.
const MANY: usize = 200;

impl Printed<std::io::Empty> {
    /// Whether most of the first lines end in bytes.
    pub(crate) fn is_it(head: &str) -> bool {
        let lines: Vec<Line<'_>> = head.lines().filter(|line| !line.trim().is_empty()).take(MANY).map(parse).collect();
        let with = lines.iter().filter(|line| line.literal.is_some() || !line.numbers.is_empty()).count();
        with > 0 && with * 2 >= lines.len()
    }
}

impl<R: BufRead> Printed<R> {
    pub(crate) fn open(input: R, head: &str, options: &CaptureOptions) -> Result<Self, CaptureError> {
        let form = form_of(head, options.columns.hex)?;
        Ok(Self {
            lines: Lines::new(input),
            form,
            unit: options.unit,
            origin: None,
            last: 0,
            ready: VecDeque::new(),
            skipped: 0,
            modbus: options.modbus.then(Pairs::default),
        })
    }

    pub(crate) fn next_item(&mut self) -> Result<Option<Item>, CaptureError> {
        loop {
            if let Some(item) = self.ready.pop_front() {
                return Ok(Some(item));
            }
            let Some((number, text)) = self.lines.next_line()? else {
                return Ok(self.modbus.as_mut().and_then(Pairs::end));
            };
            let line = parse(&text);
            if line.literal.is_none() && line.numbers.is_empty() {
                self.skipped += u64::from(!text.trim().is_empty());
                continue;
            }
            let bytes = self.bytes(&line).map_err(|error| error.at(number))?;
            let at = self.time(line.time);
            if let Some((pairs, frame)) = self.modbus.as_mut().zip(whole_frame(&bytes)) {
                self.ready.extend(pairs.frame(at, at, frame, number));
                continue;
            }
            let names = line.names.iter().map(|name| (*name).to_owned()).collect();
            self.ready.push_back(Item::Frame { at, names, bytes, line: number });
        }
    }

    /// Microseconds since the first line. Lines without a clock have the time of the one before.
    fn time(&mut self, time: Option<(f64, bool)>) -> u64 {
        let seconds = time.and_then(|(value, seconds)| match (self.unit, seconds) {
            (Some(unit), false) => Some(value * unit as f64 / 1e12),
            (None, false) => None,
            (_, true) => Some(value),
        });
        if let Some(seconds) = seconds {
            let origin = *self.origin.get_or_insert(seconds);
            // Clocks may be set back, or restart at midnight.
            self.last = self.last.max(((seconds - origin) * 1e6).round().max(0.0) as u64);
        }
        self.last
    }

    fn bytes(&self, line: &Line<'_>) -> Result<Vec<u8>, CaptureError> {
        if let Some(literal) = line.literal {
            return byte_string(literal).ok_or_else(|| CaptureError::new("the byte string has an unknown escape").help("expected \\x19"));
        }
        let mut bytes = Vec::new();
        for number in &line.numbers {
            let digits = number.strip_prefix("0x").or_else(|| number.strip_prefix("0X"));
            let (digits, radix) = digits.map_or((*number, if self.form.hex { 16 } else { 10 }), |digits| (digits, 16));
            // Digits in one piece: `19C0`.
            if radix == 16 && digits.len() > 2 && digits.len().is_multiple_of(2) && digits.len() == number.len() {
                for at in (0..digits.len()).step_by(2) {
                    bytes.extend(digits.get(at..at + 2).and_then(|pair| u8::from_str_radix(pair, 16).ok()));
                }
                continue;
            }
            let value = u32::from_str_radix(digits, radix).ok();
            let fits = value.and_then(|value| u16::try_from(value).ok()).filter(|value| self.form.words || *value < 256);
            let value = fits.ok_or_else(|| {
                let error = CaptureError::new(format!("`{number}` is no {} here", if self.form.words { "word" } else { "byte" }));
                error.tell(Tell::Numbers)
            })?;
            match self.form.words {
                true => bytes.extend(value.to_be_bytes()),
                false => bytes.push(value as u8),
            }
        }
        Ok(bytes)
    }

    pub(crate) fn understood(&self) -> String {
        let form = if self.form.hex { "hex" } else { "decimal" };
        format!("numbers are {form} {}", if self.form.words { "words, high byte first" } else { "bytes" })
    }

    pub(crate) fn notes(&self) -> Vec<String> {
        if self.skipped > 0 { vec![format!("{} without bytes", yemdo::counted(self.skipped, "line"))] } else { Vec::new() }
    }
}

/// Decides over the text whether numbers are hex, and whether they are words.
fn form_of(head: &str, told: Option<bool>) -> Result<Form, CaptureError> {
    let (mut prefixed, mut letters, mut large, mut bare, mut padded) = (false, false, false, false, false);
    let mut longest = 0;
    for number in head.lines().map(parse).flat_map(|line| line.numbers) {
        match number.strip_prefix("0x").or_else(|| number.strip_prefix("0X")) {
            Some(digits) => {
                prefixed = true;
                longest = longest.max(digits.len());
            }
            None => {
                bare = true;
                letters |= number.bytes().any(|byte| byte.is_ascii_alphabetic());
                // Three digits, or five, are no bytes in hex.
                large |= number.len() % 2 == 1 && number.len() > 1;
                padded |= number.len() == 2 && number.starts_with('0');
                longest = longest.max(if number.len() % 2 == 1 { number.len() } else { 0 });
            }
        }
    }
    let hex = match told {
        Some(hex) => hex,
        None if !bare || (letters && !large) => true,
        None if prefixed || (large && !letters && !padded) => false,
        None if padded && !large => true,
        None => {
            let both = letters && large;
            let error = CaptureError::new(if both {
                "some numbers can only be hex, and others only decimal"
            } else {
                "the numbers can be hex or decimal"
            });
            return Err(error.tell(Tell::Numbers));
        }
    };
    let beyond = |number: &str| !number.starts_with("0x") && number.parse::<u32>().is_ok_and(|value| value > 255);
    let words = if hex { longest > 2 && prefixed } else { head.lines().map(parse).flat_map(|line| line.numbers).any(beyond) };
    Ok(Form { hex, words })
}

/// The parts of a line. Bytes are at its end.
fn parse(text: &str) -> Line<'_> {
    let mut line = Line::default();
    let mut text = text.trim();
    if let Some(open) = text.find("b'").or_else(|| text.find("b\"")) {
        let quote = text.get(open + 1..open + 2).unwrap_or("'");
        let inner = text.get(open + 2..).unwrap_or("");
        line.literal = inner.rfind(quote).and_then(|end| inner.get(..end));
        text = text.get(..open).unwrap_or("");
    }
    let (time, rest) = clock(text);
    line.time = time;
    let words =
        rest.split(|c: char| c.is_whitespace() || matches!(c, ',' | ';' | '[' | ']' | '(' | ')' | '{' | '}' | '=' | '|' | '>' | '<'));
    for word in words.map(|word| word.trim_matches([':', '-', '"', '\''])).filter(|word| !word.is_empty()) {
        if is_number(word) && line.literal.is_none() {
            line.numbers.push(word);
        } else {
            // Bytes follow the last word that is no number.
            line.names.append(&mut line.numbers);
            line.names.push(word);
        }
    }
    line
}

fn is_number(word: &str) -> bool {
    match word.strip_prefix("0x").or_else(|| word.strip_prefix("0X")) {
        Some(digits) => (1..=4).contains(&digits.len()) && digits.bytes().all(|byte| byte.is_ascii_hexdigit()),
        // A name of hex digits, such as `FACE`, has no digit.
        None => {
            let hex = word.bytes().all(|byte| byte.is_ascii_hexdigit());
            let plain = word.bytes().all(|byte| byte.is_ascii_digit());
            plain || hex && (word.len() == 2 || word.len().is_multiple_of(2) && word.bytes().any(|byte| byte.is_ascii_digit()))
        }
    }
}

/// The clock at the beginning of a line: its value, and whether that is in seconds; and the rest of the line.
fn clock(text: &str) -> (Option<(f64, bool)>, &str) {
    let body = text.trim_start_matches(['[', '(', ' ']);
    let end = body.find(|c: char| c.is_whitespace() || matches!(c, ']' | ')')).unwrap_or(body.len());
    let (word, rest) = body.split_at(end);
    let bracketed = body.len() < text.len() && rest.starts_with([']', ')']);
    let word = word.trim_end_matches(':');
    let rest = rest.trim_start_matches([']', ')', ':', ' ']);
    // 08:00:01.5, also after a date.
    let of_day = word.rsplit(['T', ' ']).next().unwrap_or("").trim_end_matches('Z');
    let mut parts = of_day.split(':').map(|part| part.parse::<f64>().ok());
    if let (Some(Some(hours)), Some(Some(minutes)), Some(Some(seconds)), None) = (parts.next(), parts.next(), parts.next(), parts.next()) {
        return (Some((hours * 3600.0 + minutes * 60.0 + seconds, true)), rest);
    }
    match word.parse::<f64>() {
        Ok(value) if word.contains('.') && value.is_finite() => (Some((value, true)), rest),
        Ok(value) if bracketed && value.is_finite() => (Some((value, false)), rest),
        _ => (None, text),
    }
}

/// The bytes of `\x19\xc0A`.
fn byte_string(text: &str) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    let mut rest = text.as_bytes();
    while let Some((first, behind)) = rest.split_first() {
        rest = behind;
        if *first != b'\\' {
            bytes.push(*first);
            continue;
        }
        let (kind, behind) = rest.split_first()?;
        rest = behind;
        match kind {
            b'x' => {
                let (digits, behind) = rest.split_at_checked(2)?;
                bytes.push(u8::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()?);
                rest = behind;
            }
            b't' => bytes.push(b'\t'),
            b'n' => bytes.push(b'\n'),
            b'r' => bytes.push(b'\r'),
            b'\\' | b'\'' | b'"' => bytes.push(*kind),
            _ => return None,
        }
    }
    Some(bytes)
}

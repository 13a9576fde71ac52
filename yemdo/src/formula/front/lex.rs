//! Characters to tokens, each with its place in the sheet.

use crate::ground::diagnostic::Diagnostic;
use crate::ground::number::Ty;
use crate::ground::text::{Span, Text};

#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Token {
    Name(String),
    /// An integer, its type, and whether it is typed in decimal.
    Int {
        value: u64,
        ty: Ty,
        decimal: bool,
    },
    Real(f64, Ty),
    /// An operator or punctuation mark.
    Mark(&'static str),
    End,
}

impl Token {
    pub(crate) fn describe(&self) -> String {
        match self {
            Token::Name(name) => format!("`{name}`"),
            Token::Int { value, .. } => format!("`{value}`"),
            Token::Real(value, _) => format!("`{value}`"),
            Token::Mark(mark) => format!("`{mark}`"),
            Token::End => "the end of the formula".into(),
        }
    }
}

/// Longest first, so that the first that fits is the right one.
const MARKS: &[&str] = &[
    "<<=", ">>=", "...", "++", "--", "->", "<<", ">>", "<=", ">=", "==", "!=", "&&", "||", "+=", "-=", "*=", "/=", "%=", "&=", "|=", "^=",
    "**", "+", "-", "*", "/", "%", "&", "|", "^", "~", "!", "<", ">", "=", "?", ":", ";", ",", "(", ")", "{", "}", "[", "]", ".",
];

/// The tokens of a formula, with [`Token::End`] behind them.
pub(crate) fn lex(text: &Text) -> Result<Vec<(Token, Span)>, Diagnostic> {
    let source = text.value.as_str();
    if source.len() > crate::formula::MAX_LENGTH {
        return Err(Diagnostic::error(
            "formula-too-long",
            text.span,
            format!("a formula has at most {} bytes", crate::formula::MAX_LENGTH),
        )
        .label(format!("this one has {}", source.len())));
    }
    let mut tokens = Vec::new();
    let mut at = 0;
    while let Some(rest) = source.get(at..).filter(|rest| !rest.is_empty()) {
        let c = rest.chars().next().unwrap_or(' ');
        let length = if c.is_whitespace() {
            c.len_utf8()
        } else if rest.starts_with("//") {
            rest.find('\n').unwrap_or(rest.len())
        } else if rest.starts_with("/*") {
            let end = rest.find("*/").ok_or_else(|| {
                Diagnostic::error("bad-token", text.locate(at..at + 2), "this comment has no end").label("no `*/` follows")
            })?;
            end + 2
        } else if c.is_ascii_alphabetic() || c == '_' {
            let length = rest.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(rest.len());
            tokens.push((Token::Name(rest.get(..length).unwrap_or("").into()), text.locate(at..at + length)));
            length
        } else if c.is_ascii_digit() || (c == '.' && rest.chars().nth(1).is_some_and(|c| c.is_ascii_digit())) {
            let length = number_length(rest);
            let span = text.locate(at..at + length);
            tokens.push((number(rest.get(..length).unwrap_or(""), span)?, span));
            length
        } else if let Some(mark) = MARKS.iter().find(|mark| rest.starts_with(**mark)) {
            tokens.push((Token::Mark(mark), text.locate(at..at + mark.len())));
            mark.len()
        } else {
            let near = match c {
                '×' | '·' => Some("*"),
                '÷' => Some("/"),
                '−' | '–' => Some("-"),
                '²' => Some("* (the value itself)"),
                _ => None,
            };
            let problem =
                Diagnostic::error("bad-token", text.locate(at..at + c.len_utf8()), format!("`{}` is not part of C", c.escape_debug()))
                    .label("not understood");
            return Err(match near {
                Some(mark) => problem.help(format!("in C this is `{mark}`")),
                None => problem,
            });
        };
        at += length;
    }
    tokens.push((Token::End, text.locate(source.len()..source.len())));
    Ok(tokens)
}

/// Everything that C takes for one preprocessing number (C11 6.4.8).
fn number_length(rest: &str) -> usize {
    let mut last = ' ';
    let hex = rest.starts_with("0x") || rest.starts_with("0X");
    for (at, c) in rest.char_indices() {
        let sign_of_exponent = matches!(c, '+' | '-') && (matches!(last, 'p' | 'P') || (!hex && matches!(last, 'e' | 'E')));
        if !(c.is_ascii_alphanumeric() || c == '.' || c == '_' || sign_of_exponent) {
            return at;
        }
        last = c;
    }
    rest.len()
}

fn number(text: &str, span: Span) -> Result<Token, Diagnostic> {
    let bad = |label: &str| Diagnostic::error("bad-number", span, format!("`{text}` is not a valid number in C")).label(label);
    let lower = text.to_ascii_lowercase();
    let hex = lower.strip_prefix("0x");
    let is_real = match hex {
        Some(rest) => rest.contains(['.', 'p']),
        None => lower.contains(['.', 'e']) && !lower.starts_with("0b"),
    };
    if is_real {
        if hex.is_some() {
            return Err(bad("hexadecimal reals are not read").help("write the number in decimal"));
        }
        let (digits, ty) = match lower.strip_suffix('f') {
            Some(digits) => (digits, Ty::F32),
            None => (lower.as_str(), Ty::F64),
        };
        if digits.ends_with('l') {
            return Err(bad("`long double` is not read").help("drop the L: `double` is the widest real"));
        }
        let value: f64 = digits.parse().map_err(|_| bad("expected digits, a point, and maybe an exponent"))?;
        let value = if ty == Ty::F32 { digits.parse::<f32>().map_or(value, f64::from) } else { value };
        return if value.is_finite() { Ok(Token::Real(value, ty)) } else { Err(bad("too large for the type")) };
    }
    let digits_end = match hex {
        Some(rest) => rest.find(|c: char| !c.is_ascii_hexdigit()).map_or(lower.len(), |at| at + 2),
        None => lower.find(['u', 'l', 'f']).unwrap_or(lower.len()),
    };
    let (digits, suffix) = lower.split_at(digits_end);
    let (radix, digits) = match (digits.get(..2), digits.get(2..)) {
        (Some("0x"), Some(rest)) => (16, rest),
        (Some("0b"), Some(rest)) => (2, rest),
        _ if digits.len() > 1 && digits.starts_with('0') => (8, digits.trim_start_matches('0')),
        _ => (10, digits),
    };
    let digits = if digits.is_empty() && radix == 8 { "0" } else { digits };
    let value = u64::from_str_radix(digits, radix)
        .map_err(|_| bad(if radix == 8 { "a leading zero means octal in C" } else { "expected a whole number of up to 64 bits" }))?;
    let (unsigned, long_long) = match suffix {
        "" | "l" => (false, false),
        "u" | "ul" | "lu" => (true, false),
        "ll" => (false, true),
        "ull" | "llu" => (true, true),
        "f" => return Err(bad("`f` belongs to a number with a point").help(format!("write {digits}.0f"))),
        _ => return Err(bad("suffixes are u, l, ll and their combinations")),
    };
    // The list of C11 6.4.4.1 with int = long = 32 bits: the first type that holds the value.
    let candidates: &[Ty] = match (unsigned, long_long, radix) {
        (true, false, _) => &[Ty::U32, Ty::U64],
        (true, true, _) => &[Ty::U64],
        (false, false, 10) => &[Ty::I32, Ty::I64],
        (false, false, _) => &[Ty::I32, Ty::U32, Ty::I64, Ty::U64],
        (false, true, 10) => &[Ty::I64],
        (false, true, _) => &[Ty::I64, Ty::U64],
    };
    let holds = |ty: &&Ty| ty.bounds().is_some_and(|(_, high)| i128::from(value) <= high);
    match candidates.iter().find(holds) {
        Some(ty) => Ok(Token::Int { value, ty: *ty, decimal: radix == 10 }),
        None => Err(bad("too large for a signed 64-bit number").help("add the suffix ull")),
    }
}

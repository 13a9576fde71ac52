//! Lines that are too long, broken as the usual formatter of Python breaks them: in the last brackets where those hold all of the
//! value, else in brackets of their own, before the operators that bind least.

use super::lines::WIDTH;

/// A token: its text, whether a space precedes it, and its kind.
#[derive(Clone, Debug)]
struct Token {
    text: String,
    space: bool,
    kind: Kind,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Word,
    Open,
    Close,
    Comma,
    /// An operator between two operands; the greater, the less it binds.
    Operator(u8),
}

const COMMA: u8 = 18;
const TERNARY: u8 = 16;

/// Lays out a statement, or the head of a block.
pub(super) fn lay(indent: usize, text: &str) -> Vec<String> {
    if indent + text.chars().count() <= WIDTH {
        return vec![line(indent, text)];
    }
    let tokens = tokens(text);
    let block = usize::from(tokens.last().is_some_and(|token| token.text == ":"));
    let (body, tail) = tokens.split_at(tokens.len() - block);
    let starts = |words: &[&str]| body.first().is_some_and(|token| words.contains(&token.text.as_str()));
    let equals = assigns(body);
    let value = match equals {
        _ if starts(&["return", "if", "elif", "while"]) => 1,
        _ if starts(&["for"]) => 3,
        Some(at) => at + 1,
        None => return in_brackets(indent, body, tail).unwrap_or_else(|| vec![line(indent, text)]),
    };
    let (head, body) = body.split_at(value);
    if omits_brackets(indent, body)
        && let Some(lines) = in_brackets(indent, &[head, body].concat(), tail)
    {
        return lines;
    }
    // A single word gains nothing from brackets.
    if body.len() < 2 {
        return vec![line(indent, text)];
    }
    let mut lines = vec![line(indent, &format!("{} (", joined(head)))];
    lines.extend(inside(indent + 4, body));
    lines.push(line(indent, &format!("){}", joined(tail))));
    lines
}

/// Lays out a line within brackets.
pub(super) fn within(indent: usize, text: &str) -> Vec<String> {
    inside(indent, &tokens(text))
}

fn line(indent: usize, text: &str) -> String {
    format!("{}{text}", " ".repeat(indent))
}

fn inside(indent: usize, body: &[Token]) -> Vec<String> {
    let text = joined(body);
    if indent + text.chars().count() <= WIDTH {
        return vec![line(indent, &text)];
    }
    // A comma at the end divides nothing.
    let comma = usize::from(body.last().is_some_and(|token| token.kind == Kind::Comma));
    let (own, end) = body.split_at(body.len() - comma);
    let weakest = delimiters(own).into_iter().map(|(_, priority)| priority).max();
    match weakest {
        Some(TERNARY) => match assigns(own) {
            Some(at) => {
                let (name, value) = own.split_at(at + 1);
                let mut lines = vec![line(indent, &format!("{}(", joined(name)))];
                lines.extend(inside(indent + 4, value));
                lines.push(line(indent, &format!("){}", joined(end))));
                lines
            }
            None => divided(indent, own, TERNARY, end),
        },
        Some(priority) => divided(indent, own, priority, end),
        None => in_brackets(indent, own, end).unwrap_or_else(|| vec![line(indent, &text)]),
    }
}

/// A line for each operand, with the operator in front, or the comma at the end.
fn divided(indent: usize, body: &[Token], priority: u8, end: &[Token]) -> Vec<String> {
    let mut lines = Vec::new();
    let mut start = 0;
    for (at, _) in delimiters(body).into_iter().filter(|(_, own)| *own == priority) {
        let to = if priority == COMMA { at + 1 } else { at };
        lines.extend(inside(indent, body.get(start..to).unwrap_or_default()));
        start = to;
    }
    let rest = [body.get(start..).unwrap_or_default(), end].concat();
    lines.extend(inside(indent, &rest));
    lines
}

/// Broken in the last brackets: their head, contents and tail.
fn in_brackets(indent: usize, body: &[Token], tail: &[Token]) -> Option<Vec<String>> {
    let close = body.iter().rposition(|token| token.kind == Kind::Close)?;
    let open = opening(body, close)?;
    let inner = body.get(open + 1..close)?;
    if inner.is_empty() {
        return None;
    }
    let head = joined(body.get(..=open)?);
    if indent + head.chars().count() > WIDTH {
        return None;
    }
    let mut lines = vec![line(indent, &head)];
    let text = joined(inner);
    let commas = delimiters(inner).iter().any(|(_, priority)| *priority == COMMA);
    let is_call = open > 0
        && body.get(open).is_some_and(|token| !token.space)
        && body.get(open - 1).is_some_and(|before| before.text.ends_with(|c: char| is_word(c) || c == ')'));
    if indent + 4 + text.chars().count() <= WIDTH {
        lines.push(line(indent + 4, &text));
    } else if commas || (is_call && body.get(open).is_some_and(|token| token.text == "(")) {
        let mut inner = inner.to_vec();
        inner.push(Token { text: ",".into(), space: false, kind: Kind::Comma });
        lines.extend(if commas { divided_with_comma(indent + 4, &inner) } else { inside(indent + 4, &inner) });
    } else {
        lines.extend(inside(indent + 4, inner));
    }
    let behind = [body.get(close..)?, tail].concat();
    lines.push(line(indent, &joined(&behind)));
    Some(lines)
}

fn divided_with_comma(indent: usize, inner: &[Token]) -> Vec<String> {
    let (own, end) = inner.split_at(inner.len() - 1);
    divided(indent, own, COMMA, end)
}

/// Whether a value is broken in its own brackets rather than in new ones.
fn omits_brackets(indent: usize, body: &[Token]) -> bool {
    let found = delimiters(body);
    let Some(weakest) = found.iter().map(|(_, priority)| *priority).max() else { return true };
    if found.iter().filter(|(_, priority)| *priority == weakest).count() > 1 {
        return false;
    }
    let width = |tokens: &[Token]| indent + 4 + joined(tokens).chars().count();
    if body.first().is_some_and(|token| token.kind == Kind::Open)
        && let Some(close) = closing(body, 0)
        && body.get(close..).is_some_and(|rest| width(rest) <= WIDTH || rest.iter().any(|token| token.kind == Kind::Open))
    {
        return true;
    }
    let Some(last) = body.last().filter(|token| token.text == ")") else { return false };
    let Some(open) = opening(body, body.len() - 1).filter(|open| open + 2 < body.len() && last.kind == Kind::Close) else { return false };
    let others = body.get(..open).is_some_and(|before| before.iter().any(|token| token.kind == Kind::Open));
    others || body.get(..=open).is_some_and(|before| width(before) <= WIDTH)
}

/// Operators and commas outside of all brackets: place and priority.
fn delimiters(body: &[Token]) -> Vec<(usize, u8)> {
    let mut depth = 0usize;
    let mut found = Vec::new();
    for (at, token) in body.iter().enumerate() {
        match token.kind {
            Kind::Open => depth += 1,
            Kind::Close => depth = depth.saturating_sub(1),
            Kind::Comma if depth == 0 => found.push((at, COMMA)),
            // A line never begins with the operator that divided it from the one before.
            Kind::Operator(priority) if depth == 0 && at > 0 => found.push((at, priority)),
            _ => {}
        }
    }
    found
}

fn assigns(body: &[Token]) -> Option<usize> {
    let mut depth = 0usize;
    for (at, token) in body.iter().enumerate() {
        match token.kind {
            Kind::Open => depth += 1,
            Kind::Close => depth = depth.saturating_sub(1),
            _ if depth == 0 && token.text == "=" => return Some(at),
            _ => {}
        }
    }
    None
}

fn closing(body: &[Token], open: usize) -> Option<usize> {
    let mut depth = 0usize;
    for (at, token) in body.iter().enumerate().skip(open) {
        match token.kind {
            Kind::Open => depth += 1,
            Kind::Close => {
                depth -= 1;
                if depth == 0 {
                    return Some(at);
                }
            }
            _ => {}
        }
    }
    None
}

fn opening(body: &[Token], close: usize) -> Option<usize> {
    let mut depth = 0usize;
    for (at, token) in body.iter().enumerate().take(close + 1).rev() {
        match token.kind {
            Kind::Close => depth += 1,
            Kind::Open => {
                depth -= 1;
                if depth == 0 {
                    return Some(at);
                }
            }
            _ => {}
        }
    }
    None
}

fn joined(tokens: &[Token]) -> String {
    let mut text = String::new();
    for (at, token) in tokens.iter().enumerate() {
        if at > 0 && token.space {
            text.push(' ');
        }
        text.push_str(&token.text);
    }
    text
}

fn tokens(text: &str) -> Vec<Token> {
    let chars: Vec<char> = text.chars().collect();
    let mut tokens: Vec<Token> = Vec::new();
    let mut at = 0;
    while let Some(c) = chars.get(at) {
        if *c == ' ' {
            at += 1;
            continue;
        }
        let space = at > 0 && chars.get(at - 1) == Some(&' ');
        let start = at;
        let kind = match c {
            '(' | '[' | '{' => Kind::Open,
            ')' | ']' | '}' => Kind::Close,
            ',' => Kind::Comma,
            '"' => {
                at += 1;
                while chars.get(at).is_some_and(|c| *c != '"') {
                    at += if chars.get(at) == Some(&'\\') { 2 } else { 1 };
                }
                Kind::Word
            }
            c if is_word(*c) => {
                while chars.get(at + 1).is_some_and(|c| is_word(*c) || (*c == '"' && chars.get(at) == Some(&'b') && at == start)) {
                    at += 1;
                    if chars.get(at) == Some(&'"') {
                        at += 1;
                        while chars.get(at).is_some_and(|c| *c != '"') {
                            at += if chars.get(at) == Some(&'\\') { 2 } else { 1 };
                        }
                    }
                }
                Kind::Word
            }
            _ => {
                while chars.get(at + 1).is_some_and(|c| "<>=/*".contains(*c)) {
                    at += 1;
                }
                Kind::Word
            }
        };
        at += 1;
        let text: String = chars.get(start..at.min(chars.len())).unwrap_or_default().iter().collect();
        // Between two operands both sides have a space.
        let kind = if kind == Kind::Word && space && chars.get(at) == Some(&' ') { operator(&text, tokens.last()) } else { kind };
        tokens.push(Token { text, space, kind });
    }
    tokens
}

fn is_word(c: char) -> bool {
    c.is_alphanumeric() || matches!(c, '_' | '.')
}

fn operator(text: &str, before: Option<&Token>) -> Kind {
    let after = |word: &str| before.is_some_and(|token| token.text == word);
    Kind::Operator(match text {
        "if" | "else" => TERNARY,
        "and" | "or" => 14,
        "not" if after("is") => return Kind::Word,
        "<" | ">" | "<=" | ">=" | "==" | "!=" | "in" | "is" => 10,
        "|" => 9,
        "^" => 8,
        "&" => 7,
        "<<" | ">>" => 6,
        "+" | "-" => 5,
        "*" | "/" | "//" | "%" => 4,
        _ => return Kind::Word,
    })
}

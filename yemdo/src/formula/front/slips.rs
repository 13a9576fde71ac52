//! What C reads otherwise than datasheets print it: `^` for a power, types by other names, a fraction that a division of
//! integers drops.

use std::collections::HashMap;

use super::ast::{self, UnaryOp};
use super::lex::Token;
use crate::formula::operators::{Arith, BinaryOp};
use crate::formula::typed::Lost;
use crate::ground::diagnostic::Diagnostic;
use crate::ground::number::Ty;
use crate::ground::text::Span;

/// `^` beside a decimal number or a real is meant as a power: it is judged by the tokens around it, as it binds more
/// loosely than whoever types `3*x^2` believes. `before` are the tokens up to it, `behind` those that follow.
pub(super) fn power(before: &[(Token, Span)], behind: &[(Token, Span)]) -> Option<Diagnostic> {
    let (base, base_span) = before.last()?;
    // What is negative or stands in parentheses of its own is a number too.
    let opens = |token: &Token| matches!(token, Token::Mark("(" | "-" | "+"));
    let (exponent, exponent_span) = behind.iter().find(|(token, _)| !opens(token))?;
    let direct = behind.first().is_some_and(|(token, _)| matches!(token, Token::Mark("-" | "+")) || token == exponent);
    let negative = matches!(behind.first(), Some((Token::Mark("-"), _)));
    let closed = matches!(behind.get(2), Some((Token::Mark(")"), _)));
    let is_number = |token: &Token| matches!(token, Token::Int { decimal: true, .. } | Token::Real(..));
    let exponent_is_number = is_number(exponent) && (direct || closed);
    if !is_number(base) && !exponent_is_number {
        return None;
    }
    let whole = |token: &Token| if let Token::Int { value, decimal: true, .. } = token { Some(*value) } else { None };
    let divides = matches!(before.iter().rev().nth(1), Some((Token::Mark("/"), _)));
    let span = base_span.to(if exponent_is_number { *exponent_span } else { behind.first()?.1 });
    let problem = Diagnostic::error("power-is-xor", span, "^ is XOR in C, not a power").label("meant as a power?");
    let power = |base: u64, exponent: u64| u32::try_from(exponent).ok().and_then(|exponent| base.checked_pow(exponent));
    let number = whole(exponent).filter(|_| exponent_is_number);
    Some(match (whole(base), number) {
        (Some(2), Some(e)) if !negative && divides && e < 63 => problem.help(format!(
            "for a division by two to the power of {e}: `/ {0}.0` keeps the fraction, `/ {0}` drops it, toward zero, and `>> {e}` \
             rounds down: below zero the last two differ, and datasheets mean either",
            1u64 << e
        )),
        (Some(2), Some(e)) if !negative && e < 63 => {
            // From 31 on an int does not hold it.
            let one = if e < 31 { "1" } else { "1LL" };
            problem.help(format!("for two to the power of {e}, write {} or ({one} << {e})", 1u64 << e))
        }
        (Some(10), Some(e)) if negative => problem.help(format!("for ten to the power of -{e}, write 1e-{e}")),
        (Some(base), Some(e)) if !negative && power(base, e).is_some() => {
            problem.help(format!("for the power, write {}", power(base, e).unwrap_or(0)))
        }
        (Some(base), Some(e)) => problem.help(format!("for the power, write pow({base}, {}{e})", if negative { "-" } else { "" })),
        (Some(2), None) => problem.help("for a power of two, write 1 << n where n is never negative, else pow(2, n)"),
        (Some(base), None) => problem.help(format!("for the power, write pow({base}, n)")),
        (None, Some(2)) if matches!(base, Token::Name(_)) => {
            problem.help("for a square, write x * x; for XOR, write the number in hex: 0x2")
        }
        (None, Some(e)) => {
            problem.help(format!("for a power, write pow(x, {}{e}); for XOR, write the number in hex", if negative { "-" } else { "" }))
        }
        (None, None) => problem.help("for a power, write pow(x, y)"),
    })
}

/// The type that a name of practice stands for: `int32`, `s32`, `u16`, `uint`.
pub(super) fn meant_type(name: &str) -> Option<&'static str> {
    let lower = name.to_ascii_lowercase();
    let (kind, digits) = lower.split_at(lower.find(|c: char| !c.is_ascii_alphabetic()).unwrap_or(lower.len()));
    let digits = digits.trim_end_matches("_t");
    let unsigned = match (kind, digits) {
        ("uint" | "u" | "ui", _) | ("byte" | "uchar" | "word" | "ushort" | "dword" | "ulong", "") => true,
        ("int" | "i" | "s" | "si" | "sint", "8" | "16" | "32" | "64") | ("sbyte", "") => false,
        ("float", "32") => return Some("float"),
        ("float" | "double", "64") | ("real", "") => return Some("double"),
        ("boolean", "") => return Some("bool"),
        _ => return None,
    };
    let bits = match (kind, digits) {
        ("byte" | "uchar" | "sbyte", _) => "8",
        ("word" | "ushort", _) => "16",
        ("uint" | "dword" | "ulong", "") => "32",
        (_, bits) => bits,
    };
    Some(match (unsigned, bits) {
        (true, "8") => "uint8_t",
        (true, "16") => "uint16_t",
        (true, "32") => "uint32_t",
        (true, "64") => "uint64_t",
        (false, "8") => "int8_t",
        (false, "16") => "int16_t",
        (false, "32") => "int32_t",
        (false, "64") => "int64_t",
        _ => return None,
    })
}

/// The complaint about such a name.
pub(super) fn not_a_type(name: &str, meant: &str, span: Span) -> Diagnostic {
    Diagnostic::error("unknown-type", span, format!("`{name}` is not a type of C"))
        .label("not a type here")
        .help(format!("did you mean `{meant}`?"))
}

/// Which values of a formula are made of a division of integers: by sums, factors and variables, but not across a cast or
/// a shift, which say that integers are meant.
#[derive(Default)]
pub(super) struct Fractions {
    /// By the place of the expression.
    lost: HashMap<(usize, usize), Lost>,
    variables: HashMap<usize, Lost>,
    told: Vec<Span>,
}

impl Fractions {
    pub(super) fn at(&self, span: Span) -> Option<&Lost> {
        self.lost.get(&(span.start, span.end))
    }

    pub(super) fn put(&mut self, span: Span, lost: Option<Lost>) {
        self.lost.extend(lost.map(|lost| ((span.start, span.end), lost)));
    }

    pub(super) fn variable(&self, var: usize) -> Option<&Lost> {
        self.variables.get(&var)
    }

    /// A variable takes a value; what another branch left in it stays a possibility.
    pub(super) fn set(&mut self, var: usize, lost: Option<Lost>) {
        self.variables.extend(lost.map(|lost| (var, lost)));
    }

    /// What an expression of integers is made of.
    pub(super) fn of(&self, expr: &ast::Expr, ty: Ty) -> Option<Lost> {
        match &expr.kind {
            ast::ExprKind::Binary(op, _, left, right) => self.of_binary(*op, left.span, right, expr.span, ty),
            ast::ExprKind::Unary(UnaryOp::Minus | UnaryOp::Plus, inner) => self.at(inner.span).cloned(),
            ast::ExprKind::Cond(_, then, otherwise) => self.at(then.span).or(self.at(otherwise.span)).cloned(),
            _ => None,
        }
    }

    /// The same of an operation between what stands at `left` and `right`.
    pub(super) fn of_binary(&self, op: BinaryOp, left: Span, right: &ast::Expr, whole: Span, ty: Ty) -> Option<Lost> {
        match op {
            BinaryOp::Arith(Arith::Div) => {
                let help = match right.kind {
                    ast::ExprKind::Int(number, _) => format!("to keep the fraction, write {number}.0 in place of {number}"),
                    _ => "to keep the fraction, make one side real: (double)x / y".to_owned(),
                };
                Some(Lost { division: whole, ty, help })
            }
            BinaryOp::Arith(Arith::Add | Arith::Sub | Arith::Mul) => self.at(left).or(self.at(right.span)).cloned(),
            _ => None,
        }
    }

    /// The warning about what goes on as a real; each division is told once.
    pub(super) fn goes_on(&mut self, span: Span) -> Option<Diagnostic> {
        let lost = self.at(span)?.clone();
        if self.told.contains(&lost.division) {
            return None;
        }
        self.told.push(lost.division);
        Some(lost.warning())
    }
}

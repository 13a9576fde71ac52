//! Expressions in Rust.

use super::super::code::Expr;
use super::doc::Doc;
use super::literals::{digits, has_type, hex, lossless, real, type_name};
use crate::formula::functions::Func;
use crate::formula::operators::{Arith, BinaryOp, Compare};
use crate::ground::number::Ty;
use std::collections::BTreeSet;

/// Prints expressions and records the needed helpers.
#[derive(Default)]
pub(super) struct Printer {
    /// The parameter that is `self`.
    pub(super) own: Option<String>,
    /// Lints of Clippy's that the function cannot keep to.
    pub(super) allowed: BTreeSet<&'static str>,
    /// At this depth the last statement of a block is the value of the function.
    pub(super) values: Option<usize>,
    pub(super) bcd: bool,
    pub(super) half: bool,
    pub(super) math: bool,
}

/// How tightly an expression holds together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Level {
    Choice,
    Or,
    And,
    Compare,
    BitOr,
    BitXor,
    BitAnd,
    Shift,
    Sum,
    Product,
    Cast,
    Unary,
    Primary,
}

pub(super) fn text(text: impl Into<String>) -> Doc {
    Doc::Text(text.into())
}

impl Printer {
    /// An expression as it stands alone.
    pub(super) fn doc(&mut self, expr: &Expr) -> Doc {
        self.expr(expr).0
    }

    fn at_least(&mut self, expr: &Expr, level: Level) -> Doc {
        let (doc, own) = self.expr(expr);
        if own < level { Doc::Paren(Box::new(doc)) } else { doc }
    }

    /// Something that a method is called of.
    fn receiver(&mut self, expr: &Expr) -> Doc {
        match expr {
            Expr::Int(value, ty) => {
                let number = text(format!("{}_{}", digits(*value), type_name(*ty)));
                if *value < 0 { Doc::Paren(Box::new(number)) } else { number }
            }
            Expr::Hex(value, ty) => text(format!("{}_{}", hex(*value, *ty), type_name(*ty))),
            Expr::Real(value, ty) => {
                let number = text(format!("{}_{}", real(*value, *ty), type_name(*ty)));
                if value.is_sign_negative() { Doc::Paren(Box::new(number)) } else { number }
            }
            other => self.at_least(other, Level::Primary),
        }
    }

    /// A variable; the first parameter of a method is `self`.
    pub(super) fn name(&self, name: &str) -> String {
        if self.own.as_deref() == Some(name) { "self".to_owned() } else { name.to_owned() }
    }

    fn expr(&mut self, expr: &Expr) -> (Doc, Level) {
        match expr {
            Expr::Int(value, _) => (text(digits(*value)), if *value < 0 { Level::Unary } else { Level::Primary }),
            Expr::Hex(value, ty) => (text(hex(*value, *ty)), Level::Primary),
            Expr::Real(value, ty) => (text(real(*value, *ty)), if value.is_sign_negative() { Level::Unary } else { Level::Primary }),
            Expr::Bool(value) => (text(if *value { "true" } else { "false" }), Level::Primary),
            Expr::Var(name) | Expr::There(name) | Expr::Pass(name) => (text(self.name(name)), Level::Primary),
            Expr::IsThere(name) => (text(format!("{name}.is_some()")), Level::Primary),
            Expr::Member(of, member) => (text(format!("{}.{member}", self.name(of))), Level::Primary),
            Expr::Own(of, member) => (text(format!("{of}.{member}")), Level::Primary),
            Expr::NoAnswer => (text("!answered"), Level::Unary),
            Expr::Byte(bytes, at) => (text(format!("{}[{at}]", bytes.replace("run.", "self."))), Level::Primary),
            Expr::Bytes(bytes, at) => {
                let all: Vec<String> = at.iter().map(|at| format!("{bytes}[{at}]")).collect();
                (Doc::List(all), Level::Primary)
            }
            Expr::Value(ty, name) => (text(format!("{}::{}", ty.rust, name.rust)), Level::Primary),
            Expr::Neg(Ty::U8 | Ty::U16 | Ty::U32 | Ty::U64, inner) => {
                (Doc::Method(Box::new(self.receiver(inner)), "wrapping_neg".into(), Vec::new()), Level::Primary)
            }
            Expr::Neg(_, inner) => (Doc::Before("-", Box::new(self.at_least(inner, Level::Unary))), Level::Unary),
            // The complement of a literal depends on its type.
            Expr::BitNot(_, inner) => {
                let inner = if has_type(inner) { self.at_least(inner, Level::Unary) } else { self.receiver(inner) };
                (Doc::Before("!", Box::new(inner)), Level::Unary)
            }
            Expr::Not(inner) => match &**inner {
                // Tests of optional values.
                Expr::IsThere(name) => (text(format!("{name}.is_none()")), Level::Primary),
                inner => (Doc::Before("!", Box::new(self.at_least(inner, Level::Unary))), Level::Unary),
            },
            Expr::Arith(op, ty, left, right) => self.arith(*op, *ty, left, right),
            Expr::Shl(ty, value, count) => {
                let value = match &**value {
                    Expr::Int(value, _) => text(format!("{}_{}", digits(*value), type_name(*ty))),
                    other => self.at_least(other, Level::Cast),
                };
                (Doc::Chain(Box::new(before_angle(value)), vec![("<<", self.at_least(count, Level::Cast))]), Level::Shift)
            }
            Expr::Shr { value, count, .. } => {
                let value = if has_type(value) { self.at_least(value, Level::Cast) } else { self.receiver(value) };
                (Doc::Chain(Box::new(value), vec![(">>", self.at_least(count, Level::Cast))]), Level::Shift)
            }
            Expr::Compare(op, ty, left, right) => {
                let mark = BinaryOp::Compare(*op).mark();
                let exact = matches!(op, Compare::Equal | Compare::NotEqual) && ty.is_real();
                // A value unequal to itself is NaN.
                if exact && left == right {
                    let asked = Doc::Method(Box::new(self.receiver(left)), "is_nan".into(), Vec::new());
                    return match op {
                        Compare::NotEqual => (asked, Level::Primary),
                        _ => (Doc::Before("!", Box::new(asked)), Level::Unary),
                    };
                }
                if exact && !matches!(**right, Expr::Real(0.0, _)) {
                    self.allowed.insert("float_cmp");
                }
                let first = if has_type(left) || has_type(right) { self.at_least(left, Level::Sum) } else { self.receiver(left) };
                let first = before_angle(first);
                let right = self.at_least(right, Level::Sum);
                (Doc::Chain(Box::new(first), vec![(mark, right)]), Level::Compare)
            }
            Expr::Within(_, value, low, high) => {
                let (low, high) = (self.at_least(low, Level::Sum).flat(), self.at_least(high, Level::Sum).flat());
                let range = text(format!("({low}..={high})"));
                let value = Doc::Before("&", Box::new(self.at_least(value, Level::Unary)));
                (Doc::Method(Box::new(range), "contains".into(), vec![value]), Level::Primary)
            }
            Expr::Outside(ty, value, low, high) => self.expr(&Expr::outside(*ty, value, *low, *high)),
            Expr::Clamp(value, low, high) => {
                let (low, high) = (self.doc(low), self.doc(high));
                (Doc::Method(Box::new(self.receiver(value)), "clamp".into(), vec![low, high]), Level::Primary)
            }
            Expr::And(left, right) => match (&**left, &**right) {
                (Expr::IsThere(name), Expr::There(other)) if name == other => (text(format!("{name} == Some(true)")), Level::Compare),
                (Expr::IsThere(name), test) => {
                    let test = self.doc(test);
                    (
                        Doc::Method(
                            Box::new(text(name.clone())),
                            "is_some_and".into(),
                            vec![Doc::Before("|end| ", Box::new(renamed(test, name)))],
                        ),
                        Level::Primary,
                    )
                }
                _ => (self.chain(left, right, "&&", |expr| matches!(expr, Expr::And(..))), Level::And),
            },
            Expr::Or(left, right) => (self.chain(left, right, "||", |expr| matches!(expr, Expr::Or(..))), Level::Or),
            Expr::Cond(cond, then, otherwise) => {
                let (cond, then, otherwise) = (self.doc(cond), self.doc(then), self.doc(otherwise));
                (Doc::Choice(Box::new(cond), Box::new(then), Box::new(otherwise)), Level::Choice)
            }
            Expr::FromBool(ty, truth) => (Doc::Call(format!("{}::from", type_name(*ty)), vec![self.doc(truth)]), Level::Primary),
            Expr::Cast { from, to, fits, value } => self.cast(*from, *to, *fits, value),
            Expr::SignExtend(width, wide, to, raw) => self.sign_extend(*width, *wide, *to, raw),
            Expr::FromBits(16, _, raw) => {
                self.half = true;
                (Doc::Call("half".into(), vec![self.doc(raw)]), Level::Primary)
            }
            Expr::FromBits(_, ty, raw) => (Doc::Call(format!("{}::from_bits", type_name(*ty)), vec![self.doc(raw)]), Level::Primary),
            Expr::IsFinite(_, value) => (Doc::Method(Box::new(self.receiver(value)), "is_finite".into(), Vec::new()), Level::Primary),
            Expr::FromCode(name, code) => (Doc::Call(format!("{}::from_code", name.rust), vec![self.doc(code)]), Level::Primary),
            Expr::CodeOf(value) => (Doc::Method(Box::new(self.receiver(value)), "code".into(), Vec::new()), Level::Primary),
            Expr::Bcd(bits, digits) => {
                self.bcd = true;
                (Doc::Call("bcd".into(), vec![self.doc(bits), text(digits.to_string())]), Level::Primary)
            }
            Expr::Call(name, args) => (Doc::Call(name.rust.clone(), args.iter().map(|arg| self.doc(arg)).collect()), Level::Primary),
            Expr::Method(name, args) => {
                let of = args.first().map_or(text(""), |arg| self.receiver(arg));
                (Doc::Method(Box::new(of), name.rust.clone(), args.iter().skip(1).map(|arg| self.doc(arg)).collect()), Level::Primary)
            }
            Expr::Math(Func::Abs, ty, args) if !ty.is_real() => {
                let of = args.first().map_or(text(""), |arg| self.receiver(arg));
                (Doc::Method(Box::new(of), "abs".into(), Vec::new()), Level::Primary)
            }
            Expr::Math(func, ty, args) => {
                self.math = true;
                (Doc::Call(format!("libm::{}", func.name(*ty)), args.iter().map(|arg| self.doc(arg)).collect()), Level::Primary)
            }
            Expr::Reading(value, status) => match (&**value, &**status) {
                (Expr::Real(0.0, _) | Expr::Int(0, _), status) => {
                    (Doc::Call("Reading::none".into(), vec![self.doc(status)]), Level::Primary)
                }
                (value, status) => (Doc::Call("Reading::new".into(), vec![self.doc(value), self.doc(status)]), Level::Primary),
            },
        }
    }

    fn chain(&mut self, left: &Expr, right: &Expr, mark: &'static str, same: impl Fn(&Expr) -> bool) -> Doc {
        let level = Level::Compare;
        let mut flat = Vec::new();
        let mut left = left;
        let mut rest = vec![right];
        while let (true, Expr::And(one, other) | Expr::Or(one, other)) =
            (same(left) && !matches!(left, Expr::And(is, _) if matches!(**is, Expr::IsThere(_))), left)
        {
            rest.push(other);
            left = one;
        }
        let first = self.at_least(left, level);
        for one in rest.into_iter().rev() {
            flat.push((mark, self.at_least(one, level)));
        }
        Doc::Chain(Box::new(first), flat)
    }

    fn arith(&mut self, op: Arith, ty: Ty, left: &Expr, right: &Expr) -> (Doc, Level) {
        let wraps = matches!(op, Arith::Add | Arith::Sub | Arith::Mul) && matches!(ty, Ty::U8 | Ty::U16 | Ty::U32 | Ty::U64);
        if wraps {
            let name = match op {
                Arith::Add => "wrapping_add",
                Arith::Sub => "wrapping_sub",
                _ => "wrapping_mul",
            };
            return (Doc::Method(Box::new(self.receiver(left)), name.into(), vec![self.doc(right)]), Level::Primary);
        }
        let integers = matches!(op, Arith::Div | Arith::Rem) && !ty.is_real();
        if integers && !matches!(right, Expr::Int(value, _) if *value != 0 && *value != -1) {
            // It is proved, or was asked, that there is a quotient; the compiler may not see it.
            let name = if op == Arith::Div { "checked_div" } else { "checked_rem" };
            let checked = Doc::Method(Box::new(self.receiver(left)), name.into(), vec![self.doc(right)]);
            return (Doc::Method(Box::new(checked), "unwrap_or".into(), vec![text("0")]), Level::Primary);
        }
        // Half of a sum is rounded otherwise there.
        if op == Arith::Div && matches!(right, Expr::Real(2.0, _)) && matches!(left, Expr::Arith(Arith::Add, ..)) {
            self.allowed.insert("manual_midpoint");
        }
        if let (Arith::Div, Expr::Arith(Arith::Add, _, _, more), Expr::Int(by, _)) = (op, left, right)
            && matches!(**more, Expr::Int(more, _) if more + 1 == *by)
        {
            self.allowed.insert("manual_div_ceil");
        }
        let level = match op {
            Arith::Mul | Arith::Div | Arith::Rem => Level::Product,
            Arith::Add | Arith::Sub => Level::Sum,
            Arith::BitAnd => Level::BitAnd,
            Arith::BitXor => Level::BitXor,
            Arith::BitOr => Level::BitOr,
        };
        let bits = level < Level::Sum;
        let mark = BinaryOp::Arith(op).mark();
        let first = match left {
            Expr::Arith(same, ..) if bits && *same == op => self.doc(left),
            // Between two constants nothing says which type they have.
            Expr::Int(..) | Expr::Real(..) if !has_type(right) => self.receiver(left),
            left if bits => self.at_least(left, Level::Cast),
            left => self.at_least(left, level),
        };
        let second = match right {
            right if bits => self.at_least(right, Level::Cast),
            right if level == Level::Product => self.at_least(right, Level::Cast),
            right => self.at_least(right, Level::Product),
        };
        // Operators of one kind form a chain.
        let joined = match first {
            Doc::Chain(head, mut rest) if rest.iter().all(|(known, _)| level_of(known) == level) => {
                rest.push((mark, second));
                Doc::Chain(head, rest)
            }
            first => Doc::Chain(Box::new(first), vec![(mark, second)]),
        };
        (joined, level)
    }

    fn cast(&mut self, from: Ty, to: Ty, fits: bool, value: &Expr) -> (Doc, Level) {
        // A literal needs its type.
        if let Expr::Hex(bits, _) = value
            && matches!(to, Ty::U8 | Ty::U16 | Ty::U32 | Ty::U64)
        {
            let own = bits & (u64::MAX >> (64 - to.bits()));
            return (text(format!("{}_{}", hex(own, to), type_name(to))), Level::Primary);
        }
        if let (Expr::Real(..), Ty::F32, Ty::F64) = (value, from, to) {
            return (text(format!("f64::from({}_f32)", self.doc(value).flat())), Level::Primary);
        }
        if lossless(from, to) {
            return (Doc::Call(format!("{}::from", type_name(to)), vec![self.doc(value)]), Level::Primary);
        }
        if !to.is_real() && !from.is_real() {
            if from.bits() > to.bits() || (from.bits() == to.bits() && fits) {
                // A number that fits, or the lowest bits of one.
                self.allowed.insert(if from.bits() > to.bits() { "cast_possible_truncation" } else { "cast_possible_wrap" });
            }
            if from.is_signed() && !to.is_signed() {
                self.allowed.insert("cast_sign_loss");
            }
            if !from.is_signed() && to.is_signed() && from.bits() == to.bits() {
                self.allowed.insert("cast_possible_wrap");
            }
        } else if to.is_real() {
            self.allowed.insert(if from == Ty::F64 { "cast_possible_truncation" } else { "cast_precision_loss" });
        } else {
            self.allowed.insert("cast_possible_truncation");
            if !to.is_signed() {
                self.allowed.insert("cast_sign_loss");
            }
        }
        let value = match value {
            Expr::Int(..) | Expr::Real(..) => self.receiver(value),
            other => self.at_least(other, Level::Cast),
        };
        (Doc::Behind(Box::new(value), format!(" as {}", type_name(to))), Level::Cast)
    }

    /// Bits in two's complement: moved to the top of the type and back.
    fn sign_extend(&mut self, width: u32, wide: Ty, to: Ty, raw: &Expr) -> (Doc, Level) {
        let signed = match wide {
            Ty::U8 => Ty::I8,
            Ty::U16 => Ty::I16,
            Ty::U32 => Ty::I32,
            _ => Ty::I64,
        };
        let unused = wide.bits() - width;
        self.allowed.insert("cast_possible_wrap");
        // Already at the top.
        if let (Expr::Shr { value, count, .. }, true) = (raw, unused > 0)
            && **count == Expr::Int(i128::from(unused), Ty::I32)
        {
            let top = Doc::Paren(Box::new(Doc::Behind(Box::new(self.at_least(value, Level::Cast)), format!(" as {}", type_name(signed)))));
            let doc = Doc::Chain(Box::new(top), vec![(">>", text(unused.to_string()))]);
            return if signed == to {
                (doc, Level::Shift)
            } else {
                (Doc::Call(format!("{}::from", type_name(to)), vec![doc]), Level::Primary)
            };
        }
        let raw = self.at_least(raw, Level::Cast);
        let (doc, level) = if unused == 0 {
            (Doc::Behind(Box::new(raw), format!(" as {}", type_name(signed))), Level::Cast)
        } else {
            let up = Doc::Paren(Box::new(Doc::Chain(Box::new(before_angle(raw)), vec![("<<", text(unused.to_string()))])));
            let top = Doc::Paren(Box::new(Doc::Behind(Box::new(up), format!(" as {}", type_name(signed)))));
            (Doc::Chain(Box::new(top), vec![(">>", text(unused.to_string()))]), Level::Shift)
        };
        if signed == to {
            return (doc, level);
        }
        (Doc::Call(format!("{}::from", type_name(to)), vec![doc]), Level::Primary)
    }
}

/// The left side of `<` or `<<`. After `as TYPE`, the mark would begin a list of types.
fn before_angle(doc: Doc) -> Doc {
    if ends_in_type(&doc) { Doc::Paren(Box::new(doc)) } else { doc }
}

fn ends_in_type(doc: &Doc) -> bool {
    match doc {
        Doc::Behind(..) => true,
        Doc::Chain(_, rest) => rest.last().is_some_and(|(_, last)| ends_in_type(last)),
        Doc::Before(_, inner) => ends_in_type(inner),
        _ => false,
    }
}

/// Replaces the name of a value that may be none by that of the one that is there.
fn renamed(doc: Doc, name: &str) -> Doc {
    match doc {
        Doc::Text(text) if text == name => Doc::Text("end".into()),
        Doc::Chain(first, rest) => {
            Doc::Chain(Box::new(renamed(*first, name)), rest.into_iter().map(|(op, doc)| (op, renamed(doc, name))).collect())
        }
        Doc::Call(head, args) => Doc::Call(head, args.into_iter().map(|doc| renamed(doc, name)).collect()),
        Doc::Behind(doc, mark) => Doc::Behind(Box::new(renamed(*doc, name)), mark),
        other => other,
    }
}

fn level_of(mark: &str) -> Level {
    match mark {
        "*" | "/" | "%" => Level::Product,
        "+" | "-" => Level::Sum,
        "&" => Level::BitAnd,
        "^" => Level::BitXor,
        "|" => Level::BitOr,
        _ => Level::Choice,
    }
}

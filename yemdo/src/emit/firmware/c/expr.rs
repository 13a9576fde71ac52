//! Expressions in C99.
//!
//! No expression depends on the width of `int`: types below 16 bits are cast back after an operation, and constants have the type of the
//! other operand. No expression is undefined or implementation-defined: helpers shift and truncate negative numbers.

use std::collections::BTreeSet;

use super::super::code::Expr;
use crate::formula::functions::Func;
use crate::formula::operators::{Arith, BinaryOp, Compare};
use crate::ground::number::Ty;

/// A helper that the output needs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(in super::super) enum Helper {
    /// An arithmetic shift to the right, of 32 or 64 bits, by a number of places or by any.
    ShiftRight(u32, Option<u32>),
    /// The lowest bits as a number in two's complement, of 8, 16, 32 or 64 bits.
    Signed(u32),
    /// The bits of a float of 16, 32 or 64 bits, as a `float` or `double`.
    FromBits(u32),
    /// Decimal digits.
    Bcd,
    /// A checked operation on `bits` bits.
    Checked(super::super::code::Checked, u32),
}

/// How tightly an expression holds together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Level {
    Cond,
    Or,
    And,
    BitOr,
    BitXor,
    BitAnd,
    Equality,
    Relation,
    Shift,
    Sum,
    Product,
    Unary,
    Primary,
}

/// Prints expressions and records the needed helpers.
pub(super) struct Printer<'a> {
    pub(super) prefix: &'a str,
    pub(super) helpers: BTreeSet<Helper>,
    pub(super) math: bool,
    pub(super) null: bool,
    /// Variables whose value may be none, and which are kept beside a flag.
    pub(super) tried: BTreeSet<String>,
    /// The structure that a function fills is a pointer.
    pub(super) filled: bool,
}

/// The name of a type in C.
pub(super) fn type_name(ty: Ty) -> &'static str {
    ty.name()
}

impl Printer<'_> {
    /// An expression as it stands alone, as a value of a type.
    pub(super) fn value(&mut self, expr: &Expr, ty: Ty) -> String {
        let needs_cut = matches!(ty, Ty::U8 | Ty::U16 | Ty::I8 | Ty::I16)
            && matches!(expr, Expr::Arith(..) | Expr::Shr { .. } | Expr::Cond(..) | Expr::Neg(..));
        let needs_cut = needs_cut && !matches!(expr, Expr::Neg(_, inner) if matches!(**inner, Expr::Int(..)));
        let text = self.alone(expr);
        if needs_cut && !is_cut(expr, ty) { format!("({})({text})", type_name(ty)) } else { text }
    }

    /// An expression as it stands alone.
    pub(super) fn alone(&mut self, expr: &Expr) -> String {
        self.expr(expr).0
    }

    /// An operand that has to hold together at least so tightly.
    fn at_least(&mut self, expr: &Expr, level: Level) -> String {
        let (text, own) = self.expr(expr);
        if own < level { format!("({text})") } else { text }
    }

    /// An operand of an operator that readers do not weigh against others: whatever is computed has brackets.
    fn operand(&mut self, expr: &Expr) -> String {
        self.at_least(expr, Level::Unary)
    }

    fn helper(&mut self, helper: Helper) -> String {
        self.helpers.insert(helper);
        format!("{}_{}", self.prefix, helper.name())
    }

    fn expr(&mut self, expr: &Expr) -> (String, Level) {
        match expr {
            Expr::Int(value, ty) => integer(*value, *ty, false),
            Expr::Hex(value, ty) => (hex(*value, *ty), Level::Primary),
            Expr::Real(value, ty) => real(*value, *ty),
            Expr::Bool(value) => ((if *value { "true" } else { "false" }).to_owned(), Level::Primary),
            Expr::Var(name) => (name.clone(), Level::Primary),
            Expr::There(name) => (name.clone(), Level::Primary),
            Expr::IsThere(name) => (format!("has_{name}"), Level::Primary),
            Expr::Pass(name) if self.tried.contains(name) => {
                self.null = true;
                (format!("has_{name} ? &{name} : NULL"), Level::Cond)
            }
            Expr::Pass(name) => (name.clone(), Level::Primary),
            Expr::Member(of, member) => (format!("{of}->{member}"), Level::Primary),
            Expr::Own(of, member) => (format!("{of}{}{member}", if self.filled { "->" } else { "." }), Level::Primary),
            Expr::NoAnswer => ("!answered".into(), Level::Unary),
            Expr::Byte(bytes, at) => (format!("{}[{at}]", bytes.replace("run.", "run->")), Level::Primary),
            Expr::Bytes(bytes, at) => (format!("{bytes}[{}]", at.first().copied().unwrap_or(0)), Level::Primary),
            Expr::Value(_, name) => (name.c.clone(), Level::Primary),
            Expr::Neg(ty, inner) => {
                let inner = self.at_least(inner, Level::Unary);
                // Two signs side by side would be a decrement.
                let inner = if inner.starts_with('-') { format!("({inner})") } else { inner };
                let text = format!("-{inner}");
                match ty {
                    Ty::U8 | Ty::U16 | Ty::U32 | Ty::U64 => (format!("({})(0U - {inner})", type_name(*ty)), Level::Unary),
                    _ => (text, Level::Unary),
                }
            }
            // Compilers warn about the complement of a truth.
            Expr::BitNot(ty, inner) if matches!(&**inner, Expr::FromBool(..) | Expr::Cast { from: Ty::Bool, .. }) && ty.is_signed() => {
                let inner = self.at_least(inner, Level::Unary);
                (format!("-1 - {inner}"), Level::Sum)
            }
            Expr::BitNot(ty, inner) => {
                let inner = self.at_least(inner, Level::Unary);
                let text = format!("~{inner}");
                (if matches!(ty, Ty::U8 | Ty::U16) { format!("({}){text}", type_name(*ty)) } else { text }, Level::Unary)
            }
            Expr::Not(inner) if matches!(&**inner, Expr::Within(ty, ..) if !ty.is_real()) => {
                let Expr::Within(_, value, low, high) = &**inner else { return (String::new(), Level::Primary) };
                let value = self.at_least(value, Level::Sum);
                let (low, high) = (self.at_least(low, Level::Sum), self.at_least(high, Level::Sum));
                (format!("({value} < {low}) || ({value} > {high})"), Level::Or)
            }
            Expr::Not(inner) => (format!("!{}", self.at_least(inner, Level::Unary)), Level::Unary),
            Expr::Arith(op, ty, left, right) => self.arith(*op, *ty, left, right),
            Expr::Shl(ty, value, count) => {
                let value_text = match &**value {
                    // On its own a constant has the width of an int.
                    Expr::Int(value, ty) => integer(*value, *ty, true).0,
                    other => self.operand(other),
                };
                let text = format!("{value_text} << {}", self.operand(count));
                let small = matches!(ty, Ty::U8 | Ty::U16);
                let fits = matches!(&**count, Expr::Int(count, _) if i128::from(value.most_bits()) + count <= i128::from(ty.bits()));
                if small && !fits { (format!("({})({text})", type_name(*ty)), Level::Unary) } else { (text, Level::Shift) }
            }
            Expr::Shr { ty, negative: true, value, count } => {
                if let Expr::Int(places, _) = **count {
                    // By a constant a compiler knows it for the one instruction that it is.
                    let name = self.helper(Helper::ShiftRight(ty.bits(), u32::try_from(places).ok()));
                    return (format!("{name}({})", self.alone(value)), Level::Primary);
                }
                let name = self.helper(Helper::ShiftRight(ty.bits(), None));
                (format!("{name}({}, {})", self.alone(value), self.alone(count)), Level::Primary)
            }
            Expr::Shr { value, count, .. } => (format!("{} >> {}", self.operand(value), self.operand(count)), Level::Shift),
            Expr::Compare(op, ty, left, right) => {
                let mark = BinaryOp::Compare(*op).mark();
                let level = if matches!(op, Compare::Equal | Compare::NotEqual) { Level::Equality } else { Level::Relation };
                let of = |this: &mut Self, side: &Expr| match side {
                    Expr::BitNot(..) | Expr::Neg(..) => this.value(side, *ty),
                    side => this.at_least(side, Level::Sum),
                };
                let (left, right) = (of(self, left), of(self, right));
                (format!("{left} {mark} {right}"), level)
            }
            Expr::Within(_, value, low, high) => {
                let value = self.at_least(value, Level::Sum);
                let (low, high) = (self.at_least(low, Level::Sum), self.at_least(high, Level::Sum));
                (format!("({value} >= {low}) && ({value} <= {high})"), Level::And)
            }
            Expr::Outside(ty, value, low, high) => self.expr(&Expr::outside(*ty, value, *low, *high)),
            Expr::Clamp(value, low, high) => {
                let value = self.at_least(value, Level::Sum);
                let (low, high) = (self.at_least(low, Level::Sum), self.at_least(high, Level::Sum));
                (format!("({value} < {low}) ? {low} : (({value} > {high}) ? {high} : {value})"), Level::Cond)
            }
            Expr::And(left, right) => (self.chain(left, right, "&&", |expr| matches!(expr, Expr::And(..))), Level::And),
            Expr::Or(left, right) => (self.chain(left, right, "||", |expr| matches!(expr, Expr::Or(..))), Level::Or),
            Expr::Cond(cond, then, otherwise) => {
                let cond = self.at_least(cond, Level::Unary);
                let (then, otherwise) = (self.at_least(then, Level::Sum), self.at_least(otherwise, Level::Sum));
                (format!("{cond} ? {then} : {otherwise}"), Level::Cond)
            }
            Expr::FromBool(ty, truth) => (format!("({}){}", type_name(*ty), self.at_least(truth, Level::Unary)), Level::Unary),
            Expr::Cast { from: Ty::Bool, to, value, .. } => {
                (format!("({}){}", type_name(*to), self.at_least(value, Level::Unary)), Level::Unary)
            }
            Expr::Cast { from, to, fits, value } => {
                if !fits && to.is_signed() && !to.is_real() && !from.is_real() {
                    let name = self.helper(Helper::Signed(to.bits()));
                    let unsigned = super::super::unpack::register(to.bits());
                    let value = if *from == unsigned {
                        self.alone(value)
                    } else {
                        format!("({}){}", type_name(unsigned), self.at_least(value, Level::Unary))
                    };
                    return (format!("{name}({value})"), Level::Primary);
                }
                // A constant takes the type of the other operand.
                (format!("({}){}", type_name(*to), self.at_least(value, Level::Unary)), Level::Unary)
            }
            Expr::SignExtend(width, wide, to, raw) => self.sign_extend(*width, *wide, *to, raw),
            Expr::FromBits(width, _, raw) => {
                let name = self.helper(Helper::FromBits(*width));
                (format!("{name}({})", self.alone(raw)), Level::Primary)
            }
            Expr::IsFinite(_, value) => {
                self.math = true;
                (format!("isfinite({})", self.alone(value)), Level::Primary)
            }
            // An enum is its code.
            Expr::FromCode(_, code) | Expr::CodeOf(code) => self.expr(code),
            Expr::Bcd(bits, digits) => {
                let name = self.helper(Helper::Bcd);
                (format!("{name}({}, {digits})", self.alone(bits)), Level::Primary)
            }
            Expr::Call(name, args) | Expr::Method(name, args) => {
                let args: Vec<String> = args.iter().map(|arg| self.alone(arg)).collect();
                (format!("{}({})", name.c, args.join(", ")), Level::Primary)
            }
            Expr::Math(Func::Abs, ty, args) if !ty.is_real() => {
                let value = args.first().map_or(String::new(), |arg| self.at_least(arg, Level::Unary));
                let opposite = args.first().map_or(String::new(), |arg| self.alone(&Expr::Neg(*ty, arg.clone().boxed())));
                (format!("({value} < 0) ? {opposite} : {value}"), Level::Cond)
            }
            Expr::Math(func, ty, args) => {
                self.math = true;
                let args: Vec<String> = args.iter().map(|arg| self.alone(arg)).collect();
                (format!("{}({})", func.name(*ty), args.join(", ")), Level::Primary)
            }
            Expr::Reading(value, status) => {
                let (value, status) = (self.alone(value), self.alone(status));
                (format!("({}_reading_t){{ .value = {value}, .status = {status} }}", self.prefix), Level::Unary)
            }
        }
    }

    /// A call with the place for its result behind its arguments.
    pub(super) fn with_result(&mut self, call: &Expr, name: &str) -> String {
        match call {
            Expr::Call(function, args) | Expr::Method(function, args) => {
                let args: Vec<String> = args.iter().map(|arg| self.alone(arg)).chain([format!("&{name}")]).collect();
                format!("{}({})", function.c, args.join(", "))
            }
            other => self.alone(other),
        }
    }

    /// `a && b && c`, with brackets around everything that is no plain name.
    fn chain(&mut self, left: &Expr, right: &Expr, mark: &str, same: impl Fn(&Expr) -> bool) -> String {
        let side = |this: &mut Self, expr: &Expr| if same(expr) { this.alone(expr) } else { this.at_least(expr, Level::Unary) };
        let (left, right) = (side(self, left), side(self, right));
        format!("{left} {mark} {right}")
    }

    fn arith(&mut self, op: Arith, ty: Ty, left: &Expr, right: &Expr) -> (String, Level) {
        let mark = BinaryOp::Arith(op).mark();
        let level = match op {
            Arith::Mul | Arith::Div | Arith::Rem => Level::Product,
            Arith::Add | Arith::Sub => Level::Sum,
            Arith::BitAnd => Level::BitAnd,
            Arith::BitXor => Level::BitXor,
            Arith::BitOr => Level::BitOr,
        };
        let bits = matches!(op, Arith::BitAnd | Arith::BitXor | Arith::BitOr);
        let both = matches!((left, right), (Expr::Int(..), Expr::Int(..)));
        let left_text = match left {
            Expr::Int(value, ty) if both => integer(*value, *ty, true).0,
            Expr::Arith(same, ..) if bits && *same == op => self.alone(left),
            left if bits => self.operand(left),
            left => self.at_least(left, level),
        };
        let right_text = match right {
            Expr::Arith(same, ..) if bits && *same == op => self.alone(right),
            right if bits => self.operand(right),
            // Quotients are never on the right of a product without brackets.
            right if level == Level::Product => self.at_least(right, Level::Unary),
            right => self.at_least(right, Level::Product),
        };
        let text = format!("{left_text} {mark} {right_text}");
        let small = matches!(ty, Ty::U8 | Ty::U16) && matches!(op, Arith::Add | Arith::Sub | Arith::Mul);
        if small { (format!("({})({text})", type_name(ty)), Level::Unary) } else { (text, level) }
    }

    /// Bits in two's complement: the sign bit is turned over and its weight taken away, which no implementation does otherwise.
    fn sign_extend(&mut self, width: u32, wide: Ty, to: Ty, raw: &Expr) -> (String, Level) {
        if width == 32 || width == 64 {
            let name = self.helper(Helper::Signed(width));
            return (format!("{name}({})", self.alone(raw)), Level::Primary);
        }
        let half = 1u64 << (width - 1);
        let between = if width < 16 {
            Ty::I16
        } else if width < 32 {
            Ty::I32
        } else {
            Ty::I64
        };
        // An offset was turned over already.
        let (inner, turned) = match raw {
            Expr::Arith(Arith::BitXor, _, inner, mask) if **mask == Expr::Hex(half, wide) => (&**inner, false),
            other => (other, true),
        };
        let inner = self.operand(inner);
        let raw = if turned { format!("({inner} ^ {})", hex(half, wide)) } else { inner };
        let sum = format!("({}){raw} - {half}", type_name(between));
        (format!("({})({sum})", type_name(to)), Level::Unary)
    }
}

impl Helper {
    pub(in super::super) fn name(self) -> String {
        match self {
            Helper::ShiftRight(bits, None) => format!("shift_right_{bits}"),
            Helper::ShiftRight(bits, Some(places)) => format!("shift_right_{bits}_by_{places}"),
            Helper::Signed(bits) => format!("signed_{bits}"),
            Helper::FromBits(bits) => format!("float_{bits}"),
            Helper::Bcd => "bcd".into(),
            Helper::Checked(op, bits) => format!("{}_{bits}", format!("{op:?}").to_lowercase()),
        }
    }
}

/// Whether an expression is printed with a cast to this type around it.
fn is_cut(expr: &Expr, ty: Ty) -> bool {
    match expr {
        Expr::Arith(Arith::Add | Arith::Sub | Arith::Mul, own, ..) => *own == ty && matches!(ty, Ty::U8 | Ty::U16),
        Expr::Neg(own @ (Ty::U8 | Ty::U16), _) => *own == ty,
        _ => false,
    }
}

/// An integer; `typed` where nothing around it gives it its width.
pub(super) fn integer(value: i128, ty: Ty, typed: bool) -> (String, Level) {
    let wide = i32::try_from(value).is_err();
    let sign = if value < 0 { "-" } else { "" };
    let level = if value < 0 { Level::Unary } else { Level::Primary };
    let digits = value.unsigned_abs();
    let text = match ty {
        Ty::I32 if value == i128::from(i32::MIN) => return ("INT32_MIN".into(), Level::Primary),
        Ty::I64 if value == i128::from(i64::MIN) => return ("INT64_MIN".into(), Level::Primary),
        Ty::I64 if typed || wide => format!("{sign}INT64_C({digits})"),
        Ty::U64 if typed || digits > 0xFFFF => format!("UINT64_C({digits})"),
        Ty::U32 if typed || digits > 0xFFFF => format!("UINT32_C({digits})"),
        Ty::U32 | Ty::U64 => format!("{digits}U"),
        Ty::I32 if typed => format!("{sign}INT32_C({digits})"),
        _ => format!("{sign}{digits}"),
    };
    (text, level)
}

/// An unsigned number in hex.
pub(super) fn hex(value: u64, ty: Ty) -> String {
    let digits = (ty.bits() / 4) as usize;
    match ty {
        Ty::U32 if value > 0xFFFF => format!("UINT32_C(0x{value:08X})"),
        Ty::U64 if value > 0xFFFF => format!("UINT64_C(0x{value:016X})"),
        Ty::U32 | Ty::U64 => format!("0x{value:04X}U"),
        _ => format!("0x{value:0digits$X}"),
    }
}

/// A real number with the fewest digits that name it.
fn real(value: f64, ty: Ty) -> (String, Level) {
    let level = if value.is_sign_negative() { Level::Unary } else { Level::Primary };
    if value.is_infinite() {
        return (format!("{}INFINITY", if value < 0.0 { "-" } else { "" }), level);
    }
    (if ty == Ty::F32 { format!("{:?}F", value as f32) } else { format!("{value:?}") }, level)
}

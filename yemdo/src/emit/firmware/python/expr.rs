//! Expressions in Python, on computers and microcontrollers.
//!
//! Integers have no width there: what C keeps in a type is cut by masks. What C gives as an infinity or no number, Python raises: helpers
//! give it back. Numbers of 32 bits are rounded after each operation.

use std::collections::{BTreeMap, BTreeSet};

use super::super::code::{Checked, Expr, Function, Module, Name, Type};
use super::super::used::Used;
use super::helpers::Helper;
use crate::formula::functions::Func;
use crate::formula::operators::{Arith, BinaryOp, Compare};
use crate::ground::number::Ty;

/// How tightly an expression holds together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Level {
    Choice,
    Or,
    And,
    Not,
    Compare,
    BitOr,
    BitXor,
    BitAnd,
    Shift,
    Sum,
    Product,
    Unary,
    Primary,
}

/// How a function is called.
#[derive(Clone, Debug)]
pub(in super::super) struct Callee {
    pub(super) name: String,
    /// It is a method of its first argument.
    pub(super) method: bool,
}

impl Callee {
    /// How a function of a module is called from outside of it, or in it.
    pub(in super::super) fn of(module: &Module, function: &Function) -> Self {
        let name = if function.public { function.name.python.clone() } else { format!("_{}", function.name.python) };
        Self { name, method: module.is_method(function) }
    }

    /// The call. `home` precedes functions of the module, not methods.
    pub(in super::super) fn call(&self, home: &str, args: &[String]) -> String {
        match args.split_first().filter(|_| self.method) {
            Some((of, others)) => format!("{of}.{}({})", self.name, others.join(", ")),
            None => format!("{home}{}({})", self.name, args.join(", ")),
        }
    }
}

/// Prints expressions and records the needed helpers.
pub(super) struct Printer {
    pub(super) helpers: BTreeSet<Helper>,
    /// Functions of the module, by their names in C.
    callees: BTreeMap<String, Callee>,
    /// The parameter that is `self`.
    pub(super) own: Option<String>,
    /// Functions that the present one calls: no variable has their names.
    called: BTreeSet<String>,
    /// Variables that it looks at.
    pub(super) names: BTreeSet<String>,
    /// Classes; other named types are numbers.
    classes: BTreeSet<String>,
    /// Types of the codes of enums, by their classes.
    enums: BTreeMap<String, Ty>,
    /// The constant of infinity is used.
    pub(super) infinity: bool,
}

/// Bytes that a frame may be given in.
pub(super) const BYTES: &str = "\"bytes | bytearray | memoryview\"";

impl Printer {
    pub(super) fn new(module: &Module) -> Self {
        let callee = |function: &Function| (function.name.c.clone(), Callee::of(module, function));
        let callees = module.functions.iter().map(callee).collect();
        let classes = module.structs.iter().map(|one| one.name.python.clone()).chain(["Reading".to_owned()]).collect();
        let enums = module.enums.iter().map(|one| (one.name.python.clone(), one.ty)).collect();
        Self {
            helpers: BTreeSet::new(),
            callees,
            own: None,
            called: BTreeSet::new(),
            names: BTreeSet::new(),
            classes,
            enums,
            infinity: false,
        }
    }

    /// Begins a function with these calls.
    pub(super) fn calls(&mut self, used: &Used) {
        let called = used.calls.iter().filter_map(|name| self.callees.get(name)).filter(|to| !to.method);
        self.called = called.map(|to| to.name.clone()).collect();
        self.names = used.names.clone();
    }

    /// Ends of an integer type.
    pub(super) fn bounds_of(&self, ty: &Type) -> Option<(i128, i128)> {
        match ty {
            Type::Num(Ty::Bool) => None,
            Type::Num(ty) => ty.bounds(),
            Type::Named(name) => self.enums.get(&name.python)?.bounds(),
            _ => None,
        }
    }

    /// A type as an annotation; `quoted` if the class may be defined later.
    pub(super) fn type_of(&self, ty: &Type, quoted: bool) -> String {
        match ty {
            Type::Num(ty) => kind(*ty).to_owned(),
            Type::Maybe(ty) => format!("\"{} | None\"", kind(*ty)),
            Type::Bytes(_) => BYTES.to_owned(),
            Type::Named(name) if !self.classes.contains(&name.python) => "int".to_owned(),
            Type::Named(name) if quoted => format!("\"{}\"", name.python),
            Type::Named(name) => name.python.clone(),
        }
    }

    /// How a function of the module is called; others are the output's own.
    pub(super) fn callee(&self, name: &Name) -> Callee {
        self.callees.get(&name.c).cloned().unwrap_or_else(|| Callee { name: format!("_{}", name.python), method: false })
    }

    pub(super) fn helper(&mut self, helper: Helper) -> String {
        self.helpers.insert(helper);
        helper.name()
    }

    /// A real number with the fewest digits that name it; numbers of 32 bits with those of 64.
    pub(super) fn real(&mut self, value: f64, ty: Ty) -> String {
        let value = if ty == Ty::F32 { f64::from(value as f32) } else { value };
        self.infinity |= value.is_infinite();
        if value.is_infinite() {
            return if value < 0.0 { "-_INF".to_owned() } else { "_INF".to_owned() };
        }
        format!("{value:?}")
    }

    /// A variable or parameter.
    pub(super) fn local(&self, name: &str) -> String {
        if self.own.as_deref() == Some(name) {
            return "self".to_owned();
        }
        let python = super::super::names::python(name);
        if self.called.contains(&python) { format!("{python}_") } else { python }
    }

    /// A variable that the output has itself: no name of a sheet begins with `_`.
    pub(super) fn temporary(&self, name: &str) -> String {
        let name = format!("_{name}");
        if self.called.contains(&name) { format!("{name}_") } else { name }
    }

    /// An expression as it stands alone.
    pub(super) fn alone(&mut self, expr: &Expr) -> String {
        self.expr(expr).0
    }

    fn at_least(&mut self, expr: &Expr, level: Level) -> String {
        let (text, own) = self.expr(expr);
        if own < level { format!("({text})") } else { text }
    }

    fn call(&mut self, helper: Helper, args: &[&Expr]) -> (String, Level) {
        let args: Vec<String> = args.iter().map(|arg| self.alone(arg)).collect();
        (format!("{}({})", self.helper(helper), args.join(", ")), Level::Primary)
    }

    /// A number of 32 bits, where the type is one.
    fn rounded(&mut self, ty: Ty, (text, level): (String, Level)) -> (String, Level) {
        if ty == Ty::F32 { (format!("{}({text})", self.helper(Helper::Single)), Level::Primary) } else { (text, level) }
    }

    fn expr(&mut self, expr: &Expr) -> (String, Level) {
        let primary = |text: String| (text, Level::Primary);
        match expr {
            Expr::Int(value, _) => (value.to_string(), if *value < 0 { Level::Unary } else { Level::Primary }),
            Expr::Hex(value, ty) => primary(hex(*value, *ty)),
            Expr::Real(value, ty) => (self.real(*value, *ty), if value.is_sign_negative() { Level::Unary } else { Level::Primary }),
            Expr::Bool(value) => primary(if *value { "True" } else { "False" }.to_owned()),
            Expr::Var(name) | Expr::There(name) | Expr::Pass(name) => primary(self.local(name)),
            Expr::IsThere(name) => (format!("{} is not None", self.local(name)), Level::Compare),
            Expr::Member(of, member) | Expr::Own(of, member) => primary(self.member(of, member)),
            Expr::Byte(bytes, at) => primary(format!("{}[{at}]", self.bytes(bytes))),
            Expr::Bytes(bytes, at) => {
                let bytes = self.bytes(bytes);
                let all: Vec<String> = at.iter().map(|at| format!("{bytes}[{at}]")).collect();
                primary(format!("bytes([{}])", all.join(", ")))
            }
            Expr::Value(class, name) => primary(format!("{}.{}", class.python, name.python)),
            Expr::NoAnswer => ("not answered".to_owned(), Level::Not),
            Expr::Neg(ty, inner) => {
                let text = format!("-{}", self.at_least(inner, Level::Unary));
                self.cut(*ty, (text, Level::Unary))
            }
            Expr::BitNot(ty, inner) => {
                let text = format!("~{}", self.at_least(inner, Level::Unary));
                self.cut(*ty, (text, Level::Unary))
            }
            Expr::Not(inner) => match &**inner {
                Expr::IsThere(name) => (format!("{} is None", self.local(name)), Level::Compare),
                inner => (format!("not {}", self.at_least(inner, Level::Compare)), Level::Not),
            },
            Expr::Arith(op, ty, left, right) => self.arith(*op, *ty, left, right),
            Expr::Shl(ty, value, count) => {
                let text = format!("{} << {}", self.at_least(value, Level::Unary), self.at_least(count, Level::Unary));
                let fits = matches!(&**count, Expr::Int(count, _) if i128::from(value.most_bits()) + count <= i128::from(ty.bits()));
                if fits || ty.is_signed() { (text, Level::Shift) } else { self.cut(*ty, (text, Level::Shift)) }
            }
            Expr::Shr { value, count, .. } => {
                (format!("{} >> {}", self.at_least(value, Level::Unary), self.at_least(count, Level::Unary)), Level::Shift)
            }
            Expr::Compare(op, _, left, right) => self.compare(*op, left, right),
            Expr::Within(_, value, low, high) => {
                let [low, value, high] = [low, value, high].map(|one| self.at_least(one, Level::BitOr));
                (format!("{low} <= {value} <= {high}"), Level::Compare)
            }
            Expr::Outside(_, value, low, high) => (format!("not {low} <= {} <= {high}", self.at_least(value, Level::BitOr)), Level::Not),
            Expr::Clamp(value, low, high) => {
                let [low, value, high] = [low, value, high].map(|one| self.alone(one));
                primary(format!("max({low}, min({value}, {high}))"))
            }
            Expr::And(left, right) => (self.joined(left, "and", right, Level::And), Level::And),
            Expr::Or(left, right) => (self.joined(left, "or", right, Level::Or), Level::Or),
            Expr::Cond(cond, then, otherwise) => {
                let [then, cond, otherwise] = [then, cond, otherwise].map(|one| self.at_least(one, Level::Or));
                (format!("{then} if {cond} else {otherwise}"), Level::Choice)
            }
            Expr::FromBool(ty, truth) => primary(format!("{}({})", kind(*ty), self.alone(truth))),
            Expr::Cast { from, to, fits, value } => self.cast(*from, *to, *fits, value),
            Expr::SignExtend(width, wide, _, raw) => self.sign_extend(*width, *wide, raw),
            Expr::FromBits(width, _, raw) => self.call(Helper::FromBits(*width), &[raw]),
            Expr::IsFinite(_, value) => self.call(Helper::IsFinite, &[value]),
            // An enum is its code.
            Expr::FromCode(_, code) | Expr::CodeOf(code) => self.expr(code),
            Expr::Bcd(bits, digits) => {
                let bits = self.alone(bits);
                primary(format!("{}({bits}, {digits})", self.helper(Helper::Bcd)))
            }
            Expr::Call(name, args) | Expr::Method(name, args) => primary(self.called(name, args)),
            Expr::Math(Func::Abs | Func::Fabs, _, args) => primary(format!("abs({})", self.list(args))),
            Expr::Math(func, ty, args) => {
                let text = format!("{}({})", self.helper(Helper::Math(*func)), self.list(args));
                self.rounded(*ty, primary(text))
            }
            Expr::Reading(value, status) => {
                let (value, status) = (self.alone(value), self.alone(status));
                primary(format!("Reading({value}, {status})"))
            }
        }
    }

    /// A member of a structure; those of a run are its own.
    fn member(&self, of: &str, member: &str) -> String {
        let member = super::super::names::python(member);
        if of == "run" { format!("self.{member}") } else { format!("{}.{member}", self.local(of)) }
    }

    /// Bytes: those of a run are its own.
    pub(super) fn bytes(&self, name: &str) -> String {
        match name.split_once('.') {
            Some((_, own)) => format!("self.{own}"),
            None => self.local(name),
        }
    }

    fn list(&mut self, args: &[Expr]) -> String {
        args.iter().map(|arg| self.alone(arg)).collect::<Vec<_>>().join(", ")
    }

    fn called(&mut self, name: &Name, args: &[Expr]) -> String {
        let args: Vec<String> = args.iter().map(|arg| self.alone(arg)).collect();
        self.callee(name).call("", &args)
    }

    fn joined(&mut self, left: &Expr, word: &str, right: &Expr, level: Level) -> String {
        format!("{} {word} {}", self.at_least(left, level), self.at_least(right, level))
    }

    /// An unsigned number without the bits that its type does not have.
    fn cut(&mut self, ty: Ty, (text, level): (String, Level)) -> (String, Level) {
        if ty.is_signed() || ty.is_real() || ty == Ty::Bool {
            return (text, level);
        }
        let text = if level < Level::Primary { format!("({text})") } else { text };
        (format!("{text} & {}", hex(u64::MAX >> (64 - ty.bits()), ty)), Level::BitAnd)
    }

    /// A comparison. Bits have brackets: in C they would need them.
    fn compare(&mut self, op: Compare, left: &Expr, right: &Expr) -> (String, Level) {
        let (left, right) = (self.at_least(left, Level::Sum), self.at_least(right, Level::Sum));
        (format!("{left} {} {right}", BinaryOp::Compare(op).mark()), Level::Compare)
    }

    fn arith(&mut self, op: Arith, ty: Ty, left: &Expr, right: &Expr) -> (String, Level) {
        let nonzero = matches!(right, Expr::Real(by, _) if *by != 0.0);
        match op {
            Arith::Div if ty.is_real() && !nonzero => {
                let ratio = self.call(Helper::Ratio, &[left, right]);
                return self.rounded(ty, ratio);
            }
            Arith::Div if ty.is_signed() && !ty.is_real() => return self.call(Helper::Quotient, &[left, right]),
            Arith::Rem if ty.is_signed() => return self.call(Helper::Remainder, &[left, right]),
            _ => {}
        }
        let level = match op {
            Arith::Mul | Arith::Div | Arith::Rem => Level::Product,
            Arith::Add | Arith::Sub => Level::Sum,
            Arith::BitAnd => Level::BitAnd,
            Arith::BitXor => Level::BitXor,
            Arith::BitOr => Level::BitOr,
        };
        let mark = if op == Arith::Div && !ty.is_real() { "//" } else { BinaryOp::Arith(op).mark() };
        let bits = level < Level::Shift;
        let chained = |side: &Expr| matches!(side, Expr::Arith(same, ..) if bits && *same == op);
        // On the right of an operator another one of its kind keeps its brackets: the order of operations is the sheet's.
        let tighter = if level == Level::Sum { Level::Product } else { Level::Unary };
        let remainder = matches!(left, Expr::Arith(Arith::Rem, ..)) && level == Level::Product;
        let left = match left {
            // A mask makes another one needless.
            Expr::Cast { from, to, fits: false, value }
                if op == Arith::BitAnd
                    && !from.is_real()
                    && !to.is_signed()
                    && matches!(right, Expr::Hex(mask, _) if *mask <= u64::MAX >> (64 - to.bits())) =>
            {
                self.at_least(value, Level::Unary)
            }
            left if chained(left) => self.alone(left),
            left => self.at_least(left, if bits || remainder { Level::Unary } else { level }),
        };
        let right = if chained(right) { self.alone(right) } else { self.at_least(right, tighter) };
        let text = (format!("{left} {mark} {right}"), level);
        match op {
            Arith::Add | Arith::Sub | Arith::Mul if !ty.is_real() => self.cut(ty, text),
            Arith::Add | Arith::Sub | Arith::Mul | Arith::Div => self.rounded(ty, text),
            _ => text,
        }
    }

    fn cast(&mut self, from: Ty, to: Ty, fits: bool, value: &Expr) -> (String, Level) {
        match (from, to) {
            (Ty::Bool, _) => (format!("{}({})", kind(to), self.alone(value)), Level::Primary),
            (Ty::F64, Ty::F32) => {
                let text = self.expr(value);
                self.rounded(Ty::F32, text)
            }
            (from, to) if from.is_real() == to.is_real() && (fits || to.is_real()) => self.expr(value),
            (from, to) if from.is_real() && !to.is_real() => (format!("int({})", self.alone(value)), Level::Primary),
            (from, to) if to.is_real() => {
                let text = (format!("float({})", self.alone(value)), Level::Primary);
                if from.bits() > 16 { self.rounded(to, text) } else { text }
            }
            (_, to) if to.is_signed() => {
                let value = self.alone(value);
                (format!("{}({value}, {})", self.helper(Helper::Signed), to.bits()), Level::Primary)
            }
            _ => {
                let text = self.expr(value);
                self.cut(to, text)
            }
        }
    }

    /// Bits in two's complement: the sign bit is turned over and its weight taken away.
    fn sign_extend(&mut self, width: u32, wide: Ty, raw: &Expr) -> (String, Level) {
        let half = 1u64 << (width - 1);
        // An offset was turned over already.
        let (inner, turned) = match raw {
            Expr::Arith(Arith::BitXor, _, inner, mask) if **mask == Expr::Hex(half, wide) => (&**inner, false),
            other => (other, true),
        };
        let raw = if turned {
            format!("({} ^ {})", self.at_least(inner, Level::Unary), hex(half, wide))
        } else {
            self.at_least(inner, Level::Sum)
        };
        (format!("{raw} - {}", hex(half, wide)), Level::Sum)
    }

    /// A checked operation: a call that gives none where there is no result.
    pub(super) fn checked(&mut self, op: Checked, bits: u32, args: &[Expr]) -> String {
        let args = self.list(args);
        format!("{}({args}, {bits})", self.helper(Helper::Checked(op)))
    }
}

/// The class of a number.
pub(super) fn kind(ty: Ty) -> &'static str {
    match ty {
        Ty::Bool => "bool",
        ty if ty.is_real() => "float",
        _ => "int",
    }
}

/// An unsigned number in hex, as wide as its type.
pub(super) fn hex(value: u64, ty: Ty) -> String {
    let digits = (ty.bits() / 4) as usize;
    format!("0x{value:0digits$X}")
}

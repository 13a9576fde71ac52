//! What C and Rust have in common: types, functions, statements and expressions, every name final. It is written once for both,
//! and each language's printer says how it looks there.

use crate::formula::functions::Func;
use crate::formula::operators::{Arith, Compare};
use crate::ground::number::Ty;

/// A name in all languages.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Name {
    pub(super) c: String,
    pub(super) rust: String,
    pub(super) python: String,
}

/// The type of a member, a parameter or a result.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Type {
    Num(Ty),
    /// An array of bytes.
    Bytes(usize),
    /// A structure or an enum of the module.
    Named(Name),
    /// A number, or none.
    Maybe(Ty),
}

/// Contents of a structure.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Role {
    /// Registers and other settings; begins as after a reset.
    Settings,
    /// Values that the user supplies; begins with the defaults of the sheet.
    Parameters,
    /// Codes of a frame.
    Frame,
    /// Readings of a frame.
    Readings,
}

/// A structure.
#[derive(Clone, Debug)]
pub(super) struct Struct {
    pub(super) role: Role,
    pub(super) doc: Vec<String>,
    pub(super) name: Name,
    pub(super) members: Vec<Member>,
}

/// A member of a structure.
#[derive(Clone, Debug)]
pub(super) struct Member {
    pub(super) doc: String,
    pub(super) name: String,
    pub(super) ty: Type,
    /// Initial value, for structures with values from the sheet.
    pub(super) default: Expr,
}

/// The named values of a field; others are kept as they are.
#[derive(Clone, Debug)]
pub(super) struct Enum {
    pub(super) doc: Vec<String>,
    pub(super) name: Name,
    /// The integer that holds it.
    pub(super) ty: Ty,
    /// Names in C and Rust, code, documentation.
    pub(super) values: Vec<(Name, i128, String)>,
    /// Codes without a name can come.
    pub(super) open: bool,
}

/// A constant.
#[derive(Clone, Debug)]
pub(super) struct Constant {
    pub(super) doc: String,
    pub(super) name: Name,
    pub(super) ty: Ty,
    pub(super) value: Expr,
    /// In how many digits of hex an integer is shown; 0 for decimal.
    pub(super) hex: usize,
}

/// How a parameter is passed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Pass {
    /// A structure that is looked at.
    In,
    /// A structure that is changed.
    Change,
    /// A value.
    Value,
}

/// A parameter.
#[derive(Clone, Debug)]
pub(super) struct Param {
    pub(super) name: String,
    pub(super) ty: Type,
    pub(super) pass: Pass,
}

/// Result of a function.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Gives {
    Nothing,
    Type(Type),
    /// A number, or nothing where the formula is at fault. In C it is a `bool`, and the number comes through the last parameter.
    Maybe(Ty),
    /// A structure, or nothing where the bytes are none. In C the structure comes through the first parameter.
    MaybeStruct(Name, Role),
}

/// A function.
#[derive(Clone, Debug)]
pub(super) struct Function {
    pub(super) doc: Vec<String>,
    pub(super) public: bool,
    pub(super) name: Name,
    /// The structure that it is a method of in Rust.
    pub(super) of: Option<Name>,
    pub(super) params: Vec<Param>,
    pub(super) gives: Gives,
    pub(super) body: Vec<Stmt>,
}

/// A statement.
#[derive(Clone, Debug)]
pub(super) enum Stmt {
    Comment(String),
    /// A variable; without a value it gets one later, on every path.
    Let {
        name: String,
        ty: Type,
        value: Option<Expr>,
        mutable: bool,
    },
    Set(Expr, Expr),
    If(Expr, Vec<Stmt>, Vec<Stmt>),
    /// `value` becomes the result of an operation, or the function fails.
    Checked {
        name: String,
        op: Checked,
        ty: Ty,
        args: Vec<Expr>,
        why: &'static str,
    },
    /// A number that may be none is taken, or the function fails: variable, its type, the call or name.
    Take {
        name: String,
        ty: Ty,
        from: Expr,
        why: String,
    },
    /// The function has no value.
    Fail(String),
    Return(Expr),
    /// The structure that the function was to fill is whole.
    Filled,
    /// For each of some bytes: its name, the bytes, from where, how many.
    EachByte(String, String, usize, usize, Vec<Stmt>),
    /// A loop with a fixed count.
    Times(u32, Vec<Stmt>),
    /// For each code from one to another, or from the other down.
    EachCode {
        name: String,
        ty: Ty,
        low: i128,
        high: i128,
        down: bool,
        body: Vec<Stmt>,
    },
    /// A call that gives nothing.
    Do(Expr),
    /// An ignored value.
    Ignore(Expr),
    /// The machine continues in another state.
    Goto(usize),
    /// A request of the machine, and the next state after it.
    Ask(usize, Ask),
    /// The routine has failed.
    Raise(Failure),
    /// The routine is complete and stays in an invalid state.
    Finish(usize),
    /// Unpacks the buffer into the codes of a frame, or fails.
    Unpack {
        /// Variable and structure.
        var: String,
        ty: Name,
        function: Name,
        /// Number of bytes of the frame; `counted` if the function takes it, since it varies.
        length: usize,
        counted: bool,
    },
    /// A frame becomes its codes, and they its readings, or the function fails.
    Decode {
        var: String,
        frame: Name,
        /// Functions and their arguments; that which unpacks has the codes before them in C.
        unpack: (Name, Vec<String>),
        readings: (Name, Vec<String>),
    },
    /// A byte of the next request.
    Out(usize, Expr),
    /// A switch over a code: cases, and statements for all other codes.
    Switch(Expr, Vec<(Vec<i128>, Vec<Stmt>)>, Vec<Stmt>),
    /// An optional number from a call: variable, type, call.
    Try(String, Ty, Expr),
}

/// Operations on integers that may have no result.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Checked {
    Add,
    Sub,
    Mul,
    Div,
    Rem,
    Neg,
    Abs,
    Shl,
}

/// An expression.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Expr {
    Int(i128, Ty),
    Hex(u64, Ty),
    Real(f64, Ty),
    Bool(bool),
    Var(String),
    /// A number that may be none, where it is known to be there.
    There(String),
    /// Whether a number that may be none is there.
    IsThere(String),
    /// A number that may be none, passed on.
    Pass(String),
    /// A member of a structure that is a parameter.
    Member(String, String),
    /// A member of a structure that is a variable of its own.
    Own(String, String),
    Byte(String, usize),
    /// Several bytes, side by side.
    Bytes(String, Vec<usize>),
    /// A status, or a value of an enum, by its type and name.
    Value(Name, Name),
    Neg(Ty, Box<Expr>),
    BitNot(Ty, Box<Expr>),
    Not(Box<Expr>),
    Arith(Arith, Ty, Box<Expr>, Box<Expr>),
    /// Bits moved to the left, with what falls out lost; the type is unsigned, or the result is proved to fit.
    Shl(Ty, Box<Expr>, Box<Expr>),
    /// The same to the right; `negative` where the number may be below zero.
    Shr {
        ty: Ty,
        negative: bool,
        value: Box<Expr>,
        count: Box<Expr>,
    },
    Compare(Compare, Ty, Box<Expr>, Box<Expr>),
    /// Whether a value is from one number to another, both included.
    Within(Ty, Box<Expr>, Box<Expr>, Box<Expr>),
    /// Whether a value is not from one number to another. Where a type holds no other values, languages with types ask for less.
    Outside(Ty, Box<Expr>, i128, i128),
    /// The nearest number from one to another, both included.
    Clamp(Box<Expr>, Box<Expr>, Box<Expr>),
    And(Box<Expr>, Box<Expr>),
    Or(Box<Expr>, Box<Expr>),
    Cond(Box<Expr>, Box<Expr>, Box<Expr>),
    /// Truth as 0 or 1.
    FromBool(Ty, Box<Expr>),
    /// Another type. `fits` where every value that can come is one of it.
    Cast {
        from: Ty,
        to: Ty,
        fits: bool,
        value: Box<Expr>,
    },
    /// The lowest bits of an unsigned number in two's complement: bits, the unsigned type, the signed one.
    SignExtend(u32, Ty, Ty, Box<Expr>),
    /// The bits of a real number as that number: bits, result.
    FromBits(u32, Ty, Box<Expr>),
    /// Whether a real number is finite.
    IsFinite(Ty, Box<Expr>),
    /// True if the last request was not acknowledged or timed out.
    NoAnswer,
    Call(Name, Vec<Expr>),
    /// A code as a value of the enum that names it.
    FromCode(Name, Box<Expr>),
    /// The code of a value of an enum.
    CodeOf(Box<Expr>),
    /// Decimal digits of four bits each: the bits, and how many digits.
    Bcd(Box<Expr>, u32),
    /// A method in Rust; the first argument is the structure.
    Method(Name, Vec<Expr>),
    Math(Func, Ty, Vec<Expr>),
    /// A new reading: value, status.
    Reading(Box<Expr>, Box<Expr>),
}

impl Expr {
    /// [`Expr::Outside`] for a language whose types have ends.
    pub(super) fn outside(ty: Ty, value: &Expr, low: i128, high: i128) -> Expr {
        let (least, most) = ty.bounds().unwrap_or((i128::MIN, i128::MAX));
        let number = |number: i128| Expr::Int(number, ty);
        if least < low && most > high {
            Expr::Not(Expr::Within(ty, value.clone().boxed(), number(low).boxed(), number(high).boxed()).boxed())
        } else if least < low {
            value.clone().compare(Compare::Less, ty, number(low))
        } else {
            value.clone().compare(Compare::Greater, ty, number(high))
        }
    }

    pub(super) fn boxed(self) -> Box<Expr> {
        Box::new(self)
    }

    /// An unsigned mask, as people write it.
    pub(super) fn and_mask(self, ty: Ty, mask: u64) -> Expr {
        if mask == u64::MAX >> (64 - ty.bits()) {
            return self;
        }
        if mask == 0 {
            return Expr::Hex(0, ty);
        }
        match self {
            // Two masks are one.
            Expr::Arith(op @ (Arith::BitAnd | Arith::BitOr), _, inner, other) if matches!(*other, Expr::Hex(..)) => {
                let Expr::Hex(bits, _) = *other else { return Expr::Hex(0, ty) };
                let inner = if op == Arith::BitAnd { return inner.and_mask(ty, bits & mask) } else { inner.and_mask(ty, mask) };
                if bits & mask == 0 { inner } else { inner.or(ty, Expr::Hex(bits & mask, ty)) }
            }
            plain => Expr::Arith(Arith::BitAnd, ty, plain.boxed(), Expr::Hex(mask, ty).boxed()),
        }
    }

    pub(super) fn or(self, ty: Ty, other: Expr) -> Expr {
        if matches!(self, Expr::Hex(0, _)) {
            return other;
        }
        Expr::Arith(Arith::BitOr, ty, self.boxed(), other.boxed())
    }

    pub(super) fn shl(self, ty: Ty, count: u32) -> Expr {
        if count == 0 { self } else { Expr::Shl(ty, self.boxed(), Expr::Int(i128::from(count), Ty::I32).boxed()) }
    }

    pub(super) fn shr(self, ty: Ty, count: u32) -> Expr {
        let count_of = Expr::Int(i128::from(count), Ty::I32).boxed();
        if count == 0 { self } else { Expr::Shr { ty, negative: false, value: self.boxed(), count: count_of } }
    }

    pub(super) fn compare(self, op: Compare, ty: Ty, other: Expr) -> Expr {
        Expr::Compare(op, ty, self.boxed(), other.boxed())
    }

    pub(super) fn cast(self, from: Ty, to: Ty) -> Expr {
        let fits = match (from.bounds(), to.bounds()) {
            (Some((low, high)), Some((to_low, to_high))) => to_low <= low && high <= to_high,
            _ => true,
        };
        if from == to { self } else { Expr::Cast { from, to, fits, value: self.boxed() } }
    }

    /// How many bits an unsigned value has at the most.
    pub(super) fn most_bits(&self) -> u32 {
        match self {
            Expr::Byte(..) => 8,
            Expr::Cast { from, value, .. } if !from.is_signed() => value.most_bits().min(from.bits()),
            Expr::Arith(Arith::BitAnd, ty, _, mask) => match **mask {
                Expr::Hex(mask, _) => 64 - mask.leading_zeros(),
                _ => ty.bits(),
            },
            Expr::Shr { value, count, .. } => match **count {
                Expr::Int(count, _) => value.most_bits().saturating_sub(u32::try_from(count).unwrap_or(0)),
                _ => value.most_bits(),
            },
            Expr::Arith(_, ty, ..) | Expr::Shl(ty, ..) => ty.bits(),
            _ => 64,
        }
    }

    /// Whether it needs no computing: it can be written twice.
    pub(super) fn is_plain(&self) -> bool {
        matches!(self, Expr::Int(..) | Expr::Hex(..) | Expr::Real(..) | Expr::Bool(_) | Expr::Var(_) | Expr::There(_) | Expr::Member(..))
    }
}

/// A request of a routine.
#[derive(Clone, Debug)]
pub(super) enum Ask {
    /// Bytes are written, and then others are read.
    Transfer(Sent, Option<(usize, usize)>),
    /// Modbus registers or bits are read: function, address, how many; where to, and how many bytes.
    ModbusRead(u8, u16, u16, (usize, usize)),
    /// Modbus registers are written: address, bytes.
    ModbusWrite(u16, usize),
    /// Wait for this number of microseconds.
    Wait(Expr),
    /// Waits for a level of the data-ready line, with a timeout in microseconds.
    Line(bool, Expr),
}

/// Bytes to send.
#[derive(Clone, Debug)]
pub(super) enum Sent {
    Nothing,
    Fixed(Vec<u8>),
    /// Number of assembled bytes.
    Out(usize),
}

/// Why a routine fails.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Failure {
    NoAnswer,
    Check,
    TimedOut,
    Unexpected,
    NotTaken,
    NoValue,
}

impl Failure {
    pub(super) const ALL: [(Failure, &'static str, &'static str); 6] = [
        (Failure::NoAnswer, "no answer", "the part does not acknowledge"),
        (Failure::Check, "check failed", "invalid frame: failed check, or no response"),
        (Failure::TimedOut, "timed out", "timeout"),
        (Failure::Unexpected, "unexpected", "unexpected value: another part, or none"),
        (Failure::NotTaken, "not taken", "a register reads otherwise than it was written"),
        (Failure::NoValue, "no value", "a formula of the routine has no value with these settings"),
    ];
}

/// A routine as a state machine.
#[derive(Clone, Debug)]
pub(super) struct Machine {
    pub(super) doc: Vec<String>,
    pub(super) name: Name,
    pub(super) ty: Name,
    /// What every state does: a comment, and statements.
    pub(super) states: Vec<(String, Vec<Stmt>)>,
    /// Bytes that are read.
    pub(super) buffer: usize,
    /// Bytes that are put together to be sent.
    pub(super) out: usize,
    /// Counters and what else it keeps: name, type.
    pub(super) keeps: Vec<(String, Ty)>,
}

impl Machine {
    /// Function of the statements, without its body: printers need its result type.
    pub(super) fn function(&self) -> Function {
        let name = self.name.clone();
        Function { doc: Vec::new(), public: true, name, of: None, params: Vec::new(), gives: Gives::Nothing, body: Vec::new() }
    }
}

/// How the functions of a frame are called.
#[derive(Clone, Debug)]
pub(super) struct FrameCalls {
    pub(super) frame: crate::model::ids::FrameId,
    pub(super) var: String,
    pub(super) ty: Name,
    pub(super) length: usize,
    pub(super) counted: bool,
    pub(super) unpack: Name,
    /// The function that gives all readings, its parameters, and the readings with their members.
    pub(super) readings: Option<(Name, Name, Vec<Param>)>,
    /// Readings: id, member, and where it goes through functions whose last digit is the library's, by how much it may differ.
    pub(super) members: Vec<(crate::model::ids::ReadingId, String, Option<f64>)>,
}

/// Items of a part's firmware, in output order.
#[derive(Clone, Debug, Default)]
pub(super) struct Module {
    pub(super) constants: Vec<Constant>,
    pub(super) enums: Vec<Enum>,
    pub(super) structs: Vec<Struct>,
    pub(super) functions: Vec<Function>,
    pub(super) frames: Vec<FrameCalls>,
    pub(super) machines: Vec<Machine>,
    /// Notes for readers of the output.
    pub(super) notes: Vec<String>,
}

impl Module {
    /// True if a function is a method in languages whose members and methods share one space: of settings or parameters, whose members are
    /// registers. Frames have members with the names of their readings.
    pub(super) fn is_method(&self, function: &Function) -> bool {
        let role = function.of.as_ref().and_then(|of| self.structs.iter().find(|one| one.name == *of)).map(|one| one.role);
        matches!(role, Some(Role::Settings | Role::Parameters))
            && function.params.first().is_some_and(|first| matches!(first.pass, Pass::In | Pass::Change))
    }

    /// The structure with settings or parameters.
    pub(super) fn of_role(&self, role: Role) -> Option<&Struct> {
        self.structs.iter().find(|one| one.role == role)
    }
}

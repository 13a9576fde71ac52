//! What can come out of a program, before anything runs: interval analysis.
//!
//! Every value gets bounds that hold for whatever the inputs are within theirs. Integers are exact in 128
//! bits; reals are computed at the ends of the intervals in the operation's own precision, which is sound
//! because rounding is monotonic (IEEE 754-2019, 4.3).

use std::collections::HashMap;

use crate::formula::flat::program::{Branch, Constant, Num, Op, Opcode, Program, Slot};
use crate::formula::functions::Func;
use crate::formula::input::InputKey;
use crate::ground::number::Ty;

/// Bounds of a value, both included. Reals that may be no number are unbounded.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Interval {
    Int(i128, i128),
    Real(f64, f64),
}

impl Interval {
    pub(crate) fn all(ty: Ty) -> Interval {
        ty.bounds().map_or(Interval::Real(f64::NEG_INFINITY, f64::INFINITY), |(low, high)| Interval::Int(low, high))
    }

    pub(crate) fn to_f64(self) -> (f64, f64) {
        match self {
            Interval::Int(low, high) => (low as f64, high as f64),
            Interval::Real(low, high) => (low, high),
        }
    }

    fn int(self) -> (i128, i128) {
        match self {
            Interval::Int(low, high) => (low, high),
            Interval::Real(..) => (i128::from(i64::MIN), i128::from(u64::MAX)),
        }
    }

    fn union(self, other: Interval) -> Interval {
        match (self, other) {
            (Interval::Int(a, b), Interval::Int(c, d)) => Interval::Int(a.min(c), b.max(d)),
            _ => {
                let ((a, b), (c, d)) = (self.to_f64(), other.to_f64());
                Interval::Real(a.min(c), b.max(d))
            }
        }
    }

    /// What both allow. Where they exclude one another nothing ever runs, and either will do.
    fn cut(self, other: Interval) -> Interval {
        match (self, other) {
            (Interval::Int(a, b), Interval::Int(c, d)) if a.max(c) <= b.min(d) => Interval::Int(a.max(c), b.min(d)),
            (Interval::Real(a, b), Interval::Real(c, d)) if a.max(c) <= b.min(d) => Interval::Real(a.max(c), b.min(d)),
            _ => self,
        }
    }

    /// Everything up to the highest value, or with `less` 1 below it. A real that is compared may be no number,
    /// of which a comparison that fails says nothing.
    fn up_to_high(self, less: i128) -> Interval {
        match self {
            Interval::Int(_, high) => Interval::Int(i128::MIN / 4, high - less),
            Interval::Real(_, high) if high.is_finite() => Interval::Real(f64::NEG_INFINITY, high),
            all => all,
        }
    }

    /// Everything from the lowest value, or with `more` 1 above it.
    fn down_to_low(self, more: i128) -> Interval {
        match self {
            Interval::Int(low, _) => Interval::Int(low + more, i128::MAX / 4),
            Interval::Real(low, _) if low.is_finite() => Interval::Real(low, f64::INFINITY),
            all => all,
        }
    }

    /// Without a value that stands at one of its ends.
    fn without(self, other: Interval) -> Interval {
        match (self, other) {
            (Interval::Int(low, high), Interval::Int(value, same)) if value == same && low < high => {
                Interval::Int(low + i128::from(low == value), high - i128::from(high == value))
            }
            _ => self,
        }
    }

    fn is_zero(self) -> bool {
        matches!(self, Interval::Int(0, 0)) || self == Interval::Real(0.0, 0.0)
    }

    fn has_zero(self) -> bool {
        let (low, high) = self.to_f64();
        low <= 0.0 && high >= 0.0
    }
}

/// The bounds of every slot, and for every operation whether it is proved unable to fault.
pub(crate) struct Analysis {
    pub(crate) slots: Vec<Interval>,
    pub(crate) safe: Vec<bool>,
}

impl Analysis {
    pub(crate) fn slot(&self, slot: Slot) -> Interval {
        self.slots.get(slot as usize).copied().unwrap_or(Interval::Real(f64::NEG_INFINITY, f64::INFINITY))
    }
}

/// Analyses a program whose inputs keep to the given bounds.
pub(crate) fn analyse(program: &Program, inputs: &dyn Fn(InputKey) -> Interval) -> Analysis {
    let mut slots: Vec<Interval> = program.slots.iter().map(|num| Interval::all(num.ty())).collect();
    let set = |slots: &mut Vec<Interval>, slot: Slot, interval: Interval| {
        if let Some(place) = slots.get_mut(slot as usize) {
            *place = interval;
        }
    };
    for (slot, constant) in &program.constants {
        let unsigned = matches!(program.slots.get(*slot as usize), Some(Num::U64));
        let interval = match *constant {
            Constant::Int(value) if unsigned => Interval::Int(i128::from(value as u64), i128::from(value as u64)),
            Constant::Int(value) if matches!(program.slots.get(*slot as usize), Some(Num::U32)) => {
                Interval::Int(i128::from(value as u32), i128::from(value as u32))
            }
            Constant::Int(value) => Interval::Int(i128::from(value), i128::from(value)),
            Constant::Real(value) => Interval::Real(value, value),
        };
        set(&mut slots, *slot, interval);
    }
    for (slot, input) in &program.inputs {
        set(&mut slots, *slot, inputs(*input));
    }
    let made: HashMap<Slot, &Op> = program.ops.iter().map(|op| (op.dst, op)).collect();
    let mut safe = Vec::with_capacity(program.ops.len());
    let mut known: HashMap<u32, Facts> = HashMap::new();
    for op in &program.ops {
        // Inside a branch, what its condition says of an operand narrows it.
        if let Some(live) = op.live
            && !known.contains_key(&live)
        {
            let facts = facts_of(program, &made, &slots, live, 0);
            known.insert(live, facts);
        }
        let facts = op.live.and_then(|live| known.get(&live));
        let whole = |slot: Slot| slots.get(slot as usize).copied().unwrap_or(Interval::Int(0, 0));
        let get = |slot: Slot| facts.and_then(|facts| facts.get(&slot)).map_or(whole(slot), |fact| whole(slot).cut(*fact));
        let (interval, proved) = match op.what {
            Opcode::Curve(index, num) => {
                let (low, high) = get(op.a).to_f64();
                let over = program.curve(index).map(|curve| curve.over(low, high));
                let (low, high, whole) = over.unwrap_or((f64::NEG_INFINITY, f64::INFINITY, false));
                let between = match num {
                    Num::F64 => Interval::Real(low, high),
                    // Between two points it is not rounded as the ends are: a little beyond them.
                    Num::F32 => Interval::Real(low - low.abs() * 1e-6, high + high.abs() * 1e-6),
                    _ if low.abs() < 9e15 && high.abs() < 9e15 => Interval::Int(low as i128 - 1, high as i128 + 1),
                    _ => Interval::Int(i128::from(i64::MIN), i128::from(i64::MAX)),
                };
                (between, whole)
            }
            Opcode::Select(_) => {
                // Each side is taken only where the condition is true, or false.
                let (mut if_true, mut if_false) = (Facts::new(), Facts::new());
                learn(&made, &slots, op.a, true, &mut if_true, 0);
                learn(&made, &slots, op.a, false, &mut if_false, 0);
                let side = |slot: Slot, facts: &Facts| facts.get(&slot).map_or(get(slot), |fact| get(slot).cut(*fact));
                operate(op.what, get(op.a), side(op.b, &if_true), side(op.c, &if_false))
            }
            what => operate(what, get(op.a), get(op.b), get(op.c)),
        };
        set(&mut slots, op.dst, interval);
        safe.push(proved);
    }
    Analysis { slots, safe }
}

/// What is known of slots inside a branch.
type Facts = HashMap<Slot, Interval>;

/// How far conditions are followed back.
const MAX_FACTS_DEPTH: usize = 40;

fn facts_of(program: &Program, made: &HashMap<Slot, &Op>, slots: &[Interval], live: u32, depth: usize) -> Facts {
    let mut facts = Facts::new();
    if let (Some(Branch::If { within, cond, holds }), true) = (program.branches.get(live as usize), depth < MAX_FACTS_DEPTH) {
        if let Some(within) = within {
            facts = facts_of(program, made, slots, *within, depth + 1);
        }
        learn(made, slots, *cond, *holds, &mut facts, 0);
    }
    facts
}

/// Takes what a condition says of the values that it compares.
fn learn(made: &HashMap<Slot, &Op>, slots: &[Interval], cond: Slot, holds: bool, facts: &mut Facts, depth: usize) {
    let Some(op) = made.get(&cond).filter(|_| depth < MAX_FACTS_DEPTH) else { return };
    let get = |slot: Slot| slots.get(slot as usize).copied().unwrap_or(Interval::Real(f64::NEG_INFINITY, f64::INFINITY));
    let mut add = |slot: Slot, fact: Interval| {
        let before = facts.get(&slot).copied();
        facts.insert(slot, before.map_or(fact, |before| before.cut(fact)));
    };
    let (a, b) = (get(op.a), get(op.b));
    let compares = matches!(op.what, Opcode::Less(_) | Opcode::LessEqual(_) | Opcode::Equal(_));
    // No number compares false with everything: that a comparison fails says nothing then.
    if compares && !holds && (may_be_none(a) || may_be_none(b)) {
        return;
    }
    match (op.what, holds) {
        // a < b, or not b <= a: a stays below b's highest, and b above a's lowest.
        (Opcode::Less(_), true) => {
            add(op.a, b.up_to_high(1));
            add(op.b, a.down_to_low(1));
        }
        (Opcode::Less(_), false) => {
            add(op.a, b.down_to_low(0));
            add(op.b, a.up_to_high(0));
        }
        (Opcode::LessEqual(_), true) => {
            add(op.a, b.up_to_high(0));
            add(op.b, a.down_to_low(0));
        }
        (Opcode::LessEqual(_), false) => {
            add(op.a, b.down_to_low(1));
            add(op.b, a.up_to_high(1));
        }
        (Opcode::Equal(_), true) => {
            add(op.a, b);
            add(op.b, a);
        }
        (Opcode::Equal(_), false) => {
            add(op.a, a.without(b));
            add(op.b, b.without(a));
        }
        (Opcode::Truth(_), true) | (Opcode::Zero(_), false) => {
            add(op.a, a.without(Interval::Int(0, 0)));
            learn(made, slots, op.a, true, facts, depth + 1);
        }
        (Opcode::Truth(_), false) | (Opcode::Zero(_), true) => {
            learn(made, slots, op.a, false, facts, depth + 1);
        }
        (Opcode::Both, true) | (Opcode::Either, false) => {
            learn(made, slots, op.a, holds, facts, depth + 1);
            learn(made, slots, op.b, holds, facts, depth + 1);
        }
        (Opcode::Without, true) => {
            learn(made, slots, op.a, true, facts, depth + 1);
            learn(made, slots, op.b, false, facts, depth + 1);
        }
        _ => {}
    }
}

/// Cuts exact integer bounds to a type: signed results beyond it are faults, unsigned ones wrap.
fn fit(num: Num, low: i128, high: i128) -> (Interval, bool) {
    let (type_low, type_high) = num.ty().bounds().unwrap_or((low, high));
    if type_low <= low && high <= type_high {
        return (Interval::Int(low, high), true);
    }
    if num.ty().is_signed() {
        (Interval::Int(low.clamp(type_low, type_high), high.clamp(type_low, type_high)), false)
    } else {
        (Interval::Int(type_low, type_high), true)
    }
}

fn corners(a: (i128, i128), b: (i128, i128), f: impl Fn(i128, i128) -> i128) -> (i128, i128) {
    let all = [f(a.0, b.0), f(a.0, b.1), f(a.1, b.0), f(a.1, b.1)];
    (all.into_iter().min().unwrap_or(0), all.into_iter().max().unwrap_or(0))
}

fn real_corners(num: Num, a: Interval, b: Interval, f: impl Fn(f64, f64) -> f64, f32s: impl Fn(f32, f32) -> f32) -> Interval {
    let (a, b) = (a.to_f64(), b.to_f64());
    let one = |x: f64, y: f64| if num == Num::F32 { f64::from(f32s(x as f32, y as f32)) } else { f(x, y) };
    let all = [one(a.0, b.0), one(a.0, b.1), one(a.1, b.0), one(a.1, b.1)];
    if all.iter().any(|v| v.is_nan()) {
        return Interval::Real(f64::NEG_INFINITY, f64::INFINITY);
    }
    Interval::Real(all.into_iter().fold(f64::INFINITY, f64::min), all.into_iter().fold(f64::NEG_INFINITY, f64::max))
}

/// Whether a real may be infinite, and so (after one more operation) no number.
fn may_be_none(interval: Interval) -> bool {
    matches!(interval, Interval::Real(low, high) if !(low.is_finite() && high.is_finite()))
}

fn operate(what: Opcode, a: Interval, b: Interval, c: Interval) -> (Interval, bool) {
    let anything = |num: Num| Interval::all(num.ty());
    // What may be no number stays so: bounds say nothing about it.
    if let Opcode::Add(n) | Opcode::Sub(n) | Opcode::Mul(n) | Opcode::Div(n) | Opcode::Neg(n) | Opcode::Call(_, n) = what
        && (may_be_none(a) || may_be_none(b))
    {
        return (anything(n), !matches!(what, Opcode::Div(_)) || !b.has_zero());
    }
    match what {
        // Joined only after all has been proved.
        Opcode::MulShr(n) | Opcode::Max(n) => (anything(n), true),
        Opcode::ShlDiv => (anything(Num::I64), true),
        Opcode::NarrowReal | Opcode::NarrowDiv => (anything(Num::F64), true),
        Opcode::Add(n @ (Num::F32 | Num::F64)) => (real_corners(n, a, b, |x, y| x + y, |x, y| x + y), true),
        Opcode::Sub(n @ (Num::F32 | Num::F64)) => (real_corners(n, a, b, |x, y| x - y, |x, y| x - y), true),
        Opcode::Mul(n @ (Num::F32 | Num::F64)) => (real_corners(n, a, b, |x, y| x * y, |x, y| x * y), true),
        Opcode::Div(n @ (Num::F32 | Num::F64)) if b.has_zero() => (anything(n), false),
        Opcode::Div(n @ (Num::F32 | Num::F64)) => (real_corners(n, a, b, |x, y| x / y, |x, y| x / y), true),
        Opcode::Add(n) => {
            let ((al, ah), (bl, bh)) = (a.int(), b.int());
            fit(n, al + bl, ah + bh)
        }
        Opcode::Sub(n) => {
            let ((al, ah), (bl, bh)) = (a.int(), b.int());
            fit(n, al - bh, ah - bl)
        }
        Opcode::Mul(n) => {
            let (low, high) = corners(a.int(), b.int(), i128::saturating_mul);
            fit(n, low, high)
        }
        Opcode::Div(n) => divide(n, a.int(), b.int()),
        Opcode::Rem(n) => {
            let ((al, ah), (bl, bh)) = (a.int(), b.int());
            let largest = bl.abs().max(bh.abs()) - 1;
            if largest < 0 {
                return (Interval::Int(0, 0), false);
            }
            let low = if al < 0 { al.max(-largest) } else { 0 };
            let high = if ah > 0 { ah.min(largest) } else { 0 };
            let may_overflow = n.ty().is_signed() && n.ty().bounds().is_some_and(|(least, _)| al == least) && bl <= -1 && bh >= -1;
            (Interval::Int(low, high), !b.has_zero() && !may_overflow)
        }
        Opcode::And(n) => {
            let ((al, ah), (bl, bh)) = (a.int(), b.int());
            match (al >= 0, bl >= 0) {
                (true, true) => (Interval::Int(0, ah.min(bh)), true),
                (true, false) => (Interval::Int(0, ah), true),
                (false, true) => (Interval::Int(0, bh), true),
                _ => (anything(n), true),
            }
        }
        Opcode::Or(n) | Opcode::Xor(n) => {
            let ((al, ah), (bl, bh)) = (a.int(), b.int());
            if al < 0 || bl < 0 {
                return (anything(n), true);
            }
            let bits = 128 - ah.max(bh).leading_zeros();
            let low = if matches!(what, Opcode::Or(_)) { al.max(bl) } else { 0 };
            (Interval::Int(low, (1i128 << bits.min(126)) - 1), true)
        }
        Opcode::Shl(n, _) => {
            let (cl, ch) = b.int();
            let width = i128::from(n.ty().bits());
            let in_range = cl >= 0 && ch < width;
            let (cl, ch) = (cl.clamp(0, width - 1) as u32, ch.clamp(0, width - 1) as u32);
            let (al, ah) = a.int();
            let all = [al << cl, al << ch, ah << cl, ah << ch];
            let (interval, fits) = fit(n, all.into_iter().min().unwrap_or(0), all.into_iter().max().unwrap_or(0));
            (interval, fits && in_range)
        }
        Opcode::Shr(n, _) => {
            let (cl, ch) = b.int();
            let width = i128::from(n.ty().bits());
            let in_range = cl >= 0 && ch < width;
            let (cl, ch) = (cl.clamp(0, width - 1), ch.clamp(0, width - 1));
            let (low, high) = corners(a.int(), (cl, ch), |x, count| x >> count);
            (Interval::Int(low, high), in_range)
        }
        Opcode::Neg(Num::F32 | Num::F64) => {
            let (low, high) = a.to_f64();
            (Interval::Real(-high, -low), true)
        }
        Opcode::Neg(n) => {
            let (low, high) = a.int();
            fit(n, -high, -low)
        }
        Opcode::Not(n) => {
            let (low, high) = a.int();
            if n.ty().is_signed() {
                (Interval::Int(-high - 1, -low - 1), true)
            } else {
                let top = n.ty().bounds().map_or(0, |(_, top)| top);
                (Interval::Int(top - high, top - low), true)
            }
        }
        Opcode::Less(_) | Opcode::LessEqual(_) | Opcode::Equal(_) => (compare(what, a, b), true),
        Opcode::Truth(_) | Opcode::Zero(_) => {
            let when_zero = i128::from(matches!(what, Opcode::Zero(_)));
            let interval = match (a.is_zero(), a.has_zero()) {
                (true, _) => Interval::Int(when_zero, when_zero),
                (_, false) => Interval::Int(1 - when_zero, 1 - when_zero),
                _ => Interval::Int(0, 1),
            };
            (interval, true)
        }
        Opcode::Both | Opcode::Without | Opcode::Either => (Interval::Int(0, 1), true),
        Opcode::Select(_) => match a {
            Interval::Int(0, 0) => (c, true),
            Interval::Int(low, high) if low > 0 || high < 0 => (b, true),
            _ => (b.union(c), true),
        },
        Opcode::Convert(_, to) => convert(a, to),
        Opcode::Call(func, n) => call(func, n, a, b),
        Opcode::Curve(_, num) => (anything(num), false),
    }
}

fn divide(n: Num, a: (i128, i128), b: (i128, i128)) -> (Interval, bool) {
    // The divisor without zero, in up to two parts.
    let parts = [(b.0, b.1.min(-1)), (b.0.max(1), b.1)];
    let mut bounds: Option<(i128, i128)> = None;
    for part in parts.into_iter().filter(|(low, high)| low <= high) {
        let (low, high) = corners(a, part, |x, y| x / y);
        bounds = Some(bounds.map_or((low, high), |(l, h)| (l.min(low), h.max(high))));
    }
    let Some((low, high)) = bounds else { return (Interval::Int(0, 0), false) };
    let (interval, fits) = fit(n, low, high);
    (interval, fits && !(b.0 <= 0 && b.1 >= 0))
}

fn compare(what: Opcode, a: Interval, b: Interval) -> Interval {
    // Of integers, so that no number is left out.
    let meets = matches!((a, b), (Interval::Int(_, high), Interval::Int(low, _)) if high == low);
    let ((al, ah), (bl, bh)) = (a.to_f64(), b.to_f64());
    let known = match what {
        Opcode::Less(_) if ah < bl => Some(1),
        Opcode::Less(_) if al >= bh => Some(0),
        Opcode::LessEqual(_) if ah < bl || meets => Some(1),
        Opcode::LessEqual(_) if al > bh => Some(0),
        Opcode::Equal(_) if ah < bl || bh < al => Some(0),
        _ => None,
    };
    known.map_or(Interval::Int(0, 1), |truth| Interval::Int(truth, truth))
}

fn convert(a: Interval, to: Ty) -> (Interval, bool) {
    if to == Ty::Bool {
        return (Interval::Int(0, 1), true);
    }
    match (a, to.bounds()) {
        (Interval::Int(low, high), Some((type_low, type_high))) => {
            if type_low <= low && high <= type_high {
                (a, true)
            } else {
                (Interval::Int(type_low, type_high), true)
            }
        }
        (Interval::Real(low, high), Some((type_low, type_high))) => {
            let (low, high) = (low.trunc(), high.trunc());
            let fits = low >= type_low as f64 && high < (type_high + 1) as f64;
            let cut = |value: f64| if value.is_nan() { type_low } else { (value as i128).clamp(type_low, type_high) };
            (Interval::Int(cut(low), cut(high)), fits)
        }
        (_, None) => {
            let (low, high) = a.to_f64();
            if to == Ty::F32 {
                (Interval::Real(f64::from(low as f32), f64::from(high as f32)), true)
            } else {
                (Interval::Real(low, high), true)
            }
        }
    }
}

fn call(func: Func, n: Num, a: Interval, b: Interval) -> (Interval, bool) {
    if let (Func::Abs, Interval::Int(low, high)) = (func, a) {
        let least = if low <= 0 && high >= 0 { 0 } else { low.abs().min(high.abs()) };
        return fit(n, least, low.abs().max(high.abs()));
    }
    let (low, high) = a.to_f64();
    let one = |x: f64| {
        if n == Num::F32 {
            f64::from(crate::formula::kernels::single(func, x as f32, 0.0))
        } else {
            crate::formula::kernels::double(func, x, 0.0)
        }
    };
    // Library functions are not always monotonic to the last digit: a step outwards on either side.
    let wide = |low: f64, high: f64| {
        let room = |v: f64| if n == Num::F32 { v.abs() * 1e-6 } else { v.abs() * 1e-15 };
        if low.is_nan() || high.is_nan() {
            Interval::Real(f64::NEG_INFINITY, f64::INFINITY)
        } else {
            Interval::Real(low - room(low), high + room(high))
        }
    };
    let interval = match func {
        Func::Fabs => {
            let least = if low <= 0.0 && high >= 0.0 { 0.0 } else { low.abs().min(high.abs()) };
            Interval::Real(least, low.abs().max(high.abs()))
        }
        Func::Floor | Func::Ceil | Func::Round | Func::Trunc => Interval::Real(one(low), one(high)),
        Func::Sqrt if low >= 0.0 => wide(one(low), one(high)),
        Func::Log | Func::Log2 | Func::Log10 if low > 0.0 => wide(one(low), one(high)),
        Func::Log1p if low > -1.0 => wide(one(low), one(high)),
        Func::Cbrt | Func::Exp | Func::Exp2 | Func::Expm1 | Func::Atan | Func::Sinh | Func::Tanh => wide(one(low), one(high)),
        Func::Sin | Func::Cos => Interval::Real(-1.0, 1.0),
        Func::Asin if low >= -1.0 && high <= 1.0 => wide(one(low), one(high)),
        Func::Acos if low >= -1.0 && high <= 1.0 => wide(one(high), one(low)),
        Func::Atan2 => Interval::Real(-3.15, 3.15),
        Func::Cosh => Interval::Real(1.0, one(low).max(one(high)) * (1.0 + 1e-6)),
        Func::Pow if low > 0.0 || (low == 0.0 && b.to_f64().0 > 0.0) => {
            // In each argument monotonic, so the extremes stand at the corners.
            let f = |x, y| crate::formula::kernels::double(Func::Pow, x, y);
            match real_corners(n, a, b, f, |x, y| crate::formula::kernels::single(Func::Pow, x, y)) {
                Interval::Real(low, high) => wide(low, high),
                other => other,
            }
        }
        Func::Fmin | Func::Fmax => {
            let (other_low, other_high) = b.to_f64();
            if func == Func::Fmin {
                Interval::Real(low.min(other_low), high.min(other_high))
            } else {
                Interval::Real(low.max(other_low), high.max(other_high))
            }
        }
        _ => Interval::Real(f64::NEG_INFINITY, f64::INFINITY),
    };
    (interval, true)
}

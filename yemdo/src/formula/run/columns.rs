//! Runs a flat program over columns: one operation after the other, each over many frames.

use crate::formula::fault::FaultKind;
use crate::formula::flat::program::{Constant, Need, Num, Op, Opcode, Program, Slot, Use};
use crate::formula::functions::Func;
use crate::formula::kernels::{self as k, Fault, OK, int32, int64, ok};
use crate::formula::run::operations::operations;
use crate::ground::number::{Number, Ty};
use crate::ground::text::Span;

/// Frames that are worked on together: few enough that the columns of a formula stay in the nearest cache.
pub(crate) const LANES: usize = 512;

/// The values of one slot for up to [`LANES`] frames.
#[derive(Clone, Debug)]
pub(crate) enum Column {
    I32(Vec<i32>),
    I64(Vec<i64>),
    F32(Vec<f32>),
    F64(Vec<f64>),
}

impl Column {
    fn new(num: Num, lanes: usize) -> Self {
        match num {
            Num::I32 | Num::U32 => Column::I32(vec![0; lanes]),
            Num::I64 | Num::U64 => Column::I64(vec![0; lanes]),
            Num::F32 => Column::F32(vec![0.0; lanes]),
            Num::F64 => Column::F64(vec![0.0; lanes]),
        }
    }

    fn fill(&mut self, constant: Constant) {
        match (self, constant) {
            (Column::I32(c), Constant::Int(v)) => c.fill(v as i32),
            (Column::I64(c), Constant::Int(v)) => c.fill(v),
            (Column::F32(c), Constant::Real(v)) => c.fill(v as f32),
            (Column::F64(c), Constant::Real(v)) => c.fill(v),
            (Column::F32(c), Constant::Int(v)) => c.fill(v as f32),
            (Column::F64(c), Constant::Int(v)) => c.fill(v as f64),
            (_, Constant::Real(_)) => {}
        }
    }

    /// Puts a number at a lane; integers take its whole part.
    pub(crate) fn put(&mut self, lane: usize, value: f64) {
        match self {
            Column::I32(c) => c.get_mut(lane).into_iter().for_each(|v| *v = value as i64 as i32),
            Column::I64(c) => c.get_mut(lane).into_iter().for_each(|v| *v = value as i64),
            Column::F32(c) => c.get_mut(lane).into_iter().for_each(|v| *v = value as f32),
            Column::F64(c) => c.get_mut(lane).into_iter().for_each(|v| *v = value),
        }
    }

    /// Puts an integer at every lane.
    pub(crate) fn fill_int(&mut self, value: i64) {
        match self {
            Column::I32(c) => c.fill(value as i32),
            Column::I64(c) => c.fill(value),
            Column::F32(c) => c.fill(value as f32),
            Column::F64(c) => c.fill(value as f64),
        }
    }

    /// Puts a number at every lane; integers take its whole part.
    pub(crate) fn fill_real(&mut self, value: f64) {
        match self {
            Column::F32(c) => c.fill(value as f32),
            Column::F64(c) => c.fill(value),
            Column::I32(_) | Column::I64(_) => self.fill_int(value as i64),
        }
    }

    /// Puts an integer of its own at each of so many lanes.
    pub(crate) fn put_ints(&mut self, lanes: usize, value: impl Fn(usize) -> i64) {
        match self {
            Column::I32(c) => c.iter_mut().take(lanes).enumerate().for_each(|(lane, v)| *v = value(lane) as i32),
            Column::I64(c) => c.iter_mut().take(lanes).enumerate().for_each(|(lane, v)| *v = value(lane)),
            Column::F32(c) => c.iter_mut().take(lanes).enumerate().for_each(|(lane, v)| *v = value(lane) as f32),
            Column::F64(c) => c.iter_mut().take(lanes).enumerate().for_each(|(lane, v)| *v = value(lane) as f64),
        }
    }

    /// Puts an integer at a lane.
    pub(crate) fn put_int(&mut self, lane: usize, value: i64) {
        match self {
            Column::I32(c) => c.get_mut(lane).into_iter().for_each(|v| *v = value as i32),
            Column::I64(c) => c.get_mut(lane).into_iter().for_each(|v| *v = value),
            Column::F32(_) | Column::F64(_) => self.put(lane, value as f64),
        }
    }

    /// The number at a lane, as the type that the slot stands for.
    fn number(&self, lane: usize, ty: Ty) -> Option<Number> {
        Some(match self {
            Column::I32(c) if ty == Ty::U32 => Number::Int(i128::from(*c.get(lane)? as u32), ty),
            Column::I32(c) => Number::Int(i128::from(*c.get(lane)?), ty),
            Column::I64(c) if ty == Ty::U64 => Number::Int(i128::from(*c.get(lane)? as u64), ty),
            Column::I64(c) => Number::Int(i128::from(*c.get(lane)?), ty),
            Column::F32(c) => Number::Real(f64::from(*c.get(lane)?), ty),
            Column::F64(c) => Number::Real(*c.get(lane)?, ty),
        })
    }
}

/// A fault, unpacked: what and where.
pub(crate) type FaultAt = (FaultKind, Option<Span>);

/// Room to run one program in.
#[derive(Clone, Debug)]
pub(crate) struct Machine {
    columns: Vec<Column>,
    /// For every slot its column; slots that are never alive together share one.
    place: Vec<u32>,
    /// For every output, for every lane: 0, or the first fault, packed.
    faults: Vec<Vec<u32>>,
    any_fault: Vec<bool>,
    /// Uses of missing inputs in branches, with the lane.
    doubtful: Vec<(Use, usize)>,
    /// Inputs that stay the same and have no value, by their place among the plan's.
    pub(crate) lost: Vec<usize>,
}

/// A fault's kind and site in one number, never 0.
pub(crate) const fn pack(fault: Fault, site: u32) -> u32 {
    (site << 3) | fault as u32
}

/// The fault of a missing input; it has no place in the sheet.
pub(super) const NO_VALUE: u32 = pack(k::code(FaultKind::NoValue), u32::MAX >> 3);

/// What a packed fault says.
pub(crate) fn unpack(program: &Program, packed: u32) -> FaultAt {
    (k::kind((packed & 7) as Fault), program.sites.get((packed >> 3) as usize).copied())
}

impl Machine {
    /// Room for `lanes` frames at a time.
    pub(crate) fn new(program: &Program, lanes: usize) -> Self {
        let place = share_columns(program);
        // A slot that nothing computes has no column.
        let count = place.iter().filter(|at| **at != u32::MAX).max().map_or(0, |last| *last as usize + 1);
        let mut kinds = vec![Num::I32; count];
        for (slot, column) in place.iter().enumerate() {
            if let (Some(kind), Some(num)) = (kinds.get_mut(*column as usize), program.slots.get(slot)) {
                *kind = *num;
            }
        }
        let mut columns: Vec<Column> = kinds.into_iter().map(|num| Column::new(num, lanes)).collect();
        for (slot, constant) in &program.constants {
            if let Some(column) = place.get(*slot as usize).and_then(|at| columns.get_mut(*at as usize)) {
                column.fill(*constant);
            }
        }
        let outputs = program.outputs.len();
        Self {
            columns,
            place,
            faults: vec![vec![0; lanes]; outputs],
            any_fault: vec![false; outputs],
            doubtful: Vec::new(),
            lost: Vec::new(),
        }
    }

    /// The column of a slot, to be filled before a run.
    pub(crate) fn column_mut(&mut self, slot: Slot) -> Option<&mut Column> {
        self.columns.get_mut(*self.place.get(slot as usize)? as usize)
    }

    pub(crate) fn column(&self, slot: Slot) -> Option<&Column> {
        self.columns.get(*self.place.get(slot as usize)? as usize)
    }

    /// A slot's value at a lane.
    pub(crate) fn number(&self, slot: Slot, lane: usize, ty: Ty) -> Option<Number> {
        self.column(slot)?.number(lane, ty)
    }

    /// An output's value at a lane, or its fault.
    pub(crate) fn output(&self, program: &Program, output: usize, lane: usize) -> Result<Number, FaultAt> {
        let packed = self.faults.get(output).and_then(|faults| faults.get(lane)).copied().unwrap_or(0);
        if packed != 0 {
            return Err(unpack(program, packed));
        }
        let value = program.outputs.get(output).and_then(|(slot, ty)| self.number(*slot, lane, *ty));
        value.ok_or((FaultKind::Needed, None))
    }

    /// The values of an output, where they are kept as doubles and none is at fault.
    pub(crate) fn reals(&self, program: &Program, output: usize, lanes: usize) -> Option<&[f64]> {
        match (self.any_fault.get(output), program.outputs.get(output).and_then(|(slot, _)| self.column(*slot))) {
            (Some(false), Some(Column::F64(column))) => column.get(..lanes),
            _ => None,
        }
    }

    /// The packed faults of an output, where there are any.
    pub(crate) fn faults(&self, output: usize) -> Option<&[u32]> {
        self.any_fault.get(output).copied().unwrap_or(false).then(|| self.faults.get(output).map(Vec::as_slice)).flatten()
    }

    /// Forgets the faults of the last run, before the inputs of the next are put in.
    pub(crate) fn begin(&mut self) {
        for (faults, any) in self.faults.iter_mut().zip(&mut self.any_fault) {
            if *any {
                faults.fill(0);
                *any = false;
            }
        }
    }

    /// Marks an input as missing in a lane.
    pub(crate) fn no_value(&mut self, users: &[Use], lane: usize) {
        for one in users {
            match one.live {
                None => self.set_fault(one.output, lane, NO_VALUE),
                Some(_) => self.doubtful.push((*one, lane)),
            }
        }
    }

    /// Runs the program for the first `lanes` lanes.
    pub(crate) fn run(&mut self, program: &Program, lanes: usize) {
        self.run_again(program, lanes, false);
    }

    /// As [`run`](Self::run); with `again`, what is the same for all frames is taken from the run before, which
    /// had at least as many lanes.
    pub(crate) fn run_again(&mut self, program: &Program, lanes: usize, again: bool) {
        for op in program.ops.iter().filter(|op| !(again && op.uniform)) {
            self.step(program, op, lanes);
        }
        self.close(program, lanes);
    }

    /// After the last operation: results that are not finite, and faults handed on to those who need the value.
    fn close(&mut self, program: &Program, lanes: usize) {
        for (one, lane) in std::mem::take(&mut self.doubtful) {
            if program.runs(one.live, &|slot| self.holds(Some(slot), lane)) {
                self.set_fault(one.output, lane, NO_VALUE);
            }
        }
        for (index, (slot, _)) in program.outputs.iter().enumerate() {
            let at = self.place.get(*slot as usize).map_or(0, |at| *at as usize);
            let bad: Vec<usize> = match self.columns.get(at) {
                _ if program.finite.get(index).copied().unwrap_or(false) => Vec::new(),
                Some(Column::F32(c)) if c.iter().take(lanes).any(|v| !v.is_finite()) => not_finite(c.iter().map(|v| v.is_finite()), lanes),
                Some(Column::F64(c)) if c.iter().take(lanes).any(|v| !v.is_finite()) => not_finite(c.iter().map(|v| v.is_finite()), lanes),
                _ => Vec::new(),
            };
            for lane in bad {
                self.set_fault(index, lane, pack(k::code(FaultKind::NotFinite), u32::MAX >> 3));
            }
            for Need { output, guard } in program.needs.get(index).into_iter().flatten() {
                if self.any_fault.get(*output).copied().unwrap_or(false) {
                    for lane in 0..lanes {
                        let at_fault = self.faults.get(*output).and_then(|f| f.get(lane)).is_some_and(|f| *f != 0);
                        if at_fault && self.holds(*guard, lane) {
                            self.set_fault(index, lane, pack(k::code(FaultKind::Needed), u32::MAX >> 3));
                        }
                    }
                }
            }
        }
    }

    fn set_fault(&mut self, output: usize, lane: usize, packed: u32) {
        if let Some(place) = self.faults.get_mut(output).and_then(|faults| faults.get_mut(lane))
            && *place == 0
        {
            *place = packed;
            if let Some(any) = self.any_fault.get_mut(output) {
                *any = true;
            }
        }
    }

    /// Whether a guard holds at a lane, or there is none.
    fn holds(&self, guard: Option<Slot>, lane: usize) -> bool {
        match guard.and_then(|slot| self.columns.get(self.place_of(slot))) {
            Some(Column::I32(guard)) => guard.get(lane).is_some_and(|truth| *truth != 0),
            _ => true,
        }
    }

    fn place_of(&self, slot: Slot) -> usize {
        self.place.get(slot as usize).map_or(usize::MAX, |at| *at as usize)
    }

    fn step(&mut self, program: &Program, op: &Op, lanes: usize) {
        let (a, b, c) = (self.place_of(op.a), self.place_of(op.b), self.place_of(op.c));
        let dst_at = self.place_of(op.dst);
        let Some(dst) = self.columns.get_mut(dst_at) else { return };
        let mut dst = std::mem::replace(dst, Column::I32(Vec::new()));
        let faulted = if let (Some(a), Some(b), Some(c)) = (self.columns.get(a), self.columns.get(b), self.columns.get(c)) {
            match (op.what, &mut dst, a) {
                (Opcode::Curve(index, _), Column::F64(dst), Column::F64(x)) => {
                    let curve = program.curve(index);
                    one(dst, x, lanes, How::of(op), |x| on_curve(curve.and_then(|curve| curve.at(x))))
                }
                (Opcode::Curve(index, _), Column::F32(dst), Column::F32(x)) => {
                    let curve = program.curve(index);
                    one(dst, x, lanes, How::of(op), |x| on_curve(curve.and_then(|curve| curve.at_single(x))))
                }
                (Opcode::Curve(index, _), Column::I64(dst), Column::I64(x)) => {
                    let curve = program.curve(index);
                    one(dst, x, lanes, How::of(op), |x| on_curve(curve.and_then(|curve| curve.at_integer(x))))
                }
                _ => operate(op, &mut dst, a, b, c, lanes),
            }
        } else {
            None
        };
        if let Some(codes) = faulted {
            for (lane, code) in codes.into_iter().enumerate().filter(|(_, code)| *code != OK) {
                if self.holds(op.guard, lane) {
                    self.set_fault(op.owner as usize, lane, pack(code, op.site));
                }
            }
        }
        if let Some(place) = self.columns.get_mut(dst_at) {
            *place = dst;
        }
    }
}

fn not_finite(finite: impl Iterator<Item = bool>, lanes: usize) -> Vec<usize> {
    finite.take(lanes).enumerate().filter(|(_, finite)| !finite).map(|(lane, _)| lane).collect()
}

/// Gives each slot a column such that slots alive at the same time never share one.
fn share_columns(program: &Program) -> Vec<u32> {
    let count = program.slots.len();
    let mut last_use = vec![0usize; count];
    let mut keep = |slot: Slot, at: usize| {
        if let Some(last) = last_use.get_mut(slot as usize) {
            *last = (*last).max(at);
        }
    };
    for (at, op) in program.ops.iter().enumerate() {
        for slot in [op.a, op.b, op.c].into_iter().chain(op.guard) {
            keep(slot, at);
        }
        keep(op.dst, at);
    }
    for slot in program.outputs.iter().map(|(slot, _)| *slot).chain(program.need_guards()) {
        keep(slot, usize::MAX);
    }
    for slot in program.constants.iter().map(|(slot, _)| slot).chain(program.inputs.iter().map(|(slot, _)| slot)) {
        keep(*slot, usize::MAX);
    }
    for op in program.ops.iter().filter(|op| op.uniform) {
        keep(op.dst, usize::MAX);
    }
    let mut place = vec![u32::MAX; count];
    let mut columns = 0u32;
    let uniform = program.ops.iter().filter(|op| op.uniform).map(|op| op.dst);
    let fixed: Vec<Slot> =
        program.constants.iter().map(|(slot, _)| *slot).chain(program.inputs.iter().map(|(slot, _)| *slot)).chain(uniform).collect();
    for slot in fixed {
        if let Some(at) = place.get_mut(slot as usize).filter(|at| **at == u32::MAX) {
            *at = columns;
            columns += 1;
        }
    }
    // Columns that are free again, with their kind of storage.
    let mut free: Vec<(Num, u32)> = Vec::new();
    let store = |num: Num| match num {
        Num::U32 => Num::I32,
        Num::U64 => Num::I64,
        other => other,
    };
    for (at, op) in program.ops.iter().enumerate() {
        let kind = program.slots.get(op.dst as usize).copied().map_or(Num::I32, store);
        if let Some(p) = place.get_mut(op.dst as usize).filter(|p| **p == u32::MAX) {
            let taken = free.iter().position(|(num, _)| *num == kind).map(|index| free.swap_remove(index).1);
            *p = taken.unwrap_or_else(|| {
                columns += 1;
                columns - 1
            });
        }
        let mut done: Vec<Slot> = [op.a, op.b, op.c, op.dst].into_iter().chain(op.guard).collect();
        done.sort_unstable();
        done.dedup();
        for slot in done {
            if last_use.get(slot as usize) == Some(&at)
                && let (Some(p), Some(num)) = (place.get(slot as usize), program.slots.get(slot as usize))
            {
                free.push((store(*num), *p));
            }
        }
    }
    place
}

/// What is known of an operation.
#[derive(Clone, Copy, PartialEq, Eq)]
enum How {
    /// It may fault.
    Checked,
    /// It cannot fault.
    Safe,
    /// It cannot fault, and its second operand is the same in all lanes.
    SameB,
}

impl How {
    fn of(op: &Op) -> Self {
        match (op.safe, op.same_b) {
            (false, _) => How::Checked,
            (true, false) => How::Safe,
            (true, true) => How::SameB,
        }
    }
}

fn one<A: Copy, D>(dst: &mut [D], a: &[A], lanes: usize, how: How, f: impl Fn(A) -> (D, Fault)) -> Option<Vec<Fault>> {
    let (dst, a) = (dst.get_mut(..lanes)?, a.get(..lanes)?);
    if how != How::Checked {
        for (dst, a) in dst.iter_mut().zip(a) {
            *dst = f(*a).0;
        }
        return None;
    }
    let mut any = OK;
    for (dst, a) in dst.iter_mut().zip(a) {
        let (value, fault) = f(*a);
        *dst = value;
        any |= fault;
    }
    (any != OK).then(|| {
        let mut faults = vec![OK; lanes];
        for (fault, a) in faults.iter_mut().zip(a) {
            *fault = f(*a).1;
        }
        faults
    })
}

/// The value of a curve, or that there is none.
fn on_curve<T: Default>(value: Option<T>) -> (T, Fault) {
    value.map_or((T::default(), k::code(FaultKind::NoValue)), |value| (value, OK))
}

/// Fills `dst`; where some lane faults, the codes of all lanes.
#[inline]
fn two<A: Copy, B: Copy, D>(dst: &mut [D], a: &[A], b: &[B], lanes: usize, how: How, f: impl Fn(A, B) -> (D, Fault)) -> Option<Vec<Fault>> {
    let (dst, a, b) = (dst.get_mut(..lanes)?, a.get(..lanes)?, b.get(..lanes)?);
    if how == How::SameB {
        let b = *b.first()?;
        dst.iter_mut().zip(a).for_each(|(dst, a)| *dst = f(*a, b).0);
        return None;
    }
    if how == How::Safe {
        for ((dst, a), b) in dst.iter_mut().zip(a).zip(b) {
            *dst = f(*a, *b).0;
        }
        return None;
    }
    let mut any = OK;
    for ((dst, a), b) in dst.iter_mut().zip(a).zip(b) {
        let (value, fault) = f(*a, *b);
        *dst = value;
        any |= fault;
    }
    (any != OK).then(|| {
        // Filled, not collected: this is compiled for every operation.
        let mut faults = vec![OK; lanes];
        for ((fault, a), b) in faults.iter_mut().zip(a).zip(b) {
            *fault = f(*a, *b).1;
        }
        faults
    })
}

fn pick<D: Copy>(dst: &mut [D], cond: &[i32], then: &[D], otherwise: &[D], lanes: usize) -> Option<Vec<Fault>> {
    let (dst, cond) = (dst.get_mut(..lanes)?, cond.get(..lanes)?);
    // Most branches go one way for all frames at hand.
    let holding = cond.iter().map(|cond| u32::from(*cond != 0)).sum::<u32>() as usize;
    if holding == 0 || holding == lanes {
        dst.copy_from_slice(if holding == 0 { otherwise } else { then }.get(..lanes)?);
        return None;
    }
    for (((dst, cond), then), otherwise) in dst.iter_mut().zip(cond).zip(then).zip(otherwise) {
        let (then, otherwise) = (*then, *otherwise);
        *dst = if *cond != 0 { then } else { otherwise };
    }
    None
}

fn operate(op: &Op, dst: &mut Column, a: &Column, b: &Column, c: &Column, lanes: usize) -> Option<Vec<Fault>> {
    use Column as C;
    use Num as N;
    let how = How::of(op);
    macro_rules! apply {
        ($f:expr, $($kind:ident),+) => { apply!(@ $f, $($kind),+) };
        (@ $f:expr, $d:ident, $a:ident) => {
            if let (C::$d(d), C::$a(x)) = (dst, a) { one(d, x, lanes, how, $f) } else { None }
        };
        (@ $f:expr, $d:ident, $a:ident, $b:ident) => {
            if let (C::$d(d), C::$a(x), C::$b(y)) = (dst, a, b) { two(d, x, y, lanes, how, $f) } else { None }
        };
    }
    match op.what {
        Opcode::Select(_) => match (dst, a, b, c) {
            (C::I32(d), C::I32(x), C::I32(y), C::I32(z)) => pick(d, x, y, z, lanes),
            (C::I64(d), C::I32(x), C::I64(y), C::I64(z)) => pick(d, x, y, z, lanes),
            (C::F32(d), C::I32(x), C::F32(y), C::F32(z)) => pick(d, x, y, z, lanes),
            (C::F64(d), C::I32(x), C::F64(y), C::F64(z)) => pick(d, x, y, z, lanes),
            _ => None,
        },
        Opcode::Convert(from, to) => convert(from, to, dst, a, lanes, how),
        Opcode::Shl(..) | Opcode::Shr(..) => shift(op, dst, a, b, lanes),
        Opcode::MulShr(N::I32) => match (dst, a, b, count(c)) {
            (C::I32(d), C::I32(x), C::I32(y), Some(n)) => two(d, x, y, lanes, how, |x, y| ok(x.wrapping_mul(y) >> n)),
            _ => None,
        },
        Opcode::MulShr(N::I64) => match (dst, a, b, count(c)) {
            (C::I64(d), C::I64(x), C::I64(y), Some(n)) => two(d, x, y, lanes, how, |x, y| ok(x.wrapping_mul(y) >> n)),
            _ => None,
        },
        Opcode::ShlDiv => match (dst, a, b, count(c)) {
            (C::I64(d), C::I64(x), C::I64(y), Some(n)) => two(d, x, y, lanes, how, |x, y| ok(k::small_div_in_lanes(x << n, y))),
            _ => None,
        },
        Opcode::Max(N::I64) if op.small => apply!(|x, y| ok(k::small_max_in_lanes(x, y)), I64, I64, I64),
        Opcode::Div(N::I64) if op.small => apply!(|x, y| ok(k::small_div_in_lanes(x, y)), I64, I64, I64),
        Opcode::Call(func, N::F32) => apply!(|x, y| ok(k::single(func, x, y)), F32, F32, F32),
        Opcode::Call(func, N::F64) => apply!(|x, y| ok(k::double(func, x, y)), F64, F64, F64),
        _ => operations!(op, apply, None),
    }
}

/// The shift count that all lanes share, which is proved to be one.
fn count(column: &Column) -> Option<u32> {
    match column {
        Column::I32(c) => c.first().map(|count| count.unsigned_abs() & 31),
        Column::I64(c) => c.first().map(|count| count.unsigned_abs() as u32 & 63),
        _ => None,
    }
}

fn shift(op: &Op, dst: &mut Column, a: &Column, b: &Column, lanes: usize) -> Option<Vec<Fault>> {
    use Column as C;
    use Num as N;
    let how = How::of(op);
    // The count may be of another width than the value, and unsigned; a count that is too large stays so.
    let unsigned_count = matches!(op.what, Opcode::Shl(_, N::U32) | Opcode::Shr(_, N::U32));
    let count32 = move |count: i32| if unsigned_count { i64::from(count as u32) } else { i64::from(count) };
    macro_rules! by_count {
        ($f:expr, $kind:ident) => {
            match (dst, a, b) {
                (C::$kind(d), C::$kind(x), C::I32(n)) => two(d, x, n, lanes, how, |x, n| $f(x, count32(n))),
                (C::$kind(d), C::$kind(x), C::I64(n)) => two(d, x, n, lanes, how, $f),
                _ => None,
            }
        };
    }
    match op.what {
        Opcode::Shl(N::I32, _) => by_count!(int32::shl, I32),
        Opcode::Shl(N::U32, _) => by_count!(int32::unsigned_shl, I32),
        Opcode::Shl(N::I64, _) => by_count!(int64::shl, I64),
        Opcode::Shl(N::U64, _) => by_count!(int64::unsigned_shl, I64),
        Opcode::Shr(N::I32, _) => by_count!(int32::shr, I32),
        Opcode::Shr(N::U32, _) => by_count!(int32::unsigned_shr, I32),
        Opcode::Shr(N::I64, _) => by_count!(int64::shr, I64),
        Opcode::Shr(N::U64, _) => by_count!(int64::unsigned_shr, I64),
        // Reals are not shifted.
        _ => None,
    }
}

fn convert(from: Num, to: Ty, dst: &mut Column, a: &Column, lanes: usize, how: How) -> Option<Vec<Fault>> {
    use Column as C;
    let unsigned = matches!(from, Num::U32 | Num::U64);
    match (dst, a) {
        (C::I32(d), C::I64(x)) if matches!(to, Ty::I32 | Ty::U32) => one(d, x, lanes, how, |x| (x as i32, OK)),
        (C::I32(d), C::I32(x)) => one(d, x, lanes, how, |x| (k::wrap(i64::from(x), to) as i32, OK)),
        (C::I32(d), C::I64(x)) => one(d, x, lanes, how, |x| (k::wrap(x, to) as i32, OK)),
        (C::I64(d), C::I32(x)) if unsigned => one(d, x, lanes, how, |x| (i64::from(x as u32), OK)),
        (C::I64(d), C::I32(x)) => one(d, x, lanes, how, |x| (i64::from(x), OK)),
        (C::I64(d), C::I64(x)) => one(d, x, lanes, how, |x| (x, OK)),
        (C::I32(d), C::F32(x)) => one(d, x, lanes, how, |x| narrow(k::real_to_int(f64::from(x), to))),
        (C::I32(d), C::F64(x)) => one(d, x, lanes, how, |x| narrow(k::real_to_int(x, to))),
        (C::I64(d), C::F32(x)) => one(d, x, lanes, how, |x| k::real_to_int(f64::from(x), to)),
        (C::I64(d), C::F64(x)) => one(d, x, lanes, how, |x| k::real_to_int(x, to)),
        (C::F32(d), C::I32(x)) if unsigned => one(d, x, lanes, how, |x| (x as u32 as f32, OK)),
        (C::F32(d), C::I32(x)) => one(d, x, lanes, how, |x| (x as f32, OK)),
        (C::F64(d), C::I32(x)) if unsigned => one(d, x, lanes, how, |x| (f64::from(x as u32), OK)),
        (C::F64(d), C::I32(x)) => one(d, x, lanes, how, |x| (f64::from(x), OK)),
        (C::F32(d), C::I64(x)) if unsigned => one(d, x, lanes, how, |x| (x as u64 as f32, OK)),
        (C::F32(d), C::I64(x)) => one(d, x, lanes, how, |x| (x as f32, OK)),
        (C::F64(d), C::I64(x)) if unsigned => one(d, x, lanes, how, |x| (x as u64 as f64, OK)),
        (C::F64(d), C::I64(x)) => one(d, x, lanes, how, |x| (x as f64, OK)),
        (C::F32(d), C::F32(x)) => one(d, x, lanes, how, |x| (x, OK)),
        (C::F64(d), C::F32(x)) => one(d, x, lanes, how, |x| (f64::from(x), OK)),
        (C::F32(d), C::F64(x)) => one(d, x, lanes, how, |x| (x as f32, OK)),
        (C::F64(d), C::F64(x)) => one(d, x, lanes, how, |x| (x, OK)),
    }
}

fn narrow((value, fault): (i64, Fault)) -> (i32, Fault) {
    (value as i32, fault)
}

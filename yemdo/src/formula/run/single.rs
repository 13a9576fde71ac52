//! Runs a flat program for one frame: a cell for each slot, and no columns.

use crate::formula::fault::FaultKind;
use crate::formula::flat::program::{Constant, Need, Num, Op, Opcode, Program, Slot, Use};
use crate::formula::functions::Func;
use crate::formula::kernels::{self as k, Fault, OK, int32, int64, ok};
use crate::formula::run::columns::{FaultAt, NO_VALUE, pack, unpack};
use crate::formula::run::operations::operations;
use crate::ground::number::{Number, Ty};

/// Room to run one program in, once at a time.
#[derive(Clone, Debug)]
pub(crate) struct Single {
    /// The bits of every slot's number, narrow ones at the low end.
    cells: Vec<u64>,
    /// The operations that are not the same for all frames.
    varying: Vec<Op>,
    /// For every output: 0, or the first fault, packed.
    faults: Vec<u32>,
    any_fault: bool,
    /// Uses of missing inputs in branches.
    doubtful: Vec<Use>,
    /// Outputs that may turn out not to be finite, and where they are.
    watched: Vec<(usize, Slot, Ty)>,
    /// Whether what is the same for all frames has been computed.
    pub(crate) settled: bool,
}

/// A number that fits a cell.
pub(super) trait Cell: Copy {
    fn get(bits: u64) -> Self;
    fn put(self) -> u64;
}

macro_rules! cell {
    ($number:ty, $get:expr, $put:expr) => {
        impl Cell for $number {
            #[inline]
            fn get(bits: u64) -> Self {
                $get(bits)
            }
            #[inline]
            fn put(self) -> u64 {
                $put(self)
            }
        }
    };
}

cell!(i32, |bits| bits as i32, |value| u64::from(value as u32));
cell!(i64, |bits| bits as i64, |value| value as u64);
cell!(f32, |bits| f32::from_bits(bits as u32), |value: f32| u64::from(value.to_bits()));
cell!(f64, f64::from_bits, f64::to_bits);

#[inline]
pub(super) fn one<D: Cell, A: Cell>(a: u64, f: impl Fn(A) -> (D, Fault)) -> (u64, Fault) {
    let (value, fault) = f(A::get(a));
    (value.put(), fault)
}

#[inline]
pub(super) fn two<D: Cell, A: Cell, B: Cell>(a: u64, b: u64, f: impl Fn(A, B) -> (D, Fault)) -> (u64, Fault) {
    let (value, fault) = f(A::get(a), B::get(b));
    (value.put(), fault)
}

impl Single {
    /// Room for a program; its constants are in their cells.
    pub(crate) fn new(program: &Program) -> Self {
        let finite = |output: &usize| program.finite.get(*output).copied().unwrap_or(false);
        let outputs = program.outputs.iter().enumerate().map(|(output, (slot, ty))| (output, *slot, *ty));
        let varying: Vec<Op> = program.ops.iter().filter(|op| !op.uniform).copied().collect();
        let mut single = Self {
            cells: vec![0; program.slots.len()],
            varying,
            faults: vec![0; program.outputs.len()],
            any_fault: false,
            doubtful: Vec::new(),
            watched: outputs.filter(|(output, _, ty)| ty.is_real() && !finite(output)).collect(),
            settled: false,
        };
        for (slot, constant) in &program.constants {
            match *constant {
                Constant::Int(value) => single.put_int(program, *slot, value),
                Constant::Real(value) => single.put_real(program, *slot, value),
            }
        }
        single
    }

    /// Puts an integer into a slot.
    #[inline]
    pub(crate) fn put_int(&mut self, program: &Program, slot: Slot, value: i64) {
        let (Some(cell), Some(num)) = (self.cells.get_mut(slot as usize), program.slots.get(slot as usize)) else { return };
        *cell = match num {
            Num::I32 | Num::U32 => (value as i32).put(),
            Num::I64 | Num::U64 => value.put(),
            Num::F32 => (value as f32).put(),
            Num::F64 => (value as f64).put(),
        };
    }

    /// Puts the bits of a number into a slot.
    #[inline(always)]
    pub(crate) fn put_bits(&mut self, slot: Slot, bits: u64) {
        self.cells.get_mut(slot as usize).into_iter().for_each(|cell| *cell = bits);
    }

    /// Whether anything is at fault.
    #[inline(always)]
    pub(crate) fn at_fault(&self) -> bool {
        self.any_fault
    }

    /// Puts a number into a slot; integers take its whole part.
    pub(crate) fn put_real(&mut self, program: &Program, slot: Slot, value: f64) {
        let (Some(cell), Some(num)) = (self.cells.get_mut(slot as usize), program.slots.get(slot as usize)) else { return };
        *cell = match num {
            Num::I32 | Num::U32 => (value as i64 as i32).put(),
            Num::I64 | Num::U64 => (value as i64).put(),
            Num::F32 => (value as f32).put(),
            Num::F64 => value.put(),
        };
    }

    /// The number in a slot, as the type that it stands for.
    pub(crate) fn number(&self, slot: Slot, ty: Ty) -> Option<Number> {
        let bits = *self.cells.get(slot as usize)?;
        Some(match ty {
            Ty::F32 => Number::Real(f64::from(f32::get(bits)), ty),
            Ty::F64 => Number::Real(f64::get(bits), ty),
            Ty::U64 => Number::Int(i128::from(bits), ty),
            Ty::I64 => Number::Int(i128::from(bits as i64), ty),
            Ty::U32 => Number::Int(i128::from(bits as u32), ty),
            Ty::Bool | Ty::I8 | Ty::U8 | Ty::I16 | Ty::U16 | Ty::I32 => Number::Int(i128::from(bits as i32), ty),
        })
    }

    /// An output's value, or its fault.
    pub(crate) fn output(&self, program: &Program, output: usize) -> Result<Number, FaultAt> {
        let packed = self.faults.get(output).copied().unwrap_or(0);
        if packed != 0 {
            return Err(unpack(program, packed));
        }
        let value = program.outputs.get(output).and_then(|(slot, ty)| self.number(*slot, *ty));
        value.ok_or((FaultKind::Needed, None))
    }

    /// An output that is not at fault, as a double.
    #[inline(always)]
    pub(crate) fn sound(&self, (slot, ty): (Slot, Ty)) -> f64 {
        real(cell(&self.cells, slot), ty)
    }

    /// An output as a double; `None` where it is at fault.
    #[inline]
    pub(crate) fn real(&self, program: &Program, output: usize) -> Option<f64> {
        if self.any_fault && self.faults.get(output).is_some_and(|fault| *fault != 0) {
            return None;
        }
        let (slot, ty) = program.outputs.get(output)?;
        Some(real(*self.cells.get(*slot as usize)?, *ty))
    }

    /// Forgets the faults of the last run, before the inputs of the next are put in.
    #[inline]
    pub(crate) fn begin(&mut self) {
        if self.any_fault || !self.doubtful.is_empty() {
            self.faults.fill(0);
            self.any_fault = false;
            self.doubtful.clear();
        }
    }

    /// Marks an input as missing.
    pub(crate) fn no_value(&mut self, users: &[Use]) {
        for one in users {
            match one.live {
                None => set_fault(&mut self.faults, &mut self.any_fault, one.output, NO_VALUE),
                Some(_) => self.doubtful.push(*one),
            }
        }
    }

    /// Runs the program. What is the same for all frames is only computed where it is not settled.
    pub(crate) fn run(&mut self, program: &Program) {
        let Self { cells, varying, faults, any_fault, settled, watched, .. } = self;
        for op in if *settled { varying } else { &program.ops } {
            careful(cells, faults, any_fault, program, op);
        }
        *settled = true;
        if *any_fault || !self.doubtful.is_empty() || watched.iter().any(|(_, slot, ty)| !real(cell(cells, *slot), *ty).is_finite()) {
            self.close(program);
        }
    }

    /// After the last operation: results that are not finite, and faults handed on to those who need the value.
    #[inline(never)]
    fn close(&mut self, program: &Program) {
        let Self { cells, faults, any_fault, .. } = self;
        for one in &self.doubtful {
            if program.runs(one.live, &|slot| cell(cells, slot) as i32 != 0) {
                set_fault(faults, any_fault, one.output, NO_VALUE);
            }
        }
        for (output, slot, ty) in &self.watched {
            if !real(cell(cells, *slot), *ty).is_finite() {
                set_fault(faults, any_fault, *output, pack(k::code(FaultKind::NotFinite), u32::MAX >> 3));
            }
        }
        if *any_fault {
            for output in 0..program.outputs.len() {
                let used = |need: &Need| need.guard.is_none_or(|guard| cell(cells, guard) as i32 != 0);
                let at_fault = |need: &Need| faults.get(need.output).is_some_and(|fault| *fault != 0) && used(need);
                if program.needs.get(output).is_some_and(|needs| needs.iter().any(at_fault)) {
                    set_fault(faults, any_fault, output, pack(k::code(FaultKind::Needed), u32::MAX >> 3));
                }
            }
        }
    }
}

/// Runs an operation that may fault.
#[inline(never)]
fn careful(cells: &mut [u64], faults: &mut [u32], any_fault: &mut bool, program: &Program, op: &Op) {
    let fault = step(cells, program, op);
    if fault != OK && !op.safe && op.guard.is_none_or(|guard| cell(cells, guard) as i32 != 0) {
        set_fault(faults, any_fault, op.owner as usize, pack(fault, op.site));
    }
}

#[inline]
fn cell(cells: &[u64], slot: Slot) -> u64 {
    cells.get(slot as usize).copied().unwrap_or(0)
}

/// The number of a type in a cell, as a double.
#[inline]
fn real(bits: u64, ty: Ty) -> f64 {
    match ty {
        Ty::F64 => f64::get(bits),
        Ty::F32 => f64::from(f32::get(bits)),
        Ty::U64 => bits as f64,
        Ty::I64 => bits as i64 as f64,
        Ty::U32 => f64::from(bits as u32),
        Ty::Bool | Ty::I8 | Ty::U8 | Ty::I16 | Ty::U16 | Ty::I32 => f64::from(bits as i32),
    }
}

fn set_fault(faults: &mut [u32], any: &mut bool, output: usize, packed: u32) {
    if let Some(place) = faults.get_mut(output).filter(|place| **place == 0) {
        *place = packed;
        *any = true;
    }
}

#[inline]
fn step(cells: &mut [u64], program: &Program, op: &Op) -> Fault {
    let (bits, fault) = match op.what {
        Opcode::Curve(index, num) => {
            let (curve, x) = (program.curve(index), cell(cells, op.a));
            let value = match num {
                Num::F32 => curve.and_then(|curve| curve.at_single(f32::get(x))).map(f32::put),
                Num::F64 => curve.and_then(|curve| curve.at(f64::get(x))).map(f64::put),
                _ => curve.and_then(|curve| curve.at_integer(i64::get(x))).map(i64::put),
            };
            value.map_or((0, k::code(FaultKind::NoValue)), |value| (value, OK))
        }
        Opcode::Select(_) => (cell(cells, if cell(cells, op.a) as i32 != 0 { op.b } else { op.c }), OK),
        _ => operate(op, cell(cells, op.a), cell(cells, op.b), cell(cells, op.c)),
    };
    if let Some(cell) = cells.get_mut(op.dst as usize) {
        *cell = bits;
    }
    fault
}

#[inline]
fn operate(op: &Op, a: u64, b: u64, c: u64) -> (u64, Fault) {
    use Num as N;
    type I32 = i32;
    type I64 = i64;
    type F32 = f32;
    type F64 = f64;
    macro_rules! apply {
        ($f:expr, $d:ident, $a:ident) => {
            one::<$d, $a>(a, $f)
        };
        ($f:expr, $d:ident, $a:ident, $b:ident) => {
            two::<$d, $a, $b>(a, b, $f)
        };
    }
    match op.what {
        Opcode::Shl(num, by) | Opcode::Shr(num, by) => {
            let count = if matches!(by, N::I32) { i64::from(b as i32) } else { b as i64 };
            let left = matches!(op.what, Opcode::Shl(..));
            match num {
                N::I32 if left => one::<i32, i32>(a, |x| int32::shl(x, count)),
                N::U32 if left => one::<i32, i32>(a, |x| int32::unsigned_shl(x, count)),
                N::I64 if left => one::<i64, i64>(a, |x| int64::shl(x, count)),
                N::U64 if left => one::<i64, i64>(a, |x| int64::unsigned_shl(x, count)),
                N::I32 => one::<i32, i32>(a, |x| int32::shr(x, count)),
                N::U32 => one::<i32, i32>(a, |x| int32::unsigned_shr(x, count)),
                N::I64 => one::<i64, i64>(a, |x| int64::shr(x, count)),
                N::U64 => one::<i64, i64>(a, |x| int64::unsigned_shr(x, count)),
                // Reals are not shifted.
                N::F32 | N::F64 => (0, OK),
            }
        }
        Opcode::MulShr(N::I32) => two::<i32, i32, i32>(a, b, |x, y| ok(x.wrapping_mul(y) >> (c & 31))),
        Opcode::MulShr(N::I64) => two::<i64, i64, i64>(a, b, |x, y| ok(x.wrapping_mul(y) >> (c & 63))),
        Opcode::ShlDiv => two::<i64, i64, i64>(a, b, |x, y| ok(k::small_div(x << (c & 63), y))),
        Opcode::Convert(from, to) => convert(from, to, a),
        Opcode::Call(func, N::F32) => apply!(|x, y| ok(k::single(func, x, y)), F32, F32, F32),
        Opcode::Call(func, N::F64) => apply!(|x, y| ok(k::double(func, x, y)), F64, F64, F64),
        _ => operations!(op, apply, (0, OK)),
    }
}

#[inline]
fn convert(from: Num, to: Ty, bits: u64) -> (u64, Fault) {
    let whole = match from {
        Num::I32 => i64::from(bits as i32),
        Num::U32 => i64::from(bits as u32),
        Num::I64 | Num::U64 => bits as i64,
        Num::F32 | Num::F64 => {
            let real = if from == Num::F32 { f64::from(f32::get(bits)) } else { f64::get(bits) };
            return match to {
                Ty::F64 => (real.put(), OK),
                Ty::F32 => ((real as f32).put(), OK),
                _ => stored(to, k::real_to_int(real, to)),
            };
        }
    };
    match (to, from) {
        (Ty::F64, Num::U64) => ((whole as u64 as f64).put(), OK),
        (Ty::F64, _) => ((whole as f64).put(), OK),
        (Ty::F32, Num::U64) => ((whole as u64 as f32).put(), OK),
        (Ty::F32, _) => ((whole as f32).put(), OK),
        _ => stored(to, (k::wrap(whole, to), OK)),
    }
}

/// An integer as the cell of its type has it.
#[inline]
fn stored(to: Ty, (value, fault): (i64, Fault)) -> (u64, Fault) {
    (if matches!(to, Ty::I64 | Ty::U64) { value.put() } else { (value as i32).put() }, fault)
}

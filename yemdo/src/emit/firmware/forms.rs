//! What each way to compute a reading costs on a small core, and by how much it may be off: to choose from.
//!
//! Costs are estimates: a formula's operations, each with what the usual library takes for it on a Cortex-M0 (integers in few
//! instructions, reals in software). `tools/firmware costs` measures whole decoders.

use std::collections::BTreeMap;

use super::judge::OneCode;
use super::{FirmwareOptions, Narrowed, Only, Reals, narrowed};
use crate::formula::operators::Arith;
use crate::formula::typed::{Expr, ExprKind, each};
use crate::ground::number::Ty;
use crate::model::ids::ReadingId;
use crate::model::part::Part;
use crate::model::value::Eval;

/// A way to compute a reading.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct ReadingForm {
    /// How real numbers are computed.
    pub reals: Reals,
    /// By how much it may be off the reading in doubles, in its unit: proved for integers; for floats the largest found over many codes,
    /// `None` where none was tried.
    pub error: Option<f64>,
    /// Instructions on a Cortex-M0, about.
    pub instructions: u32,
    /// Bytes of its code there, about; library functions not counted.
    pub bytes: u32,
}

/// A reading with its forms: number type, and cost or the reason of a failure.
pub type Forms = (ReadingId, Vec<(Reals, Result<ReadingForm, String>)>);

/// Computes the forms of all readings; integers count the steps of the options. If integers fail for an array, its first element
/// gives the reason for all.
pub fn forms(part: &Part, options: &FirmwareOptions) -> Vec<Forms> {
    let shown: Vec<ReadingId> = part.readings.entries().filter(|(_, reading)| reading.is_measured()).map(|(id, _)| id).collect();
    let mut all: Vec<Forms> = shown.iter().map(|id| (*id, Vec::new())).collect();
    for reals in [Reals::Double, Reals::Single, Reals::Integer] {
        let only = |readings: Vec<ReadingId>| {
            let only = Only::These { readings, routines: Vec::new() };
            narrowed(part, &options.clone().reals(reals).only(only))
                .map_err(|error| error.diagnostics.first().map_or(error.to_string(), |one| one.label.clone()))
        };
        let whole = only(shown.clone());
        let mut alone: BTreeMap<usize, Result<ReadingForm, String>> = BTreeMap::new();
        for (id, forms) in &mut all {
            let form = match (&whole, part.readings.get(*id)) {
                (Ok(whole), _) => Ok(form(part, whole, *id, reals, shown.len())),
                (Err(_), Some(reading)) if alone.len() < MOST_ALONE || alone.contains_key(&reading.span.start) => alone
                    .entry(reading.span.start)
                    .or_insert_with(|| only(vec![*id]).map(|narrowed| form(part, &narrowed, *id, reals, shown.len())))
                    .clone(),
                (Err(why), _) => Err(why.clone()),
            };
            forms.push((reals, form));
        }
    }
    all
}

/// Maximum number of readings examined separately if integers fail for some.
const MOST_ALONE: usize = 64;

/// Maximum number of codes evaluated for the errors of floats, for all readings together.
const MOST_TRIED: usize = 1 << 21;

fn form(part: &Part, computed: &Narrowed, reading: ReadingId, reals: Reals, of: usize) -> ReadingForm {
    let (instructions, bytes) = cost(&computed.part, reading);
    let error = match reals {
        Reals::Double => Some(0.0),
        Reals::Single => tried(part, &computed.part, reading, (MOST_TRIED / of.max(1)).clamp(256, 65_536)),
        Reals::Integer => computed.errors.get(&reading).copied(),
    };
    ReadingForm { reals, error, instructions, bytes }
}

/// Total cost of the operations of a reading and its inputs.
fn cost(part: &Part, reading: ReadingId) -> (u32, u32) {
    let (mut instructions, mut bytes) = (12, 30);
    for formula in part.readings.of(&part.needed(reading)).map(|reading| &reading.formula) {
        each(&formula.body, &mut |expr| {
            let (time, size) = operation(expr);
            instructions += time;
            bytes += size;
        });
    }
    (instructions, bytes)
}

/// Instructions and bytes of one operation.
fn operation(expr: &Expr) -> (u32, u32) {
    let call = 10;
    match (&expr.kind, expr.ty) {
        (ExprKind::Const(_), Ty::F64 | Ty::I64 | Ty::U64) => (2, 12),
        (ExprKind::Const(_) | ExprKind::Var(_) | ExprKind::Input(_), _) => (1, 3),
        (ExprKind::Convert(inner), to) => match (inner.ty.is_real(), to.is_real()) {
            (false, true) => (if to == Ty::F64 { 45 } else { 40 }, call),
            (true, true) => (30, call),
            (true, false) => (35, call),
            (false, false) => (1, 2),
        },
        (ExprKind::Arith(op, ..), ty) => {
            let (sum, product, quotient) = match ty {
                Ty::F64 => (110, 190, 560),
                Ty::F32 => (70, 75, 230),
                Ty::I64 | Ty::U64 => (2, 35, 700),
                _ => (1, 1, 130),
            };
            match op {
                Arith::Mul => (product, if product > 1 { call } else { 2 }),
                Arith::Div | Arith::Rem => (quotient, call),
                _ => (sum, if ty.is_real() { call } else { 2 }),
            }
        }
        (ExprKind::Shift(..), Ty::I64 | Ty::U64) => (5, 10),
        (ExprKind::Compare(_, left, _), _) => (if left.ty.is_real() { 35 } else { 2 }, 6),
        (ExprKind::Curve(..), ty) => (
            if ty == Ty::F64 {
                1200
            } else if ty == Ty::F32 {
                600
            } else {
                800
            },
            call,
        ),
        (ExprKind::Call(func, _), ty) if ty.is_real() => match (func.is_exact(), ty) {
            (true, _) => (120, call),
            (false, Ty::F32) => (1500, call),
            (false, _) => (4500, call),
        },
        _ => (3, 6),
    }
}

/// The largest difference over many codes: of a reading of one code, over all of it where it is narrow.
fn tried(part: &Part, other: &Part, reading: ReadingId, most: usize) -> Option<f64> {
    let model = part.readings.get(reading)?;
    let [id] = model.codes.as_slice() else { return None };
    let code = part.codes.get(*id).filter(|code| !code.ty.is_real())?;
    let (low, high) = code.bounds();
    let every = ((high - low) / most as i128).max(1);
    let (mut one, mut two) = (Eval::of_formula(part, &model.formula), Eval::of_formula(other, &other.readings.get(reading)?.formula));
    let mut largest: Option<f64> = None;
    let mut number = low;
    while number <= high {
        let a = one.value(&OneCode { part, code: *id, number }).ok();
        let b = two.value(&OneCode { part: other, code: *id, number }).ok();
        if let Some((a, b)) = a.zip(b) {
            largest = Some(largest.unwrap_or(0.0).max((a - b).abs()));
        }
        number += every;
    }
    largest
}

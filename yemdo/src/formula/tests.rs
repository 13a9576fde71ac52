//! What operations, functions and curves do to plain numbers, against the same worked out with room to spare.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::indexing_slicing)] // tests end where something is wrong

use proptest::prelude::*;

use super::curve::{Curve, Outside};
use super::fault::FaultKind;
use super::functions::Func;
use super::kernels::{self as k, Fault, OK, int32, int64};
use super::operators::BinaryOp;
use crate::ground::number::Ty;

/// The true result as a type of so many bits has it, or that it does not fit (C11 6.5, paragraph 5).
fn signed(wide: i128, bits: u32) -> (i64, Fault) {
    let fits = (-(1i128 << (bits - 1))..1 << (bits - 1)).contains(&wide);
    let kept = (wide << (128 - bits)) >> (128 - bits);
    (kept as i64, if fits { OK } else { k::code(FaultKind::Overflow) })
}

fn widened((value, fault): (i32, Fault)) -> (i64, Fault) {
    (i64::from(value), fault)
}

/// Numbers near the ends of 32 and 64 bits as often as others.
fn number() -> impl Strategy<Value = i64> {
    prop_oneof![
        any::<i64>(),
        any::<i32>().prop_map(i64::from),
        (-3i64..4),
        (0i64..3).prop_map(|off| i64::MIN + off),
        (0i64..3).prop_map(|off| i64::MAX - off),
        (-2i64..3).prop_map(|off| i64::from(i32::MIN) + off),
        (-2i64..3).prop_map(|off| i64::from(i32::MAX) + off),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn integers_are_those_of_c(a in number(), b in number(), count in -2i64..70) {
        let (x, y) = (i128::from(a), i128::from(b));
        let (short_a, short_b) = (a as i32, b as i32);
        let (p, q) = (i128::from(short_a), i128::from(short_b));
        prop_assert_eq!(int64::add(a, b), signed(x + y, 64));
        prop_assert_eq!(int64::sub(a, b), signed(x - y, 64));
        prop_assert_eq!(int64::mul(a, b), signed(x * y, 64));
        prop_assert_eq!(int64::neg(a), signed(-x, 64));
        prop_assert_eq!(int64::abs(a), signed(x.abs(), 64));
        prop_assert_eq!(widened(int32::add(short_a, short_b)), signed(p + q, 32));
        prop_assert_eq!(widened(int32::sub(short_a, short_b)), signed(p - q, 32));
        prop_assert_eq!(widened(int32::mul(short_a, short_b)), signed(p * q, 32));
        prop_assert_eq!(widened(int32::neg(short_a)), signed(-p, 32));
        prop_assert_eq!(widened(int32::abs(short_a)), signed(p.abs(), 32));
        let zero = k::code(FaultKind::DivisionByZero);
        if b == 0 {
            prop_assert_eq!([int64::div(a, b).1, int64::rem(a, b).1, int64::unsigned_div(a, b).1, int64::unsigned_rem(a, b).1], [zero; 4]);
        } else {
            prop_assert_eq!(int64::div(a, b), signed(x / y, 64));
            // Where the quotient does not fit, there is no remainder either (6.5.5, paragraph 6).
            prop_assert_eq!(int64::rem(a, b), (signed(x % y, 64).0, signed(x / y, 64).1));
            prop_assert_eq!(int64::unsigned_div(a, b), ((a as u64 / b as u64) as i64, OK));
            prop_assert_eq!(int64::unsigned_rem(a, b), ((a as u64 % b as u64) as i64, OK));
        }
        if short_b == 0 {
            prop_assert_eq!([int32::div(short_a, 0).1, int32::rem(short_a, 0).1, int32::unsigned_div(short_a, 0).1], [zero; 3]);
        } else {
            prop_assert_eq!(widened(int32::div(short_a, short_b)), signed(p / q, 32));
            prop_assert_eq!(int32::unsigned_div(short_a, short_b), ((short_a as u32 / short_b as u32) as i32, OK));
            prop_assert_eq!(int32::unsigned_rem(short_a, short_b), ((short_a as u32 % short_b as u32) as i32, OK));
        }
        // A shift to the left multiplies, one to the right divides and rounds down; a count beyond the bits is a fault.
        for bits in [32u32, 64] {
            let value = if bits == 32 { p } else { x };
            let (left, right, unsigned) = if bits == 32 {
                (widened(int32::shl(short_a, count)), widened(int32::shr(short_a, count)), widened(int32::unsigned_shr(short_a, count)))
            } else {
                (int64::shl(a, count), int64::shr(a, count), int64::unsigned_shr(a, count))
            };
            if (0..i64::from(bits)).contains(&count) {
                let power = 1i128 << count;
                // 2^63 times 2^63 is more than 128 bits hold; it does not fit in any case.
                let product = value.checked_mul(power).map_or((left.0, k::code(FaultKind::Overflow)), |product| signed(product, bits));
                prop_assert_eq!(left, product);
                prop_assert_eq!(right, signed(value.div_euclid(power), bits));
                let pattern = value & ((1i128 << bits) - 1);
                prop_assert_eq!(unsigned, (signed(pattern >> count, bits).0, OK));
            } else {
                prop_assert_eq!([left.1, right.1, unsigned.1], [k::code(FaultKind::ShiftRange); 3]);
            }
        }
    }

    /// The quick quotients and maxima, which go through doubles, are the plain ones.
    #[test]
    fn small_numbers_may_take_the_quick_way(a in -(1i64 << 51) + 1..1 << 51, b in prop_oneof![-(1i64 << 51) + 1..1 << 51, -9i64..10], near in -2i64..3) {
        // Quotients that are a hair from a whole number are the ones that could go wrong.
        for a in [a, (a / 3 * b.clamp(-900, 900) + near).clamp(-(1 << 51) + 1, (1 << 51) - 1)] {
            if b != 0 {
                prop_assert_eq!((k::small_div(a, b), k::small_div_in_lanes(a, b)), (a / b, a / b), "{} / {}", a, b);
            }
            prop_assert_eq!(k::small_max_in_lanes(a, b), a.max(b));
        }
    }

    /// A conversion keeps the number where the type holds it, and else is a fault (from a real) or its low bits.
    #[test]
    fn conversions_are_those_of_c(whole in number(), real in prop_oneof![any::<f64>(), -3e5..3e5f64, (-66i32..66).prop_map(|e| 2f64.powi(e) * 1.5), number().prop_map(|n| n as f64)]) {
        for ty in [Ty::I8, Ty::U8, Ty::I16, Ty::U16, Ty::I32, Ty::U32, Ty::I64, Ty::U64] {
            let (low, high) = ty.bounds().unwrap();
            let bits = ty.bits();
            let wrapped = i128::from(whole) & ((1i128 << bits) - 1);
            let expected = if low < 0 { (wrapped << (128 - bits)) >> (128 - bits) } else { wrapped };
            let found = i128::from(k::wrap(whole, ty));
            prop_assert_eq!(found & ((1i128 << bits) - 1), expected & ((1i128 << bits) - 1), "{} as {}", whole, ty);
            let (cut, fault) = k::real_to_int(real, ty);
            // No double but one that is whole is so large that `as` would saturate here.
            let whole = real.trunc();
            let holds = whole.is_finite() && whole.abs() < 1e30 && (low..=high).contains(&(whole as i128));
            prop_assert_eq!(fault == OK, holds, "{} as {}", real, ty);
            if holds {
                prop_assert_eq!(cut, (whole as i128) as i64, "{} as {}", real, ty);
            }
        }
        prop_assert_eq!(k::real_to_int(real, Ty::Bool), (i64::from(real != 0.0), OK));
        prop_assert_eq!(k::wrap(whole, Ty::Bool), i64::from(whole != 0));
    }

    /// A curve passes through its points, is straight between them, and keeps within what is said of it.
    #[test]
    fn curves_go_through_their_points(steps in prop::collection::vec((1u16..500, -900i32..900), 2..9), shares in prop::collection::vec(-0.5f64..1.5, 8), which in 0usize..3) {
        let mut x = -40.0;
        let points: Vec<(f64, f64)> = steps.iter().map(|(step, y)| { x += f64::from(*step); (x, f64::from(*y)) }).collect();
        let outside = [Outside::Hold, Outside::Extend, Outside::Fault][which];
        let curve = Curve::new(points.clone(), outside);
        let (first, last) = (points[0], points[points.len() - 1]);
        for (x, y) in &points {
            prop_assert!((curve.at(*x).unwrap() - y).abs() < 1e-9);
        }
        let spots: Vec<f64> = shares.iter().map(|share| first.0 + share * (last.0 - first.0)).collect();
        for x in &spots {
            let Some(y) = curve.at(*x) else {
                prop_assert!(outside == Outside::Fault && (*x < first.0 || *x > last.0));
                continue;
            };
            let side = points.windows(2).find(|pair| pair[0].0 <= *x && *x <= pair[1].0);
            let expected = match side {
                Some(pair) => pair[0].1 + (x - pair[0].0) / (pair[1].0 - pair[0].0) * (pair[1].1 - pair[0].1),
                None if outside == Outside::Hold => if *x < first.0 { first.1 } else { last.1 },
                None => {
                    let (p, q) = if *x < first.0 { (points[0], points[1]) } else { (points[points.len() - 2], last) };
                    p.1 + (x - p.0) * (q.1 - p.1) / (q.0 - p.0)
                }
            };
            prop_assert!((y - expected).abs() <= 1e-9 * (1.0 + expected.abs()), "{x}: {y}, not {expected}");
        }
        let (low, high) = spots.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), x| (l.min(*x), h.max(*x)));
        let (least, most, whole) = curve.over(low, high);
        for y in spots.iter().filter_map(|x| curve.at(*x)) {
            prop_assert!(least - 1e-9 <= y && y <= most + 1e-9, "{y} is outside of {least} to {most}");
        }
        prop_assert_eq!(whole, curve.at(low).is_some() && curve.at(high).is_some());
        prop_assert_eq!(curve.at(f64::NAN), None);
    }
}

/// Values that no two functions share, from their definitions: a mix-up of any two is seen.
#[test]
fn functions_are_what_their_names_say() {
    use std::f64::consts::{E, FRAC_PI_3, FRAC_PI_6, LN_2, SQRT_2};
    let root3 = 3f64.sqrt();
    let cases: [(&str, f64, f64, f64); 29] = [
        ("fabs", -2.25, 0.0, 2.25),
        ("sqrt", 2.0, 0.0, SQRT_2),
        ("cbrt", -27.0, 0.0, -3.0),
        ("exp", 1.0, 0.0, E),
        ("exp2", -3.0, 0.0, 0.125),
        ("expm1", LN_2, 0.0, 1.0),
        ("log", E * E, 0.0, 2.0),
        ("log2", 0.25, 0.0, -2.0),
        ("log10", 1e4, 0.0, 4.0),
        ("log1p", E - 1.0, 0.0, 1.0),
        ("sin", FRAC_PI_6, 0.0, 0.5),
        ("cos", FRAC_PI_3, 0.0, 0.5),
        ("tan", FRAC_PI_3, 0.0, root3),
        ("asin", 0.5, 0.0, FRAC_PI_6),
        ("acos", 0.5, 0.0, FRAC_PI_3),
        ("atan", root3, 0.0, FRAC_PI_3),
        ("sinh", LN_2, 0.0, 0.75),
        ("cosh", LN_2, 0.0, 1.25),
        ("tanh", LN_2, 0.0, 0.6),
        ("floor", -2.5, 0.0, -3.0),
        ("ceil", -2.5, 0.0, -2.0),
        // Halves away from zero (C11 7.12.9.6), not to the even one.
        ("round", 2.5, 0.0, 3.0),
        ("trunc", -2.75, 0.0, -2.0),
        ("pow", 3.0, 4.0, 81.0),
        ("atan2", 1.0, -1.0, 2.356_194_490_192_345),
        ("fmod", -7.5, 2.0, -1.5),
        ("hypot", 8.0, 15.0, 17.0),
        ("fmin", -1.0, 2.0, -1.0),
        ("fmax", -1.0, 2.0, 2.0),
    ];
    assert_eq!(cases.map(|case| case.0).to_vec(), Func::ALL.iter().map(|(name, ..)| *name).collect::<Vec<_>>());
    for (name, a, b, expected) in cases {
        let (func, ty, arity) = Func::named(name).unwrap();
        assert_eq!((func.name(Ty::F64).as_str(), ty), (name, Ty::F64));
        assert!((k::double(func, a, b) - expected).abs() < 1e-14 * expected.abs().max(1.0), "{name}({a}, {b}) = {}", k::double(func, a, b));
        let single = Func::named(&format!("{name}f")).unwrap();
        assert_eq!((single.0, single.1, single.2, func.name(Ty::F32)), (func, Ty::F32, arity, format!("{name}f")));
        let found = f64::from(k::single(func, a as f32, b as f32));
        assert!((found - expected).abs() < 2e-6 * expected.abs().max(1.0), "{name}f: {found}");
        // Every other function of as many arguments gives something else here, or in `told_apart`.
        for (other, same, of) in Func::ALL {
            if *of == arity && *same != func {
                assert!((k::double(*same, a, b) - expected).abs() > 1e-9 || told_apart(func, *same), "{name} is not told from {other}");
            }
        }
    }
}

/// Functions that agree at one place differ at another.
fn told_apart(one: Func, other: Func) -> bool {
    [(0.3, 0.7), (-0.3, 0.7), (0.9, -1.7), (2.5, 0.5), (1.5, 4.0)].iter().any(|(a, b)| {
        let (p, q) = (k::double(one, *a, *b), k::double(other, *a, *b));
        p.is_nan() != q.is_nan() || (p - q).abs() > 1e-9
    })
}

#[test]
fn operators_stand_as_c_has_them() {
    // C11 6.5.5 to 6.5.14: the tightest first.
    let order = [
        &["*", "/", "%"][..],
        &["+", "-"],
        &["<<", ">>"],
        &["<", ">", "<=", ">="],
        &["==", "!="],
        &["&"],
        &["^"],
        &["|"],
        &["&&"],
        &["||"],
    ];
    let powers: Vec<Vec<u8>> = order.iter().map(|row| row.iter().map(|mark| BinaryOp::of_mark(mark).unwrap().1).collect()).collect();
    assert!(powers.iter().all(|row| row.iter().all(|power| *power == row[0])));
    assert!(powers.windows(2).all(|pair| pair[0][0] > pair[1][0]));
    for mark in order.concat() {
        let op = BinaryOp::of_mark(mark).unwrap().0;
        assert_eq!(op.mark(), mark);
        // C11 6.5.16: these have an assignment.
        assert_eq!(op.assigns(), ["*", "/", "%", "+", "-", "<<", ">>", "&", "^", "|"].contains(&mark), "{mark}");
    }
    assert_eq!((BinaryOp::of_mark("<>"), BinaryOp::of_mark("=")), (None, None));
}

//! The formula language, expression by expression: what comes out, and what is refused.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use proptest::prelude::*;
use yemdo::Columns;
use yemdo::FaultKind;
use yemdo::FrameId;
use yemdo::part::Id;
use yemdo::review::Proof;
use yemdo::{Decoder, Part, Status};
use yemdo::{Number, Ty};

/// The first reading.
fn r() -> yemdo::ReadingId {
    yemdo::ReadingId::new(0)
}

/// A part with a few codes of different types, and one formula over them.
fn part(formula: &str) -> Part {
    let text = format!(
        "part = \"p\"\nallow = [\"no-example\", \"never-used\"]\n[frame.F]\nread = 12\n[frame.F.code]\n\
         a = \"signed b0\"\nb = \"b1\"\nw = \"signed b2 b3\"\nl = \"b4..b7\"\nd = \"float b8..b11\"\n\
         [register.SET]\nat = 1\nreset = 2\n[register.SET.field.GAIN]\nbits = \"[1:0]\"\n\
         values = [{{ code = 1, times = 2, factor = 0.5 }}, {{ code = 2, times = 4, factor = 0.25 }}]\n\
         [parameter.zero]\ndefault = 1.5\nrange = [-10, 10]\n\
         [table.CURVE]\npoints = [[0, 0], [10, 100], [20, 110]]\noutside = \"fault\"\n\
         [table.HOLD]\npoints = [[0, 0], [10, 100]]\noutside = \"hold\"\n\
         [table.LINE]\npoints = [[0, 5], [10, 25]]\noutside = \"extend\"\n\
         [shared.half]\nformula = \"w / 2\"\n\
         [reading.r]\nunit = \"1\"\nformula = '''\n{formula}'''\n"
    );
    Part::parse("p", &text).unwrap_or_else(|error| panic!("{error}"))
}

/// a = -3, b = 200, w = 1000, l = 0xFFFFFFF0, d = 2.5.
const FRAME: [u8; 12] = [0xFD, 200, 0x03, 0xE8, 0xFF, 0xFF, 0xFF, 0xF0, 0x40, 0x20, 0, 0];

/// The formula's value with its type, or its fault.
fn value(formula: &str) -> Result<Number, FaultKind> {
    let part = part(formula);
    let mut decoder = Decoder::new(&part);
    let decoded = decoder.decode(FrameId::new(0), &FRAME).unwrap();
    if let Some(fault) = &decoded.readings[0].fault {
        return Err(fault.kind);
    }
    let steps = decoder.steps(FrameId::new(0), &FRAME).unwrap();
    Ok(steps.readings.last().unwrap().lines.last().unwrap().value.unwrap())
}

#[test]
fn expressions_give_what_c_gives() {
    let int = |value: i128| Ok(Number::Int(value, Ty::I32));
    let unsigned = |value: i128| Ok(Number::Int(value, Ty::U32));
    let long = |value: i128| Ok(Number::Int(value, Ty::I64));
    let real = |value: f64| Ok(Number::Real(value, Ty::F64));
    let single = |value: f32| Ok(Number::Real(f64::from(value), Ty::F32));
    let fault = |kind: FaultKind| Err(kind);
    let cases = [
        // precedence and association
        ("b + 2 * 3", int(206)),
        ("(b + 2) * 3", int(606)),
        ("b - 10 - 5", int(185)),
        ("b / 10 / 3", int(6)),
        ("b << 1 + 1", int(800)),
        ("b & 0xF0 == 0xC0", int(0)),
        ("(b & 0xF0) == 0xC0", int(1)),
        ("b | 0x1 ^ 0x3 & a", int(200)),
        ("a < 0 == 1", int(1)),
        ("b ? a ? 1 : 2 : 3", int(1)),
        ("-a * -a", int(9)),
        ("!a + !0 + b * 0", int(1)),
        ("~b", int(-201)),
        ("- -a", int(-3)),
        // division cuts towards zero, and so the remainder has the sign of the dividend
        ("a / 2", int(-1)),
        ("a % 2", int(-1)),
        ("w % -7", int(6)),
        // types of operands and results
        ("l + 1", unsigned(0xFFFF_FFF1)),
        ("l + 0x10", unsigned(0)),
        ("l * 2ll", long(0x1_FFFF_FFE0)),
        ("a < l", int(0)),
        ("a < 1u", int(0)),
        ("(uint8_t)(b + 100)", Ok(Number::Int(44, Ty::U8))),
        ("(int8_t)b", Ok(Number::Int(-56, Ty::I8))),
        ("(int16_t)l", Ok(Number::Int(-16, Ty::I16))),
        ("(uint16_t)a", Ok(Number::Int(65533, Ty::U16))),
        ("(bool)d + (bool)(a + 3)", int(1)),
        ("(int64_t)w * w * w", long(1_000_000_000)),
        ("(unsigned long long)a", Ok(Number::Int(i128::from(u64::MAX) - 2, Ty::U64))),
        ("b / 16.0", real(12.5)),
        ("b / 16.0f", single(12.5)),
        ("d * 2", single(5.0)),
        ("d * 2.0", real(5.0)),
        ("(int)d", int(2)),
        ("(int)-d", int(-2)),
        ("w * 0.1f", single(1000.0 * 0.1)),
        ("010 + b * 0", int(8)),
        ("0b101 + b * 0", int(5)),
        (".5 + b", real(200.5)),
        ("1e3 + b", real(1200.0)),
        ("M_PI * b / b", real(std::f64::consts::PI)),
        // shifts
        ("a >> 1", int(-2)),
        ("a << 4", int(-48)),
        ("l >> 28", unsigned(15)),
        ("1 << 31", fault(FaultKind::Overflow)),
        ("b << 32", fault(FaultKind::ShiftRange)),
        ("b >> -1", fault(FaultKind::ShiftRange)),
        ("1u << 31 | b * 0", unsigned(0x8000_0000)),
        // faults
        ("w * w * w * w", fault(FaultKind::Overflow)),
        ("(int)l + 2147483647 + w", fault(FaultKind::Overflow)),
        ("w / (b - 200)", fault(FaultKind::DivisionByZero)),
        ("w % (b - 200)", fault(FaultKind::DivisionByZero)),
        ("w / (d - 2.5)", fault(FaultKind::DivisionByZero)),
        ("(uint8_t)(d * 1000)", fault(FaultKind::DoesNotFit)),
        ("(unsigned)-d", fault(FaultKind::DoesNotFit)),
        ("sqrt(a)", fault(FaultKind::NotFinite)),
        ("exp(b * 10)", fault(FaultKind::NotFinite)),
        ("-2147483647 - 1 - b", fault(FaultKind::Overflow)),
        // what is not taken cannot fault
        ("b == 200 ? 1 : w / (b - 200)", int(1)),
        ("b != 200 && w / (b - 200)", int(0)),
        ("b == 200 || w / (b - 200)", int(1)),
        // functions
        ("abs(a) + abs(w)", int(1003)),
        ("llabs(a)", long(3)),
        ("fabs(a)", real(3.0)),
        ("fabsf(d)", single(2.5)),
        ("pow(2, b / 20)", real(1024.0)),
        ("fmod(w, 7)", real(6.0)),
        ("floor(-d) + ceil(d) + round(d) + trunc(-d)", real(-3.0 + 3.0 + 3.0 - 2.0)),
        ("hypot(3, 4) + b * 0", real(5.0)),
        ("fmin(w, b) + fmax(w, b)", real(1200.0)),
        ("log10(w) + 0 * b", real(3.0)),
        // what comes from elsewhere
        ("b * GAIN.times", int(800)),
        ("b * GAIN.factor", real(50.0)),
        ("b * GAIN", int(400)),
        ("b + zero", real(201.5)),
        ("half + 1", int(501)),
        ("CURVE(b / 40.0)", real(50.0)),
        ("CURVE(b / 10.0)", real(110.0)),
        ("CURVE(b)", fault(FaultKind::NoValue)),
        ("HOLD(b) + HOLD(a)", real(100.0)),
        ("LINE(b) + LINE(a)", real(405.0 - 1.0)),
        // statements
        ("int x = a; x += 10; x *= 2; return x;", int(14)),
        ("int x, y = 2; x = y; { int z = x + b; x = z; } return x;", int(202)),
        ("uint8_t x = b; x += 100; return x;", Ok(Number::Int(44, Ty::U8))),
        ("const int x = b; if (x > 100) return 1; else return 2;", int(1)),
        ("int x; if (a > 0) { x = 1; } else if (b > 100) { x = 2; } else { x = 3; } return x;", int(2)),
        ("if (a < 0) { if (b < 0) { return 1; } } else { return 2; } return 3 + w * 0;", int(3)),
        (
            "int x = b; x++; x--; x <<= 2; x >>= 1; x |= 1; x &= ~2; x ^= w; x %= 100; return x;",
            int(((((200 << 2) >> 1) | 1) & !2 ^ 1000) % 100),
        ),
        ("float x = b; x /= 3; return x;", single(200.0 / 3.0)),
        ("if (a < 0) return 1; return 2.5;", real(1.0)),
        ("/* before */ int x = b; // behind\n return x /* inside */ + 1;", int(201)),
    ];
    for (formula, expected) in cases {
        // A formula needs a code; those that have none here are given one that changes nothing.
        let formula = if formula == "1 << 31" { "1 << (31 + b * 0)" } else { formula };
        assert_eq!(value(formula), expected, "{formula}");
    }
}

#[test]
fn what_can_go_wrong_is_known_before_anything_runs() {
    let proof = |formula: &str| yemdo::review::predict(&part(formula), r()).unwrap();
    for proved in [
        "w * 30000 + b",
        "(int64_t)w * w * w",
        "w / (b + 1)",
        "b > 0 ? w / b : 0",
        "b == 0 ? 0 : w % b",
        "if (b == 0) return 0; return w / b;",
        "if (b < 1) { return 0; } else { return w / b; }",
        "if (a > 0 && b > 0) return w / b; return 0;",
        "!b || a ? 0 : w / b",
        "w >> (b & 15)",
        "int x = w; if (x < 0) x = -x; return x;",
        "int x = w; if (x < 100) { x = 100; } return 1000000 / x;",
        "HOLD(w) + LINE(b)",
        "b < 20 ? CURVE(b) : 0",
        "sqrt(fabs(w)) / (1.0 + b)",
        "(uint8_t)(b / 2.0)",
        "w * GAIN.times",
        "w / zero / zero * 0 + 1 / (zero + 20)",
    ] {
        // Division by a real that may be zero is in doubt, whatever else is not.
        let outcome = proof(proved);
        let doubted = proved.contains("/ zero /");
        assert_eq!(outcome.proof == Proof::Proved, !doubted, "{proved}: {outcome:?}");
    }
    let failing: [(&str, FaultKind); 7] = [
        ("w * w * b", FaultKind::Overflow),
        ("w / (b - 7) + a", FaultKind::DivisionByZero),
        ("if (b > 1) return 0; return w / b;", FaultKind::DivisionByZero),
        ("w << b", FaultKind::ShiftRange),
        ("(uint8_t)(w * 0.5 + b)", FaultKind::DoesNotFit),
        ("CURVE(w) + b", FaultKind::NoValue),
        ("log(b + 0 * w)", FaultKind::NotFinite),
    ];
    for (formula, kind) in failing {
        let part = part(formula);
        let outcome = yemdo::review::predict(&part, r()).unwrap();
        assert!(matches!(outcome.proof, Proof::Doubted(..)), "{formula}: {outcome:?}");
        let fault = outcome.faults.iter().find(|fault| fault.kind == kind).unwrap_or_else(|| panic!("{formula}: {outcome:?}"));
        // The example is no guess: decoding it fails in just this way.
        let of = |name: &str| fault.codes.iter().find(|(known, _)| known == name).map_or(0, |(_, code)| *code);
        let (w, b, a) = (of("w") as i16, of("b") as u8, of("a") as i8);
        let [high, low] = w.to_be_bytes();
        let frame = [a as u8, b, high, low, 0, 0, 0, 0, 0, 0, 0, 0];
        let decoded = Decoder::new(&part).decode(FrameId::new(0), &frame).unwrap();
        assert_eq!(decoded.readings[0].fault.as_ref().map(|fault| fault.kind), Some(kind), "{formula} with {:?}", fault.codes);
    }
}

#[test]
fn a_parameter_keeps_to_its_range_and_a_setting_to_its_table() {
    let part = part("b * GAIN.times + zero");
    let mut decoder = Decoder::new(&part);
    let zero = part.parameter("zero").unwrap();
    assert_eq!(decoder.set_parameter(zero, 11.0).unwrap_err().range, (-10.0, 10.0));
    assert!(decoder.set_parameter(zero, f64::NAN).is_err());
    decoder.set_parameter(zero, -1.0).unwrap();
    assert_eq!(decoder.decode(FrameId::new(0), &FRAME).unwrap().readings[0].value, Some(799.0));
    decoder.state_mut().set_field(part.fields().first().unwrap(), 3);
    let reading = &decoder.decode(FrameId::new(0), &FRAME).unwrap().readings[0];
    assert_eq!((reading.status, reading.fault.as_ref().map(|fault| fault.kind)), (Status::FormulaFault, Some(FaultKind::NoValue)));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(std::env::var("PROPTEST_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(60)))]

    /// One frame alone and the same among many give the same, whatever the bytes; and nothing leaves its bounds.
    #[test]
    fn columns_are_frames_side_by_side(bytes in prop::collection::vec(any::<u8>(), 12 * 3..=12 * 40), which in 0usize..6) {
        let formula = [
            "w * 30000 + b", "if (b == 0) return 0; return w / b;", "d * l / GAIN.factor", "CURVE(b) + half",
            "(int8_t)(w >> (b & 7)) * a", "int x = w; if (x < a) { x = b; } return x * x * x;",
        ][which];
        let part = part(formula);
        let bytes = &bytes[..bytes.len() / 12 * 12];
        let mut many = Columns::new();
        Decoder::new(&part).decode_many(FrameId::new(0), bytes, &mut many).unwrap();
        let mut single = Decoder::new(&part);
        let extent = yemdo::review::predict(&part, r()).unwrap().extent.unwrap();
        for (index, frame) in bytes.chunks_exact(12).enumerate() {
            let reading = &single.decode(FrameId::new(0), frame).unwrap().readings[0];
            prop_assert_eq!(reading.status, many.status(0, index));
            prop_assert_eq!(reading.value.unwrap_or(f64::NAN).to_bits(), many.values(0)[index].to_bits());
            if let Some(value) = reading.value {
                prop_assert!((extent.low..=extent.high).contains(&value), "{} outside {:?}", value, extent);
            }
        }
    }
}

//! What a sheet gives, and what its mistakes are answered with.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use proptest::prelude::*;
use yemdo::Columns;
use yemdo::FrameId;
use yemdo::part::Id;
use yemdo::{Decoder, Part, Refusal, Severity, Status};

const AIR: &str = include_str!("../../sheets/strake-20.toml");
const FROST: &str = include_str!("../../sheets/thole-9.toml");

/// A small sheet whose one formula, layout and so on can be exchanged.
fn sheet(layout: &str, formula: &str) -> String {
    format!(
        "part = \"lamp-1\"\n[frame.LIGHT]\nread = 4\n[frame.LIGHT.code]\nlight = \"{layout}\"\ndark = \"b3\"\n\
         [reading.light]\nunit = \"lx\"\nformula = '''{formula}'''\n"
    )
}

/// The first error: its name, the underlined text, and message with all help.
fn first_error(text: &str) -> (&'static str, String, String) {
    let error = Part::parse("lamp.toml", text).expect_err(text);
    let first = error.diagnostics().iter().find(|d| d.severity == Severity::Error).unwrap();
    let words = format!("{} | {} | {}", first.message, first.label, first.help.join(" | "));
    (first.name, error.source_text().slice(first.span).to_owned(), words)
}

#[test]
fn errors_point_at_the_text_and_say_what_to_do() {
    let f = |formula: &str| sheet("b0 b1", formula);
    let l = |layout: &str| sheet(layout, "light");
    let whole = |text: &str| text.to_owned();
    let r = |register: &str| format!("part = \"x\"\nregister.R = {{ {register} }}\n");
    let two = |rest: &str| {
        format!(
            "part = \"x\"\nframe.A = {{ read = 1, code = {{ c = \"b0\" }} }}\nframe.B = {{ read = 1, code = {{ c = \"b0\" }} }}\n{rest}\n"
        )
    };
    let cases: &[(String, &str, &str, &str)] = &[
        // keys and values
        (whole("part = 5"), "wrong-type", "5", "expected text in quotes, found a whole number"),
        (whole("part = \"x\"\nprat = \"y\""), "unknown-key", "prat", "did you mean `part`?"),
        (whole("part = \"x"), "toml", "", "not TOML"),
        (whole(""), "missing-key", "", "`part` is needed here"),
        (whole("part = \"x\"\n[i2c]\naddress = 0x58\nadress = 1"), "unknown-key", "adress", "did you mean `address`?"),
        (whole("part = \"x\"\n[i2c]\naddress = 0xB0"), "eight-bit-address", "0xB0", "\"0xB0 8-bit\", or 0x58"),
        (whole("part = \"x\"\n[frame.A]\nread = 0\ncode = { x = \"b0\" }"), "out-of-range", "0", "1 to 4096"),
        (whole("part = \"x\"\n[frame.A]\nread = 1\ncode = { \"2x\" = \"b0\" }"), "bad-name", "\"2x\"", "write `_2x`"),
        // registers and fields
        (r("at = 1, reset = 0x1FF"), "too-wide", "0x1FF", "at most 0xFF"),
        (r("at = 1, width = 12"), "bad-width", "12", "whole bytes"),
        (r("at = 0x10000"), "out-of-range", "0x10000", "0 to 65535"),
        (r("at = 1, field.A = { bits = \"[8:7]\" }"), "bit-outside-byte", "[8:7]", "7 to 0"),
        (r("at = 1, field.A = { bits = \"[3:7]\" }"), "bits-reversed", "[3:7]", "write [7:3]"),
        (r("at = 1, field = { A = { bits = \"[7:4]\" }, B = { bits = \"[4]\" } }"), "fields-overlap", "B", "share bits"),
        (r("at = 1, field.A = { bits = \"[7:4]\" }, reserved = { bits = \"[4:0]\" }"), "fields-overlap", "\"[4:0]\"", "share bits"),
        (r("at = 1, field.A = { bits = \"[6:5]\", values = [{ code = 4 }] }"), "out-of-range", "4", "0 to 3"),
        (r("at = 1, field.A = { bits = \"[6:5]\", values = [{ code = 1 }, { code = 1 }] }"), "code-taken", "1", "two rows"),
        (r("at = 1, access = \"readonly\""), "unknown-word", "\"readonly\"", "did you mean `read-only`?"),
        (r("at = 1, bank = { PGAE = 1 }, field.PAGE = { bits = \"[0]\" }"), "unknown-name", "PGAE", "did you mean `PAGE`?"),
        (r("at = 1") + "field.X = { bits = \"S[3:0]\" }\n", "bad-slice", "S[3:0]", "did you mean `R`?"),
        (r("at = 1") + "frame.F = { registers = \"R..Q\" }\n", "unknown-name", "Q", "not a register"),
        // frames
        (whole("part = \"x\"\nframe.A = { read = 2, registers = \"R\", code = { x = \"b0\" } }"), "frame-source", "A", "one of `read`"),
        (whole("part = \"x\"\nframe.A = { code = { x = \"b0\" } }"), "frame-source", "A", "says nothing"),
        (l("3 x b0 b1"), "byte-outside-frame", "\"3 x b0 b1\"", "reaches to b5"),
        (l("9999 x b0"), "bad-array", "9999", "1 to 1024"),
        (l("w2"), "byte-outside-frame", "w2", "2 words: w0 to w1"),
        (l("float b0 b1 b2"), "bad-width", "\"float b0 b1 b2\"", "16, 32 or 64 bits"),
        (l("q7.9 b0 b1"), "bad-width", "\"q7.9 b0 b1\"", "bits before and behind the point"),
        (
            AIR.replace("crc = { width = 8, poly = 0x4D, init = 0x5A }", "crc = \"CRC-8/SMBIS\""),
            "unknown-word",
            "\"CRC-8/SMBIS\"",
            "did you mean `CRC-8/SMBUS`?",
        ),
        (AIR.replace("over = \"b0..b5\"", "over = \"2 x b0\""), "bad-array", "\"b6\"", "2 pieces are covered"),
        (
            whole("part = \"x\"\n[modbus]\nnumbering = \"40001\"\n[frame.A]\nholding = 30001\ncode = { x = \"w0\" }"),
            "bad-address",
            "30001",
            "40001 to 49999",
        ),
        (
            whole("part = \"x\"\n[modbus]\nnumbering = \"40001\"\n[frame.A]\nholding = \"40001..40200\"\ncode = { x = \"w0\" }"),
            "bad-address",
            "\"40001..40200\"",
            "at most 125",
        ),
        (whole("part = \"x\"\n[frame.A]\nholding = 40001\ncode = { x = \"w0\" }"), "missing-key", "40001", "no [modbus]"),
        // addresses
        (whole("part = \"x\"\ni2c.address = \"0xB1 8-bit\""), "bad-address", "\"0xB1 8-bit\"", "0xB0 8-bit"),
        (whole("part = \"x\"\ni2c.address = \"forty\""), "bad-address", "\"forty\"", "expected 0x2C"),
        (whole("part = \"x\"\ni2c.address = 0x200"), "bad-address", "0x200", "0x08 to 0x77"),
        (whole("part = \"x\"\nallow = [\"no-exampel\"]"), "unknown-word", "\"no-exampel\"", "did you mean `no-example`?"),
        // values that come from elsewhere
        (whole("part = \"x\"\ntable.T = { points = [[1, 2], [1, 3]], outside = \"hold\" }"), "bad-point", "[1, 3]", "x does not rise"),
        (whole("part = \"x\"\nparameter.P = { default = 5, range = [0, 1] }"), "out-of-range", "5", "outside the range"),
        (two("reading.r = { unit = \"K\", formula = \"c\" }"), "unusable-name", "c", "write A.c or B.c"),
        (two("reading.r = { unit = \"K\", formula = \"A.c + B.x\" }"), "unknown-name", "B.x", "not known"),
        (two("reading.r = { unit = \"K\", formula = \"A.c\" }\nshared.r = { formula = \"B.c\" }"), "name-taken", "r", "two values"),
        (
            whole(
                "part = \"x\"\ni2c.address = 0x2B\nregister.R = { at = 1 }\nregister.S = { at = 2 }\nfield.F = { bits = \"R[1:0] S[7:4]\" }\n\
                 frame.A = { registers = \"S\", code = { c = \"b0\" } }\nreading.r = { unit = \"V\", formula = \"c * F\" }",
            ),
            "field-in-part",
            "A",
            "it has `S`, not `R`",
        ),
        // layouts
        (l("singed b0 b1"), "unknown-form", "singed", "did you mean `signed`?"),
        (l("b0 b4"), "byte-outside-frame", "b4", "4 bytes: b0 to b3"),
        (l("b0 b1[8:2]"), "bit-outside-byte", "[8:2]", "7 to 0"),
        (l("b0 b1[2:7]"), "bits-reversed", "[2:7]", "write [7:2]"),
        (l("b0 1"), "bad-slice", "1", "expected b0"),
        (l(""), "empty-layout", "\"\"", "at least one byte"),
        (l("b0..b3 b0..b3 b0"), "bad-width", "\"b0..b3 b0..b3 b0\"", "not 72 bits"),
        (l(&"b0 ".repeat(300)), "too-many-slices", &format!("\"{}\"", "b0 ".repeat(300)), "at most 256"),
        // names, types and syntax inside formulas
        (f("lihgt * 2"), "unknown-name", "lihgt", "did you mean `light`?"),
        (f("light * 2^16"), "power-is-xor", "2^16", "write 65536 or (1 << 16)"),
        // names, times and steps that mean something else
        (AIR.replace("poly = 0x4D", "poly = 0"), "out-of-range", "0", "polynomial 0 checks nothing"),
        (f("light").replace("dark = ", "int = "), "bad-name", "int", "a word of C"),
        (f("light") + "[parameter.dark]\ndefault = 1\n", "name-taken", "dark", "formulas would take the code"),
        (r("at = 1") + "routine.r = [{ wait = \"1 h\" }]\n", "bad-time", "\"1 h\"", "60 min"),
        (r("at = 1") + "i2c.address = 0x2B\nroutine.r = [{ set = {} }]\n", "step-action", "{ set = {} }", "names no field"),
        (
            r("at = 1, field.F = { bits = \"[7:0]\", values = [{ code = 0, name = \"x\" }, { code = 1, name = \"x\" }] }"),
            "name-taken",
            "\"x\"",
            "the value `x` has two codes",
        ),
        (
            r("at = 1, field.F = { bits = \"[7:0]\", computed = \"3\" }") + "i2c.address = 0x2B\nroutine.r = [{ set = { F = 9 } }]\n",
            "not-writable",
            "F",
            "computed from parameters",
        ),
        (
            "part = \"x\"\n[frame.A]\nread = 1\ncode.c = \"b0\"\nreading.r = { unit = \"V\", formula = \"1\" }\n".to_owned(),
            "unknown-key",
            "reading",
            "with a header of its own: [reading.…]",
        ),
        // `^` is judged by the tokens beside it, wherever it stands.
        (f("light*2^16 + dark"), "power-is-xor", "2^16", "(1 << 16)"),
        (f("light * 2^35"), "power-is-xor", "2^35", "34359738368 or (1LL << 35)"),
        (
            f("light / 2^15"),
            "power-is-xor",
            "2^15",
            "`/ 32768.0` keeps the fraction, `/ 32768` drops it, toward zero, and `>> 15` rounds down",
        ),
        (f("3*(light-100)^2/2"), "power-is-xor", ")^2", "pow(x, 2)"),
        (f("2^(8-dark)"), "power-is-xor", "2^(", "1 << n where n is never negative, else pow(2, n)"),
        (f("10^light"), "power-is-xor", "10^light", "pow(10, n)"),
        (f("light * 10^-3"), "power-is-xor", "10^-3", "write 1e-3"),
        (f("light^2"), "power-is-xor", "light^2", "x * x; for XOR, write the number in hex"),
        (f("light^0.5"), "power-is-xor", "light^0.5", "pow(x, y)"),
        (f("light^(3)"), "power-is-xor", "light^(3", "pow(x, 3)"),
        // Types by the names of practice.
        (f("(int32)light"), "unknown-type", "int32", "did you mean `int32_t`?"),
        (f("u16 x = light; return x;"), "unknown-type", "u16", "did you mean `uint16_t`?"),
        (f("s8 x = light; return x;"), "unknown-type", "s8", "did you mean `int8_t`?"),
        (f("uint x = light; return x;"), "unknown-type", "uint", "did you mean `uint32_t`?"),
        (f("if light == 0 { return 1; } return 2;"), "syntax", "light", "if (x == 0)"),
        (f("light * 1.5 ^ 2.0"), "power-is-xor", "1.5 ^ 2.0", "pow(x, y)"),
        (f("light % 1.5"), "integers-only", "%", "fmod"),
        (f("sqr(light)"), "unknown-function", "sqr", "did you mean `sqrt`?"),
        (f("pow(light)"), "argument-count", "pow(light)", "takes 2 arguments, not 1"),
        (f("light * "), "syntax", "", "expected a value, found the end of the formula"),
        (f("(light"), "syntax", "", "expected `)`"),
        (f("light = 2; return 1;"), "unknown-name", "light", "comes from outside"),
        (f("int x = light; x = x + 1;"), "no-return", "", "end with `return x;`"),
        (f("int x; if (light) x = 1; return x;"), "no-value-yet", "x", "before it has a value"),
        (f("int x = 1; int x = 2; return x;"), "declared-twice", "x", "declared twice"),
        (f("return light; return 2;"), "unreachable", "2", "never reached"),
        (f("for (;;) {}"), "not-in-formulas", "for", "write the steps out"),
        (f("*light"), "not-in-formulas", "*", "pointers"),
        (f("light ** 2"), "not-in-formulas", "**", "pow(x, y)"),
        (f("uint9_t x = 1; return x;"), "syntax", "x", "an operator or the end"),
        (f("unsigned float x = 1; return x;"), "unknown-type", "unsigned float", "types are"),
        (f("char c = 1; return c;"), "unknown-type", "char", "int8_t or uint8_t"),
        (f("light × 2"), "bad-token", "×", "in C this is `*`"),
        (f("0x1G"), "bad-number", "0x1G", "suffixes"),
        (f("089"), "bad-number", "089", "octal"),
        (f("1 + /* light"), "bad-token", "/*", "no end"),
        (f("12.5"), "no-code", "'''12.5'''", "uses no code"),
        (f("light.gain"), "unknown-name", "light.gain", "not known"),
        // checks
        (AIR.replace("0x4D", "0x14D"), "too-wide", "0x14D", "write 0x4D"),
        (AIR.replace("b0..b5\"", "b0..b6\""), "check-covers-itself", "\"b0..b6\"", "own value"),
        (AIR.replace("in = \"b6\"", "in = \"b5 b6\""), "bad-width", "\"b5 b6\"", "its place has 16"),
        // status and examples
        (AIR.replace("is = \"saturated\"", "is = \"saturate\""), "unknown-word", "\"saturate\"", "did you mean `saturated`?"),
        (AIR.replace("humidity == 0x3FFF", "humidty == 0x3FFF"), "unknown-name", "humidty", "did you mean `humidity`?"),
        (AIR.replace("\"12.50 °C\"", "\"12.50 °F\""), "unit-differs", "\"12.50 °F\"", "write \"12.50 °C\""),
        (AIR.replace("AIR    = \"89", "AIR    = \"8z"), "bad-hex", "8z", "not hex"),
    ];
    for (text, name, underlined, says) in cases {
        let (found_name, found_text, words) = first_error(text);
        assert_eq!((found_name, found_text.as_str()), (*name, *underlined), "{words}\n{text}");
        assert!(words.contains(says), "expected `{says}` in: {words}");
    }
}

#[test]
fn places_are_exact_in_every_kind_of_toml_string() {
    // An escape, a dropped first newline and a multi-byte character before the place all shift it.
    for formula in [
        "\"\\u0020\\tlihgt * 2\"",
        "\"\"\"\n  1.0 /* µ° */ * lihgt\"\"\"",
        "'lihgt'",
        "'''\n\n1 +\n lihgt'''",
        "\"\"\"1 + \\\n   lihgt\"\"\"",
    ] {
        let text = format!(
            "part = \"p\"\nframe.A = {{ read = 1, code = {{ light = \"b0\" }} }}\nreading.r = {{ unit = \"lx\", formula = {formula} }}\n"
        );
        assert_eq!(first_error(&text).1, "lihgt", "{formula}");
    }
}

#[test]
fn several_errors_come_at_once_in_the_order_of_the_text() {
    let text = AIR.replace("b0 b1[7:4]", "b9 b1[7:4]").replace("b3[5:0] b4", "b3[5:0] b55");
    let error = Part::parse("air.toml", &text).unwrap_err();
    let names: Vec<&str> = error.diagnostics().iter().map(|d| error.source_text().slice(d.span)).collect();
    assert_eq!(names, ["b9", "b55"]);
}

/// Every formula tells its own mistake in one run; what uses a wrong one tells nothing.
#[test]
fn one_run_tells_all_that_is_wrong_with_formulas() {
    let text = "part = \"p\"\nframe.A = { read = 1, code = { c = \"b0\" } }\n[reading]\n\
        one = { unit = \"K\", formula = \"lihgt * 5\" }\ntwo = { unit = \"K\", formula = \"c / 2^16\" }\n\
        three = { unit = \"K\", formula = \"two * 2 + one\" }\nfour = { unit = \"K\", formula = \"(1 + \" }\n";
    let error = Part::parse("p", text).unwrap_err();
    let names: Vec<&str> = error.diagnostics().iter().map(|d| d.name).collect();
    assert_eq!(names, ["unknown-name", "power-is-xor", "syntax"]);
}

/// A fraction that a division of integers drops is told wherever the value goes on as a real, or is shown.
#[test]
fn lost_fractions_are_told_wherever_they_go() {
    let told = |formula: &str, shared: &str| {
        let text = format!(
            "part = \"p\"\nframe.A = {{ read = 2, code = {{ c = \"b0\", k = \"b1\" }} }}\nshared.s = {{ formula = \"{shared}\" }}\n\
             reading.r = {{ unit = \"K\", formula = '''{formula}''' }}\n"
        );
        let part = Part::parse("p", &text).unwrap_or_else(|error| panic!("{error}"));
        let found = yemdo::review::warnings(&part).into_iter().filter(|warning| warning.name == "integer-division");
        found.map(|warning| (text[warning.span.start..warning.span.end].to_owned(), warning.help[0].clone())).collect::<Vec<_>>()
    };
    let number = |n: u32| format!("to keep the fraction, write {n}.0 in place of {n}");
    let name = || "to keep the fraction, make one side real: (double)x / y".to_owned();
    for (formula, division, help) in [
        ("-20 + 150*c/4096", "150*c/4096", number(4096)),
        ("c / 64", "c / 64", number(64)),
        ("0.5 * (3 * (c / k) - 1)", "(c / k)", name()),
        ("int32_t p = c * k; return p / 64;", "p / 64", number(64)),
        ("int32_t p = c / 64; p *= 3; return p * 0.5;", "c / 64", number(64)),
        ("double p = c / 64; return p;", "c / 64", number(64)),
        ("int32_t p = c; p /= 64; return p * 0.5;", "p /= 64", number(64)),
        ("sqrt(-(c / 64))", "(c / 64)", number(64)),
        ("(double)(c / 64)", "(c / 64)", number(64)),
        ("c > 3 ? c / 64 : 1.5", "c / 64", number(64)),
    ] {
        assert_eq!(told(formula, "c + 1"), [(division.to_owned(), help)], "{formula}");
    }
    // Through a shared value, told once however often it is used.
    assert_eq!(told("s * 0.5 + s * 0.25", "c / 10"), [("c / 10".to_owned(), number(10))]);
    // A cast to an integer, a shift or a comparison says that integers are meant.
    for formula in
        ["(int32_t)(c / 64) / 100.0", "((c / 64) >> 2) * 0.5", "(c / 64 > 2) * 0.5", "c / 64.0", "(c % 64) * 0.5", "c / 64.0 + k"]
    {
        assert_eq!(told(formula, "c + 1"), [], "{formula}");
    }
}

#[test]
fn junk_is_refused_quickly() {
    let deep = format!("{}light{}", "(".repeat(100_000), ")".repeat(100_000));
    assert_eq!(first_error(&sheet("b0", &deep)).0, "formula-too-long");
    assert_eq!(first_error(&sheet("b0", &format!("{}light{}", "(".repeat(5000), ")".repeat(5000)))).0, "formula-too-deep");
    assert_eq!(first_error(&sheet("b0", &vec!["light"; 5000].join("+"))).0, "formula-too-deep");
    assert_eq!(first_error(&sheet("b0", &format!("{}light", "- ".repeat(5000)))).0, "formula-too-deep");
    assert_eq!(first_error(&sheet("b0", &format!("{}return 1;", "if (light) ".repeat(2500)))).0, "formula-too-deep");
    assert_eq!(first_error(&format!("part = \"{}\"", "x".repeat(10_000_000))).0, "sheet-too-large");
    assert_eq!(first_error(&format!("a = {}", "[".repeat(50_000))).0, "toml");
    assert_eq!(first_error(&format!("part = \"x\"\n{}", "a.".repeat(5000) + "a = 1")).0, "toml");
}

#[test]
fn readings_use_readings_but_not_in_a_circle() {
    let text = "part = \"p\"\nframe.A = { read = 1, code = { c = \"b0\" } }\n\
        reading.second = { unit = \"K\", formula = \"first + 1\" }\nreading.first = { unit = \"K\", formula = \"100 / (c - 7)\" }\n";
    let part = Part::parse("p.toml", text).unwrap();
    let mut decoder = Decoder::new(&part);
    let good = decoder.decode(FrameId::new(0), &[12]).unwrap();
    assert_eq!((good.readings[0].value, good.readings[1].value), (Some(21.0), Some(20.0)));
    let bad = decoder.decode(FrameId::new(0), &[7]).unwrap();
    assert_eq!(bad.readings.iter().map(|r| r.status).collect::<Vec<_>>(), [Status::FormulaFault; 2]);
    assert_eq!(bad.readings[1].fault.clone().unwrap().to_string(), "division by zero in line 4 of the sheet: 100 / (7 - 7)");
    assert_eq!(bad.readings[0].fault.clone().unwrap().to_string(), "a value it needs is at fault: first");
    let circle = text.replace("c - 7", "c - second");
    assert_eq!(first_error(&circle).0, "cycle");
}

/// Part, frame, and what comes out: value and status of each reading.
type Vector = (&'static str, &'static str, &'static [(Option<f64>, Status)]);

const VECTORS: &[Vector] = &[
    (AIR, "89 87 1C 3E 0C 12 24", &[(Some(12.5), Status::Ok), (Some(47.24), Status::Ok), (Some(3.3), Status::Ok)]),
    (AIR, "89 8F FF F8 E0 22 56", &[(Some(-7.36), Status::Ok), (Some(120.064), Status::Saturated), (Some(3.3), Status::Ok)]),
    (AIR, "B8 06 D6 00 01 31 B6", &[(None, Status::NotReady), (None, Status::NotReady), (None, Status::NotReady)]),
    (AIR, "89 87 1C 20 00 42 AE", &[(None, Status::Invalid), (Some(47.24), Status::Ok), (Some(3.3), Status::Ok)]),
    (FROST, "FC 7E 85", &[(Some(-4.5), Status::Alert)]),
    (FROST, "10 AC 43", &[(Some(21.34), Status::Ok)]),
    (FROST, "7F FC 84", &[(Some(163.82), Status::Saturated)]),
    (FROST, "27 00 D8", &[(Some(49.92), Status::Ok)]),
    (FROST, "7F 00 80", &[(Some(162.56), Status::OutOfRange)]),
];

#[test]
fn frames_give_what_the_datasheet_says_alone_and_in_columns() {
    for (sheet, hex, expected) in VECTORS {
        let part = Part::parse("sheet", sheet).unwrap();
        let bytes = yemdo::parse_hex(hex).unwrap();
        let mut decoder = Decoder::new(&part);
        let decoded = decoder.decode(FrameId::new(0), &bytes).unwrap();
        let mut columns = Columns::new();
        decoder.decode_many(FrameId::new(0), &bytes.repeat(1300), &mut columns).unwrap();
        assert_eq!(columns.len(), 1300);
        for (at, (reading, (value, status))) in decoded.readings.iter().zip(*expected).enumerate() {
            assert_eq!(reading.status, *status, "{hex} {}", reading.name);
            assert_eq!(reading.value.is_some(), value.is_some());
            assert!((reading.value.unwrap_or(0.0) - value.unwrap_or(0.0)).abs() < 1e-9, "{hex} {}: {:?}", reading.name, reading.value);
            for lane in [0, 511, 512, 1299] {
                assert_eq!(columns.status(at, lane), *status);
                assert_eq!(columns.values(at)[lane].to_bits(), reading.value.unwrap_or(f64::NAN).to_bits());
            }
        }
    }
}

#[test]
fn damage_is_refused_with_what_was_expected() {
    let part = Part::parse("air", AIR).unwrap();
    let mut decoder = Decoder::new(&part);
    let good = yemdo::parse_hex("89 87 1C 3E 0C 12 24").unwrap();
    for bit in 0..56 {
        let mut bytes = good.clone();
        bytes[bit / 8] ^= 1 << (bit % 8);
        assert!(matches!(decoder.decode(FrameId::new(0), &bytes), Err(Refusal::Check { .. })), "bit {bit}");
    }
    assert_eq!(decoder.decode(FrameId::new(0), &good[..5]).unwrap_err().to_string(), "AIR is too short: expected 7 bytes, got 5");
    assert_eq!(decoder.decode(FrameId::new(0), &good.repeat(2)).unwrap_err().cause(), "too long");
    assert_eq!(decoder.decode(FrameId::new(3), &good).unwrap_err(), Refusal::UnknownFrame);
    let mut columns = Columns::new();
    assert!(decoder.decode_many(FrameId::new(0), &good[..6], &mut columns).is_err());
    let mut mixed = good.repeat(3);
    mixed[8] ^= 4;
    decoder.decode_many(FrameId::new(0), &mixed, &mut columns).unwrap();
    assert_eq!([0, 1, 2].map(|frame| columns.failed_check(frame)), [None, Some(0), None]);
    assert!(columns.values(0)[1].is_nan() && columns.values(0)[2] == 12.5);
}

#[test]
fn outcomes_are_what_trying_every_code_gives() {
    let part = Part::parse("air", AIR).unwrap();
    let temperature = yemdo::review::predict(&part, yemdo::ReadingId::new(0)).unwrap();
    let extent = temperature.extent.unwrap();
    // Code -8192 is "element open", so the lowest that comes out is that of -8191.
    assert_eq!((extent.low, extent.high, extent.exact), (-8191.0 * 0.015 + 20.0, 8191.0 * 0.015 + 20.0, true));
    let (low, high) = temperature.step.unwrap();
    assert!((low - 0.015).abs() < 1e-9 && (high - 0.015).abs() < 1e-9);
    let part = Part::parse("p", &sheet("b0", "1000 / (light - 200)")).unwrap();
    let outcome = yemdo::review::predict(&part, yemdo::ReadingId::new(0)).unwrap();
    assert_eq!(outcome.proof, yemdo::review::Proof::Tried);
    assert_eq!(outcome.faults[0].kind, yemdo::FaultKind::DivisionByZero);
    assert_eq!(outcome.faults[0].codes, [("light".to_owned(), 200)]);
    assert_eq!(outcome.extent.map(|e| (e.low, e.high)), Some((-1000.0, 1000.0)));
    // With the settings after a reset it cannot fail; with another it can.
    let span = "i2c = { address = 0x17 }\n[register.RANGE]\nat = 39\nwidth = 8\naccess = \"read-write\"\nreset = 32\nfield.SPAN = \
                { bits = \"[6:5]\", values = [{ code = 0, newton = 5000 }, { code = 1, newton = 20000 }, { code = 2, newton = 50000 }] }\n";
    let text = format!(
        "part = \"p\"\n{span}[register.PULL]\nat = 51\nwidth = 16\n[frame.F]\nregisters = \"PULL\"\ncode = {{ pull = \"PULL\" }}\n[reading.x]\nunit = \"N\"\nformula = \"pull * SPAN.newton\""
    );
    let outcome = yemdo::review::predict(&Part::parse("p", &text).unwrap(), yemdo::ReadingId::new(0)).unwrap();
    assert_eq!(outcome.faults[0].codes, [("pull".to_owned(), 42_950), ("SPAN".to_owned(), 2)]);
    // Two codes are too many to try: bounds instead.
    let part = Part::parse("p", &sheet("b0 b1", "light * 2 - dark")).unwrap();
    let extent = yemdo::review::predict(&part, yemdo::ReadingId::new(0)).unwrap().extent.unwrap();
    assert_eq!((extent.low, extent.high, extent.exact), (-255.0, 131_070.0, false));
}

#[test]
fn steps_show_every_value_on_the_way() {
    let formula = "int32_t t = light;\nif (t > 10) {\n  t = t - 5; /* cold */\n} else {\n  t = t * 1000000000;\n}\nreturn t * 0.5f;";
    let part = Part::parse("p", &sheet("b0", formula)).unwrap();
    let mut decoder = Decoder::new(&part);
    let steps = decoder.steps(FrameId::new(0), &[20, 0, 0, 0]).unwrap();
    let lines: Vec<String> = steps.readings[0]
        .lines
        .iter()
        .map(|l| format!("{:?} {} | {} = {} {:?}", l.variable, l.typed, l.numbers, l.outcome(), l.hex()))
        .collect();
    let expected = [
        "Some(\"t\") light | 20 = 20 Some(\"0x00000014\")",
        "Some(\"t\") t - 5 | 20 - 5 = 15 Some(\"0x0000000F\")",
        "None t * 0.5f | 15 * 0.5f = 7.5 None",
    ];
    assert_eq!(lines, expected);
    // The branch that is not taken cannot fault; the one that is, does.
    assert_eq!(decoder.decode(FrameId::new(0), &[20, 0, 0, 0]).unwrap().readings[0].value, Some(7.5));
    let fault = decoder.decode(FrameId::new(0), &[9, 0, 0, 0]).unwrap().readings[0].fault.clone().unwrap();
    assert_eq!(fault.to_string(), "overflow in line 13 of the sheet: 9 * 1000000000");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(std::env::var("PROPTEST_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(400)))]

    /// Any bytes in the place of a formula, a layout, or a whole sheet: an answer, never a panic.
    #[test]
    fn nothing_panics(formula in "[-+*/%&|^~<>=!?:;(){}.,a-z0-9 \n'\"×]{0,60}", junk in "\\PC{0,80}") {
        let _ = Part::parse("p", &sheet("b0", &formula.replace("'''", "")));
        let _ = Part::parse("p", &sheet(&junk, "light"));
        let _ = Part::parse("p", &junk);
        if let Err(error) = Part::parse("p", &sheet("b0", &junk)) {
            prop_assert!(!error.to_string().is_empty());
        }
    }
}

#[test]
fn very_many_things_are_refused_quickly() {
    let many = |line: &dyn Fn(usize) -> String, count: usize| format!("part = \"p\"\n{}", (0..count).map(line).collect::<String>());
    let frames = many(&|i| format!("frame.F{i} = {{ read = 4096, code = {{ a{i} = \"1024 x b0\" }} }}\n"), 10_000);
    assert_eq!(first_error(&frames).0, "too-many");
    let registers = many(&|i| format!("register.R{i} = {{ at = {} }}\n", i % 65536), 10_000);
    assert_eq!(first_error(&registers).0, "too-many");
    let frame = "frame.F = { read = 2, code = { c = \"b0 b1\" } }\nreading.r0 = { unit = \"K\", formula = \"c\" }\n";
    let chain = |count: usize| {
        format!(
            "part = \"p\"\n{frame}{}",
            (1..count).map(|i| format!("reading.r{i} = {{ unit = \"K\", formula = \"r{} + 1\" }}\n", i - 1)).collect::<String>()
        )
    };
    assert_eq!(first_error(&chain(2000)).0, "too-many");
    // A chain that is just allowed is worked through in bounded time.
    let part = Part::parse("p", &chain(300)).unwrap();
    assert_eq!(Decoder::new(&part).decode(FrameId::new(0), &[0, 1]).unwrap().readings[299].value, Some(300.0));
    assert_eq!(first_error(&sheet(&"b0..b3 ".repeat(100_000), "light")).0, "too-many-slices");
    let complaints = many(&|i| format!("x{i} = 1\n"), 5000);
    let text = Part::parse("p", &complaints).unwrap_err().to_string();
    assert!(text.ends_with("and 4970 more") && text.len() < 20_000);
}

#[path = "../examples/decode_frame.rs"]
mod decode_frame;

#[test]
fn the_example_runs() {
    decode_frame::main().unwrap();
}

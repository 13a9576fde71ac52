//! Inputs of readings: registers of several frames, the conditions of those frames, missing values.

#![allow(clippy::unwrap_used, clippy::panic, missing_docs)] // tests end where something is wrong

use yemdo::{Decoder, Part};

fn part(text: &str) -> Part {
    Part::parse("p.toml", text).unwrap_or_else(|error| panic!("{error}"))
}

/// Registers have the values of the last read, even if a frame repeats its bytes.
#[test]
fn registers_are_as_they_came_last() {
    let part = part(
        r#"
        part = "spar-7"
        i2c.address = 0x21
        register.A = { at = 0x10, access = "read-only", field.GAIN = { bits = "[7:6]" }, field.REST = { bits = "[5:0]" } }
        register.B = { at = 0x11, access = "read-only", field.B = { bits = "[7:0]" } }
        frame.SHORT = { registers = "A" }
        frame.LONG = { registers = "A B" }
        frame.FORCE = { command = [0xB1], read = 1, code = { force = "b0" } }
        reading.force = { unit = "N", formula = "force * (GAIN + 1)" }
        "#,
    );
    let (short, long, force) = (part.frame("SHORT").unwrap(), part.frame("LONG").unwrap(), part.frame("FORCE").unwrap());
    let mut decoder = Decoder::new(&part);
    let mut told = Vec::new();
    for (frame, bytes) in [(short, vec![0x40]), (long, vec![0xC0, 0]), (short, vec![0x40]), (long, vec![0xC0, 0])] {
        decoder.decode(frame, &bytes).unwrap();
        told.push(decoder.decode(force, &[10]).unwrap().reading("force").unwrap().value);
    }
    assert_eq!(told, [Some(20.0), Some(40.0), Some(20.0), Some(40.0)]);
}

/// The status of a frame applies to all readings that use its codes.
#[test]
fn a_reading_of_several_frames_has_the_conditions_of_all() {
    let part = part(
        r#"
        part = "spar-8"
        i2c.address = 0x21
        frame.A = { command = [0xB1], read = 1, code = { a = "b0" }, status = [{ when = "a == 0", is = "not ready", means = "nothing yet" }, { when = "a > 200", is = "alert" }] }
        frame.B = { command = [0xB2], read = 1, code = { b = "b0" }, status = { when = "b > 200", is = "saturated", means = "at its end" } }
        reading.both = { unit = "N", formula = "a * 1000 + b", status = { when = "b == 7", is = "invalid" } }
        "#,
    );
    let shown = |first: (&str, u8), second: (&str, u8)| {
        let mut decoder = Decoder::new(&part);
        decoder.decode(part.frame(first.0).unwrap(), &[first.1]).unwrap();
        let decoded = decoder.decode(part.frame(second.0).unwrap(), &[second.1]).unwrap();
        decoded.reading("both").unwrap().to_string()
    };
    for (a, b, expected) in [
        (1, 2, "1002 N"),
        (0, 2, "no value: not ready: nothing yet"),
        (0, 7, "no value: not ready: nothing yet"),
        (1, 7, "no value: invalid"),
        (201, 2, "201002 N (alert)"),
        (201, 201, "201201 N (saturated)"),
    ] {
        assert_eq!(shown(("A", a), ("B", b)), expected, "{a} {b}");
        assert_eq!(shown(("B", b), ("A", a)), expected, "{b} {a}");
    }
}

/// A missing input is a fault only in branches that run.
#[test]
fn branches_that_do_not_run_need_no_values() {
    let part = part(
        r#"
        part = "spar-9"
        i2c.address = 0x21
        frame.A = { command = [0xB1], read = 2, code = { a = "b0[7:4]", digits = "bcd b1", few = { layout = "b0[3:0]", range = [0, 9] } } }
        reading.choice = { unit = "N", formula = "a < 8 ? digits : 100" }
        reading.either = { unit = "N", formula = "(a < 8 || few > 3) ? 1 : 0" }
        reading.early = { unit = "N", formula = "if (a < 8) return 5; return digits;" }
        reading.unused = { unit = "N", formula = "int x = digits; return a;" }
        "#,
    );
    let mut decoder = Decoder::new(&part);
    let mut shown = |bytes: &[u8]| {
        let decoded = decoder.decode(part.frame("A").unwrap(), bytes).unwrap();
        decoded.readings.iter().map(|reading| reading.value).collect::<Vec<_>>()
    };
    assert_eq!(shown(&[0x10, 0x42]), [Some(42.0), Some(1.0), Some(5.0), Some(1.0)]);
    assert_eq!(shown(&[0x1A, 0x4F]), [None, Some(1.0), Some(5.0), None]);
    assert_eq!(shown(&[0x9A, 0x4F]), [Some(100.0), None, None, None]);
    assert_eq!(shown(&[0x95, 0x42]), [Some(100.0), Some(1.0), Some(42.0), Some(9.0)]);
}

//! Recordings of a bus are decoded with what went over it: late answers, banks, another unit id, refused writes, frames that are read alike.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use yemdo::record::{LogReader, TRAFFIC_HEADER};
use yemdo::{Decoder, Part};

fn part(text: &str) -> Part {
    Part::parse("p.toml", text).unwrap_or_else(|error| panic!("{error}"))
}

/// The readings of a recording's frames, as they are shown; refused frames with their cause.
fn read(part: &Part, lines: &str) -> Vec<String> {
    let (mut log, mut decoder) = (LogReader::new(part, None), Decoder::new(part));
    let mut found = Vec::new();
    for line in std::iter::once(TRAFFIC_HEADER).chain(lines.lines()) {
        for record in log.line(line.trim()).unwrap() {
            record.state.iter().for_each(|state| decoder.adopt(state));
            let name = part.frames().get(record.frame).unwrap().name().to_owned();
            found.push(match decoder.decode(record.frame, &record.bytes.unwrap()) {
                Ok(decoded) => {
                    let readings: Vec<String> = decoded.readings.iter().map(|reading| format!("{} {reading}", reading.name)).collect();
                    format!("{name}: {}", readings.join(", "))
                }
                Err(refusal) => format!("{name}: {}", refusal.cause()),
            });
        }
    }
    found
}

#[test]
fn a_write_decides_over_the_frames_behind_it() {
    let part = part(
        r#"
        part = "spar-2"
        i2c.address = 0x21
        register.MODE = { at = 4, reset = 0, field.SPAN = { bits = "[7]", values = [{ code = 0, full = 10 }, { code = 1, full = 40 }] }, reserved = { bits = "[6:0]", write = 0 } }
        frame.FORCE = { command = [0xB1], read = 2, code = { force = "b0 b1" } }
        reading.force = { unit = "N", formula = "force * SPAN.full / 65536" }
        "#,
    );
    let lines = "0.0 i2c 0x21 W B1 R 2 = 80 00\n0.1 i2c 0x21 W 04 80\n0.2 i2c 0x21 W B1 R 2 = 80 00\n0.3 i2c 0x21 W 04 00 ! address not acknowledged\n0.4 i2c 0x21 W B1 R 2 = 80 00";
    assert_eq!(
        read(&part, lines),
        [
            "FORCE: force 5 N",
            "FORCE: force 20 N",
            // Whether the last write came through, nobody knows.
            "FORCE: force no value: formula fault: a code that stands for no value: SPAN is unknown",
        ]
    );
    // Another part's write is none of it.
    let lines = "0.1 i2c 0x22 W 04 80\n0.2 i2c 0x21 W B1 R 2 = 80 00";
    assert_eq!(read(&part, lines), ["FORCE: force 5 N"]);
}

#[test]
fn of_late_answers_the_second_counts() {
    let part = part(
        r#"
        part = "spar-3"
        spi = { mode = 0, late = true }
        frame.FORCE = { command = [0xB1], read = 2, code = { force = "b0 b1" } }
        reading.force = { unit = "N", formula = "force" }
        "#,
    );
    let once = "0.0 spi W B1 R 2 = FF FF\n0.1 spi W B1 R 2 = 00 07\n";
    assert_eq!(read(&part, once), ["FORCE: force 7 N"]);
    assert_eq!(read(&part, &once.repeat(2)), ["FORCE: force 7 N", "FORCE: force 7 N"]);
}

/// What is read behind a wait goes with the word that was sent for it.
#[test]
fn a_read_without_a_word_goes_with_the_last_one() {
    let part = part(
        r#"
        part = "spar-4"
        i2c.address = 0x21
        frame.FORCE = { command = [0xB1], wait = "2 ms", read = 2, code = { force = "b0 b1" } }
        frame.WARMTH = { command = [0xB2], wait = "2 ms", read = 2, code = { warmth = "b0 b1" } }
        reading.force = { unit = "N", formula = "force" }
        reading.warmth = { unit = "°C", formula = "warmth" }
        "#,
    );
    let lines = "0.0 i2c 0x21 W B2\n0.1 i2c 0x21 R 2 = 00 15\n0.2 i2c 0x21 W B1\n0.3 i2c 0x21 W B2\n0.4 i2c 0x21 R 2 = 00 16\n0.5 i2c 0x21 R 2 = 00 17";
    assert_eq!(read(&part, lines), ["WARMTH: warmth 21 °C", "WARMTH: warmth 22 °C"]);
}

#[test]
fn modbus_registers_are_found_under_each_unit_id() {
    let part = part(
        r#"
        part = "spar-5"
        modbus = { numbering = "from 0", unit = 9, unit_field = "UNIT" }
        register.UNIT = { at = 1, width = 16, reset = 9, field.UNIT = { bits = "[7:0]" }, reserved = { bits = "[15:8]", write = 0 } }
        register.FORCE = { at = 2, width = 16, access = "read-only", field.FORCE = { bits = "[15:0]" } }
        frame.NOW = { registers = "FORCE" }
        reading.force = { unit = "N", formula = "FORCE" }
        "#,
    );
    let request = |unit: u8, pdu: &[u8]| {
        let mut all = vec![unit];
        all.extend_from_slice(pdu);
        let crc = all.iter().fold(0xFFFFu16, |crc, byte| {
            (0..8).fold(crc ^ u16::from(*byte), |crc, _| if crc & 1 == 1 { (crc >> 1) ^ 0xA001 } else { crc >> 1 })
        });
        all.extend(crc.to_le_bytes());
        yemdo::to_hex(&all)
    };
    let asked =
        |unit: u8| format!("0.0 modbus {unit} W {} R 7 = {}\n", request(unit, &[3, 0, 2, 0, 1]), request(unit, &[3, 2, 0x01, unit]));
    let moved = |answer: &[u8]| format!("0.1 modbus 9 W {} R 8 = {}\n", request(9, &[6, 0, 1, 0, 12]), request(9, answer));
    assert_eq!(read(&part, &asked(9)), ["NOW: force 265 N"]);
    // Given another id, it answers as that one, and no more as the first.
    assert_eq!(read(&part, &(moved(&[6, 0, 1, 0, 12]) + &asked(12) + &asked(9))), ["NOW: force 268 N"]);
    // Where the write is refused, it stays.
    assert_eq!(read(&part, &(moved(&[0x86, 2]) + &asked(12) + &asked(9))), ["NOW: force 265 N"]);
}

/// Two frames of the same registers: their bytes are both.
#[test]
fn frames_that_are_read_alike_come_together() {
    let part = part(
        r#"
        part = "spar-6"
        i2c.address = 0x21
        register.A = { at = 0x10, width = 16, access = "read-only", field.A = { bits = "[15:0]" } }
        frame.ONE = { registers = "A", code = { high = "b0" } }
        frame.TWO = { registers = "A", code = { low = "b1" } }
        reading.high = { unit = "V", formula = "high" }
        reading.low = { unit = "V", formula = "low" }
        "#,
    );
    assert_eq!(read(&part, "0.0 i2c 0x21 W 10 R 2 = 03 04"), ["ONE: high 3 V", "TWO: low 4 V"]);
}

/// The same bytes are news where something else came in between.
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

/// A frame whose own status withholds its values withholds what others take of it.
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

/// What has no value is a fault where it is taken, and nowhere else.
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

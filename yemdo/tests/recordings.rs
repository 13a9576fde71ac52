//! Recordings of a bus: writes, late answers, waits, a changed unit id, refused writes, frames with the same transfers.

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
            // The last write failed, so SPAN is unknown.
            "FORCE: force no value: formula fault: SPAN was never read or set",
        ]
    );
    // A write to another part has no effect.
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

/// A read after a wait belongs to the last command.
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
    // With a new id, the part no longer answers to the old one.
    assert_eq!(read(&part, &(moved(&[6, 0, 1, 0, 12]) + &asked(12) + &asked(9))), ["NOW: force 268 N"]);
    // A refused write changes nothing.
    assert_eq!(read(&part, &(moved(&[0x86, 2]) + &asked(12) + &asked(9))), ["NOW: force 265 N"]);
}

/// Two frames with the same registers arrive together.
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

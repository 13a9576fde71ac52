//! Transfers of clients other than this library: their meaning, and violations of the sheet.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use yemdo::record::Traffic;
use yemdo::stand_in::Rule;
use yemdo::trace::{Follower, Start, Transaction};
use yemdo::{Part, State};

const PROBE: &str = r#"
part = "probe-1"
[i2c]
address = 0x21
pointer = 8
max_khz = 100

[register]
PAGE = { at = 0x0F, reset = 0, field.PAGE = { bits = "[0]", values = [{ code = 0, name = "data" }, { code = 1, name = "trim" }] } }
MODE = { at = 0x10, reset = 0x02, field.RATE = { bits = "[3:1]", values = [{ code = 1, name = "slow", ms = 50 }, { code = 3, name = "fast", ms = 5 }] }, field.LOCK = { bits = "[7]" } }
LIMIT = { at = 0x11, reset = 0, while = { LOCK = 0 } }
HIGH = { at = 0x12, access = "read-only", bank = { PAGE = "data" } }
LOW = { at = 0x13, access = "read-only", bank = { PAGE = "data" } }
TRIM = { at = 0x12, bank = { PAGE = "trim" } }

[frame.LEVEL]
registers = "HIGH LOW"
code = { level = "b0 b1" }

[reading.level]
unit = "mm"
formula = "level * 0.5 * RATE.ms"

[[routine.measure]]
write = [0xA0, 0x01]
[[routine.measure]]
wait = "RATE.ms"
[[routine.measure]]
read = "LEVEL"
"#;

fn probe() -> Part {
    Part::parse("probe.toml", PROBE).unwrap_or_else(|error| panic!("{error}"))
}

/// Meanings and readings of lines of a recording, and the rules that are violated: with `?` if they depend on the start.
fn followed(part: &Part, start: &Start, lines: &[&str]) -> (Vec<String>, Vec<(Rule, bool)>) {
    let mut follower = Follower::new(part, start).unwrap();
    let mut texts = Vec::new();
    for line in lines {
        let traffic = Traffic::parse(line).unwrap().unwrap();
        let Some(followed) = follower.take(&traffic.into()) else {
            texts.push("another part".to_owned());
            continue;
        };
        let readings = followed
            .frames
            .iter()
            .map(|seen| seen.decoded.as_ref().map_or_else(ToString::to_string, |decoded| decoded.readings[0].to_string()));
        let all: Vec<String> = followed.meanings.iter().map(ToString::to_string).chain(readings).collect();
        texts.push(all.join("; "));
    }
    let findings = follower.finish(10_000_000).iter().map(|finding| (finding.violation.rule, finding.depends_on_start)).collect();
    (texts, findings)
}

#[test]
fn frames_are_read_in_any_pieces() {
    let part = probe();
    let start = ["0.000 i2c 0x21 W A0 01", "0.060 i2c 0x21 W 12 R 2 = 01 2C"];
    let (texts, findings) = followed(&part, &Start::PowerUp, &start);
    assert_eq!((texts.last().unwrap().as_str(), findings.len()), ("LEVEL; 7500 mm", 0));
    // One register at a time, low first; and the address in a transfer of its own.
    for pieces in [
        &["0.000 i2c 0x21 W A0 01", "0.060 i2c 0x21 W 13 R 1 = 2C", "0.061 i2c 0x21 W 12 R 1 = 01"][..],
        &["0.000 i2c 0x21 W A0 01", "0.060 i2c 0x21 W 12", "0.061 i2c 0x21 R 2 = 01 2C"],
        &["0.000 i2c 0x21 W A0 01", "0.060 i2c 0x21 W 12 R 1 = 01", "0.061 i2c 0x21 W 13", "0.062 i2c 0x21 R 1 = 2C"],
    ] {
        let (texts, findings) = followed(&part, &Start::PowerUp, pieces);
        assert!(texts.last().unwrap().ends_with("LEVEL; 7500 mm"), "{texts:?}");
        assert_eq!(findings, [], "{pieces:?}");
    }
}

#[test]
fn settings_follow_the_writes_of_the_client() {
    let lines = [
        "0.000 i2c 0x21 W 10 06",
        "0.001 i2c 0x21 W A0 01",
        "0.007 i2c 0x21 W 12 R 2 = 01 2C",
        "0.008 i2c 0x35 W 10 06",
        "0.009 i2c 0x21 W 10 ! no",
    ];
    let (texts, findings) = followed(&probe(), &Start::PowerUp, &lines);
    let expected = ["MODE = 0x06: RATE = fast", "command of measure", "LEVEL; 750.0 mm", "another part", "unknown"];
    assert_eq!(texts, expected);
    assert_eq!(findings, []);
    // The longer wait of the reset value.
    let early = ["0.001 i2c 0x21 W A0 01", "0.007 i2c 0x21 W 12 R 2 = 01 2C"];
    assert_eq!(followed(&probe(), &Start::PowerUp, &early).1, [(Rule::ReadTooEarly, false)]);
}

#[test]
fn an_unknown_start_is_the_benefit_of_the_client() {
    let part = probe();
    let lines = ["0.000 i2c 0x21 W 11 05", "0.001 i2c 0x21 W 12 R 2 = 01 2C", "0.002 i2c 0x21 W 55 00"];
    let (texts, findings) = followed(&part, &Start::Unseen, &lines);
    assert_eq!(texts[0], "LIMIT = 0x05");
    assert_eq!(texts[1], "HIGH or TRIM: PAGE was never read or set");
    // Whether it measured is unknown; the register at 0x55 exists in no state.
    assert_eq!(findings, [(Rule::NotStarted, true), (Rule::UnknownRegister, false)]);
    let locked = ["0.000 i2c 0x21 W 10 82", "0.001 i2c 0x21 W 11 05"];
    assert_eq!(followed(&part, &Start::Unseen, &locked).1, [(Rule::Locked, false)]);
    // A state that the user knows.
    let mut state = State::reset(&part);
    let mode = part.registers().iter().find(|register| register.name() == "MODE").unwrap();
    state.set_register(mode, 0x82);
    assert_eq!(followed(&part, &Start::Known(Box::new(state)), &locked[1..]).1, [(Rule::Locked, false)]);
    assert_eq!(followed(&part, &Start::Unseen, &locked[1..]).1, []);
}

#[test]
fn a_refused_read_has_no_length() {
    let part = Part::parse(
        "probe.toml",
        r#"
part = "probe-4"
i2c.address = 0x21
frame.LEVEL = { read = 3, code = { level = "b0 b1" }, check = { xor = 0x5A, over = "b0..b1", in = "b2" } }
reading.level = { unit = "mm", formula = "level * 0.5" }
routine.measure = [{ write = [0xA0, 0x01] }, { wait = "50 ms" }, { read = "LEVEL" }]
"#,
    );
    let part = part.unwrap_or_else(|error| panic!("{error}"));
    // A capture shows at most one byte of a read without acknowledgement.
    for (read, expected) in [
        ("0.010 i2c 0x21 R 1 ! address not acknowledged", &[Rule::ReadTooEarly][..]),
        ("0.060 i2c 0x21 R 1 ! address not acknowledged", &[]),
        ("0.060 i2c 0x21 R 1 = 01", &[Rule::CheckNotRead]),
    ] {
        let lines = ["0.000 i2c 0x21 W A0 01", read, "0.070 i2c 0x21 R 3 = 01 2C 77"];
        let (texts, findings) = followed(&part, &Start::PowerUp, &lines);
        assert_eq!(findings.iter().map(|(rule, _)| *rule).collect::<Vec<_>>(), expected, "{read}");
        assert_eq!(texts[2], "LEVEL; 150.0 mm");
    }
}

#[test]
fn the_clock_of_a_capture_is_judged() {
    let mut follower = Follower::new(&probe(), &Start::PowerUp).unwrap();
    let traffic = Traffic::parse("0.000 i2c 0x21 W 10 06").unwrap().unwrap();
    let followed = follower.take(&Transaction::new(traffic, 0, 300, Some(400_000))).unwrap();
    assert_eq!(followed.violations[0].0.rule, Rule::ClockTooFast);
    assert_eq!(followed.violations[0].0.what, "I2C at 400 kHz, and the part allows 100 kHz");
}

#[test]
fn bytes_over_spi_are_divided_by_the_sheet() {
    let part = Part::parse(
        "probe.toml",
        r#"
part = "probe-2"
spi = { mode = 0, pointer = 8, read = 0x80, dummy = 1 }
register.MODE = { at = 1, reset = 0, field.RATE = { bits = "[1:0]" } }
frame.LEVEL = { command = [0xC4, 0x10], read = 2, code = { level = "b0 b1" } }
reading.level = { unit = "mm", formula = "level * 0.5" }
"#,
    );
    let part = part.unwrap_or_else(|error| panic!("{error}"));
    let mut follower = Follower::new(&part, &Start::PowerUp).unwrap();
    // All bytes of both directions, as a capture has them.
    let mut take = |out: &[u8], back: &[u8]| {
        let transfer = yemdo::bus::Transfer {
            bus: yemdo::bus::Bus::Spi,
            address: None,
            send: out.to_vec(),
            receive: 0,
            restart: false,
            discard: false,
        };
        let followed = follower.take(&Traffic { at: 0, transfer, outcome: Ok(back.to_vec()) }.into()).unwrap();
        (followed.meanings[0].to_string(), followed.traffic.to_string())
    };
    assert_eq!(take(&[0x01, 0x02], &[0, 0]), ("MODE = 0x02: RATE = 2".into(), "0.000000 spi W 01 02".into()));
    assert_eq!(take(&[0x81, 0, 0], &[9, 9, 2]), ("MODE = 0x02: RATE = 2".into(), "0.000000 spi W 81 00 R 1 = 02".into()));
    assert_eq!(take(&[0xC4, 0x10, 0, 0, 0], &[9, 9, 9, 1, 0x2C]), ("LEVEL".into(), "0.000000 spi W C4 10 00 R 2 = 01 2C".into()));
}

#[test]
fn frames_are_recognized_before_their_wait_is_known() {
    let part = Part::parse(
        "probe.toml",
        r#"
part = "probe-3"
i2c = { address = 0x21, pointer = 8 }
register.MODE = { at = 1, reset = 0, field.RATE = { bits = "[0]", values = [{ code = 0, ms = 20 }, { code = 1, ms = 5 }] } }
frame.LEVEL = { command = [0xC4], read = 2, wait = "RATE.ms", code = { level = "b0 b1" } }
reading.level = { unit = "mm", formula = "level * 0.5" }
"#,
    );
    let part = part.unwrap_or_else(|error| panic!("{error}"));
    let lines = ["0.000 i2c 0x21 W C4", "0.010 i2c 0x21 R 2 = 01 2C"];
    let (texts, findings) = followed(&part, &Start::Unseen, &lines);
    assert_eq!(texts, ["LEVEL, transfer 1 of 2", "LEVEL; 150.0 mm"]);
    // Too early by the reset value; another setting may have been written before.
    assert_eq!(findings, [(Rule::ReadTooEarly, true)]);
    let shorter = ["0.000 i2c 0x21 W C4", "0.003 i2c 0x21 R 2 = 01 2C"];
    assert_eq!(followed(&part, &Start::Unseen, &shorter).1, [(Rule::ReadTooEarly, false)]);
}

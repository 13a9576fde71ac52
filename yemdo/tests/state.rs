//! One state of a part: settings reach every consumer, unset registers stay unknown, and recordings and stand-ins follow their traffic.

#![allow(clippy::unwrap_used, missing_docs)] // a test stops at the first mistake

use std::fs;
use std::path::Path;

use yemdo::bus::{Bus, Transfer};
use yemdo::configure::{Wish, WriteScope, configure};
use yemdo::record::{LogReader, TRAFFIC_HEADER};
use yemdo::stand_in::{Reaction, Signal, StandIn};
use yemdo::{Columns, Decoder, FrameValues, Part, Provenance, State, Status};

fn sheet(name: &str) -> Part {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets").join(format!("{name}.toml"));
    Part::parse(name, &fs::read_to_string(path).unwrap()).unwrap()
}

/// A part that is asked by a command with its setting in it, and that has a bank, a lock, and bits of every access.
const CAPSTAN: &str = r#"
part = "capstan-3"
i2c.address = 0x2D
parameter.SPAN = { default = "near", values = [{ code = 1, name = "near", scale = 0.5 }, { code = 4, name = "far", scale = 8 }] }
parameter.slope = { default = 2, range = [1, 40] }
[register.PANE]
at = 0x0A
reset = 0
field.PANE = { bits = "[0]" }
field.HOLD = { bits = "[1]" }
field.SEEN = { bits = "[7]", access = "write-1-to-clear" }
[register.LOAD]
at = 0x11
reset = 0x40
bank = { PANE = 1 }
field.LOAD = { bits = "[7:0]" }
[register.LEAD]
at = 0x12
while = { HOLD = 0 }
field.LEAD = { bits = "[7:4]" }
[frame.PULL]
command = [0x93, "SPAN << 3", "slope"]
read = 2
code = { pull = "b0 b1" }
status = { when = "pull >= 0x8000", is = "alert" }
[reading.pull]
unit = "N"
formula = "pull * SPAN.scale + slope"
status = { when = "pull == 0xFFFF", is = "invalid" }
[reading.lead]
unit = "1"
formula = "pull + LEAD"
"#;

fn capstan() -> Part {
    Part::parse("capstan-3", CAPSTAN).unwrap()
}

fn wishes(part: &Part, typed: &[&str]) -> Vec<Wish> {
    typed.iter().map(|typed| Wish::parse(part, typed).unwrap()).collect()
}

fn decoded(part: &Part, lines: &[&str]) -> Vec<Option<f64>> {
    let (mut log, mut decoder) = (LogReader::new(part, None), Decoder::new(part));
    let mut values = Vec::new();
    for line in std::iter::once(&TRAFFIC_HEADER).chain(lines) {
        for record in log.line(line).unwrap() {
            record.state.iter().for_each(|state| decoder.adopt(state));
            values.push(decoder.decode(record.frame, &record.bytes.unwrap()).unwrap().readings[0].value);
        }
    }
    values
}

#[test]
fn a_recording_tells_what_was_set() {
    // The gain is written before the second frame, and read before the third.
    let lantern = sheet("lantern-16");
    let light = "0.1 i2c 0x4E W 15 R 2 = 00 20\n0.2 i2c 0x4E W 21 R 4 = 75 30 0D AC";
    let frame: Vec<&str> = light.lines().collect();
    let lines = [&frame[..], &["0.3 i2c 0x4E W 12 06 04"], &frame, &["0.5 i2c 0x4E W 12 R 2 = 02 04"], &frame].concat();
    let values = decoded(&lantern, &lines);
    assert_eq!(values.len(), 3);
    let by_hand = |config: u64| {
        let mut decoder = Decoder::new(&lantern);
        let register = lantern.registers().get(lantern.register("CONFIG").unwrap()).unwrap();
        decoder.state_mut().set_register(register, register.value_of(&(config as u16).to_be_bytes()));
        decoder.decode(lantern.frame("LIGHT").unwrap(), &[0x00, 0x20, 0x75, 0x30, 0x0D, 0xAC]).unwrap().readings[0].value
    };
    assert_eq!(values[1..], [by_hand(0x0604), by_hand(0x0204)]);
    assert!(values[0] != values[1] && values[1] != values[2], "{values:?}");
    // Commands carry settings: far and 7, then near and 40. Traffic of another part and failed writes are ignored.
    let lines = [
        "0.1 i2c 0x2D W 93 08 02 R 2 = 00 10",
        "0.2 i2c 0x2D W 93 20 07 R 2 = 00 10",
        "0.3 i2c 0x2E W 93 08 02 R 2 = 00 10",
        "0.4 i2c 0x2D W 93 08 28 R 2 = 00 10",
        "0.5 i2c 0x2D W 93 20 07 ! address not acknowledged",
        "0.6 i2c 0x2D W 93 08 28 R 2 = 00 10",
    ];
    assert_eq!(decoded(&capstan(), &lines), [Some(10.0), Some(135.0), Some(48.0), Some(48.0)]);
}

#[test]
fn a_stand_in_understands_what_it_is_told() {
    let part = capstan();
    let mut capstan = StandIn::new(&part, 1).unwrap();
    capstan.set(part.reading("pull").unwrap(), Signal::constant(135.0)).unwrap();
    // 135 N is (135 - 2) / 0.5 near, and (135 - 7) / 8 far.
    assert_eq!(capstan.i2c(0, 0x2D, &[0x93, 0x08, 0x02], 2), Reaction::Answer(vec![0x01, 0x0A]));
    assert_eq!(capstan.i2c(9, 0x2D, &[0x93, 0x20, 0x07], 2), Reaction::Answer(vec![0x00, 0x10]));
    assert_eq!(capstan.violations(), []);
    // 41 is no slope, and 5 no span.
    for sent in [[0x93, 0x20, 0x29], [0x93, 0x28, 0x07]] {
        let _ = capstan.i2c(20, 0x2D, &sent, 2);
    }
    assert_eq!(capstan.violations().len(), 2);
}

#[test]
fn what_was_never_told_is_unknown() {
    let part = capstan();
    let lead = part.registers().get(part.register("LEAD").unwrap()).unwrap();
    let mut decoder = Decoder::new(&part);
    assert_eq!((decoder.state().known_register(lead), decoder.state().provenance(lead)), (None, Provenance::Unknown));
    let outcome = decoder.decode(part.frame("PULL").unwrap(), &[0, 1]).unwrap();
    assert_eq!((outcome.readings[1].value, outcome.readings[1].status), (None, Status::FormulaFault));
    let why = decoder.reason(part.frame("PULL").unwrap(), &[0, 1], part.reading("lead").unwrap(), Status::FormulaFault).unwrap();
    assert!(why == "LEAD was never read or set", "{why}");
    // Setting one by one or all at once gives the same known state.
    let mut state = State::reset(&part);
    for typed in ["slope=5", "LEAD=9", "HOLD=1"] {
        state = configure(&part, &state, &wishes(&part, &[typed]), WriteScope::Changed).unwrap().state;
    }
    let once = configure(&part, &State::reset(&part), &wishes(&part, &["HOLD=1", "LEAD=9", "slope=5"]), WriteScope::Changed).unwrap();
    assert_eq!((state.known_register(lead), once.state.known_register(lead)), (Some(0x90), Some(0x90)));
    assert!(state.has_same_values(&once.state));
    decoder.adopt(&state);
    assert_eq!(decoder.decode(part.frame("PULL").unwrap(), &[0, 1]).unwrap().readings[1].value, Some(10.0));
}

#[test]
fn a_reset_value_that_the_part_may_have_changed_is_no_input() {
    let text = r#"
part = "bollard-3"
i2c.address = 0x31
[register.TIDE]
at = 12
reset = 0x51
field = { MARK = { bits = "[7:4]", access = "read-only" }, STEP = { bits = "[3:0]" } }
[register.BELL]
at = 13
access = "read-only"
reset = 0x02
field.TOLLS = { bits = "[2:0]" }
[field.BOTH]
bits = "MARK TOLLS"
[frame.LINE]
read = 1
code = { slack = "b0" }
[reading.slack]
unit = "cm"
formula = "slack * (STEP + 1) + MARK"
[reading.tolls]
unit = "1"
formula = "slack > 9 ? BOTH : 0"
"#;
    let part = Part::parse("bollard.toml", text).unwrap();
    let mut decoder = Decoder::new(&part);
    let mut shown = |state: &State, slack: u8| {
        decoder.adopt(state);
        let decoded = decoder.decode(part.frame("LINE").unwrap(), &[slack]).unwrap();
        decoded.readings.iter().map(ToString::to_string).collect::<Vec<_>>()
    };
    let mut state = State::reset(&part);
    let none = "no value: formula fault: MARK was never read or set";
    assert_eq!(shown(&state, 9), [none, "0"]);
    // A write to its register says nothing of what only the part sets; a read does.
    let registers: Vec<_> = part.registers().iter().collect();
    state = configure(&part, &state, &wishes(&part, &["STEP=3"]), WriteScope::Changed).unwrap().state;
    assert_eq!(shown(&state, 9), [none, "0"]);
    state.read_register(registers[0], 0x73);
    assert_eq!(shown(&state, 10), ["47 cm", "no value: formula fault: BOTH was never read or set"]);
    state.read_register(registers[1], 0x02);
    assert_eq!(shown(&state, 10), ["47 cm", "58"]);
    // A field put together from read-only bits is read-only.
    assert_eq!(Wish::parse(&part, "BOTH=1").unwrap_err().to_string(), "BOTH is read-only and cannot be set");
}

#[test]
fn locks_and_bits_that_do_something_are_left_as_they_were() {
    let part = capstan();
    let pane = part.registers().get(part.register("PANE").unwrap()).unwrap();
    let mut state = State::reset(&part);
    state.read_register(pane, 0x82);
    // LEAD is locked while HOLD is set: it is unset for the write, and set again. The bit that a one clears stays.
    let done = configure(&part, &state, &wishes(&part, &["LEAD=3", "SEEN=0"]), WriteScope::Changed).unwrap();
    let sent: Vec<(u64, u64)> = done.writes.iter().map(|write| (write.value, write.after)).collect();
    assert_eq!(sent, [(0x00, 0x80), (0x30, 0x30), (0x02, 0x82)]);
    assert_eq!(done.state.known_register(pane), Some(0x82));
    let done = configure(&part, &state, &wishes(&part, &["SEEN=1"]), WriteScope::Changed).unwrap();
    assert_eq!((done.writes[0].value, done.state.known_register(pane)), (0x82, Some(0x02)));
    let error = configure(&part, &state, &wishes(&part, &["slope=5", "slope=6"]), WriteScope::Changed).unwrap_err();
    assert!(error.to_string().contains("slope=6"), "{error}");
}

#[test]
fn what_withholds_a_value_counts_before_what_keeps_it() {
    let part = capstan();
    let frame = part.frame("PULL").unwrap();
    let mut decoder = Decoder::new(&part);
    let (mut row, mut columns) = (FrameValues::new(), Columns::new());
    for (bytes, expected) in [([0x80, 0x00], Status::Alert), ([0xFF, 0xFF], Status::Invalid), ([0x00, 0x01], Status::Ok)] {
        let outcome = decoder.decode(frame, &bytes).unwrap().readings[0].clone();
        decoder.decode_into(frame, &bytes, &mut row).unwrap();
        decoder.decode_many(frame, &bytes, &mut columns).unwrap();
        let all = [outcome.status, row.status(0), columns.status(0, 0)];
        assert_eq!((all, outcome.value.is_some(), row.value(0).is_some()), ([expected; 3], expected.has_value(), expected.has_value()));
    }
}

#[test]
fn words_of_wide_registers_over_modbus() {
    let part = Part::parse(
        "hatch-7",
        r#"
part = "hatch-7"
modbus = { unit = 9, numbering = "from 0" }
register.LOW = { at = 20, width = 32, reset = 0x11223344 }
register.NEXT = { at = 22, width = 16, reset = 0x5566 }
register.PAIR = { at = 30, width = 16, count = 2, reset = 7 }
frame.BOTH = { registers = "LOW..NEXT", code = { low = "b0..b3", next = "b4 b5" } }
"#,
    )
    .unwrap();
    assert_eq!(part.registers().iter().map(|register| register.address()).collect::<Vec<_>>(), [20, 22, 30, 31]);
    let wire = part.buses().wire(Bus::Modbus).unwrap();
    let mut hatch = StandIn::new(&part, 1).unwrap();
    let read = |hatch: &mut StandIn, at: u32, bytes: usize| {
        let transfer: Transfer = wire.read(at, bytes, true).remove(0);
        match hatch.transfer(0, &transfer) {
            Reaction::Answer(answer) => wire.data(&transfer, &answer).map(<[u8]>::to_vec).map_err(|error| error.to_string()),
            other => Err(format!("{other:?}")),
        }
    };
    assert_eq!(read(&mut hatch, 20, 6), Ok(vec![0x11, 0x22, 0x33, 0x44, 0x55, 0x66]));
    assert_eq!(read(&mut hatch, 21, 2), Ok(vec![0x33, 0x44]));
    // A write beyond what there is changes nothing at all.
    let _ = hatch.transfer(0, &wire.write(22, &[1, 2, 3, 4]));
    assert_eq!(read(&mut hatch, 22, 2), Ok(vec![0x55, 0x66]));
}

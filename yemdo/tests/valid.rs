//! Frames and readings that are valid only while the part is awake, or in a mode: every way of asking says the same.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use yemdo::configure::{Limits, choose};
use yemdo::record::LogReader;
use yemdo::review::{Review, predict};
use yemdo::routine::{Answer, Operation, Runner};
use yemdo::stand_in::{Reaction, Rule, Signal, StandIn};
use yemdo::{Columns, Decoder, Part, State, Status};

/// A bit wakes the part; another says which of two elements the value register is of.
fn hatch(otherwise: &str) -> Part {
    let text = format!(
        r#"
part = "hatch-3"
i2c.address = 0x35
[register.RUN]
at = 0x60
reset = 0
field.POWER = {{ bits = "[7:6]", values = [{{ code = 0, name = "asleep" }}, {{ code = 2, name = "watching" }}] }}
field.SENSE = {{ bits = "[0]", values = [{{ code = 0, name = "seal" }}, {{ code = 1, name = "hinge" }}] }}
[register.VALUE]
at = 0x6E
width = 16
access = "read-only"
reset = 0xA5C3
[frame.SENSED]
registers = "VALUE"
while = {{ POWER = "watching" }}
otherwise = "{otherwise}"
code = {{ raw = "b0 b1" }}
[reading.seal]
unit = "kPa"
formula = "raw * 0.004"
while = {{ SENSE = "seal" }}
[reading.hinge]
unit = "°"
formula = "raw * 0.003 - 20"
while = {{ SENSE = "hinge" }}
[[example]]
set = {{ SENSE = "hinge" }}
SENSED = "4E 20"
gives = {{ hinge = "40.000 °", seal = "invalid" }}
"#
    );
    Part::parse("hatch.toml", &text).unwrap()
}

/// Sets a field of a state.
fn set(part: &Part, state: &mut State, field: &str, code: i128) {
    state.set_field(&part.fields()[part.field(field).unwrap()], code);
}

#[test]
fn the_state_decides_over_readings() {
    let part = hatch("last value");
    let frame = part.frame("SENSED").unwrap();
    for (power, sense, seal, hinge) in [(2, 0, Some(80.0), None), (2, 1, None, Some(40.0)), (0, 0, None, None), (1, 1, None, None)] {
        let mut decoder = Decoder::new(&part);
        set(&part, decoder.state_mut(), "POWER", power);
        set(&part, decoder.state_mut(), "SENSE", sense);
        let decoded = decoder.decode(frame, &[0x4E, 0x20]).unwrap();
        let values: Vec<_> = decoded.readings.iter().map(|reading| reading.value).collect();
        assert_eq!(values, [seal, hinge], "POWER = {power}, SENSE = {sense}");
        let why = decoded.readings.iter().find(|reading| reading.status == Status::Invalid).unwrap().means.clone();
        let wanted = if power == 2 { ["SENSE = hinge", "SENSE = seal"][sense as usize] } else { "POWER = watching" };
        assert_eq!(why, Some(format!("valid only while {wanted}")));
    }
    // Bytes in hand were read while the part was awake; which element it was they do not say.
    let mut decoder = Decoder::new(&part);
    assert!(decoder.decode(frame, &[0x4E, 0x20]).unwrap().reading("seal").unwrap().value.is_some());
    assert_eq!(State::reset(&part).unmet(&part, frame).len(), 1);
    assert!(State::while_read(&part).unmet(&part, frame).is_empty());
}

#[test]
fn what_is_said_beforehand_is_said_of_a_valid_frame() {
    let part = hatch("last value");
    let hinge = part.reading("hinge").unwrap();
    let extent = predict(&part, hinge).unwrap().extent.unwrap();
    assert_eq!((extent.low, extent.high), (-20.0, 65535.0 * 0.003 - 20.0));
    assert!(choose(&part, Some(hinge), &State::reset(&part), &Limits::default()).is_err(), "a mode is not a choice of range");
    let review = Review::new(&part);
    assert!(review.examples.iter().all(|run| run.mismatches.is_empty()), "{:?}", review.examples);
}

/// Writes begin with the part as it is after a reset, frames were read while it was awake.
#[test]
fn an_example_has_writes_and_a_frame() {
    let more = r#"
[quantity.limit]
unit = "kPa"
reading = "seal"
code = "LIMIT << 8"
[register.LIMIT]
at = 0x62
reset = 0
field.LIMIT = { bits = "[7:0]" }
[[example]]
set = { limit = "10.24 kPa", SENSE = "hinge" }
writes = { RUN = 0x01, LIMIT = 0x0A }
SENSED = "4E 20"
gives = { hinge = "40.000 °", seal = "invalid" }
"#;
    let part = Part::parse("hatch.toml", &format!("{}{more}", hatch("last value").source().text())).unwrap();
    let runs = yemdo::review::run_examples(&part);
    assert!(runs.len() == 2 && runs.iter().all(|run| run.mismatches.is_empty()), "{runs:#?}");
}

#[test]
fn a_stand_in_that_is_asleep() {
    for (otherwise, asleep) in [("last value", Some([0x4E, 0x20])), ("reset value", Some([0xA5, 0xC3])), ("no answer", None)] {
        let part = hatch(otherwise);
        let mut hatch = StandIn::new(&part, 3).unwrap();
        for (reading, value) in [("seal", 80.0), ("hinge", 10.0)] {
            hatch.set(part.reading(reading).unwrap(), Signal::constant(value)).unwrap();
        }
        let mut at = 0;
        let mut i2c = |sent: &[u8], receive: usize| {
            at += 1000;
            hatch.i2c(at, 0x35, sent, receive)
        };
        i2c(&[0x60, 0x80], 0);
        assert_eq!(i2c(&[0x6E], 2), Reaction::Answer(vec![0x4E, 0x20]), "80 kPa");
        i2c(&[0x60, 0x81], 0);
        assert_eq!(i2c(&[0x6E], 2), Reaction::Answer(vec![0x27, 0x10]), "10 degrees, in the same register");
        i2c(&[0x60, 0x80], 0);
        i2c(&[0x6E], 2);
        i2c(&[0x60, 0x00], 0);
        let read = i2c(&[0x6E], 2);
        assert_eq!(read, asleep.map_or(Reaction::NakAddress, |bytes| Reaction::Answer(bytes.to_vec())), "{otherwise}");
        assert_eq!(i2c(&[0x60], 1), Reaction::Answer(vec![0x00]), "settings can be read all the time");
        assert!(hatch.misses().is_empty(), "the element that is not chosen is not missed");
        let violations = hatch.verdict(10_000);
        let [only] = violations.as_slice() else { panic!("{violations:?}") };
        assert_eq!((only.rule, only.line), (Rule::NotValid, Some(16)));
        assert_eq!(only.what, "SENSED was read, and is valid only while POWER = watching");
    }
}

#[test]
fn an_address_that_wakes() {
    let text = DAVIT.replace("{ write = [0xC1, 0x33] }", "{ write = [], may_nak = true }").replace("spi = { mode = 1, pointer = 0 }\n", "");
    let part = Part::parse("davit.toml", &text).unwrap();
    let mut davit = StandIn::new(&part, 1).unwrap();
    davit.set(part.reading("load").unwrap(), Signal::constant(12.0)).unwrap();
    let mut runner = Runner::new(&part, part.routine("rouse").unwrap(), State::reset(&part)).unwrap();
    let first = runner.start().unwrap().unwrap();
    let Operation::Transfer(address) = &first.operation else { panic!("{first:?}") };
    assert_eq!((address.text().as_str(), address.send.len(), address.receive), ("0x25 alone", 0, 0));
    assert_eq!(davit.transfer(0, address), Reaction::NakAddress, "it wakes up");
    let wait = runner.answer(Answer::Nak).unwrap().unwrap();
    assert_eq!(wait.operation, Operation::Wait(11_000));
    assert!(runner.answer(Answer::Done).unwrap().is_none());
    assert_eq!(davit.transfer(1, address), Reaction::Answer(Vec::new()), "it is awake");
    assert_eq!(davit.i2c(5000, 0x25, &[0xB4], 3), Reaction::Answer(vec![0xF0, 0x00, 0x00]));
    assert!(runner.state().unmet(&part, part.frame("LOAD").unwrap()).is_empty());
    // Other commands must be acknowledged; nothing else is sent without a byte.
    let mut doze = Runner::new(&part, part.routine("doze").unwrap(), State::reset(&part)).unwrap();
    doze.start().unwrap();
    assert!(doze.answer(Answer::Nak).is_err());
    let spi = DAVIT.replace("[0xC1, 0x33]", "[]").replace("i2c = { address = 0x25, pointer = 0 }\n", "");
    assert!(Part::parse("davit.toml", &spi).unwrap_err().to_string().contains("`[]` sends the address alone, over I2C"));
    let read = text.replace("routine]", "routine]\nread = [{ read = \"LOAD\", may_nak = true }]");
    assert!(Part::parse("davit.toml", &read).unwrap_err().to_string().contains("`may_nak` says nothing about `read`"));
}

/// A part that a command wakes, over SPI and I2C.
const DAVIT: &str = r#"
part = "davit-8"
i2c = { address = 0x25, pointer = 0 }
spi = { mode = 1, pointer = 0 }
[parameter.LINK]
default = "dormant"
values = [{ code = 0, name = "dormant" }, { code = 1, name = "live" }]
[frame.LOAD]
command = [0xB4]
read = 3
while = { LINK = "live" }
otherwise = "no answer"
code = { load = "b1[3:0] b0", tare = "signed b2" }
reserved = "b1[7:4]"
[reading.load]
unit = "kN"
formula = "(load + tare) * 0.05"
[routine]
rouse = [{ write = [0xC1, 0x33] }, { wait = "11 ms" }, { set = { LINK = "live" } }]
doze = [{ write = [0xC1, 0x34] }, { set = { LINK = "dormant" } }]
"#;

#[test]
fn a_command_that_wakes() {
    let part = Part::parse("davit.toml", DAVIT).unwrap();
    let mut davit = StandIn::new(&part, 1).unwrap();
    davit.set(part.reading("load").unwrap(), Signal::constant(12.0)).unwrap();
    assert_eq!(davit.i2c(0, 0x25, &[0xB4], 3), Reaction::NakAddress);
    davit.i2c(1000, 0x25, &[0xC1, 0x33], 0);
    assert_eq!(davit.i2c(5000, 0x25, &[0xB4], 3), Reaction::Answer(vec![0xF0, 0x00, 0x00]));
    assert_eq!(davit.spi(6000, &[0xB4, 0, 0, 0]), [0, 0xF0, 0x00, 0x00]);
    davit.spi(7000, &[0xC1, 0x34]);
    assert_eq!(davit.spi(8000, &[0xB4, 0, 0, 0]), [0; 4]);

    // A recording says when it was awake.
    let recording = "# yemdo traffic 1\n# davit-8\n0.000000 i2c 0x25 W B4 R 3 = F0 00 00\n0.001000 i2c 0x25 W C1 34\n\
                     0.002000 i2c 0x25 W B4 R 3 = F0 00 00\n0.003000 i2c 0x25 W C1 33\n0.004000 i2c 0x25 W B4 R 3 = F0 00 00\n";
    let mut decoder = Decoder::new(&part);
    let mut log = LogReader::new(&part, None);
    let mut values = Vec::new();
    for line in recording.lines() {
        for record in log.line(line).unwrap() {
            record.state.iter().for_each(|state| decoder.adopt(state));
            values.push(decoder.decode(record.frame, &record.bytes.unwrap()).unwrap().readings[0].value);
        }
    }
    assert_eq!(values, [Some(12.0), None, Some(12.0)]);
}

#[test]
fn frames_of_only_zeros_or_only_ones() {
    let frame = |more: &str| {
        let head = "part = \"p\"\nreading.r = { unit = \"lx\", formula = \"a * 0.5\" }\n";
        let text = format!("{head}[frame.F]\nread = 2\ncode = {{ a = \"b0 b1\" }}\n{more}");
        let part = Part::parse("p.toml", &text).unwrap();
        let id = part.frame("F").unwrap();
        let (zeros, ones) = (Decoder::new(&part).decode(id, &[0, 0]), Decoder::new(&part).decode_many(id, &[0xFF; 2], &mut Columns::new()));
        assert_eq!(zeros.is_ok(), ones.is_ok(), "{more}");
        let model = &part.frames()[id];
        assert!(!model.is_suspect(&[0, 0xFF]) && model.is_suspect(&[0, 0]) == model.is_suspect(&[0xFF, 0xFF]));
        (zeros.is_ok(), model.is_suspect(&[0, 0]))
    };
    let check = "check = { xor = 0x5A, over = \"b0\", in = \"b1\" }";
    for (more, wanted) in [
        ("", (true, true)),
        ("blank = \"good\"", (true, false)),
        ("blank = \"refused\"", (false, false)),
        ("keep = true", (false, false)),
        ("keep = true\nblank = \"good\"", (true, false)),
        ("keep = true\nblank = \"suspect\"", (true, true)),
    ] {
        assert_eq!(frame(more), wanted, "{more}");
    }
    let checked = Part::parse("p.toml", &format!("part = \"p\"\n[frame.F]\nread = 2\ncode = {{ a = \"b0\" }}\n{check}")).unwrap();
    assert!(!checked.frames().iter().next().unwrap().is_suspect(&[0, 0]));
}

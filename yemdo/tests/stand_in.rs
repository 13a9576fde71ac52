//! Stand-ins: clients that follow the sheet read the physical world without violations, and every mistake is reported.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::path::Path;

use yemdo::bus::Bus;
use yemdo::configure::{Wish, WriteScope, configure};
use yemdo::routine::Operation;
use yemdo::routine::{Answer, Runner};
use yemdo::stand_in::{Fault, Faults, Random, Reaction, Rule, Signal, StandIn};
use yemdo::{Decoder, Part, State, Status};

fn sheet(name: &str) -> Part {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets").join(format!("{name}.toml"));
    Part::parse(name, &fs::read_to_string(path).unwrap()).unwrap()
}

/// A stand-in with a clock, and who drives it.
struct Bench {
    part: Part,
    stand_in: StandIn,
    settings: State,
    now: u64,
    log: Vec<String>,
    frames: Vec<(yemdo::FrameId, Vec<u8>)>,
}

impl Bench {
    fn new(part: &Part) -> Self {
        let stand_in = StandIn::new(part, 7).unwrap();
        Self { part: part.clone(), stand_in, settings: State::reset(part), now: 0, log: Vec::new(), frames: Vec::new() }
    }

    fn with(mut self, reading: &str, signal: &str) -> Self {
        self.stand_in.set(self.part.reading(reading).unwrap(), Signal::parse(signal).unwrap()).unwrap();
        self
    }

    fn run(&mut self, mut runner: Runner, decoder: Option<&mut Decoder>) -> Result<(), String> {
        let mut request = runner.start().map_err(|error| error.to_string())?;
        while let Some(asked) = request {
            let (bytes, answer);
            match &asked.operation {
                Operation::Transfer(transfer) => {
                    self.now += transfer.micros(400_000);
                    let reaction = self.stand_in.transfer(self.now, transfer);
                    self.log.push(format!("{} -> {reaction:?}", transfer.text()));
                    answer = match reaction {
                        Reaction::Answer(data) if transfer.receive == 0 && data.is_empty() => Answer::Done,
                        Reaction::Answer(data) => {
                            bytes = data;
                            Answer::Bytes(&bytes)
                        }
                        _ => Answer::Nak,
                    };
                }
                Operation::Wait(micros) => {
                    self.now += micros;
                    answer = Answer::Done;
                }
                Operation::Line { within, .. } => {
                    let due = self.stand_in.line_due(self.now).filter(|due| *due <= self.now + within);
                    self.now = due.unwrap_or(self.now).max(self.now);
                    answer = if self.stand_in.line(self.now) { Answer::Done } else { Answer::TimedOut };
                }
                other => panic!("{other:?}"),
            }
            request = runner.answer(answer).map_err(|error| error.to_string())?;
        }
        self.settings = runner.state().clone();
        if let Some(decoder) = decoder {
            *decoder.state_mut() = self.settings.clone();
            for frame in self.part.frames().ids() {
                if let Some(bytes) = runner.frame(frame) {
                    decoder.decode(frame, bytes).unwrap();
                    self.frames.retain(|(known, _)| *known != frame);
                    self.frames.push((frame, bytes.to_vec()));
                }
            }
        }
        Ok(())
    }

    fn routine(&mut self, name: &str, bus: Bus, decoder: &mut Decoder) {
        let runner = Runner::new(&self.part, self.part.routine(name).unwrap(), self.settings.clone()).unwrap().on_bus(bus, None).unwrap();
        if let Err(error) = self.run(runner, Some(decoder)) {
            panic!("{} {name}: {error}\n{}", self.part.name(), self.log.join("\n"));
        }
    }

    fn set(&mut self, typed: &[&str], bus: Bus) {
        let wishes: Vec<Wish> = typed.iter().map(|typed| Wish::parse(&self.part, typed).unwrap()).collect();
        let done = configure(&self.part, &self.settings, &wishes, WriteScope::Changed).unwrap();
        let runner = Runner::writing(&self.part, self.settings.clone(), &done.writes, true).unwrap().on_bus(bus, None).unwrap();
        self.run(runner, None).unwrap();
    }

    /// What the last bytes of a reading's frame say.
    fn reading(&mut self, name: &str, decoder: &mut Decoder) -> (Option<f64>, Status) {
        let id = self.part.reading(name).unwrap();
        let frames: Vec<_> = self.part.readings().get(id).unwrap().frames().to_vec();
        let last = frames.iter().copied().find(|frame| !self.part.frames().get(*frame).unwrap().is_kept()).unwrap();
        let bytes = self.frames.iter().find(|(frame, _)| *frame == last).unwrap().1.clone();
        let decoded = decoder.decode(last, &bytes).unwrap();
        let reading = decoded.reading(name).unwrap();
        (reading.value, reading.status)
    }

    /// Whether a code of a reading, as it came last, is the first or the last that there is.
    fn at_end(&self, reading: yemdo::ReadingId) -> bool {
        self.part.readings().get(reading).unwrap().codes().iter().any(|id| {
            let code = self.part.codes().get(*id).unwrap();
            let bytes = self.frames.iter().find(|(frame, _)| *frame == code.frame()).map(|(_, bytes)| code.value(bytes).to_f64());
            bytes.flatten().is_some_and(|value| [code.bounds().0 as f64, code.bounds().1 as f64].contains(&value))
        })
    }

    fn rules(&self) -> Vec<Rule> {
        let mut rules: Vec<Rule> = self.stand_in.verdict(self.now).iter().map(|violation| violation.rule).collect();
        rules.dedup();
        rules
    }
}

/// Sheet, bus, what is set up first, routines before measuring, and physical values with how near they come.
type World = (&'static str, Bus, &'static [&'static str], &'static [&'static str], &'static [(&'static str, f64, f64)]);

const WORLDS: [World; 12] = [
    ("strake-20", Bus::I2c, &[], &[], &[("temperature", -7.25, 0.01), ("humidity", 61.5, 0.01), ("supply", 3.1, 0.001)]),
    ("lantern-16", Bus::I2c, &["GAIN=fivefold", "TIME=162 ms"], &[], &[("illuminance", 180.0, 0.01)]),
    ("binnacle-24", Bus::I2c, &[], &["read_calibration"], &[("temperature", 3.5, 0.01), ("pressure", 987.6, 0.02)]),
    ("binnacle-24", Bus::Spi, &[], &["read_calibration"], &[("temperature", 24.0, 0.01), ("pressure", 1011.0, 0.02)]),
    ("keelson-6", Bus::I2c, &["SPAN=6 g"], &["start"], &[("acceleration_x", 0.25, 1e-3), ("turn_z", -12.0, 0.01), ("die", 23.4, 0.6)]),
    ("keelson-6", Bus::Spi, &["TURN=640 °/s"], &["start"], &[("acceleration_z", -0.75, 1e-3), ("turn_y", 400.0, 0.02)]),
    ("ember-14", Bus::I2c, &[], &["identify"], &[("surface", 18.3, 0.02)]),
    ("plumb-2", Bus::I2c, &[], &[], &[("distance", 1234.5, 0.1), ("transducer", -3.0, 0.5)]),
    ("thole-9", Bus::I2c, &["RESOLUTION=12 bits"], &[], &[("temperature", 12.5, 0.02)]),
    (
        "garboard-rs",
        Bus::Modbus,
        &["wanted_supply=19 °C"],
        &[],
        &[("supply", 18.4, 0.06), ("flow", 1250.0, 0.01), ("carbon_dioxide", 612.3, 0.1)],
    ),
    ("caulk-1", Bus::Spi, &[], &[], &[("moisture", 18.0, 0.02), ("timber", 11.5, 0.06)]),
    ("strake-20", Bus::I2c, &[], &[], &[("temperature", 300.0, 200.0)]),
];

#[test]
fn clients_that_follow_the_sheet_read_the_world_without_violations() {
    for (name, bus, wishes, before, values) in WORLDS {
        let part = sheet(name);
        let mut bench = Bench::new(&part);
        for (reading, value, _) in values {
            bench = bench.with(reading, &value.to_string());
        }
        let mut decoder = Decoder::new(&part);
        if !wishes.is_empty() {
            bench.set(wishes, bus);
        }
        before.iter().for_each(|routine| bench.routine(routine, bus, &mut decoder));
        for round in 0..3 {
            bench.routine("measure", bus, &mut decoder);
            for (reading, wanted, near) in values {
                let (value, status) = bench.reading(reading, &mut decoder);
                let value =
                    value.unwrap_or_else(|| panic!("{name} {reading}, round {round}: {}\n{}", status.as_str(), bench.log.join("\n")));
                assert!(
                    (value - wanted).abs() <= *near,
                    "{name} {reading}, round {round}: {value}, not {wanted}\n{}",
                    bench.log.join("\n")
                );
            }
        }
        let verdict = bench.stand_in.verdict(bench.now);
        assert!(verdict.is_empty(), "{name}: {verdict:#?}\n{}", bench.log.join("\n"));
    }
}

/// What a client that knows better does, and what is said about it: bytes are sent and read at a time in microseconds.
type Mistake = (&'static str, &'static [Rule], &'static [(u64, &'static [u8], usize)]);

const MISTAKES: [Mistake; 18] = [
    ("strake-20", &[Rule::ReadTooEarly], &[(0, &[0x5A, 0x10], 0), (9_000, &[], 7)]),
    ("strake-20", &[Rule::NotStarted], &[(0, &[], 7)]),
    ("strake-20", &[Rule::CheckNotRead], &[(0, &[0x5A, 0x10], 0), (20_000, &[], 5)]),
    ("strake-20", &[Rule::UnknownCommand], &[(0, &[0x5A, 0x11], 0)]),
    ("lantern-16", &[Rule::ReservedBits], &[(0, &[0x12, 0x04, 0x03], 0)]),
    ("lantern-16", &[Rule::ReadOnly], &[(0, &[0x30, 0x12, 0x34], 0)]),
    ("lantern-16", &[Rule::UnknownRegister], &[(0, &[0x13], 2)]),
    ("lantern-16", &[Rule::UndefinedValue], &[(0, &[0x12, 0x04, 0x06], 0)]),
    ("lantern-16", &[Rule::NotValid, Rule::PartOfRegister, Rule::StatusNotRead], &[(0, &[0x21], 1)]),
    ("lantern-16", &[Rule::NotStarted], &[(0, &[0x12, 0x04, 0x02], 0), (10, &[0x15], 2), (20, &[0x21], 4)]),
    ("lantern-16", &[Rule::StatusNotRead], &[(0, &[0x12, 0x14, 0x02], 0), (250_000, &[0x21], 4)]),
    ("keelson-6", &[Rule::Locked], &[(0, &[0x29, 0x10], 0)]),
    ("keelson-6", &[Rule::UnknownRegister], &[(0, &[0x0E, 0x01], 0), (10, &[0x30], 1)]),
    ("keelson-6", &[Rule::ForcedBits], &[(0, &[0x30, 0x08], 0)]),
    ("binnacle-24", &[Rule::CalibrationNotRead], &[(0, &[0x7A], 0), (15_000, &[0x31], 3), (15_100, &[0x7D], 0), (30_000, &[0x32], 3)]),
    ("binnacle-24", &[Rule::ReadTooEarly], &[(0, &[0x05], 2), (1_000, &[0x7A], 0), (5_000, &[0x31], 3)]),
    ("thole-9", &[Rule::WrongLength], &[(200_000, &[0x31], 5)]),
    ("thole-9", &[Rule::CheckNotRead], &[(200_000, &[0x31], 2)]),
];

#[test]
fn every_mistake_is_told_with_its_line() {
    for (name, rules, steps) in MISTAKES {
        let part = sheet(name);
        let mut stand_in = StandIn::new(&part, 1).unwrap();
        let address = part.buses().i2c.as_ref().unwrap().address;
        let mut now = 0;
        for (at, send, receive) in steps {
            now = *at;
            stand_in.i2c(now, address, send, *receive);
        }
        let verdict = stand_in.verdict(now);
        let mut found: Vec<Rule> = verdict.iter().map(|violation| violation.rule).collect();
        found.sort_unstable();
        found.dedup();
        let mut wanted = rules.to_vec();
        wanted.sort_unstable();
        assert_eq!(found, wanted, "{name} {steps:02X?}: {verdict:#?}");
        for violation in &verdict {
            assert!(!violation.what.is_empty() && !violation.rule.effect().is_empty());
            assert!(violation.line.is_some() || matches!(violation.rule, Rule::UnknownCommand | Rule::UnknownRegister), "{violation}");
        }
    }
}

#[test]
fn an_alert_comes_below_the_threshold_and_ends_above_the_other() {
    let part = sheet("thole-9");
    let mut bench = Bench::new(&part).with("temperature", "20 - 0.01 * t");
    let mut decoder = Decoder::new(&part);
    bench.set(&["RESOLUTION=14 bits", "lower_threshold=4 °C", "upper_threshold=6 °C"], Bus::I2c);
    let status_at = |bench: &mut Bench, decoder: &mut Decoder, second: u64| {
        bench.now = second * 1_000_000;
        bench.routine("measure", Bus::I2c, decoder);
        bench.reading("temperature", decoder).1
    };
    assert_eq!(status_at(&mut bench, &mut decoder, 100), Status::Ok);
    assert_eq!(status_at(&mut bench, &mut decoder, 1700), Status::Alert);
    bench = bench.with("temperature", "5");
    assert_eq!(status_at(&mut bench, &mut decoder, 1800), Status::Alert);
    bench = bench.with("temperature", "7");
    assert_eq!(status_at(&mut bench, &mut decoder, 1900), Status::Ok);
    assert_eq!(bench.rules(), []);
}

#[test]
fn signals_are_what_they_say() {
    let mut recorded = Signal::recorded(vec![(0.0, 1.0), (10.0, 3.0)]).unwrap();
    assert_eq!((recorded.at(5_000_000), recorded.at(99_000_000)), (Some(2.0), Some(3.0)));
    assert!(Signal::recorded(vec![(1.0, 1.0), (0.0, 3.0)]).is_err() && Signal::recorded(Vec::new()).is_err());
    assert_eq!(Signal::parse("t < 5 ? 1 : 2").unwrap().at(6_000_000), Some(2.0));
    let error = Signal::parse("20 + x").unwrap_err().to_string();
    assert_eq!(error, "`20 + x` is not a number, `A to B in N s`, or a formula in C of the seconds `t`: `x` is not known here");
}

/// No fault that a seed draws makes a value out of a damaged frame where the frame has a check.
#[test]
fn faults_are_drawn_by_seed_and_never_pass_a_check() {
    let part = sheet("strake-20");
    let mut stand_in = StandIn::new(&part, 3).unwrap();
    stand_in.set(part.reading("temperature").unwrap(), Signal::constant(21.0)).unwrap();
    let (frame, mut decoder) = (part.frame("AIR").unwrap(), Decoder::new(&part));
    let mut faults = Faults::seeded(11, 0.5, &Fault::ALL).at(0, Fault::CutFrame);
    let mut seen = 0;
    for round in 0..4000u64 {
        let now = round * 30_000;
        stand_in.i2c(now, 0x2C, &[0x5A, 0x10], 0);
        let fault = faults.draw();
        let Reaction::Answer(good) = stand_in.i2c(now + 20_000, 0x2C, &[], 7) else { panic!() };
        let reaction = match fault {
            Some(fault) => fault.bend(good.clone(), faults.random()),
            None => Reaction::Answer(good.clone()),
        };
        if let Reaction::Answer(bytes) = reaction {
            match decoder.decode(frame, &bytes) {
                Ok(_) => assert_eq!(bytes, good, "{fault:?}"),
                Err(_) => seen += 1,
            }
        }
    }
    assert!(seen > 300 && faults.injected[0] == (0, Fault::CutFrame), "{seen}");
    let again = Faults::seeded(11, 0.5, &Fault::ALL);
    let draw = |mut faults: Faults| (0..50).map(|_| faults.draw()).collect::<Vec<_>>();
    assert_eq!(draw(again.clone()), draw(again));
    let mut random = Random::new(5);
    let normal: Vec<f64> = (0..4000).map(|_| random.normal()).collect();
    let mean = normal.iter().sum::<f64>() / 4000.0;
    let deviation = (normal.iter().map(|value| (value - mean).powi(2)).sum::<f64>() / 4000.0).sqrt();
    assert!(mean.abs() < 0.1 && (deviation - 1.0).abs() < 0.1, "{mean} {deviation}");
}

/// A made-up part with everything that registers can have: banks, every kind of access, self-clearing bits, reserved ones.
fn registers(bus: &str) -> Part {
    let text = format!(
        r#"
part = "panel-3"
{bus}
register.BANK = {{ at = 0x07, reset = 0, field.BANK = {{ bits = "[0]" }}, reserved = {{ bits = "[7:1]", write = 0 }} }}
register.FLAGS = {{ at = 0x09, reset = 0, access = "clear-on-read", field.SEEN = {{ bits = "[1]" }} }}
register.EVENTS = {{ at = 0x0A, reset = 0x81, field.A = {{ bits = "[0]", access = "write-1-to-clear" }}, field.B = {{ bits = "[7]", access = "write-1-to-clear" }} }}
register.RUN = {{ at = 0x0B, reset = 0, field.GO = {{ bits = "[3]", access = "self-clearing" }}, field.RATE = {{ bits = "[1:0]" }}, field.BUSY = {{ bits = "[7]", access = "read-only" }} }}
register.KEY = {{ at = 0x0C, access = "write-only", field.KEY = {{ bits = "[7:0]" }} }}
register.WIDE = {{ at = 0x10, width = 16, order = "low first", reset = 0x1234, field.WIDE = {{ bits = "[15:0]" }} }}
register.NEXT = {{ at = 0x12, reset = 0x56, field.NEXT = {{ bits = "[7:0]" }} }}
register.OTHER = {{ at = 0x10, reset = 0xAB, bank = {{ BANK = 1 }}, field.OTHER = {{ bits = "[7:0]" }} }}
"#
    );
    Part::parse("panel-3.toml", &text).unwrap_or_else(|error| panic!("{error}"))
}

#[test]
fn registers_do_what_their_access_says() {
    let part = registers("i2c = { address = 0x29, increment = 0x40 }");
    let mut panel = StandIn::new(&part, 1).unwrap();
    let mut ask = |send: &[u8], receive: usize| match panel.i2c(0, 0x29, send, receive) {
        Reaction::Answer(bytes) => bytes,
        other => panic!("{send:02X?}: {other:?}"),
    };
    // Written ones clear, zeros leave.
    ask(&[0x0A, 0x01], 0);
    assert_eq!(ask(&[0x0A], 1), [0x80]);
    // What starts clears itself, what is only read stays.
    ask(&[0x0B, 0x0A], 0);
    assert_eq!(ask(&[0x0B], 1), [0x02]);
    // What is only written reads as nothing.
    ask(&[0x0C, 0x55], 0);
    assert_eq!(ask(&[0x0C], 1), [0x00]);
    // Several registers with the bit for it; without, the first one again and again. The low byte comes first.
    assert_eq!(ask(&[0x50], 3), [0x34, 0x12, 0x56]);
    assert_eq!(ask(&[0x10], 4), [0x34, 0x12, 0x34, 0x12]);
    ask(&[0x50, 0x78, 0x9A, 0xBC], 0);
    assert_eq!(ask(&[0x50], 3), [0x78, 0x9A, 0xBC]);
    // The register address alone, then a read of its own.
    ask(&[0x12], 0);
    assert_eq!(ask(&[], 1), [0xBC]);
    // Another bank has another register there.
    ask(&[0x07, 0x01], 0);
    assert_eq!(ask(&[0x10], 1), [0xAB]);
    let mut rules: Vec<Rule> = panel.violations().iter().map(|violation| violation.rule).collect();
    rules.dedup();
    // The clear-on-read flags were never set, and only KEY was read against its access.
    assert_eq!(rules, [Rule::WriteOnly, Rule::NoAutoIncrement]);
}

/// The same register over SPI, at any of its forms, and what is not a transfer to it.
#[test]
fn spi_is_seen_as_the_bytes_that_are_clocked() {
    for (bus, write, read) in [
        ("spi = { mode = 0, read = 0x80 }", vec![0x12, 0x77], vec![0x92, 0x00]),
        ("spi = { mode = 1, write = 0x80 }", vec![0x92, 0x77], vec![0x12, 0x00]),
        ("spi = { mode = 3, shift = 1, read = 0x01, dummy = 2 }", vec![0x24, 0x77], vec![0x25, 0, 0, 0x00]),
        ("spi = { mode = 2, pointer = 16, read = 0x8000 }", vec![0x00, 0x12, 0x77], vec![0x80, 0x12, 0x00]),
    ] {
        let part = registers(bus);
        let mut panel = StandIn::new(&part, 1).unwrap();
        panel.spi(0, &write);
        let back = panel.spi(1, &read);
        assert_eq!((back.len(), back.last()), (read.len(), Some(&0x77)), "{bus}: {back:02X?}");
        assert_eq!(panel.violations(), [], "{bus}");
    }
    let part = registers("spi = { mode = 0, read = 0x80, late = true }");
    let mut panel = StandIn::new(&part, 1).unwrap();
    let first = panel.spi(0, &[0x92, 0x00]);
    let second = panel.spi(1, &[0x92, 0x00]);
    assert_eq!((first[1], second[1]), (0xFF, 0x56));
}

/// Writes with a packet error code are taken where it fits, and are refused where it does not.
#[test]
fn a_packet_error_code_is_looked_at() {
    let part = sheet("ember-14");
    let mut ember = StandIn::new(&part, 1).unwrap();
    assert_eq!(ember.i2c(0, 0x35, &[0x53, 0x10, 0x0E, 0x2D], 0), Reaction::Answer(vec![]));
    assert_eq!(ember.i2c(0, 0x35, &[0x53], 2), Reaction::Answer(vec![0x10, 0x0E]));
    assert_eq!(ember.i2c(0, 0x35, &[0x53, 0x22, 0x0E, 0x2D], 0), Reaction::NakData);
    assert_eq!(ember.i2c(0, 0x35, &[0x53], 2), Reaction::Answer(vec![0x10, 0x0E]));
    assert_eq!(ember.violations().len(), 1);
    assert!(ember.violations()[0].what.starts_with("packet error code mismatch: computed 0x"), "{}", ember.violations()[0]);
}

#[test]
fn modbus_functions_do_what_the_specification_says() {
    let part = sheet("garboard-rs");
    let mut handler = StandIn::new(&part, 1).unwrap();
    let cases: [(&[u8], &[u8]); 17] = [
        // Coils as the point list's example has them, single and several written.
        (&[1, 0, 0, 0, 10], &[1, 2, 0x05, 0x02]),
        (&[5, 0, 1, 0xFF, 0x00], &[5, 0, 1, 0xFF, 0x00]),
        (&[15, 0, 2, 0, 2, 1, 0x02], &[15, 0, 2, 0, 2]),
        (&[1, 0, 0, 0, 4], &[1, 1, 0x0B]),
        (&[2, 0, 0, 0, 4], &[2, 1, 0x00]),
        // Registers: one, several, masked (AND 0xFF00, OR 0x0012 in what the mask clears), written and read.
        (&[6, 0, 100, 0, 205], &[6, 0, 100, 0, 205]),
        (&[16, 0, 100, 0, 2, 4, 0, 206, 0xFF, 0xF6], &[16, 0, 100, 0, 2]),
        (&[3, 0, 100, 0, 2], &[3, 4, 0, 206, 0xFF, 0xF6]),
        (&[22, 0, 100, 0xFF, 0x00, 0x00, 0x12], &[22, 0, 100, 0xFF, 0x00, 0x00, 0x12]),
        (&[23, 0, 100, 0, 1, 0, 101, 0, 1, 2, 0, 7], &[23, 2, 0x00, 0x12]),
        // A register that cannot be written, an address that is not there, one beyond the end.
        (&[6, 0, 104, 0, 1], &[0x86, 2]),
        (&[4, 0, 9, 0, 2], &[0x84, 2]),
        (&[4, 0, 17, 0, 2], &[0x84, 2]),
        // Quantities that cannot be, a value that no coil has, a function that is not there.
        (&[3, 0, 100, 0, 0], &[0x83, 3]),
        (&[5, 0, 1, 0x12, 0x34], &[0x85, 3]),
        (&[16, 0, 100, 0, 2, 2, 0, 1], &[0x90, 3]),
        (&[43, 14, 1, 0], &[0xAB, 1]),
    ];
    for (request, response) in cases {
        assert_eq!(handler.modbus(0, 17, request).as_deref(), Some(response), "{request:02X?}");
    }
    // Another unit is somebody else; a broadcast is done, and nobody answers it.
    assert_eq!(handler.modbus(0, 16, &[3, 0, 100, 0, 1]), None);
    assert_eq!(handler.modbus(0, 0, &[6, 0, 100, 0, 99]), None);
    assert_eq!(handler.modbus(0, 17, &[3, 0, 100, 0, 1]).unwrap(), [3, 2, 0, 99]);
    // A frame whose CRC does not fit is none.
    assert_eq!(handler.modbus_rtu(0, &[17, 3, 0, 100, 0, 1, 0, 0]), None);
    let mut rules: Vec<Rule> = handler.violations().iter().map(|violation| violation.rule).collect();
    rules.dedup();
    assert_eq!(rules, [Rule::ReadOnly, Rule::UnknownRegister, Rule::UnknownFunction]);
}

/// What a stand-in is told of noise and steps is what the sheet states.
#[test]
fn noise_and_steps_are_the_sheets() {
    let part = sheet("thole-9");
    let measured = |noisy: bool, seed: u64| {
        let mut guard = StandIn::new(&part, seed).unwrap();
        if noisy {
            guard = guard.with_noise();
        }
        guard.set(part.reading("temperature").unwrap(), Signal::constant(5.03)).unwrap();
        let (frame, mut decoder) = (part.frame("FROST").unwrap(), Decoder::new(&part));
        let values = (1..400u64).map(|at| {
            let Reaction::Answer(bytes) = guard.i2c(at * 130_000, 0x51, &[0x31], 3) else { panic!() };
            decoder.decode(frame, &bytes).unwrap().reading("temperature").unwrap().value.unwrap()
        });
        values.collect::<Vec<f64>>()
    };
    let still = measured(false, 1);
    assert!(still.iter().all(|value| (value - 5.02).abs() < 0.011), "{still:?}");
    let noisy = measured(true, 1);
    let mean = noisy.iter().sum::<f64>() / noisy.len() as f64;
    let deviation = (noisy.iter().map(|value| (value - mean).powi(2)).sum::<f64>() / noisy.len() as f64).sqrt();
    // At 14 bits the sheet states a noise of 0.03 °C.
    assert!((mean - 5.03).abs() < 0.02 && (0.02..0.05).contains(&deviation), "{mean} {deviation}");
    assert_eq!(noisy, measured(true, 1));
    assert_ne!(noisy, measured(true, 2));
}

/// A wait between a command and its read, and a frame of several transfers, are kept as the sheet says them.
#[test]
fn what_is_asked_for_comes_when_its_time_is_over() {
    let text = r#"
part = "sounder-4"
i2c = { address = 0x3D, pointer = 0 }
frame.DEPTH = { command = [0x66], wait = "3 ms", read = 2, code = { depth = "b0 b1" } }
reading.depth = { unit = "mm", formula = "depth * 2.0" }
routine.measure = [{ read = "DEPTH" }]
"#;
    let part = Part::parse("sounder-4.toml", text).unwrap();
    let mut bench = Bench::new(&part).with("depth", "1500");
    let mut decoder = Decoder::new(&part);
    bench.routine("measure", Bus::I2c, &mut decoder);
    assert_eq!(bench.reading("depth", &mut decoder), (Some(1500.0), Status::Ok));
    assert_eq!(bench.rules(), []);
    let now = bench.now + 1_000_000;
    let mut sounder = bench.stand_in;
    sounder.i2c(now, 0x3D, &[0x66], 0);
    assert_eq!(sounder.i2c(now + 1_000, 0x3D, &[], 2), Reaction::NakAddress);
    assert_eq!(sounder.violations().iter().map(|violation| violation.rule).collect::<Vec<_>>(), [Rule::ReadTooEarly]);
}

/// The demo's parts, and where they are reached.
const SHIPPED: [(&str, Bus); 10] = [
    ("strake-20", Bus::I2c),
    ("lantern-16", Bus::I2c),
    ("binnacle-24", Bus::I2c),
    ("binnacle-24", Bus::Spi),
    ("keelson-6", Bus::I2c),
    ("ember-14", Bus::I2c),
    ("plumb-2", Bus::I2c),
    ("thole-9", Bus::I2c),
    ("garboard-rs", Bus::Modbus),
    ("caulk-1", Bus::Spi),
];

use proptest::prelude::*;

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    /// Any value within the stated range of any reading comes back, to within a step.
    #[test]
    fn any_value_comes_back(at in 0usize..SHIPPED.len(), share in 0.35f64..0.65) {
        let (name, bus) = SHIPPED[at];
        let part = sheet(name);
        let start = ["start", "read_calibration", "identify"].into_iter().filter(|routine| part.routine(routine).is_ok());
        let settings = State::reset(&part);
        let mut bench = Bench::new(&part);
        let mut wanted = Vec::new();
        // Readings that are other forms of one value are left alone.
        for (id, reading) in part.readings().entries().filter(|(_, reading)| reading.is_measured()) {
            let known = wanted.iter().any(|(other, ..): &(yemdo::ReadingId, f64, f64)| {
                let other = part.readings().get(*other).unwrap();
                other.codes().iter().max() == reading.codes().iter().max()
            });
            let predicted = yemdo::review::predict(&part, id);
            let Some((low, high)) = reading.range(&part, &settings).or_else(|| predicted.as_ref()?.extent.as_ref().map(|extent| (extent.low, extent.high))) else { continue };
            if known || !low.is_finite() || !high.is_finite() || high - low > 1e6 {
                continue;
            }
            let value = low + (high - low) * share;
            bench.stand_in.set(id, Signal::constant(value)).unwrap();
            let step = predicted.as_ref().and_then(|prediction| prediction.step).map_or(0.0, |(_, largest)| largest * 0.51);
            let step = step.max((high - low) / 1000.0);
            wanted.push((id, value, step));
        }
        let mut decoder = Decoder::new(&part);
        start.for_each(|routine| bench.routine(routine, bus, &mut decoder));
        bench.routine("measure", bus, &mut decoder);
        for (id, value, near) in wanted {
            let reading = part.readings().get(id).unwrap();
            if reading.frames().iter().any(|frame| !bench.frames.iter().any(|(known, _)| known == frame)) {
                continue;
            }
            let (found, status) = bench.reading(reading.name(), &mut decoder);
            // Where a condition withholds it, such as an echo that is too near, it says so.
            // Where its code has come to an end of what the sheet allows, there is no more.
            let at_end = bench.at_end(id);
            let told = !status.has_value() || matches!(status, Status::Saturated) || at_end;
            prop_assert!(told || found.is_some_and(|found| (found - value).abs() <= near), "{name} {}: {found:?} for {value}, {}", reading.name(), status.as_str());
        }
        prop_assert_eq!(bench.rules(), Vec::<Rule>::new());
    }

    /// Whatever comes over any bus, a stand-in answers with as many bytes as are wanted, or not at all, and never panics.
    #[test]
    fn any_bytes_are_answered(at in 0usize..SHIPPED.len(), all in prop::collection::vec((prop::collection::vec(any::<u8>(), 0..12), 0usize..40, 0u64..400_000), 1..40)) {
        let (name, bus) = SHIPPED[at];
        let part = sheet(name);
        let mut stand_in = StandIn::new(&part, at as u64).unwrap();
        let address = part.buses().i2c.as_ref().map_or(0, |i2c| i2c.address);
        let mut now = 0;
        for (bytes, receive, later) in all {
            now += later;
            match bus {
                Bus::I2c => {
                    if let Reaction::Answer(answer) = stand_in.i2c(now, address, &bytes, receive) {
                        prop_assert_eq!(answer.len(), receive, "{} {:02X?}", name, bytes);
                    }
                }
                Bus::Spi => prop_assert_eq!(stand_in.spi(now, &bytes).len(), bytes.len()),
                _ => {
                    if let Some(response) = stand_in.modbus(now, 17, &bytes) {
                        prop_assert!(response.len() >= 2 && response[0] & 0x7F == bytes[0] & 0x7F, "{:02X?} gave {:02X?}", bytes, response);
                    }
                }
            }
            stand_in.line(now);
            stand_in.alert(now);
        }
        let verdict = stand_in.verdict(now);
        prop_assert!(verdict.len() <= 1100);
    }
}

#[test]
fn each_threshold_has_its_own_flag() {
    let part = Part::parse(
        "bollard.toml",
        r#"
part = "bollard-2"
i2c.address = 0x2A
register.LOW = { at = 0x10, reset = 20, field.LOW = { bits = "[7:0]" } }
register.HIGH = { at = 0x11, reset = 100, field.HIGH = { bits = "[7:0]" } }
register.CALM = { at = 0x12, reset = 80, field.CALM = { bits = "[7:0]" } }
register.BREAK = { at = 0x13, reset = 200, field.BREAK = { bits = "[7:0]" } }
[frame.PULL]
command = [0x91]
read = 2
code = { pull = "b0", taut = "b1[3]", slack = "b1[6]", zone = "b1[1:0]" }
status = [{ when = "taut || slack || zone == 2", is = "alert" }]
reserved = "b1[7] b1[5:4] b1[2]"
[reading.pull]
unit = "kN"
formula = "pull * 1.0"
[quantity]
least = { unit = "kN", reading = "pull", code = "LOW", alert = "below", flag = "slack" }
calm = { unit = "kN", reading = "pull", code = "CALM" }
most = { unit = "kN", reading = "pull", code = "HIGH", alert = "above", flag = "taut", not_below = "calm" }
end = { unit = "kN", reading = "pull", code = "BREAK", alert = "above", flag = "zone == 2" }
"#,
    )
    .unwrap();
    let mut bollard = StandIn::new(&part, 2).unwrap();
    bollard
        .set(
            part.reading("pull").unwrap(),
            Signal::parse("t < 1 ? 10 : t < 2 ? 50 : t < 3 ? 120 : t < 4 ? 90 : t < 5 ? 250 : t < 6 ? 90 : 60").unwrap(),
        )
        .unwrap();
    // Slack; nothing; taut; still taut above 80; both; taut; nothing.
    for (second, flags) in [0x40, 0x00, 0x08, 0x08, 0x0A, 0x08, 0x00].into_iter().enumerate() {
        let read = bollard.i2c(second as u64 * 1_000_000 + 500_000, 0x2A, &[0x91], 2);
        let Reaction::Answer(bytes) = read else { panic!("{read:?}") };
        assert_eq!(bytes[1], flags, "{second} s: {bytes:02X?}");
    }
    assert!(bollard.misses().is_empty());
}

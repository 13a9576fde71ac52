//! Stand-ins: whoever does what the sheet says gets the physical world back, without a remark; and every mistake is told.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::path::Path;

use yemdo::bus::{Bus, Operation};
use yemdo::configure::{Wish, WriteScope, configure};
use yemdo::routine::{Answer, Runner};
use yemdo::stand_in::{Fault, Faults, Random, Reaction, Rule, Signal, StandIn};
use yemdo::{Decoder, Part, Settings, Status};

fn sheet(name: &str) -> Part {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets").join(format!("{name}.toml"));
    Part::parse(name, &fs::read_to_string(path).unwrap()).unwrap()
}

/// A stand-in with a clock, and who drives it.
struct Bench {
    part: Part,
    stand_in: StandIn,
    settings: Settings,
    now: u64,
    log: Vec<String>,
    frames: Vec<(yemdo::FrameId, Vec<u8>)>,
}

impl Bench {
    fn new(part: &Part) -> Self {
        let stand_in = StandIn::new(part, 7).unwrap();
        Self { part: part.clone(), stand_in, settings: Settings::reset(part), now: 0, log: Vec::new(), frames: Vec::new() }
    }

    fn with(mut self, reading: &str, signal: &str) -> Self {
        self.stand_in.set(self.part.reading(reading).unwrap(), Signal::parse(signal).unwrap());
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
        self.settings = runner.settings().clone();
        if let Some(decoder) = decoder {
            *decoder.settings_mut() = self.settings.clone();
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

    fn rules(&self) -> Vec<Rule> {
        let mut rules: Vec<Rule> = self.stand_in.verdict(self.now).iter().map(|remark| remark.rule).collect();
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
fn whoever_follows_the_sheet_reads_the_world_and_earns_no_remark() {
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

const MISTAKES: [Mistake; 17] = [
    ("strake-20", &[Rule::ReadTooEarly], &[(0, &[0x5A, 0x10], 0), (9_000, &[], 7)]),
    ("strake-20", &[Rule::NotStarted], &[(0, &[], 7)]),
    ("strake-20", &[Rule::CheckNotRead], &[(0, &[0x5A, 0x10], 0), (20_000, &[], 5)]),
    ("strake-20", &[Rule::UnknownCommand], &[(0, &[0x5A, 0x11], 0)]),
    ("lantern-16", &[Rule::ReservedBits], &[(0, &[0x12, 0x04, 0x03], 0)]),
    ("lantern-16", &[Rule::ReadOnly], &[(0, &[0x30, 0x12, 0x34], 0)]),
    ("lantern-16", &[Rule::UnknownRegister], &[(0, &[0x13], 2)]),
    ("lantern-16", &[Rule::UndefinedValue], &[(0, &[0x12, 0x04, 0x06], 0)]),
    ("lantern-16", &[Rule::NotStarted, Rule::PartOfRegister, Rule::StatusNotRead], &[(0, &[0x21], 1)]),
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
        let mut found: Vec<Rule> = verdict.iter().map(|remark| remark.rule).collect();
        found.sort_unstable();
        found.dedup();
        let mut wanted = rules.to_vec();
        wanted.sort_unstable();
        assert_eq!(found, wanted, "{name} {steps:02X?}: {verdict:#?}");
        for remark in &verdict {
            assert!(!remark.what.is_empty() && !remark.rule.may_cause().is_empty());
            assert!(remark.line.is_some() || matches!(remark.rule, Rule::UnknownCommand | Rule::UnknownRegister), "{remark}");
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
    stand_in.set(part.reading("temperature").unwrap(), Signal::constant(21.0));
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

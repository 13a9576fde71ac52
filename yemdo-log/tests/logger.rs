//! The measuring loop: schedules, devices that go away and come back, what is counted and kept.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::error::Error;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use yemdo::Part;
use yemdo::bus::{Bus, Transfer};
use yemdo::stand_in::{Signal, StandIn};
use yemdo_bus::{BusError, Cause, Checked, Device, Port, Rig, RigPort};
use yemdo_log::{Audience, Clock, Connect, Entry, Logger, Measured, Moment, Station};

fn part() -> Part {
    let sheet = r#"
part = "winch-3"
i2c.address = 0x15
frame.PULL = { read = 3, command = [0xE5], code = { pull = "b2[2:0] b0 b1[7:4]" } }
reading.pull = { unit = "N", formula = "pull * 0.25" }
derived.work = { unit = "N·h", start = 0, gap = "1 h", formula = "before.work + pull * elapsed / 3600" }
"#;
    Part::parse("winch.toml", sheet).unwrap()
}

/// A port that can be unplugged.
type Plugged = Checked<RigPort, Box<dyn FnMut(&Transfer) -> Result<(), BusError>>>;

/// Everything that is heard, as lines.
#[derive(Default)]
struct Heard(Vec<String>);

impl<P: Port> Audience<P> for Heard {
    type Error = Box<dyn Error>;

    fn measured(&mut self, measured: &Measured<'_, P>) -> Result<(), Self::Error> {
        let values: Vec<String> = measured.entry.readings.iter().map(|one| format!("{}={:?}", one.reading, one.value)).collect();
        self.0.push(format!("{} {} {}", measured.at / 1000, measured.station.name(), values.join(" ")));
        Ok(())
    }

    fn failed(&mut self, at: u64, entry: &Entry) -> Result<(), Self::Error> {
        self.0.push(format!("{} {} failed: {}", at / 1000, entry.part, entry.error.as_ref().unwrap().cause));
        Ok(())
    }

    fn absent(&mut self, name: &str, why: &str) {
        self.0.push(format!("{name} absent: {why}"));
    }

    fn back(&mut self, name: &str) {
        self.0.push(format!("{name} back"));
    }
}

/// A bench whose line is gone after some transfers, and can be opened again at the third attempt.
struct Bench {
    rig: Rig,
    left: Arc<AtomicU64>,
    attempts: u64,
    gone: Vec<String>,
}

impl Bench {
    fn new(transfers: u64) -> Self {
        let rig = Rig::new();
        let mut stand_in = StandIn::new(&part(), 1).unwrap();
        stand_in.set(part().reading("pull").unwrap(), Signal::constant(90.0)).unwrap();
        rig.add(stand_in);
        Self { rig, left: Arc::new(AtomicU64::new(transfers)), attempts: 0, gone: Vec::new() }
    }
}

impl Connect<Plugged> for Bench {
    type Error = String;

    fn open(&mut self, _: &Station) -> Result<Device<Plugged>, String> {
        if !self.gone.is_empty() {
            self.attempts += 1;
            if self.attempts < 3 {
                return Err("no such device".into());
            }
            self.left.store(u64::MAX, Ordering::Relaxed);
        }
        let left = Arc::clone(&self.left);
        let check = move |_: &Transfer| match left.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |left| left.checked_sub(1)) {
            Ok(_) => Ok(()),
            Err(_) => Err(BusError::new(Cause::Gone, "unplugged")),
        };
        let port: Plugged = Checked::new(self.rig.port(0, Bus::I2c), Box::new(check));
        Device::new(port, part(), Bus::I2c).map_err(|error| error.to_string())
    }

    fn gone(&mut self, line: &str) {
        self.gone.push(line.to_owned());
    }
}

#[test]
fn each_part_has_its_own_pace() {
    let mut bench = Bench::new(u64::MAX);
    let mut logger = Logger::new(Clock::of_rig(&bench.rig, Moment::of_seconds(2e9)));
    logger.add(Station::new("fore", &part()).every(1_000_000)).add(Station::new("aft", &part()).every(400_000)).duration(1_900_000);
    let mut heard = Heard::default();
    logger.run(&mut bench, &mut heard).unwrap();
    let times = |name: &str| -> Vec<u64> {
        let own = heard.0.iter().filter(|line| line.split(' ').nth(1) == Some(name));
        // The bus is busy for less than a millisecond.
        own.map(|line| line.split(' ').next().unwrap().parse::<u64>().unwrap() / 10 * 10).collect()
    };
    assert_eq!((times("fore"), times("aft")), (vec![0, 1000], vec![0, 400, 800, 1200, 1600]), "{:?}", heard.0);
    assert!(logger.stations().all(|(_, tally)| tally.failures.is_empty() && tally.good == tally.tried()));
}

#[test]
fn what_was_unplugged_is_opened_again_and_sums_continue() {
    let mut bench = Bench::new(4);
    let mut logger = Logger::new(Clock::of_rig(&bench.rig, Moment::of_seconds(2e9)));
    for name in ["fore", "aft"] {
        logger.add(Station::new(name, &part()).on_line("i2c:1").every(60_000_000));
    }
    let mut heard = Heard::default();
    logger.count(6).run(&mut bench, &mut heard).unwrap();
    let of = |name: &str| -> Vec<String> {
        let lines = heard.0.iter().filter(|line| line.split(' ').any(|word| word == name));
        lines.map(|line| line.split_once(name).unwrap().1.trim().to_owned()).collect()
    };
    assert_eq!(bench.gone, ["i2c:1"], "the line is gone once, for both");
    // 90 N over a minute are 1.5 N·h; what was missed is not made up for.
    let fore = of("fore");
    assert_eq!(fore.iter().filter(|line| line.starts_with("failed: ")).count(), 1, "{fore:?}");
    assert!(fore.iter().any(|line| line == "absent: no such device") && fore.iter().any(|line| line == "back"), "{fore:?}");
    let work: Vec<&str> =
        fore.iter().filter_map(|line| line.split_once("work=Some(")).map(|(_, rest)| rest.trim_end_matches(')')).collect();
    assert!(work.len() >= 3 && work[0] == "0.0" && work[1] == "1.5", "{fore:?}");
    let last: f64 = work.last().unwrap().parse().unwrap();
    assert!(last > 1.5, "the sum continues after the absence: {fore:?}");
}

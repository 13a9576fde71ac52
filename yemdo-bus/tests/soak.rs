//! Many transactions with faults: never a wrong value, never a hang, every fault named. `tools/soak` runs a million of them.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stdout, missing_docs)] // tests end where something is wrong

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use yemdo::bus::Bus;
use yemdo::stand_in::{Fault, Faults, Signal, StandIn};
use yemdo::{Part, Status};
use yemdo_bus::{Device, Rig};

fn sheet(name: &str) -> Part {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets").join(format!("{name}.toml"));
    Part::parse(name, &fs::read_to_string(path).unwrap()).unwrap()
}

/// Parts whose answers carry a check: without one nobody can tell a flipped bit.
const CHECKED: [(&str, Bus, &str, f64, f64); 4] = [
    ("strake-20", Bus::I2c, "temperature", 17.215, 0.008),
    ("thole-9", Bus::I2c, "temperature", 4.44, 0.011),
    ("ember-14", Bus::I2c, "surface", 15.15, 0.016),
    ("garboard-rs", Bus::Modbus, "flow", 1234.5, 1e-3),
];

/// So many resident kilobytes, where the system tells.
fn resident() -> u64 {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap_or("");
    line.split_whitespace().nth(1).and_then(|number| number.parse().ok()).unwrap_or(0)
}

#[test]
fn faults_never_make_a_reading() {
    let transactions: u64 = std::env::var("YEMDO_SOAK").ok().and_then(|number| number.parse().ok()).unwrap_or(40_000);
    let seed: u64 = std::env::var("YEMDO_SOAK_SEED").ok().and_then(|number| number.parse().ok()).unwrap_or(1);
    for (name, bus, reading, wanted, near) in CHECKED {
        let part = sheet(name);
        let mut stand_in = StandIn::new(&part, seed).unwrap();
        stand_in.set(part.reading(reading).unwrap(), Signal::constant(wanted)).unwrap();
        let rig = Rig::new();
        let place = rig.add(stand_in);
        rig.set_faults(place, Faults::seeded(seed, 0.01, &Fault::ALL));
        let mut device = Device::new(rig.port(place, bus), part, bus).unwrap();
        let mut causes: BTreeMap<&'static str, u64> = BTreeMap::new();
        let (mut good, mut not_ready, mut before) = (0u64, 0u64, 0);
        let own = transactions / CHECKED.len() as u64;
        while rig.transfers(place) < own {
            match device.measure() {
                Ok(measured) => {
                    let found = measured.reading(reading).unwrap();
                    match (found.value, found.status) {
                        (Some(value), _) => {
                            assert!(
                                (value - wanted).abs() <= near,
                                "{name}: {value} after {} transfers, {:?}",
                                rig.transfers(place),
                                rig.injected(place).last()
                            );
                            good += 1;
                        }
                        (None, Status::NotReady) => not_ready += 1,
                        (None, other) => panic!("{name}: {}", other.as_str()),
                    }
                }
                Err(error) => {
                    assert!(!error.cause().is_empty() && error.is_transient(), "{name}: {error}");
                    *causes.entry(error.cause()).or_default() += 1;
                }
            }
            if before == 0 && rig.transfers(place) > own / 10 {
                before = resident();
            }
        }
        // The list of injected faults is bounded; nothing else grows.
        let grown = resident().saturating_sub(before);
        assert!(grown < 8 << 10, "{name} grew by {grown} kB");
        let faults: u64 = causes.values().sum::<u64>() + not_ready;
        println!(
            "{name}: {} transfers, {good} good readings, {not_ready} not ready, failed {causes:?}, memory + {grown} kB",
            rig.transfers(place)
        );
        assert!(good > faults * 10 && !causes.is_empty(), "{name}: {good} good, {causes:?}");
    }
}

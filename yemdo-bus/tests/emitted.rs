//! Drivers as `emit` writes them, in whole, so that every change of the output is seen; they are compiled here, and run against the
//! stand-ins, which find nothing to complain of. `UPDATE=1` in the environment writes them anew.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::path::{Path, PathBuf};

use yemdo::Part;
use yemdo::emit::{Language, Options, firmware};
use yemdo::stand_in::{Fault, Faults, Signal, StandIn};
use yemdo_bus::Rig;

/// What `emit rust` writes, as it writes it.
#[allow(dead_code, unreachable_pub)]
mod emitted {
    #[rustfmt::skip]
    pub mod ember_14;
    #[rustfmt::skip]
    pub mod lantern_16;
    #[rustfmt::skip]
    pub mod plumb_2;
    #[rustfmt::skip]
    pub mod strake_20;
    #[rustfmt::skip]
    pub mod thole_9;
}
use emitted::{ember_14, lantern_16, plumb_2, strake_20, thole_9};

fn folder(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join(name)
}

fn sheet(name: &str) -> Part {
    let text = fs::read_to_string(folder("../sheets").join(format!("{name}.toml"))).unwrap();
    Part::parse(name, &text).unwrap()
}

fn rig(name: &str, world: &[(&str, &str)]) -> Rig {
    let part = sheet(name);
    let mut stand_in = StandIn::new(&part, 2).unwrap();
    for (reading, signal) in world {
        stand_in.set(part.reading(reading).unwrap(), Signal::parse(signal).unwrap());
    }
    let rig = Rig::new();
    rig.add(stand_in);
    rig
}

fn near(found: Option<f64>, wanted: f64, off: f64) {
    assert!(found.is_some_and(|found| (found - wanted).abs() <= off), "{found:?}, not {wanted}");
}

#[test]
fn what_is_emitted_is_what_stands_here() {
    for name in ["ember-14", "lantern-16", "plumb-2", "strake-20", "thole-9"] {
        for file in firmware(&sheet(name), Language::Rust, &Options::default()).unwrap() {
            let path = folder("tests/emitted").join(&file.name);
            if std::env::var_os("UPDATE").is_some() {
                fs::write(&path, &file.text).unwrap();
            }
            let known = fs::read_to_string(&path).unwrap();
            let differs = known.lines().zip(file.text.lines()).position(|(one, other)| one != other);
            assert!(known == file.text, "{} from line {:?} on", file.name, differs.map(|line| line + 1));
        }
    }
}

#[test]
fn a_measurement_brings_what_the_world_is() {
    for celsius in [-7.4, 21.5, 83.0] {
        let rig = rig("strake-20", &[("temperature", &celsius.to_string()), ("humidity", "47")]);
        let mut driver = strake_20::Driver::new(rig.i2c(), rig.delay());
        driver.measure().unwrap();
        let readings = driver.device.air_readings().unwrap();
        near(readings.temperature.get(), celsius, 0.02);
        near(readings.humidity.get(), 47.0, 0.01);
        assert_eq!(rig.verdict(), []);
    }
    let rig = rig("plumb-2", &[("distance", "1250")]);
    let mut driver = plumb_2::Driver::new(rig.i2c(), rig.delay());
    driver.measure().unwrap();
    near(driver.device.echo_readings().unwrap().distance.get(), 1250.0, 0.2);
    assert_eq!(rig.verdict(), []);
}

#[test]
fn a_part_with_packet_error_codes_is_identified_and_read() {
    let rig = rig("ember-14", &[("surface", "23.4")]);
    let mut driver = ember_14::Driver::new(rig.i2c(), rig.delay());
    driver.identify().unwrap();
    driver.measure().unwrap();
    near(driver.device.surface_readings().unwrap().surface.get(), 23.4, 0.03);
    assert_eq!(driver.device.label().map(|label| label.bytes), Some(11));
    assert_eq!(rig.verdict(), []);
}

#[test]
fn settings_reach_the_part() {
    let rig = rig("lantern-16", &[("illuminance", "300"), ("warm", "0.2")]);
    let mut driver = lantern_16::Driver::new(rig.i2c(), rig.delay());
    let pairs = [(lantern_16::Gain::Single, lantern_16::Time::Ms162), (lantern_16::Gain::Fivefold, lantern_16::Time::Ms54)];
    for (gain, time) in pairs {
        assert!(driver.device.settings.set_gain(gain) && driver.device.settings.set_time(time));
        driver.measure().unwrap();
        near(driver.device.light_readings().unwrap().illuminance.get(), 300.0, 0.1);
        assert_eq!((driver.device.settings.gain(), driver.device.settings.time()), (gain, time));
    }
    driver.sleep().unwrap();
    assert_eq!(rig.verdict(), []);
    // A code that no value has a name for stays what it is.
    assert!(driver.device.settings.set_gain(lantern_16::Gain::Other(3)) && !driver.device.settings.set_gain(lantern_16::Gain::Other(4)));
    assert_eq!(driver.device.settings.gain().code(), 3);
}

#[test]
fn thresholds_go_there_and_back() {
    let rig = rig("thole-9", &[("temperature", "-12.4")]);
    let mut driver = thole_9::Driver::new(rig.i2c(), rig.delay());
    let settings = &mut driver.device.settings;
    assert!(settings.set_upper_threshold(31.0) && settings.set_lower_threshold(-4.1));
    near(Some(settings.upper_threshold()), 31.04, 0.001);
    near(Some(settings.lower_threshold()), -4.16, 0.001);
    near(Some(settings.hysteresis()), 35.2, 0.001);
    // What the command would write for them.
    assert_eq!((settings.high, settings.low), (0x1840, 0xFCC0));
    assert!(!settings.set_upper_threshold(1000.0) && !settings.set_lower_threshold(f64::NAN));
    driver.measure().unwrap();
    near(driver.device.frost_readings().unwrap().temperature.get(), -12.4, 0.01);
    driver.sleep().unwrap();
    assert_eq!(rig.verdict(), []);
}

#[test]
fn errors_are_told_apart() {
    use strake_20::{Driver, Error, Failure};
    let cases = [(Fault::Nak, Failure::NoAnswer), (Fault::FlippedBit, Failure::CheckFailed)];
    for (fault, wanted) in cases {
        let rig = rig("strake-20", &[]);
        rig.set_faults(0, Faults::seeded(3, 1.0, &[fault]));
        let mut driver = Driver::new(rig.i2c(), rig.delay());
        assert_eq!(driver.measure(), Err(Error::Failed(wanted)), "{fault:?}");
        assert_eq!((driver.device.air(), driver.device.air_readings()), (None, None));
    }
    let rig = rig("strake-20", &[]);
    rig.set_faults(0, Faults::seeded(3, 1.0, &[Fault::StuckBus]));
    assert!(matches!(Driver::new(rig.i2c(), rig.delay()).measure(), Err(Error::Bus(_))));
    // Another part at the address of lantern-16.
    let text = fs::read_to_string(folder("../sheets/lantern-16.toml")).unwrap().replace("reset  = 0x4C61", "reset  = 0x1234");
    let rig = Rig::new();
    rig.add(StandIn::new(&Part::parse("other", &text).unwrap(), 2).unwrap());
    let mut driver = lantern_16::Driver::new(rig.i2c(), rig.delay());
    assert_eq!(driver.wake(), Err(lantern_16::Error::Failed(lantern_16::Failure::Unexpected)));
}

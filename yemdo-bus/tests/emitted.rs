//! Drivers as `emit` writes them, in whole, so that every change of the output is seen; they are compiled here, and run against the
//! stand-ins, which find nothing to complain of. `UPDATE=1` in the environment writes them anew.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::path::{Path, PathBuf};

use yemdo::bus::Bus;
use yemdo::configure::{LastReading, Limits, Wish, WriteScope, choose, configure, next_range, quantity_value};
use yemdo::emit::{FirmwareOptions, Language, firmware};
use yemdo::stand_in::{Fault, Faults, Signal, StandIn};
use yemdo::{Part, State};
use yemdo_bus::{Device, Rig};

/// What `emit rust` writes, as it writes it.
#[allow(dead_code, unreachable_pub)]
mod emitted {
    #[rustfmt::skip]
    pub mod binnacle_24;
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
use emitted::{binnacle_24, ember_14, lantern_16, plumb_2, strake_20, thole_9};

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
        stand_in.set(part.reading(reading).unwrap(), Signal::parse(signal).unwrap()).unwrap();
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
    for name in ["binnacle-24", "ember-14", "lantern-16", "plumb-2", "strake-20", "thole-9"] {
        for file in firmware(&sheet(name), Language::Rust, &FirmwareOptions::default()).unwrap() {
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

/// Calibration words and integer compensation: what a device of the library reads of the same part, to the last bit.
#[test]
fn calibration_and_compensation_are_those_of_the_library() {
    for (celsius, hectopascals) in [("-31.5", "655.2"), ("18.6", "1008.4"), ("64.2", "1091.7")] {
        let rig = rig("binnacle-24", &[("temperature", celsius), ("pressure", hectopascals)]);
        let mut driver = binnacle_24::Driver::new(rig.i2c(), rig.delay());
        driver.measure().unwrap();
        assert!(driver.device.pressure_readings().is_none(), "it waits for the calibration");
        driver.read_calibration().unwrap();
        driver.measure().unwrap();
        let part = sheet("binnacle-24");
        let mut device = Device::new(rig.port(0, Bus::I2c), part.clone(), Bus::I2c).unwrap();
        let measured = device.measure().unwrap();
        let (pressure, temperature) = (driver.device.pressure_readings().unwrap(), driver.device.temperature_readings().unwrap());
        let readings =
            [("temperature", temperature.temperature), ("pressure", pressure.pressure), ("pressure_float", pressure.pressure_float)];
        for (name, found) in readings {
            let wanted = measured.reading(name).unwrap().value;
            assert_eq!(found.get().map(f64::to_bits), wanted.map(f64::to_bits), "{name} at {celsius} °C, {hectopascals} hPa");
        }
        // The last digit of `pow` differs from library to library.
        near(pressure.altitude.get(), measured.reading("altitude").unwrap().value.unwrap(), 1e-9);
        near(pressure.pressure.get(), hectopascals.parse().unwrap(), 0.2);
        assert_eq!(rig.verdict(), []);
    }
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
fn a_threshold_of_two_fields_is_as_near_as_the_command_sets_it() {
    let part = sheet("lantern-16");
    let (upper, start) = (part.quantity("upper_limit").unwrap(), State::reset(&part));
    for (gain, time) in [(lantern_16::Gain::Single, lantern_16::Time::Ms162), (lantern_16::Gain::Fivefold, lantern_16::Time::Ms54)] {
        for wanted in [0.0, 0.04, 1.0, 37.7, 410.0, 9_000.0, 1.0e5, 1.0e9, -1.0, f64::NAN] {
            let rig = rig("lantern-16", &[]);
            let mut driver = lantern_16::Driver::new(rig.i2c(), rig.delay());
            let settings = &mut driver.device.settings;
            assert!(settings.set_gain(gain) && settings.set_time(time));
            let typed = format!("upper_limit={wanted}lx");
            let others = [format!("GAIN={}", gain.code()), format!("TIME={}", time.code()), typed.clone()];
            let wishes: Vec<Wish> = others.iter().filter_map(|typed| Wish::parse(&part, typed).ok()).collect();
            let by_command = configure(&part, &start, &wishes, WriteScope::Changed).ok().filter(|_| wishes.len() == 3);
            let before = settings.upper;
            assert_eq!(settings.set_upper_limit(wanted), by_command.is_some(), "{typed}");
            let Some(by_command) = by_command else {
                assert_eq!(settings.upper, before, "{typed}: nothing is set");
                continue;
            };
            // Of two values as near as each other, either will do.
            let off = |value: Option<f64>| (value.unwrap() - wanted).abs();
            let (made, known) = (off(settings.upper_limit()), off(quantity_value(&part, upper, &by_command.state)));
            assert!((made - known).abs() <= 1e-12 * wanted, "{typed}: off by {made}, by the command {known}");
        }
    }
}

#[test]
fn ranges_are_chosen_as_the_library_chooses_them() {
    let part = sheet("lantern-16");
    let choices = choose(&part, part.reading("illuminance").ok(), &State::reset(&part), &Limits::default()).unwrap();
    let scales: Vec<f64> = choices.iter().map(|choice| choice.range.unwrap().1).collect();
    let set = |settings: &mut lantern_16::Settings, row: usize| {
        let code = |name: &str| {
            let field = part.field(name).unwrap();
            u8::try_from(choices[row].codes.iter().find(|(id, _)| *id == field).unwrap().1).unwrap()
        };
        assert!(settings.set_gain(lantern_16::Gain::from_code(code("GAIN"))));
        assert!(settings.set_time(lantern_16::Time::from_code(code("TIME"))));
    };
    let values = [0.0, 60.0, 87.3, 87.4, 174.0, 175.0, 800.0, 5000.0, 25_199.0, 25_201.0, 31_000.0, 1.0e9, -300.0, f64::NAN];
    for (now, last) in (0..scales.len()).flat_map(|now| values.map(|value| (now, Some(value))).into_iter().chain([(now, None)])) {
        let mut settings = lantern_16::Settings::default();
        set(&mut settings, now);
        let before = settings.clone();
        let next = next_range(&scales, now, last.map_or(LastReading::Saturated, LastReading::Value));
        let changed = settings.next_range_illuminance(last.unwrap_or(30_000.0), last.is_none());
        let mut wanted = before;
        set(&mut wanted, next);
        assert_eq!((settings, changed), (wanted, next != now), "{now} {last:?}");
    }
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

/// The dose of light, a function in the firmware, is what the decoder adds up to.
#[test]
fn a_dose_adds_up_as_in_the_decoder() {
    let part = sheet("lantern-16");
    let id = part.frame("LIGHT").unwrap();
    let mut decoder = yemdo::Decoder::new(&part);
    let (mut dose, mut before) = (lantern_16::DOSE_START, None);
    let mut settings = lantern_16::Settings::default();
    assert!(settings.set_sleep(lantern_16::Sleep::Awake));
    for (at, level) in [0x1770u16, 0x0190, 0x2000, 0x0001].into_iter().enumerate() {
        let [high, low] = level.to_be_bytes();
        let bytes = [0x00, 0x20, high, low, 0x0D, 0xAC];
        let frame = lantern_16::LightFrame::unpack(&bytes).unwrap();
        let now = frame.illuminance(&settings).get().unwrap();
        if let Some(before) = before.replace(now) {
            dose = lantern_16::dose(now, before, dose, lantern_16::DOSE_GAP).unwrap();
        }
        decoder.measured_at(&[at as f64 * lantern_16::DOSE_GAP]);
        assert_eq!(decoder.decode(id, &bytes).unwrap().reading("dose").unwrap().value, Some(dose));
    }
    assert!(dose > 0.0);
}

//! The drivers against the stand-ins: what is read is what the world is, and the part has nothing to complain of.

use std::future::Future;
use std::path::Path;
use std::pin::pin;
use std::task::{Context, Poll, Waker};

use embedded_hal::delay::DelayNs as _;
use firmware_tests::{double, integer, single};
use yemdo::Part;
use yemdo::bus::{Bus, Transfer};
use yemdo::stand_in::{Fault, Faults, Signal, StandIn};
use yemdo_bus::{Port as _, Rig};

fn sheet(name: &str) -> Part {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../sheets").join(format!("{name}.toml"));
    Part::parse(name, &std::fs::read_to_string(path).unwrap()).unwrap()
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

fn near(found: f64, wanted: f64, off: f64) {
    assert!((found - wanted).abs() <= off, "{found}, not {wanted}");
}

fn ready<T>(future: impl Future<Output = T>) -> T {
    match pin!(future).poll(&mut Context::from_waker(Waker::noop())) {
        Poll::Ready(done) => done,
        Poll::Pending => panic!("it waits"),
    }
}

/// The bench's I2C and delay for what is asynchronous: they never wait.
struct Soon<T>(T);

impl<T: embedded_hal::i2c::ErrorType> embedded_hal_async::i2c::ErrorType for Soon<T> {
    type Error = T::Error;
}

impl<T: embedded_hal::i2c::I2c> embedded_hal_async::i2c::I2c for Soon<T> {
    async fn transaction(&mut self, address: u8, operations: &mut [embedded_hal::i2c::Operation<'_>]) -> Result<(), T::Error> {
        self.0.transaction(address, operations)
    }
}

impl<T: embedded_hal::delay::DelayNs> embedded_hal_async::delay::DelayNs for Soon<T> {
    async fn delay_ns(&mut self, ns: u32) {
        self.0.delay_ns(ns);
    }
}

#[test]
fn strake_20_measures() {
    for celsius in ["-7.4", "21.5", "83"] {
        let rig = rig("strake-20", &[("temperature", celsius), ("humidity", "47")]);
        let mut driver = double::strake_20::Driver::new(rig.i2c(), rig.delay());
        driver.measure().unwrap();
        let readings = driver.device.air_readings().unwrap();
        near(readings.temperature.get().unwrap(), celsius.parse().unwrap(), 0.02);
        near(readings.humidity.get().unwrap(), 47.0, 0.01);
        assert_eq!(rig.verdict(), []);
        // The same, asynchronous and in 32 bits; and the same again, in integers, by hand.
        rig.delay().delay_ms(20);
        let mut driver = single::strake_20::Driver::new(Soon(rig.i2c()), Soon(rig.delay()));
        ready(driver.measure()).unwrap();
        near(f64::from(driver.device.air_readings().unwrap().humidity.value), 47.0, 0.01);
        rig.delay().delay_ms(20);
        let (mut device, mut run) = (integer::strake_20::Device::RESET, integer::strake_20::MeasureRun::new());
        let (mut answered, mut asked) = (true, 0);
        loop {
            use embedded_hal::i2c::I2c as _;
            use integer::strake_20::Request;
            asked += 1;
            answered = match run.step(&mut device, answered).unwrap() {
                Request::Transfer { write, read: [] } => rig.i2c().write(0x2C, write).is_ok(),
                Request::Transfer { read, .. } => rig.i2c().read(0x2C, read).is_ok(),
                Request::Wait(micros) => {
                    rig.pass(u64::from(micros));
                    true
                }
                Request::Finished => break,
            };
        }
        assert_eq!(asked, 4);
        near(f64::from(device.air_readings().unwrap().temperature.value) / 1000.0, celsius.parse().unwrap(), 0.02);
        assert_eq!(rig.verdict(), []);
    }
}

#[test]
fn errors_are_told_apart() {
    use double::strake_20::{Driver, Error, Failure};
    let cases = [
        (Fault::Nak, Error::Failed(Failure::NoAnswer)),
        (Fault::FlippedBit, Error::Failed(Failure::CheckFailed)),
    ];
    for (fault, wanted) in cases {
        let rig = rig("strake-20", &[]);
        rig.set_faults(0, Faults::seeded(3, 1.0, &[fault]));
        let mut driver = Driver::new(rig.i2c(), rig.delay());
        assert_eq!(driver.measure(), Err(wanted), "{fault:?}");
        assert_eq!(driver.device.air(), None);
    }
    // Another part than lantern-16 at its address.
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../sheets/lantern-16.toml");
    let other = std::fs::read_to_string(path).unwrap().replace("reset  = 0x4C61", "reset  = 0x1234");
    let rig = Rig::new();
    rig.add(StandIn::new(&Part::parse("other", &other).unwrap(), 2).unwrap());
    let mut driver = double::lantern_16::Driver::new(rig.i2c(), rig.delay());
    assert_eq!(driver.wake(), Err(double::lantern_16::Error::Failed(double::lantern_16::Failure::Unexpected)));
}

#[test]
fn lantern_16_is_set_polled_and_put_to_sleep() {
    let rig = rig("lantern-16", &[("illuminance", "300"), ("warm", "0.2")]);
    let mut driver = double::lantern_16::Driver::new(rig.i2c(), rig.delay());
    for (gain, time, off) in [
        (double::lantern_16::Gain::Single, double::lantern_16::Time::Ms162, 0.1),
        (double::lantern_16::Gain::Fivefold, double::lantern_16::Time::Ms54, 0.1),
    ] {
        assert!(driver.device.settings.set_gain(gain) && driver.device.settings.set_time(time));
        driver.measure().unwrap();
        let readings = driver.device.light_readings().unwrap();
        near(readings.illuminance.get().unwrap(), 300.0, off);
        near(readings.warm.get().unwrap(), 0.2, 0.001);
    }
    driver.sleep().unwrap();
    assert_eq!(rig.verdict(), []);
}

#[test]
fn thole_9_takes_thresholds() {
    let rig = rig("thole-9", &[("temperature", "-12.4")]);
    let mut driver = double::thole_9::Driver::new(rig.i2c(), rig.delay());
    let settings = &mut driver.device.settings;
    assert!(settings.set_resolution(double::thole_9::Resolution::Bits14));
    assert!(settings.set_upper_threshold(31.0) && settings.set_lower_threshold(-4.1));
    near(settings.upper_threshold(), 31.04, 0.001);
    near(settings.lower_threshold(), -4.16, 0.001);
    near(settings.hysteresis(), 35.2, 0.001);
    assert!(!settings.set_upper_threshold(1000.0));
    driver.measure().unwrap();
    near(driver.device.frost_readings().unwrap().temperature.get().unwrap(), -12.4, 0.01);
    driver.sleep().unwrap();
    assert_eq!(rig.verdict(), []);
}

#[test]
fn the_others_measure() {
    let rig_of = |name: &str, world: &[(&str, &str)]| rig(name, world);
    let rig = rig_of("plumb-2", &[("distance", "1250")]);
    let mut driver = double::plumb_2::Driver::new(rig.i2c(), rig.delay());
    driver.measure().unwrap();
    near(driver.device.echo_readings().unwrap().distance.get().unwrap(), 1250.0, 0.2);
    assert_eq!(rig.verdict(), []);

    let rig = rig_of("ember-14", &[("surface", "23.4")]);
    let mut driver = double::ember_14::Driver::new(rig.i2c(), rig.delay());
    driver.identify().unwrap();
    driver.measure().unwrap();
    near(driver.device.surface_readings().unwrap().surface.get().unwrap(), 23.4, 0.03);
    assert_eq!(rig.verdict(), []);

    let rig = rig_of("binnacle-24", &[("temperature", "19.4"), ("pressure", "1002.3")]);
    let mut driver = double::binnacle_24::Driver::new(rig.i2c(), rig.delay());
    driver.read_calibration().unwrap();
    driver.measure().unwrap();
    near(driver.device.temperature_readings().unwrap().temperature.get().unwrap(), 19.4, 0.02);
    near(driver.device.pressure_readings().unwrap().pressure.get().unwrap(), 1002.3, 0.02);
    assert_eq!(rig.verdict(), []);

    let rig = rig_of("caulk-1", &[("moisture", "22"), ("timber", "18")]);
    let mut driver = double::caulk_1::Driver::new(rig.spi(0));
    driver.measure().unwrap();
    near(driver.device.pin_readings().unwrap().moisture.get().unwrap(), 22.0, 0.1);
    assert_eq!(rig.verdict(), []);

    let rig = rig_of("keelson-6", &[("acceleration_z", "0.8"), ("turn_x", "3")]);
    let mut driver = double::keelson_6::Driver::new(rig.i2c(), rig.delay(), rig.line(0));
    driver.start().unwrap();
    driver.settle().unwrap();
    driver.measure().unwrap();
    driver.clear_dropped().unwrap();
    let readings = driver.device.motion_readings().unwrap();
    near(readings.acceleration_z.get().unwrap(), 0.8, 0.001);
    near(readings.turn_x.get().unwrap(), 3.0, 0.01);
    assert_eq!(rig.verdict(), []);
}

/// A Modbus client on the bench.
struct Client(Rig);

impl double::garboard_rs::ModbusClient for Client {
    type Error = String;

    fn read(&mut self, unit: u8, function: u8, address: u16, count: u16, data: &mut [u8]) -> Result<bool, String> {
        let modbus = sheet("garboard-rs").with_unit(unit);
        let wire = modbus.buses().wire(Bus::Modbus).unwrap();
        let mut send = vec![unit, function];
        send.extend(address.to_be_bytes());
        send.extend(count.to_be_bytes());
        let transfer = Transfer {
            bus: Bus::Modbus,
            address: Some(unit),
            send: yemdo::bus::modbus::with_crc(send),
            receive: data.len() + 5,
            restart: false,
            discard: false,
        };
        let answer = self.0.port(0, Bus::Modbus).transfer(&transfer).map_err(|error| error.to_string())?;
        data.copy_from_slice(wire.data(&transfer, &answer).map_err(|error| format!("{error:?}"))?);
        Ok(true)
    }

    fn write(&mut self, _: u8, _: u16, _: &[u8]) -> Result<bool, String> {
        Ok(false)
    }
}

#[test]
fn garboard_rs_is_asked_over_modbus() {
    let rig = rig("garboard-rs", &[("supply", "21.5"), ("flow", "1234")]);
    let mut driver = double::garboard_rs::Driver::new(Client(rig.clone()));
    driver.measure().unwrap();
    let readings = driver.device.air_readings().unwrap();
    near(readings.supply.get().unwrap(), 21.5, 0.05);
    near(readings.flow.value, 1234.0, 0.1);
    assert_eq!(rig.verdict(), []);
}

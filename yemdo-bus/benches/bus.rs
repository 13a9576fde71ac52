//! How fast stand-ins answer, and what a device costs over the bare calls of its bus.

#![allow(clippy::unwrap_used, missing_docs)] // a benchmark ends where something is wrong

use std::net::{Ipv4Addr, SocketAddr};

use divan::Bencher;
use embedded_hal::i2c::I2c;
use yemdo::Part;
use yemdo::bus::Bus;
use yemdo::stand_in::{Signal, StandIn};
use yemdo_bus::modbus::{Patience, connect};
use yemdo_bus::{Device, Rig, serve_tcp};

fn main() {
    divan::main();
}

fn rig(name: &str, text: &str, reading: &str) -> (Rig, Part) {
    let part = Part::parse(name, text).unwrap();
    let mut stand_in = StandIn::new(&part, 1).unwrap();
    stand_in.set(part.reading(reading).unwrap(), Signal::constant(20.0)).unwrap();
    let rig = Rig::new();
    rig.add(stand_in);
    (rig, part)
}

/// One register of an I2C part, in process; `items` are reads.
#[divan::bench]
fn register_reads_in_process(bencher: Bencher) {
    let (rig, _) = rig("lantern-16", include_str!("../../sheets/lantern-16.toml"), "illuminance");
    let mut i2c = rig.i2c();
    let mut bytes = [0; 2];
    bencher.counter(1u32).bench_local(|| i2c.write_read(0x4E, &[0x12], &mut bytes));
}

/// A Modbus TCP read on loopback, one after the other.
#[divan::bench]
fn modbus_tcp_reads(bencher: Bencher) {
    let (rig, part) = rig("garboard-rs", include_str!("../../sheets/garboard-rs.toml"), "supply");
    let server = serve_tcp(&rig, SocketAddr::from((Ipv4Addr::LOCALHOST, 0))).unwrap();
    let port = connect("127.0.0.1", server.address().port(), Patience::default()).unwrap();
    let mut device = Device::new(port, part, Bus::Modbus).unwrap();
    bencher.counter(1u32).bench_local(|| device.raw(&[4, 0, 10, 0, 8], 21).unwrap());
}

/// A bus that costs nothing: it gives the same bytes.
#[derive(Clone)]
struct Free;

impl embedded_hal::i2c::ErrorType for Free {
    type Error = std::convert::Infallible;
}

impl I2c for Free {
    fn transaction(&mut self, _: u8, operations: &mut [embedded_hal::i2c::Operation<'_>]) -> Result<(), Self::Error> {
        for operation in operations {
            if let embedded_hal::i2c::Operation::Read(bytes) = operation {
                bytes.copy_from_slice(&[0x10, 0xAC, 0x43][..bytes.len()]);
            }
        }
        Ok(())
    }
}

/// A delay that does not wait.
struct AtOnce;

impl embedded_hal::delay::DelayNs for AtOnce {
    fn delay_ns(&mut self, _: u32) {}
}

/// `Device::measure` where bus and waits cost nothing.
#[divan::bench(sample_size = 1000)]
fn measure_over_a_free_bus(bencher: Bencher) {
    let part = Part::parse("thole-9", include_str!("../../sheets/thole-9.toml")).unwrap();
    let mut device = Device::i2c(Free, part).unwrap().with_delay(AtOnce);
    bencher.bench_local(|| device.measure().unwrap());
}

/// The same by the bare calls, and a formula by hand.
#[divan::bench]
fn bare_calls(bencher: Bencher) {
    let mut i2c = Free;
    bencher.bench_local(|| {
        let mut frame = [0; 3];
        i2c.write(0x51, &[0x14, 0x86]).unwrap();
        i2c.write_read(0x51, &[0x31], &mut frame).unwrap();
        let good = !frame[0].wrapping_add(frame[1]) == frame[2];
        good.then(|| f64::from(i16::from_be_bytes([frame[0], frame[1]]) >> 2) * 0.02)
    });
}

//! The state known to a device: after failed transfers, after routines that change settings after a read, and after lost answers.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::path::Path;
use std::pin::pin;
use std::task::{Context, Poll, Waker};

use yemdo::bus::{Bus, Transfer};
use yemdo::part::Access;
use yemdo::stand_in::{Fault, Faults, Signal, StandIn};
use yemdo::{Part, State};
use yemdo_bus::recording::{MAX_RECORDING, Playback, Recorder};
use yemdo_bus::{AsyncDevice, AsyncPort, BusError, Device, Port, Rig, RigPort};

const SHEETS: [&str; 9] =
    ["binnacle-24", "caulk-1", "ember-14", "garboard-rs", "keelson-6", "lantern-16", "plumb-2", "strake-20", "thole-9"];

fn sheet(name: &str) -> Part {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets").join(format!("{name}.toml"));
    Part::parse(name, &fs::read_to_string(path).unwrap()).unwrap()
}

fn bench(part: &Part, bus: Bus) -> (Rig, RigPort) {
    let rig = Rig::new();
    let place = rig.add(StandIn::new(part, 3).unwrap());
    let port = rig.port(place, bus);
    (rig, port)
}

/// Settings for some writable fields with a table: the last row of each.
fn wishes(part: &Part) -> Vec<String> {
    let writable = part.fields().iter().filter(|field| field.access() == Access::ReadWrite && !field.values().is_empty());
    // A change of speed has its own tests.
    let named = writable.filter(|field| part.field(field.name()).is_ok() && field.name() != "SPEED");
    named.filter_map(|field| Some(format!("{}={}", field.name(), field.values().last()?.name.clone()?))).take(4).collect()
}

/// Known registers match the part, for each lost transfer. (Registers that the part changes are left out.)
#[test]
fn what_is_known_is_so_whatever_fails() {
    let mut failed = 0;
    for part in SHEETS.map(sheet) {
        let wishes = wishes(&part);
        let wishes: Vec<&str> = wishes.iter().map(String::as_str).collect();
        // SPI has no acknowledge: a missing part reads as all ones.
        for bus in part.buses().all().filter(|bus| *bus != Bus::Spi) {
            for k in 0..12 {
                let (rig, port) = bench(&part, bus);
                rig.set_faults(0, Faults::none().at(k, Fault::Nak));
                let mut device = Device::new(port, part.clone(), bus).unwrap();
                failed += usize::from(device.configure(&wishes).is_err());
                let held = rig.with_part(0, |stand_in| stand_in.state().clone()).unwrap();
                let own = |field: &&yemdo::part::Field| field.access() == Access::ReadWrite;
                for register in part.registers().iter().filter(|register| register.access() == Access::ReadWrite) {
                    let steady = part.fields().of(register.fields()).all(|field| own(&field));
                    if let Some(known) = device.state().known_register(register).filter(|_| steady) {
                        assert_eq!(known, held.register(register), "{}: {} with transfer {k} lost", part.name(), register.name());
                    }
                }
                // A retry succeeds; repeating it writes nothing.
                let failures = (0..k + 2).filter(|_| device.configure(&wishes).is_err()).count();
                assert!(failures < 3, "{}, {k}: {failures}", part.name());
                device.configure(&wishes).unwrap_or_else(|error| panic!("{}, {k}: {error}", part.name()));
                let again = device.plan(&wishes, yemdo::configure::WriteScope::Changed).unwrap();
                assert!(again.writes.is_empty(), "{}, {k}: {:?}", part.name(), again.writes);
            }
        }
    }
    assert!(failed > 8, "{failed} failures");
}

struct Awaited(RigPort);

impl AsyncPort for Awaited {
    async fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        Port::transfer(&mut self.0, transfer)
    }

    async fn wait(&mut self, micros: u64) {
        Port::wait(&mut self.0, micros);
    }

    async fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        Port::line(&mut self.0, high, within)
    }

    fn supply(&mut self, state: &State) {
        Port::supply(&mut self.0, state);
    }
}

fn now<T>(future: impl Future<Output = T>) -> T {
    match pin!(future).poll(&mut Context::from_waker(Waker::noop())) {
        Poll::Ready(value) => value,
        Poll::Pending => panic!("a port that is ready at once"),
    }
}

/// After one lost transfer in the first measurement, calibration is read again.
#[test]
fn one_fault_is_not_for_ever() {
    for part in SHEETS.map(sheet) {
        for bus in part.buses().all() {
            for k in 1..10 {
                let (rig, port) = bench(&part, bus);
                rig.set_faults(0, Faults::none().at(k, Fault::Nak));
                let mut device = Device::new(port, part.clone(), bus).unwrap();
                let (_, other) = bench(&part, bus);
                let mut awaited = AsyncDevice::new(Awaited(other), part.clone(), bus).unwrap();
                // The fault occurs within these measurements.
                let failures = (0..k + 2).filter(|_| device.measure().is_err()).count();
                let second = device.measure().unwrap_or_else(|error| panic!("{}, {k}: {error}", part.name()));
                for reading in second.readings() {
                    let waits = reading.status == yemdo::Status::Waiting && reading.waits_for.iter().any(|frame| !frame.is_empty());
                    assert!(!waits, "{}, transfer {k} lost, {failures} failures: {} {reading}", part.name(), reading.name);
                }
                // An async device reads the same frames.
                let frames = |measurement: &yemdo_bus::Measurement| -> Vec<usize> {
                    measurement.frames.iter().map(|frame| yemdo::part::Id::index(frame.decoded().frame)).collect()
                };
                assert_eq!(frames(&now(awaited.measure()).unwrap()), frames(&second), "{}", part.name());
            }
        }
    }
}

/// A frame is decoded with the settings of its time, although the routine changes them later.
#[test]
fn frames_are_decoded_as_the_part_was_then() {
    let part = Part::parse(
        "spar-11.toml",
        r#"
        part = "spar-11"
        i2c.address = 0x21
        register.MODE = { at = 4, reset = 0, field.SPAN = { bits = "[7]", values = [{ code = 0, name = "small", full = 10 }, { code = 1, name = "large", full = 40 }] }, reserved = { bits = "[6:0]", write = 0 } }
        frame.FORCE = { command = [0xB1], read = 2, code = { force = "b0 b1" } }
        reading.force = { unit = "N", formula = "force * SPAN.full / 65536" }
        routine.measure = [{ set = { SPAN = "large" } }, { read = "FORCE" }, { set = { SPAN = "small" } }]
        "#,
    )
    .unwrap();
    let rig = Rig::new();
    let mut stand_in = StandIn::new(&part, 3).unwrap();
    stand_in.set(part.reading("force").unwrap(), Signal::parse("25").unwrap()).unwrap();
    let place = rig.add(stand_in);
    let mut recording = Vec::new();
    let port = Recorder::new(rig.port(place, Bus::I2c), &mut recording, "spar-11").unwrap();
    let mut device = Device::new(port, part.clone(), Bus::I2c).unwrap();
    for _ in 0..2 {
        let value = device.measure().unwrap().value("force").unwrap();
        assert!((value - 25.0).abs() < 0.001, "{value}");
        let span = part.fields().get(part.field("SPAN").unwrap()).unwrap();
        assert_eq!(device.state().known_field(span), Some(0), "and the device knows how the part is now");
    }
    drop(device);
    // Playback gives the same value.
    let text = String::from_utf8(recording).unwrap();
    let mut played = Device::new(Playback::read(text.as_bytes()).unwrap(), part.clone(), Bus::I2c).unwrap();
    assert!((played.measure().unwrap().value("force").unwrap() - 25.0).abs() < 0.001);
}

#[test]
fn a_recording_that_is_none_is_told_at_once() {
    struct Zeros(u64);
    impl std::io::Read for Zeros {
        fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
            buffer.fill(0);
            self.0 += buffer.len() as u64;
            Ok(buffer.len())
        }
    }
    let mut zeros = Zeros(0);
    let (line, why) = Playback::read(&mut zeros).unwrap_err();
    assert!(line == 1 && why.contains("# yemdo traffic 1") && zeros.0 < 1 << 16, "{why}, {} bytes read", zeros.0);
    // An endless file is read up to the limit.
    let endless = std::io::Read::chain("# yemdo traffic 1\n".as_bytes(), std::io::repeat(b'#'));
    let (line, why) = Playback::read(endless).unwrap_err();
    assert!(line == 0 && why.contains(&MAX_RECORDING.to_string()), "{why}");
    let (line, why) = Playback::parse("# yemdo traffic 1\n2.0 i2c 0x21 W B1\n1.0 i2c 0x21 W B1\n").unwrap_err();
    assert!(line == 3 && why.contains("line 2"), "{why}");
}

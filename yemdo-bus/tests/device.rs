//! Devices on stand-ins behind embedded-hal, blocking and async: what is set is there, what is measured is the world, what goes wrong has a name.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::future::Future;
use std::path::Path;
use std::pin::pin;
use std::task::{Context, Poll, Waker};

use embedded_hal::i2c::{ErrorKind, NoAcknowledgeSource};
use embedded_hal_mock::eh1::i2c::{Mock, Transaction};
use yemdo::bus::Bus;
use yemdo::stand_in::{Fault, Faults, Reaction, Signal, StandIn};
use yemdo::{Part, Status};
use yemdo_bus::{AsyncDevice, Cause, Device, DeviceError, Port, Rig};

fn sheet(name: &str) -> Part {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets").join(format!("{name}.toml"));
    Part::parse(name, &fs::read_to_string(path).unwrap()).unwrap()
}

fn rig(name: &str, world: &[(&str, &str)]) -> (Rig, Part) {
    let part = sheet(name);
    let mut stand_in = StandIn::new(&part, 5).unwrap();
    for (reading, signal) in world {
        stand_in.set(part.reading(reading).unwrap(), Signal::parse(signal).unwrap()).unwrap();
    }
    let rig = Rig::new();
    rig.add(stand_in);
    (rig, part)
}

/// Runs a future that never waits for anybody else.
fn ready<T>(future: impl Future<Output = T>) -> T {
    match pin!(future).poll(&mut Context::from_waker(Waker::noop())) {
        Poll::Ready(done) => done,
        Poll::Pending => panic!("it waits"),
    }
}

#[test]
fn blocking_and_async_do_the_same() {
    for (name, wishes, reading, world, near) in [
        ("strake-20", &[][..], "temperature", "21.3", 0.01),
        ("lantern-16", &["GAIN=fivefold", "upper_limit=250 lx"][..], "illuminance", "87.5", 0.05),
        ("binnacle-24", &[][..], "pressure", "1003.2", 0.02),
        ("thole-9", &["RESOLUTION=10 bits"][..], "temperature", "6.4", 0.02),
    ] {
        let (blocking, part) = rig(name, &[(reading, world)]);
        let mut device = Device::i2c(blocking.i2c(), part.clone()).unwrap().with_delay(blocking.delay());
        let (other, _) = rig(name, &[(reading, world)]);
        let mut awaiting = AsyncDevice::i2c(other.i2c(), other.delay(), part).unwrap();
        if !wishes.is_empty() {
            device.configure(wishes).unwrap();
            ready(awaiting.configure(wishes)).unwrap();
        }
        for _ in 0..3 {
            let (one, two) = (device.measure().unwrap(), ready(awaiting.measure()).unwrap());
            let wanted: f64 = world.parse().unwrap();
            assert!((one.value(reading).unwrap() - wanted).abs() <= near, "{name}: {:?}", one.reading(reading));
            assert_eq!(one.reading(reading).unwrap().to_string(), two.reading(reading).unwrap().to_string());
        }
        assert_eq!((blocking.verdict(), other.verdict()), (vec![], vec![]), "{name}");
    }
}

#[test]
fn spi_and_its_line_are_awaited_too() {
    let (rig, part) = rig("keelson-6", &[("acceleration_z", "0.75")]);
    let port = yemdo_bus::hal::AsyncSpiPort::new(rig.spi(0), rig.delay()).with_line(rig.line(0));
    let mut device = AsyncDevice::new(port, part, Bus::Spi).unwrap();
    ready(async {
        device.configure(&["SPAN=3 g"]).await.unwrap();
        device.run("start").await.unwrap();
        let motion = device.measure().await.unwrap();
        assert!((motion.value("acceleration_z").unwrap() - 0.75).abs() < 1e-3);
    });
    assert_eq!(rig.verdict(), []);
    let (other, part) = self::rig("caulk-1", &[("timber", "7")]);
    let mut device = AsyncDevice::spi(other.spi(0), other.delay(), part).unwrap();
    assert!((ready(device.measure()).unwrap().value("timber").unwrap() - 7.0).abs() < 0.06);
}

#[test]
fn a_line_an_spi_device_and_a_clock_that_is_too_fast() {
    let (rig, part) = rig("keelson-6", &[("acceleration_z", "1.0"), ("turn_x", "12.5")]);
    let mut device = Device::spi(rig.spi(0), part).unwrap().with_delay(rig.delay()).with_line(rig.line(0));
    device.configure(&["SPAN=12 g"]).unwrap();
    device.run("start").unwrap();
    let motion = device.measure().unwrap();
    assert!((motion.value("acceleration_z").unwrap() - 1.0).abs() < 1e-3 && (motion.value("turn_x").unwrap() - 12.5).abs() < 0.01);
    assert_eq!(rig.verdict(), []);
    rig.set_hertz(Bus::Spi, 8_000_000);
    let verdict = rig.verdict();
    assert_eq!(verdict[0].1.what, "SPI at 8000 kHz, and the part allows 5000 kHz");
}

/// For every fault: what the client says of it, alone and with a second try.
#[test]
fn every_fault_has_a_name_and_most_pass_with_a_second_try() {
    // Of `strake-20` the second transfer is the read of the frame, which its routine tries again where it is not acknowledged.
    let expected = [
        (Fault::Nak, "", true),
        (Fault::LostAnswer, "", true),
        (Fault::FlippedBit, "check failed", true),
        (Fault::WrongCheck, "check failed", true),
        (Fault::StuckBus, "", true),
        (Fault::Reset, "", true),
        (Fault::StuckBits, "check failed", true),
        (Fault::LateAnswer, "", true),
        (Fault::CutFrame, "", true),
        (Fault::WrongBaud, "", true),
        (Fault::OtherPart, "check failed", true),
    ];
    for (fault, cause, passes) in expected {
        for retries in [0, 1] {
            let (rig, part) = rig("strake-20", &[("temperature", "12.345")]);
            rig.set_faults(0, Faults::none().at(1, fault));
            let mut device = Device::i2c(rig.i2c(), part).unwrap().with_delay(rig.delay()).with_retries(retries);
            let found = device.measure();
            assert_eq!(rig.injected(0), [(1, fault)]);
            match found {
                Ok(air) => {
                    let reading = air.reading("temperature").unwrap();
                    let good = reading.value.is_some_and(|value| (value - 12.345).abs() < 0.01);
                    assert!(good || reading.status == Status::NotReady, "{fault:?}: {reading}");
                    assert!(cause.is_empty() || retries == 1, "{fault:?} was not noticed");
                }
                Err(error) => {
                    assert_eq!(error.cause(), cause, "{fault:?}: {error}");
                    assert!(retries == 0 || !passes, "{fault:?}: {error}");
                }
            }
        }
    }
}

#[test]
fn errors_tell_bus_address_check_identity_and_status_apart() {
    let (rig, part) = rig("lantern-16", &[]);
    rig.plug(0, false);
    let mut device = Device::i2c(rig.i2c(), part).unwrap().with_delay(rig.delay());
    let error = device.measure().unwrap_err();
    let DeviceError::Bus { error: bus, .. } = &error else { panic!("{error}") };
    assert_eq!(bus.cause, Cause::NakAddress);
    // The HAL's own error is its source.
    let source = std::error::Error::source(bus).unwrap();
    assert_eq!(
        (source.to_string().as_str(), error.to_string().as_str()),
        ("NakAddress", "expect IDENTITY == 0x4C61: I2C 0x4E: the address is not acknowledged")
    );
    rig.plug(0, true);
    device.measure().unwrap();

    // Another part at the address.
    let other = sheet("lantern-16").source().text().replace("reset  = 0x4C61", "reset  = 0x1234");
    let rig = Rig::new();
    rig.add(StandIn::new(&Part::parse("other", &other).unwrap(), 1).unwrap());
    let mut device = Device::i2c(rig.i2c(), sheet("lantern-16")).unwrap().with_delay(rig.delay());
    let error = device.measure().unwrap_err();
    assert!(matches!(error, DeviceError::Identity(_)), "{error}");
    assert_eq!(error.to_string(), "wake, step in line 112: expected IDENTITY == 0x4C61, found IDENTITY = 0x1234");
    // Nothing was written to it.
    assert_eq!(device.configure(&["GAIN=tenfold"]).unwrap_err().to_string(), "`tenfold` is not a value of GAIN");

    let (rig, part) = self::rig("strake-20", &[("humidity", "500")]);
    let mut device = Device::i2c(rig.i2c(), part).unwrap().with_delay(rig.delay());
    let air = device.measure().unwrap();
    assert_eq!(air.reading("humidity").unwrap().status, Status::Saturated);
    assert!(matches!(air.value("wetness"), Err(DeviceError::Unknown(_))));
    // A part that is not ready.
    let never = sheet("plumb-2");
    let rig = Rig::new();
    rig.add(StandIn::new(&never, 1).unwrap());
    let mut device = Device::i2c(rig.i2c(), never).unwrap().with_delay(rig.delay());
    assert!(matches!(device.read_frame("ECHO").unwrap().value("distance"), Err(DeviceError::NoValue { status: Status::NotReady, .. })));
}

/// The bytes are those that any other implementation of embedded-hal gets.
#[test]
fn a_mock_of_others_sees_the_datasheets_bytes() {
    let expectations = [
        Transaction::write(0x51, vec![0x14, 0x84]),
        Transaction::write_read(0x51, vec![0x14], vec![0x84]),
        Transaction::write(0x51, vec![0x14, 0x84]),
        Transaction::write_read(0x51, vec![0x31], vec![0x10, 0xAC, 0x43]),
    ];
    let mut mock = Mock::new(&expectations);
    let mut device = Device::i2c(mock.clone(), sheet("thole-9")).unwrap();
    let done = device.plan(&["RESOLUTION=12 bits"], yemdo::configure::WriteScope::Changed).unwrap();
    device.write(&done).unwrap();
    assert_eq!(device.measure().unwrap().reading("temperature").unwrap().to_string(), "21.34 °C");
    mock.done();
}

/// A recording is the bus again; what was not recorded is refused.
#[test]
fn a_recording_is_played_back() {
    let (rig, part) = rig("lantern-16", &[("illuminance", "42")]);
    let mut written = Vec::new();
    let port = yemdo_bus::recording::Recorder::new(rig.port(0, Bus::I2c), &mut written, "lantern-16 on a bench").unwrap();
    let mut device = Device::new(port, part.clone(), Bus::I2c).unwrap();
    let first = device.measure().unwrap().reading("illuminance").unwrap().to_string();
    drop(device);
    let text = String::from_utf8(written).unwrap();
    assert!(text.starts_with("# yemdo traffic 1\n# lantern-16 on a bench\n0.000000 i2c 0x4E W 30 R 2 = 4C 61\n"), "{text}");
    let mut played = Device::new(yemdo_bus::recording::Playback::parse(&text).unwrap(), part.clone(), Bus::I2c).unwrap();
    assert_eq!(played.measure().unwrap().reading("illuminance").unwrap().to_string(), first);
    assert!(played.port_mut().is_over());
    let error = played.measure().unwrap_err();
    assert!(matches!(&error, DeviceError::Bus { error, .. } if error.cause == Cause::OtherTraffic), "{error}");
    assert_eq!(yemdo_bus::recording::Playback::parse("0.0 i2c").unwrap_err().0, 1);
    let wrong = "# yemdo traffic 1\n0.1 i2c 0x4E W 30 Q 2\n";
    assert_eq!(yemdo_bus::recording::Playback::parse(wrong).unwrap_err(), (2, "expected W, R, = or !, not `Q`".into()));
    // And its frames are found in it.
    let mut frames = yemdo::record::TrafficFrames::new(&part, &yemdo::State::reset(&part));
    let found: Vec<_> =
        text.lines().filter_map(|line| yemdo::record::Traffic::parse(line).unwrap()).flat_map(|one| frames.take(&one)).collect();
    assert_eq!((found.len(), found[0].0), (1, part.frame("LIGHT").unwrap()));
}

#[test]
fn an_interrupted_configure_knows_what_was_written() {
    let (rig, part) = rig("keelson-6", &[]);
    let wishes = ["SPAN=12 g", "RATE=68 Hz", "DRDY_LINE=1"];
    let mut device = Device::new(rig.port(0, Bus::I2c), part.clone(), Bus::I2c).unwrap();
    let planned = device.plan(&wishes, yemdo::configure::WriteScope::Changed).unwrap();
    assert!(planned.writes.len() > 1);
    let count = rig.with_part(0, |_| ()).map(|()| 0u64).unwrap();
    // Its reads come first, then the writes, each with its comparison: the second write is not acknowledged.
    rig.set_faults(0, Faults::none().at(count + 5, Fault::Nak));
    let mut told = Vec::new();
    let seen = std::sync::Arc::new(std::sync::Mutex::new(Vec::new()));
    let kept = seen.clone();
    device.watched_by(move |seen| kept.lock().unwrap().push((seen.request.meaning.clone(), seen.outcome.is_ok())));
    let error = device.configure(&wishes).unwrap_err();
    told.extend(seen.lock().unwrap().iter().cloned());
    assert!(matches!(error, DeviceError::Bus { .. }), "{error}");
    assert!(
        told.last().is_some_and(|(_, ok)| !ok) && told.iter().filter(|(meaning, ok)| *ok && meaning.starts_with("write")).count() >= 1,
        "{told:?}"
    );
    device.configure(&wishes).unwrap();
    let span = part.fields().get(part.field("SPAN").unwrap()).unwrap();
    assert_eq!(device.state().field(span), 2);
    assert!(device.port_mut().now() > 0);
}

/// Over time a device goes by the clock of its port, or by the time that its user says; another device of the part can go on from there.
#[test]
fn what_is_derived_goes_by_the_clock_of_the_port_or_of_the_user() {
    let (world, part) = rig("lantern-16", &[("illuminance", "360")]);
    let mut device = Device::new(world.port(0, Bus::I2c), part.clone(), Bus::I2c).unwrap();
    let first = device.measure().unwrap();
    assert_eq!(first.value("dose").unwrap(), 0.0);
    let begin = world.now();
    world.pass(100_000_000);
    let dose = device.measure().unwrap().value("dose").unwrap();
    let seconds = (world.now() - begin) as f64 / 1e6;
    assert!((dose - seconds / 10.0).abs() < 0.1, "{dose} in {seconds} s");

    // A clock of one's own: the first measurement by it lies far behind, so nothing is added; then half a minute.
    device.measured_at(1e6);
    assert_eq!(device.measure().unwrap().value("dose").unwrap(), dose);
    device.measured_at(1e6 + 30.0);
    let more = device.measure().unwrap().value("dose").unwrap();
    assert!((more - dose - 3.0).abs() < 1e-9, "{more}");

    let (other, _) = rig("lantern-16", &[("illuminance", "360")]);
    let mut awaiting = AsyncDevice::i2c(other.i2c(), other.delay(), part).unwrap();
    assert_eq!(ready(awaiting.measure()).unwrap().reading("dose").unwrap().to_string(), "no value: waiting: the frames have no times");
    awaiting.decoder_mut().go_on_from(device.decoder_mut());
    awaiting.measured_at(1e6 + 40.0);
    let on = ready(awaiting.measure()).unwrap().value("dose").unwrap();
    assert!((on - more - 1.0).abs() < 1e-9, "{on}");
}

#[test]
fn what_frames_need_is_done_or_said_before_they_are_read() {
    let head = "part = \"davit-8\"\ni2c.address = 0x25\nregister.LINK = { at = 0x33, field.LINK = { bits = \"[1:0]\" } }\n\
                frame.LOAD = { command = [0xB4], read = 2, while = { LINK = 2 }, otherwise = \"no answer\", code = { load = \"b0 b1\" } }\n\
                reading.load = { unit = \"kN\", formula = \"load * 0.05\" }\n";
    let device = |more: &str| {
        let part = Part::parse("davit.toml", &format!("{head}{more}")).unwrap();
        let mut stand_in = StandIn::new(&part, 5).unwrap();
        stand_in.set(part.reading("load").unwrap(), Signal::constant(12.0)).unwrap();
        let rig = Rig::new();
        rig.add(stand_in);
        (Device::i2c(rig.i2c(), part).unwrap().with_delay(rig.delay()), rig)
    };
    // The one routine that sets it runs first, and again after a part was silent; `measure` may set it itself.
    for more in [
        "routine.rouse = [{ set = { LINK = 2 } }]",
        "routine.wake = [{ set = { LINK = 2 } }]\nroutine.measure = [{ do = \"wake\" }, { read = \"LOAD\" }]",
    ] {
        let (mut device, rig) = device(more);
        assert_eq!(device.measure().unwrap().value("load").unwrap(), 12.0, "{more}");
        assert_eq!(device.measure().unwrap().value("load").unwrap(), 12.0, "{more}");
        assert!(rig.verdict().is_empty(), "{:?}", rig.verdict());
        rig.with_part(0, |part| part.reset_unseen(0));
        let again = device.measure().or_else(|_| device.measure());
        assert_eq!(again.unwrap().value("load").unwrap(), 12.0, "{more}: after a reset");
    }
    // Without one, the register says whether it is awake.
    let (mut device, rig) = device("");
    assert!(device.measure().is_err(), "it does not answer");
    rig.with_part(0, |part| part.i2c(9000, 0x25, &[0x33, 2], 0));
    assert_eq!(device.measure().unwrap().value("load").unwrap(), 12.0, "somebody else has woken it");
}

/// The mock refuses every transfer that is not listed.
#[test]
fn registers_that_readings_use_are_read_once_before_the_first_measurement() {
    let text = "part = \"scupper-11\"\ni2c.address = 0x33\n\
                register.TRIM = { at = 0x21, access = \"read-only\", reset = 0, field.OFF = { bits = \"signed [7:0]\" } }\n\
                register.MODE = { at = 0x22, field.G = { bits = \"[1:0]\", values = [{ code = 1, k = 2.0 }] } }\n\
                register.NOTE = { at = 0x23, access = \"write-only\", field.NOTE = { bits = \"[7:0]\" } }\n\
                register.FILL = { at = 0x24, reset = 3, field.FILL = { bits = \"[7:0]\" } }\n\
                frame.WELL = { command = [0x51], read = 1, code = { well = \"b0\" } }\n\
                reading.level = { unit = \"m\", formula = \"(well - OFF + FILL) * G.k\" }\n\
                reading.note = { unit = \"1\", formula = \"well + NOTE\" }\n";
    let part = Part::parse("scupper.toml", text).unwrap();
    let frame = |byte| Transaction::write_read(0x33, vec![0x51], vec![byte]);
    let mut mock = Mock::new(&[
        Transaction::write_read(0x33, vec![0x21], vec![0xFE, 0x01]),
        frame(0x10),
        frame(0x11),
        Transaction::write_read(0x33, vec![0x21], vec![0, 0]).with_error(ErrorKind::NoAcknowledge(NoAcknowledgeSource::Address)),
        frame(0x11),
        Transaction::write_read(0x33, vec![0x21], vec![0x04, 0x01]),
        frame(0x12),
        // Settings of the user are known; the word that only the part sets is not.
        Transaction::write_read(0x33, vec![0x21], vec![0x04]),
        frame(0x12),
    ]);
    let mut device = Device::i2c(mock.clone(), part.clone()).unwrap();
    let first = device.measure().unwrap();
    assert_eq!(first.value("level").unwrap(), (16.0 + 2.0 + 3.0) * 2.0);
    let note = first.reading("note").unwrap();
    assert_eq!((note.value, note.status), (None, Status::FormulaFault), "it cannot be read");
    assert_eq!(device.measure().unwrap().value("level").unwrap(), (17.0 + 2.0 + 3.0) * 2.0);
    // A part that does not give them is measured all the same, and asked again.
    let mut deaf = Device::i2c(mock.clone(), part.clone()).unwrap();
    assert_eq!(deaf.measure().unwrap().reading("level").unwrap().status, Status::FormulaFault);
    assert_eq!(deaf.measure().unwrap().value("level").unwrap(), (18.0 - 4.0 + 3.0) * 2.0);
    let mut set = Device::i2c(mock.clone(), part).unwrap();
    *set.state_mut() = yemdo::configure::assume(set.part(), set.state(), ["G=1", "NOTE=7"]).unwrap();
    let measured = set.measure().unwrap();
    assert_eq!((measured.value("level").unwrap(), measured.value("note").unwrap()), ((18.0 - 4.0 + 3.0) * 2.0, 25.0));
    mock.done();
}

#[test]
fn banks_are_selected_after_a_write_of_a_register_with_unknown_bits() {
    let text = "part = \"hawse-6\"\ni2c.address = 0x5B\n\
                register.MODE = { at = 4, field = { SIDE = { bits = \"[0]\" }, RATE = { bits = \"[6:4]\" } } }\n\
                register.PULL = { at = 9, bank = { SIDE = 0 }, access = \"read-only\", field.PULL = { bits = \"[7:0]\" } }\n\
                frame.HAUL = { registers = \"PULL\" }\nreading.pull = { unit = \"kN\", formula = \"PULL * 0.25\" }\n\
                routine.measure = [{ set = { RATE = 5 } }, { read = \"HAUL\" }]\n";
    let part = Part::parse("hawse.toml", text).unwrap();
    let mut mock = Mock::new(&[
        Transaction::write_read(0x5B, vec![4], vec![0x31]),
        Transaction::write(0x5B, vec![4, 0x51]),
        Transaction::write(0x5B, vec![4, 0x50]),
        Transaction::write_read(0x5B, vec![9], vec![44]),
        Transaction::write(0x5B, vec![4, 0x51]),
    ]);
    let mut device = Device::i2c(mock.clone(), part).unwrap();
    assert_eq!(device.read_register("MODE").unwrap(), 0x31);
    assert_eq!(device.measure().unwrap().value("pull").unwrap(), 11.0);
    mock.done();
}

#[test]
fn a_frame_that_was_asked_for_can_be_read_again_after_a_missing_acknowledgement() {
    let part = Part::parse(
        "hawse.toml",
        "part = \"hawse-7\"\ni2c.address = 0x5B\nregister.A = { at = 0, field.A = { bits = \"[7:0]\" } }\n\
         frame.HAUL = { command = [0x71], read = 2, wait = \"8 ms\", code = { pull = \"b0 b1\" } }\n\
         reading.pull = { unit = \"kN\", formula = \"pull * 0.25\" }\n",
    )
    .unwrap();
    let mut stand_in = StandIn::new(&part, 5).unwrap();
    stand_in.set(part.reading("pull").unwrap(), Signal::constant(12.0)).unwrap();
    assert_eq!(stand_in.i2c(0, 0x5B, &[0x71], 0), Reaction::Answer(vec![]));
    assert_eq!(stand_in.i2c(3000, 0x5B, &[], 2), Reaction::NakAddress);
    assert_eq!(stand_in.i2c(8000, 0x5B, &[], 2), Reaction::Answer(vec![0, 48]));
}

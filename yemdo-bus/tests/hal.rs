//! Ports over embedded-hal: which calls are made, how long is waited, how errors are told; and what wraps a port.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::cell::RefCell;
use std::convert::Infallible;
use std::error::Error;
use std::future::Future;
use std::io;
use std::pin::pin;
use std::rc::Rc;
use std::task::{Context, Poll, Waker};

use embedded_hal::delay::DelayNs;
use embedded_hal::digital::{ErrorType, InputPin};
use embedded_hal::i2c::{ErrorKind, NoAcknowledgeSource};
use embedded_hal_mock::eh1::i2c::{Mock as I2cMock, Transaction as OnI2c};
use embedded_hal_mock::eh1::spi::{Mock as SpiMock, Transaction as OnSpi};
use yemdo::bus::{Bus, Transfer};
use yemdo::stand_in::StandIn;
use yemdo::{Part, Status};
use yemdo_bus::hal::{AsyncI2cPort, I2cPort, SpiPort};
use yemdo_bus::recording::{Playback, Recorder};
use yemdo_bus::{AsyncDevice, AsyncPort, BusError, Cause, Device, DeviceError, Port, Rig, Shared};

fn part(text: &str) -> Part {
    Part::parse("p.toml", text).unwrap_or_else(|error| panic!("{error}"))
}

fn transfer(bus: Bus, send: &[u8], receive: usize, restart: bool) -> Transfer {
    let address = (bus == Bus::I2c).then_some(0x2B);
    Transfer { bus, address, send: send.to_vec(), receive, restart, discard: false }
}

/// A delay that keeps what it was asked for.
#[derive(Clone, Default)]
struct Kept(Rc<RefCell<Vec<u64>>>);

impl DelayNs for Kept {
    fn delay_ns(&mut self, ns: u32) {
        self.0.borrow_mut().push(u64::from(ns));
    }

    fn delay_us(&mut self, us: u32) {
        self.0.borrow_mut().push(u64::from(us) * 1000);
    }
}

impl embedded_hal_async::delay::DelayNs for Kept {
    async fn delay_ns(&mut self, ns: u32) {
        DelayNs::delay_ns(self, ns);
    }
}

fn ready<T>(future: impl Future<Output = T>) -> T {
    match pin!(future).poll(&mut Context::from_waker(Waker::noop())) {
        Poll::Ready(done) => done,
        Poll::Pending => panic!("it waits"),
    }
}

#[test]
fn transfers_become_the_calls_that_the_sheet_says() {
    let expected = [
        OnI2c::write(0x2B, vec![0x12, 0x34]),
        OnI2c::read(0x2B, vec![1, 2, 3]),
        OnI2c::write_read(0x2B, vec![0x12], vec![4, 5]),
        // A stop in between: two calls.
        OnI2c::write(0x2B, vec![0x12]),
        OnI2c::read(0x2B, vec![6]),
    ];
    let mut mock = I2cMock::new(&expected);
    let mut port = I2cPort::new(mock.clone(), Kept::default());
    assert_eq!(port.transfer(&transfer(Bus::I2c, &[0x12, 0x34], 0, true)).unwrap(), []);
    assert_eq!(port.transfer(&transfer(Bus::I2c, &[], 3, true)).unwrap(), [1, 2, 3]);
    assert_eq!(port.transfer(&transfer(Bus::I2c, &[0x12], 2, true)).unwrap(), [4, 5]);
    assert_eq!(port.transfer(&transfer(Bus::I2c, &[0x12], 1, false)).unwrap(), [6]);
    mock.done();
    let mut mock = I2cMock::new(&expected);
    let mut port = AsyncI2cPort::new(mock.clone(), Kept::default());
    ready(async {
        port.transfer(&transfer(Bus::I2c, &[0x12, 0x34], 0, true)).await.unwrap();
        assert_eq!(port.transfer(&transfer(Bus::I2c, &[], 3, true)).await.unwrap(), [1, 2, 3]);
        assert_eq!(port.transfer(&transfer(Bus::I2c, &[0x12], 2, true)).await.unwrap(), [4, 5]);
        assert_eq!(port.transfer(&transfer(Bus::I2c, &[0x12], 1, false)).await.unwrap(), [6]);
        assert_eq!(port.line(true, 1000).await.unwrap_err().cause, Cause::Unsupported);
    });
    mock.done();
    let expected = [
        OnSpi::transaction_start(),
        OnSpi::write_vec(vec![0x91]),
        OnSpi::read_vec(vec![7, 8]),
        OnSpi::transaction_end(),
        OnSpi::transaction_start(),
        OnSpi::write_vec(vec![0x11, 0xFE]),
        OnSpi::transaction_end(),
    ];
    let mut mock = SpiMock::new(&expected);
    let mut port = SpiPort::new(mock.clone(), Kept::default());
    assert_eq!(port.transfer(&transfer(Bus::Spi, &[0x91], 2, false)).unwrap(), [7, 8]);
    port.transfer(&transfer(Bus::Spi, &[0x11, 0xFE], 0, false)).unwrap();
    mock.done();
}

#[test]
fn every_error_of_a_hal_has_its_cause_and_stays_the_source() {
    let address = ErrorKind::NoAcknowledge(NoAcknowledgeSource::Address);
    let data = ErrorKind::NoAcknowledge(NoAcknowledgeSource::Data);
    let unknown = ErrorKind::NoAcknowledge(NoAcknowledgeSource::Unknown);
    for (kind, cause, transient) in [
        (address, Cause::NakAddress, true),
        (data, Cause::NakData, true),
        (unknown, Cause::Nak, true),
        (ErrorKind::ArbitrationLoss, Cause::Stuck, true),
        (ErrorKind::Bus, Cause::Stuck, true),
        (ErrorKind::Overrun, Cause::Other, false),
        (ErrorKind::Other, Cause::Other, false),
    ] {
        let mut mock = I2cMock::new(&[OnI2c::write(0x2B, vec![1]).with_error(kind)]);
        let error = I2cPort::new(mock.clone(), Kept::default()).transfer(&transfer(Bus::I2c, &[1], 0, true)).unwrap_err();
        assert_eq!((error.cause, error.cause.is_transient()), (cause, transient), "{kind:?}");
        assert_eq!(error.source().unwrap().to_string(), format!("{kind:?}"));
        assert!(error.to_string().starts_with("I2C 0x2B: ") && !cause.as_str().is_empty());
        mock.done();
    }
}

/// A pin that is high after so many looks.
struct Later(u32);

impl ErrorType for Later {
    type Error = Infallible;
}

impl InputPin for Later {
    fn is_high(&mut self) -> Result<bool, Infallible> {
        self.0 = self.0.saturating_sub(1);
        Ok(self.0 == 0)
    }

    fn is_low(&mut self) -> Result<bool, Infallible> {
        self.is_high().map(|high| !high)
    }
}

#[test]
fn waits_are_as_long_as_they_are_asked_for() {
    let kept = Kept::default();
    let mut port = I2cPort::new(Rig::new().i2c(), kept.clone());
    port.wait(2_500_000);
    assert_eq!(kept.0.borrow().iter().sum::<u64>(), 2_500_000_000);
    assert_eq!(port.line(true, 1000).unwrap_err().cause, Cause::Unsupported);
    // It is looked at until the level is there, or the time is up.
    for (looks, within, came) in [(1, 1000, true), (4, 1000, true), (100, 1000, false)] {
        port.set_line(Later(looks));
        kept.0.borrow_mut().clear();
        assert_eq!(port.line(true, within).unwrap(), came, "{looks} looks");
        assert!(kept.0.borrow().iter().sum::<u64>() <= within * 1000);
    }
    port.into_inner();
    let mut awaiting = AsyncI2cPort::new(Rig::new().i2c(), kept.clone());
    kept.0.borrow_mut().clear();
    ready(awaiting.wait(1_250_000));
    assert_eq!(kept.0.borrow().iter().sum::<u64>(), 1_250_000_000);
}

const GAUGE: &str = r#"
part = "gauge-8"
i2c = { address = 0x2B }
register.MODE = { at = 0x31, reset = 0, field.ON = { bits = "[4]" } }
register.KEY = { at = 0x33, access = "write-only", reset = 0, field.KEY = { bits = "[7:0]" } }
frame.LOAD = { command = [0x47], read = 2, code = { load = "b0 b1", fresh = "b0[7]" }, status = [{ when = "!fresh", is = "not ready" }] }
reading.load = { unit = "N", formula = "(load & 0x7FFF) * 0.5" }
routine.wake = [{ set = { ON = 1 }, verify = true }]
"#;

#[test]
fn a_device_without_a_routine_reads_its_frames() {
    let gauge = part(GAUGE);
    let mut mock = I2cMock::new(&[
        OnI2c::write_read(0x2B, vec![0x47], vec![0x80, 0x64]),
        OnI2c::write_read(0x2B, vec![0x47], vec![0x00, 0x64]),
        OnI2c::write(0x2B, vec![0x33, 0x5C]),
        OnI2c::write(0x2B, vec![0x31, 0x10]),
        OnI2c::write_read(0x2B, vec![0x31], vec![0x00]),
        OnI2c::write_read(0x2B, vec![0x31], vec![0x10]),
    ]);
    let mut device = Device::i2c(mock.clone(), gauge.clone()).unwrap().with_delay(Kept::default());
    assert_eq!(device.measure().unwrap().reading("load").unwrap().to_string(), "50.0 N");
    // Not ready is a reading without a value, and as an error it is one that may pass.
    let found = device.measure().unwrap();
    assert_eq!(found.reading("load").unwrap().status, Status::NotReady);
    let error = found.value("load").unwrap_err();
    assert_eq!((error.is_transient(), error.cause(), error.to_string().as_str()), (true, "not ready", "load has no value: not ready"));
    // What can only be written is not read back, and is known all the same.
    device.write_register(gauge.register("KEY").unwrap(), 0x5C).unwrap();
    let error = device.run("wake").unwrap_err();
    assert_eq!((error.cause(), error.is_transient()), ("write not taken", false));
    assert_eq!(device.read_register("MODE").unwrap(), 0x10);
    assert!(
        matches!(device.run("sleep"), Err(DeviceError::Unknown(_))) && matches!(device.read_frame("LAOD"), Err(DeviceError::Unknown(_)))
    );
    mock.done();
    let only_spi = part("part = \"p\"\nspi.mode = 0\n");
    assert!(matches!(Device::i2c(Rig::new().i2c(), only_spi.clone()), Err(DeviceError::NotRunnable(_))));
    let mut device = Device::spi(Rig::new().spi(0), only_spi).unwrap();
    assert!(matches!(device.measure(), Err(DeviceError::NothingToMeasure)));
    device.into_port();
}

#[test]
fn an_async_device_fails_as_a_blocking_one() {
    let gauge = part(GAUGE);
    let rig = Rig::new();
    let place = rig.add(StandIn::new(&gauge, 1).unwrap());
    let mut device = AsyncDevice::i2c(rig.i2c(), rig.delay(), gauge).unwrap();
    ready(async {
        device.run("wake").await.unwrap();
        device.configure(&["ON=0"]).await.unwrap();
        assert_eq!(device.measure().await.unwrap().frames.len(), 1);
        rig.plug(place, false);
        assert_eq!(device.measure().await.unwrap_err().cause(), "address not acknowledged");
        assert!(matches!(device.configure(&["ON=perhaps"]).await, Err(DeviceError::Wish(_))));
    });
}

/// A writer that is full after some lines.
struct Full(usize);

impl io::Write for Full {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0 = self.0.checked_sub(bytes.len()).ok_or(io::ErrorKind::StorageFull)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

#[test]
fn a_recording_with_gaps_is_none() {
    let gauge = part(GAUGE);
    let rig = Rig::new();
    let place = rig.add(StandIn::new(&gauge, 1).unwrap());
    let mut device = Device::new(Recorder::new(rig.port(place, Bus::I2c), Full(100), "gauge").unwrap(), gauge, Bus::I2c).unwrap();
    let mut read = 0;
    let error = loop {
        match device.measure() {
            Ok(_) => read += 1,
            Err(error) => break error,
        }
    };
    assert!(read > 0 && error.to_string().contains("the recording cannot be written"), "{read} {error}");
}

/// Two parts on one line take turns, and what one does the other sees.
#[test]
fn a_shared_port_is_one_port() {
    let text = "# yemdo traffic 1\n0.1 i2c 0x2B W 01\n0.2 i2c 0x2B W 02 R 1 = 07\n";
    let one = Shared::new(Box::new(Playback::parse(text).unwrap()));
    let (mut first, mut second) = (one.clone(), one);
    first.transfer(&transfer(Bus::I2c, &[1], 0, true)).unwrap();
    assert_eq!(second.transfer(&transfer(Bus::I2c, &[2], 1, true)).unwrap(), [7]);
    let over: BusError = first.transfer(&transfer(Bus::I2c, &[1], 0, true)).unwrap_err();
    assert_eq!((over.cause, first.now(), second.now()), (Cause::OtherTraffic, 200_000, 200_000));
    second.wait(5);
    assert!(first.now() == 200_005 && first.line(true, 1).unwrap());
    first.set_baud(9600).unwrap();
}

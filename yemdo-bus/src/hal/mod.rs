//! Ports over the traits of embedded-hal 1.0.

mod asynchronous;
mod i2c;
mod spi;

use std::thread;
use std::time::{Duration, Instant};

use embedded_hal::delay::DelayNs;
use embedded_hal::digital::InputPin;

use crate::error::{BusError, Cause};

pub use asynchronous::{AsyncI2cPort, AsyncSpiPort};
pub use i2c::I2cPort;
pub use spi::SpiPort;

/// Waits of the operating system.
#[derive(Clone, Copy, Debug, Default)]
pub struct StdDelay;

impl DelayNs for StdDelay {
    fn delay_ns(&mut self, ns: u32) {
        thread::sleep(Duration::from_nanos(u64::from(ns)));
    }

    fn delay_us(&mut self, us: u32) {
        thread::sleep(Duration::from_micros(u64::from(us)));
    }
}

/// A line that is asked for its level.
type Level = Box<dyn FnMut() -> Option<bool> + Send>;

/// Waits, the time, and the data-ready line of a port.
struct Timing<D> {
    delay: D,
    start: Instant,
    line: Option<Level>,
}

/// From one look at the line to the next, in microseconds.
const LOOK: u64 = 200;

impl<D: DelayNs> Timing<D> {
    fn new(delay: D) -> Self {
        Self { delay, start: Instant::now(), line: None }
    }

    fn set_line(&mut self, mut line: impl InputPin + Send + 'static) {
        self.line = Some(Box::new(move || line.is_high().ok()));
    }

    fn wait(&mut self, micros: u64) {
        let mut left = micros;
        while left > 0 {
            let now = left.min(1_000_000);
            self.delay.delay_us(now as u32);
            left -= now;
        }
    }

    fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        let line = self.line.as_mut().ok_or_else(no_line)?;
        let mut waited = 0;
        loop {
            match line() {
                Some(level) if level == high => return Ok(true),
                Some(_) if waited < within => {
                    self.delay.delay_us(LOOK as u32);
                    waited += LOOK;
                }
                Some(_) => return Ok(false),
                None => return Err(unreadable()),
            }
        }
    }

    fn now(&self) -> u64 {
        self.start.elapsed().as_micros() as u64
    }
}

/// A routine waits for a line that there is not.
fn no_line() -> BusError {
    BusError::new(Cause::Unsupported, "the routine waits for the data-ready line, and no line is connected")
        .help("give the device its line, or poll a status bit in the sheet's routine")
}

fn unreadable() -> BusError {
    BusError::new(Cause::Other, "the data-ready line cannot be read")
}

/// What a kind of error is to us.
fn i2c_cause(kind: embedded_hal::i2c::ErrorKind) -> (Cause, &'static str) {
    use embedded_hal::i2c::{ErrorKind, NoAcknowledgeSource};
    match kind {
        ErrorKind::NoAcknowledge(NoAcknowledgeSource::Address) => (Cause::NakAddress, "the address is not acknowledged"),
        ErrorKind::NoAcknowledge(NoAcknowledgeSource::Data) => (Cause::NakData, "a byte is not acknowledged"),
        ErrorKind::NoAcknowledge(NoAcknowledgeSource::Unknown) => (Cause::Nak, "not acknowledged"),
        ErrorKind::ArbitrationLoss => (Cause::Stuck, "another controller has won the bus"),
        ErrorKind::Bus => (Cause::Stuck, "the bus is held"),
        ErrorKind::Overrun => (Cause::Other, "bytes were lost in the controller"),
        _ => (Cause::Other, "the bus failed"),
    }
}

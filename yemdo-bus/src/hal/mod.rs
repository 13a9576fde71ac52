//! Ports over the traits of embedded-hal 1.0.

mod asynchronous;
mod i2c;
mod spi;

use std::thread;
use std::time::{Duration, Instant};

use embedded_hal::delay::DelayNs;
use embedded_hal::digital::InputPin;
use embedded_hal::spi::Operation;
use yemdo::bus::Transfer;

use crate::error::{BusError, Cause, HalError};

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

impl<D> Timing<D> {
    fn new(delay: D) -> Self {
        Self { delay, start: Instant::now(), line: None }
    }

    fn with_delay<E>(self, delay: E) -> Timing<E> {
        Timing { delay, start: self.start, line: self.line }
    }

    fn set_line(&mut self, mut line: impl InputPin + Send + 'static) {
        self.line = Some(Box::new(move || line.is_high().ok()));
    }

    /// Whether the line has the level, after so many microseconds; `None` where it is to be looked at again.
    fn look(&mut self, high: bool, waited: u64, within: u64) -> Result<Option<bool>, BusError> {
        let line = self.line.as_mut().ok_or_else(|| {
            BusError::new(Cause::Unsupported, "the routine waits for the data-ready line, and no line is connected")
                .help("give the device its line, or poll a status bit in the sheet's routine")
        })?;
        let level = line().ok_or_else(|| BusError::new(Cause::Other, "the data-ready line cannot be read"))?;
        Ok(if level == high || waited >= within { Some(level == high) } else { None })
    }

    fn now(&self) -> u64 {
        self.start.elapsed().as_micros() as u64
    }
}

impl<D: DelayNs> Timing<D> {
    fn wait(&mut self, micros: u64) {
        delays(micros).for_each(|micros| self.delay.delay_us(micros));
    }

    fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        let mut waited = 0;
        loop {
            if let Some(came) = self.look(high, waited, within)? {
                return Ok(came);
            }
            self.delay.delay_us(LOOK as u32);
            waited += LOOK;
        }
    }
}

/// A wait in pieces that every delay can do: a second at the most.
fn delays(micros: u64) -> impl Iterator<Item = u32> {
    const MOST: u64 = 1_000_000;
    let whole = std::iter::repeat_n(MOST as u32, usize::try_from(micros / MOST).unwrap_or(usize::MAX));
    whole.chain(Some((micros % MOST) as u32).filter(|rest| *rest > 0))
}

/// An error of an I2C bus.
fn i2c_error<E: embedded_hal::i2c::Error + Send + Sync + 'static>(address: u8, error: E) -> BusError {
    let (cause, what) = i2c_cause(error.kind());
    BusError::new(cause, format!("I2C 0x{address:02X}: {what}")).because(HalError(error))
}

/// An error of an SPI device.
fn spi_error<E: std::fmt::Debug + Send + Sync + 'static>(error: E) -> BusError {
    BusError::new(Cause::Other, "SPI: the transfer failed").because(HalError(error))
}

/// A transfer over SPI: what is sent, then what comes.
fn spi_operations<'a>(transfer: &'a Transfer, received: &'a mut [u8]) -> Vec<Operation<'a, u8>> {
    let mut all = Vec::with_capacity(2);
    if !transfer.send.is_empty() {
        all.push(Operation::Write(&transfer.send));
    }
    if !received.is_empty() {
        all.push(Operation::Read(received));
    }
    all
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

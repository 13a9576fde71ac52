//! I2C and SPI for those who await.

use embedded_hal::digital::InputPin;
use embedded_hal_async::delay::DelayNs;
use embedded_hal_async::i2c::{Error as _, I2c};
use embedded_hal_async::spi::{Operation, SpiDevice};
use yemdo::bus::Transfer;

use super::{LOOK, Level, i2c_cause, no_line, unreadable};
use crate::error::{BusError, Cause, HalError};
use crate::port::AsyncPort;

/// Waits, and the data-ready line, of a port that is awaited.
struct Timing<D> {
    delay: D,
    line: Option<Level>,
}

impl<D: DelayNs> Timing<D> {
    fn new(delay: D) -> Self {
        Self { delay, line: None }
    }

    fn set_line(&mut self, mut line: impl InputPin + Send + 'static) {
        self.line = Some(Box::new(move || line.is_high().ok()));
    }

    async fn wait(&mut self, micros: u64) {
        let mut left = micros;
        while left > 0 {
            let now = left.min(1_000_000);
            self.delay.delay_us(now as u32).await;
            left -= now;
        }
    }

    async fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        let line = self.line.as_mut().ok_or_else(no_line)?;
        let mut waited = 0;
        loop {
            match line() {
                Some(level) if level == high => return Ok(true),
                Some(_) if waited < within => {
                    self.delay.delay_us(LOOK as u32).await;
                    waited += LOOK;
                }
                Some(_) => return Ok(false),
                None => return Err(unreadable()),
            }
        }
    }
}

/// A port over any async I2C of embedded-hal.
pub struct AsyncI2cPort<I, D> {
    i2c: I,
    timing: Timing<D>,
}

/// A port over any async SPI device of embedded-hal.
pub struct AsyncSpiPort<S, D> {
    spi: S,
    timing: Timing<D>,
}

impl<I, D> std::fmt::Debug for AsyncI2cPort<I, D> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("AsyncI2cPort").finish_non_exhaustive()
    }
}

impl<S, D> std::fmt::Debug for AsyncSpiPort<S, D> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("AsyncSpiPort").finish_non_exhaustive()
    }
}

impl<I: I2c, D: DelayNs> AsyncI2cPort<I, D> {
    /// A port over an I2C bus, with a delay.
    pub fn new(i2c: I, delay: D) -> Self {
        Self { i2c, timing: Timing::new(delay) }
    }

    /// The same with the part's data-ready line.
    pub fn with_line(mut self, line: impl InputPin + Send + 'static) -> Self {
        self.timing.set_line(line);
        self
    }
}

impl<S: SpiDevice, D: DelayNs> AsyncSpiPort<S, D> {
    /// A port over an SPI device, with a delay.
    pub fn new(spi: S, delay: D) -> Self {
        Self { spi, timing: Timing::new(delay) }
    }

    /// The same with the part's data-ready line.
    pub fn with_line(mut self, line: impl InputPin + Send + 'static) -> Self {
        self.timing.set_line(line);
        self
    }
}

impl<I: I2c, D: DelayNs> AsyncPort for AsyncI2cPort<I, D>
where
    I::Error: Send + Sync + 'static,
{
    async fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        let address = transfer.address.unwrap_or(0);
        let mut bytes = vec![0; transfer.receive];
        let done = match (transfer.send.as_slice(), transfer.receive) {
            (send, 0) => self.i2c.write(address, send).await,
            ([], _) => self.i2c.read(address, &mut bytes).await,
            (send, _) if transfer.restart => self.i2c.write_read(address, send, &mut bytes).await,
            (send, _) => match self.i2c.write(address, send).await {
                Ok(()) => self.i2c.read(address, &mut bytes).await,
                Err(error) => Err(error),
            },
        };
        done.map_err(|error| {
            let (cause, what) = i2c_cause(error.kind());
            BusError::new(cause, format!("I2C 0x{address:02X}: {what}")).because(HalError(error))
        })?;
        Ok(bytes)
    }

    async fn wait(&mut self, micros: u64) {
        self.timing.wait(micros).await;
    }

    async fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        self.timing.line(high, within).await
    }
}

impl<S: SpiDevice, D: DelayNs> AsyncPort for AsyncSpiPort<S, D>
where
    S::Error: Send + Sync + 'static,
{
    async fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        let mut bytes = vec![0; transfer.receive];
        let mut all = Vec::with_capacity(2);
        if !transfer.send.is_empty() {
            all.push(Operation::Write(&transfer.send));
        }
        if transfer.receive > 0 {
            all.push(Operation::Read(&mut bytes));
        }
        let done = self.spi.transaction(&mut all).await;
        done.map_err(|error| BusError::new(Cause::Other, "SPI: the transfer failed").because(HalError(error)))?;
        Ok(bytes)
    }

    async fn wait(&mut self, micros: u64) {
        self.timing.wait(micros).await;
    }

    async fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        self.timing.line(high, within).await
    }
}

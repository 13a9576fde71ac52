//! I2C and SPI for those who await.

use embedded_hal::digital::InputPin;
use embedded_hal_async::delay::DelayNs;
use embedded_hal_async::i2c::I2c;
use embedded_hal_async::spi::SpiDevice;
use yemdo::bus::Transfer;

use super::{LOOK, Timing, delays, i2c_error, spi_error, spi_operations};
use crate::error::BusError;
use crate::port::AsyncPort;

impl<D: DelayNs> Timing<D> {
    async fn wait_async(&mut self, micros: u64) {
        for micros in delays(micros) {
            self.delay.delay_us(micros).await;
        }
    }

    async fn line_async(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        let mut waited = 0;
        loop {
            if let Some(came) = self.look(high, waited, within)? {
                return Ok(came);
            }
            self.delay.delay_us(LOOK as u32).await;
            waited += LOOK;
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
        done.map(|()| bytes).map_err(|error| i2c_error(address, error))
    }

    async fn wait(&mut self, micros: u64) {
        self.timing.wait_async(micros).await;
    }

    async fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        self.timing.line_async(high, within).await
    }
}

impl<S: SpiDevice, D: DelayNs> AsyncPort for AsyncSpiPort<S, D>
where
    S::Error: Send + Sync + 'static,
{
    async fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        let mut bytes = vec![0; transfer.receive];
        let done = self.spi.transaction(&mut spi_operations(transfer, &mut bytes)).await;
        done.map(|()| bytes).map_err(spi_error)
    }

    async fn wait(&mut self, micros: u64) {
        self.timing.wait_async(micros).await;
    }

    async fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        self.timing.line_async(high, within).await
    }
}

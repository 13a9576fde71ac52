//! I2C for those who await.

use embedded_hal_async::delay::DelayNs;
use embedded_hal_async::i2c::{Error as _, I2c};
use yemdo::bus::Transfer;

use super::i2c_cause;
use crate::error::{BusError, Cause, HalError};
use crate::port::AsyncPort;

/// A port over any async I2C of embedded-hal.
#[derive(Debug)]
pub struct AsyncI2cPort<I, D> {
    i2c: I,
    delay: D,
}

impl<I: I2c, D: DelayNs> AsyncI2cPort<I, D> {
    /// A port over an I2C bus, with a delay.
    pub fn new(i2c: I, delay: D) -> Self {
        Self { i2c, delay }
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
        let mut left = micros;
        while left > 0 {
            let now = left.min(1_000_000);
            self.delay.delay_us(now as u32).await;
            left -= now;
        }
    }

    async fn line(&mut self, _high: bool, _within: u64) -> Result<bool, BusError> {
        Err(BusError::new(Cause::Unsupported, "the routine waits for the data-ready line, and no line is connected"))
    }
}

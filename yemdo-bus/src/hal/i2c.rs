//! I2C.

use embedded_hal::delay::DelayNs;
use embedded_hal::digital::InputPin;
use embedded_hal::i2c::I2c;
use yemdo::bus::Transfer;

use super::{Timing, i2c_error};
use crate::error::BusError;
use crate::port::Port;

/// A port over any I2C of embedded-hal.
pub struct I2cPort<I, D> {
    i2c: I,
    timing: Timing<D>,
}

impl<I, D> std::fmt::Debug for I2cPort<I, D> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("I2cPort").finish_non_exhaustive()
    }
}

impl<I: I2c, D: DelayNs> I2cPort<I, D> {
    /// A port over an I2C bus, with a delay.
    pub fn new(i2c: I, delay: D) -> Self {
        Self { i2c, timing: Timing::new(delay) }
    }

    pub(crate) fn with_delay<E: DelayNs>(self, delay: E) -> I2cPort<I, E> {
        I2cPort { i2c: self.i2c, timing: self.timing.with_delay(delay) }
    }

    /// The data-ready line of the part.
    pub fn set_line(&mut self, line: impl InputPin + Send + 'static) {
        self.timing.set_line(line);
    }

    /// The bus.
    pub fn into_inner(self) -> I {
        self.i2c
    }
}

impl<I: I2c, D: DelayNs> Port for I2cPort<I, D>
where
    I::Error: Send + Sync + 'static,
{
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        let address = transfer.address.unwrap_or(0);
        let mut bytes = vec![0; transfer.receive];
        let done = match (transfer.send.as_slice(), transfer.receive) {
            (send, 0) => self.i2c.write(address, send),
            ([], _) => self.i2c.read(address, &mut bytes),
            (send, _) if transfer.restart => self.i2c.write_read(address, send, &mut bytes),
            (send, _) => self.i2c.write(address, send).and_then(|()| self.i2c.read(address, &mut bytes)),
        };
        done.map(|()| bytes).map_err(|error| i2c_error(address, error))
    }

    fn wait(&mut self, micros: u64) {
        self.timing.wait(micros);
    }

    fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        self.timing.line(high, within)
    }

    fn now(&mut self) -> u64 {
        self.timing.now()
    }
}

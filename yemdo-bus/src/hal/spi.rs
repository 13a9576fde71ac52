//! SPI.

use embedded_hal::delay::DelayNs;
use embedded_hal::digital::InputPin;
use embedded_hal::spi::SpiDevice;
use yemdo::bus::Transfer;

use super::{Timing, spi_error, spi_operations};
use crate::error::BusError;
use crate::port::Port;

/// A port over any SPI device of embedded-hal.
pub struct SpiPort<S, D> {
    spi: S,
    timing: Timing<D>,
}

impl<S, D> std::fmt::Debug for SpiPort<S, D> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SpiPort").finish_non_exhaustive()
    }
}

impl<S: SpiDevice, D: DelayNs> SpiPort<S, D> {
    /// A port over an SPI device, with a delay.
    pub fn new(spi: S, delay: D) -> Self {
        Self { spi, timing: Timing::new(delay) }
    }

    pub(crate) fn with_delay<E: DelayNs>(self, delay: E) -> SpiPort<S, E> {
        SpiPort { spi: self.spi, timing: self.timing.with_delay(delay) }
    }

    /// The data-ready line of the part.
    pub fn set_line(&mut self, line: impl InputPin + Send + 'static) {
        self.timing.set_line(line);
    }
}

impl<S: SpiDevice, D: DelayNs> Port for SpiPort<S, D>
where
    S::Error: Send + Sync + 'static,
{
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        let mut bytes = vec![0; transfer.receive];
        let done = self.spi.transaction(&mut spi_operations(transfer, &mut bytes));
        done.map(|()| bytes).map_err(spi_error)
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

//! `/dev/spidev*`.

use std::thread;
use std::time::{Duration, Instant};

use spidev::{SpiModeFlags, Spidev, SpidevOptions, SpidevTransfer};
use yemdo::bus::{Spi, Transfer};

use super::cannot_open;
use super::gpio::{DataReady, watched};
use crate::error::{BusError, Cause};
use crate::port::Port;

/// An SPI device of Linux.
pub struct SpiBus {
    path: String,
    device: Spidev,
    start: Instant,
    line: Option<DataReady>,
}

impl std::fmt::Debug for SpiBus {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SpiBus").field("path", &self.path).finish_non_exhaustive()
    }
}

impl SpiBus {
    /// Opens a device such as `/dev/spidev0.1`, with the clock mode and bit order of a sheet.
    ///
    /// # Errors
    /// [`BusError`]: no such device, no permission, a mode that the controller does not have.
    pub fn open(path: &str, spi: &Spi, hertz: Option<u32>) -> Result<Self, BusError> {
        let mut device = Spidev::open(path).map_err(|error| cannot_open(path, "spi", error))?;
        let mode = match spi.mode {
            1 => SpiModeFlags::SPI_MODE_1,
            2 => SpiModeFlags::SPI_MODE_2,
            3 => SpiModeFlags::SPI_MODE_3,
            _ => SpiModeFlags::SPI_MODE_0,
        };
        let usual = spi.max_khz.map_or(1_000_000, |khz| khz.saturating_mul(1000).min(1_000_000));
        let mut options = SpidevOptions::new();
        options.bits_per_word(8).max_speed_hz(hertz.unwrap_or(usual)).lsb_first(spi.lsb_first).mode(mode);
        let options = options.build();
        device.configure(&options).map_err(|error| {
            BusError::new(Cause::Unsupported, format!("{path} does not take mode {} at this clock: {error}", spi.mode)).because(error)
        })?;
        Ok(Self { path: path.to_owned(), device, start: Instant::now(), line: None })
    }

    /// The same with the part's data-ready line.
    pub fn with_line(mut self, line: DataReady) -> Self {
        self.line = Some(line);
        self
    }
}

impl Port for SpiBus {
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        let mut out = transfer.send.clone();
        out.resize(transfer.send.len() + transfer.receive, 0);
        let mut back = vec![0; out.len()];
        let done = self.device.transfer(&mut SpidevTransfer::read_write(&out, &mut back));
        done.map_err(|error| {
            let cause = if super::is_there(&self.path) { Cause::Other } else { Cause::Gone };
            BusError::new(cause, format!("{}: {error}", self.path)).because(error)
        })?;
        Ok(back.split_off(transfer.send.len()))
    }

    fn wait(&mut self, micros: u64) {
        thread::sleep(Duration::from_micros(micros));
    }

    fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        watched(self.line.as_ref(), high, within)
    }

    fn now(&mut self) -> u64 {
        self.start.elapsed().as_micros() as u64
    }
}

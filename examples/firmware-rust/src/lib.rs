//! Warns of frost in the hall: firmware around a sensor whose driver was made from its sheet.

#![no_std]
#![forbid(unsafe_code)]

use embedded_hal::delay::DelayNs;
use embedded_hal::i2c::I2c;

/// Made by `build.rs`.
pub mod thole_9 {
    include!(concat!(env!("OUT_DIR"), "/thole_9.rs"));
}

use thole_9::{Driver, Error, Resolution, Status};

/// What the guard says.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Warning {
    /// It is warm enough.
    Warm(f64),
    /// It freezes.
    Frost(f64),
    /// The sensor cannot say.
    Unknown(Status),
}

/// The guard.
pub struct Guard<I2C, D> {
    driver: Driver<I2C, D>,
}

impl<I2C: I2c, D: DelayNs> Guard<I2C, D> {
    /// A guard with the sensor at its finest resolution.
    pub fn new(i2c: I2C, delay: D) -> Self {
        let mut driver = Driver::new(i2c, delay);
        // Of three bits, every named value fits.
        let _ = driver.device.settings.set_resolution(Resolution::Bits14);
        Self { driver }
    }

    /// Measures once.
    ///
    /// # Errors
    /// The sensor did not answer, or what came is no good frame.
    pub fn look(&mut self) -> Result<Warning, Error<I2C::Error>> {
        self.driver.measure()?;
        let reading = self.driver.device.frost_readings().map(|readings| readings.temperature);
        Ok(match reading {
            Some(reading) => match reading.get() {
                Some(celsius) if celsius < 0.5 => Warning::Frost(celsius),
                Some(celsius) => Warning::Warm(celsius),
                None => Warning::Unknown(reading.status),
            },
            None => Warning::Unknown(Status::NotReady),
        })
    }
}

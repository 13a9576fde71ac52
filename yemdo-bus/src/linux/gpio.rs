//! The data-ready line of a part, on a GPIO of Linux (`/dev/gpiochip*`).

use std::io;
use std::thread;
use std::time::{Duration, Instant};

use gpiocdev::Request;
use gpiocdev::line::Value;

use super::cannot_open;
use crate::error::{BusError, Cause};

/// A GPIO line that is watched.
#[derive(Debug)]
pub struct DataReady {
    request: Request,
    offset: u32,
    name: String,
}

/// From one look to the next.
const LOOK: Duration = Duration::from_micros(200);

impl DataReady {
    /// Opens a line as it is typed: `gpiochip0:17`, the chip and the line's number on it.
    ///
    /// # Errors
    /// [`BusError`]: no such chip or line, no permission, in use.
    pub fn open(typed: &str) -> Result<Self, BusError> {
        let wrong = || BusError::new(Cause::Other, format!("`{typed}` is not a GPIO line")).help("write chip and line: gpiochip0:17");
        let (chip, line) = typed.rsplit_once(':').ok_or_else(wrong)?;
        let offset: u32 = line.parse().map_err(|_| wrong())?;
        let path = if chip.starts_with('/') { chip.to_owned() } else { format!("/dev/{chip}") };
        if let Err(error) = std::fs::File::open(&path) {
            return Err(cannot_open(&path, "gpio", error));
        }
        let request = Request::builder().on_chip(&path).with_consumer("yemdo").with_line(offset).as_input().request();
        let request = request.map_err(|error| {
            BusError::new(Cause::InUse, format!("cannot watch line {offset} of {path}: {error}"))
                .because(io::Error::other(error.to_string()))
        })?;
        Ok(Self { request, offset, name: typed.to_owned() })
    }

    /// Waits until it has a level, for so many microseconds at the most.
    ///
    /// # Errors
    /// [`BusError`]: it cannot be read.
    pub fn wait(&self, high: bool, within: u64) -> Result<bool, BusError> {
        let end = Instant::now() + Duration::from_micros(within);
        loop {
            let value = self.request.value(self.offset);
            let value = value.map_err(|error| BusError::new(Cause::Gone, format!("the line {} cannot be read: {error}", self.name)))?;
            if (value == Value::Active) == high {
                return Ok(true);
            }
            if Instant::now() >= end {
                return Ok(false);
            }
            thread::sleep(LOOK);
        }
    }
}

/// Waits for a line, where there is one.
pub(super) fn watched(line: Option<&DataReady>, high: bool, within: u64) -> Result<bool, BusError> {
    match line {
        Some(line) => line.wait(high, within),
        None => Err(BusError::new(Cause::Unsupported, "the routine waits for the data-ready line, and none is given")
            .help("give it as --line gpiochip0:17, or poll a status bit in the sheet's routine")),
    }
}

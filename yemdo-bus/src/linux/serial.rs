//! Serial ports.

use std::io::{self, Read, Write};
use std::os::fd::AsRawFd;
use std::time::Duration;

use rs485::SerialRs485;
use serialport::{DataBits, ErrorKind, Parity, SerialPort, StopBits};

use super::{cannot_open, user_of};
use crate::error::{BusError, Cause};
use crate::modbus::Stream;

/// An open serial port.
pub struct SerialLine {
    port: Box<dyn SerialPort>,
}

impl std::fmt::Debug for SerialLine {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("SerialLine").field("name", &self.port.name()).finish()
    }
}

/// Opens a serial port for 8 data bits; nobody else can have it then. With `rs485` the kernel's driver switches the direction of a two-wire
/// line by RTS.
///
/// # Errors
/// [`BusError`]: no such port, no permission, in use and by whom.
pub fn open_serial(path: &str, baud: u32, parity: &str, stop: u8, rs485: bool) -> Result<SerialLine, BusError> {
    let parity = match parity {
        "even" => Parity::Even,
        "odd" => Parity::Odd,
        _ => Parity::None,
    };
    let stop = if stop == 2 { StopBits::Two } else { StopBits::One };
    let builder = serialport::new(path, baud).data_bits(DataBits::Eight).parity(parity).stop_bits(stop).timeout(Duration::from_millis(5));
    match builder.open_native() {
        Ok(port) => {
            if rs485 {
                let switched = SerialRs485::new().set_enabled(true).set_rts_on_send(true).set_on_fd(port.as_raw_fd());
                switched.map_err(|error| {
                    let what = format!("the driver of {path} does not switch the direction of an RS-485 line: {error}");
                    BusError::new(Cause::Unsupported, what).because(error).help("most USB adapters do it by themselves: leave out rs485")
                })?;
            }
            Ok(SerialLine { port: Box::new(port) })
        }
        Err(error) => {
            let kind = match error.kind() {
                ErrorKind::Io(kind) => kind,
                ErrorKind::NoDevice if super::is_there(path) => io::ErrorKind::ResourceBusy,
                ErrorKind::NoDevice => io::ErrorKind::NotFound,
                _ => io::ErrorKind::Other,
            };
            // Whoever has it has it alone.
            let kind = if kind == io::ErrorKind::Other && user_of(path).is_some() { io::ErrorKind::ResourceBusy } else { kind };
            if kind == io::ErrorKind::Other {
                return Err(BusError::new(Cause::Other, format!("cannot open {path}: {error}")).because(error));
            }
            Err(cannot_open(path, "dialout", io::Error::from(kind)))
        }
    }
}

impl SerialLine {
    /// Another speed.
    ///
    /// # Errors
    /// The port does not have it.
    pub fn set_baud(&mut self, baud: u32) -> Result<(), BusError> {
        self.port.set_baud_rate(baud).map_err(|error| BusError::new(Cause::Unsupported, format!("{baud} baud: {error}")).because(error))
    }

    /// Another parity: `none`, `even` or `odd`.
    ///
    /// # Errors
    /// The port does not have it.
    pub fn set_parity(&mut self, parity: &str) -> Result<(), BusError> {
        let of = match parity {
            "even" => Parity::Even,
            "odd" => Parity::Odd,
            _ => Parity::None,
        };
        self.port.set_parity(of).map_err(|error| BusError::new(Cause::Unsupported, format!("parity {parity}: {error}")).because(error))
    }
}

impl Read for SerialLine {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.port.read(buffer)
    }
}

impl Write for SerialLine {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.port.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.port.flush()
    }
}

impl Stream for SerialLine {
    fn set_time(&mut self, time: Duration) -> io::Result<()> {
        self.port.set_timeout(time).map_err(io::Error::from)
    }

    fn set_speed(&mut self, baud: u32) -> io::Result<()> {
        self.port.set_baud_rate(baud).map_err(io::Error::from)
    }
}

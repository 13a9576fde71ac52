//! `/dev/i2c-*`: plain I2C, and SMBus transfers where an adapter has nothing else.

use std::io;
use std::thread;
use std::time::{Duration, Instant};

use i2cdev::core::{I2CDevice, I2CMessage, I2CTransfer};
use i2cdev::linux::{LinuxI2CBus, LinuxI2CDevice, LinuxI2CError, LinuxI2CMessage};
use yemdo::bus::Transfer;

use super::cannot_open;
use super::gpio::{DataReady, watched};
use crate::error::{BusError, Cause};
use crate::port::Port;

/// An I2C bus of Linux.
pub struct I2cBus {
    path: String,
    bus: LinuxI2CBus,
    /// The adapter has SMBus transfers only.
    smbus: bool,
    devices: Vec<(u8, LinuxI2CDevice)>,
    start: Instant,
    line: Option<DataReady>,
}

impl std::fmt::Debug for I2cBus {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("I2cBus").field("path", &self.path).field("smbus", &self.smbus).finish_non_exhaustive()
    }
}

// Error numbers of Linux (asm-generic/errno.h).
const ENXIO: i32 = 6;
const EAGAIN: i32 = 11;
const EBUSY: i32 = 16;
const ENODEV: i32 = 19;
const EINVAL: i32 = 22;
const ENOTTY: i32 = 25;
const EPROTO: i32 = 71;
const EOPNOTSUPP: i32 = 95;
const ETIMEDOUT: i32 = 110;
const EREMOTEIO: i32 = 121;

impl I2cBus {
    /// Opens a bus such as `/dev/i2c-1`.
    ///
    /// # Errors
    /// [`BusError`]: no such device, no permission.
    pub fn open(path: &str) -> Result<Self, BusError> {
        let bus = LinuxI2CBus::new(path).map_err(|error| cannot_open(path, "i2c", io::Error::from(error)))?;
        Ok(Self { path: path.to_owned(), bus, smbus: false, devices: Vec::new(), start: Instant::now(), line: None })
    }

    /// The same with the part's data-ready line.
    pub fn with_line(mut self, line: DataReady) -> Self {
        self.line = Some(line);
        self
    }

    /// Whether the adapter turned out to have SMBus transfers only.
    pub fn is_smbus_only(&self) -> bool {
        self.smbus
    }

    fn plain(&mut self, address: u8, send: &[u8], receive: &mut [u8], restart: bool) -> Result<(), LinuxI2CError> {
        let to = u16::from(address);
        match (send.is_empty(), receive.is_empty()) {
            (false, false) if restart => {
                let mut messages = [LinuxI2CMessage::write(send).with_address(to), LinuxI2CMessage::read(receive).with_address(to)];
                self.bus.transfer(&mut messages).map(|_| ())
            }
            (false, false) => {
                self.bus.transfer(&mut [LinuxI2CMessage::write(send).with_address(to)])?;
                self.bus.transfer(&mut [LinuxI2CMessage::read(receive).with_address(to)]).map(|_| ())
            }
            (_, true) => self.bus.transfer(&mut [LinuxI2CMessage::write(send).with_address(to)]).map(|_| ()),
            (true, false) => self.bus.transfer(&mut [LinuxI2CMessage::read(receive).with_address(to)]).map(|_| ()),
        }
    }

    fn device(&mut self, address: u8) -> Result<&mut LinuxI2CDevice, LinuxI2CError> {
        if !self.devices.iter().any(|(known, _)| *known == address) {
            let device = LinuxI2CDevice::new(&self.path, u16::from(address))?;
            self.devices.push((address, device));
        }
        let found = self.devices.iter_mut().find(|(known, _)| *known == address);
        found.map(|(_, device)| device).ok_or(LinuxI2CError::Errno(ENXIO))
    }

    /// The same as an SMBus transfer (SMBus 3.2, section 6.5), where one fits.
    fn as_smbus(&mut self, address: u8, send: &[u8], receive: usize) -> Result<Vec<u8>, LinuxI2CError> {
        let device = self.device(address)?;
        match (send, receive) {
            ([], 0) => device.smbus_write_quick(false).map(|()| Vec::new()),
            ([], 1) => device.smbus_read_byte().map(|byte| vec![byte]),
            (&[command], 0) => device.smbus_write_byte(command).map(|()| Vec::new()),
            (&[command, byte], 0) => device.smbus_write_byte_data(command, byte).map(|()| Vec::new()),
            // A word goes low byte first.
            (&[command, low, high], 0) => device.smbus_write_word_data(command, u16::from_le_bytes([low, high])).map(|()| Vec::new()),
            (&[command, ref data @ ..], 0) if data.len() <= 32 => device.smbus_write_i2c_block_data(command, data).map(|()| Vec::new()),
            (&[command], 1) => device.smbus_read_byte_data(command).map(|byte| vec![byte]),
            (&[command], 2) => device.smbus_read_word_data(command).map(|word| word.to_le_bytes().to_vec()),
            (&[command], count @ 3..=32) => device.smbus_read_i2c_block_data(command, count as u8),
            _ => Err(LinuxI2CError::Errno(EOPNOTSUPP)),
        }
    }

    fn error(&self, transfer: &Transfer, error: LinuxI2CError) -> BusError {
        let address = transfer.address.unwrap_or(0);
        let number = match &error {
            LinuxI2CError::Errno(number) => Some(*number),
            LinuxI2CError::Io(error) => error.raw_os_error(),
        };
        let (cause, what) = match number {
            _ if !super::is_there(&self.path) => (Cause::Gone, format!("{} is gone", self.path)),
            // What adapters say where nobody answers (Linux, Documentation/i2c/fault-codes).
            Some(ENXIO | EREMOTEIO | ENODEV) => (Cause::Nak, "not acknowledged".to_owned()),
            Some(ETIMEDOUT) => (Cause::Stuck, "the bus is held low: is a part stuck, or a pull-up missing?".to_owned()),
            Some(EAGAIN) => (Cause::Stuck, "another controller has won the bus".to_owned()),
            Some(EBUSY) => (Cause::InUse, "a driver of the kernel has this address".to_owned()),
            Some(ENOTTY) => (Cause::Other, format!("{} is not an I2C bus", self.path)),
            Some(EOPNOTSUPP | EINVAL) => {
                let what = format!(
                    "the adapter has SMBus transfers only, and none that sends {} and reads {} bytes",
                    transfer.send.len(),
                    transfer.receive
                );
                (Cause::Unsupported, what)
            }
            Some(EPROTO) => (Cause::Nak, "the part broke off".to_owned()),
            _ => (Cause::Other, error.to_string()),
        };
        BusError::new(cause, format!("I2C 0x{address:02X}: {what}")).because(error)
    }
}

impl Port for I2cBus {
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        let address = transfer.address.unwrap_or(0);
        if !self.smbus {
            let mut bytes = vec![0; transfer.receive];
            match self.plain(address, &transfer.send, &mut bytes, transfer.restart) {
                Ok(()) => return Ok(bytes),
                Err(LinuxI2CError::Errno(EOPNOTSUPP | ENOTTY)) => self.smbus = true,
                Err(LinuxI2CError::Io(error)) if matches!(error.raw_os_error(), Some(EOPNOTSUPP | ENOTTY)) => self.smbus = true,
                Err(error) => return Err(self.error(transfer, error)),
            }
        }
        self.as_smbus(address, &transfer.send, transfer.receive).map_err(|error| self.error(transfer, error))
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

//! Talk to sensors by their sheets, and test against parts that are not there.
//!
//! A [`Device`] is a part on a bus: any I2C or SPI of embedded-hal 1.0, blocking or async ([`AsyncDevice`]), a Linux device, or Modbus
//! RTU and TCP over anything that reads and writes. What can be done with it follows from its sheet: `configure`, `measure`,
//! routines, registers. A [`Rig`] holds stand-ins: parts that behave as their sheets say, with a virtual clock, that judge who talks
//! to them and inject faults. A driver written by hand can be tested against the datasheet with it.
//!
//! ```no_run
//! use yemdo::Part;
//! use yemdo_bus::Device;
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let bus = yemdo_bus::linux::I2cBus::open("/dev/i2c-1")?;
//! let text = std::fs::read_to_string("strake-20.toml")?;
//! let mut probe = Device::new(bus, Part::parse("strake-20.toml", &text)?, yemdo::bus::Bus::I2c)?;
//! let air = probe.measure()?;
//! println!("{}", air.reading("temperature")?);
//! # Ok(())
//! # }
//! ```

pub mod bench;
mod device;
mod error;
pub mod hal;
#[cfg(all(target_os = "linux", feature = "linux"))]
pub mod linux;
pub mod modbus;
pub mod place;
mod port;
pub mod recording;
mod rig;
pub mod scan;

pub use device::{AsyncDevice, Device, MeasuredFrame, Measurement, Seen};
pub use error::{BusError, Cause, DeviceError, HalError};
pub use port::{AsyncPort, Checked, Port, Shared};
pub use rig::{Rig, RigAlert, RigDelay, RigI2c, RigI2cError, RigLine, RigPort, RigSpi, Server, serve_tcp};
#[cfg(all(target_os = "linux", feature = "linux"))]
pub use rig::{Terminal, serve_rtu};

//! Logs of sensor readings.
//!
//! [`Logger`] measures with the devices of several [`Station`]s on schedule, reopens unplugged devices, and reports to an
//! [`Audience`]. [`LogFile`] keeps them on disk in one of four [`LogForm`]s; [`LogEntries`] reads all of them
//! back, [`AnyLog`] gives their frames for decoding them again, and [`Tracks`] has readings over time.
//!
//! ```
//! use yemdo::{Part, stand_in::StandIn};
//! use yemdo_bus::{Device, Port, Rig};
//! use yemdo_log::{Audience, Clock, Clocks, Encoder, LogForm, Logger, Measured, Moment, Station};
//!
//! let part = Part::parse("probe.toml", r#"
//! part = "probe-1"
//! i2c.address = 0x17
//! frame.AIR = { read = 2, code = { temperature = "signed b1 b0[3:0]" } }
//! reading.temperature = { unit = "°C", range = [-40, 80], formula = "temperature * 0.04" }
//! "#)?;
//!
//! /// Keeps CSV in memory.
//! struct Csv(Encoder, Vec<u8>);
//! impl<P: Port> Audience<P> for Csv {
//!     type Error = Box<dyn std::error::Error>;
//!     fn measured(&mut self, measured: &Measured<'_, P>) -> Result<(), Self::Error> {
//!         Ok(self.1.extend(self.0.record(measured.entry)?))
//!     }
//! }
//!
//! let rig = Rig::new();
//! rig.add(StandIn::new(&part, 1)?);
//! let mut logger = Logger::new(Clock::of_rig(&rig, Moment::of_seconds(2e9)));
//! logger.add(Station::new("hall", &part).every(2_000_000));
//! let mut csv = Csv(Encoder::new(LogForm::Csv, Clocks::new(true)), Vec::new());
//! logger.count(3).run(&mut |_: &Station| Device::i2c(rig.i2c(), part.clone()), &mut csv)?;
//! assert_eq!(String::from_utf8(csv.1)?.lines().count(), 3);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod any;
mod entry;
mod error;
mod file;
mod form;
mod logger;
mod raw;
mod read;
mod records;
mod senml;
mod time;
mod tracks;
mod words;
mod write;

pub use any::AnyLog;
pub use entry::{Entry, EntryError, EntryFrame, EntryReading, Settings};
pub use error::{LogError, LogErrorKind};
pub use file::{LogFile, Rotation};
pub use form::LogForm;
pub use logger::{Audience, Clock, Connect, Control, Logger, Measured, Station, Tally};
pub use raw::{RawFrames, open_log};
pub use read::{Found, LogEntries, form_of};
pub use records::{LogFrames, LogStep};
pub use time::{Clocks, Moment};
pub use tracks::{Raw, TimeKind, Track, Tracks, seconds_of, span};
pub use words::csv_text;
pub use write::Encoder;

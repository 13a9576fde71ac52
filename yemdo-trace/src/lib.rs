//! Captures of buses, read as transfers.
//!
//! [`Capture`] reads waveforms of logic analysers, network captures, the kernel's trace, tables and recordings. It detects the format by content,
//! and returns the transfers in sequence, in constant memory; [`Follower`](yemdo::trace::Follower) interprets them.
//! The lines of a bus become bytes in [`edges`]: I2C, SPI in all modes, and serial lines. [`wave`] is the way back, for waveform viewers.
//!
//! ```
//! use yemdo_trace::{Capture, CaptureOptions, Item};
//! let text = "# yemdo traffic 1\n0.015412 i2c 0x2C R 2 = 89 87\n";
//! let mut capture = Capture::open(text.as_bytes(), CaptureOptions::default())?;
//! let Some(Item::Transfer(transfer)) = capture.next_item()? else { panic!("one transfer") };
//! assert_eq!((transfer.line, transfer.transaction.traffic.transfer.address), (2, Some(0x2C)));
//! # Ok::<(), yemdo_trace::CaptureError>(())
//! ```

mod capture;
mod cells;
pub mod edges;
mod error;
mod exchanged;
mod kernel;
mod lines;
mod network;
mod options;
mod printed;
mod recording;
mod rtu;
mod table;
mod vcd;
pub mod wave;

pub use capture::{Capture, CaptureKind, Captured, Item};
pub use error::{CaptureError, Tell};
pub use options::{CaptureOptions, Role, Serial, TableColumns, parse_duration};

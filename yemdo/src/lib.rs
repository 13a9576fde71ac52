//! Sensor datasheets as data: from raw bytes to calibrated physical readings.
//!
//! A *sheet* is one TOML file typed from a part's datasheet: its frames, the codes in them, the checks, and
//! the formulas as C. [`Part`] is the sheet resolved; a [`Decoder`] made from it turns the bytes of a frame
//! into readings with value, unit, codes and status.
//!
//! ```
//! let part = yemdo::Part::parse("probe.toml", r#"
//! part = "probe-1"
//!
//! [frame.AIR]
//! read = 2
//! code = { temperature = "signed b0 b1[7:4]" }
//!
//! [reading.temperature]
//! unit = "°C"
//! range = [-40, 125]
//! formula = "temperature * 0.0625"
//! "#)?;
//! let mut decoder = yemdo::Decoder::new(&part);
//! let decoded = decoder.decode(0, &[0xF6, 0x80])?;
//! let reading = &decoded.readings[0];
//! assert_eq!((reading.value, reading.unit), (Some(-9.5), "°C"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! The crate computes and does nothing else: no input or output, no clock, no global state, no unsafe code,
//! and no panic on any input.
//!
//! Phases, each a folder: [`sheet`] (TOML to syntax tree, diagnostics) → [`model`] (the resolved part) with
//! [`formula`] (C formulas), [`bits`] (layouts, number forms, checks) and [`modbus`] (frames) → [`decode`], [`configure`], [`routine`], [`check`],
//! [`explain`], [`import`] and [`emit`]; [`units`] beside them.

pub mod bits;
pub mod check;
pub mod configure;
pub mod decode;
pub mod emit;
pub mod explain;
pub mod formula;
pub mod import;
pub mod modbus;
pub mod model;
pub mod routine;
pub mod sheet;
pub mod units;

pub use decode::{Decoded, Decoder, Reading, Refusal};
pub use model::part::Part;
pub use model::{Settings, Status};
pub use sheet::{Diagnostic, Severity, SheetError};

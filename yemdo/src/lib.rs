//! Sensor datasheets as data: from raw bytes to calibrated physical readings.
//!
//! A *sheet* is one TOML file typed from a part's datasheet: its frames, the codes in them, the checks, and
//! the formulas as C. [`Part`] is the sheet resolved; a [`Decoder`] made from it turns the bytes of a frame
//! into readings with value, unit, codes and status.
//!
//! ```
//! use yemdo::{Decoder, Part};
//!
//! let part = Part::parse("probe.toml", r#"
//! part = "probe-1"
//!
//! [frame.AIR]
//! read = 2
//! code = { temperature = "signed b1 b0[3:0]" }
//!
//! [reading.temperature]
//! unit = "°C"
//! range = [-40, 80]
//! formula = "temperature * 0.04"
//! "#)?;
//! let mut decoder = Decoder::new(&part);
//! let air = part.frame("AIR")?;
//! let decoded = decoder.decode(air, &[0x06, 0xF0])?;
//! let temperature = decoded.reading("temperature")?;
//! assert_eq!(temperature.value, Some(-10.0));
//! assert_eq!(temperature.to_string(), "-10.00 °C");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! The crate computes and does nothing else: no input or output, no clock, no global state, no unsafe code,
//! and no panic on any input.

mod bits;
pub mod bus;
pub mod configure;
mod decode;
pub mod emit;
pub mod explain;
mod formula;
mod ground;
pub mod import;
pub mod mend;
mod model;
mod plan;
mod predict;
pub mod record;
pub mod review;
pub mod routine;
pub mod series;
mod sheet;
pub mod stand_in;
pub mod trace;
pub mod units;
#[cfg(feature = "serde")]
pub mod view;

pub use decode::{CodeValue, Columns, Decoded, Decoder, FormulaFault, FrameValues, ReadingValue};
pub use formula::fault::FaultKind;
pub use ground::diagnostic::{Diagnostic, Severity, SheetError, render_all};
pub use ground::digits::Digits;
pub use ground::hex::{HexError, parse_hex, parse_integer, push_hex, to_hex};
pub use ground::number::{Number, Ty};
pub use ground::suggest::nearest;
pub use ground::text::{Source, Span};
pub use ground::words::{counted, time_text, visible, with_unit};
pub use model::ids::{CodeId, FieldId, FrameId, ParameterId, QuantityId, ReadingId, RegisterId, RoutineId};
pub use model::in_use::InUse;
pub use model::name::UnknownName;
pub use model::part::Part;
pub use model::state::{ParameterError, Provenance, State};
pub use model::status::Status;
pub use plan::accept::Refusal;
pub use sheet::keys;
pub use sheet::parse::MAX_SHEET;

/// What a part has: frames and codes, readings, registers and fields, as the sheet says; reached through [`Part`].
pub mod part {
    pub use crate::ground::list::{Id, List};
    pub use crate::model::command::{Command, CommandByte, Exchange, NotSent};
    pub use crate::model::example::Example;
    pub use crate::model::frame::{Blank, Code, CodeContent, Frame, Origin, Otherwise};
    pub use crate::model::ids::ColumnId;
    pub use crate::model::name::Kind;
    pub use crate::model::operation::{Action, Alert, Quantity, Routine, Step, Time};
    pub use crate::model::part::{NotAnAddress, Sheet};
    pub use crate::model::reading::{Condition, Parameter, Reading};
    pub use crate::model::registers::{Access, ColumnName, Field, FieldValue, Register, Reserved};
}

/// Where codes stand in a frame and how their bits are read; checks over its bytes.
pub mod layout {
    pub use crate::bits::check::{Check, CheckKind, Crc, CrcModel, MODELS, SumFinish};
    pub use crate::bits::form::Form;
    pub use crate::bits::layout::{CheckInput, Layout, Slice};
}

/// Every step from the bytes of a frame to its readings, as [`Decoder::steps`] gives them.
pub mod steps {
    pub use crate::decode::{CheckStep, CodeStep, FormulaLine, ReadingSteps, Steps};
}

//! Frames to readings: one at a time, or many in columns.

mod affine;
mod columns;
mod decoded;
mod decoder;
mod fuse;
pub(crate) mod plan;
mod refusal;
mod row;
mod steps;

pub use columns::Columns;
pub use decoded::{CodeValue, Decoded, Fault, Reading};
pub use decoder::Decoder;
pub use refusal::Refusal;
pub use row::Row;
pub use steps::{CheckStep, CodeStep, FormulaLine, ReadingSteps, Steps};

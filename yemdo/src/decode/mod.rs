//! Frames to readings: one at a time, or many in columns.

mod affine;
mod columns;
mod decoder;
mod fuse;
pub(crate) mod plan;
mod row;
mod steps;

pub use columns::Columns;
pub use decoder::{CodeValue, Decoded, Decoder, Fault, Reading, Refusal};
pub use row::Row;
pub use steps::{CheckStep, CodeStep, FormulaLine, ReadingSteps, Steps};

//! Frames to readings: one at a time, into kept room, or many in columns; and every step on the way.

mod affine;
mod columns;
mod decoded;
mod decoder;
mod derived;
mod row;
mod steps;

pub use columns::Columns;
pub use decoded::{CodeValue, Decoded, FormulaFault, ReadingValue};
pub use decoder::Decoder;
pub use row::FrameValues;
pub use steps::{CheckStep, CodeStep, FormulaLine, ReadingSteps, Steps};

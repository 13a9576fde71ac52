//! Running a flat program: over columns of frames, or for one frame. What an operation does stands in one table.

pub(crate) mod columns;
pub(crate) mod operations;
pub(crate) mod single;

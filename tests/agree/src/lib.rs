//! Random valid sheets, and every way to ask a part held against every other.
//!
//! [`sheet::random`] makes a sheet of bytes of choices; [`ways`] holds the ways to ask against each other; [`shrink`] makes a
//! sheet that shows a difference small.

#![allow(unreachable_pub, clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::indexing_slicing, missing_docs)] // it ends where something is wrong

pub mod cases;
pub mod choices;
pub mod planted;
pub mod sheet;
pub mod shrink;
pub mod toml;
pub mod ways;

/// Bytes of choices for a sheet.
pub const SHEET_BYTES: usize = 4096;
/// Bytes of choices for the requests to a part.
pub const CASE_BYTES: usize = 16384;

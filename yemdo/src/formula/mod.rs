//! The formula language: a strict subset of C (ISO/IEC 9899:2011), from text to columns of numbers.
//!
//! Phases, each in a file of its own: `lex` (tokens with places) → `parse` (syntax tree, `ast`) → `analyse`
//! (types and names, [`typed`]) → `lower` (flat [`program`]) → `run` (columns) or `single` (one frame, with `chosen`
//! operations), and `interval` (what can come out, before anything runs).
//!
//! `int` and `long` have 32 bits, `long long` 64. What C leaves undefined is a *fault* here.

pub(crate) mod analyse;
pub(crate) mod ast;
mod chosen;
pub mod curve;
pub(crate) mod interval;
pub(crate) mod kernels;
pub(crate) mod lex;
pub(crate) mod lower;
pub(crate) mod operations;
pub(crate) mod parse;
pub mod program;
pub(crate) mod run;
pub(crate) mod single;
pub mod typed;
pub mod types;

/// Deepest nesting of expressions and blocks that is read.
pub const MAX_DEPTH: usize = 200;
/// Longest formula that is read, in bytes.
pub const MAX_LENGTH: usize = 32 * 1024;

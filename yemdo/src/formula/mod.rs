//! The formula language: a strict subset of C (ISO/IEC 9899:2011), from text to columns of numbers.
//!
//! In: the text of a formula, and whoever knows what its names mean ([`Scope`](front::analyse::Scope)): for each value
//! from outside a key, a type and bounds. Out: numbers, or a fault with its place. Nothing here knows of parts.
//!
//! Phases: `front/` (tokens, syntax tree, types and names) → [`typed`] → `flat/` (straight-line program, and the passes
//! over it) → `run/` (columns of frames, or one frame). [`facts`] says of every typed expression what can come out of it.
//!
//! `int` and `long` have 32 bits, `long long` 64. What C leaves undefined is a *fault* here.

pub(crate) mod curve;
pub(crate) mod facts;
pub(crate) mod fault;
pub(crate) mod fixed;
pub(crate) mod flat;
pub(crate) mod front;
pub(crate) mod functions;
pub(crate) mod input;
pub(crate) mod kernels;
pub(crate) mod narrow;
pub(crate) mod operators;
pub(crate) mod run;
pub(crate) mod typed;

/// Deepest nesting of expressions and blocks that is read.
pub(crate) const MAX_DEPTH: usize = 200;
/// Longest formula that is read, in bytes.
pub(crate) const MAX_LENGTH: usize = 32 * 1024;

#[cfg(test)]
mod tests;

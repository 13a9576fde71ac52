//! From the sheet's TOML text to a faithful syntax tree, with a place for every key and value.
//!
//! In: text. Out: a syntax tree in which nothing is resolved yet, and [`Diagnostic`]s that point at the
//! text. The resolved form is made from the tree by the `model` phase.

pub mod diagnostic;
pub mod keys;
pub(crate) mod parse;
pub(crate) mod reader;
pub mod suggest;
pub mod text;
pub(crate) mod tree;

pub use diagnostic::{Diagnostic, Severity, SheetError};
pub use text::{Source, Span};

//! From the sheet's TOML text to a faithful syntax tree, with a place for every key and value.
//!
//! In: text. Out: a syntax tree in which nothing is resolved yet, and diagnostics that point at the text. The resolved
//! form is made from the tree by the `model` phase.

pub mod keys;
pub(crate) mod parse;
pub(crate) mod reader;
pub(crate) mod tree;
mod usual;
pub(crate) mod warnings;

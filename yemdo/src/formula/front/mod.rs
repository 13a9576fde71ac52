//! From the text of a formula to the typed program: tokens, syntax tree, names and types.

pub(crate) mod analyse;
pub(crate) mod ast;
pub(crate) mod lex;
pub(crate) mod parse;
mod slips;

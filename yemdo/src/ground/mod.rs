//! What everything else stands on: places in text, diagnostics, numbers with their types, hex, and lists with ids of
//! their own. Knows nothing of sheets, bytes of a frame, formulas or buses.

pub(crate) mod diagnostic;
pub(crate) mod digits;
pub(crate) mod hex;
pub(crate) mod list;
pub(crate) mod number;
pub(crate) mod random;
pub(crate) mod suggest;
pub(crate) mod text;
pub(crate) mod words;

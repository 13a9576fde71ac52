//! Bits and bytes: gathering a code from slices of a frame, number forms and checks.
//!
//! Nothing here knows of sheets but the notation itself ([`layout`]); everything works on plain bytes.

pub(crate) mod check;
pub(crate) mod form;
pub(crate) mod gather;
pub(crate) mod layout;
pub(crate) mod syndrome;
pub(crate) mod word;

#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // tests end where something is wrong
mod tests;

//! Bits and bytes: gathering a code from slices of a frame, number forms, checks, and hex as people type it.
//!
//! Nothing here knows of sheets but the notation itself ([`layout`]); everything works on plain bytes.

pub mod check;
pub mod form;
pub mod gather;
pub mod hex;
pub mod layout;
pub(crate) mod syndrome;
pub(crate) mod word;

//! The resolved part: every name bound, every width known. All outputs are made from it alone.

mod outcome;
pub mod part;
mod resolve;

pub use outcome::{Extent, Outcome};

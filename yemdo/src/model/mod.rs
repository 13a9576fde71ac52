//! The resolved part: every name bound, every width known. All outputs are made from it alone.

pub mod buses;
pub(crate) mod eval;
pub mod operation;
mod outcome;
pub mod part;
pub mod registers;
mod resolve;
pub mod status;

pub(crate) use outcome::needed;
pub use outcome::{Extent, FaultExample, Outcome, Proof};
pub use registers::Settings;
pub use status::Status;

//! Routines as data: a sheet's steps become a sequence of bus operations, driven by their answers.
//!
//! A [`Runner`] is a state machine without input or output, clock or threads. Whoever drives it does what it asks and
//! tells it what came: a bus on Linux, a stand-in, a test, or nobody at all ([`Answer::AsHoped`], a dry run).

mod asked;
mod failure;
mod runner;
mod taking;

pub use asked::{Answer, Asked, Operation};
pub use failure::{Failure, RoutineError};
pub use runner::Runner;

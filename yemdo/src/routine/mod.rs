//! Routines as data: a sheet's steps become a sequence of bus operations, driven by their answers.
//!
//! A [`Runner`] is a state machine without input or output, clock or threads. Whoever drives it does what it asks and
//! tells it what came: a bus on Linux, a stand-in, a test, or nobody at all ([`Answer::Assumed`], a dry run).

mod failure;
mod judge;
mod queue;
mod request;
mod runner;
mod taking;

pub use crate::bus::transfer::Operation;
pub use failure::{Failure, RoutineError};
pub use request::{Answer, Request};
pub use runner::{NotRunnable, Runner};

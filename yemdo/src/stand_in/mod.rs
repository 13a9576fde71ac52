//! A part without the part: from any sheet, something that behaves as the datasheet says, and watches who talks to it.
//!
//! A [`StandIn`] is a state machine without input or output and without a clock: whoever runs it hands it the bytes of a bus and the
//! time, and gets what the part would answer. In: a [`Part`](crate::Part), [`Signal`]s for the physical world, a seed. Out: answers,
//! lines, and [`Violation`]s of the sheet by the client.
//!
//! What it knows of time it reads off the sheet's routines: what starts a measurement, how long it takes, what is polled
//! (`acquire`). The bytes of a frame are found by inverting the sheet's formulas (`search`), with status bits that fit (`scene`, `sample`).

mod acquire;
mod faults;
mod judge;
mod listen;
mod measure;
mod modbus;
mod registers;
mod sample;
mod scene;
mod search;
mod signal;
mod state;
mod thresholds;
mod verdict;
mod watching;

pub use crate::ground::random::Random;
pub use faults::{Fault, Faults};
pub use judge::{Rule, Violation};
pub use listen::Reaction;
pub use sample::Miss;
pub use signal::{Signal, SignalError};
pub use state::{NoSignal, NoStandIn, StandIn};
pub use watching::Gap;

//! Transfers of a capture: their meaning, the readings in them, and the client's violations of the sheet.
//!
//! In: a [`Part`](crate::Part) and the [`Transaction`]s of a capture, in sequence, from any client. Out: [`Followed`] for each, and the
//! [`TraceFinding`]s of the whole capture. A [`Follower`] is a state machine without input or output: one for each part on a bus.
//!
//! A capture may begin at any time. Earlier transfers are unknown: settings have no value until they are written or read, and a finding
//! that depends on them is marked ([`TraceFinding::depends_on_start`]).

mod follow;
mod meaning;
mod transaction;
mod verdict;

pub use follow::{Followed, Follower, FrameSeen, Start};
pub use meaning::Meaning;
pub use transaction::Transaction;
pub use verdict::TraceFinding;

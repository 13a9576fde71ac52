//! What machine-readable output is made of: plain structs that serialise, one file a kind of result. In: results of the
//! core. Out: the same shapes wherever they are shown.

mod check;
mod configuration;
mod explained;
mod frame;
mod named;
mod units;

pub use check::{CheckView, ProblemView, unsound};
pub use configuration::{ChoiceView, ConfigurationView, ReadBackView, RequestView};
pub use explained::ExplainedView;
pub use frame::{FrameView, UseView};
pub use units::{ShownUnits, UnitError};

use named::Named;

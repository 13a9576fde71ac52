//! What machine-readable output is made of: plain structs that serialise, one file a kind of result. In: results of the
//! core. Out: the same shapes wherever they are shown.

mod check;
mod configuration;
mod explained;
mod frame;
mod live;
mod mended;
mod named;
mod steps;
mod trace;
mod units;

pub use check::{BusView, CheckView, ProblemView, unreadable, unsound};
pub use configuration::{ChangeView, ChoiceView, ConfigurationView, NameView, ReadBackView, RequestView};
pub use explained::ExplainedView;
pub use frame::{FrameView, UseView};
pub use live::{CandidateView, FoundView, OperationView, PlaceView, ReadingView, SeenView};
pub use mended::{BareView, CheckFindingView, MendedView};
pub use steps::StepsView;
pub use trace::{FindingView, PrintedView, TraceFrameView, TransferView, ViolationView};
pub use units::{ShownUnits, UnitError};

use named::Named;

//! Text that people have, as data: logs of frames, and dumps of registers. In: lines of text, read by whoever has the
//! file. Out: frames and register values of a part.

mod asked;
mod dump;
mod followed;
mod log;
mod traffic;

pub use dump::{DumpError, find_register, parse_dump, parse_register};
pub(crate) use followed::Accessed;
pub use followed::TrafficFrames;
pub use log::{LogReader, MAX_LINE, Record, RecordError, parse_frames};
pub use traffic::{TRAFFIC_HEADER, Traffic};

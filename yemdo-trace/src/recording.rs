//! Our own recordings of bus traffic.

use yemdo::record::Traffic;

use crate::capture::{Captured, Item};
use crate::error::CaptureError;

/// A line of a recording.
pub(crate) fn item(text: &str, line: u64) -> Result<Option<Item>, CaptureError> {
    let traffic = Traffic::parse(text).map_err(|message| CaptureError::new(message).at(line))?;
    Ok(traffic.map(|traffic| Item::Transfer(Captured::new(traffic.into(), line))))
}

//! Texts in cells of CSV.

use std::borrow::Cow;

/// A text for a cell of CSV that a spreadsheet does not take for a formula: an apostrophe stands before what would begin one, and
/// before one that is there. Numbers stay.
///
/// ```
/// assert_eq!(yemdo_log::csv_text("=1+1"), "'=1+1");
/// assert_eq!(yemdo_log::csv_text("-12.5"), "-12.5");
/// ```
pub fn csv_text(text: &str) -> Cow<'_, str> {
    let begins = text.starts_with(['=', '@', '\t', '\r', '\'']) || (text.starts_with(['+', '-']) && text.parse::<f64>().is_err());
    if begins { Cow::Owned(format!("'{text}")) } else { Cow::Borrowed(text) }
}

/// The text of such a cell.
pub(crate) fn of_csv(cell: &str) -> &str {
    cell.strip_prefix('\'').unwrap_or(cell)
}

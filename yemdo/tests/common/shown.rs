//! What a person sees of a sheet.

use yemdo::{Part, render_all};

/// What `check` prints of a sheet's errors, or where there are none, of its warnings.
pub(crate) fn shown(text: &str) -> String {
    match Part::parse("p.toml", text) {
        Ok(part) => render_all(&yemdo::review::warnings(&part), part.source(), false),
        Err(error) => error.to_string(),
    }
}

//! Sheets from files.

use std::fs;
use std::path::Path;

use yemdo::Part;

use crate::failure::Failure;

/// Reads and resolves a sheet.
pub(crate) fn load(path: &Path) -> Result<Part, Failure> {
    let bytes = fs::read(path).map_err(|error| Failure::file("read the sheet", path, &error))?;
    let text = String::from_utf8(bytes).map_err(|error| {
        let valid = error.utf8_error().valid_up_to();
        let line = error.as_bytes().iter().take(valid).filter(|byte| **byte == b'\n').count() + 1;
        Failure::told(format!("cannot read the sheet {}: line {line} is not UTF-8", path.display())).help("save the file as UTF-8")
    })?;
    Part::parse(&path.display().to_string(), &text).map_err(|error| Failure::Sheet(Box::new(error)))
}

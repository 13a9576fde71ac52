//! Text that is made from the model: firmware, pages, the JSON Schema of sheets, and constants for a program.

mod firmware;
mod page;
mod paste;
mod schema;

pub use firmware::{
    EmitError, Emitted, FirmwareOptions, Forms, Hal, Language, Only, ReadingForm, Reals, as_computed, error_bound, firmware, forms,
    rust_module, vector_records, vectors,
};
pub use page::{page, page_as_markdown};
pub use paste::Paste;
pub use schema::json_schema;

//! Text that is made from the model: the JSON Schema of sheets, and constants for a program.

mod paste;
mod schema;

pub use paste::Paste;
pub use schema::json_schema;

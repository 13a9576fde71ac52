//! What is made from sheets for other tools.

mod schema;

pub use schema::json_schema;

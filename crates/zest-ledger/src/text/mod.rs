//! Ledger documents: TOML text to entries, and the shape of the format.

mod format;
mod read;
mod schema;
mod shape;

pub(crate) use read::read_document;
pub use schema::json_schema;
pub(crate) use shape::bad_name;

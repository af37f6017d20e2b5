//! Ledger documents: TOML text to entries, and the shape of the format.

mod format;
mod interface;
mod read;
mod schema;
mod shape;
#[cfg(feature = "yaml")]
mod teller;
pub mod unique;
mod yaml;

pub use interface::{is_interface, read_interface, shape_of};
pub use read::Row;
pub use read::read_document;
pub use schema::json_schema;
pub use shape::OutsideTable;
pub use shape::bad_name;

/// Writes a text as a TOML basic string.
pub fn quoted_text(text: &str) -> String {
    // JSON escapes all that TOML wants escaped, but for one character.
    serde_json::Value::from(text).to_string().replace('\u{7f}', "\\u007f")
}

/// Writes a key as TOML does: bare where it can be.
pub(crate) fn bare_key(key: &str) -> String {
    let is_bare = |c: char| c.is_ascii_alphanumeric() || c == '-' || c == '_';
    if !key.is_empty() && key.chars().all(is_bare) { key.to_owned() } else { quoted_text(key) }
}

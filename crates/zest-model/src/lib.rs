//! The model of Zest Ledger and its text: entries, the TOML format, findings with places, and questions, answers and changes as
//! plain data.
//!
//! Users take it through `zest-ledger`, which says what of it is kept stable.

pub mod ask;
pub mod entries;
pub mod entry;
pub mod finding;
pub mod form;
pub mod id;
pub mod listing;
mod more;
pub mod same;
pub mod shape;
pub mod source;
pub mod table;
pub mod text;
mod written;

pub use more::More;

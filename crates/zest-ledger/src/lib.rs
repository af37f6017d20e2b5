//! stub
pub mod ask;
pub mod command;
pub mod engine;
pub mod entry;
pub mod estate;
pub mod finding;
pub mod json;
mod kind;
mod ledger;
pub mod rehearsal;
pub mod review;
pub mod source;
mod text;
pub use ask::Question;
pub use engine::Engine;
pub use ledger::{Ledger, Validated};
pub use text::json_schema;

//! Words as people write them: characters that nobody sees, names that look alike, networks in one form, the nearest name.

mod address;
mod hidden;
mod near;

pub use address::canonical_network;
pub use hidden::{is_hidden, skeleton, visible};
pub use near::{nearest, nearest_hint};

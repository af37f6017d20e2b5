//! Words as people write them: characters that nobody sees, names that look alike, networks in one form, the nearest name.

mod address;
mod case;
mod hidden;
mod near;

pub use address::{canonical_network, parse_network};
pub use case::{hash_without_case, same_but_for_case};
pub use hidden::{is_hidden, skeleton, visible};
pub use near::{nearest, nearest_hint};

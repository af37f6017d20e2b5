//! Reviews: the same rules seen from other sides than one question.

mod effective;
mod hygiene;

pub use effective::{CommandRight, Effective, Entitlement, Extent, effective};
pub use hygiene::hygiene;

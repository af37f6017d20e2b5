//! Reviews: the same rules seen from other sides than one question.

mod databases;
mod effective;
mod hygiene;
mod services;

pub use databases::{DataRight, OnDatabase};
pub use effective::{CommandRight, Effective, Entitlement, Extent, effective};
pub use hygiene::hygiene;
pub use services::{OnService, ServiceRight};

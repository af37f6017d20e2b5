//! Reviews: the same rules seen from other sides than one question.

mod compare;
mod duties;
mod effective;
mod gone;
mod hygiene;
mod menu;
mod obligations;
mod readiness;
mod session;
mod together;

pub use compare::compare;
pub use effective::{Sought, effective, means};
pub use hygiene::hygiene;
pub use menu::{MenuItem, menu};
pub use obligations::{ObjectObligations, obligations};
pub use readiness::{Readiness, readiness};
pub use session::session;
pub use zest_model::listing::{Cause, Difference, Effective, Membership, Moved, Right, SessionView};

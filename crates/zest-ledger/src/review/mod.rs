//! Reviews: the same rules seen from other sides than one question.

mod databases;
mod effective;
pub(crate) mod gone;
mod hosts;
mod hygiene;
mod obligations;
mod readiness;
mod services;
mod session;

pub use databases::{DataRight, OnDatabase};
pub use effective::{CommandRight, Effective, Entitlement, Extent, OnAccount, effective};
pub use hosts::{HostRule, OnHost};
pub use hygiene::hygiene;
pub use obligations::{ObjectObligations, obligations};
pub use readiness::{Readiness, readiness};
pub use services::{OnService, ServiceRight};
pub use session::{SessionView, session};

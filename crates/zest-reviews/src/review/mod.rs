//! Reviews: the same rules seen from other sides than one question.

mod duties;
mod effective;
mod gone;
mod hygiene;
mod obligations;
mod readiness;
mod session;

pub use effective::effective;
pub use hygiene::hygiene;
pub use obligations::{ObjectObligations, obligations};
pub use readiness::{Readiness, readiness};
pub use session::session;
pub use zest_model::listing::{
    CommandRight, DataRight, Effective, Entitlement, Extent, HostRule, OnAccount, OnDatabase, OnHost, OnService, OtherRight, ServiceRight,
    SessionView,
};

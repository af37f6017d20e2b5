//! Reviews: the same rules seen from other sides than one question.

mod as_of;
mod between;
mod changed_beside;
mod compare;
mod duties;
mod effective;
mod gone;
mod hygiene;
mod menu;
mod nobodys;
mod obligations;
mod opens;
mod readiness;
mod repeated;
mod session;
mod subject;
mod through;
mod together;
mod touched;
mod visible;
mod who;

pub use as_of::as_of;
pub use between::{Between, Kin};
pub use changed_beside::changed_beside;
pub use compare::{beside, compare, compare_on};
pub(crate) use effective::sought_on;
pub use effective::{Sought, best, effective, means, readable};
pub use hygiene::hygiene;
pub use menu::{MenuItem, menu};
pub use nobodys::nobodys;
pub(crate) use nobodys::nobodys_accounts;
pub use obligations::obligations;
pub use opens::opens;
pub use readiness::readiness;
pub use session::session;
pub use subject::{NoSubject, StandIn, Subject};
pub(crate) use touched::sets_including;
pub use touched::{Touched, Whom, touched};
pub use visible::visible;
pub use who::{Part, Who};
pub use zest_engine::classes::{Class, Classes, OfClass};
pub use zest_model::listing::{
    BestSession, Cause, ChangedBeside, Difference, Effective, Membership, Moved, ObjectObligations, Opening, Opens, Outcome, Readiness,
    Refused, Right, Seen, SessionView, Turn, Uncovered,
};

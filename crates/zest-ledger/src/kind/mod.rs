//! The kinds of system that this crate knows, and what a kind must say.
//!
//! A kind is a type with the trait [`Kind`]: it says what its tables look like, follows their references, decides, explains, lists and
//! finds. Kinds from outside are registered with [`Ledger::kind`](crate::Ledger::kind); `docs/adding-a-kind.md` shows the way, and
//! `examples/key_cabinet.rs` a whole one.

pub(crate) mod database;
pub(crate) mod host;
pub mod mariadb;
pub(crate) mod network_device;
pub mod postgresql;
pub(crate) mod service;

use self::database::Databases;
use crate::ask::Fact;
pub use crate::engine::Declared;
pub use crate::engine::rules::{AFTER, Combining, Kind, Kinds, Scratch, Site, WHEN, no_statements};
pub use crate::engine::trace::{Reason, Stop, Trace};
pub use crate::engine::ways::Way;
pub use crate::links::{Conditions, Duties, Ground, Resolver};
pub use crate::shape::{Among, Key, Shape, TableShape};
pub use crate::table::Kept;
pub use crate::text::{OutsideTable, Row};

/// The kinds that this crate knows.
const KNOWN: [&dyn Kind; 5] =
    [&network_device::NetworkDevice, &Databases(postgresql::Postgresql), &Databases(mariadb::Mariadb), &service::Service, &host::Host];

/// Returns the kinds that this crate knows.
pub(crate) fn known() -> Kinds {
    Kinds::of(&KNOWN)
}

/// Returns whether systems of a kind look at a fact of the session; where they do not, a question that states it is refused.
///
/// # Example
/// ```
/// use zest_ledger::{ask::Fact, entry::Kind, hears};
/// assert!(hears(Kind::NETWORK_DEVICE, Fact::Level) && !hears(Kind::HOST, Fact::Level));
/// ```
#[must_use]
pub fn hears(kind: crate::entry::Kind, fact: Fact) -> bool {
    known().rules_of(kind).hears(fact)
}

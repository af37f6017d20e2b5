//! The kinds of system that this crate knows, and what a kind must say.
//!
//! A kind is a type with the trait [`Kind`]: it says what its tables look like, follows their references, decides, explains, lists and
//! finds. Kinds from outside are registered with [`Ledger::kind`](crate::Ledger::kind); `docs/adding-a-kind.md` shows the way, and
//! `examples/key_cabinet.rs` a whole one.

use zest_engine::kind::{host::Host, network_device::NetworkDevice, service::Service};
use zest_model::ask::Fact;

#[doc(inline)]
pub use zest_engine::Declared;
#[doc(inline)]
pub use zest_engine::links::{Conditions, Duties, Ground, Resolver};
#[doc(inline)]
pub use zest_engine::rights::{Action, Examples, Fits, Look, Opening, Side};
#[doc(inline)]
pub use zest_engine::rules::{AFTER, Alike, Beside, Combining, Kind, Kinds, Left, Opened, Shown, Site, Through, WHEN, no_statements};
#[doc(inline)]
pub use zest_engine::trace::{Reason, Stop, Trace};
#[doc(inline)]
pub use zest_engine::ways::{Way, way};
#[doc(inline)]
pub use zest_model::shape::{Among, Key, Shape, TableShape};
#[doc(inline)]
pub use zest_model::table::Kept;
#[doc(inline)]
pub use zest_model::text::{OutsideTable, Row};

/// The kinds that this crate knows, in the order in which they are shown.
const KNOWN: [&[&dyn Kind]; 4] = [&[&NetworkDevice], DATABASES, &[&Service], &[&Host]];

#[cfg(any(feature = "postgresql", feature = "mariadb"))]
const DATABASES: &[&dyn Kind] = zest_databases::KINDS;
#[cfg(not(any(feature = "postgresql", feature = "mariadb")))]
const DATABASES: &[&dyn Kind] = &[];

/// Returns the kinds that this crate knows.
pub(crate) fn known() -> Kinds {
    Kinds::of(&KNOWN.concat())
}

/// Reports descriptions of database servers in a program that was built without the rules of any.
#[cfg(not(any(feature = "postgresql", feature = "mariadb")))]
pub(crate) fn not_read(entries: &zest_model::entries::Entries, findings: &mut Vec<zest_model::finding::Finding>) {
    use zest_model::finding::{Code, Finding};
    findings.extend(entries.databases.iter().map(|database| {
        Finding::new(Code::DatabaseWithoutServer, "this program was built without the rules of any database server")
            .at(database.system.place, "described here")
            .help("build it with the feature `postgresql` or `mariadb`")
    }));
}

/// Returns whether systems of a kind look at a fact of the session; where they do not, a question that states it is refused.
///
/// # Example
/// ```
/// use zest_ledger::{ask::Fact, entry::Kind, hears};
/// assert!(hears(Kind::NETWORK_DEVICE, Fact::Level) && !hears(Kind::HOST, Fact::Level));
/// ```
#[must_use]
pub fn hears(kind: zest_model::entry::Kind, fact: Fact) -> bool {
    known().rules_of(kind).hears(fact)
}

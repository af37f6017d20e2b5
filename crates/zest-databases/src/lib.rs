//! The rules of PostgreSQL and MariaDB for Zest Ledger: which account somebody uses, what a statement needs, what a server holds
//! after grants and revokes, and the statements between two states.
//!
//! Users take it through `zest-ledger`, which says what of it is kept stable.

#[cfg(not(any(feature = "postgresql", feature = "mariadb")))]
compile_error!("choose at least one of the features `postgresql` and `mariadb`");

mod database;
pub mod drift;
#[cfg(feature = "mariadb")]
pub mod mariadb;
#[cfg(feature = "postgresql")]
pub mod postgresql;
mod sql;

use zest_engine::rules::Kind;

pub use database::not_modelled::not_modelled;

/// The kinds of system that this crate knows.
pub const KINDS: &[&dyn Kind] = &[
    #[cfg(feature = "postgresql")]
    &database::Databases(postgresql::Postgresql),
    #[cfg(feature = "mariadb")]
    &database::Databases(mariadb::Mariadb),
];

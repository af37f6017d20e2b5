//! The rules of PostgreSQL 15.

mod acl;
mod catalog;
mod difference;
mod document;
mod evaluate;
mod need;
mod object;
mod privilege;
mod state;
mod statement;
mod written;

pub use acl::{Acl, AclRefusal, Grantee, Held};
pub use catalog::{Catalog, Matrix, ObjectNumber, RoleNumber, Want, Way};
pub use difference::script;
pub(crate) use evaluate::{Server, open, walk, wanted};
pub(crate) use need::{Demand, Need, On};
pub(crate) use object::parts;
pub use object::{ObjectName, literal, quoted};
pub use privilege::{Class, Privilege, Privileges};
use std::sync::Arc;

use crate::estate::Estate;

/// Returns the state that a ledger wants a PostgreSQL server to have; none if no such system is declared.
///
/// What it wants depends on the moment where grants end; without one, grants that end are left out.
#[must_use]
pub fn state_of(estate: &Estate, system: &str, at: Option<jiff::Timestamp>) -> Option<State> {
    let system = estate.systems().iter().find(|s| s.id.value == system && s.kind() == crate::entry::Kind::Postgresql)?;
    let parts: Vec<_> = estate.databases().iter().filter(|d| d.system.value == system.id.value).map(Arc::clone).collect();
    let mut state = written(system, &parts, at, &mut Vec::new()).state;
    // Of people who are gone the account is locked and never dropped; an end to come is one of the password as well.
    for (name, role) in state.roles.iter_mut().filter(|(_, role)| role.login) {
        let Some(at) = at else { break };
        let (is_gone, end) = super::database::behind(estate, &system.id.value, name, name, at);
        role.login &= !is_gone;
        role.valid_until = role.valid_until.into_iter().chain(end).min();
    }
    Some(state)
}

pub use state::{BOOTSTRAP, Column, DefaultKey, GrantChange, Object, Role, State};
pub(crate) use written::written;

//! The rules of MariaDB 10.11.

mod difference;
mod document;
mod evaluate;
mod name;
mod need;
mod privilege;
mod state;
mod statement;
mod written;

use std::sync::Arc;

use crate::estate::Estate;
pub(crate) use evaluate::{Server, login_of, open, open_as, walk, wanted};
pub(crate) use need::{Need, On};
pub(crate) use written::written;

/// Returns the state that a ledger wants a MariaDB server to have; none if no such system is declared.
///
/// What it wants depends on the moment where grants end; without one, grants that end are left out.
#[must_use]
pub fn state_of(estate: &Estate, system: &str, at: Option<jiff::Timestamp>) -> Option<State> {
    let system = estate.systems().iter().find(|s| s.id.value == system && s.kind() == crate::entry::Kind::Mariadb)?;
    let parts: Vec<_> = estate.databases().iter().filter(|d| d.system.value == system.id.value).map(Arc::clone).collect();
    let mut state = written(&parts, at, &mut Vec::new()).state;
    // Of people who are gone the account is locked and never dropped.
    for (name, account) in &mut state.accounts {
        account.locked |= at.is_some_and(|at| super::database::behind(estate, &system.id.value, &name.to_string(), &name.user, at).0);
    }
    Some(state)
}

/// Returns the ends to come that the server cannot keep itself, each with the account: from then on it lets in somebody who is
/// gone, until it is told anew.
#[must_use]
pub fn ends_of(estate: &Estate, system: &str, at: jiff::Timestamp) -> Vec<(jiff::Timestamp, String)> {
    let of_account = |name: &AccountName| {
        let end = super::database::behind(estate, system, &name.to_string(), &name.user, at).1?;
        Some((end, name.to_string()))
    };
    let mut ends: Vec<_> = state_of(estate, system, Some(at)).iter().flat_map(|s| s.accounts.keys().filter_map(of_account)).collect();
    ends.sort();
    ends
}

/// What our rules say to a statement.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Said {
    /// Every check of the server passes.
    Allowed,
    /// A check refuses: why, and the object it is about as a ledger writes it.
    Refused(String, Option<String>),
    /// The state does not say enough, or the statement cannot be read; never taken for allowed.
    NotDecided(String),
}

/// Says whether a session may run a statement.
#[must_use]
pub fn say(state: &State, view: &View<'_>, database: Option<&str>, sql: &str) -> Said {
    match statement::needs(state, database, sql) {
        Err((_, why)) => Said::NotDecided(why),
        Ok(needs) => {
            let refused = needs.list.iter().find_map(|n| {
                let outcome = n.outcome(state, view);
                outcome.refusal.map(|_| Said::Refused(outcome.text, n.about()))
            });
            refused.unwrap_or_else(|| needs.undecided.into_iter().next().map_or(Said::Allowed, Said::NotDecided))
        }
    }
}

pub use difference::script;
pub use name::{AccountName, Class, Holder, ObjectName, Scope, literal, matches, quoted, rank};
pub use privilege::{Level, Privilege, Privileges};
pub use state::{Account, GrantChange, Held, Object, OnTable, Origin, Source, State, View, admits};

//! Broad grants that leave a narrow one of the same holder without effect.
//!
//! Levels are added up, but of each level the server takes one row: of the grants of a login on one object, and of those on the databases that
//! fit a name, the most specific alone, whatever the others give. So a broad grant makes a narrow one needless only where no third can take
//! the place of either.

use std::collections::{BTreeMap, BTreeSet};

use super::name::may_meet;
use super::{Held, Holder, Scope, State, matches};

/// The grants of a server, by whose sessions they may speak in.
pub(super) struct Broad<'s> {
    state: &'s State,
    /// The accounts of a login that hold something; one without a name is meant by whatever login.
    of_login: BTreeMap<&'s str, BTreeSet<&'s Holder>>,
    /// What roles hold on databases, where a role may have roles.
    of_roles: BTreeSet<&'s Scope>,
}

impl<'s> Broad<'s> {
    pub(super) fn of(state: &'s State) -> Self {
        let mut all = Self { state, of_login: BTreeMap::new(), of_roles: BTreeSet::new() };
        let has_nested = state.memberships.keys().any(|(member, _)| matches!(member, Holder::Role(_)));
        for (holder, scope) in state.grants.keys() {
            match holder {
                Holder::Account(account) => _ = all.of_login.entry(&account.user).or_default().insert(holder),
                Holder::Role(_) if has_nested && pattern(scope).is_some() => _ = all.of_roles.insert(scope),
                Holder::Role(_) | Holder::Public => {}
            }
        }
        all
    }

    /// Returns a grant on more, by which the holder has all that a narrow one gives, in every session in which that one speaks.
    pub(super) fn beside(&self, holder: &Holder, narrow: &Scope, held: &Held) -> Option<(&'s Scope, &'s Held)> {
        // All of it: what is held on single columns as well.
        let whole = held.columns.values().fold(held.privileges, |whole, of_column| whole.or(*of_column));
        if whole.is_empty() {
            return None;
        }
        held_widely(self.state, holder).find(|(wider, other)| {
            let is_wider = match (wider, narrow) {
                (Scope::Everything, narrow) => *narrow != Scope::Everything,
                (Scope::Databases(p), Scope::Table(d, _) | Scope::Function(d, _) | Scope::Procedure(d, _)) => matches(d, p),
                (
                    Scope::Databases(_) | Scope::Table(..) | Scope::Function(..) | Scope::Procedure(..) | Scope::Proxy(_),
                    Scope::Everything
                    | Scope::Databases(_)
                    | Scope::Table(..)
                    | Scope::Function(..)
                    | Scope::Procedure(..)
                    | Scope::Proxy(_),
                ) => false,
            };
            is_wider && whole.without(other.privileges).is_empty() && !self.has_rival(holder, narrow, wider)
        })
    }

    /// Whether a third grant may take the place of the narrow or of the wider one, or the narrow one speaks where the wider does not.
    fn has_rival(&self, holder: &Holder, narrow: &Scope, wider: &Scope) -> bool {
        // What the narrow one is on, the other pattern may fit as well.
        let meets = |scope: &Scope| {
            pattern(scope).is_some_and(|other| match narrow {
                Scope::Databases(one) => may_meet(one, other),
                Scope::Table(database, _) | Scope::Function(database, _) | Scope::Procedure(database, _) => matches(database, other),
                Scope::Everything | Scope::Proxy(_) => true,
            })
        };
        let holders = |login: &str| self.of_login.get(login).into_iter().flatten().copied();
        match holder {
            Holder::Account(account) => {
                // What is held on everything is an account's own; the rest speaks for whoever of the login comes from a fitting origin.
                let is_shared = || {
                    if account.user.is_empty() {
                        self.state.accounts.len() > 1
                    } else {
                        self.state.accounts_of(&account.user).any(|a| a != account)
                    }
                };
                let is_row_of = |rival: &Holder| {
                    let is_third = |scope: &Scope| rival != holder || (scope != narrow && scope != wider);
                    let on_object =
                        pattern(narrow).is_none() && rival != holder && self.state.grants.contains_key(&(rival.clone(), narrow.clone()));
                    on_object || held_widely(self.state, rival).any(|(scope, _)| is_third(scope) && meets(scope))
                };
                (*wider == Scope::Everything && is_shared()) || holders(&account.user).chain(holders("")).any(is_row_of)
            }
            // Rows of one pattern are added up over the roles that a role has.
            Holder::Role(_) | Holder::Public => {
                let own = held_widely(self.state, holder).map(|(scope, _)| scope);
                let of_roles = self.of_roles.iter().copied().filter(|_| *holder != Holder::Public);
                own.chain(of_roles).any(|scope| scope != narrow && scope != wider && meets(scope))
            }
        }
    }
}

/// Returns what somebody holds on everything, and on databases: what may cover more than one object.
fn held_widely<'s>(state: &'s State, holder: &Holder) -> impl Iterator<Item = (&'s Scope, &'s Held)> + use<'s> {
    let rows = state.held_by(holder).map(|((_, scope), held)| (scope, held));
    rows.take_while(|(scope, _)| matches!(scope, Scope::Everything | Scope::Databases(_)))
}

const fn pattern(scope: &Scope) -> Option<&str> {
    match scope {
        Scope::Databases(pattern) => Some(pattern.as_str()),
        Scope::Everything | Scope::Table(..) | Scope::Function(..) | Scope::Procedure(..) | Scope::Proxy(_) => None,
    }
}

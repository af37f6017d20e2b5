//! For whom anything differs between what two servers hold, as far as privileges go: statements go further, into what views, routines and
//! triggers do in somebody else's name.

use std::collections::{BTreeMap, BTreeSet};

use super::Server;
use super::name::{Holder, Scope};
use super::state::State;
use crate::database::differ::add_members;

/// Returns the logins for which anything can differ; nothing where it may be anybody.
pub(super) fn differ([(before, old), (after, new)]: [(&Server, &State); 2]) -> Option<BTreeSet<String>> {
    // A role matters to its members.
    let State { accounts, roles: _, memberships, databases, objects, grants, has_public, not_modelled } = old;
    (*has_public == new.has_public && *not_modelled == new.not_modelled).then_some(())?;
    let mut found: BTreeSet<Holder> = BTreeSet::new();
    let without = |server: &Server| server.places.without_credential.keys().cloned().collect::<BTreeSet<_>>();
    found.extend(without(before).symmetric_difference(&without(after)).cloned().map(Holder::Account));
    found.extend(apart(accounts, &new.accounts).cloned().map(Holder::Account));
    found.extend(apart(memberships, &new.memberships).map(|(member, _)| member.clone()));
    found.extend(apart(grants, &new.grants).map(|(holder, _)| holder.clone()));
    // Of something that is there now, or is something else, whoever holds anything on it, or on more than one thing.
    let places: BTreeSet<Scope> = apart(objects, &new.objects).map(Scope::of).collect();
    if !places.is_empty() || *databases != new.databases {
        let is_there = |scope: &Scope| match scope {
            Scope::Everything | Scope::Databases(_) => true,
            Scope::Table(..) | Scope::Function(..) | Scope::Procedure(..) => places.contains(scope),
            Scope::Proxy(_) => false,
        };
        let holding = [old, new].into_iter().flat_map(|state| state.grants.keys()).filter(|(_, scope)| is_there(scope));
        found.extend(holding.map(|(holder, _)| holder.clone()));
    }
    // What an account holds may count for a role that is called like it (`View::database`).
    let namesakes = |holder: &Holder| match holder {
        Holder::Account(account) => Some(Holder::Role(account.user.clone())),
        Holder::Role(_) | Holder::Public => None,
    };
    found.extend(found.iter().filter_map(namesakes).collect::<Vec<_>>());
    // Members can make a role active.
    let memberships = [old, new].into_iter().flat_map(|state| state.memberships.keys());
    add_members(&mut found, memberships.map(|(member, role)| (member.clone(), Holder::Role(role.clone()))));
    let login = |holder: Holder| match holder {
        Holder::Public => Some(None),
        Holder::Account(account) => Some(Some(account.user)),
        Holder::Role(_) => None,
    };
    // Accounts of one login stand in for each other, as the origin has it.
    found.into_iter().filter_map(login).collect()
}

/// Returns the keys under which two tables do not hold the same.
fn apart<'t, K: Ord, V: PartialEq>(one: &'t BTreeMap<K, V>, other: &'t BTreeMap<K, V>) -> impl Iterator<Item = &'t K> {
    let of = |mine: &'t BTreeMap<K, V>, theirs: &'t BTreeMap<K, V>| {
        mine.iter().filter(move |(key, value)| theirs.get(*key) != Some(*value)).map(|(key, _)| key)
    };
    of(one, other).chain(of(other, one))
}

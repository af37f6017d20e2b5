//! Clouds and applications with their references followed: operations as numbers, paths as patterns.

use std::ops::Deref;
use std::sync::Arc;

use fixedbitset::FixedBitSet;
use rustc_hash::FxHashMap;

pub(crate) use super::grants::GrantLinks;
use super::grants::{Beginnings, Grants, Numbered, Numbers, Wanted};
use crate::links::{Conditions, Duties, Holder, Index, Party, UserId};
use zest_model::entry::{Channel, Proof};
use zest_model::source::{At, Place};

/// Operations on the ledger's own entries, which every cloud and application has. `all` does not hold them.
pub(crate) const ADMINISTRATIVE: [&str; 7] =
    ["reset-credential", "read-secret", "change-members", "edit-role", "edit-command-set", "grant-on", "edit-job"];
/// The right to assume a role, which is no part of any group of operations.
pub(crate) const ASSUME: &str = "assume";
/// The one thing a user may always do, and the only one while a credential must be changed.
pub(crate) const CHANGE_CREDENTIAL: &str = "change-credential";

/// Returns the line by which a user changes the own credential: no right that somebody gave.
#[must_use]
pub fn own_credential(user: &str) -> String {
    format!("{CHANGE_CREDENTIAL} on user/{user}")
}

/// What one cloud or application holds: what was resolved whole, and grants that changes added to it.
#[derive(Debug)]
pub struct ServiceLinks {
    base: Arc<ServiceBase>,
    /// They stand behind the grants that are written for the system, and before those of roles.
    added: Vec<GrantLinks>,
}

impl Deref for ServiceLinks {
    type Target = ServiceBase;

    fn deref(&self) -> &ServiceBase {
        &self.base
    }
}

impl ServiceLinks {
    pub(super) fn new(base: ServiceBase) -> Self {
        Self { base: Arc::new(base), added: Vec::new() }
    }

    /// Returns what was resolved just now; nothing for what is shared with a layer below.
    pub(super) fn fresh(&mut self) -> Option<&mut ServiceBase> {
        Arc::get_mut(&mut self.base)
    }

    /// Returns the same with one more grant.
    pub(super) fn with(&self, grant: GrantLinks) -> Self {
        Self { base: Arc::clone(&self.base), added: self.added.iter().cloned().chain([grant]).collect() }
    }

    /// Returns every grant, in the order in which they count.
    pub(crate) fn grants(&self) -> impl Iterator<Item = &GrantLinks> {
        self.base.own.all().iter().chain(&self.added).chain(self.base.of_roles.all())
    }

    /// Returns the grant of a number: those that are written for the system, then those that were added, then those of roles.
    pub(crate) fn grant(&self, number: usize) -> &GrantLinks {
        let own = self.base.own.all();
        match number.checked_sub(own.len()) {
            None => &own[number],
            Some(behind) => match behind.checked_sub(self.added.len()) {
                None => &self.added[behind],
                Some(of_roles) => &self.base.of_roles.all()[of_roles],
            },
        }
    }

    /// Returns the grants, to whomever, that can concern a path.
    pub(crate) fn grants_on<'l>(&'l self, path: &str) -> impl Iterator<Item = &'l GrantLinks> + use<'l> {
        self.base.own.on(path).chain(&self.added).chain(self.base.of_roles.on(path))
    }

    /// Returns whether there is a grant for anybody but roles.
    pub(crate) fn has_parties(&self) -> bool {
        !self.base.own.is_empty() || !self.added.is_empty()
    }

    /// Returns every user and group with a grant; one may come several times.
    pub(crate) fn parties(&self) -> impl Iterator<Item = Party> {
        let holders = self.base.own.holders().chain(self.added.iter().flat_map(|grant| grant.holders.iter().copied()));
        holders.filter_map(|holder| if let Holder::Party(party) = holder { Some(party) } else { None })
    }

    /// Returns what of a path the grants begin with: those for the system, and those of roles.
    pub(crate) fn beginnings(&self, path: &str) -> [Beginnings; 2] {
        [self.base.own.beginnings(path), self.base.of_roles.beginnings(path)]
    }

    /// Returns the grants of a holder, in the order in which they count; with what is asked for, those alone that can concern it.
    pub(crate) fn grants_of(&self, holder: Holder, wanted: Option<&Wanted<[Beginnings; 2]>>) -> Numbers {
        let of = |which: usize| wanted.map(|w| Wanted { beginnings: &w.beginnings[which], operation: w.operation });
        let mut numbers = self.base.own.of_holder(holder, of(0));
        let mut behind = self.base.own.all().len();
        if !self.added.is_empty() {
            let operation = wanted.and_then(|w| w.operation);
            let concerns = |grant: &GrantLinks| operation.is_none_or(|o| grant.operations.contains(o)) && grant.holders.contains(&holder);
            let added = self.added.iter().enumerate().filter(|(_, grant)| concerns(grant));
            numbers.extend(added.map(|(i, grant)| Numbered {
                number: behind + i,
                is_open: true,
                is_deny: grant.is_deny,
                is_bare: grant.is_bare,
            }));
            behind += self.added.len();
        }
        if let Holder::Role(_) = holder {
            let of_roles = self.base.of_roles.of_holder(holder, of(1));
            numbers.extend(of_roles.into_iter().map(|found| Numbered { number: behind + found.number, ..found }));
        }
        numbers
    }
}

/// What one cloud or application holds, resolved whole.
#[derive(Debug, Default)]
pub struct ServiceBase {
    /// Whether it is an application, and not a cloud.
    pub is_application: bool,
    /// Its operations, in order.
    pub operations: Vec<OperationLinks>,
    pub(crate) operation_ids: Index<usize>,
    /// Groups of operations by name.
    pub(crate) groups: FxHashMap<String, FixedBitSet>,
    /// Templates of paths of the interface, and of the resource they speak of.
    pub(crate) addresses: Vec<(String, String)>,
    /// Its resources by path.
    pub resources: Index<ResourceLinks>,
    /// The types of an application.
    pub types: FxHashMap<String, TypeLinks>,
    /// Grants that are written for it.
    pub(super) own: Grants,
    /// Those of all roles: systems with the same operations share them.
    pub(super) of_roles: Arc<Grants>,
    /// Whether a resource has obligations.
    pub(crate) has_duties: bool,
    pub(crate) ceilings: Vec<CeilingLinks>,
    pub(crate) acting: Vec<ActingLinks>,
    pub(crate) covers: Vec<(At<Channel>, Vec<At<Channel>>)>,
    pub(crate) obtains: Vec<(At<Proof>, FixedBitSet)>,
    pub(crate) session_attributes: Vec<String>,
    pub(crate) identity_checks: Option<At<bool>>,
}

impl ServiceLinks {
    /// Returns the conditions of every grant, ceiling and rule of acting.
    pub fn conditions(&self) -> impl Iterator<Item = &Conditions> {
        let of_grants = self.grants().flat_map(|g| std::iter::once(&g.when).chain(&g.lifted_by));
        of_grants.chain(self.ceilings.iter().map(|c| &c.when)).chain(self.acting.iter().map(|a| &a.when))
    }
}

/// An operation.
#[derive(Debug)]
pub struct OperationLinks {
    /// Its name.
    pub name: String,
    pub(crate) reads: bool,
    /// What it is about, if it is one on the ledger's own entries: a `user`, a `group`, a `role`.
    pub(crate) entry: Option<&'static str>,
    /// Method and path, for an operation of an interface.
    pub(crate) call: Option<(String, String)>,
    pub(crate) place: Option<Place>,
}

/// A resource.
#[derive(Debug)]
pub struct ResourceLinks {
    /// Its attributes, as written.
    pub attributes: Vec<(At<String>, At<String>)>,
    /// What must be done before an act on it.
    pub duties: Option<Duties>,
    /// Where it is written.
    pub place: Place,
}

/// A type of objects.
#[derive(Debug)]
pub struct TypeLinks {
    pub(crate) rights: FixedBitSet,
    pub(crate) looks: FixedBitSet,
    /// What must be done before an act on it.
    pub duties: Option<Duties>,
    /// What must be done before acts of one right, by its number.
    pub right_duties: FxHashMap<usize, Duties>,
    pub(crate) second_person_right: Option<usize>,
    pub(crate) place: Place,
}

#[derive(Debug)]
pub(crate) struct CeilingLinks {
    pub(crate) operations: FixedBitSet,
    /// Everybody's rights, if empty.
    pub(crate) of: Vec<Holder>,
    pub(crate) within: Option<String>,
    pub(crate) when: Conditions,
    pub(crate) place: Place,
}

#[derive(Debug)]
pub(crate) struct ActingLinks {
    pub(crate) target: UserId,
    pub(crate) by: Vec<(Party, Place)>,
    pub(crate) when: Conditions,
    pub(crate) place: Place,
}

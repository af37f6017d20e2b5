//! Clouds and applications with their references followed: operations as numbers, paths as patterns.

use std::ops::Deref;
use std::sync::Arc;

use fixedbitset::FixedBitSet;
use rustc_hash::FxHashMap;
use smallvec::SmallVec;

use crate::links::path::PathPattern;
use crate::links::{Conditions, Duties, Holder, Party, RoleId, UserId};
use zest_model::entry::{Channel, Proof};
use zest_model::source::{At, Place};

/// Operations on the ledger's own entries, which every cloud and application has. `all` does not hold them.
pub(crate) const ADMINISTRATIVE: [&str; 7] =
    ["reset-credential", "read-secret", "change-members", "edit-role", "edit-command-set", "grant-on", "edit-job"];
/// The right to assume a role, which is no part of any group of operations.
pub(crate) const ASSUME: &str = "assume";
/// The one thing a user may always do, and the only one while a credential must be changed.
pub(crate) const CHANGE_CREDENTIAL: &str = "change-credential";

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

    /// Returns every grant with its number.
    pub(crate) fn grants(&self) -> impl Iterator<Item = &GrantLinks> {
        self.base.grants.iter().chain(&self.added)
    }

    /// Returns the grant of a number.
    pub(crate) fn grant(&self, number: usize) -> &GrantLinks {
        self.base.grants.get(number).unwrap_or_else(|| &self.added[number - self.base.grants.len()])
    }

    /// Returns the grants, to whomever, that can concern a path.
    pub(crate) fn grants_on(&self, path: &str) -> impl Iterator<Item = &GrantLinks> {
        let beginnings = self.base.beginnings(path);
        let numbers = beginnings.into_iter().filter_map(|id| self.base.by_beginning.all.get(&id)).flatten();
        numbers.map(|&number| &self.base.grants[number]).chain(&self.added)
    }

    /// Returns whether there is a grant for anybody but roles.
    pub(crate) fn has_parties(&self) -> bool {
        !self.base.by_party.is_empty() || !self.added.is_empty()
    }

    /// Returns every user and group with a grant; one may come several times.
    pub(crate) fn parties(&self) -> impl Iterator<Item = Party> {
        let added = self.added.iter().flat_map(|g| &g.holders);
        let added = added.filter_map(|holder| if let Holder::Party(party) = holder { Some(*party) } else { None });
        self.base.by_party.keys().copied().chain(added)
    }

    /// Returns the numbers of the grants of a holder, in the order in which they count; with the beginnings of a path, of those
    /// alone that can concern it.
    pub(crate) fn grants_of(&self, holder: Holder, beginnings: Option<&Beginnings>) -> SmallVec<[usize; 8]> {
        let all = match holder {
            Holder::Party(party) => self.base.by_party.get(&party),
            Holder::Role(role) => self.base.by_role.get(&role),
        };
        let mut numbers: SmallVec<[usize; 8]> = match (all, beginnings) {
            (None, _) => SmallVec::new(),
            (Some(all), None) => all.iter().copied().collect(),
            (Some(_), Some(beginnings)) => self.base.by_beginning.of(holder, beginnings),
        };
        if !self.added.is_empty() {
            let added = self.added.iter().enumerate().filter(|(_, g)| g.holders.contains(&holder));
            let behind = numbers.iter().position(|&n| n >= self.base.own).unwrap_or(numbers.len());
            numbers.insert_many(behind, added.map(|(i, _)| self.base.grants.len() + i).collect::<Vec<_>>());
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
    pub(crate) operation_ids: FxHashMap<Box<str>, usize>,
    /// Groups of operations by name.
    pub(crate) groups: FxHashMap<String, FixedBitSet>,
    /// Templates of paths of the interface, and of the resource they speak of.
    pub(crate) addresses: Vec<(String, String)>,
    /// Its resources by path.
    pub resources: FxHashMap<Box<str>, ResourceLinks>,
    /// The types of an application.
    pub types: FxHashMap<String, TypeLinks>,
    /// Grants written here, and then those of every role.
    pub(super) grants: Vec<GrantLinks>,
    /// How many of them are written here.
    pub(super) own: usize,
    pub(super) by_party: FxHashMap<Party, Vec<usize>>,
    pub(super) by_role: FxHashMap<RoleId, Vec<usize>>,
    pub(super) by_beginning: ByBeginning,
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

/// Grants by whom they are for and by the path with which what they are on begins, so that a decision looks at those alone
/// that can concern its resource.
#[derive(Debug, Default)]
pub(super) struct ByBeginning {
    beginnings: FxHashMap<Box<str>, u32>,
    /// The bytes of the longest of them: a longer path is not looked through to its end.
    longest: usize,
    grants: FxHashMap<(Holder, u32), Vec<usize>>,
    /// Those of all holders.
    all: FxHashMap<u32, Vec<usize>>,
}

/// The numbers of a path and of all that it is below, as far as a grant begins with them.
pub(crate) type Beginnings = SmallVec<[u32; 8]>;

impl ServiceBase {
    /// Says by whom each grant can be found.
    pub(super) fn index(&mut self) {
        for (i, grant) in self.grants.iter().enumerate() {
            self.by_beginning.add(i, grant);
            for holder in &grant.holders {
                match *holder {
                    Holder::Party(party) => self.by_party.entry(party).or_default().push(i),
                    Holder::Role(role) => self.by_role.entry(role).or_default().push(i),
                }
            }
        }
    }

    pub(crate) fn beginnings(&self, path: &str) -> Beginnings {
        self.by_beginning.of_path(path)
    }
}

impl ByBeginning {
    fn add(&mut self, number: usize, grant: &GrantLinks) {
        let everywhere = grant.on.is_empty().then(String::new);
        for beginning in grant.on.iter().map(PathPattern::beginning).chain(everywhere) {
            let next = self.beginnings.len() as u32;
            self.longest = self.longest.max(beginning.len());
            let id = *self.beginnings.entry(beginning.into()).or_insert(next);
            self.all.entry(id).or_default().push(number);
            for &holder in &grant.holders {
                self.grants.entry((holder, id)).or_default().push(number);
            }
        }
    }

    fn of_path(&self, path: &str) -> Beginnings {
        let ends = path.match_indices('/').map(|(end, _)| end).chain([path.len()]);
        let ends = [0].into_iter().chain(ends).take_while(|&end| end <= self.longest);
        ends.filter_map(|end| self.beginnings.get(&path[..end]).copied()).collect()
    }

    /// Returns the numbers of the grants of a holder that can concern a path, in the order in which they are written.
    fn of(&self, holder: Holder, beginnings: &Beginnings) -> SmallVec<[usize; 8]> {
        let mut found: SmallVec<[usize; 8]> =
            beginnings.iter().filter_map(|&id| self.grants.get(&(holder, id))).flatten().copied().collect();
        found.sort_unstable();
        found.dedup();
        found
    }
}

/// An operation.
#[derive(Debug)]
pub struct OperationLinks {
    /// Its name.
    pub name: String,
    pub(crate) reads: bool,
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

#[derive(Clone, Debug)]
pub(crate) struct GrantLinks {
    pub(crate) is_deny: bool,
    pub(crate) operations: FixedBitSet,
    /// Everywhere, if empty.
    pub(crate) on: Vec<PathPattern>,
    pub(crate) except_on: Vec<PathPattern>,
    pub(crate) holders: Vec<Holder>,
    pub(crate) when: Conditions,
    /// Conditions that lift it.
    pub(crate) lifted_by: Option<Conditions>,
    pub(crate) duties: Option<Duties>,
    pub(crate) place: Place,
    /// Operations and resources as they are written.
    pub(crate) shown: String,
    pub(crate) shown_on: String,
}

impl GrantLinks {
    pub(crate) fn concerns(&self, operation: usize, path: &str) -> bool {
        self.operations.contains(operation)
            && (self.on.is_empty() || self.on.iter().any(|p| p.covers(path)))
            && !self.except_on.iter().any(|p| p.covers(path))
    }
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

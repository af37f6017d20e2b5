//! Clouds and applications with their references followed: operations as numbers, paths as patterns.

use fixedbitset::FixedBitSet;
use rustc_hash::FxHashMap;
use smallvec::SmallVec;

use crate::entry::{Channel, Proof};
use crate::estate::path::PathPattern;
use crate::estate::{Conditions, Duties, Holder, Party, RoleId, UserId};
use crate::source::{At, Place};

/// Operations on the ledger's own entries, which every cloud and application has. `all` does not hold them.
pub(crate) const ADMINISTRATIVE: [&str; 7] =
    ["reset-credential", "read-secret", "change-members", "edit-role", "edit-command-set", "grant-on", "edit-job"];
/// The right to assume a role, which is no part of any group of operations.
pub(crate) const ASSUME: &str = "assume";
/// The one thing a user may always do, and the only one while a credential must be changed.
pub(crate) const CHANGE_CREDENTIAL: &str = "change-credential";

/// What one cloud or application holds.
#[derive(Debug, Default)]
pub(crate) struct ServiceLinks {
    pub(crate) is_application: bool,
    pub(crate) operations: Vec<OperationLinks>,
    pub(crate) operation_ids: FxHashMap<Box<str>, usize>,
    /// Groups of operations by name.
    pub(crate) groups: FxHashMap<String, FixedBitSet>,
    /// Templates of paths of the interface, and of the resource they speak of.
    pub(crate) addresses: Vec<(String, String)>,
    pub(crate) resources: FxHashMap<Box<str>, ResourceLinks>,
    pub(crate) types: FxHashMap<String, TypeLinks>,
    /// Grants written here, and then those of every role.
    pub(crate) grants: Vec<GrantLinks>,
    pub(crate) by_party: FxHashMap<Party, Vec<usize>>,
    pub(crate) by_role: FxHashMap<RoleId, Vec<usize>>,
    pub(crate) by_beginning: ByBeginning,
    pub(crate) ceilings: Vec<CeilingLinks>,
    pub(crate) acting: Vec<ActingLinks>,
    pub(crate) covers: Vec<(At<Channel>, Vec<At<Channel>>)>,
    pub(crate) obtains: Vec<(At<Proof>, FixedBitSet)>,
    pub(crate) session_attributes: Vec<String>,
    pub(crate) identity_checks: Option<At<bool>>,
}

impl ServiceLinks {
    /// Returns the conditions of every grant, ceiling and rule of acting.
    pub(crate) fn conditions(&self) -> impl Iterator<Item = &Conditions> {
        let of_grants = self.grants.iter().flat_map(|g| std::iter::once(&g.when).chain(&g.lifted_by));
        of_grants.chain(self.ceilings.iter().map(|c| &c.when)).chain(self.acting.iter().map(|a| &a.when))
    }
}

/// Grants by whom they are for and by the path with which what they are on begins, so that a decision looks at those alone
/// that can concern its resource.
#[derive(Debug, Default)]
pub(crate) struct ByBeginning {
    beginnings: FxHashMap<Box<str>, u32>,
    /// The bytes of the longest of them: a longer path is not looked through to its end.
    longest: usize,
    grants: FxHashMap<(Holder, u32), Vec<usize>>,
}

/// The numbers of a path and of all that it is below, as far as a grant begins with them.
pub(crate) type Beginnings = SmallVec<[u32; 8]>;

impl ByBeginning {
    pub(crate) fn add(&mut self, number: usize, grant: &GrantLinks) {
        let everywhere = grant.on.is_empty().then(String::new);
        for beginning in grant.on.iter().map(PathPattern::beginning).chain(everywhere) {
            let next = self.beginnings.len() as u32;
            self.longest = self.longest.max(beginning.len());
            let id = *self.beginnings.entry(beginning.into()).or_insert(next);
            for &holder in &grant.holders {
                self.grants.entry((holder, id)).or_default().push(number);
            }
        }
    }

    pub(crate) fn of_path(&self, path: &str) -> Beginnings {
        let ends = path.match_indices('/').map(|(end, _)| end).chain([path.len()]);
        let ends = [0].into_iter().chain(ends).take_while(|&end| end <= self.longest);
        ends.filter_map(|end| self.beginnings.get(&path[..end]).copied()).collect()
    }

    /// Returns the numbers of the grants of a holder that can concern a path, in the order in which they are written.
    pub(crate) fn of(&self, holder: Holder, beginnings: &Beginnings) -> SmallVec<[usize; 8]> {
        let mut found: SmallVec<[usize; 8]> =
            beginnings.iter().filter_map(|&id| self.grants.get(&(holder, id))).flatten().copied().collect();
        found.sort_unstable();
        found.dedup();
        found
    }
}

#[derive(Debug)]
pub(crate) struct OperationLinks {
    pub(crate) name: String,
    pub(crate) reads: bool,
    /// Method and path, for an operation of an interface.
    pub(crate) call: Option<(String, String)>,
    pub(crate) place: Option<Place>,
}

#[derive(Debug)]
pub(crate) struct ResourceLinks {
    pub(crate) attributes: Vec<(At<String>, At<String>)>,
    pub(crate) duties: Option<Duties>,
    pub(crate) place: Place,
}

#[derive(Debug)]
pub(crate) struct TypeLinks {
    pub(crate) rights: FixedBitSet,
    pub(crate) looks: FixedBitSet,
    pub(crate) duties: Option<Duties>,
    pub(crate) right_duties: FxHashMap<usize, Duties>,
    pub(crate) second_person_right: Option<usize>,
    pub(crate) place: Place,
}

#[derive(Debug)]
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

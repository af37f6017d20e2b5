//! Which groups hold a user, directly or through other groups, and which assignments that leads to.

use std::collections::VecDeque;
use std::ops::Deref;
use std::sync::Arc;

use fixedbitset::FixedBitSet;
use rustc_hash::{FxHashMap, FxHashSet};
use smallvec::SmallVec;

use crate::engine::Estate;
use crate::links::{AssignmentId, GroupId, Party, SystemId, UserId};
use zest_model::ask::Proven;
use zest_model::entry::{Proof, User};
use zest_model::source::Place;

/// An assignment that reaches a user, with what a decision reads of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Candidate {
    /// The assignment.
    pub assignment: AssignmentId,
    /// The number of the set of systems it covers.
    coverage: u32,
    /// Whether it is known to have no conditions.
    pub(crate) is_firm: bool,
}

/// How many groups somebody is in at most without memory of their own.
const FEW: usize = 16;

/// Groups, each once.
pub(crate) type Groups = SmallVec<[GroupId; FEW]>;

/// The groups that hold somebody, by their numbers: as they are kept, or as they were found.
#[derive(Debug)]
pub enum Held<'m> {
    Kept(&'m [GroupId]),
    Found(Groups),
}

impl Deref for Held<'_> {
    type Target = [GroupId];

    fn deref(&self) -> &[GroupId] {
        match self {
            Self::Kept(groups) => groups,
            Self::Found(groups) => groups,
        }
    }
}

/// What a decision reads of a user: one record, since a large ledger does not fit the nearest cache.
#[derive(Clone, Copy, Debug)]
struct Record {
    candidates: Part,
    /// All groups of the user, or [`NOT_KEPT`].
    groups: Part,
    is_plain: bool,
    proofs: Proofs,
}

/// A part of a list: where it begins, and how long it is.
type Part = (u32, u32);

/// The groups of the user are looked up: all lists together would be too long.
const NOT_KEPT: Part = (u32::MAX, 0);

/// How many groups the lists may have together, beside as many as there are users.
const KEPT: usize = 4_000_000;

/// Which proofs somebody can give, one bit each.
type Proofs = u16;

const fn bit(proof: Proof) -> Proofs {
    1 << proof as u32
}

fn proofs(user: &User) -> Proofs {
    user.proofs.iter().fold(0, |all, proof| all | bit(proof.value))
}

/// Who is in which groups, and which assignments that leads to. A copy with another membership of one user shares the rest.
#[derive(Clone, Debug)]
pub struct Membership {
    base: Arc<Base>,
    /// Users whose groups or switches are others than in the layer below.
    changed: Arc<FxHashMap<UserId, Own>>,
}

/// See the [module](self). Users in the same groups share one list of candidates.
#[derive(Debug)]
struct Base {
    records: Vec<Record>,
    candidates: Vec<Candidate>,
    /// Groups and all groups that hold them, each list for all users who are directly in the same, one behind the other.
    all_groups: Vec<GroupId>,
    /// Which systems each coverage holds, a row of bits behind the other.
    coverages: FixedBitSet,
    systems: usize,
    direct: Vec<Box<[GroupId]>>,
    parents: Vec<Vec<GroupId>>,
    by_group: Vec<Vec<AssignmentId>>,
    by_user: FxHashMap<UserId, Vec<AssignmentId>>,
    of_assignment: Vec<Candidate>,
}

/// What is known of one user in a layer.
#[derive(Clone, Debug)]
struct Own {
    direct: Box<[GroupId]>,
    candidates: Box<[Candidate]>,
    is_plain: bool,
    proofs: Proofs,
}

impl Base {
    fn of(estate: &Estate) -> Self {
        let mut direct: Vec<Vec<GroupId>> = vec![Vec::new(); estate.entries.users.len()];
        let mut parents: Vec<Vec<GroupId>> = vec![Vec::new(); estate.groups.len()];
        for (i, group) in estate.groups.iter().enumerate() {
            for &(member, _) in &group.members {
                match member {
                    Party::User(user) => direct[user.index()].push(GroupId::new(i)),
                    Party::Group(inner) => parents[inner.index()].push(GroupId::new(i)),
                }
            }
        }
        let mut by_group: Vec<Vec<AssignmentId>> = vec![Vec::new(); estate.groups.len()];
        let mut by_user: FxHashMap<UserId, Vec<AssignmentId>> = FxHashMap::default();
        let mut coverage_ids: FxHashMap<&FixedBitSet, u32> = FxHashMap::default();
        let mut of_assignment = Vec::with_capacity(estate.assignments.len());
        for (i, links) in estate.assignments.iter().enumerate() {
            let id = AssignmentId::new(i);
            for &(party, _) in &links.to {
                match party {
                    Party::User(user) => by_user.entry(user).or_default().push(id),
                    Party::Group(group) => by_group[group.index()].push(id),
                }
            }
            let next = coverage_ids.len() as u32;
            let coverage = *coverage_ids.entry(&links.systems).or_insert(next);
            of_assignment.push(Candidate { assignment: id, coverage, is_firm: links.conditions.is_empty() });
        }
        let systems = estate.systems.len();
        let mut coverages = FixedBitSet::with_capacity(coverage_ids.len() * systems);
        for (covered, id) in coverage_ids {
            coverages.extend(covered.ones().map(|system| id as usize * systems + system));
        }
        let mut base = Self {
            records: Vec::with_capacity(direct.len()),
            candidates: Vec::new(),
            all_groups: Vec::new(),
            coverages,
            systems,
            direct: direct.into_iter().map(Vec::into_boxed_slice).collect(),
            parents,
            by_group,
            by_user,
            of_assignment,
        };
        let mut lists: FxHashMap<Vec<AssignmentId>, Part> = FxHashMap::default();
        let mut by_groups: FxHashMap<&[GroupId], (Part, Part)> = FxHashMap::default();
        let mut left = KEPT + estate.entries.users.len();
        let direct = std::mem::take(&mut base.direct);
        for (i, groups) in direct.iter().enumerate() {
            let user = UserId::new(i);
            let known = by_groups.get(&**groups).copied();
            let is_own = base.by_user.contains_key(&user);
            let mut range = known.map(|(_, range)| range).filter(|_| !is_own);
            let all = known.map(|(all, _)| all).unwrap_or_else(|| {
                let mut above = base.above(groups);
                above.sort_unstable();
                if above.len() > left {
                    return NOT_KEPT;
                }
                left -= above.len();
                let first = base.all_groups.len() as u32;
                base.all_groups.extend_from_slice(&above);
                (first, above.len() as u32)
            });
            let candidates = *range.get_or_insert_with(|| {
                let list = match base.kept(all) {
                    Some(all) => base.assignments_in(user, all),
                    None => base.assignments_of(user, groups),
                };
                if let Some(&range) = lists.get(&list) {
                    return range;
                }
                let range = (base.candidates.len() as u32, list.len() as u32);
                base.candidates.extend(list.iter().map(|a| base.of_assignment[a.index()]));
                lists.insert(list, range);
                range
            });
            if !is_own {
                by_groups.insert(groups, (all, candidates));
            }
            let user = &estate.entries.users[i];
            base.records.push(Record { candidates, groups: all, is_plain: is_plain(user), proofs: proofs(user) });
        }
        base.direct = direct;
        base
    }

    /// Returns a list of groups that is kept; nothing if it is not.
    fn kept(&self, groups: Part) -> Option<&[GroupId]> {
        if groups == NOT_KEPT { None } else { Some(part(&self.all_groups, groups)) }
    }

    /// The assignments that reach a user who is in some groups, in the order in which they are tried.
    fn assignments_of(&self, user: UserId, groups: &[GroupId]) -> Vec<AssignmentId> {
        self.assignments_in(user, &self.above(groups))
    }

    /// The same, for a user whom these groups hold and no other.
    fn assignments_in(&self, user: UserId, all: &[GroupId]) -> Vec<AssignmentId> {
        let inherited = all.iter().flat_map(|g| self.by_group[g.index()].iter().copied());
        let mut list: Vec<AssignmentId> = inherited.chain(self.by_user.get(&user).into_iter().flatten().copied()).collect();
        list.sort_unstable();
        list.dedup();
        list
    }

    /// Returns groups and all groups that hold them.
    fn above(&self, groups: &[GroupId]) -> Groups {
        let mut all: Groups = groups.iter().copied().collect();
        all.sort_unstable();
        all.dedup();
        // A few are looked through faster than hashed, and take no memory of their own.
        let mut seen: Option<FxHashSet<GroupId>> = None;
        let mut next = 0;
        while let Some(&group) = all.get(next) {
            next += 1;
            for &parent in &self.parents[group.index()] {
                let is_new = match &mut seen {
                    Some(seen) => seen.insert(parent),
                    None => !all.contains(&parent),
                };
                if is_new {
                    all.push(parent);
                    // Somebody may be in more than a few to begin with.
                    if seen.is_none() && all.len() >= FEW {
                        seen = Some(all.iter().copied().collect());
                    }
                }
            }
        }
        all
    }
}

impl Membership {
    pub(crate) fn of(estate: &Estate) -> Self {
        Self { base: Arc::new(Base::of(estate)), changed: Arc::default() }
    }

    /// Returns the memberships once some users are others, or in more groups; who is in which group besides stays as it is.
    pub(crate) fn with(&self, estate: &Estate, users: &[UserId], joined: &[(UserId, GroupId)]) -> Self {
        let mut changed = (*self.changed).clone();
        for &user in users.iter().chain(joined.iter().map(|(user, _)| user)) {
            let more = joined.iter().filter(|(who, _)| *who == user).map(|&(_, group)| group);
            let mut direct: Vec<GroupId> = self.direct(user).iter().copied().chain(more).collect();
            direct.sort_unstable();
            direct.dedup();
            let list = self.base.assignments_of(user, &direct);
            let candidates = list.iter().map(|a| self.base.of_assignment[a.index()]).collect();
            let entry = &estate.entries.users[user.index()];
            changed.insert(user, Own { direct: direct.into(), candidates, is_plain: is_plain(entry), proofs: proofs(entry) });
        }
        Self { base: Arc::clone(&self.base), changed: Arc::new(changed) }
    }

    fn own(&self, user: UserId) -> Option<&Own> {
        if self.changed.is_empty() { None } else { self.changed.get(&user) }
    }

    fn direct(&self, user: UserId) -> &[GroupId] {
        self.own(user).map_or_else(|| &self.base.direct[user.index()], |own| &own.direct)
    }

    /// Returns the assignments that reach a user, in the order in which they are tried.
    pub fn candidates(&self, user: UserId) -> &[Candidate] {
        if let Some(own) = self.own(user) {
            return &own.candidates;
        }
        part(&self.base.candidates, self.base.records[user.index()].candidates)
    }

    /// Returns whether an assignment covers a system.
    pub(crate) fn covers(&self, candidate: Candidate, system: SystemId) -> bool {
        self.base.coverages.contains(candidate.coverage as usize * self.base.systems + system.index())
    }

    /// Returns whether nothing about a user can refuse entry but a proof that is not his.
    pub(crate) fn is_plain(&self, user: UserId) -> bool {
        self.own(user).map_or_else(|| self.base.records[user.index()].is_plain, |own| own.is_plain)
    }

    /// Returns whether somebody about whom nothing can refuse entry can give each of the proofs that were given, and gave one if any
    /// is told of.
    pub(crate) fn gives(&self, user: UserId, given: Option<&[Proven]>) -> bool {
        let proofs = self.own(user).map_or_else(|| self.base.records[user.index()].proofs, |own| own.proofs);
        let is_registered = |proven: &Proven| proofs & bit(proven.proof) != 0;
        self.is_plain(user) && given.is_none_or(|given| !given.is_empty() && given.iter().all(is_registered))
    }

    /// Returns all groups that hold a user, directly or through other groups, by their numbers.
    pub fn groups_of(&self, user: UserId) -> Held<'_> {
        let kept = if self.own(user).is_none() { self.base.kept(self.base.records[user.index()].groups) } else { None };
        kept.map_or_else(
            || {
                let mut groups = self.base.above(self.direct(user));
                groups.sort_unstable();
                Held::Found(groups)
            },
            Held::Kept,
        )
    }

    /// Returns whether a group is another one, or in it.
    pub fn is_below(&self, inner: GroupId, outer: GroupId) -> bool {
        self.base.above(&[inner]).contains(&outer)
    }

    /// Returns whether a user is a party, or a member of it.
    pub fn belongs(&self, user: UserId, party: Party) -> bool {
        match party {
            Party::User(id) => id == user,
            Party::Group(group) => self.groups_of(user).binary_search(&group).is_ok(),
        }
    }

    /// Returns the shortest chain of groups from a user up to one of them, with the place of the first membership.
    pub(crate) fn chain(&self, estate: &Estate, user: UserId, to: GroupId) -> Option<(Vec<GroupId>, Place)> {
        let direct = self.direct(user);
        let mut from: FxHashMap<GroupId, Option<GroupId>> = direct.iter().map(|&g| (g, None)).collect();
        let mut queue: VecDeque<GroupId> = direct.iter().copied().collect();
        while let Some(group) = queue.pop_front() {
            if group == to {
                let mut chain = vec![group];
                while let Some(Some(below)) = from.get(chain.last()?) {
                    chain.push(*below);
                }
                chain.reverse();
                let first = &estate.groups[chain.first()?.index()];
                let place = first.members.iter().find(|(m, _)| *m == Party::User(user))?.1;
                return Some((chain, place));
            }
            for &parent in &self.base.parents[group.index()] {
                from.entry(parent).or_insert_with(|| {
                    queue.push_back(parent);
                    Some(group)
                });
            }
        }
        None
    }
}

fn part<T>(list: &[T], (first, count): Part) -> &[T] {
    &list[first as usize..][..count as usize]
}

fn is_plain(user: &User) -> bool {
    let is_set = |flag: &Option<zest_model::source::At<bool>>| flag.as_ref().is_some_and(|f| f.value);
    let is_bound = user.from.is_some() || user.until.is_some() || user.channels.is_some();
    !(is_bound || user.proofs.is_empty() || is_set(&user.disabled) || is_set(&user.must_change_credential))
}

//! Which groups hold a user, directly or through other groups, and which assignments that leads to.

use std::collections::VecDeque;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::estate::{AssignmentId, Estate, GroupId, Party, UserId};
use crate::source::Place;

/// See the [module](self). Users in the same groups share one list.
#[derive(Debug)]
pub(crate) struct Membership {
    candidates_of: Vec<u32>,
    candidates: Vec<Box<[AssignmentId]>>,
    direct: Vec<Box<[GroupId]>>,
    parents: Vec<Vec<GroupId>>,
}

impl Membership {
    pub(crate) fn of(estate: &Estate) -> Self {
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
        for (i, assignment) in estate.assignments.iter().enumerate() {
            for &(party, _) in &assignment.to {
                match party {
                    Party::User(user) => by_user.entry(user).or_default().push(AssignmentId::new(i)),
                    Party::Group(group) => by_group[group.index()].push(AssignmentId::new(i)),
                }
            }
        }
        let mut membership = Self {
            candidates_of: Vec::with_capacity(direct.len()),
            candidates: Vec::new(),
            direct: direct.into_iter().map(Vec::into_boxed_slice).collect(),
            parents,
        };
        let mut lists: FxHashMap<Box<[AssignmentId]>, u32> = FxHashMap::default();
        let mut by_groups: FxHashMap<&[GroupId], u32> = FxHashMap::default();
        let direct = std::mem::take(&mut membership.direct);
        for (i, groups) in direct.iter().enumerate() {
            let own = by_user.get(&UserId::new(i));
            if let (None, Some(&list)) = (own, by_groups.get(&**groups)) {
                membership.candidates_of.push(list);
                continue;
            }
            let mut list: Vec<AssignmentId> = membership
                .above(groups)
                .into_iter()
                .flat_map(|g| by_group[g.index()].iter().copied())
                .chain(own.into_iter().flatten().copied())
                .collect();
            list.sort_unstable();
            list.dedup();
            let list = list.into_boxed_slice();
            let id = match lists.get(&list) {
                Some(&id) => id,
                None => {
                    let id = membership.candidates.len() as u32;
                    membership.candidates.push(list.clone());
                    lists.insert(list, id);
                    id
                }
            };
            membership.candidates_of.push(id);
            if own.is_none() {
                by_groups.insert(groups, id);
            }
        }
        membership.direct = direct;
        membership
    }

    /// Returns the assignments that reach a user, in the order in which they are tried.
    pub(crate) fn candidates(&self, user: UserId) -> &[AssignmentId] {
        &self.candidates[self.candidates_of[user.index()] as usize]
    }

    /// Returns all groups that hold a user, directly or through other groups.
    pub(crate) fn groups_of(&self, user: UserId) -> FxHashSet<GroupId> {
        self.above(&self.direct[user.index()])
    }

    /// Returns groups and all groups that hold them.
    fn above(&self, groups: &[GroupId]) -> FxHashSet<GroupId> {
        let mut all: FxHashSet<GroupId> = groups.iter().copied().collect();
        let mut queue: Vec<GroupId> = groups.to_vec();
        while let Some(group) = queue.pop() {
            for &parent in &self.parents[group.index()] {
                if all.insert(parent) {
                    queue.push(parent);
                }
            }
        }
        all
    }

    /// Returns whether a group is another one, or in it.
    pub(crate) fn is_below(&self, inner: GroupId, outer: GroupId) -> bool {
        self.above(&[inner]).contains(&outer)
    }

    /// Returns whether a user is a party, or a member of it.
    pub(crate) fn belongs(&self, user: UserId, party: Party) -> bool {
        match party {
            Party::User(id) => id == user,
            Party::Group(group) => self.direct[user.index()].contains(&group) || self.groups_of(user).contains(&group),
        }
    }

    /// Returns the shortest chain of groups from a user up to one of them, with the place of the first membership.
    pub(crate) fn chain(&self, estate: &Estate, user: UserId, to: GroupId) -> Option<(Vec<GroupId>, Place)> {
        let mut from: FxHashMap<GroupId, Option<GroupId>> = self.direct[user.index()].iter().map(|&g| (g, None)).collect();
        let mut queue: VecDeque<GroupId> = self.direct[user.index()].iter().copied().collect();
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
            for &parent in &self.parents[group.index()] {
                from.entry(parent).or_insert_with(|| {
                    queue.push_back(parent);
                    Some(group)
                });
            }
        }
        None
    }
}

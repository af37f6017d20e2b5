//! What an assignment gives: a band and command sets, through its roles and the roles those include.

use rustc_hash::{FxHashMap, FxHashSet};
use smallvec::SmallVec;

use crate::engine::Estate;
use crate::links::{AssignmentLinks, RoleId, SetId};
use zest_model::source::Place;

/// A band and where it is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct LevelBand {
    pub(crate) start: u8,
    pub(crate) start_place: Place,
    pub(crate) ceiling: u8,
    pub(crate) ceiling_place: Place,
}

impl LevelBand {
    pub(crate) fn read(band: &zest_model::entry::Band) -> Self {
        Self { start: band.start.value, start_place: band.start.place, ceiling: band.ceiling.value, ceiling_place: band.ceiling.place }
    }

    /// The higher start and the higher ceiling of two bands.
    fn highest(self, other: Self) -> Self {
        let (start, start_place) = if other.start > self.start { (other.start, other.start_place) } else { (self.start, self.start_place) };
        let (ceiling, ceiling_place) =
            if other.ceiling > self.ceiling { (other.ceiling, other.ceiling_place) } else { (self.ceiling, self.ceiling_place) };
        Self { start, start_place, ceiling, ceiling_place }
    }
}

/// The command sets of a session: mostly one or two, which then lie beside the band.
pub(crate) type Sets = SmallVec<[SetId; 4]>;

/// What a session gets from its assignment.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct Standing {
    pub band: Option<LevelBand>,
    pub(crate) sets: Sets,
    /// All roles, those included by others as well.
    pub(crate) roles: Vec<RoleId>,
    /// Whether it is that of a local account, whose command sets the device itself asks at every level.
    pub(crate) is_local: bool,
}

impl Standing {
    /// Returns all roles, those included by others as well.
    #[must_use]
    pub fn roles(&self) -> &[RoleId] {
        &self.roles
    }

    /// Returns the command sets.
    #[must_use]
    pub fn sets(&self) -> &[SetId] {
        &self.sets
    }
}

/// Returns the distinct standings, and which of them each assignment gives.
pub(super) fn standings(estate: &Estate) -> (Vec<Standing>, Vec<usize>) {
    let mut bands = Bands::default();
    let mut distinct: FxHashMap<Standing, usize> = FxHashMap::default();
    let mut list = Vec::new();
    let of = estate
        .assignments
        .iter()
        .map(|assignment| {
            let standing = standing(estate, assignment, &mut bands);
            *distinct.entry(standing.clone()).or_insert_with(|| {
                list.push(standing);
                list.len() - 1
            })
        })
        .collect();
    (list, of)
}

/// Returns what one assignment gives.
pub(super) fn standing(estate: &Estate, assignment: &AssignmentLinks, bands: &mut Bands) -> Standing {
    let mut seen = FxHashSet::default();
    let mut standing = Standing::default();
    let mut queue: Vec<RoleId> = assignment.roles.iter().rev().copied().collect();
    while let Some(role) = queue.pop() {
        if seen.insert(role) {
            standing.roles.push(role);
            for &set in &estate.roles[role.index()].sets {
                if !standing.sets.contains(&set) {
                    standing.sets.push(set);
                }
            }
            queue.extend(estate.roles[role.index()].includes.iter().rev());
        }
    }
    standing.band = assignment.roles.iter().filter_map(|&r| bands.of(estate, r)).reduce(LevelBand::highest);
    standing
}

/// The bands of roles, as far as they have been worked out.
#[derive(Debug, Default)]
pub(super) struct Bands(FxHashMap<RoleId, Option<LevelBand>>);

impl Bands {
    /// The band of a role: its own, or else the highest of those it includes. Roles include each other in no circle.
    fn of(&mut self, estate: &Estate, role: RoleId) -> Option<LevelBand> {
        let mut way = vec![role];
        while let Some(&role) = way.last() {
            let links = &estate.roles[role.index()];
            if self.0.contains_key(&role) {
                way.pop();
            } else if let Some(own) = &estate.role(role).band {
                self.0.insert(role, Some(LevelBand::read(own)));
            } else if let Some(&open) = links.includes.iter().find(|r| !self.0.contains_key(r)) {
                way.push(open);
            } else {
                let highest = links.includes.iter().filter_map(|r| self.0.get(r).copied().flatten()).reduce(LevelBand::highest);
                self.0.insert(role, highest);
            }
        }
        self.0.get(&role).copied().flatten()
    }
}

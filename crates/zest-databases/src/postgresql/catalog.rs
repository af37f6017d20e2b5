//! A state compiled for deciding: who holds what is one or two words to look at, whatever the number of grants.

use std::collections::VecDeque;
use std::sync::{Arc, OnceLock};

use fixedbitset::FixedBitSet;
use rustc_hash::FxHashMap;

use super::acl::{Acl, Grantee};
use super::object::ObjectName;
use super::privilege::Privilege;
use super::state::{PREDEFINED, State, everywhere};
use crate::sql::{AllOf, Condition, Dialect};
use zest_engine::links::Index;
use zest_model::source::Place;

/// The number of a role in a catalog.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{Catalog, State};
/// let catalog = Catalog::compile(State::fresh("ticketing", "postgres"));
/// assert!(catalog.role("postgres").is_some() && catalog.role("purser-1").is_none());
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RoleNumber(u32);

/// The number of an object in a catalog.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{Catalog, Class, ObjectName, State};
/// let catalog = Catalog::compile(State::fresh("ticketing", "postgres"));
/// assert!(catalog.object(&ObjectName::new(Class::Schema, &["public"])).is_some());
/// assert!(catalog.object(&ObjectName::new(Class::Table, &["public", "fares"])).is_none());
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ObjectNumber(u32);

/// Whether the privilege itself is wanted, or the right to pass it on.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{Catalog, ObjectName, Privilege, Role, State, Want};
/// let mut state = State::fresh("ticketing", "postgres");
/// state.roles.insert("clerk".to_owned(), Role { login: true, ..Role::default() });
/// let catalog = Catalog::compile(state);
/// let (clerk, database) = (catalog.role("clerk").expect("made"), catalog.object(&ObjectName::database()).expect("there"));
/// assert!(catalog.holds(clerk, database, Privilege::Connect, Want::Privilege), "as everybody");
/// assert!(!catalog.holds(clerk, database, Privilege::Connect, Want::GrantOption));
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Want {
    /// The privilege.
    Privilege,
    /// Its grant option.
    GrantOption,
}

/// For each privilege the cell that says who holds it, then the same for grant options.
type Row = [u32; 24];
const NOBODY: u32 = u32::MAX;

/// Who holds one privilege on one object.
#[derive(Debug, Default)]
struct Cell {
    public: bool,
    /// Bits over roles that others are members of.
    groups: Box<[u64]>,
    /// Other roles, sorted.
    direct: Box<[u32]>,
}

/// A compiled state.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{Catalog, ObjectName, Privilege, State, Want};
/// let catalog = Catalog::compile(State::fresh("ticketing", "postgres"));
/// let postgres = catalog.role("postgres").expect("it is there");
/// let database = catalog.object(&ObjectName::database()).expect("it is there");
/// assert!(catalog.holds(postgres, database, Privilege::Create, Want::Privilege));
/// ```
#[derive(Debug)]
pub struct Catalog {
    state: Arc<State>,
    role_names: Vec<String>,
    role_numbers: Index<RoleNumber>,
    object_names: Vec<ObjectName>,
    object_numbers: FxHashMap<ObjectName, ObjectNumber>,
    /// The objects with a last name, in order.
    by_last: Index<Vec<u32>>,
    superusers: FixedBitSet,
    /// The roles whose privileges each role inherits directly.
    parents: Vec<Vec<u32>>,
    /// All roles whose privileges a role has: bits over roles that others are members of.
    closures: Vec<Box<[u64]>>,
    /// The bit of a role that others are members of.
    group_of: Vec<u32>,
    group_count: usize,
    rows: Vec<Row>,
    columns: FxHashMap<(u32, Box<str>), Row>,
    cells: Vec<Cell>,
    /// What suffices for the condition of each policy to hold; worked out once rows are asked for.
    policies: OnceLock<FxHashMap<String, Vec<AllOf>>>,
}

/// By which way somebody holds something.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{Catalog, ObjectName, Privilege, State, Want, Way};
/// let catalog = Catalog::compile(State::fresh("ticketing", "postgres"));
/// let (postgres, database) = (catalog.role("postgres").expect("there"), catalog.object(&ObjectName::database()).expect("there"));
/// assert_eq!(catalog.way(postgres, database, None, Privilege::Create, Want::Privilege), Some(Way::Superuser));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Way {
    /// Superusers pass every check.
    Superuser,
    /// By ownership, directly or as a member of the owner.
    Owner {
        /// From the role that asks to the owner.
        chain: Vec<String>,
    },
    /// A predefined role gives it on all objects.
    Predefined {
        /// From the role that asks to the predefined one.
        chain: Vec<String>,
    },
    /// A grant.
    Grant {
        /// From the role that asks to the one that holds it; empty for a grant to PUBLIC.
        chain: Vec<String>,
        /// Who gave it.
        grantor: String,
        /// Where it is written; none for what the server gives by itself.
        place: Option<Place>,
        /// The column, for a grant on a column.
        column: Option<String>,
    },
}

/// Building
impl Catalog {
    /// Compiles a state.
    #[must_use]
    pub fn compile(state: State) -> Self {
        Self::of(Arc::new(state))
    }

    pub(super) fn of(state: Arc<State>) -> Self {
        let role_names: Vec<String> = state.roles.keys().cloned().chain(PREDEFINED.iter().map(|(n, _)| (*n).to_owned())).collect();
        let role_numbers: Index<RoleNumber> =
            role_names.iter().enumerate().map(|(i, n)| (n.as_str().into(), RoleNumber(i as u32))).collect();
        let number = |name: &str| role_numbers.get(name).map(|n| n.0);
        let mut parents: Vec<Vec<u32>> = vec![Vec::new(); role_names.len()];
        let mut group_of = vec![NOBODY; role_names.len()];
        let mut group_count = 0;
        for (i, name) in role_names.iter().enumerate() {
            let mut list: Vec<u32> = Vec::new();
            if let Some(role) = state.roles.get(name) {
                list.extend(role.member_of.keys().filter_map(|r| number(r)));
                if !role.inherit {
                    list.clear();
                }
                if *name == state.database_owner() && role.inherit {
                    list.extend(number("pg_database_owner"));
                }
            } else {
                list.extend(PREDEFINED.iter().filter(|(p, _)| p == name).flat_map(|(_, m)| m.iter()).filter_map(|r| number(r)));
            }
            for &parent in &list {
                let group = &mut group_of[parent as usize];
                if *group == NOBODY {
                    *group = group_count;
                    group_count += 1;
                }
            }
            parents[i] = list;
        }
        let mut by_last: Index<Vec<u32>> = FxHashMap::default();
        for (i, name) in state.objects.keys().enumerate() {
            by_last.entry(name.last().into()).or_default().push(i as u32);
        }
        let words = (group_count as usize).div_ceil(64);
        let closures = closures(&parents, &group_of, words);
        let mut catalog = Self {
            superusers: role_names.iter().enumerate().filter(|(_, n)| state.is_superuser(n)).map(|(i, _)| i).collect(),
            object_names: state.objects.keys().cloned().collect(),
            by_last,
            object_numbers: state.objects.keys().enumerate().map(|(i, n)| (n.clone(), ObjectNumber(i as u32))).collect(),
            role_names,
            role_numbers,
            closures,
            parents,
            group_of,
            group_count: group_count as usize,
            rows: Vec::with_capacity(state.objects.len()),
            columns: FxHashMap::default(),
            cells: Vec::new(),
            policies: OnceLock::new(),
            state,
        };
        catalog.superusers.grow(catalog.role_names.len());
        catalog.fill(words);
        catalog
    }

    /// Returns what each suffices for the condition of a policy to hold.
    pub(super) fn suffices(&self, condition: &str) -> &[AllOf] {
        let known = self.policies.get_or_init(|| {
            let policies = self.state.objects.values().flat_map(|object| &object.policies).flat_map(|policies| policies.values());
            let texts = policies.flat_map(|policy| [&policy.using, &policy.check]).flatten();
            texts.map(|text| (text.clone(), Condition::read(Dialect::Postgresql, text).suffices())).collect()
        });
        known.get(condition).map_or(&[], Vec::as_slice)
    }

    fn fill(&mut self, words: usize) {
        let state = Arc::clone(&self.state);
        for (i, (name, object)) in state.objects.iter().enumerate() {
            let row = self.row_of(&object.acl, &object.owner, words, |p| everywhere(name.class, p));
            self.rows.push(row);
            for column in object.columns.iter().filter(|c| !c.acl.is_empty()) {
                let row = self.row_of(&column.acl, &object.owner, words, |_| &[]);
                self.columns.insert((i as u32, column.name.as_str().into()), row);
            }
        }
    }

    fn row_of(&mut self, acl: &Acl, owner: &str, words: usize, everywhere: impl Fn(Privilege) -> &'static [&'static str]) -> Row {
        let mut row = [NOBODY; 24];
        for &privilege in Privilege::ALL {
            for (base, want) in [(0, Want::Privilege), (12, Want::GrantOption)] {
                let holders = acl.iter().filter(|(_, _, held)| match want {
                    Want::Privilege => held.privileges.contains(privilege),
                    Want::GrantOption => held.options.contains(privilege),
                });
                let mut public = false;
                let mut roles: Vec<&str> = Vec::new();
                for (grantee, _, _) in holders {
                    match grantee {
                        Grantee::Public => public = true,
                        Grantee::Role(name) => roles.push(name),
                    }
                }
                match want {
                    Want::Privilege => roles.extend(everywhere(privilege)),
                    Want::GrantOption => roles.push(owner),
                }
                if !public && roles.is_empty() {
                    continue;
                }
                let mut cell = Cell { public, groups: vec![0; words].into(), direct: Box::default() };
                let mut direct = Vec::new();
                for role in roles.into_iter().filter_map(|r| self.role_numbers.get(r)) {
                    match self.group_of[role.0 as usize] {
                        NOBODY => direct.push(role.0),
                        group => cell.groups[group as usize / 64] |= 1 << (group % 64),
                    }
                }
                direct.sort_unstable();
                direct.dedup();
                cell.direct = direct.into();
                row[base + privilege as usize] = self.cells.len() as u32;
                self.cells.push(cell);
            }
        }
        row
    }
}

/// Follows memberships upwards; a role that others are members of is in its own closure.
fn closures(parents: &[Vec<u32>], group_of: &[u32], words: usize) -> Vec<Box<[u64]>> {
    let own = |role: usize, bits: &mut [u64]| {
        if group_of[role] != NOBODY {
            bits[group_of[role] as usize / 64] |= 1 << (group_of[role] % 64);
        }
    };
    // Roles in an order in which parents come first; a circle is impossible on a server, and harmless here.
    let mut done: Vec<Option<Box<[u64]>>> = vec![None; parents.len()];
    for root in 0..parents.len() {
        let mut way = vec![(root, 0)];
        let mut is_open = FixedBitSet::with_capacity(if parents[root].is_empty() { 0 } else { parents.len() });
        while let Some((role, next)) = way.last_mut() {
            let (at, step) = (*role, *next);
            *next += 1;
            if done[at].is_some() {
                way.pop();
            } else if let Some(&parent) = parents[at].get(step) {
                if done[parent as usize].is_none() && !is_open.contains(parent as usize) {
                    is_open.grow(parents.len());
                    is_open.insert(parent as usize);
                    way.push((parent as usize, 0));
                }
            } else {
                let mut bits: Box<[u64]> = vec![0; words].into();
                own(at, &mut bits);
                for &parent in &parents[at] {
                    if let Some(above) = &done[parent as usize] {
                        bits.iter_mut().zip(above.iter()).for_each(|(b, a)| *b |= a);
                    }
                }
                done[at] = Some(bits);
                way.pop();
            }
        }
    }
    done.into_iter().map(Option::unwrap_or_default).collect()
}

/// Deciding
impl Catalog {
    /// Returns the state.
    #[must_use]
    pub fn state(&self) -> &State {
        &self.state
    }

    /// Finds a role by name.
    #[must_use]
    pub fn role(&self, name: &str) -> Option<RoleNumber> {
        self.role_numbers.get(name).copied()
    }

    /// Finds an object by name.
    #[must_use]
    pub fn object(&self, name: &ObjectName) -> Option<ObjectNumber> {
        self.object_numbers.get(name).copied()
    }

    /// Returns all objects in order of their names.
    #[must_use]
    pub fn objects(&self) -> &[ObjectName] {
        &self.object_names
    }

    /// Returns the objects whose last name is this, in order.
    pub(crate) fn named(&self, last: &str) -> impl Iterator<Item = &ObjectName> {
        self.by_last.get(last).into_iter().flatten().map(|&i| &self.object_names[i as usize])
    }

    /// Returns whether a role holds a privilege on an object, as the server's `has_…_privilege` functions say.
    ///
    /// # Complexity
    /// A few words for each 64 roles that have members, and a search among the grants to other roles.
    #[must_use]
    pub fn holds(&self, role: RoleNumber, object: ObjectNumber, privilege: Privilege, want: Want) -> bool {
        self.superusers.contains(role.0 as usize) || self.in_row(role, &self.rows[object.0 as usize], privilege, want)
    }

    /// The same for a column: the privilege on the table counts for each of its columns.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::postgresql::{Catalog, ObjectName, Privilege, Role, State, Want};
    /// let mut state = State::fresh("ticketing", "postgres");
    /// state.roles.insert("clerk".to_owned(), Role::default());
    /// let catalog = Catalog::compile(state);
    /// let role = |name| catalog.role(name).expect("it is there");
    /// let database = catalog.object(&ObjectName::database()).expect("it is there");
    /// assert!(!catalog.holds_column(role("clerk"), database, "id", Privilege::Select, Want::Privilege));
    /// ```
    #[must_use]
    pub fn holds_column(&self, role: RoleNumber, object: ObjectNumber, column: &str, privilege: Privilege, want: Want) -> bool {
        self.holds(role, object, privilege, want)
            || self.columns.get(&(object.0, column.into())).is_some_and(|row| self.in_row(role, row, privilege, want))
    }

    fn in_row(&self, role: RoleNumber, row: &Row, privilege: Privilege, want: Want) -> bool {
        let base = if want == Want::Privilege { 0 } else { 12 };
        let Some(cell) = self.cells.get(row[base + privilege as usize] as usize) else { return false };
        cell.public
            || cell.groups.iter().zip(&*self.closures[role.0 as usize]).any(|(a, b)| a & b != 0)
            || !cell.direct.is_empty() && cell.direct.binary_search(&role.0).is_ok()
    }

    /// Returns whether a role has all privileges of another, through inheriting memberships.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::postgresql::{Catalog, Role, State};
    /// let mut state = State::fresh("ticketing", "postgres");
    /// state.roles.insert("clerk".to_owned(), Role::default());
    /// let catalog = Catalog::compile(state);
    /// let role = |name| catalog.role(name).expect("it is there");
    /// assert!(catalog.has_role(role("postgres"), role("clerk")) && !catalog.has_role(role("clerk"), role("postgres")));
    /// ```
    #[must_use]
    pub fn has_role(&self, member: RoleNumber, role: RoleNumber) -> bool {
        let group = self.group_of[role.0 as usize];
        member == role
            || self.superusers.contains(member.0 as usize)
            || group != NOBODY && self.closures[member.0 as usize][group as usize / 64] >> (group % 64) & 1 == 1
    }

    /// Returns a matrix for one privilege, ready to give rows.
    #[must_use]
    pub fn matrix(&self, privilege: Privilege) -> Matrix<'_> {
        let count = self.rows.len();
        let mut matrix = Matrix {
            catalog: self,
            public: FixedBitSet::with_capacity(count),
            groups: vec![FixedBitSet::with_capacity(count); self.group_count],
            direct: FxHashMap::default(),
        };
        for (i, row) in self.rows.iter().enumerate() {
            let Some(cell) = self.cells.get(row[privilege as usize] as usize) else { continue };
            matrix.public.set(i, cell.public);
            for (w, &word) in cell.groups.iter().enumerate() {
                let mut rest = word;
                while rest != 0 {
                    matrix.groups[w * 64 + rest.trailing_zeros() as usize].insert(i);
                    rest &= rest - 1;
                }
            }
            for &role in &cell.direct {
                matrix.direct.entry(role).or_default().push(i as u32);
            }
        }
        matrix
    }

    /// Explains by which way a role holds a privilege; the shortest chain of memberships first.
    #[must_use]
    pub fn way(&self, role: RoleNumber, object: ObjectNumber, column: Option<&str>, privilege: Privilege, want: Want) -> Option<Way> {
        if self.superusers.contains(role.0 as usize) {
            return Some(Way::Superuser);
        }
        let number = object.0 as usize;
        let name = &self.object_names[number];
        let object = self.state.objects.get(name)?;
        // Most is held by nobody who asks: that is seen without looking for a way.
        let is_held = match column {
            None => self.in_row(role, &self.rows[number], privilege, want),
            Some(column) => self.holds_column(role, ObjectNumber(number as u32), column, privilege, want),
        };
        if !is_held {
            return None;
        }
        let before = self.reached(role);
        let in_acl = |acl: &Acl, column: Option<&str>| {
            let holders = acl.iter().filter(|(_, _, held)| match want {
                Want::Privilege => held.privileges.contains(privilege),
                Want::GrantOption => held.options.contains(privilege),
            });
            holders
                .filter_map(|(grantee, grantor, held)| {
                    let chain = match grantee {
                        Grantee::Public => Vec::new(),
                        Grantee::Role(name) => self.chain(&before, name)?,
                    };
                    let length = if chain.is_empty() { usize::MAX } else { chain.len() };
                    let way = match grantee {
                        Grantee::Role(name) if *name == object.owner && held.place.is_none() => Way::Owner { chain },
                        _ => Way::Grant { chain, grantor: grantor.to_owned(), place: held.place, column: column.map(str::to_owned) },
                    };
                    Some((length, way))
                })
                .min_by_key(|(length, _)| *length)
                .map(|(_, way)| way)
        };
        if want == Want::GrantOption
            && let Some(chain) = self.chain(&before, &object.owner)
        {
            return Some(Way::Owner { chain });
        }
        let predefined = || {
            let roles = if want == Want::Privilege { everywhere(name.class, privilege) } else { &[] };
            roles.iter().find_map(|r| self.chain(&before, r)).map(|chain| Way::Predefined { chain })
        };
        let of_column = || column.and_then(|c| object.columns.iter().find(|x| x.name == c)).and_then(|c| in_acl(&c.acl, Some(&c.name)));
        in_acl(&object.acl, None).or_else(predefined).or_else(of_column)
    }

    /// Returns all ways by which a privilege is held on an object as a whole, shortest first; the first is that of [`way`](Self::way).
    ///
    /// # Example
    /// ```
    /// use zest_ledger::postgresql::{Catalog, ObjectName, Privilege, State, Want};
    /// let catalog = Catalog::compile(State::fresh("ticketing", "postgres"));
    /// let (postgres, database) = (catalog.role("postgres").expect("it is there"), catalog.object(&ObjectName::database()).expect("it is there"));
    /// assert_eq!(catalog.ways(postgres, database, Privilege::Connect, Want::Privilege).len(), 1, "superusers need no other");
    /// ```
    #[must_use]
    pub fn ways(&self, role: RoleNumber, object: ObjectNumber, privilege: Privilege, want: Want) -> Vec<Way> {
        let Some(first) = self.way(role, object, None, privilege, want) else { return Vec::new() };
        let name = &self.object_names[object.0 as usize];
        let Some(entry) = self.state.objects.get(name).filter(|_| first != Way::Superuser) else { return vec![first] };
        let before = self.reached(role);
        let mut others: Vec<(usize, Way)> = Vec::new();
        for (grantee, grantor, held) in entry.acl.iter() {
            let holds = if want == Want::Privilege { held.privileges } else { held.options };
            if !holds.contains(privilege) {
                continue;
            }
            let chain = match grantee {
                Grantee::Public => Some(Vec::new()),
                Grantee::Role(name) => self.chain(&before, name),
            };
            let Some(chain) = chain else { continue };
            let length = if chain.is_empty() { usize::MAX } else { chain.len() };
            let way = match grantee {
                Grantee::Role(name) if *name == entry.owner && held.place.is_none() => Way::Owner { chain },
                Grantee::Role(_) | Grantee::Public => Way::Grant { chain, grantor: grantor.to_owned(), place: held.place, column: None },
            };
            others.push((length, way));
        }
        let predefined = if want == Want::Privilege { everywhere(name.class, privilege) } else { &[] };
        let chains = predefined.iter().filter_map(|role| self.chain(&before, role));
        others.extend(chains.map(|chain| (chain.len(), Way::Predefined { chain })));
        others.sort_by_key(|(length, _)| *length);
        let mut all = vec![first];
        for (_, way) in others {
            if !all.contains(&way) {
                all.push(way);
            }
        }
        all
    }

    /// Returns for each role whose privileges this one has the member by which it comes to it first, on the shortest way.
    fn reached(&self, role: RoleNumber) -> FxHashMap<u32, u32> {
        let mut before = FxHashMap::from_iter([(role.0, role.0)]);
        let mut queue = VecDeque::from([role.0]);
        while let Some(at) = queue.pop_front() {
            for &parent in &self.parents[at as usize] {
                before.entry(parent).or_insert_with(|| {
                    queue.push_back(parent);
                    at
                });
            }
        }
        before
    }

    /// Returns the chain of memberships to a role, if it was reached.
    fn chain(&self, before: &FxHashMap<u32, u32>, role: &str) -> Option<Vec<String>> {
        let mut at = self.role_numbers.get(role)?.0;
        let mut last = *before.get(&at)?;
        let mut chain = vec![self.role_names[at as usize].clone()];
        while last != at {
            at = last;
            last = *before.get(&at)?;
            chain.push(self.role_names[at as usize].clone());
        }
        chain.reverse();
        Some(chain)
    }
}

/// Who holds one privilege on every object.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{Catalog, Privilege, State};
/// let catalog = Catalog::compile(State::fresh("ticketing", "postgres"));
/// let mut row = Default::default();
/// catalog.matrix(Privilege::Usage).row(catalog.role("postgres").expect("there"), &mut row);
/// assert_eq!(row.count_ones(..), catalog.objects().len(), "a superuser holds it on all there is");
/// ```
#[derive(Debug)]
pub struct Matrix<'c> {
    catalog: &'c Catalog,
    public: FixedBitSet,
    groups: Vec<FixedBitSet>,
    direct: FxHashMap<u32, Vec<u32>>,
}

impl Matrix<'_> {
    /// Writes the row of a role into `row`: a bit for each object on which it holds the privilege.
    ///
    /// # Complexity
    /// The objects, 64 at a time, for each role in its closure.
    pub fn row(&self, role: RoleNumber, row: &mut FixedBitSet) {
        row.clone_from(&self.public);
        if self.catalog.superusers.contains(role.0 as usize) {
            row.insert_range(..);
            return;
        }
        for (w, &word) in self.catalog.closures[role.0 as usize].iter().enumerate() {
            let mut rest = word;
            while rest != 0 {
                row.union_with(&self.groups[w * 64 + rest.trailing_zeros() as usize]);
                rest &= rest - 1;
            }
        }
        for &object in self.direct.get(&role.0).into_iter().flatten() {
            row.insert(object as usize);
        }
    }
}

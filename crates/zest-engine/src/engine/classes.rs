//! People whom the rules of a system cannot tell apart: what one of them may do, all may.
//!
//! Two people are alike where changing places would leave the ledger as it is, as far as a decision reads it: they have the same proofs,
//! channels, validity and compared attributes, they are in the same of those groups that the system looks at, and no entry names one of
//! them; or nothing but accounts of database servers of their own names does, which are alike themselves ([`Kind::alike`]) where the
//! system is one of these servers. Whoever must change the credential, or is named in what is asked, stands alone: rules may compare the
//! name.
//!
//! [`Kind::alike`]: super::rules::Kind::alike

use std::hash::Hash;
use std::iter;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use fixedbitset::FixedBitSet;
use jiff::Timestamp;
use rustc_hash::{FxHashMap, FxHashSet};

use super::membership::Groups;
use super::named::{self, Part, Told};
use super::rights::{Action, Rights, Side, Within, rights};
use super::rules::Alike;
use super::{Engine, Site};
use crate::links::{GroupId, Party, SystemId, UserId};
use zest_model::ask::{Act, Session};
use zest_model::entry::{Channel, Proof, User};

/// The people of a ledger, those together who are alike everywhere; made once, for any number of systems.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::Classes};
/// let estate = Ledger::new().document("rota.toml", r#"
/// users.mate-1.proofs = ["password"]
/// users.mate-2.proofs = ["password"]
/// users.cook-1.proofs = ["password"]
/// groups.mates.members = ["user:mate-1", "user:mate-2"]
/// [systems.rota]
/// kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan"]
/// objects."shift/early" = {}
/// grants = [{ allow = ["plan"], on = "shift/*", to = ["group:mates"] }]
/// "#).estate()?;
/// let engine = Engine::compile(estate)?;
/// let (classes, rota) = (Classes::of(&engine), engine.site("rota").expect("it is there"));
/// let on_rota = classes.on(rota, &[], None, &Session::default());
/// assert_eq!(on_rota.iter().flatten().map(|class| class.count).collect::<Vec<_>>(), [2, 1]);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Classes<'e> {
    engine: &'e Engine,
    /// People in the order of their lists.
    people: Vec<UserId>,
    lists: Vec<List>,
    mentions: Mentions,
    /// The actions that patterns take, where they were found.
    found: Mutex<AllFound>,
    /// Which accounts of a system are alike, where that was asked for.
    alike: Mutex<FxHashMap<SystemId, Arc<Twins>>>,
}

/// Which accounts are alike on a system.
#[doc(hidden)]
#[derive(Debug)]
pub struct Twins {
    /// Those that nothing but their names and whose they are tells apart.
    pub lists: Vec<Vec<Alike>>,
    /// Whose own account is alike: the number of the list in which it stands, by the login.
    own: FxHashMap<String, usize>,
}

/// The actions that a pattern takes, or why it cannot be read.
type Found = Result<Vec<Action>, String>;

/// The same of many: by the system, what of somebody they hang on, and the pattern.
type AllFound = FxHashMap<(SystemId, Vec<usize>, String), Arc<Found>>;

/// People who are alike on every system.
#[derive(Debug)]
struct List {
    /// Where they are among all people.
    first: usize,
    count: usize,
    /// The number of what is written of each, but for when they are there.
    own: u32,
    bounds: Bounds,
    /// Those of their groups that any system looks at.
    groups: Groups,
    alone: Alone,
}

/// Where somebody is like nobody else.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Alone {
    Never,
    /// Where a grant that counts names them, or a database server has an account of theirs that is like no other.
    Where {
        granted: bool,
        account: bool,
    },
    Always,
}

/// When somebody is there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
struct Bounds {
    is_disabled: bool,
    from: Option<Timestamp>,
    until: Option<Timestamp>,
}

/// People who are alike on one system.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, review::Classes};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let classes = Classes::of(&engine);
/// let alike = classes.on(engine.site("rota").expect("it is there"), &[], None, &Session::default());
/// let members: usize = alike.iter().flatten().map(|class| classes.members(class).count()).sum();
/// assert_eq!(members, engine.estate().users().len());
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug)]
pub struct Class {
    lists: Vec<u32>,
    bounds: Bounds,
    /// One who stands for all of them.
    pub first: UserId,
    /// How many they are.
    pub count: usize,
}

/// What people may do who are alike.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, review::{Sought, Who}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let who = Who::new(&engine, &["rota"], Sought::Line("plan on shift/early"), &Session::default());
/// let held: Vec<_> = who.parts().iter().flat_map(|part| who.held(part)).collect();
/// assert_eq!((held.len(), held[0].people.len(), held[0].set.user.as_str()), (1, 1, "mate-1"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct OfClass {
    /// Everybody of whom it is so.
    pub people: Vec<UserId>,
    /// The set of the first.
    pub set: Rights,
}

/// Which systems look at a group.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Reach {
    Everywhere,
    On(FixedBitSet),
}

impl Reach {
    fn includes(&self, system: SystemId) -> bool {
        match self {
            Self::Everywhere => true,
            Self::On(systems) => systems.contains(system.index()),
        }
    }
}

/// What decisions read of what is written of a user.
#[derive(PartialEq, Eq, Hash)]
struct Own<'e> {
    proofs: Vec<Proof>,
    channels: Option<Vec<Channel>>,
    attributes: Vec<(&'e str, &'e str)>,
}

impl<'e> Own<'e> {
    fn of(user: &'e User, compared: &FxHashMap<&str, bool>) -> (Self, Bounds) {
        let User {
            id: _,
            name: _,
            remark: _,
            // Of the path, of the kind of user and of what is recorded of the credential no decision depends.
            path: _,
            kind: _,
            credential_set: _,
            credential_length: _,
            proofs,
            channels,
            disabled,
            from,
            until,
            // Whoever must change it stands alone.
            must_change_credential: _,
            attributes,
            more: _,
        } = user;
        let is_compared = |name: &str| compared.get(name).copied().unwrap_or_default();
        let bounds = Bounds {
            is_disabled: disabled.as_ref().is_some_and(|disabled| disabled.value),
            from: from.as_ref().map(|from| from.value),
            until: until.as_ref().map(|until| until.value),
        };
        let own = Self {
            proofs: proofs.iter().map(|proof| proof.value).collect(),
            channels: channels.as_ref().map(|list| list.iter().map(|channel| channel.value).collect()),
            attributes: attributes
                .iter()
                .filter(|(name, _)| is_compared(&name.value))
                .map(|(name, value)| (name.value.as_str(), value.value.as_str()))
                .collect(),
        };
        (own, bounds)
    }
}

/// What the entries of a ledger say of people beside memberships.
#[derive(Debug, Default)]
struct Mentions {
    /// Users who are named, and names of accounts, without case.
    names: FxHashSet<String>,
    /// Names of accounts of database servers, without case, and where they are.
    accounts: FxHashMap<String, Reach>,
    /// Users for whom grants of clouds and applications are.
    granted: FxHashSet<String>,
    groups: FxHashMap<GroupId, Reach>,
    /// Groups for whom grants of clouds and applications are.
    groups_granted: FxHashMap<GroupId, Reach>,
    comparisons: Vec<String>,
}

impl Mentions {
    fn of(engine: &Engine) -> Self {
        let estate = &engine.estate;
        let mut all = Self::default();
        named::each(estate, &mut |told, place| match told {
            Told::Party { who, part } => {
                let (names, groups) = match part {
                    // Who owns a group says nothing of what the owner may do on a system; assignments are looked at below.
                    Part::Member | Part::Owner => return,
                    Part::Granted => (&mut all.granted, &mut all.groups_granted),
                    Part::Assigned | Part::Agrees | Part::ActedAs | Part::Other => (&mut all.names, &mut all.groups),
                };
                match who.value.split_once(':') {
                    Some(("user", name)) => drop(names.insert(folded(name).into_owned())),
                    Some(("group", name)) if part != Part::Assigned => {
                        let system = place.system.and_then(|name| estate.names.systems.get(name));
                        if let Some(&group) = estate.names.groups.get(name) {
                            looked_at(groups, group, system.copied().map(iter::once), estate.systems.len());
                        }
                    }
                    _ => {}
                }
            }
            Told::Login { login, .. } => {
                let system = place.system.and_then(|name| estate.names.systems.get(name)).copied();
                let name = folded(&login).into_owned();
                match system.filter(|system| estate.system(*system).kind().is_database()) {
                    Some(system) => looked_at(&mut all.accounts, name, Some(iter::once(system)), estate.systems.len()),
                    None => drop(all.names.insert(name)),
                }
            }
            Told::Compares(text) => all.comparisons.push(text.value.clone()),
        });
        // Where duties are separated, what somebody holds on one system may count on another.
        let is_apart = !estate.separation_links().is_empty();
        for links in estate.assignments.iter() {
            for &(party, _) in &links.to {
                if let Party::Group(group) = party {
                    let systems = links.systems.ones().map(SystemId::new);
                    looked_at(&mut all.groups, group, (!is_apart).then_some(systems), estate.systems.len());
                }
            }
        }
        all
    }

    /// Returns whether anything but memberships speaks of a group.
    fn speaks_of(&self, group: GroupId) -> bool {
        self.groups.contains_key(&group) || self.groups_granted.contains_key(&group)
    }
}

/// Notes that some systems, or all of them, look at something.
fn looked_at<K: Eq + Hash>(known: &mut FxHashMap<K, Reach>, what: K, systems: Option<impl Iterator<Item = SystemId>>, count: usize) {
    let reach = known.entry(what).or_insert_with(|| Reach::On(FixedBitSet::with_capacity(count)));
    match (systems, reach) {
        (None, reach) => *reach = Reach::Everywhere,
        (Some(_), Reach::Everywhere) => {}
        (Some(systems), Reach::On(known)) => systems.for_each(|system| known.insert(system.index())),
    }
}

/// Returns a name without upper case.
fn folded(name: &str) -> std::borrow::Cow<'_, str> {
    if name.chars().any(char::is_uppercase) { name.to_lowercase().into() } else { name.into() }
}

impl<'e> Classes<'e> {
    /// Puts the people together who are alike.
    #[must_use]
    pub fn of(engine: &'e Engine) -> Self {
        let mentions = Mentions::of(engine);
        let Mentions { names, accounts, granted, groups: _, groups_granted: _, comparisons } = &mentions;
        // A comparison of ids tells everybody apart.
        let is_by_id = comparisons.iter().any(|text| text.contains("user.id"));
        let users = &engine.estate.entries.users;
        let mut compared: FxHashMap<&str, bool> = FxHashMap::default();
        for (name, _) in users.iter().flat_map(|user| &user.attributes) {
            compared.entry(&name.value).or_insert_with(|| comparisons.iter().any(|text| text.contains(name.value.as_str())));
        }
        let mut owns: FxHashMap<Own<'_>, u32> = FxHashMap::default();
        let mut known: FxHashMap<(u32, Bounds, Groups), usize> = FxHashMap::default();
        let mut lists: Vec<List> = Vec::new();
        let mut list_of: Vec<usize> = Vec::with_capacity(users.len());
        for (number, user) in users.iter().enumerate() {
            let next = owns.len() as u32;
            let (own, bounds) = Own::of(user, &compared);
            let own = *owns.entry(own).or_insert(next);
            let held = engine.membership.groups_of(UserId::new(number));
            let groups: Groups = held.iter().copied().filter(|&group| mentions.speaks_of(group)).collect();
            let must_change = user.must_change_credential.as_ref().is_some_and(|must| must.value);
            let name = folded(&user.id.value);
            let alone = match (granted.contains(&*name), accounts.contains_key(&*name)) {
                _ if is_by_id || must_change || names.contains(&*name) => Alone::Always,
                (false, false) => Alone::Never,
                (granted, account) => Alone::Where { granted, account },
            };
            let at = lists.len();
            let list = if alone == Alone::Never { *known.entry((own, bounds, groups.clone())).or_insert(at) } else { at };
            if list == at {
                lists.push(List { first: 0, count: 0, own, bounds, groups, alone });
            }
            lists[list].count += 1;
            list_of.push(list);
        }
        let mut first = 0;
        for list in &mut lists {
            (list.first, first) = (first, first + list.count);
        }
        let mut next: Vec<usize> = lists.iter().map(|list| list.first).collect();
        let mut people = vec![UserId::new(0); users.len()];
        for (number, list) in list_of.into_iter().enumerate() {
            people[next[list]] = UserId::new(number);
            next[list] += 1;
        }
        Self { engine, people, lists, mentions, found: Mutex::default(), alike: Mutex::default() }
    }

    /// Returns the people who are alike on every system but for when they are there, those first who always are; who is named in what is
    /// asked does not count here.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, review::Classes};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// assert_eq!(Classes::of(&engine).everywhere().len(), 2, "a grant names one of the two");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn everywhere(&self) -> Vec<Vec<UserId>> {
        let mut known: FxHashMap<(u32, &Groups), usize> = FxHashMap::default();
        let mut all: Vec<Vec<&List>> = Vec::new();
        for list in &self.lists {
            let at = if list.alone == Alone::Never { *known.entry((list.own, &list.groups)).or_insert(all.len()) } else { all.len() };
            match all.get_mut(at) {
                None => all.push(vec![list]),
                Some(lists) => lists.push(list),
            }
        }
        let one = |mut lists: Vec<&List>| {
            lists.sort_by_key(|list| list.bounds);
            lists.iter().flat_map(|list| self.people[list.first..][..list.count].iter().copied()).collect()
        };
        all.into_iter().map(one).collect()
    }

    /// Returns the people of a system, those together whom it cannot tell apart where something is asked: whoever is named in a text of
    /// the question, or in a session, stands alone. Where the actions are the same for everybody, and known, fewer are told apart.
    ///
    /// Classes that differ in nothing but when people are there come together, those first who always are; a list is in the order of its
    /// first members.
    #[must_use]
    pub fn on(&self, site: Site<'_>, texts: &[&str], actions: Option<&[Action]>, session: &Session) -> Vec<Vec<Class>> {
        let system = site.system();
        let asked = named_in(texts, session);
        let is_asked = |user: UserId| {
            let id = folded(&self.engine.estate.user(user).id.value);
            asked.iter().any(|text| text.contains(&*id))
        };
        let Mentions { groups, groups_granted, .. } = &self.mentions;
        // On the way over a host, what that host looks at counts as well.
        let is_from_host = session.acting.iter().any(|act| matches!(act, Act::Account { host: Some(_), .. }));
        let granted = actions.filter(|_| !is_from_host).and_then(|actions| site.kind().granted(site, actions));
        let is_looked_at = |group: GroupId| {
            let is_in = |groups: &FxHashMap<GroupId, Reach>| groups.get(&group).is_some_and(|reach| is_from_host || reach.includes(system));
            is_in(groups) || is_in(groups_granted) && granted.as_ref().is_none_or(|granted| granted.contains(&Party::Group(group)))
        };
        let is_by_name = texts.iter().any(|text| site.kind().tells_apart_by_name(text));
        let twins = self.twins(site);
        // The list in which somebody's own account stands there; nothing for one that is like no other.
        let account_of = |user: UserId| {
            let id = &self.engine.estate.user(user).id.value;
            let is_there = self.mentions.accounts.get(&*folded(id)).is_some_and(|reach| reach.includes(system));
            if is_there { twins.own.get(id).map(|number| Some(*number)) } else { Some(None) }
        };
        let mut known: FxHashMap<(u32, Groups, Option<usize>), usize> = FxHashMap::default();
        let mut all: Vec<Vec<Class>> = Vec::new();
        for (number, list) in self.lists.iter().enumerate() {
            let people = &self.people[list.first..][..list.count];
            let is_granted = |user| granted.as_ref().is_none_or(|granted| granted.contains(&Party::User(user)));
            let account = match list.alone {
                Alone::Never => Some(None),
                Alone::Always => None,
                Alone::Where { granted: true, .. } if is_granted(people[0]) => None,
                // What a host on the way looks at is looked at there.
                Alone::Where { account: true, .. } if is_from_host => None,
                Alone::Where { account: true, .. } => account_of(people[0]),
                Alone::Where { .. } => Some(None),
            };
            let is_alone = account.is_none();
            if is_alone || is_by_name || !asked.is_empty() && people.iter().any(|&user| is_asked(user)) {
                let one = |&user: &UserId| vec![Class { lists: Vec::new(), bounds: list.bounds, first: user, count: 1 }];
                all.extend(people.iter().map(one));
                continue;
            }
            let groups = list.groups.iter().copied().filter(|&group| is_looked_at(group));
            let at = *known.entry((list.own, groups.collect(), account.flatten())).or_insert(all.len());
            let new = Class { lists: vec![number as u32], bounds: list.bounds, first: people[0], count: list.count };
            match all.get_mut(at) {
                None => all.push(vec![new]),
                Some(classes) => classes.push(new),
            }
        }
        for classes in &mut all {
            classes.sort_by_key(|class| class.bounds);
            classes.dedup_by(|next, before| {
                let is_one = next.bounds == before.bounds;
                if is_one {
                    before.lists.append(&mut next.lists);
                    before.count += next.count;
                }
                is_one
            });
        }
        all.sort_unstable_by_key(|classes| classes.first().map(|class| class.first));
        all
    }

    /// Returns which accounts are alike on a system; found once.
    #[doc(hidden)]
    #[must_use]
    pub fn twins(&self, site: Site<'_>) -> Arc<Twins> {
        let mut known = self.alike.lock().unwrap_or_else(PoisonError::into_inner);
        let find = || {
            let lists = site.kind().alike(site);
            // Whoever else may use one has a say in it by name.
            let of_list = |(number, list): (usize, &Vec<Alike>)| {
                let own = list.iter().filter(|alike| !alike.is_lent);
                own.map(|alike| (alike.login.clone(), number)).collect::<Vec<_>>()
            };
            let own = lists.iter().enumerate().flat_map(of_list).collect();
            Arc::new(Twins { lists, own })
        };
        Arc::clone(known.entry(site.system()).or_insert_with(find))
    }

    /// Returns whether a decision on a system may hang on who is in a group: an assignment, a grant or any other entry that it reads names
    /// the group.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, review::Classes};
    /// let engine = Ledger::new().document("rota.toml", r#"
    /// users.mate-1 = {}
    /// groups.mates.members = ["user:mate-1"]
    /// groups.cooks.members = ["user:mate-1"]
    /// systems.rota.kind = "application"
    /// [applications.rota]
    /// types.shift.rights = ["plan"]
    /// objects."shift/early" = {}
    /// grants = [{ allow = ["plan"], on = "shift/*", to = ["group:mates"] }]
    /// "#).engine(1)?;
    /// let (classes, rota) = (Classes::of(&engine), engine.site("rota").expect("it is there"));
    /// let group = |name| engine.find_group(name).expect("it is there");
    /// assert!(classes.hears_of(rota, group("mates")) && !classes.hears_of(rota, group("cooks")));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn hears_of(&self, site: Site<'_>, group: GroupId) -> bool {
        let Mentions { groups, groups_granted, .. } = &self.mentions;
        let is_in = |groups: &FxHashMap<GroupId, Reach>| groups.get(&group).is_some_and(|reach| reach.includes(site.system()));
        is_in(groups) || is_in(groups_granted)
    }

    /// Finds the actions that a pattern takes for somebody; once for all for whom they are the same.
    ///
    /// # Errors
    /// Why the pattern cannot be read.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, review::Classes, rights::Side};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let site = engine.site("rota").expect("it is there");
    /// let side = Side { site, user: engine.find_user("mate-1", false).expect("it is a user") };
    /// let found = Classes::of(&engine).like(&side, "plan on shift/*");
    /// assert_eq!(found.as_ref().as_ref().map(Vec::len), Ok(1));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub fn like(&self, side: &Side<'_>, pattern: &str) -> Arc<Result<Vec<Action>, String>> {
        let key = (side.site.system(), side.site.kind().found_by(side, pattern), pattern.to_owned());
        if let Some(found) = self.found().get(&key) {
            return Arc::clone(found);
        }
        let found = Arc::new(side.site.kind().like(&[*side], pattern));
        self.found().insert(key, Arc::clone(&found));
        found
    }

    fn found(&self) -> MutexGuard<'_, AllFound> {
        self.found.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Finds the actions that patterns take for everybody on a system; nothing where they are not the same for all.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, review::Classes};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let rota = engine.site("rota").expect("it is there");
    /// let found = Classes::of(&engine).common(rota, &["plan on shift/*", "drop on shift/*"]).expect("an application has them for all");
    /// assert_eq!(found.len(), 2);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn common(&self, site: Site<'_>, patterns: &[&str]) -> Option<Vec<Action>> {
        let side = Side { site, user: *self.people.first()? };
        let mut all = Vec::new();
        for pattern in patterns {
            site.kind().found_by(&side, pattern).is_empty().then_some(())?;
            all.extend(self.like(&side, pattern).as_ref().as_ref().ok()?.iter().cloned());
        }
        Some(all)
    }

    /// Finds what people may do on their system, of the actions that are wanted of each; once for all whom none of these tells apart.
    ///
    /// They are those of one class, or of several that differ in nothing but when they are there: where those who always are may nothing,
    /// and no limit was met, nobody else of these may, and they are not looked at.
    #[must_use]
    pub fn rights(&self, site: Site<'_>, kin: &[Class], mut wanted: impl FnMut(&Side<'_>) -> Vec<Action>, within: &Within) -> Vec<OfClass> {
        let mut found = Vec::new();
        for class in kin {
            let first = Side { site, user: class.first };
            let actions = wanted(&first);
            if class.count > 1 && actions.iter().any(|action| site.kind().tells_apart_by_name(&action.line)) {
                let sides = self.members(class).map(|user| Side { site, user });
                found.extend(
                    sides.filter_map(|side| Some(OfClass { people: vec![side.user], set: of_actions(side, wanted(&side), within)? })),
                );
                continue;
            }
            let set = of_actions(first, actions, within);
            let is_nothing = set.as_ref().is_none_or(|set| set.is_empty() && set.limits().is_empty());
            found.extend(set.map(|set| OfClass { people: self.members(class).collect(), set }));
            if is_nothing && class.bounds == Bounds::default() {
                break;
            }
        }
        found
    }

    /// Returns everybody of a class.
    pub fn members<'c>(&'c self, class: &'c Class) -> impl Iterator<Item = UserId> + 'c {
        let lists = class.lists.iter().map(|&number| &self.lists[number as usize]);
        let alone = class.lists.is_empty().then_some(class.first);
        lists.flat_map(|list| self.people[list.first..][..list.count].iter().copied()).chain(alone)
    }
}

/// Finds what somebody may do of some actions; nothing where there are none.
fn of_actions(side: Side<'_>, actions: Vec<Action>, within: &Within) -> Option<Rights> {
    if actions.is_empty() { None } else { rights(&[side], &Within { actions, ..within.clone() }).pop() }
}

/// Returns the texts in which somebody could be named, without case.
#[must_use]
pub fn named_in(texts: &[&str], session: &Session) -> Vec<String> {
    let of_acts = session.acting.iter().map(|act| match act {
        Act::User(name) | Act::Account { login: name, .. } | Act::Role { name, .. } => name.as_str(),
    });
    let of_session = session.account.iter().chain(&session.approved_by).map(String::as_str);
    let of_attributes = session.attributes.iter().map(|(_, value)| value.as_str());
    texts.iter().copied().chain(of_session).chain(of_acts).chain(of_attributes).map(str::to_lowercase).collect()
}

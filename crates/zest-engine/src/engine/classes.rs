//! People whom the rules of a system cannot tell apart: what one of them may do, all may.
//!
//! Two people are alike where changing places would leave the ledger as it is, as far as a decision reads it: they have the same proofs,
//! channels, validity and compared attributes, they are in the same of those groups that the system looks at, and no entry names one of
//! them. Whoever must change the credential, or is named in what is asked, stands alone: rules may compare the name.

use std::iter;

use fixedbitset::FixedBitSet;
use jiff::Timestamp;
use rustc_hash::{FxHashMap, FxHashSet};

use super::membership::Groups;
use super::named::{self, Part, Told};
use super::rights::{Action, Rights, Side, Within, rights};
use super::{Engine, Site};
use crate::links::{GroupId, Party, SystemId, UserId};
use zest_model::ask::{Act, Session};
use zest_model::entry::{Channel, Proof, User};

/// The people of a ledger, those together who are alike everywhere; made once, for any number of systems.
#[derive(Debug)]
pub struct Classes<'e> {
    engine: &'e Engine,
    /// People in the order of their lists.
    people: Vec<UserId>,
    lists: Vec<List>,
    reach: FxHashMap<GroupId, Reach>,
}

/// People who are alike on every system.
#[derive(Debug)]
struct List {
    /// Where they are among all people.
    first: usize,
    count: usize,
    /// The number of what is written of each.
    own: u32,
    /// Those of their groups that any system looks at.
    groups: Groups,
    /// Whether it is somebody who is like nobody else.
    is_alone: bool,
}

/// People who are alike on one system.
#[derive(Clone, Debug)]
pub struct Class {
    lists: Vec<u32>,
    /// One who stands for all of them.
    pub first: UserId,
    /// How many they are.
    pub count: usize,
}

/// What people may do who are alike.
#[derive(Debug)]
pub struct Alike {
    /// Everybody of whom it is so, in the order of the ledger but for those who come by other groups.
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
    is_disabled: bool,
    from: Option<Timestamp>,
    until: Option<Timestamp>,
    attributes: Vec<(&'e str, &'e str)>,
}

impl<'e> Own<'e> {
    fn of(user: &'e User, compared: &FxHashMap<&str, bool>) -> Self {
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
        Self {
            proofs: proofs.iter().map(|proof| proof.value).collect(),
            channels: channels.as_ref().map(|list| list.iter().map(|channel| channel.value).collect()),
            is_disabled: disabled.as_ref().is_some_and(|disabled| disabled.value),
            from: from.as_ref().map(|from| from.value),
            until: until.as_ref().map(|until| until.value),
            attributes: attributes
                .iter()
                .filter(|(name, _)| is_compared(&name.value))
                .map(|(name, value)| (name.value.as_str(), value.value.as_str()))
                .collect(),
        }
    }
}

/// What the entries of a ledger say of people beside memberships.
#[derive(Default)]
struct Mentions {
    /// Users who are named, and names of accounts, without case.
    names: FxHashSet<String>,
    groups: FxHashMap<GroupId, Reach>,
    comparisons: Vec<String>,
}

impl Mentions {
    fn of(engine: &Engine) -> Self {
        let estate = &engine.estate;
        let mut all = Self::default();
        named::each(estate, &mut |told, place| match told {
            // Who owns a group says nothing of what the owner may do on a system.
            Told::Party { part: Part::Member | Part::Owner, .. } => {}
            Told::Party { who, part: Part::Assigned | Part::Other } => match who.value.split_once(':') {
                Some(("user", name)) => drop(all.names.insert(folded(name).into_owned())),
                Some(("group", _)) if matches!(told, Told::Party { part: Part::Assigned, .. }) => {}
                Some(("group", name)) => {
                    let system = place.system.and_then(|name| estate.names.systems.get(name));
                    if let Some(&group) = estate.names.groups.get(name) {
                        all.looked_at(group, system.copied().map(iter::once), estate.systems.len());
                    }
                }
                _ => {}
            },
            Told::Login { login, .. } => drop(all.names.insert(folded(&login).into_owned())),
            Told::Compares(text) => all.comparisons.push(text.value.clone()),
        });
        // Where duties are separated, what somebody holds on one system may count on another.
        let is_apart = !estate.separation_links().is_empty();
        for links in estate.assignments.iter() {
            for &(party, _) in &links.to {
                if let Party::Group(group) = party {
                    let systems = links.systems.ones().map(SystemId::new);
                    all.looked_at(group, (!is_apart).then_some(systems), estate.systems.len());
                }
            }
        }
        all
    }

    fn looked_at(&mut self, group: GroupId, systems: Option<impl Iterator<Item = SystemId>>, count: usize) {
        let reach = self.groups.entry(group).or_insert_with(|| Reach::On(FixedBitSet::with_capacity(count)));
        match (systems, reach) {
            (None, reach) => *reach = Reach::Everywhere,
            (Some(_), Reach::Everywhere) => {}
            (Some(systems), Reach::On(known)) => systems.for_each(|system| known.insert(system.index())),
        }
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
        let Mentions { names, groups: reach, comparisons } = Mentions::of(engine);
        // A comparison of ids tells everybody apart.
        let is_by_id = comparisons.iter().any(|text| text.contains("user.id"));
        let users = &engine.estate.entries.users;
        let mut compared: FxHashMap<&str, bool> = FxHashMap::default();
        for (name, _) in users.iter().flat_map(|user| &user.attributes) {
            compared.entry(&name.value).or_insert_with(|| comparisons.iter().any(|text| text.contains(name.value.as_str())));
        }
        let mut owns: FxHashMap<Own<'_>, u32> = FxHashMap::default();
        let mut known: FxHashMap<(u32, Groups), usize> = FxHashMap::default();
        let mut lists: Vec<List> = Vec::new();
        let mut list_of: Vec<usize> = Vec::with_capacity(users.len());
        for (number, user) in users.iter().enumerate() {
            let next = owns.len() as u32;
            let own = *owns.entry(Own::of(user, &compared)).or_insert(next);
            let held = engine.membership.groups_of(UserId::new(number));
            let groups: Groups = held.iter().copied().filter(|group| reach.contains_key(group)).collect();
            let must_change = user.must_change_credential.as_ref().is_some_and(|must| must.value);
            let is_alone = is_by_id || must_change || names.contains(&*folded(&user.id.value));
            let at = lists.len();
            let list = if is_alone { at } else { *known.entry((own, groups.clone())).or_insert(at) };
            if list == at {
                lists.push(List { first: 0, count: 0, own, groups, is_alone });
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
        Self { engine, people, lists, reach }
    }

    /// Returns the people of a system, those together whom it cannot tell apart where something is asked: whoever is named in a text of
    /// the question, or in a session, stands alone. The classes are in the order of their first members.
    #[must_use]
    pub fn on(&self, site: Site<'_>, texts: &[&str], session: &Session) -> Vec<Class> {
        let system = site.system();
        let asked = named_in(texts, session);
        let is_asked = |user: UserId| {
            let id = folded(&self.engine.estate.user(user).id.value);
            asked.iter().any(|text| text.contains(&*id))
        };
        // On the way over a host, what that host looks at counts as well.
        let is_from_host = session.acting.iter().any(|act| matches!(act, Act::Account { host: Some(_), .. }));
        let is_by_name = texts.iter().any(|text| site.kind().tells_apart_by_name(text));
        let mut known: FxHashMap<(u32, Groups), usize> = FxHashMap::default();
        let mut classes: Vec<Class> = Vec::new();
        let one = |user: UserId| Class { lists: Vec::new(), first: user, count: 1 };
        for (number, list) in self.lists.iter().enumerate() {
            let people = &self.people[list.first..][..list.count];
            if list.is_alone || is_by_name || !asked.is_empty() && people.iter().any(|&user| is_asked(user)) {
                classes.extend(people.iter().copied().map(one));
                continue;
            }
            let is_looked_at = |group: &GroupId| is_from_host || self.reach.get(group).is_some_and(|reach| reach.includes(system));
            let groups = list.groups.iter().copied().filter(is_looked_at);
            let at = *known.entry((list.own, groups.collect())).or_insert(classes.len());
            match classes.get_mut(at) {
                Some(class) => {
                    class.lists.push(number as u32);
                    class.count += list.count;
                }
                None => classes.push(Class { lists: vec![number as u32], first: people[0], count: list.count }),
            }
        }
        classes.sort_unstable_by_key(|class| class.first);
        classes
    }

    /// Finds what the people of a class may do on their system, of the actions that are wanted of the first of them; once for all whom
    /// none of these tells apart.
    #[must_use]
    pub fn rights(&self, site: Site<'_>, class: &Class, mut wanted: impl FnMut(&Side<'_>) -> Vec<Action>, within: &Within) -> Vec<Alike> {
        let mut of = |user: UserId| {
            let side = Side { site, user };
            let actions = wanted(&side);
            let is_by_name = class.count > 1 && actions.iter().any(|action| site.kind().tells_apart_by_name(&action.line));
            let set = if actions.is_empty() { None } else { rights(&[side], &Within { actions, ..within.clone() }).pop() };
            (is_by_name, set)
        };
        match of(class.first) {
            (true, _) => self.members(class).filter_map(|user| Some(Alike { people: vec![user], set: of(user).1? })).collect(),
            (false, set) => set.into_iter().map(|set| Alike { people: self.members(class).collect(), set }).collect(),
        }
    }

    /// Returns everybody of a class.
    pub fn members<'c>(&'c self, class: &'c Class) -> impl Iterator<Item = UserId> + 'c {
        let lists = class.lists.iter().map(|&number| &self.lists[number as usize]);
        let alone = class.lists.is_empty().then_some(class.first);
        lists.flat_map(|list| self.people[list.first..][..list.count].iter().copied()).chain(alone)
    }
}

/// Returns the texts in which somebody could be named, without case.
fn named_in(texts: &[&str], session: &Session) -> Vec<String> {
    let of_acts = session.acting.iter().map(|act| match act {
        Act::User(name) | Act::Account { login: name, .. } | Act::Role { name, .. } => name.as_str(),
    });
    let of_session = session.account.iter().chain(&session.approved_by).map(String::as_str);
    let of_attributes = session.attributes.iter().map(|(_, value)| value.as_str());
    texts.iter().copied().chain(of_session).chain(of_acts).chain(of_attributes).map(str::to_lowercase).collect()
}

//! On which systems, and for whom, entries that differ can change a decision.
//!
//! A decision about somebody reads what is written of that person and of the system, the groups and assignments that reach the person,
//! and what these name. What is written of others it reads in few places, by name or by a group: who agrees as second person, as whom
//! somebody acts, and whose the accounts of a host are. An entry that differs is followed to all of these. Entries are compared by what
//! they say, not by where they stand.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};
use zest_engine::Engine;
use zest_engine::links::{AssignmentLinks, GroupId, Party, RoleId, SystemId, UserId};
use zest_engine::named::{self, Part, Told};
use zest_model::ask::Session;
use zest_model::entries::{Entries, OutsideEntry};
use zest_model::entry::{Account, Host, HostAccount, Kind, Role, Rule, RuleVerb, RunAs, Service, System};
use zest_model::same::Same;
use zest_model::source::{At, Place};
use zest_model::table::Table;

/// On which systems, and for whom there, anything can differ between two ledgers.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, review::touched};
/// let people = "users.mate-1.proofs = ['password']\nusers.mate-2.proofs = ['password']\n";
/// let rota = "systems.rota.kind = 'application'\napplications.rota.types.shift.rights = ['plan']\n";
/// let of = |people: &str| Ledger::new().document("people.toml", people).document("rota.toml", rota).engine(1);
/// let (before, after) = (of(people)?, of(&people.replacen("'password'", "'key'", 1))?);
/// let touched = touched(&before, &after, &Session::default());
/// assert!(touched.includes("rota") && touched.concerns("rota", "mate-1") && !touched.concerns("rota", "mate-2"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Touched(
    /// By system; nothing where anything can differ everywhere.
    Option<BTreeMap<String, Whom>>,
);

/// For whom anything can differ on a system.
///
/// # Example
/// ```
/// use zest_ledger::review::{Touched, Whom};
/// assert_eq!(Touched::everything().on("rota"), Some(&Whom::Everybody));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Whom {
    /// For everybody.
    Everybody,
    /// For these alone, by their ids.
    Only(BTreeSet<String>),
}

impl Touched {
    /// Returns that anything can differ, everywhere and for everybody.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::review::Touched;
    /// assert!(Touched::everything().concerns("rota", "mate-1"));
    /// ```
    #[must_use]
    pub const fn everything() -> Self {
        Self(None)
    }

    /// Returns for whom anything can differ on a system, which is nobody where it is no right; nothing where nothing can differ there.
    #[must_use]
    pub fn on(&self, system: &str) -> Option<&Whom> {
        match &self.0 {
            None => Some(&Whom::Everybody),
            Some(systems) => systems.get(system),
        }
    }

    /// Returns whether anything can differ on a system.
    #[must_use]
    pub fn includes(&self, system: &str) -> bool {
        self.on(system).is_some()
    }

    /// Returns whether anything can differ for somebody on a system.
    #[must_use]
    pub fn concerns(&self, system: &str, user: &str) -> bool {
        self.on(system).is_some_and(|whom| whom.includes(user))
    }
}

impl Whom {
    /// Returns whether somebody is among them.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::review::Whom;
    /// let mate = Whom::Only(["mate-1".to_owned()].into());
    /// assert!(mate.includes("mate-1") && !mate.includes("mate-2") && Whom::Everybody.includes("mate-2"));
    /// ```
    #[must_use]
    pub fn includes(&self, user: &str) -> bool {
        match self {
            Self::Everybody => true,
            Self::Only(people) => people.contains(user),
        }
    }
}

/// Returns on which systems, and for whom there, anything can differ between two ledgers, in sessions of which some facts are stated.
///
/// What is not among it does not differ; what is may be the same all the same. Of database servers that is said of all that can be listed, as
/// privileges and ownership: a statement that goes through a view or routine of somebody else may be answered otherwise for others too.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, review::touched};
/// let text = "users.mate-1.proofs = ['password']\nsystems.rota.kind = 'application'\napplications.rota.types.shift.rights = ['plan']\n";
/// let of = |text: &str| Ledger::new().document("rota.toml", text).engine(1);
/// let (before, remarked) = (of(text)?, of(&format!("# A remark.\n{text}"))?);
/// assert!(!touched(&before, &remarked, &Session::default()).includes("rota"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn touched(before: &Engine, after: &Engine, session: &Session) -> Touched {
    let mut search = Search { sides: [before, after], found: BTreeMap::new(), cells: Vec::new() };
    let Some(()) = search.all() else { return Touched::everything() };
    // Whoever acts as another, or over a host, is decided about by what is written of those as well.
    let is_of_others = !session.acting.is_empty() || session.approved_by.is_some();
    let found = search.found();
    if is_of_others && !found.is_empty() { Touched::everything() } else { Touched(Some(found)) }
}

/// Two ledgers, and what was found to differ so far.
struct Search<'e> {
    sides: [&'e Engine; 2],
    /// Systems on which anything can differ for everybody, and those on which it can for some.
    found: BTreeMap<&'e str, Of<'e>>,
    /// People for whom something differs, and the systems on which it does for these.
    cells: Vec<[BTreeSet<&'e str>; 2]>,
}

enum Of<'e> {
    Everybody,
    Only(BTreeSet<&'e str>),
}

/// On which systems it counts what assignments give.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Scope<'s, 'e> {
    /// On those that each covers.
    Covered,
    /// On those of some that each covers, and where lines are typed.
    Lines(&'s BTreeSet<&'e str>),
    /// On all.
    Everywhere,
}

/// What differs of a table: the ids of entries that are not the same, and of those the ones that are in one ledger alone.
struct Differing<'e> {
    ids: BTreeSet<&'e str>,
    alone: BTreeSet<&'e str>,
}

impl<'e> Search<'e> {
    /// Follows every entry that differs; nothing where it may be about any system and anybody.
    fn all(&mut self) -> Option<()> {
        let [before, after] = self.sides.map(|side| side.estate().entries());
        let Entries {
            users,
            groups,
            origins,
            systems,
            vocabularies,
            command_sets,
            roles,
            assignments: _,
            databases,
            services,
            hosts,
            separations,
            // No decision reads them.
            credential_rules: _,
            sessions: _,
            expectations: _,
            promises: _,
            meant_ways: _,
            interfaces,
            outside: _,
        } = before;
        (rows(origins, &after.origins) && rows(separations, &after.separations)).then_some(())?;
        let systems = differing(systems, &after.systems, |entry| &entry.id.value);
        let databases = differing(databases, &after.databases, |entry| &entry.system.value);
        let services = differing(services, &after.services, |entry| &entry.system.value);
        self.services(&services);
        let hosts = differing(hosts, &after.hosts, |entry| &entry.system.value);
        for of in [&systems, &hosts] {
            of.ids.iter().for_each(|system| self.everybody_on(system));
        }
        databases.ids.into_iter().filter(|system| !systems.ids.contains(system)).for_each(|system| self.database(system));
        self.interfaces(&differing(interfaces, &after.interfaces, |entry| &entry.name));
        let users = differing(users, &after.users, |entry| &entry.id.value);
        let groups = differing(groups, &after.groups, |entry| &entry.id.value);
        let vocabularies = differing(vocabularies, &after.vocabularies, |entry| &entry.id.value);
        let command_sets = differing(command_sets, &after.command_sets, |entry| &entry.id.value);
        let roles = differing(roles, &after.roles, |entry| &entry.id.value);
        // Applications may have operations on entries of the ledger itself.
        if [&users, &groups, &command_sets, &roles].iter().any(|of| !of.alone.is_empty()) {
            self.everybody_on_services();
        }
        self.users(users);
        self.groups(&groups);
        self.vocabularies(&vocabularies);
        self.command_sets(&command_sets);
        self.roles(&roles);
        self.assignments();
        self.others();
        self.outside();
        Some(())
    }

    fn systems(&self) -> BTreeSet<(&'e str, Kind)> {
        let of = |side: &'e Engine| side.all_sites().map(|site| (site.entry().id.value.as_str(), site.entry().kind()));
        self.sides.into_iter().flat_map(of).collect()
    }

    fn names(&self) -> BTreeSet<&'e str> {
        self.systems().into_iter().map(|(system, _)| system).collect()
    }

    fn everybody_on(&mut self, system: &'e str) {
        self.found.insert(system, Of::Everybody);
    }

    fn everybody_on_services(&mut self) {
        self.systems().into_iter().filter(|(_, kind)| kind.is_service()).for_each(|(system, _)| self.everybody_on(system));
    }

    /// Notes that something differs for some people on some systems.
    fn people_on(&mut self, people: BTreeSet<&'e str>, systems: BTreeSet<&'e str>) {
        if people.is_empty() {
            return;
        }
        let is_most = people.len() * 2 > self.sides[1].estate().users().len();
        for &system in &systems {
            match self.found.entry(system).or_insert_with(|| Of::Only(BTreeSet::new())) {
                Of::Everybody => {}
                Of::Only(_) if is_most => drop(self.found.insert(system, Of::Everybody)),
                Of::Only(known) => known.extend(&people),
            }
        }
        self.cells.push([people, systems]);
    }

    fn users(&mut self, users: Differing<'e>) {
        let systems = self.names();
        self.people_on(users.ids, systems);
    }

    /// Whoever is in another set of groups than before. Of a group no decision reads more than who is in it.
    fn groups(&mut self, groups: &Differing<'e>) {
        let mut members: BTreeSet<&str> = BTreeSet::new();
        for side in self.sides {
            let of_group = |name: &&str| side.find_group(name).map(Party::Group);
            members.extend(side.members(groups.ids.iter().filter_map(of_group).collect()).map(|user| name_of(side, user)));
        }
        let held = |side: &'e Engine, name: &str| -> Option<BTreeSet<&str>> {
            let user = side.find_user(name, false)?;
            Some(side.membership().groups_of(user).iter().map(|&group| side.estate().group(group).id.value.as_str()).collect())
        };
        let [before, after] = self.sides;
        members.retain(|name| held(before, name) != held(after, name));
        let systems = self.names();
        self.people_on(members, systems);
    }

    fn interfaces(&mut self, interfaces: &Differing<'e>) {
        for side in self.sides {
            let follows = |service: &&Arc<Service>| service.interface.as_ref().is_some_and(|of| interfaces.ids.contains(of.value.as_str()));
            side.estate().services().iter().filter(follows).for_each(|service| self.everybody_on(&service.system.value));
        }
    }

    fn vocabularies(&mut self, vocabularies: &Differing<'e>) {
        for side in self.sides {
            let speaks = |system: &&Arc<System>| system.vocabulary.as_ref().is_some_and(|of| vocabularies.ids.contains(of.value.as_str()));
            side.estate().systems().iter().filter(speaks).for_each(|system| self.everybody_on(&system.id.value));
        }
    }

    /// Command sets that differ.
    fn command_sets(&mut self, sets: &Differing<'e>) {
        let all = self.names();
        self.with_sets(&sets.ids, &all);
    }

    /// Whoever has one of some command sets, or one that includes it, on some systems: everybody, where an account or a rule of the system
    /// names it, and beside that those who have it through a role.
    fn with_sets(&mut self, sets: &BTreeSet<&'e str>, on: &BTreeSet<&'e str>) {
        if sets.is_empty() {
            return;
        }
        for side in self.sides {
            let entries = side.estate().entries();
            let all = sets.iter().filter_map(|set| side.find_command_set(set)).flat_map(|set| sets_including(side, set.index()));
            let reached: FxHashSet<&str> = all.map(|set| entries.command_sets[set].id.value.as_str()).collect();
            let is_named = |list: &[At<String>]| list.iter().any(|set| reached.contains(set.value.as_str()));
            for system in entries.systems.iter().filter(|system| on.contains(system.id.value.as_str())) {
                if system.accounts.iter().any(|Account { commands, .. }| is_named(commands)) {
                    self.everybody_on(&system.id.value);
                }
            }
            for host in entries.hosts.iter().filter(|host| on.contains(host.system.value.as_str())) {
                let Host { system, accounts, run_as, .. } = &**host;
                let of_account = |HostAccount { commands, commands_of, .. }: &HostAccount| {
                    is_named(commands) || commands_of.iter().any(|(_, sets)| is_named(sets))
                };
                if accounts.iter().any(of_account) || run_as.iter().any(|RunAs { commands, .. }| is_named(commands)) {
                    self.everybody_on(&system.value);
                }
            }
            let has = |(_, role): &(usize, &Arc<Role>)| is_named(&role.commands);
            let roles = entries.roles.iter().enumerate().filter(has).map(|(number, _)| RoleId::new(number)).collect();
            let roles = including(side, roles);
            self.assigned(side, |links| gives(links, &roles), Scope::Lines(on));
        }
    }

    /// Roles that differ, and those that include one.
    fn roles(&mut self, roles: &Differing<'e>) {
        let [before, after] = self.sides;
        let entry = |side: &'e Engine, id: &str| side.find_role(id).map(|role| side.estate().role(role));
        // Where nothing but its band and its command sets differ, it is held as before.
        let is_of_lines = |id: &str| {
            let both = entry(before, id).zip(entry(after, id));
            both.is_some_and(|(old, new)| {
                let Role { band, commands, .. } = new;
                Role { band: band.clone(), commands: commands.clone(), ..old.clone() }.says_same(new)
            })
        };
        let (of_lines, others): (Vec<&str>, Vec<&str>) = roles.ids.iter().copied().partition(|id| is_of_lines(id));
        let all = self.names();
        let held = self.where_held();
        for (ids, scope) in [(of_lines, Scope::Lines(&all)), (others, held)] {
            for side in self.sides.into_iter().filter(|_| !ids.is_empty()) {
                let roles = including(side, ids.iter().filter_map(|id| side.find_role(id)).collect());
                if !matches!(scope, Scope::Lines(_)) && is_assumable(side, &roles) {
                    self.everybody_on_services();
                }
                self.assigned(side, |links| gives(links, &roles), scope);
            }
        }
    }

    /// Clouds and applications that differ: where nothing but grants do, those whom these are for.
    fn services(&mut self, services: &Differing<'e>) {
        for &system in &services.ids {
            let of =
                |side: &'e Engine| side.estate().services().iter().filter(move |entry| entry.system.value == system).collect::<Vec<_>>();
            let [before, after] = self.sides.map(of);
            let ([old], [new]) = (before.as_slice(), after.as_slice()) else {
                self.everybody_on(system);
                continue;
            };
            if !(Service { grants: new.grants.clone(), ..(***old).clone() }).says_same(new) {
                self.everybody_on(system);
                continue;
            }
            let middles = middles(old.grants.len(), new.grants.len(), |n, m| old.grants[n].says_same(&new.grants[m]));
            for ((side, service), middle) in self.sides.into_iter().zip([old, new]).zip(middles) {
                let (mut parties, mut roles) = (Vec::new(), FxHashSet::default());
                for who in service.grants[middle].iter().flat_map(|grant| &grant.to) {
                    match who.value.split_once(':') {
                        Some(("user", id)) => parties.extend(side.find_user(id, false).map(Party::User)),
                        Some(("group", id)) => parties.extend(side.find_group(id).map(Party::Group)),
                        Some(("role", id)) => roles.extend(side.find_role(id)),
                        _ => self.everybody_on(system),
                    }
                }
                let roles = including(side, roles);
                if is_assumable(side, &roles) {
                    self.everybody_on(system);
                }
                let giving = side.estate().assignment_links().iter().filter(|links| gives(links, &roles));
                parties.extend(giving.flat_map(|links| &links.to).map(|&(party, _)| party));
                let people = side.members(parties).map(|user| name_of(side, user)).collect();
                self.people_on(people, [system].into());
            }
        }
    }

    /// A database server that differs: those whom that reaches through accounts, roles and what is granted to these.
    fn database(&mut self, system: &'e str) {
        let [before, after] = self.sides.map(|side| side.site(system));
        let Some(people) = before.zip(after).and_then(|(before, after)| after.kind().differs_for(before, after)) else {
            return self.everybody_on(system);
        };
        // What differs there and is nobody's right is told all the same.
        self.found.entry(system).or_insert_with(|| Of::Only(BTreeSet::new()));
        let of = |id: &String| self.sides.into_iter().find_map(|side| Some(name_of(side, side.find_user(id, false)?)));
        self.people_on(people.iter().filter_map(of).collect(), [system].into());
    }

    /// Where it counts what somebody holds: where duties are kept apart, what is held on one system may count on another.
    fn where_held<'s>(&self) -> Scope<'s, 'e> {
        let is_apart = self.sides.iter().any(|side| !side.estate().separation_links().is_empty());
        if is_apart { Scope::Everywhere } else { Scope::Covered }
    }

    /// Assignments: those between the first and the last that differ, in the order in which they are tried.
    fn assignments(&mut self) {
        let [before, after] = self.sides.map(|side| side.estate().assignment_links());
        let middles = middles(before.len(), after.len(), |n, m| before[n].entry.says_same(&after[m].entry));
        let scope = self.where_held();
        for ((side, links), middle) in self.sides.into_iter().zip([before, after]).zip(middles) {
            let differing: FxHashSet<*const AssignmentLinks> = middle.map(|number| Arc::as_ptr(&links[number])).collect();
            if !differing.is_empty() {
                self.assigned(side, |links| differing.contains(&std::ptr::from_ref(links)), scope);
            }
        }
        // A system that differs is looked at as a whole: an assignment covers it now, or no longer. The others are covered as before.
    }

    /// Notes that assignments of a ledger differ in what they give, for those they are for.
    fn assigned(&mut self, side: &'e Engine, is_meant: impl Fn(&AssignmentLinks) -> bool, scope: Scope<'_, 'e>) {
        let mut by_systems: FxHashMap<Vec<SystemId>, Vec<Party>> = FxHashMap::default();
        for links in side.estate().assignment_links().iter().filter(|links| is_meant(links)) {
            let systems = if scope == Scope::Everywhere { Vec::new() } else { links.systems.ones().map(SystemId::new).collect() };
            by_systems.entry(systems).or_default().extend(links.to.iter().map(|&(party, _)| party));
        }
        for (systems, parties) in by_systems {
            let people = side.members(parties).map(|user| name_of(side, user)).collect();
            let covered =
                || systems.iter().map(|&system| side.estate().system(system)).map(|entry| (entry.id.value.as_str(), entry.kind()));
            let of: BTreeSet<(&str, Kind)> = match scope {
                Scope::Everywhere => self.systems(),
                Scope::Covered => covered().collect(),
                Scope::Lines(on) => covered().filter(|(system, kind)| on.contains(system) && !kind.is_service()).collect(),
            };
            // Database servers know no assignments.
            let systems = of.into_iter().filter(|(_, kind)| !kind.is_database()).map(|(system, _)| system).collect();
            self.people_on(people, systems);
        }
    }

    /// Where somebody for whom something differs can have a say in what others may: there it differs for these.
    ///
    /// It goes no further: who agrees, or is acted as, decides for whoever is on the same system, and nobody's command sets count there
    /// where others act as them.
    fn others(&mut self) {
        if self.cells.is_empty() {
            return;
        }
        let say = Say::of(self.sides);
        let all = self.systems();
        let mut reached: BTreeSet<&str> = BTreeSet::new();
        let mut sets: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
        for [people, systems] in &self.cells {
            for reach in people.iter().flat_map(|person| say.of_person(self.sides, person)) {
                let is_heard = |(system, kind): &&(&'e str, Kind)| {
                    systems.contains(system) && !kind.is_database() && (reach.is_everywhere || reach.systems.contains(system))
                };
                reached.extend(all.iter().filter(is_heard).map(|(system, _)| *system));
                reach.sets.iter().for_each(|set| sets.entry(set).or_default().extend(systems));
            }
        }
        reached.into_iter().for_each(|system| self.everybody_on(system));
        sets.into_iter().for_each(|(set, systems)| self.with_sets(&[set].into(), &systems));
    }

    /// Kinds from outside may look at anything, and what their tables hold cannot be compared.
    fn outside(&mut self) {
        const OURS: [Kind; 6] = [Kind::NETWORK_DEVICE, Kind::POSTGRESQL, Kind::MARIADB, Kind::CLOUD, Kind::APPLICATION, Kind::HOST];
        let systems: Vec<&str> = self.systems().into_iter().filter(|(_, kind)| !OURS.contains(kind)).map(|(system, _)| system).collect();
        let [before, after] = self.sides.map(|side| side.estate());
        let is_kept = |(one, other): (&OutsideEntry, &OutsideEntry)| {
            let are_in_text = matches!((one.id.place, other.id.place), (Place::Text(_), Place::Text(_)));
            are_in_text || Arc::ptr_eq(&one.kept, &other.kept)
        };
        let (old, new) = (before.entries(), after.entries());
        let mut texts = before.sources().names().map(|(source, name)| (before.sources().text(source), after.sources().text_of(name)));
        let is_same = self.found.is_empty()
            && before.sources().names().count() == after.sources().names().count()
            && texts.all(|(old, new)| Some(old) == new)
            && rows(&old.credential_rules, &new.credential_rules)
            && old.outside.len() == new.outside.len()
            && old.outside.iter().zip(&new.outside).all(|(one, other)| is_kept((one, other)));
        if !is_same {
            systems.into_iter().for_each(|system| self.everybody_on(system));
        }
    }

    fn found(self) -> BTreeMap<String, Whom> {
        let whom = |of: Of<'e>| match of {
            Of::Everybody => Whom::Everybody,
            Of::Only(people) => Whom::Only(people.into_iter().map(str::to_owned).collect()),
        };
        self.found.into_iter().map(|(system, of)| (system.to_owned(), whom(of))).collect()
    }
}

/// Who can have a say in what others may, and on which systems.
#[derive(Default)]
struct Say<'e> {
    /// By name, without case.
    names: FxHashMap<String, Reach<'e>>,
    groups: FxHashMap<&'e str, Reach<'e>>,
    /// Where anybody who is entitled may agree as second person.
    anyone: Option<Reach<'e>>,
}

/// Where somebody has a say.
#[derive(Default)]
struct Reach<'e> {
    is_everywhere: bool,
    systems: BTreeSet<&'e str>,
    /// Wherever somebody has one of these command sets.
    sets: BTreeSet<&'e str>,
}

impl<'e> Say<'e> {
    fn of(sides: [&'e Engine; 2]) -> Self {
        let mut say = Self::default();
        for side in sides {
            let estate = side.estate();
            // On a host it counts whose the account is that one comes to.
            let is_host =
                |system: Option<&str>| system.and_then(|name| side.site(name)).is_some_and(|site| site.entry().kind() == Kind::HOST);
            named::each(estate, &mut |told, place| {
                let reach = match told {
                    Told::Party { who, part } => {
                        let is_heard = match part {
                            Part::Agrees | Part::ActedAs => true,
                            Part::Member | Part::Owner | Part::Assigned | Part::Granted | Part::Other => false,
                        };
                        match who.value.split_once(':') {
                            _ if !is_heard => return,
                            Some(("user", name)) => say.names.entry(name.to_lowercase()).or_default(),
                            Some(("group", name)) => match side.find_group(name) {
                                Some(group) => say.groups.entry(side.estate().group(group).id.value.as_str()).or_default(),
                                None => return,
                            },
                            _ if who.value == "anyone" => say.anyone.get_or_insert_default(),
                            _ => return,
                        }
                    }
                    Told::Login { login, .. } if is_host(place.system) => say.names.entry(login.to_lowercase()).or_default(),
                    Told::Login { .. } | Told::Compares(_) => return,
                };
                let site = place.system.and_then(|name| side.site(name));
                let set = place.command_set.and_then(|name| side.find_command_set(name));
                match (site, set) {
                    (Some(site), _) => drop(reach.systems.insert(&site.entry().id.value)),
                    (None, Some(set)) => drop(reach.sets.insert(&estate.set(set).id.value)),
                    (None, None) => reach.is_everywhere = true,
                }
            });
        }
        say
    }

    /// Returns where somebody has a say, in any of two ledgers.
    fn of_person(&self, sides: [&'e Engine; 2], person: &str) -> Vec<&Reach<'e>> {
        let mut of: Vec<&Reach<'e>> = self.anyone.iter().collect();
        of.extend(self.names.get(&person.to_lowercase()));
        for side in sides {
            if let Some(user) = side.find_user(person, false) {
                let name = |group: &GroupId| side.estate().group(*group).id.value.as_str();
                of.extend(side.membership().groups_of(user).iter().filter_map(|group| self.groups.get(name(group))));
            }
        }
        of
    }
}

fn name_of(side: &Engine, user: UserId) -> &str {
    &side.estate().user(user).id.value
}

/// Returns what of two lists lies between what they begin and what they end with alike.
fn middles(before: usize, after: usize, is_same: impl Fn(usize, usize) -> bool) -> [Range<usize>; 2] {
    let least = before.min(after);
    let first = (0..least).find(|&n| !is_same(n, n)).unwrap_or(least);
    let last = (0..least - first).find(|&n| !is_same(before - 1 - n, after - 1 - n)).unwrap_or(least - first);
    [first..before - last, first..after - last]
}

/// Returns whether an assignment gives one of some roles.
fn gives(links: &AssignmentLinks, roles: &FxHashSet<RoleId>) -> bool {
    links.roles.iter().any(|role| roles.contains(role))
}

/// Returns whether one of some roles may be assumed: it then gives what it gives to whomever it admits.
fn is_assumable(side: &Engine, roles: &FxHashSet<RoleId>) -> bool {
    roles.iter().any(|&role| side.estate().role(role).assumable.is_some())
}

/// Returns some roles and all that include one of them.
fn including(side: &Engine, mut roles: FxHashSet<RoleId>) -> FxHashSet<RoleId> {
    let links = side.estate().role_links();
    loop {
        let includes = |role: &RoleId| links[role.index()].includes.iter().any(|role| roles.contains(role));
        let new: Vec<RoleId> = (0..links.len()).map(RoleId::new).filter(|role| !roles.contains(role) && includes(role)).collect();
        if new.is_empty() {
            return roles;
        }
        roles.extend(new);
    }
}

/// Returns a command set and those that include it, be it over others.
pub(crate) fn sets_including(engine: &Engine, set: usize) -> Vec<usize> {
    let sets = engine.estate().command_sets();
    let mut found = vec![set];
    let mut next = 0;
    while let Some(&included) = found.get(next) {
        let id = &sets[included].id.value;
        let includes = |rule: &Rule| rule.verb == RuleVerb::Include && rule.text.value == *id;
        let more = (0..sets.len()).filter(|&other| !found.contains(&other) && sets[other].rules.iter().any(includes));
        found.extend(more.collect::<Vec<_>>());
        next += 1;
    }
    found
}

/// Returns whether the rows of two tables say the same, one by one.
fn rows<T: Same>(one: &Table<Arc<T>>, other: &Table<Arc<T>>) -> bool {
    one.len() == other.len() && one.iter().zip(other).all(|(one, other)| one.says_same(other))
}

/// Compares the entries of two tables, by their ids.
fn differing<'e, T: Same>(before: &'e Table<Arc<T>>, after: &'e Table<Arc<T>>, id: fn(&T) -> &str) -> Differing<'e> {
    let mut found = Differing { ids: BTreeSet::new(), alone: BTreeSet::new() };
    let is_in_order = before.len() == after.len() && before.iter().zip(after).all(|(one, other)| id(one) == id(other));
    if is_in_order {
        found.ids.extend(before.iter().zip(after).filter(|(one, other)| !one.says_same(other)).map(|(one, _)| id(one)));
        return found;
    }
    let of = |table: &'e Table<Arc<T>>| {
        let mut rows: FxHashMap<&str, Vec<&Arc<T>>> = FxHashMap::default();
        table.iter().for_each(|row| rows.entry(id(row)).or_default().push(row));
        rows
    };
    let (old, new) = (of(before), of(after));
    for (&id, rows) in &old {
        match new.get(id) {
            None => drop(found.alone.insert(id)),
            Some(others) if rows.len() == others.len() && rows.iter().zip(others).all(|(one, other)| one.says_same(other)) => {}
            Some(_) => drop(found.ids.insert(id)),
        }
    }
    found.alone.extend(new.keys().filter(|id| !old.contains_key(*id)));
    found.ids.extend(&found.alone);
    found
}

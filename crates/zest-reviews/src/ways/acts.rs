//! The acts of a ledger, found once for all who set out.
//!
//! What somebody may do hangs on the ledger and on who it is, not on who set out: it is found once for each ledger in which something is
//! so, and each person. People whom nothing tells apart stand for each other as those whose credential is reset, and as those of whom it
//! is asked whether they have any act at all.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};

use fixedbitset::FixedBitSet;
use jiff::SignedDuration;
use rustc_hash::{FxHashMap, FxHashSet};

use zest_engine::Engine;
use zest_engine::classes::{Classes, named_in};
use zest_engine::links::{Party, UserId};
use zest_engine::named::{self, Told};
use zest_engine::rights::{Side, Within};
use zest_engine::rules::{Site, Through};
use zest_model::ask::{Form, Proven, Question, Session};
use zest_model::entry::{Kind, Proof};
use zest_model::source::{Place, visible};

use super::act;
use super::database::{self, Here, Server};
use super::fact::{self, Fact};
use super::strong::Others;
use super::{Aim, is_member};
use crate::review::{Part, Sought, Who, sought_on};

/// The acts of a ledger by which people could come to more, found as they are wanted.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ways::Acts};
/// let estate = Ledger::new().document("rota.toml", r#"
/// users.desk-1.proofs = ["password"]
/// users.mate-1.proofs = ["password"]
/// [systems.rota]
/// kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan"]
/// objects."shift/early" = {}
/// grants = [{ allow = ["reset-credential"], on = "user/*", to = ["user:desk-1"] }]
/// "#).estate()?;
/// let engine = Engine::compile(estate)?;
/// // Whoever may do nothing that gives more has no way but their own rights.
/// assert_eq!(Acts::of(&engine, &[]).candidates(None), ["desk-1"]);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Acts<'e> {
    engine: &'e Engine,
    /// The same without accounts of database servers that are like others, in which things are tried.
    tried: OnceLock<Engine>,
    /// The same with a command set in which every line is, once it is wanted.
    with_anything: OnceLock<Option<Engine>>,
    classes: OnceLock<Arc<Classes<'e>>>,
    /// Whoever has any act in the ledger as it is.
    actors: OnceLock<FixedBitSet>,
    /// Names that stand in what is looked for.
    asked: Vec<String>,
    /// The systems on which something is looked for; nothing where all that can be come to is.
    meant: Option<FxHashSet<String>>,
    targets: OnceLock<Targets>,
    ledgers: Mutex<Ledgers>,
    found: Mutex<AllFound>,
    /// Who may do what was looked for, in words.
    doers: Mutex<FxHashMap<String, Arc<FixedBitSet>>>,
    /// By which statements it is done in the name of somebody else, by the same words.
    through: Mutex<FxHashMap<String, Arc<Vec<InName>>>>,
    /// What is written of database servers; none for a system that is none.
    servers: Mutex<Servers>,
    /// The same where things are tried.
    tried_servers: Mutex<Servers>,
    /// What looking took so far, in rows that were read anew and statements that were tried.
    spent: AtomicUsize,
}

/// Something that a view or routine of a database server does in the name of somebody else.
#[derive(Debug)]
pub(super) struct InName {
    pub(super) system: String,
    /// What is done, as it was asked for.
    pub(super) line: String,
    pub(super) through: Through,
}

/// Database servers by name.
type Servers = FxHashMap<String, Option<Arc<Server>>>;

/// Ledgers by what is so in them; none where that is no ledger.
type Ledgers = FxHashMap<Vec<Fact>, Option<Arc<Engine>>>;

/// What was found, by what is so, who it is, and on which system alone.
type AllFound = FxHashMap<(Vec<Fact>, Person, Option<String>), Arc<Found>>;

/// Whose credential is reset, and which groups and other entries there are to be changed.
#[derive(Debug, Default)]
pub(super) struct Targets {
    pub(super) users: Vec<Target>,
    /// Groups; `true` for those that a pattern of a grant could name.
    pub(super) groups: Vec<(String, bool)>,
    /// Groups of which anything is said at all.
    spoken_of: FxHashSet<String>,
}

/// Somebody whose credential could be reset, who stands for all whom nothing tells apart.
#[derive(Debug)]
pub(super) struct Target {
    pub(super) name: String,
    /// How many they are.
    count: usize,
    /// Whether a pattern of a grant could name them.
    pub(super) is_apart: bool,
    /// Who else stands for them, but where it is who sets out.
    pub(super) instead_of: Option<String>,
}

/// Somebody whose rights are there, and by which credential.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) struct Person {
    pub(super) user: String,
    /// Whether it is a password that was set anew.
    pub(super) is_anew: bool,
}

impl Person {
    /// Returns what is stated of their sessions.
    pub(super) fn session(&self) -> Session {
        let anew = || vec![Proven { proof: Proof::Password, age: SignedDuration::ZERO, channel: None }];
        Session { proofs: self.is_anew.then(anew), ..Session::default() }
    }
}

/// What somebody may do that gives more.
#[derive(Debug, Default)]
pub(super) struct Found {
    pub(super) acts: Vec<Arc<Act>>,
    /// Those by which anybody can be taken into a group, by number.
    pub(super) taking_in: Vec<usize>,
    /// What is not known of such acts.
    pub(super) unknown: Vec<String>,
    /// Whether there is more than was looked at.
    pub(super) is_cut_short: bool,
    /// How many statements were tried.
    pub(super) tries: usize,
}

impl Found {
    /// Adds something that is come to by what is asked.
    pub(super) fn add(&mut self, fact: Fact, question: Question) {
        self.acts.push(Arc::new(Act { gain: Gain::One(fact), by: By::Asked(Arc::new(question)) }));
    }
}

/// Something that gives more.
#[derive(Debug)]
pub(super) struct Act {
    pub(super) gain: Gain,
    pub(super) by: By,
}

/// What an act gives.
#[derive(Debug)]
pub(super) enum Gain {
    One(Fact),
    /// Anybody whose rights are there can be taken into a group.
    Members(String),
}

/// How something is done.
#[derive(Clone, Debug)]
pub(super) enum By {
    /// It is a question that is allowed.
    Asked(Arc<Question>),
    /// No question is about it: what is done, why it can be, and where that is written.
    Unasked { act: String, why: String, place: Place },
}

/// How many rows a ledger takes at least.
const ROWS_OF_A_LEDGER: usize = 100;

/// Up to how many accounts of a database server are tried, whether they are like others or not.
const FEW_ACCOUNTS: usize = 50;

/// For how many accounts it is chosen what of things that exclude each other is so.
const MAX_CHOICES: usize = 16;

/// From how many people on another thread is worth being started.
const MANY: usize = 10_000;

/// How much work on another thread is worth being started.
const MUCH: usize = 100;

/// How many ledgers are kept.
const MAX_KEPT: usize = 256;

impl<'e> Acts<'e> {
    /// Looks at a ledger; whoever is named in what is looked for stands for nobody else. What is come to on a database server leads nowhere
    /// else, so others are left alone where something is looked for; where nothing is, all are looked at.
    #[must_use]
    pub fn of(engine: &'e Engine, aims: &[Aim<'_>]) -> Self {
        let texts = |aim: &Aim<'_>| match *aim {
            Aim::Do(Sought::Line(text) | Sought::Statement(text) | Sought::Like(text), _, session) => named_in(&[text], session),
            Aim::User(name) | Aim::Group(name) => named_in(&[name], &Session::default()),
        };
        let systems = |aim: &Aim<'_>| match *aim {
            Aim::Do(_, systems, _) => systems.iter().map(|&system| system.to_owned()).collect(),
            Aim::User(_) | Aim::Group(_) => Vec::new(),
        };
        Self {
            engine,
            meant: (!aims.is_empty()).then(|| aims.iter().flat_map(systems).collect()),
            tried: OnceLock::new(),
            with_anything: OnceLock::new(),
            classes: OnceLock::new(),
            actors: OnceLock::new(),
            asked: aims.iter().flat_map(texts).collect(),
            targets: OnceLock::new(),
            ledgers: Mutex::default(),
            found: Mutex::default(),
            doers: Mutex::default(),
            through: Mutex::default(),
            servers: Mutex::default(),
            tried_servers: Mutex::default(),
            spent: AtomicUsize::new(0),
        }
    }

    /// Returns the engine of the ledger as it is.
    #[must_use]
    pub const fn engine(&self) -> &'e Engine {
        self.engine
    }

    fn classes(&self) -> &Arc<Classes<'e>> {
        self.classes.get_or_init(|| Arc::new(Classes::of(self.engine)))
    }

    /// Returns those of whom it must be looked at whether a way leads them somewhere, in the order of the ledger: whoever may do what is
    /// sought, or of whom that is not known, and whoever has any act that could give more. Nobody else comes to anything.
    #[must_use]
    pub fn candidates(&self, aim: Option<Aim<'_>>) -> Vec<&'e str> {
        let estate = self.engine.estate();
        if let Some(Aim::Do(sought, systems, stated)) = aim
            && estate.users().len() >= MANY
        {
            // Neither hangs on the other: on one thread they come after each other, below.
            std::thread::scope(|scope| {
                scope.spawn(|| self.doers(sought, systems, stated));
                self.actors();
            });
        }
        let mut all = self.actors().clone();
        match aim {
            None => {}
            Some(Aim::Do(sought, systems, stated)) => all.union_with(&self.doers(sought, systems, stated)),
            // Everybody may be let act as somebody.
            Some(Aim::User(_)) => all.insert_range(..),
            Some(Aim::Group(group)) => {
                let party = self.engine.find_group(group).map(Party::Group);
                let is_in = |user: &usize| party.is_some_and(|party| self.engine.membership().belongs(UserId::new(*user), party));
                (0..estate.users().len()).filter(is_in).for_each(|user| all.insert(user));
            }
        }
        all.ones().map(|user| estate.user(UserId::new(user)).id.value.as_str()).collect()
    }

    /// Returns whoever has any act that could give more, in the ledger as it is.
    fn actors(&self) -> &FixedBitSet {
        self.actors.get_or_init(|| self.find_actors())
    }

    fn find_actors(&self) -> FixedBitSet {
        let engine = self.engine;
        let estate = engine.estate();
        let mut all = FixedBitSet::with_capacity(estate.users().len());
        for site in engine.all_sites() {
            let Some(anybody) = (0..estate.users().len()).map(UserId::new).next() else { continue };
            let actions = act::lines(self.targets(), &Side { site, user: anybody }, None).actions;
            if actions.is_empty() {
                continue;
            }
            for kin in self.classes().on(site, &[], Some(&actions), &Session::default()) {
                let of_each = self.classes().rights(site, &kin, |_| actions.clone(), &Within::default());
                for alike in of_each.iter().filter(|alike| !alike.set.is_empty() || !alike.set.limits().is_empty()) {
                    alike.people.iter().for_each(|user| all.insert(user.index()));
                }
            }
        }
        let mut parties = owners(engine);
        let of_name = |name: &str| match name.split_once(':') {
            Some(("user", name)) => engine.find_user(name, false).map(Party::User),
            Some(("group", name)) => engine.find_group(name).map(Party::Group),
            _ => None,
        };
        let writers = estate.entries().hosts.iter().flat_map(|host| &host.writable_by).flat_map(|(_, who)| who);
        parties.extend(writers.filter_map(|who| of_name(&who.value)));
        for server in estate.systems().iter().filter_map(|system| self.server(&system.id.value)) {
            let (logins, lent) = server.actors();
            parties.extend(logins.into_iter().filter_map(|user| engine.find_user(user, false)).map(Party::User));
            parties.extend(lent.into_iter().filter_map(of_name));
        }
        if !parties.is_empty() {
            for user in (0..estate.users().len()).map(UserId::new) {
                let is_in_group = || engine.membership().groups_of(user).iter().any(|&group| parties.contains(&Party::Group(group)));
                if parties.contains(&Party::User(user)) || is_in_group() {
                    all.insert(user.index());
                }
            }
        }
        all
    }

    /// Returns whose credential could be reset, and which groups there are.
    pub(super) fn targets(&self) -> &Targets {
        self.targets.get_or_init(|| {
            let classes = self.classes();
            let named = Named::of(self.engine);
            let estate = self.engine.estate();
            // Who owns groups may take members in, of which no decision on a system depends.
            let owners = owners(self.engine);
            let owning = |user: UserId| -> Vec<Party> {
                let groups = self.engine.membership().groups_of(user);
                groups.iter().map(|&group| Party::Group(group)).filter(|group| owners.contains(group)).collect()
            };
            let mut users = Vec::new();
            for list in classes.everywhere() {
                let mut alike: FxHashMap<Vec<Party>, Vec<&str>> = FxHashMap::default();
                for user in list {
                    let name = estate.user(user).id.value.as_str();
                    let is_apart = named.is_apart("user", name);
                    if is_apart || owners.contains(&Party::User(user)) || self.is_asked(name) {
                        users.push(Target { name: name.to_owned(), count: 1, is_apart, instead_of: None });
                    } else {
                        alike.entry(owning(user)).or_default().push(name);
                    }
                }
                for all in alike.values() {
                    let one = |name: &str, instead_of| Target { name: name.to_owned(), count: all.len(), is_apart: false, instead_of };
                    let first = all.first().map(|&name| name.to_owned());
                    users.extend(all.iter().take(1).map(|name| one(name, None)));
                    users.extend(all.iter().skip(1).take(1).map(|name| one(name, first.clone())));
                }
            }
            users.sort_by_cached_key(|target| self.engine.find_user(&target.name, false));
            let groups = estate.groups().iter().map(|group| (group.id.value.clone(), named.is_apart("group", &group.id.value))).collect();
            let mut spoken_of = FxHashSet::default();
            named::each(estate, &mut |told, _| {
                if let Told::Party { who, .. } = told
                    && let Some(group) = who.value.strip_prefix("group:")
                {
                    spoken_of.insert(group.to_owned());
                }
            });
            Targets { users, groups, spoken_of }
        })
    }

    /// Says how many others there are of whom the same is so as of one whose credential is reset.
    pub(super) fn others_like(&self, user: &str) -> String {
        let of = self.targets().users.iter().find(|target| target.name == user);
        or_others(of.map_or(0, |target| target.count.saturating_sub(1)))
    }

    /// Says the same of an account of a database server.
    pub(super) fn accounts_like(&self, system: &str, account: &str) -> String {
        or_others(self.server(system).map_or(0, |server| server.count_like(account)))
    }

    /// Returns everybody who may do something, or of whom that is not known.
    pub(super) fn doers(&self, sought: Sought<'_>, systems: &[&str], stated: &Session) -> Arc<FixedBitSet> {
        let key = format!("{sought:?} {systems:?} {stated:?}");
        let mut known = self.doers.lock().unwrap_or_else(PoisonError::into_inner);
        let found = known.entry(key).or_insert_with(|| {
            let mut all = FixedBitSet::with_capacity(self.engine.estate().users().len());
            let mut note = |systems: &[&str], sought| {
                let who = Who::among(self.engine, Arc::clone(self.classes()), systems, sought, stated);
                // Beyond a limit there could be more.
                let people = |part: &Part<'_>| who.looked_at(part).into_iter().flat_map(|held| held.people).collect();
                let held: Vec<Vec<UserId>> = on_two_threads(who.parts(), people);
                held.iter().flatten().for_each(|user| all.insert(user.index()));
            };
            note(systems, sought);
            for InName { system, line: _, through } in &*self.through(sought, systems) {
                note(&[system], Sought::Statement(&through.statement));
            }
            Arc::new(all)
        });
        Arc::clone(found)
    }

    /// Returns by which statements something is done in the name of whoever owns a view or routine.
    pub(super) fn through(&self, sought: Sought<'_>, systems: &[&str]) -> Arc<Vec<InName>> {
        let key = format!("{sought:?} {systems:?}");
        let mut known = self.through.lock().unwrap_or_else(PoisonError::into_inner);
        let found = known.entry(key).or_insert_with(|| {
            let mut list = Vec::new();
            for site in systems.iter().filter_map(|name| self.engine.site(name)).filter(|site| site.entry().kind().is_database()) {
                let Some(user) = (!self.engine.estate().users().is_empty()).then(|| UserId::new(0)) else { continue };
                for action in sought_on(&Side { site, user }, sought, None).iter().filter(|action| action.form == Form::Line) {
                    let system = &site.entry().id.value;
                    let one = |through| InName { system: system.clone(), line: action.line.clone(), through };
                    list.extend(site.kind().through(site, &action.line).into_iter().map(one));
                }
            }
            Arc::new(list)
        });
        Arc::clone(found)
    }

    fn is_asked(&self, name: &str) -> bool {
        let name = name.to_lowercase();
        self.asked.iter().any(|text| text.contains(&name))
    }

    /// Returns whether something can lead on, or tells only that it is so.
    pub(super) fn leads_on(&self, fact: &Fact) -> bool {
        match fact {
            Fact::Joins { group, .. } => self.targets().spoken_of.contains(group),
            Fact::Becomes(_)
            | Fact::Knows(_)
            | Fact::Runs { .. }
            | Fact::Shapes { .. }
            | Fact::Fills { .. }
            | Fact::Grants { .. }
            | Fact::Uses { .. }
            | Fact::Holds { .. }
            | Fact::Owns { .. }
            | Fact::Shows { .. }
            | Fact::Defines { .. }
            | Fact::Rules { .. } => true,
        }
    }

    /// Returns whether somebody has any act in the ledger as it is.
    pub(super) fn is_actor(&self, user: &str) -> bool {
        self.engine.find_user(user, false).is_some_and(|user| self.actors().contains(user.index()))
    }

    /// Returns whether some systems look at any group in which somebody is in a ledger who is not in it here.
    fn is_heard_of(&self, facts: &[Fact], ledger: &Engine, systems: &[&str]) -> bool {
        let sites: Vec<_> = systems.iter().filter_map(|name| self.engine.site(name)).collect();
        facts.iter().any(|fact| {
            let Fact::Joins { user, .. } = fact else { return false };
            let Some(user) = self.engine.find_user(user, false) else { return false };
            let before = self.engine.membership().groups_of(user);
            let now = ledger.membership().groups_of(user);
            let mut new = now.iter().filter(|group| !before.contains(group));
            new.any(|&group| sites.iter().any(|&site| self.classes().hears_of(site, group)))
        })
    }

    /// Returns the ledger in which some things are so; nothing where that is none.
    pub(super) fn ledger(&self, facts: &[Fact]) -> Option<Arc<Engine>> {
        let facts = of_ledger(facts);
        if let Some(known) = self.ledgers().get(&facts) {
            return known.clone();
        }
        let base = if facts.is_empty() {
            Some(self.engine.clone())
        } else {
            let systems: BTreeSet<&str> = facts.iter().filter_map(Fact::server).collect();
            let accounts = systems.into_iter().filter_map(|system| self.tried_server(system)).map(|server| server.count());
            self.spent.fetch_add(ROWS_OF_A_LEDGER + accounts.sum::<usize>(), Ordering::Relaxed);
            let with_anything = || self.with_anything.get_or_init(|| fact::with_anything(self.tried())).as_ref();
            let wide = if facts.iter().any(Fact::wants_anything) { with_anything() } else { Some(self.tried()) };
            wide.and_then(|engine| fact::with(engine, &facts))
        };
        let ledger = base.map(Arc::new);
        let mut ledgers = self.ledgers();
        if ledgers.len() >= MAX_KEPT {
            ledgers.clear();
        }
        ledgers.insert(facts, ledger.clone());
        ledger
    }

    /// Returns ledgers in which some things are so: one, or several where they cannot all be so at once, in each of which another account
    /// has what it could of them; and whether nothing of them is in none.
    pub(super) fn at_once(&self, facts: &[Fact]) -> (Vec<Arc<Engine>>, bool) {
        self.up_to(MAX_CHOICES, facts)
    }

    /// Returns one of them, if there is any.
    pub(super) fn any_at_once(&self, facts: &[Fact]) -> Option<Arc<Engine>> {
        self.up_to(1, facts).0.pop()
    }

    fn up_to(&self, most: usize, facts: &[Fact]) -> (Vec<Arc<Engine>>, bool) {
        if let Some(ledger) = self.ledger(facts) {
            return (vec![ledger], true);
        }
        let systems: BTreeSet<&str> = facts.iter().filter_map(Fact::server).collect();
        let servers: Vec<Arc<Server>> = systems.into_iter().filter_map(|system| self.tried_server(system)).collect();
        let (mut ledgers, mut is_whole) = (Vec::new(), true);
        let without_circles = |facts: &[Fact], first: (&str, &str)| {
            servers.iter().fold((facts.to_vec(), true), |(facts, is_whole), server| {
                let account = if server.system() == first.0 { first.1 } else { "" };
                let (kept, is_all) = server.at_once(&facts, account, Others::AsWell);
                (kept, is_whole && is_all)
            })
        };
        for server in &servers {
            let accounts: BTreeSet<&str> = server.joined(facts).into_iter().map(|(account, _)| account).collect();
            for account in accounts {
                if ledgers.len() == most {
                    return (ledgers, false);
                }
                let (kept, is_all) = without_circles(facts, (server.system(), account));
                let ledger = self.ledger(&kept);
                is_whole &= is_all && ledger.is_some();
                ledgers.extend(ledger);
            }
        }
        is_whole &= !ledgers.is_empty();
        (ledgers, is_whole)
    }

    /// Returns what looking took so far, in rows that were read anew and statements that were tried.
    pub(super) fn spent(&self) -> usize {
        self.spent.load(Ordering::Relaxed)
    }

    fn ledgers(&self) -> MutexGuard<'_, Ledgers> {
        self.ledgers.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns what somebody may do that gives more, in the ledger in which some things are so.
    pub(super) fn by(&self, facts: &[Fact], person: &Person) -> Arc<Found> {
        let key = (of_ledger(facts), person.clone(), None);
        if key.0.is_empty() && !self.is_actor(&person.user) {
            return Arc::default();
        }
        if let Some(known) = self.found().get(&key) {
            return Arc::clone(known);
        }
        let mut found = Found::default();
        // Whose member an account is matters on its server alone, which is asked for each account by itself.
        if let Some(engine) = self.any_at_once(facts) {
            let engine = &*engine;
            owned(engine, &person.user, &mut found);
            for system in self.engine.estate().systems().iter().map(|system| system.id.value.as_str()) {
                let of_system = self.on(system, engine, &self.relevant(&key.0, engine, &[system]), person);
                found.acts.extend(of_system.acts.iter().cloned());
                found.unknown.extend(of_system.unknown.iter().cloned());
                found.is_cut_short |= of_system.is_cut_short;
            }
        }
        let takes_in = |(number, act): (usize, &Arc<Act>)| matches!(act.gain, Gain::Members(_)).then_some(number);
        found.taking_in = found.acts.iter().enumerate().filter_map(takes_in).collect();
        let found = Arc::new(found);
        self.found().insert(key, Arc::clone(&found));
        found
    }

    /// Returns the same of what a system has a say on; once for all ledgers in which the same is so of what it looks at.
    fn on(&self, system: &str, ledger: &Engine, relevant: &[Fact], person: &Person) -> Arc<Found> {
        let key = (relevant.to_vec(), person.clone(), Some(system.to_owned()));
        if relevant.is_empty() && !self.is_actor(&person.user) {
            return Arc::default();
        }
        if let Some(known) = self.found().get(&key) {
            return Arc::clone(known);
        }
        let mut found = Found::default();
        act::administered(ledger, system, self.targets(), person, &mut found);
        act::written(ledger, system, &person.user, &mut found);
        if let Some(server) = self.tried_server(system) {
            let make = |facts: &[Fact]| self.ledger(facts);
            let here =
                Here { engine: ledger, is_whole: server.at_once(relevant, "", Others::AsWell).0.len() == relevant.len(), make: &make };
            database::passed_on(&here, &server, relevant, person, &mut found);
            self.spent.fetch_add(found.tries, Ordering::Relaxed);
        }
        let found = Arc::new(found);
        self.found().insert(key, Arc::clone(&found));
        found
    }

    /// Returns what is written of a database server in the ledger as it is.
    pub(super) fn server(&self, system: &str) -> Option<Arc<Server>> {
        let of = |site: Site<'_>| Server::of(site, &self.classes().twins(site).lists, |account| self.is_asked(account));
        self.server_in(self.engine, &self.servers, system, of)
    }

    /// Returns the same of the ledger in which things are tried.
    fn tried_server(&self, system: &str) -> Option<Arc<Server>> {
        let of = |site: Site<'_>| Server::of(site, &site.kind().alike(site), |account| self.is_asked(account));
        self.server_in(self.tried(), &self.tried_servers, system, of)
    }

    fn server_in(&self, engine: &Engine, servers: &Mutex<Servers>, system: &str, of: impl Fn(Site<'_>) -> Server) -> Option<Arc<Server>> {
        if self.meant.as_ref().is_some_and(|meant| !meant.contains(system)) {
            return None;
        }
        let mut known = servers.lock().unwrap_or_else(PoisonError::into_inner);
        let made = || engine.site(system).filter(|site| site.entry().kind().is_database()).map(|site| Arc::new(of(site)));
        known.entry(system.to_owned()).or_insert_with(made).clone()
    }

    /// Returns the ledger in which things are tried: without those accounts of large database servers whose absence nobody notices who
    /// comes to anything. Whoever has no act has no ledger but the one as it is.
    fn tried(&self) -> &Engine {
        self.tried.get_or_init(|| {
            let systems = self.engine.estate().systems().iter().map(|system| system.id.value.as_str());
            let large: Vec<Arc<Server>> =
                systems.filter_map(|system| self.server(system)).filter(|server| server.count() > FEW_ACCOUNTS).collect();
            if large.is_empty() {
                return self.engine.clone();
            }
            let matters = self.who_matters();
            let spare: Vec<(&str, FxHashSet<&str>)> =
                large.iter().map(|server| (server.system(), server.spare(|name| matters.contains(name)))).collect();
            fact::without_accounts(self.engine, &spare).unwrap_or_else(|| self.engine.clone())
        })
    }

    /// Returns the names by which anybody signs in who could come to something: who has an act, whose credential is reset, and what is
    /// kept as a secret.
    fn who_matters(&self) -> FxHashSet<&str> {
        let estate = self.engine.estate();
        let mut names: FxHashSet<&str> = self.candidates(None).into_iter().collect();
        let has_grants = |kind: Kind| ![Kind::NETWORK_DEVICE, Kind::HOST, Kind::POSTGRESQL, Kind::MARIADB].contains(&kind);
        if estate.systems().iter().any(|system| has_grants(system.kind())) {
            names.extend(self.targets().users.iter().map(|target| target.name.as_str()));
        }
        let opens = estate.entries().services.iter().flat_map(|service| &service.resources).flat_map(|resource| &resource.opens);
        for whose in opens {
            let name = whose.value.split_once(':').map_or("", |(_, name)| name);
            names.insert(name.split_once('/').map_or(name, |(_, login)| login));
        }
        names
    }

    /// Returns those of some facts that some systems can notice: others leave their answers as they are. Who joins a group can matter to
    /// others as well, whose second person they may be.
    pub(super) fn relevant(&self, facts: &[Fact], ledger: &Engine, systems: &[&str]) -> Vec<Fact> {
        let is_of = |system: &String| systems.contains(&system.as_str());
        let mut is_heard: Option<bool> = None;
        let mut is_noticed = |fact: &Fact| match fact {
            Fact::Becomes(_) | Fact::Knows(_) => false,
            Fact::Joins { .. } => *is_heard.get_or_insert_with(|| self.is_heard_of(facts, ledger, systems)),
            Fact::Shapes { .. } | Fact::Fills { .. } => true,
            Fact::Runs { system, .. }
            | Fact::Grants { system, .. }
            | Fact::Uses { system, .. }
            | Fact::Holds { system, .. }
            | Fact::Owns { system, .. }
            | Fact::Shows { system, .. }
            | Fact::Defines { system, .. }
            | Fact::Rules { system, .. } => is_of(system),
        };
        facts.iter().filter(|fact| is_noticed(fact)).cloned().collect()
    }

    fn found(&self) -> MutexGuard<'_, AllFound> {
        self.found.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Says that there are others of whom the same is so.
fn or_others(count: usize) -> String {
    if count == 0 { String::new() } else { format!(", or as any of {count} others like that") }
}

/// Returns those of some facts that make the ledger another one, in one order.
pub(super) fn of_ledger(facts: &[Fact]) -> Vec<Fact> {
    let mut list: Vec<Fact> = facts.iter().filter(|fact| !fact.is_of_people()).cloned().collect();
    list.sort();
    list
}

/// Returns whoever owns any group.
fn owners(engine: &Engine) -> FxHashSet<Party> {
    engine.estate().group_links().iter().flat_map(|links| &links.owners).map(|(party, _)| *party).collect()
}

/// Owners take members into their groups.
fn owned(engine: &Engine, user: &str, found: &mut Found) {
    let Some(id) = engine.find_user(user, false) else { return };
    let estate = engine.estate();
    for (row, links) in estate.group_links().iter().enumerate() {
        let Some(&(_, place)) = links.owners.iter().find(|&&(party, _)| engine.membership().belongs(id, party)) else { continue };
        let group = &estate.entries().groups[row].id.value;
        let by = By::Unasked {
            act: "takes a member in".to_owned(),
            why: format!("`{}` owns the group `{}`", visible(user), visible(group)),
            place,
        };
        found.acts.push(Arc::new(Act { gain: Gain::Members(group.clone()), by }));
    }
}

/// Returns whether a user or group is somebody, or has them in it.
pub(super) fn belongs(engine: &Engine, user: &str, party: &str) -> bool {
    match party.split_once(':') {
        Some(("user", name)) => name == user,
        Some(("group", name)) => is_member(engine, user, name),
        _ => false,
    }
}

/// What grants say of entries of the ledger by name.
struct Named {
    /// `user/mate-1` and the like.
    exact: FxHashSet<String>,
    /// Parts of paths that take several: what is before the `*` and what is behind it, with the first part of the path.
    several: Vec<(String, String, String)>,
    /// Whether conditions compare the names of what is asked about, or a pattern could be of any sort.
    are_compared: bool,
}

impl Named {
    fn of(engine: &Engine) -> Self {
        let entries = engine.estate().entries();
        let mut named = Self { exact: FxHashSet::default(), several: Vec::new(), are_compared: false };
        let grants = entries.services.iter().flat_map(|service| &service.grants).chain(entries.roles.iter().flat_map(|role| &role.grants));
        let of_grants = grants.flat_map(|grant| grant.on.iter().chain(&grant.except_on)).map(|on| on.value.as_str());
        let of_resources = entries.services.iter().flat_map(|service| &service.resources).map(|resource| resource.path.value.as_str());
        let of_ceilings = entries.services.iter().flat_map(|service| &service.ceilings).filter_map(|ceiling| ceiling.within.as_ref());
        let of_assignments = entries.assignments.iter().filter_map(|assignment| assignment.on.at.as_ref());
        let scopes = of_ceilings.chain(of_assignments).map(|within| within.value.as_str());
        for path in of_grants.chain(of_resources).chain(scopes) {
            let Some((head, rest)) = path.split_once('/') else { continue };
            let name = rest.split('/').next().unwrap_or_default();
            // A pattern that leaves the sort open could be of any.
            named.are_compared |= head.contains('*') && !name.trim_matches('*').is_empty();
            match name.split_once('*') {
                None => drop(named.exact.insert(format!("{head}/{name}"))),
                Some((before, after)) if before.len() + after.trim_matches('*').len() > 0 => {
                    named.several.push((head.to_owned(), before.to_owned(), after.to_owned()));
                }
                Some(_) => {}
            }
        }
        named::each(engine.estate(), &mut |told, _| {
            if let Told::Compares(text) = told {
                named.are_compared |= text.value.contains("resource.name") || text.value.contains("resource.path");
            }
        });
        named
    }

    /// Returns whether a grant could tell an entry from others of its sort.
    fn is_apart(&self, sort: &str, name: &str) -> bool {
        let takes = |(head, before, after): &(String, String, String)| {
            head == sort && name.starts_with(before.as_str()) && name.ends_with(after.as_str())
        };
        self.are_compared || self.exact.contains(&format!("{sort}/{name}")) || self.several.iter().any(takes)
    }
}

/// Does something with each of some things, every other one on another thread where they are many; what comes of them is in no order.
fn on_two_threads<T: Sync, R: Send>(list: &[T], one: impl Fn(&T) -> R + Sync) -> Vec<R> {
    if list.len() < MUCH {
        return list.iter().map(one).collect();
    }
    std::thread::scope(|scope| {
        let other = scope.spawn(|| list.iter().skip(1).step_by(2).map(&one).collect::<Vec<R>>());
        let mut all: Vec<R> = list.iter().step_by(2).map(&one).collect();
        all.extend(other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
        all
    })
}

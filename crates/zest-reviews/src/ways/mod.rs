//! Ways: by which acts somebody could come to more than was given, shortest first.
//!
//! An act is something that somebody may do and that gives them more (`act`): reset or read a credential, change the members of a group or
//! own it, edit a role, a command set or a job, write what runs as another, grant, or what a statement does on a database server
//! (`database`). Each is found in the sets of rights of the ledger as the acts before left it; acting as another, assumed roles and
//! running as an account are in these sets already. Each step is a question that was asked, and is allowed.

mod act;
mod acts;
mod cut;
mod database;
mod fact;
mod strong;
mod tie;
mod top;

use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, BinaryHeap};
use std::sync::Arc;

use fixedbitset::FixedBitSet;
use rustc_hash::FxHashSet;

pub use acts::Acts;
pub use cut::cuts;
pub use top::unmeant;
use zest_engine::Engine;
use zest_engine::links::Party;
use zest_engine::rights::{Action, Rights, Side, Within, rights};
use zest_model::ask::{Act, Form, GateOutcome, Question, Session, Verdict};
pub use zest_model::listing::{Cut, Way, WayStep};
use zest_model::source::visible;

use crate::review::{Sought, sought_on};
use acts::{By, Gain, InName, Person, of_ledger};
use fact::Fact;

/// What somebody could come to.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::Sought, ways::{Acts, Aim, Ways}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }, { allow = ["reset-credential"], on = "user/mate-1", to = ["user:mate-2"] }]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let aim = Aim::User("mate-1");
/// let acts = Acts::of(&engine, &[aim]);
/// assert!(Ways::of(&acts, "mate-2").expect("the user is known").to(aim).is_some());
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug)]
pub enum Aim<'a> {
    /// To do something on one of some systems, in sessions of which some facts are stated.
    Do(Sought<'a>, &'a [&'a str], &'a Session),
    /// To sign in as a user, or act as them.
    User(&'a str),
    /// To be in a group.
    Group(&'a str),
}

/// What was found on the way from somebody, as far as it was looked for.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::Sought, ways::{Acts, Aim, Ways}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }, { allow = ["reset-credential"], on = "user/mate-1", to = ["user:mate-2"] }]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// # let aim = Aim::Do(Sought::Line("plan on shift/early"), &["rota"], &Session::default());
/// # let acts = Acts::of(&engine, &[aim]);
/// let mut ways = Ways::of(&acts, "mate-2").expect("the user is known");
/// assert!(ways.to(aim).is_some() && !ways.is_cut_short);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Ways<'a, 'e> {
    acts: &'a Acts<'e>,
    /// Who sets out.
    pub from: String,
    got: Vec<Got>,
    known: FxHashSet<Fact>,
    /// Things from which it was not yet looked what they lead to, the nearest first.
    open: BinaryHeap<Reverse<(usize, usize)>>,
    /// Things that are looked at together, by number: one by one, but for many on one database server.
    bundles: Vec<Vec<usize>>,
    has_begun: bool,
    /// How many things had been come to when it was looked what all of them lead to.
    together: usize,
    ledgers: FxHashSet<Vec<Fact>>,
    /// Whether anybody was found who takes members in, in the ledger as it is.
    takes_in: bool,
    /// Whose acts were looked at in which ledger: of these nothing new comes but that others are taken in.
    looked_at: FxHashSet<(Vec<Fact>, Person)>,
    /// What is not known of acts that could give more.
    unknown: Vec<String>,
    /// Whether there is more than was looked at.
    pub is_cut_short: bool,
}

/// Something that was come to.
#[derive(Debug)]
struct Got {
    fact: Fact,
    act: Taken,
    /// What must be so before, by number, in order.
    before: Vec<usize>,
}

/// An act as somebody carries it out.
#[derive(Clone, Debug)]
struct Taken {
    by: String,
    how: By,
}

/// How many things are come to at most, from one person.
const MAX_GOT: usize = 20_000;

/// How many things on one database server are looked at one by one.
const MAX_ALONE: usize = 16;

/// After how many things, one by one, something is looked for that is come to after several that exclude each other.
const MAX_AFTER: usize = 100;

/// How often an order is tried in which things can be come to.
const MAX_PLACED: usize = 200;

/// How many ledgers are looked at, from one person.
const MAX_LEDGERS: usize = 600;

impl<'a, 'e> Ways<'a, 'e> {
    /// Sets out. Nothing for an unknown user.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, review::Sought, ways::{Acts, Aim, Ways}};
    /// let estate = Ledger::new().document("rota.toml", r#"
    /// [users.desk-1]
    /// proofs = ["password"]
    /// [users.mate-1]
    /// proofs = ["password"]
    /// [systems.rota]
    /// kind = "application"
    /// [applications.rota]
    /// types.shift.rights = ["plan"]
    /// objects."shift/early" = {}
    /// grants = [
    ///   { allow = ["plan"], on = "shift/*", to = ["user:mate-1"] },
    ///   { allow = ["reset-credential"], on = "user/mate-1", to = ["user:desk-1"] },
    /// ]
    /// "#).estate()?;
    /// let engine = Engine::compile(estate)?;
    /// let aim = Aim::Do(Sought::Line("plan on shift/early"), &["rota"], &Session::default());
    /// let acts = Acts::of(&engine, &[aim]);
    /// let way = Ways::of(&acts, "desk-1").expect("the user is known").to(aim).expect("there is a way");
    /// assert_eq!(way.steps[0].question.as_ref().map(|asked| asked.line.as_str()), Some("reset-credential on user/mate-1"));
    /// assert_eq!(way.steps[1].by, "mate-1");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn of(acts: &'a Acts<'e>, from: &str) -> Option<Self> {
        acts.engine().find_user(from, false)?;
        Some(Self {
            acts,
            from: from.to_owned(),
            got: Vec::new(),
            known: FxHashSet::default(),
            open: BinaryHeap::new(),
            bundles: Vec::new(),
            has_begun: false,
            together: 0,
            ledgers: FxHashSet::default(),
            takes_in: false,
            looked_at: FxHashSet::default(),
            unknown: Vec::new(),
            is_cut_short: false,
        })
    }

    /// Returns how near the nearest is from which it was not looked on; nothing where there is none.
    fn nearest(&self) -> Option<usize> {
        if !self.has_begun {
            return Some(0);
        }
        let of_all = (self.got.len() > self.together.max(1)).then_some(self.got.len());
        self.open.peek().map(|Reverse((length, _))| *length).or(of_all)
    }

    /// Looks on from the nearest: from each thing that was come to alone, and from all of them together, since two things that are of no
    /// use alone may be together.
    fn look_on(&mut self) {
        let base = if !self.has_begun {
            self.has_begun = true;
            Vec::new()
        } else if let Some(Reverse((_, bundle))) = self.open.pop() {
            let numbers: Vec<usize> = self.bundles[bundle].iter().copied().filter(|&number| self.leads_on(number)).collect();
            if numbers.is_empty() {
                return;
            }
            self.with_before(&numbers)
        } else {
            self.together = self.got.len();
            (0..self.got.len()).collect()
        };
        let facts = self.facts(&base);
        let ledger = of_ledger(&facts);
        self.ledgers.insert(ledger.clone());
        if self.ledgers.len() > MAX_LEDGERS || self.got.len() > MAX_GOT {
            self.is_cut_short = true;
            self.open.clear();
            self.together = self.got.len();
            return;
        }
        let mut unknown = Vec::new();
        let mut found: Vec<(Fact, Taken)> = Vec::new();
        let people = self.people(&facts);
        let engine = self.acts.any_at_once(&facts);
        for person in &people {
            let of_person = self.acts.by(&facts, person);
            let is_new = self.looked_at.insert((ledger.clone(), person.clone()));
            if is_new {
                unknown.extend(of_person.unknown.iter().cloned());
                self.is_cut_short |= of_person.is_cut_short;
            }
            self.takes_in |= ledger.is_empty() && !of_person.taking_in.is_empty();
            let all = if is_new { &of_person.acts[..] } else { &[] };
            let taking_in = of_person.taking_in.iter().filter(|_| !is_new).map(|&number| &of_person.acts[number]);
            for act in all.iter().chain(taking_in) {
                let mut add = |fact: &Fact| {
                    if !self.known.contains(fact) && fact.becomes() != Some(&self.from) {
                        found.push((fact.clone(), Taken { by: person.user.clone(), how: act.by.clone() }));
                    }
                };
                each_gained(act, &people, engine.as_deref(), &mut add);
            }
        }
        let mut new: Vec<usize> = Vec::new();
        for (fact, act) in found {
            if self.known.contains(&fact) {
                continue;
            }
            let (before, act) = self.least(base.clone(), act, |ways, base| ways.act_for(base, &fact));
            let in_order = self.in_order(&before).filter(|before| self.is_allowed(before, &act)).map(|before| (before, act));
            let Some((before, act)) = in_order.or_else(|| self.after_one(&base, &fact)) else {
                unknown.push(format!("not looked at in every order: {}", fact.words()));
                self.is_cut_short = true;
                continue;
            };
            new.push(self.got.len());
            self.known.insert(fact.clone());
            self.got.push(Got { fact, act, before });
        }
        self.bundle(new);
        self.unknown.append(&mut unknown);
    }

    /// Puts those of some things together that are as near as each other and on one database server, where they are many: what is come to
    /// there adds to what is held, so whatever one of them leads to, all of them do.
    fn bundle(&mut self, new: Vec<usize>) {
        let mut by_server: BTreeMap<(usize, String), Vec<usize>> = BTreeMap::new();
        for number in new {
            let Got { fact, before, .. } = &self.got[number];
            let length = before.len() + 1;
            match fact.server() {
                Some(system) => by_server.entry((length, system.to_owned())).or_default().push(number),
                None => self.add_bundle(length, vec![number]),
            }
        }
        for ((length, system), numbers) in by_server {
            let only_adds = || self.acts.server(&system).is_some_and(|server| server.only_adds());
            if numbers.len() > MAX_ALONE && only_adds() {
                self.add_bundle(length, numbers);
            } else {
                numbers.into_iter().for_each(|number| self.add_bundle(length, vec![number]));
            }
        }
    }

    fn add_bundle(&mut self, length: usize, numbers: Vec<usize>) {
        self.open.push(Reverse((length, self.bundles.len())));
        self.bundles.push(numbers);
    }

    /// Returns whether more can come of something than of what was so before.
    fn leads_on(&self, number: usize) -> bool {
        let Got { fact, before, .. } = &self.got[number];
        let is_as_it_is = || before.iter().all(|&other| self.got[other].fact.is_of_people());
        match fact {
            // Whoever has no act can be taken in by others, if at all.
            Fact::Becomes(user) | Fact::Knows(user) => self.takes_in || !is_as_it_is() || self.acts.is_actor(user),
            _ => self.acts.leads_on(fact),
        }
    }

    /// Looks on until there is no more.
    fn close(&mut self) {
        while self.nearest().is_some() {
            self.look_on();
        }
    }

    /// Says what is not known of ways to something, where none was found.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, review::Sought, ways::{Acts, Aim, Ways}};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }, { allow = ["reset-credential"], on = "user/mate-1", to = ["user:mate-2"] }]
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
    /// # let aim = Aim::Do(Sought::Line("plan on shift/early"), &["rota"], &Session::default());
    /// # let acts = Acts::of(&engine, &[aim]);
    /// let mut ways = Ways::of(&acts, "mate-2").expect("the user is known");
    /// assert!(ways.unknown(aim).is_empty());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn unknown(&mut self, aim: Aim<'_>) -> Vec<String> {
        self.close();
        let mut list = self.unknown.clone();
        list.extend(self.is_cut_short.then(|| format!("{}: there is more than was looked at", visible(&self.from))));
        if let Aim::Do(sought, systems, stated) = aim {
            let in_name = self.acts.through(sought, systems);
            for base in [Vec::new(), (0..self.got.len()).collect()] {
                let facts = self.facts(&base);
                let (ledgers, is_whole) = self.acts.at_once(&facts);
                list.extend((!is_whole).then(|| format!("{}: not all that could be come to can be so at once", visible(&self.from))));
                for (engine, person) in
                    ledgers.iter().flat_map(|engine| self.people(&facts).into_iter().map(move |person| (engine, person)))
                {
                    let stated = stated_of(stated, &person);
                    list.extend(sets(engine, &person.user, &stated, sought, systems).iter().flat_map(Rights::unknown));
                    for in_name in &*in_name {
                        list.extend(in_name_of(engine, &person.user, &stated, in_name).iter().flat_map(Rights::unknown));
                    }
                }
            }
        }
        list.sort();
        list.dedup();
        list
    }

    /// Returns some things with all that must be so before, in order.
    fn with_before(&self, numbers: &[usize]) -> Vec<usize> {
        if let [one] = numbers {
            return self.got[*one].before.iter().copied().chain([*one]).collect();
        }
        // Whatever must be so before was come to before.
        let all: BTreeSet<usize> = numbers.iter().flat_map(|&number| self.got[number].before.iter().copied().chain([number])).collect();
        all.into_iter().collect()
    }

    /// Finds one of some things that is enough for something, or a part of them that is, with all that must be so before.
    fn enough<T>(&self, numbers: &[usize], is_so: &impl Fn(&Self, &[usize]) -> Option<T>) -> Option<(Vec<usize>, T)> {
        let base = self.with_before(numbers);
        let found = is_so(self, &base)?;
        let (first, second) = numbers.split_at(numbers.len() / 2);
        if first.is_empty() {
            return Some((base, found));
        }
        self.enough(first, is_so).or_else(|| self.enough(second, is_so)).or(Some((base, found)))
    }

    /// Returns one of several things that is likely to be enough: an account of somebody who may by themselves.
    fn likely(&self, numbers: &[usize], doers: Option<&FixedBitSet>) -> Option<usize> {
        let (doers, engine) = (doers.filter(|_| numbers.len() > 1)?, self.acts.engine());
        let is_of_doer = |number: &&usize| {
            let (Fact::Uses { system, account, .. } | Fact::Defines { system, account, .. }) = &self.got[**number].fact else {
                return false;
            };
            let login = engine.site(system).map(|site| site.kind().login_of(account));
            login.and_then(|login| engine.find_user(&login, false)).is_some_and(|user| doers.contains(user.index()))
        };
        numbers.iter().find(is_of_doer).copied()
    }

    /// Finds one of some things after which something can be come to, where what is least of them cannot be put into an order: of those that
    /// are tried together some exclude each other.
    fn after_one(&self, base: &[usize], fact: &Fact) -> Option<(Vec<usize>, Taken)> {
        base.iter().take(MAX_AFTER).find_map(|&number| {
            let before = self.with_before(&[number]);
            let act = self.act_for(&before, fact)?;
            self.is_allowed(&before, &act).then_some((before, act))
        })
    }

    fn facts(&self, base: &[usize]) -> Vec<Fact> {
        base.iter().map(|&number| self.got[number].fact.clone()).collect()
    }

    /// Leaves out whatever is not needed for something that was found, and what only that needed: of many things whole halves at first.
    fn least<T>(&self, mut base: Vec<usize>, mut found: T, is_so: impl Fn(&Self, &[usize]) -> Option<T>) -> (Vec<usize>, T) {
        let mut size = if base.len() > MAX_ALONE { base.len() / 2 } else { 1 };
        loop {
            let mut at = base.len();
            while at > 0 {
                let out: Vec<usize> = base[at.saturating_sub(size)..at].to_vec();
                at = at.saturating_sub(size);
                let is_left = |other: &usize| !out.contains(other) && !self.got[*other].before.iter().any(|before| out.contains(before));
                let without: Vec<usize> = base.iter().copied().filter(is_left).collect();
                if let Some(better) = is_so(self, &without) {
                    found = better;
                    base = without;
                    at = at.min(base.len());
                }
            }
            if size == 1 {
                return (base, found);
            }
            size /= 2;
        }
    }

    /// Returns those whose rights are there: whoever sets out, and everybody they sign in as.
    fn people(&self, facts: &[Fact]) -> Vec<Person> {
        // Of a credential that was read it is not written which proof it is.
        let is_anew = |fact: &Fact| matches!(fact, Fact::Becomes(_));
        let others = facts.iter().filter_map(|fact| Some(Person { user: fact.becomes()?.to_owned(), is_anew: is_anew(fact) }));
        std::iter::once(Person { user: self.from.clone(), is_anew: false }).chain(others).collect()
    }

    /// Returns the act that gives something in the ledger in which some things are so, if there is one.
    fn act_for(&self, base: &[usize], wanted: &Fact) -> Option<Taken> {
        let facts = self.facts(base);
        let people = self.people(&facts);
        let engine = self.acts.any_at_once(&facts);
        people.iter().find_map(|person| {
            let found = self.acts.by(&facts, person);
            let gives = |act: &&Arc<acts::Act>| {
                let mut is_it = false;
                each_gained(act, &people, engine.as_deref(), &mut |fact| is_it |= fact == wanted);
                is_it
            };
            let act = found.acts.iter().find(gives)?;
            Some(Taken { by: person.user.clone(), how: act.by.clone() })
        })
    }

    /// Puts some things into an order in which each can be come to when those before it are so; nothing where none was found. What somebody
    /// comes to can take something away: whoever has become a superuser is touched by superusers alone.
    fn in_order(&self, base: &[usize]) -> Option<Vec<usize>> {
        // Those before a thing are in such an order.
        let Some(&last) = base.iter().max() else { return Some(Vec::new()) };
        if self.got[last].before.len() + 1 == base.len() {
            return Some(self.with_before(&[last]));
        }
        let mut placed = Vec::new();
        self.place(&mut placed, base, &mut { MAX_PLACED }).then_some(placed)
    }

    fn place(&self, placed: &mut Vec<usize>, left: &[usize], tries: &mut usize) -> bool {
        let next = |number: &&usize| self.got[**number].before.iter().all(|before| placed.contains(before));
        let next: Vec<usize> = left.iter().filter(next).copied().collect();
        for number in next {
            *tries = tries.saturating_sub(1);
            if *tries == 0 || !self.is_allowed(placed, &self.got[number].act) {
                continue;
            }
            let others: Vec<usize> = left.iter().copied().filter(|other| *other != number).collect();
            placed.push(number);
            if self.place(placed, &others, tries) {
                return true;
            }
            placed.pop();
        }
        left.is_empty()
    }

    /// Returns whether an act is allowed where some things are so, which can be so at once.
    fn is_allowed(&self, base: &[usize], act: &Taken) -> bool {
        let ledger = self.acts.ledger(&self.facts(base));
        ledger.is_some_and(|engine| match &act.how {
            By::Asked(question) => engine.decide(question).verdict != Verdict::Denied,
            By::Unasked { .. } => true,
        })
    }

    /// Makes the step of something that was come to.
    fn step(&self, number: usize) -> WayStep {
        let Got { fact, act, before } = &self.got[number];
        match &act.how {
            By::Asked(question) => match self.acts.ledger(&self.facts(before)) {
                Some(engine) => asked(&engine, &act.by, (**question).clone(), fact.words()),
                None => unasked(self.acts.engine(), &act.by, fact, &By::Asked(Arc::clone(question))),
            },
            By::Unasked { .. } => unasked(self.acts.engine(), &act.by, fact, &act.how),
        }
    }

    fn steps(&self, base: &[usize]) -> Vec<WayStep> {
        base.iter().map(|&number| self.step(number)).collect()
    }

    /// Finds a shortest way to something; nothing where none was found.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, review::Sought, ways::{Acts, Aim, Ways}};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }, { allow = ["reset-credential"], on = "user/mate-1", to = ["user:mate-2"] }]
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
    /// let nobody = Aim::Group("planners");
    /// let acts = Acts::of(&engine, &[nobody]);
    /// assert!(Ways::of(&acts, "mate-2").expect("the user is known").to(nobody).is_none());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn to(&mut self, aim: Aim<'_>) -> Option<Way> {
        self.over_groups(aim).map(|(way, _)| way)
    }

    /// Finds the same, with the groups into which somebody is taken on it.
    pub(super) fn over_groups(&mut self, aim: Aim<'_>) -> Option<(Way, Vec<String>)> {
        let (base, step) = self.reached(aim)?;
        let mut steps = self.steps(&base);
        steps.extend(step);
        let joined = base.iter().filter_map(|&number| match &self.got[number].fact {
            Fact::Joins { group, .. } => Some(group.clone()),
            _ => None,
        });
        let joined = joined.collect();
        Some((Way { from: self.from.clone(), steps, more: zest_model::More }, joined))
    }

    /// Finds what must be so, as little as possible, for something to be reached, and the step by which it is.
    fn reached(&mut self, aim: Aim<'_>) -> Option<(Vec<usize>, Option<WayStep>)> {
        let length_of = |ways: &Self, bundle: usize| ways.bundles[bundle].first().map_or(0, |&number| ways.got[number].before.len() + 1);
        let mut unchecked: BinaryHeap<Reverse<(usize, usize)>> =
            (0..self.bundles.len()).map(|bundle| Reverse((length_of(self, bundle), bundle))).collect();
        // In the ledger as it is, nobody else needs to be asked.
        let (doers, in_name) = match aim {
            Aim::Do(sought, systems, stated) => (Some(self.acts.doers(sought, systems, stated)), self.acts.through(sought, systems)),
            Aim::User(_) | Aim::Group(_) => (None, Arc::default()),
        };
        let reaches = |ways: &Self, base: &[usize]| ways.reaches(base, aim, (doers.as_deref(), &in_name));
        let mut reached = reaches(self, &[]).map(|step| (Vec::new(), step));
        while reached.is_none() {
            let next = unchecked.peek().map(|Reverse((length, _))| *length);
            match (next, self.nearest()) {
                (Some(next), nearest) if nearest.is_none_or(|nearest| next <= nearest) => {
                    let Some(Reverse((_, bundle))) = unchecked.pop() else { break };
                    let numbers = &self.bundles[bundle];
                    let at_once = self.likely(numbers, doers.as_deref()).and_then(|number| self.enough(&[number], &reaches));
                    reached = at_once.or_else(|| self.enough(numbers, &reaches));
                }
                (_, Some(_)) => {
                    let known = self.bundles.len();
                    self.look_on();
                    unchecked.extend((known..self.bundles.len()).map(|bundle| Reverse((length_of(self, bundle), bundle))));
                }
                (_, None) => {
                    let all: Vec<usize> = (0..self.got.len()).collect();
                    reached = reaches(self, &all).map(|step| (all, step));
                    break;
                }
            }
        }
        let (base, step) = reached?;
        let (base, step) = self.least(base, step, reaches);
        let in_order = self.in_order(&base).filter(|base| self.acts.ledger(&self.facts(base)).is_some());
        if in_order.is_none() {
            self.unknown.push(format!("{}: what is needed cannot all be so at once", visible(&self.from)));
        }
        Some((in_order?, step))
    }

    /// Returns each thing that could be come to, with a shortest way to it.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, review::Sought, ways::{Acts, Aim, Ways}};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }, { allow = ["reset-credential"], on = "user/mate-1", to = ["user:mate-2"] }]
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
    /// # let aim = Aim::Do(Sought::Line("plan on shift/early"), &["rota"], &Session::default());
    /// # let acts = Acts::of(&engine, &[aim]);
    /// let all = Ways::of(&acts, "mate-2").expect("the user is known").all();
    /// assert!(all.iter().all(|way| way.from == "mate-2"));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn all(&mut self) -> Vec<Way> {
        self.close();
        let way = |number: usize| {
            let mut steps = self.steps(&self.with_before(&[number]));
            // Whoever is meant stands for all whom nothing tells apart.
            if let Some(last) = steps.last_mut() {
                last.gives += &match &self.got[number].fact {
                    Fact::Becomes(user) => self.acts.others_like(user),
                    Fact::Uses { system, account, .. } | Fact::Defines { system, account, .. } => self.acts.accounts_like(system, account),
                    Fact::Knows(_)
                    | Fact::Joins { .. }
                    | Fact::Runs { .. }
                    | Fact::Shapes { .. }
                    | Fact::Fills { .. }
                    | Fact::Grants { .. }
                    | Fact::Holds { .. }
                    | Fact::Owns { .. }
                    | Fact::Shows { .. }
                    | Fact::Rules { .. } => String::new(),
                };
            }
            Way { from: self.from.clone(), steps, more: zest_model::More }
        };
        // That somebody else is taken in counts where it leads on.
        let is_told = |number: &usize| !matches!(&self.got[*number].fact, Fact::Joins { user, .. } if *user != self.from);
        (0..self.got.len()).filter(is_told).map(way).collect()
    }

    /// Returns the last step of a way, if something is reached where some things are so; no step where it is what is so.
    /// Who may it in the ledger as it is, where that is known, and what does it in the name of somebody else, are found beforehand.
    fn reaches(&self, base: &[usize], aim: Aim<'_>, (doers, in_name): (Option<&FixedBitSet>, &[InName])) -> Option<Option<WayStep>> {
        let may = |user: &str| {
            let user = self.acts.engine().find_user(user, false);
            doers.is_none_or(|doers| user.is_some_and(|user| doers.contains(user.index())))
        };
        let is_as_it_is = base.iter().all(|&number| self.got[number].fact.is_of_people());
        let mut others = base.iter().filter_map(|&number| self.got[number].fact.becomes());
        if is_as_it_is && !may(&self.from) && !others.any(may) {
            return None;
        }
        let facts = self.facts(base);
        match aim {
            Aim::Group(group) => {
                let is_it = |fact: &Fact| matches!(fact, Fact::Joins { user, group: joined } if *user == self.from && joined == group);
                (facts.iter().any(is_it) || is_member(self.acts.engine(), &self.from, group)).then_some(None)
            }
            Aim::User(target) => {
                if facts.iter().any(|fact| fact.becomes() == Some(target)) {
                    return Some(None);
                }
                let (ledgers, people) = (self.acts.at_once(&facts).0, self.people(&facts));
                let acts_as =
                    |engine: &Arc<Engine>| people.iter().find_map(|person| acts_as(engine, &person.user, &person.session(), target));
                ledgers.iter().find_map(acts_as).map(Some)
            }
            Aim::Do(sought, systems, stated) => {
                let people = self.people(&facts);
                // What the systems cannot notice leaves their answers as they are; over a host others could be heard of.
                let is_from_host = stated.acting.iter().any(|act| matches!(act, Act::Account { host: Some(_), .. }));
                let found = self.acts.at_once(&facts).0.iter().find_map(|engine| {
                    let is_noticed = is_from_host || !self.acts.relevant(&facts, engine, systems).is_empty();
                    let can = |person: &&Person| is_noticed || may(&person.user);
                    people.iter().filter(can).find_map(|person| {
                        let stated = stated_of(stated, person);
                        let in_name = || does_in_name(engine, &person.user, &stated, in_name);
                        does(engine, &person.user, &stated, sought, systems).or_else(in_name)
                    })
                });
                found.map(Some)
            }
        }
    }
}

/// Tells what an act gives where the rights of some people are there.
fn each_gained(act: &acts::Act, people: &[Person], engine: Option<&Engine>, tell: &mut dyn FnMut(&Fact)) {
    match (&act.gain, engine) {
        (Gain::One(fact), _) => tell(fact),
        (Gain::Members(group), Some(engine)) => {
            for joins in people.iter().filter(|joins| !is_member(engine, &joins.user, group)) {
                tell(&Fact::Joins { user: joins.user.clone(), group: group.clone() });
            }
        }
        (Gain::Members(_), None) => {}
    }
}

/// Returns what is stated of the sessions of somebody: whoever signs in with a password that was set anew gives that, unless something
/// else is stated.
fn stated_of(stated: &Session, person: &Person) -> Session {
    let proofs = stated.proofs.clone().or_else(|| person.session().proofs);
    Session { proofs, ..stated.clone() }
}

fn is_member(engine: &Engine, user: &str, group: &str) -> bool {
    let party = engine.find_group(group).map(Party::Group);
    engine.find_user(user, false).zip(party).is_some_and(|(user, party)| engine.membership().belongs(user, party))
}

/// Makes the step of an act that no question is about.
fn unasked(engine: &Engine, by: &str, fact: &Fact, how: &By) -> WayStep {
    let (act, why, place) = match how {
        By::Unasked { act, why, place } => (Some(act.clone()), why.clone(), Some(engine.estate().sources().locate(*place))),
        By::Asked(_) => (None, String::new(), None),
    };
    WayStep { by: by.to_owned(), question: None, act, needs: Vec::new(), gives: fact.words(), why, place, more: zest_model::More }
}

/// Makes the step of a question that is allowed.
fn asked(engine: &Engine, by: &str, question: Question, gives: String) -> WayStep {
    let answer = engine.explain(&question);
    let needs = answer.gates.iter().filter(|gate| gate.outcome == GateOutcome::Asks).map(|gate| gate.text.clone()).collect();
    let gate = answer.last_permit();
    let (why, place) = gate.map_or_else(Default::default, |gate| (gate.text.clone(), gate.location.clone()));
    WayStep { by: by.to_owned(), question: Some(question), act: None, needs, gives, why, place, more: zest_model::More }
}

/// Returns what somebody may of what is sought, system by system.
fn sets(engine: &Engine, user: &str, session: &Session, sought: Sought<'_>, systems: &[&str]) -> Vec<Rights> {
    let Some(user) = engine.find_user(user, false) else { return Vec::new() };
    let sides = systems.iter().filter_map(|name| engine.site(name)).map(|site| Side { site, user });
    let on_system = |side: Side<'_>| {
        let actions = sought_on(&side, sought, None);
        let within = Within { stated: session.clone(), actions, unless: None };
        if within.actions.is_empty() { None } else { rights(&[side], &within).pop() }
    };
    sides.filter_map(on_system).collect()
}

/// Returns the step by which somebody does what is sought.
fn does(engine: &Engine, user: &str, session: &Session, sought: Sought<'_>, systems: &[&str]) -> Option<WayStep> {
    let length = |question: &Question| (question.session.acting.len(), question.line.len());
    let sets = sets(engine, user, session, sought, systems);
    let best = sets.iter().filter_map(Rights::example_allowed).min_by_key(length);
    let question = best?;
    let acting: String = question.session.acting.iter().map(|act| format!(", {act}")).collect();
    let gives = format!("{} on {}{acting}", visible(&question.line), visible(&question.system));
    Some(asked(engine, user, question, gives))
}

/// Returns what somebody may of a statement that does something in the name of somebody else.
fn in_name_of(engine: &Engine, user: &str, session: &Session, InName { system, line: _, through }: &InName) -> Vec<Rights> {
    sets(engine, user, session, Sought::Statement(&through.statement), &[system])
}

/// Returns the step by which somebody has a view or routine do what is sought.
fn does_in_name(engine: &Engine, user: &str, session: &Session, all: &[InName]) -> Option<WayStep> {
    all.iter().find_map(|in_name| {
        let sets = in_name_of(engine, user, session, in_name);
        let question = sets.iter().find_map(Rights::example_allowed)?;
        let gives = format!("{} on {}, through {}", visible(&in_name.line), visible(&in_name.system), visible(&in_name.through.object));
        Some(asked(engine, user, question, gives))
    })
}

/// Returns the step by which somebody acts as a user, somewhere.
fn acts_as(engine: &Engine, user: &str, session: &Session, target: &str) -> Option<WayStep> {
    let id = engine.find_user(user, false)?;
    engine.all_sites().filter(|site| site.kind().knows_links()).find_map(|site| {
        let openings = site.kind().openings(site, id);
        let is_it = |acting: &[Act]| matches!(acting.last(), Some(Act::User(name)) if name == target);
        let chains = openings.iter().map(|opening| &opening.session.acting).filter(|acting| is_it(acting));
        let mut found = chains.filter_map(|acting| {
            let stated = Session { acting: acting.clone(), ..session.clone() };
            let side = Side { site, user: id };
            // Whatever can be done in it: the session is what counts.
            let actions = vec![Action::alone("", Form::Line)];
            let set = rights(&[side], &Within { stated: stated.clone(), actions, unless: None }).pop()?;
            set.opened(&stated)
        });
        let question = found.next()?;
        let answer = engine.sign_in(&question);
        let gate = answer.gates.iter().rev().find(|gate| gate.outcome == GateOutcome::Passes);
        let (why, place) = gate.map_or_else(Default::default, |gate| (gate.text.clone(), gate.location.clone()));
        let gives = format!("acts as `{}` on {}", visible(target), visible(&question.system));
        Some(WayStep {
            by: user.to_owned(),
            question: Some(question),
            act: None,
            needs: Vec::new(),
            gives,
            why,
            place,
            more: zest_model::More,
        })
    })
}

//! Promises: statements over everybody, every session and every action, proved or refuted over the sets of rights.
//!
//! "May" is what is allowed, at once or after obligations that can be discharged. "Nobody" is proved over what is not excluded, so what
//! was not read, and what lies beyond a limit, leaves a promise not proved. Every example is asked before it is shown.

use std::sync::Arc;

use fixedbitset::FixedBitSet;
use jiff::Timestamp;
use rustc_hash::FxHashSet;

use zest_engine::classes::{Classes, OfClass};
use zest_engine::links::{Resolver, SystemId, UserId};
use zest_engine::rights::{Action, Always, Side, Within, rights};
use zest_engine::{Engine, Estate, rights};
use zest_model::ask::{Answer, Form, Gate, Question, Verdict};
use zest_model::entry::Promise;
use zest_model::finding::Finding;
pub use zest_model::listing::{Promised, Standing, Witness};
use zest_model::source::{At, visible};

use crate::review::{Sought, StandIn, Subject, nobodys_accounts};
use crate::row;
use crate::ways::{Acts, Aim, Ways};

/// Looks at all promises of a ledger; `now` is the moment at which somebody must be there to count, where no other is stated.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, promise::{Standing, promises}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # [[promises]]
/// # of = ["user:mate-1"]
/// # never = ["plan on **"]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let found = promises(&engine, "2026-11-25T08:00:00Z".parse().expect("a moment"));
/// assert_eq!(found[0].standing, Standing::Refuted);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn promises(engine: &Engine, now: Timestamp) -> Vec<Promised> {
    let classes = Classes::of(engine);
    (0..engine.estate().entries().promises.len()).map(|number| promise(engine, &classes, number, now)).collect()
}

/// Looks at one promise, by its number in the ledger; those together who are alike.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, promise::{Standing, promise}, review::Classes};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # [[promises]]
/// # of = ["user:mate-2"]
/// # never = ["plan on **"]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let found = promise(&engine, &Classes::of(&engine), 0, "2026-11-25T08:00:00Z".parse().expect("a moment"));
/// assert_eq!(found.standing, Standing::Proved);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn promise(engine: &Engine, classes: &Classes<'_>, number: usize, now: Timestamp) -> Promised {
    let entry = &engine.estate().entries().promises[number];
    Found::of(engine.estate(), entry, (engine, classes), now).told(engine, entry)
}

/// Returns how a promise of a ledger stands in another one, such as an earlier revision of it: it says nothing where it is about
/// somebody or something that is not there.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, promise::{Standing, promise, standing_in}, review::Classes};
/// let ledger = |to: &str| {
///     let text = format!(r#"
/// users.mate-1.proofs = ["password"]
/// users.mate-2.proofs = ["password"]
/// systems.rota.kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan"]
/// objects."shift/early" = {{}}
/// grants = [{{ allow = ["plan"], on = "shift/*", to = ["user:{to}"] }}]
/// [[promises]]
/// of = ["user:mate-2"]
/// never = ["plan on **"]
/// "#);
///     Engine::compile(Ledger::new().document("rota.toml", &text).estate()?)
/// };
/// let (before, now) = (ledger("mate-1")?, ledger("mate-2")?);
/// let at = "2026-11-28T12:00:00Z".parse().expect("a moment");
/// assert_eq!(promise(&now, &Classes::of(&now), 0, at).standing, Standing::Refuted);
/// assert_eq!(standing_in((&before, &Classes::of(&before)), &now, 0, at), Standing::Proved);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn standing_in(there: (&Engine, &Classes<'_>), engine: &Engine, number: usize, now: Timestamp) -> Standing {
    Found::of(engine.estate(), &engine.estate().entries().promises[number], there, now).standing()
}

/// Whom and what a promise means. People are numbered: users by their numbers, and then accounts that no user stands behind.
struct Meant<'e> {
    engine: &'e Engine,
    classes: &'e Classes<'e>,
    /// The users it is about.
    people: FixedBitSet,
    /// Whoever uses an account that no user stands behind, and on which system.
    accounts: Vec<(StandIn, String)>,
    systems: Vec<SystemId>,
    within: Within,
}

/// What was found.
#[derive(Default)]
struct Found {
    witnesses: Vec<Witness>,
    /// How many people it is refuted by.
    refuting: usize,
    /// Why it is not proved, or what a number of people is instead.
    why: Vec<String>,
    says_nothing: Vec<String>,
    people: usize,
    systems: usize,
}

/// Of how many people ways are looked for.
const MAX_SETTING_OUT: usize = 1_000;

/// How many examples are told.
const MAX_WITNESSES: usize = 3;

/// What people may on a system who are alike there.
struct Part<'m> {
    engine: &'m Engine,
    people: Vec<usize>,
    set: rights::Rights,
}

/// How people are looked at who differ in nothing but when they are there.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kin {
    /// Together: nobody of them may more than those who always are there.
    Together,
    /// Each by themselves: who gets no session at all is not like somebody who does.
    Apart,
}

/// What people may of what some patterns take, on any of the systems.
struct Held<'m> {
    parts: Vec<Part<'m>>,
    /// For each of the people, the first part in which something is allowed.
    by: Vec<Option<usize>>,
    /// Those of whom something is not known.
    open: FixedBitSet,
}

impl Held<'_> {
    fn may(&self, person: usize) -> bool {
        self.by[person].is_some()
    }

    /// Says what is not known of some people.
    fn unknown(&self, is_meant: impl Fn(usize) -> bool) -> Vec<String> {
        let of_some = |part: &&Part<'_>| part.people.iter().any(|&person| is_meant(person));
        self.parts.iter().filter(of_some).flat_map(|part| part.set.unknown()).collect()
    }
}

/// How many people may something, at least and at most.
#[derive(Clone, Copy)]
struct Wanted {
    least: Option<usize>,
    most: Option<usize>,
}

/// How many people may something on a system.
#[derive(Default)]
struct Tally<'m> {
    count: usize,
    /// How many more might, of whom something is not known.
    open: usize,
    examples: Vec<(&'m Engine, Question)>,
    unknown: Vec<String>,
}

impl<'m> Tally<'m> {
    fn of(parts: &[Part<'m>], example: impl Fn(&Part<'m>) -> Option<Question>) -> Self {
        let mut tally = Self::default();
        for part in parts {
            if let Some(question) = example(part) {
                tally.count += part.people.len();
                tally.examples.push((part.engine, question));
            } else {
                let unknown = part.set.unknown();
                tally.open += if unknown.is_empty() { 0 } else { part.people.len() };
                tally.unknown.extend(unknown);
            }
        }
        tally
    }

    /// Says whether that is too few or too many, with some examples; `told` says how many may.
    fn judged(self, told: impl Fn(usize) -> String, wanted: Wanted, examples: usize, found: &mut Found) {
        let (Self { count, open, .. }, Wanted { least, most }) = (&self, wanted);
        let too_few = least.filter(|least| count + open < *least).map(|least| format!("{}, and {least} must", told(*count)));
        let too_many = most.filter(|most| count > most).map(|most| format!("{}, and at most {most} must", told(*count)));
        let wrong: Vec<String> = too_few.into_iter().chain(too_many).collect();
        if !wrong.is_empty() {
            found.refuting += 1;
            found.not_proved(wrong);
            found.witnesses.extend(self.examples.into_iter().take(examples).map(|(engine, question)| witness(engine, question)));
        } else if least.is_some_and(|least| *count < least) || most.is_some_and(|most| count + open > most) {
            found.not_proved(self.unknown);
        }
    }
}

impl<'e> Meant<'e> {
    /// Follows what a promise of one ledger says in another, or the same.
    fn of(
        written: &Estate,
        entry: &Promise,
        (engine, classes): (&'e Engine, &'e Classes<'e>),
        now: Timestamp,
        findings: &mut Vec<Finding>,
    ) -> Option<Self> {
        let Promise { of, but, on, session, unless, exceptions, longer_than_days, .. } = entry;
        findings.extend(misfits(entry).into_iter().map(|why| row::cannot(entry.place, &why)));
        let estate = engine.estate();
        let mut out: FxHashSet<usize> = row::people(engine, but, findings).into_iter().map(UserId::index).collect();
        for exception in exceptions {
            if exception.until.as_ref().is_some_and(|until| now < until.value) {
                out.extend(row::people(engine, &exception.who, findings).into_iter().map(UserId::index));
            }
        }
        let stated = row::session(written, session, entry.place, findings)?;
        // A question that states what a system does not look at is refused there, whatever it asks.
        let not_heard = |system: &SystemId| {
            let kind = engine.site_of(*system).map(|site| site.kind());
            stated.stated_facts().find(|fact| kind.is_some_and(|kind| !kind.hears(*fact)))
        };
        let systems: Vec<SystemId> = if on.is_empty() {
            (0..estate.systems().len()).map(SystemId::new).filter(|system| not_heard(system).is_none()).collect()
        } else {
            let systems = row::systems(estate, on, findings);
            for (system, fact) in systems.iter().filter_map(|system| Some((system, not_heard(system)?))) {
                let name = visible(&estate.system(*system).id.value);
                findings.push(row::cannot(entry.place, &format!("`{name}` does not look at the fact `{}` of a session", fact.key())));
            }
            systems
        };
        let all: Vec<UserId> =
            if of.is_empty() { (0..estate.users().len()).map(UserId::new).collect() } else { row::people(engine, of, findings) };
        let mut people = FixedBitSet::with_capacity(estate.users().len());
        all.into_iter().map(UserId::index).filter(|user| !out.contains(user)).for_each(|user| people.insert(user));
        let mut accounts = Vec::new();
        if of.is_empty() {
            let is_meant = |name: &str| systems.iter().any(|&system| estate.system(system).id.value == name);
            for (account, system) in nobodys_accounts(engine, is_meant) {
                let subject = Subject::Account { system: system.to_owned(), account: account.to_owned() };
                match subject.stand_in(engine, &stated) {
                    Ok(stand_in) => accounts.push((stand_in, system.to_owned())),
                    Err(why) => {
                        let (account, system) = (visible(account), visible(system));
                        findings.push(row::cannot(entry.place, &format!("`{account} on {system}` cannot be looked at: {why}")));
                    }
                }
            }
        }
        if people.is_clear() && accounts.is_empty() {
            findings.push(row::cannot(entry.place, "it speaks of nobody"));
        }
        let mut found = Vec::new();
        if let Some(compare) = unless.compare.first() {
            findings.push(row::cannot(compare.place, "`unless` compares no attributes"));
        }
        // Until that moment it may be held: sessions before it are not meant.
        let may_last = longer_than_days.as_ref().and_then(|days| {
            let length = jiff::SignedDuration::from_hours(24 * i64::from(days.value));
            Some(At::new(now.checked_add(length).ok()?, days.place))
        });
        if let (Some(days), false) = (longer_than_days, unless.is_empty()) {
            findings.push(row::cannot(days.place, "`longer-than-days` and `unless` do not go together"));
        }
        let unless = (!unless.is_empty() || may_last.is_some()).then(|| {
            let conditions = Resolver { names: estate.names(), findings: &mut found }.conditions(unless, None, may_last.as_ref());
            Arc::new(conditions)
        });
        findings.extend(found.into_iter().map(row::as_not_asked));
        let within = Within { stated, unless, ..Within::default() };
        Some(Self { engine, classes, people, accounts, systems, within })
    }

    /// Returns how many people are numbered.
    fn count_all(&self) -> usize {
        self.engine.estate().users().len() + self.accounts.len()
    }

    /// Returns everybody it is about, by number.
    fn everybody(&self) -> impl Iterator<Item = usize> {
        self.people.ones().chain(self.engine.estate().users().len()..self.count_all())
    }

    /// Returns the side of whoever stands in for something, on a system.
    fn side_of<'s>(&'s self, stand_in: &'s StandIn, system: &str) -> Option<Side<'s>> {
        let engine = stand_in.engine(self.engine);
        Some(Side { site: engine.site(system)?, user: engine.find_user(&stand_in.user, false)? })
    }

    /// Finds what everybody may on a system, of the actions that are wanted of each; those together who are alike.
    fn on(
        &self,
        system: SystemId,
        (texts, common): (&[&str], Option<&[Action]>),
        kin: Kin,
        mut wanted: impl FnMut(&Side<'_>) -> Vec<Action>,
    ) -> Vec<Part<'_>> {
        let name = &self.engine.estate().system(system).id.value;
        let mut parts = Vec::new();
        let Some(site) = self.engine.site_of(system) else { return parts };
        for classes in self.classes.on(site, texts, common, &self.within.stated) {
            if !classes.iter().flat_map(|class| self.classes.members(class)).any(|user| self.people.contains(user.index())) {
                continue;
            }
            for kin in classes.chunks(if kin == Kin::Apart { 1 } else { classes.len() }) {
                for OfClass { people, set } in self.classes.rights(site, kin, &mut wanted, &self.within) {
                    let mut people: Vec<usize> = people.into_iter().map(UserId::index).filter(|&user| self.people.contains(user)).collect();
                    people.sort_unstable();
                    let Some(&first) = people.first() else { continue };
                    let first = &self.engine.estate().user(UserId::new(first)).id.value;
                    let set = if set.user == *first { set } else { set.of_another(first) };
                    parts.push(Part { engine: self.engine, people, set });
                }
            }
        }
        for (number, (stand_in, on)) in self.accounts.iter().enumerate().filter(|(_, (_, on))| on == name) {
            let Some(side) = self.side_of(stand_in, on) else { continue };
            let (engine, actions) = (side.site.engine(), wanted(&side));
            if actions.is_empty() {
                continue;
            }
            let within = Within { stated: stand_in.session.clone(), actions, unless: self.within.unless.clone() };
            let people = vec![self.engine.estate().users().len() + number];
            parts.extend(rights(&[side], &within).pop().map(|set| Part { engine, people, set }));
        }
        parts
    }

    /// Finds the actions that some patterns take for somebody, each once, and notes what became of the patterns.
    fn taken(&self, side: &Side<'_>, patterns: &[&str], looked: &mut Looked) -> Vec<Action> {
        let mut actions: Vec<Action> = Vec::new();
        for (number, pattern) in patterns.iter().enumerate() {
            // Whoever stands in for an account is in a ledger of their own.
            let is_ours = std::ptr::eq(side.site.engine(), self.engine);
            let some = if is_ours { self.classes.like(side, pattern) } else { Arc::new(side.site.kind().like(&[*side], pattern)) };
            match some.as_ref() {
                Ok(some) => {
                    looked.taken[number] |= !some.is_empty();
                    looked.read[number] = true;
                    for action in some {
                        if !actions.iter().any(|known| known.line == action.line && known.form == action.form) {
                            actions.push(Action { like: None, ..action.clone() });
                        }
                    }
                }
                Err(why) => drop(looked.why[number].get_or_insert_with(|| why.clone())),
            }
        }
        actions
    }

    /// Finds what everybody may of what some patterns take, on a system.
    fn may(&self, system: SystemId, patterns: &[At<String>], looked: &mut Looked) -> Vec<Part<'_>> {
        let texts: Vec<&str> = patterns.iter().map(|pattern| pattern.value.as_str()).collect();
        let common = self.engine.site_of(system).and_then(|site| self.classes.common(site, &texts));
        self.on(system, (&texts, common.as_deref()), Kin::Together, |side| self.taken(side, &texts, looked))
    }

    fn look(&self, entry: &Promise, found: &mut Found) {
        let Promise { never, never_both, no_way, always, whoever_may, also_may, may, each_right_of, at_least, at_most, .. } = entry;
        (found.people, found.systems) = (self.everybody().count(), self.systems.len());
        if !never.is_empty() {
            self.never(never, found);
        } else if !never_both.is_empty() {
            self.never_both(never_both, found);
        } else if !no_way.is_empty() {
            self.no_way(no_way, found);
        } else if !always.is_empty() {
            self.always(always, found);
        } else if !whoever_may.is_empty() {
            self.whoever(whoever_may, also_may, found);
        } else if !may.is_empty() || !each_right_of.is_empty() {
            let least = at_least.as_ref().map(|least| least.value as usize).or_else(|| at_most.is_none().then_some(1));
            let most = at_most.as_ref().map(|most| most.value as usize);
            let wanted = Wanted { least, most };
            if may.is_empty() { self.each_right(each_right_of, wanted, found) } else { self.count(may, wanted, found) }
        } else {
            found.says_nothing.push("it says neither what nobody may nor what somebody may".to_owned());
        }
    }

    fn never(&self, patterns: &[At<String>], found: &mut Found) {
        let mut looked = Looked::of(patterns);
        let held = self.somewhere(patterns, &mut looked);
        for part in &held.parts {
            found.witnesses.extend(part.set.example_allowed().map(|question| witness(part.engine, question)));
        }
        found.refuting = self.everybody().filter(|&person| held.may(person)).count();
        found.not_proved(held.unknown(|_| true));
        looked.told(patterns, found);
    }

    /// Finds what people may of what some patterns take, on any of the systems.
    fn somewhere(&self, patterns: &[At<String>], looked: &mut Looked) -> Held<'_> {
        let parts: Vec<Part<'_>> = self.systems.iter().flat_map(|&system| self.may(system, patterns, looked)).collect();
        let mut by = vec![None; self.count_all()];
        let mut open = FixedBitSet::with_capacity(by.len());
        for (number, part) in parts.iter().enumerate() {
            let (is_allowed, is_open) = (part.set.example_allowed().is_some(), !part.set.unknown().is_empty());
            for &person in &part.people {
                if is_allowed {
                    by[person].get_or_insert(number);
                }
                open.set(person, open.contains(person) || is_open);
            }
        }
        Held { parts, by, open }
    }

    fn never_both(&self, patterns: &[At<String>], found: &mut Found) {
        if patterns.len() < 2 {
            found.says_nothing.push("two patterns at least are kept apart".to_owned());
            return;
        }
        let each = || patterns.iter().map(std::slice::from_ref);
        let mut looked: Vec<Looked> = each().map(Looked::of).collect();
        let held: Vec<Held<'_>> = each().zip(&mut looked).map(|(one, looked)| self.somewhere(one, looked)).collect();
        // Of people who hold the same parts one is told.
        let mut told: FxHashSet<Vec<Option<usize>>> = FxHashSet::default();
        let mut could = FixedBitSet::with_capacity(self.count_all());
        for person in self.everybody() {
            let both: Vec<&Held<'_>> = held.iter().filter(|held| held.may(person)).collect();
            if both.len() > 1 {
                found.refuting += 1;
                if told.insert(held.iter().map(|held| held.by[person]).collect()) {
                    found.witnesses.extend(both.into_iter().take(2).filter_map(|held| self.witness_of(held, person)));
                }
            } else if held.iter().filter(|held| held.may(person) || held.open.contains(person)).count() > 1 {
                // It could still be both, if something that is not known were allowed.
                could.insert(person);
            }
        }
        held.iter().for_each(|held| found.not_proved(held.unknown(|person| could.contains(person))));
        each().zip(looked).for_each(|(one, looked)| looked.told(one, found));
    }

    /// Nobody comes to it, by their own rights or by any acts that give them more.
    fn no_way(&self, patterns: &[At<String>], found: &mut Found) {
        let mut looked = Looked::of(patterns);
        let texts: Vec<&str> = patterns.iter().map(|pattern| pattern.value.as_str()).collect();
        for site in self.systems.iter().filter_map(|&system| self.engine.site_of(system)) {
            for user in self.people.ones().map(UserId::new) {
                self.taken(&Side { site, user }, &texts, &mut looked);
            }
        }
        for (stand_in, system) in &self.accounts {
            if let Some(side) = self.side_of(stand_in, system) {
                self.taken(&side, &texts, &mut looked);
            }
        }
        looked.told(patterns, found);
        if self.within.unless.is_some() {
            found.says_nothing.push("`unless` goes with `never`; say with `session` which sessions are meant".to_owned());
        }
        let estate = self.engine.estate();
        let systems: Vec<&str> = self.systems.iter().map(|&system| estate.system(system).id.value.as_str()).collect();
        let stated = &self.within.stated;
        let aims: Vec<Aim<'_>> = patterns.iter().map(|pattern| Aim::Do(Sought::Like(&pattern.value), &systems, stated)).collect();
        let acts = Acts::of(self.engine, &aims);
        let mut setting_out: Vec<&str> = aims.iter().flat_map(|aim| acts.candidates(Some(*aim))).collect();
        setting_out.sort_unstable();
        setting_out.dedup();
        let is_meant = |user: &&str| self.engine.find_user(user, false).is_some_and(|user| self.people.contains(user.index()));
        setting_out.retain(is_meant);
        if setting_out.len() > MAX_SETTING_OUT {
            found.not_proved(vec![format!("ways of more than {MAX_SETTING_OUT} people are not looked for")]);
            return;
        }
        for user in setting_out {
            look_for_ways(&acts, user, &aims, found);
        }
        // Whoever uses an account that no user stands behind sets out in a ledger of their own.
        for (stand_in, _) in &self.accounts {
            let engine = stand_in.engine(self.engine);
            let aims: Vec<Aim<'_>> =
                patterns.iter().map(|pattern| Aim::Do(Sought::Like(&pattern.value), &systems, &stand_in.session)).collect();
            look_for_ways(&Acts::of(engine, &aims), &stand_in.user, &aims, found);
        }
    }

    /// Returns the example of somebody.
    fn witness_of(&self, held: &Held<'_>, person: usize) -> Option<Witness> {
        let part = &held.parts[held.by[person]?];
        let mut question = part.set.example_allowed()?;
        if let Some(user) = self.engine.estate().users().get(person) {
            question.user.clone_from(&user.id.value);
        }
        Some(witness(part.engine, question))
    }

    fn always(&self, lines: &[At<String>], found: &mut Found) {
        let mut opened = 0;
        let mut refuting = FixedBitSet::with_capacity(self.count_all());
        let texts: Vec<&str> = lines.iter().map(|line| line.value.as_str()).collect();
        let actions: Vec<Action> = texts.iter().map(|line| Action::alone(line, Form::Line)).collect();
        for &system in &self.systems {
            for part in self.on(system, (&texts, Some(&actions)), Kin::Apart, |_| actions.clone()) {
                let stated = match part.people.first() {
                    Some(&person) => person.checked_sub(self.engine.estate().users().len()).map(|number| &self.accounts[number].0.session),
                    None => None,
                };
                match part.set.always(stated.unwrap_or(&self.within.stated)) {
                    Always::Always => opened += 1,
                    Always::NoSession => {}
                    Always::Not(question) => {
                        opened += 1;
                        part.people.iter().for_each(|&person| refuting.insert(person));
                        found.witnesses.push(witness(part.engine, *question));
                    }
                    Always::NotDecided(question) => {
                        opened += 1;
                        found.not_proved(vec![format!("not decided: {} on {}", visible(&question.user), visible(&question.system))]);
                    }
                }
            }
        }
        found.refuting = refuting.count_ones(..);
        if opened == 0 {
            found.says_nothing.push("nobody of those it is about can open a session there".to_owned());
        }
        if self.within.unless.is_some() {
            found.says_nothing.push("`unless` goes with `never`; say with `session` which sessions are meant".to_owned());
        }
    }

    fn whoever(&self, first: &[At<String>], second: &[At<String>], found: &mut Found) {
        let (mut looked, mut looked_also) = (Looked::of(first), Looked::of(second));
        let may = self.somewhere(first, &mut looked);
        let also = self.somewhere(second, &mut looked_also);
        let mut told: FxHashSet<usize> = FxHashSet::default();
        for person in self.everybody().filter(|&person| !also.may(person) && !also.open.contains(person)) {
            if let Some(part) = may.by[person] {
                found.refuting += 1;
                if told.insert(part) {
                    found.witnesses.extend(self.witness_of(&may, person));
                }
            }
        }
        found.not_proved(also.unknown(|person| may.may(person) && !also.may(person)));
        found.not_proved(may.unknown(|person| !may.may(person) && !also.may(person)));
        looked.told(first, found);
        looked_also.told(second, found);
    }

    /// Counts who holds each right of some roles, on each system.
    fn each_right(&self, roles: &[At<String>], wanted: Wanted, found: &mut Found) {
        let mut is_asked = false;
        for role in roles {
            let stated = &self.within.stated;
            let subject = Subject::parse(self.engine, &format!("role:{}", role.value));
            let stand_in = match subject.and_then(|subject| subject.stand_in(self.engine, stated)) {
                Ok(stand_in) => stand_in,
                Err(why) => {
                    found.says_nothing.push(why.to_string());
                    continue;
                }
            };
            for &system in &self.systems {
                let name = &self.engine.estate().system(system).id.value;
                let Some(side) = self.side_of(&stand_in, name) else { continue };
                let of_role = rights(&[side], &Within { stated: stand_in.session.clone(), ..Within::default() }).pop();
                let Some(of_role) = of_role else { continue };
                // To change one's own credential is no right of a role.
                let own = |action: &Action| side.site.kind().tells_apart_by_name(&action.line);
                let held = of_role.actions().iter().enumerate().filter(|(number, _)| of_role.example_for(*number).is_some());
                let actions: Vec<Action> =
                    held.filter(|(_, action)| !own(action)).map(|(_, action)| Action { like: None, ..action.clone() }).collect();
                let texts: Vec<&str> = actions.iter().map(|action| action.line.as_str()).collect();
                if actions.is_empty() {
                    continue;
                }
                is_asked = true;
                let parts = self.on(system, (&texts, Some(&actions)), Kin::Together, |_| actions.clone());
                for (number, action) in actions.iter().enumerate() {
                    let tally = Tally::of(&parts, |part| Some(part.set.example_for(number)?.1));
                    let told = |count: usize| format!("`{}` on {}: {count} may", visible(&action.line), visible(name));
                    tally.judged(told, wanted, 1, found);
                }
            }
        }
        if !is_asked && found.says_nothing.is_empty() {
            found.says_nothing.push("these roles give nothing on any of the systems".to_owned());
        }
    }

    fn count(&self, patterns: &[At<String>], wanted: Wanted, found: &mut Found) {
        let mut looked = Looked::of(patterns);
        let mut is_asked = false;
        for &system in &self.systems {
            let name = visible(&self.engine.estate().system(system).id.value);
            let parts = self.may(system, patterns, &mut looked);
            if parts.is_empty() {
                continue;
            }
            is_asked = true;
            let tally = Tally::of(&parts, |part| part.set.example_allowed());
            tally.judged(|count| format!("on {name} {count} may"), wanted, usize::MAX, found);
        }
        if !is_asked && looked.why.iter().all(Option::is_none) {
            found.says_nothing.push("nothing of that sort can be done on any of the systems".to_owned());
        }
        looked.told(patterns, found);
    }
}

/// Looks whether ways lead somebody to any of what they must not come to.
fn look_for_ways(acts: &Acts<'_>, user: &str, aims: &[Aim<'_>], found: &mut Found) {
    let Some(mut ways) = Ways::of(acts, user) else { return };
    let mut is_there = false;
    for &aim in aims {
        let Some(way) = ways.to(aim) else {
            found.not_proved(ways.unknown(aim));
            continue;
        };
        is_there = true;
        // What can be asked in the ledger as it is comes first.
        let asked = way.steps.iter().find_map(|step| Some((step, step.question.clone()?)));
        found.witnesses.extend(asked.map(|(step, question)| Witness {
            verdict: if step.needs.is_empty() { Verdict::Allowed } else { Verdict::AllowedAfter },
            code: None,
            why: way.in_one_line(),
            place: step.place.clone(),
            question,
        }));
    }
    found.refuting += usize::from(is_there);
}

/// Asks a question that refutes something.
fn witness(engine: &Engine, question: Question) -> Witness {
    let answer = engine.explain(&question);
    let gate = deciding(&answer);
    let (why, place) = gate.map_or_else(Default::default, |gate| (gate.text.clone(), gate.location.clone()));
    Witness { verdict: answer.verdict, code: answer.refusal, why, place, question }
}

/// What became of patterns: whether some system could read each, and it took something there.
struct Looked {
    read: Vec<bool>,
    taken: Vec<bool>,
    why: Vec<Option<String>>,
}

impl Looked {
    fn of(patterns: &[At<String>]) -> Self {
        let count = patterns.len();
        Self { read: vec![false; count], taken: vec![false; count], why: vec![None; count] }
    }

    /// What takes nothing anywhere cannot be false, and is mostly a slip.
    fn told(self, patterns: &[At<String>], found: &mut Found) {
        for (number, pattern) in patterns.iter().enumerate() {
            let text = visible(&pattern.value);
            match (&self.why[number], self.read[number], self.taken[number]) {
                (_, true, true) => {}
                (Some(why), false, _) => found.says_nothing.push(format!("`{text}` can be read on none of the systems: {why}")),
                _ => found.says_nothing.push(format!("`{text}` takes nothing that can be done on any of the systems")),
            }
        }
    }
}

impl Found {
    /// Looks at what a promise of one ledger says in another, or the same.
    fn of(written: &Estate, entry: &Promise, there: (&Engine, &Classes<'_>), now: Timestamp) -> Self {
        let mut findings = Vec::new();
        let meant = Meant::of(written, entry, there, now, &mut findings);
        let mut found = Self::default();
        match meant {
            Some(meant) if findings.is_empty() => meant.look(entry, &mut found),
            _ => found.says_nothing.extend(findings.iter().map(|finding| finding.message.clone())),
        }
        found
    }

    /// Notes why it is not proved, each reason once.
    fn not_proved(&mut self, reasons: Vec<String>) {
        for why in reasons {
            if !self.why.contains(&why) {
                self.why.push(why);
            }
        }
    }

    fn standing(&self) -> Standing {
        if !self.says_nothing.is_empty() {
            Standing::SaysNothing
        } else if self.refuting > 0 {
            Standing::Refuted
        } else if !self.why.is_empty() {
            Standing::NotProved
        } else {
            Standing::Proved
        }
    }

    fn told(mut self, engine: &Engine, entry: &Promise) -> Promised {
        let standing = self.standing();
        // The smallest come first: own sessions, short lines.
        self.witnesses.sort_by_key(|witness| (witness.question.session.acting.len(), witness.question.line.len()));
        self.witnesses.truncate(MAX_WITNESSES);
        let mut why = match standing {
            Standing::SaysNothing => self.says_nothing,
            Standing::Refuted | Standing::NotProved => self.why,
            Standing::Proved => Vec::new(),
        };
        if standing == Standing::SaysNothing || standing == Standing::Proved {
            self.witnesses.clear();
        }
        let more = why.len().saturating_sub(MAX_TOLD);
        why.truncate(MAX_TOLD);
        if more > 0 {
            why.push(format!("and {more} more like it"));
        }
        if standing == Standing::Refuted && self.refuting > self.witnesses.len() && entry.may.is_empty() && entry.each_right_of.is_empty() {
            why.insert(0, format!("{} people refute it", self.refuting));
        }
        Promised {
            place: engine.estate().sources().locate(entry.place),
            name: entry.name.as_ref().map(|name| name.value.clone()).unwrap_or_default(),
            says: says(entry),
            standing,
            why,
            witnesses: self.witnesses,
            people: self.people,
            systems: self.systems,
            stood_before: None,
            turned_by: None,
            more: zest_model::More,
        }
    }
}

/// How many reasons are told.
const MAX_TOLD: usize = 5;

/// Returns the gate that gives an action, or refuses it.
fn deciding(answer: &Answer) -> Option<&Gate> {
    match answer.verdict {
        Verdict::Denied => answer.first_refusal(),
        Verdict::Allowed | Verdict::AllowedAfter => answer.last_permit(),
    }
}

/// Says what of a promise does not go together: nothing of it is left out without a word.
fn misfits(entry: &Promise) -> Vec<String> {
    let Promise {
        never, never_both, no_way, always, whoever_may, also_may, may, each_right_of, at_least, at_most, longer_than_days, ..
    } = entry;
    let said = [
        ("never", never),
        ("never-both", never_both),
        ("no-way", no_way),
        ("always", always),
        ("whoever-may", whoever_may),
        ("may", may),
        ("each-right-of", each_right_of),
    ];
    let said: Vec<&str> = said.into_iter().filter(|(_, list)| !list.is_empty()).map(|(key, _)| key).collect();
    let mut list = Vec::new();
    if said.len() > 1 {
        list.push(format!("`{}` are several promises: write each by itself", said.join("` and `")));
    }
    let mut goes_with = |key: &str, is_there: bool, with: &[&str]| {
        if is_there && !said.iter().any(|said| with.contains(said)) {
            list.push(format!("`{key}` goes with `{}`", with.join("` or `")));
        }
    };
    goes_with("also-may", !also_may.is_empty(), &["whoever-may"]);
    goes_with("at-least", at_least.is_some(), &["may", "each-right-of"]);
    goes_with("at-most", at_most.is_some(), &["may", "each-right-of"]);
    goes_with("longer-than-days", longer_than_days.is_some(), &["never"]);
    if !whoever_may.is_empty() && also_may.is_empty() {
        list.push("`whoever-may` needs `also-may`".to_owned());
    }
    list
}

/// Reads a promise aloud.
fn says(entry: &Promise) -> String {
    let Promise {
        place: _,
        name: _,
        of,
        but,
        on,
        session,
        unless,
        never,
        longer_than_days,
        never_both,
        no_way,
        always,
        whoever_may,
        also_may,
        may,
        each_right_of,
        at_least,
        at_most,
        exceptions,
        because: _,
        more: _,
    } = entry;
    let list = |texts: &[At<String>], word: &str| {
        let quoted: Vec<String> = texts.iter().map(|text| format!("`{}`", visible(&text.value))).collect();
        quoted.join(&format!(" {word} "))
    };
    let names = |texts: &[At<String>]| texts.iter().map(|text| visible(&text.value)).collect::<Vec<_>>().join(", ");
    let whom = |word: &str, all: &str| if of.is_empty() { all.to_owned() } else { format!("{word} {}", names(of)) };
    let mut text = if !never.is_empty() {
        let may = whom("nobody of", "nobody");
        match longer_than_days {
            None => format!("{may} may ever {}", list(never, "or")),
            Some(days) => format!("{may} may {} for longer than {} days", list(never, "or"), days.value),
        }
    } else if !never_both.is_empty() {
        format!("{} may both {}", whom("nobody of", "nobody"), list(never_both, "and"))
    } else if !no_way.is_empty() {
        format!("no way leads {} to {}", whom("anybody of", "anybody"), list(no_way, "or"))
    } else if !always.is_empty() {
        format!("{} may always {}", whom("everybody of", "everybody"), list(always, "and"))
    } else if !whoever_may.is_empty() {
        format!("whoever{} may {} may also {}", whom(" of", ""), list(whoever_may, "or"), list(also_may, "or"))
    } else {
        let count = match (at_least, at_most) {
            (least, None) => format!("at least {}", least.as_ref().map_or(1, |least| least.value)),
            (None, Some(most)) => format!("at most {}", most.value),
            (Some(least), Some(most)) => format!("at least {} and at most {}", least.value, most.value),
        };
        if may.is_empty() {
            format!("each right of {} is held by {count}{}", list(each_right_of, "and"), whom(" of", " of all people"))
        } else {
            format!("{count}{} may {}", whom(" of", " of all people"), list(may, "or"))
        }
    };
    let is_counted = !may.is_empty() || !each_right_of.is_empty();
    text += &match (on.as_slice(), is_counted) {
        ([], true) => " on each system".to_owned(),
        ([], false) => String::new(),
        ([_, _, ..], true) => format!(" on each of {}", names(on)),
        (_, _) => format!(" on {}", names(on)),
    };
    if !but.is_empty() {
        text += &format!(", but for {}", names(but));
    }
    if let Some(named) = &session.named {
        text += &format!(", in session `{}`", visible(&named.value));
    } else if !session.facts.is_empty() {
        text += ", in the sessions stated";
    }
    if !unless.is_empty() {
        text += ", unless the session meets what is stated";
    }
    if !exceptions.is_empty() {
        text += ", with exceptions";
    }
    text
}

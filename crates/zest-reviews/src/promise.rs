//! Promises: statements over everybody, every session and every action, proved or refuted over the sets of rights.
//!
//! "May" is what is allowed, at once or after obligations that can be discharged. "Nobody" is proved over what is not excluded, so what
//! was not read, and what lies beyond a limit, leaves a promise not proved. Every example is asked before it is shown.

use std::sync::Arc;

use jiff::Timestamp;
use rustc_hash::FxHashSet;

use zest_engine::links::{Resolver, SystemId, UserId};
use zest_engine::rights::{Action, Always, Membership, Side, Within, rights};
use zest_engine::{Engine, rights};
use zest_model::ask::{Answer, Form, Gate, Question, Session, Verdict};
use zest_model::entry::Promise;
use zest_model::finding::Finding;
pub use zest_model::listing::{Promised, Standing, Witness};
use zest_model::source::{At, visible};

use crate::review::{StandIn, Subject, nobodys_accounts};
use crate::row;

/// Looks at all promises of a ledger; `now` is the moment at which somebody must be there to count, where no other is stated.
#[must_use]
pub fn promises(engine: &Engine, now: Timestamp) -> Vec<Promised> {
    (0..engine.estate().entries().promises.len()).map(|number| promise(engine, number, now)).collect()
}

/// Looks at one promise, by its number in the ledger.
#[must_use]
pub fn promise(engine: &Engine, number: usize, now: Timestamp) -> Promised {
    let entry = &engine.estate().entries().promises[number];
    let mut findings = Vec::new();
    let meant = Meant::of(engine, entry, now, &mut findings);
    let mut found = Found::default();
    match meant {
        Some(meant) if findings.is_empty() => meant.look(entry, &mut found),
        _ => found.says_nothing.extend(findings.iter().map(|finding| finding.message.clone())),
    }
    found.told(engine, entry)
}

/// Whom and what a promise means.
struct Meant<'e> {
    engine: &'e Engine,
    people: Vec<Person>,
    systems: Vec<SystemId>,
    within: Within,
}

/// Somebody it is about.
enum Person {
    User(UserId),
    /// Whoever uses an account that no user stands behind.
    Account(Box<StandIn>, String),
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

/// How many examples are told.
const MAX_WITNESSES: usize = 3;

impl<'e> Meant<'e> {
    fn of(engine: &'e Engine, entry: &Promise, now: Timestamp, findings: &mut Vec<Finding>) -> Option<Self> {
        let Promise { of, but, on, session, unless, exceptions, .. } = entry;
        let estate = engine.estate();
        let mut out: FxHashSet<usize> = row::people(engine, but, findings).into_iter().map(UserId::index).collect();
        for exception in exceptions {
            if exception.until.as_ref().is_some_and(|until| now < until.value) {
                out.extend(row::people(engine, &exception.who, findings).into_iter().map(UserId::index));
            }
        }
        let stated = row::session(estate, session, entry.place, findings)?;
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
        let mut people: Vec<Person> = all.into_iter().filter(|user| !out.contains(&user.index())).map(Person::User).collect();
        if of.is_empty() {
            let is_meant = |name: &str| systems.iter().any(|&system| estate.system(system).id.value == name);
            for (account, system) in nobodys_accounts(engine, is_meant) {
                let subject = Subject::Account { system: system.to_owned(), account: account.to_owned() };
                match subject.stand_in(engine, &stated) {
                    Ok(stand_in) => people.push(Person::Account(Box::new(stand_in), system.to_owned())),
                    Err(why) => {
                        let (account, system) = (visible(account), visible(system));
                        findings.push(row::cannot(entry.place, &format!("`{account} on {system}` cannot be looked at: {why}")));
                    }
                }
            }
        }
        if people.is_empty() {
            findings.push(row::cannot(entry.place, "it speaks of nobody"));
        }
        let mut found = Vec::new();
        if let Some(compare) = unless.compare.first() {
            findings.push(row::cannot(compare.place, "`unless` compares no attributes"));
        }
        let unless = (!unless.is_empty()).then(|| {
            let conditions = Resolver { names: estate.names(), findings: &mut found }.conditions(unless, None, None);
            Arc::new(conditions)
        });
        findings.extend(found.into_iter().map(row::as_not_asked));
        Some(Self { engine, people, systems, within: Within { stated, unless, ..Within::default() } })
    }

    /// Returns somebody's side on a system, where they can be there.
    fn side<'s>(&'s self, person: &'s Person, system: SystemId) -> Option<(Side<'s>, Session)> {
        let name = &self.engine.estate().system(system).id.value;
        match person {
            Person::User(user) => Some((Side { site: self.engine.site(name)?, user: *user }, self.within.stated.clone())),
            Person::Account(stand_in, on) => {
                let engine = stand_in.engine(self.engine);
                let user = engine.find_user(&stand_in.user, false)?;
                (on == name).then_some(())?;
                Some((Side { site: engine.site(name)?, user }, stand_in.session.clone()))
            }
        }
    }

    /// Returns what somebody may of what some patterns take, on a system; nothing where they take nothing there.
    fn may(&self, person: &Person, system: SystemId, patterns: &[At<String>], found: &mut Looked) -> Option<rights::Rights> {
        let (side, stated) = self.side(person, system)?;
        // Whoever gets no session may nothing; once is enough to know what patterns take there.
        if found.systems.contains(&system) {
            let within = Within { stated: stated.clone(), actions: vec![Action::alone("", Form::Line)], ..Within::default() };
            let set = rights(&[side], &within).pop()?;
            if set.openings().is_empty() && set.left_out() == 0 {
                return None;
            }
        }
        found.systems.insert(system);
        let mut actions: Vec<Action> = Vec::new();
        for (number, pattern) in patterns.iter().enumerate() {
            match side.site.kind().like(&[side], &pattern.value) {
                Ok(some) => {
                    found.taken[number] |= !some.is_empty();
                    found.read[number] = true;
                    for action in some {
                        if !actions.iter().any(|known| known.line == action.line && known.form == action.form) {
                            actions.push(Action { like: None, ..action });
                        }
                    }
                }
                Err(why) => drop(found.why[number].get_or_insert(why)),
            }
        }
        if actions.is_empty() {
            return None;
        }
        rights(&[side], &Within { stated, actions, unless: self.within.unless.clone() }).pop()
    }

    fn look(&self, entry: &Promise, found: &mut Found) {
        let Promise { never, never_both, always, whoever_may, also_may, may, at_least, at_most, .. } = entry;
        (found.people, found.systems) = (self.people.len(), self.systems.len());
        if !never.is_empty() {
            self.never(never, found);
        } else if !never_both.is_empty() {
            self.never_both(never_both, found);
        } else if !always.is_empty() {
            self.always(always, found);
        } else if !whoever_may.is_empty() {
            self.whoever(whoever_may, also_may, found);
        } else if !may.is_empty() {
            let least = at_least.as_ref().map(|least| least.value).or_else(|| at_most.is_none().then_some(1));
            self.count(may, least, at_most.as_ref().map(|most| most.value), found);
        } else {
            found.says_nothing.push("it says neither what nobody may nor what somebody may".to_owned());
        }
    }

    fn never(&self, patterns: &[At<String>], found: &mut Found) {
        let mut looked = Looked::of(patterns);
        for person in &self.people {
            let mut refutes = false;
            for &system in &self.systems {
                let Some(set) = self.may(person, system, patterns, &mut looked) else { continue };
                if let Some(question) = set.example_allowed() {
                    found.witnesses.push(self.witness(person, question));
                    refutes = true;
                }
                found.not_proved(unknown_of(&set));
            }
            found.refuting += usize::from(refutes);
        }
        looked.told(patterns, found);
    }

    /// Returns an example of what somebody may of what some patterns take, on any of the systems, and what is not known of that.
    fn somewhere(&self, person: &Person, patterns: &[At<String>], looked: &mut Looked) -> (Option<Question>, Vec<String>) {
        let sets: Vec<rights::Rights> = self.systems.iter().filter_map(|&system| self.may(person, system, patterns, looked)).collect();
        (sets.iter().find_map(rights::Rights::example_allowed), sets.iter().flat_map(unknown_of).collect())
    }

    fn witness(&self, person: &Person, question: Question) -> Witness {
        let engine = match person {
            Person::User(_) => self.engine,
            Person::Account(stand_in, _) => stand_in.engine(self.engine),
        };
        let answer = engine.explain(&question);
        let gate = deciding(&answer);
        let (why, place) = gate.map_or_else(Default::default, |gate| (gate.text.clone(), gate.location.clone()));
        Witness { verdict: answer.verdict, code: answer.refusal, why, place, question }
    }

    fn never_both(&self, patterns: &[At<String>], found: &mut Found) {
        if patterns.len() < 2 {
            found.says_nothing.push("two patterns at least are kept apart".to_owned());
            return;
        }
        let each = || patterns.iter().map(std::slice::from_ref);
        let mut looked: Vec<Looked> = each().map(Looked::of).collect();
        for person in &self.people {
            // What of each pattern they may somewhere, and what is not known.
            let of_each: Vec<_> = each().zip(&mut looked).map(|(one, looked)| self.somewhere(person, one, looked)).collect();
            let both: Vec<&Question> = of_each.iter().filter_map(|(held, _)| held.as_ref()).collect();
            if both.len() > 1 {
                found.refuting += 1;
                found.witnesses.extend(both.into_iter().take(2).map(|question| self.witness(person, question.clone())));
                continue;
            }
            // It could still be both, if something that is not known were allowed.
            let is_possible = |(held, open): &&(Option<Question>, Vec<String>)| held.is_some() || !open.is_empty();
            if of_each.iter().filter(is_possible).count() > 1 {
                of_each.into_iter().for_each(|(_, open)| found.not_proved(open));
            }
        }
        each().zip(looked).for_each(|(one, looked)| looked.told(one, found));
    }

    fn always(&self, lines: &[At<String>], found: &mut Found) {
        let mut opened = 0;
        for person in &self.people {
            let mut refutes = false;
            for &system in &self.systems {
                let Some((side, stated)) = self.side(person, system) else { continue };
                let actions = lines.iter().map(|line| Action::alone(&line.value, Form::Line)).collect();
                let within = Within { stated: stated.clone(), actions, unless: None };
                let Some(set) = rights(&[side], &within).pop() else { continue };
                match set.always(&stated) {
                    Always::Always => opened += 1,
                    Always::NoSession => {}
                    Always::Not(question) => {
                        opened += 1;
                        refutes = true;
                        found.witnesses.push(self.witness(person, *question));
                    }
                    Always::NotDecided(question) => {
                        opened += 1;
                        found.not_proved(vec![format!("not decided: {} on {}", visible(&question.user), visible(&question.system))]);
                    }
                }
            }
            found.refuting += usize::from(refutes);
        }
        if opened == 0 {
            found.says_nothing.push("nobody of those it is about can open a session there".to_owned());
        }
        if self.within.unless.is_some() {
            found.says_nothing.push("`unless` goes with `never`; say with `session` which sessions are meant".to_owned());
        }
    }

    fn whoever(&self, first: &[At<String>], second: &[At<String>], found: &mut Found) {
        let (mut looked, mut looked_also) = (Looked::of(first), Looked::of(second));
        for person in &self.people {
            let (may, open) = self.somewhere(person, first, &mut looked);
            let (also, also_open) = self.somewhere(person, second, &mut looked_also);
            match (may, also) {
                (_, Some(_)) => {}
                (Some(question), None) if also_open.is_empty() => {
                    found.refuting += 1;
                    found.witnesses.push(self.witness(person, question));
                }
                (Some(_), None) => found.not_proved(also_open),
                (None, None) => found.not_proved(open),
            }
        }
        looked.told(first, found);
        looked_also.told(second, found);
    }

    fn count(&self, patterns: &[At<String>], least: Option<u32>, most: Option<u32>, found: &mut Found) {
        let mut looked = Looked::of(patterns);
        let mut is_asked = false;
        for &system in &self.systems {
            let name = visible(&self.engine.estate().system(system).id.value);
            let (mut certain, mut possible): (Vec<(&Person, Question)>, usize) = (Vec::new(), 0);
            let mut unknown: Vec<String> = Vec::new();
            let mut is_taken = false;
            for person in &self.people {
                let Some(set) = self.may(person, system, patterns, &mut looked) else { continue };
                is_taken = true;
                match set.example_allowed() {
                    Some(question) => certain.push((person, question)),
                    None => {
                        let open = unknown_of(&set);
                        possible += usize::from(!open.is_empty());
                        unknown.extend(open);
                    }
                }
            }
            if !is_taken {
                continue;
            }
            is_asked = true;
            let count = certain.len();
            let (least, most) = (least.map(|least| least as usize), most.map(|most| most as usize));
            let too_few = least.filter(|least| count + possible < *least).map(|least| format!("on {name} {count} may, and {least} must"));
            let too_many = most.filter(|most| count > *most).map(|most| format!("on {name} {count} may, and at most {most} must"));
            let wrong: Vec<String> = too_few.into_iter().chain(too_many).collect();
            if !wrong.is_empty() {
                found.refuting += 1;
                found.not_proved(wrong);
                found.witnesses.extend(certain.into_iter().map(|(person, question)| self.witness(person, question)));
            } else if least.is_some_and(|least| count < least) || most.is_some_and(|most| count + possible > most) {
                found.not_proved(unknown);
            }
        }
        if !is_asked && looked.why.iter().all(Option::is_none) {
            found.says_nothing.push("nothing of that sort can be done on any of the systems".to_owned());
        }
        looked.told(patterns, found);
    }
}

/// What became of patterns: whether some system could read each, and it took something there.
struct Looked {
    /// The systems on which they were looked for.
    systems: FxHashSet<SystemId>,
    read: Vec<bool>,
    taken: Vec<bool>,
    why: Vec<Option<String>>,
}

impl Looked {
    fn of(patterns: &[At<String>]) -> Self {
        let count = patterns.len();
        Self { systems: FxHashSet::default(), read: vec![false; count], taken: vec![false; count], why: vec![None; count] }
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
    /// Notes why it is not proved, each reason once.
    fn not_proved(&mut self, reasons: Vec<String>) {
        for why in reasons {
            if !self.why.contains(&why) {
                self.why.push(why);
            }
        }
    }

    fn told(mut self, engine: &Engine, entry: &Promise) -> Promised {
        let standing = if !self.says_nothing.is_empty() {
            Standing::SaysNothing
        } else if self.refuting > 0 {
            Standing::Refuted
        } else if !self.why.is_empty() {
            Standing::NotProved
        } else {
            Standing::Proved
        };
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
        if standing == Standing::Refuted && self.refuting > self.witnesses.len() && entry.may.is_empty() {
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
            more: zest_model::More,
        }
    }
}

/// How many reasons are told.
const MAX_TOLD: usize = 5;

/// Says what is not known of a set.
fn unknown_of(set: &rights::Rights) -> Vec<String> {
    let of_layer = |layer: Membership| {
        let question = set.example_of(layer)?;
        let (user, line, on) = (visible(&question.user), visible(&question.line), visible(&question.system));
        Some(format!("{}: {user} on {on}: {line}", layer.words()))
    };
    let limits = set.limits().into_iter().map(|limit| format!("{} on {}: {limit}", visible(&set.user), visible(&set.system)));
    [Membership::NotDecided, Membership::NotHere].into_iter().filter_map(of_layer).chain(limits).collect()
}

/// Returns the gate that gives an action, or refuses it.
fn deciding(answer: &Answer) -> Option<&Gate> {
    match answer.verdict {
        Verdict::Denied => answer.first_refusal(),
        Verdict::Allowed | Verdict::AllowedAfter => answer.last_permit(),
    }
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
        never_both,
        always,
        whoever_may,
        also_may,
        may,
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
        format!("{} may ever {}", whom("nobody of", "nobody"), list(never, "or"))
    } else if !never_both.is_empty() {
        format!("{} may both {}", whom("nobody of", "nobody"), list(never_both, "and"))
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
        format!("{count}{} may {} on each system", whom(" of", " of all people"), list(may, "or"))
    };
    if !on.is_empty() {
        text += &format!(" on {}", names(on));
    }
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

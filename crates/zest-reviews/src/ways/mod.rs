//! Ways: by which acts somebody could come to more than was given, shortest first.
//!
//! An act is something that somebody may do and that gives them more (`act`): reset or read a credential, change the members of a group or
//! own it, edit a role, a command set or a job, write what runs as another, grant, pass a role of a database server on. Each is found in the sets of rights of the ledger as the acts before left it; acting as
//! another, assumed roles and running as an account are in these sets already. Each step is a question that was asked, and is allowed.

mod act;
mod cut;
mod fact;

use std::cell::RefCell;

use jiff::SignedDuration;
use rustc_hash::FxHashMap;

pub use cut::cuts;
use zest_engine::Engine;
use zest_engine::rights::{Action, Rights, Side, Within, rights};
use zest_model::ask::{Form, GateOutcome, Proven, Question, Session};
use zest_model::entry::Proof;
pub use zest_model::listing::{Cut, Way, WayStep};
use zest_model::source::{Place, visible};

use crate::review::{Sought, sought_on};
use fact::Fact;

/// What somebody could come to.
#[derive(Clone, Copy, Debug)]
pub enum Aim<'a> {
    /// To do something on one of some systems, in sessions of which some facts are stated.
    Do(Sought<'a>, &'a [&'a str], &'a Session),
    /// To sign in as a user, or act as them.
    User(&'a str),
    /// To be in a group.
    Group(&'a str),
}

/// What was found on the way from somebody.
#[derive(Debug)]
pub struct Ways<'e> {
    engine: &'e Engine,
    /// Who sets out.
    pub from: String,
    got: Vec<Got>,
    /// What is not known of acts that could give more.
    unknown: Vec<String>,
    /// Whether there is more than was looked at.
    pub is_cut_short: bool,
}

/// Something that was come to.
#[derive(Debug)]
struct Got {
    fact: Fact,
    step: WayStep,
    /// What must be so before, by number, in order.
    before: Vec<usize>,
}

/// How many things are come to at most, from one person.
const MAX_GOT: usize = 200;

/// How many ledgers are looked at, from one person.
const MAX_LEDGERS: usize = 600;

impl<'e> Ways<'e> {
    /// Finds all that somebody could come to. Nothing for an unknown user.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, review::Sought, ways::{Aim, Ways}};
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
    /// let ways = Ways::of(&engine, "desk-1").expect("the user is known");
    /// let aim = Aim::Do(Sought::Line("plan on shift/early"), &["rota"], &Session::default());
    /// let way = ways.to(aim).expect("there is a way");
    /// assert_eq!(way.steps[0].question.as_ref().map(|asked| asked.line.as_str()), Some("reset-credential on user/mate-1"));
    /// assert_eq!(way.steps[1].by, "mate-1");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn of(engine: &'e Engine, from: &str) -> Option<Self> {
        engine.find_user(from, false)?;
        let is_cut_short = engine.estate().entries().databases.iter().any(|database| database.roles.len() > act::MAX_ROLES);
        let mut ways = Self { engine, from: from.to_owned(), got: Vec::new(), unknown: Vec::new(), is_cut_short };
        ways.close();
        Some(ways)
    }

    /// Finds more until there is no more: from each thing that was come to alone, and from all of them together.
    fn close(&mut self) {
        let mut next: Vec<Vec<usize>> = vec![Vec::new()];
        let mut ledgers = 0;
        let unknown = RefCell::new(Vec::new());
        // What acts give is wanted of the same ledgers again and again.
        let mut acts_of: FxHashMap<Vec<usize>, Vec<(Fact, WayStep)>> = FxHashMap::default();
        while let Some(base) = pop_smallest(&mut next) {
            ledgers += 1;
            if ledgers > MAX_LEDGERS || self.got.len() > MAX_GOT {
                self.is_cut_short = true;
                break;
            }
            let known = self.got.len();
            let found = acts_of.entry(base.clone()).or_insert_with(|| self.acts(&base, &unknown)).clone();
            for (fact, step) in found {
                if self.got.iter().any(|got| got.fact == fact) {
                    continue;
                }
                let (before, step) = self.least(base.clone(), step, |ways, base| {
                    let acts = acts_of.entry(base.to_vec()).or_insert_with(|| ways.acts(base, &unknown));
                    acts.iter().find(|(known, _)| *known == fact).map(|(_, step)| step.clone())
                });
                self.got.push(Got { fact, step, before });
            }
            if self.got.len() > known {
                next.extend((known..self.got.len()).map(|number| self.with_before(number)));
                // Two things that are of no use alone may be together.
                next.push((0..self.got.len()).collect());
            }
        }
        self.unknown = unknown.into_inner();
        self.unknown.sort();
        self.unknown.dedup();
    }

    /// Says what is not known of ways to something, where none was found.
    #[must_use]
    pub fn unknown(&self, aim: Aim<'_>) -> Vec<String> {
        let mut list = self.unknown.clone();
        list.extend(self.is_cut_short.then(|| format!("{}: there is more than was looked at", visible(&self.from))));
        let Aim::Do(sought, systems, stated) = aim else { return list };
        for base in [Vec::new(), (0..self.got.len()).collect()] {
            let facts = self.facts(&base);
            let Some(engine) = fact::with(self.engine, &facts) else { continue };
            for (user, own) in self.people(&facts) {
                let proofs = stated.proofs.clone().or_else(|| own.proofs.clone());
                list.extend(sets(&engine, &user, &Session { proofs, ..stated.clone() }, sought, systems).iter().flat_map(Rights::unknown));
            }
        }
        list.sort();
        list.dedup();
        list
    }

    /// Returns something with all that must be so before, in order.
    fn with_before(&self, number: usize) -> Vec<usize> {
        let mut all = self.got[number].before.clone();
        all.push(number);
        all
    }

    fn facts(&self, base: &[usize]) -> Vec<Fact> {
        base.iter().map(|&number| self.got[number].fact.clone()).collect()
    }

    /// Leaves out whatever is not needed for something that was found, and what only that needed.
    fn least<T>(&self, mut base: Vec<usize>, mut found: T, mut is_so: impl FnMut(&Self, &[usize]) -> Option<T>) -> (Vec<usize>, T) {
        let mut at = base.len();
        while at > 0 {
            at -= 1;
            let Some(&out) = base.get(at) else { continue };
            let without: Vec<usize> =
                base.iter().copied().filter(|&other| other != out && !self.got[other].before.contains(&out)).collect();
            if let Some(better) = is_so(self, &without) {
                found = better;
                base = without;
                at = at.min(base.len());
            }
        }
        (base, found)
    }

    /// Returns those whose rights are there: whoever sets out, and everybody they sign in as.
    fn people(&self, facts: &[Fact]) -> Vec<(String, Session)> {
        let anew = Session {
            proofs: Some(vec![Proven { proof: Proof::Password, age: SignedDuration::ZERO, channel: None }]),
            ..Session::default()
        };
        let others = facts.iter().filter_map(|fact| match fact {
            Fact::Becomes(user) => Some((user.clone(), anew.clone())),
            // Which proof it is that was read is not written anywhere.
            Fact::Knows(user) => Some((user.clone(), Session::default())),
            Fact::Joins { .. }
            | Fact::Runs { .. }
            | Fact::Shapes { .. }
            | Fact::Fills { .. }
            | Fact::Grants { .. }
            | Fact::Uses { .. }
            | Fact::Holds { .. } => None,
        });
        std::iter::once((self.from.clone(), Session::default())).chain(others).collect()
    }

    /// Returns what acts give in the ledger in which some things are so.
    fn acts(&self, base: &[usize], unknown: &RefCell<Vec<String>>) -> Vec<(Fact, WayStep)> {
        let facts = self.facts(base);
        let Some(engine) = fact::with(self.engine, &facts) else { return Vec::new() };
        let people = self.people(&facts);
        let mut list: Vec<(Fact, WayStep)> = Vec::new();
        for (user, session) in &people {
            let mut add = |fact: Fact, step: WayStep| {
                if !facts.contains(&fact) && !list.iter().any(|(known, _)| *known == fact) {
                    list.push((fact, step));
                }
            };
            self.owned(&engine, user, &people, &mut add);
            act::administered(&engine, user, session, &people, &mut add, &mut unknown.borrow_mut());
            act::written(&engine, user, &mut add);
            act::passed_on(&engine, user, session, &mut add, &mut unknown.borrow_mut());
        }
        list.retain(|(fact, _)| !matches!(fact, Fact::Becomes(user) | Fact::Knows(user) if *user == self.from));
        list
    }

    /// Owners take members into their groups.
    fn owned(&self, engine: &Engine, user: &str, people: &[(String, Session)], add: &mut dyn FnMut(Fact, WayStep)) {
        let Some(id) = engine.find_user(user, false) else { return };
        let estate = engine.estate();
        for (row, links) in estate.group_links().iter().enumerate() {
            let Some(&(_, place)) = links.owners.iter().find(|&&(party, _)| engine.membership().belongs(id, party)) else { continue };
            let group = &estate.entries().groups[row].id.value;
            for (joins, _) in people {
                let fact = Fact::Joins { user: joins.clone(), group: group.clone() };
                if is_member(engine, joins, group) {
                    continue;
                }
                let why = format!("`{}` owns the group `{}`", visible(user), visible(group));
                let step = unasked(engine, user, &fact, why, place);
                add(fact, step);
            }
        }
    }

    /// Finds a shortest way to something; nothing where none was found.
    #[must_use]
    pub fn to(&self, aim: Aim<'_>) -> Option<Way> {
        let mut bases: Vec<Vec<usize>> = vec![Vec::new()];
        bases.extend((0..self.got.len()).map(|number| self.with_before(number)));
        bases.push((0..self.got.len()).collect());
        bases.sort_by_key(Vec::len);
        bases.dedup();
        let reached = |base: Vec<usize>| self.reaches(&base, aim).map(|step| (base, step));
        let (base, step) = bases.into_iter().find_map(reached)?;
        let (base, step) = self.least(base, step, |ways, base| ways.reaches(base, aim));
        let mut steps: Vec<WayStep> = base.iter().map(|&number| self.got[number].step.clone()).collect();
        steps.extend(step);
        Some(Way { from: self.from.clone(), steps, more: zest_model::More })
    }

    /// Returns each thing that was come to, with a shortest way to it.
    #[must_use]
    pub fn all(&self) -> Vec<Way> {
        let way = |number: usize| {
            let steps = self.with_before(number).iter().map(|&step| self.got[step].step.clone()).collect();
            Way { from: self.from.clone(), steps, more: zest_model::More }
        };
        // That somebody else is taken in counts where it leads on.
        let is_told = |number: &usize| !matches!(&self.got[*number].fact, Fact::Joins { user, .. } if *user != self.from);
        (0..self.got.len()).filter(is_told).map(way).collect()
    }

    /// Returns the last step of a way, if something is reached where some things are so; no step where it is what is so.
    fn reaches(&self, base: &[usize], aim: Aim<'_>) -> Option<Option<WayStep>> {
        let facts = self.facts(base);
        match aim {
            Aim::Group(group) => {
                let is_it = |fact: &Fact| matches!(fact, Fact::Joins { user, group: joined } if *user == self.from && joined == group);
                (facts.iter().any(is_it) || is_member(self.engine, &self.from, group)).then_some(None)
            }
            Aim::User(target) => {
                if facts.iter().any(|fact| matches!(fact, Fact::Becomes(user) | Fact::Knows(user) if user == target)) {
                    return Some(None);
                }
                let engine = fact::with(self.engine, &facts)?;
                self.people(&facts).into_iter().find_map(|(user, session)| acts_as(&engine, &user, &session, target)).map(Some)
            }
            Aim::Do(sought, systems, stated) => {
                let engine = fact::with(self.engine, &facts)?;
                let people = self.people(&facts);
                let found = people.iter().find_map(|(user, own)| {
                    // Whoever signs in with a password that was set anew gives that, unless something else is stated.
                    let proofs = stated.proofs.clone().or_else(|| own.proofs.clone());
                    does(&engine, user, &Session { proofs, ..stated.clone() }, sought, systems)
                });
                found.map(Some)
            }
        }
    }
}

/// Takes the first of the shortest.
fn pop_smallest(list: &mut Vec<Vec<usize>>) -> Option<Vec<usize>> {
    let at = list.iter().enumerate().min_by_key(|(at, base)| (base.len(), *at)).map(|(at, _)| at)?;
    Some(list.remove(at))
}

fn is_member(engine: &Engine, user: &str, group: &str) -> bool {
    let estate = engine.estate();
    let row = estate.entries().groups.iter().position(|entry| entry.id.value == group);
    let party = row.map(|row| zest_engine::links::Party::Group(zest_engine::links::GroupId::new(row)));
    engine.find_user(user, false).zip(party).is_some_and(|(user, party)| engine.membership().belongs(user, party))
}

/// Makes the step of an act that no question is about.
fn unasked(engine: &Engine, by: &str, fact: &Fact, why: String, place: Place) -> WayStep {
    let place = Some(engine.estate().sources().locate(place));
    WayStep { by: by.to_owned(), question: None, needs: Vec::new(), gives: fact.words(), why, place, more: zest_model::More }
}

/// Makes the step of a question that is allowed.
fn asked(engine: &Engine, by: &str, question: Question, gives: String) -> WayStep {
    let answer = engine.explain(&question);
    let needs = answer.gates.iter().filter(|gate| gate.outcome == GateOutcome::Asks).map(|gate| gate.text.clone()).collect();
    let gate = answer.last_permit();
    let (why, place) = gate.map_or_else(Default::default, |gate| (gate.text.clone(), gate.location.clone()));
    WayStep { by: by.to_owned(), question: Some(question), needs, gives, why, place, more: zest_model::More }
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

/// Returns the step by which somebody acts as a user, somewhere.
fn acts_as(engine: &Engine, user: &str, session: &Session, target: &str) -> Option<WayStep> {
    use zest_model::ask::Act;
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
        Some(WayStep { by: user.to_owned(), question: Some(question), needs: Vec::new(), gives, why, place, more: zest_model::More })
    })
}

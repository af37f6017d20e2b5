//! Remedies: smallest changes that turn a refusal round. Each is tried before it is offered.
//!
//! The search asks again with a change applied, looks at what refuses then, and goes on from there: a refusal
//! with two reasons needs two changes. Changes of the session come before changes of the ledger, few before many.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use jiff::{SignedDuration, Timestamp};

use super::change::{Change, Narrowed};
use super::{Answer, Question, Refusal, Verdict};
use crate::command::{Pattern, line, read_line};
use crate::engine::Engine;
use crate::entry::Does;
use crate::estate::{AssignmentId, Conditions, Facts, GroupId, ModeId, Outcome, Part, Party, SystemId, UserId};
use crate::finding::nearest;
use crate::kind::host;
use crate::kind::network_device::candidates;
use crate::kind::service::Context;
use crate::source::{Location, Place, visible};

/// How many remedies are offered at most.
const OFFERED: usize = 3;
/// How many questions the search asks at most.
const QUESTIONS: usize = 80;
/// How many changed ledgers it compiles at most.
const COMPILATIONS: usize = 16;
/// What a change of the ledger costs, against 1 for a change of the session.
const LEDGER_COST: usize = 3;
/// The largest cost that is tried.
const LARGEST_COST: usize = 9;

/// A smallest change, or a few together, that turns a refusal round.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Remedy {
    /// The changes, in order; none of them can be left out.
    pub steps: Vec<Step>,
    /// The verdict with the changes applied: allowed, or allowed after obligations.
    pub verdict: Verdict,
}

/// One change of a remedy.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Step {
    /// What to change.
    pub change: Change,
    /// The change as a clause: "at level 7".
    pub text: String,
    /// Where in the ledger a change of the ledger would be made.
    pub location: Option<Location>,
}

/// One way to go on from a refusal: a change, how to say it, and where in the ledger it would be made.
#[derive(Clone)]
pub(super) struct Way {
    pub(super) change: Change,
    pub(super) text: String,
    pub(super) place: Option<Place>,
}

/// Asks again with changes applied, and counts how often.
struct Trial<'a> {
    engine: &'a Engine,
    question: &'a Question,
    questions: usize,
    compilations: usize,
}

impl Trial<'_> {
    /// Returns the answer, and the engine of the changed ledger if the ledger was changed; nothing once the limits are reached.
    fn ask<'c>(&mut self, changes: impl Iterator<Item = &'c Change> + Clone) -> Option<(Answer, Option<Engine>)> {
        let mut question = self.question.clone();
        for change in changes.clone() {
            change.apply(&mut question);
        }
        let mut changed = None;
        if changes.clone().any(|c| !c.is_of_session()) {
            if self.compilations == COMPILATIONS {
                return None;
            }
            self.compilations += 1;
            changed = Some(Narrowed::of(self.engine, &question)?.with(changes).ok()?);
        }
        self.questions += 1;
        Some((changed.as_ref().unwrap_or(self.engine).explained(&question), changed))
    }
}

/// Looks for remedies of a refusal.
pub(crate) fn remedies(engine: &Engine, refused: &Answer) -> Vec<Remedy> {
    let mut trial = Trial { engine, question: &refused.question, questions: 0, compilations: 0 };
    let mut found: Vec<Remedy> = Vec::new();
    let mut plans: Vec<Vec<Way>> = vec![Vec::new()];
    // Cheapest first; among equals the one thought of first.
    let mut queue = BinaryHeap::from([Reverse((0, 0))]);
    while let Some(Reverse((cost, number))) = queue.pop() {
        if found.len() == OFFERED || trial.questions >= QUESTIONS {
            break;
        }
        let plan = plans[number].clone();
        let Some((answer, changed)) = trial.ask(plan.iter().map(|w| &w.change)) else { continue };
        let Some(refusal) = answer.refusal else {
            let (plan, verdict) = without_the_needless(plan, answer.verdict, &mut trial);
            let is_part_of_it = |r: &Remedy| r.steps.iter().all(|s| plan.iter().any(|w| w.change == s.change));
            if !found.iter().any(is_part_of_it) {
                let step = |way: Way| {
                    let place = way.place.filter(|p| !way.change.is_of_session() && !is_ours(*p));
                    Step { change: way.change, text: way.text, location: place.map(|p| engine.estate.sources.locate(p)) }
                };
                found.push(Remedy { steps: plan.into_iter().map(step).collect(), verdict });
            }
            continue;
        };
        for way in ways(changed.as_ref().unwrap_or(engine), &answer, refusal) {
            let cost = cost + if way.change.is_of_session() { 1 } else { LEDGER_COST };
            let is_repeated = plan.iter().any(|w| std::mem::discriminant(&w.change) == std::mem::discriminant(&way.change));
            if cost <= LARGEST_COST && !is_repeated {
                queue.push(Reverse((cost, plans.len())));
                plans.push(plan.iter().cloned().chain([way]).collect());
            }
        }
    }
    found
}

/// Leaves out every change that is not needed; a later one may have made an earlier one pointless.
fn without_the_needless(mut plan: Vec<Way>, mut verdict: Verdict, trial: &mut Trial<'_>) -> (Vec<Way>, Verdict) {
    let mut at = 0;
    while plan.len() > 1 && at < plan.len() {
        let rest = plan.iter().enumerate().filter(|&(i, _)| i != at).map(|(_, w)| &w.change);
        match trial.ask(rest) {
            Some((answer, _)) if answer.refusal.is_none() => {
                verdict = answer.verdict;
                plan.remove(at);
            }
            _ => at += 1,
        }
    }
    (plan, verdict)
}

/// Returns whether a place is one that applying a change made.
fn is_ours(place: Place) -> bool {
    matches!(place, Place::Code(at) if at.file().ends_with("ask/change.rs"))
}

pub(super) fn way(change: Change, text: impl Into<String>, place: Option<Place>) -> Way {
    Way { change, text: text.into(), place }
}

/// What could be changed about one refusal.
fn ways(engine: &Engine, answer: &Answer, refusal: Refusal) -> Vec<Way> {
    let question = &answer.question;
    let estate = &engine.estate;
    let Some(&system) = estate.system_ids.get(question.system.as_str()) else {
        let near = nearest(&question.system, estate.system_ids.keys().map(|k| &**k));
        return near.map(|n| way(Change::System(n.to_owned()), format!("on `{}`", visible(n)), None)).into_iter().collect();
    };
    if refusal == Refusal::FactNotHeard {
        let unheard: Vec<super::Fact> = question.session.unheard(estate.system(system).kind()).collect();
        let options: Vec<String> = unheard.iter().map(|f| format!("`--{}`", f.option())).collect();
        let text = format!("without {}", options.join(" and "));
        return vec![way(Change::Unstated(unheard), text, None)];
    }
    let is_person = matches!(refusal, Refusal::UserDisabled | Refusal::UserNotValid);
    if let Some(server) = engine.servers[system.index()].as_ref().filter(|_| !is_person) {
        return super::database_remedy::ways(engine, answer, refusal, server);
    }
    let ignores_case = engine.devices[system.index()].ignores_case;
    let Some(user) = engine.find_user(&question.user, ignores_case) else {
        let folded = question.user.to_lowercase();
        let other_case = estate.entries.users.iter().map(|u| u.id.value.as_str()).find(|id| id.to_lowercase() == folded);
        let near = other_case.or_else(|| nearest(&question.user, estate.user_ids.keys().map(|k| &**k)));
        return near.map(|n| way(Change::User(n.to_owned()), format!("as `{}`", visible(n)), None)).into_iter().collect();
    };
    let at = Asked { engine, question, system, user };
    if let Some(context) = Context::of(engine, system, &question.session).filter(|_| !is_of_person(refusal)) {
        return super::service_remedy::ways(&at, refusal, context);
    }
    if let Some(context) = host::Context::of(engine, system).filter(|_| !is_of_person(refusal)) {
        return super::host_remedy::ways(&at, answer, refusal, context);
    }
    match refusal {
        Refusal::UserDisabled | Refusal::UserNotValid | Refusal::NoProof | Refusal::CredentialMustChange => at.person(refusal),
        Refusal::ProofNotRegistered => {
            let proof = estate.user(user).proofs.first();
            proof.map(|p| way(Change::OnlyProof(p.value), format!("with a {} instead", p.value.word()), None)).into_iter().collect()
        }
        Refusal::NothingProven => {
            let proofs = estate.user(user).proofs.iter();
            proofs.map(|p| way(Change::OnlyProof(p.value), format!("with a {}", p.value.word()), None)).collect()
        }
        Refusal::AccountNotAsked => vec![way(Change::NoAccount, "in their own name", None)],
        Refusal::ChannelNotAllowed => {
            let channel = estate.user(user).channels.iter().flatten().next();
            channel.map(|c| way(Change::Channel(c.value), format!("through the channel {}", c.value.word()), None)).into_iter().collect()
        }
        Refusal::CentralDownNoAccount | Refusal::NoLocalAccount | Refusal::AccountLocked | Refusal::AccountWithoutCredential => {
            at.accounts(refusal, answer)
        }
        Refusal::OriginNotAdmitted => at.account_origin(answer),
        Refusal::NoBand => at.no_band(answer),
        Refusal::NotStated => at.unknown_facts(answer),
        Refusal::NoAssignment => at.memberships(),
        Refusal::LevelAboveCeiling => {
            at.ceiling_ways(answer, question.session.level.unwrap_or(15), |c| way(Change::Level(c), format!("at level {c}"), None))
        }
        Refusal::AboveCeiling | Refusal::BareElevation => at.elevation(answer),
        Refusal::LevelNotReached => question.session.level.map(|l| at.permit_elevation(l)).unwrap_or_default(),
        Refusal::UnknownMode | Refusal::ModeNotReached => vec![way(Change::Mode(None), "in the mode in which sessions start", None)],
        Refusal::UnknownCommand | Refusal::OtherMode | Refusal::IncompleteCommand | Refusal::AmbiguousAbbreviation => {
            at.other_line(refusal)
        }
        Refusal::LevelTooLow => at.level_too_low(answer),
        Refusal::DeniedByRule | Refusal::NotPermitted => at.permit_line(answer),
        Refusal::NoCommandSet => at.attach(),
        Refusal::CommandsNeedCentral => vec![way(Change::CentralUp, "once the central source is up again", None)],
        Refusal::AssignmentNotValid
        | Refusal::OriginOutside
        | Refusal::OutsideHours
        | Refusal::OutsideDays
        | Refusal::ChannelOutside
        | Refusal::ProofMissing
        | Refusal::AttributesDiffer => at.failing_condition(refusal),
        Refusal::SamePerson | Refusal::NotEntitled => at.second_person(answer),
        // Those of database servers were handled before.
        _ => Vec::new(),
    }
}

/// Returns whether a refusal is about a person and proofs, whatever the system.
const fn is_of_person(refusal: Refusal) -> bool {
    matches!(
        refusal,
        Refusal::UserDisabled | Refusal::UserNotValid | Refusal::NoProof | Refusal::ProofNotRegistered | Refusal::NothingProven
    )
}

pub(super) struct Asked<'a> {
    pub(super) engine: &'a Engine,
    pub(super) question: &'a Question,
    pub(super) system: SystemId,
    pub(super) user: UserId,
}

/// Entry
impl Asked<'_> {
    /// Whether the sign-in hangs on a channel that the question does not state.
    pub(super) fn lacks_channel(&self) -> bool {
        let estate = &self.engine.estate;
        let depends = !estate.system(self.system).accepts.is_empty() || estate.user(self.user).channels.is_some();
        depends && self.question.session.channel.is_none()
    }

    fn person(&self, refusal: Refusal) -> Vec<Way> {
        let entry = self.engine.estate.user(self.user);
        let name = visible(&entry.id.value);
        match refusal {
            Refusal::UserDisabled => {
                vec![way(Change::Enable, format!("if `{name}` were not disabled"), entry.disabled.as_ref().map(|d| d.place))]
            }
            Refusal::NoProof => {
                let proof = self.question.session.proofs.iter().flatten().next().map_or(crate::entry::Proof::Password, |p| p.proof);
                vec![way(Change::GiveProof(proof), format!("if `{name}` had a {}", proof.word()), Some(entry.id.place))]
            }
            Refusal::CredentialMustChange => {
                let place = entry.must_change_credential.as_ref().map(|m| m.place);
                let changing = self.engine.vocabulary_of(self.system);
                let line = changing.commands.iter().find(|c| c.does == Some(Does::ChangeCredential)).map(|c| c.pattern.to_string());
                let by = line.map_or(String::new(), |l| format!(" with `{l}`"));
                vec![way(Change::CredentialChanged, format!("once `{name}` has changed the credential{by}"), place)]
            }
            _ => {
                let place = entry.until.as_ref().or(entry.from.as_ref()).map(|m| m.place);
                let mut ways = Vec::new();
                if let Some(from) = entry.from.as_ref().filter(|f| self.question.session.at.is_some_and(|at| at < f.value)) {
                    ways.push(way(Change::Moment(from.value), format!("from {} on", from.value), None));
                }
                ways.push(way(Change::Unbind, format!("if `{name}` were valid at that time"), place));
                ways
            }
        }
    }

    fn accounts(&self, refusal: Refusal, answer: &Answer) -> Vec<Way> {
        let accounts = &self.engine.estate.system(self.system).accounts;
        let name = visible(&self.engine.estate.user(self.user).id.value);
        let login = answer.account.clone().unwrap_or_default();
        let of = accounts.iter().find(|a| a.login.value == login);
        match refusal {
            Refusal::AccountLocked => {
                let place = of.and_then(|a| a.locked.as_ref()).map(|l| l.place);
                vec![way(Change::UnlockAccount(login.clone()), format!("if the account `{}` were not locked", visible(&login)), place)]
            }
            Refusal::AccountWithoutCredential => {
                let place = of.and_then(|a| a.credential.as_ref()).map(|c| c.place);
                vec![way(
                    Change::SetCredential(login.clone()),
                    format!("if the account `{}` had its credential set", visible(&login)),
                    place,
                )]
            }
            _ => {
                let mut ways = Vec::new();
                if refusal == Refusal::CentralDownNoAccount {
                    ways.push(way(Change::CentralUp, "once the central source is up again", None));
                }
                let wanted = self.question.session.account.as_deref();
                for account in accounts.iter().filter(|a| wanted.is_none_or(|w| w == a.login.value)).take(3) {
                    let text = format!("if `{name}` might use the account `{}`", visible(&account.login.value));
                    ways.push(way(Change::UseAccount(account.login.value.clone()), text, Some(account.login.place)));
                }
                ways
            }
        }
    }

    fn account_origin(&self, answer: &Answer) -> Vec<Way> {
        let login = answer.account.as_deref().unwrap_or_default();
        let accounts = &self.engine.estate.system(self.system).accounts;
        let index = accounts.iter().position(|a| a.login.value == login);
        let origins = index.and_then(|i| self.engine.estate.systems[self.system.index()].accounts[i].origin.as_ref());
        origins.and_then(|o| o.first()).map(|a| way(Change::Origin(a), format!("from {a}"), None)).into_iter().collect()
    }

    fn no_band(&self, answer: &Answer) -> Vec<Way> {
        if let Some(login) = &answer.account {
            let text = format!("if the account `{}` had a band", visible(login));
            return vec![way(Change::AccountCeiling { login: login.clone(), to: 1 }, text, None)];
        }
        let Some(assignment) = self.first_assignment() else { return Vec::new() };
        let roles = &self.engine.estate.assignments[assignment.index()].roles;
        let give = |role: &crate::entry::Role| {
            way(
                Change::Ceiling { role: role.id.value.clone(), to: 1 },
                format!("if the role `{}` had a band from 1 to 1", visible(&role.id.value)),
                Some(role.id.place),
            )
        };
        roles.first().map(|&r| give(self.engine.estate.role(r))).into_iter().collect()
    }
}

/// Standing and conditions
impl Asked<'_> {
    /// The assignment that the answer rests on: the first that holds or cannot be known, or else the first of all.
    fn first_assignment(&self) -> Option<AssignmentId> {
        let outcome = |id: &AssignmentId| {
            self.engine.estate.assignments[id.index()].conditions.outcome(self.engine.facts(&self.question.session, self.user, self.system))
        };
        let all: Vec<AssignmentId> = candidates(self.engine, self.user, self.system).map(|c| c.assignment).collect();
        all.iter().copied().find(|id| outcome(id) != Outcome::Fails).or_else(|| all.first().copied())
    }

    fn memberships(&self) -> Vec<Way> {
        let estate = &self.engine.estate;
        let mut groups: Vec<(u8, GroupId, Place)> = Vec::new();
        for (i, links) in estate.assignments.iter().enumerate().filter(|(_, a)| a.systems.contains(self.system.index())) {
            let ceiling = self.engine.standing(AssignmentId::new(i)).1.band.map_or(0, |b| b.ceiling);
            for &(party, _) in &links.to {
                if let Party::Group(group) = party
                    && !groups.iter().any(|&(_, g, _)| g == group)
                {
                    groups.push((ceiling, group, estate.group(group).id.place));
                }
            }
        }
        // The least right that is enough is the smallest change.
        groups.sort_by_key(|&(ceiling, group, _)| (ceiling, group));
        let name = visible(&estate.user(self.user).id.value);
        let join = |&(_, group, place): &(u8, GroupId, Place)| {
            let id = &estate.group(group).id.value;
            way(Change::JoinGroup(id.clone()), format!("if `{name}` were in group `{}`", visible(id)), Some(place))
        };
        groups.iter().take(6).map(join).collect()
    }

    fn failing_condition(&self, refusal: Refusal) -> Vec<Way> {
        let part = match refusal {
            Refusal::OriginOutside => Part::Origin,
            Refusal::OutsideHours => Part::Hours,
            Refusal::OutsideDays => Part::Days,
            Refusal::ChannelOutside => Part::Channel,
            Refusal::ProofMissing => Part::Proof,
            Refusal::AttributesDiffer => Part::Attributes,
            _ => Part::Validity,
        };
        let all = candidates(self.engine, self.user, self.system);
        let mut ways: Vec<Way> =
            all.flat_map(|c| self.satisfy(&self.engine.estate.assignments[c.assignment.index()].conditions, part)).take(3).collect();
        if let (Part::Validity, Some(assignment)) = (part, self.first_assignment()) {
            let place = self.engine.estate.assignments[assignment.index()].entry.place;
            ways.push(way(Change::Prolong(place), "if the assignment held at that time", Some(place)));
        }
        ways
    }

    /// Says how to make one part of a condition hold.
    fn satisfy(&self, conditions: &Conditions, part: Part) -> Vec<Way> {
        self.satisfy_with(conditions, part, &self.engine.facts(&self.question.session, self.user, self.system))
    }

    pub(super) fn satisfy_with(&self, conditions: &Conditions, part: Part, facts: &Facts<'_>) -> Vec<Way> {
        let found = match part {
            Part::Origin => {
                conditions.origin.as_ref().and_then(|(nets, _)| nets.first()).map(|a| way(Change::Origin(a), format!("from {a}"), None))
            }
            Part::Channel => conditions
                .channel
                .as_ref()
                .and_then(|(list, _)| list.first())
                .map(|&c| way(Change::Channel(c), format!("through the channel {}", c.word()), None)),
            Part::Proof => {
                let proofs = &self.engine.estate.user(self.user).proofs;
                let has = |p: &&crate::entry::Proof| proofs.iter().any(|own| own.value == **p);
                return conditions
                    .proof
                    .iter()
                    .flat_map(|need| need.accepted.iter().filter(has))
                    .map(|&p| way(Change::Proof(p), format!("with a {} given just before", p.word()), None))
                    .collect();
            }
            Part::Hours | Part::Days | Part::Validity => self.moment(conditions).map(|(at, text)| way(Change::Moment(at), text, None)),
            Part::Attributes => conditions
                .compare
                .iter()
                .filter(|c| c.value.outcome(facts) != Outcome::Holds)
                .find_map(|c| c.value.session_value(facts))
                .map(|(name, value)| {
                    let text = format!("with the attribute `{}` stated as `{}`", visible(name), visible(value));
                    way(Change::Attribute { name: name.to_owned(), value: value.to_owned() }, text, None)
                }),
        };
        found.into_iter().collect()
    }

    /// Finds the next moment at which hours, days and validity all hold, in steps of a quarter of an hour.
    fn moment(&self, conditions: &Conditions) -> Option<(Timestamp, String)> {
        const STEP: i64 = 15 * 60;
        // Where no time is stated, any week will do: the one that begins 2026-01-05.
        let stated = self.question.session.at.unwrap_or(Timestamp::from_second(1_767_571_200).ok()?);
        let start = conditions.from.map_or(stated, |(from, _)| from.max(stated));
        let aligned = (start.as_second() + STEP - 1).div_euclid(STEP) * STEP;
        let zone = conditions.zone.clone().unwrap_or(jiff::tz::TimeZone::UTC);
        let mut session = self.question.session.clone();
        (0..8 * 24 * 4).find_map(|n| {
            let at = Timestamp::from_second(aligned + n * STEP).ok()?;
            session.at = Some(at);
            let mut parts = conditions.parts(&session);
            let is_of_time = |part| matches!(part, Part::Hours | Part::Days | Part::Validity);
            let holds = parts.all(|(part, outcome, _)| !is_of_time(part) || outcome == Outcome::Holds);
            holds.then(|| (at, format!("at {}", at.to_zoned_datetime(zone.clone()).strftime("%a %Y-%m-%d %H:%M %:Q"))))
        })
    }

    /// Says how to state what is known of a person, if that is left open.
    pub(super) fn person_facts(&self) -> Vec<Way> {
        let session = &self.question.session;
        let user = self.engine.estate.user(self.user);
        if let (None, Some(until)) = (session.at, user.until.as_ref().or(user.from.as_ref())) {
            let second = SignedDuration::from_secs(1);
            let at = user.from.as_ref().map_or_else(|| until.value.checked_sub(second).unwrap_or(until.value), |f| f.value);
            return vec![way(Change::Moment(at), format!("at {at}"), None)];
        }
        if let (None, Some(channel)) = (session.channel, user.channels.iter().flatten().next()) {
            return vec![way(Change::Channel(channel.value), format!("through the channel {}", channel.value.word()), None)];
        }
        Vec::new()
    }

    /// Says how to state what the question leaves open.
    fn unknown_facts(&self, answer: &Answer) -> Vec<Way> {
        let session = &self.question.session;
        let facts = self.person_facts();
        if !facts.is_empty() {
            return facts;
        }
        if answer.account.is_some() {
            return self.account_origin(answer);
        }
        let Some(assignment) = self.first_assignment() else { return Vec::new() };
        let conditions = &self.engine.estate.assignments[assignment.index()].conditions;
        let unknown: Vec<Part> = conditions
            .parts(self.engine.facts(session, self.user, self.system))
            .filter(|&(_, o, _)| o == Outcome::Unknown)
            .map(|(p, ..)| p)
            .collect();
        unknown.first().map(|&part| self.satisfy(conditions, part)).unwrap_or_default()
    }

    fn ceiling_ways(&self, answer: &Answer, wanted: u8, lower: impl Fn(u8) -> Way) -> Vec<Way> {
        let mut ways = Vec::new();
        if let Some(login) = &answer.account {
            let account = self.engine.estate.system(self.system).accounts.iter().find(|a| a.login.value == *login);
            if let Some(band) = account.and_then(|a| a.band.as_ref()) {
                ways.push(lower(band.ceiling.value));
                let text = format!("if the ceiling of account `{}` were {wanted}", visible(login));
                ways.push(way(Change::AccountCeiling { login: login.clone(), to: wanted }, text, Some(band.ceiling.place)));
            }
            return ways;
        }
        let Some(standing) = self.first_assignment().map(|a| self.engine.standing(a).1) else { return ways };
        if let Some(band) = standing.band {
            ways.push(lower(band.ceiling));
            let roles = standing.roles.iter().map(|&r| self.engine.estate.role(r));
            if let Some(role) = roles.into_iter().find(|r| r.band.as_ref().is_some_and(|b| b.ceiling.place == band.ceiling_place)) {
                let text = format!("if the ceiling of role `{}` were {wanted}", visible(&role.id.value));
                ways.push(way(Change::Ceiling { role: role.id.value.clone(), to: wanted }, text, Some(band.ceiling_place)));
            }
        }
        ways
    }

    fn elevation(&self, answer: &Answer) -> Vec<Way> {
        let vocabulary = self.engine.vocabulary_of(self.system);
        let wanted = answer.full_line.as_deref().and_then(|l| l.split(' ').next_back()?.parse().ok()).unwrap_or(15);
        self.ceiling_ways(answer, wanted, |ceiling| {
            let numbered = vocabulary.commands.iter().find(|c| c.does == Some(Does::Elevate) && c.level_word.is_some());
            let line = numbered.map_or_else(|| "elevate".to_owned(), |c| example(&c.pattern, &ceiling.to_string()));
            way(Change::Line(line.clone()), format!("with `{line}`"), None)
        })
    }

    fn permit_elevation(&self, level: u8) -> Vec<Way> {
        let vocabulary = self.engine.vocabulary_of(self.system);
        let numbered = vocabulary.commands.iter().find(|c| c.does == Some(Does::Elevate) && c.level_word.is_some());
        numbered.map(|c| self.permit(&example(&c.pattern, &level.to_string()))).unwrap_or_default()
    }
}

/// Permission
impl Asked<'_> {
    fn other_line(&self, refusal: Refusal) -> Vec<Way> {
        let vocabulary = self.engine.vocabulary_of(self.system);
        let mode = self.question.session.mode.as_deref().and_then(|m| vocabulary.mode(m)).unwrap_or(vocabulary.start_mode);
        let Ok(words) = read_line(&self.question.line) else { return Vec::new() };
        if refusal == Refusal::OtherMode {
            let modes = (0..vocabulary.modes.len()).map(ModeId::new);
            let other = modes.filter(|&m| m != mode).find(|&m| vocabulary.resolve(m, &words, &self.engine.alphabet).is_ok());
            let name = |m: ModeId| vocabulary.modes[m.index()].clone();
            return other
                .map(|m| way(Change::Mode(Some(name(m))), format!("in the mode `{}`", visible(&name(m))), None))
                .into_iter()
                .collect();
        }
        let lines = vocabulary.lines_like(mode, &words, &self.engine.alphabet);
        lines.into_iter().map(|line| way(Change::Line(line.clone()), format!("as `{}`", visible(&line)), None)).collect()
    }

    fn level_too_low(&self, answer: &Answer) -> Vec<Way> {
        let vocabulary = self.engine.vocabulary_of(self.system);
        let mode = self.question.session.mode.as_deref().and_then(|m| vocabulary.mode(m)).unwrap_or(vocabulary.start_mode);
        let Ok(words) = read_line(&self.question.line) else { return Vec::new() };
        let Ok(resolved) = vocabulary.resolve(mode, &words, &self.engine.alphabet) else { return Vec::new() };
        let (needed, _) = self.engine.own_level(self.system, resolved.command);
        let links = &self.engine.estate.vocabularies[self.engine.devices[self.system.index()].vocabulary.index()].commands
            [resolved.command.index()];
        let now = answer.level.unwrap_or(0);
        vec![
            way(Change::Level(needed), format!("at level {needed}"), None),
            way(
                Change::OwnLevel { command: links.line.clone(), to: now },
                format!("if the device put `{}` at level {now}", visible(&links.line)),
                Some(self.engine.estate.system(self.system).id.place),
            ),
        ]
    }

    fn permit_line(&self, answer: &Answer) -> Vec<Way> {
        let Some(line) = answer.full_line.as_deref() else { return Vec::new() };
        let vocabulary = self.engine.vocabulary_of(self.system);
        let resolved =
            read_line(line).ok().and_then(|w| vocabulary.resolve(vocabulary.start_mode, &w, &self.engine.alphabet).ok().map(|r| r.command));
        let is_elevation = resolved.is_some_and(|c| vocabulary.command(c).does == Some(Does::Elevate));
        let mut ways = if is_elevation { self.elevation(answer) } else { Vec::new() };
        ways.retain(|w| w.change.is_of_session());
        ways.extend(self.permit(line));
        ways
    }

    /// Permits a line at the top of the sets that apply: of the one that denies it, or else of any.
    fn permit(&self, line: &str) -> Vec<Way> {
        let Some(standing) = self.first_assignment().map(|a| self.engine.standing(a).1) else { return Vec::new() };
        let Ok(words) = read_line(line) else { return Vec::new() };
        let pattern = Pattern::literal(words.iter().copied()).to_string();
        let symbols = crate::command::alphabet::symbols(&self.engine.alphabet, words.iter().copied());
        let denies = |set: &&crate::estate::SetId| {
            let compiled = &self.engine.sets[set.index()];
            compiled.automaton.decide(&symbols).is_some_and(|rule| compiled.verbs[rule as usize] == crate::entry::RuleVerb::Deny)
        };
        let denying: Vec<_> = standing.sets.iter().filter(denies).copied().collect();
        let sets = if denying.is_empty() { standing.sets.clone() } else { denying };
        let permit = |set: &crate::estate::SetId| {
            let entry = self.engine.estate.set(*set);
            let rule =
                self.engine.sets[set.index()].automaton.decide(&symbols).map(|r| &self.engine.estate.sets[set.index()].rules[r as usize]);
            let (text, place) = match rule {
                Some(rule) => {
                    (format!("if command set `{}` allowed `{}` before that rule", visible(&entry.id.value), visible(line)), rule.text.place)
                }
                None => (
                    format!("if command set `{}` also allowed `{}`", visible(&entry.id.value), visible(line)),
                    entry.rules.first().map_or(entry.id.place, |r| r.text.place),
                ),
            };
            way(Change::AllowFirst { set: entry.id.value.clone(), pattern: pattern.clone() }, text, Some(place))
        };
        sets.iter().take(3).map(permit).collect()
    }

    fn attach(&self) -> Vec<Way> {
        let Some(standing) = self.first_assignment().map(|a| self.engine.standing(a).1) else { return Vec::new() };
        let Some(&role) = standing.roles.first() else { return Vec::new() };
        let role = self.engine.estate.role(role);
        let attach = |set: &std::sync::Arc<crate::entry::CommandSet>| {
            way(
                Change::Attach { role: role.id.value.clone(), set: set.id.value.clone() },
                format!("if role `{}` had the command set `{}`", visible(&role.id.value), visible(&set.id.value)),
                Some(role.id.place),
            )
        };
        self.engine.estate.command_sets().iter().take(6).map(attach).collect()
    }

    fn second_person(&self, answer: &Answer) -> Vec<Way> {
        let Some(rule) = answer.rule else { return Vec::new() };
        let estate = &self.engine.estate;
        let Some(duties) = &estate.sets[rule.set.index()].rules[rule.index as usize].after else { return Vec::new() };
        let mut users: Vec<UserId> = Vec::new();
        let mut queue: Vec<Party> = duties.second_person.iter().rev().map(|&(p, _)| p).collect();
        let mut steps = 0;
        while let Some(party) = queue.pop().filter(|_| steps < 1000 && users.len() < 8) {
            steps += 1;
            match party {
                Party::User(user) if user != self.user && !users.contains(&user) => users.push(user),
                Party::User(_) => {}
                Party::Group(group) => queue.extend(estate.groups[group.index()].members.iter().rev().map(|&(m, _)| m)),
            }
        }
        let name = |user: UserId| estate.user(user).id.value.clone();
        users
            .into_iter()
            .map(|u| way(Change::SecondPerson(name(u)), format!("with `{}` as second person", visible(&name(u))), None))
            .collect()
    }
}

/// Writes a line of a pattern with a word for its slots.
fn example(pattern: &Pattern, slot: &str) -> String {
    use crate::command::WordPattern;
    line::join(pattern.words().iter().map(|word| match word {
        WordPattern::Fixed(words) => words.first().map_or("", String::as_str),
        WordPattern::Slot(_) => slot,
    }))
}

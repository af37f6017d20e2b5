//! Ways on from a refusal, for the search of remedies to try; what is the same on every kind of system.

use jiff::{SignedDuration, Timestamp};

use super::rules::Site;
use crate::engine::Engine;
use crate::links::{Condition, Conditions, Facts, Party, SystemId, UserId};
use zest_model::ask::{Answer, Change, Question, Refusal, Width};
use zest_model::entry::{Channel, Proof};
use zest_model::source::{Location, Place, visible};
use zest_words::nearest;

/// One way to go on from a refusal: a change, how to say it, and where in the ledger it would be made.
///
/// # Example
/// ```
/// use zest_ledger::{ask::{Change, Width}, kind::way};
/// let higher = way(Change::Level(7), "at level 7", None);
/// assert_eq!((higher.text.as_str(), higher.width), ("at level 7", Width::Session));
/// assert_eq!(higher.of_width_if(Width::Wide, true).width, Width::Wide);
/// ```
#[derive(Clone, Debug)]
pub struct Way {
    /// The change.
    pub change: Change,
    /// The change as a clause: "at level 7".
    pub text: String,
    /// Where in the ledger it would be made.
    pub place: Option<Place>,
    /// How far it reaches.
    pub width: Width,
}

impl Way {
    /// Returns the way with another width if something is so.
    #[must_use]
    pub fn of_width_if(self, width: Width, is_so: bool) -> Self {
        if is_so { Self { width, ..self } } else { self }
    }
}

/// Makes a way out of a change, told in words; it reaches as far as such a change does at least.
///
/// # Example
/// ```
/// use zest_ledger::{ask::Change, kind::way};
/// assert_eq!(way(Change::Level(7), "at level 7", None).change, Change::Level(7));
/// ```
pub fn way(change: Change, text: impl Into<String>, place: Option<Place>) -> Way {
    Way { width: change.width(), change, text: text.into(), place }
}

/// A refused question of somebody who is known.
#[derive(Clone, Copy, Debug)]
pub struct Asked<'a> {
    pub(crate) engine: &'a Engine,
    pub(crate) question: &'a Question,
    pub(crate) system: SystemId,
    pub(crate) user: UserId,
    /// The moment of asking, if it is known.
    now: Option<Timestamp>,
}

impl<'a> Asked<'a> {
    /// Finds who asked.
    ///
    /// # Errors
    /// Ways on, where nobody is known by that name: as somebody of a like name.
    pub fn of(site: Site<'a>, answer: &'a Answer) -> Result<Self, Vec<Way>> {
        let Site { engine, system } = site;
        let question = &answer.question;
        if let Some(user) = engine.find_user(&question.user, site.entry().ignores_case()) {
            return Ok(Self { engine, question, system, user, now: answer.now });
        }
        let estate = &engine.estate;
        let other_case = engine.users_but_for_case(&question.user).next().map(|user| estate.user(user).id.value.as_str());
        let near = other_case.or_else(|| nearest(&question.user, estate.names.users.keys().map(|k| &**k)));
        Err(near.map(|n| way(Change::User(n.to_owned()), format!("as `{}`", visible(n)), None)).into_iter().collect())
    }

    /// Returns the id of whoever asked.
    pub(crate) fn name(&self) -> String {
        self.engine.estate.user(self.user).id.value.clone()
    }

    /// Returns the id of the system.
    pub(crate) fn on(&self) -> String {
        self.engine.estate.system(self.system).id.value.clone()
    }

    /// Returns where something is written.
    pub(crate) fn locate(&self, place: Place) -> Location {
        self.engine.estate.sources.locate(place)
    }

    /// Returns the ways on from a refusal that is about the person and proofs, whatever the system; nothing for other refusals.
    pub fn person(&self, refusal: Refusal) -> Option<Vec<Way>> {
        let entry = self.engine.estate.user(self.user);
        let name = visible(&entry.id.value);
        Some(match refusal {
            Refusal::UserDisabled => {
                vec![way(
                    Change::Enable { user: self.name() },
                    format!("if `{name}` were not disabled"),
                    entry.disabled.as_ref().map(|d| d.place),
                )]
            }
            Refusal::UserNotValid => {
                let place = entry.until.as_ref().or(entry.from.as_ref()).map(|m| m.place);
                let mut ways = Vec::new();
                if let Some(from) = entry.from.as_ref().filter(|f| self.question.session.at.is_some_and(|at| at < f.value)) {
                    ways.push(way(Change::Moment(from.value), format!("from {} on", from.value), None));
                }
                ways.push(way(Change::Unbind { user: self.name() }, format!("if `{name}` were valid at that time"), place));
                ways
            }
            Refusal::NoProof => {
                let proof = self.question.session.proofs.iter().flatten().next().map_or(Proof::Password, |p| p.proof);
                vec![self.give(proof)]
            }
            Refusal::ProofNotRegistered => {
                let own = entry.proofs.iter().map(|p| way(Change::OnlyProof(p.value), format!("with a {} instead", p.value.word()), None));
                let has = |proof: Proof| entry.proofs.iter().any(|own| own.value == proof);
                let given = self.question.session.proofs.iter().flatten().map(|p| p.proof).filter(|p| !has(*p));
                own.chain(given.map(|proof| self.give(proof))).collect()
            }
            Refusal::NothingProven => {
                entry.proofs.iter().map(|p| way(Change::OnlyProof(p.value), format!("with a {}", p.value.word()), None)).collect()
            }
            _ => return None,
        })
    }

    fn give(&self, proof: Proof) -> Way {
        let entry = self.engine.estate.user(self.user);
        let text = format!("if `{}` had a {}", visible(&entry.id.value), proof.word());
        way(Change::GiveProof { user: self.name(), proof }, text, Some(entry.id.place))
    }

    /// With a proof of the second person given just before, of those that this person has.
    pub(crate) fn second_person_proves(&self) -> Vec<Way> {
        let second = self.question.session.approved_by.as_deref().and_then(|id| self.engine.estate.names.users.get(id));
        let proofs = second.map_or(&[][..], |&user| &self.engine.estate.user(user).proofs);
        let text = |proof: Proof| format!("with a {} of the second person given just before", proof.word());
        proofs.iter().map(|p| way(Change::ApproverProof(p.value), text(p.value), None)).collect()
    }

    /// Through a channel, or with a proof, that the system accepts.
    pub(crate) fn accepted(&self, refusal: Refusal) -> Vec<Way> {
        let estate = &self.engine.estate;
        let (user, system) = (estate.user(self.user), estate.system(self.system));
        if refusal == Refusal::ProofNotAccepted {
            let has = |p: Proof| user.proofs.iter().any(|own| own.value == p);
            let accepted = system.accepts.iter().filter(|(c, _)| Some(c.value) == self.question.session.channel).flat_map(|(_, p)| p);
            let proofs = accepted
                .filter(|p| has(p.value))
                .map(|p| way(Change::OnlyProof(p.value), format!("with a {} instead", p.value.word()), None));
            // Or through a channel on which the proof that was given counts.
            let given: Vec<Proof> = self.question.session.proofs.iter().flatten().map(|p| p.proof).collect();
            let others = system.accepts.iter().filter(|(_, list)| list.iter().any(|p| given.contains(&p.value)));
            let through = |c: Channel| way(Change::Channel(c), format!("through the channel {}", c.word()), None);
            return proofs.chain(others.map(|(c, _)| through(c.value))).collect();
        }
        let of_user = user.channels.iter().flatten().map(|c| c.value);
        let channels: Vec<_> = of_user.chain(system.accepts.iter().map(|(c, _)| c.value)).collect();
        channels.into_iter().map(|c| way(Change::Channel(c), format!("through the channel {}", c.word()), None)).collect()
    }

    /// Whether the sign-in hangs on a channel that the question does not state.
    pub(crate) fn lacks_channel(&self) -> bool {
        let estate = &self.engine.estate;
        let depends = !estate.system(self.system).accepts.is_empty() || estate.user(self.user).channels.is_some();
        depends && self.question.session.channel.is_none()
    }

    /// Says how to make one of some conditions hold.
    pub(crate) fn satisfy(&self, all: &Conditions, condition: &Condition, facts: &Facts<'_>) -> Vec<Way> {
        let found = condition.remedies(all, facts, &self.engine.estate.user(self.user).proofs, self.now);
        found.into_iter().map(|(change, text)| way(change, text, None)).collect()
    }

    /// With the time stated, within bounds; nothing where that is over.
    pub(crate) fn with_time(&self, from: Option<Timestamp>, until: Option<Timestamp>) -> Option<Way> {
        with_time(from, until, self.now)
    }

    /// Says how to state what is known of a person, if that is left open.
    pub(crate) fn person_facts(&self) -> Vec<Way> {
        let session = &self.question.session;
        let user = self.engine.estate.user(self.user);
        let (from, until) = (user.from.as_ref().map(|m| m.value), user.until.as_ref().map(|m| m.value));
        if session.at.is_none() && (from.is_some() || until.is_some()) {
            return self.with_time(from, until).into_iter().collect();
        }
        if let (None, Some(channel)) = (session.channel, user.channels.iter().flatten().next()) {
            return vec![way(Change::Channel(channel.value), format!("through the channel {}", channel.value.word()), None)];
        }
        Vec::new()
    }
}

/// With the time stated, from one moment on and before another, and not in the past; nothing where that is over.
pub fn with_time(from: Option<Timestamp>, until: Option<Timestamp>, now: Option<Timestamp>) -> Option<Way> {
    // Where nobody says what time it is now, the last moment is the one that is in the past the latest.
    let last = until.and_then(|u| u.checked_sub(SignedDuration::from_secs(1)).ok());
    let at = from.max(now).or(last)?;
    let told = |word: &str, moment: Option<Timestamp>| moment.map(|m| format!(" {word} {m}"));
    let bounds: String = told("from", from).into_iter().chain(told("before", until)).collect::<Vec<_>>().join(" and");
    until.is_none_or(|u| at < u).then(|| way(Change::Moment(at), format!("with the time stated,{bounds}"), None))
}

/// Returns how far it reaches to let somebody use an account: one of the own name is theirs, one that several people or a group use is
/// shared, and any other is somebody else's.
pub fn lent(used_by: impl ExactSizeIterator<Item = Party>, login: &str, user: &str) -> Width {
    let several = used_by.len() > 1;
    let mut used_by = used_by;
    match () {
        () if login == user => Width::Narrow,
        () if several || used_by.any(|by| matches!(by, Party::Group(_))) => Width::Wide,
        () => Width::WiderThanNeeded,
    }
}

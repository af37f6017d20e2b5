//! Can this person start at all, and what is missing: all of it at once.

use jiff::{SignedDuration, Timestamp};

use zest_engine::Engine;
use zest_engine::Estate;
use zest_engine::kind::service::links::own_credential;
use zest_engine::links::UserId;
use zest_engine::rights::{Action, Rights, Side, Within, rights};
use zest_engine::rules::Site;
use zest_model::More;
use zest_model::ask::{Answer, Change, Form, Gate, GateOutcome, Proven, Question, Refusal, Session};
use zest_model::entry::{Channel, Proof};
use zest_model::listing::{Cause, Opening, Readiness};
use zest_model::source::{Place, visible};

/// Returns whether a user can start, on each system that concerns him or on one; nothing for an unknown user.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, review::readiness};
/// let estate = Ledger::new().document("rota.toml", r#"
/// [users.mate-1]
/// must-change-credential = true
/// [systems.rota]
/// kind = "application"
/// accepts = { web = ["password"] }
/// "#).estate()?;
/// let ready = readiness(&Engine::compile(estate)?, "mate-1", None, None).expect("the user is known");
/// let missing: Vec<&str> = ready[0].missing.iter().map(|cause| cause.text.as_str()).collect();
/// assert_eq!(missing, [
///     "no way to prove identity is registered",
///     "the credential must be changed first: until then nothing else can be done",
///     "no channel is open",
///     "nothing is granted on `rota`",
/// ]);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn readiness(engine: &Engine, user: &str, system: Option<&str>, at: Option<Timestamp>) -> Option<Vec<Readiness>> {
    let id = engine.find_user(user, false)?;
    let wanted: Vec<Site<'_>> = match system {
        Some(name) => engine.site(name).into_iter().collect(),
        None => engine.all_sites().collect(),
    };
    let is_asked = system.is_some() || wanted.len() == 1;
    let found = wanted.into_iter().map(|site| (site, on_system(site, id, at)));
    // Where nothing is meant to be done, nothing is missing.
    Some(found.filter(|(site, r)| is_asked || site.kind().concerns(*site, id) || r.missing.is_empty()).map(|(_, r)| r).collect())
}

fn on_system(site: Site<'_>, user: UserId, at: Option<Timestamp>) -> Readiness {
    let look = Look { site, user, at };
    let channels: Vec<Opening> = CHANNELS.map(|channel| look.opening(channel)).into();
    let set = look.set(Session::default(), Vec::new());
    // Whoever may do something is kept from nothing: not by what is asked for elsewhere, and not by what stands in one of several ways.
    // What everybody may do to the own credential is no right that somebody gave.
    let own = own_credential(&site.user(user).id.value);
    let is_something = |action: usize| set.actions()[action].line != own && set.example_for(action).is_some();
    let mut missing: Vec<Cause> = Vec::new();
    if (0..set.actions().len()).any(is_something) {
        missing.extend(look.credential_first());
    } else {
        missing = look.of_the_user();
        if !missing.is_empty() && !channels.iter().any(|opening| opening.is_open) {
            let place = site.entry().accepts.first().map_or(site.user(user).id.place, |(channel, _)| channel.place);
            missing.push(look.cause("no channel is open".to_owned(), place));
        }
        missing.extend(site.kind().missing(site, user, at));
        if missing.is_empty() {
            missing = look.in_the_way(&set);
        }
    }
    let engine = site.engine();
    missing.extend(credential(engine.estate(), engine, user, at).into_iter().map(|(text, place)| look.cause(text, place)));
    Readiness { system: site.entry().id.value.clone(), channels, missing, more: More }
}

/// How many things are said to be in the way at most, where there are several ways for a session to start.
const MAX_CAUSES: usize = 8;

/// The channels, in the order in which they are told.
const CHANNELS: [Channel; 3] = [Channel::Terminal, Channel::Web, Channel::Api];

/// A proof that was given just now.
fn given(proof: Proof) -> Vec<Proven> {
    vec![Proven::new(proof, SignedDuration::ZERO)]
}

/// Somebody on a system, at a moment or at any.
struct Look<'e> {
    site: Site<'e>,
    user: UserId,
    at: Option<Timestamp>,
}

impl Look<'_> {
    fn side(&self) -> Side<'_> {
        Side { site: self.site, user: self.user }
    }

    /// Sessions in which something is stated, at the moment.
    fn within(&self, stated: Session, actions: Vec<Action>) -> Within {
        Within { stated: Session { at: self.at, ..stated }, actions, ..Within::default() }
    }

    /// All that is allowed in them.
    fn set(&self, stated: Session, actions: Vec<Action>) -> Rights {
        rights(&[self.side()], &self.within(stated, actions)).pop().expect("a set for the one side")
    }

    /// How a session is opened through a channel.
    fn opening(&self, channel: Channel) -> Opening {
        let opens = |proofs: Vec<Proven>| {
            let stated = Session { channel: Some(channel), proofs: Some(proofs), ..Session::default() };
            self.set(stated, vec![Action::alone("", Form::Line)]).can_open(|_| true)
        };
        // Where one gets in without giving any, such as with an account that has a credential of its own, none of them is needed.
        if opens(Vec::new()) {
            return Opening { channel, is_open: true, proofs: Vec::new() };
        }
        let proofs = self.site.user(self.user).proofs.iter().map(|proof| proof.value);
        let proofs: Vec<Proof> = proofs.filter(|&proof| opens(given(proof))).collect();
        Opening { channel, is_open: !proofs.is_empty(), proofs }
    }

    fn cause(&self, text: String, place: Place) -> Cause {
        Cause { text, place: Some(self.site.engine().estate().sources().locate(place)) }
    }

    /// What the entry of the user has that keeps from everything.
    fn of_the_user(&self) -> Vec<Cause> {
        let entry = self.site.user(self.user);
        let mut missing = Vec::new();
        let mut lack = |text: String, place: Place| missing.push(self.cause(text, place));
        if let Some(disabled) = entry.disabled.as_ref().filter(|d| d.value) {
            lack("the user is disabled".to_owned(), disabled.place);
        }
        if let (Some(at), Some(from)) = (self.at, &entry.from)
            && at < from.value
        {
            lack(format!("the user is valid from {} on, not at {at}", from.value), from.place);
        }
        if let Some(until) = entry.until.as_ref().filter(|u| self.at.is_some_and(|at| at >= u.value)) {
            lack(format!("the user was valid until {}", until.value), until.place);
        }
        if entry.proofs.is_empty() {
            lack("no way to prove identity is registered".to_owned(), entry.id.place);
        }
        missing.extend(self.must_change());
        missing
    }

    fn must_change(&self) -> Option<Cause> {
        let must = self.site.user(self.user).must_change_credential.as_ref().filter(|must| must.value)?;
        Some(self.cause("the credential must be changed first: until then nothing else can be done".to_owned(), must.place))
    }

    /// That the credential must be changed, where more would be allowed once it is: some systems do not look at it.
    fn credential_first(&self) -> Option<Cause> {
        let must = self.must_change()?;
        let (user, system) = (&self.site.user(self.user).id.value, &self.site.entry().id.value);
        let changed = self.site.engine().with(&[Change::CredentialChanged { user: user.clone() }]).ok()?;
        let after = Side { site: changed.site(system)?, user: changed.find_user(user, false)? };
        let sets = rights(&[self.side(), after], &self.within(Session::default(), Vec::new()));
        let [now, then] = sets.as_slice() else { return None };
        (!then.is_within(now)).then_some(must)
    }

    /// What refuses every session; or that nothing is allowed in any.
    fn in_the_way(&self, set: &Rights) -> Vec<Cause> {
        let id = &self.site.entry().id;
        if let Some(unknown) = set.unknown().first() {
            return vec![self.cause(format!("whether anything may be done on `{}` is not known: {unknown}", visible(&id.value)), id.place)];
        }
        if set.can_open(|_| true) {
            let text = format!("sessions can be opened on `{}`, and nothing is allowed in any of them", visible(&id.value));
            return vec![self.cause(text, id.place)];
        }
        let starts = set.shut().iter().map(|opening| &opening.session);
        let starts = starts.filter(|start| start.acting.is_empty() && start.level.is_none() && start.mode.is_none());
        let (mut open, mut gates): (Vec<Gate>, Vec<Gate>) = (Vec::new(), Vec::new());
        for gate in starts.flat_map(|start| self.refused(start)) {
            let list = if hangs_on_session(&gate) { &mut open } else { &mut gates };
            if list.len() < MAX_CAUSES && !list.iter().any(|known| known.text == gate.text) {
                list.push(gate);
            }
        }
        // What hangs on the session is in the way only where nothing else is.
        let gates = if gates.is_empty() { open } else { gates };
        gates.into_iter().map(|gate| Cause { text: gate.text, place: gate.location }).collect()
    }

    /// What refuses, of the sessions that start in one way, the one that gets furthest: what is stated is never what is in the way.
    fn refused(&self, start: &Session) -> Vec<Gate> {
        let (user, system) = (self.site.user(self.user), &self.site.entry().id.value);
        let stated = |proofs: Option<Vec<Proven>>, channel| Session { at: self.at, channel: Some(channel), proofs, ..start.clone() };
        let mut proofs: Vec<Option<Vec<Proven>>> = user.proofs.iter().map(|proof| Some(given(proof.value))).collect();
        if proofs.is_empty() {
            proofs.push(None);
        }
        let tried = proofs.iter().flat_map(|proofs| CHANNELS.map(|channel| stated(proofs.clone(), channel)));
        let answers = tried.map(|session| self.site.engine().sign_in(&Question::in_session(&user.id.value, system, "", session)));
        let passed = |answer: &Answer| answer.gates.iter().take_while(|gate| !refuses(gate)).count();
        let furthest = answers.reduce(|best, answer| if passed(&answer) > passed(&best) { answer } else { best });
        furthest.into_iter().flat_map(|answer| answer.gates).filter(refuses).collect()
    }
}

const fn refuses(gate: &Gate) -> bool {
    matches!(gate.outcome, GateOutcome::Refuses(_))
}

/// Returns whether a refusal is about what could still be stated, or whether the central source is up: nothing that somebody lacks.
const fn hangs_on_session(gate: &Gate) -> bool {
    matches!(gate.outcome, GateOutcome::Refuses(Refusal::NotStated | Refusal::CentralDownNoAccount | Refusal::AccountNotAsked))
}

/// What the rules for credentials say of a user's: the strictest of all that are for him counts.
fn credential(estate: &Estate, engine: &Engine, user: UserId, at: Option<Timestamp>) -> Vec<(String, Place)> {
    let entry = estate.user(user);
    let rules: Vec<_> =
        estate.credential_rule_links().iter().filter(|r| r.of.iter().any(|&(p, _)| engine.membership().belongs(user, p))).collect();
    let mut found = Vec::new();
    if let Some(shortest) = rules.iter().filter_map(|r| r.shortest.as_ref()).max_by_key(|s| s.value) {
        match &entry.credential_length {
            None => {
                found.push((format!("the length of the credential is not recorded; at least {} is wanted", shortest.value), shortest.place))
            }
            Some(length) if length.value < shortest.value => {
                found.push((
                    format!("the credential has {} characters; at least {} are wanted", length.value, shortest.value),
                    length.place,
                ));
            }
            Some(_) => {}
        }
    }
    if let Some(oldest) = rules.iter().filter_map(|r| r.oldest_days.as_ref()).min_by_key(|o| o.value) {
        match (&entry.credential_set, at) {
            (None, _) => {
                found.push((format!("when the credential was set is not recorded; it is good for {} days", oldest.value), oldest.place))
            }
            (Some(set), Some(at)) => {
                let end = set.value.checked_add(SignedDuration::from_hours(24 * i64::from(oldest.value))).unwrap_or(Timestamp::MAX);
                if at >= end {
                    found.push((
                        format!("the credential expired at {end}: it was set at {} and is good for {} days", set.value, oldest.value),
                        set.place,
                    ));
                }
            }
            (Some(set), None) => {
                found.push(("whether the credential has expired depends on the time, which is not stated".to_owned(), set.place))
            }
        }
    }
    found
}

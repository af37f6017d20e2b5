//! Entry where the central source answers: who asks, whether the person may sign in at all, and by what proof.

use std::fmt::Write as _;

use crate::engine::Engine;
use crate::engine::rights::Look;
use crate::engine::trace::{Stop, Trace};
use crate::links::{AssignmentId, Party, SystemId, UserId};
use zest_model::ask::{Central, Question, Refusal, Session, Stage};
use zest_model::entry::{IdentitySource, Proof, User};
use zest_model::source::{Place, visible};
use zest_words::nearest;

/// Finds the user who asks.
pub(crate) fn find_user(engine: &Engine, question: &Question, ignores_case: bool, trace: &mut Trace) -> Result<UserId, Stop> {
    if let Some(user) = engine.find_user(&question.user, ignores_case) {
        return Ok(user);
    }
    let other_case = engine.users_but_for_case(&question.user).next().map(|user| engine.estate.user(user));
    let shown = || visible(&question.user);
    if let Some(user) = other_case {
        trace.refuse(Stage::Entry, Refusal::WrongCase, || {
            (format!("`{}` is not `{}`: names on this system are case-sensitive", shown(), visible(&user.id.value)), Some(user.id.place))
        })?;
    } else {
        trace.refuse(Stage::Entry, Refusal::UnknownUser, || {
            let near = nearest(&question.user, engine.estate.names.users.keys().map(|k| &**k));
            let place = near.and_then(|n| engine.estate.names.users.get(n)).map(|&id| engine.estate.user(id).id.place);
            let near = near.map_or(String::new(), |n| format!("; the nearest name is `{}`", visible(n)));
            (format!("no identity source knows `{}`{near}", shown()), place)
        })?;
    }
    Err(Stop)
}

/// A session that has an end is over at that moment, whatever the system.
pub(crate) fn session_lasts(session: &Session, trace: &mut Trace) -> Result<(), Stop> {
    let Some(expires) = session.expires else { return Ok(()) };
    session.ear.looked(|| Look::Moment(expires));
    match session.at {
        None => trace.refuse(Stage::Conditions, Refusal::NotStated, || {
            (format!("the question does not state the time, and the session is over at {expires}"), None)
        }),
        Some(at) if at >= expires => {
            trace.refuse(Stage::Entry, Refusal::SessionExpired, || (format!("the session was over at {expires}"), None))
        }
        Some(_) => {
            trace.pass(Stage::Entry, || (format!("the session lasts until {expires}"), None));
            Ok(())
        }
    }
}

/// What holds for a person whichever source answers.
pub fn person(engine: &Engine, session: &Session, user: UserId, trace: &mut Trace) -> Result<(), Stop> {
    if engine.membership.is_plain(user) {
        return Ok(());
    }
    let entry = engine.estate.user(user);
    let shown = || visible(&entry.id.value);
    if let Some(disabled) = entry.disabled.as_ref().filter(|d| d.value) {
        trace.refuse(Stage::Entry, Refusal::UserDisabled, || (format!("`{}` is disabled", shown()), Some(disabled.place)))?;
    }
    if let Some(bound) = entry.from.as_ref().or(entry.until.as_ref()) {
        entry.from.iter().chain(&entry.until).for_each(|bound| session.ear.looked(|| Look::Moment(bound.value)));
        match session.at {
            None => not_stated(trace, "the time", bound.place)?,
            Some(at) => {
                if let Some(from) = entry.from.as_ref().filter(|f| at < f.value) {
                    trace.refuse(Stage::Entry, Refusal::UserNotValid, || {
                        (format!("`{}` is valid from {} on", shown(), from.value), Some(from.place))
                    })?;
                }
                if let Some(until) = entry.until.as_ref().filter(|u| at >= u.value) {
                    trace.refuse(Stage::Entry, Refusal::UserNotValid, || {
                        (format!("`{}` was valid until {}", shown(), until.value), Some(until.place))
                    })?;
                }
            }
        }
    }
    Ok(())
}

pub(crate) fn not_stated(trace: &mut Trace, fact: &str, place: Place) -> Result<(), Stop> {
    trace.refuse(Stage::Conditions, Refusal::NotStated, || {
        (format!("the question does not state {fact}, and this entry depends on it"), Some(place))
    })
}

/// Where only the central source can vouch for a person, nobody signs in while it is down.
pub(crate) fn central_is_up(engine: &Engine, session: &Session, user: UserId, system: SystemId, trace: &mut Trace) -> Result<(), Stop> {
    if session.central == Central::Up {
        return Ok(());
    }
    trace.refuse(Stage::Entry, Refusal::CentralDownNoAccount, || {
        let (who, entry) = (visible(&engine.estate.user(user).id.value), engine.estate.system(system));
        let place = entry.identity_sources.as_ref().map_or(entry.id.place, |s| s.place);
        (format!("the central source is down, and nobody else vouches for `{who}` on `{}`", visible(&entry.id.value)), Some(place))
    })
}

/// The central source's own checks.
pub(crate) fn identity(engine: &Engine, session: &Session, user: UserId, trace: &mut Trace) -> Result<(), Stop> {
    session.ear.looked(|| Look::Every(engine.estate.user(user).proofs.iter().map(|p| p.value).collect()));
    if !trace.explains() && engine.membership.gives(user, session.proofs.as_deref()) {
        return Ok(());
    }
    let entry = engine.estate.user(user);
    let shown = || visible(&entry.id.value);
    if entry.proofs.is_empty() {
        trace.refuse(Stage::Entry, Refusal::NoProof, || (format!("`{}` has no way to prove identity", shown()), Some(entry.id.place)))?;
    } else {
        trace.pass(Stage::Entry, || {
            let proofs: Vec<&str> = entry.proofs.iter().map(|p| p.value.word()).collect();
            (format!("`{}` signs in through the central source by {}", shown(), proofs.join(" or ")), entry.proofs.first().map(|p| p.place))
        });
    }
    if session.proofs.as_ref().is_some_and(Vec::is_empty) {
        trace.refuse(Stage::Entry, Refusal::NothingProven, || {
            (format!("`{}` gave no proof of identity, so the session cannot be opened", shown()), entry.proofs.first().map(|p| p.place))
        })?;
    }
    for proven in session.proofs.iter().flatten() {
        if !entry.proofs.is_empty() && !entry.proofs.iter().any(|p| p.value == proven.proof) {
            trace.refuse(Stage::Entry, Refusal::ProofNotRegistered, || {
                (format!("`{}` has no {} to give", shown(), proven.proof.word()), entry.proofs.first().map(|p| p.place))
            })?;
        }
    }
    if let Some(first) = entry.channels.as_ref().filter(|_| session.channel.is_none()).map(|channels| channels.first()) {
        session.ear.looked(|| Look::Channel);
        not_stated(trace, "the channel", first.map_or(entry.id.place, |c| c.place))?;
    }
    channel(engine, session, user, trace)
}

/// A channel that is stated must be one by which the user may come.
///
/// # Errors
/// When the evaluation cannot go on, or need not.
pub fn channel(engine: &Engine, session: &Session, user: UserId, trace: &mut Trace) -> Result<(), Stop> {
    if engine.membership.is_plain(user) {
        return Ok(());
    }
    let entry = engine.estate.user(user);
    let Some(channels) = &entry.channels else { return Ok(()) };
    session.ear.looked(|| Look::Channel);
    match session.channel {
        Some(channel) if !channels.iter().any(|c| c.value == channel) => trace.refuse(Stage::Entry, Refusal::ChannelNotAllowed, || {
            let list: Vec<&str> = channels.iter().map(|c| c.value.word()).collect();
            let place = channels.first().map_or(entry.id.place, |c| c.place);
            (format!("`{}` may come through {} only, not {}", visible(&entry.id.value), list.join(" or "), channel.word()), Some(place))
        }),
        Some(_) | None => Ok(()),
    }
}

/// The proofs that were given must be such as the system accepts on the channel.
pub(crate) fn accepted(engine: &Engine, session: &Session, user: UserId, system: SystemId, trace: &mut Trace) -> Result<(), Stop> {
    let entry = engine.estate.system(system);
    let Some((first, _)) = entry.accepts.first() else { return Ok(()) };
    session.ear.looked(|| Look::Channel);
    let Some(channel) = session.channel else { return not_stated(trace, "the channel", first.place) };
    let Some((place, proofs)) = entry.accepts.iter().find(|(c, _)| c.value == channel) else {
        return trace.refuse(Stage::Entry, Refusal::ChannelNotAllowed, || {
            let list: Vec<&str> = entry.accepts.iter().map(|(c, _)| c.value.word()).collect();
            (
                format!("`{}` takes sessions by {} only, not by {}", visible(&entry.id.value), list.join(" or "), channel.word()),
                Some(first.place),
            )
        });
    };
    session.ear.looked(|| Look::Some(proofs.iter().map(|p| p.value).collect()));
    let facts = engine.facts(session, user, system);
    // Where it is not stated what was given, the session may have been opened with anything that is registered.
    let can_give = |proof: Proof| match &session.proofs {
        Some(_) => facts.counting().any(|p| p.proof == proof),
        None => engine.estate.user(user).proofs.iter().any(|p| p.value == proof),
    };
    if !proofs.iter().any(|p| can_give(p.value)) {
        let what = if session.proofs.is_some() { "none of them was given" } else { "the user has none of them" };
        return trace.refuse(Stage::Entry, Refusal::ProofNotAccepted, || {
            let list: Vec<&str> = proofs.iter().map(|p| p.value.word()).collect();
            (format!("by {} a session is opened with {}, and {what}", channel.word(), list.join(" or ")), Some(place.place))
        });
    }
    Ok(())
}

/// Says why a user cannot sign in at all, whatever assignments there are.
pub(crate) fn refusal_to_sign_in(engine: &Engine, user: UserId, system: SystemId, session: &Session) -> Option<(String, Option<Place>)> {
    let entry = engine.estate.user(user);
    let shown = visible(&entry.id.value);
    if let Some(disabled) = entry.disabled.as_ref().filter(|d| d.value) {
        return Some((format!("`{shown}` is disabled"), Some(disabled.place)));
    }
    if entry.proofs.is_empty() && engine.estate.system(system).sources().contains(&IdentitySource::Central) {
        return Some((format!("`{shown}` has no way to prove identity"), Some(entry.id.place)));
    }
    let at = session.at?;
    let late = entry.until.as_ref().filter(|u| at >= u.value).map(|u| (format!("`{shown}` was valid until {}", u.value), Some(u.place)));
    let early = entry.from.as_ref().filter(|f| at < f.value).map(|f| (format!("`{shown}` is valid from {} on", f.value), Some(f.place)));
    late.or(early)
}

/// Says through what an assignment reaches a user: "`deck-tracer` through `group:shore-watch` (in `group:night-watch`)".
pub(crate) fn through(engine: &Engine, user: UserId, id: AssignmentId) -> String {
    let estate = &engine.estate;
    let links = &estate.assignments[id.index()];
    let roles: Vec<String> = links.roles.iter().map(|&r| format!("`{}`", visible(&estate.role(r).id.value))).collect();
    let who = links.to.iter().find(|(party, _)| engine.membership.belongs(user, *party)).map(|(party, _)| *party);
    let mut text = format!("role {}", roles.join(", "));
    match who {
        Some(Party::User(_)) => text.push_str(" assigned to the user directly"),
        Some(Party::Group(group)) => {
            let _ = write!(text, " through group `{}`", visible(&estate.group(group).id.value));
            if let Some((chain, _)) = engine.membership.chain(estate, user, group)
                && chain.len() > 1
            {
                let names: Vec<String> =
                    chain[..chain.len() - 1].iter().map(|&g| format!("`{}`", visible(&estate.group(g).id.value))).collect();
                let _ = write!(text, ", by way of {}", names.join(", "));
            }
        }
        None => {}
    }
    text
}

/// Returns since when somebody is gone, and what says so: disabled, or past the end.
pub fn gone(user: &User, at: Option<jiff::Timestamp>) -> Option<(String, Place)> {
    if let Some(disabled) = user.disabled.as_ref().filter(|d| d.value) {
        return Some(("is disabled".to_owned(), disabled.place));
    }
    let until = user.until.as_ref().filter(|until| at.is_some_and(|at| at >= until.value))?;
    Some((format!("was valid until {}", until.value), until.place))
}

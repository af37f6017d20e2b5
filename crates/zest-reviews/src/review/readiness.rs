//! Can this person start at all, and what is missing: all of it at once.

use jiff::{SignedDuration, Timestamp};

use zest_engine::Engine;
use zest_engine::Estate;
use zest_engine::links::UserId;
use zest_engine::rules::Site;
use zest_model::More;
use zest_model::entry::{Channel, Proof};
use zest_model::listing::{Cause, Opening, Readiness};
use zest_model::source::Place;

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
    let (engine, _system) = (site.engine(), site.system());
    let estate = engine.estate();
    let (entry, target) = (estate.user(user), site.entry());
    let mut missing: Vec<Cause> = Vec::new();
    let mut lack = |text: String, place: Option<Place>| missing.push(Cause { text, place: place.map(|p| estate.sources().locate(p)) });
    if let Some(disabled) = entry.disabled.as_ref().filter(|d| d.value) {
        lack("the user is disabled".to_owned(), Some(disabled.place));
    }
    if let (Some(at), Some(from)) = (at, entry.from.as_ref().filter(|f| at.is_some_and(|at| at < f.value))) {
        lack(format!("the user is valid from {} on, not at {at}", from.value), Some(from.place));
    }
    if let Some(until) = entry.until.as_ref().filter(|u| at.is_some_and(|at| at >= u.value)) {
        lack(format!("the user was valid until {}", until.value), Some(until.place));
    }
    if entry.proofs.is_empty() {
        lack("no way to prove identity is registered".to_owned(), Some(entry.id.place));
    }
    if let Some(must) = entry.must_change_credential.as_ref().filter(|m| m.value) {
        lack("the credential must be changed first: until then nothing else can be done".to_owned(), Some(must.place));
    }
    for (text, place) in credential(estate, engine, user, at) {
        lack(text, Some(place));
    }
    let opening = |channel| Opening { channel, proofs: open(entry, target, channel) };
    let channels: Vec<Opening> = [Channel::Terminal, Channel::Web, Channel::Api].map(opening).into();
    if channels.iter().all(|opening| opening.proofs.is_empty()) {
        lack("no channel is open".to_owned(), target.accepts.first().map(|(c, _)| c.place).or(Some(entry.id.place)));
    }
    missing.extend(site.kind().missing(site, user, at));
    Readiness { system: target.id.value.clone(), channels, missing, more: More }
}

/// The proofs of a user that open a session through a channel.
fn open(user: &zest_model::entry::User, system: &zest_model::entry::System, channel: Channel) -> Vec<Proof> {
    let may = user.channels.as_ref().is_none_or(|list| list.iter().any(|c| c.value == channel));
    let accepted = system.accepts.iter().find(|(c, _)| c.value == channel);
    if !may || (accepted.is_none() && !system.accepts.is_empty()) {
        return Vec::new();
    }
    let takes = |proof: Proof| accepted.is_none_or(|(_, list)| list.iter().any(|p| p.value == proof));
    user.proofs.iter().map(|p| p.value).filter(|&p| takes(p)).collect()
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

//! Acting as another: each link is checked, and every identity is kept.
//!
//! Acting as a user is granted on the target, to the person who signed in: it is directional and is not passed on.
//! Assuming a role takes two halves, each with a code of its own; its rights replace the others.

use std::sync::Arc;

use smallvec::{SmallVec, smallvec};

use super::links::{ASSUME, ActingLinks};
use super::permission::lifted_by;
use super::{Action, Context, Identity, Standing, obligations, weigh};
use crate::engine::duties::{check, held_apart, stated_roles};
use crate::engine::rights::Look;
use crate::engine::trace::{Stop, Trace};
use crate::links::{AssumableLinks, Holder, Outcome, RoleId};
use zest_model::ask::{Act, Question, Refusal, Stage};
use zest_model::source::{Place, visible};
use zest_words::{nearest, nearest_hint};

/// Follows the links of the session, as far as they lead on this system.
pub(super) fn follow(context: Context<'_>, question: &Question, standing: &mut Standing, trace: &mut Trace) -> Result<(), Stop> {
    let mut seen: SmallVec<[Identity; 4]> = smallvec![standing.identity];
    for act in &context.session.acting {
        match act {
            Act::User(name) => as_user(context, standing, name, trace)?,
            Act::Role { name, since } => assume(context, question, standing, name, *since, trace)?,
            Act::Account { .. } => {
                trace.refuse(Stage::Standing, Refusal::ActingNotKnown, || {
                    let kind = context.engine.estate.system(context.system).kind().word();
                    (format!("a system of the kind `{kind}` has no accounts to run as: name the host, as account:HOST/LOGIN"), None)
                })?;
                return Err(Stop);
            }
        }
        if seen.contains(&standing.identity) {
            trace.refuse(Stage::Standing, Refusal::ActingLoop, || (format!("the chain comes back to where it was: {act}"), None))?;
            return Err(Stop);
        }
        seen.push(standing.identity);
    }
    Ok(())
}

fn as_user(context: Context<'_>, standing: &mut Standing, name: &str, trace: &mut Trace) -> Result<(), Stop> {
    let estate = &context.engine.estate;
    let shown = || visible(name);
    let Some(&target) = estate.names.users.get(name) else {
        trace.refuse(Stage::Standing, Refusal::UnknownActingIdentity, || {
            let near = nearest(name, estate.names.users.keys().map(|k| &**k))
                .map_or(String::new(), |n| format!("; the nearest name is `{}`", visible(n)));
            (format!("nobody is called `{}`, so nobody can act as him{near}", shown()), None)
        })?;
        return Err(Stop);
    };
    let person = || visible(&estate.user(standing.person).id.value);
    let belongs = |rule: &&ActingLinks| rule.by.iter().any(|&(p, _)| context.engine.membership.belongs(standing.person, p));
    let facts = context.engine.facts(context.session, standing.person, context.system);
    // The right to act as another is the person's own, and an assumed role replaces those.
    let is_own = matches!(standing.identity, Identity::User(_));
    let rules: SmallVec<[&ActingLinks; 4]> = context.links.acting.iter().filter(|r| is_own && r.target == target).filter(belongs).collect();
    let rule = rules.iter().copied().find(|r| r.when.outcome(facts) == Outcome::Holds);
    let fallback = || rules.iter().copied().find(|r| r.when.outcome(facts) == Outcome::Unknown).or_else(|| rules.first().copied());
    match rule.or_else(fallback) {
        None => {
            let who = || {
                let all = context.links.acting.iter().filter(|r| r.target == target).flat_map(|r| &r.by);
                let others: Vec<String> = all.map(|&(p, _)| format!("`{}`", visible(&estate.party(p)))).collect();
                match others.is_empty() {
                    _ if !is_own => "the rights of the assumed role replace their own".to_owned(),
                    true => "nobody may".to_owned(),
                    false => format!("{} may", others.join(" and ")),
                }
            };
            trace.refuse(Stage::Standing, Refusal::MayNotActAs, || {
                let place = context.links.acting.iter().find(|r| r.target == target).map_or(estate.user(target).id.place, |r| r.place);
                (format!("`{}` may not act as `{}`: {}", person(), shown(), who()), Some(place))
            })?;
        }
        Some(rule) if rule.when.outcome(facts) == Outcome::Holds => {
            trace.pass(Stage::Standing, || {
                (format!("`{0}` acts as user `{1}`, with the rights of `{1}` only", person(), shown()), Some(rule.place))
            });
        }
        Some(rule) => unmet(&rule.when, &facts, || format!("`{}` may act as `{}` only", person(), shown()), trace)?,
    }
    let user = estate.user(target);
    let at = context.session.at;
    user.from.iter().chain(&user.until).for_each(|bound| context.session.ear.looked(|| Look::Moment(bound.value)));
    let is_valid = user.from.as_ref().is_none_or(|f| at.is_some_and(|at| at >= f.value))
        && user.until.as_ref().is_none_or(|u| at.is_some_and(|at| at < u.value));
    if user.disabled.as_ref().is_some_and(|d| d.value) || !is_valid {
        let place = user.disabled.as_ref().map(|d| d.place).or(user.until.as_ref().map(|u| u.place)).unwrap_or(user.id.place);
        trace.refuse(Stage::Standing, Refusal::ActingIdentityUnusable, || {
            (format!("`{}` is disabled or not known to be valid now, so nobody can act as him", shown()), Some(place))
        })?;
    }
    standing.user = target;
    standing.chain.push(target);
    standing.identity = Identity::User(target);
    Ok(())
}

/// Refuses for the first part of conditions that does not hold or is not known.
fn unmet(
    conditions: &crate::links::Conditions,
    facts: &crate::links::Facts<'_>,
    what: impl Fn() -> String,
    trace: &mut Trace,
) -> Result<(), Stop> {
    for part in conditions.parts(*facts) {
        let (words, place) = (|| part.condition.words(), Some(part.place));
        match part.outcome {
            Outcome::Holds => {}
            Outcome::Fails => trace.refuse(Stage::Conditions, part.condition.refusal(), || (format!("{} {}", what(), words()), place))?,
            Outcome::Unknown => {
                trace.refuse(Stage::Conditions, Refusal::NotStated, || {
                    (format!("{} {}; the question does not state {}", what(), words(), part.condition.missing(facts)), place)
                })?;
            }
        }
    }
    Ok(())
}

fn assume(
    context: Context<'_>,
    question: &Question,
    standing: &mut Standing,
    name: &str,
    since: Option<jiff::Timestamp>,
    trace: &mut Trace,
) -> Result<(), Stop> {
    let estate = &context.engine.estate;
    let shown = || visible(name);
    if context.links.is_application {
        trace.refuse(Stage::Standing, Refusal::ActingNotKnown, || {
            ("roles are assumed on clouds; in an application they are held".to_owned(), Some(estate.system(context.system).id.place))
        })?;
        return Err(Stop);
    }
    let Some(&role) = estate.names.roles.get(name) else {
        trace.refuse(Stage::Standing, Refusal::UnknownRole, || {
            let near = nearest_hint(name, estate.names.roles.keys().map(|k| &**k));
            (format!("no role is called `{}`{near}", shown()), None)
        })?;
        return Err(Stop);
    };
    own_half(context, question, standing, role, trace)?;
    role_half(context, standing, role, trace)?;
    let assumable = estate.roles[role.index()].assumable.as_ref();
    if let Some((longest, since)) = assumable.and_then(|a| a.longest.as_ref()).zip(since.or(context.session.at)) {
        let end = since.checked_add(longest.value).unwrap_or(jiff::Timestamp::MAX);
        if standing.expires.is_none_or(|(at, _)| end < at) {
            standing.expires = Some((end, Some(longest.place)));
        }
    }
    if let Some(since) = since {
        let longest = assumable.and_then(|a| a.longest.as_ref());
        let end = longest.map(|l| (since.checked_add(l.value).unwrap_or(jiff::Timestamp::MAX), l));
        let place = longest.map_or(estate.role(role).id.place, |l| l.place);
        match (context.session.at, end) {
            (None, _) => trace.refuse(Stage::Conditions, Refusal::NotStated, || {
                (format!("`{}` was assumed at {since}; the question does not state the time", shown()), Some(place))
            })?,
            (Some(at), _) if at < since => trace.refuse(Stage::Standing, Refusal::AssumptionExpired, || {
                (format!("`{}` is assumed only at {since}, which is still to come", shown()), Some(place))
            })?,
            (Some(at), Some((end, longest))) if at >= end => trace.refuse(Stage::Standing, Refusal::AssumptionExpired, || {
                (
                    format!("`{}` was assumed at {since} for at most {:#}, so the session was over at {end}", shown(), longest.value),
                    Some(place),
                )
            })?,
            (Some(_), Some((end, _))) => {
                trace.pass(Stage::Standing, || (format!("the session of `{}` lasts until {end}", shown()), Some(place)))
            }
            (Some(_), None) => {}
        }
    }
    // A role cannot have been assumed before that from which it is assumed; one of which no moment is stated begins now.
    if let (Some(since), Some(outer)) =
        (since, standing.since.or(context.session.at.filter(|_| matches!(standing.identity, Identity::Role(_)))))
        && since < outer
    {
        trace.refuse(Stage::Standing, Refusal::AssumedTooEarly, || {
            let who = identity_name(context, standing.identity);
            (format!("`{}` was assumed at {since}, before {who} had begun at {outer}", shown()), Some(estate.role(role).id.place))
        })?;
    }
    standing.since = since;
    standing.identity = Identity::Role(role);
    Ok(())
}

/// Half an assumption is not one: whoever asks to assume a role must be one whom the role admits.
pub(super) fn whole_assumption(context: Context<'_>, standing: &Standing, action: &Action, trace: &mut Trace) -> Result<(), Stop> {
    // Whoever agrees to the assumption of another holds the right to it, and need not be admitted.
    if context.links.operations[action.operation].name != ASSUME || trace.agrees {
        return Ok(());
    }
    let estate = &context.engine.estate;
    if context.links.is_application {
        return trace.refuse(Stage::Standing, Refusal::ActingNotKnown, || {
            ("roles are assumed on clouds; in an application they are held".to_owned(), Some(estate.system(context.system).id.place))
        });
    }
    match action.path.strip_prefix("role/").and_then(|name| estate.names.roles.get(name)) {
        Some(&role) => role_half(context, standing, role, trace),
        None => Ok(()),
    }
}

/// The user's half: the right to assume the role, granted like any other, with its obligations.
fn own_half(context: Context<'_>, question: &Question, standing: &Standing, role: RoleId, trace: &mut Trace) -> Result<(), Stop> {
    let estate = &context.engine.estate;
    let name = &estate.role(role).id.value;
    let Some(&operation) = context.links.operation_ids.get(ASSUME) else { return Err(Stop) };
    let action = Action { operation, path: assumed(context, role) };
    let weighed = weigh(context, standing.identity, standing.user, &action, false);
    let who = || identity_name(context, standing.identity);
    let shown = || visible(name);
    if weighed.is_allowed() {
        let held = &weighed.allows[0];
        trace.pass(Stage::Standing, || {
            (
                format!("{} may assume `{}`: {}", who(), shown(), super::permission::via(context, standing.user, held)),
                Some(held.grant.place),
            )
        });
        return obligations::check(context, question, standing, &action, &weighed.allows, trace);
    }
    let is_open = weighed.denies.iter().any(|(_, o)| *o == Outcome::Unknown) || weighed.denies.is_empty() && !weighed.unknown.is_empty();
    let place = weighed
        .denies
        .first()
        .map(|(h, _)| h.grant.place)
        .or(weighed.cut.first().map(|(_, c, _)| c.place))
        .or(weighed.unknown.first().or(weighed.failing.first()).map(|h| h.grant.place))
        .unwrap_or(estate.role(role).id.place);
    let lifted_by = || {
        let first = weighed.denies.first();
        first.map_or_else(String::new, |(held, _)| lifted_by(held, &context.facts(standing.user, &action.path)))
    };
    let why = if !weighed.denies.is_empty() {
        "it is denied"
    } else if !weighed.cut.is_empty() {
        "a ceiling does not let it through"
    } else if !weighed.unknown.is_empty() {
        "the question does not state what the grant depends on"
    } else if !weighed.failing.is_empty() {
        "the conditions of the grant do not hold"
    } else {
        "nothing grants `assume` on it"
    };
    let code = if is_open { Refusal::NotStated } else { Refusal::MayNotAssume };
    trace.refuse(Stage::Standing, code, || (format!("{} may not assume `{}`: {why}{}", who(), shown(), lifted_by()), Some(place)))
}

/// The resource that a role is, for whoever wants to assume it.
fn assumed(context: Context<'_>, role: RoleId) -> Arc<str> {
    let role = (&context.engine.estate.roles[role.index()].assumable, &context.engine.estate.role(role).id.value);
    role.0.as_ref().map_or_else(|| format!("role/{}", role.1).into(), |assumable| Arc::clone(&assumable.resource))
}

/// The role's half: whom it admits, and under which conditions.
fn role_half(context: Context<'_>, standing: &Standing, role: RoleId, trace: &mut Trace) -> Result<(), Stop> {
    let estate = &context.engine.estate;
    let shown = || visible(&estate.role(role).id.value);
    let who = || identity_name(context, standing.identity);
    match admitting(context, standing.identity, role) {
        None => {
            let place = estate.roles[role.index()].assumable.as_ref().map_or(estate.role(role).id.place, |a| a.place);
            trace.refuse(Stage::Standing, Refusal::RoleDoesNotAdmit, || (format!("`{}` does not admit {}", shown(), who()), Some(place)))
        }
        Some(assumable) => {
            let facts = context.engine.facts(context.session, standing.user, context.system);
            if assumable.when.outcome(facts) == Outcome::Holds {
                trace.pass(Stage::Standing, || {
                    (format!("`{}` admits {}; its rights replace the others", shown(), who()), Some(assumable.place))
                });
                return Ok(());
            }
            unmet(&assumable.when, &facts, || format!("`{}` is assumed only", shown()), trace)
        }
    }
}

/// Returns whom a role admits, if somebody is among them.
pub(crate) fn admitting(context: Context<'_>, identity: Identity, role: RoleId) -> Option<&AssumableLinks> {
    let admits = |&(holder, _): &(Holder, Place)| match (identity, holder) {
        (Identity::User(user), Holder::Party(party)) => context.engine.membership.belongs(user, party),
        (Identity::Role(role), Holder::Role(admitted)) => role == admitted,
        _ => false,
    };
    context.engine.estate.roles[role.index()].assumable.as_ref().filter(|a| a.by.iter().any(admits))
}

fn identity_name(context: Context<'_>, identity: Identity) -> String {
    match identity {
        Identity::User(user) => format!("`{}`", visible(&context.engine.estate.user(user).id.value)),
        Identity::Role(role) => format!("the role `{}`", visible(&context.engine.estate.role(role).id.value)),
    }
}

/// A session may state only such attributes as the system or the assumed role lets it state.
pub(super) fn attributes(context: Context<'_>, standing: &Standing, trace: &mut Trace) -> Result<(), Stop> {
    if context.session.ear.listens() {
        // Whether each attribute is stated that a session may state in any standing.
        let of_roles = context.engine.estate.roles.iter().filter_map(|role| role.assumable.as_ref()).flat_map(|a| &a.may_state);
        for name in context.links.session_attributes.iter().chain(of_roles) {
            context.session.ear.looked(|| Look::Stated(name.clone()));
        }
    }
    for (name, _) in &context.session.attributes {
        let by_role = match standing.identity {
            Identity::Role(role) => {
                context.engine.estate.roles[role.index()].assumable.as_ref().is_some_and(|a| a.may_state.contains(name))
            }
            Identity::User(_) => false,
        };
        if !by_role && !context.links.session_attributes.contains(name) {
            let place: Place = context.engine.estate.system(context.system).id.place;
            trace.refuse(Stage::Standing, Refusal::AttributeNotAdmitted, || {
                (format!("a session here may not state the attribute `{}`", visible(name)), Some(place))
            })?;
        }
    }
    Ok(())
}

/// Separation of duties: what nobody may hold together, or have active together. Whoever holds what must be apart does not
/// get round it by acting as another.
pub(super) fn duties(context: Context<'_>, standing: &Standing, trace: &mut Trace) -> Result<(), Stop> {
    if standing.identity != Identity::User(standing.person) {
        held_apart(context.engine, standing.person, context.session, trace)?;
    }
    match standing.identity {
        Identity::User(user) => check(context.engine, user, context.system, context.session, trace),
        // What is active is so for whoever assumes the role; its rights replace theirs.
        Identity::Role(_) => stated_roles(context.engine, standing.user, context.system, context.session, trace),
    }
}

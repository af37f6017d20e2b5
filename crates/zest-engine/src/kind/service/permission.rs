//! Permission: which grants concern the action, how their conditions come out, and how they are combined.
//!
//! Combined by `deny-overrides` (XACML 3.0, C.2): a deny that applies, or of which that cannot be known, refuses. An
//! allow that cannot be known gives nothing. A ceiling lets through or cuts; it never gives.

use std::cell::LazyCell;

use fixedbitset::FixedBitSet;
use smallvec::SmallVec;

use super::grants::{Numbered, Wanted};
use super::links::{CeilingLinks, GrantLinks};
use super::{Action, Context, Identity, Standing};
use crate::engine::entry::through;
use crate::engine::trace::{Stop, Trace};
use crate::links::{AssignmentId, Conditions, Facts, Holder, Judged, Outcome, Party, RoleId, UserId, is_within};
use zest_model::ask::{Refusal, Stage};
use zest_model::source::{Place, visible};

/// A grant as somebody holds it.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Held<'e> {
    pub(crate) grant: &'e GrantLinks,
    /// The number of the grant on its system, by which equal paths to it are told apart from others.
    pub(crate) number: usize,
    /// Whether it is only not ruled out that it is on the path that was asked for.
    is_open: bool,
    is_deny: bool,
    pub(crate) is_bare: bool,
    pub(crate) via: Via,
}

impl Held<'_> {
    /// Whether the grant, or the assignment through which it is held, may have conditions.
    fn has_terms(&self) -> bool {
        !self.is_bare || matches!(self.via, Via::Assignment(..))
    }
}

/// Through what a grant is held.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Via {
    /// Written for the user or a group.
    Party(Party),
    /// Through a role that an assignment gives.
    Assignment(AssignmentId, RoleId),
    /// Through the role that was assumed, or one that it includes.
    Assumed(RoleId),
}

/// Calls for each grant of an identity, once for each path to it; with a resource, for those alone that can concern it, and with an
/// operation for those of it.
pub(crate) fn grants_of<'e>(context: Context<'e>, identity: Identity, on: Option<(&str, Option<usize>)>, mut each: impl FnMut(Held<'e>)) {
    let Context { engine, links, system, session } = context;
    let wanted = on.map(|(path, operation)| Wanted { beginnings: links.beginnings(path), operation });
    // Nobody sheds a deny by leaving the role that brings it out of the session.
    let mut of = |holder: Holder, via: Via, is_active: bool| {
        for Numbered { number, is_open, is_deny, is_bare } in links.grants_of(holder, wanted.as_ref()) {
            if is_active || is_deny {
                each(Held { grant: links.grant(number), number, is_open, is_deny, is_bare, via });
            }
        }
    };
    match identity {
        Identity::User(user) => {
            let mut of_party = |party: Party| of(Holder::Party(party), Via::Party(party), true);
            of_party(Party::User(user));
            if links.has_parties() {
                engine.membership.groups_of(user).iter().for_each(|&g| of_party(Party::Group(g)));
            }
            for candidate in engine.candidates(user, system) {
                for &role in &engine.standing(candidate.assignment).1.roles {
                    let is_active = session.active_roles.as_ref().is_none_or(|list| list.contains(&engine.estate.role(role).id.value));
                    of(Holder::Role(role), Via::Assignment(candidate.assignment, role), is_active);
                }
            }
        }
        Identity::Role(role) => {
            for role in included(context, role) {
                of(Holder::Role(role), Via::Assumed(role), true);
            }
        }
    }
}

/// Returns a role and all that it includes.
pub(crate) fn included(context: Context<'_>, role: RoleId) -> SmallVec<[RoleId; FEW]> {
    reached(context, &[role], None)
}

/// Returns some roles and all that they include, without one and what is reached through it alone.
fn reached(context: Context<'_>, from: &[RoleId], without: Option<RoleId>) -> SmallVec<[RoleId; FEW]> {
    let roles = &context.engine.estate.roles;
    let mut list: SmallVec<[RoleId; FEW]> = SmallVec::new();
    let mut queue: SmallVec<[RoleId; FEW]> = SmallVec::from_slice(from);
    // A few are looked through, and take no memory of their own.
    let mut seen: Option<FixedBitSet> = None;
    while let Some(role) = queue.pop() {
        let is_new = Some(role) != without && seen.as_mut().map_or_else(|| !list.contains(&role), |seen| !seen.put(role.index()));
        if is_new {
            list.push(role);
            queue.extend(roles[role.index()].includes.iter().rev().copied());
            if list.len() == FEW {
                let mut all = FixedBitSet::with_capacity(roles.len());
                list.iter().for_each(|role| all.insert(role.index()));
                seen = Some(all);
            }
        }
    }
    list
}

/// All conditions on a grant, as it is held.
pub(crate) fn conditions<'e>(context: Context<'e>, held: &Held<'e>) -> impl Iterator<Item = &'e Conditions> + use<'e> {
    let assigned = match held.via {
        Via::Assignment(id, _) => Some(&context.engine.estate.assignments[id.index()].conditions),
        Via::Party(_) | Via::Assumed(_) => None,
    };
    // What a bare grant says beside this is nothing, and is not fetched.
    let own = if held.is_bare { None } else { Some(&held.grant.when) };
    assigned.into_iter().chain(own)
}

/// Returns whether a grant applies: its conditions hold, and those that lift it do not.
pub(crate) fn applies(context: Context<'_>, held: &Held<'_>, facts: &Facts<'_>) -> Outcome {
    let mut outcome = Outcome::Holds;
    let lifted_by = if held.is_bare { None } else { held.grant.lifted_by.as_ref() };
    let lifted = lifted_by.map(|c| match c.outcome(*facts) {
        Outcome::Holds => Outcome::Fails,
        Outcome::Fails => Outcome::Holds,
        Outcome::Unknown => Outcome::Unknown,
    });
    for part in conditions(context, held).map(|c| c.outcome(*facts)).chain(lifted) {
        match part {
            Outcome::Fails => return Outcome::Fails,
            Outcome::Unknown => outcome = Outcome::Unknown,
            Outcome::Holds => {}
        }
    }
    outcome
}

/// How many roles take no memory of their own.
const FEW: usize = 16;

/// Allows that hold.
pub(crate) type Allows<'e> = SmallVec<[Held<'e>; 4]>;

/// What all grants come to for one action.
#[derive(Debug, Default)]
pub(crate) struct Weighed<'e> {
    /// Denies that bite, and whether that is known.
    pub(crate) denies: SmallVec<[(Held<'e>, Outcome); 2]>,
    /// Allows that hold and that every ceiling lets through.
    pub(crate) allows: Allows<'e>,
    /// Allows that hold, each with a ceiling that does not let it through, and whether that is known.
    pub(crate) cut: SmallVec<[(Held<'e>, &'e CeilingLinks, Outcome); 2]>,
    /// Allows whose conditions are not known.
    pub(crate) unknown: SmallVec<[Held<'e>; 2]>,
    /// Allows whose conditions fail.
    pub(crate) failing: SmallVec<[Held<'e>; 2]>,
}

impl Weighed<'_> {
    pub(crate) fn is_allowed(&self) -> bool {
        self.denies.is_empty() && !self.allows.is_empty()
    }
}

/// Weighs all grants of an identity; without `all` it stops collecting what the verdict does not need.
pub(crate) fn weigh<'e>(context: Context<'e>, identity: Identity, user: UserId, action: &'e Action, all: bool) -> Weighed<'e> {
    // Most grants have no terms: what conditions look at is gathered for the first one that has.
    let facts = LazyCell::new(|| context.facts(user, &action.path));
    let mut weighed = Weighed::default();
    grants_of(context, identity, Some((&action.path, Some(action.operation))), |held| {
        let concerns = !held.is_open || held.grant.is_on(&action.path);
        if !concerns || !is_in_scope(context, &held, &action.path) {
            return;
        }
        if !all && !weighed.denies.is_empty() {
            return;
        }
        let outcome = if held.has_terms() { applies(context, &held, &facts) } else { Outcome::Holds };
        match (held.is_deny, outcome) {
            (true, Outcome::Fails) => {}
            (true, outcome) => weighed.denies.push((held, outcome)),
            (false, Outcome::Unknown) => weighed.unknown.push(held),
            (false, Outcome::Fails) => weighed.failing.push(held),
            (false, Outcome::Holds) if context.links.ceilings.is_empty() => weighed.allows.push(held),
            (false, Outcome::Holds) => match ceiling(context, identity, &held, action, &facts) {
                None => weighed.allows.push(held),
                Some((by, outcome)) => weighed.cut.push((held, by, outcome)),
            },
        }
    });
    weighed
}

/// Returns whether a resource is where the assignment that gives the role has it count.
fn is_in_scope(context: Context<'_>, held: &Held<'_>, path: &str) -> bool {
    let Via::Assignment(id, _) = held.via else { return true };
    let at = &context.engine.estate.assignments[id.index()].entry.on.at;
    at.as_ref().is_none_or(|at| is_within(path, &at.value))
}

/// Finds a ceiling that does not let a grant through.
fn ceiling<'e>(
    context: Context<'e>,
    identity: Identity,
    held: &Held<'e>,
    action: &Action,
    facts: &Facts<'_>,
) -> Option<(&'e CeilingLinks, Outcome)> {
    let limits = |ceiling: &CeilingLinks| {
        let is_here = ceiling.within.as_ref().is_none_or(|w| is_within(&action.path, w));
        is_here && (ceiling.of.is_empty() || ceiling.of.iter().any(|&h| is_of(context, identity, held, h)))
    };
    context.links.ceilings.iter().filter(|c| limits(c)).find_map(|ceiling| {
        if !ceiling.operations.contains(action.operation) {
            return Some((ceiling, Outcome::Fails));
        }
        match ceiling.when.outcome(*facts) {
            Outcome::Holds => None,
            outcome => Some((ceiling, outcome)),
        }
    })
}

/// Returns whether a ceiling of somebody limits a grant: that of a user or group limits the rights of the user's own
/// session, that of a role what is held through it.
fn is_of(context: Context<'_>, identity: Identity, held: &Held<'_>, holder: Holder) -> bool {
    match (holder, identity) {
        (Holder::Party(party), Identity::User(user)) => context.engine.membership.belongs(user, party),
        (Holder::Party(_), Identity::Role(_)) => false,
        (Holder::Role(role), Identity::Role(assumed)) => match held.via {
            Via::Assumed(by) => is_held_through(context, role, by, &[assumed]),
            Via::Party(_) | Via::Assignment(..) => false,
        },
        (Holder::Role(role), Identity::User(_)) => match held.via {
            Via::Assignment(id, by) => is_held_through(context, role, by, &context.engine.estate.assignments[id.index()].roles),
            Via::Party(_) | Via::Assumed(_) => false,
        },
    }
}

/// Returns whether a role is held through another alone: whether no inclusion leads from some roles to it past the other.
fn is_held_through(context: Context<'_>, through: RoleId, held: RoleId, from: &[RoleId]) -> bool {
    held == through || !reached(context, from, Some(through)).contains(&held)
}

/// Says through what a grant is held.
pub(crate) fn via(context: Context<'_>, user: UserId, held: &Held<'_>) -> String {
    let estate = &context.engine.estate;
    match held.via {
        Via::Party(Party::User(_)) => "to the user directly".to_owned(),
        Via::Party(party) => format!("to `{}`", visible(&estate.party(party))),
        Via::Assignment(id, role) => {
            let name = &estate.role(role).id.value;
            let chain = through(context.engine, user, id);
            let is_direct = estate.assignments[id.index()].roles.contains(&role);
            if is_direct { format!("by {chain}") } else { format!("by role `{}`, included: {chain}", visible(name)) }
        }
        Via::Assumed(role) => format!("by role `{}`, assumed", visible(&estate.role(role).id.value)),
    }
}

/// The first of some conditions that comes out so.
fn culprit<'e>(mut list: impl Iterator<Item = &'e Conditions>, facts: &Facts<'_>, wanted: Outcome) -> Option<Judged<'e>> {
    list.find_map(|c| c.parts(*facts).find(|p| p.outcome == wanted))
}

/// What the question must state before it is known whether a grant applies, and where that is written.
fn not_known<'e>(context: Context<'e>, held: &Held<'e>, facts: &Facts<'_>) -> (String, Option<Place>) {
    match culprit(conditions(context, held).chain(&held.grant.lifted_by), facts, Outcome::Unknown) {
        Some(part) => (part.condition.missing(facts), Some(part.place)),
        None => ("a fact".to_owned(), None),
    }
}

/// Says what would lift a grant: ", unless with one-time-code within 1h".
pub(super) fn lifted_by(held: &Held<'_>, facts: &Facts<'_>) -> String {
    held.grant.lifted_by.as_ref().map_or(String::new(), |unless| {
        let open = unless.open_words(facts);
        let elsewhere = facts.elsewhere().filter(|_| unless.proof().is_some()).unwrap_or_default();
        if open.is_empty() { String::new() } else { format!(", unless {}{elsewhere}", open.join(" and ")) }
    })
}

/// Tells about the grants, and refuses where they do not come to an allow. Returns the allows.
pub(super) fn report<'w, 'e>(
    context: Context<'e>,
    standing: &Standing,
    action: &Action,
    weighed: &'w Weighed<'e>,
    trace: &mut Trace,
) -> Result<&'w [Held<'e>], Stop> {
    if weighed.denies.is_empty()
        && let Some(first) = weighed.allows.first()
    {
        tell_allowed(context, standing, action, first, trace);
        return Ok(&weighed.allows);
    }
    let through = |held: &Held<'_>| via(context, standing.user, held);
    let facts = context.facts(standing.user, &action.path);
    let name = || visible(&context.links.operations[action.operation].name);
    let path = || visible(&action.path);
    for (held, outcome) in &weighed.denies {
        let lifted_by = || lifted_by(held, &facts);
        if *outcome == Outcome::Holds {
            trace.refuse(Stage::Permission, Refusal::DeniedByGrant, || {
                (format!("`{}` on `{}` is denied {}{}", name(), path(), through(held), lifted_by()), Some(held.grant.place))
            })?;
        } else {
            // A deny of which it is not known whether it applies bites; the answer says what to state.
            trace.refuse(Stage::Conditions, Refusal::NotStated, || {
                let (fact, _) = not_known(context, held, &facts);
                let denied = format!("`{}` on `{}` is denied {}{}", name(), path(), through(held), lifted_by());
                let text = format!("{denied}; the question does not state {fact}");
                (text, Some(held.grant.place))
            })?;
        }
    }
    if let Some(first) = weighed.allows.first() {
        tell_allowed(context, standing, action, first, trace);
        return Ok(&weighed.allows);
    }
    if let Some((held, ceiling, outcome)) = weighed.cut.first() {
        trace.pass(Stage::Permission, || (format!("`{}` is allowed {}", held.grant.shown, through(held)), Some(held.grant.place)));
        if *outcome == Outcome::Unknown {
            trace.refuse(Stage::Conditions, Refusal::NotStated, || {
                let open = ceiling.when.open_words(&facts).join(" and ");
                (format!("a ceiling lets `{}` through only {open}, and the question does not say so", name()), Some(ceiling.place))
            })?;
        } else {
            trace.refuse(Stage::Permission, Refusal::CutByCeiling, || {
                let of = if ceiling.of.is_empty() { "" } else { " of the holder" };
                let within = ceiling.within.as_ref().map_or(String::new(), |w| format!(" within `{}`", visible(w)));
                (format!("the ceiling{of}{within} does not let `{}` through", name()), Some(ceiling.place))
            })?;
        }
    } else if let Some(held) = weighed.unknown.first() {
        trace.pass(Stage::Permission, || {
            (format!("`{}` is allowed {}, under conditions", held.grant.shown, through(held)), Some(held.grant.place))
        });
        trace.refuse(Stage::Conditions, Refusal::NotStated, || {
            let (fact, place) = not_known(context, held, &facts);
            (format!("the question does not state {fact}, and the grant depends on it"), place)
        })?;
    } else if let Some(held) = weighed.failing.first() {
        trace.pass(Stage::Permission, || {
            (format!("`{}` is allowed {}, under conditions", held.grant.shown, through(held)), Some(held.grant.place))
        });
        match culprit(conditions(context, held), &facts, Outcome::Fails) {
            Some(part) => trace.refuse(Stage::Conditions, part.condition.refusal(), || {
                (part.condition.told(&facts, "the entry", false), Some(part.place))
            })?,
            None => trace.refuse(Stage::Conditions, Refusal::GrantLifted, || {
                let unless = held.grant.lifted_by.as_ref().and_then(|c| c.parts(facts).next());
                let words = unless.map_or(String::new(), |part| part.condition.words());
                (format!("the grant does not hold {words}"), Some(held.grant.place))
            })?,
        }
    } else if weighed.denies.is_empty() {
        trace.refuse(Stage::Permission, Refusal::NotGranted, || {
            let who = match standing.identity {
                Identity::User(user) => format!("`{}`", visible(&context.engine.estate.user(user).id.value)),
                Identity::Role(role) => format!("the assumed role `{}`", visible(&context.engine.estate.role(role).id.value)),
            };
            (format!("nothing grants {who} `{}` on `{}`", name(), path()), Some(context.engine.estate.system(context.system).id.place))
        })?;
    }
    Ok(&[])
}

/// Tells of the allow that decides, and of its conditions.
fn tell_allowed(context: Context<'_>, standing: &Standing, action: &Action, held: &Held<'_>, trace: &mut Trace) {
    trace.pass(Stage::Permission, || {
        (format!("`{}` is allowed {}", held.grant.shown, via(context, standing.user, held)), Some(held.grant.place))
    });
    if trace.explains() {
        let facts = context.facts(standing.user, &action.path);
        for part in conditions(context, held).flat_map(|conditions| conditions.parts(facts)) {
            trace.pass(Stage::Conditions, || (part.condition.told(&facts, "the entry", true), Some(part.place)));
        }
    }
}

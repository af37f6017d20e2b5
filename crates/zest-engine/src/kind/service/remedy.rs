//! What could be changed about a refusal of a cloud or an application.

use super::links::{ASSUME, GrantLinks, own_credential};
use super::permission::{Held, Via, grants_of};
use super::{Action, Context, Identity, Unread, Weighed, parse, stand, weigh};
use crate::engine::ways::{Asked, Way, way};
use crate::links::{Conditions, GroupId, Holder, Outcome, Part, Party, RoleId, UserId};
use zest_model::ask::{Act, Change, Fact, Refusal, Width};
use zest_model::source::visible;
use zest_words::nearest;

/// How many resources or people of one sort are tried.
const TRIED: usize = 6;
/// How many members of a group or role are counted: more are many.
const COUNTED: usize = 500;

/// Ways on from one refusal.
pub(super) fn ways(asked: &Asked<'_>, refusal: Refusal, context: Context<'_>) -> Vec<Way> {
    Service { asked, context, assumes: assumes(asked, context) }.ways(refusal)
}

/// What the links that assume a role ask for, and in whose name.
fn assumes(asked: &Asked<'_>, context: Context<'_>) -> Vec<(Identity, UserId, Action)> {
    let estate = &asked.engine.estate;
    let (mut identity, mut user) = (Identity::User(asked.user), asked.user);
    let mut list = Vec::new();
    for act in &asked.question.session.acting {
        match act {
            Act::User(name) => {
                user = estate.names.users.get(name.as_str()).copied().unwrap_or(user);
                identity = Identity::User(user);
            }
            Act::Role { name, .. } => {
                if let (Some(&role), Some(&operation)) = (estate.names.roles.get(name.as_str()), context.links.operation_ids.get(ASSUME)) {
                    list.push((identity, user, Action { operation, path: format!("role/{name}").into() }));
                    identity = Identity::Role(role);
                }
            }
            Act::Account { .. } => {}
        }
    }
    list
}

struct Service<'a> {
    asked: &'a Asked<'a>,
    context: Context<'a>,
    /// The links that assume a role: in whose name, and the right that it takes.
    assumes: Vec<(Identity, UserId, Action)>,
}

impl Service<'_> {
    fn ways(&self, refusal: Refusal) -> Vec<Way> {
        let chain = &self.asked.question.session.acting;
        match refusal {
            Refusal::CredentialMustChange => {
                let user = self.asked.engine.estate.user(self.asked.user);
                let name = visible(&user.id.value);
                let place = user.must_change_credential.as_ref().map(|m| m.place);
                let text = format!("once `{name}` has changed the credential, with `{}`", own_credential(&name));
                vec![way(Change::CredentialChanged { user: self.asked.name() }, text, place)]
            }
            Refusal::ChannelNotAllowed | Refusal::ProofNotAccepted => self.asked.accepted(refusal),
            Refusal::CentralDownNoAccount => vec![way(Change::CentralUp, "once the central source is up again", None)],
            Refusal::SessionExpired => vec![way(Change::NewSession, "in a new session", None)],
            Refusal::AssumptionExpired | Refusal::AssumedTooEarly => vec![way(Change::NewSession, "with the role assumed anew", None)],
            Refusal::NotStated
            | Refusal::AssignmentNotValid
            | Refusal::OriginOutside
            | Refusal::OutsideHours
            | Refusal::OutsideDays
            | Refusal::ChannelOutside
            | Refusal::ProofMissing => self.conditions(),
            Refusal::AttributesDiffer => self.conditions().into_iter().chain(self.grant()).collect(),
            Refusal::GrantLifted => self.without_attributes().into_iter().chain(self.grant()).collect(),
            Refusal::DeniedByGrant => self.conditions().into_iter().chain(self.except()).collect(),
            Refusal::NotGranted => self.other_identity().into_iter().chain(self.grant()).collect(),
            Refusal::CutByCeiling => self.ceiling(),
            Refusal::MayNotAssume => self.conditions().into_iter().chain(self.own_name()).chain(self.may_assume()).collect(),
            Refusal::RoleDoesNotAdmit => self.own_name().into_iter().chain(self.admit()).collect(),
            Refusal::MayNotActAs => {
                let target = chain.iter().find_map(|a| if let Act::User(name) = a { Some(name.clone()) } else { None });
                let let_act = target.map(|target| {
                    let text = format!("if `{}` might act as `{}`", visible(&self.asked.question.user), visible(&target));
                    way(
                        Change::LetActAs { system: self.asked.on(), target, user: self.asked.name() },
                        text,
                        Some(self.asked.engine.estate.system(self.asked.system).id.place),
                    )
                });
                self.own_name().into_iter().chain(let_act).collect()
            }
            Refusal::UnknownActingIdentity | Refusal::UnknownRole | Refusal::ActingIdentityUnusable | Refusal::ActingNotKnown => {
                self.near_links().into_iter().chain(self.own_name()).collect()
            }
            Refusal::ActingLoop => (1..chain.len())
                .map(|n| way(Change::Acting(chain[..n].to_vec()), "with the chain cut where it comes back", None))
                .take(2)
                .collect(),
            Refusal::AttributeNotAdmitted => self.without_attributes(),
            Refusal::RolesActiveTogether => self.active_roles(),
            Refusal::RoleNotGranted => {
                let all = way(Change::Unstated(vec![Fact::Roles]), "with all roles active", None);
                std::iter::once(all).chain(self.active_roles()).chain(self.groups_with_role()).collect()
            }
            Refusal::UnknownOperation | Refusal::ActionUnreadable | Refusal::UnknownObject | Refusal::PrivilegeMisapplied => {
                self.other_line()
            }
            Refusal::SamePerson => self.second_person(),
            Refusal::NotEntitled => self.asked.second_person_proves().into_iter().chain(self.second_person()).collect(),
            _ => Vec::new(),
        }
    }

    fn action(&self) -> Option<Action> {
        // Of several operations that a call may be, the first that is not allowed.
        let actions = parse(&self.asked.question.line, self.context.links).ok()?;
        let is_allowed = |action: &Action| self.weighed(action).is_some_and(|(weighed, ..)| weighed.is_allowed());
        actions.iter().find(|a| !is_allowed(a)).or(actions.first()).cloned()
    }

    /// What the grants come to, for whoever the session acts as.
    fn weighed<'w>(&'w self, action: &'w Action) -> Option<(Weighed<'w>, UserId, Identity)> {
        let standing = stand(self.context, self.asked.question)?;
        Some((weigh(self.context, standing.identity, standing.user, action, true), standing.user, standing.identity))
    }

    /// Makes a part of a condition hold that does not, of whatever the answer rests on.
    fn conditions(&self) -> Vec<Way> {
        let session = &self.asked.question.session;
        if session.at.is_none()
            && let Some(expires) = session.expires
        {
            let since = session.acting.iter().find_map(|a| if let Act::Role { since, .. } = a { *since } else { None });
            return self.asked.with_time(since, Some(expires)).into_iter().collect();
        }
        let since = session.acting.iter().find_map(|a| if let Act::Role { since, .. } = a { *since } else { None });
        if let (None, Some(since)) = (session.at, since) {
            return self.asked.with_time(Some(since), None).into_iter().collect();
        }
        if self.asked.lacks_channel() {
            return self.asked.accepted(Refusal::ChannelNotAllowed);
        }
        let mut ways = self.asked.person_facts();
        let action = self.action();
        for (conditions, facts) in self.involved(action.as_ref()) {
            for part in conditions.parts(facts) {
                if part.outcome != Outcome::Holds {
                    ways.extend(self.asked.satisfy(conditions, part.condition, &facts));
                    if let (Part::Validity, Outcome::Fails, Some(place)) = (part.condition.part(), part.outcome, conditions.validity()) {
                        ways.push(way(Change::Prolong { at: self.asked.locate(place) }, "if the entry held at that time", Some(place)));
                    }
                }
            }
        }
        let mut seen = Vec::new();
        ways.retain(|w| {
            !seen.contains(&w.change) && {
                seen.push(w.change.clone());
                true
            }
        });
        ways.truncate(TRIED);
        ways
    }

    /// The conditions that an answer may rest on: of links, of grants and ceilings, and those that lift denies.
    fn involved<'w>(&'w self, action: Option<&'w Action>) -> Vec<(&'w Conditions, crate::links::Facts<'w>)> {
        let (engine, links) = (self.asked.engine, self.context.links);
        let session = &self.asked.question.session;
        let plain = engine.facts(session, self.asked.user, self.asked.system);
        let mut list = Vec::new();
        for act in &session.acting {
            match act {
                Act::User(name) => {
                    let target = engine.estate.names.users.get(name.as_str());
                    list.extend(links.acting.iter().filter(|r| Some(&r.target) == target).map(|r| (&r.when, plain)));
                }
                Act::Role { name, .. } => {
                    let role = engine.estate.names.roles.get(name.as_str());
                    list.extend(role.and_then(|r| engine.estate.roles[r.index()].assumable.as_ref()).map(|a| (&a.when, plain)));
                }
                Act::Account { .. } => {}
            }
        }
        let mut rests_on = |weighed: Weighed<'w>, facts: crate::links::Facts<'w>| {
            for held in weighed.denies.iter().map(|(h, _)| h) {
                list.extend(held.grant.lifted_by.as_ref().map(|c| (c, facts)));
            }
            for held in weighed.unknown.iter().chain(&weighed.failing) {
                list.extend(crate::kind::service::conditions(self.context, held).map(|c| (c, facts)));
            }
            list.extend(weighed.cut.iter().map(|(_, ceiling, _)| (&ceiling.when, facts)));
        };
        for (identity, user, action) in &self.assumes {
            rests_on(weigh(self.context, *identity, *user, action, true), self.context.facts(*user, &action.path));
        }
        if let Some(action) = action
            && let Some((weighed, user, _)) = self.weighed(action)
        {
            rests_on(weighed, self.context.facts(user, &action.path));
        }
        list
    }

    fn except(&self) -> Vec<Way> {
        let Some(action) = self.action() else { return Vec::new() };
        let Some((weighed, ..)) = self.weighed(&action) else { return Vec::new() };
        let name = &self.context.links.operations[action.operation].name;
        let except = |place| {
            way(
                Change::LeaveOut { at: self.asked.locate(place), operation: name.clone() },
                format!("if the deny left out `{}`", visible(name)),
                Some(place),
            )
        };
        weighed.denies.iter().map(|(h, _)| except(h.grant.place)).take(2).collect()
    }

    fn ceiling(&self) -> Vec<Way> {
        let Some(action) = self.action() else { return Vec::new() };
        let Some((weighed, ..)) = self.weighed(&action) else { return Vec::new() };
        let name = &self.context.links.operations[action.operation].name;
        let raise = |place| {
            way(
                Change::LetThrough { at: self.asked.locate(place), operation: name.clone() },
                format!("if the ceiling let `{}` through", visible(name)),
                Some(place),
            )
        };
        weighed.cut.iter().map(|(_, c, _)| raise(c.place)).take(2).collect()
    }

    fn without_attributes(&self) -> Vec<Way> {
        let stated = self.asked.question.session.attributes.iter();
        stated.map(|(n, _)| way(Change::NoAttribute(n.clone()), format!("without the attribute `{}`", visible(n)), None)).collect()
    }

    fn own_name(&self) -> Vec<Way> {
        if self.asked.question.session.acting.is_empty() {
            Vec::new()
        } else {
            vec![way(Change::Acting(Vec::new()), "in their own name", None)]
        }
    }

    /// As a role that can be assumed, as another user, or in their own name.
    fn other_identity(&self) -> Vec<Way> {
        let (engine, links) = (self.asked.engine, self.context.links);
        let mut ways = self.own_name();
        if !ways.is_empty() {
            return ways;
        }
        let Some(action) = self.action() else { return ways };
        let roles = (0..engine.estate.roles.len()).map(RoleId::new);
        for role in roles.filter(|r| engine.estate.roles[r.index()].assumable.is_some()) {
            let gives = weigh(self.context, Identity::Role(role), self.asked.user, &action, true);
            if !gives.allows.is_empty() || !gives.unknown.is_empty() {
                let name = engine.estate.role(role).id.value.clone();
                let text = format!("in the assumed role `{}`", visible(&name));
                ways.push(way(Change::Acting(vec![Act::Role { name, since: None }]), text, None));
            }
        }
        for rule in &links.acting {
            let name = engine.estate.user(rule.target).id.value.clone();
            let text = format!("acting as user `{}`", visible(&name));
            ways.push(way(Change::Acting(vec![Act::User(name)]), text, None));
        }
        ways.truncate(TRIED);
        ways
    }

    /// In a group that has the right, or with a grant of the own.
    fn grant(&self) -> Vec<Way> {
        let Some(action) = self.action() else { return Vec::new() };
        let name = self.context.links.operations[action.operation].name.clone();
        let path = action.path.clone();
        let standing = stand(self.context, self.asked.question);
        let estate = &self.asked.engine.estate;
        let role = |role: RoleId| format!("role:{}", estate.role(role).id.value);
        let own = match standing.as_ref().map(|s| s.identity) {
            Some(Identity::Role(id)) => role(id),
            Some(Identity::User(user)) => format!("user:{}", estate.user(user).id.value),
            None => format!("user:{}", self.asked.question.user),
        };
        // Through whatever brings others of the sort on this resource (`hulls.start` beside `hulls.stop`), of several what the
        // fewest have. What only reads there is not made to write: others have it in order to read.
        let operations = &self.context.links.operations;
        let sort = |name: &'_ str| name.split_once('.').map(|(head, _)| head.to_owned());
        let wanted = &operations[action.operation];
        let is_of_sort = |o: usize| (wanted.reads || !operations[o].reads) && sort(&operations[o].name) == sort(&wanted.name);
        let brings_the_rest = |grant: &GrantLinks| !grant.is_deny && grant.operations.ones().any(is_of_sort);
        let mut shared: Option<(usize, String)> = None;
        let mut look = |held: Held<'_>| {
            let found = match held.via {
                _ if !brings_the_rest(held.grant) => return,
                Via::Party(Party::User(_)) => return,
                Via::Party(Party::Group(group)) => (vec![Party::Group(group)], format!("group:{}", estate.group(group).id.value)),
                Via::Assignment(id, of) => (estate.assignments[id.index()].to.iter().map(|&(party, _)| party).collect(), role(of)),
                Via::Assumed(of) => (Vec::new(), role(of)),
            };
            let (parties, to) = found;
            let count = self.asked.engine.members(parties).take(COUNTED).count();
            if shared.as_ref().is_none_or(|(fewest, _)| count < *fewest) {
                shared = Some((count, to));
            }
        };
        if let Some(standing) = &standing {
            grants_of(self.context, standing.identity, Some((&path, None)), &mut look);
        }
        let shared = shared.map(|(_, to)| to).filter(|to| *to != own);
        let place = estate.system(self.asked.system).id.place;
        let grant = |to: String| {
            let text = format!("if `{}` were granted `{}` on `{}`", visible(&to), visible(&name), visible(&path));
            way(Change::Allow { system: self.asked.on(), operation: name.clone(), on: path.to_string(), to }, text, Some(place))
        };
        shared.into_iter().chain([own]).map(grant).chain(self.groups(&action)).collect()
    }

    /// Groups through which somebody else holds a grant for an action.
    fn groups(&self, action: &Action) -> Vec<Way> {
        let (engine, links) = (self.asked.engine, self.context.links);
        let mut found: Vec<GroupId> = Vec::new();
        let gives = |grant: &GrantLinks| !grant.is_deny && grant.concerns(action.operation, &action.path);
        for holder in links.grants_on(&action.path).filter(|grant| gives(grant)).flat_map(|grant| &grant.holders) {
            if let Holder::Party(Party::Group(group)) = holder {
                found.push(*group);
            }
        }
        let of_role = |role: &RoleId| links.grants_of(Holder::Role(*role), None).into_iter().any(|g| gives(links.grant(g.number)));
        for (i, assignment) in engine.estate.assignments.iter().enumerate().filter(|(_, a)| a.systems.contains(self.asked.system.index())) {
            let roles = &engine.standing(crate::links::AssignmentId::new(i)).1.roles;
            if roles.iter().any(of_role) {
                found.extend(assignment.to.iter().filter_map(|(p, _)| if let Party::Group(g) = p { Some(*g) } else { None }));
            }
        }
        found.sort_unstable();
        found.dedup();
        let name = visible(&self.asked.question.user);
        let brings = |grant: &GrantLinks, group: &str| links.groups.get(group).is_some_and(|all| all.is_subset(&grant.operations));
        let governs = |grant: &GrantLinks| !grant.is_deny && (brings(grant, "administer") || brings(grant, "all"));
        let of_role_governs =
            |role: &RoleId| links.grants_of(Holder::Role(*role), None).into_iter().any(|g| governs(links.grant(g.number)));
        let governs_group = |group: GroupId| {
            let holder = Holder::Party(Party::Group(group));
            let assigned =
                engine.estate.assignments.iter().enumerate().filter(|(_, a)| a.to.iter().any(|(p, _)| *p == Party::Group(group)));
            links.grants_of(holder, None).into_iter().any(|g| governs(links.grant(g.number)))
                || assigned.into_iter().any(|(i, a)| {
                    a.systems.contains(self.asked.system.index())
                        && engine.standing(crate::links::AssignmentId::new(i)).1.roles.iter().any(of_role_governs)
                })
        };
        let join = |group| {
            let entry = engine.estate.group(group);
            let joins = way(
                Change::JoinGroup { group: entry.id.value.clone(), user: self.asked.name() },
                format!("if `{name}` were in group `{}`", visible(&entry.id.value)),
                Some(entry.id.place),
            );
            joins.of_width_if(Width::WiderThanNeeded, governs_group(group))
        };
        found.into_iter().filter(|g| !engine.membership.belongs(self.asked.user, Party::Group(*g))).map(join).take(TRIED).collect()
    }

    /// The role of the chain that is refused: the first whose half is missing is found by trying.
    fn roles_in_chain(&self) -> impl Iterator<Item = &String> {
        self.asked.question.session.acting.iter().filter_map(|a| if let Act::Role { name, .. } = a { Some(name) } else { None })
    }

    fn may_assume(&self) -> Vec<Way> {
        let Some(&operation) = self.context.links.operation_ids.get(ASSUME) else { return Vec::new() };
        let system = self.asked.engine.estate.system(self.asked.system).id.place;
        let mut ways = Vec::new();
        for role in self.roles_in_chain() {
            let action = Action { operation, path: format!("role/{role}").into() };
            ways.extend(self.groups(&action));
            let to = format!("user:{}", self.asked.question.user);
            let text = format!("if `{}` were granted `{ASSUME}` on `role/{}`", visible(&to), visible(role));
            // Whoever may assume a role has all that it has.
            let change = Change::Allow { system: self.asked.on(), operation: ASSUME.to_owned(), on: action.path.to_string(), to };
            ways.push(Way { width: Width::Wide, ..way(change, text, Some(system)) });
        }
        ways
    }

    fn admit(&self) -> Vec<Way> {
        let estate = &self.asked.engine.estate;
        let mut ways = Vec::new();
        for name in self.roles_in_chain() {
            let Some(&role) = estate.names.roles.get(name.as_str()) else { continue };
            let groups = estate.roles[role.index()].assumable.iter().flat_map(|a| &a.by);
            for &(holder, place) in groups {
                if let Holder::Party(Party::Group(group)) = holder {
                    let id = &estate.group(group).id.value;
                    let text = format!("if `{}` were in group `{}`", visible(&self.asked.question.user), visible(id));
                    ways.push(way(Change::JoinGroup { group: id.clone(), user: self.asked.name() }, text, Some(place)));
                }
            }
            let text = format!("if role `{}` admitted `{}`", visible(name), visible(&self.asked.question.user));
            ways.push(way(Change::Admit { role: name.clone(), user: self.asked.name() }, text, Some(estate.role(role).id.place)));
        }
        ways
    }

    /// Names in the chain that are nearly right.
    fn near_links(&self) -> Vec<Way> {
        let estate = &self.asked.engine.estate;
        let chain = &self.asked.question.session.acting;
        let mut ways = Vec::new();
        for (i, act) in chain.iter().enumerate() {
            let near = match act {
                Act::User(name) if !estate.names.users.contains_key(name.as_str()) => {
                    nearest(name, estate.names.users.keys().map(|k| &**k)).map(|n| Act::User(n.to_owned()))
                }
                Act::Role { name, since } if !estate.names.roles.contains_key(name.as_str()) => {
                    nearest(name, estate.names.roles.keys().map(|k| &**k)).map(|n| Act::Role { name: n.to_owned(), since: *since })
                }
                _ => None,
            };
            if let Some(near) = near {
                let mut changed = chain.clone();
                changed[i] = near.clone();
                ways.push(way(Change::Acting(changed), format!("{near}"), None));
            }
        }
        if let Some(active) = &self.asked.question.session.active_roles {
            let known = |r: &&String| estate.names.roles.contains_key(r.as_str());
            let rest: Vec<String> = active.iter().filter(known).cloned().collect();
            if rest.len() < active.len() {
                ways.push(way(Change::ActiveRoles(rest), "without that role", None));
            }
        }
        ways
    }

    fn active_roles(&self) -> Vec<Way> {
        let engine = self.asked.engine;
        let held = crate::engine::duties::held(engine, self.asked.user, Some(self.asked.system), &self.asked.question.session);
        let only = |role: RoleId| {
            let name = engine.estate.role(role).id.value.clone();
            let text = format!("with only the role `{}` active", visible(&name));
            way(Change::ActiveRoles(vec![name]), text, None)
        };
        held.into_iter().map(|(role, _)| only(role)).take(TRIED).collect()
    }

    /// In a group through which an assignment gives a role that is to be active.
    fn groups_with_role(&self) -> Vec<Way> {
        let engine = self.asked.engine;
        let wanted = self.asked.question.session.active_roles.iter().flatten();
        let roles: Vec<RoleId> = wanted.filter_map(|name| engine.estate.names.roles.get(name.as_str()).copied()).collect();
        let mut groups: Vec<GroupId> = Vec::new();
        for (i, assignment) in engine.estate.assignments.iter().enumerate().filter(|(_, a)| a.systems.contains(self.asked.system.index())) {
            if engine.standing(crate::links::AssignmentId::new(i)).1.roles.iter().any(|r| roles.contains(r)) {
                groups.extend(assignment.to.iter().filter_map(|(p, _)| if let Party::Group(g) = p { Some(*g) } else { None }));
            }
        }
        let join = |group| {
            let entry = engine.estate.group(group);
            let text = format!("if `{}` were in group `{}`", visible(&self.asked.question.user), visible(&entry.id.value));
            way(Change::JoinGroup { group: entry.id.value.clone(), user: self.asked.name() }, text, Some(entry.id.place))
        };
        groups.into_iter().take(TRIED).map(join).collect()
    }

    fn other_line(&self) -> Vec<Way> {
        let links = self.context.links;
        let say = |line: String| way(Change::Line(line.clone()), format!("as `{}`", visible(&line)), None);
        let paths = || links.resources.keys().map(|k| &**k);
        match parse(&self.asked.question.line, links) {
            Ok(actions) => {
                let Some(action) = actions.first() else { return Vec::new() };
                let name = &links.operations[action.operation].name;
                let near = nearest(&action.path, paths()).map(|n| say(format!("{name} on {n}")));
                let (head, _) = action.path.split_once('/').unwrap_or((&action.path, ""));
                let rights = links.types.get(head).into_iter().flat_map(|t| t.rights.ones());
                let others = rights.map(|r| say(format!("{} on {}", links.operations[r].name, action.path)));
                near.into_iter().chain(others.filter(|_| links.is_application)).take(TRIED).collect()
            }
            Err(Unread::Operation(name)) => {
                let path = self.asked.question.line.rsplit_once(" on ").map_or("", |(_, p)| p.trim());
                let near = nearest(&name, links.operation_ids.keys().map(|k| &**k));
                near.map(|near| say(format!("{near} on {path}"))).into_iter().collect()
            }
            Err(Unread::Resource(head)) => {
                let mut list: Vec<&str> = paths().collect();
                list.sort_unstable();
                list.into_iter().take(TRIED).map(|p| say(format!("{head} on {p}"))).collect()
            }
            Err(Unread::Other { said, .. }) => {
                let call = self.asked.question.line.trim().strip_suffix(&format!(" on {said}")).unwrap_or_default();
                vec![say(call.trim().to_owned())]
            }
            Err(Unread::Form | Unread::Address(_) | Unread::Several(_)) => Vec::new(),
        }
    }

    /// Other people who agree, if they would be entitled.
    fn second_person(&self) -> Vec<Way> {
        let estate = &self.asked.engine.estate;
        let mut ways = Vec::new();
        for (i, user) in estate.entries.users.iter().enumerate() {
            let is_other = UserId::new(i) != self.asked.user && Some(&user.id.value) != self.asked.question.session.approved_by.as_ref();
            if ways.len() == TRIED || !is_other {
                continue;
            }
            let change = Change::SecondPerson(user.id.value.clone());
            let mut question = self.asked.question.clone();
            change.apply(&mut question);
            // They may have to prove who they are as well.
            let mut proven = question.clone();
            user.proofs.iter().for_each(|p| Change::ApproverProof(p.value).apply(&mut proven));
            let agrees = |question| self.asked.engine.decide(question).refusal.is_none();
            if agrees(&question) || agrees(&proven) {
                ways.push(way(change, format!("with `{}` as second person", visible(&user.id.value)), None));
            }
        }
        ways
    }
}

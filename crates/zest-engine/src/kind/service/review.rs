//! Reviews of clouds and applications: what somebody holds there, and what is odd.

use std::collections::BTreeSet;

use fixedbitset::FixedBitSet;
use rustc_hash::{FxHashMap, FxHashSet};

use super::links::{ASSUME, GrantLinks, ServiceLinks, own_credential};
use super::{Context, Held, Identity, grants_of};
use crate::engine::Engine;
use crate::engine::entry::gone;
use crate::engine::rights::{Action, Line, Membership, Side, Within, rights};
use crate::engine::rules::Site;
use crate::links::{AssignmentId, Conditions, Duties, Holder, Party, RoleId, SystemId, UserId, circles};
use zest_model::ask::{Form, Session};
use zest_model::finding::{Code, Finding};
use zest_model::source::{Place, visible};
use zest_words::nearest;

/// For how many people of a group a review looks at each.
const PEOPLE: usize = 200;

/// Of how many pairs, each of somebody and of whose credential that may be reset, it is looked at what they really may.
const PAIRS: usize = 16;

/// Obligations in words.
pub fn obligations(engine: &Engine, duties: &Duties) -> Vec<String> {
    let mut words = Vec::new();
    words.extend(duties.confirm.map(|_| "confirm".to_owned()));
    words.extend(duties.prove_again.as_ref().map(|age| format!("prove identity within {:#}", age.value)));
    if duties.anyone.is_some() {
        words.push("second person: anyone entitled".to_owned());
    } else if !duties.second_person.is_empty() {
        let list: Vec<String> = duties.second_person.iter().map(|&(p, _)| visible(&engine.estate.party(p))).collect();
        words.push(format!("second person of {}", list.join(" or ")));
    }
    words
}

/// Adds what is odd about clouds, applications and what is held there.
pub(crate) fn review(engine: &Engine, at: Option<jiff::Timestamp>, findings: &mut Vec<Finding>) {
    let mut review = Services { engine, at, findings };
    review.assumptions();
    for (system, links) in engine.estate.all_links::<ServiceLinks>() {
        review.grants(links);
        review.undeclared(links);
        review.protections(links, system);
        review.resets(system, links);
        review.findings.extend(links.conditions().filter_map(Conditions::night_of_day));
    }
}

struct Services<'e, 'f> {
    engine: &'e Engine,
    at: Option<jiff::Timestamp>,
    findings: &'f mut Vec<Finding>,
}

impl<'e> Services<'e, '_> {
    /// Halves without the other half, and circles.
    fn assumptions(&mut self) {
        let estate = &self.engine.estate;
        let mut edges: Vec<Vec<(usize, Place)>> = vec![Vec::new(); estate.roles.len()];
        let clouds = estate.all_links().map(|(_, s)| s).filter(|s: &&ServiceLinks| !s.is_application);
        let path = |role: usize| format!("role/{}", estate.role(RoleId::new(role)).id.value);
        // Few grants of an estate are about assuming a role, and only they are looked at for each.
        let assuming: Vec<&GrantLinks> = clouds
            .filter_map(|s| Some((s, *s.operation_ids.get(ASSUME)?)))
            .flat_map(|(s, assume)| s.grants().filter(move |grant| !grant.is_deny && grant.operations.contains(assume)))
            .collect();
        for (to, links) in estate.roles.iter().enumerate() {
            let name = visible(&estate.role(RoleId::new(to)).id.value);
            let path = path(to);
            let mut giving = assuming.iter().filter(|grant| grant.is_on(&path));
            match &links.assumable {
                Some(assumable) => {
                    if giving.next().is_none() {
                        self.findings.push(
                            Finding::new(
                                Code::AssumptionHalf,
                                format!("the role `{name}` admits, but nothing grants `{ASSUME}` on `{path}`"),
                            )
                            .at(assumable.place, "one half of two")
                            .help(format!("grant it on the cloud: allow = [\"{ASSUME}\"], on = \"{path}\", to = […]")),
                        );
                    }
                    for &(holder, place) in &assumable.by {
                        if let Holder::Role(from) = holder
                            && assuming.iter().any(|grant| grant.holders.contains(&holder) && grant.is_on(&path))
                        {
                            edges[from.index()].push((to, place));
                        }
                    }
                }
                None => {
                    let named = |g: &GrantLinks| g.on.iter().any(|p| p.literal() == Some(path.as_str()));
                    if let Some(grant) = giving.find(|grant| named(grant)) {
                        self.findings.push(
                            Finding::new(Code::AssumptionHalf, format!("`{ASSUME}` is granted on `{path}`, but that role admits nobody"))
                                .at(grant.place, "one half of two")
                                .also(estate.role(RoleId::new(to)).id.place, "no `assumable` here")
                                .help("say whom the role admits: assumable = { by = [\"group:ID\"] }"),
                        );
                    }
                }
            }
        }
        for (circle, place) in circles(&edges) {
            let names: Vec<String> = circle.iter().map(|&r| format!("`{}`", visible(&estate.role(RoleId::new(r)).id.value))).collect();
            self.findings.push(
                Finding::new(Code::AssumptionCycle, format!("roles can be assumed from each other in a circle: {}", names.join(" -> ")))
                    .at(place, "this closes the circle")
                    .help("take one of them out; a session that comes back to a role is refused"),
            );
        }
    }

    fn grants(&mut self, links: &ServiceLinks) {
        for grant in links.grants() {
            if let (Some(at), Some((until, place))) = (self.at, grant.when.until())
                && until <= at
            {
                self.findings.push(
                    Finding::new(Code::Expired, format!("the grant held until {until}"))
                        .at(place, "past")
                        .help("take it out, or extend the date"),
                );
            }
            if grant.is_deny
                && let Some((_, place)) = grant.when.proof().filter(|(need, _)| need.older.is_some())
            {
                self.findings.push(
                    Finding::new(Code::NaiveProofDeny, "the deny does not bite where no proof was given at all")
                        .at(place, "only an old proof is denied, and none is older than nothing")
                        .help("turn it round: lifted-by = { proof = […], proof-age = \"…\" } denies old and missing proofs alike"),
                );
            }
            // Where it does not hold, in other sessions or on other paths, the proof can be given.
            let covers = |path: &str| grant.on.iter().any(|p| p.covers(path)) && !grant.except_on.iter().any(|p| p.covers(path));
            let is_everywhere = || grant.when.is_empty() && links.resources.keys().all(|path| covers(path));
            if grant.is_deny
                && let Some((need, _)) = grant.lifted_by.as_ref().and_then(Conditions::proof)
                && is_everywhere()
            {
                let ways: Vec<_> = links.obtains.iter().filter(|(p, _)| need.accepted.contains(&p.value)).collect();
                if !ways.is_empty() && ways.iter().all(|(_, operations)| operations.is_subset(&grant.operations)) {
                    let names: Vec<String> =
                        ways.iter().flat_map(|(_, o)| o.ones()).map(|o| format!("\"{}\"", visible(&links.operations[o].name))).collect();
                    self.findings.push(
                        Finding::new(Code::ProofUnobtainable, "the deny leaves no operation by which the proof could be given")
                            .at(grant.place, "denied until identity is proven")
                            .also(ways[0].0.place, "proven by this, which is denied as well")
                            .help(format!("leave one out: except = [{}]", names.join(", "))),
                    );
                }
            }
            let everything = links.groups.get("all").is_some_and(|all| !all.is_clear() && all.is_subset(&grant.operations));
            let everywhere = grant.on.iter().any(|p| p.is_everything()) && grant.except_on.is_empty();
            if !grant.is_deny && everything && everywhere && grant.when.is_empty() && grant.lifted_by.is_none() && grant.duties.is_none() {
                self.findings.push(
                    Finding::new(Code::GrantOfEverything, "every operation on everything is granted without a condition")
                        .at(grant.place, "all, everywhere, always")
                        .help("name a container, or add a condition such as when = { proof = [\"one-time-code\"], proof-age = \"1h\" }"),
                );
            }
        }
    }

    /// Paths of grants, denies and ceilings that no resource declares: below a container they have their effect, and nobody
    /// sees a slip of the pen.
    fn undeclared(&mut self, links: &ServiceLinks) {
        if links.is_application {
            return;
        }
        let of_grants = links.grants().flat_map(|grant| {
            let what = if grant.is_deny { "a deny" } else { "a grant" };
            grant.on.iter().chain(&grant.except_on).map(move |p| (what, p.beginning().to_owned(), grant.place))
        });
        let of_ceilings = links.ceilings.iter().filter_map(|c| Some(("a ceiling", c.within.clone()?, c.place)));
        let mut found: Vec<(Place, &str, String)> = of_grants
            .chain(of_ceilings)
            .filter(|(_, path, _)| {
                let head = path.split('/').next().unwrap_or_default();
                let is_entry = matches!(head, "" | "user" | "group" | "role" | "command-set" | "secret" | "job");
                !is_entry && !links.resources.contains_key(path.as_str())
            })
            .map(|(what, path, place)| (place, what, path))
            .collect();
        found.sort();
        found.dedup();
        for (place, what, path) in found {
            let near =
                nearest(&path, links.resources.keys().map(|k| &**k)).map_or(String::new(), |n| format!("; did you mean `{}`?", visible(n)));
            self.findings.push(
                Finding::new(Code::PathNotDeclared, format!("{what} is on `{}`, which no resource declares{near}", visible(&path)))
                    .at(place, "taken to be there, since it is below a container")
                    .help("declare it under `resources`, or mend the path"),
            );
        }
    }

    /// Returns the roles that somebody may hold on a system: by an assignment that covers it, or assumed.
    fn roles_on(&self, system: SystemId) -> FxHashSet<RoleId> {
        let estate = &self.engine.estate;
        let covering = (0..estate.assignments.len()).filter(|&i| estate.assignments[i].systems.contains(system.index()));
        let assigned = covering.flat_map(|i| self.engine.standing(AssignmentId::new(i)).1.roles()).copied();
        let assumable = (0..estate.roles.len()).filter(|&role| estate.roles[role].assumable.is_some()).map(RoleId::new);
        assigned.chain(assumable).collect()
    }

    /// Returns the obligations of a system, each with the rights of which a second person must hold one.
    fn protected<'l>(&self, links: &'l ServiceLinks, system: SystemId) -> Vec<(&'l Duties, FixedBitSet)> {
        let one = |right: usize| FixedBitSet::from_iter([right]);
        let mut all: Vec<(&Duties, FixedBitSet)> = Vec::new();
        for of in links.types.values() {
            let wanted = of.second_person_right.map(one);
            all.extend(of.right_duties.iter().map(|(&right, duties)| (duties, wanted.clone().unwrap_or_else(|| one(right)))));
            all.extend(of.duties.iter().map(|duties| (duties, wanted.clone().unwrap_or_else(|| of.rights.clone()))));
        }
        // An obligation of a resource is one of whatever is done with it.
        let of_resource = |path: &str| match links.types.get(path.split('/').next().unwrap_or_default()) {
            Some(of) => of.second_person_right.map_or_else(|| of.rights.clone(), one),
            None => (0..links.operations.len()).collect(),
        };
        all.extend(links.resources.iter().filter_map(|(path, resource)| Some((resource.duties.as_ref()?, of_resource(path)))));
        let mut of_grants = links.grants().filter(|grant| !grant.is_deny && grant.duties.is_some()).peekable();
        // A role has its grants on every cloud, and so also where nobody holds it.
        let roles = of_grants.peek().map(|_| self.roles_on(system)).unwrap_or_default();
        let is_held = |holder: &Holder| match holder {
            Holder::Party(_) => true,
            Holder::Role(role) => roles.contains(role),
        };
        // Of which types the objects of a grant are is not looked at.
        let of_types: Vec<usize> = links.types.values().filter_map(|of| of.second_person_right).collect();
        for grant in of_grants.filter(|grant| grant.holders.iter().any(is_held)) {
            all.extend(grant.duties.iter().map(|duties| (duties, grant.operations.ones().chain(of_types.iter().copied()).collect())));
        }
        all
    }

    fn protections(&mut self, links: &'e ServiceLinks, system: SystemId) {
        let all = self.protected(links, system);
        if let Some(off) = links.identity_checks.as_ref().filter(|c| !c.value) {
            let mut places: Vec<Place> = all
                .iter()
                .filter_map(|(d, _)| d.prove_again.as_ref().map(|a| a.place).or(d.second_person.first().map(|&(_, p)| p)).or(d.anyone))
                .collect();
            places.sort_unstable();
            if let Some(&first) = places.first() {
                self.findings.push(
                    Finding::new(
                        Code::ProtectionInoperative,
                        format!(
                            "identity checks are switched off, and {} rest on them",
                            if places.len() == 1 { "an obligation".to_owned() } else { format!("{} obligations", places.len()) }
                        ),
                    )
                    .at(off.place, "switched off here")
                    .also(first, "the first that does not work")
                    .help("set identity-checks = true, or take the obligations out so that nobody counts on them"),
                );
            }
            return;
        }
        let session = Session::default();
        let Some(context) = Context::of(self.engine, system, &session) else { return };
        let mut held_by: FxHashMap<UserId, FixedBitSet> = FxHashMap::default();
        for (duties, rights) in all {
            let Some(place) = duties.second_person.first().map(|&(_, p)| p).filter(|_| duties.anyone.is_none()) else { continue };
            let is_entitled = |user: &UserId| {
                let held = held_by.entry(*user).or_insert_with(|| {
                    let mut all = FixedBitSet::with_capacity(links.operations.len());
                    if gone(self.engine.estate.user(*user), self.at).is_none() {
                        let allows = |held: Held<'_>| {
                            if !held.grant.is_deny {
                                all.union_with(&held.grant.operations)
                            }
                        };
                        grants_of(context, Identity::User(*user), None, allows);
                    }
                    all
                });
                !held.is_disjoint(&rights)
            };
            let people: Vec<UserId> = duties.second_person.iter().flat_map(|&(p, _)| self.people(p)).collect();
            if people.len() < PEOPLE && !people.iter().any(is_entitled) {
                self.findings.push(
                    Finding::new(Code::NoSecondPerson, "nobody can agree as second person: none of those named holds the right")
                        .at(place, "these people")
                        .help("name people who hold it, grant it to them, or write \"anyone\""),
                );
            }
        }
    }

    /// A credential that can be reset by somebody who holds less than its owner is a way up.
    fn resets(&mut self, system: SystemId, links: &ServiceLinks) {
        let Some(&reset) = links.operation_ids.get("reset-credential") else { return };
        let session = Session::default();
        let Some(context) = Context::of(self.engine, system, &session) else { return };
        let held = |user: UserId| {
            let mut list: FxHashSet<usize> = FxHashSet::default();
            grants_of(context, Identity::User(user), None, |h| {
                if !h.grant.is_deny {
                    list.insert(h.number);
                }
            });
            list
        };
        let users = &self.engine.estate.entries.users;
        let takes_two = |g: &GrantLinks| g.duties.as_ref().is_some_and(|d| !d.second_person.is_empty() || d.anyone.is_some());
        for grant in links.grants().filter(|g| !g.is_deny && g.operations.contains(reset) && !takes_two(g)) {
            let holders = grant.holders.iter().flat_map(|&holder| self.people_of(holder, system));
            let holders: BTreeSet<UserId> = holders.take(PEOPLE).collect();
            let owners = users.iter().enumerate().filter(|(_, u)| grant.concerns(reset, &format!("user/{}", u.id.value))).take(PEOPLE);
            let owners: Vec<(UserId, FxHashSet<usize>)> = owners.map(|(i, _)| (UserId::new(i), held(UserId::new(i)))).collect();
            let pairs = holders.iter().flat_map(|&user| {
                let own = held(user);
                let holds_more = move |(owner, theirs): &&(UserId, FxHashSet<usize>)| *owner != user && !theirs.is_subset(&own);
                owners.iter().filter(holds_more).map(move |(owner, _)| (user, *owner))
            });
            // What is granted may be denied elsewhere, or come to the same.
            let found = pairs.take(PAIRS).find(|&(user, owner)| self.gains_by_reset(system, user, owner));
            if let Some((user, owner)) = found {
                let name = |u: UserId| visible(&self.engine.estate.user(u).id.value);
                self.findings.push(
                    Finding::new(
                        Code::ResetUpwards,
                        format!("`{}` may reset the credential of `{}`, who holds more here", name(user), name(owner)),
                    )
                    .at(grant.place, "a way up")
                    .help("narrow `on`, leave people out with `except-on`, or ask for a second person with `after`"),
                );
            }
        }
    }

    /// Returns whether somebody may reset the credential of another in some session, who may something that the first may not.
    fn gains_by_reset(&self, system: SystemId, user: UserId, owner: UserId) -> bool {
        let side = |user| Side { site: Site { engine: self.engine, system }, user };
        let name = &self.engine.estate.user(owner).id.value;
        let reset = Action::alone(&format!("reset-credential on user/{name}"), Form::Line);
        let within = Within { actions: vec![reset], ..Within::default() };
        let may = rights(&[side(user)], &within).iter().any(|set| set.example_allowed().is_some());
        let is_allowed = |line: &Line| matches!(line.membership, Membership::Allowed | Membership::After);
        may && match rights(&[side(user), side(owner)], &Within::default()).as_slice() {
            [mine, theirs] => {
                let (more, own) = (theirs.minus(mine), own_credential(name));
                more.lines().iter().filter(|line| is_allowed(line)).flat_map(|line| &line.actions).any(|&at| more.actions()[at].line != own)
            }
            _ => false,
        }
    }

    /// The people who hold what a holder does on a system, a few of them.
    fn people_of(&self, holder: Holder, system: SystemId) -> Vec<UserId> {
        match holder {
            Holder::Party(party) => self.people(party),
            Holder::Role(role) => {
                let all = self.engine.estate.assignment_links().iter().enumerate();
                let gives = |number: usize| self.engine.standing(AssignmentId::new(number)).1.roles.contains(&role);
                let giving = all.filter(|(number, links)| links.systems.contains(system.index()) && gives(*number));
                giving.flat_map(|(_, links)| &links.to).flat_map(|&(party, _)| self.people(party)).take(PEOPLE).collect()
            }
        }
    }

    /// The people of a party, a few of them.
    fn people(&self, party: Party) -> Vec<UserId> {
        let mut users = Vec::new();
        let mut seen = FxHashSet::default();
        let mut queue = vec![party];
        while let Some(party) = queue.pop().filter(|_| users.len() < PEOPLE) {
            if seen.insert(party) {
                match party {
                    Party::User(user) => users.push(user),
                    Party::Group(group) => queue.extend(self.engine.estate.groups[group.index()].members.iter().map(|&(m, _)| m)),
                }
            }
        }
        users
    }
}

/// Returns whether a system's grants, ceilings or rules of acting reach a user.
pub(crate) fn reaches(engine: &Engine, user: UserId) -> bool {
    engine.estate.all_links::<ServiceLinks>().any(|(_, links)| {
        let mine = |party: Party| engine.membership.belongs(user, party);
        links.parties().any(mine) || links.acting.iter().any(|r| r.target == user || r.by.iter().any(|&(p, _)| mine(p)))
    })
}

/// Returns whether anything on a system is granted to a user.
pub(crate) fn has_grants(engine: &Engine, user: UserId, system: SystemId) -> bool {
    let session = Session::default();
    let mut found = false;
    if let Some(context) = Context::of(engine, system, &session) {
        grants_of(context, Identity::User(user), None, |held| found |= !held.grant.is_deny);
        found |= context.links.acting.iter().any(|r| r.by.iter().any(|&(p, _)| engine.membership.belongs(user, p)));
    }
    found
}

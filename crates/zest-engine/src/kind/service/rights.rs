//! The sessions and the actions that a cloud or an application tells apart.

use std::collections::BTreeSet;

use rustc_hash::FxHashMap;

use super::Identity;
use super::action;
use super::links::{ASSUME, GrantLinks, OperationLinks, ServiceLinks, TypeLinks};
use super::resolve::is_there;
use crate::engine::Engine;
use crate::engine::rights::{Action, Opening, Side, reads_like};
use crate::engine::rules::Site;
use crate::links::path::{PathPattern, SOMETHING};
use crate::links::{AssumableLinks, Holder, Party, RoleId, UserId};
use zest_model::ask::{Act, Form, Session};
use zest_model::source::visible;

/// Returns how sessions start: with which roles active, and as whom.
pub(super) fn openings(site: Site<'_>, user: UserId) -> Vec<Opening> {
    let Site { engine, system } = site;
    let Some(links) = engine.estate.links::<ServiceLinks>(system) else { return Vec::new() };
    let estate = &engine.estate;
    let mut list = vec![Opening::new(Session::default())];
    list.extend(active(site, user, &[]));
    // As whom one goes on hangs on as whom one is: each chain goes on from where it is.
    let mut ends: Vec<(Vec<Act>, Identity)> = vec![(Vec::new(), Identity::User(user))];
    for _ in 0..MAX_LINKS {
        let longer: Vec<(Vec<Act>, Identity)> = ends.iter().flat_map(|end| next(engine, links, user, end)).collect();
        list.extend(longer.iter().map(|(acting, _)| Opening::new(Session { acting: acting.clone(), ..Session::default() })));
        ends = longer;
        // With some roles active there is no more to be had than with all, but where roles are kept apart.
        if estate.separations.iter().any(|separation| separation.when_active) {
            for (acting, identity) in &ends {
                if let Identity::User(other) = *identity {
                    list.extend(active(site, other, acting));
                }
            }
        }
    }
    list
}

/// Returns the sessions of a user, behind some links, in which it is stated which role is active: none, or one that is held.
fn active(Site { engine, system }: Site<'_>, user: UserId, acting: &[Act]) -> Vec<Opening> {
    let mut held: Vec<RoleId> = engine.candidates(user, system).flat_map(|c| engine.standing(c.assignment).1.roles.clone()).collect();
    held.sort_unstable();
    held.dedup();
    let none = (!held.is_empty()).then(Vec::new);
    let each = none.into_iter().chain(held.into_iter().map(|role| vec![engine.estate.role(role).id.value.clone()]));
    each.map(|roles| Opening::new(Session { active_roles: Some(roles), acting: acting.to_vec(), ..Session::default() })).collect()
}

/// How many links a chain has at most.
const MAX_LINKS: usize = 2;

/// Returns the chains that are one link longer than another, by all that may be meant by it.
fn next(engine: &Engine, links: &ServiceLinks, person: UserId, (acting, identity): &(Vec<Act>, Identity)) -> Vec<(Vec<Act>, Identity)> {
    let estate = &engine.estate;
    let mut list = Vec::new();
    let mut add = |act: Act, identity: Identity| list.push((acting.iter().cloned().chain([act]).collect(), identity));
    if let Identity::User(_) = identity {
        for rule in links.acting.iter().filter(|rule| rule.by.iter().any(|&(party, _)| engine.membership.belongs(person, party))) {
            add(Act::User(estate.user(rule.target).id.value.clone()), Identity::User(rule.target));
        }
    }
    for role in (0..estate.roles.len()).map(RoleId::new).filter(|_| !links.is_application) {
        let admits = |assumable: &AssumableLinks| {
            assumable.by.iter().any(|&(holder, _)| match (holder, *identity) {
                (Holder::Party(party), Identity::User(user)) => engine.membership.belongs(user, party),
                (Holder::Role(admitted), Identity::Role(role)) => admitted == role,
                (Holder::Party(_), Identity::Role(_)) | (Holder::Role(_), Identity::User(_)) => false,
            })
        };
        if estate.roles[role.index()].assumable.as_ref().is_some_and(admits) {
            add(Act::Role { name: estate.role(role).id.value.clone(), since: None }, Identity::Role(role));
        }
    }
    list
}

/// Returns operations on resources: every resource that is declared, and of others one for each way in which grants, ceilings and
/// assignments can be on them. Of operations that nothing tells apart, one is asked for all.
pub(super) fn actions(sides: &[Side<'_>]) -> Vec<Action> {
    listed(sides, None)
}

/// What is looked for: operations by name, on resources by a pattern over paths.
struct Sought {
    operations: String,
    on: PathPattern,
}

/// Returns the same of those that a pattern takes: `OPERATION on PATH`, with `*` in the name for any text, and in the path as grants
/// write it.
pub(super) fn like(sides: &[Side<'_>], pattern: &str) -> Result<Vec<Action>, String> {
    let expected = "expected an operation on a path, such as `hulls.* on lanternsound/**`";
    if pattern == "*" {
        return Ok(actions(sides));
    }
    let (operations, on) = pattern.split_once(" on ").ok_or(expected)?;
    let on = PathPattern::parse(on.trim(), false).map_err(|why| format!("`{}`: {why}; {expected}", visible(on)))?;
    Ok(listed(sides, Some(&Sought { operations: operations.trim().to_owned(), on })))
}

fn listed(sides: &[Side<'_>], sought: Option<&Sought>) -> Vec<Action> {
    let mut paths: BTreeSet<String> = BTreeSet::new();
    let mut marks: FxHashMap<String, Vec<bool>> = FxHashMap::default();
    let mut all: Vec<(&Side<'_>, &ServiceLinks)> = Vec::new();
    for side in sides {
        let Site { engine, system } = side.site;
        let Some(links) = engine.estate.links::<ServiceLinks>(system) else { continue };
        paths.extend(paths_of(engine, links, sought.map(|sought| &sought.on)));
        for (number, operation) in links.operations.iter().enumerate() {
            marks.entry(operation.name.clone()).or_default().extend(marks_of(links, number));
        }
        all.push((side, links));
    }
    let mut list: Vec<Action> = Vec::new();
    let mut known: FxHashMap<(Vec<bool>, String), usize> = FxHashMap::default();
    let mut seen: FxHashMap<String, usize> = FxHashMap::default();
    for (side, links) in all {
        for operation in links.operations.iter().filter(|o| links.operation_ids.contains_key(o.name.as_str())) {
            let name = &operation.name;
            if !sought.is_none_or(|sought| reads_like(&sought.operations, name)) {
                continue;
            }
            // Where names are looked for, none stands for others.
            let few = if sought.is_some() { usize::MAX } else { FEW };
            for (path, under) in of_operation(side, links, operation, &paths, few) {
                if !sought.is_none_or(|sought| sought.on.covers(&path)) {
                    continue;
                }
                let line = format!("{name} on {path}");
                if seen.contains_key(&line) {
                    continue;
                }
                // What is about entries of the ledger has rules of its own.
                let is_plain = operation.entry.is_none() && operation.place.is_some();
                let like = is_plain.then(|| known.get(&(marks[name].clone(), path.clone())).copied()).flatten();
                if is_plain && like.is_none() {
                    known.insert((marks[name].clone(), path), list.len());
                }
                seen.insert(line.clone(), list.len());
                list.push(Action { line, form: Form::Line, name: name.clone(), under, like });
            }
        }
    }
    list
}

/// Returns for whom grants are that concern some actions, or the assuming of a role, by which a session may start, or the right that a
/// second person must hold: whoever holds it alone has nobody else to agree.
pub(super) fn granted(site: Site<'_>, actions: &[Action]) -> Option<BTreeSet<Party>> {
    let links = site.engine.estate.links::<ServiceLinks>(site.system)?;
    let mut asked = Vec::new();
    for action in actions {
        asked.extend(action::parse(&action.line, links).ok()?);
    }
    let of_second = links.types.values().filter_map(|of| of.second_person_right);
    let always: Vec<usize> = links.operation_ids.get(ASSUME).copied().into_iter().chain(of_second).collect();
    let concerns = |grant: &GrantLinks| {
        always.iter().any(|&operation| grant.operations.contains(operation))
            || asked.iter().any(|action| grant.concerns(action.operation, &action.path))
    };
    let holders = links.grants().filter(|grant| concerns(grant)).flat_map(|grant| &grant.holders);
    let parties = holders.filter_map(|holder| match holder {
        Holder::Party(party) => Some(*party),
        Holder::Role(_) => None,
    });
    Some(parties.collect())
}

/// How many patterns are looked at two by two.
const MAX_PAIRS: usize = 300;

/// Returns paths among which there is one for each way in which what is written can be on it.
fn paths_of(engine: &Engine, links: &ServiceLinks, sought: Option<&PathPattern>) -> BTreeSet<String> {
    let mut paths: BTreeSet<String> = links.resources.keys().map(|path| path.to_string()).collect();
    let scopes = engine.estate.assignments.iter().filter_map(|a| a.entry.on.at.as_ref()).map(|at| at.value.as_str());
    let within = scopes.chain(links.ceilings.iter().filter_map(|c| c.within.as_deref()));
    paths.extend(within.map(str::to_owned));
    let mut patterns: Vec<&PathPattern> = Vec::new();
    for pattern in links.grants().flat_map(|grant| grant.on.iter().chain(&grant.except_on)).chain(sought) {
        if !patterns.contains(&pattern) {
            patterns.push(pattern);
        }
    }
    paths.extend(patterns.iter().filter_map(|one| one.and(one)));
    paths.extend(sought.into_iter().flat_map(|sought| patterns.iter().filter_map(|one| one.and(sought))));
    if patterns.len() <= MAX_PAIRS {
        paths.extend(patterns.iter().flat_map(|one| patterns.iter().filter_map(|other| one.and(other))));
    }
    // What is not declared stands below something that is.
    let below: Vec<String> = paths.iter().map(|path| format!("{path}/{SOMETHING}")).collect();
    paths.extend(below);
    paths
}

/// Returns all by which an operation is told from others: in which grants, ceilings and types it is.
fn marks_of(links: &ServiceLinks, number: usize) -> Vec<bool> {
    let operation = &links.operations[number];
    let grants = links.grants().map(|grant| grant.operations.contains(number));
    let ceilings = links.ceilings.iter().map(|ceiling| ceiling.operations.contains(number));
    let mut types: Vec<(&String, &TypeLinks)> = links.types.iter().collect();
    types.sort_by_key(|(name, _)| *name);
    let types = types.into_iter().flat_map(|(_, of)| {
        let TypeLinks { rights, looks, duties: _, right_duties, second_person_right, place: _ } = of;
        let duties = right_duties.get(&number).is_some();
        [rights.contains(number), looks.contains(number), duties, *second_person_right == Some(number)]
    });
    grants.chain(ceilings).chain(types).chain([operation.reads]).collect()
}

/// Returns the paths that an operation can be about, each with what it is listed under.
fn of_operation(
    side: &Side<'_>,
    links: &ServiceLinks,
    operation: &OperationLinks,
    paths: &BTreeSet<String>,
    few: usize,
) -> Vec<(String, String)> {
    let estate = &side.site.engine.estate;
    let number = links.operation_ids.get(operation.name.as_str()).copied();
    let Some(entry) = operation.entry else {
        let is_known = |path: &&String| {
            let of_type = path.split('/').next().and_then(|head| links.types.get(head));
            let has_right = |of: &TypeLinks| operation.place.is_none() || number.is_some_and(|number| of.rights.contains(number));
            is_there(path, links) && (!links.is_application || of_type.is_none_or(has_right))
        };
        return paths.iter().filter(is_known).map(|path| (path.clone(), path.clone())).collect();
    };
    let names: Vec<&str> = match entry {
        "user" => estate.entries.users.iter().map(|u| u.id.value.as_str()).collect(),
        "group" => estate.entries.groups.iter().map(|g| g.id.value.as_str()).collect(),
        "role" => estate.entries.roles.iter().map(|r| r.id.value.as_str()).collect(),
        "command-set" => estate.entries.command_sets.iter().map(|s| s.id.value.as_str()).collect(),
        _ => {
            let is_it = |path: &&String| path.split('/').next() == Some(entry) && is_there(path, links);
            return paths.iter().filter(is_it).map(|path| (path.clone(), path.clone())).collect();
        }
    };
    let own = &side.site.user(side.user).id.value;
    let named = |name: &&str| *name == own || paths.contains(&format!("{entry}/{name}"));
    let (of_grants, others): (Vec<&str>, Vec<&str>) = names.into_iter().partition(named);
    let one = |name: &str| (format!("{entry}/{name}"), format!("{entry}/{name}"));
    let mut list: Vec<(String, String)> = of_grants.into_iter().map(one).collect();
    match others.as_slice() {
        [first, rest @ ..] if rest.len() >= few => {
            list.push((format!("{entry}/{first}"), format!("{entry}/{first} and {} more that no grant names", rest.len())));
        }
        all => list.extend(all.iter().map(|name| one(name))),
    }
    list
}

/// How many of the entries of a ledger that no grant names are listed one by one; of more, one stands for all.
const FEW: usize = 64;

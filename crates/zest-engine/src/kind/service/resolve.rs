//! Follows the references of clouds and applications.

use std::sync::Arc;

use fixedbitset::FixedBitSet;
use rustc_hash::FxHashMap;

use super::grants::{GrantLinks, Grants, Sets, Terms};
use super::links::{
    ADMINISTRATIVE, ASSUME, ActingLinks, CHANGE_CREDENTIAL, CeilingLinks, OperationLinks, ResourceLinks, ServiceBase, ServiceLinks,
    TypeLinks,
};
use crate::links::path::{PathPattern, bad_path};
use crate::links::{Duties, Holder, Index, Party, Resolver, RoleId, look_up};
use zest_command::{Slot, WordPattern};
use zest_model::ask::Change;
use zest_model::entries::Entries;
use zest_model::entry::{self, Kind, Obligations};
use zest_model::finding::{Code, Finding};
use zest_model::source::{At, visible};
use zest_model::text::shape_of;
use zest_words::nearest;

/// Patterns over paths with the texts they are read from.
type Patterns = Vec<(PathPattern, At<String>)>;

/// Clouds and applications
impl Resolver<'_> {
    /// Reports descriptions of clouds and applications that are of none.
    pub(super) fn are_services(&mut self, entries: &Entries) {
        for service in &entries.services {
            let Some(id) = look_up(&self.names.systems, "system", &service.system.value, service.system.place, self.findings) else {
                continue;
            };
            let system = &entries.systems[id.index()];
            if !matches!(system.kind(), Kind::CLOUD | Kind::APPLICATION) {
                self.findings.push(
                    Finding::new(
                        Code::ServiceWithoutSystem,
                        format!("`{}` is neither a cloud nor an application", visible(&system.id.value)),
                    )
                    .at(service.system.place, "described here as one")
                    .also(system.id.place, "declared here")
                    .help("give the system the kind \"cloud\" or \"application\", or write the id of one that has it"),
                );
            }
        }
    }

    /// Reads what a cloud or an application holds.
    pub(super) fn service(&mut self, system: &entry::System, entries: &Entries) -> ServiceBase {
        let parts: Vec<_> = entries.services.iter().filter(|s| s.system.value == system.id.value).map(|s| &**s).collect();
        let mut links = ServiceBase { is_application: system.kind() == Kind::APPLICATION, ..ServiceBase::default() };
        self.operations(&parts, entries, &mut links);
        self.resources(&parts, &mut links);
        self.opened(&parts, entries);
        let (mut sets, mut grants) = (Sets::default(), Vec::new());
        for part in &parts {
            links.addresses.extend(part.addresses.iter().map(|(a, b)| (a.value.clone(), b.value.clone())));
            links.covers.extend(part.proofs_cover.iter().cloned());
            links.session_attributes.extend(part.session_attributes.iter().map(|a| a.value.clone()));
            links.identity_checks = part.identity_checks.clone().or(links.identity_checks);
            for (proof, names) in &part.obtains {
                let operations = self.named(names, &[], &links);
                links.obtains.push((proof.clone(), operations));
            }
            for grant in &part.grants {
                let holders = self.holders(&grant.to).into_iter().map(|(h, _)| h).collect();
                if grant.to.is_empty() {
                    self.incomplete(grant, "to whom", "add `to = [\"group:ID\"]`");
                }
                if grant.on.is_empty() {
                    self.incomplete(grant, "on what", "add `on = \"PATH\"`, or `on = \"**\"` for everything");
                }
                if let Some(grant) = self.grant(grant, holders, &links, &mut sets) {
                    self.paths_are_declared(&grant.1, &links);
                    grants.push(grant.0);
                }
            }
            for ceiling in &part.ceilings {
                if let Some(within) = &ceiling.within {
                    self.container(within, &links);
                }
                links.ceilings.push(CeilingLinks {
                    operations: self.named(&ceiling.allow, &ceiling.except, &links),
                    of: self.holders(&ceiling.of).into_iter().map(|(h, _)| h).collect(),
                    within: ceiling.within.as_ref().map(|w| w.value.clone()),
                    when: self.conditions(&ceiling.when, None, None),
                    place: ceiling.place,
                });
            }
            for rule in &part.acting {
                let Some((Party::User(target), _)) = self.party(&rule.target) else {
                    if rule.target.value.starts_with("group:") {
                        self.bad_value(&rule.target, "a user", "one acts as a person or a program: write \"user:ID\"");
                    }
                    continue;
                };
                let by = self.parties(&rule.by);
                if let Some(&(_, place)) = by.iter().find(|(p, _)| *p == Party::User(target)) {
                    self.findings.push(
                        Finding::new(Code::BadReference, "nobody needs a rule to act as himself")
                            .at(place, "the same user")
                            .help("take it out"),
                    );
                }
                links.acting.push(ActingLinks { target, by, when: self.conditions(&rule.when, None, None), place: rule.place });
            }
        }
        links.own = Grants::of(grants);
        links
    }

    fn operations(&mut self, parts: &[&entry::Service], entries: &Entries, links: &mut ServiceBase) {
        let mut list: Vec<OperationLinks> = Vec::new();
        let mut tags: Vec<(String, usize)> = Vec::new();
        let documents: Index<usize> = entries.interfaces.iter().enumerate().map(|(i, d)| (d.name.as_str().into(), i)).collect();
        for part in parts {
            if let Some(name) = &part.interface
                && let Some(index) = look_up(&documents, "interface", &name.value, name.place, self.findings)
            {
                for described in &entries.interfaces[index].operations {
                    tags.extend(described.tags.iter().map(|t| (format!("tag:{t}"), list.len())));
                    list.push(OperationLinks {
                        name: described.name.clone(),
                        reads: described.reads(),
                        entry: None,
                        call: Some((described.method.clone(), described.path.clone())),
                        place: Some(described.place),
                    });
                }
            }
            for operation in &part.operations {
                let reads = operation.reads.as_ref().is_some_and(|r| r.value);
                list.push(OperationLinks {
                    name: operation.name.value.clone(),
                    reads,
                    entry: None,
                    call: None,
                    place: Some(operation.name.place),
                });
            }
            for object_type in &part.types {
                for right in &object_type.rights {
                    if !list.iter().any(|o| o.name == right.value) {
                        let reads = object_type.looks.iter().any(|l| l.value == right.value);
                        list.push(OperationLinks { name: right.value.clone(), reads, entry: None, call: None, place: Some(right.place) });
                    }
                }
            }
        }
        // Within one document this was found before; a cloud may have several.
        let mut calls: FxHashMap<(&str, String), &OperationLinks> = FxHashMap::default();
        for operation in &list {
            if let Some((method, path)) = &operation.call
                && let Some(first) = calls.insert((method, shape_of(path)), operation)
                && let (Some(place), Some(before)) = (operation.place, first.place)
            {
                let message = format!("`{}` and `{}` are the same call", visible(&first.name), visible(&operation.name));
                let finding = Finding::new(Code::BadInterface, message).at(place, "again here").also(before, "first here");
                self.findings.push(finding.help("describe each call in one interface only"));
            }
        }
        drop(calls);
        let own = list.len();
        for name in ADMINISTRATIVE.into_iter().chain([ASSUME, CHANGE_CREDENTIAL]) {
            let entry = about(name);
            list.push(OperationLinks { name: name.to_owned(), reads: false, entry, call: None, place: None });
        }
        for (i, operation) in list.iter().enumerate() {
            // `allow = ["write"]` must not be a right of that name to one reader and all that changes to another.
            if OF_GROUPS.contains(&operation.name.as_str()) || operation.name.starts_with("tag:") {
                self.findings.push(
                    Finding::new(Code::DuplicateId, format!("`{}` cannot be an operation", visible(&operation.name)))
                        .at(operation.place.unwrap_or(parts[0].system.place), "this names a group of operations")
                        .help("`all`, `read`, `write`, `administer` and `tag:NAME` are groups of every system: give it another name"),
                );
            }
            if let Some(earlier) = links.operation_ids.insert(operation.name.as_str().into(), i) {
                let place = operation.place.or(list[earlier].place).unwrap_or(parts[0].system.place);
                self.findings.push(
                    Finding::new(Code::DuplicateId, format!("the operation `{}` is declared twice", visible(&operation.name)))
                        .at(place, "this name is taken")
                        .help("operations of a system have names of their own; `assume` and those of `administer` are there already"),
                );
            }
        }
        let mut put = |name: &str, operation: usize| {
            links.groups.entry(name.to_owned()).or_insert_with(|| FixedBitSet::with_capacity(list.len())).insert(operation);
        };
        for (i, operation) in list.iter().enumerate().take(own) {
            put("all", i);
            put(if operation.reads { "read" } else { "write" }, i);
        }
        (own..own + ADMINISTRATIVE.len()).for_each(|i| put("administer", i));
        for (tag, operation) in tags {
            put(&tag, operation);
        }
        for word in OF_GROUPS {
            links.groups.entry(word.to_owned()).or_default();
        }
        links.operations = list;
        for (name, members) in parts.iter().flat_map(|p| &p.operation_groups) {
            let operations = self.named(members, &[], links);
            if links.groups.contains_key(&name.value) || links.operation_ids.contains_key(name.value.as_str()) {
                self.findings.push(
                    Finding::new(
                        Code::DuplicateId,
                        format!("`{}` names an operation or a group of operations already", visible(&name.value)),
                    )
                    .at(name.place, "this name is taken")
                    .help("give the group another name"),
                );
            } else {
                links.groups.insert(name.value.clone(), operations);
            }
        }
    }

    fn resources(&mut self, parts: &[&entry::Service], links: &mut ServiceBase) {
        for object_type in parts.iter().flat_map(|p| &p.types) {
            let set = |list: &[At<String>]| {
                list.iter().filter_map(|r| links.operation_ids.get(r.value.as_str()).copied()).collect::<FixedBitSet>()
            };
            let rights = set(&object_type.rights);
            let known: Index<usize> = rights.ones().map(|r| (links.operations[r].name.as_str().into(), r)).collect();
            for right in &object_type.looks {
                look_up(&known, "right of the type", &right.value, right.place, self.findings);
            }
            let mut right_duties = FxHashMap::default();
            for (right, after) in &object_type.rights_after {
                let id = look_up(&known, "right of the type", &right.value, right.place, self.findings);
                if let (Some(id), Some(duties)) = (id, self.service_duties(after)) {
                    right_duties.insert(id, duties);
                }
            }
            let second = object_type.second_person_right.as_ref();
            let second_person_right = second.and_then(|r| look_up(&known, "right of the type", &r.value, r.place, self.findings));
            let looks = set(&object_type.looks);
            let duties = self.service_duties(&object_type.after);
            let found = TypeLinks { rights, looks, duties, right_duties, second_person_right, place: object_type.name.place };
            if let Some(earlier) = links.types.insert(object_type.name.value.clone(), found) {
                self.declared_twice("type", &object_type.name, earlier.place);
            }
        }
        for resource in parts.iter().flat_map(|p| &p.resources) {
            let path = &resource.path.value;
            if let Some(why) = bad_path(path) {
                self.bad_path(&resource.path, why);
                continue;
            }
            if links.is_application {
                let (head, rest) = path.split_once('/').unwrap_or((path, ""));
                if rest.is_empty() || rest.contains('/') {
                    self.bad_path(&resource.path, "an object is written as TYPE/NAME");
                } else if !links.types.contains_key(head) && !matches!(head, "secret" | "job") {
                    let near =
                        nearest(head, links.types.keys().map(String::as_str)).map_or(String::new(), |n| format!("; did you mean `{n}`?"));
                    self.bad_path(&resource.path, &format!("the application has no type `{}`{near}", visible(head)));
                }
            }
            let duties = self.service_duties(&resource.after);
            links.has_duties |= duties.is_some();
            let found = ResourceLinks { attributes: resource.attributes.clone(), duties, place: resource.path.place };
            if let Some(earlier) = links.resources.insert(path.as_str().into(), found) {
                self.declared_twice("path", &resource.path, earlier.place);
            }
        }
    }

    /// Looks whose credentials secrets are.
    fn opened(&mut self, parts: &[&entry::Service], entries: &Entries) {
        for resource in parts.iter().flat_map(|part| &part.resources).filter(|resource| !resource.opens.is_empty()) {
            if !resource.path.value.starts_with("secret/") {
                let finding = Finding::new(Code::BadValue, format!("`{}` is no secret, and opens nothing", visible(&resource.path.value)));
                self.findings.push(finding.at(resource.path.place, "this path").help("secrets are written `secret/NAME`"));
            }
            for text in &resource.opens {
                match text.value.split_once(':') {
                    Some(("user", id)) => drop(look_up(&self.names.users, "user", id, text.place, self.findings)),
                    Some(("account", account)) if account.contains('/') => {
                        let (system, login) = account.split_once('/').unwrap_or_default();
                        if look_up(&self.names.systems, "system", system, text.place, self.findings).is_some() {
                            let logins = logins(entries, system).map(|login| (login.into(), ())).collect();
                            look_up(&logins, "account", login, text.place, self.findings);
                        }
                    }
                    _ => {
                        let finding =
                            Finding::new(Code::BadReference, format!("`{}` does not name whose credential it is", visible(&text.value)));
                        self.findings.push(finding.at(text.place, "expected `user:ID` or `account:SYSTEM/LOGIN`"));
                    }
                }
            }
        }
    }

    fn declared_twice(&mut self, noun: &str, name: &At<String>, first: zest_model::source::Place) {
        self.findings.push(
            Finding::new(Code::DuplicateId, format!("the {noun} `{}` is declared twice", visible(&name.value)))
                .at(name.place, "declared again here")
                .also(first, "first declared here")
                .help("merge the two entries"),
        );
    }

    fn bad_path(&mut self, path: &At<String>, why: &str) {
        self.findings.push(
            Finding::new(Code::BadPath, format!("the path `{}` cannot be used: {why}", visible(&path.value)))
                .at(path.place, "this path")
                .help("write it like \"lanternsound/production/tickets\", or for an object of an application like \"ramp/selkie-1\""),
        );
    }

    /// Reports a container that is neither declared nor below a declared one.
    fn container(&mut self, path: &At<String>, links: &ServiceBase) {
        if let Some(why) = bad_path(&path.value) {
            self.bad_path(path, why);
        } else if !is_there(&path.value, links) {
            let near =
                nearest(&path.value, links.resources.keys().map(|k| &**k)).map_or(String::new(), |n| format!("; did you mean `{n}`?"));
            self.bad_path(path, &format!("nothing of that name is declared{near}"));
        }
    }

    /// Reports patterns of a grant that name what is not declared.
    fn paths_are_declared(&mut self, written: &[(PathPattern, At<String>)], links: &ServiceBase) {
        for (pattern, text) in written {
            let Some(head) = pattern.head() else { continue };
            let is_administrative = matches!(head, "user" | "group" | "role" | "command-set");
            if let Some(path) = pattern.literal().filter(|_| !is_administrative).map(str::to_owned) {
                if links.is_application && !path.contains('/') && !pattern.covers(&format!("{path}/x")) {
                    self.bad_path(text, "an object is written as TYPE/NAME; all of a type as `TYPE/*`");
                } else if !(links.is_application && links.types.contains_key(&path)) {
                    self.container(&At::new(path, text.place), links);
                }
            } else if !(is_administrative
                || is_there(head, links)
                || links.types.contains_key(head)
                || links.resources.keys().any(|k| k.split('/').next() == Some(head)))
            {
                self.bad_path(text, "nothing declared begins like this");
            }
        }
    }

    fn incomplete(&mut self, grant: &entry::Grant, what: &str, help: &str) {
        self.findings.push(Finding::new(Code::IncompleteGrant, format!("the grant does not say {what}")).at(grant.place, "").help(help));
    }

    /// Finds the operations that names stand for; what is not known is reported.
    fn named(&mut self, names: &[At<String>], except: &[At<String>], links: &ServiceBase) -> FixedBitSet {
        let mut set = |list: &[At<String>]| {
            let mut operations = FixedBitSet::with_capacity(links.operations.len());
            for name in list {
                if !put_named(&name.value, links, &mut operations) {
                    self.unknown_operation(
                        name,
                        &mut links.groups.keys().map(String::as_str).chain(links.operation_ids.keys().map(|k| &**k)),
                    );
                }
            }
            operations
        };
        let mut operations = set(names);
        if !except.is_empty() {
            operations.difference_with(&set(except));
        }
        operations
    }

    fn unknown_operation(&mut self, name: &At<String>, known: &mut dyn Iterator<Item = &str>) {
        let near = nearest(&name.value, known)
            .map_or_else(|| "no operation, and no group of operations".to_owned(), |n| format!("did you mean `{n}`?"));
        self.findings.push(
            Finding::new(Code::UnknownOperation, format!("`{}` is no operation here", visible(&name.value)))
                .at(name.place, near)
                .help("operations come from the interface, from `operations` or `types`; groups from `operation-groups`, `tag:NAME`, `read`, `write`, `administer`, `all`"),
        );
    }

    /// Follows references to users, groups and roles.
    fn service_duties(&mut self, after: &Obligations) -> Option<Duties> {
        if after.is_empty() {
            return None;
        }
        let (anyone, named): (Vec<_>, Vec<_>) = after.second_person.iter().cloned().partition(|p| p.value == "anyone");
        Some(Duties {
            confirm: after.confirm.as_ref().filter(|c| c.value).map(|c| c.place),
            prove_again: after.prove_again.clone(),
            second_person: self.parties(&named),
            anyone: anyone.first().map(|a| a.place),
        })
    }

    /// Reads one grant for one system; also returns its patterns over paths as they are written.
    fn grant(
        &mut self,
        written: &entry::Grant,
        holders: Vec<Holder>,
        links: &ServiceBase,
        sets: &mut Sets,
    ) -> Option<(GrantLinks, Patterns)> {
        let names = match (written.allow.first(), written.deny.first()) {
            (Some(_), None) => &written.allow,
            (None, Some(deny)) => {
                if links.is_application {
                    self.findings.push(
                        Finding::new(Code::DenyNotKnown, "applications know no deny: rights are added up, and nothing is given by default")
                            .at(deny.place, "this would be ignored")
                            .help("leave the right out of the grants that give it"),
                    );
                }
                &written.deny
            }
            (Some(_), Some(deny)) => {
                self.findings.push(
                    Finding::new(Code::IncompleteGrant, "the grant both allows and denies")
                        .at(deny.place, "beside `allow`")
                        .help("write two grants, one with `allow` and one with `deny`"),
                );
                return None;
            }
            (None, None) => {
                self.incomplete(written, "whether it allows or denies", "write one of `allow` and `deny`, with at least one operation");
                return None;
            }
        };
        let mut operations = self.named(names, &written.except, links);
        // A deny of everything denies everything but the one thing that nobody can be kept from; an allow of everything
        // gives neither the administration of the ledger nor other identities.
        if !written.deny.is_empty() && names.iter().any(|n| n.value == "all") {
            let except = self.named(&written.except, &[], links);
            let every = links.operations.iter().enumerate().filter(|(i, o)| o.name != CHANGE_CREDENTIAL && !except.contains(*i));
            operations.extend(every.map(|(i, _)| i));
        }
        let mut patterns = |list: &[At<String>]| {
            let mut found = Vec::with_capacity(list.len());
            for text in list {
                match PathPattern::parse(&text.value, !links.is_application) {
                    Ok(pattern) => found.push((pattern, text.clone())),
                    Err(why) => self.bad_path(text, why),
                }
            }
            found
        };
        let (on, except_on) = (patterns(&written.on), patterns(&written.except_on));
        let lifted_by = (!written.lifted_by.is_empty()).then(|| self.conditions(&written.lifted_by, None, None));
        let plain = |list: &[(PathPattern, At<String>)]| list.iter().map(|(p, _)| p.clone()).collect();
        let terms = Terms {
            on: plain(&on),
            except_on: plain(&except_on),
            holders,
            when: self.conditions(&written.when, written.from.as_ref(), written.until.as_ref()),
            lifted_by,
            duties: self.service_duties(&written.after),
            place: written.place,
            shown: shown(names, &written.except),
        };
        Some((GrantLinks::new(written.allow.is_empty(), sets.one(operations), terms), on.into_iter().chain(except_on).collect()))
    }

    /// Adds what changes say that only grant something; nothing where more is changed.
    pub(super) fn more_grants(&mut self, parts: &[&entry::Service], before: &ServiceLinks, changes: &[Change]) -> Option<ServiceLinks> {
        if !changes.iter().all(|change| matches!(change, Change::Allow { .. })) {
            return None;
        }
        let mut links: Option<ServiceLinks> = None;
        for grant in parts[parts.len().checked_sub(changes.len())?..].iter().flat_map(|part| &part.grants) {
            let known = links.as_ref().unwrap_or(before);
            let holders = self.holders(&grant.to).into_iter().map(|(h, _)| h).collect();
            let (grant, paths) = self.grant(grant, holders, known, &mut Sets::default())?;
            self.paths_are_declared(&paths, known);
            links = Some(known.with(grant));
        }
        links
    }

    /// Reports grants of roles that name somebody, or an operation that no system knows.
    pub(super) fn role_grants_are_known(&mut self, entries: &Entries, services: &[&ServiceLinks]) {
        let bases: Vec<&ServiceBase> = services.iter().map(|links| &***links).collect();
        let distinct: Vec<&ServiceBase> = alike(&bases).into_iter().map(|group| bases[group[0]]).collect();
        for grant in entries.roles.iter().flat_map(|role| &role.grants) {
            if let Some(to) = grant.to.first() {
                self.findings.push(
                    Finding::new(Code::IncompleteGrant, "a role's own grant names nobody: whoever holds the role gets it")
                        .at(to.place, "takes no effect here")
                        .help("take `to` out, or write the grant under the cloud or application"),
                );
            }
            for name in grant.allow.iter().chain(&grant.deny).chain(&grant.except) {
                if !distinct.iter().any(|s| is_named(&name.value, s)) {
                    let of = |s: &&'_ ServiceBase| {
                        s.groups.keys().cloned().chain(s.operation_ids.keys().map(|k| k.to_string())).collect::<Vec<_>>()
                    };
                    let known: Vec<String> = distinct.iter().flat_map(of).collect();
                    self.unknown_operation(name, &mut known.iter().map(String::as_str));
                }
            }
        }
    }

    /// Adds the grants of roles to clouds and applications; what a system does not know, a role cannot give there. Systems with the
    /// same operations share them.
    pub(super) fn role_grants(&mut self, entries: &Entries, services: &mut [&mut ServiceBase]) {
        let groups = alike(&services.iter().map(|links| &**links).collect::<Vec<_>>());
        let mut found: Vec<(Sets, Vec<GrantLinks>)> = groups.iter().map(|_| Default::default()).collect();
        for (i, role) in entries.roles.iter().enumerate() {
            for grant in &role.grants {
                let before = self.findings.len();
                let mut is_reported = false;
                for (group, (sets, grants)) in groups.iter().zip(&mut found) {
                    let links = &*services[group[0]];
                    let is_known = |name: &At<String>| is_named(&name.value, links);
                    let holders = vec![Holder::Role(RoleId::new(i))];
                    let start = self.findings.len();
                    let new = if grant.allow.iter().chain(&grant.deny).chain(&grant.except).all(is_known) {
                        self.grant(grant, holders, links, sets)
                    } else {
                        let mut here = grant.clone();
                        here.allow.retain(is_known);
                        here.deny.retain(is_known);
                        here.except.retain(is_known);
                        let said = !(grant.allow.is_empty() && grant.deny.is_empty());
                        if said && here.allow.is_empty() && here.deny.is_empty() {
                            continue;
                        }
                        self.grant(&here, holders, links, sets)
                    };
                    grants.extend(new.map(|(new, _)| new));
                    if is_reported {
                        self.findings.truncate(start);
                    }
                    is_reported |= self.findings.len() > before;
                }
            }
        }
        for (group, (_, grants)) in groups.iter().zip(found) {
            let grants = Arc::new(Grants::of(grants));
            group.iter().for_each(|&service| services[service].of_roles = Arc::clone(&grants));
        }
    }
}

/// Returns the systems, by their places in a list, that cannot be told apart by what a role may say of them.
fn alike(services: &[&ServiceBase]) -> Vec<Vec<usize>> {
    let is_same = |one: &ServiceBase, other: &ServiceBase| {
        one.is_application == other.is_application
            && one.operations.len() == other.operations.len()
            && one.groups == other.groups
            && one.operations.iter().zip(&other.operations).all(|(one, other)| one.name == other.name)
    };
    let mut groups: Vec<Vec<usize>> = Vec::new();
    for (i, links) in services.iter().enumerate() {
        match groups.iter_mut().find(|group| is_same(services[group[0]], links)) {
            Some(group) => group.push(i),
            None => groups.push(vec![i]),
        }
    }
    groups
}

/// Returns the accounts of a system as written.
fn logins<'e>(entries: &'e Entries, system: &'e str) -> impl Iterator<Item = &'e str> {
    let devices = entries.systems.iter().filter(move |entry| entry.id.value == system).flat_map(|entry| &entry.accounts);
    let hosts = entries.hosts.iter().filter(move |host| host.system.value == system).flat_map(|host| &host.accounts);
    let databases =
        entries.databases.iter().filter(move |database| database.system.value == system).flat_map(|database| &database.accounts);
    let of_servers = databases.map(|account| account.name.value.as_str());
    devices.map(|account| account.login.value.as_str()).chain(hosts.map(|account| account.login.value.as_str())).chain(of_servers)
}

/// Returns of what entry of the ledger an operation is, if it is about one.
fn about(operation: &str) -> Option<&'static str> {
    match operation {
        "reset-credential" | CHANGE_CREDENTIAL => Some("user"),
        "change-members" => Some("group"),
        "edit-role" | ASSUME => Some("role"),
        "edit-command-set" => Some("command-set"),
        "read-secret" => Some("secret"),
        "edit-job" => Some("job"),
        _ => None,
    }
}

/// Writes a list, and what is left out of it.
fn shown(list: &[At<String>], except: &[At<String>]) -> String {
    let join = |list: &[At<String>]| list.iter().map(|n| visible(&n.value)).collect::<Vec<_>>().join(", ");
    if except.is_empty() { join(list) } else { format!("{} but {}", join(list), join(except)) }
}

/// The groups of operations that every system has.
const OF_GROUPS: [&str; 4] = ["all", "read", "write", "administer"];

/// Returns whether a name stands for operations: a group, an operation, or several by a `*` in it.
fn is_named(name: &str, links: &ServiceBase) -> bool {
    links.groups.contains_key(name) || links.operation_ids.contains_key(name) || several(name, links).next().is_some()
}

/// Adds the operations that a name stands for; false if there are none.
fn put_named(name: &str, links: &ServiceBase, into: &mut FixedBitSet) -> bool {
    if let Some(group) = links.groups.get(name) {
        into.union_with(group);
        return true;
    }
    if let Some(&operation) = links.operation_ids.get(name) {
        into.insert(operation);
        return true;
    }
    let mut found = several(name, links).peekable();
    let is_found = found.peek().is_some();
    into.extend(found);
    is_found
}

/// The operations that a name with one `*` stands for.
fn several<'l>(name: &str, links: &'l ServiceBase) -> impl Iterator<Item = usize> + use<'l> {
    let affix = name.split_once('*').filter(|(start, end)| !start.is_empty() && !end.contains('*'));
    let pattern = affix.map(|(start, end)| WordPattern::Slot(Slot::Affix(start.to_owned(), end.to_owned())));
    let all = pattern.and_then(|pattern| Some((pattern, links.groups.get("all")?)));
    all.into_iter().flat_map(move |(pattern, own)| own.ones().filter(move |&o| pattern.matches(&links.operations[o].name)))
}

/// Returns whether a path is declared; below a container of a cloud there may be more than is declared.
pub(crate) fn is_there(path: &str, links: &ServiceBase) -> bool {
    if links.resources.contains_key(path) {
        return true;
    }
    let is_declared = |at: usize| links.resources.contains_key(&path[..at]);
    !links.is_application && path.bytes().enumerate().any(|(at, byte)| byte == b'/' && is_declared(at))
}

//! From what a ledger writes about a PostgreSQL server to its state, with findings for what the server would refuse.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use jiff::Timestamp;
use rustc_hash::FxHashMap;

use super::acl::{Acl, AclRefusal, Grantee};
use super::object::ObjectName;
use super::privilege::{COLUMN_PRIVILEGES, Class, Privilege, Privileges};
use super::state::{Column, DefaultKey, GrantChange, Object, PREDEFINED, Policy, Role, State, owns_the_rest};
use super::statement::makes;
use crate::database::circles::closing;
use crate::database::name::parts;
use crate::database::not_heard;
use crate::database::not_modelled::notes;
use zest_model::entry::{Database, DatabaseGrant, DatabaseObject, DatabasePolicy, DatabaseRole, PolicyFor, RunsAs, System};
use zest_model::finding::{Code, Finding};
use zest_model::source::{At, Place, visible};
use zest_words::nearest;

/// Where things are written.
#[derive(Clone, Debug, Default)]
pub(crate) struct Places {
    pub(crate) roles: FxHashMap<String, Place>,
    pub(crate) objects: FxHashMap<ObjectName, Place>,
    pub(crate) memberships: FxHashMap<(String, String), Place>,
}

/// A state as a ledger writes it.
#[derive(Clone, Debug)]
pub(crate) struct Written {
    pub(crate) state: Arc<State>,
    pub(crate) places: Arc<Places>,
    /// Grants that end; whether they hold depends on the moment.
    pub(crate) timed: Vec<At<Timestamp>>,
    /// What revokes took, in order.
    pub(crate) taken: Vec<Taken>,
    superuser: String,
}

/// What a revoke took from somebody, on an object or a column; what rested on it and went along as well.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Taken {
    pub(crate) object: ObjectName,
    pub(crate) column: Option<String>,
    pub(crate) privileges: Privileges,
    pub(crate) grantee: Grantee,
    pub(crate) place: Place,
}

/// Compares what is held on an object before and after a revoke.
fn lost(object: &ObjectName, before: &Object, after: &Object, place: Place) -> Vec<Taken> {
    let mut all = Vec::new();
    let mut compare = |column: Option<&String>, before: &Acl, after: &Acl| {
        for (grantee, grantor, held) in before.iter() {
            let left = after.iter().find(|(other, by, _)| *other == grantee && *by == grantor).map(|(_, _, held)| held.privileges);
            let privileges = held.privileges.without(left.unwrap_or_default());
            if !privileges.is_empty() {
                all.push(Taken { object: object.clone(), column: column.cloned(), privileges, grantee: grantee.clone(), place });
            }
        }
    };
    compare(None, &before.acl, &after.acl);
    for (before, after) in before.columns.iter().zip(&after.columns) {
        compare(Some(&before.name), &before.acl, &after.acl);
    }
    all
}

/// Carries out one more grant, behind all others.
pub(super) fn one_more(written: &mut Written, grant: &DatabaseGrant, findings: &mut Vec<Finding>) {
    let Written { state, places, timed, taken, superuser } = written;
    let mut reader = Reader {
        state: (**state).clone(),
        places: Places::default(),
        timed: std::mem::take(timed),
        taken: std::mem::take(taken),
        superuser: std::mem::take(superuser),
        at: None,
        findings,
    };
    reader.grant(grant);
    let Reader { state, timed, taken, superuser, .. } = reader;
    *written = Written { state: Arc::new(state), places: Arc::clone(places), timed, taken, superuser };
}

/// Adds the memberships of one role, where nothing else depends on them; returns whether that is so.
pub(super) fn join(written: &mut Written, parts: &[Arc<Database>], entry: &DatabaseRole, findings: &mut Vec<Finding>) -> bool {
    let mut of = entry.member_of.iter().chain(&entry.administers);
    // Who gives something in another's name does so by memberships; and what leads back is reported where all are read.
    if parts.iter().flat_map(|p| &p.grants).any(|grant| grant.grantor.is_some())
        || of.any(|role| written.state.roles_of(&role.value, false).contains(&entry.name.value))
    {
        return false;
    }
    let Written { state, places, timed, taken, superuser } = written;
    let mut reader = Reader {
        state: (**state).clone(),
        places: (**places).clone(),
        timed: std::mem::take(timed),
        taken: std::mem::take(taken),
        superuser: std::mem::take(superuser),
        at: None,
        findings,
    };
    reader.memberships(entry);
    let Reader { state, places, timed, taken, superuser, .. } = reader;
    *written = Written { state: Arc::new(state), places: Arc::new(places), timed, taken, superuser };
    true
}

/// Puts the parts of a ledger together. Grants that end are in force only if `at` is known and before their end.
pub(crate) fn written(system: &System, parts: &[Arc<Database>], at: Option<Timestamp>, findings: &mut Vec<Finding>) -> Written {
    let name = system.database.as_ref().map_or(system.id.value.as_str(), |d| d.value.as_str());
    let entries = parts.iter().flat_map(|p| p.accounts.iter().map(|r| (r, true)).chain(p.roles.iter().map(|r| (r, false))));
    let superusers = entries.filter(|(r, _)| r.may.iter().any(|s| s.value == "superuser"));
    let superuser = owns_the_rest(superusers.map(|(r, login)| (r.name.value.as_str(), login)));
    let state = State::fresh(name, superuser);
    let mut reader =
        Reader { state, places: Places::default(), timed: Vec::new(), taken: Vec::new(), superuser: superuser.to_owned(), at, findings };
    for part in parts {
        part.accounts.iter().for_each(|r| reader.role(r, true));
        part.roles.iter().for_each(|r| reader.role(r, false));
    }
    for part in parts {
        part.accounts.iter().chain(&part.roles).for_each(|r| reader.memberships(r));
    }
    reader.circles(parts);
    for owner in parts.iter().filter_map(|p| p.owner.as_ref()) {
        if reader.knows(owner) {
            reader.state.set_owner(&ObjectName::database(), &owner.value);
            reader.places.objects.insert(ObjectName::database(), owner.place);
        }
    }
    // What lies in a schema may be written before it.
    let is_schema = |object: &&DatabaseObject| ObjectName::parse(&object.name.value).is_some_and(|name| name.class == Class::Schema);
    let (schemas, others): (Vec<_>, Vec<_>) = parts.iter().flat_map(|p| &p.objects).partition(is_schema);
    schemas.into_iter().chain(others).for_each(|object| reader.object(object));
    for grant in parts.iter().flat_map(|p| &p.grants) {
        reader.grant(grant);
    }
    for grant in parts.iter().flat_map(|p| &p.default_grants) {
        reader.default_grant(grant);
    }
    for part in parts {
        let noted = notes(&part.not_modelled, reader.findings);
        reader.state.not_modelled.extend(noted);
        reader.settings(&part.settings);
        reader.state.settings.extend(part.settings.iter().map(|setting| setting.value.clone()));
    }
    let Reader { state, places, timed, taken, superuser, .. } = reader;
    Written { state: Arc::new(state), places: Arc::new(places), timed, taken, superuser }
}

struct Reader<'f> {
    state: State,
    places: Places,
    timed: Vec<At<Timestamp>>,
    taken: Vec<Taken>,
    superuser: String,
    at: Option<Timestamp>,
    findings: &'f mut Vec<Finding>,
}

/// The setting of a view that keeps the conditions of its callers away from rows it does not show.
const BARRIER: &str = "security_barrier=true";

impl Reader<'_> {
    fn role(&mut self, entry: &DatabaseRole, login: bool) {
        let name = &entry.name;
        if let Some(&first) = self.places.roles.get(&name.value) {
            self.findings.push(
                Finding::new(Code::DuplicateId, format!("the role `{}` is declared twice", visible(&name.value)))
                    .at(name.place, "declared again here")
                    .also(first, "first declared here")
                    .help("accounts and roles of one server share their names: merge the two, or rename one"),
            );
            return;
        }
        if name.value.starts_with("pg_") || name.value == "public" || name.value == "none" || name.value.len() > 63 {
            self.findings.push(
                Finding::new(Code::BadName, format!("PostgreSQL does not take `{}` as the name of a role", visible(&name.value)))
                    .at(name.place, "not possible")
                    .help("a role has at most 63 bytes, does not begin with `pg_`, and is not `public` or `none`"),
            );
            return;
        }
        not_heard::of_role(not_heard::POSTGRESQL, entry, self.findings);
        self.settings(&entry.settings);
        let may = |switch: &str| entry.may.iter().any(|s| s.value == switch);
        let role = Role {
            superuser: may("superuser"),
            inherit: entry.inherit.as_ref().is_none_or(|i| i.value),
            create_role: may("create-role"),
            create_database: may("create-database"),
            login,
            replication: may("replication"),
            bypass_row_security: may("bypass-row-security"),
            connection_limit: entry.connection_limit.as_ref().and_then(|l| i32::try_from(l.value).ok()).unwrap_or(-1),
            valid_until: entry.until.as_ref().map(|u| u.value),
            settings: entry.settings.iter().map(|s| s.value.clone()).collect(),
            not_modelled: notes(&entry.not_modelled, self.findings),
            ..Role::default()
        };
        self.state.roles.insert(name.value.clone(), role);
        self.places.roles.insert(name.value.clone(), name.place);
    }

    fn knows(&mut self, name: &At<String>) -> bool {
        if self.state.knows_role(&name.value) {
            return true;
        }
        let names = self.state.roles.keys().map(String::as_str).chain(PREDEFINED.iter().map(|(n, _)| *n));
        let label =
            nearest(&name.value, names).map_or("not declared for this server".to_owned(), |n| format!("did you mean `{}`?", visible(n)));
        self.findings.push(
            Finding::new(Code::UnknownReference, format!("no role or account of this server is named `{}`", visible(&name.value)))
                .at(name.place, label)
                .help("declare it below `accounts` or `roles` of the database, or write one that is declared"),
        );
        false
    }

    fn memberships(&mut self, entry: &DatabaseRole) {
        for (list, admin) in [(&entry.member_of, false), (&entry.administers, true)] {
            for role in list {
                if self.knows(role)
                    && let Some(member) = self.state.roles.get_mut(&entry.name.value)
                {
                    let option = member.member_of.entry(role.value.clone()).or_default();
                    *option |= admin;
                    self.places.memberships.insert((entry.name.value.clone(), role.value.clone()), role.place);
                }
            }
        }
    }

    /// The server refuses memberships that lead back to where they began.
    fn circles(&mut self, parts: &[Arc<Database>]) {
        let all = || parts.iter().flat_map(|p| p.accounts.iter().chain(&p.roles));
        let joins = all().flat_map(|e| e.member_of.iter().chain(&e.administers).map(|role| (e.name.value.as_str(), role.value.as_str())));
        let mut closing = closing(&joins.collect::<Vec<_>>()).into_iter();
        for entry in all() {
            for role in entry.member_of.iter().chain(&entry.administers) {
                if closing.next().unwrap_or_default() {
                    if let Some(member) = self.state.roles.get_mut(&entry.name.value) {
                        member.member_of.remove(&role.value);
                    }
                    self.findings.push(
                        Finding::new(
                            Code::RoleCycle,
                            format!("`{}` and `{}` are members of each other", visible(&entry.name.value), visible(&role.value)),
                        )
                        .at(role.place, "this closes the circle")
                        .help("take one of the memberships out"),
                    );
                }
            }
        }
    }

    fn bad_object(&mut self, text: &At<String>) {
        let words = Class::ALL.iter().map(|c| c.word()).collect::<Vec<_>>().join(", ");
        self.findings.push(
            Finding::new(Code::BadObject, format!("`{}` does not name an object", visible(&text.value)))
                .at(text.place, "expected a class and a name, such as `table fares.price`")
                .help(format!("classes: {words}; names with dots or blanks stand in double quotes; routines carry their argument types")),
        );
    }

    fn object(&mut self, entry: &DatabaseObject) {
        let Some(mut name) = ObjectName::parse(&entry.name.value) else { return self.bad_object(&entry.name) };
        name.arguments = name.arguments.as_deref().map(normal_types);
        if let Some(&first) = self.places.objects.get(&name) {
            self.findings.push(
                Finding::new(Code::DuplicateId, format!("`{}` is declared twice", visible(&entry.name.value)))
                    .at(entry.name.place, "declared again here")
                    .also(first, "first declared here"),
            );
            return;
        }
        if let Some(schema) = name.schema()
            && !self.state.objects.contains_key(&ObjectName::new(Class::Schema, &[schema]))
            && !self.declares_schema(schema)
        {
            self.findings.push(
                Finding::new(Code::UnknownReference, format!("no schema is named `{}`", visible(schema)))
                    .at(entry.name.place, "its schema is not declared")
                    .help(format!("declare it: [databases.….objects.\"schema {}\"]", visible(schema))),
            );
        }
        self.places.objects.insert(name.clone(), entry.name.place);
        not_heard::of_object(not_heard::POSTGRESQL, name.class.word(), entry, self.findings);
        for (what, list) in [("trigger", &entry.triggers), ("rule", &entry.rules)] {
            for (key, text) in list.iter().filter(|(key, text)| !makes(what, &key.value, &name, &text.value)) {
                let statement = format!("CREATE {} {} … {}", what.to_uppercase(), visible(&key.value), visible(&name.sql()));
                self.findings.push(
                    Finding::new(
                        Code::BadObject,
                        format!("the text of the {what} `{}` does not make it on {}", visible(&key.value), visible(&name.to_string())),
                    )
                    .at(text.place, "not a statement that makes it")
                    .help(format!("expected `{statement} …`, and behind it at most `; ALTER TABLE … DISABLE {} …`", what.to_uppercase())),
                );
            }
        }
        self.settings(&entry.settings);
        let text = |value: &Option<At<String>>| value.as_ref().map(|t| t.value.clone());
        let existing = self.state.objects.get(&name).map(|o| o.owner.clone());
        let owner = match &entry.owner {
            Some(owner) if self.knows(owner) => owner.value.clone(),
            _ => existing.clone().unwrap_or_else(|| self.superuser.clone()),
        };
        if existing.is_some() {
            // What a fresh server has keeps what it gives by itself.
            self.state.set_owner(&name, &owner);
            return;
        }
        let columns = entry.columns.iter().map(|(column, data_type)| Column {
            name: column.value.clone(),
            data_type: if matches!(name.class, Class::Table | Class::Type) { normal_type(&data_type.value) } else { String::new() },
            default: entry.defaults.iter().find(|(c, _)| c.value == column.value).map(|(_, d)| d.value.clone()),
            acl: Acl::default(),
        });
        let is_view = name.class == Class::View;
        for setting in entry.settings.iter().filter(|setting| is_view && setting.value != BARRIER) {
            self.findings.push(
                Finding::new(Code::BadObject, format!("`{}` is no setting of a view", visible(&setting.value)))
                    .at(setting.place, "not possible here")
                    .help(format!("a view takes `{BARRIER}` alone; as whom it runs stands under `runs-as`, and what new rows must meet at the end of its query")),
            );
        }
        let object = Object {
            acl: Acl::default_for(name.class, &owner),
            owner,
            columns: columns.collect(),
            query: text(&entry.query),
            runs_as_owner: entry.runs_as.as_ref().map_or(is_view, |r| r.value == RunsAs::Owner),
            row_security: entry.row_security.as_ref().is_some_and(|r| r.value),
            row_security_for_owner: entry.row_security_for_owner.as_ref().is_some_and(|r| r.value),
            policies: entry.policies.as_ref().map(|list| list.iter().filter_map(|policy| self.policy(policy)).collect()),
            triggers: by_name(&entry.triggers),
            rules: by_name(&entry.rules),
            checks: by_name(&entry.checks),
            domain_of: text(&entry.domain_of),
            parameters: text(&entry.parameters),
            settings: entry.settings.iter().map(|s| s.value.clone()).collect(),
            returns: text(&entry.returns).map(|r| normal_type(&r)).or_else(|| (name.class == Class::Function).then(|| "void".to_owned())),
            language: text(&entry.language).or_else(|| text(&entry.wrapper)).or_else(|| name.class.is_routine().then(|| "sql".to_owned())),
            body: text(&entry.body).or_else(|| name.class.is_routine().then(String::new)),
            values: entry.values.iter().map(|v| v.value.clone()).collect(),
            not_modelled: notes(&entry.not_modelled, self.findings),
        };
        self.state.objects.insert(name, object);
    }

    fn settings(&mut self, list: &[At<String>]) {
        for setting in list.iter().filter(|setting| !setting.value.contains('=')) {
            self.findings.push(
                Finding::new(Code::BadObject, format!("`{}` sets nothing", visible(&setting.value)))
                    .at(setting.place, "expected a name and a value")
                    .help("write it as `search_path=harbour`"),
            );
        }
    }

    fn policy(&mut self, entry: &DatabasePolicy) -> Option<(String, Policy)> {
        let DatabasePolicy { name, acts, to, using, check, restrictive, more: _ } = entry;
        let acts = acts.as_ref().map_or(PolicyFor::All, |acts| acts.value);
        let refused = match acts {
            PolicyFor::Select | PolicyFor::Delete if check.is_some() => {
                check.as_ref().map(|c| (c.place, "has no `check`: it is for rows that are there"))
            }
            PolicyFor::Insert if using.is_some() => {
                using.as_ref().map(|u| (u.place, "has no `using`: it is for new rows, which `check` is for"))
            }
            _ => None,
        };
        if let Some((place, why)) = refused {
            self.findings.push(
                Finding::new(Code::BadObject, format!("the policy `{}` for {} {why}", visible(&name.value), acts.word()))
                    .at(place, "not possible here")
                    .help("take it out, or write the condition under the other key"),
            );
            return None;
        }
        let is_everybody = to.iter().any(|role| role.value == "public");
        let to = to.iter().filter(|role| role.value == "public" || self.knows(role)).map(|role| role.value.clone());
        let policy = Policy {
            acts,
            to: if is_everybody { BTreeSet::new() } else { to.collect() },
            using: using.as_ref().map(|u| u.value.clone()),
            check: check.as_ref().map(|c| c.value.clone()),
            restrictive: restrictive.as_ref().is_some_and(|r| r.value),
        };
        Some((name.value.clone(), policy))
    }

    fn declares_schema(&self, schema: &str) -> bool {
        self.places.objects.keys().any(|n| n.class == Class::Schema && n.last() == schema)
    }

    /// Finds the objects that a grant names.
    fn objects(&mut self, text: &At<String>) -> Vec<ObjectName> {
        if let Some(rest) = text.value.trim().strip_prefix("all ") {
            let classes: &[(&str, &[Class])] = &[
                ("tables in ", &[Class::Table, Class::View, Class::MaterialisedView]),
                ("sequences in ", &[Class::Sequence]),
                ("functions in ", &[Class::Function]),
                ("procedures in ", &[Class::Procedure]),
                ("routines in ", &[Class::Function, Class::Procedure]),
            ];
            let found = classes.iter().find_map(|(word, list)| Some((list, rest.strip_prefix(word)?.trim())));
            let Some((list, schema)) = found else {
                self.bad_object(text);
                return Vec::new();
            };
            let Some((named, "")) = parts(schema) else {
                self.bad_object(text);
                return Vec::new();
            };
            let schema = ObjectName { class: Class::Schema, parts: named, arguments: None };
            if !self.state.objects.contains_key(&schema) {
                self.unknown_object(text, &schema);
                return Vec::new();
            }
            let is_in = |n: &&ObjectName| list.contains(&n.class) && n.schema() == Some(schema.last());
            return self.state.objects.keys().filter(is_in).cloned().collect();
        }
        let Some(mut name) = ObjectName::parse(&text.value) else {
            self.bad_object(text);
            return Vec::new();
        };
        name.arguments = name.arguments.as_deref().map(normal_types);
        if self.state.objects.contains_key(&name) {
            return vec![name];
        }
        self.unknown_object(text, &name);
        Vec::new()
    }

    fn unknown_object(&mut self, text: &At<String>, name: &ObjectName) {
        let names: Vec<String> = self.state.objects.keys().filter(|n| n.class == name.class).map(ToString::to_string).collect();
        let near = nearest(&name.to_string(), names.iter().map(String::as_str));
        let other = self.state.objects.keys().find(|n| n.parts == name.parts && n.class != name.class && n.class.has_columns());
        let label = match (near, other) {
            (_, Some(other)) => format!("it is declared as `{}`", visible(&other.to_string())),
            (Some(near), _) => format!("did you mean `{}`?", visible(near)),
            _ => "not declared for this server".to_owned(),
        };
        self.findings.push(
            Finding::new(Code::UnknownReference, format!("no object is named `{}`", visible(&name.to_string())))
                .at(text.place, label)
                .help("declare it below `objects` of the database: answers need the inventory"),
        );
    }

    fn privileges(&mut self, list: &[At<String>], class: Class, on_columns: bool) -> Privileges {
        let applicable = if on_columns { class.applicable().and(COLUMN_PRIVILEGES) } else { class.applicable() };
        let mut sum = Privileges::NONE;
        for word in list {
            match Privilege::from_word(&word.value) {
                _ if word.value == "all" => sum = sum.or(applicable),
                Some(privilege) if applicable.contains(privilege) => sum = sum.or(privilege.only()),
                known => {
                    let what = if on_columns { "columns".to_owned() } else { format!("a {}", class.word()) };
                    let label = if known.is_some() { "does not apply here" } else { "no such privilege" };
                    self.findings.push(
                        Finding::new(Code::PrivilegeMisapplied, format!("`{}` is not a privilege on {what}", visible(&word.value)))
                            .at(word.place, label)
                            .help(format!("on {what}: all, {applicable}")),
                    );
                }
            }
        }
        sum
    }

    /// Reads what all grants have in common; none if the entry gives or takes nothing.
    fn turn(&mut self, entry: &DatabaseGrant) -> Option<bool> {
        if let Some(deny) = entry.deny.first() {
            self.findings.push(
                Finding::new(Code::DenyNotKnown, "PostgreSQL has no deny: what is not granted is refused")
                    .at(deny.place, "not possible here")
                    .help("take the grant back that gives it (`revoke`), also from PUBLIC and from roles, or write it with `except`"),
            );
            return None;
        }
        match (entry.allow.is_empty(), entry.revoke.is_empty()) {
            (false, true) => Some(false),
            (true, false) => Some(true),
            (is_neither, _) => {
                let text =
                    if is_neither { "the grant neither allows nor revokes anything" } else { "the grant allows and revokes at once" };
                self.findings.push(
                    Finding::new(Code::MissingKey, text)
                        .at(entry.place, "")
                        .help("write `allow = […]` and `to`, or `revoke = […]` and `from`"),
                );
                None
            }
        }
    }

    fn grantees(&mut self, entry: &DatabaseGrant) -> Vec<(Grantee, Place)> {
        if entry.to.is_empty() {
            self.findings.push(
                Finding::new(Code::MissingKey, "the grant does not say whom it is for")
                    .at(entry.place, "")
                    .help("add `to = [\"ROLE\"]`, or `from` for a revoke"),
            );
        }
        let mut list = Vec::new();
        for name in &entry.to {
            if name.value == "public" {
                list.push((Grantee::Public, name.place));
            } else if self.knows(name) {
                list.push((Grantee::Role(name.value.clone()), name.place));
            }
        }
        list
    }

    fn holds_now(&mut self, entry: &DatabaseGrant) -> bool {
        let Some(until) = &entry.until else { return true };
        self.timed.push(until.clone());
        self.at.is_some_and(|at| at < until.value)
    }

    fn grant(&mut self, entry: &DatabaseGrant) {
        let Some(revoke) = self.turn(entry) else { return };
        let grantees = self.grantees(entry);
        let by = match &entry.grantor {
            Some(name) if self.knows(name) => Some(name.value.clone()),
            Some(_) => return,
            None => None,
        };
        if entry.on.is_empty() {
            self.findings.push(
                Finding::new(Code::MissingKey, "the grant does not say on what")
                    .at(entry.place, "")
                    .help("add `on = \"table fares.price\"`"),
            );
        }
        let holds = self.holds_now(entry);
        for text in &entry.on {
            for object in self.objects(text) {
                let on_columns = !entry.columns.is_empty();
                let words = if revoke { &entry.revoke } else { &entry.allow };
                let wanted = self.privileges(words, object.class, on_columns);
                let excepted = self.privileges(&entry.except, object.class, on_columns);
                if !self.has_columns(&object, &entry.columns) || !holds {
                    continue;
                }
                for (grantee, _) in &grantees {
                    let change = GrantChange {
                        object: object.clone(),
                        columns: entry.columns.iter().map(|c| c.value.clone()).collect(),
                        privileges: wanted.without(excepted),
                        grantee: grantee.clone(),
                        regrant: entry.regrant.as_ref().is_some_and(|r| r.value),
                        by: by.clone(),
                        revoke,
                        cascade: entry.cascade.as_ref().is_some_and(|c| c.value),
                        place: Some(entry.place),
                    };
                    self.carry_out(&change, entry.place);
                }
            }
        }
    }

    fn has_columns(&mut self, object: &ObjectName, columns: &[At<String>]) -> bool {
        let known: Vec<String> =
            self.state.objects.get(object).map(|o| o.columns.iter().map(|c| c.name.clone()).collect()).unwrap_or_default();
        let mut all = true;
        for column in columns.iter().filter(|c| !known.contains(&c.value)) {
            all = false;
            let near = nearest(&column.value, known.iter().map(String::as_str));
            self.findings.push(
                Finding::new(
                    Code::UnknownReference,
                    format!("`{}` has no column `{}`", visible(&object.to_string()), visible(&column.value)),
                )
                .at(column.place, near.map_or("not declared".to_owned(), |n| format!("did you mean `{}`?", visible(n))))
                .help("columns are declared with the object"),
            );
        }
        all
    }

    fn carry_out(&mut self, change: &GrantChange, place: Place) {
        let before = if change.revoke { self.state.objects.get(&change.object).cloned() } else { None };
        match self.state.change_resting_on_grantor(change) {
            Ok(()) => {
                if let Some((before, after)) = before.as_ref().zip(self.state.objects.get(&change.object)) {
                    self.taken.extend(lost(&change.object, before, after, place));
                }
                if change.revoke && self.state.objects.get(&change.object) == before.as_ref() {
                    let text = format!(
                        "the revoke takes nothing from {} on `{}`",
                        visible(&change.grantee.to_string()),
                        visible(&change.object.to_string())
                    );
                    let help = if change.columns.is_empty() {
                        "it was not granted, or by another grantor: name the grantor, or take the entry out"
                    } else {
                        "a privilege on the whole table is not narrowed by taking columns: revoke it on the table, then grant the columns that stay"
                    };
                    self.findings.push(Finding::new(Code::RevokeWithoutEffect, text).at(place, "no effect").help(help));
                }
            }
            Err(refusal) => {
                let who = change.by.clone().unwrap_or_else(|| "the owner".to_owned());
                let help = match refusal {
                    AclRefusal::NoGrantOption => {
                        "grant it to the grantor with `regrant = true` first, or leave `grantor` out: then the owner gives"
                    }
                    AclRefusal::Dependent(_) => "write `cascade = true`, or take back first what rests on it",
                    AclRefusal::Circular => "let the owner give the option instead",
                    AclRefusal::OptionToPublic => "leave `regrant` out, or grant to roles",
                };
                self.findings.push(
                    Finding::new(Code::GrantRefused, format!("the server would refuse this of {}: {refusal}", visible(&who)))
                        .at(place, "")
                        .help(help),
                );
            }
        }
    }

    fn default_grant(&mut self, entry: &DatabaseGrant) {
        let Some(revoke) = self.turn(entry) else { return };
        let grantees = self.grantees(entry);
        let Some(creator) = entry.creator.clone() else {
            self.findings.push(
                Finding::new(Code::MissingKey, "the default grant does not say whose new objects it is for")
                    .at(entry.place, "")
                    .help("add `creator = \"ROLE\"`: default privileges belong to the role that makes the object"),
            );
            return;
        };
        if !self.knows(&creator) {
            return;
        }
        for text in &entry.on {
            let words = text.value.trim().strip_prefix("new ").unwrap_or(text.value.trim());
            let (word, schema) = words.split_once(" in ").map_or((words, None), |(w, s)| (w, Some(s.trim())));
            let class = match word.trim() {
                "tables" => Class::Table,
                "sequences" => Class::Sequence,
                "routines" | "functions" => Class::Function,
                "types" => Class::Type,
                "schemas" => Class::Schema,
                _ => {
                    self.findings.push(
                        Finding::new(Code::BadObject, format!("`{}` does not name a class of new objects", visible(&text.value)))
                            .at(text.place, "")
                            .help("write \"new tables\", \"new sequences in SCHEMA\", \"new routines\", \"new types\" or \"new schemas\""),
                    );
                    continue;
                }
            };
            let schema = schema.and_then(parts).and_then(|(p, _)| p.into_iter().next());
            let words = if revoke { &entry.revoke } else { &entry.allow };
            let wanted = self.privileges(words, class, false);
            let excepted = self.privileges(&entry.except, class, false);
            for (grantee, _) in &grantees {
                let key = DefaultKey { creator: creator.value.clone(), schema: schema.clone(), class };
                let regrant = entry.regrant.as_ref().is_some_and(|r| r.value);
                if let Err(refusal) = self.state.change_default(key, wanted.without(excepted), grantee, regrant, revoke, Some(entry.place))
                {
                    self.findings
                        .push(Finding::new(Code::GrantRefused, format!("the server would refuse this: {refusal}")).at(entry.place, ""));
                }
            }
        }
    }
}

/// Writes a type as the server prints it.
fn normal_type(text: &str) -> String {
    let text = text.trim();
    let (name, rest) = text.split_at(text.find('(').unwrap_or(text.len()));
    let full = match name.trim().to_lowercase().as_str() {
        "int" | "int4" => "integer",
        "int8" => "bigint",
        "int2" => "smallint",
        "bool" => "boolean",
        "varchar" => "character varying",
        "char" => "character",
        "decimal" => "numeric",
        "float8" | "float" => "double precision",
        "timestamptz" => "timestamp with time zone",
        "timestamp" => "timestamp without time zone",
        "" => return "text".to_owned(),
        _ => return text.to_owned(),
    };
    format!("{full}{rest}")
}

fn normal_types(list: &str) -> String {
    if list.trim().is_empty() { String::new() } else { list.split(',').map(normal_type).collect::<Vec<_>>().join(", ") }
}

fn by_name(list: &[(At<String>, At<String>)]) -> BTreeMap<String, String> {
    list.iter().map(|(name, text)| (name.value.clone(), text.value.clone())).collect()
}

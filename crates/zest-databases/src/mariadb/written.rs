//! From what a ledger writes about a MariaDB server to its state, with findings for what the server would refuse.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use jiff::Timestamp;
use rustc_hash::FxHashMap;

use super::document::level_of;
use super::name::{AccountName, Class, Holder, ObjectName, Scope, is_barred_as_role};
use super::privilege::{Level, Privilege, Privileges};
use super::state::{Account, GrantChange, Object, State};
use super::trigger::Trigger;
use crate::database::circles::closing;
use crate::database::not_heard;
use crate::database::not_modelled::{GONE, notes};
use zest_model::entry::{Credential, Database, DatabaseGrant, DatabaseObject, DatabaseRole, RunsAs};
use zest_model::finding::{Code, Finding};
use zest_model::source::{At, Place, visible};
use zest_words::nearest;

/// Where things are written.
#[derive(Clone, Debug, Default)]
pub(crate) struct Places {
    pub(crate) holders: FxHashMap<Holder, Place>,
    pub(crate) objects: FxHashMap<ObjectName, Place>,
    pub(crate) memberships: FxHashMap<(Holder, String), Place>,
    /// Accounts without a credential.
    pub(crate) without_credential: FxHashMap<AccountName, Place>,
}

/// A state as a ledger writes it.
#[derive(Clone, Debug)]
pub(crate) struct Written {
    pub(crate) state: Arc<State>,
    pub(crate) places: Arc<Places>,
    pub(crate) timed: Vec<At<Timestamp>>,
    /// What revokes took, in order.
    pub(crate) taken: Vec<Taken>,
    gone: BTreeSet<Scope>,
}

/// What a revoke took from somebody.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Taken {
    pub(crate) scope: Scope,
    pub(crate) holder: Holder,
    pub(crate) privileges: Privileges,
    pub(crate) columns: Vec<String>,
    pub(crate) place: Place,
}

/// Carries out one more grant, behind all others.
pub(super) fn one_more(written: &mut Written, grant: &DatabaseGrant, findings: &mut Vec<Finding>) {
    let Written { state, places, timed, taken, gone } = written;
    let (timed, gone) = (std::mem::take(timed), std::mem::take(gone));
    let mut reader = Reader {
        state: (**state).clone(),
        places: (**places).clone(),
        timed,
        taken: std::mem::take(taken),
        gone,
        triggers: BTreeMap::new(),
        at: None,
        findings,
    };
    reader.grant(grant);
    let Reader { state, places, timed, taken, gone, .. } = reader;
    *written = Written { state: Arc::new(state), places: Arc::new(places), timed, taken, gone };
}

/// Puts the parts of a ledger together. Grants that end are in force only if `at` is known and before their end.
pub(crate) fn written(parts: &[Arc<Database>], at: Option<Timestamp>, findings: &mut Vec<Finding>) -> Written {
    let mut reader = Reader {
        state: State::fresh(),
        places: Places::default(),
        timed: Vec::new(),
        taken: Vec::new(),
        gone: BTreeSet::new(),
        triggers: BTreeMap::new(),
        at,
        findings,
    };
    for part in parts {
        part.roles.iter().for_each(|r| reader.role(r));
        part.accounts.iter().for_each(|a| reader.account(a));
    }
    let root = Holder::Account(AccountName::new("root", "localhost"));
    // The server makes whoever makes a role its administrator, unless it is told who is to be.
    let is_stated = |account: &DatabaseRole| account.name.value == "root@localhost" && !account.administers.is_empty();
    if !parts.iter().flat_map(|part| &part.accounts).any(is_stated) {
        for role in reader.state.roles.clone() {
            reader.state.memberships.insert((root.clone(), role), true);
        }
    }
    for part in parts {
        for entry in &part.roles {
            reader.memberships(entry, &Holder::Role(entry.name.value.clone()));
        }
        for entry in &part.accounts {
            if let Some(name) = AccountName::parse(&entry.name.value) {
                reader.memberships(entry, &Holder::Account(name));
            }
        }
    }
    reader.circles(parts);
    parts.iter().flat_map(|p| &p.objects).for_each(|o| reader.object(o));
    parts.iter().flat_map(|p| &p.grants).for_each(|g| reader.grant(g));
    for grant in parts.iter().flat_map(|p| &p.default_grants) {
        reader.findings.push(
            Finding::new(Code::GrantRefused, "MariaDB has no default privileges")
                .at(grant.place, "not possible here")
                .help("grant on the database, or on a pattern: `on = \"databases loyal*\"`"),
        );
    }
    for part in parts {
        let noted = notes(&part.not_modelled, reader.findings);
        reader.state.not_modelled.extend(noted);
    }
    // What a ledger does not name is not there, and never made: not even the first account of a fresh server.
    if !reader.places.holders.contains_key(&root) {
        reader.state.accounts.remove(&AccountName::new("root", "localhost"));
        reader.state.grants.retain(|(h, _), _| *h != root);
        reader.state.memberships.retain(|(h, _), _| *h != root);
    }
    let Reader { state, places, timed, taken, gone, .. } = reader;
    Written { state: Arc::new(state), places: Arc::new(places), timed, taken, gone }
}

struct Reader<'f> {
    state: State,
    places: Places,
    timed: Vec<At<Timestamp>>,
    taken: Vec<Taken>,
    /// What grants still name, and the server no longer has.
    gone: BTreeSet<Scope>,
    /// Where each trigger of a database is written.
    triggers: BTreeMap<(String, String), Place>,
    at: Option<Timestamp>,
    findings: &'f mut Vec<Finding>,
}

impl Reader<'_> {
    fn twice(&mut self, holder: &Holder, name: &At<String>) -> bool {
        if let Some(&first) = self.places.holders.get(holder) {
            self.findings.push(
                Finding::new(Code::DuplicateId, format!("`{}` is declared twice", visible(&name.value)))
                    .at(name.place, "declared again here")
                    .also(first, "first declared here"),
            );
            return true;
        }
        self.places.holders.insert(holder.clone(), name.place);
        false
    }

    fn role(&mut self, entry: &DatabaseRole) {
        let name = &entry.name.value;
        if is_barred_as_role(name) {
            self.findings.push(
                Finding::new(Code::BadName, format!("MariaDB does not take `{}` as the name of a role", visible(name)))
                    .at(entry.name.place, "not possible"),
            );
        } else if !self.twice(&Holder::Role(name.clone()), &entry.name) {
            self.state.roles.insert(name.clone());
        }
    }

    fn account(&mut self, entry: &DatabaseRole) {
        let Some(name) = AccountName::parse(&entry.name.value) else {
            self.findings.push(
                Finding::new(Code::BadName, format!("`{}` does not say where the account comes from", visible(&entry.name.value)))
                    .at(entry.name.place, "expected login@origin")
                    .help("on MariaDB an account is a login and an origin: \"purser@192.0.2.%\", \"purser@localhost\", \"purser@%\""),
            );
            return;
        };
        if self.twice(&Holder::Account(name.clone()), &entry.name) {
            return;
        }
        not_heard::of_role(not_heard::MARIADB, entry, self.findings);
        if entry.credential.as_ref().is_some_and(|c| c.value == Credential::Missing) {
            self.places.without_credential.insert(name.clone(), entry.name.place);
        }
        let mut limits: BTreeMap<String, u32> = BTreeMap::new();
        for (what, number) in &entry.limits {
            if ["queries", "updates", "connections"].contains(&what.value.as_str()) {
                limits.insert(what.value.clone(), number.value);
            } else {
                self.findings.push(
                    Finding::new(Code::UnknownKey, format!("there is no limit called `{}`", visible(&what.value)))
                        .at(what.place, "unknown limit")
                        .help("limits by the hour are `queries`, `updates` and `connections`; sessions at once are `connection-limit`"),
                );
            }
        }
        limits.extend(entry.connection_limit.as_ref().map(|l| ("sessions".to_owned(), l.value)));
        let account = Account {
            locked: entry.locked.as_ref().is_some_and(|l| l.value),
            expired: entry.credential.as_ref().is_some_and(|c| c.value == Credential::Expired),
            credential_due: entry.credential_due.as_ref().map(|due| due.value),
            default_role: entry.default_role.as_ref().map(|r| r.value.clone()),
            limits,
            not_modelled: notes(&entry.not_modelled, self.findings),
        };
        self.state.accounts.insert(name, account);
    }

    fn knows_role(&mut self, role: &At<String>) -> bool {
        if self.state.roles.contains(&role.value) {
            return true;
        }
        let near = nearest(&role.value, self.state.roles.iter().map(String::as_str));
        self.findings.push(
            Finding::new(Code::UnknownReference, format!("no role of this server is named `{}`", visible(&role.value)))
                .at(role.place, near.map_or("not declared for this server".to_owned(), |n| format!("did you mean `{}`?", visible(n))))
                .help("declare it below `roles` of the database, or write one that is declared"),
        );
        false
    }

    fn memberships(&mut self, entry: &DatabaseRole, member: &Holder) {
        for (list, admin) in [(&entry.member_of, false), (&entry.administers, true)] {
            for role in list {
                if self.knows_role(role) {
                    let key = (member.clone(), role.value.clone());
                    let option = self.state.memberships.entry(key.clone()).or_default();
                    *option |= admin;
                    self.places.memberships.insert(key, role.place);
                }
            }
        }
        // A server keeps a default role whose membership was taken away, and makes it active again once that is given back.
        if let Some(role) = &entry.default_role
            && self.knows_role(role)
            && ![member, &Holder::Public].into_iter().any(|m| self.state.memberships.contains_key(&(m.clone(), role.value.clone())))
        {
            self.findings.push(
                Finding::new(
                    Code::DefaultRoleNotGranted,
                    format!("`{}` is the default role of `{}`, which is no member of it", visible(&role.value), visible(&entry.name.value)),
                )
                .at(role.place, "not active at sign-in, and the server would refuse to set it")
                .help("add it to `member-of` as well, or take it out"),
            );
        }
    }

    fn circles(&mut self, parts: &[Arc<Database>]) {
        let all = || parts.iter().flat_map(|p| &p.roles);
        let joins = all().flat_map(|e| e.member_of.iter().chain(&e.administers).map(|role| (e.name.value.as_str(), role.value.as_str())));
        let mut closing = closing(&joins.collect::<Vec<_>>()).into_iter();
        for entry in all() {
            let own = Holder::Role(entry.name.value.clone());
            for role in entry.member_of.iter().chain(&entry.administers) {
                if closing.next().unwrap_or_default() {
                    self.state.memberships.remove(&(own.clone(), role.value.clone()));
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

    fn object(&mut self, entry: &DatabaseObject) {
        if let Some(Scope::Databases(_)) = Scope::parse(&entry.name.value).filter(|_| entry.name.value.starts_with("database ")) {
            let name = entry.name.value.trim_start_matches("database ").trim();
            if let Some((list, "")) = crate::database::name::parts(name)
                && let [one] = list.as_slice()
            {
                not_heard::of_object(not_heard::MARIADB, "database", entry, self.findings);
                self.state.databases.insert(one.clone());
                return;
            }
        }
        let Some(name) = ObjectName::parse(&entry.name.value) else {
            self.findings.push(
                Finding::new(Code::BadObject, format!("`{}` does not name an object", visible(&entry.name.value)))
                    .at(entry.name.place, "expected a class and a name, such as `table loyalty.member`")
                    .help("classes: database, table, view, function, procedure; names with dots or blanks stand in double quotes"),
            );
            return;
        };
        not_heard::of_object(not_heard::MARIADB, name.class.word(), entry, self.findings);
        let noted = notes(&entry.not_modelled, self.findings);
        if noted.contains(GONE) {
            self.gone.insert(Scope::of(&name));
            return;
        }
        self.state.databases.insert(name.database.clone());
        let twin = Scope::of(&name);
        if let Some((other, &first)) = self.places.objects.iter().find(|(n, _)| Scope::of(n) == twin) {
            let other = other.to_string();
            self.findings.push(
                Finding::new(Code::DuplicateId, format!("`{}` is declared twice", visible(&other)))
                    .at(entry.name.place, "declared again here")
                    .also(first, "first declared here"),
            );
            return;
        }
        self.places.objects.insert(name.clone(), entry.name.place);
        let mut definer = None;
        if let Some(owner) = &entry.owner {
            definer = AccountName::parse(&owner.value).filter(|a| self.state.accounts.contains_key(a));
            if definer.is_none() && name.class != Class::Table {
                self.findings.push(
                    Finding::new(Code::UnknownReference, format!("no account of this server is named `{}`", visible(&owner.value)))
                        .at(owner.place, "the definer is an account, login@origin"),
                );
            }
        }
        // A definer that is only named, such as a role, is no account.
        let is_named = noted.iter().any(|n| n.starts_with("definer "));
        if definer.is_none() && name.class != Class::Table && !is_named {
            definer = Some(AccountName::new("root", "localhost"));
        }
        if name.class == Class::Table {
            definer = None;
        }
        let triggers = self.triggers(&name, &entry.triggers);
        let text = |value: &Option<At<String>>| value.as_ref().map(|t| t.value.clone());
        let object = Object {
            definer,
            runs_as_owner: name.class != Class::Table && entry.runs_as.as_ref().is_none_or(|r| r.value == RunsAs::Owner),
            columns: entry
                .columns
                .iter()
                .map(|(c, t)| (c.value.clone(), if name.class == Class::Table { normal_type(&t.value) } else { String::new() }))
                .collect(),
            query: text(&entry.query),
            parameters: text(&entry.parameters).or_else(|| name.class.is_routine().then(String::new)),
            returns: text(&entry.returns).map(|r| normal_type(&r)),
            body: text(&entry.body),
            triggers,
            not_modelled: noted,
        };
        self.state.objects.insert(name, object);
    }

    fn triggers(&mut self, table: &ObjectName, written: &[(At<String>, At<String>)]) -> BTreeMap<String, Trigger> {
        let mut triggers = BTreeMap::new();
        for (key, text) in written {
            match Trigger::read(&text.value, table).filter(|(name, _)| *name == key.value) {
                Some((name, trigger)) => {
                    if !self.state.accounts.contains_key(&trigger.definer) {
                        let definer = trigger.definer.to_string();
                        self.findings.push(
                            Finding::new(
                                Code::UnknownReference,
                                format!("no account of this server is named `{}`", visible(&definer)),
                            )
                            .at(text.place, "the definer of a trigger is an account")
                            .help("declare it below `accounts` of the database; a trigger whose definer is a role, or gone, stands under `not-modelled`"),
                        );
                    }
                    let (name_of_it, database) = (visible(&name), visible(&table.database));
                    if let Some(&first) = self.triggers.get(&(table.database.clone(), name.clone())) {
                        self.findings.push(
                            Finding::new(Code::DuplicateId, format!("trigger `{name_of_it}` of database `{database}` is declared twice"))
                                .at(key.place, "declared again here")
                                .also(first, "first declared here"),
                        );
                    }
                    self.triggers.insert((table.database.clone(), name.clone()), key.place);
                    triggers.insert(name, trigger);
                }
                None => self.findings.push(
                    Finding::new(
                        Code::BadObject,
                        format!("the text of the trigger `{}` does not make it on {}", visible(&key.value), visible(&table.to_string())),
                    )
                    .at(text.place, "not a statement that makes it")
                    .help(format!(
                        "expected `CREATE DEFINER='login'@'host' TRIGGER {} BEFORE INSERT ON {} FOR EACH ROW …`, or one of the other events",
                        visible(&key.value),
                        visible(&table.sql())
                    )),
                ),
            }
        }
        triggers
    }

    fn holder(&mut self, name: &At<String>) -> Option<Holder> {
        if name.value == "public" {
            return Some(Holder::Public);
        }
        if self.state.roles.contains(&name.value) {
            return Some(Holder::Role(name.value.clone()));
        }
        if let Some(account) = AccountName::parse(&name.value).filter(|a| self.state.accounts.contains_key(a)) {
            return Some(Holder::Account(account));
        }
        let names: Vec<String> = self.state.roles.iter().cloned().chain(self.state.accounts.keys().map(ToString::to_string)).collect();
        let near = nearest(&name.value, names.iter().map(String::as_str));
        self.findings.push(
            Finding::new(Code::UnknownReference, format!("no role or account of this server is named `{}`", visible(&name.value)))
                .at(name.place, near.map_or("not declared for this server".to_owned(), |n| format!("did you mean `{}`?", visible(n))))
                .help("roles are written by name, accounts as login@origin, everybody as `public`"),
        );
        None
    }

    fn privileges(&mut self, list: &[At<String>], level: Level) -> Privileges {
        let applicable = level.applicable();
        let mut sum = Privileges::NONE;
        for word in list {
            match Privilege::from_word(&word.value) {
                _ if word.value == "all" => sum = sum.or(applicable.without(Privilege::GrantOption.only())),
                Some(privilege) if applicable.contains(privilege) => sum = sum.or(privilege.only()),
                known => {
                    let what = match level {
                        Level::Global => "the whole server",
                        Level::Database => "a database",
                        Level::Table => "a table",
                        Level::Column => "columns",
                        Level::Routine => "a routine",
                    };
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

    fn grant(&mut self, entry: &DatabaseGrant) {
        if let Some(deny) = entry.deny.first() {
            self.findings.push(
                Finding::new(Code::DenyNotKnown, "MariaDB 10.11 has no deny: what is not granted is refused")
                    .at(deny.place, "not possible here")
                    .help("take the grant back at the level where it was given, or grant the tables that stay"),
            );
            return;
        }
        let revoke = match (entry.allow.is_empty(), entry.revoke.is_empty()) {
            (false, true) => false,
            (true, false) => true,
            _ => {
                self.findings.push(
                    Finding::new(Code::MissingKey, "the grant allows or revokes, one of the two")
                        .at(entry.place, "")
                        .help("write `allow = […]` and `to`, or `revoke = […]` and `from`"),
                );
                return;
            }
        };
        if let Some(grantor) = &entry.grantor {
            self.findings
                .push(Finding::new(Code::GrantRefused, "MariaDB does not keep who gave a grant").at(grantor.place, "leave `grantor` out"));
        }
        let holds = match &entry.until {
            Some(until) => {
                self.timed.push(until.clone());
                self.at.is_some_and(|at| at < until.value)
            }
            None => true,
        };
        let holders: Vec<Holder> = entry.to.iter().filter_map(|name| self.holder(name)).collect();
        for text in &entry.on {
            if let Some(role) = text.value.strip_prefix("role ") {
                let role = At::new(role.trim().to_owned(), text.place);
                if self.knows_role(&role) {
                    for holder in &holders {
                        self.state.memberships.insert((holder.clone(), role.value.clone()), false);
                    }
                }
                continue;
            }
            for scope in self.scopes(text) {
                let level = if entry.columns.is_empty() { level_of(&scope) } else { Level::Column };
                if !self.has_columns(&scope, &entry.columns) {
                    continue;
                }
                let words = if revoke { &entry.revoke } else { &entry.allow };
                let is_proxy = matches!(scope, Scope::Proxy(_));
                let mut wanted = if is_proxy { Privileges::NONE } else { self.privileges(words, level) };
                wanted = wanted.without(self.privileges(&entry.except, level));
                if entry.regrant.as_ref().is_some_and(|r| r.value) {
                    wanted = if revoke { Privilege::GrantOption.only() } else { wanted.or(Privilege::GrantOption.only()) };
                }
                if !holds {
                    continue;
                }
                for holder in &holders {
                    let change = GrantChange {
                        scope: scope.clone(),
                        columns: entry.columns.iter().map(|c| c.value.clone()).collect(),
                        privileges: wanted,
                        holder: holder.clone(),
                        revoke,
                        place: Some(entry.place),
                    };
                    if is_proxy && revoke {
                        self.state.grants.remove(&(holder.clone(), scope.clone()));
                        continue;
                    }
                    let changed = self.state.change(&change);
                    if revoke && !changed {
                        self.without_effect(&change, entry.place);
                    } else if revoke {
                        let GrantChange { scope, columns, privileges, holder, revoke: _, place: _ } = change;
                        self.taken.push(Taken { scope, holder, privileges, columns, place: entry.place });
                    }
                }
            }
        }
    }

    /// A revoke at one level takes nothing from another: the server refuses it, or leaves the wider grant.
    fn without_effect(&mut self, change: &GrantChange, place: Place) {
        let wider = self.state.held_by(&change.holder).find(|((_, scope), held)| {
            *scope != change.scope && !held.privileges.and(change.privileges).is_empty() && covers(scope, &change.scope)
        });
        let mut finding = Finding::new(
            Code::RevokeWithoutEffect,
            format!("the revoke takes nothing from {} on `{}`", visible(&change.holder.to_string()), visible(&change.scope.to_string())),
        )
        .at(place, "no effect");
        finding = match wider {
            Some(((_, scope), held)) => {
                let text = format!(
                    "it is held on `{}`, and a narrower revoke does not cut it out: revoke there, and grant what stays",
                    visible(&scope.to_string())
                );
                let finding = finding.help(text);
                match held.place {
                    Some(place) => finding.also(place, "held through this grant"),
                    None => finding,
                }
            }
            None => finding.help("it was not granted at this level: take the entry out"),
        };
        self.findings.push(finding);
    }

    fn scopes(&mut self, text: &At<String>) -> Vec<Scope> {
        if let Some(database) = text.value.trim().strip_prefix("all tables in ") {
            let name = database.trim();
            let scopes: Vec<Scope> =
                self.state.objects.keys().filter(|n| !n.class.is_routine() && n.database == name).map(Scope::of).collect();
            if !scopes.is_empty() {
                return scopes;
            }
        }
        let scope = Scope::parse(&text.value);
        let known = match &scope {
            Some(Scope::Table(d, n)) => self.state.objects.keys().any(|o| !o.class.is_routine() && o.database == *d && o.name == *n),
            Some(Scope::Function(d, n)) => self.state.objects.contains_key(&ObjectName::new(Class::Function, d, n)),
            Some(Scope::Procedure(d, n)) => self.state.objects.contains_key(&ObjectName::new(Class::Procedure, d, n)),
            Some(_) => true,
            None => {
                self.findings.push(
                    Finding::new(Code::BadObject, format!("`{}` does not name what to grant on", visible(&text.value)))
                        .at(text.place, "")
                        .help("write \"everything\", \"database NAME\", \"databases PATTERN*\", \"table DB.NAME\", \"function DB.NAME\" or \"account LOGIN@ORIGIN\""),
                );
                return Vec::new();
            }
        };
        if !known && !scope.as_ref().is_some_and(|s| self.gone.contains(s)) {
            let names: Vec<String> = self.state.objects.keys().map(ToString::to_string).collect();
            let near = nearest(text.value.trim(), names.iter().map(String::as_str));
            self.findings.push(
                Finding::new(Code::UnknownReference, format!("no object is named `{}`", visible(&text.value)))
                    .at(text.place, near.map_or("not declared for this server".to_owned(), |n| format!("did you mean `{}`?", visible(n))))
                    .help("declare it below `objects` of the database: answers need the inventory"),
            );
            return Vec::new();
        }
        scope.into_iter().collect()
    }

    fn has_columns(&mut self, scope: &Scope, columns: &[At<String>]) -> bool {
        let Scope::Table(database, name) = scope else { return columns.is_empty() };
        if self.gone.contains(scope) {
            return true;
        }
        let object = self.state.objects.iter().find(|(n, _)| !n.class.is_routine() && n.database == *database && n.name == *name);
        let known: Vec<String> = object.map(|(_, o)| o.columns.iter().map(|(c, _)| c.clone()).collect()).unwrap_or_default();
        let mut all = true;
        let is_gone = |c: &str| object.is_some_and(|(_, o)| o.not_modelled.contains(&format!("{GONE} column {c}")));
        let missing: Vec<&At<String>> = columns.iter().filter(|c| !known.contains(&c.value) && !is_gone(&c.value)).collect();
        for column in missing {
            all = false;
            let near = nearest(&column.value, known.iter().map(String::as_str));
            self.findings.push(
                Finding::new(
                    Code::UnknownReference,
                    format!("`{}` has no column `{}`", visible(&scope.to_string()), visible(&column.value)),
                )
                .at(column.place, near.map_or("not declared".to_owned(), |n| format!("did you mean `{}`?", visible(n)))),
            );
        }
        all
    }
}

/// Returns whether a grant at one scope reaches what another names.
fn covers(wide: &Scope, narrow: &Scope) -> bool {
    match (wide, narrow) {
        (Scope::Everything, _) => true,
        (Scope::Databases(p), Scope::Table(d, _) | Scope::Function(d, _) | Scope::Procedure(d, _)) => super::matches(d, p),
        _ => false,
    }
}

/// Writes a type as the server prints it: in small letters, but for the values of an enumeration and two words.
fn normal_type(text: &str) -> String {
    let plain = text.trim().to_lowercase();
    match plain.as_str() {
        "int" | "integer" => return "int(11)".to_owned(),
        "bigint" => return "bigint(20)".to_owned(),
        "boolean" | "bool" => return "tinyint(1)".to_owned(),
        "" => return "text".to_owned(),
        _ => {}
    }
    let outside = |part: &str| part.to_lowercase().replace(" charset ", " CHARSET ").replace(" collate ", " COLLATE ");
    let parts = text.trim().split('\'').enumerate();
    parts.map(|(number, part)| if number % 2 == 0 { outside(part) } else { part.to_owned() }).collect::<Vec<_>>().join("'")
}

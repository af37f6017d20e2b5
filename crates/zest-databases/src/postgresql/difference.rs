//! What one state has that another has not, and the statements that lead from one to the other.

use std::collections::{BTreeMap, BTreeSet};

use super::acl::{Acl, Grantee};
use super::make::{along, create, in_order, is_parsed, policy_sql, setting_sql};
use super::object::{ObjectName, literal, quoted};
use super::privilege::{Class, Privilege, Privileges};
use super::state::{DefaultKey, GrantChange, Object, Policy, Role, State};
use crate::drift::{Drift, Side, Step, left_alone, on_one_side};
use crate::sql::{Dialect, in_one_wording};

impl State {
    /// Lists what the server has that the ledger does not, and the reverse. `self` is the server's state.
    #[must_use]
    pub fn drift(&self, ledger: &Self) -> Vec<Drift> {
        let mut list = Vec::new();
        let mut note = |side: Side, what: String| list.push(Drift { side, what });
        for name in names(self.roles.keys(), ledger.roles.keys()) {
            match (self.roles.get(&name), ledger.roles.get(&name)) {
                (Some(_), None) => note(Side::Server, format!("role {name}")),
                (None, Some(_)) => note(Side::Ledger, format!("role {name}")),
                (Some(server), Some(wanted)) => {
                    let (a, b) = (attributes(server), attributes(wanted));
                    on_one_side(&a, &b).for_each(|(side, x)| note(side, format!("role {name}: {x}")));
                }
                (None, None) => {}
            }
        }
        on_one_side(&self.settings, &ledger.settings).for_each(|(side, setting)| note(side, format!("sessions begin with {setting}")));
        for noted in self.not_modelled.difference(&ledger.not_modelled) {
            note(Side::Server, format!("{noted} (not modelled)"));
        }
        for noted in ledger.not_modelled.difference(&self.not_modelled) {
            note(Side::Ledger, format!("{noted} (not modelled)"));
        }
        for name in names(self.objects.keys(), ledger.objects.keys()) {
            match (self.objects.get(&name), ledger.objects.get(&name)) {
                (Some(_), None) => note(Side::Server, name.to_string()),
                (None, Some(_)) => note(Side::Ledger, name.to_string()),
                (Some(server), Some(wanted)) => {
                    if server.owner != wanted.owner {
                        note(Side::Server, format!("{name}: owner {}", server.owner));
                        note(Side::Ledger, format!("{name}: owner {}", wanted.owner));
                    }
                    let (theirs, ours) = (definition(server), definition(wanted));
                    on_one_side(&theirs, &ours).for_each(|(side, part)| note(side, format!("{name}: {part}")));
                    compare(&server.acl, &wanted.acl, &name.to_string(), &mut note);
                    for column in &wanted.columns {
                        if let Some(theirs) = server.columns.iter().find(|c| c.name == column.name) {
                            compare(&theirs.acl, &column.acl, &format!("{name}, column {}", column.name), &mut note);
                        }
                    }
                }
                (None, None) => {}
            }
        }
        for key in names(self.defaults.keys(), ledger.defaults.keys()) {
            let nothing = Acl::default();
            let what = shown(&key);
            compare(self.defaults.get(&key).unwrap_or(&nothing), ledger.defaults.get(&key).unwrap_or(&nothing), &what, &mut note);
        }
        list
    }

    /// Returns what differs in objects that are there and is not led to what the ledger says by any statement: texts, columns, types.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, postgresql::{state_of}};
    /// let text = r#"
    /// systems.fares.kind = "postgresql"
    /// [databases.fares]
    /// accounts.clerk-1 = {}
    /// [databases.fares.objects]
    /// "schema fares" = { owner = "clerk-1" }
    /// "table fares.price" = { owner = "clerk-1", columns = { id = "integer" } }
    /// "#;
    /// let wanted = state_of(&Ledger::new().document("fares.toml", text).estate()?, "fares", None).expect("it is declared");
    /// let mut server = wanted.clone();
    /// server.objects.values_mut().for_each(|table| table.columns.clear());
    /// assert_eq!((server.left_alone(&wanted).len(), wanted.left_alone(&wanted).len()), (1, 0));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn left_alone(&self, ledger: &Self) -> Vec<String> {
        // Row security and its policies are led.
        let told =
            |object: &Object| definition(&Object { row_security: false, row_security_for_owner: false, policies: None, ..object.clone() });
        let both = ledger.objects.iter().filter_map(|(name, wanted)| Some((name, told(self.objects.get(name)?), told(wanted))));
        both.flat_map(|(name, now, wanted)| left_alone(&name.to_string(), &now, &wanted)).collect()
    }

    /// Returns the statements that lead from this state to the ledger's, in order; run by a superuser `by`.
    ///
    /// What the ledger does not declare, roles and objects alike, is left alone: a table is never dropped.
    #[must_use]
    pub fn steps_to(&self, ledger: &Self, by: &str) -> Vec<Step> {
        let mut plan = Plan { now: self.clone(), steps: Vec::new(), changes: Vec::new(), by };
        plan.roles(ledger);
        plan.objects(ledger);
        plan.row_security(ledger);
        plan.settings(ledger);
        plan.memberships(ledger);
        for (name, wanted) in &ledger.objects {
            plan.list(name, None, &wanted.acl);
            for column in &wanted.columns {
                plan.list(name, Some(&column.name), &column.acl);
            }
        }
        plan.defaults(ledger);
        plan.steps
    }
}

impl State {
    /// Returns what of a ledger's state cannot be written as statements, for a server in this state: roles and objects
    /// that would have to be made with something that is only named (see [`Object::not_modelled`]), or whose definition
    /// is not there.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, postgresql::{State, state_of}};
    /// let text = r#"
    /// systems.fares.kind = "postgresql"
    /// [databases.fares]
    /// accounts.clerk-1 = {}
    /// [databases.fares.objects]
    /// "schema fares" = { owner = "clerk-1" }
    /// "type fares.zone" = { owner = "clerk-1" }
    /// "#;
    /// let wanted = state_of(&Ledger::new().document("fares.toml", text).estate()?, "fares", None).expect("it is declared");
    /// let cannot = State::fresh("fares", "postgres").cannot_write(&wanted);
    /// assert!(cannot[0].starts_with("type fares.zone: its values"), "{cannot:?}");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn cannot_write(&self, ledger: &Self) -> Vec<String> {
        let mut list = Vec::new();
        for (name, wanted) in ledger.roles.iter().filter(|(n, _)| !self.roles.contains_key(*n)) {
            list.extend(wanted.not_modelled.iter().map(|n| format!("role {name}: `{n}` is only named")));
        }
        for (name, wanted) in ledger.objects.iter().filter(|(n, _)| !self.objects.contains_key(*n)) {
            list.extend(wanted.not_modelled.iter().map(|n| format!("{name}: `{n}` is only named")));
            let lacks = match name.class {
                Class::Type if wanted.values.is_empty() && wanted.domain_of.is_none() && wanted.columns.is_empty() => {
                    "its values, or what type it is,"
                }
                Class::Function | Class::Procedure if wanted.body.as_deref().is_none_or(|b| b.trim().is_empty()) => "its body",
                Class::Function | Class::Procedure if wanted.language.as_deref().is_some_and(|l| l == "c" || l == "internal") => {
                    "the file or the part of the server that it is made of"
                }
                Class::View | Class::MaterialisedView if wanted.query.as_deref().is_none_or(|q| q.trim().is_empty()) => "its query",
                Class::Database | Class::Language | Class::Wrapper | Class::Server | Class::Schema | Class::Sequence | Class::Table => {
                    continue;
                }
                Class::Type | Class::Function | Class::Procedure | Class::View | Class::MaterialisedView => continue,
            };
            list.push(format!("{name}: {lacks} is not in the ledger"));
        }
        list
    }
}

/// Returns the grants and revokes that lead the lists of one state to those of another, in order.
pub(super) fn changes(from: &State, to: &State) -> Vec<GrantChange> {
    let mut plan = Plan { now: from.clone(), steps: Vec::new(), changes: Vec::new(), by: "" };
    for (name, wanted) in &to.objects {
        plan.list(name, None, &wanted.acl);
        for column in &wanted.columns {
            plan.list(name, Some(&column.name), &column.acl);
        }
    }
    plan.changes
}

fn names<'a, K: Clone + Ord + 'a>(one: impl Iterator<Item = &'a K>, other: impl Iterator<Item = &'a K>) -> BTreeSet<K> {
    one.chain(other).cloned().collect()
}

fn attributes(role: &Role) -> Vec<String> {
    let mut list: Vec<String> = switches(role).iter().map(|(word, on)| format!("{}{word}", if *on { "" } else { "no " })).collect();
    if role.connection_limit >= 0 {
        list.push(format!("at most {} sessions", role.connection_limit));
    }
    list.extend(role.valid_until.map(|t| format!("valid until {t}")));
    list.extend(role.settings.iter().map(|setting| format!("begins with {setting}")));
    list.extend(role.not_modelled.iter().map(|n| format!("{n} (not modelled)")));
    list.extend(role.member_of.iter().map(|(r, admin)| format!("member of {r}{}", if *admin { ", may pass it on" } else { "" })));
    list
}

const fn switches(role: &Role) -> [(&'static str, bool); 7] {
    [
        ("superuser", role.superuser),
        ("inherit", role.inherit),
        ("create role", role.create_role),
        ("create database", role.create_database),
        ("login", role.login),
        ("replication", role.replication),
        ("bypass row security", role.bypass_row_security),
    ]
}

/// A policy with its conditions as they are compared.
fn in_server_words(policy: &Policy) -> Policy {
    let worded = |condition: &Option<String>| condition.as_ref().map(|text| in_one_wording(Dialect::Postgresql, text));
    let Policy { acts, to, using, check, restrictive } = policy;
    Policy { acts: *acts, to: to.clone(), using: worded(using), check: worded(check), restrictive: *restrictive }
}

/// What is compared of an object besides owner and lists. The server rewrites the text of queries, so that cannot be.
fn definition(object: &Object) -> Vec<String> {
    let Object {
        owner: _,
        acl: _,
        columns,
        query: _,
        runs_as_owner,
        row_security,
        row_security_for_owner,
        policies,
        triggers,
        rules,
        checks,
        domain_of,
        parameters,
        settings,
        returns,
        language,
        body,
        values,
        not_modelled,
    } = object;
    let worded = |expression: &String| in_one_wording(Dialect::Postgresql, expression);
    let mut parts: Vec<String> = Vec::new();
    if !columns.is_empty() {
        let columns = columns.iter().map(|c| {
            let default = c.default.as_ref().map_or(String::new(), |d| format!(" default {}", worded(d)));
            format!("{} {}{default}", c.name, c.data_type).trim_end().to_owned()
        });
        parts.push(format!("columns {}", columns.collect::<Vec<_>>().join(", ")));
    }
    let flags =
        [(runs_as_owner, "runs as its owner"), (row_security, "row security"), (row_security_for_owner, "row security for the owner too")];
    parts.extend(flags.into_iter().filter(|(is, _)| **is).map(|(_, words)| words.to_owned()));
    parts.extend(policies.iter().flatten().map(|(name, policy)| policy_sql(name, "it", &in_server_words(policy))));
    let squeezed = |text: &String| text.split_whitespace().collect::<Vec<_>>().join(" ");
    parts.extend(triggers.values().chain(rules.values()).map(squeezed));
    parts.extend(checks.iter().map(|(name, check)| format!("check {name}: {}", worded(check))));
    parts.extend(domain_of.as_ref().map(|base| format!("domain of {base}")));
    parts.extend(parameters.as_ref().map(|parameters| format!("parameters {parameters}")));
    parts.extend(settings.iter().map(|setting| format!("runs with {setting}")));
    parts.extend(returns.as_ref().map(|r| format!("returns {r}")));
    parts.extend(language.as_ref().map(|l| format!("language {l}")));
    // The server prints a body that it has parsed.
    parts.extend(
        body.as_ref().map(|body| if is_parsed(body) { squeezed(body) } else { body.trim().to_owned() }).map(|b| format!("body {b}")),
    );
    if !values.is_empty() {
        parts.push(format!("values {}", values.join(", ")));
    }
    parts.extend(not_modelled.iter().map(|n| format!("{n} (not modelled)")));
    parts
}

fn compare(server: &Acl, ledger: &Acl, what: &str, note: &mut impl FnMut(Side, String)) {
    for (side, mine, other) in [(Side::Server, server, ledger), (Side::Ledger, ledger, server)] {
        for (grantee, grantor, held) in mine.iter() {
            let theirs = other.0.get(&(grantee.clone(), grantor.to_owned())).cloned().unwrap_or_default();
            let plain = held.privileges.without(theirs.privileges);
            let options = held.options.without(theirs.options);
            if !plain.is_empty() {
                note(side, format!("{what}: {grantee} holds {plain}, given by {grantor}"));
            }
            if !options.is_empty() {
                note(side, format!("{what}: {grantee} may pass on {options}, given by {grantor}"));
            }
        }
    }
}

fn shown(key: &DefaultKey) -> String {
    let schema = key.schema.as_ref().map_or(String::new(), |s| format!(" in schema {s}"));
    format!("new {} objects of {}{schema}", key.class.word(), key.creator)
}

/// Statements with the state they lead to so far.
struct Plan<'b> {
    now: State,
    steps: Vec<Step>,
    changes: Vec<GrantChange>,
    by: &'b str,
}

impl Plan<'_> {
    fn step(&mut self, sql: String) {
        self.steps.push(Step { sql });
    }

    fn roles(&mut self, ledger: &State) {
        for (name, wanted) in &ledger.roles {
            let sql_name = quoted(name);
            let has = self.now.roles.get(name).cloned();
            let mut words = Vec::new();
            let fresh = Role::default();
            let old = has.as_ref().unwrap_or(&fresh);
            let keywords = ["SUPERUSER", "INHERIT", "CREATEROLE", "CREATEDB", "LOGIN", "REPLICATION", "BYPASSRLS"];
            for ((keyword, (_, is)), (_, was)) in keywords.iter().zip(switches(wanted)).zip(switches(old)) {
                if is != was {
                    words.push(if is { (*keyword).to_owned() } else { format!("NO{keyword}") });
                }
            }
            if wanted.connection_limit != old.connection_limit {
                words.push(format!("CONNECTION LIMIT {}", wanted.connection_limit));
            }
            if wanted.valid_until != old.valid_until {
                words.push(format!("VALID UNTIL {}", wanted.valid_until.map_or("'infinity'".to_owned(), |t| literal(&t.to_string()))));
            }
            if has.is_none() {
                self.step(format!("CREATE ROLE {sql_name} {}", words.join(" ")).trim_end().to_owned());
                let made = Role { member_of: Default::default(), settings: Vec::new(), ..wanted.clone() };
                self.now.roles.insert(name.clone(), made);
            } else if !words.is_empty() {
                self.step(format!("ALTER ROLE {sql_name} {}", words.join(" ")));
                let (member_of, settings) = has.map(|r| (r.member_of, r.settings)).unwrap_or_default();
                self.now.roles.insert(name.clone(), Role { member_of, settings, ..wanted.clone() });
            }
        }
    }

    fn memberships(&mut self, ledger: &State) {
        // What is taken back first: two roles that change places would be members of each other.
        for (name, wanted) in &ledger.roles {
            let has = self.now.roles.get(name).map(|r| r.member_of.clone()).unwrap_or_default();
            for role in has.keys().filter(|r| !wanted.member_of.contains_key(*r)) {
                self.step(format!("REVOKE {} FROM {}", quoted(role), quoted(name)));
            }
        }
        for (name, wanted) in &ledger.roles {
            let has = self.now.roles.get(name).map(|r| r.member_of.clone()).unwrap_or_default();
            for (role, &admin) in &wanted.member_of {
                match has.get(role) {
                    Some(&was) if was == admin => {}
                    Some(true) => self.step(format!("REVOKE ADMIN OPTION FOR {} FROM {}", quoted(role), quoted(name))),
                    _ => {
                        let option = if admin { " WITH ADMIN OPTION" } else { "" };
                        self.step(format!("GRANT {} TO {}{option}", quoted(role), quoted(name)));
                    }
                }
            }
            if let Some(role) = self.now.roles.get_mut(name) {
                role.member_of.clone_from(&wanted.member_of);
            }
        }
    }

    fn objects(&mut self, ledger: &State) {
        let missing = ledger.objects.iter().filter(|(name, _)| !self.now.objects.contains_key(*name)).collect();
        // What runs along is made when everything is there.
        let mut later: Vec<String> = Vec::new();
        let missing = in_order(missing);
        let routines: BTreeSet<&str> = ledger.objects.keys().filter(|n| n.class.is_routine()).map(ObjectName::last).collect();
        let calls = |default: &String| routines.iter().any(|routine| default.contains(routine));
        for (at, (name, object)) in missing.iter().copied().enumerate() {
            let mut at_once = object.clone();
            // The checks of a domain are made with it, but for those that lead back to it.
            let leads_back = |check: &str| name.class == Class::Type && missing[at..].iter().any(|(n, _)| check.contains(n.last()));
            let (back, kept): (BTreeMap<_, _>, BTreeMap<_, _>) = at_once.checks.into_iter().partition(|(_, check)| leads_back(check));
            at_once.checks = kept;
            later
                .extend(back.into_iter().map(|(check, condition)| {
                    format!("ALTER DOMAIN {} ADD CONSTRAINT {} CHECK ({condition})", name.sql(), quoted(&check))
                }));
            for column in &mut at_once.columns {
                if let Some(default) = column.default.take_if(|default| calls(default)) {
                    later.push(format!("ALTER TABLE {} ALTER COLUMN {} SET DEFAULT {default}", name.sql(), quoted(&column.name)));
                }
            }
            self.step(create(name, &at_once));
            later.extend(along(name, object));
            let acl = self.now.acl_of_new(self.by, name.schema(), name.class);
            let mut made = Object { owner: self.by.to_owned(), acl, ..object.clone() };
            made.columns.iter_mut().for_each(|c| c.acl = Acl::default());
            (made.row_security, made.row_security_for_owner, made.policies) = (false, false, None);
            self.now.objects.insert(name.clone(), made);
        }
        later.into_iter().for_each(|sql| self.step(sql));
        for (name, wanted) in &ledger.objects {
            if self.now.objects.get(name).is_some_and(|o| o.owner != wanted.owner) {
                let target = self.target(name);
                self.step(format!("ALTER {} {target} OWNER TO {}", alter_word(name.class), quoted(&wanted.owner)));
                self.now.set_owner(name, &wanted.owner);
            }
        }
    }

    /// Leads row security and its policies to what is wanted, where the ledger says which there are.
    fn row_security(&mut self, ledger: &State) {
        for (name, wanted) in ledger.objects.iter().filter(|(name, _)| name.class == Class::Table) {
            let Some(now) = self.now.objects.get(name) else { continue };
            let (now_on, now_for_owner) = (now.row_security, now.row_security_for_owner);
            let worded = |policies: &BTreeMap<String, Policy>| -> BTreeMap<String, Policy> {
                policies.iter().map(|(name, policy)| (name.clone(), in_server_words(policy))).collect()
            };
            let now_policies = now.policies.as_ref().map(worded).unwrap_or_default();
            let table = name.sql();
            if now_on != wanted.row_security {
                let word = if wanted.row_security { "ENABLE" } else { "DISABLE" };
                self.step(format!("ALTER TABLE {table} {word} ROW LEVEL SECURITY"));
            }
            if now_for_owner != wanted.row_security_for_owner {
                let word = if wanted.row_security_for_owner { "FORCE" } else { "NO FORCE" };
                self.step(format!("ALTER TABLE {table} {word} ROW LEVEL SECURITY"));
            }
            let Some(written) = &wanted.policies else { continue };
            let wanted_policies = worded(written);
            for policy in now_policies.keys().filter(|policy| now_policies.get(*policy) != wanted_policies.get(*policy)) {
                self.step(format!("DROP POLICY {} ON {table}", quoted(policy)));
            }
            for (policy, written) in written.iter().filter(|(policy, _)| now_policies.get(*policy) != wanted_policies.get(*policy)) {
                self.step(policy_sql(policy, &table, written));
            }
        }
    }

    /// Leads the settings that sessions begin with to what is wanted.
    fn settings(&mut self, ledger: &State) {
        let mut lead = |head: String, now: &[String], wanted: &[String]| {
            let name = |setting: &String| setting.split('=').next().unwrap_or("").to_owned();
            for gone in now.iter().map(name).filter(|gone| !wanted.iter().any(|setting| name(setting) == *gone)) {
                self.steps.push(Step { sql: format!("{head} RESET {}", quoted(&gone)) });
            }
            for setting in wanted.iter().filter(|setting| !now.contains(setting)) {
                self.steps.push(Step { sql: format!("{head} {}", setting_sql(setting)) });
            }
        };
        lead(format!("ALTER DATABASE {}", quoted(&self.now.database)), &self.now.settings, &ledger.settings);
        for (name, wanted) in &ledger.roles {
            let now = self.now.roles.get(name).map(|role| role.settings.clone()).unwrap_or_default();
            lead(format!("ALTER ROLE {}", quoted(name)), &now, &wanted.settings);
        }
    }

    fn target(&self, name: &ObjectName) -> String {
        if name.class == Class::Database { quoted(&self.now.database) } else { name.sql() }
    }

    /// Leads one list to what is wanted: takes away what is too much, then gives what is missing, each in the name
    /// of its grantor, grant options before what rests on them.
    fn list(&mut self, name: &ObjectName, column: Option<&str>, wanted: &Acl) {
        let mut tried: BTreeSet<(Grantee, String)> = BTreeSet::new();
        loop {
            self.take_away(name, column, wanted);
            // A grantor whose option was taken, and who has one through a role still, keeps what he gave: he is lent an option to give it.
            let stuck = self.give(name, column, wanted);
            let has_one = |(_, grantor, privileges, _): &(Grantee, String, Privileges, bool)| {
                privileges.iter().all(|privilege| self.now.has(grantor, name, column, privilege, true))
            };
            let Some((grantee, grantor, privileges, regrant)) = stuck.into_iter().find(has_one) else { return };
            let Some(owner) = self.now.objects.get(name).map(|object| object.owner.clone()) else { return };
            let lent = self.change_of(name, column, &Grantee::Role(grantor.clone()), &owner, privileges, true);
            if !tried.insert((grantee.clone(), grantor.clone())) || !self.run(&lent) {
                return;
            }
            let change = self.change_of(name, column, &grantee, &grantor, privileges, regrant);
            self.run(&change);
        }
    }

    fn list_now(&self, name: &ObjectName, column: Option<&str>) -> Option<&Acl> {
        let object = self.now.objects.get(name)?;
        match column {
            None => Some(&object.acl),
            Some(c) => object.columns.iter().find(|x| x.name == c).map(|c| &c.acl),
        }
    }

    fn take_away(&mut self, name: &ObjectName, column: Option<&str>, wanted: &Acl) {
        loop {
            let Some(now) = self.list_now(name, column) else { return };
            let extra = now.iter().find_map(|(grantee, grantor, held)| {
                let keep = wanted.0.get(&(grantee.clone(), grantor.to_owned())).cloned().unwrap_or_default();
                let privileges = held.privileges.without(keep.privileges);
                let options = held.options.without(keep.options).without(privileges);
                let (privileges, only_option) = if privileges.is_empty() { (options, true) } else { (privileges, false) };
                (!privileges.is_empty()).then(|| (grantee.clone(), grantor.to_owned(), privileges, only_option))
            });
            let Some((grantee, grantor, privileges, regrant)) = extra else { return };
            let change =
                GrantChange { revoke: true, cascade: true, ..self.change_of(name, column, &grantee, &grantor, privileges, regrant) };
            if !self.run(&change) {
                return;
            }
        }
    }

    /// Gives what is missing; what is left over is what its grantor may not give.
    fn give(&mut self, name: &ObjectName, column: Option<&str>, wanted: &Acl) -> Vec<(Grantee, String, Privileges, bool)> {
        loop {
            let Some(now) = self.list_now(name, column) else { return Vec::new() };
            let lacking = wanted.iter().filter_map(|(grantee, grantor, held)| {
                let has = now.0.get(&(grantee.clone(), grantor.to_owned())).cloned().unwrap_or_default();
                let options = held.options.without(has.options);
                let plain = held.privileges.without(has.privileges).without(options);
                let (privileges, regrant) = if options.is_empty() { (plain, false) } else { (options, true) };
                (!privileges.is_empty()).then(|| (grantee.clone(), grantor.to_owned(), privileges, regrant))
            });
            let (may, stuck): (Vec<_>, Vec<_>) =
                lacking.partition(|(_, grantor, privileges, _)| self.may_grant(name, column, grantor, *privileges));
            let Some((grantee, grantor, privileges, regrant)) = may.into_iter().next() else { return stuck };
            let change = self.change_of(name, column, &grantee, &grantor, privileges, regrant);
            if !self.run(&change) {
                return Vec::new();
            }
        }
    }

    fn may_grant(&self, name: &ObjectName, column: Option<&str>, grantor: &str, privileges: Privileges) -> bool {
        let Some(object) = self.now.objects.get(name) else { return false };
        let mut acl = object.acl.clone();
        if let Some(column) = column.and_then(|c| object.columns.iter().find(|x| x.name == c)) {
            acl.merge(&column.acl);
        }
        acl.own_options(grantor, &object.owner, privileges) == privileges
    }

    fn change_of(
        &self,
        name: &ObjectName,
        column: Option<&str>,
        grantee: &Grantee,
        grantor: &str,
        privileges: Privileges,
        regrant: bool,
    ) -> GrantChange {
        GrantChange {
            object: name.clone(),
            columns: column.into_iter().map(str::to_owned).collect(),
            privileges,
            grantee: grantee.clone(),
            regrant,
            by: Some(grantor.to_owned()),
            revoke: false,
            cascade: false,
            place: None,
        }
    }

    /// Writes a change and carries it out on the state; false if it would change nothing, so that nobody waits for it.
    fn run(&mut self, change: &GrantChange) -> bool {
        let before = self.now.objects.get(&change.object).cloned();
        if self.now.change_resting_on_grantor(change).is_err() || self.now.objects.get(&change.object) == before.as_ref() {
            return false;
        }
        let owner = before.map(|o| o.owner).unwrap_or_default();
        self.changes.push(GrantChange { by: change.by.clone().filter(|b| *b != owner), ..change.clone() });
        let target = self.target(&change.object);
        let sql = statement(change, &target);
        match &change.by {
            Some(grantor) if *grantor != owner && self.now.is_superuser(grantor) => {
                // A superuser acts as the owner, whatever it holds itself; only a member of it gives in its name.
                let mut member = "zest_passing_on".to_owned();
                while self.now.roles.contains_key(&member) {
                    member.push('_');
                }
                self.step(format!("CREATE ROLE {} IN ROLE {}", quoted(&member), quoted(grantor)));
                self.as_role(&member, &change.object, sql);
                self.step(format!("DROP ROLE {}", quoted(&member)));
            }
            Some(grantor) if *grantor != owner => self.as_role(grantor, &change.object, sql),
            _ => self.step(sql),
        }
        true
    }

    /// Writes a statement that is carried out by a role. One that may not look the name up any more is let in for the
    /// moment.
    fn as_role(&mut self, role: &str, object: &ObjectName, sql: String) {
        let schema = object.schema().map(|s| ObjectName::new(Class::Schema, &[s]));
        let shut = schema.filter(|s| !self.now.has(role, s, None, Privilege::Usage, false)).map(|s| s.sql());
        if let Some(schema) = &shut {
            self.step(format!("GRANT USAGE ON SCHEMA {schema} TO {}", quoted(role)));
        }
        self.step(format!("SET ROLE {}", quoted(role)));
        self.step(sql);
        self.step("RESET ROLE".to_owned());
        if let Some(schema) = &shut {
            self.step(format!("REVOKE USAGE ON SCHEMA {schema} FROM {}", quoted(role)));
        }
    }

    fn defaults(&mut self, ledger: &State) {
        for key in names(self.now.defaults.keys(), ledger.defaults.keys()) {
            let plain = if key.schema.is_none() { Acl::default_for(key.class, &key.creator) } else { Acl::default() };
            let has = self.now.defaults.get(&key).unwrap_or(&plain).clone();
            let wanted = ledger.defaults.get(&key).unwrap_or(&plain).clone();
            let schema = key.schema.as_ref().map_or(String::new(), |s| format!(" IN SCHEMA {}", quoted(s)));
            let head = format!("ALTER DEFAULT PRIVILEGES FOR ROLE {}{schema}", quoted(&key.creator));
            let plural = format!("{}S", key.class.keyword());
            for (grantee, grantor, held) in has.iter() {
                let keep = wanted.0.get(&(grantee.clone(), grantor.to_owned())).cloned().unwrap_or_default();
                let gone = held.privileges.without(keep.privileges);
                let options = held.options.without(keep.options).without(gone);
                for (privileges, option) in [(gone, ""), (options, "GRANT OPTION FOR ")] {
                    if !privileges.is_empty() {
                        let list = privileges.to_string().to_uppercase();
                        self.step(format!("{head} REVOKE {option}{list} ON {plural} FROM {}", grantee_sql(grantee)));
                    }
                }
            }
            for (grantee, grantor, held) in wanted.iter() {
                let has = has.0.get(&(grantee.clone(), grantor.to_owned())).cloned().unwrap_or_default();
                let options = held.options.without(has.options);
                let plain = held.privileges.without(has.privileges).without(options);
                for (privileges, option) in [(plain, ""), (options, " WITH GRANT OPTION")] {
                    if !privileges.is_empty() {
                        let list = privileges.to_string().to_uppercase();
                        self.step(format!("{head} GRANT {list} ON {plural} TO {}{option}", grantee_sql(grantee)));
                    }
                }
            }
        }
    }
}

fn grantee_sql(grantee: &Grantee) -> String {
    match grantee {
        Grantee::Public => "PUBLIC".to_owned(),
        Grantee::Role(name) => quoted(name),
    }
}

/// Writes a GRANT or REVOKE for the server.
pub(crate) fn statement(change: &GrantChange, target: &str) -> String {
    let columns = change.columns.iter().map(|c| quoted(c)).collect::<Vec<_>>().join(", ");
    let one = |p: Privilege| {
        let word = p.word().to_uppercase();
        if columns.is_empty() { word } else { format!("{word} ({columns})") }
    };
    let list = change.privileges.iter().map(one).collect::<Vec<_>>().join(", ");
    let keyword = change.object.class.keyword();
    let grantee = grantee_sql(&change.grantee);
    if change.revoke {
        let option = if change.regrant { "GRANT OPTION FOR " } else { "" };
        let cascade = if change.cascade { " CASCADE" } else { "" };
        format!("REVOKE {option}{list} ON {keyword} {target} FROM {grantee}{cascade}")
    } else {
        let option = if change.regrant { " WITH GRANT OPTION" } else { "" };
        format!("GRANT {list} ON {keyword} {target} TO {grantee}{option}")
    }
}

const fn alter_word(class: Class) -> &'static str {
    match class {
        Class::View => "VIEW",
        Class::MaterialisedView => "MATERIALIZED VIEW",
        Class::Server => "SERVER",
        other => other.keyword(),
    }
}

impl GrantChange {
    /// Writes the change as the server's own statement; `target` is the object in SQL.
    #[must_use]
    pub fn sql(&self, target: &str) -> String {
        statement(self, target)
    }
}

/// Writes steps as a script that can be run again: what is there already is passed over, and a failure changes nothing.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, postgresql::{State, script, state_of}};
/// let text = "systems.fares.kind = 'postgresql'\ndatabases.fares.roles.reader = {}\n";
/// let wanted = state_of(&Ledger::new().document("fares.toml", text).estate()?, "fares", None).expect("it is declared");
/// let steps = State::fresh("fares", "postgres").steps_to(&wanted, "postgres");
/// assert!(script(&steps, "postgres").contains("CREATE ROLE"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn script(steps: &[Step], by: &str) -> String {
    let mut out = format!(
        "-- To be run by `{}`, or another superuser. Everything or nothing.\nBEGIN;\nSET LOCAL check_function_bodies = off;\n",
        by.replace('\n', " ")
    );
    let mut credentials = String::new();
    for step in steps {
        if step.sql.starts_with("CREATE ") || step.sql.contains(" ADD CONSTRAINT ") {
            let mut tag = "$zest$".to_owned();
            while step.sql.contains(&tag) {
                tag.insert(tag.len() - 1, 'x');
            }
            let known = "duplicate_object OR duplicate_table OR duplicate_schema OR duplicate_function";
            out.push_str(&format!("DO {tag} BEGIN\n  {};\nEXCEPTION WHEN {known} THEN NULL;\nEND {tag};\n", step.sql));
        } else {
            out.push_str(&step.sql);
            out.push_str(";\n");
        }
        if let Some(rest) = step.sql.strip_prefix("CREATE ROLE ").filter(|r| r.ends_with(" LOGIN") || r.contains(" LOGIN ")) {
            let name = rest.rsplit_once('"').map_or(rest, |(n, _)| n);
            credentials.push_str(&format!("-- CREDENTIAL TO SET: \\password {name}\"\n"));
        }
    }
    out.push_str("COMMIT;\n");
    out.push_str(&credentials);
    out
}

impl State {
    /// Says why rolling out would lock somebody out: the last superuser, or the one who rolls out.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::postgresql::State;
    /// let server = State::fresh("ticketing", "postgres");
    /// let mut wanted = server.clone();
    /// wanted.roles.get_mut("postgres").expect("a fresh server has it").login = false;
    /// let now = "2026-05-04T08:00:00Z".parse()?;
    /// assert!(server.lock_out(&wanted, "postgres", now).is_some() && server.lock_out(&server, "postgres", now).is_none());
    /// # Ok::<(), jiff::Error>(())
    /// ```
    #[must_use]
    pub fn lock_out(&self, ledger: &Self, by: &str, at: jiff::Timestamp) -> Option<String> {
        let is_open = |role: &Role| role.superuser && role.login && role.valid_until.is_none_or(|end| at < end);
        let stays = |name: &String, role: &Role| is_open(ledger.roles.get(name).unwrap_or(role));
        let has_one = self.roles.values().any(is_open);
        let keeps_one = self.roles.iter().any(|(n, r)| stays(n, r)) || ledger.roles.values().any(is_open);
        if has_one && !keeps_one {
            return Some("the last superuser who may sign in would be gone".to_owned());
        }
        let own = ledger.roles.get(by).filter(|_| self.roles.get(by).is_some_and(|r| r.superuser))?;
        (!is_open(own)).then(|| format!("`{by}`, who carries this out, would lose the right to go on"))
    }
}

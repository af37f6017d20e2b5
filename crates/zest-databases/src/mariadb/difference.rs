//! What one state has that another has not, and the statements that lead from one to the other.

use std::collections::BTreeSet;
use std::fmt::Write as _;

use super::name::{AccountName, Class, Holder, ObjectName, Scope, literal, quoted};
use super::privilege::{Privilege, Privileges};
use super::state::{Account, GrantChange, Held, Object, State};
use super::trigger::Trigger;
use crate::database::not_modelled::NAMES_NOT_RESOLVED;
use crate::database::order::{self, MadeOf};
use crate::drift::{Drift, Side, Step, left_alone, on_one_side};

/// In the place of a credential: nobody can sign in with it until a real one is set.
const NO_CREDENTIAL: &str = "IDENTIFIED VIA mysql_native_password USING 'invalid'";

fn keys<'a, K: Clone + Ord + 'a>(one: impl Iterator<Item = &'a K>, other: impl Iterator<Item = &'a K>) -> BTreeSet<K> {
    one.chain(other).cloned().collect()
}

fn attributes(account: &Account) -> Vec<String> {
    let mut list = Vec::new();
    if account.locked {
        list.push("locked".to_owned());
    }
    if account.expired {
        list.push("credential expired".to_owned());
    }
    list.extend(account.credential_due.map(|due| format!("credential due {due}")));
    list.extend(account.default_role.as_ref().map(|r| format!("default role {r}")));
    list.extend(account.not_modelled.iter().map(|n| format!("{n} (not modelled)")));
    list.extend(account.limits.iter().map(|(what, n)| format!("at most {n} {what}")));
    list
}

fn definition(name: &ObjectName, object: &Object) -> Vec<String> {
    let mut parts: Vec<String> = Vec::new();
    parts.extend(object.definer.as_ref().map(|d| format!("definer {d}")));
    if object.runs_as_owner {
        parts.push("runs as its definer".to_owned());
    }
    if !object.columns.is_empty() {
        let columns = object.columns.iter().map(|(name, kind)| format!("{name} {kind}").trim_end().to_owned());
        parts.push(format!("columns {}", columns.collect::<Vec<_>>().join(", ")));
    }
    parts.extend(object.parameters.as_ref().map(|p| format!("parameters {}", p.trim())));
    parts.extend(object.returns.as_ref().map(|r| format!("returns {r}")));
    parts.extend(object.body.as_ref().map(|b| format!("body {}", b.trim())));
    parts.extend(object.triggers.iter().map(|(trigger, made)| made.sql(trigger, name)));
    parts.extend(object.not_modelled.iter().map(|n| format!("{n} (not modelled)")));
    parts
}

impl State {
    /// Lists what the server has that the ledger does not, and the reverse. `self` is the server's state.
    #[must_use]
    pub fn drift(&self, ledger: &Self) -> Vec<Drift> {
        let mut list = Vec::new();
        let mut note = |side: Side, what: String| list.push(Drift { side, what });
        for name in keys(self.accounts.keys(), ledger.accounts.keys()) {
            match (self.accounts.get(&name), ledger.accounts.get(&name)) {
                (Some(_), None) => note(Side::Server, format!("account {name}")),
                (None, Some(_)) => note(Side::Ledger, format!("account {name}")),
                (Some(server), Some(wanted)) => {
                    let (a, b) = (attributes(server), attributes(wanted));
                    on_one_side(&a, &b).for_each(|(side, x)| note(side, format!("account {name}: {x}")));
                }
                (None, None) => {}
            }
        }
        self.roles.difference(&ledger.roles).for_each(|r| note(Side::Server, format!("role {r}")));
        ledger.roles.difference(&self.roles).for_each(|r| note(Side::Ledger, format!("role {r}")));
        for (side, mine, other) in [(Side::Server, self, ledger), (Side::Ledger, ledger, self)] {
            for ((member, role), admin) in &mine.memberships {
                if other.memberships.get(&(member.clone(), role.clone())) != Some(admin) {
                    note(side, format!("{member}: member of {role}{}", if *admin { ", may pass it on" } else { "" }));
                }
            }
            mine.databases.difference(&other.databases).for_each(|d| note(side, format!("database {d}")));
        }
        for (side, mine, other) in [(Side::Server, self, ledger), (Side::Ledger, ledger, self)] {
            // Without this note the answers of a ledger are but more careful.
            let counts = |n: &&String| side == Side::Ledger || *n != NAMES_NOT_RESOLVED;
            mine.not_modelled.difference(&other.not_modelled).filter(counts).for_each(|n| note(side, format!("{n} (not modelled)")));
        }
        for name in keys(self.objects.keys(), ledger.objects.keys()) {
            match (self.objects.get(&name), ledger.objects.get(&name)) {
                (Some(_), None) => note(Side::Server, name.to_string()),
                (None, Some(_)) => note(Side::Ledger, name.to_string()),
                (Some(server), Some(wanted)) => {
                    let (theirs, ours) = (definition(&name, server), definition(&name, wanted));
                    on_one_side(&theirs, &ours).for_each(|(side, part)| note(side, format!("{name}: {part}")));
                }
                _ => {}
            }
        }
        for (side, mine, other) in [(Side::Server, self, ledger), (Side::Ledger, ledger, self)] {
            for ((holder, scope), held) in &mine.grants {
                let theirs = other.grants.get(&(holder.clone(), scope.clone())).cloned().unwrap_or_default();
                let more = held.privileges.without(theirs.privileges);
                if !more.is_empty() || matches!(scope, Scope::Proxy(_)) && !other.grants.contains_key(&(holder.clone(), scope.clone())) {
                    let more = if matches!(scope, Scope::Proxy(_)) { "proxy".to_owned() } else { more.to_string() };
                    note(side, format!("{scope}: {holder} holds {more}"));
                }
                for (column, privileges) in &held.columns {
                    let more = privileges.without(theirs.columns.get(column).copied().unwrap_or_default());
                    if !more.is_empty() {
                        note(side, format!("{scope}, column {column}: {holder} holds {more}"));
                    }
                }
            }
        }
        list
    }

    /// Returns what of a ledger's state cannot be written as statements, for a server in this state: accounts and objects
    /// that would have to be made with something that is only named (see [`Object::not_modelled`]), or whose definition
    /// is not there.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, mariadb::{State, state_of}};
    /// let text = "systems.loyalty.kind = 'mariadb'\n[databases.loyalty.objects]\n'table club.member' = {}\n";
    /// let wanted = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
    /// assert_eq!(State::fresh().cannot_write(&wanted), ["table club.member: what columns it has is not in the ledger"]);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn cannot_write(&self, ledger: &Self) -> Vec<String> {
        let mut list = Vec::new();
        for (name, wanted) in ledger.accounts.iter().filter(|(n, _)| !self.accounts.contains_key(*n)) {
            list.extend(wanted.not_modelled.iter().map(|n| format!("account {name}: `{n}` is only named")));
            let is_due = wanted
                .credential_due
                .map(|_| format!("account {name}: its `credential-due` is counted from a credential that is not set yet"));
            list.extend(is_due);
        }
        for (name, wanted) in ledger.objects.iter().filter(|(n, _)| !self.objects.contains_key(*n)) {
            list.extend(wanted.not_modelled.iter().map(|n| format!("{name}: `{n}` is only named")));
            let is_blank = |text: &Option<String>| text.as_deref().is_none_or(|t| t.trim().is_empty());
            let lacks = match name.class {
                Class::View if is_blank(&wanted.query) => "its query",
                Class::Function | Class::Procedure if is_blank(&wanted.body) => "its body",
                Class::Function if is_blank(&wanted.returns) => "what it returns",
                Class::Table if wanted.columns.is_empty() => "what columns it has",
                Class::Table | Class::View | Class::Function | Class::Procedure => continue,
            };
            list.push(format!("{name}: {lacks} is not in the ledger"));
        }
        list
    }

    /// Returns what differs in objects that are there and is not led to what the ledger says by any statement: texts, columns, definers.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, mariadb::{state_of}};
    /// let text = "systems.loyalty.kind = 'mariadb'\n[databases.loyalty.objects]\n'table club.member' = { columns = { id = 'int' } }\n";
    /// let wanted = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
    /// let mut server = wanted.clone();
    /// server.objects.values_mut().for_each(|table| table.columns.clear());
    /// assert_eq!((server.left_alone(&wanted).len(), wanted.left_alone(&wanted).len()), (1, 0));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn left_alone(&self, ledger: &Self) -> Vec<String> {
        let both = ledger.objects.iter().filter_map(|(name, wanted)| {
            let mut now = self.objects.get(name)?.clone();
            // Those that are missing are made.
            wanted.triggers.iter().for_each(|(trigger, made)| {
                now.triggers.entry(trigger.clone()).or_insert_with(|| made.clone());
            });
            Some((name, definition(name, &now), definition(name, wanted)))
        });
        both.flat_map(|(name, now, wanted)| left_alone(&name.to_string(), &now, &wanted)).collect()
    }

    /// Returns the statements that lead from this state to the ledger's, in order; run by an account that may do so.
    ///
    /// What the ledger does not declare is left alone: accounts and tables are never dropped.
    #[must_use]
    pub fn steps_to(&self, ledger: &Self, by: &AccountName) -> Vec<Step> {
        let mut plan = Plan { now: self.clone(), made: BTreeSet::new(), steps: Vec::new() };
        plan.roles(ledger, by);
        plan.accounts(ledger);
        plan.objects(ledger);
        plan.memberships(ledger);
        plan.grants(ledger);
        plan.defaults(ledger);
        plan.steps
    }

    /// Says why rolling out would lock somebody out: the last account that may do everything, or the one who rolls out.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::mariadb::{AccountName, State};
    /// let (server, root) = (State::fresh(), AccountName::new("root", "localhost"));
    /// let mut wanted = server.clone();
    /// wanted.accounts.get_mut(&root).expect("a fresh server has it").locked = true;
    /// assert!(server.lock_out(&wanted, &root).is_some() && server.lock_out(&server, &root).is_none());
    /// ```
    #[must_use]
    pub fn lock_out(&self, ledger: &Self, by: &AccountName) -> Option<String> {
        let strong = |state: &Self, name: &AccountName| {
            let held = state.grants.get(&(Holder::Account(name.clone()), Scope::Everything));
            held.is_some_and(|h| h.privileges.contains(Privilege::CreateUser) && h.privileges.contains(Privilege::GrantOption))
                && state.accounts.get(name).is_some_and(|a| !a.locked)
        };
        let after = |name: &AccountName| if ledger.accounts.contains_key(name) { strong(ledger, name) } else { strong(self, name) };
        let had = self.accounts.keys().any(|a| strong(self, a));
        if had && !self.accounts.keys().chain(ledger.accounts.keys()).any(after) {
            return Some("the last account that may manage accounts and pass rights on would be gone".to_owned());
        }
        (strong(self, by) && !after(by)).then(|| format!("`{by}`, who carries this out, would lose the right to go on"))
    }
}

struct Plan {
    now: State,
    /// Objects that were not there.
    made: BTreeSet<ObjectName>,
    steps: Vec<Step>,
}

impl Plan {
    fn step(&mut self, sql: String) {
        self.steps.push(Step { sql });
    }

    fn roles(&mut self, ledger: &State, by: &AccountName) {
        for role in &ledger.roles {
            if self.now.roles.insert(role.clone()) {
                self.step(format!("CREATE ROLE {} WITH ADMIN {}", quoted(role), by.sql()));
                self.now.memberships.insert((Holder::Account(by.clone()), role.clone()), true);
            }
        }
    }

    fn accounts(&mut self, ledger: &State) {
        for (name, wanted) in &ledger.accounts {
            let has = self.now.accounts.get(name).cloned();
            let old = has.clone().unwrap_or_default();
            let mut words = Vec::new();
            let limits: BTreeSet<&String> = wanted.limits.keys().chain(old.limits.keys()).collect();
            let changed: Vec<String> = limits
                .into_iter()
                .filter(|l| wanted.limits.get(*l) != old.limits.get(*l))
                .map(|l| {
                    let keyword = match l.as_str() {
                        "queries" => "MAX_QUERIES_PER_HOUR",
                        "updates" => "MAX_UPDATES_PER_HOUR",
                        "connections" => "MAX_CONNECTIONS_PER_HOUR",
                        _ => "MAX_USER_CONNECTIONS",
                    };
                    format!("{keyword} {}", wanted.limits.get(l).copied().unwrap_or(0))
                })
                .collect();
            if !changed.is_empty() {
                words.push(format!("WITH {}", changed.join(" ")));
            }
            if wanted.expired && !old.expired {
                words.push("PASSWORD EXPIRE".to_owned());
            }
            if wanted.locked != old.locked {
                words.push(if wanted.locked { "ACCOUNT LOCK" } else { "ACCOUNT UNLOCK" }.to_owned());
            }
            if has.is_none() {
                self.step(format!("CREATE USER {} {NO_CREDENTIAL} {}", name.sql(), words.join(" ")).trim_end().to_owned());
            } else if !words.is_empty() {
                self.step(format!("ALTER USER {} {}", name.sql(), words.join(" ")));
            }
            self.now.accounts.insert(name.clone(), Account { default_role: old.default_role, ..wanted.clone() });
        }
    }

    fn objects(&mut self, ledger: &State) {
        for database in &ledger.databases {
            if self.now.databases.insert(database.clone()) {
                self.step(format!("CREATE DATABASE {}", quoted(database)));
            }
        }
        let mut missing: Vec<(&ObjectName, &Object)> = ledger.objects.iter().filter(|(n, _)| !self.now.objects.contains_key(*n)).collect();
        missing.sort_by_key(|(n, _)| (n.class == Class::View, n.class));
        let queries: Vec<MadeOf<'_>> =
            missing.iter().map(|(n, o)| (n.name.as_str(), o.query.as_deref().into_iter().collect(), Vec::new())).collect();
        let is_read = |name: &ObjectName| {
            name.class == Class::View && queries.iter().any(|(_, texts, _)| texts.iter().any(|t| t.contains(&name.name)))
        };
        // A view cannot be made over one whose definer lacks rights, as he does before the grants: such a one reads as whoever carries this
        // out at first.
        let mut later: Vec<String> = Vec::new();
        for (name, object) in order::in_order(&queries).into_iter().map(|at| missing[at]) {
            if is_read(name) && object.runs_as_owner {
                self.step(create(name, &Object { definer: None, runs_as_owner: false, ..object.clone() }));
                let made = create(name, object);
                later.push(made.replacen("CREATE ", "ALTER ", 1));
            } else {
                self.step(create(name, object));
            }
            self.now.objects.insert(name.clone(), object.clone());
            self.made.insert(name.clone());
        }
        // From without, so that each is altered while those within read as whoever carries this out.
        later.into_iter().rev().for_each(|sql| self.step(sql));
        for (name, object) in &ledger.objects {
            self.triggers(name, object);
        }
    }

    /// The triggers of a table that are missing, each behind the one that it follows.
    fn triggers(&mut self, name: &ObjectName, wanted: &Object) {
        let has = self.now.objects.get(name).map(|now| &now.triggers).filter(|_| !self.made.contains(name));
        let mut missing: Vec<(&String, &Trigger)> =
            wanted.triggers.iter().filter(|(trigger, _)| has.is_none_or(|has| !has.contains_key(*trigger))).collect();
        while !missing.is_empty() {
            let waits = |(_, trigger): &(&String, &Trigger)| {
                trigger.follows.as_ref().is_some_and(|before| missing.iter().any(|(other, _)| *other == before))
            };
            // Those that follow each other in a circle are made as they stand, and the server says so.
            let next = missing.iter().position(|each| !waits(each)).unwrap_or(0);
            let (trigger, made) = missing.remove(next);
            self.step(made.sql(trigger, name));
        }
    }

    fn memberships(&mut self, ledger: &State) {
        let declared = |h: &Holder| match h {
            Holder::Public => true,
            Holder::Role(r) => ledger.roles.contains(r),
            Holder::Account(a) => ledger.accounts.contains_key(a),
        };
        let gone: Vec<(Holder, String)> =
            self.now.memberships.keys().filter(|k| !ledger.memberships.contains_key(k) && declared(&k.0)).cloned().collect();
        // What roles lose first: two that change places would be members of each other. What accounts lose last: it may be what lets
        // whoever carries this out grant the rest.
        let (of_roles, of_others): (Vec<_>, Vec<_>) = gone.into_iter().partition(|(member, _)| matches!(member, Holder::Role(_)));
        for (member, role) in of_roles {
            self.step(format!("REVOKE {} FROM {}", quoted(&role), member.sql()));
        }
        for (key, &admin) in &ledger.memberships {
            match self.now.memberships.get(key) {
                Some(&was) if was == admin => continue,
                Some(true) => self.step(format!("REVOKE ADMIN OPTION FOR {} FROM {}", quoted(&key.1), key.0.sql())),
                _ => {
                    let option = if admin { " WITH ADMIN OPTION" } else { "" };
                    self.step(format!("GRANT {} TO {}{option}", quoted(&key.1), key.0.sql()));
                }
            }
        }
        for (member, role) in of_others {
            self.step(format!("REVOKE {} FROM {}", quoted(&role), member.sql()));
        }
        self.now.memberships.clone_from(&ledger.memberships);
    }

    fn grants(&mut self, ledger: &State) {
        for change in changes(&self.now, ledger) {
            self.step(change.sql());
        }
    }

    fn defaults(&mut self, ledger: &State) {
        for (name, wanted) in &ledger.accounts {
            let has = self.now.accounts.get(name).and_then(|a| a.default_role.clone());
            // The server takes none that was not granted, and would make none active.
            let is_granted = wanted.default_role.as_ref().is_none_or(|role| !ledger.activating(name, None, role).is_empty());
            if has != wanted.default_role && is_granted {
                let role = wanted.default_role.as_ref().map_or("NONE".to_owned(), |r| quoted(r));
                self.step(format!("SET DEFAULT ROLE {role} FOR {}", name.sql()));
            }
        }
    }
}

/// Returns the grants and revokes that lead from one state's grants to another's; revokes first, so that nothing is
/// wider for a moment than it was or shall be.
pub(super) fn changes(from: &State, to: &State) -> Vec<GrantChange> {
    let mut revokes = Vec::new();
    let mut grants = Vec::new();
    let declared = |h: &Holder| match h {
        Holder::Public => true,
        Holder::Role(r) => to.roles.contains(r),
        Holder::Account(a) => to.accounts.contains_key(a),
    };
    for key in keys(from.grants.keys(), to.grants.keys()).into_iter().filter(|(h, _)| declared(h)) {
        let (has, wanted) = (from.grants.get(&key), to.grants.get(&key));
        let none = Held::default();
        let (a, b) = (has.unwrap_or(&none), wanted.unwrap_or(&none));
        let change = |privileges: Privileges, columns: Vec<String>, revoke: bool| GrantChange {
            scope: key.1.clone(),
            columns,
            privileges,
            holder: key.0.clone(),
            revoke,
            place: wanted.and_then(|w| w.place),
        };
        if matches!(key.1, Scope::Proxy(_)) {
            if has.is_some() && (wanted.is_none() || a.privileges != b.privileges) {
                revokes.push(change(a.privileges, Vec::new(), true));
            }
            if wanted.is_some() && (has.is_none() || a.privileges != b.privileges) {
                grants.push(change(b.privileges, Vec::new(), false));
            }
            continue;
        }
        let gone = a.privileges.without(b.privileges);
        if !gone.is_empty() {
            revokes.push(change(gone, Vec::new(), true));
        }
        let mut lost: Vec<String> = Vec::new();
        for (column, held) in &a.columns {
            // A revoke on the table takes it from the columns, too.
            let left = held.without(gone);
            let more = left.without(b.columns.get(column).copied().unwrap_or_default());
            if !more.is_empty() {
                revokes.push(change(more, vec![column.clone()], true));
            }
            if left != *held {
                lost.push(column.clone());
            }
        }
        let new = b.privileges.without(a.privileges);
        if !new.is_empty() {
            grants.push(change(new, Vec::new(), false));
        }
        for (column, held) in &b.columns {
            let had = a.columns.get(column).map_or(Privileges::NONE, |h| h.without(gone));
            let more = held.without(had);
            if !more.is_empty() {
                grants.push(change(more, vec![column.clone()], false));
            }
        }
    }
    revokes.into_iter().chain(grants).collect()
}

impl GrantChange {
    /// Writes the change as the server's own statement.
    #[must_use]
    pub fn sql(&self) -> String {
        let (verb, to) = if self.revoke { ("REVOKE", "FROM") } else { ("GRANT", "TO") };
        let holder = self.holder.sql();
        if let Scope::Proxy(of) = &self.scope {
            let option = if !self.revoke && self.privileges.contains(Privilege::GrantOption) { " WITH GRANT OPTION" } else { "" };
            return format!("{verb} PROXY ON {} {to} {holder}{option}", of.sql());
        }
        let columns = self.columns.iter().map(|c| quoted(c)).collect::<Vec<_>>().join(", ");
        let one = |p: Privilege| if columns.is_empty() { p.sql() } else { format!("{} ({columns})", p.sql()) };
        let list: Vec<String> = self.privileges.iter().map(one).collect();
        format!("{verb} {} ON {} {to} {holder}", list.join(", "), self.scope.sql())
    }
}

fn create(name: &ObjectName, object: &Object) -> String {
    let sql = name.sql();
    let definer = object.definer.as_ref().map_or(String::new(), |d| format!("DEFINER={} ", d.sql()));
    let security = if object.runs_as_owner { "DEFINER" } else { "INVOKER" };
    let query = object.query.as_deref().unwrap_or("").trim().trim_end_matches(';');
    let parameters = object.parameters.as_deref().unwrap_or("");
    let body = object.body.as_deref().unwrap_or("BEGIN END");
    match name.class {
        Class::Table => {
            let columns = object.columns.iter().map(|(n, t)| format!("{} {t}", quoted(n))).collect::<Vec<_>>().join(", ");
            format!("CREATE TABLE {sql} ({columns})")
        }
        Class::View => format!("CREATE {definer}SQL SECURITY {security} VIEW {sql} AS {query}"),
        Class::Function => {
            let returns = object.returns.as_deref().unwrap_or("int(11)");
            format!("CREATE {definer}FUNCTION {sql}({parameters}) RETURNS {returns} READS SQL DATA SQL SECURITY {security} {body}")
        }
        Class::Procedure => format!("CREATE {definer}PROCEDURE {sql}({parameters}) SQL SECURITY {security} {body}"),
    }
}

/// Writes steps as a script that can be run again. The server knows no transaction over such statements: it stops at
/// the first error, and what was done before stays.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, mariadb::{AccountName, State, script, state_of}};
/// let text = "systems.loyalty.kind = 'mariadb'\ndatabases.loyalty.roles.reader = {}\n";
/// let wanted = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
/// let steps = State::fresh().steps_to(&wanted, &AccountName::new("root", "localhost"));
/// assert!(script(&steps).contains("CREATE ROLE"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn script(steps: &[Step]) -> String {
    let mut out =
        "-- To be run by an account with all rights. The server cannot take such statements back: on an error, mend it and run again.\n"
            .to_owned();
    let mut credentials = String::new();
    for step in steps {
        let sql = &step.sql;
        let again = ["CREATE USER ", "CREATE ROLE ", "CREATE DATABASE ", "CREATE TABLE "].iter().find_map(|head| {
            let rest = sql.strip_prefix(head)?;
            Some(format!("{head}IF NOT EXISTS {rest}"))
        });
        let again = again.or_else(|| {
            let rest = sql
                .strip_prefix("CREATE ")
                .filter(|r| r.starts_with("DEFINER") || r.starts_with("SQL") || r.starts_with("FUNCTION") || r.starts_with("PROCEDURE"))?;
            Some(format!("CREATE OR REPLACE {rest}"))
        });
        let text = again.as_ref().unwrap_or(sql);
        if text.contains(';') {
            let mut mark = "//".to_owned();
            while text.contains(&mark) {
                mark.push('/');
            }
            let _ = writeln!(out, "DELIMITER {mark}\n{text} {mark}\nDELIMITER ;");
        } else {
            let _ = writeln!(out, "{text};");
        }
        if let Some((name, _)) = sql.strip_prefix("CREATE USER ").and_then(|r| r.split_once(" IDENTIFIED")) {
            let _ = writeln!(credentials, "-- CREDENTIAL TO SET: SET PASSWORD FOR {name} = PASSWORD({});", literal("..."));
        }
    }
    out.push_str(&credentials);
    out
}

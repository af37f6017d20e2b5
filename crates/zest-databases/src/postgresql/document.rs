//! A state as a ledger document: what was read from a server, ready to be kept and edited.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use super::acl::{Acl, Grantee};
use super::difference::changes;
use super::object::ObjectName;
use super::privilege::{Class, Privileges};
use super::state::{DefaultKey, GrantChange, Object, Policy, Role, State, owns_the_rest};
use zest_model::entry::{Kind, PolicyFor};
use zest_model::text::quoted_text as text;

impl State {
    /// Writes the state as a ledger document that describes the system `id`.
    ///
    /// Reading the document gives the same state again.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, postgresql::{State, state_of}};
    /// let state = State::fresh("ticketing", "postgres");
    /// let document = state.document("ticketing", Some("db-1.lanternsound.example"));
    /// let estate = Ledger::new().document("read.toml", &document).estate()?;
    /// assert_eq!(state_of(&estate, "ticketing", None), Some(state));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn document(&self, id: &str, address: Option<&str>) -> String {
        let mut out = String::new();
        let key = text(id);
        let _ = writeln!(out, "[systems.{key}]\nkind = {}\ndatabase = {}", text(Kind::POSTGRESQL.word()), text(&self.database));
        if let Some(address) = address {
            let _ = writeln!(out, "address = {}", text(address));
        }
        let _ = writeln!(out, "\n[databases.{key}]\nowner = {}", text(self.database_owner()));
        if !self.settings.is_empty() {
            let _ = writeln!(out, "settings = {}", list(&self.settings));
        }
        if !self.not_modelled.is_empty() {
            let _ = writeln!(out, "not-modelled = {}", list(&self.not_modelled));
        }
        for (table, login) in [("accounts", true), ("roles", false)] {
            let roles: Vec<(&String, &Role)> = self.roles.iter().filter(|(_, r)| r.login == login).collect();
            if !roles.is_empty() {
                let _ = writeln!(out, "\n[databases.{key}.{table}]");
                roles.iter().for_each(|(name, role)| out.push_str(&role_line(name, role)));
            }
        }
        let fresh = Self::fresh(&self.database, self.superuser());
        let is_own = |name: &ObjectName, object: &Object| {
            name.class != Class::Database && fresh.objects.get(name).is_none_or(|f| f.owner != object.owner)
        };
        let _ = writeln!(out, "\n[databases.{key}.objects]");
        for (name, object) in self.objects.iter().filter(|(n, o)| is_own(n, o)) {
            out.push_str(&object_line(name, object));
        }
        for change in grouped(changes(&self.bare(), self)) {
            let _ = write!(out, "\n[[databases.{key}.grants]]\n{}", grant(&change));
        }
        for (default, acl) in &self.defaults {
            for entry in default_grants(default, acl) {
                let _ = write!(out, "\n[[databases.{key}.default-grants]]\n{entry}");
            }
        }
        out
    }

    fn superuser(&self) -> &str {
        let superusers = self.roles.iter().filter(|(_, role)| role.superuser);
        owns_the_rest(superusers.map(|(name, role)| (name.as_str(), role.login)))
    }

    /// The same roles and objects as a ledger has them before any grant.
    fn bare(&self) -> Self {
        let mut bare = Self::fresh(&self.database, self.superuser());
        bare.roles.clone_from(&self.roles);
        for (name, object) in &self.objects {
            if bare.objects.contains_key(name) {
                bare.set_owner(name, &object.owner);
            } else {
                let mut object = object.clone();
                object.acl = Acl::default_for(name.class, &object.owner);
                object.columns.iter_mut().for_each(|c| c.acl = Acl::default());
                bare.objects.insert(name.clone(), object);
            }
        }
        bare
    }
}

fn list(items: impl IntoIterator<Item = impl AsRef<str>>) -> String {
    format!("[{}]", items.into_iter().map(|i| text(i.as_ref())).collect::<Vec<_>>().join(", "))
}

fn role_line(name: &str, role: &Role) -> String {
    let mut parts = Vec::new();
    let switches = [
        ("superuser", role.superuser),
        ("create-role", role.create_role),
        ("create-database", role.create_database),
        ("replication", role.replication),
        ("bypass-row-security", role.bypass_row_security),
    ];
    let on: Vec<&str> = switches.iter().filter(|(_, on)| *on).map(|(w, _)| *w).collect();
    if !on.is_empty() {
        parts.push(format!("may = {}", list(on)));
    }
    if !role.inherit {
        parts.push("inherit = false".to_owned());
    }
    for (key, admin) in [("member-of", false), ("administers", true)] {
        let of: Vec<&String> = role.member_of.iter().filter(|(_, a)| **a == admin).map(|(r, _)| r).collect();
        if !of.is_empty() {
            parts.push(format!("{key} = {}", list(of)));
        }
    }
    if role.connection_limit >= 0 {
        parts.push(format!("connection-limit = {}", role.connection_limit));
    }
    parts.extend(role.valid_until.map(|t| format!("until = {t}")));
    if !role.settings.is_empty() {
        parts.push(format!("settings = {}", list(&role.settings)));
    }
    if !role.not_modelled.is_empty() {
        parts.push(format!("not-modelled = {}", list(&role.not_modelled)));
    }
    format!("{} = {{ {} }}\n", text(name), parts.join(", ")).replace("{  }", "{}")
}

fn object_line(name: &ObjectName, object: &Object) -> String {
    let mut parts = vec![format!("owner = {}", text(&object.owner))];
    let is_view = matches!(name.class, Class::View | Class::MaterialisedView);
    if name.class == Class::View && !object.runs_as_owner {
        parts.push("runs-as = \"caller\"".to_owned());
    }
    if name.class.is_routine() && object.runs_as_owner {
        parts.push("runs-as = \"owner\"".to_owned());
    }
    if object.row_security {
        parts.push("row-security = true".to_owned());
    }
    if object.row_security_for_owner {
        parts.push("row-security-for-owner = true".to_owned());
    }
    if let Some(policies) = &object.policies {
        parts.push(format!("policies = {}", inline(policies.iter().map(|(name, policy)| (name.as_str(), policy_line(policy))))));
    }
    if is_view {
        parts.push(format!("columns = {}", list(object.columns.iter().map(|c| &c.name))));
    } else if !object.columns.is_empty() {
        parts.push(format!("columns = {}", inline(object.columns.iter().map(|c| (c.name.as_str(), text(&c.data_type))))));
        if object.columns.iter().any(|c| c.default.is_some()) {
            let defaults = object.columns.iter().filter_map(|c| Some((c.name.as_str(), text(c.default.as_ref()?))));
            parts.push(format!("defaults = {}", inline(defaults)));
        }
    }
    parts.extend(object.domain_of.as_ref().map(|base| format!("domain-of = {}", text(base))));
    for (key, named) in [("checks", &object.checks), ("triggers", &object.triggers), ("rules", &object.rules)] {
        if !named.is_empty() {
            parts.push(format!("{key} = {}", inline(named.iter().map(|(name, written)| (name.as_str(), text(written))))));
        }
    }
    parts.extend(object.query.as_ref().map(|q| format!("query = {}", text(q))));
    if name.class == Class::Function {
        parts.extend(object.returns.as_ref().map(|r| format!("returns = {}", text(r))));
    }
    parts.extend(object.parameters.as_ref().map(|p| format!("parameters = {}", text(p))));
    if !object.settings.is_empty() {
        parts.push(format!("settings = {}", list(&object.settings)));
    }
    let language = if name.class == Class::Server { "wrapper" } else { "language" };
    parts.extend(object.language.as_ref().map(|l| format!("{language} = {}", text(l))));
    parts.extend(object.body.as_ref().map(|b| format!("body = {}", text(b))));
    if !object.values.is_empty() {
        parts.push(format!("values = {}", list(&object.values)));
    }
    if !object.not_modelled.is_empty() {
        parts.push(format!("not-modelled = {}", list(&object.not_modelled)));
    }
    format!("{} = {{ {} }}\n", text(&name.to_string()), parts.join(", "))
}

/// Writes a table in one line.
fn inline<'n>(named: impl Iterator<Item = (&'n str, String)>) -> String {
    let pairs = named.map(|(name, value)| format!("{} = {value}", text(name))).collect::<Vec<_>>().join(", ");
    if pairs.is_empty() { "{}".to_owned() } else { format!("{{ {pairs} }}") }
}

fn policy_line(policy: &Policy) -> String {
    let Policy { acts, to, using, check, restrictive } = policy;
    let mut parts = Vec::new();
    if *acts != PolicyFor::All {
        parts.push(format!("for = {}", text(acts.word())));
    }
    if !to.is_empty() {
        parts.push(format!("to = {}", list(to)));
    }
    parts.extend(using.as_ref().map(|using| format!("using = {}", text(using))));
    parts.extend(check.as_ref().map(|check| format!("check = {}", text(check))));
    if *restrictive {
        parts.push("restrictive = true".to_owned());
    }
    if parts.is_empty() { "{}".to_owned() } else { format!("{{ {} }}", parts.join(", ")) }
}

/// Puts grants of an owner that differ in the grantee or column only together; they do not depend on each other.
fn grouped(changes: Vec<GrantChange>) -> Vec<(GrantChange, Vec<Grantee>)> {
    let mut given: BTreeSet<(ObjectName, Vec<String>)> = BTreeSet::new();
    let (mut revokes, mut grants, mut late) = (Vec::new(), Vec::new(), Vec::new());
    for change in changes {
        let on = (change.object.clone(), change.columns.clone());
        match change.revoke {
            // What was only lent is taken again behind what rests on it.
            true if given.contains(&on) => late.push(change),
            true => revokes.push(change),
            false => {
                given.insert(on);
                grants.push(change);
            }
        }
    }
    let (of_owner, others): (Vec<GrantChange>, Vec<GrantChange>) = grants.into_iter().partition(|c| c.by.is_none());
    let single = |c: GrantChange| {
        let grantee = c.grantee.clone();
        (c, vec![grantee])
    };
    let mut by_column: BTreeMap<(ObjectName, Privileges, bool, Grantee, bool), Vec<String>> = BTreeMap::new();
    for change in of_owner {
        let on_columns = !change.columns.is_empty();
        by_column.entry((change.object, change.privileges, change.regrant, change.grantee, on_columns)).or_default().extend(change.columns);
    }
    let mut by_grantee: BTreeMap<(ObjectName, Vec<String>, Privileges, bool), Vec<Grantee>> = BTreeMap::new();
    for ((object, privileges, regrant, grantee, _), columns) in by_column {
        by_grantee.entry((object, columns, privileges, regrant)).or_default().push(grantee);
    }
    let owners = by_grantee.into_iter().map(|((object, columns, privileges, regrant), grantees)| {
        let change = GrantChange {
            object,
            columns,
            privileges,
            grantee: Grantee::Public,
            regrant,
            by: None,
            revoke: false,
            cascade: false,
            place: None,
        };
        (change, grantees)
    });
    revokes.into_iter().map(single).chain(owners).chain(others.into_iter().chain(late).map(single)).collect()
}

fn words(privileges: Privileges) -> String {
    list(privileges.iter().map(|p| p.word()))
}

fn who(grantee: &Grantee) -> &str {
    match grantee {
        Grantee::Public => "public",
        Grantee::Role(name) => name,
    }
}

fn grant((change, grantees): &(GrantChange, Vec<Grantee>)) -> String {
    let (verb, to) = if change.revoke { ("revoke", "from") } else { ("allow", "to") };
    let all = change.privileges == change.object.class.applicable() && change.columns.is_empty();
    let privileges = if all { list(["all"]) } else { words(change.privileges) };
    let mut out = format!("{verb} = {privileges}\non = {}\n", text(&change.object.to_string()));
    if !change.columns.is_empty() {
        let _ = writeln!(out, "columns = {}", list(&change.columns));
    }
    let _ = writeln!(out, "{to} = {}", list(grantees.iter().map(who)));
    if change.regrant {
        out.push_str("regrant = true\n");
    }
    if change.cascade && change.revoke {
        out.push_str("cascade = true\n");
    }
    if let Some(by) = &change.by {
        let _ = writeln!(out, "grantor = {}", text(by));
    }
    out
}

fn default_grants(key: &DefaultKey, acl: &Acl) -> Vec<String> {
    let plain = if key.schema.is_none() { Acl::default_for(key.class, &key.creator) } else { Acl::default() };
    let plural = if key.class == Class::Function { "routines".to_owned() } else { format!("{}s", key.class.word()) };
    let schema = key.schema.as_ref().map_or(String::new(), |s| {
        let name = ObjectName::new(Class::Schema, &[s]);
        format!(" in {}", name.plain())
    });
    let entry = |verb: &str, to: &str, privileges: Privileges, grantee: &Grantee, regrant: bool| {
        let regrant = if regrant { "regrant = true\n" } else { "" };
        format!(
            "creator = {}\n{verb} = {}\non = {}\n{to} = {}\n{regrant}",
            text(&key.creator),
            words(privileges),
            text(&format!("new {plural}{schema}")),
            list([who(grantee)])
        )
    };
    let held = |acl: &Acl, grantee: &Grantee, grantor: &str| acl.0.get(&(grantee.clone(), grantor.to_owned())).cloned().unwrap_or_default();
    let mut out = Vec::new();
    for (grantee, grantor, has) in plain.iter() {
        let gone = has.privileges.without(held(acl, grantee, grantor).privileges);
        if !gone.is_empty() {
            out.push(entry("revoke", "from", gone, grantee, false));
        }
    }
    for (grantee, grantor, wanted) in acl.iter() {
        let has = held(&plain, grantee, grantor);
        let options = wanted.options.without(has.options);
        let more = wanted.privileges.without(has.privileges).without(options);
        for (privileges, regrant) in [(more, false), (options, true)] {
            if !privileges.is_empty() {
                out.push(entry("allow", "to", privileges, grantee, regrant));
            }
        }
    }
    out
}

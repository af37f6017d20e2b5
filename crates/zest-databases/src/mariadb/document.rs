//! A state as a ledger document: what was read from a server, ready to be kept and edited.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use super::difference::changes;
use super::name::{AccountName, Class, Holder, ObjectName, Scope};
use super::privilege::{Level, Privilege, Privileges};
use super::state::{Account, Object, State};
use crate::database::not_modelled::GONE;
use zest_model::entry::Kind;
use zest_model::text::quoted_text as text;

impl State {
    /// Writes the state as a ledger document that describes the system `id`.
    ///
    /// Reading the document gives the same state again.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, mariadb::{State, state_of}};
    /// let state = State::fresh();
    /// let estate = Ledger::new().document("read.toml", &state.document("loyalty", None)).estate()?;
    /// assert_eq!(state_of(&estate, "loyalty", None), Some(state));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn document(&self, id: &str, address: Option<&str>) -> String {
        let mut out = String::new();
        let key = text(id);
        let _ = writeln!(out, "[systems.{key}]\nkind = {}", text(Kind::MARIADB.word()));
        if let Some(address) = address {
            let _ = writeln!(out, "address = {}", text(address));
        }
        if !self.not_modelled.is_empty() {
            let _ = writeln!(out, "\n[databases.{key}]\nnot-modelled = {}", list(&self.not_modelled));
        }
        let _ = writeln!(out, "\n[databases.{key}.accounts]");
        for (name, account) in &self.accounts {
            out.push_str(&self.account_line(name, account));
        }
        if !self.roles.is_empty() {
            let _ = writeln!(out, "\n[databases.{key}.roles]");
            for role in &self.roles {
                let parts = self.memberships_of(&Holder::Role(role.clone()));
                let _ = writeln!(out, "{} = {{ {} }}", text(role), parts.join(", "));
            }
        }
        let _ = writeln!(out, "\n[databases.{key}.objects]");
        for database in &self.databases {
            let _ = writeln!(out, "{} = {{}}", text(&Scope::database(database).to_string()));
        }
        for (name, object) in &self.objects {
            out.push_str(&object_line(name, object));
        }
        // Grants outlive what they are on; a document that is read asks for every object that it names.
        let is_there = |scope: &Scope| self.objects.keys().any(|n| Scope::of(n) == *scope);
        let gone: BTreeSet<&Scope> = self
            .grants
            .keys()
            .map(|(_, scope)| scope)
            .filter(|s| matches!(s, Scope::Table(..) | Scope::Function(..) | Scope::Procedure(..)) && !is_there(s))
            .collect();
        for scope in gone {
            let _ = writeln!(out, "{} = {{ not-modelled = {} }}", text(&scope.to_string()), list([GONE]));
        }
        // What PUBLIC is a member of cannot be written at an account or role.
        let public: Vec<(&String, &bool)> =
            self.memberships.iter().filter(|((m, _), _)| *m == Holder::Public).map(|((_, r), a)| (r, a)).collect();
        for (role, _) in public {
            let _ = write!(
                out,
                "\n[[databases.{key}.grants]]\nallow = [\"membership\"]\non = {}\nto = [\"public\"]\n",
                text(&format!("role {role}"))
            );
        }
        let mut bare = Self { grants: BTreeMap::new(), ..self.clone() };
        let root = (Holder::Account(AccountName::new("root", "localhost")), Scope::Everything);
        if self.accounts.contains_key(&AccountName::new("root", "localhost")) {
            // What a fresh server gives its first account is there without being written.
            bare.grants = Self::fresh().grants;
            bare.grants.retain(|k, v| self.grants.get(k) == Some(v) || *k == root);
        }
        for change in changes(&bare, self) {
            let (verb, to) = if change.revoke { ("revoke", "from") } else { ("allow", "to") };
            let level = if change.columns.is_empty() { level_of(&change.scope) } else { Level::Column };
            let holder = match &change.holder {
                Holder::Public => "public".to_owned(),
                Holder::Role(name) => name.clone(),
                Holder::Account(name) => name.to_string(),
            };
            let _ = write!(
                out,
                "\n[[databases.{key}.grants]]\n{verb} = {}\non = {}\n",
                words(&change.scope, level, change.privileges),
                text(&change.scope.to_string())
            );
            if !change.columns.is_empty() {
                let _ = writeln!(out, "columns = {}", list(&change.columns));
            }
            let _ = writeln!(out, "{to} = {}", list([holder]));
            if change.privileges.contains(Privilege::GrantOption) {
                out.push_str("regrant = true\n");
            }
        }
        out
    }

    fn memberships_of(&self, member: &Holder) -> Vec<String> {
        let of = |admin: bool| -> Vec<&String> {
            self.memberships.iter().filter(|((m, _), a)| m == member && **a == admin).map(|((_, r), _)| r).collect()
        };
        let mut parts = Vec::new();
        for (key, admin) in [("member-of", false), ("administers", true)] {
            let roles = of(admin);
            let is_implied = *member == Holder::Account(AccountName::new("root", "localhost")) && admin && roles.len() == self.roles.len();
            if !roles.is_empty() && !is_implied {
                parts.push(format!("{key} = {}", list(roles)));
            }
        }
        parts
    }

    fn account_line(&self, name: &AccountName, account: &Account) -> String {
        let mut parts = self.memberships_of(&Holder::Account(name.clone()));
        if account.locked {
            parts.push("locked = true".to_owned());
        }
        if account.expired {
            parts.push("credential = \"expired\"".to_owned());
        }
        parts.extend(account.credential_due.map(|due| format!("credential-due = {due}")));
        parts.extend(account.default_role.as_ref().map(|r| format!("default-role = {}", text(r))));
        let by_the_hour = account.limits.iter().filter(|(what, _)| *what != "sessions");
        let limits = by_the_hour.map(|(what, n)| format!("{} = {n}", text(what))).collect::<Vec<_>>().join(", ");
        parts.extend(account.limits.get("sessions").map(|n| format!("connection-limit = {n}")));
        if !limits.is_empty() {
            parts.push(format!("limits = {{ {limits} }}"));
        }
        if !account.not_modelled.is_empty() {
            parts.push(format!("not-modelled = {}", list(&account.not_modelled)));
        }
        format!("{} = {{ {} }}\n", text(&name.to_string()), parts.join(", "))
    }
}

/// Returns the level of a scope.
pub(super) const fn level_of(scope: &Scope) -> Level {
    match scope {
        Scope::Everything | Scope::Proxy(_) => Level::Global,
        Scope::Databases(_) => Level::Database,
        Scope::Table(..) => Level::Table,
        Scope::Function(..) | Scope::Procedure(..) => Level::Routine,
    }
}

fn list(items: impl IntoIterator<Item = impl AsRef<str>>) -> String {
    format!("[{}]", items.into_iter().map(|i| text(i.as_ref())).collect::<Vec<_>>().join(", "))
}

fn words(scope: &Scope, level: Level, privileges: Privileges) -> String {
    if matches!(scope, Scope::Proxy(_)) {
        return list(["proxy"]);
    }
    let plain = privileges.without(Privilege::GrantOption.only());
    if plain == level.applicable().without(Privilege::GrantOption.only()) {
        return list(["all"]);
    }
    if plain.is_empty() { list(["grant option"]) } else { list(plain.iter().map(Privilege::word)) }
}

fn object_line(name: &ObjectName, object: &Object) -> String {
    let mut parts = Vec::new();
    parts.extend(object.definer.as_ref().map(|d| format!("owner = {}", text(&d.to_string()))));
    if name.class != Class::Table {
        parts.push(format!("runs-as = {}", text(if object.runs_as_owner { "owner" } else { "caller" })));
    }
    if name.class == Class::View {
        parts.push(format!("columns = {}", list(object.columns.iter().map(|(c, _)| c))));
    } else if !object.columns.is_empty() {
        let columns = object.columns.iter().map(|(c, t)| format!("{} = {}", text(c), text(t))).collect::<Vec<_>>().join(", ");
        parts.push(format!("columns = {{ {columns} }}"));
    }
    parts.extend(object.query.as_ref().map(|q| format!("query = {}", text(q))));
    parts.extend(object.parameters.as_ref().map(|p| format!("parameters = {}", text(p))));
    parts.extend(object.returns.as_ref().map(|r| format!("returns = {}", text(r))));
    parts.extend(object.body.as_ref().map(|b| format!("body = {}", text(b))));
    if !object.triggers.is_empty() {
        let triggers = object.triggers.iter().map(|(trigger, made)| format!("{} = {}", text(trigger), text(&made.sql(trigger, name))));
        parts.push(format!("triggers = {{ {} }}", triggers.collect::<Vec<_>>().join(", ")));
    }
    if !object.not_modelled.is_empty() {
        parts.push(format!("not-modelled = {}", list(&object.not_modelled)));
    }
    format!("{} = {{ {} }}\n", text(&name.to_string()), parts.join(", "))
}

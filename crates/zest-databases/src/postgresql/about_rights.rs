//! Statements about roles, and grants on types, languages and foreign servers: what the server checks for them (`user.c` and
//! `aclchk.c` of version 15).
//!
//! The parser of SQL reads few of their forms, so they have a grammar of their own over its words. A text that is none of them, or goes
//! on in a way that is not known here, is left to that parser.

use std::ops::{Deref, DerefMut};

use sqlparser::tokenizer::Token;

use super::catalog::Want;
use super::need::{Demand, Need};
use super::object::ObjectName;
use super::privilege::{Class, Privilege, Privileges};
use super::state::State;
use super::statement::OPEN;
use crate::database::not_modelled::looked_at_on_server;
use crate::database::{Needs, On};
use crate::sql::{Dialect, Words};

/// A role as a statement names it.
#[derive(Debug)]
enum Named {
    Role(String),
    Current,
    Session,
}

/// What a change of a role touches.
#[derive(Debug, Default)]
struct Options {
    /// `SUPERUSER` and its like: whether it is stated, and on which side.
    superuser: Option<bool>,
    replication: Option<bool>,
    bypass_row_security: Option<bool>,
    password: bool,
    /// Whatever else is stated of the role.
    others: bool,
    in_roles: Vec<Named>,
    members: Vec<Named>,
}

#[derive(Debug)]
enum About {
    Create {
        name: String,
        options: Options,
    },
    Alter {
        role: Named,
        options: Options,
    },
    /// Of a role or of everybody, in all databases or in one; of a database alone where there is no role.
    Setting {
        role: Option<Named>,
        everybody: bool,
        database: Option<String>,
        name: Option<String>,
    },
    Rename {
        role: String,
        to: String,
    },
    Drop {
        roles: Vec<Named>,
        if_exists: bool,
    },
    Membership {
        roles: Vec<Named>,
        members: Vec<Named>,
        by: Option<Named>,
        is_grant: bool,
    },
    /// A grant on objects, or its revocation: names without their quotes, one part or two.
    Grant {
        class: Class,
        privileges: Option<Vec<String>>,
        names: Vec<Vec<String>>,
        by: Option<Named>,
    },
    /// What some roles own, given to another or dropped.
    Owned {
        by: Vec<Named>,
        to: Option<Named>,
    },
}

/// Names that the server takes for something else than a role of that name.
const KEPT: &[&str] = &["current_role", "current_user", "none", "public", "session_user"];

/// Returns the checks for a statement, if it is one about roles.
pub(crate) fn needs(state: &State, (session, current): (&str, &str), text: &str) -> Option<Needs<Need>> {
    let about = read(text)?;
    let mut checks = Checks { state, session, current, list: Vec::new(), undecided: Vec::new(), notes: Vec::new() };
    checks.of(&about);
    if let Some(note) = looked_at_on_server(&state.not_modelled, session, text, true) {
        checks.undecided.push(format!("the server has {note}, which is not modelled"));
    }
    let Checks { list, undecided, notes, .. } = checks;
    Some(Needs { list, undecided, notes })
}

struct Checks<'s> {
    state: &'s State,
    session: &'s str,
    current: &'s str,
    list: Vec<Need>,
    undecided: Vec<String>,
    notes: Vec<String>,
}

impl Checks<'_> {
    fn of(&mut self, about: &About) {
        match about {
            About::Create { name, options } => {
                self.new_name(name);
                let Options { superuser, replication, bypass_row_security, password: _, others: _, in_roles, members } = options;
                let strong = [superuser, replication, bypass_row_security].contains(&&Some(true));
                self.switch(if strong { "superuser" } else { "create-role" });
                in_roles.iter().for_each(|role| self.passes_on(role));
                members.iter().for_each(|role| {
                    self.known(role);
                });
            }
            About::Alter { role, options } => self.alter(role, options),
            About::Setting { role, everybody, database, name } => {
                self.setting((role.as_ref(), *everybody), database.as_deref(), name.as_deref())
            }
            About::Rename { role, to } => {
                self.new_name(to);
                let Some(role) = self.changeable(&Named::Role(role.clone())) else { return };
                if role == self.session || role == self.current {
                    // Said before anything is checked.
                    self.undecided.push(format!("`{role}` is signed in, and the server renames nobody who is"));
                    return;
                }
                self.switch(if self.state.is_superuser(&role) { "superuser" } else { "create-role" });
            }
            About::Drop { roles, if_exists } => {
                self.switch("create-role");
                for role in roles {
                    if let Named::Role(name) = role
                        && *if_exists
                        && !self.state.knows_role(name)
                    {
                        continue;
                    }
                    let Some(role) = self.changeable(role) else { continue };
                    if role == self.session || role == self.current {
                        self.undecided.push(format!("`{role}` is signed in, and the server drops nobody who is"));
                    }
                    if self.state.is_superuser(&role) {
                        self.switch("superuser");
                    }
                }
            }
            About::Membership { roles, members, by, is_grant } => {
                members.iter().for_each(|member| {
                    self.known(member);
                });
                roles.iter().for_each(|role| self.passes_on(role));
                match by.as_ref().map(|by| self.name(by)) {
                    Some(by) if by != self.current && *is_grant => self.switch("superuser"),
                    Some(by) if by != self.current => self.undecided.push(format!("what was granted by `{by}`")),
                    _ => {}
                }
            }
            About::Grant { class, privileges, names, by } => {
                if by.as_ref().is_some_and(|by| self.name(by) != self.current) {
                    self.undecided.push("what another grantor may give".to_owned());
                }
                self.grant(*class, privileges.as_deref(), names);
            }
            About::Owned { by, to } => {
                for role in by.iter().chain(to) {
                    if let Some(of) = self.known(role) {
                        self.list.push(Need::Rights { role: self.current.to_owned(), of });
                    }
                }
                if !self.state.is_superuser(self.current) {
                    self.each_owned(by, to.is_some());
                }
            }
        }
    }

    fn grant(&mut self, class: Class, privileges: Option<&[String]>, names: &[Vec<String>]) {
        let applicable = class.applicable();
        let wanted: Option<Privileges> = privileges.map_or(Some(applicable), |list| {
            list.iter()
                .map(|word| applicable.iter().find(|privilege| privilege.word() == word))
                .collect::<Option<Vec<Privilege>>>()
                .map(|list| list.into_iter().collect())
        });
        let Some(any) = wanted else {
            self.undecided.push(format!("a privilege that a {} does not have", class.word()));
            return;
        };
        for name in names {
            let parts: Vec<&str> = name.iter().map(String::as_str).collect();
            let object = ObjectName::new(class, &parts);
            if !self.state.objects.contains_key(&object) {
                self.undecided.push(format!("`{object}` is not in the inventory by this name"));
                continue;
            }
            if let (true, [schema, _]) = (class.is_in_schema(), parts.as_slice()) {
                let schema = ObjectName::new(Class::Schema, &[schema]);
                self.list.push(Need::privilege(self.current, &schema, Privilege::Usage, On::Object));
            }
            let demand = Demand::Privilege { any, on: On::Object, want: Want::GrantOption };
            self.list.push(Need::Object { role: self.current.to_owned(), object, demand });
        }
    }

    /// What the server checks for each object apart, as if it were given away or its grants were taken back one by one.
    fn each_owned(&mut self, by: &[Named], is_given: bool) {
        let by: Vec<String> = by.iter().map(|role| self.name(role)).collect();
        let mine = self.state.roles_of(self.current, true);
        if !by.iter().all(|role| mine.contains(role)) {
            // It does not come to that.
            return;
        }
        if !is_given {
            self.undecided.push("whether each grant to them can be taken back".to_owned());
        } else if self.state.objects.iter().any(|(name, object)| by.contains(&object.owner) && !name.class.has_columns()) {
            self.undecided.push("whether the new owner may create each of the objects where it is".to_owned());
        }
    }

    fn alter(&mut self, role: &Named, options: &Options) {
        let Some(role) = self.changeable(role) else { return };
        let Options { superuser, replication, bypass_row_security, password, others, in_roles, members } = options;
        let entry = self.state.roles.get(&role);
        let is_strong = entry.is_some_and(|r| r.superuser || r.replication);
        if is_strong || superuser.is_some() || replication.is_some() || bypass_row_security.is_some() {
            self.switch("superuser");
        } else if *password && !others && in_roles.is_empty() && members.is_empty() && role == self.current {
            self.notes.push("everybody may change the own password".to_owned());
        } else {
            self.switch("create-role");
        }
        members.iter().for_each(|member| {
            self.known(member);
        });
    }

    fn setting(&mut self, (role, everybody): (Option<&Named>, bool), database: Option<&str>, name: Option<&str>) {
        match role {
            Some(role) => {
                let Some(role) = self.changeable(role) else { return };
                if self.state.is_superuser(&role) {
                    self.switch("superuser");
                } else if role != self.current {
                    self.switch("create-role");
                } else {
                    self.notes.push("everybody may change the own settings".to_owned());
                }
                if database.is_some_and(|database| database != self.state.database) {
                    self.undecided.push("whether there is such a database".to_owned());
                }
            }
            None if everybody && database.is_none() => self.switch("superuser"),
            None if database.is_none_or(|database| database == self.state.database) => {
                self.list.push(Need::owner(self.current, &ObjectName::database()));
            }
            None => self.undecided.push("whose another database is".to_owned()),
        }
        // What everybody may set in a session may be set for later ones.
        if let Some(name) = name.filter(|name| !OPEN.contains(name) && !self.state.is_superuser(self.current)) {
            self.undecided.push(format!("who may set `{name}`"));
        }
    }

    fn switch(&mut self, switch: &'static str) {
        let need = Need::Switch { role: self.current.to_owned(), switch };
        if !self.list.contains(&need) {
            self.list.push(need);
        }
    }

    fn passes_on(&mut self, role: &Named) {
        if let Some(of) = self.known(role) {
            if of == "pg_database_owner" {
                self.undecided.push("nobody is made a member of `pg_database_owner` by hand".to_owned());
            }
            self.list.push(Need::Admin { role: self.current.to_owned(), of });
        }
    }

    fn name(&self, role: &Named) -> String {
        match role {
            Named::Role(name) => name.clone(),
            Named::Current => self.current.to_owned(),
            Named::Session => self.session.to_owned(),
        }
    }

    fn known(&mut self, role: &Named) -> Option<String> {
        let name = self.name(role);
        if self.state.knows_role(&name) {
            return Some(name);
        }
        self.undecided.push(format!("no role is named `{name}`"));
        None
    }

    /// The server changes none of its own roles.
    fn changeable(&mut self, role: &Named) -> Option<String> {
        let name = self.known(role)?;
        if name.starts_with("pg_") {
            self.undecided.push(format!("`{name}` is a role of the server itself"));
            return None;
        }
        Some(name)
    }

    fn new_name(&mut self, name: &str) {
        if name.starts_with("pg_") || KEPT.contains(&name) {
            self.undecided.push(format!("`{name}` is a name that the server keeps for itself"));
        } else if self.state.knows_role(name) {
            self.undecided.push(format!("a role is named `{name}` already"));
        }
    }
}

/// Reads a statement about roles and rights.
fn read(text: &str) -> Option<About> {
    let mut statement = Reader(Words::of(Dialect::Postgresql, &["create", "alter", "drop", "grant", "revoke", "reassign"], text)?);
    let about = statement.statement()?;
    statement.is_over().then_some(about)
}

/// Reads the words of a statement.
struct Reader(Words);

impl Deref for Reader {
    type Target = Words;

    fn deref(&self) -> &Words {
        &self.0
    }
}

impl DerefMut for Reader {
    fn deref_mut(&mut self) -> &mut Words {
        &mut self.0
    }
}

impl Reader {
    fn statement(&mut self) -> Option<About> {
        if self.takes("create") {
            let is_role = self.takes_any(&["role", "user", "group"]);
            let name = self.name().filter(|_| is_role)?;
            return Some(About::Create { name, options: self.options(true)? });
        }
        if self.takes("alter") {
            return self.alter();
        }
        if self.takes("drop") {
            if self.takes("owned") {
                let by = self.takes("by").then(|| self.roles())??;
                self.takes_any(&["cascade", "restrict"]);
                return Some(About::Owned { by, to: None });
            }
            if !self.takes_any(&["role", "user", "group"]) {
                return None;
            }
            let if_exists = self.takes("if");
            if if_exists && !self.takes("exists") {
                return None;
            }
            return Some(About::Drop { roles: self.roles()?, if_exists });
        }
        if self.takes("reassign") {
            let by = (self.takes("owned") && self.takes("by")).then(|| self.roles())??;
            let to = self.takes("to").then(|| self.named())??;
            return Some(About::Owned { by, to: Some(to) });
        }
        let is_grant = self.takes("grant");
        if !is_grant && !self.takes("revoke") {
            return None;
        }
        if !is_grant && self.takes_both("grant", "option") {
            return self.takes("for").then(|| self.grant(is_grant))?;
        }
        if !is_grant && self.takes_both("admin", "option") && !self.takes("for") {
            return None;
        }
        let begin = self.place();
        if let Some(grant) = self.grant(is_grant) {
            return Some(grant);
        }
        self.go_to(begin);
        let roles = self.roles()?;
        let members = self.takes(if is_grant { "to" } else { "from" }).then(|| self.roles())??;
        if is_grant && self.takes("with") && !(self.takes("admin") && self.takes("option")) {
            return None;
        }
        let by = if self.takes("granted") { Some(self.takes("by").then(|| self.named())??) } else { None };
        if !is_grant {
            self.takes_any(&["cascade", "restrict"]);
        }
        Some(About::Membership { roles, members, by, is_grant })
    }

    /// Reads a grant on what has no columns: the parser of SQL reads the others.
    fn grant(&mut self, is_grant: bool) -> Option<About> {
        let privileges = if self.takes("all") {
            self.takes("privileges");
            None
        } else {
            let mut list = vec![self.name()?];
            while self.takes_token(&Token::Comma) {
                list.push(self.name()?);
            }
            Some(list)
        };
        if !self.takes("on") {
            return None;
        }
        let class = match () {
            () if self.takes_any(&["type", "domain"]) => Class::Type,
            () if self.takes("language") => Class::Language,
            () if self.takes("foreign") && self.takes("server") => Class::Server,
            () if self.takes("data") && self.takes("wrapper") => Class::Wrapper,
            () => return None,
        };
        let mut names = Vec::new();
        loop {
            let mut name = vec![self.name()?];
            while self.takes_token(&Token::Period) {
                name.push(self.name()?);
            }
            names.push(name);
            if !self.takes_token(&Token::Comma) {
                break;
            }
        }
        if !self.takes(if is_grant { "to" } else { "from" }) {
            return None;
        }
        loop {
            // Whom it is given to is not checked; everybody may be one of them.
            self.takes_before_name("group");
            self.named()?;
            if !self.takes_token(&Token::Comma) {
                break;
            }
        }
        if is_grant && self.takes("with") && !(self.takes("grant") && self.takes("option")) {
            return None;
        }
        let by = if self.takes("granted") { Some(self.takes("by").then(|| self.named())??) } else { None };
        if !is_grant {
            self.takes_any(&["cascade", "restrict"]);
        }
        Some(About::Grant { class, privileges, names, by })
    }

    fn alter(&mut self) -> Option<About> {
        if self.takes("database") {
            let database = Some(self.name()?);
            return self.setting(None, false, database);
        }
        let is_group = self.is("group");
        if !self.takes_any(&["role", "user", "group"]) {
            return None;
        }
        if !is_group && self.takes("all") {
            let database = self.in_database()?;
            return self.setting(None, true, database);
        }
        let role = self.named()?;
        if self.takes("rename") {
            let (Named::Role(role), true) = (role, self.takes("to")) else { return None };
            return Some(About::Rename { role, to: self.name()? });
        }
        if is_group {
            let options = (self.takes_any(&["add", "drop"]) && self.takes("user")).then(|| self.roles())??;
            return Some(About::Alter { role, options: Options { members: options, ..Options::default() } });
        }
        if self.is("in") || self.is("set") || self.is("reset") {
            let database = self.in_database()?;
            return self.setting(Some(role), false, database);
        }
        Some(About::Alter { role, options: self.options(false)? })
    }

    /// Reads `IN DATABASE name`, which may be missing.
    fn in_database(&mut self) -> Option<Option<String>> {
        if !self.takes("in") {
            return Some(None);
        }
        self.takes("database").then(|| self.name()).map(|name| name.map(Some))?
    }

    /// Reads what is set or reset; the value itself says nothing about rights.
    fn setting(&mut self, role: Option<Named>, everybody: bool, database: Option<String>) -> Option<About> {
        let is_set = self.takes("set");
        if !is_set && !self.takes("reset") {
            return None;
        }
        let name = if !is_set && self.takes("all") {
            None
        } else if self.takes_both("time", "zone") {
            Some("timezone".to_owned())
        } else {
            let mut name = self.name()?.to_lowercase();
            while self.takes_token(&Token::Period) {
                name = format!("{name}.{}", self.name()?.to_lowercase());
            }
            Some(name)
        };
        if is_set && !self.takes_rest() {
            return None;
        }
        Some(About::Setting { role, everybody, database, name })
    }

    fn options(&mut self, is_new: bool) -> Option<Options> {
        let mut options = Options::default();
        self.takes("with");
        while !self.is_over() {
            let option = self.word()?;
            match option.as_str() {
                "superuser" | "nosuperuser" => options.superuser = Some(option == "superuser"),
                "replication" | "noreplication" => options.replication = Some(option == "replication"),
                "bypassrls" | "nobypassrls" => options.bypass_row_security = Some(option == "bypassrls"),
                "createdb" | "nocreatedb" | "createrole" | "nocreaterole" | "inherit" | "noinherit" | "login" | "nologin" => {
                    options.others = true;
                }
                "encrypted" => options.password = (self.takes("password") && self.takes_text()).then_some(true)?,
                "password" => options.password = (self.takes("null") || self.takes_text()).then_some(true)?,
                "connection" => {
                    let is_number = self.takes("limit") && {
                        self.takes_token(&Token::Minus);
                        self.takes_number()
                    };
                    options.others = is_number.then_some(true)?;
                }
                "valid" => options.others = (self.takes("until") && self.takes_text()).then_some(true)?,
                "sysid" if is_new => options.others = self.takes_number().then_some(true)?,
                "in" if is_new => {
                    options.in_roles.extend(self.takes_any(&["role", "group"]).then(|| self.roles())??);
                }
                "role" | "user" | "admin" if is_new => options.members.extend(self.roles()?),
                _ => return None,
            }
        }
        Some(options)
    }

    fn roles(&mut self) -> Option<Vec<Named>> {
        let mut list = vec![self.named()?];
        while self.takes_token(&Token::Comma) {
            list.push(self.named()?);
        }
        Some(list)
    }

    fn named(&mut self) -> Option<Named> {
        Some(match () {
            () if self.takes_any(&["current_user", "current_role"]) => Named::Current,
            () if self.takes("session_user") => Named::Session,
            () => Named::Role(self.name()?),
        })
    }
}

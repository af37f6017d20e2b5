//! Statements about roles, and grants on types, languages and foreign servers: what the server checks for them (`user.c` and
//! `aclchk.c` of version 15).
//!
//! The parser of SQL reads few of their forms, so they have a grammar of their own over its words. A text that is none of them, or goes
//! on in a way that is not known here, is left to that parser.

use sqlparser::tokenizer::Token;

use super::acl::Grantee;
use super::catalog::Want;
use super::need::{Demand, GivenOption, Need, barred};
use super::object::ObjectName;
use super::privilege::{COLUMN_PRIVILEGES, Class, Privilege, Privileges};
use super::state::State;
use super::statement::settings;
use crate::database::not_modelled::looked_at_on_server;
use crate::database::{Needs, On};
use crate::sql::{Dialect, Words};

/// A role as a statement names it.
#[derive(Clone, Debug)]
pub(super) enum Named {
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
    /// Who is no member any longer.
    dropped: Vec<Named>,
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
        /// Who is given the option as well.
        option_to: Vec<Named>,
    },
    /// A grant of the right to a setting, or of one on a tablespace; or its revocation.
    OnServer {
        what: &'static str,
        names: Vec<String>,
        is_grant: bool,
        option_to: Vec<Named>,
    },
    /// All columns of tables, some of them named.
    Columns {
        columns: Vec<String>,
        tables: Vec<Vec<String>>,
        option_to: Vec<Named>,
    },
    /// What some roles own, given to another or dropped.
    Owned {
        by: Vec<Named>,
        to: Option<Named>,
    },
}

/// Why a statement is not decided that the server refuses of everybody, where there is no object to ask about.
pub(super) const OPTION_OF_ALL: &str = "an option to pass something on that everybody would have, which the server gives nobody";

/// Names that the server takes for something else than a role of that name.
const KEPT: &[&str] = &["current_role", "current_user", "none", "public", "session_user"];

/// Returns the checks for a statement, if it is one about roles.
///
/// Names without a schema are found by `find`.
pub(super) fn needs(state: &State, (session, current): (&str, &str), find: Find<'_>, text: &str) -> Option<Needs<Need>> {
    let about = read(text)?;
    let mut checks = Checks { state, session, current, find, list: Vec::new(), undecided: Vec::new(), notes: Vec::new() };
    checks.of(&about);
    checks.undecided.extend(looked_at_on_server(&state.not_modelled, session, text, true));
    checks.undecided.extend(settings::not_followed(state, session));
    let Checks { list, undecided, notes, .. } = checks;
    Some(Needs { list, begins: Vec::new(), undecided, notes })
}

/// Finds what a name without a schema stands for, of one of some classes.
pub(super) type Find<'f> = &'f mut dyn FnMut(&[String], &[Class]) -> Result<ObjectName, String>;

struct Checks<'s> {
    find: Find<'s>,
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
                let Options { superuser, replication, bypass_row_security, password: _, others: _, in_roles, members, dropped: _ } =
                    options;
                let strong = [superuser, replication, bypass_row_security].contains(&&Some(true));
                self.switch(if strong { "superuser" } else { "create-role" });
                let joining: Vec<Named> = members.iter().cloned().chain([Named::Role(name.clone())]).collect();
                in_roles.iter().for_each(|role| self.passes_on(role, &joining));
                self.joins(name, members);
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
                // Names are looked up before anything is checked.
                let known: Vec<Option<String>> = members.iter().map(|member| self.known(member)).collect();
                if known.contains(&None) {
                    return;
                }
                let members: &[Named] = if *is_grant { members } else { &[] };
                roles.iter().for_each(|role| self.passes_on(role, members));
                match by.as_ref().map(|by| self.name(by)) {
                    Some(by) if by != self.current && *is_grant => self.switch("superuser"),
                    Some(by) if by != self.current => self.undecided.push(format!("what was granted by `{by}`")),
                    _ => {}
                }
            }
            About::Grant { class, privileges, names, by, option_to } => {
                if by.as_ref().is_some_and(|by| self.name(by) != self.current) {
                    self.undecided.push("what another grantor may give".to_owned());
                }
                self.grant(*class, privileges.as_deref(), names, option_to);
            }
            About::OnServer { what, names, is_grant, option_to } => {
                if option_to.iter().any(|to| self.name(to) == "public") {
                    self.undecided.push(OPTION_OF_ALL.to_owned());
                }
                for name in names {
                    let note = format!("{what} {name}");
                    if self.state.not_modelled.contains(&note) {
                        self.undecided.push(format!("the server has changed rights on the {note}, which are not modelled"));
                    } else if *what == "parameter" && !is_grant {
                        self.notes.push(format!("nobody was given anything on the {note}, and the server says nothing"));
                    } else {
                        // Nobody else holds anything of it.
                        self.list.push(Need::Server {
                            role: self.current.to_owned(),
                            of: Vec::new(),
                            what: format!("granting on the {note}"),
                        });
                    }
                }
            }
            About::Columns { columns, tables, option_to } => {
                for table in tables {
                    let Some(object) = self.found(table, &[Class::Table, Class::View, Class::MaterialisedView]) else { continue };
                    if let Some(why) = self.state.lacks_column(&object, columns) {
                        self.undecided.push(why);
                        continue;
                    }
                    let demand = Demand::Privilege { any: COLUMN_PRIVILEGES, on: On::Columns(columns.clone()), want: Want::GrantOption };
                    self.list.push(Need::Object { role: self.current.to_owned(), object: object.clone(), demand });
                    self.option(&object, columns, COLUMN_PRIVILEGES, option_to);
                }
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

    /// What no right helps against.
    fn option(&mut self, object: &ObjectName, columns: &[String], privileges: Privileges, to: &[Named]) {
        for named in to {
            let grantee = match self.name(named).as_str() {
                "public" => Grantee::Public,
                name => Grantee::Role(name.to_owned()),
            };
            let (role, object) = (self.current.to_owned(), object.clone());
            let given = GivenOption { role, object, columns: columns.to_vec(), privileges, grantee };
            self.list.extend(given.barred(self.state).map(|_| Need::Option(given)));
        }
    }

    fn grant(&mut self, class: Class, privileges: Option<&[String]>, names: &[Vec<String>], option_to: &[Named]) {
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
            let Some(object) = self.found(name, &[class]) else { continue };
            let demand = Demand::Privilege { any, on: On::Object, want: Want::GrantOption };
            self.list.push(Need::Object { role: self.current.to_owned(), object: object.clone(), demand });
            self.option(&object, &[], any, option_to);
        }
    }

    /// Finds what a name stands for; its schema must be open.
    fn found(&mut self, name: &[String], classes: &[Class]) -> Option<ObjectName> {
        let parts: Vec<&str> = name.iter().map(String::as_str).collect();
        let known = match (classes, parts.as_slice()) {
            ([Class::Database], [one]) if *one == self.state.database => Ok(ObjectName::database()),
            ([class, ..], [_]) if class.is_in_schema() => (self.find)(name, classes),
            _ => classes
                .iter()
                .map(|class| ObjectName::new(*class, &parts))
                .find(|name| self.state.objects.contains_key(name))
                .ok_or_else(|| format!("`{}` is not in the inventory by this name", parts.join("."))),
        };
        let object = known.map_err(|why| self.undecided.push(why)).ok()?;
        if let [schema, _] = parts.as_slice() {
            let schema = ObjectName::new(Class::Schema, &[schema]);
            self.list.push(Need::privilege(self.current, &schema, Privilege::Usage, On::Object));
        }
        Some(object)
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
        let Options { superuser, replication, bypass_row_security, password, others, in_roles, members, dropped } = options;
        let entry = self.state.roles.get(&role);
        let is_strong = entry.is_some_and(|r| r.superuser || r.replication);
        if is_strong || superuser.is_some() || replication.is_some() || bypass_row_security.is_some() {
            self.switch("superuser");
        } else if *password && !others && [in_roles, members, dropped].iter().all(|list| list.is_empty()) && role == self.current {
            self.notes.push("everybody may change the own password".to_owned());
        } else {
            self.switch("create-role");
        }
        members.iter().chain(dropped).for_each(|member| {
            self.known(member);
        });
        self.joins(&role, members);
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
        let note = name.map(|name| format!("parameter {name}")).filter(|note| self.state.not_modelled.contains(note));
        match name.map(settings::keep) {
            Some(Ok(settings::Who::Superusers)) if note.is_some() && !self.state.is_superuser(self.current) => {
                self.undecided.push("whether the setting is among those that were given to somebody".to_owned());
            }
            Some(Ok(settings::Who::Superusers)) => self.switch("superuser"),
            Some(Err(why)) if !self.state.is_superuser(self.current) => self.undecided.push(why),
            None | Some(Ok(settings::Who::Everybody | settings::Who::Readers(_)) | Err(_)) => {}
        }
    }

    fn switch(&mut self, switch: &'static str) {
        let need = Need::Switch { role: self.current.to_owned(), switch };
        if !self.list.contains(&need) {
            self.list.push(need);
        }
    }

    /// To make some roles members of another, or members of a new role that is one; to take memberships back where there are none.
    fn passes_on(&mut self, role: &Named, members: &[Named]) {
        if let Some(of) = self.known(role) {
            self.list.push(Need::Admin { role: self.current.to_owned(), of: of.clone() });
            self.joins(&of, members);
        }
    }

    /// What no right helps against.
    fn joins(&mut self, of: &str, members: &[Named]) {
        for member in members {
            let member = self.name(member);
            if barred(self.state, of, &member).is_some() {
                self.list.push(Need::Membership { role: self.current.to_owned(), of: of.to_owned(), member });
            }
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
    let mut words = Words::of(Dialect::Postgresql, &["create", "alter", "drop", "grant", "revoke", "reassign"], text)?;
    let about = statement(&mut words)?;
    words.is_over().then_some(about)
}

fn statement(words: &mut Words) -> Option<About> {
    if words.takes("create") {
        let is_role = words.takes_any(&["role", "user", "group"]);
        let name = words.name().filter(|_| is_role)?;
        return Some(About::Create { name, options: options(words, true)? });
    }
    if words.takes("alter") {
        return alter(words);
    }
    if words.takes("drop") {
        if words.takes("owned") {
            let by = words.takes("by").then(|| roles(words))??;
            words.takes_any(&["cascade", "restrict"]);
            return Some(About::Owned { by, to: None });
        }
        if !words.takes_any(&["role", "user", "group"]) {
            return None;
        }
        let if_exists = words.takes("if");
        if if_exists && !words.takes("exists") {
            return None;
        }
        return Some(About::Drop { roles: roles(words)?, if_exists });
    }
    if words.takes("reassign") {
        let by = (words.takes("owned") && words.takes("by")).then(|| roles(words))??;
        let to = words.takes("to").then(|| named(words))??;
        return Some(About::Owned { by, to: Some(to) });
    }
    let is_grant = words.takes("grant");
    if !is_grant && !words.takes("revoke") {
        return None;
    }
    if !is_grant && words.takes_both("grant", "option") {
        return words.takes("for").then(|| grant(words, is_grant))?;
    }
    if !is_grant && words.takes_both("admin", "option") && !words.takes("for") {
        return None;
    }
    let begin = words.place();
    if let Some(grant) = grant(words, is_grant) {
        return Some(grant);
    }
    words.go_to(begin);
    let granted = roles(words)?;
    let members = words.takes(if is_grant { "to" } else { "from" }).then(|| roles(words))??;
    let End { has_option: _, by } = end(words, is_grant, "admin")?;
    Some(About::Membership { roles: granted, members, by, is_grant })
}

/// What stands behind those who are given something, or lose it.
struct End {
    /// Whether they may pass it on as well.
    has_option: bool,
    by: Option<Named>,
}

/// Reads what stands behind those who are given something, or lose it: the option, by whom, and what becomes of others.
fn end(words: &mut Words, is_grant: bool, option: &str) -> Option<End> {
    let has_option = is_grant && words.takes("with");
    if has_option && !words.takes_both(option, "option") {
        return None;
    }
    let by = if words.takes("granted") { Some(words.takes("by").then(|| named(words))??) } else { None };
    if !is_grant {
        words.takes_any(&["cascade", "restrict"]);
    }
    Some(End { has_option, by })
}

/// Reads a grant on what has no columns: the parser of SQL reads the others.
fn grant(words: &mut Words, is_grant: bool) -> Option<About> {
    let privileges = if words.takes("all") {
        words.takes("privileges");
        if words.takes_token(&Token::LParen) {
            return all_columns(words, is_grant);
        }
        None
    } else {
        let privilege = |words: &mut Words| {
            let privilege = words.name()?;
            Some(match privilege.as_str() {
                "temp" => "temporary".to_owned(),
                "alter" if words.takes("system") => "alter system".to_owned(),
                _ => privilege,
            })
        };
        Some(words.list(privilege)?)
    };
    if !words.takes("on") {
        return None;
    }
    if words.is("parameter") || words.is("tablespace") {
        return on_server(words, privileges.as_deref(), is_grant);
    }
    let class = match () {
        () if words.takes("database") => Class::Database,
        () if words.takes_any(&["type", "domain"]) => Class::Type,
        () if words.takes("language") => Class::Language,
        () if words.takes_both("foreign", "server") => Class::Server,
        () if words.takes("foreign") && words.takes_both("data", "wrapper") => Class::Wrapper,
        () => return None,
    };
    let names = words.list(Words::path)?;
    let (option_to, by) = to_whom(words, is_grant)?;
    Some(About::Grant { class, privileges, names, by, option_to })
}

/// Reads who is given something, or loses it, and what stands behind them: who is given the option as well, and by whom. Everybody may be
/// one of them.
fn to_whom(words: &mut Words, is_grant: bool) -> Option<(Vec<Named>, Option<Named>)> {
    let grantee = |words: &mut Words| {
        words.takes_before_name("group");
        named(words)
    };
    let to = words.takes(if is_grant { "to" } else { "from" }).then(|| words.list(grantee))??;
    let End { has_option, by } = end(words, is_grant, "grant")?;
    Some((if has_option { to } else { Vec::new() }, by))
}

/// Reads the same where another grantor than the current one is refused before anything is checked.
fn by_current(words: &mut Words, is_grant: bool) -> Option<Vec<Named>> {
    let (option_to, by) = to_whom(words, is_grant)?;
    by.is_none_or(|by| matches!(by, Named::Current)).then_some(option_to)
}

fn on_server(words: &mut Words, privileges: Option<&[String]>, is_grant: bool) -> Option<About> {
    let (what, known): (&str, &[&str]) = if words.takes("parameter") {
        ("parameter", &["set", "alter system"])
    } else {
        words.takes("tablespace").then_some(("tablespace", &["create"][..]))?
    };
    if privileges.is_some_and(|list| !list.iter().all(|word| known.contains(&word.as_str()))) {
        return None;
    }
    let names = words.list(|words| words.path().map(|path| path.join(".")))?;
    // Tablespaces beside the two that every server has are not listed.
    if what == "tablespace" && !names.iter().all(|name| matches!(name.as_str(), "pg_default" | "pg_global")) {
        return None;
    }
    let option_to = by_current(words, is_grant)?;
    Some(About::OnServer { what, names, is_grant, option_to })
}

fn all_columns(words: &mut Words, is_grant: bool) -> Option<About> {
    let columns = words.list(Words::name)?;
    (words.takes_token(&Token::RParen) && words.takes("on")).then_some(())?;
    words.takes("table");
    let tables = words.list(|words| {
        let schema = words.name()?;
        let table = words.takes_token(&Token::Period).then(|| words.name())??;
        Some(vec![schema, table])
    })?;
    let option_to = by_current(words, is_grant)?;
    Some(About::Columns { columns, tables, option_to })
}

fn alter(words: &mut Words) -> Option<About> {
    if words.takes("database") {
        let database = Some(words.name()?);
        return setting(words, None, false, database);
    }
    let is_group = words.is("group");
    if !words.takes_any(&["role", "user", "group"]) {
        return None;
    }
    if !is_group && words.takes("all") {
        let database = in_database(words)?;
        return setting(words, None, true, database);
    }
    let role = named(words)?;
    if words.takes("rename") {
        let (Named::Role(role), true) = (role, words.takes("to")) else { return None };
        return Some(About::Rename { role, to: words.name()? });
    }
    if is_group {
        let is_added = words.takes("add");
        let named = ((is_added || words.takes("drop")) && words.takes("user")).then(|| roles(words))??;
        let options =
            if is_added { Options { members: named, ..Options::default() } } else { Options { dropped: named, ..Options::default() } };
        return Some(About::Alter { role, options });
    }
    if words.is("in") || words.is("set") || words.is("reset") {
        let database = in_database(words)?;
        return setting(words, Some(role), false, database);
    }
    Some(About::Alter { role, options: options(words, false)? })
}

/// Reads `IN DATABASE name`, which may be missing.
fn in_database(words: &mut Words) -> Option<Option<String>> {
    if !words.takes("in") {
        return Some(None);
    }
    words.takes("database").then(|| words.name()).map(|name| name.map(Some))?
}

/// Reads what is set or reset; the value itself says nothing about rights.
fn setting(words: &mut Words, role: Option<Named>, everybody: bool, database: Option<String>) -> Option<About> {
    let is_set = words.takes("set");
    if !is_set && !words.takes("reset") {
        return None;
    }
    let name = if !is_set && words.takes("all") {
        None
    } else if words.takes_both("time", "zone") {
        Some("timezone".to_owned())
    } else {
        Some(words.path()?.join(".").to_lowercase())
    };
    if is_set && !words.takes_rest() {
        return None;
    }
    Some(About::Setting { role, everybody, database, name })
}

fn options(words: &mut Words, is_new: bool) -> Option<Options> {
    let mut options = Options::default();
    words.takes("with");
    while !words.is_over() {
        let option = words.word()?;
        match option.as_str() {
            "superuser" | "nosuperuser" => options.superuser = Some(option == "superuser"),
            "replication" | "noreplication" => options.replication = Some(option == "replication"),
            "bypassrls" | "nobypassrls" => options.bypass_row_security = Some(option == "bypassrls"),
            "createdb" | "nocreatedb" | "createrole" | "nocreaterole" | "inherit" | "noinherit" | "login" | "nologin" => {
                options.others = true;
            }
            "encrypted" => options.password = (words.takes("password") && words.takes_text()).then_some(true)?,
            "password" => options.password = (words.takes("null") || words.takes_text()).then_some(true)?,
            "connection" => {
                let is_number = words.takes("limit") && {
                    words.takes_token(&Token::Minus);
                    words.takes_number()
                };
                options.others = is_number.then_some(true)?;
            }
            "valid" => options.others = (words.takes("until") && words.takes_text()).then_some(true)?,
            "sysid" if is_new => options.others = words.takes_number().then_some(true)?,
            "in" if is_new => {
                options.in_roles.extend(words.takes_any(&["role", "group"]).then(|| roles(words))??);
            }
            "role" | "user" | "admin" if is_new => options.members.extend(roles(words)?),
            _ => return None,
        }
    }
    Some(options)
}

pub(super) fn roles(words: &mut Words) -> Option<Vec<Named>> {
    words.list(named)
}

pub(super) fn named(words: &mut Words) -> Option<Named> {
    Some(match () {
        () if words.takes_any(&["current_user", "current_role"]) => Named::Current,
        () if words.takes("session_user") => Named::Session,
        () => Named::Role(words.name()?),
    })
}

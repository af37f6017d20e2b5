//! The acts by which somebody comes to more on database servers, each a statement that the server would carry out.

use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use zest_engine::Engine;
use zest_model::ask::{Question, Refusal, Session, Verdict};
use zest_model::entry::{Database, DatabaseObject, DatabaseRole, Kind};
use zest_model::source::visible;

use super::acts::{Act, By, Found, Gain, Person, belongs};
use super::fact::{self, Fact};

/// How many accounts, roles and objects of a server are looked at.
const MAX_LOOKED_AT: usize = 500;

/// Switches and roles of PostgreSQL with which more can be done than what was granted.
const STRONG: [&str; 6] =
    ["superuser", "create-role", "pg_execute_server_program", "pg_write_server_files", "pg_read_server_files", "pg_database_owner"];

/// What is written of a server, and what its accounts hold.
struct Server<'e> {
    engine: &'e Engine,
    system: &'e str,
    kind: Kind,
    parts: Vec<&'e Database>,
    by_name: FxHashMap<&'e str, &'e DatabaseRole>,
    /// Roles that hold anything that could give more.
    strong: FxHashSet<&'e str>,
    /// Whether everybody does.
    is_open: bool,
}

impl<'e> Server<'e> {
    /// Returns all servers of a ledger.
    fn all(engine: &'e Engine) -> impl Iterator<Item = Self> {
        let databases = &engine.estate().entries().databases;
        let mut seen: FxHashSet<&str> = FxHashSet::default();
        let first = databases.iter().filter(move |database| seen.insert(&database.system.value));
        first.filter_map(|database| Self::of(engine, &database.system.value))
    }

    fn of(engine: &'e Engine, system: &'e str) -> Option<Self> {
        let kind = engine.site(system)?.entry().kind();
        kind.is_database().then_some(())?;
        let databases = engine.estate().entries().databases.iter();
        let parts: Vec<&Database> = databases.filter(|database| database.system.value == system).map(|database| &**database).collect();
        let roles = || parts.iter().flat_map(|part| part.accounts.iter().chain(&part.roles));
        let by_name: FxHashMap<&str, &DatabaseRole> = roles().map(|role| (role.name.value.as_str(), role)).collect();
        let mut strong: FxHashSet<&str> = FxHashSet::default();
        for role in roles() {
            let is_strong = |name: &&str| STRONG.contains(name);
            let switches = role.may.iter().chain(&role.member_of).map(|switch| switch.value.as_str());
            // What is only named could be anything.
            if !role.administers.is_empty() || !role.not_modelled.is_empty() || switches.into_iter().any(|name| is_strong(&name)) {
                strong.insert(&role.name.value);
            }
        }
        if kind == Kind::POSTGRESQL {
            strong.extend(parts.iter().flat_map(|part| &part.objects).filter_map(|object| Some(object.owner.as_ref()?.value.as_str())));
            strong.extend(parts.iter().filter_map(|part| Some(part.owner.as_ref()?.value.as_str())));
        } else {
            let of_server = |on: &str| on == "everything" || on.contains("mysql") || on.contains(['*', '%', '_']);
            for grant in parts.iter().flat_map(|part| &part.grants).filter(|grant| grant.on.iter().any(|on| of_server(&on.value))) {
                strong.extend(grant.to.iter().map(|to| to.value.as_str()));
            }
        }
        // What is only named of the whole could be anything for everybody.
        let is_open = strong.contains("public") || parts.iter().any(|part| !part.not_modelled.is_empty());
        Some(Self { engine, system, kind, parts, by_name, strong, is_open })
    }

    /// Returns whether an account, or any role that it can come to be, holds anything that could give more.
    fn is_strong(&self, account: &str) -> bool {
        let mut seen: FxHashSet<&str> = FxHashSet::default();
        let mut queue = vec![account];
        while let Some(name) = queue.pop() {
            if self.is_open || self.strong.contains(name) {
                return true;
            }
            let Some(role) = self.by_name.get(name) else { continue };
            let more = role.member_of.iter().chain(&role.administers).map(|role| role.value.as_str());
            queue.extend(more.filter(|role| seen.insert(role)));
        }
        false
    }

    fn accounts(&self) -> impl Iterator<Item = &'e DatabaseRole> + use<'e> {
        let parts = self.parts.clone();
        parts.into_iter().flat_map(|part| &part.accounts)
    }

    /// Returns whether somebody uses an account.
    fn is_used(&self, user: &str, account: &DatabaseRole) -> bool {
        let name = &account.name.value;
        let login = || self.engine.site(self.system).map(|site| site.kind().login_of(name));
        name.starts_with(user) && login().is_some_and(|login| login == user)
            || account.used_by.iter().any(|by| belongs(self.engine, user, &by.value))
    }

    /// Returns the accounts that somebody uses, of those that could come to more.
    fn accounts_of<'s>(&'s self, user: &'s str) -> impl Iterator<Item = &'e DatabaseRole> + 's {
        self.accounts().filter(move |account| self.is_used(user, account) && self.is_strong(&account.name.value))
    }
}

/// Returns the users who could come to more on some server, each with whom else their account is lent to.
pub(super) fn actors(engine: &Engine) -> Vec<(String, Vec<String>)> {
    let of_server = |server: Server<'_>| {
        let kind = engine.site(server.system).map(|site| site.kind());
        let strong = server.accounts().filter(|account| server.is_strong(&account.name.value));
        let one = |account: &DatabaseRole| {
            let login = kind.map_or_else(String::new, |kind| kind.login_of(&account.name.value));
            (login, account.used_by.iter().map(|by| by.value.clone()).collect())
        };
        strong.map(one).collect::<Vec<_>>()
    };
    Server::all(engine).flat_map(of_server).collect()
}

/// Finds what somebody may do by statements that gives more.
pub(super) fn passed_on(engine: &Engine, system: &str, person: &Person, found: &mut Found) {
    if let Some(server) = Server::of(engine, system) {
        for account in server.accounts_of(&person.user) {
            let login = engine.site(system).map(|site| site.kind().login_of(&account.name.value));
            let mut tries = 0;
            for (statement, fact) in acts_of(&server, account, &person.user) {
                tries += 1;
                if tries > MAX_LOOKED_AT {
                    found.is_cut_short = true;
                    break;
                }
                let mut session = person.session();
                session.account = login.clone().filter(|login| *login != person.user);
                let question = Question { session, ..Question::statement(&person.user, server.system, &statement) };
                let decision = engine.decide(&question);
                if decision.refusal == Some(Refusal::NotDecided) {
                    found.unknown.push(format!("not decided: {} on {}: {statement}", visible(&person.user), visible(server.system)));
                }
                if decision.verdict != Verdict::Denied && runs_as_definer(engine, &question, &fact) {
                    found.acts.push(Arc::new(Act { gain: Gain::One(fact), by: By::Asked(Arc::new(question)) }));
                }
            }
        }
    }
}

/// Returns whether a routine would do anything as its definer: who has no right to execute it has it do nothing. True for all else.
fn runs_as_definer(engine: &Engine, question: &Question, fact: &Fact) -> bool {
    let Fact::Defines { user, system, account } = fact else { return true };
    let Some(database) = question.line.split('`').nth(1) else { return false };
    let uses = Fact::Uses { user: user.clone(), system: system.clone(), account: account.clone() };
    let Some((ledger, site)) = fact::with(engine, &[uses]).zip(engine.site(system)) else { return false };
    let session = Session { account: Some(site.kind().login_of(account)), ..question.session.clone() };
    let executes = Question { session, ..Question::new(user, system, &format!("execute on database {database}")) };
    ledger.decide(&executes).verdict != Verdict::Denied
}

/// Returns the statements by which an account of a server could come to more, with what each gives.
fn acts_of<'s>(server: &'s Server<'_>, account: &'s DatabaseRole, user: &'s str) -> Box<dyn Iterator<Item = (String, Fact)> + 's> {
    let (system, name) = (server.system, account.name.value.as_str());
    let roles = server.parts.iter().flat_map(|part| &part.roles).map(|role| role.name.value.as_str());
    let others = move || {
        let others = server.accounts().filter(move |other| !server.is_used(user, other));
        others.map(|other| other.name.value.as_str())
    };
    let holds = move |role: &str| Fact::Holds { system: system.to_owned(), account: name.to_owned(), role: role.to_owned() };
    let uses = move |other: &str| Fact::Uses { user: user.to_owned(), system: system.to_owned(), account: other.to_owned() };
    let rules = move || Fact::Rules { system: system.to_owned(), account: name.to_owned() };
    let is_new = move |role: &&str| account.member_of.iter().all(|known| known.value != **role);
    match server.kind {
        Kind::POSTGRESQL => {
            let own = identifier(name, '"');
            // Accounts are roles as well, and so are those that come with the server.
            let predefined = STRONG.into_iter().filter(|role| role.starts_with("pg_"));
            let joins = roles.chain(others()).chain(predefined).filter(is_new);
            let granted = joins.map(move |role| (format!("GRANT {} TO {own}", identifier(role, '"')), holds(role)));
            let set = others().map(move |other| (format!("ALTER ROLE {} PASSWORD 'set anew'", identifier(other, '"')), uses(other)));
            // Whatever the server's own account runs, the server lets it do anything with what it keeps.
            let programs = ["COPY (SELECT 1) TO PROGRAM 'cat > /dev/null'", "COPY (SELECT 1) TO '/tmp/anything'"];
            let run = programs.into_iter().map(move |statement| (statement.to_owned(), rules()));
            let owned = server.parts.iter().flat_map(|part| &part.objects).filter(|object| object.owner.is_some());
            let of_owner = owned.flat_map(move |object| owner_acts(system, name, object));
            Box::new(set.chain(granted).chain(run).chain(of_owner))
        }
        Kind::MARIADB => {
            let of = |account: &str| {
                let (login, host) = account.rsplit_once('@').unwrap_or((account, "%"));
                format!("{}@{}", text(login), text(host))
            };
            let own = of(name);
            let granted = roles.filter(is_new).map(move |role| (format!("GRANT {} TO {own}", text(role)), holds(role)));
            let set = others().map(move |other| (format!("ALTER USER {} IDENTIFIED BY 'set anew'", of(other)), uses(other)));
            let defines = move |other: &str| Fact::Defines { user: user.to_owned(), system: system.to_owned(), account: other.to_owned() };
            let objects = server.parts.iter().flat_map(|part| &part.objects);
            let databases = objects.filter_map(|object| object.name.value.strip_prefix("database "));
            let made = databases.flat_map(move |database| {
                others().map(move |other| {
                    let routine = format!("{}.`anything`", written(database, '`'));
                    (format!("CREATE DEFINER={} PROCEDURE {routine}() SELECT 1", of(other)), defines(other))
                })
            });
            // What these tables say counts once the server reads them anew.
            let tables = ["INSERT INTO mysql.global_priv VALUES ('%', 'new', '{}')", "UPDATE mysql.global_priv SET Priv = '{}'"];
            let tables = tables.into_iter().map(move |statement| (statement.to_owned(), rules()));
            Box::new(granted.chain(tables).chain(set).chain(made))
        }
        _ => Box::new(std::iter::empty()),
    }
}

/// What objects of PostgreSQL are called in a ledger, and in a statement.
const CLASSES: [(&str, &str); 12] = [
    ("table ", "TABLE"),
    ("view ", "TABLE"),
    ("materialised view ", "TABLE"),
    ("materialized view ", "TABLE"),
    ("sequence ", "SEQUENCE"),
    ("schema ", "SCHEMA"),
    ("function ", "FUNCTION"),
    ("procedure ", "PROCEDURE"),
    ("type ", "TYPE"),
    ("language ", "LANGUAGE"),
    ("wrapper ", "FOREIGN DATA WRAPPER"),
    ("server ", "FOREIGN SERVER"),
];

/// Returns what whoever owns an object may do that others may not.
fn owner_acts(system: &str, account: &str, object: &DatabaseObject) -> Vec<(String, Fact)> {
    let on = object.name.value.as_str();
    let Some((word, name)) = CLASSES.iter().find_map(|(class, word)| Some((word, on.strip_prefix(class)?))) else { return Vec::new() };
    let name = written(name, '"');
    let owns = Fact::Owns { system: system.to_owned(), account: account.to_owned(), object: on.to_owned() };
    let mut list = vec![(format!("GRANT ALL PRIVILEGES ON {word} {name} TO {}", identifier(account, '"')), owns)];
    if object.row_security.as_ref().is_some_and(|is_on| is_on.value) {
        let shows = Fact::Shows { system: system.to_owned(), object: on.to_owned() };
        list.push((format!("ALTER TABLE {name} DISABLE ROW LEVEL SECURITY"), shows));
    }
    list
}

/// Writes the name of an object as a statement does: as it stands in the ledger where it is quoted there, its parts quoted otherwise.
fn written(name: &str, quote: char) -> String {
    let (path, arguments) = name.find('(').map_or((name, ""), |at| name.split_at(at));
    if path.contains(quote) {
        return name.to_owned();
    }
    let parts: Vec<String> = path.split('.').map(|part| identifier(part, quote)).collect();
    format!("{}{arguments}", parts.join("."))
}

fn identifier(name: &str, quote: char) -> String {
    format!("{quote}{}{quote}", name.replace(quote, &format!("{quote}{quote}")))
}

/// Writes a text of MariaDB.
fn text(name: &str) -> String {
    format!("'{}'", name.replace('\\', "\\\\").replace('\'', "''"))
}

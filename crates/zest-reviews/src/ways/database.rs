//! The acts by which somebody comes to more on database servers, each a statement that the server would carry out.

use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use zest_engine::Engine;
use zest_model::ask::{Question, Refusal, Session, Verdict};
use zest_model::entry::{Database, DatabaseObject, DatabasePolicy, DatabaseRole, Kind};
use zest_model::source::{At, visible};

use super::acts::{Act, By, Found, Gain, Person, belongs};
use super::fact::{self, Fact};

/// How many accounts, roles and objects of a server are looked at.
const MAX_LOOKED_AT: usize = 500;

/// Switches and roles of PostgreSQL with which more can be done than what was granted.
const STRONG: [&str; 6] =
    ["superuser", "create-role", "pg_execute_server_program", "pg_write_server_files", "pg_read_server_files", "pg_database_owner"];

/// What is written of a server, and what its accounts hold.
#[derive(Debug)]
pub(super) struct Server {
    system: String,
    kind: Kind,
    parts: Vec<Arc<Database>>,
    accounts: Vec<Known>,
    roles: Vec<String>,
    strong: Strong,
    /// Accounts by what a person types of their names, and by who else may use them, as positions.
    by_login: FxHashMap<String, Vec<usize>>,
    lent: FxHashMap<String, Vec<usize>>,
    /// Accounts that nothing but their names and whose they are tells apart.
    alike: Vec<Vec<usize>>,
    /// The number of those that are like an account.
    alike_of: Vec<usize>,
}

/// An account.
#[derive(Debug)]
struct Known {
    name: String,
    login: String,
}

impl Server {
    /// Looks at a server; accounts that are named in what is looked for stand for no others.
    pub(super) fn of(engine: &Engine, system: &str, is_asked: impl Fn(&str) -> bool) -> Option<Self> {
        let site = engine.site(system)?;
        let kind = site.entry().kind();
        kind.is_database().then_some(())?;
        let databases = engine.estate().entries().databases.iter();
        let parts: Vec<Arc<Database>> = databases.filter(|database| database.system.value == system).cloned().collect();
        let written = || parts.iter().flat_map(|part| &part.accounts);
        let one = |account: &DatabaseRole| Known { name: account.name.value.clone(), login: site.kind().login_of(&account.name.value) };
        let accounts: Vec<Known> = written().map(one).collect();
        let (mut by_login, mut lent): (FxHashMap<String, Vec<usize>>, FxHashMap<String, Vec<usize>>) = Default::default();
        for (position, (account, entry)) in accounts.iter().zip(written()).enumerate() {
            by_login.entry(account.login.clone()).or_default().push(position);
            entry.used_by.iter().for_each(|by| lent.entry(by.value.clone()).or_default().push(position));
        }
        let named = Named::of(&parts);
        let mut alike: FxHashMap<String, Vec<usize>> = FxHashMap::default();
        for (position, (account, entry)) in accounts.iter().zip(written()).enumerate() {
            let is_alone = named.is_apart(&account.name) || by_login[&account.login].len() > 1 || is_asked(&account.name);
            alike.entry(if is_alone { account.name.clone() } else { like(entry) }).or_default().push(position);
        }
        let mut alike: Vec<Vec<usize>> = alike.into_values().collect();
        alike.sort_unstable();
        let mut alike_of = vec![0; accounts.len()];
        for (number, list) in alike.iter().enumerate() {
            list.iter().for_each(|&position| alike_of[position] = number);
        }
        let roles = parts.iter().flat_map(|part| &part.roles).map(|role| role.name.value.clone()).collect();
        let strong = Strong::of(kind, &parts);
        Some(Self { system: system.to_owned(), kind, parts, accounts, roles, strong, by_login, lent, alike, alike_of })
    }

    /// Returns the accounts that somebody uses where some things are so: their own, those that are lent to them, and what they came to.
    fn accounts_of(&self, engine: &Engine, facts: &[Fact], user: &str) -> Vec<usize> {
        let mut list: Vec<usize> = self.by_login.get(user).into_iter().flatten().copied().collect();
        for (_, of) in self.lent.iter().filter(|(by, _)| belongs(engine, user, by)) {
            list.extend(of);
        }
        let come_to = facts.iter().filter_map(|fact| match fact {
            Fact::Uses { user: by, account, .. } | Fact::Defines { user: by, account, .. } if by == user => Some(account),
            _ => None,
        });
        list.extend(come_to.filter_map(|account| self.accounts.iter().position(|known| known.name == *account)));
        list.sort_unstable();
        list.dedup();
        list
    }

    /// Returns accounts that somebody does not use: one of all that nothing tells apart.
    fn others<'s>(&'s self, used: &'s [usize]) -> impl Iterator<Item = &'s str> + 's {
        let one = |alike: &Vec<usize>| alike.iter().copied().find(|position| !used.contains(position));
        self.alike.iter().filter_map(one).map(|position| self.accounts[position].name.as_str())
    }

    /// Returns the accounts without which nobody comes to less: all but one of those that nothing tells apart, where nobody who comes to
    /// anything signs in by their names, and none is lent to others, who would have a choice.
    pub(super) fn spare(&self, matters: impl Fn(&str) -> bool) -> FxHashSet<&str> {
        let is_lent: FxHashSet<usize> = self.lent.values().flatten().copied().collect();
        let may_go = |position: &usize| {
            let Known { name, login } = &self.accounts[*position];
            // One without a login lets anybody in.
            !login.is_empty() && !is_lent.contains(position) && !matters(login) && !matters(name)
        };
        let spare = self.alike.iter().flat_map(|alike| alike.iter().copied().filter(may_go).skip(1));
        spare.map(|position| self.accounts[position].name.as_str()).collect()
    }

    /// Returns who uses the accounts that could come to more in the ledger as it is: what a person types, and parties to whom they are lent.
    pub(super) fn actors(&self) -> (Vec<&str>, Vec<&str>) {
        let strong: Vec<bool> = self.accounts.iter().map(|account| self.strong.includes(&account.name, &[])).collect();
        let logins = self.accounts.iter().zip(&strong).filter(|(_, is_strong)| **is_strong).map(|(account, _)| account.login.as_str());
        let lent = self.lent.iter().filter(|(_, of)| of.iter().any(|&position| strong[position])).map(|(by, _)| by.as_str());
        (logins.collect(), lent.collect())
    }

    /// Returns what it is called.
    pub(super) fn system(&self) -> &str {
        &self.system
    }

    /// Returns how many accounts it has.
    pub(super) fn count(&self) -> usize {
        self.accounts.len()
    }

    /// Returns how many other accounts there are like one.
    pub(super) fn count_like(&self, account: &str) -> usize {
        let position = self.accounts.iter().position(|known| known.name == account);
        position.map_or(0, |position| self.alike[self.alike_of[position]].len() - 1)
    }

    /// Returns whether nothing that is come to there takes anything away: what narrows what others may see is for some roles alone.
    pub(super) fn only_adds(&self) -> bool {
        let policies = self.parts.iter().flat_map(|part| &part.objects).flat_map(|object| object.policies.iter().flatten());
        !policies.into_iter().any(|policy| policy.restrictive.as_ref().is_some_and(|is_on| is_on.value))
    }
}

/// Says all of an account but what it is called and whose it is.
fn like(entry: &DatabaseRole) -> String {
    let DatabaseRole {
        name,
        remark: _,
        used_by: _,
        may,
        inherit,
        member_of,
        administers,
        default_role,
        connection_limit: _,
        until,
        locked,
        credential,
        settings,
        limits: _,
        not_modelled,
        more: _,
    } = entry;
    // Where an account is admitted from is part of its name.
    let origin = name.value.rsplit_once('@').map(|(_, origin)| origin);
    let names = |list: &[At<String>]| list.iter().map(|name| name.value.clone()).collect::<Vec<_>>();
    let lists = [may, member_of, administers, settings, not_modelled].map(|list| names(list));
    let inherit = inherit.as_ref().map(|inherit| inherit.value);
    let default_role = default_role.as_ref().map(|role| role.value.as_str());
    let (until, locked) = (until.as_ref().map(|until| until.value), locked.as_ref().map(|locked| locked.value));
    let credential = credential.as_ref().map(|credential| credential.value);
    format!("{origin:?} {lists:?} {inherit:?} {default_role:?} {until:?} {locked:?} {credential:?}")
}

/// What is said of accounts by name.
struct Named {
    names: FxHashSet<String>,
    /// The words of all texts in which any could be named.
    words: FxHashSet<String>,
    /// Whether any of them asks who it is.
    asks: bool,
}

impl Named {
    fn of(parts: &[Arc<Database>]) -> Self {
        let mut names: FxHashSet<String> = FxHashSet::default();
        let mut texts: Vec<&str> = Vec::new();
        let mut add = |list: &[At<String>]| names.extend(list.iter().map(|name| name.value.clone()));
        for part in parts {
            let Database { system: _, owner, accounts, roles, objects, grants, default_grants, settings, not_modelled, more: _ } = &**part;
            add(owner.as_slice());
            for role in accounts.iter().chain(roles) {
                add(&role.member_of);
                add(&role.administers);
                add(role.default_role.as_slice());
            }
            for grant in grants.iter().chain(default_grants) {
                add(&grant.to);
                add(grant.grantor.as_slice());
                add(grant.creator.as_slice());
            }
            for object in objects {
                let DatabaseObject {
                    name: _,
                    remark: _,
                    owner,
                    columns: _,
                    defaults,
                    query,
                    runs_as: _,
                    row_security: _,
                    row_security_for_owner: _,
                    policies,
                    triggers,
                    rules,
                    checks,
                    domain_of,
                    parameters,
                    settings,
                    returns: _,
                    language: _,
                    body,
                    values: _,
                    wrapper: _,
                    not_modelled,
                    more: _,
                } = object;
                add(owner.as_slice());
                for policy in policies.iter().flatten() {
                    let DatabasePolicy { name: _, acts: _, to, using, check, restrictive: _, more: _ } = policy;
                    add(to);
                    texts.extend([using, check].into_iter().flatten().map(|text| text.value.as_str()));
                }
                let single = [query, body, domain_of, parameters].into_iter().flatten();
                texts.extend(single.chain(settings).chain(not_modelled).map(|text| text.value.as_str()));
                let by_name = [defaults, triggers, rules, checks].into_iter().flatten();
                texts.extend(by_name.map(|(_, text)| text.value.as_str()));
            }
            texts.extend(settings.iter().chain(not_modelled).map(|text| text.value.as_str()));
        }
        let words = texts.iter().flat_map(|text| text.split(is_between)).map(str::to_owned).collect();
        let asks = texts.iter().any(|text| text.to_lowercase().contains("_user"));
        Self { names, words, asks }
    }

    fn is_apart(&self, account: &str) -> bool {
        let login = account.rsplit_once('@').map_or(account, |(login, _)| login);
        // What is no one word could be anywhere.
        let is_named = || self.words.contains(login) || login.contains(is_between) && !self.words.is_empty();
        self.asks || self.names.contains(account) || is_named()
    }
}

/// What stands between words.
const fn is_between(c: char) -> bool {
    !(c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '$') || !c.is_ascii())
}

/// Which accounts and roles hold anything that could give more.
#[derive(Debug)]
struct Strong {
    /// Of which roles each is a member, or may say who is.
    memberships: FxHashMap<String, Vec<String>>,
    names: FxHashSet<String>,
    /// Whether everybody does.
    is_open: bool,
}

impl Strong {
    fn of(kind: Kind, parts: &[Arc<Database>]) -> Self {
        let roles = || parts.iter().flat_map(|part| part.accounts.iter().chain(&part.roles));
        let mut memberships: FxHashMap<String, Vec<String>> = FxHashMap::default();
        let mut names: FxHashSet<String> = FxHashSet::default();
        for role in roles() {
            let is_strong = |name: &&str| STRONG.contains(name);
            let switches = role.may.iter().chain(&role.member_of).map(|switch| switch.value.as_str());
            // What is only named could be anything.
            if !role.administers.is_empty() || !role.not_modelled.is_empty() || switches.into_iter().any(|name| is_strong(&name)) {
                names.insert(role.name.value.clone());
            }
            let others = role.member_of.iter().chain(&role.administers).map(|role| role.value.clone());
            memberships.insert(role.name.value.clone(), others.collect());
        }
        if kind == Kind::POSTGRESQL {
            names.extend(parts.iter().flat_map(|part| &part.objects).filter_map(|object| Some(object.owner.as_ref()?.value.clone())));
            names.extend(parts.iter().filter_map(|part| Some(part.owner.as_ref()?.value.clone())));
        } else {
            let of_server = |on: &str| on == "everything" || on.contains("mysql") || on.contains(['*', '%', '_']);
            for grant in parts.iter().flat_map(|part| &part.grants).filter(|grant| grant.on.iter().any(|on| of_server(&on.value))) {
                names.extend(grant.to.iter().map(|to| to.value.clone()));
            }
        }
        // What is only named of the whole could be anything for everybody.
        let is_open = names.contains("public") || parts.iter().any(|part| !part.not_modelled.is_empty());
        Self { memberships, names, is_open }
    }

    /// Returns whether an account, or any role that it can come to be, holds anything that could give more where some things are so.
    fn includes(&self, account: &str, facts: &[Fact]) -> bool {
        let mut seen: FxHashSet<&str> = FxHashSet::default();
        let mut queue = vec![account];
        while let Some(name) = queue.pop() {
            let is_come_to = |fact: &Fact| match fact {
                Fact::Rules { account, .. } | Fact::Owns { account, .. } => account == name,
                _ => false,
            };
            if self.is_open || self.names.contains(name) || STRONG.contains(&name) || facts.iter().any(is_come_to) {
                return true;
            }
            let come_to = facts.iter().filter_map(|fact| match fact {
                Fact::Holds { account, role, .. } if account == name => Some(role),
                _ => None,
            });
            let others = self.memberships.get(name).into_iter().flatten().chain(come_to);
            queue.extend(others.map(String::as_str).filter(|role| seen.insert(role)));
        }
        false
    }
}

/// Finds what somebody may do by statements that gives more, where some things are so.
pub(super) fn passed_on(engine: &Engine, server: &Server, facts: &[Fact], person: &Person, found: &mut Found) {
    let used = server.accounts_of(engine, facts, &person.user);
    let is_strong = |account: &&Known| server.strong.includes(&account.name, facts);
    for account in used.iter().map(|&position| &server.accounts[position]).filter(is_strong) {
        let mut tries = 0;
        for (statement, fact) in acts_of(server, account, &used, &person.user) {
            // What is so already gives nothing.
            if facts.contains(&fact) {
                continue;
            }
            tries += 1;
            if tries > MAX_LOOKED_AT {
                found.is_cut_short = true;
                break;
            }
            found.tries += 1;
            let mut session = person.session();
            session.account = Some(account.login.clone()).filter(|login| *login != person.user);
            let question = Question { session, ..Question::statement(&person.user, &server.system, &statement) };
            let decision = engine.decide(&question);
            if decision.refusal == Some(Refusal::NotDecided) {
                found.unknown.push(format!("not decided: {} on {}: {statement}", visible(&person.user), visible(&server.system)));
            }
            if decision.verdict != Verdict::Denied && runs_as_definer(engine, &question, &fact) {
                found.acts.push(Arc::new(Act { gain: Gain::One(fact), by: By::Asked(Arc::new(question)) }));
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
fn acts_of<'s>(server: &'s Server, account: &'s Known, used: &'s [usize], user: &'s str) -> Box<dyn Iterator<Item = (String, Fact)> + 's> {
    let (system, name) = (server.system.as_str(), account.name.as_str());
    let roles = server.roles.iter().map(String::as_str);
    let others = move || server.others(used);
    let holds = move |role: &str| Fact::Holds { system: system.to_owned(), account: name.to_owned(), role: role.to_owned() };
    let uses = move |other: &str| Fact::Uses { user: user.to_owned(), system: system.to_owned(), account: other.to_owned() };
    let rules = move || Fact::Rules { system: system.to_owned(), account: name.to_owned() };
    let is_member = |role: &str| server.strong.memberships.get(name).is_some_and(|roles| roles.iter().any(|known| known == role));
    let is_new = move |role: &&str| !is_member(role);
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

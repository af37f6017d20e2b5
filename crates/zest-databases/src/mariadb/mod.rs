//! The rules of MariaDB 10.11.

mod about_rights;
mod broad;
mod differ;
mod difference;
mod document;
mod evaluate;
mod name;
mod need;
mod privilege;
mod remedy;
mod review;
mod state;
mod statement;
mod through;
mod trigger;
mod written;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use jiff::Timestamp;

use crate::database;
use crate::database::resolve::{DatabaseLinks, parts as parts_of};
use crate::database::{Needs, Outcome, Rules};
use evaluate::{login_of, open, place, wanted};
use need::Need;
pub(crate) use written::written;
use zest_engine::Engine;
use zest_engine::Estate;
use zest_engine::rights::Action;
use zest_engine::rules::{Left, Shown, Site};
use zest_engine::trace::{Stop, Trace};
use zest_engine::ways::Way;
use zest_model::ask::{Answer, Question, Refusal};
use zest_model::entry::{self, Database, DatabaseGrant, DatabaseRole, System};
use zest_model::finding::Finding;
use zest_model::source::{At, Place, visible};

type Links = DatabaseLinks<written::Written>;
type Server = database::Server<Mariadb>;

/// What only `mariadb` says.
#[derive(Debug)]
pub(crate) struct Mariadb;

impl Rules for Mariadb {
    const WORD: &'static [entry::Kind] = &[entry::Kind::MARIADB];
    const BY_ORIGIN: bool = true;
    const HAS_DATABASES: bool = false;
    type Written = written::Written;
    type Held = State;
    type Session<'s> = View<'s>;
    type Need = Need;

    fn login_of(account: &str) -> String {
        login_of(account)
    }

    fn written(_: &System, parts: &[Arc<Database>], at: Option<Timestamp>, findings: &mut Vec<Finding>) -> written::Written {
        written(parts, at, findings)
    }

    fn leaves(statement: &str) -> Left {
        statement::leaves(statement)
    }

    fn one_more(written: &mut written::Written, grant: &DatabaseGrant, findings: &mut Vec<Finding>) {
        written::one_more(written, grant, findings);
    }

    fn join(_: &mut written::Written, _: &[Arc<Database>], _: &DatabaseRole, _: &mut Vec<Finding>) -> bool {
        false
    }

    fn timed(written: &written::Written) -> &[At<Timestamp>] {
        &written.timed
    }

    fn held(written: &written::Written) -> Arc<State> {
        Arc::clone(&written.state)
    }

    fn open<'s>(question: &Question, server: &Server, held: &'s State, found: &[usize], trace: &mut Trace) -> Result<View<'s>, Stop> {
        open(question, server, held, found, trace)
    }

    fn where_held<'s>(session: &View<'_>, held: &'s State) -> View<'s> {
        session.where_held(held)
    }

    fn held_on(_: &View<'_>, _: &Arc<State>, now: Arc<State>) -> Arc<State> {
        now
    }

    fn go_on<'s>(_: &Question, session: &View<'_>, then: &Arc<State>, now: &'s State) -> Result<View<'s>, String> {
        session.go_on(then, now)
    }

    const KEEPS_GRANTS: bool = true;

    fn password_ends(_: &State, _: &str) -> Option<Timestamp> {
        None
    }

    fn wanted(held: &State, question: &Question, _: &View<'_>) -> Result<Needs<Need>, (Refusal, String)> {
        wanted(held, question)
    }

    fn outcome(need: &Need, held: &State, session: &View<'_>) -> Outcome {
        need.outcome(held, session)
    }

    fn also(need: &Need, _: &State, session: &View<'_>) -> Vec<String> {
        need.also(session)
    }

    fn taken(need: &Need, server: &Server, state: &State, session: &View<'_>) -> Option<(String, Place)> {
        need.taken(state, session, &server.taken)
    }

    fn place(need: &Need, server: &Server, session: &View<'_>) -> Option<Place> {
        place(server, need, session)
    }

    fn about(need: &Need) -> Option<String> {
        need.about()
    }

    fn ways(site: Site<'_>, server: &Server, answer: &Answer, refusal: Refusal) -> Vec<Way> {
        remedy::ways(site, server, answer, refusal)
    }

    fn may_activate(held: &State, account: &str) -> Vec<String> {
        let Some(account) = AccountName::parse(account) else { return Vec::new() };
        held.roles.iter().filter(|role| !held.activating(&account, None, role).is_empty()).cloned().collect()
    }

    fn through(held: &State, line: &str) -> Vec<(String, String)> {
        through::through(held, line)
    }

    fn shown(held: &State, view: &View<'_>) -> Shown {
        let mut shown = Shown::default();
        for database in held.databases.iter().filter(|database| view.sees_database(database)) {
            shown.names.push(format!("database {database}"));
            let is_in = |name: &&ObjectName| !name.class.is_routine() && name.database == *database;
            let tables = held.objects.keys().filter(is_in).filter(|name| view.sees_table(database, &name.name));
            if view.lists_tables(database) {
                shown.names.extend(tables.map(ToString::to_string));
            }
        }
        if view.is_left_to_chance() {
            shown
                .not_known
                .push("which of several accounts of one rank counts is left to the server's memory: it may show more".to_owned());
        }
        shown
    }

    fn actions(held: &State) -> Vec<Action> {
        let mut scopes: Vec<Scope> = vec![Scope::Everything];
        scopes.extend(held.databases.iter().map(|database| Scope::database(database)));
        scopes.extend(held.objects.keys().map(Scope::of));
        let mut list = Vec::new();
        for scope in scopes {
            let columns: BTreeSet<&String> =
                held.grants.iter().filter(|((_, on), _)| *on == scope).flat_map(|(_, held)| held.columns.keys()).collect();
            for privilege in document::level_of(&scope).applicable().iter().filter(|p| *p != Privilege::GrantOption) {
                let columns = columns.iter().filter(|_| Level::Column.applicable().contains(privilege));
                list.extend(database::questions(privilege.word(), columns, &scope.to_string()));
            }
        }
        let proxied: BTreeSet<&Scope> =
            held.grants.keys().map(|(_, scope)| scope).filter(|scope| matches!(scope, Scope::Proxy(_))).collect();
        let no_columns = || std::iter::empty::<&String>();
        list.extend(proxied.into_iter().flat_map(|scope| database::questions(evaluate::PROXY, no_columns(), &scope.to_string())));
        let administered: BTreeSet<&String> = held.memberships.iter().filter(|(_, admin)| **admin).map(|((_, of), _)| of).collect();
        list.extend(administered.into_iter().map(|role| database::question(database::ADMIN_OPTION, &format!("role {role}"))));
        list
    }

    fn come_to(held: &State) -> Vec<(String, String)> {
        through::come_to(held)
    }

    fn told(held: &State) -> Vec<(String, String, String)> {
        let State { accounts, roles: _, memberships, databases: _, objects: _, grants, has_public: _, not_modelled: _ } = held;
        let mut told: BTreeMap<String, String> = BTreeMap::new();
        let mut add = |holder: String, says: String| {
            let known = told.entry(holder).or_default();
            known.push_str(&says);
            known.push('\n');
        };
        for (name, account) in accounts {
            add(name.to_string(), format!("{:?}", Account { limits: BTreeMap::new(), ..account.clone() }));
        }
        for ((member, role), admin) in memberships {
            add(member.to_string(), format!("{role} {admin}"));
        }
        for ((holder, scope), Held { privileges, columns, place: _ }) in grants {
            add(holder.to_string(), format!("{scope}: {privileges} {columns:?}"));
        }
        told.into_iter().map(|(name, says)| (format!("what `{}` is and holds", visible(&name)), name, says)).collect()
    }

    fn differ(sides: [(&Server, &State); 2]) -> Option<BTreeSet<String>> {
        differ::differ(sides)
    }

    fn is_too_much(_: &State, _: &str) -> bool {
        false
    }

    fn review(engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
        review::review(engine, at, findings);
    }
}

/// Returns the state that a ledger wants a MariaDB server to have; none if no such system is declared.
///
/// What it wants depends on the moment where grants end; without one, grants that end are left out.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, mariadb::state_of};
/// # let text = r#"
/// # [systems.loyalty]
/// # kind = "mariadb"
/// # [databases.loyalty.accounts]
/// # "desk@localhost" = {}
/// # "#;
/// # let wanted = state_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", None).expect("it is declared");
/// assert_eq!(wanted.accounts.keys().next().expect("there is one").user, "desk");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn state_of(estate: &Estate, system: &str, at: Option<Timestamp>) -> Option<State> {
    let id = *estate.names().systems.get(system)?;
    let links: &Links = estate.links(id)?;
    let system = estate.system(id);
    let parts = parts_of(estate.entries(), system);
    let mut state = Arc::unwrap_or_clone(written(&parts, at, &mut Vec::new()).state);
    // Of people who are gone the account is locked and never dropped.
    for (name, account) in &mut state.accounts {
        account.locked |= at.is_some_and(|at| database::behind(estate, &links.accounts, &name.to_string(), &name.user, at).0);
    }
    Some(state)
}

/// Returns the ends to come that the server cannot keep itself, each with the account: from then on it lets in somebody who is
/// gone, until it is told anew.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, mariadb::ends_of};
/// let text = r#"
/// users.desk-1 = { proofs = ["password"], until = 2027-01-01 }
/// systems.loyalty.kind = "mariadb"
/// databases.loyalty.accounts."desk-1@localhost" = { used-by = ["user:desk-1"] }
/// "#;
/// let ends = ends_of(&Ledger::new().document("loyalty.toml", text).estate()?, "loyalty", "2026-11-25T08:00:00Z".parse().expect("a moment"));
/// assert_eq!(ends[0].1, "desk-1@localhost");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn ends_of(estate: &Estate, system: &str, at: Timestamp) -> Vec<(Timestamp, String)> {
    let links = estate.names().systems.get(system).and_then(|id| estate.links::<Links>(*id));
    let of_account = |name: &AccountName| {
        let end = database::behind(estate, &links?.accounts, &name.to_string(), &name.user, at).1?;
        Some((end, name.to_string()))
    };
    let mut ends: Vec<_> = state_of(estate, system, Some(at)).iter().flat_map(|s| s.accounts.keys().filter_map(of_account)).collect();
    ends.sort();
    ends
}

/// What our rules say to a statement.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{AccountName, Origin, Said, State, View, say};
/// let state = State::fresh();
/// let view = View::new(&state, &AccountName::new("nobody", "%"), Origin::Local, None);
/// assert!(matches!(say(&state, &view, None, "FLUSH PRIVILEGES"), Said::Refused(..)));
/// assert!(matches!(say(&state, &view, None, "FROB EVERYTHING"), Said::NotDecided(_)));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Said {
    /// Every check of the server passes.
    Allowed,
    /// A check refuses: why, and the object it is about as a ledger writes it.
    Refused(String, Option<String>),
    /// The state does not say enough, or the statement cannot be read; never taken for allowed.
    NotDecided(String),
}

/// Says whether a session may run a statement.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{AccountName, Origin, Said, State, View, say};
/// let state = State::fresh();
/// let view = View::new(&state, &AccountName::new("root", "localhost"), Origin::Local, None);
/// assert_eq!(say(&state, &view, None, "CREATE DATABASE loyalty"), Said::Allowed);
/// ```
#[must_use]
pub fn say(state: &State, view: &View<'_>, database: Option<&str>, sql: &str) -> Said {
    match statement::needs(state, database, sql) {
        Err((_, why)) => Said::NotDecided(why),
        Ok(needs) => {
            let mut open = needs.undecided;
            for need in &needs.list {
                let Outcome { refusal, text, place: _ } = need.outcome(state, view);
                match refusal {
                    None => {}
                    Some(Refusal::NotDecided) => open.push(text),
                    Some(_) => return Said::Refused(text, need.about()),
                }
            }
            open.into_iter().next().map_or(Said::Allowed, Said::NotDecided)
        }
    }
}

/// Says why a statement is not put to a server that is in use, where it is only to be told what the server would do (`EXPLAIN`): it is no
/// statement about rows, reads views, or runs a routine of somebody. Returns the tables that it is about.
///
/// # Errors
/// The reason, in words.
///
/// # Example
/// ```
/// use zest_ledger::mariadb::{State, is_harmless_to_explain};
/// assert_eq!(is_harmless_to_explain(&State::fresh(), "select 1"), Ok(Vec::new()));
/// assert!(is_harmless_to_explain(&State::fresh(), "drop database club").is_err());
/// ```
pub fn is_harmless_to_explain(state: &State, sql: &str) -> Result<Vec<ObjectName>, String> {
    crate::sql::is_about_rows(crate::sql::Dialect::Mariadb, sql)?;
    let needs = statement::needs(state, evaluate::only_database(state), sql).map_err(|(_, why)| why)?;
    if let Some(why) = needs.undecided.first() {
        return Err(format!("not decided: {why}"));
    }
    let rows: Privileges = [Privilege::Select, Privilege::Insert, Privilege::Update, Privilege::Delete].into_iter().collect();
    let table = |need: &Need| match need {
        Need::Table { object, privilege, .. } if object.class == Class::Table && rows.contains(*privilege) => Ok(object.clone()),
        Need::Table { object, .. } | Need::Routine { object, .. } => Err(format!("it reads or runs {object}")),
        _ => Err("it needs other rights than those on tables".to_owned()),
    };
    let mut tables = needs.list.iter().map(table).collect::<Result<Vec<ObjectName>, String>>()?;
    tables.sort();
    tables.dedup();
    Ok(tables)
}

pub use difference::script;
pub use name::{AccountName, Class, Holder, ObjectName, Scope, literal, matches, quoted, rank};
pub use privilege::{Level, Privilege, Privileges};
pub use state::{Account, GrantChange, Held, Object, OnTable, Origin, Source, State, View, admits};
pub use trigger::{Event, Trigger};

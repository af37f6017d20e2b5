//! The rules of PostgreSQL 15.

mod about_rights;
mod acl;
mod catalog;
mod differ;
mod difference;
mod document;
mod evaluate;
mod make;
mod need;
mod object;
mod opened;
mod policy;
mod privilege;
mod remedy;
mod review;
mod state;
mod statement;
mod through;
mod which_rows;
mod written;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use jiff::Timestamp;

use crate::database;
use crate::database::resolve::{DatabaseLinks, parts as parts_of};
use crate::database::{Needs, Outcome, Rules};
pub use acl::{Acl, AclRefusal, Grantee, Held};
pub use catalog::{Catalog, Matrix, ObjectNumber, RoleNumber, Want, Way};
pub use difference::script;
use evaluate::{Standing, open, place, wanted};
use need::{Demand, Need};
pub use object::{ObjectName, literal, quoted};
use opened::{go_on, held_on};
pub use privilege::{Class, Privilege, Privileges};
use zest_engine::Engine;
use zest_engine::Estate;
use zest_engine::rights::Action;
use zest_engine::rules::{Left, Shown, Site};
use zest_engine::trace::{Stop, Trace};
use zest_engine::ways::Way as WayOn;
use zest_model::ask::{Answer, Form, Question, Refusal};
use zest_model::entry::{self, Database, DatabaseGrant, DatabaseRole, System};
use zest_model::finding::Finding;
use zest_model::source::{At, Place, visible};

type Links = DatabaseLinks<written::Written>;
type Server = database::Server<Postgresql>;

/// The acts that no privilege allows but a switch of a role, or a role of the server's own, each with a statement that it carries out.
const ACTS: &[(&str, &str)] = &[
    ("create role", "CREATE ROLE new_role"),
    ("create database", "CREATE DATABASE new_database"),
    ("change settings of all sessions", "ALTER SYSTEM SET work_mem = '4MB'"),
    ("make a replication slot", "SELECT pg_create_physical_replication_slot('new_slot')"),
    ("checkpoint", "CHECKPOINT"),
    ("run programs", "COPY (SELECT 1) TO PROGRAM 'true'"),
    ("write files", "COPY (SELECT 1) TO '/new_file'"),
];

/// What only `postgresql` says.
#[derive(Debug)]
pub(crate) struct Postgresql;

impl Rules for Postgresql {
    const WORD: &'static [entry::Kind] = &[entry::Kind::POSTGRESQL];
    const BY_ORIGIN: bool = false;
    const HAS_DATABASES: bool = true;
    type Written = written::Written;
    type Held = Catalog;
    type Session<'s> = Standing;
    type Need = Need;

    fn login_of(account: &str) -> String {
        account.to_owned()
    }

    fn written(system: &System, parts: &[Arc<Database>], at: Option<Timestamp>, findings: &mut Vec<Finding>) -> written::Written {
        written(system, parts, at, findings)
    }

    fn leaves(statement: &str) -> Left {
        statement::leaves(statement)
    }

    fn one_more(written: &mut written::Written, grant: &DatabaseGrant, findings: &mut Vec<Finding>) {
        written::one_more(written, grant, findings);
    }

    fn join(written: &mut written::Written, parts: &[Arc<Database>], entry: &DatabaseRole, findings: &mut Vec<Finding>) -> bool {
        written::join(written, parts, entry, findings)
    }

    fn timed(written: &written::Written) -> &[At<Timestamp>] {
        &written.timed
    }

    fn held(written: &written::Written) -> Arc<Catalog> {
        Arc::new(Catalog::of(Arc::clone(&written.state)))
    }

    fn open(question: &Question, server: &Server, held: &Catalog, found: &[usize], trace: &mut Trace) -> Result<Standing, Stop> {
        open(question, server, held, found, trace)
    }

    fn where_held(session: &Standing, _: &Catalog) -> Standing {
        session.clone()
    }

    fn held_on(session: &Standing, then: &Arc<Catalog>, now: Arc<Catalog>) -> Arc<Catalog> {
        held_on(session, then.state(), now)
    }

    fn go_on(question: &Question, session: &Standing, then: &Arc<Catalog>, now: &Catalog) -> Result<Standing, String> {
        go_on(question, session, then.state(), now.state())
    }

    const KEEPS_GRANTS: bool = false;

    fn password_ends(held: &Catalog, account: &str) -> Option<Timestamp> {
        held.state().roles.get(account)?.valid_until
    }

    fn wanted(held: &Catalog, question: &Question, session: &Standing) -> Result<Needs<Need>, (Refusal, String)> {
        wanted(held, question, session)
    }

    fn outcome(need: &Need, held: &Catalog, _: &Standing) -> Outcome {
        need.outcome(held)
    }

    fn also(need: &Need, held: &Catalog, _: &Standing) -> Vec<String> {
        need.also(held)
    }

    fn taken(need: &Need, server: &Server, held: &Catalog, _: &Standing) -> Option<(String, Place)> {
        need.taken(held, &server.taken)
    }

    fn place(need: &Need, server: &Server, _: &Standing) -> Option<Place> {
        place(server, need)
    }

    fn about(need: &Need) -> Option<String> {
        if let Need::Object { object, .. } = need { Some(object.to_string()) } else { None }
    }

    fn ways(site: Site<'_>, server: &Server, answer: &Answer, refusal: Refusal) -> Vec<WayOn> {
        remedy::ways(site, server, answer, refusal)
    }

    fn may_activate(held: &Catalog, account: &str) -> Vec<String> {
        let state = held.state();
        if state.is_superuser(account) {
            return state.roles.keys().filter(|role| *role != account).cloned().collect();
        }
        let mut list = state.roles_of(account, false);
        list.retain(|role| role != account && state.roles.contains_key(role));
        list.sort();
        list
    }

    fn through(held: &Catalog, line: &str) -> Vec<(String, String)> {
        through::through(held, line)
    }

    /// Its information schema shows what a role owns, or holds any privilege on (`information_schema.tables`, `sequences`, `routines`,
    /// `schemata`); its catalogs show the names of all there is to everybody.
    fn shown(held: &Catalog, session: &Standing) -> Shown {
        use acl::Inherits as _;
        let mut shown = Shown::default();
        let Some(role) = held.role(&session.role) else { return shown };
        for (name, object) in &held.state().objects {
            let is_listed = match name.class {
                Class::Table | Class::View | Class::Sequence | Class::Function | Class::Procedure | Class::Schema => true,
                Class::Database | Class::MaterialisedView | Class::Type | Class::Language | Class::Wrapper | Class::Server => false,
            };
            let Some(number) = held.object(name).filter(|_| is_listed) else { continue };
            let holds = |privilege: Privilege| {
                let of_column = |column: &Column| held.holds_column(role, number, &column.name, privilege, Want::Privilege);
                let on_columns = privilege::COLUMN_PRIVILEGES.contains(privilege) && object.columns.iter().any(of_column);
                held.holds(role, number, privilege, Want::Privilege) || on_columns
            };
            if held.state().has_privileges_of(&session.role, &object.owner) || name.class.applicable().iter().any(holds) {
                shown.names.push(name.to_string());
            }
        }
        shown
    }

    fn actions(held: &Catalog) -> Vec<Action> {
        let state = held.state();
        let mut list = Vec::new();
        for (name, object) in &state.objects {
            let on = name.to_string();
            let columns = |privilege: Privilege| {
                let is_apart = move |column: &&Column| privilege::COLUMN_PRIVILEGES.contains(privilege) && !column.acl.is_empty();
                object.columns.iter().filter(is_apart).map(|column| &column.name)
            };
            for privilege in name.class.applicable().iter() {
                list.extend(database::questions(privilege.word(), columns(privilege), &on));
            }
            for privilege in name.class.applicable().iter().filter(|_| object.row_security) {
                for rows in Rows::told_apart(object, privilege) {
                    list.extend(database::questions_of_rows(privilege.word(), columns(privilege), &format!("{on}{rows}")));
                }
            }
            list.push(database::question(evaluate::OWNERSHIP, &on));
        }
        // Whoever makes roles, or is a superuser, may pass on all others; that is an act of its own.
        let administered: BTreeSet<&String> =
            state.roles.values().flat_map(|role| &role.member_of).filter(|(_, admin)| **admin).map(|(of, _)| of).collect();
        list.extend(administered.into_iter().map(|role| database::question(database::ADMIN_OPTION, &format!("role {role}"))));
        list.extend(ACTS.iter().map(|(name, statement)| Action {
            line: (*statement).to_owned(),
            form: Form::Statement,
            name: (*name).to_owned(),
            under: "the server".to_owned(),
            like: None,
        }));
        list
    }

    fn come_to(held: &Catalog) -> Vec<(String, String)> {
        through::come_to(held)
    }

    fn told(held: &Catalog) -> Vec<(String, String, String)> {
        let State { database: _, roles, objects, defaults: _, settings: _, not_modelled: _ } = held.state();
        let acl = |acl: &Acl| -> Vec<String> {
            let one = |(to, by, held): (&Grantee, &str, &Held)| format!("{to} by {by}: {} / {}", held.privileges, held.options);
            acl.iter().map(one).collect()
        };
        let of_object = |object: &Object| {
            let columns: BTreeMap<&str, Vec<String>> =
                object.columns.iter().map(|column| (column.name.as_str(), acl(&column.acl))).collect();
            format!("{} {:?} {columns:?}", object.owner, acl(&object.acl))
        };
        let of_role = |role: &Role| format!("{:?}", Role { settings: Vec::new(), connection_limit: -1, ..role.clone() });
        let objects = objects.iter().map(|(name, object)| {
            let name = name.to_string();
            (format!("what is held on {}", visible(&name)), name, of_object(object))
        });
        let roles = roles.iter().map(|(name, role)| (format!("what `{}` is", visible(name)), name.clone(), of_role(role)));
        objects.chain(roles).collect()
    }

    fn differ([(_, before), (_, after)]: [(&Server, &Catalog); 2]) -> Option<BTreeSet<String>> {
        differ::differ(before.state(), after.state())
    }

    fn is_too_much(held: &Catalog, object: &str) -> bool {
        let entry = ObjectName::parse(object).and_then(|name| held.state().objects.get(&name));
        entry.is_some_and(|entry| Privilege::ALL.iter().any(|privilege| which_rows::is_too_much(entry, *privilege)))
    }

    fn review(engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
        review::review(engine, at, findings);
    }
}

/// Returns the state that a ledger wants a PostgreSQL server to have; none if no such system is declared.
///
/// What it wants depends on the moment where grants end; without one, grants that end are left out.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, postgresql::state_of};
/// let text = "systems.fares.kind = 'postgresql'\ndatabases.fares.accounts.clerk-1 = {}\n";
/// let wanted = state_of(&Ledger::new().document("fares.toml", text).estate()?, "fares", None).expect("it is declared");
/// assert!(wanted.roles["clerk-1"].login);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn state_of(estate: &Estate, system: &str, at: Option<Timestamp>) -> Option<State> {
    let id = *estate.names().systems.get(system)?;
    let links: &Links = estate.links(id)?;
    let system = estate.system(id);
    let parts = parts_of(estate.entries(), system);
    let mut state = Arc::unwrap_or_clone(written(system, &parts, at, &mut Vec::new()).state);
    // Of people who are gone the account is locked and never dropped; an end to come is one of the password as well.
    for (name, role) in state.roles.iter_mut().filter(|(_, role)| role.login) {
        let Some(at) = at else { break };
        let (is_gone, end) = database::behind(estate, &links.accounts, name, name, at);
        role.login &= !is_gone;
        role.valid_until = role.valid_until.into_iter().chain(end).min();
    }
    Some(state)
}

/// Says why a statement is not put to a server that is in use, where it is only to be told what the server would do (`EXPLAIN`): it is no
/// statement about rows, may run a routine of somebody, which the server does while it plans, or needs what it looks at only later.
///
/// # Errors
/// The reason, in words.
///
/// # Example
/// ```
/// use zest_ledger::postgresql::{BOOTSTRAP, Catalog, State, is_harmless_to_explain};
/// let catalog = Catalog::compile(State::fresh("fares", BOOTSTRAP));
/// assert!(is_harmless_to_explain(&catalog, BOOTSTRAP, BOOTSTRAP, "select 1").is_ok());
/// assert!(is_harmless_to_explain(&catalog, BOOTSTRAP, BOOTSTRAP, "drop schema public").is_err());
/// ```
pub fn is_harmless_to_explain(catalog: &Catalog, account: &str, role: &str, sql: &str) -> Result<(), String> {
    crate::sql::is_about_rows(crate::sql::Dialect::Postgresql, sql)?;
    let needs = statement::needs(catalog, account, role, sql).map_err(|(_, why)| why)?;
    if let Some(why) = needs.undecided.first() {
        return Err(format!("not decided: {why}"));
    }
    let rows: Privileges = [Privilege::Select, Privilege::Insert, Privilege::Update, Privilege::Delete].into_iter().collect();
    // What else is needed the server looks at when it carries the statement out, and not before.
    let is_looked_at = |need: &Need| match need {
        Need::Object { object, demand: Demand::Privilege { any, .. }, .. } => match object.class {
            Class::Table | Class::View | Class::MaterialisedView => any.iter().all(|privilege| rows.contains(privilege)),
            Class::Schema => *any == Privilege::Usage.only(),
            Class::Database | Class::Sequence | Class::Function | Class::Procedure | Class::Type | Class::Language => false,
            Class::Wrapper | Class::Server => false,
        },
        Need::Object { .. } | Need::NewRow { .. } | Need::Switch { .. } | Need::Member { .. } | Need::Admin { .. } => false,
        Need::Membership { .. } | Need::Option(_) | Need::Rights { .. } | Need::Server { .. } | Need::Rows { .. } => false,
    };
    match needs.list.iter().find(|need| !is_looked_at(need)) {
        None => Ok(()),
        Some(Need::Object { object, .. } | Need::NewRow { object, .. } | Need::Rows { object, .. }) => {
            Err(format!("it uses {object}, to which the server looks when it carries the statement out"))
        }
        Some(_) => Err("it needs other rights than those on tables".to_owned()),
    }
}

use which_rows::Rows;

pub use state::{BOOTSTRAP, Column, DefaultKey, GrantChange, Object, Policy, Role, State};
pub(crate) use written::written;

//! The rules of PostgreSQL 15.

mod acl;
mod catalog;
mod difference;
mod document;
mod evaluate;
mod need;
mod object;
mod privilege;
mod remedy;
mod review;
mod state;
mod statement;
mod written;

use std::sync::Arc;

use jiff::Timestamp;

use crate::database;
use crate::database::resolve::{DatabaseLinks, parts as parts_of};
use crate::database::{Accounts, Rules};
pub use acl::{Acl, AclRefusal, Grantee, Held};
pub use catalog::{Catalog, Matrix, ObjectNumber, RoleNumber, Want, Way};
pub use difference::script;
pub(crate) use evaluate::{Server, open, walk, wanted};
pub(crate) use need::{Demand, Need, On};
pub use object::{ObjectName, literal, quoted};
pub use privilege::{Class, Privilege, Privileges};
use zest_engine::Engine;
use zest_engine::Estate;
use zest_engine::links::UserId;
use zest_engine::rules::Site;
use zest_engine::trace::{Stop, Trace};
use zest_engine::ways::Way as WayOn;
use zest_model::ask::{Answer, Question, Refusal, Session};
use zest_model::entry::{self, Database, DatabaseGrant, DatabaseRole, System};
use zest_model::finding::Finding;
use zest_model::listing::Effective;

type Links = DatabaseLinks<written::Written>;

/// What only `postgresql` says.
#[derive(Debug)]
pub(crate) struct Postgresql;

impl Rules for Postgresql {
    const WORD: &'static [entry::Kind] = &[entry::Kind::POSTGRESQL];
    type Written = written::Written;
    type Server = Server;

    fn login_of(account: &str) -> String {
        account.to_owned()
    }

    fn written(system: &System, parts: &[Arc<Database>], findings: &mut Vec<Finding>) -> written::Written {
        written(system, parts, None, findings)
    }

    fn one_more(written: &mut written::Written, grant: &DatabaseGrant, findings: &mut Vec<Finding>) {
        written::one_more(written, grant, findings);
    }

    fn join(written: &mut written::Written, parts: &[Arc<Database>], entry: &DatabaseRole, findings: &mut Vec<Finding>) -> bool {
        written::join(written, parts, entry, findings)
    }

    fn server(system: &Arc<System>, parts: Vec<Arc<Database>>, links: &Links) -> Server {
        Server::new(Arc::clone(system), parts, links)
    }

    fn accounts(server: &Server) -> &Accounts {
        &server.accounts
    }

    fn open(site: Site<'_>, question: &Question, server: &Server, trace: &mut Trace) -> Result<(), Stop> {
        open(site, question, server, &server.at(question.session.at), trace).map(drop)
    }

    fn walk(site: Site<'_>, question: &Question, server: &Server, trace: &mut Trace) -> Result<(), Stop> {
        walk(site, question, server, trace)
    }

    fn ways(site: Site<'_>, server: &Server, answer: &Answer, refusal: Refusal) -> Vec<WayOn> {
        remedy::ways(site, server, answer, refusal)
    }

    fn effective(site: Site<'_>, server: &Server, user: UserId, session: &Session) -> Effective {
        review::effective(site, server, user, session)
    }

    fn review(engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
        review::review(engine, at, findings);
    }
}

/// Returns the state that a ledger wants a PostgreSQL server to have; none if no such system is declared.
///
/// What it wants depends on the moment where grants end; without one, grants that end are left out.
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

pub use state::{BOOTSTRAP, Column, DefaultKey, GrantChange, Object, Role, State};
pub(crate) use written::written;

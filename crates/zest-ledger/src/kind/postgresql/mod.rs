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

use super::database;
use super::database::resolve::{DatabaseLinks, accounts, amended, have_servers, parts as parts_of};
use crate::ask::{Answer, Change, Fact, Question, Refusal, Session};
use crate::engine::Engine;
use crate::engine::missing;
use crate::engine::rules::{Combining, Kind, Scratch, Site};
use crate::engine::trace::{Stop, Trace};
use crate::engine::ways::{Asked, Way as WayOn};
use crate::engine::{Declared, Estate};
use crate::entry::Channel;
use crate::finding::Finding;
use crate::links::resolve::Ground;
use crate::links::{Resolver, RoleId, SetId, SystemId, UserId};
use crate::listing::{Effective, SessionView};
use crate::source::{At, Location};
use crate::table::Kept;
use crate::text::OutsideTable;
pub use acl::{Acl, AclRefusal, Grantee, Held};
pub use catalog::{Catalog, Matrix, ObjectNumber, RoleNumber, Want, Way};
pub use difference::script;
pub(crate) use evaluate::{Server, open, walk, wanted};
pub(crate) use need::{Demand, Need, On};
pub(crate) use object::parts;
pub use object::{ObjectName, literal, quoted};
pub use privilege::{Class, Privilege, Privileges};

type Links = DatabaseLinks<written::Written>;

/// The kind `postgresql`.
#[derive(Debug)]
pub(crate) struct Postgresql;

impl Kind for Postgresql {
    fn tables(&self) -> &'static [OutsideTable] {
        &[]
    }

    fn words(&self) -> &'static [crate::entry::Kind] {
        &[crate::entry::Kind::POSTGRESQL]
    }

    fn resolve(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, system: SystemId) -> Kept {
        let system = &ground.entries.systems[system.index()];
        let parts = parts_of(ground.entries, system);
        let written = Arc::new(written(system, &parts, None, resolver.findings));
        Arc::new(Links { accounts: Arc::new(accounts(resolver, &parts, str::to_owned)), written })
    }

    fn amend(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, system: SystemId, before: &Kept, changes: &[Change]) -> Option<Kept> {
        let parts = parts_of(ground.entries, &ground.entries.systems[system.index()]);
        let links = amended(resolver, &parts, before.downcast_ref::<Links>()?, changes, written::one_more)?;
        Some(Arc::new(links))
    }

    fn complete(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, _: &mut [Declared]) {
        have_servers(resolver, ground);
    }

    fn compile(&self, estate: &Estate, id: SystemId) -> Kept {
        let system = &estate.entries.systems[id.index()];
        let parts = parts_of(&estate.entries, system);
        let links: &Links = estate.links(id).expect("`resolve` made them");
        Arc::new(Server::new(Arc::clone(system), parts, links))
    }

    fn hears(&self, fact: Fact) -> bool {
        database::hears(fact)
    }

    fn combining(&self) -> Combining {
        Combining::NotLookedAt
    }

    fn compiles_roles(&self) -> bool {
        false
    }

    fn knows_links(&self) -> bool {
        false
    }

    fn is_left_as_account(&self) -> bool {
        false
    }

    fn covers<'e>(&self, _: Site<'e>) -> &'e [(At<Channel>, Vec<At<Channel>>)] {
        &[]
    }

    fn open(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        let server: &Server = site.engine.state(site.system).ok_or(Stop)?;
        open(site, question, server, &server.at(question.session.at), trace).map(drop)
    }

    fn decide(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        walk(site, question, site.engine.state(site.system).ok_or(Stop)?, trace)
    }

    fn ways(&self, site: Site<'_>, answer: &Answer, refusal: Refusal) -> Vec<WayOn> {
        if matches!(refusal, Refusal::UserDisabled | Refusal::UserNotValid) {
            return Asked::of(site, answer).map_or_else(|ways| ways, |asked| asked.person(refusal).unwrap_or_default());
        }
        site.engine.state(site.system).map_or_else(Vec::new, |server| remedy::ways(site, server, answer, refusal))
    }

    fn effective(&self, site: Site<'_>, user: UserId, session: &Session, _: &mut Scratch) -> Effective {
        let nothing = || Effective::nothing(&site.entry().id.value);
        site.engine.state(site.system).map_or_else(nothing, |server| review::effective(site, server, user, session))
    }

    fn concerns(&self, site: Site<'_>, user: UserId) -> bool {
        site.engine.state::<Server>(site.system).is_some_and(|server| server.accounts.has(site, user))
    }

    fn missing(&self, site: Site<'_>, user: UserId, _: Option<Timestamp>) -> Vec<(String, Option<Location>)> {
        if self.concerns(site, user) { Vec::new() } else { missing::nothing("no account is there", site) }
    }

    fn view(&self, _: Site<'_>, question: &Question, view: &mut SessionView) {
        view.roles = question.session.active_roles.clone().unwrap_or_default();
    }

    fn reaches(&self, engine: &Engine, user: UserId) -> bool {
        engine.states::<Server>().any(|(system, _)| self.concerns(Site { engine, system }, user))
    }

    fn grants_to(&self, _: &Engine, _: RoleId) -> bool {
        false
    }

    fn sets(&self, _: &Engine) -> Vec<SetId> {
        Vec::new()
    }

    fn review(&self, engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
        review::review(engine, at, findings);
    }
}

/// Returns the state that a ledger wants a PostgreSQL server to have; none if no such system is declared.
///
/// What it wants depends on the moment where grants end; without one, grants that end are left out.
#[must_use]
pub fn state_of(estate: &Estate, system: &str, at: Option<Timestamp>) -> Option<State> {
    let id = *estate.names.systems.get(system)?;
    let links: &Links = estate.links(id)?;
    let system = estate.system(id);
    let parts = parts_of(&estate.entries, system);
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

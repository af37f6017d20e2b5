//! The rules of MariaDB 10.11.

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
mod written;

use std::sync::Arc;

use jiff::Timestamp;

use super::database;
use super::database::resolve::{DatabaseLinks, accounts, amended, parts as parts_of};
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
pub(crate) use evaluate::{Server, login_of, open, open_as, walk, wanted};
pub(crate) use need::{Need, On};
pub(crate) use written::written;

type Links = DatabaseLinks<written::Written>;

/// The kind `mariadb`.
#[derive(Debug)]
pub(crate) struct Mariadb;

impl Kind for Mariadb {
    fn tables(&self) -> &'static [OutsideTable] {
        &[]
    }

    fn words(&self) -> &'static [crate::entry::Kind] {
        &[crate::entry::Kind::MARIADB]
    }

    fn resolve(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, system: SystemId) -> Kept {
        let system = &ground.entries.systems[system.index()];
        let parts = parts_of(ground.entries, system);
        let written = Arc::new(written(&parts, None, resolver.findings));
        Arc::new(Links { accounts: Arc::new(accounts(resolver, &parts, login_of)), written })
    }

    fn amend(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, system: SystemId, before: &Kept, changes: &[Change]) -> Option<Kept> {
        let parts = parts_of(ground.entries, &ground.entries.systems[system.index()]);
        let links = amended(resolver, &parts, before.downcast_ref::<Links>()?, changes, written::one_more)?;
        Some(Arc::new(links))
    }

    fn complete(&self, _resolver: &mut Resolver<'_>, _ground: Ground<'_>, _: &mut [Declared]) {}

    fn compile(&self, estate: &Estate, id: SystemId) -> Kept {
        let system = &estate.entries.systems[id.index()];
        let parts = parts_of(&estate.entries, system);
        let links: &Links = estate.links(id).expect("`resolve` made them");
        Arc::new(Server::new(parts, links))
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

/// Returns the state that a ledger wants a MariaDB server to have; none if no such system is declared.
///
/// What it wants depends on the moment where grants end; without one, grants that end are left out.
#[must_use]
pub fn state_of(estate: &Estate, system: &str, at: Option<Timestamp>) -> Option<State> {
    let id = *estate.names.systems.get(system)?;
    let links: &Links = estate.links(id)?;
    let system = estate.system(id);
    let parts = parts_of(&estate.entries, system);
    let mut state = Arc::unwrap_or_clone(written(&parts, at, &mut Vec::new()).state);
    // Of people who are gone the account is locked and never dropped.
    for (name, account) in &mut state.accounts {
        account.locked |= at.is_some_and(|at| database::behind(estate, &links.accounts, &name.to_string(), &name.user, at).0);
    }
    Some(state)
}

/// Returns the ends to come that the server cannot keep itself, each with the account: from then on it lets in somebody who is
/// gone, until it is told anew.
#[must_use]
pub fn ends_of(estate: &Estate, system: &str, at: Timestamp) -> Vec<(Timestamp, String)> {
    let links = estate.names.systems.get(system).and_then(|id| estate.links::<Links>(*id));
    let of_account = |name: &AccountName| {
        let end = database::behind(estate, &links?.accounts, &name.to_string(), &name.user, at).1?;
        Some((end, name.to_string()))
    };
    let mut ends: Vec<_> = state_of(estate, system, Some(at)).iter().flat_map(|s| s.accounts.keys().filter_map(of_account)).collect();
    ends.sort();
    ends
}

/// What our rules say to a statement.
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
#[must_use]
pub fn say(state: &State, view: &View<'_>, database: Option<&str>, sql: &str) -> Said {
    match statement::needs(state, database, sql) {
        Err((_, why)) => Said::NotDecided(why),
        Ok(needs) => {
            let refused = needs.list.iter().find_map(|n| {
                let outcome = n.outcome(state, view);
                outcome.refusal.map(|_| Said::Refused(outcome.text, n.about()))
            });
            refused.unwrap_or_else(|| needs.undecided.into_iter().next().map_or(Said::Allowed, Said::NotDecided))
        }
    }
}

pub use difference::script;
pub use name::{AccountName, Class, Holder, ObjectName, Scope, literal, matches, quoted, rank};
pub use privilege::{Level, Privilege, Privileges};
pub use state::{Account, GrantChange, Held, Object, OnTable, Origin, Source, State, View, admits};

//! Network devices: privilege levels, a command line, and command sets that are asked centrally.
//!
//! A session starts at its band's start level. For a line to run, two locks must both be open: the device's own
//! level for the command, and, where the device authorises commands centrally at the session's level (or in
//! configuration modes, a switch of its own), the command sets. The first assignment that applies decides alone.

mod device;
mod entry;
mod line;
mod opened;
mod reach;
mod remedy;
mod resolve;
mod review;
mod rights;

use std::collections::BTreeSet;
use std::sync::Arc;

use jiff::Timestamp;

use crate::engine::missing;
use crate::engine::rights::{Action, Opening, Side};
use crate::engine::rules::{Alike, Beside, Combining, Kind, Left, Opened, Shown, Site, Through, no_statements};
use crate::engine::trace::{Stop, Trace};
use crate::engine::ways::Way;
use crate::engine::{Declared, Estate};
use crate::engine::{Engine, LevelBand, Standing};
use crate::links::resolve::Ground;
use crate::links::{Party, Resolver, RoleId, SetId, SystemId, UserId};
pub use device::{Device, Origin};
use entry::open;
pub use reach::{Instances, Reach, elevations};
use resolve::DeviceLinks;
use zest_model::ask::{Answer, Change, Fact, Question, Refusal};
use zest_model::entry::{self as written, Channel, SystemKey};
use zest_model::finding::Finding;
use zest_model::listing::{Cause, SessionView};
use zest_model::source::At;
use zest_model::table::Kept;
use zest_model::text::OutsideTable;

/// The kind `network-device`.
#[derive(Debug)]
pub struct NetworkDevice;

impl Kind for NetworkDevice {
    fn tables(&self) -> &'static [OutsideTable] {
        &[]
    }

    fn words(&self) -> &'static [written::Kind] {
        &[written::Kind::NETWORK_DEVICE]
    }

    fn resolve(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, system: SystemId) -> Kept {
        Arc::new(resolve::device(resolver, ground, &ground.entries.systems[system.index()]))
    }

    fn amend(&self, _: &mut Resolver<'_>, _: Ground<'_>, _: SystemId, _: &Kept, _: &[Change]) -> Option<Kept> {
        None
    }

    fn complete(&self, _: &mut Resolver<'_>, _: Ground<'_>, _: &mut [Declared]) {}

    fn compile(&self, estate: &Estate, system: SystemId) -> Kept {
        let links = estate.systems[system.index()].links.downcast_ref::<DeviceLinks>().expect("`resolve` made it");
        Arc::new(Device::compile(estate, system, links.clone()))
    }

    fn hears(&self, fact: Fact) -> bool {
        match fact {
            Fact::At | Fact::Origin | Fact::Channel | Fact::Proofs | Fact::Acting | Fact::Expires | Fact::Central => true,
            Fact::Level | Fact::Mode | Fact::Account | Fact::Confirmed | Fact::ApprovedBy | Fact::ApproverProofs => true,
            Fact::Local | Fact::Roles | Fact::Attributes => false,
        }
    }

    fn looks_at(&self, key: SystemKey) -> bool {
        match key {
            SystemKey::Vocabulary | SystemKey::NoCommandSet | SystemKey::Authorisation | SystemKey::IdentitySources => true,
            SystemKey::NameCase | SystemKey::WhenCentralDown | SystemKey::PrivilegedAtSignIn | SystemKey::OwnLevels => true,
            SystemKey::Accounts => true,
            SystemKey::Database | SystemKey::Accepts => false,
        }
    }

    fn combining(&self) -> Combining {
        Combining::FirstApplicable
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

    fn tells_apart_by_name(&self, _: &str) -> bool {
        false
    }

    fn alike(&self, _: Site<'_>) -> Vec<Vec<Alike>> {
        Vec::new()
    }

    fn granted(&self, _: Site<'_>, _: &[Action]) -> Option<BTreeSet<Party>> {
        None
    }

    fn differs_for(&self, _: Site<'_>, _: Site<'_>) -> Option<BTreeSet<String>> {
        None
    }

    fn found_by(&self, side: &Side<'_>, _: &str) -> Vec<usize> {
        rights::sets(side).into_iter().map(SetId::index).collect()
    }

    fn login_of(&self, account: &str) -> String {
        account.to_owned()
    }

    fn leaves(&self, _: &str) -> Left {
        Left::Nothing
    }

    fn covers<'e>(&self, _: Site<'e>) -> &'e [(At<Channel>, Vec<At<Channel>>)] {
        &[]
    }

    fn open(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        open(site.engine, question, site.system, trace).map(drop)
    }

    fn decide(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        no_statements(site, question, trace)?;
        let standpoint = open(site.engine, question, site.system, trace)?;
        line::check(site.engine, question, &standpoint, trace)
    }

    fn decide_opened(&self, site: Site<'_>, opened: &Opened<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        no_statements(site, question, trace)?;
        opened::decide(site, opened, question, trace)
    }

    fn ways(&self, site: Site<'_>, answer: &Answer, refusal: Refusal) -> Vec<Way> {
        remedy::ways(site, answer, refusal)
    }

    fn openings(&self, site: Site<'_>, user: UserId) -> Vec<Opening> {
        rights::openings(site, user)
    }

    fn like(&self, sides: &[Side<'_>], pattern: &str) -> Result<Vec<Action>, String> {
        rights::like(sides, pattern)
    }

    fn actions(&self, sides: &[Side<'_>]) -> Vec<Action> {
        rights::actions(sides)
    }

    fn through(&self, _: Site<'_>, _: &str) -> Vec<Through> {
        Vec::new()
    }

    fn shown(&self, _: Site<'_>, _: &Question, _: &mut Trace) -> Result<Option<Shown>, Stop> {
        Ok(None)
    }

    fn beside_rights(&self, _: Site<'_>) -> Vec<Beside> {
        Vec::new()
    }

    fn collections(&self, _: Site<'_>) -> Vec<(String, Vec<String>)> {
        Vec::new()
    }

    fn concerns(&self, site: Site<'_>, user: UserId) -> bool {
        site.engine.candidates(user, site.system).next().is_some() || rights::accounts_of(site, user).next().is_some()
    }

    fn missing(&self, site: Site<'_>, user: UserId, at: Option<Timestamp>) -> Vec<Cause> {
        if self.concerns(site, user) { missing::of_account(site, user, at) } else { missing::nothing("nothing is granted", site) }
    }

    fn view(&self, site: Site<'_>, question: &Question, view: &mut SessionView) {
        if let Ok(at) = open(site.engine, question, site.system, &mut Trace::silent()) {
            view.roles = at.standing.roles.iter().map(|&r| site.engine.estate.role(r).id.value.clone()).collect();
        }
    }

    fn reaches(&self, engine: &Engine, user: UserId) -> bool {
        engine.states::<Device>().any(|(system, _)| rights::accounts_of(Site { engine, system }, user).next().is_some())
    }

    fn grants_to(&self, _: &Engine, _: RoleId) -> bool {
        false
    }

    fn sets(&self, engine: &Engine) -> Vec<SetId> {
        engine.states::<Device>().flat_map(|(_, d)| &*d.links.accounts).flat_map(|a| &a.sets).copied().collect()
    }

    fn review(&self, engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
        review::review(engine, at, findings);
    }
}

/// Returns the command sets and the ceiling of a session, and whether the device asks the sets at every level; no sets for a
/// local account without any.
pub fn standpoint(engine: &Engine, question: &Question) -> Option<(Option<Vec<SetId>>, u8, bool)> {
    let system = *engine.estate.names.systems.get(question.system.as_str())?;
    let at = open(engine, question, system, &mut Trace::silent()).ok()?;
    let has_sets = !at.standing.is_local || !at.standing.sets.is_empty();
    Some((has_sets.then(|| at.standing.sets.to_vec()), at.band.ceiling, at.standing.is_local))
}

/// The session as it stands once it is open.
pub(crate) struct Standpoint<'e> {
    pub(crate) system: SystemId,
    pub(crate) device: &'e Device,
    pub(crate) user: UserId,
    pub(crate) standing: &'e Standing,
    /// Where the standing comes from; none for a local account without command sets.
    pub(crate) from: Option<Origin>,
    pub(crate) band: LevelBand,
    pub(crate) level: u8,
}

impl Standpoint<'_> {
    pub(crate) const fn site<'e>(&self, engine: &'e Engine) -> Site<'e> {
        Site { engine, system: self.system }
    }
}

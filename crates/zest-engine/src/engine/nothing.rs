//! The rules of a system whose kind nobody knows: nothing is decided there.

use std::collections::BTreeSet;
use std::sync::Arc;

use jiff::Timestamp;

use super::missing;
use super::rights::{Action, Opening, Side};
use super::rules::{Alike, Beside, Combining, Kind, Left, Opened, Shown, Site, Through};
use super::trace::{Stop, Trace};
use super::ways::Way;
use crate::engine::Engine;
use crate::engine::{Declared, Estate};
use crate::links::{Ground, Party, Resolver, RoleId, SetId, SystemId, UserId};
use zest_model::ask::{Answer, Change, Fact, Question, Refusal, Stage};
use zest_model::entry::Channel;
use zest_model::finding::{Code, Finding};
use zest_model::listing::{Cause, SessionView};
use zest_model::source::{At, visible};
use zest_model::table::Kept;
use zest_model::text::OutsideTable;

/// No kind.
#[derive(Debug)]
pub(super) struct Nothing;

fn refuse(site: Site<'_>, trace: &mut Trace) -> Result<(), Stop> {
    let kind = site.entry().kind().word();
    trace.refuse(Stage::Entry, Refusal::NotDecided, || {
        (format!("nobody knows the rules of the kind `{}`", visible(kind)), Some(site.entry().id.place))
    })?;
    Err(Stop)
}

impl Kind for Nothing {
    fn tables(&self) -> &'static [OutsideTable] {
        &[]
    }

    fn words(&self) -> &'static [zest_model::entry::Kind] {
        &[]
    }

    fn resolve(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, system: SystemId) -> Kept {
        let entry = ground.system(system);
        resolver.report(
            Finding::new(Code::UnknownWord, format!("`{}` is no kind of system that is known", visible(entry.kind().word())))
                .at(entry.kind.as_ref().map_or(entry.id.place, |kind| kind.place), "nobody knows its rules")
                .help("register the kind with the ledger, or write one that is known"),
        );
        Arc::new(())
    }

    fn amend(&self, _: &mut Resolver<'_>, _: Ground<'_>, _: SystemId, _: &Kept, _: &[Change]) -> Option<Kept> {
        None
    }

    fn complete(&self, _: &mut Resolver<'_>, _: Ground<'_>, _: &mut [Declared]) {}

    fn compile(&self, _: &Estate, _: SystemId) -> Kept {
        Arc::new(())
    }

    fn hears(&self, _: Fact) -> bool {
        false
    }

    fn looks_at(&self, _: zest_model::entry::SystemKey) -> bool {
        // That there is no such kind is said already.
        true
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

    fn found_by(&self, _: &Side<'_>, _: &str) -> Vec<usize> {
        Vec::new()
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

    fn open(&self, site: Site<'_>, _: &Question, trace: &mut Trace) -> Result<(), Stop> {
        refuse(site, trace)
    }

    fn decide(&self, site: Site<'_>, _: &Question, trace: &mut Trace) -> Result<(), Stop> {
        refuse(site, trace)
    }

    fn decide_opened(&self, site: Site<'_>, _: &Opened<'_>, _: &Question, trace: &mut Trace) -> Result<(), Stop> {
        refuse(site, trace)
    }

    fn ways(&self, _: Site<'_>, _: &Answer, _: Refusal) -> Vec<Way> {
        Vec::new()
    }

    fn openings(&self, _: Site<'_>, _: UserId) -> Vec<Opening> {
        Vec::new()
    }

    fn actions(&self, _: &[Side<'_>]) -> Vec<Action> {
        Vec::new()
    }

    fn like(&self, _: &[Side<'_>], _: &str) -> Result<Vec<Action>, String> {
        Ok(Vec::new())
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

    fn concerns(&self, _: Site<'_>, _: UserId) -> bool {
        false
    }

    fn missing(&self, site: Site<'_>, _: UserId, _: Option<Timestamp>) -> Vec<Cause> {
        missing::nothing("nothing is known", site)
    }

    fn view(&self, _: Site<'_>, _: &Question, _: &mut SessionView) {}

    fn reaches(&self, _: &Engine, _: UserId) -> bool {
        false
    }

    fn grants_to(&self, _: &Engine, _: RoleId) -> bool {
        false
    }

    fn sets(&self, _: &Engine) -> Vec<SetId> {
        Vec::new()
    }

    fn review(&self, _: &Engine, _: Option<Timestamp>, _: &mut Vec<Finding>) {}
}

//! A network device, compiled: what a decision reads of it.

use std::sync::Arc;

use smallvec::SmallVec;

use super::Reach;
use super::resolve::DeviceLinks;
use crate::engine::Estate;
use crate::engine::{Engine, LevelBand, Standing};
use crate::links::{CommandId, ModeId, SystemId};
use crate::vocabulary::Vocabulary;
use zest_model::ask::Central;
use zest_model::entry::{AuthorisedLevels, IdentitySource, Mode, Unrestricted, WhenCentralDown};
use zest_model::source::Place;

/// The switches of a device, and what its accounts give.
#[derive(Debug)]
pub struct Device {
    pub(crate) system: SystemId,
    /// Its references, followed.
    pub links: DeviceLinks,
    /// What holds where no command set is attached.
    pub(crate) without_set: Unrestricted,
    /// A bit for each level whose commands are authorised centrally.
    pub(crate) authorised_levels: u16,
    pub(crate) authorises_configuration: bool,
    /// A bit for each mode in which the configuration is changed.
    pub(crate) configuration_modes: u64,
    pub(crate) sources: SmallVec<[IdentitySource; 4]>,
    pub(crate) ignores_case: bool,
    pub(crate) nothing_when_down: bool,
    /// For each local account what it gives, if it has command sets of its own.
    pub(crate) account_standings: Vec<Option<Standing>>,
}

/// Where what a session holds comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Origin {
    /// An assignment that gives the standing of this number.
    Assignment(usize),
    /// The local account of this number.
    Account(usize),
}

impl Device {
    /// Returns a system, if it is a network device.
    pub fn of(engine: &Engine, system: SystemId) -> Option<&Self> {
        engine.state(system)
    }

    /// Returns whether two logins are one here.
    pub(super) fn is_same_name(&self, one: &str, other: &str) -> bool {
        one == other || self.ignores_case && zest_words::same_but_for_case(one, other)
    }

    pub(super) fn compile(estate: &Estate, id: SystemId, links: DeviceLinks) -> Self {
        let system = estate.system(id);
        let modes: &[Mode] = estate.entries.vocabularies.get(links.vocabulary.index()).map_or(&[], |v| &v.modes);
        let rule = system.authorisation.as_ref().map(|a| &a.value);
        let of_account = |(account, links): (&zest_model::entry::Account, &super::resolve::AccountLinks)| {
            let band = account.band.as_ref().filter(|_| !links.sets.is_empty()).map(LevelBand::read)?;
            Some(Standing { band: Some(band), sets: links.sets.iter().copied().collect(), roles: Vec::new(), is_local: true })
        };
        Self {
            system: id,
            without_set: system.without_set(),
            authorised_levels: match rule.map(|r| &r.levels) {
                Some(AuthorisedLevels::All) => u16::MAX,
                Some(AuthorisedLevels::Listed(levels)) => levels.iter().filter(|l| **l <= 15).fold(0, |bits, l| bits | 1 << l),
                None => 0,
            },
            authorises_configuration: rule.is_some_and(|r| r.configuration),
            configuration_modes: modes.iter().take(64).enumerate().filter(|(_, m)| m.configuration).fold(0, |bits, (i, _)| bits | 1 << i),
            sources: system.sources().iter().copied().collect(),
            ignores_case: system.ignores_case(),
            nothing_when_down: system.when_central_down.as_ref().is_some_and(|w| w.value == WhenCentralDown::Nothing),
            account_standings: system.accounts.iter().zip(&*links.accounts).map(of_account).collect(),
            links,
        }
    }

    /// Returns whether commands are authorised centrally at a level, in a mode.
    pub fn authorises(&self, level: u8, mode: ModeId) -> bool {
        if self.is_configuration(mode) { self.authorises_configuration } else { self.authorised_levels >> level.min(15) & 1 == 1 }
    }

    pub(crate) fn is_configuration(&self, mode: ModeId) -> bool {
        self.configuration_modes.checked_shr(mode.index() as u32).unwrap_or(0) & 1 == 1
    }

    /// Returns the vocabulary that the device speaks.
    pub fn vocabulary<'e>(&self, engine: &'e Engine) -> &'e Vocabulary {
        &engine.vocabularies[self.links.vocabulary.index()]
    }

    /// Returns the device's own level for a command and the place that states it.
    pub fn own_level(&self, command: CommandId) -> (u8, Option<Place>) {
        self.links.levels[command.index()]
    }

    /// Returns what a session has whose rights come from somewhere; nothing for an account without command sets.
    pub(crate) fn standing<'e>(&'e self, engine: &'e Engine, from: Origin) -> Option<&'e Standing> {
        match from {
            Origin::Assignment(number) => engine.standings.get(number),
            Origin::Account(index) => self.account_standings.get(index)?.as_ref(),
        }
    }

    /// Returns which levels and modes a session can come to.
    pub(crate) fn reach(&self, engine: &Engine, from: Origin) -> Arc<Reach> {
        let number = match from {
            Origin::Assignment(number) => 2 * number,
            Origin::Account(index) => 2 * index + 1,
        };
        let of = |standing| Reach::of(engine, standing, self);
        engine.cache.get(self.system, number, || self.standing(engine, from).map_or_else(Reach::default, of))
    }

    /// Returns which levels and modes a session of a local account without command sets can come to.
    pub(crate) fn reach_of_account(&self, engine: &Engine, band: LevelBand, central: Central) -> Arc<Reach> {
        // Behind the numbers of assignments and accounts: where it can come to hangs on nothing else than this.
        let of_band = (usize::from(band.start) * 256 + usize::from(band.ceiling)) * 2 + usize::from(central == Central::Down);
        engine.cache.get(self.system, usize::MAX - of_band, || Reach::of_account(engine, band, self, central))
    }
}

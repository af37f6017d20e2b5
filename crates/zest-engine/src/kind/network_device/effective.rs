//! What a user may do on a device, through what.

use std::collections::VecDeque;

use super::{Device, Instances, Origin, Reach};
use crate::engine::entry;
use crate::engine::entry::through;
use crate::engine::rules::Site;
use crate::engine::{Engine, LevelBand, Standing};
use crate::links::{AssignmentId, CommandId, Outcome, SystemId, UserId};
use zest_command::line;
use zest_model::ask::Session;
use zest_model::entry::IdentitySource;
use zest_model::listing::{CommandRight, Effective, Entitlement, Extent, OnAccount};
use zest_model::source::Location;

/// What an assignment gives on a device: devices that are set up alike share the work.
pub(super) type Known = (AssignmentId, SystemId, Entitlement);

/// Returns what a user may do on a device; `known` is what was found on the devices before.
pub(super) fn effective(site: Site<'_>, user: UserId, session: &Session, known: &mut VecDeque<Known>) -> Effective {
    let Site { engine, system } = site;
    let estate = &engine.estate;
    let written = estate.system(system);
    let Some(device) = Device::of(engine, system) else { return Effective::nothing(&written.id.value) };
    let sources = &device.sources;
    let mut entitlements = Vec::new();
    let refused =
        entry::refusal_to_sign_in(engine, user, system, session).map(|(text, place)| (text, place.map(|p| estate.sources.locate(p))));
    if refused.is_none() && sources.contains(&IdentitySource::Central) {
        for id in engine.candidates(user, system).map(|c| c.assignment) {
            let conditions = &estate.assignments[id.index()].conditions;
            if conditions.outcome(engine.facts(session, user, system)) == Outcome::Fails {
                continue;
            }
            // Devices that are set up alike share the work.
            let twin = known.iter().find(|(a, s, _)| *a == id && is_alike(engine, *s, device)).map(|(_, _, e)| e.clone());
            let entitlement = twin.unwrap_or_else(|| entitlement(site, device, user, id, session));
            known.push_front((id, system, entitlement.clone()));
            known.truncate(64);
            let decides = entitlement.conditions.is_empty();
            entitlements.push(entitlement);
            if decides {
                break;
            }
        }
    }
    let links = &device.links.accounts;
    let mine = |login: &str, i: usize| {
        login == estate.user(user).id.value || links[i].used_by.iter().any(|&(party, _)| engine.membership.belongs(user, party))
    };
    let accounts = written
        .accounts
        .iter()
        .enumerate()
        .filter(|(i, a)| sources.contains(&IdentitySource::Local) && mine(&a.login.value, *i))
        .filter_map(|(i, account)| {
            let band = account.band.as_ref()?;
            let own = Origin::Account(i);
            Some(OnAccount {
                login: account.login.value.clone(),
                start: band.start.value,
                ceiling: band.ceiling.value,
                location: estate.sources.locate(account.login.place),
                commands: device.standing(engine, own).map(|standing| commands(site, device, standing, &device.reach(engine, own))),
                more: zest_model::More,
            })
        })
        .collect();
    Effective { entitlements, accounts, refused, ..Effective::nothing(&written.id.value) }
}

/// Returns whether the same rights give the same commands on another device.
fn is_alike(engine: &Engine, one: SystemId, b: &Device) -> bool {
    let Some(a) = Device::of(engine, one) else { return false };
    a.links.vocabulary == b.links.vocabulary
        && a.without_set == b.without_set
        && a.authorised_levels == b.authorised_levels
        && a.authorises_configuration == b.authorises_configuration
        && a.links.levels.iter().map(|l| l.0).eq(b.links.levels.iter().map(|l| l.0))
}

fn entitlement(site: Site<'_>, device: &Device, user: UserId, id: AssignmentId, session: &Session) -> Entitlement {
    let Site { engine, system } = site;
    let estate = &engine.estate;
    let links = &estate.assignments[id.index()];
    let (number, standing) = engine.standing(id);
    let conditions = links.conditions.open_words(&engine.facts(session, user, system));
    let reach = device.reach(engine, Origin::Assignment(number));
    Entitlement {
        through: through(engine, user, id),
        location: estate.sources.locate(links.entry.place),
        conditions,
        band: standing.band.map(|LevelBand { start, ceiling, .. }| (start, ceiling)),
        levels: reach.levels(),
        commands: commands(site, device, standing, &reach),
        more: zest_model::More,
    }
}

/// Returns the commands that can be run at some level that can be reached.
fn commands(site: Site<'_>, device: &Device, standing: &Standing, reach: &Reach) -> Vec<CommandRight> {
    let engine = site.engine;
    let vocabulary = device.vocabulary(engine);
    let links = &engine.estate.vocabularies[device.links.vocabulary.index()];
    let mut rights = Vec::new();
    let ceiling = standing.band.map_or(0, |band| band.ceiling);
    for (index, command) in vocabulary.commands.iter().enumerate().filter(|(_, c)| vocabulary.keeps_ceiling(c, ceiling)) {
        let id = CommandId::new(index);
        let (own, _) = device.own_level(id);
        let found = Instances::of(engine, &standing.sets, device, &command.pattern);
        // Where the device does not ask the sets, the level alone decides.
        let mut runs: Vec<(String, u8, bool)> = Vec::new();
        for &mode in &command.modes {
            let levels = reach.levels_in(mode).into_iter().filter(|&l| l >= own);
            let mut usable =
                levels.map(|l| (l, !standing.is_local && !device.authorises(l, mode))).filter(|&(_, free)| free || found.allowed.is_some());
            if let Some((level, free)) = usable.next() {
                runs.push((vocabulary.modes[mode.index()].clone(), level, free));
            }
        }
        let Some(level) = runs.iter().map(|&(_, l, _)| l).min() else { continue };
        let is_free = runs.iter().all(|&(.., free)| free);
        let (ground, location) = ground(site, &found, is_free);
        let refused = found.refused.filter(|_| !is_free);
        let example = refused.map(|(symbols, _)| line::join(symbols.iter().map(|s| engine.alphabet.example(*s))));
        let example = example.or_else(|| vocabulary.first_above(command, ceiling));
        rights.push(CommandRight {
            line: links.commands[index].line.clone(),
            modes: runs.into_iter().map(|(m, ..)| m).collect(),
            level,
            extent: example.map_or(Extent::Every, Extent::Except),
            ground,
            location,
            more: zest_model::More,
        });
    }
    rights
}

fn ground(site: Site<'_>, found: &Instances, is_free: bool) -> (String, Option<Location>) {
    let estate = &site.engine.estate;
    let written = site.entry();
    if is_free {
        let place = written.authorisation.as_ref().map_or(written.id.place, |a| a.place);
        return ("not authorised centrally".to_owned(), Some(estate.sources.locate(place)));
    }
    let rule = found.allowed.as_ref().and_then(|(_, says)| says.rule()).map(|r| &estate.sets[r.set.index()].rules[r.index as usize]);
    match rule {
        Some(rule) => (format!("{} {}", rule.verb.word(), rule.text.value), Some(estate.sources.locate(rule.text.place))),
        None => {
            let place = written.no_command_set.as_ref().map(|n| n.place);
            ("permitted without a rule".to_owned(), place.map(|p| estate.sources.locate(p)))
        }
    }
}

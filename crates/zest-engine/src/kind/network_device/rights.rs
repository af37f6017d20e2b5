//! The sessions and the lines that a device tells apart.

use std::collections::BTreeSet;
use std::ops::ControlFlow;
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::entry::{Meant, find_account, may_use};
use super::reach::elevating;
use super::{Device, Origin, Reach};
use crate::engine::Engine;
use crate::engine::rights::{Action, Opening, Side};
use crate::engine::rules::Site;
use crate::links::{CommandId, ModeId, SetId, UserId};
use zest_command::Pattern;
use zest_command::alphabet::{Alphabet, AlphabetBuilder};
use zest_command::automaton::{Automaton, Explored, explore, is_dead};
use zest_command::line;
use zest_model::ask::{Central, Form, Session};
use zest_model::entry::{Does, IdentitySource};

/// Returns how sessions on a device start: on which account, at which level and in which mode, with the central source up or down.
pub(super) fn openings(site: Site<'_>, user: UserId) -> Vec<Opening> {
    let Site { engine, system } = site;
    let Some(device) = Device::of(engine, system) else { return Vec::new() };
    let vocabulary = device.vocabulary(engine);
    let has_local = device.sources.contains(&IdentitySource::Local);
    let accounts = &engine.estate.system(system).accounts;
    let mine: Vec<usize> = accounts_of(site, user).collect();
    let mut places: BTreeSet<(usize, u8)> = BTreeSet::new();
    let mut reached = |reach: &Reach| {
        for mode in (0..vocabulary.modes.len()).map(ModeId::new) {
            places.extend(reach.levels_in(mode).into_iter().map(|level| (mode.index(), level)));
        }
    };
    // Many assignments give the same.
    let standings: BTreeSet<usize> = engine.candidates(user, system).map(|candidate| engine.standing(candidate.assignment).0).collect();
    for &standing in &standings {
        reached(&device.reach(engine, Origin::Assignment(standing)));
    }
    for &account in &mine {
        match accounts[account].band.as_ref().map(crate::engine::LevelBand::read) {
            Some(_) if device.standing(engine, Origin::Account(account)).is_some() => {
                reached(&device.reach(engine, Origin::Account(account)))
            }
            Some(band) => {
                [Central::Up, Central::Down].iter().for_each(|central| reached(&Reach::of_account(engine, band, device, *central)))
            }
            None => {}
        }
    }
    let mut list = Vec::new();
    // Where the central source is asked neither at sign-in nor for commands that wait for it, it makes no difference whether it is up.
    let asks_central = device.sources.contains(&IdentitySource::Central);
    let hears_central = asks_central || device.nothing_when_down;
    let centrals: &[Central] = if has_local && hears_central { &[Central::Up, Central::Down] } else { &[Central::Up] };
    let meant = match find_account(engine, &Session::default(), (system, device), user) {
        Meant::One(account) => Some(account),
        Meant::Several | Meant::Nobodys => None,
    };
    for &central in centrals {
        // Which account is meant where none is stated, and the local source is the first that answers; where the central one is, a user's
        // own name may be stated as well.
        let is_local = has_local && (central == Central::Down || device.sources.first() == Some(&IdentitySource::Local) || !asks_central);
        let own = &engine.estate.user(user).id.value;
        let same = meant.filter(|_| is_local).map(|i| &accounts[i].login.value).or(if is_local { None } else { Some(own) });
        let others = mine.iter().map(|&i| &accounts[i].login.value).filter(|login| Some(*login) != same);
        for account in std::iter::once(None).chain(others.map(Some)) {
            let mut seen: BTreeSet<Option<String>> = BTreeSet::new();
            let stated = std::iter::once((None, None)).chain(places.iter().flat_map(|&(mode, level)| {
                // At which level a mode is entered without one being stated depends on the band.
                let is_start = mode == vocabulary.start_mode.index();
                let mode = (!is_start).then(|| vocabulary.modes[mode].clone());
                let without = (mode.is_some() && seen.insert(mode.clone())).then(|| (None, mode.clone()));
                without.into_iter().chain([(Some(level), mode)])
            }));
            list.extend(stated.map(|(level, mode)| {
                let session = Session { central, account: account.cloned(), level, mode, ..Session::default() };
                let start = Session { mode: Some(vocabulary.modes[vocabulary.start_mode.index()].clone()), ..session.clone() };
                let mut also = if session.mode.is_none() { vec![start] } else { Vec::new() };
                if let Some(same) = same.filter(|_| account.is_none()) {
                    let named: Vec<Session> =
                        also.iter().chain([&session]).map(|s| Session { account: Some(same.clone()), ..s.clone() }).collect();
                    also.extend(named);
                }
                if !hears_central {
                    let down: Vec<Session> =
                        also.iter().chain([&session]).map(|s| Session { central: Central::Down, ..s.clone() }).collect();
                    also.extend(down);
                }
                Opening { also, ..Opening::new(session) }
            }));
        }
    }
    list
}

/// Returns the local accounts that a user may use: the one of the own name, and those that are lent.
pub(super) fn accounts_of(site: Site<'_>, user: UserId) -> impl Iterator<Item = usize> {
    let Site { engine, system } = site;
    let device = Device::of(engine, system).filter(|device| device.sources.contains(&IdentitySource::Local));
    device
        .into_iter()
        .flat_map(move |device| (0..device.links.accounts.len()).filter(move |&account| may_use(engine, (system, device), user, account)))
}

/// The command sets that may have a say about a user on a device.
pub(super) fn sets(side: &Side<'_>) -> Vec<SetId> {
    let Site { engine, system } = side.site;
    let mut sets: Vec<SetId> = engine.candidates(side.user, system).flat_map(|c| engine.standing(c.assignment).1.sets.clone()).collect();
    if let Some(device) = Device::of(engine, system) {
        sets.extend(device.account_standings.iter().flatten().flat_map(|standing| standing.sets.iter().copied()));
    }
    sets.sort_unstable();
    sets.dedup();
    sets
}

/// What several sides have in common: one alphabet for the words of all, and the automata of all their command sets over it.
struct Together {
    alphabet: Arc<Alphabet>,
    sets: Vec<Automaton>,
}

impl Together {
    /// `sought` is a pattern whose words are to be told apart as well.
    fn of(sides: &[Side<'_>], sought: Option<&Pattern>) -> Option<Self> {
        let mut rules: Vec<Vec<&Pattern>> = Vec::new();
        for side in sides {
            let estate = &side.site.engine.estate;
            for set in sets(side) {
                let patterns: Vec<&Pattern> = estate.sets[set.index()].rules.iter().map(|rule| &*rule.pattern).collect();
                if !rules.contains(&patterns) {
                    rules.push(patterns);
                }
            }
        }
        let first = sides.first()?.site.engine;
        let is_one = sides.iter().all(|side| Arc::ptr_eq(&side.site.engine.alphabet, &first.alphabet));
        let alphabet = if is_one && sought.is_none_or(|sought| first.alphabet.knows(sought)) {
            Arc::clone(&first.alphabet)
        } else {
            let mut all = AlphabetBuilder::default();
            sought.into_iter().for_each(|pattern| all.add(pattern));
            rules.iter().flatten().for_each(|pattern| all.add(pattern));
            commands(sides).into_iter().for_each(|(engine, device, id)| all.add(&device.vocabulary(engine).command(id).pattern));
            Arc::new(all.build().ok()?)
        };
        let sets = rules.iter().map(|rules| Automaton::build(&alphabet, rules)).collect::<Result<_, _>>().ok()?;
        Some(Self { alphabet, sets })
    }
}

/// The commands of all sides.
fn commands<'e>(sides: &[Side<'e>]) -> Vec<(&'e Engine, &'e Device, CommandId)> {
    let mut list: Vec<(&Engine, &Device, CommandId)> = Vec::new();
    let mut known: FxHashMap<String, usize> = FxHashMap::default();
    for side in sides {
        let Site { engine, system } = side.site;
        let Some(device) = Device::of(engine, system) else { continue };
        let links = &engine.estate.vocabularies[device.links.vocabulary.index()];
        for (index, command) in links.commands.iter().enumerate() {
            known.entry(command.line.clone()).or_insert_with(|| {
                list.push((engine, device, CommandId::new(index)));
                list.len()
            });
        }
    }
    list
}

/// Returns a line for every way in which the rules of the command sets can take lines of each command; each level that an elevation
/// can ask for is a line of its own.
pub(super) fn actions(sides: &[Side<'_>]) -> Vec<Action> {
    lines(sides, None).unwrap_or_default()
}

/// Returns the same of the lines that a pattern takes, written as the rules of command sets are.
pub(super) fn like(sides: &[Side<'_>], pattern: &str) -> Result<Vec<Action>, String> {
    let pattern = if pattern == "*" { "..." } else { pattern };
    let sought = Pattern::parse(pattern).map_err(|error| error.to_string())?;
    lines(sides, Some(&sought)).ok_or_else(|| "there are too many lines to look at".to_owned())
}

fn lines(sides: &[Side<'_>], sought: Option<&Pattern>) -> Option<Vec<Action>> {
    let together = Together::of(sides, sought)?;
    let sought_lines = match sought {
        None => None,
        Some(sought) => Some(Automaton::build(&together.alphabet, &[sought]).ok()?),
    };
    let mut list = Vec::new();
    for (engine, device, id) in commands(sides) {
        let command = device.vocabulary(engine).command(id);
        let name = &engine.estate.vocabularies[device.links.vocabulary.index()].commands[id.index()].line;
        let mut add = |line: String| {
            let action = Action { line, form: Form::Line, name: name.clone(), under: String::new(), like: None };
            if !list.contains(&action) {
                list.push(action);
            }
        };
        if command.does == Some(Does::Elevate) && command.level_word.is_some() {
            let lines = elevating(device.vocabulary(engine), id, 15);
            let words = lines.iter().map(|(_, words)| words.iter().map(String::as_str).collect::<Vec<_>>());
            words.filter(|words| sought.is_none_or(|sought| sought.matches(words))).for_each(|words| add(line::join(words)));
            continue;
        }
        let Ok(own) = Automaton::build(&together.alphabet, &[&command.pattern]) else { continue };
        let automata: Vec<&Automaton> = std::iter::once(&own).chain(&sought_lines).chain(&together.sets).collect();
        let first_set = 1 + usize::from(sought.is_some());
        let mut seen: BTreeSet<Vec<Option<u32>>> = BTreeSet::new();
        let explored = explore(
            &together.alphabet,
            &automata,
            |states| states[..first_set].iter().all(|state| !is_dead(*state)),
            |states, line| {
                if automata[..first_set].iter().zip(states).all(|(automaton, state)| automaton.accepted(*state).is_some()) {
                    let rules = automata[first_set..]
                        .iter()
                        .zip(&states[first_set..])
                        .map(|(automaton, state)| automaton.accepted(*state))
                        .collect();
                    if seen.insert(rules) {
                        add(line::join(line.map(|symbol| together.alphabet.example(symbol))));
                    }
                }
                ControlFlow::Continue(())
            },
        );
        if explored == Explored::GaveUp && sought.is_some() {
            return None;
        }
    }
    Some(list)
}

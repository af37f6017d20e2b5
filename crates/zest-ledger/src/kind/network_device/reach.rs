//! Which levels and modes a session can come to, by the elevations and mode changes that are permitted.

use std::ops::ControlFlow;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::ask::Central;
use crate::command::Pattern;
use crate::command::WordPattern;
use crate::command::alphabet::{Symbol, symbols};
use crate::command::automaton::{Automaton, explore, is_dead};
use crate::engine::{Engine, LevelBand, SetVerdict, Standing};
use crate::entry::Does;
use crate::estate::{CommandId, ModeId, SetId, SystemId};

/// The modes and levels that a session can come to.
#[derive(Debug, Default)]
pub(crate) struct Reach {
    found: FxHashSet<(ModeId, u8)>,
}

/// What decides about commands in the session whose reach is looked for.
#[derive(Clone, Copy)]
enum Lock<'s> {
    Sets(&'s Standing),
    OwnLevels,
    Nothing,
}

impl Reach {
    /// Returns the reach of a session by assignment.
    pub(crate) fn of(engine: &Engine, standing: &Standing, system: SystemId) -> Self {
        standing.band.map_or_else(Self::default, |band| Self::walk(engine, Lock::Sets(standing), band, system))
    }

    /// Returns the reach of a session of a local account.
    pub(crate) fn of_account(engine: &Engine, band: LevelBand, system: SystemId, central: Central) -> Self {
        let refuses = central == Central::Down && engine.devices[system.index()].nothing_when_down;
        Self::walk(engine, if refuses { Lock::Nothing } else { Lock::OwnLevels }, band, system)
    }

    pub(crate) fn has(&self, mode: ModeId, level: u8) -> bool {
        self.found.contains(&(mode, level))
    }

    pub(crate) fn has_level(&self, level: u8) -> bool {
        self.found.iter().any(|&(_, l)| l == level)
    }

    /// Returns the levels, ascending.
    pub(crate) fn levels(&self) -> Vec<u8> {
        (0..=15).filter(|&l| self.has_level(l)).collect()
    }

    /// Returns the levels that can be reached in a mode, ascending.
    pub(crate) fn levels_in(&self, mode: ModeId) -> Vec<u8> {
        (0..=15).filter(|&l| self.has(mode, l)).collect()
    }

    fn walk(engine: &Engine, lock: Lock<'_>, band: LevelBand, system: SystemId) -> Self {
        let vocabulary = engine.vocabulary_of(system);
        let device = &engine.devices[system.index()];
        let mut reach = Self::default();
        let mut enters: FxHashMap<CommandId, bool> = FxHashMap::default();
        let mut queue = vec![(vocabulary.start_mode, band.start)];
        while let Some((mode, level)) = queue.pop() {
            if !reach.found.insert((mode, level)) {
                continue;
            }
            let is_free = |lock| !device.authorises(level, mode) || matches!(lock, Lock::OwnLevels);
            for (id, command) in vocabulary.in_mode(mode).filter(|&(id, _)| engine.own_level(system, id).0 <= level) {
                if command.does == Some(Does::Elevate) {
                    for (to, line) in elevations(engine, system, id, band.ceiling) {
                        let permitted = match lock {
                            _ if is_free(lock) => true,
                            Lock::Sets(standing) => engine.sets_say(&standing.sets, device, &line).is_allowed(),
                            _ => false,
                        };
                        if to <= band.ceiling && permitted {
                            queue.push((mode, to));
                        }
                    }
                }
                if let Some(into) = command.enters {
                    let permitted = match lock {
                        _ if is_free(lock) => true,
                        Lock::Sets(standing) => *enters
                            .entry(id)
                            .or_insert_with(|| Instances::of(engine, &standing.sets, system, &command.pattern).allowed.is_some()),
                        _ => false,
                    };
                    if permitted {
                        queue.push((into, level));
                    }
                }
            }
        }
        reach
    }
}

/// Returns the levels an elevation command can ask for, each with the line that does.
pub(crate) fn elevations(engine: &Engine, system: SystemId, id: CommandId, ceiling: u8) -> Vec<(u8, Vec<Symbol>)> {
    let vocabulary = engine.vocabulary_of(system);
    let command = vocabulary.command(id);
    let fixed = |level: &str| -> Option<Vec<String>> {
        command
            .pattern
            .words()
            .iter()
            .map(|word| match word {
                WordPattern::Fixed(words) => words.first().cloned(),
                WordPattern::Slot(slot) => slot.matches(level).then(|| level.to_owned()),
            })
            .collect()
    };
    let line = |words: Vec<String>| symbols(&engine.alphabet, words.iter().map(String::as_str));
    if command.level_word.is_some() {
        (0..=15).filter_map(|level: u8| Some((level, line(fixed(&level.to_string())?)))).collect()
    } else {
        let level = vocabulary.bare_level(ceiling);
        level.into_iter().filter_map(|level| Some((level, line(fixed("")?)))).collect()
    }
}

/// What the command sets say about all lines of a pattern at once.
#[derive(Debug, Default)]
pub(crate) struct Instances {
    /// The shortest line that is permitted, and what permits it.
    pub(crate) allowed: Option<(Vec<Symbol>, SetVerdict)>,
    /// The shortest line that is not.
    pub(crate) refused: Option<(Vec<Symbol>, SetVerdict)>,
}

impl Instances {
    pub(crate) fn of(engine: &Engine, sets: &[SetId], system: SystemId, pattern: &Pattern) -> Self {
        let mut found = Self::default();
        let Ok(own) = Automaton::build(&engine.alphabet, &[pattern]) else { return found };
        let mut automata = vec![&own];
        automata.extend(sets.iter().map(|s| &engine.sets[s.index()].automaton));
        let device = &engine.devices[system.index()];
        explore(
            &engine.alphabet,
            &automata,
            |states| !is_dead(states[0]),
            |states, line| {
                if own.accepted(states[0]).is_some() {
                    let mut nth = sets.iter().zip(&states[1..]);
                    let says = engine.combine(sets, device, |set| {
                        let (_, &state) = nth.find(|(s, _)| **s == set)?;
                        engine.sets[set.index()].automaton.accepted(state)
                    });
                    let slot = if says.is_allowed() { &mut found.allowed } else { &mut found.refused };
                    if slot.is_none() {
                        *slot = Some((line.collect(), says));
                    }
                }
                if found.allowed.is_some() && found.refused.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
            },
        );
        found
    }
}

//! Which levels and modes a session can come to, by the elevations and mode changes that are permitted.

use std::collections::VecDeque;
use std::ops::ControlFlow;

use rustc_hash::{FxHashMap, FxHashSet};

use super::Device;
use crate::engine::{Engine, LevelBand, SetVerdict, Standing};
use crate::links::{CommandId, ModeId, SetId};
use crate::vocabulary::Vocabulary;
use zest_command::Pattern;
use zest_command::WordPattern;
use zest_command::alphabet::{Symbol, symbols};
use zest_command::automaton::{Automaton, explore, is_dead};
use zest_model::ask::Central;
use zest_model::entry::Does;

/// The modes and levels that a session can come to.
#[derive(Debug, Default)]
pub struct Reach {
    found: FxHashSet<(ModeId, u8)>,
    /// What must be done on the way, for those that cannot be come to without.
    owed: FxHashMap<(ModeId, u8), Vec<Owed>>,
}

/// An obligation of a line by which a session comes to a level or mode.
#[derive(Clone, Debug)]
pub(crate) struct Owed {
    pub(crate) set: SetId,
    /// The rule that permits the line.
    pub(crate) rule: u32,
    /// The line.
    pub(crate) line: String,
}

/// What decides about commands in the session whose reach is looked for.
#[derive(Clone, Copy)]
enum Lock<'s> {
    Sets(&'s Standing),
    /// Command sets of a local account, which the device asks at every level.
    OwnSets(&'s Standing),
    OwnLevels,
    Nothing,
}

impl Reach {
    /// Returns the reach of a session by assignment.
    pub(crate) fn of(engine: &Engine, standing: &Standing, device: &Device) -> Self {
        let lock = if standing.is_local { Lock::OwnSets(standing) } else { Lock::Sets(standing) };
        standing.band.map_or_else(Self::default, |band| Self::walk(engine, lock, band, device))
    }

    /// Returns the reach of a session of a local account.
    pub(crate) fn of_account(engine: &Engine, band: LevelBand, device: &Device, central: Central) -> Self {
        let refuses = central == Central::Down && device.nothing_when_down;
        Self::walk(engine, if refuses { Lock::Nothing } else { Lock::OwnLevels }, band, device)
    }

    /// Returns what must be done to come to a mode and level.
    pub(crate) fn owed(&self, mode: ModeId, level: u8) -> &[Owed] {
        self.owed.get(&(mode, level)).map_or(&[], Vec::as_slice)
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

    fn walk(engine: &Engine, lock: Lock<'_>, band: LevelBand, device: &Device) -> Self {
        let vocabulary = device.vocabulary(engine);
        let mut reach = Self::default();
        let mut enters: FxHashMap<CommandId, Option<Vec<Symbol>>> = FxHashMap::default();
        // Ways on which nothing must be done come first, so that what is owed is owed on every way.
        let mut free = vec![(vocabulary.start_mode, band.start)];
        let mut bound: VecDeque<((ModeId, u8), Vec<Owed>)> = VecDeque::new();
        loop {
            let ((mode, level), owed) = match free.pop() {
                Some(state) => (state, Vec::new()),
                None => match bound.pop_front() {
                    Some(next) => next,
                    None => break,
                },
            };
            if !reach.found.insert((mode, level)) {
                continue;
            }
            let is_free = match lock {
                Lock::OwnSets(_) => false,
                Lock::OwnLevels => true,
                Lock::Sets(_) | Lock::Nothing => !device.authorises(level, mode),
            };
            let mut go = |to: (ModeId, u8), line: &[Symbol], standing: Option<&Standing>| {
                let mut more = owed.clone();
                more.extend(standing.into_iter().flat_map(|s| owes(engine, s, line)));
                if more.is_empty() { free.push(to) } else { bound.push_back((to, more)) }
            };
            for (id, command) in vocabulary.in_mode(mode).filter(|&(id, _)| device.own_level(id).0 <= level) {
                if command.does == Some(Does::Elevate) {
                    for (to, line) in elevations(engine, device, id, band.ceiling) {
                        match lock {
                            _ if to > band.ceiling => {}
                            _ if is_free => go((mode, to), &line, None),
                            Lock::Sets(standing) | Lock::OwnSets(standing) => {
                                if engine.sets_say(&standing.sets, device.without_set, &line).is_allowed() {
                                    go((mode, to), &line, Some(standing));
                                }
                            }
                            Lock::OwnLevels | Lock::Nothing => {}
                        }
                    }
                }
                if let Some(into) = command.enters {
                    match lock {
                        _ if is_free => go((into, level), &[], None),
                        Lock::Sets(standing) | Lock::OwnSets(standing) => {
                            let line = enters.entry(id).or_insert_with(|| {
                                Instances::of(engine, &standing.sets, device, &command.pattern).allowed.map(|(line, _)| line)
                            });
                            if let Some(line) = line {
                                go((into, level), line, Some(standing));
                            }
                        }
                        Lock::OwnLevels | Lock::Nothing => {}
                    }
                }
            }
            if !owed.is_empty() {
                reach.owed.insert((mode, level), owed);
            }
        }
        reach
    }
}

/// Returns what the sets that permit a line want done first.
fn owes<'e>(engine: &'e Engine, standing: &'e Standing, line: &'e [Symbol]) -> impl Iterator<Item = Owed> + 'e {
    standing.sets.iter().filter_map(move |&set| {
        let rule = engine.sets[set.index()].automaton.decide(line)?;
        engine.estate.sets[set.index()].rules[rule as usize].after.as_ref()?;
        Some(Owed { set, rule, line: zest_command::line::join(line.iter().map(|s| engine.alphabet.example(*s))) })
    })
}

/// Returns the levels an elevation command can ask for, each with the line that does.
pub fn elevations(engine: &Engine, device: &Device, id: CommandId, ceiling: u8) -> Vec<(u8, Vec<Symbol>)> {
    let lines = elevating(device.vocabulary(engine), id, ceiling).into_iter();
    lines.map(|(level, words)| (level, symbols(&engine.alphabet, words.iter().map(String::as_str)))).collect()
}

/// Returns the levels an elevation command can ask for, each with the words of the line that does.
pub(super) fn elevating(vocabulary: &Vocabulary, id: CommandId, ceiling: u8) -> Vec<(u8, Vec<String>)> {
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
    if command.level_word.is_some() {
        (0..=15).filter_map(|level: u8| Some((level, fixed(&level.to_string())?))).collect()
    } else {
        let level = vocabulary.bare_level(ceiling);
        level.into_iter().filter_map(|level| Some((level, fixed("")?))).collect()
    }
}

/// What the command sets say about all lines of a pattern at once.
#[derive(Debug, Default)]
pub struct Instances {
    /// The shortest line that is permitted, and what permits it.
    pub allowed: Option<(Vec<Symbol>, SetVerdict)>,
    /// The shortest line that is not.
    pub refused: Option<(Vec<Symbol>, SetVerdict)>,
}

impl Instances {
    /// Finds how far sessions under some command sets get.
    pub fn of(engine: &Engine, sets: &[SetId], device: &Device, pattern: &Pattern) -> Self {
        let mut found = Self::default();
        let Ok(own) = Automaton::build(&engine.alphabet, &[pattern]) else { return found };
        let mut automata = vec![&own];
        automata.extend(sets.iter().map(|s| &engine.sets[s.index()].automaton));
        explore(
            &engine.alphabet,
            &automata,
            |states| !is_dead(states[0]),
            |states, line| {
                if own.accepted(states[0]).is_some() {
                    let mut nth = sets.iter().zip(&states[1..]);
                    let says = engine.combine(sets, device.without_set, |set| {
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

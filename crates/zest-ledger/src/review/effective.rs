//! What a user may do on each device, through what.

use std::collections::VecDeque;

use crate::ask::Session;
use crate::command::line;
use crate::engine::{Engine, LevelBand};
use crate::entry::{IdentitySource, Kind};
use crate::estate::{AssignmentId, Outcome, SystemId, UserId};
use crate::kind::condition_text;
use crate::kind::network_device::{Instances, Reach, candidates, refusal_to_sign_in, through};
use crate::source::Location;

use super::databases::{OnDatabase, on_database};
use super::hosts::{OnHost, on_host};
use super::services::{OnService, on_service};

/// What a user may do on one system.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Effective {
    /// The system's id.
    pub system: String,
    /// The assignments that can apply, in the order in which they are tried: the first whose conditions hold
    /// decides alone. Those that the stated facts rule out are left out.
    pub entitlements: Vec<Entitlement>,
    /// Local accounts that the user may use.
    pub accounts: Vec<OnAccount>,
    /// Why no session can be opened, whatever the conditions; with the place.
    pub refused: Option<(String, Option<Location>)>,
    /// On a database server, what a session of each account holds: of the one that the stated origin leads to, or of
    /// every account of the user where none is stated.
    pub database: Vec<OnDatabase>,
    /// On a cloud or in an application, what a session holds.
    pub service: Option<OnService>,
    /// On a host, what may be run, from each account of the user.
    pub host: Vec<OnHost>,
}

impl Effective {
    fn nothing(system: &str) -> Self {
        Self {
            system: system.to_owned(),
            entitlements: Vec::new(),
            accounts: Vec::new(),
            refused: None,
            database: Vec::new(),
            service: None,
            host: Vec::new(),
        }
    }
}

/// What one assignment gives on one system.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Entitlement {
    /// Through which role and group.
    pub through: String,
    /// Where the assignment is written.
    pub location: Location,
    /// Conditions that the stated facts leave open, in words.
    pub conditions: Vec<String>,
    /// Start level and ceiling.
    pub band: Option<(u8, u8)>,
    /// Levels that permitted elevations lead to, ascending.
    pub levels: Vec<u8>,
    /// The commands that can be run.
    pub commands: Vec<CommandRight>,
}

/// One command that can be run.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct CommandRight {
    /// The command's line as the vocabulary writes it.
    pub line: String,
    /// The modes in which it can be run.
    pub modes: Vec<String>,
    /// The lowest level at which it can be run.
    pub level: u8,
    /// Whether all lines of this form are permitted.
    pub extent: Extent,
    /// The rule, or what else permits it.
    pub ground: String,
    /// Where that is written.
    pub location: Option<Location>,
}

/// How much of a command is permitted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Extent {
    /// Every line of its form.
    Every,
    /// Some; this one is not.
    Except(String),
}

/// What a user may do with a local account of a device.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct OnAccount {
    /// The login.
    pub login: String,
    /// The level at which its sessions start.
    pub start: u8,
    /// The highest level that they reach.
    pub ceiling: u8,
    /// Where it is written.
    pub location: Location,
    /// The commands that its own command sets permit; nothing where it has none, and the commands' own levels decide.
    pub commands: Option<Vec<CommandRight>>,
}

/// Returns what a user may do on each system, or on one of them; nothing for an unknown user.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::effective};
/// let estate = Ledger::new().document("demo.toml", r#"
/// [users.watch-1]
/// proofs = ["password"]
/// [vocabularies.corvane-os]
/// commands = [{ line = "show release" }, { line = "show log", level = 7 }]
/// [systems.sw-1]
/// kind = "network-device"
/// vocabulary = "corvane-os"
/// no-command-set = "everything"
/// [roles.reader]
/// band = { start = 1, ceiling = 1 }
/// [[assignments]]
/// to = ["user:watch-1"]
/// roles = ["reader"]
/// on = { all = true }
/// "#).estate()?;
/// let rights = effective(&Engine::compile(estate)?, "watch-1", None, &Session::default()).expect("the user is known");
/// assert_eq!(rights[0].entitlements[0].commands.len(), 1);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn effective(engine: &Engine, user: &str, system: Option<&str>, session: &Session) -> Option<Vec<Effective>> {
    let id = engine.find_user(user, false)?;
    let wanted: Vec<SystemId> = match system {
        Some(name) => engine.estate.system_ids.get(name).copied().into_iter().collect(),
        None => {
            let concerns = |s: &SystemId| match engine.estate.system(*s).kind() {
                Kind::Postgresql | Kind::Mariadb => super::databases::has_account(engine, user, *s),
                Kind::NetworkDevice | Kind::Cloud | Kind::Application | Kind::Host => true,
            };
            (0..engine.estate.systems.len()).map(SystemId::new).filter(concerns).collect()
        }
    };
    let mut known: VecDeque<(AssignmentId, SystemId, Entitlement)> = VecDeque::new();
    Some(wanted.into_iter().map(|system| on_system(engine, id, system, session, &mut known)).collect())
}

fn on_system(
    engine: &Engine,
    user: UserId,
    system: SystemId,
    session: &Session,
    known: &mut VecDeque<(AssignmentId, SystemId, Entitlement)>,
) -> Effective {
    let estate = &engine.estate;
    let written = estate.system(system);
    if let Some(found) = on_database(engine, &estate.user(user).id.value, system, session) {
        let (database, refused) = found.map_or_else(|e| (Vec::new(), Some(e)), |d| (d, None));
        return Effective { refused, database, ..Effective::nothing(&written.id.value) };
    }
    let why_not = || refusal_to_sign_in(engine, user, system, session).map(|(text, place)| (text, place.map(|p| estate.sources.locate(p))));
    if written.kind().is_service() {
        let refused = why_not();
        let service = if refused.is_some() { None } else { on_service(engine, user, system, session) };
        return Effective { refused, service, ..Effective::nothing(&written.id.value) };
    }
    if written.kind() == Kind::Host {
        return Effective { refused: why_not(), host: on_host(engine, user, system), ..Effective::nothing(&written.id.value) };
    }
    let sources = &engine.devices[system.index()].sources;
    let mut entitlements = Vec::new();
    let refused = why_not();
    if refused.is_none() && sources.contains(&IdentitySource::Central) {
        for id in candidates(engine, user, system).map(|c| c.assignment) {
            let conditions = &estate.assignments[id.index()].conditions;
            if conditions.outcome(engine.facts(session, user, system)) == Outcome::Fails {
                continue;
            }
            // Devices that are set up alike share the work.
            let twin = known.iter().find(|(a, s, _)| *a == id && is_alike(engine, *s, system)).map(|(_, _, e)| e.clone());
            let entitlement = twin.unwrap_or_else(|| entitlement(engine, user, system, id, session));
            known.push_front((id, system, entitlement.clone()));
            known.truncate(64);
            let decides = entitlement.conditions.is_empty();
            entitlements.push(entitlement);
            if decides {
                break;
            }
        }
    }
    let links = &estate.systems[system.index()].accounts;
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
            let own = engine.account_standings[system.index()][i];
            Some(OnAccount {
                login: account.login.value.clone(),
                start: band.start.value,
                ceiling: band.ceiling.value,
                location: estate.sources.locate(account.login.place),
                commands: own.map(|number| commands(engine, system, number, &engine.reach(number, system))),
            })
        })
        .collect();
    Effective { entitlements, accounts, refused, ..Effective::nothing(&written.id.value) }
}

/// Returns whether the same rights give the same commands on two systems.
fn is_alike(engine: &Engine, one: SystemId, other: SystemId) -> bool {
    let (a, b) = (&engine.devices[one.index()], &engine.devices[other.index()]);
    a.vocabulary == b.vocabulary
        && a.everything_without_set == b.everything_without_set
        && a.authorised_levels == b.authorised_levels
        && a.authorises_configuration == b.authorises_configuration
        && engine.estate.systems[one.index()].levels.iter().map(|l| l.0).eq(engine.estate.systems[other.index()].levels.iter().map(|l| l.0))
}

fn entitlement(engine: &Engine, user: UserId, system: SystemId, id: AssignmentId, session: &Session) -> Entitlement {
    let estate = &engine.estate;
    let links = &estate.assignments[id.index()];
    let (number, standing) = engine.standing(id);
    let conditions = condition_text::all_words(&links.conditions, &engine.facts(session, user, system));
    let reach = engine.reach(number, system);
    Entitlement {
        through: through(engine, user, id),
        location: estate.sources.locate(links.entry.place),
        conditions,
        band: standing.band.map(|LevelBand { start, ceiling, .. }| (start, ceiling)),
        levels: reach.levels(),
        commands: commands(engine, system, number, &reach),
    }
}

/// Returns the commands that can be run at some level that can be reached.
fn commands(engine: &Engine, system: SystemId, number: usize, reach: &Reach) -> Vec<CommandRight> {
    let vocabulary = engine.vocabulary_of(system);
    let device = &engine.devices[system.index()];
    let links = &engine.estate.vocabularies[device.vocabulary.index()];
    let standing = &engine.standings[number];
    let mut rights = Vec::new();
    let ceiling = standing.band.map_or(0, |band| band.ceiling);
    for (index, command) in vocabulary.commands.iter().enumerate().filter(|(_, c)| vocabulary.keeps_ceiling(c, ceiling)) {
        let id = crate::estate::CommandId::new(index);
        let (own, _) = engine.own_level(system, id);
        let found = Instances::of(engine, &standing.sets, system, &command.pattern);
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
        let (ground, location) = ground(engine, system, &found, is_free);
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
        });
    }
    rights
}

fn ground(engine: &Engine, system: SystemId, found: &Instances, is_free: bool) -> (String, Option<Location>) {
    let estate = &engine.estate;
    let written = estate.system(system);
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

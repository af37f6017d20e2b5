//! What is odd about devices, and about the sessions on them.

use std::ops::ControlFlow;

use jiff::Timestamp;
use rustc_hash::{FxHashMap, FxHashSet};

use super::{Device, Instances, Origin, elevations};
use crate::engine::entry::gone;
use crate::engine::rights::{Action, Side, Within, rights};
use crate::engine::rules::Kind;
use crate::engine::rules::sign_in;
use crate::engine::trace::Trace;
use crate::engine::{Engine, Standing};
use crate::links::{AssignmentId, AssignmentLinks, CommandId, FlatRule, ModeId, Party, SetId, SystemId, UserId};
use zest_command::Pattern;
use zest_command::automaton::{Automaton, explore, is_dead};
use zest_model::ask::{Central, Form, Question, Session, Verdict};
use zest_model::entry::{Credential, Does, IdentitySource, Otherwise, RuleVerb, Unrestricted};
use zest_model::finding::{Code, Finding};
use zest_model::source::{Place, visible};

/// Adds what is odd about devices.
pub(super) fn review(engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
    let mut review = Review { engine, at, findings, of_use: FxHashMap::default(), looks: MAX_LOOKS };
    review.sessions();
    review.systems();
}

struct Review<'e, 'f> {
    engine: &'e Engine,
    at: Option<Timestamp>,
    findings: &'f mut Vec<Finding>,
    /// Which assignments are of use to somebody, by their numbers.
    of_use: FxHashMap<usize, bool>,
    /// How many assignments may still be looked at to find somebody who comes to the top of each device.
    looks: usize,
}

/// How many assignments of people are looked at most, to find somebody who comes to the top of each device.
const MAX_LOOKS: usize = 1_000_000;

/// The highest level.
const TOP: u8 = 15;

impl Review<'_, '_> {
    fn push(&mut self, finding: Finding) {
        self.findings.push(finding);
    }

    /// Looks at each pair of what an assignment gives and a system it covers, systems that are alike once.
    fn sessions(&mut self) {
        let engine = self.engine;
        let mut seen: FxHashSet<(usize, usize, u16, bool, bool, Vec<u8>)> = FxHashSet::default();
        let mut vocabularies_of: FxHashMap<SetId, FxHashSet<usize>> = FxHashMap::default();
        let mut unreachable: FxHashMap<Place, (String, u8, u8)> = FxHashMap::default();
        let mut runnable: FxHashSet<Place> = FxHashSet::default();
        for (i, links) in engine.estate.assignments.iter().enumerate() {
            let (number, standing) = engine.standing(AssignmentId::new(i));
            for device in links.systems.ones().filter_map(|s| Device::of(engine, SystemId::new(s))) {
                let vocabulary = device.links.vocabulary.index();
                let levels: Vec<u8> = device.links.levels.iter().map(|l| l.0).collect();
                let is_open = device.without_set == Unrestricted::Everything;
                if !seen.insert((number, vocabulary, device.authorised_levels, device.authorises_configuration, is_open, levels)) {
                    continue;
                }
                for &set in &standing.sets {
                    vocabularies_of.entry(set).or_default().insert(vocabulary);
                }
                if standing.band.is_some() && (!standing.sets.is_empty() || may_something(engine, number, device)) {
                    self.session(number, standing, device, links.entry.place);
                    let from = Origin::Assignment(number);
                    let ceiling = device.reach(engine, from).levels().last().copied().unwrap_or(0);
                    for (rule, level, runs) in levels_of_rules(engine, from, standing, device) {
                        if runs {
                            runnable.insert(rule.text.place);
                        } else {
                            let text = format!("{} {}", rule.verb.word(), visible(&rule.text.value));
                            unreachable.insert(rule.text.place, (text, level, ceiling));
                        }
                    }
                }
            }
        }
        // What whoever uses a local account can run somebody can; of what they cannot, nothing is said here.
        for (_, device) in engine.states::<Device>().filter(|_| !unreachable.is_empty()) {
            for (index, standing) in device.account_standings.iter().enumerate() {
                if let Some(standing) = standing.as_ref().filter(|standing| standing.band.is_some() && !standing.sets.is_empty()) {
                    let rules = levels_of_rules(engine, Origin::Account(index), standing, device);
                    runnable.extend(rules.iter().filter(|(.., runs)| *runs).map(|(rule, ..)| rule.text.place));
                }
            }
        }
        for (place, (text, level, ceiling)) in unreachable.into_iter().filter(|(place, _)| !runnable.contains(place)) {
            self.findings.push(
                Finding::new(Code::RuleLevelUnreachable, format!("the rule `{text}` permits what nobody who has it can run"))
                    .at(place, format!("the commands it permits take level {level} or more; its sessions reach {ceiling}"))
                    .help("raise the ceiling, permit the elevation, or lower the commands' level on the device"),
            );
        }
        for (_, device) in engine.states::<Device>() {
            for &set in device.links.accounts.iter().flat_map(|a| &a.sets) {
                vocabularies_of.entry(set).or_default().insert(device.links.vocabulary.index());
            }
        }
        self.second_persons(vocabularies_of.keys().copied());
        self.narrow_denies(&vocabularies_of);
        self.rules_without_command(&vocabularies_of);
    }

    /// Finds rules that ask for a second person where none of those named comes to a device, and so nobody can agree.
    fn second_persons(&mut self, sets: impl Iterator<Item = SetId>) {
        let engine = self.engine;
        let is_device = |system: usize| Device::of(engine, SystemId::new(system)).is_some();
        let is_assigned = |user: UserId| {
            let candidates = engine.membership.candidates(user);
            candidates.iter().any(|c| engine.estate.assignments[c.assignment.index()].systems.ones().any(is_device))
        };
        let mut known: FxHashMap<UserId, bool> = FxHashMap::default();
        let mut comes = |user: UserId| {
            let comes =
                || gone(engine.estate.user(user), self.at).is_none() && (is_assigned(user) || super::NetworkDevice.reaches(engine, user));
            *known.entry(user).or_insert_with(comes)
        };
        let mut found: Vec<Place> = sets
            .flat_map(|set| &engine.estate.sets[set.index()].rules)
            .filter_map(|rule| rule.after.as_deref())
            .filter(|duties| !engine.people(duties).any(&mut comes))
            .filter_map(|duties| duties.second_person.first().map(|&(_, place)| place))
            .collect();
        found.sort_unstable();
        found.dedup();
        self.findings.extend(found.into_iter().map(|place| {
            Finding::new(Code::NoSecondPerson, "nobody can agree as second person: none of those named comes to a device")
                .at(place, "these people")
                .help("name people who may run the line themselves")
        }));
    }

    /// Finds denies that take fewer words than the vocabulary does in the same place, with a line that passes.
    fn narrow_denies(&mut self, vocabularies_of: &FxHashMap<SetId, FxHashSet<usize>>) {
        let engine = self.engine;
        let mut found: Vec<(Place, String, String)> = Vec::new();
        for (&set, vocabularies) in vocabularies_of {
            let links = &engine.estate.sets[set.index()];
            // Many denies are as wide as one pattern.
            let mut passing: FxHashMap<String, Vec<(Option<usize>, String)>> = FxHashMap::default();
            for (number, rule) in links.rules.iter().enumerate().filter(|(_, r)| r.verb == RuleVerb::Deny) {
                let commands = vocabularies.iter().flat_map(|&v| &engine.vocabularies[v].commands);
                let example = commands.filter_map(|c| widened(&rule.pattern, &c.pattern)).find_map(|wide| {
                    let passing = passing.entry(wide.to_string()).or_insert_with(|| self.passing(set, &wide));
                    // What an earlier rule lets through, the deny was never meant to catch.
                    passing.iter().find(|(by, _)| by.is_none_or(|by| by > number)).map(|(_, example)| example.clone())
                });
                if let Some(example) = example {
                    found.push((rule.text.place, visible(&rule.text.value), example));
                }
            }
        }
        found.sort();
        found.dedup_by(|a, b| a.0 == b.0);
        for (place, text, example) in found {
            self.findings.push(
                Finding::new(Code::DenyTooNarrow, format!("the rule `deny {text}` lets `{}` pass", visible(&example)))
                    .at(place, "the vocabulary takes more words here than the rule does")
                    .help("write `{word}`, or `...` at the end, so that it catches whatever the device takes"),
            );
        }
    }

    /// Returns lines of a pattern that a set lets pass, one for each rule that does, by its number, and one for where no rule decides: the
    /// shortest lines, in their order.
    fn passing(&self, set: SetId, pattern: &Pattern) -> Vec<(Option<usize>, String)> {
        let engine = self.engine;
        let compiled = &engine.sets[set.index()];
        let Ok(own) = Automaton::build(&engine.alphabet, &[pattern]) else { return Vec::new() };
        let (mut passing, mut seen) = (Vec::new(), FxHashSet::default());
        explore(
            &engine.alphabet,
            &[&own, &compiled.automaton],
            |s| !is_dead(s[0]),
            |states, line| {
                let decided = compiled.automaton.accepted(states[1]);
                let passes = decided.map_or(compiled.otherwise == Otherwise::Allow, |r| compiled.rules[r as usize].verb == RuleVerb::Allow);
                if own.accepted(states[0]).is_some() && passes && seen.insert(decided) {
                    let line = zest_command::line::join(line.map(|s| engine.alphabet.example(s)));
                    passing.push((decided.map(|r| r as usize), line));
                }
                ControlFlow::Continue(())
            },
        );
        passing
    }

    fn session(&mut self, number: usize, standing: &Standing, device: &Device, place: Place) {
        let engine = self.engine;
        let vocabulary = device.vocabulary(engine);
        let reach = device.reach(engine, Origin::Assignment(number));
        let band = standing.band.expect("sessions are looked at only where there is a band");
        let place = standing.sets.first().map_or(place, |&s| engine.estate.set(s).id.place);
        let names = match standing.sets.as_slice() {
            [] => "no command set".to_owned(),
            sets => sets.iter().map(|&s| format!("`{}`", visible(&engine.estate.set(s).id.value))).collect::<Vec<_>>().join(" and "),
        };
        // Whether a command that does this can be run in a mode, or else the level that it wants, where no such level is come to;
        // nothing where the mode has none.
        let runs = |does: Does, mode: ModeId| -> Option<Result<(), Option<u8>>> {
            let commands: Vec<_> = vocabulary.in_mode(mode).filter(|(_, c)| c.does == Some(does)).collect();
            let mut wanted = None;
            for (id, command) in &commands {
                let needed = device.own_level(*id).0;
                let levels: Vec<u8> = reach.levels_in(mode).into_iter().filter(|&l| l >= needed).collect();
                let permitted = Instances::of(engine, &standing.sets, device, &command.pattern).allowed.is_some();
                if levels.iter().any(|&l| permitted || !device.authorises(l, mode)) {
                    return Some(Ok(()));
                }
                if levels.is_empty() {
                    wanted = Some(wanted.map_or(needed, |other: u8| other.min(needed)));
                }
            }
            (!commands.is_empty()).then_some(Err(wanted))
        };
        let cannot = |code: Code, text: String, does: Does, wanted: Option<u8>| {
            let line = vocabulary.commands.iter().find(|c| c.does == Some(does)).map_or(String::new(), |c| c.pattern.to_string());
            let (label, help) = match wanted {
                Some(level) => (
                    format!("`{line}` wants level {level}, and these sessions do not come to it"),
                    "put it at a lower level, or let the band and the command sets lead there".to_owned(),
                ),
                None => (format!("`{line}` is not permitted"), format!("add the rule \"allow {line}\"")),
            };
            Finding::new(code, text).at(place, label).help(help)
        };
        if let Some(Err(wanted)) = runs(Does::LeaveSession, vocabulary.start_mode) {
            self.findings.push(cannot(Code::CannotLeave, format!("a session with {names} cannot be left"), Does::LeaveSession, wanted));
        }
        if let Some(Err(wanted)) = runs(Does::ShowLevel, vocabulary.start_mode) {
            let text = format!("a session with {names} cannot ask for its own level");
            self.findings.push(cannot(Code::CannotShowLevel, text, Does::ShowLevel, wanted));
        }
        for mode in (0..vocabulary.modes.len()).map(ModeId::new).filter(|&m| m != vocabulary.start_mode && !reach.levels_in(m).is_empty()) {
            let ways = [runs(Does::LeaveMode, mode), runs(Does::LeaveSession, mode)];
            if let Some(wanted) = ways.iter().find_map(|way| way.and_then(Result::err))
                && !ways.contains(&Some(Ok(())))
            {
                let text = format!("a session with {names} cannot leave the mode `{}`", vocabulary.modes[mode.index()]);
                self.findings.push(cannot(Code::CannotLeaveMode, text, Does::LeaveMode, wanted));
            }
        }
        if standing.sets.is_empty() {
            return;
        }
        let authorised = reach.levels().iter().any(|&l| device.authorises(l, vocabulary.start_mode));
        if band.ceiling > band.start && authorised && !reach.has_level(band.ceiling) {
            self.findings.push(
                Finding::new(
                    Code::CeilingUnreachable,
                    format!("sessions with {names} never reach the ceiling {} of their band", band.ceiling),
                )
                .at(band.ceiling_place, "no permitted elevation leads here")
                .also(place, "the command set in force")
                .help(format!("permit the elevation to {}, or lower the ceiling", band.ceiling)),
            );
        }
        self.elevations(standing, device, band.ceiling, band.ceiling_place);
    }

    /// A rule that names an elevation which the ceiling forbids; one that permits everything is not meant that way.
    fn elevations(&mut self, standing: &Standing, device: &Device, ceiling: u8, ceiling_place: Place) {
        let engine = self.engine;
        let vocabulary = device.vocabulary(engine);
        let mut seen = FxHashSet::default();
        for index in (0..vocabulary.commands.len()).filter(|&i| vocabulary.commands[i].does == Some(Does::Elevate)) {
            for (to, line) in elevations(engine, device, CommandId::new(index), ceiling) {
                let says = engine.sets_say(&standing.sets, device.without_set, &line);
                let Some(rule) = says.rule().filter(|_| says.is_allowed() && to > ceiling) else { continue };
                let rule = &engine.estate.sets[rule.set.index()].rules[rule.index as usize];
                let fixed_words = rule.pattern.words().len() - usize::from(rule.pattern.is_open()).min(rule.pattern.words().len());
                let names_it = fixed_words > 0;
                if names_it && seen.insert(rule.text.place) {
                    self.findings.push(
                        Finding::new(
                            Code::ElevationAboveCeiling,
                            format!("the rule `{} {}` permits level {to}", rule.verb.word(), visible(&rule.text.value)),
                        )
                        .at(rule.text.place, "permitted here")
                        .also(ceiling_place, format!("but the ceiling is {ceiling}"))
                        .help("narrow the rule to the ceiling, or raise the ceiling"),
                    );
                }
            }
        }
    }

    /// Finds rules that match no command of the vocabularies their set is used with, such as a misspelt one.
    fn rules_without_command(&mut self, vocabularies_of: &FxHashMap<SetId, FxHashSet<usize>>) {
        let engine = self.engine;
        let mut reported = FxHashSet::default();
        let mut matching: FxHashSet<Place> = FxHashSet::default();
        let mut silent: Vec<(SetId, usize)> = Vec::new();
        for (&set, vocabularies) in vocabularies_of {
            for (index, rule) in engine.estate.sets[set.index()].rules.iter().enumerate() {
                let mut commands = vocabularies.iter().flat_map(|&v| &engine.vocabularies[v].commands);
                let meets = commands.any(|command| engine.alphabet.overlap(&rule.pattern, &command.pattern));
                if meets {
                    matching.insert(rule.text.place);
                } else {
                    silent.push((set, index));
                }
            }
        }
        silent.sort_unstable();
        for (set, index) in silent {
            let rule = &engine.estate.sets[set.index()].rules[index];
            if matching.contains(&rule.text.place) || !reported.insert(rule.text.place) {
                continue;
            }
            self.findings.push(
                Finding::new(
                    Code::RuleMatchesNoCommand,
                    format!("the rule `{} {}` matches no command", rule.verb.word(), visible(&rule.text.value)),
                )
                .at(rule.text.place, "no vocabulary that the set is used with has such a line")
                .help("compare the words with the vocabulary; a pattern matches whole words and exactly as many as it has"),
            );
        }
    }

    fn systems(&mut self) {
        let engine = self.engine;
        let estate = &engine.estate;
        let mut covered = fixedbitset::FixedBitSet::with_capacity(estate.systems.len());
        for links in &estate.assignments {
            covered.union_with(&links.systems);
        }
        for (id, device) in engine.states::<Device>() {
            let system = estate.system(id);
            let (name, place) = (visible(&system.id.value), system.id.place);
            if !covered.contains(id.index()) {
                self.push(
                    Finding::new(Code::SystemUncovered, format!("no assignment covers `{name}`"))
                        .at(place, "nobody can do anything here but with its own accounts")
                        .help("compare its labels and place with the assignments"),
                );
            }
            self.accounts(id, device);
            if device.authorised_levels != 0 && !device.authorises_configuration && device.configuration_modes != 0 {
                let switch = system.authorisation.as_ref().map_or(place, |a| a.place);
                self.push(
                    Finding::new(Code::ConfigurationUnauthorised, format!("`{name}` does not authorise commands in configuration modes"))
                        .at(switch, "levels are authorised, configuration is not")
                        .help("set `configuration = true`: whoever gets into a configuration mode may do everything there"),
                );
            }
            self.levels(id, device);
        }
    }

    fn levels(&mut self, id: SystemId, device: &Device) {
        let engine = self.engine;
        let system = engine.estate.system(id);
        let name = visible(&system.id.value);
        let switch = system.authorisation.as_ref().map_or(system.id.place, |a| a.place);
        let mut open = FxHashSet::default();
        let mut top = 0;
        // To which level each of what assignments give leads, and those whom it leads to the top.
        let mut highest: FxHashMap<usize, u8> = FxHashMap::default();
        let mut leading: Vec<Party> = Vec::new();
        let mut unasked: Option<Place> = None;
        let mut seen = FxHashSet::default();
        for (i, links) in engine.estate.assignments.iter().enumerate().filter(|(_, a)| a.systems.contains(id.index())) {
            let (number, standing) = engine.standing(AssignmentId::new(i));
            let is_of_use = self.is_of_use(i, links);
            if is_of_use {
                let reached = || device.reach(engine, Origin::Assignment(number)).levels().last().copied().unwrap_or(0);
                let highest = *highest.entry(number).or_insert_with(reached);
                top = top.max(highest);
                leading.extend(links.to.iter().map(|&(party, _)| party).filter(|_| highest == TOP));
            }
            // Assignments that give the same are looked at once.
            if !seen.insert((number, is_of_use, links.to.is_empty())) {
                continue;
            }
            let reach = device.reach(engine, Origin::Assignment(number));
            if let Some(&set) = standing.sets.first()
                && device.authorised_levels == 0
                && !device.authorises_configuration
            {
                unasked = unasked.or(Some(engine.estate.set(set).id.place));
            }
            if device.authorised_levels != 0 && !standing.sets.is_empty() && !links.to.is_empty() {
                let start = device.vocabulary(engine).start_mode;
                open.extend(reach.levels().into_iter().filter(|&l| !device.authorises(l, start)));
            }
        }
        if let Some(set) = unasked {
            self.push(
                Finding::new(
                    Code::CommandSetsNotAsked,
                    format!("`{name}` never asks command sets: whoever gets in runs whatever the level admits"),
                )
                .at(system.id.place, "no `authorisation`")
                .also(set, "such as this set, which does nothing here")
                .help("add authorisation = { levels = \"all\", configuration = true }, or give these people roles without command sets"),
            );
        }
        if !open.is_empty() {
            let mut levels: Vec<u8> = open.into_iter().collect();
            levels.sort_unstable();
            let list = levels.iter().map(u8::to_string).collect::<Vec<_>>().join(", ");
            self.push(
                Finding::new(
                    Code::LevelUnauthorised,
                    format!("command sets do not apply on `{name}` at levels that sessions reach: {list}"),
                )
                .at(switch, "these levels are not listed")
                .help("list them, or write levels = \"all\""),
            );
        }
        if !engine.estate.assignments.iter().any(|a| a.systems.contains(id.index())) {
            return;
        }
        leading.extend(self.people_of_accounts(id, device));
        if !self.somebody_comes_to_the_top(id, leading, Central::Up) {
            let (label, help) = if top < TOP {
                (format!("the highest level that can be reached is {top}"), "assign a role with ceiling 15 here, or permit the elevation")
            } else {
                (
                    "an assignment leads there, and everybody whom it is for is refused".to_owned(),
                    "look for what refuses them: an earlier assignment without conditions, duties that are kept apart, no way to prove identity",
                )
            };
            self.push(
                Finding::new(Code::NobodyReachesTop, format!("nobody can reach level 15 on `{name}` while the central source is up"))
                    .at(system.id.place, label)
                    .help(help),
            );
        }
    }

    /// Returns whoever may use an account of a device that could come to the top.
    fn people_of_accounts(&self, id: SystemId, device: &Device) -> Vec<Party> {
        let estate = &self.engine.estate;
        let accounts = estate.system(id).accounts.iter().zip(&*device.links.accounts);
        let high = accounts.filter(|(account, _)| account.band.as_ref().is_some_and(|band| band.ceiling.value == TOP));
        let parties = high.flat_map(|(account, links)| {
            let own = estate.names.users.get(account.login.value.as_str()).map(|&user| Party::User(user));
            links.used_by.iter().map(|&(party, _)| party).chain(own)
        });
        parties.collect()
    }

    /// Returns whether one of some people who are there gets a session on a device that is at the top, as their sets of rights say; also
    /// where too many would have to be looked at.
    fn somebody_comes_to_the_top(&mut self, id: SystemId, people: Vec<Party>, central: Central) -> bool {
        let (engine, at) = (self.engine, self.at);
        let stated = Session { level: Some(TOP), ..Session::default() };
        let plain = Session { central, ..stated.clone() };
        let within = Within { stated, actions: vec![Action::alone("", Form::Line)], ..Within::default() };
        let there = engine.members(people).filter(|&user| gone(engine.estate.user(user), at).is_none());
        for user in there {
            // Each set costs what the assignments of its user cost.
            let Some(left) = self.looks.checked_sub(1 + engine.membership.candidates(user).len()) else { return true };
            self.looks = left;
            let Some(site) = engine.site_of(id) else { return false };
            let (name, system) = (&engine.estate.user(user).id.value, &engine.estate.system(id).id.value);
            // Mostly it is enough to sign in.
            let question = Question::in_session(name, system, "", plain.clone());
            if sign_in(engine, &question, &mut Trace::silent()).verdict != Verdict::Denied {
                return true;
            }
            if rights(&[Side { site, user }], &within).iter().any(|set| set.can_open(|session| session.central == central)) {
                return true;
            }
        }
        false
    }

    fn accounts(&mut self, id: SystemId, device: &Device) {
        let engine = self.engine;
        let system = engine.estate.system(id);
        let links = &device.links.accounts;
        let name = visible(&system.id.value);
        let asks_local = device.sources.contains(&IdentitySource::Local);
        for (account, links) in system.accounts.iter().zip(links.iter()) {
            let (login, place) = (visible(&account.login.value), account.login.place);
            let own = engine.estate.names.users.get(account.login.value.as_str());
            let is_used = !links.used_by.is_empty() || own.is_some();
            if !asks_local {
                self.push(
                    Finding::new(Code::AccountNeverUsed, format!("the account `{login}` on `{name}` is never asked for"))
                        .at(place, "the local source is not in the order")
                        .help("add \"local\" to `identity-sources`, or take the account out"),
                );
            }
            if account.origin.is_none() {
                self.push(
                    Finding::new(Code::AccountFromAnywhere, format!("the account `{login}` on `{name}` is admitted from anywhere"))
                        .at(place, "no `origin`")
                        .help("name the networks it is used from: origin = [\"origin:ID\"]"),
                );
            }
            if let Some(state) = account.credential.as_ref().filter(|c| c.value != Credential::Set) {
                self.push(
                    Finding::new(Code::AccountWithoutCredential, format!("nobody can sign in as `{login}` on `{name}`"))
                        .at(state.place, format!("its credential is {}", state.value.word()))
                        .help("set a credential on the device and record it here, or take the account out"),
                );
            }
            if !is_used {
                self.push(
                    Finding::new(Code::AccountForNobody, format!("nobody may use the account `{login}` on `{name}`"))
                        .at(place, "no `used-by`, and no user of this name")
                        .help("say who may use it: used-by = [\"group:ID\"]"),
                );
            }
        }
        let asks_central = device.sources.contains(&IdentitySource::Central);
        let rescuers = self.people_of_accounts(id, device);
        if asks_central && !(asks_local && self.somebody_comes_to_the_top(id, rescuers, Central::Down)) {
            self.push(
                Finding::new(Code::NoEmergencyAccount, format!("when the central source is down, nobody can reach level 15 on `{name}`"))
                    .at(system.id.place, "no usable local account with ceiling 15")
                    .help("add an account with band = { start = 15, ceiling = 15 }, `used-by`, `origin` and emergency = true"),
            );
        } else if device.nothing_when_down && device.authorised_levels >> 15 & 1 == 1 {
            let place = system.when_central_down.as_ref().map_or(system.id.place, |w| w.place);
            self.push(
                Finding::new(Code::OutageLocksOut, format!("while the central source is down, `{name}` refuses every command"))
                    .at(place, "nothing is permitted then")
                    .help("write when-central-down = \"own-levels\""),
            );
        }
    }

    /// Returns whether an assignment is not over, and is for somebody who is there; found out once for each.
    fn is_of_use(&mut self, number: usize, links: &AssignmentLinks) -> bool {
        if let Some(known) = self.of_use.get(&number) {
            return *known;
        }
        let is_over = links.conditions.until().is_some_and(|(until, _)| self.at.is_some_and(|at| at >= until));
        let is_of_use = !is_over && self.somebody_is_there(links.to.iter().map(|&(p, _)| p).collect());
        self.of_use.insert(number, is_of_use);
        is_of_use
    }

    /// Returns whether one of some parties, or of their members, is neither disabled nor past the end.
    fn somebody_is_there(&self, parties: Vec<Party>) -> bool {
        self.engine.members(parties).any(|user| gone(self.engine.estate.user(user), self.at).is_none())
    }
}

/// Whether sessions without command sets may do something at all: nothing stands in their way, or at some level nobody asks.
fn may_something(engine: &Engine, number: usize, device: &Device) -> bool {
    let start_mode = device.vocabulary(engine).start_mode;
    let levels = device.reach(engine, Origin::Assignment(number)).levels();
    device.without_set == Unrestricted::Everything || levels.iter().any(|&level| !device.authorises(level, start_mode))
}

/// Returns each rule that allows something, with the lowest level that any of its commands takes, and whether one of them can be run in
/// sessions that come about so.
fn levels_of_rules<'e>(engine: &'e Engine, from: Origin, standing: &Standing, device: &Device) -> Vec<(&'e FlatRule, u8, bool)> {
    let vocabulary = device.vocabulary(engine);
    let reach = device.reach(engine, from);
    let top = |command: &crate::vocabulary::Command| command.modes.iter().flat_map(|&m| reach.levels_in(m)).max();
    let mut list = Vec::new();
    for &set in &standing.sets {
        let compiled = &engine.sets[set.index()];
        let rules = &engine.estate.sets[set.index()].rules;
        let mut needs: FxHashMap<u32, (u8, bool)> = FxHashMap::default();
        for (index, command) in vocabulary.commands.iter().enumerate() {
            let (own, _) = device.own_level(CommandId::new(index));
            let runs = top(command).is_some_and(|l| l >= own);
            let Ok(own_automaton) = Automaton::build(&engine.alphabet, &[&command.pattern]) else { continue };
            explore(
                &engine.alphabet,
                &[&own_automaton, &compiled.automaton],
                |s| !is_dead(s[0]),
                |states, _| {
                    if let (Some(_), Some(rule)) = (own_automaton.accepted(states[0]), compiled.automaton.accepted(states[1])) {
                        let entry = needs.entry(rule).or_insert((own, false));
                        entry.0 = entry.0.min(own);
                        entry.1 |= runs;
                    }
                    ControlFlow::Continue(())
                },
            );
        }
        let needs = needs.into_iter().map(|(rule, (level, runs))| (&rules[rule as usize], level, runs));
        list.extend(needs.filter(|(rule, ..)| rule.verb == RuleVerb::Allow));
    }
    list
}

/// A deny with its placeholders as wide as those of a command that has them in the same places, if that is wider.
fn widened(deny: &Pattern, command: &Pattern) -> Option<Pattern> {
    use zest_command::WordPattern::{Fixed, Slot};
    if deny.words().len() != command.words().len() || deny.is_open() {
        return None;
    }
    let mut is_wider = false;
    let words = deny.words().iter().zip(command.words()).map(|pair| match pair {
        (Fixed(own), Fixed(known)) if own.iter().any(|w| known.contains(w)) => Some(Fixed(own.clone())),
        (Slot(own), Slot(known)) => {
            is_wider |= own != known;
            Some(Slot(known.clone()))
        }
        (Fixed(own), Slot(known)) if own.iter().any(|w| known.matches(w)) => Some(Fixed(own.clone())),
        _ => None,
    });
    let words = words.collect::<Option<Vec<_>>>()?;
    is_wider.then(|| Pattern::of(words))
}

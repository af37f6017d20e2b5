//! Findings about a ledger that is valid, but will surprise somebody.

use std::ops::ControlFlow;

use jiff::Timestamp;
use rustc_hash::{FxHashMap, FxHashSet};

use crate::command::Pattern;

use crate::command::automaton::{Automaton, Explored, explore, hidden_rules, is_dead};

use crate::engine::{Candidate, Engine, Standing};
use crate::entry::{Credential, Does, IdentitySource, Kind, Otherwise, RuleVerb};
use crate::estate::{AssignmentId, AssignmentLinks, CommandId, ModeId, Party, RoleId, ServiceLinks, SetId, SystemId, UserId};
use crate::finding::{Code, Finding, Findings};
use crate::kind::network_device::{Instances, elevations};
use crate::ledger::Entries;
use crate::source::{At, Place, skeleton, visible};

use super::gone::gone;

/// How many pairs of assignments are compared at most.
const MAX_PAIRS: usize = 2_000_000;

/// Returns what is odd about a ledger; `at` is the moment for what has expired.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, entry::{System, Unrestricted, User, Vocabulary, Command}, review::hygiene};
/// let estate = Ledger::new()
///     .user(User::new("watch-1"))
///     .vocabulary(Vocabulary::new("corvane-os").command(Command::new("show release")))
///     .system(System::network_device("sw-1", "corvane-os", Unrestricted::Nothing))
///     .estate()?;
/// let findings = hygiene(&Engine::compile(estate)?, None);
/// assert!(findings.to_string().contains("`watch-1` has no way to prove identity"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn hygiene(engine: &Engine, at: Option<Timestamp>) -> Findings {
    let mut review = Review { engine, at, findings: Vec::new() };
    review.people();
    review.look_alikes();
    review.groups();
    review.roles();
    review.assignments();
    review.rules();
    review.sessions();
    review.systems();
    review.nights();
    super::gone::review(engine, at, &mut review.findings);
    super::databases::review(engine, at, &mut review.findings);
    super::services::review(engine, at, &mut review.findings);
    super::hosts::review(engine, at, &mut review.findings);
    Findings::new(review.findings, std::sync::Arc::clone(&engine.estate.sources))
}

struct Review<'e> {
    engine: &'e Engine,
    at: Option<Timestamp>,
    findings: Vec<Finding>,
}

/// People and groups
impl Review<'_> {
    fn push(&mut self, finding: Finding) {
        self.findings.push(finding);
    }

    fn people(&mut self) {
        let estate = &self.engine.estate;
        let mut folded: FxHashMap<String, Place> = FxHashMap::default();
        for (i, user) in estate.entries.users.iter().enumerate() {
            let id = UserId::new(i);
            let (name, place) = (visible(&user.id.value), user.id.place);
            let is_disabled = user.disabled.as_ref().is_some_and(|d| d.value);
            if user.proofs.is_empty() && !is_disabled {
                self.findings.push(
                    Finding::new(Code::UserWithoutProof, format!("`{name}` has no way to prove identity"))
                        .at(place, "cannot sign in anywhere")
                        .help("add `proofs = [\"password\"]` or another way, or disable the user"),
                );
            }
            let has_account = || {
                let systems = (0..estate.systems.len()).map(SystemId::new);
                let mut of_servers = systems.map(|s| super::databases::has_account(self.engine, &user.id.value, s));
                of_servers.any(|has| has)
                    || estate.entries.systems.iter().zip(&estate.systems).any(|(s, links)| {
                        s.accounts
                            .iter()
                            .zip(&links.accounts)
                            .any(|(a, l)| a.login.value == user.id.value || l.used_by.iter().any(|&(p, _)| p == Party::User(id)))
                    })
            };
            let on_hosts = |id| (0..estate.systems.len()).any(|s| super::hosts::has_account(self.engine, id, SystemId::new(s)));
            let reaches = |c: &Candidate| !estate.assignments[c.assignment.index()].systems.is_clear();
            if !self.engine.membership.candidates(id).iter().any(reaches)
                && !is_disabled
                && !has_account()
                && !super::services::reaches(self.engine, id)
                && !on_hosts(id)
            {
                self.findings.push(
                    Finding::new(Code::UserWithoutAssignment, format!("`{name}` can do nothing: no assignment reaches any system"))
                        .at(place, "no assignment, directly or through a group")
                        .help("put the user into a group that has one, or take the user out"),
                );
            }
            if let (Some(at), Some(until)) = (self.at, &user.until)
                && until.value <= at
            {
                self.findings.push(
                    Finding::new(Code::Expired, format!("`{name}` was valid until {}", until.value))
                        .at(until.place, "past")
                        .help("take the user out, or extend the date"),
                );
            }
            if let Some(first) = folded.insert(user.id.value.to_lowercase(), place) {
                self.findings.push(
                    Finding::new(Code::IdsDifferInCase, format!("`{name}` differs from another user in upper and lower case only"))
                        .at(place, "easy to mix up")
                        .also(first, "the other one")
                        .help("rename one of them; on systems that ignore case neither can sign in"),
                );
            }
        }
    }

    /// Ids of one table that look alike, across scripts as well (Unicode Technical Standard 39).
    fn look_alikes(&mut self) {
        let estate = &self.engine.estate;
        // Every table of ids has its say here, or this does not compile.
        let Entries {
            users,
            groups,
            origins,
            systems,
            vocabularies,
            command_sets,
            roles,
            assignments: _,
            databases,
            services,
            hosts,
            separations,
            credential_rules: _,
            interfaces: _,
        } = &estate.entries;
        let mut tables: Vec<Vec<&At<String>>> = vec![
            users.iter().map(|e| &e.id).collect(),
            groups.iter().map(|e| &e.id).collect(),
            origins.iter().map(|e| &e.id).collect(),
            systems.iter().map(|e| &e.id).collect(),
            vocabularies.iter().map(|e| &e.id).collect(),
            command_sets.iter().map(|e| &e.id).collect(),
            roles.iter().map(|e| &e.id).collect(),
            separations.iter().map(|e| &e.id).collect(),
        ];
        tables.extend(databases.iter().map(|d| d.accounts.iter().chain(&d.roles).map(|r| &r.name).collect()));
        tables.extend(databases.iter().map(|d| d.objects.iter().map(|o| &o.name).collect()));
        tables.extend(services.iter().map(|s| s.resources.iter().map(|r| &r.path).collect()));
        tables.extend(hosts.iter().map(|h| h.accounts.iter().map(|a| &a.login).collect()));
        tables.extend(systems.iter().map(|s| s.accounts.iter().map(|a| &a.login).collect()));
        let mut found = Vec::new();
        for table in tables {
            let mut alike: FxHashMap<String, &At<String>> = FxHashMap::default();
            for id in table {
                // What letters of ASCII look like is no surprise to anybody: `O` and `0` stand in too many names.
                if let Some(other) = alike.insert(skeleton(&id.value), id)
                    && other.value.to_lowercase() != id.value.to_lowercase()
                    && !(other.value.is_ascii() && id.value.is_ascii())
                {
                    let (name, other_name) = (visible(&id.value), visible(&other.value));
                    found.push(
                        Finding::new(Code::IdsLookAlike, format!("`{name}` looks like `{other_name}`, and is another"))
                            .at(id.place, "easy to mix up")
                            .also(other.place, "the other one")
                            .help("rename one of them, in letters of one script"),
                    );
                }
            }
        }
        self.findings.extend(found);
    }

    fn groups(&mut self) {
        let estate = &self.engine.estate;
        let at = self.at;
        let is_gone = |user: UserId| gone(estate.user(user), at).is_some();
        for (entry, links) in estate.entries.groups.iter().zip(&estate.groups) {
            let (name, place) = (visible(&entry.id.value), entry.id.place);
            if links.owners.is_empty() {
                self.push(
                    Finding::new(Code::GroupWithoutOwner, format!("the group `{name}` has no owner"))
                        .at(place, "nobody answers for it")
                        .help("add `owners = [\"user:ID\"]`"),
                );
            } else if links.owners.iter().all(|&(p, _)| matches!(p, Party::User(u) if is_gone(u))) {
                self.push(
                    Finding::new(Code::GroupOwnersInactive, format!("every owner of the group `{name}` is disabled, or past the end"))
                        .at(links.owners[0].1, "gone")
                        .help("name an owner who is active"),
                );
            }
            if links.members.is_empty() && entry.directory.is_none() {
                self.push(
                    Finding::new(Code::EmptyGroup, format!("the group `{name}` has no members"))
                        .at(place, "empty")
                        .help("add members, link a directory group, or take the group out"),
                );
            }
        }
    }
}

/// Roles and assignments
impl Review<'_> {
    fn roles(&mut self) {
        let estate = &self.engine.estate;
        let mut used: FxHashSet<usize> = estate.assignments.iter().flat_map(|a| a.roles.iter().map(|r| r.index())).collect();
        used.extend(estate.roles.iter().flat_map(|r| r.includes.iter().map(|i| i.index())));
        used.extend((0..estate.roles.len()).filter(|&i| estate.roles[i].assumable.is_some()));
        for (i, role) in estate.entries.roles.iter().enumerate() {
            let (name, place) = (visible(&role.id.value), role.id.place);
            if !used.contains(&i) {
                self.push(
                    Finding::new(Code::RoleUnassigned, format!("the role `{name}` is never assigned"))
                        .at(place, "no assignment and no other role uses it")
                        .help("assign it, or take it out"),
                );
            }
            let is_granted = |s: &ServiceLinks| s.by_role.contains_key(&RoleId::new(i));
            let gives = !role.grants.is_empty() || estate.services.iter().flatten().any(is_granted);
            if role.band.is_none() && role.commands.is_empty() && role.includes.is_empty() && !gives {
                self.push(
                    Finding::new(Code::EmptyRole, format!("the role `{name}` gives nothing"))
                        .at(place, "neither band nor commands nor grants"),
                );
            }
        }
        let of_hosts = estate.hosts.iter().flatten().flat_map(|h| {
            let of_accounts = h.accounts.iter().flat_map(|a| a.commands.iter().chain(a.commands_of.iter().flat_map(|(_, s)| s)));
            of_accounts.chain(h.run_as.iter().flat_map(|r| &r.sets))
        });
        let of_devices = estate.systems.iter().flat_map(|s| &s.accounts).flat_map(|a| &a.sets);
        let used: FxHashSet<SetId> = estate.roles.iter().flat_map(|r| &r.sets).chain(of_hosts).chain(of_devices).copied().collect();
        let included: FxHashSet<&str> = estate
            .command_sets()
            .iter()
            .flat_map(|s| s.rules.iter().filter(|r| r.verb == RuleVerb::Include).map(|r| r.text.value.as_str()))
            .collect();
        for (i, set) in estate.command_sets().iter().enumerate() {
            if !used.contains(&SetId::new(i)) && !included.contains(set.id.value.as_str()) {
                self.findings.push(
                    Finding::new(Code::CommandSetUnused, format!("the command set `{}` is not used", visible(&set.id.value)))
                        .at(set.id.place, "no role and no other set uses it")
                        .help("name it in a role's `commands`, or take it out"),
                );
            }
        }
    }

    fn assignments(&mut self) {
        let estate = &self.engine.estate;
        for (i, links) in estate.assignments.iter().enumerate() {
            let place = links.entry.place;
            if links.systems.is_clear() {
                self.findings.push(
                    Finding::new(Code::AssignmentCoversNothing, "the assignment covers no system")
                        .at(links.entry.on.place.unwrap_or(place), "no system fits")
                        .help("all parts of `on` must fit; compare labels and places with the systems"),
                );
            }
            for &(party, place) in &links.to {
                if let Party::User(user) = party {
                    self.findings.push(
                        Finding::new(
                            Code::PersonalAssignment,
                            format!("an assignment names the person `{}`", visible(&estate.user(user).id.value)),
                        )
                        .at(place, "a right of one person")
                        .help("give it to a group that the person is in"),
                    );
                }
            }
            // On clouds, in applications and on hosts there are no levels.
            let of_kinds = |wanted: fn(Kind) -> bool| links.systems.ones().any(|s| wanted(estate.system(SystemId::new(s)).kind()));
            let wants_band = of_kinds(|k| k == Kind::NetworkDevice) || !of_kinds(|k| k.is_service() || k == Kind::Host);
            if wants_band && self.engine.standing(AssignmentId::new(i)).1.band.is_none() {
                self.findings.push(
                    Finding::new(
                        Code::AssignmentWithoutBand,
                        "the roles of the assignment give no band, so nobody can open a session through it",
                    )
                    .at(links.entry.roles.first().map_or(place, |r| r.place), "no band")
                    .help("give one of the roles `band = { start = 1, ceiling = 1 }`"),
                );
            }
            if let (Some(at), Some((until, place))) = (self.at, links.conditions.until)
                && until <= at
            {
                self.push(
                    Finding::new(Code::Expired, format!("the assignment held until {until}"))
                        .at(place, "past")
                        .help("take it out, or extend the date"),
                );
            }
        }
        self.hidden_assignments();
    }

    /// An assignment is hidden when an earlier one without conditions reaches the same people on the same systems.
    fn hidden_assignments(&mut self) {
        let estate = &self.engine.estate;
        let mut pairs = 0;
        let firm: Vec<usize> = (0..estate.assignments.len()).filter(|&i| estate.assignments[i].conditions.is_empty()).collect();
        // Where assignments are added up, a later one gives what it gives.
        let on_devices = |a: &AssignmentLinks| !a.systems.is_clear() && a.systems.ones().all(|s| estate.is_device(SystemId::new(s)));
        for (later, links) in estate.assignments.iter().enumerate().filter(|(_, a)| on_devices(a)) {
            for &earlier in firm.iter().take_while(|&&e| e < later) {
                pairs += 1;
                if pairs > MAX_PAIRS {
                    return;
                }
                let first = &estate.assignments[earlier];
                let covers = |party: Party| first.to.iter().any(|&(p, _)| p == party || self.contains(p, party));
                if links.systems.is_subset(&first.systems) && links.to.iter().all(|&(p, _)| covers(p)) {
                    self.findings.push(
                        Finding::new(Code::AssignmentHidden, "the assignment never applies: an earlier one decides in every case")
                            .at(links.entry.place, "never reached")
                            .also(first.entry.place, "this one comes first, has no conditions, and decides alone")
                            .help("give the earlier one conditions, or this one a lower `rank`"),
                    );
                    break;
                }
            }
        }
    }

    /// Returns whether everybody of `inner` is in the group `outer`.
    fn contains(&self, outer: Party, inner: Party) -> bool {
        let Party::Group(outer) = outer else { return false };
        match inner {
            Party::User(user) => self.engine.membership.belongs(user, Party::Group(outer)),
            Party::Group(group) => self.engine.membership.is_below(group, outer),
        }
    }
}

/// Command sets and sessions
impl Review<'_> {
    fn rules(&mut self) {
        let engine = self.engine;
        for (i, compiled) in engine.sets.iter().enumerate() {
            let links = &engine.estate.sets[i];
            let patterns: Vec<&Pattern> = links.rules.iter().map(|r| &*r.pattern).collect();
            for (rule, hiding) in hidden_rules(&engine.alphabet, &compiled.automaton, &patterns) {
                let hidden = &links.rules[rule as usize];
                if hidden.home != SetId::new(i) {
                    continue; // It is reported where it is written, or it matters in another set.
                }
                let mut finding = Finding::new(
                    Code::RuleHidden,
                    format!("the rule `{} {}` never decides", hidden.verb.word(), visible(&hidden.text.value)),
                )
                .at(hidden.text.place, "every line it matches is decided before");
                for &other in hiding.iter().take(3) {
                    let first = &links.rules[other as usize];
                    finding = finding.also(first.text.place, format!("by `{} {}`", first.verb.word(), visible(&first.text.value)));
                }
                let contradicts = hiding.iter().any(|&r| links.rules[r as usize].verb != hidden.verb);
                self.findings.push(finding.help(if contradicts {
                    "move it before that rule if it is meant to bite, or take it out"
                } else {
                    "take it out; it changes nothing"
                }));
            }
        }
    }

    /// Looks at each pair of what an assignment gives and a system it covers, systems that are alike once.
    fn sessions(&mut self) {
        let engine = self.engine;
        let mut seen: FxHashSet<(usize, usize, u16, bool, Vec<u8>)> = FxHashSet::default();
        let mut vocabularies_of: FxHashMap<SetId, FxHashSet<usize>> = FxHashMap::default();
        let mut unreachable: FxHashMap<Place, (String, u8, usize)> = FxHashMap::default();
        let mut runnable: FxHashSet<Place> = FxHashSet::default();
        for (i, links) in engine.estate.assignments.iter().enumerate() {
            let (number, standing) = engine.standing(AssignmentId::new(i));
            for system in links.systems.ones().map(SystemId::new).filter(|s| engine.estate.is_device(*s)) {
                let device = &engine.devices[system.index()];
                let levels: Vec<u8> = engine.estate.systems[system.index()].levels.iter().map(|l| l.0).collect();
                if !seen.insert((number, device.vocabulary.index(), device.authorised_levels, device.authorises_configuration, levels)) {
                    continue;
                }
                for &set in &standing.sets {
                    vocabularies_of.entry(set).or_default().insert(device.vocabulary.index());
                }
                if standing.band.is_some() && !standing.sets.is_empty() {
                    self.session(number, standing, system, links.entry.place);
                    self.levels_of_rules(number, standing, system, &mut unreachable, &mut runnable);
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
        for (i, links) in engine.estate.systems.iter().enumerate() {
            for &set in links.accounts.iter().flat_map(|a| &a.sets) {
                vocabularies_of.entry(set).or_default().insert(engine.devices[i].vocabulary.index());
            }
        }
        self.narrow_denies(&vocabularies_of);
        self.rules_without_command(&vocabularies_of);
    }

    /// Finds denies that take fewer words than the vocabulary does in the same place, with a line that passes.
    fn narrow_denies(&mut self, vocabularies_of: &FxHashMap<SetId, FxHashSet<usize>>) {
        let engine = self.engine;
        let mut found: Vec<(Place, String, String)> = Vec::new();
        for (&set, vocabularies) in vocabularies_of {
            let (compiled, links) = (&engine.sets[set.index()], &engine.estate.sets[set.index()]);
            for rule in links.rules.iter().filter(|r| r.verb == RuleVerb::Deny) {
                let commands = vocabularies.iter().flat_map(|&v| &engine.vocabularies[v].commands);
                let passing = commands.filter_map(|c| widened(&rule.pattern, &c.pattern)).find_map(|wide| {
                    let wide = Automaton::build(&engine.alphabet, &[&wide]).ok()?;
                    let mut example = None;
                    explore(
                        &engine.alphabet,
                        &[&wide, &compiled.automaton],
                        |s| !is_dead(s[0]),
                        |states, line| {
                            let decided = compiled.automaton.accepted(states[1]);
                            let passes =
                                decided.map_or(compiled.otherwise == Otherwise::Allow, |r| compiled.verbs[r as usize] == RuleVerb::Allow);
                            // What an earlier rule lets through, the deny was never meant to catch.
                            let is_later = decided.is_none_or(|r| links.rules[r as usize].text.place > rule.text.place);
                            if wide.accepted(states[0]).is_some() && passes && is_later {
                                example = Some(crate::command::line::join(line.map(|s| engine.alphabet.example(s))));
                                return ControlFlow::Break(());
                            }
                            ControlFlow::Continue(())
                        },
                    );
                    example
                });
                if let Some(example) = passing {
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

    fn session(&mut self, number: usize, standing: &Standing, system: SystemId, place: Place) {
        let engine = self.engine;
        let vocabulary = engine.vocabulary_of(system);
        let device = &engine.devices[system.index()];
        let reach = engine.reach(number, system);
        let band = standing.band.expect("sessions are looked at only where there is a band");
        let place = standing.sets.first().map_or(place, |&s| engine.estate.set(s).id.place);
        let names =
            standing.sets.iter().map(|&s| format!("`{}`", visible(&engine.estate.set(s).id.value))).collect::<Vec<_>>().join(" and ");
        // Whether a command that does this can be run in a mode; nothing where the mode has none.
        let runs = |does: Does, mode: ModeId| {
            let mut commands = vocabulary.in_mode(mode).filter(|(_, c)| c.does == Some(does)).peekable();
            commands.peek()?;
            Some(commands.any(|(id, command)| {
                let levels = reach.levels_in(mode).into_iter().filter(|&l| l >= engine.own_level(system, id).0);
                let permitted = Instances::of(engine, &standing.sets, system, &command.pattern).allowed.is_some();
                levels.into_iter().any(|l| permitted || !device.authorises(l, mode))
            }))
        };
        let line_of = |does: Does| {
            let command = vocabulary.commands.iter().find(|c| c.does == Some(does));
            command.map_or(String::new(), |c| c.pattern.to_string())
        };
        if runs(Does::LeaveSession, vocabulary.start_mode) == Some(false) {
            self.findings.push(
                Finding::new(Code::CannotLeave, format!("a session with {names} cannot be left"))
                    .at(place, format!("`{}` is not permitted", line_of(Does::LeaveSession)))
                    .help(format!("add the rule \"allow {}\"", line_of(Does::LeaveSession))),
            );
        }
        if runs(Does::ShowLevel, vocabulary.start_mode) == Some(false) {
            self.findings.push(
                Finding::new(Code::CannotShowLevel, format!("a session with {names} cannot ask for its own level"))
                    .at(place, format!("`{}` is not permitted", line_of(Does::ShowLevel)))
                    .help(format!("add the rule \"allow {}\"", line_of(Does::ShowLevel))),
            );
        }
        for mode in (0..vocabulary.modes.len()).map(ModeId::new).filter(|&m| m != vocabulary.start_mode && !reach.levels_in(m).is_empty()) {
            let ways = [runs(Does::LeaveMode, mode), runs(Does::LeaveSession, mode)];
            if ways.contains(&Some(false)) && !ways.contains(&Some(true)) {
                self.findings.push(
                    Finding::new(
                        Code::CannotLeaveMode,
                        format!("a session with {names} cannot leave the mode `{}`", vocabulary.modes[mode.index()]),
                    )
                    .at(place, format!("`{}` is not permitted", line_of(Does::LeaveMode)))
                    .help(format!("add the rule \"allow {}\"", line_of(Does::LeaveMode))),
                );
            }
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
        self.elevations(standing, system, band.ceiling, band.ceiling_place);
    }

    /// A rule that names an elevation which the ceiling forbids; one that permits everything is not meant that way.
    fn elevations(&mut self, standing: &Standing, system: SystemId, ceiling: u8, ceiling_place: Place) {
        let engine = self.engine;
        let vocabulary = engine.vocabulary_of(system);
        let device = &engine.devices[system.index()];
        let mut seen = FxHashSet::default();
        for index in (0..vocabulary.commands.len()).filter(|&i| vocabulary.commands[i].does == Some(Does::Elevate)) {
            for (to, line) in elevations(engine, system, CommandId::new(index), ceiling) {
                let says = engine.sets_say(&standing.sets, device, &line);
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

    /// Finds rules all of whose commands need more than the session can reach.
    fn levels_of_rules(
        &self,
        number: usize,
        standing: &Standing,
        system: SystemId,
        unreachable: &mut FxHashMap<Place, (String, u8, usize)>,
        runnable: &mut FxHashSet<Place>,
    ) {
        let engine = self.engine;
        let vocabulary = engine.vocabulary_of(system);
        let reach = engine.reach(number, system);
        let top = |command: &crate::command::vocabulary::Command| command.modes.iter().flat_map(|&m| reach.levels_in(m)).max();
        for &set in &standing.sets {
            let compiled = &engine.sets[set.index()];
            let rules = &engine.estate.sets[set.index()].rules;
            // For each rule the lowest level that any of its commands takes, and whether one can be run.
            let mut needs: FxHashMap<u32, (u8, bool)> = FxHashMap::default();
            for (index, command) in vocabulary.commands.iter().enumerate() {
                let (own, _) = engine.own_level(system, CommandId::new(index));
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
            for (rule, (level, runs)) in needs {
                let rule = &rules[rule as usize];
                if rule.verb != RuleVerb::Allow {
                    continue;
                }
                if runs {
                    runnable.insert(rule.text.place);
                } else {
                    let text = format!("{} {}", rule.verb.word(), visible(&rule.text.value));
                    let ceiling = reach.levels().last().copied().unwrap_or(0);
                    unreachable.insert(rule.text.place, (text, level, usize::from(ceiling)));
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
        let known: Vec<Option<Automaton>> = engine
            .vocabularies
            .iter()
            .map(|v| Automaton::build(&engine.alphabet, &v.commands.iter().map(|c| &c.pattern).collect::<Vec<_>>()).ok())
            .collect();
        for (&set, vocabularies) in vocabularies_of {
            for (index, rule) in engine.estate.sets[set.index()].rules.iter().enumerate() {
                let Ok(own) = Automaton::build(&engine.alphabet, &[&rule.pattern]) else { continue };
                let meets = vocabularies.iter().filter_map(|&v| known[v].as_ref()).any(|vocabulary| {
                    let both = |s: &[u32]| !is_dead(s[0]) && !is_dead(s[1]);
                    let met = explore(&engine.alphabet, &[&own, vocabulary], both, |states, _| {
                        let is_met = own.accepted(states[0]).is_some() && vocabulary.accepted(states[1]).is_some();
                        if is_met { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
                    });
                    met != Explored::Fully
                });
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
}

/// Moments and people
impl Review<'_> {
    /// Returns whether one of some parties, or of their members, is neither disabled nor past the end.
    fn somebody_is_there(&self, parties: Vec<Party>) -> bool {
        self.engine.members(parties).any(|user| gone(self.engine.estate.user(user), self.at).is_none())
    }

    /// Hours over midnight beside days: the night belongs to the day on which it begins.
    fn nights(&mut self) {
        let estate = &self.engine.estate;
        let of_services = estate.services.iter().flatten().flat_map(|s| {
            let of_grants = s.grants.iter().flat_map(|g| std::iter::once(&g.when).chain(&g.lifted_by));
            of_grants.chain(s.ceilings.iter().map(|c| &c.when)).chain(s.acting.iter().map(|a| &a.when))
        });
        let of_roles = estate.roles.iter().filter_map(|r| r.assumable.as_ref()).map(|a| &a.when);
        let of_assignments = estate.assignments.iter().map(|a| &a.conditions);
        for conditions in of_assignments.chain(of_services).chain(of_roles) {
            if let (Some((hours, place)), Some((_, days))) = (&conditions.hours, &conditions.days)
                && hours.is_over_midnight()
            {
                self.findings.push(
                    Finding::new(Code::NightOfDay, "the hours run over midnight, and what is after it counts for the day before")
                        .at(*place, "the night belongs to the day on which it begins")
                        .also(*days, "these days")
                        .help("with days = [\"fri\"] and hours = \"22:00-06:00\" it holds from Friday 22:00 to Saturday 06:00"),
                );
            }
        }
    }
}

/// Systems
impl Review<'_> {
    fn systems(&mut self) {
        let engine = self.engine;
        let estate = &engine.estate;
        let mut covered = fixedbitset::FixedBitSet::with_capacity(estate.systems.len());
        for links in &estate.assignments {
            covered.union_with(&links.systems);
        }
        for (i, system) in estate.entries.systems.iter().enumerate().filter(|(_, s)| s.kind() == Kind::NetworkDevice) {
            let id = SystemId::new(i);
            let (name, place) = (visible(&system.id.value), system.id.place);
            let device = &engine.devices[i];
            if !covered.contains(i) {
                self.push(
                    Finding::new(Code::SystemUncovered, format!("no assignment covers `{name}`"))
                        .at(place, "nobody can do anything here")
                        .help("compare its labels and place with the assignments"),
                );
            }
            self.accounts(id);
            if device.authorised_levels != 0 && !device.authorises_configuration && device.configuration_modes != 0 {
                let switch = system.authorisation.as_ref().map_or(place, |a| a.place);
                self.push(
                    Finding::new(Code::ConfigurationUnauthorised, format!("`{name}` does not authorise commands in configuration modes"))
                        .at(switch, "levels are authorised, configuration is not")
                        .help("set `configuration = true`: whoever gets into a configuration mode may do everything there"),
                );
            }
            self.levels(id);
        }
    }

    fn levels(&mut self, id: SystemId) {
        let engine = self.engine;
        let device = &engine.devices[id.index()];
        let system = engine.estate.system(id);
        let name = visible(&system.id.value);
        let switch = system.authorisation.as_ref().map_or(system.id.place, |a| a.place);
        let mut open = FxHashSet::default();
        let mut top = 0;
        let mut unasked: Option<Place> = None;
        for (i, links) in engine.estate.assignments.iter().enumerate().filter(|(_, a)| a.systems.contains(id.index())) {
            let (number, standing) = engine.standing(AssignmentId::new(i));
            let reach = engine.reach(number, id);
            let is_over = links.conditions.until.is_some_and(|(until, _)| self.at.is_some_and(|at| at >= until));
            if !is_over && self.somebody_is_there(links.to.iter().map(|&(p, _)| p).collect()) {
                top = top.max(reach.levels().last().copied().unwrap_or(0));
            }
            if let Some(&set) = standing.sets.first()
                && device.authorised_levels == 0
                && !device.authorises_configuration
            {
                unasked = unasked.or(Some(engine.estate.set(set).id.place));
            }
            if device.authorised_levels != 0 && !standing.sets.is_empty() && !links.to.is_empty() {
                let start = engine.vocabulary_of(id).start_mode;
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
        if top < 15 && engine.estate.assignments.iter().any(|a| a.systems.contains(id.index())) {
            self.push(
                Finding::new(Code::NobodyReachesTop, format!("nobody can reach level 15 on `{name}` while the central source is up"))
                    .at(system.id.place, format!("the highest level that can be reached is {top}"))
                    .help("assign a role with ceiling 15 here, or permit the elevation"),
            );
        }
    }

    fn accounts(&mut self, id: SystemId) {
        let engine = self.engine;
        let system = engine.estate.system(id);
        let links = &engine.estate.systems[id.index()].accounts;
        let device = &engine.devices[id.index()];
        let name = visible(&system.id.value);
        let asks_local = device.sources.contains(&IdentitySource::Local);
        let mut rescues = false;
        for (account, links) in system.accounts.iter().zip(links) {
            let (login, place) = (visible(&account.login.value), account.login.place);
            let is_open =
                !account.locked.as_ref().is_some_and(|l| l.value) && account.credential.as_ref().is_none_or(|c| c.value == Credential::Set);
            let own = engine.estate.user_ids.get(account.login.value.as_str());
            let is_used = !links.used_by.is_empty() || own.is_some();
            let people = links.used_by.iter().map(|&(p, _)| p).chain(own.map(|&u| Party::User(u))).collect();
            rescues |= is_open && self.somebody_is_there(people) && account.band.as_ref().is_some_and(|b| b.ceiling.value == 15);
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
        if asks_central && !(rescues && asks_local) {
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
}

/// A deny with its placeholders as wide as those of a command that has them in the same places, if that is wider.
fn widened(deny: &Pattern, command: &Pattern) -> Option<Pattern> {
    use crate::command::WordPattern::{Fixed, Slot};
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

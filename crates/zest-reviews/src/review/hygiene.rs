//! Findings about a ledger that is valid, but will surprise somebody.

use jiff::Timestamp;
use rustc_hash::{FxHashMap, FxHashSet};

use zest_command::Pattern;

use zest_command::automaton::{MAX_HIDDEN, hidden_rules};
use zest_engine::duties::clash;
use zest_engine::entry::gone;
use zest_engine::links::{AssignmentId, AssignmentLinks, Conditions, Party, RoleId, SetId, UserId};
use zest_engine::rules::Combining;
use zest_engine::{Candidate, Engine};
use zest_model::entries::Entries;
use zest_model::entry::RuleVerb;
use zest_model::finding::{Code, Finding, Findings};
use zest_model::source::{At, Place, visible};
use zest_words::skeleton;

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
    review.nights();
    super::gone::review(engine, at, &mut review.findings);
    review.findings.extend(crate::row::rows(engine).1.list().iter().cloned());
    super::repeated::review(engine, &mut review.findings);
    super::duties::review(engine, &mut review.findings);
    for kind in engine.estate().kinds().all() {
        kind.review(engine, at, &mut review.findings);
    }
    Findings::new(review.findings, std::sync::Arc::clone(engine.estate().shared_sources()))
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
        let estate = self.engine.estate();
        let mut folded: FxHashMap<String, Place> = FxHashMap::default();
        for (i, user) in estate.entries().users.iter().enumerate() {
            let id = UserId::new(i);
            let (name, place) = (visible(&user.id.value), user.id.place);
            let is_disabled = user.disabled.as_ref().is_some_and(|d| d.value);
            if user.proofs.is_empty() && !is_disabled {
                self.findings.push(
                    Finding::new(Code::UserWithoutProof, format!("`{name}` has no way to prove identity"))
                        .at(place, "signs in nowhere but with accounts that have credentials of their own")
                        .help("add `proofs = [\"password\"]` or another way, or disable the user"),
                );
            }
            let reaches = |c: &Candidate| !estate.assignment_links()[c.assignment.index()].systems.is_clear();
            if !self.engine.membership().candidates(id).iter().any(reaches)
                && !is_disabled
                && !estate.kinds().all().any(|kind| kind.reaches(self.engine, id))
            {
                self.findings.push(
                    Finding::new(Code::UserWithoutAssignment, format!("nothing is given to `{name}`: no assignment reaches any system"))
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
        let estate = self.engine.estate();
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
            sessions,
            expectations: _,
            promises: _,
            meant_ways: _,
            interfaces: _,
            outside: _,
        } = &estate.entries();
        let mut tables: Vec<Vec<&At<String>>> = vec![
            users.iter().map(|e| &e.id).collect(),
            groups.iter().map(|e| &e.id).collect(),
            origins.iter().map(|e| &e.id).collect(),
            systems.iter().map(|e| &e.id).collect(),
            vocabularies.iter().map(|e| &e.id).collect(),
            command_sets.iter().map(|e| &e.id).collect(),
            roles.iter().map(|e| &e.id).collect(),
            separations.iter().map(|e| &e.id).collect(),
            sessions.iter().map(|e| &e.id).collect(),
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
        let estate = self.engine.estate();
        let at = self.at;
        let is_gone = |user: UserId| gone(estate.user(user), at).is_some();
        for (entry, links) in estate.entries().groups.iter().zip(estate.group_links()) {
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
        let estate = self.engine.estate();
        let mut used: FxHashSet<usize> = estate.assignment_links().iter().flat_map(|a| a.roles.iter().map(|r| r.index())).collect();
        used.extend(estate.role_links().iter().flat_map(|r| r.includes.iter().map(|i| i.index())));
        used.extend((0..estate.role_links().len()).filter(|&i| estate.role_links()[i].assumable.is_some()));
        for (i, role) in estate.entries().roles.iter().enumerate() {
            let (name, place) = (visible(&role.id.value), role.id.place);
            if !used.contains(&i) {
                self.push(
                    Finding::new(Code::RoleUnassigned, format!("the role `{name}` is never assigned"))
                        .at(place, "no assignment and no other role uses it")
                        .help("assign it, or take it out"),
                );
            }
            let gives = !role.grants.is_empty() || estate.kinds().all().any(|kind| kind.grants_to(self.engine, RoleId::new(i)));
            if role.band.is_none() && role.commands.is_empty() && role.includes.is_empty() && !gives {
                self.push(
                    Finding::new(Code::EmptyRole, format!("the role `{name}` gives nothing"))
                        .at(place, "neither band nor commands nor grants"),
                );
            }
        }
        let of_kinds = estate.kinds().all().flat_map(|kind| kind.sets(self.engine));
        let used: FxHashSet<SetId> = estate.role_links().iter().flat_map(|r| &r.sets).copied().chain(of_kinds).collect();
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
        let estate = self.engine.estate();
        for (i, links) in estate.assignment_links().iter().enumerate() {
            let place = links.entry.place;
            if links.systems.is_clear() {
                let finding = Finding::new(Code::AssignmentCoversNothing, "the assignment covers no system")
                    .at(links.entry.on.place.unwrap_or(place), "no system fits")
                    .help("all parts of `on` must fit; compare labels and places with the systems");
                self.push_of_assignment(finding, i);
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
            // Where rights are added up there are no levels.
            let on = |wanted: Combining| links.systems.ones().any(|s| estate.declared()[s].kind.combining() == wanted);
            let wants_band = on(Combining::FirstApplicable) || !on(Combining::AddedUp);
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
            if let (Some(at), Some((until, place))) = (self.at, links.conditions.until())
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
        let estate = self.engine.estate();
        let mut pairs = 0;
        let firm: Vec<usize> =
            (0..estate.assignment_links().len()).filter(|&i| estate.assignment_links()[i].conditions.is_empty()).collect();
        // Where assignments are added up, a later one gives what it gives.
        let first_decides = |s: usize| estate.declared()[s].kind.combining() == Combining::FirstApplicable;
        let on_devices = |a: &AssignmentLinks| !a.systems.is_clear() && a.systems.ones().all(first_decides);
        for (later, links) in estate.assignment_links().iter().enumerate().filter(|(_, a)| on_devices(a)) {
            for &earlier in firm.iter().take_while(|&&e| e < later) {
                pairs += 1;
                if pairs > MAX_PAIRS {
                    return;
                }
                let first = &estate.assignment_links()[earlier];
                let covers = |party: Party| first.to.iter().any(|&(p, _)| p == party || self.contains(p, party));
                if links.systems.is_subset(&first.systems) && links.to.iter().all(|&(p, _)| covers(p)) {
                    let finding =
                        Finding::new(Code::AssignmentHidden, "the assignment never applies: an earlier one decides in every case")
                            .at(links.entry.place, "never reached")
                            .also(first.entry.place, "this one comes first, has no conditions, and decides alone")
                            .help("give the earlier one conditions, or this one a lower `rank`");
                    self.push_of_assignment(finding, later);
                    break;
                }
            }
        }
    }

    /// Adds that an assignment does nothing where it says so, and what it does all the same: its roles are held, and so may not be held
    /// with others.
    fn push_of_assignment(&mut self, finding: Finding, number: usize) {
        let estate = self.engine.estate();
        let place = estate.assignment_links()[number].entry.place;
        let roles: Vec<_> = self.engine.standing(AssignmentId::new(number)).1.roles().iter().map(|&role| (role, place)).collect();
        let mut lasting = estate.separation_links().iter().filter(|separation| !separation.when_active);
        let apart = lasting.find_map(|apart| Some((apart.place, clash(apart, &roles).first()?.0)));
        self.push(match apart {
            None => finding,
            Some((place, role)) => {
                let name = visible(&estate.role(role).id.value);
                finding.also(place, format!("whom it names holds `{name}` all the same, which is kept apart here"))
            }
        });
    }

    /// Returns whether everybody of `inner` is in the group `outer`.
    fn contains(&self, outer: Party, inner: Party) -> bool {
        let Party::Group(outer) = outer else { return false };
        match inner {
            Party::User(user) => self.engine.membership().belongs(user, Party::Group(outer)),
            Party::Group(group) => self.engine.membership().is_below(group, outer),
        }
    }
}

/// Command sets and sessions
impl Review<'_> {
    fn rules(&mut self) {
        let engine = self.engine;
        for (i, compiled) in engine.compiled_sets().iter().enumerate() {
            let links = &engine.estate().set_links()[i];
            let patterns: Vec<&Pattern> = links.rules.iter().map(|r| &*r.pattern).collect();
            for (rule, hiding) in hidden_rules(engine.alphabet(), &compiled.automaton, &patterns) {
                let hidden = &links.rules[rule as usize];
                if hidden.home != SetId::new(i) {
                    continue; // It is reported where it is written, or it matters in another set.
                }
                let mut finding = Finding::new(
                    Code::RuleHidden,
                    format!("the rule `{} {}` never decides", hidden.verb.word(), visible(&hidden.text.value)),
                )
                .at(hidden.text.place, "every line it matches is decided before");
                let Some(hiding) = hiding else {
                    self.findings.push(finding.help(format!(
                        "{MAX_HIDDEN} such rules stand before it, so it was not found out by which rule: move it before that one, or take it out"
                    )));
                    continue;
                };
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
}

/// Moments and people
impl Review<'_> {
    fn nights(&mut self) {
        let estate = self.engine.estate();
        let of_roles = estate.role_links().iter().filter_map(|r| r.assumable.as_ref()).map(|a| &a.when);
        let nights = estate.assignment_links().iter().map(|a| &a.conditions).chain(of_roles).filter_map(Conditions::night_of_day);
        self.findings.extend(nights);
    }
}

//! A validated ledger: every reference followed, every pattern read. It does not change any more.

use std::sync::Arc;

use super::rules::{Kind, Kinds};
use crate::links::{
    AssignmentLinks, CredentialRuleLinks, Ground, GroupId, GroupLinks, Names, Party, Resolver, RoleId, RoleLinks, SeparationLinks, SetId,
    SetLinks, SystemId, UserId, VocabularyId, VocabularyLinks,
};
use zest_model::entries::Entries;
use zest_model::entry;
use zest_model::finding::{Code, Finding, Severity};
use zest_model::source::{SourceMap, visible};
use zest_model::table::{Kept, Table};

/// A validated ledger.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, entry::{System, Unrestricted, User, Vocabulary, Command}};
/// let estate = Ledger::new()
///     .user(User::new("watch-1"))
///     .vocabulary(Vocabulary::new("corvane-os").command(Command::new("show release")))
///     .system(System::network_device("sw-1", "corvane-os", Unrestricted::Nothing))
///     .estate()?;
/// assert_eq!(estate.users().len(), 1);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug)]
pub struct Estate {
    pub(crate) kinds: Kinds,
    pub(crate) sources: Arc<SourceMap>,
    pub(crate) entries: Entries,
    pub(crate) names: Arc<Names>,
    pub(crate) groups: Table<Arc<GroupLinks>>,
    /// What the kind of each system made of what is written of it.
    pub(crate) systems: Table<Declared>,
    pub(crate) vocabularies: Arc<[VocabularyLinks]>,
    pub(crate) sets: Table<Arc<SetLinks>>,
    pub(crate) roles: Table<Arc<RoleLinks>>,
    pub(crate) separations: Arc<[SeparationLinks]>,
    pub(crate) credential_rules: Arc<[CredentialRuleLinks]>,
    /// By rank, then as written.
    pub(crate) assignments: Table<Arc<AssignmentLinks>>,
}

/// A system with its references followed.
///
/// # Example
/// ```
/// use zest_ledger::kind::Declared;
/// // What needs all systems of a kind at once.
/// fn are_several(systems: &[Declared]) -> bool {
///     systems.len() > 1
/// }
/// assert!(!are_several(&[]));
/// ```
#[derive(Clone, Debug)]
pub struct Declared {
    #[doc(hidden)]
    pub kind: &'static dyn Kind,
    pub(crate) links: Kept,
}

/// Returns whether no finding is an error.
pub(super) fn is_sound(findings: &[Finding]) -> bool {
    findings.iter().all(|finding| finding.severity() != Severity::Error)
}

impl Estate {
    /// Follows all references; the result is good for use only if no finding is an error.
    #[doc(hidden)]
    pub fn resolve(kinds: Kinds, sources: Arc<SourceMap>, entries: Entries, findings: &mut Vec<Finding>) -> Option<Self> {
        let beside: Option<fn(Ground<'_>)> = None;
        Self::resolve_beside(kinds, sources, entries, findings, beside).map(|(estate, _)| estate)
    }

    /// As [`resolve`](Self::resolve), and makes something of command sets and vocabularies on another thread while references of
    /// systems are followed; nothing where there was an error before.
    pub(super) fn resolve_beside<T: Send>(
        kinds: Kinds,
        sources: Arc<SourceMap>,
        mut entries: Entries,
        findings: &mut Vec<Finding>,
        beside: Option<impl FnOnce(Ground<'_>) -> T + Send>,
    ) -> Option<(Self, Option<T>)> {
        let is_empty = entries.users.is_empty() && entries.groups.is_empty() && entries.systems.is_empty() && entries.roles.is_empty();
        if is_empty
            && entries.vocabularies.is_empty()
            && entries.command_sets.is_empty()
            && entries.assignments.is_empty()
            && entries.databases.is_empty()
            && entries.services.is_empty()
            && entries.hosts.is_empty()
            && entries.outside.is_empty()
        {
            findings.push(
                Finding::new(Code::EmptyLedger, "the ledger declares nothing")
                    .help("a ledger is a folder with at least one `*.toml` document in it"),
            );
            return None;
        }
        if entries.systems.is_empty() {
            findings.push(
                Finding::new(Code::NoSystem, "the ledger declares no system, so there is nothing to ask about")
                    .help("declare one: [systems.ID] with kind, vocabulary and no-command-set"),
            );
        }
        // The order in which assignments are tried: by rank, then as written.
        entries.assignments.sort_by_key(|a| a.rank.as_ref().map_or(entry::Assignment::DEFAULT_RANK, |r| r.value));
        let names = Names::of(&entries, findings);
        let mut resolver = Resolver { names: &names, findings };
        let groups = resolver.groups(&entries);
        let vocabularies: Vec<VocabularyLinks> = entries.vocabularies.iter().map(|v| resolver.vocabulary(v)).collect();
        let sets = resolver.sets(&entries);
        let roles = resolver.roles(&entries);
        let is_sound = is_sound(resolver.findings);
        let ground = Ground { entries: &entries, vocabularies: &vocabularies, sets: &sets, sets_before: None };
        let declare = |(i, system): (usize, &Arc<entry::System>)| {
            let kind = kinds.rules_of(system.kind());
            let passed_over = system.keys_of_some_kinds().into_iter().filter(|(key, _)| !kind.looks_at(*key));
            resolver.findings.extend(passed_over.map(|(key, place)| {
                let (shown, word) = (visible(&system.id.value), system.kind().word());
                Finding::new(Code::UnknownKey, format!("`{}` of `{shown}` means nothing on a system of the kind `{word}`", key.word()))
                    .at(place, "not looked at here")
                    .help("take it out, or write what the kind has for it")
            }));
            Declared { kind, links: kind.resolve(&mut resolver, ground, SystemId::new(i)) }
        };
        let beside = beside.filter(|_| is_sound);
        let (mut systems, made) = std::thread::scope(|scope| {
            let other = beside.map(|beside| scope.spawn(move || beside(ground)));
            let systems: Vec<Declared> = entries.systems.iter().enumerate().map(declare).collect();
            (systems, other.map(|other| other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))))
        });
        for kind in kinds.all() {
            kind.complete(&mut resolver, ground, &mut systems);
        }
        let assignments = entries.assignments.iter().map(|a| Arc::new(resolver.assignment(a, &entries))).collect();
        let credential_rules = entries.credential_rules.iter().map(|r| CredentialRuleLinks {
            of: resolver.parties(&r.of),
            shortest: r.shortest.clone(),
            oldest_days: r.oldest_days.clone(),
        });
        let credential_rules = credential_rules.collect();
        let separations = entries.separations.iter().map(|s| resolver.separation(s)).collect();
        let estate = Self {
            kinds,
            sources,
            entries,
            names: Arc::new(names),
            groups: groups.into_iter().map(Arc::new).collect(),
            systems: systems.into_iter().collect(),
            vocabularies: vocabularies.into(),
            sets,
            roles: roles.into_iter().map(Arc::new).collect(),
            separations,
            credential_rules,
            assignments,
        };
        Some((estate, made))
    }

    /// Returns what command sets and vocabularies are compiled of.
    pub(super) fn ground(&self) -> Ground<'_> {
        Ground { entries: &self.entries, vocabularies: &self.vocabularies, sets: &self.sets, sets_before: None }
    }
}

/// What other crates of the core look at
impl Estate {
    /// Returns all entries, as written.
    #[doc(hidden)]
    #[must_use]
    pub fn entries(&self) -> &Entries {
        &self.entries
    }

    /// Returns the kinds that the ledger may speak of.
    #[doc(hidden)]
    #[must_use]
    pub fn kinds(&self) -> &Kinds {
        &self.kinds
    }

    /// Returns the numbers of entries by their ids.
    #[doc(hidden)]
    #[must_use]
    pub fn names(&self) -> &Names {
        &self.names
    }

    /// Returns what the kind of each system made of what is written of it.
    #[doc(hidden)]
    #[must_use]
    pub fn declared(&self) -> &Table<Declared> {
        &self.systems
    }

    /// Returns the groups with their references followed.
    #[doc(hidden)]
    #[must_use]
    pub fn group_links(&self) -> &Table<Arc<GroupLinks>> {
        &self.groups
    }

    /// Returns the roles with their references followed.
    #[doc(hidden)]
    #[must_use]
    pub fn role_links(&self) -> &Table<Arc<RoleLinks>> {
        &self.roles
    }

    /// Returns the assignments with their references followed, in the order in which they are tried.
    #[doc(hidden)]
    #[must_use]
    pub fn assignment_links(&self) -> &Table<Arc<AssignmentLinks>> {
        &self.assignments
    }

    /// Returns the command sets with their references followed.
    #[doc(hidden)]
    #[must_use]
    pub fn set_links(&self) -> &Table<Arc<SetLinks>> {
        &self.sets
    }

    /// Returns the vocabularies with their patterns read.
    #[doc(hidden)]
    #[must_use]
    pub fn vocabulary_links(&self) -> &[VocabularyLinks] {
        &self.vocabularies
    }

    /// Returns the documents, to keep.
    #[doc(hidden)]
    #[must_use]
    pub fn shared_sources(&self) -> &Arc<SourceMap> {
        &self.sources
    }

    /// Returns the separations with their references followed.
    #[doc(hidden)]
    #[must_use]
    pub fn separation_links(&self) -> &[SeparationLinks] {
        &self.separations
    }

    /// Returns the rules for credentials with their references followed.
    #[doc(hidden)]
    #[must_use]
    pub fn credential_rule_links(&self) -> &[CredentialRuleLinks] {
        &self.credential_rules
    }
}

/// Queries
impl Estate {
    /// Returns the documents the estate was read from.
    #[must_use]
    pub fn sources(&self) -> &SourceMap {
        &self.sources
    }

    /// Returns the users, as written.
    #[must_use]
    pub fn users(&self) -> &Table<Arc<entry::User>> {
        &self.entries.users
    }

    /// Returns the groups, as written.
    #[must_use]
    pub fn groups(&self) -> &Table<Arc<entry::Group>> {
        &self.entries.groups
    }

    /// Returns the systems, as written.
    #[must_use]
    pub fn systems(&self) -> &Table<Arc<entry::System>> {
        &self.entries.systems
    }

    /// Returns what database servers hold, as written.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// assert_eq!(engine.estate().databases().iter().count(), 0);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn databases(&self) -> &Table<Arc<entry::Database>> {
        &self.entries.databases
    }

    /// Returns what clouds and applications hold, as written.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// assert_eq!(engine.estate().services().iter().map(|service| service.types.len()).sum::<usize>(), 1);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn services(&self) -> &Table<Arc<entry::Service>> {
        &self.entries.services
    }

    /// Returns its promises.
    #[must_use]
    pub fn promises(&self) -> &Table<Arc<entry::Promise>> {
        &self.entries.promises
    }

    /// Returns its expectations.
    #[must_use]
    pub fn expectations(&self) -> &Table<Arc<entry::Expectation>> {
        &self.entries.expectations
    }

    /// Returns the roles, as written.
    #[must_use]
    pub fn roles(&self) -> &Table<Arc<entry::Role>> {
        &self.entries.roles
    }

    /// Returns the command sets, as written.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// let estate = Ledger::new().document("sets.toml", "command-sets.trace-only.rules = ['allow show ...']\nsystems.rota.kind = 'application'\n").estate()?;
    /// assert_eq!(estate.command_sets().iter().next().map(|set| set.rules.len()), Some(1));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn command_sets(&self) -> &Table<Arc<entry::CommandSet>> {
        &self.entries.command_sets
    }

    /// Returns the vocabularies, as written.
    #[must_use]
    pub fn vocabularies(&self) -> &Table<Arc<entry::Vocabulary>> {
        &self.entries.vocabularies
    }

    /// Returns the assignments in the order in which they are tried: by rank, then as written.
    #[must_use]
    pub fn assignments(&self) -> &Table<Arc<entry::Assignment>> {
        &self.entries.assignments
    }

    /// Returns what a kind made of a system; nothing for systems of other kinds.
    #[doc(hidden)]
    pub fn links<T: 'static>(&self, id: SystemId) -> Option<&T> {
        self.systems.get(id.index())?.links.downcast_ref()
    }

    /// Returns what a kind made of each of its systems.
    pub(crate) fn all_links<T: 'static>(&self) -> impl Iterator<Item = (SystemId, &T)> {
        (0..self.systems.len()).map(SystemId::new).filter_map(|id| Some((id, self.links(id)?)))
    }

    /// Returns a user as written.
    pub fn user(&self, id: UserId) -> &entry::User {
        &self.entries.users[id.index()]
    }

    /// Returns a group as written.
    pub fn group(&self, id: GroupId) -> &entry::Group {
        &self.entries.groups[id.index()]
    }

    /// Returns a system as written.
    pub fn system(&self, id: SystemId) -> &entry::System {
        &self.entries.systems[id.index()]
    }

    /// Returns a command set as written.
    pub fn set(&self, id: SetId) -> &entry::CommandSet {
        &self.entries.command_sets[id.index()]
    }

    /// Returns a role as written.
    pub fn role(&self, id: RoleId) -> &entry::Role {
        &self.entries.roles[id.index()]
    }

    /// Returns a vocabulary as written.
    pub fn vocabulary(&self, id: VocabularyId) -> &entry::Vocabulary {
        &self.entries.vocabularies[id.index()]
    }

    /// Writes a party as a reference does: `user:watch-1`.
    #[must_use]
    pub fn party(&self, party: Party) -> String {
        match party {
            Party::User(id) => format!("user:{}", self.user(id).id.value),
            Party::Group(id) => format!("group:{}", self.group(id).id.value),
        }
    }
}

//! The compiled estate: what a decision looks up instead of working it out.

mod acting;
mod build;
mod cache;
pub mod classes;
pub mod conditions;
pub mod duties;
pub mod entry;
mod estate;
mod layer;
mod membership;
pub mod missing;
pub mod named;
mod nothing;
pub mod obligations;
pub mod prepared;
mod remedy;
pub mod rights;
pub mod rules;
mod standing;
pub mod trace;
pub mod ways;

use std::hash::Hasher as _;
use std::sync::{Arc, OnceLock};

use jiff::Timestamp;
use rustc_hash::{FxHashMap, FxHashSet, FxHasher};

use crate::engine::rules as kind;
use crate::engine::rules::Site;
use crate::engine::trace::Trace;
use crate::links::{AssignmentId, Duties, Facts, GroupId, Party, RoleId, SetId, SystemId, UserId, VocabularyId};
use crate::vocabulary::Vocabulary;
use zest_command::alphabet::{Alphabet, Symbol};
use zest_command::automaton::Automaton;
use zest_model::ask::{Answer, Decision, Question, RuleRef, Session, Width};
use zest_model::entry::{Otherwise, RuleVerb, Unrestricted};
use zest_model::table::{Kept, Table};
use zest_words::{hash_without_case, same_but_for_case};

pub(crate) use cache::Cache;
pub use estate::{Declared, Estate};
pub use layer::Rows;
pub use membership::Candidate;
pub(crate) use membership::Membership;
use remedy::able;
pub use remedy::remedies;
pub(crate) use standing::{LevelBand, Standing};

/// An estate ready to decide. A copy shares everything.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, ask::Verdict};
/// let estate = Ledger::new().document("demo.toml", r#"
/// [users.watch-1]
/// proofs = ["password"]
/// [vocabularies.corvane-os]
/// commands = [{ line = "show release" }]
/// [systems.sw-1]
/// kind = "network-device"
/// vocabulary = "corvane-os"
/// no-command-set = "everything"
/// [roles.reader]
/// band = { start = 1, ceiling = 1 }
/// [[assignments]]
/// to = ["user:watch-1"]
/// roles = ["reader"]
/// on = { systems = ["sw-1"] }
/// "#).estate()?;
/// let engine = Engine::compile(estate)?;
/// let answer = engine.ask(&Question::new("watch-1", "sw-1", "sh rel"));
/// assert_eq!(answer.verdict, Verdict::Allowed);
/// assert_eq!(answer.full_line.as_deref(), Some("show release"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug)]
pub struct Engine {
    pub(crate) estate: Estate,
    pub(crate) alphabet: Arc<Alphabet>,
    pub(crate) sets: Table<Arc<CompiledSet>>,
    pub(crate) vocabularies: Arc<[Vocabulary]>,
    /// What the kind of each system made of it for decisions.
    pub(crate) systems: Table<Kept>,
    pub(crate) membership: Membership,
    pub(crate) standings: Arc<Vec<Standing>>,
    standing_of: Table<usize>,
    /// Users by their names without case, found out when it is first asked for; no change adds a user.
    without_case: Arc<OnceLock<FxHashMap<u64, Vec<UserId>>>>,
    pub(crate) cache: Arc<Cache>,
}

/// The ledger that was in force when a session was opened.
///
/// # Example
/// ```
/// use zest_ledger::{Before, Ledger};
/// let then = Ledger::new().document("rota.toml", "systems.rota.kind = 'application'\n").engine(1)?;
/// let before = Before { label: "last-week/", ..Before::new(&then) }.at("2026-11-20T08:00:00Z".parse().expect("a moment"));
/// assert!(before.at.is_some() && std::ptr::eq(before.engine, &then));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug)]
pub struct Before<'e> {
    /// The ledger, ready to decide.
    pub engine: &'e Engine,
    /// When the session was opened, where that is known.
    pub at: Option<Timestamp>,
    /// What stands before the names of its documents where they are cited, so that they are not taken for those of now: `last-week/`.
    pub label: &'e str,
}

impl<'e> Before<'e> {
    /// Takes a session that was opened under a ledger; when, is not known.
    #[must_use]
    pub const fn new(engine: &'e Engine) -> Self {
        Self { engine, at: None, label: "" }
    }

    /// The same, opened at a moment.
    #[must_use]
    pub const fn at(self, at: Timestamp) -> Self {
        Self { at: Some(at), ..self }
    }
}

/// A command set and its automaton.
#[derive(Debug)]
pub struct CompiledSet {
    pub automaton: Automaton,
    pub(crate) rules: Vec<CompiledRule>,
    pub(crate) otherwise: Otherwise,
}

/// What a decision reads of a rule.
#[derive(Clone, Copy, Debug)]
pub(crate) struct CompiledRule {
    pub(crate) verb: RuleVerb,
    /// Whether it wants something done first.
    pub(crate) asks: bool,
    /// What tells it from others in all engines.
    meaning: u64,
}

/// What the command sets of a session say about a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SetVerdict {
    /// A rule permits it.
    Allowed(RuleRef),
    /// A rule refuses it.
    Denied(RuleRef),
    /// No rule matches, and a set permits all other lines.
    AllowedOtherwise(SetId),
    /// No rule matches.
    DeniedOtherwise,
    /// No set is attached, and the device states that everything is permitted then.
    Unrestricted,
    /// No set is attached, and the device states that nothing is permitted then.
    NoSet,
}

impl SetVerdict {
    pub(crate) const fn is_allowed(self) -> bool {
        matches!(self, Self::Allowed(_) | Self::AllowedOtherwise(_) | Self::Unrestricted)
    }

    pub(crate) const fn rule(self) -> Option<RuleRef> {
        match self {
            Self::Allowed(rule) | Self::Denied(rule) => Some(rule),
            _ => None,
        }
    }
}

/// Asking
impl Engine {
    /// Returns what a kind made of a system; nothing for systems of other kinds.
    #[doc(hidden)]
    pub fn state<T: 'static>(&self, system: SystemId) -> Option<&T> {
        self.systems.get(system.index())?.downcast_ref()
    }

    /// Returns the system of a name.
    #[must_use]
    pub fn site(&self, name: &str) -> Option<Site<'_>> {
        self.site_of(*self.estate.names.systems.get(name)?)
    }

    /// Returns all systems, in the order in which they are written.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// let text = "systems.rota.kind = 'application'\nsystems.runner-1 = { kind = 'host', no-command-set = 'nothing' }\n";
    /// let engine = Ledger::new().document("systems.toml", text).engine(1)?;
    /// assert_eq!(engine.all_sites().count(), 2);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub fn all_sites(&self) -> impl Iterator<Item = Site<'_>> {
        (0..self.systems.len()).map(SystemId::new).map(|system| Site { engine: self, system })
    }

    /// Returns the system of a number; nothing for a number of another engine that this one has not.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// let text = "systems.rota.kind = 'application'\nsystems.runner-1 = { kind = 'host', no-command-set = 'nothing' }\n";
    /// let engine = Ledger::new().document("systems.toml", text).engine(1)?;
    /// let rota = engine.site("rota").expect("it is there").system();
    /// assert_eq!(engine.site_of(rota).expect("of its number").entry().id.value, "rota");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn site_of(&self, system: SystemId) -> Option<Site<'_>> {
        (system.index() < self.systems.len()).then_some(Site { engine: self, system })
    }

    /// Returns the systems of a kind.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, entry::Kind};
    /// let text = "systems.rota.kind = 'application'\nsystems.runner-1 = { kind = 'host', no-command-set = 'nothing' }\n";
    /// let engine = Ledger::new().document("systems.toml", text).engine(1)?;
    /// let hosts: Vec<_> = engine.sites(Kind::HOST).map(|site| site.entry().id.value.as_str()).collect();
    /// assert_eq!(hosts, ["runner-1"]);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub fn sites<'e>(&'e self, word: zest_model::entry::Kind) -> impl Iterator<Item = Site<'e>> {
        self.all_sites().filter(move |site| site.entry().kind() == word)
    }

    /// Returns what a kind made of each of its systems.
    #[doc(hidden)]
    pub fn states<T: 'static>(&self) -> impl Iterator<Item = (SystemId, &T)> {
        (0..self.systems.len()).map(SystemId::new).filter_map(|id| Some((id, self.state(id)?)))
    }

    /// Returns the estate.
    #[must_use]
    pub const fn estate(&self) -> &Estate {
        &self.estate
    }

    /// Decides without explaining.
    ///
    /// # Complexity
    /// On a device: two look-ups by name, one step a word of the line and set, and the assignments of the user that cover
    /// the system; neither the number of users nor that of rules enters. On a cloud and in an application the grants of
    /// the user's groups and roles on the path's containers are looked at one by one; on a host the rules of the account,
    /// in order; for a statement every view and routine that it reaches, with their texts.
    #[must_use]
    pub fn decide(&self, question: &Question) -> Decision {
        kind::evaluate(self, question, &mut Trace::silent())
    }

    /// Answers with every gate that had a say, and for a refusal with remedies that were tried.
    ///
    /// Where the question states no time, a remedy may be about any moment; [`ask_at`](Self::ask_at) knows what time it is.
    #[must_use]
    pub fn ask(&self, question: &Question) -> Answer {
        self.answered(question, None)
    }

    /// Answers as [`ask`](Self::ask) does, and offers no remedy that lies before a moment: the one at which it is asked.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, Question};
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
    /// let now = "2026-05-04T08:00:00Z".parse().expect("a moment");
    /// let answer = engine.ask_at(&Question::new("mate-2", "rota", "plan on shift/early"), now);
    /// assert!(answer.now == Some(now) && !answer.remedies.is_empty());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn ask_at(&self, question: &Question, now: Timestamp) -> Answer {
        self.answered(question, Some(now))
    }

    fn answered(&self, question: &Question, now: Option<Timestamp>) -> Answer {
        let mut answer = self.explained(question);
        answer.now = answer.now.or(now);
        answer.sought = true;
        if answer.refusal.is_some() {
            answer.remedies = remedies(self, &answer);
            if answer.remedies.iter().all(|r| r.width > Width::Narrow) {
                answer.able = able(self, &answer);
            }
        }
        answer.cover();
        answer
    }

    /// Answers whether a session can be opened; the line of the question is not looked at.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, Question, ask::Verdict};
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
    /// assert_eq!(engine.sign_in(&Question::new("mate-2", "rota", "")).verdict, Verdict::Allowed);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn sign_in(&self, question: &Question) -> Answer {
        let mut trace = Trace::explaining();
        kind::sign_in(self, question, &mut trace);
        let mut answer = trace.into_answer(question, self);
        answer.full_line = None;
        answer.cover();
        answer
    }

    /// Answers about a session that was opened earlier, when another ledger was in force, and is still open; without remedies.
    ///
    /// Such a session was let in by the ledger as it was then. Of that it keeps what the system does not look at again, which each kind
    /// says ([`Kind::decide_opened`](rules::Kind::decide_opened)), and for the rest this ledger holds. The ledger is taken to be what the
    /// system has: what was changed and never rolled out bites nobody.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Before, Engine, Ledger, Question, ask::{Refusal, Verdict}};
    /// let points = |accounts: &str| Ledger::new().document("points.toml", &format!(r#"
    /// users.purser-1.proofs = ["password"]
    /// systems.points.kind = "mariadb"
    /// [databases.points]
    /// {accounts}
    /// objects."table points.member" = {{ columns = {{ id = "int" }} }}
    /// "#)).engine(1);
    /// let then = points(r#"accounts."purser-1@%" = {}
    /// grants = [{ allow = ["select"], on = "everything", to = ["purser-1@%"] }]"#)?;
    /// let now = points(r#"accounts."purser-1@%" = { locked = true }"#)?;
    /// let question = Question::new("purser-1", "points", "select on table points.member");
    /// assert_eq!(now.ask(&question).refusal, Some(Refusal::AccountLocked));
    /// // A session that is open keeps what it held on everything.
    /// assert_eq!(now.ask_opened(&Before::new(&then), &question).verdict, Verdict::Allowed);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn ask_opened(&self, before: &Before<'_>, question: &Question) -> Answer {
        let mut trace = Trace::explaining();
        kind::evaluate_opened(self, before, question, &mut trace);
        let (now, then) = (&self.estate.sources, &before.engine.estate.sources);
        let locate = |place| {
            let mut location = if now.has(place) { now } else { then }.locate(place);
            if !now.has(place) {
                location.file.insert_str(0, before.label);
            }
            location
        };
        let mut answer = trace.into_answer_of(question, locate);
        answer.cover();
        answer
    }

    /// Answers without looking for remedies.
    #[must_use]
    pub fn explain(&self, question: &Question) -> Answer {
        let mut answer = self.explained(question);
        answer.cover();
        answer
    }

    /// Answers without reasons in words.
    pub(crate) fn tried(&self, question: &Question) -> Answer {
        let mut trace = Trace::trying();
        kind::evaluate(self, question, &mut trace);
        trace.into_answer(question, self)
    }

    /// Answers with the question as it was asked, credentials and all.
    #[doc(hidden)]
    pub fn explained(&self, question: &Question) -> Answer {
        let mut trace = Trace::explaining();
        kind::evaluate(self, question, &mut trace);
        trace.into_answer(question, self)
    }
}

/// What other crates of the core look at
impl Engine {
    /// Returns the words that the ledger can tell apart.
    #[doc(hidden)]
    #[must_use]
    pub fn alphabet(&self) -> &Alphabet {
        &self.alphabet
    }

    /// Returns the command sets as automata.
    #[doc(hidden)]
    #[must_use]
    pub const fn compiled_sets(&self) -> &Table<Arc<CompiledSet>> {
        &self.sets
    }

    /// Returns who is in which group, and whom which assignment reaches.
    #[doc(hidden)]
    #[must_use]
    pub const fn membership(&self) -> &Membership {
        &self.membership
    }
}

/// Parts of a decision
impl Engine {
    /// Returns what conditions may look at: the session, the user's attributes, the labels and rules of the system.
    pub(crate) fn facts<'a>(&'a self, session: &'a Session, user: UserId, system: SystemId) -> Facts<'a> {
        let site = Site { engine: self, system };
        let covers = site.kind().covers(site);
        Facts {
            session,
            user: Some(&self.estate.entries.users[user.index()]),
            resource: None,
            labels: &self.estate.system(system).labels,
            covers,
        }
    }

    /// Returns the people whom an obligation names as second person, or everybody; some may come twice.
    pub(crate) fn people<'a>(&'a self, duties: &'a Duties) -> impl Iterator<Item = UserId> + 'a {
        let everybody = duties.anyone.is_some().then_some(0..self.estate.entries.users.len()).into_iter().flatten().map(UserId::new);
        self.members(duties.second_person.iter().rev().map(|&(p, _)| p).collect()).chain(everybody)
    }

    /// Returns the users among some parties and in their groups, each once.
    #[doc(hidden)]
    pub fn members(&self, mut queue: Vec<Party>) -> impl Iterator<Item = UserId> + '_ {
        let mut seen: FxHashSet<Party> = FxHashSet::default();
        std::iter::from_fn(move || {
            loop {
                match queue.pop()? {
                    party if !seen.insert(party) => {}
                    Party::User(user) => return Some(user),
                    Party::Group(group) => queue.extend(self.estate.groups[group.index()].members.iter().rev().map(|&(m, _)| m)),
                }
            }
        })
    }

    /// Finds the user a name means where names are or are not case-sensitive.
    pub fn find_user(&self, name: &str, ignores_case: bool) -> Option<UserId> {
        if let Some(&id) = self.estate.names.users.get(name) {
            return Some(id);
        }
        if !ignores_case {
            return None;
        }
        let mut found = self.users_but_for_case(name);
        found.next().filter(|_| found.next().is_none())
    }

    /// Finds a group by its id.
    ///
    /// # Example
    /// ```
    /// # let text = "systems.rota.kind = 'application'\ngroups.watch.members = []";
    /// # let engine = zest_ledger::Engine::compile(zest_ledger::Ledger::new().document("it.toml", text).estate()?)?;
    /// let id = engine.find_group("watch").expect("it is declared");
    /// assert_eq!(engine.estate().group(id).id.value, "watch");
    /// assert!(engine.find_group("watch-2").is_none());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn find_group(&self, name: &str) -> Option<GroupId> {
        self.estate.names.groups.get(name).copied()
    }

    /// Finds a system by its id.
    ///
    /// # Example
    /// ```
    /// # let text = "systems.rota.kind = 'application'\n";
    /// # let engine = zest_ledger::Engine::compile(zest_ledger::Ledger::new().document("it.toml", text).estate()?)?;
    /// let id = engine.find_system("rota").expect("it is declared");
    /// assert_eq!(engine.estate().system(id).id.value, "rota");
    /// assert!(engine.find_system("rota-2").is_none());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn find_system(&self, name: &str) -> Option<SystemId> {
        self.estate.names.systems.get(name).copied()
    }

    /// Finds a role by its id.
    ///
    /// # Example
    /// ```
    /// # let text = "systems.rota.kind = 'application'\n[roles.reader]";
    /// # let engine = zest_ledger::Engine::compile(zest_ledger::Ledger::new().document("it.toml", text).estate()?)?;
    /// let id = engine.find_role("reader").expect("it is declared");
    /// assert_eq!(engine.estate().role(id).id.value, "reader");
    /// assert!(engine.find_role("reader-2").is_none());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn find_role(&self, name: &str) -> Option<RoleId> {
        self.estate.names.roles.get(name).copied()
    }

    /// Finds a command set by its id.
    ///
    /// # Example
    /// ```
    /// # let text = "systems.rota.kind = 'application'\ncommand-sets.look.rules = ['allow show ...']";
    /// # let engine = zest_ledger::Engine::compile(zest_ledger::Ledger::new().document("it.toml", text).estate()?)?;
    /// let id = engine.find_command_set("look").expect("it is declared");
    /// assert_eq!(engine.estate().set(id).id.value, "look");
    /// assert!(engine.find_command_set("look-2").is_none());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn find_command_set(&self, name: &str) -> Option<SetId> {
        self.estate.names.sets.get(name).copied()
    }

    /// Finds a vocabulary by its id.
    ///
    /// # Example
    /// ```
    /// # let text = "systems.rota.kind = 'application'\nvocabularies.corvane-os.commands = [{ line = 'show log' }]";
    /// # let engine = zest_ledger::Engine::compile(zest_ledger::Ledger::new().document("it.toml", text).estate()?)?;
    /// let id = engine.find_vocabulary("corvane-os").expect("it is declared");
    /// assert_eq!(engine.estate().vocabulary(id).id.value, "corvane-os");
    /// assert!(engine.find_vocabulary("corvane-os-2").is_none());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn find_vocabulary(&self, name: &str) -> Option<VocabularyId> {
        self.estate.names.vocabularies.get(name).copied()
    }

    /// Returns the users whose names are a name but for upper and lower case.
    pub(crate) fn users_but_for_case<'a>(&'a self, name: &'a str) -> impl Iterator<Item = UserId> + 'a {
        let hash = |name: &str| {
            let mut hasher = FxHasher::default();
            hash_without_case(name, &mut hasher);
            hasher.finish()
        };
        let all = self.without_case.get_or_init(|| {
            let mut all: FxHashMap<u64, Vec<UserId>> = FxHashMap::default();
            for (i, user) in self.estate.entries.users.iter().enumerate() {
                all.entry(hash(&user.id.value)).or_default().push(UserId::new(i));
            }
            all
        });
        let alike = all.get(&hash(name)).into_iter().flatten().copied();
        alike.filter(move |&user| same_but_for_case(&self.estate.user(user).id.value, name))
    }

    /// Returns the assignments that reach a user on a system, in the order in which they are tried.
    pub(crate) fn candidates(&self, user: UserId, system: SystemId) -> impl Iterator<Item = Candidate> {
        self.membership.candidates(user).iter().copied().filter(move |c| self.membership.covers(*c, system))
    }

    #[doc(hidden)]
    pub fn standing(&self, assignment: AssignmentId) -> (usize, &Standing) {
        let index = self.standing_of[assignment.index()];
        (index, &self.standings[index])
    }

    /// Returns what the sets say together: an explicit deny in any wins, then an explicit allow, then what any set
    /// says of all other lines.
    pub(crate) fn sets_say(&self, sets: &[SetId], without_set: Unrestricted, line: &[Symbol]) -> SetVerdict {
        self.combine(sets, without_set, |set| self.sets[set.index()].automaton.decide(line))
    }

    pub(crate) fn combine(&self, sets: &[SetId], without_set: Unrestricted, mut rule_of: impl FnMut(SetId) -> Option<u32>) -> SetVerdict {
        if sets.is_empty() {
            return match without_set {
                Unrestricted::Everything => SetVerdict::Unrestricted,
                Unrestricted::Nothing => SetVerdict::NoSet,
            };
        }
        let mut allowed = None;
        let mut otherwise = None;
        for &set in sets {
            let compiled = &self.sets[set.index()];
            match rule_of(set) {
                Some(index) => {
                    let CompiledRule { verb, asks: _, meaning } = compiled.rules[index as usize];
                    let rule = RuleRef { set, index, meaning };
                    match verb {
                        RuleVerb::Deny => return SetVerdict::Denied(rule),
                        RuleVerb::Allow | RuleVerb::Include => allowed = allowed.or(Some(rule)),
                    }
                }
                None if compiled.otherwise == Otherwise::Allow => otherwise = otherwise.or(Some(set)),
                None => {}
            }
        }
        allowed.map_or_else(|| otherwise.map_or(SetVerdict::DeniedOtherwise, SetVerdict::AllowedOtherwise), SetVerdict::Allowed)
    }
}

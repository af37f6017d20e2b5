//! The compiled estate: what a decision looks up instead of working it out.

mod membership;
mod standing;

use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::ask::{Answer, Change, Decision, Question, RuleRef, Session};
use crate::command::Pattern;
use crate::command::alphabet::{Alphabet, AlphabetBuilder, Symbol};
use crate::command::automaton::{Automaton, MAX_STATES};
use crate::command::vocabulary::{Command, Vocabulary};
use crate::entry::{Otherwise, RuleVerb, Unrestricted};
use crate::estate::{AssignmentId, Duties, Estate, Facts, Kept, Party, SetId, SystemId, UserId, VocabularyId};
use crate::finding::{Code, Finding, Findings};
use crate::kind::trace::Trace;
use crate::kind::{self, Site};
use crate::ledger::Ledger;
use crate::remedy::remedies;
use crate::source::visible;

pub(crate) use membership::{Candidate, Membership};
pub(crate) use standing::{LevelBand, Standing};

/// An estate ready to decide.
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
#[derive(Debug)]
pub struct Engine {
    pub(crate) estate: Estate,
    pub(crate) alphabet: Arc<Alphabet>,
    pub(crate) sets: Vec<CompiledSet>,
    pub(crate) vocabularies: Vec<Vocabulary>,
    /// What the kind of each system made of it for decisions.
    pub(crate) systems: Vec<Kept>,
    pub(crate) membership: Membership,
    pub(crate) standings: Vec<Standing>,
    standing_of: Vec<usize>,
    folded: Option<FxHashMap<String, Vec<UserId>>>,
}

/// A command set and its automaton.
#[derive(Debug)]
pub(crate) struct CompiledSet {
    pub(crate) automaton: Automaton,
    pub(crate) verbs: Vec<RuleVerb>,
    pub(crate) otherwise: Otherwise,
}

/// What the command sets of a session say about a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum SetVerdict {
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

/// Building
impl Engine {
    /// Compiles an estate.
    ///
    /// # Errors
    /// Findings of the codes `command-set-too-large` and `bad-command`, when a command set or the patterns of the
    /// ledger together need a larger automaton than is allowed, or two commands cannot be told apart.
    pub fn compile(estate: Estate) -> Result<Self, Findings> {
        Self::compile_like(estate, None)
    }

    /// Compiles an estate, with the alphabet of another engine if its words and slots are all there.
    pub(crate) fn compile_like(estate: Estate, other: Option<&Self>) -> Result<Self, Findings> {
        let mut findings = Vec::new();
        let fail = |findings| Err(Findings::new(findings, Arc::clone(&estate.sources)));
        let rules = || estate.sets.iter().flat_map(|s| s.rules.iter().map(|r| &*r.pattern));
        let commands = || estate.vocabularies.iter().flat_map(|v| v.commands.iter().map(|c| &c.pattern));
        let known = other.map(|o| &o.alphabet).filter(|alphabet| rules().chain(commands()).all(|p| alphabet.knows(p)));
        let alphabet = match known {
            Some(alphabet) => Arc::clone(alphabet),
            None => {
                let mut builder = AlphabetBuilder::default();
                rules().chain(commands()).for_each(|pattern| builder.add(pattern));
                let Ok(alphabet) = builder.build() else {
                    let message = "the placeholders and `*` patterns of the ledger need an automaton of more than 32 MiB";
                    let finding = Finding::new(Code::CommandSetTooLarge, message);
                    findings.push(finding.help("use fewer different `*` patterns, or write words out as `{on|off}`"));
                    return fail(findings);
                };
                Arc::new(alphabet)
            }
        };
        let mut sets = Vec::with_capacity(estate.sets.len());
        for (i, links) in estate.sets.iter().enumerate() {
            let patterns: Vec<&Pattern> = links.rules.iter().map(|r| &*r.pattern).collect();
            match Automaton::build(&alphabet, &patterns) {
                Ok(automaton) => {
                    let verbs = links.rules.iter().map(|r| r.verb).collect();
                    sets.push(CompiledSet { automaton, verbs, otherwise: links.otherwise });
                }
                Err(_) => {
                    let id = &estate.set(SetId::new(i)).id;
                    findings.push(
                        Finding::new(
                            Code::CommandSetTooLarge,
                            format!("the command set `{}` needs more than {MAX_STATES} states", visible(&id.value)),
                        )
                        .at(id.place, "too many combinations of its rules are possible")
                        .help("use fewer rules with `{word}` or `*` before fixed words, or split the set"),
                    );
                }
            }
        }
        let vocabularies = compile_vocabularies(&estate, &alphabet, &mut findings);
        if !findings.is_empty() {
            return fail(findings);
        }
        let systems = (0..estate.systems.len()).map(SystemId::new);
        let systems = systems.map(|id| estate.systems[id.index()].kind.compile(&estate, id)).collect();
        let (standings, standing_of) = standing::standings(&estate);
        let membership = Membership::of(&estate, &standing_of);
        let folded = estate.entries.systems.iter().any(|s| s.ignores_case()).then(|| fold_names(&estate));
        Ok(Self { estate, alphabet, sets, vocabularies, systems, membership, standings, standing_of, folded })
    }
}

fn compile_vocabularies(estate: &Estate, alphabet: &Alphabet, findings: &mut Vec<Finding>) -> Vec<Vocabulary> {
    let mut vocabularies = Vec::with_capacity(estate.vocabularies.len());
    for (i, links) in estate.vocabularies.iter().enumerate() {
        let commands = links
            .commands
            .iter()
            .map(|c| Command {
                pattern: c.pattern.clone(),
                does: c.does,
                enters: c.enters,
                modes: c.modes.clone(),
                level_word: c.level_word,
            })
            .collect();
        let written = estate.vocabulary(VocabularyId::new(i));
        let (vocabulary, clashes) = Vocabulary::build(written, links.modes.clone(), links.start_mode, commands, alphabet);
        for (later, earlier) in clashes {
            let line = visible(&links.commands[later.index()].line);
            findings.push(
                Finding::new(Code::BadCommand, format!("the command `{line}` cannot be told apart from an earlier one"))
                    .at(links.commands[later.index()].place, "the same line in the same mode")
                    .also(links.commands[earlier.index()].place, "first declared here")
                    .help("take one of the two out, or give them different modes"),
            );
        }
        vocabularies.push(vocabulary);
    }
    vocabularies
}

fn fold_names(estate: &Estate) -> FxHashMap<String, Vec<UserId>> {
    let mut folded: FxHashMap<String, Vec<UserId>> = FxHashMap::default();
    for (i, user) in estate.entries.users.iter().enumerate() {
        folded.entry(user.id.value.to_lowercase()).or_default().push(UserId::new(i));
    }
    folded
}

/// Asking
impl Engine {
    /// Returns what a kind made of a system; nothing for systems of other kinds.
    pub(crate) fn state<T: 'static>(&self, system: SystemId) -> Option<&T> {
        self.systems.get(system.index())?.downcast_ref()
    }

    /// Returns what a kind made of each of its systems.
    pub(crate) fn states<T: 'static>(&self) -> impl Iterator<Item = (SystemId, &T)> {
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
    #[must_use]
    pub fn ask(&self, question: &Question) -> Answer {
        let mut answer = self.explained(question);
        if answer.refusal.is_some() {
            answer.remedies = remedies(self, &answer);
        }
        answer.cover();
        answer
    }

    /// Answers whether a session can be opened; the line of the question is not looked at.
    #[must_use]
    pub fn sign_in(&self, question: &Question) -> Answer {
        let mut trace = Trace::explaining();
        kind::sign_in(self, question, &mut trace);
        let mut answer = trace.into_answer(question, self);
        answer.full_line = None;
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

    /// Answers with the question as it was asked, credentials and all.
    pub(crate) fn explained(&self, question: &Question) -> Answer {
        let mut trace = Trace::explaining();
        kind::evaluate(self, question, &mut trace);
        trace.into_answer(question, self)
    }
}

/// Changes
impl Engine {
    /// Returns the engine of the ledger with changes applied.
    pub(crate) fn with_these<'c>(&self, changes: impl IntoIterator<Item = &'c Change>, question: &Question) -> Result<Self, Findings> {
        let mut entries = self.estate.entries.clone();
        for change in changes {
            change.to_entries(&mut entries, &question.user, &question.system);
        }
        Self::compile_like(Ledger::of((*self.estate.sources).clone(), entries).estate()?, Some(self))
    }
}

/// Parts of a decision
impl Engine {
    /// Returns what conditions may look at: the session, the user's attributes, the labels and rules of the system.
    pub(crate) fn facts<'a>(&'a self, session: &'a Session, user: UserId, system: SystemId) -> Facts<'a> {
        let entry = self.estate.user(user);
        let site = Site { engine: self, system };
        let covers = site.kind().covers(site);
        Facts {
            session,
            user: Some((&entry.id.value, &entry.attributes)),
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
    pub(crate) fn members(&self, mut queue: Vec<Party>) -> impl Iterator<Item = UserId> + '_ {
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
    pub(crate) fn find_user(&self, name: &str, ignores_case: bool) -> Option<UserId> {
        if let Some(&id) = self.estate.user_ids.get(name) {
            return Some(id);
        }
        if !ignores_case {
            return None;
        }
        match self.folded.as_ref()?.get(&name.to_lowercase())?.as_slice() {
            [one] => Some(*one),
            _ => None,
        }
    }

    /// Returns the assignments that reach a user on a system, in the order in which they are tried.
    pub(crate) fn candidates(&self, user: UserId, system: SystemId) -> impl Iterator<Item = Candidate> {
        self.membership.candidates(user).iter().copied().filter(move |c| self.membership.covers(*c, system))
    }

    pub(crate) fn standing(&self, assignment: AssignmentId) -> (usize, &Standing) {
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
                Some(index) if compiled.verbs[index as usize] == RuleVerb::Deny => return SetVerdict::Denied(RuleRef { set, index }),
                Some(index) => allowed = allowed.or(Some(RuleRef { set, index })),
                None if compiled.otherwise == Otherwise::Allow => otherwise = otherwise.or(Some(set)),
                None => {}
            }
        }
        allowed.map_or_else(|| otherwise.map_or(SetVerdict::DeniedOtherwise, SetVerdict::AllowedOtherwise), SetVerdict::Allowed)
    }
}

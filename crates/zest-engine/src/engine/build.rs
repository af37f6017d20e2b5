//! An engine of an estate: alphabet, automata, memberships, and what each kind makes of its systems.

use std::hash::{Hash as _, Hasher as _};
use std::sync::Arc;

use rustc_hash::FxHasher;

use super::estate::is_sound;
use super::{CompiledRule, CompiledSet, Engine, Membership, standing};
use crate::engine::Estate;
use crate::engine::rules::Kinds;
use crate::links::{FlatRule, Ground, SetId, SystemId};
use crate::vocabulary::{Command, Vocabulary};
use zest_command::Pattern;
use zest_command::alphabet::{Alphabet, AlphabetBuilder};
use zest_command::automaton::{Automaton, MAX_STATES, MAX_STEPS};
use zest_model::entries::Entries;
use zest_model::finding::{Code, Finding, Findings};
use zest_model::source::{SourceMap, visible};
use zest_model::table::Table;

impl Engine {
    /// Makes an engine of other entries, with the kinds and the documents of this one.
    ///
    /// # Errors
    /// Why they are no ledger.
    #[doc(hidden)]
    pub fn with_entries(&self, entries: Entries) -> Result<Self, Findings> {
        let (kinds, sources) = (self.estate.kinds.clone(), &self.estate.sources);
        let mut found = Vec::new();
        let resolved = Estate::resolve(kinds, Arc::clone(sources), entries, &mut found);
        match resolved.filter(|_| is_sound(&found)) {
            Some(estate) => Self::compile(estate),
            None => Err(Findings::new(found, Arc::clone(sources))),
        }
    }

    /// Compiles an estate.
    ///
    /// # Errors
    /// Findings of the codes `command-set-too-large` and `bad-command`, when a command set or the patterns of the
    /// ledger together need a larger automaton than is allowed, or two commands cannot be told apart.
    pub fn compile(estate: Estate) -> Result<Self, Findings> {
        let commands = commands(estate.ground());
        Self::assemble(estate, commands)
    }

    /// Follows all references and compiles what comes of it, on two threads; findings are those of the references.
    ///
    /// # Errors
    /// Those of [`compile`](Self::compile). Nothing where references are wrong: the findings say so.
    #[doc(hidden)]
    pub fn of_entries(
        kinds: Kinds,
        sources: Arc<SourceMap>,
        entries: Entries,
        findings: &mut Vec<Finding>,
    ) -> Option<Result<Self, Findings>> {
        let (estate, made) = Estate::resolve_beside(kinds, sources, entries, findings, Some(commands))?;
        made.filter(|_| is_sound(findings)).map(|commands| Self::assemble(estate, commands))
    }

    fn assemble(estate: Estate, commands: Result<Commands, Vec<Finding>>) -> Result<Self, Findings> {
        let Commands { alphabet, sets, vocabularies } = match commands {
            Ok(commands) => commands,
            Err(findings) => return Err(Findings::new(findings, estate.sources)),
        };
        let systems = (0..estate.systems.len()).map(SystemId::new);
        let systems = systems.map(|id| estate.systems[id.index()].kind.compile(&estate, id)).collect();
        let (standings, standing_of) = standing::standings(&estate);
        let membership = Membership::of(&estate);
        Ok(Self {
            estate,
            alphabet,
            sets,
            vocabularies,
            systems,
            membership,
            standings: Arc::new(standings),
            standing_of: standing_of.into_iter().collect(),
            without_case: Arc::default(),
            cache: Arc::default(),
        })
    }
}

/// Command sets and vocabularies over one alphabet.
pub(super) struct Commands {
    pub(super) alphabet: Arc<Alphabet>,
    pub(super) sets: Table<Arc<CompiledSet>>,
    pub(super) vocabularies: Arc<[Vocabulary]>,
}

/// Compiles all command sets and vocabularies of an estate.
///
/// # Errors
/// Those that are too large, and commands that cannot be told apart.
pub(super) fn commands(ground: Ground<'_>) -> Result<Commands, Vec<Finding>> {
    let mut builder = AlphabetBuilder::default();
    let rules = ground.sets.iter().flat_map(|s| s.rules.iter().map(|r| &*r.pattern));
    let lines = ground.vocabularies.iter().flat_map(|v| v.commands.iter().map(|c| &c.pattern));
    rules.chain(lines).for_each(|pattern| builder.add(pattern));
    let Ok(alphabet) = builder.build() else {
        let message =
            "the placeholders and `*` patterns of the ledger need an automaton of more than 32 MiB, or 50 million steps to make it";
        let finding = Finding::new(Code::CommandSetTooLarge, message);
        return Err(vec![finding.help("use fewer different `*` patterns, or write words out as `{on|off}`")]);
    };
    let mut findings = Vec::new();
    let sets = (0..ground.sets.len()).filter_map(|i| set(ground, &alphabet, SetId::new(i), &mut findings)).collect();
    let vocabularies = compile_vocabularies(ground, &alphabet, &mut findings).into();
    if findings.is_empty() { Ok(Commands { alphabet: Arc::new(alphabet), sets, vocabularies }) } else { Err(findings) }
}

/// Compiles one command set; nothing where it is too large.
pub(super) fn set(ground: Ground<'_>, alphabet: &Alphabet, id: SetId, findings: &mut Vec<Finding>) -> Option<Arc<CompiledSet>> {
    let links = &ground.sets[id.index()];
    let patterns: Vec<&Pattern> = links.rules.iter().map(|r| &*r.pattern).collect();
    let Ok(automaton) = Automaton::build(alphabet, &patterns) else {
        let id = &ground.entries.command_sets[id.index()].id;
        findings.push(
            Finding::new(
                Code::CommandSetTooLarge,
                format!("the command set `{}` needs more than {MAX_STATES} states, or {MAX_STEPS} steps to make them", visible(&id.value)),
            )
            .at(id.place, "too many combinations of its rules are possible")
            .help("use fewer rules with `{word}` or `*` before fixed words, or split the set"),
        );
        return None;
    };
    let name = &ground.entries.command_sets[id.index()].id.value;
    let meaning = |(index, rule): (usize, &FlatRule)| {
        let mut hasher = FxHasher::default();
        (name, index, rule.verb, &rule.text.value).hash(&mut hasher);
        CompiledRule { verb: rule.verb, asks: rule.after.is_some(), meaning: hasher.finish() }
    };
    let rules = links.rules.iter().enumerate().map(meaning).collect();
    Some(Arc::new(CompiledSet { automaton, rules, otherwise: links.otherwise }))
}

fn compile_vocabularies(ground: Ground<'_>, alphabet: &Alphabet, findings: &mut Vec<Finding>) -> Vec<Vocabulary> {
    let mut vocabularies = Vec::with_capacity(ground.vocabularies.len());
    for (i, links) in ground.vocabularies.iter().enumerate() {
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
        let written = &ground.entries.vocabularies[i];
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

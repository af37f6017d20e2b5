//! The commands a make of device knows: finds the command a typed line means, and its full words.

use smallvec::SmallVec;

use zest_command::alphabet::{Alphabet, Symbol};
use zest_command::line::join;
use zest_command::pattern::{Pattern, Slot, WordPattern, canonical_word};
use zest_model::entry::{self, Abbreviation, BareElevation, Does};
use zest_model::id::{CommandId, ModeId};
use zest_model::source::Place;
use zest_words::nearest;

/// The most lines that the alternatives of one command may stand for.
const MAX_ALTERNATIVES: usize = 1024;

/// How many keywords are looked at one by one.
const FEW: usize = 24;

/// A vocabulary with its words in a tree for each mode.
#[derive(Debug)]
pub struct Vocabulary {
    /// Its modes.
    pub modes: Vec<String>,
    /// The mode in which a session starts.
    pub start_mode: ModeId,
    pub(crate) bare: BareElevation,
    /// Where the meaning of a bare elevation is written.
    pub(crate) bare_place: Option<Place>,
    pub(crate) commands: Vec<Command>,
    pub(crate) abbreviation: Abbreviation,
    nodes: Vec<Node>,
    roots: Vec<usize>,
}

/// A command of a vocabulary.
#[derive(Debug)]
pub struct Command {
    /// Its words.
    pub pattern: Pattern,
    /// What it does to the session.
    pub does: Option<Does>,
    /// The mode it enters.
    pub enters: Option<ModeId>,
    pub(crate) modes: Vec<ModeId>,
    /// Which word gives the level, for an elevation with a number.
    pub(crate) level_word: Option<usize>,
}

#[derive(Debug, Default)]
struct Node {
    /// Keywords in order, so that those with a prefix stand together.
    keywords: Vec<(Box<str>, Symbol, usize)>,
    slots: Vec<(Slot, usize)>,
    /// The command that ends here.
    command: Option<CommandId>,
    /// The command that takes whatever follows.
    open: Option<CommandId>,
}

/// What a typed line means.
#[derive(Debug)]
pub struct Resolved {
    /// The command.
    pub command: CommandId,
    /// The letters of its full words.
    pub(crate) symbols: SmallVec<[Symbol; 8]>,
    /// From which word on the command takes whatever follows; behind the last word if it does not.
    pub(crate) open_from: usize,
}

/// Why a typed line means nothing here.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unresolved {
    /// No command goes on with this word.
    Unknown {
        /// The word, from 0.
        word: usize,
    },
    /// The word shortens several keywords.
    Ambiguous {
        /// The word, from 0.
        word: usize,
        /// What it may mean.
        keywords: Vec<String>,
    },
    /// More words are needed.
    Incomplete,
}

impl Vocabulary {
    /// Builds the trees; the alphabet must have been made with the commands' patterns.
    ///
    /// Returns with it the pairs of commands that cannot be told apart, the later one first.
    pub(crate) fn build(
        written: &entry::Vocabulary,
        modes: Vec<String>,
        start_mode: ModeId,
        commands: Vec<Command>,
        alphabet: &Alphabet,
    ) -> (Self, Vec<(CommandId, CommandId)>) {
        let mut vocabulary = Self {
            roots: (0..modes.len()).collect(),
            nodes: modes.iter().map(|_| Node::default()).collect(),
            modes,
            start_mode,
            bare: written.bare_elevation.as_ref().map_or(BareElevation::Fifteen, |b| b.value),
            bare_place: written.bare_elevation.as_ref().map(|b| b.place),
            abbreviation: written.abbreviation.as_ref().map_or(Abbreviation::UniquePrefix, |a| a.value),
            commands,
        };
        let mut clashes = Vec::new();
        for index in 0..vocabulary.commands.len() {
            let id = CommandId::new(index);
            for mode in vocabulary.commands[index].modes.clone() {
                let mut ends = vec![vocabulary.roots[mode.index()]];
                for word in vocabulary.commands[index].pattern.words().to_vec() {
                    ends = ends.into_iter().flat_map(|node| vocabulary.grow(node, &word, alphabet)).collect();
                    ends.truncate(MAX_ALTERNATIVES);
                }
                let is_open = vocabulary.commands[index].pattern.is_open();
                for node in ends {
                    let node = &mut vocabulary.nodes[node];
                    let slot = if is_open { &mut node.open } else { &mut node.command };
                    match slot {
                        Some(first) if *first != id => clashes.push((id, *first)),
                        _ => *slot = Some(id),
                    }
                }
            }
        }
        clashes.dedup();
        (vocabulary, clashes)
    }

    fn grow(&mut self, node: usize, word: &WordPattern, alphabet: &Alphabet) -> Vec<usize> {
        match word {
            WordPattern::Fixed(keywords) => keywords.iter().map(|k| self.keyword(node, k, alphabet)).collect(),
            WordPattern::Slot(slot) => {
                if let Some((_, next)) = self.nodes[node].slots.iter().find(|(s, _)| s == slot) {
                    return vec![*next];
                }
                let next = self.nodes.len();
                self.nodes.push(Node::default());
                self.nodes[node].slots.push((slot.clone(), next));
                vec![next]
            }
        }
    }

    fn keyword(&mut self, node: usize, keyword: &str, alphabet: &Alphabet) -> usize {
        let at = self.nodes[node].keywords.partition_point(|(k, ..)| &**k < keyword);
        if let Some((found, _, next)) = self.nodes[node].keywords.get(at)
            && &**found == keyword
        {
            return *next;
        }
        let next = self.nodes.len();
        self.nodes.push(Node::default());
        let symbol = alphabet.symbol(keyword);
        self.nodes[node].keywords.insert(at, (keyword.into(), symbol, next));
        next
    }

    /// Returns the mode of a name.
    pub fn mode(&self, name: &str) -> Option<ModeId> {
        self.modes.iter().position(|m| m == name).map(ModeId::new)
    }

    /// Returns the level a bare elevation asks for; none where it is refused.
    pub(crate) const fn bare_level(&self, ceiling: u8) -> Option<u8> {
        match self.bare {
            BareElevation::Fifteen => Some(15),
            BareElevation::Ceiling => Some(ceiling),
            BareElevation::Refused => None,
        }
    }

    /// Returns the level an elevation asks for; none where a bare one is refused. No level is above every ceiling.
    pub fn elevation(&self, command: CommandId, line: &[&str], ceiling: u8) -> Option<u8> {
        match self.command(command).level_word {
            Some(word) => Some(line.get(word).and_then(|w| w.parse().ok()).unwrap_or(u8::MAX)),
            None => self.bare_level(ceiling),
        }
    }

    /// Returns whether a command is no elevation, or one that some ceiling-keeping request can be made with.
    pub fn keeps_ceiling(&self, command: &Command, ceiling: u8) -> bool {
        let is_bare = command.does == Some(Does::Elevate) && command.level_word.is_none();
        !is_bare || self.bare_level(ceiling).is_some_and(|level| level <= ceiling)
    }

    /// Returns the lowest request of a numbered elevation that is above a ceiling.
    pub fn first_above(&self, command: &Command, ceiling: u8) -> Option<String> {
        let word = command.level_word?;
        let above = (ceiling + 1..=15).map(|level| level.to_string()).find(|level| command.pattern.words()[word].matches(level))?;
        Some(join(command.pattern.words().iter().map(|w| match w {
            WordPattern::Fixed(words) => words.first().map_or("", String::as_str),
            WordPattern::Slot(_) => above.as_str(),
        })))
    }

    /// Returns a command.
    pub fn command(&self, id: CommandId) -> &Command {
        &self.commands[id.index()]
    }

    /// Finds the command a line means in a mode. A keyword beats a slot; among slots the first that takes the word.
    pub fn resolve(&self, mode: ModeId, line: &[&str], alphabet: &Alphabet) -> Result<Resolved, Unresolved> {
        self.walk(mode, line, alphabet, |_| {})
    }

    /// Returns the full words of a line that has a meaning, as one line.
    pub(crate) fn full_line(&self, mode: ModeId, line: &[&str], alphabet: &Alphabet) -> Option<String> {
        let mut words: Vec<String> = Vec::new();
        self.walk(mode, line, alphabet, |word| words.push(word.to_owned())).ok()?;
        Some(join(words.iter().map(String::as_str)))
    }

    /// Walks the tree along a line, telling each full word.
    fn walk(&self, mode: ModeId, line: &[&str], alphabet: &Alphabet, mut tell: impl FnMut(&str)) -> Result<Resolved, Unresolved> {
        let mut node = &self.nodes[self.roots[mode.index()]];
        let mut symbols = SmallVec::new();
        for (i, &typed) in line.iter().enumerate() {
            if let Some((keyword, symbol, next)) = self.find_keyword(node, typed, i)? {
                tell(keyword);
                symbols.push(symbol);
                node = &self.nodes[next];
            } else if let Some((form, next)) = node.slots.iter().find_map(|(slot, next)| Some((slot.canonical(typed)?, *next))) {
                tell(&form);
                symbols.push(alphabet.symbol(&form));
                node = &self.nodes[next];
            } else if let Some(command) = node.open {
                for &word in &line[i..] {
                    let form = canonical_word(word);
                    symbols.push(alphabet.symbol(&form));
                    tell(&form);
                }
                return Ok(Resolved { command, symbols, open_from: i });
            } else {
                return Err(Unresolved::Unknown { word: i });
            }
        }
        let command = node.command.or(node.open).ok_or(Unresolved::Incomplete)?;
        Ok(Resolved { command, symbols, open_from: line.len() })
    }

    fn find_keyword<'v>(&self, node: &'v Node, typed: &str, word: usize) -> Result<Option<(&'v str, Symbol, usize)>, Unresolved> {
        // OK because most words are typed in full and most places have few keywords: comparing lengths finds them first.
        if node.keywords.len() <= FEW
            && let Some((keyword, symbol, next)) = node.keywords.iter().find(|(k, ..)| k.len() == typed.len() && **k == *typed)
        {
            return Ok(Some((keyword, *symbol, *next)));
        }
        let from = node.keywords.partition_point(|(k, ..)| &**k < typed);
        let mut fitting = node.keywords[from..].iter().take_while(|(k, ..)| k.starts_with(typed));
        let Some((first, symbol, next)) = fitting.next() else { return Ok(None) };
        if first.len() == typed.len() {
            return Ok(Some((first, *symbol, *next)));
        }
        if self.abbreviation == Abbreviation::None {
            return Ok(None);
        }
        match fitting.next() {
            None => Ok(Some((first, *symbol, *next))),
            Some((second, ..)) => {
                let keywords = [first, second].into_iter().chain(fitting.map(|(k, ..)| k)).map(|k| k.to_string()).collect();
                Err(Unresolved::Ambiguous { word, keywords })
            }
        }
    }

    /// Returns the keyword nearest to a word that is not known, at the place where it stands.
    pub(crate) fn nearest_keyword(&self, mode: ModeId, line: &[&str], word: usize) -> Option<String> {
        let mut node = &self.nodes[self.roots[mode.index()]];
        for (i, &typed) in line[..word].iter().enumerate() {
            let next = match self.find_keyword(node, typed, i) {
                Ok(Some((_, _, next))) => next,
                _ => node.slots.iter().find(|(slot, _)| slot.canonical(typed).is_some())?.1,
            };
            node = &self.nodes[next];
        }
        nearest(line[word], node.keywords.iter().map(|(k, ..)| &**k)).map(str::to_owned)
    }

    /// Returns lines that someone who typed words without a meaning may have meant: with an ambiguous or unknown
    /// word replaced, or with the words that are missing.
    pub(crate) fn lines_like(&self, mode: ModeId, words: &[&str], alphabet: &Alphabet) -> Vec<String> {
        let with = |at: usize, word: &str| join(words.iter().enumerate().map(|(i, w)| if i == at { word } else { *w }));
        match self.resolve(mode, words, alphabet) {
            Ok(_) => Vec::new(),
            Err(Unresolved::Ambiguous { word, keywords }) => keywords.iter().take(6).map(|k| with(word, k)).collect(),
            Err(Unresolved::Unknown { word }) => self.nearest_keyword(mode, words, word).map(|k| with(word, &k)).into_iter().collect(),
            Err(Unresolved::Incomplete) => {
                let fits = |pattern: &Pattern| {
                    let longer = pattern.words().len() > words.len();
                    longer
                        && pattern.words().iter().zip(words).all(|(p, w)| match p {
                            WordPattern::Fixed(keywords) => keywords.iter().any(|k| k.starts_with(w)),
                            WordPattern::Slot(slot) => slot.canonical(w).is_some(),
                        })
                };
                let complete = |pattern: &Pattern| {
                    join(pattern.words().iter().enumerate().map(|(i, p)| match (p, words.get(i)) {
                        (WordPattern::Fixed(keywords), Some(w)) => keywords.iter().find(|k| k.starts_with(w)).map_or("", String::as_str),
                        (WordPattern::Slot(_), Some(w)) => w,
                        (WordPattern::Fixed(keywords), None) => keywords.first().map_or("", String::as_str),
                        (WordPattern::Slot(slot), None) => alphabet.example_of(slot),
                    }))
                };
                self.in_mode(mode).filter(|(_, c)| fits(&c.pattern)).map(|(_, c)| complete(&c.pattern)).take(6).collect()
            }
        }
    }

    /// Returns the commands of a mode, in the order in which they are written.
    pub fn in_mode(&self, mode: ModeId) -> impl Iterator<Item = (CommandId, &Command)> {
        self.commands.iter().enumerate().filter(move |(_, c)| c.modes.contains(&mode)).map(|(i, c)| (CommandId::new(i), c))
    }
}

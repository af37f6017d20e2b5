//! The alphabet of a ledger's command lines: which words its patterns can tell apart.
//!
//! A pattern looks at whole words, so its automaton need not walk over letters. Two words are the same letter
//! of this alphabet when no pattern of the ledger tells them apart: a word that is written out somewhere is a
//! letter of its own, all others fall into classes by the slots that take them. The classes that can occur are
//! not guessed: a deterministic automaton over the bytes of a word, holding all slots at once, is walked.

use std::collections::VecDeque;

use regex_automata::dfa::{Automaton as _, StartKind, dense};
use regex_automata::util::{primitives::StateID, syntax};
use regex_automata::{Anchored, MatchKind};
use rustc_hash::{FxHashMap, FxHashSet};

use crate::pattern::{Pattern, Slot, WordPattern, canonical_word};

/// The most memory the automaton over the bytes of a word may take.
const SLOT_AUTOMATON_BYTES: usize = 32 << 20;
/// No fixed word.
pub(crate) const NO_WORD: u32 = u32::MAX;

/// Words that read well in an example line.
const FRIENDLY: [&str; 8] = ["something", "7", "42", "4711", "192.0.2.1", "2001:db8::1", "192.0.2.0/24", "2001:db8::/32"];

/// A letter: a fixed word's number, or none, and the class of slots that take the word.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Symbol {
    pub(crate) word: u32,
    pub(crate) class: u32,
}

/// The slots of a ledger need more memory than is allowed.
#[derive(Clone, Copy, Debug)]
pub struct AlphabetTooLarge;

/// Collects the patterns an alphabet must tell apart.
#[derive(Debug, Default)]
pub struct AlphabetBuilder {
    words: FxHashMap<Box<str>, u32>,
    slots: FxHashMap<Slot, u32>,
}

impl AlphabetBuilder {
    /// Adds the words and placeholders of a pattern.
    pub fn add(&mut self, pattern: &Pattern) {
        for word in pattern.words() {
            match word {
                WordPattern::Fixed(words) => {
                    for word in words {
                        if !self.words.contains_key(word.as_str()) {
                            self.words.insert(word.as_str().into(), self.words.len() as u32);
                        }
                    }
                }
                WordPattern::Slot(slot) => {
                    if !self.slots.contains_key(slot) {
                        self.slots.insert(slot.clone(), self.slots.len() as u32);
                    }
                }
            }
        }
    }

    /// Builds the alphabet.
    ///
    /// # Errors
    /// The placeholders need an automaton of more than 32 MiB.
    pub fn build(self) -> Result<Alphabet, AlphabetTooLarge> {
        let mut slots: Vec<(&Slot, u32)> = self.slots.iter().map(|(s, &i)| (s, i)).collect();
        slots.sort_by_key(|&(_, i)| i);
        let dfa = if slots.is_empty() {
            None
        } else {
            let patterns: Vec<String> = slots.iter().map(|(s, _)| s.regex()).collect();
            let config = dense::Config::new()
                .match_kind(MatchKind::All)
                .start_kind(StartKind::Anchored)
                .dfa_size_limit(Some(SLOT_AUTOMATON_BYTES))
                .determinize_size_limit(Some(4 * SLOT_AUTOMATON_BYTES));
            let dfa = dense::Builder::new()
                .configure(config)
                .syntax(syntax::Config::new().unicode(false).utf8(false))
                .thompson(regex_automata::nfa::thompson::Config::new().utf8(false))
                .build_many(&patterns)
                .map_err(|_| AlphabetTooLarge)?;
            Some(dfa)
        };
        let mut alphabet = Alphabet {
            texts: vec![Box::default(); self.words.len()],
            word_class: Vec::new(),
            classes: vec![Vec::new()],
            class_of_state: FxHashMap::default(),
            open_example: vec![None],
            slot_classes: Vec::new(),
            closed_words: Vec::new(),
            words: self.words.iter().map(|(text, &word)| (text.clone(), Symbol { word, class: 0 })).collect(),
            slots: self.slots,
            dfa,
        };
        for (text, id) in self.words {
            alphabet.texts[id as usize] = text;
        }
        alphabet.find_classes();
        for symbol in alphabet.words.values_mut() {
            symbol.class = alphabet.word_class[symbol.word as usize];
        }
        Ok(alphabet)
    }
}

/// See the [module](self).
#[derive(Debug)]
pub struct Alphabet {
    words: FxHashMap<Box<str>, Symbol>,
    texts: Vec<Box<str>>,
    word_class: Vec<u32>,
    slots: FxHashMap<Slot, u32>,
    dfa: Option<dense::DFA<Vec<u32>>>,
    /// The slots of each class; class 0 has none.
    classes: Vec<Vec<u32>>,
    class_of_state: FxHashMap<StateID, u32>,
    /// For each class a word that is not a fixed word, if there is one.
    open_example: Vec<Option<Box<str>>>,
    /// For each slot the classes of which it takes the words.
    slot_classes: Vec<Vec<u32>>,
    /// The fixed words of classes that have no other word.
    closed_words: Vec<u32>,
}

impl Alphabet {
    /// Returns the letter of a canonical word.
    pub fn symbol(&self, word: &str) -> Symbol {
        self.fixed_word(word).unwrap_or_else(|| Symbol { word: NO_WORD, class: self.class(word) })
    }

    /// Returns whether the alphabet tells apart all that a pattern tells apart.
    pub fn knows(&self, pattern: &Pattern) -> bool {
        pattern.words().iter().all(|word| match word {
            WordPattern::Fixed(words) => words.iter().all(|w| self.words.contains_key(w.as_str())),
            WordPattern::Slot(slot) => self.slots.contains_key(slot),
        })
    }

    /// Returns the letter of a word that is written out in some pattern.
    pub(crate) fn fixed_word(&self, word: &str) -> Option<Symbol> {
        self.words.get(word).copied()
    }

    /// Returns the letter of a fixed word.
    pub(crate) fn fixed(&self, word: u32) -> Symbol {
        Symbol { word, class: self.word_class[word as usize] }
    }

    pub(crate) fn word_id(&self, word: &str) -> Option<u32> {
        self.words.get(word).map(|s| s.word)
    }

    pub(crate) fn slot_id(&self, slot: &Slot) -> Option<u32> {
        self.slots.get(slot).copied()
    }

    pub(crate) fn class_count(&self) -> usize {
        self.classes.len()
    }

    /// Returns the classes of which a slot takes the words, ascending.
    pub(crate) fn slot_classes(&self, slot: u32) -> &[u32] {
        &self.slot_classes[slot as usize]
    }

    pub(crate) fn class_slots(&self, class: u32) -> &[u32] {
        &self.classes[class as usize]
    }

    /// Returns a word for a letter.
    pub fn example(&self, symbol: Symbol) -> &str {
        if symbol.word != NO_WORD {
            return &self.texts[symbol.word as usize];
        }
        self.open_example[symbol.class as usize].as_deref().unwrap_or("word")
    }

    /// Returns a word that a slot takes.
    pub fn example_of(&self, slot: &Slot) -> &str {
        let fits = |w: &&str| slot.matches(w);
        let open = self.open_example.iter().flatten().map(|w| &**w);
        FRIENDLY.into_iter().chain(open).chain(self.texts.iter().map(|t| &**t)).find(fits).unwrap_or("word")
    }

    /// Returns every letter that can occur, given the fixed words that matter at this point: those words, one
    /// other word of each class, and where a class has no other word, its fixed words. Where classes do not matter, one other word
    /// stands for all.
    pub(crate) fn letters(&self, relevant: &FxHashSet<u32>, classes_matter: bool) -> Vec<Symbol> {
        let mut letters: Vec<Symbol> = relevant.iter().map(|&w| self.fixed(w)).collect();
        letters.sort_by_key(|s| s.word);
        let most = if classes_matter { usize::MAX } else { 1 };
        let open = self.open_example.iter().enumerate().filter(|(_, example)| example.is_some());
        let open = open.map(|(class, _)| Symbol { word: NO_WORD, class: class as u32 });
        let closed = self.closed_words.iter().filter(|w| !relevant.contains(w)).map(|&w| self.fixed(w));
        letters.extend(open.chain(closed).take(most));
        letters
    }

    fn class(&self, word: &str) -> u32 {
        let Some(dfa) = &self.dfa else { return 0 };
        let Some(mut state) = dfa.universal_start_state(Anchored::Yes) else { return 0 };
        for &byte in word.as_bytes() {
            state = dfa.next_state(state, byte);
            if dfa.is_dead_state(state) {
                return 0;
            }
        }
        self.class_of_state.get(&dfa.next_eoi_state(state)).copied().unwrap_or(0)
    }

    /// Walks the automaton over the bytes of a word: finds every class that some word has, and for each class a
    /// word that is not fixed.
    fn find_classes(&mut self) {
        if let Some(dfa) = self.dfa.take() {
            self.walk_slots(&dfa);
            self.dfa = Some(dfa);
        }
        self.word_class = self.texts.iter().map(|t| self.class(t)).collect();
        // Friendly examples first, so that an example line reads like a line; then whatever was found.
        for word in FRIENDLY {
            let symbol = self.symbol(word);
            if symbol.word == NO_WORD && !FRIENDLY.contains(&self.open_example[symbol.class as usize].as_deref().unwrap_or("")) {
                self.open_example[symbol.class as usize] = Some(word.into());
            }
        }
        if self.dfa.is_none() && self.open_example[0].is_none() {
            self.open_example[0] = (0..).map(|n| format!("other{n}").into_boxed_str()).find(|w| !self.words.contains_key(w));
        }
        self.slot_classes = vec![Vec::new(); self.slots.len()];
        for (class, slots) in self.classes.iter().enumerate() {
            slots.iter().for_each(|&slot| self.slot_classes[slot as usize].push(class as u32));
        }
        let is_closed = |word: &u32| self.open_example[self.word_class[*word as usize] as usize].is_none();
        self.closed_words = (0..self.texts.len() as u32).filter(is_closed).collect();
    }

    fn walk_slots(&mut self, dfa: &dense::DFA<Vec<u32>>) {
        let Some(start) = dfa.universal_start_state(Anchored::Yes) else { return };
        let letters = self.example_letters();
        let step = |state: StateID, letter: char| {
            let mut buffer = [0; 4];
            letter.encode_utf8(&mut buffer).bytes().fold(state, |s, b| dfa.next_state(s, b))
        };
        // Letters that the automaton does not tell apart lead to the same states: one of them shows the way.
        let mut told_apart = FxHashSet::default();
        let is_first = |letter: &&char| !letter.is_ascii() || told_apart.insert(dfa.byte_classes().get(**letter as u8));
        let ways: Vec<char> = letters.iter().filter(is_first).copied().collect();
        // Every state that some text leads to, and its class at the end of the word.
        let mut seen = FxHashMap::from_iter([(start, u32::MAX)]);
        let mut queue = VecDeque::from([start]);
        let mut class_ids: FxHashMap<Vec<u32>, u32> = FxHashMap::from_iter([(Vec::new(), 0)]);
        while let Some(state) = queue.pop_front() {
            for &letter in &ways {
                let next = step(state, letter);
                if seen.contains_key(&next) {
                    continue;
                }
                let end = dfa.next_eoi_state(next);
                let slots: Vec<u32> = if dfa.is_match_state(end) {
                    let mut list: Vec<u32> = (0..dfa.match_len(end)).map(|i| dfa.match_pattern(end, i).as_u32()).collect();
                    list.sort_unstable();
                    list
                } else {
                    Vec::new()
                };
                let class = *class_ids.entry(slots).or_insert_with_key(|slots| {
                    self.classes.push(slots.clone());
                    self.open_example.push(None);
                    self.classes.len() as u32 - 1
                });
                self.class_of_state.insert(end, class);
                seen.insert(next, class);
                queue.push_back(next);
            }
        }
        // For each class its shortest words, until one is not fixed. A state is looked at once more than there
        // are fixed words of the class, which is enough for the shortest of the others to be found.
        let mut fixed_of_class = vec![0_usize; self.classes.len()];
        for text in &self.texts {
            fixed_of_class[self.class_with(dfa, text) as usize] += 1;
        }
        let mut before: FxHashMap<StateID, Vec<StateID>> = FxHashMap::default();
        for &state in seen.keys() {
            for &letter in &ways {
                before.entry(step(state, letter)).or_default().push(state);
            }
        }
        before.values_mut().for_each(Vec::dedup);
        let mut goals: Vec<Vec<StateID>> = vec![Vec::new(); self.classes.len()];
        for (&state, &class) in seen.iter().filter(|(_, class)| **class != u32::MAX) {
            goals[class as usize].push(state);
        }
        for (class, fixed) in fixed_of_class.into_iter().enumerate() {
            let goal = |state: &StateID| seen.get(state).is_some_and(|c| *c as usize == class);
            let useful = co_reachable(goals[class].iter(), &before);
            let mut visits: FxHashMap<StateID, usize> = FxHashMap::default();
            let mut queue = VecDeque::from([(start, String::new())]);
            while let Some((state, word)) = queue.pop_front() {
                if goal(&state) && !word.is_empty() && !self.words.contains_key(word.as_str()) {
                    self.open_example[class] = Some(word.into_boxed_str());
                    break;
                }
                for &letter in &letters {
                    let next = step(state, letter);
                    let count = visits.entry(next).or_default();
                    if useful.contains(&next) && *count <= fixed {
                        *count += 1;
                        queue.push_back((next, format!("{word}{letter}")));
                    }
                }
            }
        }
    }

    fn class_with(&self, dfa: &dense::DFA<Vec<u32>>, word: &str) -> u32 {
        let Some(start) = dfa.universal_start_state(Anchored::Yes) else { return 0 };
        let state = word.bytes().fold(start, |s, b| dfa.next_state(s, b));
        self.class_of_state.get(&dfa.next_eoi_state(state)).copied().unwrap_or(0)
    }

    /// Letters that are enough to tell all slots apart: those of ASCII, those written in a slot, and one other.
    fn example_letters(&self) -> Vec<char> {
        let mut letters: Vec<char> = Vec::new();
        let mut known = FxHashSet::from_iter(['"']);
        let written = self.slots.keys().flat_map(|slot| match slot {
            Slot::Affix(start, end) => start.chars().chain(end.chars()).collect::<Vec<_>>(),
            _ => Vec::new(),
        });
        for letter in ('a'..='z').chain('0'..='9').chain('!'..='~').chain(written).chain(['\u{e6}', '\u{f8}']) {
            if known.insert(letter) {
                letters.push(letter);
            }
        }
        letters
    }
}

/// Returns the states from which one of some states can be reached, which count themselves.
fn co_reachable<'s>(goals: impl Iterator<Item = &'s StateID>, before: &FxHashMap<StateID, Vec<StateID>>) -> FxHashSet<StateID> {
    let mut useful: FxHashSet<StateID> = goals.copied().collect();
    let mut queue: Vec<StateID> = useful.iter().copied().collect();
    while let Some(state) = queue.pop() {
        for &earlier in before.get(&state).into_iter().flatten() {
            if useful.insert(earlier) {
                queue.push(earlier);
            }
        }
    }
    useful
}

/// Returns the letters of a line of canonical words.
pub fn symbols<'w>(alphabet: &Alphabet, words: impl IntoIterator<Item = &'w str>) -> Vec<Symbol> {
    words.into_iter().map(|w| alphabet.symbol(&canonical_word(w))).collect()
}

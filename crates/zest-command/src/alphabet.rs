//! The alphabet of a ledger's command lines: which words its patterns can tell apart.
//!
//! A pattern looks at whole words, so its automaton need not walk over letters. Two words are the same letter
//! of this alphabet when no pattern of the ledger tells them apart: a word that is written out somewhere is a
//! letter of its own, all others fall into classes by the slots that take them. The classes that can occur are
//! not guessed: a deterministic automaton over the bytes of a word, holding all slots at once, is walked.

use std::collections::VecDeque;
use std::hash::Hash;

use rustc_hash::{FxHashMap, FxHashSet};

use crate::pattern::{Pattern, Slot, WordPattern, canonical_word};
use crate::slots::{Slots, State};

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
    /// The placeholders need an automaton of more than 32 MiB, or more than 50 million steps to make it.
    pub fn build(self) -> Result<Alphabet, AlphabetTooLarge> {
        let mut slots: Vec<(&Slot, u32)> = self.slots.iter().map(|(s, &i)| (s, i)).collect();
        slots.sort_by_key(|&(_, i)| i);
        let slots: Vec<&Slot> = slots.into_iter().map(|(slot, _)| slot).collect();
        let automaton = Slots::build(&slots).ok_or(AlphabetTooLarge)?;
        let mut alphabet = Alphabet {
            texts: vec![Box::default(); self.words.len()],
            word_class: Vec::new(),
            classes: vec![0],
            class_of_list: vec![0; automaton.list_count()],
            open_example: Vec::new(),
            slot_classes: Vec::new(),
            closed_words: FxHashMap::default(),
            words: self.words.iter().map(|(text, &word)| (text.clone(), Symbol { word, class: 0 })).collect(),
            slots: self.slots,
            automaton,
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

/// All words that are not written out at some point, in groups that lead to the same.
pub(crate) struct Others(Vec<Group>);

/// A class of the group that has words which are not fixed, if there is one, and the fixed words of its classes that have no others.
struct Group {
    open: Option<u32>,
    closed: Vec<u32>,
}

/// See the [module](self).
#[derive(Debug)]
pub struct Alphabet {
    words: FxHashMap<Box<str>, Symbol>,
    texts: Vec<Box<str>>,
    word_class: Vec<u32>,
    slots: FxHashMap<Slot, u32>,
    automaton: Slots,
    /// For each class the list of its slots in the automaton; class 0 has none.
    classes: Vec<u32>,
    /// The class of each list of slots that the automaton ends in.
    class_of_list: Vec<u32>,
    /// For each class a word that is not a fixed word, if there is one.
    open_example: Vec<Option<Box<str>>>,
    /// For each slot the classes of which it takes the words.
    slot_classes: Vec<Vec<u32>>,
    /// The fixed words of classes that have no other word.
    closed_words: FxHashMap<u32, Vec<u32>>,
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

    /// Returns whether some line matches both patterns, which the alphabet knows.
    pub fn overlap(&self, one: &Pattern, other: &Pattern) -> bool {
        let (one_words, other_words) = (one.words(), other.words());
        let fits = match (one.is_open(), other.is_open()) {
            (true, true) => true,
            (true, false) => one_words.len() <= other_words.len(),
            (false, true) => one_words.len() >= other_words.len(),
            (false, false) => one_words.len() == other_words.len(),
        };
        fits && one_words.iter().zip(other_words).all(|(one, other)| self.share_a_word(one, other))
    }

    fn share_a_word(&self, one: &WordPattern, other: &WordPattern) -> bool {
        match (one, other) {
            (WordPattern::Fixed(words), other) | (other, WordPattern::Fixed(words)) => words.iter().any(|word| other.matches(word)),
            (WordPattern::Slot(one), WordPattern::Slot(other)) => {
                let (Some(one), Some(other)) = (self.slot_id(one), self.slot_id(other)) else { return true };
                // Every class has words, and both lists ascend: the shorter one is looked for in the longer one.
                let (one, other) = (self.slot_classes(one), self.slot_classes(other));
                let (few, many) = if one.len() <= other.len() { (one, other) } else { (other, one) };
                few.iter().any(|class| many.binary_search(class).is_ok())
            }
        }
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

    pub(crate) fn class_slots(&self, class: u32) -> &[u32] {
        self.automaton.list(self.classes[class as usize])
    }

    /// Returns the classes of which a slot takes the words, ascending.
    pub(crate) fn slot_classes(&self, slot: u32) -> &[u32] {
        &self.slot_classes[slot as usize]
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

    /// Returns every letter that can occur, given the fixed words that matter at this point: those words, and of all other words one
    /// for each group of classes that lead to the same.
    pub(crate) fn letters(&self, relevant: &FxHashSet<u32>, others: &Others) -> Vec<Symbol> {
        let mut letters: Vec<Symbol> = relevant.iter().map(|&w| self.fixed(w)).collect();
        letters.sort_by_key(|s| s.word);
        let other = |group: &Group| {
            let fixed = || group.closed.iter().find(|word| !relevant.contains(word)).map(|&word| self.fixed(word));
            group.open.map(|class| Symbol { word: NO_WORD, class }).or_else(fixed)
        };
        letters.extend(others.0.iter().filter_map(other));
        letters
    }

    /// Groups the words of some classes, or of all, by where they lead.
    pub(crate) fn others<T: Clone + Hash + Eq>(&self, classes: Option<&[u32]>, leads_to: impl Fn(u32) -> T) -> Others {
        let mut groups: Vec<Group> = Vec::new();
        let mut number: FxHashMap<T, usize> = FxHashMap::default();
        // Neighbours often lead to the same.
        let mut last: Option<(T, usize)> = None;
        let mut group_of = |class: u32| {
            let to = leads_to(class);
            if let Some((_, group)) = last.as_ref().filter(|(last, _)| *last == to) {
                return *group;
            }
            let group = *number.entry(to.clone()).or_insert(groups.len());
            last = Some((to, group));
            if group == groups.len() {
                groups.push(Group { open: None, closed: Vec::new() });
            }
            group
        };
        let (mut open, mut closed) = (Vec::new(), Vec::new());
        let mut look_at = |class: u32| match &self.open_example[class as usize] {
            Some(_) => open.push((class, group_of(class))),
            None => closed.extend(self.closed_words.get(&class).into_iter().flatten().map(|&word| (word, class))),
        };
        match classes {
            Some(classes) => classes.iter().copied().for_each(&mut look_at),
            None => (0..self.classes.len() as u32).for_each(&mut look_at),
        }
        // Fixed words come last and in their order, like all letters.
        closed.sort_unstable();
        let closed: Vec<(u32, usize)> = closed.into_iter().map(|(word, class)| (word, group_of(class))).collect();
        for (class, group) in open {
            groups[group].open.get_or_insert(class);
        }
        for (word, group) in closed {
            groups[group].closed.push(word);
        }
        Others(groups)
    }

    fn class(&self, word: &str) -> u32 {
        self.class_at(self.automaton.walk(word))
    }

    fn class_at(&self, state: State) -> u32 {
        self.class_of_list[self.automaton.list_at(state) as usize]
    }

    fn is_fixed(&self, word: &str) -> bool {
        self.words.contains_key(word)
    }

    /// Finds every class that some word has, and for each class a word that is not fixed.
    fn find_classes(&mut self) {
        let letters = self.example_letters();
        let reached = Reached::of(&self.automaton, &letters);
        for &(state, ..) in &reached.order[1..] {
            let list = self.automaton.list_at(state);
            if list != 0 && self.class_of_list[list as usize] == 0 {
                self.class_of_list[list as usize] = self.classes.len() as u32;
                self.classes.push(list);
            }
        }
        self.word_class = self.texts.iter().map(|t| self.class(t)).collect();
        self.open_example = self.open_examples(&reached, &letters);
        // Friendly examples first, so that an example line reads like a line; then whatever was found.
        for word in FRIENDLY {
            let symbol = self.symbol(word);
            if symbol.word == NO_WORD && !FRIENDLY.contains(&self.open_example[symbol.class as usize].as_deref().unwrap_or("")) {
                self.open_example[symbol.class as usize] = Some(word.into());
            }
        }
        self.slot_classes = vec![Vec::new(); self.slots.len()];
        for (class, &list) in self.classes.iter().enumerate() {
            self.automaton.list(list).iter().for_each(|&slot| self.slot_classes[slot as usize].push(class as u32));
        }
        for (word, &class) in self.word_class.iter().enumerate() {
            if self.open_example[class as usize].is_none() {
                self.closed_words.entry(class).or_default().push(word as u32);
            }
        }
    }

    /// Returns for each class its shortest word that is not fixed, if there is one.
    fn open_examples(&self, reached: &Reached, letters: &[char]) -> Vec<Option<Box<str>>> {
        let mut examples = vec![None; self.classes.len()];
        let mut is_looked_for = vec![true; self.classes.len()];
        let mut before = None;
        for (place, &(state, ..)) in reached.order.iter().enumerate().skip(1) {
            let class = self.class_at(state) as usize;
            if !std::mem::take(&mut is_looked_for[class]) {
                continue;
            }
            let shortest = reached.word(place);
            examples[class] = if self.is_fixed(&shortest) {
                let before = before.get_or_insert_with(|| reached.before(&self.automaton));
                self.longer_example(class as u32, reached, before, letters)
            } else {
                Some(shortest.into())
            };
        }
        examples
    }

    /// Returns the shortest word of a class that is not fixed, where the shortest one is.
    ///
    /// A state is looked at once more than there are fixed words of the class, which is enough for the shortest of the others.
    fn longer_example(&self, class: u32, reached: &Reached, before: &Before, letters: &[char]) -> Option<Box<str>> {
        let is_goal = |state: State| state != State::START && self.class_at(state) == class;
        let useful = co_reachable(reached.order.iter().map(|&(state, ..)| state).filter(|&state| is_goal(state)), before);
        let fixed = self.word_class.iter().filter(|c| **c == class).count();
        let mut visits: FxHashMap<State, usize> = FxHashMap::default();
        let mut queue = VecDeque::from([(State::START, String::new())]);
        while let Some((state, word)) = queue.pop_front() {
            if is_goal(state) && !word.is_empty() && !self.is_fixed(&word) {
                return Some(word.into_boxed_str());
            }
            for &letter in letters {
                let next = step(&self.automaton, state, letter);
                let count = visits.entry(next).or_default();
                if useful.contains(&next) && *count <= fixed {
                    *count += 1;
                    queue.push_back((next, format!("{word}{letter}")));
                }
            }
        }
        None
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

/// The states that some text leads to, the ones of shorter texts first.
struct Reached {
    /// Each state, the place of the one before it, and the letter that leads there.
    order: Vec<(State, usize, char)>,
    /// Letters of which the automaton tells any two apart.
    ways: Vec<char>,
}

/// For each state those from which one letter leads there.
type Before = FxHashMap<State, Vec<State>>;

impl Reached {
    fn of(automaton: &Slots, letters: &[char]) -> Self {
        // Letters that the automaton does not tell apart lead to the same states: one of them shows the way.
        let mut told_apart = FxHashSet::default();
        let is_first = |letter: &&char| !letter.is_ascii() || told_apart.insert(automaton.column(**letter as u8));
        let ways: Vec<char> = letters.iter().filter(is_first).copied().collect();
        let mut order = vec![(State::START, 0, ' ')];
        let mut seen = FxHashSet::from_iter([State::START]);
        let mut place = 0;
        while let Some(&(state, ..)) = order.get(place) {
            for &letter in &ways {
                let next = step(automaton, state, letter);
                if seen.insert(next) {
                    order.push((next, place, letter));
                }
            }
            place += 1;
        }
        Self { order, ways }
    }

    /// Returns the first of the shortest words that lead to the state at a place.
    fn word(&self, mut place: usize) -> String {
        let mut letters = Vec::new();
        while place > 0 {
            let (_, before, letter) = self.order[place];
            letters.push(letter);
            place = before;
        }
        letters.into_iter().rev().collect()
    }

    fn before(&self, automaton: &Slots) -> Before {
        let mut before = Before::default();
        for &(state, ..) in &self.order {
            for &letter in &self.ways {
                before.entry(step(automaton, state, letter)).or_default().push(state);
            }
        }
        before.values_mut().for_each(Vec::dedup);
        before
    }
}

fn step(automaton: &Slots, state: State, letter: char) -> State {
    letter.encode_utf8(&mut [0; 4]).bytes().fold(state, |state, byte| automaton.next(state, byte))
}

/// Returns the states from which one of some states can be reached, which count themselves.
fn co_reachable(goals: impl Iterator<Item = State>, before: &Before) -> FxHashSet<State> {
    let mut useful: FxHashSet<State> = goals.collect();
    let mut queue: Vec<State> = useful.iter().copied().collect();
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

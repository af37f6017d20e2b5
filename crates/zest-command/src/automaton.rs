//! A command set as one deterministic automaton over words.
//!
//! A state is the set of rules that are still possible after the words so far. Its answer is the lowest rule
//! that matches if the line ends here. A rule that has reached its `...` matches whatever follows, so every
//! later rule is dropped from the state: it can no longer decide. A decision costs one step a word, whatever the
//! number of rules.

use std::collections::{BTreeMap, VecDeque};
use std::ops::ControlFlow;
use std::rc::Rc;

use rustc_hash::{FxHashMap, FxHashSet};
use smallvec::SmallVec;

use crate::alphabet::{Alphabet, NO_WORD, Others, Symbol};
use crate::pattern::{Pattern, WordPattern};

/// The most states one command set may need.
pub const MAX_STATES: usize = 200_000;
/// The most steps that building one command set may take.
pub const MAX_STEPS: usize = 20_000_000;
/// The most state combinations that one comparison of automata looks at.
pub const MAX_COMBINATIONS: usize = 200_000;

/// How many edges of a state are looked at one by one.
const FEW: u32 = 8;

/// No rule.
pub(crate) const NO_RULE: u32 = u32::MAX;
/// The state from which no rule can match any more.
const DEAD: u32 = 0;
pub(crate) const START: u32 = 1;

/// A command set needs more than [`MAX_STATES`] states or [`MAX_STEPS`] steps.
#[derive(Clone, Copy, Debug)]
pub struct TooLarge;

/// What a step reads of a state: all of it in one place, since a large set does not fit the nearest cache.
#[derive(Clone, Copy, Debug)]
struct State {
    /// The lowest rule that matches when the line ends here.
    accepts: u32,
    /// Where a word leads that has no edge of its own: a state, or the first of a state for each class.
    fallback: u32,
    is_by_class: bool,
    /// How many fixed words have an edge of their own.
    edges: u32,
    /// The first of them, where they are few.
    first_edge: u32,
}

/// See the [module](self).
#[derive(Debug)]
pub struct Automaton {
    states: Vec<State>,
    /// Edges of states that have few: word and target, those of a state together.
    few: Vec<(u32, u32)>,
    /// Edges of states that have many, by state and word.
    many: FxHashMap<(u32, u32), u32>,
    by_class: Vec<u32>,
    /// For the first target by class of a state the classes that lead somewhere, where most words lead nowhere.
    leading: FxHashMap<u32, Box<[u32]>>,
    /// The fixed words with an edge of their own, for each state.
    edge_words: Vec<Box<[u32]>>,
}

/// A rule, and how many of its words have been seen.
type Item = (u32, u32);

struct Builder<'a> {
    alphabet: &'a Alphabet,
    patterns: &'a [&'a Pattern],
    automaton: Automaton,
    ids: FxHashMap<Rc<[Item]>, u32>,
    queue: VecDeque<(u32, Rc<[Item]>)>,
    steps: usize,
}

impl Automaton {
    /// Builds the automaton of rules in order; the alphabet must have been made with their patterns.
    pub fn build(alphabet: &Alphabet, patterns: &[&Pattern]) -> Result<Self, TooLarge> {
        let dead = State { accepts: NO_RULE, fallback: DEAD, is_by_class: false, edges: 0, first_edge: 0 };
        let empty = Self {
            states: vec![dead],
            few: Vec::new(),
            many: FxHashMap::default(),
            by_class: Vec::new(),
            leading: FxHashMap::default(),
            edge_words: vec![Box::default()],
        };
        let mut builder = Builder { alphabet, patterns, automaton: empty, ids: FxHashMap::default(), queue: VecDeque::new(), steps: 0 };
        let mut all = (0..patterns.len() as u32).map(|rule| (rule, 0)).collect();
        // OK because an automaton without rules needs its start state as well.
        if builder.state(&mut all)? == DEAD {
            builder.push_state(Rc::default(), NO_RULE);
        }
        while let Some((state, items)) = builder.queue.pop_front() {
            builder.expand(state, &items)?;
        }
        Ok(builder.automaton)
    }

    /// Takes one step. From [`DEAD`] every step leads to it again.
    #[inline]
    pub(crate) fn step(&self, state: u32, symbol: Symbol) -> u32 {
        let row = self.states[state as usize];
        if row.edges > 0 && symbol.word != NO_WORD {
            let target = if row.edges <= FEW {
                let edges = &self.few[row.first_edge as usize..][..row.edges as usize];
                edges.iter().find(|(word, _)| *word == symbol.word).map(|&(_, to)| to)
            } else {
                self.many.get(&(state, symbol.word)).copied()
            };
            if let Some(next) = target {
                return next;
            }
        }
        if row.is_by_class { self.by_class[row.fallback as usize + symbol.class as usize] } else { row.fallback }
    }

    /// Returns the rule that decides a line ending in `state`.
    #[inline]
    pub fn accepted(&self, state: u32) -> Option<u32> {
        let rule = self.states[state as usize].accepts;
        (rule != NO_RULE).then_some(rule)
    }

    /// Returns the rule that decides a line.
    pub fn decide(&self, line: &[Symbol]) -> Option<u32> {
        self.accepted(line.iter().fold(START, |state, &symbol| self.step(state, symbol)))
    }

    /// Returns how many states there are.
    pub(crate) fn state_count(&self) -> usize {
        self.states.len()
    }
}

impl Builder<'_> {
    fn push_state(&mut self, items: Rc<[Item]>, accepts: u32) -> u32 {
        let id = self.automaton.states.len() as u32;
        self.automaton.states.push(State { accepts, fallback: DEAD, is_by_class: false, edges: 0, first_edge: 0 });
        self.automaton.edge_words.push(Box::default());
        self.queue.push_back((id, items));
        id
    }

    /// Returns the state for a set of items, making it if it is new. What cannot decide any more is taken out of the set.
    fn state(&mut self, items: &mut Vec<Item>) -> Result<u32, TooLarge> {
        if items.is_empty() {
            return Ok(DEAD);
        }
        items.sort_unstable();
        items.dedup();
        self.steps += items.len();
        let ended = |&&(rule, at): &&Item| self.patterns[rule as usize].words().len() == at as usize;
        // The first rule that takes whatever follows makes all later ones pointless.
        if let Some(open) = items.iter().filter(ended).find(|&&(rule, _)| self.patterns[rule as usize].is_open()).copied() {
            items.retain(|&(rule, _)| rule <= open.0);
        }
        if let Some(&id) = self.ids.get(items.as_slice()) {
            return Ok(id);
        }
        if self.automaton.state_count() >= MAX_STATES || self.steps > MAX_STEPS {
            return Err(TooLarge);
        }
        let accepts = items.iter().find(ended).map_or(NO_RULE, |&(rule, _)| rule);
        let items = Rc::from(items.as_slice());
        self.ids.insert(Rc::clone(&items), self.automaton.state_count() as u32);
        Ok(self.push_state(items, accepts))
    }

    fn expand(&mut self, state: u32, items: &[Item]) -> Result<(), TooLarge> {
        let patterns = self.patterns;
        let mut by_word: FxHashMap<u32, Vec<Item>> = FxHashMap::default();
        let mut by_slot: BTreeMap<u32, Vec<Item>> = BTreeMap::new();
        let mut always = Vec::new();
        for &(rule, at) in items {
            let pattern = patterns[rule as usize];
            match pattern.words().get(at as usize) {
                None if pattern.is_open() => always.push((rule, at)),
                None => {}
                Some(WordPattern::Fixed(words)) => {
                    for word in words {
                        let id = self.alphabet.word_id(word).expect("the alphabet was made with these patterns");
                        by_word.entry(id).or_default().push((rule, at + 1));
                    }
                }
                Some(WordPattern::Slot(slot)) => {
                    let id = self.alphabet.slot_id(slot).expect("the alphabet was made with these patterns");
                    by_slot.entry(id).or_default().push((rule, at + 1));
                }
            }
        }
        // Most classes are of no slot here: for those it is as for any other word. Those of the same slots lead to the same.
        let mut slots_of: FxHashMap<u32, Vec<u32>> = FxHashMap::default();
        let led_to = |slots: &[u32]| slots.iter().flat_map(|slot| &by_slot[slot]).chain(&always).copied().collect::<Vec<Item>>();
        let fallback = if by_slot.is_empty() {
            self.state(&mut always.clone())?
        } else {
            let classes_of = |slot: &u32| self.alphabet.slot_classes(*slot);
            self.steps += self.alphabet.class_count() + by_slot.keys().map(|slot| classes_of(slot).len()).sum::<usize>();
            if self.steps > MAX_STEPS {
                return Err(TooLarge);
            }
            let other = self.state(&mut always.clone())?;
            let first = self.automaton.by_class.len();
            self.automaton.by_class.resize(first + self.alphabet.class_count(), other);
            let mut classes: Vec<u32>;
            if let (1, Some(slot)) = (by_slot.len(), by_slot.keys().next()) {
                classes = classes_of(slot).to_vec();
                let target = self.state(&mut led_to(&[*slot]))?;
                classes.iter().for_each(|&class| self.automaton.by_class[first + class as usize] = target);
            } else {
                for &slot in by_slot.keys() {
                    classes_of(&slot).iter().for_each(|&class| slots_of.entry(class).or_default().push(slot));
                }
                classes = slots_of.keys().copied().collect();
                classes.sort_unstable();
                let mut known: FxHashMap<&[u32], u32> = FxHashMap::default();
                for &class in &classes {
                    let slots = slots_of[&class].as_slice();
                    let target = match known.get(slots) {
                        Some(&target) => target,
                        None => self.state(&mut led_to(slots))?,
                    };
                    known.insert(slots, target);
                    self.automaton.by_class[first + class as usize] = target;
                }
            }
            if other == DEAD {
                self.automaton.leading.insert(first as u32, classes.as_slice().into());
            }
            first as u32
        };
        let first_edge = self.automaton.few.len() as u32;
        let row = &mut self.automaton.states[state as usize];
        (row.fallback, row.is_by_class, row.edges, row.first_edge) = (fallback, !by_slot.is_empty(), by_word.len() as u32, first_edge);
        let mut words: Vec<u32> = by_word.keys().copied().collect();
        words.sort_unstable();
        let mut targets = Vec::with_capacity(words.len());
        for &word in &words {
            let slots = self.alphabet.class_slots(self.alphabet.fixed(word).class);
            let mut next = led_to(&slots.iter().copied().filter(|slot| by_slot.contains_key(slot)).collect::<Vec<_>>());
            next.extend(&by_word[&word]);
            targets.push((word, self.state(&mut next)?));
        }
        if targets.len() as u32 <= FEW {
            self.automaton.few.extend(targets);
        } else {
            self.automaton.many.extend(targets.into_iter().map(|(word, target)| ((state, word), target)));
        }
        self.automaton.edge_words[state as usize] = words.into_boxed_slice();
        Ok(())
    }
}

/// What [`explore`] came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Explored {
    /// Every combination of states that some line leads to was visited.
    Fully,
    /// The visitor asked to stop.
    Stopped,
    /// There were more than [`MAX_COMBINATIONS`].
    GaveUp,
}

/// What a state makes of words that have no edge of their own.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Row {
    /// Their targets by class begin here.
    ByClass(u32),
    /// All of them lead to one state.
    Alike,
    /// All of them lead nowhere.
    Nowhere,
}

/// A row of each automaton.
type Rows = SmallVec<[Row; 4]>;

/// Groups the words without an edge of their own by where they lead, as far as the first automaton takes part.
fn others_of(alphabet: &Alphabet, automata: &[&Automaton], rows: &Rows) -> Others {
    let leading = match rows[0] {
        Row::Nowhere => Some(&[][..]),
        Row::Alike => None,
        Row::ByClass(row) => automata[0].leading.get(&row).map(|classes| &**classes),
    };
    let by_class: SmallVec<[&[u32]; 4]> = automata
        .iter()
        .zip(rows)
        .filter_map(|(a, row)| match *row {
            Row::ByClass(first) => Some(&a.by_class[first as usize..][..alphabet.class_count()]),
            Row::Alike | Row::Nowhere => None,
        })
        .collect();
    match *by_class.as_slice() {
        [targets] => alphabet.others(leading, |class| targets[class as usize]),
        _ => alphabet.others(leading, |class| by_class.iter().map(|targets| targets[class as usize]).collect::<SmallVec<[u32; 4]>>()),
    }
}

/// Walks several automata of one alphabet side by side over all lines at once, shortest lines first.
///
/// `visit` gets the states and a shortest line that leads to them. Combinations for which `is_alive` is false
/// are not followed further, nor those in which the first automaton takes no part any more.
pub fn explore(
    alphabet: &Alphabet,
    automata: &[&Automaton],
    is_alive: impl Fn(&[u32]) -> bool,
    mut visit: impl FnMut(&[u32], &mut dyn Iterator<Item = Symbol>) -> ControlFlow<()>,
) -> Explored {
    let start: Box<[u32]> = automata.iter().map(|_| START).collect();
    // The start itself counts as seen only once a line leads back to it.
    let mut seen: FxHashSet<Box<[u32]>> = FxHashSet::default();
    // States, the entry they were reached from, and the letter that led there.
    let mut found: Vec<(Box<[u32]>, usize, Symbol)> = vec![(start, 0, Symbol { word: NO_WORD, class: 0 })];
    let mut others: FxHashMap<Rows, Others> = FxHashMap::default();
    let mut next = 0;
    while next < found.len() {
        let states = found[next].0.clone();
        let relevant: FxHashSet<u32> = automata.iter().zip(&*states).flat_map(|(a, &s)| a.edge_words[s as usize].iter().copied()).collect();
        let row = |(a, &s): (&&Automaton, &u32)| {
            let row = a.states[s as usize];
            match row.is_by_class {
                true => Row::ByClass(row.fallback),
                false if is_dead(row.fallback) => Row::Nowhere,
                false => Row::Alike,
            }
        };
        let others =
            others.entry(automata.iter().zip(&*states).map(row).collect()).or_insert_with_key(|rows| others_of(alphabet, automata, rows));
        for symbol in alphabet.letters(&relevant, others) {
            // The first one leads, and most letters lead it nowhere.
            let first = automata[0].step(states[0], symbol);
            if is_dead(first) {
                continue;
            }
            let others = automata[1..].iter().zip(&states[1..]).map(|(a, &s)| a.step(s, symbol));
            let to: SmallVec<[u32; 8]> = std::iter::once(first).chain(others).collect();
            if is_alive(&to) && !seen.contains(&to[..]) {
                if found.len() >= MAX_COMBINATIONS {
                    return Explored::GaveUp;
                }
                seen.insert(to[..].into());
                found.push((to[..].into(), next, symbol));
                let mut line = Vec::new();
                let mut at = found.len() - 1;
                while at != 0 {
                    line.push(found[at].2);
                    at = found[at].1;
                }
                if visit(&to, &mut line.iter().rev().copied()).is_break() {
                    return Explored::Stopped;
                }
            }
        }
        next += 1;
    }
    Explored::Fully
}

/// Returns whether some rule can still match.
pub const fn is_dead(state: u32) -> bool {
    state == DEAD
}

/// How many rules are compared one by one with those that hide them.
pub const MAX_HIDDEN: usize = 300;

/// Returns the rules that decide no line at all, each with the rules that decide its lines instead; without those for all behind the
/// first [`MAX_HIDDEN`].
pub fn hidden_rules(alphabet: &Alphabet, automaton: &Automaton, patterns: &[&Pattern]) -> Vec<(u32, Option<Vec<u32>>)> {
    let mut deciding = FxHashSet::default();
    let whole = explore(
        alphabet,
        &[automaton],
        |s| !is_dead(s[0]),
        |states, _| {
            deciding.extend(automaton.accepted(states[0]));
            ControlFlow::Continue(())
        },
    );
    if whole == Explored::GaveUp {
        return Vec::new();
    }
    (0..patterns.len() as u32)
        .filter(|rule| !deciding.contains(rule))
        .enumerate()
        .map(|(n, rule)| (rule, (n < MAX_HIDDEN).then(|| hiding(alphabet, automaton, patterns[rule as usize]))))
        .collect()
}

/// Returns the rules that decide the lines of one pattern, ascending.
pub(crate) fn hiding(alphabet: &Alphabet, automaton: &Automaton, pattern: &Pattern) -> Vec<u32> {
    let Ok(own) = Automaton::build(alphabet, &[pattern]) else { return Vec::new() };
    let mut rules = Vec::new();
    explore(
        alphabet,
        &[&own, automaton],
        |s| !is_dead(s[0]),
        |states, _| {
            if own.accepted(states[0]).is_some() {
                rules.extend(automaton.accepted(states[1]));
            }
            ControlFlow::Continue(())
        },
    );
    rules.sort_unstable();
    rules.dedup();
    rules
}

//! An ordered list of patterns as a tree over the words of a line, for those who compare words in a way of their own.
//!
//! An [automaton](crate::automaton) knows beforehand which words can be told apart. Where a first word is a file that several paths
//! lead to, or a placeholder takes less than elsewhere, that is not known; so the tree is walked with the comparisons of whoever asks.
//! Patterns that begin alike go through the same nodes: what a walk costs grows with the placeholders that stand side by side, and not
//! with the number of patterns.

use rustc_hash::{FxHashMap, FxHashSet};
use smallvec::{SmallVec, smallvec};

use crate::pattern::{Pattern, Slot, WordPattern};

/// How a line is compared with patterns.
pub trait Words {
    /// Returns whether the first word of a line is what a pattern writes out as its first.
    fn is_same(&self, written: &str, word: &str) -> bool;

    /// Returns whether a placeholder takes a word.
    fn takes(&self, slot: &Slot, word: &str) -> bool;
}

/// Patterns by their words.
///
/// # Example
/// ```
/// use zest_command::{Pattern, Slot, tree::{Tree, Words}};
/// struct Plain;
/// impl Words for Plain {
///     fn is_same(&self, written: &str, word: &str) -> bool {
///         written == word
///     }
///     fn takes(&self, slot: &Slot, word: &str) -> bool {
///         slot.matches(word)
///     }
/// }
/// let patterns = [Pattern::parse("/bin/show {number}")?, Pattern::parse("/bin/show ...")?];
/// let tree = Tree::of(patterns.iter());
/// assert_eq!(tree.first(&["/bin/show", "7"], &Plain), Some(0));
/// assert_eq!(tree.first(&["/bin/show", "it", "all"], &Plain), Some(1));
/// assert_eq!(tree.first(&["/bin/hide"], &Plain), None);
/// # Ok::<(), zest_command::PatternError>(())
/// ```
#[derive(Clone, Debug)]
pub struct Tree {
    nodes: Vec<Node>,
    /// The first words of patterns, each with the node behind it.
    programs: Vec<(Vec<String>, u32)>,
    /// Them by the last part of their path.
    by_name: FxHashMap<Box<str>, SmallVec<[u32; 2]>>,
}

#[derive(Clone, Debug, Default)]
struct Node {
    /// The first pattern that goes through here.
    least: u32,
    /// The first pattern that ends here.
    ends: Option<u32>,
    /// The first that takes whatever follows.
    is_open: Option<u32>,
    words: FxHashMap<Box<str>, SmallVec<[u32; 2]>>,
    slots: Vec<(Slot, u32)>,
}

/// Returns the last part of a path: the name of the file that it leads to, as it is written.
#[must_use]
pub fn name(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

impl Tree {
    /// Makes the tree of a list of patterns.
    pub fn of<'p>(patterns: impl Iterator<Item = &'p Pattern>) -> Self {
        let mut tree = Self { nodes: vec![Node::default()], programs: Vec::new(), by_name: FxHashMap::default() };
        // What is written alike leads to one node.
        let mut fixed: FxHashMap<(u32, &'p [String]), u32> = FxHashMap::default();
        let mut slots: FxHashMap<(u32, &'p Slot), u32> = FxHashMap::default();
        for (number, pattern) in patterns.enumerate() {
            let number = number as u32;
            let mut at = 0;
            for (position, word) in pattern.words().iter().enumerate() {
                at = match word {
                    WordPattern::Slot(slot) => *slots.entry((at, slot)).or_insert_with(|| {
                        let next = tree.node(number);
                        tree.nodes[at as usize].slots.push((slot.clone(), next));
                        next
                    }),
                    WordPattern::Fixed(list) => *fixed.entry((at, list)).or_insert_with(|| {
                        let next = tree.node(number);
                        if position == 0 {
                            let program = tree.programs.len() as u32;
                            tree.programs.push((list.clone(), next));
                            let names: FxHashSet<&str> = list.iter().map(|word| name(word)).collect();
                            names.into_iter().for_each(|name| tree.by_name.entry(name.into()).or_default().push(program));
                        } else {
                            let words: FxHashSet<&str> = list.iter().map(String::as_str).collect();
                            let node = &mut tree.nodes[at as usize];
                            words.into_iter().for_each(|word| node.words.entry(word.into()).or_default().push(next));
                        }
                        next
                    }),
                };
            }
            let node = &mut tree.nodes[at as usize];
            let end = if pattern.is_open() { &mut node.is_open } else { &mut node.ends };
            end.get_or_insert(number);
        }
        tree
    }

    fn node(&mut self, least: u32) -> u32 {
        self.nodes.push(Node { least, ..Node::default() });
        self.nodes.len() as u32 - 1
    }

    /// Returns the number of the first pattern that matches a line.
    ///
    /// A first word that is written out is compared by [`Words::is_same`] with those whose path ends alike.
    #[must_use]
    pub fn first(&self, line: &[&str], words: &impl Words) -> Option<usize> {
        let mut best: Option<u32> = None;
        let mut here: SmallVec<[u32; 16]> = smallvec![0];
        for position in 0..=line.len() {
            let mut next: SmallVec<[u32; 16]> = SmallVec::new();
            for at in here {
                let node = &self.nodes[at as usize];
                let word = line.get(position);
                let end = if word.is_none() { node.ends } else { None };
                best = [best, node.is_open, end].into_iter().flatten().min();
                let Some(word) = word else { continue };
                if position == 0 {
                    let programs = self.by_name.get(name(word)).into_iter().flatten().map(|&program| &self.programs[program as usize]);
                    next.extend(
                        programs.filter(|(list, _)| list.iter().any(|written| words.is_same(written, word))).map(|(_, next)| *next),
                    );
                } else if let Some(nodes) = node.words.get(*word) {
                    next.extend(nodes.iter().copied());
                }
                next.extend(node.slots.iter().filter(|(slot, _)| words.takes(slot, word)).map(|(_, next)| *next));
            }
            // What begins behind the best that was found changes nothing.
            next.retain(|node| best.is_none_or(|best| self.nodes[*node as usize].least < best));
            here = next;
        }
        best.map(|best| best as usize)
    }
}

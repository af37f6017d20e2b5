//! Grants of clouds and applications, and where those are found that can concern a path.
//!
//! What is written once is kept once, whatever number of systems it counts on: a decision looks at one short row of a grant, and at
//! its terms only where there is something in them to look at.

use std::ops::{Deref, Range};
use std::sync::Arc;

use fixedbitset::FixedBitSet;
use rustc_hash::{FxHashMap, FxHashSet};
use smallvec::SmallVec;

use crate::links::path::PathPattern;
use crate::links::{Conditions, Duties, Holder, Index};
use zest_model::source::Place;

/// A grant on one system.
#[derive(Clone, Debug)]
pub(crate) struct GrantLinks {
    pub(crate) is_deny: bool,
    /// Whether it has no conditions of its own, nothing that lifts it, and no obligations.
    pub(crate) is_bare: bool,
    /// Grants of the same operations have one set of them.
    pub(crate) operations: Arc<FixedBitSet>,
    terms: Arc<Terms>,
}

/// What is written of a grant, but for the operations: they have numbers on each system.
#[derive(Clone, Debug)]
pub(crate) struct Terms {
    /// Everywhere, if empty.
    pub(crate) on: Vec<PathPattern>,
    pub(crate) except_on: Vec<PathPattern>,
    pub(crate) holders: Vec<Holder>,
    pub(crate) when: Conditions,
    /// Conditions that lift it.
    pub(crate) lifted_by: Option<Conditions>,
    pub(crate) duties: Option<Duties>,
    pub(crate) place: Place,
    /// Operations as they are written.
    pub(crate) shown: String,
}

impl Deref for GrantLinks {
    type Target = Terms;

    fn deref(&self) -> &Terms {
        &self.terms
    }
}

impl GrantLinks {
    pub(super) fn new(is_deny: bool, operations: Arc<FixedBitSet>, terms: Terms) -> Self {
        let Terms { on: _, except_on: _, holders: _, when, lifted_by, duties, place: _, shown: _ } = &terms;
        let is_bare = when.is_empty() && lifted_by.is_none() && duties.is_none();
        Self { is_deny, is_bare, operations, terms: Arc::new(terms) }
    }

    pub(crate) fn concerns(&self, operation: usize, path: &str) -> bool {
        self.operations.contains(operation) && self.is_on(path)
    }

    /// Returns whether it is on a path.
    pub(super) fn is_on(&self, path: &str) -> bool {
        (self.on.is_empty() || self.on.iter().any(|p| p.covers(path))) && !self.except_on.iter().any(|p| p.covers(path))
    }
}

/// Sets of operations, each once.
#[derive(Debug, Default)]
pub(super) struct Sets(FxHashSet<Arc<FixedBitSet>>);

impl Sets {
    pub(super) fn one(&mut self, set: FixedBitSet) -> Arc<FixedBitSet> {
        if let Some(known) = self.0.get(&set) {
            return Arc::clone(known);
        }
        let set = Arc::new(set);
        self.0.insert(Arc::clone(&set));
        set
    }
}

/// What it says about a grant that a path is, or is below, what the grant begins with.
#[derive(Clone, Copy, Debug)]
enum Found {
    /// The grant is on it.
    On,
    /// The grant is on that path itself, and on nothing below.
    OnItself,
    /// The pattern has more to say.
    Open,
}

/// A grant as it stands with its holder, with what a decision reads of it: the row of the grant itself lies far away.
#[derive(Clone, Copy, Debug)]
struct Entry {
    grant: u32,
    /// The number of its operations among the sets.
    operations: u32,
    found: Found,
    is_deny: bool,
    is_bare: bool,
}

/// A grant that is found for somebody.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Numbered {
    pub(crate) number: usize,
    /// Whether it is only not ruled out that it is on the path that was asked for.
    pub(crate) is_open: bool,
    pub(crate) is_deny: bool,
    pub(crate) is_bare: bool,
}

/// Grants in the order in which they count, and by whom they are for and the path that what they are on begins with: a decision looks
/// at those alone that can concern its resource.
#[derive(Debug, Default)]
pub(crate) struct Grants {
    all: Vec<GrantLinks>,
    beginnings: Index<u32>,
    /// The bytes of the longest of them: a longer path is not looked through to its end.
    longest: usize,
    holders: FxHashMap<Holder, Range<u32>>,
    /// The beginnings of those of each holder side by side, in order; by themselves, so that many lie in one line of a cache.
    keys: Vec<u32>,
    /// The grant of each of them.
    entries: Vec<Entry>,
    /// The sets of operations that grants have.
    sets: Vec<Arc<FixedBitSet>>,
    /// Grants by beginning, whoever they are for.
    by_beginning: Vec<(u32, u32)>,
}

/// What of a path grants begin with: the path itself (true), and what it is below.
pub(crate) type Beginnings = SmallVec<[(u32, bool); 8]>;

/// What is asked for, as far as grants are found by it.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Wanted<T> {
    pub(crate) beginnings: T,
    /// Grants of other operations are left out; none, if it is not stated.
    pub(crate) operation: Option<usize>,
}

/// Grants, in the order in which they count.
pub(crate) type Numbers = SmallVec<[Numbered; 8]>;

impl Grants {
    pub(super) fn of(all: Vec<GrantLinks>) -> Self {
        let mut new = Self { all, ..Self::default() };
        let mut entries: Vec<(Holder, u32, Entry)> = Vec::new();
        let mut known: FxHashMap<*const FixedBitSet, u32> = FxHashMap::default();
        for (number, grant) in all_of(&new.all) {
            let operations = *known.entry(Arc::as_ptr(&grant.operations)).or_insert_with(|| {
                new.sets.push(Arc::clone(&grant.operations));
                new.sets.len() as u32 - 1
            });
            let everywhere = grant.on.is_empty().then_some(("", Found::Open));
            let patterns = grant.on.iter().map(|pattern| {
                let found = match pattern.fixed() {
                    Some((_, is_open)) if grant.except_on.is_empty() => {
                        if is_open {
                            Found::On
                        } else {
                            Found::OnItself
                        }
                    }
                    _ => Found::Open,
                };
                (pattern.beginning(), found)
            });
            for (text, found) in patterns.chain(everywhere) {
                let next = new.beginnings.len() as u32;
                new.longest = new.longest.max(text.len());
                let beginning = match new.beginnings.get(text) {
                    Some(&known) => known,
                    None => *new.beginnings.entry(text.into()).or_insert(next),
                };
                new.by_beginning.push((beginning, number));
                let entry = Entry { grant: number, operations, found, is_deny: grant.is_deny, is_bare: grant.is_bare };
                entries.extend(grant.holders.iter().map(|&holder| (holder, beginning, entry)));
            }
        }
        new.by_beginning.sort_unstable();
        new.by_beginning.dedup();
        entries.sort_by_key(|(holder, beginning, entry)| (*holder, *beginning, entry.grant));
        for (at, (holder, ..)) in entries.iter().enumerate() {
            let at = at as u32;
            new.holders.entry(*holder).or_insert(at..at).end = at + 1;
        }
        (new.keys, new.entries) = entries.into_iter().map(|(_, beginning, entry)| (beginning, entry)).unzip();
        new
    }

    pub(super) fn all(&self) -> &[GrantLinks] {
        &self.all
    }

    pub(super) fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// Returns those for whom there are grants.
    pub(super) fn holders(&self) -> impl Iterator<Item = Holder> {
        self.holders.keys().copied()
    }

    pub(super) fn beginnings(&self, path: &str) -> Beginnings {
        if self.all.is_empty() {
            return Beginnings::new();
        }
        let mut found = Beginnings::new();
        let mut look = |end: usize| {
            // OK because a beginning ends beside a `/`, or with the path.
            found.extend(self.beginnings.get(&path[..end]).map(|&beginning| (beginning, end == path.len())));
        };
        look(0);
        let separators = path.bytes().enumerate().take(self.longest + 1).filter(|(_, byte)| *byte == b'/');
        separators.for_each(|(end, _)| look(end));
        if path.len() <= self.longest {
            look(path.len());
        }
        found
    }

    /// Returns the grants, to whomever, that can concern a path.
    pub(super) fn on<'g>(&'g self, path: &str) -> impl Iterator<Item = &'g GrantLinks> + use<'g> {
        self.beginnings(path).into_iter().flat_map(|(beginning, _)| {
            let start = self.by_beginning.partition_point(|(of, _)| *of < beginning);
            let here = self.by_beginning[start..].iter().take_while(move |(of, _)| *of == beginning);
            here.map(|&(_, grant)| &self.all[grant as usize])
        })
    }

    /// Returns the grants of a holder; with what is asked for, those alone that can concern it.
    pub(super) fn of_holder(&self, holder: Holder, wanted: Option<Wanted<&Beginnings>>) -> Numbers {
        let mut numbers = Numbers::new();
        let Some(range) = self.holders.get(&holder) else { return numbers };
        let range = range.start as usize..range.end as usize;
        let (keys, entries) = (&self.keys[range.clone()], &self.entries[range]);
        let mut push = |entry: &Entry, is_open| {
            let Entry { grant, operations: _, found: _, is_deny, is_bare } = *entry;
            numbers.push(Numbered { number: grant as usize, is_open, is_deny, is_bare });
        };
        match wanted {
            None => entries.iter().for_each(|entry| push(entry, true)),
            Some(Wanted { beginnings, operation }) => {
                for &(beginning, is_whole) in beginnings {
                    let start = keys.partition_point(|key| *key < beginning);
                    for (_, entry) in keys[start..].iter().zip(&entries[start..]).take_while(|(key, _)| **key == beginning) {
                        if operation.is_some_and(|operation| !self.sets[entry.operations as usize].contains(operation)) {
                            continue;
                        }
                        match entry.found {
                            Found::On => push(entry, false),
                            Found::OnItself if is_whole => push(entry, false),
                            Found::OnItself => {}
                            Found::Open => push(entry, true),
                        }
                    }
                }
            }
        }
        // One that is found in several ways counts once, and is known to be on the path if one of them says so.
        if numbers.len() > 1 {
            numbers.sort_unstable();
            numbers.dedup_by_key(|found| found.number);
        }
        numbers
    }
}

fn all_of(all: &[GrantLinks]) -> impl Iterator<Item = (u32, &GrantLinks)> {
    all.iter().enumerate().map(|(number, grant)| (number as u32, grant))
}

//! Sets of sessions, as boxes over the classes of each fact.

use std::collections::BTreeMap;

use fixedbitset::FixedBitSet;

/// Sessions whose class of each fact is one of some; a fact that is not there may be any.
///
/// INVARIANT: no set of classes is empty, and none is full.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) struct Block(pub(super) BTreeMap<usize, FixedBitSet>);

impl Block {
    fn contains(&self, point: &[usize]) -> bool {
        self.0.iter().all(|(&axis, classes)| point.get(axis).is_some_and(|&class| classes.contains(class)))
    }

    pub(super) fn and(&self, other: &Self) -> Option<Self> {
        let mut both = self.clone();
        for (&axis, classes) in &other.0 {
            match both.0.get_mut(&axis) {
                Some(mine) => mine.intersect_with(classes),
                None => drop(both.0.insert(axis, classes.clone())),
            }
            if both.0.get(&axis).is_some_and(FixedBitSet::is_clear) {
                return None;
            }
        }
        Some(both)
    }

    /// Returns what is left of it without another, in parts that do not overlap.
    fn without(&self, other: &Self, sizes: &[usize]) -> Vec<Self> {
        let Some(_) = self.and(other) else { return vec![self.clone()] };
        let mut parts = Vec::new();
        let mut inside = self.clone();
        for (&axis, classes) in &other.0 {
            let mine = inside.0.get(&axis).cloned().unwrap_or_else(|| full(sizes[axis]));
            let mut outside = mine.clone();
            outside.difference_with(classes);
            if !outside.is_clear() {
                let mut part = inside.clone();
                part.0.insert(axis, outside);
                parts.push(part);
            }
            let mut both = mine;
            both.intersect_with(classes);
            inside.0.insert(axis, both);
        }
        parts
    }
}

/// All classes of a fact.
pub(super) fn full(size: usize) -> FixedBitSet {
    let mut all = FixedBitSet::with_capacity(size);
    all.insert_range(..);
    all
}

/// A set of sessions: blocks that do not overlap.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Region {
    pub(super) blocks: Vec<Block>,
}

impl Region {
    /// Makes a region of blocks that do not overlap; `sizes` has the number of classes of each fact.
    pub(super) fn of(blocks: Vec<Block>, sizes: &[usize]) -> Self {
        let mut region = Self { blocks };
        region.simplify(sizes);
        region
    }

    pub(super) fn is_empty(&self) -> bool {
        self.blocks.is_empty()
    }

    pub(super) fn contains(&self, point: &[usize]) -> bool {
        self.blocks.iter().any(|block| block.contains(point))
    }

    pub(super) fn minus(&self, other: &Self, sizes: &[usize]) -> Self {
        // Equal sets are written alike, and most are equal.
        if self == other {
            return Self::default();
        }
        let mut left = self.blocks.clone();
        for block in &other.blocks {
            left = left.iter().flat_map(|mine| mine.without(block, sizes)).collect();
        }
        Self::of(left, sizes)
    }

    pub(super) fn and(&self, other: &Self, sizes: &[usize]) -> Self {
        let both = self.blocks.iter().flat_map(|mine| other.blocks.iter().filter_map(|theirs| mine.and(theirs)));
        Self::of(both.collect(), sizes)
    }

    pub(super) fn or(&self, other: &Self, sizes: &[usize]) -> Self {
        let mut all = self.blocks.clone();
        all.extend(other.minus(self, sizes).blocks);
        Self::of(all, sizes)
    }

    /// Puts blocks together that differ in one fact alone, until none do, and leaves out facts that may be any.
    fn simplify(&mut self, sizes: &[usize]) {
        for block in &mut self.blocks {
            block.0.retain(|&axis, classes| classes.count_ones(..) < sizes[axis]);
        }
        loop {
            let before = self.blocks.len();
            for (axis, &size) in sizes.iter().enumerate() {
                // Blocks that are alike but for this fact stand side by side under one key.
                let mut alike: BTreeMap<Block, FixedBitSet> = BTreeMap::new();
                for block in self.blocks.drain(..) {
                    let mut rest = block;
                    let classes = rest.0.remove(&axis).unwrap_or_else(|| full(size));
                    alike.entry(rest).and_modify(|all| all.union_with(&classes)).or_insert(classes);
                }
                self.blocks = alike
                    .into_iter()
                    .map(|(mut rest, classes)| {
                        if classes.count_ones(..) < size {
                            rest.0.insert(axis, classes);
                        }
                        rest
                    })
                    .collect();
            }
            if self.blocks.len() == before {
                self.blocks.sort();
                return;
            }
        }
    }
}

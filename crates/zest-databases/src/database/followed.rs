//! How far views and routines are followed into each other, for one statement.

use std::hash::Hash;

use rustc_hash::FxHashSet;

/// How deep views and routines are followed into each other.
const DEEPEST: usize = 32;
/// How many views and routines are followed for one statement.
const MOST: usize = 4096;

/// What to do about a view or routine.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Then {
    /// Read what is in it, and then call [`Followed::leave`].
    Read,
    /// It was read in the same circumstances: all that it needs is known.
    Skip,
    /// It leads back to itself, or there is no end to it: what it needs is not known.
    GiveUp,
}

/// What was followed so far; `K` is a view or routine and everything that what it needs depends on.
#[derive(Debug)]
pub(crate) struct Followed<K> {
    depth: usize,
    count: usize,
    open: FxHashSet<K>,
    done: FxHashSet<K>,
}

impl<K> Default for Followed<K> {
    fn default() -> Self {
        Self { depth: 0, count: 0, open: FxHashSet::default(), done: FxHashSet::default() }
    }
}

impl<K: Clone + Eq + Hash> Followed<K> {
    /// Says whether something is read. Views that name each other twice at every level would double the work otherwise.
    pub(crate) fn enter(&mut self, what: &K) -> Then {
        if self.done.contains(what) {
            return Then::Skip;
        }
        if self.depth == DEEPEST || self.count == MOST || !self.open.insert(what.clone()) {
            return Then::GiveUp;
        }
        self.depth += 1;
        self.count += 1;
        Then::Read
    }

    /// Notes that something was read to its end.
    pub(crate) fn leave(&mut self, what: K) {
        self.depth -= 1;
        self.open.remove(&what);
        self.done.insert(what);
    }

    /// Whether the statement itself is read, and nothing that it leads to.
    #[cfg(feature = "mariadb")]
    pub(crate) const fn is_outside(&self) -> bool {
        self.depth == 0
    }

    /// Returns how many were read.
    #[cfg(feature = "postgresql")]
    pub(crate) const fn count(&self) -> usize {
        self.count
    }

    /// Forgets what was read, for a walk of which not every need is kept; [`restore`](Self::restore) brings it back.
    #[cfg(feature = "postgresql")]
    pub(crate) fn forget(&mut self) -> FxHashSet<K> {
        std::mem::take(&mut self.done)
    }

    /// Brings back what was read before, and forgets what was read since.
    #[cfg(feature = "postgresql")]
    pub(crate) fn restore(&mut self, done: FxHashSet<K>) {
        self.done = done;
    }
}

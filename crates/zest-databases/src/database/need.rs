//! What a server checks for an action, and what came out of a check.

use zest_model::ask::Refusal;
use zest_model::source::Place;

/// On which columns a privilege is needed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum On {
    /// On the object itself.
    Object,
    /// On the object, or on any column of it.
    Some,
    /// On the object, or on each of these columns.
    Columns(Vec<String>),
}

/// What a statement or a privilege needs; `N` is one check of the server.
#[derive(Debug)]
pub(crate) struct Needs<N> {
    /// In the order in which the server checks them.
    pub(crate) list: Vec<N>,
    /// Where in the list the checks of each statement begin, where there are several.
    pub(crate) begins: Vec<usize>,
    /// What is not known; then nothing is allowed.
    pub(crate) undecided: Vec<String>,
    /// Remarks, such as row security.
    pub(crate) notes: Vec<String>,
}

impl<N> From<Vec<N>> for Needs<N> {
    fn from(list: Vec<N>) -> Self {
        Self { list, begins: Vec::new(), undecided: Vec::new(), notes: Vec::new() }
    }
}

impl<N> Needs<N> {
    /// Puts the needs of several statements together.
    pub(crate) fn of_several(all: Vec<Self>) -> Self {
        let mut together = Self::from(Vec::new());
        for (number, needs) in (1..).zip(all) {
            let Self { list, begins: _, undecided, notes } = needs;
            together.begins.push(together.list.len());
            together.list.extend(list);
            together.undecided.extend(undecided.into_iter().map(|why| format!("statement {number}: {why}")));
            together.notes.extend(notes.into_iter().map(|note| format!("statement {number}: {note}")));
        }
        together
    }

    /// Returns the number of the statement that a check is for, where there are several.
    pub(crate) fn statement_of(&self, check: usize) -> Option<usize> {
        (!self.begins.is_empty()).then(|| self.begins.partition_point(|begin| *begin <= check))
    }
}

/// What came out of a check.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Outcome {
    pub(crate) refusal: Option<Refusal>,
    pub(crate) text: String,
    pub(crate) place: Option<Place>,
}

impl Outcome {
    pub(crate) const fn passes(&self) -> bool {
        self.refusal.is_none()
    }
}

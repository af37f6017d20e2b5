//! Which revision turned something that was as it must be, and is not now.

use std::cell::OnceCell;
use std::path::Path;

use anyhow::Result;
use zest_ledger::Engine;
use zest_ledger::review::Turn;

use crate::revision::{self, Revision};

/// The revisions of a ledger behind another one, each read when it is first asked.
pub(super) struct Since<'f> {
    folder: &'f Path,
    revisions: Vec<Revision>,
    /// The ledger at each of them; nothing where it has errors.
    engines: Vec<OnceCell<Option<Engine>>>,
    failure: Option<anyhow::Error>,
}

impl<'f> Since<'f> {
    pub(super) fn of(folder: &'f Path, revision: &str) -> Result<Self> {
        let revisions = revision::since(folder, revision)?;
        let engines = revisions.iter().map(|_| OnceCell::new()).collect();
        Ok(Self { folder, revisions, engines, failure: None })
    }

    /// Finds by halving the first revision in which something does not hold that held before the first of them, and does not hold now.
    pub(super) fn turn(&mut self, mut holds: impl FnMut(&Engine) -> bool) -> Turn {
        // What is left ends with the ledger as it stands. Which revisions are asked is said here, since it matters: behind one with
        // errors it may hold again.
        let (mut first, mut end) = (0, self.revisions.len());
        while first < end {
            let middle = first + (end - first) / 2;
            if self.engine(middle).is_some_and(&mut holds) { first = middle + 1 } else { end = middle }
        }
        let has_errors = self.engines.get(first).is_some_and(|engine| matches!(engine.get(), Some(None)));
        let (id, subject) = self.revisions.get(first).map(|revision| (revision.id.clone(), revision.subject.clone())).unzip();
        Turn::new(id, subject.unwrap_or_default(), has_errors)
    }

    fn engine(&mut self, number: usize) -> Option<&Engine> {
        let Self { folder, revisions, engines, failure } = self;
        let read = || match revision::read(folder, &revisions[number].id) {
            Ok(validated) => validated.estate.and_then(|estate| Engine::compile(estate).ok()),
            Err(error) => {
                failure.get_or_insert(error);
                None
            }
        };
        engines[number].get_or_init(read).as_ref()
    }

    /// Says what could not be read.
    pub(super) fn finish(self) -> Result<()> {
        self.failure.map_or(Ok(()), Err)
    }
}

//! A database server of the estate, ready for decisions, and the way from a question to an answer.

use std::collections::BTreeMap;
use std::fmt;
use std::ops::Deref;
use std::sync::{Arc, RwLock};

use jiff::Timestamp;

use super::resolve::DatabaseLinks;
use super::{Accounts, Rules};
use zest_engine::rules::Site;
use zest_engine::trace::{Stop, Trace, Understood};
use zest_model::ask::{Question, Refusal, Stage};
use zest_model::entry::{Database, System};

/// A database server of the estate, with what decisions look up.
pub(crate) struct Server<R: Rules> {
    held: Arc<R::Held>,
    pub(crate) accounts: Arc<Accounts>,
    written: Arc<R::Written>,
    system: Arc<System>,
    parts: Vec<Arc<Database>>,
    /// What is held at other moments: by which of the grants that end are in force.
    moments: RwLock<BTreeMap<Vec<bool>, Arc<R::Held>>>,
}

impl<R: Rules> fmt::Debug for Server<R> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Server").field("system", &self.system.id.value).finish_non_exhaustive()
    }
}

impl<R: Rules> Deref for Server<R> {
    type Target = R::Written;

    fn deref(&self) -> &R::Written {
        &self.written
    }
}

impl<R: Rules> Server<R> {
    pub(crate) fn new(system: &Arc<System>, parts: Vec<Arc<Database>>, links: &DatabaseLinks<R::Written>) -> Self {
        let DatabaseLinks { accounts, written } = links;
        Self {
            held: R::held(written),
            accounts: Arc::clone(accounts),
            written: Arc::clone(written),
            system: Arc::clone(system),
            parts,
            moments: RwLock::default(),
        }
    }

    /// Returns what the ledger says of the server, document by document.
    pub(crate) fn parts(&self) -> &[Arc<Database>] {
        &self.parts
    }

    /// Returns what is held at a moment; where it is not known, grants that end are not in force.
    pub(crate) fn at(&self, at: Option<Timestamp>) -> Arc<R::Held> {
        let timed = R::timed(&self.written);
        let Some(moment) = at.filter(|_| !timed.is_empty()) else { return Arc::clone(&self.held) };
        let key: Vec<bool> = timed.iter().map(|t| moment < t.value).collect();
        if let Some(known) = self.moments.read().ok().and_then(|m| m.get(&key).cloned()) {
            return known;
        }
        let made = R::held(&R::written(&self.system, &self.parts, at, &mut Vec::new()));
        if let Ok(mut moments) = self.moments.write() {
            moments.insert(key, Arc::clone(&made));
        }
        made
    }
}

/// Opens the session, and makes each check of the server.
pub(crate) fn walk<R: Rules>(site: Site<'_>, question: &Question, server: &Server<R>, trace: &mut Trace) -> Result<(), Stop> {
    let held = server.at(question.session.at);
    let session = R::open(site, question, server, &held, trace)?;
    let needs = match R::wanted(&held, question, &session) {
        Ok(needs) => needs,
        Err((code, text)) => {
            trace.refuse(Stage::Permission, code, || (text, None))?;
            return Err(Stop);
        }
    };
    let before = trace.is_refused();
    for need in &needs.list {
        let outcome = R::outcome(need, &held, &session);
        let place = || R::place(need, server, &session);
        match outcome.refusal {
            None => trace.pass(Stage::Permission, || (outcome.text, outcome.place.or_else(place))),
            Some(code) => {
                if let Some(about) = R::about(need) {
                    trace.understood(|| Understood::Object(about));
                }
                trace.refuse(Stage::Permission, code, || (outcome.text, place()))?;
            }
        }
    }
    for note in needs.notes {
        trace.pass(Stage::Permission, || (note, None));
    }
    match needs.undecided.into_iter().next() {
        // A check that fails refuses, whatever else is not known.
        Some(why) if !trace.is_refused() => trace.refuse(Stage::Permission, Refusal::NotDecided, || (why, None))?,
        Some(_) => {}
        None if needs.list.is_empty() => trace.pass(Stage::Permission, || ("the server checks nothing for this".to_owned(), None)),
        None => {}
    }
    // A grant that ends would have made the difference, but the moment is not stated.
    if question.session.at.is_none()
        && trace.is_refused()
        && !before
        && let Some(first) = R::timed(server).first()
    {
        let all = server.at(Some(Timestamp::MIN));
        let passes =
            |needs: super::Needs<R::Need>| needs.undecided.is_empty() && needs.list.iter().all(|n| R::outcome(n, &all, &session).passes());
        if R::wanted(&all, question, &session).is_ok_and(passes) {
            trace.refuse(Stage::Conditions, Refusal::NotStated, || {
                ("a grant that ends would allow it; the question does not state the time".to_owned(), Some(first.place))
            })?;
        }
    }
    Ok(())
}

/// Returns the first check that refuses, in an open session, where only a check refuses.
pub(crate) fn refusing<R: Rules>(held: &R::Held, question: &Question, session: &R::Session<'_>) -> Option<R::Need> {
    R::wanted(held, question, session).ok()?.list.into_iter().find(|need| !R::outcome(need, held, session).passes())
}

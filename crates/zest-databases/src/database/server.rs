//! A database server of the estate, ready for decisions, and the way from a question to an answer.

use std::collections::BTreeMap;
use std::fmt;
use std::hash::BuildHasher as _;
use std::net::IpAddr;
use std::ops::Deref;
use std::sync::{Arc, OnceLock, RwLock};

use hashbrown::HashTable;
use jiff::Timestamp;
use rustc_hash::FxBuildHasher;

use super::resolve::DatabaseLinks;
use super::{Accounts, Rules, accounts};
use zest_engine::rights::Look;
use zest_engine::rules::{Opened, Site};
use zest_engine::trace::{Stop, Trace, Understood};
use zest_model::ask::{Question, Refusal, STILL_SO, Session, Stage};
use zest_model::entry::{Database, Proof, System};

/// A database server of the estate, with what decisions look up.
pub(crate) struct Server<R: Rules> {
    held: OnceLock<Arc<R::Held>>,
    pub(crate) accounts: Arc<Accounts>,
    written: Arc<R::Written>,
    system: Arc<System>,
    parts: Vec<Arc<Database>>,
    /// What is held at other moments: by how many of the grants that end are over.
    moments: RwLock<BTreeMap<usize, Arc<R::Held>>>,
    /// When the passwords of the accounts end.
    ends: OnceLock<Vec<Option<Timestamp>>>,
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
            held: OnceLock::new(),
            accounts: Arc::clone(accounts),
            written: Arc::clone(written),
            system: Arc::clone(system),
            parts,
            moments: RwLock::default(),
            ends: OnceLock::new(),
        }
    }

    /// Returns what the ledger says of the server, document by document.
    pub(crate) fn parts(&self) -> &[Arc<Database>] {
        &self.parts
    }

    /// Returns what is held where no grant is over: found out by the first question, since most runs of a program ask about other systems.
    fn held(&self) -> &Arc<R::Held> {
        self.held.get_or_init(|| R::held(&self.written))
    }

    /// Returns what is held at the moment of a session.
    pub(crate) fn in_session(&self, session: &Session) -> Arc<R::Held> {
        R::timed(&self.written).iter().for_each(|end| session.ear.looked(|| Look::Moment(end.value)));
        self.at(session.at)
    }

    /// Returns what is held at a moment; where it is not known, grants that end are not in force.
    pub(crate) fn at(&self, at: Option<Timestamp>) -> Arc<R::Held> {
        let Some(key) = self.over(at).filter(|_| !R::timed(&self.written).is_empty()) else { return Arc::clone(self.held()) };
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

/// Finds the account, and opens the session.
pub(crate) fn entered<'s, R: Rules>(
    site: Site<'_>,
    question: &Question,
    server: &Server<R>,
    held: &'s R::Held,
    trace: &mut Trace,
) -> Result<R::Session<'s>, Stop> {
    let found = accounts(site, question, &server.accounts, trace)?;
    R::open(question, server, held, &found, trace)
}

impl<R: Rules> Server<R> {
    /// Returns how many of the grants that end are over at a moment; nothing where it is not known. The later ones are in force.
    fn over(&self, at: Option<Timestamp>) -> Option<usize> {
        let at = at?;
        Some(R::timed(&self.written).iter().filter(|t| t.value <= at).count())
    }

    /// Returns when the password of an account ends, by its position; found out when it is first asked for.
    fn password_ends(&self, position: usize) -> Option<Timestamp> {
        let ends = self.ends.get_or_init(|| self.accounts.list.iter().map(|(account, _)| R::password_ends(self.held(), account)).collect());
        ends.get(position).copied().flatten()
    }

    /// Returns all that the answer about a prepared line depends on, once it is known which account is used; nothing where several
    /// could be.
    fn key<'q>(&self, question: &'q Question, found: &[usize]) -> Option<Key<&'q str>> {
        let (account, is_one) = self.accounts.of_one_login(found)?;
        let session = &question.session;
        let role = session.one_role().ok()?;
        let is_over = |end: Timestamp| session.at.map(|at| at >= end);
        Some(Key {
            account,
            is_one,
            role: role.map(Option::unwrap_or_default),
            has_none: role == Some(None),
            origin: session.origin.filter(|_| R::BY_ORIGIN),
            local: session.local && R::BY_ORIGIN,
            by_password: session.proofs.as_ref().is_none_or(|l| l.is_empty() || l.iter().any(|p| p.proof == Proof::Password)),
            password_over: self.password_ends(account).map(is_over),
            over: self.over(session.at),
        })
    }
}

/// All that the answer about a prepared line depends on, on one server.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Key<T> {
    /// The account, or the first of those with its login.
    account: usize,
    is_one: bool,
    role: Option<T>,
    has_none: bool,
    origin: Option<IpAddr>,
    local: bool,
    by_password: bool,
    password_over: Option<Option<bool>>,
    over: Option<usize>,
}

impl<T> Key<T> {
    /// Returns the key with the role in another form.
    fn with<'a, U>(&'a self, role: impl FnOnce(&'a T) -> U) -> Key<U> {
        let Self { account, is_one, role: of, has_none, origin, local, by_password, password_over, over } = self;
        Key {
            account: *account,
            is_one: *is_one,
            role: of.as_ref().map(role),
            has_none: *has_none,
            origin: *origin,
            local: *local,
            by_password: *by_password,
            password_over: *password_over,
            over: *over,
        }
    }
}

/// How many answers are kept of one prepared line.
const KEPT: usize = 1 << 16;

/// What came of a prepared line, for each account in each sort of session.
#[derive(Debug, Default)]
struct Known(RwLock<HashTable<Came>>);

/// A sort of session, and the refusal if there was one.
type Came = (Key<Box<str>>, Option<Refusal>);

impl Known {
    fn get(&self, key: &Key<&str>) -> Option<Option<Refusal>> {
        let known = self.0.read().ok()?;
        known.find(FxBuildHasher.hash_one(key), |(kept, _)| kept.with(|role| &**role) == *key).map(|(_, came)| *came)
    }

    fn keep(&self, key: Key<&str>, came: Option<Refusal>) {
        if let Ok(mut known) = self.0.write()
            && known.len() < KEPT
        {
            let hash = |key: &Key<&str>| FxBuildHasher.hash_one(key);
            known.insert_unique(hash(&key), (key.with(|role| Box::from(*role)), came), |(kept, _)| hash(&kept.with(|role| &**role)));
        }
    }
}

/// Finds the account, opens the session, and makes each check of the server.
pub(crate) fn walk<R: Rules>(site: Site<'_>, question: &Question, server: &Server<R>, trace: &mut Trace) -> Result<(), Stop> {
    let found = accounts(site, question, &server.accounts, trace)?;
    let memo = trace.memo(site.system());
    let remembered = memo.as_ref().and_then(|memo| memo.kept::<Known>()).zip(server.key(question, &found));
    let Some((known, key)) = remembered else { return check(question, server, &found, trace) };
    match known.get(&key) {
        Some(None) => trace.pass(Stage::Permission, || (String::new(), None)),
        Some(Some(code)) => trace.refuse(code.stage(), code, || (String::new(), None))?,
        None => {
            let came = check(question, server, &found, trace);
            // Who stops without a reason has decided nothing that could be kept.
            if came.is_ok() || trace.is_refused() {
                known.keep(key, trace.first_refusal());
            }
            return came;
        }
    }
    Ok(())
}

/// How many other ways are told by which something is held.
const WAYS: usize = 3;

/// Opens the session, and makes each check of the server.
fn check<R: Rules>(question: &Question, server: &Server<R>, found: &[usize], trace: &mut Trace) -> Result<(), Stop> {
    let held = server.in_session(&question.session);
    let session = R::open(question, server, &held, found, trace)?;
    check_in(question, server, &held, &session, trace)
}

/// Opens the session by what the server was, and makes each check by what it is now and what such a session keeps.
pub(crate) fn walk_opened<R: Rules>(
    opened: &Opened<'_>,
    question: &Question,
    before: &Server<R>,
    server: &Server<R>,
    trace: &mut Trace,
) -> Result<(), Stop> {
    let begin = opened.question(question);
    let found = accounts(opened.site, &begin, &before.accounts, trace)?;
    let then = before.in_session(&begin.session);
    let session = R::open(&begin, before, &then, &found, trace)?;
    if R::KEEPS_GRANTS
        && opened.at.is_none()
        && let Some(first) = R::timed(before).first()
    {
        trace.refuse(Stage::Conditions, Refusal::NotStated, || {
            ("when the session was opened is not stated, and a grant of then that ends depends on it".to_owned(), Some(first.place))
        })?;
    }
    let held = R::held_on(&session, &then, server.in_session(&question.session));
    match R::go_on(question, &session, &then, &held) {
        Ok(session) => check_in(question, server, &held, &session, trace),
        Err(why) => {
            trace.refuse(Stage::Standing, Refusal::NotDecided, || (why, None))?;
            Err(Stop)
        }
    }
}

/// Makes each check of the server in an open session.
fn check_in<R: Rules>(
    question: &Question,
    server: &Server<R>,
    held: &R::Held,
    session: &R::Session<'_>,
    trace: &mut Trace,
) -> Result<(), Stop> {
    let needs = match R::wanted(held, question, session) {
        Ok(needs) => needs,
        Err((code, text)) => {
            trace.refuse(Stage::Permission, code, || (text, None))?;
            return Err(Stop);
        }
    };
    let before = trace.is_refused();
    let mut open = Vec::new();
    for (number, need) in needs.list.iter().enumerate() {
        let mut outcome = R::outcome(need, held, session);
        if let Some(statement) = needs.statement_of(number) {
            outcome.text = format!("statement {statement}: {}", outcome.text);
        }
        let place = || R::place(need, server, session);
        let taken = || R::taken(need, server, held, session);
        match outcome.refusal {
            None => {
                trace.pass(Stage::Permission, || {
                    let mut also = R::also(need, held, session);
                    let more = also.len().saturating_sub(WAYS);
                    also.truncate(WAYS);
                    let also = if also.is_empty() { String::new() } else { format!("; also {}", also.join(", ")) };
                    let more = if more == 0 { String::new() } else { format!(", and by {more} more ways") };
                    (format!("{}{also}{more}", outcome.text), outcome.place.or_else(place))
                });
                // What was taken and is still held surprises: the revoke is shown.
                if trace.explains()
                    && let Some((from, place)) = taken()
                {
                    trace.pass(Stage::Permission, || (format!("{STILL_SO} {from}"), Some(place)));
                }
            }
            Some(Refusal::NotDecided) => open.push((outcome.text, outcome.place.or_else(place))),
            Some(code) => {
                if let Some(about) = R::about(need) {
                    trace.understood(|| Understood::Object(about));
                }
                trace.refuse(Stage::Permission, code, || match taken() {
                    Some((from, place)) => (format!("{}; a revoke took it from {from}", outcome.text), Some(place)),
                    None => (outcome.text, place()),
                })?;
            }
        }
    }
    for note in needs.notes {
        trace.pass(Stage::Permission, || (note, None));
    }
    open.extend(needs.undecided.into_iter().map(|why| (why, None)));
    match open.into_iter().next() {
        // A check that fails refuses, whatever else is not known.
        Some(why) if !trace.is_refused() => trace.refuse(Stage::Permission, Refusal::NotDecided, || why)?,
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
        let session = R::where_held(session, &all);
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

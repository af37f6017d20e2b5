//! Rights as a set: all pairs of a session and an action that somebody is allowed on a system.
//!
//! The set is made by the rules themselves: `space` runs the decision of a kind on one session of each class that it can tell apart,
//! for one action of each class that the kind names. What came of it are blocks of sessions (`region`) over the classes of each fact
//! (`axis`), which the looks of decisions cut (`look`).
//!
//! A question that states what no class has (a proof that was given by another channel, the end of a session, a second person) is
//! outside, and the set says so: its answer is [`Membership::NotHere`].

mod axis;
mod best;
mod look;
mod region;
mod space;
mod words;

use std::sync::Arc;

use fixedbitset::FixedBitSet;
use jiff::Timestamp;
use rustc_hash::FxHashMap;

use crate::engine::Engine;
use crate::engine::rules::{self as kind, Site};
use crate::links::{Conditions, Outcome, UserId};
use axis::Ground;
pub use best::Best;
pub use look::{Examples, Fits, Look};
use region::Region;
use space::{Parts, Path, Space};
use zest_model::ask::{Act, Decision, Fact, Form, Question, Refusal, Session, Verdict};
pub use zest_model::listing::Membership;
use zest_model::source::visible;

/// How sessions may start, of those that a kind tells apart beside what moments, places and proofs make of them: on which account, at
/// which level and in which mode, with which roles, as whom.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, rights::{Opening, Within}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
/// // Nobody acts as anybody there, and no role can be active.
/// assert_eq!(set.openings(), [Opening::new(Session::default())]);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Opening {
    /// What is stated of it.
    pub session: Session,
    /// Other ways to state the same.
    pub also: Vec<Session>,
}

impl Opening {
    /// Makes an opening of what is stated of it.
    #[must_use]
    pub const fn new(session: Session) -> Self {
        Self { session, also: Vec::new() }
    }
}

/// An action that stands for all that the rules of a system take for alike.
///
/// # Example
/// ```
/// use zest_ledger::{ask::Form, rights::Action};
/// let action = Action::alone("show paths", Form::Line);
/// assert!(action.reads_like("show *") && !action.reads_like("leave"));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Action {
    /// The action itself, to be asked.
    pub line: String,
    /// How it is written.
    pub form: Form,
    /// What it is listed as: of several with one name, each is one part of it.
    pub name: String,
    /// What it is listed under: the object, the account that runs it.
    pub under: String,
    /// The number of an earlier action that the rules take for alike, where one is known beforehand: what came of that is not found
    /// out anew.
    pub like: Option<usize>,
}

impl Action {
    /// Makes an action that is listed as it is asked, and stands for itself.
    #[must_use]
    pub fn alone(line: &str, form: Form) -> Self {
        Self { line: line.to_owned(), form, name: line.to_owned(), under: String::new(), like: None }
    }

    /// Returns whether it reads like a pattern, in which `*` stands for any text.
    #[must_use]
    pub fn reads_like(&self, pattern: &str) -> bool {
        reads_like(pattern, &self.line)
    }
}

/// Returns whether a text reads like a pattern, in which `*` stands for any text.
pub(crate) fn reads_like(pattern: &str, text: &str) -> bool {
    let mut parts = pattern.split('*');
    let Some(mut rest) = text.strip_prefix(parts.next().unwrap_or_default()) else { return false };
    let mut parts = parts.peekable();
    if parts.peek().is_none() {
        return rest.is_empty();
    }
    while let Some(part) = parts.next() {
        if parts.peek().is_none() {
            return rest.ends_with(part);
        }
        match rest.find(part) {
            Some(at) => rest = &rest[at + part.len()..],
            None => return false,
        }
    }
    true
}

/// One of those who are looked at side by side: who, on which system of which engine.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Form, rights::{Action, Side, Within, rights}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let side = |user| Side { site: engine.site("rota").expect("it is there"), user: engine.find_user(user, false).expect("they are there") };
/// let within = Within { actions: vec![Action::alone("plan on shift/early", Form::Line)], ..Within::default() };
/// let both = rights(&[side("mate-1"), side("mate-2")], &within);
/// assert!(both[1].is_within(&both[0]) && !both[0].is_within(&both[1]));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug)]
pub struct Side<'e> {
    /// The system.
    pub site: Site<'e>,
    /// The user.
    pub user: UserId,
}

/// What sets have in common that can be compared: the sessions and the actions that they tell apart.
#[derive(Clone, Debug)]
struct Frame {
    space: Arc<Space>,
    sizes: Vec<usize>,
    /// The classes of each fact in which anything at all may be done by anybody, or is not known.
    live: Vec<FixedBitSet>,
    openings: Vec<Opening>,
    /// Those in which nobody gets a session.
    shut: Vec<Opening>,
    /// Those that were not looked at, since there are too many.
    left_out: Vec<Opening>,
    /// Those that start as another does for one side alone: the set says nothing of them.
    unsaid: Vec<Opening>,
    actions: Vec<Action>,
}

/// In which sessions one action is allowed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Cell {
    allowed: Region,
    after: Region,
    /// The rules do not decide.
    not_decided: Region,
    /// It was not tried, since there was too much.
    not_here: Region,
}

/// What somebody may do on a system: see the [module](self).
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::Session, rights::{Membership, Within}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
/// let plan = set.actions().iter().position(|action| action.line == "plan on shift/early").expect("it is one");
/// assert_eq!(set.membership(&Session::default(), plan), Membership::Allowed);
/// assert_eq!(set.example_for(plan).expect("it is allowed").1.line, "plan on shift/early");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug)]
pub struct Rights {
    frame: Arc<Frame>,
    /// One for each opening and action: the actions of the first opening, then those of the second.
    cells: Vec<Cell>,
    /// For each opening, the sessions that can be opened.
    entries: Vec<Cell>,
    /// The user, by name.
    pub user: String,
    /// The system, by name.
    pub system: String,
}

/// Whether something is always allowed.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::{Form, Session}, rights::{Action, Always, Within}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let within = Within { actions: vec![Action::alone("plan on shift/early", Form::Line)], ..Within::default() };
/// let always = |user| engine.rights(user, "rota", &within).expect("both are known").always(&Session::default());
/// assert_eq!(always("mate-1"), Always::Always);
/// assert!(matches!(always("mate-2"), Always::Not(question) if question.line == "plan on shift/early"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
pub enum Always {
    /// It is, in every session that can be opened.
    Always,
    /// No session can be opened.
    NoSession,
    /// It is not: in this one.
    Not(Box<Question>),
    /// It is not known of this one.
    NotDecided(Box<Question>),
}

/// A part of a set: actions that are allowed in the same sessions.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, rights::{Membership, Within}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
/// let lines = set.lines();
/// let names: Vec<&str> = lines[0].actions.iter().map(|&action| set.actions()[action].name.as_str()).collect();
/// assert_eq!((names, lines[0].membership, lines[0].when.as_str()), (vec!["plan", "change-credential"], Membership::Allowed, ""));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug)]
pub struct Line {
    /// The numbers of the actions.
    pub actions: Vec<usize>,
    /// The numbers of the openings.
    pub openings: Vec<usize>,
    /// Whether obligations come first, or it is not known.
    pub membership: Membership,
    /// In which sessions, in words, beyond what is needed to open one; empty for all of them.
    pub when: String,
    /// One of them, to be asked.
    pub example: Question,
}

/// How many cells a set has at most: openings times actions.
const MAX_CELLS: usize = 1_000_000;

/// The first moment that is looked at where none is stated: the Monday that begins the year 2026.
const START: i64 = 1_767_571_200;

/// What a set is looked for in: some sessions and actions, or all of them.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, ask::{Form, Session}, entry::Channel, rights::{Action, Within}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// let text = text.replace("mate-1\"] }", "mate-1\"], when = { channel = ['web'] } }");
/// let engine = Ledger::new().document("rota.toml", &text).engine(1)?;
/// let by = |channel| Within {
///     stated: Session { channel: Some(channel), ..Session::default() },
///     actions: vec![Action::alone("plan on shift/early", Form::Line)],
///     ..Within::default()
/// };
/// let is_empty = |channel| engine.rights("mate-1", "rota", &by(channel)).expect("both are known").is_empty();
/// assert!(is_empty(Channel::Api) && !is_empty(Channel::Web));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, Default)]
pub struct Within {
    /// Facts of the session that are stated: only such sessions are looked at.
    pub stated: Session,
    /// Actions to look at; those of the kind if there are none.
    pub actions: Vec<Action>,
    /// Sessions in which this holds are left out; those of which it is not known whether it does are not.
    pub unless: Option<Arc<Conditions>>,
}

/// Finds what one or several may do, over the same sessions and actions, so that the sets can be compared.
///
/// # Panics
/// Never; all are asked about systems of one kind, and the kind of the first says which actions there are.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, rights::{Side, Within, rights}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let side = |user| Side { site: engine.site("rota").expect("it is there"), user: engine.find_user(user, false).expect("they are there") };
/// let both = rights(&[side("mate-1"), side("mate-2")], &Within::default());
/// let more = both[0].minus(&both[1]);
/// assert_eq!(more.example_allowed().expect("mate-1 may more").line, "plan on shift/early");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn rights(sides: &[Side<'_>], within: &Within) -> Vec<Rights> {
    let Some(first) = sides.first() else { return Vec::new() };
    let kind = first.site.kind();
    let mut proofs: Vec<_> = sides.iter().flat_map(|side| side.site.user(side.user).proofs.iter().map(|p| p.value)).collect();
    proofs.sort_unstable_by_key(|p| p.word());
    proofs.dedup();
    let start = within.stated.at.or_else(|| Timestamp::from_second(START).ok()).unwrap_or(Timestamp::UNIX_EPOCH);
    let mut space = Space::new(Ground { proofs, start, stated: within.stated.clone() });
    let (mut openings, mut unsaid): (Vec<Opening>, Vec<Opening>) = (Vec::new(), Vec::new());
    // Of a superuser there are as many as there are roles: those that could be the same are found by how they start.
    let mut by_start: FxHashMap<_, Vec<usize>> = FxHashMap::default();
    for opening in sides.iter().flat_map(|side| kind.openings(side.site, side.user)) {
        let Some(opening) = stated(opening, &within.stated) else { continue };
        let Session { account, active_roles, level, mode, .. } = &opening.session;
        let alike = by_start.entry((account.clone(), active_roles.clone(), *level, mode.clone())).or_default();
        let known = alike.iter().copied().find(|&known| openings[known].session == opening.session);
        if known.is_none() {
            alike.push(openings.len());
        }
        match known.map(|known| &mut openings[known]) {
            // What goes without saying for one side alone, such as the name of its account, is said of none.
            Some(known) => {
                let (both, mine): (Vec<_>, Vec<_>) = std::mem::take(&mut known.also).into_iter().partition(|s| opening.also.contains(s));
                unsaid.extend(opening.also.into_iter().filter(|session| !both.contains(session)).chain(mine).map(Opening::new));
                known.also = both;
            }
            None => openings.push(opening),
        }
    }
    // A session that is stated starts as it says, also where a kind does not list such a start.
    if openings.is_empty() && within.stated.stated_facts().any(|fact| sort_of(fact) == Sort::Start) {
        openings.push(Opening::new(within.stated.clone()));
    }
    let actions = if within.actions.is_empty() { kind.actions(sides) } else { within.actions.clone() };
    // Of very many, those that come first are looked at.
    let most = (MAX_CELLS / actions.len().max(1)).max(1);
    let left_out = openings.split_off(most.min(openings.len()));
    // In which sessions each side gets one; an opening in which nobody does is none.
    let mut entries: Vec<Vec<Parts>> = vec![Vec::new(); sides.len()];
    let (mut open, mut shut): (Vec<Opening>, Vec<Opening>) = (Vec::new(), Vec::new());
    for opening in openings {
        let found: Vec<Parts> = sides.iter().map(|side| side.enter(&mut space, &opening)).collect();
        if found.iter().all(Parts::is_nothing) {
            shut.push(opening);
        } else {
            open.push(opening);
            entries.iter_mut().zip(found).for_each(|(all, one)| all.push(one));
        }
    }
    let openings = open;
    let mut found: Vec<Vec<Started>> = Vec::with_capacity(sides.len());
    for (side, entries) in sides.iter().zip(entries) {
        let of_side = openings.iter().zip(entries).map(|(opening, entry)| side.start(&mut space, opening, entry, &actions, within));
        found.push(of_side.collect());
    }
    // What was heard late may cut sessions that were taken for alike before.
    loop {
        let mut is_settled = true;
        for (side, of_side) in sides.iter().zip(&mut found) {
            for (opening, started) in openings.iter().zip(of_side) {
                is_settled &= side.settle(&mut space, opening, started, &actions, within);
            }
        }
        if is_settled {
            break;
        }
    }
    // Most cells came about in the same way as another.
    let mut made: FxHashMap<(Vec<space::Part>, Vec<Path>), Cell> = FxHashMap::default();
    let mut cells: Vec<(Vec<Cell>, Vec<Cell>)> = Vec::with_capacity(sides.len());
    for started in found {
        let mut of_side: Vec<Cell> = Vec::with_capacity(openings.len() * actions.len());
        let mut entries: Vec<Cell> = Vec::with_capacity(openings.len());
        for Started { entry, actions: of_opening } in started {
            entries.push(Cell::of(&space, &entry.list, &entry.open));
            let first = of_side.len();
            for (action, Parts { list, open, looked_at: _ }) in actions.iter().zip(of_opening) {
                let cell = match action.like {
                    // OK because one that is alike stands before it.
                    Some(like) => of_side[first + like].clone(),
                    None => made.entry((list, open)).or_insert_with_key(|(list, open)| Cell::of(&space, list, open)).clone(),
                };
                of_side.push(cell);
            }
        }
        cells.push((of_side, entries));
    }
    let sizes = space.sizes();
    let live = words::live(cells.iter().flat_map(|(of_side, _)| of_side), &sizes);
    let frame = Arc::new(Frame { sizes, space: Arc::new(space), live, openings, shut, left_out, unsaid, actions });
    let named = sides.iter().zip(cells).map(|(side, (cells, entries))| Rights {
        frame: Arc::clone(&frame),
        cells,
        entries,
        user: side.site.user(side.user).id.value.clone(),
        system: side.site.entry().id.value.clone(),
    });
    named.collect()
}

/// Puts facts that are stated into an opening; nothing where all ways to state it say something else.
fn stated(opening: Opening, stated: &Session) -> Option<Opening> {
    let facts: Vec<_> = stated.stated().into_iter().filter(|(fact, _)| sort_of(*fact) == Sort::Start).collect();
    let Opening { session, also } = opening;
    let is_meant = |session: &Session| {
        let mine = session.stated();
        facts.iter().all(|one| mine.contains(one))
    };
    let mut meant = std::iter::once(session).chain(also).filter(is_meant).map(|mut session| {
        for (fact, _) in stated.stated().into_iter().filter(|(fact, _)| sort_of(*fact) != Sort::Start) {
            session.take(fact, stated);
        }
        session
    });
    Some(Opening { session: meant.next()?, also: meant.collect() })
}

/// What came of the sessions of one side that start alike.
struct Started {
    /// Which of them can be opened.
    entry: Parts,
    /// In which of those each action is allowed; nothing for one that is taken for another.
    actions: Vec<Parts>,
}

impl Side<'_> {
    fn question(&self, opening: &Opening, line: &str, form: Form) -> Question {
        let (user, system) = (&self.site.user(self.user).id.value, &self.site.entry().id.value);
        Question { form, ..Question::in_session(user, system, line, opening.session.clone()) }
    }

    /// Finds the sessions that can be opened.
    fn enter(&self, space: &mut Space, opening: &Opening) -> Parts {
        let question = self.question(opening, "", Form::Line);
        space.explore(&question, &[Path::new()], |q, trace| kind::sign_in(self.site.engine, q, trace))
    }

    /// Finds the sessions in which an action is allowed, of some that can be opened.
    fn explore(&self, space: &mut Space, opening: &Opening, paths: &[Path], action: &Action, within: &Within) -> Parts {
        let question = self.question(opening, &action.line, action.form);
        space.explore(&question, paths, |q, trace| match &within.unless {
            Some(unless) if unless.outcome(&q.session) == Outcome::Holds => {
                Decision { verdict: Verdict::Denied, refusal: None, rule: None, more: zest_model::More }
            }
            _ => kind::evaluate(self.site.engine, q, trace),
        })
    }

    /// Finds the sessions in which each action is allowed, of those that can be opened.
    fn start(&self, space: &mut Space, opening: &Opening, entry: Parts, actions: &[Action], within: &Within) -> Started {
        let paths = entry.paths();
        let one = |action: &Action| match action.like {
            Some(_) => Parts::default(),
            None => self.explore(space, opening, &paths, action, within),
        };
        let actions = actions.iter().map(one).collect();
        Started { entry, actions }
    }

    /// Finds anew what was found while less was known of what cuts sessions, and says whether there was nothing of that.
    fn settle(&self, space: &mut Space, opening: &Opening, started: &mut Started, actions: &[Action], within: &Within) -> bool {
        let Started { entry, actions: found } = started;
        let is_entry_old = space.is_outdated(entry);
        if is_entry_old {
            *entry = self.enter(space, opening);
        }
        let paths = entry.paths();
        let mut is_settled = !is_entry_old;
        for (action, parts) in actions.iter().zip(found).filter(|(action, _)| action.like.is_none()) {
            if is_entry_old || space.is_outdated(parts) {
                *parts = self.explore(space, opening, &paths, action, within);
                is_settled = false;
            }
        }
        is_settled
    }
}

impl Cell {
    fn of(space: &Space, parts: &[space::Part], open: &[Path]) -> Self {
        let (unsure, sure): (Vec<_>, Vec<_>) = parts.iter().partition(|part| space.is_cut_short(&part.path));
        let paths = |wanted: Membership| space.region(sure.iter().filter(|part| part.membership == wanted).map(|part| &part.path));
        Self {
            allowed: paths(Membership::Allowed),
            after: paths(Membership::After),
            not_decided: paths(Membership::NotDecided),
            not_here: space.region(unsure.iter().map(|part| &part.path).chain(open)),
        }
    }

    fn map(&self, other: &Self, of: impl Fn(&Region, &Region) -> Region) -> Self {
        let Self { allowed, after, not_decided, not_here } = self;
        Self {
            allowed: of(allowed, &other.allowed),
            after: of(after, &other.after),
            not_decided: of(not_decided, &other.not_decided),
            not_here: of(not_here, &other.not_here),
        }
    }

    fn is_empty(&self) -> bool {
        let Self { allowed, after, not_decided, not_here } = self;
        [allowed, after, not_decided, not_here].into_iter().all(Region::is_empty)
    }

    fn layers(&self) -> [(Membership, &Region); 4] {
        let Self { allowed, after, not_decided, not_here } = self;
        [(Membership::Allowed, allowed), (Membership::After, after), (Membership::NotDecided, not_decided), (Membership::NotHere, not_here)]
    }
}

const fn membership(decision: Decision) -> Membership {
    match (decision.verdict, decision.refusal) {
        (Verdict::Allowed, _) => Membership::Allowed,
        (Verdict::AllowedAfter, _) => Membership::After,
        (Verdict::Denied, Some(Refusal::NotDecided)) => Membership::NotDecided,
        (Verdict::Denied, _) => Membership::Denied,
    }
}

/// Looking into a set
impl Rights {
    /// Returns the same for somebody of whom it is known that the rules take them for alike.
    #[doc(hidden)]
    #[must_use]
    pub fn of_another(&self, user: &str) -> Self {
        let mut other = Self { user: user.to_owned(), ..self.clone() };
        let is_own = |session: &Session| session.account.as_ref() == Some(&self.user);
        let sessions = |opening: &Opening| is_own(&opening.session) || opening.also.iter().any(is_own);
        let Frame { space: _, sizes: _, live: _, openings, shut, left_out, unsaid, actions: _ } = &*self.frame;
        // Who has an account of the own name uses that one, where it is said which.
        if [openings, shut, left_out, unsaid].into_iter().flatten().any(sessions) {
            let Frame { space: _, sizes: _, live: _, openings, shut, left_out, unsaid, actions: _ } = Arc::make_mut(&mut other.frame);
            let all = [openings, shut, left_out, unsaid].into_iter().flatten();
            for session in all.flat_map(|opening| std::iter::once(&mut opening.session).chain(&mut opening.also)) {
                if is_own(session) {
                    session.account = Some(user.to_owned());
                }
            }
        }
        other
    }

    /// Returns the openings that the set tells apart.
    #[must_use]
    pub fn openings(&self) -> &[Opening] {
        &self.frame.openings
    }

    /// Returns the openings in which nobody gets a session.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, rights::Within};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
    ///
    /// assert!(set.shut().is_empty(), "whoever has a password gets a session");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn shut(&self) -> &[Opening] {
        &self.frame.shut
    }

    /// Returns how many openings were not looked at, since there are too many: of sessions that start so the set says nothing.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, rights::Within};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
    ///
    /// assert_eq!((set.openings().len(), set.left_out()), (1, 0));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn left_out(&self) -> usize {
        self.frame.left_out.len()
    }

    /// Returns the actions that the set tells apart.
    #[must_use]
    pub fn actions(&self) -> &[Action] {
        &self.frame.actions
    }

    fn cell(&self, opening: usize, action: usize) -> &Cell {
        &self.cells[opening * self.frame.actions.len() + action]
    }

    /// Returns whether one of the actions is in the set for a session.
    #[must_use]
    pub fn membership(&self, session: &Session, action: usize) -> Membership {
        let Some(opening) = self.opening(session) else {
            // Where nobody gets a session, and where a session cannot start at all, nothing is allowed.
            let is_left_out = self.frame.left_out.iter().chain(&self.frame.unsaid).any(|opening| opening.is_of(session));
            let is_shut =
                !is_left_out && !self.is_outside(session) && (self.frame.shut.iter().any(|o| o.is_of(session)) || is_listed(session));
            return if is_shut { Membership::Denied } else { Membership::NotHere };
        };
        let Some(point) = self.frame.space.point(session) else { return Membership::NotHere };
        let layers = self.cell(opening, action).layers();
        layers.into_iter().find(|(_, region)| region.contains(&point)).map_or(Membership::Denied, |(membership, _)| membership)
    }

    /// Returns whether a session states what no class has.
    fn is_outside(&self, session: &Session) -> bool {
        let by_channel = session.proofs.iter().flatten().any(|proven| proven.channel.is_some());
        let is_named = |name: &str| self.frame.space.axes.iter().any(|axis| axis.has_attribute(name));
        by_channel || !session.attributes.iter().all(|(name, _)| is_named(name))
    }

    /// Returns the opening of a session; nothing where none is like it, or it states what no class has.
    fn opening(&self, session: &Session) -> Option<usize> {
        if self.is_outside(session) {
            return None;
        }
        self.frame.openings.iter().position(|opening| opening.is_of(session))
    }

    /// Returns one of the actions of a line, in one of its sessions that starts in one of its ways.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, rights::Within};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
    ///
    /// let line = &set.lines()[0];
    /// let asked = set.asked(line, line.openings[0], line.actions[0]);
    /// assert_eq!((asked.user.as_str(), asked.line.as_str()), ("mate-1", set.actions()[line.actions[0]].line.as_str()));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn asked(&self, line: &Line, opening: usize, action: usize) -> Question {
        let action = &self.frame.actions[action];
        let mut question = Question { line: action.line.clone(), form: action.form, ..line.example.clone() };
        for fact in Fact::ALL.into_iter().filter(|fact| sort_of(*fact) != Sort::Classes) {
            question.session.take(fact, &self.frame.openings[opening].session);
        }
        question
    }

    /// Returns a question of those that the set tells apart: an opening, an action and a class of each fact, each picked by its number
    /// below a count. Nothing where there is none.
    #[doc(hidden)]
    pub fn any(&self, mut pick: impl FnMut(usize) -> usize) -> Option<(Question, usize)> {
        if self.frame.openings.is_empty() || self.frame.actions.is_empty() {
            return None;
        }
        let (opening, action) = (pick(self.frame.openings.len()), pick(self.frame.actions.len()));
        let mut question = self.question(opening, action, &Region::default());
        for axis in self.frame.space.axes.iter().filter(|axis| !axis.atoms.is_empty()) {
            axis.atoms[pick(axis.atoms.len())].value.state(&mut question.session);
        }
        Some((question, action))
    }

    /// Returns whether an action is in the set in no session.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, rights::Within};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
    /// let number = |line: &str| set.actions().iter().position(|action| action.line == line).expect("it is one");
    ///
    /// assert!(set.is_never(number("drop on shift/early")) && !set.is_never(number("plan on shift/early")));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn is_never(&self, action: usize) -> bool {
        (0..self.frame.openings.len()).all(|opening| self.cell(opening, action).is_empty())
    }

    /// Returns whether two actions are in the set in the same sessions.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, rights::Within};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
    /// let number = |line: &str| set.actions().iter().position(|action| action.line == line).expect("it is one");
    ///
    /// assert!(!set.is_alike(number("drop on shift/early"), number("plan on shift/early")));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn is_alike(&self, one: usize, other: usize) -> bool {
        (0..self.frame.openings.len()).all(|opening| self.cell(opening, one) == self.cell(opening, other))
    }

    /// Returns whether nothing is in it.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.cells.iter().all(Cell::is_empty)
    }

    /// Returns one of the pairs that are in it, the shortest action first; nothing for an empty set.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, rights::{Membership, Within}};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
    ///
    /// let (membership, question) = set.example().expect("something is allowed");
    /// assert_eq!((membership, question.user.as_str()), (Membership::Allowed, "mate-1"));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn example(&self) -> Option<(Membership, Question)> {
        let mut found: Vec<(usize, usize)> = (0..self.frame.openings.len())
            .flat_map(|opening| (0..self.frame.actions.len()).map(move |action| (opening, action)))
            .filter(|&(opening, action)| !self.cell(opening, action).is_empty())
            .collect();
        found.sort_by_key(|&(opening, action)| (self.frame.actions[action].line.len(), opening));
        let &(opening, action) = found.first()?;
        let (membership, region) = self.cell(opening, action).layers().into_iter().find(|(_, region)| !region.is_empty())?;
        Some((membership, self.question(opening, action, region)))
    }

    /// Returns one of the pairs that are allowed: at once if there is such a one, or else after obligations.
    #[must_use]
    pub fn example_allowed(&self) -> Option<Question> {
        [Membership::Allowed, Membership::After].into_iter().find_map(|layer| self.example_of(layer))
    }

    /// Returns one of the pairs of a sort of membership, the shortest action first.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, rights::{Membership, Within}};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
    ///
    /// assert!(set.example_of(Membership::Allowed).is_some() && set.example_of(Membership::NotDecided).is_none());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn example_of(&self, wanted: Membership) -> Option<Question> {
        let count = self.frame.actions.len();
        let mut shortest: Option<(usize, usize, usize, &Region)> = None;
        for (number, cell) in self.cells.iter().enumerate() {
            let (opening, action) = (number / count, number % count);
            let Some((_, region)) = cell.layers().into_iter().find(|(layer, region)| *layer == wanted && !region.is_empty()) else {
                continue;
            };
            let key = (self.frame.openings[opening].session.acting.len(), self.frame.actions[action].line.len());
            if shortest.is_none_or(|(acting, length, ..)| key < (acting, length)) {
                shortest = Some((key.0, key.1, number, region));
            }
        }
        let (_, _, number, region) = shortest?;
        Some(self.question(number / count, number % count, region))
    }

    /// Returns one of the sessions in which an action is allowed, at once if there is such a one, or else after obligations.
    #[must_use]
    pub fn example_for(&self, action: usize) -> Option<(Membership, Question)> {
        [Membership::Allowed, Membership::After].into_iter().find_map(|wanted| {
            let mut openings: Vec<usize> = (0..self.frame.openings.len()).collect();
            openings.sort_by_key(|&opening| self.frame.openings[opening].session.acting.len());
            openings.into_iter().find_map(|opening| {
                let (_, region) = self.cell(opening, action).layers().into_iter().find(|(layer, _)| *layer == wanted)?;
                (!region.is_empty()).then(|| (wanted, self.question(opening, action, region)))
            })
        })
    }

    /// Returns a session that can be opened, of those that start as one does that is stated.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, ask::Session, rights::Within};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
    ///
    /// let question = set.opened(&Session::default()).expect("a session opens");
    /// assert_eq!((question.user.as_str(), question.line.as_str()), ("mate-1", ""));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn opened(&self, stated: &Session) -> Option<Question> {
        let opening = self.frame.openings.iter().position(|opening| opening.is_of(stated))?;
        let entry = &self.entries[opening];
        let opened = entry.allowed.or(&entry.after, &self.frame.sizes);
        let question = |opened: &Region| Question { line: String::new(), ..self.question(opening, 0, opened) };
        (!opened.is_empty() && !self.frame.actions.is_empty()).then(|| question(&opened))
    }

    /// Returns whether a session can be opened, of those that start in some of the ways.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, rights::Within};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
    ///
    /// assert!(set.can_open(|session| session.acting.is_empty()));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn can_open(&self, is_meant: impl Fn(&Session) -> bool) -> bool {
        let mut started = self.frame.openings.iter().zip(&self.entries).filter(|(opening, _)| is_meant(&opening.session));
        started.any(|(_, entry)| !entry.allowed.is_empty() || !entry.after.is_empty())
    }

    /// Returns whether every session that can be opened, and starts by itself as far as nothing is stated of that, is allowed every
    /// action, at once or after obligations.
    #[must_use]
    pub fn always(&self, stated: &Session) -> Always {
        let Some(opening) = self.frame.openings.iter().position(|opening| opening.is_of(stated)) else { return Always::NoSession };
        let entry = &self.entries[opening];
        let opened = entry.allowed.or(&entry.after, &self.frame.sizes);
        if opened.is_empty() && entry.not_decided.is_empty() && entry.not_here.is_empty() {
            return Always::NoSession;
        }
        for action in 0..self.frame.actions.len() {
            let cell = self.cell(opening, action);
            let lacks = opened.minus(&cell.allowed, &self.frame.sizes).minus(&cell.after, &self.frame.sizes);
            let certain = lacks.minus(&cell.not_decided, &self.frame.sizes).minus(&cell.not_here, &self.frame.sizes);
            if !certain.is_empty() {
                return Always::Not(Box::new(self.question(opening, action, &certain)));
            }
            if !lacks.is_empty() {
                return Always::NotDecided(Box::new(self.question(opening, action, &lacks)));
            }
        }
        if entry.not_decided.is_empty() && entry.not_here.is_empty() {
            Always::Always
        } else {
            let open = entry.not_decided.or(&entry.not_here, &self.frame.sizes);
            Always::NotDecided(Box::new(self.question(opening, 0, &open)))
        }
    }

    /// Says what is not known of it: an example of what is not decided or was not tried, and the limits that were met.
    #[must_use]
    pub fn unknown(&self) -> Vec<String> {
        let of_layer = |layer: Membership| {
            let question = self.example_of(layer)?;
            let (user, line, on) = (visible(&question.user), visible(&question.line), visible(&question.system));
            Some(format!("{}: {user} on {on}: {line}", layer.words()))
        };
        let limits = self.limits().into_iter().map(|limit| format!("{} on {}: {limit}", visible(&self.user), visible(&self.system)));
        [Membership::NotDecided, Membership::NotHere].into_iter().filter_map(of_layer).chain(limits).collect()
    }

    /// Says which limits were met: of what lies beyond them the set says nothing.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, rights::Within};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let set = engine.rights("mate-1", "rota", &Within::default()).expect("both are known");
    ///
    /// assert!(set.limits().is_empty(), "all of it was looked at");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn limits(&self) -> Vec<String> {
        let frame = &self.frame;
        let mut list = Vec::new();
        if !frame.left_out.is_empty() {
            list.push(format!("{} ways for a session to start were not looked at", frame.left_out.len()));
        }
        // A chain that is stated is looked at as it is.
        let stated = &frame.space.stated().acting;
        let is_long = |opening: &Opening| opening.session.acting.len() > 1 && opening.session.acting != *stated;
        if frame.openings.iter().any(is_long) {
            list.push("chains of more than two links are not looked at".to_owned());
        }
        let plain = |opening: &Opening| opening.session.active_roles.is_none() && opening.session.acting.is_empty();
        let roles = frame.openings.iter().filter(|opening| opening.session.active_roles.as_ref().is_some_and(|roles| !roles.is_empty()));
        if frame.shut.iter().any(plain) && roles.count() > 2 {
            list.push("sessions with some of several roles active are not looked at".to_owned());
        }
        list
    }

    fn question(&self, opening: usize, action: usize, region: &Region) -> Question {
        let (opening, action) = (&self.frame.openings[opening], &self.frame.actions[action]);
        let session = match region.blocks.first() {
            Some(block) => self.frame.space.example(&opening.session, block),
            None => opening.session.clone(),
        };
        Question { form: action.form, ..Question::in_session(&self.user, &self.system, &action.line, session) }
    }
}

impl Opening {
    /// Returns whether a session starts so.
    fn is_of(&self, session: &Session) -> bool {
        let stated = |of: &Session| -> Vec<(Fact, Vec<String>)> {
            of.stated().into_iter().filter(|(fact, _)| sort_of(*fact) != Sort::Classes).collect()
        };
        let theirs = stated(session);
        std::iter::once(&self.session).chain(&self.also).any(|mine| stated(mine) == theirs)
    }
}

/// Returns whether a session starts in a way of which a kind lists all that there are: with one role at most, or over two links at
/// most.
fn is_listed(session: &Session) -> bool {
    let is_short = match session.acting.as_slice() {
        [] | [Act::Account { host: None, .. }] => true,
        [_] | [_, _] => session.acting.iter().all(|act| matches!(act, Act::User(_) | Act::Role { since: None, .. })),
        _ => false,
    };
    let is_one = session.active_roles.as_ref().is_none_or(|roles| roles.len() < 2);
    let is_either = session.acting.is_empty() || session.active_roles.is_none();
    is_short && is_one && is_either && session.stated_facts().all(|fact| sort_of(fact) != Sort::NotLookedAt)
}

/// What a fact of a session is to a set.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Sort {
    /// It says how a session starts: each way is an opening.
    Start,
    /// Its values are told apart in classes.
    Classes,
    /// No set looks at it: where it is stated, no opening is meant.
    NotLookedAt,
}

const fn sort_of(fact: Fact) -> Sort {
    match fact {
        Fact::Level | Fact::Mode | Fact::Account | Fact::Roles | Fact::Acting | Fact::Central => Sort::Start,
        Fact::At | Fact::Origin | Fact::Local | Fact::Channel | Fact::Proofs | Fact::Attributes => Sort::Classes,
        Fact::Expires | Fact::Confirmed | Fact::ApprovedBy | Fact::ApproverProofs => Sort::NotLookedAt,
    }
}

/// Sets of one frame, side by side
impl Rights {
    fn each(&self, other: &Self, of: impl Fn(&Region, &Region) -> Region) -> Self {
        assert!(Arc::ptr_eq(&self.frame, &other.frame), "sets are made side by side to be compared");
        let cells = self.cells.iter().zip(&other.cells).map(|(mine, theirs)| mine.map(theirs, &of)).collect();
        Self { frame: Arc::clone(&self.frame), cells, entries: self.entries.clone(), user: self.user.clone(), system: self.system.clone() }
    }

    /// Returns what is in this set and not in another, layer by layer: what is allowed here, and there at most after obligations, is in it.
    ///
    /// # Panics
    /// If the two were not made side by side: their classes are not the same, and no answer would be true.
    #[must_use]
    pub fn minus(&self, other: &Self) -> Self {
        self.each(other, |mine, theirs| mine.minus(theirs, &self.frame.sizes))
    }

    /// Returns what is in both.
    ///
    /// # Panics
    /// As [`minus`](Self::minus) does.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, rights::{Side, Within, rights}};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let side = |user| Side { site: engine.site("rota").expect("it is there"), user: engine.find_user(user, false).expect("they are there") };
    /// let both = rights(&[side("mate-1"), side("mate-2")], &Within::default());
    ///
    /// assert!(both[0].and(&both[1]).is_empty(), "each may change the own credential alone");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn and(&self, other: &Self) -> Self {
        self.each(other, |mine, theirs| mine.and(theirs, &self.frame.sizes))
    }

    /// Returns what is in one or the other.
    ///
    /// # Panics
    /// As [`minus`](Self::minus) does.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, rights::{Side, Within, rights}};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan", "drop"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Ledger::new().document("rota.toml", text).engine(1)?;
    /// let side = |user| Side { site: engine.site("rota").expect("it is there"), user: engine.find_user(user, false).expect("they are there") };
    /// let both = rights(&[side("mate-1"), side("mate-2")], &Within::default());
    ///
    /// let either = both[0].or(&both[1]);
    /// assert!(both[0].is_within(&either) && both[1].is_within(&either));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn or(&self, other: &Self) -> Self {
        self.each(other, |mine, theirs| mine.or(theirs, &self.frame.sizes))
    }

    /// Returns whether all that is in this set is in another.
    ///
    /// # Panics
    /// As [`minus`](Self::minus) does.
    #[must_use]
    pub fn is_within(&self, other: &Self) -> bool {
        self.minus(other).is_empty()
    }
}

impl Engine {
    /// Returns what a user may do on a system: every class of sessions, every class of actions. Nothing for an unknown user or system.
    #[must_use]
    pub fn rights(&self, user: &str, system: &str, within: &Within) -> Option<Rights> {
        let side = Side { site: self.site(system)?, user: self.find_user(user, false)? };
        rights(&[side], within).pop()
    }
}

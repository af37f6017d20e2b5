//! What a kind of system must say, and how the engine asks it.
//!
//! A kind is a type with the trait [`Kind`]: it says what its tables look like, follows their references, decides, explains, lists and
//! finds. Kinds from outside are registered with `Ledger::kind`; `docs/adding-a-kind.md` shows the way, and
//! `examples/key_cabinet.rs` a whole one.
//!
//! Whatever a kind answers, the engine allows nothing by itself: an action is allowed only if the kind let it pass a gate of the stage
//! `permission` and refused nothing.

use std::collections::BTreeSet;
use std::fmt;

use jiff::Timestamp;

use super::rights::{Action, Opening, Side};
use super::trace::{Stop, Trace};
use super::ways::Way;
use super::{acting, conditions, entry, obligations};
use crate::engine::Before;
use crate::engine::Declared;
use crate::engine::Engine;
use crate::engine::Estate;
use crate::links::{Conditions, Duties, Ground, Resolver};
use crate::links::{Party, RoleId, SetId, SystemId, UserId};
use zest_model::ask::{Answer, Change, Decision, Fact, Proven, Question, Refusal, Session, Stage, Verdict};
use zest_model::entry::{Channel, Proof};
use zest_model::finding::Finding;
use zest_model::listing::{Cause, SessionView};
use zest_model::shape::Shape;
use zest_model::source::{At, Location, Place, visible};
use zest_model::table::Kept;
use zest_model::text::OutsideTable;
use zest_words::nearest;

/// The shape of conditions, for tables of kinds from outside.
pub static WHEN: Shape = Shape::Table(&zest_model::entry::WHEN);
/// The shape of obligations.
pub static AFTER: Shape = Shape::Table(&zest_model::entry::AFTER);

/// How assignments count on systems of a kind.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, kind::Combining};
/// let text = "systems.rota.kind = 'application'\n[systems.fares]\nkind = 'postgresql'\ndatabase = 'fares'\n";
/// let engine = Ledger::new().document("it.toml", text).engine(1)?;
/// let combining = |system| engine.site(system).map(|site| site.kind().combining());
/// assert_eq!(combining("rota"), Some(Combining::AddedUp));
/// assert_eq!(combining("fares"), Some(Combining::NotLookedAt));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Combining {
    /// The first that applies decides alone (XACML's `first-applicable`), and its band opens the session.
    FirstApplicable,
    /// What they give is added up.
    AddedUp,
    /// They are not looked at: the system keeps roles of its own.
    NotLookedAt,
}

/// What a line leaves behind in its session.
///
/// # Example
/// ```
/// use zest_ledger::kind::Left;
/// // What `grant` would change on a server, a rehearsal does not carry out.
/// assert_ne!(Left::Changes, Left::Session);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Left {
    /// Nothing: the next line is answered as if it were the first.
    Nothing,
    /// The session is another one: the next line is answered as the text of both, with `;` between them.
    Session,
    /// It would change rights or objects, which nobody carries out here.
    Changes,
}

/// What a system's own listings show.
///
/// # Example
/// ```
/// use zest_ledger::kind::Shown;
/// let shown = Shown { names: vec!["fares".to_owned()], not_known: Vec::new() };
/// assert!(shown.not_known.is_empty(), "all of it is known");
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Shown {
    /// What is shown, in order.
    pub names: Vec<String>,
    /// What of it is not known.
    pub not_known: Vec<String>,
}

/// What a system keeps that sets of its rights may not tell of, though something hangs on it.
///
/// # Example
/// ```
/// # let text = "users.mate-1.proofs = ['password']\nsystems.rota.kind = 'application'\napplications.rota.types.shift.rights = ['plan']\n";
/// # let engine = zest_ledger::Ledger::new().document("rota.toml", text).engine(1)?;
///
/// use zest_ledger::kind::Beside;
/// let place = engine.estate().systems()[0].id.place;
/// let sign = Beside { what: "the sign on ramp 2".to_owned(), says: "closed at night".to_owned(), ..Beside::whole("ramp 2", place, false) };
/// assert_eq!((sign.of.as_str(), sign.is_held), ("ramp 2", false));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Beside {
    /// The object, account or job that it is about; empty for the system itself. Of what is new, or gone, as a whole only that is told.
    pub of: String,
    /// What it is: `the query of view fares.cheap`.
    pub what: String,
    /// What it says, for comparing.
    pub says: String,
    /// Where it is written.
    pub place: Place,
    /// Whether it is what somebody holds or is: sets tell of it, unless nobody can use it.
    pub is_held: bool,
}

impl Beside {
    /// Says that something is there.
    #[must_use]
    pub fn whole(of: &str, place: Place, is_held: bool) -> Self {
        Self { of: of.to_owned(), what: of.to_owned(), says: String::new(), place, is_held }
    }
}

/// A statement that does something in the name of somebody else.
///
/// # Example
/// ```
/// use zest_ledger::kind::Through;
/// let through = Through { statement: "SELECT * FROM cheap".to_owned(), object: "view fares.cheap".to_owned() };
/// assert!(through.object.starts_with("view "));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Through {
    /// The statement.
    pub statement: String,
    /// The view, routine or table with rules in whose owner's name it is done, as the ledger writes it.
    pub object: String,
}

/// An account that is like others.
///
/// # Example
/// ```
/// use zest_ledger::kind::Alike;
/// let desk = |number: u8| Alike { account: format!("desk-{number}@%"), login: format!("desk-{number}"), is_lent: false };
/// // One list for all that could change places.
/// let lists = vec![vec![desk(1), desk(2)]];
/// assert_eq!(lists[0][1].login, "desk-2");
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Alike {
    /// The account, as the ledger writes it.
    pub account: String,
    /// What a person types of it; no other account of the system has that login.
    pub login: String,
    /// Whether anybody may use it besides the person whose own it is.
    pub is_lent: bool,
}

/// All that a kind of system must say. There are no defaults: what a kind leaves out does not compile.
///
/// # Example
/// ```
/// # let text = "users.mate-1.proofs = ['password']\nsystems.rota.kind = 'application'\napplications.rota.types.shift.rights = ['plan']\n";
/// # let engine = zest_ledger::Ledger::new().document("rota.toml", text).engine(1)?;
///
/// use zest_ledger::kind::Kind;
/// // What a kind of one's own looks like: `examples/key_cabinet.rs`.
/// let kind: &dyn Kind = engine.site("rota").expect("it is there").kind();
/// assert!(kind.words().iter().any(|word| word.word() == "application"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
pub trait Kind: fmt::Debug + Sync {
    /// Returns the tables of a document that describe systems of the kind, besides those of the format itself.
    fn tables(&self) -> &'static [OutsideTable];

    /// Returns the words by which a ledger names systems of the kind.
    fn words(&self) -> &'static [zest_model::entry::Kind];

    /// Follows the references of what is written of one system, and reports what is wrong with it.
    fn resolve(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, system: SystemId) -> Kept;

    /// Makes of what was resolved of a system before what the changed entries say of it, where that costs less than resolving it
    /// anew; nothing where it must be. The result must not differ.
    fn amend(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, system: SystemId, before: &Kept, changes: &[Change]) -> Option<Kept>;

    /// Does what needs all systems of the kind at once, and reports what is written of none.
    fn complete(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, systems: &mut [Declared]);

    /// Makes of a system what a decision looks up.
    fn compile(&self, estate: &Estate, system: SystemId) -> Kept;

    /// Returns whether systems of the kind look at a fact of the session. Where they do not, a question that states it is refused:
    /// nothing of a question is dropped.
    fn hears(&self, fact: Fact) -> bool;

    /// Returns whether systems of the kind look at a key of their entry. Where they do not, a ledger that states it is refused: nothing of a
    /// ledger is dropped.
    fn looks_at(&self, key: zest_model::entry::SystemKey) -> bool;

    /// Returns how assignments count.
    fn combining(&self) -> Combining;

    /// Returns whether the grants of roles are part of what is resolved of a system.
    fn compiles_roles(&self) -> bool;

    /// Returns whether a session on a system can act as somebody else.
    fn knows_links(&self) -> bool;

    /// Returns whether somebody may go on from an account of a system to other systems, as that account.
    fn is_left_as_account(&self) -> bool;

    /// Returns whether a decision on a line or pattern may tell two people apart who are alike in all that the tables of the format say
    /// of them, as who changes one's own credential is. Where a kind looks at tables of its own it is so of every line, and everybody is
    /// looked at one by one.
    fn tells_apart_by_name(&self, line: &str) -> bool;

    /// Returns the accounts of a system of which it is known that nothing but their names and whose they are tells them apart: those of
    /// each list could change places, and every decision would come out as before, but for the names. Any other account, and whoever
    /// signs in with its login, stands alone. A kind that has accounts in no table of its own, or does not tell, returns none.
    fn alike(&self, site: Site<'_>) -> Vec<Vec<Alike>>;

    /// Returns the users and groups for whom grants of a system are that may have a say in a decision on some actions; nothing where the
    /// kind does not tell, so that all have to be taken. Whom conditions, obligations and ceilings name is not meant.
    fn granted(&self, site: Site<'_>, actions: &[Action]) -> Option<BTreeSet<Party>>;

    /// Returns the people of two ledgers, by their ids, for whom any right that can be listed may differ on a system where nothing but what
    /// the kind's own tables say of it does; nothing where it may be anybody, or the kind does not tell.
    fn differs_for(&self, before: Site<'_>, after: Site<'_>) -> Option<BTreeSet<String>>;

    /// Returns by what of somebody the actions that a pattern takes are found: for two people of whom it is the same, [`like`](Self::like)
    /// finds the same.
    fn found_by(&self, side: &Side<'_>, pattern: &str) -> Vec<usize>;

    /// Returns what a person types of the name of an account.
    fn login_of(&self, account: &str) -> String;

    /// Returns what a line that was allowed leaves behind for the lines after it.
    fn leaves(&self, line: &str) -> Left;

    /// Returns on which channels a proof given on a channel counts besides its own.
    fn covers<'e>(&self, site: Site<'e>) -> &'e [(At<Channel>, Vec<At<Channel>>)];

    /// Opens the session; the action is not looked at.
    fn open(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop>;

    /// Opens the session and decides the action. Whatever is allowed passes a gate of the stage `permission`.
    fn decide(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop>;

    /// Decides the action in a session that was opened when another ledger was in force: it is let in by that one, keeps of it what such
    /// sessions keep, and is bound by the system as it is now in everything else. A kind of which that is not known refuses, with
    /// [`not_told`](Opened::not_told).
    fn decide_opened(&self, site: Site<'_>, opened: &Opened<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop>;

    /// Returns what could be changed about a refusal, for the search to try.
    fn ways(&self, site: Site<'_>, answer: &Answer, refusal: Refusal) -> Vec<Way>;

    /// Returns how sessions of somebody can start, as far as decisions look at it: on which account, at which level, in which mode, with
    /// which roles, as whom. The first states nothing.
    fn openings(&self, site: Site<'_>, user: UserId) -> Vec<Opening>;

    /// Returns actions among which there is one of every sort that the rules of some systems, for some users, take for alike.
    fn actions(&self, sides: &[Side<'_>]) -> Vec<Action>;

    /// Returns the same of those actions alone that a pattern takes, as patterns are written for the kind: whatever action it takes, one
    /// of its sort that the pattern takes as well is among them. [`Action::reads_like`] is enough where all actions are listed one by one.
    ///
    /// # Errors
    /// Why the pattern cannot be read, or there is too much to look at.
    fn like(&self, sides: &[Side<'_>], pattern: &str) -> Result<Vec<Action>, String>;

    /// Returns the statements that do what a line asks in the name of somebody else, whoever owns a view or a routine on a database server;
    /// also those of which that is not known: they are not decided.
    fn through(&self, site: Site<'_>, line: &str) -> Vec<Through>;

    /// Returns what the system's own listings show in a session, and what of it is not known, where they go by rules of their own and not by
    /// what may be done.
    ///
    /// # Errors
    /// No such session can be opened.
    fn shown(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<Option<Shown>, Stop>;

    /// Returns what a system keeps that sets of its rights may not tell of, though something hangs on it: a comparison of rights says where
    /// it differs.
    fn beside_rights(&self, site: Site<'_>) -> Vec<Beside>;

    /// Returns names that stand for several names of actions of a system, with these: for listings.
    fn collections(&self, site: Site<'_>) -> Vec<(String, Vec<String>)>;

    /// Returns whether anything of a system is meant for somebody.
    fn concerns(&self, site: Site<'_>, user: UserId) -> bool;

    /// Returns what stands in the way of somebody on a system, besides what is missing of the person.
    fn missing(&self, site: Site<'_>, user: UserId, at: Option<Timestamp>) -> Vec<Cause>;

    /// Adds what a session that can be opened has.
    fn view(&self, site: Site<'_>, question: &Question, view: &mut SessionView);

    /// Returns whether somebody reaches a system of the kind otherwise than by an assignment.
    fn reaches(&self, engine: &Engine, user: UserId) -> bool;

    /// Returns whether something is granted to a role on a system of the kind.
    fn grants_to(&self, engine: &Engine, role: RoleId) -> bool;

    /// Returns the command sets that systems of the kind use by themselves.
    fn sets(&self, engine: &Engine) -> Vec<SetId>;

    /// Adds what is odd about systems of the kind.
    fn review(&self, engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>);
}

/// The system as it was when a session was opened.
///
/// # Example
/// ```
/// # let text = "users.mate-1.proofs = ['password']\nsystems.rota.kind = 'application'\napplications.rota.types.shift.rights = ['plan']\n";
/// # let engine = zest_ledger::Ledger::new().document("rota.toml", text).engine(1)?;
///
/// use zest_ledger::{Question, kind::Opened};
/// let at = "2026-05-04T08:00:00Z".parse().ok();
/// let opened = Opened { site: engine.site("rota").expect("it is there"), at };
/// assert_eq!(opened.question(&Question::new("mate-1", "rota", "plan on shift/early")).session.at, at);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug)]
pub struct Opened<'e> {
    /// The system, in the engine of the ledger that was in force.
    pub site: Site<'e>,
    /// When that was.
    pub at: Option<Timestamp>,
}

impl Opened<'_> {
    /// Returns the question as it stood when the session was opened: at that moment.
    #[must_use]
    pub fn question(&self, question: &Question) -> Question {
        let mut then = question.clone();
        then.session.at = self.at;
        then
    }

    /// Refuses, since it is not known of a kind when a change reaches sessions that are open.
    ///
    /// # Errors
    /// Always.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::kind::{Opened, Stop, Trace};
    /// /// What a kind says that knows nothing of sessions that are open.
    /// fn go_on(opened: &Opened<'_>, trace: &mut Trace) -> Result<(), Stop> {
    ///     opened.not_told(trace)
    /// }
    /// ```
    pub fn not_told(&self, trace: &mut Trace) -> Result<(), Stop> {
        trace.refuse(Stage::Standing, Refusal::NotDecided, || {
            let entry = self.site.entry();
            let kind = entry.kind().word();
            (format!("when a change reaches sessions that are open is not known of systems of the kind `{kind}`"), Some(entry.id.place))
        })?;
        Err(Stop)
    }
}

/// The kinds that a ledger may speak of.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, kind::Kinds};
/// let engine = Ledger::new().document("rota.toml", "systems.rota.kind = 'application'\n").engine(1)?;
/// let kinds: &Kinds = engine.estate().kinds();
/// assert!(kinds.words().contains(&"network-device") && kinds.words().contains(&"application"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, Default)]
pub struct Kinds(Vec<&'static dyn Kind>);

impl Kinds {
    /// Makes the list of some kinds.
    pub fn of(kinds: &[&'static dyn Kind]) -> Self {
        Self(kinds.to_vec())
    }

    /// Adds a kind.
    pub fn add(&mut self, kind: &'static dyn Kind) {
        self.0.push(kind);
    }

    /// Returns every kind, each once.
    pub fn all(&self) -> impl Iterator<Item = &'static dyn Kind> {
        self.0.iter().copied()
    }

    /// Returns the words by which a ledger names systems.
    pub fn words(&self) -> Vec<&'static str> {
        self.all().flat_map(|kind| kind.words()).map(|word| word.word()).collect()
    }

    /// Returns the tables that kinds describe.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, kind::Kinds};
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
    /// let kinds: &Kinds = engine.estate().kinds();
    /// assert!(kinds.tables().is_empty(), "no kind from outside is registered");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub fn tables(&self) -> Vec<OutsideTable> {
        self.all().flat_map(|kind| kind.tables()).copied().collect()
    }

    /// Returns the rules of a kind; of several that have one word, the first.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, entry::Kind, kind::Kinds};
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
    /// let kinds: &Kinds = engine.estate().kinds();
    /// assert!(kinds.rules_of(Kind::CLOUD).words().contains(&Kind::CLOUD));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub fn rules_of(&self, word: zest_model::entry::Kind) -> &'static dyn Kind {
        // OK because a document names a known word only, and a system that is built in code with another has the rules of none.
        self.all().find(|kind| kind.words().contains(&word)).unwrap_or(&super::nothing::Nothing)
    }
}

/// One system of an engine.
///
/// # Example
/// ```
/// use zest_ledger::Ledger;
/// let engine = Ledger::new().document("rota.toml", "systems.rota.kind = 'application'\n").engine(1)?;
/// let site = engine.site("rota").expect("it is declared");
/// assert_eq!(site.entry().id.value, "rota");
/// assert!(!site.kind().is_left_as_account(), "whose rules it plays by");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug)]
pub struct Site<'e> {
    pub(crate) engine: &'e Engine,
    pub(crate) system: SystemId,
}

impl<'e> Site<'e> {
    /// Returns the number of the system.
    #[must_use]
    pub const fn system(self) -> SystemId {
        self.system
    }

    /// Returns the rules the system plays by.
    #[must_use]
    pub fn kind(self) -> &'static dyn Kind {
        self.engine.estate.systems[self.system.index()].kind
    }

    /// Says why a user cannot sign in at all, whatever else there is.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, ask::Session};
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
    /// let mate = engine.find_user("mate-1", false).expect("it is a user");
    /// assert!(engine.site("rota").expect("it is there").refused(mate, &Session::default()).is_none());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn refused(self, user: UserId, session: &Session) -> Option<Cause> {
        let (text, place) = entry::refusal_to_sign_in(self.engine, user, self.system, session)?;
        Some(Cause { text, place: place.map(|p| self.engine.estate.sources.locate(p)) })
    }

    /// Returns what `resolve` made of the system.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::kind::Site;
    /// struct Slot;
    /// /// What a kind's `resolve` has kept of a system.
    /// fn slots<'e>(site: Site<'e>) -> &'e [Slot] {
    ///     site.links::<Vec<Slot>>().map_or(&[], Vec::as_slice)
    /// }
    /// ```
    #[must_use]
    pub fn links<T: 'static>(self) -> Option<&'e T> {
        self.engine.estate.links(self.system)
    }

    /// Returns what `compile` made of the system.
    #[must_use]
    pub fn state<T: 'static>(self) -> Option<&'e T> {
        self.engine.state(self.system)
    }

    /// Returns the engine.
    #[must_use]
    pub const fn engine(self) -> &'e Engine {
        self.engine
    }

    /// Returns a user as written.
    #[must_use]
    pub fn user(self, id: UserId) -> &'e zest_model::entry::User {
        self.engine.estate.user(id)
    }

    /// Returns whether somebody is a party, or a member of it.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, estate::Party};
    /// let engine = Ledger::new().document("rota.toml", r#"
    /// users.mate-1 = {}
    /// users.cook-1 = {}
    /// groups.mates.members = ["user:mate-1"]
    /// systems.rota.kind = "application"
    /// "#).engine(1)?;
    /// let rota = engine.site("rota").expect("it is there");
    /// let mates = Party::Group(engine.find_group("mates").expect("it is there"));
    /// let belongs = |name| rota.belongs(engine.find_user(name, false).expect("they are there"), mates);
    /// assert!(belongs("mate-1") && !belongs("cook-1"));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn belongs(self, user: UserId, party: Party) -> bool {
        self.engine.membership.belongs(user, party)
    }

    /// Returns where something is written.
    #[must_use]
    pub fn locate(self, place: Place) -> Location {
        self.engine.estate.sources.locate(place)
    }

    /// Signs somebody in whom the central source knows: finds the person, and checks validity, proofs and channel.
    ///
    /// # Errors
    /// When the evaluation cannot go on, or need not.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Question, kind::{Site, Stop, Trace}};
    /// /// How the decision of a kind begins that knows no accounts of its own.
    /// fn decide(site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
    ///     let _user = site.person(question, trace)?;
    ///     Ok(())
    /// }
    /// ```
    pub fn person(self, question: &Question, trace: &mut Trace) -> Result<UserId, Stop> {
        let Self { engine, system } = self;
        let user = entry::find_user(engine, question, self.entry().ignores_case(), trace)?;
        entry::person(engine, &question.session, user, trace)?;
        entry::central_is_up(engine, &question.session, user, system, trace)?;
        entry::identity(engine, &question.session, user, trace)?;
        entry::accepted(engine, &question.session, user, system, trace)?;
        must_change(self, user, trace)?;
        Ok(user)
    }

    /// Checks conditions for somebody; `what` says whose they are, as in "the slot".
    ///
    /// # Errors
    /// When the evaluation cannot go on, or need not.
    pub fn conditions(self, user: UserId, session: &Session, of: &Conditions, what: &str, trace: &mut Trace) -> Result<(), Stop> {
        conditions::check(of, &self.engine.facts(session, user, self.system), what, trace)
    }

    /// Returns conditions that the stated facts leave open for somebody, in words.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{ask::Session, estate::UserId, kind::{Conditions, Site}};
    /// /// What a listing says behind something that depends on the session.
    /// fn when(site: Site<'_>, user: UserId, session: &Session, of: &Conditions) -> String {
    ///     site.open_conditions(user, session, of).join(", ")
    /// }
    /// ```
    #[must_use]
    pub fn open_conditions(self, user: UserId, session: &Session, of: &Conditions) -> Vec<String> {
        of.open_words(&self.engine.facts(session, user, self.system))
    }

    /// Checks what must be done first: confirming, proving identity again, a second person who could do the same.
    ///
    /// # Errors
    /// When the evaluation cannot go on, or need not.
    pub fn obligations(self, user: UserId, question: &Question, duties: &Duties, trace: &mut Trace) -> Result<(), Stop> {
        obligations::check(self, user, question, duties, trace)
    }

    /// Returns the system as written.
    #[must_use]
    pub fn entry(self) -> &'e zest_model::entry::System {
        self.engine.estate.system(self.system)
    }
}

/// Decides a question by the rules of its system, telling the trace about every gate.
pub(crate) fn evaluate(engine: &Engine, question: &Question, trace: &mut Trace) -> Decision {
    let walked = walk(engine, question, trace);
    close(&walked, trace);
    trace.decision()
}

/// Decides a question about a session that was opened when another ledger was in force, telling the trace about every gate.
pub(crate) fn evaluate_opened(engine: &Engine, before: &Before<'_>, question: &Question, trace: &mut Trace) {
    let walked = arrive(engine, question, trace, |site, question, trace| {
        if !question.session.acting.is_empty() {
            trace.refuse(Stage::Standing, Refusal::NotDecided, || {
                ("of a session as somebody else it is not known what it keeps from when it was opened".to_owned(), None)
            })?;
            return Err(Stop);
        }
        if let Some((opened, at)) = before.at.zip(question.session.at).filter(|(opened, at)| opened > at) {
            trace.refuse(Stage::Entry, Refusal::NotDecided, || {
                (format!("the session was opened at {opened}, after the moment of the question, {at}"), None)
            })?;
            return Err(Stop);
        }
        let then = find_system(before.engine, question, trace)?;
        if then.entry().kind() != site.entry().kind() {
            trace.refuse(Stage::Entry, Refusal::NotDecided, || {
                let kind = then.entry().kind().word();
                (
                    format!("`{}` was of the kind `{kind}` when the session was opened", visible(&question.system)),
                    Some(then.entry().id.place),
                )
            })?;
            return Err(Stop);
        }
        site.kind().decide_opened(site, &Opened { site: then, at: before.at }, question, trace)
    });
    close(&walked, trace);
}

/// Who stops without a reason, or lets something through without a gate that permits it, allows nothing.
fn close(walked: &Result<(), Stop>, trace: &mut Trace) {
    if !trace.is_refused() && (walked.is_err() || !trace.is_permitted()) {
        let _ = trace.refuse(Stage::Permission, Refusal::NotDecided, || {
            ("the rules of this kind of system say neither that it is permitted nor why not".to_owned(), None)
        });
    }
}

/// Decides whether somebody could agree to an act as second person: by a right of their own to what the question asks, with the own
/// proofs. What the person would have to prove again is open until it is proven.
pub(crate) fn agrees(engine: &Engine, question: &Question) -> Decision {
    let mut trace = Trace::silent();
    trace.agrees = true;
    evaluate(engine, question, &mut trace)
}

/// The session of a second person: taken to be like the first one's, but for the proofs, which are their own.
pub(crate) fn of_second_person(question: &Question, name: &str, line: &str) -> Question {
    let mut theirs = Question::in_session(name, &question.system, line, question.session.clone());
    let session = &mut theirs.session;
    session.proofs = session.approver_proofs.take();
    session.approved_by = None;
    session.account = None;
    session.active_roles = None;
    session.acting.clear();
    session.attributes.clear();
    session.expires = None;
    theirs
}

/// Returns whether somebody could agree, could they prove now what they have to prove with.
pub(crate) fn could_agree(engine: &Engine, question: &Question, second: UserId, line: &str) -> bool {
    let user = engine.estate.user(second);
    let mut theirs = of_second_person(question, &user.id.value, line);
    let now = |proof: &At<Proof>| Proven::new(proof.value, jiff::SignedDuration::ZERO);
    theirs.session.proofs = Some(user.proofs.iter().map(now).collect());
    agrees(engine, &theirs).verdict == Verdict::Allowed
}

/// Decides whether a session can be opened; the action of the question is not looked at.
pub fn sign_in(engine: &Engine, question: &Question, trace: &mut Trace) -> Decision {
    if open(engine, question, trace).is_err() && !trace.is_refused() {
        let _ = trace.refuse(Stage::Entry, Refusal::NotDecided, || {
            ("the rules of this kind of system do not say why no session can be opened".to_owned(), None)
        });
    }
    trace.decision()
}

fn open(engine: &Engine, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
    arrive(engine, question, trace, |site, question, trace| site.kind().open(site, question, trace))
}

fn walk(engine: &Engine, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
    arrive(engine, question, trace, |site, question, trace| site.kind().decide(site, question, trace))
}

/// Follows links on other hosts to the system that is asked about, and hears what its kind looks at; then goes on there, with what is
/// left to ask.
fn arrive(
    engine: &Engine,
    question: &Question,
    trace: &mut Trace,
    then: impl FnOnce(Site<'_>, &Question, &mut Trace) -> Result<(), Stop>,
) -> Result<(), Stop> {
    let mut site = find_system(engine, question, trace)?;
    let mut behind: Option<Box<Question>> = None;
    while let Some(on) = acting::cross(engine, behind.as_deref().unwrap_or(question), trace)? {
        site = find_system(engine, &on, trace)?;
        behind = Some(on);
    }
    let question = behind.as_deref().unwrap_or(question);
    acting::knows_links(site, question, trace)?;
    hear(site, question, trace)?;
    entry::session_lasts(&question.session, trace)?;
    then(site, question, trace)
}

fn find_system<'e>(engine: &'e Engine, question: &Question, trace: &mut Trace) -> Result<Site<'e>, Stop> {
    if let Some(&system) = engine.estate.names.systems.get(question.system.as_str()) {
        return Ok(Site { engine, system });
    }
    trace.refuse(Stage::Entry, Refusal::UnknownSystem, || {
        let near = nearest(&question.system, engine.estate.names.systems.keys().map(|k| &**k));
        let near = near.map_or(String::new(), |n| format!("; did you mean `{}`?", visible(n)));
        (format!("no system is named `{}`{near}", visible(&question.system)), None)
    })?;
    Err(Stop)
}

/// Refuses facts that the kind of the system does not look at: a question is answered whole or not at all.
fn hear(site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
    let entry = || site.entry();
    for fact in question.session.stated_facts().filter(|fact| !site.kind().hears(*fact)) {
        trace.refuse(Stage::Entry, Refusal::FactNotHeard, || {
            let (option, kind) = (fact.option(), entry().kind().word());
            (format!("a system of the kind `{kind}` does not look at `--{option}`, so nothing is answered with it"), Some(entry().id.place))
        })?;
    }
    Ok(())
}

/// A credential that must be changed leaves nothing else to do.
fn must_change(site: Site<'_>, user: UserId, trace: &mut Trace) -> Result<(), Stop> {
    match &site.user(user).must_change_credential {
        Some(must) if must.value => trace.refuse(Stage::Standing, Refusal::CredentialMustChange, || {
            (format!("`{}` must change the credential before anything else", visible(&site.user(user).id.value)), Some(must.place))
        }),
        _ => Ok(()),
    }
}

/// Refuses a statement where a system takes none.
///
/// # Errors
/// For a statement.
///
/// # Example
/// ```
/// # let text = "users.mate-1.proofs = ['password']\nsystems.rota.kind = 'application'\napplications.rota.types.shift.rights = ['plan']\n";
/// # let engine = zest_ledger::Ledger::new().document("rota.toml", text).engine(1)?;
///
/// use zest_ledger::{Question, kind::{Trace, no_statements}};
/// let rota = engine.site("rota").expect("it is there");
/// let is_taken = |question: &Question| no_statements(rota, question, &mut Trace::default()).is_ok();
/// assert!(is_taken(&Question::new("mate-1", "rota", "plan on shift/early")));
/// assert!(!is_taken(&Question::statement("mate-1", "rota", "SELECT 1")));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
pub fn no_statements(site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
    if question.form != zest_model::ask::Form::Statement {
        return Ok(());
    }
    trace.refuse(Stage::Permission, Refusal::StatementUnreadable, || {
        let kind = site.entry().kind().word();
        (format!("`{}` is of the kind `{kind}`: it takes no SQL statements", visible(&question.system)), None)
    })?;
    Err(Stop)
}

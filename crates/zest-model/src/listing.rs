//! What reviews list, as plain data: rights on systems of each kind, and sessions.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::ask::{Question, Refusal, Verdict};
use crate::entry::{Channel, Proof};
use crate::source::{Location, visible};

/// Whether a session and an action are in a set of rights.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::{Membership, effective}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let rights = &effective(&engine, "mate-1", Some("rota"), &Session::default()).expect("both are known")[0].rights;
/// assert_eq!(rights[0].allowed, Membership::Allowed);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Membership {
    /// It is allowed.
    Allowed,
    /// It is allowed once obligations are discharged.
    After,
    /// It is denied.
    Denied,
    /// The rules do not decide it: something was not read.
    NotDecided,
    /// The set says nothing about it: it states what no class of sessions has, or is beyond a limit.
    NotHere,
}

impl Membership {
    /// Returns the same in words.
    ///
    /// # Example
    /// ```
    /// assert_eq!(zest_ledger::review::Membership::After.words(), "allowed after obligations");
    /// ```
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Allowed => "allowed",
            Self::After => "allowed after obligations",
            Self::Denied => "denied",
            Self::NotDecided => "not decided",
            Self::NotHere => "not decided here",
        }
    }
}

/// What somebody may do on a system, or on several where it is the same: all of it, and nothing that a question would not be allowed.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::effective};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let found = &effective(&engine, "mate-1", Some("rota"), &Session::default()).expect("both are known")[0];
/// assert_eq!((found.rights[0].actions[0].as_str(), found.systems[0].as_str()), ("plan", "rota"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Effective {
    /// The user.
    pub user: String,
    /// The systems.
    pub systems: Vec<String>,
    /// Which sessions can do anything at all, in words; empty where every session can. Of the best session, what it needs.
    pub sessions: String,
    /// Why nothing may be done in any session, if that is so, as the plainest session is answered.
    pub refused: Option<Cause>,
    /// How many ways for a session to start were not looked at, since there are too many.
    pub left_out: usize,
    /// The session of which the rest is told, where the best one was looked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub best: Option<BestSession>,
    /// What may be done.
    pub rights: Vec<Right>,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

/// The session in which somebody may do most on a system, and what it needs.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review};
/// # let text = r#"
/// # users.mate-1.proofs = ["password", "one-time-code"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan", "drop"]
/// # objects."shift/early" = {}
/// # grants = [
/// #   { allow = ["plan"], on = "shift/*", to = ["user:mate-1"] },
/// #   { allow = ["drop"], on = "shift/*", to = ["user:mate-1"], when = { proof = ["one-time-code"] } },
/// # ]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let found = &review::best(&engine, "mate-1", Some("rota"), &Session::default()).expect("both are known")[0];
/// let best = found.best.as_ref().expect("something may be done");
/// assert_eq!((best.allowed, found.sessions.as_str()), (3, "with password or one-time-code, with one-time-code"));
/// assert_eq!(best.example.session.proofs.as_ref().expect("one is needed").len(), 1);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct BestSession {
    /// How it starts: at which level, with which role, as whom. Empty where it starts in the only way there is.
    pub starts: Vec<String>,
    /// How many actions are allowed at once, of those that the rules tell apart.
    pub allowed: usize,
    /// How many are allowed once obligations are discharged.
    pub after: usize,
    /// Whether no other session can be better: not where there are too many to look at each.
    pub is_proved: bool,
    /// One of the actions in that session; nothing is stated of it that makes no difference.
    pub example: Question,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

impl Effective {
    /// Returns whether the same is told, of whomever and wherever: see [`Right::is_like`].
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, review::effective};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
    /// let of = |user| effective(&engine, user, Some("rota"), &Session::default()).expect("both are known").remove(0);
    /// assert!(of("mate-1").is_like(&of("mate-1")) && !of("mate-1").is_like(&of("mate-2")));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn is_like(&self, other: &Self) -> bool {
        let Self { user: _, systems: _, sessions, refused, left_out, best, rights, more: _ } = self;
        (sessions, refused, left_out) == (&other.sessions, &other.refused, &other.left_out)
            && match (best, &other.best) {
                (Some(mine), Some(theirs)) => mine.is_like(theirs),
                (None, None) => true,
                (Some(_), None) | (None, Some(_)) => false,
            }
            && rights.len() == other.rights.len()
            && rights.iter().zip(&other.rights).all(|(mine, theirs)| mine.is_like(theirs))
    }
}

impl BestSession {
    /// Returns whether the same session is told, of whomever and wherever.
    fn is_like(&self, other: &Self) -> bool {
        let Self { starts, allowed, after, is_proved, example, more: _ } = self;
        (starts, allowed, after) == (&other.starts, &other.allowed, &other.after)
            && (is_proved, &example.session) == (&other.is_proved, &other.example.session)
    }
}

/// A reason, and where it is written.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::effective};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # [users.mate-3]
/// # disabled = true
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let found = effective(&engine, "mate-3", Some("rota"), &Session::default()).expect("both are known");
/// let cause = found[0].refused.as_ref().expect("nobody signs in who is disabled");
/// assert!(cause.text.contains("disabled"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Cause {
    /// The reason in words.
    pub text: String,
    /// Where it is written.
    pub place: Option<Location>,
}

/// Actions that are allowed in the same sessions, on the same ground.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::effective};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let found = effective(&engine, "mate-1", Some("rota"), &Session::default()).expect("both are known");
/// let right = &found[0].rights[0];
/// assert_eq!((right.actions[0].as_str(), right.example.line.as_str()), ("plan", "plan on shift/early"));
/// assert_eq!(right.place.as_ref().expect("it is written").line, 8);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Right {
    /// Whether they are allowed at once.
    pub allowed: Membership,
    /// What they are called: lines of a vocabulary, rules, operations, privileges.
    pub actions: Vec<String>,
    /// What they are on: objects, resources; empty where an action says so itself.
    pub on: Vec<String>,
    /// The same one by one, as they can be asked: each stands for all that the rules take for alike.
    pub lines: Vec<String>,
    /// Lines that are called the same and are not allowed there, one for each name of which some are not.
    pub except: Vec<String>,
    /// How the session starts: at which level, with which role, as whom. Empty however it starts.
    pub starts: Vec<String>,
    /// What else must be so, in words, beyond what opens a session.
    pub when: String,
    /// What must be done first, in words.
    pub after: Vec<String>,
    /// By which assignment, as which account, in which role: what the session stands on, in order.
    pub standing: Vec<Cause>,
    /// Through what.
    pub through: String,
    /// Where that is written.
    pub place: Option<Location>,
    /// One of them, in one of the sessions.
    pub example: Question,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

impl Right {
    /// Returns whether another right is told in the same words, with the same places: what its lines are one by one, and which of them
    /// is the example, is not told.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, review::effective};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
    /// let found = effective(&engine, "mate-1", Some("rota"), &Session::default()).expect("both are known");
    /// assert!(found[0].rights[0].is_like(&found[0].rights[0]));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn is_like(&self, other: &Self) -> bool {
        let Self { allowed, actions, on, lines: _, except, starts, when, after, standing, through, place, example: _, more: _ } = self;
        (allowed, actions, on, except, starts) == (&other.allowed, &other.actions, &other.on, &other.except, &other.starts)
            && (when, after, standing) == (&other.when, &other.after, &other.standing)
            && (through, place) == (&other.through, &other.place)
    }
}

/// What somebody gained and lost on a system, or on several where it is the same, between two ledgers.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::compare};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let later = Engine::compile(Ledger::new().document("rota.toml", &text.replace("user:mate-1", "user:mate-2")).estate()?)?;
/// let found = compare(&engine, &later, "mate-2", &Session::default());
/// assert!(found[0].gained.len() == 1 && found[0].lost.is_empty());
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Difference {
    /// The user.
    pub user: String,
    /// The systems.
    pub systems: Vec<String>,
    /// What is allowed now and was not, or not so.
    pub gained: Vec<Moved>,
    /// What was allowed and is no longer, or no longer so.
    pub lost: Vec<Moved>,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

/// Something that differs between two ledgers and that no set of rights tells of: the query of a view, the body of a routine, what a job
/// runs; or what is held that nobody can use.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, review::changed_beside};
/// let text = "systems.tides = { kind = 'host', no-command-set = 'nothing' }\n[hosts.tides]\naccounts.gauge = {}\njobs.read = { runs-as = 'gauge', line = '/opt/read' }\n";
/// let before = Ledger::new().document("tides.toml", text).engine(1)?;
/// let after = Ledger::new().document("tides.toml", &text.replace("/opt/read", "/opt/write")).engine(1)?;
/// let found = changed_beside(&before, &after, &[], |_| true);
/// assert_eq!((found[0].system.as_str(), found[0].what.as_str()), ("tides", "what job `read` runs"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ChangedBeside {
    /// The system.
    pub system: String,
    /// What it is.
    pub what: String,
    /// Where it was written; nothing where it is new.
    pub was: Option<Location>,
    /// Where it is written; nothing where it is gone.
    pub is: Option<Location>,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

/// A right that one ledger gives, and how the other answers its example.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::{Session, Verdict}, review::compare};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let later = Engine::compile(Ledger::new().document("rota.toml", &text.replace("user:mate-1", "user:mate-2")).estate()?)?;
/// let moved = &compare(&engine, &later, "mate-1", &Session::default())[0].lost[0];
/// assert_eq!((moved.right.actions[0].as_str(), moved.elsewhere), ("plan", Verdict::Denied));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Moved {
    /// The right, in the ledger that gives it.
    pub right: Right,
    /// What the other ledger says of its example.
    pub elsewhere: Verdict,
    /// The code of its refusal.
    pub code: Option<Refusal>,
    /// Why.
    pub why: String,
    /// Where that is written in the other ledger.
    pub place: Option<Location>,
}

/// A recorded question, its answer now, and whether that is the one it must have.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, expectation::expectations};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # [[expectations]]
/// # who = ["user:mate-2"]
/// # on = ["rota"]
/// # lines = ["plan on shift/early"]
/// # answer = "denied"
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let outcome = &expectations(&engine).outcomes[0];
/// assert!(outcome.holds && outcome.expected == "denied");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Outcome {
    /// Where the expectation is written.
    pub place: Location,
    /// What it is called; empty for one without a name.
    pub name: String,
    /// The number of the step, from 1, where it is one of a session that goes on.
    pub step: Option<usize>,
    /// The question.
    pub question: Question,
    /// The answer it must have, in words.
    pub expected: String,
    /// Whether it has it.
    pub holds: bool,
    /// Whether it had it in the ledger as it was, where that was asked as well.
    pub held_before: Option<bool>,
    /// The change that turned it, where that was looked for and is known.
    pub turned_by: Option<Turn>,
    /// The answer.
    pub verdict: Verdict,
    /// The code of its refusal.
    pub code: Option<Refusal>,
    /// Why, where it does not hold or was looked at; empty otherwise.
    pub why: String,
    /// Where that is written.
    pub at: Option<Location>,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

/// The change that turned something recorded: the first revision in which an answer is another one than it must be, or a promise is not
/// proved any more.
///
/// # Example
/// ```
/// use zest_ledger::review::Turn;
/// assert!(Turn::new(None, "not committed yet".to_owned(), false).revision.is_none());
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Turn {
    /// The revision; nothing for what is in none yet.
    pub revision: Option<String>,
    /// What it says of itself.
    pub subject: String,
    /// Whether the ledger has errors there, so that nothing could be asked.
    pub has_errors: bool,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

impl Turn {
    /// Makes one of a revision; of none for what is not committed yet.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::review::Turn;
    /// assert_eq!(Turn::new(Some("4f2e1ab".to_owned()), "rota: planners".to_owned(), false).subject, "rota: planners");
    /// ```
    #[must_use]
    pub const fn new(revision: Option<String>, subject: String, has_errors: bool) -> Self {
        Self { revision, subject, has_errors, more: crate::More }
    }
}

/// One step of a way: an act, and what it gives.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::Sought, ways::{Acts, Aim, Ways}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }, { allow = ["reset-credential"], on = "user/mate-1", to = ["user:mate-2"] }]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// # let aim = Aim::Do(Sought::Line("plan on shift/early"), &["rota"], &Session::default());
/// # let acts = Acts::of(&engine, &[aim]);
/// let way = Ways::of(&acts, "mate-2").expect("the user is known").to(aim).expect("there is a way");
/// assert_eq!((way.steps[0].by.as_str(), way.steps[1].by.as_str()), ("mate-2", "mate-1"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct WayStep {
    /// Who acts.
    pub by: String,
    /// The act as a question, which is allowed in the ledger as the steps before left it; none where no question is about it.
    pub question: Option<Question>,
    /// What is done where no question is about it, in words: an owner takes a member in, somebody writes to a folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub act: Option<String>,
    /// What must be done first, in words.
    pub needs: Vec<String>,
    /// What it gives, in words.
    pub gives: String,
    /// Why it is allowed.
    pub why: String,
    /// Where that is written.
    pub place: Option<Location>,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

/// By which acts somebody could come to something; none where it is theirs already.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, review::Sought, ways::{Acts, Aim, Ways}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }, { allow = ["reset-credential"], on = "user/mate-1", to = ["user:mate-2"] }]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// # let aim = Aim::Do(Sought::Line("plan on shift/early"), &["rota"], &Session::default());
/// # let acts = Acts::of(&engine, &[aim]);
/// let way = Ways::of(&acts, "mate-1").expect("the user is known").to(aim).expect("it is theirs");
/// assert_eq!((way.from.as_str(), way.steps.len()), ("mate-1", 1));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Way {
    /// Who sets out.
    pub from: String,
    /// The steps, in order.
    pub steps: Vec<WayStep>,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

impl Way {
    /// Returns it as one line: who sets out, and what is done by whom.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, review::Sought, ways::{Acts, Aim, Ways}};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }, { allow = ["reset-credential"], on = "user/mate-1", to = ["user:mate-2"] }]
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
    /// # let aim = Aim::Do(Sought::Line("plan on shift/early"), &["rota"], &Session::default());
    /// # let acts = Acts::of(&engine, &[aim]);
    /// let way = Ways::of(&acts, "mate-2").expect("the user is known").to(aim).expect("there is a way");
    /// assert!(way.in_one_line().starts_with("mate-2 > reset-credential on user/mate-1 on rota > as mate-1: plan on shift/early"));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn in_one_line(&self) -> String {
        let mut who = self.from.as_str();
        let mut line = visible(who);
        for step in &self.steps {
            line += " > ";
            if step.by != who {
                line += &format!("as {}: ", visible(&step.by));
                who = &step.by;
            }
            line += &step.question.as_ref().map_or_else(
                || step.gives.clone(),
                |asked| match asked.line.as_str() {
                    "" => step.gives.clone(),
                    line => {
                        let acting: String = asked.session.acting.iter().map(|act| format!(", {act}")).collect();
                        format!("{} on {}{acting}", visible(line), visible(&asked.system))
                    }
                },
            );
        }
        line
    }
}

/// An entry that ways rest on, and who would still get there without it.
///
/// # Example
/// ```
/// use zest_ledger::ways::Cut;
/// fn told(cut: &Cut) -> String {
///     format!("without {}, {} of {} would still get there", cut.what, cut.left, cut.of)
/// }
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Cut {
    /// What it is.
    pub what: String,
    /// Where it is written.
    pub place: Location,
    /// How many would still get there.
    pub left: usize,
    /// Of how many.
    pub of: usize,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

/// What a remedy opens beside what was asked.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, review::opens};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let answer = engine.ask(&Question::new("mate-2", "rota", "plan on shift/early"));
/// let remedy = answer.remedies.first().expect("a grant would do");
/// let opens = opens(&engine, &answer, remedy).expect("it was looked at");
/// assert_eq!(opens.count(), opens.lines.len() + opens.people.len());
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Opens {
    /// Other actions, to whoever asked, in any session: each stands for all that the rules take for alike. Behind those on another system
    /// stands which.
    pub lines: Vec<String>,
    /// Others who may do what was asked, in that session.
    pub people: Vec<String>,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

impl Opens {
    /// Returns how much that is.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, Question, review::opens};
    /// # let text = r#"
    /// # users.mate-1.proofs = ["password"]
    /// # users.mate-2.proofs = ["password"]
    /// # systems.rota.kind = "application"
    /// # [applications.rota]
    /// # types.shift.rights = ["plan"]
    /// # objects."shift/early" = {}
    /// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
    /// let answer = engine.ask(&Question::new("mate-2", "rota", "plan on shift/early"));
    /// let counts: Vec<_> = answer.remedies.iter().filter_map(|remedy| Some(opens(&engine, &answer, remedy)?.count())).collect();
    /// assert!(counts.is_sorted(), "of one sort, what opens least comes first");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub const fn count(&self) -> usize {
        self.lines.len() + self.people.len()
    }
}

/// How a promise stands.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, promise::{Standing, promises}};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # [[promises]]
/// # of = ["user:mate-1"]
/// # never = ["plan on **"]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// assert_eq!(promises(&engine, "2026-11-25T08:00:00Z".parse().expect("a moment"))[0].standing, Standing::Refuted);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Standing {
    /// It holds over everybody, every session and every action that was meant.
    Proved,
    /// It does not hold: there is an example.
    Refuted,
    /// It is not known: something was not read, or there was too much to look at.
    NotProved,
    /// It says nothing: of nobody, or of nothing that there is.
    SaysNothing,
}

impl Standing {
    /// Returns the same in words.
    ///
    /// # Example
    /// ```
    /// assert_eq!(zest_ledger::promise::Standing::NotProved.words(), "not proved");
    /// ```
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Proved => "proved",
            Self::Refuted => "refuted",
            Self::NotProved => "not proved",
            Self::SaysNothing => "says nothing",
        }
    }
}

/// A question that refutes a promise, or one of which it is not known.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, promise::promises};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # [[promises]]
/// # of = ["user:mate-1"]
/// # never = ["plan on **"]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let found = promises(&engine, "2026-11-25T08:00:00Z".parse().expect("a moment"));
/// assert_eq!(found[0].witnesses[0].question.line, "plan on shift/early");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Witness {
    /// The question.
    pub question: Question,
    /// Its answer.
    pub verdict: Verdict,
    /// The code of its refusal.
    pub code: Option<Refusal>,
    /// Why, in words.
    pub why: String,
    /// Where that is written.
    pub place: Option<Location>,
}

/// A promise, and how it stands.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, promise::promises};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # [[promises]]
/// # of = ["user:mate-1"]
/// # never = ["plan on **"]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let found = promises(&engine, "2026-11-25T08:00:00Z".parse().expect("a moment"));
/// assert_eq!((found[0].people, found[0].systems, found[0].place.line), (1, 1, 9));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Promised {
    /// Where it is written.
    pub place: Location,
    /// What it is called; empty for one without a name.
    pub name: String,
    /// What it says, in words.
    pub says: String,
    /// How it stands.
    pub standing: Standing,
    /// Why, where that is not plain from the witnesses.
    pub why: Vec<String>,
    /// Smallest examples that refute it.
    pub witnesses: Vec<Witness>,
    /// How many people, or accounts, it was looked for.
    pub people: usize,
    /// On how many systems.
    pub systems: usize,
    /// How it stood in an earlier ledger, if that was asked.
    pub stood_before: Option<Standing>,
    /// The change since when it is not proved any more, if that was looked for.
    pub turned_by: Option<Turn>,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

/// A part of a ledger on which no expectation depends.
///
/// # Example
/// ```
/// use zest_ledger::review::Uncovered;
/// fn told(one: &Uncovered) -> String {
///     format!("no expectation depends on {}{}", one.what, if one.is_tried { "" } else { ", which cannot be left out" })
/// }
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Uncovered {
    /// What it is.
    pub what: String,
    /// Where it is written.
    pub place: Location,
    /// Whether it was tried: without some parts a ledger is none.
    pub is_tried: bool,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

/// What a listing would show in a session: the databases and tables, containers and resources, or the lines at a question mark.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, review::visible};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// assert_eq!(visible(&engine, &Question::new("mate-1", "rota", "")).shown, ["shift/early"]);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Seen {
    /// Whose session it is.
    pub user: String,
    /// The system.
    pub system: String,
    /// Why there is no such session.
    pub refused: Option<Cause>,
    /// What is shown, in order.
    pub shown: Vec<String>,
    /// Containers on the way to something that is shown, of which nothing else may be done.
    pub on_the_way: Vec<String>,
    /// What of it is not known.
    pub not_known: Vec<String>,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

/// A session as it stands: who is behind it, and what it has.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, review::session};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # users.mate-2.proofs = ["password"]
/// # systems.rota.kind = "application"
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # objects."shift/early" = {}
/// # grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("rota.toml", text).estate()?)?;
/// let view = session(&engine, &Question::new("mate-1", "rota", ""));
/// assert_eq!((view.person.as_str(), view.system.as_str(), view.refused), ("mate-1", "rota", None));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct SessionView {
    /// The whole chain in one line: "night-1, as account batch on runner-1, in role night-operator".
    pub line: String,
    /// The system.
    pub system: String,
    /// Who signed in and proved identity.
    pub person: String,
    /// Whose rights the session has: the last of the chain.
    pub acting: String,
    /// The account, where the system has accounts.
    pub account: Option<String>,
    /// Roles that are active.
    pub roles: Vec<String>,
    /// The privilege level at which it starts or is stated to be.
    pub level: Option<u8>,
    /// The channel, if it is stated.
    pub channel: Option<Channel>,
    /// Proofs of identity with their ages, if they are stated.
    pub proofs: Option<Vec<String>>,
    /// The first moment at which it is over.
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub expires: Option<Timestamp>,
    /// Why there is no such session.
    pub refused: Option<Refused>,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

/// Why there is no session, with the code of the refusal.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, Question, ask::Refusal, review::session};
/// # let text = r#"
/// # users.mate-1 = { proofs = ["password"], disabled = true }
/// # systems.rota.kind = "application"
/// # applications.rota.types.shift.rights = ["plan"]
/// # "#;
/// let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let refused = session(&engine, &Question::new("mate-1", "rota", "")).refused.expect("nobody signs in who is disabled");
/// assert_eq!((refused.code, refused.place.expect("it is written").line), (Refusal::UserDisabled, 2));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Refused {
    /// The code.
    pub code: Refusal,
    /// The reason in words.
    pub text: String,
    /// Where it is written.
    pub place: Option<Location>,
}

/// Whether somebody can start on one system, and what is missing.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, entry::{Channel, Proof}, review::readiness};
/// # let text = r#"
/// # users.mate-1.proofs = ["password"]
/// # [systems.rota]
/// # kind = "application"
/// # accepts = { web = ["password"] }
/// # [applications.rota]
/// # types.shift.rights = ["plan"]
/// # "#;
/// let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let ready = readiness(&engine, "mate-1", Some("rota"), None).expect("the user is known").remove(0);
/// let web = ready.channels.iter().find(|opening| opening.channel == Channel::Web).expect("each channel is told");
/// assert_eq!((web.proofs.as_slice(), ready.missing[0].text.as_str()), (&[Proof::Password][..], "nothing is granted on `rota`"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Readiness {
    /// The system.
    pub system: String,
    /// What opens a session through each channel.
    pub channels: Vec<Opening>,
    /// What is missing, each with the place it is about; nothing if the person can start.
    pub missing: Vec<Cause>,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

/// The proofs of identity that open a session through a channel.
///
/// # Example
/// ```
/// use zest_ledger::{entry::{Channel, Proof}, review::Opening};
/// let opening = Opening { channel: Channel::Web, is_open: true, proofs: vec![Proof::Password] };
/// assert_eq!(serde_json::to_string(&opening).expect("it can be written"), r#"{"channel":"web","is-open":true,"proofs":["password"]}"#);
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Opening {
    /// The channel.
    pub channel: Channel,
    /// Whether a session can be opened through it.
    pub is_open: bool,
    /// Any of these; none if the channel is closed, or no proof of the ledger is asked for.
    pub proofs: Vec<Proof>,
}

/// What must be done before a right on an object takes effect.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, review::obligations};
/// # let text = r#"
/// # systems.ramps.kind = "application"
/// # [applications.ramps]
/// # types.ramp = { rights = ["lower"], rights-after = { lower = { confirm = true } } }
/// # objects."ramp/north" = { attributes = { pier = "3" } }
/// # "#;
/// let engine = Ledger::new().document("ramps.toml", text).engine(1)?;
/// let ramp = &obligations(&engine, "ramps").expect("it is an application")[0];
/// assert_eq!((ramp.attributes["pier"].as_str(), ramp.of_rights["lower"][0].as_str()), ("3", "confirm"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ObjectObligations {
    /// The object's path, `TYPE/NAME`; on a cloud a container's or resource's.
    pub object: String,
    /// Its attributes.
    pub attributes: BTreeMap<String, String>,
    /// Obligations of the object itself, in words.
    pub own: Vec<String>,
    /// Obligations of its type, in words.
    pub of_type: Vec<String>,
    /// Obligations of single rights of its type, in words.
    pub of_rights: BTreeMap<String, Vec<String>>,
    /// Where the object is written.
    pub place: Location,
    #[doc(hidden)]
    #[serde(skip)]
    pub more: crate::More,
}

//! One evaluation serves both the bare decision and the explained answer: they differ in whether reasons are kept.

use std::sync::Arc;

use crate::engine::Engine;
use crate::engine::prepared::Memo;
use crate::links::{SystemId, UserId};
use zest_model::ask::{Answer, Decision, Gate, GateOutcome, Question, Refusal, RuleRef, Stage, Verdict};
use zest_model::source::{Location, Place};

/// Why, and where it is written.
///
/// # Example
/// ```
/// use zest_ledger::kind::Reason;
/// let why: Reason = ("the key hangs in another cabinet".to_owned(), None);
/// assert!(why.1.is_none(), "it is written nowhere");
/// ```
pub type Reason = (String, Option<Place>);

/// How the session or the line was understood.
#[derive(Debug)]
pub enum Understood {
    /// Which account is used.
    Account(String),
    /// At which level the line is typed.
    Level(u8),
    /// The line in full words.
    FullLine(String),
    /// The object of the first refusal.
    Object(String),
    /// The session goes on as somebody else on another system: what was understood before is of no importance.
    Elsewhere,
}

/// What an explained answer is made of.
#[derive(Debug, Default)]
struct Kept {
    /// Whether reasons are told in words; a search for remedies looks at gates, and reads none.
    tells: bool,
    gates: Vec<(Stage, GateOutcome, Reason)>,
    account: Option<String>,
    level: Option<u8>,
    full_line: Option<String>,
    object: Option<String>,
}

/// Obligations leave an action allowed, but not yet.
const fn verdict(refused: bool, asked: bool) -> Verdict {
    match (refused, asked) {
        (true, _) => Verdict::Denied,
        (false, true) => Verdict::AllowedAfter,
        (false, false) => Verdict::Allowed,
    }
}

/// The evaluation cannot go on, or need not.
///
/// # Example
/// ```
/// use zest_ledger::{ask::{Refusal, Stage}, kind::{Stop, Trace}};
/// fn opens(is_there: bool, trace: &mut Trace) -> Result<(), Stop> {
///     if !is_there {
///         trace.refuse(Stage::Permission, Refusal::NotGranted, || ("the key hangs in another cabinet".to_owned(), None))?;
///     }
///     trace.pass(Stage::Permission, || ("the key is there".to_owned(), None));
///     Ok(())
/// }
/// assert!(opens(true, &mut Trace::default()).is_ok());
/// assert!(opens(false, &mut Trace::default()).is_err(), "nobody wants to know what else is in the way");
/// ```
#[derive(Debug)]
pub struct Stop;

/// One evaluation: it hears about every gate, and keeps the reasons where they are wanted.
///
/// # Example
/// ```
/// use zest_ledger::{ask::{Refusal, Stage}, kind::Trace};
/// let mut trace = Trace::default();
/// trace.pass(Stage::Entry, || unreachable!("no reasons are kept, so none are made"));
/// assert!(!trace.explains());
/// assert!(trace.refuse(Stage::Permission, Refusal::NotGranted, || unreachable!("nor here")).is_err());
/// ```
#[derive(Debug, Default)]
pub struct Trace {
    kept: Option<Box<Kept>>,
    refusal: Option<Refusal>,
    asked: bool,
    permitted: bool,
    rule: Option<RuleRef>,
    /// Who signed in, and as whom the session went on from host to host: nobody agrees to their own acts.
    pub(crate) behind: Vec<UserId>,
    /// Whether somebody is looked at who agrees to the act of another: agreeing is confirming, and nobody else must agree.
    pub(crate) agrees: bool,
    /// What is kept of a prepared line.
    pub(crate) memo: Option<Arc<Memo>>,
}

impl Trace {
    /// Keeps no reasons, and stops at the first refusal.
    #[doc(hidden)]
    pub const fn silent() -> Self {
        Self { kept: None, refusal: None, asked: false, permitted: false, rule: None, behind: Vec::new(), agrees: false, memo: None }
    }

    /// As [`silent`](Self::silent), with what is kept of a prepared line.
    pub(crate) fn remembering(memo: Option<Arc<Memo>>) -> Self {
        Self { memo, ..Self::silent() }
    }

    /// Keeps every reason, and goes on after a refusal to find the gates that would refuse as well.
    #[doc(hidden)]
    pub fn explaining() -> Self {
        Self { kept: Some(Box::new(Kept { tells: true, ..Kept::default() })), ..Self::silent() }
    }

    /// Goes on after a refusal as an explaining one does, and keeps gates without their reasons.
    pub(crate) fn trying() -> Self {
        Self { kept: Some(Box::default()), ..Self::silent() }
    }

    /// Returns whether reasons are kept.
    #[must_use]
    pub const fn explains(&self) -> bool {
        self.kept.is_some()
    }

    /// Returns what may be kept of the line from question to question, where it is prepared and no reasons are wanted.
    #[doc(hidden)]
    #[must_use]
    pub fn memo(&self, system: SystemId) -> Option<Arc<Memo>> {
        self.memo.as_ref().filter(|memo| memo.system == system && !self.explains()).map(Arc::clone)
    }

    /// Returns the first refusal.
    #[doc(hidden)]
    #[must_use]
    pub const fn first_refusal(&self) -> Option<Refusal> {
        self.refusal
    }

    fn gate(&mut self, stage: Stage, outcome: GateOutcome, reason: impl FnOnce() -> Reason) {
        if let Some(kept) = &mut self.kept {
            let reason = if kept.tells { reason() } else { Reason::default() };
            kept.gates.push((stage, outcome, reason));
        }
    }

    /// Lets the action pass a gate.
    pub fn pass(&mut self, stage: Stage, reason: impl FnOnce() -> Reason) {
        self.permitted |= stage == Stage::Permission;
        self.gate(stage, GateOutcome::Passes, reason);
    }

    /// Refuses; the evaluation goes on only to explain.
    ///
    /// # Errors
    /// When no reasons are kept: nothing that comes after would be of any use.
    pub fn refuse(&mut self, stage: Stage, code: Refusal, reason: impl FnOnce() -> Reason) -> Result<(), Stop> {
        self.refusal.get_or_insert(code);
        self.gate(stage, GateOutcome::Refuses(code), reason);
        if self.explains() { Ok(()) } else { Err(Stop) }
    }

    /// Wants something done first.
    pub fn ask(&mut self, reason: impl FnOnce() -> Reason) {
        self.asked = true;
        self.gate(Stage::Obligations, GateOutcome::Asks, reason);
    }

    /// Says what the whole words of the action are, as the system understands it.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::kind::Trace;
    /// Trace::default().full_line(|| unreachable!("no reasons are kept, so none are made"));
    /// ```
    pub fn full_line(&mut self, line: impl FnOnce() -> String) {
        self.understood(|| Understood::FullLine(line()));
    }

    #[doc(hidden)]
    pub fn understood(&mut self, what: impl FnOnce() -> Understood) {
        let Some(kept) = &mut self.kept else { return };
        match what() {
            Understood::Account(login) => kept.account = Some(login),
            Understood::Level(level) => kept.level = Some(level),
            Understood::FullLine(line) => kept.full_line = Some(line),
            Understood::Elsewhere => (kept.account, kept.level, kept.full_line) = (None, None, None),
            Understood::Object(name) => kept.object = kept.object.take().or(Some(name)),
        }
    }

    /// Notes the rule that decides; after a refusal no rule decides any more.
    pub(crate) fn note_rule(&mut self, rule: Option<RuleRef>) {
        if self.refusal.is_none() {
            self.rule = rule;
        }
    }

    /// Returns whether a gate has refused.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{ask::{Refusal, Stage}, kind::Trace};
    /// let mut trace = Trace::default();
    /// assert!(!trace.is_refused());
    /// let _ = trace.refuse(Stage::Permission, Refusal::NotGranted, || unreachable!("no reasons are kept"));
    /// assert!(trace.is_refused());
    /// ```
    #[must_use]
    pub const fn is_refused(&self) -> bool {
        self.refusal.is_some()
    }

    /// Returns whether a gate of the stage `permission` let the action through.
    pub(crate) const fn is_permitted(&self) -> bool {
        self.permitted
    }

    pub(crate) const fn decision(&self) -> Decision {
        Decision { verdict: verdict(self.refusal.is_some(), self.asked), refusal: self.refusal, rule: self.rule, more: zest_model::More }
    }

    /// Makes an answer of what was kept.
    #[doc(hidden)]
    pub fn into_answer(self, question: &Question, engine: &Engine) -> Answer {
        self.into_answer_of(question, |place| engine.estate.sources.locate(place))
    }

    /// The same, where the gates cite documents of several ledgers.
    pub(crate) fn into_answer_of(self, question: &Question, locate: impl Fn(Place) -> Location) -> Answer {
        let Decision { verdict, refusal, rule, more: _ } = self.decision();
        let Kept { tells: _, gates, account, level, full_line, object } = self.kept.map(|kept| *kept).unwrap_or_default();
        let gate = |(stage, outcome, (text, place)): (_, _, Reason)| Gate {
            stage,
            outcome,
            text,
            location: place.map(&locate),
            more: zest_model::More,
        };
        Answer {
            question: question.clone(),
            verdict,
            refusal,
            rule,
            gates: gates.into_iter().map(gate).collect(),
            full_line,
            level,
            account,
            object,
            remedies: Vec::new(),
            able: Vec::new(),
            sought: false,
            now: question.session.at,
            more: zest_model::More,
        }
    }
}

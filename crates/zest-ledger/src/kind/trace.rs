//! One evaluation serves both the bare decision and the explained answer: they differ in what listens.

use crate::ask::{Answer, Decision, Gate, GateOutcome, Question, Refusal, RuleRef, Stage, Verdict};
use crate::engine::Engine;
use crate::estate::UserId;
use crate::source::Place;

/// Why, and where it is written.
type Reason = (String, Option<Place>);

/// Listens to an evaluation.
pub(crate) trait Trace {
    /// Whether to go on after a refusal, to find the gates that would refuse as well.
    const EXPLAINS: bool;

    /// Hears about a gate; the reason is made only when somebody wants it.
    fn gate(&mut self, stage: Stage, outcome: GateOutcome, reason: impl FnOnce() -> Reason);

    /// Hears how the session and the line were understood.
    fn understood(&mut self, what: impl FnOnce() -> Understood);
}

/// How the session or the line was understood.
pub(crate) enum Understood {
    Account(String),
    Level(u8),
    FullLine(String),
    /// The object of the first refusal.
    Object(String),
    /// The session goes on as somebody else on another system: what was understood before is of no importance.
    Elsewhere,
}

/// Hears nothing.
#[derive(Debug)]
pub(crate) struct Silent;

impl Trace for Silent {
    const EXPLAINS: bool = false;
    fn gate(&mut self, _: Stage, _: GateOutcome, _: impl FnOnce() -> Reason) {}
    fn understood(&mut self, _: impl FnOnce() -> Understood) {}
}

/// Keeps everything.
#[derive(Debug, Default)]
pub(crate) struct Explain {
    gates: Vec<(Stage, GateOutcome, Reason)>,
    account: Option<String>,
    level: Option<u8>,
    full_line: Option<String>,
    object: Option<String>,
}

impl Trace for Explain {
    const EXPLAINS: bool = true;

    fn gate(&mut self, stage: Stage, outcome: GateOutcome, reason: impl FnOnce() -> Reason) {
        self.gates.push((stage, outcome, reason()));
    }

    fn understood(&mut self, what: impl FnOnce() -> Understood) {
        match what() {
            Understood::Account(login) => self.account = Some(login),
            Understood::Level(level) => self.level = Some(level),
            Understood::FullLine(line) => self.full_line = Some(line),
            Understood::Elsewhere => (self.account, self.level, self.full_line) = (None, None, None),
            Understood::Object(name) => self.object = self.object.take().or(Some(name)),
        }
    }
}

impl Explain {
    pub(crate) fn into_answer(self, question: &Question, decision: Decision, engine: &Engine) -> Answer {
        let locate = |place| engine.estate.sources.locate(place);
        Answer {
            question: question.clone(),
            verdict: decision.verdict,
            refusal: decision.refusal,
            rule: decision.rule,
            gates: self
                .gates
                .into_iter()
                .map(|(stage, outcome, (text, place))| Gate { stage, outcome, text, location: place.map(locate) })
                .collect(),
            full_line: self.full_line,
            level: self.level,
            account: self.account,
            object: self.object,
            remedies: Vec::new(),
        }
    }
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
#[derive(Debug)]
pub(crate) struct Stop;

/// The state of one evaluation.
pub(crate) struct Run<'t, T> {
    trace: &'t mut T,
    refusal: Option<Refusal>,
    asked: bool,
    rule: Option<RuleRef>,
    /// Who signed in, and as whom the session went on from host to host: nobody agrees to their own acts.
    pub(crate) behind: Vec<UserId>,
    /// Whether somebody is looked at who agrees to the act of another: agreeing is confirming, and nobody else must agree.
    pub(crate) agrees: bool,
}

impl<'t, T: Trace> Run<'t, T> {
    pub(crate) const fn new(trace: &'t mut T) -> Self {
        Self { trace, refusal: None, asked: false, rule: None, behind: Vec::new(), agrees: false }
    }

    pub(crate) fn pass(&mut self, stage: Stage, reason: impl FnOnce() -> Reason) {
        self.trace.gate(stage, GateOutcome::Passes, reason);
    }

    /// Refuses; the evaluation goes on only to explain.
    pub(crate) fn refuse(&mut self, stage: Stage, code: Refusal, reason: impl FnOnce() -> Reason) -> Result<(), Stop> {
        self.refusal.get_or_insert(code);
        self.trace.gate(stage, GateOutcome::Refuses(code), reason);
        if T::EXPLAINS { Ok(()) } else { Err(Stop) }
    }

    pub(crate) fn ask(&mut self, reason: impl FnOnce() -> Reason) {
        self.asked = true;
        self.trace.gate(Stage::Obligations, GateOutcome::Asks, reason);
    }

    pub(crate) fn understood(&mut self, what: impl FnOnce() -> Understood) {
        self.trace.understood(what);
    }

    /// Notes the rule that decides; after a refusal no rule decides any more.
    pub(crate) fn note_rule(&mut self, rule: Option<RuleRef>) {
        if self.refusal.is_none() {
            self.rule = rule;
        }
    }

    pub(crate) const fn is_refused(&self) -> bool {
        self.refusal.is_some()
    }

    pub(crate) const fn decision(&self) -> Decision {
        Decision { verdict: verdict(self.refusal.is_some(), self.asked), refusal: self.refusal, rule: self.rule }
    }
}

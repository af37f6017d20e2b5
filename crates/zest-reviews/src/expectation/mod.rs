//! Expectations: recorded questions, each asked again and held against the answer it must have.
//!
//! Every row is asked whole: for everybody, every system and every line that it names. A row that cannot be asked is a finding, and
//! counts as none that holds.

mod coverage;
mod proposal;
mod record;

pub use coverage::{Asked, Covered, Part, parts};
pub use proposal::{Proposal, Questions, fewest, proposed_text};
pub use record::{recorded, recorded_steps};

use zest_engine::Engine;
use zest_model::ask::{Answer, Decision, GateOutcome, Question, Refusal, Session, Verdict};
use zest_model::entry::{Expectation, Expected, Step};
use zest_model::finding::Findings;
use zest_model::listing::Outcome;
use zest_model::source::{At, Location};

use crate::rehearsal::{Console, Rehearsal, Statements};
use crate::row::Wanted;
pub use crate::row::{Row, rows};

/// What came of the expectations of a ledger.
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
/// let found = expectations(&engine);
/// assert!(found.not_asked.list().is_empty() && found.outcomes.len() == 1);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
#[non_exhaustive]
pub struct Expectations {
    /// Each question with its answer, in the order in which they are written.
    pub outcomes: Vec<Outcome>,
    /// Rows that cannot be asked.
    pub not_asked: Findings,
}

/// Asks all expectations of a ledger.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, expectation::expectations};
/// let text = r#"
/// [users.mate-1]
/// proofs = ["password"]
/// [systems.box]
/// kind = "host"
/// no-command-set = "nothing"
/// [[expectations]]
/// who = ["user:mate-1"]
/// on = ["box"]
/// lines = ["/bin/true"]
/// answer = "allowed"
/// "#;
/// let found = expectations(&Engine::compile(Ledger::new().document("box.toml", text).estate()?)?);
/// assert!(!found.outcomes[0].holds && found.outcomes[0].why.contains("account"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn expectations(engine: &Engine) -> Expectations {
    let (rows, not_asked) = rows(engine);
    Expectations { outcomes: rows.iter().flat_map(|row| row.ask(engine)).collect(), not_asked }
}

impl Row<'_> {
    /// Asks, and says for each answer whether it is the one that is expected.
    #[must_use]
    pub fn ask(&self, engine: &Engine) -> Vec<Outcome> {
        match self.wanted {
            Wanted::One(expected) => {
                let decision = engine.decide(&self.question);
                // Why is found out where it is told, and where it is looked at.
                if !self.is_explained() && met(expected, decision) {
                    return vec![self.outcome(engine, None, self.question.clone(), expected, decision, true)];
                }
                let answer = engine.explain(&self.question);
                vec![self.told(engine, None, &answer, expected, met(expected, decision) && self.is_grounded(&answer))]
            }
            Wanted::Steps(steps) => self.steps(engine, steps),
        }
    }

    /// Asks, and says of each answer whether another ledger, such as an older one, gives the expected answer as well.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, expectation::rows};
    /// let text = |sets: &str| format!("
    ///     users.op-1.proofs = ['password']
    ///     systems.box = {{ kind = 'host', no-command-set = '{sets}' }}
    ///     hosts.box.accounts.op-1 = {{}}
    ///     [[expectations]]
    ///     who = ['user:op-1']
    ///     on = ['box']
    ///     lines = ['/bin/true']
    ///     answer = 'allowed'
    /// ");
    /// let engine = |sets| Ledger::new().document("box.toml", &text(sets)).engine(1);
    /// let (after, before) = (engine("nothing")?, engine("everything")?);
    /// let (rows, _) = rows(&after);
    /// let outcome = &rows[0].ask_both(&after, &before)[0];
    /// assert_eq!((outcome.holds, outcome.held_before), (false, Some(true)));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn ask_both(&self, engine: &Engine, before: &Engine) -> Vec<Outcome> {
        let held = self.holds(before);
        let with = |(outcome, held): (Outcome, Option<bool>)| Outcome { held_before: held, ..outcome };
        self.ask(engine).into_iter().zip(held.into_iter().map(Some).chain(std::iter::repeat(None))).map(with).collect()
    }

    /// Returns whether each answer is the expected one.
    fn holds(&self, engine: &Engine) -> Vec<bool> {
        match self.wanted {
            Wanted::One(expected) => {
                let is_met = met(expected, engine.decide(&self.question));
                vec![is_met && (!self.is_explained() || self.is_grounded(&engine.explain(&self.question)))]
            }
            Wanted::Steps(steps) => self.steps(engine, steps).into_iter().map(|outcome| outcome.holds).collect(),
        }
    }

    /// Returns whether more is expected than a verdict.
    const fn is_explained(&self) -> bool {
        self.entry.code.is_some() || self.entry.ground.is_some()
    }

    /// Goes through a session step by step; from the step on at which it cannot go on, no step holds.
    fn steps(&self, engine: &Engine, steps: &[Step]) -> Vec<Outcome> {
        let Question { user, system, session, .. } = &self.question;
        let mut going = match Going::open(engine, user, system, session.clone()) {
            Ok(going) => going,
            Err(answer) => {
                // Whoever expects to be refused at the door is refused there, whatever is typed.
                let one = |(number, step): (usize, &Step)| {
                    let mut told = self.told_step(engine, number + 1, &answer, step);
                    typed(step).clone_into(&mut told.question.line);
                    told
                };
                return steps.iter().enumerate().map(one).collect();
            }
        };
        let one = |(number, step): (usize, &Step)| match going.type_line(typed(step)) {
            Some(answer) => self.told_step(engine, number + 1, &answer, step),
            None => {
                let question = Question { line: typed(step).to_owned(), ..self.question.clone() };
                let denied = Decision { verdict: Verdict::Denied, refusal: None, rule: None, more: zest_model::More };
                let outcome = self.outcome(engine, Some(number + 1), question, expected_of(step), denied, false);
                Outcome { why: "the session is over: an earlier step ended it".to_owned(), ..outcome }
            }
        };
        steps.iter().enumerate().map(one).collect()
    }

    fn told_step(&self, engine: &Engine, number: usize, answer: &Answer, step: &Step) -> Outcome {
        let holds = met(expected_of(step), answer.decision()) && has_code(step.code.as_ref(), answer.refusal);
        self.told(engine, Some(number), answer, expected_of(step), holds)
    }

    fn is_grounded(&self, answer: &Answer) -> bool {
        let is_ground = self.entry.ground.as_ref().is_none_or(|ground| {
            let is_at = |at: &Location| format!("{}:{}", at.file, at.line) == ground.value;
            let is_denied = answer.verdict == Verdict::Denied;
            let has_a_say = |outcome: GateOutcome| match outcome {
                GateOutcome::Refuses(_) => is_denied,
                GateOutcome::Passes => !is_denied,
                GateOutcome::Asks => true,
            };
            answer
                .gates
                .iter()
                .any(|gate| has_a_say(gate.outcome) && (gate.text.contains(&ground.value) || gate.location.as_ref().is_some_and(is_at)))
        });
        has_code(self.entry.code.as_ref(), answer.refusal) && is_ground
    }

    fn told(&self, engine: &Engine, step: Option<usize>, answer: &Answer, expected: Expected, holds: bool) -> Outcome {
        let gate = match answer.verdict {
            Verdict::Denied => answer.first_refusal(),
            Verdict::AllowedAfter => answer.gates.iter().find(|gate| gate.outcome == GateOutcome::Asks),
            Verdict::Allowed => answer.last_permit(),
        };
        let outcome = self.outcome(engine, step, answer.question.clone(), expected, answer.decision(), holds);
        Outcome { why: gate.map_or_else(String::new, |gate| gate.text.clone()), at: gate.and_then(|gate| gate.location.clone()), ..outcome }
    }

    fn outcome(
        &self,
        engine: &Engine,
        step: Option<usize>,
        question: Question,
        expected: Expected,
        decision: Decision,
        holds: bool,
    ) -> Outcome {
        let Expectation { place, name, code: wanted, ground, .. } = self.entry;
        let of_step = match (&self.wanted, step) {
            (Wanted::Steps(steps), Some(number)) => steps.get(number - 1).and_then(|step| step.code.as_ref()),
            _ => wanted.as_ref(),
        };
        let mut more = of_step.map(|code| format!(" [{}]", code.value)).unwrap_or_default();
        if let Some(ground) = ground.as_ref().filter(|_| step.is_none()) {
            more += &format!(" because of `{}`", ground.value);
        }
        Outcome {
            place: engine.estate().sources().locate(*place),
            name: name.as_ref().map(|name| name.value.clone()).unwrap_or_default(),
            step,
            question,
            expected: format!("{}{more}", expected.word()),
            holds,
            held_before: None,
            turned_by: None,
            verdict: decision.verdict,
            code: decision.refusal,
            why: String::new(),
            at: None,
            more: zest_model::More,
        }
    }
}

/// Returns what is typed in a step.
fn typed(step: &Step) -> &str {
    step.line.as_ref().map_or("", |line| line.value.as_str())
}

fn expected_of(step: &Step) -> Expected {
    // OK because a step without an answer is an error of the document.
    step.answer.as_ref().map_or(Expected::Denied, |answer| answer.value)
}

/// Returns whether a refusal has the code that is expected, if one is.
fn has_code(code: Option<&At<String>>, refusal: Option<Refusal>) -> bool {
    code.is_none_or(|code| refusal.is_some_and(|refusal| refusal.code() == code.value))
}

/// Returns whether an answer is the expected one. What was not decided is not denied: nobody knows. And a question that names what is not
/// there, or states what the system does not look at, is refused whatever it asks: that is no denial.
fn met(expected: Expected, Decision { verdict, refusal, .. }: Decision) -> bool {
    let is_open = refusal == Some(Refusal::NotDecided);
    match expected {
        Expected::Allowed => verdict == Verdict::Allowed,
        Expected::After => verdict == Verdict::AllowedAfter,
        Expected::Denied => verdict == Verdict::Denied && !is_open && !refusal.is_some_and(says_nothing),
        Expected::NotDecided => verdict == Verdict::Denied && is_open,
    }
}

const fn says_nothing(refusal: Refusal) -> bool {
    refusal.names_nothing() || matches!(refusal, Refusal::FactNotHeard)
}

/// A session that goes on, as the kind of its system has it.
enum Going {
    Device(Box<Rehearsal>),
    Database(Box<Statements>),
    Other(Box<Console>),
}

impl Going {
    fn open(engine: &Engine, user: &str, system: &str, session: Session) -> Result<Self, Box<Answer>> {
        use zest_model::entry::Kind;
        let kind = engine.site(system).map(|site| site.entry().kind());
        match kind {
            Some(Kind::NETWORK_DEVICE) => Rehearsal::open(engine.clone(), user, system, session).map(|of| Self::Device(Box::new(of))),
            Some(Kind::POSTGRESQL | Kind::MARIADB) => {
                Statements::open(engine.clone(), user, system, session).map(|of| Self::Database(Box::new(of)))
            }
            _ => Console::open(engine.clone(), user, system, session).map(|of| Self::Other(Box::new(of))),
        }
    }

    /// Types a line; nothing where the session is over.
    fn type_line(&mut self, line: &str) -> Option<Answer> {
        match self {
            Self::Device(rehearsal) if rehearsal.is_over() => None,
            Self::Device(rehearsal) => Some(rehearsal.type_line(line).answer),
            Self::Database(statements) => Some(statements.type_statement(line).answer),
            Self::Other(console) => Some(console.type_line(line)),
        }
    }
}

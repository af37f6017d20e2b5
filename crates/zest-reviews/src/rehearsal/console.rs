//! A stand-in session on a host, a cloud or in an application: each line is an action of its own.

use std::sync::Arc;

use crate::review::{MenuItem, menu};
use zest_engine::Engine;
use zest_model::ask::{Act, Answer, Proven, Question, Session};
use zest_model::source::visible;

/// A stand-in session where lines leave no state behind but the chain of identities.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::{Session, Verdict}, rehearsal::Console};
/// let estate = Ledger::new().document("hosts.toml", r#"
/// [users.op-1]
/// proofs = ["password"]
/// [users.op-2]
/// [systems.box]
/// kind = "host"
/// no-command-set = "everything"
/// [command-sets.menu]
/// rules = ["allow /opt/menu {1-3}"]
/// [hosts.box.accounts]
/// op-1 = {}
/// kiosk = { used-by = ["user:op-1"], commands = ["menu"], proof = false }
/// "#).estate()?;
/// let mut session = Session::default();
/// session.acting.push("account:kiosk".parse().expect("a link"));
/// let console = Console::open(Engine::compile(estate)?, "op-1", "box", session).expect("the session opens");
/// assert_eq!(console.menu()[0].line, "/opt/menu {1-3}");
/// assert_eq!(console.type_line("/opt/menu 2").verdict, Verdict::Allowed);
/// assert_eq!(console.type_line("/bin/sh").verdict, Verdict::Denied);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Console {
    engine: Arc<Engine>,
    user: String,
    system: String,
    facts: Session,
}

impl Console {
    /// Signs in.
    ///
    /// # Errors
    /// The refusing answer, when the session cannot be opened.
    pub fn open(engine: Engine, user: &str, system: &str, facts: Session) -> Result<Self, Box<Answer>> {
        let console = Self { engine: Arc::new(engine), user: user.to_owned(), system: system.to_owned(), facts };
        let answer = console.engine.sign_in(&console.question(""));
        if answer.refusal.is_some() { Err(Box::new(answer)) } else { Ok(console) }
    }

    fn question(&self, line: &str) -> Question {
        Question::in_session(&self.user, &self.system, line, self.facts.clone())
    }

    /// Returns the prompt: who, as whom, where.
    #[must_use]
    pub fn prompt(&self) -> String {
        let as_whom = self.facts.acting.last().map_or_else(|| visible(&self.user), Act::whom);
        format!("{as_whom} on {}>", visible(&self.system))
    }

    /// Answers whether a line would be allowed.
    #[must_use]
    pub fn type_line(&self, line: &str) -> Answer {
        self.engine.ask(&self.question(line))
    }

    /// Acts as another from here on, if the link can be followed.
    ///
    /// # Errors
    /// The refusing answer; the session stays as it was.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, ask::Session, rehearsal::Console};
    /// let engine = Ledger::new().document("box.toml", "
    ///     users.op-1.proofs = ['password']
    ///     systems.box = { kind = 'host', no-command-set = 'everything' }
    ///     hosts.box.accounts.op-1 = {}
    ///     hosts.box.accounts.kiosk = {}
    ///     hosts.box.run-as = [{ by = ['user:op-1'], as = ['kiosk'], commands = ['screen'], proof = false }]
    ///     command-sets.screen.rules = ['allow /opt/kiosk/bin/screen']
    /// ").engine(1)?;
    /// let mut console = Console::open(engine, "op-1", "box", Session::default()).expect("the session opens");
    /// assert!(console.act("account:root".parse().expect("a link")).is_err(), "nobody is root here");
    /// assert!(console.act("account:kiosk".parse().expect("a link")).is_ok());
    /// assert_eq!(console.prompt(), "account kiosk on box>");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub fn act(&mut self, act: Act) -> Result<(), Box<Answer>> {
        let mut question = self.question("");
        question.session.acting.push(act);
        let answer = self.engine.sign_in(&question);
        if answer.refusal.is_some() {
            return Err(Box::new(answer));
        }
        self.facts = question.session;
        Ok(())
    }

    /// Goes back one link; returns whether there was one.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, ask::Session, rehearsal::Console};
    /// let engine = Ledger::new().document("box.toml", "
    ///     users.op-1.proofs = ['password']
    ///     systems.box = { kind = 'host', no-command-set = 'everything' }
    ///     hosts.box.accounts.op-1 = {}
    ///     hosts.box.accounts.kiosk = {}
    ///     hosts.box.run-as = [{ by = ['user:op-1'], as = ['kiosk'], commands = ['screen'], proof = false }]
    ///     command-sets.screen.rules = ['allow /opt/kiosk/bin/screen']
    /// ").engine(1)?;
    /// let mut console = Console::open(engine, "op-1", "box", Session::default()).expect("the session opens");
    /// console.act("account:kiosk".parse().expect("a link")).expect("it may");
    /// assert!(console.back() && !console.back());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub fn back(&mut self) -> bool {
        self.facts.acting.pop().is_some()
    }

    /// Confirms from here on.
    pub const fn confirm(&mut self) {
        self.facts.confirmed = true;
    }

    /// Has a second person agree, with their own proofs as far as they are stated, from now on until the end of the session.
    pub fn approve(&mut self, user: &str, proofs: Option<Vec<Proven>>) {
        self.facts.approved_by = Some(user.to_owned());
        self.facts.approver_proofs = proofs;
    }

    /// Lists what is permitted here.
    #[must_use]
    pub fn menu(&self) -> Vec<MenuItem> {
        menu(&self.engine, &self.question(""))
    }
}

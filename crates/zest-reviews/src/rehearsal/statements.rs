//! A stand-in session on a database server: statements in order, each behind those that changed the session.

use std::sync::Arc;

use zest_engine::Engine;
use zest_engine::rules::Left;
use zest_model::ask::{Answer, Question, Session, Verdict};
use zest_model::source::visible;

/// A stand-in session on a database server. Nothing is carried out: the active role, the default database or the path of schemas and an open
/// transaction go on from statement to statement, while rights and objects stay those of the ledger.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::{Session, Verdict}, kind::Left, rehearsal::Statements};
/// let estate = Ledger::new().document("fares.toml", r#"
/// [users.clerk-1]
/// proofs = ["password"]
/// [systems.fares]
/// kind = "postgresql"
/// [databases.fares.accounts]
/// clerk-1 = { member-of = ["reader"], inherit = false }
/// [databases.fares.roles]
/// reader = {}
/// [databases.fares.objects]
/// "schema fares" = { owner = "reader" }
/// "table fares.price" = { owner = "reader", columns = { id = "integer" } }
/// "#).estate()?;
/// let mut session = Statements::open(Engine::compile(estate)?, "clerk-1", "fares", Session::default()).expect("the session opens");
/// assert_eq!(session.type_statement("select id from fares.price").answer.verdict, Verdict::Denied);
/// assert_eq!(session.type_statement("set role reader").left, Left::Session);
/// assert_eq!(session.type_statement("select id from fares.price;").answer.verdict, Verdict::Allowed);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Statements {
    engine: Arc<Engine>,
    user: String,
    system: String,
    facts: Session,
    /// The statements that made the session what it is now.
    carried: Vec<String>,
}

/// A statement of a rehearsal with its answer, and what it left behind.
///
/// # Example
/// ```
/// use zest_ledger::{ask::Verdict, rehearsal::TypedStatement};
/// fn is_done(typed: &TypedStatement) -> bool {
///     typed.answer.verdict == Verdict::Allowed
/// }
/// ```
#[derive(Debug)]
#[non_exhaustive]
pub struct TypedStatement {
    /// The answer.
    pub answer: Answer,
    /// What it left behind; nothing where it was refused.
    pub left: Left,
}

impl Statements {
    /// Signs in.
    ///
    /// # Errors
    /// The refusing answer, when the session cannot be opened.
    pub fn open(engine: Engine, user: &str, system: &str, facts: Session) -> Result<Self, Box<Answer>> {
        let session = Self { engine: Arc::new(engine), user: user.to_owned(), system: system.to_owned(), facts, carried: Vec::new() };
        let answer = session.engine.sign_in(&session.question(""));
        if answer.refusal.is_some() { Err(Box::new(answer)) } else { Ok(session) }
    }

    fn question(&self, line: &str) -> Question {
        let mut question = Question::statement(&self.user, &self.system, line);
        question.session = self.facts.clone();
        question
    }

    /// Returns the prompt: who, where.
    #[must_use]
    pub fn prompt(&self) -> String {
        format!("{} on {}>", visible(&self.user), visible(&self.system))
    }

    /// Returns the statements that made the session what it is now, in order.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, ask::Session, rehearsal::Statements};
    /// let engine = Ledger::new().document("fares.toml", r#"
    /// users.clerk-1.proofs = ["password"]
    /// systems.fares.kind = "postgresql"
    /// [databases.fares]
    /// accounts.clerk-1 = { member-of = ["reader"] }
    /// roles.reader = {}
    /// "#).engine(1)?;
    /// let mut session = Statements::open(engine, "clerk-1", "fares", Session::default()).expect("the session opens");
    /// session.type_statement("select 1");
    /// session.type_statement("set role reader");
    /// assert_eq!(session.carried(), ["set role reader"]);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn carried(&self) -> &[String] {
        &self.carried
    }

    /// Answers whether a statement would be allowed now, and goes on behind it.
    pub fn type_statement(&mut self, statement: &str) -> TypedStatement {
        let statement = statement.trim().trim_end_matches(';').trim_end();
        let whole: String = self.carried.iter().map(String::as_str).chain([statement]).collect::<Vec<_>>().join("; ");
        let mut answer = self.engine.ask(&self.question(&whole));
        self.as_last(&mut answer, statement);
        let mut left = Left::Nothing;
        if answer.verdict == Verdict::Allowed {
            let system = self.engine.estate().names().systems.get(self.system.as_str());
            let site = system.and_then(|&id| self.engine.site_of(id));
            left = site.map_or(Left::Nothing, |site| site.kind().leaves(statement));
            if left == Left::Session {
                self.carried.push(statement.to_owned());
            }
        }
        TypedStatement { answer, left }
    }

    /// Leaves in an answer what is about the last statement: those before it were answered when they were typed.
    fn as_last(&self, answer: &mut Answer, statement: &str) {
        statement.clone_into(&mut answer.question.line);
        if self.carried.is_empty() {
            return;
        }
        let last = format!("statement {}: ", self.carried.len() + 1);
        answer.gates.retain(|gate| gate.text.starts_with(&last) || !gate.text.starts_with("statement "));
        for gate in &mut answer.gates {
            if let Some(text) = gate.text.strip_prefix(&last) {
                gate.text = text.to_owned();
            }
        }
    }
}

//! Questions that are understood once and asked many times.

use std::any::Any;
use std::sync::{Arc, OnceLock};

use crate::engine::Engine;
use crate::engine::rules as kind;
use crate::engine::trace::Trace;
use crate::links::SystemId;
use zest_model::ask::{Decision, Form, Question, Session};

/// A line on a system, to be asked about for many users and sessions.
///
/// What the rules of the system understand of the line is kept from the first question to the next: of a statement what it needs of
/// each account and active role, so that it is read once. Answers are those of [`Engine::decide`].
///
/// Threads ask fastest with a copy each, since copies do not share what they keep.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, ask::Session};
/// let estate = Ledger::new().document("db.toml", r#"
/// [users.clerk-1]
/// [users.clerk-2]
/// [systems.fares]
/// kind = "postgresql"
/// database = "fares"
/// [databases.fares]
/// owner = "keeper"
/// roles = { keeper = {} }
/// accounts = { clerk-1 = {}, clerk-2 = {} }
/// objects = { "table public.price" = { owner = "keeper", columns = { id = "integer" } } }
/// grants = [{ allow = ["select"], on = "table public.price", to = ["clerk-1"] }]
/// "#).estate()?;
/// let engine = Engine::compile(estate)?;
/// let reads = engine.prepare(&Question::statement("", "fares", "SELECT id FROM public.price"));
/// let may = |user: &str| reads.decide(&reads.question(user, Session::default())).refusal.is_none();
/// assert_eq!((may("clerk-1"), may("clerk-2")), (true, false));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Prepared<'e> {
    engine: &'e Engine,
    system: String,
    line: String,
    form: Form,
    memo: Option<Arc<Memo>>,
}

impl Clone for Prepared<'_> {
    fn clone(&self) -> Self {
        let Self { engine, system, line, form, memo } = self;
        let memo = memo.as_ref().map(|memo| Arc::new(Memo::of(memo.system)));
        Self { engine, system: system.clone(), line: line.clone(), form: *form, memo }
    }
}

impl Engine {
    /// Makes a question ready to be asked for many users and sessions: its system, line and form; not its user and session.
    #[must_use]
    pub fn prepare(&self, question: &Question) -> Prepared<'_> {
        let memo = self.site(&question.system).map(|site| Arc::new(Memo::of(site.system)));
        Prepared { engine: self, system: question.system.clone(), line: question.line.clone(), form: question.form, memo }
    }
}

impl Prepared<'_> {
    /// Returns the question for a user in a session.
    #[must_use]
    pub fn question(&self, user: &str, session: Session) -> Question {
        Question { form: self.form, ..Question::in_session(user, &self.system, &self.line, session) }
    }

    /// Decides without explaining. A question about another line or system than the prepared one is answered as well, as
    /// [`Engine::decide`] does.
    #[must_use]
    pub fn decide(&self, question: &Question) -> Decision {
        let is_it = question.system == self.system && question.form == self.form && question.line == self.line;
        let memo = self.memo.as_ref().filter(|_| is_it).map(Arc::clone);
        kind::evaluate(self.engine, question, &mut Trace::remembering(memo))
    }
}

/// What the rules of a system keep of a prepared line. It is true of that line on that system, in that engine.
#[derive(Debug)]
pub struct Memo {
    pub(crate) system: SystemId,
    kept: OnceLock<Box<dyn Any + Send + Sync>>,
}

impl Memo {
    const fn of(system: SystemId) -> Self {
        Self { system, kept: OnceLock::new() }
    }

    /// Returns what is kept, of the one type that a kind keeps; nothing where another was kept first.
    pub fn kept<T: Default + Send + Sync + 'static>(&self) -> Option<&T> {
        self.kept.get_or_init(|| Box::<T>::default()).downcast_ref()
    }
}

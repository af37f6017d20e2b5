//! A stand-in session: type lines as a user, and see what the system would do.

mod console;
mod statements;

use std::sync::Arc;

pub use console::Console;
pub use statements::{Statements, TypedStatement};

pub use crate::review::MenuItem;
use crate::review::menu;
use zest_command::{Pattern, PatternError, read_line};
use zest_engine::Engine;
use zest_engine::kind::network_device::{Device, standpoint};
use zest_engine::links::{ModeId, SetId};
use zest_engine::remedies;
use zest_model::ask::{Answer, Change, Conflict, Proven, Question, Session, Verdict};
use zest_model::entry::Does;

/// What a line did to the session.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, rehearsal::{Effect, Rehearsal}};
/// # let text = r#"
/// # users.watch-1.proofs = ["password"]
/// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
/// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
/// # [vocabularies.corvane-os]
/// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
/// # [systems.sw-1]
/// # kind = "network-device"
/// # vocabulary = "corvane-os"
/// # no-command-set = "nothing"
/// # authorisation = { levels = "all", configuration = true }
/// # [[assignments]]
/// # to = ["user:watch-1"]
/// # roles = ["tracer"]
/// # on = { all = true }
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
/// # let mut session = Rehearsal::open(engine, "watch-1", "sw-1", Session::default()).expect("the session opens");
/// assert_eq!(session.type_line("show log").effect, Effect::Ran);
/// assert_eq!(session.type_line("show settings live").effect, Effect::None);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Effect {
    /// It was refused, or waits for obligations.
    None,
    /// It ran and left the session as it was.
    Ran,
    /// The session is at this level now.
    Level(u8),
    /// It shows this level.
    ShowsLevel(u8),
    /// The session is in this mode now.
    Mode(String),
    /// The credential was changed.
    CredentialChanged,
    /// The session has ended.
    Ended,
}

/// A line of a rehearsal with its answer and effect.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::{Session, Verdict}, rehearsal::{Effect, Rehearsal}};
/// # let text = r#"
/// # users.watch-1.proofs = ["password"]
/// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
/// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
/// # [vocabularies.corvane-os]
/// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
/// # [systems.sw-1]
/// # kind = "network-device"
/// # vocabulary = "corvane-os"
/// # no-command-set = "nothing"
/// # authorisation = { levels = "all", configuration = true }
/// # [[assignments]]
/// # to = ["user:watch-1"]
/// # roles = ["tracer"]
/// # on = { all = true }
/// # "#;
/// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
/// # let mut session = Rehearsal::open(engine, "watch-1", "sw-1", Session::default()).expect("the session opens");
/// let typed = session.type_line("elevate 7");
/// assert_eq!((typed.answer.verdict, typed.effect), (Verdict::Allowed, Effect::Level(7)));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
#[non_exhaustive]
pub struct Typed {
    /// The answer.
    pub answer: Answer,
    /// What the line did.
    pub effect: Effect,
}

/// A stand-in session on a network device.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::Session, rehearsal::{Effect, Rehearsal}};
/// let estate = Ledger::new().document("demo.toml", r#"
/// [users.watch-1]
/// proofs = ["password"]
/// [vocabularies.corvane-os]
/// commands = [{ line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
/// [systems.sw-1]
/// kind = "network-device"
/// vocabulary = "corvane-os"
/// no-command-set = "everything"
/// [roles.tracer]
/// band = { start = 1, ceiling = 7 }
/// [[assignments]]
/// to = ["user:watch-1"]
/// roles = ["tracer"]
/// on = { all = true }
/// "#).estate()?;
/// let mut session = Rehearsal::open(Engine::compile(estate)?, "watch-1", "sw-1", Session::default()).expect("the session opens");
/// assert_eq!(session.type_line("elevate 7").effect, Effect::Level(7));
/// assert_eq!(session.type_line("elevate 15").effect, Effect::None);
/// assert_eq!(session.type_line("leave").effect, Effect::Ended);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
pub struct Rehearsal {
    engine: Arc<Engine>,
    user: String,
    system: String,
    facts: Session,
    /// The mode we are in, and those it was entered from.
    modes: Vec<ModeId>,
    level: u8,
    is_privileged: bool,
    is_over: bool,
    changes: Vec<Change>,
}

impl Rehearsal {
    /// Signs in.
    ///
    /// # Errors
    /// The refusing answer, when the session cannot be opened.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, rehearsal::Rehearsal};
    /// # let text = r#"
    /// # users.watch-1.proofs = ["password"]
    /// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
    /// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
    /// # [vocabularies.corvane-os]
    /// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
    /// # [systems.sw-1]
    /// # kind = "network-device"
    /// # vocabulary = "corvane-os"
    /// # no-command-set = "nothing"
    /// # authorisation = { levels = "all", configuration = true }
    /// # [[assignments]]
    /// # to = ["user:watch-1"]
    /// # roles = ["tracer"]
    /// # on = { all = true }
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
    /// assert!(Rehearsal::open(engine, "watch-2", "sw-1", Session::default()).is_err_and(|answer| answer.refusal.is_some()));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub fn open(engine: Engine, user: &str, system: &str, mut facts: Session) -> Result<Self, Box<Answer>> {
        let asked_level = facts.level.take();
        facts.mode = None;
        let answer = engine.sign_in(&Question::in_session(user, system, "", facts.clone()));
        let device = engine.estate().names().systems.get(system).and_then(|&id| Some((id, Device::of(&engine, id)?)));
        let (Some(level), Some((id, device))) = (answer.level.filter(|_| answer.refusal.is_none()), device) else {
            return Err(Box::new(answer));
        };
        let is_privileged = engine.estate().system(id).privileged_at_sign_in.as_ref().is_some_and(|p| p.value) || level > 1;
        let start = device.vocabulary(&engine).start_mode;
        Ok(Self {
            engine: Arc::new(engine),
            user: user.to_owned(),
            system: system.to_owned(),
            facts,
            modes: vec![start],
            level: asked_level.unwrap_or(level),
            is_privileged,
            is_over: false,
            changes: Vec::new(),
        })
    }

    /// Returns the current level.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, rehearsal::Rehearsal};
    /// # let text = r#"
    /// # users.watch-1.proofs = ["password"]
    /// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
    /// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
    /// # [vocabularies.corvane-os]
    /// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
    /// # [systems.sw-1]
    /// # kind = "network-device"
    /// # vocabulary = "corvane-os"
    /// # no-command-set = "nothing"
    /// # authorisation = { levels = "all", configuration = true }
    /// # [[assignments]]
    /// # to = ["user:watch-1"]
    /// # roles = ["tracer"]
    /// # on = { all = true }
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
    /// # let mut session = Rehearsal::open(engine, "watch-1", "sw-1", Session::default()).expect("the session opens");
    /// session.type_line("elevate 7");
    /// assert_eq!(session.level(), 7);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub const fn level(&self) -> u8 {
        self.level
    }

    /// Returns the current mode.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, rehearsal::Rehearsal};
    /// # let text = r#"
    /// # users.watch-1.proofs = ["password"]
    /// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
    /// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
    /// # [vocabularies.corvane-os]
    /// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
    /// # [systems.sw-1]
    /// # kind = "network-device"
    /// # vocabulary = "corvane-os"
    /// # no-command-set = "nothing"
    /// # authorisation = { levels = "all", configuration = true }
    /// # [[assignments]]
    /// # to = ["user:watch-1"]
    /// # roles = ["tracer"]
    /// # on = { all = true }
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
    /// # let session = Rehearsal::open(engine, "watch-1", "sw-1", Session::default()).expect("the session opens");
    /// assert!(!session.mode().is_empty());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn mode(&self) -> &str {
        &self.device().vocabulary(&self.engine).modes[self.current().index()]
    }

    /// Returns whether the session has ended.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, rehearsal::Rehearsal};
    /// # let text = r#"
    /// # users.watch-1.proofs = ["password"]
    /// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
    /// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
    /// # [vocabularies.corvane-os]
    /// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
    /// # [systems.sw-1]
    /// # kind = "network-device"
    /// # vocabulary = "corvane-os"
    /// # no-command-set = "nothing"
    /// # authorisation = { levels = "all", configuration = true }
    /// # [[assignments]]
    /// # to = ["user:watch-1"]
    /// # roles = ["tracer"]
    /// # on = { all = true }
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
    /// # let mut session = Rehearsal::open(engine, "watch-1", "sw-1", Session::default()).expect("the session opens");
    /// session.type_line("leave");
    /// assert!(session.is_over());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub const fn is_over(&self) -> bool {
        self.is_over
    }

    /// Returns the prompt: start level, ceiling, current level and prompt are four things.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, rehearsal::Rehearsal};
    /// # let text = r#"
    /// # users.watch-1.proofs = ["password"]
    /// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
    /// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
    /// # [vocabularies.corvane-os]
    /// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
    /// # [systems.sw-1]
    /// # kind = "network-device"
    /// # vocabulary = "corvane-os"
    /// # no-command-set = "nothing"
    /// # authorisation = { levels = "all", configuration = true }
    /// # [[assignments]]
    /// # to = ["user:watch-1"]
    /// # roles = ["tracer"]
    /// # on = { all = true }
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
    /// # let session = Rehearsal::open(engine, "watch-1", "sw-1", Session::default()).expect("the session opens");
    /// assert_eq!(session.prompt(), "sw-1 ~");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn prompt(&self) -> String {
        let written = self.engine.estate().vocabulary(self.device().links.vocabulary).modes.get(self.current().index());
        let plain = written.and_then(|m| m.prompt.as_deref()).unwrap_or(" ~");
        let shown = if self.is_privileged { written.and_then(|m| m.raised_prompt.as_deref()).unwrap_or(plain) } else { plain };
        format!("{}{shown}", self.system)
    }

    fn device(&self) -> &Device {
        let id = self.engine.estate().names().systems.get(self.system.as_str());
        id.and_then(|&id| Device::of(&self.engine, id)).expect("a rehearsal is opened on a device, and a change takes none away")
    }

    fn current(&self) -> ModeId {
        *self.modes.last().expect("a session is always in a mode")
    }

    /// Returns the question that a line would be, as the session stands.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, rehearsal::Rehearsal};
    /// # let text = r#"
    /// # users.watch-1.proofs = ["password"]
    /// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
    /// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
    /// # [vocabularies.corvane-os]
    /// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
    /// # [systems.sw-1]
    /// # kind = "network-device"
    /// # vocabulary = "corvane-os"
    /// # no-command-set = "nothing"
    /// # authorisation = { levels = "all", configuration = true }
    /// # [[assignments]]
    /// # to = ["user:watch-1"]
    /// # roles = ["tracer"]
    /// # on = { all = true }
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
    /// # let mut session = Rehearsal::open(engine, "watch-1", "sw-1", Session::default()).expect("the session opens");
    /// session.type_line("elevate 7");
    /// assert_eq!(session.question("show log").session.level, Some(7));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn question(&self, line: &str) -> Question {
        let mut session = self.facts.clone();
        session.level = Some(self.level);
        session.mode = Some(self.mode().to_owned());
        Question::in_session(&self.user, &self.system, line, session)
    }

    /// Types a line.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::{Session, Verdict}, rehearsal::Rehearsal};
    /// # let text = r#"
    /// # users.watch-1.proofs = ["password"]
    /// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
    /// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
    /// # [vocabularies.corvane-os]
    /// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
    /// # [systems.sw-1]
    /// # kind = "network-device"
    /// # vocabulary = "corvane-os"
    /// # no-command-set = "nothing"
    /// # authorisation = { levels = "all", configuration = true }
    /// # [[assignments]]
    /// # to = ["user:watch-1"]
    /// # roles = ["tracer"]
    /// # on = { all = true }
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
    /// # let mut session = Rehearsal::open(engine, "watch-1", "sw-1", Session::default()).expect("the session opens");
    /// assert_eq!(session.type_line("elevate 15").answer.verdict, Verdict::Denied);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub fn type_line(&mut self, line: &str) -> Typed {
        let answer = self.engine.explained(&self.question(line));
        let effect = if answer.verdict == Verdict::Allowed { self.carry_out(&answer) } else { Effect::None };
        Typed { answer, effect }
    }

    /// Looks for remedies of a refused line.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, rehearsal::Rehearsal};
    /// # let text = r#"
    /// # users.watch-1.proofs = ["password"]
    /// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
    /// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
    /// # [vocabularies.corvane-os]
    /// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
    /// # [systems.sw-1]
    /// # kind = "network-device"
    /// # vocabulary = "corvane-os"
    /// # no-command-set = "nothing"
    /// # authorisation = { levels = "all", configuration = true }
    /// # [[assignments]]
    /// # to = ["user:watch-1"]
    /// # roles = ["tracer"]
    /// # on = { all = true }
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
    /// # let mut session = Rehearsal::open(engine, "watch-1", "sw-1", Session::default()).expect("the session opens");
    /// let refused = session.type_line("show settings live").answer;
    /// assert!(!session.remedies(&refused).is_empty());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn remedies(&self, answer: &Answer) -> Vec<zest_model::ask::Remedy> {
        remedies(&self.engine, answer)
    }

    fn carry_out(&mut self, answer: &Answer) -> Effect {
        let engine = Arc::clone(&self.engine);
        let id = engine.estate().names().systems[self.system.as_str()];
        let Some(vocabulary) = Device::of(&engine, id).map(|d| d.vocabulary(&engine)) else { return Effect::Ran };
        let full = answer.full_line.clone().unwrap_or_default();
        let Ok(words) = read_line(&full) else { return Effect::Ran };
        let Ok(resolved) = vocabulary.resolve(self.current(), &words, engine.alphabet()) else { return Effect::Ran };
        let command = vocabulary.command(resolved.command);
        if let Some(mode) = command.enters {
            // Going from one mode to its sibling leaves the first one.
            match self.modes.iter().position(|m| *m == mode) {
                Some(at) => self.modes.truncate(at + 1),
                None => self.modes.push(mode),
            }
            return Effect::Mode(vocabulary.modes[mode.index()].clone());
        }
        match command.does {
            Some(Does::Elevate) => {
                let question = self.question(&full);
                self.level = elevation_level(&engine, &question).unwrap_or(self.level);
                self.is_privileged = self.level > 1 || engine.estate().system(id).privileged_at_sign_in.as_ref().is_some_and(|p| p.value);
                Effect::Level(self.level)
            }
            Some(Does::LeaveMode) => {
                self.modes.pop();
                if self.modes.is_empty() {
                    self.is_over = true;
                    self.modes.push(vocabulary.start_mode);
                    return Effect::Ended;
                }
                Effect::Mode(self.mode().to_owned())
            }
            Some(Does::LeaveSession) => {
                self.is_over = true;
                Effect::Ended
            }
            Some(Does::ShowLevel) => Effect::ShowsLevel(self.level),
            Some(Does::ChangeCredential) => {
                // OK because a ledger that was valid stays valid without the flag.
                let _ = self.change(Change::CredentialChanged { user: self.user.clone() });
                Effect::CredentialChanged
            }
            None => Effect::Ran,
        }
    }

    /// Confirms, from now on until the end of the session.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, rehearsal::Rehearsal};
    /// # let text = r#"
    /// # users.watch-1.proofs = ["password"]
    /// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
    /// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
    /// # [vocabularies.corvane-os]
    /// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
    /// # [systems.sw-1]
    /// # kind = "network-device"
    /// # vocabulary = "corvane-os"
    /// # no-command-set = "nothing"
    /// # authorisation = { levels = "all", configuration = true }
    /// # [[assignments]]
    /// # to = ["user:watch-1"]
    /// # roles = ["tracer"]
    /// # on = { all = true }
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
    /// # let mut session = Rehearsal::open(engine, "watch-1", "sw-1", Session::default()).expect("the session opens");
    /// session.confirm();
    /// assert!(session.question("show log").session.confirmed);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub const fn confirm(&mut self) {
        self.facts.confirmed = true;
    }

    /// Has a second person agree, with their own proofs as far as they are stated, from now on until the end of the session.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, rehearsal::Rehearsal};
    /// # let text = r#"
    /// # users.watch-1.proofs = ["password"]
    /// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
    /// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
    /// # [vocabularies.corvane-os]
    /// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
    /// # [systems.sw-1]
    /// # kind = "network-device"
    /// # vocabulary = "corvane-os"
    /// # no-command-set = "nothing"
    /// # authorisation = { levels = "all", configuration = true }
    /// # [[assignments]]
    /// # to = ["user:watch-1"]
    /// # roles = ["tracer"]
    /// # on = { all = true }
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
    /// # let mut session = Rehearsal::open(engine, "watch-1", "sw-1", Session::default()).expect("the session opens");
    /// session.approve("watch-2", None);
    /// assert_eq!(session.question("show log").session.approved_by.as_deref(), Some("watch-2"));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub fn approve(&mut self, user: &str, proofs: Option<Vec<Proven>>) {
        self.facts.approved_by = Some(user.to_owned());
        self.facts.approver_proofs = proofs;
    }

    /// Lists the commands that are permitted here, in the order of the vocabulary.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, rehearsal::Rehearsal};
    /// # let text = r#"
    /// # users.watch-1.proofs = ["password"]
    /// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
    /// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
    /// # [vocabularies.corvane-os]
    /// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
    /// # [systems.sw-1]
    /// # kind = "network-device"
    /// # vocabulary = "corvane-os"
    /// # no-command-set = "nothing"
    /// # authorisation = { levels = "all", configuration = true }
    /// # [[assignments]]
    /// # to = ["user:watch-1"]
    /// # roles = ["tracer"]
    /// # on = { all = true }
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
    /// # let session = Rehearsal::open(engine, "watch-1", "sw-1", Session::default()).expect("the session opens");
    /// assert_eq!(session.menu()[0].line, "show log");
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn menu(&self) -> Vec<MenuItem> {
        let written = self.engine.estate().vocabulary(self.device().links.vocabulary);
        let mut items = menu(&self.engine, &self.question(""));
        for item in &mut items {
            let about = written.commands.iter().find(|c| c.line.value.trim() == item.line).and_then(|c| c.about.as_ref());
            item.about = about.map_or_else(String::new, |about| about.value.clone());
        }
        items
    }

    /// Permits a pattern on trial, at the top of the first command set in force; the ledger's files stay as they are.
    ///
    /// Returns the id of the set, or none where no set is in force.
    ///
    /// # Errors
    /// What is wrong with the pattern.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::{Session, Verdict}, rehearsal::Rehearsal};
    /// # let text = r#"
    /// # users.watch-1.proofs = ["password"]
    /// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
    /// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
    /// # [vocabularies.corvane-os]
    /// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
    /// # [systems.sw-1]
    /// # kind = "network-device"
    /// # vocabulary = "corvane-os"
    /// # no-command-set = "nothing"
    /// # authorisation = { levels = "all", configuration = true }
    /// # [[assignments]]
    /// # to = ["user:watch-1"]
    /// # roles = ["tracer"]
    /// # on = { all = true }
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
    /// # let mut session = Rehearsal::open(engine, "watch-1", "sw-1", Session::default()).expect("the session opens");
    /// assert_eq!(session.allow_on_trial("show settings live").expect("it is a pattern").as_deref(), Some("all"));
    /// assert_eq!(session.type_line("show settings live").answer.verdict, Verdict::Allowed);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    pub fn allow_on_trial(&mut self, pattern: &str) -> Result<Option<String>, PatternError> {
        Pattern::parse(pattern)?;
        let Some(set) = sets_in_force(&self.engine, &self.question("")).and_then(|s| s.first().copied()) else { return Ok(None) };
        let id = self.engine.estate().set(set).id.value.clone();
        let change = Change::AllowFirst { set: id.clone(), pattern: pattern.to_owned() };
        Ok(self.change(change).is_ok().then_some(id))
    }

    fn change(&mut self, change: Change) -> Result<(), Conflict> {
        self.engine = Arc::new(self.engine.with(std::slice::from_ref(&change))?);
        self.changes.push(change);
        Ok(())
    }

    /// Returns the changes that were tried so far.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, ask::Session, rehearsal::Rehearsal};
    /// # let text = r#"
    /// # users.watch-1.proofs = ["password"]
    /// # roles.tracer = { band = { start = 1, ceiling = 7 }, commands = ["all"] }
    /// # command-sets.all.rules = ["deny show settings ...", "allow ..."]
    /// # [vocabularies.corvane-os]
    /// # commands = [{ line = "show log" }, { line = "show settings live" }, { line = "leave", level = 0, does = "leave-session" }, { line = "elevate {level: 0-15}", level = 0, does = "elevate" }]
    /// # [systems.sw-1]
    /// # kind = "network-device"
    /// # vocabulary = "corvane-os"
    /// # no-command-set = "nothing"
    /// # authorisation = { levels = "all", configuration = true }
    /// # [[assignments]]
    /// # to = ["user:watch-1"]
    /// # roles = ["tracer"]
    /// # on = { all = true }
    /// # "#;
    /// # let engine = Engine::compile(Ledger::new().document("pier.toml", text).estate()?)?;
    /// # let mut session = Rehearsal::open(engine, "watch-1", "sw-1", Session::default()).expect("the session opens");
    /// session.allow_on_trial("show settings live").expect("it is a pattern");
    /// assert_eq!(session.changes_on_trial().len(), 1);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn changes_on_trial(&self) -> &[Change] {
        &self.changes
    }
}

/// Returns the level that an elevation line leads to.
fn elevation_level(engine: &Engine, question: &Question) -> Option<u8> {
    let device = Device::of(engine, *engine.estate().names().systems.get(question.system.as_str())?)?;
    let vocabulary = device.vocabulary(engine);
    let mode = question.session.mode.as_deref().and_then(|m| vocabulary.mode(m))?;
    let words = read_line(&question.line).ok()?;
    let resolved = vocabulary.resolve(mode, &words, engine.alphabet()).ok()?;
    let ceiling = standpoint(engine, question)?.1;
    vocabulary.elevation(resolved.command, &words, ceiling)
}

/// Returns the command sets that apply to a session; none for a session of a local account.
fn sets_in_force(engine: &Engine, question: &Question) -> Option<Vec<SetId>> {
    standpoint(engine, question)?.0
}

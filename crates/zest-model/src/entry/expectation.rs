//! What is recorded about answers: named sessions, and questions with the answer that they must have.

use jiff::Timestamp;

use super::{Channel, words};
use crate::shape::{Among, LEVEL, PARTIES, Shape, TEXTS};
use crate::source::{At, Place};
use crate::written::{Entry, Source, Written, table};

words! {
    /// Whether the central identity source can be reached.
    CentralSource {
        /// It can.
        Up = "up",
        /// It cannot.
        Down = "down",
    }
}

table! {
    /// The facts of a session, as a question states them.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::Ledger;
    /// let text = r#"
    /// systems.rota.kind = "application"
    /// [sessions.night]
    /// at = 2026-11-27T23:00:00Z
    /// by = "web"
    /// proofs = ["password=10m"]
    /// "#;
    /// let estate = Ledger::new().document("rota.toml", text).estate()?;
    /// let facts = &estate.entries().sessions[0].facts;
    /// assert_eq!(facts.proofs.as_ref().map(|proofs| proofs[0].value.as_str()), Some("password=10m"));
    /// assert!(!facts.is_empty());
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    Facts, FACTS: "a session", "The facts of a session. What is not stated is not assumed.", &[];

    /// The moment.
    at: Option<At<Timestamp>> = "at", Shape::Moment, "the moment";
    /// The address it comes from.
    from: Option<At<String>> = "from", Shape::Text, "the address it comes from";
    /// Whether it comes over a database server's own socket.
    local: Option<At<bool>> = "local", Shape::Flag, "whether it comes over a database server's own socket";
    /// The channel.
    by: Option<At<Channel>> = "by", Shape::Words(Channel::WORDS), "the channel it comes through";
    /// Proofs of identity, each with its age.
    proofs: Option<Vec<At<String>>> = "proofs", TEXTS, "proofs of identity with their ages, such as \"one-time-code=10m\"; an empty list for none";
    /// The level.
    level: Option<At<u32>> = "level", LEVEL, "the current level; the start of the band unless stated";
    /// The mode.
    mode: Option<At<String>> = "mode", Shape::Text, "the current mode; the start mode unless stated";
    /// The account.
    account: Option<At<String>> = "account", Shape::Text, "the account to use";
    /// The active roles.
    roles: Option<Vec<At<String>>> = "roles", TEXTS, "the roles that are active; an empty list for none";
    /// The acting chain.
    acting: Vec<At<String>> = "acting", TEXTS, "as whom it acts, link by link: \"user:ID\", \"role:ID\", \"account:HOST/LOGIN\"";
    /// Attributes of the session.
    attributes: Vec<(At<String>, At<String>)> = "attributes", Shape::Map(&Shape::Text), "attributes that the session states";
    /// When it is over.
    expires: Option<At<Timestamp>> = "expires", Shape::Moment, "the first moment at which it is over";
    /// Whether the central source can be reached.
    central: Option<At<CentralSource>> = "central", Shape::Words(CentralSource::WORDS), "whether the central identity source can be reached";
    /// Whether the user has confirmed.
    confirmed: Option<At<bool>> = "confirmed", Shape::Flag, "whether the user has confirmed";
    /// The second person.
    approved_by: Option<At<String>> = "approved-by", Shape::Text, "the second person who agreed";
    /// The second person's proofs.
    approver_proofs: Option<Vec<At<String>>> = "approver-proofs", TEXTS, "proofs of the second person, with their ages";
}

/// A session by name: its facts can be stated by the name.
///
/// # Example
/// ```
/// use zest_ledger::Ledger;
/// let text = "users.watch-1.proofs = ['password']\nsystems.rota.kind = 'application'\n\
///     [sessions.at-night]\nat = 2026-11-25T02:00:00+01:00\nby = 'terminal'";
/// let ledger = Ledger::new().document("it.toml", text).estate()?;
/// assert_eq!(ledger.entries().sessions[0].id.value, "at-night");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug)]
pub struct NamedSession {
    /// The id.
    pub id: At<String>,
    /// Its facts.
    pub facts: Facts,
}

impl Entry for NamedSession {
    type Anchor = At<String>;

    fn read(source: &mut dyn Source, id: At<String>) -> Self {
        Self { id, facts: Facts::of(source) }
    }
}

/// In which session something is asked.
///
/// # Example
/// ```
/// use zest_ledger::Ledger;
/// let text = r#"
/// users.mate-1.proofs = ["password"]
/// systems.rota.kind = "application"
/// [sessions.night]
/// by = "web"
/// [[expectations]]
/// who = ["user:mate-1"]
/// on = ["rota"]
/// session = "night"
/// lines = ["plan on shift/early"]
/// answer = "denied"
/// "#;
/// let estate = Ledger::new().document("rota.toml", text).estate()?;
/// let session = &estate.entries().expectations[0].session;
/// assert_eq!(session.named.as_ref().map(|named| named.value.as_str()), Some("night"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, Default)]
pub struct InSession {
    /// A session by its name, on which the facts build.
    pub named: Option<At<String>>,
    /// Facts.
    pub facts: Facts,
}

crate::same::fields!(InSession { named, facts });

/// A session by its name, or its facts.
pub(super) const IN_SESSION: Shape = Shape::Either(&[Shape::Text, Shape::Table(&FACTS)]);

impl Written for InSession {
    fn read(source: &mut dyn Source, key: &str) -> Self {
        match source.text(key) {
            Some(named) => Self { named: Some(named), facts: Facts::default() },
            None => Self { named: None, facts: Written::read(source, key) },
        }
    }
}

words! {
    /// The answer that is expected.
    Expected {
        /// It is allowed at once.
        Allowed = "allowed",
        /// It is allowed once obligations are discharged.
        After = "allowed after obligations",
        /// It is denied, and that is known.
        Denied = "denied",
        /// The rules do not decide it: something was not read.
        NotDecided = "not decided",
    }
}

table! {
    /// One step of a session that goes on.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, entry::Expected};
    /// let text = r#"
    /// users.mate-1.proofs = ["password"]
    /// systems.rota.kind = "application"
    /// [[expectations]]
    /// who = ["user:mate-1"]
    /// on = ["rota"]
    /// steps = [{ line = "plan on shift/early", answer = "denied" }]
    /// "#;
    /// let estate = Ledger::new().document("rota.toml", text).estate()?;
    /// let step = &estate.entries().expectations[0].steps[0];
    /// assert_eq!(step.answer.as_ref().map(|answer| answer.value), Some(Expected::Denied));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    Step {
        /// Where it is written.
        place: Place,
    }, STEP: "a step", "One step of a session that goes on: what is typed, and the answer it must have.", &[];

    /// What is typed.
    line: Option<At<String>> = required "line", Shape::Text, "what is typed: a line, or a statement on a database server";
    /// The answer it must have.
    answer: Option<At<Expected>> = required "answer", Shape::Words(Expected::WORDS), "the answer it must have";
    /// The code of its refusal.
    code: Option<At<String>> = "code", Shape::Text, "the code of its refusal";
}

table! {
    /// Questions with the answer they must have.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Engine, Ledger, expectation::expectations};
    /// let estate = Ledger::new().document("rota.toml", r#"
    /// [users.mate-1]
    /// proofs = ["password"]
    /// [systems.rota]
    /// kind = "application"
    /// [applications.rota]
    /// types.shift.rights = ["plan", "drop"]
    /// objects."shift/early" = {}
    /// grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
    /// [[expectations]]
    /// who = ["user:mate-1"]
    /// on = ["rota"]
    /// lines = ["plan on shift/early", "drop on shift/early"]
    /// answer = "allowed"
    /// "#).estate()?;
    /// let outcomes = expectations(&Engine::compile(estate)?).outcomes;
    /// assert_eq!(outcomes.iter().map(|outcome| outcome.holds).collect::<Vec<_>>(), [true, false]);
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    Expectation {
        /// Where it is written.
        place: Place,
    }, EXPECTATION: "an expectation", "Recorded questions with the answer they must have: everybody named is asked about every line on every system named.",
        &[Among::Some(&["lines", "statements", "steps"]), Among::With("lines", "answer"), Among::With("statements", "answer")];

    /// What it is called.
    name: Option<At<String>> = "name", Shape::Text, "what it is called";
    /// Who is asked about: `user:ID`, or `group:ID` for each member.
    who: Vec<At<String>> = required "who", PARTIES, "who is asked about: \"user:ID\", or \"group:ID\" for each of its members";
    /// Systems, by id.
    on: Vec<At<String>> = required "on", TEXTS, "system ids";
    /// The session.
    session: InSession = "session", IN_SESSION, "a session by its name, or its facts";
    /// Lines.
    lines: Vec<At<String>> = "lines", TEXTS, "lines as they are typed, operations on resources, privileges on objects";
    /// Statements.
    statements: Vec<At<String>> = "statements", TEXTS, "SQL statements";
    /// Steps of one session.
    steps: Vec<Step> = "steps", Shape::List(&Shape::Table(&STEP)), "steps of one session, in order: each goes on where the one before it left the session";
    /// The answer they must have.
    answer: Option<At<Expected>> = "answer", Shape::Words(Expected::WORDS), "the answer they must have";
    /// The code of the refusal.
    code: Option<At<String>> = "code", Shape::Text, "the code of the refusal";
    /// What a gate of the answer says, or where what it rests on is written.
    ground: Option<At<String>> = "ground", Shape::Text, "a part of what a gate of the answer says, or the file and line on which it rests";
    /// Why it is recorded.
    because: Option<At<String>> = "because", Shape::Text, "why it is recorded";
}

//! Edits of a ledger's documents: what a change of the ledger would write, and where.

use std::fmt;

use crate::finding::Findings;
use crate::source::Location;

/// One edit of a document, in the terms of TOML.
///
/// # Example
/// ```
/// use zest_ledger::ask::{Edit, EditStep, How};
/// let path = vec![EditStep::Key("users".to_owned()), EditStep::Key("watch-1".to_owned())];
/// let edit = Edit::new(Some("people.toml".to_owned()), path, "disabled", How::Unset);
/// assert_eq!(edit.to_string(), "people.toml: users.watch-1.disabled: take out");
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edit {
    /// The document; none for an entry that was built in code.
    pub document: Option<String>,
    /// The way to the table of the entry: keys, and positions in arrays, from 0.
    pub path: Vec<Step>,
    /// The key in that table.
    pub key: String,
    /// What happens to its value.
    pub how: How,
    #[doc(hidden)]
    pub more: crate::More,
}

impl Edit {
    /// Makes an edit of a key in the table to which a path leads.
    #[must_use]
    pub fn new(document: Option<String>, path: Vec<Step>, key: &str, how: How) -> Self {
        Self { document, path, key: key.to_owned(), how, more: crate::More }
    }
}

/// What to paste into a document, whole lines.
///
/// # Example
/// ```
/// use zest_ledger::ask::{Edit, EditStep, How};
/// let path = vec![EditStep::Key("roles".to_owned()), EditStep::Key("reader".to_owned())];
/// let edit = Edit::new(None, path, "commands", How::AddLast("\"show\"".to_owned()));
/// let paste = edit.paste("[roles.reader]\ncommands = [\"trace\"]\n").expect("it fits");
/// assert_eq!((paste.line, paste.replaces, paste.text.as_str()), (2, 1, "commands = [\"trace\", \"show\"]\n"));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Paste {
    /// The line, from 1, in whose place the text comes, or before which it comes where it replaces none.
    pub line: u32,
    /// How many lines it replaces.
    pub replaces: u32,
    /// The text, with the end of its last line; empty where lines only go.
    pub text: String,
    #[doc(hidden)]
    pub more: crate::More,
}

/// An edit, and what to paste to carry it out by hand.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, Question};
/// let text = r#"
/// users.mate-1.proofs = ["password"]
/// users.mate-2.proofs = ["password"]
/// [systems.rota]
/// kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan"]
/// objects."shift/early" = {}
/// grants = [{ allow = ["plan"], on = "shift/*", to = ["user:mate-1"] }]
/// "#;
/// let engine = Ledger::new().document("rota.toml", text).engine(1)?;
/// let change = engine.ask(&Question::new("mate-2", "rota", "plan on shift/early")).remedies[0].steps[0].change.clone();
/// let written = &engine.written(&[change]).expect("it was tried")[0];
/// assert!(written.paste.as_ref().is_some_and(|paste| paste.text.contains("user:mate-2")));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Written {
    /// The edit.
    pub edit: Edit,
    /// The text to paste; none for an entry that was built in code, and for documents in another format than TOML.
    pub paste: Option<Paste>,
    #[doc(hidden)]
    pub more: crate::More,
}

/// One step on the way to a table.
///
/// # Example
/// ```
/// use zest_ledger::ask::{Edit, EditStep, How};
/// let path = vec![EditStep::Key("assignments".to_owned()), EditStep::Nth(1)];
/// assert_eq!(Edit::new(None, path, "rank", How::Set("5".to_owned())).to_string(), "assignments.2.rank: set 5");
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// A key of a table.
    Key(String),
    /// A position in an array, from 0.
    Nth(usize),
}

/// What happens to a value; values are written as TOML.
///
/// # Example
/// ```
/// use zest_ledger::ask::{Edit, EditStep, How};
/// let of = |how| Edit::new(None, vec![EditStep::Key("groups".to_owned()), EditStep::Key("watch".to_owned())], "members", how).to_string();
/// assert_eq!(of(How::AddLast("\"user:watch-1\"".to_owned())), "groups.watch.members: add \"user:watch-1\"");
/// assert_eq!(of(How::TakeOut("user:watch-2".to_owned())), "groups.watch.members: take \"user:watch-2\" out");
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum How {
    /// It becomes this.
    Set(String),
    /// The key goes.
    Unset,
    /// This comes first in the list; the list is made if there is none.
    AddFirst(String),
    /// This comes last in the list; the list is made if there is none.
    AddLast(String),
    /// This text goes out of the list.
    TakeOut(String),
}

impl fmt::Display for Edit {
    /// Writes the edit for people: `groups.toml: groups.shore-watch.members: add "user:watch-2"`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(document) = &self.document {
            write!(f, "{document}: ")?;
        }
        for step in &self.path {
            match step {
                Step::Key(key) => write!(f, "{}.", crate::text::bare_key(key))?,
                Step::Nth(index) => write!(f, "{}.", index + 1)?,
            }
        }
        write!(f, "{}: ", crate::text::bare_key(&self.key))?;
        match &self.how {
            How::Set(value) => write!(f, "set {value}"),
            How::Unset => write!(f, "take out"),
            How::AddFirst(value) => write!(f, "add {value} first"),
            How::AddLast(value) => write!(f, "add {value}"),
            How::TakeOut(text) => write!(f, "take {text:?} out"),
        }
    }
}

/// Why a change cannot be applied.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, ask::{Change, Conflict}};
/// let text = "users.watch-1.proofs = ['password']\nsystems.rota.kind = 'application'";
/// let engine = Engine::compile(Ledger::new().document("it.toml", text).estate()?)?;
/// let conflict = engine.with(&[Change::Enable { user: "watch-9".to_owned() }]).expect_err("nobody has that name");
/// assert!(matches!(conflict, Conflict::Unknown(_)), "{conflict}");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[derive(Debug)]
#[non_exhaustive]
pub enum Conflict {
    /// It is about something that the ledger does not declare.
    Unknown(String),
    /// The ledger says so already: what, and where.
    Already(String, Location),
    /// The ledger with the change is not valid.
    Invalid(Findings),
}

impl fmt::Display for Conflict {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unknown(what) => f.write_str(what),
            Self::Already(what, at) => write!(f, "{what} already ({at})"),
            Self::Invalid(findings) => findings.fmt(f),
        }
    }
}

impl std::error::Error for Conflict {}

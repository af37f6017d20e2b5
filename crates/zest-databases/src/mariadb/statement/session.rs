//! What a statement does to its session, for those that come after it in the same text.

use crate::sql::{Dialect, Words};
use zest_engine::rules::Left;

/// A session that goes on from statement to statement.
#[derive(Debug)]
pub(super) struct Ongoing {
    pub(super) database: Option<String>,
    /// The active role, if it was changed: a role or none.
    pub(super) role: Option<Option<String>>,
    /// Why nothing is known of what comes after.
    pub(super) unknown: Option<String>,
}

#[derive(Debug, PartialEq, Eq)]
enum Effect {
    None,
    Role(Option<String>),
    Database(String),
    /// Rights, objects or settings may be other ones then.
    Unknown,
}

impl Ongoing {
    pub(super) fn of(database: Option<&str>) -> Self {
        Self { database: database.map(str::to_owned), role: None, unknown: None }
    }

    /// Goes on behind a statement that was carried out.
    pub(super) fn behind(&mut self, number: usize, statement: &str) {
        match effect(statement) {
            Effect::None => {}
            Effect::Role(role) => self.role = Some(role),
            Effect::Database(database) => self.database = Some(database),
            Effect::Unknown => {
                self.unknown = Some(format!("what statement {number} changes is not carried on to those behind it"));
            }
        }
    }
}

/// Statements that leave everything as it is but rows, and what runs of their own in them.
const PLAIN: &[&str] = &[
    "select",
    "values",
    "table",
    "with",
    "insert",
    "update",
    "delete",
    "replace",
    "explain",
    "desc",
    "describe",
    "show",
    "do",
    "handler",
    "start transaction",
    "begin",
    "commit",
    "rollback",
    "savepoint",
    "release",
    "checksum",
    "analyze",
    "check",
    "(",
    "help",
];

/// Returns what a statement leaves behind in its session.
pub(in super::super) fn leaves(statement: &str) -> Left {
    match effect(statement) {
        Effect::None => Left::Nothing,
        Effect::Unknown => Left::Changes,
        Effect::Role(_) | Effect::Database(_) => Left::Session,
    }
}

fn effect(statement: &str) -> Effect {
    let folded = statement.trim_start().to_lowercase();
    if PLAIN.iter().any(|word| folded.starts_with(word)) {
        return Effect::None;
    }
    Words::of(Dialect::Mariadb, &["set", "use"], statement).and_then(|mut words| read(&mut words)).unwrap_or(Effect::Unknown)
}

fn read(words: &mut Words) -> Option<Effect> {
    if words.takes("use") {
        let database = words.name()?;
        return words.is_over().then_some(Effect::Database(database));
    }
    words.takes("set").then_some(())?;
    if words.takes("role") {
        let is_none = words.is("none");
        let role = words.name()?;
        return words.is_over().then_some(Effect::Role((!is_none).then_some(role)));
    }
    // How texts are read, and which rights count, is not for sure behind some settings.
    if words.is("names") || words.is("transaction") || words.is("autocommit") {
        return Some(Effect::None);
    }
    let variable = words.takes_sign_word()?;
    (!variable.starts_with("@@")).then_some(Effect::None)
}

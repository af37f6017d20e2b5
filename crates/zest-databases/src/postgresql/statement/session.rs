//! What a statement does to its session, for those that come after it in the same text.

use sqlparser::tokenizer::Token;

use crate::sql::{Dialect, Words};
use zest_engine::rules::Left;

/// Whose session it is at some moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in super::super) struct Standing {
    /// Who signed in.
    pub(super) signed_in: String,
    /// Whose the session is: who signed in, unless a superuser took another's.
    pub(super) account: String,
    /// The active role.
    pub(super) role: String,
    /// Where bare names are looked for, if that was set: schemas, or `$user`.
    pub(super) path: Option<Vec<String>>,
}

impl Standing {
    pub(in super::super) fn of(account: &str, role: &str) -> Self {
        Self { signed_in: account.to_owned(), account: account.to_owned(), role: role.to_owned(), path: None }
    }
}

/// A session that goes on from statement to statement.
#[derive(Debug)]
pub(super) struct Ongoing {
    pub(super) now: Standing,
    /// What it goes back to when the open transaction is taken back.
    before: Option<Standing>,
    /// What it goes back to at the end of the open transaction, if something was set for it alone.
    after: Option<Standing>,
    /// Why nothing is known of what comes after.
    pub(super) unknown: Option<String>,
}

#[derive(Debug, PartialEq, Eq)]
enum Effect {
    None,
    Role {
        role: Option<String>,
        is_local: bool,
    },
    Account {
        account: Option<String>,
        is_local: bool,
    },
    Path {
        path: Option<Vec<String>>,
        is_local: bool,
    },
    ResetAll,
    Begin,
    Commit,
    Rollback,
    /// Rights, objects or settings may be other ones then.
    Unknown,
}

impl Ongoing {
    pub(super) const fn of(now: Standing) -> Self {
        Self { now, before: None, after: None, unknown: None }
    }

    /// Goes on behind a statement that was carried out.
    pub(super) fn behind(&mut self, number: usize, statement: &str) {
        let is_local = match effect(statement) {
            Effect::None => return,
            Effect::Role { role, is_local } => {
                self.keep(is_local);
                self.now.role = role.unwrap_or_else(|| self.now.account.clone());
                is_local
            }
            Effect::Account { account, is_local } => {
                self.keep(is_local);
                let account = account.unwrap_or_else(|| self.now.signed_in.clone());
                (self.now.account, self.now.role) = (account.clone(), account);
                is_local
            }
            Effect::Path { path, is_local } => {
                self.keep(is_local);
                self.now.path = path;
                is_local
            }
            Effect::ResetAll => {
                self.now.path = None;
                false
            }
            Effect::Begin => {
                // One that is open goes on.
                self.before = self.before.take().or_else(|| Some(self.now.clone()));
                false
            }
            Effect::Commit => {
                self.before = None;
                if let Some(after) = self.after.take() {
                    self.now = after;
                }
                false
            }
            Effect::Rollback => {
                self.after = None;
                if let Some(before) = self.before.take() {
                    self.now = before;
                }
                false
            }
            Effect::Unknown => {
                self.unknown = Some(format!("what statement {number} changes is not carried on to those behind it"));
                return;
            }
        };
        // Without a transaction it depends on how the text is sent.
        if is_local && self.before.is_none() {
            self.unknown = Some(format!("how long what statement {number} sets holds outside of a transaction"));
        }
    }

    fn keep(&mut self, is_local: bool) {
        if is_local {
            self.after = self.after.take().or_else(|| Some(self.now.clone()));
        } else if self.after.is_some() {
            self.unknown = Some("what is set for a transaction and for the session at once".to_owned());
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
    "merge",
    "explain",
    "show",
    "lock",
    "copy",
    "declare",
    "fetch",
    "move",
    "close",
    "listen",
    "unlisten",
    "notify",
    "analyze",
    "analyse",
    "comment",
    "checkpoint",
    "deallocate",
    "(",
];

/// Returns what a statement leaves behind in its session.
pub(in super::super) fn leaves(statement: &str) -> Left {
    match effect(statement) {
        Effect::None => Left::Nothing,
        Effect::Unknown => Left::Changes,
        Effect::Role { .. }
        | Effect::Account { .. }
        | Effect::Path { .. }
        | Effect::ResetAll
        | Effect::Begin
        | Effect::Commit
        | Effect::Rollback => Left::Session,
    }
}

fn effect(statement: &str) -> Effect {
    // A function may set something as well.
    let folded = statement.to_lowercase();
    let begins = |word: &&str| folded.trim_start().starts_with(*word);
    // Superusers change the server's own tables by hand.
    let by_hand = ["insert", "update", "delete", "merge", "with", "copy"].iter().any(begins) && folded.contains("pg_");
    if PLAIN.iter().any(begins) && !folded.contains("set_config") && !by_hand {
        return Effect::None;
    }
    Words::of(Dialect::Postgresql, &["set", "reset", "begin", "start", "commit", "end", "rollback", "abort"], statement)
        .and_then(|mut words| read(&mut words))
        .unwrap_or(Effect::Unknown)
}

fn read(words: &mut Words) -> Option<Effect> {
    let verb = words.word()?;
    let effect = match verb.as_str() {
        "begin" | "start" => {
            words.takes_rest();
            return Some(Effect::Begin);
        }
        "commit" | "end" | "rollback" | "abort" => {
            words.takes_any(&["work", "transaction"]);
            // `AND CHAIN`, `PREPARED` and savepoints go on otherwise.
            if verb == "commit" || verb == "end" { Effect::Commit } else { Effect::Rollback }
        }
        "reset" => match words.word()?.as_str() {
            "role" => Effect::Role { role: None, is_local: false },
            "search_path" => Effect::Path { path: None, is_local: false },
            "all" => Effect::ResetAll,
            "session" if words.takes("authorization") => Effect::Account { account: None, is_local: false },
            _ => {
                words.takes_rest();
                return Some(Effect::None);
            }
        },
        "set" => return set(words),
        _ => return None,
    };
    words.is_over().then_some(effect)
}

fn set(words: &mut Words) -> Option<Effect> {
    let is_local = words.takes("local");
    if !is_local && words.is("session") && !words.is_followed_by("authorization") {
        words.takes("session");
    }
    let effect = if words.takes_both("session", "authorization") {
        let account = if words.takes("default") { None } else { Some(words.name().or_else(|| words.text())?) };
        Effect::Account { account, is_local }
    } else if words.takes("role") {
        let is_none = words.is("none");
        let role = words.name().or_else(|| words.text())?;
        Effect::Role { role: (!is_none).then_some(role), is_local }
    } else if words.takes("schema") {
        Effect::Path { path: Some(vec![words.text()?]), is_local }
    } else if words.takes("search_path") {
        (words.takes("to") || words.takes_token(&Token::Eq)).then_some(())?;
        if words.takes("default") {
            Effect::Path { path: None, is_local }
        } else {
            let path = words.list(|words| words.name().or_else(|| words.text()))?;
            Effect::Path { path: Some(path), is_local }
        }
    } else {
        // Other settings change no rights, but for those that say how rows are seen or who is asked.
        let name = words.word()?;
        let strange =
            ["row_security", "session_authorization", "check_function_bodies", "session_replication_role", "standard_conforming_strings"];
        if strange.contains(&name.as_str()) || name.starts_with("default_t") || name == "transaction" || name == "session" {
            return None;
        }
        words.takes_rest();
        Effect::None
    };
    words.is_over().then_some(effect)
}

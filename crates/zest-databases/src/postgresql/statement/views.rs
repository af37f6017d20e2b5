//! Words of views that the parser of SQL does not read: `WITH CHECK OPTION`, and `CREATE RECURSIVE VIEW`.

use std::borrow::Cow;

use sqlparser::tokenizer::Token;

use super::super::object::quoted;
use crate::sql::{Dialect, Words};

/// Which conditions a new row must meet that passes through a view.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Check {
    /// Its own.
    Local,
    /// Its own, and those of all views behind it.
    Cascaded,
}

/// How it is written at the end of a query.
const CHECKS: &[(&[&str], Check)] = &[
    (&["with", "check", "option"], Check::Cascaded),
    (&["with", "cascaded", "check", "option"], Check::Cascaded),
    (&["with", "local", "check", "option"], Check::Local),
];

/// Words that a query begins with, or a statement that makes a view.
const BEGINS: &[&str] = &["select", "with", "values", "table", "(", "create"];

/// Takes a check of new rows off the end of the query of a view, or of a statement that makes one.
pub(super) fn without_check(text: &str) -> (Cow<'_, str>, Option<Check>) {
    let end = text.trim_end_matches(|sign: char| sign == ';' || sign.is_whitespace());
    let last = end.get(end.len().saturating_sub("option".len())..);
    // Most views check nothing, and are not worth the work.
    if last.is_some_and(|last| last.eq_ignore_ascii_case("option"))
        && let Some(words) = Words::of(Dialect::Postgresql, BEGINS, text)
        && let Some((written, check)) = CHECKS.iter().find(|(written, _)| words.ends_with(written))
        && let Some(query) = words.without_last(written.len())
    {
        return (Cow::Owned(query), Some(*check));
    }
    (Cow::Borrowed(text), None)
}

/// A statement that makes a view, in words that the parser reads.
pub(super) struct Unfolded<'t> {
    pub(super) text: Cow<'t, str>,
    /// The tablespace that it names.
    pub(super) tablespace: Option<String>,
}

/// Writes a statement that makes a view as one that the parser reads: without the check of new rows, a recursive view as what the server
/// makes of it, a query behind `WITH RECURSIVE`, and a materialised one without how and where it is kept. Any other statement stays as it is.
pub(super) fn unfolded(text: &str) -> Unfolded<'_> {
    let as_it_is = || Unfolded { text: Cow::Borrowed(text), tablespace: None };
    let Some(mut words) = Words::of(Dialect::Postgresql, &["create"], text) else { return as_it_is() };
    let Some(head) = Head::read(&mut words) else { return as_it_is() };
    let (unfolded, tablespace) = match head {
        Head::Recursive { is_replaced, is_temporary } => (recursive(&mut words, is_replaced, is_temporary), None),
        Head::Materialised => materialised(&mut words).unzip(),
        Head::Plain => return Unfolded { text: without_check(text).0, tablespace: None },
    };
    unfolded.map_or_else(as_it_is, |text| Unfolded { text: Cow::Owned(text), tablespace: tablespace.flatten() })
}

/// How the making of a view begins.
enum Head {
    Plain,
    Recursive { is_replaced: bool, is_temporary: bool },
    Materialised,
}

impl Head {
    fn read(words: &mut Words) -> Option<Self> {
        words.takes("create").then_some(())?;
        if words.takes_both("materialized", "view") {
            return Some(Self::Materialised);
        }
        let is_replaced = words.takes_both("or", "replace");
        let is_temporary = words.takes_any(&["temp", "temporary"]);
        let is_recursive = words.takes("recursive");
        words.takes("view").then_some(if is_recursive { Self::Recursive { is_replaced, is_temporary } } else { Self::Plain })
    }
}

/// Reads a recursive view behind its first words.
fn recursive(words: &mut Words, is_replaced: bool, is_temporary: bool) -> Option<String> {
    let name = words.path()?;
    words.takes_token(&Token::LParen).then_some(())?;
    let columns = columns(words)?;
    let options = if words.takes("with") { format!(" WITH ({})", words.in_parentheses()?) } else { String::new() };
    let query = words.takes("as").then(|| words.rest_text())??;
    let (replace, temporary) = (if is_replaced { " OR REPLACE" } else { "" }, if is_temporary { " TEMPORARY" } else { "" });
    let last = quoted(name.last()?);
    let name = path(&name);
    Some(format!(
        "CREATE{replace}{temporary} VIEW {name} ({columns}){options} AS WITH RECURSIVE {last} ({columns}) AS ({query}) SELECT {columns} FROM {last}"
    ))
}

/// Reads a materialised view behind its first words, and its tablespace.
fn materialised(words: &mut Words) -> Option<(String, Option<String>)> {
    let if_not_exists = words.takes("if");
    (!if_not_exists || words.takes_both("not", "exists")).then_some(())?;
    let name = path(&words.path()?);
    let columns = if words.takes_token(&Token::LParen) { format!(" ({})", columns(words)?) } else { String::new() };
    if words.takes("using") {
        words.name()?;
    }
    let options = if words.takes("with") { format!(" WITH ({})", words.in_parentheses()?) } else { String::new() };
    let tablespace = if words.takes("tablespace") { Some(words.name()?) } else { None };
    let query = words.takes("as").then(|| words.rest_text())??;
    let condition = if if_not_exists { " IF NOT EXISTS" } else { "" };
    Some((format!("CREATE MATERIALIZED VIEW{condition} {name}{columns}{options} AS {query}"), tablespace))
}

/// Reads names up to the parenthesis that closes them.
fn columns(words: &mut Words) -> Option<String> {
    let columns = words.list(Words::name)?;
    let columns: Vec<String> = columns.iter().map(|column| quoted(column)).collect();
    words.takes_token(&Token::RParen).then(|| columns.join(", "))
}

fn path(name: &[String]) -> String {
    name.iter().map(|part| quoted(part)).collect::<Vec<_>>().join(".")
}

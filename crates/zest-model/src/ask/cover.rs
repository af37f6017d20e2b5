//! Credentials inside of a question are never shown again: not in an answer, in whatever form it is written.

use std::ops::Range;

use super::{Answer, Form};
use crate::source::visible;

/// What stands in the place of a credential.
const COVER: &str = "[covered]";

/// Parts of names whose values are credentials.
const SECRET: &[&str] = &[
    "password",
    "passwd",
    "passphrase",
    "secret",
    "token",
    "credential",
    "api-key",
    "api_key",
    "apikey",
    "private-key",
    "private_key",
    "pre-shared-key",
    "pwd",
];
/// Names after which the next word is the credential, without any sign between.
const BEFORE_WORD: &[&str] = &["password", "passwd", "passphrase", "pre-shared-key"];
/// Words between a name and its value.
const BETWEEN: &[&str] = &["by", "as", "using", "is", "to", "hash", "for", "via", "or"];

/// Returns whether the value of an attribute, a variable or an option of this name is a credential.
///
/// # Example
/// ```
/// use zest_ledger::ask::is_secret_name;
/// assert!(is_secret_name("PGPASSWORD") && is_secret_name("api-key") && !is_secret_name("amount"));
/// ```
#[must_use]
pub fn is_secret_name(name: &str) -> bool {
    let name = name.to_lowercase();
    SECRET.iter().any(|part| name.contains(part))
}

/// Returns a line with the credentials in it covered; `form` says whether it is an SQL statement.
///
/// Covered are the text behind `password` or `identified by`, and the values of `NAME=VALUE`, `--NAME VALUE` and
/// `NAME: VALUE` with the name of a credential.
///
/// # Example
/// ```
/// use zest_ledger::ask::{Form, covered};
/// assert_eq!(covered("alter user clerk password 'tide'", Form::Statement), "alter user clerk password '[covered]'");
/// assert_eq!(covered("/opt/report --token=tide --all", Form::Line), "/opt/report --token=[covered] --all");
/// assert_eq!(covered("show secrets", Form::Line), "show secrets");
/// ```
#[must_use]
pub fn covered(line: &str, form: Form) -> String {
    let mut out = line.to_owned();
    for range in credentials(line, form).into_iter().rev() {
        out.replace_range(range, COVER);
    }
    out
}

/// Finds the credentials of a line, in order, none within another.
fn credentials(line: &str, form: Form) -> Vec<Range<usize>> {
    let mut found: Vec<Range<usize>> = Vec::new();
    let mut at = 0;
    while let Some(name) = next_name(line, at) {
        at = name.end;
        let word = line[name.clone()].to_lowercase();
        let identified = word == "identified";
        if !identified && !is_secret_name(&word) {
            continue;
        }
        let is_option = line[..name.start].ends_with('-');
        let bare = form == Form::Line && (BEFORE_WORD.contains(&word.as_str()) || is_option);
        if let Some(range) = value(line, name.end, bare, identified) {
            at = range.end;
            found.push(range);
        }
    }
    found
}

/// Finds the next word of letters, digits, `-` and `_`.
fn next_name(line: &str, from: usize) -> Option<Range<usize>> {
    let is_part = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_');
    let start = from + line[from..].find(|c: char| c.is_alphanumeric())?;
    let end = line[start..].find(|c: char| !is_part(c)).map_or(line.len(), |n| start + n);
    Some(start..end)
}

/// Finds the value behind a name: a text in quotes, or a bare word where a sign stands between, or `bare` says so. Behind
/// `identified` any word may stand between.
fn value(line: &str, from: usize, bare: bool, skips_words: bool) -> Option<Range<usize>> {
    let blanks = |at: usize| at + (line[at..].len() - line[at..].trim_start().len());
    let (mut at, mut signed) = (from, false);
    // The name itself may stand in quotes, as in JSON.
    if let Some(quote) = line[at..].chars().next().filter(|c| matches!(c, '\'' | '"'))
        && line[at + quote.len_utf8()..].trim_start().starts_with([':', '='])
    {
        at += quote.len_utf8();
    }
    loop {
        let next = blanks(at);
        let rest = &line[next..];
        if let Some(sign) = rest.chars().next().filter(|c| matches!(c, '=' | ':' | '(' | ',')) {
            signed |= matches!(sign, '=' | ':');
            at = next + sign.len_utf8();
            continue;
        }
        if let Some(name) = next_name(line, next).filter(|n| n.start == next) {
            let word = line[name.clone()].to_lowercase();
            // In `password('tide')` the word names a function.
            let calls = line[name.end..].starts_with('(');
            let leads = skips_words || calls || BETWEEN.contains(&word.as_str()) || is_secret_name(&word) && !signed;
            // A word that comes before the value in some statements is skipped only where a quoted one follows.
            let quoted = line[name.end..].contains(['\'', '"', '$']);
            if leads && quoted && !bare {
                at = name.end;
                continue;
            }
        }
        at = next;
        break;
    }
    let rest = &line[at..];
    // A letter may stand before a text in quotes: E'…', X'…', N'…', U&'…'.
    let lead =
        ["E'", "e'", "X'", "x'", "N'", "n'", "B'", "b'", "U&'", "u&'"].iter().find(|l| rest.starts_with(**l)).map_or(0, |l| l.len() - 1);
    let (at, rest) = (at + lead, &rest[lead..]);
    let first = rest.chars().next()?;
    match first {
        '\'' | '"' => Some(at + 1..at + 1 + quoted_end(&rest[1..], first)),
        '$' if rest[1..].contains('$') => {
            let tag = &rest[..rest[1..].find('$').map_or(1, |n| n + 2)];
            let end = rest[tag.len()..].find(tag).map_or(rest.len(), |n| tag.len() + n);
            Some(at + tag.len()..at + end)
        }
        _ if signed || bare => {
            let end = rest.find(|c: char| c.is_whitespace() || matches!(c, ';' | ')' | ',' | '&' | '\'' | '"')).unwrap_or(rest.len());
            (end > 0).then(|| at..at + end)
        }
        _ => None,
    }
}

/// Finds where a text in quotes ends; a doubled quote and one behind a backslash belong to it.
fn quoted_end(text: &str, quote: char) -> usize {
    let mut chars = text.char_indices().peekable();
    while let Some((at, c)) = chars.next() {
        if c == '\\' {
            chars.next();
        } else if c == quote && chars.next_if(|(_, n)| *n == quote).is_none() {
            return at;
        }
    }
    text.len()
}

impl Answer {
    /// Returns the answer as it may be shown: a rehearsal keeps lines as they were typed.
    ///
    /// # Example
    /// ```
    /// use zest_ledger::{Ledger, Question};
    /// let engine = Ledger::new().document("box.toml", "users.op-1 = {}\nsystems.box.kind = 'mariadb'\n").engine(1)?;
    /// let answer = engine.explain(&Question::statement("op-1", "box", "SET PASSWORD = PASSWORD('tide-and-time')"));
    /// assert!(!answer.covered().question.line.contains("tide-and-time"));
    /// # Ok::<(), zest_ledger::finding::Findings>(())
    /// ```
    #[must_use]
    pub fn covered(mut self) -> Self {
        self.cover();
        self
    }

    /// Covers the credentials of the question, wherever the answer shows them.
    #[doc(hidden)]
    pub fn cover(&mut self) {
        let line = &self.question.line;
        let mut secrets: Vec<String> = credentials(line, self.question.form).into_iter().map(|r| line[r].to_owned()).collect();
        let attributes = &mut self.question.session.attributes;
        for (_, value) in attributes.iter_mut().filter(|(name, _)| is_secret_name(name)) {
            secrets.push(std::mem::replace(value, COVER.to_owned()));
        }
        if secrets.is_empty() {
            return;
        }
        self.question.line = covered(&self.question.line, self.question.form);
        secrets.retain(|s| !s.is_empty());
        let shown: Vec<String> = secrets.iter().map(|s| visible(s)).filter(|s| !secrets.contains(s)).collect();
        secrets.extend(shown);
        // A longer one may hold a shorter one.
        secrets.sort_by_key(|s| std::cmp::Reverse(s.len()));
        let hide = |text: &mut String| secrets.iter().for_each(|s| hide(text, s));
        hide(&mut self.question.line);
        self.gates.iter_mut().for_each(|g| hide(&mut g.text));
        self.full_line.iter_mut().for_each(hide);
        self.object.iter_mut().for_each(hide);
        self.remedies.iter_mut().flat_map(|r| &mut r.steps).for_each(|s| hide(&mut s.text));
    }
}

/// Covers a credential where it stands as a word of its own.
fn hide(text: &mut String, secret: &str) {
    let mut from = 0;
    while let Some(at) = text[from..].find(secret).map(|n| from + n) {
        let end = at + secret.len();
        let touches = |c: Option<char>| c.is_some_and(char::is_alphanumeric);
        let inside = touches(text[..at].chars().next_back()) && secret.starts_with(char::is_alphanumeric)
            || touches(text[end..].chars().next()) && secret.ends_with(char::is_alphanumeric);
        if inside {
            from = at + secret.chars().next().map_or(1, char::len_utf8);
        } else {
            text.replace_range(at..end, COVER);
            from = at + COVER.len();
        }
    }
}

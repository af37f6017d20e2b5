//! Several statements in one text: they are carried out one after the other, and what one does to the session holds for the next.

use sqlparser::dialect::{MySqlDialect, PostgreSqlDialect};
use sqlparser::tokenizer::{Location, Token, TokenWithSpan, Tokenizer};

use super::Dialect;
use super::words::is_word;

/// The most statements in one text.
const MOST: usize = 200;

/// Takes a text of several statements apart; nothing where it is one, or cannot be taken apart.
pub(crate) fn several(dialect: Dialect, text: &str) -> Option<Vec<&str>> {
    // Most texts are one statement, and are not worth the work.
    if !text.trim_end().trim_end_matches(';').contains(';') {
        return None;
    }
    let parts = parts(dialect, text)?;
    (parts.len() > 1 && parts.len() <= MOST).then_some(parts)
}

/// Whether a text is one statement, be it with a body of several.
#[cfg(feature = "mariadb")]
pub(crate) fn is_one(dialect: Dialect, text: &str) -> bool {
    parts(dialect, text).is_some_and(|parts| parts.len() == 1)
}

fn parts(dialect: Dialect, text: &str) -> Option<Vec<&str>> {
    let tokens = match dialect {
        Dialect::Postgresql => Tokenizer::new(&PostgreSqlDialect {}, text).tokenize_with_location(),
        Dialect::Mariadb => Tokenizer::new(&MySqlDialect {}, text).tokenize_with_location(),
    };
    let tokens: Vec<TokenWithSpan> = tokens.ok()?.into_iter().filter(|token| !matches!(token.token, Token::Whitespace(_))).collect();
    // What has statements inside of it is one.
    let mut body = match dialect {
        Dialect::Postgresql if (0..tokens.len()).any(|at| is_at(&tokens, at, &["begin"]) && is_at(&tokens, at + 1, &["atomic"])) => {
            return None;
        }
        Dialect::Postgresql => None,
        Dialect::Mariadb => Some(Body::default()),
    };
    let mut offsets = Offsets::of(text);
    let (mut parts, mut begin, mut depth) = (Vec::new(), None, 0_usize);
    for (at, token) in tokens.iter().enumerate() {
        if let Some(body) = body.as_mut().filter(|_| depth == 0) {
            body.goes_on(&tokens, at, begin.is_none())?;
        }
        match &token.token {
            Token::LParen => depth += 1,
            Token::RParen => depth = depth.saturating_sub(1),
            Token::SemiColon if depth == 0 && body.as_ref().is_none_or(|body| body.open == 0) => {
                let end = offsets.at(token.span.start);
                parts.extend(begin.take().map(|begin: usize| &text[begin..end]));
                continue;
            }
            _ => {}
        }
        if begin.is_none() {
            begin = Some(offsets.at(token.span.start));
        }
    }
    // A body that does not end.
    if body.is_some_and(|body| body.open > 0) {
        return None;
    }
    parts.extend(begin.map(|begin| &text[begin..]));
    Some(parts)
}

fn is_at(tokens: &[TokenWithSpan], at: usize, words: &[&str]) -> bool {
    tokens.get(at).is_some_and(|token| words.iter().any(|word| is_word(&token.token, word)))
}

/// Whether a statement, or the text, ends there.
fn ends(tokens: &[TokenWithSpan], at: usize) -> bool {
    tokens.get(at).is_none_or(|token| token.token == Token::SemiColon)
}

fn is_colon(tokens: &[TokenWithSpan], at: usize) -> bool {
    tokens.get(at).is_some_and(|token| token.token == Token::Colon)
}

/// Where in a statement of MariaDB it is, of which the body may hold several: that of a routine, a trigger or an event. `BEGIN` and `END`
/// may be names as well, so that they count only where a statement begins; a body in which they stand anywhere else is not taken apart.
#[derive(Default)]
struct Body {
    /// Whether a body may begin.
    may_begin: bool,
    /// Whether the type of what comes out was met, which may end with any word.
    returns: bool,
    /// How many blocks are open.
    open: usize,
    /// How many `CASE` within an expression are.
    cases: usize,
    /// Where the statement within the body begins.
    start: usize,
}

impl Body {
    /// Looks at a token outside of parentheses; nothing where it cannot be told what belongs together.
    fn goes_on(&mut self, tokens: &[TokenWithSpan], at: usize, is_first: bool) -> Option<()> {
        let is = |at: usize, words: &[&str]| is_at(tokens, at, words);
        if is_first {
            let is_transaction = ends(tokens, at + 1) || is(at + 1, &["work"]);
            // A block that stands alone, or a statement that holds others.
            let is_block = is(at, &["begin"]) && !is_transaction;
            if is_block || is(at, &["if", "loop", "while", "repeat", "case", "for"]) || is_colon(tokens, at + 1) {
                return None;
            }
            let makes = (at + 1..at + 9).any(|at| is(at, &["procedure", "function", "trigger", "event", "package"]));
            *self = Self { may_begin: makes && is(at, &["create", "alter"]), ..Self::default() };
        } else if self.open > 0 {
            return self.within(tokens, at);
        } else if self.may_begin {
            let is_behind_head = is(at - 1, BEFORE_BODY)
                || matches!(tokens[at - 1].token, Token::RParen | Token::Colon | Token::SingleQuotedString(_))
                || is(at.wrapping_sub(2), &["follows", "precedes"]);
            self.returns |= is(at, &["returns"]);
            if is(at, &["begin"]) && (is_behind_head || self.returns) && !is_colon(tokens, at + 1) {
                (self.open, self.start) = (1, at + 1);
            } else if is(at, VERBS) {
                self.may_begin = false;
            }
        }
        Some(())
    }

    fn within(&mut self, tokens: &[TokenWithSpan], at: usize) -> Option<()> {
        let is = |at: usize, words: &[&str]| is_at(tokens, at, words);
        let is_start = at == self.start;
        let is_end_of = at - 1 == self.start && is(at - 1, &["end"]);
        match () {
            () if ends(tokens, at) => (self.start, self.cases) = (at + 1, 0),
            () if is(at, &["begin"]) => {
                (is_start || handles(tokens, self.start, at)).then_some(())?;
                (self.open, self.start) = (self.open + 1, at + 1);
            }
            () if is(at, &["end"]) && is_start => {
                // What else ends with a word behind it begins with that word.
                let is_inner = is(at + 1, &["if", "case", "loop", "while", "repeat", "for"]);
                (is_inner || ends(tokens, at + 1) || ends(tokens, at + 2)).then_some(())?;
                self.open -= usize::from(!is_inner);
                self.may_begin = false;
            }
            () if is(at, &["end"]) && is(self.start, &["until"]) && is(at + 1, &["repeat"]) && self.cases == 0 => {}
            () if is(at, &["end"]) => self.cases = self.cases.checked_sub(1)?,
            () if is(at, &["case"]) && !is_start && !is_end_of => self.cases += 1,
            () if is_colon(tokens, at) && at == self.start + 1 => self.start = at + 1,
            () if is_start && is(at, &["loop", "repeat", "else"]) => self.start = at + 1,
            () if is(at, &["then"]) && self.cases == 0 && is(self.start, &["if", "elseif", "case", "when"]) => self.start = at + 1,
            () if is(at, &["do"]) && is(self.start, &["while", "for"]) => self.start = at + 1,
            () => {}
        }
        Some(())
    }
}

/// Whether what handles a condition begins here: nothing but conditions stand before it.
fn handles(tokens: &[TokenWithSpan], start: usize, at: usize) -> bool {
    let is = |at: usize, words: &[&str]| is_at(tokens, at, words);
    let is_declared = is(start, &["declare"]) && is(start + 2, &["handler"]) && is(start + 3, &["for"]);
    is_declared
        && (start + 4..at).all(|at| match &tokens[at].token {
            Token::Comma | Token::Number(..) | Token::SingleQuotedString(_) => true,
            _ => {
                is(at, &["sqlexception", "sqlwarning", "not", "found", "sqlstate", "value"])
                    || is(at - 1, &["for"])
                    || tokens[at - 1].token == Token::Comma
            }
        })
}

/// Words that may stand before the body of several.
const BEFORE_BODY: &[&str] = &["do", "row", "deterministic", "data", "sql", "definer", "invoker"];

/// Words that begin a body of one statement, or come in one, and never stand before a body of several.
const VERBS: &[&str] = &[
    "call", "drop", "from", "grant", "if", "into", "loop", "repeat", "return", "revoke", "select", "set", "show", "table", "truncate",
    "values", "view", "while", "with",
];

/// From lines and columns to bytes, for places that come in order.
struct Offsets<'t> {
    text: &'t str,
    line: u64,
    column: u64,
    at: usize,
}

impl<'t> Offsets<'t> {
    const fn of(text: &'t str) -> Self {
        Self { text, line: 1, column: 1, at: 0 }
    }

    fn at(&mut self, place: Location) -> usize {
        for c in self.text[self.at..].chars() {
            if (self.line, self.column) >= (place.line, place.column) {
                break;
            }
            self.at += c.len_utf8();
            if c == '\n' {
                (self.line, self.column) = (self.line + 1, 1);
            } else {
                self.column += 1;
            }
        }
        self.at
    }
}

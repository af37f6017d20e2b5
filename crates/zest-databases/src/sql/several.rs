//! Several statements in one text: they are carried out one after the other, and what one does to the session holds for the next.

use sqlparser::dialect::{MySqlDialect, PostgreSqlDialect};
use sqlparser::tokenizer::{Location, Token, TokenWithSpan, Tokenizer};

use super::Dialect;

/// The most statements in one text.
const MOST: usize = 200;

/// Takes a text of several statements apart; nothing where it is one, or cannot be taken apart.
pub(crate) fn several(dialect: Dialect, text: &str) -> Option<Vec<&str>> {
    // Most texts are one statement, and are not worth the work.
    if !text.trim_end().trim_end_matches(';').contains(';') {
        return None;
    }
    let tokens = match dialect {
        Dialect::Postgresql => Tokenizer::new(&PostgreSqlDialect {}, text).tokenize_with_location(),
        Dialect::Mariadb => Tokenizer::new(&MySqlDialect {}, text).tokenize_with_location(),
    };
    let tokens: Vec<TokenWithSpan> = tokens.ok()?.into_iter().filter(|token| !matches!(token.token, Token::Whitespace(_))).collect();
    let is = |token: &Token, word: &str| matches!(token, Token::Word(w) if w.quote_style.is_none() && w.value.eq_ignore_ascii_case(word));
    // What has statements inside of it is one.
    let has_body = tokens.iter().enumerate().any(|(at, token)| {
        let follows = |word: &str| tokens.get(at + 1).is_some_and(|next| is(&next.token, word));
        match dialect {
            Dialect::Postgresql => is(&token.token, "begin") && follows("atomic"),
            Dialect::Mariadb => {
                let is_transaction = tokens.get(at + 1).is_none_or(|next| next.token == Token::SemiColon) || follows("work");
                is(&token.token, "begin") && !is_transaction || at == 0 && (is(&token.token, "if") || is(&token.token, "loop"))
            }
        }
    });
    if has_body {
        return None;
    }
    let mut offsets = Offsets::of(text);
    let (mut parts, mut begin, mut depth) = (Vec::new(), None, 0_usize);
    for token in &tokens {
        match &token.token {
            Token::LParen => depth += 1,
            Token::RParen => depth = depth.saturating_sub(1),
            Token::SemiColon if depth == 0 => {
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
    parts.extend(begin.map(|begin| &text[begin..]));
    (parts.len() > 1 && parts.len() <= MOST).then_some(parts)
}

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

//! The words of a statement, one after the other, for grammars of our own: statements about rights, which the parser of SQL often cannot
//! read.

use std::borrow::Cow;

use sqlparser::dialect::{MySqlDialect, PostgreSqlDialect};
use sqlparser::tokenizer::{Location, Token, TokenWithSpan, Tokenizer};

use super::Dialect;
use super::comments::carried_out;
use super::footprint::LONGEST;

/// Whether a token is a word, in whatever letters; a name in quotes is none.
pub(super) fn is_word(token: &Token, word: &str) -> bool {
    matches!(token, Token::Word(found) if found.quote_style.is_none() && found.value.eq_ignore_ascii_case(word))
}

/// The words of one statement, and how far they were read. What a grammar does not know leaves it to the parser of SQL.
pub(crate) struct Words {
    dialect: Dialect,
    tokens: Vec<Token>,
    /// Where each token begins and ends in the text.
    spans: Vec<(Location, Location)>,
    text: String,
    at: usize,
}

impl Words {
    /// Takes a text apart that begins with one of some words; nothing where that is not sure. Signs at its end that only end a statement
    /// are left out.
    pub(crate) fn of(dialect: Dialect, begins: &[&str], text: &str) -> Option<Self> {
        // Most statements are others, and are not worth the work; a comment may stand before any.
        let start = text.trim_start();
        let begins_with = |word: &&str| start.get(..word.len()).is_some_and(|begin| begin.eq_ignore_ascii_case(word));
        if text.len() > LONGEST || !start.starts_with(['-', '/', '#']) && !begins.iter().any(begins_with) {
            return None;
        }
        let carried_out = if dialect == Dialect::Mariadb { carried_out(text).ok()? } else { Cow::Borrowed(text) };
        let text = &*carried_out;
        let tokens = match dialect {
            Dialect::Postgresql => Tokenizer::new(&PostgreSqlDialect {}, text).tokenize_with_location(),
            Dialect::Mariadb => Tokenizer::new(&MySqlDialect {}, text).tokenize_with_location(),
        };
        let mut tokens: Vec<TokenWithSpan> =
            tokens.ok()?.into_iter().filter(|token| !matches!(token.token, Token::Whitespace(_))).collect();
        while tokens.last().is_some_and(|last| last.token == Token::SemiColon) {
            tokens.pop();
        }
        Some(Self {
            dialect,
            spans: tokens.iter().map(|token| (token.span.start, token.span.end)).collect(),
            text: text.to_owned(),
            tokens: tokens.into_iter().map(|token| token.token).collect(),
            at: 0,
        })
    }

    /// Returns whether the statement ends with some words.
    #[cfg(feature = "postgresql")]
    pub(crate) fn ends_with(&self, words: &[&str]) -> bool {
        let from = self.tokens.len().checked_sub(words.len());
        from.is_some_and(|from| words.iter().enumerate().all(|(i, word)| self.is_at(from + i, word)))
    }

    /// Returns the statement without some words at its end, as it is written.
    #[cfg(feature = "postgresql")]
    pub(crate) fn without_last(&self, words: usize) -> Option<String> {
        let to = self.tokens.len().checked_sub(words).filter(|to| *to > 0)?;
        Some(self.text_of(0, to))
    }

    /// Reads whatever is left of one statement, as it is written; nothing where nothing is left, or another statement follows.
    pub(crate) fn rest_text(&mut self) -> Option<String> {
        let from = self.at;
        self.takes_rest().then(|| self.text_of(from, self.tokens.len()))
    }

    /// Returns whether a word stands anywhere in what is left.
    pub(crate) fn has(&self, word: &str) -> bool {
        (self.at..self.tokens.len()).any(|at| self.is_at(at, word))
    }

    /// Reads what stands in parentheses if they come next, as it is written.
    #[cfg(feature = "postgresql")]
    pub(crate) fn in_parentheses(&mut self) -> Option<String> {
        if !self.takes_token(&Token::LParen) {
            return None;
        }
        let from = self.at;
        let mut depth = 1_usize;
        loop {
            match self.tokens.get(self.at)? {
                Token::LParen => depth += 1,
                Token::RParen => depth -= 1,
                Token::SemiColon => return None,
                _ => {}
            }
            self.at += 1;
            if depth == 0 {
                return (self.at - 1 > from).then(|| self.text_of(from, self.at - 1));
            }
        }
    }

    fn text_of(&self, from: usize, to: usize) -> String {
        let offset = |at: Location| {
            let line: usize = self.text.split_inclusive('\n').take((at.line - 1) as usize).map(str::len).sum();
            line + self.text[line..].chars().take((at.column - 1) as usize).map(char::len_utf8).sum::<usize>()
        };
        self.text[offset(self.spans[from].0)..offset(self.spans[to - 1].1)].to_owned()
    }

    /// Returns whether all was read.
    pub(crate) fn is_over(&self) -> bool {
        self.at == self.tokens.len()
    }

    /// Goes back, or forth, to a place.
    pub(crate) fn go_to(&mut self, place: usize) {
        self.at = place;
    }

    /// Returns how far it was read.
    pub(crate) const fn place(&self) -> usize {
        self.at
    }

    /// Reads two words if they come next.
    pub(crate) fn takes_both(&mut self, first: &str, second: &str) -> bool {
        let are = self.is(first) && self.is_at(self.at + 1, second);
        self.at += if are { 2 } else { 0 };
        are
    }

    /// Reads whatever is left of one statement: something, and nothing that begins another.
    pub(crate) fn takes_rest(&mut self) -> bool {
        let rest = &self.tokens[self.at..];
        let is_rest = !rest.is_empty() && !rest.contains(&Token::SemiColon);
        self.at = self.tokens.len();
        is_rest
    }

    /// Reads a name: on PostgreSQL without quotes in small letters, on MariaDB as it stands.
    pub(crate) fn name(&mut self) -> Option<String> {
        let name = match (self.dialect, self.tokens.get(self.at)?) {
            (Dialect::Postgresql, Token::Word(word)) => match word.quote_style {
                None => word.value.to_lowercase(),
                Some('"') => word.value.clone(),
                Some(_) => return None,
            },
            // Without quotes, a sign stands between login and origin.
            (Dialect::Mariadb, Token::Word(word))
                if word.quote_style == Some('`') || word.quote_style.is_none() && !word.value.contains('@') =>
            {
                word.value.clone()
            }
            (Dialect::Mariadb, Token::SingleQuotedString(text) | Token::DoubleQuotedString(text)) if !text.contains('\\') => text.clone(),
            _ => return None,
        };
        self.at += 1;
        Some(name)
    }

    /// Reads a name of one part or more, with dots between them.
    #[cfg(feature = "postgresql")]
    pub(crate) fn path(&mut self) -> Option<Vec<String>> {
        let mut path = vec![self.name()?];
        while self.takes_token(&Token::Period) {
            path.push(self.name()?);
        }
        Some(path)
    }

    /// Reads one thing or more with commas between them.
    pub(crate) fn list<T>(&mut self, mut one: impl FnMut(&mut Self) -> Option<T>) -> Option<Vec<T>> {
        let mut list = vec![one(self)?];
        while self.takes_token(&Token::Comma) {
            list.push(one(self)?);
        }
        Some(list)
    }

    /// Returns whether a word comes next, which is not in quotes.
    pub(crate) fn is(&self, word: &str) -> bool {
        self.is_at(self.at, word)
    }

    fn is_at(&self, at: usize, word: &str) -> bool {
        self.tokens.get(at).is_some_and(|token| is_word(token, word))
    }

    /// Reads a word if it comes next.
    pub(crate) fn takes(&mut self, word: &str) -> bool {
        let is = self.is(word);
        self.at += usize::from(is);
        is
    }

    /// Reads one of some words if it comes next.
    pub(crate) fn takes_any(&mut self, words: &[&str]) -> bool {
        words.iter().any(|word| self.takes(word))
    }

    /// Reads a word without quotes, in small letters.
    pub(crate) fn word(&mut self) -> Option<String> {
        let Token::Word(word) = self.tokens.get(self.at)? else { return None };
        let word = word.quote_style.is_none().then(|| word.value.to_ascii_lowercase())?;
        self.at += 1;
        Some(word)
    }

    /// Reads a text in plain quotes.
    pub(crate) fn text(&mut self) -> Option<String> {
        let Token::SingleQuotedString(text) = self.tokens.get(self.at)? else { return None };
        let text = text.clone();
        self.at += 1;
        Some(text)
    }

    /// Reads a text in quotes if it comes next.
    pub(crate) fn takes_text(&mut self) -> bool {
        let is = match self.tokens.get(self.at) {
            Some(Token::SingleQuotedString(_)) => true,
            Some(Token::DoubleQuotedString(_)) => self.dialect == Dialect::Mariadb,
            Some(Token::EscapedStringLiteral(_) | Token::UnicodeStringLiteral(_) | Token::DollarQuotedString(_)) => {
                self.dialect == Dialect::Postgresql
            }
            _ => false,
        };
        self.at += usize::from(is);
        is
    }

    /// Reads whatever is left, as it is written, signs that end statements and all; nothing where nothing is left.
    pub(crate) fn rest_with_signs(&mut self) -> Option<String> {
        let from = std::mem::replace(&mut self.at, self.tokens.len());
        (from < self.tokens.len()).then(|| self.text_of(from, self.tokens.len()))
    }

    /// Reads up to the sign that ends the statement, or to one of some words in no parentheses, as it is written; nothing where there is
    /// nothing.
    pub(crate) fn piece_until(&mut self, ends: &[&str]) -> Option<String> {
        let from = self.at;
        self.at = self.end_of_piece(ends);
        (self.at > from).then(|| self.text_of(from, self.at))
    }

    fn end_of_piece(&self, ends: &[&str]) -> usize {
        // A `CASE` that is an expression has words of its own.
        let (mut depth, mut cases) = (0_usize, 0_usize);
        let mut at = self.at;
        while let Some(token) = self.tokens.get(at) {
            match token {
                Token::LParen | Token::LBracket => depth += 1,
                Token::RParen | Token::RBracket => depth = depth.saturating_sub(1),
                Token::SemiColon if depth == 0 => break,
                _ if depth == 0 && cases == 0 && ends.iter().any(|word| self.is_at(at, word)) => break,
                _ if self.is_at(at, "case") => cases += 1,
                _ if self.is_at(at, "end") => cases = cases.saturating_sub(1),
                _ => {}
            }
            at += 1;
        }
        at
    }

    /// Whether a parenthesis comes next.
    pub(crate) fn is_parenthesis(&self) -> bool {
        self.tokens.get(self.at) == Some(&Token::LParen)
    }

    /// Reads a statement without the variables that its rows go into (`INTO`), as it is written otherwise.
    pub(crate) fn without_targets(&mut self) -> Option<String> {
        let (from, end) = (self.at, self.end_of_piece(&[]));
        let mut depth = 0_usize;
        let mut into = None;
        for at in from..end {
            match &self.tokens[at] {
                Token::LParen => depth += 1,
                Token::RParen => depth = depth.checked_sub(1)?,
                _ if depth == 0 && self.is_at(at, "into") && at > from && !self.is_at(at - 1, "insert") && !self.is_at(at - 1, "merge") => {
                    into = Some(at);
                    break;
                }
                _ => {}
            }
        }
        self.at = end;
        let Some(into) = into else { return (end > from).then(|| self.text_of(from, end)) };
        let mut at = into + 1;
        at += usize::from(self.is_at(at, "strict"));
        loop {
            while at < end && matches!(self.tokens[at], Token::Word(_) | Token::Period) {
                let beside = matches!(self.tokens.get(at + 1), Some(Token::Word(_))) && matches!(self.tokens[at], Token::Word(_));
                at += 1;
                if beside {
                    break;
                }
            }
            if at < end && self.tokens[at] == Token::LBracket {
                while at < end && self.tokens[at] != Token::RBracket {
                    at += 1;
                }
                at += 1;
            }
            if at < end && self.tokens[at] == Token::Comma {
                at += 1;
            } else {
                break;
            }
        }
        let mut text = self.text_of(from, into);
        if at < end {
            text.push(' ');
            text.push_str(&self.text_of(at, end));
        }
        Some(text)
    }

    /// Reads a number if it comes next.
    pub(crate) fn takes_number(&mut self) -> bool {
        let is = matches!(self.tokens.get(self.at), Some(Token::Number(..)));
        self.at += usize::from(is);
        is
    }

    /// Returns whether a word comes behind the next one.
    pub(crate) fn is_followed_by(&self, word: &str) -> bool {
        self.is_at(self.at + 1, word)
    }

    /// Reads a sign if it comes next.
    pub(crate) fn takes_token(&mut self, token: &Token) -> bool {
        let is = self.tokens.get(self.at) == Some(token);
        self.at += usize::from(is);
        is
    }
}

/// What the grammar for PostgreSQL reads.
#[cfg(feature = "postgresql")]
impl Words {
    /// Reads a word if it comes next, and a name behind it.
    pub(crate) fn takes_before_name(&mut self, word: &str) -> bool {
        let is = self.is(word) && matches!(self.tokens.get(self.at + 1), Some(Token::Word(_)));
        self.at += usize::from(is);
        is
    }

    /// Reads a text in any sort of quotes.
    pub(crate) fn any_text(&mut self) -> Option<String> {
        let text = match self.tokens.get(self.at)? {
            Token::SingleQuotedString(text) | Token::EscapedStringLiteral(text) | Token::UnicodeStringLiteral(text) => text.clone(),
            Token::DollarQuotedString(text) => text.value.clone(),
            _ => return None,
        };
        self.at += 1;
        Some(text)
    }

    /// Passes over whatever comes next; nothing at the end of the statement.
    pub(crate) fn skip(&mut self) -> Option<()> {
        self.tokens.get(self.at).filter(|token| **token != Token::SemiColon)?;
        self.at += 1;
        Some(())
    }

    /// Reads the bounds of a partition: `IN`, `FROM … TO` or `WITH`, each with values and nothing that is worked out.
    pub(crate) fn takes_bounds(&mut self) -> bool {
        let is_plain = |token: &Token| match token {
            Token::Word(word) => ["in", "from", "to", "with", "modulus", "remainder", "minvalue", "maxvalue", "null", "true", "false"]
                .iter()
                .any(|known| word.quote_style.is_none() && word.value.eq_ignore_ascii_case(known)),
            Token::LParen | Token::RParen | Token::Comma | Token::Minus | Token::Number(..) | Token::SingleQuotedString(_) => true,
            _ => false,
        };
        let from = self.at;
        while self.tokens.get(self.at).is_some_and(is_plain) {
            self.at += 1;
        }
        self.at > from
    }

    /// Reads an assignment to a name or a part of it if one comes next, and returns what is assigned, as it is written.
    pub(crate) fn assigned(&mut self) -> Option<String> {
        let mut at = self.at;
        if !matches!(self.tokens.get(at)?, Token::Word(_)) {
            return None;
        }
        let mut depth = 0_usize;
        loop {
            match self.tokens.get(at)? {
                Token::LBracket => depth += 1,
                Token::RBracket => depth = depth.checked_sub(1)?,
                Token::Assignment | Token::Eq if depth == 0 => break,
                Token::Word(_) | Token::Period if depth == 0 => {}
                Token::SemiColon | Token::LParen if depth == 0 => return None,
                _ if depth > 0 => {}
                _ => return None,
            }
            // Two words beside each other are no name.
            let beside = matches!((self.tokens.get(at), self.tokens.get(at + 1)), (Some(Token::Word(_)), Some(Token::Word(_))));
            if depth == 0 && beside {
                return None;
            }
            at += 1;
        }
        let end = self.end_of_piece(&[]);
        let value = (end > at + 1).then(|| self.text_of(at + 1, end))?;
        self.at = end;
        Some(value)
    }

    /// Reads the type of a variable, and what it begins with.
    pub(crate) fn declared(&mut self) -> Option<(String, Option<String>)> {
        let (from, end) = (self.at, self.end_of_piece(&[]));
        let begins_value = |at: usize| {
            matches!(self.tokens[at], Token::Assignment | Token::Eq)
                || ["default", "not", "collate"].iter().any(|word| self.is_at(at, word))
        };
        let until = (from..end).find(|at| begins_value(*at)).unwrap_or(end);
        let name = (until > from).then(|| self.text_of(from, until))?;
        let is_value = |at: usize| matches!(self.tokens[at], Token::Assignment | Token::Eq) || self.is_at(at, "default");
        let value = (until..end).find(|at| is_value(*at)).filter(|at| at + 1 < end).map(|at| self.text_of(at + 1, end));
        self.at = end;
        Some((name, value))
    }
}

/// What the grammar for MariaDB reads.
#[cfg(feature = "mariadb")]
impl Words {
    /// Reads up to a comma that stands in no parentheses, or to the sign that ends the statement, as it is written; nothing where there is
    /// nothing.
    pub(crate) fn item(&mut self) -> Option<String> {
        let (from, end) = (self.at, self.end_of_piece(&[]));
        let mut depth = 0_usize;
        let comma = (from..end).find(|at| {
            match self.tokens[*at] {
                Token::LParen | Token::LBracket => depth += 1,
                Token::RParen | Token::RBracket => depth = depth.saturating_sub(1),
                _ => {}
            }
            depth == 0 && self.tokens[*at] == Token::Comma
        });
        self.at = comma.unwrap_or(end);
        (self.at > from).then(|| self.text_of(from, self.at))
    }

    /// Whether the sign that ends a statement comes next.
    pub(crate) fn is_semicolon(&self) -> bool {
        self.tokens.get(self.at) == Some(&Token::SemiColon)
    }

    /// Returns whether a word stands anywhere in what is left of the statement, with a dot behind it.
    pub(crate) fn has_before_dot(&self, word: &str) -> bool {
        (self.at..self.end_of_piece(&[])).any(|at| self.is_at(at, word) && self.tokens.get(at + 1) == Some(&Token::Period))
    }

    /// Reads up to a comma that stands in no parentheses, or to one of some words there, as it is written; nothing where there is nothing.
    pub(crate) fn text_until(&mut self, ends: &[&str]) -> Option<String> {
        let from = self.at;
        let mut depth = 0_usize;
        while let Some(token) = self.tokens.get(self.at) {
            match token {
                Token::LParen => depth += 1,
                Token::RParen => depth = depth.checked_sub(1)?,
                Token::SemiColon => return None,
                Token::Comma if depth == 0 => break,
                _ if depth == 0 && ends.iter().any(|word| self.is(word)) => break,
                _ => {}
            }
            self.at += 1;
        }
        (self.at > from).then(|| self.text_of(from, self.at))
    }

    /// Reads the body of a routine, trigger or event: one statement, or several between `BEGIN` and `END`.
    pub(crate) fn takes_body(&mut self) -> bool {
        let is_one = self.at < self.tokens.len() && super::several::is_one(self.dialect, &self.text_of(0, self.tokens.len()));
        self.at = self.tokens.len();
        is_one
    }

    /// Returns whether the statement writes its rows into a file.
    pub(crate) fn writes_file(&self) -> bool {
        (0..self.tokens.len()).any(|at| self.is_at(at, "into") && (self.is_at(at + 1, "outfile") || self.is_at(at + 1, "dumpfile")))
    }

    /// Reads a word without quotes that holds an `@`, which the parser takes for a letter on MariaDB, if it comes next.
    pub(crate) fn takes_sign_word(&mut self) -> Option<String> {
        let word = match self.tokens.get(self.at)? {
            Token::Word(word) if word.quote_style.is_none() && word.value.contains('@') => word.value.clone(),
            Token::AtSign => "@".to_owned(),
            _ => return None,
        };
        self.at += 1;
        Some(word)
    }
}

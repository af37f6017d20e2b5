//! Bodies of routines and triggers (chapter "Programmatic and compound statements" of the manual): which statements and expressions stand
//! in one, and what of it the server is sure to come to.
//!
//! A body is not carried out here. What stands behind a condition, or in front of a handler that could swallow a refusal, may come or
//! not: where nobody would refuse it, that does not matter; where somebody would, it is not decided.

use std::sync::Arc;

use sqlparser::tokenizer::Token;

use crate::database::through::listed;
use crate::sql::{Dialect, Words};

/// The longest body that is read, in bytes.
const LONGEST: usize = 64 * 1024;
/// How deep blocks are followed into each other.
const DEEPEST: usize = 100;

const RUNS_TEXTS: &str = "it puts statements together and runs them (EXECUTE)";
const NOT_READ: &str = "its body cannot be read";

/// The variables that can be seen from somewhere: such a name is never that of a column.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Variables {
    names: Vec<String>,
    /// Those that have fields.
    rows: Vec<String>,
}

impl Variables {
    /// Returns whether a name, or one behind the name of a row, is that of a variable.
    pub(super) fn has(&self, row: Option<&str>, name: &str) -> bool {
        let (list, wanted) = row.map_or((&self.names, name), |row| (&self.rows, row));
        list.iter().any(|known| known.eq_ignore_ascii_case(wanted))
    }
}

/// Something in a body.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Piece {
    pub(super) what: What,
    /// Whether the server comes to it whenever the body runs.
    pub(super) is_sure: bool,
    pub(super) variables: Arc<Variables>,
}

#[derive(Debug, PartialEq, Eq)]
pub(super) enum What {
    /// A statement.
    Statement(String),
    /// One expression.
    Expression(String),
    /// A column of the row of a trigger that is set.
    Set(String),
}

/// Returns all that stands in a body; the text says what in it is not followed.
pub(super) fn pieces(body: &str, parameters: &str, is_trigger: bool) -> Result<Vec<Piece>, String> {
    if body.len() > LONGEST {
        return Err(format!("its body has {} bytes, of which up to {LONGEST} are read", body.len()));
    }
    let words = Words::of(Dialect::Mariadb, &[""], body).ok_or(NOT_READ)?;
    let variables = Arc::new(Variables { names: of_parameters(parameters)?, rows: Vec::new() });
    let mut reader = Reader { words, variables, out: Vec::new(), is_trigger, may_have_left: false, may_swallow: false, depth: 0 };
    reader.statement(true)?;
    if !reader.words.is_over() {
        return Err(NOT_READ.to_owned());
    }
    let Reader { mut out, may_swallow, .. } = reader;
    if may_swallow {
        out.iter_mut().for_each(|piece| piece.is_sure = false);
    }
    Ok(out)
}

fn of_parameters(parameters: &str) -> Result<Vec<String>, String> {
    let name = |parameter: &str| {
        let mut words = Words::of(Dialect::Mariadb, &[""], parameter)?;
        let place = words.place();
        if words.takes_any(&["in", "out", "inout"]) && words.is_over() {
            words.go_to(place);
        }
        let name = words.name()?;
        // The type of something else is looked up when the routine runs.
        (!words.has("of")).then_some(name)
    };
    listed(parameters).into_iter().map(|parameter| name(parameter).ok_or_else(|| "a parameter of it cannot be read".to_owned())).collect()
}

struct Reader {
    words: Words,
    variables: Arc<Variables>,
    out: Vec<Piece>,
    is_trigger: bool,
    /// Whether something was met that may have left the body, or a part of it.
    may_have_left: bool,
    /// Whether something was met behind which a refusal may go unnoticed, such as a handler that goes on where something was refused.
    may_swallow: bool,
    depth: usize,
}

impl Reader {
    fn push(&mut self, what: What, is_sure: bool) {
        self.out.push(Piece { what, is_sure: is_sure && !self.may_have_left, variables: self.variables.clone() });
    }

    fn expression(&mut self, ends: &[&str], is_sure: bool) -> Result<(), String> {
        let text = self.words.piece_until(ends).ok_or("an expression in it cannot be read")?;
        self.push(What::Expression(text), is_sure);
        Ok(())
    }

    fn takes(&mut self, word: &str) -> Result<(), String> {
        self.words.takes(word).then_some(()).ok_or_else(|| NOT_READ.to_owned())
    }

    /// Statements, each with a sign behind it, up to one of some words.
    fn list(&mut self, ends: &[&str], is_sure: bool) -> Result<(), String> {
        while !ends.iter().any(|word| self.words.is(word)) {
            self.statement(is_sure)?;
            self.words.takes_token(&Token::SemiColon).then_some(()).ok_or(NOT_READ)?;
        }
        Ok(())
    }

    fn statement(&mut self, is_sure: bool) -> Result<(), String> {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(format!("blocks in it are nested more than {DEEPEST} deep"));
        }
        self.label();
        let place = self.words.place();
        let verb = self.words.word().ok_or(NOT_READ)?;
        match verb.as_str() {
            "begin" => self.block(is_sure)?,
            "if" => {
                self.expression(&["then"], is_sure)?;
                self.takes("then")?;
                self.list(&["elseif", "else", "end"], false)?;
                self.branches("elseif", "if")?;
            }
            "case" => {
                if !self.words.is("when") {
                    self.expression(&["when"], is_sure)?;
                }
                self.branches("when", "case")?;
            }
            "loop" => {
                self.list(&["end"], false)?;
                self.ends("loop")?;
            }
            "while" => {
                self.expression(&["do"], is_sure)?;
                self.takes("do")?;
                self.list(&["end"], false)?;
                self.ends("while")?;
            }
            "repeat" => {
                self.list(&["until"], false)?;
                self.takes("until")?;
                self.expression(&["end"], false)?;
                self.ends("repeat")?;
            }
            "for" => self.counted(is_sure)?,
            "leave" | "iterate" => {
                self.words.name().ok_or(NOT_READ)?;
                self.may_have_left = true;
            }
            "return" => {
                self.expression(&[], is_sure)?;
                self.may_have_left = true;
            }
            "signal" | "resignal" => {
                self.words.piece_until(&[]);
                self.may_have_left = true;
            }
            "set" => self.set(is_sure)?,
            "open" => {
                self.words.name().ok_or(NOT_READ)?;
                self.words.piece_until(&[]).is_none().then_some(()).ok_or("a cursor with parameters is opened in it")?;
            }
            "fetch" | "close" | "get" | "commit" | "rollback" | "savepoint" | "release" => _ = self.words.piece_until(&[]),
            "start" if self.words.is("transaction") => _ = self.words.piece_until(&[]),
            "prepare" | "execute" | "deallocate" => return Err(RUNS_TEXTS.to_owned()),
            "goto" | "use" | "exit" | "continue" | "raise" | "null" | "declare" => {
                return Err(format!("`{}` in it is not followed", verb.to_uppercase()));
            }
            _ => {
                self.words.go_to(place);
                let is_query = ["select", "with", "values", "table"].contains(&verb.as_str());
                if self.is_trigger && verb == "call" && ["new", "old"].iter().any(|row| self.words.has_before_dot(row)) {
                    return Err("whether a procedure that is called in it sets columns of the row".to_owned());
                }
                // What such a table hides is not looked at any more.
                self.may_swallow |= verb == "create" && self.words.is_followed_by("temporary");
                let text = if is_query && !self.writes_file() { self.words.without_targets() } else { self.words.piece_until(&[]) };
                self.push(What::Statement(text.ok_or(NOT_READ)?), is_sure);
            }
        }
        self.depth -= 1;
        Ok(())
    }

    /// What comes for each of further conditions, and for none of them, up to the end.
    fn branches(&mut self, again: &str, of: &str) -> Result<(), String> {
        while self.words.takes(again) {
            self.expression(&["then"], false)?;
            self.takes("then")?;
            self.list(&[again, "else", "end"], false)?;
        }
        if self.words.takes("else") {
            self.list(&["end"], false)?;
        }
        self.ends(of)
    }

    /// Whether the rows of the query that comes next go into a file, and not into variables.
    fn writes_file(&mut self) -> bool {
        let place = self.words.place();
        let text = self.words.piece_until(&[]).unwrap_or_default();
        self.words.go_to(place);
        Words::of(Dialect::Mariadb, &[""], &text).is_none_or(|words| words.writes_file())
    }

    /// Reads the name of a block or loop, if one comes next.
    fn label(&mut self) {
        let place = self.words.place();
        if self.words.name().is_none() || !self.words.takes_token(&Token::Colon) {
            self.words.go_to(place);
        }
    }

    /// The end of a block or loop, with its name or not.
    fn ends(&mut self, word: &str) -> Result<(), String> {
        self.takes("end")?;
        if !word.is_empty() {
            self.takes(word)?;
        }
        if !self.words.is_over() && !self.words.is_semicolon() {
            self.words.name().ok_or(NOT_READ)?;
        }
        Ok(())
    }

    fn declares(&mut self, names: Vec<String>, are_rows: bool) {
        let variables = Arc::make_mut(&mut self.variables);
        if are_rows {
            variables.rows.extend(names.clone());
        }
        variables.names.extend(names);
    }

    fn block(&mut self, is_sure: bool) -> Result<(), String> {
        self.words.takes_both("not", "atomic");
        let outside = self.variables.clone();
        while self.words.takes("declare") {
            self.declaration(is_sure)?;
            self.words.takes_token(&Token::SemiColon).then_some(()).ok_or(NOT_READ)?;
        }
        self.list(&["end"], is_sure)?;
        self.variables = outside;
        self.ends("")
    }

    fn declaration(&mut self, is_sure: bool) -> Result<(), String> {
        let place = self.words.place();
        let goes_on = self.words.takes("continue");
        if (goes_on || self.words.takes_any(&["exit", "undo"])) && self.words.takes("handler") {
            // One that leaves may do so wherever a row is looked for.
            self.may_swallow |= !goes_on;
            return self.handler();
        }
        self.words.go_to(place);
        let names = self.words.list(Words::name).ok_or("a declaration in it cannot be read")?;
        if self.words.takes("condition") {
            self.words.piece_until(&[]);
            return Ok(());
        }
        if self.words.takes("cursor") {
            self.words.takes("for").then_some(()).ok_or("a cursor with parameters is opened in it")?;
            let query = self.words.piece_until(&[]).ok_or(NOT_READ)?;
            // It runs where the cursor is opened.
            self.push(What::Statement(query), false);
            return Ok(());
        }
        let are_rows = self.words.is("row");
        let kind = self.words.piece_until(&["default"]).ok_or("a declaration in it cannot be read")?;
        if Words::of(Dialect::Mariadb, &[""], &kind).is_none_or(|words| words.has("of")) {
            return Err("a variable in it has the type of something else".to_owned());
        }
        if self.words.takes("default") {
            self.expression(&[], is_sure)?;
        }
        self.declares(names, are_rows);
        Ok(())
    }

    /// What is done where something went wrong, or no row is left.
    fn handler(&mut self) -> Result<(), String> {
        self.takes("for")?;
        loop {
            let is_harmless = self.words.takes_both("not", "found") || self.words.takes("sqlwarning");
            if !is_harmless {
                self.may_swallow = true;
                let is_state = self.words.takes("sqlstate");
                if is_state {
                    self.words.takes("value");
                }
                let is_read = if is_state { self.words.text().is_some() } else { self.words.takes_number() || self.words.name().is_some() };
                is_read.then_some(()).ok_or("a handler in it cannot be read")?;
            }
            if !self.words.takes_token(&Token::Comma) {
                break;
            }
        }
        self.statement(false)
    }

    /// A loop over numbers, the rows of a query, or a cursor.
    fn counted(&mut self, is_sure: bool) -> Result<(), String> {
        let name = self.words.name().ok_or(NOT_READ)?;
        self.takes("in")?;
        self.words.takes("reverse");
        let is_query = self.words.is_parenthesis();
        let text = self.words.piece_until(&["do"]).ok_or("a loop in it cannot be read")?;
        let is_range = text.contains("..");
        match (is_query, is_range) {
            (_, true) => {
                for bound in text.split("..").filter(|bound| !bound.trim().is_empty()) {
                    self.push(What::Expression(bound.trim().to_owned()), is_sure);
                }
            }
            (true, false) => self.push(What::Statement(text), is_sure),
            (false, false) if text.contains('(') => return Err("a cursor with parameters is opened in it".to_owned()),
            // Its query is looked at where it is declared.
            (false, false) => {}
        }
        let outside = self.variables.clone();
        self.declares(vec![name], !is_range);
        self.takes("do")?;
        self.list(&["end"], false)?;
        self.variables = outside;
        self.ends("for")
    }

    /// Variables, columns of the row of a trigger, or settings.
    fn set(&mut self, is_sure: bool) -> Result<(), String> {
        let place = self.words.place();
        if ["role", "default", "password", "statement", "transaction", "names", "character", "charset"].iter().any(|w| self.words.is(w)) {
            return Err("it changes more of its session than variables".to_owned());
        }
        loop {
            let assigned = if let Some(word) = self.words.takes_sign_word() {
                (!word.starts_with("@@") && word.len() > 1).then_some(None)
            } else {
                self.words.name().and_then(|first| {
                    let field = if self.words.takes_token(&Token::Period) { Some(self.words.name()?) } else { None };
                    let is_new = self.is_trigger && first.eq_ignore_ascii_case("new");
                    match field {
                        Some(column) if is_new => Some(Some(column)),
                        Some(_) => self.variables.has(Some(&first), "").then_some(None),
                        None => self.variables.has(None, &first).then_some(None),
                    }
                })
            };
            let Some(column) = assigned else {
                // A setting, beside others: what may be set is known of them together.
                self.words.go_to(place);
                let rest = self.words.piece_until(&[]).ok_or(NOT_READ)?;
                if rest.contains(',') {
                    return Err("it sets a setting beside other things".to_owned());
                }
                self.push(What::Statement(format!("SET {rest}")), is_sure);
                return Ok(());
            };
            let is_assigned = self.words.takes_token(&Token::Eq) || self.words.takes_token(&Token::Assignment);
            is_assigned.then_some(()).ok_or(NOT_READ)?;
            let value = self.words.item().ok_or(NOT_READ)?;
            self.push(What::Expression(value), is_sure);
            if let Some(column) = column {
                self.push(What::Set(column), is_sure);
            }
            if !self.words.takes_token(&Token::Comma) {
                return Ok(());
            }
        }
    }
}

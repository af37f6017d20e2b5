//! Bodies in PL/pgSQL: which queries and expressions stand in one, whatever way it takes through them (chapter 43 of the manual).
//!
//! A body is not carried out here. All that stands in it is looked at: where nobody would refuse any of it, it does not matter which of it
//! comes; where somebody would refuse one, it is not decided whether the server comes to it.

use sqlparser::tokenizer::Token;

use super::types::is_built_in;
use crate::sql::{Dialect, Words};

/// The longest body that is read, in bytes.
const LONGEST: usize = 64 * 1024;

/// Something in a body.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Piece {
    /// A statement about rows, or the call of a procedure.
    Statement(String),
    /// One expression, or several with commas between them.
    Expression(String),
    /// A variable of the type that something else has: if that is a domain, it is checked whenever something is assigned.
    Taken(String),
}

/// Statements about rows.
const ABOUT_ROWS: &[&str] = &["select", "insert", "update", "delete", "merge", "with", "values", "table", "call"];

/// Returns all that stands in a body; the text says what in it is not followed.
pub(super) fn pieces(body: &str) -> Result<Vec<Piece>, String> {
    if body.len() > LONGEST {
        return Err(format!("its body has {} bytes, of which up to {LONGEST} are read", body.len()));
    }
    let not_read = || "its body cannot be read".to_owned();
    let mut words = Words::of(Dialect::Postgresql, &[""], body).ok_or_else(not_read)?;
    // It changes settings for what comes behind it.
    if body.to_lowercase().contains("set_config") {
        return Err("it changes settings".to_owned());
    }
    let mut out = Vec::new();
    while !words.is_over() {
        let place = words.place();
        step(&mut words, &mut out)?;
        if words.place() == place {
            return Err(not_read());
        }
    }
    Ok(out)
}

fn step(words: &mut Words, out: &mut Vec<Piece>) -> Result<(), String> {
    let expression = |words: &mut Words, ends: &[&str], out: &mut Vec<Piece>| {
        out.extend(words.piece_until(ends).map(Piece::Expression));
    };
    if words.takes_token(&Token::SemiColon) {
        return Ok(());
    }
    if takes_label(words) {
        return Ok(());
    }
    // What something is assigned to may be called like a statement.
    if let Some(value) = words.assigned() {
        out.push(Piece::Expression(value));
        return Ok(());
    }
    if ABOUT_ROWS.iter().any(|word| words.is(word)) {
        out.push(Piece::Statement(words.without_targets().ok_or("a statement in it cannot be read")?));
        return Ok(());
    }
    let verb = words.word().ok_or("its body cannot be read")?;
    match verb.as_str() {
        "declare" => return declarations(words, out),
        "begin" | "else" | "exception" | "loop" => {}
        "end" => {
            words.takes_any(&["if", "loop", "case"]);
            words.piece_until(&[]);
        }
        "when" if words.is("sqlstate") => {
            words.piece_until(&["then"]);
            words.takes("then");
        }
        "if" | "elsif" | "elseif" | "when" => {
            expression(words, &["then"], out);
            words.takes("then").then_some(()).ok_or("a condition in it cannot be read")?;
        }
        "case" => expression(words, &["when"], out),
        "while" => expression(words, &["loop"], out),
        "foreach" => {
            words.piece_until(&["in"]);
            (words.takes("in") && words.takes("array")).then_some(()).ok_or("a loop in it cannot be read")?;
            expression(words, &["loop"], out);
        }
        "for" => {
            words.piece_until(&["in"]);
            words.takes("in").then_some(()).ok_or("a loop in it cannot be read")?;
            words.takes("reverse");
            if words.is("execute") {
                return Err(RUNS_TEXTS.to_owned());
            }
            let is_query = ABOUT_ROWS.iter().any(|word| words.is(word)) || words.is_parenthesis();
            let text = words.piece_until(&["loop"]).ok_or("a loop in it cannot be read")?;
            match text.contains("..") {
                // From a number to another, maybe by a third.
                true => out.push(Piece::Expression(text.replace("..", ",").replace(" BY ", ",").replace(" by ", ","))),
                false if is_query => out.push(Piece::Statement(text)),
                // A cursor, whose query is looked at where it is declared.
                false if text.contains('(') => return Err("a cursor with arguments is opened in it".to_owned()),
                false => {}
            }
        }
        "exit" | "continue" => {
            words.piece_until(&["when"]);
            if words.takes("when") {
                expression(words, &[], out);
            }
        }
        "return" => {
            if words.takes("query") {
                if words.is("execute") {
                    return Err(RUNS_TEXTS.to_owned());
                }
                out.extend(words.piece_until(&[]).map(Piece::Statement));
            } else {
                words.takes("next");
                expression(words, &[], out);
            }
        }
        "perform" => out.extend(words.piece_until(&[]).map(|rest| Piece::Statement(format!("SELECT {rest}")))),
        "assert" => expression(words, &[], out),
        "raise" => {
            words.takes_any(&["debug", "log", "info", "notice", "warning", "exception"]);
            // A text with places for values, or the name of a condition; then both, and what else is said.
            if words.any_text().is_none() {
                words.takes("sqlstate");
                words.any_text();
                words.piece_until(&["using"]);
            }
            words.takes_token(&Token::Comma);
            expression(words, &["using"], out);
            if words.takes("using") {
                expression(words, &[], out);
            }
        }
        "open" => {
            words.name();
            if words.is_parenthesis() {
                return Err("a cursor with arguments is opened in it".to_owned());
            }
            words.piece_until(&["for"]);
            if words.takes("for") {
                if words.is("execute") {
                    return Err(RUNS_TEXTS.to_owned());
                }
                out.extend(words.piece_until(&[]).map(Piece::Statement));
            }
        }
        "fetch" | "move" | "close" | "get" => _ = words.piece_until(&[]),
        "null" | "commit" | "rollback" => _ = words.piece_until(&[]),
        "execute" => return Err(RUNS_TEXTS.to_owned()),
        other => return Err(format!("`{}` in it is not followed", other.to_uppercase())),
    }
    Ok(())
}

/// Reads the name of a block or loop, if one comes next.
fn takes_label(words: &mut Words) -> bool {
    let is_label = words.takes_token(&Token::ShiftLeft);
    if is_label {
        words.name();
        words.takes_token(&Token::ShiftRight);
    }
    is_label
}

const RUNS_TEXTS: &str = "it puts statements together and runs them (EXECUTE)";

/// Names behind `DECLARE`, up to the next `BEGIN`.
fn declarations(words: &mut Words, out: &mut Vec<Piece>) -> Result<(), String> {
    while !words.is("begin") {
        if words.takes("declare") || words.takes_token(&Token::SemiColon) || takes_label(words) {
            continue;
        }
        words.name().ok_or("a declaration in it cannot be read")?;
        if words.takes("alias") {
            words.piece_until(&[]);
            continue;
        }
        words.takes_both("no", "scroll");
        words.takes("scroll");
        if words.takes("cursor") {
            words.piece_until(&["for", "is"]);
            words.takes_any(&["for", "is"]).then_some(()).ok_or("a cursor in it cannot be read")?;
            out.extend(words.piece_until(&[]).map(Piece::Statement));
            continue;
        }
        words.takes("constant");
        let (name, value) = words.declared().ok_or("a declaration in it cannot be read")?;
        let bare = name.split('(').next().unwrap_or("").trim().trim_end_matches("[]").trim().to_lowercase();
        let is_taken_over = name.contains('%') || matches!(bare.as_str(), "record" | "refcursor");
        if name.contains('%') {
            out.push(Piece::Taken(name.clone()));
        }
        if !is_taken_over && !is_built_in(&super::types::printed(&bare)) {
            // What is checked of the type is, for what it begins with.
            out.push(Piece::Expression(format!("CAST(NULL AS {name})")));
        }
        out.extend(value.map(Piece::Expression));
    }
    Ok(())
}

//! `zest ask`: one question, or many as JSON Lines.

use std::io::BufRead;

use anyhow::{Context, Result};
use serde_json::json;
use zest_ledger::ask::{Form, Verdict};
use zest_ledger::{Engine, Question, json};

use super::{line, selection};
use crate::args::Ask;
use crate::exit::Exit;
use crate::out::{complain, flush, put, say};
use crate::{render, unknown};

/// The longest question that is read in a batch, in bytes.
const MAX_QUESTION: usize = 1 << 20;

pub(crate) fn run(args: &Ask) -> Result<Exit> {
    let given: Vec<String> = std::env::args_os().skip(1).map(|w| w.to_string_lossy().into_owned()).collect();
    if let Some(readings) = line::other_reading(&given, &args.line) {
        complain!("zest: {readings}");
        return Ok(Exit::Unknown);
    }
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    let (Some(user), Some(on)) = (&args.user, &args.on) else { return batch(&engine, args) };
    let mut question = Question::in_session(user, on, &line::of_words(&args.line), args.session.0.clone());
    if let Some(sql) = &args.sql {
        question.line.clone_from(sql);
        question.form = Form::Statement;
    }
    if let Some(systems) = selection::several(&engine, on)? {
        return on_each(&engine, &question, &systems, args);
    }
    let answer = engine.ask(&question);
    if let Some(unknown) = unknown::in_answer(&answer) {
        return Err(unknown.into());
    }
    args.format.format.print(|| json::answer(&answer), || put!("{}", render::answer::render(&answer, &args.ledger.shown())));
    Ok(exit_of(answer.verdict))
}

/// Puts one question to several systems.
fn on_each(engine: &Engine, question: &Question, systems: &[String], args: &Ask) -> Result<Exit> {
    let mut worst = Exit::Nothing;
    let mut answers = Vec::with_capacity(systems.len());
    for system in systems {
        let mut question = question.clone();
        question.system.clone_from(system);
        let answer = engine.ask(&question);
        worst = worse(worst, exit_of(answer.verdict));
        answers.push(answer);
    }
    let data = || serde_json::Value::Array(answers.iter().map(json::answer).collect());
    args.format.format.print(data, || put!("{}", render::answer::table(&answers)));
    // What one system does not know another may; what none knows is not there.
    let unknown = answers.iter().map(unknown::in_answer).collect::<Option<Vec<_>>>();
    match unknown.and_then(|list| list.into_iter().next()) {
        Some(unknown) => Err(unknown.into()),
        None => Ok(worst),
    }
}

pub(crate) const fn exit_of(verdict: Verdict) -> Exit {
    match verdict {
        Verdict::Allowed => Exit::Allowed,
        Verdict::AllowedAfter => Exit::AllowedAfter,
        Verdict::Denied => Exit::Denied,
    }
}

/// Answers one line after the other; a line that cannot be read gets an error line and the rest go on.
fn batch(engine: &Engine, args: &Ask) -> Result<Exit> {
    let mut input = std::io::stdin().lock();
    let mut worst = Exit::Nothing;
    let mut line = Vec::new();
    let mut number = 0_u64;
    while read_line(&mut input, &mut line).context("reading questions from standard input")? {
        number += 1;
        if line.iter().all(u8::is_ascii_whitespace) {
            continue;
        }
        let parsed = std::str::from_utf8(&line).map_err(|_| "not UTF-8 text".to_owned()).and_then(|text| {
            if text.len() > MAX_QUESTION {
                Err("longer than 1 MiB".to_owned())
            } else {
                json::parse_question_in(text, &args.session.0).map_err(|e| e.to_string())
            }
        });
        let error = |error: String| json!({ "error": error, "line": number });
        let (reply, exit) = match parsed {
            Ok(question) => {
                let answer = engine.ask(&question);
                match unknown::in_answer(&answer) {
                    Some(unknown) => (error(unknown.0), Exit::Unknown),
                    None => (json::answer(&answer), exit_of(answer.verdict)),
                }
            }
            Err(why) => (error(why), Exit::Unreadable),
        };
        worst = worse(worst, exit);
        say!("{reply}");
        flush()?;
    }
    Ok(worst)
}

/// Reads one line, keeping at most a little more than the longest question.
fn read_line(input: &mut impl BufRead, line: &mut Vec<u8>) -> std::io::Result<bool> {
    line.clear();
    let mut seen = false;
    loop {
        let buffer = input.fill_buf()?;
        if buffer.is_empty() {
            return Ok(seen);
        }
        seen = true;
        let end = buffer.iter().position(|&b| b == b'\n');
        let used = end.map_or(buffer.len(), |e| e + 1);
        let room = (MAX_QUESTION + 1).saturating_sub(line.len());
        line.extend_from_slice(&buffer[..end.unwrap_or(used).min(room)]);
        input.consume(used);
        if end.is_some() {
            return Ok(true);
        }
    }
}

/// A question that cannot be read outweighs one that names what is not there, that one a denied one, that one an allowed one.
const fn worse(one: Exit, other: Exit) -> Exit {
    const fn rank(exit: Exit) -> u8 {
        match exit {
            Exit::Nothing => 0,
            Exit::Allowed => 1,
            Exit::AllowedAfter => 2,
            Exit::Denied => 3,
            Exit::Unknown => 4,
            Exit::Unreadable | Exit::Unreachable | Exit::NotWritten => 5,
        }
    }
    if rank(other) > rank(one) { other } else { one }
}

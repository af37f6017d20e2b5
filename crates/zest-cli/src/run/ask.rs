//! `zest ask`: one question, or many as JSON Lines.

use std::io::{BufRead, Write};

use anyhow::{Context, Result};
use serde_json::json;
use zest_ledger::ask::{Form, Verdict};
use zest_ledger::{Engine, Question, json};

use crate::args::{Ask, Format};
use crate::exit::Exit;
use crate::render;

/// The longest question that is read in a batch, in bytes.
const MAX_QUESTION: usize = 1 << 20;

pub(crate) fn run(args: &Ask) -> Result<Exit> {
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    let (Some(user), Some(on)) = (&args.user, &args.on) else { return batch(&engine, args) };
    let mut session = args.session.session();
    session.level = args.level;
    session.mode.clone_from(&args.mode);
    let line = match args.line.as_slice() {
        [one] => one.clone(),
        // What the shell handed over as one argument stays one.
        several => several
            .iter()
            .map(|w| if w.is_empty() || w.contains(' ') { format!("\"{w}\"") } else { w.clone() })
            .collect::<Vec<_>>()
            .join(" "),
    };
    let mut question = Question::in_session(user, on, &line, session);
    if let Some(sql) = &args.sql {
        question.line.clone_from(sql);
        question.form = Form::Statement;
    }
    if let Some(systems) = super::selection::several(&engine, on)? {
        return Ok(on_each(&engine, &question, &systems, args));
    }
    let answer = engine.ask(&question);
    match args.format.format {
        Format::Text => anstream::print!("{}", render::answer::render(&answer, &args.ledger.shown())),
        Format::Json => anstream::println!("{:#}", json::answer(&answer)),
    }
    Ok(exit_of(answer.verdict))
}

/// Puts one question to several systems.
fn on_each(engine: &Engine, question: &Question, systems: &[String], args: &Ask) -> Exit {
    let mut worst = Exit::Nothing;
    let mut answers = Vec::with_capacity(systems.len());
    for system in systems {
        let mut question = question.clone();
        question.system.clone_from(system);
        let answer = engine.ask(&question);
        worst = worse(worst, exit_of(answer.verdict));
        answers.push(answer);
    }
    match args.format.format {
        Format::Text => anstream::print!("{}", render::answer::table(&answers)),
        Format::Json => anstream::println!("{:#}", serde_json::Value::Array(answers.iter().map(json::answer).collect())),
    }
    worst
}

pub(crate) const fn exit_of(verdict: Verdict) -> Exit {
    match verdict {
        Verdict::Allowed => Exit::Allowed,
        Verdict::AllowedAfter => Exit::AllowedAfter,
        Verdict::Denied => Exit::Denied,
    }
}

/// Answers one line after the other; a line that cannot be read gets an error line and the rest go on.
///
/// Facts given as options hold for every question that does not state its own.
fn batch(engine: &Engine, args: &Ask) -> Result<Exit> {
    let defaults = args.session.session();
    let mut input = std::io::stdin().lock();
    let mut output = std::io::stdout().lock();
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
                json::parse_question(text).map_err(|e| e.to_string())
            }
        });
        let (reply, exit) = match parsed {
            Ok(mut question) => {
                fill_in(&mut question, &defaults);
                let answer = engine.ask(&question);
                (json::answer(&answer), exit_of(answer.verdict))
            }
            Err(error) => (json!({ "error": error, "line": number }), Exit::Unreadable),
        };
        worst = worse(worst, exit);
        // A reader that went away has seen enough.
        if writeln!(output, "{reply}").and_then(|()| output.flush()).is_err() {
            break;
        }
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

fn fill_in(question: &mut Question, defaults: &zest_ledger::ask::Session) {
    let session = &mut question.session;
    session.at = session.at.or(defaults.at);
    session.origin = session.origin.or(defaults.origin);
    session.channel = session.channel.or(defaults.channel);
    session.active_role = session.active_role.take().or_else(|| defaults.active_role.clone());
    session.active_roles = session.active_roles.take().or_else(|| defaults.active_roles.clone());
    session.expires = session.expires.or(defaults.expires);
    if session.acting.is_empty() {
        session.acting.clone_from(&defaults.acting);
    }
    if session.attributes.is_empty() {
        session.attributes.clone_from(&defaults.attributes);
    }
    session.proofs = session.proofs.take().or_else(|| defaults.proofs.clone());
}

/// An unreadable question outweighs a denied one, that one an allowed one.
const fn worse(one: Exit, other: Exit) -> Exit {
    const fn rank(exit: Exit) -> u8 {
        match exit {
            Exit::Nothing => 0,
            Exit::Allowed => 1,
            Exit::AllowedAfter => 2,
            Exit::Denied => 3,
            Exit::Unreadable | Exit::Unreachable => 4,
        }
    }
    if rank(other) > rank(one) { other } else { one }
}

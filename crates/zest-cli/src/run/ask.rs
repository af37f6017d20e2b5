//! `zest ask`: one question, or many as JSON Lines.

use std::io::{BufRead, BufReader};
use std::path::Path;

use anyhow::{Context, Result, bail};
use jiff::Timestamp;
use serde_json::{Value, json};
use zest_ledger::ask::{Answer, Change, Form, Refusal, Remedy, Verdict, Written};
use zest_ledger::expectation::recorded;
use zest_ledger::review::{Opens, opens};
use zest_ledger::source::visible;
use zest_ledger::{Engine, Question, json};

use super::verdicts::Verdicts;
use super::{line, opened, selection};
use crate::args::Ask;
use crate::exit::Exit;
use crate::format::{Format, add, data};
use crate::out::{put, write};
use crate::render::answer::More;
use crate::unknown::Unknown;
use crate::{cores, progress, render, unknown, whole};

/// The longest question that is read in a batch, in bytes.
const MAX_QUESTION: usize = 1 << 20;

pub(crate) fn run(args: &Ask) -> Result<Exit> {
    if let Some(exit) = line::refused::<Ask>(&args.line) {
        return Ok(exit);
    }
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    let (Some(user), Some(on)) = (&args.user, &args.on) else { return batch(engine, args) };
    let mut question = Question::in_session(user, on, &line::of_words(&args.line), args.session.0.clone());
    if let Some(sql) = &args.sql {
        question.line.clone_from(sql);
        question.form = Form::Statement;
    }
    if let Some(earlier) = opened::earlier(&args.opened, &args.ledger.ledger)? {
        let earlier = match earlier {
            Ok(earlier) => earlier,
            Err(exit) => return Ok(exit),
        };
        if selection::several(engine, on)?.is_some() {
            return Err(Unknown("a session is open on one system: state one".to_owned()).into());
        }
        return opened::ask(engine, &earlier, &question, args);
    }
    if let Some(systems) = selection::several(engine, on)? {
        if args.record.is_some() {
            return Err(Unknown("one question is recorded at a time: state one system".to_owned()).into());
        }
        return on_each(engine, &question, &systems, args);
    }
    let mut answer = engine.ask_at(&question, Timestamp::now());
    if let Some(unknown) = unknown::in_answer(&answer) {
        return Err(unknown.into());
    }
    let opened = if args.opens { sorted_by_opens(engine, &mut answer) } else { Vec::new() };
    if let Some(path) = &args.record {
        record(path, &question, &answer)?;
    }
    let more =
        |number: usize, remedy: &Remedy| More { writes: writes(engine, remedy, args.paste), opens: opened.get(number).cloned().flatten() };
    let text = || put!("{}", render::answer::with_more(&answer, &args.ledger.shown(), more));
    let with_opens = || {
        let mut told = told(engine, &answer, args);
        for (opens, fields) in opened.iter().zip(told["remedies"].as_array_mut().into_iter().flatten()) {
            fields["opens"] = json!(opens);
        }
        told
    };
    let table = || render::reasons::of(&answer, &format!("ledger {}", args.ledger.shown()), more);
    args.format.format.print(with_opens, table, text);
    Ok(exit_of(answer.verdict))
}

/// Finds what each remedy opens, and puts those that are as wide in order of it.
fn sorted_by_opens(engine: &Engine, answer: &mut Answer) -> Vec<Option<Opens>> {
    let remedies = std::mem::take(&mut answer.remedies);
    let mut list: Vec<(Remedy, Option<Opens>)> = progress::during("looking at what remedies open", || {
        let one = |remedy: &Remedy| (remedy.clone(), opens(engine, answer, remedy));
        cores::each(&remedies, one)
    });
    list.sort_by_key(|(remedy, opens)| (remedy.width, opens.as_ref().map_or(0, Opens::count)));
    let (remedies, opened) = list.into_iter().unzip();
    answer.remedies = remedies;
    opened
}

/// Appends an answer to a document, as an expectation.
fn record(path: &Path, question: &Question, answer: &Answer) -> Result<()> {
    if answer.question != *question {
        bail!("the question holds a credential, and is not written down");
    }
    if answer.refusal.is_some_and(|code| matches!(code, Refusal::UnknownUser | Refusal::WrongCase)) {
        bail!("an expectation is about a user of the ledger, and `{}` is none", visible(&question.user));
    }
    whole::append(path, &recorded(answer))
}

/// What a remedy writes into the ledger, if that is to be shown.
fn writes(engine: &Engine, remedy: &Remedy, is_shown: bool) -> Vec<Written> {
    let changes: Vec<Change> = remedy.steps.iter().map(|step| step.change.clone()).filter(|c| is_shown && !c.is_of_session()).collect();
    // It was tried before it was offered, so nothing collides.
    if changes.is_empty() { Vec::new() } else { engine.written(&changes).unwrap_or_default() }
}

/// An answer as data.
fn told(engine: &Engine, answer: &Answer, args: &Ask) -> Value {
    let mut told = data(answer);
    if args.paste {
        for (remedy, fields) in answer.remedies.iter().zip(told["remedies"].as_array_mut().into_iter().flatten()) {
            fields["writes"] = writes(engine, remedy, true).iter().map(json::written).collect();
        }
    }
    told
}

/// Puts one question to several systems.
fn on_each(engine: &Engine, question: &Question, systems: &[String], args: &Ask) -> Result<Exit> {
    let mut worst = Exit::Nothing;
    let mut answers = Vec::with_capacity(systems.len());
    for system in systems {
        let mut question = question.clone();
        question.system.clone_from(system);
        let answer = engine.ask_at(&question, Timestamp::now());
        worst = worse(worst, exit_of(answer.verdict));
        answers.push(answer);
    }
    let data = || Value::Array(answers.iter().map(|answer| told(engine, answer, args)).collect());
    args.format.format.print(data, || render::reasons::of_systems(&answers), || put!("{}", render::answer::table(&answers)));
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

/// How many bytes of questions are answered before anything is written.
const BLOCK: usize = 1 << 18;
/// About as long as most replies are, in bytes.
const USUAL_REPLY: usize = 2 << 10;
const USUAL_VERDICT: usize = 64;
/// From how many questions on it pays to use all processors.
const MANY: usize = 64;

/// A line of the input, with its number from 1.
type Asked = (u64, Vec<u8>);

/// Answers lines in their order; one that cannot be read gets an error line and the rest go on.
///
/// Whatever has arrived is answered together, by all processors. So whoever waits for each answer gets it, and a file is not
/// answered line by line.
fn batch(engine: &Engine, args: &Ask) -> Result<Exit> {
    if matches!(args.format.format, Format::Csv | Format::Markdown) {
        return Err(Unknown("a batch is answered as JSON Lines: leave `--format` out".to_owned()).into());
    }
    let mut input = BufReader::with_capacity(BLOCK, std::io::stdin().lock());
    let mut workers: Vec<Verdicts<'_>> = (0..cores::processors()).map(|_| Verdicts::new(engine)).collect();
    let (mut worst, mut number, mut is_over) = (Exit::Nothing, 0, false);
    let bar = progress::of_input();
    while !is_over {
        let mut block: Vec<Asked> = Vec::new();
        while block.is_empty() || input.buffer().contains(&b'\n') {
            let mut line = Vec::new();
            if !read_line(&mut input, &mut line).context("reading questions from standard input")? {
                is_over = true;
                break;
            }
            number += 1;
            if !line.iter().all(u8::is_ascii_whitespace) {
                block.push((number, line));
            }
        }
        bar.inc(block.iter().map(|(_, line)| line.len() as u64 + 1).sum());
        for (replies, exit) in answered(engine, args, &block, &mut workers) {
            worst = worse(worst, exit);
            write(&replies)?;
        }
    }
    bar.finish_and_clear();
    Ok(worst)
}

/// Answers some lines: the replies of each part, in their order, and the worst of its exits.
fn answered(engine: &Engine, args: &Ask, block: &[Asked], workers: &mut [Verdicts<'_>]) -> Vec<(Vec<u8>, Exit)> {
    let each = |part: &[Asked], verdicts: &mut Verdicts<'_>| {
        let usual = if args.verdicts { USUAL_VERDICT } else { USUAL_REPLY };
        let (mut replies, mut worst) = (Vec::with_capacity(part.len() * usual), Exit::Nothing);
        for (number, line) in part {
            worst = worse(worst, reply(engine, args, (*number, line), verdicts, &mut replies));
            replies.push(b'\n');
        }
        (replies, worst)
    };
    if block.len() < MANY || workers.len() == 1 {
        return workers.iter_mut().take(1).map(|only| each(block, only)).collect();
    }
    std::thread::scope(|scope| {
        let parts = block.chunks(block.len().div_ceil(workers.len())).zip(workers);
        let parts: Vec<_> = parts.map(|(part, verdicts)| scope.spawn(|| each(part, verdicts))).collect();
        let join =
            |part: std::thread::ScopedJoinHandle<'_, (Vec<u8>, Exit)>| part.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        parts.into_iter().map(join).collect()
    })
}

/// Answers one line: adds the reply to others.
fn reply(engine: &Engine, args: &Ask, (number, line): (u64, &[u8]), verdicts: &mut Verdicts<'_>, replies: &mut Vec<u8>) -> Exit {
    let parsed = std::str::from_utf8(line).map_err(|_| "not UTF-8 text".to_owned()).and_then(|text| {
        if text.len() > MAX_QUESTION {
            Err("longer than 1 MiB".to_owned())
        } else {
            json::parse_question_in(text, &args.session.0).map_err(|e| e.to_string())
        }
    });
    let error = |error: String| json!({ "error": error, "line": number });
    let question = match parsed {
        Ok(question) => question,
        Err(why) => {
            add(&error(why), replies);
            return Exit::Unreadable;
        }
    };
    if args.verdicts
        && let Some(verdict) = verdicts.reply(&question, replies)
    {
        return exit_of(verdict);
    }
    let answer = if args.remedies { engine.ask_at(&question, Timestamp::now()) } else { engine.explain(&question) };
    if let Some(unknown) = unknown::in_answer(&answer) {
        add(&error(unknown.0), replies);
        return Exit::Unknown;
    }
    if args.paste {
        add(&told(engine, &answer, args), replies);
    } else {
        add(&answer, replies);
    }
    exit_of(answer.verdict)
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

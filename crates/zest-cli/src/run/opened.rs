//! `zest ask --opened`: a question about a session that was opened earlier, when the ledger was another.

use std::path::Path;

use anyhow::Result;
use jiff::Timestamp;
use zest_ledger::json::Opened;
use zest_ledger::source::visible;
use zest_ledger::{Before, Engine, Question};

use super::ask::exit_of;
use crate::args::{Ask, OpenedArgs};
use crate::exit::Exit;
use crate::format::data;
use crate::out::put;
use crate::{render, revision, unknown};

/// The ledger that was in force when a session was opened.
pub(super) struct Earlier {
    engine: &'static Engine,
    /// What says which it was.
    name: String,
    /// What stands before the names of its documents where they are cited.
    label: String,
    at: Option<Timestamp>,
}

/// Reads the ledger that was in force when the session was opened; nothing where the question is about a new one.
pub(super) fn earlier(args: &OpenedArgs, now: &Path) -> Result<Option<Result<Earlier, Exit>>> {
    let OpenedArgs { opened, was, was_at } = args;
    let revision = match (was, was_at, opened) {
        (None, None, None) => return Ok(None),
        (Some(_), ..) => None,
        (None, Some(revision), _) => Some(revision.clone()),
        (None, None, Some(moment)) => Some(revision::before(now, *moment)?),
    };
    let Some(engine) = super::as_it_was(now, was.as_deref(), revision.as_deref())? else { return Ok(None) };
    let (name, label) = match (was, revision) {
        (Some(folder), _) => (folder.display().to_string(), folder.join("").display().to_string()),
        (None, revision) => revision.map_or_else(Default::default, |revision| (revision.clone(), format!("{revision}:"))),
    };
    let earlier = |engine| Earlier { engine, name: visible(&name), label: visible(&label), at: *opened };
    Ok(Some(engine.map(earlier)))
}

/// Answers for the session that is open, and says what one would answer that is opened now.
pub(super) fn ask(engine: &Engine, earlier: &Earlier, question: &Question, args: &Ask) -> Result<Exit> {
    let Earlier { engine: then, name, label, at } = earlier;
    let before = Before { at: *at, label, ..Before::new(then) };
    let answer = engine.ask_opened(&before, question);
    if let Some(unknown) = unknown::in_answer(&answer) {
        return Err(unknown.into());
    }
    let (verdict, anew) = (answer.verdict, engine.explain(question));
    let when = at.map_or_else(String::new, |at| format!(" at {at}"));
    let facts = format!("ledger {}; opened{when} when it was {name}", args.ledger.shown());
    let table = || render::reasons::of_open_session(&answer, &anew, &facts);
    let text = || put!("{}", render::answer::of_open_session(&answer, &anew, &facts));
    args.format.format.print(|| data(&Opened::new(*at, name.clone(), answer.clone(), anew.clone())), table, text);
    Ok(exit_of(verdict))
}

//! `zest ask`: one question, or many as JSON Lines.

use anyhow::Result;
use zest_ledger::Question;
use zest_ledger::ask::Verdict;

use crate::args::{Ask, Format};
use crate::exit::Exit;
use crate::render;

pub(crate) fn run(args: &Ask) -> Result<Exit> {
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    let (Some(user), Some(on)) = (&args.user, &args.on) else { return Ok(Exit::Nothing) };
    let mut session = args.session.session();
    session.level = args.level;
    session.mode.clone_from(&args.mode);
    let answer = engine.ask(&Question::in_session(user, on, &args.line.join(" "), session));
    match args.format.format {
        Format::Text => anstream::print!("{}", render::answer::render(&answer)),
        Format::Json => {}
    }
    Ok(exit_of(answer.verdict))
}

pub(crate) const fn exit_of(verdict: Verdict) -> Exit {
    match verdict {
        Verdict::Allowed => Exit::Allowed,
        Verdict::AllowedAfter => Exit::AllowedAfter,
        Verdict::Denied => Exit::Denied,
    }
}

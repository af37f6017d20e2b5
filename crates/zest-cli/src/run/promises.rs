//! `zest promises`: statements over everybody, proved or refuted.

use std::path::Path;

use anyhow::Result;
use jiff::Timestamp;
use zest_ledger::Engine;
use zest_ledger::json::Promises;
use zest_ledger::promise::{Promised, Standing, promise, standing_in};
use zest_ledger::review::Classes;

use super::turned::Since;
use crate::args::PromisesArgs;
use crate::exit::Exit;
use crate::format::data;
use crate::out::put;
use crate::{cores, progress, render};

pub(crate) fn run(args: &PromisesArgs) -> Result<Exit> {
    let engine = match super::engine_with(&args.ledger.ledger, &args.document) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    let before = match super::as_it_was(&args.ledger.ledger, args.earlier.was.as_deref(), args.earlier.revision())?.transpose() {
        Ok(before) => before,
        Err(exit) => return Ok(exit),
    };
    let now = args.moment.moment();
    let all: Vec<usize> = (0..engine.estate().promises().len()).collect();
    let mut found = progress::during("looking at everybody", || {
        let classes = Classes::of(engine);
        cores::each(&all, |number| promise(engine, &classes, *number, now))
    });
    if let Some(before) = before {
        let classes = Classes::of(before);
        let stood = progress::during("looking at everybody as it was", || {
            cores::each(&all, |number| standing_in((before, &classes), engine, *number, now))
        });
        found.iter_mut().zip(stood).for_each(|(one, stood)| one.stood_before = Some(stood));
    }
    if let Some(since) = &args.earlier.turned_since {
        progress::during("looking for the changes", || turned(&args.ledger.ledger, since, engine, now, &mut found))?;
    }
    let has = |wanted: Standing| found.iter().any(|one| one.standing == wanted);
    let exit = if has(Standing::SaysNothing) {
        Exit::Unreadable
    } else if has(Standing::Refuted) || has(Standing::NotProved) {
        Exit::Denied
    } else if found.is_empty() {
        Exit::Nothing
    } else {
        Exit::Allowed
    };
    let text = || put!("{}", render::promises::render(&found));
    args.format.format.print(|| data(&Promises::from(found.clone())), || render::promises::in_rows(&found), text);
    Ok(exit)
}

/// Finds which revision turned each promise that was proved at a revision, and is not now.
fn turned(folder: &Path, since: &str, engine: &Engine, now: Timestamp, found: &mut [Promised]) -> Result<()> {
    let mut since = Since::of(folder, since)?;
    for (number, one) in found.iter_mut().enumerate() {
        if one.standing != Standing::Proved && one.stood_before == Some(Standing::Proved) {
            let is_proved = |there: &Engine| standing_in((there, &Classes::of(there)), engine, number, now) == Standing::Proved;
            one.turned_by = Some(since.turn(is_proved));
        }
    }
    since.finish()
}

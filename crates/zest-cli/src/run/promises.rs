//! `zest promises`: statements over everybody, proved or refuted.

use anyhow::Result;
use zest_ledger::json::Promises;
use zest_ledger::promise::{Standing, promise};
use zest_ledger::review::Classes;

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
    let now = args.moment.moment();
    let all: Vec<usize> = (0..engine.estate().promises().len()).collect();
    let found = progress::during("looking at everybody", || {
        let classes = Classes::of(engine);
        cores::each(&all, |number| promise(engine, &classes, *number, now))
    });
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
    args.format.format.print(|| data(&Promises::from(found.clone())), || put!("{}", render::promises::render(&found)));
    Ok(exit)
}

//! `zest expectations`: recorded questions, asked again.

use std::path::Path;

use anyhow::Result;
use zest_ledger::Engine;
use zest_ledger::expectation::{Asked, Covered, Part, Questions, Row, fewest, parts, proposed_text, rows};
use zest_ledger::json::{Coverage, Expectations};
use zest_ledger::review::Outcome;

use super::turned::Since;
use crate::args::ExpectationsArgs;
use crate::exit::Exit;
use crate::format::data;
use crate::out::{complain_of, put};
use crate::{cores, progress, render};

pub(crate) fn run(args: &ExpectationsArgs) -> Result<Exit> {
    let engine = match super::engine_with(&args.ledger.ledger, &args.document) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    let (rows, not_asked) = rows(engine);
    if args.propose {
        // What cannot be asked covers nothing, and would be proposed again.
        if !not_asked.list().is_empty() {
            complain_of!("{}", render::findings::render(&not_asked));
            return Ok(Exit::Unreadable);
        }
        return Ok(propose(engine, &rows));
    }
    let each: Vec<&Row<'_>> = rows.iter().collect();
    let before = match super::as_it_was(&args.ledger.ledger, args.earlier.was.as_deref(), args.earlier.revision())?.transpose() {
        Ok(before) => before,
        Err(exit) => return Ok(exit),
    };
    let ask = |row: &&Row<'_>| before.map_or_else(|| row.ask(engine), |before| row.ask_both(engine, before));
    let mut of_rows = progress::during("asking", || cores::each(&each, ask));
    if let Some(since) = &args.earlier.turned_since {
        progress::during("looking for the changes", || turned(&args.ledger.ledger, since, &rows, &mut of_rows))?;
    }
    let outcomes = of_rows.concat();
    let coverage = args.coverage.then(|| {
        let all = parts(engine);
        let uncovered = covered(engine, &all, &rows).into_iter().zip(&all).filter_map(|(covered, part)| part.told(engine, covered));
        Coverage { parts: all.len(), uncovered: uncovered.collect() }
    });
    let found = Expectations::new(not_asked.list().len(), outcomes, coverage);
    let text = || put!("{}", render::expectations::render(&found, &not_asked, args.all));
    args.format.format.print(|| data(&found), || render::expectations::in_rows(&found, &not_asked, args.all), text);
    Ok(if !not_asked.list().is_empty() {
        Exit::Unreadable
    } else if found.outcomes.is_empty() {
        Exit::Nothing
    } else if found.outcomes.iter().all(|outcome| outcome.holds) {
        Exit::Allowed
    } else {
        Exit::Denied
    })
}

/// Says of each part whether some row depends on it.
fn covered(engine: &Engine, parts: &[Part], rows: &[Row<'_>]) -> Vec<Covered> {
    let asked = Asked::of(engine, rows);
    let of = |part: &Part| if rows.is_empty() { Covered::No } else { part.is_covered_by(engine, &asked) };
    progress::during("taking each part out", || cores::each(parts, of))
}

/// Prints rows for the parts on which none depends.
fn propose(engine: &Engine, rows: &[Row<'_>]) -> Exit {
    let parts = parts(engine);
    let missing: Vec<Part> =
        covered(engine, &parts, rows).into_iter().zip(parts).filter(|(covered, _)| *covered == Covered::No).map(|(_, part)| part).collect();
    let mut proposals = progress::during("looking for questions", || {
        let questions = Questions::of(engine);
        cores::each(&missing, |part| part.proposed(&questions))
    });
    fewest(engine, &mut proposals);
    put!("{}", proposed_text(engine, &proposals));
    if proposals.is_empty() { Exit::Nothing } else { Exit::Allowed }
}

/// Finds which revision turned each answer that was the expected one at a revision, and is not now.
fn turned(folder: &Path, since: &str, rows: &[Row<'_>], of_rows: &mut [Vec<Outcome>]) -> Result<()> {
    let mut since = Since::of(folder, since)?;
    for (row, outcomes) in rows.iter().zip(of_rows) {
        let lost = outcomes.iter_mut().enumerate().filter(|(_, outcome)| !outcome.holds && outcome.held_before == Some(true));
        for (answer, outcome) in lost {
            outcome.turned_by = Some(since.turn(|there| row.ask(there).get(answer).is_some_and(|outcome| outcome.holds)));
        }
    }
    since.finish()
}

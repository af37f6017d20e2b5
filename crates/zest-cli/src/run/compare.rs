//! `zest compare`: who gained and who lost what between two ledgers.

use anyhow::Result;
use jiff::Timestamp;
use zest_ledger::Engine;
use zest_ledger::json::Comparison;
use zest_ledger::review::{Between, Difference, Touched, as_of, changed_beside, compare_on, nobodys, touched};

use crate::args::{CompareArgs, MovedRights};
use crate::exit::Exit;
use crate::format::data;
use crate::out::{complain, put};
use crate::unknown::Unknown;
use crate::{cores, progress, render};

pub(crate) fn run(args: &CompareArgs) -> Result<Exit> {
    let moments = args.then.map(|then| (args.now.unwrap_or_else(Timestamp::now), then));
    let (before, after) = match both(args, moments)? {
        Ok(both) => both,
        Err(exit) => return Ok(exit),
    };
    // Untouched parts are not looked at again; moments touch whatever has bounds.
    let touched = if args.then.is_some() { Touched::everything() } else { touched(before, after, &args.session.0) };
    let is_meant = |system: &str| touched.includes(system);
    let (people, found) = match &args.of {
        Some(of) => {
            if before.find_user(of, false).or_else(|| after.find_user(of, false)).is_none() {
                return Err(Unknown(format!("neither ledger has a user `{}`", zest_ledger::source::visible(of))).into());
            }
            (
                1,
                progress::during("comparing the ledgers", || {
                    compare_on(before, after, of, &args.session.0, |system| touched.concerns(system, of))
                }),
            )
        }
        None => everybody(before, after, args, &touched),
    };
    let mut left: Vec<String> = Vec::new();
    if args.of.is_none() {
        left = nobodys(before, is_meant);
        left.extend(nobodys(after, is_meant));
        left.sort();
        left.dedup();
    }
    if let Some((now, then)) = moments {
        let is_stated = if args.now.is_some() { "" } else { ", which is now" };
        complain!("zest: from {now}{is_stated} to {then}; who is over, or has not begun, counts as disabled");
    }
    let beside = changed_beside(before, after, &found, is_meant);
    let table = || render::compare::in_rows(&found, &beside, people, &left);
    let text = || put!("{}", render::compare::render(&found, &beside, people, &left));
    args.format.format.print(|| data(&Comparison::new(people, left.clone(), found.clone(), beside.clone())), table, text);
    let some = |of: fn(&Difference) -> bool| found.iter().any(of);
    let fails = match args.fail_on {
        None => false,
        Some(MovedRights::Gained) => some(|one| !one.gained.is_empty()),
        Some(MovedRights::Lost) => some(|one| !one.lost.is_empty()),
        Some(MovedRights::Any) => !found.is_empty() || !beside.is_empty(),
    };
    Ok(if fails { Exit::Denied } else { Exit::Allowed })
}

/// Compares what everybody may: how many they are, and what changed.
fn everybody(before: &Engine, after: &Engine, args: &CompareArgs, touched: &Touched) -> (usize, Vec<Difference>) {
    let between = Between::new(before, after, &args.session.0, touched);
    let find = || between.together(cores::each(between.parts(), |kin| between.told(kin)));
    (between.people().len(), progress::during("comparing the ledgers", find))
}

type Both = (&'static Engine, &'static Engine);

/// Reads both ledgers; what is wrong with either is said before anything is compared.
fn both(args: &CompareArgs, moments: Option<(Timestamp, Timestamp)>) -> Result<std::result::Result<Both, Exit>> {
    let now = &args.ledger.ledger;
    if let Some((now, then)) = moments {
        let engine = match super::as_it_was(&args.ledger.ledger, None, args.is_at.as_deref())? {
            Some(engine) => engine,
            None => super::engine(&args.ledger.ledger),
        };
        let at = |engine: &Engine, moment| -> Result<&'static Engine> { Ok(Box::leak(Box::new(as_of(engine, moment)?))) };
        return engine.map_or_else(|exit| Ok(Err(exit)), |engine| Ok(Ok((at(engine, now)?, at(engine, then)?))));
    }
    let Some(before) = super::as_it_was(now, args.was.as_deref(), args.was_at.as_deref())? else {
        return Err(Unknown("say what the ledger was: --was FOLDER or --was-at REVISION".to_owned()).into());
    };
    let after = match super::as_it_was(now, None, args.is_at.as_deref())? {
        Some(after) => after,
        None => super::engine(now),
    };
    Ok(before.and_then(|before| Ok((before, after?))))
}

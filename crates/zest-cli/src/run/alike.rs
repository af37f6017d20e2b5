//! `zest alike`: whether two may the same, and what only one of them may.

use anyhow::Result;
use zest_ledger::json::Alike;
use zest_ledger::review::beside;

use super::selection;
use crate::args::AlikeArgs;
use crate::exit::Exit;
use crate::format::data;
use crate::out::put;
use crate::unknown::Unknown;
use crate::{progress, render, unknown};

pub(crate) fn run(args: &AlikeArgs) -> Result<Exit> {
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    let session = &args.session.0;
    let [one, other] = unknown::subjects(engine, [&args.one, &args.other], session)?;
    let systems = selection::all(engine, &args.on)?;
    let is_meant = |name: &str| systems.iter().any(|system| system == name);
    let found = progress::during("comparing", || beside(engine, &one, &other, is_meant)).map_err(|why| Unknown(why.to_string()))?;
    let alike = Alike::new(one.user.clone(), other.user.clone(), found);
    let table = || render::compare::alike_in_rows(&alike);
    args.format.format.print(|| data(&alike), table, || put!("{}", render::compare::alike(&alike)));
    Ok(if alike.differences.is_empty() { Exit::Allowed } else { Exit::Denied })
}

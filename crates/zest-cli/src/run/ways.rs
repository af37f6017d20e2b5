//! `zest ways`: by which acts somebody could come to more than was given.

use anyhow::Result;
use zest_ledger::json::WaysFound;
use zest_ledger::source::visible;
use zest_ledger::ways::{Acts, Aim, Way, Ways, cuts};

use super::{line, selection, sought};
use crate::args::WaysArgs;
use crate::exit::Exit;
use crate::format::data;
use crate::out::put;
use crate::unknown::Unknown;
use crate::{cores, progress, render, unknown, whole};

pub(crate) fn run(args: &WaysArgs) -> Result<Exit> {
    if let Some(exit) = line::refused::<WaysArgs>(&args.line) {
        return Ok(exit);
    }
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    let estate = engine.estate();
    let of = args.of.as_ref().map(|user| unknown::user(estate, user)).transpose()?.map(|user| user.id.value.as_str());
    let systems: Vec<String> = args.on.as_ref().map_or_else(|| Ok(Vec::new()), |on| selection::all(engine, on))?;
    let systems: Vec<&str> = systems.iter().map(String::as_str).collect();
    let typed = line::of_words(&args.line);
    let session = &args.session.0;
    if session.stated_facts().next().is_some() && args.on.is_none() {
        return Err(Unknown("facts of a session go with something that is done on systems: state --on".to_owned()).into());
    }
    let is_sought = args.sql.is_some() || args.like.is_some() || !args.line.is_empty();
    let aim = match args.to.as_ref().map(|to| (to, to.split_once(':'))) {
        Some((_, Some(("user", user)))) => Some(Aim::User(&unknown::user(estate, user)?.id.value)),
        Some((_, Some(("group", group)))) => Some(Aim::Group(&unknown::group(estate, group)?.id.value)),
        Some((to, _)) => return Err(Unknown(format!("`{}` is nothing to get at: expected `user:ID` or `group:ID`", visible(to))).into()),
        None if is_sought => {
            let sought = sought::of(engine, &systems, (args.sql.as_deref(), args.like.as_deref(), &typed))?;
            Some(Aim::Do(sought, &systems, session))
        }
        None => None,
    };
    let acts = Acts::of(engine, &Vec::from_iter(aim));
    let setting_out = match of {
        Some(user) => vec![user],
        None => progress::during("looking who could come to more", || acts.candidates(aim)),
    };
    let from = |user: &&str| {
        let Some(mut ways) = Ways::of(&acts, user) else { return (Vec::new(), None) };
        let found = match aim {
            Some(aim) => ways.to(aim).into_iter().collect(),
            None => ways.all(),
        };
        (found, ways.is_cut_short.then(|| (*user).to_owned()))
    };
    let found = progress::during("looking for ways", || cores::each(&setting_out, from));
    let cut_short: Vec<String> = found.iter().filter_map(|(_, cut)| cut.clone()).collect();
    let mut ways: Vec<Way> = found.into_iter().flat_map(|(ways, _)| ways).collect();
    ways.sort_by_key(|way| way.steps.len());
    let removals = match aim.filter(|_| args.cuts) {
        Some(aim) => progress::during("taking entries out", || cuts(engine, &ways, aim)),
        None => Vec::new(),
    };
    if let Some(path) = &args.draw {
        whole::write(path, &render::ways::drawn(&ways))?;
    }
    let is_there = !ways.is_empty();
    let found = WaysFound::new(if of.is_some() { 1 } else { estate.users().len() }, cut_short, ways, removals);
    let table = || render::ways::in_rows(&found, aim.is_some());
    args.format.format.print(|| data(&found), table, || put!("{}", render::ways::render(&found, aim.is_some(), args.brief)));
    Ok(if is_there { Exit::Allowed } else { Exit::Denied })
}

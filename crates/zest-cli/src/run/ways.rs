//! `zest ways`: by which acts somebody could come to more than was given.

use anyhow::Result;
use zest_ledger::finding::nearest;
use zest_ledger::json::WaysFound;
use zest_ledger::review::{Sought, readable};
use zest_ledger::source::visible;
use zest_ledger::ways::{Aim, Way, Ways, cuts};

use super::{line, selection};
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
    let all = || estate.users().iter().map(|user| user.id.value.as_str());
    let named = |what: &str, name: &str, known: &mut dyn Iterator<Item = &str>| {
        let known: Vec<&str> = known.collect();
        if known.contains(&name) {
            return Ok(());
        }
        let near = nearest(name, known.iter().copied()).map_or(String::new(), |near| format!("; did you mean `{}`?", visible(near)));
        Err(Unknown(format!("no {what} is named `{}`{near}", visible(name))))
    };
    let people: Vec<&str> = match &args.of {
        Some(user) => {
            named("user", user, &mut all())?;
            vec![user.as_str()]
        }
        None => all().collect(),
    };
    let systems: Vec<String> = match &args.on {
        None => Vec::new(),
        Some(on) => match selection::several(engine, on)? {
            Some(several) => several,
            None => vec![unknown::system(estate, on)?.id.value.clone()],
        },
    };
    let systems: Vec<&str> = systems.iter().map(String::as_str).collect();
    let typed = line::of_words(&args.line);
    let session = &args.session.0;
    if session.stated_facts().next().is_some() && args.on.is_none() {
        return Err(Unknown("facts of a session go with something that is done on systems: state --on".to_owned()).into());
    }
    let aim = match (&args.to, &args.sql, &args.like) {
        (Some(to), ..) => Some(match to.split_once(':') {
            Some(("user", user)) => {
                named("user", user, &mut all())?;
                Aim::User(user)
            }
            Some(("group", group)) => {
                named("group", group, &mut estate.groups().iter().map(|group| group.id.value.as_str()))?;
                Aim::Group(group)
            }
            _ => return Err(Unknown(format!("`{}` is nothing to get at: expected `user:ID` or `group:ID`", visible(to))).into()),
        }),
        (None, Some(sql), _) => Some(Aim::Do(Sought::Statement(sql), &systems, session)),
        (None, None, Some(pattern)) => {
            readable(engine, &systems, pattern).map_err(|why| Unknown(format!("`{}` cannot be looked for: {why}", visible(pattern))))?;
            Some(Aim::Do(Sought::Like(pattern), &systems, session))
        }
        (None, None, None) if args.line.is_empty() => None,
        (None, None, None) => Some(Aim::Do(Sought::Line(&typed), &systems, session)),
    };
    let of = |user: &&str| {
        let Some(ways) = Ways::of(engine, user) else { return (Vec::new(), None) };
        let found = match aim {
            Some(aim) => ways.to(aim).into_iter().collect(),
            None => ways.all(),
        };
        (found, ways.is_cut_short.then(|| (*user).to_owned()))
    };
    let found = progress::during("looking for ways", || cores::each(&people, of));
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
    let found = WaysFound::new(people.len(), cut_short, ways, removals);
    args.format.format.print(|| data(&found), || put!("{}", render::ways::render(&found, aim.is_some())));
    Ok(if is_there { Exit::Allowed } else { Exit::Denied })
}

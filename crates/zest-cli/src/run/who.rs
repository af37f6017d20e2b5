//! `zest who`: everybody who may do something, and through what.

use anyhow::Result;
use zest_ledger::entry;
use zest_ledger::json::Holders;
use zest_ledger::review::{Effective, Membership, OfClass, Sought, Who, nobodys};
use zest_ledger::source::visible;

use super::{line, selection, sought};
use crate::args::WhoArgs;
use crate::exit::Exit;
use crate::format::data;
use crate::out::{complain, put};
use crate::{cores, progress, render};

/// On how many systems it is looked whether they know a line that is for nobody.
const MAX_ASKED: usize = 20;

pub(crate) fn run(args: &WhoArgs) -> Result<Exit> {
    if let Some(exit) = line::refused::<WhoArgs>(&args.line) {
        return Ok(exit);
    }
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    let systems = selection::all(engine, &args.on)?;
    let systems: Vec<&str> = systems.iter().map(String::as_str).collect();
    let typed = line::of_words(&args.line);
    let users = engine.estate().users();
    let is_meant = |user: &entry::User| is_below(user, args.path.as_deref());
    let asked = users.iter().filter(|user| is_meant(user)).count();
    if asked == 0 {
        complain!("zest: nobody has the path `{}` or one below it", visible(args.path.as_deref().unwrap_or_default()));
        return Ok(Exit::Nothing);
    }
    let sought = sought::of(engine, &systems, (args.sql.as_deref(), args.like.as_deref(), &typed))?;
    let found = progress::during("looking at everybody", || {
        let who = Who::new(engine, &systems, sought, &args.session.0);
        let held: Vec<OfClass> = cores::each(who.parts(), |part| who.held(part)).into_iter().flatten().collect();
        let people = who.people(&held);
        let meant: Vec<_> = people.into_iter().filter(|(user, _)| is_meant(engine.estate().user(*user))).collect();
        cores::each(&meant, |one| who.told(one)).concat()
    });
    let what = match sought {
        Sought::Line(text) | Sought::Statement(text) => text.to_owned(),
        Sought::Like(pattern) => format!("anything like {pattern}"),
    };
    let left = if args.path.is_some() { Vec::new() } else { nobodys(engine, |system| systems.contains(&system)) };
    let text = || put!("{}", render::who::render(&what, &found, asked, &left));
    let table = || render::who::in_rows(&what, &found, asked, &left);
    args.format.format.print(|| data(&Holders::new(asked, left.clone(), found.clone())), table, text);
    // Where no system knows the line, it is said with the words of the first.
    let not_known = |system: &&str| sought::not_known(engine, system, sought, &args.session.0);
    if found.is_empty()
        && let Some(said) = systems.iter().take(MAX_ASKED).map(not_known).collect::<Option<Vec<String>>>()
        && let (Some(system), Some(why)) = (systems.first(), said.first())
    {
        complain!("zest: on `{}` {why}; whatever a pattern takes is looked for with `--like`", visible(system));
    }
    let is_something = |listed: &Effective| listed.rights.iter().any(|r| matches!(r.allowed, Membership::Allowed | Membership::After));
    Ok(if found.iter().any(is_something) { Exit::Allowed } else { Exit::Denied })
}

/// Returns whether the path of a user is a path, or below it.
fn is_below(user: &entry::User, path: Option<&str>) -> bool {
    let Some(wanted) = path else { return true };
    let wanted = wanted.trim_end_matches("/**").trim_end_matches('/');
    let own = user.path.as_ref().map(|path| path.value.as_str());
    own.and_then(|own| own.strip_prefix(wanted)).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

//! `zest visible`: what a listing would show in a session.

use anyhow::Result;
use zest_ledger::json::Visible;
use zest_ledger::review::Seen;
use zest_ledger::source::visible;
use zest_ledger::{Question, review};

use crate::args::SessionCommand;
use crate::exit::Exit;
use crate::format::data;
use crate::out::say;
use crate::render::style::{BAD, FAINT, HEAD, at, counted, hanging};
use crate::render::table::{Table, code, words};

pub(crate) fn run(args: &SessionCommand) -> Result<Exit> {
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    crate::unknown::system(engine.estate(), &args.on)?;
    let question = Question::in_session(&args.user, &args.on, "", args.session.0.clone());
    if let Some(refused) = review::session(engine, &question).refused.filter(|refused| refused.code.names_nothing()) {
        return Err(crate::unknown::Unknown(refused.text).into());
    }
    let seen = review::visible(engine, &question);
    args.format.format.print(|| data(&Visible::from(seen.clone())), || in_rows(&seen), || show(&seen));
    Ok(if seen.shown.is_empty() { Exit::Denied } else { Exit::Allowed })
}

fn in_rows(seen: &Seen) -> Table {
    let Seen { user, system, refused, shown, on_the_way, not_known, more: _ } = seen;
    let caption = format!("`{user}` on `{system}`: {} shown", counted(shown.len(), "thing"));
    let mut table = Table::new(caption, [code("user").detail(), code("system").detail(), code("name"), words("how")]);
    for (list, how) in [(shown, "shown"), (on_the_way, "on the way"), (not_known, "not known")] {
        list.iter().for_each(|name| table.row([user.into(), system.into(), name.into(), how.into()]));
    }
    if let Some(refused) = refused {
        table.remark(format!("no such session: {}{}", refused.text, at(refused.place.as_ref())));
    }
    table
}

/// Prints it for people.
fn show(seen: &Seen) {
    say!("{HEAD}{}{HEAD:#}", hanging("", &format!("{} on {}", visible(&seen.user), visible(&seen.system))));
    if let Some(refused) = &seen.refused {
        say!(
            "  {BAD}no such session{BAD:#}  {}",
            hanging("                   ", &format!("{}{}", refused.text, at(refused.place.as_ref())))
        );
        return;
    }
    let mut all: Vec<(&str, bool)> = seen.shown.iter().map(|name| (name.as_str(), true)).collect();
    all.extend(seen.on_the_way.iter().map(|name| (name.as_str(), false)));
    // A container stands above what is in it; lines keep their order.
    if !seen.on_the_way.is_empty() {
        all.sort_unstable();
    }
    for (name, is_shown) in all {
        let name = hanging("    ", &visible(name));
        if is_shown { say!("  {name}") } else { say!("  {name}  {FAINT}on the way{FAINT:#}") }
    }
    for what in &seen.not_known {
        say!("  {BAD}not known{BAD:#}  {}", hanging("             ", &visible(what)));
    }
    say!("{HEAD}{} shown{HEAD:#}", counted(seen.shown.len(), "thing"));
}

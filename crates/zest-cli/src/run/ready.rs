//! `zest ready`: can this person start at all, and what is missing.

use anyhow::Result;
use zest_ledger::review::{Cause, Opening, Readiness};
use zest_ledger::source::visible;
use zest_ledger::{json, review};

use crate::args::Ready;
use crate::exit::Exit;
use crate::format::data;
use crate::out::{complain, say};
use crate::render::people;
use crate::render::style::{BAD, FAINT, GOOD, HEAD, at, counted, hanging};
use crate::render::table::{Table, code, places, words};

pub(crate) fn run(args: &Ready) -> Result<Exit> {
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    if let Some(on) = &args.on {
        crate::unknown::system(engine.estate(), on)?;
    }
    let Some(ready) = review::readiness(engine, &args.user, args.on.as_deref(), args.at) else {
        complain!("zest: no user is named `{}`", visible(&args.user));
        return Ok(Exit::Denied);
    };
    let text = || {
        // Systems with the same answer stand together.
        let is_same = |one: &Readiness, other: &Readiness| one.channels == other.channels && one.missing == other.missing;
        for (names, one) in people::together(&ready, |one| &one.system, is_same) {
            let (style, word) = if one.missing.is_empty() { (GOOD, "ready") } else { (BAD, "not ready") };
            let names: Vec<String> = names.iter().map(|name| visible(name)).collect();
            let who = format!("{} on {}", visible(&args.user), names.join(", "));
            say!("{style}{word}{style:#}  {HEAD}{}{HEAD:#}", hanging("           ", &who));
            for opening in &one.channels {
                say!("  {FAINT}{:<9}{FAINT:#} {}", opening.channel.word(), how(opening));
            }
            for Cause { text, place } in &one.missing {
                say!("  - {}", hanging("    ", &format!("{text}{}", at(place.as_ref()))));
            }
        }
        if ready.is_empty() {
            say!("no system is meant for `{}`", visible(&args.user));
        }
    };
    args.format.format.print(|| data(&json::Ready::new(&args.user, ready.clone())), || in_rows(&args.user, &ready), text);
    Ok(if ready.is_empty() {
        Exit::Nothing
    } else if ready.iter().all(|r| r.missing.is_empty()) {
        Exit::Allowed
    } else {
        Exit::Denied
    })
}

/// Says how a channel is opened.
fn how(opening: &Opening) -> String {
    let words: Vec<&str> = opening.proofs.iter().map(|proof| proof.word()).collect();
    match (opening.is_open, words.is_empty()) {
        (false, _) => "closed".to_owned(),
        (true, true) => "open, with what the account itself asks for".to_owned(),
        (true, false) => format!("with {}", words.join(" or ")),
    }
}

/// A row for each thing that is missing on a system, or for the system where nothing is.
fn in_rows(user: &str, ready: &[Readiness]) -> Table {
    let count = ready.iter().filter(|one| one.missing.is_empty()).count();
    let caption = format!("`{user}` is ready on {count} of {}", counted(ready.len(), "system"));
    let columns = [code("user").detail(), code("system").joined(), words("ready"), words("channels"), words("missing"), places("")];
    let mut table = Table::new(caption, columns);
    for Readiness { system, channels, missing, more: _ } in ready {
        let channels = channels.iter().map(|one| format!("{} {}", one.channel.word(), how(one))).collect::<Vec<_>>().join("; ");
        for Cause { text, place } in missing {
            table.row([user.into(), system.into(), "not ready".into(), (&channels).into(), text.into(), place.as_ref().into()]);
        }
        if missing.is_empty() {
            table.row([user.into(), system.into(), "ready".into(), channels.into(), "".into(), None.into()]);
        }
    }
    table
}

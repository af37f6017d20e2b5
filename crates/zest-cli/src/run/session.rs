//! `zest session`: who a session is, link by link.

use anyhow::Result;
use zest_ledger::entry::Channel;
use zest_ledger::review::{Refused, SessionView};
use zest_ledger::source::visible;
use zest_ledger::{Question, json, review};

use crate::args::SessionCommand;
use crate::exit::Exit;
use crate::format::data;
use crate::out::say;
use crate::render::style::{BAD, FAINT, HEAD, at, hanging};
use crate::render::table::{Table, code, places, words};

pub(crate) fn run(args: &SessionCommand) -> Result<Exit> {
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    crate::unknown::system(engine.estate(), &args.on)?;
    let view = review::session(engine, &Question::in_session(&args.user, &args.on, "", args.session.0.clone()));
    if let Some(refused) = view.refused.as_ref().filter(|refused| refused.code.names_nothing()) {
        return Err(crate::unknown::Unknown(refused.text.clone()).into());
    }
    args.format.format.print(|| data(&json::Session::from(view.clone())), || in_rows(&view), || show(&view));
    Ok(if view.refused.is_some() { Exit::Denied } else { Exit::Allowed })
}

fn in_rows(view: &SessionView) -> Table {
    let columns = [
        words("session"),
        code("system"),
        code("person"),
        words("rights of"),
        code("account"),
        code("roles"),
        words("level"),
        words("channel"),
        words("proofs"),
        words("over at"),
        words("refused"),
        words("why"),
        places(""),
    ];
    let SessionView { line, system, person, acting, account, roles, level, channel, proofs, expires, refused, more: _ } = view;
    let mut table = Table::new(format!("{line} on `{system}`"), columns);
    let (code, text, place) = match refused {
        Some(Refused { code, text, place }) => (code.code(), text.as_str(), place.as_ref()),
        None => ("", "", None),
    };
    table.row([
        line.into(),
        system.into(),
        person.into(),
        acting.into(),
        account.clone().unwrap_or_default().into(),
        roles.join(", ").into(),
        level.map_or_else(String::new, |level| level.to_string()).into(),
        channel.map_or("", Channel::word).into(),
        proofs.as_deref().map_or_else(String::new, listed).into(),
        expires.map_or_else(String::new, |moment| moment.to_string()).into(),
        code.into(),
        text.into(),
        place.into(),
    ]);
    table
}

fn listed(proofs: &[String]) -> String {
    if proofs.is_empty() { "none".to_owned() } else { proofs.join(", ") }
}

/// Prints a session for people.
fn show(view: &SessionView) {
    say!("{HEAD}{}{HEAD:#}", hanging("", &format!("{} on {}", view.line, visible(&view.system))));
    if let Some(Refused { code, text, place }) = &view.refused {
        let text = format!("{text}{} [{}]", at(place.as_ref()), code.code());
        say!("  {BAD}no such session{BAD:#}  {}", hanging("                   ", &text));
        return;
    }
    let not_stated = || format!("{FAINT}not stated{FAINT:#}");
    let rows = [
        ("person", Some(visible(&view.person))),
        ("rights of", Some(visible(&view.acting))),
        ("account", view.account.as_deref().map(visible)),
        ("roles", (!view.roles.is_empty()).then(|| view.roles.iter().map(|r| visible(r)).collect::<Vec<_>>().join(", "))),
        ("level", view.level.map(|l| l.to_string())),
        ("channel", Some(view.channel.map_or_else(not_stated, |channel| channel.word().to_owned()))),
        ("proofs", Some(view.proofs.as_deref().map_or_else(not_stated, listed))),
        ("over at", Some(view.expires.map_or_else(|| format!("{FAINT}no end{FAINT:#}"), |e| e.to_string()))),
    ];
    for (name, value) in rows {
        if let Some(value) = value {
            say!("  {name:<10} {}", hanging("             ", &value));
        }
    }
}

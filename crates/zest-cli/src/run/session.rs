//! `zest session`: who a session is, link by link.

use anyhow::Result;
use serde_json::json;
use zest_ledger::json::place;
use zest_ledger::review::SessionView;
use zest_ledger::source::visible;
use zest_ledger::{Question, review};

use crate::args::SessionCommand;
use crate::exit::Exit;
use crate::out::say;
use crate::render::style::{BAD, FAINT, HEAD, at, hanging};

pub(crate) fn run(args: &SessionCommand) -> Result<Exit> {
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    crate::unknown::system(engine.estate(), &args.on)?;
    let view = review::session(engine, &Question::in_session(&args.user, &args.on, "", args.session.0.clone()));
    if let Some((_, text, _)) = view.refused.as_ref().filter(|(code, ..)| code.names_nothing()) {
        return Err(crate::unknown::Unknown(text.clone()).into());
    }
    let data = || {
        let refused =
            view.refused.as_ref().map(|(code, text, at)| json!({ "code": code.code(), "text": text, "place": place(at.as_ref()) }));
        json!({
            "line": view.line, "on": args.on, "person": view.person, "acting": view.acting, "account": view.account, "roles": view.roles,
            "level": view.level, "channel": view.channel, "proofs": view.proofs, "expires": view.expires.map(|e| e.to_string()),
            "refused": refused,
        })
    };
    args.format.format.print(data, || show(&view, &args.on));
    Ok(if view.refused.is_some() { Exit::Denied } else { Exit::Allowed })
}

/// Prints a session for people.
fn show(view: &SessionView, on: &str) {
    say!("{HEAD}{}{HEAD:#}", hanging("", &format!("{} on {}", view.line, visible(on))));
    if let Some((code, text, place)) = &view.refused {
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
        ("channel", Some(view.channel.clone().unwrap_or_else(not_stated))),
        ("proofs", Some(view.proofs.as_ref().map_or_else(not_stated, |p| if p.is_empty() { "none".to_owned() } else { p.join(", ") }))),
        ("over at", Some(view.expires.map_or_else(|| format!("{FAINT}no end{FAINT:#}"), |e| e.to_string()))),
    ];
    for (name, value) in rows {
        if let Some(value) = value {
            say!("  {name:<10} {}", hanging("             ", &value));
        }
    }
}

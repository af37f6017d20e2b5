//! `zest ready`: can this person start at all, and what is missing.

use anyhow::Result;
use serde_json::json;
use zest_ledger::entry::Proof;
use zest_ledger::json::place;
use zest_ledger::review;
use zest_ledger::source::visible;

use crate::args::Ready;
use crate::exit::Exit;
use crate::out::{complain, say};
use crate::render::people;
use crate::render::style::{BAD, FAINT, GOOD, HEAD, at, hanging};

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
    let words = |proofs: &[Proof]| proofs.iter().map(|p| p.word()).collect::<Vec<_>>();
    let data = || {
        let systems = ready.iter().map(|r| {
            let channels: serde_json::Map<_, _> = r.channels.iter().map(|(c, p)| (c.word().to_owned(), json!(words(p)))).collect();
            let missing: Vec<_> = r.missing.iter().map(|(text, at)| json!({ "text": text, "place": place(at.as_ref()) })).collect();
            json!({ "system": r.system, "channels": channels, "missing": missing })
        });
        serde_json::Value::Array(systems.collect())
    };
    let text = || {
        // Systems with the same answer stand together.
        let is_same = |one: &review::Readiness, other: &review::Readiness| one.channels == other.channels && one.missing == other.missing;
        for (names, one) in people::together(&ready, |one| &one.system, is_same) {
            let (style, word) = if one.missing.is_empty() { (GOOD, "ready") } else { (BAD, "not ready") };
            let names: Vec<String> = names.iter().map(|name| visible(name)).collect();
            let who = format!("{} on {}", visible(&args.user), names.join(", "));
            say!("{style}{word}{style:#}  {HEAD}{}{HEAD:#}", hanging("           ", &who));
            for (channel, proofs) in &one.channels {
                let how = if proofs.is_empty() { "closed".to_owned() } else { format!("with {}", words(proofs).join(" or ")) };
                say!("  {FAINT}{:<9}{FAINT:#} {how}", channel.word());
            }
            for (text, place) in &one.missing {
                say!("  - {}", hanging("    ", &format!("{text}{}", at(place.as_ref()))));
            }
        }
        if ready.is_empty() {
            say!("no system is meant for `{}`", visible(&args.user));
        }
    };
    args.format.format.print(data, text);
    Ok(if ready.is_empty() {
        Exit::Nothing
    } else if ready.iter().all(|r| r.missing.is_empty()) {
        Exit::Allowed
    } else {
        Exit::Denied
    })
}

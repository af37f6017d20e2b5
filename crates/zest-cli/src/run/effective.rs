//! `zest effective`: what a user may do, and through what.

use anyhow::Result;
use zest_ledger::source::visible;
use zest_ledger::{Question, json, review};

use crate::args::EffectiveArgs;
use crate::exit::Exit;
use crate::out::{complain, put};
use crate::{progress, render};

pub(crate) fn run(args: &EffectiveArgs) -> Result<Exit> {
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    let session = args.session.0.clone();
    if let Some(on) = &args.on {
        crate::unknown::system(engine.estate(), on)?;
    }
    let rights = progress::during("listing permissions", || review::effective(engine, &args.user, args.on.as_deref(), &session));
    let Some(rights) = rights else {
        // The question's own words for it name the nearest user.
        let system = engine.estate().systems().first().map_or("", |s| s.id.value.as_str());
        let answer = engine.sign_in(&Question::new(&args.user, system, ""));
        complain!("zest: {}", render::answer::short(&answer));
        return Ok(Exit::Denied);
    };
    args.format.format.print(|| json::effective(&rights), || put!("{}", render::effective::render(&visible(&args.user), &rights)));
    let may_something = rights.iter().any(|r| {
        r.refused.is_none()
            && (!r.entitlements.is_empty()
                || !r.accounts.is_empty()
                || r.database.iter().any(|d| d.refused.is_none())
                || r.service.as_ref().is_some_and(|s| s.rights.iter().any(|r| !r.is_deny))
                || r.host.iter().any(|h| h.refused.is_none() || h.rules.iter().any(|r| r.allows)))
    });
    Ok(if may_something { Exit::Allowed } else { Exit::Denied })
}

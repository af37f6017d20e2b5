//! `zest effective`: what a user may do, and through what.

use anyhow::Result;
use zest_ledger::review::{NoSubject, StandIn, Subject};
use zest_ledger::{json, review};

use crate::args::EffectiveArgs;
use crate::exit::Exit;
use crate::out::{complain, put};
use crate::{progress, render, unknown};

pub(crate) fn run(args: &EffectiveArgs) -> Result<Exit> {
    let engine = match super::engine(&args.ledger.ledger) {
        Ok(engine) => engine,
        Err(exit) => return Ok(exit),
    };
    let session = args.session.0.clone();
    if let Some(on) = &args.on {
        unknown::system(engine.estate(), on)?;
    }
    let parsed = Subject::parse(engine, &args.subject);
    // What is there on one system alone is looked at there.
    let own = parsed.as_ref().ok().and_then(Subject::system).map(str::to_owned);
    let subject = match parsed.and_then(|subject| subject.stand_in(engine, &session)) {
        Ok(subject) => subject,
        Err(why) => {
            // A name that nobody knows at sign-in may nothing, which is an answer.
            let is_nobody = matches!(why, NoSubject::Unknown { what: "user", .. });
            complain!("zest: {why}");
            return Ok(if is_nobody { Exit::Denied } else { Exit::Unknown });
        }
    };
    let on = args.on.as_deref().or(own.as_deref());
    let list = if args.best { review::best } else { review::effective };
    let listed = |who: &StandIn| list(who.engine(engine), &who.user, on, &who.session);
    // OK because whoever is looked at is there.
    let rights = progress::during("listing permissions", || listed(&subject)).unwrap_or_default();
    let data = || crate::format::data(&json::EffectiveRights::from(rights.clone()));
    let caption = || format!("What {} may", subject.user);
    let table = || render::effective::in_rows(&caption(), &rights);
    args.format.format.print(data, table, || put!("{}", render::effective::render(&rights)));
    let is_something = |right: &review::Right| matches!(right.allowed, review::Membership::Allowed | review::Membership::After);
    let may_something = rights.iter().flat_map(|listed| &listed.rights).any(is_something);
    Ok(if may_something { Exit::Allowed } else { Exit::Denied })
}

//! `zest effective`: what a user may do, and through what.

use anyhow::Result;
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
    let data = || crate::format::data(&json::EffectiveRights::from(rights.clone()));
    args.format.format.print(data, || put!("{}", render::effective::render(&rights)));
    let is_something = |right: &review::Right| matches!(right.allowed, review::Membership::Allowed | review::Membership::After);
    let may_something = rights.iter().flat_map(|listed| &listed.rights).any(is_something);
    Ok(if may_something { Exit::Allowed } else { Exit::Denied })
}

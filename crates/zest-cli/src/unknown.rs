//! A name that stands for nothing: a system, a role, a mode, a code, a kind, a word of a rehearsal. One sort of mistake, with
//! one exit status in every command.

use std::fmt;

use zest_ledger::Engine;
use zest_ledger::ask::{Answer, Session};
use zest_ledger::entry::System;
use zest_ledger::estate::Estate;
use zest_ledger::finding::nearest;
use zest_ledger::review::{NoSubject, StandIn, Subject};
use zest_ledger::source::visible;

use crate::render;

/// What is not there, in words.
#[derive(Debug)]
pub(crate) struct Unknown(pub(crate) String);

impl fmt::Display for Unknown {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for Unknown {}

/// Finds a system, or names the nearest.
pub(crate) fn system<'e>(estate: &'e Estate, id: &str) -> Result<&'e System, Unknown> {
    let found = estate.systems().iter().find(|s| s.id.value == id);
    found.map(|s| &**s).ok_or_else(|| {
        let near = nearest(id, estate.systems().iter().map(|s| s.id.value.as_str()));
        let near = near.map_or(String::new(), |n| format!("; did you mean `{}`?", visible(n)));
        Unknown(format!("no system is named `{}`{near}", visible(id)))
    })
}

/// Finds two whose rights are compared. Who stands in for a group or role beside a user is like the user otherwise.
pub(crate) fn subjects(engine: &Engine, texts: [&str; 2], session: &Session) -> Result<[StandIn; 2], Unknown> {
    let unknown = |why: NoSubject| Unknown(why.to_string());
    let [one, other] = texts.map(|text| Subject::parse(engine, text).map_err(unknown));
    let (one, other) = (one?, other?);
    let like = |of: &Subject| if let Subject::User(user) = of { Some(user.clone()) } else { None };
    let stand = |who: &Subject, like: Option<String>| who.stand_in_like(engine, session, like.as_deref()).map_err(unknown);
    Ok([stand(&one, like(&other))?, stand(&other, like(&one))?])
}

/// Returns why an answer is none: the question names what is not there.
pub(crate) fn in_answer(answer: &Answer) -> Option<Unknown> {
    answer.refusal.filter(|r| r.names_nothing()).map(|_| Unknown(render::answer::short(answer)))
}

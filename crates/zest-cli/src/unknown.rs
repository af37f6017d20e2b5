//! A name that stands for nothing: a system, a role, a mode, a code, a kind, a word of a rehearsal. One sort of mistake, with
//! one exit status in every command.

use std::fmt;

use zest_ledger::Engine;
use zest_ledger::ask::{Answer, Session};
use zest_ledger::entry::{Group, System, User};
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
    found.map(|s| &**s).ok_or_else(|| named("system", id, estate.systems().iter().map(|s| s.id.value.as_str())))
}

/// Finds a user, or names the nearest.
pub(crate) fn user<'e>(estate: &'e Estate, id: &str) -> Result<&'e User, Unknown> {
    let found = estate.users().iter().find(|u| u.id.value == id);
    found.map(|u| &**u).ok_or_else(|| named("user", id, estate.users().iter().map(|u| u.id.value.as_str())))
}

/// Finds a group, or names the nearest.
pub(crate) fn group<'e>(estate: &'e Estate, id: &str) -> Result<&'e Group, Unknown> {
    let found = estate.groups().iter().find(|g| g.id.value == id);
    found.map(|g| &**g).ok_or_else(|| named("group", id, estate.groups().iter().map(|g| g.id.value.as_str())))
}

/// Says that nothing of a sort has a name, and which name is the nearest.
fn named<'n>(what: &str, name: &str, all: impl Iterator<Item = &'n str>) -> Unknown {
    let near = nearest(name, all).map_or(String::new(), |near| format!("; did you mean `{}`?", visible(near)));
    Unknown(format!("no {what} is named `{}`{near}", visible(name)))
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

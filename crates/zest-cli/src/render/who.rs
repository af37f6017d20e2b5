//! Who may do something: people who may by the same means together.

use std::fmt::Write as _;

use zest_ledger::review::{Effective, Membership};
use zest_ledger::source::visible;

use super::style::{BAD, FAINT, HEAD, hanging};
use super::{effective, people};

pub(crate) fn render(what: &str, found: &[Effective], asked: usize, not_asked: &[String]) -> String {
    let mut out = String::new();
    for (users, one) in people::together(found, |one| &one.user, |one, other| one.systems == other.systems && one.is_like(other)) {
        out.push_str(&people::head(&users, &one.systems));
        out.push_str(&effective::rights(one));
        out.push('\n');
    }
    let with = |wanted: &[Membership]| {
        let holds = |one: &&Effective| one.rights.iter().any(|right| wanted.contains(&right.allowed));
        people::how_many(found.iter().filter(holds).map(|one| one.user.as_str()))
    };
    let (may, open) = (with(&[Membership::Allowed, Membership::After]), with(&[Membership::NotDecided, Membership::NotHere]));
    let people = people::people(asked);
    let style = if may == 0 { BAD } else { HEAD };
    let _ = writeln!(out, "{style}{}{style:#}", hanging("", &format!("{may} of {people} may: {}", visible(what))));
    out.push_str(&people::nobodys(not_asked, "not looked at"));
    if open > 0 {
        let _ = writeln!(out, "{FAINT}of {open} it is not decided in some sessions{FAINT:#}");
    }
    out
}

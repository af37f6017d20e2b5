//! Who may do something: people who may by the same means together.

use std::fmt::Write as _;

use zest_ledger::review::{Effective, Membership};
use zest_ledger::source::visible;

use super::style::{BAD, FAINT, HEAD, hanging};
use super::table::Table;
use super::{effective, people};

pub(crate) fn render(what: &str, found: &[Effective], asked: usize, not_asked: &[String]) -> String {
    let mut out = String::new();
    for (users, one) in people::together(found, |one| &one.user, |one, other| one.systems == other.systems && one.is_like(other)) {
        out.push_str(&people::head(&users, &one.systems));
        out.push_str(&effective::rights(one));
        out.push('\n');
    }
    let style = if with(found, &MAY) == 0 { BAD } else { HEAD };
    let _ = writeln!(out, "{style}{}{style:#}", hanging("", &visible(&told(what, found, asked))));
    out.push_str(&people::nobodys(not_asked, "not looked at"));
    if let Some(text) = not_decided(found) {
        let _ = writeln!(out, "{FAINT}{text}{FAINT:#}");
    }
    out
}

const MAY: [Membership; 2] = [Membership::Allowed, Membership::After];

/// Counts people who have a right of which this is so.
fn with(found: &[Effective], wanted: &[Membership]) -> usize {
    let holds = |one: &&Effective| one.rights.iter().any(|right| wanted.contains(&right.allowed));
    people::how_many(found.iter().filter(holds).map(|one| one.user.as_str()))
}

/// Says how many may it.
fn told(what: &str, found: &[Effective], asked: usize) -> String {
    format!("{} of {} may: {what}", with(found, &MAY), people::people(asked))
}

fn not_decided(found: &[Effective]) -> Option<String> {
    let open = with(found, &[Membership::NotDecided, Membership::NotHere]);
    (open > 0).then(|| format!("of {open} it is not decided in some sessions"))
}

/// The same as a table.
pub(crate) fn in_rows(what: &str, found: &[Effective], asked: usize, not_asked: &[String]) -> Table {
    let mut table = effective::in_rows(&told(what, found, asked), found);
    people::remark_nobodys(&mut table, not_asked, "not looked at");
    if let Some(text) = not_decided(found) {
        table.remark(text);
    }
    table
}

//! Who may do something: people who may by the same means together.

use std::fmt::Write as _;

use zest_ledger::review::{Effective, Membership};
use zest_ledger::source::visible;

use super::effective;
use super::style::{BAD, FAINT, HEAD, counted, hanging};

pub(crate) fn render(what: &str, found: &[Effective], asked: usize, not_asked: &[String]) -> String {
    let mut out = String::new();
    let mut groups: Vec<(Vec<&str>, &Effective)> = Vec::new();
    for one in found {
        match groups.iter_mut().find(|(_, known)| effective::is_same(known, one)) {
            Some((users, _)) => users.push(&one.user),
            None => groups.push((vec![&one.user], one)),
        }
    }
    for (users, one) in &groups {
        let users: Vec<String> = users.iter().map(|user| visible(user)).collect();
        let systems: Vec<String> = one.systems.iter().map(|system| visible(system)).collect();
        let _ = writeln!(out, "{HEAD}{}{HEAD:#}", hanging("", &format!("{} on {}", users.join(", "), systems.join(", "))));
        out.push_str(&effective::rights(one));
        out.push('\n');
    }
    let with = |wanted: &[Membership]| {
        let mut users: Vec<&str> =
            found.iter().filter(|one| one.rights.iter().any(|r| wanted.contains(&r.allowed))).map(|one| one.user.as_str()).collect();
        users.dedup();
        users.len()
    };
    let (may, open) = (with(&[Membership::Allowed, Membership::After]), with(&[Membership::NotDecided, Membership::NotHere]));
    let people = counted(asked, "person").replace("persons", "people");
    let style = if may == 0 { BAD } else { HEAD };
    let _ = writeln!(out, "{style}{}{style:#}", hanging("", &format!("{may} of {people} may: {}", visible(what))));
    out.push_str(&nobodys(not_asked, "not looked at"));
    if open > 0 {
        let _ = writeln!(out, "{FAINT}of {open} it is not decided in some sessions{FAINT:#}");
    }
    out
}

/// How many accounts are told by name.
const MAX_TOLD: usize = 8;

/// Says which accounts nobody stands behind; `what` says what was not done with them.
pub(crate) fn nobodys(accounts: &[String], what: &str) -> String {
    if accounts.is_empty() {
        return String::new();
    }
    let more = accounts.len().saturating_sub(MAX_TOLD);
    let more = if more == 0 { String::new() } else { format!(" and {more} more") };
    let list = accounts.iter().take(MAX_TOLD).cloned().collect::<Vec<_>>().join(", ");
    let text = format!("{what}, since no user of the ledger stands behind them: {list}{more}");
    format!("{FAINT}{}{FAINT:#}\n", hanging("", &text))
}

//! Those of whom the same is listed, together; and how many people there are.

use super::style::{FAINT, HEAD, counted, hanging};
use super::table::Table;
use zest_ledger::source::visible;

/// Puts together what is the same, each with the names of all, in the order of the first.
pub(crate) fn together<T>(list: &[T], name: impl for<'t> Fn(&'t T) -> &'t str, is_same: impl Fn(&T, &T) -> bool) -> Vec<(Vec<&str>, &T)> {
    let mut groups: Vec<(Vec<&str>, &T)> = Vec::new();
    for one in list {
        match groups.iter_mut().find(|(_, known)| is_same(known, one)) {
            Some((names, _)) => names.push(name(one)),
            None => groups.push((vec![name(one)], one)),
        }
    }
    groups
}

/// Says of whom and of which systems something is listed.
pub(crate) fn head(users: &[&str], systems: &[String]) -> String {
    let users: Vec<String> = users.iter().map(|user| visible(user)).collect();
    let systems: Vec<String> = systems.iter().map(|system| visible(system)).collect();
    format!("{HEAD}{}{HEAD:#}\n", hanging("", &format!("{} on {}", users.join(", "), systems.join(", "))))
}

/// Counts people: "1 person", "2 people".
pub(crate) fn people(count: usize) -> String {
    if count == 1 { counted(count, "person") } else { format!("{count} people") }
}

/// Returns how many people something is so of; what is listed of one stands together.
pub(crate) fn how_many<'t>(users: impl Iterator<Item = &'t str>) -> usize {
    let mut users: Vec<&str> = users.collect();
    users.dedup();
    users.len()
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
    format!("{FAINT}{}{FAINT:#}\n", hanging("", &format!("{}{list}{more}", since_nobody(what))))
}

fn since_nobody(what: &str) -> String {
    format!("{what}, since no user of the ledger stands behind them: ")
}

/// Says in a table which accounts nobody stands behind, all of them.
pub(crate) fn remark_nobodys(table: &mut Table, accounts: &[String], what: &str) {
    if !accounts.is_empty() {
        table.remark(format!("{}`{}`", since_nobody(what), accounts.join("`, `")));
    }
}

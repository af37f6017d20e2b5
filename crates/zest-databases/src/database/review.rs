//! Reviews of database servers: what is the same on both.

use jiff::Timestamp;

use zest_engine::Engine;
use zest_model::entry::Database;
use zest_model::finding::{Code, Finding};
use zest_model::source::{Place, visible};

/// Finds accounts that nobody uses.
pub(crate) fn nobody_uses(
    engine: &Engine,
    account: &str,
    login: &str,
    used_by: bool,
    is_strong: bool,
    at: Place,
    findings: &mut Vec<Finding>,
) {
    if !used_by && !engine.estate().names().users.contains_key(login) {
        findings.push(
            Finding::new(Code::AccountWithoutUser, format!("nobody in the ledger stands behind the account `{}`", visible(account)))
                .at(at, "whose is it?")
                .help("add `used-by = [\"user:ID\"]`, or take the account out"),
        );
    }
    if is_strong && engine.estate().names().users.contains_key(login) {
        findings.push(
            Finding::new(Code::StrongAccount, format!("`{}` signs in with all rights every day", visible(account)))
                .at(at, "a person's own account")
                .help("keep all rights on an account of their own, and use it when they are needed"),
        );
    }
}

pub(crate) fn no_use(is_empty: bool, is_unused: bool, shown: &str, at: Place, findings: &mut Vec<Finding>) {
    if is_empty {
        findings.push(
            Finding::new(Code::EmptyDatabaseRole, format!("the role `{shown}` holds nothing"))
                .at(at, "no grant, no role, no object")
                .help("grant it something, or take it out"),
        );
    }
    if is_unused {
        findings.push(
            Finding::new(Code::DatabaseRoleUnused, format!("nobody is a member of the role `{shown}`"))
                .at(at, "reaches nobody")
                .help("make somebody a member, or take it out"),
        );
    }
}

/// Adds a finding for each account that is over.
pub(crate) fn over(parts: &[std::sync::Arc<Database>], at: Option<Timestamp>, findings: &mut Vec<Finding>) {
    let of_accounts = parts.iter().flat_map(|d| &d.accounts);
    for (account, until) in of_accounts.filter_map(|a| Some((a, a.until.as_ref()?))).filter(|(_, u)| at.is_some_and(|at| at >= u.value)) {
        findings.push(
            Finding::new(Code::Expired, format!("the account `{}` was good until {}", visible(&account.name.value), until.value))
                .at(until.place, "past")
                .help("take it out, or extend the date"),
        );
    }
}

//! What could be changed about a refusal of either database server.

use super::Accounts;
use zest_engine::rules::Site;
use zest_engine::ways::{Way, lent, way};
use zest_model::ask::Change;
use zest_model::source::{Place, visible};

/// How many roles are proposed of each sort.
pub(crate) const PROPOSED: usize = 4;

/// As the user or account whose name is nearest to the one that nobody has.
pub(crate) fn as_nearest(site: Site<'_>, accounts: &Accounts, name: &str) -> Vec<Way> {
    let near = accounts.nearest(site.engine().estate(), name);
    near.map(|n| way(Change::User(n.to_owned()), format!("as `{}`", visible(n)), None)).into_iter().collect()
}

/// Through each of the accounts.
pub(crate) fn through_each(accounts: &Accounts) -> Vec<Way> {
    let through = |account: &String| way(Change::Account(account.clone()), format!("through the account `{}`", visible(account)), None);
    accounts.list.iter().map(|(account, _)| through(account)).collect()
}

/// If somebody might use an account; `login` is what a person types of its name.
pub(crate) fn use_account(site: Site<'_>, accounts: &Accounts, account: &str, login: &str, user: &str, place: Place) -> Way {
    let text = format!("if `{}` could use the account `{}` (`used-by`)", visible(user), visible(account));
    let change = Change::UseAccount { system: site.entry().id.value.clone(), account: account.to_owned(), user: user.to_owned() };
    let width = lent(accounts.used_by(account).iter().map(|&(party, _)| party), login, user);
    Way { width, ..way(change, text, Some(place)) }
}

pub(crate) fn join(site: Site<'_>, account: &str, role: &str, place: Option<Place>) -> Way {
    let text = format!("if `{}` were a member of `{}`", visible(account), visible(role));
    Way {
        place,
        ..way(Change::JoinRole { system: site.entry().id.value.clone(), member: account.to_owned(), role: role.to_owned() }, text, None)
    }
}

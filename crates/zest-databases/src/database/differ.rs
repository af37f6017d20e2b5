//! For whom anything can differ where nothing but what a ledger writes of a database server does.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;

use super::server::Server;
use super::{Accounts, Rules};
use zest_engine::Engine;
use zest_engine::links::Party;
use zest_engine::rules::Site;

/// At how many moments what is held is compared, where grants end. Beyond that it can differ for anybody.
const MOMENTS: usize = 16;

/// Returns the people for whom anything can differ; nothing where it may be anybody.
pub(super) fn differs_for<R: Rules>(sites: [Site<'_>; 2], servers: [&Server<R>; 2]) -> Option<BTreeSet<String>> {
    let mut logins: BTreeSet<String> = BTreeSet::new();
    let uses = [0, 1].map(|side| uses(sites[side].engine(), &servers[side].accounts));
    for account in uses.iter().flat_map(BTreeMap::keys) {
        if uses[0].get(account) != uses[1].get(account) {
            logins.insert(R::login_of(account));
        }
    }
    for at in moments(servers)? {
        let [before, after] = servers.map(|server| server.at(at));
        logins.extend(R::differ([(servers[0], &before), (servers[1], &after)])?);
    }
    // Without a login, an account lets anybody in.
    if logins.contains("") {
        return None;
    }
    let mut people = BTreeSet::new();
    for (site, server) in sites.into_iter().zip(servers) {
        let engine = site.engine();
        let accounts = server.accounts.list.iter().map(|(account, _)| account).filter(|account| logins.contains(&R::login_of(account)));
        let parties = accounts.flat_map(|account| server.accounts.used_by(account)).map(|&(party, _)| party);
        let own = logins.iter().filter_map(|login| engine.find_user(login, false)).map(Party::User);
        let users = engine.members(parties.chain(own).collect());
        people.extend(users.map(|user| engine.estate().user(user).id.value.clone()));
    }
    Some(people)
}

/// Adds members, and members of members, to those that were found; memberships are told by who is a member, and of what.
pub(crate) fn add_members<T: Clone + Ord>(found: &mut BTreeSet<T>, memberships: impl Iterator<Item = (T, T)>) {
    let mut members: BTreeMap<T, Vec<T>> = BTreeMap::new();
    memberships.for_each(|(member, of)| members.entry(of).or_default().push(member));
    let mut queue: Vec<T> = found.iter().cloned().collect();
    while let Some(of) = queue.pop() {
        let new = members.remove(&of).unwrap_or_default().into_iter().filter(|member| found.insert(member.clone()));
        queue.extend(new);
    }
}

/// Returns the accounts, and by name who may use each besides the person whose own it is.
fn uses<'e>(engine: &'e Engine, accounts: &'e Accounts) -> BTreeMap<&'e str, BTreeSet<(bool, &'e str)>> {
    let name = |party: Party| match party {
        Party::User(user) => (false, engine.estate().user(user).id.value.as_str()),
        Party::Group(group) => (true, engine.estate().group(group).id.value.as_str()),
    };
    let of = |account: &str| accounts.used_by(account).iter().map(|&(party, _)| name(party)).collect();
    accounts.list.iter().map(|(account, _)| (account.as_str(), of(account))).collect()
}

/// Returns a moment of each stretch of time in which neither server has a grant that ends, and an unknown one; nothing where these are
/// many.
fn moments<R: Rules>(servers: [&Server<R>; 2]) -> Option<Vec<Option<Timestamp>>> {
    let ends: BTreeSet<Timestamp> = servers.into_iter().flat_map(|server| R::timed(server)).map(|end| end.value).collect();
    let before = ends.first().map(|_| Timestamp::MIN);
    (ends.len() <= MOMENTS).then(|| std::iter::once(None).chain(before.into_iter().chain(ends).map(Some)).collect())
}

//! What database servers have in common: which account a person uses, and how a privilege is asked for.

pub(crate) mod not_modelled;
pub(crate) mod remedy;
pub(crate) mod resolve;
pub(crate) mod review;

use std::sync::Arc;

use jiff::Timestamp;
use rustc_hash::{FxHashMap, FxHashSet};

use crate::ask::{Fact, Question, Refusal, Stage};
use crate::engine::Estate;
use crate::engine::entry::person;
use crate::engine::rules::Site;
use crate::engine::trace::{Stop, Trace, Understood};
use crate::finding::nearest;
use crate::links::{Party, UserId};
use crate::source::{Place, visible};

/// The accounts of a server as people use them: name, where it is written, who may use it.
#[derive(Clone, Debug, Default)]
pub(crate) struct Accounts {
    pub(crate) list: Arc<Vec<(String, Place)>>,
    pub(crate) used_by: FxHashMap<String, Vec<(Party, Place)>>,
}

impl Accounts {
    /// Returns whether somebody may use an account: their own, or one that is lent.
    pub(crate) fn may_use(&self, site: Site<'_>, user: UserId, account: &str, login: &str) -> bool {
        let lent = |list: &Vec<(Party, Place)>| list.iter().any(|&(p, _)| site.engine.membership.belongs(user, p));
        login == site.engine.estate.user(user).id.value || self.used_by.get(account).is_some_and(lent)
    }

    /// Returns whether somebody has an account; `login_of` gives what a person types of an account's name.
    pub(crate) fn has(&self, site: Site<'_>, user: UserId, login_of: impl Fn(&str) -> String) -> bool {
        self.list.iter().any(|(account, _)| self.may_use(site, user, account, &login_of(account)))
    }
}

/// Returns whether database servers look at a fact of the session.
pub(crate) const fn hears(fact: Fact) -> bool {
    match fact {
        Fact::At | Fact::Origin | Fact::Channel | Fact::Proofs | Fact::Acting | Fact::Expires | Fact::Central => true,
        Fact::Local | Fact::Account | Fact::Roles => true,
        Fact::Level | Fact::Mode | Fact::Attributes | Fact::Confirmed | Fact::ApprovedBy | Fact::ApproverProofs => false,
    }
}

/// Finds the names of the accounts a question may mean; `login_of` gives what a person types of an account's name.
pub(crate) fn accounts(
    site: Site<'_>,
    question: &Question,
    accounts: &Accounts,
    login_of: impl Fn(&str) -> String,
    trace: &mut Trace,
) -> Result<Vec<String>, Stop> {
    let engine = site.engine;
    let name = &question.user;
    let user = engine.find_user(name, false);
    let shown = visible(name);
    let is_named = |account: &str| question.session.account.as_ref().is_none_or(|a| a == account || *a == login_of(account));
    // Accounts without a login let anybody in whose origin fits.
    let anonymous =
        || -> Vec<String> { accounts.list.iter().map(|(a, _)| a.clone()).filter(|a| login_of(a).is_empty() && is_named(a)).collect() };
    if let Some(user) = user {
        person(engine, &question.session, user, trace)?;
        let may = |account: &str| {
            login_of(account) == *name
                || accounts.used_by.get(account).is_some_and(|l| l.iter().any(|&(p, _)| engine.membership.belongs(user, p)))
        };
        let found: Vec<String> = accounts.list.iter().map(|(a, _)| a.clone()).filter(|a| may(a) && is_named(a)).collect();
        // The one of the user's own name comes before those that are shared.
        let own: Vec<String> = found.iter().filter(|a| login_of(a) == *name).cloned().collect();
        let found = if own.is_empty() { found } else { own };
        let found = if found.is_empty() { anonymous() } else { found };
        if found.is_empty() {
            let wanted = question.session.account.as_ref().map_or(String::new(), |a| format!(" called `{}`", visible(a)));
            trace.refuse(Stage::Entry, Refusal::NoAccount, || {
                (format!("`{shown}` has no account{wanted} on this server"), Some(site.entry().id.place))
            })?;
            return Err(Stop);
        }
        return Ok(found);
    }
    // A login that no user of the ledger stands behind may be asked about as well.
    let found: Vec<String> = accounts.list.iter().map(|(a, _)| a.clone()).filter(|a| a == name || login_of(a) == *name).collect();
    let found = if found.is_empty() { anonymous() } else { found };
    if found.is_empty() {
        trace.refuse(Stage::Entry, Refusal::UnknownUser, || {
            let names = engine.estate.names.users.keys().map(|k| &**k).chain(accounts.list.iter().map(|(a, _)| a.as_str()));
            let near = nearest(name, names).map_or(String::new(), |n| format!("; the nearest name is `{}`", visible(n)));
            (format!("neither a user nor an account of this server is called `{shown}`{near}"), None)
        })?;
        return Err(Stop);
    }
    Ok(found)
}

/// Returns whether nobody is behind an account at a moment, though the ledger says who should be: its owner, or everybody who
/// may use it, is disabled, past the end or not yet there. And the first moment at which that will be so.
pub(crate) fn behind(estate: &Estate, accounts: &Accounts, account: &str, login: &str, at: Timestamp) -> (bool, Option<Timestamp>) {
    let users = &estate.entries.users;
    let used_by = accounts.used_by.get(account);
    let mut queue: Vec<Party> = match estate.names.users.get(login) {
        Some(&owner) => vec![Party::User(owner)],
        None => used_by.into_iter().flatten().map(|&(party, _)| party).collect(),
    };
    let mut seen: FxHashSet<Party> = FxHashSet::default();
    let (mut somebody, mut is_there, mut last) = (false, false, None);
    while let Some(party) = queue.pop() {
        match party {
            party if !seen.insert(party) => {}
            Party::Group(group) => queue.extend(estate.groups[group.index()].members.iter().map(|&(m, _)| m)),
            Party::User(user) => {
                let user = &users[user.index()];
                somebody = true;
                if user.is_there(at) {
                    let end = user.until.as_ref().map_or(Timestamp::MAX, |until| until.value);
                    last = last.max(Some(end));
                    is_there = true;
                }
            }
        }
    }
    // Of a group that only a directory knows, nobody can say that all are gone.
    let is_open = seen.iter().any(|p| matches!(p, Party::Group(g) if estate.group(*g).directory.is_some()));
    (somebody && !is_there && !is_open, last.filter(|end| *end < Timestamp::MAX && !is_open))
}

/// Returns the active role that is stated; several at a time are refused.
pub(crate) fn one_role<'q>(question: &'q Question, trace: &mut Trace) -> Result<Option<Option<&'q str>>, Stop> {
    if let Ok(role) = question.session.one_role() {
        return Ok(role);
    }
    trace.refuse(Stage::Standing, Refusal::RolesActiveTogether, || {
        ("a session on a database server has one role active at a time, and the question states several".to_owned(), None)
    })?;
    Err(Stop)
}

/// Notes the account that is used.
pub(crate) fn uses(trace: &mut Trace, question: &Question, account: &str, accounts: &Accounts) {
    trace.understood(|| Understood::Account(account.to_owned()));
    let place = accounts.list.iter().find(|(a, _)| a == account).map(|&(_, p)| p);
    let how = accounts.used_by.get(account).and_then(|l| l.first()).map(|&(_, p)| p);
    trace.pass(Stage::Entry, || {
        let (user, account) = (visible(&question.user), visible(account));
        if user == account {
            (format!("`{account}` is an account of this server"), place)
        } else {
            (format!("`{user}` uses the account `{account}`"), how.or(place))
        }
    });
}

/// A question for a privilege, as it is written: `update (amount) on table fares.price`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Asked {
    pub(crate) privilege: String,
    pub(crate) columns: Vec<String>,
    pub(crate) on: String,
    /// Whether the right to pass it on is asked for.
    pub(crate) pass_on: bool,
}

/// Reads a question for a privilege.
pub(crate) fn asked(line: &str) -> Option<Asked> {
    let line = line.trim();
    let (line, pass_on) = line.strip_prefix("pass on ").map_or((line, false), |rest| (rest.trim(), true));
    let at = line.find(" on ")?;
    let (head, on) = (line[..at].trim(), line[at + 4..].trim());
    let (privilege, columns) = match head.split_once('(') {
        Some((privilege, list)) => {
            let list = list.trim().strip_suffix(')')?;
            (privilege.trim(), list.split(',').map(|c| c.trim().to_owned()).collect())
        }
        None => (head, Vec::new()),
    };
    (!privilege.is_empty() && !on.is_empty()).then(|| Asked { privilege: privilege.to_lowercase(), columns, on: on.to_owned(), pass_on })
}

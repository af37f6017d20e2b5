//! What database servers have in common: which account a person uses, and how a privilege is asked for.

mod alike;
mod beside;
pub(crate) mod circles;
pub(crate) mod differ;
pub(crate) mod followed;
mod kind;
pub(crate) mod name;
pub(crate) mod need;
pub(crate) mod not_heard;
pub(crate) mod not_modelled;
pub(crate) mod order;
mod privileges;
pub(crate) mod remedy;
pub(crate) mod resolve;
pub(crate) mod review;
mod server;
pub(crate) mod through;

use std::sync::Arc;

use jiff::Timestamp;
use rustc_hash::{FxHashMap, FxHashSet};
use smallvec::SmallVec;

use zest_engine::Estate;
use zest_engine::entry::{channel, person};
use zest_engine::links::{GroupId, Party, UserId};
use zest_engine::rights::Action;
use zest_engine::rules::Site;
use zest_engine::trace::{Stop, Trace, Understood};
use zest_model::ask::{Fact, Form, Question, Refusal, Stage};
use zest_model::source::{Place, visible};
use zest_words::{nearest, nearest_hint};

pub(crate) use kind::{Databases, Rules};
pub(crate) use need::{Needs, On, Outcome};
pub(crate) use privileges::privilege_set;
pub(crate) use server::{Server, entered, refusing};

/// The accounts of a server as people use them: name, where it is written, who may use it.
#[derive(Clone, Debug, Default)]
pub(crate) struct Accounts {
    pub(crate) list: Arc<Vec<(String, Place)>>,
    used_by: Arc<FxHashMap<String, Vec<(Party, Place)>>>,
    /// What a layer changed about `used_by`.
    lent: FxHashMap<String, Vec<(Party, Place)>>,
    index: Arc<Index>,
}

/// Accounts, as positions in the list.
pub(crate) type Positions = SmallVec<[usize; 8]>;

/// Where accounts stand in the list, by what one looks for.
#[derive(Debug, Default)]
struct Index {
    /// What a person types of each account's name.
    logins: Vec<String>,
    by_name: FxHashMap<String, usize>,
    by_login: FxHashMap<String, Vec<usize>>,
    by_party: FxHashMap<Party, Vec<usize>>,
}

impl Accounts {
    /// Makes it of accounts in order, and who may use which; `login_of` gives what a person types of an account's name.
    pub(crate) fn new(
        list: Vec<(String, Place)>,
        used_by: FxHashMap<String, Vec<(Party, Place)>>,
        login_of: impl Fn(&str) -> String,
    ) -> Self {
        let mut index = Index { logins: list.iter().map(|(name, _)| login_of(name)).collect(), ..Index::default() };
        for (position, (name, _)) in list.iter().enumerate() {
            index.by_name.entry(name.clone()).or_insert(position);
            index.by_login.entry(index.logins[position].clone()).or_default().push(position);
            for (party, _) in used_by.get(name).into_iter().flatten() {
                index.by_party.entry(*party).or_default().push(position);
            }
        }
        Self { list: Arc::new(list), used_by: Arc::new(used_by), lent: FxHashMap::default(), index: Arc::new(index) }
    }

    /// Says who may use an account now, instead of who might.
    pub(crate) fn lend(&mut self, account: &str, parties: Vec<(Party, Place)>) {
        self.lent.insert(account.to_owned(), parties);
    }

    /// Returns who may use an account besides the person whose own it is.
    pub(crate) fn used_by(&self, account: &str) -> &[(Party, Place)] {
        self.lent.get(account).or_else(|| self.used_by.get(account)).map_or(&[], Vec::as_slice)
    }

    /// Returns whether somebody may use an account: their own, or one that is lent.
    fn may_use(&self, site: Site<'_>, user: UserId, position: usize) -> bool {
        let Index { logins, by_party, .. } = &*self.index;
        let lent = || match self.lent.get(&self.list[position].0) {
            Some(parties) => parties.iter().any(|&(party, _)| site.engine().membership().belongs(user, party)),
            None => {
                let groups = site.engine().membership().groups_of(user);
                parties(&groups, user).filter_map(|party| by_party.get(&party)).any(|lent| lent.binary_search(&position).is_ok())
            }
        };
        logins[position] == site.engine().estate().user(user).id.value || lent()
    }

    /// Returns the accounts of a name, or of a login, that somebody may use, in order, as positions in the list.
    fn usable_named(&self, site: Site<'_>, user: UserId, name: &str) -> Positions {
        let Index { by_name, by_login, .. } = &*self.index;
        let named = by_name.get(name).into_iter().chain(by_login.get(name).into_iter().flatten()).copied();
        let mut found: Positions = named.filter(|&position| self.may_use(site, user, position)).collect();
        found.sort_unstable();
        found.dedup();
        found
    }

    /// Returns the accounts that somebody may use, in order, as positions in the list.
    fn usable(&self, site: Site<'_>, user: UserId) -> Positions {
        let Index { by_name, by_login, by_party, .. } = &*self.index;
        let groups = site.engine().membership().groups_of(user);
        let lent = parties(&groups, user).filter_map(|party| by_party.get(&party)).flatten();
        let own = by_login.get(&site.engine().estate().user(user).id.value).into_iter().flatten();
        let changed = self.lent.keys().filter_map(|name| by_name.get(name));
        // What a layer changed may have taken one away as well.
        let is_still = |&position: &usize| self.lent.is_empty() || self.may_use(site, user, position);
        let mut found: Positions = lent.chain(own).chain(changed).copied().filter(is_still).collect();
        found.sort_unstable();
        found.dedup();
        found
    }

    /// Returns the names of the accounts that somebody may use, in order.
    pub(crate) fn of(&self, site: Site<'_>, user: UserId) -> impl Iterator<Item = &str> {
        self.usable(site, user).into_iter().map(|position| self.list[position].0.as_str())
    }

    /// Returns whether somebody has an account.
    pub(crate) fn has(&self, site: Site<'_>, user: UserId) -> bool {
        !self.usable(site, user).is_empty()
    }

    /// Returns the user or account whose name is nearest to one that nobody has.
    fn nearest<'n>(&'n self, estate: &'n Estate, name: &str) -> Option<&'n str> {
        nearest(name, estate.names().users.keys().map(|k| &**k).chain(self.list.iter().map(|(account, _)| account.as_str())))
    }

    fn place(&self, account: &str) -> Option<Place> {
        self.index.by_name.get(account).map(|&position| self.list[position].1)
    }
}

/// Returns what a user is who is in some groups.
fn parties(groups: &[GroupId], user: UserId) -> impl Iterator<Item = Party> {
    groups.iter().map(|group| Party::Group(*group)).chain([Party::User(user)])
}

/// Returns whether database servers look at a fact of the session.
pub(crate) const fn hears(fact: Fact) -> bool {
    match fact {
        Fact::At | Fact::Origin | Fact::Channel | Fact::Proofs | Fact::Acting | Fact::Expires | Fact::Central => true,
        Fact::Local | Fact::Account | Fact::Roles => true,
        Fact::Level | Fact::Mode | Fact::Attributes | Fact::Confirmed | Fact::ApprovedBy | Fact::ApproverProofs => false,
    }
}

/// Finds the accounts a question may mean, in order.
pub(crate) fn accounts(site: Site<'_>, question: &Question, accounts: &Accounts, trace: &mut Trace) -> Result<Positions, Stop> {
    let engine = site.engine();
    let name = &question.user;
    let user = engine.find_user(name, false);
    let Index { logins, by_name, by_login, .. } = &*accounts.index;
    let is_named =
        |&position: &usize| question.session.account.as_ref().is_none_or(|a| *a == accounts.list[position].0 || *a == logins[position]);
    // Accounts without a login let anybody in whose origin fits.
    let anonymous = || by_login.get("").into_iter().flatten().copied().filter(is_named).collect::<Positions>();
    if let Some(user) = user {
        person(engine, &question.session, user, trace)?;
        // A server has no channels: one that is not stated does not matter.
        channel(engine, &question.session, user, trace)?;
        let found = match &question.session.account {
            Some(account) => accounts.usable_named(site, user, account),
            None => accounts.usable(site, user),
        };
        // The one of the user's own name comes before those that are shared.
        let own: Positions = found.iter().copied().filter(|&p| logins[p] == *name).collect();
        let found = if own.is_empty() { found } else { own };
        let found = if found.is_empty() { anonymous() } else { found };
        if found.is_empty() {
            trace.refuse(Stage::Entry, Refusal::NoAccount, || {
                let wanted = question.session.account.as_ref().map_or(String::new(), |a| format!(" called `{}`", visible(a)));
                (format!("`{}` has no account{wanted} on this server", visible(name)), Some(site.entry().id.place))
            })?;
            return Err(Stop);
        }
        return Ok(found);
    }
    // A login that no user of the ledger stands behind may be asked about as well.
    let mut found: Positions = by_name.get(name).into_iter().chain(by_login.get(name).into_iter().flatten()).copied().collect();
    found.sort_unstable();
    found.dedup();
    let found = if found.is_empty() { anonymous() } else { found };
    if found.is_empty() {
        trace.refuse(Stage::Entry, Refusal::UnknownUser, || {
            let near = accounts.nearest(engine.estate(), name).map_or(String::new(), |n| format!("; the nearest name is `{}`", visible(n)));
            (format!("neither a user nor an account of this server is called `{}`{near}", visible(name)), None)
        })?;
        return Err(Stop);
    }
    Ok(found)
}

impl Accounts {
    /// Returns the first account of the same login, if all of some have one; and whether there is but one of them.
    pub(crate) fn of_one_login(&self, found: &[usize]) -> Option<(usize, bool)> {
        let Index { logins, by_login, .. } = &*self.index;
        match found {
            [] => None,
            [one] => Some((*one, true)),
            [first, rest @ ..] => {
                let login = &logins[*first];
                let first = *by_login.get(login)?.first()?;
                rest.iter().all(|&other| logins[other] == *login).then_some((first, false))
            }
        }
    }

    /// Returns the names of accounts.
    pub(crate) fn names(&self, found: &[usize]) -> Vec<String> {
        found.iter().map(|&position| self.list[position].0.clone()).collect()
    }
}

/// Returns whether nobody is behind an account at a moment, though the ledger says who should be: its owner, or everybody who
/// may use it, is disabled, past the end or not yet there. And the first moment at which that will be so.
pub(crate) fn behind(estate: &Estate, accounts: &Accounts, account: &str, login: &str, at: Timestamp) -> (bool, Option<Timestamp>) {
    let users = &estate.entries().users;
    let used_by = accounts.used_by(account);
    let mut queue: Vec<Party> = match estate.names().users.get(login) {
        Some(&owner) => vec![Party::User(owner)],
        None => used_by.iter().map(|&(party, _)| party).collect(),
    };
    let mut seen: FxHashSet<Party> = FxHashSet::default();
    let (mut somebody, mut is_there, mut last) = (false, false, None);
    while let Some(party) = queue.pop() {
        match party {
            party if !seen.insert(party) => {}
            Party::Group(group) => queue.extend(estate.group_links()[group.index()].members.iter().map(|&(m, _)| m)),
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
pub(crate) fn uses(trace: &mut Trace, question: &Question, account: impl FnOnce() -> String, accounts: &Accounts) {
    if !trace.explains() {
        return;
    }
    let account = &account();
    trace.understood(|| Understood::Account(account.clone()));
    let place = accounts.place(account);
    let how = accounts.used_by(account).first().map(|&(_, p)| p);
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

/// What is asked for like a privilege: whether the membership of a role may be passed on.
pub(crate) const ADMIN_OPTION: &str = "admin option";

impl Asked {
    /// Returns the role whose membership is passed on.
    ///
    /// # Errors
    /// It is not asked of a role, or of none of these.
    pub(crate) fn administered<'r>(
        &self,
        is_role: impl Fn(&str) -> bool,
        roles: impl Iterator<Item = &'r String>,
    ) -> Result<String, (Refusal, String)> {
        let Some(name) = self.on.strip_prefix("role ").filter(|_| !self.pass_on && self.columns.is_empty()) else {
            let why = format!("the admin option is asked of a role: `{ADMIN_OPTION} on role` and its name");
            return Err((Refusal::PrivilegeMisapplied, why));
        };
        if is_role(name) {
            return Ok(name.to_owned());
        }
        let near = nearest_hint(name, roles.map(String::as_str));
        Err((Refusal::UnknownRole, format!("no role is named `{}`{near}", visible(name))))
    }
}

/// How a question for the right to pass a privilege on begins.
const PASS_ON: &str = "pass on ";

/// Writes the questions for a privilege on an object and on some of its columns, and for passing each on: `update (amount)`, and on what.
pub(crate) fn questions(privilege: &str, columns: impl Iterator<Item = impl std::fmt::Display>, on: &str) -> Vec<Action> {
    let both = |asked: String| [question(&asked, on), question(&format!("{PASS_ON}{asked}"), on)];
    named(privilege, columns).flat_map(both).collect()
}

/// The same for some rows, which are not passed on.
#[cfg(feature = "postgresql")]
pub(crate) fn questions_of_rows(privilege: &str, columns: impl Iterator<Item = impl std::fmt::Display>, on: &str) -> Vec<Action> {
    named(privilege, columns).map(|asked| question(&asked, on)).collect()
}

fn named(privilege: &str, columns: impl Iterator<Item = impl std::fmt::Display>) -> impl Iterator<Item = String> {
    std::iter::once(privilege.to_owned()).chain(columns.map(move |column| format!("{privilege} ({column})")))
}

/// Writes one question that is asked like that for a privilege.
pub(crate) fn question(asked: &str, on: &str) -> Action {
    Action { line: format!("{asked} on {on}"), form: Form::Line, name: asked.to_owned(), under: on.to_owned(), like: None }
}

/// Reads a question for a privilege.
pub(crate) fn asked(line: &str) -> Option<Asked> {
    let line = line.trim();
    let (line, pass_on) = line.strip_prefix(PASS_ON).map_or((line, false), |rest| (rest.trim(), true));
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

//! Hosts: accounts with shells, limited accounts, running as another account by rules, and jobs.
//!
//! The rules that say what may be run as an account are read in order, and the first that matches decides
//! (`first-applicable`): those of the user on the account, those of the account, then the host's own. `sudo` and
//! OpenSSH are told the same (see `configuration`), and judge our answers in the tests.

pub(crate) mod argv;
mod beside;
mod configuration;
mod remedy;
pub(crate) mod resolve;
mod review;
mod rights;

use std::collections::BTreeSet;
use std::sync::Arc;

use jiff::{SignedDuration, Timestamp};
use smallvec::{SmallVec, smallvec};

use crate::engine::Engine;
use crate::engine::entry::{accepted, central_is_up, find_user, identity, not_stated, person};
use crate::engine::missing;
use crate::engine::rights::{Action, Look, Opening, Side};
use crate::engine::rules::{Alike, Beside, Combining, Kind, Left, Opened, Shown, Site, Through, no_statements};
use crate::engine::trace::{Stop, Trace, Understood};
use crate::engine::ways::{Asked, Way};
use crate::engine::{Declared, Estate};
use crate::links::resolve::Ground;
use crate::links::{FlatRule, Party, Resolver, RoleId, SetId, SetLinks, SystemId, UserId};
use resolve::{HostAccountLinks, HostLinks};
use zest_command::line::{self, read_arguments};
use zest_model::ask::{Act, Answer, Change, Fact, Question, Refusal, Running, Session, Stage};
use zest_model::entry::{Channel, IdentitySource, Otherwise, Proof, RuleVerb, SystemKey, Unrestricted, User};
use zest_model::finding::Finding;
use zest_model::listing::{Cause, SessionView};
use zest_model::source::{At, Place, visible};
use zest_model::table::Kept;
use zest_model::text::OutsideTable;
use zest_words::nearest_hint;

pub use configuration::{HostConfiguration, Untold, host_configuration};

/// The kind `host`.
#[derive(Debug)]
pub struct Host;

impl Kind for Host {
    fn tables(&self) -> &'static [OutsideTable] {
        &[]
    }

    fn words(&self) -> &'static [zest_model::entry::Kind] {
        &[zest_model::entry::Kind::HOST]
    }

    fn resolve(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, system: SystemId) -> Kept {
        Arc::new(resolver.host(&ground.entries.systems[system.index()], ground.entries))
    }

    fn amend(&self, _: &mut Resolver<'_>, _: Ground<'_>, _: SystemId, _: &Kept, _: &[Change]) -> Option<Kept> {
        None
    }

    fn complete(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, systems: &mut [Declared]) {
        resolver.are_hosts(ground.entries);
        resolver.host_rules(systems.iter().filter_map(|s| s.links.downcast_ref()), ground);
    }

    fn compile(&self, estate: &Estate, system: SystemId) -> Kept {
        Arc::clone(&estate.systems[system.index()].links)
    }

    fn hears(&self, fact: Fact) -> bool {
        match fact {
            Fact::At | Fact::Origin | Fact::Channel | Fact::Proofs | Fact::Acting | Fact::Expires | Fact::Central => true,
            Fact::Account => true,
            Fact::Level | Fact::Mode | Fact::Local | Fact::Roles | Fact::Attributes => false,
            Fact::Confirmed | Fact::ApprovedBy | Fact::ApproverProofs => false,
        }
    }

    fn looks_at(&self, key: SystemKey) -> bool {
        match key {
            SystemKey::NoCommandSet | SystemKey::IdentitySources | SystemKey::Accepts => true,
            SystemKey::Vocabulary | SystemKey::Authorisation | SystemKey::NameCase | SystemKey::WhenCentralDown => false,
            // Its accounts have a table of their own.
            SystemKey::PrivilegedAtSignIn | SystemKey::OwnLevels | SystemKey::Accounts | SystemKey::Database => false,
        }
    }

    fn combining(&self) -> Combining {
        Combining::AddedUp
    }

    fn compiles_roles(&self) -> bool {
        false
    }

    fn knows_links(&self) -> bool {
        true
    }

    fn is_left_as_account(&self) -> bool {
        true
    }

    fn tells_apart_by_name(&self, _: &str) -> bool {
        false
    }

    fn alike(&self, _: Site<'_>) -> Vec<Vec<Alike>> {
        Vec::new()
    }

    fn granted(&self, _: Site<'_>, _: &[Action]) -> Option<BTreeSet<Party>> {
        None
    }

    fn differs_for(&self, _: Site<'_>, _: Site<'_>) -> Option<BTreeSet<String>> {
        None
    }

    fn found_by(&self, _: &Side<'_>, _: &str) -> Vec<usize> {
        Vec::new()
    }

    fn login_of(&self, account: &str) -> String {
        account.to_owned()
    }

    fn leaves(&self, _: &str) -> Left {
        Left::Nothing
    }

    fn covers<'e>(&self, _: Site<'e>) -> &'e [(At<Channel>, Vec<At<Channel>>)] {
        &[]
    }

    fn open(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        let context = Context::of(site.engine, site.system).ok_or(Stop)?;
        let standing = open(context, question, trace)?;
        follow(context, question, standing, None, trace).map(drop)
    }

    fn decide(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        no_statements(site, question, trace)?;
        walk(Context::of(site.engine, site.system).ok_or(Stop)?, question, trace)
    }

    fn decide_opened(&self, _: Site<'_>, opened: &Opened<'_>, _: &Question, trace: &mut Trace) -> Result<(), Stop> {
        opened.not_told(trace)
    }

    fn ways(&self, site: Site<'_>, answer: &Answer, refusal: Refusal) -> Vec<Way> {
        let asked = match Asked::of(site, answer) {
            Ok(asked) => asked,
            Err(ways) => return ways,
        };
        if let Some(ways) = asked.person(refusal) {
            return ways;
        }
        Context::of(site.engine, site.system).map_or_else(Vec::new, |context| remedy::ways(&asked, answer, refusal, context))
    }

    fn openings(&self, site: Site<'_>, user: UserId) -> Vec<Opening> {
        rights::openings(site, user)
    }

    fn like(&self, sides: &[Side<'_>], pattern: &str) -> Result<Vec<Action>, String> {
        rights::like(sides, pattern)
    }

    fn actions(&self, sides: &[Side<'_>]) -> Vec<Action> {
        rights::actions(sides)
    }

    fn through(&self, _: Site<'_>, _: &str) -> Vec<Through> {
        Vec::new()
    }

    fn shown(&self, _: Site<'_>, _: &Question, _: &mut Trace) -> Result<Option<Shown>, Stop> {
        Ok(None)
    }

    fn beside_rights(&self, site: Site<'_>) -> Vec<Beside> {
        let of_this = site.engine.estate.entries().hosts.iter().filter(|host| host.system.value == site.entry().id.value);
        of_this.flat_map(|host| beside::beside_rights(host)).collect()
    }

    fn collections(&self, _: Site<'_>) -> Vec<(String, Vec<String>)> {
        Vec::new()
    }

    fn concerns(&self, site: Site<'_>, user: UserId) -> bool {
        review::has_account(site.engine, user, site.system)
    }

    fn missing(&self, site: Site<'_>, user: UserId, at: Option<Timestamp>) -> Vec<Cause> {
        if self.concerns(site, user) { missing::of_account(site, user, at) } else { missing::nothing("no account is there", site) }
    }

    fn view(&self, _: Site<'_>, _: &Question, _: &mut SessionView) {}

    fn reaches(&self, engine: &Engine, user: UserId) -> bool {
        engine.estate.all_links::<HostLinks>().any(|(system, _)| review::has_account(engine, user, system))
    }

    fn grants_to(&self, _: &Engine, _: RoleId) -> bool {
        false
    }

    fn sets(&self, engine: &Engine) -> Vec<SetId> {
        engine.estate.all_links::<HostLinks>().flat_map(|(_, links)| links.sets()).collect()
    }

    fn review(&self, engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
        review::review(engine, at, findings);
    }
}

/// What an evaluation looks at.
#[derive(Clone, Copy)]
pub(crate) struct Context<'e> {
    pub(crate) engine: &'e Engine,
    pub(crate) links: &'e HostLinks,
    pub(crate) system: SystemId,
}

/// A session on a host: who is behind it, and as which account it runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Standing {
    pub(crate) user: UserId,
    /// The account that was signed in with: it is the one whose password was given.
    pub(crate) first: usize,
    pub(crate) account: usize,
}

/// One rule of those that say what may be run as an account.
#[derive(Clone, Copy)]
pub(crate) struct Applied<'e> {
    /// The rule; none for what a set says of all other lines.
    pub(crate) rule: Option<&'e FlatRule>,
    pub(crate) allows: bool,
    pub(crate) proof: bool,
    pub(crate) any_environment: bool,
    pub(crate) place: Place,
}

/// What goes for all rules of a set where it is applied.
#[derive(Clone, Copy)]
struct Applying {
    proof: bool,
    any_environment: bool,
    place: Place,
}

impl Applying {
    fn rule(self, rule: &FlatRule) -> Applied<'_> {
        let Self { proof, any_environment, place: _ } = self;
        Applied { rule: Some(rule), allows: rule.verb == RuleVerb::Allow, proof, any_environment, place: rule.text.place }
    }

    /// What a set says of all other lines.
    fn rest<'e>(self, links: &'e SetLinks) -> Option<Applied<'e>> {
        let Self { proof, any_environment, place } = self;
        (links.otherwise == Otherwise::Allow).then_some(Applied { rule: None, allows: true, proof, any_environment, place })
    }

    /// All rules of a set, in order.
    fn all<'e>(self, links: &'e SetLinks) -> impl Iterator<Item = Applied<'e>> {
        links.rules.iter().map(move |rule| self.rule(rule)).chain(self.rest(links))
    }
}

/// Which rule is looked for.
#[derive(Clone, Copy)]
pub(crate) enum Sought<'l> {
    /// Any.
    Any,
    /// One that allows something.
    Allowing,
    /// One that matches a line.
    Matching(&'l [&'l str]),
}

impl<'e> Context<'e> {
    pub(crate) fn of(engine: &'e Engine, system: SystemId) -> Option<Self> {
        Some(Self { engine, links: engine.estate.links(system)?, system })
    }

    fn account(&self, index: usize) -> &'e HostAccountLinks {
        &self.links.accounts[index]
    }

    /// Returns the user of the ledger who has an account as their own: the one of the same name.
    pub(crate) fn owner(&self, account: usize) -> Option<UserId> {
        self.account(account).owner
    }

    /// Returns the accounts that somebody may be told to use, in order: nobody is told to use what is another person's own.
    fn free(&self, user: UserId) -> impl Iterator<Item = &'e HostAccountLinks> + use<'e> {
        let links = self.links;
        let own = links.logins.get(self.engine.estate.user(user).id.value.as_str()).copied();
        let split = own.map_or(0, |own| links.shared.partition_point(|&shared| shared < own));
        let (before, after) = links.shared.split_at(split);
        before.iter().copied().chain(own).chain(after.iter().copied()).map(|index| &links.accounts[index])
    }

    /// Returns the people who can sign in with an account at a moment, as far as the host itself looks: it knows no channel but
    /// the terminal.
    pub(crate) fn who_signs_in(&self, account: usize, at: Timestamp) -> impl Iterator<Item = UserId> + use<'e> {
        let this = *self;
        let entry = this.account(account);
        let is_open = entry.locked.is_none() && entry.has_shell() && entry.until.as_ref().is_none_or(|until| at < until.value);
        let users = &this.engine.estate.entries.users;
        let accepts = &this.engine.estate.system(this.system).accepts;
        let admits = accepts.is_empty() || accepts.iter().any(|(c, proofs)| c.value == Channel::Terminal && !proofs.is_empty());
        (0..users.len()).map(UserId::new).filter(move |&id| {
            is_open && admits && this.may_use(id, account) && is_there(&users[id.index()], at) && !must_change(&users[id.index()])
        })
    }

    /// Returns whether nobody can be behind an account at a moment: its owner, or everybody who may use it, is gone.
    pub(crate) fn is_dead(&self, account: usize, at: Timestamp) -> bool {
        let entry = self.account(account);
        let users = &self.engine.estate.entries.users;
        if entry.until.as_ref().is_some_and(|until| at >= until.value) {
            return true;
        }
        if let Some(owner) = self.owner(account) {
            return !is_there(&users[owner.index()], at);
        }
        let mut people = (0..users.len()).map(UserId::new).filter(|&id| self.may_use(id, account)).peekable();
        people.peek().is_some() && people.all(|id| !is_there(&users[id.index()], at))
    }

    /// Returns the first moment at which an account is over, or its owner is.
    pub(crate) fn ends(&self, account: usize) -> Option<Timestamp> {
        let of_owner = self.owner(account).and_then(|u| self.engine.estate.user(u).until.as_ref()).map(|until| until.value);
        let own = self.account(account).until.as_ref().map(|until| until.value);
        own.into_iter().chain(of_owner).min()
    }

    /// Returns whether a user may use an account: their own, or one that is lent.
    pub(crate) fn may_use(&self, user: UserId, account: usize) -> bool {
        self.owner(account) == Some(user) || self.account(account).used_by.iter().any(|&(p, _)| self.engine.membership.belongs(user, p))
    }

    /// Returns the rules under which one account may run something as another, in the order in which they are tried.
    pub(crate) fn rules(&self, from: usize, to: usize) -> Vec<Applied<'e>> {
        let mut list = Vec::new();
        self.in_sets(from, to, |links, applied| {
            list.extend(applied.all(links));
            None::<Applied<'_>>
        });
        list
    }

    /// Finds the first rule under which one account may run something as another, of those that are sought.
    pub(crate) fn find_rule(&self, from: usize, to: usize, sought: Sought<'_>) -> Option<Applied<'e>> {
        self.in_sets(from, to, |links, applied| match sought {
            Sought::Any => applied.all(links).next(),
            Sought::Allowing => applied.all(links).find(|rule| rule.allows),
            Sought::Matching(words) => {
                let rule = self.first_rule(links, words).map(|number| applied.rule(&links.rules[number]));
                rule.or_else(|| applied.rest(links))
            }
        })
    }

    /// Returns the number of the first rule of a command set that takes a line, as this host compares words.
    fn first_rule(&self, links: &SetLinks, words: &[&str]) -> Option<usize> {
        links.tree().first(words, &argv::Arguments { links: &self.links.links })
    }

    /// Goes through the command sets by which one account may run something as another, until one comes to something.
    fn in_sets<T>(&self, from: usize, to: usize, mut each: impl FnMut(&'e SetLinks, Applying) -> Option<T>) -> Option<T> {
        let target = self.account(to);
        let owner = self.owner(from);
        let is = |party: Party| owner.is_some_and(|u| self.engine.membership.belongs(u, party));
        let engine = self.engine;
        let mut first = |sets: &[SetId], proof: bool, any_environment: bool, place: Place| {
            sets.iter().find_map(|set| each(&engine.estate.sets[set.index()], Applying { proof, any_environment, place }))
        };
        for (party, sets) in &target.commands_of {
            if is(*party)
                && let Some(found) = first(sets, target.proof, false, target.place)
            {
                return Some(found);
            }
        }
        if target.used_by.iter().any(|&(p, _)| is(p))
            && let Some(found) = first(&target.commands, target.proof, false, target.place)
        {
            return Some(found);
        }
        for rule in self.links.run_as.iter().filter(|r| r.targets.contains(to)) {
            if (rule.by_accounts.contains(from) || rule.by.iter().any(|&party| is(party)))
                && let Some(found) = first(&rule.sets, rule.proof, rule.any_environment, rule.place)
            {
                return Some(found);
            }
        }
        None
    }
}

/// Returns whether somebody is there at a moment, and can prove it at a terminal.
fn is_there(user: &User, at: Timestamp) -> bool {
    user.is_there(at)
        && !user.proofs.is_empty()
        && user.channels.as_ref().is_none_or(|list| list.iter().any(|c| c.value == Channel::Terminal))
}

fn must_change(user: &User) -> bool {
    user.must_change_credential.as_ref().is_some_and(|must| must.value)
}

/// Walks through the stages of a question about a host.
pub(crate) fn walk(context: Context<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
    let words = match read_arguments(&question.line) {
        Ok(words) => words,
        Err(error) => {
            trace.refuse(Stage::Permission, Refusal::LineUnreadable, || (format!("the line cannot be read: {error}"), None))?;
            return Err(Stop);
        }
    };
    let argv = argv::read(&words);
    let standing = open(context, question, trace)?;
    if let Some(job) = question.line.trim().strip_prefix("edit-job on job/") {
        if let Some(act) = question.session.acting.first() {
            let why = || format!("editing a job is asked for the person alone, not {act}");
            return Err(no_such_link(why, trace));
        }
        return edit_job(context, standing, job, trace);
    }
    trace.understood(|| Understood::FullLine(line::join(argv.words.iter().copied())));
    let (standing, is_direct) = follow(context, question, standing, Some(&argv), trace)?;
    if !is_direct {
        typed(context, standing, &argv, trace)?;
    }
    Ok(())
}

/// Follows the links of the session; `argv` is what runs at their end, if that is known. Says as which account the
/// session then runs, and whether it does so for that line only.
///
/// A chain goes on from a login shell alone: what else an account runs is one line and ends there, and that line is the
/// one that is asked about.
fn follow(
    context: Context<'_>,
    question: &Question,
    mut standing: Standing,
    argv: Option<&argv::Argv<'_>>,
    trace: &mut Trace,
) -> Result<(Standing, bool), Stop> {
    let session = &question.session;
    let mut is_direct = false;
    let mut seen: SmallVec<[usize; 8]> = smallvec![standing.account];
    for act in &session.acting {
        let (to, running) = target(context, act, trace)?;
        if is_direct {
            let why = || format!("nobody goes on {act}: the link before it runs one line and ends there; write it as shell:LOGIN");
            return Err(no_such_link(why, trace));
        }
        match (running, argv) {
            (Running::LoginShell, _) => shell(context, session, standing, to, trace)?,
            (Running::TheLine, Some(argv)) => may_run(context, session, standing, to, argv, trace)?,
            (Running::TheLine, None) => may_run_something(context, standing, to, trace)?,
            (Running::Line(line), _) => {
                let why = || format!("`{}` is not what is asked about: write account:LOGIN, and ask for the line", visible(line));
                return Err(no_such_link(why, trace));
            }
        }
        if seen.contains(&to) {
            trace.refuse(Stage::Standing, Refusal::ActingLoop, || (format!("the chain comes back to where it was: {act}"), None))?;
            return Err(Stop);
        }
        seen.push(to);
        standing.account = to;
        is_direct = *running == Running::TheLine;
    }
    Ok((standing, is_direct))
}

/// Refuses a link that means nothing where it stands.
fn no_such_link(why: impl FnOnce() -> String, trace: &mut Trace) -> Stop {
    let _ = trace.refuse(Stage::Standing, Refusal::ActingNotKnown, || (why(), None));
    Stop
}

/// Where the line is not known yet: there must be one that may be run.
fn may_run_something(context: Context<'_>, standing: Standing, to: usize, trace: &mut Trace) -> Result<(), Stop> {
    let (from, target) = (context.account(standing.account), context.account(to));
    if context.find_rule(standing.account, to, Sought::Allowing).is_some() {
        return Ok(());
    }
    trace.refuse(Stage::Permission, Refusal::NotPermitted, || {
        (format!("`{}` may not run anything as `{}`: no rule lets it", visible(&from.login), visible(&target.login)), Some(target.place))
    })
}

/// Finds the account that a link leads to.
fn target<'a>(context: Context<'_>, act: &'a Act, trace: &mut Trace) -> Result<(usize, &'a Running), Stop> {
    let Act::Account { host, login, running } = act else {
        return Err(no_such_link(|| "on a host one runs as an account: write account:LOGIN or shell:LOGIN".to_owned(), trace));
    };
    let here = &context.engine.estate.system(context.system).id.value;
    if let Some(other) = host.as_ref().filter(|h| *h != here) {
        let why = || format!("`{}` is left for `{here}` before that: links on another host come first", visible(other));
        return Err(no_such_link(why, trace));
    }
    match context.links.logins.get(login.as_str()) {
        Some(&to) => Ok((to, running)),
        None => {
            trace.refuse(Stage::Standing, Refusal::UnknownActingIdentity, || {
                let near = nearest_hint(login, context.links.logins.keys().map(|k| &**k));
                (format!("the host has no account `{}`{near}", visible(login)), Some(context.engine.estate.system(context.system).id.place))
            })?;
            Err(Stop)
        }
    }
}

/// Opens the session on the account the user signs in with.
pub(crate) fn open(context: Context<'_>, question: &Question, trace: &mut Trace) -> Result<Standing, Stop> {
    let engine = context.engine;
    let session = &question.session;
    let user = find_user(engine, question, false, trace)?;
    person(engine, session, user, trace)?;
    // A host keeps accounts of its own, unless it says that it asks nobody but the central source.
    if !engine.estate.system(context.system).sources().contains(&IdentitySource::Local) {
        central_is_up(engine, session, user, context.system, trace)?;
    }
    let index = account_of(context, session, user, trace)?;
    identity(engine, session, user, trace)?;
    accepted(engine, session, user, context.system, trace)?;
    let account = context.account(index);
    let shown = || visible(&account.login);
    trace.understood(|| Understood::Account(account.login.clone()));
    trace.pass(Stage::Entry, || {
        let who = visible(&engine.estate.user(user).id.value);
        let how = account.used_by.iter().find(|&&(p, _)| engine.membership.belongs(user, p)).map(|&(_, place)| place);
        (format!("`{who}` signs in with the account `{}`", shown()), Some(how.unwrap_or(account.place)))
    });
    if let Some(place) = account.locked {
        trace.refuse(Stage::Entry, Refusal::AccountLocked, || (format!("the account `{}` is locked", shown()), Some(place)))?;
    }
    if let Some(until) = &account.until {
        session.ear.looked(|| Look::Moment(until.value));
        match session.at {
            None => not_stated(trace, "the time", until.place)?,
            Some(at) if at >= until.value => {
                trace.refuse(Stage::Entry, Refusal::CredentialExpired, || {
                    (format!("the account `{}` was good until {}", shown(), until.value), Some(until.place))
                })?;
            }
            Some(_) => {}
        }
    }
    if account.is_limited() {
        trace.refuse(Stage::Entry, Refusal::AccountLimited, || {
            (
                format!("nobody signs in with `{}`: only certain lines may be run as it, from their own account", shown()),
                Some(account.place),
            )
        })?;
    } else if account.shell_refuses() {
        trace.refuse(Stage::Entry, Refusal::ShellRefuses, || {
            (format!("the login shell of `{}` is `{}`, which refuses", shown(), visible(&account.shell)), Some(account.place))
        })?;
    }
    if let Some(origins) = &account.origin {
        let place = origins.0.first().map_or(account.place, |&(_, place)| place);
        session.ear.looked(|| Look::Networks(origins.list()));
        match session.origin {
            None => not_stated(trace, "the origin", place)?,
            Some(address) => match origins.find(address) {
                Some(place) => trace.pass(Stage::Entry, || (format!("the account is admitted from {address}"), Some(place))),
                None => trace.refuse(Stage::Entry, Refusal::OriginNotAdmitted, || {
                    (format!("the account `{}` is not admitted from {address}", shown()), Some(place))
                })?,
            },
        }
    }
    if let Some(must) = engine.estate.user(user).must_change_credential.as_ref().filter(|m| m.value) {
        trace.refuse(Stage::Standing, Refusal::CredentialMustChange, || {
            let who = visible(&engine.estate.user(user).id.value);
            (format!("`{who}` must change the credential before anything else"), Some(must.place))
        })?;
    }
    Ok(Standing { user, first: index, account: index })
}

/// Finds the account: the one that is named, else their own, else the only one that can be used.
fn account_of(context: Context<'_>, session: &Session, user: UserId, trace: &mut Trace) -> Result<usize, Stop> {
    let engine = context.engine;
    let place = Some(engine.estate.system(context.system).id.place);
    let name = &engine.estate.user(user).id.value;
    let accounts = &context.links.accounts;
    let mine = |&i: &usize| context.may_use(user, i);
    if let Some(login) = &session.account {
        if let Some(&index) = context.links.logins.get(login.as_str()).filter(|i| mine(i)) {
            return Ok(index);
        }
        trace.refuse(Stage::Entry, Refusal::NoAccount, || {
            (format!("`{}` may not use an account `{}` on this host", visible(name), visible(login)), place)
        })?;
        return Err(Stop);
    }
    if let Some(&own) = context.links.logins.get(name.as_str()) {
        return Ok(own);
    }
    let shared: Vec<usize> = (0..accounts.len()).filter(mine).collect();
    let open: Vec<usize> = shared.iter().copied().filter(|&i| accounts[i].has_shell()).collect();
    match (open.as_slice(), shared.as_slice()) {
        ([one], _) | ([], [one]) => Ok(*one),
        ([], _) => {
            trace.refuse(Stage::Entry, Refusal::NoAccount, || (format!("`{}` has no account on this host", visible(name)), place))?;
            Err(Stop)
        }
        (several, _) => {
            trace.refuse(Stage::Entry, Refusal::SeveralAccounts, || {
                let list: Vec<String> = several.iter().map(|&i| format!("`{}`", visible(&accounts[i].login))).collect();
                (format!("`{}` may use {}; name one", visible(name), list.join(", ")), place)
            })?;
            Err(Stop)
        }
    }
}

/// Checks that an account may run some arguments as another.
fn may_run(
    context: Context<'_>,
    session: &Session,
    standing: Standing,
    to: usize,
    argv: &argv::Argv<'_>,
    trace: &mut Trace,
) -> Result<(), Stop> {
    let (from, target) = (context.account(standing.account), context.account(to));
    let (who, whom) = (|| visible(&from.login), || visible(&target.login));
    let shown = || visible(&line::join(argv.words.iter().copied()));
    if !argv.words.first().is_some_and(|p| p.starts_with('/')) {
        return trace.refuse(Stage::Permission, Refusal::ProgramNotFull, || {
            (format!("`{}` does not begin with the full path of a program, so it is not known what would run", shown()), None)
        });
    }
    let first = |words: &[&str]| context.find_rule(standing.account, to, Sought::Matching(words));
    let found = first(&argv.words);
    // The host's own rules see the arguments joined; where that makes a difference, nothing is called allowed.
    let by_host = argv::joined(&argv.words).map_or(found, |joined| first(&joined));
    let (ours, theirs) = (found.is_some_and(|r| r.allows), by_host.is_some_and(|r| r.allows));
    let place_of = |rule: Option<Applied<'_>>| rule.map_or(target.place, |r| r.place);
    if ours != theirs {
        let what = if theirs { "would run it" } else { "would refuse it" };
        return trace.refuse(Stage::Permission, Refusal::JoinedArguments, || {
            let text = format!(
                "as separate arguments `{}` is {}; the host joins them with blanks and {what}",
                shown(),
                if ours { "permitted" } else { "not permitted" }
            );
            (text, Some(place_of(if theirs { by_host } else { found })))
        });
    }
    match found {
        None => trace.refuse(Stage::Permission, Refusal::NotPermitted, || {
            let any = context.find_rule(standing.account, to, Sought::Any);
            let text = if any.is_none() {
                format!("`{}` may not run anything as `{}`: no rule lets it run anything", who(), whom())
            } else {
                format!("no rule permits `{}` to run `{}` as `{}`", who(), shown(), whom())
            };
            (text, Some(place_of(any)))
        })?,
        Some(rule) if !rule.allows => trace.refuse(Stage::Permission, Refusal::DeniedByRule, || {
            let text = rule.rule.map_or(String::new(), |r| visible(&r.text.value));
            (format!("rule `deny {text}` refuses `{}` as `{}`", shown(), whom()), Some(rule.place))
        })?,
        Some(rule) => {
            trace.pass(Stage::Permission, || {
                let text = rule.rule.map_or_else(|| "all other lines".to_owned(), |r| visible(&r.text.value));
                (format!("`{}` may run it as `{}`: rule `allow {text}`", who(), whom()), Some(rule.place))
            });
            environment(context, &rule, argv, trace)?;
            proof(context, session, standing, &rule, trace)?;
            if let Some(duties) = rule.rule.and_then(|r| r.after.as_ref()) {
                trace.refuse(Stage::Obligations, Refusal::NobodyCan, || {
                    ("the rule wants more to be done first, and a host cannot ask for it".to_owned(), duties.confirm.or(Some(rule.place)))
                })?;
            }
        }
    }
    Ok(())
}

/// Variables that are handed over must be such as may be.
fn environment(context: Context<'_>, rule: &Applied<'_>, argv: &argv::Argv<'_>, trace: &mut Trace) -> Result<(), Stop> {
    let keep = &context.links.keep_environment;
    for name in argv.variables.iter().filter(|_| !rule.any_environment) {
        match keep.iter().find(|k| k.value == **name) {
            Some(kept) => {
                trace.pass(Stage::Permission, || (format!("the variable `{}` may be handed over", visible(name)), Some(kept.place)))
            }
            None => trace.refuse(Stage::Permission, Refusal::EnvironmentNotKept, || {
                (format!("the variable `{}` may not be handed over", visible(name)), Some(rule.place))
            })?,
        }
    }
    Ok(())
}

/// Whether identity was proven for it, recently enough, with the password of the account that runs it. What is stated is
/// that of the account that was signed in with; in the shell of another it does not count.
fn proof(context: Context<'_>, session: &Session, standing: Standing, rule: &Applied<'_>, trace: &mut Trace) -> Result<(), Stop> {
    if !rule.proof {
        return Ok(());
    }
    // `sudo` asks for the password of the account, so whoever has none can never give it.
    let owner = context.owner(standing.account).map(|user| context.engine.estate.user(user));
    if let Some(user) = owner.filter(|user| !user.proofs.iter().any(|p| p.value == Proof::Password)) {
        return trace.refuse(Stage::Obligations, Refusal::NobodyCan, || {
            (format!("identity must be proven for it with the password, and `{}` has none", visible(&user.id.value)), Some(rule.place))
        });
    }
    let lasts = context.links.proof_lasts.unwrap_or(SignedDuration::ZERO);
    session.ear.looked(|| Look::Age(Some(Proof::Password), lasts));
    let facts = context.engine.facts(session, standing.user, context.system);
    if standing.account != standing.first {
        let login = visible(&context.account(standing.account).login);
        trace.ask(|| (format!("identity must be proven for it, with the password of `{login}`"), Some(rule.place)));
    } else if facts.counting().any(|p| p.proof == Proof::Password && p.age <= lasts) {
        trace.pass(Stage::Obligations, || ("identity was proven for it".to_owned(), Some(rule.place)));
    } else {
        trace.ask(|| ("identity must be proven for it, with the password".to_owned(), Some(rule.place)));
    }
    Ok(())
}

/// A login shell is entered where the shell itself may be run, without arguments, and does not refuse.
fn shell(context: Context<'_>, session: &Session, standing: Standing, to: usize, trace: &mut Trace) -> Result<(), Stop> {
    let target = context.account(to);
    if target.shell_refuses() {
        trace.refuse(Stage::Standing, Refusal::ShellRefuses, || {
            (format!("the login shell of `{}` is `{}`, which refuses", visible(&target.login), visible(&target.shell)), Some(target.place))
        })?;
    }
    let argv = argv::read(&[target.shell.as_str()]);
    may_run(context, session, standing, to, &argv, trace)
}

/// A line typed in the account's own shell: whatever the account itself may do.
fn typed(context: Context<'_>, standing: Standing, argv: &argv::Argv<'_>, trace: &mut Trace) -> Result<(), Stop> {
    if let Some(program) = argv::becomes_another(argv) {
        let why = || {
            format!("`{program}` goes on as another account: ask with --acting account:LOGIN or shell:LOGIN, and the line that runs then")
        };
        return Err(no_such_link(why, trace));
    }
    let system = context.engine.estate.system(context.system);
    let place = system.no_command_set.as_ref().map_or(context.account(standing.account).place, |n| n.place);
    if system.without_set() == Unrestricted::Nothing {
        return trace.refuse(Stage::Permission, Refusal::NoCommandSet, || {
            let login = visible(&context.account(standing.account).login);
            (format!("no command set is attached to `{login}`, and here that means nothing"), Some(place))
        });
    }
    trace.pass(Stage::Permission, || {
        let shown = visible(&line::join(argv.words.iter().copied()));
        (format!("no command set limits `{shown}`; it runs with the account's own rights"), Some(place))
    });
    Ok(())
}

/// Editing what a job runs is a right of its own: whoever does becomes the job's account.
fn edit_job(context: Context<'_>, standing: Standing, name: &str, trace: &mut Trace) -> Result<(), Stop> {
    let Some(job) = context.links.jobs.iter().find(|j| j.name == name) else {
        return trace.refuse(Stage::Permission, Refusal::UnknownObject, || {
            let near = nearest_hint(name, context.links.jobs.iter().map(|j| j.name.as_str()));
            (format!("the host has no job `{}`{near}", visible(name)), Some(context.engine.estate.system(context.system).id.place))
        });
    };
    let account = visible(&context.account(job.runs_as).login);
    let editor = job.edited_by.iter().find(|&&(p, _)| context.engine.membership.belongs(standing.user, p));
    match editor {
        Some(&(party, place)) => {
            trace.pass(Stage::Permission, || {
                (format!("`{}` may edit it, and so run anything as `{account}`", visible(&context.engine.estate.party(party))), Some(place))
            });
            Ok(())
        }
        None => trace.refuse(Stage::Permission, Refusal::NotPermitted, || {
            (
                format!("`{}` may not edit the job `{}`", visible(&context.engine.estate.user(standing.user).id.value), visible(name)),
                Some(job.place),
            )
        }),
    }
}

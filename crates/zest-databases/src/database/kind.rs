//! The kind of both database servers: what they have in common is said once, over the rules of each.

use std::collections::BTreeSet;
use std::fmt;
use std::sync::Arc;

use jiff::Timestamp;
use rustc_hash::{FxHashMap, FxHashSet};

use super::alike::alike;
use super::beside::beside_rights;
use super::differ::differs_for;
use super::hears;
use super::need::{Needs, Outcome};
use super::resolve::{DatabaseLinks, accounts, amended, have_servers, parts};
use super::server::{Server, entered, walk, walk_opened};
use zest_engine::links::resolve::Ground;
use zest_engine::links::{Party, Resolver, RoleId, SetId, SystemId, UserId};
use zest_engine::rights::{Action, Opening, Side};
use zest_engine::rules::{Alike, Beside, Combining, Kind, Left, Opened, Shown, Site, Through};
use zest_engine::trace::{Stop, Trace};
use zest_engine::ways::{Asked, Way};
use zest_engine::{Declared, Engine, Estate, missing};
use zest_model::ask::{Answer, Change, Fact, Form, Question, Refusal, Session};
use zest_model::entry::{self, Channel, Database, DatabaseGrant, DatabaseRole, System, SystemKey};
use zest_model::finding::Finding;
use zest_model::listing::{Cause, SessionView};
use zest_model::source::{At, Place, visible};
use zest_model::table::Kept;
use zest_model::text::OutsideTable;

/// What only one make of database server says.
pub(crate) trait Rules: fmt::Debug + Sized + Sync + 'static {
    /// The word of the kind.
    const WORD: &'static [entry::Kind];
    /// Whether it matters where a session comes from.
    const BY_ORIGIN: bool;
    /// Whether a server has several databases of which one is modelled.
    const HAS_DATABASES: bool;
    /// What the server itself keeps about rights, as the ledger writes it.
    type Written: Clone + Send + Sync + 'static;
    /// The same, as decisions look it up.
    type Held: Send + Sync + 'static;
    /// A session that is open.
    type Session<'s>;
    /// One check of the server.
    type Need;

    /// Returns what a person types of an account's name.
    fn login_of(account: &str) -> String;
    /// Puts the parts of a ledger together.
    ///
    /// Grants that end are in force only if `at` is known and before their end.
    fn written(system: &System, parts: &[Arc<Database>], at: Option<Timestamp>, findings: &mut Vec<Finding>) -> Self::Written;
    /// Returns when the grants end that do.
    fn timed(written: &Self::Written) -> &[At<Timestamp>];
    /// Carries out one grant more.
    fn one_more(written: &mut Self::Written, grant: &DatabaseGrant, findings: &mut Vec<Finding>);
    /// Carries out the memberships of a role that has some more; returns whether that makes what reading all anew would.
    fn join(written: &mut Self::Written, parts: &[Arc<Database>], entry: &DatabaseRole, findings: &mut Vec<Finding>) -> bool;
    /// Makes what decisions look up.
    fn held(written: &Self::Written) -> Arc<Self::Held>;
    /// Opens a session of one of the accounts that were found, and makes a role active. Beside these it looks at nothing but what
    /// [`Key`](super::server::Key) holds: a prepared question keeps what comes of it.
    fn open<'s>(
        question: &Question,
        server: &Server<Self>,
        held: &'s Self::Held,
        found: &[usize],
        trace: &mut Trace,
    ) -> Result<Self::Session<'s>, Stop>;
    /// Returns the same session where other things are held.
    fn where_held<'s>(session: &Self::Session<'_>, held: &'s Self::Held) -> Self::Session<'s>;
    /// Returns what is looked up in a session that was opened when `then` was held: what is held now, with what such a session began with.
    fn held_on(session: &Self::Session<'_>, then: &Arc<Self::Held>, now: Arc<Self::Held>) -> Arc<Self::Held>;
    /// Makes of a session that was opened when `then` was held what it is now; `now` is what is looked up in it.
    ///
    /// # Errors
    /// What of it is not known.
    fn go_on<'s>(
        question: &Question,
        session: &Self::Session<'_>,
        then: &Arc<Self::Held>,
        now: &'s Self::Held,
    ) -> Result<Self::Session<'s>, String>;
    /// Returns whether what a session keeps from when it was opened can hang on that moment, where grants end.
    const KEEPS_GRANTS: bool;
    /// Returns when the password of an account ends.
    fn password_ends(held: &Self::Held, account: &str) -> Option<Timestamp>;
    /// Returns the checks that the server makes for a statement or a privilege.
    fn wanted(held: &Self::Held, question: &Question, session: &Self::Session<'_>) -> Result<Needs<Self::Need>, (Refusal, String)>;
    /// Makes a check.
    fn outcome(need: &Self::Need, held: &Self::Held, session: &Self::Session<'_>) -> Outcome;
    /// Tells by which other ways that is held which a check is about.
    fn also(need: &Self::Need, held: &Self::Held, session: &Self::Session<'_>) -> Vec<String>;
    /// Finds the last revoke that took what a check is about from whoever asks: from whom, and where it is written.
    fn taken(need: &Self::Need, server: &Server<Self>, held: &Self::Held, session: &Self::Session<'_>) -> Option<(String, Place)>;
    /// Returns where that is written which a check is about.
    fn place(need: &Self::Need, server: &Server<Self>, session: &Self::Session<'_>) -> Option<Place>;
    /// Returns the object that a check is about, as a ledger writes it.
    fn about(need: &Self::Need) -> Option<String>;
    /// Returns what could be changed about a refusal of the server.
    fn ways(site: Site<'_>, server: &Server<Self>, answer: &Answer, refusal: Refusal) -> Vec<Way>;
    /// Returns the roles that sessions of an account can make active.
    fn may_activate(held: &Self::Held, account: &str) -> Vec<String>;
    /// Returns all that roles can be told apart by: every privilege on every object, the right to pass it on, and whatever else a server
    /// lets somebody do.
    fn actions(held: &Self::Held) -> Vec<Action>;
    /// Returns of each view, routine and table that does something in somebody else's name what it comes to there, as a text to be compared.
    fn come_to(held: &Self::Held) -> Vec<(String, String)>;
    /// Returns what is held on each object, and what each account and role is: in words, whose it is, and as a text to be compared.
    fn told(held: &Self::Held) -> Vec<(String, String, String)>;
    /// Returns the logins for which any right that can be listed differs between what two servers hold; nothing where it may be any.
    fn differ(sides: [(&Server<Self>, &Self::Held); 2]) -> Option<BTreeSet<String>>;
    /// Returns whether the policies of an object are too many for being told apart by actions.
    fn is_too_much(held: &Self::Held, object: &str) -> bool;
    /// Returns the statements that do what a privilege is for in the name of whoever a view or routine runs as, each with what that is.
    fn through(held: &Self::Held, line: &str) -> Vec<(String, String)>;
    /// Returns what the server's own lists show in a session.
    fn shown(held: &Self::Held, session: &Self::Session<'_>) -> Shown;
    /// Returns what a statement leaves behind in its session.
    fn leaves(statement: &str) -> Left;
    /// Finds what is odd.
    fn review(engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>);
}

/// Database servers of one make.
#[derive(Debug)]
pub(crate) struct Databases<R>(pub(crate) R);

impl<R: Rules> Databases<R> {
    fn server<'e>(site: Site<'e>) -> Option<&'e Server<R>> {
        site.engine().state(site.system())
    }
}

impl<R: Rules> Kind for Databases<R> {
    fn tables(&self) -> &'static [OutsideTable] {
        &[]
    }

    fn words(&self) -> &'static [entry::Kind] {
        R::WORD
    }

    fn resolve(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, system: SystemId) -> Kept {
        let system = &ground.entries.systems[system.index()];
        let parts = parts(ground.entries, system);
        let written = Arc::new(R::written(system, &parts, None, resolver.findings));
        Arc::new(DatabaseLinks { accounts: Arc::new(accounts(resolver, &parts, R::login_of)), written })
    }

    fn amend(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, system: SystemId, before: &Kept, changes: &[Change]) -> Option<Kept> {
        let parts = parts(ground.entries, &ground.entries.systems[system.index()]);
        let links: DatabaseLinks<R::Written> = amended::<R>(resolver, &parts, before.downcast_ref()?, changes)?;
        Some(Arc::new(links))
    }

    fn complete(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, _: &mut [Declared]) {
        // Descriptions of no server are of no kind: the first of the kinds that this program knows reports them, once.
        if crate::KINDS.first().is_some_and(|first| first.words() == R::WORD) {
            have_servers(resolver, ground);
        }
    }

    fn compile(&self, estate: &Estate, id: SystemId) -> Kept {
        let system = &estate.entries().systems[id.index()];
        let links = estate.links(id).expect("`resolve` made them");
        Arc::new(Server::<R>::new(system, parts(estate.entries(), system), links))
    }

    fn hears(&self, fact: Fact) -> bool {
        hears(fact)
    }

    fn looks_at(&self, key: SystemKey) -> bool {
        match key {
            SystemKey::Database => R::HAS_DATABASES,
            // The server has rules of its own for who signs in, by what, and how names are read.
            SystemKey::Vocabulary | SystemKey::NoCommandSet | SystemKey::Authorisation | SystemKey::IdentitySources => false,
            SystemKey::NameCase | SystemKey::WhenCentralDown | SystemKey::PrivilegedAtSignIn | SystemKey::OwnLevels => false,
            SystemKey::Accounts | SystemKey::Accepts => false,
        }
    }

    fn combining(&self) -> Combining {
        Combining::NotLookedAt
    }

    fn compiles_roles(&self) -> bool {
        false
    }

    fn knows_links(&self) -> bool {
        false
    }

    fn is_left_as_account(&self) -> bool {
        false
    }

    fn tells_apart_by_name(&self, _: &str) -> bool {
        false
    }

    fn alike(&self, site: Site<'_>) -> Vec<Vec<Alike>> {
        Self::server(site).map_or_else(Vec::new, |server| alike(server.parts(), R::login_of))
    }

    fn granted(&self, _: Site<'_>, _: &[Action]) -> Option<BTreeSet<Party>> {
        None
    }

    fn differs_for(&self, before: Site<'_>, after: Site<'_>) -> Option<BTreeSet<String>> {
        differs_for([before, after], [Self::server(before)?, Self::server(after)?])
    }

    fn found_by(&self, _: &Side<'_>, _: &str) -> Vec<usize> {
        Vec::new()
    }

    fn login_of(&self, account: &str) -> String {
        R::login_of(account)
    }

    fn leaves(&self, line: &str) -> Left {
        R::leaves(line)
    }

    fn covers<'e>(&self, _: Site<'e>) -> &'e [(At<Channel>, Vec<At<Channel>>)] {
        &[]
    }

    fn open(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        let server = Self::server(site).ok_or(Stop)?;
        entered(site, question, server, &server.in_session(&question.session), trace).map(drop)
    }

    fn decide(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        walk(site, question, Self::server(site).ok_or(Stop)?, trace)
    }

    fn decide_opened(&self, site: Site<'_>, opened: &Opened<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        walk_opened(opened, question, Self::server(opened.site).ok_or(Stop)?, Self::server(site).ok_or(Stop)?, trace)
    }

    fn ways(&self, site: Site<'_>, answer: &Answer, refusal: Refusal) -> Vec<Way> {
        if matches!(refusal, Refusal::UserDisabled | Refusal::UserNotValid) {
            return Asked::of(site, answer).map_or_else(|ways| ways, |asked| asked.person(refusal).unwrap_or_default());
        }
        Self::server(site).map_or_else(Vec::new, |server| R::ways(site, server, answer, refusal))
    }

    fn openings(&self, site: Site<'_>, user: UserId) -> Vec<Opening> {
        let Some(server) = Self::server(site) else { return Vec::new() };
        // Grants that end are in force at the first moment of all.
        let held = server.at(Some(Timestamp::MIN));
        let accounts: Vec<&str> = server.accounts.of(site, user).collect();
        let logins: BTreeSet<String> = accounts.iter().map(|account| R::login_of(account)).collect();
        // The own one comes first, so that people whose own ones are alike are told the same in the same order.
        let own = &site.user(user).id.value;
        let (own, others): (Vec<String>, Vec<String>) = logins.into_iter().partition(|login| login == own);
        let logins = [own, others].concat();
        // Where there is one account only, it goes without saying.
        let (named, only) = if logins.len() > 1 { (logins, None) } else { (Vec::new(), logins.first().cloned()) };
        let roles: BTreeSet<String> = accounts.iter().flat_map(|account| R::may_activate(&held, account)).collect();
        let mut list = Vec::new();
        for login in std::iter::once(None).chain(named.into_iter().map(Some)) {
            let stated = std::iter::once(None).chain([Some(Vec::new())]).chain(roles.iter().map(|role| Some(vec![role.clone()])));
            for active in stated {
                let session = Session { account: login.clone(), active_roles: active, ..Session::default() };
                let also = only.iter().map(|only| Session { account: Some(only.clone()), ..session.clone() }).collect();
                list.push(Opening { session, also });
            }
        }
        list
    }

    fn actions(&self, sides: &[Side<'_>]) -> Vec<Action> {
        let mut known: FxHashSet<String> = FxHashSet::default();
        let servers = sides.iter().filter_map(|side| Self::server(side.site));
        let all = servers.flat_map(|server| R::actions(&server.at(Some(Timestamp::MIN))));
        all.filter(|action| known.insert(action.line.clone())).collect()
    }

    fn like(&self, sides: &[Side<'_>], pattern: &str) -> Result<Vec<Action>, String> {
        let is_plain = !pattern.contains('*');
        match crate::database::asked(pattern) {
            None if pattern != "*" => return Err("expected a privilege on an object, such as `select on table fares.*`".to_owned()),
            Some(_) if is_plain => {
                return Ok(vec![Action::alone(pattern, Form::Line)]);
            }
            // Columns are not listed where nothing is granted on them.
            Some(asked) if !asked.columns.is_empty() => return Err("columns are looked for one by one, without a `*`".to_owned()),
            None | Some(_) => {}
        }
        Ok(self.actions(sides).into_iter().filter(|action| action.reads_like(pattern)).collect())
    }

    fn through(&self, site: Site<'_>, line: &str) -> Vec<Through> {
        let Some(server) = Self::server(site) else { return Vec::new() };
        let found = R::through(&server.at(Some(Timestamp::MIN)), line);
        found.into_iter().map(|(statement, object)| Through { statement, object }).collect()
    }

    fn shown(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<Option<Shown>, Stop> {
        let server = Self::server(site).ok_or(Stop)?;
        let held = server.in_session(&question.session);
        let session = entered(site, question, server, &held, trace)?;
        if trace.is_refused() { Ok(None) } else { Ok(Some(R::shown(&held, &session))) }
    }

    fn beside_rights(&self, site: Site<'_>) -> Vec<Beside> {
        let Some(server) = Self::server(site) else { return Vec::new() };
        let held = server.at(Some(Timestamp::MIN));
        let is_too_much = |object: &str| R::is_too_much(&held, object);
        let parts = parts(site.engine().estate().entries(), site.entry());
        let mut list: Vec<Beside> = parts.iter().flat_map(|part| beside_rights(part, is_too_much)).collect();
        let objects = parts.iter().flat_map(|part| &part.objects).map(|object| (&object.name, visible(&object.name.value)));
        let roles = parts.iter().flat_map(|part| part.accounts.iter().chain(&part.roles));
        let roles = roles.map(|role| (&role.name, format!("`{}`", visible(&role.name.value))));
        let written: FxHashMap<&str, (String, Place)> =
            objects.chain(roles).map(|(name, shown)| (name.value.as_str(), (shown, name.place))).collect();
        let of = |name: &str| written.get(name).cloned().unwrap_or_else(|| (visible(name), site.entry().id.place));
        list.extend(R::come_to(&held).into_iter().map(|(object, says)| {
            let (of, place) = of(&object);
            Beside { what: format!("what {of} comes to in the name of whoever it runs as"), of, says, place, is_held: false }
        }));
        list.extend(R::told(&held).into_iter().map(|(what, name, says)| {
            let (of, place) = of(&name);
            Beside { of, what, says, place, is_held: true }
        }));
        list
    }

    fn collections(&self, _: Site<'_>) -> Vec<(String, Vec<String>)> {
        Vec::new()
    }

    fn concerns(&self, site: Site<'_>, user: UserId) -> bool {
        Self::server(site).is_some_and(|server| server.accounts.has(site, user))
    }

    fn missing(&self, site: Site<'_>, user: UserId, _: Option<Timestamp>) -> Vec<Cause> {
        if self.concerns(site, user) { Vec::new() } else { missing::nothing("no account is there", site) }
    }

    fn view(&self, _: Site<'_>, question: &Question, view: &mut SessionView) {
        view.roles = question.session.active_roles.clone().unwrap_or_default();
    }

    fn reaches(&self, engine: &Engine, user: UserId) -> bool {
        engine.states::<Server<R>>().any(|(system, _)| engine.site_of(system).is_some_and(|site| self.concerns(site, user)))
    }

    fn grants_to(&self, _: &Engine, _: RoleId) -> bool {
        false
    }

    fn sets(&self, _: &Engine) -> Vec<SetId> {
        Vec::new()
    }

    fn review(&self, engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
        R::review(engine, at, findings);
    }
}

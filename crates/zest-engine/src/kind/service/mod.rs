//! Clouds and applications: operations on resources, grants that are added up, conditions, acting as another, obligations.
//!
//! Both kinds share one evaluation. A cloud has a tree of containers, denies, ceilings and roles that can be assumed;
//! an application has types of objects and a table of obligations, and knows no deny.

mod acting;
mod action;
mod grants;
pub mod links;
mod obligations;
mod permission;
mod remedy;
mod resolve;
pub mod review;
mod rights;

use std::collections::BTreeSet;
use std::sync::{Arc, OnceLock};

use fixedbitset::FixedBitSet;
use smallvec::SmallVec;

use jiff::Timestamp;

use crate::engine::Engine;
use crate::engine::entry::{accepted, central_is_up, find_user, identity, person};
use crate::engine::missing;
use crate::engine::rights::{Opening, Side};
use crate::engine::rules::{Alike, Beside, Combining, Kind, Left, Opened, Shown, Site, Through, no_statements};
use crate::engine::trace::{Stop, Trace};
use crate::engine::ways::{Asked, Way};
use crate::engine::{Declared, Estate};
use crate::links::resolve::Ground;
use crate::links::{Facts, Party, RoleId, SystemId, UserId};
use crate::links::{Holder, Resolver, SetId};
use links::{CHANGE_CREDENTIAL, ServiceLinks};
use zest_model::ask::{Answer, Change, Fact, Question, Refusal, Session, Stage};
use zest_model::entry::{Channel, Resource, SystemKey};
use zest_model::finding::Finding;
use zest_model::listing::{Cause, SessionView};
use zest_model::source::At;
use zest_model::source::{Place, visible};
use zest_model::table::Kept;
use zest_model::text::OutsideTable;

pub(crate) use action::{Action, Actions, Unread, parse};
pub(crate) use permission::{Held, Weighed, conditions, grants_of, included, weigh};

/// The kinds `cloud` and `application`.
#[derive(Debug)]
pub struct Service;

impl Kind for Service {
    fn tables(&self) -> &'static [OutsideTable] {
        &[]
    }

    fn words(&self) -> &'static [zest_model::entry::Kind] {
        &[zest_model::entry::Kind::CLOUD, zest_model::entry::Kind::APPLICATION]
    }

    fn resolve(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, system: SystemId) -> Kept {
        Arc::new(ServiceLinks::new(resolver.service(&ground.entries.systems[system.index()], ground.entries)))
    }

    fn amend(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, system: SystemId, before: &Kept, changes: &[Change]) -> Option<Kept> {
        let id = &ground.entries.systems[system.index()].id.value;
        let parts: Vec<_> = ground.entries.services.iter().filter(|s| s.system.value == *id).map(|s| &**s).collect();
        let links = resolver.more_grants(&parts, before.downcast_ref()?, changes)?;
        Some(Arc::new(links))
    }

    fn complete(&self, resolver: &mut Resolver<'_>, ground: Ground<'_>, systems: &mut [Declared]) {
        resolver.are_services(ground.entries);
        let all = systems.iter().filter_map(|s| s.links.downcast_ref());
        resolver.role_grants_are_known(ground.entries, &all.collect::<Vec<_>>());
        let new = systems.iter_mut().filter_map(|s| Arc::get_mut(&mut s.links)?.downcast_mut::<ServiceLinks>()?.fresh());
        resolver.role_grants(ground.entries, &mut new.collect::<Vec<_>>());
    }

    fn compile(&self, estate: &Estate, system: SystemId) -> Kept {
        Arc::clone(&estate.systems[system.index()].links)
    }

    fn hears(&self, fact: Fact) -> bool {
        match fact {
            Fact::At | Fact::Origin | Fact::Channel | Fact::Proofs | Fact::Acting | Fact::Expires | Fact::Central => true,
            Fact::Roles | Fact::Attributes | Fact::Confirmed | Fact::ApprovedBy | Fact::ApproverProofs => true,
            Fact::Level | Fact::Mode | Fact::Local | Fact::Account => false,
        }
    }

    fn looks_at(&self, key: SystemKey) -> bool {
        match key {
            SystemKey::NameCase | SystemKey::Accepts => true,
            SystemKey::Vocabulary | SystemKey::NoCommandSet | SystemKey::Authorisation | SystemKey::IdentitySources => false,
            SystemKey::WhenCentralDown | SystemKey::PrivilegedAtSignIn | SystemKey::OwnLevels | SystemKey::Accounts => false,
            SystemKey::Database => false,
        }
    }

    fn combining(&self) -> Combining {
        Combining::AddedUp
    }

    fn compiles_roles(&self) -> bool {
        true
    }

    fn knows_links(&self) -> bool {
        true
    }

    fn is_left_as_account(&self) -> bool {
        false
    }

    fn tells_apart_by_name(&self, line: &str) -> bool {
        line.contains(CHANGE_CREDENTIAL)
    }

    fn alike(&self, _: Site<'_>) -> Vec<Vec<Alike>> {
        Vec::new()
    }

    fn granted(&self, site: Site<'_>, actions: &[crate::engine::rights::Action]) -> Option<BTreeSet<Party>> {
        rights::granted(site, actions)
    }

    fn differs_for(&self, _: Site<'_>, _: Site<'_>) -> Option<BTreeSet<String>> {
        None
    }

    fn found_by(&self, side: &Side<'_>, pattern: &str) -> Vec<usize> {
        // Of all that can be done, one's own entry is listed by name.
        if pattern == "*" { vec![side.user.index()] } else { Vec::new() }
    }

    fn login_of(&self, account: &str) -> String {
        account.to_owned()
    }

    fn leaves(&self, _: &str) -> Left {
        Left::Nothing
    }

    fn covers<'e>(&self, site: Site<'e>) -> &'e [(At<Channel>, Vec<At<Channel>>)] {
        site.engine.estate.links::<ServiceLinks>(site.system).map_or(&[], |links| &links.covers)
    }

    fn open(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        open(Context::of(site.engine, site.system, &question.session).ok_or(Stop)?, question, trace).map(drop)
    }

    fn decide(&self, site: Site<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        no_statements(site, question, trace)?;
        walk(Context::of(site.engine, site.system, &question.session).ok_or(Stop)?, question, trace)
    }

    fn decide_opened(&self, site: Site<'_>, _: &Opened<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
        let name = || visible(&question.system);
        trace.pass(Stage::Entry, || {
            (format!("`{}` looks at every request anew: it keeps nothing from when the session was opened", name()), None)
        });
        self.decide(site, question, trace)
    }

    fn ways(&self, site: Site<'_>, answer: &Answer, refusal: Refusal) -> Vec<Way> {
        let asked = match Asked::of(site, answer) {
            Ok(asked) => asked,
            Err(ways) => return ways,
        };
        if let Some(ways) = asked.person(refusal) {
            return ways;
        }
        let context = Context::of(site.engine, site.system, &answer.question.session);
        context.map_or_else(Vec::new, |context| remedy::ways(&asked, refusal, context))
    }

    fn openings(&self, site: Site<'_>, user: UserId) -> Vec<Opening> {
        rights::openings(site, user)
    }

    fn like(&self, sides: &[Side<'_>], pattern: &str) -> Result<Vec<crate::engine::rights::Action>, String> {
        rights::like(sides, pattern)
    }

    fn actions(&self, sides: &[Side<'_>]) -> Vec<crate::engine::rights::Action> {
        rights::actions(sides)
    }

    fn through(&self, _: Site<'_>, _: &str) -> Vec<Through> {
        Vec::new()
    }

    fn shown(&self, _: Site<'_>, _: &Question, _: &mut Trace) -> Result<Option<Shown>, Stop> {
        Ok(None)
    }

    fn beside_rights(&self, site: Site<'_>) -> Vec<Beside> {
        let of_this = site.engine.estate.entries().services.iter().filter(|service| service.system.value == site.entry().id.value);
        let secrets = of_this.flat_map(|service| &service.resources).filter_map(|resource| Some((resource, resource.opens.first()?)));
        let beside = |(resource, first): (&Resource, &At<String>)| {
            let says = resource.opens.iter().map(|opens| opens.value.as_str()).collect::<Vec<_>>().join(", ");
            Beside {
                of: String::new(),
                what: format!("whose credential `{}` is", visible(&resource.path.value)),
                says,
                place: first.place,
                is_held: false,
            }
        };
        secrets.map(beside).collect()
    }

    fn collections(&self, site: Site<'_>) -> Vec<(String, Vec<String>)> {
        let Some(links) = site.engine.estate.links::<ServiceLinks>(site.system) else { return Vec::new() };
        let names = |group: &FixedBitSet| group.ones().map(|operation| links.operations[operation].name.clone()).collect();
        let mut list: Vec<(String, Vec<String>)> = links.groups.iter().map(|(name, group)| (name.clone(), names(group))).collect();
        list.sort();
        list
    }

    fn concerns(&self, site: Site<'_>, user: UserId) -> bool {
        review::has_grants(site.engine, user, site.system)
    }

    fn missing(&self, site: Site<'_>, user: UserId, _: Option<Timestamp>) -> Vec<Cause> {
        if self.concerns(site, user) { Vec::new() } else { missing::nothing("nothing is granted", site) }
    }

    fn view(&self, site: Site<'_>, question: &Question, view: &mut SessionView) {
        let estate = &site.engine.estate;
        let name = |role| estate.role(role).id.value.clone();
        let Some(context) = Context::of(site.engine, site.system, &question.session) else { return };
        let Some(standing) = stand(context, question) else { return };
        view.roles = match standing.identity {
            Identity::Role(role) => included(context, role).into_iter().map(name).collect(),
            Identity::User(user) => {
                let held = crate::engine::duties::held(site.engine, user, Some(site.system), &question.session);
                let active = question.session.active_roles.as_ref();
                let held = held.into_iter().map(|(role, _)| name(role));
                held.filter(|role| active.is_none_or(|list| list.contains(role))).collect()
            }
        };
        view.expires = standing.expires.map(|(at, _)| at);
    }

    fn reaches(&self, engine: &Engine, user: UserId) -> bool {
        review::reaches(engine, user)
    }

    fn grants_to(&self, engine: &Engine, role: RoleId) -> bool {
        engine.estate.all_links::<ServiceLinks>().any(|(_, links)| !links.grants_of(Holder::Role(role), None).is_empty())
    }

    fn sets(&self, _: &Engine) -> Vec<SetId> {
        Vec::new()
    }

    fn review(&self, engine: &Engine, at: Option<Timestamp>, findings: &mut Vec<Finding>) {
        review::review(engine, at, findings);
    }
}

/// Whose rights a session has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Identity {
    /// Those of a user.
    User(UserId),
    /// Those of a role that was assumed, and nothing else.
    Role(RoleId),
}

/// A session on a cloud or in an application as it stands once it is open.
#[derive(Clone, Debug)]
pub struct Standing {
    /// Who signed in and proved identity.
    pub(crate) person: UserId,
    /// Who signed in on a host from which the session goes on as the person's account, and every account in between.
    pub(crate) behind: Vec<UserId>,
    /// Everybody as whom the session acts or acted on the way.
    pub(crate) chain: SmallVec<[UserId; 4]>,
    /// When the assumed role began, if that is stated.
    pub(crate) since: Option<Timestamp>,
    /// The user whose attributes count: the person, or whom he acts as.
    pub(crate) user: UserId,
    pub(crate) identity: Identity,
    /// The first moment at which the session is over, and what says so.
    pub(crate) expires: Option<(Timestamp, Option<Place>)>,
}

/// What an evaluation looks at.
#[derive(Clone, Copy)]
pub(crate) struct Context<'e> {
    pub(crate) engine: &'e Engine,
    pub(crate) links: &'e ServiceLinks,
    pub(crate) system: SystemId,
    pub(crate) session: &'e Session,
}

impl<'e> Context<'e> {
    pub(crate) fn of(engine: &'e Engine, system: SystemId, session: &'e Session) -> Option<Self> {
        Some(Self { engine, links: engine.estate.links(system)?, system, session })
    }

    /// What conditions may look at, for a user and a resource.
    pub(crate) fn facts(&self, user: UserId, path: &'e str) -> Facts<'e> {
        let attributes = self.links.resources.get(path).map(|r| r.attributes.as_slice());
        Facts { resource: Some((path, attributes)), ..self.engine.facts(self.session, user, self.system) }
    }
}

/// Returns as whom a session acts, as far as its chain can be followed without a refusal.
pub(crate) fn stand(context: Context<'_>, question: &Question) -> Option<Standing> {
    open(context, question, &mut Trace::silent()).ok()
}

/// Walks through the stages of a question about a cloud or an application.
pub(crate) fn walk(context: Context<'_>, question: &Question, trace: &mut Trace) -> Result<(), Stop> {
    let standing = open(context, question, trace)?;
    // Where several templates of an interface match one call, all of them must be allowed. What a prepared line means is read once;
    // one that is refused is read anew.
    let memo = trace.memo(context.system);
    let kept: Option<&OnceLock<Actions>> = memo.as_ref().and_then(|memo| memo.kept());
    let read: Actions;
    let actions: &[Action] = match kept.and_then(OnceLock::get) {
        Some(known) => known,
        None => {
            read = action::read(context, question, trace)?;
            kept.map_or(&read, |kept| kept.get_or_init(|| read.clone()))
        }
    };
    for action in actions {
        must_change(context, &standing, action, trace)?;
        if is_own_change(context, &standing, action) {
            let place = context.engine.estate.user(standing.person).id.place;
            trace.pass(Stage::Permission, || ("everybody may change their own credential".to_owned(), Some(place)));
            continue;
        }
        let weighed = weigh(context, standing.identity, standing.user, action, trace.explains());
        let held = permission::report(context, &standing, action, &weighed, trace)?;
        acting::whole_assumption(context, &standing, action, trace)?;
        obligations::check(context, question, &standing, action, held, trace)?;
    }
    Ok(())
}

/// Opens the session: the person signs in, and acts as others link by link.
pub(crate) fn open(context: Context<'_>, question: &Question, trace: &mut Trace) -> Result<Standing, Stop> {
    let Context { engine, system, session, .. } = context;
    let user = find_user(engine, question, engine.estate.system(system).ignores_case(), trace)?;
    person(engine, session, user, trace)?;
    central_is_up(engine, session, user, system, trace)?;
    identity(engine, session, user, trace)?;
    accepted(engine, session, user, system, trace)?;
    let expires = session.expires.map(|at| (at, None));
    let mut standing = Standing {
        person: user,
        behind: trace.behind.clone(),
        chain: SmallVec::new(),
        since: None,
        user,
        identity: Identity::User(user),
        expires,
    };
    acting::follow(context, question, &mut standing, trace)?;
    acting::attributes(context, &standing, trace)?;
    acting::duties(context, &standing, trace)?;
    Ok(standing)
}

/// Returns whether somebody changes their own credential, in their own name.
fn is_own_change(context: Context<'_>, standing: &Standing, action: &Action) -> bool {
    let operation = &context.links.operations[action.operation];
    operation.entry.is_some()
        && operation.name == CHANGE_CREDENTIAL
        && standing.identity == Identity::User(standing.person)
        && action.path.strip_prefix("user/") == Some(&context.engine.estate.user(standing.person).id.value)
}

/// A credential that must be changed leaves exactly one thing to do.
fn must_change(context: Context<'_>, standing: &Standing, action: &Action, trace: &mut Trace) -> Result<(), Stop> {
    if context.engine.membership.is_plain(standing.person) {
        return Ok(());
    }
    let user = context.engine.estate.user(standing.person);
    match &user.must_change_credential {
        Some(must) if must.value && !is_own_change(context, standing, action) => {
            trace.refuse(Stage::Standing, Refusal::CredentialMustChange, || {
                (format!("`{}` must change the credential before anything else", visible(&user.id.value)), Some(must.place))
            })
        }
        _ => Ok(()),
    }
}

//! Clouds and applications: operations on resources, grants that are added up, conditions, acting as another, obligations.
//!
//! Both kinds share one evaluation. A cloud has a tree of containers, denies, ceilings and roles that can be assumed;
//! an application has types of objects and a table of obligations, and knows no deny.

mod acting;
mod action;
mod obligations;
mod permission;

use crate::ask::{Question, Refusal, Session, Stage};
use crate::engine::Engine;
use crate::estate::{CHANGE_CREDENTIAL, Facts, RoleId, ServiceLinks, SystemId, UserId};
use crate::kind::entry::{accepted, central_is_up, find_user, identity, person};
use crate::kind::trace::{Stop, Trace};
use crate::source::{Place, visible};

pub(crate) use acting::admitting;
pub(crate) use action::{Action, Unread, parse};
pub(crate) use permission::{Held, Weighed, conditions, grants_of, included, via, weigh};

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
pub(crate) struct Standing {
    /// Who signed in and proved identity.
    pub(crate) person: UserId,
    /// Who signed in on a host from which the session goes on as the person's account, and every account in between.
    pub(crate) behind: Vec<UserId>,
    /// Everybody as whom the session acts or acted on the way.
    pub(crate) chain: Vec<UserId>,
    /// When the assumed role began, if that is stated.
    pub(crate) since: Option<jiff::Timestamp>,
    /// The user whose attributes count: the person, or whom he acts as.
    pub(crate) user: UserId,
    pub(crate) identity: Identity,
    /// The first moment at which the session is over, and what says so.
    pub(crate) expires: Option<(jiff::Timestamp, Option<Place>)>,
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
        Some(Self { engine, links: engine.estate.services[system.index()].as_ref()?, system, session })
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
    // Where several templates of an interface match one call, all of them must be allowed.
    for action in action::read(context, question, trace)? {
        must_change(context, &standing, &action, trace)?;
        if is_own_change(context, &standing, &action) {
            let place = context.engine.estate.user(standing.person).id.place;
            trace.pass(Stage::Permission, || ("everybody may change their own credential".to_owned(), Some(place)));
            continue;
        }
        let weighed = weigh(context, standing.identity, standing.user, &action, trace.explains());
        let held = permission::report(context, &standing, &action, &weighed, trace)?;
        acting::whole_assumption(context, &standing, &action, trace)?;
        obligations::check(context, question, &standing, &action, &held, trace)?;
    }
    Ok(())
}

/// Opens the session: the person signs in, and acts as others link by link.
pub(crate) fn open(context: Context<'_>, question: &Question, trace: &mut Trace) -> Result<Standing, Stop> {
    let Context { engine, system, session, .. } = context;
    let user = find_user(engine, question, engine.devices[system.index()].ignores_case, trace)?;
    person(engine, session, user, trace)?;
    central_is_up(engine, session, user, system, trace)?;
    identity(engine, session, user, trace)?;
    accepted(engine, session, user, system, trace)?;
    let expires = session.expires.map(|at| (at, None));
    let mut standing = Standing {
        person: user,
        behind: trace.behind.clone(),
        chain: Vec::new(),
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
    context.links.operations[action.operation].name == CHANGE_CREDENTIAL
        && standing.identity == Identity::User(standing.person)
        && action.path.strip_prefix("user/") == Some(&context.engine.estate.user(standing.person).id.value)
}

/// A credential that must be changed leaves exactly one thing to do.
fn must_change(context: Context<'_>, standing: &Standing, action: &Action, trace: &mut Trace) -> Result<(), Stop> {
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

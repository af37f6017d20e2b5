//! Who am I: what a session is, link by link, without asking for anything to be done.

use jiff::Timestamp;

use crate::ask::{Question, Refusal};
use crate::engine::Engine;
use crate::entry::Kind;
use crate::estate::SystemId;
use crate::kind::service::{self, Identity};
use crate::source::Location;

/// A session as it stands: who is behind it, and what it has.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct SessionView {
    /// The whole chain in one line: "night-1, as account batch on runner-1, in role night-operator".
    pub line: String,
    /// Who signed in and proved identity.
    pub person: String,
    /// Whose rights the session has: the last of the chain.
    pub acting: String,
    /// The account, where the system has accounts.
    pub account: Option<String>,
    /// Roles that are active.
    pub roles: Vec<String>,
    /// The privilege level at which it starts or is stated to be.
    pub level: Option<u8>,
    /// The channel, if it is stated.
    pub channel: Option<String>,
    /// Proofs of identity with their ages, if they are stated.
    pub proofs: Option<Vec<String>>,
    /// The first moment at which it is over.
    pub expires: Option<Timestamp>,
    /// Why there is no such session.
    pub refused: Option<(Refusal, String, Option<Location>)>,
}

/// Returns who a session is; the action of the question is not looked at.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, review::session};
/// let estate = Ledger::new().document("rota.toml", r#"
/// [users.mate-1]
/// proofs = ["password"]
/// [users.mate-2]
/// proofs = ["password"]
/// [systems.rota]
/// kind = "application"
/// [applications.rota]
/// acting = [{ as = "user:mate-2", by = ["user:mate-1"] }]
/// "#).estate()?;
/// let question = Question::new("mate-1", "rota", "").acting("user:mate-2".parse().expect("a link"));
/// let view = session(&Engine::compile(estate)?, &question);
/// assert_eq!((view.line.as_str(), view.person.as_str(), view.acting.as_str()), ("mate-1, as user mate-2", "mate-1", "user mate-2"));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn session(engine: &Engine, question: &Question) -> SessionView {
    let estate = &engine.estate;
    let answer = engine.sign_in(question);
    let stated = &question.session;
    let mut view = SessionView {
        line: question.who(),
        person: question.user.clone(),
        acting: format!("user {}", question.user),
        account: answer.account.clone(),
        roles: Vec::new(),
        level: answer.level,
        channel: stated.channel.map(|c| c.word().to_owned()),
        proofs: stated.proofs.as_ref().map(|l| l.iter().map(|p| format!("{} {} ago", p.proof.word(), p.written())).collect()),
        expires: stated.expires,
        refused: None,
    };
    if let Some(act) = stated.acting.last() {
        view.acting = act.whom();
    }
    if let Some(code) = answer.refusal {
        let gate = answer.first_refusal();
        view.refused = Some((code, gate.map_or_else(String::new, |g| g.text.clone()), gate.and_then(|g| g.location.clone())));
        return view;
    }
    let Some(&system) = estate.system_ids.get(question.system.as_str()) else { return view };
    view.roles = roles(engine, question, system);
    if let Some(standing) = service::Context::of(engine, system, stated).and_then(|c| service::stand(c, question)) {
        view.expires = standing.expires.map(|(at, _)| at);
    }
    view
}

/// The roles that are active in a session that can be opened.
fn roles(engine: &Engine, question: &Question, system: SystemId) -> Vec<String> {
    let estate = &engine.estate;
    let name = |role| estate.role(role).id.value.clone();
    match estate.system(system).kind() {
        Kind::Cloud | Kind::Application => {
            let Some(context) = service::Context::of(engine, system, &question.session) else { return Vec::new() };
            match service::stand(context, question).map(|s| s.identity) {
                Some(Identity::Role(role)) => service::included(context, role).into_iter().map(name).collect(),
                Some(Identity::User(user)) => {
                    let held = crate::kind::duties::held(engine, user, Some(system), question.session.at);
                    let active = question.session.active_roles.as_ref();
                    let held = held.into_iter().map(|(role, _)| name(role));
                    held.filter(|role| active.is_none_or(|list| list.contains(role))).collect()
                }
                None => Vec::new(),
            }
        }
        Kind::NetworkDevice => crate::kind::network_device::roles(engine, question).into_iter().map(name).collect(),
        Kind::Postgresql | Kind::Mariadb => question.session.active_roles.clone().unwrap_or_default(),
        Kind::Host => Vec::new(),
    }
}

//! What a listing would show in a session.

use std::collections::BTreeSet;

use zest_engine::Engine;
use zest_engine::rights::Side;
use zest_engine::trace::Trace;
use zest_model::ask::{Question, Refusal, Verdict};
use zest_model::listing::{Cause, Seen};

use super::menu::of_actions;

/// Returns what a listing would show in a session: the databases and tables that a server lists, the containers and resources on which
/// anything may be done with those on the way to them, or the lines at a question mark. The line of the question is not looked at.
///
/// What is not shown is not absent, and what is shown may be shut: the name of a table in a schema that is not open.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, review::visible};
/// let estate = Ledger::new().document("rota.toml", r#"
/// users.mate-1.proofs = ["password"]
/// [systems.rota]
/// kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan", "look"]
/// objects."shift/early" = {}
/// objects."shift/late" = {}
/// grants = [{ allow = ["look"], on = "shift/early", to = ["user:mate-1"] }]
/// "#).estate()?;
/// let seen = visible(&Engine::compile(estate)?, &Question::new("mate-1", "rota", ""));
/// assert_eq!(seen.shown, ["shift/early"]);
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn visible(engine: &Engine, session: &Question) -> Seen {
    let mut seen = Seen {
        user: session.user.clone(),
        system: session.system.clone(),
        refused: None,
        shown: Vec::new(),
        on_the_way: Vec::new(),
        not_known: Vec::new(),
        more: zest_model::More,
    };
    let entered = engine.sign_in(session);
    if let Some(gate) = entered.first_refusal() {
        seen.refused = Some(Cause { text: gate.text.clone(), place: gate.location.clone() });
        return seen;
    }
    let Some(site) = engine.site(&session.system) else { return seen };
    // A server knows accounts that no user stands behind.
    if let Ok(Some(shown)) = site.kind().shown(site, session, &mut Trace::silent()) {
        (seen.shown, seen.not_known) = (shown.names, shown.not_known);
        return seen;
    }
    let Some(user) = engine.find_user(&session.user, site.entry().ignores_case()) else { return seen };
    let actions = site.kind().actions(&[Side { site, user }]);
    if actions.iter().all(|action| action.under.is_empty()) {
        seen.shown = of_actions(engine, session, site, &actions).into_iter().map(|item| item.line).collect();
        return seen;
    }
    // What a ledger declares is there: of the rest, and of people and roles, no container has a list.
    let services = engine.estate().services().iter().filter(|service| service.system.value == session.system);
    let declared: BTreeSet<&str> = services.flat_map(|service| &service.resources).map(|resource| resource.path.value.as_str()).collect();
    let is_listed = |path: &str| declared.is_empty() || declared.contains(path);
    let (mut shown, mut open): (BTreeSet<&str>, BTreeSet<&str>) = (BTreeSet::new(), BTreeSet::new());
    for action in actions.iter().filter(|action| is_listed(&action.under)) {
        let decision = engine.decide(&Question { line: action.line.clone(), form: action.form, ..session.clone() });
        if decision.verdict != Verdict::Denied {
            shown.insert(&action.under);
        } else if decision.refusal == Some(Refusal::NotDecided) {
            open.insert(&action.under);
        }
    }
    let all: BTreeSet<&str> = actions.iter().map(|action| action.under.as_str()).filter(|path| is_listed(path)).collect();
    let is_above = |path: &&&str| shown.iter().any(|below| below.strip_prefix(**path).is_some_and(|rest| rest.starts_with('/')));
    seen.on_the_way = all.iter().filter(|path| !shown.contains(**path)).filter(is_above).map(|path| (*path).to_owned()).collect();
    seen.not_known = open.difference(&shown).map(|path| format!("whether {path} is shown")).collect();
    seen.shown = shown.into_iter().map(str::to_owned).collect();
    seen
}

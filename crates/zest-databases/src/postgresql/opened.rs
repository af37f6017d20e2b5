//! What a session keeps that was opened when the server was another: the settings it began with, its active role, and whether a superuser
//! signed in. All else is looked up anew for each statement (`miscinit.c`, `superuser.c`, `acl.c` of version 15; `docs/open-sessions.md`).

use std::sync::Arc;

use super::catalog::Catalog;
use super::evaluate::Standing;
use super::state::State;
use crate::database::not_modelled::sort_of;
use zest_model::ask::{Form, Question};
use zest_model::source::visible;

/// Returns what is held now with the settings with which the session began.
pub(super) fn held_on(session: &Standing, then: &State, now: Arc<Catalog>) -> Arc<Catalog> {
    let state = now.state();
    let of_role = |state: &State| state.roles.get(&session.account).map(|role| role.settings.clone());
    let notes = |state: &State| -> Vec<String> { state.not_modelled.iter().filter(|note| sort_of(note) == "setting").cloned().collect() };
    if state.settings == then.settings
        && of_role(state) == of_role(then)
        && notes(then).iter().all(|note| state.not_modelled.contains(note))
    {
        return now;
    }
    let mut mixed = State::clone(state);
    mixed.settings.clone_from(&then.settings);
    if let (Some(role), Some(settings)) = (mixed.roles.get_mut(&session.account), of_role(then)) {
        role.settings = settings;
    }
    // Of a setting that is only named it is not known when it reaches a session.
    mixed.not_modelled.extend(notes(then));
    Arc::new(Catalog::of(Arc::new(mixed)))
}

/// Returns the session as it is now.
pub(super) fn go_on(question: &Question, session: &Standing, then: &State, now: &State) -> Result<Standing, String> {
    let Standing { account, role } = session;
    let is_gone = |role: &&String| !now.knows_role(role);
    if let Some(gone) = [account, role].into_iter().find(is_gone) {
        return Err(format!("`{}` is no role any more: what the sessions may do that run as it is not known", visible(gone)));
    }
    // Who may become anybody is told when the session begins.
    let words = question.line.to_lowercase();
    if question.form == Form::Statement && then.is_superuser(account) != now.is_superuser(account) && words.contains("authorization") {
        return Err(format!("whether a session of `{}` may still become anybody (SET SESSION AUTHORIZATION)", visible(account)));
    }
    Ok(session.clone())
}

//! What stands in the way of somebody on a system, in words.

use jiff::Timestamp;

use super::rules::Site;
use crate::links::UserId;
use zest_model::ask::{Gate, GateOutcome, Question, Refusal};
use zest_model::listing::Cause;
use zest_model::source::visible;

/// Says that nothing is there for somebody.
pub fn nothing(what: &str, site: Site<'_>) -> Vec<Cause> {
    let id = &site.entry().id;
    vec![Cause { text: format!("{what} on `{}`", visible(&id.value)), place: Some(site.engine.estate.sources.locate(id.place)) }]
}

/// Signs in, and returns what the account stands in the way with.
pub(crate) fn of_account(site: Site<'_>, user: UserId, at: Option<Timestamp>) -> Vec<Cause> {
    let mut question = Question::new(&site.engine.estate.user(user).id.value, &site.entry().id.value, "");
    question.session.at = at;
    let answer = site.engine.sign_in(&question);
    let of_account = |g: &&Gate| matches!(g.outcome, GateOutcome::Refuses(code) if is_account(code));
    answer.gates.iter().filter(of_account).map(|gate| Cause { text: gate.text.clone(), place: gate.location.clone() }).collect()
}

/// Refusals that are about an account, and not about facts that a question may state.
const fn is_account(code: Refusal) -> bool {
    matches!(
        code,
        Refusal::AccountLocked
            | Refusal::AccountWithoutCredential
            | Refusal::ShellRefuses
            | Refusal::AccountLimited
            | Refusal::NoBand
            | Refusal::CredentialExpired
    )
}

//! Who am I: what a session is, link by link, without asking for anything to be done.

use zest_engine::Engine;
use zest_model::ask::Question;
use zest_model::listing::{Refused, SessionView};

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
    let _estate = engine.estate();
    let answer = engine.sign_in(question);
    let stated = &question.session;
    let mut view = SessionView {
        line: question.who(),
        system: question.system.clone(),
        person: question.user.clone(),
        acting: format!("user {}", question.user),
        account: answer.account.clone(),
        roles: Vec::new(),
        level: answer.level,
        channel: stated.channel,
        proofs: stated.proofs.as_ref().map(|l| l.iter().map(|p| format!("{} {} ago", p.proof.word(), p.written())).collect()),
        expires: stated.expires,
        refused: None,
        more: zest_model::More,
    };
    if let Some(act) = stated.acting.last() {
        view.acting = act.whom();
    }
    if let Some(code) = answer.refusal {
        let gate = answer.first_refusal();
        let text = gate.map_or_else(String::new, |gate| gate.text.clone());
        view.refused = Some(Refused { code, text, place: gate.and_then(|gate| gate.location.clone()) });
        return view;
    }
    let Some(site) = engine.site(&question.system) else { return view };
    site.kind().view(site, question, &mut view);
    view
}

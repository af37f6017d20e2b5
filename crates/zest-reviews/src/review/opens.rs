//! What a remedy opens beside what was asked.

use super::compare;
use zest_engine::Engine;
use zest_model::ask::{Answer, Change, Question, Remedy, Session, Verdict};
use zest_model::listing::Opens;

/// Returns what a remedy of the ledger would open beside the action that was asked about: to whoever asked, on every system, in any
/// session; and the same action to others, in the session that was asked about. Nothing for a remedy of the session alone.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, Question, review::opens};
/// let estate = Ledger::new().document("rota.toml", r#"
/// [users.mate-1]
/// proofs = ["password"]
/// [groups.mates]
/// [systems.rota]
/// kind = "application"
/// [applications.rota]
/// types.shift.rights = ["plan", "drop"]
/// objects."shift/early" = {}
/// grants = [{ allow = ["plan", "drop"], on = "shift/*", to = ["group:mates"] }]
/// "#).estate()?;
/// let engine = Engine::compile(estate)?;
/// let answer = engine.ask(&Question::new("mate-1", "rota", "plan on shift/early"));
/// let grant = &answer.remedies[0];
/// assert!(grant.steps[0].text.contains("were granted `plan`"));
/// let opened = opens(&engine, &answer, grant).expect("the ledger changes");
/// assert!(opened.lines.is_empty() && opened.people.is_empty(), "it is as narrow as can be");
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn opens(engine: &Engine, answer: &Answer, remedy: &Remedy) -> Option<Opens> {
    let changes: Vec<Change> = remedy.steps.iter().map(|step| step.change.clone()).collect();
    if changes.iter().all(Change::is_of_session) {
        return None;
    }
    // It was tried before it was offered, so nothing collides.
    let after = engine.with(&changes).ok()?;
    let asked = &answer.question;
    let full = answer.full_line.as_ref().unwrap_or(&asked.line);
    let mut lines: Vec<String> = Vec::new();
    // Those on the system that was asked about come first; what is elsewhere says so.
    let mut elsewhere: Vec<String> = Vec::new();
    for one in compare(engine, &after, &asked.user, &Session::default()) {
        let gained = one.gained.iter().flat_map(|moved| &moved.right.lines);
        for line in gained {
            for system in &one.systems {
                if *system != asked.system {
                    elsewhere.push(format!("{line} ({system})"));
                } else if line != full && *line != asked.line {
                    lines.push(line.clone());
                }
            }
        }
    }
    for list in [&mut lines, &mut elsewhere] {
        list.sort_unstable();
        list.dedup();
    }
    lines.extend(elsewhere);
    // What the session needs for it counts for others as well.
    let mut question = asked.clone();
    changes.iter().filter(|change| change.is_of_session()).for_each(|change| change.apply(&mut question));
    let others = engine.estate().users().iter().map(|user| &user.id.value).filter(|user| **user != asked.user);
    let is_opened = |user: &&String| {
        let question = Question { user: (*user).clone(), ..question.clone() };
        engine.decide(&question).verdict == Verdict::Denied && after.decide(&question).verdict != Verdict::Denied
    };
    let people: Vec<String> = others.filter(is_opened).cloned().collect();
    Some(Opens { lines, people, more: zest_model::More })
}

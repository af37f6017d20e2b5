//! Obligations: what must be done before an allowed act takes effect.

use super::rights::Look;
use super::rules::{Site, agrees, could_agree, of_second_person};
use super::trace::{Stop, Trace};
use crate::links::{Duties, UserId};
use zest_model::ask::{Question, Refusal, Stage, Verdict};
use zest_model::source::{Place, visible};

pub(crate) fn check(site: Site<'_>, user: UserId, question: &Question, duties: &Duties, trace: &mut Trace) -> Result<(), Stop> {
    let (engine, session) = (site.engine, &question.session);
    if let Some(place) = duties.confirm {
        let done = session.confirmed || trace.agrees;
        met(trace, done, || (if done { "the user confirmed" } else { "the user must confirm" }.to_owned(), Some(place)));
    }
    if let Some(age) = &duties.prove_again {
        session.ear.looked(|| Look::Age(None, age.value));
        let facts = engine.facts(session, user, site.system);
        let youngest = facts.counting().map(|p| p.age).min();
        let done = youngest.is_some_and(|a| a <= age.value);
        let text = if done { "identity was proven" } else { "identity must be proven again" };
        met(trace, done, || (format!("{text} within the last {:#}", age.value), Some(age.place)));
    }
    if let Some(&(_, place)) = duties.second_person.first().filter(|_| !trace.agrees) {
        second_person(site, user, question, duties, place, trace)?;
    }
    Ok(())
}

fn met(trace: &mut Trace, done: bool, reason: impl FnOnce() -> (String, Option<Place>)) {
    if done { trace.pass(Stage::Obligations, reason) } else { trace.ask(reason) }
}

/// The second person is another one, may agree, and could run the line himself at this moment.
fn second_person(site: Site<'_>, first: UserId, question: &Question, duties: &Duties, place: Place, trace: &mut Trace) -> Result<(), Stop> {
    let engine = site.engine;
    let parties =
        || duties.second_person.iter().map(|&(p, _)| format!("`{}`", visible(&engine.estate.party(p)))).collect::<Vec<_>>().join(" or ");
    let is_in_it = |user: UserId, behind: &[UserId]| user == first || behind.contains(&user);
    let Some(name) = &question.session.approved_by else {
        let text = || format!("a second person must agree: one of {}", parties());
        let can = engine.people(duties).any(|u| !is_in_it(u, &trace.behind) && could_agree(engine, question, u, &question.line));
        if !can {
            return trace.refuse(Stage::Obligations, Refusal::NobodyCan, || (format!("{}; nobody can", text()), Some(place)));
        }
        trace.ask(|| (text(), Some(place)));
        return Ok(());
    };
    let Some(second) = engine.find_user(name, site.entry().ignores_case()) else {
        return trace.refuse(Stage::Obligations, Refusal::NotEntitled, || (format!("no user is named `{}`", visible(name)), Some(place)));
    };
    if is_in_it(second, &trace.behind) {
        return trace.refuse(Stage::Obligations, Refusal::SamePerson, || {
            ("the second person must be another than the first".to_owned(), Some(place))
        });
    }
    if !duties.second_person.iter().any(|&(party, _)| engine.membership.belongs(second, party)) {
        return trace.refuse(Stage::Obligations, Refusal::NotEntitled, || {
            (format!("`{}` is not one of {}", visible(name), parties()), Some(place))
        });
    }
    let theirs = of_second_person(question, name, &question.line);
    let decision = agrees(engine, &theirs);
    if decision.verdict == Verdict::Denied {
        let code = decision.refusal.map_or("", Refusal::code);
        return trace.refuse(Stage::Obligations, Refusal::NotEntitled, || {
            let hint = if decision.refusal == Some(Refusal::NotStated) { ", such as the second person's proofs" } else { "" };
            (format!("`{}` could not run the line at this moment: {code}{hint}", visible(name)), Some(place))
        });
    }
    // What the act asks to be proven again binds whoever agrees to it as well.
    let youngest = engine.facts(&theirs.session, second, site.system).counting().map(|p| p.age).min();
    let age = duties.prove_again.as_ref().filter(|age| youngest.is_none_or(|y| y > age.value));
    if decision.verdict == Verdict::AllowedAfter || age.is_some() {
        return trace.refuse(Stage::Obligations, Refusal::NotEntitled, || {
            let within = age.map_or(String::new(), |age| format!(" within the last {:#}", age.value));
            (format!("`{}` must have proven identity{within} as well", visible(name)), Some(place))
        });
    }
    trace.pass(Stage::Obligations, || (format!("`{}` agreed as second person", visible(name)), Some(place)));
    Ok(())
}

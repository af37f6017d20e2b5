//! Obligations: of the object, its type and the right, always; of the grants, those of the one that asks least.

use super::{Action, Context, Held, Standing};
use crate::ask::{Question, Refusal, Stage, Verdict};
use crate::estate::Duties;
use crate::kind::trace::{Run, Stop, Trace};
use crate::source::{Place, visible};

/// How one obligation comes out.
enum Met {
    Yes(String, Place),
    NotYet(String, Place),
    Refused(Refusal, String, Place),
}

pub(super) fn check<T: Trace>(
    context: Context<'_>,
    question: &Question,
    standing: &Standing,
    action: &Action,
    held: &[Held<'_>],
    run: &mut Run<'_, T>,
) -> Result<(), Stop> {
    let mut met: Vec<Met> = Vec::new();
    for duties in standing_duties(context, action) {
        weigh(context, question, standing, action, duties, &mut met);
    }
    // Whoever holds a right directly does not wait for the approval that another grant of the same right asks for.
    if let Some(first) = held.first() {
        let is_free = held.iter().any(|h| h.grant.duties.is_none());
        if !is_free {
            let mut best: Option<(u8, Vec<Met>)> = None;
            for duties in held.iter().filter_map(|h| h.grant.duties.as_ref()) {
                let mut found = Vec::new();
                weigh(context, question, standing, action, duties, &mut found);
                let rank = found.iter().map(rank).max().unwrap_or(0);
                if best.as_ref().is_none_or(|(least, _)| rank < *least) {
                    best = Some((rank, found));
                }
            }
            met.extend(best.into_iter().flat_map(|(_, found)| found));
        } else if first.grant.duties.is_some() {
            let free = held.iter().find(|h| h.grant.duties.is_none());
            run.pass(Stage::Obligations, || {
                ("another grant gives it without the obligations of the first".to_owned(), free.map(|h| h.grant.place))
            });
        }
    }
    for one in met {
        match one {
            Met::Yes(text, place) => run.pass(Stage::Obligations, || (text, Some(place))),
            Met::NotYet(text, place) => run.ask(|| (text, Some(place))),
            Met::Refused(code, text, place) => run.refuse(Stage::Obligations, code, || (text, Some(place)))?,
        }
    }
    Ok(())
}

const fn rank(met: &Met) -> u8 {
    match met {
        Met::Yes(..) => 0,
        Met::NotYet(..) => 1,
        Met::Refused(..) => 2,
    }
}

/// The obligations of the right, the type and the object; on a cloud those of the resource and what it is in.
fn standing_duties<'e>(context: Context<'e>, action: &'e Action) -> Vec<&'e Duties> {
    let links = context.links;
    let mut list = Vec::new();
    let kind = links.types.get(action.path.split('/').next().unwrap_or_default()).filter(|_| links.is_application);
    let looks = kind.map_or(links.operations[action.operation].reads, |k| k.looks.contains(action.operation));
    if let Some(kind) = kind {
        list.extend(kind.right_duties.get(&action.operation));
        list.extend(kind.duties.as_ref().filter(|_| !looks));
    }
    if !looks {
        let ends = action.path.match_indices('/').map(|(end, _)| end).chain([action.path.len()]);
        list.extend(ends.filter_map(|end| links.resources.get(&action.path[..end])?.duties.as_ref()));
    }
    list
}

fn weigh(context: Context<'_>, question: &Question, standing: &Standing, action: &Action, duties: &Duties, met: &mut Vec<Met>) {
    let session = context.session;
    if let Some(place) = duties.confirm {
        met.push(if session.confirmed {
            Met::Yes("the user confirmed".to_owned(), place)
        } else {
            Met::NotYet("the user must confirm".to_owned(), place)
        });
    }
    let off = context.links.identity_checks.as_ref().filter(|c| !c.value);
    if let Some(age) = &duties.prove_again {
        let facts = context.facts(standing.user, &action.path);
        let youngest = facts.counting().map(|p| p.age).min();
        met.push(match off {
            Some(off) => Met::Yes("identity is not checked again: identity checks are switched off".to_owned(), off.place),
            None if youngest.is_some_and(|a| a <= age.value) => {
                Met::Yes(format!("identity was proven within the last {:#}", age.value), age.place)
            }
            None => Met::NotYet(format!("identity must be proven again within the last {:#}", age.value), age.place),
        });
    }
    if let Some(place) = duties.second_person.first().map(|&(_, place)| place).or(duties.anyone) {
        met.push(match off {
            Some(off) => Met::Yes("no second person is asked: identity checks are switched off".to_owned(), off.place),
            None => second_person(context, question, standing, action, duties, place),
        });
    }
}

/// The second person is another one, one of those named if any are, and holds the right at this moment.
fn second_person(context: Context<'_>, question: &Question, standing: &Standing, action: &Action, duties: &Duties, place: Place) -> Met {
    let engine = context.engine;
    let parties: Vec<String> = duties.second_person.iter().map(|&(p, _)| format!("`{}`", visible(&engine.estate.party(p)))).collect();
    let whom =
        if duties.anyone.is_some() { "anybody else who holds the right".to_owned() } else { format!("one of {}", parties.join(" or ")) };
    let Some(name) = &question.session.approved_by else { return Met::NotYet(format!("a second person must agree: {whom}"), place) };
    let shown = visible(name);
    let refused = |text: String| Met::Refused(Refusal::NotEntitled, text, place);
    let Some(second) = engine.find_user(name, engine.devices[context.system.index()].ignores_case) else {
        return refused(format!("no user is named `{shown}`"));
    };
    if second == standing.person || second == standing.user || standing.behind.contains(&second) {
        return Met::Refused(Refusal::SamePerson, "the second person must be another than the first".to_owned(), place);
    }
    if duties.anyone.is_none() && !duties.second_person.iter().any(|&(party, _)| engine.membership.belongs(second, party)) {
        return refused(format!("`{shown}` is not {whom}"));
    }
    let links = context.links;
    let right = links
        .types
        .get(action.path.split('/').next().unwrap_or_default())
        .and_then(|t| t.second_person_right)
        .filter(|_| links.operations[action.operation].place.is_some())
        .unwrap_or(action.operation);
    let right = &links.operations[right].name;
    // The second person's own session is taken to be like the first one's, but for his proofs, which are his own.
    let mut theirs = Question::in_session(name, &question.system, &format!("{right} on {}", action.path), question.session.clone());
    theirs.session.approved_by = None;
    theirs.session.acting.clear();
    theirs.session.active_roles = None;
    theirs.session.attributes.retain(|(k, _)| links.session_attributes.contains(k));
    theirs.session.expires = None;
    theirs.session.proofs = theirs.session.approver_proofs.take();
    let decision = engine.decide(&theirs);
    if decision.verdict == Verdict::Denied {
        let code = decision.refusal.map_or("", Refusal::code);
        let hint = if decision.refusal == Some(Refusal::NotStated) { ", such as the second person's proofs" } else { "" };
        return refused(format!(
            "`{shown}` does not hold `{}` on `{}` at this moment: {code}{hint}",
            visible(right),
            visible(&action.path)
        ));
    }
    Met::Yes(format!("`{shown}` agreed as second person"), place)
}

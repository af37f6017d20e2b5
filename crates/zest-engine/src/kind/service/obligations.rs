//! Obligations: of the object, its type and the right, always; of the grants, those of the one that asks least.

use smallvec::SmallVec;

use super::{Action, Context, Held, Standing};
use crate::engine::rights::Look;
use crate::engine::rules::{agrees, could_agree, of_second_person};
use crate::engine::trace::{Stop, Trace};
use crate::links::{Duties, UserId};
use zest_model::ask::{Question, Refusal, Stage, Verdict};
use zest_model::source::{Place, visible};

/// How one obligation comes out.
enum Met {
    Yes(String, Place),
    NotYet(String, Place),
    Refused(Refusal, String, Place),
}

pub(super) fn check(
    context: Context<'_>,
    question: &Question,
    standing: &Standing,
    action: &Action,
    held: &[Held<'_>],
    trace: &mut Trace,
) -> Result<(), Stop> {
    let mut met: Many = Many::new();
    let asked = Asked { context, question, standing, action, held, agrees: trace.agrees, tells: trace.explains() };
    for duties in standing_duties(context, action) {
        asked.weigh(duties, &mut met);
    }
    // Whoever holds a right directly does not wait for the approval that another grant of the same right asks for.
    if let Some(first) = held.first() {
        let is_free = held.iter().any(|h| h.is_bare || h.grant.duties.is_none());
        if !is_free {
            let mut best: Option<(u8, Many)> = None;
            for duties in held.iter().filter_map(|h| h.grant.duties.as_ref()) {
                let mut found = Many::new();
                asked.weigh(duties, &mut found);
                let rank = found.iter().map(rank).max().unwrap_or(0);
                if best.as_ref().is_none_or(|(least, _)| rank < *least) {
                    best = Some((rank, found));
                }
            }
            met.extend(best.into_iter().flat_map(|(_, found)| found));
        } else if trace.explains() && first.grant.duties.is_some() {
            let free = held.iter().find(|h| h.grant.duties.is_none());
            trace.pass(Stage::Obligations, || {
                ("another grant gives it without the obligations of the first".to_owned(), free.map(|h| h.grant.place))
            });
        }
    }
    for one in met {
        match one {
            Met::Yes(text, place) => trace.pass(Stage::Obligations, || (text, Some(place))),
            Met::NotYet(text, place) => trace.ask(|| (text, Some(place))),
            Met::Refused(code, text, place) => trace.refuse(Stage::Obligations, code, || (text, Some(place)))?,
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
fn standing_duties<'e>(context: Context<'e>, action: &'e Action) -> SmallVec<[&'e Duties; 4]> {
    let links = context.links;
    let mut list = SmallVec::new();
    let kind = links.types.get(action.path.split('/').next().unwrap_or_default()).filter(|_| links.is_application);
    let looks = kind.map_or(links.operations[action.operation].reads, |k| k.looks.contains(action.operation));
    if let Some(kind) = kind {
        list.extend(kind.right_duties.get(&action.operation));
        list.extend(kind.duties.as_ref().filter(|_| !looks));
    }
    if !looks && links.has_duties {
        let ends = action.path.match_indices('/').map(|(end, _)| end).chain([action.path.len()]);
        list.extend(ends.filter_map(|end| links.resources.get(&action.path[..end])?.duties.as_ref()));
    }
    list
}

/// What an obligation is looked at for.
struct Asked<'a> {
    context: Context<'a>,
    question: &'a Question,
    standing: &'a Standing,
    action: &'a Action,
    held: &'a [Held<'a>],
    /// Whether it is the session of a second person: agreeing is confirming, and nobody else must agree.
    agrees: bool,
    /// Whether reasons are told.
    tells: bool,
}

/// What came of some obligations.
type Many = SmallVec<[Met; 4]>;

impl Asked<'_> {
    fn told(&self, text: impl FnOnce() -> String) -> String {
        if self.tells { text() } else { String::new() }
    }

    fn weigh(&self, duties: &Duties, met: &mut Many) {
        let Self { context, standing, action, agrees, .. } = *self;
        let session = context.session;
        if let Some(place) = duties.confirm {
            met.push(if session.confirmed || agrees {
                Met::Yes(self.told(|| "the user confirmed".to_owned()), place)
            } else {
                Met::NotYet(self.told(|| "the user must confirm".to_owned()), place)
            });
        }
        let off = context.links.identity_checks.as_ref().filter(|c| !c.value);
        if let Some(age) = &duties.prove_again {
            session.ear.looked(|| Look::Age(None, age.value));
            let facts = context.facts(standing.user, &action.path);
            let youngest = facts.counting().map(|p| p.age).min();
            met.push(match off {
                Some(off) => {
                    Met::Yes(self.told(|| "identity is not checked again: identity checks are switched off".to_owned()), off.place)
                }
                None if youngest.is_some_and(|a| a <= age.value) => {
                    Met::Yes(self.told(|| format!("identity was proven within the last {:#}", age.value)), age.place)
                }
                None => Met::NotYet(self.told(|| format!("identity must be proven again within the last {:#}", age.value)), age.place),
            });
        }
        if let Some(place) = duties.second_person.first().map(|&(_, place)| place).or(duties.anyone).filter(|_| !agrees) {
            met.push(match off {
                Some(off) => Met::Yes("no second person is asked: identity checks are switched off".to_owned(), off.place),
                None => self.second_person(duties, place),
            });
        }
    }

    /// The second person is another one, one of those named if any are, and holds the right at this moment, with all that the
    /// right and the act ask of whoever uses it.
    fn second_person(&self, duties: &Duties, place: Place) -> Met {
        let Self { context, question, action, .. } = *self;
        let engine = context.engine;
        let whom = if duties.anyone.is_some() {
            "anybody else who holds the right".to_owned()
        } else {
            let parties: Vec<String> =
                duties.second_person.iter().map(|&(p, _)| format!("`{}`", visible(&engine.estate.party(p)))).collect();
            format!("one of {}", parties.join(" or "))
        };
        let right = &context.links.operations[self.right()].name;
        let line = format!("{right} on {}", action.path);
        let Some(name) = &question.session.approved_by else {
            let can = engine.people(duties).any(|second| !self.is_in_it(second) && could_agree(engine, question, second, &line));
            let text = format!("a second person must agree: {whom}");
            return if can { Met::NotYet(text, place) } else { Met::Refused(Refusal::NobodyCan, format!("{text}; nobody can"), place) };
        };
        let shown = visible(name);
        let refused = |text: String| Met::Refused(Refusal::NotEntitled, text, place);
        let Some(second) = engine.find_user(name, engine.estate.system(context.system).ignores_case()) else {
            return refused(format!("no user is named `{shown}`"));
        };
        if self.is_in_it(second) {
            return Met::Refused(Refusal::SamePerson, "the second person must be another than the first".to_owned(), place);
        }
        if duties.anyone.is_none() && !duties.second_person.iter().any(|&(party, _)| engine.membership.belongs(second, party)) {
            return refused(format!("`{shown}` is not {whom}"));
        }
        let theirs = of_second_person(question, name, &line);
        let decision = agrees(engine, &theirs);
        let what = || format!("`{}` on `{}`", visible(right), visible(&action.path));
        match decision.verdict {
            Verdict::Denied => {
                let code = decision.refusal.map_or("", Refusal::code);
                let hint = if decision.refusal == Some(Refusal::NotStated) { ", such as the second person's proofs" } else { "" };
                return refused(format!("`{shown}` does not hold {} at this moment: {code}{hint}", what()));
            }
            Verdict::AllowedAfter => return refused(format!("`{shown}` would have to prove identity again for {}", what())),
            Verdict::Allowed => {}
        }
        // What the act asks to be proven again binds whoever agrees to it as well.
        let facts = engine.facts(&theirs.session, second, context.system);
        let youngest = facts.counting().map(|p| p.age).min();
        if let Some(age) = self.ages().filter(|age| youngest.is_none_or(|y| y > *age)).min() {
            return refused(format!("`{shown}` must have proven identity within the last {age:#} as well"));
        }
        Met::Yes(format!("`{shown}` agreed as second person"), place)
    }

    /// Whoever is in the chain, or signed in on the way, agrees to their own act.
    fn is_in_it(&self, user: UserId) -> bool {
        user == self.standing.person || self.standing.chain.contains(&user) || self.standing.behind.contains(&user)
    }

    /// The right that a second person must hold: that of the type, or the one that is asked for.
    fn right(&self) -> usize {
        let kind = self.action.path.split('/').next().unwrap_or_default();
        self.context.links.types.get(kind).and_then(|t| t.second_person_right).unwrap_or(self.action.operation)
    }

    /// How recently identity must be proven for the act, by each obligation that says so.
    fn ages(&self) -> impl Iterator<Item = jiff::SignedDuration> {
        let of_grants = self.held.iter().filter_map(|h| h.grant.duties.as_ref());
        standing_duties(self.context, self.action).into_iter().chain(of_grants).filter_map(|d| d.prove_again.as_ref()).map(|a| a.value)
    }
}

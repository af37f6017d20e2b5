//! Remedies: smallest changes that turn a refusal round. Each is tried before it is offered.
//!
//! The search asks again with a change applied, looks at what refuses then, and goes on from there: a refusal
//! with two reasons needs two changes. Changes of the session come before changes of the ledger, few before many.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use crate::engine::Engine;
use crate::engine::rules::Site;
use crate::engine::ways::{Way, way};
use zest_model::ask::{Answer, Change, Fact, Question, Refusal, Remedy, Step, Verdict};
use zest_model::source::visible;
use zest_words::nearest;

/// How many remedies are offered at most.
const OFFERED: usize = 3;
/// How many questions the search asks at most.
const QUESTIONS: usize = 80;
/// How many changed ledgers it compiles at most.
const COMPILATIONS: usize = 16;
/// What a change of the ledger costs, against 1 for a change of the session.
const LEDGER_COST: usize = 3;
/// The largest cost that is tried.
const LARGEST_COST: usize = 9;

/// Asks again with changes applied, and counts how often.
struct Trial<'a> {
    engine: &'a Engine,
    question: &'a Question,
    questions: usize,
    compilations: usize,
}

impl Trial<'_> {
    /// Returns the answer, and the engine of the changed ledger if the ledger was changed; nothing once the limits are reached.
    fn ask(&mut self, changes: &[Change]) -> Option<(Answer, Option<Engine>)> {
        let mut question = self.question.clone();
        for change in changes {
            change.apply(&mut question);
        }
        let mut changed = None;
        if changes.iter().any(|c| !c.is_of_session()) {
            if self.compilations == COMPILATIONS {
                return None;
            }
            self.compilations += 1;
            changed = Some(self.engine.with(changes).ok()?);
        }
        self.questions += 1;
        Some((changed.as_ref().unwrap_or(self.engine).tried(&question), changed))
    }
}

/// Looks for remedies of a refusal.
pub fn remedies(engine: &Engine, refused: &Answer) -> Vec<Remedy> {
    let mut trial = Trial { engine, question: &refused.question, questions: 0, compilations: 0 };
    let mut found: Vec<Remedy> = Vec::new();
    let mut plans: Vec<Vec<Way>> = vec![Vec::new()];
    // Cheapest first; among equals the one thought of first.
    let mut queue = BinaryHeap::from([Reverse((0, 0))]);
    while let Some(Reverse((cost, number))) = queue.pop() {
        if found.len() == OFFERED || trial.questions >= QUESTIONS {
            break;
        }
        let plan = plans[number].clone();
        let Some((answer, changed)) = trial.ask(&plan.iter().map(|w| w.change.clone()).collect::<Vec<_>>()) else { continue };
        let Some(refusal) = answer.refusal else {
            let (plan, verdict) = without_the_needless(plan, answer.verdict, &mut trial);
            let is_part_of_it = |r: &Remedy| r.steps.iter().all(|s| plan.iter().any(|w| w.change == s.change));
            if !found.iter().any(is_part_of_it) {
                let step = |way: Way| {
                    let place = way.place.filter(|_| !way.change.is_of_session());
                    Step {
                        change: way.change,
                        text: way.text,
                        location: place.map(|p| engine.estate.sources.locate(p)),
                        more: zest_model::More,
                    }
                };
                found.push(Remedy { steps: plan.into_iter().map(step).collect(), verdict, more: zest_model::More });
            }
            continue;
        };
        for way in ways(changed.as_ref().unwrap_or(engine), &answer, refusal) {
            let cost = cost + if way.change.is_of_session() { 1 } else { LEDGER_COST };
            let is_repeated = plan.iter().any(|w| std::mem::discriminant(&w.change) == std::mem::discriminant(&way.change));
            if cost <= LARGEST_COST && !is_repeated {
                queue.push(Reverse((cost, plans.len())));
                plans.push(plan.iter().cloned().chain([way]).collect());
            }
        }
    }
    found
}

/// Leaves out every change that is not needed; a later one may have made an earlier one pointless.
fn without_the_needless(mut plan: Vec<Way>, mut verdict: Verdict, trial: &mut Trial<'_>) -> (Vec<Way>, Verdict) {
    let mut at = 0;
    while plan.len() > 1 && at < plan.len() {
        let rest: Vec<Change> = plan.iter().enumerate().filter(|&(i, _)| i != at).map(|(_, w)| w.change.clone()).collect();
        match trial.ask(&rest) {
            Some((answer, _)) if answer.refusal.is_none() => {
                verdict = answer.verdict;
                plan.remove(at);
            }
            _ => at += 1,
        }
    }
    (plan, verdict)
}

/// What could be changed about one refusal.
fn ways(engine: &Engine, answer: &Answer, refusal: Refusal) -> Vec<Way> {
    let question = &answer.question;
    let Some(&system) = engine.estate.names.systems.get(question.system.as_str()) else {
        let near = nearest(&question.system, engine.estate.names.systems.keys().map(|k| &**k));
        return near.map(|n| way(Change::System(n.to_owned()), format!("on `{}`", visible(n)), None)).into_iter().collect();
    };
    let site = Site { engine, system };
    if refusal == Refusal::FactNotHeard {
        let unheard: Vec<Fact> = question.session.stated_facts().filter(|fact| !site.kind().hears(*fact)).collect();
        let options: Vec<String> = unheard.iter().map(|f| format!("`--{}`", f.option())).collect();
        let text = format!("without {}", options.join(" and "));
        return vec![way(Change::Unstated(unheard), text, None)];
    }
    site.kind().ways(site, answer, refusal)
}

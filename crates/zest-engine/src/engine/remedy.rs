//! Remedies: smallest changes that turn a refusal round. Each is tried before it is offered.
//!
//! The search asks again with a change applied, looks at what refuses then, and goes on from there: a refusal
//! with two reasons needs two changes. Changes of the session come before changes of the ledger, narrow ones before wide ones, few
//! before many; what is wider than needed is offered only where nothing else helps.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use crate::engine::Engine;
use crate::engine::rules::Site;
use crate::engine::ways::{Way, way};
use crate::links::UserId;
use jiff::Timestamp;
use zest_model::ask::{Answer, Change, Fact, Question, Refusal, Remedy, Step, Verdict, Width};
use zest_model::source::{Place, visible};
use zest_words::nearest;

/// How many remedies are offered at most.
const OFFERED: usize = 3;
/// How many questions the search asks at most.
const QUESTIONS: usize = 80;
/// How many changed ledgers it compiles at most.
const COMPILATIONS: usize = 16;
/// The largest cost that is tried.
const LARGEST_COST: usize = 12;
/// How many people are asked whether they could do it.
const PEOPLE: usize = 200;

/// Asks again with changes applied, and counts how often.
struct Trial<'a> {
    engine: &'a Engine,
    question: &'a Question,
    now: Option<Timestamp>,
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
        let mut answer = changed.as_ref().unwrap_or(self.engine).tried(&question);
        answer.now = answer.now.or(self.now);
        Some((answer, changed))
    }
}

/// Looks for remedies of a refusal.
pub fn remedies(engine: &Engine, refused: &Answer) -> Vec<Remedy> {
    let mut trial = Trial { engine, question: &refused.question, now: refused.now, questions: 0, compilations: 0 };
    let mut found: Vec<Remedy> = Vec::new();
    let mut plans: Vec<Vec<Way>> = vec![Vec::new()];
    // Those that are wider than needed last; then the cheapest, and among equals the one thought of first.
    let mut queue = BinaryHeap::from([Reverse((false, 0, 0))]);
    while let Some(Reverse((is_wider, cost, number))) = queue.pop() {
        let is_enough = found.len() == OFFERED || is_wider && found.iter().any(|r| r.width < Width::WiderThanNeeded);
        if is_enough || trial.questions >= QUESTIONS {
            break;
        }
        let plan = plans[number].clone();
        let Some((answer, changed)) = trial.ask(&plan.iter().map(|w| w.change.clone()).collect::<Vec<_>>()) else { continue };
        let Some(refusal) = answer.refusal else {
            let (plan, verdict) = without_the_needless(plan, answer.verdict, &mut trial);
            let is_part_of_it = |r: &Remedy| r.steps.iter().all(|s| plan.iter().any(|w| w.change == s.change));
            if !found.iter().any(is_part_of_it) {
                found.push(remedy(engine, plan, verdict));
            }
            continue;
        };
        for way in ways(changed.as_ref().unwrap_or(engine), &answer, refusal) {
            let cost = cost + cost_of(way.width);
            let undoes = |w: &Way| std::mem::discriminant(&w.change) == std::mem::discriminant(&way.change) && way.change.is_of_session();
            let is_repeated = plan.iter().any(|w| undoes(w) || w.change == way.change);
            let is_past = matches!(way.change, Change::Moment(at) if refused.now.is_some_and(|now| at < now));
            if cost <= LARGEST_COST && !is_repeated && !is_past {
                queue.push(Reverse((is_wider || way.width == Width::WiderThanNeeded, cost, plans.len())));
                plans.push(plan.iter().cloned().chain([way]).collect());
            }
        }
    }
    found.sort_by_key(|remedy| (remedy.width, remedy.steps.len()));
    found
}

/// What a change costs, against 1 for one of the session.
const fn cost_of(width: Width) -> usize {
    match width {
        Width::Session => 1,
        Width::Narrow => 3,
        Width::Wide | Width::WiderThanNeeded => 4,
    }
}

fn remedy(engine: &Engine, plan: Vec<Way>, verdict: Verdict) -> Remedy {
    let width = plan.iter().map(|way| way.width).max().unwrap_or(Width::Session);
    let step = |way: Way| {
        // What was built in code has no document to change.
        let place = way.place.filter(|place| !way.change.is_of_session() && matches!(place, Place::Text(_)));
        Step { change: way.change, text: way.text, location: place.map(|p| engine.estate.sources.locate(p)), more: zest_model::More }
    };
    Remedy { steps: plan.into_iter().map(step).collect(), verdict, width, more: zest_model::More }
}

/// Finds some people who are allowed what was refused, in the same session.
pub(super) fn able(engine: &Engine, refused: &Answer) -> Vec<String> {
    let question = &refused.question;
    let Some(site) = engine.site(&question.system) else { return Vec::new() };
    let kind = site.kind();
    let has_assignment = |user: UserId| engine.candidates(user, site.system).next().is_some();
    let everybody = || (0..engine.estate.entries.users.len()).map(UserId::new);
    let near: Vec<UserId> = everybody().filter(|&u| has_assignment(u) || kind.reaches(engine, u)).take(PEOPLE).collect();
    let can = |user: &UserId| {
        let id = &engine.estate.user(*user).id.value;
        let mut other = question.clone();
        other.user.clone_from(id);
        (*id != question.user && engine.decide(&other).refusal.is_none()).then(|| id.clone())
    };
    near.iter().filter_map(can).take(OFFERED).collect()
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
